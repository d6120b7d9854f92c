#include "share/share.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cerrno>
#include <deque>
#include <thread>
#include <utility>

#include "base/file.hpp"
#include "base/log.hpp"
#include "base/units.hpp"

namespace wavecrest::share {
namespace {

using Steady = std::chrono::steady_clock;
using namespace std::chrono_literals;

constexpr auto kLookForCancel = 50ms;
constexpr auto kTryAgain = 500ms;
// Servers give their clients of before a lease's time, 90 s in the usual setting (RFC 7530, 9.6.2), and some to spare.
constexpr auto kGrace = 120s;
// Bytes asked for at once: small where a file is read here and there, large in order.
constexpr std::size_t kSmallBlock = 128 << 10, kLargeBlock = 1 << 20;

Steady::duration steady(Time time) {
    return std::chrono::duration_cast<Steady::duration>(std::chrono::duration<double>(base::to_seconds(time)));
}

}  // namespace

struct Connection::State {
    State(Make how, Limits most) : make(std::move(how)), limits(most) {}
    const Make make;
    const Limits limits;
    base::Mutex mutex;
    base::Condition asked, answered;
    std::deque<std::pair<std::uint64_t, std::function<void(Client&)>>> questions GUARDED_BY(mutex);
    std::uint64_t last GUARDED_BY(mutex) = 0, done GUARDED_BY(mutex) = 0;
    std::uint64_t generation GUARDED_BY(mutex) = 0;
    bool stopping GUARDED_BY(mutex) = false, renew GUARDED_BY(mutex) = false, working GUARDED_BY(mutex) = false;
    std::thread thread;

