// What all commands share: exit statuses, error messages, progress, results as JSON, Ctrl-C.
#pragma once

#include <fmt/format.h>

#include <memory>
#include <nlohmann/json_fwd.hpp>
#include <string>

#include "base/cancel.hpp"
#include "base/file.hpp"
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

// Prints the three-part message on standard error (and as JSON on standard output when asked) and gives the status.
int report_error(const Error& error, bool json = false);

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
    ProgressLine(std::string doing, bool quiet);
    ~ProgressLine();
    ProgressLine(const ProgressLine&) = delete;
    ProgressLine& operator=(const ProgressLine&) = delete;
    Progress callback();

  private:
    void show(const ProgressState& state);
    struct State;
    std::unique_ptr<State> state_;  // nothing when quiet
};

// Set by the first Ctrl-C or SIGTERM. A second one removes unfinished files and leaves at once.
const Cancel& cancel();
void install_signal_handlers();

// Colours only where a person reads them.
bool colours();
std::string coloured_verdict(std::string_view verdict);

}  // namespace wavecrest::cli
