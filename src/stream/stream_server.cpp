#include "stream/stream_server.hpp"

#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <chrono>
#include <thread>

#include "base/clock.hpp"
#include "base/log.hpp"
#include "base/mutex.hpp"
#include "base/printable.hpp"
#include "base/units.hpp"
#include "device/device.hpp"
#include "host/machine.hpp"
#include "net/guess_limiter.hpp"
#include "net/url.hpp"
#include "stream/control.hpp"
#include "stream/rate_meter.hpp"
#include "stream/rtmp_ingest.hpp"
#include "stream/rtmp_push.hpp"

namespace wavecrest::stream {
namespace {

using Steady = std::chrono::steady_clock;
using namespace std::chrono_literals;

class Publication : public net::RtmpPublication {
  public:
    explicit Publication(std::shared_ptr<RtmpIngest> to) : to_(std::move(to)) {}
    ~Publication() override { to_->end(); }
    void take(const net::rtmp::Message& message) override { to_->take(message); }

  private:
    std::shared_ptr<RtmpIngest> to_;
};

}  // namespace

namespace {

constexpr int kLooks = 5;  // at viewers, a second

// For people: how somebody's watching of a film went.
std::string viewing_line(const measure::Viewing& one) {
    using End = measure::Viewing::End;
    if (one.end() == End::left_at_once)
        return fmt::format("{}  watched  {}: left after the first bytes", one.address, one.stream);
    const std::string how_far =
        one.live ? base::format_clock(one.last - one.began)
                 : fmt::format("{} of {}", base::format_clock(one.position), base::format_clock(one.duration));
    const std::string stalls = one.stalls.empty()
                                   ? "no stalls seen"
                                   : fmt::format("{}, {} in all", base::format_count(one.stalls.size(), "stall"),
                                                 base::format_span(one.stalled()));
    return fmt::format("{}  watched  {}: {}, {}{}", one.address, one.stream, how_far, stalls,
                       one.skips == 0 ? "" : fmt::format(", skipped ahead {}", base::format_count(one.skips, "time")));
}

// How a browser's engine plays, by its class; of others what most players do.
measure::PlayerSettings player_of(const std::string& agent, bool hls) {
    const auto known = device::find(agent.find("Chrome/") != std::string::npos    ? "browser-chromium"
                                    : agent.find("Firefox/") != std::string::npos ? "browser-gecko"
                                                                                  : "browser-webkit");
    measure::PlayerSettings settings;
    if (!known) return settings;
    const device::Playing& playing = known->playing;
    settings.start_buffer = playing.start_buffer;
    settings.start_delay = playing.start_delay;
    settings.resume_buffer = playing.resume_buffer;
    settings.resume_growth = playing.resume_growth;
    settings.most_resume_buffer = playing.max_resume_buffer;
    settings.buffer = hls ? playing.hls_buffer : playing.buffer;
    return settings;
}

}  // namespace

struct StreamServer::State {
    ReadyServer ready;
    StreamServerSettings settings;
    std::unique_ptr<net::FanOut> fan_out;
    std::map<std::string, std::shared_ptr<RtmpIngest>> ingests;  // by the stream's name
    std::unique_ptr<LiveService> live;
    std::unique_ptr<Service> service;
    std::unique_ptr<net::TlsFront> tls;
    std::unique_ptr<net::RtmpServer> rtmp;
    bool rtmp_of_house = false;                                             // it listens at the server's port
    std::vector<std::pair<std::string, std::unique_ptr<RtmpPush>>> pushes;  // by the stream's name
    Steady::time_point started = Steady::now();

    mutable base::Mutex mutex;
    base::Condition turn;
    bool stopping GUARDED_BY(mutex) = false;
    std::map<std::string, RateMeter> made GUARDED_BY(mutex);                         // by stream
    std::map<std::string, double> given GUARDED_BY(mutex);                           // bytes of on-demand streams
    std::map<std::pair<bool, std::uint64_t>, RateMeter> viewers GUARDED_BY(mutex);   // by kind and id
    std::map<std::pair<bool, std::uint64_t>, std::uint64_t> seen GUARDED_BY(mutex);  // bytes
    RateMeter processor GUARDED_BY(mutex);
    measure::ViewingWatch watch GUARDED_BY(mutex){player_of};
    std::thread sampling;
    base::Mutex line_mutex;
    base::RealClock clock;
    net::GuessLimiter guesses{clock};