    void work() {
        std::unique_ptr<Client> client;
        base::MutexLock lock(mutex);
        while (true) {
            while (questions.empty() && !stopping && !renew) asked.wait(mutex);
            if (stopping) break;
            const bool anew = std::exchange(renew, false) || !client;
            if (questions.empty()) {
                lock.unlock();
                client.reset();
                lock.lock();
                continue;
            }
            const auto next = std::move(questions.front());
            questions.pop_front();
            working = true;
            lock.unlock();
            if (anew) client = make();
            next.second(*client);
            lock.lock();
            working = false;
            done = next.first;
            answered.notify_all();
        }
        lock.unlock();
        client.reset();
    }
};

Connection::Connection(Make make, Limits limits) : state_(std::make_shared<State>(std::move(make), limits)) {
    state_->thread = std::thread([state = state_] { state->work(); });
}

Connection::~Connection() {
    bool idle = false;
    {
        const base::MutexLock lock(state_->mutex);
        state_->stopping = true;
        state_->questions.clear();
        idle = !state_->working;
        state_->asked.notify_all();
    }
    // One that waits for a server ends by itself.
    if (idle) {
        state_->thread.join();
    } else {
        state_->thread.detach();
    }
}

std::uint64_t Connection::begin(std::function<void(Client&)> question) {
    const base::MutexLock lock(state_->mutex);
    state_->questions.emplace_back(++state_->last, std::move(question));
    state_->asked.notify_all();
    return state_->last;
}

int Connection::wait(std::uint64_t question) {
    State& s = *state_;
    // (A client's own limit comes first, so that it can tell what failed.)
    const auto until = Steady::now() + steady(s.limits.answer) + 1s;
    const base::MutexLock lock(s.mutex);
    while (s.done < question) {
        if (s.limits.cancel != nullptr && s.limits.cancel->requested()) return ECANCELED;
        if (Steady::now() >= until) return ETIMEDOUT;
        s.answered.wait_for(s.mutex, kLookForCancel);
    }
    return 0;
}

void Connection::finish(std::uint64_t question, Time most) {
    const auto until = Steady::now() + steady(most);
    const base::MutexLock lock(state_->mutex);
    while (state_->done < question && Steady::now() < until) state_->answered.wait_for(state_->mutex, kLookForCancel);
}

void Connection::restart() {
    const base::MutexLock lock(state_->mutex);
    state_->renew = true;
    ++state_->generation;
    state_->asked.notify_all();
}

std::uint64_t Connection::generation() const {
    const base::MutexLock lock(state_->mutex);
    return state_->generation;
}

bool is_lost_connection(int error) {
    switch (error) {
        case ECONNRESET:
        case ECONNABORTED:
        case ECONNREFUSED:
        case ENOTCONN:
        case EPIPE:
        case ETIMEDOUT:
        case EHOSTUNREACH:
        case ENETUNREACH:
        case ENETDOWN:
        case ENETRESET:
        case EIO:
        case EBADF:
        case ESTALE:
        case EAGAIN:
        case kInGrace:
            return true;
        default:
            return false;
    }
}

Share::Share(Location at, Account account, Limits limits)
    : at_(std::move(at)), account_(std::move(account)), limits_(limits) {
    connection_ = std::make_shared<Connection>(
        [at = at_, who = account_, limit = limits_.answer] {
            return at.scheme == base::Scheme::smb ? make_smb_client(at, who, limit) : make_nfs_client(at, limit);
        },
        limits_);
}

Error Share::error(int number, const std::string& path) const {
    const std::string where = at_.text_of(path);
    const std::string prove = fmt::format("wavecrest share prove '{}' tells the cause", where);
    const auto make = [&](ErrorKind kind, std::string what) { return Error{kind, std::move(what), where, prove, {}}; };
    switch (number) {
        case ECANCELED:
            return base::interrupted().value();
        case ENOENT:
        case ENODEV:
        case ENOTDIR:
            return make(ErrorKind::input, "there is no such file or folder on the server");
        case EACCES:
        case EPERM:
            return make(ErrorKind::input, account_.is_guest()
                                              ? "the server lets no guest in here"
                                              : fmt::format("the server refuses user \"{}\" here", account_.user));
        case EISDIR:
            return Error{ErrorKind::input, "this is a folder, not a file", where, "name a file in it", {}};
        case ENOSPC:
        case EDQUOT:
            return Error{ErrorKind::machine, "the server's disk is full", where, "free some space there", {}};
        case EEXIST:
            return Error{ErrorKind::machine, "it is there already and isn't overwritten", where, "move it away", {}};
        case EROFS:
            return Error{ErrorKind::machine,
                         "the share is read-only",
                         where,
                         "have writing allowed on the server, or choose another share",
                         {}};
        case ECONNREFUSED:
            return make(ErrorKind::machine, "no file server answers on this port");
        case ELIBACC:
            return Error{ErrorKind::machine,
                         "the library for SMB isn't installed on this machine (libsmbclient)",
                         where,
                         "apt install libsmbclient",
                         {}};
        case ETIMEDOUT:
            return make(ErrorKind::machine,
                        fmt::format("the server didn't answer within {}", base::format_span(limits_.answer)));
        case EIO:
        case EPIPE:
        case ECONNRESET:
        case ECONNABORTED:
        case ENOTCONN:
            return make(ErrorKind::machine, "the connection to the server failed");
        case kInGrace:
            return Error{ErrorKind::machine,
                         "the server has just been started and opens no files yet",
                         where,
                         "try again in two minutes",
                         {}};
        case EHOSTUNREACH:
        case ENETUNREACH:
            return make(ErrorKind::machine, "the server can't be reached");
        default:
            return make(ErrorKind::machine, fmt::format("the server failed: {}", base::system_reason(number)));
    }
}

Result<std::shared_ptr<Share>> Share::open(const Location& at, const Account& account, const Limits& limits) {
    std::shared_ptr<Share> share(new Share(at, account, limits));
    if (at.scheme == base::Scheme::smb && at.share.empty())
        return fail(ErrorKind::usage, "the address has no share", at.text(),
                    fmt::format("wavecrest share find lists them; write {}/SHARE", at.text()));
    return share;
}

Result<std::vector<Entry>> Share::list(const std::string& folder) const {
    auto entries = connection_->ask<std::vector<Entry>>([folder](Client& client) { return client.list(folder); });
    if (!entries) return fail(error(entries.error(), folder));
    std::sort(entries->begin(), entries->end(), [](const Entry& a, const Entry& b) { return a.name < b.name; });
    return std::move(*entries);
}

Result<Entry> Share::look(const std::string& path) const {
    auto entry = connection_->ask<Entry>([path](Client& client) { return client.look(path); });
    if (!entry) return fail(error(entry.error(), path));
    return std::move(*entry);
}

Result<std::optional<std::uint64_t>> Share::free_space(const std::string& folder) const {
    auto free = connection_->ask<std::uint64_t>([folder](Client& client) { return client.free_space(folder); });
    if (!free && free.error() == ENOTSUP) return std::nullopt;
    if (!free) return fail(error(free.error(), folder));
    return *free;
}

// A file of a share as a byte source.
class ShareFile : public base::ByteSource {
  public:
    ShareFile(Share share, std::string path) : share_(std::move(share)), path_(std::move(path)) {}
    ~ShareFile() override {
        if (file_ < 0 || generation_ != share_.connection_->generation()) return;
        share_.connection_->begin([file = file_](Client& client) { (void)client.close(file); });
    }

    Status start() {
        const auto until = Steady::now() + kGrace;
        int error = open();
        if (error == kInGrace)
            base::log(base::LogLevel::warning, "{}: its server has just been started; its grace period is waited for",
                      name());
        while (error == kInGrace && Steady::now() < until) error = rest() ? open() : ECANCELED;
        if (error != 0) return fail(share_.error(error, path_));
        return {};
    }
    std::uint64_t size() const override { return first_.size; }
    std::string name() const override { return share_.location().text_of(path_); }

    Result<std::size_t> read_at(std::uint64_t offset, std::span<std::uint8_t> buffer) override {
        if (offset >= first_.size || buffer.empty()) return std::size_t{0};
        std::size_t done = 0;
        while (done < buffer.size() && offset + done < first_.size) {
            const std::uint64_t at = offset + done;
            if (at < block_from_ || at >= block_from_ + block_.size()) WAVECREST_TRY(load(at));
            const std::uint64_t inside = at - block_from_;
            const auto count =
                static_cast<std::size_t>(std::min<std::uint64_t>(buffer.size() - done, block_.size() - inside));
            std::copy_n(block_.begin() + static_cast<std::ptrdiff_t>(inside), count,
                        buffer.begin() + static_cast<std::ptrdiff_t>(done));
            done += count;
        }
        return done;
    }

