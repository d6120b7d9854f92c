#include <malloc.h>
#include <unistd.h>

#include <chrono>
#include <cmath>
#include <nlohmann/json.hpp>
#include <thread>

#include "base/units.hpp"
#include "cli/commands.hpp"
#include "cli/media_json.hpp"
#include "cli/worker.hpp"
#include "host/machine.hpp"
#include "media/track_choice.hpp"
#include "net/http_client.hpp"
#include "render/table.hpp"
#include "site/site.hpp"
#include "stream/control.hpp"
#include "stream/station.hpp"

namespace wavecrest::cli {
namespace {

struct Running {
    std::vector<stream::StationItem> items;
    stream::StationSettings settings;
    std::optional<site::Site> site;
    std::vector<std::pair<stream::Part, std::string>> encodes;  // with their profiles
};

Result<stream::StationItem> item_of(StreamRunOptions options) {
    stream::StationItem item;
    if (!options.publish_key_file.empty()) {
        WAVECREST_TRY_ASSIGN(key, stream::read_key(options.publish_key_file));
        options.publish_key = std::move(key);
    }
    WAVECREST_TRY(media::check_sound_words(options.choice.sound, "--sound"));
    for (const std::string& file : options.files) item.parts.push_back({file, options.title, 1, options.choice});
    if (!item.parts.empty()) item.parts.front().chapter = options.chapter;
    item.name = !options.name.empty() ? options.name
                : item.parts.empty()  ? "published"
                                      : item.parts.front().source.lexically_normal().stem().string();
    if (!options.publish_key.empty() && !item.parts.empty())
        return fail(ErrorKind::usage, "what is published here has no file", "--publish-key", "leave one of them out");
    if (!options.publish_key.empty() && options.publish_key.size() < stream::kShortestKey)
        return fail(ErrorKind::usage, "the key is too short", "--publish-key", "use eight letters and digits or more");
    const StreamRunOptions plain;
    if (!options.publish_key.empty() &&
        (options.loop || !options.rate.empty() || !options.profile.empty() || options.chapter != plain.chapter ||
         options.title != plain.title || !options.subtitles.empty() || !options.choice.sound.empty() ||
         options.choice.picture != 0 || options.choice.drawn != plain.choice.drawn))
        return fail(ErrorKind::usage, "what is published here goes out as it comes", "--publish-key",
                    "leave out --profile, --rate, --loop and what chooses titles, tracks or subtitles");
    item.publish_key = options.publish_key;
    item.subtitles = options.subtitles;
    item.loop = options.loop;
    for (const std::string& word : options.offers) WAVECREST_TRY(stream::add_offer(item.offers, word));
    for (const bool rtp : {false, true}) {
        for (const std::string& text : rtp ? options.rtp : options.udp) {
            WAVECREST_TRY_ASSIGN(address, net::parse_udp_address(text));
            item.targets.push_back({address, rtp});
        }
    }
    if (options.push_key.empty() && !options.push_key_file.empty()) {
        WAVECREST_TRY_ASSIGN(key, stream::read_key(options.push_key_file));
        options.push_key = std::move(key);
    }
    for (std::string text : options.push) {
        if (!options.push_key.empty()) text += (text.ends_with("/") ? "" : "/") + options.push_key;
        WAVECREST_TRY_ASSIGN(address, net::parse_rtmp_address(text));
        item.push.push_back(address);
    }
    if (!options.rate.empty()) {
        const auto rate = base::parse_bitrate(options.rate);
        if (!rate || *rate < 50'000)
            return fail(ErrorKind::usage, fmt::format("\"{}\" is no rate", options.rate), "--rate",
                        "write a number and kbit/s or Mbit/s: \"8 Mbit/s\"");
        item.rate_bps = *rate;
    }
    // Sending alone needs no server; a port asks for both.
    const bool sent = !item.targets.empty() || !item.push.empty();
    if (!item.offers.any() && item.published()) item.offers.rtmp = true;
    if (!item.offers.any() && (!sent || options.port != 0)) {
        std::error_code error;
        if (item.parts.size() == 1 && options.profile.empty() &&
            !std::filesystem::is_directory(item.parts.front().source, error)) {
            item.offers.file = true;
        } else {
            item.offers.live = true;
        }
    }
    if (!options.choice.sound.empty() && !item.is_live() && !item.offers.hls)
        return fail(ErrorKind::usage, "files go out with all of their sound: players choose", "--sound",
                    "add --offer hls or --offer live, or leave it out");
    if (options.choice.picture > 0 && !item.is_live() && !item.offers.hls)
        return fail(ErrorKind::usage, "files go out with all of their pictures: players choose", "--picture",
                    "add --offer hls or --offer live, or leave it out");
    if (options.choice.drawn != TrackChoice{}.drawn && options.profile.empty())
        return fail(ErrorKind::usage, "subtitles are drawn into pictures that are encoded anew", "--draw-subtitles",
                    "add --profile, or leave it out");
    if (!item.is_live() && (options.loop || !options.rate.empty() || !options.profile.empty() || options.chapter > 1))
        return fail(ErrorKind::usage, "--loop, --rate, --profile and --chapter belong to live streams",
                    "the command line",
                    "viewers of a file fetch it at their own pace; add --offer live, or send it with --udp");
    return item;
}

// What is said of files on the command line is said of a site's streams in its file: nothing of it is just left out.
Status check_beside_site(const StreamRunOptions& options) {
    const StreamRunOptions plain;
    struct Said {
        bool here;
        const char* option;
        const char* key;
    };
    std::string options_said, keys;
    const auto add = [&](const char* where, std::initializer_list<Said> all) {
        std::string some;
        for (const Said& one : all) {
            if (!one.here) continue;
            options_said += (options_said.empty() ? "" : ", ") + std::string(one.option);
            some += (some.empty() ? "" : ", ") + std::string(one.key);
        }
        if (!some.empty()) keys += fmt::format("{}{} {}", keys.empty() ? "" : "; ", some, where);
    };
    add("of a [[stream]]", {{!options.offers.empty(), "--offer", "offer"},
                            {options.title != plain.title, "--title", "title"},
                            {options.chapter != plain.chapter, "--chapter", "chapter"},
                            {!options.name.empty(), "--name", "name"},
                            {!options.choice.sound.empty(), "--sound", "sound"},
                            {options.choice.picture != 0, "--picture", "picture"},
                            {options.choice.drawn != plain.choice.drawn, "--draw-subtitles", "draw_subtitles"},
                            {!options.subtitles.empty(), "--subtitles", "subtitles"},
                            {!options.profile.empty(), "--profile", "profile"},
                            {!options.udp.empty(), "--udp", "udp"},
                            {!options.rtp.empty(), "--rtp", "rtp"},
                            {!options.push.empty(), "--push", "push"},
                            {options.loop, "--loop", "loop"},
                            {!options.rate.empty(), "--rate", "rate"}});
    add("of [server]", {{!options.certificate.empty(), "--certificate", "certificate"},
                        {!options.certificate_key.empty(), "--certificate-key", "certificate_key"},
                        {!options.interface.empty(), "--interface", "interface"},
                        {options.hops != plain.hops, "--hops", "hops"}});
    if (options_said.empty()) return {};
    return fail(ErrorKind::usage, "beside --site, " + options_said + " would change nothing: the site's file says it",
                "the command line", fmt::format("write in {}: {}", options.site, keys));
}

Result<Running> set_up(const StreamRunOptions& options) {
    Running running;
    stream::StationSettings& settings = running.settings;
    const bool one_off = !options.files.empty() || !options.publish_key.empty() || !options.publish_key_file.empty();
    if (options.site.empty() != one_off) {
        return fail(ErrorKind::usage, "name either a site file with --site, or files to stream", "the command line",
                    "wavecrest stream run --site site.toml, or wavecrest stream run FILE");
    }
    if (!options.site.empty()) {
        WAVECREST_TRY(check_beside_site(options));
        WAVECREST_TRY_ASSIGN(loaded, site::load(options.site));
        WAVECREST_TRY_ASSIGN(items, loaded.items());
        running.items = std::move(items);
        settings = loaded.station_settings();
        if (running.items.empty())
            return fail(ErrorKind::usage, "the site lists no streams", options.site,
                        "add a [[stream]] with a name and a file");
        for (const site::SiteStream& s : loaded.streams) {
            if (!s.profile.empty()) running.encodes.emplace_back(s.item.parts.front(), s.profile);
        }
        running.site = std::move(loaded);
    } else {
        WAVECREST_TRY_ASSIGN(item, item_of(options));
        if (!options.profile.empty()) {
            WAVECREST_TRY_ASSIGN(graph, site::plan_encode(item.parts.front(), options.profile));
            item.transcode = std::move(graph);
            running.encodes.emplace_back(item.parts.front(), options.profile);
        }
        settings.http = item.offers.file || item.offers.hls || item.offers.live || item.offers.live_hls;
        if (options.certificate.empty() != options.certificate_key.empty())
            return fail(ErrorKind::usage, "a certificate and its key belong together", "the command line",
                        "name both, with --certificate and --certificate-key");
        if (!options.certificate.empty())
            settings.certificate = net::CertificateFiles{options.certificate, options.certificate_key};
        settings.udp.interface = options.interface;
        settings.udp.hops = options.hops;
        running.items.push_back(std::move(item));
    }
    if (options.port != 0) settings.http_port = options.port;
    if (options.tls_port != 0) settings.tls_port = options.tls_port;
    if (options.rtmp_port != 0) settings.rtmp_port = options.rtmp_port;
    if (!options.bind.empty()) settings.address = options.bind == "0.0.0.0" || options.bind == "::" ? "" : options.bind;
    return running;
}

void print_live(const std::vector<stream::ReadyLive>& streams) {
    for (const stream::ReadyLive& ready : streams) {
        for (const stream::LiveTarget& target : ready.item.targets)
            print("Sending {}{} to {}\n", ready.item.name, ready.item.loop ? ", over and over," : "",
                  stream::address_for(target));
        if (ready.item.targets.empty() && !ready.programme.parts.empty())
            print("Playing {}{}{}\n", ready.item.name, ready.item.loop ? ", over and over" : "",
                  ready.programme.parts.size() > 1 ? fmt::format(", {} parts", ready.programme.parts.size()) : "");
        for (const Track& track : ready.programme.tracks)
            print("  {:<8} {}\n", media::short_name(track.kind), describe(track));
        if (ready.item.transcode) {
            const auto& to = ready.item.transcode->video.encode;
            print("  encoded anew on the way: h264 {}x{}, aac\n", to.width, to.height);
        }
        for (const std::string& text : ready.programme.notes) note(fmt::format("{} (live): {}", ready.item.name, text));
    }
}

void print_addresses(const Running& running, const stream::Station& station) {
    site::Site site = running.site.value_or(site::Site{});
    site.listen = running.settings.address;
    const std::string host = site.host();
    const auto all = station.addresses(host);
    bool shared = false, own = false;
    // Where datagrams of a single stream go is named above.
    const bool to_enter = std::any_of(all.begin(), all.end(), [&](const stream::StationAddress& one) {
        return running.site || (one.way != "udp" && one.way != "rtp");
    });
    for (const stream::StationAddress& one : all) shared = shared || one.way == "udp" || one.way == "rtp";
    if (to_enter) {
        print("\nAddresses to enter:\n\n");
        render::Table table({"on", "enter", "for"});
        for (const stream::StationAddress& one : all) {
            if (!running.site && (one.way == "udp" || one.way == "rtp")) continue;
            (one.way == "file" || one.way == "hls" ? own : shared) = true;
            // Where devices are listed, what none of them is given by HTTP is the other form of what they are given.
            const bool devices = !site.devices.empty() && running.site;
            bool listed = devices && net::is_http_address(one.address);
            for (const site::SiteDevice& d : site.devices) {
                const auto entry = std::find_if(site.streams.begin(), site.streams.end(),
                                                [&](const site::SiteStream& s) { return s.name() == one.stream; });
                if (entry == site.streams.end() || !entry->meant_for(d.device.name)) continue;
                const auto its = stream::addresses_for(d.device, all);
                if (std::none_of(its.begin(), its.end(),
                                 [&](const stream::StationAddress& a) { return a.address == one.address; }))
                    continue;
                listed = true;
                table.add({d.device.name, one.address, fmt::format("{} ({})", one.stream, words_for(one.way))});
            }
            if (!listed)
                table.add({devices ? "other devices" : "any device", one.address,
                           fmt::format("{} ({})", one.stream, words_for(one.way))});
        }
        print("{}", Raw{table.text(2)});
        std::string others;
        for (const host::Address& a : host::addresses()) {
            if (!a.loopback && a.address != host && site.listen.empty())
                others += (others.empty() ? "" : ", ") + a.address;
        }
        if (!others.empty()) print("\nThis machine's other addresses: {}.", others);
    }
    for (const stream::StationItem& item : station.items()) {
        // The name there is a key, as a rule.
        for (const net::RtmpAddress& to : item.push)
            print("\nPublishing \"{}\" to {}\n", item.name,
                  net::RtmpAddress{to.host, to.port, to.application, "KEY"}.text());
        if (item.published())
            print("\nTo publish \"{}\", send it to {}\n", item.name,
                  net::RtmpAddress{host, item.ports.rtmp != 0 ? item.ports.rtmp : station.ports().rtmp,
                                   std::string(stream::kRtmpApplication), "KEY"}
                      .text());
    }
    if (!running.settings.token.empty()) {
        print("\nSee and steer: wavecrest stream status");
        if (running.settings.http)
            print(", or {}{} in a browser;\n  its token is in {}", stream::address_for(host, station.http_port(), ""),
                  stream::kControlPath, stream::control_token_file().string());
        print("\n");
    }
    print("{}{}Ctrl-C ends it.\n", own ? "Every viewer of a file pauses and skips for themselves. " : "",
          shared ? "Live plays the same for all. " : "");
    std::fflush(stdout);
}

std::string live_words(const stream::StationStatus& status) {
    std::string line;
    for (const stream::StationStream& s : status.streams) {
        if (!s.live) continue;
        if (s.published) {
            line += fmt::format("; {} {}", s.name,
                                s.published_by.empty() ? "is not published now" : "is published by " + s.published_by);
            continue;
        }
        line += fmt::format(
            "; {} at {}{}{}{}", s.name, base::format_clock(s.status.position),
            s.status.rounds > 0 ? fmt::format(", round {}", s.status.rounds + 1) : "",
            s.status.refused > 0 ? fmt::format(", {} datagrams the network did not take", s.status.refused) : "",
            s.status.state == stream::LiveStatus::State::playing ? ""
                                                                 : fmt::format(", {}", short_name(s.status.state)));
    }
    return line;
}

std::string status_line(const stream::StationStatus& status, bool serving) {
    double rate = 0;
    for (const stream::StationViewer& v : status.viewers) rate += v.rate_bps;
    for (const stream::StationStream& s : status.streams) {
        if (s.status.datagrams > 0) rate += s.rate_bps;
    }
    std::string line = base::format_clock(status.uptime) + "  ";
    if (serving) line += fmt::format("{} watching, ", status.viewers.size());
    line += fmt::format("{} now, {} sent", base::format_bitrate(std::llround(rate)), base::format_bytes(status.sent));
    std::size_t shown = 0;
    for (const stream::StationViewer& v : status.viewers) {
        if (v.live || ++shown > 3) continue;
        line += fmt::format("; {} {} at {} of {}", v.address, v.stream, base::format_clock(v.position),
                            base::format_clock(v.duration));
    }
    return line + live_words(status);
}

nlohmann::ordered_json final_json(const stream::Station& station, const stream::StationStatus& status) {
    auto streams = nlohmann::ordered_json::array(), live = nlohmann::ordered_json::array();
    for (const stream::ReadyStream& s : station.on_demand())
        streams.push_back({{"name", s.name},
                           {"path", s.path},
                           {"duration_s", base::to_seconds(s.duration)},
                           {"size_bytes", s.size_bytes},
                           {"bitrate_bps", s.bitrate_bps}});
    for (const stream::StationStream& s : status.streams) {
        if (!s.live || (s.published && s.status.parts == 0)) continue;
        live.push_back({{"name", s.name},
                        {"position_s", base::to_seconds(s.status.position)},
                        {"rounds", s.status.rounds},
                        {"datagrams", s.status.datagrams},
                        {"bytes", s.status.bytes},
                        {"refused", s.status.refused},
                        {"stalls", s.status.stalls},
                        {"ended", s.status.ended}});
    }
    return {{"streams", streams},
            {"port", station.http_port()},
            {"live",
             {{"streams", live},
              {"late_99_s", base::to_seconds(status.late_99)},
              {"latest_s", base::to_seconds(status.latest)},
              {"real_time_scheduling", status.real_time}}},
            {"uptime_s", base::to_seconds(status.uptime)},
            {"sent_bytes", status.sent},
            {"requests", status.requests}};
}

// Says beforehand which encodes this machine is too slow for.
Status try_encodes(const Running& running, bool quiet) {
    for (const auto& [part, profile] : running.encodes) {
        if (!quiet)
            note(fmt::format("trying how fast this machine encodes {} with {} ...", part.source.filename().string(),
                             profile));
        WAVECREST_TRY_ASSIGN(slow, site::try_encode(part, profile, cancel()));
        if (slow) note(fmt::format("{}; {}", slow->what, slow->remedy));
    }
    return {};
}

}  // namespace

std::string words_for(const std::string& way) {
    if (way == "file") return "each viewer's own";
    if (way == "hls") return "HLS, each viewer's own";
    if (way == "subtitles") return "subtitles, for a player that asks for them";
    if (way == "live") return "live";
    if (way == "live-hls") return "live, HLS";
    return "live, " + std::string(way == "rtmp" ? "RTMP" : way == "udp" ? "UDP" : "RTP");
}

namespace {

int serve(const StreamRunOptions& options) {
    const bool json = options.output.json, quiet = options.output.quiet;
    std::optional<Time> bound;
    if (!options.bound.empty()) {
        bound = base::parse_span(options.bound);
        if (!bound)
            return report_error({ErrorKind::usage, fmt::format("\"{}\" is no length of time", options.bound), "--for",
                                 "write a number and ms, s, min or h: \"10 s\""},
                                json);
    }
    // This runs for months: indices of films, which are large, go back to the system when they are forgotten.
    ::mallopt(M_MMAP_THRESHOLD, 1 << 20);
    end_within(std::chrono::milliseconds(1700));
    auto running = set_up(options);
    if (!running) return report_error(running.error(), json);
    auto ready = stream::prepare_station(running->items);
    if (!ready) return report_error(ready.error(), json);
    if (const Status tried = try_encodes(*running, quiet); !tried) return report_error(tried.error(), json);
    const bool terminal = ::isatty(STDERR_FILENO) != 0;
    if (!quiet) {
        running->settings.on_line = [terminal](const std::string& line) {
            print(stderr, "{}{}\n", Raw{terminal ? "\r\033[K" : ""}, line);
        };
    }
    if (auto token = stream::control_token()) {
        running->settings.token = *token;
    } else {
        note(fmt::format("{} ({}): the streams run without controls; {}", token.error().what, token.error().where,
                         token.error().remedy));
    }
    if (!json) {
        print_live(ready->live);
        for (const stream::ReadyStream& s : ready->on_demand) {
            for (const std::string& text : s.hls ? s.hls->notes() : std::vector<std::string>{})
                note(fmt::format("{} (hls): {}", s.name, text));
        }
    }
    auto started = stream::Station::start(std::move(*ready), running->settings);
    if (!started) return report_error(started.error(), json);
    const stream::Station& station = **started;
    const stream::RunNote run_note(
        {::getpid(), station.http_port(),
         options.site.empty() ? running->items.front().name : base::absolute_path(options.site).string()});
    if (!json) print_addresses(*running, station);

    using namespace std::chrono_literals;
    const auto start = std::chrono::steady_clock::now();
    auto last_shown = start;
    std::uint64_t last_sent = 0, last_requests = 0;
    while (!cancel().requested()) {
        const auto now = std::chrono::steady_clock::now();
        if (bound && now - start >= std::chrono::duration_cast<std::chrono::steady_clock::duration>(*bound)) break;
        std::this_thread::sleep_for(50ms);
        if (station.ended()) break;
        if (quiet || now - last_shown < (terminal ? 1000ms : 5000ms)) continue;
        const stream::StationStatus status = station.status();
        last_shown = now;
        // Where nobody watches the line change, silence means that nothing happens.
        if (terminal || status.sent != last_sent || status.requests != last_requests)
            print(stderr, "{}{}{}", Raw{terminal ? "\r\033[K" : ""}, status_line(status, running->settings.http),
                  Raw{terminal ? "" : "\n"});
        last_sent = status.sent;
        last_requests = status.requests;
    }
    if (terminal && !quiet) print(stderr, "\r\033[K");
    const stream::StationStatus status = station.status();
    int exit_status = 0;
    bool sent_datagrams = false;
    for (const stream::StationStream& s : status.streams) {
        sent_datagrams = sent_datagrams || s.status.datagrams > 0;
        if (!s.status.ended || s.status.error.empty()) continue;
        print(stderr, "wavecrest: stream \"{}\" ended early: {}\n", s.name, s.status.error);
        exit_status = 3;
    }
    if (json) {
        print_json(final_json(station, status));
        return exit_status;
    }
    print("Ended after {}: {}{} sent.\n", base::format_span(status.uptime),
          running->settings.http ? base::format_count(status.requests, "request") + ", " : "",
          base::format_bytes(status.sent));
    for (const stream::StationStream& s : status.streams) {
        if (s.status.refused > 0)
            print("{}: {} datagrams were not taken by the network: no way to the address, or no room.\n", s.name,
                  s.status.refused);
    }
    if (sent_datagrams)
        print("Datagrams left {:.1f} ms late at most, 99 of 100 within {:.1f} ms{}.\n",
              base::to_seconds(status.latest) * 1000, base::to_seconds(status.late_99) * 1000,
              status.real_time ? "" : " (the system granted no real-time scheduling)");
    return exit_status;
}

}  // namespace

int run_stream(const StreamRunOptions& options) {
    return run_in_worker([&] { return serve(options); }, std::chrono::milliseconds(1900));
}

}  // namespace wavecrest::cli
