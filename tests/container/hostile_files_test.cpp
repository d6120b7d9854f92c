// Files made to hurt: what costs a reader its stack, its memory or its time. Each stood for a crash or a hang once.
#include <catch2/catch.hpp>
#include <ctime>
#include <random>

#include "base/byte_source.hpp"
#include "bitstream/xiph.hpp"
#include "container/reader.hpp"
#include "support/clips.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;

namespace {

Result<container::MediaFile> open_bytes(ByteVector bytes) {
    return container::open_media(std::make_shared<base::MemorySource>(std::move(bytes)));
}
std::vector<TestTrack> test_tracks_of(ByteVector bytes) {
    auto media = open_bytes(std::move(bytes));
    if (!media) FAIL(media.error().what);
    return read_all_packets(*media->source);
}
ByteVector written(std::string_view format, const std::vector<TestTrack>& test_tracks) {
    const TempDir dir;
    write_media(dir / "a", format, test_tracks);
    return read_all(dir / "a");
}
void append(ByteVector& to, ByteSpan what) {
    to.insert(to.end(), what.begin(), what.end());
}
void put_u32(ByteVector& bytes, std::size_t at, std::uint32_t value) {
    for (int i = 0; i < 4; ++i)
        bytes[at + static_cast<std::size_t>(i)] = static_cast<std::uint8_t>(value >> (24 - 8 * i));
}
std::size_t find_text(const ByteVector& bytes, std::string_view text, std::size_t from = 0) {
    const auto same = [](std::uint8_t byte, char c) { return byte == static_cast<std::uint8_t>(c); };
    const auto at =
        std::search(bytes.begin() + static_cast<std::ptrdiff_t>(from), bytes.end(), text.begin(), text.end(), same);
    REQUIRE(at != bytes.end());
    return static_cast<std::size_t>(at - bytes.begin());
}
double processor_seconds() {
    return static_cast<double>(std::clock()) / CLOCKS_PER_SEC;
}

// An EBML element whose size takes four bytes.
ByteVector element(std::initializer_list<int> id, const ByteVector& body) {
    ByteVector out;
    for (const int v : id) out.push_back(static_cast<std::uint8_t>(v));
    const std::size_t at = out.size();
    out.resize(at + 4);
    put_u32(out, at, 0x10000000u | static_cast<std::uint32_t>(body.size()));
    append(out, body);
    return out;
}

// A FLAC frame of 4096 samples of 16 bits in stereo that saves nothing: RFC 9639, 9.1 and 9.2.3.
ByteVector flac_frame(std::uint8_t number, std::minstd_rand& random) {
    ByteVector frame = {0xFF, 0xF8, 0xC9, 0x18, number};
    for (int crc = 0; crc < 256; ++crc) {
        frame.push_back(static_cast<std::uint8_t>(crc));
        if (bitstream::parse_flac_frame(frame)) break;
        frame.pop_back();
    }
    REQUIRE(frame.size() == 6);
    for (int channel = 0; channel < 2; ++channel) {
        frame.push_back(0x02);  // verbatim
        for (int i = 0; i < 4096 * 2; ++i) frame.push_back(static_cast<std::uint8_t>(random() >> 8));
    }
    const std::uint16_t sum = bitstream::flac_crc16(frame);
    frame.push_back(static_cast<std::uint8_t>(sum >> 8));
    frame.push_back(static_cast<std::uint8_t>(sum));
    return frame;
}

}  // namespace

TEST_CASE("MP3 files joined behind one header are read to the end", "[hostile][mp3]") {
    // A header frame that tells of three frames (Xing and what encoders add), then many.
    const TestTrack audio = audio_track(Codec::mp3, 3);
    ByteVector header(audio.packets[1].data.view().begin(), audio.packets[1].data.view().end());
    std::fill(header.begin() + 4, header.end(), 0);
    const std::string_view tag = "Info";
    std::copy(tag.begin(), tag.end(), header.begin() + 36);
    put_u32(header, 40, 1);  // frames are told
    put_u32(header, 44, 3);
    header[44 + 4 + 21] = 0x24;  // 576 samples of delay, 1105 of padding
    header[44 + 4 + 22] = 0x04;
    header[44 + 4 + 23] = 0x51;
    ByteVector file = header;
    std::size_t frames = 0;
    while (frames < 100'000) {
        for (const Packet& p : audio.packets) append(file, p.data.view());
        frames += audio.packets.size();
    }
    auto media = open_bytes(std::move(file));
    REQUIRE(media);
    const auto test_tracks = read_all_packets(*media->source);
    REQUIRE(test_tracks.size() == 1);
    // Of the three that are told of one may be padding.
    CHECK(test_tracks[0].packets.size() >= frames - 1);
    REQUIRE(media->source->problems().size() == 1);
    CHECK(media->source->problems()[0].what.find("more frames") != std::string::npos);
}

