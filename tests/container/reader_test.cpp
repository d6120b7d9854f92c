// Readers on files by hand, of other programs, and with damage.
#include <catch2/catch.hpp>
#include <chrono>

#include "base/byte_source.hpp"
#include "bitstream/headers.hpp"
#include "bitstream/nal.hpp"
#include "container/mpeg_ps.hpp"
#include "container/mpeg_ts.hpp"
#include "container/sniff.hpp"
#include "container/subtitle_text.hpp"
#include "source/input.hpp"
#include "support/clips.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;

namespace {

Result<container::MediaFile> open_bytes(ByteVector bytes, int program = 0) {
    return container::open_media(std::make_shared<base::MemorySource>(std::move(bytes)), program);
}
std::vector<TestTrack> test_tracks_of(ByteVector bytes) {
    auto media = open_bytes(std::move(bytes));
    if (!media) FAIL(media.error().what);
    return read_all_packets(*media->source);
}
ByteVector written(std::string_view format, const std::vector<TestTrack>& test_tracks,
                   container::WriterSettings settings = {}) {
    const TempDir dir;
    write_media(dir / "a", format, test_tracks, std::move(settings));
    return read_all(dir / "a");
}
ByteVector operator+(ByteVector a, const ByteVector& b) {
    a.insert(a.end(), b.begin(), b.end());
    return a;
}
ByteVector bytes(std::initializer_list<int> values) {
    ByteVector out;
    for (const int v : values) out.push_back(static_cast<std::uint8_t>(v));
    return out;
}
ByteVector text(std::string_view t) {
    return {t.begin(), t.end()};
}
// An EBML element with a one-byte size.
ByteVector element(std::initializer_list<int> id, const ByteVector& body) {
    REQUIRE(body.size() < 127);
    return bytes(id) + bytes({static_cast<int>(0x80 | body.size())}) + body;
}
// The same with a size nobody knows (RFC 8794, 6.2).
ByteVector endless(std::initializer_list<int> id, const ByteVector& body) {
    return bytes(id) + bytes({0xFF}) + body;
}

// A Matroska file by hand: one MP3 track, number 1.
ByteVector matroska_with(const ByteVector& clusters) {
    const ByteVector audio =
        element({0xE1}, element({0xB5}, bytes({0x47, 0x3B, 0x80, 0x00})) + element({0x9F}, bytes({2})));
    const ByteVector entry =
        element({0xAE}, element({0xD7}, bytes({1})) + element({0x73, 0xC5}, bytes({1})) + element({0x83}, bytes({2})) +
                            element({0x86}, text("A_MPEG/L3")) + audio);
    return element({0x1A, 0x45, 0xDF, 0xA3}, element({0x42, 0x82}, text("matroska"))) +
           endless({0x18, 0x53, 0x80, 0x67}, element({0x16, 0x54, 0xAE, 0x6B}, entry) + clusters);
}
// A layer III frame of 24 bytes at 8 kbit/s, 22.05 kHz or so: only its header counts here.
ByteVector small_frame(int mark) {
    ByteVector frame = bytes({0xFF, 0xF3, 0x14, 0xC0});
    frame.resize(24, static_cast<std::uint8_t>(mark));
    return frame;
}

}  // namespace

