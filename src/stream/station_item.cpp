#include "stream/station_item.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "net/http_client.hpp"
#include "stream/service.hpp"

namespace wavecrest::stream {

Status add_offer(Offers& offers, const std::string& word) {
    if (word == "file") {
        offers.file = true;
    } else if (word == "hls") {
        offers.hls = true;
    } else if (word == "live") {
        offers.live = true;
    } else if (word == "live-hls") {
        offers.live_hls = true;
    } else if (word == "rtmp") {
        offers.rtmp = true;
    } else {
        return fail(ErrorKind::usage, fmt::format("\"{}\" is no way to offer a stream", word), "offer",
                    "write file or hls (every viewer pauses and skips), or live, live-hls or rtmp (the same for all)");
    }
    return {};
}

std::vector<std::string> names_of(const Offers& offers) {
    std::vector<std::string> names;
    if (offers.file) names.emplace_back("file");
    if (offers.hls) names.emplace_back("hls");
    if (offers.live) names.emplace_back("live");
    if (offers.live_hls) names.emplace_back("live-hls");
    if (offers.rtmp) names.emplace_back("rtmp");
    return names;
}

std::string rtmp_name(const std::string& path) {
    const std::string stem = stem_of(path);
    return stem.substr(stem.rfind('/') + 1);
}

std::vector<StationAddress> addresses_of(const StationItem& one, const std::string& host, StationPorts ports) {
    std::vector<StationAddress> all;
    if (one.ports.http != 0 && ports.http != 0) ports.http = one.ports.http;
    if (one.ports.tls != 0 && ports.tls != 0) ports.tls = one.ports.tls;
    if (one.ports.rtmp != 0) ports.rtmp = one.ports.rtmp;
    const std::string query = one.key.empty() ? "" : "?key=" + net::encode_path(one.key);
    const auto http = [&](const char* way, const std::string& path) {
        if (ports.tls != 0) all.push_back({one.name, way, address_for(host, ports.tls, path, true) + query});
        if (ports.http != 0) all.push_back({one.name, way, address_for(host, ports.http, path) + query});
    };
    if (one.offers.file) http("file", one.path);
    if (one.offers.hls) http("hls", hls_path(one.path));
    if (!one.subtitles.empty()) http("subtitles", subtitles_path(one.path));
    if (one.offers.live) http("live", live_path(one.path));
    if (one.offers.live_hls) http("live-hls", live_hls_path(one.path));
    if (one.offers.rtmp)
        all.push_back(
            {one.name, "rtmp",
             net::RtmpAddress{host, ports.rtmp, std::string(kRtmpApplication), rtmp_name(one.path)}.text() + query});
    for (const LiveTarget& target : one.targets)
        all.push_back({one.name, target.rtp ? "rtp" : "udp", address_for(target)});
    return all;
}

std::string protocol_of(const StationAddress& one) {
    if (one.way == "hls" || one.way == "live-hls") return "hls";
    return one.address.substr(0, one.address.find(':'));
}
std::string container_of(const StationAddress& one) {
    return one.way == "live" || one.way == "udp" || one.way == "rtp" ? "mpeg-ts" : "";
}

std::vector<StationAddress> addresses_for(const device::Device& device, std::vector<StationAddress> all) {
    const auto is_secure = [](const StationAddress& one) { return one.address.starts_with("https://"); };
    const bool wanted = device::takes(device, "https") && std::any_of(all.begin(), all.end(), is_secure);
    std::erase_if(
        all, [&](const StationAddress& one) { return net::is_http_address(one.address) && is_secure(one) != wanted; });
    const auto suits = [&](const StationAddress& one) {
        const std::string container = container_of(one);
        return device::takes(device, protocol_of(one)) && (container.empty() || device::reads(device, container));
    };
    // Subtitles go with something.
    const bool any = std::any_of(all.begin(), all.end(),
                                 [&](const StationAddress& one) { return one.way != "subtitles" && suits(one); });
    if (any) std::erase_if(all, [&](const StationAddress& one) { return !suits(one); });
    return all;
}

}  // namespace wavecrest::stream
