#include "standin/screen.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <nlohmann/json.hpp>
#include <thread>

#include "base/byte_source.hpp"
#include "base/clock.hpp"
#include "container/media_playlist.hpp"
#include "container/reader.hpp"
#include "net/http_client.hpp"
#include "net/worse_link.hpp"
#include "sample/test_card.hpp"
#include "trial/messages.hpp"

namespace wavecrest::standin {
namespace {

using Json = nlohmann::json;
using device::Verdict;
using trial::Seen;
using trial::Step;

constexpr double kRefresh = 60;  // Hz

// What a browser of this device says of a media type: what it has, without a look at levels.
std::string claim_of(const device::Device& device, const std::string& type) {
    static constexpr std::pair<std::string_view, std::string_view> kContainers[] = {
        {"video/mp4", "mp4"},      {"audio/mp4", "mp4"},       {"video/webm", "webm"},
        {"audio/webm", "webm"},    {"audio/ogg", "ogg"},       {"video/x-matroska", "matroska"},
        {"video/mp2t", "mpeg-ts"}, {"video/x-msvideo", "avi"}, {"video/mpeg", "mpeg-ps"},
        {"video/x-flv", "flv"},    {"audio/mpeg", "mp3"},      {"audio/wav", "wav"}};
    struct Known {
        std::string_view begins;
        Codec codec;
        int depth;
    };
    static constexpr Known kCodecs[] = {
        {"avc1", Codec::h264, 8}, {"hvc1.2", Codec::h265, 10}, {"hvc1", Codec::h265, 8},
        {"hev1", Codec::h265, 8}, {"vp09.02", Codec::vp9, 10}, {"vp09", Codec::vp9, 8},
        {"vp9", Codec::vp9, 8},   {"vp8", Codec::vp8, 8},      {"av01.0.08M.10", Codec::av1, 10},
        {"av01", Codec::av1, 8},  {"mp4a", Codec::aac, 8},     {"ac-3", Codec::ac3, 8},
        {"ec-3", Codec::eac3, 8}, {"dtsc", Codec::dts, 8},     {"mlpa", Codec::truehd, 8},
        {"opus", Codec::opus, 8}, {"flac", Codec::flac, 8},    {"vorbis", Codec::vorbis, 8}};
    const std::string bare = type.substr(0, type.find(';'));
    if (bare == "application/vnd.apple.mpegurl") return device::takes(device, "hls") ? "maybe" : "no";
    const auto* container = std::find_if(std::begin(kContainers), std::end(kContainers),
                                         [&](const auto& one) { return one.first == bare; });
    if (container == std::end(kContainers) || !device::reads(device, container->second)) return "no";
    const std::size_t quote = type.find('"');
    if (quote == std::string::npos) return "maybe";
    const std::string codec = type.substr(quote + 1);
    for (const Known& known : kCodecs) {
        if (!codec.starts_with(known.begins)) continue;
        const bool has =
            std::any_of(device.video.begin(), device.video.end(),
                        [&](const auto& one) { return one.codec == known.codec && one.bit_depth >= known.depth; }) ||
            std::any_of(device.audio.begin(), device.audio.end(),
                        [&](const auto& one) { return one.codec == known.codec && one.is_in(container->second); });
        return has ? "probably" : "no";
    }
    return "no";
}

// What it can't do as such, and what it is only too slow for.
bool is_of_speed(const device::Check& check) {
    return check.name == "level" || check.name == "video size" || check.name == "frame rate" ||
           check.name == "max bit rate";
}

void play(const device::Device& device, const Step& step, std::string_view container, const std::vector<Track>& tracks,
          Seen& seen) {
    if (step.delivery != Step::Delivery::file && !device::takes(device, "hls")) {
        seen.error = "not supported";
        return;
    }
    std::int64_t rate = 0;
    for (const Track& track : tracks) rate += track.bitrate_bps;
    // (What HLS is made of needn't be played as a file.)
    const bool is_file = step.delivery == Step::Delivery::file;
    bool slow = false, combed = false;
    for (const device::Check& check : device::judge(device, is_file ? container : "", tracks, rate)) {
        if (check.verdict != Verdict::fail) continue;
        if (check.name == "scan") {
            combed = true;
        } else if (is_of_speed(check)) {
            slow = true;
        } else {
            seen.error = "not supported";
            return;
        }
    }
    const sample::Clip& clip = *step.clip;
    const double length = base::to_seconds(clip.length);
    seen.started = true;
    seen.startup_s = 0.4;
    seen.played_s = length;
    seen.wall_s = length;
    if (clip.video) {
        seen.width = clip.video->size.width;
        seen.height = clip.video->size.height;
        seen.frames = std::llround(length * clip.video->frame_rate.value());
        seen.dropped = slow ? seen.frames / 3 : 0;
        if (clip.video->interlaced) seen.combing = combed ? 200 : 0;
    }
    if (clip.audio) seen.levels.assign(static_cast<std::size_t>(clip.audio->channels), 0.2);
}

// The frame that is shown at each refresh; beeps with the flashes.
void watch(const sample::Clip& clip, Seen& seen) {
    const double rate = clip.video->frame_rate.value();
    for (int i = 0; i / kRefresh < base::to_seconds(clip.length); ++i)
        seen.marks.push_back({0.5 + i / kRefresh, static_cast<int>(i / kRefresh * rate + 1e-6)});
    for (double at = 0; clip.audio && at < base::to_seconds(clip.length); at += sample::kFlashEvery / rate)
        seen.beeps.push_back(0.5 + at);
}

}  // namespace

Seen seen_by(const device::Device& device, const Step& step, std::string_view container,
             const std::vector<Track>& tracks) {
    using Kind = Step::Kind;
    Seen seen;
    switch (step.kind) {
        case Kind::display: {
            seen.display_hz = kRefresh;
            seen.display_width = 640, seen.display_height = 360;
            for (const auto& one : device.video) {
                seen.display_hdr = seen.display_hdr || !one.hdr.empty();
                if (one.largest.height > seen.display_height)
                    seen.display_width = one.largest.width, seen.display_height = one.largest.height;
            }
            break;
        }
        case Kind::claims:
            for (const std::string& type : step.types) seen.claims.emplace_back(type, claim_of(device, type));
            break;
        case Kind::question:
            seen.answer = step.answers.empty() ? "" : step.answers.front();
            break;
        case Kind::download:
            break;  // by whoever has a connection
        case Kind::seek:
            play(device, step, container, tracks, seen);
            for (const double to : step.positions) {
                if (seen.error.empty())
                    seen.seeks.push_back({to, 0.3, to, static_cast<int>(to * step.clip->video->frame_rate.value())});
            }
            break;
        case Kind::motion:
        case Kind::sync:
            play(device, step, container, tracks, seen);
            if (seen.error.empty()) watch(*step.clip, seen);
            break;
        case Kind::play:
            play(device, step, container, tracks, seen);
            break;
    }
    return seen;
}

namespace {

class Visit {
  public:
    Visit(const ScreenSettings& settings, const Cancel& cancel) : settings_(settings), cancel_(cancel) {}

