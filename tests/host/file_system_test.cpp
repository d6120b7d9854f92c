// File systems recognised by their first blocks: images made by their own tools, identities as blkid tells them.
#include "host/file_system.hpp"

#include <catch2/catch.hpp>
#include <fstream>

#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;

namespace {

std::string output_of(const std::string& command, const base::Path& folder) {
    const base::Path file = folder / "output";
    if (std::system((command + " > '" + file.string() + "' 2>/dev/null").c_str()) != 0) return {};
    std::string text = read_text(file);
    while (!text.empty() && text.back() == '\n') text.pop_back();
    return text;
}

void put(const base::Path& file, std::uint64_t at, std::uint8_t byte) {
    std::fstream out(file, std::ios::in | std::ios::out | std::ios::binary);
    out.seekp(static_cast<std::streamoff>(at));
    out.put(static_cast<char>(byte));
}
std::uint8_t get(const base::Path& file, std::uint64_t at) {
    return read_all(file).at(at);
}

}  // namespace

TEST_CASE("disks are known by the file systems on them, and whether they were unmounted", "[share][disk]") {
    const TempDir dir;
    const struct {
        const char *type, *make, *label;
        std::uint64_t megabytes;
    } kinds[] = {{"ext4", "mke2fs -q -t ext4 -L films", "films", 16}, {"vfat", "mkfs.vfat -F 32 -n FILMS", "FILMS", 64},
                 {"vfat", "mkfs.vfat -F 16 -n FILMS", "FILMS", 16},   {"exfat", "mkfs.exfat -L films", "", 16},
                 {"ntfs3", "mkntfs -F -q -Q -L films", "", 16},       {"xfs", "mkfs.xfs -q -L films", "films", 320},
                 {"btrfs", "mkfs.btrfs -q -L films", "films", 128}};
    int number = 0;
    for (const auto& kind : kinds) {
        const base::Path image = dir / ("disk" + std::to_string(number++));
        write_all(image, std::string());
        std::filesystem::resize_file(image, kind.megabytes << 20);
        INFO(kind.make);
        REQUIRE(std::system((std::string("PATH=$PATH:/sbin:/usr/sbin ") + kind.make + " '" + image.string() +
                             "' >/dev/null 2>&1")
                                .c_str()) == 0);
        const auto found = host::file_system_of(image);
        REQUIRE(found);
        CHECK(found->type == kind.type);
        CHECK(found->id == output_of("/sbin/blkid -p -o value -s UUID '" + image.string() + "'", dir.path()));
        CHECK(found->label == kind.label);
        const bool tells = found->type != "xfs" && found->type != "btrfs" && kind.megabytes != 16;
        if (tells) CHECK(found->clean == true);
        std::filesystem::remove(image);
    }
    const base::Path image = dir / "disk";
    const auto made = [&](const std::string& make, std::uint64_t megabytes) {
        std::filesystem::remove(image);
        write_all(image, std::string());
        std::filesystem::resize_file(image, megabytes << 20);
        REQUIRE(std::system(
                    ("PATH=$PATH:/sbin:/usr/sbin " + make + " '" + image.string() + "' >/dev/null 2>&1").c_str()) == 0);
    };
    made("mke2fs -q -t ext4", 16);
    CHECK(host::file_system_of(image)->clean == true);
    put(image, 1024 + 58, 0);
    CHECK(host::file_system_of(image)->clean == false);
    made("mkfs.exfat", 16);
    CHECK(host::file_system_of(image)->clean == true);
    put(image, 106, get(image, 106) | 2);
    CHECK(host::file_system_of(image)->clean == false);
    made("mkntfs -F -q -Q", 16);
    CHECK(host::file_system_of(image)->clean == true);
    // No disk at all, and one that ends early.
    write_all(image, std::string(70'000, 'x'));
    CHECK(host::file_system_of(image).error().kind == ErrorKind::input);
    write_all(image, std::string(100, '\0'));
    CHECK_FALSE(host::file_system_of(image));
    CHECK(host::file_system_of(dir / "none").error().kind == ErrorKind::machine);
    CHECK(host::device_of("UUID=../../etc/passwd").empty());
}

TEST_CASE("no first block of a disk leads a reader astray", "[share][disk]") {
    const TempDir dir;
    for (const char* make : {"mke2fs -q -t ext4", "mkfs.vfat -F 32", "mkfs.exfat", "mkntfs -F -q -Q"}) {
        const base::Path image = dir / "disk";
        std::filesystem::remove(image);
        write_all(image, std::string());
        std::filesystem::resize_file(image, 40 << 20);
        REQUIRE(std::system(
                    (std::string("PATH=$PATH:/sbin:/usr/sbin ") + make + " '" + image.string() + "' >/dev/null 2>&1")
                        .c_str()) == 0);
        ByteVector bytes = read_all(image);
        const auto read = [&](std::uint64_t offset, std::span<std::uint8_t> into) -> std::size_t {
            if (offset >= bytes.size()) return 0;
            const auto count = std::min<std::size_t>(into.size(), bytes.size() - offset);
            std::copy_n(bytes.begin() + static_cast<std::ptrdiff_t>(offset), count, into.begin());
            return count;
        };
        for (std::size_t i = 0; i < 2048; ++i) {
            for (const std::uint8_t with : {0x00, 0xFF}) {
                const std::uint8_t before = std::exchange(bytes[i], with);
                const auto found = host::recognise_file_system(read);
                if (found) CHECK(found->id.size() <= 36);
                bytes[i] = before;
            }
        }
    }
}
