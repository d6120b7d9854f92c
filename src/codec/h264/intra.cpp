// Prediction from samples around, in the same picture (8.3). Neighbours lie where the macroblock's own rows go on, also
// between frame and field macroblocks: table 6-4 comes to that for samples.
#include <algorithm>
#include <cstring>

#include "codec/h264/reconstruct.hpp"

namespace wavecrest::codec::h264 {
namespace {

std::uint8_t clip(int value) {
    return static_cast<std::uint8_t>(std::clamp(value, 0, 255));
}

// The samples around a block of Size x Size: left ones from the lowest up, the corner, then those above.
template <int Size>
struct Edge {
    std::uint8_t samples[3 * Size + 1];
    bool left = false, top = false, corner = false;

    int operator[](int i) const { return samples[i]; }
    int above(int x) const { return samples[Size + 1 + x]; }
    int beside(int y) const { return samples[Size - 1 - y]; }
    int mean2(int i) const { return (samples[i] + samples[i + 1] + 1) >> 1; }
    int mean3(int i) const { return (samples[i - 1] + 2 * samples[i] + samples[i + 1] + 2) >> 2; }
};

template <int Size>
Edge<Size> gather(const std::uint8_t* at, std::ptrdiff_t stride, bool left, bool top, bool right, bool corner) {
    Edge<Size> edge;
    edge.left = left;
    edge.top = top;
    edge.corner = corner;
    std::memset(edge.samples, 128, sizeof edge.samples);
    for (int y = 0; left && y < Size; ++y) edge.samples[Size - 1 - y] = at[y * stride - 1];
    if (corner) edge.samples[Size] = at[-stride - 1];
    if (top) {
        std::memcpy(edge.samples + Size + 1, at - stride, right ? 2 * Size : Size);
        if (!right) std::memset(edge.samples + 2 * Size + 1, at[Size - 1 - stride], Size);
    }
    return edge;
}

// 8.3.1.2 and 8.3.2.2: the nine modes, which are the same for both sizes.
template <int Size>
void predict_block(int mode, const Edge<Size>& edge, std::uint8_t* at, std::ptrdiff_t stride) {
    const auto each = [&](auto&& value) {
        for (int y = 0; y < Size; ++y) {
            for (int x = 0; x < Size; ++x) at[y * stride + x] = static_cast<std::uint8_t>(value(x, y));
        }
    };
    switch (mode) {
        case 0:
            for (int y = 0; y < Size; ++y) std::memcpy(at + y * stride, edge.samples + Size + 1, Size);
            break;
        case 1:
            for (int y = 0; y < Size; ++y) std::memset(at + y * stride, edge.beside(y), Size);
            break;
        case 2: {
            int sum = 0;
            for (int i = 0; i < Size; ++i) sum += (edge.left ? edge.beside(i) : 0) + (edge.top ? edge.above(i) : 0);
            const int count = (edge.left ? Size : 0) + (edge.top ? Size : 0);
            const int value = count == 0 ? 128 : (sum + count / 2) / count;
            for (int y = 0; y < Size; ++y) std::memset(at + y * stride, value, Size);
            break;
        }
        case 3:
            each([&](int x, int y) {
                return x + y == 2 * Size - 2 ? (edge.above(2 * Size - 2) + 3 * edge.above(2 * Size - 1) + 2) >> 2
                                             : edge.mean3(Size + 2 + x + y);
            });
            break;
        case 4:
            each([&](int x, int y) { return edge.mean3(Size + x - y); });
            break;
        case 5:
            each([&](int x, int y) {
                const int z = 2 * x - y;
                if (z < -1) return edge.mean3(Size + 1 + z);
                const int i = Size + x - (y >> 1);
                return z == -1 ? edge.mean3(Size) : (z & 1) == 0 ? edge.mean2(i) : edge.mean3(i);
            });
            break;
        case 6:
            each([&](int x, int y) {
                const int z = 2 * y - x;
                if (z < -1) return edge.mean3(Size - 1 - z);
                const int i = Size - (y - (x >> 1));
                return z == -1 ? edge.mean3(Size) : (z & 1) == 0 ? edge.mean2(i - 1) : edge.mean3(i);
            });
            break;
        case 7:
            each([&](int x, int y) {
                const int i = Size + 1 + x + (y >> 1);
                return (y & 1) == 0 ? edge.mean2(i) : edge.mean3(i + 1);
            });
            break;
        default:
            each([&](int x, int y) {
                const int z = x + 2 * y, k = y + (x >> 1);
                if (z > 2 * Size - 3) return edge.beside(Size - 1);
                if (z == 2 * Size - 3) return (edge.beside(Size - 2) + 3 * edge.beside(Size - 1) + 2) >> 2;
                return (z & 1) == 0 ? edge.mean2(Size - 2 - k) : edge.mean3(Size - 2 - k);
            });
            break;
    }
}

// 8.3.2.2.1: the edge of an 8x8 block is smoothed first.
Edge<8> smoothed(const Edge<8>& edge) {
    Edge<8> out = edge;
    const auto set = [&](int i, int value) { out.samples[i] = static_cast<std::uint8_t>(value); };
    if (edge.top) {
        for (int i = 10; i < 24; ++i) set(i, edge.mean3(i));
        set(9, edge.corner ? edge.mean3(9) : (3 * edge[9] + edge[10] + 2) >> 2);
        set(24, (edge[23] + 3 * edge[24] + 2) >> 2);
    }
    if (edge.left) {
        for (int i = 1; i < 7; ++i) set(i, edge.mean3(i));
        set(7, edge.corner ? edge.mean3(7) : (3 * edge[7] + edge[6] + 2) >> 2);
        set(0, (edge[1] + 3 * edge[0] + 2) >> 2);
    }
    if (edge.corner) {
        if (edge.top && edge.left) {
            set(8, edge.mean3(8));
        } else if (edge.top) {
            set(8, (3 * edge[8] + edge[9] + 2) >> 2);
        } else if (edge.left) {
            set(8, (3 * edge[8] + edge[7] + 2) >> 2);
        }
    }
    return out;
}

}  // namespace

void Reconstruction::intra_4x4(int x, int y) {
    const Plane& luma = planes_[0];
    std::uint8_t* const at = luma.at + 4 * y * luma.stride + 4 * x;
    const bool left = x > 0 || edge(y < 2 ? kLeftUpper : kLeftLower), top = y > 0 || edge(kAbove);
    const bool corner = x > 0   ? y > 0 || edge(kAbove)
                        : y > 0 ? edge(y < 3 ? kLeftUpper : kLeftLower)
                                : edge(kAboveLeft);
    const bool right = y == 0 ? edge(x < 3 ? kAbove : kAboveRight) : x < 3 && !(x == 1 && y != 2);
    predict_block<4>(mb_->mode(y * 4 + x), gather<4>(at, luma.stride, left, top, right, corner), at, luma.stride);
}

void Reconstruction::intra_8x8(int x, int y) {
    const Plane& luma = planes_[0];
    std::uint8_t* const at = luma.at + 8 * y * luma.stride + 8 * x;
    const bool left = x > 0 || edge(y == 0 ? kLeftUpper : kLeftLower), top = y > 0 || edge(kAbove);
    const bool corner = x > 0 ? y > 0 || edge(kAbove) : edge(y > 0 ? kLeftUpper : kAboveLeft);
    const bool right = y == 0 ? edge(x == 0 ? kAbove : kAboveRight) : x == 0;
    predict_block<8>(mb_->mode(y * 8 + x * 2), smoothed(gather<8>(at, luma.stride, left, top, right, corner)), at,
                     luma.stride);
}

// 8.3.3
void Reconstruction::intra_16x16() {
    const Plane& luma = planes_[0];
    std::uint8_t* const at = luma.at;
    const std::ptrdiff_t stride = luma.stride;
    const bool left = edge(kLeftUpper) && edge(kLeftLower), top = edge(kAbove);
    switch (mb_->intra16_mode) {
        case 0:
            for (int y = 0; y < 16; ++y) std::memcpy(at + y * stride, at - stride, 16);
            break;
        case 1:
            for (int y = 0; y < 16; ++y) std::memset(at + y * stride, at[y * stride - 1], 16);
            break;
        case 2: {
            int sum = 0;
            for (int i = 0; i < 16; ++i) sum += (left ? at[i * stride - 1] : 0) + (top ? at[i - stride] : 0);
            const int value = left && top ? (sum + 16) >> 5 : left || top ? (sum + 8) >> 4 : 128;
            for (int y = 0; y < 16; ++y) std::memset(at + y * stride, value, 16);
            break;
        }
        default: {
            int h = 0, v = 0;
            for (int i = 0; i < 8; ++i) {
                h += (i + 1) * (at[8 + i - stride] - at[6 - i - stride]);
                v += (i + 1) * (at[(8 + i) * stride - 1] - at[(6 - i) * stride - 1]);
            }
            const int a = 16 * (at[15 * stride - 1] + at[15 - stride]), b = (5 * h + 32) >> 6, c = (5 * v + 32) >> 6;
            for (int y = 0; y < 16; ++y) {
                for (int x = 0; x < 16; ++x) at[y * stride + x] = clip((a + b * (x - 7) + c * (y - 7) + 16) >> 5);
            }
        }
    }
}

// 8.3.4
void Reconstruction::intra_chroma(int component) {
    const Plane& chroma = planes_[component];
    std::uint8_t* const at = chroma.at;
    const std::ptrdiff_t stride = chroma.stride;
    const bool top = edge(kAbove);
    switch (mb_->chroma_mode) {
        case 0:
            for (int block = 0; block < 4; ++block) {
                const int x0 = block % 2 * 4, y0 = block / 2 * 4;
                const bool left = edge(block < 2 ? kLeftUpper : kLeftLower);
                int above = 0, beside = 0;
                for (int i = 0; i < 4; ++i) {
                    above += top ? at[x0 + i - stride] : 0;
                    beside += left ? at[(y0 + i) * stride - 1] : 0;
                }
                int value = 128;
                if (block == 0 || block == 3) {
                    value = top && left ? (above + beside + 4) >> 3 : top || left ? (above + beside + 2) >> 2 : 128;
                } else if (block == 1) {
                    value = top ? (above + 2) >> 2 : left ? (beside + 2) >> 2 : 128;
                } else {
                    value = left ? (beside + 2) >> 2 : top ? (above + 2) >> 2 : 128;
                }
                for (int y = 0; y < 4; ++y) std::memset(at + (y0 + y) * stride + x0, value, 4);
            }
            break;
        case 1:
            for (int y = 0; y < 8; ++y) std::memset(at + y * stride, at[y * stride - 1], 8);
            break;
        case 2:
            for (int y = 0; y < 8; ++y) std::memcpy(at + y * stride, at - stride, 8);
            break;
        default: {
            int h = 0, v = 0;
            for (int i = 0; i < 4; ++i) {
                h += (i + 1) * (at[4 + i - stride] - at[2 - i - stride]);
                v += (i + 1) * (at[(4 + i) * stride - 1] - at[(2 - i) * stride - 1]);
            }
            const int a = 16 * (at[7 * stride - 1] + at[7 - stride]), b = (34 * h + 32) >> 6, c = (34 * v + 32) >> 6;
            for (int y = 0; y < 8; ++y) {
                for (int x = 0; x < 8; ++x) at[y * stride + x] = clip((a + b * (x - 3) + c * (y - 3) + 16) >> 5);
            }
        }
    }
}

}  // namespace wavecrest::codec::h264
