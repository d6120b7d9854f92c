// What the adapters over video encoders have in common: the track they make, and pictures' own times through encoders
// that count pictures.
#pragma once

#include <fmt/format.h>

#include <algorithm>
#include <cstdint>
#include <deque>
#include <optional>
#include <string>

#include "codec/video_encoder.hpp"

namespace wavecrest::codec {

// The track as the settings have it; what the encoder's headers say (profile, level, configuration) comes on top.
inline Track track_of(const VideoEncoderSettings& settings) {
    Track track;
    track.kind = TrackKind::video;
    track.codec = settings.codec;
    track.width = settings.width;
    track.height = settings.height;
    track.pixel_aspect = settings.pixel_aspect;
    track.frame_rate = settings.frame_rate;
    track.colour = settings.colour;
    track.bit_depth = settings.bit_depth;
    track.mastering_display = settings.mastering_display;
    track.content_light = settings.content_light;
    track.scan = Scan::progressive;
    return track;
}

inline tl::unexpected<Error> refused_settings(std::string what) {
    return fail(ErrorKind::usage, std::move(what), "video settings of the profile",
                "change the profile (wavecrest profile show NAME prints it)");
}
inline tl::unexpected<Error> refused_size(const VideoEncoderSettings& settings) {
    return refused_settings(
        fmt::format("{}x{} with these settings is refused by the encoder", settings.width, settings.height));
}
// Frames between keyframes, where frames come at an even rate; at least 1.
inline int keyframe_frames(const VideoEncoderSettings& settings) {
    const double frames = base::to_seconds(settings.keyframe_distance) * settings.frame_rate.value();
    return std::max(1, static_cast<int>(settings.fixed_keyframes ? frames + 0.5 : frames));
}
// How many pictures an encoder looks ahead: what the settings let it, and so that large ones take no more memory than a
// machine has: eighty million samples of luma.
inline int lookahead(const VideoEncoderSettings& settings, int usual) {
    if (settings.lookahead.count() > 0)
        usual = std::min(usual, static_cast<int>(base::to_seconds(settings.lookahead) * settings.frame_rate.value()));
    const int fits = 80'000'000 / std::max(settings.width * settings.height, 1);
    return std::clamp(fits, std::min(usual, 8), usual);
}
inline int kbps(std::int64_t bits_per_second) {
    return std::max(1, static_cast<int>(bits_per_second / 1000));
}

inline tl::unexpected<Error> failed_at(std::int64_t picture) {
    return fail(ErrorKind::input, "the encoder failed", fmt::format("frame {}", picture), "try another profile");
}

// What was put in under a number comes out under it.
class EncoderTimes {
  public:
    explicit EncoderTimes(Ratio frame_rate) : frame_rate_(frame_rate) {}

    // The picture's number.
    std::int64_t put(const Picture& picture) {
        pictures_.push_back({next_, picture.pts, picture.duration});
        return next_++;
    }
    // The time of a picture's number; of one before the first (decoding delay), at the rate before it.
    Time time_of(std::int64_t number) const {
        const Known& near = nearest(number);
        return near.pts + base::frames_to_time(number - near.number, frame_rate_);
    }
    Time duration_of(std::int64_t number) const { return nearest(number).duration; }
    // Nobody asks for what was before this number again.
    void forget_before(std::int64_t number) {
        while (pictures_.size() > kKept && pictures_.front().number < number) pictures_.pop_front();
    }
    std::int64_t count() const { return next_; }

  private:
    struct Known {
        std::int64_t number;
        Time pts, duration;
    };
    static constexpr std::size_t kKept = 512;

    const Known& nearest(std::int64_t number) const {
        const auto index = std::clamp<std::int64_t>(number - pictures_.front().number, 0,
                                                    static_cast<std::int64_t>(pictures_.size()) - 1);
        return pictures_[static_cast<std::size_t>(index)];
    }

    Ratio frame_rate_;
    std::deque<Known> pictures_;
    std::int64_t next_ = 0;
};

// Where a keyframe is due by time: for streams whose frames come at times of their own, where a number of frames says
// nothing.
class KeyframeClock {
  public:
    explicit KeyframeClock(Time distance) : distance_(distance) {}
    bool is_due(const Picture& picture) {
        if (distance_.count() <= 0 || (last_ && picture.pts - *last_ < distance_)) return false;
        last_ = picture.pts;
        return true;
    }

  private:
    Time distance_;
    std::optional<Time> last_;
};

}  // namespace wavecrest::codec
