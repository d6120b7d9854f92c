// Manual pages, completion, and the package that holds them.
#include <catch2/catch.hpp>
#include <csignal>
#include <cstdlib>
#include <regex>

#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;

namespace {

// What a shell is offered in place of the last word.
std::vector<std::string> completed(const base::Path& folder, std::vector<std::string> words) {
    words.insert(words.begin(), {"complete-words", "--"});
    const Ran ran = run_program(words, folder);
    REQUIRE(ran.status == 0);
    std::vector<std::string> lines;
    for (std::size_t at = 0; at < ran.out.size();) {
        const std::size_t end = ran.out.find('\n', at);
        lines.push_back(ran.out.substr(at, end - at));
        at = end + 1;
    }
    return lines;
}

using Lines = std::vector<std::string>;

}  // namespace

TEST_CASE("manual pages hold every option of every command, and a formatter finds nothing wrong", "[help]") {
    const TempDir dir;
    REQUIRE(run_program({"write-pages", "pages"}, dir.path()).status == 0);
    const Ran help = run_program({"--help"}, dir.path());
    const std::regex command("\n  ([a-z]+) ");
    int commands = 0;
    for (std::sregex_iterator i(help.out.begin(), help.out.end(), command), end; i != end; ++i) {
        const std::string name = (*i)[1].str();
        INFO(name);
        const base::Path page = dir / "pages" / "man1" / ("wavecrest-" + name + ".1");
        if (!std::filesystem::exists(page)) continue;
        ++commands;
        const std::string formatted = (dir / "formatted").string();
        REQUIRE(std::system(("MANWIDTH=200 man --warnings -l '" + page.string() + "' >'" + formatted + "' 2>'" +
                             formatted + ".err'")
                                .c_str()) == 0);
        CHECK(read_text(formatted + ".err").empty());
        const std::string text = read_text(formatted);
        CHECK(text.find("EXIT STATUS") != std::string::npos);
        // The options as help tells them, of the command or of those below it.
        Lines below = {name};
        const Ran its = run_program({name, "--help"}, dir.path());
        if (its.out.find("Subcommands:") != std::string::npos) {
            const std::size_t from = its.out.find("Subcommands:");
            const std::string list = its.out.substr(from, its.out.find("Examples:") - from);
            for (std::sregex_iterator s(list.begin(), list.end(), command); s != end; ++s)
                below.push_back((*s)[1].str());
        }
        const std::regex option("\n  (?:-[a-z],)?(--[a-z-]+)");
        for (std::size_t n = below.size() > 1 ? 1 : 0; n < below.size(); ++n) {
            const Ran one = run_program(n == 0 ? Lines{name, "--help"} : Lines{name, below[n], "--help"}, dir.path());
            int options = 0;
            for (std::sregex_iterator o(one.out.begin(), one.out.end(), option); o != end; ++o, ++options)
                CHECK(text.find((*o)[1].str()) != std::string::npos);
            CHECK(options >= 1);
        }
    }
    CHECK(commands == 14);
}

TEST_CASE("completion offers commands, options, and names of profiles, devices and streams", "[help]") {
    const TempDir dir;
    write_all(
        dir / "site.toml",
        "[site]\nname = \"Cedar Landing\"\n[[device]]\nname = \"Lounge TV\"\nclass = \"tv-hd\"\n[[stream]]\nname = "
        "\"Lanterns\"\nfile = \"film.mp4\"\n");
    CHECK(completed(dir.path(), {"stream", "s"}) == Lines{"words", "status", "seek", "stop"});
    CHECK(completed(dir.path(), {"convert", "rip", "--rem"}) == Lines{"words", "--remux"});
    CHECK(completed(dir.path(), {"convert", "--profile", "=", "small"}) == Lines{"files", "small-screen"});
    CHECK(completed(dir.path(), {"stream", "seek", ""}) == Lines{"words", "Lanterns"});
    CHECK(completed(dir.path(), {"verify", "--site", "site.toml", "--device", "\"Lou"}) == Lines{"files", "Lounge TV"});
    CHECK(completed(dir.path(), {"stream", "run", "--delivery", "live,h"}) == Lines{"words", "live,hls"});
    CHECK(completed(dir.path(), {"inspect", ""}).front() == "files");
    CHECK(completed(dir.path(), {"nonsense", ""}) == Lines{"words"});
    // As a shell does it.
    REQUIRE(run_program({"write-pages", "pages"}, dir.path()).status == 0);
    const std::string script = "source pages/wavecrest.bash; compopt() { :; }; COMP_WORDS=(" WAVECREST_PROGRAM
                               " verify --site site.toml --device 'Lounge\\ T'); COMP_CWORD=5; _wavecrest; "
                               "printf '%s|' \"${COMPREPLY[@]}\"";
    write_all(dir / "try.sh", script);
    REQUIRE(std::system(("cd '" + dir.path().string() + "' && bash try.sh >out").c_str()) == 0);
    CHECK(read_text(dir / "out") == "Lounge\\ TV|");
}
