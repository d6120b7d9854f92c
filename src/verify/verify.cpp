#include "verify/verify.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <memory>
#include <thread>

#include "base/clock.hpp"
#include "base/units.hpp"
#include "container/mp4_reader.hpp"
#include "container/sniff.hpp"
#include "measure/rate.hpp"
#include "net/http_client.hpp"
#include "net/shaped_link.hpp"
#include "profile/profile.hpp"
#include "verify/checks.hpp"
#include "verify/datagrams.hpp"
#include "verify/live.hpp"

namespace wavecrest::verify {
namespace {

using device::Check;
using device::Verdict;

constexpr std::size_t kPiece = 16 * 1024;   // what is read and passed over the link at a time
constexpr std::uint64_t kReadOn = 1 << 20;  // a gap shorter than this is read through, not skipped by a request
constexpr double kSlowStart = 5, kTooSlowStart = 15;  // seconds
constexpr double kSlowSkip = 3, kTooSlowSkip = 8;
constexpr double kHeadroom = 0.8;  // of a link that may be filled by a stream's busiest second

// The remote file as it arrives over the link: a byte source for the index, then a sequential body. Everything received
// from the start is kept until the index is known.
class RemoteFile : public base::ByteSource {
  public:
    RemoteFile(net::Url url, net::ShapedLink& link, Clock& clock)
        : name_(url.text()), client_(url), tail_(std::move(url)), link_(link), clock_(clock) {}

    Status open() {
        const Time before = clock_.now();
        WAVECREST_TRY_ASSIGN(head, client_.get(0));
        server_time_ += clock_.now() - before;
        size_ = head.full_size;
        head_ = head;
        return {};
    }
    std::uint64_t size() const override { return size_; }
    std::string name() const override { return name_; }
    const net::ResponseHead& head() const { return head_; }
    std::uint64_t received() const { return position_; }
    Time server_time() const { return server_time_; }

    Result<std::size_t> read_at(std::uint64_t offset, std::span<std::uint8_t> buffer) override {
        const std::uint64_t end = std::min<std::uint64_t>(offset + buffer.size(), size_);
        if (offset >= end) return 0;
        if (end <= prefix_.size() + kReadOn) {
            while (prefix_.size() < end) {
                WAVECREST_TRY_ASSIGN(got, next());
                if (got == 0) break;
            }
            const std::uint64_t have = std::min<std::uint64_t>(end, prefix_.size());
            if (offset >= have) return 0;
            std::copy(prefix_.begin() + static_cast<std::ptrdiff_t>(offset),
                      prefix_.begin() + static_cast<std::ptrdiff_t>(have), buffer.begin());
            return static_cast<std::size_t>(have - offset);
        }
        // Far away (an index behind the pictures, or one that is long): a request of its own.
        WAVECREST_TRY(tail_.get(offset, end - 1));
        std::size_t done = 0;
        while (done < end - offset) {
            WAVECREST_TRY_ASSIGN(
                got, piece(tail_, buffer.subspan(done, std::min<std::size_t>(
                                                           kPiece, static_cast<std::size_t>(end - offset) - done))));
            if (got == 0) break;
            done += got;
        }
        return done;
    }

    void close() { client_.close(); }
    // The index is known: what follows needs not be kept.
    void forget_prefix() {
        keep_ = false;
        prefix_ = {};
    }
    // Takes the next piece of the sequential body; 0 at its end.
    Result<std::size_t> next() {
        ByteVector buffer(kPiece);
        WAVECREST_TRY_ASSIGN(got, piece(client_, buffer));
        position_ += got;
        if (keep_) prefix_.insert(prefix_.end(), buffer.begin(), buffer.begin() + static_cast<std::ptrdiff_t>(got));
        return got;
    }
    // Reads `count` bytes from `offset` in a request of its own; the time until the last has arrived.
    Result<Time> fetch(std::uint64_t offset, std::uint64_t count) {
        const Time start = clock_.now();
        WAVECREST_TRY(tail_.get(offset));
        ByteVector buffer(kPiece);
        for (std::uint64_t done = 0; done < count;) {
            WAVECREST_TRY_ASSIGN(got, piece(tail_, std::span(buffer).first(static_cast<std::size_t>(
                                                       std::min<std::uint64_t>(kPiece, count - done)))));
            if (got == 0) break;
            done += got;
        }
        tail_.close();  // a player gives the rest up, too
        return clock_.now() - start;
    }

