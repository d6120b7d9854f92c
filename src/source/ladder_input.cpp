#include "source/ladder_input.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>

#include "base/address.hpp"
#include "base/units.hpp"
#include "container/ladder.hpp"
#include "container/reader.hpp"
#include "media/language.hpp"
#include "net/url.hpp"
#include "source/adaptive_title.hpp"

namespace wavecrest::source {
namespace {

using Place = AdaptiveTitle::Place;
using Rendition = AdaptiveTitle::Rendition;

// Bytes a segment is read ahead by: an index is read in small pieces, and each would be a request.
constexpr std::uint64_t kAhead = 256 << 10;

// Header and segments one behind the other, as if they were one file.
class JoinedSource : public base::ByteSource {
  public:
    static Result<std::shared_ptr<JoinedSource>> create(const Rendition& one, FetchPlace fetch) {
        auto joined = std::make_shared<JoinedSource>();
        joined->name_ = one.segments.empty() ? one.name : one.segments.front().at.address;
        joined->fetch_ = std::move(fetch);
        if (one.header) WAVECREST_TRY(joined->add(*one.header));
        for (const AdaptiveTitle::Segment& segment : one.segments) WAVECREST_TRY(joined->add(segment.at));
        return joined;
    }

    std::uint64_t size() const override { return size_; }
    std::string name() const override { return name_; }
    Result<std::size_t> read_at(std::uint64_t offset, std::span<std::uint8_t> buffer) override {
        std::size_t done = 0;
        while (done < buffer.size() && offset + done < size_) {
            const std::uint64_t at = offset + done;
            if (at < held_from_ || at >= held_from_ + held_.size()) WAVECREST_TRY(hold(at, buffer.size() - done));
            const std::uint64_t inside = at - held_from_;
            if (inside >= held_.size()) break;
            const auto count =
                static_cast<std::size_t>(std::min<std::uint64_t>(buffer.size() - done, held_.size() - inside));
            std::copy_n(held_.begin() + static_cast<std::ptrdiff_t>(inside), count,
                        buffer.begin() + static_cast<std::ptrdiff_t>(done));
            done += count;
        }
        return done;
    }

  private:
    struct Piece {
        Place at;
        std::uint64_t begin = 0, size = 0;  // in what is joined
    };
    Status add(const Place& place) {
        WAVECREST_TRY_ASSIGN(size, size_of_place(place));
        pieces_.push_back({place, size_, size});
        size_ += size;
        return {};
    }
    // Has the bytes at an offset, and some behind it.
    Status hold(std::uint64_t at, std::uint64_t wanted) {
        const auto behind =
            std::upper_bound(pieces_.begin(), pieces_.end(), at,
                             [](std::uint64_t value, const Piece& piece) { return value < piece.begin; });
        const Piece& piece = *(behind - 1);
        const std::uint64_t inside = at - piece.begin;
        const std::uint64_t count = std::min(std::max(wanted, kAhead), piece.size - inside);
        Place part{piece.at.address,
                   container::ByteRange{(piece.at.range ? piece.at.range->offset : 0) + inside, count}};
        WAVECREST_TRY_ASSIGN(bytes, fetch_(part));
        if (bytes.size() != count)
            return fail(ErrorKind::input, "a segment is shorter than it was", piece.at.address,
                        "copy the folder again, or make it anew");
        held_ = std::move(bytes);
        held_from_ = at;
        return {};
    }

