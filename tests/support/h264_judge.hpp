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
    std::vector<std::uint32_t> parts;  // asked for: of the Y, Cb and Cr of each macroblock, in raster order
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
                                                                  std::string& why, bool parts = false);
// The first place where a picture is another than the browser's: "plane 0 of macroblock 3,5". Empty: nowhere.
std::string first_difference(const Picture& picture, const std::vector<std::uint32_t>& parts);

}  // namespace wavecrest::test
