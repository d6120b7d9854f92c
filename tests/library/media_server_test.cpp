#include "library/media_server.hpp"

#include <catch2/catch.hpp>

#include <condition_variable>
#include <mutex>

#include "base/byte_source.hpp"
#include "container/reader.hpp"
#include "net/http_client.hpp"
#include "support/support.hpp"
#include "upnp/didl.hpp"
#include "upnp/discovery.hpp"
#include "upnp/eventing.hpp"
#include "upnp/soap.hpp"

using namespace wavecrest;

namespace {

struct House {
    test::TempDir folder;
    std::unique_ptr<library::Catalogue> catalogue;
    std::unique_ptr<library::MediaServer> media;
    std::unique_ptr<net::HttpServer> server;

    explicit House(const std::vector<std::string>& from = {}, std::set<std::string> addresses = {}) {
        std::filesystem::create_directories(folder / "films");
        std::filesystem::copy_file(test::sample_film(), folder / "films/Lanterns (2019).mp4");
        std::filesystem::copy_file(test::sample_film(), folder / "films/Lanterns (2019) - tablet.mp4");
        test::write_all(folder / "films/Lanterns (2019).srt", std::string("1\n00:00:01,000 --> 00:00:02,000\nHello\n"));
        test::write_all(folder / "films/Lanterns (2019).jpg", std::string("\xFF\xD8 a picture"));
        std::filesystem::create_directories(folder / "private");
        std::filesystem::copy_file(test::sample_film(), folder / "private/Secret.mp4");
        catalogue = std::move(*library::Catalogue::open(folder / "library.db"));
        const std::vector<library::Collection> collections = {{"Films", folder / "films"},
                                                              {"Private", folder / "private"}};
        const Cancel cancel;
        REQUIRE(catalogue->scan(collections, 1, cancel));
        library::MediaServerSettings settings;
        settings.name = "Cedar Landing";
        settings.identity = folder.path().string();
        settings.collections = {{collections[0], *net::Networks::parse(from), std::move(addresses)},
                                {collections[1], *net::Networks::parse({"192.0.2.0/24"}), {}}};
        media = std::make_unique<library::MediaServer>(std::move(settings), *catalogue);
        net::HttpServerSettings http;
        http.port = 0;
        http.answer = [this](const net::HttpRequest& request) { return media->answer(request); };
        server = std::move(*net::HttpServer::start(std::move(http)));
    }
    std::string at(const std::string& path) const { return fmt::format("http://127.0.0.1:{}{}", server->port(), path); }
    int status(const std::string& path, const std::string& method = "GET") const {
        net::HttpExchange request;
        request.method = method;
        return net::HttpClient::exchange(*net::parse_url(at(path)), request)->status;
    }
    Result<upnp::Arguments> browse(const std::string& object, const std::string& flag = "BrowseDirectChildren") const {
        return upnp::call(at("/library/upnp/ContentDirectory/control"),
                          {"urn:schemas-upnp-org:service:ContentDirectory:1",
                           "Browse",
                           {{"ObjectID", object},
                            {"BrowseFlag", flag},
                            {"Filter", "*"},
                            {"StartingIndex", "0"},
                            {"RequestedCount", "0"},
                            {"SortCriteria", ""}}});
    }
};

}  // namespace

