#include "report/media_json.hpp"

#include <fmt/format.h>
#include <algorithm>

#include <cmath>

#include "base/units.hpp"
#include "bitstream/headers.hpp"
#include "media/language.hpp"

namespace wavecrest::report {
namespace {

double rounded(double value) {
    return std::round(value * 1000) / 1000;
}

}  // namespace

nlohmann::ordered_json to_json(const Track& track) {
    nlohmann::ordered_json json = {
        {"id", track.id}, {"kind", media::short_name(track.kind)}, {"codec", media::short_name(track.codec)}};
    if (!track.profile.empty()) json["profile"] = track.profile;
    if (!track.level.empty()) json["level"] = track.level;
    if (const std::string web = bitstream::codec_string(track); !web.empty()) json["codec_string"] = web;
    if (!track.name.empty()) json["name"] = track.name;
    if (track.kind == TrackKind::video) {
        json["width"] = track.width;
        json["height"] = track.height;
        const Ratio aspect = track.display_aspect();
        json["display_aspect"] = fmt::format("{}:{}", aspect.num, aspect.den);
        json["frame_rate"] = fmt::format("{}/{}", track.frame_rate.num, track.frame_rate.den);
        json["scan"] = media::short_name(track.scan);
        json["bit_depth"] = track.bit_depth;
        if (track.closed_captions) json["closed_captions"] = true;
        if (track.rotation != 0) json["rotation"] = track.rotation;
        if (track.frame_packing) {
            using View = FramePacking::View;
            json["frame_packing"] = {{"arrangement", media::short_name(track.frame_packing->arrangement)},
                                     {"first_view", track.frame_packing->first == View::left    ? "left"
                                                    : track.frame_packing->first == View::right ? "right"
                                                                                                : "unknown"}};
        }
        if (track.layers != media::Layers::none)
            json["layers"] = track.layers == media::Layers::scalable ? "scalable" : "second-view";
        if (track.content_light)
            json["content_light"] = {{"max_content", track.content_light->max_content},
                                     {"max_frame_average", track.content_light->max_frame_average}};
        if (track.mastering_display) {
            json["mastering_display"] = {
                {"max_cd_m2", static_cast<double>(track.mastering_display->max_luminance) / 10000},
                {"min_cd_m2", static_cast<double>(track.mastering_display->min_luminance) / 10000}};
        }
        json["colour"] = {{"primaries", track.colour.primaries},
                          {"transfer", track.colour.transfer},
                          {"matrix", track.colour.matrix},
                          {"full_range", track.colour.full_range}};
    } else if (track.kind == TrackKind::audio) {
        json["channels"] = track.channels;
        json["layout"] = media::channel_layout(track);
        json["purpose"] = media::short_name(track.purpose);
        json["sample_rate"] = track.sample_rate;
        if (track.bit_depth > 0) json["bit_depth"] = track.bit_depth;
    } else {
        json["forced"] = track.forced;
        json["purpose"] = media::short_name(track.purpose);
    }
    json["language"] = track.language.empty() ? "und" : media::language_639_2(track.language);
    if (track.bitrate_bps > 0) json["bitrate_bps"] = track.bitrate_bps;
    if (track.duration.count() > 0) json["duration_s"] = rounded(base::to_seconds(track.duration));
    return json;
}

nlohmann::ordered_json to_json(const std::vector<Problem>& problems) {
    auto json = nlohmann::ordered_json::array();
    for (const Problem& problem : problems) {
        json.push_back({{"what", problem.what},
                        {"from_s", rounded(base::to_seconds(problem.from))},
                        {"to_s", rounded(base::to_seconds(problem.to))}});
    }
    return json;
}

nlohmann::ordered_json to_json(const std::vector<Chapter>& chapters) {
    auto json = nlohmann::ordered_json::array();
    for (const Chapter& chapter : chapters)
        json.push_back({{"start_s", rounded(base::to_seconds(chapter.start))}, {"name", chapter.name}});
    return json;
}

Json to_json(const device::Device& device) {
    Json json = {{"name", device.name},
                 {"description", device.description},
                 {"basis", device.basis},
                 {"containers", device.containers},
                 {"max_bitrate_bps", device.highest_bps},
                 {"start_buffer_s", base::to_seconds(device.playing.start_buffer)},
                 {"start_delay_s", base::to_seconds(device.playing.start_delay)},
                 {"resume_buffer_s", base::to_seconds(device.playing.resume_buffer)},
                 {"resume_growth", device.playing.resume_growth},
                 {"max_resume_buffer_s", base::to_seconds(device.playing.max_resume_buffer)},
                 {"buffer_s", base::to_seconds(device.playing.buffer)},
                 {"refill_s", base::to_seconds(device.playing.refill)},
                 {"buffer_size_bytes", device.playing.buffer_size},
                 {"refill_size_bytes", device.playing.refill_size},
                 {"read_size_bytes", device.playing.read_size},
                 {"hls_buffer_s", base::to_seconds(device.playing.hls_buffer)},
                 {"hls_refill_s", base::to_seconds(device.playing.hls_refill)},
                 {"whole_segments", device.playing.whole_segments},
                 {"live_probe_bytes", device.playing.live_probe},
                 {"live_restart", device.playing.live_restart},
                 {"live_catch_up", device.playing.live_catch_up},
                 {"seek", device.playing.seeks_exactly ? "exact" : "keyframe"},
                 {"read_through_bytes", device.playing.read_through},
                 {"finishes_segment", device.playing.finishes_segment}};
    const device::Adapting& adapting = device.playing.adapting;
    json["adaptive"] = {{"link_share", adapting.link_share},
                        {"cautious_share", adapting.cautious_share},
                        {"measured_segments", adapting.measured_segments},
                        {"secure_buffer_s", base::to_seconds(adapting.secure_buffer)},
                        {"low_buffer_s", base::to_seconds(adapting.low_buffer)},
                        {"first_rung", adapting.first_listed ? "listed" : "lowest"},
                        {"rungs_up", adapting.rungs_up},
                        {"holds_rung", adapting.holds_rung},
                        {"abandons_segments", adapting.abandons_segments},
                        {"trouble", adapting.trouble}};
    json["protocols"] = device.protocols;
    json["video"] = Json::array();
    for (const device::VideoAbility& one : device.video) {
        Json scans = Json::array();
        for (const Scan scan : one.scans) scans.push_back(media::short_name(scan));
        json["video"].push_back({{"codec", media::short_name(one.codec)},
                                 {"profiles", one.profiles},
                                 {"level", one.level},
                                 {"max_size", fmt::format("{}x{}", one.largest.width, one.largest.height)},
                                 {"max_fps", one.max_fps},
                                 {"scans", scans},
                                 {"bit_depth", one.bit_depth},
                                 {"hdr", one.hdr}});
    }
    json["audio"] = Json::array();
    for (const device::AudioAbility& one : device.audio) {
        json["audio"].push_back({{"codec", media::short_name(one.codec)}, {"channels", one.channels}});
        if (!one.containers.empty()) json["audio"].back()["containers"] = one.containers;
    }
    json["subtitles"] = Json::array();
    for (const Codec codec : device.subtitles) json["subtitles"].push_back(media::short_name(codec));
    for (const device::Tried& one : device.tried)
        json["tried"].push_back(
            {{"what", one.what}, {"says", one.says}, {"result", one.result}, {"seen", one.seen}, {"when", one.when}});
    return json;
}

}  // namespace wavecrest::report
