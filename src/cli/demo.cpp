// The demo: every step is an ordinary command, printed before it is run, so that it reads as a tutorial.
#include <fcntl.h>
#include <spawn.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cerrno>
#include <chrono>
#include <csignal>
#include <thread>

#include "base/atomic_file.hpp"
#include "base/embedded.hpp"
#include "base/file.hpp"
#include "cli/commands.hpp"
#include "host/machine.hpp"
#include "net/http_server.hpp"

extern char** environ;

namespace wavecrest::cli {
namespace {

constexpr const char* kFilm = "Lanterns over Cedar Lake (2019)";
constexpr const char* kMark = ".wavecrest-demo";  // says that the folder's contents are the demo's own

std::string quoted(const std::string& word) {
    const bool plain = word.find_first_not_of("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-_./:=") ==
                       std::string::npos;
    return plain && !word.empty() ? word : "'" + word + "'";
}

class Demo {
  public:
    Demo(base::Path folder, std::string program) : folder_(std::move(folder)), program_(std::move(program)) {}

    // Prints the command and runs it in the demo's folder; false when it could not be run or was interrupted.
    bool step(const std::string& why, const std::vector<std::string>& arguments,
              std::initializer_list<int> expected = {0}) {
        announce(why, arguments);
        const pid_t child = spawn(arguments, false);
        if (child <= 0) return false;
        status_ = wait_for(child);
        for (const int status : expected) {
            if (status_ == status) return !cancel().requested();
        }
        if (!cancel().requested())
            print(stderr, "demo: that command ended with status {}, which was not expected.\n", status_);
        return false;
    }
    pid_t background(const std::string& why, const std::vector<std::string>& arguments) {
        announce(why, arguments);
        return spawn(arguments, true);
    }
    static int wait_for(pid_t child) {
        int status = 0;
        while (::waitpid(child, &status, 0) < 0 && errno == EINTR) {
        }
        return WIFEXITED(status) ? WEXITSTATUS(status) : 128;
    }
    int status() const { return status_; }

  private:
    void announce(const std::string& why, const std::vector<std::string>& arguments) {
        std::string line = "wavecrest";
        for (const std::string& word : arguments) line += " " + quoted(word);
        print("\n{}{}. {}{}\n$ {}\n", Raw{colours() ? "\033[1m" : ""}, ++count_, why, Raw{colours() ? "\033[0m" : ""},
              line);
        std::fflush(stdout);
    }
    pid_t spawn(const std::vector<std::string>& arguments, bool quiet) {
        std::vector<std::string> words = {program_};
        words.insert(words.end(), arguments.begin(), arguments.end());
        std::vector<char*> pointers;
        for (std::string& word : words) pointers.push_back(word.data());
        pointers.push_back(nullptr);
        posix_spawn_file_actions_t actions;
        posix_spawn_file_actions_init(&actions);
        posix_spawn_file_actions_addchdir_np(&actions, folder_.c_str());
        if (quiet) posix_spawn_file_actions_addopen(&actions, STDERR_FILENO, "/dev/null", O_WRONLY, 0);
        pid_t child = 0;
        const int error = ::posix_spawn(&child, program_.c_str(), &actions, nullptr, pointers.data(), environ);
        posix_spawn_file_actions_destroy(&actions);
        return error == 0 ? child : -1;
    }

