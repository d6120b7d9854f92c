#include "net/rtmp_server.hpp"

#include <fmt/format.h>
#include <signal.h>
#include <unistd.h>

#include <boost/asio.hpp>

#include <algorithm>
#include <array>
#include <chrono>
#include <list>
#include <map>
#include <mutex>
#include <optional>
#include <random>
#include <thread>

#include "base/printable.hpp"
#include "base/units.hpp"
#include "net/acceptor.hpp"
#include "net/amf0.hpp"

namespace wavecrest::net {
namespace {

namespace asio = boost::asio;
using amf0::Members;
using amf0::Value;
using asio::ip::tcp;
using boost::system::error_code;
using rtmp::Message;
using Steady = std::chrono::steady_clock;

constexpr std::uint8_t kVersion = 3;
constexpr std::size_t kHandshake = 1536;  // 5.2.3
constexpr std::uint32_t kWindow = 2'500'000;
constexpr int kControlChunks = 2, kCommandChunks = 3;
constexpr int kSendBuffer = 512 * 1024;
constexpr std::size_t kMostStreams = 16;  // message streams a connection may make
constexpr std::size_t kPiece = 16 << 10;  // read at once
// Messages that are answered: players send some ten of them, and a ping now and then.
constexpr double kMostRequests = 256, kRequestsASecond = 32;

ByteVector u32(std::uint32_t value) {
    base::ByteWriter out;
    out.u32(value);
    return out.release();
}

Members status(const char* level, const char* code, std::string description) {
    return {{"level", level}, {"code", code}, {"description", std::move(description)}};
}

struct Connection {
    Connection(tcp::socket s, std::string a, std::uint16_t to)
        : socket(std::move(s)), address(std::move(a)), port(to) {}
    tcp::socket socket;
    const std::string address;
    const std::uint16_t port;
    rtmp::ChunkReader reader;
    std::string application;
    std::string agent;  // how the player calls itself (7.2.1.1: flashVer)
    struct Playing {
        std::uint64_t client = 0;
        std::shared_ptr<Broadcast> broadcast;
        std::string name;
    };
    std::map<std::uint32_t, Playing> playing;  // by message stream
    std::map<std::uint32_t, std::unique_ptr<RtmpPublication>> publishing;
    std::uint32_t streams = 0;
    ByteVector out;  // to be written by the coroutine
    Steady::time_point idle_since = Steady::now(), last_media = idle_since, counted = idle_since;
    double requests = kMostRequests;  // it may send now
    std::size_t held = 0;             // of the server's unfinished bytes
    bool serves() const { return !playing.empty() || !publishing.empty(); }
    std::uint64_t received = 0, acknowledged = 0;
    std::uint32_t peer_window = 0;  // 0: it asked for no acknowledgements
    std::string what;               // it does, for the log
};

}  // namespace

struct RtmpServer::State {
    RtmpServerSettings settings;
    asio::io_context context{1};
    Acceptors acceptors;
    std::thread thread;
    std::list<std::weak_ptr<Connection>> connections;  // in the order they came
    std::size_t unfinished = 0;                        // bytes of messages of all that aren't complete
    std::optional<asio::steady_timer> housekeeping;

    void make_room(const std::string& address);
    void keep_house();
    asio::awaitable<void> accept_loop(tcp::acceptor& acceptor);
    asio::awaitable<void> serve(std::shared_ptr<Connection> connection);
    asio::awaitable<bool> handshake(Connection& connection);
    // False when the connection is to be closed.
    bool handle(Connection& connection, const Message& message);
    bool command(Connection& connection, const Message& message);
    void play(Connection& connection, std::uint32_t stream, const std::string& name, bool reset);
    void publish(Connection& connection, std::uint32_t stream, const std::string& name);
    void close_stream(Connection& connection, std::uint32_t stream);

