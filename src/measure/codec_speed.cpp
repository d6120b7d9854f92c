#include "measure/codec_speed.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <chrono>
#include <cmath>
#include <random>

#include "codec/audio_encoder.hpp"
#include "codec/mpeg2_encoder.hpp"
#include "codec/video_decoder.hpp"
#include "codec/video_encoder.hpp"
#include "filter/deinterlace.hpp"
#include "filter/scale.hpp"
#include "filter/tone_map.hpp"
#include "host/machine.hpp"

namespace wavecrest::measure {
namespace {

constexpr int kTexture = 512;  // a square, repeated
constexpr std::array kEncoders = {Codec::h264, Codec::h265, Codec::vp9, Codec::av1};
constexpr std::array kDeep = {Codec::h265, Codec::av1};  // with 10 bits, too
constexpr Ratio kRate{24000, 1001};

// Its levels end with 1920x1080.
bool has_mpeg2(base::Size size) {
    return size.height <= 1080;
}

// Noise of all scales, the coarser the stronger, as natural pictures have it (about 1/f); joins at its edges.
std::vector<std::uint8_t> make_texture() {
    std::minstd_rand random(3);
    std::vector<double> sum(kTexture * kTexture);
    double amplitude = 60;
    for (int cell = 128; cell >= 2; cell /= 2, amplitude *= 0.6) {
        const int count = kTexture / cell;
        std::vector<double> corners(static_cast<std::size_t>(count) * static_cast<std::size_t>(count));
        for (double& corner : corners) corner = static_cast<double>(random() % 2001) / 1000.0 - 1;
        const auto corner = [&](int x, int y) {
            return corners[static_cast<std::size_t>((y % count) * count + x % count)];
        };
        for (int y = 0; y < kTexture; ++y) {
            for (int x = 0; x < kTexture; ++x) {
                const double u = static_cast<double>(x % cell) / cell, v = static_cast<double>(y % cell) / cell;
                const int i = x / cell, j = y / cell;
                sum[static_cast<std::size_t>(y * kTexture + x)] +=
                    amplitude * ((corner(i, j) * (1 - u) + corner(i + 1, j) * u) * (1 - v) +
                                 (corner(i, j + 1) * (1 - u) + corner(i + 1, j + 1) * u) * v);
            }
        }
    }
    std::vector<std::uint8_t> texture(sum.size());
    for (std::size_t i = 0; i < sum.size(); ++i)
        texture[i] = static_cast<std::uint8_t>(std::clamp(120 + sum[i], 16.0, 235.0));
    return texture;
}

template <typename Sample>
void draw(Picture& picture, int index) {
    static const std::vector<std::uint8_t> texture = make_texture();
    static const std::vector<int> grain = [] {
        std::mt19937 random(7);
        std::normal_distribution<double> values(0, 1.5);
        std::vector<int> all(1 << 16);
        for (int& value : all) value = static_cast<int>(std::lround(values(random)));
        return all;
    }();
    const int shift = picture.bit_depth - 8;
    std::minstd_rand random(static_cast<unsigned>(index) + 1);
    for (int plane = 0; plane < 3; ++plane) {
        const int width = picture.plane_width(plane), height = picture.plane_height(plane);
        // A size has as much to see as another, in 1/256 of a texture's sample; colours are calmer than light.
        const int step = std::max(1, 480 * 256 / (plane == 0 ? picture.height : picture.height / 2));
        const int strength = plane == 0 ? 4 : 1;
        std::size_t at = random();
        for (int y = 0; y < height; ++y) {
            Sample* row = picture.row<Sample>(plane, y);
            for (int x = 0; x < width; ++x) {
                const bool other = x > width / 3 && x < width / 2 && y > height / 4 && y < height * 3 / 4;
                const int u = x * step + index * (other ? -700 : 400), v = y * step + index * 60;
                const int left = (u >> 8) & (kTexture - 1), top = (v >> 8) & (kTexture - 1);
                const int right = (left + 1) & (kTexture - 1);
                const std::uint8_t* line = texture.data() + std::ptrdiff_t{top} * kTexture;
                const int value = (line[left] * (256 - (u & 255)) + line[right] * (u & 255)) >> 8;
                const int noise = plane == 0 ? grain[at++ & 0xffff] : 0;
                row[x] = static_cast<Sample>(std::clamp(128 + (value - 128) * strength / 4 + noise, 1, 254) << shift);
            }
        }
    }
}

// What passes on the clock and on the processors between two moments, for so many pictures.
class Stopwatch {
  public:
    PictureTime of(std::size_t pictures) const {
        const double count = static_cast<double>(std::max<std::size_t>(pictures, 1));
        return {(host::processor_seconds() - processor_) / count, seconds() / count};
    }
    double seconds() const { return std::chrono::duration<double>(std::chrono::steady_clock::now() - start_).count(); }

