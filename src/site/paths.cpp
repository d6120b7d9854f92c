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

// What a viewer would choose.
struct Preference {
    const verify::Verification* better = nullptr;  // null: they are alike
    std::string why;
    bool by_verdict = false;  // `why` is what is said of the worse one
};

Preference prefer(const verify::Verification& a, const verify::Verification& b) {
    if (a.verdict != b.verdict)
        return {a.verdict < b.verdict ? &a : &b, a.verdict > b.verdict ? a.summary : b.summary, true};
    const Time noticed = base::from_seconds(0.3), stalls = std::chrono::abs(stalled(a) - stalled(b));
    if (stalls > noticed) {
        const bool first = stalled(a) < stalled(b);
        const verify::Verification &good = first ? a : b, &bad = first ? b : a;
        return {&good,
                fmt::format("stalls: {} against {}", told(good.stalls, stalled(good)), told(bad.stalls, stalled(bad)))};
    }
    const Time start = std::chrono::abs(a.startup - b.startup), seek = std::chrono::abs(mean_seek(a) - mean_seek(b));
    if (std::max(start, seek) <= noticed) return {};
    const bool by_start = start > seek;
    const Time x = by_start ? a.startup : mean_seek(a), y = by_start ? b.startup : mean_seek(b);
    return {x < y ? &a : &b, fmt::format("{} {} against {}", by_start ? "starts after" : "seeks take",
                                         base::format_span(std::min(x, y)), base::format_span(std::max(x, y)))};
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
    if (a.verdict == device::Verdict::fail && b.verdict == device::Verdict::fail) {
        both.smoother = Smoother::neither;
        both.why = b.summary;
        return both;
    }
    const Preference preferred = prefer(a, b);
    if (preferred.better != nullptr) both.smoother = preferred.better == &a ? Smoother::straight : Smoother::through;
    both.why = (preferred.by_verdict ? "on the other path: " : "") + preferred.why;
    return both;
}

std::vector<BestDelivery> best_deliveries(const std::vector<Delivered>& all) {
    std::vector<BestDelivery> found;
    for (const Delivered& first : all) {
        const auto beside = [&](const Delivered& one) {
            return one.stream == first.stream && one.played->device == first.played->device;
        };
        const auto is_first = std::find_if(all.begin(), all.end(), beside);
        if (&*is_first != &first || std::count_if(all.begin(), all.end(), beside) < 2) continue;
        const Delivered* best = &first;
        for (const Delivered& one : all) {
            if (beside(one) && prefer(*best->played, *one.played).better == one.played) best = &one;
        }
        BestDelivery result{first.stream, first.played->device, "", "", ""};
        if (best->played->verdict == device::Verdict::fail) {
            result.why = best->played->summary;
            found.push_back(std::move(result));
            continue;
        }
        result.delivery = best->delivery;
        result.address = best->played->address;
        for (const Delivered& one : all) {
            if (!beside(one) || &one == best) continue;
            const Preference over = prefer(*best->played, *one.played);
            result.why += result.why.empty() ? "" : "; ";
            result.why += over.better == nullptr ? fmt::format("{} is alike", one.delivery)
                          : over.by_verdict      ? fmt::format("by {}: {}", one.delivery, over.why)
                                                 : fmt::format("{} ({})", over.why, one.delivery);
        }
        found.push_back(std::move(result));
    }
    return found;
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