    Result<std::vector<std::string>> run() {
        server_ = settings_.page;
        if (settings_.link_bps > 0) {
            net::LinkFaults faults;
            faults.rate_bps = settings_.link_bps;
            WAVECREST_TRY_ASSIGN(link, net::WorseLink::tcp("127.0.0.1", 0, server_.host, server_.port, faults));
            server_.host = "127.0.0.1";
            server_.port = link->port();
            link_ = std::move(link);
        }
        WAVECREST_TRY_ASSIGN(page, fetch(settings_.page.target));
        if (std::string_view(reinterpret_cast<const char*>(page.data()), page.size()).find("/test/next") ==
            std::string_view::npos)
            return fail(ErrorKind::wanting, "there is no check page at this address", settings_.page.text(),
                        "start one with wavecrest device test, and give the address that it prints");
        Json step;
        WAVECREST_TRY_ASSIGN(first, post({{"session", ""}, {"step", ""}}));
        step = std::move(first);
        while (true) {
            if (cancel_.requested()) return base::interrupted();
            const std::string session = step.value("session", ""), kind = step.value("kind", "");
            if (kind == "finished") return step.value("summary", std::vector<std::string>{});
            if (kind == "wait") {
                std::this_thread::sleep_for(std::chrono::milliseconds(200));
                WAVECREST_TRY_ASSIGN(again, post({{"session", session}, {"step", ""}}));
                step = std::move(again);
                continue;
            }
            if (settings_.on_step) settings_.on_step(step.value("what", ""));
            WAVECREST_TRY_ASSIGN(seen, see(step));
            WAVECREST_TRY_ASSIGN(next, post({{"session", session},
                                             {"step", step.value("step", "")},
                                             {"seen", Json::parse(trial::seen_text(seen))}}));
            step = std::move(next);
        }
    }

