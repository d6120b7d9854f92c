// Where in a file a time lies, for players that seek by time and are given its bytes from there: formats that can be
// joined anywhere, and tell their clock as they go.
#pragma once

#include <cstdint>
#include <string_view>

#include "base/byte_source.hpp"
#include "base/result.hpp"
#include "base/time.hpp"

namespace wavecrest::container {

// Whether a file in this container (short name) can be given from the middle: transport and program streams.
bool seeks_by_time(std::string_view container);

struct SeekOffset {
    std::uint64_t offset = 0;  // of a packet, or pack
    Time time{};               // since the beginning, by the stream's clock there
};
// The last place at or before `time` by the stream's own clock (PCR, SCR); of a transport stream, one that is marked
// for random access where there is one within some seconds before. Clocks that jump give a place near it. Fails (kind
// input) where there is no clock, and kind usage for other containers.
Result<SeekOffset> offset_at(base::ByteSource& source, std::string_view container, Time time);

}  // namespace wavecrest::container
