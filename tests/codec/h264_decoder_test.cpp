// Our H.264 decoder against what x264 says its streams look like when decoded.
#include <catch2/catch.hpp>
#include <cmath>
#include <cstdint>
#include <cstring>
#include <functional>
#include <map>
#include <random>

extern "C" {
#include <x264.h>
}

#include "base/bits.hpp"
#include "bitstream/h264.hpp"
#include "bitstream/nal.hpp"
#include "codec/h264/decoder.hpp"
#include "codec/video_decoder.hpp"
#include "support/browser.hpp"
#include "support/clips.hpp"
#include "support/h264_judge.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;

namespace {

struct Coded {
    Track track;
    std::vector<Packet> packets;
    std::map<std::int64_t, std::vector<std::uint8_t>> pictures;  // by time: Y, Cb, Cr
    int width = 0, height = 0;
};

// Textures that move in several directions, noise, flat parts and a cut.
void draw(x264_picture_t& picture, int width, int height, int number, bool interlaced, std::mt19937& random) {
    static const std::vector<std::uint8_t> texture = [] {
        std::mt19937 seed(7);
        std::vector<std::uint8_t> made(256 * 256);
        int value = 128;
        for (auto& one : made) {
            value = std::clamp(value + static_cast<int>(seed() % 41) - 20, 0, 255);
            one = static_cast<std::uint8_t>(value);
        }
        return made;
    }();
    const int scene = number >= 17 ? 90 : 0;
    for (int c = 0; c < 3; ++c) {
        const int w = c == 0 ? width : width / 2, h = c == 0 ? height : height / 2;
        for (int y = 0; y < h; ++y) {
            // Fields are of different moments.
            const int time = interlaced ? 2 * number + (y & 1) : 2 * number;
            for (int x = 0; x < w; ++x) {
                int value = 0;
                const int zone = (x * 3 / w) + 3 * (y * 2 / h);
                if (zone == 0) {
                    value =
                        texture[static_cast<std::size_t>(((y + time) & 255) * 256 + ((x + 2 * time + scene) & 255))];
                } else if (zone == 1) {
                    value = 60 + (x + y + time) * 2 % 120 + c * 10;
                } else if (zone == 2) {
                    value = 128 + static_cast<int>(random() % 64) - 32;
                } else if (zone == 3) {
                    value =
                        texture[static_cast<std::size_t>(((y * 2 - time) & 255) * 256 + ((x - time / 2) & 255))] / 2 +
                        40;
                } else if (zone == 4) {
                    const int dx = x - w / 2 - (time % 20), dy = y - h * 3 / 4;
                    value = dx * dx + dy * dy < w * w / 100 ? 220 : 30 + number;
                } else {
                    value = texture[static_cast<std::size_t>((y & 255) * 256 + ((x + scene) & 255))];
                }
                picture.img.plane[c][y * picture.img.i_stride[c] + x] =
                    static_cast<std::uint8_t>(std::clamp(value, 0, 255));
            }
        }
    }
}

Coded encode(int width, int height, int frames, const std::function<void(x264_param_t&)>& set) {
    x264_param_t param;
    x264_param_default_preset(&param, "medium", nullptr);
    param.i_width = width;
    param.i_height = height;
    param.i_csp = X264_CSP_I420;
    param.i_log_level = X264_LOG_NONE;
    param.b_full_recon = 1;
    param.b_annexb = 0;
    param.b_repeat_headers = 0;
    param.i_threads = 1;
    param.i_fps_num = param.i_timebase_den = 25;
    param.i_fps_den = param.i_timebase_num = 1;
    param.i_keyint_max = 30;
    param.rc.i_rc_method = X264_RC_CQP;
    param.rc.i_qp_constant = 26;
    set(param);
    x264_t* encoder = x264_encoder_open(&param);
    REQUIRE(encoder != nullptr);
    Coded coded;
    coded.width = width;
    coded.height = height;
    x264_nal_t* nals = nullptr;
    int count = 0;
    REQUIRE(x264_encoder_headers(encoder, &nals, &count) > 0);
    std::vector<ByteSpan> sps, pps;
    for (int i = 0; i < count; ++i) {
        const ByteSpan unit(nals[i].p_payload + 4, static_cast<std::size_t>(nals[i].i_payload - 4));
        if (nals[i].i_type == NAL_SPS) sps.push_back(unit);
        if (nals[i].i_type == NAL_PPS) pps.push_back(unit);
    }
    coded.track.kind = TrackKind::video;
    coded.track.codec = Codec::h264;
    coded.track.width = width;
    coded.track.height = height;
    coded.track.bit_depth = 8;
    coded.track.codec_config = Bytes(bitstream::h264::make_config(sps, pps));
    x264_picture_t in, made;
    x264_picture_alloc(&in, X264_CSP_I420, width, height);
    std::mt19937 random(1);
    const auto take = [&](int size) {
        if (size <= 0) return;
        Packet packet;
        packet.pts = base::from_ticks(made.i_pts, 25);
        packet.dts = base::from_ticks(made.i_dts, 25);
        packet.duration = base::from_ticks(1, 25);
        packet.key = made.b_keyframe != 0;
        packet.data = Bytes(ByteVector(nals[0].p_payload, nals[0].p_payload + size));
        coded.packets.push_back(std::move(packet));
        auto& picture = coded.pictures[made.i_pts];
        for (int c = 0; c < 3; ++c) {
            const int w = c == 0 ? width : width / 2, h = c == 0 ? height : height / 2;
            for (int y = 0; y < h; ++y) {
                // Chroma lies interleaved inside the encoder (NV12): two planes.
                const bool interleaved = made.img.i_plane == 2 && c > 0;
                const int plane = interleaved ? 1 : c;
                const std::uint8_t* row = made.img.plane[plane] + y * made.img.i_stride[plane];
                if (interleaved) {
                    for (int x = 0; x < w; ++x) picture.push_back(row[2 * x + c - 1]);
                } else {
                    picture.insert(picture.end(), row, row + w);
                }
            }
        }
    };
    for (int i = 0; i < frames; ++i) {
        draw(in, width, height, i, param.b_interlaced != 0, random);
        in.i_pts = i;
        take(x264_encoder_encode(encoder, &nals, &count, &in, &made));
    }
    while (x264_encoder_delayed_frames(encoder) > 0) take(x264_encoder_encode(encoder, &nals, &count, nullptr, &made));
    x264_picture_clean(&in);
    x264_encoder_close(encoder);
    return coded;
}

using Planes = std::vector<std::uint8_t>;  // Y, Cb, Cr without padding

Planes planes_of(const Picture& picture) {
    Planes planes;
    for (int c = 0; c < 3; ++c) {
        const int w = c == 0 ? picture.width : picture.width / 2, h = c == 0 ? picture.height : picture.height / 2;
        for (int y = 0; y < h; ++y) {
            const std::uint8_t* const row = picture.planes[c] + y * picture.strides[c];
            planes.insert(planes.end(), row, row + w);
        }
    }
    return planes;
}

// Kernels that can be made to leave out a stage.
struct Stages {
    static inline codec::h264::Kernels real;
    static inline bool residual = true, deblocking = true;

