#include "stream/live_channel.hpp"

namespace wavecrest::stream {
namespace {

// In target durations. Of who joins: how far the list reaches beyond what is listed anyhow. The more, the less its
// player is behind; but it has then shown three less what this is and a segment more when the next is listed, and is to
// have half a one left, since fetching takes time.
constexpr double kLeastReach = 0.65, kMostReach = 1.15;
constexpr Time kJustListed = std::chrono::milliseconds(200);
// How long ago the newest segment was to be listed, at most, when somebody asks for it.
constexpr double kLatePoll = 0.4;
// What lies ready before the list goes on after a pause.
constexpr double kReadyAfterPause = 1.4;
// How much longer than promised the segment before a seek may be, with what follows it: it is listed that much earlier.
constexpr Time kLonger = std::chrono::milliseconds(600);
// Target durations: of shorter ones nobody is far behind, and who is by longer ones stays so.
constexpr Time kHelped = std::chrono::seconds(2), kTooLong = std::chrono::seconds(6);

Time times(double factor, Time time) {
    return base::from_seconds(factor * base::to_seconds(time));
}

}  // namespace

void LiveChannel::list_to(Time least, Time most, Time read) {
    if (segments_until >= least) return;
    for (const Pending& one : pending[static_cast<int>(Pending::Delivery::transport)]) {
        if (one.in_segment || !one.block.start || listed_by(one) < least) continue;
        if (listed_by(one) <= most) segments_until = listed_by(one);
        return;
    }
    reach = {least, read};
    may_go_on.notify_all();
}

bool LiveChannel::helps(Time target) const {
    return reaches_ahead() && target >= kHelped && target <= kTooLong;
}

bool LiveChannel::listed_for_poll(std::chrono::steady_clock::time_point at) {
    const Time target = hls->target();
    if (paused || done || status.ended || list_waits || !begun || !helps(target)) return true;
    const Time listed = now(at) + Time(limits().segments);
    if (listed - listed_until < times(kLatePoll, target)) return true;
    list_to(listed, listed_until + target + kLonger, listed_until + target);
    return false;
}

bool LiveChannel::listed_for_join(std::chrono::steady_clock::time_point at) {
    if (paused || done || status.ended || status.state == LiveStatus::State::waiting) return true;
    const Time target = hls->target();
    if (!helps(target)) {
        // Just behind a segment's end its player is least behind.
        return hls->has_begun() && (!is_whole() || target > kHelped || at - listed_at < kJustListed);
    }
    if (!begun) return false;
    const Time listed = now(at) + Time(limits().segments), least = listed + times(kLeastReach, target);
    if (listed_until >= least) return hls->has_begun();
    const Time most = listed + times(kMostReach, target);
    list_to(least, most, most);
    return false;
}

std::optional<Time> LiveChannel::segments_now(std::chrono::steady_clock::time_point at) {
    if (!hls) return std::nullopt;
    if (list_waits) list_waits = !list_after_pause(at);
    if (list_waits) return std::nullopt;
    const Time listed = now(at) + Time(limits().segments);
    if (reaches_ahead() && listed_until > Time{} && listed - listed_until > hls->target())
        list_to(listed, listed + kLonger, listed + kLonger);
    return std::max(listed, segments_until);
}

bool LiveChannel::list_after_pause(std::chrono::steady_clock::time_point at) {
    const Time target = hls->target();
    const Time listed = now(at) + Time(limits().segments), beyond = listed - listed_until;
    if (beyond < times(reaches_ahead() ? kReadyAfterPause : 1 + kReadyAfterPause, target)) return false;
    // (Where no segment begins for so long, it isn't waited for.)
    if (!reaches_ahead() || beyond > target * 3) return true;
    list_to(listed, listed + target, listed + target);
    return segments_until >= listed;
}

}  // namespace wavecrest::stream
