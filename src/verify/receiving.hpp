// For this module's own files: what receivers of live streams and ladders have in common, the link they receive over,
// and what they make of what came.
#pragma once

#include <algorithm>
#include <chrono>
#include <memory>
#include <optional>
#include <string>
#include <thread>
#include <vector>

#include "base/clock.hpp"
#include "container/byte_range.hpp"
#include "container/mpeg_ts.hpp"
#include "measure/transport.hpp"
#include "net/http_client.hpp"
#include "net/shaped_link.hpp"
#include "verify/verify.hpp"

namespace wavecrest::verify {

namespace ts = container::ts;

inline constexpr std::size_t kKept = 48 << 20;  // bytes, to find out what the stream is made of
inline constexpr Time kForEver = std::chrono::hours(200);

// The link as the job has it, squeezed where it is to be.
net::RateSteps link_rates(const Job& job);

// How far the media has come that transport packets carry, by the times in them.
class MediaClock {
  public:
    void push(ByteSpan packet) {
        const auto parsed = ts::parse_packet(packet);
        if (!parsed || !parsed->starts || parsed->payload.size() < 9) return;
        const auto pes = ts::parse_pes(parsed->payload);
        if (!pes || (!pes->pts && !pes->dts)) return;
        const bool picture = (pes->stream_id & 0xF0) == 0xE0 || pes->stream_id == 0xFD;
        if (picture && !has_picture_) {
            has_picture_ = true;
            first_.reset();
            last_.reset();
        }
        if (has_picture_ && !picture) return;
        // What starts here says that all before it has come.
        constexpr std::int64_t kRange = std::int64_t{1} << 33;
        const std::int64_t timestamp = pes->dts ? *pes->dts : *pes->pts;
        if (!first_) first_ = last_ = timestamp;
        std::int64_t step = (timestamp - *last_) % kRange;
        if (step < -kRange / 2) step += kRange;
        if (step > kRange / 2) step -= kRange;
        // A jump is a new beginning of the sender's clock, not time that was received.
        if (step > 0 && step < 10 * 90'000) passed_ += step;
        last_ = timestamp;
        if (parsed->random_access) keyframe = true;
    }
    Time until() const { return base::from_ticks(passed_, 90'000); }

    bool keyframe = false;

  private:
    bool has_picture_ = false;
    std::optional<std::int64_t> first_, last_;
    std::int64_t passed_ = 0;
};

struct Receiving {
    explicit Receiving(const Job& job, bool real)
        : clock(real ? std::unique_ptr<Clock>(std::make_unique<base::RealClock>())
                     : std::make_unique<base::SkippingClock>()),
          link(link_rates(job), *clock) {
        v.stream = job.stream;
        v.address = job.address;
        v.device = job.device.name;
        v.link = job.link;
        v.simulated = job.simulated;
    }
    // Counts bytes that have come over the link.
    void count(std::size_t bytes) {
        const auto second = static_cast<std::size_t>(std::max(base::to_seconds(clock->now() - counted_from), 0.0));
        received.resize(std::max(received.size(), second + 1));
        received[second] += bytes;
        total += bytes;
    }
    void keep(ByteSpan bytes) {
        if (kept.size() < kKept) kept.insert(kept.end(), bytes.begin(), bytes.end());
    }
    // Packets out of a body that may be cut anywhere.
    void take_transport(ByteSpan bytes) {
        keep(bytes);
        partial.insert(partial.end(), bytes.begin(), bytes.end());
        std::size_t at = 0;
        while (at + ts::kPacket <= partial.size()) {
            if (partial[at] != ts::kSync) {
                ++at;
                continue;
            }
            const ByteSpan packet = ByteSpan(partial).subspan(at, ts::kPacket);
            meter.push(packet);
            media.push(packet);
            const bool empty = (packet[1] & 0x1F) == 0x1F && packet[2] == 0xFF;
            empty_packets = empty ? empty_packets + 1 : 0;
            if (!empty) last_content = clock->now();
            at += ts::kPacket;
        }
        partial.erase(partial.begin(), partial.begin() + static_cast<std::ptrdiff_t>(at));
    }
    void fill_seconds() {
        v.seconds.resize(received.size());
        for (std::size_t i = 0; i < received.size(); ++i)
            v.seconds[i].received_bps = static_cast<double>(received[i]) * 8;
    }
    // Of a stream that is sent at its own pace: without what was cached and came at once at the start.
    void rates_by_arrival(Time media_length) {
        if (media_length.count() > 0)
            v.mean_bps = static_cast<std::int64_t>(static_cast<double>(total) * 8 / base::to_seconds(media_length));
        std::uint64_t most = 0;
        for (std::size_t i = 1; i + 1 < received.size(); ++i) most = std::max(most, received[i]);
        v.peak_1s_bps = std::max(static_cast<std::int64_t>(most * 8), v.mean_bps);
        for (Second& second : v.seconds) second.stream_bps = second.received_bps;
    }

    Verification v;
    std::unique_ptr<Clock> clock;
    net::ShapedLink link;
    Time counted_from{};
    std::vector<std::uint64_t> received;
    std::uint64_t total = 0;
    ByteVector kept, partial;
    measure::TransportMeter meter;
    MediaClock media;
    Time server_time{};

    bool filled() const { return base::to_seconds(link.waited()) > 0.5 * base::to_seconds(clock->now()); }
    Cause cause() const { return v.simulated || link.waited() >= server_time ? Cause::network : Cause::server; }
    // Nothing but packets that carry nothing has come for a while, or at all, and the connection lives.
    bool is_paused() const {
        const bool never = last_content == Time{} && empty_packets > 0;
        return (never || empty_packets >= 14) && clock->now() - last_content > base::from_seconds(1.5);
    }

    std::uint64_t empty_packets = 0;  // since the last that carried something
    Time last_content{};
};

// What a live stream is made of, against the device.
void judge_tracks(Verification& v, const Job& job, std::string_view container, const std::vector<Track>& tracks);
// The same of what was kept of it. False when that can't be told.
bool judge_content(Receiving& r, const Job& job, const char* protocol, const Cancel& cancel);
// How far behind the live edge it plays.
void add_delay(Receiving& r, Time delay);

// Until something answers, for as long as the job waits.
template <typename Try>
auto wait_for(const Job& job, const Cancel& cancel, Try&& attempt) -> decltype(attempt()) {
    const auto begun = std::chrono::steady_clock::now();
    while (true) {
        auto result = attempt();
        if (result || result.error().kind != ErrorKind::wanting || cancel.requested() ||
            std::chrono::steady_clock::now() - begun >
                std::chrono::duration_cast<std::chrono::steady_clock::duration>(job.wait))
            return result;
        for (int i = 0; i < 10 && !cancel.requested(); ++i) std::this_thread::sleep_for(std::chrono::milliseconds(50));
    }
}

// Playlists, manifests and segments, each asked for over the link.
class LinkClient {
  public:
    LinkClient(Receiving& r, const net::Url& url)
        : r_(r), client_(std::make_unique<net::HttpClient>(url)), host_(url) {}

    // Everything at once (playlists).
    Result<std::string> text(const std::string& address) {
        WAVECREST_TRY(begin(address));
        std::string all;
        ByteVector buffer(r_.link.piece());
        while (all.size() < (4u << 20)) {
            WAVECREST_TRY_ASSIGN(got, piece(buffer));
            if (got == 0) break;
            all.append(reinterpret_cast<const char*>(buffer.data()), got);
        }
        return all;
    }
    Result<net::ResponseHead> begin(const std::string& address, std::optional<container::ByteRange> range = {}) {
        WAVECREST_TRY_ASSIGN(url, net::parse_url(address));
        if (url.host != host_.host || url.port != host_.port || url.secure != host_.secure) {
            url.trusted = host_.trusted;
            client_ = std::make_unique<net::HttpClient>(url);
            host_ = url;
        }
        client_->set_target(url.target);
        const Time before = r_.clock->now();
        WAVECREST_TRY_ASSIGN(head, range ? client_->get(range->offset, range->end() - 1) : client_->get(0));
        r_.server_time += r_.clock->now() - before;
        if (range && head.status != 206)
            return fail(ErrorKind::wanting, "the server does not support byte ranges", address,
                        "use another web server: the segments are parts of one file");
        return head;
    }
    Result<std::size_t> piece(std::span<std::uint8_t> buffer) {
        const Time before = r_.clock->now();
        WAVECREST_TRY_ASSIGN(got, client_->read(buffer.first(std::min(buffer.size(), r_.link.piece()))));
        r_.server_time += r_.clock->now() - before;
        r_.link.pass(static_cast<std::int64_t>(got));
        return got;
    }
    void close() { client_->close(); }

  private:
    Receiving& r_;
    std::unique_ptr<net::HttpClient> client_;
    net::Url host_;
};

}  // namespace wavecrest::verify