    static const codec::h264::Kernels& over(const codec::h264::Kernels& kernels) {
        static codec::h264::Kernels made;
        real = made = kernels;
        made.add_4x4 = [](const std::int16_t* coefficients, std::uint8_t* at, std::ptrdiff_t stride) {
            if (residual) real.add_4x4(coefficients, at, stride);
        };
        made.add_8x8 = [](const std::int16_t* coefficients, std::uint8_t* at, std::ptrdiff_t stride) {
            if (residual) real.add_8x8(coefficients, at, stride);
        };
        made.add_dc = [](int coefficient, std::uint8_t* at, std::ptrdiff_t stride, int size) {
            if (residual) real.add_dc(coefficient, at, stride, size);
        };
        made.luma_vertical = edge<&codec::h264::Kernels::luma_vertical>;
        made.luma_horizontal = edge<&codec::h264::Kernels::luma_horizontal>;
        made.chroma_vertical = edge<&codec::h264::Kernels::chroma_vertical>;
        made.chroma_horizontal = edge<&codec::h264::Kernels::chroma_horizontal>;
        return made;
    }
    template <codec::h264::Kernels::EdgeFilter codec::h264::Kernels::*filter>
    static void edge(std::uint8_t* at, std::ptrdiff_t stride, int alpha, int beta, const std::int8_t* clip) {
        if (deblocking) (real.*filter)(at, stride, alpha, beta, clip);
    }
};

// A picture with stages left out in it alone: those before it in decoding order are whole.
Planes decoded_without(const Coded& coded, const codec::h264::Kernels& kernels, std::int64_t time, bool residual) {
    auto decoder = codec::make_h264_decoder(coded.track, {1, &Stages::over(kernels)});
    std::vector<Picture> out;
    for (const Packet& packet : coded.packets) {
        const bool it = base::to_ticks(packet.pts, 25) == time;
        Stages::deblocking = !it;
        Stages::residual = !it || residual;
        REQUIRE(decoder->decode(packet, out));
        if (it) break;
    }
    Stages::deblocking = Stages::residual = true;
    REQUIRE(decoder->flush(out));
    for (const Picture& picture : out) {
        if (base::to_ticks(picture.pts, 25) == time) return planes_of(picture);
    }
    return {};
}

// Where a picture is wrong first, in coding order, and by which stage: told by the samples that are wrong there.
std::string first_wrong(const Coded& coded, const codec::h264::Kernels& kernels, std::int64_t time, const Planes& is) {
    const Planes& right = coded.pictures.at(time);
    const int columns = (coded.width + 15) / 16, rows = (coded.height + 15) / 16;
    std::vector<std::size_t> wrong;
    std::string place;
    for (int macroblock = 0; macroblock < columns * rows && wrong.empty(); ++macroblock) {
        std::size_t plane = 0;
        for (int c = 0; c < 3; ++c) {
            const int size = c == 0 ? 16 : 8;
            const int w = c == 0 ? coded.width : coded.width / 2, h = c == 0 ? coded.height : coded.height / 2;
            const int left = macroblock % columns * size, top = macroblock / columns * size;
            for (int y = top; y < std::min(top + size, h); ++y) {
                for (int x = left; x < std::min(left + size, w); ++x) {
                    const std::size_t at = plane + static_cast<std::size_t>(y * w + x);
                    if (is[at] == right[at]) continue;
                    if (wrong.empty())
                        place = "plane " + std::to_string(c) + ", macroblock " + std::to_string(macroblock % columns) +
                                "," + std::to_string(macroblock / columns) + ", sample " + std::to_string(x - left) +
                                "," + std::to_string(y - top) + ": " + std::to_string(is[at]) + " instead of " +
                                std::to_string(right[at]);
                    wrong.push_back(at);
                }
            }
            plane += static_cast<std::size_t>(w * h);
        }
    }
    const Planes before = decoded_without(coded, kernels, time, true);
    const Planes predicted = decoded_without(coded, kernels, time, false);
    const auto all = [&](const auto& is_so) { return std::all_of(wrong.begin(), wrong.end(), is_so); };
    // What deblocking leaves alone shows what it was given.
    const bool only_deblocked = all([&](std::size_t at) { return is[at] != before[at] || right[at] == before[at]; });
    const char* stage = only_deblocked                                                     ? "deblocking"
                        : all([&](std::size_t at) { return before[at] == predicted[at]; }) ? "prediction"
                                                                                           : "residual, or prediction";
    return "picture " + std::to_string(time) + ", " + place + " (" + stage + ")";
}

// "" when every picture is the same to the last bit; else the first place that differs, in decoding order.
std::string compare(const Coded& coded, const codec::h264::Kernels& kernels = codec::h264::best_kernels()) {
    // Larger ones by several threads, several pictures at once.
    auto decoder = codec::make_h264_decoder(coded.track, {coded.height > 100 ? 3 : 1, &kernels});
    std::vector<Picture> out;
    for (const Packet& packet : coded.packets) {
        if (const auto status = decoder->decode(packet, out); !status) return status.error().what;
    }
    if (const auto status = decoder->flush(out); !status) return status.error().what;
    if (out.size() != coded.pictures.size())
        return std::to_string(out.size()) + " pictures came out of " + std::to_string(coded.pictures.size());
    std::int64_t last = -1;
    std::map<std::int64_t, Planes> wrong;
    for (const Picture& picture : out) {
        const std::int64_t time = base::to_ticks(picture.pts, 25);
        if (time <= last) return "pictures come out of order at " + std::to_string(time);
        last = time;
        Planes is = planes_of(picture);
        if (is != coded.pictures.at(time)) wrong[time] = std::move(is);
    }
    for (const Packet& packet : coded.packets) {
        const std::int64_t time = base::to_ticks(packet.pts, 25);
        if (const auto found = wrong.find(time); found != wrong.end())
            return first_wrong(coded, kernels, time, found->second);
    }
    return "";
}

}  // namespace

