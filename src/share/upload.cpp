#include "share/upload.hpp"

#include <cerrno>
#include <chrono>
#include <ctime>
#include <thread>
#include <vector>

#include "base/atomic_file.hpp"
#include "base/byte_source.hpp"

namespace wavecrest::share {
namespace {

using Steady = std::chrono::steady_clock;
using namespace std::chrono_literals;

constexpr std::size_t kBlock = 256 << 10;  // comes over even slow links within the limit of an answer
constexpr Time kTidying = 2s;
constexpr auto kTryAgain = 500ms, kLookForCancel = 50ms;

std::string folder_of(const std::string& path) {
    const std::size_t slash = path.rfind('/');
    return slash == std::string::npos ? "" : path.substr(0, slash);
}
std::string name_of(const std::string& path) {
    return path.substr(folder_of(path).empty() ? 0 : folder_of(path).size() + 1);
}

Error writing_error(const Share& share, int number, const std::string& path) {
    if (number != EACCES && number != EPERM) return share.error(number, path);
    return {
        ErrorKind::machine,
        "no permission to write here",
        share.location().text_of(path),
        "keep an account that has it (wavecrest share prove ADDRESS --user NAME --write --keep), or allow it on the "
        "server",
        {}};
}

class Upload {
  public:
    Upload(const Share& share, base::ByteSource& from, std::string path,
           const std::function<void(std::uint64_t)>& progress, IfThere if_there)
        : share_(share),
          from_(from),
          path_(std::move(path)),
          folder_(folder_of(path_)),
          progress_(progress),
          if_there_(if_there) {}

    Status run() {
        const Status status = try_until_done();
        if (!status) clean_up();
        return status;
    }

  private:
    // The number of a failure; where it came from this side, its error.
    struct Failure {
        int number = 0;
        std::optional<Error> error;
    };

    template <typename T, typename Question>
    Answer<T> ask(Question question) const {
        return share_.connection().ask<T>(std::move(question));
    }
    int tell(std::function<Answer<void>(Client&)> order) const {
        const auto given = share_.connection().ask<void>(std::move(order));
        return given ? 0 : given.error();
    }

    Status try_until_done() {
        const auto patience = std::chrono::duration_cast<Steady::duration>(
            std::chrono::duration<double>(base::to_seconds(share_.limits().reconnect)));
        auto until = Steady::now() + patience;
        while (true) {
            const std::uint64_t generation = share_.connection().generation();
            put_ = 0;
            Failure failure = make_folders();
            if (failure.number == 0 && is_there_) return {};
            if (failure.number == 0) failure = copy();
            if (failure.number == 0) failure = finish();
            if (failure.error) return fail(*std::move(failure.error));
            if (failure.number == 0) return {};
            if (failure.number == ECANCELED || !is_lost_connection(failure.number)) return refused(failure.number);
            // (What came over shows that the server was there.)
            if (put_ > 0) until = std::max(until, last_put_ + patience);
            if (Steady::now() >= until) return refused(failure.number);
            if (generation == share_.connection().generation()) share_.connection().restart();
            for (auto waited = 0ms; waited < kTryAgain; waited += kLookForCancel) {
                if (cancelled()) return refused(ECANCELED);
                std::this_thread::sleep_for(kLookForCancel);
            }
            // (It can be removed only when the server is there again.)
            if (!temporary_.empty()) given_up_.push_back(std::exchange(temporary_, {}));
            file_ = -1;
        }
    }
    bool cancelled() const { return share_.limits().cancel != nullptr && share_.limits().cancel->requested(); }
    Status refused(int number) const { return fail(writing_error(share_, number, number == ENOENT ? folder_ : path_)); }

    Failure make_folders() {
        std::size_t at = 0;
        while (at < folder_.size()) {
            at = std::min(folder_.find('/', at + 1), folder_.size());
            const std::string folder = folder_.substr(0, at);
            const auto there = ask<Entry>([folder](Client& client) { return client.look(folder); });
            if (there && !there->folder) return {ENOTDIR, {}};
            if (there) continue;
            if (there.error() != ENOENT) return {there.error(), {}};
            const int made = tell([folder](Client& client) { return client.make_folder(folder); });
            if (made == 0) made_.push_back(folder);
            if (made != 0 && made != EEXIST) return {made, {}};
        }
        if (!std::exchange(tidied_, true)) remove_leftovers();
        const auto there = ask<Entry>([path = path_](Client& client) { return client.look(path); });
        if (there && if_there_ == IfThere::take && !there->folder && there->size == from_.size()) {
            const auto same = holds_the_same();
            if (!same) return {EIO, same.error()};
            is_there_ = *same;
            if (is_there_) return {};
        }
        if (there) return {EEXIST, {}};
        return {there.error() == ENOENT ? 0 : there.error(), {}};
    }

    // Whether what is there by this name and of this size is what would be copied.
    Result<bool> holds_the_same() {
        WAVECREST_TRY_ASSIGN(there, share_.read(path_));
        for (std::uint64_t at = 0; at < from_.size(); at += kBlock) {
            const auto size = static_cast<std::size_t>(std::min<std::uint64_t>(kBlock, from_.size() - at));
            WAVECREST_TRY_ASSIGN(mine, base::read_exactly(from_, at, size));
            WAVECREST_TRY_ASSIGN(its, base::read_exactly(*there, at, size));
            if (mine != its) return false;
        }
        return true;
    }

