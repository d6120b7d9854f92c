#include "profile/profile.hpp"

#include <nlohmann/json.hpp>

#include "base/atomic_file.hpp"
#include "base/units.hpp"
#include "cli/commands.hpp"
#include "convert/profile_check.hpp"
#include "render/table.hpp"

namespace wavecrest::cli {
namespace {

using What = profile::VideoSettings::What;

std::string_view codec_name(const profile::VideoSettings& video) {
    return video.what == What::none ? "none" : video.what == What::keep ? "as-source" : media::short_name(video.codec);
}

nlohmann::ordered_json to_json(const profile::Profile& p) {
    auto audio = nlohmann::ordered_json::array();
    for (const profile::AudioSettings& one : p.audio)
        audio.push_back({{"codec", one.keep ? "as-source" : media::short_name(one.codec)},
                         {"channels", one.channels},
                         {"bitrate_bps", one.bitrate_for(one.channels)}});
    return {{"name", p.name},
            {"purpose", p.purpose},
            {"container", p.container},
            {"codec", codec_name(p.video)},
            {"profile", p.video.profile},
            {"level", p.video.level},
            {"effort", p.video.effort},
            {"bit_depth", p.video.bit_depth},
            {"hdr", p.video.keeps_hdr ? "keep" : "to-sdr"},
            {"quality", p.video.quality},
            {"mean_bps", p.video.mean_bps},
            {"target_bytes", p.video.target_bytes},
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

// Finds a profile wanting where the device can't play what it makes.
int check_for_device(const ProfileOptions& options, const profile::Profile& found) {
    const bool json = options.output.json;
    const auto device = device::find(options.device);
    if (!device) return report_error(device.error(), json);
    const auto text = profile::source_text(options.name);
    if (!text) return report_error(text.error(), json);
    const auto findings = convert::check_for(found, *text, *device);
    if (!findings) return report_error(findings.error(), json);
    device::Verdict verdict = device::Verdict::pass;
    auto list = nlohmann::ordered_json::array();
    render::Table table({"check", "verdict", "profile", "device", "line", "key"});
    for (const convert::DeviceFinding& finding : *findings) {
        const device::Check& check = finding.check;
        verdict = device::worse(verdict, check.verdict);
        list.push_back({{"name", check.name},
                        {"verdict", device::short_name(check.verdict)},
                        {"measured", check.measured},
                        {"limit", check.limit},
                        {"why", check.why},
                        {"key", finding.key},
                        {"line", finding.line}});
        table.add({check.name, std::string(device::short_name(check.verdict)), check.measured, check.limit,
                   finding.line > 0 ? std::to_string(finding.line) : "default", finding.key});
    }
    const int status = verdict == device::Verdict::fail ? 1 : 0;
    if (json) {
        print_json({{"profile", found.name},
                    {"device", device->name},
                    {"verdict", device::short_name(verdict)},
                    {"checks", list}});
        return status;
    }
    print("{} on {}: {}\n\n{}", options.name, device->name, device::short_name(verdict), Raw{table.text()});
    for (const convert::DeviceFinding& finding : *findings) {
        if (finding.check.verdict == device::Verdict::pass) continue;
        print("  {}{}: {}\n", finding.key, finding.line > 0 ? fmt::format(" (line {})", finding.line) : "",
              finding.check.why);
    }
    return status;
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
        const bool encodes = p.video.what == What::encode;
        table.add({p.name, p.container,
                   encodes         ? fmt::format("{}{}{}", media::display_name(p.video.codec),
                                         p.video.profile.empty() ? "" : " " + base::capitalized(p.video.profile),
                                         p.video.bit_depth > 8 ? " 10-bit" : "")
                           : p.has_video() ? "as source"
                                   : "none",
                   encodes ? fmt::format("{}x{}", p.video.largest.width, p.video.largest.height) : "",
                   !encodes               ? ""
                   : p.video.peak_bps > 0 ? base::format_bitrate(p.video.peak_bps)
                                          : "no limit",
                   audio_text(p), p.purpose});
    }
    print(
        "{}\nNext: wavecrest profile new NAME --like PROFILE   (your own, in NAME.toml; convert takes it with "
        "--profile "
        "NAME.toml)\n",
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
    if (!options.device.empty()) return check_for_device(options, *found);
    if (options.output.json) {
        print_json(to_json(*found));
    } else {
        print("{}: no errors.\n", options.name);
    }
    return 0;
}

int run_profile_new(const ProfileOptions& options) {
    const bool json = options.output.json;
    const base::Path file = options.file.empty() ? options.name + ".toml" : options.file;
    const auto text = profile::derived_text(options.like, options.name, options.changes);
    if (!text) return report_error(text.error(), json);
    if (const auto status = base::write_file(file, base::as_bytes(*text), base::AtomicFile::IfExists::refuse); !status)
        return report_error(status.error(), json);
    if (json) {
        print_json({{"file", file.string()}, {"name", options.name}, {"like", options.like}});
    } else {
        print(
            "Profile {} in {}, like {}.\nNext: wavecrest profile check '{}' --device CLASS   (what a device could not "
            "play)\n",
            options.name, file.string(), options.like, file.string());
    }
    return 0;
}

}  // namespace wavecrest::cli
