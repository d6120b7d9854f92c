#include "verify/ladder.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <cmath>
#include <map>

#include "base/address.hpp"
#include "base/byte_source.hpp"
#include "base/units.hpp"
#include "container/reader.hpp"
#include "measure/adaptation.hpp"
#include "measure/rate.hpp"
#include "profile/ladder.hpp"
#include "verify/checks.hpp"
#include "verify/receiving.hpp"
#include "verify/seeks.hpp"

namespace wavecrest::verify {
namespace {

using device::Verdict;
using source::AdaptiveTitle;
using Rendition = AdaptiveTitle::Rendition;
using Segment = AdaptiveTitle::Segment;
using namespace std::chrono_literals;

constexpr std::size_t kMostSegment = 64 << 20;
constexpr std::chrono::minutes kPatience{1};  // with one segment
// What is promised is rounded, and a segment's headers count with it.
constexpr double kOverPromise = 1.05;
constexpr Time kListedApart = std::chrono::milliseconds(100);  // players look for segments by time
constexpr Time kApart = std::chrono::milliseconds(2);          // times of segments that follow one another

std::string size_name(const Rendition& one) {
    return one.size.height > 0 ? profile::size_name(one.size.width, one.size.height) : one.name;
}

// "avc1.640028,mp4a.40.2": the codec of the pictures.
Codec video_codec(const std::string& codecs) {
    static constexpr std::pair<std::string_view, Codec> kNames[] = {
        {"avc1", Codec::h264}, {"avc3", Codec::h264}, {"hvc1", Codec::h265}, {"hev1", Codec::h265},
        {"vp09", Codec::vp9},  {"av01", Codec::av1},  {"mp4v", Codec::mpeg4}};
    for (const auto& [name, codec] : kNames) {
        if (codecs.find(name) != std::string::npos) return codec;
    }
    return Codec::unknown;
}

// Whether a device's player would take a rung at all, by what is said of it.
bool takes_rung(const device::Device& device, const Rendition& one) {
    const Codec codec = video_codec(one.codecs);
    if (codec == Codec::unknown) return true;
    return std::any_of(device.video.begin(), device.video.end(), [&](const device::VideoAbility& ability) {
        return ability.codec == codec && (ability.largest.width == 0 || one.size.width <= ability.largest.width) &&
               (ability.largest.height == 0 || one.size.height <= ability.largest.height);
    });
}

// What a segment really holds.
struct Contents {
    std::vector<Track> tracks;
    Time from = Time::max(), to = Time::min();  // presentation, of its video or else its audio
    bool key = false;                           // its first packet in decoding order can be decoded alone
    std::string problem;
};
Contents look_into(ByteVector bytes) {
    Contents contents;
    const auto media = container::open_media(std::make_shared<base::MemorySource>(std::move(bytes), "segment"));
    if (!media) {
        contents.problem = media.error().what;
        return contents;
    }
    contents.tracks = media->source->tracks();
    TrackId wanted = -1;
    for (const Track& track : contents.tracks) {
        if (wanted < 0 || (track.kind == TrackKind::video && contents.tracks.front().kind != TrackKind::video))
            wanted = track.id;
    }
    bool first = true;
    while (true) {
        const auto packet = media->source->read();
        if (!packet || !*packet) break;
        if ((*packet)->track != wanted) continue;
        if (std::exchange(first, false)) contents.key = (*packet)->key;
        contents.from = std::min(contents.from, (*packet)->pts);
        contents.to = std::max(contents.to, (*packet)->pts + (*packet)->duration);
    }
    if (first) contents.problem = "a segment is empty";
    return contents;
}

class LadderPlay {
  public:
    LadderPlay(Receiving& r, const Job& job, const net::Url& url, AdaptiveTitle title, const Cancel& cancel)
        : r_(r), job_(job), cancel_(cancel), client_(r, url), title_(std::move(title)) {}

    // Fails where it was interrupted.
    Result<Verification> run(const Progress& progress) {
        if (auto refused = enter()) return std::move(*refused);
        const Time begun = r_.clock->now();
        while (!lost_ && (!title_.live || r_.clock->now() - begun < job_.listen)) {
            if (cancel_.requested()) return base::interrupted();
            const Segment* const segment = upcoming(rung());
            if (segment == nullptr) {
                if (over()) break;
                refresh();
                continue;
            }
            fetch_next();
            if (progress)
                progress(
                    {title_.live ? r_.clock->now() - begun : reached_, title_.live ? job_.listen : title_.duration});
            wait_for_room();
        }
        if (!title_.live) player_->finish(r_.clock->now());
        if (cancel_.requested()) return base::interrupted();
        return judge();
    }

