// Reads MP4 files (plain, not fragmented): the index, and the file as a packet source.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "base/file.hpp"
#include "media/flow.hpp"

namespace wavecrest::container {

struct Mp4Sample {
    std::uint64_t offset = 0;  // in the file
    std::uint32_t size = 0;
    bool key = false;
    Time dts{};  // on the presentation timeline: edit lists applied
    Time pts{};
    Time duration{};
};

struct Mp4Track {
    Track info;
    std::vector<Mp4Sample> samples;  // in decoding order
    Time end{};                      // where the edit list ends the presentation
    std::string problem;             // why the track can't be used, when it can't
};

struct Mp4Movie {
    std::vector<Mp4Track> tracks;  // video, audio and text; a chapter track becomes `chapters` instead
    std::vector<Chapter> chapters;
    Time duration{};
    std::string title;
    std::uint64_t index_end = 0;      // bytes from the start needed to know the whole index
    bool index_in_front = false;      // the index precedes the media data
    std::uint64_t missing_bytes = 0;  // media data the index names beyond the end of the file
};

// Does the file begin like an ISO base media file?
bool looks_like_mp4(ByteSpan first_bytes);

// Parses the index. Fails (kind input) with the byte offset for files that are no MP4, have no index, are fragmented,
// or whose tables contradict each other or the file's size.
Result<Mp4Movie> read_mp4(base::ByteSource& source);

// Packets of a movie in file order.
class Mp4Source : public PacketSource {
  public:
    Mp4Source(std::unique_ptr<base::ByteSource> bytes, Mp4Movie movie);

    const std::vector<Track>& tracks() const override { return tracks_; }
    const std::vector<Chapter>& chapters() const override { return movie_.chapters; }
    Time duration() const override { return movie_.duration; }
    Result<std::optional<Packet>> read() override;
    Status seek(Time time) override;
    const std::vector<Problem>& problems() const override { return problems_; }

    const Mp4Movie& movie() const { return movie_; }

  private:
    std::unique_ptr<base::ByteSource> bytes_;
    Mp4Movie movie_;
    std::vector<Track> tracks_;
    std::vector<std::size_t> next_;  // per track
    std::vector<Problem> problems_;
};

}  // namespace wavecrest::container
