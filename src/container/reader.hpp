// A media file of any format, opened for reading.
#pragma once

#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/byte_source.hpp"
#include "media/flow.hpp"
#include "media/tags.hpp"

namespace wavecrest::container {

struct MediaFile {
    std::string container;  // short name
    std::unique_ptr<PacketSource> source;
    std::string title;               // that the file gives itself; mostly empty
    media::Tags tags;                // of music
    std::vector<std::string> notes;  // for people: attachments, an index at the end ...
    std::vector<Problem> problems;   // known before reading: an end that is missing
    std::vector<int> programs;       // numbers of the programs of a transport stream; empty elsewhere
    // Bytes over time as far as an index tells them without reading all; empty where there is none.
    std::function<std::vector<RatePiece>()> rate;
};

// Opens what the first bytes say it is. `program` chooses one of a transport stream's; 0: the first with a picture.
// Fails (kind input) for anything else, and for files damaged beyond use.
Result<MediaFile> open_media(std::shared_ptr<base::ByteSource> bytes, int program = 0);

// What a list of films shows of one.
struct MediaHead {
    std::string container;  // short name
    Time duration{};
    std::vector<Track> tracks;  // without what only an index or the first packets tell: rates, cadence
    media::Tags tags;
};
// Of an MP4 file, from its headers alone: some kilobytes, where its index has megabytes. Nothing where they don't tell
// the length (fragments, several edits, no index). Errors as of open_mp4().
Result<std::optional<MediaHead>> read_mp4_head(const std::shared_ptr<base::ByteSource>& bytes);

// The media type (IANA) of a container by its short name: "video/mp4"; "application/octet-stream" of others.
std::string media_type(std::string_view container);

// The formats one by one; each fails when it is no such file.
Result<MediaFile> open_mp4(std::shared_ptr<base::ByteSource> bytes);
Result<MediaFile> open_matroska(std::shared_ptr<base::ByteSource> bytes);
Result<MediaFile> open_mpeg_ts(std::shared_ptr<base::ByteSource> bytes, int program);
Result<MediaFile> open_mpeg_ps(std::shared_ptr<base::ByteSource> bytes);
Result<MediaFile> open_avi(std::shared_ptr<base::ByteSource> bytes);
Result<MediaFile> open_flv(std::shared_ptr<base::ByteSource> bytes);
Result<MediaFile> open_ogg(std::shared_ptr<base::ByteSource> bytes);
// WAV, FLAC, MP3 and ADTS.
Result<MediaFile> open_audio_file(std::shared_ptr<base::ByteSource> bytes);
// SRT and WebVTT files.
Result<MediaFile> open_text_file(std::shared_ptr<base::ByteSource> bytes);

// What seek() answers where the bytes come in once and in order.
Error skips_refused(const base::ByteSource& bytes);

// Text of subtitles: what a packet of a text track holds is UTF-8 with \n between lines and no styling.
std::string plain_text_of_ass(const std::string& dialogue);  // a dialogue line's fields as Matroska stores them
// Tags of SRT and WebVTT left out; `entities` are read as well (WebVTT).
std::string without_markup(const std::string& text, bool entities);

}  // namespace wavecrest::container
