// Files of folders and images, and the pieces they are made of.
#include "disc/disc_files.hpp"

#include <catch2/catch.hpp>

#include <cstring>

#include "base/atomic_file.hpp"
#include "base/byte_source.hpp"
#include "disc/dvd_title_source.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;

namespace {

// Counts reads, and fails the first few.
class Stubborn : public base::ByteSource {
  public:
    explicit Stubborn(int failures) : failures_(failures) {}
    std::uint64_t size() const override { return 100; }
    std::string name() const override { return "stubborn"; }
    Result<std::size_t> read_at(std::uint64_t, std::span<std::uint8_t> buffer) override {
        ++reads;
        if (reads <= failures_) return fail(ErrorKind::input, "input/output error", "stubborn, byte 0", "clean it");
        std::memset(buffer.data(), 7, buffer.size());
        return buffer.size();
    }
    static inline int reads = 0;

  private:
    int failures_;
};

}  // namespace

TEST_CASE("failed reads are tried again as often as asked", "[discfiles]") {
    ByteVector buffer(10);
    for (const auto& [failures, retries, succeeds] :
         {std::tuple{0, 0, true}, {1, 0, false}, {2, 2, true}, {3, 2, false}, {5, 10, true}}) {
        Stubborn::reads = 0;
        base::RetryingSource source(std::make_unique<Stubborn>(failures), retries);
        CHECK(source.read_at(0, buffer).has_value() == succeeds);
        CHECK(Stubborn::reads == std::min(failures, retries) + 1);
    }
}

TEST_CASE("a file of extents reads across them, holes as zeros", "[discfiles]") {
    ByteVector image(1000);
    for (std::size_t i = 0; i < image.size(); ++i) image[i] = static_cast<std::uint8_t>(i);
    disc::ExtentSource file(std::make_shared<base::MemorySource>(image),
                            {{900, 50}, {disc::Extent::kHole, 20}, {100, 30}}, "file");
    CHECK(file.size() == 100);
    ByteVector all(200, 0xEE);
    const auto got = file.read_at(0, all);
    REQUIRE(got);
    CHECK(*got == 100);
    CHECK(all[0] == static_cast<std::uint8_t>(900));
    CHECK(all[49] == static_cast<std::uint8_t>(949));
    CHECK(all[50] == 0);
    CHECK(all[69] == 0);
    CHECK(all[70] == 100);
    CHECK(all[99] == 129);
    CHECK(all[100] == 0xEE);
    ByteVector some(40);
    CHECK(*file.read_at(45, some) == 40);
    CHECK(some[4] == static_cast<std::uint8_t>(949));
    CHECK(some[5] == 0);
    CHECK(some[25] == 100);
    CHECK(*file.read_at(100, some) == 0);
    CHECK(*file.read_at(5000, some) == 0);
    // An extent that points beyond the image gives what is there.
    disc::ExtentSource beyond(std::make_shared<base::MemorySource>(image), {{990, 50}}, "file");
    CHECK(*beyond.read_at(0, some) == 10);
}

TEST_CASE("folders: names in any case, errors with a place", "[discfiles]") {
    const TempDir dir;
    std::filesystem::create_directories(dir / "Video_Ts");
    write_all(dir / "Video_Ts/Vts_01_0.Ifo", std::string("abc"));
    const auto files = disc::folder_files(dir.path());
    CHECK(disc::find_entry(*files, "", "VIDEO_TS").folder);
    CHECK(disc::find_entry(*files, "video_ts", "VTS_01_0.IFO").size == 3);
    CHECK(disc::find_entry(*files, "", "NOTHING").name.empty());
    const auto file = files->open("VIDEO_TS/VTS_01_0.IFO");
    REQUIRE(file);
    CHECK((*file)->size() == 3);
    const auto missing = files->open("VIDEO_TS/VTS_02_0.IFO");
    REQUIRE_FALSE(missing);
    CHECK(missing.error().where.find("VTS_02_0.IFO") != std::string::npos);
    CHECK_FALSE(files->list("VIDEO_TS/VTS_01_0.IFO"));
    CHECK_FALSE(disc::same_name("VIDEO_TS", "VIDEO_T"));
    // The structure's own folder takes its parent's name.
    std::filesystem::create_directories(dir / "Storm Night/BDMV");
    CHECK(disc::folder_files(dir / "Storm Night/BDMV")->label() == "Storm Night");
    CHECK(disc::folder_files(dir / "Storm Night/")->label() == "Storm Night");
}

