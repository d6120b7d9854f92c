#include "source/cut.hpp"

#include <algorithm>
#include <map>

namespace wavecrest::source {
namespace {

class CutSource : public PacketSource {
  public:
    CutSource(std::unique_ptr<PacketSource> source, Time from, Time to)
        : source_(std::move(source)), from_(from), to_(to.count() > 0 ? to : source_->duration()) {
        tracks_ = source_->tracks();
        for (Track& track : tracks_) {
            track.duration = to_ - from_;
            kinds_[track.id] = track.kind;
        }
        for (Chapter chapter : source_->chapters()) {
            if (chapter.start < from_ || chapter.start >= to_) continue;
            chapter.start -= from_;
            chapters_.push_back(std::move(chapter));
        }
    }

    const std::vector<Track>& tracks() const override { return tracks_; }
    const std::vector<Chapter>& chapters() const override { return chapters_; }
    Time duration() const override { return to_ - from_; }
    const std::vector<Problem>& problems() const override {
        problems_.clear();
        for (Problem problem : source_->problems()) {
            if (problem.to < from_ || problem.from > to_) continue;
            problem.from = std::max(problem.from, from_) - from_;
            problem.to = std::min(problem.to, to_) - from_;
            problems_.push_back(std::move(problem));
        }
        return problems_;
    }

    Result<std::optional<Packet>> read() override {
        while (true) {
            WAVECREST_TRY_ASSIGN(packet, source_->read());
            if (!packet) return packet;
            const bool video = kinds_[packet->track] == TrackKind::video;
            if (video && packet->dts >= to_) return std::optional<Packet>{};
            if (packet->pts >= to_) continue;
            // AudioFrames begins at the cut; pictures before it are needed to decode those after.
            if (!video && packet->pts + packet->duration <= from_ && packet->pts < from_) continue;
            packet->pts -= from_;
            packet->dts -= from_;
            return packet;
        }
    }
    Status seek(Time time) override { return source_->seek(time + from_); }

  private:
    std::unique_ptr<PacketSource> source_;
    Time from_, to_;
    std::vector<Track> tracks_;
    std::vector<Chapter> chapters_;
    std::map<TrackId, TrackKind> kinds_;
    mutable std::vector<Problem> problems_;
};

}  // namespace

Result<std::unique_ptr<PacketSource>> cut(std::unique_ptr<PacketSource> source, Time from, Time to) {
    if (from.count() > 0) WAVECREST_TRY(source->seek(from));
    return std::unique_ptr<PacketSource>(std::make_unique<CutSource>(std::move(source), from, to));
}

}  // namespace wavecrest::source
