#include "filter/scale.hpp"

#include <fmt/format.h>
#include <zimg.h>

#include <new>

namespace wavecrest::filter {

struct Scaler::State {
    zimg_filter_graph* graph = nullptr;
    int from_width, from_height, to_width, to_height;
    Ratio pixel_aspect;
    void* scratch = nullptr;

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
        return fail(ErrorKind::usage, "the picture can't be resized this way",
                    fmt::format("{}x{} to {}x{}", from_width, from_height, to_width, to_height),
                    "choose another picture size in the profile");
    }
    state->scratch = ::operator new (scratch, std::align_val_t{64});
    return std::unique_ptr<Scaler>(new Scaler(std::move(state)));
}

Result<Picture> Scaler::apply(const Picture& picture) {
    const State& s = *state_;
    if (picture.width != s.from_width || picture.height != s.from_height) {
        return fail(ErrorKind::input,
                    fmt::format("the picture size changes to {}x{} inside the title", picture.width, picture.height),
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
        return fail(ErrorKind::input, "resizing a picture failed", "video track",
                    "choose another picture size in the profile");
    }
    result.pixel_aspect = s.pixel_aspect;
    if (result.frame_packing && result.frame_packing->interleaved()) result.frame_packing.reset();
    return result;
}

}  // namespace wavecrest::filter
