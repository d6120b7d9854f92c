// A device plays, and its server looks on.
#include <fmt/ranges.h>
#include <unistd.h>

#include <algorithm>
#include <chrono>
#include <nlohmann/json.hpp>
#include <set>
#include <thread>

#include "base/units.hpp"
#include "cli/commands.hpp"
#include "report/results.hpp"
#include "site/site.hpp"
#include "stream/control.hpp"
#include "stream/watched.hpp"
#include "verify/watched.hpp"

namespace wavecrest::cli {
namespace {

using measure::Viewing;

struct Watch {
    std::uint16_t port = 0;
    std::string stream, device;  // only these; empty: any
    std::string device_address;  // in digits; empty: not known
    device::Link link;
    std::vector<std::string> addresses;  // to enter
    Time wait = base::from_seconds(600), most = base::from_seconds(12 * 3600);
};

Result<Watch> set_up(const VerifyOptions& options) {
    Watch watch;
    watch.stream = options.stream;
    watch.device = options.device;
    for (const auto& [text, where, to] :
         {std::tuple{&options.wait, "--wait", &watch.wait}, {&options.listen, "--for", &watch.most}}) {
        if (text->empty()) continue;
        const auto span = base::parse_span(*text);
        if (!span || span->count() <= 0)
            return fail(ErrorKind::usage, fmt::format("\"{}\" isn't a valid time", *text), where,
                        "write for example \"5 min\"");
        *to = *span;
    }
    if (!options.url.empty() || !options.on.empty() || options.again)
        return fail(ErrorKind::usage, "--watch looks at what the running streams send", "--watch",
                    "leave the address, --on and --again out; --site, --stream and --device choose");
    const auto runs = stream::running();
    std::string site_file;
    if (!options.site.empty()) {
        WAVECREST_TRY_ASSIGN(site, site::load(options.site));
        site_file = base::absolute_path(options.site).string();
        std::vector<std::string> names;
        for (const site::SiteDevice& d : site.devices) {
            names.push_back(d.device.name);
            if (d.device.name != options.device) continue;
            watch.device_address = d.address;
            watch.link = d.link;
            for (const site::SiteStream& s : site.streams) {
                if ((!options.stream.empty() && s.name() != options.stream) || !s.meant_for(d.device.name)) continue;
                for (const stream::StreamAddress& one : site.addresses_for(s, d)) {
                    if (one.delivery == "file" || one.delivery == "hls" || one.delivery == "live" ||
                        one.delivery == "rtmp")
                        watch.addresses.push_back(one.address);
                }
            }
        }
        if (!options.device.empty() && std::find(names.begin(), names.end(), options.device) == names.end()) {
            const std::string meant = base::nearest(options.device, names);
            return fail(ErrorKind::usage, fmt::format("the site has no device \"{}\"", options.device), options.site,
                        meant.empty() ? fmt::format("it has: {}", fmt::join(names, ", "))
                                      : fmt::format("did you mean \"{}\"?", meant));
        }
    }
    for (const stream::Run& run : runs) {
        if (site_file.empty() ? runs.size() == 1 : run.what == site_file) watch.port = run.port;
    }
    if (watch.port == 0)
        return fail(
            runs.size() > 1 && site_file.empty() ? ErrorKind::usage : ErrorKind::wanting,
            runs.empty() ? "no streams run on this machine, for this user" : "which streams are meant isn't clear",
            options.site.empty() ? "running streams" : options.site,
            runs.empty() || !site_file.empty() ? "start them: wavecrest stream run --site site.toml"
                                               : "name their site file with --site");
    return watch;
}

std::string key_of(const Viewing& viewing) {
    return fmt::format("{}\n{}\n{}\n{}\n{}", viewing.address, viewing.agent, viewing.stream, viewing.hls,
                       base::to_seconds(viewing.began));
}

bool is_over(const Viewing& viewing) {
    return viewing.ended ||
           (!viewing.live && viewing.startup && viewing.position + base::from_seconds(0.5) >= viewing.duration);
}

std::string line_of(const Viewing& viewing) {
    const Time ahead = std::max(viewing.arrived - viewing.position, Time{});
    std::string text =
        viewing.live ? fmt::format("{}: live for {}", viewing.address, base::format_clock(viewing.last - viewing.began))
                     : fmt::format("{}: {} of {}, {} buffered", viewing.address, base::format_clock(viewing.position),
                                   base::format_clock(viewing.duration), base::format_span(ahead));
    if (viewing.skips > 0) text += fmt::format(", skipped ahead {}", base::format_count(viewing.skips, "time"));
    if (!viewing.startup) text += ", not started yet";
    if (!viewing.stalls.empty())
        text += fmt::format(", {}, {} in all", base::format_count(viewing.stalls.size(), "stall"),
                            base::format_span(viewing.stalled()));
    return text;
}

// The viewing that is meant: one that wasn't over before, of the stream and the device that were named.
const Viewing* meant(const std::vector<Viewing>& all, const Watch& watch, const std::set<std::string>& before) {
    const Viewing* found = nullptr;
    for (const Viewing& one : all) {
        if (before.contains(key_of(one)) || (!watch.stream.empty() && one.stream != watch.stream) ||
            (!watch.device_address.empty() && one.address != watch.device_address))
            continue;
        if (found == nullptr || one.began > found->began) found = &one;
    }
    return found;
}

}  // namespace

int run_verify_watch(const VerifyOptions& options) {
    const bool json = options.output.json, quiet = options.output.quiet || json;
    const auto watch = set_up(options);
    if (!watch) return report_error(watch.error(), json);
    std::set<std::string> before;
    auto all = stream::viewings_at(watch->port);
    if (!all) return report_error(all.error(), json);
    for (const Viewing& one : *all) {
        if (is_over(one)) before.insert(key_of(one));
    }
    if (!quiet) {
        const std::string who = watch->device.empty() ? "a device" : "\"" + watch->device + "\"";
        if (watch->addresses.empty()) {
            print("Enter a stream's address on {} and press play; it is watched from here.\n", who);
        } else {
            print("Enter this address on {} and press play; it is watched from here:\n", who);
            for (const std::string& address : watch->addresses) print("  {}\n", address);
        }
        std::fflush(stdout);
    }
    const bool terminal = ::isatty(STDERR_FILENO) != 0;
    using Steady = std::chrono::steady_clock;
    const auto start = Steady::now();
    auto shown = start;
    std::optional<Viewing> seen;
    while (!cancel().requested()) {
        std::this_thread::sleep_for(std::chrono::milliseconds(300));
        all = stream::viewings_at(watch->port);
        if (!all) break;
        const Viewing* found = meant(*all, *watch, before);
        if (found != nullptr) seen = *found;
        const Time gone = std::chrono::duration_cast<Time>(Steady::now() - start);
        if (seen ? is_over(*seen) || gone > watch->most : gone > watch->wait) break;
        const auto now = Steady::now();
        if (quiet || !seen || now - shown < (terminal ? std::chrono::milliseconds(300) : std::chrono::seconds(10)))
            continue;
        shown = now;
        print(stderr, "{}{}{}", Raw{terminal ? "\r\033[K" : ""}, line_of(*seen), Raw{terminal ? "" : "\n"});
        std::fflush(stderr);
    }
    if (terminal && !quiet) print(stderr, "\r\033[K");
    if (!seen) {
        if (!all) return report_error(all.error(), json);
        if (cancel().requested()) return report_error(base::interrupted().value(), json);
        return report_error({ErrorKind::wanting,
                             "nobody played a stream",
                             watch->stream.empty() ? "running streams" : watch->stream,
                             "check the address on the device, and the firewall (wavecrest site check)",
                             {}},
                            json);
    }
    const std::string device = watch->device.empty() ? "device " + seen->address : watch->device;
    const verify::Verification v =
        verify::judge_watched(*seen, device, watch->link, watch->addresses.empty() ? "" : watch->addresses.front());
    nlohmann::ordered_json result = {{"results", {report::to_json(v)}}};
    result["results"][0]["viewer"] = {{"address", seen->address},
                                      {"agent", seen->agent},
                                      {"seeks", seen->seeks},
                                      {"most_buffered_s", base::to_seconds(seen->most_buffered)}};
    int ended = v.verdict == device::Verdict::fail ? 1 : 0;
    if (!options.output.out.empty()) {
        const std::string name = fmt::format("verify-watched-{}-{}.json", slug(v.stream), slug(v.device));
        if (const Status kept = write_result(options.output.out, name, result); !kept)
            ended = report_beside(kept.error(), result);
    }
    if (json) {
        print_json(result);
        return ended;
    }
    print_verification(v);
    print("  player: {}\n", seen->agent.empty() ? "does not say what it is" : seen->agent);
    print(
        "  Seen from the server: what arrived when, and what was asked for. Not seen: the picture, dropped frames, "
        "audio.\n");
    return ended;
}

}  // namespace wavecrest::cli
