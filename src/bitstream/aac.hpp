// AAC configuration (ISO/IEC 14496-3, 1.6.2.1 AudioSpecificConfig).
#pragma once

#include <optional>
#include <string>

#include "base/bytes.hpp"

namespace wavecrest::bitstream::aac {

inline constexpr int kFrameSamples = 1024;

struct Config {
    int object_type = 2;  // 2 is LC
    int sample_rate = 0;  // Hz
    int channels = 0;

    std::string profile_name() const;  // "AAC-LC", "HE-AAC" ...
};

std::optional<Config> parse_config(ByteSpan bytes);
// LC with a listed sample rate (table 1.18) and 1 to 7 channels as configured; empty when the rate is not listed.
ByteVector make_config(int sample_rate, int channels);

}  // namespace wavecrest::bitstream::aac
