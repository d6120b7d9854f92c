#include "site/check.hpp"
#include "site/new_site.hpp"

#include <catch2/catch.hpp>

#include "support/clips.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;

namespace {

std::string house(const std::string& rest) {
    return "[site]\nname = \"Cedar Landing\"\n" + rest;
}

const std::string kDevices =
    "[[device]]\nname = \"Lounge TV\"\nclass = \"tv-hd\"\nlink = \"gigabit\"\n[[device]]\nname = \"Tablet\"\nclass = "
    "\"tablet-basic\"\nlink = \"2 Mbit/s\"\n";

}  // namespace

TEST_CASE("a site file is read, files relative to it", "[site]") {
    const auto site =
        site::parse(house("[server]\nport = 9000\nadvertise = \"192.0.2.7\"\n" + kDevices +
                          "[[stream]]\nname = \"Lake Film\"\nfile = \"library/x.mp4\"\ndevices = [\"Tablet\"]\n"),
                    "/houses/cedar/site.toml");
    REQUIRE(site);
    CHECK(site->house == "Cedar Landing");
    REQUIRE(site->streams.size() == 1);
    CHECK(site->streams[0].item.parts.at(0).source == "/houses/cedar/library/x.mp4");
    CHECK(site->streams[0].item.path == "/lake-film.mp4");
    CHECK(site->streams[0].meant_for("Tablet"));
    CHECK_FALSE(site->streams[0].meant_for("Lounge TV"));
    CHECK(site->address_of(site->streams[0]) == "http://192.0.2.7:9000/lake-film.mp4");
    CHECK(site->devices[1].link.payload_bps == 2'000'000);
    CHECK(site->devices[1].device.name == "Tablet");
}

TEST_CASE("streams come from shares of the site, by their names", "[site][share]") {
    const std::string shares =
        "[[share]]\nname = \"attic\"\naddress = \"smb://192.0.2.20/films\"\n[[share]]\nname = \"cellar\"\naddress = "
        "\"nfs://192.0.2.21/export/films/\"\n";
    const auto site = site::parse(
        house(shares +
              "[[stream]]\nname = \"A\"\nshare = \"attic\"\nfile = \"Lake (2019)/Lake.mp4\"\n[[stream]]\nname = "
              "\"B\"\nshare = \"cellar\"\nfiles = [\"a.mp4\", \"b.mp4\"]\n[[stream]]\nname = \"C\"\nfile = "
              "\"smb://192.0.2.20/other/x.mp4\"\n"),
        "/houses/cedar/site.toml");
    REQUIRE(site);
    REQUIRE(site->shares.size() == 2);
    CHECK(site->streams[0].item.parts.at(0).source == "smb://192.0.2.20/films/Lake (2019)/Lake.mp4");
    CHECK(site->streams[0].item.path == "/a.mp4");
    CHECK(site->streams[1].item.parts.at(1).source == "nfs://192.0.2.21/export/films/b.mp4");
    CHECK(site->streams[2].item.parts.at(0).source == "smb://192.0.2.20/other/x.mp4");
    const auto wrong = [&](const std::string& rest) {
        const auto parsed = site::parse(house(rest), "/houses/cedar/site.toml");
        return parsed ? std::string() : parsed.error().what + " / " + parsed.error().remedy;
    };
    const auto says = [&](const std::string& rest, const char* text) {
        INFO(wrong(rest));
        CHECK(wrong(rest).find(text) != std::string::npos);
    };
    says(shares + "[[stream]]\nname = \"A\"\nshare = \"atic\"\nfile = \"x\"\n", "did you mean \"attic\"");
    says("[[share]]\nname = \"a\"\naddress = \"http://x/y\"\n", "no address of a share");
    says("[[share]]\nname = \"a\"\naddress = \"smb://x\"\n", "names no share");
    says(shares + shares, "attic");
    // What is in a folder there is known when its server is.
    const auto later =
        site::parse(house("[[share]]\nname = \"attic\"\naddress = \"smb://127.0.0.1:1/films\"\n[[stream]]\nname "
                          "= \"A\"\nshare = \"attic\"\nfolder = \"x\"\nloop = true\n"),
                    "/houses/cedar/site.toml");
    REQUIRE(later);
    CHECK(later->streams[0].unlisted);
    CHECK(later->streams[0].item.deliveries.live);
    says("[[stream]]\nname = \"A\"\nfolder = \"http://attic/films\"\n", "this is no folder");
}

