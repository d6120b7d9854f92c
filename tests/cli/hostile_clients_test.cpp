// The running program against clients that mean it ill, shares that hang, and terminals that go away.
#include <fcntl.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <unistd.h>

#include <catch2/catch.hpp>
#include <chrono>
#include <csignal>
#include <fstream>
#include <nlohmann/json.hpp>
#include <thread>

#include "net/http_client.hpp"
#include "support/clips.hpp"
#include "support/failing_mount.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
using namespace std::chrono_literals;
using Steady = std::chrono::steady_clock;

namespace {

std::string get(std::uint16_t port, const std::string& path, const std::string& headers = "") {
    return raw_exchange(port,
                        "GET " + path + " HTTP/1.1\r\nHost: 127.0.0.1\r\nConnection: close\r\n" + headers + "\r\n");
}

// Memory of a process that is its own: bytes.
std::size_t resident(pid_t pid) {
    std::ifstream status("/proc/" + std::to_string(pid) + "/status");
    for (std::string line; std::getline(status, line);) {
        if (line.starts_with("VmRSS:")) return std::stoul(line.substr(6)) * 1024;
    }
    return 0;
}

// A file system in user space at `share` in this folder, which can be made to hang; null, with a warning, where FUSE is
// not to be had.
std::unique_ptr<FailingMount> share_in(const base::Path& folder) {
    std::filesystem::create_directories(folder / "there");
    write_all(folder / "there/file", std::string("x"));
    auto mount = std::make_unique<FailingMount>(folder / "share", folder / "there", "none", 0, 0);
    if (mount->mounted()) return mount;
    WARN("FUSE is not to be had here: not tested");
    return nullptr;
}

void film(const base::Path& path, int seconds) {
    write_media(path, "mp4", {video_track(Codec::h264, seconds * 24), audio_track(Codec::aac, seconds)});
}

}  // namespace

TEST_CASE("a share that hangs holds its own viewers alone, and no end", "[hostile][server][waits]") {
    const TempDir dir;
    std::filesystem::create_directories(dir / "there");
    film(dir / "there/far.mp4", 10);
    film(dir / "near.mp4", 10);
    const FailingMount mount(dir / "share", dir / "there", "none", 0, 0);
    if (!mount.mounted()) {
        WARN("FUSE is not to be had here: not tested");
        return;
    }
    const std::uint16_t port = free_port();
    write_all(dir / "site.toml",
              "[site]\nname = \"Cedar Landing\"\n[server]\nport = " + std::to_string(port) +
                  "\n[[stream]]\nname = \"far\"\nfile = \"share/far.mp4\"\ndelivery = [\"file\", \"hls\"]\n"
                  "[[stream]]\nname = \"near\"\nfile = \"near.mp4\"\ndelivery = [\"file\", \"hls\"]\n");
    Background program({"stream", "run", "--site", "site.toml"}, dir.path());
    INFO(program.output());
    REQUIRE(wait_for_port(port));
    CHECK(get(port, "/far.mp4", "Range: bytes=0-9\r\n").starts_with("HTTP/1.1 206"));
    mount.hang();
    std::vector<int> viewers;
    for (int i = 0; i < 12; ++i)
        viewers.push_back(connect_to(port, std::string("GET ") + (i % 2 == 0 ? "/far.mp4" : "/far-0.ts") +
                                               " HTTP/1.1\r\nHost: 127.0.0.1\r\n\r\n"));
    for (int i = 0; i < 20; ++i) {
        const auto begun = Steady::now();
        CHECK(get(port, "/near.mp4", "Range: bytes=1000-1999\r\n").starts_with("HTTP/1.1 206"));
        CHECK(get(port, "/near.m3u8").starts_with("HTTP/1.1 200"));
        CHECK(get(port, "/near-1.ts").starts_with("HTTP/1.1 200"));
        CHECK(get(port, "/control").starts_with("HTTP/1.1 200"));
        CHECK(Steady::now() - begun < 2s);
    }
    // It is said: to whoever looks, and to who wants to watch.
    for (int i = 0; i < 100 && !program.has_written("does not respond"); ++i) std::this_thread::sleep_for(50ms);
    const auto status =
        json_of(run_program({"stream", "status", "--port", std::to_string(port), "--json"}, dir.path()));
    REQUIRE(status["hung"].size() == 1);
    CHECK(status["hung"][0]["at"] == std::filesystem::canonical(dir.path()).string() + "/share");
    for (const int handle : viewers) ::close(handle);
    SECTION("it responds again") {
        mount.answer_again();
        bool again = false;
        for (int i = 0; i < 200 && !again; ++i) {
            again = get(port, "/far.mp4", "Range: bytes=0-9\r\n").starts_with("HTTP/1.1 206");
            if (!again) std::this_thread::sleep_for(50ms);
        }
        CHECK(again);
    }
    SECTION("the program ends") {
        const auto begun = Steady::now();
        const int ended = program.end(SIGTERM);
        CHECK((ended == 0 || ended == 130));  // by whether the kernel lets the threads go that the share holds
        CHECK(Steady::now() - begun < 3s);
    }
}

