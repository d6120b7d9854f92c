// The nouns everything else is about: codecs, tracks, packets, pictures, audio, chapters.
#pragma once

#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/bytes.hpp"
#include "base/time.hpp"

namespace wavecrest {
namespace media {

enum class Codec {
    unknown,
    mpeg1,
    mpeg2,
    mpeg4,
    h264,
    h265,
    vc1,
    vp8,
    vp9,
    av1,
    ac3,
    eac3,
    dts,
    truehd,
    aac,
    mp2,
    mp3,
    lpcm,
    flac,
    opus,
    vorbis,
    dvd_subpicture,
    pgs,
    text,
};
// Short lower-case forms used in JSON and configuration ("h264", "dvd-subpicture"); "unknown" for unknown.
std::string_view short_name(Codec codec);
// As people write it: "H.264", "AC-3", "DVD subtitles".
std::string_view display_name(Codec codec);
// Either of these, in any case and with or without its marks ("h.264", "ac-3"), and other usual names ("hevc").
std::optional<Codec> codec_from_name(std::string_view name);

enum class TrackKind { video, audio, subtitle };
std::string_view short_name(TrackKind kind);

// progressive: whole pictures at the track's rate. interlaced: fields of different instants.
// pulldown: film pictures with repeat-field flags; the track's frame_rate is then the film's.
enum class Scan { unknown, progressive, interlaced, pulldown };
std::string_view short_name(Scan scan);

// Colour code points of Rec. ITU-T H.273 (ISO/IEC 23091-2); 2 is "unspecified".
struct ColourDescription {
    int primaries = 2;
    int transfer = 2;
    int matrix = 2;
    bool full_range = false;

    bool operator==(const ColourDescription&) const = default;
};
// A name for people: "BT.601 (525 lines)", "BT.709", "not signalled".
std::string describe(const ColourDescription& colour);
// The transfer characteristics of high dynamic range: PQ (SMPTE ST 2084) and HLG, of Rec. ITU-R BT.2100.
inline constexpr int kTransferPq = 16, kTransferHlg = 18;
constexpr bool is_hdr(const ColourDescription& colour) {
    return colour.transfer == kTransferPq || colour.transfer == kTransferHlg;
}

// The display that pictures of high dynamic range were graded on (SMPTE ST 2086), in the units of Rec. ITU-T H.265,
// D.3.28: chromaticities in steps of 0.00002, luminances in steps of 0.0001 cd/m2. Primaries are red, green, blue.
struct MasteringDisplay {
    int primaries_x[3] = {};
    int primaries_y[3] = {};
    int white_x = 0, white_y = 0;
    std::int64_t max_luminance = 0, min_luminance = 0;

    bool operator==(const MasteringDisplay&) const = default;
};
// The brightest pixel and the brightest mean of a picture (CTA-861.3), cd/m2.
struct ContentLight {
    int max_content = 0;
    int max_frame_average = 0;

    bool operator==(const ContentLight&) const = default;
};

// How one picture holds the views of both eyes: a message of H.264 (D.2.26) and H.265 (D.3.16), or what a container
// says.
struct FramePacking {
    // Table D-8 of H.264. `alternating`: whole pictures of either view in turn. `single`: one view, as if there were no
    // message, in a stream that has both elsewhere.
    enum class Arrangement : std::uint8_t {
        checkerboard,
        columns,
        rows,
        side_by_side,
        top_bottom,
        alternating,
        single,
        tiles
    };
    enum class View : std::uint8_t { unknown, left, right };  // content_interpretation_type

    Arrangement arrangement = Arrangement::side_by_side;
    View first = View::unknown;           // whose the view is that comes first: left, upper, or of the first sample
    bool quincunx = false;                // each view has every other sample, in turns from line to line
    bool flipped = false;                 // one of the views is mirrored:
    bool first_flipped = false;           // the first one
    bool fields = false;                  // each field is a view
    bool is_first = false;                // alternating: this picture is of the view that comes first
    std::uint8_t grid[4] = {0, 0, 0, 0};  // x and y of the first view's sampling grid, then of the other's, 0 to 15

