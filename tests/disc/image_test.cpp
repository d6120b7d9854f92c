// Disc images: those the system's own tools make, and our own, read and checked by them.
#include <catch2/catch.hpp>

#include <cstdlib>
#include <fstream>

#include "base/byte_source.hpp"
#include "disc/disc_files.hpp"
#include "disc/udf_writer.hpp"
#include "source/input.hpp"
#include "support/discs.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;

namespace {

int shell(const std::string& command) {
    return std::system((command + " >/dev/null 2>&1").c_str());
}
std::string quoted(const base::Path& path) {
    return "'" + path.string() + "'";
}

void check_same_files(const disc::DiscFiles& files, const base::Path& folder) {
    for (const auto& entry : std::filesystem::recursive_directory_iterator(folder)) {
        if (!entry.is_regular_file()) continue;
        const std::string name = std::filesystem::relative(entry.path(), folder).string();
        INFO(name);
        auto file = files.open(name);
        REQUIRE(file);
        const ByteVector expected = read_all(entry.path());
        REQUIRE((*file)->size() == expected.size());
        const auto bytes = base::read_exactly(**file, 0, expected.size());
        REQUIRE(bytes);
        CHECK((*bytes == expected));
    }
}

}  // namespace

TEST_CASE("images made by the system's tool: ISO 9660, and with UDF beside it", "[image]") {
    const TempDir dir;
    const bool udf = GENERATE(true, false);
    const base::Path image = dir / "disc.iso";
    REQUIRE(shell("genisoimage -V CEDAR_LANDING " + std::string(udf ? "-dvd-video -udf" : "-iso-level 3") + " -o " +
                  quoted(image) + " " + quoted(sample_disc())) == 0);
    const auto files = disc::open_image(image);
    REQUIRE(files);
    CHECK((*files)->label() == "CEDAR_LANDING");
    check_same_files(**files, sample_disc());
    CHECK_FALSE((*files)->open("VIDEO_TS/NOTHING.IFO"));
    CHECK_FALSE((*files)->open("VIDEO_TS"));
    CHECK_FALSE((*files)->list("VIDEO_TS/VIDEO_TS.IFO"));

    const auto input = source::open_input(image);
    REQUIRE(input);
    CHECK((*input)->container() == "dvd-video");
    CHECK((*input)->titles().size() == 2);
    auto source = (*input)->open(1);
    REQUIRE(source);
    int pictures = 0;
    while (true) {
        auto packet = (*source)->read();
        REQUIRE(packet);
        if (!*packet) break;
        pictures += (*packet)->track == 0xE0 ? 1 : 0;
    }
    CHECK(pictures == kSampleFrames);
}

TEST_CASE("our UDF images: read back, and told right by the system's tool", "[image]") {
    const TempDir dir;
    const bool blu_ray = GENERATE(true, false);
    const base::Path folder = dir / "folder";
    std::filesystem::create_directories(folder / "BDMV/STREAM");
    std::filesystem::create_directories(folder / "empty");
    ByteVector large(3'000'001);
    for (std::size_t i = 0; i < large.size(); ++i) large[i] = static_cast<std::uint8_t>(i * 7 >> 3);
    write_all(folder / "BDMV/STREAM/00001.m2ts", large);
    for (int i = 0; i < 120; ++i)
        write_all(folder / "BDMV" / ("file-" + std::to_string(i) + ".bin"),
                  std::string(static_cast<std::size_t>(i * 37), 'x'));
    const base::Path image = dir / "disc.iso";
    REQUIRE(disc::write_udf_image(folder, image, "Lantern Night",
                                  blu_ray ? disc::UdfRevision::blu_ray : disc::UdfRevision::dvd_video));
    const auto files = disc::open_image(image);
    REQUIRE(files);
    CHECK((*files)->label() == "Lantern Night");
    check_same_files(**files, folder);
    const auto root = (*files)->list("");
    REQUIRE(root);
    CHECK(root->size() == 2);
    REQUIRE(shell("udfinfo " + quoted(image) + " > " + quoted(dir / "info")) == 0);
    std::system(("udfinfo " + quoted(image) + " > " + quoted(dir / "info") + " 2>" + quoted(dir / "warnings")).c_str());
    const ByteVector info = read_all(dir / "info");
    const std::string text(info.begin(), info.end());
    CHECK(text.find("label=Lantern Night") != std::string::npos);
    CHECK(text.find(blu_ray ? "udfrev=2.50" : "udfrev=1.02") != std::string::npos);
    CHECK(text.find("numfiles=121") != std::string::npos);
    CHECK(text.find("blocksize=2048") != std::string::npos);
    // It exists already: not overwritten.
    CHECK_FALSE(disc::write_udf_image(folder, image, "x", disc::UdfRevision::dvd_video));
}

TEST_CASE("an empty UDF volume by the system's tool", "[image]") {
    const TempDir dir;
    const base::Path image = dir / "disc.iso";
    const std::string revision = GENERATE("1.02", "2.01");
    { std::ofstream(image).close(); }
    std::filesystem::resize_file(image, 8 << 20);
    REQUIRE(shell("mkudffs -b 2048 -m hd -r " + revision + " -l Shelf " + quoted(image)) == 0);
    const auto files = disc::open_image(image);
    REQUIRE(files);
    CHECK((*files)->label() == "Shelf");
    CHECK((*files)->list(""));
}

TEST_CASE("damaged images are errors with a place, never a crash", "[image]") {
    const TempDir dir;
    const base::Path image = dir / "disc.iso";
    REQUIRE(disc::write_udf_image(sample_disc(), image, "Sample", disc::UdfRevision::blu_ray));
    const ByteVector good = read_all(image);
    std::uint32_t state = 11;
    for (int round = 0; round < 300; ++round) {
        ByteVector bad = good;
        bad.resize(std::min<std::size_t>(bad.size(), 900 * 2048));
        for (int i = 0; i < 8; ++i) {
            state = state * 1664525u + 1013904223u;
            bad[32 * 2048 + (state >> 8) % (300 * 2048)] = static_cast<std::uint8_t>(state >> 24);
        }
        auto files = disc::image_files(std::make_shared<base::MemorySource>(std::move(bad)));
        if (!files) {
            CHECK_FALSE(files.error().where.empty());
            continue;
        }
        if (const auto entries = (*files)->list("VIDEO_TS")) {
            for (const auto& entry : *entries) {
                auto file = (*files)->open("VIDEO_TS/" + entry.name);
                if (!file) continue;
                ByteVector some(4096);
                (void)(*file)->read_at(0, some);
            }
        }
    }
    CHECK_FALSE(disc::image_files(std::make_shared<base::MemorySource>(ByteVector(100'000))));
    CHECK_FALSE(disc::image_files(std::make_shared<base::MemorySource>(ByteVector(10))));
}

TEST_CASE("a Blu-ray image with a metadata partition is a disc like its folder", "[image]") {
    const TempDir dir;
    const base::Path image = dir / "disc.iso";
    REQUIRE(disc::write_udf_image(rich_blu_ray(), image, "Boathouse", disc::UdfRevision::blu_ray));
    const auto input = source::open_input(image);
    REQUIRE(input);
    CHECK((*input)->container() == "blu-ray");
    CHECK((*input)->name_hint() == "Boathouse");
    CHECK((*input)->titles().size() == 6);
    CHECK((*input)->open(1));
}