  private:
    std::chrono::steady_clock::time_point start_ = std::chrono::steady_clock::now();
    double processor_ = host::processor_seconds();
};

// Of two times of the same work; 0: not tried.
PictureTime faster(const PictureTime& a, const PictureTime& b) {
    const auto least = [](double x, double y) { return x > 0 ? std::min(x, y) : y; };
    return {least(a.processor, b.processor), least(a.alone, b.alone)};
}

std::vector<Picture> test_pictures(base::Size size, int bit_depth, int count) {
    std::vector<Picture> pictures;
    for (int i = 0; i < count; ++i) {
        pictures.push_back(test_picture(size, bit_depth, i));
        pictures.back().pts = base::frames_to_time(i, kRate);
        pictures.back().duration = base::frames_to_time(1, kRate);
    }
    return pictures;
}

class Trials {
  public:
    Trials(const SpeedSettings& settings, Capacity& capacity, const TellProgress& tell, const Cancel& cancel)
        : settings_(settings), capacity_(capacity), tell_(tell), cancel_(cancel) {}

    Result<std::vector<Clip>> run() {
        WAVECREST_TRY(efforts());
        WAVECREST_TRY(sizes());
        WAVECREST_TRY(filters());
        WAVECREST_TRY(audio());
        return std::move(clips_);
    }

  private:
    Status begin(const std::string& what) {
        if (cancel_.requested()) return base::interrupted();
        const auto mpeg2 =
            static_cast<std::size_t>(std::count_if(settings_.sizes.begin(), settings_.sizes.end(), has_mpeg2));
        const std::size_t sizes = settings_.sizes.size();
        const std::size_t encoding = kEncoders.size() * (settings_.efforts.size() + sizes - 1) + kDeep.size();
        const std::size_t decoding = kEncoders.size() * sizes + kDeep.size() + mpeg2;
        const std::size_t all = encoding + decoding + 2;  // filters and audio
        if (tell_) tell_(std::min(1.0, static_cast<double>(begun_++) / static_cast<double>(all)), what);
        return {};
    }

    // How many pictures take about as long as a trial is to take, by an encoder like the one before.
    int count_for(double picture_seconds) const {
        return picture_seconds > 0 ? std::clamp(static_cast<int>(settings_.seconds / picture_seconds), 8, 48) : 48;
    }

    // Adds what it finds; gives the time that a picture took.
    Result<double> encode(Codec codec, base::Size size, int bit_depth, int effort, const std::vector<Picture>& pictures,
                          bool keep) {
        WAVECREST_TRY(begin(fmt::format("{} {}p, effort {}", media::display_name(codec), size.height, effort)));
        codec::VideoEncoderSettings settings;
        settings.codec = codec;
        settings.width = size.width;
        settings.height = size.height;
        settings.frame_rate = kRate;
        settings.bit_depth = bit_depth;
        settings.effort = effort;
        settings.quality = 80;  // what most profiles ask for; more bits take longer
        CodecSpeed speed{codec, size.width, size.height, bit_depth, effort, {}};
        // What else runs, here or on the host of a virtual machine, only ever makes it slower: quick ones are tried
        // twice.
        for (int round = 0; round < 2; ++round) {
            Clip clip;
            const Stopwatch watch;
            WAVECREST_TRY_ASSIGN(encoder, codec::make_video_encoder(settings));
            for (const Picture& picture : pictures) {
                if (cancel_.requested()) return base::interrupted();
                WAVECREST_TRY(encoder->encode(picture, clip.packets));
            }
            WAVECREST_TRY(encoder->flush(clip.packets));
            const bool slow = watch.seconds() > settings_.seconds * 1.5;
            speed.time = faster(speed.time, watch.of(pictures.size()));
            if (round == 0) clip.track = encoder->track();
            if (round == 0 && keep) clips_.push_back(std::move(clip));
            if (slow) break;
        }
        capacity_.encoding.push_back(speed);
        return speed.time.alone;
    }

