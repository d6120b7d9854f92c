#include "device/device.hpp"

#include <fmt/ranges.h>

#include <algorithm>
#include <nlohmann/json.hpp>

#include "base/units.hpp"
#include "cli/commands.hpp"
#include "render/table.hpp"

namespace wavecrest::cli {
namespace {

nlohmann::ordered_json to_json(const device::Device& d) {
    nlohmann::ordered_json json = {{"name", d.name},
                                   {"description", d.description},
                                   {"containers", d.containers},
                                   {"max_bitrate_bps", d.highest_bps},
                                   {"start_buffer_s", base::to_seconds(d.start_buffer)},
                                   {"buffer_s", base::to_seconds(d.buffer)}};
    json["protocols"] = d.protocols;
    json["video"] = nlohmann::ordered_json::array();
    for (const auto& v : d.video) {
        json["video"].push_back({{"codec", media::short_name(v.codec)},
                                 {"profiles", v.profiles},
                                 {"level", v.level},
                                 {"max_size", fmt::format("{}x{}", v.largest.width, v.largest.height)},
                                 {"max_fps", v.max_fps}});
    }
    json["audio"] = nlohmann::ordered_json::array();
    for (const auto& a : d.audio)
        json["audio"].push_back({{"codec", media::short_name(a.codec)}, {"channels", a.channels}});
    return json;
}

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

std::string video_names(const device::VideoAbility& v) {
    const std::string_view codec = media::display_name(v.codec);
    return fmt::format("{} {}{}, {}x{}", codec, v.profiles.empty() ? "all profiles" : v.profiles.back(),
                       v.level.empty() ? "" : ", level " + v.level, v.largest.width, v.largest.height);
}

}  // namespace

int run_device_list(const DeviceOptions& options) {
    if (options.output.json) {
        nlohmann::ordered_json result = {{"devices", nlohmann::ordered_json::array()}};
        for (const device::Device& d : device::built_in()) result["devices"].push_back(to_json(d));
        print_json(result);
        return 0;
    }
    render::Table table({"class", "video", "audio", "max bit rate", "description"});
    for (const device::Device& d : device::built_in()) {
        table.add({d.name, d.video.empty() ? "audio only" : video_names(d.video.front()), audio_names(d),
                   base::format_bitrate(d.highest_bps), d.description});
    }
    print("{}\nNext: wavecrest device show CLASS, or wavecrest site new --device 'NAME,CLASS,LINK'\n",
          Raw{table.text()});
    return 0;
}

int run_device_show(const DeviceOptions& options) {
    const auto found = device::find(options.name);
    if (!found) return report_error(found.error(), options.output.json);
    if (options.output.json) {
        print_json(to_json(*found));
        return 0;
    }
    print("{}: {}\n  containers   {}\n", found->name, found->description,
          fmt::format("{}", fmt::join(found->containers, ", ")));
    for (const auto& v : found->video) {
        print("  video        {}: {};{} up to {}x{} at {:g} fps; {} bits\n", media::display_name(v.codec),
              v.profiles.empty() ? "all profiles" : fmt::format("{}", fmt::join(v.profiles, ", ")),
              v.level.empty() ? "" : " level " + v.level + ";", v.largest.width, v.largest.height, v.max_fps,
              v.bit_depth);
    }
    print("  protocols    {}\n", fmt::format("{}", fmt::join(found->protocols, ", ")));
    print("  audio        {}\n  highest rate {}\n  player       starts after {} of media, reads ahead {}\n",
          audio_names(*found), base::format_bitrate(found->highest_bps), base::format_span(found->start_buffer),
          base::format_span(found->buffer));
    return 0;
}

}  // namespace wavecrest::cli
