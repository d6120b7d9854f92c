#include "filter/scale.hpp"

#include <fmt/format.h>
#include <zimg.h>

#include <algorithm>
#include <cmath>
#include <cstring>
#include <new>
#include <vector>

namespace wavecrest::filter {

namespace {

// Beside a hard edge a resampling filter swings beyond what the source has there; more than this is seen as a bright or
// dark line.
constexpr int kOvershoot = 6;

// The samples of a line that an output sample lies between or is made of.
struct Range {
    int from = 0, to = 0;  // inclusive
};
std::vector<Range> ranges(int from, int to) {
    std::vector<Range> out(static_cast<std::size_t>(to));
    const double step = static_cast<double>(from) / to, reach = std::max(0.5, step / 2);
    for (int i = 0; i < to; ++i) {
        const double centre = (i + 0.5) * step - 0.5;
        out[static_cast<std::size_t>(i)] = {std::clamp(static_cast<int>(std::floor(centre - reach)), 0, from - 1),
                                            std::clamp(static_cast<int>(std::ceil(centre + reach)), 0, from - 1)};
    }
    return out;
}

// For each place the least of so many samples from there on, lowered by what may be swung; the same for the most.
void spread(std::vector<std::uint8_t>& least, std::vector<std::uint8_t>& most, std::size_t width, std::size_t span) {
    for (std::size_t step = 1; step < span; ++step) {
        for (std::size_t x = 0; x + 1 < width; ++x) {
            least[x] = std::min(least[x], least[x + 1]);
            most[x] = std::max(most[x], most[x + 1]);
        }
    }
    for (std::size_t x = 0; x < width; ++x) {
        least[x] = static_cast<std::uint8_t>(std::max(least[x] - kOvershoot, 0));
        most[x] = static_cast<std::uint8_t>(std::min(most[x] + kOvershoot, 255));
    }
}

// Keeps a plane's samples near those of the source around them.
void limit_overshoot(const Picture& from, Picture& to, int plane, const std::vector<Range>& rows,
                     const std::vector<Range>& columns) {
    const auto width = static_cast<std::size_t>(plane == 0 ? from.width : (from.width + 1) / 2);
    std::vector<std::uint8_t> least(width), most(width);
    int span = 1;
    for (const Range& column : columns) span = std::max(span, column.to - column.from + 1);
    Range done{-1, -1};
    for (std::size_t y = 0; y < rows.size(); ++y) {
        if (rows[y].from != done.from || rows[y].to != done.to) {
            done = rows[y];
            const auto line = [&](int row) { return from.planes[plane] + row * from.strides[plane]; };
            std::memcpy(least.data(), line(done.from), width);
            std::memcpy(most.data(), line(done.from), width);
            for (int row = done.from + 1; row <= done.to; ++row) {
                const std::uint8_t* samples = line(row);
                for (std::size_t x = 0; x < width; ++x) {
                    least[x] = std::min(least[x], samples[x]);
                    most[x] = std::max(most[x], samples[x]);
                }
            }
            spread(least, most, width, static_cast<std::size_t>(span));
        }
        std::uint8_t* out = to.planes[plane] + static_cast<std::ptrdiff_t>(y) * to.strides[plane];
        for (std::size_t x = 0; x < columns.size(); ++x) {
            const auto at = static_cast<std::size_t>(columns[x].from);
            out[x] = std::min(std::max(out[x], least[at]), most[at]);
        }
    }
}

}  // namespace

struct Scaler::State {
    zimg_filter_graph* graph = nullptr;
    int from_width, from_height, to_width, to_height;
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
                                               Ratio pixel_aspect) {
    auto state = std::make_unique<State>();
    state->from_width = from_width;
    state->from_height = from_height;
    state->to_width = to_width;
    state->to_height = to_height;
    state->pixel_aspect = pixel_aspect;
    for (int i = 0; i < 2; ++i) {
        const auto part = [&](int size) { return i == 0 ? size : (size + 1) / 2; };
        state->rows[i] = ranges(part(from_height), part(to_height));
        state->columns[i] = ranges(part(from_width), part(to_width));
    }
    zimg_image_format from, to;
    zimg_image_format_default(&from, ZIMG_API_VERSION);
    from.width = static_cast<unsigned>(from_width);
    from.height = static_cast<unsigned>(from_height);
    from.pixel_type = ZIMG_PIXEL_BYTE;
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
        limit_overshoot(picture, result, i, s.rows[part], s.columns[part]);
    }
    result.pixel_aspect = s.pixel_aspect;
    if (result.frame_packing && result.frame_packing->interleaved()) result.frame_packing.reset();
    return result;
}

}  // namespace wavecrest::filter
