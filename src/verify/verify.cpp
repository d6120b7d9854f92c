#include "verify/verify.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <memory>
#include <thread>
#include <utility>

#include "base/address.hpp"
#include "base/byte_source.hpp"
#include "base/clock.hpp"
#include "base/units.hpp"
#include "container/mp4_reader.hpp"
#include "container/reader.hpp"
#include "container/sniff.hpp"
#include "measure/rate.hpp"
#include "net/http_client.hpp"
#include "net/rtmp_client.hpp"
#include "net/shaped_link.hpp"
#include "net/udp.hpp"
#include "net/worse_link.hpp"
#include "verify/checks.hpp"
#include "verify/datagrams.hpp"
#include "verify/film.hpp"
#include "verify/ladder.hpp"
#include "verify/live.hpp"
#include "verify/receiving.hpp"
#include "verify/seeks.hpp"
#include "verify/supply.hpp"

namespace wavecrest::verify {
namespace {

using device::Check;
using device::Verdict;

constexpr int kLooks = 12;                  // places of a film of which pictures are decoded
constexpr std::uint64_t kReadOn = 1 << 20;  // a gap shorter than this is read through, not skipped by a request

// The remote file as it arrives over the link: a byte source for the index, then a sequential body. Everything received
// from the start is kept until the index is known.
class RemoteFile : public base::ByteSource {
  public:
    RemoteFile(const Supply& supply, net::ShapedLink& link, Clock& clock)
        : name_(supply.address), body_(supply.body()), tail_(supply.body()), link_(link), clock_(clock) {}

    Status open() {
        const Time before = clock_.now();
        WAVECREST_TRY_ASSIGN(head, body_->get(0));
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
        WAVECREST_TRY(tail_->get(offset, end - 1));
        std::size_t done = 0;
        while (done < end - offset) {
            WAVECREST_TRY_ASSIGN(got,
                                 piece(*tail_, buffer.subspan(done, static_cast<std::size_t>(end - offset) - done)));
            if (got == 0) break;
            done += got;
        }
        return done;
    }

    void close() { body_->close(); }
    // The index is known: what follows needs not be kept.
    void forget_prefix() {
        keep_ = false;
        prefix_ = {};
    }
    // Takes the next piece of the sequential body; 0 at its end.
    Result<std::size_t> next() {
        ByteVector buffer(link_.piece());
        WAVECREST_TRY_ASSIGN(got, piece(*body_, buffer));
        position_ += got;
        if (keep_) prefix_.insert(prefix_.end(), buffer.begin(), buffer.begin() + static_cast<std::ptrdiff_t>(got));
        return got;
    }
    // A request of its own, from `offset` on; its next piece (0 at the end); it is given up.
    Status go_to(std::uint64_t offset) {
        WAVECREST_TRY(tail_->get(offset));
        return {};
    }
    Result<std::size_t> read_on() {
        ByteVector buffer(link_.piece());
        return piece(*tail_, buffer);
    }
    void leave() { tail_->close(); }

  private:
    Result<std::size_t> piece(Body& body, std::span<std::uint8_t> buffer) {
        const Time before = clock_.now();
        WAVECREST_TRY_ASSIGN(got, body.read(buffer.first(std::min(buffer.size(), link_.piece()))));
        server_time_ += clock_.now() - before;
        link_.pass(static_cast<std::int64_t>(got));
        return got;
    }

