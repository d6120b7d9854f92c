#include "support/h264_reconstruct.hpp"

#include <algorithm>
#include <cstdlib>

#include "codec/h264/tables.hpp"

namespace wavecrest::test {
namespace {

using namespace codec::h264;  // the standard's tables

int clip(int value) {
    return std::clamp(value, 0, 255);
}
// 6-tap filter of 8.4.2.2.1.
int six(int a, int b, int c, int d, int e, int f) {
    return a - 5 * b + 20 * c + 20 * d - 5 * e + f;
}

// A frame's plane, or every second row of it.
struct View {
    const std::uint8_t* at;
    int stride, width, height;
    int operator()(int x, int y) const {
        return at[std::clamp(y, 0, height - 1) * stride + std::clamp(x, 0, width - 1)];
    }
};
View view(const H264Frame& frame, int plane, int structure) {
    const int width = plane == 0 ? frame.width : frame.width / 2, height = plane == 0 ? frame.height : frame.height / 2;
    View v{frame.planes[static_cast<std::size_t>(plane)].data(), width, width, height};
    if (structure != kWhole) {
        if (structure == kBottomField) v.at += width;
        v.stride *= 2;
        v.height /= 2;
    }
    return v;
}

// 8.4.2.2.1, by the names of figure 8-4.
int luma_at(const View& v, int x, int y, int fx, int fy) {
    const auto row = [&](int dx, int dy) {
        return six(v(x + dx - 2, y + dy), v(x + dx - 1, y + dy), v(x + dx, y + dy), v(x + dx + 1, y + dy),
                   v(x + dx + 2, y + dy), v(x + dx + 3, y + dy));
    };
    const auto column = [&](int dx, int dy) {
        return six(v(x + dx, y + dy - 2), v(x + dx, y + dy - 1), v(x + dx, y + dy), v(x + dx, y + dy + 1),
                   v(x + dx, y + dy + 2), v(x + dx, y + dy + 3));
    };
    const auto round = [](int value) { return clip((value + 16) >> 5); };
    const auto mean = [](int a, int b) { return (a + b + 1) >> 1; };
    const int G = v(x, y), H = v(x + 1, y), M = v(x, y + 1);
    const int b = round(row(0, 0)), s = round(row(0, 1)), h = round(column(0, 0)), m = round(column(1, 0));
    const int j = clip((six(row(0, -2), row(0, -1), row(0, 0), row(0, 1), row(0, 2), row(0, 3)) + 512) >> 10);
    const int by_place[4][4] = {{G, mean(G, h), h, mean(h, M)},
                                {mean(G, b), mean(b, h), mean(h, j), mean(h, s)},
                                {b, mean(b, j), j, mean(j, s)},
                                {mean(b, H), mean(b, m), mean(j, m), mean(s, m)}};
    return by_place[fx][fy];
}
// 8.4.2.2.2.
int chroma_at(const View& v, int x, int y, int fx, int fy) {
    return ((8 - fx) * (8 - fy) * v(x, y) + fx * (8 - fy) * v(x + 1, y) + (8 - fx) * fy * v(x, y + 1) +
            fx * fy * v(x + 1, y + 1) + 32) >>
           6;
}

// normAdjust of 8.5.9.
int norm4(int qp, int place) {
    constexpr int kNorm[6][3] = {{10, 16, 13}, {11, 18, 14}, {13, 20, 16}, {14, 23, 18}, {16, 25, 20}, {18, 29, 23}};
    const int x = place % 4, y = place / 4;
    return kNorm[qp % 6][x % 2 == 0 && y % 2 == 0 ? 0 : x % 2 == 1 && y % 2 == 1 ? 1 : 2];
}
int norm8(int qp, int place) {
    constexpr int kNorm[6][6] = {{20, 18, 32, 19, 25, 24}, {22, 19, 35, 21, 28, 26}, {26, 23, 42, 24, 33, 31},
                                 {28, 25, 45, 26, 35, 33}, {32, 28, 51, 30, 40, 38}, {36, 32, 58, 34, 46, 43}};
    const int x = place % 8, y = place / 8;
    const int* row = kNorm[qp % 6];
    if (x % 4 == 0 && y % 4 == 0) return row[0];
    if (x % 2 == 1 && y % 2 == 1) return row[1];
    if (x % 4 == 2 && y % 4 == 2) return row[2];
    if ((x % 4 == 0 && y % 2 == 1) || (x % 2 == 1 && y % 4 == 0)) return row[3];
    if ((x % 4 == 0 && y % 4 == 2) || (x % 4 == 2 && y % 4 == 0)) return row[4];
    return row[5];
}

// 8.5.12.2: rows, then columns.
void transform4(std::array<int, 16>& c) {
    const auto once = [](int& p0, int& p1, int& p2, int& p3) {
        const int e0 = p0 + p2, e1 = p0 - p2, e2 = (p1 >> 1) - p3, e3 = p1 + (p3 >> 1);
        p0 = e0 + e3;
        p1 = e1 + e2;
        p2 = e1 - e2;
        p3 = e0 - e3;
    };
    for (std::size_t i = 0; i < 4; ++i) once(c[4 * i], c[4 * i + 1], c[4 * i + 2], c[4 * i + 3]);
    for (std::size_t i = 0; i < 4; ++i) once(c[i], c[4 + i], c[8 + i], c[12 + i]);
    for (int& value : c) value = (value + 32) >> 6;
}
// 8.5.13.2.
void transform8(std::array<int, 64>& c) {
    const auto once = [&](std::size_t from, std::size_t step) {
        int in[8];
        for (std::size_t i = 0; i < 8; ++i) in[i] = c[from + i * step];
        const int a0 = in[0] + in[4], a2 = in[0] - in[4], a4 = (in[2] >> 1) - in[6], a6 = in[2] + (in[6] >> 1);
        const int a1 = -in[3] + in[5] - in[7] - (in[7] >> 1), a3 = in[1] + in[7] - in[3] - (in[3] >> 1),
                  a5 = -in[1] + in[7] + in[5] + (in[5] >> 1), a7 = in[3] + in[5] + in[1] + (in[1] >> 1);
        const int b0 = a0 + a6, b2 = a2 + a4, b4 = a2 - a4, b6 = a0 - a6;
        const int b1 = a1 + (a7 >> 2), b7 = a7 - (a1 >> 2), b3 = a3 + (a5 >> 2), b5 = (a3 >> 2) - a5;
        const int out[8] = {b0 + b7, b2 + b5, b4 + b3, b6 + b1, b6 - b1, b4 - b3, b2 - b5, b0 - b7};
        for (std::size_t i = 0; i < 8; ++i) c[from + i * step] = out[i];
    };
    for (std::size_t i = 0; i < 8; ++i) once(8 * i, 1);
    for (std::size_t i = 0; i < 8; ++i) once(i, 8);
    for (int& value : c) value = (value + 32) >> 6;
}

}  // namespace

std::string H264Macroblock::name() const {
    static constexpr const char* kNames[] = {"intra 4x4", "intra 8x8", "intra 16x16", "samples", "inter", "skipped"};
    std::string text = kNames[kind];
    if (kind == inter) {
        text += " in " + std::to_string(parts.size());
        if (std::any_of(parts.begin(), parts.end(), [](const Part& p) { return p.direct; })) text += ", direct";
    }
    return text + (transform8 && kind == inter ? ", 8x8 transform" : "") + (field ? ", field of a pair" : "");
}

struct H264Reconstruction::Done {
    int x = 0, y = 0;                   // of the macroblock, in samples; of one of a field in a pair, the pair's
    bool field = false, lower = false;  // in a pair
    const H264Slice* slice = nullptr;
    int slice_number = -1;
    bool intra = false, transform8 = false;
    int qp = 0, chroma_qp[2] = {};  // as deblocking takes them: 0 for raw samples
    bool coded[16] = {};            // 4x4 blocks (of an 8x8 block: all)
    bool moved[16] = {};            // whose motion is known
    H264Frame::Moved motion[16];
};

H264Reconstruction::H264Reconstruction(bitstream::h264::Sps sps, bitstream::h264::Pps pps)
    : sps_(std::move(sps)), pps_(std::move(pps)) {}
H264Reconstruction::~H264Reconstruction() = default;

void H264Reconstruction::begin_picture(std::shared_ptr<H264Frame> frame, int structure, bool adaptive) {
    frame_ = std::move(frame);
    structure_ = structure;
    adaptive_ = adaptive;
    columns_ = sps_.columns;
    rows_ = structure == kWhole ? sps_.rows : sps_.rows / 2;
    if (frame_->planes[0].empty()) {
        frame_->width = 16 * sps_.columns;
        frame_->height = 16 * sps_.rows;
        const auto size = static_cast<std::size_t>(frame_->width * frame_->height);
        frame_->planes = {std::vector<std::uint8_t>(size), std::vector<std::uint8_t>(size / 4),
                          std::vector<std::uint8_t>(size / 4)};
        frame_->kinds.resize(size / 256);
        frame_->fields = structure != kWhole;
        frame_->adaptive = adaptive;
        frame_->field_mb.resize(size / 256);
    }
    done_.assign(static_cast<std::size_t>(columns_ * rows_), Done{});
    slices_.clear();
    frame_->moved[structure == kBottomField ? 1 : 0].assign(done_.size() * 16, {});
}

void H264Reconstruction::begin_slice(H264Slice slice) {
    slices_.push_back(std::make_shared<H264Slice>(std::move(slice)));
    slice_ = slices_.back().get();
}

std::uint8_t& H264Reconstruction::sample(int plane, int x, int y) {
    const int width = plane == 0 ? frame_->width : frame_->width / 2;
    const int row = structure_ == kWhole ? y : 2 * y + (structure_ == kBottomField ? 1 : 0);
    return frame_->planes[static_cast<std::size_t>(plane)][static_cast<std::size_t>(row * width + x)];
}

// The row of a plane that is a macroblock's row y.
int H264Reconstruction::row_of(const Done& mb, int plane, int y) const {
    const int top = plane == 0 ? mb.y : mb.y / 2;
    return mb.field ? top + 2 * y + (mb.lower ? 1 : 0) : top + y;
}
std::uint8_t& H264Reconstruction::own(int plane, int x, int y) {
    return sample(plane, (plane == 0 ? now_->x : now_->x / 2) + x, row_of(*now_, plane, y));
}
// Of the current macroblock: the picture's, or in a pair its field's.
int H264Reconstruction::own_structure() const {
    return !now_->field ? structure_ : now_->lower ? kBottomField : kTopField;
}
// 8.4.2.1: field macroblocks of a pair refer to the fields of frames, that of their own parity first.
H264Reference H264Reconstruction::reference(int list, int ref) const {
    const auto& all = slice_->lists[list];
    if (!now_->field) return all.at(static_cast<std::size_t>(ref));
    H264Reference one = all.at(static_cast<std::size_t>(ref / 2));
    one.structure = ref % 2 == 0 ? own_structure() : kWhole - own_structure();
    return one;
}

// 6.4.12.2, table 6-4, of luma.
H264Reconstruction::Place H264Reconstruction::neighbour_of_pair(int x, int y) {
    if (y >= 16 || (x >= 16 && y >= 0)) return {};
    const int address = static_cast<int>(now_ - done_.data()), pair = address / 2, column = pair % columns_;
    const bool lower = now_->lower;
    if (x >= 0 && x < 16 && y >= 0) return {now_, x, y};
    const auto upper_of = [&](int across, int down) -> Done* {  // of a pair beside this one
        if (column + across < 0 || column + across >= columns_ || pair + down * columns_ < 0) return nullptr;
        Done* const mb = &done_[static_cast<std::size_t>(2 * (pair + across + down * columns_))];
        return mb->slice_number == now_->slice_number ? mb : nullptr;
    };
    if (y < 0 && !now_->field && lower) {
        if (x >= 16) return {};
        if (x >= 0) return {now_ - 1, x, 15};
        Done* const left = upper_of(-1, 0);
        if (left == nullptr) return {};
        return left->field ? Place{left + 1, 15, 7} : Place{left, 15, 15};
    }
    if (y < 0) {
        Done* const there = upper_of(x < 0 ? -1 : x >= 16 ? 1 : 0, -1);
        if (there == nullptr) return {};
        const int across = (x + 16) % 16;
        if (!now_->field || lower) return {there + 1, across, 16 + y};
        return there->field ? Place{there, across, 16 + y} : Place{there + 1, across, 16 + 2 * y};
    }
    Done* const left = upper_of(-1, 0);
    if (left == nullptr) return {};
    if (left->field == now_->field) return {left + (lower ? 1 : 0), 15, y};
    if (left->field) return {left + y % 2, 15, (y + (lower ? 16 : 0)) / 2};
    const int row = 2 * y + (lower ? 1 : 0);
    return {left + row / 16, 15, row % 16};
}

// 6.4.12.1; `size` is the macroblock's in the plane.
H264Reconstruction::Place H264Reconstruction::neighbour(int x, int y, int size) {
    if (adaptive_) return neighbour_of_pair(x, y);
    if (y >= size || (x >= size && y >= 0)) return {};
    const int column = now_->x / 16 + (x < 0 ? -1 : x >= size ? 1 : 0), row = now_->y / 16 + (y < 0 ? -1 : 0);
    if (column < 0 || column >= columns_ || row < 0) return {};
    Done* mb = &done_[static_cast<std::size_t>(row * columns_ + column)];
    if (mb->slice_number != now_->slice_number) return {};
    return {mb, (x + size) % size, (y + size) % size};
}
bool H264Reconstruction::intra_usable(int x, int y, int size) {
    const Place place = neighbour(x, y, size);
    return place.mb != nullptr && (place.mb == now_ || place.mb->intra || !pps_.constrained_intra);
}
std::uint8_t H264Reconstruction::beside(int plane, int x, int y) {
    const int scale = plane == 0 ? 1 : 2;
    return sample(plane, now_->x / scale + x, now_->y / scale + y);
}

// --- Motion (8.4.1) ---

H264Reconstruction::Neighbour H264Reconstruction::motion_at(int list, int x, int y) {
    const Place place = neighbour(x, y, 16);
    if (place.mb == nullptr) return {};
    const auto block = static_cast<std::size_t>(place.y / 4 * 4 + place.x / 4);
    if (place.mb == now_ && !now_->moved[block]) return {};
    const auto l = static_cast<std::size_t>(list);
    if (place.mb->intra) return {true, -1, {}};
    const auto& m = place.mb->motion[block];
    Neighbour found{true, m.ref[l], m.ref[l] >= 0 ? m.mv[l] : std::array<int, 2>{}};
    // 8.4.1.3.1
    if (found.ref >= 0 && place.mb->field != now_->field) {
        found.ref = now_->field ? found.ref * 2 : found.ref / 2;
        found.mv[1] = now_->field ? found.mv[1] / 2 : found.mv[1] * 2;
    }
    return found;
}

// 8.4.1.3; places in blocks of the macroblock.
std::array<int, 2> H264Reconstruction::predict_vector(int list, int x, int y, int width, int height, int ref) {
    const Neighbour a = motion_at(list, 4 * x - 1, 4 * y);
    Neighbour b = motion_at(list, 4 * x, 4 * y - 1), c = motion_at(list, 4 * (x + width), 4 * y - 1);
    if (!c.available) c = motion_at(list, 4 * x - 1, 4 * y - 1);
    if (width == 4 && height == 2) {
        if (y == 0 && b.ref == ref) return b.mv;
        if (y == 2 && a.ref == ref) return a.mv;
    }
    if (width == 2 && height == 4) {
        if (x == 0 && a.ref == ref) return a.mv;
        if (x == 2 && c.ref == ref) return c.mv;
    }
    if (!b.available && !c.available && a.available) b = c = a;
    const int same = (a.ref == ref ? 1 : 0) + (b.ref == ref ? 1 : 0) + (c.ref == ref ? 1 : 0);
    if (same == 1) return a.ref == ref ? a.mv : b.ref == ref ? b.mv : c.mv;
    std::array<int, 2> mv{};
    for (std::size_t k = 0; k < 2; ++k)
        mv[k] = std::max(std::min(a.mv[k], b.mv[k]), std::min(std::max(a.mv[k], b.mv[k]), c.mv[k]));
    return mv;
}

void H264Reconstruction::set_motion(int x, int y, int list, int ref, std::array<int, 2> mv) {
    auto& m = now_->motion[y * 4 + x];
    const auto l = static_cast<std::size_t>(list);
    m.intra = false;
    m.ref[l] = ref;
    m.mv[l] = ref >= 0 ? mv : std::array<int, 2>{};
    if (ref >= 0) {
        const H264Reference to = reference(list, ref);
        m.picture[l] = {to.frame->id, to.structure};
    }
}

void H264Reconstruction::derive_motion() {
    if (mb_->kind == H264Macroblock::skip) {
        if (slice_->type == kSliceB) {
            direct_motion(0, 0, 4, 4);
        } else {
            skip_motion();
        }
        return;
    }
    for (const auto& part : mb_->parts) {
        if (part.direct) {
            direct_motion(part.x, part.y, part.width, part.height);
            continue;
        }
        for (int list = 0; list < 2; ++list) {
            const auto l = static_cast<std::size_t>(list);
            const bool used = (part.lists >> list & 1) != 0;
            std::array<int, 2> mv{};
            if (used) {
                mv = predict_vector(list, part.x, part.y, part.width, part.height, part.ref[l]);
                for (std::size_t k = 0; k < 2; ++k) mv[k] += part.delta[l][k];
            }
            for (int y = part.y; y < part.y + part.height; ++y) {
                for (int x = part.x; x < part.x + part.width; ++x) set_motion(x, y, list, used ? part.ref[l] : -1, mv);
            }
        }
        for (int y = part.y; y < part.y + part.height; ++y) {
            for (int x = part.x; x < part.x + part.width; ++x) now_->moved[y * 4 + x] = true;
        }
    }
}

// 8.4.1.1.
void H264Reconstruction::skip_motion() {
    const Neighbour a = motion_at(0, -1, 0), b = motion_at(0, 0, -1);
    const std::array<int, 2> zero{};
    const bool still = !a.available || !b.available || (a.ref == 0 && a.mv == zero) || (b.ref == 0 && b.mv == zero);
    const std::array<int, 2> mv = still ? zero : predict_vector(0, 0, 0, 4, 4, 0);
    for (int i = 0; i < 16; ++i) {
        set_motion(i % 4, i / 4, 0, 0, mv);
        set_motion(i % 4, i / 4, 1, -1, {});
        now_->moved[i] = true;
    }
}

// 8.4.1.2.1: by table 8-6 and 8-8.
H264Reconstruction::Collocated H264Reconstruction::collocated(int block_x, int block_y) const {
    const H264Reference& first = slice_->lists[1][0];
    const H264Frame& frame = *first.frame;
    const int column = now_->x / 16, row = now_->y / 16;
    if (sps_.direct_8x8_inference) {
        block_x = block_x / 2 * 3;
        block_y = block_y / 2 * 3;
    }
    const auto at = [&](int which, int address, int y) {
        const auto index = static_cast<std::size_t>(address * 16 + y / 4 * 4 + block_x);
        return &frame.moved[static_cast<std::size_t>(which)].at(index);
    };
    const int y = 4 * block_y, raster = row * columns_ + column;
    if (structure_ != kWhole) {
        const int which = first.structure == kBottomField ? 1 : 0;
        if (frame.fields) return {at(which, raster, y), 0};
        if (!frame.adaptive) return {at(0, (2 * row + y / 8) * columns_ + column, 2 * y % 16), 1};
        if (!frame.field_mb[static_cast<std::size_t>(2 * raster)]) return {at(0, 2 * raster + y / 8, 2 * y % 16), 1};
        return {at(0, 2 * raster + (structure_ == kBottomField ? 1 : 0), y), 0};
    }
    // The field that is nearer in order.
    const int now = frame_->order_of(kWhole);
    const int nearer = std::abs(frame.order[0] - now) < std::abs(frame.order[1] - now) ? 0 : 1;
    if (!adaptive_) {
        if (!frame.fields) return {at(0, raster, y), 0};
        return {at(nearer, row / 2 * columns_ + column, 8 * (row % 2) + 4 * (y / 8)), 2};
    }
    const int address = static_cast<int>(now_ - done_.data()), pair = address / 2, lower = address % 2;
    if (frame.fields)
        return now_->field ? Collocated{at(lower, pair, y), 0}
                           : Collocated{at(nearer, pair, 8 * lower + 4 * (y / 8)), 2};
    if (frame.field_mb[static_cast<std::size_t>(address)] == now_->field) return {at(0, address, y), 0};
    if (now_->field) return {at(0, 2 * pair + y / 8, 2 * y % 16), 1};
    return {at(0, 2 * pair + nearer, 8 * lower + 4 * (y / 8)), 2};
}

// 8.4.1.2.3: DistScaleFactor between two references of the current picture.
H264Reconstruction::Distance H264Reconstruction::distance(const H264Reference& first,
                                                          const H264Reference& second) const {
    const int own = frame_->order_of(own_structure()), zero = first.frame->order_of(first.structure),
              one = second.frame->order_of(second.structure);
    const int td = std::clamp(one - zero, -128, 127), tb = std::clamp(own - zero, -128, 127);
    if (td == 0 || first.long_term) return {true, 0};
    const int tx = (16384 + std::abs(td / 2)) / td;
    return {false, std::clamp((tb * tx + 32) >> 6, -1024, 1023)};
}

void H264Reconstruction::direct_motion(int x, int y, int width, int height) {
    if (slice_->spatial) {
        spatial(x, y, width, height);
    } else {
        temporal(x, y, width, height);
    }
    for (int j = y; j < y + height; ++j) {
        for (int i = x; i < x + width; ++i) now_->moved[j * 4 + i] = true;
    }
}

// 8.4.1.2.2.
void H264Reconstruction::spatial(int x0, int y0, int width, int height) {
    // The whole macroblock's neighbours decide, whichever part it is.
    int ref[2];
    std::array<int, 2> mv[2] = {};
    for (int list = 0; list < 2; ++list) {
        const Neighbour a = motion_at(list, -1, 0), b = motion_at(list, 0, -1);
        Neighbour c = motion_at(list, 16, -1);
        if (!c.available) c = motion_at(list, -1, -1);
        const auto positive = [](int p, int q) { return p >= 0 && q >= 0 ? std::min(p, q) : std::max(p, q); };
        ref[list] = positive(a.ref, positive(b.ref, c.ref));
        if (ref[list] >= 0) mv[list] = predict_vector(list, 0, 0, 4, 4, ref[list]);
    }
    const bool none = ref[0] < 0 && ref[1] < 0;
    if (none) ref[0] = ref[1] = 0;
    for (int y = y0; y < y0 + height; ++y) {
        for (int x = x0; x < x0 + width; ++x) {
            const Collocated col = collocated(x, y);
            const auto& m = *col.moved;
            const std::size_t l = m.ref[0] >= 0 ? 0 : 1;
            const bool still = !slice_->lists[1][0].long_term && !m.intra && m.ref[l] == 0 &&
                               std::abs(m.mv[l][0]) <= 1 && std::abs(m.mv[l][1]) <= 1;
            for (int list = 0; list < 2; ++list) {
                const bool zero = none || ref[list] < 0 || (ref[list] == 0 && still);
                set_motion(x, y, list, ref[list], zero ? std::array<int, 2>{} : mv[list]);
            }
        }
    }
}

// 8.4.1.2.3.
void H264Reconstruction::temporal(int x0, int y0, int width, int height) {
    for (int y = y0; y < y0 + height; ++y) {
        for (int x = x0; x < x0 + width; ++x) {
            const Collocated col = collocated(x, y);
            const auto& m = *col.moved;
            const std::size_t l = m.ref[0] >= 0 ? 0 : 1;
            int ref = 0;
            std::array<int, 2> mv{};
            if (!m.intra && m.ref[l] >= 0) {
                mv = m.mv[l];
                if (col.scale == 1) mv[1] /= 2;
                if (col.scale == 2) mv[1] *= 2;
                const int wanted = col.scale == 1 ? own_structure() : col.scale == 2 ? kWhole : m.picture[l][1];
                // The writer keeps all that was referred to in the list.
                for (H264Reference r = reference(0, 0); r.frame->id != m.picture[l][0] || r.structure != wanted;)
                    r = reference(0, ++ref);
            }
            const Distance d = distance(reference(0, ref), reference(1, 0));
            std::array<int, 2> first = mv, second{};
            if (!d.same) {
                for (std::size_t k = 0; k < 2; ++k) {
                    first[k] = (d.scale * mv[k] + 128) >> 8;
                    second[k] = first[k] - mv[k];
                }
            }
            set_motion(x, y, 0, ref, first);
            set_motion(x, y, 1, 0, second);
        }
    }
}

// 8.4.2.
void H264Reconstruction::predict_inter() {
    for (int block = 0; block < 16; ++block) {
        const auto& m = now_->motion[block];
        for (int plane = 0; plane < 3; ++plane) {
            const int size = plane == 0 ? 4 : 2, scale = plane == 0 ? 1 : 2;
            const int left = now_->x / scale,
                      top = now_->y / scale / (now_->field ? 2 : 1);  // of what is predicted from
            const int x0 = left + block % 4 * size, y0 = top + block / 4 * size;
            for (int y = y0; y < y0 + size; ++y) {
                for (int x = x0; x < x0 + size; ++x) {
                    int p[2] = {};
                    for (std::size_t l = 0; l < 2; ++l) {
                        if (m.ref[l] < 0) continue;
                        const H264Reference from = reference(static_cast<int>(l), m.ref[l]);
                        const View v = view(*from.frame, plane, from.structure);
                        if (plane == 0) {
                            p[l] = luma_at(v, x + (m.mv[l][0] >> 2), y + (m.mv[l][1] >> 2), m.mv[l][0] & 3,
                                           m.mv[l][1] & 3);
                        } else {
                            // Table 8-9: between fields of other parity.
                            int down = m.mv[l][1];
                            if (own_structure() != from.structure) down += own_structure() == kTopField ? -2 : 2;
                            p[l] = chroma_at(v, x + (m.mv[l][0] >> 3), y + (down >> 3), m.mv[l][0] & 7, down & 7);
                        }
                    }
                    const bool both = m.ref[0] >= 0 && m.ref[1] >= 0;
                    const std::size_t one = m.ref[0] >= 0 ? 0 : 1;
                    int value = both ? (p[0] + p[1] + 1) >> 1 : p[one];
                    const auto c = static_cast<std::size_t>(plane);
                    if (slice_->weighting == 1) {
                        const int log2 = slice_->log2[plane == 0 ? 0 : 1];
                        const auto of = [&](std::size_t l) {
                            return slice_->weights[l][static_cast<std::size_t>(m.ref[l] >> (now_->field ? 1 : 0))][c];
                        };
                        if (both) {
                            value = clip(((p[0] * of(0)[0] + p[1] * of(1)[0] + (1 << log2)) >> (log2 + 1)) +
                                         ((of(0)[1] + of(1)[1] + 1) >> 1));
                        } else if (log2 >= 1) {
                            value = clip(((p[one] * of(one)[0] + (1 << (log2 - 1))) >> log2) + of(one)[1]);
                        } else {
                            value = clip(p[one] * of(one)[0] + of(one)[1]);
                        }
                    } else if (slice_->weighting == 2 && both) {
                        const H264Reference first = reference(0, m.ref[0]), second = reference(1, m.ref[1]);
                        const Distance d = distance(first, second);
                        const int w1 = d.scale >> 2;
                        const bool even = d.same || second.long_term || w1 < -64 || w1 > 128;
                        value = clip((p[0] * (even ? 32 : 64 - w1) + p[1] * (even ? 32 : w1) + 32) >> 6);
                    }
                    own(plane, x - left, y - top) = static_cast<std::uint8_t>(value);
                }
            }
        }
    }
}

// --- Intra prediction (8.3) ---

// 8.3.1.2 and 8.3.2.2: the samples of a block of n x n. `p` is what lies around: the corner at n, before it the left
// from the lowest up, behind it 2 n above.
void H264Reconstruction::intra_block(int n, int x0, int y0, int mode, const std::vector<int>& around, bool left,
                                     bool above) {
    const auto p = [&](int i) { return around[static_cast<std::size_t>(i)]; };
    const auto up = [&](int x) { return p(n + 1 + x); };
    const auto side = [&](int y) { return p(n - 1 - y); };
    const auto three = [](int a, int b, int c) { return (a + 2 * b + c + 2) >> 2; };
    const auto two = [](int a, int b) { return (a + b + 1) >> 1; };
    const auto along = [&](int middle) { return three(p(middle - 1), p(middle), p(middle + 1)); };
    int dc = 0;
    for (int i = 0; i < n; ++i) dc += (above ? up(i) : 0) + (left ? side(i) : 0);
    const int counted = (above ? n : 0) + (left ? n : 0);
    dc = counted == 0 ? 128 : (dc + counted / 2) / counted;
    for (int y = 0; y < n; ++y) {
        for (int x = 0; x < n; ++x) {
            int v = 0;
            switch (mode) {
                case 0:
                    v = up(x);
                    break;
                case 1:
                    v = side(y);
                    break;
                case 2:
                    v = dc;
                    break;
                case 3:
                    v = x + y == 2 * n - 2 ? (up(2 * n - 2) + 3 * up(2 * n - 1) + 2) >> 2
                                           : three(up(x + y), up(x + y + 1), up(x + y + 2));
                    break;
                case 4:
                    v = along(n + x - y);
                    break;
                case 5: {
                    const int z = 2 * x - y, i = x - (y >> 1);
                    v = z < 0 ? along(n + 1 + z) : z % 2 == 0 ? two(p(n + i), p(n + 1 + i)) : along(n + i);
                    break;
                }
                case 6: {
                    const int z = 2 * y - x, i = y - (x >> 1);
                    v = z < 0 ? along(n - 1 - z) : z % 2 == 0 ? two(p(n - i), p(n - 1 - i)) : along(n - i);
                    break;
                }
                case 7: {
                    const int i = x + (y >> 1);
                    v = y % 2 == 0 ? two(up(i), up(i + 1)) : three(up(i), up(i + 1), up(i + 2));
                    break;
                }
                default: {
                    const int z = x + 2 * y, i = y + (x >> 1);
                    v = z > 2 * n - 3    ? side(n - 1)
                        : z == 2 * n - 3 ? (side(n - 2) + 3 * side(n - 1) + 2) >> 2
                        : z % 2 == 0     ? two(side(i), side(i + 1))
                                         : three(side(i), side(i + 1), side(i + 2));
                }
            }
            sample(0, now_->x + x0 + x, now_->y + y0 + y) = static_cast<std::uint8_t>(v);
        }
    }
}

// What lies around a block of n x n, as intra_block() has it; what can't be used is 0.
std::vector<int> H264Reconstruction::around(int n, int x0, int y0, bool left, bool above, bool corner, bool right) {
    std::vector<int> p(static_cast<std::size_t>(3 * n + 1));
    const auto at = [&](int i) -> int& { return p[static_cast<std::size_t>(i)]; };
    for (int i = 0; i < n; ++i) {
        if (left) at(n - 1 - i) = beside(0, x0 - 1, y0 + i);
        if (above) at(n + 1 + i) = beside(0, x0 + i, y0 - 1);
        if (above) at(2 * n + 1 + i) = beside(0, right ? x0 + n + i : x0 + n - 1, y0 - 1);
    }
    if (corner) at(n) = beside(0, x0 - 1, y0 - 1);
    return p;
}

void H264Reconstruction::intra4(int block) {
    const int x = block % 4 * 4, y = block / 4 * 4;
    const auto decoded = [&](int at_x, int at_y) {  // within the macroblock, the coding order counts
        if (at_x < 0 || at_y < 0 || at_x >= 16) return intra_usable(at_x, at_y, 16);
        static constexpr int kOrder[16] = {0, 1, 4, 5, 2, 3, 6, 7, 8, 9, 12, 13, 10, 11, 14, 15};
        return kOrder[at_y / 4 * 4 + at_x / 4] < kOrder[block];
    };
    const bool left = decoded(x - 1, y), above = decoded(x, y - 1);
    intra_block(4, x, y, mb_->modes[static_cast<std::size_t>(block)],
                around(4, x, y, left, above, decoded(x - 1, y - 1), decoded(x + 4, y - 1)), left, above);
}

void H264Reconstruction::intra8(int quarter) {
    const int x = quarter % 2 * 8, y = quarter / 2 * 8;
    const auto decoded = [&](int at_x, int at_y) {
        if (at_x < 0 || at_y < 0 || at_x >= 16) return intra_usable(at_x, at_y, 16);
        return at_y / 8 * 2 + at_x / 8 < quarter;
    };
    const bool left = decoded(x - 1, y), above = decoded(x, y - 1), corner = decoded(x - 1, y - 1);
    const std::vector<int> q = around(8, x, y, left, above, corner, decoded(x + 8, y - 1));
    std::vector<int> p(q.size());
    const auto three = [&](std::size_t middle) { return (q[middle - 1] + 2 * q[middle] + q[middle + 1] + 2) >> 2; };
    // 8.3.2.2.1.
    if (above) {
        p[9] = corner ? three(9) : (3 * q[9] + q[10] + 2) >> 2;
        for (std::size_t i = 10; i < 24; ++i) p[i] = three(i);
        p[24] = (q[23] + 3 * q[24] + 2) >> 2;
    }
    if (left) {
        p[7] = corner ? three(7) : (3 * q[7] + q[6] + 2) >> 2;
        for (std::size_t i = 6; i > 0; --i) p[i] = three(i);
        p[0] = (q[1] + 3 * q[0] + 2) >> 2;
    }
    if (corner)
        p[8] = above && left ? three(8) : above ? (3 * q[8] + q[9] + 2) >> 2 : left ? (3 * q[8] + q[7] + 2) >> 2 : q[8];
    intra_block(8, x, y, mb_->modes[static_cast<std::size_t>(quarter / 2 * 8 + quarter % 2 * 2)], p, left, above);
}

void H264Reconstruction::intra16() {
    const bool left = intra_usable(-1, 0, 16), above = intra_usable(0, -1, 16);
    int dc = 0;
    for (int i = 0; i < 16; ++i) dc += (above ? beside(0, i, -1) : 0) + (left ? beside(0, -1, i) : 0);
    dc = above && left ? (dc + 16) >> 5 : above || left ? (dc + 8) >> 4 : 128;
    int across = 0, down = 0, level = 0;
    if (mb_->mode16 == 3) {
        for (int i = 1; i <= 8; ++i) {
            across += i * (beside(0, 7 + i, -1) - beside(0, 7 - i, -1));
            down += i * (beside(0, -1, 7 + i) - beside(0, -1, 7 - i));
        }
        across = (5 * across + 32) >> 6;
        down = (5 * down + 32) >> 6;
        level = 16 * (beside(0, -1, 15) + beside(0, 15, -1));
    }
    std::array<std::uint8_t, 256> made{};
    for (int y = 0; y < 16; ++y) {
        for (int x = 0; x < 16; ++x) {
            const int v = mb_->mode16 == 0   ? beside(0, x, -1)
                          : mb_->mode16 == 1 ? beside(0, -1, y)
                          : mb_->mode16 == 2 ? dc
                                             : clip((level + across * (x - 7) + down * (y - 7) + 16) >> 5);
            made[static_cast<std::size_t>(y * 16 + x)] = static_cast<std::uint8_t>(v);
        }
    }
    for (int i = 0; i < 256; ++i) sample(0, now_->x + i % 16, now_->y + i / 16) = made[static_cast<std::size_t>(i)];
}

void H264Reconstruction::intra_chroma() {
    const bool left = intra_usable(-1, 0, 8), above = intra_usable(0, -1, 8);
    for (int plane = 1; plane < 3; ++plane) {
        int across = 0, down = 0, level = 0;
        if (mb_->chroma_mode == 3) {
            for (int i = 1; i <= 4; ++i) {
                across += i * (beside(plane, 3 + i, -1) - beside(plane, 3 - i, -1));
                down += i * (beside(plane, -1, 3 + i) - beside(plane, -1, 3 - i));
            }
            across = (34 * across + 32) >> 6;
            down = (34 * down + 32) >> 6;
            level = 16 * (beside(plane, -1, 7) + beside(plane, 7, -1));
        }
        std::array<std::uint8_t, 64> made{};
        for (int y = 0; y < 8; ++y) {
            for (int x = 0; x < 8; ++x) {
                int v = 0;
                if (mb_->chroma_mode == 0) {
                    // 8.3.4.1 to 8.3.4.3: by block of 4x4; those off the diagonal look at one side first.
                    const int bx = x / 4 * 4, by = y / 4 * 4;
                    int from_above = 0, from_left = 0;
                    for (int i = 0; i < 4; ++i) {
                        from_above += above ? beside(plane, bx + i, -1) : 0;
                        from_left += left ? beside(plane, -1, by + i) : 0;
                    }
                    const bool diagonal = bx == by;
                    if (diagonal && above && left) {
                        v = (from_above + from_left + 4) >> 3;
                    } else if (bx > by || diagonal) {  // above first (on the diagonal only one is there)
                        v = above ? (from_above + 2) >> 2 : left ? (from_left + 2) >> 2 : 128;
                    } else {
                        v = left ? (from_left + 2) >> 2 : above ? (from_above + 2) >> 2 : 128;
                    }
                } else if (mb_->chroma_mode == 1) {
                    v = beside(plane, -1, y);
                } else if (mb_->chroma_mode == 2) {
                    v = beside(plane, x, -1);
                } else {
                    v = clip((level + across * (x - 3) + down * (y - 3) + 16) >> 5);
                }
                made[static_cast<std::size_t>(y * 8 + x)] = static_cast<std::uint8_t>(v);
            }
        }
        for (int i = 0; i < 64; ++i)
            sample(plane, now_->x / 2 + i % 8, now_->y / 2 + i / 8) = made[static_cast<std::size_t>(i)];
    }
}

// --- Residual (8.5) ---

void H264Reconstruction::add_luma() {
    const int field = structure_ == kWhole ? 0 : 1;
    const int qp = mb_->qp;
    const bool whole = mb_->kind == H264Macroblock::intra16;
    const auto& weights = pps_.scaling;
    const std::size_t intra = now_->intra ? 0 : 1;
    const auto add = [&](int x, int y, int value) {
        std::uint8_t& s = sample(0, now_->x + x, now_->y + y);
        s = static_cast<std::uint8_t>(clip(s + value));
    };
    if (mb_->transform8) {
        for (int quarter = 0; quarter < 4; ++quarter) {
            if (mb_->kind == H264Macroblock::intra8) intra8(quarter);
            std::array<int, 64> c{};
            for (int i = 0; i < 64; ++i) {
                const int place = kScan8x8[field][i];
                const int level = mb_->luma8[static_cast<std::size_t>(quarter)][static_cast<std::size_t>(i)];
                const int scale = weights.large[intra][static_cast<std::size_t>(place)] * norm8(qp, place);
                c[static_cast<std::size_t>(place)] =
                    qp >= 36 ? (level * scale) << (qp / 6 - 6) : (level * scale + (1 << (5 - qp / 6))) >> (6 - qp / 6);
            }
            transform8(c);
            for (int i = 0; i < 64; ++i)
                add(quarter % 2 * 8 + i % 8, quarter / 2 * 8 + i / 8, c[static_cast<std::size_t>(i)]);
        }
        return;
    }
    const auto scale_of = [&](int place) {
        return weights.small[3 * intra][static_cast<std::size_t>(place)] * norm4(qp, place);
    };
    // 8.5.2 and 8.5.10: the means of an intra 16x16 macroblock.
    std::array<int, 16> means{};
    if (whole) {
        std::array<int, 16> c{};
        for (int i = 0; i < 16; ++i) c[kScan4x4[field][i]] = mb_->dc[static_cast<std::size_t>(i)];
        const auto once = [](int& p0, int& p1, int& p2, int& p3) {
            const int a = p0 + p1 + p2 + p3, b = p0 + p1 - p2 - p3, d = p0 - p1 - p2 + p3, e = p0 - p1 + p2 - p3;
            p0 = a;
            p1 = b;
            p2 = d;
            p3 = e;
        };
        for (std::size_t i = 0; i < 4; ++i) once(c[4 * i], c[4 * i + 1], c[4 * i + 2], c[4 * i + 3]);
        for (std::size_t i = 0; i < 4; ++i) once(c[i], c[4 + i], c[8 + i], c[12 + i]);
        for (std::size_t i = 0; i < 16; ++i)
            means[i] = qp >= 36 ? (c[i] * scale_of(0)) << (qp / 6 - 6)
                                : (c[i] * scale_of(0) + (1 << (5 - qp / 6))) >> (6 - qp / 6);
    }
    static constexpr int kCodingOrder[16] = {0, 1, 4, 5, 2, 3, 6, 7, 8, 9, 12, 13, 10, 11, 14, 15};
    for (const int block : kCodingOrder) {
        const auto b = static_cast<std::size_t>(block);
        if (mb_->kind == H264Macroblock::intra4) intra4(block);
        std::array<int, 16> c{};
        for (int i = whole ? 1 : 0; i < 16; ++i) {
            const int place = kScan4x4[field][i], level = mb_->luma[b][static_cast<std::size_t>(i)];
            c[static_cast<std::size_t>(place)] = qp >= 24
                                                     ? (level * scale_of(place)) << (qp / 6 - 4)
                                                     : (level * scale_of(place) + (1 << (3 - qp / 6))) >> (4 - qp / 6);
        }
        if (whole) c[0] = means[b];
        transform4(c);
        for (int i = 0; i < 16; ++i) add(block % 4 * 4 + i % 4, block / 4 * 4 + i / 4, c[static_cast<std::size_t>(i)]);
    }
}

void H264Reconstruction::add_chroma() {
    const int field = structure_ == kWhole ? 0 : 1;
    for (std::size_t k = 0; k < 2; ++k) {
        const int qp = kChromaQp[std::clamp(mb_->qp + pps_.chroma_qp_offset[k], 0, 51)];
        const auto& weights = pps_.scaling.small[(now_->intra ? 1 : 4) + k];
        const auto scale_of = [&](int place) { return weights[static_cast<std::size_t>(place)] * norm4(qp, place); };
        const auto& d = mb_->chroma_dc[k];
        const int f[4] = {d[0] + d[1] + d[2] + d[3], d[0] - d[1] + d[2] - d[3], d[0] + d[1] - d[2] - d[3],
                          d[0] - d[1] - d[2] + d[3]};
        for (int block = 0; block < 4; ++block) {
            std::array<int, 16> c{};
            for (int i = 1; i < 16; ++i) {
                const int place = kScan4x4[field][i],
                          level = mb_->chroma[k][static_cast<std::size_t>(block)][static_cast<std::size_t>(i)];
                c[static_cast<std::size_t>(place)] =
                    qp >= 24 ? (level * scale_of(place)) << (qp / 6 - 4)
                             : (level * scale_of(place) + (1 << (3 - qp / 6))) >> (4 - qp / 6);
            }
            c[0] = ((f[block] * scale_of(0)) << (qp / 6)) >> 5;
            transform4(c);
            for (int i = 0; i < 16; ++i) {
                std::uint8_t& s = sample(static_cast<int>(k) + 1, now_->x / 2 + block % 2 * 4 + i % 4,
                                         now_->y / 2 + block / 2 * 4 + i / 4);
                s = static_cast<std::uint8_t>(clip(s + c[static_cast<std::size_t>(i)]));
            }
        }
    }
}

void H264Reconstruction::macroblock(int address, const H264Macroblock& mb) {
    now_ = &done_[static_cast<std::size_t>(address)];
    mb_ = &mb;
    if (adaptive_) {
        now_->field = mb.field;
        now_->lower = address % 2 == 1;
        now_->x = address / 2 % columns_ * 16;
        now_->y = address / 2 / columns_ * 32 + (now_->lower && !mb.field ? 16 : 0);
        frame_->field_mb[static_cast<std::size_t>(address)] = mb.field;
    } else {
        now_->x = address % columns_ * 16;
        now_->y = address / columns_ * 16;
    }
    now_->slice = slice_;
    now_->slice_number = static_cast<int>(slices_.size()) - 1;
    now_->intra = mb.kind <= H264Macroblock::samples;
    now_->transform8 = mb.transform8;
    now_->qp = mb.kind == H264Macroblock::samples ? 0 : mb.qp;
    for (int k = 0; k < 2; ++k) now_->chroma_qp[k] = kChromaQp[std::clamp(now_->qp + pps_.chroma_qp_offset[k], 0, 51)];
    const int row = structure_ != kWhole         ? 2 * (now_->y / 16) + (structure_ == kBottomField ? 1 : 0)
                    : now_->field && now_->lower ? now_->y / 16 + 1
                                                 : now_->y / 16;
    frame_->kinds[static_cast<std::size_t>(row * columns_ + now_->x / 16)] = mb.name();
    if (mb.kind == H264Macroblock::samples) {
        for (int i = 0; i < 256; ++i) own(0, i % 16, i / 16) = mb.raw[static_cast<std::size_t>(i)];
        for (int i = 0; i < 128; ++i) own(1 + i / 64, i % 8, i % 64 / 8) = mb.raw[static_cast<std::size_t>(256 + i)];
    } else {
        for (int i = 0; i < 16; ++i) {
            const auto b = static_cast<std::size_t>(i);
            const auto any = [](const auto& levels) {
                return std::any_of(levels.begin(), levels.end(), [](int l) { return l != 0; });
            };
            now_->coded[i] = mb.transform8 ? any(mb.luma8[b / 8 * 2 + b % 4 / 2]) : any(mb.luma[b]);
        }
        if (now_->intra) {
            if (mb.kind == H264Macroblock::intra16) intra16();
            intra_chroma();
        } else {
            derive_motion();
            predict_inter();
        }
        if (!adaptive_) {
            add_luma();
            add_chroma();
        }
    }
    auto& kept = frame_->moved[structure_ == kBottomField ? 1 : 0];
    std::copy(std::begin(now_->motion), std::end(now_->motion), kept.begin() + address * 16);
}

// --- Deblocking (8.7) ---

int H264Reconstruction::strength(const Done& p, const Done& q, int p_block, int q_block, bool edge,
                                 bool vertical) const {
    const bool of_frame = structure_ == kWhole && !p.field && !q.field;
    if (p.intra || q.intra) return edge && (of_frame || vertical) ? 4 : 3;
    if (p.coded[p_block] || q.coded[q_block]) return 2;
    if (p.field != q.field) return 1;
    const auto& a = p.motion[p_block];
    const auto& b = q.motion[q_block];
    std::vector<std::pair<std::array<int, 2>, std::array<int, 2>>> first, second;  // picture, vector
    for (std::size_t l = 0; l < 2; ++l) {
        if (a.ref[l] >= 0) first.emplace_back(a.picture[l], a.mv[l]);
        if (b.ref[l] >= 0) second.emplace_back(b.picture[l], b.mv[l]);
    }
    if (first.size() != second.size()) return 1;
    const int down = of_frame ? 4 : 2;  // four quarters of a sample of the frame
    const auto far = [&](const auto& one, const auto& other) {
        return std::abs(one.second[0] - other.second[0]) >= 4 || std::abs(one.second[1] - other.second[1]) >= down;
    };
    const auto fits = [&](std::size_t i, std::size_t j) {  // the first with i, the other with j
        if (first[0].first != second[i].first || far(first[0], second[i])) return false;
        return first.size() == 1 || (first[1].first == second[j].first && !far(first[1], second[j]));
    };
    return fits(0, 1) || (first.size() == 2 && fits(1, 0)) ? 0 : 1;
}

// 8.7.2: samples across an edge, q0 at 0 and p0 at -1.
template <typename At>
void H264Reconstruction::filter_line(int plane, int bs, const Done& p, const Done& q, const At& at) {
    if (bs == 0) return;
    const int qp_p = plane == 0 ? p.qp : p.chroma_qp[plane - 1], qp_q = plane == 0 ? q.qp : q.chroma_qp[plane - 1];
    const int mean = (qp_p + qp_q + 1) >> 1;
    const int index_a = std::clamp(mean + q.slice->alpha, 0, 51), index_b = std::clamp(mean + q.slice->beta, 0, 51);
    const int alpha = kAlpha[index_a], beta = kBeta[index_b];
    const int p0 = at(-1), p1 = at(-2), q0 = at(0), q1 = at(1);
    if (std::abs(p0 - q0) >= alpha || std::abs(p1 - p0) >= beta || std::abs(q1 - q0) >= beta) return;
    if (plane > 0) {
        if (bs == 4) {
            at(-1) = static_cast<std::uint8_t>((2 * p1 + p0 + q1 + 2) >> 2);
            at(0) = static_cast<std::uint8_t>((2 * q1 + q0 + p1 + 2) >> 2);
        } else {
            const int tc = kClip[index_a][bs - 1] + 1;
            const int delta = std::clamp(((q0 - p0) * 4 + (p1 - q1) + 4) >> 3, -tc, tc);
            at(-1) = static_cast<std::uint8_t>(clip(p0 + delta));
            at(0) = static_cast<std::uint8_t>(clip(q0 - delta));
        }
        return;
    }
    const int p2 = at(-3), q2 = at(2);
    const bool ap = std::abs(p2 - p0) < beta, aq = std::abs(q2 - q0) < beta;
    if (bs < 4) {
        const int tc0 = kClip[index_a][bs - 1], tc = tc0 + (ap ? 1 : 0) + (aq ? 1 : 0);
        const int delta = std::clamp(((q0 - p0) * 4 + (p1 - q1) + 4) >> 3, -tc, tc);
        at(-1) = static_cast<std::uint8_t>(clip(p0 + delta));
        at(0) = static_cast<std::uint8_t>(clip(q0 - delta));
        if (ap)
            at(-2) = static_cast<std::uint8_t>(p1 + std::clamp((p2 + ((p0 + q0 + 1) >> 1) - 2 * p1) >> 1, -tc0, tc0));
        if (aq)
            at(1) = static_cast<std::uint8_t>(q1 + std::clamp((q2 + ((p0 + q0 + 1) >> 1) - 2 * q1) >> 1, -tc0, tc0));
        return;
    }
    const bool small = std::abs(p0 - q0) < (alpha >> 2) + 2;
    const int p3 = at(-4), q3 = at(3);
    if (ap && small) {
        at(-1) = static_cast<std::uint8_t>((p2 + 2 * p1 + 2 * p0 + 2 * q0 + q1 + 4) >> 3);
        at(-2) = static_cast<std::uint8_t>((p2 + p1 + p0 + q0 + 2) >> 2);
        at(-3) = static_cast<std::uint8_t>((2 * p3 + 3 * p2 + p1 + p0 + q0 + 4) >> 3);
    } else {
        at(-1) = static_cast<std::uint8_t>((2 * p1 + p0 + q1 + 2) >> 2);
    }
    if (aq && small) {
        at(0) = static_cast<std::uint8_t>((p1 + 2 * p0 + 2 * q0 + 2 * q1 + q2 + 4) >> 3);
        at(1) = static_cast<std::uint8_t>((p0 + q0 + q1 + q2 + 2) >> 2);
        at(2) = static_cast<std::uint8_t>((2 * q3 + 3 * q2 + q1 + q0 + p0 + 4) >> 3);
    } else {
        at(0) = static_cast<std::uint8_t>((2 * q1 + q0 + p1 + 2) >> 2);
    }
}

void H264Reconstruction::filter_edge(int plane, Done& q, int edge, bool vertical) {
    const int scale = plane == 0 ? 1 : 2, length = 16 / scale;
    const bool outer = edge == 0;
    Done* p = &q;
    if (outer) p = &q - (vertical ? 1 : columns_);
    for (int k = 0; k < length; ++k) {
        const int along = k * scale / 4;  // block along the edge
        const int q_block = vertical ? along * 4 + edge : edge * 4 + along;
        const int before = outer ? 3 : edge - 1;
        const int p_block = vertical ? along * 4 + before : before * 4 + along;
        const int bs = strength(*p, q, p_block, q_block, outer, vertical);
        const int across = 4 * edge / scale;
        const auto at = [&](int distance) -> std::uint8_t& {
            return vertical ? sample(plane, q.x / scale + across + distance, q.y / scale + k)
                            : sample(plane, q.x / scale + k, q.y / scale + across + distance);
        };
        filter_line(plane, bs, *p, q, at);
    }
}

void H264Reconstruction::deblock(int address) {
    Done& q = done_[static_cast<std::size_t>(address)];
    if (q.slice == nullptr || q.slice->filter == 1) return;
    const auto filtered = [&](bool there, int step) {
        return there &&
               (q.slice->filter != 2 || done_[static_cast<std::size_t>(address - step)].slice_number == q.slice_number);
    };
    for (int plane = 0; plane < 3; ++plane) {
        for (const bool vertical : {true, false}) {
            const bool outer = vertical ? filtered(q.x > 0, 1) : filtered(q.y > 0, columns_);
            for (int edge = 0; edge < 4; ++edge) {
                if (edge == 0 && !outer) continue;
                if (plane == 0 ? edge % 2 == 1 && q.transform8 : edge % 2 == 1) continue;
                filter_edge(plane, q, edge, vertical);
            }
        }
    }
}

// In an adaptive frame: what lies beside and above may be of the other kind.
void H264Reconstruction::deblock_of_pair(int address) {
    Done& q = done_[static_cast<std::size_t>(address)];
    if (q.slice == nullptr || q.slice->filter == 1) return;
    const int pair = address / 2, top_of_pair = q.y & ~31;
    const auto upper_of = [&](bool there, int step) -> const Done* {  // of the pair before
        if (!there) return nullptr;
        const Done* const mb = &done_[static_cast<std::size_t>(2 * (pair - step))];
        return q.slice->filter == 2 && mb->slice_number != q.slice_number ? nullptr : mb;
    };
    const Done* const left = upper_of(q.x > 0, 1);
    const Done* const above = upper_of(top_of_pair > 0, columns_);
    for (int plane = 0; plane < 3; ++plane) {
        const int scale = plane == 0 ? 1 : 2, size = 16 / scale;
        const auto block = [&](int row, int column) { return row * scale / 4 * 4 + column; };
        for (int edge = 0; edge < 4; edge += scale) {
            if (edge == 0 && left == nullptr) continue;
            for (int k = 0; k < size; ++k) {
                const int row = row_of(q, plane, k);
                const Done* p = &q;
                int p_block = block(k, edge - 1);
                if (edge == 0) {
                    const int inside = row - top_of_pair / scale;
                    p = left + (left->field ? inside % 2 : inside / size);
                    p_block = block(left->field ? inside / 2 : inside % size, 3);
                }
                filter_line(plane, strength(*p, q, p_block, block(k, edge), edge == 0, true), *p, q,
                            [&](int distance) -> std::uint8_t& {
                                return sample(plane, (q.x + 4 * edge) / scale + distance, row);
                            });
            }
        }
        // `from` of q's block row `edge`; rows lie `step` apart in the frame.
        const auto across = [&](const Done& p, int p_row, int edge, int from, int step) {
            for (int k = 0; k < size; ++k) {
                const int column = k * scale / 4;
                filter_line(plane, strength(p, q, p_row * 4 + column, edge * 4 + column, edge == 0, false), p, q,
                            [&](int distance) -> std::uint8_t& {
                                return sample(plane, q.x / scale + k, from + step * distance);
                            });
            }
        };
        const int step = q.field ? 2 : 1, first = row_of(q, plane, 0);
        if (!q.field && q.lower) {
            across(done_[static_cast<std::size_t>(address - 1)], 3, 0, first, 1);
        } else if (above != nullptr && !q.field && above->field) {
            // Each field by itself.
            for (int field = 0; field < 2; ++field) across(above[field], 3, 0, first + field, 2);
        } else if (above != nullptr) {
            across(above[q.field && above->field && !q.lower ? 0 : 1], 3, 0, first, step);
        }
        for (int edge = scale; edge < 4; edge += scale)
            across(q, edge - 1, edge, row_of(q, plane, 4 * edge / scale), step);
    }
}

void H264Reconstruction::end_picture() {
    for (int address = 0; address < columns_ * rows_; ++address) {
        if (adaptive_) {
            deblock_of_pair(address);
        } else {
            deblock(address);
        }
    }
}

Picture H264Reconstruction::shown(const H264Frame& frame) const {
    Picture picture = Picture::allocate(sps_.width, sps_.height);
    for (int plane = 0; plane < 3; ++plane) {
        const int scale = plane == 0 ? 1 : 2, width = frame.width / scale;
        for (int y = 0; y < sps_.height / scale; ++y) {
            const std::uint8_t* from = frame.planes[static_cast<std::size_t>(plane)].data() +
                                       (sps_.crop_top / scale + y) * width + sps_.crop_left / scale;
            std::copy_n(from, sps_.width / scale, picture.planes[plane] + y * picture.strides[plane]);
        }
    }
    return picture;
}

}  // namespace wavecrest::test
