#include <catch2/catch.hpp>

#include <random>

#include "base/atomic_file.hpp"
#include "base/byte_source.hpp"
#include "bitstream/aac.hpp"
#include "codec/video_encoder.hpp"
#include "container/mp4_reader.hpp"
#include "container/mp4_writer.hpp"
#include "container/reader.hpp"
#include "container/sniff.hpp"
#include "support/clips.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
using container::Mp4Writer;
using container::WriterSettings;

namespace {

Track video_track() {
    codec::VideoEncoderSettings settings;
    settings.width = 720;
    settings.height = 480;
    settings.pixel_aspect = {32, 27};
    settings.frame_rate = {24000, 1001};
    settings.colour = {6, 6, 6, false};
    auto encoder = codec::make_video_encoder(settings);
    REQUIRE(encoder);
    Track track = (*encoder)->track();
    track.id = 1;
    return track;
}

Track audio_track() {
    Track track;
    track.id = 2;
    track.kind = TrackKind::audio;
    track.codec = Codec::aac;
    track.channels = 2;
    track.sample_rate = 48000;
    track.language = "en";
    track.codec_config = Bytes(bitstream::aac::make_config(48000, 2));
    return track;
}

ByteVector payload(int track, int number, std::size_t size) {
    ByteVector bytes(size);
    for (std::size_t i = 0; i < size; ++i)
        bytes[i] = static_cast<std::uint8_t>(track * 31 + number * 7 + static_cast<int>(i));
    return bytes;
}

constexpr int kFrames = 48;
const Ratio kFilm{24000, 1001};
// Coding order I P B B: presentation index of each coded picture.
int presentation(int n) {
    if (n == 0) return 0;
    constexpr int kOrder[] = {3, 1, 2};
    return (n - 1) / 3 * 3 + kOrder[(n - 1) % 3];
}

Packet video_packet(int n) {
    Packet packet;
    packet.track = 1;
    packet.dts = base::frames_to_time(n - 2, kFilm);  // two pictures of delay
    packet.pts = base::frames_to_time(presentation(n), kFilm);
    packet.duration = base::frames_to_time(1, kFilm);
    packet.key = n % 12 == 0;
    packet.data = Bytes(payload(1, n, 100 + static_cast<std::size_t>(n)));
    return packet;
}

Packet audio_packet(int n) {
    Packet packet;
    packet.track = 2;
    packet.pts = packet.dts = base::from_ticks(n * 1024 - 1600, 48000);
    packet.duration = base::from_ticks(1024, 48000);
    packet.key = true;
    packet.data = Bytes(payload(2, n, 60 + static_cast<std::size_t>(n % 5)));
    return packet;
}

constexpr int kAudioPackets = 96;  // a little longer than the picture

void write_sample(const base::Path& path, std::vector<Chapter> chapters = {}) {
    auto file = base::AtomicFile::create(path, base::AtomicFile::IfExists::refuse);
    REQUIRE(file);
    WriterSettings settings;
    settings.title = "Sample";
    settings.year = 2020;
    settings.chapters = std::move(chapters);
    settings.duration = base::frames_to_time(kFrames, kFilm);
    auto writer = Mp4Writer::create(std::make_unique<base::AtomicFile>(std::move(*file)),
                                    {video_track(), audio_track()}, settings);
    REQUIRE(writer);
    int video = 0, audio = 0;
    while (video < kFrames || audio < kAudioPackets) {
        if (audio >= kAudioPackets || (video < kFrames && video_packet(video).dts <= audio_packet(audio).dts)) {
            REQUIRE((*writer)->write(video_packet(video++)));
        } else {
            REQUIRE((*writer)->write(audio_packet(audio++)));
        }
    }
    REQUIRE((*writer)->finish());
}

container::Mp4Movie read(const base::Path& path) {
    auto file = base::FileSource::open(path);
    REQUIRE(file);
    auto movie = container::read_mp4(*file);
    REQUIRE(movie);
    return std::move(*movie);
}

std::uint32_t u32_at(const ByteVector& bytes, std::size_t at) {
    return static_cast<std::uint32_t>(bytes[at] << 24 | bytes[at + 1] << 16 | bytes[at + 2] << 8 | bytes[at + 3]);
}

// The body of the first box of a type, found by walking the tree as 14496-12, 4.2 says; apart from the reader.
ByteVector find_box(const ByteVector& bytes, const std::vector<std::string>& path) {
    ByteVector level = bytes;
    for (const std::string& wanted : path) {
        bool found = false;
        for (std::size_t at = 0; at + 8 <= level.size() && !found;) {
            std::size_t size = u32_at(level, at), header = 8;
            if (size == 1) {
                size = u32_at(level, at + 12);
                header = 16;
            }
            REQUIRE(size >= header);
            if (std::string(level.begin() + static_cast<std::ptrdiff_t>(at) + 4,
                            level.begin() + static_cast<std::ptrdiff_t>(at) + 8) == wanted) {
                level = ByteVector(level.begin() + static_cast<std::ptrdiff_t>(at + header),
                                   level.begin() + static_cast<std::ptrdiff_t>(at + size));
                found = true;
            }
            at += size;
        }
        INFO("box " << wanted);
        REQUIRE(found);
    }
    return level;
}

}  // namespace