TEST_CASE("mistakes in a site file are named with their line and a remedy", "[site]") {
    const auto error = [](const std::string& rest) {
        const auto site = site::parse(house(rest), "site.toml");
        REQUIRE_FALSE(site);
        CHECK(site.error().kind == ErrorKind::usage);
        CHECK_FALSE(site.error().remedy.empty());
        return site.error();
    };
    CHECK(error("[server]\nport = 99999\n").where == "site.toml, line 4");
    CHECK(error("[sever]\nport = 9\n").remedy == "did you mean \"server\"?");
    CHECK(error("[[device]]\nname = \"A\"\nclass = \"tv-hdd\"\n").remedy == "did you mean \"tv-hd\"?");
    CHECK(error("[[device]]\nname = \"A\"\nclass = \"tv-hd\"\nlink = \"quick\"\n").where == "site.toml, line 6");
    CHECK(error("[[device]]\nclass = \"tv-hd\"\n").what.find("\"name\" is missing") != std::string::npos);
    CHECK(error(kDevices + kDevices).what.find("two devices") != std::string::npos);
    const auto nobody = error(kDevices + "[[stream]]\nname = \"x\"\nfile = \"x.mp4\"\ndevices = [\"Tablett\"]\n");
    CHECK(nobody.remedy == "did you mean \"Tablet\"?");
    CHECK(error("[[stream]]\nname = \"x\"\n").what.find("\"file\" is missing") != std::string::npos);
    CHECK(site::load("/nonexistent/site.toml").error().kind == ErrorKind::input);
}

TEST_CASE("a check finds what would go wrong, and nothing where all is well", "[site]") {
    const TempDir dir;
    std::filesystem::create_hard_link(sample_film(), dir / "x.mp4");
    const std::uint16_t port = free_port();
    const auto base_text = house("[server]\nport = " + std::to_string(port) + "\nlisten = \"127.0.0.1\"\n") + kDevices;
    const auto check = [&](const std::string& text) {
        const auto site = site::parse(text, dir / "site.toml");
        REQUIRE(site);
        return site::check(*site, nullptr);
    };
    const auto has = [](const std::vector<site::Finding>& findings, site::Finding::Severity severity,
                        const std::string& word) {
        return std::any_of(findings.begin(), findings.end(), [&](const site::Finding& f) {
            return f.severity == severity && f.about.what.find(word) != std::string::npos && !f.about.remedy.empty();
        });
    };
    using Severity = site::Finding::Severity;
    const std::string good = "[[stream]]\nname = \"Film\"\nfile = \"x.mp4\"\n";
    for (const auto& finding : check(base_text + good)) CHECK(finding.severity != Severity::error);
    CHECK(has(check(base_text), Severity::error, "no streams"));
    CHECK(has(check(base_text + "[[stream]]\nname = \"Film\"\nfile = \"gone.mp4\"\n"), Severity::error,
              "does not exist") == false);  // said as: there is no such file
    CHECK(has(check(base_text + "[[stream]]\nname = \"Film\"\nfile = \"gone.mp4\"\n"), Severity::error,
              "there is no such file"));
    CHECK(has(check(base_text + "[[stream]]\nname = \"Film\"\ndelivery = [\"file\"]\nfile = \"" +
                    sample_disc().string() + "\"\n"),
              Severity::error, "disc rip"));
    CHECK(has(check(house("[server]\nadvertise = \"203.0.113.77\"\n" + good)), Severity::warning, "203.0.113.77"));
    // What stream run would refuse, or do wrong.
    CHECK(has(check(base_text + good + "path = \"film\"\n"), Severity::error, "isn't a valid path"));
    CHECK(has(check(base_text + good + "path = \"/control\"\n"), Severity::error, "path of the control page"));
    CHECK(has(check(base_text + good + "[[stream]]\nname = \"film\"\npath = \"/film.ts\"\nfile = \"x.mp4\"\n"),
              Severity::error, "have the same path"));
    CHECK(has(check(house("[server]\nlisten = \"127.0.0.1\"\ninterface = \"none7\"\n") + kDevices + good),
              Severity::error, "none7"));
    CHECK(has(check(base_text + good + "delivery = [\"live\"]\nbitrate = \"100 kbit/s\"\n"), Severity::error,
              "is too low for"));
    CHECK(has(check(base_text + good + "push = [\"rtmp://nowhere.invalid/house/key-of-eight\"]\n"), Severity::error,
              "host name not found"));
    // A device that can't play it: a warning while another can, an error when none is left.
    const std::string old_player = "[[device]]\nname = \"Old\"\nclass = \"player-sd\"\n";
    CHECK(has(check(base_text + old_player + good), Severity::warning, "some devices can't play"));
    CHECK(
        has(check(base_text + old_player + good + "devices = [\"Old\"]\n"), Severity::error, "no device of the site"));

    const Background server(
        {"stream", "run", (dir / "x.mp4").string(), "--port", std::to_string(port), "--address", "127.0.0.1", "-q"},
        dir.path());
    REQUIRE(wait_for_port(port));
    CHECK(has(check(base_text + good), Severity::error, "wavecrest"));
}

