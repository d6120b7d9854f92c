// What a client device with one of its players can play, and the judgement whether a stream suits it.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "base/config.hpp"
#include "base/result.hpp"
#include "base/units.hpp"
#include "media/types.hpp"

namespace wavecrest::device {

// One thing a device decodes; several of one codec where what it takes of one kind (faster, smaller) differs.
struct VideoAbility {
    Codec codec = Codec::unknown;
    std::vector<std::string> profiles;  // standard names; empty: all
    std::string level;                  // highest; empty: all
    base::Size largest{};
    double max_fps = 0;       // pictures per second; 0: no limit
    std::vector<Scan> scans;  // empty: all
    int bit_depth = 8;
    std::vector<std::string> hdr;  // "hdr10", "hlg": shown as what they are; empty: SDR alone
    std::string basis;             // of this statement: "played 2026-11-30 19:05"; mostly empty
};

struct AudioAbility {
    Codec codec = Codec::unknown;
    int channels = 2;                     // most
    std::vector<std::string> containers;  // in these alone; empty: in all that the device reads
    std::string basis;                    // of this statement; mostly empty

    bool is_in(std::string_view container) const;  // an empty one isn't asked about
};

// How a device's player of ladders chooses the bit rate of its next segment; the rule: measure/adaptation.hpp.
struct Adapting {
    double link_share = 0.8;        // a rung fits when its peak is at most this part of what the link carried,
    double cautious_share = 0.4;    // or this, until the buffer was secure once, and when it is low
    int measured_segments = 3;      // that tell what the link carried; the last alone where it was slower
    Time secure_buffer{};           // media in the buffer; 0: a third of what it holds, from 4 to 12 s
    Time low_buffer{};              // 0: 40 % of that
    bool first_listed = false;      // begins with the rung that the playlist lists first, else with the lowest
    int rungs_up = 1;               // at a time
    bool holds_rung = true;         // while its buffer is secure, it doesn't go down
    bool abandons_segments = true;  // that would come too late, where a lower rung's would come sooner
    std::string trouble;            // what this player is known to do wrong on a link that varies; mostly empty

    bool operator==(const Adapting&) const = default;
};

// How a device's player fills its buffer and lives off it.
struct Playing {
    Time start_buffer{};       // media it wants before it starts
    Time start_delay{};        // from then to its first picture
    Time resume_buffer{};      // and before it goes on after a stall,
    double resume_growth = 1;  // so many times as much after each further one,
    Time max_resume_buffer{};  // but never more; 0: no limit
    Time buffer{};             // media it holds at most,
    Time refill{};             // and below which it reads on then
    // The same in bytes: of a film of a low bit rate it holds so much, which is more media.
    std::int64_t buffer_size = 0, refill_size = 0;
    std::int64_t read_size = 0;  // bytes it hands to its decoder at a time, the first time half as many; 0: all it has
    // Of HLS: media it holds at most, and below which it fetches on once it has that; whether a segment is played only
    // when it is whole.
    Time hls_buffer{}, hls_refill{};
    bool whole_segments = true;
    // Of live HLS: bytes of the segment listed first that it reads to see what is in it; and of the first so many it
    // drops what it hasn't shown when they took longer than a target duration, and goes on with what is listed next (0:
    // never). Where a list read anew has more new segments than `live_catch_up`, it goes on with the last so many, and
    // stops at the gap (0: it plays all of them).
    std::int64_t live_probe = 0;
    int live_restart = 0, live_catch_up = 0;
    bool seeks_exactly = true;  // it goes on at the place asked for; false: at the keyframe before it
    // A seek in a file over fewer bytes than this ahead of what has come reads through what lies between.
    std::int64_t read_through = 0;
    bool finishes_segment = false;  // of HLS: a seek waits until the segment on its way has come
    Adapting adapting;

