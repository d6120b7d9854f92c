#include "codec/mpeg2_encoder.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <cstdlib>
#include <cstring>

#include "base/bits.hpp"
#include "bitstream/mpeg2.hpp"
#include "codec/mpeg2_tables.hpp"

namespace wavecrest::codec {
namespace {

using namespace mpeg2;
namespace syntax = bitstream::mpeg2;

constexpr int kMotionFCode = 2;  // vectors of -16 to +15.5 pixels
constexpr int kMotionBits = kMotionFCode - 1;
constexpr int kMotionLimit = 16 << kMotionBits;  // half pixels
constexpr int kSearchSteps = 12;

using Block = std::array<std::int32_t, 64>;

struct Motion {
    int x = 0;  // half pixels
    int y = 0;
    bool operator==(const Motion&) const = default;
};

// The 8x8 DCT as two passes with a basis in 1/8192 units. round(8192 * c(u)/2 * cos((2x+1)u*pi/16)), tabulated
// so that no machine's cosine can change a bit.
constexpr std::int32_t kBasis[8][8] = {
    {2896, 2896, 2896, 2896, 2896, 2896, 2896, 2896},     {4017, 3406, 2276, 799, -799, -2276, -3406, -4017},
    {3784, 1567, -1567, -3784, -3784, -1567, 1567, 3784}, {3406, -799, -4017, -2276, 2276, 4017, 799, -3406},
    {2896, -2896, -2896, 2896, 2896, -2896, -2896, 2896}, {2276, -4017, 799, 3406, -3406, -799, 4017, -2276},
    {1567, -3784, 3784, -1567, -1567, 3784, -3784, 1567}, {799, -2276, 3406, -4017, 4017, -3406, 2276, -799},
};

void forward_dct(Block& block) {
    Block rows;
    for (int y = 0; y < 8; ++y) {
        for (int u = 0; u < 8; ++u) {
            std::int32_t sum = 0;
            for (int x = 0; x < 8; ++x) sum += block[static_cast<std::size_t>(y * 8 + x)] * kBasis[u][x];
            rows[static_cast<std::size_t>(y * 8 + u)] = (sum + 128) >> 8;  // 5 fraction bits
        }
    }
    for (int v = 0; v < 8; ++v) {
        for (int u = 0; u < 8; ++u) {
            std::int32_t sum = 0;
            for (int y = 0; y < 8; ++y) sum += rows[static_cast<std::size_t>(y * 8 + u)] * kBasis[v][y];
            block[static_cast<std::size_t>(v * 8 + u)] = (sum + (1 << 17)) >> 18;
        }
    }
}

void inverse_dct(Block& block) {
    Block rows;
    for (int v = 0; v < 8; ++v) {
        for (int x = 0; x < 8; ++x) {
            std::int32_t sum = 0;
            for (int u = 0; u < 8; ++u) sum += block[static_cast<std::size_t>(v * 8 + u)] * kBasis[u][x];
            // No real picture comes near this bound; it keeps the second pass within 32 bits for all coefficients.
            rows[static_cast<std::size_t>(v * 8 + x)] = std::clamp((sum + 128) >> 8, -60000, 60000);
        }
    }
    for (int y = 0; y < 8; ++y) {
        for (int x = 0; x < 8; ++x) {
            std::int32_t sum = 0;
            for (int v = 0; v < 8; ++v) sum += rows[static_cast<std::size_t>(v * 8 + x)] * kBasis[v][y];
            block[static_cast<std::size_t>(y * 8 + x)] = std::clamp((sum + (1 << 17)) >> 18, -256, 255);
        }
    }
}

// Lookup of table B.14 by run and level.
struct CoefficientTable {
    std::array<std::array<Code, 16>, 27> codes{};
    CoefficientTable() {
        for (const RunLevel& entry : kCoefficients) codes[entry.run][entry.level] = entry.code;
    }
    const Code* find(int run, int level) const {
        if (run > 26 || level > 15) return nullptr;
        const Code& code = codes[static_cast<std::size_t>(run)][static_cast<std::size_t>(level)];
        return code.length == 0 ? nullptr : &code;
    }
};
const CoefficientTable coefficient_table;

int sad16(const std::uint8_t* a, int stride_a, const std::uint8_t* b, int stride_b) {
    int sum = 0;
    for (int y = 0; y < 16; ++y, a += stride_a, b += stride_b) {
        for (int x = 0; x < 16; ++x) sum += std::abs(a[x] - b[x]);
    }
    return sum;
}

// Half-pixel prediction of a square of `size` (clause 7.6.4); the vector is in half pixels of this plane.
void predict(const std::uint8_t* reference, int stride, int size, Motion motion, std::uint8_t* out) {
    const std::uint8_t* from = reference + (motion.y >> 1) * stride + (motion.x >> 1);
    const bool half_x = (motion.x & 1) != 0;
    const bool half_y = (motion.y & 1) != 0;
    for (int y = 0; y < size; ++y, from += stride, out += size) {
        if (!half_x && !half_y) {
            std::memcpy(out, from, static_cast<std::size_t>(size));
        } else if (!half_y) {
            for (int x = 0; x < size; ++x) out[x] = static_cast<std::uint8_t>((from[x] + from[x + 1] + 1) >> 1);
        } else if (!half_x) {
            for (int x = 0; x < size; ++x) out[x] = static_cast<std::uint8_t>((from[x] + from[x + stride] + 1) >> 1);
        } else {
            for (int x = 0; x < size; ++x) {
                out[x] = static_cast<std::uint8_t>(
                    (from[x] + from[x + 1] + from[x + stride] + from[x + stride + 1] + 2) >> 2);
            }
        }
    }
}

}  // namespace

struct Mpeg2Encoder::State {
    explicit State(const Mpeg2Settings& s)
        : settings(s),
          columns(s.width / 16),
          rows((s.height + 15) / 16),
          reference(Picture::allocate(s.width, rows * 16)),
          recon(Picture::allocate(s.width, rows * 16)),
          vectors(static_cast<std::size_t>(columns * rows)),
          vbv_bits(s.high_definition() ? kHighVbvBits : kDvdVbvBits),
          buffer_bits(vbv_bits) {}

