// What is decided for devices: what suits stays, what does not is made to suit, in as few files as will do.
#include "convert/decide.hpp"

#include <catch2/catch.hpp>

#include <algorithm>
#include <random>
#include <set>

#include "codec/video_encoder.hpp"
#include "convert/profile_check.hpp"
#include "source/input.hpp"
#include "support/clips.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
using convert::FileDecision;
using device::Verdict;
using Action = convert::TrackPlan::Action;
using Kind = FileDecision::Kind;

namespace {

Track video(Codec codec, const char* profile, const char* level, int width, int height, Ratio rate, Scan scan) {
    Track track;
    track.id = 1;
    track.kind = TrackKind::video;
    track.codec = codec;
    track.profile = profile;
    track.level = level;
    track.width = width;
    track.height = height;
    track.frame_rate = rate;
    track.scan = scan;
    track.bit_depth = 8;
    return track;
}

Track audio(TrackId id, Codec codec, int channels, const char* language = "eng") {
    Track track;
    track.id = id;
    track.kind = TrackKind::audio;
    track.codec = codec;
    track.channels = channels;
    track.sample_rate = 48000;
    track.bitrate_bps = 448'000;
    track.language = language;
    return track;
}

Track dvd() {
    Track track = video(Codec::mpeg2, "Main", "Main", 720, 576, {25, 1}, Scan::interlaced);
    track.pixel_aspect = {64, 45};
    return track;
}
Track full_hd(Ratio rate = {24000, 1001}) {
    return video(Codec::h264, "High", "4.0", 1920, 1080, rate, Scan::progressive);
}
Track ultra_hd() {
    Track track = video(Codec::h265, "Main 10", "5", 3840, 2160, {24000, 1001}, Scan::progressive);
    track.bit_depth = 10;
    track.colour = {9, media::kTransferPq, 9, false};
    return track;
}

// A title, kept here while it is decided about.
struct Title {
    std::vector<Track> tracks;
    convert::DecideSource source;

    explicit Title(std::vector<Track> all, std::string container = "", std::int64_t peak_bps = 5'000'000)
        : tracks(std::move(all)) {
        source.name = "film";
        source.is_file = !container.empty();
        source.container = std::move(container);
        source.tracks = &tracks;
        source.peak_bps = peak_bps;
    }
    Title(const Title&) = delete;

    Result<std::vector<FileDecision>> decide(const std::vector<std::string>& devices, bool one_file = false,
                                             const std::string& subtitles = "forced",
                                             const std::string& chosen = "first") const {
        convert::DecideRequest request;
        for (const std::string& name : devices) request.devices.push_back(*device::find(name));
        request.profile = *profile::find("full-picture");
        request.one_file = one_file;
        request.subtitles = subtitles;
        request.audio = chosen;
        return convert::decide(source, request);
    }
};

std::string failures(const std::vector<device::Check>& checks) {
    std::string text;
    for (const device::Check& check : checks) {
        if (check.verdict == Verdict::fail) text += check.name + " " + check.measured + "; ";
    }
    return text;
}

const convert::TrackDecision& of(const FileDecision& file, TrackKind kind) {
    return *std::find_if(file.tracks.begin(), file.tracks.end(),
                         [&](const auto& one) { return one.track.kind == kind; });
}

}  // namespace

