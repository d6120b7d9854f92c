// One live stream at work, and its clock. The service (live.cpp) has one thread that sends datagrams of all channels,
// one that gives blocks to connected clients, and one a channel that makes both.
#pragma once

#include <algorithm>
#include <chrono>
#include <deque>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <thread>

#include "base/cancel.hpp"
#include "base/log.hpp"
#include "base/mutex.hpp"
#include "stream/live.hpp"
#include "stream/live_queue.hpp"

namespace wavecrest::stream {

// Multiplexed ahead of sending. A reader that has got `most` ahead rests until no more than `least` is left: it works
// in few long pieces, not whenever a datagram leaves. HLS is given what is due within `segments`.
struct Ahead {
    std::chrono::milliseconds most, least, segments;
};
inline constexpr Ahead kAhead{std::chrono::milliseconds(1500), std::chrono::milliseconds(750),
                              std::chrono::milliseconds(700)};
// HLS of what lies here whole: players keep three segments back, so each is listed when it is made rather than when it
// has been shown, and they are that much less behind.
inline constexpr Ahead kAheadForSegments{std::chrono::milliseconds(2600), std::chrono::milliseconds(2350),
                                         std::chrono::milliseconds(2300)};
// A source that is later than this moves the stream's clock: receivers see a gap, not a rush.
inline constexpr std::chrono::milliseconds kStall{250};

struct LiveChannel {
    ReadyLive ready;
    std::unique_ptr<Playout> playout;
    std::thread producer;
    Cancel cancel;
    std::shared_ptr<net::Broadcast> http, rtmp;
    std::shared_ptr<LiveHls> hls;
    std::shared_ptr<LiveLadder> ladder;
    // Under the service's mutex:
    DatagramQueue queue;                              // for datagrams
    std::deque<Pending> pending[kPendingDeliveries];  // for the others, by delivery
    int waiting = 0;                                  // producers, for their turn
    bool done = false;                                // nothing more comes
    bool paused = false, stopped = false;
    std::string error;
    std::optional<Time> first_due;
    Time last_due{};
    std::map<std::size_t, Time> outputs_due;  // of a ladder's graph: the last of each output
    bool begun = false;
    std::chrono::steady_clock::time_point zero;  // when time 0 of the stream's timeline is sent
    std::chrono::steady_clock::time_point paused_at, still_there, nulls_at;
    std::optional<std::uint64_t> pause_behind;  // paused again when the seek behind this many is shown
    // Beyond what limits() says it is read until a segment begins at or after `least`, but not beyond `most` (by
    // sending). Not a moment longer: orders act where reading has come to.
    struct Reach {
        Time least{}, most{};
    } reach;
    // (As listed_by() counts.) Beyond what limits() says HLS is given it until then; the end of the newest segment.
    Time segments_until{}, listed_until{};
    std::chrono::steady_clock::time_point listed_at;  // when that was
    // After a pause, in which players have shown all that was listed, the list stands until enough follows at once that
    // they don't run dry again.
    bool list_waits = false;
    LiveStatus status;
    base::LendingCondition may_go_on;
    // The sender's:
    std::uint16_t sequence = 0;
    std::uint32_t source = 0;

    // What it plays lies here whole.
    bool is_whole() const {
        const auto& parts = ready.playout.parts;
        return !parts.empty() &&
               std::none_of(parts.begin(), parts.end(), [](const ReadyPart& part) { return part.live; });
    }
    const Ahead& limits() const { return hls && is_whole() ? kAheadForSegments : kAhead; }
    // Reads and lists ahead at once.
    bool reaches_ahead() const { return ready.item.hls && is_whole() && !ready.item.transcode; }
    // Until when segments of HLS are made now; nothing while the list stands.
    std::optional<Time> segments_now(std::chrono::steady_clock::time_point at);
    // What counts for it. When a keyframe is sent differs by the better part of a second, by how much comes with it;
    // where it can be read ahead it is listed by when it is shown, so that segments come evenly.
    Time listed_by(const Pending& one) const { return one.block.start && reaches_ahead() ? one.group : one.due; }
    bool is_reaching() const { return last_due < reach.most; }
    void note_read(const Pending& one) {
        if (one.block.start && listed_by(one) >= reach.least) reach = {};
    }
    // Somebody joins by HLS, or asks again: see LiveService::listed_for_join() and listed_for_poll().
    bool listed_for_join(std::chrono::steady_clock::time_point at);
    bool listed_for_poll(std::chrono::steady_clock::time_point at);

    // What is due first begins the clock; of several outputs it need not come first.
    void note_first(Time due) {
        if (!begun) first_due = std::min(first_due.value_or(due), due);
    }
    // What comes of every output lies ready until then: encoders look ahead, and audio is there long before.
    Time ready_until() const {
        if (!ladder) return last_due;
        const std::size_t outputs = ready.item.transcode->outputs.size();
        if (outputs_due.size() < outputs) return *first_due;
        Time least = Time::max();
        for (const auto& [output, due] : outputs_due) least = std::min(least, due);
        return least;
    }
    bool datagrams() const { return !ready.item.targets.empty(); }
    bool transport() const { return datagrams() || http || hls; }
    Time now(std::chrono::steady_clock::time_point at) const {
        return std::chrono::duration_cast<Time>((paused ? paused_at : at) - zero);
    }
    Time ahead(std::chrono::steady_clock::time_point at) const { return ahead(at, last_due); }
    // The same of what is due until then.
    Time ahead(std::chrono::steady_clock::time_point at, Time until) const {
        if (!first_due) return {};
        return begun ? until - now(at) : until - *first_due;
    }
    // Waits until enough lies ready, so that a slow start is no stall.
    bool begin(std::chrono::steady_clock::time_point at) {
        if (begun || !first_due || paused) return begun;
        if (ready_until() - *first_due < Time(kAhead.least) && !done) return false;
        begun = true;
        zero = at - std::chrono::duration_cast<std::chrono::steady_clock::duration>(*first_due);
        status.state = LiveStatus::State::playing;
        base::log(base::LogLevel::info, "stream {} plays", ready.item.name);
        return true;
    }
    void stand(bool still, std::chrono::steady_clock::time_point at) {
        if (still == paused) return;
        if (still) {
            paused_at = still_there = at;
        } else {
            zero += at - paused_at;
            list_waits = hls && is_whole();
        }
        paused = still;
        if (hls) hls->pause(still);
        if (ladder) ladder->pause(still);
    }
    // What is so late is taken as a pause of the source.
    void move_clock(Time due, std::chrono::steady_clock::time_point at) {
        const auto late = at - (zero + std::chrono::duration_cast<std::chrono::steady_clock::duration>(due));
        if (late <= kStall) return;
        ++status.stalls;
        zero += late;
        base::log(base::LogLevel::warning, "stream {}: the source is too slow: {} ms late", ready.item.name,
                  std::chrono::duration_cast<std::chrono::milliseconds>(late).count());
    }

  private:
    // Whether HLS may be given more after a pause: a target duration and a bit at once and, of what can be read so
    // soon, the next segment, too. Players then have the one after that before they have shown these.
    bool list_after_pause(std::chrono::steady_clock::time_point at);
    // Gives HLS what lies ready up to the first beginning of a segment within this time. Where there is none it is
    // read on to, until `read`.
    void list_to(Time least, Time most, Time read);
    // It reads ahead, and its segments are of a length with which that helps.
    bool helps(Time target) const;
};

}  // namespace wavecrest::stream