    void line(const std::string& text) {
        const std::string safe = net::without_keys(base::printable(text));  // clients send what they like
        base::log(base::LogLevel::info, "{}", safe);
        if (!settings.on_line) return;
        const base::MutexLock lock(line_mutex);
        settings.on_line(safe);
    }
    const ServedStream* item(const std::string& name) const {
        for (const ServedStream& one : ready.items) {
            if (one.name == name) return &one;
        }
        return nullptr;
    }
    bool is_fenced(const ServedStream& one, const std::string& address) const {
        return !one.from.empty() && !one.from.contain(address);
    }
    bool lets_in(const ServedStream& one, const std::string& address, const std::string& query) {
        if (is_fenced(one, address)) return false;
        if (one.key.empty()) return true;
        const auto key = net::query_value(query, "key");
        if (!key || !guesses.may_try(address)) return false;
        if (net::same_secret(*key, one.key)) return true;
        guesses.failed(address);
        return false;
    }
    // Whether a stream is at a port of a kind.
    bool is_at(const ServedStream& one, std::uint16_t ServerPorts::*kind, std::uint16_t port) const {
        return one.ports.*kind != 0 ? one.ports.*kind == port : !is_own(kind, port);
    }
    // Whether a port is one of a stream's own.
    bool is_own(std::uint16_t ServerPorts::*kind, std::uint16_t port) const {
        return std::any_of(ready.items.begin(), ready.items.end(),
                           [&](const ServedStream& one) { return one.ports.*kind == port; });
    }
    std::vector<std::uint16_t> own_ports(std::uint16_t ServerPorts::*kind) const {
        std::vector<std::uint16_t> ports;
        for (const ServedStream& one : ready.items) {
            const std::uint16_t port = one.ports.*kind;
            if (port != 0 && std::find(ports.begin(), ports.end(), port) == ports.end()) ports.push_back(port);
        }
        return ports;
    }
    Status start_rtmp();
    void sample();
};

Result<std::string> read_key(const base::Path& file) {
    WAVECREST_TRY_ASSIGN(text, base::read_text_file(file, 4096));
    std::string key = text.substr(0, text.find('\n'));
    const auto is_blank = [](char c) { return c == ' ' || c == '\t' || c == '\r'; };
    while (!key.empty() && is_blank(key.back())) key.pop_back();
    while (!key.empty() && is_blank(key.front())) key.erase(0, 1);
    if (key.empty())
        return fail(ErrorKind::input, "the file has no key", file.string(), "write the key in its first line");
    return key;
}

Result<ReadyServer> prepare_server(std::vector<ServedStream> items) {
    ReadyServer ready;
    std::vector<StreamItem> on_demand;
    std::vector<LiveItem> live;
    for (ServedStream& item : items) {
        if (item.path.empty())
            item.path =
                default_path(item.name, item.parts.empty() ? base::Address("stream.flv") : item.parts.front().source);
        if (item.published()) {
            if (item.deliveries.file || item.deliveries.hls || item.deliveries.ladder ||
                (item.deliveries.live_ladder && !item.plan))
                return fail(ErrorKind::usage,
                            fmt::format("stream \"{}\" is published by RTMP: it is live only", item.name), "delivery",
                            "offer it as live, live-hls or rtmp, or send it by UDP");
            if (item.targets.empty() && !item.deliveries.live && !item.deliveries.live_hls &&
                !item.deliveries.live_ladder)
                continue;
            LiveItem waits;
            waits.name = item.name;
            waits.targets = item.targets;
            waits.http = item.deliveries.live;
            waits.hls = item.deliveries.live_hls;
            waits.rate_bps = item.rate_bps;
            waits.plan = item.plan;
            live.push_back(std::move(waits));
            continue;
        }
        if (item.deliveries.ladder)
            on_demand.push_back({item.name, item.parts.front().source, item.path, false, false, true, {}, {}});
        if (item.deliveries.file || item.deliveries.hls) {
            const std::string& title = item.parts.front().title;
            if (title != "main" && title != "1")
                return fail(ErrorKind::usage,
                            fmt::format("stream \"{}\" is a file and has no title {}", item.name, title), "title",
                            "leave the title out; only discs and recordings of several programs have titles");
            if (item.parts.size() > 1)
                return fail(ErrorKind::usage,
                            fmt::format("stream \"{}\" has several parts: it can be live only", item.name), "delivery",
                            "offer it live, live-hls or rtmp, or send it by UDP; or make a stream of each part");
            on_demand.push_back({item.name, item.parts.front().source, item.path, item.deliveries.file,
                                 item.deliveries.hls, false, item.subtitles, item.parts.front().choice});
        } else if (!item.subtitles.empty()) {
            return fail(ErrorKind::usage,
                        fmt::format("stream \"{}\" is live only: subtitle files are for file and hls", item.name),
                        "subtitles", "offer it as file or hls, too, or leave the subtitles out");
        }
        if (item.is_live())
            live.push_back({item.name, item.parts, item.loop, item.targets, item.deliveries.live,
                            item.deliveries.live_hls, item.deliveries.rtmp || !item.push.empty(), item.rate_bps,
                            item.transcode, item.ladder});
    }
    for (const ServedStream& one : items) {
        if (one.path == kControlPath || one.path.starts_with(std::string(kControlPath) + "/") ||
            stem_of(one.path) == kControlPath)
            return fail(ErrorKind::usage, fmt::format("\"{}\" is the path of the control page", one.path),
                        fmt::format("stream \"{}\"", one.name), "give the stream another path");
        if (!one.path.starts_with("/") || one.path.find_first_of("?#") != std::string::npos)
            return fail(ErrorKind::usage, fmt::format("\"{}\" isn't a valid path", one.path),
                        fmt::format("stream \"{}\"", one.name), "begin it with / and leave out ? and #");
        for (const ServedStream& other : items) {
            if (&one == &other) break;
            // All that goes by the path but for its extension, too: a playlist, a name for RTMP.
            if (stem_of(one.path) == stem_of(other.path))
                return fail(
                    ErrorKind::usage,
                    fmt::format("the streams \"{}\" and \"{}\" have the same path {}", other.name, one.name, one.path),
                    "streams", "give one of them another name or path");
        }
    }
    WAVECREST_TRY_ASSIGN(files, prepare(on_demand));
    WAVECREST_TRY_ASSIGN(channels, prepare_live(live));
    ready.items = std::move(items);
    ready.on_demand = std::move(files);
    ready.live = std::move(channels);
    return ready;
}

StreamServer::StreamServer(std::unique_ptr<State> state) : state_(std::move(state)) {}

Status StreamServer::State::start_rtmp() {
    const auto goes = [](const ServedStream& i) { return i.deliveries.rtmp || i.published(); };
    if (std::none_of(ready.items.begin(), ready.items.end(), goes)) return {};
    net::RtmpServerSettings rtmp_settings;
    rtmp_settings.address = settings.address;
    rtmp_settings.further = own_ports(&ServerPorts::rtmp);
    rtmp_of_house = std::any_of(ready.items.begin(), ready.items.end(),
                                [&](const ServedStream& i) { return goes(i) && i.ports.rtmp == 0; });
    if (rtmp_of_house) {
        rtmp_settings.port = settings.rtmp_port;
    } else {
        rtmp_settings.port = rtmp_settings.further.front();
        rtmp_settings.further.erase(rtmp_settings.further.begin());
    }
    rtmp_settings.fan_out = fan_out.get();
    rtmp_settings.memory = settings.memory / 3;
    rtmp_settings.play = [this](const net::RtmpRequest& request) -> std::shared_ptr<net::Broadcast> {
        if (request.application != kRtmpApplication) return nullptr;
        for (const ServedStream& one : ready.items) {
            if (!one.deliveries.rtmp || rtmp_name(one.path) != request.name ||
                !is_at(one, &ServerPorts::rtmp, request.port) || !lets_in(one, request.address, request.query))
                continue;
            if (one.published()) return ingests.at(one.name)->broadcast();
            return live->rtmp_broadcast(one.name);
        }
        return nullptr;
    };
    rtmp_settings.publish = [this](const net::RtmpRequest& request,
                                   std::string& why) -> std::unique_ptr<net::RtmpPublication> {
        why = "unknown stream key";
        if (request.application != kRtmpApplication) return nullptr;
        if (!guesses.may_try(request.address)) {
            why = "too many wrong stream keys came from this address: try again later";
            return nullptr;
        }
        for (const ServedStream& one : ready.items) {
            if (!one.published() || !is_at(one, &ServerPorts::rtmp, request.port) ||
                !net::same_secret(request.name, one.publish_key))
                continue;
            const auto& to = ingests.at(one.name);
            if (!to->begin(request.address)) {
                why = "somebody publishes with this key already";
                return nullptr;
            }
            return std::make_unique<Publication>(to);
        }
        guesses.failed(request.address);
        return nullptr;
    };
    rtmp_settings.on_event = [this](const net::RtmpEvent& event) {
        const char* what = event.kind == net::RtmpEvent::Kind::playing      ? "plays"
                           : event.kind == net::RtmpEvent::Kind::publishing ? "publishes"
                           : event.kind == net::RtmpEvent::Kind::refused    ? "refused"
                                                                            : "left";
        line(fmt::format("{}  {:<7}  {} (RTMP)", event.address, what, event.what));
    };
    WAVECREST_TRY_ASSIGN(server, net::RtmpServer::start(std::move(rtmp_settings)));
    rtmp = std::move(server);
    return {};
}

void StreamServer::State::sample() {
    base::MutexLock lock(mutex);
    while (!stopping) {
        lock.unlock();
        const auto now = Steady::now();
        const ServiceStatus service_status = service->status();
        const LiveFigures figures = live ? live->figures() : LiveFigures{};
        lock.lock();
        processor.add(now, host::processor_seconds());
        for (const LiveStatus& s : figures.streams) {
            if (!ingests.contains(s.name)) made[s.name].add(now, static_cast<double>(s.made));
        }
        for (const auto& [name, one] : ingests) made[name].add(now, static_cast<double>(one->bytes()));
        std::map<std::pair<bool, std::uint64_t>, std::uint64_t> still;
        for (const Viewer& viewer : service_status.viewers) {
            const std::pair key(viewer.live, viewer.id);
            viewers[key].add(now, static_cast<double>(viewer.sent));
            const auto before = seen.find(key);
            if (!viewer.live)
                given[viewer.stream] += static_cast<double>(viewer.sent - (before != seen.end() ? before->second : 0));
            still[key] = viewer.sent;
        }
        std::erase_if(viewers, [&](const auto& one) { return !still.contains(one.first); });
        seen.swap(still);
        for (const ReadyStream& s : ready.on_demand) {
            if (const ServedStream* one = item(s.name); one != nullptr && !one->is_live())
                made[s.name].add(now, given[s.name]);
        }
        // Viewers are looked at more often: what they lack shows within moments.
        for (int look = 0; look < kLooks && !stopping; ++look) {
            lock.unlock();
            const auto sights = service->sights();
            lock.lock();
            watch.look(std::chrono::duration_cast<Time>(Steady::now() - started), sights);
            const auto gone = watch.take_gone();
            lock.unlock();
            for (const measure::Viewing& one : gone) line(viewing_line(one));
            lock.lock();
            const auto until = Steady::now() + 1000ms / kLooks;
            while (!stopping && turn.wait_until(mutex, until)) {
            }
        }
    }
}

std::vector<measure::Viewing> StreamServer::viewings() const {
    const base::MutexLock lock(state_->mutex);
    return state_->watch.viewings();
}

Result<std::unique_ptr<StreamServer>> StreamServer::start(ReadyServer ready, StreamServerSettings settings) {
    auto server = std::unique_ptr<StreamServer>(new StreamServer(std::make_unique<State>()));
    State& s = *server->state_;
    s.settings = std::move(settings);
    s.ready = std::move(ready);
    for (ServedStream& one : s.ready.items) {
        // What names the server's port has none of its own.
        if (one.ports.http == s.settings.http_port) one.ports.http = 0;
        if (one.ports.tls == s.settings.tls_port) one.ports.tls = 0;
        if (one.ports.rtmp == s.settings.rtmp_port) one.ports.rtmp = 0;
    }
    s.fan_out = std::make_unique<net::FanOut>(
        net::FanOutSettings{}, [&s](net::FanOut::Event event, const std::string& address, const std::string& name) {
            s.line(event == net::FanOut::Event::skipped
                       ? fmt::format("{}  slow     {}: skipped ahead to the latest keyframe", address, name)
                       : fmt::format("{}  dropped  {}: stalled 20 s", address, name));
        });
    for (const ServedStream& one : s.ready.items) {
        if (one.published())
            s.ingests.emplace(one.name, std::make_shared<RtmpIngest>(one.name, s.fan_out->open(one.name)));
    }
    std::vector<ReadyLive> channels;
    channels.swap(s.ready.live);
    for (ReadyLive& channel : channels) {
        if (const auto from = s.ingests.find(channel.item.name); from != s.ingests.end())
            channel.item.parts.push_back(
                {channel.item.name, "main", 1, {}, [in = from->second] { return in->open(); }});
    }
    if (!channels.empty()) {
        WAVECREST_TRY_ASSIGN(live, LiveService::start(std::move(channels), s.settings.udp, s.fan_out.get()));
        s.live = std::move(live);
    }
    ServiceSettings http;
    http.address = s.settings.http ? s.settings.address : "127.0.0.1";
    http.port = s.settings.http ? s.settings.http_port : 0;
    if (s.settings.http) http.further = s.own_ports(&ServerPorts::http);
    http.body_memory = s.settings.memory / 3 * 2;
    http.live = s.live.get();
    http.fan_out = s.fan_out.get();
    for (const ServedStream& one : s.ready.items) {
        if (one.deliveries.live || one.deliveries.live_hls || one.deliveries.live_ladder)
            http.live_paths.emplace_back(one.path, one.name);
    }
    http.is_here = [&s](const std::string& name, const net::HttpRequest& request) {
        const auto kind = request.secure ? &ServerPorts::tls : &ServerPorts::http;
        const ServedStream* one = s.item(name);
        return one != nullptr ? s.is_at(*one, kind, request.port) : !s.is_own(kind, request.port);
    };
    http.lets_in = [&s](const std::string& name, const net::HttpRequest& request) {
        const ServedStream* one = s.item(name);
        return one == nullptr || s.lets_in(*one, request.address, request.query);
    };
    http.is_listed = [&s](const std::string& name, const net::HttpRequest& request) {
        const ServedStream* one = s.item(name);
        return one == nullptr || (one->key.empty() && !s.is_fenced(*one, request.address));
    };
    http.on_event = [&s](const net::ServerEvent& event) {
        const char* what = event.kind == net::ServerEvent::Kind::request   ? "request"
                           : event.kind == net::ServerEvent::Kind::refused ? "refused"
                           : event.kind == net::ServerEvent::Kind::left    ? "left"
                           : event.kind == net::ServerEvent::Kind::disk    ? "disk"
                                                                           : "dropped: stalled 60 s";
        s.line(fmt::format("{}  {:<7}  {}", event.address, what, event.what));
    };
    http.pages = s.settings.pages;
    if (!s.settings.token.empty())
        http.pages.emplace_back(kControlPath, control_answer(*server, s.settings.token, s.guesses));
    WAVECREST_TRY_ASSIGN(service, Service::start(s.ready.on_demand, http));
    s.service = std::move(service);
    if (s.settings.certificate) {
        net::TlsFrontSettings front;
        front.address = s.settings.address;
        front.port = s.settings.tls_port;
        front.further = s.own_ports(&ServerPorts::tls);
        front.files = *s.settings.certificate;
        front.hand_over = [&s](int socket, std::string address, std::uint16_t port) {
            s.service->server().adopt(socket, std::move(address), port);
        };
        front.on_refused = [&s](const std::string& address, const std::string& why) {
            s.line(fmt::format("{}  {:<7}  TLS handshake failed: {}", address, "refused", why));
        };
        WAVECREST_TRY_ASSIGN(tls, net::TlsFront::start(std::move(front)));
        s.tls = std::move(tls);
    }
    WAVECREST_TRY(s.start_rtmp());
    for (const ServedStream& one : s.ready.items) {
        for (const net::RtmpAddress& to : one.push) {
            const auto broadcast =
                one.published() ? s.ingests.at(one.name)->broadcast() : s.live->rtmp_broadcast(one.name);
            s.pushes.emplace_back(
                one.name, std::make_unique<RtmpPush>(to, broadcast, *s.fan_out, [&s, to](const std::string& state) {
                    s.line(fmt::format("{}  {}", to.endpoint(), state));
                }));
        }
    }
    for (const ServedStream& one : s.ready.items) base::log(base::LogLevel::info, "stream {} is served", one.name);
    s.sampling = std::thread([&s] { s.sample(); });
    return server;
}

StreamServer::~StreamServer() {
    State& s = *state_;
    {
        const base::MutexLock lock(s.mutex);
        s.stopping = true;
    }
    s.turn.notify_all();
    s.pushes.clear();
    if (s.sampling.joinable()) s.sampling.join();
    s.rtmp.reset();
    s.tls.reset();
    s.service.reset();
    for (const auto& [name, ingest] : s.ingests) ingest->close();
    s.live.reset();
    s.ingests.clear();
    s.fan_out.reset();
}

std::uint16_t StreamServer::http_port() const {
    return state_->service->port();
}
ServerPorts StreamServer::ports() const {
    const State& s = *state_;
    ServerPorts ports;
    if (s.settings.http) ports.http = http_port();
    if (s.tls) ports.tls = s.tls->port();
    if (s.rtmp && s.rtmp_of_house) ports.rtmp = s.rtmp->port();
    return ports;
}
const std::string& StreamServer::announced_host() const {
    return state_->settings.announced;
}
const std::vector<ServedStream>& StreamServer::items() const {
    return state_->ready.items;
}
const std::vector<ReadyStream>& StreamServer::on_demand() const {
    return state_->ready.on_demand;
}

std::vector<StreamAddress> StreamServer::addresses(const std::string& host) const {
    std::vector<StreamAddress> all;
    for (const ServedStream& one : state_->ready.items) {
        for (StreamAddress& address : addresses_of(one, host, ports())) all.push_back(std::move(address));
    }
    return all;
}

StreamServerStatus StreamServer::status() const {
    const State& s = *state_;
    StreamServerStatus status;
    const ServiceStatus service = s.service->status();
    const LiveFigures figures = s.live ? s.live->figures() : LiveFigures{};
    status.uptime = std::chrono::duration_cast<Time>(Steady::now() - s.started);
    status.sent = service.sent;
    status.requests = service.requests;
    status.connections = service.connections;
    status.hung = service.hung;
    status.late_99 = figures.late_99;
    status.latest = figures.latest;
    status.real_time = figures.real_time;
    const base::MutexLock lock(s.mutex);
    status.processor = s.processor.rate(5s);
    for (const ServedStream& one : s.ready.items) {
        StreamStatus stream;
        stream.name = one.name;
        stream.live = one.is_live();
        for (const LiveStatus& live : figures.streams) {
            if (live.name != one.name) continue;
            stream.status = live;
            status.sent += live.bytes;
        }
        if (const auto found = s.ingests.find(one.name); found != s.ingests.end()) {
            stream.published = true;
            stream.published_by = found->second->published_by();
            stream.status.name = one.name;
            stream.status.state = stream.published_by.empty() ? LiveStatus::State::waiting : LiveStatus::State::playing;
            // What keeps it from going out is told while somebody publishes.
            if (stream.published_by.empty()) stream.status.error.clear();
        }
        if (const auto made = s.made.find(one.name); made != s.made.end()) {
            stream.rate_bps = made->second.rate(5s) * 8;
            stream.rate_minute_bps = made->second.rate(60s) * 8;
        }
        for (const auto& [name, push] : s.pushes) {
            if (name == one.name) stream.push.push_back(fmt::format("{}: {}", push->to().host, push->state()));
        }
        status.streams.push_back(std::move(stream));
    }
    const std::vector<measure::Viewing> viewings = s.watch.viewings();
    for (const Viewer& viewer : service.viewers) {
        ViewerStatus one;
        static_cast<Viewer&>(one) = viewer;
        if (const auto growth = s.viewers.find({viewer.live, viewer.id}); growth != s.viewers.end())
            one.rate_bps = growth->second.rate(5s) * 8;
        for (const measure::Viewing& viewing : viewings) {
            if (viewing.ended || viewing.address != viewer.address || viewing.stream != viewer.stream ||
                viewing.live != viewer.live || viewing.hls != viewer.hls || (viewing.live && viewing.id != viewer.id))
                continue;
            one.stalls = viewing.stalls.size();
            one.stalled = viewing.stalled();
        }
        status.viewers.push_back(std::move(one));
    }
    return status;
}

bool StreamServer::ended() const {
    const State& s = *state_;
    if (!s.ready.on_demand.empty() || !s.ingests.empty() || !s.settings.pages.empty()) return false;
    return !s.live || s.live->ended();
}

Time StreamServer::hls_latency(const std::string& name) const {
    const auto hls = state_->live ? state_->live->hls(name) : nullptr;
    return hls ? hls->latency() : Time{};
}

bool StreamServer::pause(const std::string& name, bool paused) {
    base::log(base::LogLevel::info, "order: {} {}", paused ? "pause" : "resume", name);
    return state_->live && state_->live->pause(name, paused);
}
bool StreamServer::order_seek(const std::string& name, const Playout::SeekOrder& seek) {
    base::log(base::LogLevel::info, "order: seek in {}", name);
    return state_->live && state_->live->order_seek(name, seek);
}
bool StreamServer::stop(const std::string& name) {
    base::log(base::LogLevel::info, "order: stop {}", name);
    return state_->live && state_->live->stop(name);
}

}  // namespace wavecrest::stream
