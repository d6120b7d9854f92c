#include "base/log.hpp"

#include <spdlog/async.h>
#include <spdlog/pattern_formatter.h>
#include <spdlog/sinks/rotating_file_sink.h>
#include <spdlog/sinks/stdout_sinks.h>
#include <spdlog/spdlog.h>
#include <sys/stat.h>
#include <unistd.h>

#include <atomic>
#include <cstdlib>
#include <mutex>
#include <vector>

#include "base/printable.hpp"

namespace wavecrest::base {
namespace {

constexpr std::size_t kLargestFile = 10u << 20, kOlderFiles = 2;
constexpr std::size_t kMostWaiting = 4096;  // lines

// Set once, before threads begin. The thread that writes begins with the first line: a process that is forked off
// before has one of its own.
std::vector<spdlog::sink_ptr> sinks;
LogLevel least = LogLevel::info;
bool on_stderr = false;
std::once_flag begun;
std::shared_ptr<spdlog::details::thread_pool> writer;
std::shared_ptr<spdlog::logger> logger;
std::atomic<bool> failed{false};

spdlog::level::level_enum spd_level(LogLevel level) {
    switch (level) {
        case LogLevel::debug:
            return spdlog::level::debug;
        case LogLevel::info:
            return spdlog::level::info;
        case LogLevel::warning:
            return spdlog::level::warn;
        case LogLevel::error:
            return spdlog::level::err;
    }
    return spdlog::level::info;
}

// The priority of syslog(3) in front of a line, as the journal reads it.
class Priority : public spdlog::custom_flag_formatter {
  public:
    void format(const spdlog::details::log_msg& message, const std::tm&, spdlog::memory_buf_t& to) override {
        const std::string_view text = message.level >= spdlog::level::err    ? "<3>"
                                      : message.level >= spdlog::level::warn ? "<4>"
                                      : message.level >= spdlog::level::info ? "<6>"
                                                                             : "<7>";
        to.append(text.data(), text.data() + text.size());
    }
    std::unique_ptr<custom_flag_formatter> clone() const override { return std::make_unique<Priority>(); }
};

}  // namespace

bool is_stderr_journal() {
    const char* stream = std::getenv("JOURNAL_STREAM");
    struct stat info {};
    return stream != nullptr && ::fstat(STDERR_FILENO, &info) == 0 &&
           fmt::format("{}:{}", info.st_dev, info.st_ino) == stream;
}

Status start_log(const LogSettings& settings) {
    if (settings.for_journal || settings.on_stderr) {
        auto sink = std::make_shared<spdlog::sinks::stderr_sink_mt>();
        auto formatter = std::make_unique<spdlog::pattern_formatter>();
        formatter->add_flag<Priority>('*');
        // A progress line that stands on a terminal is written over.
        formatter->set_pattern(settings.for_journal           ? "%*%v"
                               : ::isatty(STDERR_FILENO) != 0 ? "\r\033[K%H:%M:%S.%e  %-7l  %v"
                                                              : "%H:%M:%S.%e  %-7l  %v");
        sink->set_formatter(std::move(formatter));
        sinks.push_back(std::move(sink));
    }
    if (!settings.file.empty()) {
        try {
            auto sink = std::make_shared<spdlog::sinks::rotating_file_sink_mt>(settings.file.string(), kLargestFile,
                                                                               kOlderFiles);
            sink->set_pattern("%Y-%m-%d %H:%M:%S.%e  %-7l  %v");
            sinks.push_back(std::move(sink));
        } catch (const spdlog::spdlog_ex&) {
            return fail(ErrorKind::machine, "the log file can't be written", settings.file.string(),
                        "name a file in a folder that this user may write to");
        }
    }
    on_stderr = settings.on_stderr || settings.for_journal;
    least = settings.least;
    return {};
}

bool is_log_on_stderr() {
    return on_stderr;
}

bool is_logged(LogLevel level) {
    return !sinks.empty() && level >= least;
}

void log_line(LogLevel level, std::string_view text) {
    if (!is_logged(level)) return;
    std::call_once(begun, [] {
        writer = std::make_shared<spdlog::details::thread_pool>(kMostWaiting, 1);
        logger = std::make_shared<spdlog::async_logger>("", sinks.begin(), sinks.end(), writer,
                                                        spdlog::async_overflow_policy::overrun_oldest);
        logger->set_level(spd_level(least));
        logger->flush_on(spdlog::level::info);
        logger->set_error_handler([](const std::string&) { failed = true; });
    });
    if (logger) logger->log(spd_level(level), "{}", printable(text));
}

bool finish_log() {
    logger.reset();
    writer.reset();  // after it has written all
    return !failed;
}

}  // namespace wavecrest::base
