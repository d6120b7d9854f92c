#include "net/fan_out.hpp"

#include <linux/sockios.h>
#include <sys/ioctl.h>
#include <sys/socket.h>
#include <sys/uio.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <atomic>
#include <cerrno>
#include <chrono>
#include <deque>
#include <map>
#include <thread>
#include <utility>

#include "base/mutex.hpp"

namespace wavecrest::net {
namespace {

using Steady = std::chrono::steady_clock;
using namespace std::chrono_literals;

// All clients get what has gathered that often: a call to the system for each, with a good deal to send.
constexpr auto kTurn = 40ms;
constexpr std::size_t kPiecesACall = 64;
// Blocks changed for one client that lie ready; it is more than what is sent in a turn.
constexpr std::size_t kMostChanged = 128 << 10;
// What is kept for slow clients at most, whatever its time says.
constexpr std::size_t kMostBytes = 96 << 20;

Time to_time(Steady::duration duration) {
    return std::chrono::duration_cast<Time>(duration);
}

class SharedFlow : public Broadcast {
  public:
    explicit SharedFlow(std::string of) : name(std::move(of)) {}
    void push(std::vector<Block> more) override {
        const base::MutexLock lock(mutex_);
        for (const auto& [broadcast, change] : derived_) {
            const auto other = broadcast.lock();
            if (!other) continue;
            std::vector<Block> changed = more;
            for (Block& block : changed) block.bytes = change(block.bytes);
            other->push(std::move(changed));
        }
        for (Block& block : more) incoming_.push_back(std::move(block));
    }
    void set_preface(Bytes bytes) override {
        const base::MutexLock lock(mutex_);
        preface_ = std::move(bytes);
        for (const auto& [broadcast, change] : derived_) {
            if (const auto other = broadcast.lock()) other->set_preface(change(preface_));
        }
    }
    void finish() override {
        const base::MutexLock lock(mutex_);
        finished_ = true;
        for (const auto& [broadcast, change] : derived_) {
            if (const auto other = broadcast.lock()) other->finish();
        }
    }
    void add_derived(const std::shared_ptr<SharedFlow>& broadcast, std::function<Bytes(const Bytes&)> change) {
        const base::MutexLock lock(mutex_);
        std::erase_if(derived_, [](const auto& one) { return one.first.expired(); });
        if (!preface_.empty()) broadcast->set_preface(change(preface_));
        if (finished_) broadcast->finish();
        derived_.emplace_back(broadcast, std::move(change));
    }

    // The sending thread's.
    void take(Time keep) {
        {
            const base::MutexLock lock(mutex_);
            for (Block& block : incoming_) {
                if (block.bytes.empty()) continue;
                held_ += block.bytes.size();
                if (block.start) newest_start = first + blocks.size();
                has_start = has_start || block.start;
                blocks.push_back(std::move(block));
            }
            incoming_.clear();
            finished = finished_;
            preface = preface_;
        }
        // Everything back to the newest start stays, so that joining means no waiting.
        while (!blocks.empty() && first < newest_start &&
               (blocks.back().time - blocks.front().time > keep || held_ > kMostBytes)) {
            held_ -= blocks.front().bytes.size();
            blocks.pop_front();
            ++first;
        }
        // A broadcast without starts isn't kept for ever either.
        while (held_ > 2 * kMostBytes) {
            held_ -= blocks.front().bytes.size();
            blocks.pop_front();
            if (++first > newest_start) has_start = false;
        }
    }
    std::uint64_t end() const { return first + blocks.size(); }

    const std::string name;
    std::deque<Block> blocks;  // numbered from `first`
    std::uint64_t first = 0;
    std::uint64_t newest_start = 0;
    bool has_start = false;
    bool finished = false;
    Bytes preface;

  private:
    base::Mutex mutex_;
    std::vector<Block> incoming_ GUARDED_BY(mutex_);
    Bytes preface_ GUARDED_BY(mutex_);
    std::vector<std::pair<std::weak_ptr<SharedFlow>, std::function<Bytes(const Bytes&)>>> derived_ GUARDED_BY(mutex_);
    bool finished_ GUARDED_BY(mutex_) = false;
    std::size_t held_ = 0;
};

struct Client {
    FanOutClient status;
    std::shared_ptr<SharedFlow> broadcast;
    int socket = -1;
    Steady::time_point connected = Steady::now(), last_progress = connected;
    // The sending thread's.
    FanOut::Change change;
    std::deque<Bytes> own;      // sent before the next block
    std::deque<Bytes> changed;  // blocks made its own; `next` is behind them
    bool begun = false;         // at a place of the broadcast, `next`
    std::uint64_t next = 0;     // block
    Bytes current;              // one that is sent in part, kept though the broadcast may have let it go
    std::size_t done = 0;       // bytes of it
    bool paused = false, leaving = false;
    bool resumed = false;  // where it goes on now is no place it was moved on to
    // Who of those that share a connection is in the middle of something; 0: nobody.
    std::shared_ptr<std::uint64_t> busy = std::make_shared<std::uint64_t>(0);
};

// What one call to the kernel sends.
struct Pieces {
    std::array<iovec, kPiecesACall> all{};
    std::size_t count = 0, bytes = 0;

