#include <algorithm>
#include <catch2/catch.hpp>
#include <cmath>

#include "container/media_playlist.hpp"
#include "stream/live_channel.hpp"

using namespace wavecrest;
using namespace std::chrono_literals;

namespace {

constexpr auto kStep = 20ms;
constexpr Time kLead = std::chrono::milliseconds(150);  // the mux has so much that was read and not sent

// A channel of a file with a keyframe every so often, its reader and its publisher, on a clock of the test's own; and
// one player, which begins three target durations before the list's end and asks for the list every target duration,
// as RFC 8216, 6.3.3 and 6.3.4, have it. The answer is held while it has nothing new. It goes on after it ran dry when
// it has half a second.
class Broadcast {
  public:
    explicit Broadcast(Time keyframes) : keyframes_(keyframes) {
        channel_.ready.item.name = "film";
        channel_.ready.item.hls = true;
        channel_.ready.playout.parts.resize(1);
        stream::LiveHlsSettings settings;
        settings.reaches_ahead = channel_.reaches_ahead();
        channel_.hls = std::make_shared<stream::LiveHls>(settings);
        channel_.first_due = Time{};
        channel_.begun = true;
        channel_.zero = at_;
    }
    void pass(std::chrono::milliseconds time) {
        for (auto end = at_ + time; at_ < end;) {
            at_ += kStep;
            read();
            if (!channel_.paused) publish();
            play();
        }
    }
    // How long the answer was held back.
    std::chrono::milliseconds join() {
        std::chrono::milliseconds held{};
        for (; !channel_.listed_for_join(at_) && held < 1500ms; held += kStep) pass(kStep);
        const auto list = container::parse_playlist(*channel_.hls->playlist("x"), "x");
        const Time from = channel_.listed_until - std::chrono::seconds(3 * list->target_s);
        position_ = std::max(from, channel_.listed_until - list->duration());
        known_ = channel_.listed_until;
        target_ = std::chrono::seconds(list->target_s);
        asks_ = at_ + target_;
        return held;
    }
    void pause(bool still) { channel_.stand(still, at_); }
    // What is read from now on begins with a keyframe.
    void seek() {
        for (first_key_ = next_; first_key_ < channel_.last_due + kLead;) first_key_ += kStep;
    }
    // Until an order given now is seen, where the player doesn't run dry on the way.
    double until_seek() const { return base::to_seconds(channel_.last_due + kLead - *position_); }
    double until_pause() const { return base::to_seconds(channel_.listed_until - *position_); }
    double reach() const {
        return base::to_seconds(channel_.listed_until - channel_.now(at_) - Time(stream::kAheadForSegments.segments));
    }
    double dry() const { return dry_; }  // seconds that the player stood still so far
    bool has_playlist() const { return channel_.hls->has_begun(); }

  private:
    Time due() const {
        return next_ - base::from_seconds(base::to_seconds(kLead) * (1 + std::sin(base::to_seconds(next_) / 3)) / 2);
    }
    void read() {
        const Time most = channel_.now(at_) + Time(stream::kAheadForSegments.most);
        // Pictures are sent up to kLead before they are decoded, as late as their size allows.
        for (; due() <= most || channel_.is_reaching(); next_ += kStep) {
            const bool key = (next_ - first_key_) % keyframes_ == Time{};
            channel_.last_due = std::max(channel_.last_due, due());
            channel_.pending[0].push_back(
                {stream::Pending::Delivery::transport, due(), next_, {Bytes(ByteVector(188)), due(), key}});
            channel_.note_read(channel_.pending[0].back());
        }
    }
    void publish() {
        auto& pending = channel_.pending[0];
        const auto until = channel_.segments_now(at_);
        for (auto& one : pending) {
            if (!until || channel_.listed_by(one) > *until) break;
            if (std::exchange(one.in_segment, true)) continue;
            if (channel_.hls->push(one.block.bytes.view(), one.block.start, one.group))
                channel_.listed_until = channel_.listed_by(one), channel_.listed_at = at_;
        }
        while (!pending.empty() && pending.front().in_segment) pending.pop_front();
    }
    void play() {
        if (!position_) return;
        if (at_ >= asks_ && (channel_.listed_until != known_ && channel_.listed_for_poll(at_))) {
            known_ = channel_.listed_until;
            asks_ = at_ + target_;
        }
        if (playing_ && *position_ + Time(kStep) > known_) playing_ = false;
        if (!playing_ && known_ - *position_ >= Time(500ms)) playing_ = true;
        if (playing_) {
            *position_ += kStep;
        } else {
            dry_ += base::to_seconds(kStep);
        }
    }

