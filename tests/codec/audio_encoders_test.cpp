// Every audio encoder through the decoder of another library where there is one: each channel comes out in its place,
// at its time.
#include <catch2/catch.hpp>

#include <cmath>
#include <numbers>

#include "codec/audio_decoder.hpp"
#include "codec/audio_encoder.hpp"
#include "filter/remix.hpp"

using namespace wavecrest;
using namespace media::speaker;

namespace {

constexpr double kFrom = 0.5, kTo = 1.5, kLength = 2.0;  // s
constexpr Speakers kSevenOne = kFiveOne | kLeftBack | kRightBack;
constexpr Speakers kQuad = kStereo | kLeftSurround | kRightSurround;

// A tone of its own on each speaker, from 0.5 to 1.5 s; low enough for the low-frequency channel.
double tone_of(int channel) {
    return 60.0 + 20.0 * channel;
}

std::vector<AudioFrames> tones(Speakers speakers, int rate, Time start) {
    const int channels = media::speaker_count(speakers);
    const auto total = static_cast<std::int64_t>(kLength * rate);
    std::vector<AudioFrames> pieces;
    for (std::int64_t at = 0; at < total;) {
        // Of uneven lengths, as decoders give them.
        const std::int64_t count = std::min<std::int64_t>(total - at, 700 + at % 333);
        AudioFrames piece;
        piece.pts = start + base::from_ticks(at, rate);
        piece.sample_rate = rate;
        piece.channels = channels;
        piece.speakers = speakers;
        for (std::int64_t n = at; n < at + count; ++n) {
            const double t = static_cast<double>(n) / rate;
            for (int c = 0; c < channels; ++c)
                piece.samples.push_back(
                    t >= kFrom && t < kTo
                        ? static_cast<float>(0.25 * std::sin(2 * std::numbers::pi * tone_of(c) * (t - kFrom)))
                        : 0.0f);
        }
        pieces.push_back(std::move(piece));
        at += count;
    }
    return pieces;
}

// All that was decoded on one timeline from `start` on, by channel.
std::vector<std::vector<double>> on_timeline(const std::vector<AudioFrames>& pieces, int rate, Time start,
                                             int channels) {
    std::vector<std::vector<double>> out(static_cast<std::size_t>(channels),
                                         std::vector<double>(static_cast<std::size_t>(kLength * rate)));
    for (const AudioFrames& piece : pieces) {
        const std::int64_t at = base::to_ticks(piece.pts - start, rate);
        for (std::size_t n = 0; n < piece.frames(); ++n) {
            const std::int64_t place = at + static_cast<std::int64_t>(n);
            if (place < 0 || place >= static_cast<std::int64_t>(out[0].size())) continue;
            for (std::size_t c = 0; c < out.size(); ++c)
                out[c][static_cast<std::size_t>(place)] = piece.samples[n * out.size() + c];
        }
    }
    return out;
}

// The amplitude of a tone in an interval.
double amplitude(const std::vector<double>& samples, int rate, double hz, double from, double to) {
    double real = 0, imaginary = 0;
    const auto begin = static_cast<std::size_t>(from * rate), end = static_cast<std::size_t>(to * rate);
    for (std::size_t n = begin; n < end; ++n) {
        const double phase = 2 * std::numbers::pi * hz * static_cast<double>(n) / rate;
        real += samples[n] * std::cos(phase);
        imaginary += samples[n] * std::sin(phase);
    }
    return 2 * std::hypot(real, imaginary) / static_cast<double>(end - begin);
}

// By how much what was decoded lags behind the tone, in seconds, from its phase: up to half a period, of which the
// place where it begins leaves only one.
double lag_of(const std::vector<double>& samples, int rate, double hz) {
    double real = 0, imaginary = 0;
    for (auto n = static_cast<std::size_t>((kFrom + 0.1) * rate); n < static_cast<std::size_t>((kTo - 0.1) * rate);
         ++n) {
        const double phase = 2 * std::numbers::pi * hz * (static_cast<double>(n) / rate - kFrom);
        real += samples[n] * std::sin(phase);
        imaginary += samples[n] * std::cos(phase);
    }
    const double lag = -std::atan2(imaginary, real) / (2 * std::numbers::pi * hz);
    for (auto n = static_cast<std::size_t>((kFrom - 0.1) * rate); n < samples.size(); ++n) {
        // The first fifth of its amplitude is reached within an eighth of a period.
        if (std::abs(samples[n]) < 0.05) continue;
        const double begins = static_cast<double>(n) / rate - kFrom;
        return std::abs(begins - lag) < 0.3 / hz ? lag : begins;
    }
    return 1;
}

}  // namespace

