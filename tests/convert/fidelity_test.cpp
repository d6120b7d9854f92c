// What converting makes of a shelf of made-up discs and files, measured on the result: every frame once and at its
// time, nothing combed, flash and beep together, channels at their level. `scripts/fidelity` prints the table.
#include <fmt/format.h>

#include <catch2/catch.hpp>
#include <cmath>
#include <cstdlib>
#include <map>
#include <set>

#include "codec/audio_decoder.hpp"
#include "codec/video_decoder.hpp"
#include "convert/convert.hpp"
#include "filter/cadence.hpp"
#include "source/input.hpp"
#include "sample/test_card.hpp"
#include "support/clips.hpp"
#include "support/discs.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;

namespace {

using Disc = standin::DiscDescription;
using Pictures = Disc::Part::Pictures;

// A run of frames of one card that has to come out.
struct Run {
    int card = 1;
    std::int64_t frames = 0;
    Ratio rate;
    Time from{};   // on the title's timeline
    Time first{};  // of the first frame, after `from`
};

struct Row {
    int missing = 0, doubled = 0, unread = 0;
    double off_ms = 0;     // the frame that is furthest from its time
    double uneven_ms = 0;  // the step between frames that is furthest from even
    double combing = 0;    // per mille of points, of the worst frame, beyond what the card itself has
    double sync_ms = 0;    // flash to beep, the worst of the title
    int beeps = 0;
    double left_db = 0, right_db = 0;  // of the beeps, below full scale
};

Ratio card_rate(const Disc& disc, const Disc::Part& part) {
    const bool film = part.pictures == Pictures::film || part.pictures == Pictures::film_unmarked;
    if (film) return {24000, 1001};
    const Ratio rate = disc.pal ? Ratio{25, 1} : Ratio{30000, 1001};
    return part.pictures == Pictures::interlaced ? Ratio{rate.num * 2, rate.den} : rate;
}

// Beginnings of beeps in seconds, and their level.
struct Beeps {
    std::vector<double> at;
    double left_db = 0, right_db = 0;
};
Beeps beeps_in(const TestTrack& test_track) {
    auto decoder = codec::make_audio_decoder(test_track.track);
    REQUIRE(decoder);
    std::vector<AudioFrames> audio_frames;
    for (const Packet& packet : test_track.packets) REQUIRE((*decoder)->decode(packet, audio_frames));
    Beeps found;
    float peak[2] = {0, 0};
    double quiet_until = -1;
    for (const AudioFrames& audio : audio_frames) {
        const auto channels = static_cast<std::size_t>(audio.channels);
        for (std::size_t n = 0; n < audio.frames(); ++n) {
            const float left = std::abs(audio.samples[n * channels]);
            for (std::size_t c = 0; c < std::min<std::size_t>(channels, 2); ++c)
                peak[c] = std::max(peak[c], std::abs(audio.samples[n * channels + c]));
            if (left < 0.25f) continue;
            const double at = base::to_seconds(audio.pts) + static_cast<double>(n) / audio.sample_rate;
            if (at > quiet_until) found.at.push_back(at);
            quiet_until = at + 0.05;
        }
    }
    found.left_db = 20 * std::log10(std::max(peak[0], 1e-6f));
    found.right_db = 20 * std::log10(std::max(peak[1], 1e-6f));
    return found;
}

Row looked_at(const base::Path& file, const std::vector<Run>& runs, bool cards_numbered = true) {
    Row row;
    const auto test_tracks = read_media(file);
    REQUIRE(test_tracks.size() >= 1);
    auto decoder = codec::make_video_decoder(test_tracks[0].track);
    REQUIRE(decoder);
    std::vector<Picture> pictures;
    std::map<std::pair<int, std::int64_t>, int> seen;
    std::map<int, std::vector<std::pair<std::int64_t, Time>>> shown;
    std::vector<double> flashes;
    bool bright = false;
    const auto look = [&] {
        for (const Picture& picture : pictures) {
            const int first = picture.top_field_first ? 0 : 1;
            row.combing = std::max(row.combing, filter::combing(picture, first, picture) / 1000.0);
            const bool flash = sample::flash_level(picture) > 150;
            if (flash && !bright) flashes.push_back(base::to_seconds(picture.pts));
            bright = flash;
            const auto code = sample::read_card_code(picture);
            if (!code) {
                ++row.unread;
                continue;
            }
            const int card = cards_numbered ? code->title_number : runs.front().card;
            if (seen[{card, code->frame}]++ == 0) shown[card].emplace_back(code->frame, picture.pts);
        }
        pictures.clear();
    };
    for (const Packet& packet : test_tracks[0].packets) {
        REQUIRE((*decoder)->decode(packet, pictures));
        look();
    }
    REQUIRE((*decoder)->flush(pictures));
    look();
    for (const auto& [frame, times] : seen) row.doubled += times - 1;
    for (const Run& run : runs) {
        const auto& frames = shown[run.card];
        row.missing += static_cast<int>(run.frames) - static_cast<int>(frames.size());
        for (std::size_t i = 0; i < frames.size(); ++i) {
            const auto& [frame, pts] = frames[i];
            if (frame == 0 && run.first.count() > 0) continue;  // its first field stands alone
            const Time due = run.from + run.first + base::frames_to_time(frame, run.rate);
            row.off_ms = std::max(row.off_ms, std::abs(base::to_seconds(pts - due)) * 1000);
            if (i == 0 || frames[i - 1].first + 1 != frame || (run.first.count() > 0 && frame == 1)) continue;
            row.uneven_ms = std::max(
                row.uneven_ms,
                std::abs(base::to_seconds(pts - frames[i - 1].second - base::frames_to_time(1, run.rate))) * 1000);
        }
    }
    for (const TestTrack& test_track : test_tracks) {
        if (test_track.track.kind != TrackKind::audio) continue;
        const Beeps beeps = beeps_in(test_track);
        row.beeps = static_cast<int>(beeps.at.size());
        row.left_db = beeps.left_db;
        row.right_db = beeps.right_db;
        for (const double flash : flashes) {
            if (flash < base::to_seconds(runs.front().first)) continue;
            double nearest = 1;
            for (const double beep : beeps.at) {
                if (std::abs(beep - flash) < std::abs(nearest)) nearest = beep - flash;
            }
            // (Where the audio is missing with the picture there is nothing to hold against it.)
            nearest += base::to_seconds(runs.front().first);
            if (std::abs(nearest) < 0.2) row.sync_ms = std::max(row.sync_ms, std::abs(nearest) * 1000);
        }
        break;
    }
    return row;
}

profile::Profile quick() {
    return *profile::parse(
        "name = \"q\"\n[video]\neffort = 1\nvisual_quality = 87.5\nmax_size = \"1080p\"\npixels = "
        "\"as-source\"\ninterlaced = "
        "\"per-field\"\n",
        "q");
}

base::Path converted(const base::Path& source, const base::Path& into, const std::string& pick,
                     const profile::Profile& profile, bool accept_losses = false) {
    auto input = source::open_input(source);
    REQUIRE(input);
    convert::Request request;
    request.pick = pick;
    request.profiles = {profile};
    request.into = into;
    request.name = "Row";
    request.accept_losses = accept_losses;
    const auto plan = convert::make_plan(**input, request);
    if (!plan) FAIL(plan.error().what << ": " << plan.error().where);
    const Cancel cancel;
    const auto outcome = convert::run(**input, *plan, {}, cancel);
    if (!outcome) FAIL(outcome.error().what << ": " << outcome.error().where);
    return outcome->path();
}

void print_row(const std::string& name, const Row& row) {
    if (std::getenv("WAVECREST_FIDELITY") == nullptr) return;
    fmt::print("{:<34} {:>7} {:>7} {:>6} {:>7.2f} {:>7.2f} {:>7.2f} {:>7.2f} {:>5} {:>6.1f} {:>6.1f}\n", name,
               row.missing, row.doubled, row.unread, row.off_ms, row.uneven_ms, row.combing, row.sync_ms, row.beeps,
               row.left_db, row.right_db);
}

struct Shelf {
    const char* name;
    bool pal = false, blu_ray = false, h264 = false;
    std::vector<std::pair<Pictures, double>> parts;  // and their seconds
    int channels = 2;
    bool clock_breaks = false;
    // What the row may have; elsewhere nothing.
    int missing = 0, doubled = 0, unread = 0;
    double off_ms = 1, uneven_ms = 1;
};

}  // namespace