TEST_CASE("all lacings of Matroska give their frames", "[matroska]") {
    // RFC 9559, clause 10.3: the same three frames of 24, 24 and 30 bytes laced in each way.
    ByteVector a = small_frame(1), b = small_frame(2), c = small_frame(3);
    const ByteVector head = bytes({0x81, 0x00, 0x00});
    c.resize(30, 3);
    const ByteVector xiph = element({0xA3}, head + bytes({0x02, 0x02, 24, 24}) + a + b + c);
    // EBML lacing: the first size, then differences around a bias of 63.
    const ByteVector ebml = element({0xA3}, head + bytes({0x06, 0x02, 0x80 | 24, 0x80 | 63}) + a + b + c);
    ByteVector even = c;
    even.resize(24);
    const ByteVector fixed = element({0xA3}, head + bytes({0x04, 0x02}) + a + b + even);
    for (const auto& [block, last] : {std::pair{xiph, 30}, {ebml, 30}, {fixed, 24}}) {
        const ByteVector cluster =
            endless({0x1F, 0x43, 0xB6, 0x75}, element({0xE7}, bytes({5})) + element({0xEC}, bytes({0, 0})) + block);
        const auto test_tracks = test_tracks_of(matroska_with(cluster));
        REQUIRE(test_tracks.size() == 1);
        REQUIRE(test_tracks[0].packets.size() == 3);
        CHECK(test_tracks[0].packets[0].data.size() == 24);
        CHECK(test_tracks[0].packets[1].data.view()[10] == 2);
        CHECK(test_tracks[0].packets[2].data.size() == static_cast<std::size_t>(last));
        CHECK(test_tracks[0].packets[1].pts == test_tracks[0].packets[0].pts + test_tracks[0].packets[0].duration);
        CHECK(std::chrono::abs(test_tracks[0].packets[0].pts - std::chrono::milliseconds(5)) <
              std::chrono::microseconds(100));
    }
}

TEST_CASE("sizes that lie, and lacings that run over, crash nothing", "[matroska]") {
    for (const ByteVector& block :
         {bytes({0x81, 0, 0, 0x02, 0xFF, 0xFF}), bytes({0x81, 0, 0, 0x06, 0x05, 0xFF}),
          bytes({0x81, 0, 0, 0x04, 0x02, 1}), bytes({0x81}), bytes({0x81, 0, 0, 0x02, 0x03, 200, 200, 200, 1})}) {
        const ByteVector cluster =
            endless({0x1F, 0x43, 0xB6, 0x75}, element({0xE7}, bytes({0})) + element({0xA3}, block) +
                                                  element({0xA3}, bytes({0x81, 0, 0, 0}) + small_frame(9)));
        const auto test_tracks = test_tracks_of(matroska_with(cluster));
        REQUIRE(test_tracks.size() == 1);
        CHECK_FALSE(test_tracks[0].packets.empty());
        CHECK(test_tracks[0].packets.back().data.view()[10] == 9);
    }
}

TEST_CASE("a file cut anywhere gives what is whole", "[damage]") {
    const TestTrack picture = video_track(Codec::h264, 60), audio = audio_track(Codec::aac, 2.5);
    container::WriterSettings fragmented;
    fragmented.fragments = std::chrono::milliseconds(500);
    const std::pair<std::string, container::WriterSettings> formats[] = {
        {"matroska", {}}, {"mpeg-ts", {}}, {"flv", {}}, {"mp4", fragmented}};
    for (const auto& [format, settings] : formats) {
        const ByteVector whole = written(format, {picture, audio}, settings);
        for (const double part : {0.4, 0.61, 0.83}) {
            INFO(format << " cut at " << part);
            const auto keep = static_cast<std::size_t>(static_cast<double>(whole.size()) * part);
            const auto test_tracks =
                test_tracks_of(ByteVector(whole.begin(), whole.begin() + static_cast<std::ptrdiff_t>(keep)));
            REQUIRE(test_tracks.size() == 2);
            // Not far less than the part that is there, and each packet as it was.
            CHECK(static_cast<double>(test_tracks[0].packets.size()) > part * 60 - 26);
            for (std::size_t i = 0; i + 1 < test_tracks[0].packets.size(); ++i) {
                const TestTrack one{picture.track, {picture.packets[i]}},
                    other{picture.track, {test_tracks[0].packets[i]}};
                REQUIRE(payload_of(one) == payload_of(other));
            }
        }
    }
}

TEST_CASE("damage in the middle costs what lies there, and is told", "[damage]") {
    const TestTrack picture = video_track(Codec::h264, 240), audio = audio_track(Codec::aac, 10);
    for (const std::string format : {"matroska", "mpeg-ts", "flv"}) {
        INFO(format);
        ByteVector damaged = written(format, {picture, audio});
        std::uint32_t state = 5;
        for (std::size_t i = damaged.size() / 2; i < damaged.size() / 2 + 3000; ++i)
            damaged[i] = static_cast<std::uint8_t>((state = state * 1664525u + 1013904223u) >> 24);
        auto media = open_bytes(std::move(damaged));
        REQUIRE(media);
        const auto test_tracks = read_all_packets(*media->source);
        REQUIRE(test_tracks.size() == 2);
        CHECK(test_tracks[0].packets.size() > 160);
        CHECK(test_tracks[0].packets.size() <= 241);
        CHECK(test_tracks[0].packets.back().pts > base::from_seconds(9.5));
        REQUIRE_FALSE(media->source->problems().empty());
        CHECK(std::abs(base::to_seconds(media->source->problems().front().from) - 5) < 2);
    }
}