    std::string name_;
    FetchPlace fetch_;
    std::vector<Piece> pieces_;
    std::uint64_t size_ = 0, held_from_ = 0;
    ByteVector held_;
};

// Several sources as one: their packets in the order of decoding.
class MergedSource : public PacketSource {
  public:
    explicit MergedSource(std::vector<std::unique_ptr<PacketSource>> sources) : sources_(std::move(sources)) {
        next_.resize(sources_.size());
        TrackId id = 0;
        for (const auto& source : sources_) {
            ids_.emplace_back();
            for (Track track : source->tracks()) {
                ids_.back().emplace_back(track.id, ++id);
                track.id = id;
                tracks_.push_back(std::move(track));
            }
        }
    }
    const std::vector<Track>& tracks() const override { return tracks_; }
    const std::vector<Chapter>& chapters() const override { return sources_.front()->chapters(); }
    Time duration() const override {
        Time longest{};
        for (const auto& source : sources_) longest = std::max(longest, source->duration());
        return longest;
    }
    Result<std::optional<Packet>> read() override {
        std::size_t first = sources_.size();
        for (std::size_t i = 0; i < sources_.size(); ++i) {
            if (!next_[i].asked) {
                WAVECREST_TRY_ASSIGN(packet, sources_[i]->read());
                next_[i] = {true, std::move(packet)};
            }
            if (!next_[i].packet) continue;
            if (first == sources_.size() || next_[i].packet->dts < next_[first].packet->dts) first = i;
        }
        problems_.clear();
        for (const auto& source : sources_)
            problems_.insert(problems_.end(), source->problems().begin(), source->problems().end());
        if (first == sources_.size()) return std::optional<Packet>();
        Packet packet = *std::move(next_[first].packet);
        next_[first] = {};
        for (const auto& [from, to] : ids_[first]) {
            if (packet.track == from) {
                packet.track = to;
                break;
            }
        }
        return std::optional(std::move(packet));
    }
    Status seek(Time time) override {
        for (auto& one : next_) one = {};
        for (const auto& source : sources_) WAVECREST_TRY(source->seek(time));
        return {};
    }
    const std::vector<Problem>& problems() const override { return problems_; }

  private:
    struct Next {
        bool asked = false;
        std::optional<Packet> packet;
    };
    std::vector<std::unique_ptr<PacketSource>> sources_;
    std::vector<Next> next_;
    std::vector<std::vector<std::pair<TrackId, TrackId>>> ids_;  // of each source: its own, and here
    std::vector<Track> tracks_;
    std::vector<Problem> problems_;
};

class LadderInput : public Input {
  public:
    LadderInput(std::string address, AdaptiveTitle title) : path_(std::move(address)), title_(std::move(title)) {}

    Status look() {
        fetch_ = plain_fetch(path_);
        if (title_.encrypted) return refuse("its segments are encrypted", "use a stream that isn't");
        std::vector<Problem> problems;
        for (auto* renditions : {&title_.video, &title_.audio, &title_.text}) {
            for (Rendition& one : *renditions) {
                const Status loaded = load_segments(title_, one, fetch_);
                // Of the video only the best is read: of the others it is enough to tell what is wrong with them.
                const bool read = renditions != &title_.video || &one == &title_.video.back();
                if (!loaded && read) return tl::make_unexpected(loaded.error());
                const auto missing = loaded ? first_missing(one, fetch_) : Missing{loaded.error(), Time{}};
                if (missing) problems.push_back({missing->text(one), missing->from, title_.duration});
            }
        }
        if (title_.live)
            return refuse("the playlist is live, and has no beginning", "give the address of a title on demand");
        WAVECREST_TRY_ASSIGN(source, open(1, 1));
        Title title;
        title.main = true;
        title.why = "the best bit rate";
        title.duration = source->duration();
        title.tracks = source->tracks();
        title.size_bytes = size_;
        title.problems = std::move(problems);
        for (auto one = title_.video.rbegin(); one != title_.video.rend(); ++one)
            title.rungs.push_back({one->name, one->codecs, one->size, one->fps, one->peak_bps, one->average_bps});
        titles_.push_back(std::move(title));
        if (!title_.uncertain.empty()) notes_.push_back(title_.uncertain);
        return {};
    }

