#include <catch2/catch.hpp>

#include <chrono>
#include <random>

#include "filter/audio_timeline.hpp"
#include "filter/constant_rate.hpp"
#include "filter/film.hpp"
#include "filter/limiter.hpp"
#include "filter/resample.hpp"
#include "filter/scale.hpp"

using namespace wavecrest;

namespace {

const Ratio kFilm{24000, 1001};
const Ratio kFields{60000, 1001};

Picture at(Time pts, int fields) {
    Picture picture;
    picture.pts = pts;
    picture.fields = fields;
    picture.duration = base::frames_to_time(fields, kFields);
    return picture;
}

AudioFrames audio_at(Time pts, std::size_t frames, float value = 0.5f) {
    AudioFrames audio;
    audio.pts = pts;
    audio.sample_rate = 48000;
    audio.channels = 2;
    audio.samples.assign(frames * 2, value);
    return audio;
}

}  // namespace

TEST_CASE("film pictures get even times, none lost, no drift over two hours", "[film]") {
    filter::FilmTiming film(kFilm);
    std::int64_t fields = 0;
    const std::int64_t count = 24 * 7200;
    for (std::int64_t i = 0; i < count; ++i) {
        const int shown = i % 2 == 0 ? 3 : 2;
        Picture picture = at(base::frames_to_time(fields, kFields), shown);
        film.apply(picture);
        REQUIRE(picture.pts == base::frames_to_time(i, kFilm));
        REQUIRE(picture.duration == base::frames_to_time(1, kFilm));
        CHECK(picture.fields == 2);
        fields += shown;
    }
}

TEST_CASE("breaks of the film rhythm never add up against the audio", "[film]") {
    // Loops of an odd number of pictures: two pictures of three fields meet at each seam.
    filter::FilmTiming film(kFilm);
    Time now{};
    for (int i = 0; i < 25 * 40; ++i) {
        Picture picture = at(now, i % 25 % 2 == 0 ? 3 : 2);
        now += picture.duration;
        const Time own = picture.pts;
        film.apply(picture);
        CHECK(std::chrono::abs(picture.pts - own) <= base::frames_to_time(1, kFields) / 2);
    }
    Picture later = at(now + base::from_seconds(2), 3);
    film.apply(later);
    CHECK(later.pts == now + base::from_seconds(2));
}

namespace {

// A timeline whose audio is collected.
struct Collected {
    std::vector<AudioFrames> audio_frames;
    filter::AudioTimeline timeline{[this](AudioFrames audio) -> Status {
        audio_frames.push_back(std::move(audio));
        return {};
    }};
    std::vector<float> samples() const {
        std::vector<float> all;
        for (const AudioFrames& s : audio_frames) all.insert(all.end(), s.samples.begin(), s.samples.end());
        return all;
    }
    // All of it, one after the other?
    bool continuous() const {
        std::int64_t at = 0;
        for (const AudioFrames& s : audio_frames) {
            if (s.pts != audio_frames.front().pts + base::from_ticks(at, 48000)) return false;
            at += static_cast<std::int64_t>(s.frames());
        }
        return true;
    }
};
AudioFrames filled(Time pts, std::size_t frames, float value) {
    AudioFrames audio = audio_at(pts, frames);
    std::fill(audio.samples.begin(), audio.samples.end(), value);
    return audio;
}

}  // namespace

TEST_CASE("audio that follows on passes unchanged", "[audio]") {
    Collected c;
    Time pts = base::from_seconds(5);
    for (int i = 0; i < 100; ++i) {
        REQUIRE(c.timeline.push(filled(pts, 503, static_cast<float>(i))));
        pts += base::from_ticks(503, 48000);
    }
    REQUIRE(c.timeline.flush());
    REQUIRE(c.audio_frames.size() == 100);
    CHECK(c.continuous());
    for (std::size_t i = 0; i < 100; ++i) {
        CHECK(c.audio_frames[i].frames() == 503);
        CHECK(c.audio_frames[i].samples.back() == static_cast<float>(i));
    }
}

