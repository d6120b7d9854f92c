// Conversions that are killed or interrupted go on where they were, to the same bytes.
#include <signal.h>
#include <sys/wait.h>
#include <unistd.h>

#include <catch2/catch.hpp>
#include <chrono>
#include <random>
#include <thread>

#include "convert/convert.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;

namespace {

// The sample film in pieces of two seconds, in two sizes.
Result<convert::Plan> plan_into(const source::Input& input, const base::Path& into) {
    convert::Request request;
    for (const char* text : {"name = \"a\"\n[video]\neffort = 3\nmax_size = \"320x180\"\n",
                             "name = \"b\"\ncontainer = \"matroska\"\n"
                             "[video]\neffort = 1\nmax_size = \"160x90\"\n"}) {
        auto profile = profile::parse(text, "p.toml");
        WAVECREST_TRY(profile);
        request.profiles.push_back(std::move(*profile));
    }
    request.into = into;
    request.name = "Lake (2021)";
    WAVECREST_TRY_ASSIGN(plan, convert::make_plan(input, request));
    plan.piece_length = base::from_seconds(2);
    plan.record = false;  // it tells the time
    return plan;
}

std::vector<base::Path> files_in(const base::Path& folder) {
    std::vector<base::Path> files;
    for (const auto& entry : std::filesystem::recursive_directory_iterator(folder)) {
        if (entry.is_regular_file()) files.push_back(entry.path().lexically_relative(folder));
    }
    std::sort(files.begin(), files.end());
    return files;
}

// Both folders hold the same files, and nothing else.
bool same_folders(const base::Path& a, const base::Path& b) {
    const auto files = files_in(a);
    return files == files_in(b) && std::all_of(files.begin(), files.end(), [&](const base::Path& file) {
               return read_all(a / file) == read_all(b / file);
           });
}

}  // namespace

TEST_CASE("a conversion that is killed again and again gives the same bytes", "[convert]") {
    const TempDir dir;
    const auto input = source::open_input(sample_disc());
    REQUIRE(input);
    const Cancel cancel;
    const auto whole = convert::run(**input, plan_into(**input, dir / "whole").value(), {}, cancel);
    if (!whole) FAIL(whole.error().what << " (" << whole.error().where << ")");
    std::mt19937 random(5);
    int killed = 0;
    bool ended = false;
    for (int round = 0; round < 14 && !ended; ++round) {
        const pid_t child = ::fork();
        if (child == 0) {
            const auto plan = plan_into(**input, dir / "killed");
            const auto outcome = plan ? convert::run(**input, *plan, {}, cancel) : fail(plan.error());
            if (!outcome)
                std::fprintf(stderr, "%s (%s)\n", outcome.error().what.c_str(), outcome.error().where.c_str());
            ::_exit(outcome ? 0 : 1);
        }
        std::this_thread::sleep_for(std::chrono::milliseconds(100 + random() % 600));
        ::kill(child, SIGKILL);
        int status = 0;
        ::waitpid(child, &status, 0);
        killed += WIFSIGNALED(status) ? 1 : 0;
        ended = WIFEXITED(status);
        if (ended) CHECK(WEXITSTATUS(status) == 0);
    }
    CAPTURE(killed);
    if (!ended) {
        const auto rest = convert::run(**input, plan_into(**input, dir / "killed").value(), {}, cancel);
        if (!rest) FAIL(rest.error().what << " (" << rest.error().where << ")");
    }
    for (const auto& entry : std::filesystem::recursive_directory_iterator(dir / "killed")) {
        // (What was killed a moment before another began may lie there a little longer.)
        if (entry.path().extension() == ".part") std::filesystem::remove(entry.path());
    }
    CHECK(same_folders(dir / "whole", dir / "killed"));
}

