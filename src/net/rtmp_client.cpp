#include "net/rtmp_client.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <netdb.h>
#include <poll.h>
#include <sys/socket.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <cstring>
#include <deque>
#include <random>

#include "base/byte_source.hpp"
#include "net/amf0.hpp"
#include "net/rtmp_server.hpp"
#include "net/url.hpp"
#include "net/wire.hpp"

namespace wavecrest::net {
namespace {

using Steady = std::chrono::steady_clock;
using amf0::Members;
using amf0::Value;
using rtmp::Message;
using namespace std::chrono_literals;

constexpr std::size_t kHandshake = 1536;

}  // namespace

std::string RtmpAddress::text() const {
    return endpoint() + "/" + name;
}

std::string RtmpAddress::endpoint() const {
    return fmt::format("rtmp://{}/{}", authority(host, port, kDefaultRtmpPort), application);
}

Result<RtmpAddress> parse_rtmp_address(const std::string& text) {
    const auto parts = split_address(text);
    // The path goes over the wire as it is written.
    const std::string path = parts && parts->rest.starts_with('/') ? parts->rest.substr(1) : "";
    const std::size_t slash = path.find('/');
    if (!parts || parts->scheme != "rtmp" || slash == std::string::npos || slash == 0 || slash + 1 == path.size())
        return fail(ErrorKind::usage, fmt::format("\"{}\" isn't an RTMP address", text), "address",
                    "write it as rtmp://HOST/APPLICATION/STREAM, with :PORT behind the host if it isn't 1935");
    RtmpAddress address;
    address.host = parts->host;
    if (parts->port != 0) address.port = parts->port;
    address.application = path.substr(0, slash);
    address.name = path.substr(slash + 1);
    return address;
}

struct RtmpClient::State {
    RtmpAddress address;
    Time limit{};
    int socket = -1;
    rtmp::ChunkReader reader;
    std::deque<Message> waiting;
    std::uint32_t stream = 0;
    std::uint64_t received = 0, acknowledged = 0;
    std::uint32_t peer_window = 0;
    std::uint64_t pings = 0;  // asked by the server
    std::uint32_t chunk = rtmp::kFirstChunkSize;
    double transaction = 0;
    std::function<void(ByteVector)> write;

    State() { reader.expect_media(true); }
    ~State() {
        if (socket >= 0) ::close(socket);
    }
    auto wanting(std::string what, std::string remedy) const {
        return fail(ErrorKind::wanting, std::move(what), address.endpoint(), std::move(remedy));
    }
    Status wait_for(short what, Steady::time_point until) const {
        while (true) {
            const auto left = std::chrono::duration_cast<std::chrono::milliseconds>(until - Steady::now());
            if (left.count() <= 0)
                return wanting("no answer in time", "check the address, and any firewall in between");
            pollfd one{socket, what, 0};
            const int n = ::poll(&one, 1, static_cast<int>(left.count()));
            if (n > 0) return {};
            if (n < 0 && errno == EINTR) return base::interrupted();
        }
    }
    Status send(ByteSpan bytes) {
        const auto until = Steady::now() + std::chrono::duration_cast<Steady::duration>(limit);
        while (!bytes.empty()) {
            const ssize_t n = ::send(socket, bytes.data(), bytes.size(), MSG_NOSIGNAL | MSG_DONTWAIT);
            if (n > 0) {
                bytes = bytes.subspan(static_cast<std::size_t>(n));
                continue;
            }
            if (errno != EAGAIN && errno != EWOULDBLOCK && errno != EINTR)
                return wanting("the server closed the connection", "check the server's log");
            WAVECREST_TRY(wait_for(POLLOUT, until));
        }
        return {};
    }
    Status read_exactly(std::span<std::uint8_t> buffer) {
        const auto until = Steady::now() + std::chrono::duration_cast<Steady::duration>(limit);
        std::size_t done = 0;
        while (done < buffer.size()) {
            WAVECREST_TRY(wait_for(POLLIN, until));
            const ssize_t n = ::recv(socket, buffer.data() + done, buffer.size() - done, MSG_DONTWAIT);
            if (n == 0 || (n < 0 && errno != EAGAIN && errno != EINTR))
                return wanting("no RTMP server at this port", "check the port");
            if (n > 0) done += static_cast<std::size_t>(n);
        }
        return {};
    }
    Status send_message(int chunks, std::uint8_t type, std::uint32_t of, ByteVector payload) {
        ByteVector out;
        rtmp::append_message(out, chunks, {type, 0, of, std::move(payload)}, chunk);
        if (!write) return send(out);
        write(std::move(out));
        return {};
    }
    Status command(std::uint32_t of, const std::vector<Value>& values) {
        return send_message(3, rtmp::kCommand, of, amf0::write(values));
    }