    Mpeg2Settings settings;
    int columns;
    int rows;
    Picture reference;
    Picture recon;
    std::vector<Motion> vectors;  // of the previous picture, then of this one
    base::BitWriter out;
    std::int64_t picture_number = 0;

    // Rate control: complexity (bits times quantiser) of the last I and P picture, bits left for this group.
    double complexity_i = 0;
    double complexity_p = 0;
    double group_bits_left = 0;
    std::int64_t vbv_bits;
    std::int64_t buffer_bits;
    Picture padded;  // the source, when its height is no multiple of 16

    // While a picture is written.
    const Picture* source = nullptr;
    int quantiser = 8;  // quantiser_scale = 2 * quantiser
    bool intra_picture = true;
    std::array<int, 3> dc_predictor{};
    Motion motion_predictor;

    // Repeats the last lines down to a whole row of macroblocks.
    void pad(const Picture& picture) {
        if (!padded.storage) padded = Picture::allocate(settings.width, rows * 16);
        for (int plane = 0; plane < 3; ++plane) {
            const int lines = plane == 0 ? picture.height : picture.height / 2, all = plane == 0 ? rows * 16 : rows * 8;
            const auto bytes = static_cast<std::size_t>(plane == 0 ? settings.width : settings.width / 2);
            for (int y = 0; y < all; ++y) {
                std::memcpy(padded.planes[plane] + y * padded.strides[plane],
                            picture.planes[plane] + std::min(y, lines - 1) * picture.strides[plane], bytes);
            }
        }
    }

    void put(Code code) { out.bits(code.bits, code.length); }
    void start_code(std::uint8_t code) {
        out.align();
        out.bits(1, 24);
        out.bits(code, 8);
    }

    int fields() const {
        if (settings.pictures != Mpeg2Settings::Pictures::film) return 2;
        return picture_number % 2 == 0 ? 3 : 2;  // the cadence 3:2:3:2 over frames, TFF toggling below
    }
    bool top_field_first() const {
        if (settings.pictures != Mpeg2Settings::Pictures::film) return true;
        const auto phase = picture_number % 4;
        return phase == 0 || phase == 3;
    }

