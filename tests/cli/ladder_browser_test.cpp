// A ladder's folder on a web server of others (nginx), played by Chromium: DASH by the page it brings, HLS by the
// browser itself. What is seen is told by the frame numbers in the pictures.
#include <catch2/catch.hpp>
#include <cmath>
#include <nlohmann/json.hpp>
#include <set>

#include "sample/test_card.hpp"
#include "support/browser.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;

namespace {

// nginx with its files in a temporary folder; ended with the object.
class WebServer {
  public:
    WebServer(const TempDir& dir, const base::Path& root) : port_(free_port()), pid_file_(dir / "nginx.pid") {
        write_all(dir / "nginx.conf",
                  "worker_processes 1; master_process off; daemon on; pid " + pid_file_.string() + ";\nerror_log " +
                      (dir / "nginx.log").string() + ";\nevents {}\nhttp { access_log off; client_body_temp_path " +
                      (dir / "t1").string() + "; proxy_temp_path " + (dir / "t2").string() + "; fastcgi_temp_path " +
                      (dir / "t3").string() + "; uwsgi_temp_path " + (dir / "t4").string() + "; scgi_temp_path " +
                      (dir / "t5").string() +
                      ";\ntypes { text/html html; application/vnd.apple.mpegurl m3u8; application/dash+xml mpd; "
                      "video/mp4 mp4; text/vtt vtt; }\nserver { listen 127.0.0.1:" +
                      std::to_string(port_) + "; add_header Access-Control-Allow-Origin *; location / { root \"" +
                      root.string() + "\"; } } }\n");
        started_ = std::system(("/usr/sbin/nginx -c '" + (dir / "nginx.conf").string() + "' 2>/dev/null").c_str()) == 0;
    }
    ~WebServer() { std::system(("kill $(cat '" + pid_file_.string() + "') 2>/dev/null").c_str()); }
    WebServer(const WebServer&) = delete;
    WebServer& operator=(const WebServer&) = delete;
    bool runs() const { return started_ && wait_for_port(port_); }
    std::string address() const { return "http://127.0.0.1:" + std::to_string(port_) + "/"; }

  private:
    std::uint16_t port_;
    base::Path pid_file_;
    bool started_ = false;
};

void put(std::string& text, const std::string& what, const std::string& with) {
    REQUIRE(text.find(what) != std::string::npos);
    for (std::size_t at = 0; (at = text.find(what, at)) != std::string::npos; at += with.size())
        text.replace(at, what.size(), with);
}

// Reads the frame's number out of each frame that is shown, with its time, height, and what is in the buffer.
std::string watcher() {
    std::string script = R"(
const seen = [], canvas = document.createElement('canvas'), pen = canvas.getContext('2d', {willReadFrequently: true});
canvas.width = 130; canvas.height = 1;
function look(v, now, meta) {
  // The blocks' middles, five pixels each.
  pen.drawImage(v, v.videoWidth * LEFT, v.videoHeight * (TOP + HEIGHT / 2) - 1, v.videoWidth * WIDTH * 26, 2, 0, 0, 130, 1);
  const d = pen.getImageData(0, 0, 130, 1).data, block = i => d[(i * 5 + 2) * 4 + 1];
  const threshold = (block(0) + block(1)) / 2;
  let code = 0;
  for (let i = 2; i < 18; ++i) code = code * 2 + (block(i) > threshold ? 1 : 0);
  for (let s = 1; s < 16; s *= 2) code ^= code >> s;
  seen.push([meta.mediaTime, code, v.videoHeight]);
  v.requestVideoFrameCallback((n, m) => look(v, n, m));
}
function watch(v, more) {
  v.requestVideoFrameCallback((n, m) => look(v, n, m));
  const done = error => fetch(origin_of_test + '/result', {method: 'POST', body: JSON.stringify({seen, error, more: more ? more() : null, at: v.currentTime, ended: v.ended})});
  v.addEventListener('ended', () => done(''));
  v.addEventListener('error', () => done(v.error.message));
  setTimeout(() => done('too slow'), 40000);
}
)";
    put(script, "LEFT", std::to_string(sample::kCodeLeft));
    put(script, "TOP", std::to_string(sample::kCodeTop));
    put(script, "HEIGHT", std::to_string(sample::kCodeHeight));
    put(script, "WIDTH", std::to_string(sample::kCodeBlockWidth));
    return script;
}

