#include "site/shares.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <thread>

#include "share/account.hpp"
#include "share/prove.hpp"
#include "source/share_input.hpp"

namespace wavecrest::site {
namespace {

using Steady = std::chrono::steady_clock;
using namespace std::chrono_literals;

// Up to where waiting may help.
bool may_come(const Error& error) {
    return error.kind == ErrorKind::machine;
}

bool is_used(const Site& site, const SiteShare& share) {
    return std::any_of(site.streams.begin(), site.streams.end(), [&](const SiteStream& stream) {
        return std::any_of(stream.item.parts.begin(), stream.item.parts.end(), [&](const stream::Part& part) {
            return part.source.text().starts_with(share.address.text() + "/");
        });
    });
}

}  // namespace

Status wait_for_shares(const Site& site, Time most, const std::function<void(const SiteShare&, const Error&)>& on_wait,
                       const Cancel& cancel) {
    constexpr auto kTryAgain = 2s;
    const auto until = Steady::now() + std::chrono::duration_cast<Steady::duration>(
                                           std::chrono::duration<double>(base::to_seconds(most)));
    for (const SiteShare& share : site.shares) {
        if (!is_used(site, share)) continue;
        bool told = false;
        while (true) {
            if (cancel.requested()) return base::interrupted();
            const auto there = source::open_share(share.address, &cancel);
            if (there) break;
            if (!may_come(there.error()) || Steady::now() >= until) return fail(there.error());
            if (!std::exchange(told, true)) on_wait(share, there.error());
            const auto again = Steady::now() + kTryAgain;
            while (Steady::now() < again && !cancel.requested()) std::this_thread::sleep_for(50ms);
        }
    }
    return {};
}

void check_shares(const Site& site, Time length, std::vector<Finding>& findings) {
    if (site.shares.empty()) return;
    const Cancel never;
    const auto accounts = share::Accounts::load(share::accounts_file());
    if (!accounts) {
        findings.push_back({Finding::Severity::error, accounts.error()});
        return;
    }
    for (const SiteShare& one : site.shares) {
        const std::string where = fmt::format("{}, line {}", site.file.string(), one.line);
        const auto location = share::parse_location(one.address);
        if (!location) continue;  // (Told when the file was read.)
        const share::Account account = accounts->find(*location);
        share::ProofSettings settings;
        settings.length = length;
        settings.rate_of = [&](const std::string& address) {
            return source::bit_rate_on_share(address, account, never);
        };
        const auto proof = share::prove(*location, account, settings, {}, never);
        if (!proof) continue;
        for (const share::ProofStep& step : proof->steps) {
            if (step.remedy.empty()) continue;
            const bool unknown = account.is_guest() && (step.name == "account" || step.name == "share");
            const bool fails = step.state == share::ProofStep::State::failed;
            findings.push_back(
                {fails ? Finding::Severity::error : Finding::Severity::warning,
                 {ErrorKind::wanting,
                  fmt::format("share \"{}\": {}: {}", one.name, step.name, step.found),
                  where,
                  unknown ? fmt::format("wavecrest share prove '{}' --user NAME --keep", one.address.text())
                          : step.remedy,
                  {}}});
        }
    }
}

}  // namespace wavecrest::site
