// High dynamic range to standard and back, against the formulas of BT.2100 and BT.2390 written out here in double
// precision.
#include <catch2/catch.hpp>

#include <array>
#include <cmath>
#include <random>

#include "filter/depth.hpp"
#include "filter/tone_map.hpp"

using namespace wavecrest;

namespace {

using Triple = std::array<double, 3>;

double pq_eotf(double e) {
    const double m1 = 0.1593017578125, m2 = 78.84375, c1 = 0.8359375, c2 = 18.8515625, c3 = 18.6875;
    const double p = std::pow(std::max(e, 0.0), 1 / m2);
    return 10000 * std::pow(std::max(p - c1, 0.0) / (c2 - c3 * p), 1 / m1);
}
double pq_inverse(double nits) {
    const double m1 = 0.1593017578125, m2 = 78.84375, c1 = 0.8359375, c2 = 18.8515625, c3 = 18.6875;
    const double y = std::pow(nits / 10000, m1);
    return std::pow((c1 + c2 * y) / (1 + c3 * y), m2);
}
// BT.2390, 5.4.1, in the steps of its text.
double reference_eetf(double e, double peak, double target) {
    const double e1 = std::min(e / pq_inverse(peak), 1.0), max_lum = pq_inverse(target) / pq_inverse(peak);
    const double ks = 1.5 * max_lum - 0.5;
    double e2 = e1;
    if (e1 >= ks) {
        const double t = (e1 - ks) / (1 - ks);
        e2 = (2 * t * t * t - 3 * t * t + 1) * ks + (t * t * t - 2 * t * t + t) * (1 - ks) +
             (-2 * t * t * t + 3 * t * t) * max_lum;
    }
    return e2 * pq_inverse(peak);
}
double hlg_inverse_oetf(double e) {
    const double a = 0.17883277, b = 0.28466892, c = 0.55991073;
    return e <= 0.5 ? e * e / 3 : (std::exp((e - c) / a) + b) / 12;
}

// Codes of 10 bits to those of 8 bits, not rounded.
Triple reference(int y, int cb, int cr, bool hlg, double peak) {
    const double luma = (y - 64) / 876.0, b = (cb - 512) / 896.0, r = (cr - 512) / 896.0;
    Triple rgb = {luma + 1.4746 * r, luma - 0.16455312684366 * b - 0.57135312684366 * r, luma + 1.8814 * b};
    for (double& v : rgb) v = std::clamp(v, 0.0, 1.0);
    if (hlg) {
        for (double& v : rgb) v = hlg_inverse_oetf(v);
        const double scene = 0.2627 * rgb[0] + 0.6780 * rgb[1] + 0.0593 * rgb[2];
        for (double& v : rgb) v = pq_inverse(1000 * std::pow(scene, 0.2) * v);
    }
    Triple light;
    for (std::size_t i = 0; i < 3; ++i)
        light[i] = std::clamp(pq_eotf(reference_eetf(rgb[i], peak, 100)) / 100, 0.0, 1.0);
    Triple narrow = {1.660491 * light[0] - 0.587641 * light[1] - 0.072850 * light[2],
                     -0.124550 * light[0] + 1.132900 * light[1] - 0.008349 * light[2],
                     -0.018151 * light[0] - 0.100579 * light[1] + 1.118730 * light[2]};
    // Towards grey of the same luminance until it fits.
    const double grey = 0.2126 * narrow[0] + 0.7152 * narrow[1] + 0.0722 * narrow[2];
    double keep = 1;
    for (const double v : narrow) {
        if (v < 0) keep = std::min(keep, grey / (grey - v));
        if (v > 1) keep = std::min(keep, (1 - grey) / (v - grey));
    }
    for (double& v : narrow) v = std::pow(std::clamp(grey + keep * (v - grey), 0.0, 1.0), 1 / 2.4);
    const double out = 0.2126 * narrow[0] + 0.7152 * narrow[1] + 0.0722 * narrow[2];
    return {16 + 219 * out, 128 + 224 * (narrow[2] - out) / 1.8556, 128 + 224 * (narrow[0] - out) / 1.5748};
}

Picture flat(int y, int cb, int cr) {
    Picture picture = Picture::allocate(16, 16, 10);
    const int codes[] = {y, cb, cr};
    for (int plane = 0; plane < 3; ++plane) {
        for (int row = 0; row < picture.plane_height(plane); ++row)
            std::fill_n(picture.row<std::uint16_t>(plane, row), picture.plane_width(plane),
                        static_cast<std::uint16_t>(codes[plane]));
    }
    return picture;
}
double mean(const Picture& picture, int plane) {
    double sum = 0;
    for (int y = 0; y < picture.plane_height(plane); ++y) {
        for (int x = 0; x < picture.plane_width(plane); ++x) sum += picture.row<std::uint8_t>(plane, y)[x];
    }
    return sum / (picture.plane_width(plane) * picture.plane_height(plane));
}
Track hdr_track(bool hlg, double peak) {
    Track track;
    track.bit_depth = 10;
    track.colour = {9, hlg ? 18 : 16, 9, false};
    if (!hlg) {
        track.mastering_display.emplace();
        track.mastering_display->max_luminance = static_cast<std::int64_t>(peak * 10000);
    }
    return track;
}

}  // namespace