TEST_CASE("transport streams of any packet length and start are read", "[ts]") {
    const TestTrack picture = video_track(Codec::h264, 60), audio = audio_track(Codec::ac3, 2.5);
    const ByteVector plain = written("mpeg-ts", {picture, audio});
    ByteVector timed, coded, late = text("rubbish that a tuner left in front, 0x47 G G");
    for (std::size_t at = 0; at + 188 <= plain.size(); at += 188) {
        const ByteVector packet(plain.begin() + static_cast<std::ptrdiff_t>(at),
                                plain.begin() + static_cast<std::ptrdiff_t>(at + 188));
        timed = timed + bytes({0, 0, 0, 0}) + packet;
        coded = coded + packet + ByteVector(16, 0xAB);
    }
    late.insert(late.end(), plain.begin(), plain.end());
    for (const ByteVector& stream : {timed, coded, late}) {
        CHECK(container::sniff(ByteSpan(stream).first(container::kSniffBytes)) == "mpeg-ts");
        const auto test_tracks = test_tracks_of(stream);
        REQUIRE(test_tracks.size() == 2);
        CHECK(payload_of(test_tracks[0]) == payload_of(picture));
        CHECK(payload_of(test_tracks[1]) == payload_of(audio));
    }
}

namespace {

// A section in one packet, its check sum made anew.
ByteVector table_packet(int pid, ByteVector section) {
    const std::uint32_t crc = container::ts::crc32(ByteSpan(section).first(section.size() - 4));
    for (std::size_t i = 0; i < 4; ++i)
        section[section.size() - 4 + i] = static_cast<std::uint8_t>(crc >> (24 - 8 * i));
    ByteVector payload = bytes({0}) + section;
    payload.resize(184, 0xFF);
    container::ts::PacketBytes out;
    container::ts::PacketHeader header;
    header.pid = pid;
    header.starts = true;
    container::ts::write_packet(out, header, payload);
    return {out.begin(), out.end()};
}
// The stream with its PIDs from 0x100 on moved, and without its tables.
ByteVector moved(const ByteVector& stream, int by) {
    ByteVector out;
    for (std::size_t at = 0; at + 188 <= stream.size(); at += 188) {
        const int pid = (stream[at + 1] & 0x1F) << 8 | stream[at + 2];
        if (pid < 0x100 || pid >= 0x1000) continue;
        ByteVector packet(stream.begin() + static_cast<std::ptrdiff_t>(at),
                          stream.begin() + static_cast<std::ptrdiff_t>(at + 188));
        packet[1] = static_cast<std::uint8_t>((packet[1] & 0xE0) | (pid + by) >> 8);
        packet[2] = static_cast<std::uint8_t>((pid + by) & 0xFF);
        out = out + packet;
    }
    return out;
}
ByteVector map_packet(int pmt_pid, int number, int first_pid) {
    container::ts::Program program;
    program.number = number;
    program.pcr_pid = first_pid;
    program.streams.resize(2);
    program.streams[0].type = 0x1B;
    program.streams[0].pid = first_pid;
    program.streams[1].type = 0x81;
    program.streams[1].pid = first_pid + 1;
    return table_packet(pmt_pid, container::ts::write_pmt(program, {}));
}

}  // namespace

