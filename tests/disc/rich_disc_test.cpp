// Discs with everything on them, DVD and Blu-ray alike: what was put in comes out, in time.
#include <catch2/catch.hpp>

#include <cmath>
#include <map>

#include "codec/audio_decoder.hpp"
#include "codec/mpeg2_decoder.hpp"
#include "codec/subtitle_decoder.hpp"
#include "media/language.hpp"
#include "source/input.hpp"
#include "standin/material.hpp"
#include "support/discs.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
using standin::DiscDescription;

namespace {

std::unique_ptr<source::Input> open(const base::Path& path) {
    auto input = source::open_input(path);
    if (!input) FAIL(input.error().what << ": " << input.error().where);
    return std::move(*input);
}

struct Contents {
    std::vector<Track> tracks;
    std::map<TrackId, std::vector<Packet>> packets;
    std::vector<Problem> problems;
    Time duration{};
};
Contents read(const source::Input& input, int title, int angle = 1) {
    auto source = input.open(title, angle);
    if (!source) FAIL(source.error().what);
    Contents contents;
    contents.tracks = (*source)->tracks();
    contents.duration = (*source)->duration();
    while (true) {
        auto packet = (*source)->read();
        if (!packet) FAIL(packet.error().what);
        if (!*packet) break;
        contents.packets[(*packet)->track].push_back(std::move(**packet));
    }
    contents.problems = (*source)->problems();
    return contents;
}

std::vector<Picture> pictures_of(const Contents& contents) {
    const auto decoder = codec::make_mpeg2_decoder(contents.tracks.front());
    std::vector<Picture> pictures;
    for (const Packet& packet : contents.packets.at(contents.tracks.front().id))
        REQUIRE(decoder->decode(packet, pictures));
    REQUIRE(decoder->flush(pictures));
    return pictures;
}

// When beeps begin: 1 kHz at full strength after quiet.
std::vector<double> beeps(const Contents& contents, const Track& track) {
    auto decoder = codec::make_audio_decoder(track);
    REQUIRE(decoder);
    std::vector<AudioFrames> audio_frames;
    for (const Packet& packet : contents.packets.at(track.id)) REQUIRE((*decoder)->decode(packet, audio_frames));
    std::vector<double> starts;
    double last_loud = -1;
    for (const AudioFrames& audio : audio_frames) {
        for (std::size_t n = 0; n < audio.frames(); ++n) {
            const double at = base::to_seconds(audio.pts) + static_cast<double>(n) / audio.sample_rate;
            if (std::abs(audio.samples[n * static_cast<std::size_t>(audio.channels)]) < 0.3) continue;
            if (at - last_loud > 0.3) starts.push_back(at);
            last_loud = at;
        }
    }
    return starts;
}

}  // namespace

TEST_CASE("a disc's titles are told apart and its tracks named", "[rich]") {
    const bool dvd = GENERATE(true, false);
    const auto input = open(dvd ? rich_dvd() : rich_blu_ray());
    CHECK(input->container() == (dvd ? "dvd-video" : "blu-ray"));
    CHECK(input->notes().empty());
    REQUIRE(input->titles().size() == 6);
    const auto role = [&](std::size_t i) { return input->titles()[i].role; };
    CHECK(role(0) == disc::Role::episode);
    CHECK(role(1) == disc::Role::episode);
    CHECK(role(2) == disc::Role::episode);
    CHECK(role(3) == disc::Role::all);
    CHECK(role(5) == disc::Role::duplicate);
    CHECK(input->episodes().size() == 3);
    CHECK(input->titles()[4].angles == 2);
    CHECK(input->titles()[0].chapters.size() == 2);
    CHECK(input->titles()[3].chapters.size() == 6);
    for (const source::Title& title : input->titles()) {
        INFO("title " << title.number);
        CHECK(title.problems.empty());
        CHECK(title.differences.empty());
    }
    const auto& tracks = input->titles()[0].tracks;
    REQUIRE(tracks.size() == 8);
    CHECK(tracks[0].codec == Codec::mpeg2);
    CHECK(tracks[0].width == (dvd ? 720 : 1920));
    CHECK(tracks[0].height == (dvd ? 480 : 1080));
    CHECK(tracks[0].scan == (dvd ? Scan::pulldown : Scan::progressive));
    CHECK(tracks[0].frame_rate == Ratio{24000, 1001});
    CHECK(tracks[0].display_aspect() == Ratio{16, 9});
    CHECK(tracks[0].closed_captions);
    CHECK(tracks[1].codec == Codec::ac3);
    CHECK(media::channel_layout(tracks[1]) == "5.1");
    CHECK(media::language_639_2(tracks[1].language) == "eng");
    CHECK(tracks[3].codec == Codec::lpcm);
    CHECK(tracks[3].bit_depth == 24);
    CHECK(tracks[4].purpose == Purpose::commentary);
    CHECK(tracks[5].kind == TrackKind::subtitle);
    if (dvd) CHECK(tracks[6].forced);
    CHECK(input->titles()[1].tracks[0].scan == Scan::interlaced);
}

