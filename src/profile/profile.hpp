// Transcoding profiles: how a title is to be coded. Built-in ones are in data/profiles, the house's own are TOML files.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "base/result.hpp"
#include "base/time.hpp"
#include "base/units.hpp"
#include "media/types.hpp"

namespace wavecrest::profile {

struct VideoSettings {
    Codec codec = Codec::h264;
    std::string profile;        // the codec's, such as "high"; empty: the usual one
    std::string level;          // the codec's, such as "3.1"; empty: as needed
    int effort = 5;             // 1 quick to 9 thorough
    double quality = 77.5;      // 0 worst to 100 best: codec/video_encoder.hpp
    std::int64_t peak_bps = 0;  // 0: not limited
    Time buffer = base::from_seconds(2);
    Time keyframe_interval{};        // 0: the encoder's choice
    base::Size largest{1920, 1080};  // the picture is scaled down to fit
    bool square_pixels = true;       // else the source's pixel aspect is kept
    bool every_field = false;        // interlaced video: a picture for each field, else for each frame
    bool constant_rate = false;      // frames at even times, else at their own
    Ratio frame_rate{0, 1};          // that rate; 0: the source's usual one
};

// One kind of audio: each track that is chosen gets one of it.
struct AudioSettings {
    Codec codec = Codec::aac;
    bool keep = false;             // as the source is, instead
    int channels = 2;              // 1, 2 or 6: at most so many; 0: as many as the source and the codec have
    std::int64_t bitrate_bps = 0;  // for that many channels; 0: the usual one

    // For so many channels: a share of what is asked for, or what people usually take. 0 for lossless codecs, and for
    // what is kept.
    std::int64_t bitrate_for(int count) const;
};

struct Profile {
    std::string name;
    std::string purpose;
    std::string container = "mp4";
    VideoSettings video;
    std::vector<AudioSettings> audio = {AudioSettings{}};

    // Video at its peak and one track of each kind of audio; 0 where the video is not limited.
    std::int64_t peak_bps() const;
};

// Reads a profile's TOML; `file` is used in messages. Kind usage, with line and the nearest known key.
Result<Profile> parse(std::string_view text, const std::string& file);

// All built-in profiles, by name.
const std::vector<Profile>& built_in();

// A built-in profile by name, or the profile in a file when the name ends in .toml.
Result<Profile> find(const std::string& name_or_file);

// The text a profile was read from: what `profile show` prints.
Result<std::string> source_text(const std::string& name_or_file);

}  // namespace wavecrest::profile
