#include "bitstream/h264.hpp"

#include <catch2/catch.hpp>

#include <random>

#include "base/bits.hpp"
#include "bitstream/aac.hpp"
#include "codec/video_encoder.hpp"

using namespace wavecrest;
using namespace wavecrest::bitstream;
using base::BitWriter;

namespace {

void ue(BitWriter& out, std::uint32_t value) {
    const std::uint64_t code = std::uint64_t{value} + 1;
    int length = 0;
    while (code >> (length + 1) != 0) ++length;
    out.bits(0, length);
    out.bits(static_cast<std::uint32_t>(code), length + 1);
}

// A Main-profile SPS of 720x576 interlace-capable video, cropped, with VUI; written after clause 7.3.2.1.1.
ByteVector main_sps() {
    BitWriter out;
    out.bits(0x67, 8);
    out.bits(77, 8);
    out.bits(0x40, 8);
    out.bits(30, 8);
    ue(out, 0);
    ue(out, 4);  // log2_max_frame_num
    ue(out, 0);  // poc type
    ue(out, 4);
    ue(out, 3);  // reference frames
    out.bits(0, 1);
    ue(out, 44);
    ue(out, 17);  // 18 map units of two rows: 576
    out.bits(0, 1);
    out.bits(1, 1);
    out.bits(1, 1);
    out.bits(1, 1);  // cropping
    ue(out, 2);
    ue(out, 2);
    ue(out, 0);
    ue(out, 0);
    out.bits(1, 1);  // VUI
    out.bits(1, 1);
    out.bits(255, 8);
    out.bits(16, 16);
    out.bits(11, 16);
    out.bits(0, 1);
    out.bits(1, 1);
    out.bits(5, 3);
    out.bits(0, 1);
    out.bits(1, 1);
    out.bits(5, 8);
    out.bits(6, 8);
    out.bits(5, 8);
    out.bits(0, 1);
    out.bits(1, 1);
    out.bits(1, 32);
    out.bits(50, 32);
    out.bits(1, 1);
    out.bits(0, 8);
    out.align();
    // Emulation prevention as a writer must do it (7.3.1).
    ByteVector nal;
    int zeros = 0;
    for (const std::uint8_t byte : out.bytes()) {
        if (zeros >= 2 && byte <= 3) {
            nal.push_back(3);
            zeros = 0;
        }
        zeros = byte == 0 ? zeros + 1 : 0;
        nal.push_back(byte);
    }
    return nal;
}

}  // namespace

TEST_CASE("a hand-written sequence parameter set", "[h264]") {
    const auto sps = h264::parse_sps(main_sps());
    REQUIRE(sps);
    CHECK(sps->profile_name() == "Main");
    CHECK(sps->level_name() == "3");
    CHECK(sps->width == 712);  // 720 less twice two chroma columns
    CHECK(sps->height == 576);
    CHECK_FALSE(sps->frames_only);
    CHECK(sps->reference_frames == 3);
    CHECK(sps->pixel_aspect == Ratio{16, 11});
    CHECK(sps->frame_rate == Ratio{25, 1});
    CHECK(sps->colour == ColourDescription{5, 6, 5, false});
}

TEST_CASE("parameter sets that are cut or garbled are refused, never crash", "[h264]") {
    const ByteVector nal = main_sps();
    for (std::size_t size = 0; size < nal.size() - 6; ++size) (void)h264::parse_sps(ByteSpan(nal).first(size));
    CHECK_FALSE(h264::parse_sps(ByteSpan(nal).first(6)));
    std::mt19937 random(7);
    for (int i = 0; i < 20000; ++i) {
        ByteVector bad = nal;
        for (int k = 0; k < 3; ++k) bad[1 + random() % (bad.size() - 1)] = static_cast<std::uint8_t>(random());
        const auto sps = h264::parse_sps(bad);
        if (sps) {
            CHECK(sps->width > 0);
            CHECK(sps->height > 0);
        }
    }
}

TEST_CASE("the configuration record holds what the encoder was told", "[h264]") {
    codec::VideoEncoderSettings settings;
    settings.width = 854;
    settings.height = 480;
    settings.frame_rate = {24000, 1001};
    settings.colour = {6, 6, 6, false};
    settings.pixel_aspect = {32, 27};
    auto encoder = codec::make_video_encoder(settings);
    REQUIRE(encoder);
    const auto sps = h264::parse_config((*encoder)->track().codec_config.view());
    REQUIRE(sps);
    CHECK(sps->profile_name() == "High");
    CHECK(sps->width == 854);
    CHECK(sps->height == 480);
    CHECK(sps->frame_rate == Ratio{24000, 1001});
    CHECK(sps->pixel_aspect == Ratio{32, 27});
    CHECK(sps->colour == ColourDescription{6, 6, 6, false});
    // Layout of 14496-15, 5.3.3.1: version, profile, compatibility, level, four-byte lengths, one SPS.
    const ByteSpan config = (*encoder)->track().codec_config.view();
    CHECK(config[0] == 1);
    CHECK(config[1] == 100);
    CHECK((config[4] & 3) == 3);
    CHECK((config[5] & 31) == 1);
    for (std::size_t size = 0; size < config.size(); ++size) (void)h264::parse_config(config.first(size));
}

TEST_CASE("level names", "[h264]") {
    CHECK(h264::level_idc_from_name("3.1") == 31);
    CHECK(h264::level_idc_from_name("4") == 40);
    CHECK(h264::level_idc_from_name("4.0") == 40);
    CHECK(h264::level_idc_from_name("1b") == 9);
    for (const char* wrong : {"", "0", "7", "3.9", "3.", "x", "31"}) CHECK(h264::level_idc_from_name(wrong) == 0);
}

TEST_CASE("AAC configurations", "[aac]") {
    // 0x11 0x90: LC, 48 kHz, stereo; 0x12 0x10: LC, 44.1 kHz, stereo.
    const auto stereo = aac::parse_config(ByteVector{0x11, 0x90});
    REQUIRE(stereo);
    CHECK(stereo->profile_name() == "AAC-LC");
    CHECK(stereo->sample_rate == 48000);
    CHECK(stereo->channels == 2);
    const auto cd = aac::parse_config(ByteVector{0x12, 0x10});
    REQUIRE(cd);
    CHECK(cd->sample_rate == 44100);
    CHECK(aac::make_config(48000, 2) == ByteVector{0x11, 0x90});
    CHECK(aac::make_config(44100, 2) == ByteVector{0x12, 0x10});
    CHECK(aac::make_config(47999, 2).empty());
    CHECK_FALSE(aac::parse_config(ByteVector{0x11}));
    CHECK_FALSE(aac::parse_config({}));
}