TEST_CASE("the index lies in front and names where every sample is", "[mp4]") {
    const TempDir dir;
    write_sample(dir / "a.mp4");
    const ByteVector bytes = read_all(dir / "a.mp4");
    CHECK(std::string(bytes.begin() + 4, bytes.begin() + 8) == "ftyp");
    const auto movie = read(dir / "a.mp4");
    CHECK(movie.index_in_front);
    CHECK(movie.tags.title == "Sample");
    CHECK(movie.missing_bytes == 0);
    REQUIRE(movie.tracks.size() == 2);
    REQUIRE(movie.tracks[0].samples.size() == kFrames);
    REQUIRE(movie.tracks[1].samples.size() == kAudioPackets);
    for (int n = 0; n < kFrames; ++n) {
        const auto& sample = movie.tracks[0].samples[static_cast<std::size_t>(n)];
        const Packet packet = video_packet(n);
        CHECK(sample.pts == packet.pts);
        CHECK(sample.dts == packet.dts);
        CHECK(sample.key == packet.key);
        CHECK(std::equal(packet.data.view().begin(), packet.data.view().end(),
                         bytes.begin() + static_cast<std::ptrdiff_t>(sample.offset)));
    }
    for (int n = 0; n < kAudioPackets; ++n) {
        const auto& sample = movie.tracks[1].samples[static_cast<std::size_t>(n)];
        CHECK(sample.pts == audio_packet(n).pts);
        CHECK(sample.size == audio_packet(n).data.size());
    }
}

TEST_CASE("track headers carry what players need", "[mp4]") {
    const TempDir dir;
    write_sample(dir / "a.mp4");
    const auto movie = read(dir / "a.mp4");
    const Track& video = movie.tracks[0].info;
    CHECK(video.codec == Codec::h264);
    CHECK(video.profile == "High");
    CHECK(video.width == 720);
    CHECK(video.pixel_aspect == Ratio{32, 27});
    CHECK(video.display_aspect() == Ratio{16, 9});
    CHECK(video.frame_rate == kFilm);
    CHECK(video.colour == ColourDescription{6, 6, 6, false});
    CHECK(video.scan == Scan::progressive);
    const Track& audio = movie.tracks[1].info;
    CHECK(audio.codec == Codec::aac);
    CHECK(audio.profile == "AAC-LC");
    CHECK(audio.language == "eng");
    CHECK(audio.channels == 2);
    CHECK(audio.sample_rate == 48000);
    // The picture's length is exact; the audio is cut to it.
    CHECK(movie.duration == base::frames_to_time(kFrames, kFilm));
    CHECK(movie.tracks[1].end <= movie.duration);
}

TEST_CASE("edit list, priming and roll group by their bytes", "[mp4]") {
    const TempDir dir;
    write_sample(dir / "a.mp4");
    const ByteVector bytes = read_all(dir / "a.mp4");
    // Video: one edit from media time 2002, the two pictures of decoding delay in a timescale of 24000.
    const ByteVector elst = find_box(bytes, {"moov", "trak", "edts", "elst"});
    REQUIRE(elst.size() == 8 + 20);
    CHECK(elst[0] == 1);
    CHECK(u32_at(elst, 4) == 1);
    CHECK(u32_at(elst, 12) == kFrames * 2002u);  // duration at the movie's 48000
    CHECK(u32_at(elst, 20) == 2002);
    CHECK(u32_at(elst, 24) == 0x10000);
    const ByteVector mdhd = find_box(bytes, {"moov", "trak", "mdia", "mdhd"});
    CHECK(u32_at(mdhd, 20) == 24000);
    // AudioFrames: the second track. Its edit starts 1600 samples in; its samples form a roll group of distance -1.
    const ByteVector moov = find_box(bytes, {"moov"});
    std::size_t at = 0, traks = 0;
    ByteVector audio;
    while (at + 8 <= moov.size()) {
        const std::size_t size = u32_at(moov, at);
        if (std::string(moov.begin() + static_cast<std::ptrdiff_t>(at) + 4,
                        moov.begin() + static_cast<std::ptrdiff_t>(at) + 8) == "trak" &&
            ++traks == 2) {
            audio.assign(moov.begin() + static_cast<std::ptrdiff_t>(at) + 8,
                         moov.begin() + static_cast<std::ptrdiff_t>(at + size));
        }
        at += size;
    }
    REQUIRE_FALSE(audio.empty());
    const ByteVector audio_edit = find_box(audio, {"edts", "elst"});
    CHECK(u32_at(audio_edit, 20) == 1600);
    const ByteVector sgpd = find_box(audio, {"mdia", "minf", "stbl", "sgpd"});
    CHECK(std::string(sgpd.begin() + 4, sgpd.begin() + 8) == "roll");
    CHECK(sgpd[sgpd.size() - 2] == 0xFF);
    CHECK(sgpd[sgpd.size() - 1] == 0xFF);
}