TEST_CASE("what is wrong is found, and by which stage", "[h264]") {
    const Coded coded = encode(128, 96, 12, [](x264_param_t& p) { p.rc.i_qp_constant = 30; });
    REQUIRE(compare(coded) == "");
    using codec::h264::Kernels;
    static const Kernels& right = codec::h264::plain_kernels();
    const auto said = [&](const std::function<void(Kernels&)>& spoil) {
        Kernels kernels = right;
        spoil(kernels);
        return compare(coded, kernels);
    };
    CHECK_THAT(said([](Kernels& k) {
                   k.luma_horizontal = [](std::uint8_t* at, std::ptrdiff_t stride, int alpha, int beta,
                                          const std::int8_t* clip) {
                       right.luma_horizontal(at, stride, alpha, beta, clip);
                       at[3] ^= 1;
                   };
               }),
               Catch::StartsWith("picture ") && Catch::EndsWith("(deblocking)"));
    CHECK_THAT(said([](Kernels& k) {
                   k.add_4x4 = [](const std::int16_t* coefficients, std::uint8_t* at, std::ptrdiff_t stride) {
                       right.add_4x4(coefficients, at, stride);
                       for (int i = 0; i < 4; ++i) at[i] ^= 2;
                   };
               }),
               Catch::EndsWith("(residual, or prediction)"));
    // The first picture has no motion.
    const std::string motion = said([](Kernels& k) {
        k.luma[0] = [](const std::uint8_t* from, std::ptrdiff_t stride, int dx, int dy, std::uint8_t* to,
                       std::ptrdiff_t to_stride, int height) {
            right.luma[0](from, stride, dx, dy, to, to_stride, height);
            for (int i = 0; i < 16; ++i) to[i] ^= 2;
        };
    });
    CHECK_THAT(motion, Catch::EndsWith("prediction)") && !Catch::StartsWith("picture 0,"));
}

