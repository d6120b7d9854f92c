// A stream read to its end and measured: rates, keyframes, decoder buffer, timing, cadence, borders, loudness. What is
// claimed in headers is held against what the data is.
#pragma once

#include <chrono>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "base/cancel.hpp"
#include "base/progress.hpp"
#include "filter/borders.hpp"
#include "measure/loudness.hpp"
#include "media/flow.hpp"

namespace wavecrest::measure {

// Payload over time in tenths of a second.
class RateBins {
  public:
    void add(Time from, Time duration, std::size_t bytes);
    std::int64_t mean_bps(Time over) const;
    // The highest mean over windows of whole tenths, and where it begins.
    struct Peak {
        std::int64_t bps = 0;
        Time at{};
    };
    Peak peak(int tenths) const;
    // Bits per second for each second.
    std::vector<double> per_second() const;
    RateBins& operator+=(const RateBins& other);

  private:
    std::vector<double> bins_;  // bytes
};

// A decoder's buffer that fills at a rate and is emptied picture by picture at decoding times (H.264 annex C.1, ISO/IEC
// 13818-2 annex C), starting full.
struct BufferMeasure {
    std::int64_t rate_bps = 0;     // claimed, or the level's limit
    std::int64_t size_bits = 0;    // likewise
    bool claimed = false;          // in the stream's headers; else by its level
    std::int64_t needed_bits = 0;  // the smallest size with which pictures at this rate are always there in time
    std::int64_t lowest_bits = 0;  // of the claimed size
    int missed = 0;                // pictures that are not there in time
    std::optional<Time> first_missed;
};

struct Gap {
    Time at{};
    Time length{};  // negative: times go back or overlap
};

struct TrackMeasure {
    Track track;
    std::int64_t packets = 0;
    std::uint64_t bytes = 0;
    Time first{}, end{};
    RateBins rate;
    std::vector<Gap> gaps;  // the first thousand
    std::int64_t gap_count = 0;

    // pictures
    std::vector<Time> keyframes;
    Time shortest_group{}, longest_group{}, mean_group{};
    Time longest_group_at{};
    std::optional<BufferMeasure> buffer;
    std::string needed_level;  // H.264 and H.265: bitstream/levels.hpp; empty elsewhere
    // MPEG-2: what the pictures' flags say.
    std::int64_t repeats = 0, progressive = 0, flagged = 0;
    std::string cadence;  // in words; empty when nothing tells

    // audio
    std::optional<Loudness> loudness;
    std::string not_decoded;  // why loudness could not be measured, or pictures not be looked at
};

struct Borders : filter::Borders {
    int pictures = 0;  // looked at
};

struct DeepReport {
    std::vector<TrackMeasure> tracks;
    RateBins rate;  // of all
    Time duration{};
    Time interleave{};  // how far one track runs ahead of another in the file, at most
    Time interleave_at{};
    std::optional<Borders> borders;
    std::vector<Problem> problems;
    double structure_seconds = 0, decoding_seconds = 0;  // of work
};

struct DeepSettings {
    bool decode = true;  // loudness, borders, cadence of unflagged material
    // AudioFrames longer than this is measured on ten seconds of every minute.
    Time all_of = std::chrono::minutes(10);
};

// Opens the same source again, for looks at single places; empty where that can't be done.
using Reopen = std::function<Result<std::unique_ptr<PacketSource>>()>;

// Reads `source` to its end. Fails on errors of reading only; damage is among the problems.
Result<DeepReport> measure_deep(PacketSource& source, const Reopen& reopen, const DeepSettings& settings,
                                const Progress& progress, const Cancel& cancel);

// What will matter on a device, most important first; each one sentence.
std::vector<std::string> in_words(const DeepReport& report);

}  // namespace wavecrest::measure
