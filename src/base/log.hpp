// What the program does as it goes, written down for whoever looks for a cause later: one line for each event, with its
// time and how grave it is. Nothing is written until start_log() says where to. Lines may be written from any thread,
// and hold none up: a thread of the log's own writes them, and where its disk is slower than they come, the oldest are
// dropped.
//
// Callers leave secrets out (net/guess_limiter.hpp: without_keys); control characters are made safe here.
#pragma once

#include <fmt/format.h>

#include <string_view>

#include "base/file.hpp"
#include "base/result.hpp"

namespace wavecrest::base {

enum class LogLevel { debug, info, warning, error };

struct LogSettings {
    LogLevel least = LogLevel::info;  // what is less grave is left out
    Path file;  // appended to; at 10 MB it is moved aside, and two older ones are kept; empty: none
    bool on_stderr = false;
    // For the system's journal (sd-daemon(3)): on standard error, each line with its priority, without a time.
    bool for_journal = false;
};
// Whether standard error is read by the journal (systemd.exec(5): JOURNAL_STREAM), as it is for a service.
bool is_stderr_journal();

// Kind machine where the file can't be written.
Status start_log(const LogSettings& settings);

// Whether it is on standard error.
bool is_log_on_stderr();
bool is_logged(LogLevel level);
// Writes what waits, before the program ends. False when some of it could not be written (a full disk).
bool finish_log();
void log_line(LogLevel level, std::string_view text);

template <typename... Args>
void log(LogLevel level, fmt::format_string<Args...> format, const Args&... args) {
    if (is_logged(level)) log_line(level, fmt::vformat(fmt::string_view(format), fmt::make_format_args(args...)));
}

}  // namespace wavecrest::base
