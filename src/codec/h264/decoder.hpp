// How the decoder works, for tests and benchmarks; everybody else asks make_video_decoder().
#pragma once

#include <memory>

#include "codec/h264/kernels.hpp"
#include "media/flow.hpp"

namespace wavecrest::codec {

struct H264DecoderSettings {
    int threads = 0;  // the caller's included; 0: as many as serve, by the machine and the pictures' size
    const h264::Kernels* kernels = nullptr;
};
std::unique_ptr<media::VideoDecoder> make_h264_decoder(const Track& track, const H264DecoderSettings& settings);

}  // namespace wavecrest::codec
