#include <cmath>

#include "trial/messages.hpp"
#include "trial/step.hpp"

using namespace wavecrest;
using trial::Outcome;
using trial::Seen;
using trial::Step;

namespace {

Step step_of(Step::Kind kind, double rate = 30, double seconds = 4) {
    Step step;
    step.kind = kind;
    step.clip = sample::Clip{};
    step.clip->video = sample::ClipVideo{};
    step.clip->video->frame_rate = {static_cast<std::int64_t>(rate * 1000), 1000};
    step.clip->length = base::from_seconds(seconds);
    return step;
}

Seen played(double seconds = 4, int frames = 120, int dropped = 0) {
    Seen seen;
    seen.started = true;
    seen.played_s = seen.wall_s = seconds;
    seen.width = 1280, seen.height = 720;
    seen.frames = frames, seen.dropped = dropped;
    return seen;
}

// What a page sees of frames at a display's refreshes; of every so many-th frame the one before is shown.
std::vector<Seen::Mark> marks(double rate, double hz, double seconds, int drop_one_in = 0, double look_every = 1) {
    std::vector<Seen::Mark> all;
    for (double i = 0; i / hz < seconds; i += look_every) {
        int frame = static_cast<int>(i / hz * rate + 1e-6);
        if (drop_one_in > 0 && frame % drop_one_in == drop_one_in - 1) --frame;
        all.push_back({i / hz, frame});
    }
    return all;
}

}  // namespace

TEST_CASE("what a page saw of a clip is judged by frames, waits and errors", "[trial]") {
    const Step step = step_of(Step::Kind::play);
    CHECK(judge(step, played(), 60).outcome == Outcome::played);
    CHECK(judge(step, played(4, 120, 3), 60).outcome == Outcome::played);
    CHECK(judge(step, played(4, 120, 12), 60).outcome == Outcome::stutters);
    CHECK(judge(step, played(1), 60).outcome == Outcome::failed);
    CHECK(judge(step, {}, 60).outcome == Outcome::failed);
    Seen seen = played();
    seen.waits = 2;
    seen.waited_s = 1.5;
    CHECK(judge(step, seen, 60).outcome == Outcome::stutters);
    CHECK(judge(step, seen, 60).seen == "stood still 2 times for 1.5 s");
    seen = played();
    seen.wall_s = 6;  // slow motion
    CHECK(judge(step, seen, 60).outcome == Outcome::stutters);
    seen = played();
    seen.width = 0;  // audio goes on, without the video
    CHECK(judge(step, seen, 60).outcome == Outcome::failed);
    seen = played();
    seen.error = "can't be decoded";
    CHECK(judge(step, seen, 60).outcome == Outcome::failed);
    // A browser that counts nothing says nothing.
    seen = played(4, -1, -1);
    CHECK(judge(step, seen, 60).outcome == Outcome::unclear);
    seen.presented = 118;
    CHECK(judge(step, seen, 60).outcome == Outcome::played);
    seen.presented = 60;
    CHECK(judge(step, seen, 60).outcome == Outcome::stutters);
    // Half of the frames counts as all on a display of 30 Hz.
    const Step fast = step_of(Step::Kind::play, 60);
    seen.presented = 118;
    CHECK(judge(fast, seen, 30).outcome == Outcome::played);
    CHECK(judge(fast, seen, 60).outcome == Outcome::stutters);
}

TEST_CASE("audio is judged by what was heard, else by what was decoded", "[trial]") {
    Step step = step_of(Step::Kind::play);
    step.clip->video.reset();
    step.clip->audio = sample::ClipAudio{Codec::aac, 6};
    Seen seen = played();
    CHECK(judge(step, seen, 60).outcome == Outcome::unclear);
    seen.audio_bytes = 40000;
    CHECK(judge(step, seen, 60).outcome == Outcome::played);
    seen.audio_bytes = 0;
    CHECK(judge(step, seen, 60).outcome == Outcome::failed);
    seen.levels = {0.3, 0.3, 0.3, 0.04, 0.04, 0.04};
    CHECK(judge(step, seen, 60).seen == "6 channels heard");
    seen.levels = {0.3, 0.3, 0, 0, 0, 0};
    CHECK(judge(step, seen, 60).outcome == Outcome::played);
    CHECK(judge(step, seen, 60).seen == "heard, mixed to 2 channels");
}

