// stream run with all its ways out at once, watched and steered by the program itself from elsewhere.
#include <arpa/inet.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <unistd.h>

#include <catch2/catch.hpp>
#include <chrono>
#include <csignal>
#include <cstdlib>
#include <map>
#include <nlohmann/json.hpp>
#include <thread>

#include "container/media_playlist.hpp"
#include "measure/transport.hpp"
#include "media/language.hpp"
#include "net/http_client.hpp"
#include "net/rtmp_client.hpp"
#include "support/browser.hpp"
#include "support/clips.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
using namespace std::chrono_literals;
using Json = nlohmann::json;

namespace {

std::string get(std::uint16_t port, const std::string& path, const std::string& headers = "",
                const std::string& method = "GET", const std::string& body = "") {
    std::string request = method + " " + path + " HTTP/1.1\r\nHost: 127.0.0.1\r\nConnection: close\r\n" + headers;
    if (!body.empty()) request += "Content-Length: " + std::to_string(body.size()) + "\r\n";
    return raw_exchange(port, request + "\r\n" + body);
}
std::string body_of(const std::string& response) {
    const std::size_t end = response.find("\r\n\r\n");
    return end == std::string::npos ? "" : response.substr(end + 4);
}
std::string token() {
    const ByteVector bytes = read_all(base::Path(std::getenv("XDG_STATE_HOME")) / "wavecrest" / "access-code");
    std::string text(bytes.begin(), bytes.end());
    while (!text.empty() && text.back() == '\n') text.pop_back();
    return text;
}

// A film that runs over and over by every way.
struct Running {
    TempDir dir;
    std::vector<TestTrack> test_tracks = {video_track(Codec::h264, 480), audio_track(Codec::aac, 20)};
    std::uint16_t port = free_port(), rtmp_port = free_port();
    std::unique_ptr<Background> program;

    explicit Running(std::vector<std::string> more = {"--delivery", "file,hls,live,live-hls,rtmp"}, bool loop = true) {
        write_media(dir / "harbour.mp4", "mp4", test_tracks);
        std::vector<std::string> arguments = {
            "stream", "run", "harbour.mp4", "--port", std::to_string(port), "--rtmp-port", std::to_string(rtmp_port)};
        if (loop) arguments.emplace_back("--loop");
        arguments.insert(arguments.end(), more.begin(), more.end());
        program = std::make_unique<Background>(arguments, dir.path());
        INFO(program->output());
        REQUIRE(wait_for_port(port));
        REQUIRE(program->has_written("Ctrl-C stops all streams"));
    }
    std::string address(const std::string& path) const { return "http://127.0.0.1:" + std::to_string(port) + path; }
    std::string rtmp(const std::string& name) const {
        return "rtmp://127.0.0.1:" + std::to_string(rtmp_port) + "/house/" + name;
    }
    Ran run(std::vector<std::string> arguments) const { return run_program(arguments, dir.path()); }
    Json status() const { return json_of(run({"stream", "status", "--port", std::to_string(port), "--json"})); }
    Ran order(std::vector<std::string> words) const {
        words.insert(words.begin(), "stream");
        words.insert(words.end(), {"--port", std::to_string(port)});
        return run(words);
    }
};

const Json* check_named(const Json& result, const std::string& name) {
    for (const Json& check : result["checks"]) {
        if (check["name"] == name) return &check;
    }
    return nullptr;
}

}  // namespace

