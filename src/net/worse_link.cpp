#include "net/worse_link.hpp"

#include <arpa/inet.h>
#include <fmt/format.h>
#include <netdb.h>
#include <netinet/tcp.h>
#include <poll.h>
#include <sys/socket.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <atomic>
#include <cerrno>
#include <chrono>
#include <cstring>
#include <deque>
#include <list>
#include <map>
#include <thread>

#include "base/clock.hpp"
#include "base/mutex.hpp"
#include "base/units.hpp"
#include "net/listen.hpp"

namespace wavecrest::net {
namespace {

using namespace std::chrono_literals;

constexpr std::size_t kPiece = 16 << 10;
// What waits for its turn, as a router holds it: more datagrams are dropped, connections are held up.
constexpr Time kQueue = std::chrono::milliseconds(200);
constexpr int kSocketBuffer = 64 << 10;

class UdpLink : public WorseLink {
  public:
    UdpLink(std::unique_ptr<UdpReceiver> in, std::unique_ptr<UdpSender> out, UdpAddress from, UdpAddress to,
            const LinkFaults& faults)
        : in_(std::move(in)), out_(std::move(out)), from_(std::move(from)), to_(std::move(to)), schedule_(faults) {
        thread_ = std::thread([this] { run(); });
    }
    ~UdpLink() override {
        stopping_ = true;
        thread_.join();
    }
    std::uint16_t port() const override { return from_.port; }
    LinkFigures figures() const override { return {passed_, bytes_, lost_, 0}; }

  private:
    void run() {
        std::multimap<Time, ByteVector> waiting;  // by arrival; those of one moment in their order
        while (!stopping_) {
            const Time now = clock_.now();
            std::vector<ByteVector> due;
            while (!waiting.empty() && waiting.begin()->first <= now) {
                due.push_back(std::move(waiting.begin()->second));
                waiting.erase(waiting.begin());
            }
            std::vector<UdpSender::Datagram> list;
            for (const ByteVector& one : due) {
                list.push_back({&to_, one});
                bytes_ += one.size();
                ++passed_;
            }
            if (!list.empty()) out_->send(list);
            auto wait = 20ms;
            if (!waiting.empty())
                wait = std::clamp(std::chrono::duration_cast<std::chrono::milliseconds>(waiting.begin()->first - now),
                                  0ms, 20ms);
            const auto got = in_->receive(wait);
            if (!got) continue;
            const Time at = clock_.now();
            for (const auto& datagram : *got) {
                const LinkSchedule::Fate fate = schedule_.datagram(at, datagram.bytes.size());
                if (fate.lost) {
                    ++lost_;
                } else {
                    waiting.emplace(fate.at, ByteVector(datagram.bytes.begin(), datagram.bytes.end()));
                }
            }
        }
    }

    std::unique_ptr<UdpReceiver> in_;
    std::unique_ptr<UdpSender> out_;
    const UdpAddress from_, to_;
    LinkSchedule schedule_;
    base::RealClock clock_;
    std::atomic<std::uint64_t> passed_{0}, bytes_{0}, lost_{0};
    std::atomic<bool> stopping_{false};
    std::thread thread_;
};

class TcpLink : public WorseLink {
  public:
    TcpLink(int listener, std::uint16_t port, sockaddr_storage to, socklen_t to_size, const LinkFaults& faults)
        : listener_(listener),
          port_(port),
          to_(to),
          to_size_(to_size),
          down_(faults),
          up_(faults),
          delay_(faults.delay) {
        thread_ = std::thread([this] { accept_all(); });
    }
    ~TcpLink() override {
        stopping_ = true;
        ::shutdown(listener_, SHUT_RDWR);
        thread_.join();
        ::close(listener_);
        for (auto& one : connections_) {
            ::shutdown(one->client, SHUT_RDWR);
            ::shutdown(one->server, SHUT_RDWR);
            for (std::thread& thread : one->threads) thread.join();
            ::close(one->client);
            ::close(one->server);
        }
    }
    std::uint16_t port() const override { return port_; }
    LinkFigures figures() const override { return {passed_, bytes_, down_.repeated() + up_.repeated(), open_}; }

  private:
    struct Connection {
        int client = -1, server = -1;
        std::atomic<int> running{0};
        std::vector<std::thread> threads;
    };

