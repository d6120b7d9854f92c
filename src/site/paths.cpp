#include "site/paths.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "base/units.hpp"
#include "stream/service.hpp"

namespace wavecrest::site {
namespace {

Time stalled(const verify::Verification& v) {
    Time total{};
    for (const measure::Stall& stall : v.stalls) total += stall.length;
    return total;
}

Time mean_seek(const verify::Verification& v) {
    Time total{};
    for (const verify::SeekOrder& seek : v.seeks) total += seek.first_picture;
    return v.seeks.empty() ? Time{} : total / static_cast<std::int64_t>(v.seeks.size());
}

std::string told(const std::vector<measure::Stall>& stalls, Time total) {
    return stalls.empty()
               ? "none"
               : fmt::format("{}, {} total", base::format_count(stalls.size(), "stall"), base::format_span(total));
}

}  // namespace

const char* in_words(Smoother smoother) {
    switch (smoother) {
        case Smoother::straight:
            return "straight from the share is smoother";
        case Smoother::through:
            return "through Wavecrest is smoother";
        case Smoother::neither:
            return "it plays on neither path";
        case Smoother::alike:
            break;
    }
    return "both paths are alike; straight from the share leaves the server of the streams free";
}

PathComparison compare(verify::Verification straight, verify::Verification through) {
    PathComparison both{std::move(straight), std::move(through), Smoother::alike, ""};
    const verify::Verification &a = both.straight, &b = both.through;
    const auto decide = [&](bool first_is_better, std::string why) {
        both.smoother = first_is_better ? Smoother::straight : Smoother::through;
        both.why = std::move(why);
    };
    const Time noticed = base::from_seconds(0.3);
    const auto times = [&](const char* what, Time x, Time y) {
        if (std::chrono::abs(x - y) <= noticed) return false;
        decide(x < y, fmt::format("{} {} against {}", what, base::format_span(std::min(x, y)),
                                  base::format_span(std::max(x, y))));
        return true;
    };
    if (a.verdict == device::Verdict::fail && b.verdict == device::Verdict::fail) {
        both.smoother = Smoother::neither;
        both.why = b.summary;
    } else if (a.verdict != b.verdict) {
        const verify::Verification& worse = a.verdict > b.verdict ? a : b;
        decide(a.verdict < b.verdict, fmt::format("on the other path: {}", worse.summary));
    } else if (std::chrono::abs(stalled(a) - stalled(b)) > noticed) {
        const bool first = stalled(a) < stalled(b);
        const verify::Verification &good = first ? a : b, &bad = first ? b : a;
        decide(first,
               fmt::format("stalls: {} against {}", told(good.stalls, stalled(good)), told(bad.stalls, stalled(bad))));
    } else if (!times("starts after", a.startup, b.startup)) {
        times("seeks take", mean_seek(a), mean_seek(b));
    }
    return both;
}

bool plays_straight(const device::Device& device, const base::Address& file) {
    return file.is_share() && device::takes(device, file.scheme() == base::Scheme::smb ? "smb" : "nfs");
}

Result<PathComparison> try_both_paths(const base::Address& file, const device::Device& device, const device::Link& link,
                                      const Cancel& cancel) {
    stream::StreamItem item;
    item.name = "film";
    item.file = file;
    WAVECREST_TRY_ASSIGN(ready, stream::prepare({item}));
    const std::string path = ready.front().path;
    stream::ServiceSettings settings;
    settings.address = "127.0.0.1";
    settings.port = 0;
    WAVECREST_TRY_ASSIGN(service, stream::Service::start(std::move(ready), settings));
    verify::Job job;
    job.stream = "straight from the share";
    job.address = file.text();
    job.device = device;
    job.link = link;
    WAVECREST_TRY_ASSIGN(straight, verify::run(job, {}, cancel));
    job.stream = "through Wavecrest";
    job.address = stream::address_for(settings.address, service->port(), path);
    WAVECREST_TRY_ASSIGN(through, verify::run(job, {}, cancel));
    return compare(std::move(straight), std::move(through));
}

}  // namespace wavecrest::site