TEST_CASE("missing audio becomes silence of the same length, of overlaps the older end goes", "[audio]") {
    Collected c;
    const std::size_t channels = audio_at({}, 1).samples.size();
    REQUIRE(c.timeline.push(filled({}, 480, 0.1f)));
    REQUIRE(c.timeline.push(filled(base::from_ticks(480 + 4800, 48000), 480, 0.2f)));
    const std::int64_t end = 480 + 4800 + 480;
    REQUIRE(c.timeline.push(filled(base::from_ticks(end - 200, 48000), 480, 0.3f)));
    // Far in the past: it is left out, and nothing breaks.
    REQUIRE(c.timeline.push(filled(base::from_ticks(end - 200 + 480 - 5000, 48000), 100, 0.4f)));
    REQUIRE(c.timeline.flush());
    CHECK(c.continuous());
    const auto samples = c.samples();
    REQUIRE(samples.size() == static_cast<std::size_t>(end - 200 + 480) * channels);
    const auto at = [&](std::int64_t frame) { return samples[static_cast<std::size_t>(frame) * channels]; };
    CHECK(at(479) == 0.1f);
    CHECK(at(480) == 0);
    CHECK(at(480 + 4799) == 0);
    CHECK(at(480 + 4800) == 0.2f);
    CHECK(at(end - 201) == 0.2f);
    CHECK(at(end - 200) == 0.3f);
    CHECK(at(end - 200 + 479) == 0.3f);
}

