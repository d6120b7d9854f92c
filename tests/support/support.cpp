#include "support/support.hpp"

#include <arpa/inet.h>
#include <fcntl.h>
#include <netinet/in.h>
#include <openssl/pem.h>
#include <openssl/x509v3.h>
#include <poll.h>
#include <signal.h>
#include <spawn.h>
#include <stdlib.h>
#include <sys/file.h>
#include <sys/socket.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <catch2/catch.hpp>
#include <chrono>
#include <fstream>
#include <iterator>
#include <nlohmann/json.hpp>
#include <stdexcept>
#include <thread>

extern char** environ;

namespace wavecrest::test {
namespace {

pid_t spawn(const std::vector<std::string>& arguments, const base::Path& folder, const base::Path& out,
            const base::Path& err, int open_files = 0) {
    std::vector<std::string> words = {WAVECREST_PROGRAM};
    if (open_files > 0)
        words = {"/bin/sh", "-c", "ulimit -n " + std::to_string(open_files) + "; exec \"$0\" \"$@\"",
                 WAVECREST_PROGRAM};
    words.insert(words.end(), arguments.begin(), arguments.end());
    std::vector<char*> pointers;
    for (std::string& word : words) pointers.push_back(word.data());
    pointers.push_back(nullptr);
    posix_spawn_file_actions_t actions;
    posix_spawn_file_actions_init(&actions);
    posix_spawn_file_actions_addopen(&actions, 0, "/dev/null", O_RDONLY, 0);
    posix_spawn_file_actions_addopen(&actions, 1, out.c_str(), O_WRONLY | O_CREAT | O_APPEND, 0600);
    posix_spawn_file_actions_addopen(&actions, 2, err.c_str(), O_WRONLY | O_CREAT | O_APPEND, 0600);
    posix_spawn_file_actions_addchdir_np(&actions, folder.c_str());
    // As from a shell, however these tests were started (nohup).
    posix_spawnattr_t attributes;
    posix_spawnattr_init(&attributes);
    sigset_t usual;
    sigemptyset(&usual);
    for (const int signal : {SIGHUP, SIGINT, SIGQUIT, SIGTERM}) sigaddset(&usual, signal);
    posix_spawnattr_setsigdefault(&attributes, &usual);
    posix_spawnattr_setflags(&attributes, POSIX_SPAWN_SETSIGDEF);
    pid_t pid = -1;
    if (::posix_spawn(&pid, words.front().c_str(), &actions, &attributes, pointers.data(), environ) != 0)
        throw std::runtime_error("the program can't be run");
    posix_spawnattr_destroy(&attributes);
    posix_spawn_file_actions_destroy(&actions);
    return pid;
}

int decode(int status) {
    return WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status);
}

// -1 where nobody listens.
int try_connect(std::uint16_t port) {
    const int handle = ::socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0);
    sockaddr_in address{};
    address.sin_family = AF_INET;
    address.sin_port = htons(port);
    address.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    if (::connect(handle, reinterpret_cast<sockaddr*>(&address), sizeof address) != 0) {
        ::close(handle);
        return -1;
    }
    return handle;
}

}  // namespace

TempDir::TempDir() {
    std::string pattern = (std::filesystem::temp_directory_path() / "wavecrest-test-XXXXXX").string();
    if (::mkdtemp(pattern.data()) == nullptr) throw std::runtime_error("no temporary folder");
    path_ = pattern;
}

TempDir::~TempDir() {
    std::error_code ignored;
    std::filesystem::remove_all(path_, ignored);
}

OwnState::OwnState() {
    if (const char* before = std::getenv("XDG_STATE_HOME")) before_ = before;
    enter();
}

OwnState::~OwnState() {
    if (before_.empty()) ::unsetenv("XDG_STATE_HOME");
    if (!before_.empty()) ::setenv("XDG_STATE_HOME", before_.c_str(), 1);
}

void OwnState::enter() const {
    ::setenv("XDG_STATE_HOME", folder().c_str(), 1);
}

std::vector<std::string> TempDir::files() const {
    std::vector<std::string> names;
    for (const auto& entry : std::filesystem::recursive_directory_iterator(path_)) {
        if (!entry.is_directory()) names.push_back(std::filesystem::relative(entry.path(), path_).string());
    }
    std::sort(names.begin(), names.end());
    return names;
}