TEST_CASE("PQ and HLG have the values that BT.2100 and BT.2408 print", "[tonemap]") {
    // BT.2408, tables 1 and 2: HDR reference white is 58 % PQ and 75 % HLG, for 203 cd/m2.
    CHECK(filter::luminance_to_pq(203) == Approx(0.5807).margin(0.0001));
    CHECK(filter::luminance_to_pq(100) == Approx(0.5081).margin(0.0001));
    CHECK(filter::luminance_to_pq(1000) == Approx(0.7518).margin(0.0001));
    CHECK(filter::luminance_to_pq(10000) == Approx(1));
    CHECK(filter::pq_to_luminance(0) == 0);
    CHECK(filter::scene_to_hlg(1.0 / 12) == Approx(0.5));
    CHECK(filter::hlg_to_scene(1) == Approx(1).margin(1e-5));
    CHECK(1000 * std::pow(filter::hlg_to_scene(0.75), 1.2) == Approx(203).margin(0.5));
    for (int i = 0; i <= 100; ++i) {
        CHECK(filter::luminance_to_pq(filter::pq_to_luminance(i / 100.0)) == Approx(i / 100.0).margin(1e-6));
        CHECK(filter::scene_to_hlg(filter::hlg_to_scene(i / 100.0)) == Approx(i / 100.0).margin(1e-6));
    }
}

TEST_CASE("the transfer keeps what is dark, ends at the target, and never turns back", "[tonemap]") {
    for (const double peak : {400.0, 1000.0, 4000.0, 10000.0}) {
        INFO(peak);
        CHECK(filter::pq_to_luminance(filter::eetf(filter::luminance_to_pq(peak), peak, 100)) ==
              Approx(100).margin(0.1));
        CHECK(filter::eetf(0, peak, 100) == 0);
        double last = -1;
        for (int i = 0; i <= 1000; ++i) {
            const double e = i / 1000.0, out = filter::eetf(e, peak, 100);
            CHECK(out >= last);
            CHECK(out == Approx(reference_eetf(e, peak, 100)).margin(1e-9));
            last = out;
        }
    }
    CHECK(filter::eetf(0.3, 1000, 100) == Approx(0.3));
    CHECK(filter::eetf(0.6, 80, 100) == 0.6);  // nothing to do
}

TEST_CASE("tone mapping is the formula's within a code", "[tonemap]") {
    std::mt19937 random(7);
    double worst[3] = {};
    for (const bool hlg : {false, true}) {
        for (const double peak : hlg ? std::vector{1000.0} : std::vector{600.0, 1000.0, 4000.0}) {
            const filter::ToneMapper mapper(hdr_track(hlg, peak));
            for (int i = 0; i < 400; ++i) {
                const auto between = [&](int low, int high) {
                    return low + static_cast<int>(random() % static_cast<unsigned>(high - low + 1));
                };
                // Greys, then colours, many of them outside of BT.709.
                const int y = between(64, 940), cb = i < 100 ? 512 : between(200, 824),
                          cr = i < 100 ? 512 : between(200, 824);
                const Picture out = mapper.apply(flat(y, cb, cr));
                REQUIRE(out.bit_depth == 8);
                CHECK(out.colour == ColourDescription{1, 1, 1, false});
                const Triple wanted = reference(y, cb, cr, hlg, peak);
                for (std::size_t plane = 0; plane < 3; ++plane) {
                    INFO(y << " " << cb << " " << cr << " peak " << peak << " plane " << plane);
                    const double error = std::abs(mean(out, static_cast<int>(plane)) - wanted[plane]);
                    worst[plane] = std::max(worst[plane], error);
                    CHECK(error < 0.75);
                }
            }
        }
    }
    INFO(worst[0] << " " << worst[1] << " " << worst[2]);
    CHECK(worst[0] < 0.75);
}

