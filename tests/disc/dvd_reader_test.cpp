#include "disc/dvd_reader.hpp"

#include <catch2/catch.hpp>

#include <random>

#include "base/byte_source.hpp"
#include "disc/dvd_format.hpp"
#include "disc/dvd_tables.hpp"
#include "sample/test_card.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
using disc::DvdDisc;

namespace {

DvdDisc open_ok(const base::Path& folder) {
    auto disc = DvdDisc::open(folder);
    if (!disc) FAIL(disc.error().what << " at " << disc.error().where);
    return std::move(*disc);
}

struct Counted {
    int pictures = 0;
    std::int64_t samples = 0;
    std::vector<Packet> video;
    std::vector<Packet> audio;
    Status status;
};

Counted read_title(PacketSource& source) {
    Counted counted;
    while (true) {
        auto packet = source.read();
        if (!packet) {
            counted.status = fail(packet.error());
            return counted;
        }
        if (!*packet) return counted;
        if ((*packet)->track == 0xE0) {
            ++counted.pictures;
            counted.video.push_back(std::move(**packet));
        } else {
            counted.samples += static_cast<std::int64_t>((*packet)->data.size() / 4);
            counted.audio.push_back(std::move(**packet));
        }
    }
}

const base::Path kIfo = "VIDEO_TS/VTS_01_0.IFO", kBup = "VIDEO_TS/VTS_01_0.BUP", kVob = "VIDEO_TS/VTS_01_1.VOB";

}  // namespace

TEST_CASE("titles, tracks and chapters of the sample disc", "[dvdreader]") {
    const DvdDisc disc = open_ok(sample_disc());
    REQUIRE(disc.titles().size() == 2);
    CHECK(disc.notes().empty());
    CHECK(disc.label() == "Sample Film (2020)");
    const disc::DvdTitle& film = disc.titles()[0];
    CHECK(film.number == 1);
    CHECK(film.duration == base::frames_to_time(kSampleFrames, {24000, 1001}));
    CHECK(film.size_bytes == std::filesystem::file_size(sample_disc() / kVob));
    REQUIRE(film.chapters.size() == 5);
    CHECK(film.chapters[0].start == Time{});
    REQUIRE(film.tracks.size() == 2);
    const Track& video = film.tracks[0];
    CHECK(video.codec == Codec::mpeg2);
    CHECK(video.profile == "Main");
    CHECK(video.level == "Main");
    CHECK(video.scan == Scan::pulldown);
    CHECK(video.frame_rate == Ratio{24000, 1001});
    CHECK(video.display_aspect() == Ratio{16, 9});
    CHECK(video.colour == ColourDescription{6, 6, 6, false});
    const Track& audio = film.tracks[1];
    CHECK(audio.codec == Codec::lpcm);
    CHECK(audio.language == "en");
    CHECK(audio.channels == 2);
    CHECK(audio.bitrate_bps == 1'536'000);
    CHECK(disc.titles()[1].duration == base::frames_to_time(72, {24000, 1001}));
}

TEST_CASE("every picture and sample comes out, on one exact timeline", "[dvdreader]") {
    const DvdDisc disc = open_ok(sample_disc());
    auto source = disc.open_title(1);
    REQUIRE(source);
    const Counted all = read_title(**source);
    REQUIRE(all.status);
    CHECK(all.pictures == kSampleFrames);
    CHECK((*source)->problems().empty());
    Time expected{};
    for (std::size_t i = 0; i < all.video.size(); ++i) {
        CHECK(all.video[i].pts == expected);
        CHECK(all.video[i].key == (i % 12 == 0));
        expected += base::frames_to_time(i % 2 == 0 ? 3 : 2, {60000, 1001});
    }
    // The audio is the card's, sample by sample.
    sample::CardSettings settings;
    settings.seed = 2;
    const sample::TestCard card(settings);
    CHECK(all.samples >= kSampleFrames * 2002);
    std::int64_t at = 0;
    for (const Packet& packet : all.audio) {
        CHECK(packet.pts == base::from_ticks(at, 48000));
        const auto count = static_cast<std::int64_t>(packet.data.size() / 4);
        const auto right = card.audio(at, count);
        for (std::size_t i = 0; i < right.size() && at + static_cast<std::int64_t>(i / 2) < kSampleFrames * 2002; ++i) {
            const auto sample =
                static_cast<std::int16_t>(packet.data.view()[2 * i] << 8 | packet.data.view()[2 * i + 1]);
            if (sample != right[i])
                FAIL("sample " << at + static_cast<std::int64_t>(i / 2) << ": " << sample << " instead of "
                               << right[i]);
        }
        at += count;
    }
}