    base::Path folder_;
    std::string program_;
    int count_ = 0;
    int status_ = 0;
};

// Earlier demo output goes, but only where the demo made it. The rip is kept: it would be made the same again.
Status prepare_folder(const base::Path& folder) {
    std::error_code error;
    if (std::filesystem::exists(folder, error) && !std::filesystem::exists(folder / kMark, error) &&
        !std::filesystem::is_empty(folder, error)) {
        return fail(ErrorKind::machine, "the folder exists and was not made by the demo", folder.string(),
                    "name a folder that does not exist yet");
    }
    for (const char* old : {"site.toml", "library", "originals", "ladders", "results", "report", "devices"})
        std::filesystem::remove_all(folder / old, error);
    return base::write_file(folder / kMark,
                            base::as_bytes("Made by wavecrest demo, which replaces what is here when it runs again.\n"),
                            base::AtomicFile::IfExists::replace);
}

std::string disc_description() {
    for (const base::EmbeddedFile& file : base::embedded_files()) {
        if (file.name == "demo/disc.toml") return std::string(file.text);
    }
    return "";
}

std::uint16_t free_port() {
    for (std::uint16_t port = net::kDefaultHttpPort; port < net::kDefaultHttpPort + 100; ++port) {
        if (!host::tcp_listener(port)) return port;
    }
    return net::kDefaultHttpPort;
}

bool wait_for_listener(std::uint16_t port) {
    for (int i = 0; i < 100; ++i) {
        if (host::tcp_listener(port)) return true;
        std::this_thread::sleep_for(std::chrono::milliseconds(50));
    }
    return false;
}

// A television of the network, found and told to play. Where multicast isn't possible on this machine, the demo goes on
// without.
void demo_renderer(Demo& demo) {
    const pid_t renderer = demo.background(
        "Televisions are found by themselves, too. This stands for the one in the lounge (on loopback alone: nothing "
        "of "
        "it goes into the network here).",
        {"standin", "renderer", "Lounge TV", "--class", "tv-hd", "--link", "fast-ethernet", "--interface", "lo",
         "--for", "10 min", "-q"});
    if (renderer <= 0) return;
    const bool found = demo.step("Who is there?", {"device", "find", "--interface", "lo", "--for", "2 s"}, {0});
    if (found)
        demo.step("Let it play the stream itself, and judge by what it does.",
                  {"verify", "--site", "site.toml", "--on", "Lounge TV", "--interface", "lo", "--for", "5 s", "--out",
                   "results"},
                  {0, 1});
    if (found) demo.step("What it can browse: the library.", {"library", "list", "--site", "site.toml"});
    ::kill(renderer, SIGTERM);
    Demo::wait_for(renderer);
}

// A short title in several bit rates, played over a link that is squeezed.
void demo_ladder(Demo& demo, const std::string& rip) {
    if (!demo.step("Down at the boathouse the Wi-Fi comes and goes: the bonus title in several bit rates, so that "
                   "players step "
                   "down and up by themselves.",
                   {"convert", rip, "--pick", "3", "--ladder", "--into", "ladders"}))
        return;
    const std::string name =
        fmt::format("{} - title 3 (2019)", std::string(kFilm).substr(0, std::string(kFilm).rfind(" (")));
    const std::uint16_t port = free_port();
    const pid_t server = demo.background("Stream it (here in the background) ...",
                                         {"stream", "run", fmt::format("ladders/{0}/{0}.ladder", name), "--name",
                                          "making-of", "--port", fmt::format("{}", port), "--for", "5 min", "-q"});
    if (server <= 0) return;
    if (wait_for_listener(port))
        demo.step("... and play it as the tablet would, over a link that is squeezed on purpose for a while.",
                  {"verify", fmt::format("http://127.0.0.1:{}/making-of-ladder/ladder.m3u8", port), "--device",
                   "tablet-hd", "--squeeze", "6 Mbit/s 3 s, 500 kbit/s 6 s, 6 Mbit/s", "--out", "results"},
                  {0, 1});
    ::kill(server, SIGTERM);
    Demo::wait_for(server);
}

}  // namespace

int run_demo(const std::string& folder_name) {
    const base::Path folder = folder_name;
    if (const auto status = prepare_folder(folder); !status) return report_error(status.error());
    std::error_code error;
    const std::string program = std::filesystem::read_symlink("/proc/self/exe", error).string();
    Demo demo(folder, program);
    const std::string rip = fmt::format("rip/{}", kFilm), film = fmt::format("library/{0}/{0}.mp4", kFilm);
    const auto stop = [&] {
        if (cancel().requested()) return exit_status(ErrorKind::interrupted);
        return demo.status() != 0 ? demo.status() : exit_status(ErrorKind::machine);
    };

    print(
        "Cedar Landing, a guest house by the lake, wants its discs on every screen. All of it is made up; "
        "every\ncommand below can be typed as it stands, in the folder {}.\n",
        folder.string());
    // The same description gives the same disc: a rip made from it before is used again.
    const std::string description = disc_description();
    const auto before = base::read_text_file(folder / "disc.toml");
    if (std::filesystem::exists(folder / "rip" / kFilm, error) && before && *before == description) {
        print("\n(The sample disc of an earlier demo is used again: it would come out the same.)\n");
    } else {
        std::filesystem::remove_all(folder / "rip" / kFilm, error);
        if (const auto written = base::write_file(folder / "disc.toml", base::as_bytes(description),
                                                  base::AtomicFile::IfExists::replace);
            !written)
            return report_error(written.error());
        if (!demo.step("A ripped disc is on the owner's drive. Here it is a sample with a test card as the film; "
                       "disc.toml describes it.",
                       {"standin", "disc", rip, "--from", "disc.toml"}))
            return stop();
    }
    if (!demo.step("What does it contain, and which title is the film?", {"inspect", rip, "--out", "results"}))
        return stop();
    if (!demo.step("Convert the film for the library.", {"convert", rip, "--pick", "main", "--profile", "full-picture",
                                                         "--into", "library", "--out", "results"}))
        return stop();
    if (!demo.step("Check the result from beginning to end: will it play smoothly?",
                   {"inspect", "--deep", film, "--out", "results"}))
        return stop();
    if (!demo.step("Keep the disc's own tracks, too: remux them into one file for a player that supports them all.",
                   {"convert", rip, "--pick", "main", "--remux", "matroska", "--into", "originals"}))
        return stop();
    demo_ladder(demo, rip);
    // Where another program holds the usual port, the site gets the next free one.
    const std::uint16_t port = free_port();
    std::vector<std::string> house = {"site", "new", "site.toml", "--name", "Cedar Landing"};
    if (port != net::kDefaultHttpPort) house.insert(house.end(), {"--port", fmt::format("{}", port)});
    house.insert(house.end(), {"--device", "Lounge TV,tv-hd,gigabit", "--device", "Boathouse tablet,tablet-hd,2 Mbit/s",
                               "--stream", fmt::format("Lanterns,{}", film), "--collection", "Films,library"});
    if (!demo.step("Write the site file: two devices, one of them on weak Wi-Fi, the stream, and the library.", house))
        return stop();
    if (!demo.step("Check the site file against this machine.", {"site", "check", "site.toml"})) return stop();

    // A stand-in takes the place of the real tablet: it has less than it was taken for.
    const std::uint16_t test_port = free_port();
    const pid_t test = demo.background(
        "Is the tablet what it looks like? Let it show what it plays: the page waits (here in the background) until a "
        "browser opens it.",
        {"device", "test", "--site", "site.toml", "--device", "Boathouse tablet", "--only", "video,audio", "--max-size",
         "1080p", "--port", fmt::format("{}", test_port), "--adopt", "--out", "results", "--for", "10 min"});
    if (test <= 0 || !wait_for_listener(test_port)) {
        if (test > 0) ::kill(test, SIGTERM), Demo::wait_for(test);
        return report_error({ErrorKind::machine, "the device test did not start", fmt::format("TCP port {}", test_port),
                             "run the command above by hand and read what it says"});
    }
    const bool tested = demo.step("This stands for the tablet's browser: in a house, you open the address on it.",
                                  {"standin", "device", fmt::format("http://127.0.0.1:{}/test", test_port), "--class",
                                   "tablet-basic", "--link", "12 Mbit/s", "-q"});
    if (!tested) ::kill(test, SIGTERM);
    Demo::wait_for(test);
    if (!tested) return stop();
    if (!demo.step(
            "It plays less than it was taken for; the site file knows it now, and so does what is converted for it.",
            {"convert", rip, "--site", "site.toml", "--device", "Boathouse tablet", "--into", "small", "--plan"}))
        return stop();

    const pid_t server =
        demo.background("Run the streams (here in the background, for the rest of the demo).",
                        {"stream", "run", "--site", "site.toml", "--interface", "lo", "--for", "10 min"});
    if (server <= 0 || !wait_for_listener(port)) {
        if (server > 0) ::kill(server, SIGTERM), Demo::wait_for(server);
        return report_error({ErrorKind::machine, "the streams did not start", fmt::format("TCP port {}", port),
                             "run the command above by hand and read what it says"});
    }
    // One device is expected to fail: that is what verifying is for.
    const bool verified = demo.step("Test the stream on each device, before leaving.",
                                    {"verify", "--site", "site.toml", "--out", "results"}, {0, 1});
    const int verdict = demo.status();
    if (verified) demo_renderer(demo);
    ::kill(server, SIGTERM);
    Demo::wait_for(server);
    if (!verified) return stop();
    if (!demo.step("Hand over the report.", {"report", "--site", "site.toml"})) return stop();

    print("\nDone. In {}: site.toml, rip/, library/, results/, and report/index.html to open in a browser.\n",
          folder.string());
    if (verdict == 1) print("The tablet fails, as it would on site: the report says why and what to change.\n");
    return 0;
}

}  // namespace wavecrest::cli
