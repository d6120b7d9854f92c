// Several conversions as jobs: a shelf with everything bad on it, killed and stopped programs, what passes and what
// does not.
#include <signal.h>

#include <catch2/catch.hpp>
#include <chrono>
#include <ctime>
#include <nlohmann/json.hpp>
#include <thread>

#include "support/clips.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
using namespace std::chrono_literals;
using Json = nlohmann::json;

namespace {

// A machine with a list of jobs of its own, a shelf with two small films, and a quick profile.
struct House {
    TempDir dir;
    explicit House(int frames = 60, int effort = 1) {
        write_all(dir / "quick.toml", "name = \"quick\"\n[video]\neffort = " + std::to_string(effort) + "\n");
        std::filesystem::create_directories(dir / "shelf");
        write_media(dir / "shelf" / "Boats (2020).mkv", "matroska",
                    {video_track(Codec::h264, frames), audio_track(Codec::aac, 2)});
        write_media(dir / "shelf" / "Nets.mp4", "mp4",
                    {video_track(Codec::h264, frames + 1), audio_track(Codec::aac, 2)});
        std::filesystem::remove(base::Path(std::getenv("XDG_STATE_HOME")) / "wavecrest" / "jobs.db");
    }
    Ran run(const std::vector<std::string>& arguments) const { return run_program(arguments, dir.path()); }
    Ran convert(std::vector<std::string> arguments, const std::string& into = "library") const {
        arguments.insert(arguments.begin(), "convert");
        arguments.insert(arguments.end(), {"--into", into, "--profile", "quick.toml"});
        return run(arguments);
    }
    Json jobs() const { return json_of(run({"job", "list", "--json"}))["jobs"]; }
};

}  // namespace

