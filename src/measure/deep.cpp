#include "measure/deep.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <cmath>
#include <map>

#include "base/units.hpp"
#include "bitstream/decoder_buffer.hpp"
#include "bitstream/h264.hpp"
#include "bitstream/levels.hpp"
#include "bitstream/mpeg2.hpp"
#include "codec/audio_decoder.hpp"
#include "codec/video_decoder.hpp"
#include "filter/borders.hpp"
#include "measure/loudness.hpp"
#include "media/language.hpp"
#include "transcode/graph.hpp"

namespace wavecrest::measure {
namespace {

constexpr std::int64_t kTenth = base::kFlicksPerSecond / 10;
constexpr std::size_t kMostBins = 10 * 3600 * 48;
constexpr std::size_t kMostGaps = 1000;
constexpr std::chrono::milliseconds kAudioTolerance{3};
const Time kLongestTrusted = base::from_seconds(3600);

// Fills and drains while packets go by.
class BufferModel {
  public:
    BufferModel(std::int64_t rate, std::int64_t size, bool claimed) {
        result_.rate_bps = rate;
        result_.size_bits = size;
        result_.claimed = claimed;
        level_ = static_cast<double>(size);
        result_.lowest_bits = size;
    }
    void take(const Packet& packet) {
        const double bits = static_cast<double>(packet.data.size()) * 8;
        if (begun_ && packet.dts > last_) {
            const double filled = static_cast<double>(result_.rate_bps) * base::to_seconds(packet.dts - last_);
            level_ = std::min(static_cast<double>(result_.size_bits), level_ + filled);
            deficit_ = std::max(0.0, deficit_ - filled);
        }
        begun_ = true;
        last_ = packet.dts;
        level_ -= bits;
        deficit_ += bits;
        result_.needed_bits = std::max(result_.needed_bits, static_cast<std::int64_t>(std::llround(deficit_)));
        if (level_ < 0) {
            ++result_.missed;
            if (!result_.first_missed) result_.first_missed = packet.pts;
            level_ = 0;
        }
        result_.lowest_bits = std::min(result_.lowest_bits, static_cast<std::int64_t>(level_));
    }
    const BufferMeasure& result() const { return result_; }

  private:
    BufferMeasure result_;
    double level_ = 0, deficit_ = 0;
    bool begun_ = false;
    Time last_{};
};

class LoudnessMeter {
  public:
    LoudnessMeter(const Track& track, bool sampled) : sampled_(sampled) {
        auto decoder = codec::make_audio_decoder(track);
        if (!decoder) {
            why_not_ = decoder.error().what;
            return;
        }
        decoder_ = std::move(*decoder);
    }

    void take(const Packet& packet) {
        if (!decoder_) return;
        ++packets_;
        if (sampled_) {
            // A little more is decoded before each range, for decoders that need it to start.
            const Time in_minute = Time(((packet.pts.count() % kMinute) + kMinute) % kMinute);
            if (in_minute > kStretch && in_minute < Time(kMinute) - kLead) {
                away_ = true;
                return;
            }
            if (std::exchange(away_, false)) skip_until_ = packet.pts + kLead / 2;
        }
        ++taken_;
        audio_frames_.clear();
        if (const auto status = decoder_->decode(packet, audio_frames_); !status) {
            why_not_ = status.error().what;
            decoder_.reset();
            return;
        }
        for (const AudioFrames& audio : audio_frames_) {
            if (audio.pts >= skip_until_) meter_.push(audio);
        }
    }
    std::string why_not() const { return why_not_; }
    std::optional<Loudness> result() {
        auto loudness = meter_.result();
        if (loudness) loudness->share = packets_ > 0 ? static_cast<double>(taken_) / static_cast<double>(packets_) : 1;
        return loudness;
    }

