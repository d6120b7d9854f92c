#include "verify/live.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <cmath>
#include <map>
#include <thread>

#include "base/address.hpp"
#include "base/byte_source.hpp"
#include "base/clock.hpp"
#include "base/units.hpp"
#include "container/media_playlist.hpp"
#include "container/mpeg_ts.hpp"
#include "container/reader.hpp"
#include "measure/playback.hpp"
#include "measure/rate.hpp"
#include "net/http_client.hpp"
#include "net/shaped_link.hpp"
#include "verify/checks.hpp"
#include "verify/ladder.hpp"
#include "verify/receiving.hpp"
#include "verify/seeks.hpp"
#include "verify/text_subtitles.hpp"

namespace wavecrest::verify {

using device::Verdict;
using namespace std::chrono_literals;

bool is_playlist_address(const std::string& address) {
    const std::string path = address.substr(0, address.find_first_of("?#"));
    return base::is_web_address(path) && path.ends_with(".m3u8");
}

Result<Verification> run_http_live(const Job& job, const Progress& progress, const Cancel& cancel) {
    WAVECREST_TRY_ASSIGN(url, net::parse_url(job.address));
    url.trusted = job.trusted;
    net::HttpClient client(url);
    const auto head = wait_for(job, cancel, [&] { return client.get(0); });
    Receiving r(job, true);
    if (!head) return failed(std::move(r.v), Cause::server, head.error(), "reachable");
    add(r.v, "reachable", Verdict::pass, head->media_type + ", live", "");
    measure::PlayerSettings playing = player_of(job.device, kForEver, false);
    playing.buffer = kForEver;
    measure::PlaybackModel player(playing);
    ByteVector buffer(r.link.piece());
    std::optional<Error> lost;
    bool ended = false;
    while (r.clock->now() < job.listen) {
        if (cancel.requested()) return base::interrupted();
        const Time before = r.clock->now();
        const auto got = client.read(buffer);
        r.server_time += r.clock->now() - before;
        if (!got || *got == 0) {
            if (!got) lost = got.error();
            ended = true;
            break;
        }
        r.link.pass(static_cast<std::int64_t>(*got));
        r.count(*got);
        r.take_transport(ByteSpan(buffer).first(*got));
        player.arrived(r.clock->now(), r.media.until());
        if (progress) progress({r.clock->now(), job.listen});
    }
    r.fill_seconds();
    r.rates_by_arrival(r.media.until());
    r.v.duration = r.media.until();
    r.v.paused = !ended && r.is_paused();
    const Time delay = r.media.until() - player.position();
    if (!judge_content(r, job, "http", cancel)) return std::move(r.v);
    if (lost) add(r.v, "received", Verdict::fail, lost->what, "to the end", lost->remedy);
    add_seen(r.v, job, r.media.until(), ended && !lost);
    // What is waited for of a live stream is its own pace: the link is to blame where it held things up.
    const Cause cause = r.filled() || r.v.simulated ? Cause::network : Cause::server;
    const measure::TransportReport report = r.meter.report();
    add_transport(r.v, report, "packets missing: this viewer was too slow and skipped ahead");
    add_playback(r.v, player, cause, r.filled());
    if (r.v.started) add_delay(r, delay);
    conclude_live(r.v, cause);
    return std::move(r.v);
}

namespace {

Result<container::MediaPlaylist> look_at_playlist(const Job& job, const std::string& address) {
    WAVECREST_TRY_ASSIGN(at, net::parse_url(address));
    at.trusted = job.trusted;
    WAVECREST_TRY_ASSIGN(answered, net::HttpClient::exchange(at, {.limit = base::from_seconds(15)}));
    if (answered.status != 200)
        return fail(ErrorKind::wanting, fmt::format("the server answers with status {}", answered.status), address,
                    answered.status == 404 ? "check the path (wavecrest site show, or what stream run printed)"
                                           : "check the server's log");
    return container::parse_playlist(answered.body, address);
}

// Several bit rates, or fragmented MP4: for an adaptive player.
bool is_ladder(const container::MediaPlaylist& list) {
    const bool audio_beside =
        std::any_of(list.audio.begin(), list.audio.end(), [](const auto& one) { return !one.uri.empty(); });
    return list.variants.size() > 1 || audio_beside || !list.map_uri.empty();
}

// What passes on a house's network from asking for a segment to its first byte.
constexpr Time kAsking = std::chrono::milliseconds(5);

// The best variant that the link carries; the smallest where none does.
const container::MediaPlaylist::Variant& choose_variant(const container::MediaPlaylist& list, std::int64_t link_bps) {
    const container::MediaPlaylist::Variant* best = nullptr;
    for (const auto& variant : list.variants) {
        const bool fits = variant.bandwidth_bps <= link_bps * 8 / 10;
        const bool best_fits = best != nullptr && best->bandwidth_bps <= link_bps * 8 / 10;
        if (best == nullptr || (fits && (!best_fits || variant.bandwidth_bps > best->bandwidth_bps)) ||
            (!fits && !best_fits && variant.bandwidth_bps < best->bandwidth_bps))
            best = &variant;
    }
    return *best;
}

// By how much a segment's shortest track ends before the longest: audio is often cut where it is sent, not where it is
// heard. So much of a segment can't be played until the next has come.
Time short_by(ByteVector segment) {
    const auto media = container::open_media(std::make_shared<base::MemorySource>(std::move(segment)));
    if (!media) return {};
    std::map<TrackId, Time> ends;
    for (const Track& track : media->source->tracks()) {
        if (track.kind != TrackKind::subtitle) ends[track.id] = Time::min();
    }
    while (true) {
        const auto packet = media->source->read();
        if (!packet || !*packet) break;
        if (const auto end = ends.find((*packet)->track); end != ends.end())
            end->second = std::max(end->second, (*packet)->pts + (*packet)->duration);
    }
    std::erase_if(ends, [](const auto& end) { return end.second == Time::min(); });
    if (ends.size() < 2) return {};
    const auto [least, most] =
        std::minmax_element(ends.begin(), ends.end(), [](const auto& a, const auto& b) { return a.second < b.second; });
    return std::min<Time>(most->second - least->second, 2s);
}

// What of segments that follow one another has arrived.
class SegmentArrivals : public measure::Arrivals {
  public:
    // `tail`: of each but the last, what can't be played before the next has come.
    SegmentArrivals(std::vector<RatePiece> segments, bool whole, Time tail)
        : segments_(std::move(segments)), whole_(whole), tail_(tail) {
        std::uint64_t bytes = 0;
        for (const RatePiece& one : segments_) ends_.push_back(bytes += one.bytes);
    }
    Time playable(std::uint64_t received) override {
        while (next_ < ends_.size() && ends_[next_] <= received) ++next_;
        if (next_ == ends_.size()) return segments_.empty() ? Time{} : segments_.back().to;
        const RatePiece& one = segments_[next_];
        if (whole_ || one.bytes == 0) return std::max(one.from - tail_, Time{});
        const double part = 1 - static_cast<double>(ends_[next_] - received) / static_cast<double>(one.bytes);
        return one.from + base::from_seconds(base::to_seconds(one.to - one.from) * part);
    }
    void restart() override { next_ = 0; }
    std::uint64_t bytes() const override { return ends_.empty() ? 0 : ends_.back(); }
    std::uint64_t part_end(std::uint64_t at) const override {
        return *std::upper_bound(ends_.begin(), ends_.end(), at);
    }

