// What conversion takes of a disc: audio, subtitles, cadence, parts; decided before anything is done.
#include <catch2/catch.hpp>

#include <algorithm>

#include "convert/convert.hpp"
#include "support/discs.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;

namespace {

// A disc that exists only as its description.
class FakeInput : public source::Input {
  public:
    FakeInput() {
        source::Title title;
        title.main = true;
        title.duration = base::from_seconds(100);
        title.size_bytes = 50'000'000;
        Track video;
        video.id = 0xE0;
        video.codec = Codec::mpeg2;
        video.width = 720;
        video.height = 480;
        video.pixel_aspect = {32, 27};
        video.frame_rate = {24000, 1001};
        video.scan = Scan::pulldown;
        title.tracks.push_back(video);
        titles_.push_back(title);
    }
    source::Title& title() { return titles_.front(); }
    Track& add_audio(int id, Codec codec, int channels, const char* language, Purpose purpose = Purpose::main) {
        Track track;
        track.id = id;
        track.kind = TrackKind::audio;
        track.codec = codec;
        track.channels = channels;
        track.sample_rate = 48000;
        track.bit_depth = 16;
        track.language = language;
        track.purpose = purpose;
        title().tracks.push_back(track);
        return title().tracks.back();
    }
    void add_subtitles(int id, Codec codec, const char* language, bool forced, Purpose purpose = Purpose::main) {
        Track track;
        track.id = id;
        track.kind = TrackKind::subtitle;
        track.codec = codec;
        track.language = language;
        track.forced = forced;
        track.purpose = purpose;
        title().tracks.push_back(track);
    }

    std::string path() const override { return "fake"; }
    std::string container() const override { return "dvd-video"; }
    bool is_disc() const override { return true; }
    std::string name_hint() const override { return "FAKE_DISC"; }
    const std::vector<source::Title>& titles() const override { return titles_; }
    const std::vector<disc::Episode>& episodes() const override { return episodes_; }
    const std::vector<std::string>& notes() const override { return notes_; }
    Status check_protection(int) const override { return {}; }
    Result<std::vector<RatePiece>> rate(int) const override { return std::vector<RatePiece>{}; }
    Result<std::unique_ptr<PacketSource>> open(int, int) const override {
        return fail(ErrorKind::input, "nothing here", "fake", "use a disc");
    }
    std::vector<disc::Episode> episodes_;

  private:
    std::vector<source::Title> titles_;
    std::vector<std::string> notes_;
};

convert::Request request(const base::Path& into) {
    convert::Request r;
    r.profiles = {*profile::find("full-picture")};
    r.into = into;
    return r;
}

std::vector<TrackId> audio_of(const convert::Plan& plan) {
    std::vector<TrackId> ids;
    for (const auto& path : plan.graph.audio_encodes) ids.push_back(path.from.id);
    return ids;
}

}  // namespace