TEST_CASE("the length of joined MP3 files is that of both", "[hostile][mp3]") {
    const TestTrack audio = audio_track(Codec::mp3, 3);
    ByteVector one(audio.packets[1].data.view().begin(), audio.packets[1].data.view().end());
    std::fill(one.begin() + 4, one.end(), 0);
    const std::string_view tag = "Info";
    std::copy(tag.begin(), tag.end(), one.begin() + 36);
    std::size_t bytes = one.size();
    for (const Packet& p : audio.packets) bytes += p.data.size();
    put_u32(one, 40, 3);  // frames and bytes are told
    put_u32(one, 44, static_cast<std::uint32_t>(audio.packets.size()));
    put_u32(one, 48, static_cast<std::uint32_t>(bytes));
    for (const Packet& p : audio.packets) append(one, p.data.view());
    ByteVector two = one;
    append(two, one);
    const auto alone = open_bytes(one), joined = open_bytes(two);
    REQUIRE(alone);
    REQUIRE(joined);
    CHECK(alone->notes.empty());
    CHECK(joined->notes.size() == 1);
    CHECK(base::to_seconds(joined->source->duration()) ==
          Approx(2 * base::to_seconds(alone->source->duration())).epsilon(0.02));
}

TEST_CASE("editions nested in editions take no stack", "[hostile][matroska]") {
    ByteVector nested;
    for (int i = 0; i < 60'000; ++i) {
        // From the inside out: built backwards, since each holds the one before.
        ByteVector head = {0x45, 0xB9, 0, 0, 0, 0};
        put_u32(head, 2, 0x10000000u | static_cast<std::uint32_t>(nested.size()));
        std::reverse(head.begin(), head.end());
        append(nested, head);
    }
    std::reverse(nested.begin(), nested.end());
    ByteVector file = written("matroska", {audio_track(Codec::mp3, 1)});
    // Chapters behind the last cluster count as those in front where a seek head names them; here by walking.
    const ByteVector chapters = element({0x10, 0x43, 0xA7, 0x70}, nested);
    const std::size_t cluster = find_text(file, "\x1F\x43\xB6\x75");
    file.insert(file.begin() + static_cast<std::ptrdiff_t>(cluster), chapters.begin(), chapters.end());
    const auto media = open_bytes(std::move(file));
    REQUIRE(media);
    CHECK(media->source->chapters().empty());
}

TEST_CASE("a byte changed in a FLAC file costs a frame, and no time", "[hostile][flac]") {
    std::minstd_rand random(7);
    ByteVector file = {'f', 'L', 'a', 'C', 0x80, 0, 0, 34, 0x10, 0, 0x10, 0};
    file.resize(4 + 4 + 10, 0);
    const std::uint8_t rest[] = {0x0A, 0xC4, 0x42, 0xF0, 0, 0, 0, 0};  // 44100 Hz, stereo, 16 bits
    append(file, rest);
    file.resize(4 + 4 + 34, 0);
    constexpr int kFrames = 120;
    std::vector<std::size_t> starts;
    for (int i = 0; i < kFrames; ++i) {
        starts.push_back(file.size());
        append(file, flac_frame(static_cast<std::uint8_t>(i), random));
    }
    const double begun = processor_seconds();
    REQUIRE(test_tracks_of(file)[0].packets.size() == kFrames);
    const double whole = processor_seconds() - begun;
    SECTION("a frame is damaged") {
        file[starts[40] + 1000] ^= 1;
        const double from = processor_seconds();
        const auto test_tracks = test_tracks_of(file);
        CHECK(test_tracks[0].packets.size() == kFrames - 1);
        CHECK(processor_seconds() - from < 10 * whole + 0.1);
    }
    SECTION("nothing but headers of frames") {
        // Each looks like a frame of the longest kind, of which none ends.
        const ByteVector head(file.begin() + static_cast<std::ptrdiff_t>(starts[40]),
                              file.begin() + static_cast<std::ptrdiff_t>(starts[40]) + 6);
        ByteVector rubbish(file.begin(), file.begin() + static_cast<std::ptrdiff_t>(starts[40]));
        while (rubbish.size() < file.size()) append(rubbish, head);
        const double from = processor_seconds();
        CHECK(test_tracks_of(rubbish)[0].packets.size() == 40);
        CHECK(processor_seconds() - from < 100 * whole + 0.5);
    }
}

