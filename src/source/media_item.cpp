#include "source/media_item.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "container/reader.hpp"

namespace wavecrest::source {

upnp::Resource resource_of(const Title& title, const std::string& container, const std::string& address,
                           bool seeks_by_time) {
    upnp::Resource r;
    r.address = address;
    const bool playlist = container == "hls";
    upnp::TransferTraits traits;
    traits.seeks_by_bytes = !playlist && title.duration.count() > 0;
    traits.seeks_by_time = seeks_by_time && title.duration.count() > 0;
    traits.live = title.duration.count() == 0;
    const bool video = std::any_of(title.tracks.begin(), title.tracks.end(),
                                   [](const Track& t) { return t.kind == TrackKind::video; });
    std::string type = playlist ? "application/vnd.apple.mpegurl" : container::media_type(container);
    // Where nothing is known of the tracks, it is a film.
    if (!video && !title.tracks.empty() && container == "mp4") type = "audio/mp4";
    r.protocol_info = upnp::ProtocolInfo{"http-get", "*", type, upnp::extra_fields(traits)}.text();
    if (title.duration.count() > 0) r.duration = title.duration;
    if (!playlist) r.size = title.size_bytes;
    if (title.duration.count() > 0 && title.size_bytes > 0)
        r.bitrate_bps =
            static_cast<std::int64_t>(static_cast<double>(title.size_bytes) * 8 / base::to_seconds(title.duration));
    for (const Track& track : title.tracks) {
        if (track.kind == TrackKind::video && r.resolution.empty() && track.width > 0)
            r.resolution = fmt::format("{}x{}", track.width, track.height);
        if (track.kind == TrackKind::audio && r.channels == 0) {
            r.channels = track.channels;
            r.sample_rate = track.sample_rate;
        }
    }
    return r;
}

std::string upnp_class_of(const Title& title) {
    const bool video = std::any_of(title.tracks.begin(), title.tracks.end(),
                                   [](const Track& t) { return t.kind == TrackKind::video; });
    return video || title.tracks.empty() ? "object.item.videoItem.movie" : "object.item.audioItem.musicTrack";
}

upnp::Object item_of(const std::string& title, const std::string& address, const Input* input) {
    upnp::Object item;
    item.id = "1";
    item.parent = "0";
    item.title = title;
    const Title* known = input != nullptr && !input->titles().empty() ? &input->titles().front() : nullptr;
    if (known != nullptr) {
        item.upnp_class = upnp_class_of(*known);
        item.resources.push_back(resource_of(*known, input->container(), address));
    } else {
        item.resources.push_back({address, "http-get:*:*:*", {}, 0, 0, "", 0, 0});
    }
    return item;
}

}  // namespace wavecrest::source
