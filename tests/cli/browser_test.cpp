// The converted film, streamed by the program and played by a browser: every frame, the audio, skips.
#include <catch2/catch.hpp>
#include <nlohmann/json.hpp>

#include <cmath>

#include "sample/test_card.hpp"
#include "support/browser.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;

namespace {

// The page shows each frame by seeking to its middle and reads the card's code and flash; decodes the audio and lists
// where beeps begin; then plays the whole film and skips three times.
std::string page_for(const std::string& url, int frames) {
    std::string page = R"(<!DOCTYPE html><meta charset="utf-8"><canvas id="c"></canvas><script>
const url = 'URL', frames = FRAMES, rate = 24000 / 1001;
const report = r => fetch('/result', {method: 'POST', body: JSON.stringify(r)});
const event = (v, name) => new Promise(done => v.addEventListener(name, done, {once: true}));
async function main() {
  const v = document.createElement('video');
  v.crossOrigin = 'anonymous'; v.preload = 'auto'; v.src = url;
  await event(v, 'loadeddata');
  const result = {duration: v.duration, width: v.videoWidth, height: v.videoHeight, codes: [], flashes: [], beeps: []};
  const c = document.getElementById('c'); c.width = v.videoWidth; c.height = v.videoHeight;
  const g = c.getContext('2d', {willReadFrequently: true});
  const level = (x, y, w, h) => {
    const d = g.getImageData(Math.round(x * c.width), Math.round(y * c.height), Math.max(1, Math.round(w * c.width)), Math.max(1, Math.round(h * c.height))).data;
    let sum = 0; for (let i = 0; i < d.length; i += 4) sum += d[i + 1]; return sum / (d.length / 4);
  };
  const read = () => {
    g.drawImage(v, 0, 0);
    let code = 0;
    const block = i => level(LEFT + (i + 0.25) * WIDTH, TOP + HEIGHT * 0.25, WIDTH / 2, HEIGHT / 2);
    const threshold = (block(0) + block(1)) / 2;
    for (let i = 2; i < 26; ++i) code = code * 2 + (block(i) > threshold ? 1 : 0);
    code = Math.floor(code / 256);
    for (let s = 1; s < 16; s *= 2) code ^= code >> s;  // it is in Gray code
    return code;
  };
  // A seek has ended before its picture can be drawn: wait for that picture, too. On a busy machine its callback may
  // be left out, so the wait is bounded; a picture that is not the right one is then seen in the result.
  let stage = 'seeking';
  setTimeout(() => report({error: 'too slow, while ' + stage + ' ' + result.codes.length}), 160000);
  const show = async time => {
    const shown = new Promise(done => v.requestVideoFrameCallback(done)), seeked = event(v, 'seeked');
    v.currentTime = time;
    await seeked;
    await Promise.race([shown, new Promise(done => setTimeout(done, 1500))]);
  };
  for (let i = 0; i < frames; ++i) {
    await show((i + 0.5) / rate);
    result.codes.push(read());
    if (level(0.79, 0.14, 0.06, 0.06) > 128) result.flashes.push(i);
  }
  stage = 'skipping';
  result.landings = [];
  for (const part of [0.25, 0.75, 0.5]) {
    const to = v.duration * part;
    await show(to);
    result.landings.push([to * rate, read()]);
  }
  const bytes = await (await fetch(url)).arrayBuffer();
  const audio = (await new OfflineAudioContext(2, 48000, 48000).decodeAudioData(bytes));
  result.samples = audio.length; result.channels = audio.numberOfChannels;
  const s = audio.getChannelData(0);
  for (let i = 0, quiet = 48000; i < s.length; ++i) {
    if (Math.abs(s[i]) > 0.2) { if (quiet > 4800) result.beeps.push(i); quiet = 0; } else ++quiet;
  }
  stage = 'playing';
  v.currentTime = 0; await event(v, 'seeked');
  v.playbackRate = 4; const ended = event(v, 'ended'); await v.play(); await ended;
  result.ended_at = v.currentTime;
  result.audio_bytes = v.webkitAudioDecodedByteCount;
  await report(result);
}
main().catch(e => report({error: String(e)}));
</script>)";
    const auto replace = [&](const std::string& what, const std::string& with) {
        for (std::size_t at = page.find(what); at != std::string::npos; at = page.find(what, at + with.size()))
            page.replace(at, what.size(), with);
    };
    replace("URL", url);
    replace("FRAMES", std::to_string(frames));
    replace("LEFT", std::to_string(sample::kCodeLeft));
    replace("TOP", std::to_string(sample::kCodeTop));
    replace("WIDTH", std::to_string(sample::kCodeBlockWidth));
    replace("HEIGHT", std::to_string(sample::kCodeHeight));
    return page;
}

}  // namespace

TEST_CASE("the converted film plays in a browser: every frame once, audio on time, skips land", "[browser][waits]") {
    if (!has_browser()) {
        WARN("Chromium is not installed: this test did nothing");
        return;
    }
    const std::uint16_t port = free_port();
    const Background server({"stream", "run", sample_film().string(), "--port", std::to_string(port), "-q"}, samples());
    REQUIRE(wait_for_port(port));
    const std::string page =
        page_for("http://127.0.0.1:" + std::to_string(port) + "/sample-film-2020.mp4", kSampleFrames);
    std::string text = run_page(page, 180);
    if (text.empty()) text = run_page(page, 180);  // a browser that did not start gets a second chance
    const auto result = nlohmann::json::parse(text, nullptr, false);
    REQUIRE(result.is_object());
    INFO(text.substr(0, 600));
    REQUIRE_FALSE(result.contains("error"));

    CHECK(result["width"] == 854);
    CHECK(result["height"] == 480);
    CHECK(result["duration"].get<double>() == Approx(kSampleFrames * 1001.0 / 24000).margin(0.005));
    REQUIRE(result["codes"].size() == kSampleFrames);
    for (int i = 0; i < kSampleFrames; ++i) {
        INFO("frame " << i);
        CHECK(result["codes"][static_cast<std::size_t>(i)].get<int>() == i);
    }
    for (const auto& landing : result["landings"])
        CHECK(std::abs(landing[1].get<double>() - std::floor(landing[0].get<double>())) <= 1);

    // Flashes on every 24th frame; beeps begin 48048 samples apart, on the same instants within a quarter of a frame.
    REQUIRE(result["flashes"].size() == kSampleFrames / 24);
    REQUIRE(result["beeps"].size() == result["flashes"].size());
    for (std::size_t i = 0; i < result["flashes"].size(); ++i) {
        const double flash = result["flashes"][i].get<double>() * 1001 / 24000,
                     beep = result["beeps"][i].get<double>() / 48000;
        INFO("second " << i << ": flash " << flash << ", beep " << beep);
        CHECK(std::abs(flash - beep) < 0.25 * 1001 / 24000);
    }
    CHECK(result["channels"] == 2);
    CHECK(result["ended_at"].get<double>() == Approx(result["duration"].get<double>()).margin(0.1));
    CHECK(result["audio_bytes"].get<int>() > 100000);
}
