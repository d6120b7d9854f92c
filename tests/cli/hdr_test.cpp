// Ultra HD discs of high dynamic range converted by the built program: kept with all that belongs to it, or made
// standard. What is in the files is read here by hand offsets and by decoders, not by our readers' own description.
#include <algorithm>
#include <bit>
#include <catch2/catch.hpp>
#include <cmath>
#include <nlohmann/json.hpp>

#include "base/byte_source.hpp"
#include "codec/video_decoder.hpp"
#include "container/reader.hpp"
#include "filter/tone_map.hpp"
#include "sample/test_card.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
using Json = nlohmann::json;

namespace {

std::uint32_t number(const ByteVector& bytes, std::size_t at, std::size_t size) {
    std::uint32_t value = 0;
    for (std::size_t i = 0; i < size; ++i) value = value << 8 | bytes.at(at + i);
    return value;
}
std::size_t find(const ByteVector& bytes, const std::string& what) {
    return std::string(bytes.begin(), bytes.end()).find(what);
}

struct Decoded {
    Track track;
    std::vector<Picture> pictures;
};
Decoded decode(const base::Path& path) {
    auto bytes = base::FileSource::open(path);
    REQUIRE(bytes);
    auto media = container::open_media(std::make_shared<base::FileSource>(std::move(*bytes)));
    REQUIRE(media);
    Decoded decoded;
    for (const Track& track : media->source->tracks()) {
        if (track.kind == TrackKind::video) decoded.track = track;
    }
    auto decoder = codec::make_video_decoder(decoded.track);
    REQUIRE(decoder);
    while (true) {
        auto packet = media->source->read();
        REQUIRE(packet);
        if (!*packet) break;
        if ((*packet)->track == decoded.track.id) REQUIRE((*decoder)->decode(**packet, decoded.pictures));
    }
    REQUIRE((*decoder)->flush(decoded.pictures));
    return decoded;
}

// Mean luma of the card's step number `step`, in codes of the picture's depth.
double step_luma(const Picture& picture, int step) {
    const int width = picture.width * 6 / 10 / 11, left = picture.width / 5 + step * width;
    const int top = picture.height * 77 / 100, bottom = picture.height * 81 / 100;
    double sum = 0, count = 0;
    media::with_sample_type(picture.bit_depth, [&](auto sample) {
        for (int y = top; y < bottom; ++y) {
            for (int x = left + width / 4; x < left + width * 3 / 4; ++x) {
                sum += picture.row<decltype(sample)>(0, y)[x];
                ++count;
            }
        }
    });
    return sum / count;
}

// A second of HDR10 at a size that is quick.
void make_disc(const TempDir& dir, const std::string& range) {
    write_all(dir / "disc.toml",
              "title = \"HARBOUR LIGHTS\"\nkind = \"blu-ray\"\ndefinition = \"standard\"\ncodec = \"h265\"\n"
              "dynamic_range = \"" +
                  range +
                  "\"\n[[audio]]\ncodec = \"ac3\"\n[[subtitles]]\nforced = \"all\"\nevery = \"1 s\"\n"
                  "[[part]]\nname = \"film\"\nlength = \"1 s\"\n");
    const Ran made = run_program({"standin", "disc", "disc", "--from", "disc.toml", "-q"}, dir.path());
    INFO(made.err);
    REQUIRE(made.status == 0);
}

const char* const kKeep = "[video]\nbit_depth = 10\neffort = 2\nvisual_quality = 85\npixels = \"as-source\"\n";

}  // namespace

