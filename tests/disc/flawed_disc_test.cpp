// Damaged and protected discs of both kinds.
#include <catch2/catch.hpp>

#include <algorithm>
#include <cmath>

#include "codec/mpeg2_decoder.hpp"
#include "source/input.hpp"
#include "sample/test_card.hpp"
#include "support/discs.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
using standin::DiscDescription;
using Flaw = DiscDescription::Flaw;

namespace {

DiscDescription one_part(bool dvd, double seconds) {
    DiscDescription disc;
    disc.kind = dvd ? DiscDescription::Kind::dvd : DiscDescription::Kind::blu_ray;
    disc.definition = DiscDescription::Definition::standard;
    disc.video_bps = 3'000'000;
    disc.audio = {{Codec::ac3, 2, 16, "en", Purpose::main, 0}};
    DiscDescription::Part part;
    part.name = "film";
    part.length = base::from_seconds(seconds);
    disc.parts.push_back(part);
    return disc;
}

std::unique_ptr<source::Input> open(const base::Path& path) {
    auto input = source::open_input(path);
    if (!input) FAIL(input.error().what << ": " << input.error().where);
    return std::move(*input);
}

struct Contents {
    std::vector<Packet> video, audio;
    std::vector<Problem> problems;
    Time duration{};
    Track track;
};
Contents read(const source::Input& input) {
    auto source = input.open(1);
    if (!source) FAIL(source.error().what);
    Contents contents;
    contents.duration = (*source)->duration();
    contents.track = (*source)->tracks().front();
    while (true) {
        auto packet = (*source)->read();
        if (!packet) FAIL(packet.error().what);
        if (!*packet) break;
        ((*packet)->track == contents.track.id ? contents.video : contents.audio).push_back(std::move(**packet));
    }
    contents.problems = (*source)->problems();
    return contents;
}

}  // namespace

TEST_CASE("zeros or rubbish in the middle: lost is told, what follows is in its place", "[flawed]") {
    const bool dvd = GENERATE(true, false);
    const auto kind = GENERATE(Flaw::Kind::zeros, Flaw::Kind::rubbish);
    auto disc = one_part(dvd, 6);
    disc.parts[0].flaws = {{kind, base::from_seconds(2.6), base::from_seconds(3.1)}};
    const auto input =
        open(made_disc(std::string(dvd ? "dvd" : "bd") + (kind == Flaw::Kind::zeros ? "-zeros" : "-rubbish"), disc));
    const Contents contents = read(*input);
    const auto lost = std::find_if(contents.problems.begin(), contents.problems.end(),
                                   [](const Problem& p) { return p.what == "video is missing"; });
    REQUIRE(lost != contents.problems.end());
    CHECK(base::to_seconds(lost->from) > 1.9);
    CHECK(base::to_seconds(lost->to) < 4.1);
    CHECK(base::to_seconds(lost->to - lost->from) > 0.4);
    // Every picture that came carries the number that belongs to its time: within a quarter of a frame.
    const auto decoder = codec::make_mpeg2_decoder(contents.track);
    std::vector<Picture> pictures;
    for (const Packet& packet : contents.video) REQUIRE(decoder->decode(packet, pictures));
    REQUIRE(decoder->flush(pictures));
    CHECK(pictures.size() == contents.video.size());
    int read_back = 0;
    for (const Picture& picture : pictures) {
        const auto code = sample::read_card_code(picture);
        if (!code) continue;
        ++read_back;
        const double exact = static_cast<double>(code->frame) * 1001 / 24000;
        CHECK(std::abs(base::to_seconds(picture.pts) - exact) < 0.25 * 1001 / 24000 + 0.0001);
        CHECK((picture.pts < lost->from || picture.pts >= lost->to));
    }
    CHECK(read_back >= static_cast<int>(pictures.size()) - 1);
    // AudioFrames frames stand on their own grid still.
    for (const Packet& packet : contents.audio) {
        const double frames = (base::to_seconds(packet.pts) + 256.0 / 48000) * 48000 / 1536;
        CHECK(std::abs(frames - std::round(frames)) < 0.01);
    }
    CHECK(base::to_seconds(contents.video.back().pts) > 5.9);
}

