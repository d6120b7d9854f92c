#include "profile/profile.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include "base/config.hpp"
#include "base/embedded.hpp"
#include "base/file.hpp"

namespace wavecrest::profile {
namespace {

constexpr std::string_view kFolder = "profiles/";

bool is_file_name(const std::string& name) {
    return name.size() > 5 && name.ends_with(".toml");
}

}  // namespace

Result<Profile> parse(std::string_view text, const std::string& file) {
    WAVECREST_TRY_ASSIGN(root, base::ConfigTable::parse(text, file));
    Profile profile;
    WAVECREST_TRY_ASSIGN(name, root.text("name"));
    profile.name = name;
    WAVECREST_TRY_ASSIGN(purpose, root.text("purpose", ""));
    profile.purpose = purpose;
    WAVECREST_TRY(root.choice("container", {"mp4"}, "mp4"));

    WAVECREST_TRY_ASSIGN(video, root.table("video"));
    WAVECREST_TRY(video.choice("codec", {"h264"}, "h264"));
    WAVECREST_TRY_ASSIGN(codec_profile, video.choice("codec_profile", {"baseline", "main", "high"}, "high"));
    WAVECREST_TRY_ASSIGN(level,
                         video.choice("level", {"", "3.0", "3.1", "3.2", "4.0", "4.1", "4.2", "5.0", "5.1"}, ""));
    WAVECREST_TRY_ASSIGN(effort, video.number("effort", 1, 9, 5));
    WAVECREST_TRY_ASSIGN(quality, video.decimal("quality", 0, 51, 20));
    WAVECREST_TRY_ASSIGN(peak, video.bitrate("peak_bitrate", 0));
    WAVECREST_TRY_ASSIGN(buffer, video.span("buffer", profile.video.buffer));
    WAVECREST_TRY_ASSIGN(keyframes, video.span("keyframe_every", Time{}));
    WAVECREST_TRY_ASSIGN(largest, video.size("largest", profile.video.largest));
    WAVECREST_TRY_ASSIGN(pixels, video.choice("pixels", {"square", "as-source"}, "square"));
    WAVECREST_TRY_ASSIGN(interlaced, video.choice("interlaced", {"per-frame", "per-field"}, "per-frame"));
    WAVECREST_TRY_ASSIGN(rate, video.text("frame_rate", "as-source"));
    std::optional<Ratio> fixed;
    if (rate != "as-source" && rate != "constant") {
        fixed = base::parse_frame_rate(rate);
        if (!fixed)
            return video.refuse("frame_rate", fmt::format("\"{}\" is no frame rate", rate),
                                "write \"as-source\", \"constant\" or frames per second such as \"25\" or \"29.97\"");
    }
    if (keyframes.count() == 0 && video.has("keyframe_every"))
        return video.refuse("keyframe_every", "the keyframe interval must be longer than 0",
                            "write a length such as \"4 s\", or leave it out");
    if (buffer.count() == 0)
        return video.refuse("buffer", "the buffer must be longer than 0", "write a length such as \"2 s\"");
    profile.video = {codec_profile,
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
    WAVECREST_TRY(video.finish());

    WAVECREST_TRY_ASSIGN(audio, root.table("audio"));
    WAVECREST_TRY(audio.choice("codec", {"aac"}, "aac"));
    WAVECREST_TRY_ASSIGN(bitrate, audio.bitrate("bitrate", profile.audio.bitrate_bps));
    if (bitrate < 32'000 || bitrate > 320'000)
        return audio.refuse("bitrate", "sound takes 32 to 320 kbit/s in stereo", "write a rate such as \"160 kbit/s\"");
    profile.audio.bitrate_bps = bitrate;
    WAVECREST_TRY(audio.finish());
    WAVECREST_TRY(root.finish());
    return profile;
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
    return fail(ErrorKind::usage, fmt::format("there is no profile \"{}\"", name), "profile",
                meant.empty() ? fmt::format("use one of: {}; or a file ending in .toml", fmt::join(names, ", "))
                              : fmt::format("did you mean \"{}\"?", meant));
}

Result<Profile> find(const std::string& name) {
    WAVECREST_TRY_ASSIGN(text, source_text(name));
    return parse(text, is_file_name(name) ? name : fmt::format("built-in profile {}", name));
}

}  // namespace wavecrest::profile