TEST_CASE("a conversion that is interrupted is gone on with, and says so", "[convert]") {
    const TempDir dir;
    const auto input = source::open_input(sample_disc());
    REQUIRE(input);
    Cancel never;
    REQUIRE(convert::run(**input, plan_into(**input, dir / "whole").value(), {}, never));
    Cancel cancel;
    const Progress until_half = [&](const ProgressState& state) {
        if (state.done > base::from_seconds(7)) cancel.request();
    };
    const auto half = convert::run(**input, plan_into(**input, dir / "again").value(), until_half, cancel);
    REQUIRE_FALSE(half);
    CHECK(half.error().kind == ErrorKind::interrupted);
    CHECK(half.error().remedy.find("goes on from about 0:06") != std::string::npos);
    CHECK_FALSE(std::filesystem::exists(dir / "again" / "Lake (2021)" / "Lake (2021).mp4"));
    Time kept{};
    const auto rest = convert::run(
        **input, plan_into(**input, dir / "again").value(), [&](const ProgressState& state) { kept = state.kept; },
        never);
    REQUIRE(rest);
    CHECK(rest->kept >= base::from_seconds(4));
    CHECK(kept == rest->kept);
    CHECK(same_folders(dir / "whole", dir / "again"));

    // Before the first piece is whole nothing stays.
    Cancel at_once;
    at_once.request();
    REQUIRE_FALSE(convert::run(**input, plan_into(**input, dir / "none").value(), {}, at_once));
    CHECK_FALSE(std::filesystem::exists(dir / "none"));
}

TEST_CASE("a file that was finished before the others stays as it is", "[convert]") {
    const TempDir dir;
    const auto input = source::open_input(sample_disc());
    REQUIRE(input);
    const Cancel cancel;
    REQUIRE(convert::run(**input, plan_into(**input, dir / "whole").value(), {}, cancel));
    // The second can't get its name.
    const base::Path film = dir / "again" / "Lake (2021)", intruder = film / "Lake (2021) - b.mkv";
    const Progress put_there = [&](const ProgressState&) {
        if (!std::filesystem::exists(intruder)) write_all(intruder, std::string("mine"));
    };
    const auto plan = plan_into(**input, dir / "again").value();
    const auto half = convert::run(**input, plan, put_there, cancel);
    REQUIRE_FALSE(half);
    CHECK(half.error().where == intruder.string());
    CHECK(read_text(intruder) == "mine");
    const auto first_written = std::filesystem::last_write_time(film / "Lake (2021).mp4");
    CHECK_FALSE(plan_into(**input, dir / "again"));
    std::filesystem::remove(intruder);
    const auto rest = plan_into(**input, dir / "again");
    REQUIRE(rest);
    CHECK(convert::run(**input, *rest, {}, cancel));
    CHECK(std::filesystem::last_write_time(film / "Lake (2021).mp4") == first_written);
    CHECK(same_folders(dir / "whole", dir / "again"));
}

TEST_CASE("of several titles those that were made before are not made again", "[convert]") {
    const TempDir dir;
    const auto input = source::open_input(sample_disc());
    REQUIRE(input);
    const Cancel cancel;
    convert::Request request;
    request.profiles = {*profile::parse("name = \"a\"\n[video]\neffort = 1\nmax_size = \"160x90\"\n", "p.toml")};
    request.into = dir / "library";
    request.extras = true;
    const auto plans = convert::make_plans(**input, request);
    REQUIRE(plans);
    REQUIRE(plans->size() == 2);
    const base::Path film = plans->front().target(), extra = plans->back().target();
    CHECK(extra == film.parent_path() / "extras" / "Sample Film - title 2.mp4");
    REQUIRE(convert::run(**input, plans->back(), {}, cancel));
    // The extra is there, with its record: only the film is left.
    const auto rest = convert::make_plans(**input, request);
    REQUIRE(rest);
    REQUIRE(rest->size() == 1);
    CHECK(rest->front().target() == film);
    // Made in another way it is in the way.
    convert::Request other = request;
    other.profiles.front().video.quality = 50;
    CHECK_FALSE(convert::make_plans(**input, other));
    REQUIRE(convert::run(**input, rest->front(), {}, cancel));
    const auto none = convert::make_plans(**input, request);
    REQUIRE_FALSE(none);
    CHECK(none.error().where == film.string());
    // So is one whose record is gone, or rubbish, and a file that isn't the one recorded.
    std::filesystem::remove(film);
    base::Path record = extra;
    record += ".record.json";
    const ByteVector told = read_all(record);
    for (const char* text : {"", "{", "[]", "{\"source\": 3}", "{\"source\": {}, \"size_bytes\": \"x\"}"}) {
        write_all(record, std::string(text));
        CHECK_FALSE(convert::make_plans(**input, request));
    }
    write_all(record, told);
    CHECK(convert::make_plans(**input, request));
    write_all(extra, std::string("something else"));
    CHECK_FALSE(convert::make_plans(**input, request));
}

