// CMAF tracks, looked at box by box (ISO/IEC 14496-12 and 23000-19), and read back.
#include "container/cmaf.hpp"

#include <catch2/catch.hpp>
#include <chrono>

#include "base/atomic_file.hpp"
#include "base/byte_source.hpp"
#include "support/clips.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
using namespace std::chrono_literals;

namespace {

struct Box {
    std::string type;
    std::size_t at = 0, size = 0;
};

std::uint64_t number(ByteSpan bytes, std::size_t at, std::size_t count) {
    std::uint64_t value = 0;
    for (std::size_t i = 0; i < count; ++i) value = value << 8 | bytes[at + i];
    return value;
}

// The boxes from `from` to `to`, which they must fill.
std::vector<Box> boxes(ByteSpan bytes, std::size_t from, std::size_t to) {
    std::vector<Box> found;
    while (from + 8 <= to) {
        const auto size = static_cast<std::size_t>(number(bytes, from, 4));
        REQUIRE(size >= 8);
        REQUIRE(size <= to - from);
        found.push_back({std::string(bytes.begin() + static_cast<std::ptrdiff_t>(from + 4),
                                     bytes.begin() + static_cast<std::ptrdiff_t>(from + 8)),
                         from, size});
        from += size;
    }
    REQUIRE(from == to);
    return found;
}

const Box& one(const std::vector<Box>& all, const std::string& type) {
    const auto found = std::find_if(all.begin(), all.end(), [&](const Box& box) { return box.type == type; });
    REQUIRE(found != all.end());
    return *found;
}

void write_track(const base::Path& path, const TestTrack& track, Time length) {
    auto file = base::AtomicFile::create(path, base::AtomicFile::IfExists::refuse);
    REQUIRE(file);
    auto sink = container::create_cmaf_file(std::make_unique<base::AtomicFile>(std::move(*file)), track.track, length);
    REQUIRE(sink);
    for (const Packet& packet : track.packets) REQUIRE((*sink)->write(packet));
    REQUIRE((*sink)->finish());
}

container::CmafFile read(const base::Path& path) {
    auto source = base::FileSource::open(path);
    REQUIRE(source);
    auto file = container::read_cmaf_file(*source, path.string());
    if (!file) FAIL(file.error().what);
    return std::move(*file);
}

constexpr Time kOneGroup = base::kFlicksPerSecond / 24000 * 1001 * 24 * Time(1);  // of video_track's keyframes

}  // namespace

TEST_CASE("a CMAF file has its header, an index of segments, and fragments of one track each", "[cmaf]") {
    const TempDir dir;
    const TestTrack video = video_track(Codec::h264, 120);  // keyframes every 24: five segments
    write_track(dir / "v.mp4", video, kOneGroup);
    const ByteVector bytes = read_all(dir / "v.mp4");
    const std::vector<Box> all = boxes(bytes, 0, bytes.size());
    REQUIRE(all.size() == 4 + 2 * 5);
    CHECK(all[0].type == "ftyp");
    CHECK(all[1].type == "moov");
    CHECK(all[2].type == "free");
    CHECK(all[3].type == "sidx");
    CHECK(std::string(bytes.begin(), bytes.begin() + static_cast<std::ptrdiff_t>(all[0].size)).find("cmfc") !=
          std::string::npos);
    // The length stands in the header (mehd): 120 frames.
    const auto movie = boxes(bytes, all[1].at + 8, all[1].at + all[1].size);
    const Box mvex = one(movie, "mvex"), mvhd = one(movie, "mvhd");
    const Box mehd = one(boxes(bytes, mvex.at + 8, mvex.at + mvex.size), "mehd");
    const double scale = static_cast<double>(number(bytes, mvhd.at + 28, 4));
    CHECK(static_cast<double>(number(bytes, mehd.at + 12, 8)) / scale == Approx(120 * 1001 / 24000.0));
    // 8.16.3: each entry is a fragment, in their order; together they fill the file.
    const std::size_t sidx = all[3].at;
    CHECK(bytes[sidx + 8] == 1);
    CHECK(number(bytes, sidx + 12, 4) == 1);      // the track
    CHECK(number(bytes, sidx + 16, 4) == 24000);  // its timescale
    CHECK(number(bytes, sidx + 20, 8) == 0);
    CHECK(number(bytes, sidx + 28, 8) == 0);
    REQUIRE(number(bytes, sidx + 38, 2) == 5);
    std::size_t at = sidx + all[3].size;
    for (std::size_t i = 0; i < 5; ++i) {
        const std::size_t entry = sidx + 40 + 12 * i;
        const Box &moof = all[4 + 2 * i], &mdat = all[5 + 2 * i];
        CHECK(moof.type == "moof");
        CHECK(mdat.type == "mdat");
        CHECK(moof.at == at);
        CHECK(number(bytes, entry, 4) == moof.size + mdat.size);  // reference_type 0: media
        CHECK(number(bytes, entry + 4, 4) == 24 * 1001);
        CHECK(number(bytes, entry + 8, 4) >> 28 == 9);  // begins with a random access point of type 1
        at += moof.size + mdat.size;
        const auto fragment = boxes(bytes, moof.at + 8, moof.at + moof.size);
        REQUIRE(fragment.size() == 2);  // mfhd, and one traf
        CHECK(number(bytes, one(fragment, "mfhd").at + 12, 4) == i + 1);
        const Box traf = one(fragment, "traf");
        const auto inside = boxes(bytes, traf.at + 8, traf.at + traf.size);
        CHECK(number(bytes, one(inside, "tfhd").at + 9, 3) == 0x020000);  // default-base-is-moof
        CHECK(number(bytes, one(inside, "tfdt").at + 12, 8) == i * 24 * 1001);
        const Box trun = one(inside, "trun");
        CHECK(number(bytes, trun.at + 12, 4) == 24);
        CHECK(number(bytes, trun.at + 16, 4) == moof.size + 8);
        CHECK(number(bytes, trun.at + 28, 4) >> 16 == 0x0200);  // the first sample depends on no other
    }
    CHECK(at == bytes.size());
    // And it is the film that was written.
    const auto back = read_media(dir / "v.mp4");
    REQUIRE(back.size() == 1);
    CHECK(payload_of(back[0]) == payload_of(video));
    for (std::size_t i = 0; i < video.packets.size(); ++i) CHECK(back[0].packets[i].pts == video.packets[i].pts);
}

