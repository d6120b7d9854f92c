// Drives on which reading really fails (the kernel gives EIO) or is really slow.
#include <catch2/catch.hpp>
#include <chrono>
#include <nlohmann/json.hpp>
#include <thread>

#include "support/failing_mount.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
using Json = nlohmann::json;

TEST_CASE("a drive that fails while converting costs only what lies there", "[cli]") {
    const TempDir dir;
    const std::uint64_t size = std::filesystem::file_size(sample_disc() / "VIDEO_TS/VTS_01_1.VOB");
    const FailingMount mount(dir / "drive", sample_disc(), "VTS_01_1.VOB", size / 2, size / 2 + 100'000);
    if (!mount.mounted()) {
        WARN("/dev/fuse can't be used here: not tested");
        return;
    }
    const Json shown = json_of(run_program({"inspect", "drive", "--json"}, dir.path()));
    CHECK(shown["titles"].size() == 2);
    const std::vector<std::string> convert = {"convert",   "drive",   "--name",    "Scratched",
                                              "--into",    "library", "--profile", "small-screen",
                                              "--retries", "1",       "--json"};
    // More than a hundredth of the film: nothing is written unasked.
    const Ran refused = run_program(convert, dir.path());
    CHECK(refused.status == 3);
    CHECK(refused.err.find("are lost") != std::string::npos);
    CHECK(refused.err.find("--accept-losses") != std::string::npos);
    CHECK_FALSE(std::filesystem::exists(dir / "library/Scratched/Scratched.mp4"));
    auto accepting = convert;
    accepting.emplace_back("--accept-losses");
    const Ran done = run_program(accepting, dir.path());
    CHECK(done.status == 5);
    CHECK(done.err.find("warning: ") != std::string::npos);
    const Json output = json_of(done)["outputs"][0];
    CHECK(output["frames"].get<int>() > kSampleFrames - 40);
    CHECK(output["frames"].get<int>() < kSampleFrames);
    CHECK(output["lost_s"].get<double>() > 0.1);
    CHECK(output["lost_s"].get<double>() < 4);
    CHECK(std::abs(output["duration_s"].get<double>() - 12.012) < 0.05);
    bool told = false;
    for (const Json& problem : output["problems"]) {
        told = told || problem["what"] == "video is missing";
        CHECK(problem["from_s"].get<double>() > 4);
        CHECK(problem["to_s"].get<double>() < 8);
    }
    CHECK(told);
    CHECK(done.err.find("video is missing") != std::string::npos);
}

TEST_CASE("site check measures where a film lies, and finds it too slow", "[cli][site][waits]") {
    const TempDir dir;
    std::filesystem::create_directories(dir / "films");
    std::filesystem::copy_file(sample_film(), dir / "films" / "lanterns.mp4");
    const auto check = [&](const char* bytes_per_second) {
        const FailingMount mount(dir / "share", dir / "films", "none", 0, 0, bytes_per_second);
        if (!mount.mounted()) return std::string("not tested");
        write_all(dir / "site.toml", "[site]\nname = \"Cedar Landing\"\n[server]\nadvertise = \"127.0.0.1\"\nport = " +
                                         std::to_string(free_port()) +
                                         "\n[[stream]]\nname = \"Lanterns\"\nfile = \"share/lanterns.mp4\"\n");
        const Ran ran = run_program({"site", "check", "site.toml"}, dir.path());
        return ran.out + ran.err;
    };
    const Json film = json_of(run_program({"inspect", "films/lanterns.mp4", "--json"}, dir.path()));
    const double bytes_per_second = film["bitrate_bps"].get<double>() / 8;
    const std::string slow = check(std::to_string(1.5 * bytes_per_second).c_str());
    if (slow == "not tested") {
        WARN("/dev/fuse can't be used here: not tested");
        return;
    }
    INFO(slow);
    CHECK(slow.find("stream \"Lanterns\": ") != std::string::npos);
    CHECK(slow.find("times its average bit rate") != std::string::npos);
    const std::string fast = check("0");
    INFO(fast);
    CHECK(fast.find("ready") != std::string::npos);
    CHECK(fast.find("times its average") == std::string::npos);
}