  private:
    Result<Json> post(const Json& body) const {
        net::Url url = server_;
        url.target = "/test/next";
        net::HttpExchange request;
        request.method = "POST";
        request.body = body.dump();
        request.limit = base::from_seconds(20);
        WAVECREST_TRY_ASSIGN(answered, net::HttpClient::exchange(url, request));
        Json json = Json::parse(answered.body, nullptr, false);
        if (!json.is_object())
            return fail(ErrorKind::wanting, "the check page's answer isn't understood", settings_.page.text(),
                        "use the same version of wavecrest at both ends");
        return json;
    }

    Result<ByteVector> fetch(const std::string& target) const {
        net::Url url = server_;
        url.target = target;
        net::HttpClient client(url);
        WAVECREST_TRY(client.get(0));
        ByteVector all;
        std::vector<std::uint8_t> buffer(256 * 1024);
        while (true) {
            if (cancel_.requested()) return base::interrupted();
            WAVECREST_TRY_ASSIGN(count, client.read(buffer));
            if (count == 0) return all;
            all.insert(all.end(), buffer.begin(), buffer.begin() + static_cast<std::ptrdiff_t>(count));
        }
    }

    // Of HLS the first segment stands for all, behind what its playlist puts in front.
    Result<ByteVector> fetch_clip(const std::string& target) const {
        WAVECREST_TRY_ASSIGN(bytes, fetch(target));
        if (!target.ends_with(".m3u8")) return bytes;
        WAVECREST_TRY_ASSIGN(
            list, container::parse_playlist({reinterpret_cast<const char*>(bytes.data()), bytes.size()}, target));
        if (list.segments.empty())
            return fail(ErrorKind::wanting, "the playlist lists nothing", target, "use the same version at both ends");
        const std::string folder = target.substr(0, target.rfind('/') + 1);
        ByteVector all;
        if (!list.map_uri.empty()) {
            WAVECREST_TRY_ASSIGN(head, fetch(folder + list.map_uri));
            all = std::move(head);
        }
        WAVECREST_TRY_ASSIGN(media, fetch(folder + list.segments.front().uri));
        all.insert(all.end(), media.begin(), media.end());
        return all;
    }

