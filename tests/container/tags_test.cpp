// Tags of music, in forms built by hand.
#include "container/tags.hpp"

#include <catch2/catch.hpp>
#include <random>

using namespace wavecrest;
using media::Tags;

namespace {

ByteVector bytes_of(const std::string& text) {
    return {text.begin(), text.end()};
}
const Tags kTags{"Lake at Dusk", "The Jetty Trio", "Cedar Landing", "Folk", "2019", 3};

}  // namespace

TEST_CASE("Vorbis comments and ID3 tags are read as their standards have them", "[tags]") {
    using namespace std::string_literals;
    // Names in any case; the first of two counts; what is no field is left out.
    const std::string comment = "\x04\0\0\0test\x05\0\0\0"s + "\x0C\0\0\0title=L\xC3\xA9man"s +
                                "\x0A\0\0\0ARTIST=Abc"s.substr(0, 14) + "\x08\0\0\0ARTIST=D"s + "\x05\0\0\0plain"s +
                                "\x10\0\0\0TRACKNUMBER=7/12"s;
    const Tags vorbis = container::parse_vorbis_comment(bytes_of(comment));
    CHECK(vorbis.title == "L\xC3\xA9man");
    CHECK(vorbis.performer == "Abc");
    CHECK(vorbis.number == 7);
    // ID3v2.3: Latin letters and UTF-16; v2.4 has sizes of seven bits a byte.
    const std::string third = "ID3\x03\0\0\0\0\0\x32"s + "TIT2\0\0\0\x06\0\0\0L\xE9man"s +
                              "TPE1\0\0\0\x09\0\0\x01\xFF\xFE\xE9\x00t\x00\xE9\x00"s + "TYER\0\0\0\x05\0\0\0"s +
                              "1999"s;
    const Tags id3 = container::parse_id3(bytes_of(third));
    CHECK(id3.title == "L\xC3\xA9man");
    CHECK(id3.performer == "\xC3\xA9t\xC3\xA9");
    CHECK(id3.date == "1999");
    CHECK(container::parse_vorbis_comment(container::make_vorbis_comment(kTags)) == kTags);
    CHECK(container::parse_id3(container::make_id3(kTags)) == kTags);
    CHECK(container::make_id3({}).empty());
}

TEST_CASE("damaged tags lose texts, nothing else", "[tags]") {
    std::mt19937 random(11);
    for (const ByteVector& whole : {container::make_vorbis_comment(kTags), container::make_id3(kTags)}) {
        for (std::size_t cut = 0; cut < whole.size(); ++cut) {
            const ByteSpan part = ByteSpan(whole).first(cut);
            (void)container::parse_vorbis_comment(part);
            (void)container::parse_id3(part);
        }
        for (int i = 0; i < 20'000; ++i) {
            ByteVector damaged = whole;
            for (int n = 0; n < 3; ++n) damaged[random() % damaged.size()] = static_cast<std::uint8_t>(random());
            (void)container::parse_vorbis_comment(damaged);
            (void)container::parse_id3(damaged);
        }
    }
}
