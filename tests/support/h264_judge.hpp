// Chromium's H.264 decoder as a second opinion: what it makes of a stream, picture by picture.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "media/types.hpp"

namespace wavecrest::test {

struct JudgedPicture {
    std::int64_t time = 0;  // microseconds
    std::uint32_t hash = 0;
};
// Of the samples of a picture: FNV-1a over Y, Cb and Cr, row by row.
std::uint32_t hash_of(const Picture& picture);

// Decodes the packets (lengths in front of their units) with the browser's decoder; nothing when it can't be asked, and
// `why` says so. Several streams are decoded by one browser.
struct JudgedStream {
    Bytes config;  // AVCDecoderConfigurationRecord
    std::vector<Packet> packets;
};
std::optional<std::vector<std::vector<JudgedPicture>>> judge_h264(const std::vector<JudgedStream>& streams,
                                                                  std::string& why);

}  // namespace wavecrest::test
