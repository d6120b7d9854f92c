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
    const auto name = root.text("name");
    profile.name = name;
    const auto purpose = root.text("purpose", "");
    profile.purpose = purpose;
    root.choice("container", {"mp4"}, "mp4");

    auto video = root.table("video");
    video.choice("codec", {"h264"}, "h264");
    const auto codec_profile = video.choice("profile", {"baseline", "main", "high"}, "high");
    const auto level = video.choice("level", {"", "3.0", "3.1", "3.2", "4.0", "4.1", "4.2", "5.0", "5.1"}, "");
    const auto effort = video.number("effort", 1, 9, 5);
    const auto quality = video.decimal("quality", 0, 51, 20);
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
    video.finish();

    auto audio = root.table("audio");
    audio.choice("codec", {"aac"}, "aac");
    const auto bitrate = audio.bitrate("bitrate", profile.audio.bitrate_bps);
    if (bitrate < 32'000 || bitrate > 320'000)
        audio.wrong("bitrate", "audio needs 32 to 320 kbit/s in stereo", "write for example \"160 kbit/s\"");
    profile.audio.bitrate_bps = bitrate;
    audio.finish();
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