TEST_CASE("one film goes out by every way at once, and each is found fit", "[server][waits]") {
    const Running r;
    // HLS on demand: all of the film, by an independent reading of the segments.
    const auto list = container::parse_playlist(body_of(get(r.port, "/harbour.m3u8")), "playlist");
    REQUIRE(list);
    ByteVector pictures;
    for (const auto& segment : list->segments) {
        const std::string bytes = body_of(get(r.port, "/" + segment.uri));
        write_all(r.dir / "segment.ts", bytes);
        const auto test_tracks = read_media(r.dir / "segment.ts");
        REQUIRE(test_tracks.size() == 2);
        const ByteVector some = payload_of(test_tracks[0]);
        pictures.insert(pictures.end(), some.begin(), some.end());
    }
    CHECK(pictures == payload_of(r.test_tracks[0]));
    // The endless body begins with tables and a keyframe at once.
    ByteVector live(10 * 188);
    {
        net::HttpClient client(local_url(r.port, "/harbour-live.ts"));
        const auto head = client.get(0);
        REQUIRE(head);
        CHECK(head->endless);
        CHECK(head->media_type == "video/mp2t");
        for (std::size_t at = 0; at < live.size();) {
            const auto got = client.read(std::span(live).subspan(at));
            REQUIRE(got);
            REQUIRE(*got > 0);
            at += *got;
        }
    }
    CHECK(live[0] == 0x47);
    CHECK(((live[1] & 0x1F) << 8 | live[2]) == 0);
    CHECK(get(r.port, "/harbour-live.ts", "", "HEAD").find("video/mp2t") != std::string::npos);
    CHECK(get(r.port, "/nothing").find("/harbour-live.m3u8") != std::string::npos);

    for (const std::string& address :
         {r.address("/harbour.mp4"), r.address("/harbour.m3u8"), r.address("/harbour-live.ts"),
          r.address("/harbour-live.m3u8"), r.rtmp("harbour")}) {
        INFO(address);
        const Ran ran =
            r.run({"verify", address, "--device", "player-full", "--for", "4 s", "--wait", "10 s", "--json"});
        INFO(ran.out);
        INFO(ran.err);
        CHECK(ran.status == 0);
        const Json result = json_of(ran)["results"][0];
        CHECK(result["verdict"] != "fail");
        CHECK(result["stalls"].empty());
        CHECK(result["bitrate"]["mean_bps"].get<double>() > 100'000);
        REQUIRE(check_named(result, "protocol") != nullptr);
    }
    // A television that knows no RTMP is told so.
    const Ran tv = r.run({"verify", r.rtmp("harbour"), "--device", "tv-hd", "--for", "2 s", "--json"});
    CHECK(tv.status == 1);
    CHECK((*check_named(json_of(tv)["results"][0], "protocol"))["verdict"] == "fail");
    const Ran gone = r.run({"verify", r.rtmp("pond"), "--device", "player-full", "--for", "2 s"});
    CHECK(gone.status == 1);
    CHECK(gone.out.find("no such stream") != std::string::npos);
    CHECK(r.program->end(SIGTERM) == 0);
}

TEST_CASE("a link that is too slow for a live stream is named as what is short", "[server][waits]") {
    const Running r;
    const Ran ran = r.run({"verify", r.address("/harbour-live.ts"), "--device", "player-full", "--link", "150 kbit/s",
                           "--for", "8 s", "--json"});
    CHECK(ran.status == 1);
    const Json result = json_of(ran)["results"][0];
    INFO(result.dump(1));
    CHECK(result["cause"] == "network");
    CHECK(result["verdict"] == "fail");
    const Ran film =
        r.run({"verify", r.address("/harbour.m3u8"), "--device", "player-full", "--link", "150 kbit/s", "--json"});
    CHECK(film.status == 1);
    CHECK(json_of(film)["results"][0]["cause"] == "network");
    CHECK_FALSE(json_of(film)["results"][0]["stalls"].empty());
}

TEST_CASE("running streams are seen and steered from elsewhere, with the token alone", "[server][waits]") {
    Running r;
    struct stat info {};
    const base::Path file = base::Path(std::getenv("XDG_STATE_HOME")) / "wavecrest" / "access-code";
    REQUIRE(::stat(file.c_str(), &info) == 0);
    CHECK((info.st_mode & 0777) == 0600);
    CHECK(get(r.port, "/control/status").starts_with("HTTP/1.1 401"));
    CHECK(get(r.port, "/control/status", "Authorization: Bearer guess\r\n").starts_with("HTTP/1.1 401"));
    const std::string allowed = "Authorization: Bearer " + token() + "\r\n";
    CHECK(get(r.port, "/control/status", allowed).starts_with("HTTP/1.1 200"));
    CHECK(get(r.port, "/control").find("<title>") != std::string::npos);
    const auto post = [&](const std::string& body) { return get(r.port, "/control/do", allowed, "POST", body); };
    CHECK(post("{").starts_with("HTTP/1.1 400"));
    CHECK(post("{\"stream\":\"x\",\"do\":\"stop\"}").starts_with("HTTP/1.1 404"));
    CHECK(post("{\"stream\":\"harbour\",\"do\":\"fly\"}").starts_with("HTTP/1.1 400"));
    CHECK(post("{\"stream\":\"harbour\",\"do\":\"seek\",\"to_s\":1e300}").starts_with("HTTP/1.1 400"));

    const auto position = [&] { return r.status()["streams"][0]["position_s"].get<double>(); };
    const double before = position();
    for (int i = 0; i < 100 && position() <= before; ++i) std::this_thread::sleep_for(100ms);
    CHECK(position() > before);
    CHECK(r.order({"pause", "harbour"}).status == 0);
    std::this_thread::sleep_for(300ms);
    const double stood = position();
    CHECK(r.status()["streams"][0]["state"] == "paused");
    std::this_thread::sleep_for(700ms);
    CHECK(position() == Approx(stood).margin(0.01));
    CHECK(r.order({"resume", "harbour"}).status == 0);
    CHECK(r.order({"seek", "harbour", "--to", "0:15"}).status == 0);
    bool landed = false;
    for (int i = 0; i < 90 && !landed; ++i) {
        std::this_thread::sleep_for(100ms);
        landed = position() >= 14 && position() < 19;
    }
    CHECK(landed);
    CHECK(r.order({"seek", "harbour"}).status == 2);
    CHECK(r.order({"seek", "harbour", "--to", "soon"}).status == 2);
    CHECK(r.order({"pause", "lake"}).status == 2);
    // Somebody watches meanwhile, and is seen.
    {
        const Background viewer({"verify", r.address("/harbour-live.ts"), "--device", "player-full", "--for", "20 s"},
                                r.dir.path());
        Json status;
        for (int i = 0; i < 60; ++i) {
            status = r.status();
            // (It connects twice: first to see what is there.)
            if (status["viewers"].size() == 1 && status["viewers"][0]["sent_bytes"] > 0) break;
            std::this_thread::sleep_for(100ms);
        }
        REQUIRE(status["viewers"].size() == 1);
        CHECK(status["viewers"][0]["address"] == "127.0.0.1");
        CHECK(status["viewers"][0]["stream"] == "harbour");
        CHECK(status["viewers"][0]["live"] == true);
        CHECK(status["streams"][0]["viewers"] == 1);
        const Ran text = r.order({"status"});
        CHECK(text.out.find("127.0.0.1") != std::string::npos);
    }
    // In whatever letters; a seek in a pause shows the place and stands still again; a stop ends it.
    CHECK(r.order({"pause", "Harbour"}).out.find("harbour: paused") != std::string::npos);
    CHECK(r.order({"seek", "harbour", "--to", "0:05"}).out.find("then paused") != std::string::npos);
    CHECK(r.order({"stop", "harbour"}).status == 0);
    std::this_thread::sleep_for(300ms);
    CHECK(r.status()["streams"][0]["state"] == "ended");
    CHECK(r.order({"pause", "harbour"}).status == 1);
    // The file itself is still served: each viewer's own.
    CHECK(get(r.port, "/harbour.mp4", "Range: bytes=0-9\r\n").starts_with("HTTP/1.1 206"));
    CHECK(r.program->end(SIGTERM) == 0);
    const Ran ended = r.order({"status"});
    CHECK(ended.status == 1);
}

TEST_CASE("a stream is meant by part of its name or by none, and a pause keeps its viewers", "[server][waits]") {
    const Running r;
    // A place beyond the end is refused; names may be short.
    const Ran beyond = r.order({"seek", "har", "--to", "9:00:00"});
    CHECK(beyond.status == 1);
    CHECK(beyond.err.find("beyond the end") != std::string::npos);
    CHECK(r.order({"seek", "--to", "0:10"}).status == 0);
    const Ran none = r.order({"seek", "lake", "--to", "0:10"});
    CHECK(none.status == 2);
    CHECK(none.err.find("\"harbour\"") != std::string::npos);
    // HLS begins with three segments and tells two players behind one address apart.
    std::string entry;
    for (int i = 0; i < 100 && !entry.starts_with("HTTP/1.1 200"); ++i) {
        std::this_thread::sleep_for(100ms);
        entry = get(r.port, "/harbour-live.m3u8");
    }
    const auto watch = [&](const std::string& list_of_variants) {
        const auto variants = container::parse_playlist(list_of_variants, "x");
        REQUIRE(variants);
        REQUIRE(variants->variants.size() == 1);
        const auto list = container::parse_playlist(body_of(get(r.port, "/" + variants->variants[0].uri)), "x");
        REQUIRE(list);
        CHECK(list->segments.size() >= 3);
        CHECK(list->sequence > 1'000'000);
        CHECK(get(r.port, "/" + list->segments.back().uri).starts_with("HTTP/1.1 200"));
    };
    watch(body_of(entry));
    watch(body_of(get(r.port, "/harbour-live.m3u8")));
    Json status = r.status();
    REQUIRE(status["viewers"].size() == 2);
    CHECK(status["viewers"][0]["delivery"] == "hls");
    CHECK(status["viewers"][0]["live"] == true);
    CHECK(status["viewers"][1]["sent_bytes"] > 10'000);
    // While it stands still, a connection gets packets that carry nothing; verify says what is the matter.
    CHECK(r.order({"pause"}).status == 0);
    const int socket = connect_to(r.port, "GET /harbour-live.ts HTTP/1.1\r\nHost: x\r\n\r\n");
    std::this_thread::sleep_for(2200ms);
    ByteVector got(1 << 20);
    const ssize_t count = ::recv(socket, got.data(), got.size(), MSG_DONTWAIT);
    ::close(socket);
    REQUIRE(count > 3 * 188);
    CHECK((got[static_cast<std::size_t>(count) - 188 + 1] & 0x1F) == 0x1F);
    CHECK(got[static_cast<std::size_t>(count) - 188 + 2] == 0xFF);
    for (const std::string& address :
         {r.address("/harbour-live.ts"), r.address("/harbour-live.m3u8"), r.rtmp("harbour")}) {
        INFO(address);
        const Ran judged = r.run({"verify", address, "--device", "player-full", "--for", "3 s", "--json"});
        CHECK(judged.status == 1);
        INFO(judged.out << judged.err);
        CHECK(judged.out.find("the stream is paused") != std::string::npos);
    }
    // What is sought then is shown, and stands.
    CHECK(r.order({"seek", "--to", "0:02"}).out.find("then paused") != std::string::npos);
    bool stands = false;
    for (int i = 0; i < 60 && !stands; ++i) {
        std::this_thread::sleep_for(100ms);
        status = r.status()["streams"][0];
        const double at = status["position_s"].get<double>();
        const double before = at;
        stands = at > 1.5 && at < 4.5 && status["state"] == "paused";
        if (!stands) continue;
        std::this_thread::sleep_for(900ms);
        stands = std::abs(r.status()["streams"][0]["position_s"].get<double>() - before) < 0.01;
    }
    CHECK(stands);
}

TEST_CASE("what one program publishes by RTMP another gives to players, through a lost connection", "[server][waits]") {
    const TempDir dir;
    write_media(dir / "harbour.mp4", "mp4", {video_track(Codec::h264, 480), audio_track(Codec::aac, 20)});
    const std::uint16_t rtmp = free_port();
    const std::string here = "rtmp://127.0.0.1:" + std::to_string(rtmp) + "/house/";
    auto server = std::make_unique<Background>(
        std::vector<std::string>{"stream", "run", "--publish-key", "lakeside-key", "--name", "Lake camera",
                                 "--rtmp-port", std::to_string(rtmp)},
        dir.path());
    REQUIRE(wait_for_port(rtmp));
    const auto watch = [&](const std::string& wait) {
        return run_program(
            {"verify", here + "lake-camera", "--device", "player-full", "--for", "3 s", "--wait", wait, "--json"},
            dir.path());
    };
    const Ran silent = watch("0 s");
    CHECK(silent.status == 1);
    CHECK(silent.out.find("sends nothing") != std::string::npos);
    const auto wrong = net::RtmpClient::connect(*net::parse_rtmp_address(here + "guessed-key"));
    REQUIRE(wrong);
    CHECK_FALSE((*wrong)->publish());
    {
        Background publisher({"stream", "run", "harbour.mp4", "--loop", "--push", here + "lakeside-key"}, dir.path());
        REQUIRE(publisher.has_written("publishing"));
        const Ran playing = watch("5 s");
        INFO(playing.out);
        CHECK(playing.status == 0);
        // A second publisher with the same key is refused while the first is there.
        const auto second = net::RtmpClient::connect(*net::parse_rtmp_address(here + "lakeside-key"));
        REQUIRE(second);
        const auto refused = (*second)->publish();
        REQUIRE_FALSE(refused);
        CHECK(refused.error().what.find("already") != std::string::npos);
        // The server goes away and comes back: the publisher finds it again by itself.
        server.reset();
        REQUIRE(publisher.has_written("trying again"));
        server = std::make_unique<Background>(
            std::vector<std::string>{"stream", "run", "--publish-key", "lakeside-key", "--name", "Lake camera",
                                     "--rtmp-port", std::to_string(rtmp)},
            dir.path());
        REQUIRE(wait_for_port(rtmp));
        const auto begun = std::chrono::steady_clock::now();
        Ran again;
        do again = watch("2 s");
        while (again.status != 0 && std::chrono::steady_clock::now() - begun < 30s);
        CHECK(again.status == 0);
        // The publisher is killed: its players stay, and see the next one.
        ::kill(publisher.pid(), SIGKILL);
    }
    const Background next({"stream", "run", "harbour.mp4", "--loop", "--push", here + "lakeside-key"}, dir.path());
    REQUIRE(next.has_written("publishing"));
    CHECK(watch("5 s").status == 0);
}

TEST_CASE("what is published by RTMP goes out by HTTP and HLS, too, from one publisher to the next",
          "[server][waits]") {
    const TempDir dir;
    const std::vector<TestTrack> test_tracks = {video_track(Codec::h264, 480), audio_track(Codec::aac, 20)};
    write_media(dir / "harbour.mp4", "mp4", test_tracks);
    const std::uint16_t port = free_port(), rtmp = free_port();
    const Background server({"stream", "run", "--publish-key", "lakeside-key", "--name", "Camera", "--delivery",
                             "live,live-hls", "--port", std::to_string(port), "--rtmp-port", std::to_string(rtmp)},
                            dir.path());
    REQUIRE(wait_for_port(port));
    CHECK(get(port, "/camera-live.m3u8").starts_with("HTTP/1.1 503"));
    // A viewer that is there before anything is published, and stays.
    net::HttpClient viewer(local_url(port, "/camera-live.ts"));
    REQUIRE(viewer.get(0));
    ByteVector seen;
    const auto watch_until = [&](const std::function<bool()>& enough) {
        const auto begun = std::chrono::steady_clock::now();
        while (!enough() && std::chrono::steady_clock::now() - begun < 20s) {
            ByteVector piece(65536);
            const auto got = viewer.read(piece);
            if (!got || *got == 0) return;
            seen.insert(seen.end(), piece.begin(), piece.begin() + static_cast<std::ptrdiff_t>(*got));
        }
    };
    const std::string to = "rtmp://127.0.0.1:" + std::to_string(rtmp) + "/house/lakeside-key";
    {
        const Background publisher({"stream", "run", "harbour.mp4", "--push", to}, dir.path());
        watch_until([&] { return get(port, "/camera-live.m3u8").starts_with("HTTP/1.1 200"); });
        CHECK(get(port, "/camera-live.m3u8").starts_with("HTTP/1.1 200"));
        const auto begun = std::chrono::steady_clock::now();
        watch_until([&] { return std::chrono::steady_clock::now() - begun > 3s; });
    }
    const std::size_t of_first = seen.size();
    const Background publisher({"stream", "run", "harbour.mp4", "--push", to}, dir.path());
    watch_until([&] { return seen.size() > 2 * of_first; });
    write_all(dir / "seen.ts", seen);
    const auto got = read_media(dir / "seen.ts");
    REQUIRE(got.size() == 2);
    // Both publishers' pictures, each once and in order, on one timeline.
    std::map<ByteVector, std::size_t> number;
    for (std::size_t i = 0; i < test_tracks[0].packets.size(); ++i)
        number.emplace(payload_of({test_tracks[0].track, {test_tracks[0].packets[i]}}), i);
    auto pictures = got[0].packets;
    pictures.pop_back();  // cut anywhere
    std::size_t breaks = 0, before = 0;
    for (std::size_t i = 0; i < pictures.size(); ++i) {
        const auto found = number.find(payload_of({got[0].track, {pictures[i]}}));
        REQUIRE(found != number.end());
        if (i > 0) {
            CHECK(pictures[i].dts > pictures[i - 1].dts);
            breaks += found->second != before + 1 ? 1 : 0;
        }
        before = found->second;
    }
    CHECK(breaks == 1);
    CHECK(pictures.size() > 100);
    for (const char* what : {"file", "hls"}) {
        const Ran no = run_program({"stream", "run", "--publish-key", "lakeside-key", "--delivery", what}, dir.path());
        CHECK(no.status == 2);
    }
}

TEST_CASE("only those who may get a stream", "[server]") {
    const TempDir dir;
    write_media(dir / "a.mp4", "mp4", {video_track(Codec::h264, 240), audio_track(Codec::aac, 10)});
    const std::uint16_t port = free_port(), rtmp = free_port();
    write_all(
        dir / "site.toml",
        "[site]\nname = \"Cedar Landing\"\n[server]\nport = " + std::to_string(port) +
            "\nrtmp_port = " + std::to_string(rtmp) +
            "\n[[stream]]\nname = \"Open\"\nfile = \"a.mp4\"\n"
            "[[stream]]\nname = \"Keyed\"\nfile = \"a.mp4\"\nkey = \"reed bed\"\ndelivery = [\"file\", \"hls\", "
            "\"live\", "
            "\"rtmp\"]\nloop = true\n"
            "[[stream]]\nname = \"Elsewhere\"\nfile = \"a.mp4\"\nfrom = [\"192.0.2.0/24\"]\ndelivery = [\"file\", "
            "\"live\"]\n");
    const Background program({"stream", "run", "--site", "site.toml"}, dir.path());
    REQUIRE(wait_for_port(port));
    REQUIRE(program.has_written("Ctrl-C stops all streams"));
    CHECK(get(port, "/open.mp4", "Range: bytes=0-1\r\n").starts_with("HTTP/1.1 206"));
    CHECK(get(port, "/elsewhere.mp4").starts_with("HTTP/1.1 403"));
    CHECK(get(port, "/elsewhere-live.ts").starts_with("HTTP/1.1 403"));
    for (const char* path : {"/keyed.mp4", "/keyed.m3u8", "/keyed-0.ts", "/keyed-live.ts", "/keyed.mp4?key=reed",
                             "/keyed.mp4?key=reed%20bedd"})
        CHECK(get(port, path).starts_with("HTTP/1.1 403"));
    CHECK(get(port, "/keyed.mp4?key=reed%20bed", "Range: bytes=0-1\r\n").starts_with("HTTP/1.1 206"));
    const auto list = container::parse_playlist(body_of(get(port, "/keyed.m3u8?key=reed%20bed")), "x");
    REQUIRE(list);
    CHECK(get(port, "/" + list->segments.at(0).uri).starts_with("HTTP/1.1 200"));
    const auto play = [&](const std::string& name) {
        const auto client = net::RtmpClient::connect({"127.0.0.1", rtmp, "house", name});
        REQUIRE(client);
        return (*client)->play().has_value();
    };
    CHECK_FALSE(play("keyed"));
    CHECK(play("keyed?key=reed%20bed"));
    const Ran shown = run_program({"site", "show", "site.toml"}, dir.path());
    CHECK(shown.status == 0);
}

TEST_CASE("lists play live one after the other, and what can't is refused", "[server][waits]") {
    const TempDir dir;
    std::filesystem::create_directory(dir / "evening");
    write_media(dir / "evening/1 lake.mp4", "mp4", {video_track(Codec::h264, 48), audio_track(Codec::aac, 2)});
    write_media(dir / "evening/2 reeds.mkv", "matroska", {video_track(Codec::h264, 48), audio_track(Codec::aac, 2)});
    write_all(dir / "evening/notes.txt", std::string("not a film"));
    const std::uint16_t port = free_port();
    write_all(dir / "site.toml", "[site]\nname = \"Cedar Landing\"\n[server]\nport = " + std::to_string(port) +
                                     "\n[[stream]]\nname = \"Evening\"\nfolder = \"evening\"\nloop = true\n");
    CHECK(run_program({"site", "check", "site.toml"}, dir.path()).status == 0);
    const Background program({"stream", "run", "--site", "site.toml"}, dir.path());
    REQUIRE(wait_for_port(port));
    REQUIRE(program.has_written("2 parts"));
    const std::string live = [&] {
        std::string all;
        for (int i = 0; i < 3; ++i) {
            const Ran ran = run_program({"verify", "http://127.0.0.1:" + std::to_string(port) + "/evening-live.ts",
                                         "--device", "player-full", "--for", "6 s", "--json"},
                                        dir.path());
            all = ran.out;
            if (ran.status == 0) break;
        }
        return all;
    }();
    const Json result = Json::parse(live)["results"][0];
    INFO(live);
    CHECK(result["verdict"] != "fail");
    CHECK((*check_named(result, "packets"))["measured"] == "0 gaps");
    const Ran several = run_program(
        {"stream", "run", "evening/1 lake.mp4", "evening/2 reeds.mkv", "--delivery", "file", "--for", "1 s"},
        dir.path());
    CHECK(several.status == 2);
    CHECK(several.err.find("several parts") != std::string::npos);
    const Ran both = run_program(
        {"stream", "run", "evening/1 lake.mp4", "--publish-key", "lakeside-key", "--for", "1 s"}, dir.path());
    CHECK(both.status == 2);
    const Ran weak = run_program({"stream", "run", "--publish-key", "lake", "--for", "1 s"}, dir.path());
    CHECK(weak.status == 2);
    CHECK(weak.err.find("too short") != std::string::npos);
    const Ran word =
        run_program({"stream", "run", "evening/1 lake.mp4", "--delivery", "smoke", "--for", "1 s"}, dir.path());
    CHECK(word.status == 2);
    CHECK(word.err.find("unknown delivery") != std::string::npos);
}

TEST_CASE("a live stream from another address goes out again, and is waited for when it is gone", "[server][waits]") {
    const TempDir dir;
    write_media(dir / "harbour.mp4", "mp4", {video_track(Codec::h264, 480), audio_track(Codec::aac, 20)});
    const std::string far = "udp://127.0.0.1:" + std::to_string(free_port());
    const auto send = [&] {
        return std::make_unique<Background>(
            std::vector<std::string>{"stream", "run", "harbour.mp4", "--loop", "--udp", far.substr(6)}, dir.path());
    };
    const Ran nothing = run_program({"stream", "run", far, "--delivery", "live", "--for", "1 s"}, dir.path());
    CHECK(nothing.status == 3);
    auto sender = send();
    const std::uint16_t port = free_port(), rtmp = free_port();
    const Background relay({"stream", "run", far, "--name", "Tower", "--delivery", "live,rtmp", "--port",
                            std::to_string(port), "--rtmp-port", std::to_string(rtmp)},
                           dir.path());
    REQUIRE(wait_for_port(port, 20'000));
    // (A busy machine may lose datagrams once: that it goes out at all is what is tested here.)
    const auto watch = [&](const std::string& address) {
        Ran ran;
        for (int i = 0; i < 3; ++i) {
            ran = run_program(
                {"verify", address, "--device", "player-full", "--for", "3 s", "--wait", "10 s", "--json"}, dir.path());
            if (ran.status == 0) break;
        }
        return ran;
    };
    const std::string here = "http://127.0.0.1:" + std::to_string(port) + "/tower-live.ts";
    Ran ran = watch(here);
    INFO(ran.out);
    INFO(relay.output());
    CHECK(ran.status == 0);
    // And once more from there: a stream taken from an RTMP server.
    const std::uint16_t third_port = free_port();
    const Background third({"stream", "run", "rtmp://127.0.0.1:" + std::to_string(rtmp) + "/house/tower", "--name",
                            "Third", "--delivery", "live", "--port", std::to_string(third_port)},
                           dir.path());
    REQUIRE(wait_for_port(third_port, 20'000));
    ran = watch("http://127.0.0.1:" + std::to_string(third_port) + "/third-live.ts");
    CHECK(ran.status == 0);
    const auto state = [&] {
        return json_of(run_program({"stream", "status", "--port", std::to_string(port), "--json"},
                                   dir.path()))["streams"][0]["state"]
            .get<std::string>();
    };
    sender.reset();
    std::string now;
    for (int i = 0; i < 100 && (now = state()) != "source lost"; ++i) std::this_thread::sleep_for(100ms);
    CHECK(now == "source lost");
    sender = send();
    for (int i = 0; i < 200 && (now = state()) != "playing"; ++i) std::this_thread::sleep_for(100ms);
    CHECK(now == "playing");
    const Ran after = watch(here);
    INFO("after the source came back: " << after.out);
    CHECK(after.status == 0);
}

// Plays a film and seeks in it, then a live stream, in a browser, as its users would.
void check_in_browser(const Running& r, const std::string& film, const std::string& live) {
    // The live window needs a few segments before a browser begins.
    for (int i = 0; i < 100; ++i) {
        auto list = container::parse_playlist(body_of(get(r.port, live)), "x");
        if (list && !list->variants.empty())
            list = container::parse_playlist(body_of(get(r.port, "/" + list->variants[0].uri)), "x");
        if (list && list->segments.size() >= 4) break;
        std::this_thread::sleep_for(200ms);
    }
    const std::string page = R"(<!doctype html><body><script>
const report = r => fetch('/result', {method: 'POST', body: JSON.stringify(r)});
const within = (promise, ms, what) => Promise.race([promise, new Promise((_, no) => setTimeout(() => no('too slow: ' + what), ms))]);
const event = (v, name) => new Promise((done, no) => { v.addEventListener(name, done, {once: true}); v.addEventListener('error', () => no(v.error && v.error.message), {once: true}); });
const sleep = ms => new Promise(done => setTimeout(done, ms));
async function play(url, seek) {
  const v = document.createElement('video'); v.muted = true; v.preload = 'auto'; document.body.append(v);
  const result = {};
  try {
    v.src = url;
    if (v.readyState < 2) await within(event(v, 'loadeddata'), 15000, 'loadeddata');
    result.duration = v.duration === Infinity ? -1 : v.duration; result.width = v.videoWidth; result.height = v.videoHeight;
    await within(v.play(), 8000, 'play'); const from = v.currentTime;
    // (A busy machine may begin late.)
    for (let i = 0; i < 60 && !(result.moved > 1 && result.frames > 10); ++i) {
      await sleep(250);
      result.moved = v.currentTime - from; result.frames = v.getVideoPlaybackQuality().totalVideoFrames;
    }
    if (seek) { const seeked = event(v, 'seeked'); v.currentTime = 13; await within(seeked, 8000, 'seek'); await sleep(800); result.landed = v.currentTime; }
  } catch (e) { result.error = String(e); }
  v.remove();
  return result;
}
(async () => { const film = await play('FILM', true); const live = await play('LIVE', false); report({film, live}); })();
</script></body>)";
    std::string text = page;
    text.replace(text.find("FILM"), 4, r.address(film));
    text.replace(text.find("LIVE"), 4, r.address(live));
    const std::string got = run_page(text, 60);
    INFO(got);
    REQUIRE_FALSE(got.empty());
    const Json json = Json::parse(got);
    CHECK_FALSE(json["film"].contains("error"));
    CHECK(json["film"].value("duration", 0.0) == Approx(20).margin(0.2));
    CHECK(json["film"].value("width", 0) == 320);
    CHECK(json["film"].value("moved", 0.0) > 0.2);
    CHECK(json["film"].value("frames", 0) > 5);
    CHECK(json["film"].value("landed", 0.0) >= 13);
    CHECK_FALSE(json["live"].contains("error"));
    CHECK(json["live"].value("moved", 0.0) > 0.2);
    CHECK(json["live"].value("frames", 0) > 5);
}

TEST_CASE("a browser plays HLS of a film and seeks in it, and HLS of a live stream", "[server][browser][waits]") {
    if (!has_browser()) return;
    check_in_browser(Running(), "/harbour.m3u8", "/harbour-live.m3u8");
}

TEST_CASE("by HTTPS a stream is had in every way that HTTP has", "[server][tls][waits]") {
    Running r({"--delivery", "file,hls,live"});  // makes the film
    r.program->end(SIGTERM);
    make_certificate(r.dir / "cert.pem", r.dir / "key.pem", "127.0.0.1");
    const std::uint16_t tls_port = free_port();
    write_all(r.dir / "site.toml",
              "[server]\nlisten = \"127.0.0.1\"\nport = " + std::to_string(r.port) +
                  "\ntls_port = " + std::to_string(tls_port) +
                  "\ncertificate = \"cert.pem\"\ncertificate_key = \"key.pem\"\nplain_http = false\n"
                  "[[device]]\nname = \"Board\"\nclass = \"player-full\"\n[[device]]\nname = \"Tablet\"\nclass = "
                  "\"tablet-basic\"\n[[stream]]\nname = \"harbour\"\nfile = \"harbour.mp4\"\nloop = true\n"
                  "delivery = [\"file\", \"hls\", \"live\"]\n");
    const Background program({"stream", "run", "--site", "site.toml"}, r.dir.path());
    REQUIRE(wait_for_port(tls_port));
    CHECK(program.has_written("https://127.0.0.1:" + std::to_string(tls_port) + "/harbour.m3u8"));
    // The certificate of the site's own file is trusted; the table at the end tells all verdicts.
    const Ran all = r.run({"verify", "--site", "site.toml", "--for", "3 s"});
    INFO(all.out);
    CHECK(all.out.find("Summary:") != std::string::npos);
    CHECK(all.out.find("stream          Board  Tablet") != std::string::npos);
    CHECK(all.out.find("harbour         pass   pass") != std::string::npos);
    CHECK(all.out.find("harbour (hls)   pass   pass") != std::string::npos);
    CHECK(all.out.find("harbour (live)  ") != std::string::npos);
    const std::string address = "https://127.0.0.1:" + std::to_string(tls_port) + "/harbour.mp4";
    const Ran stranger = r.run({"verify", address, "--device", "player-full"});
    CHECK(stranger.status == 1);
    CHECK(stranger.out.find("certificate is not accepted") != std::string::npos);
    CHECK(r.run({"verify", address, "--device", "player-full", "--trust", "cert.pem"}).status == 0);
    // Nothing listens for plain HTTP.
    CHECK(get(r.port, "/harbour.mp4").empty());
    // Orders reach it all the same.
    CHECK(json_of(r.run({"stream", "status", "--site", "site.toml", "--json"}))["streams"][0]["name"] == "harbour");
    const Ran wrong =
        r.run({"stream", "run", "harbour.mp4", "--certificate", "cert.pem", "--certificate-key", "harbour.mp4",
               "--tls-port", std::to_string(free_port()), "--port", std::to_string(free_port()), "--for", "1 s"});
    CHECK(wrong.status == 3);
    CHECK(wrong.err.find("private key") != std::string::npos);
}

TEST_CASE("a screen that waits plays its stream whenever it appears", "[server][waits]") {
    Running r({"--delivery", "live"}, false);
    r.program->end(SIGTERM);
    const std::string address = r.address("/harbour-live.ts");
    Background screen({"verify", address, "--device", "player-full", "--again"}, r.dir.path());
    REQUIRE(screen.has_written("waiting for " + address));
    for (int round = 1; round <= 2; ++round) {
        const Background film({"stream", "run", "harbour.mp4", "--delivery", "live", "--port", std::to_string(r.port),
                               "--for", "4 s", "-q"},
                              r.dir.path());
        REQUIRE(wait_for_port(r.port));
        for (int i = 0; i < 200; ++i) {
            const std::string text = screen.output();
            std::size_t played = 0;
            for (std::size_t at = 0; (at = text.find("on player-full", at)) != std::string::npos; ++at) ++played;
            if (played >= static_cast<std::size_t>(round)) break;
            std::this_thread::sleep_for(50ms);
        }
    }
    CHECK(screen.end(SIGINT) == 0);
    INFO(screen.output());
    CHECK(screen.output().find("Played 2 times") != std::string::npos);
    const Ran several = r.run({"verify", "--site", "gone.toml", "--again"});
    CHECK(several.status != 0);
}

TEST_CASE("a subtitle file goes along: beside the film, and in HLS as a rendition of its own", "[server]") {
    Running r({"--delivery", "file,hls"}, false);
    r.program->end(SIGTERM);
    write_all(r.dir / "harbour.de.srt", std::string("1\n00:00:01,000 --> 00:00:03,000\nThe boats <i>come</i> in.\n\n"
                                                    "2\n00:00:04,500 --> 00:00:06,000\nNets & ropes\n\n"));
    const Background program({"stream", "run", "harbour.mp4", "--delivery", "file,hls", "--subtitles", "harbour.de.srt",
                              "--port", std::to_string(r.port)},
                             r.dir.path());
    REQUIRE(wait_for_port(r.port));
    CHECK(program.has_written("/harbour.vtt"));
    const std::string text = body_of(get(r.port, "/harbour.vtt"));
    // Two seconds on the clock of the segments are the title's beginning (RFC 8216, 3.5).
    CHECK(text.starts_with("WEBVTT\nX-TIMESTAMP-MAP=MPEGTS:180000,LOCAL:00:00:00.000\n"));
    CHECK(text.find("00:00:01.000 --> 00:00:03.000\nThe boats come in.") != std::string::npos);
    CHECK(text.find("Nets &amp; ropes") != std::string::npos);
    const std::string list = body_of(get(r.port, "/harbour.m3u8"));
    CHECK(list.find("TYPE=SUBTITLES") != std::string::npos);
    CHECK(list.find("LANGUAGE=\"de\"") != std::string::npos);
    const auto variants = container::parse_playlist(list, "x");
    REQUIRE(variants);
    REQUIRE(variants->variants.size() == 1);
    const auto film = container::parse_playlist(body_of(get(r.port, "/" + variants->variants[0].uri)), "x");
    REQUIRE(film);
    CHECK(film->segments.size() >= 3);
    const std::string first = body_of(get(r.port, "/" + film->segments[0].uri));
    // And the segments' clock does begin there.
    const std::int64_t pts = first_picture_ticks(base::as_bytes(first));
    CHECK(pts >= 180'000);
    CHECK(pts < 180'000 + 20'000);
    const auto words = container::parse_playlist(body_of(get(r.port, "/harbour-subtitles.m3u8")), "x");
    REQUIRE(words);
    CHECK(words->segments.at(0).uri == "harbour.vtt");
    CHECK(r.run({"verify", r.address("/harbour.m3u8"), "--device", "player-full"}).status == 0);
    CHECK(r.run({"stream", "run", "harbour.mp4", "--delivery", "live", "--subtitles", "harbour.de.srt"}).status == 2);
    CHECK(r.run({"stream", "run", "harbour.mp4", "--subtitles", "harbour.mp4"}).status == 3);
    write_all(r.dir / "choice.toml", std::string("[[stream]]\nname = \"Harbour\"\nfile = \"harbour.mp4\"\n"));
    // What is for files is not just left out where a site is run.
    const Ran beside = r.run({"stream", "run", "--site", "choice.toml", "--video", "2", "--loop", "--ttl", "2"});
    CHECK(beside.status == 2);
    CHECK(beside.err.find("--video, --loop, --ttl have no effect") != std::string::npos);
    CHECK(beside.err.find("video, loop of a [[stream]]; ttl of [server]") != std::string::npos);
}

TEST_CASE("subtitles in the film go along by HLS, on demand and live, and verify counts them",
          "[server][browser][waits]") {
    Running r({}, false);
    r.program->end(SIGTERM);
    // In all of the film: live, any part of it may be played.
    std::vector<std::pair<std::pair<int, int>, std::string>> lines = {{{500, 1'500}, "Is it far?"}};
    for (int second = 2; second < 20; second += 2)
        lines.push_back({{second * 1'000, second * 1'000 + 1'500}, "Across the lake."});
    TestTrack words = text_track(lines);
    words.track.language = "eng";
    write_media(r.dir / "crossing.mkv", "matroska",
                {video_track(Codec::h264, 480), audio_track(Codec::aac, 20), words});
    const Background program({"stream", "run", "crossing.mkv", "--delivery", "hls,live-hls,live", "--loop", "--port",
                              std::to_string(r.port)},
                             r.dir.path());
    REQUIRE(wait_for_port(r.port));
    const auto list = container::parse_playlist(body_of(get(r.port, "/crossing.m3u8")), "x");
    REQUIRE(list);
    REQUIRE(list->subtitles.size() == 1);
    CHECK(list->subtitles[0].language == "en");
    CHECK(list->subtitles[0].name == "English");
    REQUIRE(list->variants.size() == 1);
    CHECK(list->variants[0].subtitles);
    CHECK(body_of(get(r.port, "/crossing-subtitles-1-0.vtt")).find("00:00:00.500 --> 00:00:01.500\nIs it far?") !=
          std::string::npos);
    for (const char* none : {"/crossing-subtitles-0.m3u8", "/crossing-subtitles-2.m3u8", "/crossing-subtitles-1-9.vtt",
                             "/crossing-subtitles-2-0.vtt", "/crossing-subtitles-1.vtt", "/crossing-subtitles-x-0.vtt"})
        CHECK(get(r.port, none).starts_with("HTTP/1.1 404"));
    const auto found = [&](const Ran& ran) {
        INFO(ran.out);
        const auto result = json_of(ran)["results"][0];
        for (const auto& check : result["checks"])
            if (check["name"] == "subtitles") return check["measured"].get<std::string>();
        return std::string("no check");
    };
    CHECK(found(r.run({"verify", r.address("/crossing.m3u8"), "--device", "player-full", "--json"})) ==
          "English: 10 cues");
    // Live: some of those of the window, whatever was played by then.
    const std::string live = found(r.run({"verify", r.address("/crossing-live.m3u8"), "--device", "player-full",
                                          "--for", "6 s", "--wait", "10 s", "--json"}));
    CHECK(live.starts_with("English: "));
    CHECK(live != "English: 0 cues");
    CHECK(found(r.run({"verify", r.address("/crossing-live.ts"), "--device", "player-full", "--for", "2 s",
                       "--json"})) == "no check");
    if (has_browser()) check_in_browser(r, "/crossing.m3u8", "/crossing-live.m3u8");
}

TEST_CASE("connections that never finish their request hold up nobody", "[server][waits]") {
    const Running r({"--delivery", "file,live,rtmp"});
    std::vector<int> half;
    const auto open = [&](std::uint16_t port, const std::string& text) { half.push_back(connect_to(port, text)); };
    for (int i = 0; i < 60; ++i) {
        open(r.port, "GET /harbour-live.ts HTT");
        open(r.port, "POST /control/do HTTP/1.1\r\nHost: x\r\nContent-Length: 5000\r\n\r\n{");
        open(r.rtmp_port, std::string("\x03garbage", 8));
        open(r.rtmp_port, "");
    }
    CHECK(get(r.port, "/harbour.mp4", "Range: bytes=0-9\r\n").starts_with("HTTP/1.1 206"));
    for (const std::string& address : {r.address("/harbour-live.ts"), r.rtmp("harbour")})
        CHECK(r.run({"verify", address, "--device", "player-full", "--for", "2 s"}).status == 0);
    // All of them reset at once.
    const linger at_once{1, 0};
    for (const int handle : half) {
        ::setsockopt(handle, SOL_SOCKET, SO_LINGER, &at_once, sizeof at_once);
        ::close(handle);
    }
    CHECK(r.run({"verify", r.rtmp("harbour"), "--device", "player-full", "--for", "2 s"}).status == 0);
    CHECK(r.program->end(SIGTERM) == 0);
}

TEST_CASE("streams have ports of their own, and are nowhere else", "[server]") {
    const TempDir dir;
    write_media(dir / "a.mp4", "mp4", {video_track(Codec::h264, 240), audio_track(Codec::aac, 10)});
    make_certificate(dir / "cert.pem", dir / "key.pem", "127.0.0.1");
    const std::uint16_t port = free_port(), own = free_port(), rtmp = free_port(), own_rtmp = free_port(),
                        tls = free_port(), own_tls = free_port();
    const auto text = [](std::uint16_t number) { return std::to_string(number); };
    const std::string server = "[server]\nadvertise = \"127.0.0.1\"\nport = " + text(port) +
                               "\nrtmp_port = " + text(rtmp) + "\ntls_port = " + text(tls) +
                               "\ncertificate = \"cert.pem\"\ncertificate_key = \"key.pem\"\n";
    const std::string streams =
        "[[stream]]\nname = \"Shared\"\nfile = \"a.mp4\"\ndelivery = [\"file\", \"rtmp\"]\nloop = true\n"
        "[[stream]]\nname = \"Own\"\nfile = \"a.mp4\"\ndelivery = [\"file\", \"hls\", \"live\", \"rtmp\"]\nloop = "
        "true\n";
    write_all(dir / "site.toml", server + streams + "port = " + text(own) + "\nrtmp_port = " + text(own_rtmp) +
                                     "\ntls_port = " + text(own_tls) + "\n");
    const Ran shown = run_program({"site", "show", "site.toml", "--plain"}, dir.path());
    CHECK(shown.out.find("rtmp://127.0.0.1:" + text(own_rtmp) + "/house/own") != std::string::npos);
    {
        const Background program({"stream", "run", "--site", "site.toml"}, dir.path());
        REQUIRE(wait_for_port(port));
        REQUIRE(program.has_written("Ctrl-C stops all streams"));
        CHECK(program.has_written("http://127.0.0.1:" + text(own) + "/own.mp4"));
        CHECK(program.has_written("https://127.0.0.1:" + text(own_tls) + "/own.mp4"));
        const auto answers = [](std::uint16_t at, const char* path, const char* status) {
            INFO(at << path);
            CHECK(get(at, path, "Range: bytes=0-1\r\n").starts_with(std::string("HTTP/1.1 ") + status));
        };
        answers(port, "/shared.mp4", "206");
        answers(own, "/own.mp4", "206");
        answers(own, "/own.m3u8", "206");
        for (const char* path : {"/own.mp4", "/own.m3u8", "/own-0.ts", "/own-live.ts"}) answers(port, path, "404");
        answers(own, "/shared.mp4", "404");
        answers(port, "/control", "206");
        answers(own, "/control", "404");
        // Each port tells of its own streams alone.
        CHECK(get(own, "/").find("/shared") == std::string::npos);
        CHECK(get(port, "/").find("/own") == std::string::npos);
        const auto secure = [&](std::uint16_t at, const char* path) {
            const auto answered = net::HttpClient::exchange({"127.0.0.1", at, path, true, dir / "cert.pem"}, {});
            return answered ? answered->status : 0;
        };
        CHECK(secure(own_tls, "/own.mp4") == 200);
        CHECK(secure(tls, "/shared.mp4") == 200);
        CHECK(secure(tls, "/own.mp4") == 404);
        CHECK(secure(own_tls, "/shared.mp4") == 404);
        const auto plays = [&](std::uint16_t at, const char* name) {
            const auto client = net::RtmpClient::connect({"127.0.0.1", at, "house", name});
            return client && (*client)->play().has_value();
        };
        CHECK(plays(own_rtmp, "own"));
        CHECK(plays(rtmp, "shared"));
        CHECK_FALSE(plays(rtmp, "own"));
        CHECK_FALSE(plays(own_rtmp, "shared"));
        // The ports are taken by these very streams: nothing is wrong with that.
        const Ran again = run_program({"site", "check", "site.toml"}, dir.path());
        INFO(again.out);
        CHECK(again.out.find("in use") == std::string::npos);
        // A second run of it names who is in the way, at a stream's port, too.
        write_all(dir / "second.toml", "[server]\nport = " + text(free_port()) +
                                           "\n[[stream]]\nname = \"Own\"\nfile = \"a.mp4\"\nport = " + text(own) +
                                           "\n");
        const Ran checked = run_program({"site", "check", "second.toml"}, dir.path());
        CHECK(checked.status == 1);
        CHECK(checked.out.find("TCP port " + text(own) + " is in use by the process \"wavecrest\"") !=
              std::string::npos);
        CHECK(checked.out.find("second.toml, line 3") != std::string::npos);
        CHECK(run_program({"stream", "run", "--site", "second.toml"}, dir.path()).status == 4);
    }
    const auto finds = [&](const std::string& more, const std::string& what) {
        write_all(dir / "wrong.toml", more);
        const Ran ran = run_program({"site", "check", "wrong.toml"}, dir.path());
        INFO(ran.out << ran.err);
        CHECK(ran.status == 1);
        CHECK((ran.out + ran.err).find(what) != std::string::npos);
    };
    finds(server + streams + "port = " + text(rtmp) + "\n",
          "rtmp_port and port of stream \"Own\" are both " + text(rtmp));
    finds(streams + "tls_port = 9000\n", "without a certificate");
    finds("[[stream]]\nname = \"x\"\nfile = \"a.mp4\"\nrtmp_port = 9000\n", "not delivered by RTMP");
    finds("[[stream]]\nname = \"x\"\nfile = \"a.mp4\"\ndelivery = [\"rtmp\"]\nport = 9000\n", "not delivered by HTTP");
}

TEST_CASE("the audio that goes with a stream is chosen by language or number, in HLS, too", "[server][waits]") {
    const TempDir dir;
    std::vector<TestTrack> test_tracks = {video_track(Codec::h264, 240), audio_track(Codec::aac, 10, 2),
                                          audio_track(Codec::aac, 10, 3), audio_track(Codec::aac, 10, 4)};
    test_tracks[1].track.language = "eng";
    test_tracks[2].track.language = "deu";
    test_tracks[3].track.language = "eng";
    test_tracks[3].track.purpose = Purpose::commentary;
    write_media(dir / "a.mp4", "mp4", test_tracks);
    const auto languages = [&](const std::string& audio) {
        const std::uint16_t port = free_port();
        const Background program({"stream", "run", "a.mp4", "--delivery", "hls,live", "--loop", "--audio", audio,
                                  "--port", std::to_string(port)},
                                 dir.path());
        REQUIRE(wait_for_port(port));
        std::vector<std::string> all;
        for (const char* path : {"/a-0.ts", "/a-live.ts"}) {
            std::string bytes(120'000, 0);
            net::HttpClient client(local_url(port, path));
            REQUIRE(client.get(0));
            std::size_t at = 0;
            while (at < bytes.size()) {
                const auto got = client.read({reinterpret_cast<std::uint8_t*>(bytes.data()) + at, bytes.size() - at});
                if (!got || *got == 0) break;
                at += *got;
            }
            bytes.resize(at / 188 * 188);
            write_all(dir / "piece.ts", bytes);
            const Json seen = json_of(run_program({"inspect", "piece.ts", "--json"}, dir.path()));
            std::string found;
            for (const Json& track : seen["tracks"]) {
                if (track["kind"] == "audio") found += track["language"].get<std::string>() + " ";
            }
            all.push_back(found);
        }
        CHECK(all[0] == all[1]);
        return all[0];
    };
    CHECK(languages("de") == "deu ");
    CHECK(languages("1") == "eng ");
    CHECK(languages("en") == "eng eng ");
    CHECK(languages("3,de") == "deu eng ");
    CHECK(languages("none").empty());
    for (const char* audio : {"fr", "4"}) {
        const Ran ran = run_program({"stream", "run", "a.mp4", "--delivery", "hls", "--audio", audio}, dir.path());
        CHECK(ran.status == 2);
        CHECK(ran.err.find(std::string("there is no audio \"") + audio + "\"") != std::string::npos);
    }
    CHECK(run_program({"stream", "run", "a.mp4", "--delivery", "hls", "--audio", "none,en"}, dir.path()).status == 2);
    CHECK(run_program({"stream", "run", "a.mp4", "--audio", "en"}, dir.path()).status == 2);
    // The same words choose what is converted; inspect gives the numbers.
    CHECK(run_program({"inspect", "a.mp4"}, dir.path()).out.find("audio 3  AAC") != std::string::npos);
    const Ran kept = run_program(
        {"convert", "a.mp4", "--remux", "matroska", "--into", ".", "--name", "b", "--audio", "2", "-q"}, dir.path());
    INFO(kept.out << kept.err);
    REQUIRE(kept.status == 0);
    const auto remuxed = read_media(dir / "b/b.mkv");
    REQUIRE(remuxed.size() == 2);
    CHECK(media::language_639_2(remuxed[1].track.language) == "deu");
}