TEST_CASE("a pipe in a film's place holds nobody up", "[hostile][server]") {
    const TempDir dir;
    film(dir / "film.mp4", 4);
    film(dir / "other.mp4", 4);
    const std::uint16_t port = free_port();
    write_all(dir / "site.toml",
              "[site]\nname = \"Cedar Landing\"\n[server]\nport = " + std::to_string(port) +
                  "\n[[stream]]\nname = \"film\"\nfile = \"film.mp4\"\ndelivery = [\"file\", \"hls\"]\n"
                  "[[stream]]\nname = \"other\"\nfile = \"other.mp4\"\n");
    Background program({"stream", "run", "--site", "site.toml"}, dir.path());
    REQUIRE(wait_for_port(port));
    std::filesystem::remove(dir / "film.mp4");
    REQUIRE(::mkfifo((dir / "film.mp4").c_str(), 0600) == 0);
    CHECK(get(port, "/film.mp4").starts_with("HTTP/1.1 503"));
    CHECK(get(port, "/film.m3u8").starts_with("HTTP/1.1 503"));
    std::filesystem::remove(dir / "film.mp4");
    // Nor is a link followed that takes its place.
    std::filesystem::create_symlink("/etc/passwd", dir / "film.mp4");
    const std::string linked = get(port, "/film.mp4");
    CHECK(linked.starts_with("HTTP/1.1 503"));
    CHECK(linked.find("root:") == std::string::npos);
    CHECK(get(port, "/other.mp4", "Range: bytes=0-9\r\n").starts_with("HTTP/1.1 206"));
    CHECK(program.end(SIGTERM) == 0);
}

TEST_CASE("HLS follows a film that is copied on, and is refused where nothing is left of it", "[hostile][hls]") {
    const TempDir dir;
    container::WriterSettings parts;
    parts.fragments = 1s;
    write_media(dir / "whole.mp4", "mp4", {video_track(Codec::h264, 24 * 40), audio_track(Codec::aac, 40)}, parts);
    const ByteVector whole = read_all(dir / "whole.mp4");
    write_all(dir / "film.mp4", ByteSpan(whole).first(whole.size() / 3));
    const std::uint16_t port = free_port();
    Background program({"stream", "run", "film.mp4", "--delivery", "hls", "--port", std::to_string(port)}, dir.path());
    REQUIRE(wait_for_port(port));
    const auto segments = [&] {
        const std::string list = get(port, "/film.m3u8");
        std::size_t count = 0;
        for (std::size_t at = list.find("#EXTINF"); at != std::string::npos; at = list.find("#EXTINF", at + 1)) ++count;
        return count;
    };
    const std::size_t before = segments();
    CHECK(before > 0);
    write_all(dir / "film.mp4", whole);
    CHECK(segments() > before);
    CHECK(get(port, "/film-" + std::to_string(segments() - 1) + ".ts").starts_with("HTTP/1.1 200"));
    write_all(dir / "film.mp4", std::string("cause"));
    CHECK(get(port, "/film.m3u8").starts_with("HTTP/1.1 503"));
    CHECK(get(port, "/film-0.ts").starts_with("HTTP/1.1 503"));
    CHECK(program.end(SIGTERM) == 0);
}