  private:
    std::vector<RatePiece> segments_;
    std::vector<std::uint64_t> ends_;
    bool whole_;
    Time tail_;
    std::size_t next_ = 0;
};

// A player of HLS on a device's link: what it fetched, and when.
class HlsPlay {
  public:
    HlsPlay(Receiving& r, const Job& job, net::Url url, bool live)
        : r_(r), job_(job), address_(job.address), live_(live), source_(r, std::move(url)) {}

    // Where a player begins: with the address that was entered on it. A server of live streams may give each its own
    // list, and just when it is best to begin.
    Status enter() {
        const Time before = r_.server_time;
        WAVECREST_TRY_ASSIGN(playlist, fetch_playlist());
        if (live_) r_.server_time = before;  // so it isn't slow
        std::vector<container::MediaPlaylist::Subtitles> subtitles;
        if (!playlist.variants.empty()) {
            const auto best = choose_variant(playlist, job_.link.payload_bps);
            if (best.subtitles) subtitles = playlist.subtitles;
            address_ = net::resolve_uri(address_, best.uri);
            WAVECREST_TRY_ASSIGN(list, fetch_playlist());
            playlist = std::move(list);
        }
        subtitles_.emplace(std::move(subtitles), job_.address,
                           [this](const std::string& at) { return source_.text(at); });
        entered_ = listed_at_ = r_.clock->now();
        playlist_ = std::move(playlist);
        std::size_t index = 0;
        if (live_) {
            // Where the playlist asks players to begin (4.3.5.2), or three target durations before the end (6.3.3).
            index = playlist_.segments.size();
            const bool asked = playlist_.start && playlist_.start->count() < 0;
            const Time wanted =
                asked ? -*playlist_.start : base::from_seconds(static_cast<double>(3 * playlist_.target_s));
            while (index > 0 && behind_ < wanted) behind_ += playlist_.segments[--index].duration;
        }
        next_ = playlist_.sequence + index;
        listed_ = playlist_.sequence + playlist_.segments.size();
        playing_ = player_of(job_.device, live_ ? kForEver : playlist_.duration(), true);
        if (live_) {
            playing_.buffer = kForEver;
            // It goes on with whatever comes next: there is hardly ever more.
            const Time target = std::chrono::seconds(playlist_.target_s);
            for (Time* wanted : {&playing_.resume_buffer, &playing_.most_resume_buffer}) {
                if (wanted->count() > 0) *wanted = std::min(*wanted, target);
            }
        }
        player_.emplace(playing_);
        judge_playlist();
        may_restart_ = live_ && first_segments() > 0 && playlist_.segments.size() - index >= first_segments();
        return live_ ? probe() : Status{};
    }

