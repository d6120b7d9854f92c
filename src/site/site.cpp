#include "site/site.hpp"

#include <fmt/format.h>
#include <algorithm>

#include "host/network.hpp"
#include "site/encode.hpp"

namespace wavecrest::site {
bool SiteStream::meant_for(const std::string& device) const {
    return devices.empty() || std::find(devices.begin(), devices.end(), device) != devices.end();
}

bool SiteStream::goes_other_ways() const {
    const stream::Deliveries& to = item.deliveries;
    return to.live || to.live_hls || to.rtmp || !item.targets.empty() || !item.push.empty();
}

std::string Site::host() const {
    return !advertise.empty() ? advertise : !listen.empty() ? listen : host::best_address();
}
std::vector<stream::StreamAddress> Site::addresses_of(const SiteStream& s) const {
    return stream::addresses_of(
        s.item, host(), {plain_http ? port : std::uint16_t{0}, certificate ? tls_port : std::uint16_t{0}, rtmp_port});
}
std::vector<stream::StreamAddress> Site::addresses_for(const SiteStream& s, const SiteDevice& d) const {
    return stream::addresses_for(d.device, addresses_of(s));
}
stream::StreamServerSettings Site::server_settings() const {
    stream::StreamServerSettings settings;
    settings.address = listen;
    settings.announced = advertise;
    settings.http = plain_http;
    settings.http_port = port;
    settings.rtmp_port = rtmp_port;
    settings.certificate = certificate;
    settings.tls_port = tls_port;
    settings.memory = memory;
    settings.udp = udp;
    return settings;
}
std::string Site::address_of(const SiteStream& s) const {
    const auto all = addresses_of(s);
    return all.empty() ? "" : all.front().address;
}

Result<std::vector<stream::ServedStream>> Site::items() const {
    std::vector<stream::ServedStream> result;
    for (const SiteStream& s : streams) {
        result.push_back(s.item);
        if (s.item.deliveries.live_ladder && !s.item.published()) {
            const Cancel never;
            auto ladder = plan_ladder(s.item.parts.front(), s.profile, s.goes_other_ways(), false, never);
            if (!ladder) {
                Error about = ladder.error();
                about.what = fmt::format("stream \"{}\": {}", s.name(), about.what);
                return fail(std::move(about));
            }
            result.back().transcode = std::move(ladder->graph);
            result.back().ladder = std::move(ladder->tracks);
            continue;
        }
        if (s.profile.empty()) continue;
        auto graph = plan_encode(s.item.parts.front(), s.profile);
        if (!graph) {
            Error about = graph.error();
            about.what = fmt::format("stream \"{}\": {}", s.name(), about.what);
            return fail(std::move(about));
        }
        result.back().transcode = std::move(*graph);
    }
    return result;
}

}  // namespace wavecrest::site
