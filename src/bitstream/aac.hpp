// AAC configuration (ISO/IEC 14496-3, 1.6.2.1 AudioSpecificConfig).
#pragma once

#include <optional>
#include <string>

#include "base/bytes.hpp"

namespace wavecrest::bitstream::aac {

inline constexpr int kFrameSamples = 1024;

struct Config {
    int object_type = 2;  // 2 is LC
    int sample_rate = 0;  // Hz, as heard (spectral band replication doubles the core's)
    int core_rate = 0;    // Hz, of the frames
    int channels = 0;
    int frame_samples = kFrameSamples;  // at the core's rate; 960 in some broadcasts

    std::string profile_name() const;  // "AAC-LC", "HE-AAC" ...
};

std::optional<Config> parse_config(ByteSpan bytes);

// The header of ADTS frames (ISO/IEC 13818-7, 6.2), as transport streams and plain files carry AAC.
struct AdtsHeader {
    std::size_t header_bytes = 7;  // 9 with a check sum
    std::size_t frame_bytes = 0;   // header included
    int object_type = 2;
    int rate_index = 0;
    int sample_rate = 0;
    int channel_configuration = 0;
    int blocks = 1;  // raw data blocks in the frame
};
inline constexpr std::size_t kAdtsHeader = 7;
std::optional<AdtsHeader> parse_adts(ByteSpan bytes);
// A header for a frame of `payload` bytes; empty when the configuration can't be put in one (no plain profile or rate,
// channels told elsewhere) or the frame is too long.
ByteVector make_adts(ByteSpan config, std::size_t payload);
ByteVector config_of(const AdtsHeader& header);

// LC with a listed sample rate (table 1.18) and 1 to 7 channels as configured; empty when the rate is not listed.
ByteVector make_config(int sample_rate, int channels);

}  // namespace wavecrest::bitstream::aac