namespace {

// Compares with the encoder's own reconstruction, with its tools one after the other and together.
void check_to_the_last_bit(int width, int height) {
    struct Setting {
        const char* name;
        std::function<void(x264_param_t&)> set;
    };
    const auto plain = [](x264_param_t& p) {
        p.i_bframe = 0;
        p.b_cabac = 0;
        p.b_deblocking_filter = 0;
        p.analyse.b_transform_8x8 = 0;
        p.analyse.inter = 0;
        p.analyse.intra = X264_ANALYSE_I4x4;
        p.i_frame_reference = 1;
        p.analyse.i_weighted_pred = 0;
    };
    const Setting settings[] = {
        {"intra, CAVLC, no filter",
         [&](x264_param_t& p) {
             plain(p);
             p.i_keyint_max = 1;
         }},
        {"intra, CAVLC",
         [&](x264_param_t& p) {
             plain(p);
             p.i_keyint_max = 1;
             p.b_deblocking_filter = 1;
         }},
        {"intra, CABAC, no filter",
         [&](x264_param_t& p) {
             plain(p);
             p.i_keyint_max = 1;
             p.b_cabac = 1;
         }},
        {"intra, CABAC, 8x8",
         [&](x264_param_t& p) {
             p.i_keyint_max = 1;
             p.analyse.b_transform_8x8 = 1;
         }},
        {"intra, CAVLC, 8x8",
         [&](x264_param_t& p) {
             p.i_keyint_max = 1;
             p.b_cabac = 0;
             p.analyse.b_transform_8x8 = 1;
         }},
        {"P, CAVLC, no filter", [&](x264_param_t& p) { plain(p); }},
        {"P, CAVLC",
         [&](x264_param_t& p) {
             plain(p);
             p.b_deblocking_filter = 1;
         }},
        {"P, CABAC",
         [&](x264_param_t& p) {
             plain(p);
             p.b_cabac = 1;
         }},
        {"P, all partitions, references, weights",
         [&](x264_param_t& p) {
             p.i_bframe = 0;
             p.i_frame_reference = 4;
             p.analyse.inter = ~0u;
             p.analyse.i_weighted_pred = 2;
         }},
        {"B spatial, no filter",
         [&](x264_param_t& p) {
             plain(p);
             p.i_bframe = 2;
             p.b_cabac = 1;
             p.analyse.i_direct_mv_pred = X264_DIRECT_PRED_SPATIAL;
         }},
        {"B temporal, no filter",
         [&](x264_param_t& p) {
             plain(p);
             p.i_bframe = 2;
             p.b_cabac = 1;
             p.analyse.i_direct_mv_pred = X264_DIRECT_PRED_TEMPORAL;
         }},
        {"B CAVLC",
         [&](x264_param_t& p) {
             plain(p);
             p.i_bframe = 2;
             p.analyse.inter = ~0u;
             p.analyse.b_weighted_bipred = 0;
         }},
        {"medium", [](x264_param_t&) {}},
        {"slower",
         [](x264_param_t& p) {
             x264_param_default_preset(&p, "slower", nullptr);
             p.b_full_recon = 1;
             p.b_annexb = 0;
             p.i_threads = 1;
             p.i_log_level = X264_LOG_NONE;
             p.rc.i_rc_method = X264_RC_CQP;
             p.rc.i_qp_constant = 24;
             p.rc.i_lookahead = 10;
             p.b_repeat_headers = 0;
             p.i_bframe_pyramid = X264_B_PYRAMID_NORMAL;
             p.i_fps_num = p.i_timebase_den = 25;
             p.i_fps_den = p.i_timebase_num = 1;
             p.i_csp = X264_CSP_I420;
             p.i_width = 176;
             p.i_height = 144;
         }},
        {"interlaced, intra",
         [](x264_param_t& p) {
             p.b_interlaced = 1;
             p.i_keyint_max = 1;
         }},
        {"interlaced, intra, CAVLC",
         [](x264_param_t& p) {
             p.b_interlaced = 1;
             p.i_keyint_max = 1;
             p.b_cabac = 0;
         }},
        {"interlaced, P",
         [](x264_param_t& p) {
             p.b_interlaced = 1;
             p.i_bframe = 0;
         }},
        {"interlaced, B spatial",
         [](x264_param_t& p) {
             p.b_interlaced = 1;
             p.analyse.i_direct_mv_pred = X264_DIRECT_PRED_SPATIAL;
         }},
        {"interlaced, B temporal",
         [](x264_param_t& p) {
             p.b_interlaced = 1;
             p.analyse.i_direct_mv_pred = X264_DIRECT_PRED_TEMPORAL;
         }},
        {"interlaced, CAVLC",
         [](x264_param_t& p) {
             p.b_interlaced = 1;
             p.b_cabac = 0;
         }},
        {"interlaced, P, no filter",
         [](x264_param_t& p) {
             p.b_interlaced = 1;
             p.i_bframe = 0;
             p.b_deblocking_filter = 0;
         }},
        {"interlaced, B, no filter",
         [](x264_param_t& p) {
             p.b_interlaced = 1;
             p.b_deblocking_filter = 0;
         }},
        {"slices, constrained intra",
         [](x264_param_t& p) {
             p.i_slice_count = 4;
             p.b_constrained_intra = 1;
         }},
        {"interlaced, slices, bottom field first",
         [](x264_param_t& p) {
             p.b_interlaced = 1;
             p.b_tff = 0;
             p.i_slice_count = 3;
         }},
        {"open groups, pyramid, adaptive B",
         [](x264_param_t& p) {
             p.b_open_gop = 1;
             p.i_keyint_max = 12;
             p.i_bframe = 5;
             p.i_bframe_adaptive = X264_B_ADAPT_TRELLIS;
             p.i_bframe_pyramid = X264_B_PYRAMID_STRICT;
         }},
        {"all references, blind weights",
         [](x264_param_t& p) {
             p.i_frame_reference = 16;
             p.i_bframe = 3;
             p.analyse.inter = ~0u;
             p.analyse.i_weighted_pred = 1;
             p.analyse.i_direct_mv_pred = X264_DIRECT_PRED_AUTO;
         }},
        {"finest steps, with plain samples", [](x264_param_t& p) { p.rc.i_qp_constant = 1; }},
        {"finest steps, CAVLC",
         [](x264_param_t& p) {
             p.rc.i_qp_constant = 1;
             p.b_cabac = 0;
         }},
        {"coarsest steps", [](x264_param_t& p) { p.rc.i_qp_constant = 51; }},
        {"weights of the JVT", [](x264_param_t& p) { p.i_cqm_preset = X264_CQM_JVT; }},
        {"chroma of its own, filter moved",
         [](x264_param_t& p) {
             p.analyse.i_chroma_qp_offset = -8;
             p.i_deblocking_filter_alphac0 = 4;
             p.i_deblocking_filter_beta = -3;
         }},
        {"interlaced, finest steps",
         [](x264_param_t& p) {
             p.b_interlaced = 1;
             p.rc.i_qp_constant = 2;
             p.analyse.inter = ~0u;
         }},
        {"refreshed by columns of intra",
         [](x264_param_t& p) {
             p.b_intra_refresh = 1;
             p.i_keyint_max = 20;
         }},
    };
    for (const Setting& one : settings) {
        const Coded coded = encode(width, height, 24, [&](x264_param_t& p) {
            one.set(p);
            p.i_width = width;
            p.i_height = height;
        });
        const std::string difference = compare(coded);
        INFO(one.name << ", " << width << "x" << height << ": " << difference);
        CHECK(difference.empty());
    }
}

}  // namespace

