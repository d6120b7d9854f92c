// stream run, verify, site and report: over real sockets, as in a house.
#include <signal.h>
#include <catch2/catch.hpp>
#include <nlohmann/json.hpp>

#include <algorithm>
#include <chrono>
#include <fstream>
#include <numeric>
#include <sstream>
#include <thread>

#include "support/browser.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
using Json = nlohmann::json;

namespace {

// A house with its film, on a free port of this machine's loopback.
struct House {
    TempDir dir;
    std::uint16_t port = free_port();

    explicit House(const std::string& more = "", const std::string& tablet_link = "500 kbit/s") {
        std::filesystem::create_directories(dir / "library");
        std::filesystem::create_hard_link(sample_film(), dir / "library/film.mp4");
        write_all(dir / "site.toml",
                  "[site]\nname = \"Cedar Landing\"\n[server]\nport = " + std::to_string(port) +
                      "\nlisten = \"127.0.0.1\"\n[[device]]\nname = \"Lounge TV\"\nclass = \"tv-hd\"\n[[device]]\nname "
                      "= \"Tablet\"\nclass = \"tablet-basic\"\nlink = \"" +
                      tablet_link + "\"\n[[stream]]\nname = \"Film\"\nfile = \"library/film.mp4\"\n" + more);
    }
    Ran run(const std::vector<std::string>& arguments) const { return run_program(arguments, dir.path()); }
};

Json check_named(const Json& result, const std::string& name) {
    for (const Json& check : result["checks"]) {
        if (check["name"] == name) return check;
    }
    FAIL("there is no check " << name);
    return {};
}

}  // namespace

TEST_CASE("stream run prints the address for each device and serves it", "[cli][stream]") {
    const House house;
    Background server({"stream", "run", "--site", "site.toml"}, house.dir.path());
    REQUIRE(wait_for_port(house.port));
    const std::string address = "http://127.0.0.1:" + std::to_string(house.port) + "/film.mp4";
    // It listens a moment before it prints.
    CHECK(server.has_written("Lounge TV  " + address));
    CHECK(server.has_written("Tablet     " + address));
    const std::string response =
        raw_exchange(house.port, "GET /film.mp4 HTTP/1.1\r\nHost: x\r\nRange: bytes=0-99\r\nConnection: close\r\n\r\n");
    CHECK(response.starts_with("HTTP/1.1 206"));
    CHECK(response.find("Content-Type: video/mp4") != std::string::npos);
    CHECK(raw_exchange(house.port, "GET /site.toml HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n")
              .starts_with("HTTP/1.1 404"));
    // Ctrl-C: a clean end within two seconds, with a summary.
    const auto before = std::chrono::steady_clock::now();
    CHECK(server.end(SIGINT) == 0);
    CHECK(std::chrono::steady_clock::now() - before < std::chrono::seconds(2));
}

TEST_CASE("stream run ends by itself after --for, and says what it did", "[cli][stream]") {
    const House house;
    const Ran ran = house.run({"stream", "run", "--site", "site.toml", "--for", "300 ms", "--json"});
    CHECK(ran.status == 0);
    const Json json = json_of(ran);
    CHECK(json["streams"][0]["path"] == "/film.mp4");
    CHECK(json["sent_bytes"] == 0);
    const Ran wrong = house.run({"stream", "run", "--site", "site.toml", "--for", "ever"});
    CHECK(wrong.status == 2);
}

TEST_CASE("a port that is taken ends with status 4, naming who holds it", "[cli][stream]") {
    const House house;
    const Background first({"stream", "run", "--site", "site.toml", "-q"}, house.dir.path());
    REQUIRE(wait_for_port(house.port));
    const Ran second = house.run({"stream", "run", "--site", "site.toml", "--for", "1 s"});
    CHECK(second.status == 4);
    INFO(second.err);
    CHECK(second.err.find("the port is in use by the process \"wavecrest\" (PID " + std::to_string(first.worker()) +
                          ")") != std::string::npos);
    CHECK(second.err.find("  to do:  ") != std::string::npos);
}

