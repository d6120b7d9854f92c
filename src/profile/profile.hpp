// Transcoding profiles: how a title is to be coded. Built-in ones are in data/profiles, the house's own are TOML files.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "base/result.hpp"
#include "base/time.hpp"
#include "base/units.hpp"

namespace wavecrest::profile {

struct VideoSettings {
    std::string profile = "high";  // H.264: baseline, main, high
    std::string level;             // H.264 level such as "3.1"; empty: as needed
    int effort = 5;                // 1 quick to 9 thorough
    double quality = 20;           // 0 best to 51 worst
    std::int64_t peak_bps = 0;     // 0: not limited
    Time buffer = base::from_seconds(2);
    Time keyframe_interval{};        // 0: the encoder's choice
    base::Size largest{1920, 1080};  // the picture is scaled down to fit
    bool square_pixels = true;       // else the source's pixel aspect is kept
    bool every_field = false;        // interlaced video: a picture for each field, else for each frame
    bool constant_rate = false;      // frames at even times, else at their own
    Ratio frame_rate{0, 1};          // that rate; 0: the source's usual one
};

struct AudioSettings {
    std::int64_t bitrate_bps = 160'000;
};

struct Profile {
    std::string name;
    std::string purpose;
    VideoSettings video;  // H.264
    AudioSettings audio;  // AAC-LC
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
