#include "verify/datagrams.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>

#include "base/address.hpp"
#include "base/byte_source.hpp"
#include "base/units.hpp"
#include "container/mpeg_ts.hpp"
#include "container/reader.hpp"
#include "measure/transport.hpp"
#include "net/rtp.hpp"
#include "net/udp.hpp"
#include "verify/checks.hpp"
#include "verify/receiving.hpp"

namespace wavecrest::verify {
namespace {

using device::Check;
using device::Verdict;
namespace ts = container::ts;
using namespace std::chrono_literals;
using Steady = std::chrono::steady_clock;

// Kept to find out what the stream is made of.
constexpr std::size_t kKept = 48 << 20;
// Receivers smooth out what comes earlier or later than the clock says; cheap ones hold little.
constexpr Time kJitterWarning = std::chrono::milliseconds(50), kJitterLimit = std::chrono::milliseconds(250);
// A stream that sends nothing for so long has ended.
constexpr std::chrono::seconds kSilence{5};

std::string ms(Time time) {
    return fmt::format("{:.0f} ms", base::to_seconds(time) * 1000);
}

// How far arrivals stray from the clock that the stream carries.
class ArrivalMeter {
  public:
    void push(std::int64_t clock_27mhz, std::chrono::nanoseconds at) {
        if (!first_) {
            first_ = {clock_27mhz, at};
            return;
        }
        constexpr std::int64_t kRange = (std::int64_t{1} << 33) * 300;
        std::int64_t passed = clock_27mhz - first_->first;
        if (passed < 0) passed += kRange;
        const double off =
            std::chrono::duration<double>(at - first_->second).count() - static_cast<double>(passed) / 27e6;
        off_.push_back(off);
    }
    // Between the earliest and the latest, a hundredth of each side left out.
    Time spread() {
        if (off_.size() < 10) return {};
        std::sort(off_.begin(), off_.end());
        return base::from_seconds(off_[off_.size() * 99 / 100] - off_[off_.size() / 100]);
    }

  private:
    std::optional<std::pair<std::int64_t, std::chrono::nanoseconds>> first_;
    std::vector<double> off_;
};

struct Received {
    ByteVector kept;
    measure::TransportMeter meter;
    net::SequenceMeter sequence;
    ArrivalMeter arrivals;
    std::vector<std::uint64_t> tenths;  // transport bytes in each tenth of a second
    std::uint64_t datagrams = 0, bytes = 0, malformed = 0;
    std::optional<std::chrono::nanoseconds> first, last, keyframe;
    std::optional<std::chrono::nanoseconds> last_content;  // of packets that carry something
    std::int64_t clock_pid = -1;
    bool silent = false;  // nothing came any more

