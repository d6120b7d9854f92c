#include "stream/ladder_outlet.hpp"

#include <chrono>

namespace wavecrest::stream {
namespace {

constexpr std::chrono::milliseconds kHandOver{50};

}  // namespace

Result<std::unique_ptr<PacketSink>> LadderOutlet::create(LiveChannel& channel, std::size_t number, const Track& track,
                                                         Time segment, Outlets::Push push) {
    std::unique_ptr<LadderOutlet> made(new LadderOutlet(channel, number, std::move(push)));
    LadderOutlet* const self = made.get();
    container::CmafTrack::Ends ends;
    ends.header = [self, track](ByteVector header) -> Status {
        self->channel_.ladder->set_header(self->number_, track, std::move(header));
        return {};
    };
    ends.segment = [self](container::CmafSegment one) -> Status {
        Pending pending;
        pending.delivery = Pending::Delivery::ladder;
        pending.due = pending.group = one.from;
        pending.length = one.duration;
        pending.track = self->number_;
        pending.block = {Bytes(std::move(one.bytes)), one.from, true};
        self->blocks_.push_back(std::move(pending));
        return {};
    };
    WAVECREST_TRY_ASSIGN(segments, container::CmafTrack::create(track, segment, std::move(ends)));
    made->segments_ = std::move(segments);
    return std::unique_ptr<PacketSink>(std::move(made));
}

Status LadderOutlet::write(const Packet& packet) {
    WAVECREST_TRY(segments_->write(packet));
    last_due_ = std::max(last_due_, packet.dts);
    if (!handed_) handed_ = packet.dts;
    if (packet.dts - *handed_ < Time(kHandOver) && blocks_.empty()) return {};
    return hand_over();
}

Status LadderOutlet::finish() {
    WAVECREST_TRY(segments_->finish());
    return hand_over();
}

Status LadderOutlet::hand_over() {
    handed_ = last_due_;
    const bool goes_on = push_(none_, 0, blocks_, last_due_);
    blocks_.clear();
    return goes_on ? Status{} : base::interrupted();
}

}  // namespace wavecrest::stream