    Status efforts() {
        const base::Size size = settings_.sizes.front();
        const auto pictures = test_pictures(size, 8, 48);
        for (const Codec codec : kEncoders) {
            double taken = 0;
            for (const int effort : settings_.efforts) {
                const auto some = std::vector<Picture>(pictures.begin(), pictures.begin() + count_for(taken));
                WAVECREST_TRY_ASSIGN(time, encode(codec, size, 8, effort, some, effort == settings_.effort));
                taken = time * 1.5;
            }
        }
        const auto deep = test_pictures(size, 10, 48);
        for (const Codec codec : kDeep) {
            WAVECREST_TRY(encode(codec, size, 10, settings_.effort, deep, true));
        }
        return {};
    }

    Status sizes() {
        for (const base::Size size : settings_.sizes) {
            const bool first = size.width == settings_.sizes.front().width;
            if (!first) {
                const auto pictures = test_pictures(size, 8, size.height > 1080 ? 8 : size.height > 720 ? 12 : 24);
                for (const Codec codec : kEncoders) {
                    WAVECREST_TRY(encode(codec, size, 8, settings_.effort, pictures, true));
                }
            }
            if (has_mpeg2(size)) mpeg2_clip(size);
        }
        for (const Clip& clip : clips_) {
            WAVECREST_TRY(decode(clip));
        }
        return {};
    }

    void mpeg2_clip(base::Size size) {
        codec::Mpeg2Settings settings;
        settings.width = size.width;
        settings.height = size.height;
        settings.pictures = codec::Mpeg2Settings::Pictures::whole;
        if (settings.high_definition()) settings.mean_bps = 18'000'000, settings.peak_bps = 30'000'000;
        codec::Mpeg2Encoder encoder(settings);
        Clip clip;
        clip.track.codec = Codec::mpeg2;
        clip.track.width = size.width;
        clip.track.height = size.height;
        clip.track.bit_depth = 8;
        clip.track.frame_rate = {30000, 1001};
        clip.track.scan = Scan::progressive;
        const int count = size.height > 480 ? 8 : 24;
        for (int i = 0; i < count; ++i) {
            codec::Mpeg2Picture coded = encoder.encode(test_picture(size, 8, i), i + 1 == count);
            Packet packet;
            packet.pts = packet.dts = base::frames_to_time(i, clip.track.frame_rate);
            packet.duration = base::frames_to_time(1, clip.track.frame_rate);
            packet.key = coded.key;
            packet.data = Bytes(std::move(coded.data));
            clip.packets.push_back(std::move(packet));
        }
        clips_.push_back(std::move(clip));
    }

    Status decode(const Clip& clip) {
        const Track& track = clip.track;
        WAVECREST_TRY(begin(fmt::format("{} {}p, decoding", media::display_name(track.codec), track.height)));
        PictureTime time;
        std::vector<Picture> pictures;
        const Stopwatch all;
        do {
            std::size_t shown = 0;
            const Stopwatch watch;
            WAVECREST_TRY_ASSIGN(decoder, codec::make_video_decoder(track));
            for (const Packet& packet : clip.packets) {
                WAVECREST_TRY(decoder->decode(packet, pictures));
                shown += pictures.size();
                pictures.clear();
            }
            WAVECREST_TRY(decoder->flush(pictures));
            shown += pictures.size();
            pictures.clear();
            if (shown == 0)
                return fail(ErrorKind::machine, "a decoder gave no picture",
                            fmt::format("{}", media::display_name(track.codec)), "tell the developers of this program");
            time = faster(time, watch.of(shown));
        } while (all.seconds() < settings_.seconds / 2 && !cancel_.requested());
        capacity_.decoding.push_back({track.codec, track.width, track.height, std::max(8, track.bit_depth), 0, time});
        return {};
    }