TEST_CASE("an MP4 index can't tell of more samples than there could be", "[hostile][mp4]") {
    ByteVector file = written("mp4", {audio_track(Codec::aac, 3)});
    const std::size_t sizes = find_text(file, "stsz"), times = find_text(file, "stts"),
                      chunks = find_text(file, "stsc");
    constexpr std::uint32_t kMany = 0x7FFFFFF0;
    put_u32(file, sizes + 8, 1);
    put_u32(file, sizes + 12, kMany);
    put_u32(file, times + 8, 1);
    put_u32(file, times + 12, kMany);
    put_u32(file, chunks + 16, kMany);
    const auto media = open_bytes(std::move(file));
    REQUIRE_FALSE(media);
    CHECK(media.error().what.find("sample size") != std::string::npos);
}

TEST_CASE("an MP4 file of thousands of tracks is read by its first", "[hostile][mp4]") {
    ByteVector file = written("mp4", {audio_track(Codec::aac, 3)});
    const std::size_t moov = find_text(file, "moov") - 4, trak = find_text(file, "trak") - 4;
    const auto u32 = [&](std::size_t at) {
        return static_cast<std::uint32_t>(file[at]) << 24 | static_cast<std::uint32_t>(file[at + 1]) << 16 |
               static_cast<std::uint32_t>(file[at + 2]) << 8 | file[at + 3];
    };
    const ByteVector track(file.begin() + static_cast<std::ptrdiff_t>(trak),
                           file.begin() + static_cast<std::ptrdiff_t>(trak + u32(trak)));
    ByteVector more;
    for (int i = 0; i < 3000; ++i) append(more, track);
    put_u32(file, moov, u32(moov) + static_cast<std::uint32_t>(more.size()));
    file.insert(file.begin() + static_cast<std::ptrdiff_t>(trak), more.begin(), more.end());
    const double from = processor_seconds();
    const auto media = open_bytes(std::move(file));
    REQUIRE(media);
    CHECK(media->source->tracks().size() <= 256);
    CHECK(processor_seconds() - from < 5);
    CHECK(std::any_of(media->notes.begin(), media->notes.end(),
                      [](const std::string& n) { return n.find("only the first") != std::string::npos; }));
}

// Small files of all formats for scripts/attack-files.
TEST_CASE("samples of all formats", "[.samples]") {
    const char* folder = std::getenv("WAVECREST_SEEDS");
    if (folder == nullptr) return;
    const base::Path at = folder;
    const TestTrack picture = video_track(Codec::h264, 48), aac = audio_track(Codec::aac, 2),
                    words = text_track({{{200, 900}, "the lake"}, {{1000, 1900}, "is calm"}});
    container::WriterSettings fragmented;
    fragmented.fragments = std::chrono::milliseconds(500);
    write_media(at / "h264.mp4", "mp4", {picture, aac, words});
    write_media(at / "fragments.mp4", "mp4", {picture, aac}, fragmented);
    write_media(at / "h265.mp4", "mp4", {video_track(Codec::h265, 24), audio_track(Codec::ac3, 1)});
    write_media(at / "mpeg4.mp4", "mp4", {video_track(Codec::mpeg4, 24), audio_track(Codec::mp3, 1)});
    write_media(at / "lpcm.mp4", "mp4", {audio_track(Codec::lpcm, 1)});
    write_media(at / "h264.mkv", "matroska", {picture, aac, words});
    write_media(at / "mixed.mkv", "matroska", {video_track(Codec::mpeg2, 24), audio_track(Codec::flac, 1)});
    write_media(at / "vp9.webm", "webm", {video_track(Codec::vp9, 24), audio_track(Codec::opus, 1)});
    write_media(at / "vp8.webm", "webm", {video_track(Codec::vp8, 24), audio_track(Codec::vorbis, 1)});
    write_media(at / "h264.ts", "mpeg-ts", {picture, aac});
    write_media(at / "mpeg2.ts", "mpeg-ts", {video_track(Codec::mpeg2, 24), audio_track(Codec::mp2, 1)});
    write_media(at / "h264.flv", "flv", {picture, aac});
    write_media(at / "audio.wav", "wav", {audio_track(Codec::lpcm, 1)});
    write_media(at / "audio.flac", "flac", {audio_track(Codec::flac, 2)});
    write_media(at / "audio.mp3", "mp3", {audio_track(Codec::mp3, 2)});
    write_media(at / "audio.aac", "adts", {aac});
    write_media(at / "opus.ogg", "ogg", {audio_track(Codec::opus, 2)});
    write_media(at / "vorbis.ogg", "ogg", {audio_track(Codec::vorbis, 2)});
    write_all(at / "words.vtt", std::string("WEBVTT\n\n00:01.000 --> 00:02.000\n<b>A</b> &lt;\n"));
    write_all(at / "words.srt", std::string("1\n00:00:01,000 --> 00:00:02,000\nA\n"));
}