TEST_CASE("pictures of whole macroblocks are to the last bit what the encoder saw", "[h264]") {
    check_to_the_last_bit(176, 144);
}

// The rest of an interlaced picture is of pairs of macroblocks.
TEST_CASE("pictures whose size has a rest are to the last bit what the encoder saw", "[h264]") {
    check_to_the_last_bit(150, 100);
}

TEST_CASE("slices in any order are refused by name", "[h264]") {
    const Coded coded = encode(64, 64, 4, [](x264_param_t& p) {
        x264_param_apply_profile(&p, "baseline");
        p.i_slice_count = 2;
    });
    const auto sets = bitstream::h264::parameter_sets(coded.track.codec_config.view());
    REQUIRE(sets);
    ByteVector sps(sets->units[0].begin(), sets->units[0].end());
    REQUIRE(sps[1] == 66);
    const auto said = [&](std::uint8_t constraints, const std::vector<std::size_t>& order) {
        sps[2] = constraints;
        Track track = coded.track;
        track.codec_config = Bytes(bitstream::h264::make_config(sps, sets->units[1]));
        auto decoder = codec::make_h264_decoder(track, {1, &codec::h264::best_kernels()});
        std::vector<Picture> out;
        for (Packet packet : coded.packets) {
            std::vector<ByteSpan> slices = bitstream::nal::split_lengths(packet.data.view());
            std::erase_if(slices, [](ByteSpan unit) { return (unit[0] & 0x1F) == bitstream::h264::kSei; });
            REQUIRE(slices.size() == 2);
            ByteVector data;
            for (const std::size_t i : order) bitstream::nal::append(data, slices[i]);
            packet.data = Bytes(std::move(data));
            if (const auto status = decoder->decode(packet, out); !status) return status.error().what;
        }
        REQUIRE(decoder->flush(out));
        CHECK(out.size() == coded.pictures.size());
        for (const Picture& picture : out)
            CHECK(planes_of(picture) == coded.pictures.at(base::to_ticks(picture.pts, 25)));
        return std::string();
    };
    CHECK_THAT(said(0x00, {1, 0}), Catch::Contains("has arbitrary slice order"));
    CHECK(said(0x00, {0, 1}).empty());
    // A slice that comes again is none of those.
    CHECK(said(0x00, {0, 1, 0, 1}).empty());
    // Constrained Baseline may not have them; they can be decoded nonetheless.
    CHECK(said(0x40, {0, 1, 0}).empty());
}

