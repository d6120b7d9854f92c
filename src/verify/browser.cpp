#include "verify/browser.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <nlohmann/json.hpp>
#include <thread>

#include "base/address.hpp"
#include "base/clock.hpp"
#include "base/mutex.hpp"
#include "base/units.hpp"
#include "net/http_client.hpp"
#include "net/http_server.hpp"
#include "net/url.hpp"
#include "net/worse_link.hpp"
#include "verify/checks.hpp"
#include "verify/ladder.hpp"

namespace wavecrest::verify {
namespace {

using device::Verdict;
using Json = nlohmann::json;

// Plays, and posts what it sees: every second how far it is, at the end all of it. Frames are asked for, so that they
// are drawn: HLS begins later in Chromium where nobody looks.
constexpr std::string_view kPage =
    R"(<!DOCTYPE html><meta charset="utf-8"><video id="v" muted preload="auto" width="640"></video><script>
const v = document.getElementById('v'), limit = LIMIT, address = ADDRESS;
const seen = {startup: null, stalls: [], ended: false, error: null, lag: 0, frames: 0, dropped: 0, first: null};
let begun = performance.now(), dry = null, at = 0, over = false, tick = 0, moved = 0, last = 0;
const clock = () => (performance.now() - begun) / 1000;
const post = (path, value) => fetch(path, {method: 'POST', body: JSON.stringify(value)});
// (What is posted is bounded: of very many stalls the last holds the rest.)
function goes_on() {
  if (dry === null) return;
  const length = clock() - dry;
  if (seen.stalls.length < 500) seen.stalls.push([at, dry, length]); else seen.stalls[499][2] += length;
  dry = null;
}
function end() {
  if (over) return;
  over = true;
  goes_on();
  const q = v.getVideoPlaybackQuality ? v.getVideoPlaybackQuality() : null;
  if (q) { seen.frames = q.totalVideoFrames; seen.dropped = q.droppedVideoFrames; }
  seen.ended = v.ended; seen.position = v.currentTime; seen.duration = isFinite(v.duration) ? v.duration : 0;
  seen.width = v.videoWidth; seen.height = v.videoHeight;
  post('/result', seen);
}
v.addEventListener('waiting', () => { if (seen.startup !== null && dry === null) { dry = clock(); at = v.currentTime; } });
v.addEventListener('playing', goes_on);
v.addEventListener('ended', () => { dry = null; end(); });
// Parts of files (HLS of a ladder) are fetched from another origin, as this page's are, in the open mode alone.
let open_mode = false;
v.addEventListener('error', () => {
  if (!open_mode && seen.startup === null) { open_mode = true; v.crossOrigin = 'anonymous'; v.src = address; start(); return; }
  seen.error = (v.error && v.error.message) || 'it cannot be played'; end();
});
if (v.requestVideoFrameCallback) { const look = () => { if (seen.first === null) seen.first = clock(); v.requestVideoFrameCallback(look); }; v.requestVideoFrameCallback(look); }
setInterval(() => {
  if (over) return;
  const now = clock();
  if (tick) seen.lag = Math.max(seen.lag, now - tick - 0.02);
  tick = now;
  if (seen.startup === null && v.currentTime > 0) seen.startup = Math.max(0, now - v.currentTime);
  if (v.currentTime !== last) { last = v.currentTime; moved = now; }
  if (now - moved > 60 || (seen.startup !== null && !isFinite(v.duration) && now - seen.startup > limit)) end();
}, 20);
setInterval(() => { if (!over) post('/progress', {position: v.currentTime, duration: isFinite(v.duration) ? v.duration : 0}); }, 1000);
function start() {
  const mode = open_mode;
  v.play().catch(e => {
    if (mode !== open_mode || v.error || e.name === 'AbortError' || (!mode && e.name === 'NotSupportedError')) return;
    seen.error = seen.error || String(e);
    setTimeout(end, 500);
  });
}
v.src = address;
start();
</script>)";

// What the page told, taken from the server's threads.
class Told {
  public:
    net::HttpReply take(const net::HttpRequest& request, const std::string& page) {
        net::HttpReply reply;
        if (request.method != "POST") {
            if (request.path != "/") return net::HttpReply::text(404, "nothing here");
            reply.media_type = "text/html; charset=utf-8";
            reply.body = Bytes(ByteVector(page.begin(), page.end()));
            return reply;
        }
        const base::MutexLock lock(mutex_);
        last_ = clock_.now();
        Json json = Json::parse(request.body, nullptr, false);
        if (json.is_object()) (request.path == "/result" ? result_ : progress_) = std::move(json);
        return net::HttpReply::text(200, "");
    }
    std::optional<Json> result() const {
        const base::MutexLock lock(mutex_);
        return result_.is_object() ? std::optional(result_) : std::nullopt;
    }
    Json progress() const {
        const base::MutexLock lock(mutex_);
        return progress_;
    }
    Time quiet() const {
        const base::MutexLock lock(mutex_);
        return clock_.now() - last_;
    }