TEST_CASE("streams that can't be served are refused before anything listens", "[cli][stream]") {
    const House missing("[[stream]]\nname = \"Gone\"\nfile = \"library/gone.mp4\"\n");
    const Ran gone = missing.run({"stream", "run", "--site", "site.toml", "--for", "5 s"});
    CHECK(gone.status == 3);
    CHECK(gone.err.find("gone.mp4") != std::string::npos);
    const House twice("[[stream]]\nname = \"Again\"\nfile = \"library/film.mp4\"\npath = \"/film.mp4\"\n");
    const Ran same = twice.run({"stream", "run", "--site", "site.toml", "--for", "5 s"});
    CHECK(same.status == 2);
    CHECK(same.err.find("the same path") != std::string::npos);
    const Ran rip = twice.run({"stream", "run", sample_disc().string(), "--delivery", "file", "--for", "5 s"});
    CHECK(rip.status == 3);
    CHECK(rip.err.find("convert it first") != std::string::npos);
    CHECK(twice.run({"stream", "run"}).status == 2);
    write_all(twice.dir / "bad.toml", std::string("[house\n"));
    const Ran bad = twice.run({"stream", "run", "--site", "bad.toml"});
    CHECK(bad.status == 2);
    CHECK(bad.err.find("bad.toml, line 1") != std::string::npos);
}

TEST_CASE("verify: one device passes, one is short of network, with figures", "[cli][verify]") {
    const House house;
    const Background server({"stream", "run", "--site", "site.toml", "-q"}, house.dir.path());
    REQUIRE(wait_for_port(house.port));
    const Ran ran = house.run({"verify", "--site", "site.toml", "--out", "results", "--json"});
    CHECK(ran.status == 1);
    const Json json = json_of(ran);
    REQUIRE(json["results"].size() == 2);
    const Json& tv = json["results"][0];
    CHECK(tv["device"] == "Lounge TV");
    CHECK(tv["verdict"] == "pass");
    CHECK(tv["cause"] == "none");
    CHECK(tv["stalls"].empty());
    CHECK(tv["startup_s"].get<double>() < 1);
    REQUIRE(tv["seeks"].size() == 3);
    for (const Json& skip : tv["seeks"]) {
        CHECK(skip["landed_s"].get<double>() <= skip["to_s"].get<double>());
        CHECK(skip["first_picture_s"].get<double>() < 1);
    }
    const Json& tablet = json["results"][1];
    CHECK(tablet["verdict"] == "fail");
    CHECK(tablet["cause"] == "network");
    REQUIRE_FALSE(tablet["stalls"].empty());
    CHECK(tablet["remedy"].get<std::string>().find("500 kbit/s") == std::string::npos);
    CHECK(check_named(tablet, "stalls")["verdict"] == "fail");
    CHECK(check_named(tablet, "level")["verdict"] == "pass");
    // What the link lacks, in time: start, film and stalls together take at least bytes over rate.
    double time = tablet["startup_s"].get<double>() + 12.012;
    for (const Json& stall : tablet["stalls"]) time += stall["for_s"].get<double>();
    const double needed = static_cast<double>(std::filesystem::file_size(sample_film())) * 8 / 500'000;
    CHECK(time > needed - 2);
    CHECK(time < needed + 3);
    for (const char* name : {"verify.json", "verify-film-lounge-tv.png", "verify-film-lounge-tv.csv",
                             "verify-film-tablet.png", "verify-film-tablet.csv"}) {
        INFO(name);
        CHECK(std::filesystem::file_size(house.dir / "results" / name) > 200);
    }
    // For people: verdict, cause and what to do.
    const Ran text = house.run({"verify", "--site", "site.toml", "--device", "Tablet", "-q"});
    CHECK(text.out.find("cause: network") != std::string::npos);
    CHECK(text.out.find("to do:  ") != std::string::npos);
}

TEST_CASE("verify says which of a stream's addresses to enter on each device", "[cli][verify]") {
    const House house("delivery = [\"file\", \"hls\"]\n");
    const Background server({"stream", "run", "--site", "site.toml", "-q"}, house.dir.path());
    REQUIRE(wait_for_port(house.port));
    const Ran ran = house.run({"verify", "--site", "site.toml", "--out", "results"});
    CHECK(ran.status == 1);
    CHECK(ran.out.find("Film on Lounge TV: http://127.0.0.1:") != std::string::npos);
    CHECK(ran.out.find("Film on Tablet: none, ") != std::string::npos);
    const Json best = Json::parse(read_text(house.dir / "results" / "verify.json"))["best_deliveries"];
    REQUIRE(best.size() == 2);
    CHECK(best[0]["device"] == "Lounge TV");
    CHECK(best[0]["url"].get<std::string>().find("/film.m") != std::string::npos);
    CHECK_FALSE(best[0]["why"].get<std::string>().empty());
    CHECK(best[1]["url"] == "");
    CHECK(best[1]["why"].get<std::string>().find("500 kbit/s") != std::string::npos);
}