    std::string name_;
    std::unique_ptr<Body> body_, tail_;
    net::ShapedLink& link_;
    Clock& clock_;
    net::ResponseHead head_;
    std::uint64_t size_ = 0;
    std::uint64_t position_ = 0;
    bool keep_ = true;
    ByteVector prefix_;
    Time server_time_{};
};

// Seeks in a film of which `first` bytes have come when the first seek is made. Errors are those of the server, or kind
// interrupted.
Result<std::vector<SeekOrder>> seek_in_film(const device::Playing& playing, const Film& film, std::int64_t mean_bps,
                                            RemoteFile& remote, std::uint64_t first, Clock& clock,
                                            const Cancel& cancel) {
    std::vector<SeekOrder> seeks;
    ReadRuns runs(first);
    for (const double part : kSeeks) {
        SeekOrder seek;
        seek.to = base::from_seconds(base::to_seconds(film.duration) * part);
        const auto entry = film.entry_at(seek.to);
        if (!entry) break;
        seek.landed = playing.seeks_exactly ? seek.to : entry->keyframe;
        const Time wanted = std::min(seek.landed + playing.start_buffer, film.duration);
        const Time ordered = clock.now();
        ReadRuns::Run& run = runs.at(entry->offset, static_cast<std::uint64_t>(playing.read_through));
        FilmArrivals arrivals(film, remote.size(), playing.read_size, run.to);
        bool asked = false, ended = run.to >= remote.size();
        const auto read_on = [&]() -> Status {
            if (cancel.requested()) return base::interrupted();
            if (!std::exchange(asked, true)) WAVECREST_TRY(remote.go_to(run.to));
            WAVECREST_TRY_ASSIGN(got, remote.read_on());
            run.to += got;
            ended = got == 0 || run.to >= remote.size();
            return {};
        };
        while (arrivals.playable(run.to) < wanted && !ended) WAVECREST_TRY(read_on());
        if (arrivals.playable(run.to) < wanted)
            return fail(ErrorKind::wanting, "nothing to play at " + base::format_clock(seek.to), remote.name(),
                        "copy or convert the file again");
        const Time went_on = clock.now(), next = went_on + kBeforeNextSeek;
        seek.first_picture = went_on - ordered;
        seeks.push_back(seek);
        const auto room = [&] {
            return arrivals.playable(run.to) - (seek.landed + clock.now() - went_on) < playing.buffer_of(mean_bps);
        };
        while (clock.now() < next && !ended && room()) WAVECREST_TRY(read_on());
        clock.wait_until(next);
        remote.leave();
    }
    return seeks;
}

// Plays a film to its end over the link, and seeks in it. Where it isn't known yet, its index is read as players do.
Result<Verification> play_film(const Job& job, const Supply& supply, std::optional<Film> film, const Progress& progress,
                               const Cancel& cancel) {
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
    net::ShapedLink link(link_rates(job), *clock);
    RemoteFile remote(supply, link, *clock);
    auto opened = remote.open();
    while (!opened && opened.error().kind == ErrorKind::wanting && clock->now() < job.wait && !cancel.requested()) {
        std::this_thread::sleep_for(std::chrono::milliseconds(250));
        opened = remote.open();
    }
    if (!opened) return failed(std::move(v), Cause::server, opened.error(), "reachable");
    if (remote.head().endless) {
        remote.close();  // one viewer, not two
        return run_http_live(job, progress, cancel);
    }
    add(v, "reachable", Verdict::pass,
        fmt::format("{}, {}", remote.head().media_type, base::format_bytes(remote.size())), "", "");

    if (!film) {
        ByteVector first(container::kSniffBytes);
        const auto got = remote.read_at(0, first);
        if (!got) return failed(std::move(v), Cause::server, got.error(), "received");
        first.resize(*got);
        if (container::sniff(first) != "mp4") {
            remote.close();
            auto learnt = learn_film(supply, cancel);
            if (!learnt && learnt.error().kind == ErrorKind::interrupted) return fail(learnt.error());
            if (!learnt) return failed(std::move(v), Cause::file, learnt.error(), "content");
            return play_film(job, supply, std::move(*learnt), progress, cancel);
        }
        const auto movie = container::read_mp4(remote);
        if (!movie)
            return failed(std::move(v), movie.error().kind == ErrorKind::wanting ? Cause::server : Cause::file,
                          movie.error(), "index");
        film = film_of(*movie);
    }
    v.duration = film->duration;
    const measure::RateCurve rate(film->rate());
    v.mean_bps = rate.mean_bps();
    v.peak_1s_bps = rate.peak_bps();
    v.checks.push_back(device::judge_protocol(job.device, supply.protocol));
    for (Check& check : device::judge(job.device, film->container, film->tracks, v.peak_1s_bps))
        v.checks.push_back(std::move(check));

    add_film_timing(v, *film);

    // Plays: reads on as long as the player's buffer has room.
    FilmArrivals arrivals(*film, remote.size(), job.device.playing.read_size);
    const measure::PlayerSettings playing = player_of(job.device, film->duration, false, v.mean_bps);
    measure::PlaybackModel player(playing);
    remote.forget_prefix();
    std::vector<std::uint64_t> received;
    std::optional<Error> lost;
    std::uint64_t before_seeks = remote.received();
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
        if (!player.started() || now < *player.startup() + kBeforeFirstSeek) before_seeks = remote.received();
        if (const Time room = player.room_at(now); room > now) {
            clock->wait_until(room);
            player.arrived(room, {});
        }
        if (progress) progress({player.position(), film->duration});
    }
    const bool complete = remote.received() >= remote.size() && film->damage.empty();
    player.finish(clock->now());
    add(v, lost ? "received" : "complete", complete ? Verdict::pass : Verdict::fail,
        complete ? "to the last byte"
        : remote.received() < remote.size()
            ? fmt::format("ends at {} of {}", base::format_bytes(remote.received()), base::format_bytes(remote.size()))
            : film->damage,
        "the whole file", lost ? fmt::format("{}; {}", lost->what, lost->remedy) : "copy or convert the file again");
    v.started = player.started();
    v.startup = player.startup().value_or(Time{});
    v.stalls = measure::seen_stalls(player.stalls());
    v.levels = player.levels();
    v.slowest_link_bps = measure::slowest_link(playing, arrivals, {}, most_asked_of_a_link(v));
    // Where the time went decides who is to blame for a stall: waiting for the link's turn, or for the server's bytes.
    v.simulated = job.simulated;
    const Cause stall_cause = job.simulated || link.waited() >= remote.server_time() ? Cause::network : Cause::server;

