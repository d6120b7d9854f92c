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
    for (const Track& track : tracks) lanes_[track.id].awaited = track.kind != TrackKind::subtitle;
}

Status Interleaver::write(Packet packet) {
    const auto lane = lanes_.find(packet.track);
    if (lane == lanes_.end()) return {};
    bytes_ += packet.data.size();
    lane->second.waiting.push_back(std::move(packet));
    return pass(false);
}

Status Interleaver::drain() {
    return pass(true);
}

Status Interleaver::pass(bool all) {
    while (true) {
        Lane* first = nullptr;
        Time newest = Time::min();
        for (auto& [id, lane] : lanes_) {
            if (lane.waiting.empty()) continue;
            newest = std::max(newest, lane.waiting.back().dts);
            if (first == nullptr || lane.waiting.front().dts < first->waiting.front().dts) first = &lane;
        }
        if (first == nullptr) return {};
        const Time from = first->waiting.front().dts;
        const bool pressed = all || bytes_ > kMostBytes || newest - from > kLongestWait + run_;
        if (!pressed) {
            for (const auto& [id, lane] : lanes_) {
                if (lane.awaited && (lane.waiting.empty() || lane.waiting.back().dts < from + run_)) return {};
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
