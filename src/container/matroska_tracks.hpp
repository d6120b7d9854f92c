// Track entries of Matroska and WebM (RFC 9559, 5.1.4): what a track is coded in, and how its frames are wrapped.
#pragma once

#include <memory>
#include <string>

#include "bitstream/xiph.hpp"
#include "container/timing.hpp"
#include "media/types.hpp"

namespace wavecrest::container::mkv {

// What is to be undone or filled in to make packets of this program from frames.
enum class Conversion { none, little_endian, nal_lengths, byte_stream, ass, markup, av1, vobsub };

struct MkvTrack {
    Track info;
    std::uint64_t number = 0;
    std::string codec_id;
    Bytes codec_private;
    std::int64_t default_duration = 0;  // ns
    std::int64_t codec_delay = 0;       // ns
    bool interlaced_told = false;
    int display_width = 0, display_height = 0, display_unit = 0;
    Conversion conversion = Conversion::none;
    int length_size = 4;
    ByteVector stripped_header;
    bool deflated = false;
    std::string problem;
    bool bare = false;  // no configuration record: start codes or lengths, as the first frame shows

    // while reading
    std::unique_ptr<PictureGrid> grid;
    std::unique_ptr<AudioClock> clock;
    std::unique_ptr<DecodingTimes> decoding;
    std::unique_ptr<bitstream::VorbisTimer> vorbis;
    bool described = false;
};

// From a track entry's body. Nothing for an entry without a number, and for what is neither picture, audio nor
// subtitles: `left_out` tells the latter.
std::optional<MkvTrack> parse_track_entry(ByteSpan entry, std::string& left_out);

}  // namespace wavecrest::container::mkv
