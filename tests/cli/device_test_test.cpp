#include <catch2/catch.hpp>

#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include "base/atomic_file.hpp"
#include "device/device.hpp"
#include "support/browser.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using test::run_program;

namespace {

// Clips go into the folder, not into the user's own.
struct OwnCache {
    explicit OwnCache(const base::Path& folder) {
        ::setenv("XDG_CACHE_HOME", (folder / "cache").c_str(), 1);
        ::setenv("XDG_STATE_HOME", (folder / "state").c_str(), 1);
    }
    ~OwnCache() {
        ::unsetenv("XDG_CACHE_HOME");
        ::unsetenv("XDG_STATE_HOME");
    }
    OwnCache(const OwnCache&) = delete;
    OwnCache& operator=(const OwnCache&) = delete;
};

constexpr const char* kSite = R"([site]
name = "Cedar Landing"

# The lounge.
[[device]]
name = "Lounge TV"
class = "tv-hd"

[[device]]
name = "Boathouse tablet"   # on the shelf
class = "tablet-hd"         # to be tested
link = "12 Mbit/s"
)";

void write(const base::Path& file, const std::string& text) {
    REQUIRE(base::write_file(file, base::as_bytes(text), base::AtomicFile::IfExists::replace));
}

std::string text_of(const base::Path& file) {
    const auto text = base::read_text_file(file);
    REQUIRE(text);
    return *text;
}

}  // namespace

TEST_CASE("a device that is less than it was taken for becomes a description in the site file", "[device]") {
    test::TempDir dir;
    const OwnCache cache(dir.path());
    write(dir / "site.toml", kSite);
    const std::string port = fmt::format("{}", test::free_port());
    test::Background page({"device", "test", "--site", "site.toml", "--device", "Boathouse tablet", "--only", "audio",
                           "--port", port, "--adopt", "--out", "results", "--json"},
                          dir.path());
    REQUIRE(test::wait_for_port(static_cast<std::uint16_t>(std::stoi(port))));
    const auto ran = run_program(
        {"standin", "device", "http://127.0.0.1:" + port + "/test", "--class", "tablet-basic", "--json", "-q"},
        dir.path());
    CHECK(ran.status == 0);
    INFO(ran.err);
    CHECK(page.end(0) == 0);
    // All but the one line stays as it was written.
    std::string expected = kSite;
    expected.replace(expected.find("class = \"tablet-hd\""), std::string("class = \"tablet-hd\"         #").size(),
                     "class = \"devices/Boathouse tablet.toml\"  #");
    CHECK(text_of(dir / "site.toml") == expected);
    const auto device = device::find((dir / "devices/Boathouse tablet.toml").string());
    REQUIRE(device);
    CHECK(device->name == "Boathouse tablet");
    REQUIRE(device->video.size() == 2);
    CHECK(device->video[0].basis == "assumed, as tablet-hd");
    CHECK(device->containers.size() >= 2);
    REQUIRE(device->audio.size() == 1);
    CHECK(device->audio[0].codec == Codec::aac);
    CHECK(device->audio[0].channels == 2);
    CHECK(device->audio[0].basis.starts_with("played 20"));
    CHECK(device->tried.size() > 10);
    const auto result = nlohmann::json::parse(text_of(dir / "results/device-boathouse-tablet.json"));
    CHECK(result.at("assumed") == "tablet-hd");
    CHECK(result.at("differences").size() > 2);
    CHECK(result.at("device").at("tried").size() == device->tried.size());
    // Everything else of the program takes it up.
    CHECK(run_program({"device", "show", "devices/Boathouse tablet.toml"}, dir.path()).out.find("tried") !=
          std::string::npos);
    CHECK(run_program({"device", "check", "devices/Boathouse tablet.toml"}, dir.path()).status == 0);
    CHECK(run_program({"site", "show", "site.toml"}, dir.path()).status == 0);
    CHECK(run_program({"site", "show", (dir / "site.toml").string()}, "/").status == 0);
    const auto report = run_program({"report", "--site", "site.toml"}, dir.path());
    CHECK(report.status == 0);
    const std::string html = text_of(dir / "report/index.html");
    CHECK(html.find("Devices tested") != std::string::npos);
    CHECK(html.find("Taken for tablet-hd before") != std::string::npos);
}

