// Deep inspection against computed truths.
#include <catch2/catch.hpp>
#include <chrono>
#include <cmath>

#include "measure/deep.hpp"
#include "support/clips.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;

namespace {

class ListSource : public PacketSource {
  public:
    explicit ListSource(std::vector<TestTrack> test_tracks) {
        for (TestTrack& test_track : test_tracks) {
            tracks_.push_back(test_track.track);
            for (Packet& p : test_track.packets) packets_.push_back(std::move(p));
        }
    }
    const std::vector<Track>& tracks() const override { return tracks_; }
    const std::vector<Chapter>& chapters() const override { return chapters_; }
    Time duration() const override { return {}; }
    Result<std::optional<Packet>> read() override {
        if (next_ >= packets_.size()) return std::optional<Packet>{};
        return std::optional(packets_[next_++]);
    }
    Status seek(Time) override { return {}; }
    const std::vector<Problem>& problems() const override { return problems_; }

  private:
    std::vector<Track> tracks_;
    std::vector<Packet> packets_;
    std::vector<Chapter> chapters_;
    std::vector<Problem> problems_;
    std::size_t next_ = 0;
};

measure::DeepReport measured(std::vector<TestTrack> test_tracks, bool decode = true) {
    ListSource source(std::move(test_tracks));
    const base::Cancel cancel;
    auto report = measure::measure_deep(source, {}, {decode}, {}, cancel);
    REQUIRE(report);
    return std::move(*report);
}

bool says(const measure::DeepReport& report, const std::string& text) {
    for (const std::string& word : measure::in_words(report)) {
        if (word.find(text) != std::string::npos) return true;
    }
    return false;
}

// Pictures of given sizes, one each 40 ms.
TestTrack sized(const std::vector<std::size_t>& sizes) {
    TestTrack test_track;
    test_track.track.id = 1;
    test_track.track.kind = TrackKind::video;
    test_track.track.codec = Codec::vp9;
    for (std::size_t i = 0; i < sizes.size(); ++i) {
        Packet p;
        p.track = 1;
        p.pts = p.dts = base::from_ticks(static_cast<std::int64_t>(i) * 40, 1000);
        p.duration = base::from_ticks(40, 1000);
        p.key = i % 50 == 0;
        p.data = Bytes(ByteVector(sizes[i]));
        test_track.packets.push_back(std::move(p));
    }
    return test_track;
}

}  // namespace

