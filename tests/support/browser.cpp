#include "support/browser.hpp"

#include <arpa/inet.h>
#include <fcntl.h>
#include <netinet/in.h>
#include <poll.h>
#include <signal.h>
#include <spawn.h>
#include <sys/socket.h>
#include <sys/wait.h>
#include <unistd.h>

#include <chrono>
#include <filesystem>
#include <string>
#include <vector>

#include "support/support.hpp"

extern char** environ;

namespace wavecrest::test {
namespace {

constexpr const char* kChromium = "/usr/bin/chromium";
constexpr const char* kFirefox = "/usr/bin/firefox-esr";

const char* program_of(Engine engine) {
    return engine == Engine::chromium ? kChromium : kFirefox;
}

// The command line, with a profile folder of its own.
std::vector<std::string> words_of(Engine engine, const base::Path& profile, const std::string& address) {
    if (engine == Engine::gecko) {
        write_all(profile / "user.js", std::string("user_pref(\"media.autoplay.default\", 0);\n"
                                                   "user_pref(\"media.autoplay.blocking_policy\", 0);\n"
                                                   "user_pref(\"media.gmp-manager.updateEnabled\", false);\n"
                                                   "user_pref(\"app.normandy.enabled\", false);\n"
                                                   "user_pref(\"app.update.auto\", false);\n"
                                                   "user_pref(\"browser.aboutwelcome.enabled\", false);\n"
                                                   "user_pref(\"datareporting.policy.dataSubmissionEnabled\", false);\n"
                                                   "user_pref(\"browser.shell.checkDefaultBrowser\", false);\n"));
        return {kFirefox, "--headless", "--no-remote", "--profile", profile.string(), address};
    }
    return {kChromium,
            "--headless",
            "--no-sandbox",
            "--disable-gpu",
            "--disable-quic",
            "--no-first-run",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            "--mute-audio",
            "--autoplay-policy=no-user-gesture-required",
            "--disable-dev-shm-usage",
            "--remote-debugging-port=0",
            "--user-data-dir=" + profile.string(),
            address};
}

// Answers one connection: the page for GET, the result's body for POST.
bool answer(int client, const std::string& page, std::string& result) {
    std::string request;
    char buffer[65536];
    std::size_t needed = std::string::npos;
    while (request.size() < needed) {
        pollfd waiting{client, POLLIN, 0};
        if (::poll(&waiting, 1, 2000) != 1) return false;
        const ssize_t n = ::recv(client, buffer, sizeof buffer, 0);
        if (n <= 0) return false;
        request.append(buffer, static_cast<std::size_t>(n));
        const std::size_t end = request.find("\r\n\r\n");
        if (end == std::string::npos) continue;
        std::size_t length = 0;
        if (const std::size_t at = request.find("Content-Length: "); at != std::string::npos)
            length = std::stoul(request.substr(at + 16));
        needed = end + 4 + length;
    }
    const bool posted = request.starts_with("POST /result");
    if (posted) result = request.substr(request.find("\r\n\r\n") + 4);
    const std::string body = request.starts_with("GET / ") ? page : "";
    const std::string response =
        "HTTP/1.1 200 OK\r\nContent-Type: text/html; charset=utf-8\r\nConnection: close\r\nContent-Length: " +
        std::to_string(body.size()) + "\r\n\r\n" + body;
    [[maybe_unused]] const ssize_t sent = ::send(client, response.data(), response.size(), MSG_NOSIGNAL);
    return posted;
}

}  // namespace

bool has_browser(Engine engine) {
    return ::access(program_of(engine), X_OK) == 0;
}

std::string run_page(const std::string& page, int limit_seconds, Engine engine) {
    const int listener = ::socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0);
    sockaddr_in address{};
    address.sin_family = AF_INET;
    address.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    socklen_t size = sizeof address;
    if (::bind(listener, reinterpret_cast<sockaddr*>(&address), size) != 0 || ::listen(listener, 16) != 0) return "";
    ::getsockname(listener, reinterpret_cast<sockaddr*>(&address), &size);

    const TempDir profile;
    std::vector<std::string> words =
        words_of(engine, profile.path(), "http://127.0.0.1:" + std::to_string(ntohs(address.sin_port)) + "/");
    std::vector<char*> pointers;
    for (std::string& word : words) pointers.push_back(word.data());
    pointers.push_back(nullptr);
    posix_spawn_file_actions_t actions;
    posix_spawn_file_actions_init(&actions);
    for (const int handle : {1, 2}) posix_spawn_file_actions_addopen(&actions, handle, "/dev/null", O_WRONLY, 0);
    posix_spawnattr_t attributes;
    posix_spawnattr_init(&attributes);
    posix_spawnattr_setflags(&attributes, POSIX_SPAWN_SETPGROUP);
    posix_spawnattr_setpgroup(&attributes, 0);
    pid_t pid = -1;
    std::string result;
    if (::posix_spawn(&pid, program_of(engine), &actions, &attributes, pointers.data(), environ) == 0) {
        const auto limit = std::chrono::steady_clock::now() + std::chrono::seconds(limit_seconds);
        bool done = false;
        while (!done && std::chrono::steady_clock::now() < limit) {
            pollfd waiting{listener, POLLIN, 0};
            if (::poll(&waiting, 1, 200) != 1) continue;
            const int client = ::accept4(listener, nullptr, nullptr, SOCK_CLOEXEC);
            if (client < 0) continue;
            done = answer(client, page, result);
            ::close(client);
        }
        ::kill(-pid, SIGKILL);
        int status = 0;
        ::waitpid(pid, &status, 0);
    }
    posix_spawn_file_actions_destroy(&actions);
    posix_spawnattr_destroy(&attributes);
    ::close(listener);
    return result;
}

std::string base64(ByteSpan bytes) {
    constexpr char kLetters[] = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
    std::string out;
    for (std::size_t i = 0; i < bytes.size(); i += 3) {
        const unsigned a = bytes[i], b = i + 1 < bytes.size() ? bytes[i + 1] : 0,
                       c = i + 2 < bytes.size() ? bytes[i + 2] : 0;
        out += kLetters[a >> 2];
        out += kLetters[(a & 3) << 4 | b >> 4];
        out += i + 1 < bytes.size() ? kLetters[(b & 15) << 2 | c >> 6] : '=';
        out += i + 2 < bytes.size() ? kLetters[c & 63] : '=';
    }
    return out;
}

}  // namespace wavecrest::test