TEST_CASE("a browser's decoder sees the same pictures", "[h264][browser]") {
    if (!has_browser()) return;
    const Coded coded = encode(176, 144, 30, [](x264_param_t&) {});
    std::string why;
    const auto judged = judge_h264({{coded.track.codec_config, coded.packets}}, why);
    INFO(why);
    REQUIRE(judged);
    REQUIRE(judged->front().size() == coded.packets.size());
    auto decoder = codec::make_h264_decoder(coded.track);
    std::vector<Picture> out;
    for (const Packet& packet : coded.packets) REQUIRE(decoder->decode(packet, out));
    REQUIRE(decoder->flush(out));
    for (std::size_t i = 0; i < out.size(); ++i) {
        CHECK(base::to_ticks(out[i].pts, 1'000'000) == judged->front()[i].time);
        CHECK(hash_of(out[i]) == judged->front()[i].hash);
    }
}

TEST_CASE("a recording by another maker's encoder looks as a browser shows it", "[h264][browser]") {
    const base::Path file = base::Path(WAVECREST_SOURCE) / "../shared/interop/clip.mkv";
    if (!has_browser() || !std::filesystem::exists(file)) return;
    for (const TestTrack& test_track : read_media(file)) {
        if (test_track.track.codec != Codec::h264) continue;
        std::string why;
        const auto judged = judge_h264({{test_track.track.codec_config, test_track.packets}}, why);
        INFO(why);
        REQUIRE(judged);
        auto decoder = codec::make_h264_decoder(test_track.track);
        std::vector<Picture> out;
        for (const Packet& packet : test_track.packets) REQUIRE(decoder->decode(packet, out));
        REQUIRE(decoder->flush(out));
        REQUIRE(out.size() > 100);
        REQUIRE(judged->front().size() == out.size());
        int differing = 0;
        for (std::size_t i = 0; i < out.size(); ++i) differing += hash_of(out[i]) != judged->front()[i].hash ? 1 : 0;
        CHECK(differing == 0);
    }
}

