#include "stream/station.hpp"

#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <chrono>
#include <condition_variable>
#include <deque>
#include <mutex>
#include <thread>

#include "base/clock.hpp"
#include "base/printable.hpp"
#include "base/units.hpp"
#include "host/machine.hpp"
#include "net/amf0.hpp"
#include "net/guess_limiter.hpp"
#include "net/http_client.hpp"
#include "net/rtmp_chunks.hpp"
#include "stream/control.hpp"
#include "stream/rtmp_wire.hpp"

namespace wavecrest::stream {
namespace {

using Steady = std::chrono::steady_clock;
using namespace std::chrono_literals;

// A total that grows, and how fast it did.
class Growth {
  public:
    void add(Steady::time_point at, double total) {
        points_.emplace_back(at, total);
        while (points_.size() > 2 && at - points_.front().first > 61s) points_.pop_front();
    }
    // A second, over the last so long.
    double rate(std::chrono::seconds over) const {
        if (points_.size() < 2) return 0;
        const auto& last = points_.back();
        auto from = points_.begin();
        while (from + 2 < points_.end() && last.first - from->first > over) ++from;
        const double seconds = std::chrono::duration<double>(last.first - from->first).count();
        return seconds > 0 ? (last.second - from->second) / seconds : 0;
    }

  private:
    std::deque<std::pair<Steady::time_point, double>> points_;
};

// A stream that somebody publishes here: given to players as it comes. Players stay when the publisher goes, and go on
// when it is back.
class Published {
  public:
    Published(std::string name, std::shared_ptr<net::Flow> to) : flow(std::move(to)), name_(std::move(name)) {}

    // False when somebody publishes already.
    bool begin(const std::string& by) {
        const std::lock_guard lock(mutex_);
        if (busy_) return false;
        busy_ = true;
        by_ = by;
        first_ = true;
        return true;
    }
    void end() {
        const std::lock_guard lock(mutex_);
        busy_ = false;
        by_.clear();
    }
    void take(const net::rtmp::Message& message) {
        const ByteSpan body(message.payload);
        if (body.empty()) return;
        const std::lock_guard lock(mutex_);
        bytes_ += body.size();
        ByteVector out;
        if (message.type == net::rtmp::kData) {
            // Publishers wrap the metadata in a command to the server (7.1.2 leaves the name to them).
            const auto values = net::amf0::parse(body);
            if (!values || values->empty()) return;
            const bool wrapped = (*values)[0].text() == "@setDataFrame";
            std::vector<net::amf0::Value> rest(values->begin() + (wrapped ? 1 : 0), values->end());
            if (rest.empty() || rest[0].text() != "onMetaData") return;
            metadata_ = net::amf0::write(rest);
            preface();
            return;
        }
        const bool video = message.type == net::rtmp::kVideo;
        // FLV, E.4.3.1 and E.4.2.1: the configuration is packet type 0 of H.264 and AAC (and of the extended form).
        const bool extended = video && (body[0] & 0x80) != 0;
        const bool config =
            body.size() > 1 && (video ? (extended ? (body[0] & 0x0F) == 0 : (body[0] & 0x0F) == 7 && body[1] == 0)
                                      : body[0] >> 4 == 10 && body[1] == 0);
        if (config) {
            (video ? video_config_ : audio_config_).assign(body.begin(), body.end());
            preface();
        }
        has_video_ = has_video_ || video;
        if (first_) {
            // Times go on where the publisher before ended.
            offset_ = any_ ? last_ + 40 - message.timestamp : 0 - message.timestamp + 1000;
            first_ = false;
            any_ = true;
        }
        const std::uint32_t time = message.timestamp + offset_;
        last_ = time;
        net::rtmp::append_message(out, video ? 6 : 4, {message.type, time, kRtmpStream, {}}, body, net::kRtmpFlowChunk);
        const bool key = video ? (body[0] >> 4 & 7) == 1 && !config : !has_video_ && !config;
        flow->push({{Bytes(std::move(out)), base::from_ticks(time, 1000), key}});
    }
    std::string by() const {
        const std::lock_guard lock(mutex_);
        return by_;
    }
    std::uint64_t bytes() const {
        const std::lock_guard lock(mutex_);
        return bytes_;
    }

    const std::shared_ptr<net::Flow> flow;