TEST_CASE("every program of a transport stream is a title of its own", "[ts]") {
    const TestTrack one = video_track(Codec::h264, 60), audio = audio_track(Codec::ac3, 2.5);
    const TestTrack two = video_track(Codec::h264, 36), other = audio_track(Codec::ac3, 1.5);
    ByteVector pat = container::ts::write_pat(1, 0x1000);
    pat.insert(pat.end() - 4, {0, 2, 0xE0 | 0x10, 0x01});
    pat[2] = static_cast<std::uint8_t>(pat[2] + 4);
    const ByteVector tables = table_packet(0, pat) + map_packet(0x1000, 1, 0x100) + map_packet(0x1001, 2, 0x200);
    // Interleaved by pieces of a hundred packets.
    const ByteVector a = moved(written("mpeg-ts", {one, audio}), 0), b = moved(written("mpeg-ts", {two, other}), 0x100);
    ByteVector stream = tables;
    for (std::size_t at = 0; at < std::max(a.size(), b.size()); at += 18800) {
        for (const ByteVector* part : {&a, &b}) {
            if (at < part->size())
                stream.insert(stream.end(), part->begin() + static_cast<std::ptrdiff_t>(at),
                              part->begin() + static_cast<std::ptrdiff_t>(std::min(at + 18800, part->size())));
        }
    }
    const TempDir dir;
    write_all(dir / "a.ts", stream);
    const auto input = source::open_input(dir / "a.ts");
    REQUIRE(input);
    REQUIRE((*input)->titles().size() == 2);
    for (const auto& [number, test_tracks] : {std::pair{1, std::vector<TestTrack>{one, audio}}, {2, {two, other}}}) {
        auto opened = (*input)->open(number);
        REQUIRE(opened);
        const auto read = read_all_packets(**opened);
        REQUIRE(read.size() == 2);
        CHECK(payload_of(read[0]) == payload_of(test_tracks[0]));
        CHECK(payload_of(read[1]) == payload_of(test_tracks[1]));
    }
}

TEST_CASE("tables that change on the way are followed", "[ts]") {
    const TestTrack picture = video_track(Codec::h264, 60), audio = audio_track(Codec::ac3, 2.5);
    const ByteVector whole = written("mpeg-ts", {picture, audio});
    // Where a picture begins in the middle, everything moves to other PIDs.
    std::size_t half = whole.size() / 2 / 188 * 188;
    while ((whole[half + 1] & 0x5F) != 0x41 || whole[half + 2] != 0) half += 188;
    const ByteVector first(whole.begin(), whole.begin() + static_cast<std::ptrdiff_t>(half)),
        second(whole.begin() + static_cast<std::ptrdiff_t>(half), whole.end());
    const ByteVector pat = table_packet(0, container::ts::write_pat(1, 0x1000));
    const auto test_tracks = test_tracks_of(pat + map_packet(0x1000, 1, 0x100) + moved(first, 0) +
                                            map_packet(0x1000, 1, 0x300) + moved(second, 0x200));
    REQUIRE(test_tracks.size() == 2);
    CHECK(payload_of(test_tracks[0]) == payload_of(picture));
    CHECK(test_tracks[1].packets.size() + 2 >= audio.packets.size());
    CHECK(test_tracks[0].packets.back().pts == picture.packets.back().pts);
}