    Failure copy() {
        temporary_ = joined(folder_, base::temporary_name(name_of(path_)));
        const auto file =
            ask<int>([path = temporary_](Client& client) { return client.open(path, Client::Open::make); });
        if (!file) return {file.error(), {}};
        file_ = *file;
        // While one block is on its way, the next is read.
        std::optional<std::uint64_t> under_way;
        auto written = std::make_shared<int>(0);
        const auto wait = [&] {
            if (!under_way) return 0;
            const int error = share_.connection().wait(*std::exchange(under_way, std::nullopt));
            return error != 0 ? error : *written;
        };
        for (std::uint64_t at = 0; at < from_.size();) {
            auto block = std::make_shared<ByteVector>(
                static_cast<std::size_t>(std::min<std::uint64_t>(kBlock, from_.size() - at)));
            const auto got = from_.read_at(at, *block);
            if (!got) return {EINVAL, got.error()};
            if (*got == 0)
                return {EINVAL, Error{ErrorKind::machine,
                                      "the file became shorter while it was copied",
                                      from_.name(),
                                      "try again",
                                      {}}};
            block->resize(*got);
            if (const int error = wait(); error != 0) return {error, {}};
            under_way = share_.connection().begin([file = *file, at, block, written](Client& client) {
                for (std::size_t done = 0; done < block->size();) {
                    const auto put = client.write(file, at + done, ByteSpan(*block).subspan(done));
                    if (!put || *put == 0) {
                        *written = put ? EIO : put.error();
                        return;
                    }
                    done += *put;
                }
            });
            at += *got;
            put_ = at;
            last_put_ = Steady::now();
            if (progress_) progress_(at);
        }
        if (const int error = wait(); error != 0) return {error, {}};
        return {tell([file = std::exchange(file_, -1)](Client& client) { return client.close(file); }), {}};
    }

    Failure finish() {
        const auto there = ask<Entry>([path = temporary_](Client& client) { return client.look(path); });
        if (!there) return {there.error(), {}};
        if (there->size != from_.size())
            return {EINVAL, Error{ErrorKind::machine,
                                  "the server didn't keep all of the file",
                                  share_.location().text_of(path_),
                                  "look at its disk, then try again",
                                  {}}};
        const int renamed = tell([from = temporary_, to = path_](Client& client) { return client.rename(from, to); });
        // (Lost on the way back: it may have been done.)
        if (is_lost_connection(renamed)) {
            share_.connection().restart();
            const auto final_one = ask<Entry>([path = path_](Client& client) { return client.look(path); });
            if (!final_one || final_one->size != from_.size()) return {renamed, {}};
            remove({});
            return {};
        }
        if (renamed == 0) temporary_.clear();
        if (renamed == 0) remove({});
        return {renamed, {}};
    }

    void clean_up() { remove({made_.rbegin(), made_.rend()}); }
    // What is of no use any more, and folders. (A file that is open can't be removed everywhere.)
    void remove(std::vector<std::string> folders) {
        if (!temporary_.empty()) given_up_.push_back(std::exchange(temporary_, {}));
        if (file_ < 0 && given_up_.empty() && folders.empty()) return;
        const auto order = [file = std::exchange(file_, -1), paths = std::exchange(given_up_, {}),
                            folders = std::move(folders)](Client& client) {
            if (file >= 0) (void)client.close(file);
            for (const std::string& path : paths) (void)client.remove(path);
            for (const std::string& folder : folders) (void)client.remove_folder(folder);
        };
        share_.connection().finish(share_.connection().begin(order), kTidying);
    }
    // What killed programs left.
    void remove_leftovers() const {
        constexpr std::int64_t kLongAgo = 24LL * 3600 * 1'000'000'000;
        const auto entries =
            ask<std::vector<Entry>>([folder = folder_](Client& client) { return client.list(folder); });
        if (!entries) return;
        for (const Entry& one : *entries) {
            if (one.folder || !base::is_temporary_name(one.name) ||
                one.modified_ns > std::int64_t{std::time(nullptr)} * 1'000'000'000 - kLongAgo)
                continue;
            tell([path = joined(folder_, one.name)](Client& client) { return client.remove(path); });
        }
    }

    const Share& share_;
    base::ByteSource& from_;
    const std::string path_, folder_;
    const std::function<void(std::uint64_t)>& progress_;
    const IfThere if_there_;
    bool is_there_ = false;
    std::string temporary_;
    std::vector<std::string> given_up_;  // temporary ones, too
    int file_ = -1;                      // open to write
    std::vector<std::string> made_;
    bool tidied_ = false;
    std::uint64_t put_ = 0;
    Steady::time_point last_put_{};
};

}  // namespace

Status upload(const Share& share, base::ByteSource& from, const std::string& path,
              const std::function<void(std::uint64_t)>& progress, IfThere if_there) {
    return Upload(share, from, path, progress, if_there).run();
}

Status try_writing(const Share& share, const std::string& folder) {
    std::string there;
    for (std::size_t at = 0; at < folder.size();) {
        at = std::min(folder.find('/', at + 1), folder.size());
        const auto entry = share.look(folder.substr(0, at));
        if (!entry && entry.error().kind != ErrorKind::input) return fail(entry.error());
        if (!entry) break;
        there = folder.substr(0, at);
    }
    const std::string path = joined(there, base::temporary_name("writable"));
    const auto tried = share.connection().ask<void>([path](Client& client) -> Answer<void> {
        const auto file = client.open(path, Client::Open::make);
        if (!file) return tl::make_unexpected(file.error());
        const auto written = client.write(*file, 0, base::as_bytes("x"));
        const auto closed = client.close(*file);
        const auto removed = client.remove(path);
        if (!written) return tl::make_unexpected(written.error());
        return closed ? removed : closed;
    });
    if (!tried) return fail(writing_error(share, tried.error(), there));
    return {};
}

}  // namespace wavecrest::share