TEST_CASE("the address to enter is told without its key, which stands in no result", "[cli][verify]") {
    const House house("delivery = [\"file\", \"hls\"]\nkey = \"lakeside-reeds\"\n", "20 Mbit/s");
    const Background server({"stream", "run", "--site", "site.toml", "-q"}, house.dir.path());
    REQUIRE(wait_for_port(house.port));
    const Ran ran = house.run({"verify", "--site", "site.toml", "--out", "results"});
    CHECK(ran.status == 0);
    CHECK(ran.out.find("wavecrest site show adds the key") != std::string::npos);
    CHECK(ran.out.find("lakeside-reeds") == std::string::npos);
    const std::string kept = read_text(house.dir / "results" / "verify.json");
    CHECK(kept.find("best_deliveries") != std::string::npos);
    CHECK(kept.find("lakeside-reeds") == std::string::npos);
    CHECK(house.run({"site", "show", "site.toml"}).out.find("lakeside-reeds") != std::string::npos);
}

TEST_CASE("verify measures the file's own rate", "[cli][verify]") {
    const House house;
    const Background server({"stream", "run", "--site", "site.toml", "-q"}, house.dir.path());
    REQUIRE(wait_for_port(house.port));
    const Json verified =
        json_of(house.run({"verify", "--site", "site.toml", "--device", "Lounge TV", "--json"}))["results"][0];
    const Json inspected = json_of(house.run({"inspect", "library/film.mp4", "--json"}));
    CHECK(verified["bitrate"]["mean_bps"] == inspected["bitrate_bps"]);
    CHECK(verified["bitrate"]["peak_1s_bps"] == inspected["peak_1s_bps"]);
}

TEST_CASE("waiting for the link really takes its time with --real-time", "[cli][verify][waits]") {
    const House house("", "8 Mbit/s");
    const Background server({"stream", "run", "--site", "site.toml", "-q"}, house.dir.path());
    REQUIRE(wait_for_port(house.port));
    const auto timed = [&](std::vector<std::string> more) {
        std::vector<std::string> words = {"verify", "--site", "site.toml", "--device", "Tablet", "--json"};
        words.insert(words.end(), more.begin(), more.end());
        const auto before = std::chrono::steady_clock::now();
        CHECK(house.run(words).status == 0);
        return std::chrono::duration<double>(std::chrono::steady_clock::now() - before).count();
    };
    // The tablet reads ten seconds ahead of a twelve-second film: it is done when two have been shown.
    const double real = timed({"--real-time"});
    CHECK(real > 1.5);
    CHECK(timed({}) < real);
}

TEST_CASE("verify names what a device lacks", "[cli][verify]") {
    const House house("[[device]]\nname = \"Old box\"\nclass = \"player-sd\"\n");
    const Background server({"stream", "run", "--site", "site.toml", "-q"}, house.dir.path());
    REQUIRE(wait_for_port(house.port));
    const Ran ran = house.run({"verify", "--site", "site.toml", "--device", "Old box", "--json"});
    CHECK(ran.status == 1);
    const Json result = json_of(ran)["results"][0];
    CHECK(result["cause"] == "device");
    CHECK(check_named(result, "video size")["verdict"] == "fail");
    CHECK(check_named(result, "codec profile")["verdict"] == "fail");
    CHECK(check_named(result, "stalls")["verdict"] == "pass");
    CHECK_FALSE(result["remedy"].get<std::string>().empty());
}

