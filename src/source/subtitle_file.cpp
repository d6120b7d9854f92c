#include "source/subtitle_file.hpp"

#include <algorithm>

#include "container/reader.hpp"

namespace wavecrest::source {
namespace {

// Two sources of one timeline: the cues come with what is decoded at their times.
class WithCues : public PacketSource {
  public:
    WithCues(std::unique_ptr<PacketSource> inner, std::vector<Track> tracks, std::vector<Packet> cues)
        : inner_(std::move(inner)), tracks_(std::move(tracks)), cues_(std::move(cues)) {}

    // (What the source has learnt of its tracks by then counts.)
    const std::vector<Track>& tracks() const override {
        const auto& known = inner_->tracks();
        for (Track& track : tracks_) {
            for (const Track& now : known) {
                if (now.id == track.id) track = now;
            }
        }
        return tracks_;
    }
    const std::vector<Chapter>& chapters() const override { return inner_->chapters(); }
    Time duration() const override { return inner_->duration(); }
    const std::vector<Problem>& problems() const override { return inner_->problems(); }
    Result<std::optional<Packet>> read() override {
        if (!ahead_ && !ended_) {
            WAVECREST_TRY_ASSIGN(packet, inner_->read());
            ahead_ = std::move(packet);
            ended_ = !ahead_;
        }
        if (next_ < cues_.size() && (ended_ || cues_[next_].pts <= ahead_->dts))
            return std::optional<Packet>(cues_[next_++]);
        return std::exchange(ahead_, std::nullopt);
    }
    Status seek(Time time) override {
        WAVECREST_TRY(inner_->seek(time));
        ahead_.reset();
        ended_ = false;
        // From the first that is still shown then.
        const auto shown =
            std::find_if(cues_.begin(), cues_.end(), [&](const Packet& cue) { return cue.pts + cue.duration > time; });
        next_ = static_cast<std::size_t>(shown - cues_.begin());
        return {};
    }

  private:
    std::unique_ptr<PacketSource> inner_;
    mutable std::vector<Track> tracks_;
    std::vector<Packet> cues_;
    std::size_t next_ = 0;
    std::optional<Packet> ahead_;
    bool ended_ = false;
};

class WithSubtitleFile : public Input {
  public:
    WithSubtitleFile(std::unique_ptr<Input> inner, SubtitleFile file)
        : inner_(std::move(inner)), file_(std::move(file)), titles_(inner_->titles()) {
        for (Title& title : titles_) {
            if (!title.main) continue;
            Track track;
            track.kind = TrackKind::subtitle;
            track.codec = Codec::text;
            track.language = file_.language;
            track.preferred = false;
            for (const Track& other : title.tracks) track.id = std::max(track.id, other.id + 1);
            title.tracks.push_back(std::move(track));
            title.problems.insert(title.problems.end(), file_.problems.begin(), file_.problems.end());
        }
    }

    std::string path() const override { return inner_->path(); }
    std::string container() const override { return inner_->container(); }
    bool is_disc() const override { return inner_->is_disc(); }
    bool reopens() const override { return inner_->reopens(); }
    std::string name_hint() const override { return inner_->name_hint(); }
    const std::vector<Title>& titles() const override { return titles_; }
    const std::vector<disc::Episode>& episodes() const override { return inner_->episodes(); }
    const std::vector<std::string>& notes() const override { return inner_->notes(); }
    Status check_protection(int title) const override { return inner_->check_protection(title); }
    Result<std::vector<RatePiece>> rate(int title) const override { return inner_->rate(title); }
    Result<std::unique_ptr<PacketSource>> open(int number, int angle) const override {
        WAVECREST_TRY_ASSIGN(source, inner_->open(number, angle));
        const auto title =
            std::find_if(titles_.begin(), titles_.end(), [&](const Title& t) { return t.number == number; });
        if (title == titles_.end() || !title->main) return source;
        std::vector<Packet> cues = file_.cues;
        for (Packet& cue : cues) cue.track = title->tracks.back().id;
        std::vector<Track> tracks = source->tracks();
        tracks.push_back(title->tracks.back());
        return std::make_unique<WithCues>(std::move(source), std::move(tracks), std::move(cues));
    }

  private:
    std::unique_ptr<Input> inner_;
    SubtitleFile file_;
    std::vector<Title> titles_;
};

}  // namespace

Result<SubtitleFile> read_subtitle_file(const base::Path& file) {
    WAVECREST_TRY_ASSIGN(opened, base::FileSource::open(file));
    WAVECREST_TRY_ASSIGN(media, container::open_media(std::make_shared<base::FileSource>(std::move(opened))));
    if (media.container != "srt" && media.container != "webvtt")
        return fail(ErrorKind::input, "not a text subtitle file", file.string(), "name an SRT or WebVTT file");
    SubtitleFile subtitles;
    const std::string before = file.stem().extension().string();
    if (before.size() == 3 || before.size() == 4) subtitles.language = before.substr(1);
    while (true) {
        WAVECREST_TRY_ASSIGN(cue, media.source->read());
        if (!cue) break;
        subtitles.cues.push_back(std::move(*cue));
    }
    subtitles.problems = media.source->problems();
    return subtitles;
}

Result<std::unique_ptr<Input>> with_subtitle_file(std::unique_ptr<Input> input, const base::Path& file) {
    WAVECREST_TRY_ASSIGN(read, read_subtitle_file(file));
    return std::make_unique<WithSubtitleFile>(std::move(input), std::move(read));
}

}  // namespace wavecrest::source
