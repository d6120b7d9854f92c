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

namespace {

// How what is published is encoded is planned when it comes.
Result<stream::LiveEncode> plan_published(const stream::Part& part, const std::string& profile, bool ladder,
                                          bool others) {
    const Cancel never;
    if (!ladder) {
        WAVECREST_TRY_ASSIGN(graph, plan_encode(part, profile));
        return stream::LiveEncode{std::move(graph), {}};
    }
    WAVECREST_TRY_ASSIGN(made, plan_ladder(part, profile, others, true, never));
    return stream::LiveEncode{std::move(made.graph), std::move(made.tracks)};
}

Status add_encode(const SiteStream& s, stream::ServedStream& to) {
    const bool ladder = s.item.deliveries.live_ladder;
    if (s.item.published()) {
        if (!ladder && s.profile.empty()) return {};
        if (!s.profile.empty()) WAVECREST_TRY(check_profile(s.profile));
        const bool others = s.item.deliveries.live || s.item.deliveries.live_hls || !s.item.targets.empty();
        to.plan = [profile = s.profile, ladder, others](const stream::Part& part) {
            return plan_published(part, profile, ladder, others);
        };
        return {};
    }
    if (ladder) {
        const Cancel never;
        WAVECREST_TRY_ASSIGN(made, plan_ladder(s.item.parts.front(), s.profile, s.goes_other_ways(), false, never));
        to.transcode = std::move(made.graph);
        to.ladder = std::move(made.tracks);
    } else if (!s.profile.empty()) {
        WAVECREST_TRY_ASSIGN(graph, plan_encode(s.item.parts.front(), s.profile));
        to.transcode = std::move(graph);
    }
    return {};
}

}  // namespace

Result<std::vector<stream::ServedStream>> Site::items() const {
    std::vector<stream::ServedStream> result;
    for (const SiteStream& s : streams) {
        result.push_back(s.item);
        const Status added = add_encode(s, result.back());
        if (added) continue;
        Error about = added.error();
        about.what = fmt::format("stream \"{}\": {}", s.name(), about.what);
        return fail(std::move(about));
    }
    return result;
}

}  // namespace wavecrest::site
