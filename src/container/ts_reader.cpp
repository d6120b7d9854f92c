#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <chrono>
#include <cmath>
#include <deque>
#include <numeric>
#include <set>

#include "base/byte_source.hpp"
#include "base/units.hpp"
#include "base/window_reader.hpp"
#include "bitstream/headers.hpp"
#include "container/elementary.hpp"
#include "container/mpeg_ts.hpp"
#include "container/reader.hpp"
#include "container/skip_gate.hpp"

namespace wavecrest::container {
namespace {

using namespace ts;

constexpr std::int64_t kRange = std::int64_t{1} << 33;
constexpr std::size_t kProbeBytes = 24 << 20;
constexpr std::size_t kTableBytes = 8 << 20;
constexpr std::size_t kBatch = 512;  // packets
constexpr std::uint64_t kSurveyPiece = 64 << 10, kSurveyMost = 4 << 20;
constexpr int kSurveySamples = 64;
constexpr std::int64_t kSecond = 90000;
// Audio that comes so little before the first picture may be what a decoder needs to start.
constexpr Time kPriming = std::chrono::milliseconds(100);

bool has_priming(Codec codec) {
    return codec == Codec::aac || codec == Codec::mp3 || codec == Codec::opus;
}

bool is_video(Codec codec) {
    return codec >= Codec::mpeg1 && codec <= Codec::av1;
}

class TransportSource : public PacketSource {
  public:
    explicit TransportSource(std::shared_ptr<base::ByteSource> bytes) : bytes_(std::move(bytes), 4 << 20) {}

    Status open(int program);
    const std::vector<Track>& tracks() const override { return tracks_; }
    const std::vector<Chapter>& chapters() const override { return chapters_; }
    Time duration() const override { return duration_; }
    const std::vector<Problem>& problems() const override { return problems_; }
    Result<std::optional<Packet>> read() override;
    Status seek(Time time) override;
    std::vector<RatePiece> rate() const;

    std::vector<std::string> notes;
    std::vector<int> programs;
    std::string title;

  private:
    struct StreamState {
        ElementaryStream stream;
        TimestampClock::TrackState clock;
        int pid = 0;
        int continuity = -1;
        bool open = false;  // a PES packet has begun
    };
    // An interval of the file over which timestamps go on.
    struct Segment {
        std::uint64_t from = 0;                                       // bytes
        std::int64_t first = 0;                                       // timestamp there
        std::int64_t ticks = 0;                                       // on the continuous timeline
        std::int64_t length = 0;                                      // ticks
        std::vector<std::pair<std::uint64_t, std::int64_t>> samples;  // bytes, ticks since `first`
    };

    Status find_tables(int program);
    Status read_beginning();
    Status settle_streams();
    void start_timeline();
    void describe_tracks();
    void note_layout();
    Ratio rate_by_times(const Track& track) const;
    Status read_more();
    void take_packet(ByteSpan bytes);
    void take_table(const ts::TransportPacket& packet);
    void adopt(const Program& program);
    void collect(StreamState& stream_state);
    void report(std::string what);
    Time now() const { return std::max(reached_, Time{}); }
    void survey();
    // The first timestamp (decoding time, if told) of the reference stream at or behind a place, and where it lies.
    std::optional<std::pair<std::uint64_t, std::int64_t>> timestamp_at(std::uint64_t place, std::uint64_t limit);
    std::optional<std::int64_t> last_timestamp(std::uint64_t from, std::uint64_t to);
    void go_to(std::uint64_t place, std::pair<std::int64_t, std::int64_t> clock);
    // Of a stream that no table names.
    Codec guess_codec(int pid, std::uint8_t stream_id);
    std::uint64_t aligned(std::uint64_t place) const {
        if (place <= layout_.first) return layout_.first;
        return layout_.first + (place - layout_.first) / layout_.size * layout_.size;
    }

