#include "transcode/complete.hpp"

#include <algorithm>

#include "bitstream/headers.hpp"

namespace wavecrest::transcode {

Status complete(PacketSource& source, std::vector<Track>& tracks, std::vector<Packet>& read) {
    constexpr std::size_t kMost = 2000;
    const auto whole = [&] {
        return std::all_of(tracks.begin(), tracks.end(), [&](const Track& track) {
            return track.kind == TrackKind::subtitle ||
                   std::any_of(read.begin(), read.end(), [&](const Packet& p) { return p.track == track.id; });
        });
    };
    // What the source itself has learnt by then counts first.
    const auto learn = [&] {
        for (Track& track : tracks) {
            if (!track.codec_config.empty()) continue;
            for (const Track& now : source.tracks()) {
                if (now.id == track.id && now.codec == track.codec && !now.codec_config.empty()) track = now;
            }
        }
    };
    while (!whole() && read.size() < kMost) {
        WAVECREST_TRY_ASSIGN(packet, source.read());
        if (!packet) break;
        learn();
        for (Track& track : tracks) {
            const bool first =
                track.id == packet->track &&
                std::none_of(read.begin(), read.end(), [&](const Packet& p) { return p.track == track.id; });
            if (!first) continue;
            const Ratio rate = track.frame_rate, aspect = track.pixel_aspect;
            const Scan scan = track.scan;
            bitstream::describe_headers(track, packet->data.view());
            if (rate.num > 0) track.frame_rate = rate;
            track.pixel_aspect = aspect;
            if (scan != Scan::unknown) track.scan = scan;
        }
        read.push_back(std::move(*packet));
    }
    return {};
}

}  // namespace wavecrest::transcode
