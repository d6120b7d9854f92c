// Reading the tables that tell of a track's samples in an ISO base media file (ISO/IEC 14496-12, 8.6 and 8.7), one
// sample after the other. Every count is held against the bytes that are really there.
#pragma once

#include <algorithm>
#include <cstdint>
#include <optional>

#include "base/bits.hpp"
#include "base/bytes.hpp"

namespace wavecrest::container::mp4 {

// Sizes (stsz or stz2, 8.7.3), which decide how many samples there are.
class SampleSizes {
  public:
    // Nothing where a track has neither.
    static std::optional<SampleSizes> find(ByteSpan stbl);

    std::uint32_t count() const { return count_; }
    // Of every sample; 0: each has its own.
    std::uint32_t common() const { return common_; }
    // Whether the table can be read, and holds all of the sizes it tells of.
    bool ok() const;
    std::uint32_t next();

  private:
    SampleSizes(base::ByteReader table, int bits, std::uint32_t common);

    base::ByteReader table_;
    const int bits_;
    const std::uint32_t common_;
    std::uint32_t count_;
    std::uint8_t halves_ = 0;  // two sizes of four bits, the second of which is the next
    bool has_half_ = false;
};

// So many samples in a row have a value: decoding times (stts, 8.6.1.2), composition offsets (ctts, 8.6.1.3).
class RunTable {
  public:
    explicit RunTable(ByteSpan body);

    unsigned version() const { return version_; }
    // How many samples it tells of.
    std::uint64_t samples() const;
    // How many samples in a row have value() from the next one on; 0: it doesn't tell.
    std::uint32_t run();
    std::uint32_t value() const { return value_; }
    void take(std::uint32_t samples) { run_ -= std::min(samples, run_); }

  private:
    unsigned version_;
    base::ByteReader table_;
    std::uint32_t entries_, run_ = 0, value_ = 0;
};

// Which samples are keyframes (stss, 8.6.2): by their numbers, from 1 on; without the table all are.
class SyncSamples {
  public:
    SyncSamples(ByteSpan body, std::uint32_t samples);

    // False once a number isn't above the one before, or beyond the samples.
    bool ok() const { return ok_; }
    // To be asked of one sample after the other.
    bool is_key(std::uint32_t number);

  private:
    void advance();

    const bool all_;
    const std::uint32_t samples_;
    base::ByteReader table_;
    std::uint32_t entries_ = 0, next_ = 0;
    bool ok_ = true;
};

// Where chunks of samples begin (stco or co64, 8.7.5), and how many each holds (stsc, 8.7.4).
class Chunks {
  public:
    explicit Chunks(ByteSpan stbl);

    // Whether all of the offsets it tells of are there.
    bool has_offsets() const;
    // Whether there is another chunk: offset() and samples() are its own then.
    bool next();
    std::uint64_t offset() const { return offset_; }
    std::uint32_t samples() const { return samples_; }
    // False once runs of chunks don't rise, or aren't there.
    bool ok() const { return rising_ && runs_.ok(); }

  private:
    const bool wide_;
    base::ByteReader offsets_, runs_;
    std::uint32_t chunks_, runs_left_, next_run_ = 0;  // the chunk that the next run begins with
    std::uint32_t number_ = 0, samples_ = 0;
    std::uint64_t offset_ = 0;
    bool rising_ = true;
};

}  // namespace wavecrest::container::mp4
