// Decodes, filters and encodes tracks as parallel stages with bounded queues, once for any number of outputs:
//
//              +-> [decode] -> [filters] -+-> [scale, encode] --+--> interleaved packets -> sink of output 1
//    source ---+                 ...      +-> [scale, encode] --|-+> interleaved packets -> sink of output 2
//              +-> [decode audio -> mix, resample, encode ...] -+ |
//              +-> packets as they are --------------------------+
//
// The same graph serves files and live streams; it ends with its source. A slow sink holds everything up: queues are
// bounded, and what an output waits with is bounded, too (container/interleave.hpp).
#pragma once

#include <functional>
#include <memory>
#include <optional>
#include <vector>

#include "base/cancel.hpp"
#include "base/progress.hpp"
#include "codec/audio_encoder.hpp"
#include "codec/video_encoder.hpp"
#include "filter/borders.hpp"
#include "filter/cadence.hpp"
#include "filter/whole_frames.hpp"
#include "media/flow.hpp"
#include "transcode/pieces.hpp"

namespace wavecrest::transcode {

// What decoded pictures go through before they are encoded, at the source's size without borders.
struct VideoChain {
    filter::Borders crop;  // left out; where there is more than black a problem is told
    // Where there may be fields of different instants or pulldown; else pictures are whole as they come.
    std::optional<filter::WholeFrames::Settings> fields;
    // Frames are repeated and left out to come at this rate; else they keep their own times.
    std::optional<Ratio> constant_rate;
    bool half_rate = false;  // every other frame is left out
    // Subtitles burned in: all of a track, or only what is marked as forced in it.
    struct Subtitles {
        Track from;
        bool forced_only = true;
    };
    std::vector<Subtitles> subtitles;
    // Looks at pictures as they leave the chain, on its thread, which it holds up meanwhile. Empty: nobody looks.
    std::function<void(const Picture&)> watch;
};

// Looks at what goes into an encoder and what comes out of it, on one thread, which it holds up meanwhile. Pictures are
// as they are coded: deinterlaced, scaled, with subtitles. Empty: nobody looks.
struct EncoderWatch {
    std::function<void(const Picture&)> picture;
    std::function<void(const Track&, const Packet&)> packet;  // in decoding order, each behind its picture
};

struct VideoEncode {
    std::size_t chain = 0;               // of GraphSettings::chains
    codec::VideoEncoderSettings encode;  // its size is the one pictures are scaled to, its depth the one they get
    bool to_sdr = false;                 // high dynamic range is made standard
    std::optional<Pieces> pieces;        // encoded in pieces that outlive a killed program
    EncoderWatch watch;
};

struct AudioEncode {
    Track from;  // resampled to the encoder's rate, and mixed to its layout
    codec::AudioEncoderSettings encode;
    // Loudness that the programme is brought to, LUFS, by the gain (a factor) that somebody found out beforehand; true
    // peaks stay under -1 dBTP.
    std::optional<double> loudness;
    float gain = 1;
    bool night = false;  // reduced dynamic range (filter/night.hpp)
};

// A track of an output: one of those that are encoded, which others may have, too, or one of the source as it is.
struct OutputTrack {
    enum class Kind { video, audio, kept } kind = Kind::video;
    std::size_t index = 0;  // of video_encodes, audio_encodes or kept
};

struct GraphSettings {
    std::optional<Track> video;      // the one that is decoded, which codec/video_decoder.hpp can
    std::vector<VideoChain> chains;  // all of it
    std::vector<VideoEncode> video_encodes;
    std::vector<AudioEncode> audio_encodes;
    std::vector<Track> kept;
    std::vector<std::vector<OutputTrack>> outputs;  // tracks of each, in their order
    // Little lies between what is read and what is written, so that a seek in a live source is soon seen; else a second
    // or two of packets smooths what a disc takes to be read.
    bool prompt = false;
    // Stop at this time of the source (excerpts); 0: to the end. Pictures and audio before 0 are decoded and dropped.
    Time until{};
    // Asked before sinks are finished, with what came out: an error leaves them unfinished. Empty: nobody asks.
    std::function<Status(const struct GraphResult& result)> accept;

    // Whether a track of the source is needed.
    bool uses(TrackId track) const;
};

struct GraphResult {
    std::int64_t pictures = 0;  // of the first encode of video
    Time duration{};            // of it, or of what went along or was heard where there is none
    Time first_picture{};
    std::int64_t audio_frames = 0;  // of the first encode of audio (per channel), silence put into gaps not counted
    int subtitles = 0;              // images burned in
    std::vector<Problem> problems;  // of decoding the pictures
};

// Shows the audio of each encode as it goes into its encoder, but for gain and limits: mixed, at the source's rate.
// `frames` is called with the encode's number. Reads the source to its end.
Status listen(PacketSource& source, const std::vector<AudioEncode>& encodes,
              const std::function<void(std::size_t, const AudioFrames&)>& frames, const Cancel& cancel);

// Makes the sink of an output (its number, from 0) once its tracks are known; ids of tracks count from 1.
using SinkMaker = std::function<Result<std::unique_ptr<PacketSink>>(std::size_t output, const std::vector<Track>&)>;

// The tracks of an output as they are promised before anything is encoded. Fails as the encoders do.
Result<std::vector<Track>> tracks_of(const GraphSettings& settings, std::size_t output);

// Shows the pictures of the next `length` of a source to the finders, as a run of its own.
Status look_at_cadence(PacketSource& source, const Track& video, Time length,
                       const std::vector<filter::CadenceFinder*>& finders);

// Runs to the end of the source, an error, or cancellation (kind interrupted). The first error ends all. Sinks'
// finish() is called on success only, one after the other. Times are kept, so the first picture need not be at 0.
Result<GraphResult> run(PacketSource& source, const GraphSettings& settings, const SinkMaker& make_sink,
                        const Progress& progress, const Cancel& cancel);

}  // namespace wavecrest::transcode
