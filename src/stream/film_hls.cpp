#include "stream/film_hls.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <chrono>
#include <cmath>
#include <optional>

#include "container/interleave.hpp"
#include "container/media_playlist.hpp"
#include "container/ts_mux.hpp"
#include "container/writer.hpp"
#include "media/language.hpp"
#include "source/input.hpp"
#include "stream/text_subtitles.hpp"

namespace wavecrest::stream {
namespace {

constexpr Time kSegment = std::chrono::seconds(6);
constexpr std::size_t kCursors = 4, kNowhere = SIZE_MAX;
constexpr std::size_t kMostCached = 64 << 20;  // bytes of segments, of all films
constexpr std::size_t kMostLooked = 4000;      // packets read for a keyframe
// Other tracks lie so far from the pictures they belong to, at most.
constexpr Time kInterleaving = std::chrono::seconds(4);
// Subtitles are sparse: so much further is looked for them.
constexpr Time kWordsLate = std::chrono::seconds(1);
// What is sent comes so long before it is decoded at most. Where one segment ends and the next begins, audio is there
// for less: what decoders of stereo AAC have room for at 320 kbit/s.
constexpr Time kLead = std::chrono::milliseconds(200), kAudioLead = std::chrono::milliseconds(60);

class Collect : public PacketSink {
  public:
    Status write(const Packet& packet) override {
        packets.push_back(packet);
        return {};
    }
    Status finish() override { return {}; }

    std::vector<Packet> packets;
};

}  // namespace

struct FilmHls::Cursor {
    std::unique_ptr<PacketSource> source;
    std::size_t next = 0;                   // segment
    std::deque<Packet> carried;             // read already
    std::vector<std::vector<Packet>> cues;  // of each track of subtitles
};

// Segments that were asked for last, of all films.
class FilmHls::Cache {
  public:
    static Cache& instance() {
        static Cache cache;
        return cache;
    }
    std::uint64_t new_state() { return ++last_state_; }
    std::optional<Made> find(std::uint64_t state, std::size_t number) {
        const base::MutexLock lock(mutex_);
        const auto found = std::find_if(kept_.begin(), kept_.end(),
                                        [&](const Kept& one) { return one.state == state && one.number == number; });
        if (found == kept_.end()) return std::nullopt;
        kept_.splice(kept_.begin(), kept_, found);
        return found->made;
    }
    void keep(std::uint64_t state, std::size_t number, const Made& made) {
        const base::MutexLock lock(mutex_);
        kept_.push_front({state, number, made});
        bytes_ += made.bytes.size();
        while (bytes_ > kMostCached && kept_.size() > 1) drop(std::prev(kept_.end()));
    }
    void forget(std::uint64_t state) {
        const base::MutexLock lock(mutex_);
        for (auto one = kept_.begin(); one != kept_.end();) {
            const auto next = std::next(one);
            if (one->state == state) drop(one);
            one = next;
        }
    }

  private:
    struct Kept {
        std::uint64_t state;
        std::size_t number;
        Made made;
    };
    void drop(std::list<Kept>::iterator one) REQUIRES(mutex_) {
        bytes_ -= one->made.bytes.size();
        kept_.erase(one);
    }