TEST_CASE("frames that are missing from a clip are noticed, those that a page didn't look at aren't", "[trial]") {
    for (const double rate : {24.0, 25.0, 30.0, 50.0, 60.0}) {
        INFO(rate);
        const trial::Motion motion = trial::judge_motion(marks(rate, 60, 4), rate, 60);
        CHECK(motion.readable);
        CHECK(motion.missing == 0);
        CHECK(motion.unseen == 0);
        CHECK(motion.backwards == 0);
        CHECK(motion.uneven_s < 0.009);  // half a refresh
    }
    const trial::Motion spoilt = trial::judge_motion(marks(30, 60, 4, 10), 30, 60);
    CHECK(spoilt.missing == 11);  // of 0 to 118
    Step step = step_of(Step::Kind::motion);
    Seen seen = played();
    seen.marks = marks(30, 60, 4, 10);
    CHECK(judge(step, seen, 60).outcome == Outcome::stutters);
    // A page that looks at every fourth refresh: what it missed isn't the device's.
    seen.marks = marks(60, 60, 4, 0, 4);
    const trial::Motion slow = trial::judge_motion(seen.marks, 60, 60);
    CHECK(slow.missing == 0);
    CHECK(slow.unseen > 150);
    CHECK(judge(step_of(Step::Kind::motion, 60), played(4, 240, 0), 60).outcome == Outcome::played);
    // One frame behind its successor.
    seen.marks = marks(30, 60, 4);
    std::swap(seen.marks[80], seen.marks[82]);
    CHECK(judge(step, seen, 60).outcome == Outcome::stutters);
    // Nothing can be read: the counts decide.
    for (Seen::Mark& mark : seen.marks) mark.frame = -1;
    CHECK(judge(step, seen, 60).outcome == Outcome::played);
}

TEST_CASE("how much later the beep is heard than the flash is seen", "[trial]") {
    Seen seen = played(8, 240);
    seen.marks = marks(30, 60, 8);
    for (int flash = 0; flash < 240; flash += 24) seen.beeps.push_back(flash / 30.0 + 0.3);
    const auto late = trial::audio_lateness(seen, 30);
    REQUIRE(late);
    CHECK(*late == Approx(0.3).margin(0.001));
    const Step step = step_of(Step::Kind::sync, 30, 8);
    CHECK(judge(step, seen, 60).outcome == Outcome::stutters);
    CHECK(judge(step, seen, 60).seen == "audio 300 ms later than the video");
    for (double& beep : seen.beeps) beep -= 0.32;
    CHECK(judge(step, seen, 60).outcome == Outcome::played);
    seen.beeps.clear();
    CHECK(judge(step, seen, 60).outcome == Outcome::unclear);
}

TEST_CASE("a seek is judged by where it lands and by the frame that is shown", "[trial]") {
    const Step step = step_of(Step::Kind::seek, 25, 30);
    Seen seen;
    CHECK(judge(step, seen, 60).outcome == Outcome::failed);
    seen.seeks = {{20, 0.2, 20.0, 500}, {5, 0.4, 5.1, 126}};
    CHECK(judge(step, seen, 60).outcome == Outcome::played);
    seen.seeks.push_back({26, 0.2, 26, 100});  // says so, but shows another frame
    CHECK(judge(step, seen, 60).outcome == Outcome::failed);
    seen.seeks.back() = {26, -1, 5, -1};
    CHECK(judge(step, seen, 60).outcome == Outcome::failed);
}