    // Plays to the end, or for as long as is asked for.
    Status play(const Progress& progress, const Cancel& cancel) {
        const Time begun = r_.clock->now();
        while (!lost_ && !fell_behind_ && (!live_ || r_.clock->now() - begun < job_.listen)) {
            if (cancel.requested()) return base::interrupted();
            if (next_ < playlist_.sequence) {
                lost_ = Error{ErrorKind::wanting, "segments expired before download", address_,
                              "the link is too slow, or the playlist too short"};
            } else if (next_ - playlist_.sequence < playlist_.segments.size()) {
                fetch_segment();
                if (progress)
                    progress({live_ ? r_.clock->now() - begun : reached_, live_ ? job_.listen : playlist_.duration()});
            } else if (playlist_.ended) {
                break;
            } else {
                ask_again();
            }
        }
        // Those of a live stream have a window of their own, by now of what was played.
        if (live_) subtitles_->follow(Time::max());
        if (!live_) player_->finish(r_.clock->now());
        return {};
    }

    // Fails where it was interrupted.
    Result<Verification> judge(const Cancel& cancel) {
        const Time delay = live_ && player_->started() ? behind_ + player_->startup().value_or(Time{}) : Time{};
        take_rates();
        if (fetched_ == 0)
            return failed(std::move(r_.v), Cause::server,
                          lost_ ? *lost_
                                : Error{ErrorKind::wanting, "the playlist lists no segment", address_,
                                        "check what is being sent"},
                          "segments");
        if (!judge_content(r_, job_, "hls", cancel)) return std::move(r_.v);
        add(r_.v, "segments", lost_ ? Verdict::fail : Verdict::pass,
            (lost_ ? lost_->what : fmt::format("{} fetched", fetched_)) +
                (restarted_ ? fmt::format("; restarted: the first {} took longer than {} s", first_segments(),
                                          playlist_.target_s)
                            : ""),
            "all", lost_ ? lost_->remedy : "");
        const Cause cause = r_.cause();
        if (fell_behind_)
            add(r_.v, "live edge", Verdict::fail,
                fmt::format("{} segments behind; the player skips ahead and stops at the gap", *fell_behind_),
                base::format_count(static_cast<std::size_t>(job_.device.playing.live_catch_up), "segment"),
                cause == Cause::network ? "the link is too slow for this bit rate: connect the device by Ethernet, or "
                                          "convert at a lower bit rate"
                                        : "the server, or the network up to here, is too slow");
        r_.v.paused = live_ && playlist_.paused;
        // What was listed when the player came was made before: only what comes since shows that it goes on. A segment,
        // and the time until the list is asked for again, may be on the way. (One that fell behind ended it by itself.)
        if (live_ && !fell_behind_)
            add_seen(r_.v, job_,
                     std::min(reached_, appeared_ + base::from_seconds(static_cast<double>(playlist_.target_s) * 1.5)),
                     playlist_.ended);
        if (!live_ && !playlist_.on_demand && playlist_.sequence > 0)
            add(r_.v, "seen", job_.to_end ? Verdict::pass : Verdict::fail, "the stream has ended", "a stream",
                "the stream has ended: start it again, then verify it");
        subtitles_->conclude(r_.v);
        if (!live_ && !lost_) WAVECREST_TRY(try_seeks(cancel));
        if (!live_ && !lost_) {
            SegmentArrivals arrivals(pieces_, job_.device.playing.whole_segments, tail_);
            r_.v.slowest_link_bps = measure::slowest_link(playing_, arrivals, kAsking, most_asked_of_a_link(r_.v));
        }
        add_playback(r_.v, *player_, cause, r_.filled());
        if (live_ && r_.v.started) add_delay(r_, delay);
        conclude_live(r_.v, cause);
        return std::move(r_.v);
    }