    bool full() const { return count == kPiecesACall; }
    void add(const Bytes& what, std::size_t from = 0) {
        all[count++] = {const_cast<std::uint8_t*>(what.data()) + from, what.size() - from};
        bytes += what.size() - from;
    }
};

struct Order {
    enum class What { add, send, pause, resume, remove } what;
    std::uint64_t id = 0;
    Bytes bytes;
    std::unique_ptr<Client> client;
    std::uint64_t beside = 0;
};

}  // namespace

struct FanOut::State {
    FanOutSettings settings;
    OnEvent on_event;
    base::Mutex mutex;
    base::Condition turn;
    bool stopping GUARDED_BY(mutex) = false;
    std::vector<std::weak_ptr<SharedFlow>> broadcasts GUARDED_BY(mutex);
    std::vector<Order> orders GUARDED_BY(mutex);
    std::vector<FanOutClient> shown GUARDED_BY(mutex);
    std::uint64_t last_id GUARDED_BY(mutex) = 0;
    std::atomic<std::uint64_t> sent{0};
    std::map<std::uint64_t, std::unique_ptr<Client>> clients;  // the thread's
    std::thread thread;

    void run();
    void carry_out(std::vector<Order> list);
    void place(Client& client);
    // False when the client is to go.
    bool serve(Client& client, Steady::time_point now);
    static void drop(Client& client) {
        ::shutdown(client.socket, SHUT_RDWR);
        ::close(client.socket);
    }
};

void FanOut::State::carry_out(std::vector<Order> list) {
    for (Order& order : list) {
        if (order.what == Order::What::add) {
            if (const auto other = clients.find(order.beside); other != clients.end())
                order.client->busy = other->second->busy;
            clients.emplace(order.client->status.id, std::move(order.client));
            continue;
        }
        const auto found = clients.find(order.id);
        if (found == clients.end()) continue;
        Client& client = *found->second;
        switch (order.what) {
            case Order::What::send: {
                std::size_t waiting = order.bytes.size();
                for (const Bytes& one : client.own) waiting += one.size();
                if (waiting > kMostOwn) {
                    if (on_event) on_event(Event::dropped, client.status.address, client.broadcast->name);
                    if (*client.busy == client.status.id) *client.busy = 0;
                    drop(client);
                    clients.erase(found);
                    break;
                }
                client.own.push_back(std::move(order.bytes));
                break;
            }
            case Order::What::pause:
                client.paused = client.status.paused = true;
                break;
            case Order::What::resume:
                if (client.paused) client.begun = false;
                client.resumed = client.paused;
                client.changed.clear();
                client.paused = client.status.paused = false;
                break;
            default:
                client.leaving = true;
        }
    }
}

// The time of the first block that hasn't arrived as a whole: the kernel holds some until the other end has
// acknowledged them (tcp(7): SIOCOUTQ).
Time arrived_until(const Client& client, const SharedFlow& broadcast) {
    int held = 0;
    if (::ioctl(client.socket, SIOCOUTQ, &held) != 0) held = 0;
    auto waiting = static_cast<std::size_t>(std::max(held, 0)) + client.current.size() - client.done;
    for (const Bytes& one : client.changed) waiting += one.size();
    std::uint64_t block = std::min(client.next, broadcast.end());
    while (block > broadcast.first && waiting > 0)
        waiting -= std::min(waiting, broadcast.blocks[--block - broadcast.first].bytes.size());
    if (broadcast.blocks.empty()) return client.status.until;
    return block < broadcast.end() ? broadcast.blocks[block - broadcast.first].time : broadcast.blocks.back().time;
}

// Puts a client where it can go on.
void FanOut::State::place(Client& client) {
    const SharedFlow& broadcast = *client.broadcast;
    if (client.begun && client.next < broadcast.first) client.begun = false;  // what it waited for is gone
    if (client.begun && client.next < broadcast.end() && broadcast.has_start && broadcast.newest_start > client.next &&
        broadcast.blocks.back().time - broadcast.blocks[client.next - broadcast.first].time > settings.most_lag)
        client.begun = false;
    if (client.begun || !broadcast.has_start) return;
    if (client.next > 0 && !std::exchange(client.resumed, false)) {
        ++client.status.skips;
        if (on_event) on_event(Event::skipped, client.status.address, broadcast.name);
    }
    client.begun = true;
    client.next = broadcast.newest_start;
    client.status.from = client.status.until = broadcast.blocks[client.next - broadcast.first].time;
    if (!broadcast.preface.empty() && client.change) {
        client.changed.push_back(client.change(broadcast.preface));
    } else if (!broadcast.preface.empty()) {
        client.own.push_back(broadcast.preface);
    }
}

// What was begun, what is the client's own, and blocks.
Pieces pieces_for(Client& client) {
    const SharedFlow& broadcast = *client.broadcast;
    const bool goes_on = !client.paused && !client.leaving && client.begun;
    Pieces pieces;
    if (!client.current.empty()) pieces.add(client.current, client.done);
    for (std::size_t i = 0; i < client.own.size() && !pieces.full(); ++i) pieces.add(client.own[i]);
    while (goes_on && client.change && client.next < broadcast.end()) {
        std::size_t held = 0;
        for (const Bytes& one : client.changed) held += one.size();
        if (held > kMostChanged) break;
        client.changed.push_back(client.change(broadcast.blocks[client.next++ - broadcast.first].bytes));
    }
    for (std::size_t i = 0; i < client.changed.size() && !pieces.full(); ++i) pieces.add(client.changed[i]);
    if (!goes_on || client.change) return pieces;
    for (std::uint64_t block = client.next; block < broadcast.end() && !pieces.full() && pieces.bytes < (1 << 20);)
        pieces.add(broadcast.blocks[block++ - broadcast.first].bytes);
    return pieces;
}

// So many bytes of them have gone.
void forget_sent(Client& client, std::size_t left) {
    const SharedFlow& broadcast = *client.broadcast;
    const auto is_gone = [&](const Bytes& what, std::size_t from) {
        const std::size_t size = what.size() - from;
        if (left >= size) {
            left -= size;
            return true;
        }
        if (left > 0 || from > 0) {
            client.done = from + left;
            left = 0;
        }
        return false;
    };
    if (!client.current.empty()) {
        if (!is_gone(client.current, client.done)) return;
        client.current = {};
        client.done = 0;
    }
    // False when it is gone in part only: that is sent first from then on.
    const auto is_whole = [&](const Bytes& front) {
        if (is_gone(front, 0)) return true;
        client.current = front;
        return false;
    };
    for (std::deque<Bytes>* queue : {&client.own, &client.changed}) {
        while (!queue->empty() && left > 0) {
            const Bytes front = queue->front();
            queue->pop_front();
            if (!is_whole(front)) return;
        }
    }
    while (left > 0) {
        if (!is_whole(broadcast.blocks[client.next++ - broadcast.first].bytes)) return;
    }
}

bool FanOut::State::serve(Client& client, Steady::time_point now) {
    const SharedFlow& broadcast = *client.broadcast;
    if (*client.busy != 0 && *client.busy != client.status.id) return true;
    bool waiting = false;
    while (true) {
        if (!client.paused && !client.leaving) place(client);
        Pieces pieces = pieces_for(client);
        if (pieces.count == 0) {
            waiting = false;
            break;
        }
        msghdr message{};
        message.msg_iov = pieces.all.data();
        message.msg_iovlen = pieces.count;
        const ssize_t n = ::sendmsg(client.socket, &message, MSG_NOSIGNAL | MSG_DONTWAIT);
        if (n < 0 && errno == EINTR) continue;
        if (n < 0 && errno != EAGAIN && errno != EWOULDBLOCK) return false;
        waiting = n < static_cast<ssize_t>(pieces.bytes);
        if (n <= 0) break;
        client.last_progress = now;
        client.status.sent += static_cast<std::uint64_t>(n);
        sent += static_cast<std::uint64_t>(n);
        forget_sent(client, static_cast<std::size_t>(n));
        if (waiting) break;
    }
    if (waiting && now - client.last_progress > std::chrono::duration_cast<Steady::duration>(settings.idle_limit)) {
        if (on_event) on_event(Event::dropped, client.status.address, broadcast.name);
        return false;
    }
    if (!waiting) client.last_progress = now;
    *client.busy = client.current.empty() ? 0 : client.status.id;
    if (client.leaving) client.changed.clear();
    if (client.leaving && client.current.empty() && client.own.empty()) return true;
    // Sent to its end: the client sees the end of the connection.
    if (broadcast.finished && !waiting && client.current.empty() && client.own.empty() && client.changed.empty())
        return false;
    client.status.lag = client.begun && client.next < broadcast.end()
                            ? broadcast.blocks.back().time - broadcast.blocks[client.next - broadcast.first].time
                            : Time{};
    client.status.connected = to_time(now - client.connected);
    if (client.begun && client.status.from)
        client.status.until = std::max(client.status.until, arrived_until(client, broadcast));
    return true;
}

void FanOut::State::run() {
    auto next = Steady::now();
    base::MutexLock lock(mutex);
    while (!stopping) {
        next = std::max(next + kTurn, Steady::now());
        while (!stopping && orders.empty() && turn.wait_until(mutex, next)) {
        }
        if (stopping) break;
        std::vector<Order> list;
        list.swap(orders);
        std::vector<std::shared_ptr<SharedFlow>> all;
        for (const auto& broadcast : broadcasts) {
            if (auto held = broadcast.lock()) all.push_back(std::move(held));
        }
        lock.unlock();
        carry_out(std::move(list));
        for (const auto& broadcast : all) broadcast->take(settings.most_lag);
        const auto now = Steady::now();
        for (auto client = clients.begin(); client != clients.end();) {
            Client& one = *client->second;
            const bool goes_on = serve(one, now);
            if (goes_on && !(one.leaving && one.current.empty() && one.own.empty())) {
                ++client;
                continue;
            }
            if (*one.busy == one.status.id) *one.busy = 0;
            if (!goes_on) ::shutdown(one.socket, SHUT_RDWR);
            ::close(one.socket);
            client = clients.erase(client);
        }
        std::vector<FanOutClient> now_shown;
        now_shown.reserve(clients.size());
        for (const auto& [id, client] : clients) now_shown.push_back(client->status);
        lock.lock();
        shown.swap(now_shown);
        std::erase_if(broadcasts, [](const auto& broadcast) { return broadcast.expired(); });
    }
}

FanOut::FanOut(FanOutSettings settings, OnEvent on_event) : state_(std::make_unique<State>()) {
    state_->settings = settings;
    state_->on_event = std::move(on_event);
    state_->thread = std::thread([s = state_.get()] { s->run(); });
}

FanOut::~FanOut() {
    {
        const base::MutexLock lock(state_->mutex);
        state_->stopping = true;
    }
    state_->turn.notify_one();
    state_->thread.join();
    for (const auto& [id, client] : state_->clients) state_->drop(*client);
    for (Order& order : state_->orders) {
        if (order.client) state_->drop(*order.client);
    }
}

std::shared_ptr<Broadcast> FanOut::open(std::string name) {
    auto broadcast = std::make_shared<SharedFlow>(std::move(name));
    const base::MutexLock lock(state_->mutex);
    state_->broadcasts.push_back(broadcast);
    return broadcast;
}

std::shared_ptr<Broadcast> FanOut::derive(const std::shared_ptr<Broadcast>& broadcast,
                                          std::function<Bytes(const Bytes&)> change) {
    const auto from = std::static_pointer_cast<SharedFlow>(broadcast);
    auto derived = open(from->name);
    from->add_derived(std::static_pointer_cast<SharedFlow>(derived), std::move(change));
    return derived;
}

std::uint64_t FanOut::add(const std::shared_ptr<Broadcast>& broadcast, int socket, std::string address, Bytes first,
                          std::uint64_t beside, Change change, std::string agent) {
    auto client = std::make_unique<Client>();
    client->change = std::move(change);
    client->broadcast = std::static_pointer_cast<SharedFlow>(broadcast);
    client->socket = socket;
    client->status.address = std::move(address);
    client->status.agent = std::move(agent);
    client->status.name = client->broadcast->name;
    if (!first.empty()) client->own.push_back(std::move(first));
    const base::MutexLock lock(state_->mutex);
    const std::uint64_t id = ++state_->last_id;
    client->status.id = id;
    state_->shown.push_back(client->status);
    state_->orders.push_back({Order::What::add, id, {}, std::move(client), beside});
    state_->turn.notify_one();
    return id;
}

void FanOut::send(std::uint64_t client, Bytes bytes) {
    const base::MutexLock lock(state_->mutex);
    state_->orders.push_back({Order::What::send, client, std::move(bytes), nullptr, 0});
    state_->turn.notify_one();
}

void FanOut::pause(std::uint64_t client, bool paused) {
    const base::MutexLock lock(state_->mutex);
    state_->orders.push_back({paused ? Order::What::pause : Order::What::resume, client, {}, nullptr, 0});
}

void FanOut::remove(std::uint64_t client) {
    const base::MutexLock lock(state_->mutex);
    state_->orders.push_back({Order::What::remove, client, {}, nullptr, 0});
    state_->turn.notify_one();
}

std::vector<FanOutClient> FanOut::clients() const {
    const base::MutexLock lock(state_->mutex);
    return state_->shown;
}

std::uint64_t FanOut::sent() const {
    return state_->sent;
}

}  // namespace wavecrest::net