namespace {

// How far the luma of a picture is from what the encoder saw (dB).
double similarity(const Picture& picture, const std::vector<std::uint8_t>& right) {
    double sum = 0;
    for (int y = 0; y < picture.height; ++y) {
        for (int x = 0; x < picture.width; ++x) {
            const double d =
                picture.planes[0][y * picture.strides[0] + x] - right[static_cast<std::size_t>(y * picture.width + x)];
            sum += d * d;
        }
    }
    const double mean = sum / (picture.width * picture.height);
    return mean == 0 ? 100 : 10 * std::log10(255 * 255 / mean);
}

struct Damaged {
    std::vector<Picture> pictures;
    std::vector<Problem> problems;
};
Damaged decode_damaged(const Track& track, const std::vector<Packet>& packets, int threads = 0) {
    auto decoder = codec::make_h264_decoder(track, {threads, &codec::h264::best_kernels()});
    Damaged damaged;
    for (const Packet& packet : packets) REQUIRE(decoder->decode(packet, damaged.pictures));
    REQUIRE(decoder->flush(damaged.pictures));
    damaged.problems = decoder->problems();
    return damaged;
}

// A packet's units, and packets out of them.
std::vector<ByteVector> units_of(const Packet& packet) {
    std::vector<ByteVector> units;
    for (const ByteSpan unit : bitstream::nal::split_lengths(packet.data.view()))
        units.emplace_back(unit.begin(), unit.end());
    return units;
}
Packet with_units(Packet packet, const std::vector<ByteVector>& units) {
    ByteVector data;
    for (const ByteVector& unit : units) {
        for (int shift = 24; shift >= 0; shift -= 8) data.push_back(static_cast<std::uint8_t>(unit.size() >> shift));
        data.insert(data.end(), unit.begin(), unit.end());
    }
    packet.data = Bytes(std::move(data));
    return packet;
}

}  // namespace

TEST_CASE("lost slices are filled in from before, and told with their times", "[h264][damage]") {
    Coded coded = encode(176, 144, 40, [](x264_param_t& p) {
        p.i_slice_count = 4;
        p.i_bframe = 0;
    });
    // One of four slices of the eleventh picture.
    auto units = units_of(coded.packets[10]);
    REQUIRE(units.size() == 4);
    const std::int64_t time = base::to_ticks(coded.packets[10].pts, 25);
    SECTION("one that is missing") {
        units.erase(units.begin() + 2);
    }
    SECTION("one whose end is cut off") {
        units[2].resize(units[2].size() / 3);
    }
    SECTION("one that is rubbish behind its head") {
        for (std::size_t i = 12; i < units[2].size(); ++i) units[2][i] = static_cast<std::uint8_t>(i * 37);
    }
    SECTION("the last one") {
        units.pop_back();
    }
    SECTION("the first one") {
        units.erase(units.begin());
    }
    coded.packets[10] = with_units(coded.packets[10], units);
    const Damaged damaged = decode_damaged(coded.track, coded.packets);
    REQUIRE(damaged.pictures.size() == 40);
    REQUIRE(damaged.problems.size() == 1);
    CHECK(damaged.problems[0].from == coded.packets[10].pts);
    CHECK(damaged.problems[0].to == coded.packets[10].pts + coded.packets[10].duration);
    for (const Picture& picture : damaged.pictures) {
        const std::int64_t at = base::to_ticks(picture.pts, 25);
        const double like = similarity(picture, coded.pictures.at(at));
        INFO(at << ": " << like);
        if (at < time) CHECK(like == 100);
        // The rest of the picture is right, and what moves on is near. (The scene changes at 17.)
        if (at == time) CHECK(like > 17);
        if (at == time) CHECK(like < 100);
    }
    // A keyframe begins anew.
    CHECK(similarity(damaged.pictures[39], coded.pictures.at(39)) == 100);
}

TEST_CASE("a lost picture is stood in for, and times stay", "[h264][damage]") {
    for (const bool interlaced : {false, true}) {
        Coded coded = encode(176, 144, 40, [&](x264_param_t& p) { p.b_interlaced = interlaced ? 1 : 0; });
        std::vector<Packet> packets = coded.packets;
        // A reference picture of the first group: the second packet is one, B pictures come after it.
        const Packet lost = packets[1];
        packets.erase(packets.begin() + 1);
        const Damaged damaged = decode_damaged(coded.track, packets);
        CHECK(damaged.pictures.size() == 39);
        CHECK_FALSE(damaged.problems.empty());
        std::int64_t last = -1;
        for (const Picture& picture : damaged.pictures) {
            const std::int64_t at = base::to_ticks(picture.pts, 25);
            CHECK(at > last);
            last = at;
        }
        CHECK(similarity(damaged.pictures.back(), coded.pictures.at(39)) == 100);
        // What stands in may still be under way on another thread.
        const auto bytes = [](const Damaged& one) {
            std::vector<std::uint8_t> all;
            for (const Picture& picture : one.pictures) {
                for (int y = 0; y < picture.height; ++y) {
                    const std::uint8_t* row = picture.planes[0] + y * picture.strides[0];
                    all.insert(all.end(), row, row + picture.width);
                }
            }
            return all;
        };
        // References lost here and there: gaps in frame_num.
        std::vector<Packet> few;
        for (std::size_t i = 0; i < coded.packets.size(); ++i) {
            if (i % 5 != 4 || coded.packets[i].key) few.push_back(coded.packets[i]);
        }
        const std::vector<std::uint8_t> alone = bytes(decode_damaged(coded.track, few, 1));
        for (int again = 0; again < 5; ++again) CHECK(bytes(decode_damaged(coded.track, few, 3)) == alone);
    }
}

