// One broadcast to many clients: all get all of it; who is too slow is moved on or let go, and nobody else notices.
#include <fcntl.h>
#include <sys/socket.h>
#include <unistd.h>

#include <array>
#include <atomic>
#include <catch2/catch.hpp>
#include <chrono>
#include <thread>

#include "net/fan_out.hpp"
#include "net/networks.hpp"

using namespace wavecrest;
using namespace std::chrono_literals;

namespace {

// Numbered blocks: eight bytes of number, then filling of the same.
net::Block block(std::uint64_t number, std::size_t size, bool start, double seconds) {
    base::ByteWriter out;
    out.u64(number);
    out.fill(size - 8, static_cast<std::uint8_t>(number));
    return {Bytes(out.release()), base::from_seconds(seconds), start};
}

struct End {
    int ours = -1, theirs = -1;
    ByteVector got;
    explicit End(int buffer = 0) {
        int pair[2];
        REQUIRE(::socketpair(AF_UNIX, SOCK_STREAM | SOCK_NONBLOCK, 0, pair) == 0);
        theirs = pair[0];
        ours = pair[1];
        if (buffer > 0) ::setsockopt(theirs, SOL_SOCKET, SO_SNDBUF, &buffer, sizeof buffer);
    }
    ~End() { ::close(ours); }
    // False at the end of the connection.
    bool take() {
        std::array<std::uint8_t, 65536> buffer{};
        while (true) {
            const ssize_t n = ::read(ours, buffer.data(), buffer.size());
            if (n == 0) return false;
            if (n < 0) return errno == EAGAIN;
            got.insert(got.end(), buffer.begin(), buffer.begin() + n);
        }
    }
    bool wait(std::size_t bytes) {
        for (int i = 0; i < 300; ++i) {
            take();
            if (got.size() >= bytes) return true;
            std::this_thread::sleep_for(10ms);
        }
        return false;
    }
    // The numbers of the blocks in it, from `at` on.
    std::vector<std::uint64_t> numbers(std::size_t size, std::size_t at = 0) const {
        std::vector<std::uint64_t> list;
        for (; at + size <= got.size(); at += size) list.push_back(base::ByteReader(ByteSpan(got).subspan(at)).u64());
        return list;
    }
};

}  // namespace

TEST_CASE("clients get the same from the newest start on, each with its own words in front", "[fan-out]") {
    net::FanOut fan_out;
    const auto broadcast = fan_out.open("lake");
    broadcast->push({block(0, 1000, false, 0), block(1, 1000, true, 0.1), block(2, 1000, false, 0.2)});
    End a, b;
    fan_out.add(broadcast, a.theirs, "a", Bytes(ByteVector(5, 'a')));
    REQUIRE(a.wait(2005));
    broadcast->push({block(3, 1000, true, 0.3)});
    REQUIRE(a.wait(3005));
    fan_out.add(broadcast, b.theirs, "b", {});
    REQUIRE(b.wait(1000));
    broadcast->push({block(4, 1000, false, 0.4)});
    REQUIRE(a.wait(4005));
    REQUIRE(b.wait(2000));
    CHECK(ByteVector(a.got.begin(), a.got.begin() + 5) == ByteVector(5, 'a'));
    CHECK(a.numbers(1000, 5) == std::vector<std::uint64_t>{1, 2, 3, 4});
    CHECK(b.numbers(1000) == std::vector<std::uint64_t>{3, 4});
    broadcast->finish();
    for (int i = 0; i < 200 && a.take(); ++i) std::this_thread::sleep_for(10ms);
    CHECK_FALSE(a.take());
}

