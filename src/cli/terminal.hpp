// What all commands share: exit statuses, error messages, progress, results as JSON, Ctrl-C.
#pragma once

#include <fmt/format.h>

#include <chrono>
#include <cstdio>
#include <functional>
#include <memory>
#include <nlohmann/json_fwd.hpp>
#include <string>
#include <type_traits>

#include "base/cancel.hpp"
#include "base/file.hpp"
#include "base/printable.hpp"
#include "base/progress.hpp"
#include "base/result.hpp"

namespace wavecrest::cli {

// Options of every command that has results.
struct Output {
    bool json = false;
    bool quiet = false;
    std::string out;  // folder for result files; empty: none
};

int exit_status(ErrorKind kind);

// Text that is this program's own as it stands: layout, colours, tables (whose cells are made safe by themselves).
struct Raw {
    std::string text;
};

namespace detail {
template <typename T>
auto shown(const T& value) {
    if constexpr (std::is_same_v<T, Raw>) {
        return value.text;
    } else if constexpr (std::is_convertible_v<const T&, std::string_view>) {
        return base::printable(value);
    } else {
        return value;
    }
}
template <typename T>
using Shown = decltype(shown(std::declval<const T&>()));
void write_text(std::FILE* to, const std::string& text);
}  // namespace detail

// Everything that a person reads goes by these: texts among the arguments come from outside as a rule, and are made
// safe (base/printable.hpp). What can't be written is told by finish_output().
template <typename... Args>
void print(std::FILE* to, fmt::format_string<detail::Shown<Args>...> format, const Args&... args) {
    const auto line = [&](const auto&... values) {
        return fmt::vformat(fmt::string_view(format), fmt::make_format_args(values...));
    };
    detail::write_text(to, line(detail::shown(args)...));
}
template <typename... Args>
void print(fmt::format_string<detail::Shown<Args>...> format, const Args&... args) {
    cli::print(stdout, format, args...);
}

// Text of several lines, each made safe.
Raw by_lines(std::string_view text);

// At the end of the program: the status it ends with, which is 4 when its output could not be written (a full disk).
// A reader that has left (head) is no failure.
int finish_output(int status);

// Prints the three-part message on standard error (and as JSON on standard output when asked) and gives the status.
int report_error(const Error& error, bool json = false);

// The same at the end of a command that has a result all the same (what it found, when a file beside it could not be
// written): as JSON it is a member of the result.
int report_beside(const Error& error, nlohmann::ordered_json& result);

// Notes and errors are written to the log, too, but for one that is on the screen with them.
void log_messages(bool wanted);

// A remark that does not end the command; standard error.
void note(const std::string& text);

// The result for programs: one JSON object on standard output.
void print_json(const nlohmann::ordered_json& object);
// Writes a result file below `folder`, replacing the one of an earlier run.
Status write_result(const std::string& folder, const std::string& name, const std::string& text);
Status write_result(const std::string& folder, const std::string& name, const nlohmann::ordered_json& object);

// A file-name part from a title: lower case, words joined by "-".
std::string slug(const std::string& text);

// A progress line: drawn over itself on a terminal, a line every few seconds elsewhere. Nothing when quiet.
class ProgressLine {
  public:
    // `overall`, where there is more than this, tells of all of it, by how much of this is done (0 to 1).
    ProgressLine(std::string doing, bool quiet, std::function<std::string(double)> overall = {});
    ~ProgressLine();
    ProgressLine(const ProgressLine&) = delete;
    ProgressLine& operator=(const ProgressLine&) = delete;
    Progress callback();

  private:
    void show(const ProgressState& state);
    struct State;
    std::unique_ptr<State> state_;  // nothing when quiet
};

// Set by the first Ctrl-C, SIGTERM or SIGHUP (the terminal is gone; ignored where nohup asked for that). A second one,
// or SIGQUIT, removes unfinished files and leaves at once. A program that a hanging drive holds altogether leaves 3 to
// 4 s after the first.
const Cancel& cancel();
void install_signal_handlers();
// Where a drive or share holds a thread for so long, the program leaves with an error (kind machine; as JSON, too,
// where that is asked for), and says before that it waits (host/held_calls.hpp). 0: it waits for ever, as it does at
// first. A child process waits for ever, too: the watch isn't passed on.
void give_up_on_drives(std::chrono::milliseconds after, bool json);
// After the first signal the program has so long, then it leaves as at a second one: for what keeps no state and may be
// held by a drive or share that hangs. Called once, before other threads begin.
void end_within(std::chrono::milliseconds patience);

// Colours only where a person reads them.
bool colours();
Raw coloured_verdict(std::string_view verdict);

}  // namespace wavecrest::cli
