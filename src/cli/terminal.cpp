#include "cli/terminal.hpp"

#include <unistd.h>

#include <cctype>
#include <chrono>
#include <csignal>
#include <cstdlib>
#include <nlohmann/json.hpp>

#include "base/units.hpp"

namespace wavecrest::cli {
namespace {

Cancel cancelled;

void on_signal(int) {
    if (cancelled.requested()) {
        base::remove_unfinished_files();
        _exit(exit_status(ErrorKind::interrupted));
    }
    cancelled.request();
}

}  // namespace

int exit_status(ErrorKind kind) {
    switch (kind) {
        case ErrorKind::wanting:
            return 1;
        case ErrorKind::usage:
            return 2;
        case ErrorKind::input:
            return 3;
        case ErrorKind::machine:
            return 4;
        case ErrorKind::interrupted:
            return 130;
    }
    return 3;
}

int report_error(const Error& error, bool json) {
    const bool colour = ::isatty(STDERR_FILENO) != 0 && std::getenv("NO_COLOR") == nullptr;
    fmt::print(stderr, "{}wavecrest: {}{}\n", colour ? "\033[31m" : "", error.what, colour ? "\033[0m" : "");
    if (!error.where.empty()) fmt::print(stderr, "  where:  {}\n", error.where);
    if (!error.remedy.empty()) fmt::print(stderr, "  to do:  {}\n", error.remedy);
    if (json) print_json({{"error", {{"what", error.what}, {"where", error.where}, {"remedy", error.remedy}}}});
    return exit_status(error.kind);
}

void note(const std::string& text) {
    fmt::print(stderr, "note: {}\n", text);
}

void print_json(const nlohmann::ordered_json& object) {
    fmt::print("{}\n", object.dump(2, ' ', false, nlohmann::ordered_json::error_handler_t::replace));
}

Status write_result(const std::string& folder, const std::string& name, const std::string& text) {
    return base::write_file(base::Path(folder) / name, base::as_bytes(text), base::AtomicFile::IfExists::replace);
}

Status write_result(const std::string& folder, const std::string& name, const nlohmann::ordered_json& object) {
    return write_result(folder, name,
                        object.dump(2, ' ', false, nlohmann::ordered_json::error_handler_t::replace) + "\n");
}

std::string slug(const std::string& text) {
    std::string out;
    for (const char c : text) {
        const auto u = static_cast<unsigned char>(c);
        if (std::isalnum(u) != 0) {
            out += static_cast<char>(std::tolower(u));
        } else if (!out.empty() && out.back() != '-') {
            out += '-';
        }
    }
    while (!out.empty() && out.back() == '-') out.pop_back();
    return out.empty() ? "title" : out;
}

struct ProgressLine::State {
    std::string doing;
    bool terminal = false;
    bool drawn = false;
    std::chrono::steady_clock::time_point start = std::chrono::steady_clock::now();
    std::chrono::steady_clock::time_point last{};
};

ProgressLine::ProgressLine(std::string doing, bool quiet) : state_(quiet ? nullptr : std::make_unique<State>()) {
    if (!state_) return;
    state_->doing = std::move(doing);
    state_->terminal = ::isatty(STDERR_FILENO) != 0;
    state_->last = state_->start;
}

ProgressLine::~ProgressLine() {
    if (state_ && state_->terminal && state_->drawn) fmt::print(stderr, "\r\033[K");
}

Progress ProgressLine::callback() {
    if (!state_) return {};
    return [this](const ProgressState& state) { show(state); };
}

void ProgressLine::show(const ProgressState& state) {
    using namespace std::chrono_literals;
    const auto now = std::chrono::steady_clock::now();
    if (now - state_->last < (state_->terminal ? 200ms : 5000ms)) return;
    state_->last = now;
    const double elapsed = std::chrono::duration<double>(now - state_->start).count();
    const double done = base::to_seconds(state.done), total = base::to_seconds(state.total);
    const double speed = elapsed > 0 ? done / elapsed : 0;
    std::string line =
        fmt::format("{}  {} of {}  {:3.0f} %  {:.1f} x real time", state_->doing, base::format_clock(state.done),
                    base::format_clock(state.total), total > 0 ? 100 * done / total : 0, speed);
    if (speed > 0 && total > done)
        line += fmt::format("  {} left", base::format_span(base::from_seconds((total - done) / speed)));
    fmt::print(stderr, "{}{}{}", state_->terminal ? "\r\033[K" : "", line, state_->terminal ? "" : "\n");
    state_->drawn = true;
}

const Cancel& cancel() {
    return cancelled;
}

void install_signal_handlers() {
    struct sigaction action {};
    action.sa_handler = on_signal;
    sigemptyset(&action.sa_mask);
    ::sigaction(SIGINT, &action, nullptr);
    ::sigaction(SIGTERM, &action, nullptr);
    ::signal(SIGPIPE, SIG_IGN);
}

bool colours() {
    static const bool on = ::isatty(STDOUT_FILENO) != 0 && std::getenv("NO_COLOR") == nullptr;
    return on;
}

std::string coloured_verdict(std::string_view verdict) {
    if (!colours()) return std::string(verdict);
    const char* colour = verdict == "pass" ? "32" : verdict == "warn" ? "33" : "31";
    return fmt::format("\033[1;{}m{}\033[0m", colour, verdict);
}

}  // namespace wavecrest::cli
