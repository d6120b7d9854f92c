// Closed captions from bytes built by the standards' tables.
#include "bitstream/captions.hpp"

#include <catch2/catch.hpp>
#include <chrono>

#include "bitstream/nal.hpp"

using namespace wavecrest;
using namespace bitstream;

namespace {

Time at(int ms) {
    return base::from_ticks(ms, 1000);
}
std::uint8_t odd(int value) {
    int ones = 0;
    for (int i = 0; i < 7; ++i) ones += value >> i & 1;
    return static_cast<std::uint8_t>(value | (ones % 2 == 0 ? 0x80 : 0));
}
// Every control code twice, as line 21 sends them.
void control(LineCaptions& captions, Time time, int first, int second) {
    for (int i = 0; i < 2; ++i) captions.push(time, odd(first), odd(second));
}
void text(LineCaptions& captions, Time time, std::string words) {
    if (words.size() % 2 != 0) words += '\0';
    for (std::size_t i = 0; i < words.size(); i += 2) captions.push(time, odd(words[i]), odd(words[i + 1]));
}

}  // namespace

TEST_CASE("pop-on captions appear and vanish as commanded", "[captions]") {
    LineCaptions captions;
    control(captions, at(0), 0x14, 0x20);   // resume caption loading
    control(captions, at(40), 0x14, 0x40);  // row 14
    text(captions, at(80), "GOOD EVENING");
    control(captions, at(200), 0x14, 0x60);  // row 15
    text(captions, at(240), "caf");
    captions.push(at(300), odd(0x5C), odd(0));  // é of the basic set
    control(captions, at(340), 0x11, 0x37);     // the note of the special set
    control(captions, at(1000), 0x14, 0x2F);    // shown
    control(captions, at(3000), 0x14, 0x2C);    // erased
    captions.finish(at(9000));
    REQUIRE(captions.cues().size() == 1);
    CHECK(captions.cues()[0].from == at(1000));
    CHECK(captions.cues()[0].to == at(3000));
    CHECK(captions.cues()[0].text == "GOOD EVENING\ncafé♪");
}

TEST_CASE("roll-up captions move up a row with each carriage return", "[captions]") {
    LineCaptions captions;
    control(captions, at(0), 0x14, 0x25);  // two rows
    control(captions, at(0), 0x14, 0x2D);
    control(captions, at(0), 0x14, 0x60);
    text(captions, at(100), "FIRST LINE");
    control(captions, at(2000), 0x14, 0x2D);
    text(captions, at(2100), "SECOND");
    control(captions, at(4000), 0x14, 0x2D);
    text(captions, at(4100), "THIRD");
    // What belongs to the second channel is not ours.
    control(captions, at(4200), 0x1C, 0x20);
    text(captions, at(4200), "ELSE");
    captions.finish(at(6000));
    REQUIRE(captions.cues().size() == 3);
    CHECK(captions.cues()[0].text == "FIRST LINE");
    CHECK(captions.cues()[1].text == "FIRST LINE\nSECOND");
    CHECK(captions.cues()[2].text == "SECOND\nTHIRD");
    CHECK(captions.cues()[2].to == at(6000));
}

TEST_CASE("the first service of digital captions is followed", "[captions]") {
    ServiceCaptions captions;
    const auto send = [&](Time time, std::vector<int> block) {
        // Packet header, service block header, commands; filled up to whole pairs (CEA-708, 5 and 6).
        ByteVector packet = {0, static_cast<std::uint8_t>(1 << 5 | block.size())};
        for (const int b : block) packet.push_back(static_cast<std::uint8_t>(b));
        if (packet.size() % 2 != 0) packet.push_back(0);
        packet[0] = static_cast<std::uint8_t>(packet.size() / 2);
        for (std::size_t i = 0; i < packet.size(); i += 2) captions.push(time, i == 0, packet[i], packet[i + 1]);
    };
    send(at(500), {0x98, 0x38, 0, 0, 0x01, 0x1F, 0, 'H', 'e', 'l', 'l', 'o', 0x0D, 'y', 'o', 'u', 0x03});
    send(at(2500), {0x8C, 0xFF});
    captions.finish(at(9000));
    REQUIRE(captions.cues().size() >= 1);
    CHECK(captions.cues().back().text == "Hello\nyou");
    CHECK(captions.cues().back().to == at(2500));
}

TEST_CASE("captions are found in MPEG-2 user data and in H.264 messages", "[captions]") {
    const ByteVector pairs = {'G', 'A', '9', '4', 3, 0x41, 0xFF, 0xFC, 0x94, 0x20, 0xFF};
    ByteVector mpeg2 = {0, 0, 1, 0, 0, 0x0F, 0xFF, 0xF8, 0, 0, 1, 0xB2};
    mpeg2.insert(mpeg2.end(), pairs.begin(), pairs.end());
    mpeg2.insert(mpeg2.end(), {0, 0, 1, 1, 0x43});
    auto found = caption_pairs(Codec::mpeg2, mpeg2);
    REQUIRE(found.size() == 1);
    CHECK(found[0].type == 0);
    CHECK(found[0].first == 0x94);
    ByteVector sei = {6, 4, static_cast<std::uint8_t>(pairs.size() + 3), 0xB5, 0, 0x31};
    sei.insert(sei.end(), pairs.begin(), pairs.end());
    sei.push_back(0x80);
    ByteVector h264;
    nal::append(h264, sei);
    found = caption_pairs(Codec::h264, h264);
    REQUIRE(found.size() == 1);
    CHECK(found[0].second == 0x20);
    CHECK(caption_pairs(Codec::h264, ByteVector{0, 0, 0, 3, 6, 4, 200}).empty());
}
