// Interlaced pictures made whole, measured against the card they were made of.
#include "filter/deinterlace.hpp"

#include <catch2/catch.hpp>
#include <cmath>
#include <cstring>
#include <map>
#include <set>

#include "filter/cadence.hpp"
#include "filter/downmix.hpp"
#include "filter/overlay.hpp"
#include "filter/whole_frames.hpp"
#include "sample/test_card.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;

namespace {

using TimeRange = filter::WholeFrames::TimeRange;

Picture woven(const Picture& upper, const Picture& lower) {
    Picture out = Picture::allocate(upper.width, upper.height);
    for (int plane = 0; plane < 3; ++plane) {
        for (int y = 0; y < (plane == 0 ? upper.height : upper.height / 2); ++y) {
            const Picture& from = y % 2 == 0 ? upper : lower;
            std::memcpy(out.planes[plane] + y * out.strides[plane], from.planes[plane] + y * from.strides[plane],
                        static_cast<std::size_t>(out.strides[plane]));
        }
    }
    out.progressive = false;
    out.top_field_first = true;
    return out;
}

// The plain ways to compare with: the first field with its lines doubled, and both fields averaged.
Picture doubled(const Picture& frame) {
    Picture out = Picture::allocate(frame.width, frame.height);
    for (int y = 0; y < frame.height; ++y) {
        std::memcpy(out.planes[0] + y * out.strides[0], frame.planes[0] + y / 2 * 2 * frame.strides[0],
                    static_cast<std::size_t>(frame.width));
    }
    return out;
}
Picture blended(const Picture& frame) {
    Picture out = Picture::allocate(frame.width, frame.height);
    for (int y = 0; y < frame.height; ++y) {
        const int other = y + 1 < frame.height ? y + 1 : y - 1, before = y > 0 ? y - 1 : y + 1;
        for (int x = 0; x < frame.width; ++x) {
            const auto at = [&](int row) { return int{frame.planes[0][row * frame.strides[0] + x]}; };
            out.planes[0][y * out.strides[0] + x] =
                static_cast<std::uint8_t>((at(before) + 2 * at(y) + at(other) + 2) / 4);
        }
    }
    return out;
}

sample::CardSettings card_at(Ratio rate) {
    sample::CardSettings settings;
    settings.frame_rate = rate;
    return settings;
}

}  // namespace

TEST_CASE("deinterlacing the moving card beats doubling lines and blending by 4 dB", "[deinterlace]") {
    const sample::TestCard card(card_at({60000, 1001}));
    const auto rate = GENERATE(filter::Deinterlacer::Rate::frame, filter::Deinterlacer::Rate::field);
    filter::Deinterlacer deinterlacer(rate);
    std::vector<Picture> out;
    constexpr int kFrames = 40;
    double double_db = 0, blend_db = 0;
    for (int n = 0; n < kFrames; ++n) {
        const Picture frame = woven(card.draw(2 * n), card.draw(2 * n + 1));
        double_db += luma_psnr(doubled(frame), card.draw(2 * n)) / kFrames;
        blend_db += luma_psnr(blended(frame), card.draw(2 * n)) / kFrames;
        Picture timed = frame;
        timed.pts = base::frames_to_time(n, {30000, 1001});
        timed.duration = base::frames_to_time(1, {30000, 1001});
        deinterlacer.push(timed, out);
    }
    deinterlacer.flush(out);
    const bool fields = rate == filter::Deinterlacer::Rate::field;
    REQUIRE(out.size() == static_cast<std::size_t>(fields ? 2 * kFrames : kFrames));
    double ours = 0;
    for (std::size_t i = 0; i < out.size(); ++i) {
        const std::int64_t field = fields ? static_cast<std::int64_t>(i) : static_cast<std::int64_t>(2 * i);
        ours += luma_psnr(out[i], card.draw(field)) / static_cast<double>(out.size());
        CHECK(out[i].progressive);
        CHECK(std::abs(base::to_seconds(out[i].pts) - static_cast<double>(field) * 1001 / 60000) < 1e-6);
        // It is the picture of its own instant, not of a neighbour's.
        if (field > 0) CHECK(luma_psnr(out[i], card.draw(field)) > luma_psnr(out[i], card.draw(field - 1)));
        CHECK(luma_psnr(out[i], card.draw(field)) > luma_psnr(out[i], card.draw(field + 1)));
    }
    INFO("ours " << ours << " dB, doubled " << double_db << ", blended " << blend_db);
    CHECK(ours > double_db + 4);
    CHECK(ours > blend_db + 4);
}

