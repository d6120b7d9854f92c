#include "sample/test_card.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <cstring>
#include <string_view>

namespace wavecrest::sample {
namespace {

struct Colour {
    std::uint8_t y, cb, cr;
};
constexpr Colour kBlack{16, 128, 128};
constexpr Colour kWhite{235, 128, 128};
constexpr Colour kNight{38, 138, 122};
constexpr Colour kAmber{176, 70, 152};

// 75 % colour bars, BT.601.
constexpr Colour kBars[] = {{180, 128, 128}, {162, 44, 142}, {131, 156, 44}, {112, 72, 58},
                            {84, 184, 198},  {65, 100, 212}, {35, 212, 114}};
constexpr std::uint8_t kGreys[] = {4, 16, 28, 52, 88, 126, 164, 200, 222, 235, 250};

// A 5x7 font: seven rows of five bits each.
struct Glyph {
    char letter;
    std::array<std::uint8_t, 7> rows;
};
constexpr Glyph kFont[] = {
    {'0', {14, 17, 19, 21, 25, 17, 14}}, {'1', {4, 12, 4, 4, 4, 4, 14}},      {'2', {14, 17, 1, 6, 8, 16, 31}},
    {'3', {14, 17, 1, 6, 1, 17, 14}},    {'4', {2, 6, 10, 18, 31, 2, 2}},     {'5', {31, 16, 30, 1, 1, 17, 14}},
    {'6', {6, 8, 16, 30, 17, 17, 14}},   {'7', {31, 1, 2, 4, 8, 8, 8}},       {'8', {14, 17, 17, 14, 17, 17, 14}},
    {'9', {14, 17, 17, 15, 1, 2, 12}},   {'A', {14, 17, 17, 31, 17, 17, 17}}, {'B', {30, 17, 17, 30, 17, 17, 30}},
    {'C', {14, 17, 16, 16, 16, 17, 14}}, {'D', {30, 17, 17, 17, 17, 17, 30}}, {'E', {31, 16, 16, 30, 16, 16, 31}},
    {'F', {31, 16, 16, 30, 16, 16, 16}}, {'G', {14, 17, 16, 23, 17, 17, 15}}, {'H', {17, 17, 17, 31, 17, 17, 17}},
    {'I', {14, 4, 4, 4, 4, 4, 14}},      {'J', {7, 2, 2, 2, 2, 18, 12}},      {'K', {17, 18, 20, 24, 20, 18, 17}},
    {'L', {16, 16, 16, 16, 16, 16, 31}}, {'M', {17, 27, 21, 21, 17, 17, 17}}, {'N', {17, 25, 21, 19, 17, 17, 17}},
    {'O', {14, 17, 17, 17, 17, 17, 14}}, {'P', {30, 17, 17, 30, 16, 16, 16}}, {'Q', {14, 17, 17, 17, 21, 18, 13}},
    {'R', {30, 17, 17, 30, 20, 18, 17}}, {'S', {15, 16, 16, 14, 1, 1, 30}},   {'T', {31, 4, 4, 4, 4, 4, 4}},
    {'U', {17, 17, 17, 17, 17, 17, 14}}, {'V', {17, 17, 17, 17, 17, 10, 4}},  {'W', {17, 17, 17, 21, 21, 27, 17}},
    {'X', {17, 17, 10, 4, 10, 17, 17}},  {'Y', {17, 17, 10, 4, 4, 4, 4}},     {'Z', {31, 1, 2, 4, 8, 16, 31}},
    {':', {0, 4, 4, 0, 4, 4, 0}},        {'.', {0, 0, 0, 0, 0, 12, 12}},      {'-', {0, 0, 0, 14, 0, 0, 0}},
};

void fill(Picture& p, int x, int y, int width, int height, Colour colour) {
    const int left = std::clamp(x, 0, p.width), right = std::clamp(x + width, 0, p.width);
    const int top = std::clamp(y, 0, p.height), bottom = std::clamp(y + height, 0, p.height);
    if (left >= right) return;
    for (int row = top; row < bottom; ++row) {
        std::memset(p.planes[0] + row * p.strides[0] + left, colour.y, static_cast<std::size_t>(right - left));
    }
    const int chroma_left = left / 2, chroma_right = std::max(chroma_left, (right + 1) / 2);
    for (int row = top / 2; row < (bottom + 1) / 2; ++row) {
        std::memset(p.planes[1] + row * p.strides[1] + chroma_left, colour.cb,
                    static_cast<std::size_t>(chroma_right - chroma_left));
        std::memset(p.planes[2] + row * p.strides[2] + chroma_left, colour.cr,
                    static_cast<std::size_t>(chroma_right - chroma_left));
    }
}

void write_text(Picture& p, int x, int y, int scale_x, int scale_y, std::string_view text, Colour colour) {
    for (const char letter : text) {
        const auto* glyph =
            std::find_if(std::begin(kFont), std::end(kFont), [&](const Glyph& g) { return g.letter == letter; });
        if (glyph != std::end(kFont)) {
            for (int row = 0; row < 7; ++row) {
                for (int column = 0; column < 5; ++column) {
                    if ((glyph->rows[static_cast<std::size_t>(row)] >> (4 - column) & 1) != 0) {
                        fill(p, x + column * scale_x, y + row * scale_y, scale_x, scale_y, colour);
                    }
                }
            }
        }
        x += 6 * scale_x;
    }
}

int text_width(std::string_view text, int scale_x) {
    return static_cast<int>(text.size()) * 6 * scale_x - scale_x;
}

// sin(2 pi i / 4096) in 1/16384 units: rounding leaves nothing to a machine's mathematics library.
const std::array<int, 4096>& sines() {
    static const std::array<int, 4096> table = [] {
        std::array<int, 4096> t{};
        for (std::size_t i = 0; i < t.size(); ++i) {
            t[i] = static_cast<int>(
                std::lround(16384 * std::sin(2 * 3.14159265358979323846 * static_cast<double>(i) / 4096)));
        }
        return t;
    }();
    return table;
}
int sine(std::int64_t step) {
    return sines()[static_cast<std::size_t>(step & 4095)];
}

constexpr int kTextureSize = 256;

// Frame numbers are written in Gray code: from frame to frame one block changes, and none changes twice in a row. So a
// field differs from the field two before it wherever it differs from its neighbour, and deinterlacing can see that.
unsigned gray(unsigned number) {
    return number ^ number >> 1;
}
unsigned from_gray(unsigned code) {
    for (unsigned shift = 1; shift < 16; shift *= 2) code ^= code >> shift;
    return code;
}
// Four bits that keep this: the frame's lowest bit, which changes every other time, has one of its own.
unsigned check_bits(unsigned frame_code, unsigned title) {
    unsigned check = title ^ 5 ^ (frame_code & 1);  // so that neither all black nor all white is valid
    for (unsigned bit = 1; bit < 16; ++bit) check ^= (frame_code >> bit & 1) << (1 + (bit - 1) % 3);
    return check & 15;
}

double mean_luma(const Picture& p, double left, double top, double width, double height) {
    const int x0 = static_cast<int>(left * p.width), x1 = std::max(x0 + 1, static_cast<int>((left + width) * p.width));
    const int y0 = static_cast<int>(top * p.height), y1 = std::max(y0 + 1, static_cast<int>((top + height) * p.height));
    std::int64_t sum = 0;
    media::with_sample_type(p.bit_depth, [&](auto sample) {
        for (int y = y0; y < y1; ++y) {
            const auto* row = p.row<decltype(sample)>(0, y);
            for (int x = x0; x < x1; ++x) sum += row[x];
        }
    });
    return static_cast<double>(sum) / ((x1 - x0) * (y1 - y0)) / (1 << (p.bit_depth - 8));
}

}  // namespace

TestCard::TestCard(const CardSettings& settings)
    : settings_(settings), background_(Picture::allocate(settings.width, settings.height)) {
    // A soft, seeded noise that tiles: random values, averaged with their neighbours.
    std::uint32_t state = settings.seed * 2654435761u + 1;
    std::vector<int> noise(kTextureSize * kTextureSize);
    for (int& n : noise) {
        state = state * 1664525u + 1013904223u;
        n = static_cast<int>(state >> 24);
    }
    texture_.resize(noise.size());
    for (int y = 0; y < kTextureSize; ++y) {
        for (int x = 0; x < kTextureSize; ++x) {
            int sum = 0;
            for (int dy = 0; dy < 3; ++dy) {
                for (int dx = 0; dx < 6; ++dx) {
                    sum += noise[static_cast<std::size_t>((y + dy) % kTextureSize * kTextureSize +
                                                          (x + dx) % kTextureSize)];
                }
            }
            texture_[static_cast<std::size_t>(y * kTextureSize + x)] = static_cast<std::uint8_t>(sum / 18);
        }
    }
    draw_background();
}

void TestCard::draw_background() {
    Picture& p = background_;
    const int w = p.width, h = p.height;
    fill(p, 0, 0, w, h, kNight);
    // A grid for geometry.
    for (int i = 1; i < 16; ++i) fill(p, i * w / 16, 0, 2, h, {58, 134, 124});
    for (int i = 1; i < 9; ++i) fill(p, 0, i * h / 9, w, 2, {58, 134, 124});

    // Overscan: the outermost frame, then corners at 2.5 % and 5 %.
    fill(p, 0, 0, w, 4, kWhite);
    fill(p, 0, h - 4, w, 4, kWhite);
    fill(p, 0, 0, 4, h, kWhite);
    fill(p, w - 4, 0, 4, h, kWhite);
    for (const auto& [percent, colour] : {std::pair{25, kAmber}, std::pair{50, kWhite}}) {
        const int dx = w * percent / 1000, dy = h * percent / 1000;
        for (const int x : {dx, w - dx - 48}) {
            fill(p, x, dy, 48, 3, colour);
            fill(p, x, h - dy - 3, 48, 3, colour);
        }
        for (const int x : {dx, w - dx - 3}) {
            fill(p, x, dy, 3, 32, colour);
            fill(p, x, h - dy - 32, 3, 32, colour);
        }
    }

    // Colour bars, and below them grey steps beyond both ends of the range.
    const int bar_width = w * 6 / 10 / 7;
    for (int i = 0; i < 7; ++i) fill(p, w / 5 + i * bar_width, h * 66 / 100, bar_width, h * 8 / 100, kBars[i]);
    const int step_width = w * 6 / 10 / 11;
    for (int i = 0; i < 11; ++i)
        fill(p, w / 5 + i * step_width, h * 75 / 100, step_width, h * 8 / 100, {kGreys[i], 128, 128});

    // A circle: its width in coded pixels follows from the pixel aspect.
    const Ratio pixel = base::reduced({settings_.display_aspect.num * h, settings_.display_aspect.den * w});
    const std::int64_t radius_y = h * 22 / 100, radius_x = radius_y * pixel.den / pixel.num;
    const std::int64_t centre_x = w / 2, centre_y = h * 40 / 100;
    for (int y = 0; y < h; ++y) {
        for (int x = 0; x < w; ++x) {
            const std::int64_t dx = (x - centre_x) * 4096 / radius_x, dy = (y - centre_y) * 4096 / radius_y;
            const std::int64_t d = dx * dx + dy * dy;
            if (d > 3930LL * 3930 && d < 4096LL * 4096) fill(p, x, y, 1, 1, kWhite);
        }
    }
    const int title_scale = w >= 640 ? 2 : 1;
    write_text(p, w / 2 - text_width(settings_.title, title_scale) / 2, h * 8 / 100, title_scale, title_scale,
               settings_.title, kWhite);
}

Picture TestCard::draw(std::int64_t frame) const {
    Picture p = Picture::allocate(settings_.width, settings_.height);
    const int w = p.width, h = p.height;
    for (int plane = 0; plane < 3; ++plane) {
        const int rows = plane == 0 ? h : (h + 1) / 2;
        std::memcpy(p.planes[plane], background_.planes[plane],
                    static_cast<std::size_t>(p.strides[plane]) * static_cast<std::size_t>(rows));
    }

    // Lake: texture that drifts and swells, and spray that comes and goes every 32 s, so that the bit rate has calm and
    // busy intervals as a film's has.
    const int lake_left = w * 8 / 100 & ~1, lake_width = w * 22 / 100, lake_top = h * 20 / 100 & ~1,
              lake_height = h * 40 / 100;
    const int swell = sine((frame - 192) * 4096 / 768);
    const int spray = swell > 0 ? swell * 88 / 16384 : 0;
    std::uint32_t state = settings_.seed * 747796405u + static_cast<std::uint32_t>(frame) * 2891336453u;
    for (int y = 0; y < lake_height; ++y) {
        const auto drift = static_cast<int>(frame * 2 + sine(frame * 40 + y * 30) / 2048);
        std::uint8_t* row = p.planes[0] + (lake_top + y) * p.strides[0] + lake_left;
        const std::uint8_t* texture = texture_.data() + (y + static_cast<int>(frame)) % kTextureSize * kTextureSize;
        for (int x = 0; x < lake_width; ++x) {
            state = state * 1664525u + 1013904223u;
            const int drop = (static_cast<int>(state >> 24) - 128) * spray / 128;
            row[x] = static_cast<std::uint8_t>(
                std::clamp(24 + texture[(x + drift) & (kTextureSize - 1)] * 3 / 4 + drop, 16, 235));
        }
    }

    // Fine stripes that move one column a picture: interlaced handling shows as combing, frame doubling as a stop.
    const int comb_left = w * 72 / 100, comb_top = h * 32 / 100;
    for (int x = 0; x < w * 18 / 100; ++x) {
        if ((x + frame) / 3 % 2 == 0) fill(p, comb_left + x, comb_top, 1, h * 10 / 100, kWhite);
    }
    // A bar that sweeps evenly over a ruler.
    const int lane_top = h * 46 / 100, lane_width = w * 18 / 100;
    for (int i = 0; i <= 6; ++i)
        fill(p, comb_left + i * lane_width / 6, lane_top + h * 9 / 100, 2, h * 2 / 100, kAmber);
    fill(p, comb_left + static_cast<int>(frame % 48 * lane_width / 48), lane_top, w / 90, h * 8 / 100, kWhite);

    // The hand in the circle: once around in 48 pictures.
    const Ratio pixel = base::reduced({settings_.display_aspect.num * h, settings_.display_aspect.den * w});
    for (int i = 0; i < h * 20 / 100; ++i) {
        const int x = w / 2 + static_cast<int>(sine(frame * 4096 / 48) * static_cast<std::int64_t>(i) * pixel.den /
                                               pixel.num / 16384);
        const int y = h * 40 / 100 - sine(frame * 4096 / 48 + 1024) * i / 16384;
        fill(p, x - 1, y - 1, 3, 3, kAmber);
    }

    const int scale = w >= 640 ? 3 : 1;
    const std::int64_t seconds = frame / kFlashEvery;
    const std::string timecode =
        fmt::format("{:02}:{:02}:{:02}:{:02}", seconds / 3600, seconds / 60 % 60, seconds % 60, frame % kFlashEvery);
    fill(p, w / 2 - text_width(timecode, scale) / 2 - 6, h * 36 / 100, text_width(timecode, scale) + 12, h * 8 / 100,
         kBlack);
    write_text(p, w / 2 - text_width(timecode, scale) / 2, h * 38 / 100, scale, scale, timecode, kWhite);

    const bool flash = frame % kFlashEvery == 0;
    const auto at = [](double fraction, int size) { return static_cast<int>(std::lround(fraction * size)); };
    fill(p, at(kFlashLeft, w), at(kFlashTop, h), at(kFlashWidth, w), at(kFlashHeight, h), flash ? kWhite : kBlack);

    const unsigned frame_code = gray(static_cast<unsigned>(frame & 0xFFFF));
    const auto title = static_cast<unsigned>(settings_.title_number & 15);
    const unsigned code = 0b10u << 24 | frame_code << 8 | title << 4 | check_bits(frame_code, title);
    for (int i = 0; i < kCodeBlocks; ++i) {
        const int left = at(kCodeLeft + i * kCodeBlockWidth, w), right = at(kCodeLeft + (i + 1) * kCodeBlockWidth, w);
        fill(p, left, at(kCodeTop, h), right - left, at(kCodeHeight, h),
             (code >> (kCodeBlocks - 1 - i) & 1) != 0 ? kWhite : kBlack);
    }
    p.pts = base::frames_to_time(frame, settings_.frame_rate);
    p.duration = base::frames_to_time(1, settings_.frame_rate);
    p.pixel_aspect = pixel;
    p.colour = h > 576    ? ColourDescription{1, 1, 1, false}
               : h == 576 ? ColourDescription{5, 6, 5, false}
                          : ColourDescription{6, 6, 6, false};
    return p;
}

Picture draw_hdr_card(const filter::SdrInHdr& hdr, const Picture& card) {
    Picture p = hdr.apply(card);
    const int w = p.width, h = p.height;
    const int step_width = w * 6 / 10 / 11, top = h * 75 / 100, height = h * 8 / 100;
    for (int i = 0; i < 11; ++i) {
        const std::uint16_t luma = hdr.grey(kHdrSteps[i]);
        const int left = w / 5 + i * step_width;
        for (int y = top; y < top + height; ++y) std::fill_n(p.row<std::uint16_t>(0, y) + left, step_width, luma);
        for (int plane = 1; plane < 3; ++plane) {
            for (int y = top / 2; y < (top + height) / 2; ++y)
                std::fill_n(p.row<std::uint16_t>(plane, y) + left / 2, (step_width + 1) / 2, std::uint16_t{512});
        }
    }
    return p;
}

std::vector<std::int16_t> TestCard::audio(std::int64_t first, std::int64_t count) const {
    constexpr std::int64_t kBeepLength = kCardSampleRate / 25;
    const std::int64_t period =
        base::rescale(kFlashEvery * kCardSampleRate, settings_.frame_rate.den, settings_.frame_rate.num);
    std::vector<std::int16_t> samples;
    samples.reserve(static_cast<std::size_t>(2 * count));
    const auto tone = [](std::int64_t n, int hz) { return sine(n * hz * 4096 / kCardSampleRate); };
    for (std::int64_t n = first; n < first + count; ++n) {
        const std::int64_t since = n % period;
        if (since < kBeepLength) {
            // Starts at full strength: its edge is the instant to measure. It ends softly.
            const std::int64_t fade = std::min<std::int64_t>(kBeepLength - since, 240);
            const auto sample =
                static_cast<std::int16_t>(sine((since * kBeepHz * 4096 / kCardSampleRate) + 1024) * fade / 240);
            samples.push_back(sample);
            samples.push_back(sample);
        } else {
            samples.push_back(static_cast<std::int16_t>(tone(n, 220) / 100));
            samples.push_back(static_cast<std::int16_t>(tone(n, 330) / 100));
        }
    }
    return samples;
}

std::vector<float> channel_audio(const TestCard& card, std::int64_t first, std::int64_t count, int channels,
                                 int track) {
    const auto stereo = card.audio(first, count);
    std::vector<float> out(static_cast<std::size_t>(count * channels));
    for (std::int64_t n = 0; n < count; ++n) {
        const float left = static_cast<float>(stereo[static_cast<std::size_t>(2 * n)]) / 32768.0f;
        const float right = static_cast<float>(stereo[static_cast<std::size_t>(2 * n + 1)]) / 32768.0f;
        for (int c = 0; c < channels; ++c) {
            float value = channels == 1 || c == 0 ? left : c == 1 ? right : 0.0f;
            if (channels > 2 && c == 2) value = left;
            const int hz = channels > 2 && c == 3 ? 50 : c >= 4 ? 400 + 80 * c : 0;
            const auto tone = [&](int frequency) {
                return static_cast<float>(std::sin(2 * 3.14159265358979323846 *
                                                   static_cast<double>((first + n) * frequency % 48000) / 48000));
            };
            if (hz != 0) value += 0.05f * tone(hz);
            if (track > 0 && c < 3) value += 0.02f * tone(1500 + 200 * track);
            out[static_cast<std::size_t>(n * channels + c)] = std::clamp(value, -1.0f, 1.0f);
        }
    }
    return out;
}

TextMask text_mask(std::string_view text, int scale_x, int scale_y) {
    constexpr int kOutline = 2;
    TextMask mask;
    mask.width = (text_width(text, scale_x) + 2 * kOutline + 1) / 2 * 2;
    mask.height = (7 * scale_y + 2 * kOutline + 1) / 2 * 2;
    Picture canvas = Picture::allocate(mask.width, mask.height);
    fill(canvas, 0, 0, mask.width, mask.height, kBlack);
    write_text(canvas, kOutline, kOutline, scale_x, scale_y, text, kWhite);
    const auto letter = [&](int x, int y) {
        return x >= 0 && y >= 0 && x < mask.width && y < mask.height &&
               canvas.planes[0][y * canvas.strides[0] + x] > 128;
    };
    mask.pixels.resize(static_cast<std::size_t>(mask.width) * static_cast<std::size_t>(mask.height));
    for (int y = 0; y < mask.height; ++y) {
        for (int x = 0; x < mask.width; ++x) {
            bool near = false;
            for (int dy = -kOutline; dy <= kOutline && !near; ++dy) {
                for (int dx = -kOutline; dx <= kOutline && !near; ++dx) near = letter(x + dx, y + dy);
            }
            mask.pixels[static_cast<std::size_t>(y * mask.width + x)] = letter(x, y) ? 1 : near ? 2 : 0;
        }
    }
    return mask;
}

std::optional<CardCode> read_card_code(const Picture& picture) {
    std::array<double, kCodeBlocks> levels{};
    for (int i = 0; i < kCodeBlocks; ++i) {
        // The middle half of each block, away from its blurred edges.
        levels[static_cast<std::size_t>(i)] =
            mean_luma(picture, kCodeLeft + (i + 0.25) * kCodeBlockWidth, kCodeTop + kCodeHeight * 0.25,
                      kCodeBlockWidth / 2, kCodeHeight / 2);
    }
    if (levels[0] - levels[1] < 60) return std::nullopt;
    const double threshold = (levels[0] + levels[1]) / 2;
    unsigned code = 0;
    for (int i = 2; i < kCodeBlocks; ++i)
        code = code << 1 | (levels[static_cast<std::size_t>(i)] > threshold ? 1u : 0u);
    const unsigned frame_code = code >> 8, title = code >> 4 & 15;
    if (check_bits(frame_code, title) != (code & 15)) return std::nullopt;
    return CardCode{from_gray(frame_code), static_cast<int>(title)};
}

double flash_level(const Picture& picture) {
    return mean_luma(picture, kFlashLeft + kFlashWidth / 4, kFlashTop + kFlashHeight / 4, kFlashWidth / 2,
                     kFlashHeight / 2);
}

}  // namespace wavecrest::sample