TEST_CASE("VOB files are one run, a missing one fails where it lies", "[discfiles]") {
    disc::VobRun run;
    CHECK(run.empty());
    CHECK(run.size() == 0);
    run.add(std::make_unique<base::MemorySource>(ByteVector(100, 1)));
    run.add_missing("VTS_01_2.VOB", 50);
    run.add(std::make_unique<base::MemorySource>(ByteVector(100, 3)));
    CHECK(run.size() == 250);
    ByteVector some(20);
    REQUIRE(run.read_at(80, some));
    CHECK(some == ByteVector(20, 1));
    REQUIRE(run.read_at(150, some));
    CHECK(some == ByteVector(20, 3));
    const auto failed = run.read_at(90, some);
    REQUIRE_FALSE(failed);
    CHECK(failed.error().where.find("VTS_01_2.VOB") != std::string::npos);
    CHECK(*run.read_at(245, some) == 5);
}

TEST_CASE("folders that appear when they are whole", "[discfiles]") {
    const TempDir dir;
    {
        auto folder = base::AtomicFolder::create(dir / "rip/");
        REQUIRE(folder);
        write_all(folder->path() / "file", std::string("x"));
        CHECK_FALSE(std::filesystem::exists(dir / "rip"));
        REQUIRE(folder->commit());
        CHECK(dir.files() == std::vector<std::string>{"rip/file"});
    }
    CHECK_FALSE(base::AtomicFolder::create(dir / "rip"));
    {
        auto folder = base::AtomicFolder::create(dir / "other");
        REQUIRE(folder);
        write_all(folder->path() / "file", std::string("x"));
        base::AtomicFolder moved = std::move(*folder);
    }
    CHECK(dir.files() == std::vector<std::string>{"rip/file"});
}

TEST_CASE("a navigation pack built by hand", "[discfiles]") {
    ByteVector pack(2048);
    const auto put = [&](std::size_t at, std::uint64_t value, int count) {
        for (int i = 0; i < count; ++i)
            pack[at + static_cast<std::size_t>(i)] = static_cast<std::uint8_t>(value >> (8 * (count - 1 - i)));
    };
    put(0, 0x1BA, 4);
    put(38, 0x1BF, 4);
    put(42, 980, 2);
    put(44, 0, 1);
    put(45 + 0x0C, 90'000, 4);
    put(45 + 0x10, 135'045, 4);
    put(45 + 0x18, 0x000102C5, 4);  // 1 min 2 s 5 frames at 30
    put(1024, 0x1BF, 4);
    put(1028, 1018, 2);
    put(1030, 1, 1);
    put(1031 + 0x08, 211, 4);
    put(1031 + 0x18, 9, 2);
    put(1031 + 0x1B, 4, 1);
    put(1031 + 0x20, 0x7000, 2);
    put(1031 + 0x22, 211, 4);
    put(1031 + 0x26, 400, 4);
    const auto n = disc::parse_navigation(pack);
    REQUIRE(n);
    CHECK(n->start == 90'000);
    CHECK(n->end == 135'045);
    CHECK(n->elapsed == base::frames_to_time(62 * 30 + 5, {30000, 1001}));
    CHECK(n->last_sector == 211);
    CHECK(n->vob == 9);
    CHECK(n->cell == 4);
    CHECK(n->interleaved);
    CHECK(n->unit_end == 211);
    CHECK(n->next_unit == 400u);
    put(1031 + 0x26, 0xFFFFFFFF, 4);
    CHECK_FALSE(disc::parse_navigation(pack)->next_unit);
    put(44, 1, 1);
    CHECK_FALSE(disc::parse_navigation(pack));
    CHECK_FALSE(disc::parse_navigation(ByteSpan(pack).first(2000)));
}