    void accept_all() {
        while (!stopping_) {
            pollfd one{listener_, POLLIN, 0};
            if (::poll(&one, 1, 100) > 0) {
                const int client = ::accept4(listener_, nullptr, nullptr, SOCK_CLOEXEC);
                if (client >= 0) begin(client);
            }
            for (auto c = connections_.begin(); c != connections_.end();) {
                if ((*c)->running > 0) {
                    ++c;
                    continue;
                }
                for (std::thread& thread : (*c)->threads) thread.join();
                ::close((*c)->client);
                ::close((*c)->server);
                c = connections_.erase(c);
                --open_;
            }
        }
    }
    void begin(int client) {
        const int server = ::socket(to_.ss_family, SOCK_STREAM | SOCK_CLOEXEC, 0);
        // Small buffers: what is held up here has to be held up at the sender.
        ::setsockopt(server, SOL_SOCKET, SO_RCVBUF, &kSocketBuffer, sizeof kSocketBuffer);
        ::setsockopt(client, SOL_SOCKET, SO_SNDBUF, &kSocketBuffer, sizeof kSocketBuffer);
        const int on = 1;
        ::setsockopt(client, IPPROTO_TCP, TCP_NODELAY, &on, sizeof on);
        ::setsockopt(server, IPPROTO_TCP, TCP_NODELAY, &on, sizeof on);
        if (::connect(server, reinterpret_cast<const sockaddr*>(&to_), to_size_) != 0) {
            ::close(server);
            ::close(client);
            return;
        }
        auto connection = std::make_unique<Connection>();
        connection->client = client;
        connection->server = server;
        connection->running = 2;
        ++open_;
        Connection* c = connection.get();
        connection->threads.emplace_back([this, c] { pass(c->server, c->client, down_, *c); });
        connection->threads.emplace_back([this, c] { pass(c->client, c->server, up_, *c); });
        connections_.push_back(std::move(connection));
    }
    // One direction: pieces are read as long as the queue has room, and written when they have arrived.
    void pass(int from, int to, LinkSchedule& schedule, Connection& connection) {
        std::deque<std::pair<Time, ByteVector>> queue;
        bool ended = false;
        while (!stopping_ && !(ended && queue.empty())) {
            const Time now = clock_.now();
            if (!queue.empty() && queue.front().first <= now) {
                const ByteVector& bytes = queue.front().second;
                std::size_t at = 0;
                while (at < bytes.size()) {
                    const ssize_t n = ::send(to, bytes.data() + at, bytes.size() - at, MSG_NOSIGNAL);
                    if (n <= 0) break;
                    at += static_cast<std::size_t>(n);
                }
                if (at < bytes.size()) break;
                bytes_ += bytes.size();
                ++passed_;
                queue.pop_front();
                continue;
            }
            const bool room = !ended && (queue.empty() || queue.back().first - now < kQueue + delay_);
            pollfd one{from, static_cast<short>(room ? POLLIN : 0), 0};
            auto wait = 50ms;
            if (!queue.empty())
                wait = std::clamp(
                    std::chrono::duration_cast<std::chrono::milliseconds>(queue.front().first - now) + 1ms, 1ms, 50ms);
            if (!room || ended) {
                std::this_thread::sleep_for(std::min<std::chrono::milliseconds>(wait, 10ms));
                continue;
            }
            if (::poll(&one, 1, static_cast<int>(wait.count())) <= 0) continue;
            ByteVector piece(kPiece);
            const ssize_t n = ::recv(from, piece.data(), piece.size(), 0);
            if (n <= 0) {
                ended = true;
                continue;
            }
            piece.resize(static_cast<std::size_t>(n));
            const base::MutexLock lock(mutex_);
            queue.emplace_back(schedule.stream(clock_.now(), piece.size()), std::move(piece));
        }
        ::shutdown(to, SHUT_WR);
        if (!ended) ::shutdown(from, SHUT_RDWR);
        --connection.running;
    }