TEST_CASE("chapters are kept as a text track", "[mp4]") {
    const TempDir dir;
    write_sample(
        dir / "a.mp4",
        {{Time{}, "Morning"}, {base::from_seconds(0.5), "Boathouse"}, {base::from_seconds(1.25), "Lanterns ünd"}});
    const auto movie = read(dir / "a.mp4");
    REQUIRE(movie.tracks.size() == 2);
    REQUIRE(movie.chapters.size() == 3);
    CHECK(movie.chapters[0].name == "Morning");
    CHECK(movie.chapters[1].start == base::from_seconds(0.5));
    CHECK(movie.chapters[2].start == base::from_seconds(1.25));
    CHECK(movie.chapters[2].name == "Lanterns ünd");
}

TEST_CASE("packets come back in file order, and from a keyframe after a skip", "[mp4]") {
    const TempDir dir;
    write_sample(dir / "a.mp4");
    auto file = base::FileSource::open(dir / "a.mp4");
    REQUIRE(file);
    auto opened = container::open_mp4(std::make_shared<base::FileSource>(std::move(*file)));
    REQUIRE(opened);
    PacketSource& source = *opened->source;
    int count = 0;
    while (true) {
        auto packet = source.read();
        REQUIRE(packet);
        if (!*packet) break;
        ++count;
    }
    CHECK(count == kFrames + kAudioPackets);
    REQUIRE(source.seek(base::from_seconds(1.2)));
    bool first_video = true;
    while (true) {
        auto packet = source.read();
        REQUIRE(packet);
        if (!*packet) break;
        if ((*packet)->track == 1 && first_video) {
            CHECK((*packet)->key);
            CHECK((*packet)->pts <= base::from_seconds(1.2));
            CHECK((*packet)->data.size() == 124);  // picture 24
            first_video = false;
        }
    }
    CHECK_FALSE(first_video);
}

TEST_CASE("files without an index, empty or cut, say so", "[mp4]") {
    const TempDir dir;
    write_sample(dir / "a.mp4");
    const ByteVector whole = read_all(dir / "a.mp4");
    const auto error_of = [](ByteVector bytes) {
        base::MemorySource source(std::move(bytes), "cut.mp4");
        const auto movie = container::read_mp4(source);
        REQUIRE_FALSE(movie);
        CHECK(movie.error().kind == ErrorKind::input);
        CHECK(movie.error().where.find("cut.mp4") == 0);
        CHECK_FALSE(movie.error().remedy.empty());
        return movie.error().what;
    };
    CHECK(error_of({}).find("no index") != std::string::npos);
    CHECK(error_of(ByteVector(whole.begin(), whole.begin() + 200)).find("index") != std::string::npos);
    ByteVector garbage(5000, 0x42);
    CHECK(error_of(garbage).find("not an MP4") != std::string::npos);
    // A file cut in its media data still has its index: it opens, and says how much is missing.
    base::MemorySource cut(ByteVector(whole.begin(), whole.end() - 3000));
    const auto movie = container::read_mp4(cut);
    REQUIRE(movie);
    CHECK(movie->missing_bytes == 3000);
}

TEST_CASE("damaged indexes are refused or read, but never crash or swallow memory", "[mp4]") {
    const TempDir dir;
    write_sample(dir / "a.mp4", {{Time{}, "a"}, {base::from_seconds(1), "b"}});
    const ByteVector whole = read_all(dir / "a.mp4");
    std::mt19937 random(11);
    int refused = 0;
    for (int i = 0; i < 3000; ++i) {
        ByteVector bad = whole;
        for (int k = 0; k < 4; ++k)
            bad[random() % 3600] = static_cast<std::uint8_t>(random() % 3 == 0 ? 0xFF : random());
        base::MemorySource source(std::move(bad));
        const auto movie = container::read_mp4(source);
        refused += movie ? 0 : 1;
    }
    CHECK(refused > 100);
    for (std::size_t size = 0; size < 4000; size += 7) {
        base::MemorySource source(ByteVector(whole.begin(), whole.begin() + static_cast<std::ptrdiff_t>(size)));
        (void)container::read_mp4(source);
    }
}

