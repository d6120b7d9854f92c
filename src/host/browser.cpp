#include "host/browser.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <signal.h>
#include <spawn.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cstdlib>
#include <sstream>
#include <vector>

#include "base/atomic_file.hpp"

extern char** environ;

namespace wavecrest::host {

std::optional<Engine> engine_from_name(std::string_view name) {
    if (name == "chromium") return Engine::chromium;
    if (name == "firefox") return Engine::firefox;
    return std::nullopt;
}

std::string_view short_name(Engine engine) {
    return engine == Engine::chromium ? "chromium" : "firefox";
}

std::optional<base::Path> browser_program(Engine engine) {
    const char* path = std::getenv("PATH");
    std::istringstream folders(path != nullptr ? path : "/usr/bin");
    for (std::string folder; std::getline(folders, folder, ':');) {
        for (const char* name : {engine == Engine::chromium ? "chromium" : "firefox-esr",
                                 engine == Engine::chromium ? "chromium-browser" : "firefox"}) {
            const base::Path program = base::Path(folder) / name;
            if (::access(program.c_str(), X_OK) == 0) return program;
        }
    }
    return std::nullopt;
}

Result<std::unique_ptr<Browser>> Browser::start(Engine engine, const std::string& address) {
    const auto program = browser_program(engine);
    if (!program)
        return fail(
            ErrorKind::machine, fmt::format("{} is not installed on this machine", short_name(engine)), "this machine",
            engine == Engine::chromium ? "install it: apt install chromium" : "install it: apt install firefox-esr");
    auto self = std::unique_ptr<Browser>(new Browser);
    std::error_code error;
    std::string profile = (std::filesystem::temp_directory_path(error) / "wavecrest-browser-XXXXXX").string();
    if (error || ::mkdtemp(profile.data()) == nullptr)
        return fail(ErrorKind::machine, "no folder can be made for the browser's profile", profile,
                    "set TMPDIR to a folder with space");
    self->profile_ = profile;
    std::vector<std::string> words = {program->string()};
    if (engine == Engine::firefox) {
        const std::string preferences =
            "user_pref(\"media.autoplay.default\", 0);\n"
            "user_pref(\"media.autoplay.blocking_policy\", 0);\n"
            "user_pref(\"app.update.auto\", false);\n"
            "user_pref(\"browser.aboutwelcome.enabled\", false);\n"
            "user_pref(\"datareporting.policy.dataSubmissionEnabled\", false);\n";
        WAVECREST_TRY(base::write_file(self->profile_ / "user.js", base::as_bytes(preferences),
                                       base::AtomicFile::IfExists::replace));
        words.insert(words.end(), {"--headless", "--no-remote", "--profile", profile, address});
    } else {
        words.insert(words.end(),
                     {"--headless", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-sync",
                      "--disable-background-networking", "--disable-component-update", "--disable-dev-shm-usage",
                      "--autoplay-policy=no-user-gesture-required", "--user-data-dir=" + profile});
        // Chromium refuses to run as root with its sandbox.
        if (::geteuid() == 0) words.emplace_back("--no-sandbox");
        words.push_back(address);
    }
    const auto pointers_to = [](std::vector<std::string>& texts) {
        std::vector<char*> pointers;
        for (std::string& text : texts) pointers.push_back(text.data());
        pointers.push_back(nullptr);
        return pointers;
    };
    // What it leaves in its temporary folder goes with its profile.
    std::vector<std::string> settings = {"TMPDIR=" + profile};
    for (char** one = environ; *one != nullptr; ++one) {
        if (!std::string_view(*one).starts_with("TMPDIR=")) settings.emplace_back(*one);
    }
    std::vector<char*> pointers = pointers_to(words), surroundings = pointers_to(settings);
    posix_spawn_file_actions_t actions;
    posix_spawn_file_actions_init(&actions);
    for (const int handle : {0, 1, 2}) posix_spawn_file_actions_addopen(&actions, handle, "/dev/null", O_RDWR, 0);
    posix_spawnattr_t attributes;
    posix_spawnattr_init(&attributes);
    // Its own group, so that all of its processes can be ended, and Ctrl-C comes to this program first.
    posix_spawnattr_setflags(&attributes, POSIX_SPAWN_SETPGROUP);
    posix_spawnattr_setpgroup(&attributes, 0);
    const int failed =
        ::posix_spawn(&self->process_, program->c_str(), &actions, &attributes, pointers.data(), surroundings.data());
    posix_spawn_file_actions_destroy(&actions);
    posix_spawnattr_destroy(&attributes);
    if (failed != 0) {
        self->process_ = -1;
        return fail(ErrorKind::machine, "the browser can't be started: " + base::system_reason(failed),
                    program->string(), "start it by hand to see why");
    }
    return self;
}
Browser::~Browser() {
    if (process_ > 0) {
        ::kill(-process_, SIGKILL);
        int status = 0;
        ::waitpid(process_, &status, 0);
    }
    std::error_code error;
    std::filesystem::remove_all(profile_, error);
}

bool Browser::runs() {
    int status = 0;
    if (process_ > 0 && ::waitpid(process_, &status, WNOHANG) == process_) process_ = -1;
    return process_ > 0;
}

}  // namespace wavecrest::host