TEST_CASE("deinterlacing leaves whole pictures alone, and still ones nearly", "[deinterlace]") {
    const sample::TestCard card({});
    filter::Deinterlacer deinterlacer(filter::Deinterlacer::Rate::frame);
    std::vector<Picture> out;
    Picture whole = card.draw(5);
    whole.progressive = true;
    deinterlacer.push(whole, out);
    deinterlacer.push(card.draw(6), out);
    REQUIRE(out.size() == 1);
    CHECK(out[0].planes[0] == whole.planes[0]);

    filter::Deinterlacer still(filter::Deinterlacer::Rate::frame);
    out.clear();
    for (int i = 0; i < 3; ++i) still.push(woven(card.draw(9), card.draw(9)), out);
    CHECK(luma_psnr(out.back(), card.draw(9)) > 60);
}

TEST_CASE("film in interlaced video is found and put together: every picture once", "[cadence]") {
    const sample::TestCard card(card_at({24000, 1001}));
    constexpr std::int64_t kFilm[] = {0, 0, 1, 1, 1, 2, 2, 3, 3, 3};
    const auto film = [&](std::int64_t field) { return field / 10 * 4 + kFilm[field % 10]; };
    filter::CadenceFinder finder({30000, 1001});
    filter::WholeFrames weaver({{30000, 1001}, filter::Deinterlacer::Rate::frame, TimeRange::pulldown});
    std::vector<Picture> out;
    for (int n = 0; n < 50; ++n) {
        Picture frame = woven(card.draw(film(2 * n)), card.draw(film(2 * n + 1)));
        frame.pts = base::frames_to_time(n, {30000, 1001});
        frame.duration = base::frames_to_time(1, {30000, 1001});
        finder.push(frame);
        weaver.push(frame, out);
    }
    weaver.flush(out);
    CHECK(finder.result() == filter::Cadence::pulldown);
    REQUIRE(out.size() == 40);
    for (std::size_t i = 0; i < out.size(); ++i) {
        CHECK(out[i].progressive);
        CHECK(luma_psnr(out[i], card.draw(static_cast<std::int64_t>(i))) > 60);
        CHECK(out[i].pts == base::frames_to_time(static_cast<std::int64_t>(i), {24000, 1001}));
        CHECK(out[i].duration == base::frames_to_time(1, {24000, 1001}));
    }
}

TEST_CASE("video, whole pictures and film cut one field off are told apart", "[cadence]") {
    const sample::TestCard video(card_at({60000, 1001})), card(card_at({25, 1}));
    filter::CadenceFinder fields({30000, 1001}), whole({25, 1}), shifted({25, 1}), still({25, 1});
    filter::WholeFrames weaver({{25, 1}, filter::Deinterlacer::Rate::frame, TimeRange::matched});
    std::vector<Picture> out;
    for (int n = 0; n < 30; ++n) {
        fields.push(woven(video.draw(2 * n), video.draw(2 * n + 1)));
        whole.push(woven(card.draw(n), card.draw(n)));
        Picture off = woven(card.draw(n), card.draw(n + 1));
        off.pts = base::frames_to_time(n, {25, 1});
        off.duration = base::frames_to_time(1, {25, 1});
        shifted.push(off);
        weaver.push(off, out);
        still.push(woven(card.draw(3), card.draw(3)));
    }
    CHECK(fields.result() == filter::Cadence::video);
    CHECK(whole.result() == filter::Cadence::progressive);
    CHECK(shifted.result() == filter::Cadence::shifted);
    CHECK_FALSE(still.result());
    weaver.flush(out);
    REQUIRE(out.size() == 30);
    for (std::size_t n = 1; n < out.size(); ++n) {
        CHECK(luma_psnr(out[n], card.draw(static_cast<std::int64_t>(n))) > 60);
        // Its first field was to be seen half a frame before the frame that holds its second.
        CHECK(out[n].pts ==
              base::frames_to_time(static_cast<std::int64_t>(n), {25, 1}) - base::frames_to_time(1, {50, 1}));
    }
}