  private:
    Result<container::MediaPlaylist> fetch_playlist() {
        WAVECREST_TRY_ASSIGN(text, source_.text(address_));
        return container::parse_playlist(text, address_);
    }

    // Some players look into the first segment of the list, wherever they begin; where they begin with it, it is read
    // but once.
    Status probe() {
        auto wanted = static_cast<std::size_t>(job_.device.playing.live_probe);
        if (wanted == 0 || playlist_.segments.empty() || next_ == playlist_.sequence) return {};
        WAVECREST_TRY(source_.begin(net::resolve_uri(address_, playlist_.segments.front().uri)));
        while (wanted > 0) {
            WAVECREST_TRY_ASSIGN(got, source_.piece(std::span(buffer_).first(std::min(wanted, buffer_.size()))));
            if (got == 0) return {};
            wanted -= got;
        }
        source_.close();
        return {};
    }

    std::size_t first_segments() const { return static_cast<std::size_t>(job_.device.playing.live_restart); }

    // Some players then drop what they have, and the rest of what was listed, too.
    bool restart_live() {
        const Time now = r_.clock->now();
        if (!may_restart_ || fetched_ != first_segments() || playlist_.ended ||
            now - entered_ <= base::from_seconds(static_cast<double>(playlist_.target_s)))
            return false;
        next_ = playlist_.sequence + playlist_.segments.size();
        behind_ = player_->drop(now);  // (what comes next was listed when this began)
        dropped_ = reached_ - behind_;
        r_.kept.clear();  // what comes next doesn't follow it
        return restarted_ = true;
    }