TEST_CASE("a skip lands at or before the time asked for, on a keyframe, with audio in step", "[dvdreader]") {
    const DvdDisc disc = open_ok(sample_disc());
    for (const double seconds : {0.0, 1.0, 5.5, 11.5}) {
        INFO(seconds);
        auto source = disc.open_title(1);
        REQUIRE(source);
        REQUIRE((*source)->seek(base::from_seconds(seconds)));
        const Counted rest = read_title(**source);
        REQUIRE(rest.status);
        REQUIRE_FALSE(rest.video.empty());
        CHECK(rest.video.front().key);
        const double landed = base::to_seconds(rest.video.front().pts);
        CHECK(landed <= seconds);
        CHECK(landed > seconds - 0.6);
        // What comes from there is what comes there when read from the start.
        CHECK(rest.pictures == kSampleFrames - static_cast<int>(landed * 24000 / 1001 + 0.5));
        CHECK(base::to_seconds(rest.audio.front().pts) < landed + 0.05);
        CHECK(base::to_seconds(rest.audio.front().pts) > landed - 0.6);
    }
}

TEST_CASE("rate over time from the navigation packs adds up to the title", "[dvdreader]") {
    const DvdDisc disc = open_ok(sample_disc());
    const auto rate = disc.rate(disc.titles()[0]);
    REQUIRE(rate);
    std::uint64_t bytes = 0;
    Time end{};
    for (const auto& piece : *rate) {
        CHECK(piece.from == end);
        end = piece.to;
        bytes += piece.bytes;
    }
    CHECK(bytes == disc.titles()[0].size_bytes);
    CHECK(std::abs(base::to_seconds(end) - 12.012) < 0.001);
}