TEST_CASE("clients that don't read hold no memory", "[hostile][hls]") {
    const TempDir dir;
    // Segments of about a megabyte and a half.
    write_media(dir / "film.mp4", "mp4", {video_track(Codec::h264, 24 * 120), audio_track(Codec::aac, 120)});
    const std::uint16_t port = free_port();
    Background program({"stream", "run", "film.mp4", "--delivery", "hls", "--port", std::to_string(port), "-q"},
                       dir.path());
    REQUIRE(wait_for_port(port));
    REQUIRE(get(port, "/film.m3u8").starts_with("HTTP/1.1 200"));
    std::vector<int> lazy;
    for (int i = 0; i < 150; ++i)
        lazy.push_back(
            connect_to(port, "GET /film-" + std::to_string(i % 19) + ".ts HTTP/1.1\r\nHost: 127.0.0.1\r\n\r\n"));
    for (int i = 0; i < 10; ++i) CHECK(get(port, "/film-3.ts").starts_with("HTTP/1.1 200"));
    const std::size_t memory = resident(program.worker());
    CHECK(memory > (std::size_t{1} << 20));
    CHECK(memory < (std::size_t{256} << 20));
    for (const int handle : lazy) ::close(handle);
    CHECK(program.end(SIGTERM) == 0);
}

TEST_CASE("slow connections beyond what is to be had cost honest viewers nothing", "[hostile][server]") {
    const TempDir dir;
    film(dir / "film.mp4", 4);
    const std::uint16_t port = free_port();
    Background program({"stream", "run", "film.mp4", "--port", std::to_string(port)}, dir.path(), 256);
    REQUIRE(wait_for_port(port));
    std::vector<int> slow;
    for (int i = 0; i < 400; ++i) slow.push_back(connect_to(port, "GET /film.mp4 HTTP/1.1\r\nHo"));
    int right = 0;
    for (int i = 0; i < 40; ++i) right += get(port, "/film.mp4", "Range: bytes=0-99\r\n").starts_with("HTTP/1.1 206");
    CHECK(right >= 39);
    CHECK(program.has_written("connections are open"));
    for (const int handle : slow) ::close(handle);
    CHECK(program.end(SIGTERM) == 0);
}

TEST_CASE("what clients send can't steer the terminal that shows the log, and keys are not in it",
          "[hostile][server]") {
    const TempDir dir;
    film(dir / "film.mp4", 4);
    const std::uint16_t port = free_port();
    write_all(dir / "key", std::string("harbour-24\n"));
    write_all(dir / "site.toml", "[site]\nname = \"Cedar Landing\"\n[server]\nport = " + std::to_string(port) +
                                     "\n[[stream]]\nname = \"Inner room\"\nfile = \"film.mp4\"\nkey_file = \"key\"\n");
    Background program({"stream", "run", "--site", "site.toml"}, dir.path());
    REQUIRE(wait_for_port(port));
    CHECK(get(port, "/%1b]0;owned%07%0aline").starts_with("HTTP/1.1 404"));
    CHECK(get(port, "/inner-room.mp4?key=wrong-one-1").starts_with("HTTP/1.1 403"));
    CHECK(get(port, "/inner-room.mp4?key=harbour-24", "Range: bytes=0-9\r\n").starts_with("HTTP/1.1 206"));
    // Who has no key isn't told that there is such a stream.
    CHECK(get(port, "/nothing").find("inner-room") == std::string::npos);
    REQUIRE(program.has_written("owned"));
    const std::string log = program.output();
    CHECK(log.find('\x1b') == std::string::npos);
    CHECK(log.find('\x07') == std::string::npos);
    CHECK(log.find("\\x1b]0;owned\\x07\\x0aline") != std::string::npos);
    CHECK(log.find("wrong-one-1") == std::string::npos);
    // Guessing is slowed down: after some wrong ones even the right one isn't looked at.
    for (int i = 0; i < 12; ++i) get(port, "/inner-room.mp4?key=guess-" + std::to_string(i));
    CHECK(get(port, "/inner-room.mp4?key=harbour-24").starts_with("HTTP/1.1 403"));
    CHECK(program.end(SIGTERM) == 0);
    // What is verified is written down without the key.
    Background again({"stream", "run", "--site", "site.toml"}, dir.path());
    REQUIRE(wait_for_port(port));
    const Ran ran =
        run_program({"verify", "http://127.0.0.1:" + std::to_string(port) + "/inner-room.mp4?key=harbour-24",
                     "--device", "player-full", "--out", "results"},
                    dir.path());
    CHECK(ran.status == 0);
    const ByteVector json = read_all(dir / "results/verify.json");
    CHECK(std::string(json.begin(), json.end()).find("harbour-24") == std::string::npos);
}

