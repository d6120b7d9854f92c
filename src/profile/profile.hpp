// Transcoding profiles: how a title is to be coded. Built-in ones are in data/profiles, the house's own are TOML files.
#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/result.hpp"
#include "base/time.hpp"
#include "base/units.hpp"
#include "media/types.hpp"

namespace wavecrest::profile {

struct VideoSettings {
    // encode; keep: as the source is, with none of what follows; none: audio alone.
    enum class What { encode, keep, none } what = What::encode;
    Codec codec = Codec::h264;
    std::string profile;     // the codec's, such as "high"; empty: the usual one
    std::string level;       // the codec's, such as "3.1"; empty: as needed
    int bit_depth = 8;       // 8, or 10 where the source has more than 8
    bool keeps_hdr = false;  // with 10 bits: high dynamic range stays as it is, else it is made standard
    int effort = 5;          // 1 quick to 9 thorough
    double quality = 77.5;   // 0 worst to 100 best: codec/video_encoder.hpp
    // Instead of by quality: to an average rate, or to a file of this size with all its tracks. Both in two passes over
    // the title; live streams, which have one, keep to the rate as it goes. 0: by quality.
    std::int64_t mean_bps = 0;
    std::uint64_t target_bytes = 0;
    std::int64_t peak_bps = 0;  // 0: not limited
    Time buffer = base::from_seconds(2);
    Time keyframe_interval{};        // 0: the encoder's choice
    bool fixed_keyframes = false;    // exactly that far apart, in closed groups
    base::Size largest{1920, 1080};  // the picture is scaled down to fit
    bool square_pixels = true;       // else the source's pixel aspect is kept
    bool every_field = false;        // interlaced video: a picture for each field, else for each frame
    bool constant_rate = false;      // frames at even times, else at their own
    Ratio frame_rate{0, 1};          // that rate; 0: the source's usual one
    bool half_rate = false;          // of more than 30 frames a second every other one
    bool crop = false;               // black borders are left out

    bool two_passes() const { return mean_bps > 0 || target_bytes > 0; }
};

// One kind of audio: each track that is chosen gets one of it.
struct AudioSettings {
    Codec codec = Codec::aac;
    bool keep = false;  // as the source is, instead
    // What stays as it is although the others are encoded: tracks of this codec with at most so many channels.
    struct Kept {
        Codec codec = Codec::unknown;
        int channels = 0;  // 0: any number
    };
    std::vector<Kept> keeps;
    int channels = 2;                // 1, 2 or 6: at most so many; 0: as many as the source and the codec have
    std::int64_t bitrate_bps = 0;    // for that many channels; 0: the usual one
    std::optional<double> loudness;  // of the whole programme, LUFS (EBU R 128); none: as it is
    bool night = false;              // reduced dynamic range, for listening at low volume

    // For so many channels: a share of what is asked for, or what people usually take. 0 for lossless codecs, and for
    // what is kept.
    std::int64_t bitrate_for(int count) const;
    bool keeps_track(const Track& track) const;
};

// What becomes of subtitles that can be kept: of text, where the container has them; of images, else those that are
// needed are burned in.
struct SubtitleSettings {
    bool keep_text = true;
    bool keep_images = false;
};

struct Profile {
    std::string name;
    std::string purpose;
    std::string container = "mp4";
    VideoSettings video;
    std::vector<AudioSettings> audio = {AudioSettings{}};
    SubtitleSettings subtitles;
    // A ladder: the video in several encodes (rungs) that a player goes over between. `video` is what they have in
    // common. Automatic: rungs are found for each title (convert/ladder.hpp). See ladder.hpp.
    std::vector<VideoSettings> rungs;
    bool automatic_ladder = false;

    bool is_ladder() const { return automatic_ladder || !rungs.empty(); }
    bool has_video() const { return video.what != VideoSettings::What::none; }

    // Video at its peak and one track of each kind of audio; 0 where the video is not limited, or not known.
    std::int64_t peak_bps() const;
};

// Reads a profile's TOML; `file` is used in messages. Kind usage, with line and the nearest known key.
Result<Profile> parse(std::string_view text, const std::string& file);

// All built-in profiles, by name.
const std::vector<Profile>& built_in();

// The text of a new profile: another's (as `find` takes it) under a name of its own, with some keys changed:
// "KEY=VALUE", of the video where they name no table ("effort=7", "audio.bitrate=96 kbit/s"). A bit rate or size takes
// the place of the other's quality, and the other way round. Comments stay. Fails as `parse` does where the outcome
// would be wrong, and for keys that are not there.
Result<std::string> derived_text(const std::string& like, const std::string& name,
                                 const std::vector<std::string>& changes);

// A built-in profile by name, or the profile in a file when the name ends in .toml.
Result<Profile> find(const std::string& name_or_file);

// The text a profile was read from: what `profile show` prints.
Result<std::string> source_text(const std::string& name_or_file);

}  // namespace wavecrest::profile
