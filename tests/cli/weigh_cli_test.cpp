// `weigh` as an installer runs it.
#include <catch2/catch.hpp>
#include <nlohmann/json.hpp>

#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
using Json = nlohmann::json;

TEST_CASE("weigh compares profiles, draws them, and writes nothing else", "[cli]") {
    const TempDir dir;
    const std::string rip = sample_disc().string(), quick = quick_profile(dir.path());
    write_all(dir / "tiny.toml", std::string("name = \"tiny\"\n[video]\neffort = 1\nmax_size = \"160x90\"\n"));
    const Ran ran = run_program({"weigh", rip, "--pick", "2", "--profile", quick + ",tiny.toml", "--device",
                                 "tv-hd,receiver-optical", "--out", "weighed", "--json"},
                                dir.path());
    INFO(ran.err);
    REQUIRE(ran.status == 0);
    const Json result = json_of(ran);
    REQUIRE(result["profiles"].size() == 2);
    for (const Json& one : result["profiles"]) {
        CHECK(one["size_bytes"]["low"].get<double>() <= one["size_bytes"]["likely"].get<double>());
        CHECK(one["size_bytes"]["likely"].get<double>() <= one["size_bytes"]["high"].get<double>());
        CHECK(one["time_s"]["likely"].get<double>() > 0);
        CHECK(one["devices"][0]["verdict"] == "pass");
        CHECK(one["devices"][1]["verdict"] == "fail");  // it shows no pictures
        CHECK_FALSE(one["devices"][1]["why"].get<std::string>().empty());
        // A still of both at the size it is shown in, eight pixels between them.
        const ByteVector png = read_all(dir / "weighed" / one["still"].get<std::string>());
        REQUIRE(png.size() > 24);
        CHECK(base::ByteReader(ByteSpan(png).subspan(16)).u32() == 2 * 854 + 8);
        CHECK(base::ByteReader(ByteSpan(png).subspan(20)).u32() == 480);
    }
    CHECK(result["profiles"][0]["quality"]["ssim"].get<double>() >
          result["profiles"][1]["quality"]["ssim"].get<double>());
    CHECK(std::filesystem::exists(dir / "weighed" / result["figure"].get<std::string>()));
    std::size_t files = 0;
    for (const auto& entry : std::filesystem::directory_iterator(dir / "weighed"))
        files += entry.is_regular_file() ? 1 : 0;
    CHECK(files == 4);

    const Ran table = run_program({"weigh", rip, "--pick", "2", "--device", "tablet-basic", "-q"}, dir.path());
    INFO(table.out);
    CHECK(table.status == 0);
    CHECK(table.out.find("tablet-basic") != std::string::npos);
    CHECK(table.out.find("Next: wavecrest convert") != std::string::npos);
}

TEST_CASE("weigh refuses what makes no sense, with a remedy", "[cli]") {
    const TempDir dir;
    const std::string rip = sample_disc().string();
    const auto status = [&](std::vector<std::string> arguments) {
        arguments.insert(arguments.begin(), {"weigh", rip});
        const Ran ran = run_program(arguments, dir.path());
        INFO(ran.err);
        CHECK(ran.err.find("to do:") != std::string::npos);
        return ran.status;
    };
    CHECK(status({}) == 2);
    CHECK(status({"--profile", "full-pictur"}) == 2);
    CHECK(status({"--profile", "phone,newer-tv", "--target-size", "1 GB"}) == 2);
    CHECK(status({"--profile", "phone", "--target-size", "many"}) == 2);
    CHECK(status({"--profile", "phone", "--target-size", "1 GB", "--quality", "0.9"}) == 2);
    CHECK(status({"--profile", "phone", "--pick", "9"}) == 2);
    CHECK(status({"--device", "no-such-device"}) == 2);
    CHECK(run_program({"weigh", "gone", "--profile", "phone"}, dir.path()).status == 3);
    write_all(dir / "audio.toml", std::string("name = \"audio\"\ncontainer = \"mp4\"\n[video]\ncodec = \"none\"\n"));
    CHECK(status({"--profile", "audio.toml"}) == 2);
}
