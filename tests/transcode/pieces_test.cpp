// Encodes in pieces: the same packets whether the pieces were kept or not, whatever happened to them meanwhile.
#include "transcode/pieces.hpp"

#include <atomic>
#include <catch2/catch.hpp>
#include <thread>
#include <vector>

#include "codec/video_decoder.hpp"
#include "sample/test_card.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
using transcode::PieceFolder;
using transcode::Pieces;

namespace {

constexpr int kPictures = 70, kPieces = 3;  // of 24, 24 and 22 pictures

codec::VideoEncoderSettings settings_for(Codec codec) {
    codec::VideoEncoderSettings settings;
    settings.codec = codec;
    settings.width = 192;
    settings.height = 144;
    settings.frame_rate = {24, 1};
    settings.colour = {6, 6, 6, false};
    settings.effort = 2;
    settings.threads = 1;  // with more, x264 doesn't always give the same bytes
    return settings;
}

// The card's pictures; every other lasts a little longer.
std::vector<Picture> draw(const codec::VideoEncoderSettings& settings, int first = 0) {
    sample::CardSettings card_settings;
    card_settings.width = settings.width;
    card_settings.height = settings.height;
    const sample::TestCard card(card_settings);
    std::vector<Picture> pictures;
    for (int i = 0; i < kPictures; ++i) {
        pictures.push_back(card.draw(first + i));
        Picture& picture = pictures.back();
        picture.pts = base::frames_to_time(i, settings.frame_rate);
        picture.duration = base::frames_to_time(1, settings.frame_rate);
        if (settings.variable_rate) picture.pts += picture.duration * (i / 24 * 3 + i % 2) / 4;
    }
    return pictures;
}

struct Encoded {
    std::vector<Packet> packets;
    Track track;
};
Result<Encoded> encode(const codec::VideoEncoderSettings& settings, std::shared_ptr<PieceFolder> folder,
                       const std::vector<Picture>& pictures, bool to_its_end = true) {
    WAVECREST_TRY_ASSIGN(encoder, transcode::make_piecewise_encoder(settings, {base::from_seconds(1), folder, 0}));
    Encoded encoded;
    for (const Picture& picture : pictures) WAVECREST_TRY(encoder->encode(picture, encoded.packets));
    if (to_its_end) WAVECREST_TRY(encoder->flush(encoded.packets));
    encoded.track = encoder->track();
    return encoded;
}

std::shared_ptr<PieceFolder> open_folder(const TempDir& dir, const std::string& key = "key") {
    auto folder = PieceFolder::open(dir / "Film.mp4", key);
    REQUIRE(folder);
    return std::move(*folder);
}

bool same(const std::vector<Packet>& a, const std::vector<Packet>& b) {
    return std::equal(a.begin(), a.end(), b.begin(), b.end(), [](const Packet& x, const Packet& y) {
        const ByteSpan p = x.data.view(), q = y.data.view();
        return x.pts == y.pts && x.dts == y.dts && x.duration == y.duration && x.key == y.key &&
               std::equal(p.begin(), p.end(), q.begin(), q.end());
    });
}

}  // namespace

TEST_CASE("what was kept of an encode comes out as it would anew", "[transcode]") {
    const Codec codec = GENERATE(Codec::h264, Codec::h265, Codec::vp9, Codec::av1);
    const bool variable = GENERATE(false, true);
    CAPTURE(media::short_name(codec), variable);
    codec::VideoEncoderSettings settings = settings_for(codec);
    settings.variable_rate = variable;
    const auto pictures = draw(settings);
    const auto whole = encode(settings, nullptr, pictures);
    REQUIRE(whole);
    REQUIRE(whole->packets.size() == kPictures);
    const TempDir dir;
    // Ended in the third piece, then gone on with.
    REQUIRE(encode(settings, open_folder(dir), {pictures.begin(), pictures.begin() + 60}, false));
    CHECK(open_folder(dir)->count(0) == 2);
    CHECK(open_folder(dir)->count(1) == 0);
    const auto second = encode(settings, open_folder(dir), pictures);
    REQUIRE(second);
    CHECK(same(second->packets, whole->packets));
    CHECK(open_folder(dir)->count(0) == kPieces);
    // All of it there.
    const auto third = encode(settings, open_folder(dir), pictures);
    REQUIRE(third);
    CHECK(same(third->packets, whole->packets));

    // A decoder gives every picture at its own time; each piece begins with a keyframe; decoding times go up.
    auto decoder = codec::make_video_decoder(whole->track);
    REQUIRE(decoder);
    std::vector<Picture> decoded;
    for (const Packet& packet : whole->packets) REQUIRE((*decoder)->decode(packet, decoded));
    REQUIRE((*decoder)->flush(decoded));
    REQUIRE(decoded.size() == kPictures);
    double worst = 100;
    for (std::size_t i = 0; i < decoded.size(); ++i) {
        CHECK(decoded[i].pts == pictures[i].pts);
        worst = std::min(worst, luma_psnr(decoded[i], pictures[i]));
    }
    CHECK(worst > 30);
    Time last = Time::min();
    int keys = 0;
    for (const Packet& packet : whole->packets) {
        CHECK(packet.dts > last);
        CHECK(packet.dts <= packet.pts);
        last = packet.dts;
        if (packet.pts == pictures[24].pts || packet.pts == pictures[48].pts) CHECK(packet.key);
        keys += packet.key ? 1 : 0;
    }
    CHECK(keys >= kPieces);
}

