#include "filter/scale.hpp"

#include <fmt/format.h>
#include <zimg.h>

#include <algorithm>
#include <cmath>
#include <cstring>
#include <new>
#include <type_traits>
#include <vector>

#include "base/wide.hpp"

namespace wavecrest::filter {

namespace {

// Beside a hard edge a resampling filter swings beyond what the source has there; more than this, of 8 bits, is seen as
// a bright or dark line.
constexpr int kOvershoot = 6;

// The samples of a line that an output sample lies between or is made of.
struct Range {
    int from = 0, to = 0;  // inclusive
};
std::vector<Range> ranges(int from, int to) {
    std::vector<Range> out(static_cast<std::size_t>(to));
    const double step = static_cast<double>(from) / to, reach = std::max(0.5, step / 2);
    for (int i = 0; i < to; ++i) {
        if (from == to) {  // not resampled this way
            out[static_cast<std::size_t>(i)] = {i, i};
            continue;
        }
        const double centre = (i + 0.5) * step - 0.5;
        out[static_cast<std::size_t>(i)] = {std::clamp(static_cast<int>(std::floor(centre - reach)), 0, from - 1),
                                            std::clamp(static_cast<int>(std::ceil(centre + reach)), 0, from - 1)};
    }
    return out;
}

// The least and the most of some rows at each place.
template <typename Sample>
WAVECREST_INLINE void fold_rows(const Sample* const* rows, std::size_t count, std::size_t width,
                                Sample* __restrict least, Sample* __restrict most) {
    const Sample *const first = rows[0], *const last = rows[count - 1];
    for (std::size_t x = 0; x < width; ++x) {
        least[x] = std::min(first[x], last[x]);
        most[x] = std::max(first[x], last[x]);
    }
    for (std::size_t i = 1; i + 1 < count; ++i) {
        const Sample* const row = rows[i];
        for (std::size_t x = 0; x < width; ++x) {
            least[x] = std::min(least[x], row[x]);
            most[x] = std::max(most[x], row[x]);
        }
    }
}

// The same of so many places from each on, in steps that double; the last `span` of them are right only as far as the
// row goes.
template <typename Sample>
WAVECREST_INLINE void fold_columns(std::size_t width, std::size_t span, Sample* least, Sample* most) {
    for (std::size_t have = 1; have < span;) {
        const std::size_t step = std::min(have, span - have);
        for (std::size_t x = 0; x + step < width; ++x) {
            least[x] = std::min(least[x], least[x + step]);
            most[x] = std::max(most[x], most[x + step]);
        }
        have += step;
    }
}

// Samples of a row are kept within what is around them, and so much more.
template <typename Sample>
WAVECREST_INLINE void keep_within(const std::uint32_t* at, std::size_t width, const Sample* least, const Sample* most,
                                  int overshoot, Sample* __restrict out) {
    constexpr std::size_t kRun = 128;
    std::int16_t low[kRun], high[kRun];
    for (std::size_t from = 0; from < width; from += kRun) {
        const std::size_t count = std::min(kRun, width - from);
        for (std::size_t x = 0; x < count; ++x) {
            low[x] = least[at[from + x]];
            high[x] = most[at[from + x]];
        }
        for (std::size_t x = 0; x < count; ++x) {
            const auto now = static_cast<std::int16_t>(out[from + x]);
            const auto floor = static_cast<std::int16_t>(low[x] - overshoot);
            const auto ceiling = static_cast<std::int16_t>(high[x] + overshoot);
            const std::int16_t up = now > floor ? now : floor;
            out[from + x] = static_cast<Sample>(up < ceiling ? up : ceiling);
        }
    }
}

// (Samples of 10 bits as signed numbers, which old vector units find the least and most of.)
template <typename Sample>
struct RowsAround {
    const Sample* rows[64];
    std::size_t count, from_width, span;
};
WAVECREST_WIDE void fold(const RowsAround<std::uint8_t>& a, std::uint8_t* least, std::uint8_t* most) {
    fold_rows(a.rows, a.count, a.from_width, least, most);
    fold_columns(a.from_width, a.span, least, most);
}
WAVECREST_WIDE void fold(const RowsAround<std::int16_t>& a, std::int16_t* least, std::int16_t* most) {
    fold_rows(a.rows, a.count, a.from_width, least, most);
    fold_columns(a.from_width, a.span, least, most);
}

WAVECREST_WIDE void keep(const std::uint32_t* at, std::size_t width, const std::uint8_t* least,
                         const std::uint8_t* most, int overshoot, std::uint8_t* out) {
    keep_within(at, width, least, most, overshoot, out);
}
WAVECREST_WIDE void keep(const std::uint32_t* at, std::size_t width, const std::int16_t* least,
                         const std::int16_t* most, int overshoot, std::int16_t* out) {
    keep_within(at, width, least, most, overshoot, out);
}

// Half as many rows and columns, as 2160p becomes 1080p: an output sample lies between the second and third of four
// rows and four columns. The least and the most of two rows and two columns each are found once, for all that they lie
// beside: of columns 2n-1 and 2n, for n from 0 to half the width.
template <typename Sample>
WAVECREST_INLINE void fold_pairs(const Sample* __restrict a, const Sample* __restrict b, std::size_t width,
                                 Sample* __restrict least, Sample* __restrict most) {
    const std::size_t half = width / 2;
    least[0] = std::min(a[0], b[0]);
    most[0] = std::max(a[0], b[0]);
    for (std::size_t n = 1; n < half; ++n) {
        const Sample al = a[2 * n - 1] < a[2 * n] ? a[2 * n - 1] : a[2 * n];
        const Sample am = a[2 * n - 1] > a[2 * n] ? a[2 * n - 1] : a[2 * n];
        const Sample bl = b[2 * n - 1] < b[2 * n] ? b[2 * n - 1] : b[2 * n];
        const Sample bm = b[2 * n - 1] > b[2 * n] ? b[2 * n - 1] : b[2 * n];
        least[n] = al < bl ? al : bl;
        most[n] = am > bm ? am : bm;
    }
    least[half] = std::min(a[width - 1], b[width - 1]);
    most[half] = std::max(a[width - 1], b[width - 1]);
}
template <typename Sample>
struct Pairs {
    std::vector<Sample> least, most;
    explicit Pairs(std::size_t count) : least(count), most(count) {}
};
template <typename Sample>
struct PairsAround {
    const Sample *upper_least, *upper_most, *lower_least, *lower_most;
};
template <typename Sample>
WAVECREST_INLINE void keep_within_pairs(const PairsAround<Sample>& a, std::size_t width, int overshoot,
                                        Sample* __restrict out) {
    const Sample *const ul = a.upper_least, *const um = a.upper_most, *const ll = a.lower_least,
                        *const lm = a.lower_most;
    const auto more = static_cast<std::int16_t>(overshoot);
    for (std::size_t x = 0; x < width; ++x) {
        const Sample u_low = ul[x] < ul[x + 1] ? ul[x] : ul[x + 1], l_low = ll[x] < ll[x + 1] ? ll[x] : ll[x + 1];
        const Sample u_high = um[x] > um[x + 1] ? um[x] : um[x + 1], l_high = lm[x] > lm[x + 1] ? lm[x] : lm[x + 1];
        const auto floor = static_cast<std::int16_t>((u_low < l_low ? u_low : l_low) - more);
        const auto ceiling = static_cast<std::int16_t>((u_high > l_high ? u_high : l_high) + more);
        const auto now = static_cast<std::int16_t>(out[x]);
        const std::int16_t up = now > floor ? now : floor;
        out[x] = static_cast<Sample>(up < ceiling ? up : ceiling);
    }
}
WAVECREST_WIDE void fold_two(const std::uint8_t* a, const std::uint8_t* b, std::size_t width, std::uint8_t* least,
                             std::uint8_t* most) {
    fold_pairs(a, b, width, least, most);
}
WAVECREST_WIDE void fold_two(const std::int16_t* a, const std::int16_t* b, std::size_t width, std::int16_t* least,
                             std::int16_t* most) {
    fold_pairs(a, b, width, least, most);
}
WAVECREST_WIDE void keep_two(const PairsAround<std::uint8_t>& around, std::size_t width, int overshoot,
                             std::uint8_t* out) {
    keep_within_pairs(around, width, overshoot, out);
}
WAVECREST_WIDE void keep_two(const PairsAround<std::int16_t>& around, std::size_t width, int overshoot,
                             std::int16_t* out) {
    keep_within_pairs(around, width, overshoot, out);
}

template <typename Sample>
void limit_overshoot_of_half(const Picture& from, Picture& to, int plane) {
    const auto width = static_cast<std::size_t>(from.plane_width(plane));
    const int height = to.plane_height(plane);
    Pairs<Sample> upper(width / 2 + 1), lower(width / 2 + 1);
    const auto fold = [&](int pair, Pairs<Sample>& into) {
        const int a = std::max(2 * pair - 1, 0), b = std::min(2 * pair, 2 * height - 1);
        fold_two(from.row<const Sample>(plane, a), from.row<const Sample>(plane, b), width, into.least.data(),
                 into.most.data());
    };
    fold(0, upper);
    for (int y = 0; y < height; ++y) {
        fold(y + 1, lower);
        const PairsAround<Sample> around{upper.least.data(), upper.most.data(), lower.least.data(), lower.most.data()};
        keep_two(around, width / 2, kOvershoot << (from.bit_depth - 8), to.row<Sample>(plane, y));
        std::swap(upper, lower);
    }
}

// Keeps a plane's samples near those of the source around them.
template <typename Sample>
void limit_overshoot(const Picture& from, Picture& to, int plane, const std::vector<Range>& rows,
                     const std::vector<Range>& columns) {
    if (from.plane_width(plane) == 2 * to.plane_width(plane) && from.plane_height(plane) == 2 * to.plane_height(plane))
        return limit_overshoot_of_half<Sample>(from, to, plane);
    const auto width = static_cast<std::size_t>(from.plane_width(plane));
    std::vector<Sample> least(width), most(width);
    std::vector<std::uint32_t> at;
    RowsAround<Sample> around{};
    around.span = 1;
    for (const Range& column : columns) {
        around.span = std::max(around.span, static_cast<std::size_t>(column.to - column.from + 1));
        at.push_back(static_cast<std::uint32_t>(column.from));
    }
    around.from_width = width;
    const int overshoot = kOvershoot << (from.bit_depth - 8);
    Range done{-1, -1};
    for (std::size_t y = 0; y < rows.size(); ++y) {
        if (rows[y].from != done.from || rows[y].to != done.to) {
            done = rows[y];
            // Of very many rows some are enough: what is drawn together that far does not ring.
            const int step = (done.to - done.from) / static_cast<int>(std::size(around.rows)) + 1;
            around.count = 0;
            for (int row = done.from; row <= done.to; row += step)
                around.rows[around.count++] = from.row<const Sample>(plane, row);
            fold(around, least.data(), most.data());
        }
        keep(at.data(), columns.size(), least.data(), most.data(), overshoot,
             to.row<Sample>(plane, static_cast<int>(y)));
    }
}

}  // namespace

struct Scaler::State {
    zimg_filter_graph* graph = nullptr;
    int from_width, from_height, to_width, to_height, bit_depth;
    Ratio pixel_aspect;
    void* scratch = nullptr;
    std::vector<Range> rows[2], columns[2];  // of luma, of chroma

