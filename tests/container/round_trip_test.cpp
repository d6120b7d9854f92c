// What one writer writes and its reader reads back: payload to the byte, times to the grid.
#include <catch2/catch.hpp>
#include <chrono>
#include <map>

#include "base/byte_source.hpp"
#include "support/clips.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;

namespace {

// Times equal after snapping to the frame or sample grid; none of the codecs here may be off by more.
void check_same(const std::vector<TestTrack>& written, const std::vector<TestTrack>& read, Time tolerance = Time{}) {
    REQUIRE(read.size() == written.size());
    for (std::size_t i = 0; i < written.size(); ++i) {
        const TestTrack& a = written[i];
        const TestTrack& b = read[i];
        INFO("track " << i << ", " << media::short_name(a.track.codec));
        CHECK(b.track.codec == a.track.codec);
        CHECK(b.track.language.substr(0, 2) == a.track.language.substr(0, 2));
        if (a.track.kind == TrackKind::video) {
            CHECK(b.track.width == a.track.width);
            CHECK(b.track.height == a.track.height);
            CHECK(b.track.frame_rate == a.track.frame_rate);
        } else if (a.track.kind == TrackKind::audio) {
            CHECK(b.track.channels == a.track.channels);
            CHECK(b.track.sample_rate == a.track.sample_rate);
        }
        REQUIRE(b.packets.size() == a.packets.size());
        CHECK(payload_of(b) == payload_of(a));
        std::size_t wrong = 0;
        for (std::size_t k = 0; k < a.packets.size(); ++k) {
            const Time off = std::chrono::abs(b.packets[k].pts - a.packets[k].pts);
            const Time longer = std::chrono::abs(b.packets[k].duration - a.packets[k].duration);
            const bool same = off <= tolerance && (a.track.kind == TrackKind::video || longer <= tolerance) &&
                              b.packets[k].key == a.packets[k].key && b.packets[k].dts <= b.packets[k].pts + Time(1);
            if (!same && ++wrong < 4) {
                CAPTURE(k, base::to_seconds(a.packets[k].pts), base::to_seconds(b.packets[k].pts),
                        base::to_seconds(a.packets[k].duration), base::to_seconds(b.packets[k].duration),
                        base::to_seconds(b.packets[k].dts), a.packets[k].key, b.packets[k].key);
                CHECK(same);
            }
        }
        CHECK(wrong == 0);
    }
}

void round_trip(std::string_view format, const std::vector<TestTrack>& test_tracks, Time tolerance = Time{},
                container::WriterSettings settings = {}) {
    const TempDir dir;
    const auto path = dir / ("a" + std::string(container::extension_of(format)));
    INFO(format);
    write_media(path, format, test_tracks, std::move(settings));
    check_same(test_tracks, read_media(path), tolerance);
}

}  // namespace

TEST_CASE("pictures with audio come back from every container that holds them", "[roundtrip]") {
    const TestTrack picture = video_track(Codec::h264, 100);
    const TestTrack aac = audio_track(Codec::aac, 4.2), ac3 = audio_track(Codec::ac3, 4.2, 3);
    round_trip("mp4", {picture, aac, ac3});
    round_trip("matroska", {picture, aac, ac3});
    round_trip("mpeg-ts", {picture, aac, ac3});
    TestTrack nameless = aac;
    nameless.track.language.clear();
    round_trip("flv", {picture, nameless}, base::from_ticks(1, 2000));  // a format of milliseconds
    container::WriterSettings fragmented;
    fragmented.fragments = std::chrono::seconds(1);
    round_trip("mp4", {picture, aac, ac3}, Time{}, fragmented);
}

TEST_CASE("every picture codec comes back", "[roundtrip]") {
    const TestTrack audio = audio_track(Codec::ac3, 2);
    for (const Codec codec : {Codec::h265, Codec::mpeg2, Codec::mpeg4}) {
        const TestTrack picture = video_track(codec, 48);
        for (const char* format : {"mp4", "matroska", "mpeg-ts"}) round_trip(format, {picture, audio});
    }
    // VC-1 is kept without being decoded.
    const TestTrack vc1 = vc1_track(48);
    CHECK(vc1.track.profile == "Advanced");
    CHECK(vc1.track.level == "2");
    CHECK(vc1.track.width == 320);
    CHECK(vc1.track.height == 180);
    CHECK(vc1.track.scan == Scan::progressive);
    CHECK(vc1.track.colour == ColourDescription{1, 1, 1, false});
    for (const char* format : {"matroska", "mpeg-ts"}) round_trip(format, {vc1, audio});
    const TestTrack vp9 = video_track(Codec::vp9, 48);
    const TestTrack opus = audio_track(Codec::opus, 2);
    round_trip("webm", {vp9, opus});
    round_trip("mp4", {vp9, opus});
    round_trip("webm", {video_track(Codec::vp8, 48), audio_track(Codec::vorbis, 2)});
}