  private:
    const base::RealClock clock_;
    mutable base::Mutex mutex_;
    Json result_ GUARDED_BY(mutex_), progress_ GUARDED_BY(mutex_);
    Time last_ GUARDED_BY(mutex_){};
};

double number(const Json& json, const char* key) {
    const auto found = json.find(key);
    return found != json.end() && found->is_number() ? found->get<double>() : 0;
}

// What the page says is no more to be trusted than any input.
void take_stalls(const Json& json, Verification& v) {
    const auto stalls = json.find("stalls");
    if (stalls == json.end() || !stalls->is_array()) return;
    constexpr double kSeen = 0.1;  // seconds: shorter ones nobody sees
    for (const Json& one : *stalls) {
        if (!one.is_array() || one.size() != 3) continue;
        const double at = one[0].is_number() ? one[0].get<double>() : 0,
                     from = one[1].is_number() ? one[1].get<double>() : 0,
                     length = one[2].is_number() ? one[2].get<double>() : 0;
        constexpr double kMost = 1e6;
        if (length < kSeen || !(std::max({at, from, length}) < kMost) || std::min(at, from) < 0) continue;
        v.stalls.push_back({base::from_seconds(at), base::from_seconds(length), base::from_seconds(from)});
    }
}

void judge(const Json& seen, host::Engine engine, const Job& job, bool music, Verification& v) {
    const std::string error =
        seen.contains("error") && seen["error"].is_string() ? seen["error"].get<std::string>() : "";
    const bool ended = seen.contains("ended") && seen["ended"].is_boolean() && seen["ended"].get<bool>();
    const double position = number(seen, "position"), duration = number(seen, "duration");
    v.started = seen.contains("startup") && seen["startup"].is_number();
    v.startup = base::from_seconds(std::clamp(number(seen, "startup"), 0.0, 1e6));
    v.duration = base::from_seconds(std::clamp(duration, 0.0, 1e6));
    take_stalls(seen, v);
    add(v, "plays", error.empty() ? Verdict::pass : Verdict::fail,
        error.empty() ? fmt::format("{:.0f}x{:.0f}", number(seen, "width"), number(seen, "height")) : error,
        fmt::format("playable in {}", host::short_name(engine)),
        "the browser can't play it: convert it for browsers (wavecrest convert FILE --device browser-chromium), or use "
        "another delivery");
    // Of what it can't decode a browser plays the audio alone, without a word.
    const bool shows = number(seen, "width") > 0 && number(seen, "height") > 0;
    if (error.empty() && !music)
        add(v, "video", shows ? Verdict::pass : Verdict::fail, shows ? "shown" : "none shown, audio alone", "shown",
            "the browser can't decode this video: convert it for browsers (wavecrest convert FILE --device "
            "browser-chromium)");
    if (error.empty()) add_seen_playback(v);
    const bool live = duration <= 0;
    if (error.empty() && v.started && !live)
        add(v, "complete", ended ? Verdict::pass : Verdict::fail,
            ended ? "to the end" : fmt::format("stood still at {}", base::format_clock(base::from_seconds(position))),
            base::format_clock(v.duration),
            "see where it stood still; verify without --on tells whether the file is whole");
    const double frames = number(seen, "frames"), dropped = number(seen, "dropped");
    if (frames > 0)
        add(v, "dropped frames", dropped > frames / 100 + 30 ? Verdict::warn : Verdict::pass,
            fmt::format("{:.0f} of {:.0f}", dropped, frames), "1 %",
            "the browser shows fewer frames than there are: this machine is busy, or too slow for it");
    const double lag = number(seen, "lag");
    constexpr double kBusy = 0.3;
    if (lag > kBusy)
        add(v, "machine", Verdict::warn, fmt::format("timers {:.1f} s late", lag), fmt::format("{:g} s", kBusy),
            "this machine was too busy for the browser: what it saw counts for little");
    conclude_film(v, job.link.payload_bps > 0 ? Cause::network : Cause::server);
}

}  // namespace

