// MPEG-4 part 2 as AVI files have it: B-VOPs packed or delayed. Whatever the chunks are like, each frame comes once, at
// its time.
#include <catch2/catch.hpp>

#include "base/byte_source.hpp"
#include "bitstream/mpeg4_visual.hpp"
#include "codec/video_decoder.hpp"
#include "sample/test_card.hpp"
#include "support/clips.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
namespace mpeg4 = bitstream::mpeg4;

namespace {

constexpr Ratio kFilm{24000, 1001};

struct Kind {
    bool packed, told;
};
Kind any_kind() {
    return GENERATE(Kind{false, true}, Kind{true, true}, Kind{true, false});
}

void check_frames(const TestTrack& test_track, int count, int from = 0) {
    auto decoder = codec::make_video_decoder(test_track.track);
    REQUIRE(decoder);
    std::vector<Picture> pictures;
    for (const Packet& packet : test_track.packets) REQUIRE((*decoder)->decode(packet, pictures));
    REQUIRE((*decoder)->flush(pictures));
    REQUIRE(pictures.size() == static_cast<std::size_t>(count - from));
    for (std::size_t i = 0; i < pictures.size(); ++i) {
        INFO(i);
        const auto code = sample::read_card_code(pictures[i]);
        REQUIRE(code);
        CHECK(code->frame == static_cast<std::int64_t>(i) + from);
        CHECK(pictures[i].pts == base::frames_to_time(static_cast<std::int64_t>(i) + from, kFilm));
    }
}

}  // namespace

TEST_CASE("each frame of MPEG-4 part 2 in AVI comes once, at its time", "[avi][mpeg4]") {
    const Kind kind = any_kind();
    const TempDir dir;
    write_all(dir / "a.avi", mpeg4_avi(96, kind.packed, kind.told));
    const auto test_tracks = read_media(dir / "a.avi");
    REQUIRE(test_tracks.size() == 2);
    const TestTrack& test_track = test_tracks[0];
    REQUIRE(test_track.track.codec == Codec::mpeg4);
    CHECK(test_track.packets.size() == 96);
    std::size_t keys = 0, b = 0;
    for (std::size_t i = 0; i < test_track.packets.size(); ++i) {
        const ByteSpan data = test_track.packets[i].data.view();
        CHECK(mpeg4::split_vops(data).size() == 1);
        CHECK(std::string_view(reinterpret_cast<const char*>(data.data()), data.size()).find("064p") ==
              std::string::npos);
        if (i > 0) CHECK(test_track.packets[i].dts == test_track.packets[i - 1].dts + base::frames_to_time(1, kFilm));
        CHECK(test_track.packets[i].pts >= test_track.packets[i].dts);
        keys += test_track.packets[i].key ? 1 : 0;
        b += mpeg4::first_vop(data, 15)->type == mpeg4::VopType::b ? 1 : 0;
    }
    CHECK(keys == 4);
    CHECK(b > 40);
    check_frames(test_track, 96);
    // Another container gives it back the same way.
    const std::string format = GENERATE("mp4", "matroska");
    write_media(dir / "a.out", format, {test_track});
    TestTrack back = read_media(dir / "a.out")[0];
    for (Packet& p : back.packets)  // Matroska's times are whole parts of its time scale
        p.pts = base::frames_to_time(std::lround(base::to_seconds(p.pts) * kFilm.value()), kFilm);
    check_frames(back, 96);
}

TEST_CASE("a skip in packed MPEG-4 part 2 begins with a keyframe's own frame", "[avi][mpeg4]") {
    const Kind kind = any_kind();
    auto media = container::open_media(std::make_shared<base::MemorySource>(mpeg4_avi(96, kind.packed, kind.told)));
    REQUIRE(media);
    REQUIRE(media->source->seek(base::frames_to_time(55, kFilm)));
    const auto test_tracks = read_all_packets(*media->source);
    REQUIRE(test_tracks[0].packets.front().key);
    check_frames(test_tracks[0], 96, 48);
}

TEST_CASE("damaged packed chunks lose what was damaged, and neither time nor memory", "[avi][mpeg4][damage]") {
    const TempDir dir;
    ByteVector file = mpeg4_avi(96, true);
    std::uint32_t random = 7;
    for (std::size_t at = 6000; at < file.size() / 2; at += 997) {
        random = random * 1664525 + 1013904223;
        file[at] = static_cast<std::uint8_t>(random >> 24);
    }
    write_all(dir / "a.avi", file);
    const auto test_tracks = read_media(dir / "a.avi");
    auto decoder = codec::make_video_decoder(test_tracks[0].track);
    std::vector<Picture> pictures;
    for (const Packet& packet : test_tracks[0].packets) static_cast<void>((*decoder)->decode(packet, pictures));
    static_cast<void>((*decoder)->flush(pictures));
    REQUIRE(pictures.size() > 48);
    std::size_t right = 0;
    for (std::size_t i = pictures.size() - 24; i < pictures.size(); ++i) {
        const auto code = sample::read_card_code(pictures[i]);
        right += code && pictures[i].pts == base::frames_to_time(code->frame, kFilm) ? 1 : 0;
    }
    CHECK(right == 24);
    // Starts of VOPs and nothing else.
    ByteVector starts;
    for (int i = 0; i < 100; ++i) starts.insert(starts.end(), {0, 0, 1, 0xB6});
    mpeg4::Unpacker unpacker({});
    for (int i = 0; i < 100; ++i) unpacker.next(starts);
    int left = 0;
    while (!unpacker.rest().empty()) ++left;
    CHECK(left < 10);
}
