// Ladders through the program: made, looked at, streamed, verified on links that are squeezed, and taken as an input.
#include <catch2/catch.hpp>
#include <future>
#include <nlohmann/json.hpp>

#include "support/clips.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;

namespace {

nlohmann::json verified(const std::string& address, const base::Path& folder, std::vector<std::string> more,
                        int status) {
    std::vector<std::string> arguments = {"verify", address, "--json", "-q"};
    arguments.insert(arguments.end(), more.begin(), more.end());
    if (std::find(more.begin(), more.end(), "--device") == more.end())
        arguments.insert(arguments.end(), {"--device", "tv-hd"});
    const Ran ran = run_program(arguments, folder);
    INFO(ran.out << ran.err);
    CHECK(ran.status == status);
    return json_of(ran).at("results").at(0);
}

const nlohmann::json& check_of(const nlohmann::json& result, const std::string& name) {
    for (const auto& check : result.at("checks")) {
        if (check.at("name") == name) return check;
    }
    FAIL("no check " << name);
    return result;
}

// A ladder in a folder of its own, to be spoilt.
base::Path copy_ladder(const TempDir& dir) {
    const base::Path folder = dir / "Copy.ladder";
    std::filesystem::copy(sample_ladder(), folder);
    return folder;
}

void replace_in(const base::Path& file, const std::string& what, const std::string& with) {
    std::string text = read_text(file);
    REQUIRE(text.find(what) != std::string::npos);
    for (std::size_t at = 0; (at = text.find(what, at)) != std::string::npos; at += with.size())
        text.replace(at, what.size(), with);
    write_all(file, text);
}

}  // namespace

TEST_CASE("a ladder's rungs are chosen from samples, and told before anything is made", "[cli][ladder]") {
    const TempDir dir;
    write_all(dir / "auto.toml",
              std::string("name = \"quick\"\nladder = \"auto\"\n[video]\neffort = 1\nvisual_quality = 74\n"
                          "max_size = \"360p\"\n"));
    const Ran plan = run_program(
        {"convert", sample_disc().string(), "--pick", "2", "--profile", "auto.toml", "--plan", "--into", "out"},
        dir.path());
    INFO(plan.out << plan.err);
    REQUIRE(plan.status == 0);
    CHECK(plan.out.find("rungs with keyframes every 2.002 s, for HLS and DASH") != std::string::npos);
    CHECK(plan.out.find("as good as the profile asks for (visual_quality 74)") != std::string::npos);
    CHECK(plan.out.find("640x360") != std::string::npos);
    CHECK(plan.out.find("x the bits of the rung above") != std::string::npos);
    CHECK_FALSE(std::filesystem::exists(dir / "out"));
    // Without samples the usual ones.
    const Ran usual = run_program(
        {"convert", sample_disc().string(), "--pick", "2", "--ladder", "--profile", "auto.toml", "--into", "out", "-q"},
        dir.path());
    INFO(usual.out << usual.err);
    REQUIRE(usual.status == 0);
    CHECK(usual.out.find("ladder.m3u8: HLS, ladder.mpd: DASH") != std::string::npos);
    const base::Path folder = dir / "out" / "Sample Film - title 2 (2020)" / "Sample Film - title 2 (2020).ladder";
    CHECK(std::filesystem::exists(folder / "ladder.mpd"));
    CHECK(read_text(folder / "index.html").find("<h1>Sample Film - title 2 (2020)</h1>") != std::string::npos);
    // Again: nothing of it is overwritten.
    const Ran again = run_program(
        {"convert", sample_disc().string(), "--pick", "2", "--profile", "auto.toml", "--ladder", "--into", "out", "-q"},
        dir.path());
    CHECK(again.status == 4);
    CHECK(again.err.find("is not overwritten") != std::string::npos);
    for (const auto& [more, what] : std::vector<std::pair<std::vector<std::string>, std::string>>{
             {{"--device", "tv-hd"}, "a ladder is made by a profile"},
             {{"--remux", "mp4"}, "a ladder is made by a profile"},
             {{"--profile", "phone,any-room"}, "a ladder is made by one profile"},
             {{"--profile", "audio-only"}, "a ladder needs a profile that encodes video"}}) {
        std::vector<std::string> arguments = {"convert", sample_film().string(), "--ladder", "--into", "other"};
        arguments.insert(arguments.end(), more.begin(), more.end());
        const Ran ran = run_program(arguments, dir.path());
        CHECK(ran.status == 2);
        CHECK(ran.err.find(what) != std::string::npos);
    }
}