TEST_CASE("what is made for a device suits it: every class, of standard, high and ultra-high definition", "[decide]") {
    const Title titles[] = {Title({dvd(), audio(2, Codec::ac3, 6)}), Title({full_hd({50, 1}), audio(2, Codec::dts, 6)}),
                            Title({ultra_hd(), audio(2, Codec::truehd, 8)}),
                            Title({full_hd({60, 1}), audio(2, Codec::aac, 2)}, "flv", 70'000'000)};
    int made = 0;
    for (const Title& title : titles) {
        for (const device::Device& one : device::built_in()) {
            INFO(one.name << ", " << title.tracks[0].width << "x" << title.tracks[0].height);
            const auto files = title.decide({one.name});
            if (one.video.empty()) {
                CHECK(files.error().kind == ErrorKind::usage);
                continue;
            }
            // Only what is no longer encoded to is out of reach.
            if (!files) {
                CHECK(std::all_of(one.video.begin(), one.video.end(), [](const auto& ability) {
                    return ability.codec == Codec::mpeg2 || ability.codec == Codec::mpeg4;
                }));
                continue;
            }
            REQUIRE(files->size() == 1);
            const FileDecision& file = files->front();
            CHECK(file.devices == std::vector<std::string>{one.name});
            CHECK(device::reads(one, file.profile.container));
            profile::Profile profile = file.profile;
            const Track& source = title.tracks[0];
            if (profile.video.what == profile::VideoSettings::What::encode) {
                ++made;
                // (Of the largest picture that comes of this source.)
                const double width = source.width * source.pixel_aspect.value();
                const double shrink = std::min({1.0, profile.video.largest.width / width,
                                                static_cast<double>(profile.video.largest.height) / source.height});
                profile.video.largest = {static_cast<int>(width * shrink), static_cast<int>(source.height * shrink)};
                const auto found = convert::check_for(profile, "", one);
                REQUIRE(found);
                std::vector<device::Check> checks;
                for (const convert::DeviceFinding& finding : *found) checks.push_back(finding.check);
                CHECK(failures(checks) == "");
                const double fps = source.frame_rate.value() / (profile.video.half_rate ? 2 : 1);
                CHECK(std::any_of(one.video.begin(), one.video.end(), [&](const auto& ability) {
                    return ability.codec == profile.video.codec && ability.max_fps * 1.001 >= fps;
                }));
            } else {
                CHECK(failures(device::judge_video(one, source)) == "");
                CHECK(title.source.peak_bps <= one.highest_bps);
            }
        }
    }
    CHECK(made > 50);
}

TEST_CASE("what suits stays, and what is against the rest is told", "[decide]") {
    const Title title({full_hd(), audio(2, Codec::dts, 6), audio(3, Codec::ac3, 6, "deu")}, "matroska");
    // As it is: the container, the video and both kinds of audio.
    auto files = title.decide({"disc-player", "player-uhd"}, false, "forced", "all");
    REQUIRE(files);
    REQUIRE(files->size() == 1);
    CHECK(files->front().kind == Kind::as_it_is);
    // DTS is not what this stick plays; its AC-3 stays, and so does the video.
    files = title.decide({"stick-hd"}, false, "forced", "all");
    REQUIRE(files);
    const FileDecision& stick = files->front();
    CHECK(stick.kind == Kind::transcode);
    CHECK(stick.profile.video.what == profile::VideoSettings::What::keep);
    REQUIRE(stick.tracks.size() == 3);
    CHECK(stick.tracks[0].action == Action::keep);
    CHECK(stick.tracks[1].action == Action::transcode);
    CHECK(convert::reason_of(stick.tracks[1]) == "stick-hd does not play DTS");
    CHECK(stick.tracks[2].action == Action::keep);
    CHECK(stick.profile.audio.front().codec == Codec::ac3);
    CHECK(stick.profile.audio.front().channels == 6);
    // A container alone: a remux.
    const Title avc({full_hd(), audio(2, Codec::aac, 2)}, "matroska");
    files = avc.decide({"tv-hd"});
    CHECK(files->front().kind == Kind::remux);
    REQUIRE(files->front().container.size() == 1);
    CHECK(files->front().container.front().device == "tv-hd");
    // A rate above the device's.
    const Title fast({full_hd(), audio(2, Codec::aac, 2)}, "mp4", 25'000'000);
    files = fast.decide({"tv-hd"});
    CHECK(of(files->front(), TrackKind::video).action == Action::transcode);
    CHECK(convert::reason_of(of(files->front(), TrackKind::video)) ==
          "tv-hd does not play a peak of 25.0 Mbit/s (supported: 20.0 Mbit/s)");
    // A level that the header understates: 1080p at 60 needs 4.2.
    const Title lies({full_hd({60, 1}), audio(2, Codec::aac, 2)}, "mp4");
    files = lies.decide({"tv-hd"});
    CHECK(convert::reason_of(of(files->front(), TrackKind::video)).find("4.2 required") != std::string::npos);
    CHECK(lies.decide({"tablet-hd"})->front().kind == Kind::as_it_is);
}

