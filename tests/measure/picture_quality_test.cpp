// Picture quality against the formulas as they are written, and against what another encoder says of itself.
#include <catch2/catch.hpp>
#include <cmath>
#include <cstdarg>
#include <cstdint>
#include <cstring>
#include <map>
extern "C" {
#include <x264.h>
}

#include "bitstream/h264.hpp"
#include "codec/h264/decoder.hpp"
#include "measure/picture_quality.hpp"
#include "support/clips.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
using measure::compare;

namespace {

Picture flat(int width, int height, int luma) {
    Picture picture = Picture::allocate(width, height);
    for (int c = 0; c < 3; ++c) {
        const int rows = c == 0 ? height : (height + 1) / 2, columns = c == 0 ? width : (width + 1) / 2;
        for (int y = 0; y < rows; ++y)
            std::memset(picture.planes[c] + y * picture.strides[c], c == 0 ? luma : 128,
                        static_cast<std::size_t>(columns));
    }
    return picture;
}

// Waves, and noise of so many levels.
Picture drawn(int width, int height, int number, unsigned noise) {
    Picture picture = flat(width, height, 0);
    std::uint32_t random = 99u + static_cast<std::uint32_t>(number);
    for (int c = 0; c < 3; ++c) {
        const int rows = c == 0 ? height : (height + 1) / 2, columns = c == 0 ? width : (width + 1) / 2;
        for (int y = 0; y < rows; ++y) {
            for (int x = 0; x < columns; ++x) {
                random = random * 1664525u + 1013904223u;
                picture.planes[c][y * picture.strides[c] + x] = static_cast<std::uint8_t>(
                    110 + 60 * std::sin((x + 2 * number) * 0.11) * std::cos(y * 0.07) + (random >> 16) % (noise + 1));
            }
        }
    }
    return picture;
}

// The mean of (13) over all windows, from means, variances and covariance as they are defined.
double ssim_by_definition(const Picture& a, const Picture& b) {
    double total = 0;
    int windows = 0;
    for (int top = 0; top + 8 <= a.height; top += 4) {
        for (int left = 0; left + 8 <= a.width; left += 4) {
            const auto at = [&](const Picture& p, int i) {
                return static_cast<double>(p.planes[0][(top + i / 8) * p.strides[0] + left + i % 8]);
            };
            double mean_a = 0, mean_b = 0, var_a = 0, var_b = 0, both = 0;
            for (int i = 0; i < 64; ++i) mean_a += at(a, i) / 64, mean_b += at(b, i) / 64;
            for (int i = 0; i < 64; ++i) {
                var_a += (at(a, i) - mean_a) * (at(a, i) - mean_a) / 63;
                var_b += (at(b, i) - mean_b) * (at(b, i) - mean_b) / 63;
                both += (at(a, i) - mean_a) * (at(b, i) - mean_b) / 63;
            }
            const double c1 = std::pow(0.01 * 255, 2), c2 = std::pow(0.03 * 255, 2);
            total += (2 * mean_a * mean_b + c1) * (2 * both + c2) /
                     ((mean_a * mean_a + mean_b * mean_b + c1) * (var_a + var_b + c2));
            ++windows;
        }
    }
    return total / windows;
}

}  // namespace

TEST_CASE("what doesn't differ is identical, and what differs evenly follows from the formula", "[quality]") {
    const Picture one = drawn(64, 48, 0, 20);
    const auto same = compare(one, one);
    REQUIRE(same);
    CHECK(same->ssim == Approx(1.0).margin(1e-12));
    CHECK(same->mean_squared_error() == 0);
    CHECK(measure::psnr(0) == measure::kIdentical);
    // One level everywhere: 20 lg 255.
    CHECK(measure::psnr(1) == Approx(48.1308).margin(1e-4));

    const auto brighter = compare(flat(64, 48, 100), flat(64, 48, 110));
    REQUIRE(brighter);
    CHECK(brighter->squared_error[0] == 100);
    CHECK(brighter->squared_error[1] == 0);
    CHECK(brighter->mean_squared_error() == Approx(400.0 / 6));
    const double c1 = 6.5025;
    CHECK(brighter->ssim == Approx((2 * 100 * 110 + c1) / (100.0 * 100 + 110 * 110 + c1)));

    CHECK_FALSE(compare(flat(64, 48, 0), flat(64, 46, 0)));
    CHECK_FALSE(compare(Picture{}, Picture{}));
    CHECK(compare(flat(6, 6, 0), flat(6, 6, 255))->ssim == 1);  // smaller than a window
    // The largest sums there are.
    CHECK(compare(flat(2048, 16, 0), flat(2048, 16, 255))->squared_error[0] == 255 * 255);
}

TEST_CASE("SSIM is that of its definition, also of sizes that aren't whole blocks", "[quality]") {
    for (const auto& [width, height] : {std::pair{64, 48}, {70, 54}, {131, 33}, {8, 8}}) {
        const Picture a = drawn(width, height, 0, 8), b = drawn(width, height, 1, 40);
        const auto similarity = compare(a, b);
        REQUIRE(similarity);
        CHECK(similarity->ssim == Approx(ssim_by_definition(a, b)).epsilon(1e-9));
        CHECK(similarity->ssim < 0.95);
    }
}

