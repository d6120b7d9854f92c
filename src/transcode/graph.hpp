// Decode, filter and encode one picture track and any number of audio tracks, as parallel stages with bounded queues:
//
//   source -> [decode] -> [filter] -> [encode] --+
//        \--> [decode and encode audio] ... -----+--> interleaved packets -> sink
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
#include "filter/cadence.hpp"
#include "filter/whole_frames.hpp"
#include "media/flow.hpp"

namespace wavecrest::transcode {

struct VideoPath {
    Track from;  // one that codec/video_decoder.hpp can decode
    // Where there may be fields of different instants or pulldown; else pictures are whole as they come.
    std::optional<filter::WholeFrames::Settings> fields;
    // Frames are repeated and left out to come at this rate; else they keep their own times.
    std::optional<Ratio> constant_rate;
    // Subtitles drawn into the pictures: all of a track, or only what is marked as forced in it.
    struct Subtitles {
        Track from;
        bool forced_only = true;
    };
    std::vector<Subtitles> subtitles;
    codec::H264Settings encode;  // its size is the one pictures are scaled to
};

struct AudioPath {
    Track from;
    std::int64_t bitrate_bps = 160'000;  // more than two channels are folded down to stereo
};

// Looks at what goes into the picture encoder and what comes out of it, on one thread, which it holds up meanwhile.
// Pictures are as they are coded: deinterlaced, scaled, with subtitles. Empty: nobody looks.
struct EncoderWatch {
    std::function<void(const Picture&)> picture;
    std::function<void(const Track&, const Packet&)> packet;  // in decoding order, each behind its picture
};

struct GraphSettings {
    VideoPath video;
    std::vector<AudioPath> audio;
    // Stop at this time of the source (excerpts); 0: to the end. Pictures and audio before 0 are decoded and dropped.
    Time until{};
    EncoderWatch watch;
    // Asked before the sink is finished, with what came out: an error leaves the sink unfinished. Empty: nobody asks.
    std::function<Status(const struct GraphResult& result)> accept;
};

struct GraphResult {
    std::int64_t pictures = 0;
    Time duration{};  // of the picture track
    Time first_picture{};
    std::vector<Track> tracks;      // as encoded
    std::int64_t audio_frames = 0;  // of the source's first track (per channel), silence put into gaps not counted
    int subtitles = 0;              // images drawn into the pictures
    std::vector<Problem> problems;  // of decoding the pictures
};

// Makes the sink once the encoded tracks are known; track ids are 1 for picture, 2 and up for audio.
using SinkMaker = std::function<Result<std::unique_ptr<PacketSink>>(const std::vector<Track>&)>;

// Shows the pictures of the next `length` of a source to the finders, as a run of its own.
Status look_at_cadence(PacketSource& source, const Track& video, Time length,
                       const std::vector<filter::CadenceFinder*>& finders);

// Runs to the end of the source, an error, or cancellation (kind interrupted). The sink's finish() is called on success
// only. Times are kept, so the first picture need not be at 0.
Result<GraphResult> run(PacketSource& source, const GraphSettings& settings, const SinkMaker& make_sink,
                        const Progress& progress, const Cancel& cancel);

}  // namespace wavecrest::transcode
