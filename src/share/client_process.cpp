#include "share/client_process.hpp"

#include <poll.h>
#include <signal.h>
#include <sys/mman.h>
#include <sys/prctl.h>
#include <sys/socket.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <chrono>

#include "base/bytes.hpp"

namespace wavecrest::share {
namespace {

using Steady = std::chrono::steady_clock;

enum class Ask : std::uint8_t {
    list = 1,
    look,
    open,
    make,
    read,
    write,
    close,
    remove,
    make_folder,
    remove_folder,
    rename,
    free_space
};
constexpr std::size_t kMostMessage = 256 << 20;  // a folder of a million names
// Of one read: it goes by memory that both processes have, with room for two.
constexpr std::size_t kMostRead = 1 << 20;
constexpr std::size_t kRoom = 2 * kMostRead;

// A message: its length (32 bits), then what it is. False when the other end is gone, or the time is over.
bool send_all(int socket, ByteSpan bytes, Steady::time_point until, bool limited);
bool receive_all(int socket, std::span<std::uint8_t> into, Steady::time_point until, bool limited);

bool ready(int socket, short what, Steady::time_point until, bool limited) {
    while (true) {
        pollfd one{socket, what, 0};
        const auto left = std::chrono::ceil<std::chrono::milliseconds>(until - Steady::now()).count();
        if (limited && left <= 0) return false;
        const int got = ::poll(&one, 1, limited ? static_cast<int>(std::min<std::int64_t>(left, 600'000)) : -1);
        if (got > 0) return true;
        if (got < 0 && errno != EINTR) return false;
    }
}
bool send_all(int socket, ByteSpan bytes, Steady::time_point until, bool limited) {
    while (!bytes.empty()) {
        if (!ready(socket, POLLOUT, until, limited)) return false;
        const ssize_t n = ::send(socket, bytes.data(), bytes.size(), MSG_NOSIGNAL | MSG_DONTWAIT);
        if (n > 0) bytes = bytes.subspan(static_cast<std::size_t>(n));
        if (n < 0 && errno != EAGAIN && errno != EINTR) return false;
    }
    return true;
}
bool receive_all(int socket, std::span<std::uint8_t> into, Steady::time_point until, bool limited) {
    while (!into.empty()) {
        if (!ready(socket, POLLIN, until, limited)) return false;
        const ssize_t n = ::recv(socket, into.data(), into.size(), MSG_DONTWAIT);
        if (n == 0) return false;
        if (n > 0) into = into.subspan(static_cast<std::size_t>(n));
        if (n < 0 && errno != EAGAIN && errno != EINTR) return false;
    }
    return true;
}

void put_entry(base::ByteWriter& out, const Entry& entry) {
    out.u32(entry.name.size());
    out.text(entry.name);
    out.u8(entry.folder ? 1 : 0);
    out.u64(entry.size);
    out.u64(static_cast<std::uint64_t>(entry.modified_ns));
}
Entry take_entry(base::ByteReader& in) {
    Entry entry;
    const std::uint32_t length = in.u32();
    entry.name = in.text(length);
    entry.folder = in.u8() != 0;
    entry.size = in.u64();
    entry.modified_ns = static_cast<std::int64_t>(in.u64());
    return entry;
}

// What a question asks for.
struct Question {
    Ask ask = Ask::list;
    int file = 0;
    std::uint64_t offset = 0;
    std::uint64_t count = 0;
    std::string path;

    void put(base::ByteWriter& out) const {
        out.u8(static_cast<std::uint8_t>(ask));
        out.u32(static_cast<std::uint32_t>(file));
        out.u64(offset);
        out.u64(count);
        out.u32(path.size());
        out.text(path);
    }
    static Question take(base::ByteReader& in) {
        Question one;
        one.ask = static_cast<Ask>(in.u8());
        one.file = static_cast<int>(in.u32());
        one.offset = in.u64();
        one.count = in.u64();
        const std::uint32_t length = in.u32();
        one.path = in.text(length);
        return one;
    }
};

// The answer: an error number (32 bits), then what is asked for.
template <typename T, typename Put>
void answer(base::ByteWriter& out, const Answer<T>& given, Put put) {
    out.u32(given ? 0 : static_cast<std::uint32_t>(given.error()));
    if (given) put();
}

// Reads into one half of the room while the other keeps what will be asked for next: a file that is read in order is
// read on while the answer is fetched, so that the connection is never idle in between.
class Reading {
  public:
    Reading(Client& client, std::span<std::uint8_t> room) : client_(client), room_(room) {}

    struct Piece {
        std::size_t at = 0, size = 0;  // in the room
    };
    Answer<Piece> read(int file, std::uint64_t offset, std::size_t count) {
        count = std::min(count, kMostRead);
        in_order_ = file == file_ && offset == next_;
        const bool kept = ahead_.file == file && ahead_.offset == offset && ahead_.piece.size >= count &&
                          Steady::now() - ahead_.since < kKept;
        if (kept) {
            last_ = {ahead_.piece.at, count};
        } else {
            const auto got = read_into(other_half(), file, offset, count);
            if (!got) return got;
            last_ = *got;
        }
        const bool at_end = last_.size < count || (kept && ahead_.at_end);
        // (What is kept for a file that is read by turns with another is kept on.)
        if (ahead_.is_there() && (kept || ahead_.file == file || Steady::now() - ahead_.since >= kKept)) ahead_ = {};
        file_ = file;
        next_ = offset + last_.size;
        wish_ = at_end ? 0 : count;
        return last_;
    }
    // After the answer has gone out.
    void read_ahead() {
        if (!in_order_ || wish_ == 0 || ahead_.is_there()) return;
        in_order_ = false;
        const auto got = read_into(other_half(), file_, next_, wish_);
        if (got && got->size > 0) ahead_ = Ahead{file_, next_, *got, got->size < wish_, Steady::now()};
    }
    // Anything else that is asked: what was read ahead may be of a file that is closed, or written.
    void forget() { ahead_ = {}; }

  private:
    // What is older is asked for again. (A film that is played takes some seconds for a piece.)
    static constexpr std::chrono::seconds kKept{60};
    struct Ahead {
        int file = -1;  // -1: nothing
        std::uint64_t offset = 0;
        Piece piece;
        bool at_end = false;  // it was short
        Steady::time_point since;
        bool is_there() const { return file >= 0; }
    };

    // The half that holds neither the last answer, which is still fetched, nor what is kept.
    std::size_t other_half() const {
        const std::size_t taken = ahead_.is_there() ? ahead_.piece.at : last_.at;
        return taken == 0 ? kMostRead : 0;
    }
    Answer<Piece> read_into(std::size_t at, int file, std::uint64_t offset, std::size_t count) {
        const auto got = client_.read(file, offset, room_.subspan(at, count));
        if (!got) return tl::make_unexpected(got.error());
        return Piece{at, *got};
    }

    Client& client_;
    const std::span<std::uint8_t> room_;
    int file_ = -1;
    std::uint64_t next_ = 0;
    std::size_t wish_ = 0;
    bool in_order_ = false;
    Piece last_;
    Ahead ahead_;
};

void answer_one(Client& client, base::ByteReader& in, base::ByteWriter& out, Reading& reading) {
    const Question question = Question::take(in);
    if (question.ask != Ask::read) reading.forget();
    switch (question.ask) {
        case Ask::list: {
            const auto given = client.list(question.path);
            answer(out, given, [&] {
                for (const Entry& entry : *given) put_entry(out, entry);
            });
            return;
        }
        case Ask::look: {
            const auto given = client.look(question.path);
            answer(out, given, [&] { put_entry(out, *given); });
            return;
        }
        case Ask::open:
        case Ask::make: {
            const auto given =
                client.open(question.path, question.ask == Ask::make ? Client::Open::make : Client::Open::read);
            answer(out, given, [&] { out.u32(static_cast<std::uint32_t>(*given)); });
            return;
        }
        case Ask::read: {
            const auto given = reading.read(question.file, question.offset, question.count);
            answer(out, given, [&] {
                out.u64(given->at);
                out.u64(given->size);
            });
            return;
        }
        case Ask::write: {
            const auto given = client.write(question.file, question.offset, in.take(in.remaining()));
            answer(out, given, [&] { out.u64(*given); });
            return;
        }
        case Ask::close: {
            answer(out, client.close(question.file), [] {});
            return;
        }
        case Ask::remove: {
            answer(out, client.remove(question.path), [] {});
            return;
        }
        case Ask::make_folder: {
            answer(out, client.make_folder(question.path), [] {});
            return;
        }
        case Ask::remove_folder: {
            answer(out, client.remove_folder(question.path), [] {});
            return;
        }
        case Ask::rename: {
            answer(out, client.rename(question.path, in.text(in.remaining())), [] {});
            return;
        }
        case Ask::free_space: {
            const auto given = client.free_space(question.path);
            answer(out, given, [&] { out.u64(*given); });
            return;
        }
    }
    out.u32(EINVAL);
}

// The life of the process: until the other end is gone.
[[noreturn]] void serve(int socket, const std::function<std::unique_ptr<Client>()>& make,
                        std::span<std::uint8_t> room) {
    const std::unique_ptr<Client> client = make();
    Reading reading(*client, room);
    while (true) {
        std::array<std::uint8_t, 4> length{};
        if (!receive_all(socket, length, {}, false)) break;
        const std::size_t count = base::ByteReader(length).u32();
        ByteVector bytes(count);
        if (!receive_all(socket, bytes, {}, false)) break;
        base::ByteReader in(bytes);
        base::ByteWriter out;
        out.u32(0);
        answer_one(*client, in, out, reading);
        out.put_u32(0, out.size() - 4);
        if (!send_all(socket, out.bytes(), {}, false)) break;
        reading.read_ahead();
    }
    ::_exit(0);
}

class ProcessClient : public Client {
  public:
    ProcessClient(std::function<std::unique_ptr<Client>()> make, Time limit) : make_(std::move(make)), limit_(limit) {}
    ~ProcessClient() override { end(); }

    Answer<std::vector<Entry>> list(const std::string& folder) override {
        return asked<std::vector<Entry>>({Ask::list, 0, 0, 0, folder}, {}, [](base::ByteReader& in) {
            std::vector<Entry> entries;
            while (in.ok() && in.remaining() > 0) entries.push_back(take_entry(in));
            return entries;
        });
    }
    Answer<Entry> look(const std::string& path) override {
        return asked<Entry>({Ask::look, 0, 0, 0, path}, {}, [](base::ByteReader& in) { return take_entry(in); });
    }
    Answer<int> open(const std::string& path, Open how) override {
        return asked<int>({how == Open::make ? Ask::make : Ask::open, 0, 0, 0, path}, {},
                          [](base::ByteReader& in) { return static_cast<int>(in.u32()); });
    }
    Answer<std::size_t> read(int file, std::uint64_t offset, std::span<std::uint8_t> into) override {
        return asked<std::size_t>({Ask::read, file, offset, into.size(), {}}, {}, [&](base::ByteReader& in) {
            const auto at = static_cast<std::size_t>(std::min<std::uint64_t>(in.u64(), room_.size()));
            const auto size = static_cast<std::size_t>(in.u64());
            const std::size_t count = std::min({size, into.size(), room_.size() - at});
            std::copy_n(room_.begin() + static_cast<std::ptrdiff_t>(at), count, into.begin());
            return count;
        });
    }
    Answer<std::size_t> write(int file, std::uint64_t offset, ByteSpan bytes) override {
        return asked<std::size_t>({Ask::write, file, offset, bytes.size(), {}}, bytes,
                                  [](base::ByteReader& in) { return static_cast<std::size_t>(in.u64()); });
    }
    Answer<void> close(int file) override { return nothing({Ask::close, file, 0, 0, {}}); }
    Answer<void> remove(const std::string& path) override { return nothing({Ask::remove, 0, 0, 0, path}); }
    Answer<void> make_folder(const std::string& path) override { return nothing({Ask::make_folder, 0, 0, 0, path}); }
    Answer<void> remove_folder(const std::string& path) override {
        return nothing({Ask::remove_folder, 0, 0, 0, path});
    }
    Answer<void> rename(const std::string& from, const std::string& to) override {
        return nothing({Ask::rename, 0, 0, 0, from}, base::as_bytes(to));
    }
    Answer<std::uint64_t> free_space(const std::string& folder) override {
        return asked<std::uint64_t>({Ask::free_space, 0, 0, 0, folder}, {},
                                    [](base::ByteReader& in) { return in.u64(); });
    }

  private:
    Answer<void> nothing(const Question& question, ByteSpan data = {}) {
        const auto given = asked<bool>(question, data, [](base::ByteReader&) { return true; });
        if (!given) return tl::make_unexpected(given.error());
        return {};
    }

    template <typename T, typename Take>
    Answer<T> asked(const Question& question, ByteSpan data, Take take) {
        if (const int error = begin()) return tl::make_unexpected(error);
        const auto until = Steady::now() + std::chrono::duration_cast<Steady::duration>(
                                               std::chrono::duration<double>(base::to_seconds(limit_)));
        base::ByteWriter out;
        out.u32(0);
        question.put(out);
        out.raw(data);
        out.put_u32(0, out.size() - 4);
        std::array<std::uint8_t, 4> length{};
        bool come = send_all(socket_, out.bytes(), until, true) && receive_all(socket_, length, until, true);
        const std::size_t count = base::ByteReader(length).u32();
        come = come && count >= 4 && count <= kMostMessage;
        ByteVector bytes(come ? count : 0);
        come = come && receive_all(socket_, bytes, until, true);
        if (!come) {
            const bool late = Steady::now() >= until;
            end();
            return tl::make_unexpected(late ? ETIMEDOUT : EIO);
        }
        base::ByteReader in(bytes);
        if (const auto error = static_cast<int>(in.u32()); error != 0) return tl::make_unexpected(error);
        T given = take(in);
        if (!in.ok()) return tl::make_unexpected(EIO);
        return given;
    }

    // 0, or an error number.
    int begin() {
        if (socket_ >= 0) return 0;
        std::array<int, 2> ends{};
        if (::socketpair(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC, 0, ends.data()) != 0) return errno;
        void* const shared = ::mmap(nullptr, kRoom, PROT_READ | PROT_WRITE, MAP_SHARED | MAP_ANONYMOUS, -1, 0);
        if (shared == MAP_FAILED) {
            ::close(ends[0]);
            ::close(ends[1]);
            return ENOMEM;
        }
        room_ = {static_cast<std::uint8_t*>(shared), kRoom};
        const pid_t parent = ::getpid();
        process_ = ::fork();
        if (process_ == 0) {
            // It ends with whoever began it, keeps nothing open of theirs, and leaves Ctrl-C to them.
            ::prctl(PR_SET_PDEATHSIG, SIGKILL);
            if (::getppid() != parent) ::_exit(0);
            constexpr int kOwn = 3;
            const int own = ::dup2(ends[1], kOwn) == kOwn ? kOwn : ends[1];
            ::syscall(SYS_close_range, own + 1, ~0U, 0);
            ::signal(SIGINT, SIG_IGN);
            ::signal(SIGTERM, SIG_DFL);
            ::signal(SIGHUP, SIG_IGN);
            ::signal(SIGPIPE, SIG_IGN);
            serve(own, make_, room_);
        }
        ::close(ends[1]);
        if (process_ < 0) {
            const int error = errno;
            ::close(ends[0]);
            free_room();
            return error;
        }
        socket_ = ends[0];
        return 0;
    }

    void end() {
        if (socket_ < 0) return;
        ::close(socket_);
        socket_ = -1;
        ::kill(process_, SIGKILL);
        while (::waitpid(process_, nullptr, 0) < 0 && errno == EINTR) {
        }
        free_room();
    }
    void free_room() {
        ::munmap(room_.data(), room_.size());
        room_ = {};
    }

    const std::function<std::unique_ptr<Client>()> make_;
    const Time limit_;
    int socket_ = -1;
    pid_t process_ = -1;
    std::span<std::uint8_t> room_;  // the process puts there what it has read
};

}  // namespace

std::unique_ptr<Client> in_own_process(std::function<std::unique_ptr<Client>()> make, Time limit) {
    return std::make_unique<ProcessClient>(std::move(make), limit);
}

}  // namespace wavecrest::share