  private:
    std::unique_ptr<media::AudioDecoder> decoder_;
    std::vector<AudioFrames> audio_frames_;
    ProgrammeLoudness meter_;
    static constexpr std::int64_t kMinute = 60 * base::kFlicksPerSecond;
    static constexpr Time kStretch = std::chrono::seconds(10), kLead = std::chrono::milliseconds(200);
    bool sampled_, away_ = false;
    Time skip_until_ = Time::min();
    std::int64_t packets_ = 0, taken_ = 0;
    std::string why_not_;
};

struct TrackState {
    TrackMeasure measure;
    std::optional<BufferModel> buffer;
    std::unique_ptr<LoudnessMeter> loudness;
    std::optional<Time> next;
    Time last_dts{};
    bool seen = false;
    std::optional<bitstream::mpeg2::Sequence> sequence;
};

void begin_buffer(TrackState& track_state) {
    if (const auto limit = bitstream::decoder_buffer(track_state.measure.track,
                                                     track_state.sequence ? &*track_state.sequence : nullptr))
        track_state.buffer.emplace(limit->rate_bps, limit->size_bits, limit->claimed);
}

void take_mpeg2_flags(TrackState& track_state, ByteSpan data) {
    namespace mpeg2 = bitstream::mpeg2;
    for (std::size_t at = mpeg2::find_start_code(data, 0); at + 4 < data.size();
         at = mpeg2::find_start_code(data, at + 3)) {
        const std::uint8_t code = data[at + 3];
        if (code == mpeg2::kSequenceHeader) {
            track_state.sequence = mpeg2::parse_sequence(data.subspan(at));
            if (!track_state.buffer) begin_buffer(track_state);
        } else if (code == mpeg2::kPicture) {
            if (const auto picture = mpeg2::parse_picture(data.subspan(at))) {
                ++track_state.measure.flagged;
                track_state.measure.repeats += picture->repeat_first_field ? 1 : 0;
                track_state.measure.progressive += picture->progressive_frame ? 1 : 0;
            }
            return;  // what follows are slices
        }
    }
}

// By the bits of every second and of every ten.
std::string level_needed(const TrackMeasure& m) {
    return bitstream::needed_level(m.track, [&](double rate_bps) {
        double most = 0;
        for (const int seconds : {1, 10})
            most = std::max(most, (static_cast<double>(m.rate.peak(seconds * 10).bps) - rate_bps) * seconds);
        return most;
    });
}

void finish_pictures(TrackMeasure& m) {
    const auto& keys = m.keyframes;
    std::int64_t groups = 0;
    for (std::size_t i = 0; i < keys.size(); ++i) {
        const Time end = i + 1 < keys.size() ? keys[i + 1] : m.end;
        const Time length = end - keys[i];
        if (length.count() <= 0) continue;
        if (i + 1 < keys.size() && (groups++ == 0 || length < m.shortest_group)) m.shortest_group = length;
        if (length > m.longest_group) {
            m.longest_group = length;
            m.longest_group_at = keys[i];
        }
    }
    if (!keys.empty()) m.mean_group = (m.end - keys.front()) / static_cast<std::int64_t>(keys.size());
    m.needed_level = level_needed(m);
    if (m.flagged > 0) {
        const double repeated = static_cast<double>(m.repeats) / static_cast<double>(m.flagged);
        const double whole = static_cast<double>(m.progressive) / static_cast<double>(m.flagged);
        if (whole > 0.98 && repeated > 0.45 && repeated < 0.55) {
            m.cadence = "film, 3:2 pulldown, flagged";
        } else if (whole > 0.98 && repeated < 0.02) {
            m.cadence = "progressive";
        } else if (repeated > 0.02 && repeated < 0.98 && whole > 0.02) {
            m.cadence = fmt::format("mixed: {:.0f} % of frames progressive, {:.0f} % with repeated fields", 100 * whole,
                                    100 * repeated);
        } else if (whole < 0.02) {
            m.cadence = "field-coded (interlaced)";
        }
    }
}

// Cadence of pictures coded as fields, and black borders, at places spread over the title.
Status look_at_pictures(const Reopen& reopen, DeepReport& report, const Cancel& cancel) {
    TrackMeasure* video = nullptr;
    for (TrackMeasure& m : report.tracks) {
        if (m.track.kind == TrackKind::video && video == nullptr) video = &m;
    }
    if (video == nullptr) return {};
    video->not_decoded = codec::why_no_pictures(video->track);
    if (!video->not_decoded.empty()) return {};
    const bool fields = video->track.scan == Scan::interlaced && (video->track.codec == Codec::mpeg2) &&
                        video->cadence != "film, 3:2 pulldown, flagged";
    filter::CadenceFinder finder(video->track.frame_rate);
    Borders borders;
    bool any = false;
    std::string refused;
    constexpr int kPlaces = 9;
    WAVECREST_TRY_ASSIGN(source, reopen());
    for (int i = 0; i < kPlaces; ++i) {
        if (cancel.requested()) return base::interrupted();
        const double place = (i + 0.5) / kPlaces;
        const Time at = base::from_seconds(base::to_seconds(report.duration) * place);
        if (!source->seek(at)) continue;
        if (fields && i % 2 == 0) {
            (void)transcode::look_at_cadence(*source, video->track, std::chrono::seconds(2), {&finder});
            if (!source->seek(at)) continue;
        }
        // The first picture that can be decoded from here on.
        auto decoder = codec::make_video_decoder(video->track);
        if (!decoder) return {};
        std::vector<Picture> pictures;
        for (int packets = 0; packets < 4000 && pictures.empty(); ++packets) {
            auto packet = source->read();
            if (!packet || !*packet) break;
            if ((*packet)->track != video->track.id) continue;
            if (const auto status = (*decoder)->decode(**packet, pictures); !status) {
                refused = status.error().what;
                break;
            }
        }
        if (pictures.empty()) (void)(*decoder)->flush(pictures);
        if (pictures.empty()) continue;
        const auto found = filter::black_borders(pictures.front());
        if (!found) continue;  // a black picture tells nothing
        static_cast<filter::Borders&>(borders) = any ? filter::common(borders, *found) : *found;
        any = true;
        ++borders.pictures;
    }
    if (any) report.borders = borders;
    if (!any) video->not_decoded = std::move(refused);
    if (fields) {
        if (const auto found = finder.result())
            video->cadence =
                std::string(filter::describe(*found)) + (video->cadence.empty() ? "" : " (" + video->cadence + ")");
    }
    return {};
}

}  // namespace

void RateBins::add(Time from, Time duration, std::size_t bytes) {
    const std::int64_t start = std::max<std::int64_t>(from.count(), 0);
    const std::int64_t length = std::max<std::int64_t>(duration.count(), 1);
    const auto first = static_cast<std::size_t>(start / kTenth),
               last = static_cast<std::size_t>((start + length - 1) / kTenth);
    if (last >= kMostBins) return;
    if (bins_.size() <= last) bins_.resize(last + 1);
    if (first == last) {
        bins_[first] += static_cast<double>(bytes);
        return;
    }
    for (std::size_t bin = first; bin <= last; ++bin) {
        const std::int64_t begin = std::max<std::int64_t>(start, static_cast<std::int64_t>(bin) * kTenth);
        const std::int64_t end = std::min<std::int64_t>(start + length, static_cast<std::int64_t>(bin + 1) * kTenth);
        bins_[bin] += static_cast<double>(bytes) * static_cast<double>(end - begin) / static_cast<double>(length);
    }
}

std::int64_t RateBins::mean_bps(Time over) const {
    double sum = 0;
    for (const double bytes : bins_) sum += bytes;
    return over.count() > 0 ? static_cast<std::int64_t>(sum * 8 / base::to_seconds(over)) : 0;
}

RateBins::Peak RateBins::peak(int tenths) const {
    Peak best;
    double sum = 0, highest = -1;
    const auto window = static_cast<std::size_t>(tenths);
    for (std::size_t i = 0; i < bins_.size(); ++i) {
        sum += bins_[i];
        if (i >= window) sum -= bins_[i - window];
        if (sum > highest) {
            highest = sum;
            const std::size_t from = i + 1 >= window ? i + 1 - window : 0;
            best.at = Time(static_cast<std::int64_t>(from) * kTenth);
        }
    }
    const double seconds = std::min<double>(tenths, static_cast<double>(bins_.size())) / 10;
    best.bps = seconds > 0 ? static_cast<std::int64_t>(std::max(highest, 0.0) * 8 / seconds) : 0;
    return best;
}

std::vector<double> RateBins::per_second() const {
    std::vector<double> seconds((bins_.size() + 9) / 10);
    for (std::size_t i = 0; i < bins_.size(); ++i) seconds[i / 10] += bins_[i] * 8;
    if (bins_.size() % 10 != 0) seconds.back() *= 10.0 / static_cast<double>(bins_.size() % 10);
    return seconds;
}

RateBins& RateBins::operator+=(const RateBins& other) {
    if (bins_.size() < other.bins_.size()) bins_.resize(other.bins_.size());
    for (std::size_t i = 0; i < other.bins_.size(); ++i) bins_[i] += other.bins_[i];
    return *this;
}

Result<DeepReport> measure_deep(PacketSource& source, const Reopen& reopen, const DeepSettings& settings,
                                const Progress& progress, const Cancel& cancel) {
    using Clock = std::chrono::steady_clock;
    DeepReport report;
    std::map<TrackId, TrackState> track_states;
    for (const Track& track : source.tracks()) {
        TrackState& track_state = track_states[track.id];
        track_state.measure.track = track;
        if (track.kind == TrackKind::video) begin_buffer(track_state);
        if (settings.decode && track.kind == TrackKind::audio) {
            if (codec::can_decode_audio(track)) {
                track_state.loudness = std::make_unique<LoudnessMeter>(track, source.duration() > settings.all_of);
            } else {
                track_state.measure.not_decoded =
                    fmt::format("{} audio can't be decoded", media::display_name(track.codec));
            }
        }
    }
    const auto begun = Clock::now();
    Clock::duration decoding{};
    Time newest = Time::min(), reported{};
    std::int64_t count = 0;
    while (true) {
        if (cancel.requested()) return base::interrupted();
        WAVECREST_TRY_ASSIGN(packet, source.read());
        if (!packet) break;
        const auto found = track_states.find(packet->track);
        if (found == track_states.end()) continue;
        TrackState& track_state = found->second;
        TrackMeasure& m = track_state.measure;
        const std::size_t size = packet->data.size();
        if (packet->hidden) {
            // Read and decoded, but nothing that a viewer sees.
            m.rate.add(packet->dts, Time{}, size);
            continue;
        }
        const bool video = m.track.kind == TrackKind::video, audio = m.track.kind == TrackKind::audio;
        if (!track_state.seen) m.first = packet->pts;
        ++m.packets;
        m.bytes += size;
        m.end = std::max(m.end, packet->pts + packet->duration);
        const Time spread =
            packet->duration.count() > 0 && packet->duration < kLongestTrusted ? packet->duration : Time{};
        m.rate.add(packet->pts, video || audio ? spread : Time{}, size);
        const auto gap = [&](Time at, Time length) {
            ++m.gap_count;
            if (m.gaps.size() < kMostGaps) m.gaps.push_back({at, length});
        };
        if (audio) {
            if (track_state.next && std::chrono::abs(packet->pts - *track_state.next) > kAudioTolerance)
                gap(*track_state.next, packet->pts - *track_state.next);
            track_state.next = packet->pts + packet->duration;
        } else if (video) {
            if (track_state.seen && packet->duration.count() > 0) {
                const Time step = packet->dts - track_state.last_dts;
                if (step.count() <= 0) {
                    gap(track_state.last_dts, step);
                } else if (step > packet->duration * 5 / 2 && step > std::chrono::milliseconds(120)) {
                    gap(track_state.last_dts, step);
                }
            }
            if (packet->key) m.keyframes.push_back(packet->pts);
            if (m.track.codec == Codec::mpeg2 || m.track.codec == Codec::mpeg1)
                take_mpeg2_flags(track_state, packet->data.view());
            if (track_state.buffer) track_state.buffer->take(*packet);
        }
        track_state.last_dts = packet->dts;
        track_state.seen = true;
        if (video || audio) {
            // What lies so far ahead has to be read past before this can be played.
            if (newest != Time::min() && newest - packet->dts > report.interleave) {
                report.interleave = newest - packet->dts;
                report.interleave_at = packet->pts;
            }
            newest = std::max(newest, packet->dts);
        }
        if (track_state.loudness) {
            const auto before = Clock::now();
            track_state.loudness->take(*packet);
            decoding += Clock::now() - before;
        }
        if (progress && ++count % 256 == 0 && packet->dts > reported) {
            reported = packet->dts;
            progress({std::max(reported, Time{}), source.duration()});
        }
    }
    const auto structure = Clock::now() - begun - decoding;
    for (const Track& track : source.tracks()) {
        TrackState& track_state = track_states[track.id];
        TrackMeasure& m = track_state.measure;
        if (track.kind != TrackKind::subtitle) report.duration = std::max(report.duration, m.end);
        if (track_state.buffer) m.buffer = track_state.buffer->result();
        if (track_state.loudness) {
            m.loudness = track_state.loudness->result();
            if (!m.loudness) m.not_decoded = track_state.loudness->why_not();
        }
        if (track.kind == TrackKind::video) finish_pictures(m);
        report.rate += m.rate;
        report.tracks.push_back(std::move(m));
    }
    report.problems = source.problems();
    const auto looking = Clock::now();
    if (settings.decode && reopen) WAVECREST_TRY(look_at_pictures(reopen, report, cancel));
    decoding += Clock::now() - looking;
    report.structure_seconds = std::chrono::duration<double>(structure).count();
    report.decoding_seconds = std::chrono::duration<double>(decoding).count();
    return report;
}

std::vector<std::string> in_words(const DeepReport& report) {
    std::vector<std::string> words;
    // Links, by the payload TCP gets through them.
    constexpr double kWire = 94e6, kGigabit = 941e6;
    const auto peak = report.rate.peak(10);
    if (peak.bps > 0) {
        const auto screens = static_cast<int>(kWire / static_cast<double>(peak.bps));
        if (screens < 1) {
            words.push_back(fmt::format("peak {} (at {}): too much for 100 Mbit/s Ethernet; {}",
                                        base::format_bitrate(peak.bps), base::format_clock(peak.at),
                                        static_cast<double>(peak.bps) < kGigabit ? "needs gigabit Ethernet all the way"
                                                                                 : "too much for gigabit Ethernet"));
        } else if (screens < 2) {
            words.push_back(fmt::format("peak {} (at {}): only 1 viewer on 100 Mbit/s Ethernet",
                                        base::format_bitrate(peak.bps), base::format_clock(peak.at)));
        } else {
            words.push_back(fmt::format("peak {} (at {}): up to {} viewers at once on 100 Mbit/s Ethernet",
                                        base::format_bitrate(peak.bps), base::format_clock(peak.at), screens));
        }
    }
    for (const TrackMeasure& m : report.tracks) {
        if (m.track.kind != TrackKind::video || m.packets == 0) continue;
        if (m.keyframes.empty()) {
            words.push_back("no keyframe: players can't start or seek inside");
        } else if (m.longest_group > std::chrono::seconds(5)) {
            words.push_back(
                fmt::format("keyframe interval up to {} (at {}): seeks and channel changes may take as long",
                            base::format_span(m.longest_group), base::format_clock(m.longest_group_at)));
        } else {
            words.push_back(
                fmt::format("keyframe interval at most {} (seek accuracy)", base::format_span(m.longest_group)));
        }
        if (m.buffer && m.buffer->missed > 0) {
            words.push_back(fmt::format(
                "{} frames too late for the decoder buffer {} ({} at {}), first at {}: strict players may stutter",
                m.buffer->missed, m.buffer->claimed ? "as declared" : "of its level",
                base::format_bytes(static_cast<std::uint64_t>(m.buffer->size_bits / 8)),
                base::format_bitrate(m.buffer->rate_bps), base::format_clock(*m.buffer->first_missed)));
        }
        if (!m.needed_level.empty() && !m.track.level.empty()) {
            if (bitstream::level_number(m.track.codec, m.needed_level) >
                bitstream::level_number(m.track.codec, m.track.level))
                words.push_back(fmt::format("level {} declared, {} required: devices that rely on it may fail",
                                            m.track.level, m.needed_level));
        }
        if (!m.cadence.empty() && m.cadence.find("mixed") != std::string::npos)
            words.push_back("film and video are mixed: motion may judder on some screens unless it is converted");
    }
    if (report.borders && report.borders->pictures > 0) {
        const Borders& b = *report.borders;
        if (b.top + b.bottom > 8 || b.left + b.right > 8)
            words.push_back(
                fmt::format("black bars: top {}, bottom {}, left {}, right {}", b.top, b.bottom, b.left, b.right));
    }
    for (const TrackMeasure& m : report.tracks) {
        if (!m.loudness) continue;
        const std::string name = m.track.language.empty()
                                     ? "the audio"
                                     : fmt::format("the {} audio", media::language_name(m.track.language));
        if (std::isinf(m.loudness->integrated) || m.loudness->integrated < -69) {
            words.push_back(fmt::format("{} is silent", name));
            continue;
        }
        if (m.loudness->integrated < -30)
            words.push_back(fmt::format("{} has a low level ({:.1f} LUFS): the next film will be much louder", name,
                                        m.loudness->integrated));
        if (m.loudness->true_peak > 0)
            words.push_back(fmt::format("{} clips ({:+.1f} dBTP)", name, m.loudness->true_peak));
    }
    for (const TrackKind kind : {TrackKind::video, TrackKind::audio}) {
        const TrackMeasure* worst = nullptr;
        int tracks = 0;
        for (const TrackMeasure& m : report.tracks) {
            if (m.track.kind != kind || m.gap_count == 0) continue;
            ++tracks;
            if (worst == nullptr || m.gap_count > worst->gap_count) worst = &m;
        }
        if (worst == nullptr) continue;
        const Gap& first = worst->gaps.front();
        words.push_back(fmt::format("timestamps of the {}{}: {} {}, the first of {} at {}",
                                    kind == TrackKind::video ? "video" : "audio",
                                    tracks > 1 ? fmt::format(" ({} tracks)", tracks) : "", worst->gap_count,
                                    worst->gap_count == 1 ? "gap" : "gaps",
                                    base::format_span(std::chrono::abs(first.length)), base::format_clock(first.at)));
    }
    if (report.interleave > std::chrono::seconds(1)) {
        words.push_back(
            fmt::format("interleaving up to {} (at {}): network players must buffer that much; a remux fixes it",
                        base::format_span(report.interleave), base::format_clock(report.interleave_at)));
    }
    if (!report.problems.empty())
        words.push_back(fmt::format("{} damaged {}: see the problems below", report.problems.size(),
                                    report.problems.size() == 1 ? "place" : "places"));
    return words;
}

}  // namespace wavecrest::measure
