// Seeing and steering streams that another process runs.
#include <unistd.h>

#include <algorithm>
#include <cctype>
#include <chrono>
#include <cmath>
#include <nlohmann/json.hpp>
#include <thread>

#include "base/units.hpp"
#include "cli/commands.hpp"
#include "net/http_client.hpp"
#include "render/table.hpp"
#include "site/site.hpp"
#include "stream/control.hpp"

namespace wavecrest::cli {
namespace {

using Json = nlohmann::ordered_json;

struct StreamServer {
    net::Url url;
    std::string token;
};

Result<Json> ask(StreamServer server, const std::string& target, const std::string& method, const std::string& body) {
    server.url.target = target;
    net::HttpExchange request;
    request.method = method;
    request.token = server.token;
    request.body = body;
    WAVECREST_TRY_ASSIGN(answered, net::HttpClient::exchange(server.url, request));
    Json json = Json::parse(answered.body, nullptr, false);
    if (answered.status == 401)
        return fail(ErrorKind::machine, "the running streams have another access code", server.url.text(),
                    "run this as the user who runs them");
    if (!json.is_object())
        return fail(ErrorKind::wanting, "another program answers on this port", server.url.text(), "check the port");
    if (answered.status != 200)
        return fail(answered.status == 404 ? ErrorKind::usage : ErrorKind::wanting, json.value("error", "refused"),
                    server.url.text(), json.value("remedy", "wavecrest stream status lists the streams"));
    return json;
}

bool names_alike(std::string name, std::string asked) {
    const auto lower = [](std::string& text) {
        std::transform(text.begin(), text.end(), text.begin(), [](unsigned char c) { return std::tolower(c); });
    };
    lower(name);
    lower(asked);
    return name.starts_with(asked);
}

Result<StreamServer> find_station(const StreamControlOptions& options) {
    StreamServer server;
    server.url.host = "127.0.0.1";
    WAVECREST_TRY_ASSIGN(token, stream::control_token());
    server.token = token;
    const auto runs = stream::running();
    if (options.port != 0) {
        server.url.port = options.port;
        return server;
    }
    std::string site;
    if (!options.site.empty()) {
        WAVECREST_TRY_ASSIGN(loaded, site::load(options.site));
        site = base::absolute_path(options.site).string();
        for (const stream::Run& run : runs) {
            if (run.what == site) server.url.port = run.port;
        }
        if (server.url.port == 0)
            return fail(ErrorKind::wanting, "the streams of this site aren't running", options.site,
                        "start them: wavecrest stream run --site " + options.site);
        return server;
    }
    if (runs.empty())
        return fail(ErrorKind::wanting, "no streams run on this machine, for this user", "running streams",
                    "start them with wavecrest stream run; or name the port of another user's with --port");
    if (runs.size() > 1 && !options.stream.empty()) {
        // The only one that has a stream of this name is meant.
        std::vector<std::uint16_t> with;
        for (const stream::Run& run : runs) {
            server.url.port = run.port;
            const auto status = ask(server, "/control/status", "GET", "");
            if (!status) continue;
            for (const Json& one : status->at("streams")) {
                if (names_alike(one.value("name", ""), options.stream)) {
                    with.push_back(run.port);
                    break;
                }
            }
        }
        if (with.size() == 1) {
            server.url.port = with.front();
            return server;
        }
    }
    if (runs.size() > 1) {
        std::string list;
        for (const stream::Run& run : runs)
            list += fmt::format("{}--port {} ({})", list.empty() ? "" : ", ", run.port, run.what);
        return fail(ErrorKind::usage, "several stream servers run on this machine", "running streams",
                    "select one: " + list);
    }
    server.url.port = runs.front().port;
    return server;
}

std::string clock(double seconds) {
    return base::format_clock(base::from_seconds(seconds));
}
std::string rate(const Json& json, const char* key) {
    return base::format_bitrate(json.value(key, std::int64_t{0}));
}

std::string status_text(const Json& json) {
    std::string text =
        fmt::format("Running for {}, {} sent, {:.0f} % of one processor core\n\n", clock(json.value("uptime_s", 0.0)),
                    base::format_bytes(json.value("sent_bytes", std::uint64_t{0})), json.value("processor", 0.0) * 100);
    render::Table streams({"stream", "state", "at", "rate now", "last minute", "watching"});
    std::vector<std::string> remarks;
    for (const Json& s : json.at("streams")) {
        const bool live = s.value("live", false);
        std::string at = "-";
        if (live && s.value("parts", 0) > 0 && s.value("state", "") != "ended") {
            at = clock(s.value("position_s", 0.0));
            if (s.value("duration_s", 0.0) > 0) at += " of " + clock(s.value("duration_s", 0.0));
            if (s.value("parts", 0) > 1)
                at += fmt::format(", part {} of {}", s.value("part_number", 1), s.value("parts", 0));
            if (s.value("loops", 0) > 0) at += fmt::format(", loop {}", s.value("loops", 0) + 1);
        }
        const auto name = s.value("name", "");
        streams.add({name, live ? s.value("state", "") : "on demand", at, rate(s, "rate_bps"),
                     rate(s, "rate_minute_bps"), fmt::format("{}", s.value("viewers", 0))});
        if (const auto error = s.value("error", ""); !error.empty()) remarks.push_back(name + ": " + error);
        if (s.value("refused", 0) > 0)
            remarks.push_back(fmt::format("{}: {} packets refused by the network", name, s.value("refused", 0)));
        if (s.value("stalls", 0) > 0)
            remarks.push_back(fmt::format("{}: source too slow ({})", name,
                                          base::format_count(s.value("stalls", std::size_t{0}), "time")));
        if (s.contains("published_by")) remarks.push_back(name + ": published by " + s.value("published_by", ""));
        if (s.contains("rungs")) remarks.push_back(fmt::format("{}: ladder {}", name, s.value("rungs", "")));
        if (s.contains("push")) {
            for (const Json& one : s.at("push")) remarks.push_back(name + ": to " + one.get<std::string>());
        }
    }
    text += streams.text(2);
    if (!json.at("viewers").empty()) {
        render::Table viewers({"viewer", "stream", "since", "rate now", "sent", "at"});
        for (const Json& v : json.at("viewers")) {
            std::string at =
                v.value("live", false)
                    ? (v.value("lag_s", 0.0) < 0.5 ? "live" : fmt::format("{:.1f} s behind", v.value("lag_s", 0.0)))
                    : fmt::format("sent up to {}", clock(v.value("position_s", 0.0)));
            if (v.value("delivery", "") == "hls") at += " (HLS)";
            if (const int stalls = v.value("stalls", 0); stalls > 0)
                at += fmt::format(", {}, {} in all", base::format_count(static_cast<std::size_t>(stalls), "stall"),
                                  base::format_span(base::from_seconds(v.value("stalled_s", 0.0))));
            if (const auto skips = v.value("skipped", std::size_t{0}); skips > 0)
                at += fmt::format(", skipped ahead {}", base::format_count(skips, "time"));
            viewers.add({v.value("address", ""), v.value("stream", ""), clock(v.value("connected_s", 0.0)),
                         rate(v, "rate_bps"), base::format_bytes(v.value("sent_bytes", std::uint64_t{0})), at});
        }
        text += "\n" + viewers.text(2);
    }
    for (const Json& disk : json.value("hung", Json::array()))
        remarks.push_back(fmt::format(
            "{} has not answered for {}: its streams wait. Check the drive, or the share's server and cable.",
            disk.value("at", ""), base::format_span(base::from_seconds(disk.value("since_s", 0.0)))));
    if (!remarks.empty()) text += "\n";
    for (const std::string& remark : remarks) text += "  " + base::printable(remark) + "\n";
    return text;
}

}  // namespace

int run_stream_status(const StreamControlOptions& options) {
    const auto server = find_station(options);
    if (!server) return report_error(server.error(), options.output.json);
    while (true) {
        const auto json = ask(*server, "/control/status", "GET", "");
        if (!json) return report_error(json.error(), options.output.json);
        if (options.output.json) {
            print_json(*json);
        } else {
            // A watched view is drawn over the one before.
            if (options.watch && ::isatty(STDOUT_FILENO) != 0) print("\033[H\033[2J");
            print("{}", by_lines(status_text(*json)));
            std::fflush(stdout);
        }
        if (!options.watch) return 0;
        for (int i = 0; i < 20; ++i) {
            if (cancel().requested()) return 0;
            std::this_thread::sleep_for(std::chrono::milliseconds(50));
        }
        if (!options.output.json && ::isatty(STDOUT_FILENO) == 0) print("\n");
    }
}

int run_stream_order(const std::string& order, const StreamControlOptions& options) {
    const bool json = options.output.json;
    Json body = {{"stream", options.stream}, {"do", order}};
    if (order == "seek") {
        const int given = (options.by.empty() ? 0 : 1) + (options.to.empty() ? 0 : 1) + options.next + options.back;
        if (given != 1)
            return report_error({ErrorKind::usage, "give one of --by, --to, --next and --previous", "the command line",
                                 "wavecrest stream seek NAME --by \"30 s\""},
                                json);
        if (!options.by.empty()) {
            const bool back = options.by.front() == '-';
            const auto span = base::parse_span(back ? options.by.substr(1) : options.by);
            if (!span)
                return report_error({ErrorKind::usage, fmt::format("\"{}\" isn't a valid time", options.by), "--by",
                                     "write for example \"30 s\", or \"-10 s\" to go back"},
                                    json);
            body["by_s"] = base::to_seconds(*span) * (back ? -1 : 1);
        } else if (!options.to.empty()) {
            auto to = base::parse_clock(options.to);
            if (!to) to = base::parse_span(options.to);
            if (!to)
                return report_error({ErrorKind::usage, fmt::format("\"{}\" isn't a valid position", options.to), "--to",
                                     "write it as 12:30, 1:02:00 or \"90 s\""},
                                    json);
            body["to_s"] = base::to_seconds(*to);
        } else {
            body["part"] = options.next ? 1 : -1;
        }
    }
    const auto server = find_station(options);
    if (!server) return report_error(server.error(), json);
    const auto done = ask(*server, "/control/do", "POST", body.dump());
    if (!done) return report_error(done.error(), json);
    if (json) {
        print_json(*done);
    } else {
        // What is on its way is seen first: with a connection what the player holds, with HLS three segments and more.
        const double late = done->value("hls_latency_s", 0.0);
        const std::string hls = late > 0 ? fmt::format("; HLS viewers see it up to {:.0f} s later", late) : "";
        // (Where there is HLS, more is made ahead.)
        const std::string seeking = late > 0 ? "seeking, about 3 s" : "seeking, about 2 s";
        print("{}: {}, for all viewers{}.\n", done->value("stream", options.stream),
              order == "pause"               ? "paused"
              : order == "resume"            ? "continues"
              : order == "stop"              ? "ended"
              : done->value("paused", false) ? seeking + ", then paused"
                                             : seeking,
              hls);
    }
    return 0;
}

}  // namespace wavecrest::cli