TEST_CASE("segments of every track begin at the same times, audio to within a frame", "[cmaf]") {
    const TempDir dir;
    const TestTrack video = video_track(Codec::h264, 240), audio = audio_track(Codec::aac, 10);
    write_track(dir / "v.mp4", video, 2 * kOneGroup);
    write_track(dir / "a.mp4", audio, 2 * kOneGroup);
    const auto v = read(dir / "v.mp4"), a = read(dir / "a.mp4");
    REQUIRE(v.segments.size() == 5);
    REQUIRE(a.segments.size() == 5);
    const Time frame = base::from_ticks(1024, 48000);
    for (std::size_t i = 0; i < 5; ++i) {
        CHECK(v.segments[i].from == static_cast<std::int64_t>(i) * 2 * kOneGroup);
        CHECK(a.segments[i].from >= v.segments[i].from - 1ms);
        CHECK(a.segments[i].from < v.segments[i].from + frame);
        CHECK(v.segments[i].keyframe.offset == v.segments[i].range.offset);
        CHECK(v.segments[i].keyframe.length < v.segments[i].range.length);
    }
    CHECK(a.track.language.substr(0, 2) == "fr");
    CHECK(base::to_seconds(v.duration()) == Approx(240 * 1001 / 24000.0));
    // The encoder's delay is in front of time 0.
    const auto back = read_media(dir / "a.mp4");
    CHECK(back[0].packets.front().pts == audio.packets.front().pts);
    CHECK(payload_of(back[0]) == payload_of(audio));
}

TEST_CASE("every codec that a ladder takes comes back from CMAF", "[cmaf]") {
    for (const Codec codec : {Codec::h265, Codec::vp9}) {
        const TempDir dir;
        const TestTrack video = video_track(codec, 72);
        INFO(media::short_name(codec));
        write_track(dir / "v.mp4", video, kOneGroup);
        CHECK(read(dir / "v.mp4").segments.size() == 3);
        CHECK(payload_of(read_media(dir / "v.mp4").at(0)) == payload_of(video));
    }
    const TempDir dir;
    const TestTrack opus = audio_track(Codec::opus, 4);
    write_track(dir / "a.mp4", opus, 1s);
    CHECK(read(dir / "a.mp4").segments.size() == 4);
}