TEST_CASE("a stream that can't be reached is a failed verdict with status 1", "[cli][verify]") {
    const House house;
    const Ran ran = house.run({"verify", "--site", "site.toml", "--json"});
    CHECK(ran.status == 1);
    const Json result = json_of(ran)["results"][0];
    CHECK(result["verdict"] == "fail");
    CHECK(result["startup_s"].is_null());
    CHECK(check_named(result, "reachable")["verdict"] == "fail");
    CHECK(result["remedy"].get<std::string>().find("stream run") != std::string::npos);
    // Wrong path, wrong address, no device.
    const Background server({"stream", "run", "--site", "site.toml", "-q"}, house.dir.path());
    REQUIRE(wait_for_port(house.port));
    const std::string host = "http://127.0.0.1:" + std::to_string(house.port);
    const Ran path = house.run({"verify", host + "/elsewhere.mp4", "--device", "tv-hd"});
    CHECK(path.status == 1);
    CHECK(path.out.find("no stream at this path") != std::string::npos);
    CHECK(house.run({"verify", "film.mp4", "--device", "tv-hd"}).status == 2);
    CHECK(house.run({"verify", host + "/film.mp4"}).status == 2);
    CHECK(house.run({"verify", host + "/film.mp4", "--device", "tv-hd", "--link", "fast"}).status == 2);
    CHECK(house.run({"verify", host + "/film.mp4", "--device", "tv-hd", "--link", "fast-ethernet", "-q"}).status == 0);
    CHECK(house.run({"verify", "--site", "site.toml", "--device", "Tablett"}).status == 2);
}

TEST_CASE("a file cut short is found by verifying", "[cli][verify]") {
    const House house;
    const ByteVector film = read_all(sample_film());
    std::filesystem::remove(house.dir / "library/film.mp4");
    write_all(house.dir / "library/film.mp4", ByteSpan(film).first(film.size() * 2 / 3));
    const Background server({"stream", "run", "--site", "site.toml", "-q"}, house.dir.path());
    REQUIRE(wait_for_port(house.port));
    const Ran ran = house.run({"verify", "--site", "site.toml", "--device", "Lounge TV", "--json"});
    CHECK(ran.status == 1);
    const Json result = json_of(ran)["results"][0];
    CHECK(check_named(result, "complete")["verdict"] == "fail");
    CHECK(check_named(result, "seeking")["verdict"] == "fail");  // to where nothing is any more
    CHECK(result["cause"] == "file");
}

TEST_CASE("site new, check and show", "[cli][site]") {
    const House house;
    const Ran made = house.run({"site", "new", "mine.toml", "--name", "Boathouse", "--port", std::to_string(house.port),
                                "--device", "Lounge TV,tv-hd,gigabit", "--stream", "Film,library/film.mp4"});
    CHECK(made.status == 0);
    CHECK(made.out.find("1 device, 1 stream") != std::string::npos);
    CHECK(house.run({"site", "check", "mine.toml"}).status == 0);
    const Json shown = json_of(house.run({"site", "show", "mine.toml", "--json"}));
    CHECK(shown["addresses"][0]["device"] == "Lounge TV");
    CHECK(shown["addresses"][0]["url"].get<std::string>().ends_with(":" + std::to_string(house.port) + "/film.mp4"));
    CHECK(house.run({"site", "new", "mine.toml"}).status == 4);  // never overwritten
    CHECK(house.run({"site", "new", "other.toml", "--device", "TV,no-such-class,gigabit"}).status == 2);
    CHECK_FALSE(std::filesystem::exists(house.dir / "other.toml"));
    write_all(house.dir / "bad.toml", std::string("[site]\nname = \"x\"\nrooms = 3\n"));
    const Ran bad = house.run({"site", "check", "bad.toml"});
    CHECK(bad.status == 1);
    CHECK(bad.err.find("bad.toml, line 3") != std::string::npos);
    CHECK(house.run({"site", "check", "none.toml"}).status == 3);
    const Background server({"stream", "run", "--site", "site.toml", "-q"}, house.dir.path());
    REQUIRE(wait_for_port(house.port));
    const Ran taken = house.run({"site", "check", "mine.toml", "--json"});
    CHECK(taken.status == 1);
    CHECK(json_of(taken)["findings"][0]["what"].get<std::string>().find("in use by the process") != std::string::npos);
}