TEST_CASE("the speed of a download leaves out its beginning and knows its slowest second", "[trial]") {
    Seen seen;
    CHECK(!trial::download_speed(seen));
    double bytes = 0;
    for (int i = 1; i <= 40; ++i) {
        bytes += i <= 4 ? 1000 : i > 20 && i <= 30 ? 125'000 : 1'250'000;  // 100 Mbit/s, a second of 10 Mbit/s
        seen.downloaded.emplace_back(i * 0.1, bytes);
    }
    const auto speed = trial::download_speed(seen);
    REQUIRE(speed);
    CHECK(speed->slowest_bps == Approx(10e6).epsilon(0.01));
    CHECK(speed->mean_bps == Approx(74e6).epsilon(0.03));
}

TEST_CASE("what a browser says of a clip's size and rate is kept beside what it says of its type", "[trial]") {
    const auto seen = [](const std::string& capabilities) {
        return trial::parse_message(R"({"seen":{"says":"probably","capabilities":)" + capabilities + "}}").seen;
    };
    const trial::Seen smooth = seen(R"({"supported":true,"smooth":true,"powerEfficient":true})");
    CHECK(trial::claim_text(smooth) == "probably, smooth, power-efficient");
    CHECK(trial::claim_text(seen(R"({"supported":true,"smooth":false})")) == "probably, not smooth");
    CHECK(trial::claim_text(seen(R"({"supported":false,"smooth":true})")) == "probably, not supported");
    CHECK(trial::claim_text(seen("7")) == "probably");
    CHECK(trial::claim_text({}).empty());
    // A test that is taken up again knows it.
    CHECK(trial::claim_text(trial::parse_seen(trial::seen_text(smooth))) == "probably, smooth, power-efficient");
}

TEST_CASE("what a page sends is bounded, whatever it is", "[trial]") {
    for (const char* text :
         {"", "x", "[]", "null", "{\"seen\":[]}", "{\"session\":5,\"step\":{},\"seen\":{\"frames\":\"many\"}}",
          "{\"seen\":{\"marks\":[[1],[],5,[\"a\",\"b\"]],\"levels\":[\"x\"],\"seeks\":[[1,2,3]],\"claims\":[[1,2]]}"
          "}"}) {
        INFO(text);
        const trial::Message message = trial::parse_message(text);
        CHECK(message.session.empty());
        CHECK(message.seen.frames == -1);
    }
    const trial::Message lies = trial::parse_message(
        R"({"session":"0123456789abcdef0123456789abcdef","step":"h264/480p30","seen":{"frames":1e300,"dropped":-5,
            "played_s":1e9,"startup_s":-1,"width":1e9,"display_hz":1e9,"says":"certainly","error":"\u001b[2Jgone",
            "downloaded":[[1,10],[0.5,20],[2,5],[3,30]],"waits":1e99}})");
    CHECK(lies.session == "0123456789abcdef0123456789abcdef");
    CHECK(lies.seen.frames == -1);
    CHECK(lies.seen.dropped == -1);
    CHECK(lies.seen.played_s == 0);
    CHECK(lies.seen.startup_s == 0);
    CHECK(lies.seen.width == 0);
    CHECK(lies.seen.display_hz == 0);
    CHECK(lies.seen.says.empty());
    CHECK_FALSE(lies.seen.capabilities);
    CHECK(lies.seen.waits == 0);
    CHECK(lies.seen.error == "\\x1b[2Jgone");
    CHECK(lies.seen.downloaded.size() == 2);
    // Sessions of others aren't written like that.
    for (const char* id : {"../../../../etc/passwd0000000000", "0123456789ABCDEF0123456789ABCDEF", "short"})
        CHECK(trial::parse_message(std::string("{\"session\":\"") + id + "\"}").session.empty());
    std::string many = "{\"seen\":{\"marks\":[";
    for (int i = 0; i < 5000; ++i) many += i == 0 ? "[1,2]" : ",[1,2]";
    CHECK(trial::parse_message(many + "]}}").seen.marks.size() <= 1500);
    std::string deep(60000, '[');
    CHECK(trial::parse_message("{\"seen\":" + deep).session.empty());
    // What is kept reads back as it was.
    const Seen again = trial::parse_seen(trial::seen_text(lies.seen));
    CHECK(again.error == lies.seen.error);
    CHECK(again.downloaded == lies.seen.downloaded);
}