    // Whether samples or lines of both views alternate, so that scaling and deinterlacing mix them.
    bool interleaved() const { return arrangement <= Arrangement::rows || quincunx || fields; }
    bool operator==(const FramePacking&) const = default;
};
std::string_view short_name(FramePacking::Arrangement arrangement);  // "side-by-side", "row-interleaved"
// For people: "3D side by side, left view first".
std::string describe(const FramePacking& packing);

// What a stream has on top of the pictures that every decoder of its codec takes (H.264, annexes G and H).
enum class Layers : std::uint8_t { none, second_view, scalable };

// Where the channels of audio belong, as a set of bits. Interleaved audio has them in this order, lowest bit first.
using Speakers = std::uint32_t;
namespace speaker {
inline constexpr Speakers kLeft = 0x01, kRight = 0x02, kCentre = 0x04, kLowFrequency = 0x08;
inline constexpr Speakers kLeftSurround = 0x10, kRightSurround = 0x20, kCentreSurround = 0x40;
inline constexpr Speakers kLeftBack = 0x80, kRightBack = 0x100;
inline constexpr Speakers kStereo = kLeft | kRight;
inline constexpr Speakers kFiveOne = kStereo | kCentre | kLowFrequency | kLeftSurround | kRightSurround;
}  // namespace speaker
int speaker_count(Speakers speakers);
// The usual places for a number of channels that comes without them: 1 centre, 2 stereo, 6 5.1 ...; 1 to 9.
Speakers usual_speakers(int channels);

// What an audio or subtitle track is for, as discs say it.
enum class Purpose { main, described, commentary, captions };
std::string_view short_name(Purpose purpose);

// Identifies a track within its source; unique there.
using TrackId = int;

struct Track {
    TrackId id = 0;
    TrackKind kind = TrackKind::video;
    Codec codec = Codec::unknown;
    std::string profile;   // the standard's name: "Main", "High", "AAC-LC"; empty when it has none
    std::string level;     // the standard's name: "Main" (MPEG-2), "3.1" (H.264)
    std::string language;  // ISO 639-2/T three letters or ISO 639-1 two; empty when unknown

    // video
    int width = 0;  // coded picture, cropped
    int height = 0;
    Ratio pixel_aspect{1, 1};  // width to height of one pixel
    Ratio frame_rate{0, 1};    // pictures per second after pulldown is undone; 0 when unknown
    Scan scan = Scan::unknown;
    int bit_depth = 0;  // bits per sample, picture or lossless audio
    ColourDescription colour;
    std::optional<MasteringDisplay> mastering_display;
    std::optional<ContentLight> content_light;
    int rotation = 0;              // degrees clockwise to turn the picture by when it is shown: 0, 90, 180, 270
    int reference_frames = 0;      // 0 when unknown
    int reorder_frames = -1;       // pictures that may be decoded before one that is shown earlier; -1 when unknown
    bool closed_captions = false;  // carried inside the pictures' data
    std::optional<FramePacking> frame_packing;  // both eyes' views in one picture; not where there is but one
    Layers layers = Layers::none;

    // audio
    int channels = 0;
    int sample_rate = 0;    // Hz
    Speakers speakers = 0;  // 0: not told

    std::string name;  // what people call it: "Director's notes"; mostly empty
    Purpose purpose = Purpose::main;
    bool preferred = true;              // players take it unasked
    bool forced = false;                // subtitles needed to follow the story
    Time start{};                       // presentation time of the first packet
    Time duration{};                    // 0 when unknown
    std::int64_t bitrate_bps = 0;       // mean payload bits per second; 0 when unknown
    std::int64_t peak_bitrate_bps = 0;  // highest one-second window, bits per second; 0 when unknown
    Bytes codec_config;                 // what containers carry beside the packets; see bitstream/headers.hpp