TEST_CASE("keys that are too short are refused, for viewers, too", "[hostile][site]") {
    const TempDir dir;
    film(dir / "film.mp4", 2);
    write_all(dir / "site.toml", std::string("[site]\nname = \"Cedar Landing\"\n[[stream]]\nname = \"film\"\n"
                                             "file = \"film.mp4\"\nkey = \"short\"\n"));
    const Ran ran = run_program({"site", "check", "site.toml"}, dir.path());
    CHECK(ran.status != 0);
    CHECK((ran.out + ran.err).find("too short") != std::string::npos);
}

TEST_CASE("output that can't be written is no success", "[hostile][cli]") {
    if (!std::filesystem::exists("/dev/full")) return;
    const TempDir dir;
    film(dir / "film.mp4", 2);
    for (const char* command :
         {"profile show small-screen", "device list", "inspect film.mp4", "inspect film.mp4 --json"}) {
        INFO(command);
        const std::string line = std::string("cd '") + dir.path().string() + "' && '" + WAVECREST_PROGRAM + "' " +
                                 command + " >/dev/full 2>error";
        const int status = std::system(line.c_str());
        CHECK(WEXITSTATUS(status) == 4);
        CHECK(base::read_text_file(dir / "error").value().find("incomplete") != std::string::npos);
        // A reader that has enough is no failure.
        const std::string cut = std::string("bash -c \"set -o pipefail; cd '") + dir.path().string() + "' && '" +
                                WAVECREST_PROGRAM + "' " + command + " 2>error | head -c 1 >/dev/null\"";
        CHECK(WEXITSTATUS(std::system(cut.c_str())) == 0);
    }
}

TEST_CASE("a verdict is told though its files can't be written", "[hostile][cli]") {
    const TempDir dir;
    film(dir / "film.mp4", 4);
    const std::uint16_t port = free_port();
    Background program({"stream", "run", "film.mp4", "--port", std::to_string(port)}, dir.path());
    REQUIRE(wait_for_port(port));
    write_all(dir / "blocked", std::string("a file, no folder"));
    const std::string address = "http://127.0.0.1:" + std::to_string(port) + "/film.mp4";
    const Ran ran = run_program({"verify", address, "--device", "player-full", "--out", "blocked/results"}, dir.path());
    CHECK(ran.status == 4);
    CHECK(ran.out.find("Verdict: pass") != std::string::npos);
    const auto json = json_of(
        run_program({"verify", address, "--device", "player-full", "--out", "blocked/results", "--json"}, dir.path()));
    CHECK(json["results"][0]["verdict"] == "pass");
    CHECK(json.contains("error"));
    const Ran inspected = run_program({"inspect", "film.mp4", "--out", "blocked/results"}, dir.path());
    CHECK(inspected.status == 4);
    CHECK(inspected.out.find("320x180") != std::string::npos);
}

TEST_CASE("when the terminal goes, streams and conversions end as they should, leftovers are removed",
          "[hostile][cli]") {
    const TempDir dir;
    const auto parts = [&] {
        std::size_t count = 0;
        for (const std::string& name : dir.files()) count += name.ends_with(".part") ? 1 : 0;
        return count;
    };
    const TempDir elsewhere;
    const std::string profile = elsewhere / quick_profile(elsewhere.path());
    const auto begin = [&] {
        auto conversion =
            std::make_unique<Background>(std::vector<std::string>{"convert", sample_disc().string(), "--into",
                                                                  "library", "--name", "Film", "--profile", profile},
                                         dir.path());
        for (int i = 0; i < 400 && parts() == 0; ++i) std::this_thread::sleep_for(25ms);
        REQUIRE(parts() == 1);
        return conversion;
    };
    CHECK(begin()->end(SIGHUP) == 130);
    CHECK(dir.files().empty());
    CHECK(begin()->end(SIGQUIT) == 130);
    CHECK(parts() == 0);
    begin()->end(SIGKILL);
    CHECK(parts() == 1);
    // (What is that young may be somebody's who hasn't locked it yet.)
    for (const std::string& name : dir.files())
        std::filesystem::last_write_time(dir / name, std::filesystem::file_time_type::clock::now() - 1min);
    const Ran again = run_program(
        {"convert", sample_disc().string(), "--into", "library", "--name", "Film", "--profile", profile, "-q"},
        dir.path());
    CHECK(again.status == 0);
    CHECK(again.err.find("partial files of an earlier run were removed") != std::string::npos);
    CHECK(parts() == 0);
}