TEST_CASE("clocks that wrap and jump become one timeline", "[ts]") {
    // The timestamps of every PES packet behind a place are moved by so many ticks (ISO/IEC 13818-1, 2.4.3.7).
    const auto move_timestamps = [](ByteVector stream, std::size_t from, std::int64_t by) {
        for (std::size_t at = from / 188 * 188; at + 188 <= stream.size(); at += 188) {
            if ((stream[at + 1] & 0x40) == 0) continue;
            std::size_t p = at + 4;
            if ((stream[at + 3] & 0x20) != 0) p += 1u + stream[p];
            if (p + 19 > at + 188 || stream[p] != 0 || stream[p + 1] != 0 || stream[p + 2] != 1) continue;
            const int flags = stream[p + 7] >> 6;
            for (int k = 0; k < (flags == 3 ? 2 : flags == 2 ? 1 : 0); ++k) {
                std::uint8_t* s = &stream[p + 9 + static_cast<std::size_t>(k) * 5];
                std::int64_t value = static_cast<std::int64_t>(s[0] >> 1 & 7) << 30 | s[1] << 22 | (s[2] >> 1) << 15 |
                                     s[3] << 7 | s[4] >> 1;
                value = (value + by) & 0x1FFFFFFFF;
                s[0] = static_cast<std::uint8_t>((s[0] & 0xF1) | (value >> 30 & 7) << 1);
                s[1] = static_cast<std::uint8_t>(value >> 22);
                s[2] = static_cast<std::uint8_t>((value >> 15 & 0x7F) << 1 | 1);
                s[3] = static_cast<std::uint8_t>(value >> 7);
                s[4] = static_cast<std::uint8_t>((value & 0x7F) << 1 | 1);
            }
        }
        return stream;
    };
    const TestTrack picture = video_track(Codec::h264, 240), audio = audio_track(Codec::ac3, 10);
    const ByteVector plain = written("mpeg-ts", {picture, audio});
    SECTION("the 33-bit wrap in the middle is seamless") {
        const auto test_tracks = test_tracks_of(move_timestamps(plain, 0, (std::int64_t{1} << 33) - 7 * 90000));
        REQUIRE(test_tracks.size() == 2);
        REQUIRE(test_tracks[0].packets.size() == 240);
        for (std::size_t i = 0; i < 240; ++i)
            REQUIRE(std::chrono::abs(test_tracks[0].packets[i].pts - picture.packets[i].pts) <
                    std::chrono::microseconds(12));
    }
    SECTION("a jump of an hour goes on where the stream was, in step") {
        auto media = open_bytes(move_timestamps(plain, plain.size() / 2, 3600 * 90000));
        REQUIRE(media);
        CHECK(std::abs(base::to_seconds(media->source->duration()) - 10.01) < 0.3);
        const auto test_tracks = read_all_packets(*media->source);
        REQUIRE(test_tracks[0].packets.size() >= 239);
        const Time end = test_tracks[0].packets.back().pts, audio_end = test_tracks[1].packets.back().pts;
        CHECK(std::abs(base::to_seconds(end) - 10) < 0.3);
        CHECK(std::abs(base::to_seconds(audio_end - end)) < 0.3);
        REQUIRE_FALSE(media->source->problems().empty());
        CHECK(media->source->problems().front().what.find("clock discontinuity") != std::string::npos);
    }
}

TEST_CASE("a program stream whose pictures can't be read gives its audio", "[ps]") {
    const TestTrack audio = audio_track(Codec::ac3, 3);
    base::ByteWriter out;
    std::int64_t clock = 0;
    for (const Packet& packet : audio.packets) {
        container::ps::write_pack_header(out, clock * 300, 5'000'000);
        container::ps::PesHeader video{};
        video.stream_id = 0xE0;
        container::ps::write_pes_header(out, video, 500);
        out.fill(500, 0x55);
        container::ps::PesHeader header{};
        header.stream_id = container::ps::kPrivate1;
        header.pts = 90000 + base::to_ticks(packet.pts, 90000);
        container::ps::write_pes_header(out, header, packet.data.size() + 4);
        out.raw(bytes({0x80, 1, 0, 1}));
        out.raw(packet.data.view());
        clock += 2880;
    }
    const auto test_tracks = test_tracks_of(out.bytes());
    REQUIRE(test_tracks.size() == 1);
    CHECK(test_tracks[0].track.channels == 6);
    CHECK(test_tracks[0].packets.size() == audio.packets.size());
    CHECK(payload_of(test_tracks[0]) == payload_of(audio));
}

TEST_CASE("header fields out of all bounds are refused, not added up", "[headers]") {
    // A sequence parameter set of H.265 whose bit depth is a code of 31 zeros; found by the fuzzer.
    Track track;
    track.kind = TrackKind::video;
    track.codec = Codec::h265;
    ByteVector sps =
        bytes({0x42, 1, 1, 1, 0x60, 0, 0, 3, 0, 0x90, 0, 0, 3, 0, 0, 3, 0, 0x5D, 0xA0, 0x02, 0x80, 0x80, 0x2D, 0x16});
    sps.insert(sps.end(), {0, 0, 3, 0, 0, 3, 1, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF});
    ByteVector unit;
    bitstream::nal::append(unit, sps);
    bitstream::describe_headers(track, unit);
    CHECK(track.bit_depth <= 16);
    // Configurations of every codec cut at every place.
    for (const Codec codec : {Codec::h264, Codec::h265, Codec::vp9}) {
        const TestTrack test_track = video_track(codec, 2);
        const ByteSpan config = test_track.track.codec_config.view();
        for (std::size_t cut = 0; cut < config.size(); ++cut) {
            Track part;
            part.kind = TrackKind::video;
            part.codec = codec;
            part.codec_config = Bytes(ByteVector(config.begin(), config.begin() + static_cast<std::ptrdiff_t>(cut)));
            bitstream::describe_headers(part, {});
            (void)bitstream::codec_string(part);
        }
    }
}