  private:
    struct Ahead {
        std::uint64_t from = 0, question = 0;
        std::size_t count = 0;
        std::shared_ptr<Answer<ByteVector>> answer;
    };

    // 0, or an error number.
    int open() {
        file_ = -1;
        generation_ = share_.connection_->generation();
        struct Opened {
            Entry entry;
            int file = -1;
        };
        auto opened = share_.connection_->ask<Opened>([path = path_](Client& client) -> Answer<Opened> {
            auto entry = client.look(path);
            if (!entry) return tl::make_unexpected(entry.error());
            if (entry->folder) return tl::make_unexpected(EISDIR);
            auto file = client.open(path, Client::Open::read);
            if (!file) return tl::make_unexpected(file.error());
            return Opened{std::move(*entry), *file};
        });
        if (!opened) return opened.error();
        if (!known_) {
            first_ = opened->entry;
            known_ = true;
        }
        // (The name is as the server has it.)
        if (opened->entry.size != first_.size || opened->entry.modified_ns != first_.modified_ns) {
            replaced_ = true;
            return ESTALE;
        }
        file_ = opened->file;
        return 0;
    }

    Ahead begin(std::uint64_t from, std::size_t count) {
        Ahead ahead{from, 0, count, std::make_shared<Answer<ByteVector>>(tl::make_unexpected(EIO))};
        // (Memory that is used again needn't be cleared, nor mapped by the system.)
        ahead.question = share_.connection_->begin([file = file_, from, count, to = ahead.answer,
                                                    bytes = std::exchange(spare_, {})](Client& client) mutable {
            bytes.resize(count);
            std::size_t got = 0;
            while (got < count) {
                const auto n = client.read(file, from + got, std::span(bytes).subspan(got));
                if (!n) {
                    *to = tl::make_unexpected(n.error());
                    return;
                }
                if (*n == 0) break;
                got += *n;
            }
            bytes.resize(got);
            *to = std::move(bytes);
        });
        return ahead;
    }

    // Has the bytes at `at` in the block.
    Status load(std::uint64_t at) {
        const bool in_order = at == block_from_ + block_.size() && !block_.empty();
        const std::size_t wish = in_order ? kLargeBlock : kSmallBlock;
        const auto count = [&](std::uint64_t from) {
            return static_cast<std::size_t>(std::min<std::uint64_t>(wish, first_.size - from));
        };
        const auto begun = Steady::now();
        auto until = begun + steady(share_.limits_.reconnect);
        while (true) {
            int error = file_ < 0 || generation_ != share_.connection_->generation() ? open() : 0;
            if (error == 0) {
                Ahead now = ahead_ && ahead_->from == at ? std::move(*ahead_) : begin(at, count(at));
                ahead_.reset();
                // While this one is waited for and used, the next comes.
                const std::uint64_t next = at + now.count;
                if (in_order && next < first_.size) ahead_ = begin(next, count(next));
                error = share_.connection_->wait(now.question);
                if (error == 0 && !now.answer->has_value()) error = now.answer->error();
                if (error == 0 && (*now.answer)->empty())
                    return fail(ErrorKind::input, "the file on the server is shorter than it was", name(),
                                "it was changed while it was read: try again");
                if (error == 0) {
                    spare_ = std::exchange(block_, std::move(**now.answer));
                    block_from_ = at;
                    return {};
                }
            }
            if (replaced_)
                return fail(ErrorKind::input, "the file on the server was replaced while it was read", name(),
                            "try again");
            ahead_.reset();
            if (error == kInGrace) until = std::max<Steady::time_point>(until, begun + kGrace);
            if (error == ECANCELED || !is_lost_connection(error) || Steady::now() >= until)
                return fail(share_.error(error, path_));
            // Connected to again, by whoever notices first.
            if (generation_ == share_.connection_->generation()) share_.connection_->restart();
            file_ = -1;
            if (!rest()) return fail(share_.error(ECANCELED, path_));
        }
    }

    // Before the next attempt. False: cancelled.
    bool rest() const {
        for (int i = 0; i < kTryAgain / kLookForCancel; ++i) {
            if (share_.limits_.cancel != nullptr && share_.limits_.cancel->requested()) return false;
            std::this_thread::sleep_for(kLookForCancel);
        }
        return true;
    }

    const Share share_;
    const std::string path_;
    Entry first_;
    bool known_ = false, replaced_ = false;
    int file_ = -1;
    std::uint64_t generation_ = 0;
    ByteVector block_, spare_;
    std::uint64_t block_from_ = 0;
    std::optional<Ahead> ahead_;
};

Result<std::unique_ptr<base::ByteSource>> Share::read(const std::string& path) const {
    auto file = std::make_unique<ShareFile>(*this, path);
    WAVECREST_TRY(file->start());
    return std::unique_ptr<base::ByteSource>(std::move(file));
}

}  // namespace wavecrest::share