TEST_CASE("the report holds the house, the verdicts and the figures in one file", "[cli][report]") {
    const House house;
    const Background server({"stream", "run", "--site", "site.toml", "-q"}, house.dir.path());
    REQUIRE(wait_for_port(house.port));
    REQUIRE(house.run({"inspect", sample_disc().string(), "--out", "results"}).status == 0);
    REQUIRE(house.run({"verify", "--site", "site.toml", "--out", "results", "-q"}).status == 1);
    const Ran ran = house.run({"report", "--site", "site.toml"});
    CHECK(ran.status == 0);
    CHECK(ran.out == "report/index.html\n");
    CHECK(ran.err.find("no conversion was made") != std::string::npos);
    const ByteVector bytes = read_all(house.dir / "report/index.html");
    const std::string page(bytes.begin(), bytes.end());
    for (const char* expected : {"Cedar Landing", "/film.mp4", "1 of 2 tests passed", "Sample Film (2020)",
                                 "Cause: network", "data:image/png;base64,iVBOR"}) {
        INFO(expected);
        CHECK(page.find(expected) != std::string::npos);
    }
    CHECK(page.find("{{") == std::string::npos);
    CHECK(page.find(" src=\"http") == std::string::npos);
    CHECK(page.find("<script") == std::string::npos);
    // A verdict of a device that the site no longer has is marked, and doesn't count.
    const ByteVector results = read_all(house.dir / "results/verify.json");
    std::string renamed(results.begin(), results.end());
    const std::string mark = "\"device\": \"";
    const std::size_t at = renamed.find(mark);
    REQUIRE(at != std::string::npos);
    renamed.insert(at + mark.size(), "Old ");
    write_all(house.dir / "results/verify.json", renamed);
    const Ran later = house.run({"report", "--site", "site.toml"});
    CHECK(later.err.find("no longer in the site file") != std::string::npos);
    const ByteVector marked = read_all(house.dir / "report/index.html");
    CHECK(std::string(marked.begin(), marked.end()).find("no longer valid: the device") != std::string::npos);
    write_all(house.dir / "results/verify.json", results);
    REQUIRE(house.run({"report", "--site", "site.toml"}).status == 0);
    // A damaged result is refused by name, and the old page stays.
    write_all(house.dir / "results/verify.json", std::string("{ not json"));
    const Ran damaged = house.run({"report", "--site", "site.toml"});
    CHECK(damaged.status == 3);
    CHECK(damaged.err.find("verify.json") != std::string::npos);
    CHECK(read_all(house.dir / "report/index.html") == bytes);
}

TEST_CASE("names of the house are text in the page, never markup", "[cli][report]") {
    const House house;
    write_all(house.dir / "site.toml", std::string("[site]\nname = \"<script>alert(1)</script> & Sons\"\n"));
    REQUIRE(house.run({"report", "--site", "site.toml"}).status == 0);
    const ByteVector bytes = read_all(house.dir / "report/index.html");
    const std::string page(bytes.begin(), bytes.end());
    CHECK(page.find("<script>alert") == std::string::npos);
    CHECK(page.find("&lt;script&gt;") != std::string::npos);
}

TEST_CASE("the report opens in a browser with all its pictures", "[cli][report][browser]") {
    if (!has_browser()) {
        WARN("Chromium is not installed: this test did nothing");
        return;
    }
    const House house;
    {
        const Background server({"stream", "run", "--site", "site.toml", "-q"}, house.dir.path());
        REQUIRE(wait_for_port(house.port));
        REQUIRE(house.run({"verify", "--site", "site.toml", "--out", "results", "-q"}).status == 1);
    }
    REQUIRE(house.run({"report", "--site", "site.toml"}).status == 0);
    const ByteVector bytes = read_all(house.dir / "report/index.html");
    std::string page(bytes.begin(), bytes.end());
    const std::string probe =
        "<script>window.onload = () => fetch('/result', {method: 'POST', body: JSON.stringify({"
        "images: [...document.images].map(i => i.naturalWidth), wide: document.documentElement.scrollWidth > "
        "innerWidth, "
        "title: document.title})})</script></body>";
    page.replace(page.find("</body>"), 7, probe);
    const Json result = Json::parse(run_page(page, 60), nullptr, false);
    REQUIRE(result.is_object());
    CHECK(result["images"] == Json::array({1280, 1280}));
    CHECK(result["wide"] == false);
    CHECK(result["title"].get<std::string>().find("Cedar Landing") == 0);
}

