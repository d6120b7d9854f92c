#include "stream/service.hpp"

#include <unistd.h>

#include <chrono>
#include <cmath>
#include <deque>
#include <nlohmann/json.hpp>
#include <thread>

#include "base/units.hpp"
#include "cli/commands.hpp"
#include "host/machine.hpp"
#include "render/table.hpp"
#include "site/site.hpp"

namespace wavecrest::cli {
namespace {

struct Running {
    std::vector<stream::StreamItem> items;
    stream::ServiceSettings settings;
    std::optional<site::Site> site;
};

Result<Running> set_up(const StreamRunOptions& options) {
    Running running;
    if (options.site.empty() == options.file.empty()) {
        return fail(ErrorKind::usage, "name either a site file with --site, or one file to serve", "the command line",
                    "wavecrest stream run --site site.toml, or wavecrest stream run FILE");
    }
    if (!options.site.empty()) {
        WAVECREST_TRY_ASSIGN(loaded, site::load(options.site));
        running.items = loaded.items();
        running.settings.address = loaded.listen;
        running.settings.port = loaded.port;
        if (running.items.empty())
            return fail(ErrorKind::usage, "the site lists no streams", options.site,
                        "add a [[stream]] with a name and a file");
        running.site = std::move(loaded);
    } else {
        running.items.push_back({base::Path(options.file).stem().string(), options.file, ""});
    }
    if (options.port != 0) running.settings.port = options.port;
    if (!options.bind.empty())
        running.settings.address = options.bind == "0.0.0.0" || options.bind == "::" ? "" : options.bind;
    return running;
}

void print_addresses(const Running& running, const stream::Service& service) {
    site::Site site = running.site.value_or(site::Site{});
    site.port = service.port();
    site.listen = running.settings.address;
    fmt::print("Serving {} on port {}. Addresses to enter:\n\n", base::format_count(service.streams().size(), "stream"),
               service.port());
    render::Table table({"on", "enter", "for"});
    for (const stream::ReadyStream& ready : service.streams()) {
        const std::string address = stream::address_for(site.host(), service.port(), ready.path);
        const std::string what = fmt::format("{} ({}, {})", ready.name, base::format_clock(ready.duration),
                                             base::format_bitrate(ready.bitrate_bps));
        bool named = false;
        for (const site::SiteDevice& d : site.devices) {
            const auto entry = std::find_if(site.streams.begin(), site.streams.end(),
                                            [&](const site::SiteStream& s) { return s.name == ready.name; });
            if (entry == site.streams.end() || !entry->meant_for(d.device.name)) continue;
            table.add({d.device.name, address, what});
            named = true;
        }
        if (!named) table.add({"any device", address, what});
    }
    std::string others;
    for (const host::Address& a : host::addresses()) {
        if (!a.loopback && a.address != site.host() && site.listen.empty())
            others += (others.empty() ? "" : ", ") + a.address;
    }
    if (!others.empty()) others = "\nThis machine's other addresses: " + others + ".";
    fmt::print("{}{}\nEvery viewer pauses and skips for themselves. Ctrl-C ends it.\n", table.text(2), others);
    std::fflush(stdout);
}

std::string status_line(const stream::ServiceStatus& status, double rate_bps) {
    std::string line =
        fmt::format("{}  {} connected, {} now, {} sent", base::format_clock(status.uptime), status.connections,
                    base::format_bitrate(std::llround(rate_bps)), base::format_bytes(status.sent));
    for (std::size_t i = 0; i < status.viewers.size() && i < 3; ++i) {
        const stream::Viewer& v = status.viewers[i];
        line += fmt::format("; {} {} at {} of {}", v.address, v.stream, base::format_clock(v.position),
                            base::format_clock(v.duration));
    }
    if (status.viewers.size() > 3) line += fmt::format("; and {} more", status.viewers.size() - 3);
    return line;
}

}  // namespace

int run_stream(const StreamRunOptions& options) {
    const bool json = options.output.json;
    std::optional<Time> bound;
    if (!options.bound.empty()) {
        bound = base::parse_span(options.bound);
        if (!bound)
            return report_error({ErrorKind::usage, fmt::format("\"{}\" is no length of time", options.bound), "--for",
                                 "write a number and ms, s, min or h: \"10 s\""},
                                json);
    }
    auto running = set_up(options);
    if (!running) return report_error(running.error(), json);
    auto ready = stream::prepare(running->items);
    if (!ready) return report_error(ready.error(), json);
    if (!options.output.quiet) {
        running->settings.on_event = [](const net::ServerEvent& event) {
            const bool terminal = ::isatty(STDERR_FILENO) != 0;
            const char* what = event.kind == net::ServerEvent::Kind::request   ? "request"
                               : event.kind == net::ServerEvent::Kind::refused ? "refused"
                               : event.kind == net::ServerEvent::Kind::left    ? "left"
                                                                               : "dropped: took nothing for a minute";
            fmt::print(stderr, "{}{}  {:<7}  {}\n", terminal ? "\r\033[K" : "", event.address, what, event.what);
        };
    }
    auto service = stream::Service::start(std::move(*ready), running->settings);
    if (!service) return report_error(service.error(), json);
    if (!json) print_addresses(*running, **service);

    using namespace std::chrono_literals;
    const bool terminal = ::isatty(STDERR_FILENO) != 0;
    const auto start = std::chrono::steady_clock::now();
    auto last_shown = start;
    std::uint64_t last_sent = 0, last_requests = 0;
    // Players fetch in bursts: the rate shown is that of the last few seconds.
    std::deque<std::pair<std::chrono::steady_clock::time_point, std::uint64_t>> history = {{start, 0}};
    while (!cancel().requested()) {
        const auto now = std::chrono::steady_clock::now();
        if (bound && now - start >= std::chrono::duration_cast<std::chrono::steady_clock::duration>(*bound)) break;
        std::this_thread::sleep_for(50ms);
        if (options.output.quiet || now - last_shown < (terminal ? 1000ms : 5000ms)) continue;
        const stream::ServiceStatus status = (*service)->status();
        history.emplace_back(now, status.sent);
        while (history.size() > 2 && now - history[1].first > 5s) history.pop_front();
        const double rate = static_cast<double>(status.sent - history.front().second) * 8 /
                            std::chrono::duration<double>(now - history.front().first).count();
        last_shown = now;
        // Where nobody watches the line change, silence means that nothing happens.
        if (terminal || status.sent != last_sent || status.requests != last_requests) {
            fmt::print(stderr, "{}{}{}", terminal ? "\r\033[K" : "", status_line(status, rate), terminal ? "" : "\n");
        }
        last_sent = status.sent;
        last_requests = status.requests;
    }
    if (terminal && !options.output.quiet) fmt::print(stderr, "\r\033[K");
    const stream::ServiceStatus status = (*service)->status();
    if (json) {
        auto streams = nlohmann::ordered_json::array();
        for (const stream::ReadyStream& s : (*service)->streams())
            streams.push_back({{"name", s.name},
                               {"path", s.path},
                               {"duration_s", base::to_seconds(s.duration)},
                               {"size_bytes", s.size_bytes},
                               {"bitrate_bps", s.bitrate_bps}});
        print_json({{"streams", streams},
                    {"port", (*service)->port()},
                    {"uptime_s", base::to_seconds(status.uptime)},
                    {"sent_bytes", status.sent},
                    {"requests", status.requests}});
    } else {
        fmt::print("Ended after {}: {}, {} sent.\n", base::format_span(status.uptime),
                   base::format_count(status.requests, "request"), base::format_bytes(status.sent));
    }
    return 0;
}

}  // namespace wavecrest::cli