    void write_sequence_headers() {
        start_code(syntax::kSequenceHeader);
        out.bits(static_cast<std::uint32_t>(settings.width), 12);
        out.bits(static_cast<std::uint32_t>(settings.height), 12);
        out.bits(settings.wide ? 3 : 2, 4);
        const bool film_rate = settings.pictures == Mpeg2Settings::Pictures::film_whole;
        out.bits(film_rate ? 1 : settings.pal ? 3 : 4, 4);  // 24000/1001, 25 or 30000/1001
        out.bits(static_cast<std::uint32_t>((settings.peak_bps + 399) / 400), 18);
        out.bits(1, 1);
        out.bits(static_cast<std::uint32_t>(vbv_bits / 16384), 10);
        out.bits(0, 3);  // not constrained, default matrices

        start_code(syntax::kExtension);
        out.bits(syntax::kSequenceExtension, 4);
        out.bits(settings.high_definition() ? 0x44 : 0x48, 8);  // main profile at high or main level
        out.bits(film_rate ? 1 : 0, 1);  // else frames may be interlaced: field flags carry the pulldown
        out.bits(1, 2);                  // 4:2:0
        out.bits(0, 2 + 2 + 12);
        out.bits(1, 1);
        out.bits(0, 8 + 1 + 2 + 5);

        start_code(syntax::kExtension);
        out.bits(syntax::kSequenceDisplayExtension, 4);
        // Video format, and the colours that go with it (ITU-T H.273).
        const auto colour = settings.high_definition() ? ColourDescription{1, 1, 1, false}
                            : settings.pal             ? ColourDescription{5, 6, 5, false}
                                                       : ColourDescription{6, 6, 6, false};
        out.bits(settings.high_definition() ? 0 : settings.pal ? 1 : 2, 3);
        out.bits(1, 1);
        out.bits(static_cast<std::uint32_t>(colour.primaries), 8);
        out.bits(static_cast<std::uint32_t>(colour.transfer), 8);
        out.bits(static_cast<std::uint32_t>(colour.matrix), 8);
        out.bits(static_cast<std::uint32_t>(settings.width), 14);
        out.bits(1, 1);
        out.bits(static_cast<std::uint32_t>(settings.height), 14);
    }

    void write_group_header() {
        // Time code counts the display frames of the 30 fps stream, without drop frame.
        const bool film = settings.pictures == Mpeg2Settings::Pictures::film;
        const std::int64_t frames = film ? picture_number * 5 / 4 : picture_number;
        const std::int64_t rate = settings.pictures == Mpeg2Settings::Pictures::film_whole ? 24
                                  : settings.pal                                           ? 25
                                                                                           : 30;
        start_code(syntax::kGroup);
        out.bits(0, 1);
        out.bits(static_cast<std::uint32_t>(frames / rate / 3600 % 24), 5);
        out.bits(static_cast<std::uint32_t>(frames / rate / 60 % 60), 6);
        out.bits(1, 1);
        out.bits(static_cast<std::uint32_t>(frames / rate % 60), 6);
        out.bits(static_cast<std::uint32_t>(frames % rate), 6);
        out.bits(1, 1);  // closed
        out.bits(0, 1);
        if (!settings.captions) return;
        // Line 21 as DVD-Video stores it: "CC", type 1, 0xF8, the count of field pairs, then for each field a marker
        // and two bytes with odd parity (0x80: no character).
        start_code(syntax::kUserData);
        for (const std::uint32_t byte :
             {0x43u, 0x43u, 0x01u, 0xF8u, 0x80u | 1u << 1, 0xFFu, 0x80u, 0x80u, 0xFEu, 0x80u, 0x80u})
            out.bits(byte, 8);
    }

    void write_picture_headers() {
        start_code(syntax::kPicture);
        out.bits(static_cast<std::uint32_t>(picture_number % settings.group_length), 10);
        out.bits(intra_picture ? 1 : 2, 3);
        out.bits(0xFFFF, 16);                     // vbv_delay: variable bit rate
        if (!intra_picture) out.bits(0b0111, 4);  // full_pel 0, f_code 7: given below
        out.bits(0, 1);

        start_code(syntax::kExtension);
        out.bits(syntax::kPictureCodingExtension, 4);
        const std::uint32_t f_code = intra_picture ? 15 : kMotionFCode;
        out.bits(f_code, 4);
        out.bits(f_code, 4);
        out.bits(0xFF, 8);
        out.bits(0, 2);  // 8-bit DC
        out.bits(3, 2);  // frame picture
        // (0 in a progressive sequence, where frames are not made of fields)
        const bool sequence_progressive = settings.pictures == Mpeg2Settings::Pictures::film_whole;
        out.bits(top_field_first() && !sequence_progressive ? 1 : 0, 1);
        out.bits(1, 1);              // frame prediction and frame DCT only
        out.bits(0, 1 + 1 + 1 + 1);  // concealment vectors, linear quantiser, table B.14, zigzag
        out.bits(fields() == 3 ? 1 : 0, 1);
        const bool interlaced = settings.pictures == Mpeg2Settings::Pictures::interlaced;
        out.bits(interlaced ? 0 : 1, 1);  // chroma 4:2:0 type follows progressive_frame
        out.bits(interlaced ? 0 : 1, 1);  // progressive frame
        out.bits(0, 1);
    }