TEST_CASE("a ladder is looked at, and its best rung is an input like any other", "[cli][ladder]") {
    const TempDir dir;
    const Ran looked = run_program({"inspect", sample_ladder().string(), "--json"}, dir.path());
    REQUIRE(looked.status == 0);
    const auto json = json_of(looked);
    CHECK(json.at("container") == "hls");
    CHECK(json.at("name") == "Sample Film (2020)");
    REQUIRE(json.at("rungs").size() == 3);
    CHECK(json.at("rungs")[0].at("height") == 480);
    CHECK(json.at("rungs")[2].at("height") == 180);
    CHECK(json.at("tracks").size() == 3);
    CHECK(json_of(run_program({"inspect", (sample_ladder() / "ladder.mpd").string(), "--json"}, dir.path()))
              .at("rungs")
              .size() == 3);
    const Ran remuxed =
        run_program({"convert", sample_ladder().string(), "--remux", "matroska", "--into", "out", "-q"}, dir.path());
    INFO(remuxed.err);
    REQUIRE(remuxed.status == 0);
    const auto film = read_media(dir / "out" / "Sample Film (2020)" / "Sample Film (2020).mkv");
    const auto rung = read_media(sample_ladder() / "video-480p.mp4");
    REQUIRE(film.size() == 3);
    CHECK(film[0].packets.size() == static_cast<std::size_t>(kSampleFrames));
    CHECK(payload_of(film[0]) == payload_of(rung[0]));
    CHECK(film[2].packets.size() == 2);  // the text
    // The tracks of a ladder are no films of a shelf.
    const Ran shelf = run_program(
        {"convert", samples().string() + "/ladders", "--plan", "--no-samples", "--into", "out2"}, dir.path());
    CHECK(shelf.out.find("video-480p") == std::string::npos);
}

TEST_CASE("what isn't there of a ladder is told, whichever rung it is of", "[cli][ladder]") {
    const TempDir dir;
    const base::Path folder = copy_ladder(dir);
    const auto problems = [&](const char* name) {
        return json_of(run_program({"inspect", (folder / name).string(), "--json"}, dir.path())).at("problems");
    };
    CHECK(problems("ladder.m3u8").empty());
    CHECK(problems("ladder.mpd").empty());
    const base::Path lowest = folder / "video-180p.mp4";
    std::filesystem::resize_file(lowest, std::filesystem::file_size(lowest) / 2);
    for (const char* name : {"ladder.m3u8", "ladder.mpd"}) {
        const auto found = problems(name);
        REQUIRE(found.size() == 1);
        CHECK(found[0].at("what").get<std::string>().find("320x180: the file is shorter") == 0);
        CHECK(found[0].at("from_s").get<double>() > 0);
        CHECK(found[0].at("from_s").get<double>() < found[0].at("to_s").get<double>());
    }
    std::filesystem::remove(lowest);
    CHECK(problems("ladder.m3u8").size() == 1);
    CHECK(problems("ladder.mpd").size() == 1);
    std::filesystem::remove(folder / "video-180p.m3u8");
    CHECK(problems("ladder.m3u8")[0].at("what").get<std::string>().find("video-180p.m3u8") != std::string::npos);
    std::filesystem::remove(folder / "ladder.m3u8");
    const Ran none = run_program({"inspect", folder.string()}, dir.path());
    CHECK(none.status == 3);
    CHECK(none.err.find("playlist ladder.m3u8 is missing") != std::string::npos);
}