TEST_CASE("rounded timestamps are no gaps, broken ones no hours of silence", "[audio]") {
    Collected c;
    for (int i = 0; i < 1000; ++i) {
        // Stamped in 90 kHz ticks.
        const Time exact = base::from_ticks(i * 161, 48000);
        REQUIRE(c.timeline.push(audio_at(base::from_ticks(base::to_ticks(exact, 90000), 90000), 161)));
    }
    REQUIRE(c.timeline.push(audio_at(base::from_seconds(50'000), 100)));
    REQUIRE(c.timeline.flush());
    std::size_t frames = 0;
    for (const AudioFrames& s : c.audio_frames) frames += s.frames();
    CHECK(frames == 161'000 + 100);
}

TEST_CASE("the limiter changes peaks beyond full scale and what lies near them, nothing else", "[audio]") {
    filter::Limiter limiter(48000, 2);
    std::vector<AudioFrames> out;
    std::vector<float> in;
    for (int i = 0; i < 96000; ++i) {
        const float wave = std::sin(static_cast<float>(i) * 0.13f);
        const float level = i >= 48000 && i < 48480 ? 1.9f : i == 47900 ? 1.2f : 0.7f;
        in.push_back(wave * level);
        in.push_back(wave * 0.5f);
    }
    for (std::size_t at = 0; at < in.size(); at += 2 * 1536) {
        AudioFrames audio;
        audio.sample_rate = 48000;
        audio.channels = 2;
        audio.pts = base::from_seconds(3) + base::from_ticks(static_cast<std::int64_t>(at / 2), 48000);
        audio.samples.assign(in.begin() + static_cast<std::ptrdiff_t>(at),
                             in.begin() + static_cast<std::ptrdiff_t>(std::min(at + 2 * 1536, in.size())));
        limiter.push(audio, out);
    }
    limiter.flush(out);
    std::vector<float> all;
    for (const AudioFrames& s : out) {
        CHECK(s.pts == base::from_seconds(3) + base::from_ticks(static_cast<std::int64_t>(all.size() / 2), 48000));
        all.insert(all.end(), s.samples.begin(), s.samples.end());
    }
    REQUIRE(all.size() == in.size());
    float most = 0, steps = 0;
    for (std::size_t i = 0; i < all.size(); ++i) most = std::max(most, std::abs(all[i]));
    CHECK(most <= 1);
    CHECK(most > 0.95f);
    // Bits stay as they are up to 5 ms before the first peak, and again 2 s behind the last.
    CHECK(std::equal(all.begin(), all.begin() + 2 * (47900 - 241), in.begin()));
    // The gain never jumps.
    for (std::size_t n = 1; n < 96000; ++n) {
        if (std::abs(in[2 * n + 1]) < 0.1f || std::abs(in[2 * n - 1]) < 0.1f) continue;
        steps = std::max(steps, std::abs(all[2 * n + 1] / in[2 * n + 1] - all[2 * n - 1] / in[2 * n - 1]));
    }
    CHECK(steps < 0.01f);
}

TEST_CASE("audio at another rate is brought to the track's, at its time", "[audio]") {
    auto resampler = filter::Resampler::create(44100, 48000, 1);
    REQUIRE(resampler);
    std::vector<AudioFrames> out;
    AudioFrames in;
    in.sample_rate = 44100;
    in.channels = 1;
    for (int n = 0; n < 44100; n += 441) {
        in.pts = base::from_seconds(7) + base::from_ticks(n, 44100);
        in.samples.clear();
        for (int i = n; i < n + 441; ++i)
            in.samples.push_back(static_cast<float>(std::sin(2 * M_PI * 441 * i / 44100)));
        (*resampler)->push(in, out);
    }
    CHECK((*resampler)->end() == base::from_seconds(8));
    (*resampler)->flush(out);
    std::vector<float> all;
    for (const AudioFrames& s : out) {
        CHECK(s.sample_rate == 48000);
        CHECK(s.pts == base::from_seconds(7) + base::from_ticks(static_cast<std::int64_t>(all.size()), 48000));
        all.insert(all.end(), s.samples.begin(), s.samples.end());
    }
    CHECK(std::abs(static_cast<double>(all.size()) - 48000) <= 1);
    double worst = 0;
    for (std::size_t i = 1000; i < 47000; ++i)
        worst = std::max(worst, std::abs(all[i] - std::sin(2 * M_PI * 441 * static_cast<double>(i) / 48000)));
    CHECK(worst < 0.001);
}

TEST_CASE("frames at times of their own come at even ones where a constant rate is asked for", "[rate]") {
    filter::ConstantRate constant({30, 1});
    std::vector<Picture> out;
    const int shown[] = {0, 20, 66, 70, 300, 310, 333};  // ms
    Picture picture = Picture::allocate(16, 16);
    for (std::size_t i = 0; i < std::size(shown); ++i) {
        picture.pts = std::chrono::milliseconds(1000 + shown[i]);
        picture.duration = std::chrono::milliseconds(i + 1 < std::size(shown) ? shown[i + 1] - shown[i] : 33);
        picture.fields = static_cast<int>(i);  // which one it is
        std::vector<Picture> due;
        constant.push(picture, due);
        for (Picture& p : due) out.push_back(std::move(p));
    }
    constant.flush(out);
    REQUIRE(out.size() == 11);
    for (std::size_t n = 0; n < out.size(); ++n) {
        CHECK(out[n].pts == base::from_seconds(1) + base::frames_to_time(static_cast<std::int64_t>(n), {30, 1}));
        CHECK(out[n].duration == base::frames_to_time(1, {30, 1}));
    }
}

TEST_CASE("a picture of half the size has nothing in it that was not around there", "[scale]") {
    std::mt19937 random(3);
    for (const int depth : {8, 10}) {
        Picture noise = Picture::allocate(316, 180, depth);
        Picture half = Picture::allocate(158, 90, depth);
        media::with_sample_type(depth, [&](auto sample) {
            using Sample = decltype(sample);
            for (int plane = 0; plane < 3; ++plane) {
                for (int y = 0; y < noise.plane_height(plane); ++y) {
                    for (int x = 0; x < noise.plane_width(plane); ++x)
                        noise.row<Sample>(plane, y)[x] =
                            static_cast<Sample>((random() % 2 == 0 ? 20 : 230) << (depth - 8));
                }
            }
            auto scaler = filter::Scaler::create(316, 180, 158, 90, {1, 1}, depth);
            REQUIRE(scaler);
            half = *(*scaler)->apply(noise);
            int at_limit = 0;
            for (int plane = 0; plane < 3; ++plane) {
                for (int y = 0; y < half.plane_height(plane); ++y) {
                    for (int x = 0; x < half.plane_width(plane); ++x) {
                        int least = 1 << depth, most = 0;
                        for (int j = std::max(2 * y - 1, 0); j <= std::min(2 * y + 2, noise.plane_height(plane) - 1);
                             ++j) {
                            for (int i = std::max(2 * x - 1, 0); i <= std::min(2 * x + 2, noise.plane_width(plane) - 1);
                                 ++i) {
                                const int near = noise.row<Sample>(plane, j)[i];
                                least = std::min(least, near);
                                most = std::max(most, near);
                            }
                        }
                        INFO(depth << " " << plane << " " << x << " " << y);
                        const int now = half.row<Sample>(plane, y)[x], more = 6 << (depth - 8);
                        CHECK(now >= least - more);
                        CHECK(now <= most + more);
                        at_limit += now == least - more || now == most + more ? 1 : 0;
                    }
                }
            }
            CHECK(at_limit > 0);  // there was something to be kept back
        });
    }
}

TEST_CASE("a hard white edge does not ring when it is scaled", "[scale]") {
    for (const auto& [width, height] : {std::pair{854, 480}, {640, 360}, {1280, 720}}) {
        auto scaler = filter::Scaler::create(720, 480, width, height, {1, 1});
        REQUIRE(scaler);
        Picture edges = Picture::allocate(720, 480);
        for (int y = 0; y < 480; ++y) {
            for (int x = 0; x < 720; ++x)
                edges.planes[0][y * edges.strides[0] + x] = (x / 90 + y / 60) % 2 == 0 ? 235 : 16;
        }
        const auto scaled = (*scaler)->apply(edges);
        REQUIRE(scaled);
        int least = 255, most = 0;
        for (int y = 0; y < height; ++y) {
            for (int x = 0; x < width; ++x) {
                least = std::min<int>(least, scaled->planes[0][y * scaled->strides[0] + x]);
                most = std::max<int>(most, scaled->planes[0][y * scaled->strides[0] + x]);
            }
        }
        CHECK(most <= 235 + 6);
        CHECK(least >= 16 - 6);
        CHECK(most >= 235);
    }
}

TEST_CASE("scaling keeps flat areas, times and colour, and sets the pixel aspect", "[scale]") {
    auto scaler = filter::Scaler::create(720, 480, 854, 480, {1, 1});
    REQUIRE(scaler);
    Picture flat = Picture::allocate(720, 480);
    for (int plane = 0; plane < 3; ++plane) {
        std::fill_n(flat.planes[plane], flat.strides[plane] * (plane == 0 ? 480 : 240),
                    static_cast<std::uint8_t>(50 + 40 * plane));
    }
    flat.pts = base::from_seconds(3);
    flat.duration = base::from_seconds(0.04);
    flat.colour = {6, 6, 6, false};
    flat.pixel_aspect = {32, 27};
    const auto scaled = (*scaler)->apply(flat);
    REQUIRE(scaled);
    CHECK(scaled->width == 854);
    CHECK(scaled->pts == flat.pts);
    CHECK(scaled->duration == flat.duration);
    CHECK(scaled->colour == flat.colour);
    CHECK(scaled->pixel_aspect == Ratio{1, 1});
    for (int plane = 0; plane < 3; ++plane) {
        const int rows = plane == 0 ? 480 : 240, columns = plane == 0 ? 854 : 427;
        for (int y = 0; y < rows; y += 17) {
            for (int x = 0; x < columns; ++x)
                REQUIRE(scaled->planes[plane][y * scaled->strides[plane] + x] == 50 + 40 * plane);
        }
    }
    CHECK_FALSE((*scaler)->apply(Picture::allocate(352, 288)));
}
