#include "stream/live.hpp"
#include "stream/service.hpp"

#include <unistd.h>

#include <chrono>
#include <cmath>
#include <deque>
#include <nlohmann/json.hpp>
#include <thread>

#include "base/units.hpp"
#include "cli/commands.hpp"
#include "cli/media_json.hpp"
#include "host/machine.hpp"
#include "render/table.hpp"
#include "site/site.hpp"

namespace wavecrest::cli {
namespace {

struct Running {
    std::vector<stream::StreamItem> items;
    std::vector<stream::LiveItem> live;
    stream::ServiceSettings settings;
    net::UdpSettings udp;
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
        running.live = loaded.live_items();
        running.udp = loaded.udp;
        if (running.items.empty())
            return fail(ErrorKind::usage, "the site lists no streams", options.site,
                        "add a [[stream]] with a name and a file");
        running.site = std::move(loaded);
        if (!options.udp.empty() || !options.rtp.empty()) {
            return fail(ErrorKind::usage, "--udp and --rtp send one file; a site's streams have keys of these names",
                        "the command line",
                        fmt::format("add udp = [\"ADDRESS:PORT\"] to a [[stream]] of {}", options.site));
        }
    } else {
        const std::string name = base::Path(options.file).stem().string();
        stream::LiveItem live{name, options.file, {}, options.loop, 0};
        for (const bool rtp : {false, true}) {
            for (const std::string& text : rtp ? options.rtp : options.udp) {
                WAVECREST_TRY_ASSIGN(address, net::parse_udp_address(text));
                live.targets.push_back({address, rtp});
            }
        }
        if (!options.rate.empty()) {
            const auto rate = base::parse_bitrate(options.rate);
            if (!rate || *rate < 50'000)
                return fail(ErrorKind::usage, fmt::format("\"{}\" is no rate", options.rate), "--rate",
                            "write a number and kbit/s or Mbit/s: \"8 Mbit/s\"");
            live.rate_bps = *rate;
        }
        if (live.targets.empty() && (options.loop || !options.rate.empty()))
            return fail(ErrorKind::usage, "--loop and --rate belong to --udp or --rtp", "the command line",
                        "viewers over HTTP fetch the file at their own pace");
        // Sending alone needs no server; a port asks for both.
        if (live.targets.empty() || options.port != 0) running.items.push_back({name, options.file, ""});
        if (!live.targets.empty()) running.live.push_back(std::move(live));
        running.udp.interface = options.interface;
        running.udp.hops = options.hops;
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

void print_live(const std::vector<stream::ReadyLive>& streams) {
    for (const stream::ReadyLive& ready : streams) {
        for (const stream::LiveTarget& target : ready.item.targets)
            fmt::print("Sending {}{} to {}\n", ready.item.name, ready.item.loop ? ", over and over," : "",
                       stream::address_for(target));
        for (const Track& track : ready.tracks)
            fmt::print("  {:<8} {}\n", media::short_name(track.kind), describe(track));
        for (const std::string& text : ready.notes) note(text);
    }
}

// What is sent by UDP counts like what is served.
stream::ServiceStatus status_of(const stream::Service* service, const stream::LiveService* live,
                                std::chrono::steady_clock::duration uptime) {
    stream::ServiceStatus status;
    if (service != nullptr) status = service->status();
    status.uptime = std::chrono::duration_cast<Time>(uptime);
    if (live != nullptr) {
        for (const stream::LiveStatus& s : live->figures().streams) status.sent += s.bytes;
    }
    return status;
}

std::string live_line(const stream::LiveService* live) {
    if (live == nullptr) return "";
    std::string line;
    for (const stream::LiveStatus& s : live->figures().streams) {
        line += fmt::format("; {} at {}{}{}{}", s.name, base::format_clock(s.position),
                            s.rounds > 0 ? fmt::format(", round {}", s.rounds + 1) : "",
                            s.refused > 0 ? fmt::format(", {} datagrams the network did not take", s.refused) : "",
                            s.ended ? ", ended" : "");
    }
    return line;
}

nlohmann::ordered_json live_json(const stream::LiveFigures& figures) {
    auto streams = nlohmann::ordered_json::array();
    for (const stream::LiveStatus& s : figures.streams) {
        streams.push_back({{"name", s.name},
                           {"position_s", base::to_seconds(s.position)},
                           {"rounds", s.rounds},
                           {"datagrams", s.datagrams},
                           {"bytes", s.bytes},
                           {"refused", s.refused},
                           {"stalls", s.stalls},
                           {"ended", s.ended}});
    }
    return {{"streams", streams},
            {"late_99_s", base::to_seconds(figures.late_99)},
            {"latest_s", base::to_seconds(figures.latest)},
            {"real_time_scheduling", figures.real_time}};
}

std::string status_line(const stream::ServiceStatus& status, double rate_bps, bool serving) {
    std::string line = base::format_clock(status.uptime) + "  ";
    if (serving) line += fmt::format("{} connected, ", status.connections);
    line +=
        fmt::format("{} now, {} sent", base::format_bitrate(std::llround(rate_bps)), base::format_bytes(status.sent));
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
    auto ready_live = stream::prepare_live(running->live);
    if (!ready_live) return report_error(ready_live.error(), json);
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
    std::unique_ptr<stream::Service> service;
    if (!ready->empty()) {
        auto started = stream::Service::start(std::move(*ready), running->settings);
        if (!started) return report_error(started.error(), json);
        service = std::move(*started);
    }
    if (!json) print_live(*ready_live);
    std::unique_ptr<stream::LiveService> live;
    if (!ready_live->empty()) {
        auto started = stream::LiveService::start(std::move(*ready_live), running->udp);
        if (!started) return report_error(started.error(), json);
        live = std::move(*started);
    }
    if (service && !json) print_addresses(*running, *service);
    if (!service && !json) fmt::print("It plays for all at once. Ctrl-C ends it.\n");
    std::fflush(stdout);

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
        if (live && !service && live->ended()) break;
        if (options.output.quiet || now - last_shown < (terminal ? 1000ms : 5000ms)) continue;
        const stream::ServiceStatus status = status_of(service.get(), live.get(), now - start);
        history.emplace_back(now, status.sent);
        while (history.size() > 2 && now - history[1].first > 5s) history.pop_front();
        const double rate = static_cast<double>(status.sent - history.front().second) * 8 /
                            std::chrono::duration<double>(now - history.front().first).count();
        last_shown = now;
        // Where nobody watches the line change, silence means that nothing happens.
        if (terminal || status.sent != last_sent || status.requests != last_requests) {
            fmt::print(stderr, "{}{}{}", terminal ? "\r\033[K" : "",
                       status_line(status, rate, service != nullptr) + live_line(live.get()), terminal ? "" : "\n");
        }
        last_sent = status.sent;
        last_requests = status.requests;
    }
    if (terminal && !options.output.quiet) fmt::print(stderr, "\r\033[K");
    const stream::ServiceStatus status = status_of(service.get(), live.get(), std::chrono::steady_clock::now() - start);
    stream::LiveFigures figures;
    if (live) figures = live->figures();
    int exit_status = 0;
    for (const stream::LiveStatus& s : figures.streams) {
        if (s.error.empty()) continue;
        fmt::print(stderr, "wavecrest: stream \"{}\" ended early: {}\n", s.name, s.error);
        exit_status = 3;
    }
    if (json) {
        auto streams = nlohmann::ordered_json::array();
        if (service)
            for (const stream::ReadyStream& s : service->streams())
                streams.push_back({{"name", s.name},
                                   {"path", s.path},
                                   {"duration_s", base::to_seconds(s.duration)},
                                   {"size_bytes", s.size_bytes},
                                   {"bitrate_bps", s.bitrate_bps}});
        print_json({{"streams", streams},
                    {"port", service ? service->port() : 0},
                    {"live", live_json(figures)},
                    {"uptime_s", base::to_seconds(status.uptime)},
                    {"sent_bytes", status.sent},
                    {"requests", status.requests}});
    } else {
        fmt::print("Ended after {}: {}{} sent.\n", base::format_span(status.uptime),
                   service ? base::format_count(status.requests, "request") + ", " : "",
                   base::format_bytes(status.sent));
        for (const stream::LiveStatus& s : figures.streams) {
            if (s.refused > 0)
                fmt::print("{}: {} datagrams were not taken by the network: no way to the address, or no room.\n",
                           s.name, s.refused);
        }
        if (live) {
            fmt::print("Datagrams left {:.1f} ms late at most, 99 of 100 within {:.1f} ms{}.\n",
                       base::to_seconds(figures.latest) * 1000, base::to_seconds(figures.late_99) * 1000,
                       figures.real_time ? "" : " (the system granted no real-time scheduling)");
        }
    }
    return exit_status;
}

}  // namespace wavecrest::cli