    void judge_playlist() {
        add(r_.v, "playlist", Verdict::pass,
            live_ ? fmt::format("live, {} segments listed", playlist_.segments.size())
                  : fmt::format("{} segments, {}", playlist_.segments.size(), base::format_clock(playlist_.duration())),
            "");
        Time longest{};
        for (const auto& segment : playlist_.segments) longest = std::max(longest, segment.duration);
        const bool kept_promise = std::llround(base::to_seconds(longest)) <= playlist_.target_s;
        add(r_.v, "target duration", kept_promise ? Verdict::pass : Verdict::warn,
            fmt::format("longest segment {:.2f} s", base::to_seconds(longest)), fmt::format("{} s", playlist_.target_s),
            "segments longer than announced");
    }

    // For the playlist of a stream that goes on.
    void ask_again() {
        // 6.3.4: not before half a target duration has passed since.
        r_.clock->wait_until(listed_at_ +
                             base::from_seconds(std::max<double>(0.5, static_cast<double>(playlist_.target_s) / 4)));
        listed_at_ = r_.clock->now();
        auto again = fetch_playlist();
        if (!again) {
            lost_ = again.error();
            return;
        }
        for (std::size_t i = 0; i < again->segments.size(); ++i) {
            if (again->sequence + i >= std::max(listed_, playlist_.sequence + playlist_.segments.size()))
                appeared_ += again->segments[i].duration;
        }
        playlist_ = std::move(*again);
        catch_up();
    }

    // Some players then leave out what is old already, and can't get over the gap.
    void catch_up() {
        const auto most = static_cast<std::uint64_t>(job_.device.playing.live_catch_up);
        const std::uint64_t listed = playlist_.sequence + playlist_.segments.size();
        if (most == 0 || listed <= next_ + most) return;
        fell_behind_ = static_cast<std::size_t>(listed - next_);
    }

    void fetch_segment() {
        const auto& segment = playlist_.segments[static_cast<std::size_t>(next_ - playlist_.sequence)];
        const auto head = source_.begin(net::resolve_uri(address_, segment.uri));
        if (!head) {
            lost_ = head.error();
            return;
        }
        std::uint64_t bytes = 0;
        ByteVector first;
        while (true) {
            const auto got = source_.piece(buffer_);
            if (!got) {
                lost_ = got.error();
                return;
            }
            if (*got == 0) break;
            bytes += *got;
            r_.count(*got);
            r_.keep(ByteSpan(buffer_).first(*got));
            if (fetched_ == 0)
                first.insert(first.end(), buffer_.begin(), buffer_.begin() + static_cast<std::ptrdiff_t>(*got));
            const double part =
                head->body_size > 0 ? static_cast<double>(bytes) / static_cast<double>(head->body_size) : 0;
            const bool in_parts = !job_.device.playing.whole_segments;
            player_->arrived(r_.clock->now(),
                             in_parts ? reached_ - dropped_ +
                                            base::from_seconds(base::to_seconds(segment.duration) * std::min(part, 1.0))
                                      : Time{});
        }
        pieces_.push_back({reached_, reached_ + segment.duration, bytes});
        reached_ += segment.duration;
        if (!live_) subtitles_->follow(reached_);
        const Time now = r_.clock->now();
        if (fetched_ == 0) tail_ = short_by(std::move(first));
        ++fetched_;
        if (restart_live()) return;
        const bool last = playlist_.ended && next_ + 1 == playlist_.sequence + playlist_.segments.size();
        player_->arrived(now, std::max((last ? reached_ : reached_ - tail_) - dropped_, Time{}));
        // What it has is enough: it asks for the next when it has played some of it.
        if (const Time room = player_->room_at(now); !live_ && room > now) {
            r_.clock->wait_until(room);
            player_->arrived(room, {});
        }
        ++next_;
    }

    void take_rates() {
        const measure::RateCurve rate(pieces_);
        r_.v.duration = live_ ? reached_ : playlist_.duration();
        r_.v.mean_bps = rate.mean_bps();
        r_.v.peak_1s_bps = rate.peak_bps();
        r_.fill_seconds();
        const std::vector<double> by_second = rate.per_second();
        for (std::size_t i = 0; i < r_.v.seconds.size() && i < by_second.size(); ++i)
            r_.v.seconds[i].stream_bps = by_second[i];
    }