    void write_level(int run, int level, bool first) {
        const int magnitude = std::abs(level);
        if (first && run == 0 && magnitude == 1) {
            out.bits(level < 0 ? 0b11 : 0b10, 2);
            return;
        }
        if (const Code* code = coefficient_table.find(run, magnitude)) {
            put(*code);
            out.bits(level < 0 ? 1 : 0, 1);
            return;
        }
        put(kEscape);
        out.bits(static_cast<std::uint32_t>(run), 6);
        out.bits(static_cast<std::uint32_t>(level), 12);
    }

    void write_coefficients(const Block& levels, int from) {
        int run = 0;
        bool first = from == 0;
        for (int i = from; i < 64; ++i) {
            const int level = levels[kZigzag[static_cast<std::size_t>(i)]];
            if (level == 0) {
                ++run;
                continue;
            }
            write_level(run, level, first);
            first = false;
            run = 0;
        }
        put(kEndOfBlock);
    }

    // Clause 7.4.4: makes the sum of coefficients odd.
    static void control_mismatch(Block& block) {
        std::int32_t sum = 0;
        for (const std::int32_t c : block) sum += c;
        if ((sum & 1) == 0) block[63] += (block[63] & 1) != 0 ? -1 : 1;
    }

    // Where block 0..5 of a macroblock lies in its plane.
    struct Place {
        int plane;
        int x, y;
    };
    static Place place(int column, int row, int block) {
        if (block < 4) return {0, column * 16 + (block & 1) * 8, row * 16 + (block >> 1) * 8};
        return {block - 3, column * 8, row * 8};
    }

    void store(const Place& at, const Block& block, const std::uint8_t* prediction, int prediction_stride) {
        const int stride = recon.strides[at.plane];
        std::uint8_t* to = recon.planes[at.plane] + at.y * stride + at.x;
        for (int y = 0; y < 8; ++y, to += stride) {
            for (int x = 0; x < 8; ++x) {
                const int base = prediction != nullptr ? prediction[y * prediction_stride + x] : 0;
                to[x] =
                    static_cast<std::uint8_t>(std::clamp(block[static_cast<std::size_t>(y * 8 + x)] + base, 0, 255));
            }
        }
    }

    void code_intra(int column, int row) {
        const int scale = 2 * quantiser;
        for (int b = 0; b < 6; ++b) {
            const Place at = place(column, row, b);
            const int stride = source->strides[at.plane];
            const std::uint8_t* from = source->planes[at.plane] + at.y * stride + at.x;
            Block block;
            for (int y = 0; y < 8; ++y) {
                for (int x = 0; x < 8; ++x) block[static_cast<std::size_t>(y * 8 + x)] = from[y * stride + x];
            }
            forward_dct(block);
            Block levels;
            levels[0] = std::clamp((block[0] + 4) >> 3, 0, 255);
            for (std::size_t i = 1; i < 64; ++i) {
                const int divisor = kIntraMatrix[i] * scale;
                const int magnitude = std::min((std::abs(block[i]) * 16 + divisor * 3 / 8) / divisor, 2047);
                levels[i] = block[i] < 0 ? -magnitude : magnitude;
            }
            auto& predictor = dc_predictor[static_cast<std::size_t>(at.plane)];
            const int difference = levels[0] - predictor;
            predictor = levels[0];
            int size = 0;
            while (std::abs(difference) >> size != 0) ++size;
            put((at.plane == 0 ? kLumaDcSize : kChromaDcSize)[static_cast<std::size_t>(size)]);
            if (size > 0) {
                out.bits(static_cast<std::uint32_t>(difference > 0 ? difference : difference + (1 << size) - 1), size);
            }
            // AC coefficients follow the DC directly; table B.14's short first code is not for them.
            write_coefficients(levels, 1);

            for (std::size_t i = 1; i < 64; ++i) {
                levels[i] = std::clamp(levels[i] * kIntraMatrix[i] * scale / 16, -2048, 2047);
            }
            levels[0] *= 8;
            control_mismatch(levels);
            inverse_dct(levels);
            store(at, levels, nullptr, 0);
        }
    }

