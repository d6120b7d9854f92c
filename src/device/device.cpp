#include "device/device.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <cstdlib>
#include <optional>

#include "base/embedded.hpp"
#include "base/file.hpp"
#include "bitstream/h264.hpp"
#include "bitstream/levels.hpp"
#include "codec/video_decoder.hpp"
#include "container/writer.hpp"

namespace wavecrest::device {
namespace {

constexpr std::string_view kFolder = "devices/";

Codec codec_of(base::ConfigTable& table) {
    const auto name = table.text("codec");
    const auto codec = media::codec_from_name(name);
    if (!codec)
        table.wrong("codec", fmt::format("unknown codec \"{}\"", name),
                    "write its short name, such as \"h264\" or \"aac\"");
    return codec.value_or(Codec::unknown);
}

std::string joined(const std::vector<std::string>& words) {
    return fmt::format("{}", fmt::join(words, ", "));
}

template <typename Ability>
std::string codec_names(const std::vector<Ability>& abilities) {
    std::vector<std::string> names;
    for (const Ability& ability : abilities) {
        std::string name(media::display_name(ability.codec));
        if (std::find(names.begin(), names.end(), name) == names.end()) names.push_back(std::move(name));
    }
    return joined(names);
}

// What helps where a container isn't read: another one where the device plays what is in it, else converting; neither
// where this program can't decode it.
std::string container_remedy(const Device& device, const std::vector<Track>& tracks) {
    bool plays = true, decodes = true;
    for (const Track& track : tracks) {
        if (track.kind == TrackKind::video) {
            plays = plays && std::any_of(device.video.begin(), device.video.end(),
                                         [&](const VideoAbility& a) { return a.codec == track.codec; });
            decodes = decodes && codec::can_decode_video(track);
        } else if (track.kind == TrackKind::audio) {
            plays = plays && std::any_of(device.audio.begin(), device.audio.end(),
                                         [&](const AudioAbility& a) { return a.codec == track.codec; });
        }
    }
    for (const std::string_view format : {"mp4", "matroska", "mpeg-ts"}) {
        const bool holds = std::all_of(tracks.begin(), tracks.end(), [&](const Track& track) {
            return track.kind == TrackKind::subtitle || container::why_not(format, track).empty();
        });
        if (plays && holds && reads(device, format))
            return fmt::format("container not supported: remux it (wavecrest convert FILE --remux {})", format);
    }
    if (decodes) return "container not supported, nor its codecs: convert it (wavecrest convert FILE)";
    return "neither the container nor its video codec is supported here: convert it with other software first";
}

// Of H.265 (A.4.1): a tier of its own, for higher rates than a decoder of the Main tier takes.
bool high_tier(const std::string& level) {
    return level.ends_with("High");
}

Check judge_level(const Track& track, const VideoAbility& ability) {
    const int limit = bitstream::level_number(track.codec, ability.level);
    const int declared = bitstream::level_number(track.codec, track.level);
    // What its header understates counts as what it is.
    const std::string needed_name = bitstream::needed_level(track);
    const int needed = bitstream::level_number(track.codec, needed_name);
    const bool lies = declared > 0 && needed > declared;
    Check check{"level", Verdict::pass, track.level, ability.level, ""};
    if (declared == 0) {
        check.measured = "not specified";
        check.verdict = Verdict::warn;
        check.why = "the stream doesn't say its level: play it to be sure";
    } else if (std::max(declared, needed) > limit || (high_tier(track.level) && !high_tier(ability.level))) {
        if (lies) check.measured += fmt::format(", {} required", needed_name);
        check.verdict = Verdict::fail;
        check.why = "level too high for the device: convert to a smaller size or bit rate";
    }
    return check;
}

std::vector<Check> judge_ability(const VideoAbility& ability, const Track& track) {
    std::vector<Check> checks;
    if (!ability.profiles.empty()) {
        const bool fits =
            std::find(ability.profiles.begin(), ability.profiles.end(), track.profile) != ability.profiles.end();
        checks.push_back({"codec profile", fits ? Verdict::pass : Verdict::fail, track.profile,
                          joined(ability.profiles),
                          fits ? "" : "codec profile not supported: convert with a lower `profile`"});
    }
    if (bitstream::level_number(track.codec, ability.level) > 0) checks.push_back(judge_level(track, ability));
    if (ability.largest.width > 0) {
        const bool fits = track.width <= ability.largest.width && track.height <= ability.largest.height;
        checks.push_back({"video size", fits ? Verdict::pass : Verdict::fail,
                          fmt::format("{}x{}", track.width, track.height),
                          fmt::format("{}x{}", ability.largest.width, ability.largest.height),
                          fits ? "" : "video too large for the device: convert with a smaller `max_size`"});
    }
    if (ability.max_fps > 0) {
        const bool fits = track.frame_rate.value() <= ability.max_fps * 1.001;
        checks.push_back({"frame rate", fits ? Verdict::pass : Verdict::fail, base::format_rate(track.frame_rate),
                          fmt::format("{:g}", ability.max_fps), fits ? "" : "frame rate too high for the device"});
    }
    if (!ability.scans.empty() && track.scan != Scan::unknown) {
        // (Film with pulldown is put together of fields like interlaced video.)
        const Scan scan = track.scan == Scan::pulldown ? Scan::interlaced : track.scan;
        const bool fits = std::find(ability.scans.begin(), ability.scans.end(), scan) != ability.scans.end();
        std::vector<std::string> names;
        for (const Scan one : ability.scans) names.emplace_back(media::short_name(one));
        checks.push_back({"scan", fits ? Verdict::pass : Verdict::fail, std::string(media::short_name(track.scan)),
                          joined(names),
                          fits ? "" : "the device does not play interlaced video: convert it to progressive"});
    }
    const bool deep = track.bit_depth > ability.bit_depth;
    checks.push_back({"bit depth", deep ? Verdict::fail : Verdict::pass, fmt::format("{} bits", track.bit_depth),
                      fmt::format("{} bits", ability.bit_depth), deep ? "bit depth too high for the device" : ""});
    if (const std::string_view range = dynamic_range(track); !range.empty()) {
        const bool fits = std::find(ability.hdr.begin(), ability.hdr.end(), range) != ability.hdr.end();
        checks.push_back({"dynamic range", fits ? Verdict::pass : Verdict::fail, std::string(range),
                          ability.hdr.empty() ? "SDR" : "SDR, " + joined(ability.hdr),
                          fits ? "" : "HDR not supported: convert it, which makes it SDR"});
    }
    return checks;
}

}  // namespace

std::string_view short_name(Verdict verdict) {
    return verdict == Verdict::pass ? "pass" : verdict == Verdict::warn ? "warn" : "fail";
}

namespace {

// As they are named where streams are read; empty: not known here.
std::vector<std::string> profiles_of(Codec codec) {
    switch (codec) {
        case Codec::h264:
            return {"Constrained Baseline", "Baseline", "Main", "Extended", "High", "High 10", "High 4:2:2",
                    "High 4:4:4 Predictive"};
        case Codec::h265:
            return {"Main", "Main 10", "Main Still Picture", "Format Range Extensions", "High Throughput"};
        case Codec::mpeg2:
            return {"Simple", "Main", "SNR Scalable", "Spatially Scalable", "High", "4:2:2"};
        case Codec::mpeg4:
            return {"Simple", "Advanced Simple"};
        case Codec::vc1:
            return {"Simple", "Main", "Advanced"};
        case Codec::vp9:
            return {"0", "1", "2", "3"};
        case Codec::av1:
            return {"Main", "High", "Professional"};
        default:
            return {};
    }
}

bool has_numbered_levels(Codec codec) {
    return codec == Codec::h264 || codec == Codec::h265 || codec == Codec::vp9 || codec == Codec::av1;
}

}  // namespace

namespace {

Adapting parse_adapting(base::ConfigTable table) {
    Adapting adapting;
    adapting.link_share = table.decimal("link_share", 0.1, 1.5, adapting.link_share);
    adapting.cautious_share =
        table.decimal("cautious_share", 0.1, 1.5, std::min(adapting.cautious_share, adapting.link_share));
    if (adapting.cautious_share > adapting.link_share)
        table.wrong("cautious_share", "cautious_share is more than link_share", "make it at most as much");
    adapting.measured_segments = static_cast<int>(table.number("measured_segments", 1, 20, adapting.measured_segments));
    const auto secure = table.span("secure_buffer", Time{});
    adapting.secure_buffer = secure;
    const auto low = table.span("low_buffer", Time{});
    adapting.low_buffer = low;
    if (secure.count() > 0 && low > secure)
        table.wrong("low_buffer", "low_buffer is longer than secure_buffer", "make it at most as long");
    adapting.first_listed = table.choice("first_rung", {"lowest", "listed"}, "lowest") == "listed";
    adapting.rungs_up = static_cast<int>(table.number("rungs_up", 1, 100, adapting.rungs_up));
    adapting.holds_rung = table.flag("holds_rung", adapting.holds_rung);
    adapting.abandons_segments = table.flag("abandons_segments", adapting.abandons_segments);
    const auto trouble = table.text("trouble", "");
    adapting.trouble = trouble;
    table.finish();
    return adapting;
}

Playing parse_playing(base::ConfigTable& plays) {
    Playing playing;
    const auto start = plays.span("start_buffer", base::from_seconds(2));
    playing.start_buffer = start;
    const auto delay = plays.span("start_delay", Time{});
    playing.start_delay = delay;
    const auto resume = plays.span("resume_buffer", start);
    playing.resume_buffer = resume;
    playing.resume_growth = plays.decimal("resume_growth", 1, 10, 1);
    const auto most = plays.span("max_resume_buffer", Time{});
    playing.max_resume_buffer = most;
    const auto buffer = plays.span("buffer", base::from_seconds(20));
    playing.buffer = buffer;
    if (buffer < start || buffer < resume)
        plays.wrong("buffer", "buffer is shorter than start_buffer or resume_buffer", "make it at least as long");
    const auto refill = plays.span("refill", buffer);
    playing.refill = refill;
    if (refill > buffer) plays.wrong("refill", "refill is longer than buffer", "make it at most as long");
    const auto size = [&](const char* key, std::uint64_t limit) {
        const std::string text = plays.text(key, "");
        if (text.empty()) return std::int64_t{0};
        const auto bytes = base::parse_bytes(text);
        if (!bytes || *bytes < 2 || *bytes > limit)
            plays.wrong(key, fmt::format("\"{}\" isn't a size", text), "write for example \"64 kB\"");
        return static_cast<std::int64_t>(bytes.value_or(0));
    };
    playing.buffer_size = size("buffer_size", 4ULL << 30);
    playing.refill_size = size("refill_size", 4ULL << 30);
    if (playing.refill_size > playing.buffer_size)
        plays.wrong("refill_size", "refill_size is more than buffer_size", "make it at most as much");
    playing.read_size = size("read_size", 64U << 20);
    const auto hls = plays.span("hls_buffer", buffer);
    playing.hls_buffer = hls;
    const auto hls_refill = plays.span("hls_refill", hls);
    playing.hls_refill = hls_refill;
    if (hls_refill > hls) plays.wrong("hls_refill", "hls_refill is longer than hls_buffer", "make it at most as long");
    playing.whole_segments = plays.flag("whole_segments", true);
    playing.live_probe = size("live_probe", 64U << 20);
    playing.live_restart = static_cast<int>(plays.number("live_restart", 0, 10, 0));
    playing.live_catch_up = static_cast<int>(plays.number("live_catch_up", 0, 10, 0));
    const std::string seek = plays.text("seek", "exact");
    if (seek != "exact" && seek != "keyframe")
        plays.wrong("seek", fmt::format("\"{}\" is no way to seek", seek), "write \"exact\" or \"keyframe\"");
    playing.seeks_exactly = seek == "exact";
    playing.read_through = size("read_through", 4ULL << 30);
    playing.finishes_segment = plays.flag("finishes_segment", false);
    playing.adapting = parse_adapting(plays.table("adaptive"));
    return playing;
}

}  // namespace

namespace {

Time media_of(Time least, std::int64_t bytes, std::int64_t bps) {
    if (bytes <= 0 || bps <= 0) return least;
    return std::max(least, base::from_seconds(8.0 * static_cast<double>(bytes) / static_cast<double>(bps)));
}

}  // namespace

Time Playing::buffer_of(std::int64_t bps) const {
    return media_of(buffer, buffer_size, bps);
}

Time Playing::refill_of(std::int64_t bps) const {
    return media_of(refill, refill_size, bps);
}

namespace {

std::vector<std::string> read_containers(base::ConfigTable& plays) {
    auto containers = plays.texts("containers");
    for (std::string& one : containers) one = container::format_from_name(one);
    static const std::vector<std::string> kContainers = {"mp4", "matroska", "webm", "mpeg-ts", "mpeg-ps", "avi",
                                                         "flv", "ogg",      "mp3",  "flac",    "wav",     "adts"};
    for (const std::string& container : containers) {
        if (std::find(kContainers.begin(), kContainers.end(), container) == kContainers.end())
            plays.wrong("containers", fmt::format("unknown container \"{}\"", container),
                        fmt::format("use some of: {}", joined(kContainers)));
    }
    return containers;
}

std::vector<std::string> read_protocols(base::ConfigTable& plays) {
    auto protocols = plays.texts("protocols");
    static const std::vector<std::string> kProtocols = {"http", "https", "hls", "dash", "udp",
                                                        "rtp",  "rtmp",  "smb", "nfs"};
    for (const std::string& protocol : protocols) {
        if (std::find(kProtocols.begin(), kProtocols.end(), protocol) == kProtocols.end())
            plays.wrong("protocols", fmt::format("unknown protocol \"{}\"", protocol),
                        fmt::format("use some of: {}", joined(kProtocols)));
    }
    // (Few play from shares: that is said.)
    if (protocols.empty()) protocols = {"http", "https", "hls", "dash", "udp", "rtp", "rtmp"};
    return protocols;
}

VideoAbility read_video(base::ConfigTable& table) {
    VideoAbility ability;
    const Codec codec = codec_of(table);
    ability.codec = codec;
    ability.profiles = table.texts("profiles");
    for (const std::string& profile : ability.profiles) {
        const std::vector<std::string> known = profiles_of(codec);
        if (known.empty() || std::find(known.begin(), known.end(), profile) != known.end()) continue;
        table.wrong("profiles", fmt::format("{1} has no profile \"{0}\"", profile, media::display_name(codec)),
                    fmt::format("use some of: {}", joined(known)));
    }
    const auto level = table.text("level", "");
    if (!level.empty() && bitstream::level_number(codec, level) == 0) {
        table.wrong("level", fmt::format("\"{}\" isn't a level of {}", level, media::display_name(codec)),
                    has_numbered_levels(codec) ? "write a level such as \"4.1\"" : "leave it out");
    }
    ability.level = level;
    const auto largest = table.size("max_size", {});
    ability.largest = largest;
    const auto fastest = table.decimal("max_fps", 1, 300, 0);
    ability.max_fps = fastest;
    const auto depth = table.number("bit_depth", 8, 16, 8);
    if (depth != 8 && depth != 10 && depth != 12 && depth != 16)
        table.wrong("bit_depth", fmt::format("no codec has a bit depth of {}", depth), "use 8, 10 or 12");
    ability.bit_depth = static_cast<int>(depth);
    for (const std::string& scan : table.texts("scans")) {
        if (scan != "progressive" && scan != "interlaced")
            table.wrong("scans", fmt::format("\"{}\" isn't a scan type", scan),
                        "use \"progressive\" and \"interlaced\"");
        ability.scans.push_back(scan == "progressive" ? Scan::progressive : Scan::interlaced);
    }
    ability.hdr = table.texts("hdr");
    for (const std::string& kind : ability.hdr) {
        if (kind != "hdr10" && kind != "hlg")
            table.wrong("hdr", fmt::format("unknown kind of HDR \"{}\"", kind), "use \"hdr10\" and \"hlg\"");
    }
    const auto ground = table.text("basis", "");
    ability.basis = ground;
    table.finish();
    return ability;
}

AudioAbility read_audio(base::ConfigTable& table, const std::vector<std::string>& containers) {
    AudioAbility ability;
    ability.codec = codec_of(table);
    const auto channels = table.number("channels", 1, 16, 2);
    ability.channels = static_cast<int>(channels);
    ability.containers = table.texts("containers");
    for (std::string& one : ability.containers) {
        one = container::format_from_name(one);
        if (std::find(containers.begin(), containers.end(), one) == containers.end())
            table.wrong("containers", fmt::format("\"{}\" is not one of the device's containers", one),
                        "write some of [plays] containers, or leave it out");
    }
    const auto ground = table.text("basis", "");
    ability.basis = ground;
    table.finish();
    return ability;
}

std::vector<Codec> read_subtitles(base::ConfigTable& plays) {
    std::vector<Codec> codecs;
    for (const std::string& one : plays.texts("subtitles")) {
        const auto codec = media::codec_from_name(one);
        if (codec != Codec::text && codec != Codec::dvd_subpicture && codec != Codec::pgs)
            plays.wrong("subtitles", fmt::format("unknown kind of subtitles \"{}\"", one),
                        "use \"text\", \"dvd-subpicture\" and \"pgs\"");
        codecs.push_back(codec.value_or(Codec::unknown));
    }
    return codecs;
}

Tried read_tried(base::ConfigTable& table) {
    Tried tried;
    tried.what = table.text("what");
    tried.says = table.text("says", "");
    tried.result = table.choice("result", {"played", "stutters", "failed", "unclear"}, "unclear");
    tried.seen = table.text("seen", "");
    tried.when = table.text("when", "");
    table.finish();
    return tried;
}

}  // namespace

Result<Device> parse(std::string_view text, const std::string& file) {
    WAVECREST_TRY_ASSIGN(root, base::ConfigTable::parse(text, file));
    Device device;
    const auto name = root.text("name");
    device.name = name;
    const auto description = root.text("description", "");
    device.description = description;
    const auto basis = root.text("basis", "");
    device.basis = basis;
    auto plays = root.table("plays");
    device.containers = read_containers(plays);
    device.protocols = read_protocols(plays);
    const auto highest = plays.bitrate("max_bitrate", 0);
    device.highest_bps = highest;
    device.playing = parse_playing(plays);
    for (base::ConfigTable& table : plays.tables("video")) device.video.push_back(read_video(table));
    for (base::ConfigTable& table : plays.tables("audio")) device.audio.push_back(read_audio(table, device.containers));
    device.subtitles = read_subtitles(plays);
    plays.finish();
    for (base::ConfigTable& table : root.tables("tried")) device.tried.push_back(read_tried(table));
    root.finish();
    return root.complete(Result<Device>(std::move(device)));
}

const std::vector<Device>& built_in() {
    static const std::vector<Device> devices = [] {
        std::vector<Device> all;
        for (const base::EmbeddedFile& file : base::embedded_files()) {
            if (!file.name.starts_with(kFolder)) continue;
            if (auto device = parse(file.text, std::string(file.name))) all.push_back(std::move(*device));
        }
        return all;
    }();
    return devices;
}

Result<std::string> source_text(const std::string& name) {
    if (name.size() > 5 && name.ends_with(".toml")) return base::read_text_file(name);
    std::vector<std::string> names;
    for (const base::EmbeddedFile& file : base::embedded_files()) {
        if (!file.name.starts_with(kFolder)) continue;
        std::string one(file.name.substr(kFolder.size()));
        one.resize(one.size() - std::string_view(".toml").size());
        if (one == name) return std::string(file.text);
        names.push_back(std::move(one));
    }
    const std::string meant = base::nearest(name, names);
    return fail(ErrorKind::usage, fmt::format("unknown device class \"{}\"", name), "device",
                meant.empty() ? "wavecrest device list names them; or give a description ending in .toml"
                              : fmt::format("did you mean \"{}\"?", meant));
}

Device with_receiver(Device player, const Device& receiver) {
    player.name += "+" + receiver.name;
    player.description += ", with " + receiver.description;
    if (!receiver.basis.empty()) player.basis += (player.basis.empty() ? "" : "; ") + receiver.basis;
    for (const AudioAbility& ability : receiver.audio) {
        const auto own = std::find_if(player.audio.begin(), player.audio.end(),
                                      [&](const AudioAbility& one) { return one.codec == ability.codec; });
        if (own == player.audio.end()) {
            player.audio.push_back(ability);
        } else {
            own->channels = std::max(own->channels, ability.channels);
        }
    }
    return player;
}

Result<std::vector<std::string>> source_texts(const std::string& name) {
    std::vector<std::string> texts;
    for (std::size_t at = 0; at <= name.size();) {
        const std::size_t plus = std::min(name.find('+', at), name.size());
        WAVECREST_TRY_ASSIGN(text, source_text(name.substr(at, plus - at)));
        texts.push_back(std::move(text));
        at = plus + 1;
    }
    return texts;
}

Result<Device> find(const std::string& name) {
    if (const std::size_t plus = name.find('+'); plus != std::string::npos) {
        WAVECREST_TRY_ASSIGN(player, find(name.substr(0, plus)));
        WAVECREST_TRY_ASSIGN(receiver, find(name.substr(plus + 1)));
        return with_receiver(std::move(player), receiver);
    }
    WAVECREST_TRY_ASSIGN(text, source_text(name));
    return parse(text, name);
}

Result<std::string> derived_text(const std::string& like, const std::string& name) {
    WAVECREST_TRY_ASSIGN(text, source_text(like));
    // A description has its name once, on a line of its own, before the tables.
    const std::size_t at = text.starts_with("name") ? 0 : text.find("\nname") + 1;
    const std::size_t end = text.find('\n', at);
    std::string written;
    for (const char c : name) written += c == '"' || c == '\\' ? std::string{'\\', c} : std::string{c};
    text.replace(at, end - at, fmt::format("name = \"{}\"", written));
    WAVECREST_TRY(parse(text, like));
    return text;
}

namespace {

// A basic string of TOML (1.0, "String"); control characters aren't there (base::printable()).
std::string toml_text(std::string_view text) {
    std::string out = "\"";
    for (const char c : text) {
        if (c == '"' || c == '\\') out += '\\';
        out += c;
    }
    return out + "\"";
}
std::string list_of(const std::vector<std::string>& words) {
    std::string out = "[";
    for (const std::string& word : words) out += (out.size() > 1 ? ", " : "") + toml_text(word);
    return out + "]";
}

void write_playing(const Playing& playing, std::string& text) {
    const auto span = [&](const char* key, Time value) {
        text += fmt::format("{} = \"{} ms\"\n", key, base::to_ticks(value, 1000));
    };
    span("start_buffer", playing.start_buffer);
    if (playing.start_delay.count() > 0) span("start_delay", playing.start_delay);
    span("resume_buffer", playing.resume_buffer);
    if (playing.resume_growth > 1) text += fmt::format("resume_growth = {:g}\n", playing.resume_growth);
    if (playing.max_resume_buffer.count() > 0) span("max_resume_buffer", playing.max_resume_buffer);
    span("buffer", playing.buffer);
    if (playing.refill != playing.buffer) span("refill", playing.refill);
    const auto size = [&](const char* key, std::int64_t bytes) {
        if (bytes > 0) text += fmt::format("{} = \"{} bytes\"\n", key, bytes);
    };
    size("buffer_size", playing.buffer_size);
    size("refill_size", playing.refill_size);
    size("read_size", playing.read_size);
    if (playing.hls_buffer != playing.buffer) span("hls_buffer", playing.hls_buffer);
    if (playing.hls_refill != playing.hls_buffer) span("hls_refill", playing.hls_refill);
    if (!playing.whole_segments) text += "whole_segments = false\n";
    size("live_probe", playing.live_probe);
    if (playing.live_restart > 0) text += fmt::format("live_restart = {}\n", playing.live_restart);
    if (playing.live_catch_up > 0) text += fmt::format("live_catch_up = {}\n", playing.live_catch_up);
    if (!playing.seeks_exactly) text += "seek = \"keyframe\"\n";
    size("read_through", playing.read_through);
    if (playing.finishes_segment) text += "finishes_segment = true\n";
    const Adapting& adapting = playing.adapting;
    if (adapting == Adapting{}) return;
    text += fmt::format(
        "\n[plays.adaptive]\nlink_share = {:g}\ncautious_share = {:g}\nmeasured_segments = {}\nfirst_rung = {}\n"
        "rungs_up = {}\nholds_rung = {}\nabandons_segments = {}\n",
        adapting.link_share, adapting.cautious_share, adapting.measured_segments,
        toml_text(adapting.first_listed ? "listed" : "lowest"), adapting.rungs_up, adapting.holds_rung,
        adapting.abandons_segments);
    if (adapting.secure_buffer.count() > 0) span("secure_buffer", adapting.secure_buffer);
    if (adapting.low_buffer.count() > 0) span("low_buffer", adapting.low_buffer);
    if (!adapting.trouble.empty()) text += fmt::format("trouble = {}\n", toml_text(adapting.trouble));
}

void write_video(const VideoAbility& one, std::string& text) {
    text += fmt::format("\n[[plays.video]]\ncodec = {}\n", toml_text(media::short_name(one.codec)));
    if (!one.profiles.empty()) text += fmt::format("profiles = {}\n", list_of(one.profiles));
    if (!one.level.empty()) text += fmt::format("level = {}\n", toml_text(one.level));
    if (one.largest.width > 0) text += fmt::format("max_size = \"{}x{}\"\n", one.largest.width, one.largest.height);
    if (one.max_fps > 0) text += fmt::format("max_fps = {:g}\n", one.max_fps);
    std::vector<std::string> scans;
    for (const Scan scan : one.scans) scans.emplace_back(media::short_name(scan));
    if (!scans.empty()) text += fmt::format("scans = {}\n", list_of(scans));
    text += fmt::format("bit_depth = {}\n", one.bit_depth);
    if (!one.hdr.empty()) text += fmt::format("hdr = {}\n", list_of(one.hdr));
    if (!one.basis.empty()) text += fmt::format("basis = {}\n", toml_text(one.basis));
}

}  // namespace

std::string write(const Device& device) {
    std::string text = fmt::format("name = {}\n", toml_text(device.name));
    if (!device.description.empty()) text += fmt::format("description = {}\n", toml_text(device.description));
    if (!device.basis.empty()) text += fmt::format("basis = {}\n", toml_text(device.basis));
    text += fmt::format("\n[plays]\ncontainers = {}\nprotocols = {}\n", list_of(device.containers),
                        list_of(device.protocols));
    if (device.highest_bps > 0) text += fmt::format("max_bitrate = \"{} kbit/s\"\n", device.highest_bps / 1000);
    std::vector<std::string> subtitles;
    for (const Codec codec : device.subtitles) subtitles.emplace_back(media::short_name(codec));
    if (!subtitles.empty()) text += fmt::format("subtitles = {}\n", list_of(subtitles));
    write_playing(device.playing, text);
    for (const VideoAbility& one : device.video) write_video(one, text);
    for (const AudioAbility& one : device.audio) {
        text += fmt::format("\n[[plays.audio]]\ncodec = {}\nchannels = {}\n", toml_text(media::short_name(one.codec)),
                            one.channels);
        if (!one.containers.empty()) text += fmt::format("containers = {}\n", list_of(one.containers));
        if (!one.basis.empty()) text += fmt::format("basis = {}\n", toml_text(one.basis));
    }
    for (const Tried& one : device.tried) {
        text += fmt::format("\n[[tried]]\nwhat = {}\nresult = {}\n", toml_text(one.what), toml_text(one.result));
        if (!one.says.empty()) text += fmt::format("says = {}\n", toml_text(one.says));
        if (!one.seen.empty()) text += fmt::format("seen = {}\n", toml_text(one.seen));
        if (!one.when.empty()) text += fmt::format("when = {}\n", toml_text(one.when));
    }
    return text;
}

std::vector<std::string> doubts(const Device& device) {
    std::vector<std::string> found;
    if (device.containers.empty()) found.emplace_back("no containers: no file suits it");
    if (device.video.empty() && device.audio.empty()) found.emplace_back("neither video nor audio: nothing suits it");
    if (!device.video.empty() && device.audio.empty()) found.emplace_back("no audio: films are silent on it");
    if (device.highest_bps == 0) found.emplace_back("no max_bitrate: any rate is taken to suit it");
    for (const VideoAbility& one : device.video) {
        const std::string_view name = media::display_name(one.codec);
        if (one.largest.width == 0) found.push_back(fmt::format("{}: no max_size: any size is taken to suit it", name));
        if (one.max_fps == 0) found.push_back(fmt::format("{}: no max_fps: any frame rate is taken to suit it", name));
        if (has_numbered_levels(one.codec) && one.level.empty())
            found.push_back(fmt::format("{}: no level: any level is taken to suit it", name));
        if (!one.hdr.empty() && one.bit_depth < 10)
            found.push_back(fmt::format("{}: HDR needs a bit_depth of 10", name));
    }
    if (device.basis.empty()) found.emplace_back("no basis: nobody can tell where these statements come from");
    return found;
}

std::vector<Difference> compare(const Device& first, const Device& second) {
    std::vector<Difference> rows;
    const auto row = [&](std::string what, std::string a, std::string b) {
        if (a != b) rows.push_back({std::move(what), std::move(a), std::move(b)});
    };
    row("containers", joined(first.containers), joined(second.containers));
    row("protocols", joined(first.protocols), joined(second.protocols));
    const auto rate = [](const Device& d) {
        return d.highest_bps > 0 ? base::format_bitrate(d.highest_bps) : std::string("no limit");
    };
    row("max bit rate", rate(first), rate(second));
    const auto span = [&](const char* what, Time a, Time b) { row(what, base::format_span(a), base::format_span(b)); };
    const Playing &a = first.playing, &b = second.playing;
    span("start buffer", a.start_buffer, b.start_buffer);
    span("start delay", a.start_delay, b.start_delay);
    span("resume buffer", a.resume_buffer, b.resume_buffer);
    row("resume growth", fmt::format("{:g}", a.resume_growth), fmt::format("{:g}", b.resume_growth));
    span("max resume buffer", a.max_resume_buffer, b.max_resume_buffer);
    span("buffer", a.buffer, b.buffer);
    span("refill", a.refill, b.refill);
    const auto size = [&](const char* what, std::int64_t one, std::int64_t other) {
        row(what, base::format_bytes(static_cast<std::uint64_t>(one)),
            base::format_bytes(static_cast<std::uint64_t>(other)));
    };
    size("buffer size", a.buffer_size, b.buffer_size);
    size("refill size", a.refill_size, b.refill_size);
    size("read size", a.read_size, b.read_size);
    span("HLS buffer", a.hls_buffer, b.hls_buffer);
    span("HLS refill", a.hls_refill, b.hls_refill);
    const auto yes_no = [](bool yes) { return std::string(yes ? "yes" : "no"); };
    row("whole segments", yes_no(a.whole_segments), yes_no(b.whole_segments));
    size("live probe", a.live_probe, b.live_probe);
    row("live restart", std::to_string(a.live_restart), std::to_string(b.live_restart));
    row("live catch-up", std::to_string(a.live_catch_up), std::to_string(b.live_catch_up));
    const auto seek = [](bool exactly) { return std::string(exactly ? "exact" : "keyframe"); };
    row("seek", seek(a.seeks_exactly), seek(b.seeks_exactly));
    size("read through", a.read_through, b.read_through);
    row("finishes segment", yes_no(a.finishes_segment), yes_no(b.finishes_segment));
    row("adaptive: link share", fmt::format("{:g}, cautious {:g}", a.adapting.link_share, a.adapting.cautious_share),
        fmt::format("{:g}, cautious {:g}", b.adapting.link_share, b.adapting.cautious_share));
    row("adaptive: measured segments", std::to_string(a.adapting.measured_segments),
        std::to_string(b.adapting.measured_segments));
    row("adaptive: first rung", a.adapting.first_listed ? "listed" : "lowest",
        b.adapting.first_listed ? "listed" : "lowest");
    row("adaptive: rungs up", std::to_string(a.adapting.rungs_up), std::to_string(b.adapting.rungs_up));
    row("adaptive: holds its rung", yes_no(a.adapting.holds_rung), yes_no(b.adapting.holds_rung));
    row("adaptive: abandons segments", yes_no(a.adapting.abandons_segments), yes_no(b.adapting.abandons_segments));
    span("adaptive: secure buffer", a.adapting.secure_buffer, b.adapting.secure_buffer);
    span("adaptive: low buffer", a.adapting.low_buffer, b.adapting.low_buffer);
    const auto video = [](const Device& d, Codec codec) {
        std::vector<std::string> kinds;
        for (const VideoAbility& one : d.video) {
            if (one.codec == codec) kinds.push_back(in_words(one));
        }
        return kinds.empty() ? std::string("no") : fmt::format("{}", fmt::join(kinds, "; or "));
    };
    const auto audio = [](const Device& d, Codec codec) {
        for (const AudioAbility& one : d.audio) {
            if (one.codec == codec)
                return media::channel_layout(one.channels) +
                       (one.containers.empty() ? "" : " in " + joined(one.containers));
        }
        return std::string("no");
    };
    std::vector<Codec> seen;
    const auto once = [&](Codec codec) {
        if (std::find(seen.begin(), seen.end(), codec) != seen.end()) return false;
        seen.push_back(codec);
        return true;
    };
    for (const Device* d : {&first, &second}) {
        for (const VideoAbility& one : d->video) {
            if (once(one.codec))
                row(std::string(media::display_name(one.codec)), video(first, one.codec), video(second, one.codec));
        }
    }
    for (const Device* d : {&first, &second}) {
        for (const AudioAbility& one : d->audio) {
            if (once(one.codec))
                row(std::string(media::display_name(one.codec)), audio(first, one.codec), audio(second, one.codec));
        }
    }
    const auto subtitles = [](const Device& d) {
        std::vector<std::string> names;
        for (const Codec codec : d.subtitles) names.emplace_back(media::short_name(codec));
        return names.empty() ? std::string("none") : joined(names);
    };
    row("subtitles", subtitles(first), subtitles(second));
    return rows;
}

namespace {

// "up to High" where it has all that lie below it, too.
std::string profile_words(const VideoAbility& ability) {
    static const std::vector<std::vector<std::string>> kSteps = {{"Constrained Baseline", "Baseline", "Main", "High"},
                                                                 {"Constrained Baseline", "Baseline", "Main"},
                                                                 {"Main", "Main 10"},
                                                                 {"Simple", "Main"},
                                                                 {"Simple", "Main", "High"}};
    if (ability.profiles.empty()) return "all profiles";
    if (std::find(kSteps.begin(), kSteps.end(), ability.profiles) != kSteps.end())
        return "up to " + ability.profiles.back();
    if (ability.codec == Codec::vp9)
        return (ability.profiles.size() > 1 ? "profiles " : "profile ") + joined(ability.profiles);
    return joined(ability.profiles);
}

}  // namespace

std::string in_words(const VideoAbility& ability) {
    std::string text = profile_words(ability);
    if (!ability.level.empty()) text += ", level " + ability.level;
    if (ability.largest.width > 0) text += fmt::format(", {}x{}", ability.largest.width, ability.largest.height);
    if (ability.max_fps > 0) text += fmt::format(", {:g} fps", ability.max_fps);
    if (ability.scans == std::vector{Scan::progressive}) text += ", progressive";
    text += fmt::format(", {} bits", ability.bit_depth);
    for (const std::string& kind : ability.hdr) text += kind == "hlg" ? ", HLG" : ", HDR10";
    return text;
}

std::optional<Link> parse_link(std::string_view text) {
    if (text == "gigabit") return Link{"gigabit", 941'000'000};
    if (text == "fast-ethernet") return Link{"100 Mbit/s Ethernet", 94'100'000};
    const auto rate = base::parse_bitrate(text);
    if (!rate || *rate < 1000) return std::nullopt;
    return Link{base::format_bitrate(*rate), *rate};
}

bool takes(const Device& device, std::string_view protocol) {
    return std::find(device.protocols.begin(), device.protocols.end(), protocol) != device.protocols.end();
}

bool reads(const Device& device, std::string_view container) {
    return std::find(device.containers.begin(), device.containers.end(), container) != device.containers.end();
}

Check judge_protocol(const Device& device, std::string_view protocol) {
    const bool fits = takes(device, protocol);
    return {protocol == "https" ? "HTTPS" : "protocol", fits ? Verdict::pass : Verdict::fail, std::string(protocol),
            joined(device.protocols), fits ? "" : "protocol not supported: use another delivery"};
}

namespace {

// "AAC stereo, AC-3 5.1": the most channels of each.
std::string audio_names(const std::vector<AudioAbility>& abilities) {
    std::vector<std::string> names;
    for (const AudioAbility& ability : abilities)
        names.push_back(fmt::format("{} {}{}", media::display_name(ability.codec),
                                    media::channel_layout(ability.channels),
                                    ability.containers.empty() ? "" : " in " + joined(ability.containers)));
    return joined(names);
}

}  // namespace

std::string_view dynamic_range(const Track& track) {
    if (!media::is_hdr(track.colour)) return "";
    return track.colour.transfer == media::kTransferHlg ? "hlg" : "hdr10";
}

std::vector<Check> judge_video(const Device& device, const Track& track) {
    std::vector<Check> best;
    std::ptrdiff_t fewest = -1;
    for (const VideoAbility& ability : device.video) {
        if (ability.codec != track.codec) continue;
        std::vector<Check> checks = judge_ability(ability, track);
        const auto failed = std::count_if(checks.begin(), checks.end(),
                                          [](const Check& check) { return check.verdict == Verdict::fail; });
        if (fewest >= 0 && failed >= fewest) continue;
        fewest = failed;
        best = std::move(checks);
    }
    Check codec{"video codec", Verdict::pass, std::string(media::display_name(track.codec)), codec_names(device.video),
                ""};
    if (fewest < 0) {
        codec.verdict = Verdict::fail;
        codec.why = codec::can_decode_video(track)
                        ? "the device can't decode this video: convert it with a profile whose codec it has"
                        : "neither the device nor this program can decode this video: convert it with other software "
                          "first";
    }
    best.insert(best.begin(), std::move(codec));
    return best;
}

bool AudioAbility::is_in(std::string_view container) const {
    return container.empty() || containers.empty() ||
           std::find(containers.begin(), containers.end(), container) != containers.end();
}

bool plays_audio(const Device& device, const Track& track, std::string_view container) {
    return std::any_of(device.audio.begin(), device.audio.end(), [&](const AudioAbility& ability) {
        return ability.codec == track.codec && track.channels <= ability.channels && ability.is_in(container);
    });
}

std::vector<Check> judge(const Device& device, std::string_view container, const std::vector<Track>& tracks,
                         std::int64_t peak_1s_bps) {
    std::vector<Check> checks;
    const bool contained = container.empty() || reads(device, container);
    if (!container.empty())
        checks.push_back({"container", contained ? Verdict::pass : Verdict::fail, std::string(container),
                          joined(device.containers), contained ? "" : container_remedy(device, tracks)});
    bool any_audio = false, audio_fits = false;
    Check audio{"audio", Verdict::fail, "", audio_names(device.audio),
                "audio not supported: convert it to a codec and channel layout that the device supports"};
    for (const Track& track : tracks) {
        if (track.kind == TrackKind::video) {
            for (Check& check : judge_video(device, track)) checks.push_back(std::move(check));
        }
        if (track.kind != TrackKind::audio) continue;
        any_audio = true;
        if (!audio.measured.empty()) audio.measured += "; ";
        audio.measured +=
            fmt::format("{}, {}", media::display_name(track.codec), media::channel_layout(track.channels));
        audio_fits |= plays_audio(device, track, container);
    }
    if (any_audio) {
        if (audio_fits) audio.verdict = Verdict::pass, audio.why.clear();
        checks.push_back(std::move(audio));
    }
    if (device.highest_bps > 0) {
        const bool fits = peak_1s_bps <= device.highest_bps;
        checks.push_back({"max bit rate", fits ? Verdict::pass : Verdict::fail, base::format_bitrate(peak_1s_bps),
                          base::format_bitrate(device.highest_bps),
                          fits ? "" : "peak bit rate too high for the device: convert with a lower `peak_bitrate`"});
    }
    return checks;
}

}  // namespace wavecrest::device
