// A share of a file server without mounting it: folders are listed and files read over a connection of the program's
// own. Every wait is bounded: a server that stops answering is an error after the stated time, and one that was
// restarted is connected to again.
#pragma once

#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "base/byte_source.hpp"
#include "base/cancel.hpp"
#include "base/mutex.hpp"
#include "base/result.hpp"
#include "share/account.hpp"
#include "share/client.hpp"
#include "share/location.hpp"

namespace wavecrest::share {

struct Limits {
    Time answer = base::from_seconds(10);     // of the wait for each answer
    Time reconnect = base::from_seconds(30);  // a reader tries so long to reach a server again that was lost
    const Cancel* cancel = nullptr;           // asked while waiting; null: nobody cancels
};

// Asks a client on a thread of its own, and doesn't wait for it longer than allowed. What is still under way then is
// left to itself. Safe to use from any thread; questions are answered one after the other.
class Connection {
  public:
    using Make = std::function<std::unique_ptr<Client>()>;
    Connection(Make make, Limits limits);
    ~Connection();
    Connection(const Connection&) = delete;
    Connection& operator=(const Connection&) = delete;

    // ETIMEDOUT: no answer in time; ECANCELED: cancelled.
    template <typename T>
    Answer<T> ask(std::function<Answer<T>(Client&)> question) {
        auto slot = std::make_shared<std::optional<Answer<T>>>();
        const int error = run([slot, question = std::move(question)](Client& client) { *slot = question(client); });
        if (error != 0) return tl::make_unexpected(error);
        return std::move(**slot);
    }
    // Begins a question whose answer is waited for later, by wait().
    std::uint64_t begin(std::function<void(Client&)> question);
    // 0 when it was answered; else as ask().
    int wait(std::uint64_t question);
    // Waits for it so long, cancelled or not: for what leaves nothing behind.
    void finish(std::uint64_t question, Time most);
    // A new client from now on; numbers of files that were open count no more. How often this has been done.
    void restart();
    std::uint64_t generation() const;

  private:
    struct State;
    int run(std::function<void(Client&)> question) { return wait(begin(std::move(question))); }
    std::shared_ptr<State> state_;
};

class Share {
  public:
    // Connects with the first question. Errors (kind input: not there, not permitted; kind machine: can't be reached)
    // say the cause as far as the protocol tells it: prove.hpp finds out more. Kind usage: the address has no share.
    static Result<std::shared_ptr<Share>> open(const Location& at, const Account& account, const Limits& limits = {});

    const Location& location() const { return at_; }
    // Paths as of Location::path, from the share's top.
    Result<std::vector<Entry>> list(const std::string& folder) const;
    Result<Entry> look(const std::string& path) const;
    // A file, read ahead where it is read in order. A server that comes back within the limit is read on from; a file
    // that is another then fails.
    Result<std::unique_ptr<base::ByteSource>> read(const std::string& path) const;

    // Bytes that may still be written in a folder; nothing where that isn't told.
    Result<std::optional<std::uint64_t>> free_space(const std::string& folder) const;

    // For what is asked besides (upload.hpp).
    Connection& connection() const { return *connection_; }
    const Limits& limits() const { return limits_; }

    // What such a failure means, for people.
    Error error(int number, const std::string& path) const;

  private:
    friend class ShareFile;
    Share(Location at, Account account, Limits limits);
    Location at_;
    Account account_;
    Limits limits_;
    std::shared_ptr<Connection> connection_;
};

// Whether such a failure may pass when the server is connected to again.
bool is_lost_connection(int error);

}  // namespace wavecrest::share