    Status open();
    // Reads what is there within `wait`.
    Status pump(std::chrono::milliseconds wait);
    // The values of the answer to a transaction, or of the next status of a stream (transaction 0).
    Result<std::vector<Value>> answer(double transaction);
};

Status RtmpClient::State::open() {
    const auto connected = connect_tcp(address.host, address.port, limit);
    if (!connected) {
        switch (connected.error().kind) {
            case WireError::Kind::host_not_found:
                return wanting("host name not found (DNS)", "use the server's IP address");
            case WireError::Kind::timeout:
                return wanting("no answer in time", "check the address, and any firewall in between");
            case WireError::Kind::refused:
                return wanting("connection refused: nothing listens at this address",
                               "start the stream (wavecrest stream run), and check host and port");
            default:
                return wanting("connecting failed: " + connected.error().text, "check the address");
        }
    }
    socket = *connected;
    // C0 and C1 (5.2).
    ByteVector hello(1 + kHandshake, 0);
    hello[0] = 3;
    std::minstd_rand random(std::random_device{}());
    for (std::size_t i = 9; i < hello.size(); ++i) hello[i] = static_cast<std::uint8_t>(random());
    WAVECREST_TRY(send(hello));
    ByteVector answer_bytes(1 + 2 * kHandshake);
    WAVECREST_TRY(read_exactly(answer_bytes));
    if (answer_bytes[0] != 3) return wanting("no RTMP server at this port", "check the port");
    WAVECREST_TRY(send(ByteSpan(answer_bytes).subspan(1, kHandshake)));  // C2: S1 again

    base::ByteWriter size;
    size.u32(kRtmpBroadcastChunk);
    WAVECREST_TRY(send_message(2, rtmp::kSetChunkSize, 0, size.release()));
    chunk = kRtmpBroadcastChunk;
    const std::string base_address = RtmpAddress{address.host, address.port, address.application, ""}.text();
    WAVECREST_TRY(command(0, {"connect", ++transaction,
                              Members{{"app", address.application},
                                      {"tcUrl", base_address.substr(0, base_address.size() - 1)},
                                      {"fpad", false},
                                      {"capabilities", 15.0},
                                      {"audioCodecs", 4071.0},
                                      {"videoCodecs", 252.0},
                                      {"videoFunction", 1.0},
                                      {"objectEncoding", 0.0}}}));
    WAVECREST_TRY_ASSIGN(accepted, answer(transaction));
    if (accepted[0].text() != "_result")
        return wanting(
            "the server refuses the connection" + (accepted.size() > 3 && accepted[3].member("description") != nullptr
                                                       ? ": " + accepted[3].member("description")->text()
                                                       : ""),
            "check the application's name in the address");
    WAVECREST_TRY(command(0, {"createStream", ++transaction, Value()}));
    WAVECREST_TRY_ASSIGN(made, answer(transaction));
    if (made[0].text() != "_result" || made.size() < 4 || !made[3].number())
        return wanting("the server can't create a stream", "check the server's log");
    stream = static_cast<std::uint32_t>(*made[3].number());
    return {};
}

Status RtmpClient::State::pump(std::chrono::milliseconds wait) {
    pollfd one{socket, POLLIN, 0};
    const int n = ::poll(&one, 1, static_cast<int>(wait.count()));
    if (n <= 0) return {};
    std::array<std::uint8_t, 64 * 1024> buffer{};
    while (true) {
        const ssize_t got = ::recv(socket, buffer.data(), buffer.size(), MSG_DONTWAIT);
        if (got < 0 && (errno == EAGAIN || errno == EINTR)) break;
        if (got <= 0) return wanting("the server closed the connection", "check the server's log");
        received += static_cast<std::uint64_t>(got);
        std::vector<Message> messages;
        WAVECREST_TRY(reader.push(ByteSpan(buffer.data(), static_cast<std::size_t>(got)), messages));
        for (Message& message : messages) {
            base::ByteReader fields(message.payload);
            if (message.type == rtmp::kWindowSize) {
                peer_window = fields.u32();
            } else if (message.type == rtmp::kUserControl) {
                if (fields.u16() == 6) {
                    ++pings;
                    base::ByteWriter pong;
                    pong.u16(7);
                    pong.u32(fields.u32());
                    WAVECREST_TRY(send_message(2, rtmp::kUserControl, 0, pong.release()));
                }
            } else if (message.type == rtmp::kAudio || message.type == rtmp::kVideo || message.type == rtmp::kData ||
                       message.type == rtmp::kCommand || message.type == rtmp::kAggregate) {
                waiting.push_back(std::move(message));
            }
        }
        if (peer_window > 0 && received - acknowledged >= peer_window / 2) {
            acknowledged = received;
            base::ByteWriter bytes;
            bytes.u32(static_cast<std::uint32_t>(received));
            WAVECREST_TRY(send_message(2, rtmp::kAcknowledgement, 0, bytes.release()));
        }
        if (waiting.size() > 256) break;
    }
    return {};
}

Result<std::vector<Value>> RtmpClient::State::answer(double wanted) {
    const auto until = Steady::now() + std::chrono::duration_cast<Steady::duration>(limit);
    while (Steady::now() < until) {
        const auto message =
            std::find_if(waiting.begin(), waiting.end(), [](const Message& m) { return m.type == rtmp::kCommand; });
        if (message != waiting.end()) {
            auto values = amf0::parse(message->payload);
            waiting.erase(message);
            if (!values || values->size() < 2) return wanting("invalid command from the server", "check the address");
            const std::string name = (*values)[0].text();
            const bool fits =
                wanted == 0 ? name == "onStatus"
                            : (name == "_result" || name == "_error") && (*values)[1].number().value_or(-1) == wanted;
            if (fits) return std::move(*values);
            continue;
        }
        WAVECREST_TRY(pump(50ms));
    }
    return wanting("the server does not respond", "check that this is an RTMP server's port");
}

RtmpClient::RtmpClient(std::unique_ptr<State> state) : state_(std::move(state)) {}
RtmpClient::~RtmpClient() = default;

Result<std::unique_ptr<RtmpClient>> RtmpClient::connect(const RtmpAddress& address, Time limit) {
    auto state = std::make_unique<State>();
    state->address = address;
    state->limit = limit;
    WAVECREST_TRY(state->open());
    return std::unique_ptr<RtmpClient>(new RtmpClient(std::move(state)));
}

namespace {

std::string member_text(const std::vector<Value>& values, const char* name) {
    if (values.size() < 4) return "";
    const Value* member = values[3].member(name);
    return member != nullptr ? member->text() : "";
}

}  // namespace

Status RtmpClient::play() {
    State& s = *state_;
    WAVECREST_TRY(s.command(s.stream, {"play", 0.0, Value(), s.address.name, -2.0}));
    while (true) {
        WAVECREST_TRY_ASSIGN(values, s.answer(0));
        const std::string code = member_text(values, "code");
        if (code == "NetStream.Play.Start") return {};
        if (member_text(values, "level") == "error" || code.find("NotFound") != std::string::npos)
            return s.wanting("the server has no such stream: " + member_text(values, "description"),
                             "check application and name (wavecrest site show, or what stream run printed)");
    }
}

Status RtmpClient::publish() {
    State& s = *state_;
    WAVECREST_TRY(s.command(s.stream, {"publish", 0.0, Value(), s.address.name, "live"}));
    while (true) {
        WAVECREST_TRY_ASSIGN(values, s.answer(0));
        if (member_text(values, "code") == "NetStream.Publish.Start") return {};
        if (member_text(values, "level") == "error")
            return s.wanting("the server refuses the stream: " + member_text(values, "description"),
                             "check the stream key, and that nobody else is publishing there");
    }
}

Result<std::vector<Message>> RtmpClient::receive(std::chrono::milliseconds wait) {
    State& s = *state_;
    if (s.waiting.empty()) WAVECREST_TRY(s.pump(wait));
    std::vector<Message> out(std::make_move_iterator(s.waiting.begin()), std::make_move_iterator(s.waiting.end()));
    s.waiting.clear();
    return out;
}

std::string RtmpClient::status_code(const Message& message) {
    if (message.type != rtmp::kCommand) return "";
    const auto values = amf0::parse(message.payload);
    return values && !values->empty() && (*values)[0].text() == "onStatus" ? member_text(*values, "code") : "";
}

void RtmpClient::write_by(std::function<void(ByteVector)> write) {
    state_->write = std::move(write);
}

int RtmpClient::socket() const {
    return state_->socket;
}
std::uint64_t RtmpClient::pings() const {
    return state_->pings;
}
std::uint32_t RtmpClient::stream() const {
    return state_->stream;
}

bool can_resolve(const std::string& host) {
    addrinfo* found = nullptr;
    if (::getaddrinfo(host.c_str(), nullptr, nullptr, &found) != 0) return false;
    ::freeaddrinfo(found);
    return true;
}

}  // namespace wavecrest::net