TEST_CASE("HDR10 is kept in every codec and container that has it", "[cli][convert][hdr]") {
    const TempDir dir;
    make_disc(dir, "hdr10");
    const Json disc = json_of(run_program({"inspect", "disc", "--json"}, dir.path()));
    const Json& video = disc["titles"][0]["tracks"][0];
    CHECK(video["profile"] == "Main 10");
    CHECK(video["mastering_display"]["max_cd_m2"] == 1000);
    CHECK(video["content_light"]["max_content"] == 1000);
    CHECK(read_text(dir / "disc/BDMV/PLAYLIST/00000.mpls").substr(0, 8) == "MPLS0300");
    for (const auto& [codec, container] :
         {std::pair{"h265", "mp4"}, {"h265", "matroska"}, {"h265", "mpeg-ts"}, {"av1", "mp4"}, {"vp9", "webm"}}) {
        INFO(codec << " in " << container);
        std::string text = kKeep;
        text.insert(text.find('\n') + 1, std::string("codec = \"") + codec + "\"\n");
        write_all(dir / "keep.toml", "name = \"keep\"\ncontainer = \"" + std::string(container) + "\"\n" + text +
                                         "[audio]\ncodec = \"opus\"\n");
        if (std::string(container) == "mpeg-ts")
            write_all(dir / "keep.toml",
                      "name = \"keep\"\ncontainer = \"mpeg-ts\"\n" + text + "[audio]\ncodec = \"ac3\"\n");
        const Ran ran = run_program({"convert", "disc", "--profile", "keep.toml", "--into",
                                     codec + std::string(container), "--subtitles", "none", "--json"},
                                    dir.path());
        INFO(ran.err);
        REQUIRE(ran.status == 0);
        const base::Path file = dir.path() / json_of(ran)["outputs"][0]["path"].get<std::string>();
        const Decoded decoded = decode(file);
        CHECK(decoded.track.colour == ColourDescription{9, 16, 9, false});
        CHECK(decoded.track.bit_depth == 10);
        CHECK(decoded.track.mastering_display == sample::kCardDisplay);
        CHECK(decoded.track.content_light == sample::kCardLight);
        REQUIRE(decoded.pictures.size() == 24);
        const filter::SdrInHdr hdr({9, 16, 9, false});
        for (int step = 0; step < 11; ++step) {
            INFO(step);
            CHECK(step_luma(decoded.pictures[12], step) == Approx(hdr.grey(sample::kHdrSteps[step])).margin(6));
        }
        const ByteVector bytes = read_all(file);
        if (std::string(container) == "mp4") {
            // ISO/IEC 14496-12, 12.1.7: green, blue, red, white, then luminances.
            const std::size_t display = find(bytes, "mdcv"), light = find(bytes, "clli");
            REQUIRE(display < bytes.size());
            CHECK(number(bytes, display + 4, 2) == 8500);
            CHECK(number(bytes, display + 12, 2) == 35400);
            CHECK(number(bytes, display + 20, 4) == 10'000'000);
            REQUIRE(light < bytes.size());
            CHECK(number(bytes, light + 4, 2) == 1000);
            const std::size_t colour = find(bytes, "colrnclx");
            REQUIRE(colour < bytes.size());
            CHECK(number(bytes, colour + 8, 2) == 9);
            CHECK(number(bytes, colour + 10, 2) == 16);
        } else if (std::string(container) != "mpeg-ts") {
            // Matroska: LuminanceMax (0x55D9), a number of 4 or 8 bytes; TransferCharacteristics (0x55BA).
            const std::size_t most = find(bytes, "\x55\xD9");
            REQUIRE(most < bytes.size());
            const double value = bytes[most + 2] == 0x84
                                     ? static_cast<double>(std::bit_cast<float>(number(bytes, most + 3, 4)))
                                     : std::bit_cast<double>(std::uint64_t{number(bytes, most + 3, 4)} << 32 |
                                                             number(bytes, most + 7, 4));
            CHECK(value == Approx(1000));
            const std::size_t transfer = find(bytes, "\x55\xBA\x81");
            REQUIRE(transfer < bytes.size());
            CHECK(bytes[transfer + 3] == 16);
        }
    }
}

TEST_CASE("high dynamic range is made standard where the target has none", "[cli][convert][hdr]") {
    for (const std::string range : {"hdr10", "hlg"}) {
        INFO(range);
        const TempDir dir;
        make_disc(dir, range);
        const Ran ran =
            run_program({"convert", "disc", "--profile", "full-picture", "--into", "out", "--json"}, dir.path());
        INFO(ran.err);
        REQUIRE(ran.status == 0);
        const Decoded decoded = decode(dir.path() / json_of(ran)["outputs"][0]["path"].get<std::string>());
        CHECK(decoded.track.colour == ColourDescription{1, 1, 1, false});
        CHECK(decoded.track.bit_depth == 8);
        CHECK_FALSE(decoded.track.mastering_display);
        REQUIRE(decoded.pictures.size() == 24);
        double last = -1;
        for (int step = 0; step < 11; ++step) {
            INFO(step);
            // The report's curve from 1000 to 100 cd/m2, then BT.1886.
            const double nits = sample::kHdrSteps[step];
            const double mapped = filter::pq_to_luminance(filter::eetf(filter::luminance_to_pq(nits), 1000, 100));
            const double wanted = 16 + 219 * std::pow(std::min(mapped / 100, 1.0), 1 / 2.4);
            const double luma = step_luma(decoded.pictures[21], step);  // no subtitle there
            CHECK(luma == Approx(wanted).margin(2));
            CHECK(luma >= last - 1);
            last = luma;
        }
        // Subtitles are drawn in what counts as white, not in the brightest there is: 203 cd/m2.
        const double white =
            16 + 219 * std::pow(filter::pq_to_luminance(filter::eetf(filter::luminance_to_pq(203), 1000, 100)) / 100,
                                1 / 2.4);
        const Picture& picture = decoded.pictures[12];
        int most = 0;
        // In front of steps of at most 100 cd/m2.
        for (int y = picture.height * 76 / 100; y < picture.height * 79 / 100; ++y) {
            for (int x = picture.width * 45 / 100; x < picture.width * 52 / 100; ++x)
                most = std::max<int>(most, picture.row<std::uint8_t>(0, y)[x]);
        }
        CHECK(most > white - 10);
        CHECK(most < white + 14);
    }
}

TEST_CASE("a plan says what becomes of high dynamic range", "[cli][convert][hdr]") {
    const TempDir dir;
    make_disc(dir, "hdr10");
    const Ran kept =
        run_program({"convert", "disc", "--profile", "hdr-tv,phone", "--into", "out", "--plan"}, dir.path());
    CHECK(kept.status == 0);
    CHECK(kept.out.find("HDR10 kept") != std::string::npos);
    CHECK(kept.out.find("tone-mapped") != std::string::npos);
    // Settings that contradict each other are told with their line.
    write_all(dir / "a.toml", std::string("name = \"a\"\n[video]\ncodec = \"h264\"\nbit_depth = 10\n"));
    const Ran wrong = run_program({"profile", "check", "a.toml"}, dir.path());
    CHECK(wrong.status == 1);
    CHECK(wrong.err.find("line 4") != std::string::npos);
    write_all(dir / "b.toml", std::string("name = \"b\"\n[video]\ncodec = \"h265\"\nhdr = \"keep\"\n"));
    CHECK(run_program({"profile", "check", "b.toml"}, dir.path()).err.find("10 bits") != std::string::npos);
}
