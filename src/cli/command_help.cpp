#include "cli/command_help.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/atomic_file.hpp"
#include "container/writer.hpp"
#include "device/device.hpp"
#include "profile/profile.hpp"
#include "site/site.hpp"
#include "stream/stream_item.hpp"

namespace wavecrest::cli {
namespace {

// ---- Manual pages: man(7) --------------------------------------------------------------------------------------

// Text as troff takes it: a backslash and a hyphen are signs of its own, and so are a dot or a quote that open a line.
std::string escaped(std::string_view text) {
    std::string out;
    bool opens = true;
    for (const char c : text) {
        if (opens && (c == '.' || c == '\'')) out += "\\&";
        if (c == '\\') {
            out += "\\e";
        } else if (c == '-') {
            out += "\\-";
        } else {
            out += c;
        }
        opens = c == '\n';
    }
    return out;
}

std::string page_name(const CommandHelp& command) {
    std::string name = command.name;
    std::replace(name.begin(), name.end(), ' ', '-');
    return name;
}

std::string synopsis(const CommandHelp& command) {
    std::string line = fmt::format(".B {}\n", escaped(command.name));
    if (!command.commands.empty()) return line + "\\fICOMMAND\\fR ...\n";
    std::string rest;
    if (std::any_of(command.options.begin(), command.options.end(), [](const auto& o) { return !o.names.empty(); }))
        rest += "[\\fIOPTION\\fR...]";
    for (const OptionHelp& option : command.options) {
        if (!option.names.empty()) continue;
        const std::string value = "\\fI" + escaped(option.value) + "\\fR" + (option.several ? "..." : "");
        rest += (rest.empty() ? "" : " ") + (option.required ? value : "[" + value + "]");
    }
    return line + rest + (rest.empty() ? "" : "\n");
}

std::string option_entries(const CommandHelp& command) {
    std::string text;
    for (const bool positional : {true, false}) {
        for (const OptionHelp& option : command.options) {
            if (option.names.empty() != positional) continue;
            std::string names;
            for (const std::string& name : option.names)
                names += fmt::format("{}\\fB{}\\fR", names.empty() ? "" : ", ", escaped(name));
            if (!option.value.empty()) names += (names.empty() ? "" : " ") + ("\\fI" + escaped(option.value) + "\\fR");
            text += fmt::format(".TP\n{}\n{}.", names, escaped(option.what));
            if (option.required && !positional) text += " Required.";
            if (!option.fallback.empty()) text += " Default: " + escaped(option.fallback) + ".";
            text += "\n";
        }
    }
    return text;
}

std::string example_lines(const CommandHelp& command) {
    std::string text;
    if (!command.examples.empty()) {
        text += ".EX\n";
        for (const std::string& example : command.examples) text += escaped(example) + "\n";
        text += ".EE\n";
    }
    return command.note.empty() ? text : text + ".PP\n" + escaped(command.note) + "\n";
}

const char* const kExitStatus =
    ".SH EXIT STATUS\n"
    ".TP\n.B 0\nDone, or the verdict is pass or warn.\n"
    ".TP\n.B 1\nChecked and found wanting: the verdict is fail.\n"
    ".TP\n.B 2\nWrong usage.\n"
    ".TP\n.B 3\nThe input can't be used: missing, damaged, protected or not supported.\n"
    ".TP\n.B 4\nRefused by the system: port in use, no disk space, no permission, address.\n"
    ".TP\n.B 5\nDone, but some of the input was lost; the message says where.\n"
    ".TP\n.B 130\nInterrupted.\n";

ManualPage manual_page(const CommandHelp& program, const CommandHelp& command, const std::string& version) {
    const std::string name = page_name(command);
    std::string upper = name;
    std::transform(upper.begin(), upper.end(), upper.begin(), [](unsigned char c) { return std::toupper(c); });
    std::string text =
        fmt::format(".TH {} 1 \"\" \"wavecrest {}\" \"User commands\"\n.SH NAME\n{} \\- {}\n.SH SYNOPSIS\n",
                    escaped(upper), escaped(version), escaped(name), escaped(command.what));
    const bool group = !command.commands.empty();
    if (!group || &command == &program) text += synopsis(command);
    if (group && &command != &program) {
        for (std::size_t i = 0; i < command.commands.size(); ++i)
            text += (i > 0 ? ".br\n" : "") + synopsis(command.commands[i]);
    }
    if (&command == &program) {
        text += ".SH COMMANDS\n";
        for (const CommandHelp& one : command.commands)
            text += fmt::format(".TP\n\\fB{}\\fR(1)\n{}.\n", escaped(page_name(one)), escaped(one.what));
    } else if (group) {
        for (const CommandHelp& one : command.commands) {
            text += fmt::format(".SH {}\n{}.\n", escaped(one.name), escaped(one.what)) + option_entries(one);
            if (const std::string examples = example_lines(one); !examples.empty())
                text += ".PP\nExamples:\n.PP\n" + examples;
        }
    }
    if (!group || &command == &program) {
        if (const std::string entries = option_entries(command); !entries.empty()) text += ".SH OPTIONS\n" + entries;
        if (const std::string examples = example_lines(command); !examples.empty()) text += ".SH EXAMPLES\n" + examples;
    }
    text += kExitStatus;
    text += ".SH SEE ALSO\n";
    if (&command != &program) text += "\\fBwavecrest\\fR(1), ";
    text += "/usr/share/doc/wavecrest/manual.md\n";
    return {name + ".1", std::move(text)};
}

// ---- Completion --------------------------------------------------------------------------------------------------

// A word as its typist meant it, without the shell's quotes.
std::string unquoted(std::string_view word) {
    std::string out;
    char quote = 0;
    for (std::size_t i = 0; i < word.size(); ++i) {
        const char c = word[i];
        if (quote == 0 && (c == '"' || c == '\'')) {
            quote = c;
        } else if (c == quote) {
            quote = 0;
        } else if (c == '\\' && quote != '\'' && i + 1 < word.size()) {
            out += word[++i];
        } else {
            out += c;
        }
    }
    return out;
}

bool is_file_kind(const std::string& kind) {
    static const std::set<std::string> kinds = {"FILE", "DIR", "INPUT", "FOLDER", "PROFILE", "CLASS", "URL", "DEVICE"};
    return kinds.contains(kind);
}

// Completes the last of several values that commas separate.
void complete_value(Completion& completion, const std::string& kind, const std::string& typed,
                    const std::vector<std::string>& words, const KnownValues& values) {
    completion.files = completion.files || is_file_kind(kind);
    const std::vector<std::string> known = values(kind, words);
    for (const std::string& one : known) {
        if (one.starts_with(typed)) completion.words.push_back(one);
    }
    const std::size_t comma = typed.rfind(',');
    if (comma == std::string::npos || kind != "DELIVERIES") return;
    const std::string before = typed.substr(0, comma + 1), last = typed.substr(comma + 1);
    for (const std::string& one : known) {
        if (one.starts_with(last) && ("," + before).find("," + one + ",") == std::string::npos)
            completion.words.push_back(before + one);
    }
}

}  // namespace

const OptionHelp* CommandHelp::find(const std::string& option) const {
    for (const OptionHelp& one : options) {
        if (std::find(one.names.begin(), one.names.end(), option) != one.names.end()) return &one;
    }
    return nullptr;
}

std::vector<ManualPage> manual_pages(const CommandHelp& program, const std::string& version) {
    std::vector<ManualPage> pages{manual_page(program, program, version)};
    for (const CommandHelp& command : program.commands) pages.push_back(manual_page(program, command, version));
    return pages;
}

Status write_pages(const CommandHelp& program, const std::string& version, const base::Path& folder) {
    for (const ManualPage& page : manual_pages(program, version))
        WAVECREST_TRY(base::write_file(folder / "man1" / page.file, base::as_bytes(page.text),
                                       base::AtomicFile::IfExists::replace));
    // The shell asks the program what may come next, so that both never differ.
    static constexpr std::string_view kBash =
        "# Completion of wavecrest for bash: the program says what may come next.\n"
        "_wavecrest() {\n"
        "    local line\n"
        "    COMPREPLY=()\n"
        "    while IFS= read -r line; do\n"
        "        case $line in\n"
        "            *[!A-Za-z0-9_./,:=+@%-]*) COMPREPLY+=(\"$(printf %q \"$line\")\") ;;\n"
        "            *) COMPREPLY+=(\"$line\") ;;\n"
        "        esac\n"
        "    done < <(command \"${COMP_WORDS[0]}\" complete-words -- \"${COMP_WORDS[@]:1:COMP_CWORD}\" 2>/dev/null)\n"
        "    # The first line says whether a file may come next.\n"
        "    [ \"${COMPREPLY[0]}\" != files ] || compopt -o default\n"
        "    COMPREPLY=(\"${COMPREPLY[@]:1}\")\n"
        "}\n"
        "complete -F _wavecrest wavecrest\n";
    return base::write_file(folder / "wavecrest.bash", base::as_bytes(kBash), base::AtomicFile::IfExists::replace);
}

Completion complete(const CommandHelp& program, std::vector<std::string> words, const KnownValues& values) {
    // "--profile=small" comes as three words.
    if (!words.empty() && words.back() == "=") words.emplace_back();
    std::erase(words, "=");
    if (words.empty()) words.emplace_back();
    for (std::string& word : words) word = unquoted(word);
    const std::string typed = words.back();
    words.pop_back();

    const CommandHelp* command = &program;
    const OptionHelp* taking = nullptr;  // the option whose value comes next
    std::size_t positionals = 0;
    std::set<std::string> given;
    for (const std::string& word : words) {
        if (taking != nullptr) {
            taking = nullptr;
        } else if (word.starts_with("-")) {
            const OptionHelp* option = command->find(word);
            if (option == nullptr) continue;
            if (!option->several) given.insert(option->names.front());
            if (!option->value.empty()) taking = option;
        } else if (!command->commands.empty()) {
            const auto next = std::find_if(command->commands.begin(), command->commands.end(),
                                           [&](const CommandHelp& one) { return one.name.ends_with(" " + word); });
            if (next == command->commands.end()) return {};
            command = &*next;
        } else {
            ++positionals;
        }
    }

    Completion completion;
    if (taking != nullptr) {
        complete_value(completion, taking->value, typed, words, values);
        return completion;
    }
    if (typed.starts_with("-")) {
        for (const OptionHelp& option : command->options) {
            if (option.names.empty() || given.contains(option.names.front())) continue;
            for (const std::string& name : option.names) {
                if (name.starts_with(typed) && name.starts_with("--")) completion.words.push_back(name);
            }
        }
        return completion;
    }
    for (const CommandHelp& one : command->commands) {
        const std::string name = one.name.substr(command->name.size() + 1);
        if (name.starts_with(typed)) completion.words.push_back(name);
    }
    for (const OptionHelp& option : command->options) {
        if (!option.names.empty()) continue;
        if (positionals > 0 && !option.several) {
            --positionals;
            continue;
        }
        complete_value(completion, option.value, typed, words, values);
        break;
    }
    return completion;
}

std::vector<std::string> known_values(const std::string& kind, const std::vector<std::string>& words) {
    std::vector<std::string> values;
    if (kind == "PROFILE") {
        for (const profile::Profile& one : profile::built_in()) values.push_back(one.name);
    } else if (kind == "CLASS") {
        for (const device::Device& one : device::built_in()) values.push_back(one.name);
    } else if (kind == "CONTAINER") {
        for (const std::string_view one : container::writable_formats()) values.emplace_back(one);
        values.emplace_back("webvtt");
    } else if (kind == "DELIVERIES") {
        values =
            stream::names_of({.file = true, .hls = true, .live = true, .live_hls = true, .rtmp = true, .ladder = true});
    } else if (kind == "DEVICE" || kind == "STREAM") {
        const auto named = std::find(words.begin(), words.end(), "--site");
        const bool has_site = named != words.end() && named + 1 != words.end();
        if (const auto site = site::load(has_site ? *(named + 1) : "site.toml")) {
            for (const site::SiteDevice& one : site->devices) {
                if (kind == "DEVICE") values.push_back(one.device.name);
            }
            for (const site::SiteStream& one : site->streams) {
                if (kind == "STREAM") values.push_back(one.name());
            }
        }
        if (kind == "DEVICE" && !has_site) {
            for (const device::Device& one : device::built_in()) values.push_back(one.name);
        }
    }
    return values;
}

}  // namespace wavecrest::cli
