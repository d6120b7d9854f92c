// Network abstraction layer units of H.264 and H.265: the byte stream of annex B (start codes), the length-prefixed
// form of ISO/IEC 14496-15, and the cutting of a byte stream into access units. Packets of H.264 and H.265 tracks hold
// length-prefixed units with four-byte lengths everywhere above the readers, and no access unit delimiters; parameter
// sets that the track's configuration record holds are left out.
#pragma once

#include <optional>
#include <vector>

#include "base/bits.hpp"
#include "base/bytes.hpp"
#include "media/types.hpp"

namespace wavecrest::bitstream::nal {

// Where the first emulation prevention byte (H.264 clause 7.3.1, H.265 clause 7.3.1.1) is; the size where there is
// none.
std::size_t find_emulation_prevention(ByteSpan unit);
// Removes them from the first `limit` bytes.
ByteVector unescape(ByteSpan unit, std::size_t limit = ~std::size_t{0});

// Units of a byte stream, without start codes and trailing zeros.
std::vector<ByteSpan> split_byte_stream(ByteSpan bytes);
// Units with lengths of `length_size` bytes (1 to 4); what runs over the end is left out.
std::vector<ByteSpan> split_lengths(ByteSpan bytes, int length_size = 4);
// Appends a unit with a four-byte length.
void append(ByteVector& out, ByteSpan unit);

// Appends a unit's bytes with emulation prevention bytes where they are due: `rbsp` behind the header as it stands.
void append_escaped(ByteVector& out, ByteSpan rbsp);

// What an SEI unit says (H.264 7.3.2.3.1, H.265 7.3.5), message by message:
//   for (nal::Messages messages(codec, unit); const auto message = messages.next();) ...
class Messages {
  public:
    struct Message {
        std::uint32_t type;  // payloadType
        ByteSpan payload;    // valid as long as the Messages are
    };
    // Of a unit of another type: none.
    Messages(Codec codec, ByteSpan unit);
    // The next one; nothing behind the last one, or one that is cut short.
    std::optional<Message> next();

  private:
    ByteVector rbsp_;
    std::size_t at_ = 0;
};

// A length-prefixed access unit as the byte stream of transport streams (13818-1, 2.14.1 and 2.17.1): it begins with a
// delimiter; where `parameter_sets` (a byte stream, too) aren't in it, they follow.
ByteVector byte_stream_unit(Codec codec, ByteSpan access_unit, ByteSpan parameter_sets);
void append_byte_stream_unit(ByteVector& out, Codec codec, ByteSpan access_unit, ByteSpan parameter_sets);
// Appends a unit with its start code.
void append_byte_stream(ByteVector& out, ByteSpan unit);

// What a unit is, whichever of the two codecs.
int type(Codec codec, ByteSpan unit);
bool is_parameter_set(Codec codec, int type);
bool is_delimiter(Codec codec, int type);
bool is_picture(Codec codec, int type);
// Whether decoding can start at this access unit (length-prefixed): instantaneous or clean random access, or a
// recovery point that needs no pictures before it.
bool is_random_access(Codec codec, ByteSpan access_unit);

// A pixel aspect of H.264's table E-1, which other codecs share; nothing where it is unspecified or unknown.
std::optional<Ratio> listed_pixel_aspect(std::uint32_t index);

// What video usability information begins with in both codecs (H.264 E.1.1, H.265 E.2.1): aspect, overscan, colours,
// and where chroma samples lie. What isn't there stays as it is.
void parse_usability(base::BitReader& bits, Ratio& pixel_aspect, ColourDescription& colour);

struct AccessUnit {
    ByteVector data;  // length-prefixed; parameter sets still in it
    bool key = false;
    std::optional<Time> pts;  // of the piece in which it starts
    std::optional<Time> dts;
    bool field_pair = false;  // two field pictures
};

// Cuts a byte stream that arrives in pieces into access units. Two fields of one frame make one unit.
class AccessUnitSplitter {
  public:
    explicit AccessUnitSplitter(Codec codec) : codec_(codec) {}
    void push(ByteSpan piece, std::optional<Time> pts, std::optional<Time> dts, std::vector<AccessUnit>& out);
    void flush(std::vector<AccessUnit>& out);
    void reset();

  private:
    struct Stamp {
        std::size_t from;
        std::optional<Time> pts, dts;
    };
    // What tells the first slice of a picture from that of the next field or picture.
    struct SliceStart {
        std::uint32_t frame_number = 0;
        bool field = false, bottom = false;
    };
    void scan(bool at_end, std::vector<AccessUnit>& out);
    void take_unit(std::size_t begin, std::size_t end, std::vector<AccessUnit>& out);
    std::optional<SliceStart> first_slice(ByteSpan unit, bool& starts_picture);
    void end_access_unit(std::vector<AccessUnit>& out);

    Codec codec_;
    ByteVector buffer_;
    std::size_t scanned_ = 0;
    std::optional<std::size_t> unit_at_;  // of the unit that is not complete yet
    std::vector<Stamp> stamps_;

    AccessUnit unit_;           // being collected
    bool has_picture_ = false;  // of it
    std::optional<SliceStart> open_field_;
    // of the latest sequence parameter set (H.264)
    int frame_number_bits_ = 4;
    bool frames_only_ = true, separate_planes_ = false;
};

}  // namespace wavecrest::bitstream::nal
