#include "profile/profile.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <cmath>

#include "base/config.hpp"
#include "base/embedded.hpp"
#include "base/file.hpp"

namespace wavecrest::profile {
namespace {

constexpr std::string_view kFolder = "profiles/";

bool is_file_name(const std::string& name) {
    return name.size() > 5 && name.ends_with(".toml");
}

std::int64_t usual_bitrate(Codec codec, int channels) {
    const std::int64_t pairs = std::max(1, (channels + 1) / 2);
    switch (codec) {
        case Codec::aac:
            return channels <= 1 ? 80'000 : channels == 2 ? 160'000 : 384'000;
        case Codec::ac3:
            return channels <= 1 ? 96'000 : channels == 2 ? 192'000 : 448'000;
        case Codec::opus:
            return channels <= 1 ? 64'000 : 96'000 * pairs;
        case Codec::mp3:
            return channels <= 1 ? 96'000 : 192'000;
        default:
            return 0;
    }
}

Codec parse_video_codec(base::ConfigTable& table) {
    const std::string name = table.text("codec", "h264");
    const auto codec = media::codec_from_name(name);
    for (const Codec one : {Codec::h264, Codec::h265, Codec::vp9, Codec::av1}) {
        if (codec == one) return one;
    }
    table.wrong("codec", fmt::format("video can't be encoded as \"{}\"", name),
                "write \"h264\", \"h265\", \"vp9\" or \"av1\"");
    return Codec::h264;
}

AudioSettings parse_audio(base::ConfigTable& table) {
    AudioSettings audio;
    const std::string codec = table.choice("codec", {"aac", "ac3", "opus", "mp3", "flac", "lpcm", "as-source"}, "aac");
    audio.keep = codec == "as-source";
    if (!audio.keep) audio.codec = media::codec_from_name(codec).value_or(Codec::aac);
    const std::string channels = table.choice("channels", {"mono", "stereo", "5.1", "as-source"}, "stereo");
    audio.channels = channels == "mono" ? 1 : channels == "stereo" ? 2 : channels == "5.1" ? 6 : 0;
    audio.bitrate_bps = table.bitrate("bitrate", 0);
    const bool lossless = audio.codec == Codec::flac || audio.codec == Codec::lpcm;
    if (table.has("bitrate") && (audio.keep || lossless)) {
        table.wrong("bitrate", "this audio has no bit rate to choose", "leave it out");
    } else if (audio.bitrate_bps != 0 && (audio.bitrate_bps < 32'000 || audio.bitrate_bps > 640'000)) {
        table.wrong("bitrate", "audio needs 32 to 640 kbit/s", "write for example \"160 kbit/s\"");
    }
    if (audio.keep && table.has("channels"))
        table.wrong("channels", "audio that is kept as it is has the source's channels", "leave it out");
    if (audio.codec == Codec::mp3 && audio.channels == 6)
        table.wrong("channels", "MP3 has at most two channels", "write \"stereo\", or use another codec");
    table.finish();
    return audio;
}

}  // namespace

std::int64_t AudioSettings::bitrate_for(int count) const {
    if (keep) return 0;
    if (bitrate_bps == 0) return usual_bitrate(codec, count);
    return bitrate_bps * count / std::max(channels > 0 ? channels : count, count);
}

std::int64_t Profile::peak_bps() const {
    if (video.peak_bps == 0) return 0;
    std::int64_t sum = video.peak_bps;
    for (const AudioSettings& one : audio) sum += one.bitrate_for(one.channels > 0 ? one.channels : 6);
    return sum;
}

Result<Profile> parse(std::string_view text, const std::string& file) {
    WAVECREST_TRY_ASSIGN(root, base::ConfigTable::parse(text, file));
    Profile profile;
    const auto name = root.text("name");
    profile.name = name;
    const auto purpose = root.text("purpose", "");
    profile.purpose = purpose;
    profile.container = root.choice("container", {"mp4", "matroska", "webm", "mpeg-ts"}, "mp4");

    auto video = root.table("video");
    const Codec codec = parse_video_codec(video);
    const bool has_profiles = codec == Codec::h264 || codec == Codec::h265;
    const std::string codec_profile =
        video.choice("profile",
                     codec == Codec::h265 ? std::vector<std::string>{"", "main"}
                                          : std::vector<std::string>{"", "baseline", "main", "high"},
                     codec == Codec::h264 ? "high" : "");
    const auto level = video.choice("level", {"", "3.0", "3.1", "3.2", "4.0", "4.1", "4.2", "5.0", "5.1"}, "");
    for (const char* key : {"profile", "level"}) {
        if (!has_profiles && video.has(key))
            video.wrong(key, fmt::format("{} video has no {} to choose", media::display_name(codec), key),
                        "leave it out");
    }
    const auto effort = video.number("effort", 1, 9, 5);
    const auto quality = video.decimal("visual_quality", 0, 100, profile.video.quality);
    if (video.has_former("quality")) {
        const double old = video.decimal("quality", 0, 51, 20);
        video.wrong("quality", "\"quality\" is now \"visual_quality\", from 0 to 100, the same for every codec",
                    fmt::format("write visual_quality = {:g}", std::round((51 - old) / 0.4 * 2) / 2));
    }
    const auto peak = video.bitrate("peak_bitrate", 0);
    const auto buffer = video.span("buffer", profile.video.buffer);
    const auto keyframes = video.span("keyframe_interval", Time{});
    const auto largest = video.size("max_size", profile.video.largest);
    const auto pixels = video.choice("pixels", {"square", "as-source"}, "square");
    const auto interlaced = video.choice("interlaced", {"per-frame", "per-field"}, "per-frame");
    const auto rate = video.text("frame_rate", "as-source");
    std::optional<Ratio> fixed;
    if (rate != "as-source" && rate != "constant") {
        fixed = base::parse_frame_rate(rate);
        if (!fixed)
            video.wrong("frame_rate", fmt::format("\"{}\" isn't a valid frame rate", rate),
                        "write \"as-source\", \"constant\" or frames per second such as \"25\" or \"29.97\"");
    }
    if (keyframes.count() == 0 && video.has("keyframe_interval"))
        video.wrong("keyframe_interval", "the keyframe interval must be longer than 0",
                    "write a length such as \"4 s\", or leave it out");
    if (buffer.count() == 0)
        video.wrong("buffer", "the buffer must be longer than 0", "write a length such as \"2 s\"");
    profile.video = {codec,
                     codec_profile,
                     level,
                     static_cast<int>(effort),
                     quality,
                     peak,
                     buffer,
                     keyframes,
                     largest,
                     pixels == "square",
                     interlaced == "per-field",
                     rate != "as-source",
                     fixed.value_or(Ratio{0, 1})};
    video.finish();

    // One table for one kind of audio, or an array of them.
    std::vector<base::ConfigTable> kinds = root.table_or_tables("audio");
    if (kinds.empty()) kinds.push_back(root.table("audio"));
    profile.audio.clear();
    for (base::ConfigTable& table : kinds) profile.audio.push_back(parse_audio(table));
    root.finish();
    return root.complete(Result<Profile>(std::move(profile)));
}

const std::vector<Profile>& built_in() {
    static const std::vector<Profile> profiles = [] {
        std::vector<Profile> all;
        for (const base::EmbeddedFile& file : base::embedded_files()) {
            if (!file.name.starts_with(kFolder)) continue;
            if (auto profile = parse(file.text, std::string(file.name))) all.push_back(std::move(*profile));
        }
        return all;
    }();
    return profiles;
}

Result<std::string> source_text(const std::string& name) {
    if (is_file_name(name)) return base::read_text_file(name);
    std::vector<std::string> names;
    for (const base::EmbeddedFile& file : base::embedded_files()) {
        if (!file.name.starts_with(kFolder)) continue;
        if (file.name == fmt::format("{}{}.toml", kFolder, name)) return std::string(file.text);
        names.emplace_back(file.name.substr(kFolder.size(), file.name.size() - kFolder.size() - 5));
    }
    const std::string meant = base::nearest(name, names);
    return fail(ErrorKind::usage, fmt::format("unknown profile \"{}\"", name), "profile",
                meant.empty() ? fmt::format("use one of: {}; or a file ending in .toml", fmt::join(names, ", "))
                              : fmt::format("did you mean \"{}\"?", meant));
}

Result<Profile> find(const std::string& name) {
    WAVECREST_TRY_ASSIGN(text, source_text(name));
    return parse(text, is_file_name(name) ? name : fmt::format("built-in profile {}", name));
}

}  // namespace wavecrest::profile
