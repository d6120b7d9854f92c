// MPEG-2 video syntax above the slice (Rec. ITU-T H.262 | ISO/IEC 13818-2, clause 6.2): headers, and the splitting of
// an elementary stream into access units.
#pragma once

#include <optional>
#include <vector>

#include "base/bytes.hpp"
#include "base/time.hpp"
#include "media/types.hpp"

namespace wavecrest::bitstream::mpeg2 {

// Start code values, table 6-1.
inline constexpr std::uint8_t kPicture = 0x00;
inline constexpr std::uint8_t kFirstSlice = 0x01;
inline constexpr std::uint8_t kLastSlice = 0xAF;
inline constexpr std::uint8_t kUserData = 0xB2;
inline constexpr std::uint8_t kSequenceHeader = 0xB3;
inline constexpr std::uint8_t kExtension = 0xB5;
inline constexpr std::uint8_t kSequenceEnd = 0xB7;
inline constexpr std::uint8_t kGroup = 0xB8;

// Extension identifiers, table 6-2.
inline constexpr int kSequenceExtension = 1;
inline constexpr int kSequenceDisplayExtension = 2;
inline constexpr int kPictureCodingExtension = 8;

// Offset of the next 00 00 01 at or after `from`; bytes.size() when there is none.
std::size_t find_start_code(ByteSpan bytes, std::size_t from);

// Sequence header with its extensions (6.2.2).
struct Sequence {
    int width = 0;
    int height = 0;
    int aspect_code = 0;           // table 6-3: 1 square samples, 2 4:3, 3 16:9, 4 2.21:1
    Ratio frame_rate{0, 1};        // frames per second as coded (30000/1001 for film with pulldown)
    std::int64_t bitrate_bps = 0;  // upper bound
    std::int64_t vbv_bits = 0;     // buffer size
    bool mpeg2 = false;            // a sequence extension was there; MPEG-1 otherwise
    int profile_and_level = 0;     // table 8-1 onwards
    bool progressive = false;      // all frames are progressive
    bool low_delay = false;
    int chroma_format = 1;  // 1 is 4:2:0
    ColourDescription colour;

    std::string profile_name() const;
    std::string level_name() const;
    Ratio pixel_aspect() const;
};

// Picture header with its coding extension (6.2.3).
struct PictureHeader {
    int temporal_reference = 0;
    int coding_type = 0;  // 1 I, 2 P, 3 B
    int structure = 3;    // 1 top field, 2 bottom field, 3 frame
    bool top_field_first = false;
    bool repeat_first_field = false;
    bool progressive_frame = true;
};

// Reads the sequence header (and extensions) that starts at the beginning of `bytes`.
std::optional<Sequence> parse_sequence(ByteSpan bytes);
// Reads the picture header that starts at the beginning of `bytes`.
std::optional<PictureHeader> parse_picture(ByteSpan bytes);

// Whether the user data of a picture or its group carries closed captions: line 21 as DVD-Video stores it, or CEA-708
// (ATSC A/53 part 4, clause 6.2.3).
bool has_closed_captions(ByteSpan access_unit);

// How many field periods a frame with these flags is shown for (6.3.10); 2, or 3 with a repeated field; for
// progressive sequences 2, 4 or 6.
int display_fields(const Sequence& sequence, const PictureHeader& picture);

// One coded frame: headers that precede it, one frame picture or two field pictures.
struct AccessUnit {
    ByteVector data;
    PictureHeader picture;
    bool has_sequence = false;
    bool starts_group = false;  // a group or sequence header precedes: temporal references start anew
    bool closed_group = false;
    std::optional<Time> pts;  // of the PES packet in which this access unit starts
    std::optional<Time> dts;
    std::uint64_t tag = 0;  // the tag of the piece in which it starts
};

// Cuts an elementary stream that arrives in pieces into access units.
class AccessUnitSplitter {
  public:
    // `pts` and `dts` belong to the first access unit that starts in this piece (ISO/IEC 13818-1, 2.4.3.7).
    void push(ByteSpan piece, std::optional<Time> pts, std::optional<Time> dts, std::uint64_t tag,
              std::vector<AccessUnit>& out);
    // The stream ends here: gives what is left when it is a whole picture.
    void flush(std::vector<AccessUnit>& out);
    // Forgets everything (after a jump).
    void reset();

    // The latest sequence header; nothing before the first.
    const std::optional<Sequence>& sequence() const { return sequence_; }

  private:
    struct Stamp {
        std::size_t from;  // offset in buffer_ from which it applies
        std::optional<Time> pts, dts;
        std::uint64_t tag;
        bool used;
    };

    void scan(bool at_end, std::vector<AccessUnit>& out);
    void emit(std::size_t end, std::vector<AccessUnit>& out);
    void drop_front(std::size_t count);

    ByteVector buffer_;
    std::size_t scanned_ = 0;  // no start code begins before this, other than those handled
    std::vector<Stamp> stamps_;
    std::optional<Sequence> sequence_;

    // The unit being collected starts at buffer_[0].
    AccessUnit unit_;
    bool has_picture_ = false;
    bool awaiting_second_field_ = false;
    bool slices_seen_ = false;
};

// An access unit with its times. Access units stay in coding order.
struct TimedUnit {
    AccessUnit unit;
    Time pts{};
    Time dts{};
    Time duration{};
    int fields = 2;
};

// Gives every picture its exact time from temporal references and repeat-field flags; the timestamps of the stream,
// which most pictures lack, only anchor it. A timestamp off by more than one field period makes a new anchor.
class PictureTimer {
  public:
    // Collects a group of pictures; appends the one before when a new one starts. `unit.pts` must be on a continuous
    // timeline.
    void push(AccessUnit unit, const Sequence& sequence, std::vector<TimedUnit>& out);
    void flush(std::vector<TimedUnit>& out);
    void reset();

  private:
    std::vector<AccessUnit> group_;
    Sequence sequence_;
    std::optional<Time> next_;  // where the next group's first picture is shown
};

}  // namespace wavecrest::bitstream::mpeg2