    // Of a film of this bit rate: media it holds at most, and below which it reads on; never below start_buffer.
    Time buffer_of(std::int64_t bps) const;
    Time refill_of(std::int64_t bps) const;
};

// Something that was tried on the device itself.
struct Tried {
    std::string what;    // "H.265 Main, 3840x2160, 60 fps, mp4"
    std::string says;    // what its browser says of it beforehand: "probably, smooth"; empty: nothing
    std::string result;  // "played", "stutters", "failed", "unclear"
    std::string seen;    // "240 of 240 frames, starts in 0.4 s"
    std::string when;    // "2026-11-30 19:05"
};

struct Device {
    std::string name;  // class name for built-in ones, the room's name for it in a site
    std::string description;
    std::vector<std::string> containers;
    std::vector<std::string> protocols;  // "http", "https", "hls", "udp", "rtp", "rtmp"
    std::int64_t highest_bps = 0;        // mean over a second; 0: no limit
    Playing playing;
    std::vector<VideoAbility> video;
    std::vector<AudioAbility> audio;
    std::vector<Codec> subtitles;  // that can be switched on in a file: text, DVD subtitles, PGS
    std::string basis;             // where these statements come from
    std::vector<Tried> tried;      // by the check page; empty for descriptions that are written by hand
};

Result<Device> parse(std::string_view text, const std::string& file);
const std::vector<Device>& built_in();
// A built-in device class by name, or a description in a file when the name ends in .toml. "PLAYER+RECEIVER" is a
// player with an audio receiver behind it, to which it hands on what the receiver decodes.
Result<Device> find(const std::string& name_or_file);
// A player and what the receiver behind it decodes.
Device with_receiver(Device player, const Device& receiver);
// The text a device was read from; of a player with a receiver that of each.
Result<std::string> source_text(const std::string& name_or_file);
Result<std::vector<std::string>> source_texts(const std::string& name_or_file);
// The text of a new description: another's under a name of its own, comments and all.
Result<std::string> derived_text(const std::string& like, const std::string& name);

// The text of a description that parse() reads back as this device.
std::string write(const Device& device);

// What a description leaves open though decisions need it, or says against itself; one sentence each.
std::vector<std::string> doubts(const Device& device);

// "up to High, level 4.1, 1920x1080, 60 fps, 8 bits", without the codec.
std::string in_words(const VideoAbility& ability);

// What two devices differ in, a row each: "h264 level", "4.1", "5.1". Empty where nothing does.
struct Difference {
    std::string what, first, second;
};
std::vector<Difference> compare(const Device& first, const Device& second);

// How a device is linked to the server, as the payload TCP gets through it.
struct Link {
    std::string name;              // "gigabit", "100 Mbit/s Ethernet", "3 Mbit/s"
    std::int64_t payload_bps = 0;  // bits per second of TCP payload
};
// "gigabit" (941 Mbit/s of payload), "fast-ethernet" (94.1 Mbit/s: the wire rate less Ethernet, IP and TCP headers of
// 1460-byte segments), or a measured payload rate such as "12 Mbit/s". Nothing for other texts.
std::optional<Link> parse_link(std::string_view text);

enum class Verdict { pass, warn, fail };
std::string_view short_name(Verdict verdict);
inline Verdict worse(Verdict a, Verdict b) {
    return a < b ? b : a;
}

// One thing looked at: what was measured against which limit.
struct Check {
    std::string name;  // "container", "video codec", "level" ...
    Verdict verdict = Verdict::pass;
    std::string measured;
    std::string limit;
    std::string why;  // what it means and what to do, when it is not a pass
};

bool takes(const Device& device, std::string_view protocol);
bool reads(const Device& device, std::string_view container);
// "hdr10" or "hlg"; empty: SDR.
std::string_view dynamic_range(const Track& track);
// Of judge() what is about one video track: against that of the device's abilities which suits it best.
std::vector<Check> judge_video(const Device& device, const Track& track);
// In a container; empty: in any.
bool plays_audio(const Device& device, const Track& track, std::string_view container = {});
// Whether the device takes a stream by this protocol.
Check judge_protocol(const Device& device, std::string_view protocol);
// Whether a stream with these properties suits the device; peak_1s_bps is the stream's highest second. An empty
// container isn't looked at: the protocol decides it.
std::vector<Check> judge(const Device& device, std::string_view container, const std::vector<Track>& tracks,
                         std::int64_t peak_1s_bps);

}  // namespace wavecrest::device