TEST_CASE("tone mapping has no colour where there is none, and keeps edges where they are", "[tonemap]") {
    const filter::ToneMapper mapper(hdr_track(false, 1000));
    Picture picture = Picture::allocate(31, 17, 10);  // odd
    for (int plane = 0; plane < 3; ++plane) {
        for (int y = 0; y < picture.plane_height(plane); ++y) {
            for (int x = 0; x < picture.plane_width(plane); ++x)
                picture.row<std::uint16_t>(plane, y)[x] = static_cast<std::uint16_t>(plane > 0 ? 512
                                                                                     : x < 15  ? 64
                                                                                               : 700);
        }
    }
    const Picture out = mapper.apply(picture);
    for (int y = 0; y < 17; ++y) {
        const auto* row = out.row<std::uint8_t>(0, y);
        CHECK(row[14] <= 17);
        CHECK(row[15] > 200);
    }
    for (int y = 0; y < out.plane_height(1); ++y) {
        for (int x = 0; x < out.plane_width(1); ++x) {
            CHECK(std::abs(out.row<std::uint8_t>(1, y)[x] - 128) <= 1);
            CHECK(std::abs(out.row<std::uint8_t>(2, y)[x] - 128) <= 1);
        }
    }
}

TEST_CASE("tone mapping makes the same of a part of a picture as of the whole", "[tonemap]") {
    const filter::ToneMapper mapper(hdr_track(false, 1000));
    Picture whole = Picture::allocate(787, 8, 10), part = Picture::allocate(561, 8, 10);
    constexpr int kFrom = 104;  // (Dithering repeats every eight columns.)
    std::mt19937 random(11);
    for (int plane = 0; plane < 3; ++plane) {
        for (int y = 0; y < whole.plane_height(plane); ++y) {
            auto* const row = whole.row<std::uint16_t>(plane, y);
            for (int x = 0; x < whole.plane_width(plane); ++x)
                row[x] = static_cast<std::uint16_t>((plane > 0 ? 400 : 300) + random() % 200);
            std::copy_n(row + (plane > 0 ? kFrom / 2 : kFrom), part.plane_width(plane),
                        part.row<std::uint16_t>(plane, y));
        }
    }
    const Picture mapped = mapper.apply(whole), mapped_part = mapper.apply(part);
    for (int plane = 0; plane < 3; ++plane) {
        for (int y = 0; y < part.plane_height(plane); ++y) {
            for (int x = 2; x + 2 < part.plane_width(plane); ++x) {
                INFO(plane << " " << x << " " << y);
                CHECK(mapped_part.row<std::uint8_t>(plane, y)[x] ==
                      mapped.row<std::uint8_t>(plane, y)[x + (plane > 0 ? kFrom / 2 : kFrom)]);
            }
        }
    }
}

TEST_CASE("what is drawn into high dynamic range is seen as in standard range", "[tonemap]") {
    for (const bool hlg : {false, true}) {
        const ColourDescription colour{9, hlg ? 18 : 16, 9, false};
        Overlay overlay;
        overlay.regions.push_back({0, 0, 1, 1, {0}, {{235, 128, 128, 255}, {16, 128, 128, 255}, {81, 90, 240, 255}}});
        filter::to_hdr(overlay, colour);
        REQUIRE(overlay.bit_depth == 10);
        const auto& colours = overlay.regions[0].colours;
        // Reference white: 58 % and 75 % (BT.2408).
        CHECK(colours[0].y == Approx(64 + 876 * (hlg ? 0.75 : 0.5807)).margin(1));
        CHECK(colours[0].cb == 512);
        CHECK(colours[1].y == 64);
        CHECK(colours[2].cr > 600);  // red stays red
        // Pictures by the same rule.
        Picture white = Picture::allocate(16, 16);
        for (int plane = 0; plane < 3; ++plane)
            std::fill_n(white.planes[plane], white.strides[plane] * white.plane_height(plane),
                        static_cast<std::uint8_t>(plane == 0 ? 235 : 128));
        white.colour = {1, 1, 1, false};
        const filter::SdrInHdr in_hdr(colour);
        const Picture out = in_hdr.apply(white);
        CHECK(out.row<std::uint16_t>(0, 3)[3] == colours[0].y);
        CHECK(out.colour == colour);
        CHECK(in_hdr.grey(203) == Approx(colours[0].y).margin(1));
    }
}

TEST_CASE("fewer bits keep the mean, and more bits the value", "[depth]") {
    for (const int value : {64, 65, 66, 67, 511, 940, 1019}) {
        const Picture down = filter::to_depth(flat(value, 512, 513), 8);
        CHECK(down.bit_depth == 8);
        CHECK(mean(down, 0) == Approx(value / 4.0));
        CHECK(mean(down, 2) == Approx(513 / 4.0));
        const Picture up = filter::to_depth(down, 10);
        CHECK(up.row<std::uint16_t>(0, 0)[0] == down.row<std::uint8_t>(0, 0)[0] * 4);
    }
    CHECK(filter::to_depth(flat(1023, 1023, 1023), 8).row<std::uint8_t>(0, 1)[0] == 255);
}
