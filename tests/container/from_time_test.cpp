#include "container/from_time.hpp"

#include <catch2/catch.hpp>

#include "base/atomic_file.hpp"
#include "container/reader.hpp"
#include "container/writer.hpp"
#include "support/clips.hpp"
#include "support/support.hpp"

using namespace wavecrest;

TEST_CASE("a time leads to the bytes from which it can be played", "[container]") {
    const ByteVector bytes = test::sample_film_in("mpeg-ts");
    REQUIRE(bytes.size() > 100'000);
    const auto source = std::make_shared<base::MemorySource>(bytes, "film.ts");
    std::uint64_t before = 0;
    for (const double seconds : {0.0, 2.0, 4.5, 7.0, 11.0}) {
        CAPTURE(seconds);
        const auto found = container::file_from_time(source, "mpeg-ts", base::from_seconds(seconds));
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
    CHECK(container::file_from_time(source, "mpeg-ts", base::from_seconds(1e5))->offset < bytes.size());
}

TEST_CASE("what has no clock, or lies about it, leads nowhere", "[container]") {
    const auto nothing = std::make_shared<base::MemorySource>(ByteVector(5000, 0), "x.ts");
    CHECK_FALSE(container::file_from_time(nothing, "mpeg-ts", Time{}));
    CHECK_FALSE(container::file_from_time(nothing, "mpeg-ps", Time{}));
    const auto empty = std::make_shared<base::MemorySource>(ByteVector{}, "x.ts");
    for (const char* format : {"mpeg-ts", "mp4", "matroska"}) {
        CHECK_FALSE(container::file_from_time(nothing, format, Time{}));
        CHECK_FALSE(container::file_from_time(empty, format, Time{}));
    }
    CHECK_FALSE(container::file_from_time(nothing, "avi", Time{}));
}

TEST_CASE("damaged at random, a file is given from no place outside of it", "[container]") {
    const std::string format = GENERATE("mpeg-ts", "mp4", "matroska");
    const ByteVector whole = test::sample_film_in(format);
    std::uint32_t seed = 7;
    for (int round = 0; round < 60; ++round) {
        ByteVector bytes = whole;
        for (int i = 0; i < 3 * round; ++i) {
            seed = seed * 1664525 + 1013904223;
            // Most of it where an index or descriptions may be.
            const std::size_t in = i % 3 == 0 ? bytes.size() : std::min<std::size_t>(bytes.size(), 20'000);
            bytes[(seed >> 8) % in] = static_cast<std::uint8_t>(seed >> 24);
        }
        if (round % 4 == 3) bytes.resize(bytes.size() / 2);
        const auto found =
            container::file_from_time(std::make_shared<base::MemorySource>(bytes, "x"), format, base::from_seconds(6));
        if (!found) continue;
        CHECK(found->end <= bytes.size());
        CHECK(found->offset <= found->end);
    }
}

namespace {

struct Shown {
    Time pts{};
    ByteVector data;
};
// What is presented of a track, in the order of the file.
std::vector<Shown> shown(PacketSource& source, TrackKind kind, Time from, Time origin) {
    std::vector<Shown> packets;
    while (true) {
        auto packet = source.read();
        REQUIRE(packet);
        if (!*packet) return packets;
        const auto track = std::find_if(source.tracks().begin(), source.tracks().end(),
                                        [&](const Track& t) { return t.id == (*packet)->track; });
        if (track->kind != kind || (*packet)->pts < from) continue;
        const ByteSpan data = (*packet)->data.view();
        packets.push_back({(*packet)->pts - origin, ByteVector(data.begin(), data.end())});
    }
}

// The media of `whole`, which begins at `begun` in the whole film, is what is left of the film from there.
void check_rest(const ByteVector& whole, const ByteVector& rest, Time begun, Time origin) {
    for (const TrackKind kind : {TrackKind::video, TrackKind::audio, TrackKind::subtitle}) {
        auto film = container::open_media(std::make_shared<base::MemorySource>(whole, "whole"));
        auto left = container::open_media(std::make_shared<base::MemorySource>(rest, "rest"));
        REQUIRE(film);
        REQUIRE(left);
        const auto expected = shown(*film->source, kind, begun, origin);
        const auto got = shown(*left->source, kind, begun - origin, Time{});
        REQUIRE(got.size() == expected.size());
        for (std::size_t i = 0; i < got.size(); ++i) {
            CAPTURE(static_cast<int>(kind), i);
            REQUIRE(got[i].data == expected[i].data);
            // (A movie's timescale may be coarser than a frame.)
            REQUIRE(std::abs(base::to_seconds(got[i].pts - expected[i].pts)) < 0.0011);
        }
    }
}

ByteVector joined(const container::FileFromTime& found, const ByteVector& bytes) {
    const ByteSpan head = found.head.view();
    ByteVector rest(head.begin(), head.end());
    rest.insert(rest.end(), bytes.begin() + static_cast<std::ptrdiff_t>(found.offset),
                bytes.begin() + static_cast<std::ptrdiff_t>(found.end));
    return rest;
}

// The same film with its index in parts.
ByteVector fragmented(const ByteVector& film) {
    auto media = container::open_media(std::make_shared<base::MemorySource>(film, "film"));
    REQUIRE(media);
    test::TempDir folder;
    container::WriterSettings settings;
    settings.fragments = base::from_seconds(1);
    auto file = base::AtomicFile::create(folder / "f.mp4", base::AtomicFile::IfExists::refuse);
    REQUIRE(file);
    auto writer = container::create_media("mp4", std::move(*file), media->source->tracks(), settings);
    REQUIRE(writer);
    while (true) {
        auto packet = media->source->read();
        REQUIRE(packet);
        if (!*packet) break;
        REQUIRE((*writer)->write(**packet));
    }
    REQUIRE((*writer)->finish());
    return test::read_all(folder / "f.mp4");
}

}  // namespace

TEST_CASE("an MP4 from a time on is an MP4 of what is left", "[container]") {
    const ByteVector bytes = test::sample_film_in("mp4");
    for (const double seconds : {0.0, 2.0, 4.5, 7.0, 11.0}) {
        CAPTURE(seconds);
        const auto found = container::file_from_time(std::make_shared<base::MemorySource>(bytes, "film.mp4"), "mp4",
                                                     base::from_seconds(seconds));
        REQUIRE(found);
        CHECK(found->time <= base::from_seconds(seconds));
        CHECK(base::to_seconds(found->time) > seconds - 5);
        const ByteVector rest = joined(*found, bytes);
        CHECK(rest.size() <= bytes.size() + 200);
        // Its presentation begins at 0.
        check_rest(bytes, rest, found->time, found->time);
        auto media = container::open_media(std::make_shared<base::MemorySource>(rest, "rest.mp4"));
        REQUIRE(media);
        auto film = container::open_media(std::make_shared<base::MemorySource>(bytes, "film.mp4"));
        CHECK(base::to_seconds(media->source->duration()) ==
              Approx(base::to_seconds(film->source->duration() - found->time)).margin(0.002));
    }
}

TEST_CASE("a fragmented MP4, and Matroska, go on from a time with their own timestamps", "[container]") {
    const bool mp4 = GENERATE(true, false);
    CAPTURE(mp4);
    const ByteVector bytes = mp4 ? fragmented(test::sample_film_in("mp4")) : test::sample_film_in("matroska");
    const std::string format = mp4 ? "mp4" : "matroska";
    for (const double seconds : {0.0, 4.5, 7.0, 11.0}) {
        CAPTURE(seconds);
        const auto found = container::file_from_time(std::make_shared<base::MemorySource>(bytes, "film"), format,
                                                     base::from_seconds(seconds));
        REQUIRE(found);
        CHECK(base::to_seconds(found->time) > seconds - 5);
        CHECK(base::to_seconds(found->time) <= seconds);
        // What may lie between a cluster's or fragment's beginning and its keyframe is no matter.
        auto media = container::open_media(std::make_shared<base::MemorySource>(bytes, "film"));
        REQUIRE(media->source->seek(base::from_seconds(seconds)));
        Time key{};
        while (true) {
            const auto packet = media->source->read();
            REQUIRE(packet);
            REQUIRE(*packet);
            if ((*packet)->track != media->source->tracks().front().id) continue;
            key = (*packet)->pts;
            break;
        }
        CHECK(found->time <= key);
        check_rest(bytes, joined(*found, bytes), key, Time{});
    }
}
