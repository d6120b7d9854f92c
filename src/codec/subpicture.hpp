// DVD-Video subpicture units: run-length coded images of four colours with a small display program. The specification
// is not public; the layout is that of its published descriptions.
#pragma once

#include <array>
#include <memory>

#include "media/flow.hpp"

namespace wavecrest::codec {

// Sixteen colours of the program chain, as the disc stores them: 4 bytes each, 0 Y Cr Cb. Tracks of codec
// dvd-subpicture carry them as codec_config, and the picture size they are laid over as width and height.
inline constexpr std::size_t kSubpicturePaletteSize = 64;

// Packets are whole units.
std::unique_ptr<media::SubtitleDecoder> make_subpicture_decoder(const Track& track);

// What the first display command of a unit says, without decoding its pixels: whether it is forced.
bool subpicture_is_forced(ByteSpan unit);

struct SubpictureImage {
    int x = 0, y = 0;
    int width = 0, height = 0;
    std::vector<std::uint8_t> pixels;       // width * height values 0 to 3
    std::array<std::uint8_t, 4> colours{};  // indices into the palette
    std::array<std::uint8_t, 4> opacity{};  // 0 clear to 15 opaque
    bool forced = false;
    Time duration{};  // at most 746 s
};
// A whole unit; fails (kind input) when the image takes more than the 53 220 bytes a unit may have.
Result<ByteVector> write_subpicture(const SubpictureImage& image);

}  // namespace wavecrest::codec