TEST_CASE("protected material is recognised anywhere in the title, before any work", "[flawed]") {
    struct Case {
        bool dvd;
        Flaw::Kind kind;
        const char* word;
    };
    const auto c =
        GENERATE(Case{true, Flaw::Kind::scrambled, "scrambled"}, Case{false, Flaw::Kind::scrambled, "scrambled"},
                 Case{false, Flaw::Kind::encrypted, "encrypted"});
    auto disc = one_part(c.dvd, 6);
    disc.parts[0].flaws = {{c.kind, base::from_seconds(4), base::from_seconds(5)}};
    const auto input = open(made_disc(std::string("protected-") + (c.dvd ? "dvd-" : "bd-") + c.word, disc));
    const auto status = input->check_protection(1);
    REQUIRE_FALSE(status);
    CHECK(status.error().kind == ErrorKind::input);
    CHECK(status.error().what.find("protected") != std::string::npos);
    CHECK(status.error().what.find(c.word) != std::string::npos);
    CHECK_FALSE(input->open(1));
}

TEST_CASE("a program table that forbids copies is final", "[flawed]") {
    const auto disc = one_part(false, 2);
    const base::Path original = made_disc("bd-free", disc);
    CHECK(open(original)->check_protection(1));
    const TempDir dir;
    std::filesystem::copy(original, dir / "bd", std::filesystem::copy_options::recursive);
    const base::Path clip = dir / "bd/BDMV/STREAM/00001.m2ts";
    ByteVector bytes = read_all(clip);
    // The copy control information of the DTCP descriptor, and the section's check sum after it.
    for (std::size_t at = 0; at + 192 <= bytes.size(); at += 192) {
        if ((bytes[at + 5] & 0x1F) != 1 || bytes[at + 6] != 0) continue;  // PID 0x100
        const std::size_t section = at + 9;
        const std::size_t length = 3u + ((bytes[section + 1] & 15u) << 8 | bytes[section + 2]);
        for (std::size_t i = section; i < section + length; ++i) {
            if (bytes[i] == 0x88 && bytes[i + 1] == 4 && bytes[i + 2] == 0x0F) bytes[i + 4] |= 3;
        }
        std::uint32_t crc = 0xFFFFFFFF;
        for (std::size_t i = section; i < section + length - 4; ++i) {
            for (int bit = 7; bit >= 0; --bit) {
                const bool one = ((crc >> 31) ^ (bytes[i] >> bit & 1u)) != 0;
                crc = crc << 1 ^ (one ? 0x04C11DB7u : 0u);
            }
        }
        for (std::size_t i = 0; i < 4; ++i)
            bytes[section + length - 4 + i] = static_cast<std::uint8_t>(crc >> (24 - 8 * i));
    }
    write_all(clip, bytes);
    const auto status = open(dir / "bd")->check_protection(1);
    REQUIRE_FALSE(status);
    CHECK(status.error().what.find("allows no copies") != std::string::npos);
}