TEST_CASE("each channel of each audio codec comes out in its place, at its time", "[encoders][audio]") {
    struct Case {
        Codec codec;
        Speakers speakers;
        int rate;
        int bit_depth;
        std::int64_t bps;
    };
    const Case cases[] = {
        {Codec::aac, kCentre, 48000, 16, 80'000},    {Codec::aac, kStereo, 44100, 16, 160'000},
        {Codec::aac, kFiveOne, 48000, 16, 384'000},  {Codec::ac3, kStereo, 48000, 16, 192'000},
        {Codec::ac3, kFiveOne, 48000, 16, 448'000},  {Codec::opus, kCentre, 48000, 16, 64'000},
        {Codec::opus, kStereo, 48000, 16, 128'000},  {Codec::opus, kQuad, 48000, 16, 192'000},
        {Codec::opus, kFiveOne, 48000, 16, 256'000}, {Codec::opus, kSevenOne, 48000, 16, 384'000},
        {Codec::mp3, kCentre, 32000, 16, 96'000},    {Codec::mp3, kStereo, 48000, 16, 192'000},
        {Codec::mp3, kStereo, 44100, 16, 128'000},   {Codec::flac, kStereo, 44100, 16, 0},
        {Codec::flac, kFiveOne, 48000, 24, 0},       {Codec::flac, kSevenOne, 96000, 24, 0},
        {Codec::flac, kQuad, 48000, 16, 0},          {Codec::lpcm, kStereo, 48000, 16, 0},
        {Codec::lpcm, kSevenOne, 48000, 24, 0},
    };
    for (const Case& one : cases) {
        INFO(media::short_name(one.codec) << " " << media::speaker_count(one.speakers) << " channels, " << one.rate);
        codec::AudioEncoderSettings settings;
        settings.codec = one.codec;
        settings.speakers = one.speakers;
        settings.sample_rate = one.rate;
        settings.bitrate_bps = one.bps;
        settings.bit_depth = one.bit_depth;
        CHECK(codec::nearest_layout(one.codec, one.speakers) == one.speakers);
        CHECK(codec::nearest_rate(one.codec, one.rate) == one.rate);
        auto encoder = codec::make_audio_encoder(settings);
        REQUIRE(encoder);
        const int channels = media::speaker_count(one.speakers);
        CHECK((*encoder)->track().channels == channels);
        const Time start = base::from_seconds(5);
        std::vector<Packet> packets;
        for (const AudioFrames& piece : tones(one.speakers, one.rate, start))
            REQUIRE((*encoder)->encode(piece, packets));
        REQUIRE((*encoder)->flush(packets));
        // Without a gap, from the first sample to the last.
        CHECK(packets.front().pts <= start);
        CHECK(base::to_seconds(packets.back().pts + packets.back().duration - start) >= kLength - 1e-9);
        for (std::size_t i = 1; i < packets.size(); ++i)
            REQUIRE(std::chrono::abs(packets[i].pts - packets[i - 1].pts - packets[i - 1].duration) <= Time{1});
        auto decoder = codec::make_audio_decoder((*encoder)->track());
        REQUIRE(decoder);
        std::vector<AudioFrames> decoded;
        for (const Packet& packet : packets) REQUIRE((*decoder)->decode(packet, decoded));
        REQUIRE_FALSE(decoded.empty());
        // (libfaad gives mono out twice.)
        if (channels == 1 && one.codec == Codec::aac) {
            for (AudioFrames& piece : decoded) filter::remix(piece, kCentre);
        }
        REQUIRE(decoded.back().channels == channels);
        if (channels > 2) CHECK(decoded.back().speakers == one.speakers);
        CHECK(decoded.back().sample_rate == one.rate);
        const auto heard = on_timeline(decoded, one.rate, start, channels);
        for (int c = 0; c < channels; ++c) {
            INFO("channel " << c);
            const auto& own = heard[static_cast<std::size_t>(c)];
            CHECK(amplitude(own, one.rate, tone_of(c), kFrom + 0.1, kTo - 0.1) == Approx(0.25).epsilon(0.1));
            for (int other = 0; other < channels; ++other) {
                if (other != c) CHECK(amplitude(own, one.rate, tone_of(other), kFrom, kTo) < 0.02);
            }
            CHECK(std::abs(lag_of(own, one.rate, tone_of(c))) < 0.0005);
        }
        if (one.bps > 0) {
            std::uint64_t bytes = 0;
            for (const Packet& packet : packets) bytes += packet.data.size();
            // What is silent or simple may take less.
            CHECK(static_cast<double>(bytes) * 8 / kLength < static_cast<double>(one.bps) * 1.15);
        }
        if (one.codec == Codec::flac || one.codec == Codec::lpcm) {
            // To the bit, as far as the bits go.
            const auto original = on_timeline(tones(one.speakers, one.rate, start), one.rate, start, channels);
            double worst = 0;
            for (std::size_t c = 0; c < heard.size(); ++c) {
                for (std::size_t n = 0; n < heard[c].size(); ++n)
                    worst = std::max(worst, std::abs(heard[c][n] - original[c][n]));
            }
            CHECK(worst <= (one.bit_depth == 24 ? 1.0 / 8388608 : 1.0 / 32768));
        }
    }
}

TEST_CASE("what an audio codec does not have is refused, and the nearest is known", "[encoders][audio]") {
    const auto refused = [](Codec codec, Speakers speakers, int rate, std::int64_t bps) {
        codec::AudioEncoderSettings settings;
        settings.codec = codec;
        settings.speakers = speakers;
        settings.sample_rate = rate;
        settings.bitrate_bps = bps;
        const auto made = codec::make_audio_encoder(settings);
        return !made && made.error().kind == ErrorKind::usage;
    };
    CHECK(refused(Codec::mp3, kFiveOne, 48000, 192'000));
    CHECK(refused(Codec::mp3, kStereo, 96000, 192'000));
    CHECK(refused(Codec::aac, kQuad, 48000, 192'000));
    CHECK(refused(Codec::ac3, kStereo, 44100, 192'000));
    CHECK(refused(Codec::opus, kStereo, 44100, 96'000));
    CHECK(refused(Codec::opus, kStereo | kCentreSurround, 48000, 96'000));
    CHECK(refused(Codec::dts, kStereo, 48000, 768'000));
    CHECK_FALSE(codec::can_encode_audio(Codec::dts));
    CHECK(codec::nearest_rate(Codec::opus, 44100) == 48000);
    CHECK(codec::nearest_rate(Codec::mp3, 22050) == 32000);
    CHECK(codec::nearest_rate(Codec::mp3, 96000) == 48000);
    CHECK(codec::nearest_rate(Codec::aac, 96000) == 48000);
    CHECK(codec::nearest_rate(Codec::aac, 44100) == 44100);
    CHECK(codec::nearest_rate(Codec::flac, 96000) == 96000);
    CHECK(codec::nearest_layout(Codec::ac3, kSevenOne) == kFiveOne);
    CHECK(codec::nearest_layout(Codec::aac, kSevenOne) == kFiveOne);
    CHECK(codec::nearest_layout(Codec::mp3, kSevenOne) == kStereo);
    CHECK(codec::nearest_layout(Codec::opus, kStereo | kCentre | kCentreSurround) == kQuad);
}

TEST_CASE("channels without a speaker of their own go to the nearest ones", "[filter][audio]") {
    const auto mix = [](Speakers from, Speakers to, std::vector<float> samples) {
        AudioFrames audio;
        audio.sample_rate = 48000;
        audio.channels = media::speaker_count(from);
        audio.speakers = from;
        audio.samples = std::move(samples);
        filter::remix(audio, to);
        CHECK(audio.channels == media::speaker_count(to));
        CHECK(audio.speakers == to);
        return audio.samples;
    };
    const float half = 0.70710678f;
    // 7.1 to 5.1: L R C LFE Ls Rs Lb Rb.
    CHECK(mix(kSevenOne, kFiveOne, {1, 2, 3, 4, 5, 6, 7, 8}) == std::vector<float>{1, 2, 3, 4, 12, 14});
    CHECK(mix(kStereo | kCentre | kCentreSurround, kFiveOne, {1, 2, 3, 4}) ==
          std::vector<float>{1, 2, 3, 0, 4 * half, 4 * half});
    CHECK(mix(kStereo | kCentre, kQuad, {1, 2, 3}) == std::vector<float>{1 + 3 * half, 2 + 3 * half, 0, 0});
    CHECK(mix(kStereo, kStereo, {1, 2}) == std::vector<float>{1, 2});
    CHECK(mix(kCentre, kStereo, {1}) == std::vector<float>{1, 1});
    CHECK(mix(kStereo, kCentre, {1, 2}) == std::vector<float>{1.5});
    const auto folded = mix(kFiveOne, kStereo, {0, 0, 1, 1, 0, 0});
    CHECK(folded[0] == Approx(half));
    CHECK(folded[1] == Approx(half));
}
