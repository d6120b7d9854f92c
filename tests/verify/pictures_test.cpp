#include "verify/pictures.hpp"

#include <catch2/catch.hpp>

#include "base/byte_source.hpp"
#include "bitstream/nal.hpp"
#include "container/reader.hpp"
#include "measure/deep.hpp"
#include "support/clips.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;

namespace {

// A film whose pictures each have this unit in front.
void write_film(const base::Path& path, const ByteVector& unit) {
    TestTrack test_track = video_track(Codec::h264, 48);
    for (Packet& packet : test_track.packets) {
        ByteVector data;
        if (!unit.empty()) bitstream::nal::append(data, unit);
        const ByteSpan rest = packet.data.view();
        data.insert(data.end(), rest.begin(), rest.end());
        packet.data = Bytes(std::move(data));
    }
    write_media(path, "mp4", {test_track});
}

std::unique_ptr<PacketSource> open_film(const base::Path& path) {
    auto bytes = base::FileSource::open(path);
    REQUIRE(bytes);
    auto media = container::open_media(std::make_shared<base::FileSource>(std::move(*bytes)));
    REQUIRE(media);
    return std::move(media->source);
}

}  // namespace

TEST_CASE("H.264 that can't be decoded is no damage: it is said why", "[verify][deep]") {
    struct Film {
        ByteVector unit;
        const char* why;
    };
    const TempDir dir;
    const base::Path path = dir / "film.mp4";
    const Film films[] = {
        {{}, ""}, {{0x62, 0x88, 0x80}, "uses data partitioning"}, {{0x6F, 83, 0x00, 0x28, 0xFF}, "scalable H.264"}};
    for (const Film& film : films) {
        INFO(film.why);
        std::filesystem::remove(path);
        write_film(path, film.unit);
        const auto source = open_film(path);
        for (const int places : {0, 2}) {
            verify::PictureSettings settings;
            settings.places = places;
            const auto look = verify::look_at_pictures(*source, settings, Cancel());
            REQUIRE(look);
            CHECK_THAT(look->refused, Catch::Contains(film.why));
            CHECK(look->refused.empty() == film.unit.empty());
            if (film.unit.empty()) CHECK(look->decoded > 20);
        }
        const auto whole = open_film(path);
        const auto again = [&]() -> Result<std::unique_ptr<PacketSource>> { return open_film(path); };
        const auto deep = measure::measure_deep(*whole, again, {}, {}, Cancel());
        REQUIRE(deep);
        CHECK_THAT(deep->tracks[0].not_decoded, Catch::Contains(film.why));
        CHECK(deep->borders.has_value() == film.unit.empty());
    }
}