    base::WindowReader bytes_;
    Layout layout_;
    std::uint64_t at_ = 0;
    bool ended_ = false;
    std::map<int, int> pmts_;  // PMT PID by program
    std::map<int, Program> found_;
    Program program_;
    int pmt_pid_ = -1;
    std::map<int, SectionCollector> sections_;
    std::vector<StreamState> stream_states_;
    std::array<std::int16_t, 8192> state_of_{};
    std::set<int> scrambled_;
    std::uint64_t scrambled_packets_ = 0, clear_packets_ = 0;
    TimestampClock clock_;
    Time shift_{};
    bool started_ = false;
    Time reached_{};
    std::deque<Packet> ready_;
    std::vector<Track> tracks_;
    std::vector<Chapter> chapters_;
    std::vector<Problem> problems_;
    Time duration_{};
    int reference_pid_ = -1;
    std::vector<Segment> segments_;
    SkipGate skip_;
};

Status TransportSource::open(int number) {
    const auto head = bytes_.view(0, 64 << 10);
    if (!head) return fail(head.error());
    const auto layout = find_layout(*head);
    if (!layout) {
        return fail(ErrorKind::input, "not a transport stream", fmt::format("{}, byte 0", bytes_.source().name()),
                    "name a transport stream");
    }
    layout_ = *layout;
    at_ = layout_.first;
    state_of_.fill(-1);
    WAVECREST_TRY(find_tables(number));
    for (const auto& [n, program] : found_) programs.push_back(n);
    // The continuous timeline has the reference stream's own timestamps, so that what was rounded to them stays on its
    // grid.
    if (const auto first = timestamp_at(layout_.first, base::kUnknownSize))
        clock_.restart(first->second, base::from_ticks(first->second, 90'000));
    at_ = layout_.first;
    WAVECREST_TRY(read_beginning());
    WAVECREST_TRY(settle_streams());
    start_timeline();
    if (bytes_.source().seekable()) survey();
    describe_tracks();
    note_layout();
    problems_.clear();
    return {};
}

// Until every track has told what it is and the first pictures are there.
Status TransportSource::read_beginning() {
    const auto complete = [&] {
        return std::all_of(stream_states_.begin(), stream_states_.end(), [](const StreamState& stream_state) {
            return stream_state.stream.described() || stream_state.stream.track().kind == TrackKind::subtitle;
        });
    };
    const auto pictures = [&] {
        return std::count_if(ready_.begin(), ready_.end(), [&](const Packet& p) { return p.track == reference_pid_; });
    };
    const std::uint64_t probe_end = at_ + kProbeBytes;
    while (!ended_ && at_ < probe_end && (!complete() || pictures() < 8)) WAVECREST_TRY(read_more());
    if (scrambled_packets_ > 16 && clear_packets_ < scrambled_packets_ / 8) {
        return fail(ErrorKind::input, "this recording is copy-protected (scrambled packets)", bytes_.source().name(),
                    "copy-protected material can't be converted, and trying again won't change that; use an "
                    "unprotected source");
    }
    return {};
}

// What hasn't told what it is until then is left out.
Status TransportSource::settle_streams() {
    std::erase_if(stream_states_, [](const StreamState& stream_state) {
        return !stream_state.stream.described() && stream_state.stream.track().kind != TrackKind::subtitle;
    });
    state_of_.fill(-1);
    for (std::size_t i = 0; i < stream_states_.size(); ++i)
        state_of_[static_cast<std::size_t>(stream_states_[i].pid)] = static_cast<std::int16_t>(i);
    if (stream_states_.empty()) {
        return fail(ErrorKind::input, "no supported video or audio in this transport stream", bytes_.source().name(),
                    "record or copy it again");
    }
    if (std::none_of(stream_states_.begin(), stream_states_.end(),
                     [&](const StreamState& stream_state) { return stream_state.pid == reference_pid_; }))
        reference_pid_ = stream_states_.front().pid;
    return {};
}

// Time 0 is the first picture's that can be shown, in a recording that was entered between two of them; else the
// earliest of all tracks. AudioFrames just before the picture may be what its decoder starts with.
void TransportSource::start_timeline() {
    const auto first_of = [&](bool pictures_only) {
        std::optional<Time> first;
        for (const Packet& packet : ready_) {
            if (state_of_[static_cast<std::size_t>(packet.track)] < 0) continue;
            const Track& track =
                stream_states_[static_cast<std::size_t>(state_of_[static_cast<std::size_t>(packet.track)])]
                    .stream.track();
            if (track.kind == TrackKind::subtitle || (pictures_only && packet.track != reference_pid_)) continue;
            first = first ? std::min(*first, packet.pts) : packet.pts;
        }
        return first;
    };
    std::optional<Time> zero = first_of(true);
    const std::optional<Time> earliest = first_of(false);
    int left_out = 0;
    for (const StreamState& stream_state : stream_states_)
        left_out += stream_state.pid == reference_pid_ ? stream_state.stream.left_out() : 0;
    if (!zero || (left_out == 0 && *earliest < *zero - kPriming)) zero = earliest;
    shift_ = -zero.value_or(Time{});
    started_ = true;
    std::deque<Packet> early = std::exchange(ready_, {});
    reached_ = Time{};
    for (Packet& packet : early) {
        packet.pts += shift_;
        packet.dts += shift_;
        reached_ = std::max(reached_, packet.pts);
        ready_.push_back(std::move(packet));
    }
    for (StreamState& stream_state : stream_states_) {
        Track& track = stream_state.stream.track();
        if (track.kind == TrackKind::video && track.frame_rate.num == 0) track.frame_rate = rate_by_times(track);
    }
}

void TransportSource::describe_tracks() {
    for (const StreamState& stream_state : stream_states_) {
        Track track = stream_state.stream.track();
        track.duration = duration_;
        std::vector<ByteSpan> first_pictures;
        for (const Packet& packet : ready_) {
            if (packet.track == track.id) first_pictures.push_back(packet.data.view());
        }
        bitstream::describe_cadence(track, first_pictures);
        tracks_.push_back(std::move(track));
    }
}

void TransportSource::note_layout() {
    if (layout_.size == kTimedPacket) notes.emplace_back("192-byte packets with arrival timestamps (M2TS)");
    if (layout_.first > 0) notes.push_back(fmt::format("{} bytes before the first packet skipped", layout_.first));
    for (const ProgramStream& stream : program_.streams) {
        if (stream.codec == Codec::unknown)
            notes.push_back(
                fmt::format("{}{} skipped", stream.what, stream.language.empty() ? "" : " (" + stream.language + ")"));
    }
    if (programs.size() > 1) notes.push_back(fmt::format("{} programs: each is a title", programs.size()));
}

// The rate of pictures whose stream tells none, by the commonest distance of the first ones; 0 where none is common.
Ratio TransportSource::rate_by_times(const Track& track) const {
    std::vector<Time> times;
    for (const Packet& packet : ready_) {
        if (packet.track == track.id) times.push_back(packet.pts);
    }
    std::sort(times.begin(), times.end());
    if (times.size() < 4) return {0, 1};
    // The last ones may still lack some that are shown before them.
    times.resize(times.size() - 2);
    std::vector<Time> distances;
    for (std::size_t i = 1; i < times.size(); ++i) distances.push_back(times[i] - times[i - 1]);
    std::sort(distances.begin(), distances.end());
    const Time kStamps = base::from_ticks(2, 90'000);
    if (distances.front() <= kStamps) return {0, 1};
    // Rounded to ticks, equal ones differ by two at most.
    std::size_t from = 0, most = 0;
    for (std::size_t first = 0, behind = 0; first < distances.size(); ++first) {
        while (behind < distances.size() && distances[behind] <= distances[first] + kStamps) ++behind;
        if (behind - first <= most) continue;
        from = first;
        most = behind - first;
    }
    if (most * 2 <= distances.size()) return {0, 1};
    const auto common = distances.begin() + static_cast<std::ptrdiff_t>(from);
    const double mean = base::to_seconds(std::accumulate(common, common + static_cast<std::ptrdiff_t>(most), Time{})) /
                        static_cast<double>(most);
    constexpr double kTolerance = 4e-4;  // 30 and 29.97 are 1e-3 apart
    Ratio rate = rate_of_period(std::llround(mean * 1e9), kTolerance);
    // Fields, each a picture of its own.
    if (track.scan != Scan::progressive && rate.value() > 40) rate = base::reduced({rate.num, rate.den * 2});
    return rate;
}

// Program association and map tables; without them the streams are told by what they carry.
Status TransportSource::find_tables(int number) {
    const std::uint64_t end = layout_.first + kTableBytes;
    std::map<int, SectionCollector> sections;
    std::map<int, std::string> names;
    std::map<int, std::uint64_t> started;  // PIDs on which PES packets begin, by stream_id
    for (std::uint64_t at = layout_.first; at < end;) {
        WAVECREST_TRY_ASSIGN(view, bytes_.view(at, kBatch * layout_.size));
        const std::size_t count = view.size() / layout_.size;
        if (count == 0) break;
        for (std::size_t i = 0; i < count; ++i) {
            const auto packet = parse_packet(view.subspan(i * layout_.size + layout_.lead, kPacket));
            if (!packet || packet->error) continue;
            const bool is_pmt =
                std::any_of(pmts_.begin(), pmts_.end(), [&](const auto& p) { return p.second == packet->pid; });
            if (packet->pid == kPatPid || packet->pid == kSdtPid || is_pmt) {
                const auto section = sections[packet->pid].push(*packet);
                if (!section) continue;
                if (packet->pid == kPatPid) {
                    if (pmts_.empty()) pmts_ = parse_pat(*section);
                } else if (packet->pid == kSdtPid) {
                    for (auto& [n, name] : parse_sdt(*section)) names[n] = name;
                } else if (const auto program = parse_pmt(*section)) {
                    found_.emplace(program->number, *program);
                }
                continue;
            }
            if (packet->starts) {
                if (const auto pes = parse_pes(packet->payload)) started.emplace(packet->pid, pes->stream_id);
            }
        }
        at += count * layout_.size;
        const bool all = !pmts_.empty() && found_.size() >= pmts_.size();
        if (all && at > layout_.first + (1 << 20)) break;
        if (!bytes_.source().seekable() && (all || at > (6u << 20))) break;  // what has gone by over a pipe is gone
    }
    if (found_.empty()) {
        Program program;
        program.number = 1;
        for (const auto& [pid, id] : started) {
            ProgramStream stream;
            stream.pid = pid;
            // Without a map only the stream's kind is known; the codec is told by its first bytes.
            stream.codec = guess_codec(pid, static_cast<std::uint8_t>(id));
            if (stream.codec != Codec::unknown) program.streams.push_back(stream);
        }
        if (program.streams.empty()) {
            return fail(ErrorKind::input,
                        "this transport stream has no PAT/PMT, and no stream that can be detected without them",
                        bytes_.source().name(), "record or copy it again");
        }
        notes.emplace_back("PAT/PMT missing: streams detected by their content");
        found_.emplace(1, program);
    }
    const Program* chosen = nullptr;
    for (const auto& [n, program] : found_) {
        if (number != 0 && n == number) chosen = &program;
        const bool video = std::any_of(program.streams.begin(), program.streams.end(),
                                       [](const ProgramStream& s) { return is_video(s.codec); });
        if (number == 0 && chosen == nullptr && video) chosen = &program;
    }
    if (chosen == nullptr && number == 0) chosen = &found_.begin()->second;
    if (chosen == nullptr) {
        return fail(ErrorKind::usage, fmt::format("there is no program {}", number), bytes_.source().name(),
                    "wavecrest inspect lists the programs");
    }
    program_ = *chosen;
    if (const auto pmt = pmts_.find(program_.number); pmt != pmts_.end()) pmt_pid_ = pmt->second;
    if (const auto name = names.find(program_.number); name != names.end()) title = name->second;
    adopt(program_);
    for (const StreamState& stream_state : stream_states_) {
        if (stream_state.stream.track().kind == TrackKind::video && reference_pid_ < 0)
            reference_pid_ = stream_state.pid;
    }
    if (reference_pid_ < 0 && !stream_states_.empty()) reference_pid_ = stream_states_.front().pid;
    return {};
}

Codec TransportSource::guess_codec(int pid, std::uint8_t stream_id) {
    ByteVector sample;
    bool open = false;
    for (std::uint64_t at = layout_.first; at < layout_.first + (2u << 20) && sample.size() < (64u << 10);
         at += layout_.size) {
        const auto view = bytes_.view(at, layout_.size);
        if (!view || view->size() < layout_.size) break;
        const auto packet = parse_packet(view->subspan(layout_.lead, kPacket));
        if (!packet || packet->pid != pid) continue;
        if (packet->starts) {
            const auto pes = parse_pes(packet->payload);
            open = pes.has_value();
            if (open) sample.insert(sample.end(), pes->payload.begin(), pes->payload.end());
        } else if (open) {
            sample.insert(sample.end(), packet->payload.begin(), packet->payload.end());
        }
    }
    if (stream_id >= 0xE0 && stream_id <= 0xEF) {
        for (std::size_t at = bitstream::mpeg2::find_start_code(sample, 0); at + 5 < sample.size();
             at = bitstream::mpeg2::find_start_code(sample, at + 3)) {
            if (sample[at + 3] == bitstream::mpeg2::kSequenceHeader) return Codec::mpeg2;
            if ((sample[at + 3] & 0x9F) == 0x07) return Codec::h264;  // a sequence parameter set
            if (sample[at + 3] == 0x40 || sample[at + 3] == 0x42) return Codec::h265;
        }
        return Codec::unknown;
    }
    for (const Codec codec : {Codec::aac, Codec::ac3, Codec::dts, Codec::mp2}) {
        bitstream::AudioFrameSplitter splitter(codec);
        std::vector<bitstream::AudioFrame> frames;
        splitter.push(sample, std::nullopt, frames);
        if (frames.size() >= 3) return frames.front().header.codec;
    }
    return Codec::unknown;
}

// Makes stream_states of a program's streams, or gives those that are there the PIDs of a changed table.
void TransportSource::adopt(const Program& program) {
    const bool first = stream_states_.empty();
    std::set<int> taken;
    for (const StreamState& stream_state : stream_states_) {
        const bool stays = std::any_of(program.streams.begin(), program.streams.end(),
                                       [&](const ProgramStream& s) { return s.pid == stream_state.pid; });
        if (stays) taken.insert(stream_state.pid);
    }
    if (!first) {
        for (StreamState& stream_state : stream_states_) {
            if (taken.contains(stream_state.pid)) continue;
            for (const ProgramStream& stream : program.streams) {
                if (taken.contains(stream.pid) || stream.codec != stream_state.stream.track().codec) continue;
                state_of_[static_cast<std::size_t>(stream_state.pid)] = -1;
                stream_state.stream.flush();
                collect(stream_state);
                stream_state.pid = stream.pid;
                stream_state.continuity = -1;
                stream_state.open = false;
                state_of_[static_cast<std::size_t>(stream_state.pid)] =
                    static_cast<std::int16_t>(&stream_state - stream_states_.data());
                taken.insert(stream.pid);
                break;
            }
        }
        return;
    }
    for (const ProgramStream& stream : program.streams) {
        if (stream.codec == Codec::unknown || stream.pid < 16 || stream.pid >= kNullPid) continue;
        Track track;
        track.id = stream.pid;
        track.codec = stream.codec;
        track.kind = is_video(stream.codec)       ? TrackKind::video
                     : stream.codec == Codec::pgs ? TrackKind::subtitle
                                                  : TrackKind::audio;
        track.language = stream.language == "und" ? "" : stream.language;
        track.purpose = stream.purpose;
        const bool known = std::any_of(stream_states_.begin(), stream_states_.end(),
                                       [&](const StreamState& l) { return l.pid == stream.pid; });
        if (!known) stream_states_.push_back({ElementaryStream(std::move(track)), {}, stream.pid, -1, false});
    }
    for (std::size_t i = 0; i < stream_states_.size(); ++i)
        state_of_[static_cast<std::size_t>(stream_states_[i].pid)] = static_cast<std::int16_t>(i);
}

void TransportSource::report(std::string what) {
    const Time at = now();
    if (!problems_.empty() && problems_.back().what == what && at - problems_.back().to < std::chrono::seconds(1)) {
        problems_.back().to = std::max(problems_.back().to, at);
        return;
    }
    constexpr std::size_t kMost = 10000;
    if (problems_.size() < kMost) problems_.push_back({std::move(what), at, at});
}

Status TransportSource::read_more() {
    WAVECREST_TRY_ASSIGN(view, bytes_.view(at_, kBatch * layout_.size));
    const std::size_t count = view.size() / layout_.size;
    if (count == 0) {
        for (StreamState& stream_state : stream_states_) {
            stream_state.stream.flush();
            collect(stream_state);
        }
        ended_ = true;
        return {};
    }
    for (std::size_t i = 0; i < count; ++i) {
        const ByteSpan bytes = view.subspan(i * layout_.size + layout_.lead, kPacket);
        if (bytes[0] == kSync) {
            take_packet(bytes);
            continue;
        }
        // Out of step: bytes are missing or too many. Goes on where packets follow one another again.
        at_ += i * layout_.size;
        report("loss of sync: damaged bytes skipped");
        while (true) {
            WAVECREST_TRY_ASSIGN(rest, bytes_.view(at_, 64 << 10));
            const auto layout = find_layout(rest, layout_.size);
            if (layout) {
                at_ += layout->first;
                break;
            }
            if (rest.size() < (64 << 10)) {
                at_ += rest.size();
                break;
            }
            at_ += rest.size() - 4096;
        }
        for (StreamState& stream_state : stream_states_) stream_state.continuity = -1;
        return {};
    }
    at_ += count * layout_.size;
    return {};
}

void TransportSource::take_packet(ByteSpan bytes) {
    const int pid = (bytes[1] & 0x1F) << 8 | bytes[2];
    const int index = state_of_[static_cast<std::size_t>(pid)];
    if (index < 0) {
        if (pid == pmt_pid_ || pid == kPatPid) {
            if (const auto packet = parse_packet(bytes)) take_table(*packet);
        }
        return;
    }
    const auto packet = parse_packet(bytes);
    if (!packet) return;
    StreamState& stream_state = stream_states_[static_cast<std::size_t>(index)];
    if (packet->error) {
        report("packets with transport errors");
        stream_state.stream.lost();
        stream_state.open = false;
        return;
    }
    if (packet->scrambled) {
        ++scrambled_packets_;
        if (started_) report("scrambled packets");
        return;
    }
    ++clear_packets_;
    if (packet->payload.empty()) return;
    if (stream_state.continuity >= 0 && !packet->discontinuity) {
        if (packet->continuity == stream_state.continuity) return;  // sent twice
        if (packet->continuity != ((stream_state.continuity + 1) & 15)) {
            report("packets are missing");
            stream_state.stream.lost();
            stream_state.open = false;
        }
    }
    stream_state.continuity = packet->continuity;
    if (!packet->starts) {
        if (!stream_state.open) return;
        stream_state.stream.push(packet->payload, std::nullopt, std::nullopt);
    } else {
        const auto pes = parse_pes(packet->payload);
        if (!pes) {
            stream_state.open = false;
            return;
        }
        if (pes->scrambled) {
            ++scrambled_packets_;
            return;
        }
        // TrueHD's own packets lie between those of its core, told apart by an extension of the stream's number.
        if (stream_state.stream.track().codec == Codec::truehd && pes->stream_id_extension == 0x72) {
            stream_state.open = false;
            return;
        }
        stream_state.open = true;
        const auto [pts, dts] = clock_.on_timeline(stream_state.clock, pes->pts, pes->dts);
        stream_state.stream.push(pes->payload, pts, dts);
    }
    if (!stream_state.stream.ready().empty()) collect(stream_state);
    for (const TimestampClock::Jump& jump : clock_.take_jumps()) {
        if (started_)
            report(fmt::format("clock discontinuity of {}{}", jump.by.count() < 0 ? "-" : "",
                               base::format_span(std::chrono::abs(jump.by))));
    }
}

void TransportSource::take_table(const ts::TransportPacket& packet) {
    const auto section = sections_[packet.pid].push(packet);
    if (!section) return;
    if (packet.pid == kPatPid) {
        const auto programs_now = parse_pat(*section);
        const auto mine = programs_now.find(program_.number);
        if (mine != programs_now.end()) pmt_pid_ = mine->second;
        return;
    }
    const auto program = parse_pmt(*section);
    if (!program || program->number != program_.number) return;
    const auto same = [](const ProgramStream& a, const ProgramStream& b) { return a.pid == b.pid && a.type == b.type; };
    if (std::equal(program->streams.begin(), program->streams.end(), program_.streams.begin(), program_.streams.end(),
                   same))
        return;
    program_ = *program;
    adopt(program_);
}

void TransportSource::collect(StreamState& stream_state) {
    auto& from = stream_state.stream.ready();
    while (!from.empty()) {
        Packet packet = std::move(from.front());
        from.pop_front();
        if (started_) {
            packet.pts += shift_;
            packet.dts += shift_;
            reached_ = std::max(reached_, packet.pts);
        }
        ready_.push_back(std::move(packet));
    }
}

Result<std::optional<Packet>> TransportSource::read() {
    while (true) {
        while (ready_.empty() && !ended_) WAVECREST_TRY(read_more());
        if (ready_.empty()) return std::optional<Packet>{};
        Packet packet = std::move(ready_.front());
        ready_.pop_front();
        const auto track =
            std::find_if(tracks_.begin(), tracks_.end(), [&](const Track& t) { return t.id == packet.track; });
        if (track == tracks_.end()) continue;
        const bool video = track->kind == TrackKind::video;
        if (skip_.leaves_out(track->kind, packet)) continue;
        // What comes before the first picture.
        if (!video && packet.pts < (has_priming(track->codec) ? -kPriming : Time{}) &&
            packet.pts + packet.duration <= Time{})
            continue;
        return std::optional<Packet>(std::move(packet));
    }
}

std::optional<std::pair<std::uint64_t, std::int64_t>> TransportSource::timestamp_at(std::uint64_t place,
                                                                                    std::uint64_t limit) {
    place = aligned(place);
    const std::uint64_t stop = std::min(limit, place + kSurveyMost);
    while (place < stop) {
        const auto view = bytes_.view(place, kSurveyPiece / layout_.size * layout_.size);
        if (!view || view->size() < layout_.size) return std::nullopt;
        const std::size_t count = view->size() / layout_.size;
        for (std::size_t i = 0; i < count; ++i) {
            const ByteSpan bytes = view->subspan(i * layout_.size + layout_.lead, kPacket);
            if (bytes[0] != kSync || ((bytes[1] & 0x1F) << 8 | bytes[2]) != reference_pid_ || (bytes[1] & 0x40) == 0)
                continue;
            const auto packet = parse_packet(bytes);
            if (!packet) continue;
            const auto pes = parse_pes(packet->payload);
            if (pes && pes->pts) return std::pair(place + i * layout_.size, pes->dts.value_or(*pes->pts));
        }
        place += count * layout_.size;
    }
    return std::nullopt;
}

// The latest presentation time in an interval.
std::optional<std::int64_t> TransportSource::last_timestamp(std::uint64_t from, std::uint64_t to) {
    std::optional<std::int64_t> last;
    from = aligned(from);
    while (from < to) {
        const auto view = bytes_.view(from, kSurveyPiece / layout_.size * layout_.size);
        if (!view || view->size() < layout_.size) break;
        const std::size_t count = view->size() / layout_.size;
        for (std::size_t i = 0; i < count; ++i) {
            const ByteSpan bytes = view->subspan(i * layout_.size + layout_.lead, kPacket);
            if (bytes[0] != kSync || ((bytes[1] & 0x1F) << 8 | bytes[2]) != reference_pid_ || (bytes[1] & 0x40) == 0)
                continue;
            const auto packet = parse_packet(bytes);
            const auto pes = packet ? parse_pes(packet->payload) : std::nullopt;
            if (!pes || !pes->pts) continue;
            if (!last || ((*pes->pts - *last + kRange) % kRange) < kRange / 2) last = *pes->pts;
        }
        from += count * layout_.size;
    }
    return last;
}

// Samples the clock over the file: its length, and where it jumps.
void TransportSource::survey() {
    const std::uint64_t size = bytes_.size();
    const auto samples = static_cast<int>(std::clamp<std::uint64_t>(size / (32 << 10), 1, kSurveySamples));
    std::vector<std::pair<std::uint64_t, std::int64_t>> timestamps;
    for (int i = 0; i < samples; ++i) {
        const auto found =
            timestamp_at(size / static_cast<std::uint64_t>(samples) * static_cast<std::uint64_t>(i), size);
        if (found && (timestamps.empty() || found->first > timestamps.back().first)) timestamps.push_back(*found);
    }
    if (timestamps.empty()) return;
    const auto forward = [](std::int64_t from, std::int64_t to) { return ((to - from) % kRange + kRange) % kRange; };
    std::vector<std::int64_t> steps;
    for (std::size_t i = 1; i < timestamps.size(); ++i)
        steps.push_back(forward(timestamps[i - 1].second, timestamps[i].second));
    std::int64_t usual = 10 * kSecond;
    if (!steps.empty()) {
        auto sorted = steps;
        // The lower quartile: a few jumps must not pass for what is usual.
        const auto quartile = sorted.begin() + static_cast<std::ptrdiff_t>((sorted.size() - 1) / 4);
        std::nth_element(sorted.begin(), quartile, sorted.end());
        usual = *quartile;
    }
    const std::int64_t longest = std::min(usual * 8 + 20 * kSecond, kRange / 2);
    const auto begin = [&](std::uint64_t from, std::int64_t timestamp) {
        Segment segment;
        segment.from = from;
        segment.first = timestamp;
        segment.samples.emplace_back(from, 0);
        segment.ticks = segments_.empty() ? timestamp : segments_.back().ticks + segments_.back().length;
        segments_.push_back(std::move(segment));
    };
    begin(timestamps.front().first, timestamps.front().second);
    for (std::size_t i = 1; i < timestamps.size(); ++i) {
        Segment& segment = segments_.back();
        const std::int64_t before = (segment.first + segment.samples.back().second) % kRange;
        const std::int64_t step = forward(before, timestamps[i].second);
        if (step <= longest) {
            segment.samples.emplace_back(timestamps[i].first, segment.samples.back().second + step);
            segment.length = segment.samples.back().second;
            continue;
        }
        // The clock jumps between the two: halved down to where.
        std::uint64_t low = segment.samples.back().first, high = timestamps[i].first;
        std::int64_t high_timestamp = timestamps[i].second, low_timestamp = before;
        // (No timestamp begins between `unmarked` and `high`.)
        std::uint64_t unmarked = high;
        while (unmarked > low + 2 * layout_.size) {
            const std::uint64_t place = low + (unmarked - low) / 2;
            const auto middle = timestamp_at(place, high);
            if (!middle || middle->first >= high) {
                unmarked = place;
            } else if (middle->first > low && forward(before, middle->second) <= longest) {
                low = middle->first;
                low_timestamp = middle->second;
            } else if (middle->first > low) {
                high = unmarked = middle->first;
                high_timestamp = middle->second;
            } else {
                break;
            }
        }
        const auto last = last_timestamp(low, high);
        const std::int64_t end = last && forward(low_timestamp, *last) <= longest ? *last : low_timestamp;
        segment.length = segment.samples.back().second + forward(before, end) + kSecond / 25;
        begin(high, high_timestamp);
        if (high != timestamps[i].first) {
            segments_.back().samples.emplace_back(timestamps[i].first, forward(high_timestamp, timestamps[i].second));
            segments_.back().length = segments_.back().samples.back().second;
        }
    }
    Segment& final_segment = segments_.back();
    const std::int64_t before = (final_segment.first + final_segment.samples.back().second) % kRange;
    std::optional<std::int64_t> last;
    for (std::uint64_t tail = 512 << 10; !last; tail *= 4) {
        const std::uint64_t from =
            std::max(size > tail ? size - tail : layout_.first, final_segment.samples.back().first);
        last = last_timestamp(from, size);
        if (from == final_segment.samples.back().first || from == layout_.first) break;
    }
    if (last && forward(before, *last) <= longest + kRange / 8)
        final_segment.length = final_segment.samples.back().second + forward(before, *last);
    // From the first picture shown to the end of the last.
    const StreamState* reference = nullptr;
    for (const StreamState& stream_state : stream_states_) {
        if (stream_state.pid == reference_pid_) reference = &stream_state;
    }
    Time period = std::chrono::milliseconds(40);
    if (reference != nullptr && reference->stream.track().frame_rate.num > 0)
        period = base::frames_to_time(1, reference->stream.track().frame_rate);
    std::int64_t total = 0;
    for (const Segment& segment : segments_) total += segment.length;
    // Counted from the first picture shown; what was left out before it is not part of it.
    duration_ = std::max(base::from_ticks(segments_.front().ticks + total, 90000) + period + shift_, Time{});
}

void TransportSource::go_to(std::uint64_t place, std::pair<std::int64_t, std::int64_t> clock) {
    at_ = aligned(place);
    ended_ = false;
    ready_.clear();
    skip_.set({});
    reached_ = Time{};
    for (StreamState& stream_state : stream_states_) {
        stream_state.stream.restart();
        stream_state.clock = {};
        stream_state.continuity = -1;
        stream_state.open = false;
    }
    clock_.restart(clock.first, base::from_ticks(clock.second, 90'000));
}

Status TransportSource::seek(Time time) {
    if (!bytes_.source().seekable()) {
        return fail(skips_refused(bytes_.source()));
    }
    if (segments_.empty()) return {};
    const std::int64_t wanted = base::to_ticks(time - shift_, 90000);
    Time back = std::chrono::seconds(0);
    const std::size_t told = problems_.size();
    while (true) {
        const std::int64_t target = wanted - base::to_ticks(back, 90000);
        const Segment* segment = &segments_.front();
        for (const Segment& s : segments_) {
            if (s.ticks <= target) segment = &s;
        }
        const std::int64_t inside = std::max<std::int64_t>(target - segment->ticks, 0);
        std::size_t sample = 0;
        while (sample + 1 < segment->samples.size() && segment->samples[sample + 1].second <= inside) ++sample;
        std::uint64_t low = segment->samples[sample].first;
        std::int64_t low_ticks = segment->samples[sample].second;
        std::uint64_t high = sample + 1 < segment->samples.size()                ? segment->samples[sample + 1].first
                             : segment + 1 < segments_.data() + segments_.size() ? (segment + 1)->from
                                                                                 : bytes_.size();
        while (high - low > (256 << 10)) {
            const auto middle = timestamp_at(low + (high - low) / 2, high);
            if (!middle || middle->first >= high) {
                high = low + (high - low) / 2;
                continue;
            }
            const std::int64_t ticks = ((middle->second - segment->first) % kRange + kRange) % kRange;
            if (ticks <= inside) {
                low = middle->first;
                low_ticks = ticks;
            } else {
                high = middle->first;
            }
        }
        const bool at_start = segment == &segments_.front() && low == segment->from;
        const std::uint64_t place = at_start ? layout_.first : low;
        const std::int64_t timestamp = at_start ? segment->first : (segment->first + low_ticks) % kRange;
        const std::pair<std::int64_t, std::int64_t> clock{timestamp, segment->ticks + (at_start ? 0 : low_ticks)};
        go_to(place, clock);
        std::optional<Time> key;
        bool past = false;
        const bool has_video =
            std::any_of(tracks_.begin(), tracks_.end(), [](const Track& t) { return t.kind == TrackKind::video; });
        while (!ended_ && !past) {
            WAVECREST_TRY(read_more());
            for (const Packet& packet : ready_) {
                if (has_video && packet.track != reference_pid_) continue;
                if (packet.dts > time) past = true;
                if (packet.key && packet.pts <= time && (!key || packet.pts > *key)) key = packet.pts;
            }
            ready_.clear();
        }
        problems_.resize(std::min(told, problems_.size()));
        if (key || at_start) {
            go_to(place, clock);
            skip_.set(key);
            return {};
        }
        back = back.count() == 0 ? Time(std::chrono::seconds(2)) : back * 2;
    }
}

std::vector<RatePiece> TransportSource::rate() const {
    std::vector<RatePiece> pieces;
    for (std::size_t i = 0; i < segments_.size(); ++i) {
        const Segment& s = segments_[i];
        for (std::size_t k = 0; k < s.samples.size(); ++k) {
            const bool last = k + 1 == s.samples.size();
            const std::uint64_t end = !last                      ? s.samples[k + 1].first
                                      : i + 1 < segments_.size() ? segments_[i + 1].from
                                                                 : bytes_.size();
            const std::int64_t to = last ? s.length : s.samples[k + 1].second;
            if (to > s.samples[k].second && end > s.samples[k].first)
                pieces.push_back({base::from_ticks(s.ticks + s.samples[k].second, 90000) + shift_,
                                  base::from_ticks(s.ticks + to, 90000) + shift_, end - s.samples[k].first});
        }
    }
    return pieces;
}

}  // namespace

Result<MediaFile> open_mpeg_ts(std::shared_ptr<base::ByteSource> bytes, int program) {
    auto source = std::make_unique<TransportSource>(std::move(bytes));
    WAVECREST_TRY(source->open(program));
    MediaFile file;
    file.container = "mpeg-ts";
    file.title = source->title;
    file.notes = source->notes;
    file.programs = source->programs;
    TransportSource* reader = source.get();
    file.rate = [reader] { return reader->rate(); };
    file.source = std::move(source);
    return file;
}

}  // namespace wavecrest::container
