// RTP headers, sequence numbers and datagrams over real sockets.
#include "net/udp.hpp"

#include <catch2/catch.hpp>
#include <chrono>

#include "net/rtp.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace std::chrono_literals;

TEST_CASE("RTP headers by their bits", "[udp]") {
    ByteVector out(12);
    net::write_rtp(std::span(out).first<12>(), {33, true, 0xABCD, 0x01020304, 0xDEADBEEF});
    const ByteVector expected = {0x80, 0xA1, 0xAB, 0xCD, 1, 2, 3, 4, 0xDE, 0xAD, 0xBE, 0xEF};
    CHECK(out == expected);

    // Two contributing sources, an extension of one word, three bytes of padding (RFC 3550, 5.1 and 5.3.1).
    ByteVector full = {0xB2, 0x21, 0, 7, 0, 0, 0, 9, 0, 0, 0, 1, 1, 1, 1, 1, 2, 2, 2, 2, 0xBE, 0xDE, 0, 1, 9, 9, 9, 9};
    full.insert(full.end(), {'d', 'a', 't', 'a', 0, 0, 3});
    const auto packet = net::parse_rtp(full);
    REQUIRE(packet);
    CHECK(packet->header.payload_type == 33);
    CHECK_FALSE(packet->header.marker);
    CHECK(packet->header.sequence == 7);
    CHECK(std::string(packet->payload.begin(), packet->payload.end()) == "data");
    // Lengths that run over, another version, too short.
    for (std::size_t keep = 0; keep < 28; ++keep) CHECK_FALSE(net::parse_rtp(ByteSpan(full).first(keep)).has_value());
    full.back() = 200;
    CHECK_FALSE(net::parse_rtp(full).has_value());
    full[0] = 0x72;
    CHECK_FALSE(net::parse_rtp(full).has_value());
}

TEST_CASE("sequence numbers tell loss, doubles and disorder, over the wrap", "[udp]") {
    net::SequenceMeter meter;
    for (const int n : {65533, 65534, 65535, 0, 1}) CHECK(meter.push(static_cast<std::uint16_t>(n)));
    CHECK(meter.lost() == 0);
    meter.push(4);  // 2 and 3 are missing
    CHECK(meter.lost() == 2);
    CHECK(meter.push(2));  // late
    CHECK(meter.lost() == 1);
    CHECK(meter.reordered() == 1);
    CHECK_FALSE(meter.push(2));
    CHECK_FALSE(meter.push(4));
    CHECK(meter.doubled() == 2);
    CHECK(meter.received() == 7);
    // A sender that begins anew loses nothing more.
    CHECK(meter.push(30000));
    CHECK(meter.push(30001));
    CHECK(meter.lost() == 1);
    CHECK(meter.received() == 9);
}

TEST_CASE("addresses of datagrams", "[udp]") {
    const auto group = net::parse_udp_address("239.20.0.1:5004");
    REQUIRE(group);
    CHECK(group->multicast);
    CHECK(group->port == 5004);
    const auto six = net::parse_udp_address("[ff15::7]:6000");
    REQUIRE(six);
    CHECK(six->ipv6);
    CHECK(six->multicast);
    const auto one = net::parse_udp_address("192.168.1.20:1");
    REQUIRE(one);
    CHECK_FALSE(one->multicast);
    for (const char* text : {"", "239.20.0.1", "239.20.0.1:", "239.20.0.1:0", "239.20.0.1:70000", "lounge:5004",
                             ":5004", "1.2.3:4", "1.2.3.4:5x"}) {
        INFO(text);
        const auto refused = net::parse_udp_address(text);
        REQUIRE_FALSE(refused);
        CHECK(refused.error().kind == ErrorKind::usage);
    }
}

TEST_CASE("datagrams arrive as they were sent, with the kernel's times", "[udp]") {
    const auto address = net::parse_udp_address("127.0.0.1:" + std::to_string(test::free_port()));
    REQUIRE(address);
    auto receiver = net::UdpReceiver::open(*address);
    REQUIRE(receiver);
    // The port is taken now.
    const auto second = net::UdpReceiver::open(*address);
    REQUIRE_FALSE(second);
    CHECK(second.error().kind == ErrorKind::machine);
    auto sender = net::UdpSender::open({});
    REQUIRE(sender);
    std::vector<ByteVector> bytes;
    for (std::size_t i = 0; i < 150; ++i) bytes.emplace_back(100 + i, static_cast<std::uint8_t>(i));
    std::vector<net::UdpSender::Datagram> out;
    for (const ByteVector& one : bytes) out.push_back({&*address, one});
    CHECK((*sender)->send(out) == 0);
    std::size_t got = 0;
    std::chrono::nanoseconds last{};
    for (int tries = 0; tries < 20 && got < bytes.size(); ++tries) {
        const auto datagrams = (*receiver)->receive(500ms);
        REQUIRE(datagrams);
        for (const auto& datagram : *datagrams) {
            CHECK(ByteVector(datagram.bytes.begin(), datagram.bytes.end()) == bytes[got++]);
            CHECK(datagram.at >= last);
            last = datagram.at;
        }
    }
    CHECK(got == bytes.size());
    CHECK(std::chrono::abs(std::chrono::steady_clock::now().time_since_epoch() - last) < 10s);
    CHECK((*receiver)->receive(1ms)->empty());
    const auto nowhere = net::UdpSender::open({4, "no-such-interface"});
    REQUIRE_FALSE(nowhere);
    CHECK(nowhere.error().kind == ErrorKind::usage);
}

TEST_CASE("arrivals stand on a clock that nobody sets", "[udp]") {
    // 3 ms ago by the machine's clock, whatever that shows.
    CHECK(net::arrival_on_steady_clock(1'700'000'000s - 3ms, 1'700'000'000s, 500s) == 500s - 3ms);
    CHECK(net::arrival_on_steady_clock(997ms, 1s, 500s) == 500s - 3ms);
    // The clock was set forward, or back, between the datagram's coming and now.
    CHECK(net::arrival_on_steady_clock(1'000s, 4'600s, 500s) == 500s);
    CHECK(net::arrival_on_steady_clock(4'600s, 1'000s, 500s) == 500s);
}
