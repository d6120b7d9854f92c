#include "library/catalogue.hpp"

#include <catch2/catch.hpp>

#include <algorithm>
#include <condition_variable>
#include <mutex>

#include "library/content.hpp"
#include "library/poster.hpp"
#include "library/watch.hpp"
#include "support/support.hpp"
#include "upnp/search_criteria.hpp"

using namespace wavecrest;
using library::Catalogue;
using library::Selection;

namespace {

ByteVector tone() {  // a WAV of a second, silent
    const std::uint32_t bytes = 8000 * 2;
    ByteVector wav;
    const auto text = [&](const char* t) { wav.insert(wav.end(), t, t + 4); };
    const auto number = [&](std::uint32_t value, int size) {
        for (int i = 0; i < size; ++i) wav.push_back(static_cast<std::uint8_t>(value >> (8 * i)));
    };
    text("RIFF"), number(36 + bytes, 4), text("WAVE"), text("fmt "), number(16, 4), number(1, 2), number(1, 2);
    number(8000, 4), number(16000, 4), number(2, 2), number(16, 2), text("data"), number(bytes, 4);
    wav.resize(44 + bytes);
    return wav;
}

struct House {
    test::TempDir folder;
    std::vector<library::Collection> collections;
    std::unique_ptr<Catalogue> catalogue;
    Cancel cancel;

    House() {
        film("films/Lanterns (2019)/Lanterns (2019).mp4");
        film("films/Lanterns (2019)/Lanterns (2019) - tablet.mp4");
        film("films/The Fog Bell.mp4");
        film("films/Shore Stories/Season 01/Shore Stories - S01E01 - Pier.mp4");
        film("films/Shore Stories/Season 01/Shore Stories - S01E02 - Fog.mp4");
        film("films/Shore Stories/Season 02/Shore Stories - S02E01 - Ice.mp4");
        for (const char* name : {"01 Reeds", "02 Ferry"}) {
            std::filesystem::create_directories(folder / "music/Lake Trio/Still Water");
            test::write_all(folder / (std::string("music/Lake Trio/Still Water/") + name + ".wav"), tone());
        }
        collections = {{"Films", folder / "films"}, {"Music", folder / "music"}};
        open();
    }
    void film(const std::string& name) const {
        std::filesystem::create_directories((folder / name).parent_path());
        std::filesystem::copy_file(test::sample_film(), folder / name);
    }
    void open() {
        catalogue.reset();
        auto opened = Catalogue::open(folder / "state/library.db");
        REQUIRE(opened);
        catalogue = std::move(*opened);
    }
    library::ScanResult scan() {
        const auto done = catalogue->scan(collections, 1000, cancel);
        REQUIRE(done);
        return *done;
    }
    std::size_t count(const std::string& where = "1") const { return catalogue->count({where, {}, "id"}); }
    library::Item only(const std::string& where) const {
        const auto items = catalogue->items({where, {}, "id"}, 0, 10);
        REQUIRE(items.size() == 1);
        return items.front();
    }
    library::ContentAsked asked(const std::string& object) const {
        library::ContentAsked a;
        a.object = object;
        a.collections = {"Films", "Music"};
        return a;
    }
    std::vector<std::string> titles(const std::string& object, const std::string& sort = "") const {
        auto a = asked(object);
        a.sort = sort;
        const auto found = library::Content(*catalogue).children(a, library::object_of);
        REQUIRE(found);
        std::vector<std::string> titles;
        for (const auto& one : found->objects) titles.push_back(one.title);
        return titles;
    }
    std::size_t found(const std::string& criteria, const std::string& object = "0") const {
        const auto result = library::Content(*catalogue).search(asked(object), criteria, library::object_of);
        REQUIRE(result);
        CHECK(result->objects.size() == result->total);
        return result->total;
    }
};

}  // namespace