  private:
    void preface() {
        ByteVector out;
        const auto put = [&](int chunks, std::uint8_t type, const ByteVector& body) {
            if (!body.empty())
                net::rtmp::append_message(out, chunks, {type, 0, kRtmpStream, {}}, body, net::kRtmpFlowChunk);
        };
        put(5, net::rtmp::kData, metadata_);
        put(6, net::rtmp::kVideo, video_config_);
        put(4, net::rtmp::kAudio, audio_config_);
        flow->set_preface(Bytes(std::move(out)));
    }

    const std::string name_;
    mutable std::mutex mutex_;
    bool busy_ = false, first_ = true, any_ = false, has_video_ = false;
    std::string by_;
    std::uint64_t bytes_ = 0;
    std::uint32_t offset_ = 0, last_ = 0;
    ByteVector metadata_, video_config_, audio_config_;
};

class Publication : public net::RtmpPublication {
  public:
    explicit Publication(std::shared_ptr<Published> to) : to_(std::move(to)) {}
    ~Publication() override { to_->end(); }
    void take(const net::rtmp::Message& message) override { to_->take(message); }

  private:
    std::shared_ptr<Published> to_;
};

// The keys a query names.
std::vector<std::string> keys_in(const std::string& query) {
    std::vector<std::string> keys;
    std::size_t at = 0;
    while (at <= query.size()) {
        const std::size_t end = std::min(query.find('&', at), query.size());
        const std::string one = query.substr(at, end - at);
        if (one.starts_with("key=")) keys.push_back(net::decode_path(one.substr(4)));
        at = end + 1;
    }
    return keys;
}

}  // namespace

// Publishes a stream to a server for as long as the station runs, and again when the connection is lost.
struct Pusher {
    net::RtmpAddress to;
    std::string stream;
    std::shared_ptr<net::Flow> flow;
    std::thread thread;
    mutable std::mutex mutex;
    std::string state = "connecting";
};

struct Station::State {
    ReadyStation ready;
    StationSettings settings;
    std::unique_ptr<net::FanOut> fan_out;
    std::map<std::string, std::shared_ptr<Published>> published;  // by the stream's name
    std::unique_ptr<LiveService> live;
    std::unique_ptr<Service> service;
    std::unique_ptr<net::TlsFront> tls;
    std::unique_ptr<net::RtmpServer> rtmp;
    bool rtmp_of_house = false;  // it listens at the station's port
    std::vector<std::unique_ptr<Pusher>> pushers;
    Steady::time_point started = Steady::now();

    mutable std::mutex mutex;
    std::condition_variable turn;
    bool stopping = false;
    std::map<std::string, Growth> made;                            // by stream
    std::map<std::string, double> given;                           // bytes of on-demand streams
    std::map<std::pair<bool, std::uint64_t>, Growth> viewers;      // by kind and id
    std::map<std::pair<bool, std::uint64_t>, std::uint64_t> seen;  // bytes
    Growth processor;
    std::thread sampling;
    std::mutex line_mutex;
    base::RealClock clock;
    net::GuessLimiter guesses{clock};