namespace {

// What the rows say of the result; gives the level of the beeps by the number of channels.
std::map<int, double> check_shelf(const std::vector<Shelf>& rows) {
    using P = Pictures;
    if (std::getenv("WAVECREST_FIDELITY") != nullptr)
        fmt::print("{:<34} {:>7} {:>7} {:>6} {:>7} {:>7} {:>7} {:>7} {:>5} {:>6} {:>6}\n", "", "missing", "doubled",
                   "unread", "off ms", "step ms", "combed", "sync ms", "beeps", "L dB", "R dB");
    std::map<int, double> level;
    for (const Shelf& shelf : rows) {
        INFO(shelf.name);
        const TempDir dir;
        Disc disc;
        disc.kind = shelf.blu_ray ? Disc::Kind::blu_ray : Disc::Kind::dvd;
        disc.definition = Disc::Definition::standard;
        disc.codec = shelf.h264 ? Codec::h264 : Codec::mpeg2;
        disc.pal = shelf.pal;
        disc.audio = {{Codec::ac3, shelf.channels}};
        if (shelf.channels == 2) disc.audio = {{Codec::lpcm, 2}};
        std::vector<std::string> names;
        std::vector<Run> runs;
        Time from{};
        for (const auto& [pictures, seconds] : shelf.parts) {
            Disc::Part part;
            part.name = fmt::format("p{}", names.size());
            part.length = base::from_seconds(seconds);
            part.pictures = pictures;
            part.clock_breaks = shelf.clock_breaks;
            if (shelf.clock_breaks) part.chapters = 3;
            disc.parts.push_back(part);
            names.push_back(part.name);
            Run run{static_cast<int>(names.size()), 0, card_rate(disc, part), from, {}};
            const Ratio coded = pictures == P::film ? Ratio{24000, 1001}
                                : shelf.pal         ? Ratio{25, 1}
                                                    : Ratio{30000, 1001};
            const std::int64_t count =
                base::rescale(part.length.count(), coded.num, base::kFlicksPerSecond * coded.den);
            const Time length = base::frames_to_time(count, coded);
            run.frames = pictures == P::interlaced      ? 2 * count
                         : pictures == P::film_unmarked ? (2 * count * 2 + 4) / 5
                                                        : count;
            // A frame whose first field belongs to the one before is seen from half a frame before.
            if (pictures == P::film_shifted) run.first = base::frames_to_time(1, coded) / 2;
            from += length;
            runs.push_back(run);
        }
        disc.titles = {{names}};
        const Cancel cancel;
        REQUIRE(standin::make_disc(dir / "disc", disc, {}, cancel));
        const Row row = looked_at(converted(dir / "disc", dir.path(), "main", quick()), runs);
        print_row(shelf.name, row);
        CHECK(row.missing <= shelf.missing);
        CHECK(row.missing >= -shelf.missing);
        CHECK(row.doubled <= shelf.doubled);
        CHECK(row.unread <= shelf.unread);
        CHECK(row.off_ms <= shelf.off_ms);
        CHECK(row.uneven_ms <= shelf.uneven_ms);
        CHECK(row.combing < (shelf.off_ms > 1 ? 20 : 12));
        CHECK(row.sync_ms <= (shelf.off_ms > 1 ? 40 : 1.2));
        CHECK(row.beeps >= 1);
        level[shelf.channels] = row.left_db;
    }
    return level;
}

// H.264 whose frames come at uneven times.
TestTrack uneven(int frames) {
    TestTrack test_track = video_track(Codec::h264, frames);
    constexpr int kSteps[] = {20, 50, 33, 17, 100, 40, 16};  // ms
    std::vector<Time> times;
    for (const Packet& packet : test_track.packets) times.push_back(packet.pts);
    std::sort(times.begin(), times.end());
    std::map<Time, Time> moved;
    Time at{};
    for (std::size_t i = 0; i < times.size(); ++i) {
        moved[times[i]] = at;
        at += std::chrono::milliseconds(kSteps[i % std::size(kSteps)]);
    }
    for (std::size_t i = 0; i < test_track.packets.size(); ++i) {
        Packet& packet = test_track.packets[i];
        packet.dts = moved[times[i]] - base::from_seconds(0.5);
        packet.pts = moved[packet.pts];
        packet.duration = {};
    }
    test_track.track.frame_rate = {0, 1};
    return test_track;
}

}  // namespace