TEST_CASE("a ladder that is streamed is played down and up as the link is squeezed, by HLS and DASH", "[cli][ladder]") {
    const TempDir dir;
    const std::uint16_t port = free_port();
    Background server({"stream", "run", sample_ladder().string(), "--name", "lake", "--port", std::to_string(port)},
                      dir.path());
    REQUIRE(wait_for_port(port));
    const std::string folder = "http://127.0.0.1:" + std::to_string(port) + "/lake-ladder/";
    for (const char* name : {"ladder.m3u8", "ladder.mpd"}) {
        const std::string device = std::string(name).ends_with("mpd") ? "browser-chromium" : "tv-hd";
        const auto fast = verified(folder + name, dir.path(), {"--device", device, "--link", "50 Mbit/s"}, 0);
        CHECK(fast.at("verdict") == "pass");
        CHECK(fast.at("rungs").size() == 3);
        CHECK(fast.at("changes").back().at("to") == "480p");
        CHECK(check_of(fast, "changes without a gap").at("measured") == "no gap");
        CHECK(check_of(fast, "bandwidth promised").at("measured") == "kept");
        // A player with little in its buffer meets a slow link after the first seconds.
        const auto squeezed = verified(
            folder + name, dir.path(),
            {"--device", device, "--link", "20 Mbit/s", "--squeeze", "3 Mbit/s 1500 ms, 260 kbit/s 8 s, 20 Mbit/s"}, 0);
        CHECK(squeezed.at("stalls").empty());
        CHECK(squeezed.at("link_rates").size() == 3);
        bool down = false, up_after = false;
        for (const auto& change : squeezed.at("changes")) {
            if (change.at("to") == "180p" && change.at("from") != "180p") down = true;
            up_after = up_after || (down && change.at("from") == "180p" && change.at("to") != "180p");
            CHECK(change.at("why").get<std::string>().size() > 10);
        }
        CAPTURE(squeezed.at("changes").dump());
        CHECK(down);
        CHECK(check_of(squeezed, "network").at("measured").get<std::string>().find("squeezed: 3.00 Mbit/s 1.5 s") == 0);
        // Less than the lowest rung needs: no ladder helps.
        const auto starved = verified(folder + name, dir.path(), {"--device", device, "--link", "100 kbit/s"}, 1);
        CHECK(starved.at("verdict") == "fail");
        CHECK(starved.at("cause") == "network");
    }
    const Ran wrong = run_program(
        {"verify", folder + "ladder.m3u8", "--device", "tv-hd", "--squeeze", "8 Mbit/s, 1 Mbit/s"}, dir.path());
    CHECK(wrong.status == 2);
    CHECK(wrong.err.find("has no length, and isn't the last") != std::string::npos);
    const Ran status = run_program({"stream", "status", "--port", std::to_string(port), "--json"}, dir.path());
    CHECK(status.status == 0);
    CHECK(server.output().find("index.html plays lake and shows the bit rate over time") != std::string::npos);
}

TEST_CASE("a ladder that is made anew while it is streamed is what players are given next", "[cli][ladder]") {
    const TempDir dir;
    const base::Path folder = copy_ladder(dir);
    const std::uint16_t port = free_port();
    const Background server({"stream", "run", folder.string(), "--name", "lake", "--port", std::to_string(port)},
                            dir.path());
    REQUIRE(wait_for_port(port));
    const std::string address = "http://127.0.0.1:" + std::to_string(port) + "/lake-ladder/ladder.m3u8";
    const auto rungs = [&] {
        return json_of(run_program({"inspect", address, "--json"}, dir.path())).at("rungs").size();
    };
    CHECK(rungs() == 3);
    // While it is gone, that is told; then there is one of two rungs.
    std::filesystem::rename(folder, dir / "old");
    const Ran gone = run_program({"inspect", address}, dir.path());
    CHECK(gone.status == 1);
    CHECK(gone.err.find("503") != std::string::npos);
    std::filesystem::copy(dir / "old", dir / "new");
    std::string list = read_text(dir / "new" / "ladder.m3u8");
    for (std::size_t at = 0; (at = list.find("\n#EXT-X-I-FRAME-STREAM-INF", at)) != std::string::npos;)
        list.erase(at, list.find('\n', at + 1) - at);
    const std::size_t last = list.rfind("#EXT-X-STREAM-INF");
    write_all(dir / "new" / "ladder.m3u8", list.substr(0, last));
    std::filesystem::rename(dir / "new", folder);
    CHECK(rungs() == 2);
    const auto played = verified(address, dir.path(), {"--link", "50 Mbit/s"}, 0);
    CHECK(played.at("verdict") == "pass");
    CHECK(played.at("rungs").size() == 2);
}