TEST_CASE("every picture comes once, at its time, all audio tracks beep with the flashes", "[rich]") {
    const bool dvd = GENERATE(true, false);
    const auto kind = dvd ? DiscDescription::Kind::dvd : DiscDescription::Kind::blu_ray;
    const auto description = rich_description(kind);
    const auto input = open(dvd ? rich_dvd() : rich_blu_ray());
    // Title 1: film with two chapters in one VOB or clip.
    const Contents one = read(*input, 1);
    CHECK(one.problems.empty());
    const auto pictures = pictures_of(one);
    REQUIRE(static_cast<std::int64_t>(pictures.size()) ==
            standin::Material::picture_count(description, description.parts[0]));
    for (std::size_t i = 0; i < pictures.size(); ++i) {
        const auto code = sample::read_card_code(pictures[i]);
        REQUIRE(code);
        CHECK(code->frame == static_cast<std::int64_t>(i));
        CHECK(code->title_number == 1);
        const double exact = static_cast<double>(i) * 1001 / 24000;
        CHECK(std::abs(base::to_seconds(pictures[i].pts) - exact) < 0.011);
    }
    for (std::size_t t = 1; t <= 4; ++t) {
        INFO("track " << t);
        const auto starts = beeps(one, one.tracks[t]);
        REQUIRE(starts.size() >= 3);
        for (std::size_t i = 0; i < starts.size(); ++i)
            CHECK(std::abs(starts[i] - static_cast<double>(i) * 1.001) < (t == 3 ? 0.0001 : 0.003));
    }
}

TEST_CASE("clocks that break are joined into one timeline, exact to the sample", "[rich]") {
    const bool dvd = GENERATE(true, false);
    const auto input = open(dvd ? rich_dvd() : rich_blu_ray());
    // Title 3 has three clocks; title 4 plays all parts: five.
    for (const int title : {3, 4}) {
        INFO("title " << title);
        const Contents contents = read(*input, title);
        CHECK(contents.problems.empty());
        const auto& video = contents.packets.at(contents.tracks.front().id);
        Time expected = video.front().pts;
        CHECK(expected == Time{});
        for (const Packet& packet : video) {
            CHECK(packet.pts == expected);
            expected = packet.pts + packet.duration;
        }
        CHECK(expected == contents.duration);
        // Lossless audio goes on across the joins without a gap or overlap of a sample.
        const auto& audio = contents.packets.at(contents.tracks[3].id);
        for (std::size_t i = 1; i < audio.size(); ++i) {
            const double off = base::to_seconds(audio[i].pts - audio[i - 1].pts - audio[i - 1].duration) * 48000;
            CHECK(std::abs(off) < (dvd ? 81 : 1.01));  // DVD audio is filled up to frames of 80 samples
        }
    }
    const Contents three = read(*input, 3);
    const auto starts = beeps(three, three.tracks[3]);
    for (std::size_t i = 0; i < starts.size(); ++i)
        CHECK(std::abs(starts[i] - static_cast<double>(i) * 1.001) * 48000 < 2.5);
}

TEST_CASE("angles: each is seen by itself, whole", "[rich]") {
    const bool dvd = GENERATE(true, false);
    const auto input = open(dvd ? rich_dvd() : rich_blu_ray());
    const auto description = rich_description(dvd ? DiscDescription::Kind::dvd : DiscDescription::Kind::blu_ray);
    const auto in_angle = standin::Material::picture_count(description, description.parts[3]);
    for (const int angle : {1, 2}) {
        INFO("angle " << angle);
        const Contents contents = read(*input, 5, angle);
        CHECK(contents.problems.empty());
        const auto pictures = pictures_of(contents);
        REQUIRE(static_cast<std::int64_t>(pictures.size()) > in_angle);
        for (std::int64_t i = 0; i < in_angle; ++i) {
            const auto code = sample::read_card_code(pictures[static_cast<std::size_t>(i)]);
            REQUIRE(code);
            CHECK(code->frame == i);
            CHECK(code->title_number == (angle == 1 ? 4 : 9));
        }
        CHECK(sample::read_card_code(pictures[static_cast<std::size_t>(in_angle)])->title_number == 1);
    }
    CHECK_FALSE(input->open(5, 3));
    CHECK_FALSE(input->open(1, 2));
}