TEST_CASE("every frame of NTSC discs comes once, at its time, with its audio", "[fidelity]") {
    using P = Pictures;
    check_shelf({{"NTSC film, marked", false, false, false, {{P::film, 2}}},
                 {"NTSC film, unmarked", false, false, false, {{P::film_unmarked, 2.5}}},
                 {"NTSC shifted", false, false, false, {{P::film_shifted, 2}}, 2, false, 1, 1},
                 {"NTSC 30p, changing phase", false, false, false, {{P::film_phases, 3}}, 2, false, 2, 2, 2, 34, 34},
                 {"NTSC 30p", false, false, false, {{P::whole, 2}}},
                 {"NTSC video", false, false, false, {{P::interlaced, 2}}}});
}

TEST_CASE("every frame of PAL discs comes once, at its time, with its audio", "[fidelity]") {
    using P = Pictures;
    check_shelf({{"PAL 25p", true, false, false, {{P::whole, 2}}},
                 {"PAL shifted", true, false, false, {{P::film_shifted, 2}}, 2, false, 1, 1},
                 {"PAL 25p, changing phase", true, false, false, {{P::film_phases, 3}}, 2, false, 2, 2, 2, 41, 41},
                 {"PAL video", true, false, false, {{P::interlaced, 2}}}});
}

