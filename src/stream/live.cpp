#include "stream/live.hpp"

#include <fmt/format.h>
#include <pthread.h>

#include <algorithm>
#include <chrono>
#include <mutex>
#include <random>
#include <thread>

#include "container/interleave.hpp"
#include "container/ts_mux.hpp"
#include "container/writer.hpp"
#include "media/language.hpp"
#include "net/rtp.hpp"
#include "source/input.hpp"

namespace wavecrest::stream {
namespace {

using Steady = std::chrono::steady_clock;
using namespace std::chrono_literals;

// Seven packets fit into the 1500 bytes of an Ethernet frame; fewer go where seven would take longer than this.
constexpr std::size_t kDatagram = 7 * 188, kRtpHeader = net::kRtpHeaderBytes;
constexpr std::chrono::milliseconds kLongestFill{20};
// Multiplexed ahead of sending. A reader that has got that far rests until half of it is gone: it works in few long
// pieces, not whenever a datagram leaves.
constexpr std::chrono::milliseconds kAhead{1500}, kLowAhead{750};
constexpr std::chrono::milliseconds kHandOver{50};
// Datagrams due within this time go out by one call.
constexpr std::chrono::microseconds kBatch{300};
// A source that is later than this moves the stream's clock: receivers see a gap, not a rush.
constexpr std::chrono::milliseconds kStall{250};

struct Datagram {
    Time due{};  // on the timeline of the stream
    Time position{};
    ByteVector bytes;  // room for an RTP header, then transport packets
};

// A queue whose places keep their buffers: what is taken out is exchanged for something spent. The sender neither
// allocates nor frees, which could make it wait for a thread that is pushed aside inside the allocator.
class Ring {
  public:
    bool empty() const { return count_ == 0; }
    Datagram& front() { return places_[first_]; }
    const Datagram& front() const { return places_[first_]; }
    const Datagram& back() const { return places_[(first_ + count_ - 1) % places_.size()]; }
    // `datagram` gets a spent buffer.
    void push(Datagram& datagram) {
        if (count_ == places_.size()) grow();
        Datagram& place = places_[(first_ + count_++) % places_.size()];
        place.due = datagram.due;
        place.position = datagram.position;
        place.bytes.swap(datagram.bytes);
    }
    void pop(Datagram& into) {
        Datagram& place = front();
        into.due = place.due;
        into.position = place.position;
        into.bytes.swap(place.bytes);
        first_ = (first_ + 1) % places_.size();
        --count_;
    }

  private:
    void grow() {
        std::vector<Datagram> larger(std::max<std::size_t>(64, places_.size() * 2));
        for (std::size_t i = 0; i < count_; ++i) larger[i] = std::move(places_[(first_ + i) % places_.size()]);
        places_ = std::move(larger);
        first_ = 0;
    }
    std::vector<Datagram> places_;
    std::size_t first_ = 0, count_ = 0;
};

// Lateness in steps of 50 us up to 100 ms.
class Histogram {
  public:
    void add(Steady::duration late) {
        const auto step = std::chrono::duration_cast<std::chrono::microseconds>(late).count() / 50;
        ++steps_[static_cast<std::size_t>(
            std::clamp<std::int64_t>(step, 0, static_cast<std::int64_t>(steps_.size()) - 1))];
        ++count_;
        worst_ = std::max(worst_, late);
    }
    Time percentile(double part) const {
        std::uint64_t wanted = static_cast<std::uint64_t>(static_cast<double>(count_) * part), seen = 0;
        for (std::size_t i = 0; i < steps_.size(); ++i) {
            seen += steps_[i];
            if (seen > wanted) return base::from_ticks(static_cast<std::int64_t>(50 * (i + 1)), 1'000'000);
        }
        return {};
    }
    Time worst() const { return std::chrono::duration_cast<Time>(worst_); }

