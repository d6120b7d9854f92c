// The command line as a value, made from its one declaration in command_line.cpp: the manual pages and the completion
// of a shell are made of it.
#pragma once

#include <functional>
#include <string>
#include <vector>

#include "base/file.hpp"
#include "base/result.hpp"

namespace wavecrest::cli {

struct OptionHelp {
    std::vector<std::string> names;  // "--audio", "-q"; none: a positional argument
    std::string value;               // the kind of value it takes: "FILE", "TIME"; empty: a flag
    std::string what;
    std::string fallback;  // its default; empty: none that is told
    bool required = false;
    bool several = false;  // takes several values
};

struct CommandHelp {
    std::string name;  // as it is typed: "wavecrest stream run"
    std::string what;
    std::vector<OptionHelp> options;
    std::vector<std::string> examples;
    std::string note;  // after the examples; may be empty
    std::vector<CommandHelp> commands;

    const OptionHelp* find(const std::string& option) const;
};

// A page in the man(7) language, by its file's name: the program's own ("wavecrest.1") and one for each of its commands
// ("wavecrest-stream.1"), which holds those below it.
struct ManualPage {
    std::string file;
    std::string text;
};
std::vector<ManualPage> manual_pages(const CommandHelp& program, const std::string& version);

// Writes all that a package installs beside the program: `folder`/man1/*.1 and `folder`/wavecrest.bash.
Status write_pages(const CommandHelp& program, const std::string& version, const base::Path& folder);

// What may be typed in place of the last of `words` (which come after the program's name, as a shell splits them: with
// quotes, and "=" as a word of its own), and whether a file's name may.
struct Completion {
    std::vector<std::string> words;
    bool files = false;
};
// `values` gives what a kind of value may be ("PROFILE"), if that is known. It is given the words, too, for the site
// file that they name.
using KnownValues =
    std::function<std::vector<std::string>(const std::string& kind, const std::vector<std::string>& words)>;
Completion complete(const CommandHelp& program, std::vector<std::string> words, const KnownValues& values);

// The known values of the kinds that the command line uses: profiles, device classes, containers, deliveries, and the
// devices and streams of the site file.
std::vector<std::string> known_values(const std::string& kind, const std::vector<std::string>& words);

}  // namespace wavecrest::cli