TEST_CASE("a port that is taken between the check and the run is said, and nothing else begins", "[cli][stream]") {
    const House house("delivery = [\"file\", \"rtmp\"]\n");
    const Ran checked = house.run({"site", "check", "site.toml"});
    INFO(checked.out);
    CHECK(checked.out.find("in use") == std::string::npos);
    const Background intruder({"stream", "run", "library/film.mp4", "--address", "127.0.0.1", "--port",
                               std::to_string(house.port), "--delivery", "file"},
                              house.dir.path());
    REQUIRE(wait_for_port(house.port));
    const Ran ran = house.run({"stream", "run", "--site", "site.toml", "--for", "5 s"});
    CHECK(ran.status == 4);
    CHECK(ran.err.find(std::to_string(intruder.worker())) != std::string::npos);
    CHECK(house.run({"site", "check", "site.toml"}).out.find(std::to_string(intruder.worker())) != std::string::npos);
}

TEST_CASE("films of other formats are verified as MP4 is", "[cli][verify]") {
    const House house;
    for (const char* format : {"matroska", "mpeg-ts", "flv"})
        REQUIRE(house.run({"convert", "library/film.mp4", "--remux", format, "--into", "made", "-q"}).status == 0);
    std::vector<std::string> made;
    for (const auto& one : std::filesystem::recursive_directory_iterator(house.dir / "made")) {
        if (one.is_regular_file()) made.push_back(one.path().string());
    }
    REQUIRE(made.size() == 3);
    double mean = 0;
    for (const std::string& file : made) {
        INFO(file);
        const Background server({"stream", "run", file, "--address", "127.0.0.1", "--port", std::to_string(house.port),
                                 "--name", "film", "-q"},
                                house.dir.path());
        REQUIRE(wait_for_port(house.port));
        const std::string address =
            "http://127.0.0.1:" + std::to_string(house.port) + "/film" + base::Path(file).extension().string();
        const Json fine = json_of(house.run({"verify", address, "--device", "player-full", "--json"}))["results"][0];
        CHECK(fine["verdict"] == "pass");
        CHECK(fine["seeks"].size() == 3);
        CHECK(fine["duration_s"].get<double>() == Approx(12).margin(0.2));
        // The same film: packing differs by a few in a hundred.
        if (mean == 0) mean = fine["bitrate"]["mean_bps"].get<double>();
        CHECK(fine["bitrate"]["mean_bps"].get<double>() == Approx(mean).epsilon(0.12));
        const Json slow = json_of(
            house.run({"verify", address, "--device", "player-full", "--link", "500 kbit/s", "--json"}))["results"][0];
        CHECK(slow["verdict"] == "fail");
        CHECK(slow["cause"] == "network");
        CHECK_FALSE(slow["stalls"].empty());
    }
}

TEST_CASE("the rate measured over a full link is the link's, within one in a hundred", "[cli][verify][waits]") {
    const House house;
    const Background server({"stream", "run", "--site", "site.toml", "-q"}, house.dir.path());
    REQUIRE(wait_for_port(house.port));
    for (const double link : {400e3, 900e3}) {
        const Ran ran = house.run({"verify", "http://127.0.0.1:" + std::to_string(house.port) + "/film.mp4", "--device",
                                   "player-full", "--link", std::to_string(static_cast<int>(link / 1000)) + " kbit/s",
                                   "--out", "results", "--json"});
        const Json result = json_of(ran)["results"][0];
        CHECK(result["cause"] == "network");
        for (const auto& one : std::filesystem::directory_iterator(house.dir / "results")) {
            if (one.path().extension() != ".csv") continue;
            // Bytes of the HTTP body received in each second while the link is full: the second column from the left.
            const ByteVector bytes = read_all(one.path());
            std::istringstream lines(std::string(bytes.begin(), bytes.end()));
            std::string line;
            std::getline(lines, line);
            std::vector<double> seconds;
            while (std::getline(lines, line)) {
                const std::size_t from = line.find(',', line.find(',') + 1) + 1;
                seconds.push_back(std::stod(line.substr(from)));
            }
            REQUIRE(seconds.size() > 8);
            // The median of five seconds at a time: a moment in which this machine had no processor for the player is
            // the server's slowness, not the link's.
            std::vector<double> means;
            for (std::size_t i = 1; i + 5 < seconds.size(); ++i)
                means.push_back(std::accumulate(seconds.begin() + static_cast<std::ptrdiff_t>(i),
                                                seconds.begin() + static_cast<std::ptrdiff_t>(i + 5), 0.0) /
                                5);
            std::nth_element(means.begin(), means.begin() + static_cast<std::ptrdiff_t>(means.size() / 2), means.end());
            CHECK(means[means.size() / 2] == Approx(link).epsilon(0.01));
        }
        std::filesystem::remove_all(house.dir / "results");
    }
}