  private:
    std::vector<std::uint64_t> steps_ = std::vector<std::uint64_t>(2000);
    std::uint64_t count_ = 0;
    Steady::duration worst_{};
};

// A mutex that lends its holder the priority of who waits for it: else a reader that other programs push aside while it
// holds the mutex would hold up the sender, real-time scheduling or not.
class LendingMutex {
  public:
    LendingMutex() {
        pthread_mutexattr_t attributes;
        ::pthread_mutexattr_init(&attributes);
        ::pthread_mutexattr_setprotocol(&attributes, PTHREAD_PRIO_INHERIT);
        ::pthread_mutex_init(&mutex_, &attributes);
        ::pthread_mutexattr_destroy(&attributes);
    }
    LendingMutex(const LendingMutex&) = delete;
    LendingMutex& operator=(const LendingMutex&) = delete;
    ~LendingMutex() { ::pthread_mutex_destroy(&mutex_); }
    void lock() { ::pthread_mutex_lock(&mutex_); }
    void unlock() { ::pthread_mutex_unlock(&mutex_); }

    pthread_mutex_t* handle() { return &mutex_; }

  private:
    pthread_mutex_t mutex_;
};

// Waiting under a lending mutex (std::condition_variable_any has a mutex inside that lends nothing).
class Turn {
  public:
    Turn() { ::pthread_cond_init(&condition_, nullptr); }
    Turn(const Turn&) = delete;
    Turn& operator=(const Turn&) = delete;
    ~Turn() { ::pthread_cond_destroy(&condition_); }
    void wait(LendingMutex& locked) { ::pthread_cond_wait(&condition_, locked.handle()); }
    void notify() { ::pthread_cond_signal(&condition_); }

  private:
    pthread_cond_t condition_;
};

struct Feed {
    ReadyLive ready;
    std::thread producer;
    // Under the service's mutex:
    Ring queue;
    bool waiting = false;  // for its turn
    bool done = false;     // nothing more comes
    std::string error;
    std::uint64_t rounds = 0;
    Time ahead(Time due) const { return queue.empty() ? Time{} : due - queue.front().due; }
    Turn turn;
    // The sender's:
    bool begun = false;
    Steady::time_point zero;  // when time 0 of the stream's timeline is sent
    std::uint16_t sequence = 0;
    std::uint32_t source = 0;
    LiveStatus status;
};

// From the interleaver to the multiplexer.
class MuxSink : public PacketSink {
  public:
    explicit MuxSink(container::TransportMux& mux) : mux_(mux) {}
    Status write(const Packet& packet) override { return mux_.write(packet); }
    Status finish() override { return mux_.finish(); }

  private:
    container::TransportMux& mux_;
};

}  // namespace

struct LiveService::State {
    std::vector<std::unique_ptr<Feed>> feeds;
    std::unique_ptr<net::UdpSender> sender;
    std::thread thread;
    mutable LendingMutex mutex;
    bool stopping = false;
    bool real_time = false;
    Histogram late;

