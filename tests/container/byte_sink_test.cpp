// Media written to other places than files.
#include <catch2/catch.hpp>

#include "base/byte_sink.hpp"
#include "base/byte_source.hpp"
#include "container/writer.hpp"
#include "support/clips.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;

namespace {

struct Written {
    bool done = false;
    ByteVector bytes;
};
Written to_memory(std::string_view format, const std::vector<TestTrack>& tracks, bool seeks, Time fragments = {}) {
    Written written;
    std::vector<Track> described;
    for (const TestTrack& track : tracks) described.push_back(track.track);
    container::WriterSettings settings;
    settings.fragments = fragments;
    auto writer =
        container::create_media(format, std::make_unique<base::MemorySink>(written.bytes, seeks), described, settings);
    if (!writer) {
        CHECK(writer.error().kind == ErrorKind::usage);
        return written;
    }
    std::vector<Packet> packets;
    for (const TestTrack& track : tracks) packets.insert(packets.end(), track.packets.begin(), track.packets.end());
    std::stable_sort(packets.begin(), packets.end(), [](const Packet& a, const Packet& b) { return a.dts < b.dts; });
    for (const Packet& packet : packets) REQUIRE((*writer)->write(packet));
    REQUIRE((*writer)->finish());
    written.done = true;
    return written;
}

}  // namespace

TEST_CASE("memory gets the very bytes that a file gets", "[writer][sink]") {
    const TempDir dir;
    const std::vector<TestTrack> film = {video_track(Codec::h264, 48), audio_track(Codec::aac, 2)};
    for (const std::string format : {"matroska", "mpeg-ts", "flv"}) {
        INFO(format);
        write_media(dir / format, format, film);
        const Written written = to_memory(format, film, true);
        REQUIRE(written.done);
        CHECK(written.bytes == read_all(dir / format));
    }
    // (A file's index is filled up to whole blocks; memory has none.)
    const Written mp4 = to_memory("mp4", film, true);
    REQUIRE(mp4.done);
    write_all(dir / "m.mp4", mp4.bytes);
    write_media(dir / "f.mp4", "mp4", film);
    const auto a = read_media(dir / "m.mp4"), b = read_media(dir / "f.mp4");
    REQUIRE(a.size() == b.size());
    for (std::size_t i = 0; i < a.size(); ++i) {
        REQUIRE(a[i].packets.size() == b[i].packets.size());
        for (std::size_t n = 0; n < a[i].packets.size(); ++n) {
            CHECK(a[i].packets[n].pts == b[i].packets[n].pts);
            CHECK(payload_of(a[i]) == payload_of(b[i]));
            if (n > 2) break;
        }
    }
}

TEST_CASE("formats that go one way are written to what only takes bytes, others are refused", "[writer][sink]") {
    const TempDir dir;
    const std::vector<TestTrack> film = {video_track(Codec::h264, 48), audio_track(Codec::aac, 2)};
    for (const char* format : {"mp4", "matroska", "flv"}) {
        INFO(format);
        CHECK(container::needs_seeking(format, {}));
        CHECK_FALSE(to_memory(format, film, false).done);
    }
    const Written ts = to_memory("mpeg-ts", film, false);
    REQUIRE(ts.done);
    write_media(dir / "f.ts", "mpeg-ts", film);
    CHECK(ts.bytes == read_all(dir / "f.ts"));
    const Written parts = to_memory("mp4", film, false, base::from_seconds(1));
    REQUIRE(parts.done);
    write_all(dir / "parts.mp4", parts.bytes);
    const auto read = read_media(dir / "parts.mp4");
    REQUIRE(read.size() == 2);
    CHECK(read[0].packets.size() == 48);
    CHECK(payload_of(read[0]) == payload_of(film[0]));
    const std::vector<TestTrack> song = {audio_track(Codec::opus, 1, 1)};
    REQUIRE(to_memory("ogg", song, false).done);
    REQUIRE(to_memory("adts", {audio_track(Codec::aac, 1, 1)}, false).done);
}

TEST_CASE("memory refuses what it can't do", "[sink]") {
    ByteVector bytes;
    base::MemorySink sink(bytes);
    REQUIRE(sink.write(ByteVector{1, 2, 3}));
    REQUIRE(sink.write_at(1, ByteVector{9}));
    CHECK_FALSE(sink.write_at(3, ByteVector{9}));
    REQUIRE(sink.insert_front(ByteVector{7}));
    CHECK(bytes == ByteVector{7, 1, 9, 3});
    base::MemorySink one_way(bytes, false);
    CHECK_FALSE(one_way.write_at(0, ByteVector{9}));
    CHECK_FALSE(one_way.insert_front(ByteVector{9}));
}
