// Help of every command: examples that fit what the command takes.
#include <catch2/catch.hpp>
#include <regex>

#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;

TEST_CASE("every command's help has examples, of options that it has", "[help]") {
    const TempDir dir;
    const std::vector<std::string> commands = {
        "site",          "site new",     "site check",    "site show",   "site service", "inspect",      "profile",
        "profile list",  "profile show", "profile check", "weigh",       "convert",      "stream",       "stream run",
        "stream status", "stream pause", "stream resume", "stream seek", "stream stop",  "device",       "device list",
        "device show",   "verify",       "report",        "standin",     "standin disc", "standin link", "demo"};
    for (const std::string& command : commands) {
        std::vector<std::string> words;
        for (std::size_t at = 0; at < command.size();) {
            const std::size_t end = std::min(command.find(' ', at), command.size());
            words.push_back(command.substr(at, end - at));
            at = end + 1;
        }
        words.emplace_back("--help");
        const Ran ran = run_program(words, dir.path());
        INFO(command);
        REQUIRE(ran.status == 0);
        const std::size_t at = ran.out.find("Examples:");
        REQUIRE(at != std::string::npos);
        const std::string options = ran.out.substr(0, at), examples = ran.out.substr(at);
        const std::regex line("\n  (wavecrest " + command + "[^\n|]*)"), option("--[a-z-]+");
        int count = 0;
        for (std::sregex_iterator i(examples.begin(), examples.end(), line), end; i != end; ++i, ++count) {
            const std::string example = (*i)[1].str();
            INFO(example);
            const bool group = options.find("Subcommands:") != std::string::npos;
            for (std::sregex_iterator o(example.begin(), example.end(), option), last; o != last && !group; ++o)
                CHECK(options.find(o->str()) != std::string::npos);
        }
        CHECK(count >= 2);
    }
    const Ran plain = run_program({}, dir.path());
    CHECK(plain.status == 0);
    CHECK(plain.out.find("wavecrest demo") != std::string::npos);
}