TEST_CASE("a new site file can be read back, whatever the names", "[site]") {
    site::NewSite made;
    made.house = "The \"Old\" Boathouse \\ Quay";
    made.port = 8181;
    made.devices = {{"Lounge TV", "tv-hd", "gigabit"}, {"Attic, left", "player-sd", "12 Mbit/s"}};
    made.streams = {{"Film", "a \"b\".mp4"}};
    const auto site = site::parse(site::compose(made), "x/site.toml");
    REQUIRE(site);
    CHECK(site->house == made.house);
    CHECK(site->port == 8181);
    REQUIRE(site->devices.size() == 2);
    CHECK(site->devices[1].device.name == "Attic, left");
    CHECK(site->streams[0].item.parts.at(0).source == "x/a \"b\".mp4");
    // Without devices and streams it holds examples in comments, and is valid.
    CHECK(site::parse(site::compose({}), "site.toml"));
}

TEST_CASE("HTTPS, players and addresses of devices in a site file", "[site]") {
    const TempDir dir;
    make_certificate(dir / "cert.pem", dir / "key.pem", "192.0.2.7");
    make_certificate(dir / "old.pem", dir / "old-key.pem", "cedar.example", true);
    const std::string devices =
        "[[device]]\nname = \"Lounge TV\"\nclass = \"tv-hd\"\naddress = \"192.0.2.20\"\n[[device]]\nname = "
        "\"Tablet\"\nclass = \"tablet-basic\"\nplayer = \"reading-room app\"\n";
    const std::string stream = "[[stream]]\nname = \"Film\"\nfile = \"" + sample_film().string() + "\"\n";
    const auto server = [](const std::string& lines) { return "[server]\nadvertise = \"192.0.2.7\"\n" + lines; };
    const std::string files = "certificate = \"cert.pem\"\ncertificate_key = \"key.pem\"\n";
    const auto parsed =
        site::parse(house(server(files + "tls_port = 9443\nport = 9080\n") + devices + stream), dir / "site.toml");
    INFO((parsed ? "" : parsed.error().what));
    REQUIRE(parsed);
    CHECK(parsed->devices[1].player == "reading-room app");
    CHECK(parsed->devices[0].address == "192.0.2.20");
    // Televisions don't take certificates of the house's own; the tablet does.
    const auto tv = parsed->addresses_for(parsed->streams[0], parsed->devices[0]);
    const auto tablet = parsed->addresses_for(parsed->streams[0], parsed->devices[1]);
    REQUIRE(tv.size() == 1);
    REQUIRE(tablet.size() == 1);
    CHECK(tv[0].address == "http://192.0.2.7:9080/film.mp4");
    CHECK(tablet[0].address == "https://192.0.2.7:9443/film.mp4");

    const auto found = [&](const std::string& text, const std::string& what) {
        const auto one = site::parse(house(text), dir / "site.toml");
        INFO((one ? "" : one.error().what));
        REQUIRE(one);
        for (const site::Finding& finding : site::check(*one, nullptr)) {
            if (finding.about.what.find(what) != std::string::npos) return true;
        }
        return false;
    };
    CHECK_FALSE(found(server(files) + devices + stream, "certificate"));
    CHECK(found("[server]\nadvertise = \"192.0.2.8\"\n" + files + devices + stream, "certificate is for 192.0.2.7"));
    CHECK(found(server("certificate = \"old.pem\"\ncertificate_key = \"old-key.pem\"\n") + devices + stream,
                "certificate expired 1 day ago"));
    CHECK(found(server("certificate = \"gone.pem\"\ncertificate_key = \"key.pem\"\n") + devices + stream, "gone.pem") ==
          false);
    CHECK(found(server(files + "tls_port = 8080\n") + devices + stream, "port and tls_port are both 8080"));
    CHECK(found(server("") + devices + stream + "from = [\"192.0.2.30\"]\ndevices = [\"Lounge TV\"]\n",
                "its address 192.0.2.20 is blocked"));
    CHECK_FALSE(found(server("") + devices + stream + "from = [\"192.0.2.0/24\"]\n", "lets nobody in"));
    CHECK(found(server("") + devices + stream + "subtitles = \"site.toml\"\n", "site.toml") == false);
    CHECK(found(server("") + devices + stream + "subtitles = \"gone.srt\"\n", "stream \"Film\": "));

    const auto error = [](const std::string& rest) {
        const auto site = site::parse(house(rest), "site.toml");
        REQUIRE_FALSE(site);
        return site.error().what;
    };
    CHECK(error("[server]\ncertificate = \"a.pem\"\n").find("belong together") != std::string::npos);
    CHECK(error("[server]\nplain_http = false\n").find("nothing can be served") != std::string::npos);
    CHECK(error("[[device]]\nname = \"A\"\nclass = \"tv-hd\"\naddress = \"lounge\"\n").find("isn't an IP address") !=
          std::string::npos);
    CHECK(error("[[stream]]\nname = \"x\"\nfile = \"x.mp4\"\ndelivery = [\"live\"]\nsubtitles = \"x.srt\"\n")
              .find("subtitle files are") != std::string::npos);
    const std::string plain = "[[stream]]\nname = \"x\"\nfile = \"x.mp4\"\n";
    CHECK(error(plain + "video = 2\n").find("players select") != std::string::npos);
    CHECK(error(plain + "delivery = [\"live\"]\nburn_in = \"en\"\n").find("only when transcoding") !=
          std::string::npos);
    const auto chosen = site::parse(
        house(plain + "delivery = [\"live\"]\nprofile = \"small-screen\"\nvideo = 2\nburn_in = \"en\"\n"), "site.toml");
    REQUIRE(chosen);
    CHECK(chosen->streams[0].item.parts[0].choice.video == 2);
    CHECK(chosen->streams[0].item.parts[0].choice.burn_in == "en");
}