TEST_CASE("Ctrl-C ends a program that is held in a system call altogether", "[hostile][cli][waits]") {
    // As a hanging NFS mount holds it: the signal stays pending, since no thread takes it.
    const TempDir dir;
    const std::string line = "cd '" + dir.path().string() +
                             "' && mkfifo pipe && timeout --preserve-status -s INT -k 15 0.5 env --block-signal=INT '" +
                             WAVECREST_PROGRAM + "' inspect - <>pipe 2>told";
    const int status = std::system(line.c_str());
    CHECK(WEXITSTATUS(status) == 130);
    CHECK(read_text(dir / "told").find("does not respond") != std::string::npos);
}

TEST_CASE("a command gives up on a drive that does not respond", "[hostile][cli][waits]") {
    const TempDir dir;
    std::filesystem::create_directories(dir / "there");
    film(dir / "there/far.mp4", 10);
    const FailingMount mount(dir / "share", dir / "there", "none", 0, 0);
    if (!mount.mounted()) {
        WARN("FUSE is not to be had here: not tested");
        return;
    }
    mount.hang();
    Background program({"inspect", "share/far.mp4", "--drive-timeout", "1500 ms", "--json"}, dir.path());
    CHECK(program.has_written("did not respond for 1.5 s"));
    CHECK(program.has_written((dir / "share").string()));
    INFO(program.output());
    // A file system in user space must answer before the kernel lets the program go.
    mount.answer_again();
    CHECK(program.end(0) == 4);
}

TEST_CASE("a conversion to a drive that hangs is given up, though the kernel holds it", "[hostile][cli][waits]") {
    const TempDir dir;
    film(dir / "near.mp4", 10);
    const auto mount = share_in(dir.path());
    if (!mount) return;
    mount->hang();
    std::vector<std::string> words = {"convert", "near.mp4", "--into", "share/films", "--remux", "matroska"};
    SECTION("after its time") {
        words.insert(words.end(), {"--drive-timeout", "1500 ms"});
        Background program(words, dir.path());
        CHECK(program.has_written("did not respond for 1.5 s"));
        CHECK(program.end(0) == 4);
    }
    SECTION("after Ctrl-C") {
        Background program(words, dir.path());
        std::this_thread::sleep_for(1s);
        const auto begun = Steady::now();
        CHECK(program.end(SIGINT) == 130);
        CHECK(Steady::now() - begun < 15s);
    }
}