    std::string path() const override { return path_; }
    std::string container() const override { return title_.dash ? "dash" : "hls"; }
    bool is_disc() const override { return false; }
    // A ladder's folder has its title's name; a playlist's own name says little.
    std::string name_hint() const override {
        const std::string plain = path_.substr(0, path_.find_first_of("?#"));
        const base::Path path(base::is_web_address(path_) ? net::decode_path(plain) : plain);
        const base::Path folder = path.parent_path().filename();
        return folder.extension() == ".ladder" ? folder.stem().string() : path.stem().string();
    }
    const std::vector<Title>& titles() const override { return titles_; }
    const std::vector<disc::Episode>& episodes() const override { return episodes_; }
    const std::vector<std::string>& notes() const override { return notes_; }
    Status check_protection(int) const override { return {}; }
    Result<std::vector<RatePiece>> rate(int) const override {
        std::vector<RatePiece> pieces;
        if (title_.video.empty()) return refuse("no bit rate is told", "wavecrest inspect --deep reads all of it");
        for (const AdaptiveTitle::Segment& one : title_.video.back().segments) {
            if (!one.at.range)
                return refuse("no index: all segments would have to be read",
                              "wavecrest inspect --deep reads all of it");
            pieces.push_back({one.from, one.from + one.duration, one.at.range->length});
        }
        return pieces;
    }
    Result<std::unique_ptr<PacketSource>> open(int, int) const override {
        std::vector<std::unique_ptr<PacketSource>> sources;
        size_ = 0;
        const auto add = [&](const Rendition& one, TrackKind kind) -> Status {
            // (Each segment is a file of its own, unless they are MP4 with a header in front.)
            if (kind == TrackKind::subtitle && one.segments.size() != 1 && !(one.header && one.codecs == "wvtt"))
                return {};
            WAVECREST_TRY_ASSIGN(bytes, JoinedSource::create(one, fetch_));
            size_ += bytes->size();
            WAVECREST_TRY_ASSIGN(media, container::open_media(std::move(bytes)));
            sources.push_back(std::make_unique<Named>(std::move(media.source), one, kind));
            return {};
        };
        if (!title_.video.empty()) WAVECREST_TRY(add(title_.video.back(), TrackKind::video));
        for (const Rendition& one : title_.audio) WAVECREST_TRY(add(one, TrackKind::audio));
        for (const Rendition& one : title_.text) WAVECREST_TRY(add(one, TrackKind::subtitle));
        return std::make_unique<MergedSource>(std::move(sources));
    }

  private:
    // A rendition's source with what the playlist says of it.
    class Named : public PacketSource {
      public:
        Named(std::unique_ptr<PacketSource> inner, const Rendition& one, TrackKind kind)
            : inner_(std::move(inner)), tracks_(inner_->tracks()) {
            for (Track& track : tracks_) {
                if (track.kind != kind) continue;
                if (!one.language.empty()) track.language = media::language_639_2(one.language);
                track.forced = track.forced || one.forced;
            }
        }
        const std::vector<Track>& tracks() const override { return tracks_; }
        const std::vector<Chapter>& chapters() const override { return inner_->chapters(); }
        Time duration() const override { return inner_->duration(); }
        Result<std::optional<Packet>> read() override { return inner_->read(); }
        Status seek(Time time) override { return inner_->seek(time); }
        const std::vector<Problem>& problems() const override { return inner_->problems(); }

      private:
        std::unique_ptr<PacketSource> inner_;
        std::vector<Track> tracks_;
    };

    tl::unexpected<Error> refuse(const char* what, const char* remedy) const {
        return fail(ErrorKind::input, what, path_, remedy);
    }

    std::string path_;
    AdaptiveTitle title_;
    FetchPlace fetch_;
    std::vector<Title> titles_;
    std::vector<disc::Episode> episodes_;
    std::vector<std::string> notes_;
    mutable std::uint64_t size_ = 0;  // of what was opened last
};

}  // namespace

base::Path ladder_in(const base::Path& folder) {
    std::error_code error;
    const base::Path playlist = folder / container::kLadderPlaylist;
    return std::filesystem::is_regular_file(playlist, error) ? playlist : base::Path();
}

bool is_ladder_folder(const base::Address& address) {
    if (!address.is_share()) return !ladder_in(address.path()).empty();
    const std::string& text = address.text();
    return text.ends_with(".ladder") || text.ends_with(".ladder/");
}

Result<std::unique_ptr<Input>> open_ladder(const std::string& address) {
    WAVECREST_TRY_ASSIGN(bytes, plain_fetch(address)({address, {}}));
    const auto now_ms =
        std::chrono::duration_cast<std::chrono::milliseconds>(std::chrono::system_clock::now().time_since_epoch())
            .count();
    WAVECREST_TRY_ASSIGN(
        title, read_adaptive_title({reinterpret_cast<const char*>(bytes.data()), bytes.size()}, address, now_ms));
    auto input = std::make_unique<LadderInput>(address, std::move(title));
    WAVECREST_TRY(input->look());
    return std::unique_ptr<Input>(std::move(input));
}

}  // namespace wavecrest::source