TEST_CASE("a film of the library is to be had in all its forms", "[library]") {
    const House house;
    const auto found = upnp::ask_device(house.at("/library/upnp/device.xml"));
    REQUIRE(found);
    CHECK(found->kind == upnp::FoundDevice::Kind::server);
    CHECK(found->description.name == "Cedar Landing");
    const auto films = house.browse("films");
    REQUIRE(films);
    CHECK(upnp::value_of(*films, "TotalMatches") == "1");
    const auto objects = upnp::parse_didl(upnp::value_of(*films, "Result"));
    REQUIRE(objects);
    REQUIRE(objects->size() == 1);
    const upnp::Object& film = objects->front();
    CHECK(film.title == "Lanterns");
    REQUIRE(film.resources.size() == 3);  // the file, its small copy, HLS
    CHECK(film.resources[0].protocol_info.starts_with("http-get:*:video/mp4:"));
    CHECK(film.resources[0].size == std::filesystem::file_size(test::sample_film()));
    CHECK(film.resources[2].protocol_info.find("mpegurl") != std::string::npos);
    const auto fetch = [](const std::string& address) {
        return *net::HttpClient::exchange(*net::parse_url(address), net::HttpExchange{});
    };
    const auto whole = fetch(film.resources[0].address);
    CHECK(whole.status == 200);
    CHECK(whole.media_type == "video/mp4");
    CHECK(whole.body.size() == film.resources[0].size);
    CHECK(whole.field("contentFeatures.dlna.org").starts_with("DLNA.ORG_OP=11"));
    CHECK(fetch(film.resources[1].address).status == 200);
    const auto list = fetch(film.resources[2].address);
    CHECK(list.body.starts_with("#EXTM3U"));
    CHECK(list.body.find("hls-0.ts") != std::string::npos);
    const auto segment = fetch(net::resolve_uri(film.resources[2].address, "hls-0.ts"));
    CHECK(segment.status == 200);
    CHECK(segment.body.at(0) == 0x47);
    CHECK(fetch(net::resolve_uri(film.resources[2].address, "hls-999.ts")).status == 404);
    CHECK(fetch(film.subtitles).body.find("Hello") != std::string::npos);
    CHECK(fetch(film.picture).media_type == "image/jpeg");
}

TEST_CASE("nothing else is served, and to nobody else", "[library]") {
    const House house;
    CHECK(house.status("/library/i/1/media.mp4") == 200);
    for (const char* path :
         {"/library", "/library/", "/library/i/", "/library/i/1", "/library/i/1/", "/library/i/1/media.mkv",
          "/library/i/1/../2/media.mp4", "/library/i/99/media.mp4", "/library/i/-1/media.mp4",
          "/library/i/1x/media.mp4", "/library/i/1/hls-x", "/library/i/1/subtitles.vtt",
          "/library/i/99999999999999999999/media.mp4", "/library/upnp/x"}) {
        CAPTURE(path);
        CHECK(house.status(path) == 404);
    }
    CHECK(house.status("/library/i/1/media.mp4", "POST") == 405);
    // The private one is another network's.
    const auto secret = house.catalogue->items({"title = 'Secret'", {}, "id"}, 0, 1);
    REQUIRE(secret.size() == 1);
    CHECK(house.status(fmt::format("/library/i/{}/media.mp4", secret[0].id)) == 404);
    CHECK_FALSE(house.browse(fmt::format("i{}", secret[0].id), "BrowseMetadata"));
    // A file that was replaced by a link out of the folder meanwhile.
    std::filesystem::remove(house.folder / "films/Lanterns (2019) - tablet.mp4");
    std::filesystem::create_symlink(house.folder / "private/Secret.mp4",
                                    house.folder / "films/Lanterns (2019) - tablet.mp4");
    const auto copy = house.catalogue->items({"small_of > 0", {}, "id"}, 0, 1);
    REQUIRE(copy.size() == 1);
    CHECK(house.status(fmt::format("/library/i/{}/media.mp4", copy[0].id)) == 404);
    // By a name of somebody else's that points here.
    net::HttpExchange evil;
    const std::string asked =
        test::raw_exchange(house.server->port(),
                           "GET /library/upnp/device.xml HTTP/1.1\r\nHost: evil.example\r\nConnection: close\r\n\r\n");
    CHECK(asked.starts_with("HTTP/1.1 403"));

    const House elsewhere({"192.0.2.0/24"});
    CHECK(elsewhere.status("/library/upnp/device.xml") == 403);
    const House device({}, {"192.0.2.7"});
    CHECK(device.status("/library/upnp/device.xml") == 403);
    const House mine({}, {"127.0.0.1"});
    CHECK(mine.status("/library/upnp/device.xml") == 200);
}

