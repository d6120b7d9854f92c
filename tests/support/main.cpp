#define CATCH_CONFIG_MAIN
#include <sys/resource.h>

#include <unistd.h>
#include <algorithm>
#include <catch2/catch.hpp>
#include <cstdlib>
#include <filesystem>
#include <string>

// One of the encoders that tests take their material from keeps what it allocated for itself.
extern "C" const char* __lsan_default_suppressions();
extern "C" const char* __lsan_default_suppressions() {
    return "leak:libx265\nleak:libvorbisenc\n";
}

namespace {

// What the program keeps for its user (the token for controls) goes to a place of the tests' own.
struct StateFolder {
    const std::filesystem::path path =
        std::filesystem::temp_directory_path() / ("wavecrest-test-state-" + std::to_string(::getpid()));
    StateFolder() { ::setenv("XDG_STATE_HOME", path.c_str(), 1); }
    ~StateFolder() {
        std::error_code ignored;
        std::filesystem::remove_all(path, ignored);
    }
};
const StateFolder state_folder;

// Those that wait for real time come first: what only needs a processor gives way to them, with all it starts.
class GivesWay : public Catch::TestEventListenerBase {
  public:
    using TestEventListenerBase::TestEventListenerBase;
    void testCaseStarting(const Catch::TestCaseInfo& test) override {
        constexpr int kLower = 10;
        const bool waits = std::find(test.lcaseTags.begin(), test.lcaseTags.end(), "waits") != test.lcaseTags.end();
        if (!waits && std::getenv("CTEST_INTERACTIVE_DEBUG_MODE") != nullptr) ::setpriority(PRIO_PROCESS, 0, kLower);
    }
};
CATCH_REGISTER_LISTENER(GivesWay)

}  // namespace