  private:
    Rendition& rung() { return title_.video[rungs_[adaptation_->rung()]]; }
    Rendition* audio() { return title_.audio.empty() ? nullptr : &title_.audio.front(); }

    // The bytes at a place, over the link. `between` is asked while they come: false gives the rest up.
    Result<ByteVector> fetch(const AdaptiveTitle::Place& place,
                             const std::function<bool(std::uint64_t got, std::uint64_t whole)>& between = {}) {
        WAVECREST_TRY_ASSIGN(head, client_.begin(place.address, place.range));
        ByteVector bytes;
        const auto begun = std::chrono::steady_clock::now();
        while (true) {
            if (cancel_.requested()) return base::interrupted();
            if (std::chrono::steady_clock::now() - begun > kPatience)
                return fail(ErrorKind::wanting, "a segment didn't come within a minute", place.address,
                            "the server, or the network up to here, is too slow");
            WAVECREST_TRY_ASSIGN(got, client_.piece(buffer_));
            if (got == 0) break;
            r_.count(got);
            bytes.insert(bytes.end(), buffer_.begin(), buffer_.begin() + static_cast<std::ptrdiff_t>(got));
            if (bytes.size() > kMostSegment)
                return fail(ErrorKind::wanting, "a segment is larger than 64 MB", place.address,
                            "use shorter segments");
            if (between && !between(bytes.size(), head.body_size)) {
                client_.close();
                break;
            }
        }
        return bytes;
    }

    // What is known of it when it is first needed.
    bool load(Rendition& one) {
        if (one.loaded && !one.list) return true;
        if (one.loaded && !title_.live) return true;
        asked_ = r_.clock->now();
        const auto status =
            source::load_segments(title_, one, [&](const AdaptiveTitle::Place& at) { return fetch(at); });
        if (!status) lost_ = status.error();
        return status.has_value();
    }
    const ByteVector* header(const Rendition& one) {
        static const ByteVector kNone;
        if (!one.header) return &kNone;
        const auto [found, added] = headers_.try_emplace(
            one.header->address + "@" + std::to_string(one.header->range ? one.header->range->offset : 0));
        if (!added) return &found->second;
        auto bytes = fetch(*one.header);
        if (!bytes) {
            lost_ = bytes.error();
            return nullptr;
        }
        found->second = std::move(*bytes);
        return &found->second;
    }

    // The segment behind what was reached: by its number in HLS, where lists of one title need not begin at the same
    // time; by its time in DASH.
    const Segment* upcoming(const Rendition& one) const {
        for (const Segment& segment : one.segments) {
            if (title_.dash ? segment.from + segment.duration > reached_ + 100ms : segment.number >= next_number_)
                return &segment;
        }
        return nullptr;
    }
    bool over() { return title_.dash ? !title_.live : rung().ended; }

    // What makes playing it useless; nothing: it begins.
    std::optional<Verification> enter() {
        if (title_.encrypted)
            return failed(std::move(r_.v), Cause::device,
                          {ErrorKind::input, "its segments are encrypted", job_.address, "use a stream that isn't"},
                          "segments");
        if (title_.video.empty())
            return failed(std::move(r_.v), Cause::device,
                          {ErrorKind::input, "it has no video", job_.address, "give the address of a film"},
                          "segments");
        for (std::size_t i = 0; i < title_.video.size(); ++i) {
            if (takes_rung(job_.device, title_.video[i])) rungs_.push_back(i);
        }
        const std::size_t left_out = title_.video.size() - rungs_.size();
        if (rungs_.empty()) {
            for (std::size_t i = 0; i < title_.video.size(); ++i) rungs_.push_back(i);
        }
        std::vector<std::int64_t> peaks;
        for (const std::size_t i : rungs_) {
            const Rendition& one = title_.video[i];
            peaks.push_back(std::max<std::int64_t>(one.peak_bps, 1));
            r_.v.rungs.push_back({size_name(one), one.peak_bps, one.average_bps, one.size.width, one.size.height, {}});
        }
        // Several of one size are told apart by their bit rates.
        for (std::size_t i = 0; i < rungs_.size(); ++i) {
            const std::string name = size_name(title_.video[rungs_[i]]);
            const auto same = std::count_if(rungs_.begin(), rungs_.end(),
                                            [&](std::size_t other) { return size_name(title_.video[other]) == name; });
            r_.v.rungs[i].name =
                same > 1 ? fmt::format("{} {}", name, base::format_bitrate(r_.v.rungs[i].peak_bps)) : name;
        }
        real_peaks_.resize(rungs_.size());
        left_out_ = left_out == title_.video.size() ? 0 : left_out;
        peaks_ = std::move(peaks);
        adapt();
        if (!load(rung()) || (audio() != nullptr && !load(*audio())))
            return failed(std::move(r_.v), Cause::server, *lost_, "playlist");
        title_.live = title_.live || !rung().ended;
        if (rung().segments.empty())
            return failed(
                std::move(r_.v), Cause::server,
                {ErrorKind::wanting, "the playlist lists no segment", job_.address, "check what is being sent"},
                "segments");
        if (title_.duration.count() == 0 && !title_.live) {
            const Segment& last = rung().segments.back();
            title_.duration = last.from + last.duration;
        }
        if (title_.live) {
            begin_live();
            adapt(behind_);
        }
        playing_ = player_of(job_.device, title_.live ? kForEver : title_.duration, true);
        if (title_.live) playing_.buffer = kForEver;
        player_.emplace(playing_);
        reached_at_start_ = reached_;
        audio_reached_ = reached_;
        return std::nullopt;
    }

