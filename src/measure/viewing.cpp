#include "measure/viewing.hpp"

#include <algorithm>
#include <utility>

namespace wavecrest::measure {
namespace {

const Time kGone = base::from_seconds(30);
const Time kJump = base::from_seconds(3);   // what is fetched so far from what is there is another place
const Time kProbe = base::from_seconds(1);  // less than that is a look at the file, no playing
const Time kNearEmpty = base::from_seconds(0.3);
const Time kSeen = base::from_seconds(0.1);  // shorter stalls nobody sees
// Players keep about so much of a live stream, whatever they keep of a film.
const Time kLiveBuffer = base::from_seconds(1);
const Time kForEver = base::from_seconds(1e6);

PlayerSettings live_player() {
    PlayerSettings settings;
    settings.start_buffer = settings.resume_buffer = kLiveBuffer;
    settings.buffer = kForEver;
    return settings;
}

}  // namespace

Time Viewing::stalled() const {
    Time sum{};
    for (const Stall& one : stalls) sum += one.length;
    return sum;
}

Viewing::End Viewing::end() const {
    if (!ended) return End::playing;
    if (!startup || arrived < kProbe) return End::left_at_once;
    if (live) return End::left;
    // The last second needn't be waited for.
    return position + kProbe * 2 >= duration ? End::complete : End::left;
}

void ViewingWatch::begin_leg(Time now, One& one, Time from) {
    one.model.emplace([&] {
        PlayerSettings settings = one.settings;
        settings.duration = one.viewing.live ? kForEver : std::max(one.viewing.duration - from, Time{});
        return settings;
    }());
    one.leg_from = from;
    one.leg_began = now;
    one.held = {};
    one.counted = one.viewing.stalls.size();
}

// What the model has seen of this leg, into the viewing.
void ViewingWatch::take_over(Time now, One& one) {
    Viewing& viewing = one.viewing;
    const Time since = one.leg_began - viewing.began;
    viewing.stalls.resize(one.counted);
    const Time clock = now - one.leg_began - one.held;
    for (const Stall& stall : one.model->stalls()) {
        // The last may go on.
        const Time length = stall.length.count() > 0 ? stall.length : clock - stall.clock;
        if (length >= kSeen) viewing.stalls.push_back({one.leg_from + stall.at, length, since + stall.clock});
    }
    if (!viewing.startup && one.model->startup()) viewing.startup = since + *one.model->startup();
    viewing.position = one.leg_from + one.model->position();
}

void ViewingWatch::close_leg(Time now, One& one) {
    if (!one.model) return;
    one.model->arrived(now - one.leg_began - one.held, Time{});
    take_over(now, one);
}

void ViewingWatch::see_live(Time now, One& one, const ViewerSight& sight) {
    Viewing& viewing = one.viewing;
    if (!one.model) {
        one.joined = one.live_from = sight.from;
        begin_leg(now, one, Time{});
    } else if (std::exchange(one.live_from, sight.from) != sight.from) {
        close_leg(now, one);
        begin_leg(now, one, std::max(sight.from - one.joined, viewing.position));
    }
    viewing.skips = sight.skips;
    viewing.arrived = std::max(viewing.arrived, sight.until - one.joined);
    viewing.most_lag = std::max(viewing.most_lag, sight.lag);
    viewing.last = now;
}

void ViewingWatch::see(Time now, One& one, const ViewerSight& sight) {
    if (sight.live != 0) return see_live(now, one, sight);
    Viewing& viewing = one.viewing;
    if (!one.model) begin_leg(now, one, sight.from);
    const Time there = viewing.arrived;
    const bool elsewhere = sight.from > there + kJump || sight.until + kJump < one.leg_from;
    if (elsewhere && sight.until - sight.from >= kProbe) {
        const bool had_started = one.model->started();
        close_leg(now, one);
        if (had_started) ++viewing.seeks;
        begin_leg(now, one, sight.from);
        viewing.arrived = sight.until;
    } else if (!elsewhere) {
        viewing.arrived = std::max(there, sight.until);
    }
    // (Where the last piece ends isn't known to the moment.)
    if (viewing.arrived >= viewing.duration - kNearEmpty) viewing.arrived = viewing.duration;
    if (sight.is_active) viewing.last = now;
}

void ViewingWatch::look(Time now, const std::vector<ViewerSight>& sights) {
    std::map<std::string, bool> wants;
    for (const ViewerSight& sight : sights) {
        const std::string key = sight.address + "\n" + sight.agent + "\n" + sight.stream + (sight.hls ? "\nhls" : "") +
                                (sight.live != 0 ? "\n" + std::to_string(sight.live) : "");
        auto found = ones_.find(key);
        if (found == ones_.end()) {
            if (ones_.size() >= kMostAtOnce) continue;
            One one;
            one.viewing.address = sight.address;
            one.viewing.agent = sight.agent;
            one.viewing.stream = sight.stream;
            one.viewing.hls = sight.hls;
            one.viewing.duration = sight.duration;
            one.viewing.began = one.looked = now;
            one.viewing.live = sight.live != 0;
            one.viewing.id = sight.live;
            one.settings = one.viewing.live ? live_player() : settings_of_(sight.agent, sight.hls);
            found = ones_.emplace(key, std::move(one)).first;
        }
        see(now, found->second, sight);
        wants[key] = wants[key] || sight.wants;
    }
    for (auto at = ones_.begin(); at != ones_.end();) {
        One& one = at->second;
        Viewing& viewing = one.viewing;
        if (one.model) {
            const bool wanted = wants[at->first];
            const Time level = viewing.arrived - one.leg_from - one.model->position();
            const bool all_there = !viewing.live && viewing.arrived >= viewing.duration - kNearEmpty;
            if (!wanted && !viewing.live && one.model->playing())
                viewing.held_back = viewing.held_back || level > kProbe;
            // Who has nothing left and asks for nothing isn't short of anything: it was paused, with more in its buffer
            // than is known here, or has been left. When it asks again, it plays on.
            if (wanted && std::exchange(one.rests, false)) {
                close_leg(now, one);
                begin_leg(now, one, viewing.position);
            } else if (!wanted && !all_there && level <= kNearEmpty && one.model->started()) {
                one.held += now - one.looked;
                one.rests = true;
            }
            one.model->arrived(now - one.leg_began - one.held, viewing.arrived - one.leg_from);
            viewing.most_buffered =
                std::max(viewing.most_buffered, viewing.arrived - one.leg_from - one.model->position());
            take_over(now, one);
            if (viewing.last == now) one.plays_until = now + std::max(viewing.arrived - viewing.position, Time{});
        }
        one.looked = now;
        // Playing goes on while nothing is fetched any more.
        if (viewing.live ? now > viewing.last : now > std::max(viewing.last, one.plays_until) + kGone) {
            viewing.ended = true;
            gone_.push_back(std::move(viewing));
            untold_ = std::min(untold_ + 1, kMostKept);
            if (gone_.size() > kMostKept) gone_.erase(gone_.begin());
            at = ones_.erase(at);
        } else {
            ++at;
        }
    }
}

std::vector<Viewing> ViewingWatch::take_gone() {
    return {gone_.end() - static_cast<std::ptrdiff_t>(std::exchange(untold_, 0)), gone_.end()};
}

std::vector<Viewing> ViewingWatch::viewings() const {
    std::vector<Viewing> all = gone_;
    for (const auto& [key, one] : ones_) all.push_back(one.viewing);
    return all;
}

}  // namespace wavecrest::measure