TEST_CASE("devices are given the ways they take, and found wanting where there is none", "[site]") {
    const std::string devices =
        "[server]\nadvertise = \"127.0.0.1\"\n[[device]]\nname = \"Lounge TV\"\nclass = \"tv-hd\"\n[[device]]\nname = "
        "\"Tablet\"\nclass = \"tablet-basic\"\n";
    const auto with = [&](const std::string& offer) {
        const auto one = site::parse(house(devices + "[[stream]]\nname = \"Film\"\nfile = \"" + sample_film().string() +
                                           "\"\ndelivery = " + offer + "\n"),
                                     "site.toml");
        REQUIRE(one);
        return *one;
    };
    const auto ways = [](const site::Site& site, std::size_t device) {
        std::string all;
        for (const auto& one : site.addresses_for(site.streams[0], site.devices[device])) all += one.delivery + " ";
        return all;
    };
    const site::Site all = with(R"(["file", "hls", "live", "rtmp"])");
    CHECK(ways(all, 0) == "file hls live ");
    CHECK(ways(all, 1) == "file hls ");  // it reads no transport streams
    const site::Site none = with(R"(["rtmp"])");
    CHECK(ways(none, 0) == "rtmp ");
    const auto told = [](const site::Site& site) {
        std::string text;
        for (const site::Finding& finding : site::check(site, nullptr)) text += finding.about.what + "\n";
        return text;
    };
    CHECK(told(none).find("no device of the site can play stream \"Film\": Lounge TV: protocol rtmp") !=
          std::string::npos);
    CHECK(told(with(R"(["live"])")).find("some devices can't play stream \"Film\": Tablet: container mpeg-ts") !=
          std::string::npos);
    CHECK(told(all).find("can't play") == std::string::npos);
    // A disc's title, as it is and encoded anew.
    const auto disc = [&](const std::string& more) {
        const auto one = site::parse(house(devices + "[[stream]]\nname = \"Rip\"\nfile = \"" + sample_disc().string() +
                                           "\"\ndelivery = [\"live-hls\"]\n" + more),
                                     "site.toml");
        REQUIRE(one);
        return told(*one);
    };
    CHECK(disc("").find("no device of the site can play stream \"Rip\": Lounge TV: video codec MPEG-2") !=
          std::string::npos);
    CHECK(disc("profile = \"small-screen\"\n").find("can't play") == std::string::npos);
    CHECK(disc("title = \"9\"\n").find("there is no title 9") != std::string::npos);
    // What a stream leaves out of its audio isn't judged.
    const TempDir dir;
    write_media(dir / "two.mp4", "mp4",
                {video_track(Codec::h264, 48), audio_track(Codec::aac, 2, 2), audio_track(Codec::ac3, 2, 3)});
    const auto audio = [&](const std::string& word) {
        const auto one = site::parse(
            house("[[device]]\nname = \"Tablet\"\nclass = \"tablet-basic\"\n[[stream]]\nname = \"Film\"\nfile = \"" +
                  (dir / "two.mp4").string() + "\"\ndelivery = [\"hls\"]\naudio = [\"" + word + "\"]\n"),
            "site.toml");
        REQUIRE(one);
        return told(*one);
    };
    CHECK(audio("1").find("can play") == std::string::npos);
    CHECK(audio("2").find("no device of the site can play stream \"Film\": Tablet: audio AC-3") != std::string::npos);
}

