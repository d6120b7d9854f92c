#include "device/device.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <optional>

#include "base/embedded.hpp"
#include "base/file.hpp"
#include "bitstream/h264.hpp"
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
    for (const Ability& ability : abilities) names.emplace_back(media::display_name(ability.codec));
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

void judge_video(const Device& device, const Track& track, std::vector<Check>& checks) {
    const auto ability = std::find_if(device.video.begin(), device.video.end(),
                                      [&](const VideoAbility& a) { return a.codec == track.codec; });
    if (ability == device.video.end()) {
        checks.push_back({"video codec", Verdict::fail, std::string(media::display_name(track.codec)),
                          codec_names(device.video),
                          codec::can_decode_video(track)
                              ? "the device can't decode this video: convert it with a profile whose codec it has"
                              : "neither the device nor this program can decode this video: convert it with other "
                                "software first"});
        return;
    }
    checks.push_back(
        {"video codec", Verdict::pass, std::string(media::display_name(track.codec)), codec_names(device.video), ""});
    if (!ability->profiles.empty()) {
        const bool fits =
            std::find(ability->profiles.begin(), ability->profiles.end(), track.profile) != ability->profiles.end();
        checks.push_back({"codec profile", fits ? Verdict::pass : Verdict::fail, track.profile,
                          joined(ability->profiles),
                          fits ? "" : "codec profile not supported: convert with a lower `profile`"});
    }
    if (!ability->level.empty() && track.codec == Codec::h264) {
        const int level = bitstream::h264::level_idc_from_name(track.level),
                  limit = bitstream::h264::level_idc_from_name(ability->level);
        const bool fits = level != 0 && level <= limit;
        checks.push_back({"level", fits ? Verdict::pass : Verdict::fail, track.level, ability->level,
                          fits ? "" : "level too high for the device: convert to a smaller size or bit rate"});
    }
    if (ability->largest.width > 0) {
        const bool fits = track.width <= ability->largest.width && track.height <= ability->largest.height;
        checks.push_back({"video size", fits ? Verdict::pass : Verdict::fail,
                          fmt::format("{}x{}", track.width, track.height),
                          fmt::format("{}x{}", ability->largest.width, ability->largest.height),
                          fits ? "" : "video too large for the device: convert with a smaller `max_size`"});
    }
    if (ability->max_fps > 0) {
        const bool fits = track.frame_rate.value() <= ability->max_fps * 1.001;
        checks.push_back({"frame rate", fits ? Verdict::pass : Verdict::fail, base::format_rate(track.frame_rate),
                          fmt::format("{:g}", ability->max_fps), fits ? "" : "frame rate too high for the device"});
    }
    if (!ability->scans.empty() && track.scan != Scan::unknown) {
        const bool fits = std::find(ability->scans.begin(), ability->scans.end(), track.scan) != ability->scans.end();
        std::vector<std::string> names;
        for (const Scan scan : ability->scans) names.emplace_back(media::short_name(scan));
        checks.push_back({"scan", fits ? Verdict::pass : Verdict::fail, std::string(media::short_name(track.scan)),
                          joined(names),
                          fits ? "" : "the device does not play interlaced video: convert it to progressive"});
    }
    const bool deep = track.bit_depth > ability->bit_depth;
    checks.push_back({"bit depth", deep ? Verdict::fail : Verdict::pass, fmt::format("{} bits", track.bit_depth),
                      fmt::format("{} bits", ability->bit_depth), deep ? "bit depth too high for the device" : ""});
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

}  // namespace

