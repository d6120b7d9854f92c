// Decode, filter and encode one picture track and one sound track, as parallel stages with bounded queues:
//
//   source -> [decode] -> [filter] -> [encode] --+
//        \--> [decode and encode sound] ---------+--> interleaved packets -> sink
//
// The same graph serves files and, later, live streams; it ends with its source.
#pragma once

#include <functional>
#include <memory>
#include <optional>
#include <vector>

#include "base/cancel.hpp"
#include "base/progress.hpp"
#include "codec/x264_encoder.hpp"
#include "media/flow.hpp"

namespace wavecrest::transcode {

struct VideoPath {
    Track from;                  // MPEG-1 or MPEG-2
    bool undo_pulldown = false;  // give film pictures even times at encode.frame_rate
    codec::H264Settings encode;  // its size is the one pictures are scaled to
};

struct AudioPath {
    Track from;  // LPCM
    std::int64_t bitrate_bps = 160'000;
};

struct GraphSettings {
    VideoPath video;
    std::optional<AudioPath> audio;
    // Stop at this time of the source (excerpts); 0: to the end.
    Time until{};
};

struct GraphResult {
    std::int64_t pictures = 0;
    Time duration{};  // of the picture track
    Time first_picture{};
    std::vector<Track> tracks;      // as encoded
    std::int64_t sound_frames = 0;  // of the source (per channel), silence put into gaps not counted
};

// Makes the sink once the encoded tracks are known; track ids are 1 for picture, 2 for sound.
using SinkMaker = std::function<Result<std::unique_ptr<PacketSink>>(const std::vector<Track>&)>;

// Runs to the end of the source, an error, or cancellation (kind interrupted). The sink's finish() is called on success
// only. Times are kept, so the first picture need not be at 0.
Result<GraphResult> run(PacketSource& source, const GraphSettings& settings, const SinkMaker& make_sink,
                        const Progress& progress, const Cancel& cancel);

}  // namespace wavecrest::transcode