// Where the kernel holds a process, its command returns all the same; Ctrl-Z stops both.
TEST_CASE("jobs and other commands on a drive that hangs are given up, though the kernel holds them",
          "[hostile][cli][waits]") {
    const TempDir dir;
    const OwnState state;
    film(dir / "near.mp4", 10);
    const auto mount = share_in(dir.path());
    if (!mount) return;
    const auto after_ctrl_c = [&](const std::vector<std::string>& words) {
        Background program(words, dir.path());
        std::this_thread::sleep_for(1s);
        const auto begun = Steady::now();
        CHECK(program.end(SIGINT) == 130);
        CHECK(Steady::now() - begun < 15s);
    };
    SECTION("a job after its time, and after Ctrl-C; the next run is not kept by it") {
        const Ran queued =
            run_program({"convert", "near.mp4", "--into", "share", "--remux", "matroska", "--queue"}, dir.path());
        INFO(queued.err);
        REQUIRE(queued.status == 0);
        mount->hang();
        {
            Background program({"job", "run", "--drive-timeout", "1500 ms"}, dir.path());
            CHECK(program.has_written("did not respond for 1.5 s"));
            CHECK(program.end(0) == 4);
        }
        CHECK(run_program({"convert", "near.mp4", "--into", "share/b", "--remux", "matroska", "--queue"}, dir.path())
                  .status == 0);
        after_ctrl_c({"job", "run"});
    }
    SECTION("results that are written there") {
        mount->hang();
        Background program({"inspect", "near.mp4", "--deep", "--out", "share/result", "--drive-timeout", "1500 ms"},
                           dir.path());
        CHECK(program.has_written("did not respond for 1.5 s"));
        CHECK(program.end(0) == 4);
    }
    SECTION("Ctrl-Z stops the work, too") {
        const auto is_stopped = [](pid_t pid) {
            const std::string text = read_text("/proc/" + std::to_string(pid) + "/stat");
            return text.substr(text.rfind(')') + 2, 1) == "T";
        };
        const auto becomes = [&](pid_t pid, bool stopped) {
            for (int i = 0; i < 100 && is_stopped(pid) != stopped; ++i) std::this_thread::sleep_for(50ms);
            return is_stopped(pid) == stopped;
        };
        Background program({"job", "run", "--wait"}, dir.path());
        for (int i = 0; i < 100 && program.worker() <= 0; ++i) std::this_thread::sleep_for(50ms);
        const pid_t worker = program.worker();
        REQUIRE(worker > 0);
        ::kill(program.pid(), SIGTSTP);
        CHECK(becomes(program.pid(), true));
        CHECK(becomes(worker, true));
        ::kill(program.pid(), SIGCONT);
        CHECK(becomes(program.pid(), false));
        CHECK(becomes(worker, false));
        CHECK(program.end(SIGTERM) == 130);
    }
}

TEST_CASE("a disc goes out live with a profile", "[server][waits]") {
    const TempDir dir;
    // Small, so that a busy machine keeps up.
    write_all(
        dir / "small.toml",
        std::string("name = \"small\"\n[video]\neffort = 1\nmax_size = \"320x240\"\nkeyframe_interval = \"1 s\"\n"));
    const std::uint16_t port = free_port();
    Background program({"stream", "run", sample_disc().string(), "--delivery", "live", "--profile", "small.toml",
                        "--name", "disc", "--port", std::to_string(port), "--loop", "-q"},
                       dir.path());
    REQUIRE(wait_for_port(port, 60'000));
    const Ran seen = run_program({"verify", "http://127.0.0.1:" + std::to_string(port) + "/disc-live.ts", "--device",
                                  "player-full", "--for", "2 s", "--wait", "20 s", "--json"},
                                 dir.path());
    INFO(seen.out << seen.err);
    CHECK(seen.status == 0);
    CHECK(program.end(SIGTERM) == 0);
}

TEST_CASE("a mistyped command or option is named, with the one that was meant", "[cli]") {
    const TempDir dir;
    const auto says = [&](const std::vector<std::string>& words, const std::string& text) {
        const Ran ran = run_program(words, dir.path());
        INFO(ran.err);
        CHECK(ran.status == 2);
        CHECK(ran.err.find(text) != std::string::npos);
    };
    says({"inspct", "x"}, "did you mean inspect?");
    says({"stream", "rum"}, "did you mean run?");
    says({"convert", "--int", "x"}, "did you mean --into?");  // though the input is missing, too
    says({"verify", "--devise=tv-hd"}, "did you mean --device?");
    const Ran json = run_program({"inspect", "--json", "--depp", "x"}, dir.path());
    CHECK(json_of(json)["error"]["remedy"] == "did you mean --deep?");
}

TEST_CASE("a plan that can't be carried out says so by its status", "[cli]") {
    const TempDir dir;
    film(dir / "film.mp4", 2);
    const Ran ran = run_program({"convert", "film.mp4", "--into", "film.mp4/library", "--plan"}, dir.path());
    CHECK(ran.status == 4);
    CHECK(ran.out.find("Estimate from") != std::string::npos);
    CHECK(ran.err.find("film.mp4") != std::string::npos);
    CHECK(
        run_program({"convert", "film.mp4", "--remux", "matroska", "--into", "film.mp4/library", "--plan"}, dir.path())
            .status == 4);
}
