#include <malloc.h>
#include <unistd.h>

#include <chrono>
#include <cmath>
#include <nlohmann/json.hpp>
#include <thread>

#include "base/address.hpp"
#include "base/config.hpp"
#include "base/log.hpp"
#include "base/units.hpp"
#include "cli/commands.hpp"
#include "cli/library.hpp"
#include "cli/media_text.hpp"
#include "cli/worker.hpp"
#include "container/ladder.hpp"
#include "host/machine.hpp"
#include "media/track_choice.hpp"
#include "net/http_client.hpp"
#include "render/table.hpp"
#include "report/results.hpp"
#include "site/encode.hpp"
#include "site/shares.hpp"
#include "site/site.hpp"
#include "stream/control.hpp"
#include "stream/stream_server.hpp"

namespace wavecrest::cli {
namespace {

struct Running {
    std::vector<stream::ServedStream> items;
    stream::StreamServerSettings settings;
    std::optional<site::Site> site;
    std::vector<std::pair<stream::Part, std::string>> encodes;  // with their profiles
};

// Options that say of files on the command line what a site file says of a stream, or of the server, under a key of the
// same name: they are read and judged as those are (site::parse_options). What is as it is by default is left out.
Result<std::vector<base::ConfigOption>> site_options(const StreamRunOptions& options) {
    const StreamRunOptions plain;
    std::vector<base::ConfigOption> all;
    const auto add = [&](const char* table, const char* key, const auto& value, bool is_said) {
        if (is_said) all.push_back({table, key, value});
    };
    const auto text = [&](const char* table, const char* key, const std::string& value) {
        add(table, key, value, !value.empty());
    };
    const auto list = [&](const char* key, const std::vector<std::string>& value) {
        add("stream", key, value, !value.empty());
    };
    text("stream", "name", options.name);
    list("delivery", options.deliveries);
    add("stream", "title", options.title, options.title != plain.title);
    add("stream", "chapter", std::int64_t{options.chapter}, options.chapter != plain.chapter);
    list("audio", options.choice.audio);
    add("stream", "video", std::int64_t{options.choice.video}, options.choice.video != 0);
    add("stream", "burn_in", options.choice.burn_in, options.choice.burn_in != plain.choice.burn_in);
    text("stream", "subtitles", options.subtitles);
    text("stream", "profile", options.profile);
    list("udp", options.udp);
    list("rtp", options.rtp);
    add("stream", "loop", options.loop, options.loop);
    text("stream", "bitrate", options.rate);
    text("stream", "publish_key", options.publish_key);
    text("stream", "publish_key_file", options.publish_key_file);
    std::vector<std::string> push = options.push;
    std::string key = options.push_key;
    if (key.empty() && !options.push_key_file.empty()) {
        WAVECREST_TRY_ASSIGN(read, stream::read_key(options.push_key_file));
        key = std::move(read);
    }
    for (std::string& address : push) {
        if (!key.empty()) address += (address.ends_with("/") ? "" : "/") + key;
    }
    list("push", push);
    text("server", "certificate", options.certificate);
    text("server", "certificate_key", options.certificate_key);
    text("server", "interface", options.interface);
    add("server", "ttl", std::int64_t{options.ttl}, options.ttl != plain.ttl);
    return all;
}

// What is said of files on the command line is said of a site's streams in its file: nothing of it is just left out.
Status check_beside_site(const StreamRunOptions& options, const std::vector<base::ConfigOption>& said) {
    std::string names, keys;
    for (const char* table : {"stream", "server"}) {
        std::string some;
        for (const base::ConfigOption& one : said) {
            if (one.table != table || one.key == "interface") continue;  // this one is for the run
            std::string option = "--" + one.key;
            std::replace(option.begin(), option.end(), '_', '-');
            names += (names.empty() ? "" : ", ") + option;
            some += (some.empty() ? "" : ", ") + one.key;
        }
        if (!some.empty())
            keys += fmt::format("{}{} of {}", keys.empty() ? "" : "; ", some,
                                std::string_view(table) == "stream" ? "a [[stream]]" : "[server]");
    }
    if (names.empty()) return {};
    return fail(
        ErrorKind::usage,
        fmt::format("beside --site, {} {} no effect: the site file sets it", names, said.size() > 1 ? "have" : "has"),
        "the command line", fmt::format("set in {}: {}", options.site, keys));
}

// The site of one stream that the command line describes.
Result<site::Site> site_of_files(const StreamRunOptions& options, std::vector<base::ConfigOption> said) {
    if (!options.files.empty()) said.push_back({"stream", "files", options.files});
    if (options.name.empty()) {
        const base::Path first = options.files.empty() ? "published" : options.files.front();
        said.push_back({"stream", "name", first.lexically_normal().stem().string()});
    }
    // Sending alone needs no server; a port asks for both.
    if (options.deliveries.empty() && (!options.udp.empty() || !options.rtp.empty() || !options.push.empty())) {
        std::vector<std::string> deliveries;
        std::error_code error;
        const bool one_file = options.files.size() == 1 && !std::filesystem::is_directory(options.files.front(), error);
        if (options.port != 0) deliveries.emplace_back(one_file && options.profile.empty() ? "file" : "live");
        said.push_back({"stream", "delivery", deliveries});
    }
    return site::parse_options(said);
}

Result<Running> set_up(const StreamRunOptions& options) {
    Running running;
    const bool one_off = !options.files.empty() || !options.publish_key.empty() || !options.publish_key_file.empty();
    if (options.site.empty() != one_off) {
        return fail(ErrorKind::usage, "name either a site file with --site, or files to stream", "the command line",
                    "wavecrest stream run --site site.toml, or wavecrest stream run FILE");
    }
    WAVECREST_TRY_ASSIGN(said, site_options(options));
    if (!one_off) WAVECREST_TRY(check_beside_site(options, said));
    WAVECREST_TRY_ASSIGN(loaded, one_off ? site_of_files(options, std::move(said)) : site::load(options.site));
    // (As long as a server takes to start after a power failure.)
    WAVECREST_TRY(site::wait_for_shares(
        loaded, std::chrono::minutes(10),
        [](const site::SiteShare& share, const Error& error) {
            note(fmt::format("waiting for share \"{}\" ({}): {}", share.name, share.address.text(), error.what));
        },
        cancel()));
    // What is in their folders is known only now.
    const bool unlisted = std::any_of(loaded.streams.begin(), loaded.streams.end(),
                                      [](const site::SiteStream& stream) { return stream.unlisted; });
    if (unlisted && !one_off) {
        WAVECREST_TRY_ASSIGN(again, site::load(options.site));
        loaded = std::move(again);
    }
    WAVECREST_TRY_ASSIGN(items, loaded.items());
    running.items = std::move(items);
    if (running.items.empty() && loaded.collections.empty())
        return fail(ErrorKind::usage, "the site lists no streams", options.site,
                    "add a [[stream]] with a name and a file, or a [[collection]] with a folder");
    stream::StreamServerSettings& settings = running.settings;
    settings = loaded.server_settings();
    if (one_off) {
        const stream::Deliveries& to = running.items.front().deliveries;
        settings.http = to.by_http();
    }
    for (std::size_t i = 0; i < loaded.streams.size(); ++i) {
        const site::SiteStream& s = loaded.streams[i];
        if (!running.items[i].ladder) continue;
        if (!options.output.quiet)
            note(fmt::format("testing how many bit rates this machine encodes of {} ...", s.name()));
        WAVECREST_TRY_ASSIGN(ladder,
                             site::plan_ladder(s.item.parts.front(), s.profile, s.goes_other_ways(), true, cancel()));
        running.items[i].transcode = std::move(ladder.graph);
        running.items[i].ladder = std::move(ladder.tracks);
    }
    for (const site::SiteStream& s : loaded.streams) {
        if (!s.profile.empty() && !s.item.deliveries.live_ladder && !s.item.published())
            running.encodes.emplace_back(s.item.parts.front(), s.profile);
    }
    if (!one_off) running.site = std::move(loaded);
    if (options.port != 0) settings.http_port = options.port;
    if (options.tls_port != 0) settings.tls_port = options.tls_port;
    if (options.rtmp_port != 0) settings.rtmp_port = options.rtmp_port;
    if (!one_off && !options.interface.empty()) settings.udp.interface = options.interface;
    if (!options.bind.empty()) settings.address = options.bind == "0.0.0.0" || options.bind == "::" ? "" : options.bind;
    return running;
}

void print_live(const std::vector<stream::ReadyLive>& streams) {
    for (const stream::ReadyLive& ready : streams) {
        for (const stream::LiveTarget& target : ready.item.targets)
            print("Sending {}{} to {}\n", ready.item.name, ready.item.loop ? ", looped," : "",
                  stream::address_for(target));
        if (ready.item.targets.empty() && !ready.playout.parts.empty())
            print("Playing {}{}{}\n", ready.item.name, ready.item.loop ? ", looped" : "",
                  ready.playout.parts.size() > 1 ? fmt::format(", {} parts", ready.playout.parts.size()) : "");
        for (const Track& track : ready.playout.tracks)
            print("  {:<8} {}\n", media::short_name(track.kind), describe(track));
        if (ready.item.ladder) print("  ladder   {}\n", ready.item.ladder->told);
        if (ready.item.transcode && (!ready.item.ladder || ready.item.ladder->transport)) {
            const std::size_t output = ready.item.ladder ? *ready.item.ladder->transport : 0;
            std::string text;
            for (const Track& track :
                 transcode::tracks_of(*ready.item.transcode, output).value_or(std::vector<Track>{}))
                text += (text.empty() ? "" : "; ") + describe(track);
            print("  transcoded live: {}\n", text);
        }
        for (const std::string& text : ready.playout.notes) note(fmt::format("{} (live): {}", ready.item.name, text));
    }
}

// Whether its viewers control their own playback.
bool is_on_demand(const stream::StreamAddress& one, const stream::StreamServer& server) {
    if (one.delivery == "file" || one.delivery == "hls") return true;
    return std::any_of(server.items().begin(), server.items().end(), [&](const stream::ServedStream& item) {
        return item.name == one.stream && item.deliveries.ladder && one.delivery.starts_with("ladder");
    });
}

void print_addresses(const Running& running, const stream::StreamServer& server) {
    site::Site site = running.site.value_or(site::Site{});
    site.listen = running.settings.address;
    const std::string host = site.host();
    const auto all = server.addresses(host);
    bool shared = false, own = false;
    // Where datagrams of a single stream go is named above.
    const bool to_enter = std::any_of(all.begin(), all.end(), [&](const stream::StreamAddress& one) {
        return running.site || (one.delivery != "udp" && one.delivery != "rtp");
    });
    for (const stream::StreamAddress& one : all) shared = shared || one.delivery == "udp" || one.delivery == "rtp";
    if (to_enter) {
        print("\nAddresses to enter on the devices:\n\n");
        render::Table table({"device", "address", "stream"});
        for (const stream::StreamAddress& one : all) {
            if (!running.site && (one.delivery == "udp" || one.delivery == "rtp")) continue;
            (is_on_demand(one, server) ? own : shared) = true;
            // Where devices are listed, what none of them is given by HTTP is the other form of what they are given.
            const bool devices = !site.devices.empty() && running.site;
            bool listed = devices && base::is_web_address(one.address);
            for (const site::SiteDevice& d : site.devices) {
                const auto entry = std::find_if(site.streams.begin(), site.streams.end(),
                                                [&](const site::SiteStream& s) { return s.name() == one.stream; });
                if (entry == site.streams.end() || !entry->meant_for(d.device.name)) continue;
                const auto its = stream::addresses_for(d.device, all);
                if (std::none_of(its.begin(), its.end(),
                                 [&](const stream::StreamAddress& a) { return a.address == one.address; }))
                    continue;
                listed = true;
                table.add(
                    {d.device.name, one.address, fmt::format("{} ({})", one.stream, delivery_text(one.delivery))});
            }
            if (!listed)
                table.add({devices ? "other devices" : "any device", one.address,
                           fmt::format("{} ({})", one.stream, delivery_text(one.delivery))});
        }
        print("{}", Raw{table.text(2)});
        std::string others;
        for (const host::Address& a : host::addresses()) {
            if (!a.loopback && a.address != host && site.listen.empty())
                others += (others.empty() ? "" : ", ") + a.address;
        }
        if (!others.empty()) print("\nThis machine's other addresses: {}.", others);
    }
    for (const stream::ServedStream& item : server.items()) {
        // The name there is a key, as a rule.
        for (const net::RtmpAddress& to : item.push)
            print("\nPublishing \"{}\" to {}\n", item.name,
                  net::RtmpAddress{to.host, to.port, to.application, "KEY"}.text());
        if (item.published())
            print("\nTo publish \"{}\", send it by RTMP to {}\n", item.name,
                  net::RtmpAddress{host, item.ports.rtmp != 0 ? item.ports.rtmp : server.ports().rtmp,
                                   std::string(stream::kRtmpApplication), "KEY"}
                      .text());
        if (item.plan)
            print("  {} when it is published.\n",
                  item.deliveries.live_ladder ? "Encoded in several bit rates" : "Transcoded");
    }
    if (!site.collections.empty())
        print("\nDevices that browse the network (UPnP) find the library as \"{}\": {}.\n", site.house,
              base::format_count(site.collections.size(), "collection"));
    for (const stream::StreamAddress& one : all) {
        if (one.delivery != "ladder-dash") continue;
        // (With its key, where it has one.)
        std::string page = one.address;
        page.replace(page.rfind(container::kLadderManifest), container::kLadderManifest.size(), "index.html");
        print("\nIn a browser {} plays {} and shows the bit rate over time.\n", page, one.stream);
    }
    if (!running.settings.token.empty()) {
        print("\nMonitor and control: wavecrest stream status");
        if (running.settings.http)
            print(", or {}{} in a browser;\n  access code file: {}", stream::address_for(host, server.http_port(), ""),
                  stream::kControlPath, stream::control_token_file().string());
        print("\n");
    }
    print("{}{}Ctrl-C stops all streams.\n", own ? "Viewers of on-demand streams control their own playback. " : "",
          shared ? "Live streams are shared by all viewers. " : "");
    std::fflush(stdout);
}

std::string live_words(const stream::StreamServerStatus& status) {
    std::string line;
    for (const stream::StreamStatus& s : status.streams) {
        if (!s.live) continue;
        if (s.published) {
            line +=
                fmt::format("; {} {}", s.name,
                            s.published_by.empty() ? "is not being published" : "is published by " + s.published_by);
            continue;
        }
        line += fmt::format(
            "; {} at {}{}{}{}", s.name, base::format_clock(s.status.position),
            s.status.rounds > 0 ? fmt::format(", loop {}", s.status.rounds + 1) : "",
            s.status.refused > 0 ? fmt::format(", {} packets refused by the network", s.status.refused) : "",
            s.status.state == stream::LiveStatus::State::playing ? ""
                                                                 : fmt::format(", {}", short_name(s.status.state)));
    }
    return line;
}

std::string status_line(const stream::StreamServerStatus& status, bool serving) {
    double rate = 0;
    for (const stream::ViewerStatus& v : status.viewers) rate += v.rate_bps;
    for (const stream::StreamStatus& s : status.streams) {
        if (s.status.datagrams > 0) rate += s.rate_bps;
    }
    std::string line = base::format_clock(status.uptime) + "  ";
    if (serving) line += fmt::format("{} watching, ", status.viewers.size());
    line += fmt::format("{} now, {} sent", base::format_bitrate(std::llround(rate)), base::format_bytes(status.sent));
    std::size_t shown = 0;
    for (const stream::ViewerStatus& v : status.viewers) {
        if (v.live || ++shown > 3) continue;
        line += fmt::format("; {} {} at {} of {}", v.address, v.stream, base::format_clock(v.position),
                            base::format_clock(v.duration));
    }
    return line + live_words(status);
}

// Says beforehand which encodes this machine is too slow for: by what was measured of it, else by trying them.
Status try_encodes(const Running& running, bool quiet) {
    if (running.encodes.empty()) return {};
    if (const auto capacity = measure::load_capacity(measure::capacity_file()); capacity && *capacity) {
        std::vector<site::NamedGraph> graphs;
        for (const auto& [part, profile] : running.encodes) {
            WAVECREST_TRY_ASSIGN(graph, site::plan_encode(part, profile));
            graphs.push_back({part.source.name(), profile, std::move(graph)});
        }
        const site::TranscodeDemand demand = site::demand_of(**capacity, graphs);
        if (demand.unknown.empty()) {
            for (const site::Finding& one : site::judge_demand(demand, **capacity, ""))
                note(fmt::format("{}; {}", one.about.what, one.about.remedy));
            if (!quiet && demand.carried(**capacity))
                note(fmt::format("{}: about {:.1f} of {} processors busy",
                                 base::format_count(graphs.size(), "live transcode"), demand.processors,
                                 (*capacity)->processors));
            return {};
        }
    }
    for (const auto& [part, profile] : running.encodes) {
        if (!quiet) note(fmt::format("testing transcode speed of {} with {} ...", part.source.name(), profile));
        WAVECREST_TRY_ASSIGN(slow, site::try_encode(part, profile, cancel()));
        if (slow) note(fmt::format("{}; {}", slow->what, slow->remedy));
    }
    return {};
}

}  // namespace

std::string delivery_text(const std::string& way) {
    if (way == "file") return "on demand";
    if (way == "hls") return "HLS, on demand";
    if (way == "subtitles") return "subtitle file";
    if (way == "live") return "live";
    if (way == "live-hls") return "live, HLS";
    if (way == "ladder") return "several bit rates, HLS";
    if (way == "ladder-dash") return "several bit rates, DASH";
    return "live, " + std::string(way == "rtmp" ? "RTMP" : way == "udp" ? "UDP" : "RTP");
}

namespace {

// What a site's collections offer. What is streamed goes on without it.
Result<std::unique_ptr<ServedLibrary>> open_library(Running& running) {
    if (!running.site) return std::unique_ptr<ServedLibrary>();
    auto library = ServedLibrary::open(*running.site);
    if (library || running.items.empty()) return library;
    note(fmt::format("the library isn't offered: {} ({}); {}", library.error().what, library.error().where,
                     library.error().remedy));
    running.site->collections.clear();
    return std::unique_ptr<ServedLibrary>();
}

// A line of state until it is to stop, or all has been sent.
void watch(const stream::StreamServer& server, const Running& running, std::optional<Time> bound, bool quiet) {
    using namespace std::chrono_literals;
    const bool terminal = ::isatty(STDERR_FILENO) != 0;
    const auto start = std::chrono::steady_clock::now();
    auto last_shown = start;
    std::uint64_t last_sent = 0, last_requests = 0;
    while (!cancel().requested()) {
        const auto now = std::chrono::steady_clock::now();
        if (bound && now - start >= std::chrono::duration_cast<std::chrono::steady_clock::duration>(*bound)) break;
        std::this_thread::sleep_for(50ms);
        if (server.ended()) break;
        if (quiet || now - last_shown < (terminal ? 1000ms : 5000ms)) continue;
        const stream::StreamServerStatus status = server.status();
        last_shown = now;
        // Where nobody watches the line change, silence means that nothing happens.
        if (terminal || status.sent != last_sent || status.requests != last_requests)
            print(stderr, "{}{}{}", Raw{terminal ? "\r\033[K" : ""}, status_line(status, running.settings.http),
                  Raw{terminal ? "" : "\n"});
        last_sent = status.sent;
        last_requests = status.requests;
    }
    if (terminal && !quiet) print(stderr, "\r\033[K");
}

// What became of the streams. Returns the exit status.
int tell_end(const stream::StreamServer& server, const Running& running, bool json) {
    const stream::StreamServerStatus status = server.status();
    int exit_status = 0;
    bool sent_datagrams = false;
    for (const stream::StreamStatus& s : status.streams) {
        sent_datagrams = sent_datagrams || s.status.datagrams > 0;
        if (!s.status.ended || s.status.error.empty()) continue;
        print(stderr, "wavecrest: stream \"{}\" stopped early: {}\n", s.name, s.status.error);
        exit_status = 3;
    }
    if (json) {
        print_json(report::to_json(server, status));
        return exit_status;
    }
    print("Stopped after {}: {}{} sent.\n", base::format_span(status.uptime),
          running.settings.http ? base::format_count(status.requests, "request") + ", " : "",
          base::format_bytes(status.sent));
    for (const stream::StreamStatus& s : status.streams) {
        if (s.status.refused > 0)
            print("{}: {} packets refused by the network: no route to the address, or its buffer was full.\n", s.name,
                  s.status.refused);
    }
    if (sent_datagrams)
        print("Send timing: at most {:.1f} ms late, 99 % within {:.1f} ms{}.\n", base::to_seconds(status.latest) * 1000,
              base::to_seconds(status.late_99) * 1000, status.real_time ? "" : " (without real-time scheduling)");
    return exit_status;
}

int serve(const StreamRunOptions& options) {
    const bool json = options.output.json, quiet = options.output.quiet;
    std::optional<Time> bound;
    if (!options.bound.empty()) {
        bound = base::parse_span(options.bound);
        if (!bound)
            return report_error({ErrorKind::usage, fmt::format("\"{}\" isn't a valid time", options.bound), "--for",
                                 "write for example \"10 s\" or \"5 min\""},
                                json);
    }
    // This runs for months: indices of films, which are large, go back to the system when they are forgotten.
    ::mallopt(M_MMAP_THRESHOLD, 1 << 20);
    end_within(std::chrono::milliseconds(1700));
    auto running = set_up(options);
    if (!running) return report_error(running.error(), json);
    auto ready = stream::prepare_server(running->items);
    if (!ready) return report_error(ready.error(), json);
    if (const Status tried = try_encodes(*running, quiet); !tried) return report_error(tried.error(), json);
    // (A log on the screen has these lines already.)
    if (!quiet && !base::is_log_on_stderr()) {
        running->settings.on_line = [terminal = ::isatty(STDERR_FILENO) != 0](const std::string& line) {
            print(stderr, "{}{}\n", Raw{terminal ? "\r\033[K" : ""}, line);
        };
    }
    if (auto token = stream::control_token()) {
        running->settings.token = *token;
    } else {
        note(fmt::format("{} ({}): the streams run without monitoring and control; {}", token.error().what,
                         token.error().where, token.error().remedy));
    }
    if (!json) {
        print_live(ready->live);
        for (const stream::ReadyStream& s : ready->on_demand) {
            for (const std::string& text : s.hls ? s.hls->notes() : std::vector<std::string>{})
                note(fmt::format("{} (hls): {}", s.name, text));
        }
    }
    // (Ends after the server, whose pages it answers.)
    auto library = open_library(*running);
    if (!library) return report_error(library.error(), json);
    if (*library) running->settings.pages.push_back((*library)->pages());
    auto started = stream::StreamServer::start(std::move(*ready), running->settings);
    if (!started) return report_error(started.error(), json);
    const stream::StreamServer& server = **started;
    // Where it listens at one address, devices can't reach it by others.
    if (*library)
        (*library)->start(
            server.http_port(),
            running->settings.address.empty() ? running->settings.udp.interface : running->settings.address,
            running->settings.on_line);
    const stream::RunNote run_note(
        {::getpid(), server.http_port(),
         options.site.empty() ? running->items.front().name : base::absolute_path(options.site).string()});
    if (!json) print_addresses(*running, server);
    watch(server, *running, bound, quiet);
    return tell_end(server, *running, json);
}

}  // namespace

int run_stream(const StreamRunOptions& options) {
    return run_in_worker([&] { return serve(options); }, std::chrono::milliseconds(1900));
}

}  // namespace wavecrest::cli