TEST_CASE("film whose fields are cut now here, now there has no pulldown", "[cadence]") {
    // 25 and 30 pictures a second, whose field phase changes in the middle.
    for (const Ratio rate : {Ratio{25, 1}, Ratio{30000, 1001}}) {
        const sample::TestCard card(card_at(rate));
        filter::CadenceFinder finder(rate);
        filter::WholeFrames weaver({rate, filter::Deinterlacer::Rate::frame, TimeRange::matched});
        std::vector<Picture> out;
        for (int n = 0; n < 48; ++n) {
            Picture frame = woven(card.draw(n), card.draw(n / 12 % 2 == 0 ? n : n + 1));
            frame.pts = base::frames_to_time(n, rate);
            frame.duration = base::frames_to_time(1, rate);
            finder.push(frame);
            weaver.push(frame, out);
        }
        weaver.flush(out);
        CHECK(finder.result() == filter::Cadence::shifted);
        REQUIRE(out.size() >= 46);
        for (std::size_t i = 1; i < out.size(); ++i) CHECK(out[i].pts > out[i - 1].pts);
        for (std::size_t n = 14; n < 22; ++n) CHECK(luma_psnr(out[n], card.draw(static_cast<std::int64_t>(n))) > 60);
    }
}

TEST_CASE("a mixture of film and video: each interval by its own rhythm, in order, in time", "[cadence]") {
    // Marked film of 2:3 fields, interlaced video, film without marks, whole frames: each told by its card's title.
    const Ratio coded{30000, 1001}, film_rate{24000, 1001};
    const Time field = base::frames_to_time(1, {60000, 1001});
    const auto card_of = [](Ratio rate, int number) {
        auto settings = card_at(rate);
        settings.title_number = number;
        return sample::TestCard(settings);
    };
    const auto marked = card_of(film_rate, 1), video = card_of({60000, 1001}, 2), film = card_of(film_rate, 3),
               whole = card_of(coded, 4);
    constexpr std::int64_t kFilm[] = {0, 0, 1, 1, 1, 2, 2, 3, 3, 3};
    const auto film_at = [&](std::int64_t n) { return n / 10 * 4 + kFilm[n % 10]; };
    std::vector<Picture> in, out;
    Time now{};
    const auto add = [&](Picture picture, bool progressive, int fields) {
        picture.progressive = progressive;
        picture.fields = fields;
        picture.pts = now;
        picture.duration = fields * field;
        now += picture.duration;
        in.push_back(std::move(picture));
    };
    for (int n = 0; n < 48; ++n) add(marked.draw(n), true, n % 2 == 0 ? 2 : 3);
    const Time video_from = now;
    for (int n = 0; n < 40; ++n) add(woven(video.draw(2 * n), video.draw(2 * n + 1)), false, 2);
    const Time film_from = now;
    for (int n = 0; n < 50; ++n) add(woven(film.draw(film_at(2 * n)), film.draw(film_at(2 * n + 1))), false, 2);
    const Time whole_from = now;
    for (int n = 0; n < 30; ++n) add(woven(whole.draw(n), whole.draw(n)), false, 2);
    filter::WholeFrames frames({coded, filter::Deinterlacer::Rate::field, TimeRange::video, true});
    for (const Picture& picture : in) frames.push(picture, out);
    frames.flush(out);
    std::map<int, std::vector<std::pair<std::int64_t, Time>>> seen;
    int unread = 0;
    Time before{-1};
    for (const Picture& picture : out) {
        CHECK(picture.progressive);
        CHECK(picture.pts > before);
        before = picture.pts;
        if (const auto code = sample::read_card_code(picture)) {
            seen[code->title_number].emplace_back(code->frame, picture.pts);
        } else {
            ++unread;
        }
    }
    CHECK(unread <= 3);  // where one kind goes over into the next
    REQUIRE(seen[1].size() == 48);
    for (std::size_t i = 0; i < 48; ++i) {
        CHECK(seen[1][i].first == static_cast<std::int64_t>(i));
        CHECK(seen[1][i].second == base::frames_to_time(static_cast<std::int64_t>(i), film_rate));
    }
    CHECK(seen[2].size() >= 78);
    for (const auto& [frame, pts] : seen[2]) CHECK(pts == video_from + frame * field);
    // Of film that begins without marks the first frames may still be taken as video, at their own times.
    std::set<std::int64_t> film_frames;
    for (const auto& [frame, pts] : seen[3]) {
        film_frames.insert(frame);
        CHECK(std::chrono::abs(pts - (film_from + base::frames_to_time(frame, film_rate))) <= 3 * field);
        if (frame >= 8)
            CHECK(std::chrono::abs(pts - (film_from + base::frames_to_time(frame, film_rate))) <= field / 4);
    }
    CHECK(film_frames.size() == 40);
    CHECK(seen[3].size() <= 44);
    std::set<std::int64_t> whole_frames;
    for (const auto& [frame, pts] : seen[4]) {
        whole_frames.insert(frame);
        if (frame >= 5) CHECK(pts == whole_from + base::frames_to_time(frame, coded));
    }
    CHECK(whole_frames.size() == 30);
}