TEST_CASE("an encoder's own figures are found again in what decoding gives", "[quality]") {
    constexpr int kWidth = 320, kHeight = 192, kPictures = 12;
    x264_param_t param;
    REQUIRE(x264_param_default_preset(&param, "veryfast", nullptr) == 0);
    param.i_width = kWidth;
    param.i_height = kHeight;
    param.i_csp = X264_CSP_I420;
    param.i_threads = 1;
    // It measures only where it would tell.
    param.i_log_level = X264_LOG_INFO;
    param.pf_log = [](void*, int, const char*, va_list) {};
    param.b_annexb = 0;
    param.b_repeat_headers = 0;
    param.rc.i_rc_method = X264_RC_CQP;
    param.rc.i_qp_constant = 30;
    param.b_deblocking_filter = 0;  // it measures some of the samples before they are filtered
    param.analyse.b_psnr = 1;
    param.analyse.b_ssim = 1;
    x264_t* const encoder = x264_encoder_open(&param);
    REQUIRE(encoder != nullptr);
    x264_nal_t* units = nullptr;
    int count = 0;
    REQUIRE(x264_encoder_headers(encoder, &units, &count) > 0);
    // With four bytes of length in front.
    const auto payload = [](const x264_nal_t& unit) { return ByteSpan(unit.p_payload + 4, unit.i_payload - 4u); };
    Track track;
    track.kind = TrackKind::video;
    track.codec = Codec::h264;
    track.codec_config = Bytes(bitstream::h264::make_config(payload(units[0]), payload(units[1])));
    const auto decoder = codec::make_h264_decoder(track, {1, &codec::h264::best_kernels()});

    struct Said {
        double psnr[3], ssim;
    };
    std::map<std::int64_t, Said> said;
    std::vector<Picture> decoded;
    const auto take = [&](int size, const x264_picture_t& out) {
        REQUIRE(size >= 0);
        if (size == 0) return;
        said[out.i_pts] = {{out.prop.f_psnr[0], out.prop.f_psnr[1], out.prop.f_psnr[2]}, out.prop.f_ssim};
        Packet packet;
        packet.pts = base::from_ticks(out.i_pts, 25);
        packet.data = Bytes(ByteVector(units[0].p_payload, units[0].p_payload + size));
        REQUIRE(decoder->decode(packet, decoded));
    };
    std::vector<Picture> originals;
    for (int i = 0; i < kPictures; ++i) {
        originals.push_back(drawn(kWidth, kHeight, i, 12));
        x264_picture_t in, out;
        x264_picture_init(&in);
        in.img.i_csp = X264_CSP_I420;
        in.img.i_plane = 3;
        for (int c = 0; c < 3; ++c) {
            in.img.plane[c] = originals.back().planes[c];
            in.img.i_stride[c] = originals.back().strides[c];
        }
        in.i_pts = i;
        const int size = x264_encoder_encode(encoder, &units, &count, &in, &out);
        take(size, out);
    }
    while (x264_encoder_delayed_frames(encoder) > 0) {
        x264_picture_t out;
        const int size = x264_encoder_encode(encoder, &units, &count, nullptr, &out);
        take(size, out);
    }
    x264_encoder_close(encoder);
    REQUIRE(decoder->flush(decoded));
    REQUIRE(decoded.size() == kPictures);
    for (int i = 0; i < kPictures; ++i) {
        const auto at = static_cast<std::size_t>(i);
        const auto similarity = compare(originals[at], decoded[at]);
        REQUIRE(similarity);
        for (int c = 0; c < 3; ++c)
            CHECK(measure::psnr(similarity->squared_error[c]) == Approx(said.at(i).psnr[c]).margin(0.001));
        // Its windows lie two samples further on.
        CHECK(similarity->ssim == Approx(said.at(i).ssim).margin(0.004));
        CHECK(similarity->ssim < 0.99);
    }
}

TEST_CASE("quality adds up, and the worst second is told", "[quality]") {
    measure::QualityMeasure sum;
    CHECK(sum.result().pictures == 0);
    // Three seconds of 25 pictures from 10 s on, the middle one worse; one stray picture behind is worst of all.
    const auto add = [&](int number, double ssim, double error) {
        sum.add(base::from_seconds(10) + base::from_ticks(number, 25), {{error, error, error}, ssim});
    };
    for (int i = 74; i >= 0; --i) add(i, i / 25 == 1 ? 0.90 : 0.99, i / 25 == 1 ? 30 : 6);
    add(76, 0.2, 6);
    const auto quality = sum.result();
    CHECK(quality.pictures == 76);
    CHECK(quality.ssim == Approx((50 * 0.99 + 25 * 0.90 + 0.2) / 76));
    CHECK(quality.psnr_db == Approx(10 * std::log10(255 * 255 / ((51 * 6 + 25 * 30) / 76.0))));
    CHECK(quality.worst_ssim == Approx(0.90));
    CHECK(quality.worst_at == base::from_seconds(11));
}
