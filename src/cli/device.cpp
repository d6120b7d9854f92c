#include "device/device.hpp"

#include <fmt/ranges.h>

#include <algorithm>
#include <nlohmann/json.hpp>

#include "base/atomic_file.hpp"
#include "base/units.hpp"
#include "cli/commands.hpp"
#include "render/table.hpp"
#include "report/media_json.hpp"

namespace wavecrest::cli {
namespace {

std::string audio_names(const device::Device& d) {
    // By layout: "aac ac3 5.1, mp3 stereo".
    std::vector<std::pair<int, std::string>> groups;
    for (const auto& a : d.audio) {
        auto group = std::find_if(groups.begin(), groups.end(), [&](const auto& g) { return g.first == a.channels; });
        if (group == groups.end()) group = groups.insert(groups.end(), {a.channels, ""});
        group->second += std::string(media::display_name(a.codec)) + " ";
    }
    std::vector<std::string> names;
    for (const auto& [channels, codecs] : groups) names.push_back(codecs + media::channel_layout(channels));
    return fmt::format("{}", fmt::join(names, ", "));
}

// What says most of a device: its first kind of video.
std::string video_names(const device::VideoAbility& v) {
    return fmt::format(
        "{} {}{}, {}x{}{}", media::display_name(v.codec), v.profiles.empty() ? "all profiles" : v.profiles.back(),
        v.level.empty() ? "" : ", level " + v.level, v.largest.width, v.largest.height, v.hdr.empty() ? "" : ", HDR");
}

std::string rate_name(const device::Device& d) {
    return d.highest_bps > 0 ? base::format_bitrate(d.highest_bps) : "no limit";
}

// How its player chooses among bit rates (measure/adaptation.hpp), in two lines.
std::pair<std::string, std::string> adapting_in_words(const device::Adapting& a) {
    return {fmt::format("starts with the {} rung; peak at most {:.0f} % of the link (cautious: {:.0f} %)",
                        a.first_listed ? "first listed" : "lowest", a.link_share * 100, a.cautious_share * 100),
            fmt::format("up {}, down {}; {} late segments",
                        a.rungs_up == 1 ? "one rung at a time" : fmt::format("{} rungs at a time", a.rungs_up),
                        a.holds_rung ? "when its buffer is short" : "at once",
                        a.abandons_segments ? "abandons" : "waits for")};
}

void print_device(const device::Device& d) {
    const auto line = [](const char* what, const std::string& text) {
        if (!text.empty()) print("  {:<12} {}\n", what, text);
    };
    print("{}: {}\n", d.name, d.description);
    line("containers", fmt::format("{}", fmt::join(d.containers, ", ")));
    line("protocols", fmt::format("{}", fmt::join(d.protocols, ", ")));
    for (const auto& v : d.video)
        line("video", fmt::format("{}: {}", media::display_name(v.codec), device::in_words(v)));
    if (d.video.empty()) line("video", "none");
    line("audio", audio_names(d));
    std::vector<std::string_view> subtitles;
    for (const Codec codec : d.subtitles) subtitles.push_back(media::display_name(codec));
    line("subtitles",
         subtitles.empty() ? "none of a file: burn them in" : fmt::format("{}", fmt::join(subtitles, ", ")));
    line("max bit rate", rate_name(d));
    const device::Playing& playing = d.playing;
    line("player",
         fmt::format(
             "starts after {} of media, goes on after a stall with {}{}, buffers {}",
             base::format_span(playing.start_buffer), base::format_span(playing.resume_buffer),
             playing.resume_growth > 1 ? fmt::format(" ({:g} times as much each time)", playing.resume_growth) : "",
             base::format_span(playing.buffer)));
    if (device::takes(d, "hls")) {
        const auto [chooses, changes] = adapting_in_words(playing.adapting);
        line("ladders", chooses);
        line("", changes);
    }
    if (device::takes(d, "hls")) line("", playing.adapting.trouble);
    line("basis", d.basis);
    if (d.tried.empty()) return;
    render::Table table({"tried", "browser says", "result", "seen"});
    for (const device::Tried& one : d.tried) table.add({one.what, one.says, one.result, one.seen});
    print("\n{}", Raw{table.text(2)});
}

}  // namespace

int run_device_list(const DeviceOptions& options) {
    if (options.output.json) {
        nlohmann::ordered_json result = {{"devices", nlohmann::ordered_json::array()}};
        for (const device::Device& d : device::built_in()) result["devices"].push_back(report::to_json(d));
        print_json(result);
        return 0;
    }
    render::Table table({"class", "video", "max bit rate", "description"});
    for (const device::Device& d : device::built_in())
        table.add({d.name, d.video.empty() ? "none" : video_names(d.video.front()), rate_name(d), d.description});
    print(
        "{}\nA player with an audio receiver behind it: CLASS+CLASS, e.g. tv-hd+receiver-optical.\n"
        "Next: wavecrest device show CLASS, or wavecrest convert FILE --device CLASS --plan\n",
        Raw{table.text()});
    return 0;
}

int run_device_show(const DeviceOptions& options) {
    const auto found = device::find(options.name);
    if (!found) return report_error(found.error(), options.output.json);
    if (options.output.json) {
        print_json(report::to_json(*found));
    } else {
        print_device(*found);
    }
    return 0;
}

int run_device_new(const DeviceOptions& options) {
    const bool json = options.output.json;
    const base::Path file = options.file.empty() ? options.name + ".toml" : options.file;
    const auto text = device::derived_text(options.like, options.name);
    if (!text) return report_error(text.error(), json);
    if (const auto status = base::write_file(file, base::as_bytes(*text), base::AtomicFile::IfExists::refuse); !status)
        return report_error(status.error(), json);
    if (json) {
        print_json({{"file", file.string()}, {"name", options.name}, {"like", options.like}});
    } else {
        print("Device {} in {}, like {}. Change in it what differs.\nNext: wavecrest device check '{}'\n", options.name,
              file.string(), options.like, file.string());
    }
    return 0;
}

int run_device_check(const DeviceOptions& options) {
    const bool json = options.output.json;
    const auto found = device::find(options.name);
    if (!found) return report_error(found.error(), json);
    const auto lacks = device::doubts(*found);
    if (json) {
        print_json({{"device", report::to_json(*found)}, {"warnings", lacks}});
        return 0;
    }
    print_device(*found);
    for (const std::string& text : lacks) print("  warning      {}\n", text);
    print("\nNo errors{}.\nNext: wavecrest convert FILE --device '{}' --plan\n",
          lacks.empty() ? "" : fmt::format(", {} warning{}", lacks.size(), lacks.size() == 1 ? "" : "s"), options.name);
    return 0;
}

int run_device_compare(const DeviceOptions& options) {
    const bool json = options.output.json;
    const auto first = device::find(options.name);
    if (!first) return report_error(first.error(), json);
    const auto second = device::find(options.other);
    if (!second) return report_error(second.error(), json);
    const auto rows = device::compare(*first, *second);
    if (json) {
        auto list = nlohmann::ordered_json::array();
        for (const device::Difference& row : rows)
            list.push_back({{"what", row.what}, {"first", row.first}, {"second", row.second}});
        print_json({{"first", first->name}, {"second", second->name}, {"differences", list}});
        return 0;
    }
    if (rows.empty()) {
        print("{} and {} play the same.\n", first->name, second->name);
        return 0;
    }
    render::Table table({"", first->name, second->name});
    for (const device::Difference& row : rows) table.add({row.what, row.first, row.second});
    print("{}\nWhat is not listed is the same for both.\n", Raw{table.text()});
    return 0;
}

}  // namespace wavecrest::cli