    Result<Seen> see(const Json& json) const {
        Step step = step_of(json);
        if (step.kind == Step::Kind::download) return download();
        if (step.kind == Step::Kind::question) {
            Seen seen;
            const auto named = std::find(step.answers.begin(), step.answers.end(), settings_.name);
            const bool is_name = step.clip == std::nullopt;
            if (!step.answers.empty())
                seen.answer = named != step.answers.end() ? *named
                              : is_name                   ? step.answers.back()
                                                          : step.answers.front();
            return seen;
        }
        const std::string address = json.value("url", "");
        if (address.empty()) return seen_by(settings_.device, step, "", {});
        const base::RealClock clock;
        WAVECREST_TRY_ASSIGN(bytes, fetch_clip(address));
        const double took = base::to_seconds(clock.now());
        const double length = base::to_seconds(step.clip->length);
        const double bits = static_cast<double>(bytes.size()) * 8;
        auto media = container::open_media(std::make_shared<base::MemorySource>(std::move(bytes), address));
        if (!media) {
            Seen seen;
            seen.error = media.error().what;
            return seen;
        }
        std::vector<Track> tracks = media->source->tracks();
        for (Track& track : tracks)
            track.bitrate_bps = std::llround(bits / length / static_cast<double>(tracks.size()));
        Seen seen = seen_by(settings_.device, step, media->container, tracks);
        seen.says = claim_of(settings_.device, json.value("type", ""));
        if (took > length && seen.error.empty() && !json.value("preload", false)) seen.waits = 1, seen.waited_s = took - length;
        return seen;
    }

    Result<Seen> download() const {
        Seen seen;
        const base::RealClock clock;
        net::Url url = server_;
        url.target = "/test/data";
        net::HttpClient client(url);
        WAVECREST_TRY(client.get(0));
        std::vector<std::uint8_t> buffer(64 * 1024);
        double bytes = 0;
        constexpr double kLongest = 4;
        while (base::to_seconds(clock.now()) < kLongest && !cancel_.requested()) {
            WAVECREST_TRY_ASSIGN(count, client.read(buffer));
            bytes += static_cast<double>(count);
            const double at = base::to_seconds(clock.now());
            if (seen.downloaded.empty() || at - seen.downloaded.back().first >= 0.1)
                seen.downloaded.emplace_back(at, bytes);
            if (count == 0) WAVECREST_TRY(client.get(0));
        }
        return seen;
    }

    // What the page is told of a step, as far as it matters here.
    static Step step_of(const Json& json) {
        static const std::pair<const char*, Step::Kind> kKinds[] = {
            {"display", Step::Kind::display},  {"download", Step::Kind::download}, {"claims", Step::Kind::claims},
            {"motion", Step::Kind::motion},    {"seek", Step::Kind::seek},         {"sync", Step::Kind::sync},
            {"question", Step::Kind::question}};
        Step step;
        step.id = json.value("step", "");
        for (const auto& [name, kind] : kKinds) {
            if (json.value("kind", "") == name) step.kind = kind;
        }
        step.positions = json.value("positions", std::vector<double>{});
        step.types = json.value("types", std::vector<std::string>{});
        step.answers = json.value("answers", std::vector<std::string>{});
        const std::string url = json.value("url", "");
        if (url.find("/hls/") != std::string::npos) step.delivery = Step::Delivery::hls_ts;
        if (url.find("/parts/") != std::string::npos) step.delivery = Step::Delivery::hls_fmp4;
        if (!url.empty()) {
            sample::Clip clip;
            clip.length = base::from_seconds(std::clamp(json.value("seconds", 0.0), 0.1, 600.0));
            if (json.value("video", false)) {
                clip.video = sample::ClipVideo{};
                clip.video->interlaced = json.value("interlaced", false);
                const double fps = std::clamp(json.value("fps", 30.0), 1.0, 300.0);
                clip.video->frame_rate = {std::llround(fps * 1000), 1000};
            }
            if (const int channels = json.value("channels", 0); channels > 0)
                clip.audio = sample::ClipAudio{Codec::aac, std::min(channels, 8)};
            step.clip = clip;
        }
        return step;
    }

    const ScreenSettings& settings_;
    const Cancel& cancel_;
    net::Url server_;
    std::unique_ptr<net::WorseLink> link_;
};

}  // namespace

Result<std::vector<std::string>> take_test(const ScreenSettings& settings, const Cancel& cancel) {
    try {
        return Visit(settings, cancel).run();
    } catch (const Json::exception& error) {
        return fail(ErrorKind::wanting, fmt::format("the check page's answer isn't understood ({})", error.what()),
                    settings.page.text(), "use the same version of wavecrest at both ends");
    }
}

}  // namespace wavecrest::standin