    ~State() {
        zimg_filter_graph_free(graph);
        ::operator delete (scratch, std::align_val_t{64});
    }
};

Scaler::Scaler(std::unique_ptr<State> state) : state_(std::move(state)) {}
Scaler::~Scaler() = default;

Result<std::unique_ptr<Scaler>> Scaler::create(int from_width, int from_height, int to_width, int to_height,
                                               Ratio pixel_aspect, int bit_depth) {
    auto state = std::make_unique<State>();
    state->from_width = from_width;
    state->from_height = from_height;
    state->to_width = to_width;
    state->to_height = to_height;
    state->pixel_aspect = pixel_aspect;
    state->bit_depth = bit_depth;
    for (int i = 0; i < 2; ++i) {
        const auto part = [&](int size) { return i == 0 ? size : (size + 1) / 2; };
        state->rows[i] = ranges(part(from_height), part(to_height));
        state->columns[i] = ranges(part(from_width), part(to_width));
    }
    zimg_image_format from, to;
    zimg_image_format_default(&from, ZIMG_API_VERSION);
    from.width = static_cast<unsigned>(from_width);
    from.height = static_cast<unsigned>(from_height);
    from.pixel_type = bit_depth > 8 ? ZIMG_PIXEL_WORD : ZIMG_PIXEL_BYTE;
    from.depth = static_cast<unsigned>(bit_depth);
    from.subsample_w = from.subsample_h = 1;
    from.color_family = ZIMG_COLOR_YUV;
    from.chroma_location = ZIMG_CHROMA_LEFT;
    to = from;
    to.width = static_cast<unsigned>(to_width);
    to.height = static_cast<unsigned>(to_height);
    zimg_graph_builder_params params;
    zimg_graph_builder_params_default(&params, ZIMG_API_VERSION);
    params.resample_filter = ZIMG_RESIZE_SPLINE36;
    params.cpu_type = ZIMG_CPU_AUTO_64B;
    state->graph = zimg_filter_graph_build(&from, &to, &params);
    std::size_t scratch = 0;
    if (state->graph == nullptr || zimg_filter_graph_get_tmp_size(state->graph, &scratch) != ZIMG_ERROR_SUCCESS) {
        return fail(ErrorKind::usage, "the video can't be scaled this way",
                    fmt::format("{}x{} to {}x{}", from_width, from_height, to_width, to_height),
                    "choose another video size in the profile");
    }
    state->scratch = ::operator new (scratch, std::align_val_t{64});
    return std::unique_ptr<Scaler>(new Scaler(std::move(state)));
}

Result<Picture> Scaler::apply(const Picture& picture) {
    const State& s = *state_;
    if (picture.bit_depth != s.bit_depth)
        return fail(ErrorKind::input, fmt::format("the bit depth changes to {} inside the title", picture.bit_depth),
                    "video track", "such titles can't be converted yet");
    if (picture.width != s.from_width || picture.height != s.from_height) {
        return fail(ErrorKind::input,
                    fmt::format("the video size changes to {}x{} inside the title", picture.width, picture.height),
                    "video track", "such titles can't be converted yet");
    }
    Picture result = picture.allocate_alike(s.to_width, s.to_height);
    zimg_image_buffer_const from{};
    zimg_image_buffer to{};
    from.version = to.version = ZIMG_API_VERSION;
    for (int i = 0; i < 3; ++i) {
        from.plane[i] = {picture.planes[i], picture.strides[i], ZIMG_BUFFER_MAX};
        to.plane[i] = {result.planes[i], result.strides[i], ZIMG_BUFFER_MAX};
    }
    if (zimg_filter_graph_process(s.graph, &from, &to, s.scratch, nullptr, nullptr, nullptr, nullptr) !=
        ZIMG_ERROR_SUCCESS) {
        return fail(ErrorKind::input, "scaling a frame failed", "video track",
                    "choose another video size in the profile");
    }
    for (int i = 0; i < 3; ++i) {
        const std::size_t part = i == 0 ? 0 : 1;
        media::with_sample_type(picture.bit_depth, [&](auto sample) {
            using Work = std::conditional_t<sizeof(sample) == 1, std::uint8_t, std::int16_t>;
            limit_overshoot<Work>(picture, result, i, s.rows[part], s.columns[part]);
        });
    }
    result.pixel_aspect = s.pixel_aspect;
    if (result.frame_packing && result.frame_packing->interleaved()) result.frame_packing.reset();
    return result;
}

}  // namespace wavecrest::filter