    if (remote.head().takes_ranges) {
        WAVECREST_TRY(
            take_seeks(v, seek_in_film(job.device.playing, *film, v.mean_bps, remote, before_seeks, *clock, cancel)));
    } else {
        add(v, "byte ranges", Verdict::fail, "the server does not support seeking (no byte ranges)",
            "byte ranges (RFC 9110, 14)",
            "players can't seek: use a server that serves byte ranges, or offer the film as hls");
    }

    // Outside of the link: whether the pictures are whole is the file's matter.
    auto again = supply.file();
    auto media = again ? container::open_media(std::move(*again)) : Result<container::MediaFile>(fail(again.error()));
    if (media) add_pictures(v, job, *media->source, kLooks, cancel);
    add_film_playback(
        v, stall_cause,
        film->index_in_front ? "startup too slow" : "index at the end of the file (slow start); convert or remux it");
    fill_seconds(v, rate.per_second(), received);
    conclude_film(v, stall_cause);
    return v;
}

}  // namespace

std::string_view short_name(Cause what) {
    constexpr std::string_view kNames[] = {"none", "server", "supply", "network", "device", "file"};
    return kNames[static_cast<int>(what)];
}

namespace {

Result<Verification> run_directly(const Job& job, const Progress& progress, const Cancel& cancel) {
    if (base::Address(job.address).is_datagrams()) return run_datagrams(job, progress, cancel);
    if (base::Address(job.address).scheme() == base::Scheme::rtmp) return run_rtmp(job, progress, cancel);
    if (is_manifest_address(job.address)) return run_ladder(job, progress, cancel);
    if (is_playlist_address(job.address)) return run_hls(job, progress, cancel);
    WAVECREST_TRY_ASSIGN(supply, supply_of(job.address, job.trusted, cancel));
    return play_film(job, supply, {}, progress, cancel);
}

// The address of the near end of a worse network, in front of the one that is given.
struct Detour {
    std::string address;
    std::unique_ptr<net::WorseLink> link;
};
Result<Detour> make_detour(const std::string& address, const net::LinkFaults& faults) {
    Detour detour;
    if (base::Address(address).is_datagrams()) {
        WAVECREST_TRY_ASSIGN(from, net::parse_udp_address(address.substr(6)));
        WAVECREST_TRY_ASSIGN(port, net::free_udp_port());
        const std::string near = fmt::format("127.0.0.1:{}", port);
        WAVECREST_TRY_ASSIGN(to, net::parse_udp_address(near));
        WAVECREST_TRY_ASSIGN(link, net::WorseLink::udp(from, to, faults));
        detour.link = std::move(link);
        detour.address = address.substr(0, 6) + near;
        return detour;
    }
    if (base::Address(address).scheme() == base::Scheme::rtmp) {
        WAVECREST_TRY_ASSIGN(rtmp, net::parse_rtmp_address(address));
        WAVECREST_TRY_ASSIGN(link, net::WorseLink::tcp("127.0.0.1", 0, rtmp.host, rtmp.port, faults));
        rtmp.host = "127.0.0.1";
        rtmp.port = link->port();
        detour.link = std::move(link);
        detour.address = rtmp.text();
        return detour;
    }
    WAVECREST_TRY_ASSIGN(url, net::parse_url(address));
    if (url.secure && url.host != "127.0.0.1")
        return fail(ErrorKind::usage, "a worse network can't be put in front of an https:// address", address,
                    "its certificate is for another place; verify the http:// address so");
    WAVECREST_TRY_ASSIGN(link, net::WorseLink::tcp("127.0.0.1", 0, url.host, url.port, faults));
    url.host = "127.0.0.1";
    url.port = link->port();
    detour.link = std::move(link);
    detour.address = url.text();
    return detour;
}

}  // namespace