TEST_CASE("subtitles in CMAF fill their segment, each sample with the cues that are shown", "[cmaf]") {
    Track track;
    track.id = 4;
    track.kind = TrackKind::subtitle;
    track.codec = Codec::text;
    track.language = "eng";
    const auto cue = [](const std::string& said, Time from, Time to) {
        Packet packet;
        packet.track = 4;
        packet.pts = packet.dts = from;
        packet.duration = to - from;
        packet.data = Bytes(ByteVector(said.begin(), said.end()));
        return packet;
    };
    const auto made = container::cmaf_text(
        track, {cue("Tea & <toast>", 7s, 9s), cue("Later.", 8500ms, 20s), cue("Not here.", 12s, 13s)}, 8s, 12s);
    REQUIRE(made);
    // The header: the track's handler is that of text, its entry that of WebVTT with its configuration.
    const std::string header(made->header.begin(), made->header.end());
    CHECK(header.find("cmfc") != std::string::npos);
    CHECK(header.find(std::string("hdlr\0\0\0\0\0\0\0\0text", 16)) != std::string::npos);
    CHECK(header.find(std::string("wvtt\0\0\0\0\0\0\0\1\0\0\0\x0EvttCWEBVTT", 26)) != std::string::npos);
    CHECK(header.find("nmhd") != std::string::npos);
    const ByteSpan bytes = made->segment;
    const auto outer = boxes(bytes, 0, bytes.size());
    REQUIRE(outer.size() == 2);
    const auto inner = boxes(bytes, outer[0].at + 8, outer[0].at + outer[0].size);
    const Box& traf = one(inner, "traf");
    const auto parts = boxes(bytes, traf.at + 8, traf.at + traf.size);
    CHECK(number(bytes, one(parts, "tfdt").at + 12, 8) == 8 * 90'000);
    // Three samples: 8 to 8.5 s, to 9 s, to 12 s.
    const Box& run = one(parts, "trun");
    REQUIRE(number(bytes, run.at + 12, 4) == 3);
    const std::uint64_t durations[] = {45'000, 45'000, 270'000};
    std::size_t at = outer[1].at + 8;
    std::vector<std::vector<std::string>> samples;
    std::vector<std::uint64_t> first_ids;
    for (std::size_t i = 0; i < 3; ++i) {
        const std::size_t entry = run.at + 20 + i * 16;
        CHECK(number(bytes, entry, 4) == durations[i]);
        const auto size = static_cast<std::size_t>(number(bytes, entry + 4, 4));
        std::vector<std::string> texts;
        for (const Box& box : boxes(bytes, at, at + size)) {
            CHECK(box.type == "vttc");
            const auto fields = boxes(bytes, box.at + 8, box.at + box.size);
            const Box& text = one(fields, "payl");
            texts.emplace_back(bytes.begin() + static_cast<std::ptrdiff_t>(text.at + 8),
                               bytes.begin() + static_cast<std::ptrdiff_t>(text.at + text.size));
            if (texts.back() == "Later.") first_ids.push_back(number(bytes, one(fields, "vsid").at + 8, 4));
        }
        samples.push_back(texts);
        at += size;
    }
    CHECK(at == bytes.size());
    const std::vector<std::vector<std::string>> expected = {
        {"Tea &amp; &lt;toast&gt;"}, {"Tea &amp; &lt;toast&gt;", "Later."}, {"Later."}};
    CHECK(samples == expected);
    REQUIRE(first_ids.size() == 2);
    CHECK(first_ids[0] == first_ids[1]);
    // Where nothing is shown there is one sample that says so.
    const auto empty = container::cmaf_text(track, {}, 12s, 14s);
    REQUIRE(empty);
    const std::string tail(empty->segment.end() - 16, empty->segment.end());
    CHECK(tail == std::string("\0\0\0\x10mdat\0\0\0\x08vtte", 16));
}

TEST_CASE("the peak is that of segments in a row that last about as long as the longest", "[cmaf]") {
    container::CmafFile file;
    std::uint64_t at = 0;
    Time from{};
    for (const auto& [bytes, length] :
         std::vector<std::pair<std::uint64_t, Time>>{{100'000, 2s}, {300'000, 2s}, {200'000, 2s}, {120'000, 500ms}}) {
        file.segments.push_back({{at, bytes}, from, length, {at, bytes / 10}});
        at += bytes;
        from += length;
    }
    // By RFC 8216, 4.1: from half to one and a half of the target; the last one alone is too short, with the third it
    // has 320 000 bytes in 2.5 s.
    CHECK(file.peak_bps() == 1'200'000);
    CHECK(file.average_bps() == static_cast<std::int64_t>(720'000 * 8 / 6.5));
}

TEST_CASE("damaged CMAF files are refused, and nothing else happens", "[cmaf]") {
    const TempDir dir;
    write_track(dir / "v.mp4", video_track(Codec::h264, 48), kOneGroup);
    const ByteVector whole = read_all(dir / "v.mp4");
    const auto parse = [](ByteVector bytes) {
        base::MemorySource source(std::move(bytes));
        return container::read_cmaf_file(source, "v.mp4");
    };
    REQUIRE(parse(whole));
    const auto cut = parse(ByteVector(whole.begin(), whole.end() - 100));
    REQUIRE_FALSE(cut);
    CHECK(cut.error().kind == ErrorKind::input);
    std::size_t read = 0;
    for (std::size_t i = 0; i < std::min<std::size_t>(whole.size(), 4200); ++i) {
        for (const int bit : {0, 7}) {
            ByteVector flipped = whole;
            flipped[i] ^= static_cast<std::uint8_t>(1 << bit);
            const auto file = parse(std::move(flipped));
            if (!file) {
                CHECK_FALSE(file.error().what.empty());
                continue;
            }
            ++read;
            for (const auto& segment : file->segments) CHECK(segment.range.end() <= whole.size());
        }
    }
    CHECK(read > 0);  // names and free space make no difference
    // A plain MP4 has no index of segments.
    const TempDir plain;
    write_media(plain / "p.mp4", "mp4", {video_track(Codec::h264, 24)});
    const auto refused = parse(read_all(plain / "p.mp4"));
    REQUIRE_FALSE(refused);
    CHECK(refused.error().what.find("no index of segments") != std::string::npos);
}