TEST_CASE("a catalogue holds what lies in the folders, and follows them", "[library]") {
    House house;
    const auto first = house.scan();
    CHECK(first.files == 8);
    CHECK(first.added == 8);
    const auto update = house.catalogue->update_id();
    CHECK_FALSE(house.scan().any());
    CHECK(house.catalogue->update_id() == update);
    const auto film = house.only("kind = 'film' and title = 'Lanterns' and small_of = 0");
    CHECK(film.date == "2019");
    CHECK(film.container == "mp4");
    CHECK(film.width > 0);
    CHECK(base::to_seconds(film.duration) == Approx(12).margin(0.2));
    CHECK(house.catalogue->small_copies(film.id).size() == 1);
    CHECK(house.only("title = 'Ferry'").performer == "Lake Trio");

    std::filesystem::remove(house.folder / "films/The Fog Bell.mp4");
    house.film("films/New (2024).mp4");
    test::write_all(house.folder / "films/broken.mp4", std::string("not a film at all, of some length"));
    test::write_all(house.folder / "films/.New.123.part", std::string("being written"));
    test::write_all(house.folder / "films/New (2024).srt", std::string("1\n"));
    const auto second = house.scan();
    CHECK(second.added == 2);
    CHECK(second.removed == 1);
    CHECK(second.unreadable == 1);
    CHECK(house.catalogue->update_id() > update);
    REQUIRE(house.catalogue->unreadable().size() == 1);
    CHECK_FALSE(house.catalogue->unreadable()[0].why.empty());
    CHECK(house.only("title = 'New'").subtitles.filename() == "New (2024).srt");
    // One that was copied on is read when it is whole.
    std::filesystem::copy_file(test::sample_film(), house.folder / "films/broken.mp4",
                               std::filesystem::copy_options::overwrite_existing);
    CHECK(house.scan().changed == 1);
    CHECK(house.catalogue->unreadable().empty());
    // Kept over a restart, with the same numbers.
    const auto id = house.only("title = 'New'").id;
    house.open();
    CHECK_FALSE(house.scan().any());
    CHECK(house.only("title = 'New'").id == id);
}

TEST_CASE("a share that is gone keeps its items, a collection that is gone does not", "[library]") {
    House house;
    house.scan();
    std::filesystem::rename(house.folder / "music", house.folder / "elsewhere");
    CHECK(house.scan().removed == 0);
    CHECK(house.count("kind = 'music'") == 2);
    std::filesystem::rename(house.folder / "elsewhere", house.folder / "music");
    CHECK_FALSE(house.scan().any());
    house.collections.pop_back();
    CHECK(house.scan().removed == 2);
}

TEST_CASE("nothing outside of the folders is taken", "[library]") {
    House house;
    std::filesystem::create_directories(house.folder / "secret");
    house.film("secret/Secret.mp4");
    std::filesystem::create_symlink(house.folder / "secret/Secret.mp4", house.folder / "films/link.mp4");
    std::filesystem::create_directory_symlink(house.folder / "secret", house.folder / "films/folder");
    std::filesystem::create_directory_symlink(house.folder / "films", house.folder / "films/round");
    std::filesystem::create_symlink(house.folder / "films/The Fog Bell.mp4", house.folder / "films/inside.mp4");
    house.scan();
    CHECK(house.count("title = 'Secret'") == 0);
    CHECK(house.count("path like '%link.mp4'") == 0);
    CHECK(house.count("path like '%inside.mp4'") == 1);
    CHECK(house.count() == 9);
    // A folder in another's is its own collection's alone.
    house.collections.push_back({"Series", house.folder / "films/Shore Stories"});
    house.scan();
    CHECK(house.count("kind = 'episode'") == 3);
}

TEST_CASE("a damaged catalogue is begun anew", "[library]") {
    House house;
    house.scan();
    house.catalogue.reset();
    for (const char* end : {"-wal", "-shm"})
        std::filesystem::remove((house.folder / "state/library.db").string() + end);
    test::write_all(house.folder / "state/library.db", std::string(5000, 'j'));
    house.open();
    CHECK(house.scan().added == 8);
}

