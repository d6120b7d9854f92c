#include "cli/terminal.hpp"

#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <cctype>
#include <cerrno>
#include <chrono>
#include <csignal>
#include <cstdlib>
#include <cstring>
#include <ctime>
#include <future>
#include <nlohmann/json.hpp>
#include <thread>

#include "base/atomic_file.hpp"
#include "base/log.hpp"
#include "base/units.hpp"
#include "cli/worker.hpp"
#include "host/held_calls.hpp"
#include "net/guess_limiter.hpp"

namespace wavecrest::cli {
namespace {

Cancel cancelled;
int output_error = 0;  // of standard output, the first
bool messages_are_logged = false;

[[noreturn]] void end_at_once() {
    base::remove_unfinished_files();
    _exit(exit_status(ErrorKind::interrupted));
}

std::atomic<std::int64_t> first_signal{0};  // ms

void on_signal(int signal) {
    timespec now{};
    ::clock_gettime(CLOCK_MONOTONIC, &now);
    const std::int64_t ms = std::int64_t{now.tv_sec} * 1000 + now.tv_nsec / 1'000'000;
    // What ends a whole group of processes may come twice, and means it once.
    constexpr std::int64_t kTwice = 300;
    if (signal == SIGQUIT || (cancelled.requested() && ms - first_signal > kTwice)) end_at_once();
    if (!cancelled.requested()) first_signal = ms;
    cancelled.request();
}

sigset_t ending_signals() {
    sigset_t all;
    sigemptyset(&all);
    for (const int signal : {SIGHUP, SIGINT, SIGTERM, SIGQUIT}) sigaddset(&all, signal);
    return all;
}

// Leaves without the threads that a drive holds. What is done before may be held as well, and has a second.
[[noreturn]] void leave_held_threads(ErrorKind why, const std::function<void()>& tell) {
    std::promise<void> done;
    const auto finished = done.get_future();
    std::thread([&] {
        tell();
        base::remove_unfinished_files();
        done.set_value();
    }).detach();
    finished.wait_for(std::chrono::seconds(1));
    tell_parent(exit_status(why));
    _exit(exit_status(why));
}

// What hangs has so long after Ctrl-C.
constexpr std::chrono::seconds kPatience{3};

[[noreturn]] void leave_interrupted() {
    leave_held_threads(ErrorKind::interrupted, [] {
        note("a drive or share does not respond: the program exits as soon as the system lets it");
    });
}

bool ending_signal_waits() {
    sigset_t pending;
    ::sigpending(&pending);
    for (const int signal : {SIGHUP, SIGINT, SIGTERM, SIGQUIT}) {
        if (sigismember(&pending, signal) == 1) return true;
    }
    return false;
}

std::atomic<std::chrono::milliseconds> drive_timeout{};  // 0: none
std::atomic<bool> timeout_as_json = false;

// What a drive or share holds: told after a while, given up after drive_timeout.
class DriveWatch {
  public:
    void look() {
        const auto now = host::Steady::now();
        // Where nobody looked for long, this program was stopped (Ctrl-Z): that time is no drive's.
        constexpr std::chrono::seconds kStopped{5};
        if (now - looked_ > kStopped) calls_ = host::HeldCalls();
        looked_ = now;
        const auto held = calls_.look(now);
        if (!held) told_ = false;
        if (!held) return;
        // Ctrl-C came before the call that is held: nobody looks whether it did.
        if (cancelled.requested() && held->held >= kPatience) leave_interrupted();
        const std::chrono::milliseconds most = drive_timeout.load();
        constexpr std::chrono::seconds kTold{10};
        if (most.count() == 0 || held->held < std::min<std::chrono::milliseconds>(kTold, most)) return;
        const std::string limit = base::format_span(Time(most));
        if (held->held >= most) {
            leave_held_threads(ErrorKind::machine, [&] {
                report_error(
                    {ErrorKind::machine, fmt::format("a drive or share did not respond for {}", limit), held->path,
                     "check its cable, its power and the file server, then run this again; --drive-timeout "
                     "sets how long it is waited for"},
                    timeout_as_json);
                std::fflush(stdout);
            });
        }
        if (!told_) note(fmt::format("no response yet from {}: waiting up to {} (--drive-timeout)", held->path, limit));
        told_ = true;
    }