    Status produce(Feed& feed);
    void send_all();
    // False when the service ends.
    bool push(Feed& feed, std::vector<Datagram>& datagrams, std::size_t count) {
        if (count == 0) return true;
        const std::lock_guard lock(mutex);
        for (Time most = kAhead; !stopping && feed.ahead(datagrams.front().due) >= most; most = kLowAhead) {
            feed.waiting = true;
            feed.turn.wait(mutex);
        }
        feed.waiting = false;
        if (stopping) return false;
        for (std::size_t i = 0; i < count; ++i) feed.queue.push(datagrams[i]);
        return true;
    }
};

Status LiveService::State::produce(Feed& feed) {
    const std::vector<Track>& tracks = feed.ready.tracks;
    const auto picture =
        std::find_if(tracks.begin(), tracks.end(), [](const Track& t) { return t.kind == TrackKind::video; });
    container::MuxSettings settings;
    settings.title = feed.ready.item.name;
    settings.rate_bps = feed.ready.item.rate_bps;
    Datagram next;
    Time position{};
    // Handed over several at a time: the sender shouldn't meet a lock for each.
    std::vector<Datagram> ready(1);
    std::size_t filled = 0;
    const auto give = [&] {
        if (ready.size() == filled) ready.emplace_back();
        ready[filled].due = next.due;
        ready[filled].position = next.position;
        ready[filled].bytes.swap(next.bytes);
        next.bytes.clear();
        ++filled;
        if (ready[filled - 1].due - ready[0].due < Time(kHandOver)) return true;
        const bool goes_on = push(feed, ready, filled);
        for (std::size_t i = 0; i < filled; ++i) ready[i].bytes.clear();
        filled = 0;
        return goes_on;
    };
    container::TransportMux mux(tracks, settings, [&](const container::MuxedPacket& packet) -> Status {
        if (!next.bytes.empty() && packet.due - next.due > Time(kLongestFill)) {
            if (!give()) return base::interrupted();
        }
        if (next.bytes.empty()) {
            next.due = packet.due;
            next.position = position;
            next.bytes.resize(kRtpHeader);
        }
        next.bytes.insert(next.bytes.end(), packet.bytes.begin(), packet.bytes.end());
        if (next.bytes.size() >= kRtpHeader + kDatagram && !give()) return base::interrupted();
        return {};
    });
    MuxSink sink(mux);
    container::Interleaver interleaver(sink, tracks, Time{});
    Time offset{};
    while (true) {
        WAVECREST_TRY_ASSIGN(input, source::open_input(feed.ready.item.file));
        WAVECREST_TRY_ASSIGN(pick, input->pick("main"));
        WAVECREST_TRY_ASSIGN(source, input->open(pick));
        Time picture_end{}, end{};
        bool any = false;
        while (true) {
            WAVECREST_TRY_ASSIGN(packet, source->read());
            if (!packet) break;
            const auto track =
                std::find_if(tracks.begin(), tracks.end(), [&](const Track& t) { return t.id == packet->track; });
            if (track == tracks.end() || packet->hidden) continue;
            if (offset.count() > 0 && packet->pts < Time{}) continue;  // priming: the sound goes on
            if (track->kind == TrackKind::video)
                picture_end = std::max(picture_end, packet->pts + packet->duration);
            else if (track->kind == TrackKind::audio)
                end = std::max(end, packet->pts + packet->duration);
            any = true;
            position = std::max(packet->dts, Time{});
            packet->pts += offset;
            packet->dts += offset;
            WAVECREST_TRY(interleaver.write(std::move(*packet)));
        }
        if (!any)
            return fail(ErrorKind::input, "there is nothing in it to send", feed.ready.item.file.string(),
                        "wavecrest inspect tells what is in it");
        if (!feed.ready.item.loop) break;
        // The pictures' cadence goes on; sound that lasts longer than they do overlaps and is sorted out by receivers.
        offset += picture != tracks.end() ? picture_end : end;
        const std::lock_guard lock(mutex);
        ++feed.rounds;
    }
    WAVECREST_TRY(interleaver.drain());
    WAVECREST_TRY(mux.finish());
    if (!next.bytes.empty() && !give()) return base::interrupted();
    if (!push(feed, ready, filled)) return base::interrupted();
    return {};
}

void LiveService::State::send_all() {
    sched_param priority{};
    priority.sched_priority = 10;
    {
        const bool granted = ::pthread_setschedparam(::pthread_self(), SCHED_FIFO, &priority) == 0;
        const std::lock_guard lock(mutex);
        real_time = granted;
    }
    struct Going {
        Feed* feed;
        Datagram datagram;
        Steady::time_point due;
    };
    std::vector<Going> going(1);  // its places keep their buffers, too
    std::vector<net::UdpSender::Datagram> out;
    std::vector<Feed*> owners;
    std::unique_lock lock(mutex);
    while (!stopping) {
        const auto now = Steady::now();
        Steady::time_point wake = now + 50ms;
        std::size_t due_now = 0;
        for (const auto& feed : feeds) {
            if (!feed->begun && !feed->queue.empty()) {
                // Wait until enough lies ready, so that a slow start is no stall.
                const bool full = feed->queue.back().due - feed->queue.front().due >= Time(kLowAhead);
                if (!full && !feed->done) {
                    wake = std::min(wake, now + 5ms);
                    continue;
                }
                feed->begun = true;
                feed->zero = now - std::chrono::duration_cast<Steady::duration>(feed->queue.front().due);
            }
            while (!feed->queue.empty()) {
                Datagram& next = feed->queue.front();
                Steady::time_point due = feed->zero + std::chrono::duration_cast<Steady::duration>(next.due);
                if (now - due > kStall) {
                    ++feed->status.stalls;
                    feed->zero += now - due;
                    due = now;
                }
                if (due > now + kBatch / 2) {
                    wake = std::min(wake, due);
                    break;
                }
                feed->status.position = next.position;
                feed->status.datagrams += 1;
                feed->status.bytes += next.bytes.size() - kRtpHeader;
                if (due_now == going.size()) going.emplace_back();
                going[due_now].feed = feed.get();
                going[due_now].due = due;
                feed->queue.pop(going[due_now++].datagram);
            }
            if (feed->waiting && (feed->queue.empty() || feed->ahead(feed->queue.back().due) < Time(kLowAhead)))
                feed->turn.notify();
            if (feed->queue.empty() && feed->done) feed->status.ended = true;
        }
        if (due_now > 0) {
            lock.unlock();
            const auto end = going.begin() + static_cast<std::ptrdiff_t>(due_now);
            std::sort(going.begin(), end, [](const Going& a, const Going& b) { return a.due < b.due; });
            out.clear();
            owners.clear();
            for (auto one = going.begin(); one != end; ++one) {
                Feed& feed = *one->feed;
                const ByteSpan bytes(one->datagram.bytes);
                net::write_rtp(std::span(one->datagram.bytes).first<kRtpHeader>(),
                               {net::kRtpTransportStream, false, feed.sequence++,
                                static_cast<std::uint32_t>(base::to_ticks(one->datagram.due, 90'000)), feed.source});
                for (const LiveTarget& target : feed.ready.item.targets) {
                    out.push_back({&target.to, target.rtp ? bytes : bytes.subspan(kRtpHeader)});
                    owners.push_back(&feed);
                }
            }
            const std::size_t failed = sender->send(out);
            const auto sent = Steady::now();
            lock.lock();
            for (auto one = going.begin(); one != end; ++one) late.add(sent - one->due);
            // Which of them it was isn't told by the call that sends many.
            if (failed > 0) owners.front()->status.refused += failed;
            continue;
        }
        lock.unlock();
        if (wake > now) std::this_thread::sleep_until(wake);
        lock.lock();
    }
}

LiveService::LiveService(std::unique_ptr<State> state) : state_(std::move(state)) {}

std::string address_for(const LiveTarget& target) {
    return (target.rtp ? "rtp://" : "udp://") + target.to.text;
}

Result<std::vector<ReadyLive>> prepare_live(const std::vector<LiveItem>& items) {
    std::vector<ReadyLive> all;
    std::vector<std::pair<std::string, std::string>> taken;  // address, stream
    for (const LiveItem& item : items) {
        ReadyLive ready;
        ready.item = item;
        for (const LiveTarget& target : item.targets) {
            const auto other = std::find_if(taken.begin(), taken.end(),
                                            [&](const auto& entry) { return entry.first == target.to.text; });
            if (other != taken.end()) {
                return fail(ErrorKind::usage,
                            fmt::format("the streams \"{}\" and \"{}\" would both go to {}", other->second, item.name,
                                        target.to.text),
                            "streams", "give one of them another address or port");
            }
            taken.emplace_back(target.to.text, item.name);
        }
        WAVECREST_TRY_ASSIGN(input, source::open_input(item.file));
        WAVECREST_TRY_ASSIGN(pick, input->pick("main"));
        WAVECREST_TRY(input->check_protection(pick.title->number));
        ready.duration = pick.title->duration;
        bool picture = false;
        for (const Track& track : pick.title->tracks) {
            const std::string why =
                input->is_disc() ? container::why_not_codec("mpeg-ts", track) : container::why_not("mpeg-ts", track);
            const bool second = track.kind == TrackKind::video && picture;
            if (why.empty() && !second && track.kind != TrackKind::subtitle) {
                picture = picture || track.kind == TrackKind::video;
                ready.tracks.push_back(track);
            } else if (track.kind == TrackKind::video && !second) {
                return fail(ErrorKind::input, fmt::format("its pictures can't be sent: {}", why), item.file.string(),
                            "convert it first (wavecrest convert)");
            } else {
                ready.notes.push_back(fmt::format("{} {} {} is left out{}", media::short_name(track.codec),
                                                  media::short_name(track.kind), media::language_name(track.language),
                                                  why.empty() ? "" : ": " + why));
            }
        }
        if (ready.tracks.empty())
            return fail(ErrorKind::input, "it holds neither pictures nor sound that can be sent", item.file.string(),
                        "convert it first (wavecrest convert)");
        all.push_back(std::move(ready));
    }
    return all;
}

Result<std::unique_ptr<LiveService>> LiveService::start(std::vector<ReadyLive> streams, const net::UdpSettings& udp) {
    auto state = std::make_unique<State>();
    WAVECREST_TRY_ASSIGN(sender, net::UdpSender::open(udp));
    state->sender = std::move(sender);
    std::random_device random;
    for (ReadyLive& ready : streams) {
        auto feed = std::make_unique<Feed>();
        feed->status.name = ready.item.name;
        feed->ready = std::move(ready);
        // Unforeseeable beginnings, as RFC 3550 asks for (5.1).
        feed->sequence = static_cast<std::uint16_t>(random());
        feed->source = random();
        state->feeds.push_back(std::move(feed));
    }
    State* s = state.get();
    for (const auto& feed : state->feeds) {
        feed->producer = std::thread([s, f = feed.get()] {
            const Status status = s->produce(*f);
            const std::lock_guard lock(s->mutex);
            f->done = true;
            if (!status && !s->stopping) f->error = status.error().what;
        });
    }
    state->thread = std::thread([s] { s->send_all(); });
    return std::unique_ptr<LiveService>(new LiveService(std::move(state)));
}

LiveService::~LiveService() {
    {
        const std::lock_guard lock(state_->mutex);
        state_->stopping = true;
    }
    for (const auto& feed : state_->feeds) feed->turn.notify();
    state_->thread.join();
    for (const auto& feed : state_->feeds) feed->producer.join();
}

LiveFigures LiveService::figures() const {
    LiveFigures figures;
    const std::lock_guard lock(state_->mutex);
    for (const auto& feed : state_->feeds) {
        LiveStatus status = feed->status;
        status.rounds = feed->rounds;
        status.error = feed->error;
        figures.streams.push_back(std::move(status));
    }
    figures.late_99 = state_->late.percentile(0.99);
    figures.latest = state_->late.worst();
    figures.real_time = state_->real_time;
    return figures;
}

void LiveService::restart_lateness() {
    Histogram fresh;
    const std::lock_guard lock(state_->mutex);
    std::swap(state_->late, fresh);
}

bool LiveService::ended() const {
    const std::lock_guard lock(state_->mutex);
    return std::all_of(state_->feeds.begin(), state_->feeds.end(), [](const auto& f) { return f->status.ended; });
}

}  // namespace wavecrest::stream