TEST_CASE("times in BCD count frames of 1001/30000 s", "[dvdreader]") {
    using disc::dvd::decode_bcd_time;
    using disc::dvd::encode_bcd_time;
    // 01:32:05 and 12 frames at "30": (1*3600+32*60+5)*30+12 frames.
    CHECK(decode_bcd_time(0x013205D2) == base::frames_to_time(5525 * 30 + 12, {30000, 1001}));
    // The same at 25 (01 in the rate bits): exact seconds.
    CHECK(decode_bcd_time(0x01320552) == base::frames_to_time(5525 * 25 + 12, {25, 1}));
    for (const std::int64_t frames : {0, 29, 30, 1799, 215'999}) {
        CHECK(decode_bcd_time(encode_bcd_time(base::frames_to_time(frames, {30000, 1001}))) ==
              base::frames_to_time(frames, {30000, 1001}));
    }
}

TEST_CASE("a damaged IFO is replaced by its twin, and said", "[dvdreader]") {
    const TempDir dir;
    copy_disc(dir / "d");
    for (const char* damage : {"empty", "missing", "garbage"}) {
        INFO(damage);
        if (std::string(damage) == "missing") {
            std::filesystem::remove(dir / "d" / kIfo);
        } else {
            write_all(dir / "d" / kIfo, std::string(damage) == "empty" ? ByteVector{} : ByteVector(4096, 0x33));
        }
        const DvdDisc disc = open_ok(dir / "d");
        CHECK(disc.titles().size() == 2);
        REQUIRE_FALSE(disc.notes().empty());
        CHECK(disc.notes()[0].find("VTS_01_0.BUP") != std::string::npos);
        CHECK(disc.rate(disc.titles()[0]));
    }
}

TEST_CASE("without any tables titles are rebuilt from the streams", "[dvdreader]") {
    const TempDir dir;
    copy_disc(dir / "d");
    // One set's tables, then all of the disc's.
    write_all(dir / "d" / kIfo, ByteVector(100, 0));
    write_all(dir / "d" / kBup, ByteVector(100, 0));
    const bool all = GENERATE(false, true);
    if (all) {
        for (const auto& entry : std::filesystem::directory_iterator(dir / "d/VIDEO_TS")) {
            if (entry.path().extension() != ".VOB") std::filesystem::remove(entry.path());
        }
    }
    const DvdDisc disc = open_ok(dir / "d");
    REQUIRE(disc.titles().size() == 2);
    const auto& notes = disc.notes();
    CHECK(std::any_of(notes.begin(), notes.end(),
                      [](const std::string& n) { return n.find("rebuilt") != std::string::npos; }));
    const disc::DvdTitle& film = disc.titles()[0];
    CHECK(film.duration == base::frames_to_time(kSampleFrames, {24000, 1001}));
    CHECK(film.chapters.size() == 5);
    CHECK(film.tracks.front().display_aspect() == Ratio{16, 9});
    REQUIRE(film.tracks.size() == 2);
    CHECK(film.tracks[1].codec == Codec::lpcm);
    CHECK(film.tracks[1].channels == 2);
    auto source = disc.open_title(1);
    REQUIRE(source);
    const Counted counted = read_title(**source);
    REQUIRE(counted.status);
    CHECK(counted.pictures == kSampleFrames);
    CHECK((*source)->problems().empty());
    CHECK(disc.rate(film));
}

TEST_CASE("no tables and no streams: an error that names the file", "[dvdreader]") {
    const TempDir dir;
    copy_disc(dir / "d");
    for (const auto& entry : std::filesystem::directory_iterator(dir / "d/VIDEO_TS"))
        if (entry.path().filename().string().starts_with("VTS")) write_all(entry.path(), ByteVector(100, 0));
    const auto failed = DvdDisc::open(dir / "d");
    REQUIRE_FALSE(failed);
    CHECK(failed.error().kind == ErrorKind::input);
    CHECK(failed.error().where.find("VTS_01_0.IFO") != std::string::npos);
}

TEST_CASE("tables that point outside their file are errors with the offset", "[dvdreader]") {
    ByteVector good = read_all(sample_disc() / kIfo);
    for (const std::size_t field : {0xC8, 0xCC}) {
        ByteVector bad = good;
        bad[field] = 0x7F;
        const auto failed = disc::dvd::parse_title_set(bad, "VTS_01_0.IFO");
        REQUIRE_FALSE(failed);
        CHECK(failed.error().what.find("outside") != std::string::npos);
        CHECK(failed.error().where.find("byte ") != std::string::npos);
    }
    // The chain's cell table beyond the end of the file.
    ByteVector bad = good;
    const std::size_t chains = (std::size_t{bad[0xCE]} << 8 | bad[0xCF]) * 2048;
    bad[chains + 16 + 0xE8] = 0xFF;
    CHECK_FALSE(disc::dvd::parse_title_set(bad, "VTS_01_0.IFO"));
    // Maps that playing does without are noted.
    bad = good;
    bad[0xE4] = bad[0xD4] = 0x7F;
    const auto noted = disc::dvd::parse_title_set(bad, "VTS_01_0.IFO");
    REQUIRE(noted);
    CHECK(noted->notes.size() == 2);
    CHECK(noted->vobus.empty());
}

TEST_CASE("a title read from a source that fails at places loses only what lies there", "[dvdreader]") {
    // Reads of these sectors fail, as a scratched disc's do.
    class Scratched : public disc::DiscFiles {
      public:
        std::shared_ptr<disc::DiscFiles> files = disc::folder_files(sample_disc());
        std::uint64_t from = 0, to = 0;
        mutable int failures = 0;
        int heals_after = 1000000;  // failed reads until it can be read after all

        std::string path() const override { return files->path(); }
        std::string label() const override { return files->label(); }
        Result<std::vector<Entry>> list(const std::string& folder) const override { return files->list(folder); }
        Result<std::unique_ptr<base::ByteSource>> open(const std::string& name) const override {
            WAVECREST_TRY_ASSIGN(source, files->open(name));
            if (name.find("VTS_01_1.VOB") == std::string::npos) return source;
            return std::unique_ptr<base::ByteSource>(
                std::make_unique<base::RetryingSource>(std::make_unique<Surface>(std::move(source), *this), 2));
        }
        class Surface : public base::ByteSource {
          public:
            Surface(std::unique_ptr<base::ByteSource> source, const Scratched& owner)
                : source_(std::move(source)), owner_(owner) {}
            std::uint64_t size() const override { return source_->size(); }
            std::string name() const override { return source_->name(); }
            Result<std::size_t> read_at(std::uint64_t offset, std::span<std::uint8_t> buffer) override {
                if (offset < owner_.to && offset + buffer.size() > owner_.from &&
                    owner_.failures < owner_.heals_after) {
                    ++owner_.failures;
                    return fail(ErrorKind::input, "input/output error", name(), "clean the disc");
                }
                return source_->read_at(offset, buffer);
            }

          private:
            std::unique_ptr<base::ByteSource> source_;
            const Scratched& owner_;
        };
    };
    auto files = std::make_shared<Scratched>();
    const std::uint64_t half = std::filesystem::file_size(sample_disc() / kVob) / 2 / 2048 * 2048;
    files->from = half;
    files->to = half + 20 * 2048;
    SECTION("unreadable for good") {
        auto disc = DvdDisc::open(std::static_pointer_cast<disc::DiscFiles>(files));
        REQUIRE(disc);
        auto source = disc->open_title(1);
        REQUIRE(source);
        const Counted counted = read_title(**source);
        REQUIRE(counted.status);
        CHECK(counted.pictures < kSampleFrames);
        CHECK(counted.pictures > kSampleFrames - 40);
        const auto& problems = (*source)->problems();
        REQUIRE_FALSE(problems.empty());
        const auto lost = std::find_if(problems.begin(), problems.end(),
                                       [](const Problem& p) { return p.what == "video is missing"; });
        REQUIRE(lost != problems.end());
        CHECK(base::to_seconds(lost->to - lost->from) < 1.5);
        CHECK(std::abs(base::to_seconds(counted.video.back().pts) - (12.012 - 1001.0 / 24000)) < 0.011);
        CHECK(std::abs(base::to_seconds(counted.audio.back().pts + counted.audio.back().duration) - 12.012) < 0.005);
    }
    SECTION("readable at the second try") {
        files->heals_after = 1;
        auto disc = DvdDisc::open(std::static_pointer_cast<disc::DiscFiles>(files));
        REQUIRE(disc);
        auto source = disc->open_title(1);
        REQUIRE(source);
        const Counted counted = read_title(**source);
        REQUIRE(counted.status);
        CHECK(counted.pictures == kSampleFrames);
        CHECK((*source)->problems().empty());
    }
}

TEST_CASE("IFO files with random bytes changed never crash", "[dvdreader]") {
    const TempDir dir;
    copy_disc(dir / "d");
    std::filesystem::remove(dir / "d" / kBup);
    std::filesystem::remove(dir / "d/VIDEO_TS/VIDEO_TS.BUP");
    const ByteVector vts = read_all(dir / "d" / kIfo), vmg = read_all(dir / "d/VIDEO_TS/VIDEO_TS.IFO");
    std::mt19937 random(5);
    int refused = 0;
    for (int i = 0; i < 150; ++i) {
        ByteVector a = vts, b = vmg;
        for (int k = 0; k < 6; ++k) a[0xC0 + random() % (a.size() - 0xC0)] = static_cast<std::uint8_t>(random());
        if (i % 3 == 0) b[0x3C + random() % (b.size() - 0x3C)] = static_cast<std::uint8_t>(random());
        write_all(dir / "d" / kIfo, a);
        write_all(dir / "d/VIDEO_TS/VIDEO_TS.IFO", b);
        const auto opened = DvdDisc::open(dir / "d");
        if (!opened) {
            ++refused;
            continue;
        }
        for (const auto& title : opened->titles()) (void)opened->rate(title);
    }
    CHECK(refused < 150);
}

TEST_CASE("a VOB cut mid-pack gives what is there, and says what is not", "[dvdreader]") {
    const TempDir dir;
    copy_disc(dir / "d");
    const ByteVector vob = read_all(dir / "d" / kVob);
    write_all(dir / "d" / kVob,
              ByteVector(vob.begin(), vob.begin() + static_cast<std::ptrdiff_t>(vob.size() * 6 / 10 + 777)));
    const DvdDisc disc = open_ok(dir / "d");
    REQUIRE_FALSE(disc.titles()[0].problems.empty());
    CHECK(disc.notes()[0].find("truncated") != std::string::npos);
    auto source = disc.open_title(1);
    REQUIRE(source);
    const Counted counted = read_title(**source);
    REQUIRE(counted.status);
    CHECK(counted.pictures > kSampleFrames / 2);
    CHECK(counted.pictures < kSampleFrames);
    REQUIRE_FALSE((*source)->problems().empty());
    CHECK((*source)->problems().back().to == disc.titles()[0].duration);
}

TEST_CASE("sectors of rubbish in the middle are passed over, picture and audio stay together", "[dvdreader]") {
    const TempDir dir;
    copy_disc(dir / "d");
    ByteVector vob = read_all(dir / "d" / kVob);
    const std::size_t from = vob.size() / 2 / 2048 * 2048;
    for (std::size_t i = from; i < from + 300 * 2048; ++i) vob[i] = static_cast<std::uint8_t>(i * 37 >> 3);
    write_all(dir / "d" / kVob, vob);
    const DvdDisc disc = open_ok(dir / "d");
    auto source = disc.open_title(1);
    REQUIRE(source);
    const Counted counted = read_title(**source);
    REQUIRE(counted.status);
    // What was lost is told, with its times: from where pictures end to where they go on.
    const auto& problems = (*source)->problems();
    const auto lost =
        std::find_if(problems.begin(), problems.end(), [](const Problem& p) { return p.what == "video is missing"; });
    REQUIRE(lost != problems.end());
    bool ends_there = false, goes_on_there = false;
    for (const Packet& packet : counted.video) {
        ends_there |= packet.pts + packet.duration == lost->from;
        goes_on_there |= packet.pts == lost->to;
        CHECK_FALSE((packet.pts >= lost->from && packet.pts < lost->to));
    }
    CHECK(ends_there);
    CHECK(goes_on_there);
    // The last picture and the last audio are where they belong.
    CHECK(std::abs(base::to_seconds(counted.video.back().pts) - (12.012 - 1001.0 / 24000)) < 0.011);
    CHECK(std::abs(base::to_seconds(counted.audio.back().pts + counted.audio.back().duration) - 12.012) < 0.005);
}

TEST_CASE("scrambled packs anywhere end it before any work", "[dvdreader]") {
    const TempDir dir;
    copy_disc(dir / "d");
    ByteVector vob = read_all(dir / "d" / kVob);
    int marked = 0;
    // The second half only: the first packs look innocent.
    for (std::size_t at = vob.size() / 2 / 2048 * 2048; at < vob.size(); at += 2048) {
        if (vob[at + 14 + 3] == 0xE0) {
            vob[at + 14 + 6] |= 0x30;
            ++marked;
        }
    }
    REQUIRE(marked > 100);
    write_all(dir / "d" / kVob, vob);
    const DvdDisc disc = open_ok(dir / "d");
    const auto source = disc.open_title(1);
    REQUIRE_FALSE(source);
    CHECK(source.error().kind == ErrorKind::input);
    CHECK(source.error().what.find("protected") != std::string::npos);
    CHECK(disc.open_title(2));  // the extra is not
}

TEST_CASE("names of folders and files are found in any case", "[dvdreader]") {
    const TempDir dir;
    std::filesystem::create_directories(dir / "video_ts");
    for (const auto& entry : std::filesystem::directory_iterator(sample_disc() / "VIDEO_TS")) {
        std::string name = entry.path().filename().string();
        for (char& c : name) c = static_cast<char>(std::tolower(static_cast<unsigned char>(c)));
        std::filesystem::create_hard_link(entry.path(), dir / "video_ts" / name);
    }
    CHECK(DvdDisc::is_dvd(*disc::folder_files(dir.path())));
    CHECK(open_ok(dir.path()).titles().size() == 2);
    CHECK(open_ok(dir / "video_ts").titles().size() == 2);
    CHECK_FALSE(DvdDisc::is_dvd(*disc::folder_files("/nonexistent")));
    CHECK_FALSE(open_ok(dir.path()).title(3));
}
