// What it costs to make Ultra HD film of high dynamic range fit for a full-HD screen: scaling 2160p to 1080p and tone
// mapping, against encoding the result (H.264, effort 2). Processor time of all threads.
//
//   bench_tone_map [pictures]
#include <fmt/format.h>

#include <algorithm>
#include <cstdlib>
#include <ctime>
#include <random>

#include "codec/video_encoder.hpp"
#include "filter/scale.hpp"
#include "filter/tone_map.hpp"
#include "sample/test_card.hpp"

using namespace wavecrest;

namespace {

double processor_ms() {
    timespec now{};
    clock_gettime(CLOCK_PROCESS_CPUTIME_ID, &now);
    return static_cast<double>(now.tv_sec) * 1e3 + static_cast<double>(now.tv_nsec) / 1e6;
}

}  // namespace

int main(int argc, char** argv) {
    const int count = argc > 1 ? std::atoi(argv[1]) : 48;
    sample::CardSettings card_settings;
    card_settings.width = 3840;
    card_settings.height = 2160;
    const sample::TestCard card(card_settings);
    const filter::SdrInHdr hdr({9, media::kTransferPq, 9, false});
    std::vector<Picture> sources;  // a few in turn: drawing takes long
    std::mt19937 random(7);
    for (int i = 0; i < 8; ++i) {
        Picture picture = sample::draw_hdr_card(hdr, card.draw(i));
        // Grain as film has it: 2.5 levels of 8 bits.
        for (int y = 0; y < picture.height; ++y) {
            auto* row = picture.row<std::uint16_t>(0, y);
            for (int x = 0; x < picture.width; ++x)
                row[x] = static_cast<std::uint16_t>(std::clamp(row[x] + static_cast<int>(random() % 35) - 17, 4, 1019));
        }
        sources.push_back(std::move(picture));
    }
    Track track;
    track.colour = {9, media::kTransferPq, 9, false};
    const filter::ToneMapper mapper(track);
    auto scaler = filter::Scaler::create(3840, 2160, 1920, 1080, {1, 1}, 10);
    codec::VideoEncoderSettings settings;
    settings.width = 1920;
    settings.height = 1080;
    settings.effort = 2;
    auto encoder = codec::make_video_encoder(settings);
    if (!scaler || !encoder) return 1;
    // One after the other: the encoder's threads would be counted with what is done meanwhile.
    std::vector<Picture> made;
    double scaling = 0, mapping = 0;
    for (int i = 0; i < count; ++i) {
        const double begun = processor_ms();
        auto scaled = (*scaler)->apply(sources[static_cast<std::size_t>(i % 8)]);
        if (!scaled) return 1;
        const double at = processor_ms();
        made.push_back(mapper.apply(*scaled));
        made.back().pts = base::frames_to_time(i, {24, 1});
        scaling += at - begun;
        mapping += processor_ms() - at;
    }
    const double begun = processor_ms();
    std::vector<Packet> packets;
    for (const Picture& picture : made) {
        if (!(*encoder)->encode(picture, packets)) return 1;
    }
    if (!(*encoder)->flush(packets)) return 1;
    const double encoding = processor_ms() - begun;
    fmt::print("a picture: scaling {:.1f} ms, tone mapping {:.1f} ms, encoding {:.1f} ms\n", scaling / count,
               mapping / count, encoding / count);
    fmt::print("scaling and tone mapping over encoding: {:.2f} (limit 0.33)\n", (scaling + mapping) / encoding);
}
