// What a step of effort costs, and what a step of quality looks like, in each video codec: time of a picture against
// H.264's at the same effort, and SSIM and bit rate at the same quality. The material is the moving test card with
// grain as film has it, since a clean card costs next to nothing.
//
//   bench_encoders [pictures] [width] [height] [grain, in levels]
#include <fmt/format.h>

#include <algorithm>
#include <cstdlib>
#include <random>

#include "base/clock.hpp"
#include "codec/video_decoder.hpp"
#include "codec/video_encoder.hpp"
#include "measure/picture_quality.hpp"
#include "sample/test_card.hpp"

using namespace wavecrest;

namespace {

std::vector<Picture> grainy_card(int count, int width, int height, float deviation) {
    sample::CardSettings settings;
    settings.width = width;
    settings.height = height;
    const sample::TestCard card(settings);
    std::vector<Picture> pictures;
    std::mt19937 random(7);
    std::normal_distribution<float> grain(0, std::max(deviation, 0.001f));
    // A field of grain that is shifted about: drawing it anew would take longer than encoding.
    std::vector<float> field(1 << 20);
    for (float& value : field) value = grain(random);
    for (int i = 0; i < count; ++i) {
        Picture picture = card.draw(i);
        std::size_t at = random() % field.size();
        for (int y = 0; y < height; ++y) {
            for (int x = 0; x < width; ++x) {
                std::uint8_t& sample = picture.planes[0][y * picture.strides[0] + x];
                sample = static_cast<std::uint8_t>(
                    std::clamp(static_cast<float>(sample) + field[at++ % field.size()] + 0.5f, 1.0f, 254.0f));
            }
        }
        pictures.push_back(std::move(picture));
    }
    return pictures;
}

struct Measured {
    double ms = 0, ssim = 0, kbps = 0;
};

Measured measured(const std::vector<Picture>& pictures, Codec codec, int effort, double quality) {
    codec::VideoEncoderSettings settings;
    settings.codec = codec;
    settings.width = pictures.front().width;
    settings.height = pictures.front().height;
    settings.frame_rate = {24000, 1001};
    settings.effort = effort;
    settings.quality = quality;
    auto encoder = codec::make_video_encoder(settings);
    if (!encoder) std::exit(1);
    std::vector<Packet> packets;
    const base::RealClock clock;
    for (const Picture& picture : pictures) {
        if (!(*encoder)->encode(picture, packets)) std::exit(1);
    }
    if (!(*encoder)->flush(packets)) std::exit(1);
    Measured result;
    result.ms = base::to_seconds(clock.now()) * 1000 / static_cast<double>(pictures.size());
    auto decoder = codec::make_video_decoder((*encoder)->track());
    if (!decoder) std::exit(1);
    std::vector<Picture> decoded;
    std::size_t bytes = 0;
    for (const Packet& packet : packets) {
        bytes += packet.data.size();
        if (!(*decoder)->decode(packet, decoded)) std::exit(1);
    }
    if (!(*decoder)->flush(decoded) || decoded.size() != pictures.size()) std::exit(1);
    for (std::size_t i = 0; i < decoded.size(); ++i)
        result.ssim += measure::compare(pictures[i], decoded[i])->ssim / static_cast<double>(decoded.size());
    result.kbps = static_cast<double>(bytes) * 8 * 24 / 1.001 / static_cast<double>(decoded.size()) / 1000;
    return result;
}

}  // namespace

int main(int argc, char** argv) {
    const int count = argc > 1 ? std::atoi(argv[1]) : 96;
    const int width = argc > 2 ? std::atoi(argv[2]) : 854, height = argc > 3 ? std::atoi(argv[3]) : 480;
    const float grain = argc > 4 ? static_cast<float>(std::atof(argv[4])) : 1.5f;
    const std::vector<Picture> pictures = grainy_card(count, width, height, grain);
    constexpr Codec kCodecs[] = {Codec::h264, Codec::h265, Codec::vp9, Codec::av1};
    fmt::print("{}x{}, {} pictures, grain {}\n\n{:<8}{:>10}{:>12}{:>12}{:>10}\n", width, height, count, grain, "effort",
               "codec", "ms/picture", "of H.264's", "SSIM");
    for (const int effort : {2, 5, 8}) {
        double reference = 0;
        for (const Codec codec : kCodecs) {
            const Measured m = measured(pictures, codec, effort, 75);
            if (codec == Codec::h264) reference = m.ms;
            fmt::print("{:<8}{:>10}{:>12.1f}{:>12.2f}{:>10.4f}\n", effort, media::display_name(codec), m.ms,
                       m.ms / reference, m.ssim);
        }
    }
    fmt::print("\n{:<8}{:>10}{:>10}{:>14}{:>12}\n", "quality", "codec", "SSIM", "off H.264's", "kbit/s");
    for (const double quality : {50.0, 65.0, 80.0, 95.0}) {
        double reference = 0;
        for (const Codec codec : kCodecs) {
            const Measured m = measured(pictures, codec, 5, quality);
            if (codec == Codec::h264) reference = m.ssim;
            fmt::print("{:<8g}{:>10}{:>10.4f}{:>+14.4f}{:>12.0f}\n", quality, media::display_name(codec), m.ssim,
                       m.ssim - reference, m.kbps);
        }
    }
}
