#include "host/video_hardware.hpp"

#include <catch2/catch.hpp>

#include <cstdlib>
#include <filesystem>

#include "host/mounts.hpp"
#include "support/support.hpp"

using namespace wavecrest;

// libva asks this of libdrm before it loads a driver: here every device is a render node (DRM_NODE_RENDER).
extern "C" int drmGetNodeTypeFromFd(int /*fd*/) {
    return 2;
}

TEST_CASE("video hardware is listed as its driver tells it", "[host]") {
    const test::TempDir folder;
    // The driver is this test's own (support/standin_va_driver.cpp).
    std::filesystem::create_directories(folder.path() / "dri");
    std::filesystem::create_symlink("/dev/null", folder.path() / "dri" / "renderD128");
    std::filesystem::create_symlink("/dev/null", folder.path() / "dri" / "card0");
    std::filesystem::create_symlink("/dev/null", folder.path() / "video0");
    ::setenv("LIBVA_DRIVERS_PATH", WAVECREST_VA_DRIVERS, 1);
    ::setenv("LIBVA_DRIVER_NAME", "standin", 1);
    auto all = host::video_hardware(folder.path().string());
    REQUIRE(all.size() == 1);  // the card is the same device, and what is no V4L2 device isn't told
    CHECK(all.front().device == (folder.path() / "dri" / "renderD128").string());
    CHECK(all.front().name == "Stand-in driver");
    CHECK(all.front().decodes == std::vector<std::string>{"H.264", "H.265 10-bit"});
    CHECK(all.front().encodes == std::vector<std::string>{"H.264"});
    CHECK(all.front().problem.empty());

    // A device whose driver isn't there is told, with why.
    ::setenv("LIBVA_DRIVER_NAME", "absent", 1);
    all = host::video_hardware(folder.path().string());
    REQUIRE(all.size() == 1);
    CHECK(all.front().problem.find("no VA-API driver") == 0);
    CHECK(all.front().decodes.empty());
    ::unsetenv("LIBVA_DRIVERS_PATH");
    ::unsetenv("LIBVA_DRIVER_NAME");

    // So is one that can't be opened.
    std::filesystem::create_symlink("/nowhere", folder.path() / "dri" / "renderD129");
    all = host::video_hardware(folder.path().string());
    REQUIRE(all.size() == 2);
    CHECK(all.back().problem == "it does not exist");
    CHECK(host::video_hardware((folder.path() / "nothing").string()).empty());
}

TEST_CASE("a drive is tried without a trace", "[host]") {
    const test::TempDir folder;
    const auto trial = host::try_drive(folder.path());
    REQUIRE(trial);
    CHECK(trial->write > 1e6);
    CHECK(trial->read > 1e6);
    CHECK(std::filesystem::is_empty(folder.path()));
    const auto none = host::try_drive("/proc");
    REQUIRE_FALSE(none);
    CHECK(none.error().kind == ErrorKind::machine);
    CHECK_FALSE(host::try_drive(folder.path() / "not there"));
}
