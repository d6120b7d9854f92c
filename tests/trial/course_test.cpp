#include <fmt/format.h>

#include <map>
#include <set>

#include "bitstream/levels.hpp"
#include "container/writer.hpp"
#include "device/device.hpp"
#include "standin/screen.hpp"
#include "trial/course.hpp"

using namespace wavecrest;
using trial::Course;
using trial::Outcome;
using trial::Seen;
using trial::Step;

namespace {

// The tracks a clip has, without making it.
std::vector<Track> tracks_of(const sample::Clip& clip) {
    std::vector<Track> tracks;
    if (clip.video) {
        Track track;
        track.kind = TrackKind::video;
        track.codec = clip.video->codec;
        track.width = clip.video->size.width;
        track.height = clip.video->size.height;
        track.frame_rate = clip.video->frame_rate;
        track.bit_depth = clip.video->bit_depth;
        track.scan = clip.video->interlaced ? Scan::interlaced : Scan::progressive;
        const bool deep = track.bit_depth > 8;
        const std::map<Codec, std::string> profiles = {{Codec::h264, clip.video->profile == "main"       ? "Main"
                                                                     : clip.video->profile == "baseline" ? "Baseline"
                                                                                                         : "High"},
                                                       {Codec::h265, deep ? "Main 10" : "Main"},
                                                       {Codec::vp9, deep ? "2" : "0"},
                                                       {Codec::av1, "Main"},
                                                       {Codec::mpeg2, "Main"}};
        track.profile = profiles.at(track.codec);
        track.level = bitstream::needed_level(track);
        // (Of VP9 and AV1 by their luma samples a second; both number alike.)
        const double samples = track.frame_rate.value() * track.width * track.height;
        if (track.codec == Codec::vp9 || track.codec == Codec::av1)
            track.level = samples < 20e6    ? "3.0"
                          : samples < 32e6  ? "3.1"
                          : samples < 71e6  ? "4.0"
                          : samples < 142e6 ? "4.1"
                          : samples < 283e6 ? "5.0"
                                            : "5.1";
        if (track.codec == Codec::mpeg2) track.level = "Main";
        track.bitrate_bps = std::max<std::int64_t>(clip.video->bitrate_bps, 2'000'000);
        tracks.push_back(track);
    }
    if (clip.audio) {
        Track track;
        track.kind = TrackKind::audio;
        track.codec = clip.audio->codec;
        track.channels = clip.audio->channels;
        tracks.push_back(track);
    }
    return tracks;
}

Seen seen_of(const device::Device& device, const Step& step, double link_bps = 500e6) {
    Seen seen = standin::seen_by(device, step, step.clip ? step.clip->container : "",
                                 step.clip ? tracks_of(*step.clip) : std::vector<Track>{});
    if (step.kind == Step::Kind::download) {
        for (int i = 1; i <= 40; ++i) seen.downloaded.emplace_back(i * 0.1, i * 0.1 * link_bps / 8);
    }
    return seen;
}

// How many steps it took.
int go_through(Course& course, const device::Device& device) {
    int steps = 0;
    while (const auto step = course.next()) {
        REQUIRE(++steps < 150);
        course.take(*step, seen_of(device, *step), "2026-11-30 19:05");
    }
    return steps;
}

bool passes(const device::Device& device, const sample::Clip& clip) {
    for (const device::Check& check : device::judge(device, clip.container, tracks_of(clip), 2'000'000)) {
        if (check.verdict == device::Verdict::fail) return false;
    }
    return true;
}

sample::Clip clip_of(Codec codec, base::Size size, int rate, int depth = 8) {
    sample::Clip clip;
    clip.container = codec == Codec::vp9 || codec == Codec::av1 ? "webm" : "mp4";
    clip.video = sample::ClipVideo{codec, "", size, {rate, 1}, depth, false, 0};
    return clip;
}

}  // namespace