    const Time keyframes_;
    Time first_key_{}, next_{}, known_{};
    std::chrono::seconds target_{};
    std::chrono::steady_clock::time_point asks_;
    stream::LiveChannel channel_;
    std::chrono::steady_clock::time_point at_{1h};
    std::optional<Time> position_;
    bool playing_ = true;
    double dry_ = 0;
};

}  // namespace

TEST_CASE("who joins by HLS is given a list that reaches ahead, and sees orders within six seconds", "[live]") {
    // Whenever somebody joins.
    for (int i = 0; i < 42; ++i) {
        INFO(i);
        Broadcast live(2s);
        live.pass(10s + i * 100ms);
        const auto held = live.join();
        CHECK(held <= 1060ms);
        // Not so far that the next segment comes too late.
        CHECK(live.reach() >= 1.28);
        CHECK(live.reach() <= 2.32);
        live.pass(5s);
        for (int k = 0; k < 40; ++k) {
            live.pass(100ms);
            CHECK(live.until_seek() > 3.8);
            CHECK(live.until_seek() < 5.4);
            CHECK(live.until_pause() < 5.4);
        }
        live.pass(60s);
        CHECK(live.dry() == 0);
    }
}

TEST_CASE("a player of HLS hears of each segment soon, though it asks less often than they come", "[live]") {
    for (const auto keyframes : {1600ms, 1920ms, 2000ms, 2080ms}) {
        INFO(keyframes.count());
        for (int i = 0; i < 10; ++i) {
            Broadcast live(keyframes);
            live.pass(10s + i * 200ms);
            live.join();
            // A picture is shown half a second after the player joined, at the soonest.
            live.pass(500ms);
            for (int k = 0; k < 3000; ++k) {
                live.pass(100ms);
                CHECK(live.until_seek() < 5.95);
            }
            CHECK(live.dry() == 0);
        }
    }
}

TEST_CASE("live HLS has a list for its first viewer two seconds after it begins", "[live]") {
    Broadcast live(2s);
    live.pass(500ms);
    CHECK_FALSE(live.has_playlist());
    CHECK(live.join() < 1500ms);
    CHECK(live.has_playlist());
    live.pass(60s);
    CHECK(live.dry() == 0);
    // Keyframes a second apart, and those that are too far apart, change nothing.
    for (const auto keyframes : {1000ms, 10'000ms}) {
        Broadcast other(keyframes);
        other.pass(42s);
        // (A segment's end is waited for where that isn't long.)
        CHECK(other.join() <= (keyframes > 2s ? 0ms : 1s));
        other.pass(20s);
        CHECK(other.reach() < 0.02);
        CHECK(other.dry() == 0);
    }
}

TEST_CASE("after a pause HLS players go on within three seconds and don't run dry again", "[live]") {
    for (const auto length : {1s, 3s, 7s, 30s}) {
        for (int i = 0; i < 21; ++i) {
            INFO(length.count() << " " << i);
            Broadcast live(2s);
            live.pass(10s + i * 100ms);
            live.join();
            for (int again = 0; again < 3; ++again) {
                live.pass(15s);
                live.pause(true);
                live.pass(length);
                live.pause(false);
                const double before = live.dry();
                live.pass(3s);
                const double after = live.dry();
                CHECK(after - before < 2.9);
                for (int k = 0; k < 5; ++k) {
                    live.pass(4s + k * 300ms);
                    CHECK(live.until_seek() < 6.3);
                    live.seek();
                }
                CHECK(live.dry() == after);
            }
        }
    }
}