    void line(const std::string& text) {
        if (!settings.on_line) return;
        const std::lock_guard lock(line_mutex);
        settings.on_line(net::without_keys(base::printable(text)));  // clients send what they like
    }
    const StationItem* item(const std::string& name) const {
        for (const StationItem& one : ready.items) {
            if (one.name == name) return &one;
        }
        return nullptr;
    }
    bool is_fenced(const StationItem& one, const std::string& address) const {
        return !one.from.empty() && !one.from.contain(address);
    }
    bool lets_in(const StationItem& one, const std::string& address, const std::string& query) {
        if (is_fenced(one, address)) return false;
        if (one.key.empty()) return true;
        const auto keys = keys_in(query);
        if (keys.empty() || !guesses.may_try(address)) return false;
        if (net::same_secret(keys.front(), one.key)) return true;
        guesses.failed(address);
        return false;
    }
    // Whether a stream is at a port of a kind.
    bool is_at(const StationItem& one, std::uint16_t StationPorts::*kind, std::uint16_t port) const {
        return one.ports.*kind != 0 ? one.ports.*kind == port : !is_own(kind, port);
    }
    // Whether a port is one of a stream's own.
    bool is_own(std::uint16_t StationPorts::*kind, std::uint16_t port) const {
        return std::any_of(ready.items.begin(), ready.items.end(),
                           [&](const StationItem& one) { return one.ports.*kind == port; });
    }
    std::vector<std::uint16_t> own_ports(std::uint16_t StationPorts::*kind) const {
        std::vector<std::uint16_t> ports;
        for (const StationItem& one : ready.items) {
            const std::uint16_t port = one.ports.*kind;
            if (port != 0 && std::find(ports.begin(), ports.end(), port) == ports.end()) ports.push_back(port);
        }
        return ports;
    }
    Status start_rtmp();
    void push(Pusher& pusher);
    void sample();
};

Status add_offer(Offers& offers, const std::string& word) {
    if (word == "file") {
        offers.file = true;
    } else if (word == "hls") {
        offers.hls = true;
    } else if (word == "live") {
        offers.live = true;
    } else if (word == "live-hls") {
        offers.live_hls = true;
    } else if (word == "rtmp") {
        offers.rtmp = true;
    } else {
        return fail(ErrorKind::usage, fmt::format("\"{}\" is no way to offer a stream", word), "offer",
                    "write file or hls (every viewer pauses and skips), or live, live-hls or rtmp (the same for all)");
    }
    return {};
}

std::vector<std::string> names_of(const Offers& offers) {
    std::vector<std::string> names;
    if (offers.file) names.emplace_back("file");
    if (offers.hls) names.emplace_back("hls");
    if (offers.live) names.emplace_back("live");
    if (offers.live_hls) names.emplace_back("live-hls");
    if (offers.rtmp) names.emplace_back("rtmp");
    return names;
}

Result<std::string> read_key(const base::Path& file) {
    WAVECREST_TRY_ASSIGN(text, base::read_text_file(file, 4096));
    std::string key = text.substr(0, text.find('\n'));
    const auto is_blank = [](char c) { return c == ' ' || c == '\t' || c == '\r'; };
    while (!key.empty() && is_blank(key.back())) key.pop_back();
    while (!key.empty() && is_blank(key.front())) key.erase(0, 1);
    if (key.empty())
        return fail(ErrorKind::input, "there is no key in the file", file.string(), "write the key in its first line");
    return key;
}

std::string rtmp_name(const std::string& path) {
    const std::string stem = stem_of(path);
    return stem.substr(stem.rfind('/') + 1);
}

Result<ReadyStation> prepare_station(std::vector<StationItem> items) {
    ReadyStation ready;
    std::vector<StreamItem> on_demand;
    std::vector<LiveItem> live;
    for (StationItem& item : items) {
        if (item.path.empty())
            item.path =
                default_path(item.name, item.parts.empty() ? base::Path("stream.flv") : item.parts.front().source);
        if (item.published()) {
            if (item.offers.file || item.offers.hls || item.offers.live || item.offers.live_hls ||
                !item.targets.empty())
                return fail(
                    ErrorKind::usage,
                    fmt::format("stream \"{}\" is published here by RTMP, and goes out by RTMP only", item.name),
                    "offer",
                    "offer it as rtmp alone; for other deliveries, take it from this server as a source: "
                    "wavecrest stream run rtmp://... --offer live,live-hls");
            item.offers = {};
            item.offers.rtmp = true;
            continue;
        }
        if (item.offers.file || item.offers.hls) {
            const std::string& title = item.parts.front().title;
            if (title != "main" && title != "1")
                return fail(ErrorKind::usage,
                            fmt::format("stream \"{}\" is a file, which has no title {}", item.name, title), "title",
                            "leave the title out; only discs and recordings of several programs have titles");
            if (item.parts.size() > 1)
                return fail(ErrorKind::usage,
                            fmt::format("stream \"{}\" has several parts, which play live only", item.name), "offer",
                            "offer it live, live-hls or rtmp, or send it by UDP; or make a stream of each part");
            on_demand.push_back({item.name, item.parts.front().source, item.path, item.offers.file, item.offers.hls,
                                 item.subtitles, item.parts.front().choice});
        } else if (!item.subtitles.empty()) {
            return fail(ErrorKind::usage,
                        fmt::format("stream \"{}\" is live only, and live streams carry no subtitle file", item.name),
                        "subtitles", "offer it as file or hls, too, or leave the subtitles out");
        }
        if (item.is_live())
            live.push_back({item.name, item.parts, item.loop, item.targets, item.offers.live, item.offers.live_hls,
                            item.offers.rtmp || !item.push.empty(), item.rate_bps, item.transcode});
    }
    for (const StationItem& one : items) {
        if (one.path == kControlPath || one.path.starts_with(std::string(kControlPath) + "/") ||
            stem_of(one.path) == kControlPath)
            return fail(ErrorKind::usage, fmt::format("\"{}\" is the path of the controls", one.path),
                        fmt::format("stream \"{}\"", one.name), "give the stream another path");
        if (!one.path.starts_with("/") || one.path.find_first_of("?#") != std::string::npos)
            return fail(ErrorKind::usage, fmt::format("\"{}\" is no path", one.path),
                        fmt::format("stream \"{}\"", one.name), "begin it with / and leave out ? and #");
        for (const StationItem& other : items) {
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
    WAVECREST_TRY_ASSIGN(feeds, prepare_live(live));
    ready.items = std::move(items);
    ready.on_demand = std::move(files);
    ready.live = std::move(feeds);
    return ready;
}

Station::Station(std::unique_ptr<State> state) : state_(std::move(state)) {}

Status Station::State::start_rtmp() {
    const auto goes = [](const StationItem& i) { return i.offers.rtmp || i.published(); };
    if (std::none_of(ready.items.begin(), ready.items.end(), goes)) return {};
    net::RtmpServerSettings rtmp_settings;
    rtmp_settings.address = settings.address;
    rtmp_settings.further = own_ports(&StationPorts::rtmp);
    rtmp_of_house = std::any_of(ready.items.begin(), ready.items.end(),
                                [&](const StationItem& i) { return goes(i) && i.ports.rtmp == 0; });
    if (rtmp_of_house) {
        rtmp_settings.port = settings.rtmp_port;
    } else {
        rtmp_settings.port = rtmp_settings.further.front();
        rtmp_settings.further.erase(rtmp_settings.further.begin());
    }
    rtmp_settings.fan_out = fan_out.get();
    rtmp_settings.memory = settings.memory / 3;
    rtmp_settings.play = [this](const net::RtmpRequest& request) -> std::shared_ptr<net::Flow> {
        if (request.application != kRtmpApplication) return nullptr;
        for (const StationItem& one : ready.items) {
            if (!one.offers.rtmp || rtmp_name(one.path) != request.name ||
                !is_at(one, &StationPorts::rtmp, request.port) || !lets_in(one, request.address, request.query))
                continue;
            if (one.published()) return published.at(one.name)->flow;
            return live->rtmp_flow(one.name);
        }
        return nullptr;
    };
    rtmp_settings.publish = [this](const net::RtmpRequest& request,
                                   std::string& why) -> std::unique_ptr<net::RtmpPublication> {
        why = "this stream key is not known here";
        if (request.application != kRtmpApplication) return nullptr;
        if (!guesses.may_try(request.address)) {
            why = "too many wrong stream keys came from this address: try again later";
            return nullptr;
        }
        for (const StationItem& one : ready.items) {
            if (!one.published() || !is_at(one, &StationPorts::rtmp, request.port) ||
                !net::same_secret(request.name, one.publish_key))
                continue;
            const auto& to = published.at(one.name);
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

void Station::State::push(Pusher& pusher) {
    const auto set = [&](std::string text, bool log) {
        if (log) line(fmt::format("{}  {}", pusher.to.place(), text));
        const std::lock_guard lock(pusher.mutex);
        pusher.state = std::move(text);
    };
    const auto is_stopping = [&] {
        const std::lock_guard lock(mutex);
        return stopping;
    };
    auto pause = 1000ms;
    while (!is_stopping()) {
        auto client = net::RtmpClient::connect(pusher.to, base::from_seconds(5));
        Status status;
        if (client) {
            status = (*client)->publish();
        } else {
            status = fail(client.error());
        }
        if (status) {
            pause = 1000ms;
            set("publishing", true);
            const int socket = ::dup((*client)->socket());
            auto flow = pusher.flow;
            const std::uint32_t stream = (*client)->stream();
            if (stream != kRtmpStream)
                flow = fan_out->derive(
                    flow, [stream](const Bytes& chunks) { return net::for_message_stream(chunks, stream); });
            const std::uint64_t id = fan_out->add(flow, socket, "to " + pusher.to.host, {});
            (*client)->write_by([&](ByteVector bytes) { fan_out->send(id, Bytes(std::move(bytes))); });
            while (!is_stopping() && status) {
                const auto messages = (*client)->receive(100ms);
                if (!messages) status = fail(messages.error());
            }
            fan_out->remove(id);
        }
        if (is_stopping()) break;
        set(fmt::format("{}; trying again in {} s", status ? "ended" : status.error().what, pause / 1000ms), true);
        std::unique_lock lock(mutex);
        turn.wait_for(lock, pause, [&] { return stopping; });
        pause = std::min(pause * 2, std::chrono::milliseconds(15'000));
    }
}

void Station::State::sample() {
    std::unique_lock lock(mutex);
    while (!stopping) {
        lock.unlock();
        const auto now = Steady::now();
        const ServiceStatus service_status = service->status();
        const LiveFigures figures = live ? live->figures() : LiveFigures{};
        lock.lock();
        processor.add(now, host::processor_seconds());
        for (const LiveStatus& s : figures.streams) made[s.name].add(now, static_cast<double>(s.made));
        for (const auto& [name, one] : published) made[name].add(now, static_cast<double>(one->bytes()));
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
            if (const StationItem* one = item(s.name); one != nullptr && !one->is_live())
                made[s.name].add(now, given[s.name]);
        }
        turn.wait_for(lock, 1s, [&] { return stopping; });
    }
}

Result<std::unique_ptr<Station>> Station::start(ReadyStation ready, StationSettings settings) {
    auto station = std::unique_ptr<Station>(new Station(std::make_unique<State>()));
    State& s = *station->state_;
    s.settings = std::move(settings);
    s.ready = std::move(ready);
    for (StationItem& one : s.ready.items) {
        // What names the station's port has none of its own.
        if (one.ports.http == s.settings.http_port) one.ports.http = 0;
        if (one.ports.tls == s.settings.tls_port) one.ports.tls = 0;
        if (one.ports.rtmp == s.settings.rtmp_port) one.ports.rtmp = 0;
    }
    s.fan_out = std::make_unique<net::FanOut>(
        net::FanOutSettings{}, [&s](net::FanOut::Event event, const std::string& address, const std::string& name) {
            s.line(event == net::FanOut::Event::skipped
                       ? fmt::format("{}  behind   {}: moved on to the newest keyframe", address, name)
                       : fmt::format("{}  dropped  {}: took nothing for 20 s", address, name));
        });
    for (const StationItem& one : s.ready.items) {
        if (one.published())
            s.published.emplace(one.name, std::make_shared<Published>(one.name, s.fan_out->open(one.name)));
    }
    std::vector<ReadyLive> feeds;
    feeds.swap(s.ready.live);
    if (!feeds.empty()) {
        WAVECREST_TRY_ASSIGN(live, LiveService::start(std::move(feeds), s.settings.udp, s.fan_out.get()));
        s.live = std::move(live);
    }
    ServiceSettings http;
    http.address = s.settings.http ? s.settings.address : "127.0.0.1";
    http.port = s.settings.http ? s.settings.http_port : 0;
    if (s.settings.http) http.further = s.own_ports(&StationPorts::http);
    http.body_memory = s.settings.memory / 3 * 2;
    http.live = s.live.get();
    http.fan_out = s.fan_out.get();
    for (const StationItem& one : s.ready.items) {
        if (one.is_live() && !one.published()) http.live_paths.emplace_back(one.path, one.name);
    }
    http.is_here = [&s](const std::string& name, const net::HttpRequest& request) {
        const auto kind = request.secure ? &StationPorts::tls : &StationPorts::http;
        const StationItem* one = s.item(name);
        return one != nullptr ? s.is_at(*one, kind, request.port) : !s.is_own(kind, request.port);
    };
    http.lets_in = [&s](const std::string& name, const net::HttpRequest& request) {
        const StationItem* one = s.item(name);
        return one == nullptr || s.lets_in(*one, request.address, request.query);
    };
    http.is_listed = [&s](const std::string& name, const net::HttpRequest& request) {
        const StationItem* one = s.item(name);
        return one == nullptr || (one->key.empty() && !s.is_fenced(*one, request.address));
    };
    http.on_event = [&s](const net::ServerEvent& event) {
        const char* what = event.kind == net::ServerEvent::Kind::request   ? "request"
                           : event.kind == net::ServerEvent::Kind::refused ? "refused"
                           : event.kind == net::ServerEvent::Kind::left    ? "left"
                           : event.kind == net::ServerEvent::Kind::disk    ? "disk"
                                                                           : "dropped: took nothing for a minute";
        s.line(fmt::format("{}  {:<7}  {}", event.address, what, event.what));
    };
    if (!s.settings.token.empty()) http.control = control_answer(*station, s.settings.token, s.guesses);
    WAVECREST_TRY_ASSIGN(service, Service::start(s.ready.on_demand, http));
    s.service = std::move(service);
    if (s.settings.certificate) {
        net::TlsFrontSettings front;
        front.address = s.settings.address;
        front.port = s.settings.tls_port;
        front.further = s.own_ports(&StationPorts::tls);
        front.files = *s.settings.certificate;
        front.hand_over = [&s](int socket, std::string address, std::uint16_t port) {
            s.service->server().adopt(socket, std::move(address), port);
        };
        front.on_refused = [&s](const std::string& address, const std::string& why) {
            s.line(fmt::format("{}  {:<7}  no secure connection was made: {}", address, "refused", why));
        };
        WAVECREST_TRY_ASSIGN(tls, net::TlsFront::start(std::move(front)));
        s.tls = std::move(tls);
    }
    WAVECREST_TRY(s.start_rtmp());
    for (const StationItem& one : s.ready.items) {
        for (const net::RtmpAddress& to : one.push) {
            auto pusher = std::make_unique<Pusher>();
            pusher->to = to;
            pusher->stream = one.name;
            pusher->flow = one.published() ? s.published.at(one.name)->flow : s.live->rtmp_flow(one.name);
            pusher->thread = std::thread([&s, p = pusher.get()] { s.push(*p); });
            s.pushers.push_back(std::move(pusher));
        }
    }
    s.sampling = std::thread([&s] { s.sample(); });
    return station;
}

Station::~Station() {
    State& s = *state_;
    {
        const std::lock_guard lock(s.mutex);
        s.stopping = true;
    }
    s.turn.notify_all();
    for (const auto& pusher : s.pushers) pusher->thread.join();
    if (s.sampling.joinable()) s.sampling.join();
    s.rtmp.reset();
    s.tls.reset();
    s.service.reset();
    s.live.reset();
    s.published.clear();
    s.fan_out.reset();
}

std::uint16_t Station::http_port() const {
    return state_->service->port();
}
StationPorts Station::ports() const {
    const State& s = *state_;
    StationPorts ports;
    if (s.settings.http) ports.http = http_port();
    if (s.tls) ports.tls = s.tls->port();
    if (s.rtmp && s.rtmp_of_house) ports.rtmp = s.rtmp->port();
    return ports;
}
const std::string& Station::announced_host() const {
    return state_->settings.announced;
}
const std::vector<StationItem>& Station::items() const {
    return state_->ready.items;
}
const std::vector<ReadyStream>& Station::on_demand() const {
    return state_->ready.on_demand;
}

std::vector<StationAddress> addresses_of(const StationItem& one, const std::string& host, StationPorts ports) {
    std::vector<StationAddress> all;
    if (one.ports.http != 0 && ports.http != 0) ports.http = one.ports.http;
    if (one.ports.tls != 0 && ports.tls != 0) ports.tls = one.ports.tls;
    if (one.ports.rtmp != 0) ports.rtmp = one.ports.rtmp;
    const std::string query = one.key.empty() ? "" : "?key=" + net::encode_path(one.key);
    const auto http = [&](const char* way, const std::string& path) {
        if (ports.tls != 0) all.push_back({one.name, way, address_for(host, ports.tls, path, true) + query});
        if (ports.http != 0) all.push_back({one.name, way, address_for(host, ports.http, path) + query});
    };
    if (one.offers.file) http("file", one.path);
    if (one.offers.hls) http("hls", hls_path(one.path));
    if (!one.subtitles.empty()) http("subtitles", subtitles_path(one.path));
    if (one.offers.live) http("live", live_path(one.path));
    if (one.offers.live_hls) http("live-hls", live_hls_path(one.path));
    if (one.offers.rtmp || one.published())
        all.push_back(
            {one.name, "rtmp",
             net::RtmpAddress{host, ports.rtmp, std::string(kRtmpApplication), rtmp_name(one.path)}.text() + query});
    for (const LiveTarget& target : one.targets)
        all.push_back({one.name, target.rtp ? "rtp" : "udp", address_for(target)});
    return all;
}

std::string protocol_of(const StationAddress& one) {
    if (one.way == "hls" || one.way == "live-hls") return "hls";
    return one.address.substr(0, one.address.find(':'));
}
std::string container_of(const StationAddress& one) {
    return one.way == "live" || one.way == "udp" || one.way == "rtp" ? "mpeg-ts" : "";
}

std::vector<StationAddress> addresses_for(const device::Device& device, std::vector<StationAddress> all) {
    const auto is_secure = [](const StationAddress& one) { return one.address.starts_with("https://"); };
    const bool wanted = device::takes(device, "https") && std::any_of(all.begin(), all.end(), is_secure);
    std::erase_if(
        all, [&](const StationAddress& one) { return net::is_http_address(one.address) && is_secure(one) != wanted; });
    const auto suits = [&](const StationAddress& one) {
        const std::string container = container_of(one);
        return device::takes(device, protocol_of(one)) && (container.empty() || device::reads(device, container));
    };
    // Subtitles go with something.
    const bool any = std::any_of(all.begin(), all.end(),
                                 [&](const StationAddress& one) { return one.way != "subtitles" && suits(one); });
    if (any) std::erase_if(all, [&](const StationAddress& one) { return !suits(one); });
    return all;
}

std::vector<StationAddress> Station::addresses(const std::string& host) const {
    std::vector<StationAddress> all;
    for (const StationItem& one : state_->ready.items) {
        for (StationAddress& address : addresses_of(one, host, ports())) all.push_back(std::move(address));
    }
    return all;
}

StationStatus Station::status() const {
    const State& s = *state_;
    StationStatus status;
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
    const std::lock_guard lock(s.mutex);
    status.processor = s.processor.rate(5s);
    for (const StationItem& one : s.ready.items) {
        StationStream stream;
        stream.name = one.name;
        stream.live = one.is_live();
        for (const LiveStatus& live : figures.streams) {
            if (live.name != one.name) continue;
            stream.status = live;
            status.sent += live.bytes;
        }
        if (const auto found = s.published.find(one.name); found != s.published.end()) {
            stream.published_by = found->second->by();
            stream.status.name = one.name;
            stream.status.state = stream.published_by.empty() ? LiveStatus::State::waiting : LiveStatus::State::playing;
        }
        if (const auto made = s.made.find(one.name); made != s.made.end()) {
            stream.rate_bps = made->second.rate(5s) * 8;
            stream.rate_minute_bps = made->second.rate(60s) * 8;
        }
        for (const auto& pusher : s.pushers) {
            if (pusher->stream != one.name) continue;
            const std::lock_guard state_lock(pusher->mutex);
            stream.push.push_back(fmt::format("{}: {}", pusher->to.host, pusher->state));
        }
        status.streams.push_back(std::move(stream));
    }
    for (const Viewer& viewer : service.viewers) {
        StationViewer one;
        static_cast<Viewer&>(one) = viewer;
        if (const auto growth = s.viewers.find({viewer.live, viewer.id}); growth != s.viewers.end())
            one.rate_bps = growth->second.rate(5s) * 8;
        status.viewers.push_back(std::move(one));
    }
    return status;
}

bool Station::ended() const {
    const State& s = *state_;
    if (!s.ready.on_demand.empty() || !s.published.empty()) return false;
    return !s.live || s.live->ended();
}

Time Station::hls_latency(const std::string& name) const {
    const auto hls = state_->live ? state_->live->hls(name) : nullptr;
    return hls ? hls->latency() : Time{};
}

bool Station::pause(const std::string& name, bool paused) {
    return state_->live && state_->live->pause(name, paused);
}
bool Station::skip(const std::string& name, const Programme::Skip& skip) {
    return state_->live && state_->live->skip(name, skip);
}
bool Station::stop(const std::string& name) {
    return state_->live && state_->live->stop(name);
}

}  // namespace wavecrest::stream
