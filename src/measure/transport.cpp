#include "measure/transport.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cstdlib>
#include <deque>

#include "base/byte_source.hpp"
#include "base/units.hpp"
#include "container/mpeg_ts.hpp"

namespace wavecrest::measure {
namespace {

namespace ts = container::ts;

constexpr std::int64_t kTicks = 27'000'000;
constexpr std::int64_t kClockRange = (std::int64_t{1} << 33) * 300;
// 2.7.2: references are at most 0.1 s apart; much more is a jump.
constexpr std::int64_t kJump = kTicks;
constexpr double kTransportBuffer = 512;
constexpr std::size_t kMostWaiting = 200'000;  // packets without a clock between them

// Bytes a second at which a stream's transport buffer is emptied (2.4.2.4). Levels aren't looked into: pictures are
// taken to be of one that the rate fits.
double drain_of(int type) {
    switch (type) {
        case 0x01:
        case 0x02:
            return 1.2 * 15e6 / 8;
        case 0x1B:
        case 0x24:
        case 0xEA:
        case 0x10:
            return 1.2 * 50e6 / 8;
        default:
            return 2e6 / 8;
    }
}

struct Stream {
    TransportStreamMeasure measure;
    std::optional<int> continuity;
    bool repeated_once = false;
    ByteVector last;  // the latest packet's payload, to know a repetition
    double level = 0;
    std::int64_t level_at = 0;
    double drain = 0;
    // The PES packet that arrives, and those that wait to be decoded: time and bytes.
    std::optional<std::int64_t> decoding;
    std::int64_t unit_bytes = 0, unit_first = 0, unit_last = 0;
    std::deque<std::pair<std::int64_t, std::int64_t>> held;
    std::int64_t held_bytes = 0;
};

// A packet that waits for the clock reference behind it.
struct Waiting {
    int pid = 0;
    bool starts = false;
    std::optional<std::int64_t> decoding;  // 27 MHz
    std::int64_t payload = 0;
};

}  // namespace

struct TransportMeter::State {
    TransportReport report;
    std::map<int, Stream> streams;
    std::map<int, ts::SectionCollector> tables;
    std::map<int, int> types;  // of elementary streams
    std::map<int, std::int64_t> table_seen;
    int pcr_pid = -1;
    std::vector<int> pmt_pids;
    std::vector<Waiting> waiting;
    std::optional<std::int64_t> last_clock;  // as it was told
    std::int64_t now = 0;                    // 27 MHz since the first
    std::int64_t packets_between = 0, last_between = 0, last_interval = 0;

