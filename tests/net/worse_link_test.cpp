// The imitated network: what it does to datagrams is decided by its seed; what it does to connections is its rate.
#include "net/worse_link.hpp"

#include <catch2/catch.hpp>
#include <chrono>
#include <set>
#include <thread>

#include "net/http_client.hpp"
#include "net/http_server.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
using namespace std::chrono_literals;
using net::LinkFaults;
using net::LinkSchedule;

TEST_CASE("loss, order and delay come as asked for, and the same again for the same seed", "[link]") {
    LinkFaults faults;
    faults.delay = 20ms;
    faults.jitter = 5ms;
    faults.loss = 0.05;
    faults.reorder = 0.02;
    faults.seed = 7;
    LinkSchedule one(faults), two(faults);
    int lost = 0, late = 0;
    Time last{};
    for (int i = 0; i < 20'000; ++i) {
        const Time now = base::from_ticks(i, 1000);
        const auto fate = one.datagram(now, 1316), same = two.datagram(now, 1316);
        CHECK(fate.lost == same.lost);
        CHECK(fate.at == same.at);
        if (fate.lost) {
            ++lost;
            continue;
        }
        CHECK(fate.at >= now + 20ms);
        CHECK(fate.at <= now + 35ms);
        late += fate.at > now + 25ms ? 1 : 0;
        last = fate.at;
    }
    CHECK(lost == Approx(1000).margin(150));
    CHECK(late == Approx(380).margin(100));
    faults.seed = 8;
    LinkSchedule other(faults);
    int different = 0;
    LinkSchedule again(LinkFaults{0, {}, 20ms, 5ms, 0.05, 0.02, {}, {}, 7});
    for (int i = 0; i < 1000; ++i)
        different +=
            other.datagram(base::from_ticks(i, 1000), 1).lost != again.datagram(base::from_ticks(i, 1000), 1).lost;
    CHECK(different > 20);
}

TEST_CASE("a rate is kept, what doesn't fit is lost, and outages come once in their time", "[link]") {
    LinkFaults faults;
    faults.rate_bps = 1'000'000;
    LinkSchedule link(faults);
    std::uint64_t passed = 0;
    for (int i = 0; i < 2000; ++i) {
        // Two megabits a second into one.
        const auto fate = link.datagram(base::from_seconds(i * 0.005), 1250);
        passed += fate.lost ? 0 : 1250;
    }
    CHECK(static_cast<double>(passed) * 8 / 10 == Approx(1'000'000).epsilon(0.03));
    LinkFaults broken;
    broken.outage = 500ms;
    broken.outage_every = 4s;
    const LinkSchedule outages(broken);
    double gone = 0;
    for (int i = 0; i < 40'000; ++i) {
        const Time now = base::from_ticks(i, 1000);
        const Time after = outages.after_outage(now);
        gone += after > now ? 0.001 : 0;
        CHECK(after - now <= 500ms);
    }
    CHECK(gone == Approx(5).margin(0.05));
}

TEST_CASE("a connection sees an outage until its sender tries again", "[link]") {
    // Measured between two namespaces with a router between them that dropped everything for so long (TCP Reno,
    // 8 Mbit/s, a queue of 100 ms): the outage, and the gap at the receiver, in seconds.
    const std::pair<double, double> seen[] = {{0.5, 1.10}, {1, 1.10}, {2, 2.39},  {3, 5.14},
                                              {5, 5.11},   {8, 9.98}, {12, 20.38}};
    for (const auto& [outage, gap] : seen) {
        CAPTURE(outage);
        CHECK(base::to_seconds(net::connection_gap(base::from_seconds(outage))) == Approx(gap).epsilon(0.1));
    }
    CHECK(net::connection_gap(Time{}) == Time{});
    CHECK(net::connection_gap(std::chrono::hours(1)) < std::chrono::minutes(65));
    const net::Outages outages{2s, 10s, 3, true};
    Time at{};
    for (int i = 0; i < 50; ++i) {
        const auto gap = outages.next(at);
        CHECK(gap.to - gap.from == net::connection_gap(2s));
        CHECK(gap.to > at);
        CHECK(outages.next(gap.from).from == gap.from);
        CHECK(gap.from / 10s == i);
        at = gap.to;
    }
}

