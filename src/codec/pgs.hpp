// Presentation graphics of Blu-ray discs: run-length coded images of 256 colours in segments that make up display sets.
// The specification is not public; the layout is that of its published descriptions.
#pragma once

#include <memory>

#include "media/flow.hpp"

namespace wavecrest::codec {

namespace pgs {
inline constexpr std::uint8_t kPalette = 0x14, kObject = 0x15, kComposition = 0x16, kWindow = 0x17, kEnd = 0x80;
}

// Packets are display sets: segments (type, 16-bit size, body) from the composition to the end segment.
std::unique_ptr<media::SubtitleDecoder> make_pgs_decoder(const Track& track);

// Whether the display set's composition has a forced object.
bool pgs_is_forced(ByteSpan display_set);

struct PgsImage {
    int canvas_width = 1920, canvas_height = 1080;
    int x = 0, y = 0;
    int width = 0, height = 0;
    std::vector<std::uint8_t> pixels;             // width * height indices into colours
    std::vector<media::Overlay::Colour> colours;  // at most 255; index 255 is left to the format
    bool forced = false;
    int number = 0;  // of the composition, counted up by the caller
};
// A display set that shows the image, and one that clears the screen again.
ByteVector write_pgs_show(const PgsImage& image);
ByteVector write_pgs_clear(const PgsImage& image);

}  // namespace wavecrest::codec