Result<Device> parse(std::string_view text, const std::string& file) {
    WAVECREST_TRY_ASSIGN(root, base::ConfigTable::parse(text, file));
    Device device;
    const auto name = root.text("name");
    device.name = name;
    const auto description = root.text("description", "");
    device.description = description;
    auto plays = root.table("plays");
    auto containers = plays.texts("containers");
    for (std::string& one : containers) one = container::format_from_name(one);
    static const std::vector<std::string> kContainers = {"mp4", "matroska", "webm", "mpeg-ts", "mpeg-ps", "avi",
                                                         "flv", "ogg",      "mp3",  "flac",    "wav",     "adts"};
    for (const std::string& container : containers) {
        if (std::find(kContainers.begin(), kContainers.end(), container) == kContainers.end())
            plays.wrong("containers", fmt::format("unknown container \"{}\"", container),
                        fmt::format("use some of: {}", joined(kContainers)));
    }
    device.containers = containers;
    const auto protocols = plays.texts("protocols");
    static const std::vector<std::string> kProtocols = {"http", "https", "hls", "udp", "rtp", "rtmp"};
    for (const std::string& protocol : protocols) {
        if (std::find(kProtocols.begin(), kProtocols.end(), protocol) == kProtocols.end())
            plays.wrong("protocols", fmt::format("unknown protocol \"{}\"", protocol),
                        fmt::format("use some of: {}", joined(kProtocols)));
    }
    device.protocols = protocols.empty() ? kProtocols : protocols;
    const auto highest = plays.bitrate("max_bitrate", 0);
    device.highest_bps = highest;
    const auto start_buffer = plays.span("start_buffer", base::from_seconds(2));
    device.start_buffer = start_buffer;
    const auto buffer = plays.span("buffer", base::from_seconds(20));
    device.buffer = buffer;
    if (buffer < start_buffer) plays.wrong("buffer", "buffer is shorter than start_buffer", "make it at least as long");
    auto videos = plays.tables("video");
    for (base::ConfigTable& table : videos) {
        VideoAbility ability;
        const Codec codec = codec_of(table);
        ability.codec = codec;
        const auto profiles = table.texts("profiles");
        for (const std::string& profile : profiles) {
            const std::vector<std::string> known = profiles_of(codec);
            if (known.empty() || std::find(known.begin(), known.end(), profile) != known.end()) continue;
            table.wrong("profiles", fmt::format("{1} has no profile \"{0}\"", profile, media::display_name(codec)),
                        fmt::format("use some of: {}", joined(known)));
        }
        ability.profiles = profiles;
        const auto level = table.text("level", "");
        if (codec == Codec::h264 && !level.empty() && bitstream::h264::level_idc_from_name(level) == 0) {
            table.wrong("level", fmt::format("\"{}\" isn't an H.264 level", level), "write a level such as \"4.1\"");
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
        const auto scans = table.texts("scans");
        for (const std::string& scan : scans) {
            if (scan != "progressive" && scan != "interlaced")
                table.wrong("scans", fmt::format("\"{}\" isn't a scan type", scan),
                            "use \"progressive\" and \"interlaced\"");
            ability.scans.push_back(scan == "progressive" ? Scan::progressive : Scan::interlaced);
        }
        table.finish();
        device.video.push_back(std::move(ability));
    }
    auto audios = plays.tables("audio");
    for (base::ConfigTable& table : audios) {
        AudioAbility ability;
        const Codec codec = codec_of(table);
        ability.codec = codec;
        const auto channels = table.number("channels", 1, 16, 2);
        ability.channels = static_cast<int>(channels);
        table.finish();
        device.audio.push_back(ability);
    }
    plays.finish();
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

Result<Device> find(const std::string& name) {
    if (name.size() > 5 && name.ends_with(".toml")) {
        WAVECREST_TRY_ASSIGN(text, base::read_text_file(name));
        return parse(text, name);
    }
    std::vector<std::string> names;
    for (const Device& device : built_in()) {
        if (device.name == name) return device;
        names.push_back(device.name);
    }
    const std::string meant = base::nearest(name, names);
    return fail(ErrorKind::usage, fmt::format("unknown device class \"{}\"", name), "device",
                meant.empty() ? fmt::format("use one of: {}; or a description ending in .toml", joined(names))
                              : fmt::format("did you mean \"{}\"?", meant));
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
        names.push_back(
            fmt::format("{} {}", media::display_name(ability.codec), media::channel_layout(ability.channels)));
    return joined(names);
}

}  // namespace

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
        if (track.kind == TrackKind::video) judge_video(device, track, checks);
        if (track.kind != TrackKind::audio) continue;
        any_audio = true;
        if (!audio.measured.empty()) audio.measured += "; ";
        audio.measured +=
            fmt::format("{}, {}", media::display_name(track.codec), media::channel_layout(track.channels));
        audio_fits |= std::any_of(device.audio.begin(), device.audio.end(), [&](const AudioAbility& a) {
            return a.codec == track.codec && track.channels <= a.channels;
        });
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
