// Reads MP4 and QuickTime files, plain and fragmented: the index, and the file as a packet source.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "base/byte_source.hpp"
#include "container/sample_index.hpp"
#include "media/flow.hpp"
#include "media/tags.hpp"

namespace wavecrest::container {

struct Mp4Sample {
    std::uint64_t offset = 0;  // in the file
    std::uint32_t size = 0;
    bool key = false;
    bool hidden = false;  // decoded, never shown: others in an interval of the edit list are predicted from it
    Time dts{};           // on the presentation timeline: edit lists applied
    Time pts{};
    Time duration{};
};

// A track's samples in decoding order.
class Mp4Samples {
  public:
    class Iterator {
      public:
        Iterator(const Mp4Samples& samples, SampleIndex::Cursor cursor) : samples_(&samples), cursor_(cursor) {}
        Mp4Sample operator*() const { return samples_->timed(*cursor_); }
        Iterator& operator++() {
            ++cursor_;
            return *this;
        }
        bool operator!=(const Iterator& other) const { return cursor_ != other.cursor_; }
        bool done() const { return cursor_.done(); }

      private:
        const Mp4Samples* samples_;
        SampleIndex::Cursor cursor_;
    };
    std::size_t size() const { return index.size(); }
    bool empty() const { return index.empty(); }
    Iterator begin() const { return {*this, index.begin()}; }
    Iterator end() const { return {*this, index.end()}; }
    Iterator at(std::size_t sample) const { return {*this, index.at(sample)}; }
    Mp4Sample operator[](std::size_t sample) const { return *at(sample); }
    Mp4Sample front() const { return *begin(); }
    Mp4Sample back() const { return *at(size() - 1); }
    Mp4Sample timed(const SampleIndex::Sample& sample) const {
        return {sample.offset,
                sample.size,
                sample.key,
                sample.hidden,
                base::from_ticks(sample.dts, timescale) + shift,
                base::from_ticks(sample.pts(), timescale) + shift,
                base::from_ticks(sample.duration, timescale)};
    }

    // A sample at or before the first one of a decoding time, not far from it: where a chunk begins.
    std::size_t place_before(Time time) const { return index.chunk_start(base::to_ticks(time - shift, timescale)); }

    SampleIndex index;
    std::int64_t timescale = 1;
    Time shift{};         // from the media's timeline to the presentation's
    bool edited = false;  // several intervals of an edit list: the samples' order isn't the file's
};

struct Mp4Track {
    Track info;
    Mp4Samples samples;
    Time end{};           // where the edit list ends the presentation
    std::string problem;  // why the track can't be used, when it can't
    int length_size = 4;  // of H.264 and H.265
    enum class Payload { plain, nal_lengths, little_endian, timed_text, web_vtt } payload = Payload::plain;
};

struct Mp4Movie {
    std::vector<Mp4Track> tracks;  // video, audio and text; a chapter track becomes `chapters` instead
    std::vector<Chapter> chapters;
    Time duration{};
    media::Tags tags;
    std::vector<std::string> notes;
    std::uint64_t index_end = 0;  // bytes from the start needed to know the whole index
    bool index_in_front = false;  // the index precedes the media data
    bool fragmented = false;
    std::uint64_t missing_bytes = 0;  // media data the index names beyond the end of the file
};

// Does the file begin like an ISO base media file?
bool looks_like_mp4(ByteSpan first_bytes);

// Parses the index; of fragmented files all of its parts. Fails (kind input) with the byte offset for files that are no
// MP4, have no index, or whose tables contradict each other or the file's size.
Result<Mp4Movie> read_mp4(base::ByteSource& source);

}  // namespace wavecrest::container
