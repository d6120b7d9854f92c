// One broadcast of blocks sent to any number of TCP clients: each block is kept once, however many take it. A client
// that is slower than the broadcast is moved on to a later place where it can begin anew, or dropped; others never
// notice.
#pragma once

#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "base/bytes.hpp"
#include "base/time.hpp"

namespace wavecrest::net {

struct Block {
    Bytes bytes;
    Time time{};         // on the broadcast's timeline
    bool start = false;  // a client can begin here
};

// A broadcast. Made by FanOut::open; blocks may be pushed from any one thread.
class Broadcast {
  public:
    virtual ~Broadcast() = default;
    virtual void push(std::vector<Block> blocks) = 0;
    // What each client gets in front of the start it begins with, or is moved on to.
    virtual void set_preface(Bytes preface) = 0;
    // No more comes: clients get what is left and are let go.
    virtual void finish() = 0;
};

struct FanOutSettings {
    // A client that is further behind the newest block is moved on to the newest start.
    Time most_lag = base::from_seconds(6);
    // One that takes nothing for so long, while there is something to take, is dropped.
    Time idle_limit = base::from_seconds(20);
};

struct FanOutClient {
    std::uint64_t id = 0;
    std::string address;  // "192.168.1.20"
    std::string name;     // of the broadcast
    Time connected{};     // how long
    Time lag{};           // behind the newest block
    std::uint64_t sent = 0;
    std::uint64_t skips = 0;  // how often it was moved on
    std::string agent;        // how the program at the other end calls itself, as far as it does
    // On the broadcast's timeline: where it began, or went on when it was moved on or had paused; and what has arrived
    // at it since (what lies in the kernel hasn't).
    std::optional<Time> from;
    Time until{};
    bool paused = false;  // for itself: see pause()
};

class FanOut {
  public:
    // Called from the sending thread when a client was dropped or moved on.
    enum class Event { skipped, dropped };
    using OnEvent = std::function<void(Event event, const std::string& address, const std::string& name)>;

    explicit FanOut(FanOutSettings settings = {}, OnEvent on_event = {});
    // Closes all.
    ~FanOut();

    std::shared_ptr<Broadcast> open(std::string name);
    // A broadcast of what `broadcast` gets from now on, each block changed by `change`.
    std::shared_ptr<Broadcast> derive(const std::shared_ptr<Broadcast>& broadcast,
                                      std::function<Bytes(const Bytes&)> change);
    // `socket` is closed by the fan-out when the client is gone; non-blocking writing is all it is used for. The client
    // begins with `first`, then the newest start; where there is none yet it waits for one.
    // `beside` is a client whose connection this one shares (another socket handle of it); their blocks never mix.
    // `change`, where there is one, makes of each block (and preface) what this client gets; it is called in their
    // order from the sending thread.
    using Change = std::function<Bytes(const Bytes& block)>;
    std::uint64_t add(const std::shared_ptr<Broadcast>& broadcast, int socket, std::string address, Bytes first,
                      std::uint64_t beside = 0, Change change = {}, std::string agent = {});
    // Sends bytes of its own to one client, between two blocks. A client that leaves more than kMostOwn of them lying
    // is dropped.
    static constexpr std::size_t kMostOwn = 256 << 10;
    void send(std::uint64_t client, Bytes bytes);
    // Nothing more of the broadcast is sent to this client, or again, from the newest start on.
    void pause(std::uint64_t client, bool paused);
    // Ends it behind the block it is in; the connection itself stays.
    void remove(std::uint64_t client);
    std::vector<FanOutClient> clients() const;
    std::uint64_t sent() const;  // to all, gone ones included

  private:
    struct State;
    std::unique_ptr<State> state_;
};

}  // namespace wavecrest::net