  private:
    Result<std::size_t> piece(net::HttpClient& client, std::span<std::uint8_t> buffer) {
        const Time before = clock_.now();
        WAVECREST_TRY_ASSIGN(got, client.read(buffer));
        server_time_ += clock_.now() - before;
        link_.pass(static_cast<std::int64_t>(got));
        return got;
    }

    std::string name_;
    net::HttpClient client_;
    net::HttpClient tail_;
    net::ShapedLink& link_;
    Clock& clock_;
    net::ResponseHead head_;
    std::uint64_t size_ = 0;
    std::uint64_t position_ = 0;
    bool keep_ = true;
    ByteVector prefix_;
    Time server_time_{};
};

// Up to which time of the title everything has arrived, given how far the file has.
class ArrivalMap {
  public:
    explicit ArrivalMap(const container::Mp4Movie& movie) : duration_(movie.duration) {
        for (const container::Mp4Track& track : movie.tracks) {
            if (track.info.kind == TrackKind::subtitle || track.samples.empty()) continue;
            Lane lane;
            for (const container::Mp4Sample& s : track.samples)
                lane.samples.push_back({s.offset + s.size, std::max(s.pts, Time{})});
            std::stable_sort(lane.samples.begin(), lane.samples.end(),
                             [](const Arrival& a, const Arrival& b) { return a.end < b.end; });
            // What is playable is limited by the earliest sample that is still missing.
            Time earliest = duration_;
            for (auto a = lane.samples.rbegin(); a != lane.samples.rend(); ++a)
                a->until = earliest = std::min(earliest, a->until);
            lanes_.push_back(std::move(lane));
        }
    }
    Time playable(std::uint64_t received) {
        Time until = duration_;
        for (Lane& lane : lanes_) {
            while (lane.next < lane.samples.size() && lane.samples[lane.next].end <= received) ++lane.next;
            if (lane.next < lane.samples.size()) until = std::min(until, lane.samples[lane.next].until);
        }
        return until;
    }