    bool vector_fits(int column, int row, Motion m) const {
        if (std::abs(m.x) >= kMotionLimit - 1 || std::abs(m.y) >= kMotionLimit - 1) return false;
        const int left = column * 32 + m.x;
        const int top = row * 32 + m.y;
        return left >= 0 && top >= 0 && left + 32 <= settings.width * 2 && top + 32 <= rows * 32;
    }

    int cost(const std::uint8_t* from, int stride, int column, int row, Motion m) const {
        const int ref_stride = reference.strides[0];
        const std::uint8_t* ref = reference.planes[0] + row * 16 * ref_stride + column * 16;
        const int bias = 2 * (std::abs(m.x - motion_predictor.x) + std::abs(m.y - motion_predictor.y));
        if (((m.x | m.y) & 1) == 0) {
            return sad16(from, stride, ref + (m.y >> 1) * ref_stride + (m.x >> 1), ref_stride) + bias;
        }
        std::uint8_t predicted[256];
        predict(ref, ref_stride, 16, m, predicted);
        return sad16(from, stride, predicted, 16) + bias;
    }

    // Candidates from neighbours, a small diamond in whole pixels, then half pixels around the best.
    Motion search(int column, int row, int& best_cost) const {
        const int stride = source->strides[0];
        const std::uint8_t* from = source->planes[0] + row * 16 * stride + column * 16;
        Motion best{};
        best_cost = cost(from, stride, column, row, best);
        if (best_cost < 256) return best;
        const auto at = [&](int c, int r) { return vectors[static_cast<std::size_t>(r * columns + c)]; };
        const auto attempt = [&](Motion m) {
            if (m == best || !vector_fits(column, row, m)) return false;
            const int c = cost(from, stride, column, row, m);
            if (c >= best_cost) return false;
            best_cost = c;
            best = m;
            return true;
        };
        const auto whole = [](Motion m) { return Motion{m.x & ~1, m.y & ~1}; };
        attempt(whole(at(column, row)));  // still the previous picture's
        if (column > 0) attempt(whole(at(column - 1, row)));
        if (row > 0) attempt(whole(at(column, row - 1)));
        if (row > 0 && column + 1 < columns) attempt(whole(at(column + 1, row - 1)));
        if (row + 1 < rows) attempt(whole(at(column, row + 1)));
        for (int step = 8; step >= 2; step /= 2) {
            for (int i = 0; i < kSearchSteps; ++i) {
                const Motion centre = best;
                bool moved = false;
                moved |= attempt({centre.x + step, centre.y});
                moved |= attempt({centre.x - step, centre.y});
                moved |= attempt({centre.x, centre.y + step});
                moved |= attempt({centre.x, centre.y - step});
                if (!moved) break;
            }
        }
        const Motion centre = best;
        for (int dy = -1; dy <= 1; ++dy) {
            for (int dx = -1; dx <= 1; ++dx) attempt({centre.x + dx, centre.y + dy});
        }
        return best;
    }

    // How unlike its own mean the macroblock is: what intra coding would have to describe.
    int activity(int column, int row) const {
        const int stride = source->strides[0];
        const std::uint8_t* from = source->planes[0] + row * 16 * stride + column * 16;
        int sum = 0;
        for (int y = 0; y < 16; ++y) {
            for (int x = 0; x < 16; ++x) sum += from[y * stride + x];
        }
        const int mean = (sum + 128) / 256;
        int deviation = 0;
        for (int y = 0; y < 16; ++y) {
            for (int x = 0; x < 16; ++x) deviation += std::abs(from[y * stride + x] - mean);
        }
        return deviation;
    }

