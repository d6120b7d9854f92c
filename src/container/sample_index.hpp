// Where a track's samples lie and when they are due, in twelve bytes a sample: ten hours of film and audio stay small.
#pragma once

#include <cstdint>
#include <vector>

#include "base/time.hpp"

namespace wavecrest::container {

class SampleIndex {
  public:
    struct Sample {
        std::uint64_t offset = 0;  // in the file
        std::uint32_t size = 0;
        bool key = false;
        bool hidden = false;           // decoded, never shown
        std::int64_t dts = 0;          // ticks of the timescale, from the first sample on unless said otherwise
        std::int64_t composition = 0;  // presentation minus decoding time
        std::uint32_t duration = 0;    // decoding time to the next sample

        std::int64_t pts() const { return dts + composition; }
    };
    static constexpr std::uint32_t kLargestSample = 0x3FFFFFFF;

    std::size_t size() const { return packed_.size(); }
    bool empty() const { return packed_.empty(); }
    void reserve(std::size_t samples) { packed_.reserve(samples); }
    // Samples of a chunk lie one behind the other; each call begins one, whose first sample has this decoding time.
    void begin_chunk(std::uint64_t offset, std::int64_t dts);
    // At most kLargestSample bytes.
    void add(std::uint32_t size, bool key, std::uint32_t duration, std::int32_t composition, bool hidden = false);
    void set_last_duration(std::uint32_t duration) { packed_.back().duration = duration; }
    std::size_t chunks() const { return chunks_.size(); }
    std::uint64_t chunk_offset(std::size_t chunk) const { return chunks_[chunk].offset; }
    std::size_t chunk_samples(std::size_t chunk) const {
        return (chunk + 1 < chunks_.size() ? chunks_[chunk + 1].first : packed_.size()) - chunks_[chunk].first;
    }

    // The first sample of the last chunk that begins at or before a decoding time; 0 where none does.
    std::size_t chunk_start(std::int64_t dts) const;

    // Goes through the samples in order.
    class Cursor {
      public:
        Cursor() = default;
        Cursor(const SampleIndex& index, std::size_t sample);
        bool done() const { return at_ >= index_->size(); }
        std::size_t position() const { return at_; }
        const Sample& operator*() const { return sample_; }
        const Sample* operator->() const { return &sample_; }
        Cursor& operator++();
        bool operator!=(const Cursor& other) const { return at_ != other.at_; }

      private:
        void load();
        const SampleIndex* index_ = nullptr;
        std::size_t at_ = 0, chunk_ = 0;
        Sample sample_;
    };
    Cursor begin() const { return {*this, 0}; }
    Cursor end() const { return {*this, size()}; }
    Cursor at(std::size_t sample) const { return {*this, sample}; }

  private:
    static constexpr std::uint32_t kKey = 0x80000000, kHidden = 0x40000000;
    struct Packed {
        std::uint32_t size_and_flags;
        std::uint32_t duration;
        std::int32_t composition;
    };
    static_assert(sizeof(Packed) == 12);
    struct Chunk {
        std::uint64_t offset;
        std::int64_t dts;
        std::size_t first;  // sample
    };
    std::vector<Packed> packed_;
    std::vector<Chunk> chunks_;
};

}  // namespace wavecrest::container