TEST_CASE("a slow client is moved on to a start at a block's border, the quick one misses nothing",
          "[fan-out][waits]") {
    std::atomic<int> skipped{0}, dropped{0};
    net::FanOutSettings settings;
    settings.most_lag = base::from_seconds(1);
    settings.idle_limit = base::from_seconds(60);
    net::FanOut fan_out(settings, [&](net::FanOut::Event event, const std::string&, const std::string&) {
        (event == net::FanOut::Event::skipped ? skipped : dropped)++;
    });
    const auto broadcast = fan_out.open("lake");
    End quick, slow(50'000);
    fan_out.add(broadcast, quick.theirs, "quick", {});
    fan_out.add(broadcast, slow.theirs, "slow", {});
    constexpr std::size_t kSize = 30'000;
    // A start every tenth block, a tenth of a second of the broadcast's time each.
    for (std::uint64_t i = 0; i < 100; ++i) {
        broadcast->push({block(i, kSize, i % 10 == 0, static_cast<double>(i) / 10)});
        std::this_thread::sleep_for(10ms);
        REQUIRE(quick.wait((i + 1) * kSize));  // however busy this machine is
    }
    // Now the slow one reads: what it was in the middle of, then newer ones.
    for (int i = 0; i < 300 && (slow.got.size() % kSize != 0 || i < 100); ++i) {
        slow.take();
        std::this_thread::sleep_for(10ms);
    }
    std::vector<std::uint64_t> all(100);
    for (std::size_t i = 0; i < all.size(); ++i) all[i] = i;
    CHECK(quick.numbers(kSize) == all);
    const auto numbers = slow.numbers(kSize);
    REQUIRE(slow.got.size() % kSize == 0);
    REQUIRE(numbers.size() > 1);
    CHECK(numbers.size() < 60);
    CHECK(numbers.front() == 0);
    CHECK(numbers.back() == 99);
    for (std::size_t i = 1; i < numbers.size(); ++i) {
        if (numbers[i] != numbers[i - 1] + 1) CHECK(numbers[i] % 10 == 0);
    }
    CHECK(skipped > 0);
    CHECK(dropped == 0);
    bool seen = false;
    for (const auto& client : fan_out.clients()) seen = seen || (client.address == "slow" && client.skips > 0);
    CHECK(seen);
}

TEST_CASE("a client that takes nothing at all is dropped", "[fan-out]") {
    std::atomic<int> dropped{0};
    net::FanOutSettings settings;
    settings.idle_limit = base::from_seconds(0.5);
    net::FanOut fan_out(settings, [&](net::FanOut::Event event, const std::string&, const std::string&) {
        dropped += event == net::FanOut::Event::dropped ? 1 : 0;
    });
    const auto broadcast = fan_out.open("lake");
    End stuck(4096);
    fan_out.add(broadcast, stuck.theirs, "stuck", {});
    for (std::uint64_t i = 0; i < 300 && dropped == 0; ++i) {
        broadcast->push({block(i, 20'000, true, static_cast<double>(i) / 50)});
        std::this_thread::sleep_for(10ms);
    }
    CHECK(dropped == 1);
    CHECK(fan_out.clients().empty());
}

TEST_CASE("paused clients get nothing, and go on with the preface at the newest start", "[fan-out]") {
    net::FanOut fan_out;
    const auto broadcast = fan_out.open("lake");
    broadcast->set_preface(Bytes(ByteVector(3, 'p')));
    broadcast->push({block(0, 100, true, 0)});
    End end;
    const auto id = fan_out.add(broadcast, end.theirs, "x", {});
    REQUIRE(end.wait(103));
    fan_out.pause(id, true);
    std::this_thread::sleep_for(100ms);
    broadcast->push({block(1, 100, false, 1), block(2, 100, true, 2), block(3, 100, false, 3)});
    std::this_thread::sleep_for(150ms);
    end.take();
    CHECK(end.got.size() == 103);
    CHECK(fan_out.clients().at(0).paused);
    fan_out.pause(id, false);
    REQUIRE(end.wait(103 + 203));
    CHECK(end.got[103] == 'p');
    // Nobody was too slow. What it has begins where it went on.
    for (int i = 0; i < 100 && fan_out.clients().at(0).until < base::from_seconds(3); ++i)
        std::this_thread::sleep_for(10ms);
    const net::FanOutClient seen = fan_out.clients().at(0);
    CHECK_FALSE(seen.paused);
    CHECK(seen.skips == 0);
    CHECK(seen.from == base::from_seconds(2));
    CHECK(seen.until == base::from_seconds(3));
    CHECK(end.numbers(100, 106) == std::vector<std::uint64_t>{2, 3});
    // A derived broadcast changes what it passes on.
    const auto doubled = fan_out.derive(broadcast, [](const Bytes& bytes) {
        ByteVector out(bytes.data(), bytes.data() + bytes.size());
        out.insert(out.end(), bytes.data(), bytes.data() + bytes.size());
        return Bytes(std::move(out));
    });
    End other;
    fan_out.add(doubled, other.theirs, "y", {});
    broadcast->push({block(4, 100, true, 4)});
    REQUIRE(other.wait(206));
    CHECK(other.numbers(100, 6) == std::vector<std::uint64_t>{4, 4});
}

TEST_CASE("networks let in whom they name", "[fan-out]") {
    const auto some = net::Networks::parse({"192.168.1.0/24", "10.0.0.7", "fd00::/8"});
    REQUIRE(some);
    CHECK(some->contain("192.168.1.200"));
    CHECK_FALSE(some->contain("192.168.2.1"));
    CHECK(some->contain("10.0.0.7"));
    CHECK_FALSE(some->contain("10.0.0.8"));
    CHECK(some->contain("fd12::1"));
    CHECK_FALSE(some->contain("2001:db8::1"));
    CHECK_FALSE(some->contain("nonsense"));
    CHECK(net::Networks::parse({"192.168.1.128/25"})->contain("192.168.1.129"));
    CHECK_FALSE(net::Networks::parse({"192.168.1.128/25"})->contain("192.168.1.127"));
    for (const char* bad : {"192.168.1", "192.168.1.0/33", "x", "10.0.0.0/", "fd00::/129"})
        CHECK_FALSE(net::Networks::parse({bad}));
}
