// MPEG audio, coded by a library that did not write the decoder.
#include <twolame.h>

#include <catch2/catch.hpp>
#include <cmath>

#include "bitstream/audio_frames.hpp"
#include "codec/audio_decoder.hpp"

using namespace wavecrest;

TEST_CASE("layer II audio is decoded frame by frame, each with its own time", "[mpegaudio]") {
    std::vector<float> samples(2 * 48000);
    for (std::size_t n = 0; n < 48000; ++n) {
        samples[2 * n] = 0.4f * static_cast<float>(std::sin(2 * 3.14159265 * 440 * static_cast<double>(n) / 48000));
        samples[2 * n + 1] =
            0.4f * static_cast<float>(std::sin(2 * 3.14159265 * 1000 * static_cast<double>(n) / 48000));
    }
    twolame_options* encoder = twolame_init();
    twolame_set_num_channels(encoder, 2);
    twolame_set_in_samplerate(encoder, 48000);
    twolame_set_out_samplerate(encoder, 48000);
    twolame_set_bitrate(encoder, 256);
    REQUIRE(twolame_init_params(encoder) == 0);
    ByteVector coded(200'000);
    int size = twolame_encode_buffer_float32_interleaved(encoder, samples.data(), 48000, coded.data(),
                                                         static_cast<int>(coded.size()));
    size += twolame_encode_flush(encoder, coded.data() + size, static_cast<int>(coded.size()) - size);
    twolame_close(&encoder);
    coded.resize(static_cast<std::size_t>(size));

    bitstream::AudioFrameSplitter splitter(Codec::mp2);
    std::vector<bitstream::AudioFrame> frames;
    splitter.push(coded, Time{}, frames);
    splitter.flush(frames);
    REQUIRE(frames.size() >= 41);
    CHECK(frames[0].header.codec == Codec::mp2);
    CHECK(frames[0].header.bitrate_bps == 256'000);

    Track track;
    track.kind = TrackKind::audio;
    track.codec = Codec::mp2;
    const auto decoder = codec::make_audio_decoder(track);
    REQUIRE(decoder);
    std::vector<AudioFrames> audio_frames;
    for (std::size_t i = 0; i < frames.size(); ++i) {
        Packet packet;
        packet.pts = base::from_ticks(static_cast<std::int64_t>(1152 * i), 48000);
        packet.data = Bytes(frames[i].data);
        REQUIRE((*decoder)->decode(packet, audio_frames));
    }
    REQUIRE(audio_frames.size() + 1 >= frames.size());
    std::vector<float> decoded;
    for (std::size_t i = 0; i < audio_frames.size(); ++i) {
        CHECK(audio_frames[i].pts == base::from_ticks(static_cast<std::int64_t>(1152 * i), 48000));
        CHECK(audio_frames[i].frames() == 1152);
        decoded.insert(decoded.end(), audio_frames[i].samples.begin(), audio_frames[i].samples.end());
    }
    // The filter banks delay by 481 samples; best fit around that.
    double best = 0;
    for (int delay = 400; delay < 1200; ++delay) {
        double signal = 0, error = 0;
        for (std::size_t n = 4000; n < 40000; n += 7) {
            for (std::size_t c = 0; c < 2; ++c) {
                const double a = samples[2 * n + c], b = decoded[2 * (n + static_cast<std::size_t>(delay)) + c];
                signal += a * a;
                error += (a - b) * (a - b);
            }
        }
        best = std::max(best, 10 * std::log10(signal / error));
    }
    CHECK(best > 40);
}