    // Mean time of `filter` for a picture.
    template <typename Filter>
    PictureTime filter_time(Filter filter) const {
        filter();  // what is made once
        std::size_t count = 0;
        const Stopwatch watch;
        do {
            filter();
            ++count;
        } while (watch.seconds() < settings_.seconds / 3);
        return watch.of(count);
    }

    Status filters() {
        constexpr base::Size kFullHd{1920, 1080};
        WAVECREST_TRY(begin("filters"));
        auto pictures = test_pictures(kFullHd, 8, 4);
        for (Picture& picture : pictures) picture.progressive = false;
        filter::Deinterlacer deinterlacer(filter::Deinterlacer::Rate::frame);
        std::vector<Picture> out;
        std::size_t next = 0;
        capacity_.filters.deinterlace = filter_time([&] {
            deinterlacer.push(pictures[next++ % pictures.size()], out);
            out.clear();
        });
        WAVECREST_TRY_ASSIGN(scaler, filter::Scaler::create(kFullHd.width, kFullHd.height, 1280, 720, {1, 1}));
        Status scaled;
        capacity_.filters.scale = filter_time([&] {
            if (auto picture = scaler->apply(pictures.front()); !picture) scaled = fail(std::move(picture).error());
        });
        WAVECREST_TRY(std::move(scaled));
        Track track;
        track.colour = {9, media::kTransferPq, 9, false};
        Picture bright = test_picture(kFullHd, 10, 0);
        bright.colour = track.colour;
        const filter::ToneMapper mapper(track);
        capacity_.filters.tone_map = filter_time([&] { mapper.apply(bright); });
        return {};
    }

    Status audio() {
        WAVECREST_TRY(begin("audio"));
        codec::AudioEncoderSettings settings;
        WAVECREST_TRY_ASSIGN(encoder, codec::make_audio_encoder(settings));
        AudioFrames frames;
        frames.sample_rate = settings.sample_rate;
        frames.channels = 2;
        std::minstd_rand random(5);
        frames.samples.resize(static_cast<std::size_t>(settings.sample_rate));  // half a second
        for (float& sample : frames.samples) sample = static_cast<float>(random() % 2001) / 4000.0F - 0.25F;
        std::vector<Packet> packets;
        const Stopwatch watch;
        std::size_t count = 0;
        do {
            frames.pts = base::from_seconds(static_cast<double>(count) / 2);
            WAVECREST_TRY(encoder->encode(frames, packets));
            ++count;
        } while (watch.seconds() < settings_.seconds / 3);
        capacity_.audio = watch.of(count).processor * 2;
        return {};
    }

    const SpeedSettings& settings_;
    Capacity& capacity_;
    const TellProgress& tell_;
    const Cancel& cancel_;
    std::vector<Clip> clips_;
    std::size_t begun_ = 0;
};

}  // namespace

Picture test_picture(base::Size size, int bit_depth, int index) {
    Picture picture = Picture::allocate(size.width, size.height, bit_depth);
    picture.colour = {1, 1, 1, false};
    media::with_sample_type(bit_depth, [&](auto sample) { draw<decltype(sample)>(picture, index); });
    return picture;
}

Result<std::vector<Clip>> measure_codecs(const SpeedSettings& settings, Capacity& capacity, const TellProgress& tell,
                                         const Cancel& cancel) {
    return Trials(settings, capacity, tell, cancel).run();
}

}  // namespace wavecrest::measure