TEST_CASE("one file serves devices that get from it what they would get alone, else there are the fewest", "[decide]") {
    // DVDs are no larger than any of these screens.
    const Title small({dvd(), audio(2, Codec::aac, 2)});
    auto files = small.decide({"phone-hd", "tablet-hd", "browser-webkit", "stick-hd"});
    REQUIRE(files);
    REQUIRE(files->size() == 1);
    CHECK(files->front().devices.size() == 4);
    CHECK(files->front().profile.video.codec == Codec::h264);
    // Of 1080p the tablet's screen takes less, and the others needn't suffer for it.
    const Title large({full_hd(), audio(2, Codec::aac, 2)});
    files = large.decide({"tablet-basic", "tv-hd", "phone-hd"});
    REQUIRE(files->size() == 2);
    CHECK(files->front().devices == std::vector<std::string>{"tv-hd", "phone-hd"});
    CHECK(files->front().kind == Kind::remux);
    CHECK(files->back().devices == std::vector<std::string>{"tablet-basic"});
    files = large.decide({"tablet-basic", "tv-hd", "phone-hd"}, true);
    REQUIRE(files->size() == 1);
    CHECK(files->front().profile.video.largest.width == 1280);
    // HDR stays for those that show it.
    const Title hdr({ultra_hd(), audio(2, Codec::ac3, 6)});
    files = hdr.decide({"tv-uhd-2015", "tv-uhd-hdr", "stick-uhd", "tv-hd+receiver-optical"});
    REQUIRE(files->size() == 3);
    std::set<std::string> served;
    for (const FileDecision& file : *files) {
        for (const std::string& name : file.devices) CHECK(served.insert(name).second);
        const bool kept = file.profile.video.what == profile::VideoSettings::What::keep;
        CHECK(kept == (file.devices.front() == "tv-uhd-hdr"));
        if (kept) CHECK(file.devices.size() == 2);
    }
    CHECK(served.size() == 4);
    // Fewest, not first come: the first two share, but the first also goes with the last two.
    const Title wide({full_hd(), audio(2, Codec::ac3, 6)});
    CHECK(wide.decide({"stick-hd", "box-hd", "disc-player", "player-uhd"})->size() == 1);
}

TEST_CASE("surround goes to those that hear it, with stereo beside it for the others", "[decide]") {
    const Title title({full_hd(), audio(2, Codec::dts, 6)}, "mp4");
    auto files = title.decide({"stick-hd", "projector-hd"}, true);
    REQUIRE(files);
    const auto& kinds = files->front().profile.audio;
    REQUIRE(kinds.size() == 2);
    CHECK(kinds[0].codec == Codec::ac3);
    CHECK(kinds[0].channels == 6);
    CHECK(kinds[1].codec == Codec::aac);
    CHECK(kinds[1].channels == 2);
    // A receiver behind the television takes what the television can't.
    files = title.decide({"projector-hd+receiver-optical"});
    CHECK(of(files->front(), TrackKind::audio).action == Action::keep);
    // Of stereo there is nothing to add: one kind for both.
    const Title stereo({full_hd(), audio(2, Codec::lpcm, 2)});
    CHECK(stereo.decide({"stick-hd", "projector-hd"})->front().profile.audio.size() == 1);
}

TEST_CASE("subtitles that are needed are burned in, which a video that suits otherwise must be encoded for",
          "[decide]") {
    Track forced;
    forced.id = 5;
    forced.kind = TrackKind::subtitle;
    forced.codec = Codec::pgs;
    forced.language = "eng";
    forced.forced = true;
    Track other = forced;
    other.forced = false;
    const Title needed({full_hd(), audio(2, Codec::ac3, 6), forced});
    auto files = needed.decide({"stick-hd"});
    REQUIRE(files);
    CHECK(of(files->front(), TrackKind::video).action == Action::transcode);
    CHECK(convert::reason_of(of(files->front(), TrackKind::video)) == "forced subtitles are burned in");
    // Who can switch them on gets them as they are.
    CHECK(needed.decide({"disc-player"})->front().kind == Kind::remux);
    CHECK(needed.decide({"stick-hd"}, false, "none")->front().kind == Kind::remux);
    const Title perhaps({full_hd(), audio(2, Codec::ac3, 6), other});
    files = perhaps.decide({"stick-hd"});
    CHECK(files->front().kind == Kind::remux);
    CHECK(files->front().warnings.size() == 1);
    CHECK(of(perhaps.decide({"stick-hd"}, false, "en")->front(), TrackKind::video).action == Action::transcode);
    CHECK(perhaps.decide({"disc-player"})->front().warnings.empty());
    CHECK(perhaps.decide({"disc-player"})->front().profile.subtitles.keep_images);
}

