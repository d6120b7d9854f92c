#include "cli/media_text.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/units.hpp"
#include "bitstream/headers.hpp"
#include "media/language.hpp"

namespace wavecrest::cli {
namespace {

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