// Each frame that was seen is the one of its time; there are many, and none goes back.
void check_seen(const nlohmann::json& result, std::size_t least) {
    CAPTURE(result.value("error", ""), result.value("at", 0.0), result.at("seen").size());
    REQUIRE(result.at("ended") == true);
    REQUIRE(result.at("seen").size() >= least);
    int wrong = 0, before = -1;
    for (const auto& one : result.at("seen")) {
        const int expected = static_cast<int>(std::lround(one[0].get<double>() * 24000 / 1001)), code = one[1];
        if (std::abs(code - expected) > 1 || code < before) ++wrong;
        before = code;
    }
    // (A frame may be drawn while the next one comes.)
    CHECK(wrong <= 2);
}

}  // namespace

TEST_CASE("Chromium plays a ladder by DASH from another web server, and its changes of bit rate show no gap",
          "[cli][ladder][waits]") {
    REQUIRE(has_browser());
    const TempDir dir;
    WebServer server(dir, sample_ladder());
    REQUIRE(server.runs());
    // The page as it lies in the folder, but that it is elsewhere, and that bit rates are chosen in turn.
    std::string page = read_text(sample_ladder() / "index.html");
    put(page, "\"use strict\";", "\"use strict\"; const origin_of_test = location.origin;" + watcher());
    put(page, "\"ladder.mpd\"", "\"" + server.address() + "ladder.mpd\"");
    put(page, "get(one.url", "get('" + server.address() + "' + one.url");
    put(page, "track.src = one.url", "track.src = '" + server.address() + "' + one.url");
    put(page, "const fixed = $(\"rung\").value;",
        "const fixed = String(Math.floor(picture.end(position()) + 0.2) % 3);");
    put(page, "const kBuffer = 30", "const kBuffer = 2");
    put(page, "let begun = performance.now();",
        "let begun = performance.now(); video.crossOrigin = 'anonymous'; video.defaultPlaybackRate = "
        "video.playbackRate = 2.5; watch(video, () => ({log: ladder.log, stalls: "
        "ladder.stalls, rungs: ladder.rungs.map(r => r.id)}));");
    const std::string told = run_page(page, 60);
    REQUIRE_FALSE(told.empty());
    const auto result = nlohmann::json::parse(told);
    check_seen(result, 60);
    const auto& more = result.at("more");
    CHECK(more.at("rungs").size() == 3);
    CHECK(more.at("log").size() >= 8);  // with nearly every segment
    std::set<int> heights;
    for (const auto& one : result.at("seen")) heights.insert(one[2].get<int>());
    CHECK(heights == std::set<int>{180, 360, 480});
}

TEST_CASE("Chromium plays a ladder's HLS itself", "[cli][ladder][waits]") {
    REQUIRE(has_browser());
    const TempDir dir;
    WebServer server(dir, sample_ladder());
    REQUIRE(server.runs());
    const std::string page =
        "<!doctype html><meta charset=utf-8><video id=v muted></video><script>const origin_of_test = location.origin;" +
        watcher() +
        "const v = document.getElementById('v'); v.crossOrigin = 'anonymous'; v.defaultPlaybackRate = v.playbackRate = "
        "2.5; watch(v); v.src = '" +
        server.address() + "ladder.m3u8'; v.play();</script>";
    const std::string told = run_page(page, 60);
    REQUIRE_FALSE(told.empty());
    check_seen(nlohmann::json::parse(told), 60);
}
