#include "support/discs.hpp"

#include <catch2/catch.hpp>

#include "support/support.hpp"

namespace wavecrest::test {

using standin::DiscDescription;

base::Path made_disc(const std::string& name, const DiscDescription& disc) {
    const base::Path path = samples() / "made" / name;
    std::filesystem::create_directories(path.parent_path());
    const Turn turn(path);
    if (std::filesystem::exists(path)) return path;
    const Cancel cancel;
    const auto status = standin::make_disc(path, disc, {}, cancel);
    if (!status && !std::filesystem::exists(path)) FAIL(status.error().what << ": " << status.error().where);
    return path;
}

DiscDescription rich_description(DiscDescription::Kind kind) {
    DiscDescription disc;
    disc.kind = kind;
    disc.title = "RICH";
    disc.captions = true;
    if (kind == DiscDescription::Kind::blu_ray) disc.video_bps = 6'000'000;
    DiscDescription::Audio surround{Codec::ac3, 6, 16, "en", Purpose::main, 0};
    DiscDescription::Audio german{Codec::ac3, 2, 16, "de", Purpose::main, 0};
    DiscDescription::Audio french{Codec::lpcm, 2, 24, "fr", Purpose::main, 0};
    DiscDescription::Audio comments{Codec::ac3, 2, 16, "en", Purpose::commentary, 0};
    disc.audio = {surround, german, french, comments};
    using Forced = DiscDescription::Subtitles::Forced;
    disc.subtitles = {{"en", Forced::some, base::from_seconds(1.5)},
                      {"en", Forced::all, base::from_seconds(2)},
                      {"de", Forced::none, base::from_seconds(2)}};
    using Pictures = DiscDescription::Part::Pictures;
    const auto part = [&](const char* name, double seconds, Pictures pictures, int chapters, bool breaks, int angles) {
        DiscDescription::Part p;
        p.name = name;
        p.length = base::from_seconds(seconds);
        p.pictures = pictures;
        p.chapters = chapters;
        p.clock_breaks = breaks;
        p.angles = angles;
        disc.parts.push_back(p);
    };
    const bool small = kind == DiscDescription::Kind::blu_ray;
    part("one", small ? 3 : 5, Pictures::film, 2, false, 1);
    part("two", small ? 2.6 : 5, Pictures::interlaced, 1, false, 1);
    part("three", small ? 3 : 5.5, Pictures::film_unmarked, 3, true, 1);
    part("angles", small ? 1.5 : 3, Pictures::film, 1, false, 2);
    disc.titles = {{{"one"}}, {{"two"}}, {{"three"}}, {{"one", "two", "three"}}, {{"angles", "one"}}, {{"one"}}};
    return disc;
}

base::Path rich_dvd() {
    return made_disc("rich-dvd", rich_description(DiscDescription::Kind::dvd));
}
base::Path rich_blu_ray() {
    return made_disc("rich-blu-ray", rich_description(DiscDescription::Kind::blu_ray));
}

}  // namespace wavecrest::test
