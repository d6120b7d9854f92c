// DTS core frames put together here bit by bit (ETSI TS 102 114, clause 5): one channel at a time has a tone in one of
// its subbands, and it must come out at that channel's place.
#include <catch2/catch.hpp>

#include <array>
#include <cmath>

#include "base/bits.hpp"
#include "bitstream/audio_frames.hpp"
#include "codec/audio_decoder.hpp"

using namespace wavecrest;
using namespace wavecrest::media::speaker;

namespace {

constexpr std::size_t kFrameBytes = 640;
constexpr int kSubband = 2;  // of 32: 1500 to 2250 Hz at 48 kHz

// A frame of 512 samples. `loud` is the primary channel with the tone, -1 the low-frequency one; `phase` counts the
// subband's samples.
ByteVector frame(int arrangement, int channels, bool low, int loud, int phase) {
    base::BitWriter w;
    w.bits(0x7FFE8001, 32);
    w.bits(1, 1);   // normal frame
    w.bits(31, 5);  // no samples missing
    w.bits(0, 1);   // no CRC
    w.bits(15, 7);  // 16 blocks of 32 samples
    w.bits(kFrameBytes - 1, 14);
    w.bits(static_cast<std::uint32_t>(arrangement), 6);
    w.bits(13, 4);  // 48 kHz
    w.bits(15, 5);  // 768 kbit/s
    w.bits(0, 5);   // no downmix, dynamic range, timestamp, auxiliary data, HDCD
    w.bits(0, 4);   // no extension
    w.bits(0, 1);   // synchronisation once a subframe
    w.bits(low ? 2 : 0, 2);
    w.bits(0, 1);  // no predictor history
    w.bits(0, 1);
    w.bits(7, 4);  // version
    w.bits(0, 2);
    w.bits(0, 3);  // from 16 bits
    w.bits(0, 2);  // no sums and differences
    w.bits(0, 4);
    // The primary audio coding header: two subframes of one sub-subframe.
    w.bits(1, 4);
    w.bits(static_cast<std::uint32_t>(channels - 1), 3);
    const auto each = [&](std::uint32_t value, int bits) {
        for (int c = 0; c < channels; ++c) w.bits(value, bits);
    };
    each(30, 5);  // 32 subbands
    each(31, 5);  // none vector-quantized
    each(0, 3);   // no joint intensity
    each(0, 2);
    each(6, 3);  // scale factors in 7 bits
    each(6, 3);  // allocation in 5 bits
    each(1, 1);  // no Huffman codes
    for (int n = 2; n <= 5; ++n) each(3, 2);
    for (int n = 6; n <= 10; ++n) each(7, 3);
    for (int subframe = 0; subframe < 2; ++subframe) {
        w.bits(0, 2);
        w.bits(0, 3);
        for (int c = 0; c < channels; ++c) w.bits(0, 32);  // no prediction
        for (int c = 0; c < channels; ++c) {
            for (int k = 0; k < 32; ++k) w.bits(c == loud && k == kSubband ? 11 : 0, 5);
        }
        if (loud >= 0) w.bits(80, 7);  // the scale factor of the one that audio tracks
        if (low) {
            for (int i = 0; i < 4; ++i) w.bits(loud < 0 ? 40 : 0, 8);
            w.bits(80, 8);
        }
        for (int c = 0; c < channels; ++c) {
            if (c != loud) continue;
            for (int i = 0; i < 8; ++i) {
                const double angle = 2 * 3.14159265 * 0.2 * (phase + subframe * 8 + i);
                w.bits(static_cast<std::uint32_t>(static_cast<int>(std::lround(100 * std::sin(angle)))) & 0xFF, 8);
            }
        }
        w.bits(0xFFFF, 16);
    }
    ByteVector bytes = w.release();
    REQUIRE(bytes.size() <= kFrameBytes);
    bytes.resize(kFrameBytes);
    return bytes;
}

// Energy of each interleaved channel over some frames.
std::vector<double> energies(int arrangement, int channels, bool low, int loud, Speakers& speakers) {
    Track track;
    track.kind = TrackKind::audio;
    track.codec = Codec::dts;
    const auto decoder = codec::make_audio_decoder(track);
    REQUIRE(decoder);
    std::vector<double> sum;
    for (int n = 0; n < 12; ++n) {
        Packet packet;
        packet.data = Bytes(frame(arrangement, channels, low, loud, 16 * n));
        std::vector<AudioFrames> audio_frames;
        REQUIRE((*decoder)->decode(packet, audio_frames));
        REQUIRE(audio_frames.size() == 1);
        REQUIRE(audio_frames[0].frames() == 512);
        speakers = audio_frames[0].speakers;
        sum.resize(static_cast<std::size_t>(audio_frames[0].channels));
        if (n < 4) continue;  // the filter banks settle
        for (std::size_t i = 0; i < audio_frames[0].samples.size(); ++i) {
            REQUIRE(std::isfinite(audio_frames[0].samples[i]));
            sum[i % sum.size()] += audio_frames[0].samples[i] * audio_frames[0].samples[i];
        }
    }
    return sum;
}

}  // namespace

TEST_CASE("DTS: each coded channel comes out at its place", "[dts]") {
    struct Case {
        int arrangement;
        std::vector<Speakers> coded;  // in the order of the stream (table 5-4)
        bool low;
    };
    const std::vector<Case> cases = {
        {9, {kCentre, kLeft, kRight, kLeftSurround, kRightSurround}, true},
        {9, {kCentre, kLeft, kRight, kLeftSurround, kRightSurround}, false},
        {2, {kLeft, kRight}, false},
        {8, {kLeft, kRight, kLeftSurround, kRightSurround}, false},
        {5, {kCentre, kLeft, kRight}, false},
        {0, {kCentre}, false},
    };
    for (const Case& c : cases) {
        for (int loud = c.low ? -1 : 0; loud < static_cast<int>(c.coded.size()); ++loud) {
            INFO("arrangement " << c.arrangement << ", channel " << loud);
            Speakers speakers = 0;
            const auto energy = energies(c.arrangement, static_cast<int>(c.coded.size()), c.low, loud, speakers);
            const Speakers expected = loud < 0 ? kLowFrequency : c.coded[static_cast<std::size_t>(loud)];
            REQUIRE((speakers & expected) != 0);
            const auto place = static_cast<std::size_t>(media::speaker_count(speakers & (expected - 1)));
            double rest = 0;
            for (std::size_t i = 0; i < energy.size(); ++i) rest += i == place ? 0 : energy[i];
            CHECK(energy[place] > 1e-6);
            CHECK(rest < energy[place] / 1000);
        }
    }
}

TEST_CASE("DTS: damaged frames are silence of their length", "[dts]") {
    Track track;
    track.kind = TrackKind::audio;
    track.codec = Codec::dts;
    const auto decoder = codec::make_audio_decoder(track);
    REQUIRE(decoder);
    ByteVector bytes = frame(9, 5, true, 1, 0);
    for (std::size_t i = 20; i < bytes.size(); ++i) bytes[i] = static_cast<std::uint8_t>(i * 37);
    Packet packet;
    packet.data = Bytes(bytes);
    std::vector<AudioFrames> audio_frames;
    REQUIRE((*decoder)->decode(packet, audio_frames));
    REQUIRE(audio_frames.size() == 1);
    CHECK(audio_frames[0].frames() == 512);
    CHECK(audio_frames[0].channels == 6);
}
