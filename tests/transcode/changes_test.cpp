// Sources that change on the way.
#include <catch2/catch.hpp>

#include "codec/video_decoder.hpp"
#include "sample/clip.hpp"
#include "site/encode.hpp"
#include "stream/playout.hpp"
#include "support/support.hpp"
#include "transcode/graph.hpp"

using namespace wavecrest;
using namespace wavecrest::test;

namespace {

struct Collector : PacketSink {
    std::vector<Packet>& packets;
    explicit Collector(std::vector<Packet>& to) : packets(to) {}
    Status write(const Packet& packet) override {
        packets.push_back(packet);
        return {};
    }
    Status finish() override { return {}; }
};

base::Path clip_of(const TempDir& dir, const char* name, base::Size size, Codec codec) {
    sample::Clip clip;
    clip.video = sample::ClipVideo{};
    clip.video->codec = codec;
    clip.video->size = size;
    clip.video->frame_rate = {30, 1};
    clip.container = "matroska";
    clip.length = base::from_seconds(2);
    auto file = base::AtomicFile::create(dir / name, base::AtomicFile::IfExists::refuse);
    REQUIRE(file);
    REQUIRE(sample::make_clip(clip, std::make_unique<base::AtomicFile>(std::move(*file)), Cancel()));
    return dir / name;
}

}  // namespace

TEST_CASE("video whose size changes on the way comes out whole, in one size", "[transcode]") {
    const TempDir dir;
    for (const Codec codec : {Codec::h264, Codec::mpeg2}) {
        INFO(static_cast<int>(codec));
        const bool mpeg2 = codec == Codec::mpeg2;
        const auto named = [&](const char* stem) { return std::string(stem) + (mpeg2 ? "-2.mkv" : ".mkv"); };
        std::vector<stream::Part> parts(3);
        parts[0].source = clip_of(dir, named("wide").c_str(), {320, 180}, codec);
        parts[1].source = clip_of(dir, named("narrow").c_str(), {160, 120}, codec);
        parts[2].source = clip_of(dir, named("large").c_str(), {640, 360}, codec);
        const auto ready = stream::prepare_playout(parts, [](const Track&, bool) { return std::string(); });
        REQUIRE(ready);
        const Cancel never;
        stream::Playout playout(*ready, false, never);
        const auto graph = site::plan_encode(parts[0], "small-screen");
        REQUIRE(graph);
        std::vector<Packet> packets;
        std::vector<Track> tracks;
        const auto done = transcode::run(
            playout, *graph,
            [&](std::size_t, const std::vector<Track>& of) -> Result<std::unique_ptr<PacketSink>> {
                tracks = of;
                return std::unique_ptr<PacketSink>(std::make_unique<Collector>(packets));
            },
            {}, never);
        if (!done) FAIL(done.error().what);
        auto decoder = codec::make_video_decoder(tracks.at(0));
        REQUIRE(decoder);
        std::vector<Picture> pictures;
        for (const Packet& packet : packets) {
            if (packet.track == tracks[0].id) REQUIRE((*decoder)->decode(packet, pictures));
        }
        REQUIRE((*decoder)->flush(pictures));
        REQUIRE(pictures.size() == 180);
        for (std::size_t i = 0; i < pictures.size(); ++i) {
            INFO(i);
            CHECK(pictures[i].width == 320);
            CHECK(pictures[i].height == 180);
            if (i > 0) CHECK(pictures[i].pts > pictures[i - 1].pts);
            // Only the narrow one has a bar beside it, which no part of the test card is so dark as to look like.
            int most = 0;
            for (int y = 0; y < 180; ++y) most = std::max<int>(most, pictures[i].row<std::uint8_t>(0, y)[20]);
            CHECK((most < 32) == (i >= 60 && i < 120));
        }
    }
}
