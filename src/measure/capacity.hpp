// What this machine can do: how long a picture takes each codec by size and effort, how fast drives and the network
// port are, how much the server sends. Measured by `site measure` (codec_speed.hpp, site/capacity.hpp) and kept for
// plans, checks and servers to ask.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/file.hpp"
#include "base/result.hpp"
#include "host/video_hardware.hpp"
#include "media/types.hpp"
#include "transcode/graph.hpp"

namespace wavecrest::measure {

// Of one picture, in seconds.
struct PictureTime {
    double processor = 0;  // of all threads together
    double alone = 0;      // from one picture to the next, with the machine to itself
};

struct CodecSpeed {
    Codec codec = Codec::unknown;
    int width = 0, height = 0;
    int bit_depth = 8;
    int effort = 0;  // of encoders, 1 to 9 (codec/video_encoder.hpp); 0: decoding
    PictureTime time;
};

// Filters, of one picture of 1920x1080.
struct FilterSpeeds {
    PictureTime deinterlace, scale, tone_map;
};

// Live transcodes of one kind at the same time, tried.
struct LiveSpeed {
    std::string source;    // "720x480 MPEG-2, 29.97 fps"
    std::string profile;   // built-in
    double at_once = 0;    // times real time, of all together; a stream needs 1 and some reserve
    int carries() const;   // streams, with that reserve
    double predicted = 0;  // the same by the figures above
};

struct DriveSpeed {
    std::string folder;
    std::string mounted;  // "//server/share", "/dev/sda1"
    double read = 0;      // bytes a second; 0: couldn't be tried
    double write = 0;     // the same; until the data is durable
};

struct Port {
    std::string interface;
    std::int64_t bps = 0;  // what its wire is set to; 0: not told (Wi-Fi, virtual)
};

struct Capacity {
    std::string host;       // its name
    std::string processor;  // its model
    int processors = 1;
    std::string at;  // when it was measured: "2026-05-09 14:02"
    std::vector<CodecSpeed> encoding, decoding;
    FilterSpeeds filters;
    double audio = 0;  // processor time a second of stereo takes to encode
    std::vector<LiveSpeed> live;
    double server_bps = 0;  // what the server sends of files in memory, to clients of this machine
    std::vector<DriveSpeed> drives;
    std::vector<Port> ports;
    std::vector<host::VideoHardware> hardware;
};

// How much of the processors and of the link may be promised: encoders and players have busy seconds.
inline constexpr double kReserve = 0.87;

// The time of a picture: as measured, or computed from what was measured of the same codec at another size and at
// another effort. Nothing of codecs and depths that were not measured.
std::optional<PictureTime> encoding_time(const Capacity& capacity, Codec codec, int bit_depth, int width, int height,
                                         int effort);
std::optional<PictureTime> decoding_time(const Capacity& capacity, Codec codec, int bit_depth, int width, int height);

// What one second of a title takes to transcode.
struct TranscodeLoad {
    double processor = 0;  // seconds of processor time: as many processors are busy in real time
    double alone = 0;      // seconds that pass, with the machine to itself
};
// By the codecs, sizes, rates and filters of a graph; the first of two passes isn't counted. Nothing where something of
// it was not measured.
std::optional<TranscodeLoad> load_of(const Capacity& capacity, const transcode::GraphSettings& graph);

// How many can watch at once what is sent to them as it is, `bps` to each, and what bounds it: "server", "port eth0",
// "drive at /media/films". With a reserve; a port that doesn't tell its speed is taken for a gigabit.
struct Viewers {
    int count = 0;
    std::string limit;
};
Viewers viewers_at_once(const Capacity& capacity, double bps);

// Processors that others keep busy now; looks for a moment.
double busy_processors();

// Whether figures contradict each other as they do where something else took the processor meanwhile: a quicker effort
// took clearly longer than a more thorough one, or a smaller picture than a larger one.
bool was_disturbed(const Capacity& capacity);

// Where it is kept: machine.json in base::state_folder().
base::Path capacity_file();
Status save(const Capacity& capacity, const base::Path& file);
// Nothing where there is none, or where it is another machine's: another processor, or another number of them. Kind
// input for a file that is damaged.
Result<std::optional<Capacity>> load_capacity(const base::Path& file);
// As JSON: what is kept, and what `site measure --json` prints.
std::string to_json_text(const Capacity& capacity);

// This machine's, but for all that is measured.
Capacity this_machine();

}  // namespace wavecrest::measure
