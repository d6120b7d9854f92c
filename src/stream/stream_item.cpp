#include "stream/stream_item.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/address.hpp"
#include "container/ladder.hpp"
#include "net/url.hpp"
#include "stream/service.hpp"

namespace wavecrest::stream {

Status add_delivery(Deliveries& deliveries, const std::string& word) {
    if (word == "file") {
        deliveries.file = true;
    } else if (word == "hls") {
        deliveries.hls = true;
    } else if (word == "live") {
        deliveries.live = true;
    } else if (word == "live-hls") {
        deliveries.live_hls = true;
    } else if (word == "rtmp") {
        deliveries.rtmp = true;
    } else if (word == "ladder") {
        deliveries.ladder = true;
    } else {
        return fail(
            ErrorKind::usage, fmt::format("unknown delivery \"{}\"", word), "delivery",
            "use file or hls (on demand), live, live-hls or rtmp (live, shared), or ladder (several bit rates)");
    }
    return {};
}

std::vector<std::string> names_of(const Deliveries& deliveries) {
    std::vector<std::string> names;
    if (deliveries.file) names.emplace_back("file");
    if (deliveries.hls) names.emplace_back("hls");
    if (deliveries.ladder || deliveries.live_ladder) names.emplace_back("ladder");
    if (deliveries.live) names.emplace_back("live");
    if (deliveries.live_hls) names.emplace_back("live-hls");
    if (deliveries.rtmp) names.emplace_back("rtmp");
    return names;
}

std::string rtmp_name(const std::string& path) {
    const std::string stem = stem_of(path);
    return stem.substr(stem.rfind('/') + 1);
}

std::vector<StreamAddress> addresses_of(const ServedStream& one, const std::string& host, ServerPorts ports) {
    std::vector<StreamAddress> all;
    if (one.ports.http != 0 && ports.http != 0) ports.http = one.ports.http;
    if (one.ports.tls != 0 && ports.tls != 0) ports.tls = one.ports.tls;
    if (one.ports.rtmp != 0) ports.rtmp = one.ports.rtmp;
    const std::string query = one.key.empty() ? "" : "?key=" + net::encode_path(one.key);
    const auto http = [&](const char* way, const std::string& path) {
        if (ports.tls != 0) all.push_back({one.name, way, address_for(host, ports.tls, path, true) + query});
        if (ports.http != 0) all.push_back({one.name, way, address_for(host, ports.http, path) + query});
    };
    if (one.deliveries.file) http("file", one.path);
    if (one.deliveries.hls) http("hls", hls_path(one.path));
    if (!one.subtitles.empty()) http("subtitles", subtitles_path(one.path));
    if (one.deliveries.live) http("live", live_path(one.path));
    if (one.deliveries.live_hls) http("live-hls", live_hls_path(one.path));
    if (one.deliveries.ladder || one.deliveries.live_ladder) {
        http("ladder", ladder_folder(one.path) + std::string(container::kLadderPlaylist));
        http("ladder-dash", ladder_folder(one.path) + std::string(container::kLadderManifest));
    }
    if (one.deliveries.rtmp)
        all.push_back(
            {one.name, "rtmp",
             net::RtmpAddress{host, ports.rtmp, std::string(kRtmpApplication), rtmp_name(one.path)}.text() + query});
    for (const LiveTarget& target : one.targets)
        all.push_back({one.name, target.rtp ? "rtp" : "udp", address_for(target)});
    return all;
}

std::string protocol_of(const StreamAddress& one) {
    if (one.delivery == "hls" || one.delivery == "live-hls" || one.delivery == "ladder") return "hls";
    if (one.delivery == "ladder-dash") return "dash";
    return one.address.substr(0, one.address.find(':'));
}
std::string container_of(const StreamAddress& one) {
    return one.delivery == "live" || one.delivery == "udp" || one.delivery == "rtp" ? "mpeg-ts" : "";
}

std::vector<StreamAddress> addresses_for(const device::Device& device, std::vector<StreamAddress> all) {
    const auto is_secure = [](const StreamAddress& one) {
        return base::Address(one.address).scheme() == base::Scheme::https;
    };
    const bool wanted = device::takes(device, "https") && std::any_of(all.begin(), all.end(), is_secure);
    std::erase_if(
        all, [&](const StreamAddress& one) { return base::is_web_address(one.address) && is_secure(one) != wanted; });
    const auto suits = [&](const StreamAddress& one) {
        const std::string container = container_of(one);
        return device::takes(device, protocol_of(one)) && (container.empty() || device::reads(device, container));
    };
    // One form of a ladder is enough.
    if (device::takes(device, "hls"))
        std::erase_if(all, [](const StreamAddress& one) { return one.delivery == "ladder-dash"; });
    // Subtitles go with something.
    const bool any = std::any_of(all.begin(), all.end(),
                                 [&](const StreamAddress& one) { return one.delivery != "subtitles" && suits(one); });
    if (any) std::erase_if(all, [&](const StreamAddress& one) { return !suits(one); });
    return all;
}

}  // namespace wavecrest::stream
