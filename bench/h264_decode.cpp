// H.264 pictures: our decoder beside openh264, on a stream that the latter decodes rightly (no B partitions of 8x8).
//
//   bench_h264_decode [FRAMES [STREAM]]      (1080p, 150 frames; one stream alone, from 1)
//
// Prints pictures a second of both on one core and of ours on two, and the ratios (to reach: 1.0 times openh264 on one
// core, 1.7 times that on two), for the kernels of this processor and for the plain ones. Two cores are compared with
// one run after run, and so are two decoders side by side, each on one core: what this machine can give at all. And
// the memory that decoding takes at its peak, in decoded picture buffers (to reach: 1.1): with coded pictures that are
// kept when decode() has returned, without the one that it is given. The last two streams are ones that openh264
// doesn't decode rightly: with all partitions, and of adaptive frames.
#include <fmt/format.h>
#include <malloc.h>
#include <wels/codec_api.h>

#include <algorithm>
#include <atomic>
#include <chrono>
#include <cmath>
#include <cstdlib>
#include <new>
#include <thread>

#include "bitstream/h264.hpp"
#include "bitstream/nal.hpp"
#include "codec/h264/decoder.hpp"
#include "codec/video_encoder.hpp"

using namespace wavecrest;

// Memory from new and all that stands on it, as the library hands it out.
namespace {
std::atomic<std::int64_t> in_use{0}, most{0};
std::atomic<std::int64_t> lent{0};  // of that, what the caller has anyway

void* counted(void* memory) {
    if (memory == nullptr) throw std::bad_alloc();
    const std::int64_t now = (in_use += static_cast<std::int64_t>(::malloc_usable_size(memory))) - lent;
    std::int64_t before = most;
    while (before < now && !most.compare_exchange_weak(before, now)) {
    }
    return memory;
}
void given_back(void* memory) {
    in_use -= static_cast<std::int64_t>(::malloc_usable_size(memory));
    std::free(memory);
}
}  // namespace

void* operator new(std::size_t size) {
    return counted(std::malloc(size));
}
void* operator new(std::size_t size, std::align_val_t align) {
    const auto to = static_cast<std::size_t>(align);
    return counted(std::aligned_alloc(to, (size + to - 1) / to * to));
}
void operator delete(void* memory) noexcept {
    given_back(memory);
}
void operator delete(void* memory, std::size_t) noexcept {
    given_back(memory);
}
void operator delete(void* memory, std::align_val_t) noexcept {
    given_back(memory);
}
void operator delete(void* memory, std::size_t, std::align_val_t) noexcept {
    given_back(memory);
}