TEST_CASE("the web's names of codecs are those registered", "[headers]") {
    // RFC 6381, 3.4; ISO/IEC 14496-15, annex E; the bindings of VP9 and AV1.
    Track track;
    track.codec = Codec::h264;
    track.codec_config = Bytes(bytes({1, 0x64, 0x00, 0x28}));
    CHECK(bitstream::codec_string(track) == "avc1.640028");
    track.codec = Codec::h265;
    // The example of annex E.3: progressive Main profile, Main tier, level 3.1.
    track.codec_config = Bytes(bytes({1, 0x01, 0x60, 0, 0, 0, 0xB0, 0, 0, 0, 0, 0, 93}));
    CHECK(bitstream::codec_string(track) == "hvc1.1.6.L93.B0");
    track.codec = Codec::av1;
    track.codec_config = Bytes(bytes({0x81, 0x04, 0x0C, 0x00}));
    CHECK(bitstream::codec_string(track) == "av01.0.04M.08");
    track.codec = Codec::vp9;
    track.codec_config = Bytes(bytes({2, 10, 0xA2, 9, 16, 9, 0, 0}));
    CHECK(bitstream::codec_string(track) == "vp09.02.10.10");
    track.codec = Codec::aac;
    track.codec_config = Bytes(bytes({0x11, 0x90}));
    CHECK(bitstream::codec_string(track) == "mp4a.40.2");
}

TEST_CASE("subtitles of text are read from SRT and WebVTT", "[text]") {
    const auto srt = test_tracks_of(
        text("1\r\n00:00:01,500 --> 00:00:03,000\r\n<i>Good</i> evening\r\nto <Ann>\r\n\r\n2\n01:02:03,004 "
             "--> 01:02:04,000\nBye & go\n"));
    REQUIRE(srt.size() == 1);
    REQUIRE(srt[0].packets.size() == 2);
    CHECK(srt[0].packets[0].pts == base::from_seconds(1.5));
    CHECK(srt[0].packets[0].duration == base::from_seconds(1.5));
    CHECK(payload_of({srt[0].track, {srt[0].packets[0]}}) == text("Good evening\nto <Ann>"));
    CHECK(payload_of({srt[0].track, {srt[0].packets[1]}}) == text("Bye & go"));
    const auto vtt =
        test_tracks_of(text("WEBVTT\n\nNOTE no cue\n\nname\n00:01.500 --> 00:03.000 line:0\n<v Ann>A &lt;b&gt;</v>\n"));
    REQUIRE(vtt[0].packets.size() == 1);
    CHECK(payload_of(vtt[0]) == text("A <b>"));
    // And back.
    const std::string again = container::write_web_vtt(srt[0].packets);
    const auto back = test_tracks_of(text(again));
    CHECK(payload_of(back[0]) == payload_of(srt[0]));
    CHECK(back[0].packets[1].pts == srt[0].packets[1].pts);
    CHECK(container::plain_text_of_ass("0,0,Default,,0,0,0,,{\\i1}One{\\i0}, two\\Nthree {\\p1}m 0 0{\\p0}end") ==
          "One, two\nthree end");
}