    void event(RtmpEvent::Kind kind, const Connection& connection, std::string what) const {
        if (settings.on_event) settings.on_event({kind, connection.address, std::move(what)});
    }
    static void send(Connection& connection, int chunks, std::uint8_t type, std::uint32_t stream, ByteVector payload) {
        rtmp::append_message(connection.out, chunks, {type, 0, stream, std::move(payload)}, kRtmpBroadcastChunk);
    }
    static void reply(Connection& connection, std::uint32_t stream, const std::vector<Value>& values) {
        // A chunk size isn't known to the other end before it was told: replies to connect come behind it.
        send(connection, kCommandChunks, rtmp::kCommand, stream, amf0::write(values));
    }
};

asio::awaitable<void> RtmpServer::State::accept_loop(tcp::acceptor& acceptor) {
    const std::uint16_t port = port_of(acceptor);
    while (true) {
        error_code error;
        tcp::socket socket = co_await acceptor.async_accept(asio::redirect_error(asio::use_awaitable, error));
        if (error == asio::error::operation_aborted || !acceptor.is_open()) co_return;
        if (error) {
            asio::steady_timer pause(context, std::chrono::milliseconds(100));
            co_await pause.async_wait(asio::redirect_error(asio::use_awaitable, error));
            continue;
        }
        const std::string address = peer_address(socket);
        socket.set_option(asio::socket_base::send_buffer_size(kSendBuffer), error);
        socket.set_option(tcp::no_delay(true), error);
        auto connection = std::make_shared<Connection>(std::move(socket), address, port);
        make_room(address);
        connections.push_back(connection);
        asio::co_spawn(context, serve(connection), asio::detached);
    }
}

// Closes the oldest that have proved nothing where they are too many.
void RtmpServer::State::make_room(const std::string& address) {
    std::vector<std::shared_ptr<Connection>> unproven;
    for (auto one = connections.begin(); one != connections.end();) {
        auto held_one = one->lock();
        if (!held_one) {
            one = connections.erase(one);
            continue;
        }
        if (!held_one->serves() && held_one->socket.is_open()) unproven.push_back(std::move(held_one));
        ++one;
    }
    const auto is_its = [&](const auto& one) { return one->address == address; };
    const auto close = [&](Connection& one) {
        event(RtmpEvent::Kind::refused, one, "too many idle connections: the oldest is closed");
        error_code ignored;
        one.socket.close(ignored);
    };
    const auto of_address = static_cast<std::size_t>(std::count_if(unproven.begin(), unproven.end(), is_its));
    if (of_address >= settings.most_unproven_of_address) {
        close(**std::find_if(unproven.begin(), unproven.end(), is_its));
    } else if (unproven.size() >= settings.most_unproven) {
        close(*unproven.front());
    }
}

void RtmpServer::State::keep_house() {
    housekeeping->expires_after(std::chrono::seconds(1));
    housekeeping->async_wait([this](error_code error) {
        if (error) return;
        const auto now = Steady::now();
        const auto since = [&](Steady::time_point then) { return std::chrono::duration_cast<Time>(now - then); };
        for (const auto& weak : connections) {
            const auto one = weak.lock();
            if (!one) continue;
            const bool silent = !one->publishing.empty() && since(one->last_media) > settings.silence_limit;
            if (silent) {
                event(RtmpEvent::Kind::refused, *one,
                      fmt::format("published nothing for {}: the stream key is free again",
                                  base::format_span(settings.silence_limit)));
                one->publishing.clear();
            }
            if (silent || (!one->serves() && since(one->idle_since) > settings.idle_limit)) {
                error_code ignored;
                one->socket.close(ignored);
            }
        }
        keep_house();
    });
}

asio::awaitable<bool> RtmpServer::State::handshake(Connection& connection) {
    ByteVector hello(1 + kHandshake);
    error_code error;
    co_await asio::async_read(connection.socket, asio::buffer(hello), asio::redirect_error(asio::use_awaitable, error));
    if (error) co_return false;
    if (hello[0] != kVersion) {
        event(RtmpEvent::Kind::refused, connection, fmt::format("not RTMP (version {})", hello[0]));
        co_return false;
    }
    // S0, S1 and S2, which is C1 again (5.2.4).
    ByteVector answer(1 + kHandshake, 0);
    answer[0] = kVersion;
    std::minstd_rand random(std::random_device{}());
    for (std::size_t i = 9; i < answer.size(); ++i) answer[i] = static_cast<std::uint8_t>(random());
    answer.insert(answer.end(), hello.begin() + 1, hello.end());
    co_await asio::async_write(connection.socket, asio::buffer(answer),
                               asio::redirect_error(asio::use_awaitable, error));
    if (error) co_return false;
    ByteVector echo(kHandshake);
    co_await asio::async_read(connection.socket, asio::buffer(echo), asio::redirect_error(asio::use_awaitable, error));
    co_return !error;
}

asio::awaitable<void> RtmpServer::State::serve(std::shared_ptr<Connection> held) {
    Connection& connection = *held;
    std::array<std::uint8_t, kPiece> buffer{};
    bool open = co_await handshake(connection);
    while (open) {
        error_code error;
        const std::size_t n = co_await connection.socket.async_read_some(
            asio::buffer(buffer), asio::redirect_error(asio::use_awaitable, error));
        if (error) break;
        connection.received += n;
        const bool served = connection.serves();
        connection.reader.add(ByteSpan(buffer.data(), n));
        while (open) {
            connection.reader.expect_media(!connection.publishing.empty());
            const auto message = connection.reader.next();
            if (!message) event(RtmpEvent::Kind::refused, connection, message.error().what);
            open = message && (!*message || handle(connection, **message));
            if (!message || !*message) break;
        }
        if (served && !connection.serves()) connection.idle_since = Steady::now();
        unfinished += connection.reader.held() - connection.held;
        connection.held = connection.reader.held();
        if (unfinished > settings.memory) {
            event(RtmpEvent::Kind::refused, connection, "unfinished messages use too much memory");
            open = false;
        }
        if (connection.peer_window > 0 && connection.received - connection.acknowledged >= connection.peer_window) {
            connection.acknowledged = connection.received;
            send(connection, kControlChunks, rtmp::kAcknowledgement, 0,
                 u32(static_cast<std::uint32_t>(connection.received)));
        }
        if (connection.out.empty()) continue;
        if (!connection.playing.empty()) {
            // The fan-out writes to this socket: everything goes by it, between two blocks.
            const std::uint64_t client = connection.playing.begin()->second.client;
            settings.fan_out->send(client, Bytes(std::move(connection.out)));
            connection.out = {};
            continue;
        }
        co_await asio::async_write(connection.socket, asio::buffer(connection.out),
                                   asio::redirect_error(asio::use_awaitable, error));
        connection.out.clear();
        if (error) break;
    }
    unfinished -= connection.held;
    connection.held = 0;
    for (const auto& [stream, playing] : connection.playing) settings.fan_out->remove(playing.client);
    connection.playing.clear();
    connection.publishing.clear();
    error_code ignored;
    connection.socket.shutdown(tcp::socket::shutdown_both, ignored);  // of the fan-out's handle, too
    connection.socket.close(ignored);
    if (!connection.what.empty()) event(RtmpEvent::Kind::left, connection, connection.what);
}

bool RtmpServer::State::handle(Connection& connection, const Message& message) {
    if (message.type == rtmp::kCommand || message.type == rtmp::kUserControl) {
        const auto now = Steady::now();
        const double passed = std::chrono::duration<double>(now - std::exchange(connection.counted, now)).count();
        connection.requests = std::min(connection.requests + passed * kRequestsASecond, kMostRequests) - 1;
        if (connection.requests < 0) {
            event(RtmpEvent::Kind::refused, connection, "too many commands");
            return false;
        }
    }
    switch (message.type) {
        case rtmp::kWindowSize:
            if (message.payload.size() >= 4) connection.peer_window = base::ByteReader(message.payload).u32();
            return true;
        case rtmp::kUserControl: {
            base::ByteReader reader(message.payload);
            constexpr std::uint16_t kPing = 6, kPong = 7;
            if (reader.u16() != kPing) return true;
            base::ByteWriter pong;
            pong.u16(kPong);
            pong.u32(reader.u32());
            send(connection, kControlChunks, rtmp::kUserControl, 0, pong.release());
            return true;
        }
        case rtmp::kAudio:
        case rtmp::kVideo:
        case rtmp::kData:
            if (const auto publishing = connection.publishing.find(message.stream);
                publishing != connection.publishing.end() && !message.payload.empty()) {
                connection.last_media = Steady::now();
                publishing->second->take(message);
            }
            return true;
        case rtmp::kCommand:
            return command(connection, message);
        default:
            return true;
    }
}

bool RtmpServer::State::command(Connection& connection, const Message& message) {
    const auto values = amf0::parse(message.payload);
    if (!values || values->size() < 2) {
        event(RtmpEvent::Kind::refused, connection, "invalid command");
        return false;
    }
    const std::string name = (*values)[0].text();
    const double transaction = (*values)[1].number().value_or(0);
    const auto argument = [&](std::size_t i) { return values->size() > i + 3 ? (*values)[i + 3] : Value(); };
    if (name == "connect") {
        if (values->size() > 2) {
            if (const Value* application = (*values)[2].member("app")) connection.application = application->text();
            constexpr std::size_t kLongestAgent = 200;
            if (const Value* version = (*values)[2].member("flashVer"))
                connection.agent = base::printable(version->text().substr(0, kLongestAgent));
        }
        while (connection.application.ends_with('/')) connection.application.pop_back();
        send(connection, kControlChunks, rtmp::kWindowSize, 0, u32(kWindow));
        ByteVector bandwidth = u32(kWindow);
        bandwidth.push_back(2);  // dynamic
        send(connection, kControlChunks, rtmp::kPeerBandwidth, 0, std::move(bandwidth));
        send(connection, kControlChunks, rtmp::kSetChunkSize, 0, u32(kRtmpBroadcastChunk));
        Members info = status("status", "NetConnection.Connect.Success", "connected");
        info.emplace_back("objectEncoding", 0.0);
        reply(connection, 0, {"_result", transaction, Members{{"capabilities", 31.0}}, info});
        return true;
    }
    if (name == "createStream") {
        if (connection.streams >= kMostStreams) {
            reply(connection, 0,
                  {"_error", transaction, Value(), status("error", "NetConnection.Call.Failed", "too many streams")});
            return true;
        }
        reply(connection, 0, {"_result", transaction, Value(), static_cast<double>(++connection.streams)});
        return true;
    }
    if (name == "play") {
        const Value reset = argument(3);
        play(connection, message.stream, argument(0).text(), reset.flag().value_or(reset.number().value_or(1) != 0));
        return true;
    }
    if (name == "publish") {
        publish(connection, message.stream, argument(0).text());
        return true;
    }
    if (name == "pause") {
        const bool paused = argument(0).flag().value_or(true);
        const auto playing = connection.playing.find(message.stream);
        if (playing != connection.playing.end()) {
            settings.fan_out->pause(playing->second.client, paused);
            reply(connection, message.stream,
                  {"onStatus", 0.0, Value(),
                   status("status", paused ? "NetStream.Pause.Notify" : "NetStream.Unpause.Notify",
                          paused ? "paused for this player" : "resumed at the live edge")});
        }
        return true;
    }
    if (name == "seek") {
        reply(connection, message.stream,
              {"onStatus", 0.0, Value(), status("error", "NetStream.Seek.Failed", "this stream is live: no seeking")});
        return true;
    }
    if (name == "closeStream") {
        close_stream(connection, message.stream);
        return true;
    }
    if (name == "deleteStream") {
        const double asked = argument(0).number().value_or(message.stream);
        if (asked >= 1 && asked <= kMostStreams) close_stream(connection, static_cast<std::uint32_t>(asked));
        return true;
    }
    // Unknown ones are answered where an answer is waited for; the connection stays.
    if (transaction != 0)
        reply(connection, message.stream,
              {"_error", transaction, Value(),
               status("error", "NetConnection.Call.Failed", "unknown command " + name.substr(0, 64))});
    return true;
}

void RtmpServer::State::close_stream(Connection& connection, std::uint32_t stream) {
    if (const auto playing = connection.playing.find(stream); playing != connection.playing.end()) {
        settings.fan_out->remove(playing->second.client);
        connection.playing.erase(playing);
    }
    connection.publishing.erase(stream);
}

void RtmpServer::State::play(Connection& connection, std::uint32_t stream, const std::string& name, bool reset) {
    const std::size_t mark = name.find('?');
    const std::string plain = name.substr(0, mark), query = mark == std::string::npos ? "" : name.substr(mark + 1);
    auto broadcast = settings.play
                         ? settings.play({connection.application, plain, query, connection.address, connection.port})
                         : nullptr;
    if (stream == 0 || stream > connection.streams) broadcast = nullptr;
    if (!broadcast) {
        // (Without the query, in which keys are.)
        event(RtmpEvent::Kind::refused, connection, fmt::format("play {}/{}", connection.application, plain));
        reply(connection, stream,
              {"onStatus", 0.0, Value(), status("error", "NetStream.Play.StreamNotFound", "no stream " + plain)});
        return;
    }
    close_stream(connection, stream);
    base::ByteWriter begin;
    begin.u16(0);  // Stream Begin (7.1.7)
    begin.u32(stream);
    send(connection, kControlChunks, rtmp::kUserControl, 0, begin.release());
    if (reset)
        reply(connection, stream,
              {"onStatus", 0.0, Value(), status("status", "NetStream.Play.Reset", "playing " + plain)});
    reply(connection, stream, {"onStatus", 0.0, Value(), status("status", "NetStream.Play.Start", "playing " + plain)});
    const int socket = ::dup(connection.socket.native_handle());
    if (socket < 0) return;
    Connection::Playing playing{0, broadcast, plain};
    const std::uint64_t beside = connection.playing.empty() ? 0 : connection.playing.begin()->second.client;
    playing.client = settings.fan_out->add(broadcast, socket, connection.address, Bytes(std::move(connection.out)),
                                           beside, for_player(stream), connection.agent);
    connection.out = {};
    connection.playing[stream] = std::move(playing);
    connection.what = "played " + plain;
    event(RtmpEvent::Kind::playing, connection, plain);
}

void RtmpServer::State::publish(Connection& connection, std::uint32_t stream, const std::string& name) {
    std::string why = "this server does not accept publishing";
    auto publication =
        settings.publish && stream != 0 && stream <= connection.streams
            ? settings.publish({connection.application, name, "", connection.address, connection.port}, why)
            : nullptr;
    if (!publication) {
        event(RtmpEvent::Kind::refused, connection, fmt::format("publish to {}: {}", connection.application, why));
        reply(connection, stream, {"onStatus", 0.0, Value(), status("error", "NetStream.Publish.BadName", why)});
        return;
    }
    close_stream(connection, stream);
    connection.publishing[stream] = std::move(publication);
    connection.last_media = Steady::now();
    base::ByteWriter begin;
    begin.u16(0);
    begin.u32(stream);
    send(connection, kControlChunks, rtmp::kUserControl, 0, begin.release());
    reply(connection, stream, {"onStatus", 0.0, Value(), status("status", "NetStream.Publish.Start", "publishing")});
    connection.what = "published";
    event(RtmpEvent::Kind::publishing, connection, connection.application);
}

RtmpServer::RtmpServer(std::unique_ptr<State> state) : state_(std::move(state)) {}

Result<std::unique_ptr<RtmpServer>> RtmpServer::start(RtmpServerSettings settings) {
    auto state = std::make_unique<State>();
    state->settings = std::move(settings);
    WAVECREST_TRY(open_acceptors(state->acceptors, state->context, state->settings.address, state->settings.port,
                                 state->settings.further));
    for (tcp::acceptor& one : state->acceptors) asio::co_spawn(state->context, state->accept_loop(one), asio::detached);
    state->housekeeping.emplace(state->context);
    state->keep_house();
    state->thread = std::thread([s = state.get()] {
        sigset_t pipe;
        sigemptyset(&pipe);
        sigaddset(&pipe, SIGPIPE);
        ::pthread_sigmask(SIG_BLOCK, &pipe, nullptr);
        s->context.run();
    });
    return std::unique_ptr<RtmpServer>(new RtmpServer(std::move(state)));
}

RtmpServer::~RtmpServer() {
    state_->context.stop();
    state_->thread.join();
    for (const auto& one : state_->connections) {
        if (const auto connection = one.lock()) {
            for (const auto& [stream, playing] : connection->playing) state_->settings.fan_out->remove(playing.client);
            connection->publishing.clear();
        }
    }
}

std::uint16_t RtmpServer::port() const {
    return port_of(state_->acceptors.front());
}

Bytes for_message_stream(const Bytes& chunks, std::uint32_t stream) {
    const ByteSpan from = chunks.view();
    ByteVector out(from.begin(), from.end());
    std::size_t at = 0;
    while (at + 12 <= out.size()) {
        // A full header: chunk stream, time, length, type, message stream (little-endian), and the time again.
        base::ByteReader reader(ByteSpan(out).subspan(at + 1));
        const bool extended = reader.u24() == 0xFFFFFF;
        const std::size_t length = reader.u24();
        if (out[at + 7] != rtmp::kSetChunkSize && (out[at] & 0x3F) != kControlChunks) {
            for (std::size_t i = 0; i < 4; ++i) out[at + 8 + i] = static_cast<std::uint8_t>(stream >> (8 * i));
        }
        const std::size_t more = length == 0 ? 0 : (length - 1) / kRtmpBroadcastChunk;  // chunks of type 3
        at += 12 + (extended ? 4 : 0) + length + more * (extended ? 5 : 1);
    }
    return Bytes(std::move(out));
}

namespace {

// A decoder's configuration rather than a frame (Adobe FLV 10.1, E.4.2.1 and E.4.3.1): of AAC, of H.264.
bool is_configuration(std::uint8_t type, ByteSpan body) {
    if (body.size() < 2) return true;
    return type == rtmp::kAudio ? body[0] >> 4 == 10 && body[1] == 0 : (body[0] & 0x0F) == 7 && body[1] == 0;
}

}  // namespace

std::function<Bytes(const Bytes& chunks)> for_player(std::uint32_t stream) {
    return [stream, first_time = std::optional<std::uint32_t>()](const Bytes& chunks) mutable {
        const ByteSpan from = chunks.view();
        ByteVector out;
        out.reserve(from.size());
        std::size_t at = 0;
        while (at + 12 <= from.size()) {
            base::ByteReader reader(from.subspan(at));
            const int chunk_stream = reader.u8() & 0x3F;
            std::uint32_t time = reader.u24();
            const bool extended = time == 0xFFFFFF;
            const std::size_t length = reader.u24();
            const std::uint8_t type = reader.u8();
            std::size_t end = at + 12 + (extended ? 4 : 0);
            if (end > from.size()) break;
            if (extended) time = base::ByteReader(from.subspan(at + 12)).u32();
            ByteVector body;
            body.reserve(length);
            for (std::size_t left = length, first = 1; left > 0; first = 0) {
                if (first == 0) end += extended ? 5 : 1;  // a chunk of type 3
                const std::size_t part =
                    std::min<std::size_t>({left, kRtmpBroadcastChunk, from.size() - std::min(end, from.size())});
                if (part == 0) break;
                body.insert(body.end(), from.begin() + static_cast<std::ptrdiff_t>(end),
                            from.begin() + static_cast<std::ptrdiff_t>(end + part));
                end += part;
                left -= part;
            }
            if (body.size() < length) break;
            at = end;
            const bool media = type == rtmp::kAudio || type == rtmp::kVideo;
            if (media && !first_time && !is_configuration(type, body)) first_time = time;
            if (media || type == rtmp::kData) {
                // (Times wrap; what lies shortly before the first frame begins with it.)
                const std::uint32_t since = first_time ? time - *first_time : 0;
                time = since < 0x8000'0000 ? since : 0;
            }
            const bool control = chunk_stream == kControlChunks || type == rtmp::kSetChunkSize;
            rtmp::append_message(out, chunk_stream, {type, time, control ? 0 : stream, {}}, body, kRtmpBroadcastChunk);
        }
        return Bytes(std::move(out));
    };
}

}  // namespace wavecrest::net