namespace {

template <typename T>
T must(Result<T> result) {
    if (!result) {
        fmt::print(stderr, "{}: {}\n", result.error().where, result.error().what);
        std::abort();
    }
    return std::move(*result);
}

// A landscape of waves that moves, with noise: what a camera sees is neither flat nor still.
Picture draw(int width, int height, int number) {
    Picture picture = Picture::allocate(width, height);
    std::uint32_t random = 12345u + static_cast<std::uint32_t>(number);
    for (int c = 0; c < 3; ++c) {
        const int w = c == 0 ? width : width / 2, h = c == 0 ? height : height / 2, scale = c == 0 ? 1 : 2;
        for (int y = 0; y < h; ++y) {
            for (int x = 0; x < w; ++x) {
                const double u = (x * scale + 3 * number) * 0.013, v = (y * scale - number) * 0.017;
                random = random * 1664525u + 1013904223u;
                const double value = 120 + 50 * std::sin(u + 2 * std::sin(v)) + 30 * std::sin(7 * u) * std::cos(5 * v) +
                                     (c == 0 ? static_cast<double>(random >> 28) : 0);
                picture.planes[c][y * picture.strides[c] + x] = static_cast<std::uint8_t>(value);
            }
        }
    }
    return picture;
}

double seconds_since(std::chrono::steady_clock::time_point start) {
    return std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
}

// The most memory that decoding takes at a time, in MB.
double peak(const Track& track, const std::vector<Packet>& packets, int threads) {
    const std::int64_t before = in_use;
    most = before;
    {
        auto decoder = codec::make_h264_decoder(track, {threads, &codec::h264::best_kernels()});
        std::vector<Picture> out;
        for (const Packet& packet : packets) {
            lent = static_cast<std::int64_t>(packet.data.size());
            Packet own = packet;
            own.data = Bytes(ByteVector(packet.data.view().begin(), packet.data.view().end()));
            if (!decoder->decode(own, out)) std::abort();
            out.clear();
            own = {};
            lent = 0;
        }
        if (!decoder->flush(out)) std::abort();
    }
    return static_cast<double>(most - before) / 1e6;
}

// Pictures a second.
double ours(const Track& track, const std::vector<Packet>& packets, const codec::H264DecoderSettings& settings) {
    auto decoder = codec::make_h264_decoder(track, settings);
    std::vector<Picture> out;
    std::size_t count = 0;
    const auto start = std::chrono::steady_clock::now();
    for (const Packet& packet : packets) {
        if (!decoder->decode(packet, out)) std::abort();
        count += out.size();
        out.clear();
    }
    if (!decoder->flush(out)) std::abort();
    count += out.size();
    return static_cast<double>(count) / seconds_since(start);
}

// Of two decoders together, on one core each.
double side_by_side(const Track& track, const std::vector<Packet>& packets) {
    double other = 0;
    std::thread beside([&] { other = ours(track, packets, {1, &codec::h264::best_kernels()}); });
    const double one = ours(track, packets, {1, &codec::h264::best_kernels()});
    beside.join();
    return 2 * std::min(one, other);
}

double middle(std::vector<double> of) {
    std::nth_element(of.begin(), of.begin() + static_cast<std::ptrdiff_t>(of.size() / 2), of.end());
    return of[of.size() / 2];
}

double openh264(const Track& track, const std::vector<Packet>& packets) {
    ISVCDecoder* decoder = nullptr;
    if (WelsCreateDecoder(&decoder) != 0) std::abort();
    SDecodingParam param{};
    param.sVideoProperty.eVideoBsType = VIDEO_BITSTREAM_AVC;
    param.eEcActiveIdc = ERROR_CON_DISABLE;
    decoder->Initialize(&param);
    const auto sets = bitstream::h264::parameter_sets(track.codec_config.view());
    ByteVector head;
    for (const ByteSpan unit : sets->units) bitstream::nal::append_byte_stream(head, unit);
    std::vector<ByteVector> units;
    for (const Packet& packet : packets) {
        ByteVector unit = units.empty() ? head : ByteVector{};
        for (const ByteSpan one : bitstream::nal::split_lengths(packet.data.view()))
            bitstream::nal::append_byte_stream(unit, one);
        units.push_back(std::move(unit));
    }
    std::size_t count = 0;
    const auto start = std::chrono::steady_clock::now();
    for (const ByteVector& unit : units) {
        std::uint8_t* planes[3] = {};
        SBufferInfo info{};
        decoder->DecodeFrameNoDelay(unit.data(), static_cast<int>(unit.size()), planes, &info);
        count += info.iBufferStatus == 1 ? 1 : 0;
    }
    const double speed = static_cast<double>(count) / seconds_since(start);
    WelsDestroyDecoder(decoder);
    return speed;
}

}  // namespace