TEST_CASE("promises that a ladder doesn't keep are found", "[cli][ladder]") {
    const TempDir dir;
    const base::Path folder = copy_ladder(dir);
    const std::uint16_t port = free_port();
    // (A file server that knows nothing of ladders.)
    write_all(dir / "serve.py", std::string(R"(import http.server, os, re, sys
class Files(http.server.SimpleHTTPRequestHandler):
    def do_GET(self):
        path = self.translate_path(self.path)
        if not os.path.isfile(path): return self.send_error(404)
        body = open(path, 'rb').read()
        found = re.match(r'bytes=(\d+)-(\d*)', self.headers.get('Range', ''))
        if found:
            a = int(found[1]); b = int(found[2]) if found[2] else len(body) - 1
            self.send_response(206)
            self.send_header('Content-Range', 'bytes %d-%d/%d' % (a, b, len(body)))
            body = body[a:b + 1]
        else: self.send_response(200)
        self.send_header('Content-Length', str(len(body)))
        self.end_headers()
        self.wfile.write(body)
    protocol_version = 'HTTP/1.1'
    def log_message(self, *_): pass
http.server.ThreadingHTTPServer(('127.0.0.1', int(sys.argv[1])), Files).serve_forever()
)"));
    const int started =
        std::system(("cd '" + folder.string() + "' && exec /usr/bin/python3 ../serve.py " + std::to_string(port) +
                     " >/dev/null 2>&1 & echo $! > '" + (dir / "pid").string() + "'")
                        .c_str());
    REQUIRE(started == 0);
    REQUIRE(wait_for_port(port));
    const std::string address = "http://127.0.0.1:" + std::to_string(port) + "/ladder.m3u8";
    CHECK(verified(address, dir.path(), {}, 0).at("verdict") == "pass");
    const auto spoilt = [&](const char* file, const std::string& what, const std::string& with) {
        const std::string before = read_text(folder / file);
        replace_in(folder / file, what, with);
        return [=, &folder] { write_all(folder / file, before); };
    };
    {
        const std::string before = read_text(folder / "ladder.m3u8");
        std::string text = read_text(folder / "ladder.m3u8");
        const std::size_t at = text.find("BANDWIDTH=");
        text.replace(at, text.find(',', at) - at, "BANDWIDTH=300000");
        write_all(folder / "ladder.m3u8", text);
        const auto result = verified(address, dir.path(), {}, 0);
        CHECK(result.at("verdict") == "warn");
        CHECK(check_of(result, "bandwidth promised").at("verdict") == "warn");
        write_all(folder / "ladder.m3u8", before);
    }
    {
        const auto mend = spoilt("video-480p.m3u8", "#EXTINF:1.00100", "#EXTINF:1.50000");
        CHECK(check_of(verified(address, dir.path(), {}, 0), "segment durations").at("verdict") == "warn");
        mend();
    }
    {
        // One rung is another film: its segments don't follow those of the others.
        const std::string text = read_text(folder / "video-480p.m3u8");
        std::string shifted = text;
        const std::size_t first = shifted.find("#EXTINF");
        const std::size_t second = shifted.find("#EXTINF", first + 1);
        shifted.erase(first, second - first);
        write_all(folder / "video-480p.m3u8", shifted);
        const auto result = verified(address, dir.path(), {}, 1);
        CHECK(check_of(result, "changes without a gap").at("verdict") == "fail");
        write_all(folder / "video-480p.m3u8", text);
    }
    {
        // A rung that isn't played this time, because the link carries more.
        const std::string before = read_text(folder / "video-180p.mp4");
        std::filesystem::resize_file(folder / "video-180p.mp4", before.size() * 2 / 3);
        const auto result = verified(address, dir.path(), {}, 1);
        CHECK(check_of(result, "all bit rates there").at("verdict") == "fail");
        CHECK(check_of(result, "all bit rates there").at("measured").get<std::string>().find("180") !=
              std::string::npos);
        CHECK(check_of(result, "segments").at("verdict") == "pass");
        write_all(folder / "video-180p.mp4", before);
    }
    {
        const std::string before = read_text(folder / "video-180p.m3u8");
        std::string longer = before;
        longer.replace(longer.find("#EXTINF:1.00100"), 15, "#EXTINF:1.60000");
        write_all(folder / "video-180p.m3u8", longer);
        CHECK(check_of(verified(address, dir.path(), {}, 0), "segments aligned").at("verdict") == "warn");
        write_all(folder / "video-180p.m3u8", before);
    }
    std::filesystem::resize_file(folder / "video-480p.mp4", std::filesystem::file_size(folder / "video-480p.mp4") / 2);
    const auto cut = verified(address, dir.path(), {}, 1);
    CHECK(cut.at("verdict") == "fail");
    CHECK(cut.at("cause") != "network");
    write_all(folder / "ladder.m3u8", std::string("#EXTM3U\n#EXT-X-STREAM-INF:CODECS=\"a\"\nx.m3u8\n"));
    CHECK(verified(address, dir.path(), {}, 1).at("summary").get<std::string>().find("BANDWIDTH") != std::string::npos);
    std::system(("kill $(cat '" + (dir / "pid").string() + "')").c_str());
}

TEST_CASE("a disc goes out live in several bit rates, by HLS and DASH, beside its other live form",
          "[cli][ladder][waits]") {
    const TempDir dir;
    const std::uint16_t port = free_port();
    Background server({"stream", "run", sample_disc().string(), "--name", "lake", "--delivery", "ladder,live",
                       "--profile", (samples() / "ladder.toml").string(), "--loop", "--port", std::to_string(port)},
                      dir.path());
    REQUIRE(wait_for_port(port, 60'000));
    // (As many as this machine keeps up with just now: the smallest is always there.)
    CHECK(server.has_written(" of 3 rungs ("));
    CHECK(server.output().find("180p): encoded") != std::string::npos);
    const std::string host = "http://127.0.0.1:" + std::to_string(port);
    // (At the same time: each listens for as long as it lasts.)
    const std::vector<std::pair<std::string, std::string>> forms = {{"ladder.m3u8", "tv-hd"},
                                                                    {"ladder.mpd", "browser-chromium"}};
    std::vector<std::future<Ran>> running;
    for (const auto& [name, device] : forms)
        running.push_back(std::async(std::launch::async, [&, name = name, device = device] {
            return run_program({"verify", host + "/lake-ladder/" + name, "--device", device, "--for", "3 s", "--wait",
                                "20 s", "--json", "-q"},
                               dir.path());
        }));
    for (std::future<Ran>& one : running) {
        const Ran ran = one.get();
        INFO(ran.out << ran.err);
        REQUIRE(ran.status == 0);
        const auto result = json_of(ran).at("results").at(0);
        REQUIRE(result.at("rungs").size() >= 1);
        CHECK(result.at("changes").back().at("to") == result.at("rungs").back().at("name"));
        CHECK(check_of(result, "changes without a gap").at("measured") == "no gap");
        CHECK(check_of(result, "audio continuity").at("measured") == "no gap");
        CHECK(check_of(result, "seen").at("verdict") == "pass");
    }
    CHECK(verified(host + "/lake-live.ts", dir.path(), {"--for", "2 s"}, 0).at("verdict") != "fail");
    // A player that asks for a list anew gets it when there is something new in it: some give up over an unchanged one.
    const auto get = [&](const std::string& name) {
        return raw_exchange(port, "GET /lake-ladder/" + name + " HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n");
    };
    const auto last_of = [](std::string list) {
        list.erase(list.find_last_not_of("\r\n") + 1);
        return list.substr(list.rfind('\n') + 1);
    };
    const std::string list = last_of(get("ladder.m3u8"));
    CHECK(list.find(".m3u8?viewer=") != std::string::npos);
    const std::string segment = last_of(get(list));
    REQUIRE(get(segment).size() > 1000);
    bool moved_on = false;
    for (int i = 0; i < 3 && !moved_on; ++i) moved_on = last_of(get(list)) != segment;
    CHECK(moved_on);
}

TEST_CASE("what is published by RTMP goes out in several bit rates, decided when it comes", "[cli][ladder][waits]") {
    const TempDir dir;
    const std::uint16_t port = free_port(), rtmp = free_port();
    const std::string profile = (samples() / "ladder.toml").string();
    const std::vector<std::string> camera = {"stream", "run", "--publish-key", "lakeside-key", "--name", "camera"};
    const auto with = [&](std::vector<std::string> more) {
        std::vector<std::string> words = camera;
        words.insert(words.end(), more.begin(), more.end());
        return words;
    };
    // What can't come to anything is refused before anybody publishes.
    CHECK(run_program(with({"--profile", profile, "--delivery", "rtmp"}), dir.path()).status == 2);
    CHECK(run_program(with({"--profile", "smal-screen"}), dir.path()).status == 2);
    Background server(with({"--delivery", "ladder,live", "--profile", profile, "--port", std::to_string(port),
                            "--rtmp-port", std::to_string(rtmp)}),
                      dir.path());
    REQUIRE(wait_for_port(port));
    const std::string host = "http://127.0.0.1:" + std::to_string(port);
    const std::string to = "rtmp://127.0.0.1:" + std::to_string(rtmp) + "/house/lakeside-key";
    const Background publisher({"stream", "run", sample_film().string(), "--loop", "--push", to}, dir.path());
    const Ran ran = run_program({"verify", host + "/camera-ladder/ladder.m3u8", "--device", "tv-hd", "--for", "3 s",
                                 "--wait", "30 s", "--json", "-q"},
                                dir.path());
    INFO(ran.out << ran.err);
    REQUIRE(ran.status == 0);
    const auto result = json_of(ran).at("results").at(0);
    CHECK(result.at("rungs").size() >= 1);
    CHECK(check_of(result, "seen").at("verdict") == "pass");
    const Ran status = run_program({"stream", "status", "--port", std::to_string(port)}, dir.path());
    CHECK(status.out.find(" of 3 rungs (") != std::string::npos);
    CHECK(verified(host + "/camera-live.ts", dir.path(), {"--for", "2 s"}, 0).at("verdict") != "fail");
}