TEST_CASE("a recording is given from a time on, and other files aren't", "[library]") {
    const House house;
    const auto ran = test::run_program(
        {"convert", test::sample_film().string(), "--remux", "mpeg-ts", "--into", "films", "--name", "Tape"},
        house.folder.path());
    REQUIRE(ran.status == 0);
    const Cancel cancel;
    REQUIRE(
        house.catalogue->scan({{"Films", house.folder / "films"}, {"Private", house.folder / "private"}}, 2, cancel));
    const auto tape = house.catalogue->items({"title = 'Tape'", {}, "id"}, 0, 1);
    REQUIRE(tape.size() == 1);
    const auto fetch = [&](std::int64_t id, const std::string& name, const std::string& range) {
        net::HttpExchange request;
        request.fields = {{"TimeSeekRange.dlna.org", range}};
        return *net::HttpClient::exchange(*net::parse_url(house.at(fmt::format("/library/i/{}/{}", id, name))),
                                          request);
    };
    const auto half = fetch(tape[0].id, "media.ts", "npt=6.0-");
    CHECK(half.status == 200);
    const std::string said = half.field("TimeSeekRange.dlna.org");
    CAPTURE(said);
    CHECK(said.starts_with("npt="));
    CHECK(said.find(fmt::format("/{}", tape[0].size)) != std::string::npos);
    CHECK(half.body.size() < tape[0].size * 3 / 4);
    CHECK(half.body.at(0) == 0x47);
    CHECK(half.body.size() % 188 == 0);
    CHECK(fetch(tape[0].id, "media.ts", "npt=0:00:06.5-0:00:08").status == 200);
    for (const char* wrong : {"npt=600-", "npt=-5", "npt=x-", "bytes=1-2", "npt=", "npt=nan-"}) {
        CAPTURE(wrong);
        CHECK(fetch(tape[0].id, "media.ts", wrong).status == 416);
    }
    // An MP4 gets an index of what is left.
    const auto film = house.catalogue->items({"title = 'Lanterns'", {}, "id"}, 0, 1);
    REQUIRE(film.size() == 1);
    const auto rest = fetch(film[0].id, "media.mp4", "npt=7-");
    CHECK(rest.status == 200);
    CHECK(rest.field("TimeSeekRange.dlna.org").starts_with("npt="));
    CHECK(rest.field("TimeSeekRange.dlna.org").find("bytes") == std::string::npos);
    CHECK(rest.body.size() < film[0].size * 3 / 4);
    const ByteVector bytes(rest.body.begin(), rest.body.end());
    auto media = container::open_media(std::make_shared<base::MemorySource>(bytes, "rest.mp4"));
    REQUIRE(media);
    CHECK(media->problems.empty());
    CHECK(base::to_seconds(media->source->duration()) < base::to_seconds(film[0].duration) - 3);
    // What devices are told beforehand says so.
    const auto films = house.browse(fmt::format("i{}", tape[0].id), "BrowseMetadata");
    REQUIRE(films);
    CHECK(upnp::value_of(*films, "Result").find("video/mp2t:DLNA.ORG_OP=11") != std::string::npos);
}

TEST_CASE("who subscribed to the library is told when files come", "[library][waits]") {
    const House house;
    const auto found = upnp::ask_device(house.at("/library/upnp/device.xml"));
    REQUIRE(found);
    const auto* service = found->description.service(upnp::kContentDirectory);
    REQUIRE(service != nullptr);
    std::mutex mutex;
    std::condition_variable changed;
    std::string update;
    const auto listener = upnp::EventListener::start([&](const std::string&, const upnp::Arguments& properties) {
        const std::lock_guard lock(mutex);
        update = upnp::value_of(properties, "SystemUpdateID");
        changed.notify_all();
    });
    REQUIRE(listener);
    REQUIRE((*listener)->subscribe(*service, "127.0.0.1"));
    const auto reaches = [&](const std::string& wanted) {
        std::unique_lock lock(mutex);
        return changed.wait_for(lock, std::chrono::seconds(15), [&] { return update == wanted; });
    };
    CHECK(reaches(fmt::format("{}", house.catalogue->update_id())));
    std::filesystem::copy_file(test::sample_film(), house.folder / "films/New (2024).mp4");
    const Cancel cancel;
    REQUIRE(house.catalogue->scan({{"Films", house.folder / "films"}, {"Private", house.folder / "private"}}, 2, cancel)
                ->any());
    house.media->changed();
    CHECK(reaches(fmt::format("{}", house.catalogue->update_id())));
}