TEST_CASE("a stream that begins between keyframes shows nothing false before the first one", "[h264][damage]") {
    const Coded coded = encode(176, 144, 40, [](x264_param_t& p) {
        p.b_open_gop = 1;
        p.i_keyint_max = 10;
        p.i_bframe = 3;
        p.i_bframe_adaptive = X264_B_ADAPT_NONE;
    });
    // From the second keyframe on: pictures that are shown before it were predicted from the group before.
    std::size_t second = 1;
    while (!coded.packets[second].key) ++second;
    const std::vector<Packet> packets(coded.packets.begin() + static_cast<std::ptrdiff_t>(second), coded.packets.end());
    REQUIRE(packets[1].pts < packets[0].pts);
    const Damaged damaged = decode_damaged(coded.track, packets);
    for (const Picture& picture : damaged.pictures) {
        const std::int64_t at = base::to_ticks(picture.pts, 25);
        INFO(at);
        CHECK(picture.pts >= packets[0].pts);
        CHECK(similarity(picture, coded.pictures.at(at)) == 100);
    }
    CHECK(damaged.problems.empty());
}

TEST_CASE("rubbish in H.264 ends in pictures or in an error, never worse", "[h264][damage]") {
    std::mt19937 random(5);
    for (const bool interlaced : {false, true}) {
        for (const bool cabac : {false, true}) {
            const Coded coded = encode(176, 144, 20, [&](x264_param_t& p) {
                p.b_interlaced = interlaced ? 1 : 0;
                p.b_cabac = cabac ? 1 : 0;
                p.i_slice_count = 2;
            });
            for (int round = 0; round < 20; ++round) {
                auto decoder = codec::make_h264_decoder(coded.track);
                std::vector<Picture> out;
                std::size_t count = 0;
                for (Packet packet : coded.packets) {
                    const ByteSpan from = packet.data.view();
                    ByteVector data(from.begin(), from.end());
                    for (int i = 0; i < 3; ++i)
                        data[4 + random() % (data.size() - 4)] ^= static_cast<std::uint8_t>(1 << random() % 8);
                    packet.data = Bytes(std::move(data));
                    (void)decoder->decode(packet, out);
                    for (const Picture& picture : out) CHECK(picture.width <= 4096);
                    count += out.size();
                    out.clear();
                }
                (void)decoder->flush(out);
                CHECK(count + out.size() <= 60);
            }
        }
    }
}

TEST_CASE("what isn't decoded is refused by name before anything is", "[h264]") {
    // High 4:2:2 and High 10 of x264, as far as it was built for them, by their parameter sets alone.
    const auto why = [](int profile, int chroma, int depth) {
        base::BitWriter bits;
        const auto ue = [&](std::uint32_t value) {
            int length = 0;
            while ((value + 1) >> (length + 1) != 0) ++length;
            bits.bits(0, length);
            bits.bits(value + 1, length + 1);
        };
        bits.bits(0x67, 8);
        bits.bits(static_cast<std::uint32_t>(profile), 8);
        bits.bits(0, 8);
        bits.bits(40, 8);
        ue(0);
        ue(static_cast<std::uint32_t>(chroma));
        if (chroma == 3) bits.bits(0, 1);
        ue(static_cast<std::uint32_t>(depth - 8));
        ue(static_cast<std::uint32_t>(depth - 8));
        bits.bits(0, 2);
        for (const std::uint32_t value : {0u, 2u, 1u}) ue(value);
        bits.bits(0, 1);
        ue(10);
        ue(8);
        bits.bits(0b1100, 4);
        bits.bits(1, 1);
        const ByteVector sps = bits.release();
        const ByteVector pps = {0x68, 0xCE, 0x38, 0x80};
        Track track;
        track.kind = TrackKind::video;
        track.codec = Codec::h264;
        track.codec_config = Bytes(bitstream::h264::make_config(ByteSpan(sps), ByteSpan(pps)));
        return codec::why_no_pictures(track);
    };
    CHECK(why(100, 1, 8).empty());
    CHECK(why(122, 2, 8).find("4:2:2") != std::string::npos);
    CHECK(why(244, 3, 8).find("4:4:4") != std::string::npos);
    CHECK(why(110, 1, 10).find("10 bits") != std::string::npos);
}
