// verify --stills: pictures of what was received, read back apart from what wrote them.
#include <zlib.h>

#include <catch2/catch.hpp>
#include <cmath>
#include <nlohmann/json.hpp>

#include "sample/test_card.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
using Json = nlohmann::json;

namespace {

std::uint32_t number_at(const ByteVector& bytes, std::size_t at) {
    return static_cast<std::uint32_t>(bytes[at]) << 24 | bytes[at + 1] << 16 | bytes[at + 2] << 8 | bytes[at + 3];
}

// A PNG (ISO/IEC 15948) of 8-bit colours, as luma; check sums and filters are looked at.
Picture read_png(const base::Path& path) {
    const ByteVector bytes = read_all(path);
    static const std::uint8_t kSignature[] = {0x89, 'P', 'N', 'G', '\r', '\n', 0x1A, '\n'};
    REQUIRE(bytes.size() > 60);
    REQUIRE(std::equal(std::begin(kSignature), std::end(kSignature), bytes.begin()));
    int width = 0, height = 0;
    ByteVector packed;
    for (std::size_t at = 8; at + 12 <= bytes.size();) {
        const std::size_t size = number_at(bytes, at);
        REQUIRE(at + 12 + size <= bytes.size());
        REQUIRE(::crc32(0, bytes.data() + at + 4, static_cast<uInt>(size + 4)) == number_at(bytes, at + 8 + size));
        const std::string type(bytes.begin() + static_cast<std::ptrdiff_t>(at + 4),
                               bytes.begin() + static_cast<std::ptrdiff_t>(at + 8));
        if (type == "IHDR") {
            width = static_cast<int>(number_at(bytes, at + 8));
            height = static_cast<int>(number_at(bytes, at + 12));
            REQUIRE(bytes[at + 16] == 8);
            REQUIRE(bytes[at + 17] == 2);
        }
        if (type == "IDAT")
            packed.insert(packed.end(), bytes.begin() + static_cast<std::ptrdiff_t>(at + 8),
                          bytes.begin() + static_cast<std::ptrdiff_t>(at + 8 + size));
        at += 12 + size;
    }
    const auto row = static_cast<std::size_t>(width) * 3;
    ByteVector lines((row + 1) * static_cast<std::size_t>(height));
    uLongf size = lines.size();
    REQUIRE(::uncompress(lines.data(), &size, packed.data(), static_cast<uLong>(packed.size())) == Z_OK);
    REQUIRE(size == lines.size());
    Picture picture = Picture::allocate(width, height);
    for (int y = 0; y < height; ++y) {
        std::uint8_t* const line = lines.data() + static_cast<std::size_t>(y) * (row + 1);
        REQUIRE(line[0] <= 1);  // as they are, or differences to the left
        for (std::size_t i = 3; line[0] == 1 && i < row; ++i)
            line[1 + i] = static_cast<std::uint8_t>(line[1 + i] + line[i - 2]);
        for (int x = 0; x < width; ++x) {
            const std::uint8_t* const p = line + 1 + 3 * x;
            picture.planes[0][y * picture.strides[0] + x] =
                static_cast<std::uint8_t>(std::lround(16 + (0.299 * p[0] + 0.587 * p[1] + 0.114 * p[2]) * 219 / 255));
        }
    }
    return picture;
}

}  // namespace

TEST_CASE("stills show what is on at their times, in the shape of the screen", "[cli][verify][stills][waits]") {
    const TempDir dir;
    std::filesystem::copy_file(sample_film(), dir / "film.mp4");
    const std::uint16_t port = free_port();
    const Background server(
        {"stream", "run", "film.mp4", "--port", std::to_string(port), "--delivery", "file,live", "-q"}, dir.path());
    REQUIRE(wait_for_port(port));
    const std::string address = "http://127.0.0.1:" + std::to_string(port) + "/film";

    SECTION("of a film, by skipping through it") {
        const Ran ran = run_program({"verify", address + ".mp4", "--device", "tv-hd", "--stills", "pictures", "--json"},
                                    dir.path());
        INFO(ran.err);
        REQUIRE(ran.status == 0);
        const Json json = json_of(ran);
        const Json& stills = json["results"][0]["stills"];
        // Of twelve places, a second apart; keyframes may be farther apart than that.
        REQUIRE(stills.size() >= 6);
        std::int64_t last = -1;
        for (const Json& one : stills) {
            const Picture picture = read_png(dir / one.get<std::string>());
            // Pixels of the film aren't square; those of the still are.
            CHECK(picture.height == 480);
            CHECK(std::abs(picture.width - 854) <= 2);
            const auto code = sample::read_card_code(picture);
            REQUIRE(code);
            CHECK(code->frame > last);
            last = code->frame;
            // The name tells the second.
            const std::string name = one.get<std::string>();
            const int second = std::stoi(name.substr(name.size() - 6, 2));
            CHECK(static_cast<int>(static_cast<double>(code->frame) * 1001 / 24000) == second);
        }
    }
    SECTION("of a live stream, as it comes") {
        const Ran ran = run_program(
            {"verify", address + "-live.ts", "--device", "tv-hd", "--for", "7 s", "--stills", "pictures", "--json"},
            dir.path());
        INFO(ran.err);
        const Json json = json_of(ran);
        const Json& stills = json["results"][0]["stills"];
        REQUIRE(stills.size() == 2);
        const auto first = sample::read_card_code(read_png(dir / stills[0].get<std::string>())),
                   second = sample::read_card_code(read_png(dir / stills[1].get<std::string>()));
        REQUIRE(first);
        REQUIRE(second);
        CHECK(std::abs((second->frame - first->frame) - 120) <= 1);
    }
    SECTION("a folder that can't be made is said, and the verdict stands") {
        write_all(dir / "taken", std::string("a file"));
        const Ran ran =
            run_program({"verify", address + ".mp4", "--device", "tv-hd", "--stills", "taken", "--json"}, dir.path());
        CHECK(ran.status == 0);
        bool said = false;
        const Json json = json_of(ran);
        for (const Json& check : json["results"][0]["checks"])
            said = said || (check["name"] == "stills" && check["verdict"] == "warn");
        CHECK(said);
        CHECK(read_all(dir / "taken").size() == 6);
    }
}