    void write_vector_component(int value, int predictor) {
        int delta = value - predictor;
        if (delta < -kMotionLimit) delta += 2 * kMotionLimit;
        if (delta >= kMotionLimit) delta -= 2 * kMotionLimit;
        if (delta == 0) {
            put(kMotionCode[0]);
            return;
        }
        constexpr int kFactor = 1 << kMotionBits;
        const int magnitude = std::abs(delta) + kFactor - 1;
        put(kMotionCode[static_cast<std::size_t>(magnitude >> kMotionBits)]);
        out.bits(delta < 0 ? 1 : 0, 1);
        out.bits(static_cast<std::uint32_t>(magnitude & (kFactor - 1)), kMotionBits);
    }

    void write_increment(int skipped) {
        int increment = skipped + 1;
        for (; increment > 33; increment -= 33) put(kAddressEscape);
        put(kAddressIncrement[static_cast<std::size_t>(increment - 1)]);
    }

    void write_row(int row) {
        start_code(static_cast<std::uint8_t>(row + 1));
        out.bits(static_cast<std::uint32_t>(quantiser), 5);
        out.bits(0, 1);
        dc_predictor = {128, 128, 128};
        motion_predictor = {};
        int skipped = 0;
        for (int column = 0; column < columns; ++column) {
            Motion& vector = vectors[static_cast<std::size_t>(row * columns + column)];
            if (intra_picture) {
                vector = {};
                write_increment(0);
                put(kIntraInI);
                code_intra(column, row);
                continue;
            }
            int inter_cost = 0;
            const Motion motion = search(column, row, inter_cost);
            if (inter_cost > 1500 && activity(column, row) + 500 < inter_cost) {
                vector = {};
                write_increment(skipped);
                skipped = 0;
                put(kIntraInP);
                code_intra(column, row);
                motion_predictor = {};
                continue;
            }
            vector = motion;
            code_inter(column, row, motion, skipped);
        }
    }

    void code_inter(int column, int row, Motion motion, int& skipped) {
        std::uint8_t luma[256];
        std::uint8_t chroma[2][64];
        predict(reference.planes[0] + row * 16 * reference.strides[0] + column * 16, reference.strides[0], 16, motion,
                luma);
        const Motion chroma_motion{motion.x / 2, motion.y / 2};  // clause 7.6.3.7
        for (int c = 0; c < 2; ++c) {
            const int stride = reference.strides[c + 1];
            predict(reference.planes[c + 1] + row * 8 * stride + column * 8, stride, 8, chroma_motion, chroma[c]);
        }
        const auto prediction = [&](int b, int& stride) -> const std::uint8_t* {
            stride = b < 4 ? 16 : 8;
            return b < 4 ? luma + (b >> 1) * 128 + (b & 1) * 8 : chroma[b - 4];
        };

        const int scale = 2 * quantiser;
        std::array<Block, 6> levels;
        std::uint32_t pattern = 0;
        for (int b = 0; b < 6; ++b) {
            const Place at = place(column, row, b);
            int predicted_stride = 0;
            const std::uint8_t* predicted = prediction(b, predicted_stride);
            const int stride = source->strides[at.plane];
            const std::uint8_t* from = source->planes[at.plane] + at.y * stride + at.x;
            Block& block = levels[static_cast<std::size_t>(b)];
            int difference = 0;
            for (int y = 0; y < 8; ++y) {
                for (int x = 0; x < 8; ++x) {
                    const int d = from[y * stride + x] - predicted[y * predicted_stride + x];
                    block[static_cast<std::size_t>(y * 8 + x)] = d;
                    difference += std::abs(d);
                }
            }
            if (difference < scale * 2) continue;  // no coefficient could reach one step
            forward_dct(block);
            bool coded = false;
            for (std::int32_t& c : block) {
                const int magnitude = std::min(std::abs(c) / scale, 2047);
                c = c < 0 ? -magnitude : magnitude;
                coded |= c != 0;
            }
            if (coded) pattern |= 1u << (5 - b);
        }

        dc_predictor = {128, 128, 128};
        const bool moves = motion != Motion{};
        const bool edge = column == 0 || column == columns - 1;  // the first and last of a slice are never skipped
        if (pattern == 0 && !moves && !edge) {
            ++skipped;
            motion_predictor = {};
        } else {
            write_increment(skipped);
            skipped = 0;
            const bool send_vector = moves || pattern == 0;
            put(pattern == 0 ? kMotionOnly : send_vector ? kMotionCoded : kCodedOnly);
            if (send_vector) {
                write_vector_component(motion.x, motion_predictor.x);
                write_vector_component(motion.y, motion_predictor.y);
                motion_predictor = motion;
            } else {
                motion_predictor = {};
            }
            if (pattern != 0) put(kBlockPattern[pattern]);
        }
        for (int b = 0; b < 6; ++b) {
            Block& block = levels[static_cast<std::size_t>(b)];
            if ((pattern & 1u << (5 - b)) != 0) {
                write_coefficients(block, 0);
                for (std::int32_t& c : block) {
                    if (c != 0) c = std::clamp((2 * c + (c < 0 ? -1 : 1)) * 16 * scale / 32, -2048, 2047);
                }
                control_mismatch(block);
                inverse_dct(block);
            } else {
                block.fill(0);
            }
            int stride = 0;
            const std::uint8_t* predicted = prediction(b, stride);
            store(place(column, row, b), block, predicted, stride);
        }
    }

