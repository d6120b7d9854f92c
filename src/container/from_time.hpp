// A media file from a time on, for players that seek by time: which of its bytes to send, and what to send in front of
// them so that together they are a file again. Nothing is copied or encoded anew.
#pragma once

#include <cstdint>
#include <memory>
#include <string_view>

#include "base/byte_source.hpp"
#include "base/bytes.hpp"
#include "base/result.hpp"
#include "base/time.hpp"

namespace wavecrest::container {

// Whether files in this container (short name) can be given from a time on: transport and program streams, MP4,
// Matroska, WebM.
bool seeks_by_time(std::string_view container);

struct FileFromTime {
    Bytes head;                // sent first; none where the bytes follow one another anyhow
    std::uint64_t offset = 0;  // in the file: what follows the head
    std::uint64_t end = 0;     // behind its last byte
    Time time{};               // where it begins, since the beginning of the film
};
// From the last keyframe at or before `time`; without video from `time` itself, or shortly before.
// - Transport and program streams (the packet or pack at the stream's own clock, PCR or SCR; in a transport stream one
//   that is marked for random access, where there is one within some seconds before), Matroska (clusters) and
//   fragmented MP4 keep their timestamps. Clocks that jump give a place near it.
// - Other MP4 gets an index of what is left, whose presentation begins at 0 (ISO/IEC 14496-12, 8.6.6 hides what only
//   has to be decoded). About 12 bytes a sample: 6 MB for two hours.
// Fails with kind input where the file can't be read, tells no clock, or is of a kind that isn't cut (MP4 with several
// edits, sample descriptions, LPCM, encryption), and with kind usage for other containers.
Result<FileFromTime> file_from_time(std::shared_ptr<base::ByteSource> source, std::string_view container, Time time);

// The formats one by one.
Result<FileFromTime> mp4_from_time(base::ByteSource& source, Time time);
Result<FileFromTime> matroska_from_time(std::shared_ptr<base::ByteSource> source, Time time);

}  // namespace wavecrest::container