TEST_CASE("the tree has films, series by season, music, years, and nothing empty", "[library]") {
    House house;
    house.scan();
    CHECK(house.titles("0") ==
          std::vector<std::string>{"Films", "Series", "Recently added", "By year", "Music", "Collections"});
    CHECK(house.titles("films") == std::vector<std::string>{"The Fog Bell", "Lanterns"});  // copies are forms of theirs
    CHECK(house.titles("films", "-dc:title") == std::vector<std::string>{"Lanterns", "The Fog Bell"});
    CHECK(house.titles("episodes") == std::vector<std::string>{"Shore Stories"});
    CHECK(house.titles("s:Shore%20Stories") == std::vector<std::string>{"Season 1", "Season 2"});
    CHECK(house.titles("s:Shore%20Stories:1") ==
          std::vector<std::string>{"Shore Stories S01E01 - Pier", "Shore Stories S01E02 - Fog"});
    CHECK(house.titles("music") == std::vector<std::string>{"Performers", "Albums", "All music"});
    CHECK(house.titles("p:Lake%20Trio") == std::vector<std::string>{"Reeds", "Ferry"});
    CHECK(house.titles("years") ==
          std::vector<std::string>{"2020", "2019"});  // that of the sample film's tags, and its name's
    CHECK(house.titles("recent").size() == 5);

    const library::Content content(*house.catalogue);
    const auto fault = [&](const std::string& object, const std::string& sort = "") {
        auto a = house.asked(object);
        a.sort = sort;
        const auto found = content.children(a, library::object_of);
        return found ? 0 : found.error().code;
    };
    CHECK(fault("nothing") == 701);
    CHECK(fault("s:No") == 701);
    CHECK(fault("y:2019:x") == 701);
    CHECK(fault("i1") == 710);
    CHECK(fault("films", "dc:title") == 709);
    CHECK(fault("films", "+res@colour") == 709);
    CHECK(fault("0", "+x") == 709);
    auto page = house.asked("films");
    page.first = 1;
    page.most = 1;
    const auto second = content.children(page, library::object_of);
    CHECK(second->objects.size() == 1);
    CHECK(second->total == 2);
    CHECK(second->objects[0].parent == "films");
    page.first = 100;
    CHECK(content.children(page, library::object_of)->objects.empty());
}

TEST_CASE("who may see a part sees no more of it, by whatever way", "[library]") {
    House house;
    house.scan();
    const library::Content content(*house.catalogue);
    auto a = house.asked("0");
    a.collections = {"Music"};
    const auto root = content.children(a, library::object_of);
    REQUIRE(root);
    REQUIRE(root->objects.size() == 1);
    CHECK(root->objects[0].title == "Music");
    for (const char* object : {"films", "recent", "years"}) {
        a.object = object;
        CHECK(content.children(a, library::object_of)->total == 0);
    }
    a.object = "c:Films";
    CHECK_FALSE(content.children(a, library::object_of));
    a.object = "i1";
    CHECK_FALSE(content.metadata(a, library::object_of));
    a.object = "0";
    CHECK(content.search(a, "*", library::object_of)->total == 2);
    CHECK(content.search(a, "dc:title contains \"lanterns\" or dc:title contains \"x\"", library::object_of)->total ==
          0);
    a.collections = {};
    CHECK(content.search(a, "*", library::object_of)->total == 0);
}