Ran run_program(const std::vector<std::string>& arguments, const base::Path& folder, int limit_seconds) {
    const TempDir logs;
    const pid_t pid = spawn(arguments, folder, logs / "out", logs / "err");
    int status = 0;
    const auto limit = std::chrono::steady_clock::now() + std::chrono::seconds(limit_seconds);
    while (::waitpid(pid, &status, WNOHANG) == 0) {
        if (std::chrono::steady_clock::now() > limit) ::kill(pid, SIGKILL);
        std::this_thread::sleep_for(std::chrono::milliseconds(5));
    }
    return {decode(status), read_text(logs / "out"), read_text(logs / "err")};
}

nlohmann::json json_of(const Ran& ran) {
    INFO(ran.out.substr(0, 400) << ran.err);
    nlohmann::json json = nlohmann::json::parse(ran.out, nullptr, false);
    REQUIRE(json.is_object());
    return json;
}

Background::Background(const std::vector<std::string>& arguments, const base::Path& folder, int open_files) {
    std::string pattern = (std::filesystem::temp_directory_path() / "wavecrest-log-XXXXXX").string();
    const int handle = ::mkstemp(pattern.data());
    ::close(handle);
    log_ = pattern;
    pid_ = spawn(arguments, folder, log_, log_, open_files);
}

Background::~Background() {
    if (pid_ > 0) end(SIGINT);
    ::unlink(log_.c_str());
}

int Background::end(int signal) {
    ::kill(pid_, signal);
    int status = 0;
    const auto limit = std::chrono::steady_clock::now() + std::chrono::seconds(30);
    while (::waitpid(pid_, &status, WNOHANG) == 0) {
        if (std::chrono::steady_clock::now() > limit) ::kill(pid_, SIGKILL);
        std::this_thread::sleep_for(std::chrono::milliseconds(5));
    }
    pid_ = -1;
    return decode(status);
}

pid_t Background::worker() const {
    const std::string pid = std::to_string(pid_);
    pid_t worker = -1;
    std::ifstream("/proc/" + pid + "/task/" + pid + "/children") >> worker;
    return worker;
}

std::string Background::output() const {
    return read_text(log_);
}

bool Background::has_written(const std::string& text) const {
    for (int waited = 0; waited < 10000; waited += 20) {
        if (output().find(text) != std::string::npos) return true;
        std::this_thread::sleep_for(std::chrono::milliseconds(20));
    }
    return false;
}

bool wait_for_port(std::uint16_t port, int limit_ms) {
    for (int waited = 0; waited < limit_ms; waited += 20) {
        if (const int handle = try_connect(port); handle >= 0) {
            ::close(handle);
            return true;
        }
        std::this_thread::sleep_for(std::chrono::milliseconds(20));
    }
    return false;
}

std::uint16_t free_port() {
    const int handle = ::socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0);
    sockaddr_in address{};
    address.sin_family = AF_INET;
    address.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    socklen_t size = sizeof address;
    if (::bind(handle, reinterpret_cast<sockaddr*>(&address), size) != 0) throw std::runtime_error("no free port");
    ::getsockname(handle, reinterpret_cast<sockaddr*>(&address), &size);
    ::close(handle);
    return ntohs(address.sin_port);
}

int connect_to(std::uint16_t port, const std::string& text) {
    const int handle = try_connect(port);
    if (handle < 0 || ::send(handle, text.data(), text.size(), MSG_NOSIGNAL) != static_cast<ssize_t>(text.size())) {
        ::close(handle);
        throw std::runtime_error("no connection to port " + std::to_string(port));
    }
    return handle;
}

std::string raw_exchange(std::uint16_t port, const std::string& request) {
    const int handle = try_connect(port);
    if (handle < 0) return "";
    std::string all;
    if (::send(handle, request.data(), request.size(), MSG_NOSIGNAL) >= 0) {
        char buffer[65536];
        pollfd waiting{handle, POLLIN, 0};
        while (::poll(&waiting, 1, 700) == 1) {
            const ssize_t n = ::recv(handle, buffer, sizeof buffer, 0);
            if (n <= 0) break;
            all.append(buffer, static_cast<std::size_t>(n));
        }
    }
    ::close(handle);
    return all;
}

ByteVector read_all(const base::Path& path) {
    std::ifstream file(path, std::ios::binary);
    return {std::istreambuf_iterator<char>(file), std::istreambuf_iterator<char>()};
}

std::string read_text(const base::Path& path) {
    const ByteVector bytes = read_all(path);
    return {bytes.begin(), bytes.end()};
}

