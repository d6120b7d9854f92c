#include "container/seek_offset.hpp"

#include <catch2/catch.hpp>

#include "container/reader.hpp"
#include "support/clips.hpp"
#include "support/support.hpp"

using namespace wavecrest;

namespace {

// A film in a container, as bytes.
ByteVector film_in(const std::string& container) {
    test::TempDir folder;
    const auto ran = test::run_program(
        {"convert", test::sample_film().string(), "--remux", container, "--into", ".", "--name", "x"}, folder.path());
    REQUIRE(ran.status == 0);
    for (const std::string& name : folder.files()) {
        if (name.find("x.") != std::string::npos) return test::read_all(folder / name);
    }
    return {};
}

}  // namespace

TEST_CASE("a time leads to the bytes from which it can be played", "[container]") {
    const ByteVector bytes = film_in("mpeg-ts");
    REQUIRE(bytes.size() > 100'000);
    base::MemorySource source(bytes, "film.ts");
    std::uint64_t before = 0;
    for (const double seconds : {0.0, 2.0, 4.5, 7.0, 11.0}) {
        CAPTURE(seconds);
        const auto found = container::offset_at(source, "mpeg-ts", base::from_seconds(seconds));
        REQUIRE(found);
        CHECK(found->offset % 188 == 0);
        CHECK(bytes[found->offset] == 0x47);
        CHECK(found->offset >= before);
        CHECK(found->time <= base::from_seconds(seconds + 0.001));
        CHECK(base::to_seconds(found->time) > seconds - 5);  // keyframes lie no farther apart
        before = found->offset;
        // What lies there is a stream that begins with a keyframe, about as long as what is left.
        const ByteVector rest(bytes.begin() + static_cast<std::ptrdiff_t>(found->offset), bytes.end());
        auto media = container::open_media(std::make_shared<base::MemorySource>(rest, "rest.ts"));
        REQUIRE(media);
        CHECK(base::to_seconds(media->source->duration()) == Approx(12 - base::to_seconds(found->time)).margin(1.5));
        for (int i = 0; i < 500; ++i) {
            const auto packet = media->source->read();
            REQUIRE(packet);
            REQUIRE(*packet);
            if ((*packet)->track != media->source->tracks().front().id) continue;
            CHECK((*packet)->key);
            break;
        }
    }
    CHECK(before > bytes.size() / 2);
    CHECK(container::offset_at(source, "mpeg-ts", base::from_seconds(1e5))->offset < bytes.size());
}

TEST_CASE("what has no clock, or lies about it, leads nowhere", "[container]") {
    base::MemorySource nothing(ByteVector(5000, 0), "x.ts");
    CHECK_FALSE(container::offset_at(nothing, "mpeg-ts", Time{}));
    CHECK_FALSE(container::offset_at(nothing, "mpeg-ps", Time{}));
    CHECK_FALSE(container::offset_at(nothing, "mp4", Time{}));
    base::MemorySource empty(ByteVector{}, "x.ts");
    CHECK_FALSE(container::offset_at(empty, "mpeg-ts", Time{}));
    // Damaged at random: any answer but one outside of the file, in bounded time.
    ByteVector bytes = film_in("mpeg-ts");
    std::uint32_t seed = 7;
    for (int round = 0; round < 20; ++round) {
        for (int i = 0; i < 2000; ++i) {
            seed = seed * 1664525 + 1013904223;
            bytes[seed % bytes.size()] = static_cast<std::uint8_t>(seed >> 24);
        }
        base::MemorySource source(bytes, "x.ts");
        const auto found = container::offset_at(source, "mpeg-ts", base::from_seconds(6));
        if (found) CHECK(found->offset <= bytes.size());
    }
}