    void take_clock(std::int64_t clock, bool announced);
    void arrive(const Waiting& packet, std::int64_t at);
    void end_unit(Stream& stream);
    void take_table(int pid, const ts::TransportPacket& packet);
};

void TransportMeter::State::take_table(int pid, const ts::TransportPacket& packet) {
    const auto section = tables[pid].push(packet);
    if (!section) return;
    if (pid == ts::kPatPid) {
        pmt_pids.clear();
        for (const auto& [number, pmt] : ts::parse_pat(*section)) {
            if (number != 0) pmt_pids.push_back(pmt);
        }
    } else if (const auto program = ts::parse_pmt(*section)) {
        if (pcr_pid < 0 && program->pcr_pid != ts::kNullPid) pcr_pid = program->pcr_pid;
        for (const ts::ProgramStream& stream : program->streams) types[stream.pid] = stream.type;
    }
    if (!last_clock) return;
    if (const auto seen = table_seen.find(pid); seen != table_seen.end())
        report.table_interval = std::max(report.table_interval, base::from_ticks(now - seen->second, kTicks));
    table_seen[pid] = now;
}

void TransportMeter::State::end_unit(Stream& stream) {
    if (!stream.decoding) return;
    TransportStreamMeasure& m = stream.measure;
    ++m.units;
    if (const std::int64_t over = stream.unit_last - *stream.decoding; over > 0) {
        ++m.late;
        m.latest = std::max(m.latest, base::from_ticks(over, kTicks));
    }
    m.earliest = std::max(m.earliest, base::from_ticks(*stream.decoding - stream.unit_first, kTicks));
    stream.decoding.reset();
}

void TransportMeter::State::arrive(const Waiting& packet, std::int64_t at) {
    const auto type = types.find(packet.pid);
    if (type == types.end()) return;
    Stream& stream = streams[packet.pid];
    TransportStreamMeasure& m = stream.measure;
    m.type = type->second;
    if (stream.drain == 0) stream.drain = drain_of(m.type) / kTicks;
    stream.level = std::max(0.0, stream.level - stream.drain * static_cast<double>(at - stream.level_at));
    stream.level_at = at;
    stream.level += static_cast<double>(ts::kPacket);
    m.transport_buffer = std::max(m.transport_buffer, stream.level);
    if (stream.level > kTransportBuffer + 0.5) {
        ++m.overflows;
        stream.level = kTransportBuffer;
    }
    while (!stream.held.empty() && stream.held.front().first <= at) {
        stream.held_bytes -= stream.held.front().second;
        stream.held.pop_front();
    }
    if (packet.starts) {
        end_unit(stream);
        stream.decoding = packet.decoding;
        stream.unit_first = at;
    }
    if (!stream.decoding) return;
    stream.unit_last = at;
    stream.held.emplace_back(*stream.decoding, packet.payload);
    stream.held_bytes += packet.payload;
    m.held_bytes = std::max(m.held_bytes, stream.held_bytes);
}

void TransportMeter::State::take_clock(std::int64_t clock, bool announced) {
    ++report.clocks;
    if (!last_clock) {
        last_clock = clock;
        waiting.clear();
        packets_between = 0;
        return;
    }
    std::int64_t step = clock - *last_clock;
    if (step < -kClockRange / 2) step += kClockRange;
    const std::int64_t before = *last_clock;
    last_clock = clock;
    if (announced || step <= 0 || step > kJump) {
        if (!announced) ++report.clock_jumps;
        waiting.clear();
        packets_between = last_between = 0;
        for (auto& [pid, stream] : streams) {
            stream.decoding.reset();
            stream.held.clear();
            stream.held_bytes = 0;
        }
        table_seen.clear();
        return;
    }
    report.clock_interval = std::max(report.clock_interval, base::from_ticks(step, kTicks));
    // At a constant rate the time between references follows the packets between them.
    if (last_between > 0 && last_interval > 0 && packets_between > 0) {
        const double expected = static_cast<double>(last_interval) * static_cast<double>(packets_between) /
                                static_cast<double>(last_between);
        report.clock_jitter = std::max(
            report.clock_jitter,
            base::from_ticks(static_cast<std::int64_t>(std::abs(static_cast<double>(step) - expected)), kTicks));
    }
    last_between = packets_between;
    last_interval = step;
    packets_between = 0;
    const auto count = static_cast<std::int64_t>(waiting.size());
    for (std::int64_t i = 0; i < count; ++i) {
        Waiting& packet = waiting[static_cast<std::size_t>(i)];
        if (packet.decoding) {
            // On the line that begins with the first reference.
            std::int64_t distance = *packet.decoding - before;
            if (distance < -kClockRange / 2) distance += kClockRange;
            if (distance > kClockRange / 2) distance -= kClockRange;
            packet.decoding = now + distance;
        }
        arrive(packet, now + step * i / std::max<std::int64_t>(count, 1));
    }
    waiting.clear();
    now += step;
    report.duration = base::from_ticks(now, kTicks);
}

TransportMeter::TransportMeter() : state_(std::make_unique<State>()) {}
TransportMeter::~TransportMeter() = default;
TransportMeter::TransportMeter(TransportMeter&&) noexcept = default;

void TransportMeter::push(ByteSpan bytes) {
    State& s = *state_;
    const auto packet = ts::parse_packet(bytes);
    if (!packet) return;
    ++s.report.packets;
    if (packet->error) {
        ++s.report.marked_bad;
        return;
    }
    if (packet->pid == ts::kNullPid) {
        ++s.report.null_packets;
        ++s.packets_between;
        if (s.last_clock && s.waiting.size() < kMostWaiting) s.waiting.push_back({ts::kNullPid, false, {}, 0});
        return;
    }
    Stream& stream = s.streams[packet->pid];
    ++stream.measure.packets;
    bool repeated = false;
    if (!packet->payload.empty()) {
        const int expected = stream.continuity ? (*stream.continuity + 1) & 15 : packet->continuity;
        if (packet->discontinuity) {
            stream.repeated_once = false;
        } else if (stream.continuity && packet->continuity == *stream.continuity && !stream.repeated_once &&
                   std::equal(stream.last.begin(), stream.last.end(), packet->payload.begin(), packet->payload.end())) {
            ++s.report.repeated;
            stream.repeated_once = repeated = true;
        } else {
            if (packet->continuity != expected) {
                ++s.report.discontinuities;
                if (!s.report.first_discontinuity) s.report.first_discontinuity = base::from_ticks(s.now, kTicks);
            }
            stream.repeated_once = false;
        }
        stream.continuity = packet->continuity;
        stream.last.assign(packet->payload.begin(), packet->payload.end());
    }
    if (packet->pid == ts::kPatPid || std::find(s.pmt_pids.begin(), s.pmt_pids.end(), packet->pid) != s.pmt_pids.end())
        s.take_table(packet->pid, *packet);
    if (packet->pcr_27mhz && packet->pid == s.pcr_pid) s.take_clock(*packet->pcr_27mhz, packet->discontinuity);
    ++s.packets_between;
    if (!s.last_clock || s.waiting.size() >= kMostWaiting) return;
    Waiting waiting;
    waiting.pid = packet->pid;
    waiting.payload = repeated ? 0 : static_cast<std::int64_t>(packet->payload.size());
    if (packet->starts && s.types.contains(packet->pid)) {
        waiting.starts = true;
        if (const auto pes = ts::parse_pes(packet->payload)) {
            const auto timestamp = pes->dts ? pes->dts : pes->pts;
            if (timestamp) waiting.decoding = *timestamp * 300;
        }
    }
    s.waiting.push_back(waiting);
}

Time TransportMeter::reached() const {
    return state_->report.duration;
}

TransportReport TransportMeter::report() const {
    TransportReport report = state_->report;
    for (const auto& [pid, stream] : state_->streams) {
        if (!state_->types.contains(pid)) continue;
        report.streams.push_back(stream.measure);
        report.streams.back().pid = pid;
        report.streams.back().type = state_->types.at(pid);
    }
    if (report.duration.count() > 0)
        report.mean_bps = static_cast<std::int64_t>(static_cast<double>(report.packets * ts::kPacket) * 8 /
                                                    base::to_seconds(report.duration));
    return report;
}

Result<TransportReport> measure_transport(base::ByteSource& source, const Progress& progress, const Cancel& cancel) {
    constexpr std::size_t kPiece = 1 << 20;
    ByteVector piece(kPiece);
    WAVECREST_TRY_ASSIGN(head, source.read_at(0, piece));
    const auto layout = ts::find_layout(ByteSpan(piece).first(head));
    if (!layout)
        return fail(ErrorKind::input, "there are no transport packets", source.name(), "name a transport stream");
    TransportMeter meter;
    for (std::uint64_t at = layout->first;;) {
        if (cancel.requested()) return base::interrupted();
        WAVECREST_TRY_ASSIGN(got, source.read_at(at, piece));
        if (got < layout->size) break;
        if (piece[layout->lead] != ts::kSync) {
            // Behind damage packets may begin elsewhere.
            const auto next = ts::find_layout(ByteSpan(piece).first(got), layout->size);
            at += next && next->first > 0 ? next->first : layout->size;
            continue;
        }
        const std::size_t count = got / layout->size;
        for (std::size_t i = 0; i < count; ++i)
            meter.push(ByteSpan(piece).subspan(i * layout->size + layout->lead, ts::kPacket));
        at += count * layout->size;
        if (progress) progress({meter.reached(), {}});
    }
    return meter.report();
}

std::vector<std::string> in_words(const TransportReport& report) {
    std::vector<std::string> words;
    const auto ms = [](Time time) { return fmt::format("{:.0f} ms", base::to_seconds(time) * 1000); };
    if (report.discontinuities > 0) {
        words.push_back(fmt::format("{} continuity errors, the first at {}", report.discontinuities,
                                    base::format_clock(report.first_discontinuity.value_or(Time{}))));
    }
    if (report.marked_bad > 0) words.push_back(fmt::format("{} packets with transport errors", report.marked_bad));
    if (report.clock_interval > std::chrono::milliseconds(100)) {
        words.push_back(fmt::format("PCR interval up to {} (limit 100 ms): receivers that follow it stutter",
                                    ms(report.clock_interval)));
    }
    if (report.clock_jumps > 0)
        words.push_back(fmt::format("{} PCR discontinuities without indicator", report.clock_jumps));
    if (report.table_interval > std::chrono::milliseconds(500)) {
        words.push_back(fmt::format("tables are up to {} apart (500 ms is the limit): channel change takes longer",
                                    ms(report.table_interval)));
    }
    std::uint64_t late = 0;
    Time latest{};
    for (const TransportStreamMeasure& stream : report.streams) {
        late += stream.late;
        latest = std::max(latest, stream.latest);
    }
    if (late > 0) {
        words.push_back(fmt::format("late data (T-STD): {} frames, by up to {}: as a live stream it would stutter",
                                    late, ms(latest)));
    }
    return words;
}

}  // namespace wavecrest::measure