    void take(const net::UdpReceiver::Datagram& datagram, bool rtp) {
        ByteSpan payload = datagram.bytes;
        if (rtp) {
            const auto packet = net::parse_rtp(datagram.bytes);
            if (!packet || packet->header.payload_type != net::kRtpTransportStream) {
                ++malformed;
                return;
            }
            if (!sequence.push(packet->header.sequence)) return;
            payload = packet->payload;
        }
        if (payload.size() < ts::kPacket || payload[0] != ts::kSync || payload.size() % ts::kPacket != 0) {
            ++malformed;
            return;
        }
        if (!first) first = datagram.at;
        last = datagram.at;
        ++datagrams;
        bytes += payload.size();
        const auto tenth = static_cast<std::size_t>(std::max<std::int64_t>((datagram.at - *first) / 100ms, 0));
        tenths.resize(std::max(tenths.size(), std::min<std::size_t>(tenth, 360'000) + 1));
        tenths.back() += payload.size();
        for (std::size_t at = 0; at + ts::kPacket <= payload.size(); at += ts::kPacket) {
            const ByteSpan bytes_of = payload.subspan(at, ts::kPacket);
            meter.push(bytes_of);
            const auto packet = ts::parse_packet(bytes_of);
            if (!packet) continue;
            if (packet->pcr_27mhz && (clock_pid < 0 || packet->pid == clock_pid)) {
                clock_pid = packet->pid;
                arrivals.push(*packet->pcr_27mhz, datagram.at);
            }
            if (packet->random_access && !keyframe) keyframe = datagram.at;
            if (packet->pid != ts::kNullPid) last_content = datagram.at;
        }
        if (kept.size() < kKept) kept.insert(kept.end(), payload.begin(), payload.end());
    }
    std::int64_t peak_1s() const {
        std::uint64_t sum = 0, most = 0;
        for (std::size_t i = 0; i < tenths.size(); ++i) {
            sum += tenths[i];
            if (i >= 10) sum -= tenths[i - 10];
            most = std::max(most, sum);
        }
        return static_cast<std::int64_t>(most * 8);
    }
};

Verification not_there(Verification v, Cause cause, std::string summary, std::string remedy) {
    v.verdict = Verdict::fail;
    v.cause = cause;
    v.summary = std::move(summary);
    v.remedy = std::move(remedy);
    return v;
}

// Listens as long as the job says, or until nothing comes any more.
Status receive_datagrams(net::UdpReceiver& receiver, const Job& job, bool rtp, Received& got, const Progress& progress,
                         const Cancel& cancel) {
    const auto begun = Steady::now();
    const auto patience = std::chrono::duration_cast<Steady::duration>(job.wait);
    const auto length = std::chrono::duration_cast<Steady::duration>(job.listen);
    std::optional<Steady::time_point> listening;
    Steady::time_point heard;
    while (true) {
        if (cancel.requested()) return base::interrupted();
        const auto now = Steady::now();
        if (!listening && now - begun > patience) return {};
        if (listening && now - *listening > length) return {};
        if (listening && now - heard > kSilence) {
            got.silent = true;
            return {};
        }
        WAVECREST_TRY_ASSIGN(datagrams, receiver.receive(50ms));
        for (const auto& datagram : datagrams) got.take(datagram, rtp);
        if (!datagrams.empty()) heard = Steady::now();
        if (!listening && !datagrams.empty()) listening = heard;
        if (progress && listening) progress({std::chrono::duration_cast<Time>(now - *listening), job.listen});
    }
}

Verification nothing_received(Verification v, const Job& job, bool multicast) {
    add(v, "arrives", Verdict::fail, "nothing", "a stream");
    return not_there(
        std::move(v), Cause::network,
        fmt::format("nothing received at {} in {}", job.address, base::format_span(job.wait)),
        multicast ? "check that it is sent to this address and port, that no firewall blocks it, and that switches and "
                    "access points forward multicast"
                  : "check that it is sent to this machine's address and port, and that no firewall blocks it");
}

Verification no_transport_packets(Verification v, const Job& job, const Received& got, bool rtp) {
    add(v, "arrives", Verdict::fail, fmt::format("{} other packets", got.malformed), "transport packets");
    return not_there(
        std::move(v), Cause::server,
        fmt::format("packets arrive at {}, but not an MPEG transport stream{}", job.address, rtp ? " in RTP" : ""),
        rtp ? "try udp:// in front of the address" : "try rtp:// in front of the address");
}

// Length, startup and bit rates of what was received from `joined` on.
void describe_rates(Verification& v, const Received& got, std::chrono::nanoseconds joined) {
    const Time spanned = std::chrono::duration_cast<Time>(*got.last - *got.first);
    v.duration = spanned;
    v.started = true;
    v.startup = std::max(std::chrono::duration_cast<Time>(got.keyframe.value_or(*got.first) - joined), Time{});
    v.mean_bps = spanned.count() > 0
                     ? static_cast<std::int64_t>(static_cast<double>(got.bytes) * 8 / base::to_seconds(spanned))
                     : 0;
    v.peak_1s_bps = got.peak_1s();
    for (std::size_t i = 0; i + 10 <= got.tenths.size(); i += 10) {
        Second second;
        for (std::size_t k = i; k < i + 10; ++k) second.received_bps += static_cast<double>(got.tenths[k]) * 8;
        second.stream_bps = second.received_bps;
        v.seconds.push_back(second);
    }
}

// What the network made of the packets, against what the device's link carries.
void judge_arrival(Verification& v, const Job& job, Received& got, bool rtp, std::uint64_t overrun) {
    if (rtp) {
        const std::uint64_t lost = got.sequence.lost(), all = lost + got.sequence.received();
        add(v, "packets lost", lost > 0 ? Verdict::fail : Verdict::pass, fmt::format("{} of {}", lost, all), "none",
            "every loss is visible or audible: connect the device by Ethernet, or use HTTP, which retransmits");
        add(v, "packet order", got.sequence.reordered() > 0 ? Verdict::warn : Verdict::pass,
            fmt::format("{} late, {} duplicated", got.sequence.reordered(), got.sequence.doubled()), "all",
            "players without a reordering buffer show errors");
    }
    add_transport(v, got.meter.report(),
                  fmt::format("packets lost on the network{}",
                              overrun > 0 ? ", or by this machine (too busy to receive)" : ", or never sent"));
    const Time jitter = got.arrivals.spread();
    add(v, "arrival",
        jitter > kJitterLimit     ? Verdict::fail
        : jitter > kJitterWarning ? Verdict::warn
                                  : Verdict::pass,
        ms(jitter) + " jitter", ms(kJitterWarning),
        "packets arrive in bursts or late: the sender is too busy, or the network delays them");
    const bool fits = v.peak_1s_bps <= job.link.payload_bps;
    add(v, "link", fits ? Verdict::pass : Verdict::fail, base::format_bitrate(v.peak_1s_bps) + " peak (1 s)",
        base::format_bitrate(job.link.payload_bps),
        "the link is too slow for the stream: send it at a lower bit rate, or connect the device by Ethernet");
    add(v, "startup", v.startup > base::from_seconds(5) ? Verdict::warn : Verdict::pass,
        fmt::format("channel change {:.1f} s", base::to_seconds(v.startup)), "5.0 s",
        "slow channel change: convert with a shorter keyframe interval");
}

}  // namespace

Result<Verification> run_datagrams(const Job& job, const Progress& progress, const Cancel& cancel) {
    const base::Address from(job.address);
    const bool rtp = from.scheme() == base::Scheme::rtp;
    WAVECREST_TRY_ASSIGN(address, net::parse_udp_address(std::string(from.behind_scheme())));
    Verification v;
    v.stream = job.stream;
    v.address = job.address;
    v.device = job.device.name;
    v.link = job.link;
    WAVECREST_TRY_ASSIGN(receiver, net::UdpReceiver::open(address));
    Received got;
    const auto joined = Steady::now().time_since_epoch();
    WAVECREST_TRY(receive_datagrams(*receiver, job, rtp, got, progress, cancel));
    if (!got.first && got.malformed == 0) return nothing_received(std::move(v), job, address.multicast);
    if (!got.first) return no_transport_packets(std::move(v), job, got, rtp);
    describe_rates(v, got, joined);
    // Whoever pauses a stream keeps it alive by packets that carry nothing.
    v.paused = !got.silent && (!got.last_content || *got.last - *got.last_content > 1500ms);
    if (!got.last_content) {
        add(v, "arrives", Verdict::fail, "null packets only", "a stream");
        return not_there(std::move(v), Cause::none, "the stream is paused",
                         "resume it (wavecrest stream resume NAME, or at its source), then verify again");
    }
    const std::string spanned = base::format_span(v.duration);
    add(v, "arrives", Verdict::pass, fmt::format("{} packets in {}", got.datagrams, spanned), "");
    add_seen(v, job, v.duration + (got.silent && job.to_end ? job.listen : Time{}), got.silent);
    if (got.silent)
        add(v, "continues", job.to_end ? Verdict::pass : Verdict::warn,
            fmt::format("nothing received in the last {}", base::format_span(kSilence)), "",
            job.to_end ? "" : "the stream stopped, was paused, or the network stopped forwarding it");

    // What it is made of, against the device.
    auto media = container::open_media(std::make_shared<base::MemorySource>(std::move(got.kept), job.address));
    if (!media) {
        add(v, "content", Verdict::fail, media.error().what, "video and audio");
        return not_there(std::move(v), Cause::server, fmt::format("the stream can't be played: {}", media.error().what),
                         "check what is being sent");
    }
    v.checks.push_back(device::judge_protocol(job.device, rtp ? "rtp" : "udp"));
    const std::vector<Track>& tracks = media->source->tracks();
    judge_tracks(v, job, "mpeg-ts", tracks);
    const auto is_video = [](const Track& t) { return t.kind == TrackKind::video; };
    if (!got.keyframe && (tracks.empty() || std::any_of(tracks.begin(), tracks.end(), is_video)))
        add(v, "first keyframe", Verdict::warn, fmt::format("none in {}", spanned), "one",
            "no video was checked: use a longer --for");
    add_pictures(v, job, *media->source, 0, cancel);
    judge_arrival(v, job, got, rtp, receiver->overrun());
    conclude_live(v, Cause::network);
    if (v.verdict == Verdict::pass)
        v.summary = fmt::format("no loss, average {}; the device can play it", base::format_bitrate(v.mean_bps));
    return v;
}

}  // namespace wavecrest::verify
