#include "stream/control.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/file.h>
#include <sys/random.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cctype>
#include <cmath>
#include <cstdlib>
#include <nlohmann/json.hpp>

#include "base/embedded.hpp"
#include "base/units.hpp"
#include "net/own_page.hpp"
#include "stream/screens.hpp"
#include "stream/stream_server.hpp"

namespace wavecrest::stream {
namespace {

using Json = nlohmann::ordered_json;
namespace fs = std::filesystem;

double rounded(double value) {
    return std::round(value * 1000) / 1000;
}
double seconds(Time time) {
    return rounded(base::to_seconds(time));
}

net::HttpReply json_reply(int status, const Json& json) {
    net::HttpReply reply =
        net::HttpReply::text(status, json.dump(2, ' ', false, Json::error_handler_t::replace) + "\n");
    reply.media_type = "application/json";
    reply.cache_control = "no-store";
    return reply;
}
net::HttpReply refusal(int status, const std::string& what, const std::string& remedy = "") {
    Json json = {{"error", what}};
    if (!remedy.empty()) json["remedy"] = remedy;
    return json_reply(status, json);
}

Json status_json(const StreamServer& server) {
    const StreamServerStatus status = server.status();
    auto streams = Json::array(), viewers = Json::array(), hung = Json::array();
    for (const host::HungDisk& disk : status.hung) hung.push_back({{"at", disk.at}, {"since_s", seconds(disk.since)}});
    for (const StreamStatus& s : status.streams) {
        Json one = {{"name", s.name},
                    {"live", s.live},
                    {"rate_bps", s.status.ended ? 0 : std::llround(s.rate_bps)},
                    {"rate_minute_bps", s.status.ended ? 0 : std::llround(s.rate_minute_bps)}};
        const auto clients = std::count_if(status.viewers.begin(), status.viewers.end(),
                                           [&](const ViewerStatus& v) { return v.stream == s.name; });
        one["viewers"] = clients;
        if (s.live) {
            one["state"] = short_name(s.status.state);
            one["part"] = s.status.part;
            one["parts"] = s.status.parts;
            one["part_number"] = s.status.part_number;
            one["position_s"] = seconds(s.status.position);
            one["duration_s"] = seconds(s.status.duration);
            one["loops"] = s.status.rounds;
            one["stalls"] = s.status.stalls;
            one["datagrams"] = s.status.datagrams;
            one["refused"] = s.status.refused;
            one["error"] = s.status.error;
            if (!s.status.rungs.empty()) one["rungs"] = s.status.rungs;
            if (!s.published_by.empty()) one["published_by"] = s.published_by;
            if (!s.push.empty()) one["push"] = s.push;
        }
        streams.push_back(std::move(one));
    }
    for (const ViewerStatus& v : status.viewers) {
        Json one = {{"address", v.address},
                    {"stream", v.stream},
                    {"live", v.live},
                    {"delivery", v.hls ? "hls" : "connection"},
                    {"connected_s", seconds(v.connected)},
                    {"rate_bps", std::llround(v.rate_bps)},
                    {"sent_bytes", v.sent}};
        if (v.live) {
            one["lag_s"] = seconds(v.lag);
            one["skipped"] = v.skips;
        } else {
            one["position_s"] = seconds(v.position);
            one["duration_s"] = seconds(v.duration);
        }
        // (What players of live segments have is not watched.)
        if (!v.live || !v.hls) {
            one["stalls"] = v.stalls;
            one["stalled_s"] = seconds(v.stalled);
        }
        viewers.push_back(std::move(one));
    }
    return {{"uptime_s", seconds(status.uptime)},
            {"connections", status.connections},
            {"requests", status.requests},
            {"sent_bytes", status.sent},
            {"processor", rounded(status.processor)},
            {"late_99_s", seconds(status.late_99)},
            {"latest_s", seconds(status.latest)},
            {"streams", streams},
            {"viewers", viewers},
            {"hung", hung}};
}

std::string_view name_of(measure::Viewing::End end) {
    using End = measure::Viewing::End;
    switch (end) {
        case End::complete:
            return "complete";
        case End::left:
            return "left";
        case End::left_at_once:
            return "left at once";
        default:
            return "playing";
    }
}

Json viewings_json(const StreamServer& server) {
    auto all = Json::array();
    for (const measure::Viewing& one : server.viewings()) {
        auto stalls = Json::array();
        for (const measure::Stall& stall : one.stalls)
            stalls.push_back(
                {{"at_s", seconds(stall.at)}, {"for_s", seconds(stall.length)}, {"clock_s", seconds(stall.clock)}});
        all.push_back({{"stream", one.stream},
                       {"address", one.address},
                       {"agent", one.agent},
                       {"delivery", one.live  ? "live"
                                    : one.hls ? "hls"
                                              : "file"},
                       {"state", name_of(one.end())},
                       {"began_s", seconds(one.began)},
                       {"last_s", seconds(one.last)},
                       {"startup_s", one.startup ? Json(seconds(*one.startup)) : Json()},
                       {"position_s", seconds(one.position)},
                       {"arrived_s", seconds(one.arrived)},
                       {"duration_s", seconds(one.duration)},
                       {"most_buffered_s", seconds(one.most_buffered)},
                       {"held_back", one.held_back},
                       {"seeks", one.seeks},
                       {"stalls", stalls}});
        if (!one.live) continue;
        all.back()["most_lag_s"] = seconds(one.most_lag);
        all.back()["skipped"] = one.skips;
    }
    return {{"viewings", all}};
}

// Whoever types a name in another case means it all the same, and so does who types its beginning or a part of it,
// where only one stream has that. No name at all is the one that can be steered.
const ServedStream* find_item(const std::vector<ServedStream>& items, const std::string& name) {
    const auto lower = [](std::string text) {
        std::transform(text.begin(), text.end(), text.begin(), [](unsigned char c) { return std::tolower(c); });
        return text;
    };
    const std::string wanted = lower(name);
    const auto only = [&](const auto& fits) -> const ServedStream* {
        if (std::count_if(items.begin(), items.end(), fits) != 1) return nullptr;
        return &*std::find_if(items.begin(), items.end(), fits);
    };
    if (name.empty()) return only([](const ServedStream& item) { return item.is_live() && !item.published(); });
    if (const auto* found = only([&](const ServedStream& item) { return item.name == name; })) return found;
    if (const auto* found = only([&](const ServedStream& item) { return lower(item.name) == wanted; })) return found;
    if (const auto* found = only([&](const ServedStream& item) { return lower(item.name).starts_with(wanted); }))
        return found;
    return only([&](const ServedStream& item) { return lower(item.name).find(wanted) != std::string::npos; });
}

std::string names_of(const std::vector<ServedStream>& items) {
    std::string names;
    for (const ServedStream& item : items) names += fmt::format("{}\"{}\"", names.empty() ? "" : ", ", item.name);
    return names;
}

net::HttpReply obey(StreamServer& server, const std::string& body) {
    const Json order = Json::parse(body, nullptr, false);
    if (!order.is_object() || !order.contains("stream") || !order["stream"].is_string() || !order.contains("do") ||
        !order["do"].is_string())
        return refusal(400, "an order is a JSON object with \"stream\" and \"do\"");
    const auto asked = order["stream"].get<std::string>(), what = order["do"].get<std::string>();
    const ServedStream* item = find_item(server.items(), asked);
    if (item == nullptr && asked.empty())
        return refusal(409, "there is more than one live stream, or none", "name one of " + names_of(server.items()));
    if (item == nullptr)
        return refusal(404, fmt::format("there is no stream \"{}\", or several names start with it", asked),
                       "name one of " + names_of(server.items()));
    const std::string& name = item->name;
    if (item->published())
        return refusal(409, fmt::format("\"{}\" is controlled by its publisher", name), "pause it there");
    if (!item->is_live())
        return refusal(409, fmt::format("viewers of \"{}\" control their own playback", name),
                       "to control it for all viewers, offer it as live, live-hls or rtmp");
    bool done = false;
    if (what == "pause" || what == "resume") {
        done = server.pause(name, what == "pause");
    } else if (what == "stop") {
        done = server.stop(name);
    } else if (what == "seek") {
        Playout::SeekOrder seek;
        const auto number = [&](const char* key) -> std::optional<double> {
            if (!order.contains(key) || !order[key].is_number()) return std::nullopt;
            const double value = order[key].get<double>();
            return std::abs(value) < 1e6 ? std::optional(value) : std::nullopt;
        };
        if (const auto by = number("by_s")) {
            seek = {Playout::SeekOrder::What::by, base::from_seconds(*by), 0};
        } else if (const auto to = number("to_s"); to && *to >= 0) {
            for (const StreamStatus& stream : server.status().streams) {
                const Time length = stream.status.duration;
                if (stream.name != name || length.count() == 0 || base::from_seconds(*to) < length) continue;
                return refusal(
                    409,
                    fmt::format("{} is beyond the end: {} is {} long", base::format_clock(base::from_seconds(*to)),
                                stream.status.part, base::format_clock(length)),
                    "seek to a time before that");
            }
            seek = {Playout::SeekOrder::What::to, base::from_seconds(*to), 0};
        } else if (const auto part = number("part"); part && std::abs(*part) == 1) {
            seek = {Playout::SeekOrder::What::part, {}, static_cast<int>(*part)};
        } else {
            return refusal(400, "seek needs \"by_s\", \"to_s\" or \"part\" (1 or -1)");
        }
        done = server.order_seek(name, seek);
    } else {
        return refusal(400, fmt::format("unknown order \"{}\": use pause, resume, seek or stop", what));
    }
    if (!done) return refusal(409, fmt::format("stream \"{}\" has ended", name), "restart the streams");
    bool paused = false;
    for (const StreamStatus& stream : server.status().streams)
        paused = paused || (stream.name == name && stream.status.state == LiveStatus::State::paused);
    Json answer = {{"done", what}, {"stream", name}, {"paused", paused}};
    if (const Time late = server.hls_latency(name); late.count() > 0) answer["hls_latency_s"] = seconds(late);
    return json_reply(200, answer);
}

Json screens_json(Screens& screens) {
    const Screens::Seen seen = screens.list();
    auto all = Json::array();
    for (const Screen& one : seen.screens) {
        Json json = {{"id", one.udn},      {"name", one.name}, {"address", one.address}, {"state", one.state},
                     {"title", one.title}, {"mute", one.mute}, {"trouble", one.trouble}};
        if (one.position) json["position_s"] = seconds(*one.position);
        if (one.duration) json["duration_s"] = seconds(*one.duration);
        if (one.volume) json["volume"] = *one.volume;
        all.push_back(std::move(json));
    }
    return {{"searched", seen.searched}, {"screens", all}};
}

net::HttpReply obey_screen(const StreamServer& server, Screens& screens, const std::string& body) {
    const Json order = Json::parse(body, nullptr, false);
    const auto text = [&](const char* key) {
        return order.is_object() && order.contains(key) && order[key].is_string() ? order[key].get<std::string>() : "";
    };
    const auto number = [&](const char* key) -> std::optional<double> {
        if (!order.contains(key) || !order[key].is_number()) return std::nullopt;
        const double value = order[key].get<double>();
        return std::abs(value) < 1e6 ? std::optional(value) : std::nullopt;
    };
    ScreenOrder wanted;
    wanted.screen = text("screen");
    const std::string what = text("do");
    if (wanted.screen.empty() || what.empty())
        return refusal(400, "an order is a JSON object with \"screen\" and \"do\"");
    using What = ScreenOrder::What;
    if (what == "play") {
        const ServedStream* item = find_item(server.items(), text("stream"));
        if (item == nullptr)
            return refusal(404, fmt::format("there is no stream \"{}\"", text("stream")),
                           "name one of " + names_of(server.items()));
        wanted.what = What::play;
        wanted.stream = item->name;
    } else if (what == "pause") {
        wanted.what = What::pause;
    } else if (what == "resume") {
        wanted.what = What::resume;
    } else if (what == "stop") {
        wanted.what = What::stop;
    } else if (what == "mute") {
        wanted.what = What::mute;
        wanted.on = order.contains("on") && order["on"].is_boolean() && order["on"].get<bool>();
    } else if (const auto percent = number("percent");
               what == "volume" && percent && *percent >= 0 && *percent <= 100) {
        wanted.what = What::volume;
        wanted.percent = static_cast<int>(*percent);
    } else if (const auto by = number("by_s"); what == "seek" && by) {
        wanted.what = What::seek_by;
        wanted.time = base::from_seconds(*by);
    } else if (const auto to = number("to_s"); what == "seek" && to) {
        wanted.what = What::seek_to;
        wanted.time = base::from_seconds(*to);
    } else {
        return refusal(400, fmt::format("order \"{}\" isn't understood", what),
                       "use play, pause, resume, stop, seek (by_s, to_s), volume (percent) or mute (on)");
    }
    screens.order(wanted);
    return json_reply(202, {{"ordered", what}});
}

tl::unexpected<Error> cannot_keep(const base::Path& file) {
    return fail(ErrorKind::machine, "the access code can't be saved", file.string(),
                "make the folder writable for this user, or set XDG_STATE_HOME to one that is");
}

}  // namespace

namespace {

net::HttpReply answer_control(StreamServer& server, Screens& screens, const std::string& token,
                              net::GuessLimiter& guesses, const net::HttpRequest& request) {
    if (!net::is_own_host(request, server.announced_host()))
        return refusal(421, "the control page answers only under this machine's own address", "ask by its IP address");
    if (request.path == kControlPath || request.path == std::string(kControlPath) + "/") {
        if (request.method != "GET") return net::HttpReply::text(405, "GET and HEAD\n");
        for (const base::EmbeddedFile& file : base::embedded_files()) {
            if (file.name != "templates/control.mustache") continue;
            net::HttpReply reply = net::HttpReply::text(200, std::string(file.text));
            reply.media_type = "text/html; charset=utf-8";
            reply.cache_control = "no-cache";
            return reply;
        }
    }
    constexpr std::string_view kBearer = "Bearer ";
    const std::string_view authorization = request.field("Authorization");
    const bool given = authorization.starts_with(kBearer);
    if (given && !guesses.may_try(request.address))
        return refusal(429, "too many wrong access codes from this address", "wait a few seconds");
    if (!given || !net::same_secret(std::string(authorization.substr(kBearer.size())), token)) {
        if (given) guesses.failed(request.address);
        return refusal(401, "access code required: wavecrest stream run prints its file");
    }
    if (request.path == std::string(kControlPath) + "/status" && request.method == "GET")
        return json_reply(200, status_json(server));
    if (request.path == std::string(kControlPath) + "/viewings" && request.method == "GET")
        return json_reply(200, viewings_json(server));
    if (request.path == std::string(kControlPath) + "/do") {
        if (request.method != "POST") return refusal(405, "orders are sent by POST");
        return obey(server, request.body);
    }
    if (request.path == std::string(kControlPath) + "/screens")
        return request.method == "POST" ? obey_screen(server, screens, request.body)
                                        : json_reply(200, screens_json(screens));
    return refusal(404, "not found");
}

}  // namespace

net::HttpAnswer control_answer(StreamServer& server, std::string token, net::GuessLimiter& guesses) {
    return [&server, &guesses, token = std::move(token),
            screens = std::make_shared<Screens>(server)](const net::HttpRequest& request) {
        return net::guarded(answer_control(server, *screens, token, guesses, request));
    };
}

base::Path control_token_file() {
    return base::state_folder() / "access-code";
}

Result<std::string> control_token() {
    const base::Path file = control_token_file();
    struct stat info {};
    if (::lstat(file.c_str(), &info) == 0) {
        // What others could have read or written is no secret any more.
        if (!S_ISREG(info.st_mode) || info.st_uid != ::geteuid() || (info.st_mode & 077) != 0) {
            return fail(ErrorKind::machine, "other users can read or change the access code", file.string(),
                        "delete the file: the next stream run makes a new one");
        }
        WAVECREST_TRY_ASSIGN(text, base::read_text_file(file, 256));
        while (!text.empty() && std::isspace(static_cast<unsigned char>(text.back())) != 0) text.pop_back();
        if (text.size() >= 16) return text;
    }
    std::error_code error;
    fs::create_directories(file.parent_path(), error);
    ::chmod(file.parent_path().c_str(), 0700);
    std::array<unsigned char, 20> random{};
    if (::getrandom(random.data(), random.size(), 0) != static_cast<ssize_t>(random.size())) return cannot_keep(file);
    // Letters and digits that aren't mistaken for one another: it may have to be typed.
    constexpr std::string_view kLetters = "abcdefghjkmnpqrstuvwxyz23456789z";
    std::string token;
    for (const unsigned char byte : random) token += kLetters[byte % 31];
    const base::Path fresh = file.parent_path() / fmt::format(".access-code-{}", ::getpid());
    const int handle = ::open(fresh.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC | O_NOFOLLOW, 0600);
    if (handle < 0) return cannot_keep(file);
    const std::string line = token + "\n";
    const bool written = ::write(handle, line.data(), line.size()) == static_cast<ssize_t>(line.size());
    ::close(handle);
    if (!written || ::rename(fresh.c_str(), file.c_str()) != 0) {
        ::unlink(fresh.c_str());
        return cannot_keep(file);
    }
    return token;
}

// The note is locked for as long as its process lives: a number of a process says little, since it is given again, and
// two containers may have the same.
RunNote::RunNote(const Run& run) {
    const base::Path folder = base::state_folder() / "running";
    std::error_code error;
    fs::create_directories(folder, error);
    std::uint64_t random = 0;
    static_cast<void>(::getrandom(&random, sizeof random, 0));
    const base::Path file = folder / fmt::format("{}-{:016x}.json", run.pid, random), fresh = file.string() + ".new";
    const int handle = ::open(fresh.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC | O_NOFOLLOW, 0600);
    if (handle < 0) return;
    const std::string text = Json{{"pid", run.pid}, {"port", run.port}, {"what", run.what}}.dump() + "\n";
    if (::flock(handle, LOCK_EX | LOCK_NB) == 0 &&
        ::write(handle, text.data(), text.size()) == static_cast<ssize_t>(text.size()) &&
        ::rename(fresh.c_str(), file.c_str()) == 0) {
        file_ = file;
        lock_ = handle;
        return;
    }
    ::unlink(fresh.c_str());
    ::close(handle);
}

RunNote::~RunNote() {
    std::error_code error;
    if (!file_.empty()) fs::remove(file_, error);
    if (lock_ >= 0) ::close(lock_);
}

std::vector<Run> running() {
    std::vector<Run> all;
    std::error_code error;
    std::vector<base::Path> dead;
    for (auto entry = fs::directory_iterator(base::state_folder() / "running", error);
         !error && entry != fs::directory_iterator(); entry.increment(error)) {
        if (entry->path().extension() != ".json") continue;
        const int handle = ::open(entry->path().c_str(), O_RDONLY | O_CLOEXEC | O_NOFOLLOW | O_NONBLOCK);
        if (handle < 0) continue;
        const bool lives = ::flock(handle, LOCK_SH | LOCK_NB) != 0;
        ::close(handle);
        if (!lives) {
            dead.push_back(entry->path());
            continue;
        }
        const auto text = base::read_text_file(entry->path(), 4096);
        const Json note = text ? Json::parse(*text, nullptr, false) : Json();
        if (!note.is_object() || !note.contains("pid") || !note["pid"].is_number_integer() || !note.contains("port") ||
            !note["port"].is_number_unsigned() || !note.contains("what") || !note["what"].is_string())
            continue;
        all.push_back({note["pid"].get<int>(), note["port"].get<std::uint16_t>(), note["what"].get<std::string>()});
    }
    for (const base::Path& file : dead) fs::remove(file, error);
    return all;
}

}  // namespace wavecrest::stream
