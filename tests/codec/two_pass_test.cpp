// An average bit rate in two passes, and keyframes at a fixed distance, in each video codec.
#include <catch2/catch.hpp>

#include <filesystem>

#include "codec/video_encoder.hpp"
#include "sample/test_card.hpp"

using namespace wavecrest;

namespace {

using Pass = codec::VideoEncoderSettings::Pass;
constexpr Codec kCodecs[] = {Codec::h264, Codec::h265, Codec::vp9, Codec::av1};

codec::VideoEncoderSettings settings_for(Codec codec) {
    codec::VideoEncoderSettings settings;
    settings.codec = codec;
    settings.width = 240;
    settings.height = 176;
    settings.frame_rate = {24, 1};
    settings.colour = {6, 6, 6, false};
    settings.effort = 1;
    return settings;
}

// The card, which jumps to another place of its run at `cut`: another picture.
std::vector<Packet> encode(const codec::VideoEncoderSettings& settings, int count, int cut = 1 << 20) {
    auto encoder = codec::make_video_encoder(settings);
    REQUIRE(encoder);
    sample::CardSettings card_settings;
    card_settings.width = settings.width;
    card_settings.height = settings.height;
    card_settings.frame_rate = settings.frame_rate;
    const sample::TestCard card(card_settings);
    card_settings.seed = 99;
    card_settings.title = "ELSEWHERE";
    const sample::TestCard other(card_settings);
    std::vector<Packet> packets;
    for (int i = 0; i < count; ++i) {
        Picture picture = i < cut ? card.draw(i) : other.draw(i + 300);
        picture.pts = base::frames_to_time(i, settings.frame_rate);
        REQUIRE((*encoder)->encode(picture, packets));
    }
    REQUIRE((*encoder)->flush(packets));
    return packets;
}

}  // namespace

TEST_CASE("two passes come to the average that was asked for", "[encoders][video]") {
    for (const Codec codec : kCodecs) {
        INFO(media::short_name(codec));
        // Short for a rate control; libvpx's needs longest.
        const int pictures = codec == Codec::vp9 ? 240 : 96;
        auto settings = settings_for(codec);
        settings.mean_bps = 200'000;
        auto notes = codec::PassNotes::create();
        REQUIRE(notes);
        settings.notes = *notes;
        settings.pass = Pass::first;
        for (int pass = 0; pass < codec::first_passes(codec); ++pass) encode(settings, pictures, 50);
        settings.pass = Pass::second;
        const std::vector<Packet> packets = encode(settings, pictures, 50);
        REQUIRE(packets.size() == static_cast<std::size_t>(pictures));
        double bits = 0;
        for (const Packet& packet : packets) bits += static_cast<double>(packet.data.size()) * 8;
        CHECK(bits * 24 / pictures == Approx(200'000).epsilon(0.08));
        // Nothing of it stays.
        const base::Path folder = base::Path(settings.notes->file()).parent_path();
        CHECK(std::filesystem::exists(folder));
        settings.notes.reset();
        notes->reset();
        CHECK_FALSE(std::filesystem::exists(folder));
    }
    auto settings = settings_for(Codec::h264);
    settings.mean_bps = 200'000;
    settings.pass = Pass::first;
    CHECK_FALSE(codec::make_video_encoder(settings));  // without notes
    settings = settings_for(Codec::vp9);
    settings.mean_bps = 200'000;
    settings.peak_bps = 500'000;
    CHECK_FALSE(codec::make_video_encoder(settings));  // which would not hold the peak
}

TEST_CASE("keyframes come at a fixed distance where they are asked for", "[encoders][video]") {
    for (const Codec codec : kCodecs) {
        INFO(media::short_name(codec));
        auto settings = settings_for(codec);
        settings.keyframe_distance = base::from_seconds(1);
        settings.fixed_keyframes = true;
        // The cut at 30 would tempt an encoder.
        const std::vector<Packet> packets = encode(settings, 100, 30);
        std::vector<int> keys;
        for (const Packet& packet : packets) {
            if (packet.key) keys.push_back(static_cast<int>(base::to_seconds(packet.pts) * 24 + 0.5));
        }
        CHECK(keys == std::vector<int>{0, 24, 48, 72, 96});
    }
}