    std::atomic<std::uint64_t> last_state_{0};
    base::Mutex mutex_;
    std::list<Kept> kept_ GUARDED_BY(mutex_);  // the latest used in front
    std::size_t bytes_ GUARDED_BY(mutex_) = 0;
};

FilmHls::~FilmHls() {
    Cache::instance().forget(state_);
}

Result<std::unique_ptr<FilmHls>> FilmHls::open(const base::Address& file, const TrackChoice& choice) {
    auto film = std::unique_ptr<FilmHls>(new FilmHls);
    film->file_ = base::without_links(file);
    film->choice_ = choice;
    const base::MutexLock lock(film->mutex_);
    WAVECREST_TRY(film->look());
    return film;
}

std::vector<Track> FilmHls::tracks() const {
    const base::MutexLock lock(shape_mutex_);
    return tracks_;
}
std::vector<Track> FilmHls::text_subtitles() const {
    const base::MutexLock lock(shape_mutex_);
    return subtitles_;
}

// Takes in the headers.
Status FilmHls::look() {
    WAVECREST_TRY_ASSIGN(version, version_of(file_));
    WAVECREST_TRY_ASSIGN(input, source::open_input(file_));
    WAVECREST_TRY_ASSIGN(pick, input->pick("main"));
    std::vector<Track> tracks, subtitles;
    std::vector<std::string> notes;
    bool picture = false;
    media::TrackPicker picker(choice_);
    for (const Track& track : pick.title->tracks) {
        if (is_text_subtitle(track)) {
            subtitles.push_back(track);
            continue;
        }
        std::string why = picker.why_not(track);
        const bool other_picture = track.kind == TrackKind::video && !why.empty();
        if (why.empty())
            why = track.kind == TrackKind::subtitle ? "HLS does not support bitmap subtitles; a profile burns them in"
                                                    : container::why_not("mpeg-ts", track);
        if (why.empty()) {
            picture = picture || track.kind == TrackKind::video;
            tracks.push_back(track);
        } else if (track.kind == TrackKind::video && !other_picture) {
            return fail(ErrorKind::input, fmt::format("its video can't be delivered by HLS: {}", why), file_.text(),
                        "convert it first (wavecrest convert)");
        } else {
            notes.push_back(fmt::format("{} {} {} skipped: {}", media::display_name(track.codec),
                                        media::short_name(track.kind), media::language_name(track.language), why));
        }
    }
    WAVECREST_TRY(media::check_chosen(choice_, tracks, file_.text()));
    if (tracks.empty() || pick.title->duration.count() <= 0)
        return fail(ErrorKind::input, "it has no video and no audio that HLS supports", file_.text(),
                    "convert it first (wavecrest convert)");
    duration_ = pick.title->duration;
    version_ = version;
    if (state_ == 0) notes_ = std::move(notes);
    state_ = Cache::instance().new_state();
    const base::MutexLock lock(shape_mutex_);
    tracks_ = std::move(tracks);
    subtitles_ = std::move(subtitles);
    return {};
}

// What was found in a file that has changed since counts no more.
Status FilmHls::look_again() {
    WAVECREST_TRY_ASSIGN(version, version_of(file_));
    if (version == version_) return {};
    Cache::instance().forget(state_);
    starts_.clear();
    cursors_.clear();
    return look();
}

Result<std::unique_ptr<PacketSource>> FilmHls::reopen() const {
    WAVECREST_TRY_ASSIGN(input, source::open_input(file_));
    WAVECREST_TRY_ASSIGN(pick, input->pick("main"));
    return input->open(pick);
}

Status FilmHls::find_segments() {
    if (!starts_.empty()) return {};
    WAVECREST_TRY_ASSIGN(source, reopen());
    const auto picture =
        std::find_if(tracks_.begin(), tracks_.end(), [](const Track& t) { return t.kind == TrackKind::video; });
    std::vector<Start> starts;
    for (Time at{}; at < duration_; at += kSegment) {
        if (picture == tracks_.end()) {
            starts.push_back({at, at - kAudioLead});
            continue;
        }
        if (!starts.empty() && at > Time{}) WAVECREST_TRY(source->seek(at));
        for (std::size_t i = 0; i < kMostLooked; ++i) {
            WAVECREST_TRY_ASSIGN(packet, source->read());
            if (!packet) break;
            if (packet->track != picture->id || !packet->key || packet->hidden) continue;
            // A sliver at the end is no segment of its own.
            if (starts.empty() ||
                (packet->pts >= starts.back().shown + kSegment / 4 && packet->pts + kSegment / 4 < duration_))
                starts.push_back({packet->pts, packet->dts - kLead});
            break;
        }
        if (starts.empty())
            return fail(ErrorKind::input, "no keyframe was found", file_.text(), "convert it (wavecrest convert)");
    }
    starts_ = std::move(starts);
    // It serves again when somebody skips.
    auto cursor = std::make_unique<Cursor>();
    cursor->source = std::move(source);
    cursor->next = kNowhere;
    cursors_.push_back(std::move(cursor));
    end_ = std::max(duration_, starts_.back().shown + base::from_seconds(0.04));
    const base::MutexLock lock(shape_mutex_);
    ends_.clear();
    for (std::size_t i = 1; i < starts_.size(); ++i) ends_.push_back(starts_[i].shown);
    ends_.push_back(end_);
    return {};
}

Time FilmHls::end_of(std::uint64_t number) const {
    const base::MutexLock lock(shape_mutex_);
    return number < ends_.size() ? ends_[static_cast<std::size_t>(number)] : Time{};
}

Result<std::string> FilmHls::playlist(const std::string& stem, const std::string& query) {
    return list_of(stem, "ts", query);
}
Result<std::string> FilmHls::subtitles_playlist(const std::string& stem, const std::string& query) {
    return list_of(stem, "vtt", query);
}

Result<std::string> FilmHls::list_of(const std::string& stem, const char* extension, const std::string& query) {
    const base::MutexLock lock(mutex_);
    WAVECREST_TRY(look_again());
    WAVECREST_TRY(find_segments());
    container::MediaPlaylist list;
    list.on_demand = list.ended = true;
    list.target_s = 1;
    for (std::size_t i = 0; i < starts_.size(); ++i) {
        const Time length = (i + 1 < starts_.size() ? starts_[i + 1].shown : end_) - starts_[i].shown;
        // 4.3.3.1: no segment, rounded, is longer.
        list.target_s = std::max<std::int64_t>(list.target_s, std::llround(base::to_seconds(length)));
        list.segments.push_back({fmt::format("{}-{}.{}{}", stem, i, extension, query), length, false});
    }
    return container::write_playlist(list);
}

Result<std::unique_ptr<FilmHls::Cursor>> FilmHls::cursor_at(std::size_t number) {
    for (auto one = cursors_.begin(); one != cursors_.end(); ++one) {
        if ((*one)->next != number) continue;
        auto found = std::move(*one);
        cursors_.erase(one);
        return found;
    }
    auto cursor = std::make_unique<Cursor>();
    auto idle = std::find_if(cursors_.begin(), cursors_.end(), [](const auto& one) { return one->next == kNowhere; });
    // Whoever reads on from the oldest has left, or will come back by a skip.
    if (idle == cursors_.end() && cursors_.size() >= kCursors) idle = std::prev(cursors_.end());
    if (idle == cursors_.end() || number == 0) {
        WAVECREST_TRY_ASSIGN(source, reopen());
        cursor->source = std::move(source);
    } else {
        cursor->source = std::move((*idle)->source);
        cursors_.erase(idle);
    }
    cursor->next = number;
    cursor->cues.resize(subtitles_.size());
    if (number == 0) return cursor;
    // From a keyframe before it: what is decoded behind the segment's first picture but shown before it (an open group)
    // belongs to it, and is left out by readers that begin with that picture.
    const Start& start = starts_[number];
    const Time before = std::min(start.shown - base::from_seconds(0.5), start.clock);
    WAVECREST_TRY(cursor->source->seek(std::max(before, starts_[number - 1].shown)));
    return cursor;
}

Result<FilmHls::Made> FilmHls::make(Cursor& cursor, std::size_t number) {
    const bool last = number + 1 == starts_.size();
    const Time from = starts_[number].shown, to = last ? Time::max() : starts_[number + 1].shown;
    // Audio is cut by the clock, not where pictures are: all of a segment is sent before the next one's clock
    // begins, and audio that is heard with its last pictures would be there too early.
    const Time audio_from = number == 0 ? Time::min() : starts_[number].clock + kAudioLead;
    const Time next_clock = last ? Time::max() : starts_[number + 1].clock;
    const Time audio_to = last ? Time::max() : next_clock + kAudioLead;
    std::vector<Packet> held;  // of the segment before, when this one's clock begins
    Collect sink;
    container::Interleaver interleaver(sink, tracks_, Time{});
    const bool has_picture =
        std::any_of(tracks_.begin(), tracks_.end(), [](const Track& t) { return t.kind == TrackKind::video; });
    std::deque<Packet> waiting;
    waiting.swap(cursor.carried);
    bool began = !has_picture || number == 0, picture_done = !has_picture;
    std::vector<bool> done(tracks_.size());
    Time reached{};
    while (true) {
        Packet packet;
        if (!waiting.empty()) {
            packet = std::move(waiting.front());
            waiting.pop_front();
        } else {
            WAVECREST_TRY_ASSIGN(read, cursor.source->read());
            if (!read) break;
            packet = std::move(*read);
        }
        const auto is_its = [&](const Track& t) { return t.id == packet.track; };
        if (const auto subtitles = std::find_if(subtitles_.begin(), subtitles_.end(), is_its);
            subtitles != subtitles_.end()) {
            cursor.cues[static_cast<std::size_t>(subtitles - subtitles_.begin())].push_back(std::move(packet));
            continue;
        }
        const auto track = std::find_if(tracks_.begin(), tracks_.end(), is_its);
        if (track == tracks_.end() || packet.hidden) continue;
        const auto index = static_cast<std::size_t>(track - tracks_.begin());
        reached = std::max(reached, packet.dts);
        if (track->kind == TrackKind::video) {
            if (picture_done) {
                cursor.carried.push_back(std::move(packet));
                if (reached > to + kInterleaving) break;
            } else if (packet.key && packet.pts >= to) {
                picture_done = done[index] = true;
                cursor.carried.push_back(std::move(packet));
            } else {
                began = began || (packet.key && packet.pts >= from);
                if (began) WAVECREST_TRY(interleaver.write(std::move(packet)));
                continue;
            }
        } else {
            if (packet.pts < audio_from) {
                if (packet.pts >= starts_[number].clock) held.push_back(std::move(packet));
                continue;
            }
            if (packet.pts >= next_clock) cursor.carried.push_back(packet);
            if (packet.pts < audio_to) {
                WAVECREST_TRY(interleaver.write(std::move(packet)));
                continue;
            }
            done[index] = true;
        }
        if (std::all_of(done.begin(), done.end(), [](bool d) { return d; }) &&
            (subtitles_.empty() || reached > to + kWordsLate))
            break;
    }
    // What was carried over and not looked at stays in front of what comes.
    for (Packet& packet : waiting) cursor.carried.push_back(std::move(packet));
    WAVECREST_TRY(interleaver.drain());
    container::MuxSettings settings;
    settings.lead = kLead;
    if (number > 0) settings.from = starts_[number].clock;
    if (!last) settings.until = next_clock;
    ByteVector out;
    container::TransportMux mux(tracks_, settings, [&](const container::MuxedPacket& packet) -> Status {
        out.insert(out.end(), packet.bytes.begin(), packet.bytes.end());
        return {};
    });
    for (const Packet& packet : held) mux.hold(packet);
    for (const Packet& packet : sink.packets) WAVECREST_TRY(mux.write(packet));
    WAVECREST_TRY(mux.finish());
    cursor.next = number + 1;
    if (out.empty())
        return fail(ErrorKind::input, fmt::format("nothing of segment {} is in the file", number), file_.text(),
                    "the file is truncated or damaged: copy it again");
    Made segment{Bytes(std::move(out)), {}};
    for (std::vector<Packet>& cues : cursor.cues) {
        segment.subtitles.push_back(cues_between(cues, number == 0 ? Time{} : from, to));
        forget_cues(cues, to);
    }
    return segment;
}

Result<Bytes> FilmHls::segment(std::size_t number) {
    const base::MutexLock lock(mutex_);
    WAVECREST_TRY_ASSIGN(one, made(number));
    return one.bytes;
}

Result<Bytes> FilmHls::subtitles_segment(std::size_t track, std::size_t number) {
    const base::MutexLock lock(mutex_);
    WAVECREST_TRY(look_again());
    if (track >= subtitles_.size())
        return fail(ErrorKind::usage, fmt::format("there are no subtitles {}", track + 1), file_.text(),
                    "ask for the playlist");
    // Made with the pictures, which whoever shows the subtitles fetches, too.
    WAVECREST_TRY_ASSIGN(one, made(number));
    return one.subtitles[track];
}

Result<FilmHls::Made> FilmHls::made(std::size_t number) {
    WAVECREST_TRY(look_again());
    WAVECREST_TRY(find_segments());
    if (number >= starts_.size())
        return fail(ErrorKind::usage, fmt::format("there is no segment {}", number), file_.text(),
                    "ask for the playlist");
    if (auto known = Cache::instance().find(state_, number)) return std::move(*known);
    WAVECREST_TRY_ASSIGN(cursor, cursor_at(number));
    WAVECREST_TRY_ASSIGN(segment, make(*cursor, number));
    if (cursor->next < starts_.size()) {
        cursors_.push_front(std::move(cursor));
        if (cursors_.size() > kCursors) cursors_.pop_back();
    }
    Cache::instance().keep(state_, number, segment);
    return segment;
}

}  // namespace wavecrest::stream
