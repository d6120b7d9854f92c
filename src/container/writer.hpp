// Writers of media files: packets in, a file out. What each format can hold is asked before anything is written.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "base/atomic_file.hpp"
#include "media/flow.hpp"
#include "media/tags.hpp"

namespace wavecrest::container {

struct WriterSettings {
    std::string title;              // of the film; mostly empty
    int year = 0;                   // of the film; 0: unknown
    media::Tags tags;               // of music; of files of audio alone, MP4 and Matroska
    std::vector<Chapter> chapters;  // written where the format has them and there is more than one
    Time duration{};                // presentation is cut here (encoder padding); 0: keep all
    Time fragments{};   // MP4: parts of at least this length, each with its own index; 0: one index in front
    bool cmaf = false;  // such an MP4 of one track says that it keeps to CMAF (container/cmaf.hpp)
};

// Why a file of this format can't hold the track; empty when it can. `format` is a container's short name.
std::string why_not(std::string_view format, const Track& track);
// The same as far as the codec alone decides, for tracks whose configuration is yet to come.
std::string why_not_codec(std::string_view format, const Track& track);
// The formats that can be written, by short name, and the file name extension of each: ".mp4".
const std::vector<std::string_view>& writable_formats();
// A format's own name from what people write: in any case, with its usual extensions ("MKV", ".ts", "m4v", "vtt").
// What isn't known stays as it is.
std::string format_from_name(std::string_view name);
std::string_view extension_of(std::string_view format);
bool holds_one_track(std::string_view format);

// Packets of one track come in decoding order; tracks interleaved by decoding time. Tracks must be described in full
// (bitstream/headers.hpp). The file appears when finish() is called. Errors: kind machine (writing), input (a track the
// format can't hold).
Result<std::unique_ptr<PacketSink>> create_media(std::string_view format, std::unique_ptr<base::ByteSink> file,
                                                 std::vector<Track> tracks, WriterSettings settings);
// The same into a file.
Result<std::unique_ptr<PacketSink>> create_media(std::string_view format, base::AtomicFile file,
                                                 std::vector<Track> tracks, WriterSettings settings);
// Whether what was written is changed again at the end (an index in front, lengths): such a format needs a sink that
// seeks back. Transport streams, fragmented MP4 and files of
// audio alone but WAV go one way.
bool needs_seeking(std::string_view format, const WriterSettings& settings);

// The formats one by one.
Result<std::unique_ptr<PacketSink>> create_matroska(std::unique_ptr<base::ByteSink> file, std::vector<Track> tracks,
                                                    WriterSettings settings, bool webm);
Result<std::unique_ptr<PacketSink>> create_mpeg_ts(std::unique_ptr<base::ByteSink> file, std::vector<Track> tracks,
                                                   WriterSettings settings);

Result<std::unique_ptr<PacketSink>> create_flv(std::unique_ptr<base::ByteSink> file, std::vector<Track> tracks,
                                               WriterSettings settings);
Result<std::unique_ptr<PacketSink>> create_ogg(std::unique_ptr<base::ByteSink> file, std::vector<Track> tracks,
                                               WriterSettings settings);
// "wav", "flac", "mp3", "adts".
Result<std::unique_ptr<PacketSink>> create_audio_file(std::string_view format, std::unique_ptr<base::ByteSink> file,
                                                      std::vector<Track> tracks, WriterSettings settings);

}  // namespace wavecrest::container