// Where intervals of unlike kinds meet, a few frames belong to neither.
TEST_CASE("every frame of titles of film and video comes once, at its time, with its audio", "[fidelity]") {
    using P = Pictures;
    check_shelf(
        {{"film marked, then video", false, false, false, {{P::film, 2}, {P::interlaced, 2}}, 2, false, 0, 0, 1},
         {"video, then film marked", false, false, false, {{P::interlaced, 2}, {P::film, 2}}, 2, false, 0, 0, 1},
         {"PAL 25p, then video", true, false, false, {{P::whole, 2.2}, {P::interlaced, 2}}, 2, false, 0, 0, 1}});
}

TEST_CASE("every frame of titles of three kinds comes once, at its time, with its audio", "[fidelity]") {
    using P = Pictures;
    check_shelf({{"film unmarked, then video",
                  false,
                  false,
                  false,
                  {{P::film_unmarked, 2.5}, {P::interlaced, 2}},
                  2,
                  false,
                  2,
                  10,
                  6,
                  20,
                  34},
                 {"film marked, 30p, video",
                  false,
                  false,
                  false,
                  {{P::film, 2}, {P::whole, 2}, {P::interlaced, 2}},
                  2,
                  false,
                  0,
                  0,
                  1}});
}

TEST_CASE("every frame of Blu-ray discs comes once, at its time, with its audio", "[fidelity]") {
    using P = Pictures;
    auto level = check_shelf({{"Blu-ray SD 24p, MPEG-2", false, true, false, {{P::film, 2}}},
                              {"Blu-ray SD 24p, H.264", false, true, true, {{P::film, 2}}},
                              {"Blu-ray SD 25p, H.264", true, true, true, {{P::whole, 2}}},
                              {"film, clocks that break", false, false, false, {{P::film, 2}}, 2, true},
                              {"film, 5.1", false, false, false, {{P::film, 2}}, 6}});
    // Surround folded down is about as loud as stereo: its centre has the same beep as its left.
    CHECK(level[6] - level[2] > 0);
    CHECK(level[6] - level[2] < 6);
}

TEST_CASE("frames at uneven times keep them", "[fidelity]") {
    for (const std::string format : {"matroska", "mp4"}) {
        const std::string name = "uneven times, " + format;
        INFO(name);
        const TempDir dir;
        const TestTrack test_track = uneven(90);
        write_media(dir / "a", format, {test_track, audio_track(Codec::aac, 3)});
        auto even = quick();
        const base::Path kept = converted(dir / "a", dir / "kept", "main", even);
        const auto back = read_media(kept);
        REQUIRE(back[0].packets.size() == 90);
        std::vector<Time> before, after;
        for (const Packet& packet : test_track.packets) before.push_back(packet.pts);
        for (const Packet& packet : back[0].packets) after.push_back(packet.pts);
        std::sort(before.begin(), before.end());
        std::sort(after.begin(), after.end());
        double worst = 0;
        for (std::size_t i = 0; i < 90; ++i)
            worst = std::max(worst, std::abs(base::to_seconds(after[i] - before[i])) * 1000);
        CHECK(worst < 1.1);  // Matroska rounds to 1 ms
        Row row;
        row.off_ms = worst;
        print_row(name, row);
        // Where the profile wants it, at a constant rate.
        even.video.constant_rate = true;
        even.video.frame_rate = {25, 1};
        const auto constant = read_media(converted(dir / "a", dir / "constant", "main", even));
        std::vector<Time> times;
        for (const Packet& packet : constant[0].packets) times.push_back(packet.pts);
        std::sort(times.begin(), times.end());
        for (std::size_t i = 1; i < times.size(); ++i)
            CHECK(std::abs(base::to_seconds(times[i] - times[i - 1]) - 0.04) < 0.0002);
    }
    for (const bool packed : {false, true}) {
        const std::string name = packed ? "MPEG-4 part 2 in AVI, packed" : "MPEG-4 part 2 in AVI, delayed";
        INFO(name);
        const TempDir dir;
        write_all(dir / "a.avi", mpeg4_avi(96, packed));
        const Row row =
            looked_at(converted(dir / "a.avi", dir.path(), "main", quick()), {{1, 96, {24000, 1001}, {}, {}}});
        print_row(name, row);
        CHECK(row.missing == 0);
        CHECK(row.doubled == 0);
        CHECK(row.off_ms < 1);
        CHECK(row.sync_ms < 1.2);
    }
}