    // Behind the newest as far as it asks for, or three segments.
    void begin_live() {
        const std::vector<Segment>& segments = rung().segments;
        const Time edge = segments.back().from + segments.back().duration;
        const Time wanted =
            title_.delay.count() > 0 ? title_.delay : 3 * std::max(rung().longest, segments.back().duration);
        std::size_t index = segments.size() - 1;
        while (index > 0 && edge - segments[index].from < wanted) --index;
        reached_ = segments[index].from;
        next_number_ = segments[index].number;
        behind_ = edge - reached_;
        listed_ = edge;
        if (audio() == nullptr) return;
        // Audio whose list has other numbers begins as far from its end.
        const std::vector<Segment>& heard = audio()->segments;
        const auto same =
            std::find_if(heard.begin(), heard.end(), [&](const Segment& one) { return one.number == next_number_; });
        const std::size_t from_end = segments.size() - index;
        next_audio_ = same != heard.end() ? same->number
                      : heard.empty()     ? next_number_
                                          : heard[heard.size() - std::min(heard.size(), from_end)].number;
    }

    // Of a live one: what has been added.
    void refresh() {
        const Time wait = title_.update.count() > 0 ? title_.update / 2 : std::max<Time>(rung().longest / 4, 500ms);
        r_.clock->wait_until(asked_ + std::clamp<Time>(wait, 200ms, 5s));
        asked_ = r_.clock->now();
        if (!title_.dash) {
            if (load(rung())) note_edge(rung());
            return;
        }
        auto text = fetch({title_.address, {}});
        if (!text) {
            lost_ = text.error();
            return;
        }
        const auto now_ms =
            std::chrono::duration_cast<std::chrono::milliseconds>(std::chrono::system_clock::now().time_since_epoch())
                .count();
        auto again = source::read_adaptive_title({reinterpret_cast<const char*>(text->data()), text->size()},
                                                 title_.address, now_ms);
        if (!again) {
            lost_ = again.error();
            return;
        }
        for (std::size_t i = 0; i < std::min(again->video.size(), title_.video.size()); ++i)
            title_.video[i].segments = std::move(again->video[i].segments);
        for (std::size_t i = 0; i < std::min(again->audio.size(), title_.audio.size()); ++i)
            title_.audio[i].segments = std::move(again->audio[i].segments);
        title_.live = again->live;
        note_edge(rung());
    }
    void note_edge(const Rendition& one) {
        if (one.segments.empty()) return;
        const Time edge = one.segments.back().from + one.segments.back().duration;
        appeared_ += std::max(edge - listed_, Time{});
        listed_ = std::max(listed_, edge);
    }

    // By the device's own rule; DASH is played by a page, which has the usual one.
    void adapt(Time behind = {}) {
        device::Playing playing = job_.device.playing;
        if (title_.dash) playing.adapting = {};
        measure::AdaptationSettings settings = measure::adaptation_of(playing, behind);
        if (playing.adapting.first_listed) {
            const auto listed = std::min_element(rungs_.begin(), rungs_.end(), [&](std::size_t a, std::size_t b) {
                return title_.video[a].listed < title_.video[b].listed;
            });
            settings.first = static_cast<std::size_t>(listed - rungs_.begin());
        }
        adaptation_.emplace(peaks_, settings);
    }

