// What one publisher after the other sends, read as a file that is being written.
#include <catch2/catch.hpp>
#include <thread>

#include "base/byte_source.hpp"
#include "net/rtmp_server.hpp"
#include "stream/rtmp_ingest.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
using namespace std::chrono_literals;

namespace {

net::rtmp::Message message(std::uint8_t type, std::uint32_t time, ByteVector body) {
    return {type, time, 1, std::move(body)};
}
ByteVector all_of(base::ByteSource& source) {
    ByteVector all(1 << 20);
    std::size_t size = 0;
    while (true) {
        const auto got = source.read_at(size, std::span(all).subspan(size, 4096));
        if (!got || *got == 0) break;
        size += *got;
    }
    all.resize(size);
    return all;
}

}  // namespace

TEST_CASE("a published stream is read as FLV, from its configuration on, and ends with its publisher", "[ingest]") {
    net::FanOut fan_out;
    stream::RtmpIngest ingest("Lake camera", fan_out.open("Lake camera"));
    const auto early = ingest.open();
    REQUIRE_FALSE(early);
    CHECK(early.error().what.find("nobody is publishing") != std::string::npos);
    REQUIRE(ingest.begin("192.0.2.7"));
    CHECK_FALSE(ingest.begin("192.0.2.8"));
    CHECK(ingest.published_by() == "192.0.2.7");
    ingest.take(message(net::rtmp::kVideo, 5, {0x17, 0, 0, 0, 0, 1, 2, 3}));  // configuration of H.264
    ingest.take(message(net::rtmp::kVideo, 40, {0x27, 1, 0, 0, 0, 9}));       // nobody reads it
    const auto opened = ingest.open();
    REQUIRE(opened);
    ingest.take(message(net::rtmp::kVideo, 0x01000050, {0x17, 1, 0, 0, 0, 7, 7}));
    CHECK(ingest.bytes() == 21);
    ingest.end();
    CHECK(ingest.published_by().empty());
    // By E.2 to E.4.1: the header, a tag size of 0; the configuration at time 0; the keyframe, whose time has its
    // highest byte behind the others.
    const ByteVector expected = {'F', 'L', 'V', 1,  5, 0, 0,    0, 9, 0, 0, 0,    0,                    //
                                 9,   0,   0,   8,  0, 0, 0,    0, 0, 0, 0, 0x17, 0, 0, 0, 0, 1, 2, 3,  //
                                 0,   0,   0,   19,                                                     //
                                 9,   0,   0,   7,  0, 0, 0x50, 1, 0, 0, 0, 0x17, 1, 0, 0, 0, 7, 7,     //
                                 0,   0,   0,   18};
    CHECK(all_of(**opened) == expected);
    // The next publisher's configuration is its own.
    REQUIRE(ingest.begin("192.0.2.8"));
    const auto next = ingest.open();
    REQUIRE(next);
    ingest.close();
    CHECK(all_of(**next).size() == 13);
    CHECK_FALSE(ingest.begin("192.0.2.9"));
}

TEST_CASE("who reads a published stream too slowly is cut off, and others are not", "[ingest]") {
    net::FanOut fan_out;
    stream::RtmpIngest ingest("Lake camera", fan_out.open("Lake camera"));
    REQUIRE(ingest.begin("192.0.2.7"));
    const auto slow = ingest.open();
    REQUIRE(slow);
    const ByteVector frame(1 << 20, 0x27);
    for (std::uint32_t i = 0; i < 24; ++i) ingest.take(message(net::rtmp::kVideo, i * 40, frame));
    const auto other = ingest.open();
    REQUIRE(other);
    ingest.take(message(net::rtmp::kVideo, 1000, {0x17, 1, 0, 0, 0, 7}));
    ingest.end();
    CHECK(all_of(**other).size() == 13 + 11 + 6 + 4);
    std::uint64_t read = 0;
    ByteVector piece(1 << 20);
    while (true) {
        const auto got = (*slow)->read_at(read, piece);
        if (!got || *got == 0) break;
        read += *got;
    }
    CHECK(read > 8 << 20);
    // (And what the kernel holds for both ends, which it sizes by itself.)
    CHECK(read < stream::RtmpIngest::kMostWaiting + (4 << 20));
}
