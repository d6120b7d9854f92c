#include "cli/media_json.hpp"

#include <fmt/format.h>
#include <algorithm>

#include <cmath>

#include "base/units.hpp"
#include "bitstream/headers.hpp"
#include "media/language.hpp"

namespace wavecrest::cli {
namespace {

double rounded(double value) {
    return std::round(value * 1000) / 1000;
}

std::string scan_name(Scan scan) {
    switch (scan) {
        case Scan::progressive:
            return "progressive";
        case Scan::interlaced:
            return "interlaced";
        case Scan::pulldown:
            return "film, 3:2 pulldown";
        case Scan::unknown:
            break;
    }
    return "scan type unknown";
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

std::vector<std::string> names_of(const std::vector<Track>& tracks) {
    std::vector<std::string> names;
    for (const Track& track : tracks) {
        const auto same = [&](const Track& other) { return other.kind == track.kind; };
        const auto all = std::count_if(tracks.begin(), tracks.end(), same);
        const auto before =
            std::count_if(tracks.begin(), tracks.begin() + static_cast<std::ptrdiff_t>(names.size()), same);
        names.push_back(std::string(media::short_name(track.kind)) + (all > 1 ? fmt::format(" {}", before + 1) : ""));
    }
    return names;
}

std::string describe(const Track& track) {
    // Some profiles have the codec's name in them.
    std::string codec(media::display_name(track.codec));
    if (track.profile.find(codec) != std::string::npos) {
        codec = track.profile;
    } else if (!track.profile.empty()) {
        codec += " " + track.profile;
    }
    if (!track.level.empty()) codec += ", level " + track.level;
    std::string text;
    if (track.kind == TrackKind::video) {
        text =
            fmt::format("{}, {}x{}, display aspect {}, {}, {}, {}", codec, track.width, track.height,
                        media::aspect_name(track.display_aspect()),
                        track.frame_rate.num > 0 ? base::format_rate(track.frame_rate) + " fps" : "variable frame rate",
                        scan_name(track.scan), media::describe(track.colour));
        if (track.colour.matrix == 2) text = text.substr(0, text.rfind(',')) + ", colour not specified";
    } else if (track.kind == TrackKind::audio) {
        text = fmt::format("{}, {}, {:g} kHz, {}", codec, media::channel_layout(track), track.sample_rate / 1000.0,
                           media::language_name(track.language));
        if (track.codec == Codec::lpcm) text += fmt::format(", {} bits", track.bit_depth);
    } else {
        text = fmt::format("{}, {}{}", codec, media::language_name(track.language), track.forced ? ", forced" : "");
    }
    if (track.purpose != Purpose::main) text += fmt::format(", {}", media::short_name(track.purpose));
    if (track.kind == TrackKind::video && track.bit_depth > 8) text += fmt::format(", {} bits", track.bit_depth);
    if (track.mastering_display || track.content_light) text += ", HDR10 metadata";
    if (track.rotation != 0) text += fmt::format(", rotated {} degrees", track.rotation);
    if (track.closed_captions) text += ", closed captions";
    if (track.frame_packing) text += ", " + media::describe(*track.frame_packing);
    if (track.layers == media::Layers::second_view) text += ", second 3D view (MVC) not supported";
    if (track.layers == media::Layers::scalable) text += ", scalable (SVC), not supported";
    if (!track.name.empty()) text += fmt::format(", \"{}\"", track.name);
    if (track.bitrate_bps > 0) text += ", " + base::format_bitrate(track.bitrate_bps);
    return text;
}

}  // namespace wavecrest::cli