    Time buffer() const { return player_->started() ? base_position() - player_->position() : base_position(); }
    // Media that has come, from where it began to play.
    Time base_position() const {
        const Time both = title_.audio.empty() ? reached_ : std::min(reached_, audio_reached_);
        return both - reached_at_start_;
    }

    void change(const measure::Adaptation::Choice& choice) {
        if (choice.rung == shown_rung_) return;
        r_.v.changes.push_back({r_.clock->now(), reached_, shown_rung_.value_or(choice.rung), choice.rung, choice.why});
        shown_rung_ = choice.rung;
    }

    void fetch_next() {
        player_->arrived(r_.clock->now(), {});
        change(adaptation_->next(buffer(), player_->started()));
        // (A list whose segments it hasn't come to the end of isn't asked for anew: a server may wait for more.)
        if (upcoming(rung()) == nullptr && !load(rung())) return;
        const Segment* segment = upcoming(rung());
        if (segment == nullptr) return;  // (A rung whose list is shorter.)
        if (title_.live && !title_.dash && segment->number > next_number_) {
            lost_ = Error{ErrorKind::wanting, "segments expired before download", job_.address,
                          "the link is too slow, or the playlist too short"};
            return;
        }
        const ByteVector* const head = header(rung());
        if (head == nullptr) return;
        const Time begun = r_.clock->now();
        std::optional<measure::Adaptation::Choice> instead;
        const Segment taken = *segment;
        const bool in_parts = !job_.device.playing.whole_segments && title_.audio.empty();
        auto bytes = fetch(taken.at, [&](std::uint64_t got, std::uint64_t whole) {
            const double part = whole > 0 ? std::min(static_cast<double>(got) / static_cast<double>(whole), 1.0) : 0;
            const Time come =
                in_parts ? base_position() + base::from_seconds(base::to_seconds(taken.duration) * part) : Time{};
            player_->arrived(r_.clock->now(), come);
            instead = adaptation_->give_up(got, whole, r_.clock->now() - begun,
                                           std::max(base_position() - player_->position(), Time{}));
            return !instead;
        });
        if (!bytes) {
            lost_ = bytes.error();
            return;
        }
        if (instead) {
            given_up_ += bytes->size();
            change(*instead);
            return;
        }
        adaptation_->measured(bytes->size(), r_.clock->now() - begun);
        const std::size_t number = adaptation_->rung();
        note_segment(number, taken, *head, *bytes);
        const Time from = reached_;
        reached_ = taken.from + taken.duration;
        if (!title_.dash) reached_ = from + taken.duration;
        next_number_ = taken.number + 1;
        r_.v.rungs[number].played += taken.duration;
        std::uint64_t with_audio = bytes->size();
        fetch_audio(with_audio);
        pieces_.push_back({from - reached_at_start_, reached_ - reached_at_start_, with_audio});
        real_peaks_[number] = std::max(
            real_peaks_[number], static_cast<double>(with_audio) * 8 / std::max(base::to_seconds(taken.duration), 0.1));
        ++fetched_;
        player_->arrived(r_.clock->now(), base_position());
    }

    // Audio up to where the video is.
    void fetch_audio(std::uint64_t& bytes) {
        Rendition* const heard = audio();
        if (heard == nullptr || lost_) return;
        const bool by_number = title_.live && !title_.dash;
        while (audio_reached_ < reached_ - 100ms && !lost_) {
            const auto find = [&] {
                return std::find_if(heard->segments.begin(), heard->segments.end(), [&](const Segment& one) {
                    return by_number ? one.number >= next_audio_ : one.from + one.duration > audio_reached_ + 50ms;
                });
            };
            auto next = find();
            // Of a live one: it may have been added since.
            if (next == heard->segments.end() && by_number) {
                if (!load(*heard)) return;
                next = find();
            }
            if (next == heard->segments.end()) {
                // (It comes with the next; the end of audio need not be that of the video.)
                if (!title_.live) audio_reached_ = std::max(audio_reached_, reached_ - 100ms);
                return;
            }
            const ByteVector* const head = header(*heard);
            if (head == nullptr) return;
            const Segment taken = *next;
            auto got = fetch(taken.at);
            if (!got) {
                lost_ = got.error();
                return;
            }
            bytes += got->size();
            note_audio(*head, *got);
            audio_reached_ = by_number ? audio_reached_ + taken.duration : taken.from + taken.duration;
            next_audio_ = taken.number + 1;
        }
    }