TEST_CASE("a track MP4 can't hold is refused before anything is written", "[mp4]") {
    const TempDir dir;
    auto file = base::AtomicFile::create(dir / "a.mp4", base::AtomicFile::IfExists::refuse);
    REQUIRE(file);
    Track track = audio_track();
    track.codec = Codec::truehd;
    const auto writer = Mp4Writer::create(std::make_unique<base::AtomicFile>(std::move(*file)), {track}, {});
    REQUIRE_FALSE(writer);
    CHECK(writer.error().what.find("TrueHD") != std::string::npos);
    CHECK(dir.files().empty());
}

TEST_CASE("files of other programs are recognised", "[sniff]") {
    using container::sniff;
    CHECK(sniff(base::as_bytes(std::string_view("\x1A\x45\xDF\xA3....", 8))) == "matroska");
    CHECK(sniff(ByteVector{0, 0, 0, 24, 'f', 't', 'y', 'p', 'i', 's', 'o', 'm'}) == "mp4");
    CHECK(sniff(ByteVector{0, 0, 1, 0xBA, 0x44}) == "mpeg-ps");
    ByteVector ts(600, 0);
    ts[0] = ts[188] = ts[376] = ts[564] = 0x47;
    CHECK(sniff(ts) == "mpeg-ts");
    CHECK(sniff(base::as_bytes("RIFF....AVI LIST")) == "avi");
    CHECK(sniff(base::as_bytes("fLaC")) == "flac");
    CHECK(sniff({}).empty());
    CHECK(sniff(base::as_bytes("hello")).empty());
    const base::Path interop = base::Path(WAVECREST_SOURCE) / "../shared/interop";
    for (const auto& [name, kind] :
         {std::pair{"clip.mkv", "matroska"}, std::pair{"clip.webm", "matroska"}, std::pair{"clip.mp4", "mp4"}}) {
        if (!std::filesystem::exists(interop / name)) continue;
        CHECK(sniff(ByteSpan(read_all(interop / name)).first(600)) == kind);
    }
}

TEST_CASE("skips land on the last keyframe before a time, with the audio that is heard there", "[mp4]") {
    const TempDir dir;
    TestTrack picture = video_track(Codec::h264, 720);
    const TestTrack audio = audio_track(Codec::aac, 30), words = text_track({{{2'000, 28'000}, "long"}}, 3);
    // Keyframes at 0, 1.001 s and then none for 20 seconds.
    for (Packet& packet : picture.packets)
        if (packet.pts > base::from_seconds(1.5) && packet.pts < base::from_seconds(21)) packet.key = false;
    write_media(dir / "a.mp4", "mp4", {picture, audio, words});
    const auto test_tracks = read_media(dir / "a.mp4");
    auto opened = container::open_media(std::make_shared<base::FileSource>(*base::FileSource::open(dir / "a.mp4")));
    REQUIRE(opened);
    for (double at = 0; at < 30; at += 0.7) {
        INFO(at);
        const Time time = base::from_seconds(at);
        Time key{}, heard{};
        for (const Packet& packet : test_tracks[0].packets)
            if (packet.key && packet.pts <= time) key = packet.pts;
        REQUIRE(opened->source->seek(time));
        bool any[3] = {};
        while (!any[0] || !any[1]) {
            const auto packet = opened->source->read();
            REQUIRE(packet);
            REQUIRE(*packet);
            const auto test_track = static_cast<std::size_t>((*packet)->track == test_tracks[0].track.id   ? 0
                                                             : (*packet)->track == test_tracks[1].track.id ? 1
                                                                                                           : 2);
            if (any[test_track]) continue;
            any[test_track] = true;
            if (test_track == 0) CHECK((*packet)->pts == key);
            if (test_track == 1) heard = (*packet)->pts;
            if (test_track == 1) CHECK(heard + (*packet)->duration > std::min(key, time));
            if (test_track == 1) CHECK(heard <= std::max(key, test_tracks[1].packets.front().pts));
        }
        // What is still shown there comes, too.
        if (key > base::from_seconds(2)) CHECK(any[2] == (at < 28));
    }
}
