// The AC-3 encoder against liba52, which did not write it.
#include <catch2/catch.hpp>
#include <cmath>

#include "bitstream/audio_frames.hpp"
#include "codec/ac3_encoder.hpp"
#include "codec/audio_decoder.hpp"

using namespace wavecrest;
using namespace wavecrest::media::speaker;

namespace {

// A different tone on each channel, and a soft noise that all share.
std::vector<float> test_audio(int channels, int frames) {
    std::vector<float> samples(static_cast<std::size_t>(channels * frames));
    std::uint32_t state = 7;
    for (int n = 0; n < frames; ++n) {
        state = state * 1664525u + 1013904223u;
        const float noise = (static_cast<float>(state >> 8) / 8388608.0f - 1.0f) * 0.002f;
        for (int c = 0; c < channels; ++c) {
            const double hz = 110.0 * (c + 1) * 1.37;
            samples[static_cast<std::size_t>(n * channels + c)] =
                0.4f * static_cast<float>(std::sin(2 * 3.14159265358979 * hz * n / 48000)) + noise;
        }
    }
    return samples;
}

struct Coded {
    std::vector<Packet> packets;
    std::vector<float> decoded;
    Track track;
};
Coded code(const codec::Ac3Settings& settings, const std::vector<float>& samples) {
    auto encoder = codec::make_ac3_encoder(settings);
    REQUIRE(encoder);
    Coded result;
    result.track = (*encoder)->track();
    AudioFrames audio;
    audio.sample_rate = 48000;
    audio.channels = result.track.channels;
    audio.samples = samples;
    REQUIRE((*encoder)->encode(audio, result.packets));
    REQUIRE((*encoder)->flush(result.packets));
    auto decoder = codec::make_audio_decoder(result.track);
    REQUIRE(decoder);
    std::vector<AudioFrames> audio_frames;
    for (const Packet& packet : result.packets) REQUIRE((*decoder)->decode(packet, audio_frames));
    for (const AudioFrames& s : audio_frames) {
        REQUIRE(s.channels == result.track.channels);
        result.decoded.insert(result.decoded.end(), s.samples.begin(), s.samples.end());
    }
    return result;
}

// Signal over error in dB of one channel, the decoded audio shifted back by the encoder's delay.
double quality(const std::vector<float>& in, const std::vector<float>& out, int channels, int channel) {
    double signal = 0, error = 0;
    const std::size_t frames = in.size() / static_cast<std::size_t>(channels);
    for (std::size_t n = 0; n < frames; ++n) {
        const auto c = static_cast<std::size_t>(channel), k = static_cast<std::size_t>(channels);
        const double a = in[n * k + c], b = out[(n + codec::kAc3Delay) * k + c];
        signal += a * a;
        error += (a - b) * (a - b);
    }
    return 10 * std::log10(signal / error);
}

}  // namespace

