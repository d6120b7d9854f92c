// Audio that carries an AC-3 core: TrueHD with the core beside it in the same PID, E-AC-3 with the core in front.
#include <catch2/catch.hpp>

#include <cmath>
#include <map>

#include "base/bits.hpp"
#include "codec/ac3_encoder.hpp"
#include "codec/audio_decoder.hpp"
#include "codec/mpeg2_encoder.hpp"
#include "disc/blu_ray_reader.hpp"
#include "disc/blu_ray_writer.hpp"
#include "sample/test_card.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;

namespace {

// An E-AC-3 frame of a dependent substream: what extends a core to more channels. Its content does not matter here.
ByteVector dependent_frame() {
    base::BitWriter w;
    w.bits(0x0B77, 16);
    w.bits(1, 2);
    w.bits(0, 3);
    w.bits(255, 11);
    w.bits(0, 2);
    w.bits(3, 2);
    w.bits(7, 3);
    w.bits(0, 1);
    w.bits(16, 5);
    ByteVector frame = w.release();
    frame.resize(512, 0x3C);
    return frame;
}

}  // namespace

TEST_CASE("TrueHD and E-AC-3 of a disc are heard by their AC-3 cores", "[blu-ray]") {
    const TempDir dir;
    auto writer = disc::BluRayWriter::create(dir / "bd");
    REQUIRE(writer);
    disc::BluRayClipSettings settings;
    settings.video = {0x1011, 0x02, 3, 4, ""};
    settings.audio = {{0x1100, 0x83, 6, 1, "eng"}, {0x1101, 0x84, 6, 1, "deu"}};
    REQUIRE(writer->begin_clip(settings));
    codec::Mpeg2Settings video;
    video.pictures = codec::Mpeg2Settings::Pictures::whole;
    video.group_length = 15;
    codec::Mpeg2Encoder pictures(video);
    sample::CardSettings look;
    look.frame_rate = {30000, 1001};
    const sample::TestCard card(look);
    auto encoder = codec::make_ac3_encoder({media::speaker::kStereo, 192'000, Purpose::main, 27});
    REQUIRE(encoder);
    constexpr int kPictures = 60;
    for (int n = 0; n < kPictures; n += 15) {
        disc::BluRayGroup group;
        for (int i = n; i < n + 15; ++i) {
            auto coded = pictures.encode(card.draw(i), i + 1 == kPictures);
            const Time at = base::frames_to_time(i, {30000, 1001});
            group.pictures.push_back({std::move(coded.data), at, at, coded.key});
        }
        AudioFrames audio;
        audio.sample_rate = 48000;
        audio.channels = 2;
        for (int k = n * 1602; k < (n + 15) * 1602; ++k) {
            const auto sample = 0.5f * static_cast<float>(std::sin(2 * 3.14159265358979 * 500 * k / 48000));
            audio.samples.push_back(sample);
            audio.samples.push_back(-sample);
        }
        std::vector<Packet> frames;
        REQUIRE((*encoder)->encode(audio, frames));
        for (const Packet& frame : frames) {
            const ByteVector core(frame.data.data(), frame.data.data() + frame.data.size());
            group.audio.push_back({0, frame.pts, core, 0x76});
            // The lossless part, which is not ours to read: it even looks like AC-3 now and then.
            ByteVector lossless(1500, 0x0B);
            for (std::size_t i = 1; i < lossless.size(); i += 2) lossless[i] = 0x77;
            group.audio.push_back({0, frame.pts, lossless, 0x72});
            ByteVector extended = core;
            const ByteVector extension = dependent_frame();
            extended.insert(extended.end(), extension.begin(), extension.end());
            group.audio.push_back({1, frame.pts, extended, 0});
        }
        REQUIRE(writer->add_group(group));
    }
    const auto times = writer->end_clip(base::frames_to_time(kPictures, {30000, 1001}));
    REQUIRE(times);
    disc::blu_ray::Playlist playlist;
    disc::blu_ray::Playlist::Item item;
    item.clips = {"00001"};
    item.in_time = times->in_time;
    item.out_time = times->out_time;
    item.video = {settings.video};
    item.audio = settings.audio;
    playlist.items = {item};
    REQUIRE(writer->add_playlist("00000", playlist));
    REQUIRE(writer->finish());

    const auto disc = disc::BluRayDisc::open(disc::folder_files(dir / "bd"));
    REQUIRE(disc);
    auto source = disc->open_title(1);
    REQUIRE(source);
    const auto& tracks = (*source)->tracks();
    REQUIRE(tracks.size() == 3);
    CHECK(tracks[1].codec == Codec::truehd);
    CHECK(tracks[2].codec == Codec::eac3);
    std::map<TrackId, std::vector<Packet>> packets;
    while (true) {
        auto packet = (*source)->read();
        REQUIRE(packet);
        if (!*packet) break;
        packets[(*packet)->track].push_back(std::move(**packet));
    }
    CHECK((*source)->problems().empty());
    CHECK(packets[0x1011].size() == kPictures);
    for (std::size_t t = 1; t <= 2; ++t) {
        INFO(media::short_name(tracks[t].codec));
        const auto& own = packets[tracks[t].id];
        REQUIRE(own.size() >= 60);
        CHECK(own[0].data.size() == (t == 1 ? 768u : 768u + 512u));
        auto decoder = codec::make_audio_decoder(tracks[t]);
        REQUIRE(decoder);
        std::vector<AudioFrames> audio_frames;
        for (const Packet& packet : own) REQUIRE((*decoder)->decode(packet, audio_frames));
        // The tone, in step with its time.
        double signal = 0, error = 0;
        for (std::size_t i = 2; i + 1 < audio_frames.size(); ++i) {
            const std::int64_t first = base::to_ticks(audio_frames[i].pts, 48000);
            for (std::size_t n = 0; n < audio_frames[i].frames(); ++n) {
                const double expected =
                    0.5 * std::sin(2 * 3.14159265358979 * 500 *
                                   static_cast<double>(first + static_cast<std::int64_t>(n)) / 48000);
                const double d = audio_frames[i].samples[2 * n] - expected;
                signal += expected * expected;
                error += d * d;
            }
        }
        CHECK(10 * std::log10(signal / error) > 30);
    }
}