    // How long a player takes to be elsewhere in a film.
    Status try_seeks(const Cancel& cancel) {
        SegmentedFilm film;
        Time end{};
        for (const auto& segment : playlist_.segments) film.ends.push_back((end += segment.duration) - tail_);
        if (!film.ends.empty()) film.ends.back() = end;
        film.fetch = [this](std::size_t number, const auto& keep_on) -> Result<bool> {
            WAVECREST_TRY_ASSIGN(head, source_.begin(net::resolve_uri(address_, playlist_.segments[number].uri)));
            for (std::uint64_t bytes = 0;;) {
                WAVECREST_TRY_ASSIGN(got, source_.piece(buffer_));
                if (got == 0) return true;
                bytes += got;
                if (keep_on(static_cast<double>(bytes) / static_cast<double>(std::max(head.body_size, bytes))))
                    continue;
                source_.close();
                return false;
            }
        };
        WAVECREST_TRY(take_seeks(r_.v, seek_in_segments(film, job_.device.playing, *r_.clock, cancel)));
        add_skips(r_.v);
        return {};
    }

    Receiving& r_;
    const Job& job_;
    std::string address_;  // of the playlist of segments
    const bool live_;
    LinkClient source_;
    std::optional<TextSubtitles> subtitles_;
    container::MediaPlaylist playlist_;
    measure::PlayerSettings playing_;
    std::optional<measure::PlaybackModel> player_;
    ByteVector buffer_ = ByteVector(r_.link.piece());
    std::vector<RatePiece> pieces_;
    // By number of the sequence, so that a playlist that moved on is followed.
    std::uint64_t next_ = 0, listed_ = 0;
    std::uint64_t fetched_ = 0;
    // When the list had come, and when it was asked for last.
    Time entered_{}, listed_at_{};
    Time dropped_{};  // of what was fetched: the player started anew behind it
    bool may_restart_ = false, restarted_ = false;
    Time behind_{};    // the live edge, on entering
    Time appeared_{};  // length of segments that were listed since
    Time reached_{};
    Time tail_{};  // of each segment: see short_by()
    std::optional<Error> lost_;
    std::optional<std::size_t> fell_behind_;  // by so many segments: see catch_up()
};

}  // namespace

Result<Verification> run_hls(const Job& job, const Progress& progress, const Cancel& cancel) {
    WAVECREST_TRY_ASSIGN(url, net::parse_url(job.address));
    url.trusted = job.trusted;
    // A first look tells which kind it is: films are played faster than they last, live streams can't be.
    std::string address = job.address;
    auto list = wait_for(job, cancel, [&] { return look_at_playlist(job, address); });
    if (list && is_ladder(*list)) return run_ladder(job, progress, cancel);
    if (list && !list->variants.empty()) {
        address = net::resolve_uri(address, choose_variant(*list, job.link.payload_bps).uri);
        list = look_at_playlist(job, address);
        if (list && is_ladder(*list)) return run_ladder(job, progress, cancel);
    }
    const bool live = list && !list->ended;
    Receiving r(job, live || job.real_time);
    if (!list) return failed(std::move(r.v), Cause::server, list.error(), "playlist");
    if (list->encrypted)
        return failed(std::move(r.v), Cause::device,
                      {ErrorKind::input, "its segments are encrypted", address, "use a stream that isn't"}, "segments");
    HlsPlay play(r, job, std::move(url), live);
    // Once more, now as a player on that link does.
    if (const Status entered = play.enter(); !entered)
        return failed(std::move(r.v), Cause::server, entered.error(), "playlist");
    WAVECREST_TRY(play.play(progress, cancel));
    return play.judge(cancel);
}

}  // namespace wavecrest::verify