    // What is promised of a segment against what it holds, and whether it goes on where the one before ended.
    void note_segment(std::size_t number, const Segment& segment, const ByteVector& head, const ByteVector& bytes) {
        ByteVector whole = head;
        whole.insert(whole.end(), bytes.begin(), bytes.end());
        if (kept_.size() < 4 && std::find(kept_rungs_.begin(), kept_rungs_.end(), number) == kept_rungs_.end()) {
            kept_rungs_.push_back(number);
            kept_.push_back(whole);
        }
        const Contents contents = look_into(std::move(whole));
        if (!contents.problem.empty()) {
            if (problem_.empty()) problem_ = fmt::format("{}: {}", r_.v.rungs[number].name, contents.problem);
            end_.reset();
            return;
        }
        tracks_.try_emplace(number, contents.tracks);
        no_keys_ += contents.key ? 0 : 1;
        const Time length = contents.to - contents.from;
        const Time off = std::chrono::abs(length - segment.duration);
        if (off > std::max<Time>(60ms, segment.duration / 50)) ++wrong_durations_;
        if (end_ && !rung().transport) {
            const Time gap = contents.from - *end_;
            if (std::chrono::abs(gap) > kApart) {
                ++gaps_;
                if (last_number_ != number) ++gaps_at_changes_;
                worst_gap_ = std::max(worst_gap_, std::chrono::abs(gap));
            }
        }
        end_ = contents.to;
        last_number_ = number;
    }
    void note_audio(const ByteVector& head, const ByteVector& bytes) {
        ByteVector whole = head;
        whole.insert(whole.end(), bytes.begin(), bytes.end());
        const Contents contents = look_into(std::move(whole));
        if (!contents.problem.empty()) {
            if (problem_.empty()) problem_ = fmt::format("audio: {}", contents.problem);
            audio_end_.reset();
            return;
        }
        if (audio_tracks_.empty()) audio_tracks_ = contents.tracks;
        if (audio_end_ && std::chrono::abs(contents.from - *audio_end_) > 5ms) ++audio_gaps_;
        audio_end_ = contents.to;
    }

    void wait_for_room() {
        if (title_.live || lost_) return;
        const Time now = r_.clock->now(), room = player_->room_at(now);
        if (room <= now) return;
        r_.clock->wait_until(room);
        player_->arrived(room, {});
    }

    Result<Verification> judge();
    void judge_content();
    void judge_promises();
    void judge_completeness();
    void judge_rungs();
    void judge_player();
    std::int64_t slowest_link() const {
        std::int64_t slowest = job_.link.payload_bps;
        for (const net::RateStep& step : job_.squeeze) slowest = std::min(slowest, step.rate_bps);
        return slowest;
    }
    Status try_seeks();