TEST_CASE("connections over the link get its rate and its delay", "[link][waits]") {
    const TempDir dir;
    write_all(dir / "f", ByteVector(2'000'000, 1));
    net::HttpServerSettings settings;
    settings.address = "127.0.0.1";
    settings.port = 0;
    settings.answer = net::serve_files({{"/f", dir / "f", "video/mp4", "f"}});
    const auto server = net::HttpServer::start(std::move(settings));
    REQUIRE(server);
    LinkFaults faults;
    faults.rate_bps = 8'000'000;
    faults.delay = 60ms;
    const auto link = net::WorseLink::tcp("127.0.0.1", 0, "127.0.0.1", (*server)->port(), faults);
    REQUIRE(link);
    net::HttpClient client(local_url((*link)->port(), "/f"));
    const auto start = std::chrono::steady_clock::now();
    REQUIRE(client.get(0));
    CHECK(std::chrono::steady_clock::now() - start >= 120ms);
    ByteVector buffer(64 << 10);
    std::size_t all = 0;
    while (true) {
        const auto got = client.read(buffer);
        REQUIRE(got);
        if (*got == 0) break;
        all += *got;
    }
    CHECK(all == 2'000'000);
    // Sixteen megabits take two seconds, not less. (How much longer is this machine's business.)
    CHECK(std::chrono::steady_clock::now() - start >= 1950ms);
    const auto taken = net::WorseLink::tcp("127.0.0.1", (*link)->port(), "127.0.0.1", 1, faults);
    REQUIRE_FALSE(taken);
    CHECK(taken.error().kind == ErrorKind::machine);
}

TEST_CASE("datagrams over the link lose what the schedule says", "[link]") {
    const auto near = *net::parse_udp_address("127.0.0.1:" + std::to_string(free_port()));
    const auto far = *net::parse_udp_address("127.0.0.1:" + std::to_string(free_port()));
    auto receiver = net::UdpReceiver::open(far);
    REQUIRE(receiver);
    LinkFaults faults;
    faults.loss = 0.25;
    faults.delay = 5ms;
    const auto link = net::WorseLink::udp(near, far, faults);
    REQUIRE(link);
    const auto sender = net::UdpSender::open({});
    REQUIRE(sender);
    std::set<std::uint32_t> came;
    for (std::uint32_t i = 0; i < 400; ++i) {
        base::ByteWriter bytes;
        bytes.u32(i);
        const std::vector<net::UdpSender::Datagram> one = {{&near, bytes.bytes()}};
        CHECK((*sender)->send(one) == 0);
        const auto got = (*receiver)->receive(1ms);
        REQUIRE(got);
        for (const auto& datagram : *got) came.insert(base::ByteReader(datagram.bytes).u32());
    }
    for (int i = 0; i < 20; ++i) {
        const auto got = (*receiver)->receive(10ms);
        REQUIRE(got);
        for (const auto& datagram : *got) came.insert(base::ByteReader(datagram.bytes).u32());
    }
    const net::LinkFigures figures = (*link)->figures();
    CHECK(figures.passed + figures.lost == 400);
    CHECK(came.size() == figures.passed);
    CHECK(figures.lost == Approx(100).margin(40));
}

TEST_CASE("what connections lose is sent again: late, never missing, the same for the same seed", "[link]") {
    LinkFaults faults;
    faults.delay = 30ms;
    faults.jitter = 10ms;
    faults.loss = 0.02;
    faults.seed = 3;
    LinkSchedule one(faults), two(faults);
    int late = 0;
    for (int i = 0; i < 5000; ++i) {
        const Time now = base::from_ticks(i, 100);
        const Time at = one.stream(now, 1448);
        CHECK(at == two.stream(now, 1448));
        CHECK(at >= now + 30ms);
        // A round trip more, for each time that it was lost.
        late += at > now + 40ms ? 1 : 0;
    }
    CHECK(late == Approx(100).margin(35));
    CHECK(one.repeated() == static_cast<std::uint64_t>(late));
    CHECK(net::describe(faults) == "30 ms delay, 10 ms jitter, 2 % loss");
}