TEST_CASE("compact sample sizes are read as plain ones", "[mp4]") {
    // ISO/IEC 14496-12, 8.7.3.3: sizes of 16 bits; a free box takes the room they leave.
    const TestTrack audio = audio_track(Codec::aac, 3);
    ByteVector file = written("mp4", {audio});
    const ByteVector name = text("stsz");
    const auto found = std::search(file.begin(), file.end(), name.begin(), name.end());
    REQUIRE(found != file.end());
    const auto at = static_cast<std::size_t>(found - file.begin()) - 4;
    base::ByteReader reader{ByteSpan(file).subspan(at)};
    const std::uint32_t size = reader.u32();
    reader.skip(12);
    const std::uint32_t count = reader.u32();
    REQUIRE(size == 20 + 4 * count);
    base::ByteWriter compact;
    compact.u32(20 + 2 * count);
    compact.text("stz2");
    compact.u32(0);
    compact.u32(16);
    compact.u32(count);
    for (std::uint32_t i = 0; i < count; ++i) compact.u16(reader.u32());
    compact.u32(2 * count);
    compact.text("free");
    compact.fill(2 * count - 8);
    REQUIRE(compact.size() == size);
    std::copy(compact.bytes().begin(), compact.bytes().end(), file.begin() + static_cast<std::ptrdiff_t>(at));
    const auto test_tracks = test_tracks_of(file);
    REQUIRE(test_tracks.size() == 1);
    CHECK(payload_of(test_tracks[0]) == payload_of(audio));
}

TEST_CASE("a file that is still being written is read as far as it is", "[mp4]") {
    container::WriterSettings fragmented;
    fragmented.fragments = std::chrono::milliseconds(500);
    const TestTrack picture = video_track(Codec::h264, 120);
    const ByteVector whole = written("mp4", {picture}, fragmented);
    std::size_t before = 0;
    for (const double part : {0.3, 0.6, 0.9}) {
        auto media = open_bytes(ByteVector(
            whole.begin(), whole.begin() + static_cast<std::ptrdiff_t>(static_cast<double>(whole.size()) * part)));
        REQUIRE(media);
        const auto test_tracks = read_all_packets(*media->source);
        CHECK(test_tracks[0].packets.size() > before);
        before = test_tracks[0].packets.size();
        CHECK_FALSE(media->notes.empty());
    }
}