TEST_CASE("missing and cut files: what is there is read, and said", "[flawed]") {
    auto disc = one_part(true, 12);
    disc.file_limit = 2 << 20;
    disc.flaws = {{"VIDEO_TS/VTS_01_2.VOB", DiscDescription::FileFlaw::Kind::missing}};
    const auto dvd = open(made_disc("dvd-missing-vob", disc));
    REQUIRE_FALSE(dvd->notes().empty());
    CHECK(dvd->notes()[0].find("VTS_01_2.VOB is missing") != std::string::npos);
    Contents contents = read(*dvd);
    CHECK(base::to_seconds(contents.video.back().pts) > 11.8);
    CHECK(std::any_of(contents.problems.begin(), contents.problems.end(),
                      [](const Problem& p) { return base::to_seconds(p.to - p.from) > 3; }));

    disc = one_part(false, 4);
    disc.parts[0].chapters = 2;
    disc.parts[0].clock_breaks = true;
    disc.flaws = {{"BDMV/STREAM/00001.m2ts", DiscDescription::FileFlaw::Kind::cut},
                  {"BDMV/PLAYLIST/00000.mpls", DiscDescription::FileFlaw::Kind::rubbish},
                  {"BDMV/CLIPINF/00002.clpi", DiscDescription::FileFlaw::Kind::missing}};
    const auto blu_ray = open(made_disc("bd-cut", disc));
    CHECK(blu_ray->notes().size() == 2);  // both copies under BACKUP were read
    CHECK_FALSE(blu_ray->titles()[0].problems.empty());
    contents = read(*blu_ray);
    CHECK(base::to_seconds(contents.video.back().pts) > 3.8);
    const auto cut = std::find_if(contents.problems.begin(), contents.problems.end(), [](const Problem& p) {
        return p.what.find("ends before the title does") != std::string::npos;
    });
    REQUIRE(cut != contents.problems.end());
    CHECK(base::to_seconds(cut->to - cut->from) > 0.5);
}

TEST_CASE("a Blu-ray folder with clips alone still gives its titles", "[flawed]") {
    auto disc = one_part(false, 3);
    const base::Path original = made_disc("bd-free-3", disc);
    const TempDir dir;
    const bool with_info = GENERATE(true, false);
    std::filesystem::copy(original, dir / "bd", std::filesystem::copy_options::recursive);
    std::filesystem::remove_all(dir / "bd/BDMV/PLAYLIST");
    std::filesystem::remove_all(dir / "bd/BDMV/BACKUP");
    if (!with_info) std::filesystem::remove_all(dir / "bd/BDMV/CLIPINF");
    const auto input = open(dir / "bd");
    REQUIRE(input->titles().size() == 1);
    CHECK(std::abs(base::to_seconds(input->titles()[0].duration) - 3) < 0.1);
    CHECK(input->titles()[0].tracks.size() == 2);
    const Contents contents = read(*input);
    CHECK(contents.video.size() >= 71);
    CHECK(contents.video.size() <= 72);
}

TEST_CASE("tables that lie about lengths are told, and the data is believed", "[flawed]") {
    const TempDir dir;
    const bool dvd = GENERATE(true, false);
    const auto disc = one_part(dvd, 3);
    std::filesystem::copy(made_disc(dvd ? "dvd-free-3" : "bd-free-3", disc), dir / "rip",
                          std::filesystem::copy_options::recursive);
    if (dvd) {
        for (const char* name : {"VIDEO_TS/VTS_01_0.IFO", "VIDEO_TS/VTS_01_0.BUP"}) {
            ByteVector ifo = read_all(dir / "rip" / name);
            const std::size_t chains = (std::size_t{ifo[0xCE]} << 8 | ifo[0xCF]) * 2048;
            const std::size_t chain = chains + (std::size_t{ifo[chains + 14]} << 8 | ifo[chains + 15]);
            const std::size_t cell = chain + (std::size_t{ifo[chain + 0xE8]} << 8 | ifo[chain + 0xE9]);
            ifo[cell + 4] = 0x02;  // two hours more
            write_all(dir / "rip" / name, ifo);
        }
    } else {
        for (const char* name : {"BDMV/PLAYLIST/00000.mpls", "BDMV/BACKUP/PLAYLIST/00000.mpls"}) {
            ByteVector list = read_all(dir / "rip" / name);
            list[58 + 4 + 6 + 2 + 12 + 4] += 0x10;  // where the first item ends
            write_all(dir / "rip" / name, list);
        }
    }
    const auto input = open(dir / "rip");
    const source::Title& title = input->titles()[0];
    CHECK(std::abs(base::to_seconds(title.duration) - 3) < 0.05);
    REQUIRE(title.differences.size() == 1);
    INFO(title.differences[0]);
    CHECK(title.differences[0].find("0:03") != std::string::npos);
    CHECK(read(*input).problems.empty());
}