Result<Verification> run_in_browser(const Job& job, host::Engine engine, const Progress& progress,
                                    const Cancel& cancel) {
    if (!base::is_web_address(job.address) || base::Address(job.address).scheme() == base::Scheme::https)
        return fail(ErrorKind::usage, "a browser is tried with http:// addresses only", job.address,
                    "verify it without --on, or give the http:// address of the stream");
    if (is_manifest_address(job.address))
        return fail(ErrorKind::usage, "a browser plays DASH by a page alone", job.address,
                    "open the ladder's index.html in it, verify its ladder.m3u8, or leave --on out");
    WAVECREST_TRY_ASSIGN(url, net::parse_url(job.address));
    Verification v;
    v.stream = job.stream;
    v.address = job.address;
    v.device = job.device.name;
    v.link = job.link;
    v.grounds = "browser";
    v.browser = host::short_name(engine);
    // What isn't there no browser need be started for.
    net::HttpClient first(url);
    const auto there = first.get(0);
    if (!there) return failed(std::move(v), Cause::server, there.error(), "reachable");
    const bool music = there->media_type.starts_with("audio/");
    first.close();
    net::LinkFaults faults = job.faults;
    faults.rate_bps = job.link.payload_bps;
    WAVECREST_TRY_ASSIGN(link, net::WorseLink::tcp("127.0.0.1", 0, url.host, url.port, faults));
    url.host = "127.0.0.1";
    url.port = link->port();
    std::string page(kPage);
    const auto put = [&](const std::string& what, const std::string& text) {
        page.replace(page.find(what), what.size(), text);
    };
    // (No script can be in it: "</" is written so that it ends nothing.)
    std::string address = Json(url.text()).dump();
    for (std::size_t at = 0; (at = address.find("</", at)) != std::string::npos; at += 3)
        address.replace(at, 2, "<\\/");
    put("ADDRESS", address);
    put("LIMIT", fmt::format("{:.1f}", base::to_seconds(job.listen)));

    Told told;
    net::HttpServerSettings settings;
    settings.address = "127.0.0.1";
    settings.port = 0;
    settings.answer = [&](const net::HttpRequest& request) { return told.take(request, page); };
    WAVECREST_TRY_ASSIGN(pages, net::HttpServer::start(std::move(settings)));
    WAVECREST_TRY_ASSIGN(browser, host::Browser::start(engine, fmt::format("http://127.0.0.1:{}/", pages->port())));

    const Time patience = base::from_seconds(90);
    std::optional<Json> seen;
    while (!(seen = told.result())) {
        if (cancel.requested()) return base::interrupted();
        if (told.quiet() > patience || !browser->runs())
            return failed(std::move(v), Cause::none,
                          {ErrorKind::machine,
                           "the browser doesn't answer",
                           std::string(host::short_name(engine)),
                           "start it by hand to see whether it works on this machine",
                           {}},
                          "plays");
        if (const Json now = told.progress(); progress && now.is_object())
            progress({base::from_seconds(std::clamp(number(now, "position"), 0.0, 1e6)),
                      base::from_seconds(std::clamp(number(now, "duration"), 0.0, 1e6))});
        std::this_thread::sleep_for(std::chrono::milliseconds(100));
    }
    judge(*seen, engine, job, music, v);
    return v;
}

}  // namespace wavecrest::verify