namespace {

Result<Verification> run_worse(const Job& job, const Progress& progress, const Cancel& cancel) {
    if (!job.faults.any()) return run_directly(job, progress, cancel);
    WAVECREST_TRY_ASSIGN(detour, make_detour(job.address, job.faults));
    Job worse = job;
    worse.address = detour.address;
    worse.simulated = true;
    WAVECREST_TRY_ASSIGN(v, run_directly(worse, progress, cancel));
    v.address = job.address;
    const net::LinkFigures figures = detour.link->figures();
    add(v, "network", Verdict::pass,
        fmt::format(
            "{}{}", net::describe(job.faults),
            figures.lost > 0 ? fmt::format(": {} of {} lost on the network", figures.lost, figures.passed) : ""),
        "");
    return v;
}

}  // namespace

Result<Verification> run(const Job& job, const Progress& progress, const Cancel& cancel) {
    const net::LinkFaults& faults = job.faults;
    const bool drops_out = faults.outage.count() > 0;
    if ((faults.squeeze.empty() && !drops_out) || base::Address(job.address).is_datagrams())
        return run_worse(job, progress, cancel);
    const Time gap = net::connection_gap(faults.outage);
    if (drops_out && gap >= faults.outage_every)
        return fail(ErrorKind::usage, "with these outages nothing would ever come over a connection", "--every",
                    fmt::format("give more than {}: after {} without a link senders find it again only then",
                                base::format_span(gap), base::format_span(faults.outage)));
    // Over TCP the link is part of the model, and its clock can be moved on.
    Job modelled = job;
    modelled.squeeze = std::exchange(modelled.faults.squeeze, {});
    if (drops_out) {
        modelled.outages = {faults.outage, faults.outage_every, faults.seed, true};
        modelled.faults.outage = modelled.faults.outage_every = Time{};
        modelled.simulated = true;
    }
    WAVECREST_TRY_ASSIGN(v, run_worse(modelled, progress, cancel));
    Time at{};
    for (const net::RateStep& step : modelled.squeeze) {
        v.link_rates.emplace_back(at, std::min(step.rate_bps, job.link.payload_bps));
        at += step.length;
    }
    if (!modelled.squeeze.empty()) add(v, "network", Verdict::pass, "squeezed: " + net::describe(modelled.squeeze), "");
    if (drops_out)
        add(v, "network", Verdict::pass,
            fmt::format("outage of {} every {}; connections find it again after {}", base::format_span(faults.outage),
                        base::format_span(faults.outage_every), base::format_span(gap)),
            "");
    return v;
}

}  // namespace wavecrest::verify