TEST_CASE("a device test says what is wrong before it begins", "[device][waits]") {
    test::TempDir dir;
    const OwnCache cache(dir.path());
    write(dir / "site.toml", kSite);
    const auto fails = [&](std::vector<std::string> arguments, int status, const std::string& says) {
        arguments.insert(arguments.begin(), {"device", "test"});
        const auto ran = run_program(arguments, dir.path());
        INFO(ran.err);
        CHECK(ran.status == status);
        CHECK(ran.err.find(says) != std::string::npos);
    };
    fails({"--site", "site.toml", "--device", "Lounge TW"}, 2, "did you mean \"Lounge TV\"?");
    fails({"--site", "nowhere.toml"}, 3, "nowhere.toml");
    fails({"--only", "vidio"}, 2, "did you mean \"video\"?");
    fails({"--max-size", "huge"}, 2, "isn't a valid size");
    fails({"--for", "soon"}, 2, "isn't a valid time");
    fails({"--on", "chromum"}, 2, "did you mean \"chromium\"?");
    fails({"--on", "Kitchen TV", "--interface", "lo"}, 1, "no renderer \"Kitchen TV\" answers");
    fails({"--like", "tablet-hdd"}, 2, "did you mean \"tablet-hd\"?");
    fails({"--adopt"}, 2, "add --site site.toml");
    fails({"--bind", "192.0.2.77", "--port", "8123"}, 4, "192.0.2.77");
    // Nobody came: that is no success, and leaves nothing.
    fails({"--only", "link", "--for", "300 ms", "--port", fmt::format("{}", test::free_port())}, 1,
          "no device opened the page");
    CHECK(!std::filesystem::exists(dir / "devices"));
    // There is no page at the other end.
    const auto lost = run_program({"standin", "device", "http://127.0.0.1:9/test", "--class", "tv-hd"}, dir.path());
    CHECK(lost.status == 1);
}

TEST_CASE("Chromium shows on the check page what it is known to play", "[device][waits]") {
    if (!test::has_browser()) return;
    test::TempDir dir;
    const OwnCache cache(dir.path());
    const auto ran =
        run_program({"device", "test", "--on", "chromium", "--only", "containers", "--json"}, dir.path(), 150);
    INFO(ran.err);
    REQUIRE(ran.status == 0);
    const auto device = test::json_of(ran).at("devices").at(0).at("device");
    // (How smoothly is the machine's affair.)
    const auto shows = [&](const std::string& what) {
        for (const auto& tried : device.at("tried")) {
            if (tried.at("what").get<std::string>().starts_with(what))
                return tried.at("result") == "played" || tried.at("result") == "stutters";
        }
        return false;
    };
    CHECK(shows("H.264 High, 720x480, 30 fps, AAC stereo, mp4"));
    CHECK(shows("H.264 High, 720x480, 30 fps, AAC stereo, matroska"));
    CHECK(shows("VP9 profile 0, 720x480, 30 fps, Opus stereo, webm"));
    // It says more than what it takes: how smoothly, by size and rate.
    CHECK(std::any_of(device.at("tried").begin(), device.at("tried").end(), [](const auto& tried) {
        return tried.at("says").template get<std::string>().find("smooth") != std::string::npos;
    }));
    CHECK(shows("HLS with transport streams"));
    CHECK(shows("HLS with fragmented MP4"));
    CHECK(!shows("H.264 High, 720x480, 30 fps, AAC stereo, mpeg-ts"));
    CHECK(!shows("H.264 High, 720x480, 30 fps, AAC stereo, flv"));
}
