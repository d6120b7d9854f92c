// Short clips of the test card, for devices to show what they play: any codec, size and rate this program can make, in
// any container it writes. The frame number stands in every frame (test_card.hpp), and a beep begins with each flash.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "base/byte_sink.hpp"
#include "base/cancel.hpp"
#include "base/result.hpp"
#include "base/units.hpp"
#include "media/types.hpp"

namespace wavecrest::sample {

struct ClipVideo {
    Codec codec = Codec::h264;  // mpeg2, h264, h265, vp9, av1
    std::string profile;        // as codec/video_encoder.hpp takes it; empty: the usual one of the depth
    base::Size size{1280, 720};
    Ratio frame_rate{30, 1};
    int bit_depth = 8;
    // Coded as fields (H.264). Marks stay readable: what differs between the fields is the flash's place, white in the
    // upper one and black in the lower one, so that fields shown together, not deinterlaced, can be told.
    bool interlaced = false;
    std::int64_t bitrate_bps = 0;  // about this much, by noise in the frames; 0: what the card needs

    bool operator==(const ClipVideo&) const = default;
};

struct ClipAudio {
    Codec codec = Codec::aac;
    int channels = 2;

    bool operator==(const ClipAudio&) const = default;
};

struct Clip {
    std::string container = "mp4";
    std::optional<ClipVideo> video;
    std::optional<ClipAudio> audio;
    Time length = base::from_seconds(4);
    bool fragmented = false;  // MP4: an index with each second
    // Spoilt on purpose, for those who must notice.
    Time audio_late{};    // the beep comes so much after the flash
    int drop_one_in = 0;  // of so many frames one is missing, the one before shown longer; 0: none

    bool operator==(const Clip&) const = default;
};

// "H.265 Main 10, 1920x1080, 60 fps, 8 Mbit/s", "AC-3 5.1 in MP4".
std::string in_words(const Clip& clip);
// "h265-main10-1920x1080-60.mp4": the same for equal clips alone.
std::string file_name(const Clip& clip);

// Makes it, and gives its tracks. Frames of more than 1280x720, and those with a bit rate of their own, are those of
// one second over and over, since they take long to encode. Fails as encoders and writers do, and (kind interrupted) on
// cancellation.
Result<std::vector<Track>> make_clip(const Clip& clip, std::unique_ptr<base::ByteSink> file, const Cancel& cancel);

}  // namespace wavecrest::sample