TEST_CASE("rates are those of windows over the packets", "[deep]") {
    // Ten seconds at 1000 bytes a picture, but one second in the middle at 20 000.
    std::vector<std::size_t> sizes(250, 1000);
    for (std::size_t i = 125; i < 150; ++i) sizes[i] = 20'000;
    const auto report = measured({sized(sizes)});
    CHECK(report.rate.peak(10).bps == 25 * 20'000 * 8);
    CHECK(report.rate.peak(10).at == base::from_seconds(5));
    CHECK(report.rate.mean_bps(report.duration) == (225 * 1000 + 25 * 20'000) * 8 / 10);
    CHECK(report.rate.peak(100).bps == report.rate.mean_bps(report.duration));
    CHECK(report.rate.per_second()[0] == Approx(200'000));
    const auto& m = report.tracks[0];
    CHECK(m.keyframes.size() == 5);
    CHECK(m.longest_group == base::from_seconds(2));
    CHECK(says(report, "at most 2"));
}

TEST_CASE("what peaks above half a wire is said", "[deep]") {
    // 62 Mbit/s for a second.
    std::vector<std::size_t> sizes(100, 20'000);
    for (std::size_t i = 50; i < 75; ++i) sizes[i] = 310'000;
    CHECK(says(measured({sized(sizes)}), "only 1 viewer on 100 Mbit/s Ethernet"));
    for (std::size_t i = 50; i < 75; ++i) sizes[i] = 600'000;
    CHECK(says(measured({sized(sizes)}), "needs gigabit"));
}

TEST_CASE("H.265 is measured against the buffer of its level", "[deep]") {
    const TestTrack test_track = video_track(Codec::h265, 48);
    REQUIRE(test_track.track.level == "2");  // 320x180 at 24: table A.8
    const auto report = measured({test_track});
    REQUIRE(report.tracks[0].buffer);
    CHECK(report.tracks[0].buffer->size_bits == 1'650'000);
    CHECK(report.tracks[0].buffer->rate_bps == 1'650'000);
    CHECK_FALSE(report.tracks[0].buffer->claimed);
    CHECK(report.tracks[0].buffer->missed == 0);
    TestTrack fat = test_track;
    ByteVector big(fat.packets[20].data.view().begin(), fat.packets[20].data.view().end());
    big.resize(1'650'000 / 8 + 1000);
    fat.packets[20].data = Bytes(big);
    CHECK(measured({fat}).tracks[0].buffer->missed >= 1);
}

TEST_CASE("the decoder's buffer is emptied as the standard's model does", "[deep]") {
    // MPEG-2: 1.2 Mbit/s claimed with a buffer of 16 x 16384 bits; pictures of 48 000 bits a 1/25 s just fit.
    const TestTrack coded = video_track(Codec::mpeg2, 48);
    const auto report = measured({coded});
    REQUIRE(report.tracks[0].buffer);
    const auto& buffer = *report.tracks[0].buffer;
    CHECK(buffer.claimed);
    CHECK(buffer.missed == 0);
    CHECK(buffer.needed_bits <= buffer.size_bits);
    // The same by another way: levels from the sizes alone.
    double level = static_cast<double>(buffer.size_bits), lowest = level;
    for (std::size_t i = 0; i < coded.packets.size(); ++i) {
        if (i > 0)
            level = std::min(static_cast<double>(buffer.size_bits),
                             level + static_cast<double>(buffer.rate_bps) * 1001 / 24000);
        level -= static_cast<double>(coded.packets[i].data.size()) * 8;
        lowest = std::min(lowest, level);
    }
    CHECK(std::abs(static_cast<double>(buffer.lowest_bits) - lowest) < 16);
    // A picture larger than the buffer can't be there in time.
    TestTrack fat = coded;
    ByteVector big(fat.packets[20].data.view().begin(), fat.packets[20].data.view().end());
    big.resize(static_cast<std::size_t>(buffer.size_bits / 8 + 1000));
    fat.packets[20].data = Bytes(std::move(big));
    const auto worse = measured({fat});
    CHECK(worse.tracks[0].buffer->missed >= 1);
    CHECK(*worse.tracks[0].buffer->first_missed == fat.packets[20].pts);
    CHECK(says(worse, "too late for the decoder buffer"));
}

TEST_CASE("a header that claims too low a level is found out", "[deep]") {
    TestTrack picture = video_track(Codec::h264, 48);
    CHECK_FALSE(says(measured({picture}), "as declared level"));
    ByteVector config(picture.track.codec_config.view().begin(), picture.track.codec_config.view().end());
    // Level 1 allows 99 macroblocks; 320x180 has 240. In the record and in the parameter set itself.
    config[3] = 10;
    config[8 + 3] = 10;
    picture.track.codec_config = Bytes(config);
    picture.track.level = "1";
    CHECK(says(measured({picture}), "level 1 declared"));
}

TEST_CASE("loudness is that of EBU R 128", "[deep]") {
    // EBU Tech 3341, test 1: a stereo sine of 1 kHz at -23 dBFS reads -23 LUFS.
    const auto tone = [](double level_db, int seconds) {
        TestTrack test_track;
        test_track.track.id = 2;
        test_track.track.kind = TrackKind::audio;
        test_track.track.codec = Codec::lpcm;
        test_track.track.channels = 2;
        test_track.track.sample_rate = 48000;
        test_track.track.bit_depth = 24;
        const double amplitude = std::pow(10, level_db / 20);
        for (int s = 0; s < seconds * 10; ++s) {
            ByteVector data;
            for (int i = 0; i < 4800; ++i) {
                const auto v = static_cast<std::int32_t>(
                    std::lround(amplitude * 8388607 * std::sin(2 * M_PI * 1000 * (s * 4800 + i) / 48000.0)));
                for (int c = 0; c < 2; ++c) {
                    for (int shift = 16; shift >= 0; shift -= 8)
                        data.push_back(static_cast<std::uint8_t>(v >> shift & 0xFF));
                }
            }
            Packet p;
            p.track = 2;
            p.pts = p.dts = base::from_ticks(s * 4800, 48000);
            p.duration = base::from_ticks(4800, 48000);
            p.key = true;
            p.data = Bytes(std::move(data));
            test_track.packets.push_back(std::move(p));
        }
        return test_track;
    };
    const auto report = measured({tone(-23, 20)});
    REQUIRE(report.tracks[0].loudness);
    CHECK(report.tracks[0].loudness->integrated == Approx(-23.0).margin(0.1));
    CHECK(report.tracks[0].loudness->true_peak == Approx(-23.0).margin(0.2));
    CHECK(report.tracks[0].loudness->short_term.size() == 20);
    CHECK(report.tracks[0].loudness->short_term[10].second == Approx(-23.0).margin(0.1));
    CHECK(says(measured({tone(-36, 10)}), "has a low level (-36.0 LUFS)"));
    CHECK_FALSE(measured({tone(-23, 2)}, false).tracks[0].loudness);
}

TEST_CASE("gaps, overlaps and wide interleaving are found where they are", "[deep]") {
    TestTrack audio = audio_track(Codec::ac3, 6);
    for (std::size_t i = 100; i < audio.packets.size(); ++i) {
        audio.packets[i].pts += base::from_seconds(0.5);
        audio.packets[i].dts += base::from_seconds(0.5);
    }
    const TestTrack picture = video_track(Codec::h264, 120);
    const auto report = measured({picture, audio});  // one behind the other: as far apart as can be
    const auto& m = report.tracks[1];
    CHECK(m.gap_count == 1);
    CHECK(m.gaps[0].length == base::from_seconds(0.5));
    CHECK(m.gaps[0].at == audio.packets[99].pts + audio.packets[99].duration);
    CHECK(base::to_seconds(report.interleave) == Approx(119.0 * 1001 / 24000).margin(0.2));
    CHECK(says(report, "a remux fixes it"));
    CHECK(says(report, "gap"));
}

TEST_CASE("audio of every codec is decoded at its loudness", "[deep]") {
    const double reference = measured({audio_track(Codec::lpcm, 5)}).tracks[0].loudness->integrated;
    for (const Codec codec : {Codec::flac, Codec::opus, Codec::vorbis, Codec::aac, Codec::mp3, Codec::mp2}) {
        INFO(media::short_name(codec));
        const auto report = measured({audio_track(codec, 5)});
        REQUIRE(report.tracks[0].loudness);
        CHECK(report.tracks[0].loudness->integrated == Approx(reference).margin(0.5));
    }
}