TEST_CASE("AVI is read with its index, with a wrong one, and without", "[avi]") {
    // Made by hand: MP3 audio in chunks of three frames, and an index of them.
    const TestTrack audio = audio_track(Codec::mp3, 3);
    base::ByteWriter movie, index;
    const auto little = [](base::ByteWriter& out, std::uint64_t value, int count) {
        for (int i = 0; i < count; ++i) out.u8(value >> (8 * i) & 0xFF);
    };
    movie.text("movi");
    for (std::size_t i = 0; i < audio.packets.size(); i += 3) {
        ByteVector chunk;
        for (std::size_t k = i; k < std::min(i + 3, audio.packets.size()); ++k)
            chunk = chunk + ByteVector(audio.packets[k].data.view().begin(), audio.packets[k].data.view().end());
        index.text("00wb");
        little(index, 0x10, 4);
        little(index, movie.size(), 4);
        little(index, chunk.size(), 4);
        movie.text("00wb");
        little(movie, chunk.size(), 4);
        movie.raw(chunk);
        if (chunk.size() % 2 != 0) movie.u8(0);
    }
    const auto list = [&](std::string_view name, const ByteVector& body) {
        base::ByteWriter out;
        out.text(name);
        little(out, body.size(), 4);
        out.raw(body);
        if (body.size() % 2 != 0) out.u8(0);
        return out.release();
    };
    base::ByteWriter header, format;
    header.text("auds");
    header.fill(16);
    little(header, 1, 4);
    little(header, 16000, 4);
    header.fill(16);
    little(header, 1, 4);
    header.fill(8);
    for (const auto& [value, size] : {std::pair{0x55, 2}, {2, 2}, {48000, 4}, {16000, 4}, {1, 2}, {0, 2}, {0, 2}})
        little(format, static_cast<std::uint64_t>(value), size);
    const ByteVector streams = list("strh", header.release()) + list("strf", format.release());
    const ByteVector strl = text("strl") + streams;
    const ByteVector hdrl = text("hdrl") + list("LIST", strl);
    const auto file = [&](const ByteVector& idx1) {
        ByteVector body = text("AVI ") + list("LIST", hdrl) + list("LIST", movie.bytes());
        if (!idx1.empty()) body = body + list("idx1", idx1);
        return list("RIFF", body);
    };
    SECTION("an index of indexes, for files of any size (OpenDML AVI extensions, 3.0)") {
        // The super index has one entry, of a standard index behind the movie list; its offsets count from the list.
        const auto with_super = [&](std::uint64_t at, std::uint64_t size) {
            base::ByteWriter super;
            little(super, 4, 2);
            little(super, 0, 2);
            little(super, 1, 4);
            super.text("00wb");
            super.fill(12);
            little(super, at, 8);
            little(super, size, 4);
            little(super, 1, 4);
            return text("AVI ") +
                   list("LIST", text("hdrl") + list("LIST", text("strl") + streams + list("indx", super.release())));
        };
        const std::uint64_t movie_at = 8 + with_super(0, 0).size() + 8;
        base::ByteWriter standard;
        little(standard, 2, 2);
        little(standard, 0x0100, 2);
        little(standard, index.size() / 16, 4);
        standard.text("00wb");
        little(standard, movie_at, 8);
        little(standard, 0, 4);
        for (std::size_t at = 0; at < index.size(); at += 16) {
            const ByteSpan entry = ByteSpan(index.bytes()).subspan(at, 16);
            const auto field = [&](std::size_t from) {
                return entry[from] | entry[from + 1] << 8 | entry[from + 2] << 16 |
                       static_cast<std::uint32_t>(entry[from + 3]) << 24;
            };
            little(standard, field(8) + 8, 4);
            little(standard, field(12), 4);
        }
        const ByteVector ix = list("ix00", standard.release());
        const ByteVector list_bytes = list("LIST", movie.bytes());
        const ByteVector whole =
            list("RIFF", with_super(movie_at - 8 + list_bytes.size(), ix.size()) + list_bytes + ix);
        auto media = open_bytes(whole);
        REQUIRE(media);
        CHECK(media->notes.empty());
        CHECK(payload_of(read_all_packets(*media->source)[0]) == payload_of(audio));
    }
    ByteVector wrong = index.bytes();
    for (std::size_t i = 8; i < wrong.size(); i += 16) wrong[i] ^= 0x55;
    for (const auto& [idx1, note] :
         {std::pair{index.bytes(), ""}, {wrong, "the index is wrong"}, {ByteVector(), "the index is missing"}}) {
        auto media = open_bytes(file(idx1));
        REQUIRE(media);
        CHECK(media->container == "avi");
        CHECK((*note == '\0' ? media->notes.empty() : media->notes.size() == 1 && media->notes[0].find(note) == 0));
        const auto test_tracks = read_all_packets(*media->source);
        REQUIRE(test_tracks.size() == 1);
        CHECK(test_tracks[0].packets.size() == audio.packets.size());
        CHECK(payload_of(test_tracks[0]) == payload_of(audio));
        CHECK(test_tracks[0].packets.back().pts == audio.packets.back().pts);
    }
}

TEST_CASE("browser recordings are read to their ends", "[interop]") {
    const base::Path folder = base::Path(WAVECREST_SOURCE) / "../shared/interop";
    if (!std::filesystem::exists(folder)) return;
    for (const auto& [name, codec] :
         {std::pair{"clip.mkv", Codec::h264}, {"clip.webm", Codec::vp9}, {"clip.mp4", Codec::av1}}) {
        INFO(name);
        const auto test_tracks = read_media(folder / name);
        REQUIRE(test_tracks.size() == 2);
        CHECK(test_tracks[0].track.codec == codec);
        CHECK(test_tracks[0].track.width == 640);
        CHECK(test_tracks[0].track.height == 360);
        CHECK(test_tracks[1].track.codec == Codec::opus);
        CHECK(test_tracks[1].packets.size() > 100);
        CHECK(std::abs(base::to_seconds(test_tracks[0].packets.back().pts) - 8) < 0.7);
        CHECK(std::abs(base::to_seconds(test_tracks[1].packets.back().pts) - 8) < 0.7);
        CHECK_FALSE(bitstream::codec_string(test_tracks[0].track).empty());
    }
}
