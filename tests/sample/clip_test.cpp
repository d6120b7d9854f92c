#include <set>

#include "base/byte_source.hpp"
#include "bitstream/headers.hpp"
#include "bitstream/levels.hpp"
#include "codec/audio_decoder.hpp"
#include "codec/video_decoder.hpp"
#include "container/reader.hpp"
#include "sample/clip.hpp"
#include "sample/test_card.hpp"

using namespace wavecrest;

namespace {

struct Read {
    std::vector<Track> tracks;
    std::vector<Packet> packets;
    std::uint64_t bytes = 0;
    std::string container;
};

Read made(const sample::Clip& clip) {
    ByteVector bytes;
    const auto tracks = sample::make_clip(clip, std::make_unique<base::MemorySink>(bytes), {});
    INFO(sample::in_words(clip) << ": " << (tracks ? "" : tracks.error().what));
    REQUIRE(tracks);
    Read read;
    read.bytes = bytes.size();
    auto file = container::open_media(std::make_shared<base::MemorySource>(std::move(bytes), "clip"));
    REQUIRE(file);
    read.container = file->container;
    while (true) {
        auto packet = file->source->read();
        REQUIRE(packet);
        if (!*packet) break;
        read.packets.push_back(std::move(**packet));
    }
    read.tracks = file->source->tracks();
    return read;
}

// The numbers in the frames of the first track.
std::vector<std::int64_t> numbers(const Read& clip) {
    auto decoder = codec::make_video_decoder(clip.tracks.at(0));
    REQUIRE(decoder);
    std::vector<Picture> pictures;
    for (const Packet& packet : clip.packets) {
        if (packet.track == clip.tracks[0].id) REQUIRE((*decoder)->decode(packet, pictures));
    }
    REQUIRE((*decoder)->flush(pictures));
    std::vector<std::int64_t> all;
    for (const Picture& picture : pictures) {
        const auto code = sample::read_card_code(picture);
        all.push_back(code ? code->frame : -1);
    }
    return all;
}

sample::Clip video_clip(Codec codec, base::Size size, int depth = 8) {
    sample::Clip clip;
    clip.video = sample::ClipVideo{};
    clip.video->codec = codec;
    clip.video->size = size;
    clip.video->bit_depth = depth;
    clip.length = base::from_seconds(2);
    return clip;
}

}  // namespace

TEST_CASE("test clips of every codec hold each numbered frame once", "[sample]") {
    for (const auto& [codec, depth] : {std::pair{Codec::h264, 8},
                                       {Codec::h265, 8},
                                       {Codec::h265, 10},
                                       {Codec::vp9, 8},
                                       {Codec::vp9, 10},
                                       {Codec::av1, 8},
                                       {Codec::av1, 10}}) {
        const Read clip = made(video_clip(codec, {480, 270}, depth));
        INFO(media::short_name(codec) << " " << depth);
        CHECK(clip.tracks.at(0).codec == codec);
        CHECK(clip.tracks[0].bit_depth == depth);
        const auto seen = numbers(clip);
        REQUIRE(seen.size() == 60);
        for (std::size_t i = 0; i < seen.size(); ++i) CHECK(seen[i] == static_cast<std::int64_t>(i));
        CHECK(!bitstream::codec_string(clip.tracks[0]).empty());
    }
}

TEST_CASE("a test clip of much data repeats its second and comes near its bit rate", "[sample]") {
    sample::Clip clip = video_clip(Codec::h264, {1280, 720});
    clip.video->bitrate_bps = 20'000'000;
    clip.length = base::from_seconds(3);
    const Read read = made(clip);
    const auto seen = numbers(read);
    REQUIRE(seen.size() == 90);
    for (std::size_t i = 0; i < seen.size(); ++i) CHECK(seen[i] == static_cast<std::int64_t>(i % 30));
    const double rate = static_cast<double>(read.bytes) * 8 / 3;
    CHECK(rate > 17e6);
    CHECK(rate < 23e6);
    CHECK(read.tracks.at(0).profile == "High");
    // Times go on evenly across the joins.
    std::set<Time> times;
    for (const Packet& packet : read.packets) times.insert(packet.pts);
    REQUIRE(times.size() == 90);
    CHECK(*times.rbegin() - *times.begin() == base::frames_to_time(89, {30, 1}));
}

TEST_CASE("a spoilt test clip lacks what it says it lacks", "[sample]") {
    sample::Clip clip = video_clip(Codec::h264, {480, 270});
    clip.drop_one_in = 10;
    const auto seen = numbers(made(clip));
    REQUIRE(seen.size() == 60);
    CHECK(seen[8] == 8);
    CHECK(seen[9] == 8);
    CHECK(seen[10] == 10);

    // The beep begins at full strength, 300 ms after the flash of frame 0, and nothing is heard before.
    sample::Clip late;
    late.container = "flac";
    late.audio = sample::ClipAudio{Codec::flac, 2};
    late.audio_late = base::from_seconds(0.3);
    const Read read = made(late);
    auto decoder = codec::make_audio_decoder(read.tracks.at(0));
    REQUIRE(decoder);
    std::vector<float> left;
    for (const Packet& packet : read.packets) {
        std::vector<AudioFrames> out;
        REQUIRE((*decoder)->decode(packet, out));
        for (const AudioFrames& one : out) {
            for (std::size_t i = 0; i < one.samples.size(); i += 2) left.push_back(one.samples[i]);
        }
    }
    REQUIRE(left.size() >= 48000);
    const auto loud = std::find_if(left.begin(), left.end(), [](float s) { return std::abs(s) > 0.3F; });
    CHECK(loud - left.begin() == 14400);
}

TEST_CASE("test clips of audio are what their containers hold", "[sample]") {
    const std::tuple<const char*, Codec, int> kClips[] = {
        {"mp4", Codec::aac, 2},     {"mp4", Codec::aac, 6}, {"adts", Codec::aac, 2},  {"mp4", Codec::ac3, 6},
        {"mpeg-ts", Codec::ac3, 2}, {"mp3", Codec::mp3, 2}, {"flac", Codec::flac, 2}, {"ogg", Codec::opus, 2},
        {"webm", Codec::opus, 6},   {"wav", Codec::lpcm, 2}};
    for (const auto& [container, codec, channels] : kClips) {
        sample::Clip clip;
        clip.container = container;
        clip.audio = sample::ClipAudio{codec, channels};
        clip.length = base::from_seconds(1);
        const Read read = made(clip);
        INFO(container << " " << media::short_name(codec));
        CHECK(read.container == container);
        REQUIRE(read.tracks.size() == 1);
        CHECK(read.tracks[0].codec == codec);
        CHECK(read.tracks[0].channels == channels);
    }
}
