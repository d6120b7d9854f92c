#include <catch2/catch.hpp>

#include "base/byte_source.hpp"
#include "container/reader.hpp"
#include "container/writer.hpp"
#include "source/input.hpp"
#include "support/support.hpp"

using namespace wavecrest;

namespace {

class CountedSource : public base::MemorySource {
  public:
    using base::MemorySource::MemorySource;
    Result<std::size_t> read_at(std::uint64_t offset, std::span<std::uint8_t> buffer) override {
        auto got = base::MemorySource::read_at(offset, buffer);
        if (got) bytes += *got;
        return got;
    }
    std::size_t bytes = 0;
};

}  // namespace

TEST_CASE("an MP4's headers tell what a list shows, from a few kilobytes", "[container]") {
    const ByteVector bytes = test::sample_film_in("mp4");
    const auto counted = std::make_shared<CountedSource>(bytes, "film.mp4");
    const auto head = container::read_mp4_head(counted);
    REQUIRE(head);
    REQUIRE(*head);
    CHECK(counted->bytes < 64 << 10);
    auto media = container::open_media(std::make_shared<base::MemorySource>(bytes, "film.mp4"));
    REQUIRE(media);
    CHECK((*head)->container == "mp4");
    CHECK((*head)->duration == media->source->duration());
    CHECK((*head)->tags.title == media->tags.title);
    const std::vector<Track>& whole = media->source->tracks();
    REQUIRE((*head)->tracks.size() == whole.size());
    for (std::size_t i = 0; i < whole.size(); ++i) {
        const Track& track = (*head)->tracks[i];
        CAPTURE(i);
        CHECK(track.kind == whole[i].kind);
        CHECK(track.codec == whole[i].codec);
        CHECK(track.width == whole[i].width);
        CHECK(track.height == whole[i].height);
        CHECK(track.channels == whole[i].channels);
        CHECK(track.sample_rate == whole[i].sample_rate);
        CHECK(track.language == whole[i].language);
        CHECK(track.duration == whole[i].duration);
    }
}

TEST_CASE("headers that don't tell a film's length are left to the whole index", "[container]") {
    const ByteVector film = test::sample_film_in("mp4");
    const auto head_of = [](const ByteVector& bytes) {
        return container::read_mp4_head(std::make_shared<base::MemorySource>(bytes, "x.mp4"));
    };
    // Cut off in the index; without one; not an MP4 at all.
    for (const std::size_t size : {std::size_t{0}, std::size_t{20}, std::size_t{300}}) {
        CAPTURE(size);
        const auto head = head_of(ByteVector(film.begin(), film.begin() + static_cast<std::ptrdiff_t>(size)));
        CHECK((!head || !*head));
    }
    const auto other = head_of(ByteVector(5000, 0x41));
    CHECK((!other || !*other));
    // Any damage: an answer, or none.
    std::uint32_t seed = 3;
    for (int round = 0; round < 200; ++round) {
        ByteVector bytes(film.begin(), film.begin() + 20'000);
        for (int i = 0; i < 1 + round % 8; ++i) {
            seed = seed * 1664525 + 1013904223;
            bytes[(seed >> 8) % 2000] = static_cast<std::uint8_t>(seed >> 24);
        }
        (void)head_of(bytes);
    }
}

TEST_CASE("a list shows of any input what opening it shows", "[source]") {
    const test::TempDir folder;
    for (const char* format : {"mp4", "matroska", "mpeg-ts"}) {
        CAPTURE(format);
        const base::Path file = folder / (std::string("film") + std::string(container::extension_of(format)));
        test::write_all(file, test::sample_film_in(format));
        const auto summary = source::summarize(base::Address(file));
        const auto input = source::open_input(base::Address(file));
        REQUIRE(summary);
        REQUIRE(input);
        CHECK(summary->container == (*input)->container());
        CHECK(summary->title.duration == (*input)->titles().front().duration);
        CHECK(summary->title.tracks.size() == (*input)->titles().front().tracks.size());
    }
    // A Matroska file by an MP4's name.
    test::write_all(folder / "wrong.mp4", test::sample_film_in("matroska"));
    const auto wrong = source::summarize(base::Address(folder / "wrong.mp4"));
    REQUIRE(wrong);
    CHECK(wrong->container == "matroska");
    CHECK_FALSE(source::summarize(base::Address(folder / "missing.mp4")));
}