TEST_CASE("every class of devices is found again by what it shows on the check page", "[trial]") {
    for (const device::Device& one : device::built_in()) {
        // Codecs that a browser plays of it, in containers that it has for them.
        if (one.video.empty()) continue;
        Course course;
        const int steps = go_through(course, one);
        INFO(one.name << ", " << steps << " steps");
        CHECK(steps <= 75);
        CHECK(course.done() == 1);
        const device::Device found = course.description(one.name, one);
        // As a text it is the same device.
        const auto read = device::parse(device::write(found), "found.toml");
        INFO((read ? "" : read.error().what + " " + read.error().where));
        REQUIRE(read);
        CHECK(device::compare(found, *read).empty());
        CHECK(read->tried.size() == found.tried.size());
        for (const Codec codec : {Codec::h264, Codec::h265, Codec::vp9, Codec::av1}) {
            for (const base::Size size : {base::Size{720, 480}, {1280, 720}, {1920, 1080}, {3840, 2160}}) {
                for (const int rate : {24, 30, 50, 60}) {
                    for (const int depth : {8, 10}) {
                        if (codec == Codec::h264 && depth == 10) continue;
                        const sample::Clip clip = clip_of(codec, size, rate, depth);
                        // A page can't find what has no container that clips lie in.
                        if (!device::reads(one, clip.container)) continue;
                        INFO(sample::in_words(clip));
                        CHECK(passes(found, clip) == passes(one, clip));
                    }
                }
            }
        }
        for (const char* container : {"mp4", "matroska", "mp3", "flac", "wav"}) {
            INFO(container);
            // (Of audio alone nothing is asked that this class doesn't have.)
            if (device::reads(found, container)) CHECK(device::reads(one, container));
        }
        for (const Codec codec : {Codec::aac, Codec::ac3, Codec::opus, Codec::flac, Codec::mp3}) {
            for (const int channels : {2, 6}) {
                sample::Clip clip;
                clip.audio = sample::ClipAudio{codec, channels};
                const Track track = tracks_of(clip).front();
                INFO(media::short_name(codec) << " " << channels);
                if (device::plays_audio(found, track)) CHECK(device::plays_audio(one, track));
                if (device::reads(one, "mp4") && device::plays_audio(one, track, "mp4") && codec != Codec::opus)
                    CHECK(device::plays_audio(found, track, "mp4"));
            }
        }
    }
}

TEST_CASE("a class that was too good for the device turns out so", "[trial]") {
    const device::Device assumed = *device::find("tablet-hd"), real = *device::find("tablet-basic");
    Course course;
    go_through(course, real);
    const device::Device found = course.description("Tablet", assumed);
    CHECK(!device::compare(assumed, found).empty());
    const sample::Clip clip = clip_of(Codec::h264, {1920, 1080}, 60);
    CHECK(passes(found, clip) == passes(real, clip));
    // What was tried stands in it, with what the browser said of it beforehand.
    CHECK(found.tried.size() == course.taken().size());
    CHECK(found.tried.back().when == "2026-11-30 19:05");
}

TEST_CASE("a ladder goes by few steps and looks twice at what stutters", "[trial]") {
    trial::CourseSettings settings;
    settings.only = {"video"};
    Course course(settings);
    std::vector<std::string> ids;
    // H.264 to 1080p30 and nothing else; the first look at 1080p60 is disturbed, and so is the second.
    while (const auto step = course.next()) {
        if (step->kind == Step::Kind::play) ids.push_back(step->id);
        Seen seen;
        if (step->id.starts_with("h264/")) {
            const bool fast =
                step->id.find("1080p60") != std::string::npos || step->id.find("2160") != std::string::npos;
            seen.started = true;
            seen.played_s = seen.wall_s = 4;
            seen.width = 1920, seen.height = 1080;
            seen.frames = 4 * step->clip->video->frame_rate.num, seen.dropped = fast ? 60 : 0;
        } else {
            seen.error = "not supported";
        }
        course.take(*step, std::move(seen), "");
    }
    const std::vector<std::string> first(ids.begin(), ids.begin() + 4);
    CHECK(first == std::vector<std::string>{"h264/1080p30", "h264/2160p30", "h264/1080p60", "h264/1080p60/again"});
    // Of a codec that is refused the smallest is tried, and no more.
    CHECK(std::count_if(ids.begin(), ids.end(), [](const auto& id) { return id.starts_with("h265"); }) == 2);
    CHECK(course.find("h265/480p30") != nullptr);
    const device::Device found = course.description("TV", *device::find("tv-hd"));
    REQUIRE(found.video.size() == 2);
    CHECK(found.video[0].largest == base::Size{1920, 1080});
    CHECK(found.video[0].max_fps == 30);
    CHECK(found.video[0].level == "4.0");
    CHECK(found.video[1].largest == base::Size{1280, 720});
    CHECK(found.video[1].max_fps == 60);
}

TEST_CASE("where a browser tells too little the installer is asked, and a no counts", "[trial]") {
    for (const bool yes : {true, false}) {
        trial::CourseSettings settings;
        settings.only = {"video"};
        settings.largest = {1280, 720};
        Course course(settings);
        int asked = 0;
        while (const auto step = course.next()) {
            Seen seen;
            if (step->kind == Step::Kind::question) {
                ++asked;
                REQUIRE(step->clip);
                seen.answer = step->answers.at(yes ? 0 : 1);
            } else if (step->id.starts_with("h264/")) {
                seen.started = true;
                seen.played_s = seen.wall_s = 4;
                seen.width = 1280, seen.height = 720;  // and no counts of frames
            } else {
                seen.error = "not supported";
            }
            course.take(*step, std::move(seen), "");
        }
        CHECK(asked == (yes ? 1 : 3));
        CHECK(course.description("TV", *device::find("tv-hd")).video.empty() == !yes);
    }
}