    Receiving& r_;
    const Job& job_;
    const Cancel& cancel_;
    LinkClient client_;
    AdaptiveTitle title_;
    std::vector<std::size_t> rungs_;  // those that the device takes, of title_.video
    std::size_t left_out_ = 0;
    std::optional<measure::Adaptation> adaptation_;
    measure::PlayerSettings playing_;
    std::optional<measure::PlaybackModel> player_;
    ByteVector buffer_ = ByteVector(r_.link.piece());
    std::map<std::string, ByteVector> headers_;
    std::optional<std::size_t> shown_rung_;
    Time reached_{}, audio_reached_{}, reached_at_start_{};  // on the title's timeline
    std::vector<std::int64_t> peaks_;
    std::uint64_t next_number_ = 0, next_audio_ = 0, fetched_ = 0, given_up_ = 0;
    Time behind_{}, listed_{}, appeared_{};  // of live ones
    Time asked_{};                           // when a list or the manifest was asked for last
    std::vector<RatePiece> pieces_;
    std::vector<double> real_peaks_;  // bits a second, of the segments of each rung with their audio
    std::optional<Error> lost_;
    // What segments hold.
    std::vector<std::size_t> kept_rungs_;
    std::vector<ByteVector> kept_;
    std::map<std::size_t, std::vector<Track>> tracks_;
    std::vector<Track> audio_tracks_;
    std::optional<Time> end_, audio_end_;
    std::size_t last_number_ = 0;
    int no_keys_ = 0, wrong_durations_ = 0, gaps_ = 0, gaps_at_changes_ = 0, audio_gaps_ = 0;
    Time worst_gap_{};
    std::string problem_;
};

Result<Verification> LadderPlay::judge() {
    Verification& v = r_.v;
    const measure::RateCurve rate(pieces_);
    v.duration = title_.live ? reached_ - reached_at_start_ : title_.duration;
    v.mean_bps = rate.mean_bps();
    v.peak_1s_bps = rate.peak_bps();
    v.started = player_->started();
    v.startup = player_->startup().value_or(Time{});
    v.stalls = measure::seen_stalls(player_->stalls());
    v.levels = player_->levels();
    if (fetched_ == 0)
        return failed(
            std::move(v), Cause::server,
            lost_ ? *lost_ : Error{ErrorKind::wanting, "no segment came", job_.address, "check what is being sent"},
            "segments");
    fill_seconds(v, rate.per_second(), r_.received);
    const Cause cause = r_.cause();
    add(v, "playlist", Verdict::pass,
        fmt::format("{}, {}{}", title_.dash ? "DASH" : "HLS", base::format_count(title_.video.size(), "rung"),
                    title_.live ? ", live" : fmt::format(", {}", base::format_clock(title_.duration))),
        "");
    if (left_out_ > 0)
        add(v, "rungs for this device", Verdict::pass,
            fmt::format("{} of {}; the others are beyond what it decodes", rungs_.size(), title_.video.size()), "");
    add(v, "segments", lost_ ? Verdict::fail : Verdict::pass, lost_ ? lost_->what : fmt::format("{} fetched", fetched_),
        "all", lost_ ? lost_->remedy : "");
    judge_content();
    if (title_.live)
        add_seen(v, job_, std::min(reached_ - reached_at_start_, appeared_ + rung().longest * 3 / 2), false);
    judge_promises();
    if (!title_.live && !lost_) {
        judge_completeness();
        WAVECREST_TRY(try_seeks());
    }
    judge_rungs();
    judge_player();
    add_ladder_playback(v, cause, slowest_link() >= title_.video[rungs_.front()].peak_bps);
    if (title_.live && v.started) add_delay(r_, behind_ + v.startup);
    conclude_live(v, cause);
    if (v.verdict == Verdict::pass)
        v.summary += fmt::format(", {}", v.changes.size() <= 1
                                             ? "one bit rate throughout"
                                             : base::format_count(v.changes.size() - 1, "change") + " of bit rate");
    return std::move(v);
}

void LadderPlay::judge_content() {
    Verification& v = r_.v;
    v.checks.push_back(device::judge_protocol(job_.device, title_.dash ? "dash" : "hls"));
    if (base::Address(job_.address).scheme() == base::Scheme::https)
        v.checks.push_back(device::judge_protocol(job_.device, "https"));
    if (!problem_.empty()) {
        add(v, "content", Verdict::fail, problem_, "media", "check what is being sent");
        return;
    }
    // The largest that was played stands for all.
    if (!tracks_.empty()) {
        std::vector<Track> tracks = tracks_.rbegin()->second;
        tracks.insert(tracks.end(), audio_tracks_.begin(), audio_tracks_.end());
        for (device::Check& check : device::judge(job_.device, "", tracks, v.peak_1s_bps))
            v.checks.push_back(std::move(check));
    }
    // One segment of each of some rungs is decoded.
    for (std::size_t i = 0; i < kept_.size(); ++i) {
        const auto media =
            container::open_media(std::make_shared<base::MemorySource>(std::move(kept_[i]), job_.address));
        if (!media) continue;
        const std::size_t before = v.checks.size();
        add_pictures(v, job_, *media->source, 0, cancel_);
        for (std::size_t k = before; k < v.checks.size(); ++k) v.checks[k].name += " " + v.rungs[kept_rungs_[i]].name;
    }
}

// Playlists and manifest against the segments.
void LadderPlay::judge_promises() {
    Verification& v = r_.v;
    std::string over;
    for (std::size_t i = 0; i < rungs_.size(); ++i) {
        const auto promised = static_cast<double>(title_.video[rungs_[i]].peak_bps);
        if (real_peaks_[i] > promised * kOverPromise)
            over += fmt::format("{}{}: {} needed, {} promised", over.empty() ? "" : "; ", v.rungs[i].name,
                                base::format_bitrate(static_cast<std::int64_t>(real_peaks_[i])),
                                base::format_bitrate(title_.video[rungs_[i]].peak_bps));
    }
    add(v, "bandwidth promised", over.empty() ? Verdict::pass : Verdict::warn, over.empty() ? "kept" : over, "kept",
        "players go by what is promised, and will stall: correct BANDWIDTH (bandwidth of DASH)");
    add(v, "segment durations", wrong_durations_ == 0 ? Verdict::pass : Verdict::warn,
        wrong_durations_ == 0 ? "as listed" : fmt::format("{} of {} aren't as listed", wrong_durations_, fetched_),
        "as listed", "seeking lands elsewhere, and buffers are miscounted");
    if (rung().longest.count() > 0 && !title_.dash) {
        Time longest{};
        for (const Segment& one : rung().segments) longest = std::max(longest, one.duration);
        const bool kept = std::llround(base::to_seconds(longest)) <= std::llround(base::to_seconds(rung().longest));
        add(v, "target duration", kept ? Verdict::pass : Verdict::warn,
            fmt::format("longest segment {:.2f} s", base::to_seconds(longest)),
            fmt::format("{:.0f} s", base::to_seconds(rung().longest)), "segments longer than announced");
    }
    add(v, "segment starts", no_keys_ == 0 ? Verdict::pass : Verdict::fail,
        no_keys_ == 0 ? "keyframes" : fmt::format("{} of {} without a keyframe", no_keys_, fetched_), "keyframes",
        "players can't change the bit rate there: convert with keyframes at a fixed distance");
    add(v, "changes without a gap",
        gaps_ == 0             ? Verdict::pass
        : gaps_at_changes_ > 0 ? Verdict::fail
                               : Verdict::warn,
        gaps_ == 0 ? "no gap"
                   : fmt::format("{} of up to {}", base::format_count(static_cast<std::size_t>(gaps_), "gap"),
                                 base::format_span(worst_gap_)),
        "no gap", "the rungs aren't aligned: convert all of them at once");
    if (audio() != nullptr)
        add(v, "audio continuity", audio_gaps_ == 0 ? Verdict::pass : Verdict::warn,
            audio_gaps_ == 0 ? "no gap" : base::format_count(static_cast<std::size_t>(audio_gaps_), "gap"), "no gap",
            "audio is missing between segments");
}

// Rungs that weren't asked for this time will be on a worse day. (They are looked at beside the link.)
void LadderPlay::judge_completeness() {
    const auto fetch = source::plain_fetch(job_.address, job_.trusted);
    std::string missing, apart;
    bool own_files = false;  // segments are files of their own, of which some are asked for
    for (const std::size_t number : rungs_) {
        Rendition& one = title_.video[number];
        const Status loaded = source::load_segments(title_, one, fetch);
        const auto found = loaded ? source::first_missing(one, fetch, job_.trusted)
                                  : std::optional(source::Missing{loaded.error(), Time{}});
        if (found)
            missing += fmt::format("{}{}, from {}", missing.empty() ? "" : "; ", found->text(one),
                                   base::format_clock(found->from));
        if (!loaded) continue;
        own_files = own_files || (!one.segments.empty() && !one.segments.front().at.range);
        const auto& played = rung().segments;
        const bool aligned = one.segments.size() == played.size() &&
                             std::equal(played.begin(), played.end(), one.segments.begin(), [](auto& a, auto& b) {
                                 return std::chrono::abs(a.from - b.from) <= kListedApart;
                             });
        if (!aligned) apart += (apart.empty() ? "" : ", ") + one.name;
    }
    add(r_.v, "all bit rates there", missing.empty() ? Verdict::pass : Verdict::fail,
        missing.empty() ? base::format_count(rungs_.size(), "rung") +
                              (own_files ? ", by the first, middle and last segment of each" : ", to the end of each")
                        : missing,
        "whole", "playing stops when the player changes to it: copy the ladder's folder again, or make it again");
    add(r_.v, "segments aligned", apart.empty() ? Verdict::pass : Verdict::warn,
        apart.empty() ? "at the same times" : apart + ": segments begin at other times", "at the same times",
        "players may repeat or skip some of the video when they change to it: convert all of them at once");
}

void LadderPlay::judge_rungs() {
    Verification& v = r_.v;
    Time all{};
    double bits = 0;
    for (const RungUse& one : v.rungs) {
        all += one.played;
        bits += static_cast<double>(one.peak_bps) * base::to_seconds(one.played);
    }
    if (all.count() <= 0) return;
    // (What is squeezed on purpose is meant to.)
    const bool mostly_lowest = job_.squeeze.empty() && v.rungs.size() > 1 && v.rungs.front().played * 2 > all;
    add(v, "quality reached", mostly_lowest ? Verdict::warn : Verdict::pass,
        fmt::format("{} of {} on average",
                    base::format_bitrate(static_cast<std::int64_t>(bits / base::to_seconds(all))),
                    base::format_bitrate(v.rungs.back().peak_bps)),
        "more than the lowest",
        "the link carries little more than the lowest bit rate: connect the device by Ethernet");
    // Viewers notice pictures that become sharp and soft again and again.
    const std::size_t changes = v.changes.empty() ? 0 : v.changes.size() - 1;
    const auto down =
        std::count_if(v.changes.begin(), v.changes.end(), [](const RungChange& one) { return one.to < one.from; });
    constexpr double kMostAMinute = 6;
    const double minutes = std::max(base::to_seconds(all) / 60, 0.5);
    add(v, "changes of bit rate", static_cast<double>(changes) / minutes > kMostAMinute ? Verdict::warn : Verdict::pass,
        fmt::format("{}, {} down", changes, down), fmt::format("{:g} a minute", kMostAMinute),
        "the picture becomes sharp and soft again and again: leave a rung out, or connect the device by Ethernet");
}

// What its player is known to do wrong, where the link may become short of what it would like.
void LadderPlay::judge_player() {
    const std::string& trouble = job_.device.playing.adapting.trouble;
    if (trouble.empty() || title_.dash || rungs_.size() < 2) return;
    constexpr std::int64_t kPlenty = 4;
    const std::int64_t best = title_.video[rungs_.back()].peak_bps;
    if (slowest_link() < best * kPlenty)
        add(r_.v, "player", Verdict::warn, trouble,
            fmt::format("a link of {} at all times", base::format_bitrate(best * kPlenty)),
            "stalls that aren't foreseen here are likely: open the ladder's page (index.html, DASH) in this browser");
}

// How long until it is elsewhere: the rung's list is known, and a keyframe begins each segment.
Status LadderPlay::try_seeks() {
    const std::vector<Segment>& segments = rung().segments;
    SegmentedFilm film;
    for (const Segment& one : segments) film.ends.push_back(one.from + one.duration);
    film.fetch = [&](std::size_t number, const auto& keep_on) -> Result<bool> {
        bool whole = true;
        WAVECREST_TRY(fetch(segments[number].at, [&](std::uint64_t got, std::uint64_t all) {
            return whole =
                       keep_on(static_cast<double>(got) / static_cast<double>(std::max({all, got, std::uint64_t{1}})));
        }));
        return whole;
    };
    WAVECREST_TRY(take_seeks(r_.v, seek_in_segments(film, job_.device.playing, *r_.clock, cancel_)));
    add_skips(r_.v);
    return {};
}

}  // namespace

bool is_manifest_address(const std::string& address) {
    const std::string path = address.substr(0, address.find_first_of("?#"));
    return base::is_web_address(path) && path.ends_with(".mpd");
}

Result<Verification> run_ladder(const Job& job, const Progress& progress, const Cancel& cancel) {
    WAVECREST_TRY_ASSIGN(url, net::parse_url(job.address));
    url.trusted = job.trusted;
    // A first look tells whether it is live: what is on demand is played faster than it lasts.
    const auto now_ms = [] {
        return std::chrono::duration_cast<std::chrono::milliseconds>(
                   std::chrono::system_clock::now().time_since_epoch())
            .count();
    };
    const auto fetch = source::plain_fetch(job.address, job.trusted);
    const auto look = [&]() -> Result<AdaptiveTitle> {
        WAVECREST_TRY_ASSIGN(bytes, fetch({job.address, {}}));
        return source::read_adaptive_title({reinterpret_cast<const char*>(bytes.data()), bytes.size()}, job.address,
                                           now_ms());
    };
    auto title = wait_for(job, cancel, look);
    bool live = title && title->live;
    if (title && !title->dash && !title->video.empty()) {
        Rendition first = title->video.front();
        AdaptiveTitle copy = *title;
        if (const auto loaded = source::load_segments(copy, first, fetch); loaded) live = !first.ended;
    }
    Receiving r(job, live || job.real_time);
    if (!title) {
        if (title.error().kind == ErrorKind::interrupted) return fail(title.error());
        return failed(std::move(r.v), Cause::server, title.error(), "playlist");
    }
    // Once more, now as a player on that link does.
    LinkClient client(r, url);
    auto text = client.text(job.address);
    auto again =
        text ? source::read_adaptive_title(*text, job.address, now_ms()) : Result<AdaptiveTitle>(fail(text.error()));
    if (!again) return failed(std::move(r.v), Cause::server, again.error(), "playlist");
    again->live = live;
    LadderPlay play(r, job, url, std::move(*again), cancel);
    return play.run(progress);
}

}  // namespace wavecrest::verify
