#include "stream/rtmp_push.hpp"

#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <chrono>

#include "net/rtmp_server.hpp"
#include "stream/rtmp_wire.hpp"

namespace wavecrest::stream {
namespace {

using namespace std::chrono_literals;

constexpr std::chrono::milliseconds kFirstPause{1000}, kLongestPause{15'000};

}  // namespace

RtmpPush::RtmpPush(net::RtmpAddress to, std::shared_ptr<net::Broadcast> broadcast, net::FanOut& fan_out,
                   OnChange on_change)
    : to_(std::move(to)), broadcast_(std::move(broadcast)), fan_out_(fan_out), on_change_(std::move(on_change)) {
    thread_ = std::thread([this] { run(); });
}

RtmpPush::~RtmpPush() {
    {
        const base::MutexLock lock(mutex_);
        stopping_ = true;
    }
    stop_.notify_all();
    thread_.join();
}

std::string RtmpPush::state() const {
    const base::MutexLock lock(mutex_);
    return state_;
}

bool RtmpPush::is_stopping() const {
    const base::MutexLock lock(mutex_);
    return stopping_;
}

void RtmpPush::set(std::string state, bool tell) {
    if (tell && on_change_) on_change_(state);
    const base::MutexLock lock(mutex_);
    state_ = std::move(state);
}

// Until the connection ends or this is to stop.
Status RtmpPush::publish(net::RtmpClient& client) {
    const int socket = ::dup(client.socket());
    auto broadcast = broadcast_;
    const std::uint32_t stream = client.stream();
    if (stream != kRtmpStream)
        broadcast = fan_out_.derive(broadcast,
                                    [stream](const Bytes& chunks) { return net::for_message_stream(chunks, stream); });
    const std::uint64_t id = fan_out_.add(broadcast, socket, "to " + to_.host, {});
    client.write_by([&](ByteVector bytes) { fan_out_.send(id, Bytes(std::move(bytes))); });
    Status status;
    while (!is_stopping() && status) {
        const auto messages = client.receive(100ms);
        if (!messages) status = fail(messages.error());
    }
    fan_out_.remove(id);
    return status;
}

void RtmpPush::run() {
    auto pause = kFirstPause;
    while (!is_stopping()) {
        auto client = net::RtmpClient::connect(to_, base::from_seconds(5));
        Status status = client ? (*client)->publish() : Status(fail(client.error()));
        if (status) {
            pause = kFirstPause;
            set("publishing", true);
            status = publish(**client);
        }
        if (is_stopping()) break;
        set(fmt::format("{}; trying again in {} s", status ? "ended" : status.error().what, pause / 1000ms), true);
        const base::MutexLock lock(mutex_);
        const auto until = std::chrono::steady_clock::now() + pause;
        while (!stopping_ && stop_.wait_until(mutex_, until)) {
        }
        pause = std::min(pause * 2, kLongestPause);
    }
}

}  // namespace wavecrest::stream