TEST_CASE("what nobody saw or heard isn't called played", "[trial]") {
    Course course;
    while (const auto step = course.next()) {
        Seen seen;
        if (step->kind == Step::Kind::question) {
            // Nobody is there.
        } else if (step->clip) {
            seen.started = true;
            seen.played_s = seen.wall_s = base::to_seconds(step->clip->length);
            seen.width = 1280, seen.height = 720;  // and no counts of frames, nothing heard
        }
        course.take(*step, std::move(seen), "2026-11-30 19:05");
    }
    const device::Device found = course.description("TV", *device::find("tv-hd"));
    REQUIRE(!found.video.empty());
    REQUIRE(!found.audio.empty());
    CHECK(found.video.front().basis == "no error 2026-11-30 19:05, but its frames weren't seen");
    CHECK(found.audio.front().basis == "no error 2026-11-30 19:05, but nobody heard it");
}

TEST_CASE("a slow connection says nothing of the rates a device plays", "[trial]") {
    const device::Device tv = *device::find("tv-hd");
    REQUIRE(tv.highest_bps > 10'000'000);
    trial::CourseSettings settings;
    settings.only = {"link", "bitrate"};
    Course slow(settings);
    while (const auto step = slow.next()) slow.take(*step, seen_of(tv, *step, 12e6), "");
    CHECK(slow.find("bitrate/10M") == nullptr);
    CHECK(slow.description("TV", tv).highest_bps == tv.highest_bps);
    // One that stutters at 40 Mbit/s is limited by what it played below.
    device::Device weak = tv;
    weak.highest_bps = 35'000'000;
    Course fast(settings);
    while (const auto step = fast.next()) fast.take(*step, seen_of(weak, *step), "");
    CHECK(fast.description("TV", tv).highest_bps == 30'000'000);
}

TEST_CASE("what is left out of a test stays as it was assumed", "[trial]") {
    const device::Device assumed = *device::find("tablet-hd");
    trial::CourseSettings settings;
    settings.only = {"video"};
    Course course(settings);
    go_through(course, *device::find("tablet-basic"));
    const device::Device found = course.description("Tablet", assumed);
    CHECK(found.containers.size() >= assumed.containers.size());
    CHECK(found.audio.size() == assumed.audio.size());
    CHECK(found.audio.front().basis == "assumed, as tablet-hd");
    CHECK(device::takes(found, "hls"));
    CHECK(found.video.front().largest == base::Size{1280, 720});
    CHECK(found.video.front().basis == "played 2026-11-30 19:05");
}

TEST_CASE("sizes above what was to be tried stay as they were assumed, where the largest tried one plays", "[trial]") {
    trial::CourseSettings settings;
    settings.largest = {1280, 720};
    const device::Device assumed = *device::find("tv-uhd-hdr");
    Course able(settings);
    go_through(able, assumed);
    const device::Device found = able.description("TV", assumed);
    CHECK(passes(found, clip_of(Codec::h265, {3840, 2160}, 60, 10)));
    CHECK(std::any_of(found.video.begin(), found.video.end(), [](const device::VideoAbility& one) {
        return one.basis == "assumed, as tv-uhd-hdr: above 1280x720 nothing was tried";
    }));
    // One that doesn't play the largest tried has nothing above it.
    Course weak(settings);
    go_through(weak, *device::find("player-sd"));
    CHECK(!passes(weak.description("TV", assumed), clip_of(Codec::h264, {1920, 1080}, 30)));
}

TEST_CASE("a device that plays nothing is described as such", "[trial]") {
    Course course;
    while (const auto step = course.next()) {
        Seen seen;
        seen.error = "not supported";
        course.take(*step, std::move(seen), "");
    }
    const device::Device found = course.description("Box", *device::find("box-hd"));
    CHECK(found.video.empty());
    CHECK(found.audio.empty());
    CHECK(found.containers.empty());
    CHECK(device::parse(device::write(found), "box.toml"));
}

TEST_CASE("clips of the usual course are few and all different", "[trial]") {
    const auto clips = trial::usual_clips({});
    std::set<std::string> names;
    for (const sample::Clip& clip : clips) names.insert(sample::file_name(clip));
    CHECK(names.size() == clips.size());
    CHECK(clips.size() > 40);
    CHECK(clips.size() < 90);
    // Each can be made, as far as its container decides.
    for (const sample::Clip& clip : clips) {
        INFO(sample::in_words(clip));
        for (const Track& track : tracks_of(clip)) CHECK(container::why_not_codec(clip.container, track).empty());
    }
    for (const sample::Clip& clip : trial::usual_clips({{1280, 720}, {}})) {
        if (clip.video && !clip.video->interlaced) CHECK(clip.video->size.height <= 720);
    }
}