TEST_CASE("a shelf with everything bad on it: the rest is done, each failure is a line and a job", "[cli][job]") {
    const House house;
    const base::Path shelf = house.dir / "shelf";
    std::filesystem::create_directories(shelf / "copy");
    std::filesystem::copy(shelf / "Nets.mp4", shelf / "copy" / "Nets again.mp4");
    std::filesystem::create_directories(shelf / "Broken" / "VIDEO_TS");
    write_all(shelf / "Broken" / "VIDEO_TS" / "VIDEO_TS.IFO", std::string(4000, 'q'));
    std::filesystem::create_directories(shelf / "papers");
    write_all(shelf / "papers" / "list.txt", std::string("x"));
    std::filesystem::create_directories(shelf / "nothing");
    write_all(shelf / "disc.iso", std::string(70'000, 'z'));
    write_all(shelf / "none.mkv", std::string());
    // Another film of the same name.
    std::filesystem::create_directories(shelf / "other");
    write_media(shelf / "other" / "Boats (2020).mkv", "matroska", {video_track(Codec::h264, 30)});
    const Ran plan = house.convert({"shelf", "--plan", "--json"});
    INFO(plan.err);
    CHECK(plan.status == 0);
    const Json planned = json_of(plan);
    CHECK(planned["total"]["convert"] == 2);
    CHECK(planned["total"]["not_converted"] == 7);
    CHECK(planned["total"]["fits"] == true);
    CHECK_FALSE(std::filesystem::exists(house.dir / "library"));
    CHECK(house.jobs().empty());
    const Ran done = house.convert({"shelf"});
    INFO(done.out << done.err);
    CHECK(done.status == 6);
    CHECK(std::filesystem::exists(house.dir / "library/Boats (2020)/Boats (2020).mp4"));
    CHECK(std::filesystem::exists(house.dir / "library/Nets/Nets.mp4"));
    CHECK(done.err.find("duplicate of") != std::string::npos);
    int failed = 0, finished = 0;
    for (const Json& one : house.jobs()) {
        failed += one["state"] == "failed" ? 1 : 0;
        finished += one["state"] == "done" ? 1 : 0;
        if (one["state"] == "failed") CHECK_FALSE(one["error"]["what"].get<std::string>().empty());
    }
    CHECK(finished == 2);
    CHECK(failed == 4);
    // Sizes come out as they were told.
    std::uintmax_t bytes = 0;
    for (const char* film : {"library/Boats (2020)/Boats (2020).mp4", "library/Nets/Nets.mp4"})
        bytes += std::filesystem::file_size(house.dir / film);
    CHECK(planned["total"]["size_bytes"].get<double>() == Approx(static_cast<double>(bytes)).epsilon(0.15));
    // Once more: nothing is done twice, and nothing that failed for good is tried again.
    const Ran again = house.convert({"shelf"});
    CHECK(again.status == 6);
    CHECK(again.err.find("already converted") != std::string::npos);
    CHECK(again.err.find("failed before") != std::string::npos);
    CHECK(house.jobs().size() == 6);
    CHECK(house.run({"job", "show", "1"}).status == 0);
    CHECK(house.run({"job", "show", "77"}).status == 2);
    CHECK(house.run({"job", "list", "--state", "lost"}).status == 2);
}

TEST_CASE("a killed conversion waits again and is taken up, to the same bytes", "[cli][job]") {
    const House house(120, 8);
    CHECK(house.convert({"shelf", "--queue"}).status == 0);
    const auto running = [&] {
        for (const Json& one : house.jobs()) {
            if (one["state"] == "running") return true;
        }
        return false;
    };
    for (int i = 0; i < 3; ++i) {
        Background work({"job", "run", "-q"}, house.dir.path());
        for (int k = 0; k < 200 && !running(); ++k) std::this_thread::sleep_for(5ms);
        std::this_thread::sleep_for(std::chrono::milliseconds(30 * i));
        ::kill(work.worker(), SIGKILL);
        CHECK(work.end(0) == 128 + SIGKILL);
        CHECK_FALSE(running());
    }
    {
        // What converts doesn't outlive the command.
        Background work({"job", "run", "-q"}, house.dir.path());
        for (int k = 0; k < 200 && !running(); ++k) std::this_thread::sleep_for(5ms);
        work.end(SIGKILL);
        for (int k = 0; k < 200 && running(); ++k) std::this_thread::sleep_for(50ms);
        CHECK_FALSE(running());
    }
    CHECK(house.run({"job", "run", "-q"}).status == 0);
    const Json jobs = house.jobs();
    REQUIRE(jobs.size() == 2);
    for (const Json& one : jobs) CHECK(one["state"] == "done");
    // (What is young may be somebody's who hasn't locked it yet: such a part is left to the next run.)
    CHECK(house.convert({"shelf/Nets.mp4"}, "once").status == 0);
    const bool same = read_all(house.dir / "library/Nets/Nets.mp4") == read_all(house.dir / "once/Nets/Nets.mp4");
    CHECK(same);
    CHECK(house.jobs().size() == 3);  // single conversions are in the list, too
}

TEST_CASE("a running job is stopped from elsewhere, an interrupted one waits", "[cli][job]") {
    const House house(240, 9);
    CHECK(house.convert({"shelf/Nets.mp4", "--queue"}).status == 0);
    const auto state = [&] { return house.jobs()[0]["state"].get<std::string>(); };
    const auto begun = [&] {
        for (int k = 0; k < 400 && state() != "running"; ++k) std::this_thread::sleep_for(5ms);
        return state() == "running";
    };
    {
        Background work({"job", "run", "-q"}, house.dir.path());
        REQUIRE(begun());
        const Ran stopped = house.run({"job", "stop", "1", "--json"});
        CHECK(json_of(stopped)["state"] == "stopped");
    }
    CHECK(house.run({"job", "run", "-q"}).out.find("No job is due") != std::string::npos);
    CHECK(house.run({"job", "retry", "1"}).status == 0);
    {
        Background work({"job", "run", "-q"}, house.dir.path());
        REQUIRE(begun());
        CHECK(work.end(SIGINT) == 130);
    }
    CHECK(state() == "waiting");
    for (const std::string& name : house.dir.files()) CHECK_FALSE(name.ends_with(".part"));
    CHECK(house.run({"job", "stop", "1"}).status == 0);
    CHECK(state() == "stopped");
    CHECK(house.run({"job", "service"}).out.find("job run --wait") != std::string::npos);
}

TEST_CASE("a source that is gone is waited for", "[cli][job]") {
    const House house;
    CHECK(house.convert({"shelf/Nets.mp4", "--queue"}).status == 0);
    std::filesystem::rename(house.dir / "shelf/Nets.mp4", house.dir / "away.mp4");
    CHECK(house.run({"job", "run"}).status == 6);
    Json job = house.jobs()[0];
    CHECK(job["state"] == "waiting");
    CHECK(job["next_try"].get<std::int64_t>() > job["ended"].get<std::int64_t>());
    CHECK(house.run({"job", "run"}).status == 0);  // not due yet
    std::filesystem::rename(house.dir / "away.mp4", house.dir / "shelf/Nets.mp4");
    CHECK(house.run({"job", "retry", "1"}).status == 0);
    CHECK(house.run({"job", "run", "-q"}).status == 0);
    job = house.jobs()[0];
    CHECK(job["state"] == "done");
    CHECK(job["tries"] == 2);
    // What can't be given to several.
    CHECK(house.run({"convert", "shelf", "--into", "x", "--subtitle-file", "x.srt"}).status == 2);
}

TEST_CASE("a conversion waits for its hours, and ends at once when asked to", "[cli][job]") {
    const House house;
    // Two hours from now, for one.
    const std::time_t later = std::time(nullptr) + 2 * 3600;
    std::tm local{};
    ::localtime_r(&later, &local);
    const std::string hours = std::to_string(local.tm_hour) + ":00-" + std::to_string((local.tm_hour + 1) % 24) + ":00";
    {
        Background waiting(
            {"convert", "shelf/Nets.mp4", "--into", "library", "--profile", "quick.toml", "--nice", hours},
            house.dir.path());
        for (int i = 0; i < 100 && !std::filesystem::exists(house.dir / "library"); ++i)
            std::this_thread::sleep_for(50ms);
        std::this_thread::sleep_for(500ms);
        CHECK_FALSE(std::filesystem::exists(house.dir / "library" / "Nets" / "Nets.mp4"));
        CHECK(waiting.end(SIGINT) == 130);
    }
    CHECK_FALSE(std::filesystem::exists(house.dir / "library"));
    CHECK(house.run({"convert", "shelf/Nets.mp4", "--into", "library", "--nice", "noon"}).status == 2);
    CHECK(house.run({"job", "run", "--nice", "0 %"}).status == 2);
    const Ran unit = house.run({"job", "service", "--nice", hours + ", 50 %"});
    CHECK(unit.out.find("job run --wait --quiet --nice \"" + hours + ", 50 %%\"") != std::string::npos);
    CHECK(house.convert({"shelf/Nets.mp4", "--nice", "90 %"}).status == 0);
}

TEST_CASE("remuxes are jobs: of a shelf, queued, listed, not done twice", "[cli][job]") {
    const House house;
    const auto remux = [&](std::vector<std::string> arguments) {
        arguments.insert(arguments.begin(), "convert");
        arguments.insert(arguments.end(), {"--into", "library", "--remux", "mkv"});
        return house.run(arguments);
    };
    const Json plan = json_of(remux({"shelf", "--plan", "--json"}));
    CHECK(plan["total"]["convert"] == 2);
    // About what the sources hold.
    const double sources = plan["total"]["source_bytes"], told = plan["total"]["size_bytes"];
    CHECK(told > sources * 0.8);
    CHECK(told < sources * 1.1);
    const Ran queued = remux({"shelf", "--queue"});
    INFO(queued.err);
    REQUIRE(queued.status == 0);
    CHECK(house.jobs()[0]["state"] == "waiting");
    CHECK(house.jobs()[0]["for"] == "remux to matroska");
    const Ran ran = house.run({"job", "run"});
    INFO(ran.err);
    CHECK(ran.status == 0);
    const Json jobs = house.jobs();
    REQUIRE(jobs.size() == 2);
    for (const Json& job : jobs) CHECK(job["state"] == "done");
    const base::Path made = house.dir / "library" / "Boats (2020)" / "Boats (2020).mkv";
    const auto before = read_media(house.dir / "shelf" / "Boats (2020).mkv"), after = read_media(made);
    REQUIRE(after.size() == before.size());
    for (std::size_t i = 0; i < after.size(); ++i) CHECK(payload_of(after[i]) == payload_of(before[i]));
    CHECK(remux({"shelf"}).out.find("Nothing to convert") != std::string::npos);
    // One alone is a job, too; so is a cut, which is another.
    CHECK(house.run({"convert", "shelf/Nets.mp4", "--into", "cuts", "--remux", "mkv", "--cut", "1-"}).status == 0);
    CHECK(house.jobs().size() == 3);
    CHECK(house.jobs()[2]["for"] == "remux to matroska, 1-");
    for (const std::vector<std::string>& wrong : {std::vector<std::string>{"--remux", "doc"},
                                                  {"--cut", "1-"},
                                                  {"--remux", "mp4", "--cut", "x"},
                                                  {"--remux", "mp4", "--profile", "quick.toml"},
                                                  {"--remux", "mp4", "--device", "tv-hd"}}) {
        std::vector<std::string> arguments = {"convert", "shelf", "--into", "library"};
        arguments.insert(arguments.end(), wrong.begin(), wrong.end());
        CHECK(house.run(arguments).status == 2);
    }
}

TEST_CASE("films are converted as they arrive, each when its copy is complete", "[job][cli][waits]") {
    const TempDir dir;
    std::filesystem::create_directory(dir / "rips");
    const Ran inside = run_program({"convert", "rips", "--watch", "--into", "rips/out"}, dir.path());
    CHECK(inside.status == 2);
    CHECK(inside.err.find("beside it") != std::string::npos);
    CHECK(run_program({"convert", "rips", "--watch", "--plan", "--into", "out"}, dir.path()).status == 2);
    Background watching({"convert", "rips", "--into", "library", "--remux", "matroska", "--watch", "--rest", "600 ms"},
                        dir.path());
    REQUIRE(watching.has_written("watching rips"));
    const ByteVector film = read_all(sample_film());
    const base::Path copy = dir / "rips" / "Ferry to Cedar Landing (2021).mp4";
    write_all(copy, ByteSpan(film).subspan(0, film.size() / 2));
    std::this_thread::sleep_for(std::chrono::milliseconds(300));
    write_all(copy, ByteSpan(film));
    const base::Path made = dir / "library/Ferry to Cedar Landing (2021)/Ferry to Cedar Landing (2021).mkv";
    for (int i = 0; i < 200 && !std::filesystem::exists(made); ++i)
        std::this_thread::sleep_for(std::chrono::milliseconds(50));
    INFO(watching.output());
    REQUIRE(std::filesystem::exists(made));
    write_all(dir / "rips" / "broken.mp4", std::string("no film"));
    CHECK(watching.has_written("it is taken when it was mended"));
    CHECK(watching.end(SIGINT) == 0);
    CHECK(dir.files().size() >= 3);
}
