#include "stream/outlets.hpp"

#include <chrono>

#include "stream/rtmp_wire.hpp"

namespace wavecrest::stream {

namespace {

constexpr std::chrono::milliseconds kLongestFill{20};
// Messages leave so long before they are decoded, as transport packets do (container/ts_mux.hpp).
constexpr std::chrono::milliseconds kLead{700};
// Segments alone have no decoder at the other end of the wire whose buffers a schedule fills; what waits for the mux is
// beyond the reach of orders.
constexpr Time kLeadOfSegments = std::chrono::milliseconds(150);
// What connected clients are given at a time, of one stream.
constexpr std::chrono::milliseconds kBlockTime{20};
constexpr std::size_t kBlockBytes = 64 << 10;
constexpr std::chrono::milliseconds kHandOver{50};

container::MuxSettings mux_settings(const LiveChannel& channel) {
    container::MuxSettings mux;
    mux.title = channel.ready.item.name;
    mux.rate_bps = channel.ready.item.rate_bps;
    if (channel.hls && channel.is_whole() && !channel.http && !channel.datagrams()) mux.lead = kLeadOfSegments;
    return mux;
}

}  // namespace

Outlets::Outlets(LiveChannel& channel, std::vector<Track> tracks, Push push)
    : channel_(channel),
      tracks_(std::move(tracks)),
      push_(std::move(push)),
      mux_(tracks_, mux_settings(channel), [this](const container::MuxedPacket& packet) { return take(packet); }) {
    for (const Track& track : tracks_) {
        if (const std::string why = why_not_rtmp(track); why.empty() && !has(track.kind)) rtmp_tracks_.push_back(track);
    }
    if (channel.rtmp) channel.rtmp->set_preface(rtmp_preface(rtmp_tracks_));
}

bool Outlets::has(TrackKind kind) const {
    return std::any_of(rtmp_tracks_.begin(), rtmp_tracks_.end(), [&](const Track& t) { return t.kind == kind; });
}

Status Outlets::write(const Packet& packet) {
    if (channel_.rtmp) WAVECREST_TRY(take_message(packet));
    if (channel_.transport()) return mux_.write(packet);
    return {};
}

Status Outlets::finish() {
    if (channel_.transport()) WAVECREST_TRY(mux_.finish());
    if (!next_.bytes.empty()) give_datagram();
    give_transport();
    give_rtmp();
    return hand_over() ? Status{} : base::interrupted();
}

Status Outlets::take(const container::MuxedPacket& packet) {
    if (channel_.datagrams()) {
        if (!next_.bytes.empty() && packet.due - next_.due > Time(kLongestFill)) give_datagram();
        if (next_.bytes.empty()) {
            next_.due = packet.due;
            next_.bytes.resize(net::kRtpHeaderBytes);
        }
        next_.bytes.insert(next_.bytes.end(), packet.bytes.begin(), packet.bytes.end());
        if (next_.bytes.size() >= net::kRtpHeaderBytes + kDatagramPackets) give_datagram();
    }
    if (channel_.http || channel_.hls) {
        if (!block_.empty() && (packet.group_start || packet.due - block_due_ > Time(kBlockTime) ||
                                block_.size() + packet.bytes.size() > kBlockBytes))
            give_transport();
        if (block_.empty()) {
            block_due_ = packet.due;
            block_start_ = packet.group_start;
            block_group_ = packet.group_time;
        }
        block_.insert(block_.end(), packet.bytes.begin(), packet.bytes.end());
    }
    return tick(packet.due);
}

Status Outlets::take_message(const Packet& packet) {
    const auto track =
        std::find_if(rtmp_tracks_.begin(), rtmp_tracks_.end(), [&](const Track& t) { return t.id == packet.track; });
    if (track == rtmp_tracks_.end()) return {};
    const bool start = has(TrackKind::video) ? track->kind == TrackKind::video && packet.key : true;
    if (!messages_.empty() &&
        ((start && track->kind == TrackKind::video) || packet.dts - Time(kLead) - messages_due_ > Time(kBlockTime)))
        give_rtmp();
    if (messages_.empty()) {
        messages_due_ = packet.dts - Time(kLead);
        messages_start_ = start;
    }
    append_rtmp(messages_, *track, packet);
    return channel_.transport() ? Status{} : tick(packet.dts - Time(kLead));
}

Status Outlets::tick(Time due) {
    last_due_ = std::max(last_due_, due);
    if (!handed_) handed_ = due;
    if (due - *handed_ < Time(kHandOver)) return {};
    return hand_over() ? Status{} : base::interrupted();
}

void Outlets::give_datagram() {
    if (ready_.size() == filled_) ready_.emplace_back();
    ready_[filled_].due = next_.due;
    ready_[filled_].bytes.swap(next_.bytes);
    next_.bytes.clear();
    ++filled_;
}

void Outlets::give_transport() {
    if (block_.empty()) return;
    blocks_.push_back(
        {Pending::Delivery::transport, block_due_, block_group_, {Bytes(std::move(block_)), block_due_, block_start_}});
    block_ = {};
}

void Outlets::give_rtmp() {
    if (messages_.empty()) return;
    blocks_.push_back({Pending::Delivery::rtmp,
                       messages_due_,
                       messages_due_,
                       {Bytes(std::move(messages_)), messages_due_, messages_start_}});
    messages_ = {};
}

bool Outlets::hand_over() {
    handed_ = last_due_;
    const bool goes_on = push_(ready_, filled_, blocks_, last_due_);
    for (std::size_t i = 0; i < filled_; ++i) ready_[i].bytes.clear();
    filled_ = 0;
    blocks_.clear();
    return goes_on;
}

}  // namespace wavecrest::stream
