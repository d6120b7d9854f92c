#include "source/added_text.hpp"

#include <algorithm>
#include <map>

#include "bitstream/captions.hpp"
#include "container/reader.hpp"
#include "source/share_input.hpp"

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

// Text for some titles of an input.
class WithText : public Input {
  public:
    explicit WithText(std::unique_ptr<Input> inner) : inner_(std::move(inner)), titles_(inner_->titles()) {}

    // One more track of the title, whose cues they are.
    void add(int number, std::string language, Purpose purpose, std::vector<Packet> cues,
             const std::vector<Problem>& problems) {
        for (Title& title : titles_) {
            if (title.number != number) continue;
            Track track;
            track.kind = TrackKind::subtitle;
            track.codec = Codec::text;
            track.language = std::move(language);
            track.purpose = purpose;
            track.preferred = false;
            for (const Track& other : title.tracks) track.id = std::max(track.id, other.id + 1);
            for (Packet& cue : cues) cue.track = track.id;
            cues_[number] = {track, std::move(cues)};
            title.tracks.push_back(std::move(track));
            title.problems.insert(title.problems.end(), problems.begin(), problems.end());
            return;
        }
    }

    const Input& inner() const { return *inner_; }

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
        const auto found = cues_.find(number);
        if (found == cues_.end()) return source;
        std::vector<Track> tracks = source->tracks();
        tracks.push_back(found->second.first);
        return std::make_unique<WithCues>(std::move(source), std::move(tracks), found->second.second);
    }

  private:
    std::unique_ptr<Input> inner_;
    std::vector<Title> titles_;
    std::map<int, std::pair<Track, std::vector<Packet>>> cues_;  // by title
};

}  // namespace

Result<SubtitleFile> read_subtitle_file(const base::Path& file) {
    WAVECREST_TRY_ASSIGN(opened, open_file(base::Address(file)));
    WAVECREST_TRY_ASSIGN(media, container::open_media(std::shared_ptr<base::ByteSource>(std::move(opened))));
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
    auto with = std::make_unique<WithText>(std::move(input));
    for (const Title& title : with->inner().titles()) {
        if (title.main) with->add(title.number, read.language, Purpose::main, read.cues, read.problems);
    }
    return std::unique_ptr<Input>(std::move(with));
}

namespace {

// Of one title; nothing where its video has none.
Result<std::vector<Packet>> read_captions(const Input& input, const Title& title, const Track& video,
                                          const Progress& progress, const Cancel& cancel) {
    WAVECREST_TRY_ASSIGN(source, input.open(title.number, 1));
    bitstream::CaptionReader captions(video.codec);
    while (true) {
        if (cancel.requested()) return base::interrupted();
        WAVECREST_TRY_ASSIGN(packet, source->read());
        if (!packet) break;
        if (packet->track != video.id) continue;
        if (progress) progress({std::max(packet->pts, Time{}), title.duration});
        captions.push(*packet);
    }
    std::vector<Packet> cues;
    for (const bitstream::CaptionCue& cue : captions.finish()) {
        Packet packet;
        packet.pts = packet.dts = cue.from;
        packet.duration = cue.to - cue.from;
        packet.key = true;
        packet.data = Bytes(ByteVector(cue.text.begin(), cue.text.end()));
        cues.push_back(std::move(packet));
    }
    return cues;
}

}  // namespace

Result<std::unique_ptr<Input>> with_captions(std::unique_ptr<Input> input, const Progress& progress,
                                             const Cancel& cancel) {
    const std::string name = input->path();
    if (!input->reopens())
        return fail(ErrorKind::usage, "the captions of piped input can't be read beforehand", name,
                    "save it to a file and name that");
    auto with = std::make_unique<WithText>(std::move(input));
    bool any = false;
    for (const Title& title : with->inner().titles()) {
        const auto video = std::find_if(title.tracks.begin(), title.tracks.end(),
                                        [](const Track& track) { return track.closed_captions; });
        if (!title.main || video == title.tracks.end()) continue;
        WAVECREST_TRY(with->inner().check_protection(title.number));
        WAVECREST_TRY_ASSIGN(cues, read_captions(with->inner(), title, *video, progress, cancel));
        if (cues.empty()) continue;
        any = true;
        with->add(title.number, "", Purpose::captions, std::move(cues), {});
    }
    if (!any)
        return fail(ErrorKind::input, "the video has no closed captions", name,
                    "leave --captions out; wavecrest inspect lists what there is");
    return std::unique_ptr<Input>(std::move(with));
}

}  // namespace wavecrest::source