TEST_CASE("AC-3: what is decoded is what was coded, in time and on each channel", "[ac3]") {
    struct Case {
        Speakers speakers;
        std::int64_t rate;
        double least_db;
    };
    const auto c = GENERATE(Case{kStereo, 192'000, 28}, Case{kFiveOne, 448'000, 28}, Case{kCentre, 96'000, 28},
                            Case{kStereo | kCentre | kLeftSurround | kRightSurround, 384'000, 28});
    const int channels = media::speaker_count(c.speakers);
    const auto samples = test_audio(channels, 48000);
    const auto coded = code({c.speakers, c.rate, Purpose::main, 27}, samples);
    REQUIRE(coded.decoded.size() >= samples.size() + static_cast<std::size_t>(channels * codec::kAc3Delay));
    for (int channel = 0; channel < channels; ++channel) {
        const bool low = c.speakers == kFiveOne && channel == 3;
        if (low) continue;  // carries only the lowest frequencies: looked at below
        INFO("channel " << channel << " of " << channels);
        CHECK(quality(samples, coded.decoded, channels, channel) > c.least_db);
    }
}

TEST_CASE("AC-3: the low-frequency channel carries its band", "[ac3]") {
    std::vector<float> samples(6 * 24000);
    for (std::size_t n = 0; n < 24000; ++n)
        samples[n * 6 + 3] =
            0.5f * static_cast<float>(std::sin(2 * 3.14159265358979 * 60 * static_cast<double>(n) / 48000));
    const auto coded = code({kFiveOne, 448'000, Purpose::main, 27}, samples);
    CHECK(quality(samples, coded.decoded, 6, 3) > 30);
    double other = 0;
    for (std::size_t i = 0; i < coded.decoded.size(); ++i) {
        if (i % 6 != 3) other = std::max(other, std::abs(static_cast<double>(coded.decoded[i])));
    }
    CHECK(other < 0.001);
}

TEST_CASE("AC-3: frames are whole, say what they are, and their check sums hold", "[ac3]") {
    const auto coded = code({kFiveOne, 448'000, Purpose::commentary, 27}, test_audio(6, 10000));
    REQUIRE(coded.packets.size() == 7);
    CHECK(base::to_ticks(coded.packets[0].pts, 48000) == -256);
    for (const Packet& packet : coded.packets) {
        const auto header = bitstream::parse_audio_header(Codec::ac3, packet.data.view());
        REQUIRE(header);
        CHECK(header->bytes == 1792);
        CHECK(packet.data.size() == 1792);
        CHECK(header->channels == 6);
        CHECK(header->speakers == kFiveOne);
        CHECK(header->bitrate_bps == 448'000);
        CHECK(header->purpose == Purpose::commentary);
        // Both check sums (6.10.1): the first five eighths behind the sync word, and the rest, leave no remainder.
        const auto remainder = [](ByteSpan bytes) {
            std::uint32_t sum = 0;
            for (const std::uint8_t byte : bytes) {
                for (int i = 7; i >= 0; --i) {
                    const std::uint32_t bit = (sum >> 15 ^ (byte >> i & 1u)) & 1u;
                    sum = (sum << 1 & 0xFFFF) ^ (bit != 0 ? 0x8005u : 0u);
                }
            }
            return sum;
        };
        CHECK(remainder(packet.data.view().subspan(2, 1120 - 2)) == 0);
        CHECK(remainder(packet.data.view().subspan(1120)) == 0);
    }
}

TEST_CASE("AC-3: silence, a full-scale square and a single click don't break it", "[ac3]") {
    std::vector<float> samples(2 * 30000);
    SECTION("silence") {}
    SECTION("square") {
        for (std::size_t i = 0; i < samples.size(); ++i) samples[i] = i / 100 % 2 == 0 ? 1.0f : -1.0f;
    }
    SECTION("click") {
        samples[20000] = 1.0f;
    }
    const auto coded = code({kStereo, 192'000, Purpose::main, 27}, samples);
    double most = 0, error = 0;  // (a square has overtones without end: part of it is above what is coded)
    for (std::size_t i = 0; i < samples.size(); ++i) {
        const double d = coded.decoded[i + 2 * codec::kAc3Delay];
        most = std::max(most, std::abs(d));
        error += (d - samples[i]) * (d - samples[i]);
    }
    CHECK(most < 1.7);
    CHECK(std::sqrt(error / static_cast<double>(samples.size())) < 0.15);
}

TEST_CASE("AC-3: what the format has no place for is refused", "[ac3]") {
    CHECK_FALSE(codec::make_ac3_encoder({kLeft | kLeftBack, 192'000, Purpose::main, 27}));
    CHECK_FALSE(codec::make_ac3_encoder({kStereo, 100'000, Purpose::main, 27}));
    CHECK_FALSE(codec::make_ac3_encoder({kFiveOne, 96'000, Purpose::main, 27}));
}