TEST_CASE("subtitles come at their times, forced ones marked", "[rich]") {
    const bool dvd = GENERATE(true, false);
    const auto description = rich_description(dvd ? DiscDescription::Kind::dvd : DiscDescription::Kind::blu_ray);
    const auto input = open(dvd ? rich_dvd() : rich_blu_ray());
    const Contents contents = read(*input, 1);
    const Time length = description.parts[0].length;
    const auto cues = standin::subtitles_between(description, dvd ? 720 : 1920, dvd ? 480 : 1080, {}, length);
    for (int track = 0; track < 3; ++track) {
        const Track& from = contents.tracks[static_cast<std::size_t>(5 + track)];
        auto made = codec::make_subtitle_decoder(from, contents.tracks.front());
        REQUIRE(made);
        const auto decoder = std::move(*made);
        std::vector<Overlay> shown;
        for (const Packet& packet : contents.packets.at(from.id)) decoder->decode(packet, shown);
        std::vector<Overlay> images;
        for (const Overlay& overlay : shown) {
            if (!overlay.regions.empty()) images.push_back(overlay);
        }
        std::vector<const standin::SubtitleCue*> expected;
        for (const auto& cue : cues) {
            if (cue.track == track) expected.push_back(&cue);
        }
        REQUIRE(images.size() == expected.size());
        for (std::size_t i = 0; i < images.size(); ++i) {
            CHECK(std::abs(base::to_seconds(images[i].pts - expected[i]->from)) < 0.0001);
            CHECK(images[i].forced == expected[i]->forced);
            const Overlay::Region& region = images[i].regions.front();
            CHECK(region.x == expected[i]->x);
            CHECK(region.y == expected[i]->y);
            CHECK((region.pixels == expected[i]->pixels));
            CHECK(region.colours[1].y == 235);
            CHECK(region.colours[1].opacity == 255);
        }
    }
}

TEST_CASE("a skip lands on a picture that can be decoded, at or before the time, in any part", "[rich]") {
    const bool dvd = GENERATE(true, false);
    const auto input = open(dvd ? rich_dvd() : rich_blu_ray());
    for (const double place : {0.0, 0.2, 0.45, 0.7, 0.95}) {
        auto source = input->open(4);
        REQUIRE(source);
        const Time time = base::from_seconds(place * base::to_seconds((*source)->duration()));
        INFO("to " << base::to_seconds(time));
        REQUIRE((*source)->seek(time));
        while (true) {
            auto packet = (*source)->read();
            REQUIRE(packet);
            REQUIRE(*packet);
            if ((*packet)->track != (*source)->tracks().front().id) continue;
            CHECK((*packet)->key);
            CHECK((*packet)->pts <= time);
            CHECK(base::to_seconds(time - (*packet)->pts) < 0.7);
            break;
        }
    }
}

TEST_CASE("a title whose chapters lie in several program chains plays them all", "[rich]") {
    const TempDir dir;
    std::filesystem::copy(rich_dvd(), dir / "rip", std::filesystem::copy_options::recursive);
    for (const char* name : {"VIDEO_TS/VTS_01_0.IFO", "VIDEO_TS/VTS_01_0.BUP"}) {
        ByteVector ifo = read_all(dir / "rip" / name);
        const auto u32 = [&](std::size_t at) {
            return std::size_t{ifo[at]} << 24 | std::size_t{ifo[at + 1]} << 16 | std::size_t{ifo[at + 2]} << 8 |
                   ifo[at + 3];
        };
        // Title 1's second chapter: in chain 3, which is title 3's with its three clocks.
        const std::size_t chapters = u32(0xC8) * 2048, second = chapters + u32(chapters + 8) + 4;
        REQUIRE(ifo[second + 1] == 1);
        ifo[second + 1] = 3;
        ifo[second + 3] = 1;
        write_all(dir / "rip" / name, ifo);
    }
    const auto input = open(dir / "rip");
    const auto description = rich_description(DiscDescription::Kind::dvd);
    const source::Title& title = input->titles()[0];
    CHECK(title.segments.size() == 5);
    REQUIRE(title.chapters.size() == 2);
    const Time first = input->titles()[2].duration;
    CHECK(title.duration - title.chapters[1].start == first);
    const Contents contents = read(*input, 1);
    CHECK(contents.problems.empty());
    const auto expected = standin::Material::picture_count(description, description.parts[0]) +
                          standin::Material::picture_count(description, description.parts[2]);
    CHECK(static_cast<std::int64_t>(contents.packets.at(0xE0).size()) == expected);
    const Packet& last = contents.packets.at(0xE0).back();
    CHECK(last.pts + last.duration == contents.duration);
}