TEST_CASE("audio: the first that tells the story, or what was asked for", "[choice]") {
    const TempDir dir;
    FakeInput input;
    input.add_audio(0x83, Codec::ac3, 2, "en", Purpose::commentary);
    input.add_audio(0x80, Codec::ac3, 6, "en");
    input.add_audio(0x81, Codec::dts, 6, "de");
    input.add_audio(0x82, Codec::unknown, 2, "fr");  // can't be decoded
    auto r = request(dir.path());
    const auto plan = [&](const char* audio) {
        r.audio = audio;
        auto made = convert::make_plan(input, r);
        REQUIRE(made);
        return *made;
    };
    CHECK(audio_of(plan("first")) == std::vector<TrackId>{0x80});
    CHECK(audio_of(plan("all")) == std::vector<TrackId>{0x83, 0x80, 0x81});
    CHECK(audio_of(plan("none")).empty());
    CHECK(plan("none").warnings.empty());
    CHECK(audio_of(plan("de,en")) == std::vector<TrackId>{0x81, 0x80});
    CHECK(audio_of(plan("deu")) == std::vector<TrackId>{0x81});  // by any form of the code
    r.audio = "fr";
    CHECK(convert::make_plan(input, r).error().kind == ErrorKind::usage);
    const auto made = plan("first");
    CHECK(made.graph.audio_encodes[0].encode.bitrate_bps == 192'000);
    for (const auto& track : made.tracks) {
        if (track.from.id == 0x80) CHECK(track.why == "AC-3 to AAC stereo");
        if (track.from.id == 0x82) CHECK(track.why.find("unknown audio can't be decoded") != std::string::npos);
        // The number it is told by takes it.
        const std::size_t hint = track.why.find("--audio ");
        if (track.from.id != 0x83 && track.from.id != 0x81) continue;
        REQUIRE(hint != std::string::npos);
        const std::string number = track.why.substr(hint + 8, 1);
        CHECK(audio_of(plan(number.c_str())) == std::vector<TrackId>{track.from.id});
    }
    r.audio = "9";
    CHECK(convert::make_plan(input, r).error().kind == ErrorKind::usage);
}

TEST_CASE("audio: a commentary alone is better than silence, and silence is told", "[choice]") {
    const TempDir dir;
    FakeInput input;
    input.add_audio(0x80, Codec::ac3, 2, "en", Purpose::commentary);
    CHECK(audio_of(*convert::make_plan(input, request(dir.path()))) == std::vector<TrackId>{0x80});
    FakeInput silent;
    silent.add_audio(0x80, Codec::unknown, 2, "en");
    const auto plan = convert::make_plan(silent, request(dir.path()));
    REQUIRE(plan);
    CHECK(audio_of(*plan).empty());
    REQUIRE(plan->warnings.size() == 1);
    CHECK(plan->warnings[0].find("no audio") != std::string::npos);
}

TEST_CASE("subtitles: forced ones in the language that is heard", "[choice]") {
    const TempDir dir;
    FakeInput input;
    input.add_audio(0x80, Codec::ac3, 2, "en");
    input.add_audio(0x81, Codec::ac3, 2, "de");
    input.add_subtitles(0x20, Codec::dvd_subpicture, "en", false);
    input.add_subtitles(0x21, Codec::dvd_subpicture, "de", false);
    input.add_subtitles(0x22, Codec::dvd_subpicture, "en", true);
    input.add_subtitles(0x23, Codec::dvd_subpicture, "en", false, Purpose::commentary);
    auto r = request(dir.path());
    const auto subtitles = [&] {
        auto made = convert::make_plan(input, r);
        REQUIRE(made);
        return made->graph.chains[0].subtitles;
    };
    auto chosen = subtitles();
    REQUIRE(chosen.size() == 1);
    CHECK(chosen[0].from.id == 0x22);
    CHECK_FALSE(chosen[0].forced_only);
    r.audio = "de";  // no track made for it: what is marked in the full one
    chosen = subtitles();
    REQUIRE(chosen.size() == 1);
    CHECK(chosen[0].from.id == 0x21);
    CHECK(chosen[0].forced_only);
    r.subtitles = "none";
    CHECK(subtitles().empty());
    r.subtitles = "en";
    chosen = subtitles();
    REQUIRE(chosen.size() == 1);
    CHECK(chosen[0].from.id == 0x20);
    CHECK_FALSE(chosen[0].forced_only);
    r.subtitles = "sv";
    CHECK(convert::make_plan(input, r).error().remedy.find("--subtitles") != std::string::npos);
}

TEST_CASE("subtitles: of graphics tracks that don't say, all in the language are looked through", "[choice]") {
    const TempDir dir;
    FakeInput input;
    input.add_audio(0x1100, Codec::ac3, 2, "eng");
    input.add_subtitles(0x1200, Codec::pgs, "eng", false);
    input.add_subtitles(0x1201, Codec::pgs, "deu", false);
    input.add_subtitles(0x1202, Codec::pgs, "eng", false);
    const auto plan = convert::make_plan(input, request(dir.path()));
    REQUIRE(plan);
    REQUIRE(plan->graph.chains[0].subtitles.size() == 2);
    CHECK(plan->graph.chains[0].subtitles[1].from.id == 0x1202);
    CHECK(plan->graph.chains[0].subtitles[1].forced_only);
}

TEST_CASE("pictures that can't be decoded are refused by name", "[choice]") {
    const TempDir dir;
    FakeInput input;
    input.title().tracks.front().codec = Codec::vc1;
    const auto plan = convert::make_plan(input, request(dir.path()));
    REQUIRE_FALSE(plan);
    CHECK(plan.error().kind == ErrorKind::input);
    CHECK(plan.error().what.find("VC-1") != std::string::npos);
}

TEST_CASE("episodes get a series' names and numbers, parts their own chapters", "[choice]") {
    const TempDir dir;
    FakeInput input;
    for (int i = 0; i < 6; ++i) input.title().chapters.push_back({base::from_seconds(i * 16), "Chapter"});
    input.episodes_ = {{1, 1, 3, {}, base::from_seconds(48)},
                       {1, 4, 6, base::from_seconds(48), base::from_seconds(100)}};
    auto r = request(dir.path());
    r.pick = "episodes";
    r.season = 3;
    r.first_episode = 11;
    r.name = "Boathouse Stories (2021)";
    const auto plans = convert::make_plans(input, r);
    REQUIRE(plans);
    REQUIRE(plans->size() == 2);
    CHECK((*plans)[0].target() == dir / "Boathouse Stories (2021)/Season 03/Boathouse Stories (2021) - S03E11.mp4");
    CHECK((*plans)[1].target().filename() == "Boathouse Stories (2021) - S03E12.mp4");
    CHECK((*plans)[1].duration == base::from_seconds(52));
    REQUIRE((*plans)[1].chapters.size() == 3);
    CHECK((*plans)[1].chapters[0].start == Time{});
    CHECK((*plans)[1].chapters[2].start == base::from_seconds(32));
    CHECK((*plans)[0].source_bytes == 24'000'000);
    r.pick = "main";
    CHECK(convert::make_plan(input, r)->target() == dir / "Boathouse Stories (2021)/Boathouse Stories (2021).mp4");
    r.angle = 2;
    CHECK(convert::make_plan(input, r).error().what.find("angle 2") != std::string::npos);
}

TEST_CASE("interlaced titles: what they really are decides what is done", "[choice]") {
    const TempDir dir;
    const auto input = source::open_input(rich_dvd());
    REQUIRE(input);
    auto r = request(dir.path());
    const auto plan = [&](const char* pick) {
        r.pick = pick;
        auto made = convert::make_plan(**input, r);
        REQUIRE(made);
        return *made;
    };
    using TimeRange = filter::WholeFrames::TimeRange;
    using Rate = filter::Deinterlacer::Rate;
    const auto fields = [&](const char* pick) { return *plan(pick).graph.chains[0].fields; };
    CHECK(fields("1").first == TimeRange::matched);
    CHECK(fields("2").first == TimeRange::video);
    CHECK(fields("2").video == Rate::field);
    CHECK(plan("2").graph.video_encodes[0].encode.frame_rate == Ratio{60000, 1001});
    CHECK(fields("3").first == TimeRange::pulldown);
    CHECK(plan("3").graph.video_encodes[0].encode.frame_rate == Ratio{24000, 1001});
    r.profiles = {*profile::find("small-screen")};
    CHECK(fields("2").video == Rate::frame);
    CHECK(plan("2").graph.video_encodes[0].encode.frame_rate == Ratio{30000, 1001});
}