TEST_CASE("of damage only what it hit is lost", "[fidelity]") {
    for (const bool h264 : {false, true}) {
        const std::string name = h264 ? "a flaw of 0.4 s, Blu-ray H.264" : "a flaw of 0.4 s, DVD";
        INFO(name);
        const TempDir dir;
        Disc disc;
        disc.kind = h264 ? Disc::Kind::blu_ray : Disc::Kind::dvd;
        disc.definition = Disc::Definition::standard;
        disc.codec = h264 ? Codec::h264 : Codec::mpeg2;
        disc.audio = {{Codec::ac3, 2}};
        Disc::Part part;
        part.name = "one";
        part.length = base::from_seconds(5);
        part.flaws = {{Disc::Flaw::Kind::zeros, base::from_seconds(2), base::from_seconds(2.4)}};
        disc.parts = {part};
        const Cancel cancel;
        REQUIRE(standin::make_disc(dir / "disc", disc, {}, cancel));
        const std::int64_t frames = base::rescale(5, 24000, 1001);
        const Row row =
            looked_at(converted(dir / "disc", dir.path(), "main", quick(), true), {{1, frames, {24000, 1001}, {}, {}}});
        print_row(name, row);
        CHECK(row.missing <= (h264 ? 40 : 26));  // whole groups of pictures
        CHECK(row.off_ms < 1);
        CHECK(row.sync_ms < 1.2);
    }
}

TEST_CASE("audio whose sample rate changes keeps its pitch and its place", "[fidelity]") {
    const TempDir dir;
    TestTrack audio = layer_2_track(2.016, 48000);
    const Time change = audio.packets.back().pts + audio.packets.back().duration;
    const TestTrack rest = layer_2_track(2, 44100, change);
    audio.packets.insert(audio.packets.end(), rest.packets.begin(), rest.packets.end());
    write_media(dir / "a.ts", "mpeg-ts", {video_track(Codec::h264, 96), audio});
    const auto made = read_media(converted(dir / "a.ts", dir.path(), "main", quick()));
    REQUIRE(made.size() == 2);
    auto decoder = codec::make_audio_decoder(made[1].track);
    REQUIRE(decoder);
    std::vector<AudioFrames> frames;
    for (const Packet& packet : made[1].packets) REQUIRE((*decoder)->decode(packet, frames));
    // 440 Hz go up so often in half a second, before the change and after it (an encoder begins with some noise).
    std::map<int, int> crossings;
    bool was_low = false;
    for (const AudioFrames& audio_frames : frames) {
        for (std::size_t n = 0; n < audio_frames.frames(); ++n) {
            const float value = audio_frames.samples[n * static_cast<std::size_t>(audio_frames.channels)];
            const double at = base::to_seconds(audio_frames.pts) + static_cast<double>(n) / audio_frames.sample_rate;
            const int half = static_cast<int>(std::floor(at * 2));
            if (was_low && value > 0.1f) {
                ++crossings[half];
                was_low = false;
            }
            was_low = was_low || value < -0.1f;
        }
    }
    for (int half = 1; half < 8; ++half) {
        INFO(half / 2.0 << " s");
        CHECK(std::abs(crossings[half] - 220) <= (half == 4 ? 8 : 1));
    }
}