  private:
    struct Arrival {
        std::uint64_t end;
        Time until;
    };
    struct Lane {
        std::vector<Arrival> samples;
        std::size_t next = 0;
    };
    Time duration_;
    std::vector<Lane> lanes_;
};

// The bit rate shown at each second of the player's clock: the title's, moved by the start and the stalls.
void fill_seconds(Verification& v, const std::vector<double>& title_rate, const std::vector<std::uint64_t>& received) {
    const Time end = v.levels.empty() ? Time{} : v.levels.back().clock;
    const auto count = std::max(static_cast<std::size_t>(base::to_seconds(end)) + 1, received.size());
    v.seconds.resize(count);
    for (std::size_t i = 0; i < received.size(); ++i) v.seconds[i].received_bps = static_cast<double>(received[i]) * 8;
    if (!v.started) return;
    for (std::size_t i = 0; i < count; ++i) {
        Time clock = base::from_seconds(static_cast<double>(i) + 0.5);
        bool standing = clock < v.startup;
        Time position = clock - v.startup;
        for (const measure::Stall& stall : v.stalls) {
            if (clock < stall.clock) break;
            standing |= clock < stall.clock + stall.length;
            position -= std::min(stall.length, clock - stall.clock);
        }
        const auto second = static_cast<std::size_t>(std::max(base::to_seconds(position), 0.0));
        if (!standing && second < title_rate.size()) v.seconds[i].stream_bps = title_rate[second];
    }
}

// A built-in profile whose rate leaves headroom on the link.
std::string fitting_profile(const device::Link& link) {
    const profile::Profile* best = nullptr;
    for (const profile::Profile& p : profile::built_in()) {
        const std::int64_t rate = p.video.peak_bps + p.audio.bitrate_bps;
        if (p.video.peak_bps == 0 || static_cast<double>(rate) > kHeadroom * static_cast<double>(link.payload_bps))
            continue;
        if (best == nullptr || p.video.peak_bps > best->video.peak_bps) best = &p;
    }
    return best != nullptr ? fmt::format("convert the film for it with the profile {} (at most {})", best->name,
                                         base::format_bitrate(best->video.peak_bps + best->audio.bitrate_bps))
                           : fmt::format("convert the film with a profile of at most {}",
                                         base::format_bitrate(static_cast<std::int64_t>(
                                             kHeadroom * static_cast<double>(link.payload_bps))));
}

void judge_playback(Verification& v, Short stall_cause, const container::Mp4Movie& movie) {
    const double startup = base::to_seconds(v.startup);
    if (v.started) {
        add(v, "startup",
            startup > kTooSlowStart ? Verdict::fail
            : startup > kSlowStart  ? Verdict::warn
                                    : Verdict::pass,
            base::format_span(v.startup), fmt::format("{:g} s", kSlowStart),
            movie.index_in_front ? "people wait too long for the first picture"
                                 : "the index lies behind the pictures, so the player first fetches the end of the "
                                   "file; convert or rewrap it with the index in front");
    }
    Time stood{};
    for (const measure::Stall& stall : v.stalls) stood += stall.length;
    add(v, "stalls", v.stalls.empty() ? Verdict::pass : Verdict::fail,
        v.stalls.empty() ? "none" : fmt::format("{}, {} in all", v.stalls.size(), base::format_span(stood)), "none",
        stall_cause == Short::server ? "the server did not deliver in time" : "the link did not deliver in time");
    if (!v.skips.empty()) {
        Time longest{};
        std::string measured;
        for (const Skip& skip : v.skips) {
            longest = std::max(longest, skip.first_picture);
            measured += (measured.empty() ? "" : ", ") + base::format_span(skip.first_picture);
        }
        const double seconds = base::to_seconds(longest);
        add(v, "skips",
            seconds > kTooSlowSkip ? Verdict::fail
            : seconds > kSlowSkip  ? Verdict::warn
                                   : Verdict::pass,
            measured, fmt::format("{:g} s", kSlowSkip), "after a skip the picture takes long to come back");
    }
    const auto peak = static_cast<double>(v.peak_1s_bps), link = static_cast<double>(v.link.payload_bps);
    const bool carried = v.stalls.empty();
    add(v, "link",
        peak <= kHeadroom * link ? Verdict::pass
        : carried                ? Verdict::warn
                                 : Verdict::fail,
        fmt::format("{} on average, {} in the busiest second", base::format_bitrate(v.mean_bps),
                    base::format_bitrate(v.peak_1s_bps)),
        fmt::format("{} of payload", base::format_bitrate(v.link.payload_bps)),
        carried ? "the busiest second nearly fills or exceeds the link; the player's buffer carried it this time"
                : "the stream needs more than the link carries");
}

// Verdict, what is short, and the words for it, from the checks.
void conclude(Verification& v, Short stall_cause) {
    const Check* worst = nullptr;
    for (const Check& check : v.checks) {
        v.verdict = device::worse(v.verdict, check.verdict);
        if (check.verdict == Verdict::fail && worst == nullptr) worst = &check;
    }
    static constexpr std::string_view kPlayback[] = {"startup", "stalls", "skips", "link"};
    const auto is_playback = [](const Check& c) {
        return std::find(std::begin(kPlayback), std::end(kPlayback), c.name) != std::end(kPlayback);
    };
    if (worst != nullptr && !is_playback(*worst)) {
        v.short_of = worst->name == "complete"   ? Short::file
                     : worst->name == "received" ? Short::server
                                                 : Short::device;
        v.summary = fmt::format("{}: {}, but the limit is {}", worst->name, worst->measured, worst->limit);
        v.remedy = worst->why;
    } else if (worst != nullptr) {
        v.short_of = stall_cause;
        if (stall_cause == Short::network) {
            v.summary = fmt::format("the link carries {}, the film needs {} on average and {} in its busiest second",
                                    base::format_bitrate(v.link.payload_bps), base::format_bitrate(v.mean_bps),
                                    base::format_bitrate(v.peak_1s_bps));
            v.remedy = "connect the device by wire or a better link, or " + fitting_profile(v.link);
        } else {
            v.summary = fmt::format("the server delivered too slowly: {}", worst->measured);
            v.remedy = "look for what else keeps the server or its drive busy, then verify again";
        }
    } else if (v.verdict == Verdict::warn) {
        for (const Check& check : v.checks) {
            if (check.verdict != Verdict::warn) continue;
            v.summary = fmt::format("plays, but {}: {}", check.name, check.measured);
            v.remedy = check.why;
            break;
        }
    } else {
        v.summary = fmt::format("starts after {}, plays to the end without a stall", base::format_span(v.startup));
    }
}

}  // namespace

std::string_view short_name(Short what) {
    constexpr std::string_view kNames[] = {"none", "server", "supply", "network", "device", "file"};
    return kNames[static_cast<int>(what)];
}

Result<Verification> run(const Job& job, const Progress& progress, const Cancel& cancel) {
    if (is_datagram_address(job.address)) return run_datagrams(job, progress, cancel);
    if (is_rtmp_address(job.address)) return run_rtmp(job, progress, cancel);
    if (is_playlist_address(job.address)) return run_hls(job, progress, cancel);
    WAVECREST_TRY_ASSIGN(url, net::parse_url(job.address));
    Verification v;
    v.stream = job.stream;
    v.address = job.address;
    v.device = job.device.name;
    v.link = job.link;
    std::unique_ptr<Clock> clock;
    if (job.real_time) {
        clock = std::make_unique<base::RealClock>();
    } else {
        clock = std::make_unique<base::SkippingClock>();
    }
    net::ShapedLink link(job.link.payload_bps, *clock);
    RemoteFile remote(url, link, *clock);
    auto opened = remote.open();
    while (!opened && opened.error().kind == ErrorKind::wanting && clock->now() < job.wait && !cancel.requested()) {
        std::this_thread::sleep_for(std::chrono::milliseconds(250));
        opened = remote.open();
    }
    if (!opened) return failed(std::move(v), Short::server, opened.error(), "reachable");
    if (remote.head().endless) {
        remote.close();  // one viewer, not two
        return run_http_live(job, progress, cancel);
    }
    add(v, "reachable", Verdict::pass,
        fmt::format("{}, {}", remote.head().media_type, base::format_bytes(remote.size())), "", "");

    ByteVector first(container::kSniffBytes);
    const auto got = remote.read_at(0, first);
    if (!got) return failed(std::move(v), Short::server, got.error(), "received");
    first.resize(*got);
    const std::string_view kind = container::sniff(first);
    if (kind != "mp4") {
        const Error error{ErrorKind::input,
                          kind.empty() ? "what arrives is no media file this program knows"
                                       : fmt::format("what arrives is of type {}, which can't be checked yet", kind),
                          job.address, "stream an MP4 file"};
        return failed(std::move(v), Short::file, error, "container");
    }
    const auto movie = container::read_mp4(remote);
    if (!movie)
        return failed(std::move(v), movie.error().kind == ErrorKind::wanting ? Short::server : Short::file,
                      movie.error(), "index");
    v.duration = movie->duration;

    std::vector<RatePiece> pieces;
    std::vector<Track> tracks;
    const container::Mp4Track* video = nullptr;
    for (const container::Mp4Track& track : movie->tracks) {
        tracks.push_back(track.info);
        if (track.info.kind == TrackKind::video && video == nullptr) video = &track;
        for (const container::Mp4Sample& s : track.samples) pieces.push_back({s.pts, s.pts + s.duration, s.size});
    }
    const measure::RateCurve rate(pieces);
    v.mean_bps = rate.mean_bps();
    v.peak_1s_bps = rate.peak_bps();
    v.checks.push_back(device::judge_protocol(job.device, "http"));
    for (Check& check : device::judge(job.device, kind, tracks, v.peak_1s_bps)) v.checks.push_back(std::move(check));

    // Plays: reads on as long as the player's buffer has room.
    ArrivalMap arrivals(*movie);
    measure::PlaybackModel player({job.device.start_after, job.device.reads_ahead, movie->duration});
    remote.forget_prefix();
    std::vector<std::uint64_t> received;
    std::optional<Error> lost;
    player.arrived(clock->now(), arrivals.playable(remote.received()));
    while (true) {
        if (cancel.requested()) return base::interrupted();
        const std::uint64_t before = remote.received();
        const auto piece = remote.next();
        if (!piece) lost = piece.error();
        if (!piece || *piece == 0) break;
        const Time now = clock->now();
        received.resize(std::max(received.size(), static_cast<std::size_t>(base::to_seconds(now)) + 1));
        received.back() += remote.received() - before;
        player.arrived(now, arrivals.playable(remote.received()));
        if (const Time room = player.room_at(now); room > now) {
            clock->wait_until(room);
            player.arrived(room, {});
        }
        if (progress) progress({player.position(), movie->duration});
    }
    const bool complete = remote.received() >= remote.size() && movie->missing_bytes == 0;
    player.finish(clock->now());
    add(v, lost ? "received" : "complete", complete ? Verdict::pass : Verdict::fail,
        complete
            ? "to the last byte"
            : fmt::format("ends at {} of {}", base::format_bytes(remote.received()), base::format_bytes(remote.size())),
        "the whole file",
        lost ? fmt::format("{}; {}", lost->what, lost->remedy) : "the file is cut short; copy or convert it again");
    v.started = player.started();
    v.startup = player.startup().value_or(Time{});
    v.stalls = player.stalls();
    v.levels = player.levels();
    // Where the time went decides who is to blame for a stall: waiting for the link's turn, or for the server's bytes.
    const Short stall_cause = link.waited() >= remote.server_time() ? Short::network : Short::server;

    for (const double part : {0.25, 0.5, 0.75}) {
        if (video == nullptr || video->samples.empty() || !remote.head().takes_ranges) break;
        if (cancel.requested()) return base::interrupted();
        Skip skip;
        skip.to = base::from_seconds(base::to_seconds(movie->duration) * part);
        container::Mp4Sample key = video->samples.front();
        for (const container::Mp4Sample& s : video->samples) {
            if (s.key && s.pts <= skip.to) key = s;
        }
        skip.landed = key.pts;
        const auto took = remote.fetch(key.offset, key.size);
        if (!took) {
            add(v, "skips", Verdict::fail, took.error().what, "", took.error().remedy);
            v.skips.clear();
            break;
        }
        skip.first_picture = *took;
        v.skips.push_back(skip);
    }
    if (!remote.head().takes_ranges)
        add(v, "skips", Verdict::fail, "the server takes no byte ranges", "byte ranges",
            "players can't skip; use a server that serves byte ranges");

    judge_playback(v, stall_cause, *movie);
    fill_seconds(v, rate.per_second(), received);
    conclude(v, stall_cause);
    return v;
}

}  // namespace wavecrest::verify