TEST_CASE("a conversion leaves the processor to streams", "[cli]") {
    const TempDir dir;
    const Background convert({"convert", sample_disc().string(), "--into", "out"}, dir.path());
    int nice = 0;
    for (int i = 0; i < 200 && nice == 0; ++i) {
        std::ifstream stat("/proc/" + std::to_string(convert.pid()) + "/stat");
        std::string text((std::istreambuf_iterator<char>(stat)), std::istreambuf_iterator<char>());
        // proc(5): the 19th field; the second, the program's name, may hold blanks.
        std::istringstream rest(text.substr(std::min(text.rfind(')') + 1, text.size())));
        std::string field;
        for (int k = 3; k <= 19; ++k) rest >> field;
        nice = field.empty() ? 0 : std::atoi(field.c_str());
        std::this_thread::sleep_for(std::chrono::milliseconds(10));
    }
    CHECK(nice >= 10);
}

TEST_CASE("a link is judged by the slowest one that would do, and HLS plays by whole segments", "[cli][verify]") {
    const TempDir dir;
    const std::uint16_t port = free_port();
    const Background server({"stream", "run", sample_film().string(), "--name", "Film", "--port", std::to_string(port),
                             "--delivery", "file,hls", "-q"},
                            dir.path());
    REQUIRE(wait_for_port(port));
    const auto verify = [&](const std::string& path, const std::string& device, const std::string& link) {
        const Ran ran = run_program({"verify", "http://127.0.0.1:" + std::to_string(port) + path, "--device", device,
                                     "--link", link, "--json", "-q"},
                                    dir.path());
        INFO(ran.err);
        return json_of(ran)["results"][0];
    };
    for (const std::string path : {"/film.mp4", "/film.m3u8"}) {
        INFO(path);
        const Json wide = verify(path, "browser-chromium", "gigabit");
        CHECK(wide["grounds"] == "computed");
        const double slowest = wide["slowest_link_bps"];
        CHECK(wide["headroom"].get<double>() == Approx(941e6 / slowest).epsilon(0.01));
        // A little less stalls, a little more is near, and a quarter more is enough.
        const auto at = [&](double part) {
            return verify(path, "browser-chromium",
                          std::to_string(static_cast<int>(slowest * part / 1000)) + " kbit/s");
        };
        const Json less = at(0.9), near = at(1.1), enough = at(1.4);
        CHECK(less["verdict"] == "fail");
        CHECK_FALSE(less["stalls"].empty());
        CHECK(near["stalls"].empty());
        CHECK(near["verdict"] == "warn");
        CHECK(check_named(enough, "link")["verdict"] == "pass");
        // By HLS a seek takes a whole segment, and what is left of the one on its way.
        const bool hls = path.ends_with("m3u8");
        CHECK(check_named(enough, "seeking")["verdict"] == (hls ? "warn" : "pass"));
        CHECK(enough["verdict"] == (hls ? "warn" : "pass"));
    }
    // The first segment lasts six seconds, and comes whole before anything is shown.
    const std::string mean =
        std::to_string(verify("/film.m3u8", "browser-chromium", "gigabit")["bitrate"]["mean_bps"].get<int>() / 1000) +
        " kbit/s";
    const double whole = verify("/film.m3u8", "browser-chromium", mean)["startup_s"];
    write_all(dir / "parts.toml",
              std::string("name = \"parts\"\n[plays]\ncontainers = [\"mp4\"]\nstart_buffer = \"1 s\"\n"
                          "whole_segments = false\n[[plays.video]]\ncodec = \"h264\"\n"
                          "[[plays.audio]]\ncodec = \"aac\"\n"));
    const double parts = verify("/film.m3u8", "parts.toml", mean)["startup_s"];
    CHECK(whole > 3);
    CHECK(parts < 2.5);
}