TEST_CASE("search criteria find what they say", "[library][upnp]") {
    House house;
    house.scan();
    CHECK(house.found("*") == 7);
    CHECK(house.found("dc:title contains \"FOG\"") == 2);
    CHECK(house.found("dc:title = \"lanterns\"") == 1);
    CHECK(house.found("upnp:class derivedfrom \"object.item.videoItem\"") == 5);
    CHECK(house.found("upnp:class = \"object.item.videoItem\"") == 3);
    CHECK(house.found("upnp:class derivedfrom \"object.item.audioItem\" and upnp:artist = \"Lake Trio\"") == 2);
    CHECK(house.found("(dc:title contains \"fog\" or dc:title contains \"ice\") and upnp:episodeSeason >= \"2\"") == 1);
    CHECK(house.found("dc:date exists true") == 5);
    CHECK(house.found("dc:date exists false") == 2);
    CHECK(house.found("upnp:rating exists true") == 0);
    CHECK(house.found("upnp:rating exists false") == 7);
    CHECK(house.found("dc:title doesNotContain \"e\"") == 1);
    CHECK(house.found("dc:title startsWith \"the\"") == 1);
    CHECK(house.found("res@duration > \"0:00:05\"") == 5);
    CHECK(house.found("dc:title contains \"fog\"", "episodes") == 1);
    CHECK(house.found("*", "music") == 2);
    CHECK(house.found("*", "s:Shore%20Stories") == 3);
    // Values are values, whatever is in them.
    CHECK(house.found("dc:title = \"' or 1=1 --\"") == 0);
    CHECK(house.found("dc:title = \"\\\"quoted\\\"\"") == 0);
    const library::Content content(*house.catalogue);
    for (const char* bad : {"junk", "dc:title", "dc:title contains", "dc:title contains x", "dc:title contains \"x",
                            "(dc:title contains \"x\"", "dc:title like \"x\"", "dc:title contains \"x\" and",
                            "a exists maybe", "* *", ")"}) {
        CAPTURE(bad);
        const auto result = content.search(house.asked("0"), bad, library::object_of);
        REQUIRE_FALSE(result);
        CHECK(result.error().code == 708);
    }
}

TEST_CASE("search criteria that nest or go on too far are refused", "[upnp]") {
    CHECK(upnp::parse_criteria("((dc:title contains \"x\"))"));
    CHECK_FALSE(upnp::parse_criteria(std::string(2000, '(') + "a = \"b\"" + std::string(2000, ')')));
    std::string many = "a = \"b\"";
    for (int i = 0; i < 100; ++i) many += " or a = \"b\"";
    CHECK_FALSE(upnp::parse_criteria(many));
    CHECK_FALSE(upnp::parse_criteria(std::string(5000, 'x')));
    // "and" binds more strongly than "or".
    const auto tree = upnp::parse_criteria("a = \"1\" or b = \"2\" and c = \"3\"");
    REQUIRE(tree);
    CHECK(tree->kind == upnp::Criteria::Kind::either);
    CHECK(tree->parts[1].kind == upnp::Criteria::Kind::both);
    CHECK(upnp::parse_sort("+a,-b")->size() == 2);
    CHECK_FALSE(upnp::parse_sort("a"));
}

TEST_CASE("a film's picture is taken from it, and kept", "[library]") {
    House house;
    ::setenv("XDG_CACHE_HOME", (house.folder / "cache").c_str(), 1);
    const auto poster = library::poster_of(house.folder / "films/The Fog Bell.mp4");
    REQUIRE(poster);
    const auto bytes = test::read_all(*poster);
    REQUIRE(bytes.size() > 100);
    CHECK(bytes[1] == 'P');
    CHECK((bytes[18] << 8 | bytes[19]) <= 640);  // IHDR: width
    CHECK((bytes[22] << 8 | bytes[23]) <= 360);
    CHECK(*library::poster_of(house.folder / "films/The Fog Bell.mp4") == *poster);
    CHECK_FALSE(library::poster_of(house.folder / "music/Lake Trio/Still Water/01 Reeds.wav"));
    CHECK_FALSE(library::poster_of(house.folder / "gone.mp4"));
}

TEST_CASE("changes in the folders show up by themselves", "[library][waits]") {
    House house;
    std::mutex mutex;
    std::condition_variable changed;
    std::size_t files = 0, scans = 0;
    library::Watcher::Settings settings;
    settings.collections = house.collections;
    settings.rest = base::from_seconds(0.1);
    settings.on_scan = [&](const library::ScanResult& result) {
        const std::lock_guard lock(mutex);
        files = result.files;
        ++scans;
        changed.notify_all();
    };
    const library::Watcher watcher(settings, *house.catalogue);
    const auto reaches = [&](std::size_t wanted) {
        std::unique_lock lock(mutex);
        return changed.wait_for(lock, std::chrono::seconds(15), [&] { return files == wanted; });
    };
    CHECK(reaches(8));
    house.film("films/New folder/New.mp4");
    CHECK(reaches(9));
    std::filesystem::remove(house.folder / "films/The Fog Bell.mp4");
    CHECK(reaches(8));
    CHECK(scans >= 3);
}