void write_all(const base::Path& path, ByteSpan bytes) {
    std::filesystem::create_directories(path.parent_path());
    std::ofstream file(path, std::ios::binary | std::ios::trunc);
    file.write(reinterpret_cast<const char*>(bytes.data()), static_cast<std::streamsize>(bytes.size()));
}

void write_all(const base::Path& path, const std::string& text) {
    write_all(path, base::as_bytes(text));
}

std::string quick_profile(const base::Path& folder) {
    write_all(folder / "quick.toml", std::string("name = \"quick\"\n[video]\neffort = 1\n"));
    return "quick.toml";
}

base::Path samples() {
    const base::Path folder = WAVECREST_SAMPLES;
    if (!std::filesystem::exists(folder / "made-by.txt"))
        FAIL("the samples are missing: make them with  ctest --test-dir build -R '^samples$'  (./check does)");
    return folder;
}

Turn::Turn(const base::Path& path)
    : handle_(::open((path.string() + ".lock").c_str(), O_RDWR | O_CREAT | O_CLOEXEC, 0644)) {
    REQUIRE(handle_ >= 0);
    REQUIRE(::flock(handle_, LOCK_EX) == 0);
}
Turn::~Turn() {
    ::close(handle_);
}

base::Path sample_disc() {
    return samples() / "Sample Film (2020)";
}
base::Path sample_film() {
    return samples() / "library/Sample Film (2020)/Sample Film (2020).mp4";
}
ByteVector sample_film_in(const std::string& container) {
    const TempDir folder;
    const auto ran = run_program(
        {"convert", sample_film().string(), "--remux", container, "--into", ".", "--name", "x"}, folder.path());
    REQUIRE(ran.status == 0);
    for (const std::string& name : folder.files()) {
        if (name.find("x.") != std::string::npos) return read_all(folder / name);
    }
    return {};
}
base::Path sample_ladder() {
    return samples() / "ladders" / "Sample Film (2020)" / "Sample Film (2020).ladder";
}

void copy_disc(const base::Path& to) {
    std::filesystem::copy(sample_disc(), to, std::filesystem::copy_options::recursive);
}

net::Url local_url(std::uint16_t port, const std::string& target) {
    net::Url url;
    url.host = "127.0.0.1";
    url.port = port;
    url.target = target;
    return url;
}

void make_certificate(const base::Path& certificate, const base::Path& key, const std::string& host, bool ended) {
    EVP_PKEY* pair = EVP_EC_gen("P-256");
    REQUIRE(pair != nullptr);
    X509* made = ::X509_new();
    ::X509_set_version(made, 2);
    ::ASN1_INTEGER_set(::X509_get_serialNumber(made), 1);
    constexpr long kDay = 86'400;
    ::X509_gmtime_adj(::X509_getm_notBefore(made), -2 * kDay);
    ::X509_gmtime_adj(::X509_getm_notAfter(made), ended ? -kDay : 90 * kDay);
    ::X509_set_pubkey(made, pair);
    X509_NAME* name = ::X509_get_subject_name(made);
    ::X509_NAME_add_entry_by_txt(name, "CN", MBSTRING_ASC, reinterpret_cast<const unsigned char*>("Cedar Landing"), -1,
                                 -1, 0);
    ::X509_set_issuer_name(made, name);
    const bool digits = host.find_first_not_of("0123456789.") == std::string::npos;
    X509_EXTENSION* names =
        ::X509V3_EXT_conf_nid(nullptr, nullptr, NID_subject_alt_name, ((digits ? "IP:" : "DNS:") + host).c_str());
    ::X509_add_ext(made, names, -1);
    ::X509_EXTENSION_free(names);
    REQUIRE(::X509_sign(made, pair, ::EVP_sha256()) > 0);
    FILE* file = std::fopen(certificate.c_str(), "w");
    ::PEM_write_X509(file, made);
    std::fclose(file);
    file = std::fopen(key.c_str(), "w");
    ::PEM_write_PrivateKey(file, pair, nullptr, nullptr, 0, nullptr, nullptr);
    std::fclose(file);
    ::X509_free(made);
    ::EVP_PKEY_free(pair);
}

double luma_psnr(const Picture& a, const Picture& b) {
    double sum = 0;
    for (int y = 0; y < a.height; ++y) {
        for (int x = 0; x < a.width; ++x) {
            const double d = a.planes[0][y * a.strides[0] + x] - b.planes[0][y * b.strides[0] + x];
            sum += d * d;
        }
    }
    return 10 * std::log10(255.0 * 255.0 * a.width * a.height / std::max(sum, 1.0));
}

}  // namespace wavecrest::test