int main(int argc, char** argv) {
    const int frames = argc > 1 ? std::atoi(argv[1]) : 150, width = 1920, height = 1080;
    struct Kind {
        const char* name;
        const char* profile;
        int effort;  // of our encoder; at 1 no B picture has partitions of 8x8
        int quality;
        bool theirs = true;  // openh264 decodes it rightly
        bool interlaced = false;
    };
    // What films are coded like, and a picture full of noise.
    const Kind kinds[] = {{"CAVLC, P", "baseline", 3, 26},
                          {"CABAC, B", "high", 1, 26},
                          {"CABAC, B, some noise kept", "high", 1, 23},
                          {"CABAC, B, noise kept", "high", 1, 20},
                          {"CABAC, B, all partitions", "high", 5, 23, false},
                          {"CABAC, B, adaptive frames", "high", 5, 20, false, true}};
    const int only = argc > 2 ? std::atoi(argv[2]) : 0;
    for (const Kind& kind : kinds) {
        if (only > 0 && &kind != kinds + only - 1) continue;
        codec::VideoEncoderSettings settings;
        settings.width = width;
        settings.height = height;
        settings.frame_rate = {25, 1};
        settings.effort = kind.effort;
        settings.profile = kind.profile;
        settings.quality = codec::quality_of_rate_factor(kind.quality);
        settings.interlaced = kind.interlaced;
        settings.keyframe_distance = base::from_seconds(4);
        auto encoder = must(codec::make_video_encoder(settings));
        std::vector<Packet> packets;
        for (int i = 0; i < frames; ++i) {
            Picture picture = draw(width, height, i);
            picture.pts = base::frames_to_time(i, {25, 1});
            picture.duration = base::frames_to_time(1, {25, 1});
            if (!encoder->encode(picture, packets)) return 1;
        }
        if (!encoder->flush(packets)) return 1;
        std::uint64_t bytes = 0;
        for (const Packet& packet : packets) bytes += packet.data.size();

        const double memory = peak(encoder->track(), packets, 1), memory_of_two = peak(encoder->track(), packets, 2);
        // As many pictures as are kept to refer to and to wait for their turn, and the one being decoded.
        const auto sps = bitstream::h264::parse_config(encoder->track().codec_config.view());
        const int kept = std::max({sps->reference_frames, sps->buffered_frames, 1}) + 1;
        const double buffer = kept * 1.5 * sps->columns * sps->rows * 256 / 1e6;
        // What else the machine does takes more of two cores than of one: the best of many, and how they compare one
        // run after the other.
        const codec::H264DecoderSettings alone{1, &codec::h264::best_kernels()}, pair{2, alone.kernels};
        double one = 0, two = 0, theirs = 0;
        const double plain = ours(encoder->track(), packets, {1, &codec::h264::plain_kernels()});
        std::vector<double> scaling, possible, against, two_against;
        for (int again = 0; again < 12; ++again) {
            const double now_one = ours(encoder->track(), packets, alone);
            const double now_two = ours(encoder->track(), packets, pair);
            one = std::max(one, now_one);
            two = std::max(two, now_two);
            scaling.push_back(now_two / now_one);
            possible.push_back(side_by_side(encoder->track(), packets) / now_one);
            if (!kind.theirs) continue;
            const double now_theirs = openh264(encoder->track(), packets);
            theirs = std::max(theirs, now_theirs);
            against.push_back(now_one / now_theirs);
            two_against.push_back(now_two / now_theirs);
        }
        fmt::print(
            "{}, {:.1f} Mbit/s: pictures a second: ours {:.0f} ({}; plain kernels {:.0f}), on two cores {:.0f}\n",
            kind.name, static_cast<double>(bytes) * 8 * 25 / frames / 1e6, one, alone.kernels->name, plain, two);
        if (kind.theirs)
            fmt::print(
                "  openh264 {:.0f}: ours {:.2f} times that on one core (to reach: 1.0), {:.2f} on two (to reach: "
                "1.7), {:.2f} with plain kernels; in the middle of 12 pairs {:.2f} and {:.2f}\n",
                theirs, one / theirs, two / theirs, plain / theirs, middle(against), middle(two_against));
        fmt::print(
            "  two cores {:.2f} times one, in the middle of 12 pairs {:.2f}; two decoders side by side {:.2f}\n"
            "  memory at its peak {:.1f} MB, on two cores {:.1f}: {:.2f} and {:.2f} times {} pictures of {:.1f} MB in "
            "all (to reach: 1.1)\n",
            two / one, middle(scaling), middle(possible), memory, memory_of_two, memory / buffer,
            memory_of_two / buffer, kept, buffer);
    }
    return 0;
}
