// Drives on which reading really fails (the kernel gives EIO), is really slow, or hangs: see failing_fs.cpp. For tests
// of the program, which know where that is built (WAVECREST_FAILING_FS).
#pragma once

#include <signal.h>
#include <spawn.h>
#include <sys/wait.h>
#include <unistd.h>

#include <chrono>
#include <cstdint>
#include <string>
#include <thread>

#include "base/file.hpp"

extern char** environ;

namespace wavecrest::test {

// The failing file system at a folder; unmounted when the object goes.
class FailingMount {
  public:
    FailingMount(const base::Path& at, const base::Path& folder, const std::string& name, std::uint64_t from,
                 std::uint64_t to, const std::string& bytes_per_second = "0")
        : at_(at) {
        std::filesystem::create_directories(at);
        const std::string first = std::filesystem::directory_iterator(folder)->path().filename().string();
        const std::string program = WAVECREST_FAILING_FS;
        std::string words[] = {
            program, at.string(), folder.string(), name, std::to_string(from), std::to_string(to), bytes_per_second};
        char* arguments[] = {words[0].data(), words[1].data(), words[2].data(), words[3].data(),
                             words[4].data(), words[5].data(), words[6].data(), nullptr};
        posix_spawn_file_actions_t actions;
        posix_spawn_file_actions_init(&actions);
        posix_spawn_file_actions_addopen(&actions, 2, "/dev/null", 1, 0);
        if (::posix_spawn(&pid_, program.c_str(), &actions, nullptr, arguments, environ) != 0) pid_ = -1;
        posix_spawn_file_actions_destroy(&actions);
        for (int i = 0; i < 50 && pid_ > 0 && !mounted_; ++i) {
            std::this_thread::sleep_for(std::chrono::milliseconds(50));
            std::error_code error;
            mounted_ = std::filesystem::exists(at / first, error);
            if (::waitpid(pid_, nullptr, WNOHANG) == pid_) pid_ = -1;
        }
    }
    ~FailingMount() {
        if (pid_ <= 0) return;
        answer_again();
        ::kill(pid_, SIGTERM);
        ::waitpid(pid_, nullptr, 0);
    }
    bool mounted() const { return mounted_; }
    // It answers no more, as a share whose server is gone; and again.
    void hang() const { ::kill(pid_, SIGSTOP); }
    void answer_again() const { ::kill(pid_, SIGCONT); }

  private:
    base::Path at_;
    pid_t pid_ = -1;
    bool mounted_ = false;
};

}  // namespace wavecrest::test
