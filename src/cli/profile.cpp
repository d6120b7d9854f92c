#include "profile/profile.hpp"

#include <nlohmann/json.hpp>

#include "base/units.hpp"
#include "cli/commands.hpp"
#include "render/table.hpp"

namespace wavecrest::cli {
namespace {

nlohmann::ordered_json to_json(const profile::Profile& p) {
    auto audio = nlohmann::ordered_json::array();
    for (const profile::AudioSettings& one : p.audio)
        audio.push_back({{"codec", one.keep ? "as-source" : media::short_name(one.codec)},
                         {"channels", one.channels},
                         {"bitrate_bps", one.bitrate_for(one.channels)}});
    return {{"name", p.name},
            {"purpose", p.purpose},
            {"container", p.container},
            {"codec", media::short_name(p.video.codec)},
            {"profile", p.video.profile},
            {"level", p.video.level},
            {"effort", p.video.effort},
            {"quality", p.video.quality},
            {"peak_bps", p.video.peak_bps},
            {"max_size", fmt::format("{}x{}", p.video.largest.width, p.video.largest.height)},
            {"audio", audio}};
}

// "AC-3 5.1, AAC stereo".
std::string audio_text(const profile::Profile& p) {
    std::string text;
    for (const profile::AudioSettings& one : p.audio) {
        text += text.empty() ? "" : ", ";
        if (one.keep) {
            text += "as source";
            continue;
        }
        text += media::display_name(one.codec);
        if (one.channels > 0) text += " " + media::channel_layout(one.channels);
    }
    return text;
}

}  // namespace

int run_profile_list(const ProfileOptions& options) {
    if (options.output.json) {
        nlohmann::ordered_json result = {{"profiles", nlohmann::ordered_json::array()}};
        for (const profile::Profile& p : profile::built_in()) result["profiles"].push_back(to_json(p));
        print_json(result);
        return 0;
    }
    render::Table table({"profile", "file", "video", "max size", "peak", "audio", "for"});
    for (const profile::Profile& p : profile::built_in()) {
        table.add({p.name, p.container,
                   fmt::format("{}{}", media::display_name(p.video.codec),
                               p.video.profile.empty() ? "" : " " + base::capitalized(p.video.profile)),
                   fmt::format("{}x{}", p.video.largest.width, p.video.largest.height),
                   p.video.peak_bps > 0 ? base::format_bitrate(p.video.peak_bps) : "no limit", audio_text(p),
                   p.purpose});
    }
    print(
        "{}\nNext: wavecrest profile show NAME > my-profile.toml   (a copy to change; convert takes it with --profile "
        "my-profile.toml)\n",
        Raw{table.text()});
    return 0;
}

int run_profile_show(const ProfileOptions& options) {
    const auto text = profile::source_text(options.name);
    if (!text) return report_error(text.error(), options.output.json);
    if (!options.output.json) {
        print("{}", by_lines(*text));
        return 0;
    }
    const auto found = profile::find(options.name);
    if (!found) return report_error(found.error(), true);
    print_json(to_json(*found));
    return 0;
}

int run_profile_check(const ProfileOptions& options) {
    auto found = profile::find(options.name);
    if (!found) {
        // A profile that can be read but is wrong was checked and found wanting.
        Error error = found.error();
        if (error.kind == ErrorKind::usage) error.kind = ErrorKind::wanting;
        return report_error(error, options.output.json);
    }
    if (options.output.json) {
        print_json(to_json(*found));
    } else {
        print("{}: no errors.\n", options.name);
    }
    return 0;
}

}  // namespace wavecrest::cli
