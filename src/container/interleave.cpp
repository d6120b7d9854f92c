#include "container/interleave.hpp"

#include <algorithm>
#include <chrono>

namespace wavecrest::container {
namespace {

// A track that has ended, or is far behind in the file, is waited for no longer than this.
constexpr std::size_t kMostBytes = 24 << 20;
constexpr std::chrono::seconds kLongestWait{10};

}  // namespace

Interleaver::Interleaver(PacketSink& sink, const std::vector<Track>& tracks, Time run) : sink_(sink), run_(run) {
    for (const Track& track : tracks) track_states_[track.id].awaited = track.kind != TrackKind::subtitle;
}

Status Interleaver::write(Packet packet) {
    const auto track_state = track_states_.find(packet.track);
    if (track_state == track_states_.end()) return {};
    bytes_ += packet.data.size();
    track_state->second.waiting.push_back(std::move(packet));
    return pass(false);
}

Status Interleaver::end(TrackId track) {
    if (const auto found = track_states_.find(track); found != track_states_.end()) found->second.awaited = false;
    return pass(false);
}

Status Interleaver::drain() {
    return pass(true);
}

Status Interleaver::pass(bool all) {
    while (true) {
        TrackState* first = nullptr;
        Time newest = Time::min();
        for (auto& [id, track_state] : track_states_) {
            if (track_state.waiting.empty()) continue;
            newest = std::max(newest, track_state.waiting.back().dts);
            if (first == nullptr || track_state.waiting.front().dts < first->waiting.front().dts) first = &track_state;
        }
        if (first == nullptr) return {};
        const Time from = first->waiting.front().dts;
        const bool pressed = all || bytes_ > kMostBytes || newest - from > kLongestWait + run_;
        if (!pressed) {
            for (const auto& [id, track_state] : track_states_) {
                if (track_state.awaited &&
                    (track_state.waiting.empty() || track_state.waiting.back().dts < from + run_))
                    return {};
            }
        }
        do {
            bytes_ -= first->waiting.front().data.size();
            WAVECREST_TRY(sink_.write(first->waiting.front()));
            first->waiting.pop_front();
        } while (!first->waiting.empty() && first->waiting.front().dts < from + run_);
    }
}

}  // namespace wavecrest::container
