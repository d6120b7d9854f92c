// Tags of music from file to file, by the built program.
#include <catch2/catch.hpp>
#include <nlohmann/json.hpp>

#include "base/byte_source.hpp"
#include "container/reader.hpp"
#include "support/clips.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
using media::Tags;

namespace {

Tags tags_of(const base::Path& path) {
    auto bytes = base::FileSource::open(path);
    REQUIRE(bytes);
    auto media = container::open_media(std::make_shared<base::FileSource>(std::move(*bytes)));
    REQUIRE(media);
    return media->tags;
}
const Tags kTags{"Lake at Dusk", "The Jetty Trio", "Cedar Landing", "Folk", "2019", 3};

}  // namespace

TEST_CASE("an album keeps its tags in every format that has them", "[tags][cli]") {
    const TempDir dir;
    container::WriterSettings settings;
    settings.tags = kTags;
    write_media(dir / "song.flac", "flac", {audio_track(Codec::flac, 2)}, settings);
    CHECK(tags_of(dir / "song.flac") == kTags);
    for (const auto& [container, codec] :
         {std::pair{"mp3", "mp3"}, {"ogg", "opus"}, {"ogg", "flac"}, {"flac", "flac"}, {"mp4", "aac"}}) {
        INFO(container << " " << codec);
        write_all(dir / "p.toml", std::string("name = \"p\"\ncontainer = \"") + container +
                                      "\"\n[video]\ncodec = \"none\"\n[audio]\ncodec = \"" + codec + "\"\n");
        const Ran ran = run_program(
            {"convert", "song.flac", "--profile", "p.toml", "--into", std::string(container) + codec, "--json"},
            dir.path());
        INFO(ran.err);
        REQUIRE(ran.status == 0);
        const base::Path made = dir.path() / json_of(ran)["outputs"][0]["path"].get<std::string>();
        CHECK(tags_of(made) == kTags);
        const auto tracks = read_media(made);
        REQUIRE(tracks.size() == 1);
        CHECK(base::to_seconds(tracks[0].packets.back().pts) > 1.9);
    }
    // Matroska's are written, by the names of its own specification.
    write_all(dir / "m.toml", std::string("name = \"m\"\ncontainer = \"matroska\"\n[video]\ncodec = \"none\"\n"
                                          "[audio]\ncodec = \"opus\"\n"));
    const Ran ran = run_program({"convert", "song.flac", "--profile", "m.toml", "--into", "mka", "--json"}, dir.path());
    REQUIRE(ran.status == 0);
    const std::string bytes = read_text(dir.path() / json_of(ran)["outputs"][0]["path"].get<std::string>());
    CHECK(bytes.find("ARTIST") != std::string::npos);
    CHECK(bytes.find("The Jetty Trio") != std::string::npos);
}
