// What is written down as commands run.
#include <catch2/catch.hpp>
#include <csignal>
#include <cstdlib>
#include <regex>

#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;

namespace {

auto count(const std::string& text, const char* pattern) {
    const std::regex one(pattern);
    return std::distance(std::sregex_iterator(text.begin(), text.end(), one), std::sregex_iterator());
}

}  // namespace

TEST_CASE("a log holds what was done, with times, from one command to the next", "[log]") {
    const TempDir dir;
    REQUIRE(run_program({"convert", sample_disc().string(), "--into", "library", "--profile", "small-screen", "--name",
                         "Lake", "-q", "--log", "wavecrest.log"},
                        dir.path())
                .status == 0);
    CHECK(run_program({"inspect", "missing.mkv", "--log", "wavecrest.log"}, dir.path()).status == 3);
    const std::string log = read_text(dir / "wavecrest.log");
    INFO(log);
    CHECK(count(log, R"(\d{4}-\d\d-\d\d \d\d:\d\d:\d\d\.\d{3}  (info |error) +[^\n]+\n)") == 3);
    CHECK(log.find("library/Lake/Lake.mp4") != std::string::npos);
    CHECK(log.find("(missing.mkv)") != std::string::npos);
    // A log that can't be written is told before the work begins.
    const Ran refused = run_program({"inspect", sample_film().string(), "--log", "/proc/none/log"}, dir.path());
    CHECK(refused.status == 4);
    CHECK(refused.err.find("/proc/none/log") != std::string::npos);
    CHECK(refused.out.empty());
}

TEST_CASE("with -v, what viewers do is shown, keys left out, and nothing twice", "[log][server]") {
    const TempDir dir;
    write_all(dir / "key", std::string("harbour-24\n"));
    const std::uint16_t port = free_port();
    write_all(dir / "site.toml", "[site]\nname = \"Cedar Landing\"\n[server]\nport = " + std::to_string(port) +
                                     "\n[[stream]]\nname = \"Lanterns\"\nfile = \"" + sample_film().string() +
                                     "\"\nkey_file = \"key\"\n");
    Background program({"stream", "run", "--site", "site.toml", "-v"}, dir.path());
    REQUIRE(wait_for_port(port));
    CHECK(raw_exchange(port,
                       "GET /lanterns.mp4?key=harbour-24 HTTP/1.1\r\nHost: x\r\nRange: bytes=0-9\r\n"
                       "Connection: close\r\n\r\n")
              .starts_with("HTTP/1.1 206"));
    REQUIRE(program.has_written("GET Lanterns"));
    CHECK(program.end(SIGTERM) == 0);
    const std::string shown = program.output();
    INFO(shown);
    CHECK(count(shown, "info .*harbour-24") == 0);
    CHECK(count(shown, R"(info +127\.0\.0\.1  request  GET Lanterns)") == 1);
    CHECK(count(shown, R"(127\.0\.0\.1  request  GET)") == 1);
}

TEST_CASE("for the system's journal lines have priorities", "[log]") {
    const TempDir dir;
    // Standard error is what JOURNAL_STREAM names: so a service knows.
    write_all(dir / "run.sh", std::string("exec 2>journal\n"
                                          "export JOURNAL_STREAM=$(stat -c %d:%i journal)\n"
                                          "'" WAVECREST_PROGRAM "' stream run \"$1\" --port $2 --for '300 ms' -q\n"));
    const int status = std::system(("cd '" + dir.path().string() + "' && sh run.sh '" + sample_film().string() + "' " +
                                    std::to_string(free_port()) + " >out")
                                       .c_str());
    CHECK(status == 0);
    const std::string journal = read_text(dir / "journal");
    INFO(journal);
    CHECK(journal.find("<6>stream ") != std::string::npos);
}

TEST_CASE("a log whose disk is full holds up nothing, and is told as incomplete", "[log]") {
    const TempDir dir;
    // (Everything that is written to it finds no room.)
    std::filesystem::create_symlink("/dev/full", dir / "full.log");
    const Ran ran = run_program({"inspect", "missing.mkv", "--log", "full.log"}, dir.path());
    CHECK(ran.status == 3);
    CHECK(ran.err.find("the log is incomplete") != std::string::npos);
}
