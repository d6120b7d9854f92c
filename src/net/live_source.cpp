#include "net/live_source.hpp"

#include <fcntl.h>
#include <poll.h>
#include <unistd.h>

#include <atomic>
#include <cerrno>
#include <chrono>
#include <functional>
#include <thread>

#include "base/byte_source.hpp"
#include "net/rtmp_client.hpp"
#include "net/rtp.hpp"
#include "net/udp.hpp"

namespace wavecrest::net {
namespace {

using namespace std::chrono_literals;
using Steady = std::chrono::steady_clock;

constexpr auto kFirstWait = 5s, kIdle = 2s;
constexpr int kPipeBytes = 1 << 20;

// A thread takes what comes and feeds it to a pipe, whose other end is read.
class FedSource : public base::ByteSource {
  public:
    // Gives what came within a short wait (nothing: empty); fails at the end.
    using Take = std::function<Result<ByteVector>()>;

    FedSource(std::string name, int out, int in, Take take)
        : pipe_(out, std::move(name)), out_(out), in_(in), take_(std::move(take)) {
        thread_ = std::thread([this] { feed(); });
    }
    ~FedSource() override {
        stopping_ = true;
        thread_.join();
        ::close(out_);
    }
    std::uint64_t size() const override { return pipe_.size(); }
    std::string name() const override { return pipe_.name(); }
    bool seekable() const override { return false; }
    Result<std::size_t> read_at(std::uint64_t offset, std::span<std::uint8_t> buffer) override {
        return pipe_.read_at(offset, buffer);
    }

  private:
    void feed() {
        auto until = Steady::now() + kFirstWait;
        while (!stopping_ && Steady::now() < until) {
            const auto got = take_();
            if (!got) break;
            if (got->empty()) continue;
            until = Steady::now() + kIdle;
            ByteSpan rest(*got);
            const auto patience = Steady::now() + 1s;
            while (!rest.empty() && !stopping_ && Steady::now() < patience) {
                const ssize_t n = ::write(in_, rest.data(), rest.size());
                if (n > 0) {
                    rest = rest.subspan(static_cast<std::size_t>(n));
                } else if (errno == EAGAIN) {
                    pollfd room{in_, POLLOUT, 0};
                    ::poll(&room, 1, 50);
                } else if (errno != EINTR) {
                    break;
                }
            }
        }
        ::close(in_);
    }

    base::PipeSource pipe_;
    int out_, in_;
    Take take_;
    std::atomic<bool> stopping_{false};
    std::thread thread_;
};

Error as_input(Error error) {
    if (error.kind != ErrorKind::usage && error.kind != ErrorKind::interrupted) error.kind = ErrorKind::input;
    return error;
}

}  // namespace

Result<std::unique_ptr<base::ByteSource>> open_fed(const std::string& name, std::function<Result<ByteVector>()> take) {
    int ends[2];
    if (::pipe2(ends, O_CLOEXEC) != 0)
        return fail(ErrorKind::machine, "can't create a pipe", name, "close other programs");
    ::fcntl(ends[1], F_SETPIPE_SZ, kPipeBytes);
    ::fcntl(ends[1], F_SETFL, O_NONBLOCK);
    return std::unique_ptr<base::ByteSource>(std::make_unique<FedSource>(name, ends[0], ends[1], std::move(take)));
}

void append_flv_header(base::ByteWriter& out) {
    out.text("FLV");
    out.u8(1);
    out.u8(5);  // audio and video
    out.u32(9);
    out.u32(0);  // size of the tag before
}

void append_flv_tag(base::ByteWriter& out, std::uint8_t type, std::uint32_t timestamp, ByteSpan body) {
    out.u8(type);
    out.u24(body.size());
    out.u24(timestamp & 0xFFFFFF);
    out.u8(timestamp >> 24);
    out.u24(0);
    out.raw(body);
    out.u32(body.size() + 11);
}

Result<std::unique_ptr<base::ByteSource>> open_live(const base::Address& address) {
    if (address.scheme() == base::Scheme::rtmp) {
        WAVECREST_TRY_ASSIGN(to, parse_rtmp_address(address.text()));
        auto made = RtmpClient::connect(to, base::from_seconds(5));
        if (!made) return fail(as_input(made.error()));
        if (const Status playing = (*made)->play(); !playing) return fail(as_input(playing.error()));
        base::ByteWriter head;
        append_flv_header(head);
        return open_fed(
            address.text(),
            [client = std::shared_ptr<RtmpClient>(std::move(*made)),
             first = head.release()]() mutable -> Result<ByteVector> {
                base::ByteWriter out;
                out.raw(first);
                first.clear();
                WAVECREST_TRY_ASSIGN(messages, client->receive(50ms));
                for (const rtmp::Message& message : messages) {
                    if (message.type == rtmp::kCommand && RtmpClient::status_code(message) == "NetStream.Play.Stop")
                        return fail(ErrorKind::input, "the stream has ended", "RTMP", "");
                    if (message.type != rtmp::kAudio && message.type != rtmp::kVideo && message.type != rtmp::kData)
                        continue;
                    append_flv_tag(out, message.type, message.timestamp, message.payload);
                }
                return out.release();
            });
    }
    const bool rtp = address.scheme() == base::Scheme::rtp;
    WAVECREST_TRY_ASSIGN(at, parse_udp_address(std::string(address.behind_scheme())));
    auto made = UdpReceiver::open(at);
    if (!made) return fail(made.error());
    return open_fed(address.text(),
                    [receiver = std::shared_ptr<UdpReceiver>(std::move(*made)), sequence = SequenceMeter(),
                     rtp]() mutable -> Result<ByteVector> {
                        ByteVector out;
                        WAVECREST_TRY_ASSIGN(datagrams, receiver->receive(50ms));
                        for (const UdpReceiver::Datagram& datagram : datagrams) {
                            ByteSpan payload = datagram.bytes;
                            if (rtp) {
                                const auto packet = parse_rtp(payload);
                                if (!packet || packet->header.payload_type != kRtpTransportStream ||
                                    !sequence.push(packet->header.sequence))
                                    continue;
                                payload = packet->payload;
                            }
                            out.insert(out.end(), payload.begin(), payload.end());
                        }
                        return out;
                    });
}

}  // namespace wavecrest::net