TEST_CASE("every audio codec comes back, with its beginning and its end", "[roundtrip]") {
    for (const Codec codec : {Codec::opus, Codec::flac, Codec::mp3, Codec::mp2, Codec::lpcm, Codec::aac, Codec::ac3}) {
        const TestTrack audio = audio_track(codec, 3.3);
        round_trip("mp4", {audio});
        round_trip("matroska", {audio});
    }
    round_trip("matroska", {audio_track(Codec::vorbis, 3.3)});
    for (const Codec codec : {Codec::opus, Codec::vorbis, Codec::flac}) {
        TestTrack audio = audio_track(codec, 3.3);
        audio.track.language.clear();  // nothing in this format tells it
        round_trip("ogg", {audio});
    }
    for (const Codec codec : {Codec::mp3, Codec::mp2, Codec::aac, Codec::ac3}) {
        // A transport stream has no place for what is cut off at the end.
        TestTrack audio = audio_track(codec, 3.3);
        for (Packet& packet : audio.packets) packet.duration = audio.packets.front().duration;
        if (codec == Codec::aac || codec == Codec::ac3) {
            // Its time starts with its first packet when there is no picture.
            const Time first = audio.packets.front().pts;
            for (Packet& packet : audio.packets) {
                packet.pts -= first;
                packet.dts -= first;
            }
        }
        round_trip("mpeg-ts", {audio});
    }
}

TEST_CASE("files of one audio track come back", "[roundtrip]") {
    const auto without_language = [](TestTrack test_track) {
        test_track.track.language.clear();
        const Time first = test_track.packets.front().pts;
        for (Packet& packet : test_track.packets) {
            packet.pts -= first;  // these have no place for a delay
            packet.dts -= first;
            if (test_track.track.codec != Codec::lpcm && test_track.track.codec != Codec::flac)
                packet.duration = test_track.packets.front().duration;
        }
        return test_track;
    };
    round_trip("wav", {without_language(audio_track(Codec::lpcm, 3.3))});
    round_trip("flac", {without_language(audio_track(Codec::flac, 3.3))});
    round_trip("mp3", {without_language(audio_track(Codec::mp3, 3.3))});
    round_trip("adts", {without_language(audio_track(Codec::aac, 3.3))});
}

TEST_CASE("text, chapters, names and colours come back", "[roundtrip]") {
    TestTrack picture = video_track(Codec::h264, 72);
    picture.track.pixel_aspect = {32, 27};
    picture.track.rotation = 90;
    picture.track.mastering_display =
        media::MasteringDisplay{{34000, 13250, 7500}, {16000, 34500, 3000}, 15635, 16450, 10000000, 50};
    picture.track.content_light = media::ContentLight{1000, 400};
    TestTrack text =
        text_track({{{200, 900}, "Good evening"}, {{900, 1400}, "Two lines\nof text"}, {{2000, 2600}, "Zoë & <Tom>"}});
    text.track.forced = true;
    container::WriterSettings settings;
    settings.title = "Lake House";
    settings.chapters = {{Time{}, "One"}, {base::from_seconds(1.5), "Two"}};
    for (const std::string format : {"mp4", "matroska"}) {
        const TempDir dir;
        const auto path = dir / "a";
        INFO(format);
        write_media(path, format, {picture, text}, settings);
        auto file = base::FileSource::open(path);
        auto media = container::open_media(std::make_shared<base::FileSource>(std::move(*file)));
        REQUIRE(media);
        CHECK(media->title == "Lake House");
        const auto& chapters = media->source->chapters();
        REQUIRE(chapters.size() == 2);
        CHECK(chapters[1].name == "Two");
        CHECK(chapters[1].start == base::from_seconds(1.5));
        const auto test_tracks = read_all_packets(*media->source);
        REQUIRE(test_tracks.size() == 2);
        const Track& track = test_tracks[0].track;
        CHECK(track.pixel_aspect == Ratio{32, 27});
        CHECK(track.rotation == 90);
        CHECK(track.mastering_display == picture.track.mastering_display);
        CHECK(track.content_light == picture.track.content_light);
        CHECK(track.colour == picture.track.colour);
        CHECK(test_tracks[1].track.forced);
        REQUIRE(test_tracks[1].packets.size() == 3);
        for (std::size_t i = 0; i < 3; ++i) {
            CHECK(std::chrono::abs(test_tracks[1].packets[i].pts - text.packets[i].pts) <
                  std::chrono::microseconds(100));
            CHECK(std::chrono::abs(test_tracks[1].packets[i].duration - text.packets[i].duration) <
                  std::chrono::microseconds(100));
        }
        CHECK(payload_of(test_tracks[1]) == payload_of(text));
    }
}

