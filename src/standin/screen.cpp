#include "standin/screen.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "base/byte_source.hpp"
#include "base/clock.hpp"
#include "container/media_playlist.hpp"
#include "container/reader.hpp"
#include "net/http_client.hpp"
#include "net/worse_link.hpp"
#include "sample/test_card.hpp"
#include "trial/page_client.hpp"

namespace wavecrest::standin {
namespace {

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
    Visit(const ScreenSettings& settings, net::Url server, const Cancel& cancel)
        : settings_(settings), server_(std::move(server)), cancel_(cancel), client_(server_, cancel) {}

    Result<std::vector<std::string>> run() {
        return client_.go_through([this](const trial::ShownStep& step) { return see(step); }, settings_.on_step);
    }

  private:
    Result<ByteVector> fetch(const std::string& target) const { return client_.fetch(target); }

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

    Result<Seen> see(const trial::ShownStep& shown) const {
        const Step& step = shown.step;
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
        const std::string& address = shown.target;
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
        seen.says = claim_of(settings_.device, shown.type);
        if (took > length && seen.error.empty() && !step.preload) seen.waits = 1, seen.waited_s = took - length;
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

    const ScreenSettings& settings_;
    net::Url server_;
    const Cancel& cancel_;
    trial::PageClient client_;
};

}  // namespace

Result<std::vector<std::string>> take_test(const ScreenSettings& settings, const Cancel& cancel) {
    net::Url server = settings.page;
    std::unique_ptr<net::WorseLink> link;
    if (settings.link_bps > 0) {
        net::LinkFaults faults;
        faults.rate_bps = settings.link_bps;
        WAVECREST_TRY_ASSIGN(made, net::WorseLink::tcp("127.0.0.1", 0, server.host, server.port, faults));
        server.host = "127.0.0.1";
        server.port = made->port();
        link = std::move(made);
    }
    return Visit(settings, server, cancel).run();
}

}  // namespace wavecrest::standin
