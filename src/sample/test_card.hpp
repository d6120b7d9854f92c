// The moving test card of sample discs and test clips: what an installer looks at, and what programs can read back.
//
// To look at: overscan marks at the very edge, 2.5 % and 5 %; a circle (aspect); grey steps with blacker than black
// and whiter than white (clipping); colour bars (colour shifts); fine moving stripes (combing); a sweep and a hand that
// move evenly (judder); running timecode. To read back: the frame number as black and white blocks, and a flash that
// coincides with a beep once in 24 pictures.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/time.hpp"
#include "filter/tone_map.hpp"
#include "media/types.hpp"

namespace wavecrest::sample {

inline constexpr int kFlashEvery = 24;  // pictures, and timecode seconds
inline constexpr int kCardSampleRate = 48000;
inline constexpr int kBeepHz = 1000;

struct CardSettings {
    int width = 720;
    int height = 480;
    Ratio display_aspect{16, 9};
    Ratio frame_rate{24000, 1001};
    std::string title = "TEST CARD";  // capital letters, digits and - . : only
    int title_number = 1;             // 0 to 15, part of the machine-readable code
    std::uint32_t seed = 1;           // changes the texture
};

class TestCard {
  public:
    explicit TestCard(const CardSettings& settings);

    // The picture of a frame, from 0; ColourDescription BT.601 (525 lines), video range.
    Picture draw(std::int64_t frame) const;

    // Interleaved 16-bit stereo at 48 kHz: a beep of 1/25 s starts exactly with each flash, between them a quiet
    // tone, lower on the left than on the right. `first` counts sample frames from the start.
    std::vector<std::int16_t> audio(std::int64_t first, std::int64_t count) const;

  private:
    void draw_background();

    CardSettings settings_;
    Picture background_;
    std::vector<std::uint8_t> texture_;
};

// The card's audio spread over 1, 2 or 6 channels, interleaved, -1 to 1; tones of their own tell tracks and channels
// apart: of 5.1 there are 50 Hz in the low-frequency channel, 720 Hz on the left behind and 800 Hz on the right.
std::vector<float> channel_audio(const TestCard& card, std::int64_t first, std::int64_t count, int channels, int track);

// The card in a signal of high dynamic range: its white at 203 cd/m2, and instead of its grey steps the luminances of
// kHdrSteps, cd/m2, as a display of 1000 cd/m2 shows them.
Picture draw_hdr_card(const filter::SdrInHdr& hdr, const Picture& card);
inline constexpr double kHdrSteps[] = {0, 0.1, 1, 5, 20, 50, 100, 203, 400, 700, 1000};
// What it was made for: BT.2020's primaries, D65, 0.005 to 1000 cd/m2.
inline constexpr media::MasteringDisplay kCardDisplay = {
    {35400, 8500, 6550}, {14600, 39850, 2300}, 15635, 16450, 10'000'000, 50};
inline constexpr media::ContentLight kCardLight = {1000, 203};

// Letters with an outline: pixels 0 nothing, 1 letters, 2 outline. Capital letters, digits and - . : only; each dot of
// the letters is scale_x by scale_y pixels. Width and height are even.
struct TextMask {
    int width = 0, height = 0;
    std::vector<std::uint8_t> pixels;
};
TextMask text_mask(std::string_view text, int scale_x, int scale_y);

// What the code blocks of a card say; works at any size and depth of the whole picture.
struct CardCode {
    std::int64_t frame = 0;  // modulo 2^16
    int title_number = 0;
};
// Nothing when the blocks are unreadable or their check bits are wrong.
std::optional<CardCode> read_card_code(const Picture& picture);
// Mean luma (0 to 255) of the flash area.
double flash_level(const Picture& picture);

// Layout of the machine-readable parts as fractions of the picture's width and height; other readers (the browser
// tests) use the same numbers.
inline constexpr double kCodeLeft = 0.2, kCodeTop = 0.875, kCodeBlockWidth = 0.6 / 26, kCodeHeight = 1.0 / 30;
inline constexpr int kCodeBlocks =
    26;  // white, black, 16 bits of frame in Gray code, 4 of title, 4 check bits; most significant first
inline constexpr double kFlashLeft = 0.75, kFlashTop = 0.1, kFlashWidth = 0.15, kFlashHeight = 0.15;

}  // namespace wavecrest::sample