  private:
    host::HeldCalls calls_;
    host::Steady::time_point looked_ = host::Steady::now();
    bool told_ = false;
};

// Where a hanging drive or share holds a thread in a system call, no handler runs in it, and signals stay pending where
// that is so for all of them (signal(7)). One thread that touches no file sees that, and leaves for the others.
void leave_when_held() {
    const sigset_t ending = ending_signals();
    ::pthread_sigmask(SIG_BLOCK, &ending, nullptr);  // only what a thread blocks is told as pending
    constexpr std::chrono::milliseconds kLook{500};
    DriveWatch drives;
    for (int looks = 0; looks < kPatience / kLook;) {
        std::this_thread::sleep_for(kLook);
        looks = ending_signal_waits() ? looks + 1 : 0;
        drives.look();
    }
    leave_interrupted();
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

int report_error(const Error& told, bool json) {
    nlohmann::ordered_json result = nlohmann::ordered_json::object();
    const int status = report_beside(told, result);
    if (json) print_json(result);
    return status;
}

namespace {

nlohmann::ordered_json print_error(const Error& told) {
    const Error error{told.kind, net::without_keys(told.what), net::without_keys(told.where),
                      net::without_keys(told.remedy)};
    if (messages_are_logged) base::log(base::LogLevel::error, "{} ({})", error.what, error.where);
    const bool colour = ::isatty(STDERR_FILENO) != 0 && std::getenv("NO_COLOR") == nullptr;
    print(stderr, "{}wavecrest: {}{}\n", Raw{colour ? "\033[31m" : ""}, error.what, Raw{colour ? "\033[0m" : ""});
    if (!error.where.empty()) print(stderr, "  where:  {}\n", error.where);
    if (!error.remedy.empty()) print(stderr, "  to do:  {}\n", error.remedy);
    return {{"what", error.what}, {"where", error.where}, {"remedy", error.remedy}};
}

}  // namespace

int report_beside(const Error& told, nlohmann::ordered_json& result) {
    result["error"] = print_error(told);
    for (const Error& one : told.further) result["further"].push_back(print_error(one));
    return exit_status(told.kind);
}

void log_messages(bool wanted) {
    messages_are_logged = wanted;
}

void note(const std::string& text) {
    print(stderr, "note: {}\n", text);
    if (messages_are_logged) base::log(base::LogLevel::warning, "{}", net::without_keys(text));
}

void detail::write_text(std::FILE* to, const std::string& text) {
    if (std::fwrite(text.data(), 1, text.size(), to) != text.size() && to == stdout && output_error == 0)
        output_error = errno;
}

Raw by_lines(std::string_view text) {
    Raw safe;
    while (!text.empty()) {
        const std::size_t end = std::min(text.find('\n'), text.size());
        safe.text += base::printable(text.substr(0, end));
        if (end < text.size()) safe.text += '\n';
        text.remove_prefix(std::min(end + 1, text.size()));
    }
    return safe;
}

int finish_output(int status) {
    for (const base::Path& path : base::removed_leftovers())
        note(fmt::format("partial files of an earlier run were removed: {}", path.string()));
    if (std::fflush(stdout) != 0 && output_error == 0) output_error = errno;
    if (output_error == 0 || output_error == EPIPE) return status;
    return report_error({ErrorKind::machine, fmt::format("the output is incomplete: {}", std::strerror(output_error)),
                         "standard output", "free some space, or send it elsewhere; then run this again"});
}

void print_json(const nlohmann::ordered_json& object) {
    print("{}\n", Raw{object.dump(2, ' ', false, nlohmann::ordered_json::error_handler_t::replace)});
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
    std::function<std::string(double)> overall;
    bool terminal = false;
    bool drawn = false;
    std::chrono::steady_clock::time_point start = std::chrono::steady_clock::now();
    std::chrono::steady_clock::time_point last{};
    bool past_kept = false;
};

ProgressLine::ProgressLine(std::string doing, bool quiet, std::function<std::string(double)> overall)
    : state_(quiet ? nullptr : std::make_unique<State>()) {
    if (!state_) return;
    state_->doing = std::move(doing);
    state_->overall = std::move(overall);
    state_->terminal = ::isatty(STDERR_FILENO) != 0;
    state_->last = state_->start;
}

ProgressLine::~ProgressLine() {
    if (state_ && state_->terminal && state_->drawn) print(stderr, "\r\033[K");
}

Progress ProgressLine::callback() {
    if (!state_) return {};
    return [this](const ProgressState& state) { show(state); };
}

void ProgressLine::show(const ProgressState& state) {
    using namespace std::chrono_literals;
    const auto now = std::chrono::steady_clock::now();
    if (state.doing != nullptr && state_->doing != state.doing) {
        state_->doing = state.doing;
        state_->start = now;
    }
    // What an earlier run finished is gone through in no time: it tells nothing of the speed.
    if (!state_->past_kept && state.done >= state.kept) {
        state_->past_kept = true;
        if (state.kept.count() > 0) state_->start = now;
    }
    if (now - state_->last < (state_->terminal ? 200ms : 5000ms)) return;
    state_->last = now;
    const double elapsed = std::chrono::duration<double>(now - state_->start).count();
    const double done = base::to_seconds(state.done), total = base::to_seconds(state.total);
    std::string line = fmt::format("{}  {} of {}  {:3.0f} %", state_->doing, base::format_clock(state.done),
                                   base::format_clock(state.total), total > 0 ? 100 * done / total : 0);
    const double speed = state_->past_kept && elapsed > 0 ? (done - base::to_seconds(state.kept)) / elapsed : 0;
    line += state.doing != nullptr ? ""
            : state_->past_kept
                ? fmt::format("  {:.1f} x real time", speed)
                : fmt::format("  going through what was finished before ({})", base::format_clock(state.kept));
    if (speed > 0 && total > done)
        line += fmt::format("  {} left", base::format_span(base::from_seconds((total - done) / speed)));
    if (state_->overall && total > 0) line += state_->overall(done / total);
    print(stderr, "{}{}{}", Raw{state_->terminal ? "\r\033[K" : ""}, line, Raw{state_->terminal ? "" : "\n"});
    state_->drawn = true;
}

const Cancel& cancel() {
    return cancelled;
}

void install_signal_handlers() {
    struct sigaction action {};
    action.sa_handler = on_signal;
    sigemptyset(&action.sa_mask);
    for (const int signal : {SIGINT, SIGTERM, SIGQUIT}) ::sigaction(signal, &action, nullptr);
    // Whoever started it by nohup wants it to go on when the terminal is gone.
    struct sigaction before {};
    if (::sigaction(SIGHUP, nullptr, &before) == 0 && before.sa_handler != SIG_IGN)
        ::sigaction(SIGHUP, &action, nullptr);
    ::signal(SIGPIPE, SIG_IGN);
    std::thread(leave_when_held).detach();
}

void give_up_on_drives(std::chrono::milliseconds after, bool json) {
    timeout_as_json = json;
    drive_timeout = after;
}

void end_within(std::chrono::milliseconds patience) {
    // A thread that a hanging drive holds runs no handler: signals go to one that touches none.
    std::thread([patience] {
        while (!cancelled.requested()) std::this_thread::sleep_for(std::chrono::milliseconds(50));
        std::this_thread::sleep_for(patience);
        end_at_once();
    }).detach();
    const sigset_t others = ending_signals();
    ::pthread_sigmask(SIG_BLOCK, &others, nullptr);
}

bool colours() {
    static const bool on = ::isatty(STDOUT_FILENO) != 0 && std::getenv("NO_COLOR") == nullptr;
    return on;
}

Raw coloured_verdict(std::string_view verdict) {
    if (!colours()) return {std::string(verdict)};
    const char* colour = verdict == "pass" ? "32" : verdict == "warn" ? "33" : "31";
    return {fmt::format("\033[1;{}m{}\033[0m", colour, verdict)};
}

}  // namespace wavecrest::cli
