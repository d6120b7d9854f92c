// What a device is asked to do on its check page, what it says it saw, and what is made of that.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "sample/clip.hpp"

namespace wavecrest::trial {

struct Step {
    enum class Kind {
        display,   // how large it is, and how often it is refreshed
        download,  // what the connection carries
        claims,    // what the browser says of `types`
        play,      // the clip, to its end
        motion,    // the same, noting which frame is shown when
        seek,      // to each of `positions`
        sync,      // noting when flashes are seen and beeps heard
        question,  // for whoever stands before it, who sees the clip meanwhile: one of `answers`, the first is good
    };
    // How the clip is delivered.
    enum class Delivery { file, hls_ts, hls_fmp4 };

    std::string id;  // says what is tried: "h264/1080p60"; the same from run to run
    Kind kind = Kind::play;
    std::string topic;  // for people: "H.264"
    std::string what;   // "H.264 High, 1920x1080, 60 fps, mp4"
    std::optional<sample::Clip> clip;
    Delivery delivery = Delivery::file;
    bool preload = false;  // the clip is there before it is played: a slow connection isn't taken for a slow device
    std::vector<double> positions;   // s
    std::vector<std::string> types;  // "video/mp4; codecs=\"avc1.640028\""
    std::string question;
    std::vector<std::string> answers;
};

// What the page says it saw. Numbers are in their ranges, texts short and printable, whatever was sent; negative where
// the browser doesn't tell.
struct Seen {
    std::string says;  // canPlayType(): "probably", "maybe", "no"; empty: not asked
    // decodingInfo() of the clip's video (W3C Media Capabilities, 2.2); nothing where the browser has none.
    struct Capabilities {
        bool supported = false, smooth = false, power_efficient = false;
    };
    std::optional<Capabilities> capabilities;
    std::string error;  // of the media element
    bool started = false;
    double startup_s = 0;  // from asking to the first frame
    double played_s = 0;   // how far its position went
    double wall_s = 0;     // and how long that took, from the first frame on
    int waits = 0;         // times it stood still meanwhile
    double waited_s = 0;
    std::int64_t frames = -1, dropped = -1;  // decoded; of them not shown in time
    std::int64_t presented = -1;             // given to the display
    int width = 0, height = 0;
    int combing = -1;  // of interlaced clips: difference between neighbouring lines where fields differ, 0 to 255
    std::int64_t audio_bytes = -1;  // decoded
    std::vector<double> levels;     // of each channel, 0 to 1: the loudest moment; empty: couldn't be listened to
    struct Mark {
        double at_s = 0;
        int frame = -1;  // -1: unreadable
    };
    std::vector<Mark> marks;  // at each refresh of the display
    struct Seek {
        double to_s = 0, took_s = -1, landed_s = 0;  // took_s -1: never
        int frame = -1;
    };
    std::vector<Seek> seeks;
    std::vector<double> beeps;                          // s, on the clock of the marks
    std::vector<std::pair<double, double>> downloaded;  // seconds so far, bytes so far
    double display_hz = 0;
    int display_width = 0, display_height = 0;
    bool display_hdr = false;
    std::vector<std::pair<std::string, std::string>> claims;  // type and what is said of it
    std::string answer;
};

// What the browser said of the clip beforehand: "probably, smooth, power-efficient".
std::string claim_text(const Seen& seen);

enum class Outcome { played, stutters, failed, unclear };
std::string_view short_name(Outcome result);

struct Judged {
    Outcome outcome = Outcome::unclear;
    std::string seen;  // "120 of 120 frames, starts in 0.4 s"
};

// `display_hz` 0: not known. Frames that the display isn't fast enough for don't count as lost.
Judged judge(const Step& step, const Seen& seen, double display_hz);

// Times between frames as they were shown.
struct Motion {
    int frames = 0;       // different ones that were read
    int missing = 0;      // numbers between the first and the last that never came, though the page was looking
    int unseen = 0;       // and those that may have come while it wasn't: it is too slow to read every frame
    int backwards = 0;    // shown behind a later one
    double uneven_s = 0;  // how far frames are shown off an even beat, at most (95 of 100)
    bool readable = false;
};
// `display_hz` 0: not known, 60 then.
Motion judge_motion(const std::vector<Seen::Mark>& marks, double frame_rate, double display_hz);

// How much later beeps are heard than their flashes are seen, s (median); nothing where fewer than three pairs were
// found.
std::optional<double> audio_lateness(const Seen& seen, double frame_rate);

// Mean of a download, bit/s, without its first half second; and the slowest second of it.
struct Speed {
    double mean_bps = 0, slowest_bps = 0;
};
std::optional<Speed> download_speed(const Seen& seen);

}  // namespace wavecrest::trial