TEST_CASE("the unit waits for the places of all sources, whatever their names", "[site]") {
    const auto site =
        site::parse(house("[[stream]]\nname = \"Film\"\nfile = \"/srv/films/Lake 100 % (2019)/Lake.mp4\"\n"
                          "[[stream]]\nname = \"Twin\"\nfile = \"/srv/films/Lake 100 % (2019)/Lake 2.mp4\"\n"
                          "[[stream]]\nname = \"Camera\"\nfile = \"rtmp://192.0.2.9/house/camera\"\n"
                          "[[stream]]\nname = \"Other\"\nfile = \"/mnt/disk/Reeds.mp4\"\n"),
                    "/srv/house/site of ours.toml");
    REQUIRE(site);
    const std::string unit = site::service_unit(*site, "/opt/wave crest/wavecrest", "installer");
    INFO(unit);
    const auto has_line = [&](const std::string& line) { return unit.find("\n" + line + "\n") != std::string::npos; };
    CHECK(has_line(R"x(RequiresMountsFor="/srv/films/Lake 100 %% (2019)" "/mnt/disk")x"));
    CHECK(has_line(R"(ExecStart="/opt/wave crest/wavecrest" stream run --site "/srv/house/site of ours.toml" -q)"));
    CHECK(has_line("User=installer"));
    CHECK(has_line("Restart=always"));
    CHECK(has_line("WantedBy=multi-user.target"));
}