TEST_CASE("surround is folded to stereo by BS.775 and by what the programme says", "[downmix]") {
    using namespace media::speaker;
    AudioFrames audio;
    audio.channels = 6;
    audio.speakers = kFiveOne;
    audio.sample_rate = 48000;
    audio.samples = {1, 1, 1, 1, 1, 1, 1, 0, 0, 0, 0, 0, 0, 0, 1, 0, 0, 0, 0, 0, 0, 1, 0, 0, 0, 0, 0, 0, 0, 1};
    filter::fold_to_stereo(audio);
    REQUIRE(audio.channels == 2);
    REQUIRE(audio.frames() == 5);
    constexpr float k = 0.70710678f;
    const std::vector<float> expected = {1 + 2 * k, 1 + 2 * k, 1, 0, k, k, 0, 0, 0, k};
    for (std::size_t i = 0; i < expected.size(); ++i) CHECK(audio.samples[i] == Approx(expected[i]).margin(1e-6));
    // As the programme wants it: centre 3 dB less, surround left out, dialogue 6 dB up.
    AudioFrames own;
    own.channels = 6;
    own.speakers = kFiveOne;
    own.samples = {0.25f, 0, 0, 0, 0, 0, 0, 0, 0.25f, 0, 0, 0, 0, 0, 0, 0, 0.25f, 0};
    own.downmix = {0.5f, 0, 2};
    filter::fold_to_stereo(own);
    const std::vector<float> wanted = {0.5f, 0, 0.25f, 0.25f, 0, 0};
    for (std::size_t i = 0; i < wanted.size(); ++i) CHECK(own.samples[i] == Approx(wanted[i]).margin(1e-6));
}

TEST_CASE("an overlay is drawn where it belongs, mixed by its opacity, and stretched with the picture", "[overlay]") {
    Overlay overlay;
    overlay.canvas_width = 100;
    overlay.canvas_height = 50;
    overlay.regions.push_back({10, 20, 2, 2, {1, 0, 0, 2}, {{}, {235, 128, 128, 255}, {16, 90, 200, 128}}});
    Picture picture = Picture::allocate(100, 50);
    std::memset(picture.storage.get(), 116,
                static_cast<std::size_t>(picture.strides[0] * 50 + 2 * picture.strides[1] * 25));
    filter::lay_over(picture, overlay);
    const auto luma = [&](int x, int y) { return int{picture.planes[0][y * picture.strides[0] + x]}; };
    CHECK(luma(10, 20) == 235);
    CHECK(luma(11, 20) == 116);
    CHECK(luma(11, 21) == 66);
    CHECK(luma(12, 20) == 116);
    CHECK(luma(10, 22) == 116);
    // The chroma sample covers both drawn points, at 383 of 1020 in all.
    CHECK(int{picture.planes[2][10 * picture.strides[2] + 5]} > 125);
    Picture large = Picture::allocate(200, 100);
    std::memset(large.storage.get(), 116, static_cast<std::size_t>(large.strides[0] * 100 + 2 * large.strides[1] * 50));
    filter::lay_over(large, overlay);
    for (const auto& [x, y] : {std::pair{20, 40}, {21, 40}, {20, 41}, {21, 41}})
        CHECK(int{large.planes[0][y * large.strides[0] + x]} == 235);
    CHECK(int{large.planes[0][40 * large.strides[0] + 22]} == 116);
}