    void write_picture(bool last) {
        out.clear();
        if (intra_picture) {
            write_sequence_headers();
            write_group_header();
        }
        write_picture_headers();
        for (int row = 0; row < rows; ++row) write_row(row);
        if (last) start_code(syntax::kSequenceEnd);
        out.align();
    }

    // Bits this picture should take, after Test Model 5, step 1, without B pictures.
    double target_bits() {
        const double seconds = 1 / settings.picture_rate().value();
        const double group = static_cast<double>(settings.mean_bps) * seconds * settings.group_length;
        const auto position = static_cast<int>(picture_number % settings.group_length);
        if (position == 0) group_bits_left = std::clamp(group_bits_left + group, group * 0.5, group * 1.5);
        if (complexity_i == 0) {
            complexity_i = 8 * group * 0.3;
            complexity_p = complexity_i / 4;
        }
        const int left = settings.group_length - position;
        if (intra_picture) return group_bits_left * complexity_i / (complexity_i + (left - 1) * complexity_p);
        return group_bits_left / left;
    }
};

Mpeg2Encoder::Mpeg2Encoder(const Mpeg2Settings& settings) : state_(std::make_unique<State>(settings)) {}
Mpeg2Encoder::~Mpeg2Encoder() = default;

const Picture& Mpeg2Encoder::reconstruction() const {
    return state_->reference;
}

Mpeg2Picture Mpeg2Encoder::encode(const Picture& picture, bool last) {
    State& state = *state_;
    state.source = &picture;
    if (picture.height % 16 != 0) {
        state.pad(picture);
        state.source = &state.padded;
    }
    state.intra_picture = state.picture_number % state.settings.group_length == 0;
    const double target = std::max(state.target_bits(), 2000.0);
    double& complexity = state.intra_picture ? state.complexity_i : state.complexity_p;
    state.quantiser = std::clamp(static_cast<int>(std::lround(complexity / target)), 2, 31);

    // A picture may not be larger than what the decoder's buffer holds when it is due.
    const std::vector<Motion> vectors_before = state.vectors;
    std::int64_t bits = 0;
    while (true) {
        state.write_picture(last);
        bits = static_cast<std::int64_t>(state.out.bit_count());
        if (bits <= state.buffer_bits * 9 / 10 || state.quantiser == 31) break;
        state.quantiser = std::min(31, state.quantiser * 3 / 2);
        state.vectors = vectors_before;
    }
    complexity = static_cast<double>(bits) * state.quantiser;
    state.group_bits_left -= static_cast<double>(bits);

    Mpeg2Picture result;
    result.key = state.intra_picture;
    result.fields = state.fields();
    result.buffer_bits = state.buffer_bits;
    result.data = state.out.bytes();
    const Ratio rate = state.settings.picture_rate();
    const std::int64_t filled = state.settings.pictures == Mpeg2Settings::Pictures::film
                                    ? state.settings.peak_bps * result.fields * 1001 / 60000
                                    : state.settings.peak_bps * rate.den / rate.num;
    state.buffer_bits = std::min(state.buffer_bits - bits + filled, state.vbv_bits);
    std::swap(state.reference, state.recon);
    ++state.picture_number;
    return result;
}

}  // namespace wavecrest::codec