TEST_CASE("titles and devices that nothing comes of are told", "[decide]") {
    const Title silent({audio(2, Codec::aac, 2)}, "mp4");
    CHECK(silent.decide({"tv-hd"}).error().kind == ErrorKind::input);
    const Title film({full_hd(), audio(2, Codec::aac, 2)}, "mp4");
    CHECK(film.decide({"receiver-optical"}).error().what.find("receiver-optical") != std::string::npos);
    CHECK(film.decide({"box-sd", "phone-hd"}, true).error().kind == ErrorKind::usage);
    CHECK(film.decide({"tv-hd"}, false, "forced", "fi").error().kind == ErrorKind::usage);
}

TEST_CASE("audio that a device plays in some containers only is remuxed, not encoded", "[decide]") {
    // Gecko plays FLAC in MP4, not in Matroska.
    const Title film({full_hd(), audio(2, Codec::flac, 2)}, "matroska");
    const auto files = film.decide({"browser-gecko"});
    REQUIRE(files);
    CHECK(files->front().kind == Kind::remux);
    REQUIRE(files->front().container.size() == 1);
    CHECK(files->front().container.front().check.measured == "FLAC in matroska");
    CHECK(files->front().profile.container == "mp4");
    CHECK(of(files->front(), TrackKind::audio).action == Action::keep);
    // Opus it plays in both.
    CHECK(Title({full_hd(), audio(2, Codec::opus, 2)}, "matroska").decide({"browser-gecko"})->front().kind ==
          Kind::as_it_is);
    CHECK(device::parse("name = \"x\"\n[plays]\ncontainers = [\"mp4\"]\n[[plays.audio]]\ncodec = \"flac\"\n"
                        "containers = [\"matroska\"]\n",
                        "d.toml")
              .error()
              .where.find("line 6") != std::string::npos);
}

TEST_CASE("a level that bits exceed counts as the one they need", "[decide]") {
    // Noise at 176x144 takes megabits; level 1 has 64 kbit/s.
    codec::VideoEncoderSettings settings;
    settings.width = 176;
    settings.height = 144;
    settings.frame_rate = {15, 1};
    settings.level = "1";
    settings.quality = 95;
    settings.effort = 1;
    settings.profile = "baseline";
    auto encoder = codec::make_video_encoder(settings);
    REQUIRE(encoder);
    TestTrack video;
    std::minstd_rand random(1);
    for (int i = 0; i < 60; ++i) {
        Picture picture = Picture::allocate(176, 144);
        for (int plane = 0; plane < 3; ++plane) {
            for (int y = 0; y < picture.plane_height(plane); ++y) {
                for (int x = 0; x < picture.plane_width(plane); ++x)
                    picture.row<std::uint8_t>(plane, y)[x] = static_cast<std::uint8_t>(16 + random() % 200);
            }
        }
        picture.pts = base::frames_to_time(i, settings.frame_rate);
        picture.duration = base::frames_to_time(1, settings.frame_rate);
        REQUIRE((*encoder)->encode(picture, video.packets));
    }
    REQUIRE((*encoder)->flush(video.packets));
    video.track = (*encoder)->track();
    video.track.id = 1;
    for (Packet& packet : video.packets) packet.track = 1;
    REQUIRE(video.track.level == "1");
    const TempDir dir;
    write_media(dir / "noise.mp4", "mp4", {video});
    const auto input = source::open_input((dir / "noise.mp4").string());
    REQUIRE(input);

    convert::Request request;
    request.profiles = {convert::usual_for_devices()};
    request.into = dir / "library";
    const auto with_level = [&](const std::string& level) {
        const auto device = device::parse(
            "name = \"old phone\"\n[plays]\ncontainers = [\"mp4\"]\nprotocols = [\"http\"]\n"
            "[[plays.video]]\ncodec = \"h264\"\nlevel = \"" +
                level + "\"\n[[plays.audio]]\ncodec = \"aac\"\nchannels = 2\n",
            "d.toml");
        REQUIRE(device);
        auto plans = convert::plan_for_devices(**input, request, {*device}, false);
        REQUIRE(plans);
        return plans->front().files.front();
    };
    const FileDecision small = with_level("1.1");
    CHECK(small.kind == Kind::transcode);
    CHECK(convert::reason_of(of(small, TrackKind::video)).find("level") != std::string::npos);
    REQUIRE_FALSE(small.warnings.empty());
    CHECK(small.warnings.back().find("level 1 declared, ") != std::string::npos);
    CHECK(with_level("4").kind == Kind::as_it_is);
}