TEST_CASE("skipping lands on the keyframe before", "[roundtrip]") {
    const TestTrack picture = video_track(Codec::h264, 240);
    const TestTrack audio = audio_track(Codec::aac, 10);
    container::WriterSettings fragmented;
    fragmented.fragments = std::chrono::seconds(1);
    for (const auto& [format, settings] : std::vector<std::pair<std::string, container::WriterSettings>>{
             {"mp4", {}}, {"mp4", fragmented}, {"matroska", {}}, {"mpeg-ts", {}}, {"flv", {}}}) {
        const TempDir dir;
        INFO(format << (settings.fragments.count() > 0 ? " fragmented" : ""));
        write_media(dir / "a", format, {picture, audio}, settings);
        auto file = base::FileSource::open(dir / "a");
        auto media = container::open_media(std::make_shared<base::FileSource>(std::move(*file)));
        REQUIRE(media);
        CHECK(std::chrono::abs(media->source->duration() - base::frames_to_time(240, {24000, 1001})) <
              std::chrono::milliseconds(60));
        for (const double target : {7.3, 0.0, 4.1, 9.9}) {
            const Time time = base::from_seconds(target);
            REQUIRE(media->source->seek(time));
            Time expected{};
            for (const Packet& p : picture.packets) {
                if (p.key && p.pts <= time) expected = std::max(expected, p.pts);
            }
            bool picture_seen = false, audio_seen = false;
            INFO("to " << target);
            while (!picture_seen || !audio_seen) {
                auto packet = media->source->read();
                REQUIRE(packet);
                REQUIRE(*packet);
                bool& seen = (*packet)->track == media->source->tracks()[0].id ? picture_seen : audio_seen;
                if (seen) continue;
                seen = true;
                CAPTURE(base::to_seconds((*packet)->pts), base::to_seconds(expected));
                if (&seen == &picture_seen) {
                    CHECK((*packet)->key);
                    CHECK(std::chrono::abs((*packet)->pts - expected) < std::chrono::milliseconds(1));
                } else {
                    CHECK((*packet)->pts <= expected);
                    CHECK((*packet)->pts + std::chrono::milliseconds(60) > expected);
                }
            }
        }
    }
}

TEST_CASE("behind a skip pictures have the decoding times of reading through", "[roundtrip]") {
    const TestTrack closed = video_track(Codec::h264, 240), open = open_gop_track(240);
    for (const TestTrack* test_track : {&closed, &open}) {
        for (const char* format : {"mp4", "matroska", "mpeg-ts"}) {
            INFO(format << (test_track == &open ? ", open groups" : ""));
            const TempDir dir;
            write_media(dir / "a", format, {*test_track});
            const auto opened = [&] {
                auto media = container::open_media(
                    std::make_shared<base::FileSource>(std::move(*base::FileSource::open(dir / "a"))));
                REQUIRE(media);
                return std::move(media->source);
            };
            std::map<Time, Time> decoded;
            const auto all = read_all_packets(*opened());
            for (const Packet& packet : all.at(0).packets) decoded[packet.pts] = packet.dts;
            REQUIRE(decoded.size() == 240);
            const auto source = opened();
            for (const double target : {7.3, 2.0, 4.1}) {
                INFO("to " << target);
                REQUIRE(source->seek(base::from_seconds(target)));
                for (int i = 0; i < 60; ++i) {
                    const auto packet = source->read();
                    REQUIRE(packet);
                    REQUIRE(*packet);
                    INFO("picture " << i << " at " << base::to_seconds((*packet)->pts));
                    REQUIRE(decoded.count((*packet)->pts) == 1);
                    CHECK(base::to_seconds((*packet)->dts) ==
                          Approx(base::to_seconds(decoded[(*packet)->pts])).margin(0.0011));
                }
            }
        }
    }
}

TEST_CASE("skipping in audio lands on the packet that holds the time", "[roundtrip]") {
    struct Way {
        std::string format;
        Codec codec;
        int most_early_ms;  // audio before it that a decoder may need
    };
    for (const Way& way : {Way{"wav", Codec::lpcm, 0},
                           {"flac", Codec::flac, 0},
                           {"mp3", Codec::mp3, 0},
                           {"adts", Codec::aac, 0},
                           {"ogg", Codec::opus, 0},
                           {"ogg", Codec::vorbis, 0},
                           {"mp4", Codec::flac, 0},
                           {"matroska", Codec::opus, 0}}) {
        INFO(way.format << " " << media::short_name(way.codec));
        const TempDir dir;
        // Long enough that places are looked for by halving the file.
        write_media(dir / "a", way.format, {audio_track(way.codec, 24)});
        auto file = base::FileSource::open(dir / "a");
        auto media = container::open_media(std::make_shared<base::FileSource>(std::move(*file)));
        REQUIRE(media);
        CHECK(std::abs(base::to_seconds(media->source->duration()) - 24) < 0.15);
        for (const double target : {17.21, 3.0, 23.5, 0.0, 8.5}) {
            INFO("to " << target);
            REQUIRE(media->source->seek(base::from_seconds(target)));
            const auto packet = media->source->read();
            REQUIRE(packet);
            REQUIRE(*packet);
            CAPTURE(base::to_seconds((*packet)->pts));
            CHECK((*packet)->pts <= base::from_seconds(target + 0.001));
            CHECK((*packet)->pts + (*packet)->duration + base::from_seconds(0.001) >= base::from_seconds(target));
        }
    }
}