    int listener_;
    std::uint16_t port_;
    sockaddr_storage to_;
    socklen_t to_size_;
    base::Mutex mutex_;  // of the schedules
    LinkSchedule down_, up_;
    const Time delay_;  // what is under way in it is no queue
    base::RealClock clock_;
    std::list<std::unique_ptr<Connection>> connections_;
    std::atomic<std::uint64_t> passed_{0}, bytes_{0};
    std::atomic<std::size_t> open_{0};
    std::atomic<bool> stopping_{false};
    std::thread thread_;
};

}  // namespace

std::string describe(const LinkFaults& faults) {
    std::string text;
    const auto add = [&](const std::string& part) { text += (text.empty() ? "" : ", ") + part; };
    if (!faults.squeeze.empty())
        add(describe(faults.squeeze));
    else if (faults.rate_bps > 0)
        add(base::format_bitrate(faults.rate_bps));
    if (faults.delay.count() > 0) add(base::format_span(faults.delay) + " delay");
    if (faults.jitter.count() > 0) add(base::format_span(faults.jitter) + " jitter");
    if (faults.loss > 0) add(fmt::format("{:g} % loss", faults.loss * 100));
    if (faults.reorder > 0) add(fmt::format("{:g} % out of order", faults.reorder * 100));
    if (faults.outage.count() > 0)
        add(fmt::format("outage of {} every {}", base::format_span(faults.outage),
                        base::format_span(faults.outage_every)));
    return text;
}

Time LinkSchedule::after_outage(Time now, bool connection) const {
    const Outages outages{faults_.outage, faults_.outage_every, faults_.seed, connection};
    if (!outages.any()) return now;
    const Outages::Gap gap = outages.next(now);
    return gap.from <= now ? gap.to : now;
}

Time LinkSchedule::carried(Time now, std::size_t bytes) {
    free_at_ = std::max(free_at_, now);
    if (!faults_.squeeze.empty())
        free_at_ = RateSteps(faults_.squeeze).when(static_cast<double>(bytes), free_at_);
    else if (faults_.rate_bps > 0)
        free_at_ += base::from_seconds(static_cast<double>(bytes) * 8 / static_cast<double>(faults_.rate_bps));
    return free_at_;
}

LinkSchedule::Fate LinkSchedule::datagram(Time now, std::size_t bytes) {
    const auto chance = [&] { return static_cast<double>(random_()) / 4294967296.0; };
    // All three are drawn for each, so that one fault's rate doesn't change the other's places.
    const double loss = chance(), reorder = chance(), jitter = chance();
    if (loss < faults_.loss || after_outage(now) > now) return {true, {}};
    const bool limited = faults_.rate_bps > 0 || !faults_.squeeze.empty();
    if (limited && free_at_ - now > kQueue) return {true, {}};
    Time at = carried(now, bytes) + faults_.delay +
              Time(static_cast<std::int64_t>(jitter * static_cast<double>(faults_.jitter.count())));
    if (reorder < faults_.reorder) at += std::max<Time>(faults_.jitter, std::chrono::milliseconds(10));
    return {false, at};
}

Time LinkSchedule::stream(Time now, std::size_t bytes) {
    constexpr std::size_t kSegment = 1448;
    free_at_ = std::max(free_at_, after_outage(std::max(now, free_at_), true));
    Time at = carried(now, bytes) + faults_.delay;
    if (faults_.loss <= 0 && faults_.jitter.count() <= 0 && faults_.reorder <= 0) return at;
    const auto chance = [&] { return static_cast<double>(random_()) / 4294967296.0; };
    at += Time(static_cast<std::int64_t>(chance() * static_cast<double>(faults_.jitter.count())));
    // The receiver tells the sender, who sends it again; what came meanwhile waits behind it.
    const Time again = std::max<Time>(2 * faults_.delay, std::chrono::milliseconds(10));
    for (std::size_t i = 0; i < bytes; i += kSegment) {
        const double loss = chance(), reorder = chance();
        if (loss < faults_.loss) {
            at += again;
            ++repeated_;
        } else if (reorder < faults_.reorder) {
            at += std::chrono::milliseconds(1);
        }
    }
    return at;
}

Result<std::unique_ptr<WorseLink>> WorseLink::udp(const UdpAddress& from, const UdpAddress& to,
                                                  const LinkFaults& faults, const UdpSettings& settings) {
    WAVECREST_TRY_ASSIGN(in, UdpReceiver::open(from, settings));
    WAVECREST_TRY_ASSIGN(out, UdpSender::open(settings));
    return std::unique_ptr<WorseLink>(std::make_unique<UdpLink>(std::move(in), std::move(out), from, to, faults));
}

Result<std::unique_ptr<WorseLink>> WorseLink::tcp(const std::string& listen_address, std::uint16_t listen_port,
                                                  const std::string& host, std::uint16_t port,
                                                  const LinkFaults& faults) {
    addrinfo wanted{}, *found = nullptr;
    wanted.ai_socktype = SOCK_STREAM;
    if (::getaddrinfo(host.c_str(), fmt::format("{}", port).c_str(), &wanted, &found) != 0)
        return fail(ErrorKind::usage, fmt::format("host name \"{}\" not found (DNS)", host), "destination of the link",
                    "use its IP address");
    sockaddr_storage to{};
    const socklen_t to_size = found->ai_addrlen;
    std::memcpy(&to, found->ai_addr, to_size);
    ::freeaddrinfo(found);
    sockaddr_in at{};
    at.sin_family = AF_INET;
    at.sin_port = htons(listen_port);
    at.sin_addr.s_addr = htonl(INADDR_ANY);
    if (!listen_address.empty() && ::inet_pton(AF_INET, listen_address.c_str(), &at.sin_addr) != 1)
        return fail(ErrorKind::usage, fmt::format("\"{}\" isn't an IPv4 address", listen_address),
                    "address to listen on", "write for example 192.168.1.10");
    const int listener = ::socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0);
    const int on = 1;
    ::setsockopt(listener, SOL_SOCKET, SO_REUSEADDR, &on, sizeof on);
    if (::bind(listener, reinterpret_cast<const sockaddr*>(&at), sizeof at) != 0 || ::listen(listener, 64) != 0) {
        const int error = errno;
        ::close(listener);
        return fail(listen_error(error, std::strerror(error), listen_address, listen_port));
    }
    socklen_t size = sizeof at;
    ::getsockname(listener, reinterpret_cast<sockaddr*>(&at), &size);
    return std::unique_ptr<WorseLink>(std::make_unique<TcpLink>(listener, ntohs(at.sin_port), to, to_size, faults));
}

}  // namespace wavecrest::net
