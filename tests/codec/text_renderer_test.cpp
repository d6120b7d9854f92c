// Subtitles of text as images.
#include <catch2/catch.hpp>

#include "codec/text_renderer.hpp"
#include "filter/overlay.hpp"
#include "media/types.hpp"

using namespace wavecrest;

namespace {

Packet cue(const std::string& text, double from, double to) {
    Packet packet;
    packet.pts = packet.dts = base::from_seconds(from);
    packet.duration = base::from_seconds(to - from);
    packet.data = Bytes(ByteVector(text.begin(), text.end()));
    return packet;
}

struct Box {
    int left = 1 << 20, top = 1 << 20, right = -1, bottom = -1, brightest = 0;
    bool empty() const { return right < 0; }
};
// What is drawn of white letters on a grey picture.
Box letters(const Overlay& overlay, int width, int height) {
    Picture picture = Picture::allocate(width, height);
    for (int plane = 0; plane < 3; ++plane)
        std::fill_n(picture.planes[plane], picture.strides[plane] * picture.plane_height(plane),
                    static_cast<std::uint8_t>(128));
    filter::lay_over(picture, overlay);
    Box box;
    for (int y = 0; y < height; ++y) {
        for (int x = 0; x < width; ++x) {
            const int luma = picture.row<std::uint8_t>(0, y)[x];
            box.brightest = std::max(box.brightest, luma);
            if (luma < 220) continue;
            box.left = std::min(box.left, x);
            box.right = std::max(box.right, x);
            box.top = std::min(box.top, y);
            box.bottom = std::max(box.bottom, y);
        }
    }
    return box;
}

}  // namespace

TEST_CASE("text is drawn white at the foot of the picture, in the middle", "[text][overlay]") {
    auto renderer = codec::make_text_renderer(640, 360, {1, 1});
    REQUIRE(renderer);
    std::vector<Overlay> out;
    (*renderer)->decode(cue("Boats are tied up.", 1, 3), out);
    REQUIRE(out.size() == 2);
    CHECK(out[0].pts == base::from_seconds(1));
    CHECK(out[1].pts == base::from_seconds(3));
    CHECK(out[1].regions.empty());
    const Box box = letters(out[0], 640, 360);
    REQUIRE_FALSE(box.empty());
    CHECK(box.brightest >= 230);
    CHECK(box.brightest <= 235);
    CHECK(box.top > 360 * 3 / 4);
    CHECK(box.bottom < 358);
    CHECK(std::abs((box.left + box.right) / 2 - 320) < 12);
    // Two lines are higher, and twice as wide pixels make letters half as wide.
    out.clear();
    (*renderer)->decode(cue("Boats are\ntied up.", 4, 5), out);
    CHECK(letters(out[0], 640, 360).top < box.top - 10);
    auto wide = codec::make_text_renderer(640, 360, {2, 1});
    REQUIRE(wide);
    out.clear();
    (*wide)->decode(cue("Boats are tied up.", 1, 3), out);
    const Box narrow = letters(out[0], 640, 360);
    CHECK(narrow.right - narrow.left == Approx((box.right - box.left) / 2.0).epsilon(0.08));
    // Other scripts, and what would be commands.
    double at = 6;
    for (const char* text : {"\xD7\xA9\xD7\x9C\xD7\x95\xD7\x9D", "\xCE\xBB\xCE\xAF\xCE\xBC\xCE\xBD\xCE\xB7",
                             "{\\fs200}brackets", "back\\Nslash"}) {
        out.clear();
        (*renderer)->decode(cue(text, at, at + 1), out);
        at += 1;
        const Box one = letters(out[0], 640, 360);
        CHECK_FALSE(one.empty());
        CHECK(one.bottom - one.top < 40);
    }
}

TEST_CASE("cues that overlap stand above each other, and each ends at its time", "[text][overlay]") {
    auto renderer = codec::make_text_renderer(640, 360, {1, 1});
    REQUIRE(renderer);
    std::vector<Overlay> out;
    (*renderer)->decode(cue("One", 1, 5), out);
    (*renderer)->decode(cue("Two", 3, 7), out);
    // As they are taken: the latest that has come by a moment counts.
    std::stable_sort(out.begin(), out.end(), [](const Overlay& a, const Overlay& b) { return a.pts < b.pts; });
    const auto at = [&](double seconds) {
        const Overlay* showing = nullptr;
        for (const Overlay& overlay : out) {
            if (overlay.pts <= base::from_seconds(seconds)) showing = &overlay;
        }
        REQUIRE(showing != nullptr);
        return letters(*showing, 640, 360);
    };
    const Box alone = at(2), both = at(4), last = at(6);
    CHECK(both.bottom - both.top > (alone.bottom - alone.top) * 3 / 2);
    CHECK_FALSE(last.empty());
    CHECK(last.top > both.top);
    CHECK(at(8).empty());
    // What has no text or lasts no time shows nothing.
    out.clear();
    (*renderer)->decode(cue("", 9, 10), out);
    (*renderer)->decode(cue("x", 9, 9), out);
    CHECK(out.empty());
}