TEST_CASE("the first of two passes is kept", "[convert]") {
    const TempDir dir;
    const auto input = source::open_input(sample_disc());
    REQUIRE(input);
    const auto plan_for = [&](const base::Path& into) {
        convert::Request request;
        request.profiles = {*profile::parse(
            "name = \"a\"\n[video]\neffort = 1\nmax_size = \"160x90\"\nbitrate = \"200 kbit/s\"\n", "p.toml")};
        request.into = into;
        request.name = "Lake (2021)";
        auto plan = convert::make_plan(**input, request).value();
        plan.piece_length = base::from_seconds(2);
        plan.record = false;
        return plan;
    };
    Cancel never;
    REQUIRE(convert::run(**input, plan_for(dir / "whole"), {}, never));
    // Stopped in the second pass.
    Cancel cancel;
    const auto half = convert::run(
        **input, plan_for(dir / "again"),
        [&](const ProgressState& state) {
            if (state.done > state.total * 3 / 4) cancel.request();
        },
        cancel);
    REQUIRE_FALSE(half);
    CHECK(half.error().remedy.find("first pass is kept") != std::string::npos);
    Time least = Time::max();
    const auto rest = convert::run(
        **input, plan_for(dir / "again"), [&](const ProgressState& state) { least = std::min(least, state.done); },
        never);
    REQUIRE(rest);
    CHECK(base::to_seconds(least) >= 6);  // the first half is not gone through again
    CHECK(same_folders(dir / "whole", dir / "again"));
}

TEST_CASE("a conversion that was refused for its losses is not encoded again to accept them", "[convert]") {
    const TempDir dir;
    copy_disc(dir / "rip");
    const base::Path streams = dir / "rip" / "VIDEO_TS" / "VTS_01_1.VOB";
    ByteVector bytes = read_all(streams);
    std::fill(bytes.begin() + static_cast<std::ptrdiff_t>(bytes.size() / 2),
              bytes.begin() + static_cast<std::ptrdiff_t>(bytes.size() / 4 * 3), std::uint8_t{0});
    write_all(streams, bytes);
    const auto input = source::open_input(dir / "rip");
    REQUIRE(input);
    const Cancel cancel;
    auto plan = plan_into(**input, dir / "library");
    REQUIRE(plan);
    const auto refused = convert::run(**input, *plan, {}, cancel);
    REQUIRE_FALSE(refused);
    CHECK(refused.error().kind == ErrorKind::input);
    CHECK(refused.error().remedy.find("is kept") != std::string::npos);
    CHECK_FALSE(std::filesystem::exists(plan->target()));
    plan->accept_losses = true;
    const auto accepted = convert::run(**input, *plan, {}, cancel);
    REQUIRE(accepted);
    CHECK(accepted->kept >= base::from_seconds(4));
    CHECK(accepted->loss.any());
    CHECK(files_in(dir / "library").size() == 2);
}