TEST_CASE("a peak holds across pieces", "[transcode]") {
    const Codec codec = GENERATE(Codec::h264, Codec::h265);
    codec::VideoEncoderSettings settings = settings_for(codec);
    settings.quality = 95;  // more than fits
    settings.peak_bps = 300'000;
    settings.buffer = base::from_seconds(1);
    const auto encoded = encode(settings, nullptr, draw(settings));
    REQUIRE(encoded);
    // The decoder's buffer (H.264, C.1.2, fed at the peak rate): full at first, and never short of a picture.
    const double size = static_cast<double>(settings.peak_bps) * base::to_seconds(settings.buffer);
    double level = size, least = size;
    for (const Packet& packet : encoded->packets) {
        level -= 8 * static_cast<double>(packet.data.size());
        least = std::min(least, level);
        level = std::min(size, level + static_cast<double>(settings.peak_bps) / settings.frame_rate.value());
    }
    CAPTURE(media::short_name(codec), least / size);
    CHECK(least >= 0);
}

TEST_CASE("pieces that don't fit are made anew, never used", "[transcode]") {
    const codec::VideoEncoderSettings settings = settings_for(Codec::h264);
    const auto pictures = draw(settings);
    const auto whole = encode(settings, nullptr, pictures);
    REQUIRE(whole);
    const TempDir dir;
    REQUIRE(encode(settings, open_folder(dir), pictures));
    const base::Path second = open_folder(dir)->piece(0, 1);
    const ByteVector good = read_all(second);

    SECTION("flipped, cut, empty, longer") {
        std::vector<ByteVector> bad;
        for (const std::size_t at :
             {std::size_t{0}, std::size_t{9}, good.size() / 2, good.size() - 20, good.size() - 1}) {
            bad.push_back(good);
            bad.back()[at] ^= 0x10;
        }
        for (const std::size_t size : {std::size_t{0}, std::size_t{7}, good.size() / 3, good.size() - 1})
            bad.emplace_back(good.begin(), good.begin() + static_cast<std::ptrdiff_t>(size));
        bad.push_back(good);
        bad.back().push_back(0);
        bad.push_back(good);
        bad.back().insert(bad.back().end(), good.begin(), good.end());
        for (const ByteVector& bytes : bad) {
            write_all(second, bytes);
            const auto again = encode(settings, open_folder(dir), pictures);
            REQUIRE(again);
            CHECK(same(again->packets, whole->packets));
            CHECK((read_all(second) == good));
        }
    }
    SECTION("of another encode") {
        codec::VideoEncoderSettings other = settings;
        other.width = 160;
        const auto again = encode(other, open_folder(dir), draw(other));
        REQUIRE(again);
        CHECK(same(again->packets, encode(other, nullptr, draw(other))->packets));
    }
    SECTION("another key") {
        CHECK(open_folder(dir, "another")->count(0) == 0);
        CHECK_FALSE(std::filesystem::exists(dir / ".Film.mp4.pieces"));
    }
    SECTION("what somebody else put there stays") {
        write_all(dir / ".Film.mp4.pieces" / "mine.txt", std::string("mine"));
        CHECK(open_folder(dir)->count(0) == kPieces);
        CHECK(open_folder(dir, "another")->count(0) == 0);
        CHECK(read_text(dir / ".Film.mp4.pieces" / "mine.txt") == "mine");
    }
    SECTION("other pictures") {
        const auto others = encode(settings, open_folder(dir), draw(settings, 500));
        REQUIRE_FALSE(others);
        CHECK(others.error().kind == ErrorKind::machine);
        CHECK(encode(settings, open_folder(dir), draw(settings, 500)));
    }
    SECTION("fewer pictures") {
        const auto fewer = encode(settings, open_folder(dir), {pictures.begin(), pictures.begin() + 40});
        REQUIRE_FALSE(fewer);
        CHECK(open_folder(dir)->count(0) == 0);
    }
}

TEST_CASE("two programs don't make pieces of one film", "[transcode]") {
    const TempDir dir;
    const auto first = open_folder(dir);
    REQUIRE(first->make());
    const auto second = PieceFolder::open(dir / "Film.mp4", "key");
    REQUIRE_FALSE(second);
    CHECK(second.error().kind == ErrorKind::machine);
    first->remove();
    CHECK(PieceFolder::open(dir / "Film.mp4", "key"));
}

TEST_CASE("pieces are whole distances between keyframes where these are fixed", "[transcode]") {
    codec::VideoEncoderSettings settings = settings_for(Codec::h264);
    CHECK(transcode::pictures_of_piece(settings, base::from_seconds(60)) == 1440);
    settings.frame_rate = {24000, 1001};
    CHECK(transcode::pictures_of_piece(settings, base::from_seconds(60)) == 1439);
    settings.fixed_keyframes = true;
    settings.keyframe_distance = base::from_seconds(2);
    CHECK(transcode::pictures_of_piece(settings, base::from_seconds(60)) == 29 * 48);
    CHECK(transcode::pictures_of_piece(settings, base::from_seconds(1)) == 48);
}

TEST_CASE("encodes of one conversion make its folder at the same time", "[pieces]") {
    for (int round = 0; round < 100; ++round) {
        const TempDir dir;
        const auto folder = PieceFolder::open(dir / "Film.mp4", "key");
        REQUIRE(folder);
        std::atomic<int> made = 0;
        {
            std::vector<std::jthread> encodes;
            for (int i = 0; i < 3; ++i) encodes.emplace_back([&] { made += (*folder)->make() ? 1 : 0; });
        }
        CHECK(made == 3);
    }
}