    // Width to height of the picture as it is seen: 16:9 for anamorphic 720x480.
    Ratio display_aspect() const;
};
// "stereo", "mono", "5.1", or "N channels".
std::string channel_layout(int channels);
std::string channel_layout(const Track& track);
// Width to height as people write it: 4:3, 16:9, or a decimal such as 2.40:1.
std::string aspect_name(Ratio aspect);

// One access unit (video), one frame (audio) or one cue (subtitle) with its times on the title's timeline.
struct Packet {
    TrackId track = 0;
    Time pts{};           // presentation
    Time dts{};           // decoding
    Time duration{};      // how long it is shown or heard, shorter than coded where its end is cut off; 0 when unknown
    bool key = false;     // decoding can start here
    bool hidden = false;  // decoded but never shown: pictures behind a cut are predicted from it; may have dts > pts
    Bytes data;
};

struct Chapter {
    Time start{};
    std::string name;
};

// Bytes that belong to an interval of the timeline: a picture, an audio packet, a VOBU. Stretches of several tracks
// overlap.
struct RatePiece {
    Time from{};
    Time to{};
    std::uint64_t bytes = 0;
};

// An interval of a title that could not be read or decoded.
struct Problem {
    std::string what;
    Time from{};
    Time to{};
};

// Calls `act` with a sample of the type that a depth takes: std::uint8_t for 8 bits, std::uint16_t for more.
template <typename Act>
decltype(auto) with_sample_type(int bit_depth, Act act) {
    return bit_depth > 8 ? act(std::uint16_t{}) : act(std::uint8_t{});
}

// A 4:2:0 picture of 8 or 10 bits a sample. Planes are Y, Cb, Cr; rows are `stride` bytes apart; samples of more than 8
// bits take two bytes, in the machine's order. Copying shares the samples.
struct Picture {
    int width = 0;
    int height = 0;
    int bit_depth = 8;
    std::shared_ptr<std::uint8_t[]> storage;
    std::uint8_t* planes[3] = {};
    int strides[3] = {};

    Time pts{};
    Time duration{};
    int fields = 2;           // how many fields it is shown for: 3 with a repeated first field
    bool progressive = true;  // both fields are of one instant
    bool top_field_first = true;
    Ratio pixel_aspect{1, 1};
    ColourDescription colour;
    std::optional<FramePacking> frame_packing;

    // Samples undefined; rows start at multiples of 64 bytes.
    static Picture allocate(int width, int height, int bit_depth = 8);
    // The same, with all else as it is with this one.
    Picture allocate_alike(int width, int height) const;
    Picture allocate_alike(int width, int height, int bit_depth) const;

    int sample_bytes() const { return bit_depth > 8 ? 2 : 1; }
    int plane_width(int plane) const { return plane == 0 ? width : (width + 1) / 2; }
    int plane_height(int plane) const { return plane == 0 ? height : (height + 1) / 2; }
    // Bytes of a row that hold samples.
    std::size_t row_bytes(int plane) const {
        return static_cast<std::size_t>(plane_width(plane)) * static_cast<std::size_t>(sample_bytes());
    }
    // A row as samples of the type that with_sample_type() gives for this depth.
    template <typename Sample>
    Sample* row(int plane, int y) const {
        return reinterpret_cast<Sample*>(planes[plane] + std::ptrdiff_t{y} * strides[plane]);
    }
};

// Interleaved samples, -1 to 1.
struct AudioFrames {
    Time pts{};
    int sample_rate = 0;  // Hz
    int channels = 0;
    Speakers speakers = 0;  // as many as channels; 0: the usual ones
    std::vector<float> samples;
    // How the programme wants to be folded to two channels, where it says so.
    struct Downmix {
        float centre = 0.70710678f, surround = 0.70710678f;
        float gain = 1;  // brings its dialogue to the usual level
    };
    Downmix downmix;

    std::size_t frames() const { return channels == 0 ? 0 : samples.size() / static_cast<std::size_t>(channels); }
};

// What subtitles show from a moment on, until the next of these comes: images laid over the picture. None: nothing.
struct Overlay {
    struct Colour {
        std::uint16_t y = 16, cb = 128, cr = 128;  // video range, of `bit_depth`
        std::uint8_t opacity = 0;                  // 0 clear to 255 opaque
    };
    struct Region {
        int x = 0, y = 0;  // of the top left corner on the canvas
        int width = 0, height = 0;
        std::vector<std::uint8_t> pixels;  // width * height indices into `colours`
        std::vector<Colour> colours;
    };
    Time pts{};
    bool forced = false;
    int canvas_width = 0, canvas_height = 0;  // the picture size the regions are placed on
    int bit_depth = 8;                        // of its colours
    std::vector<Region> regions;
};

}  // namespace media

using media::AudioFrames;
using media::Chapter;
using media::Codec;
using media::ColourDescription;
using media::FramePacking;
using media::Overlay;
using media::Packet;
using media::Picture;
using media::Problem;
using media::Purpose;
using media::RatePiece;
using media::Scan;
using media::Speakers;
using media::Track;
using media::TrackId;
using media::TrackKind;

}  // namespace wavecrest
