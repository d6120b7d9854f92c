// What the writers write, played by a browser: duration, size, pictures counted, audio decoded, skips.
#include <algorithm>
#include <catch2/catch.hpp>
#include <chrono>
#include <nlohmann/json.hpp>

#include "bitstream/headers.hpp"
#include "container/writer.hpp"
#include "device/device.hpp"
#include "support/browser.hpp"
#include "support/clips.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;

namespace {

struct File {
    std::string name, format, mime;
    std::vector<TestTrack> test_tracks;
    container::WriterSettings settings{};
    bool by_media_source = false;
};

constexpr const char* kScript = R"(
const report = r => fetch('/result', {method: 'POST', body: JSON.stringify(r)});
const within = (promise, ms, what) => Promise.race([promise, new Promise((_, no) => setTimeout(() => no('too slow: ' + what), ms))]);
const event = (v, name) => new Promise((done, no) => { v.addEventListener(name, done, {once: true}); v.addEventListener('error', () => no(v.error && v.error.message), {once: true}); });
async function play(file) {
  const bytes = Uint8Array.from(atob(file.data), c => c.charCodeAt(0));
  const v = document.createElement('video'); v.muted = true; v.preload = 'auto'; document.body.append(v);
  const result = {name: file.name};
  try {
    if (file.source) {
      const source = new MediaSource(); v.src = URL.createObjectURL(source);
      await within(event(source, 'sourceopen'), 5000, 'sourceopen');
      const buffer = source.addSourceBuffer(file.mime);
      buffer.timestampOffset = -1.95; buffer.appendBuffer(bytes); await within(event(buffer, 'updateend'), 5000, 'append');
      source.endOfStream();
    } else v.src = URL.createObjectURL(new Blob([bytes], {type: file.mime}));
    if (v.readyState < 2) await within(event(v, 'loadeddata'), 8000, 'loadeddata');
    result.duration = v.duration; result.width = v.videoWidth; result.height = v.videoHeight;
    const ended = event(v, 'ended'); await v.play(); await within(ended, 15000, 'playing');
    result.frames = v.getVideoPlaybackQuality().totalVideoFrames;
    result.audio = v.webkitAudioDecodedByteCount;
    result.landed = [];
    for (const part of [0.7, 0.2]) { const seeked = event(v, 'seeked'); v.currentTime = v.duration * part; await within(seeked, 5000, 'skip'); result.landed.push(v.currentTime / v.duration); }
    const context = new OfflineAudioContext(2, 48000, 48000);
    if (!file.source) { try { const s = await context.decodeAudioData(bytes.buffer.slice(0)); result.samples = s.length; } catch (e) { result.samples = -1; } }
  } catch (e) { result.error = String(e); }
  v.remove();
  return result;
}
// (They play in real time, which costs little: three at once.)
(async () => { const all = []; for (let i = 0; i < files.length; i += 3) all.push(...await Promise.all(files.slice(i, i + 3).map(play))); report(all); })();
)";

}  // namespace

TEST_CASE("a browser plays what the writers wrote", "[browser][waits]") {
    if (!has_browser()) return;
    const TempDir dir;
    const TestTrack avc = video_track(Codec::h264, 60), vp9 = video_track(Codec::vp9, 60),
                    vp8 = video_track(Codec::vp8, 60);
    const TestTrack aac = audio_track(Codec::aac, 2.5), opus = audio_track(Codec::opus, 2.5),
                    vorbis = audio_track(Codec::vorbis, 2.5), flac = audio_track(Codec::flac, 2.5),
                    mp3 = audio_track(Codec::mp3, 2.5), lpcm = audio_track(Codec::lpcm, 2.5);
    container::WriterSettings fragmented;
    fragmented.fragments = std::chrono::seconds(1);
    std::vector<File> files = {
        {"mp4", "mp4", "video/mp4", {avc, aac}},
        {"fragmented mp4", "mp4", "video/mp4", {avc, aac}, fragmented},
        {"matroska", "matroska", "video/x-matroska", {avc, aac}},
        {"webm vp9", "webm", "video/webm", {vp9, opus}},
        {"webm vp8", "webm", "video/webm", {vp8, vorbis}},
        {"mp4 vp9", "mp4", "video/mp4", {vp9, opus}},
        {"ogg opus", "ogg", "audio/ogg", {opus}},
        {"ogg vorbis", "ogg", "audio/ogg", {vorbis}},
        {"flac", "flac", "audio/flac", {flac}},
        {"mp4 flac", "mp4", "audio/mp4", {flac}},
        {"mp3", "mp3", "audio/mpeg", {mp3}},
        {"mp4 mp3", "mp4", "audio/mp4", {mp3}},
        {"wav", "wav", "audio/wav", {lpcm}},
        {"adts", "adts", "audio/aac", {aac}},
        {"mpeg-ts",
         "mpeg-ts",
         "video/mp2t; codecs=\"" + bitstream::codec_string(avc.track) + ",mp4a.40.2\"",
         {avc, aac},
         {},
         true},
    };
    std::string page = "<!DOCTYPE html><meta charset=\"utf-8\"><body><script>const files = [";
    for (const File& file : files) {
        const base::Path path = dir / file.name;
        write_media(path, file.format, file.test_tracks, file.settings);
        page += "{name: '" + file.name + "', mime: '" + file.mime +
                "', source: " + (file.by_media_source ? "true" : "false") + ", data: '" + base64(read_all(path)) +
                "'},\n";
    }
    page += "];" + std::string(kScript) + "</script>";
    const auto results = nlohmann::json::parse(run_page(page, 150));
    REQUIRE(results.size() == files.size());
    for (std::size_t i = 0; i < files.size(); ++i) {
        const auto& r = results[i];
        INFO(r.dump());
        REQUIRE_FALSE(r.contains("error"));
        const bool video = files[i].test_tracks.size() == 2;
        CHECK(r["duration"].get<double>() == Approx(2.5).margin(0.11));
        if (video) {
            CHECK(r["width"] == 320);
            CHECK(r["height"] == 180);
            CHECK(r["frames"].get<int>() >= 59);
            CHECK(r["frames"].get<int>() <= 62);
        }
        CHECK(r["audio"].get<int>() > 1000);
        // (Ogg has no index: the browser lands by its own estimate.)
        const double near = files[i].format == "ogg" ? 0.12 : 0.02;
        CHECK(std::abs(r["landed"][0].get<double>() - 0.7) < near);
        CHECK(std::abs(r["landed"][1].get<double>() - 0.2) < near);
        // The very number of samples, where the format tells it.
        const bool exact = files[i].test_tracks.back().track.codec == Codec::opus ||
                           files[i].test_tracks.back().track.codec == Codec::flac ||
                           files[i].test_tracks.back().track.codec == Codec::lpcm;
        if (exact && !video) CHECK(r["samples"] == 120'000);
    }
}

TEST_CASE("a browser gives an edited film the length that our reader does", "[browser]") {
    if (!has_browser()) return;
    using namespace std::chrono_literals;
    const TempDir dir;
    write_media(dir / "a.mp4", "mp4", {video_track(Codec::h264, 100), audio_track(Codec::aac, 4.2)});
    // (Its pictures are no reference: asked for 1.4 s of the first, Chromium 156 shows those of 1.58 s.)
    const std::vector<std::vector<EditEntry>> lists = {{{1500ms, 0ms}, {1200ms, 2600ms}, {700ms, 500ms}},
                                                       {{1000ms, 0ms}, {500ms, -1ms}, {1000ms, 2002ms}},
                                                       {{2000ms, 1001ms}}};
    std::string page = "<!DOCTYPE html><meta charset=\"utf-8\"><body><script>const files = [";
    std::vector<Time> lengths;
    for (const auto& list : lists) {
        const ByteVector edited = with_edits(read_all(dir / "a.mp4"), list);
        write_all(dir / "b.mp4", edited);
        lengths.emplace_back();
        for (const TestTrack& test_track : read_media(dir / "b.mp4"))
            lengths.back() = std::max(lengths.back(), test_track.track.duration);
        page += "'" + base64(edited) + "',\n";
    }
    page += R"(];
(async () => {
  const lengths = [];
  for (const data of files) {
    const v = document.createElement('video'); document.body.append(v);
    v.src = URL.createObjectURL(new Blob([Uint8Array.from(atob(data), c => c.charCodeAt(0))], {type: 'video/mp4'}));
    await new Promise(done => { v.onloadeddata = done; v.onerror = done; });
    lengths.push(v.duration || 0);
  }
  fetch('/result', {method: 'POST', body: JSON.stringify(lengths)});
})();
</script>)";
    const auto result = nlohmann::json::parse(run_page(page, 60));
    REQUIRE(result.size() == lists.size());
    for (std::size_t i = 0; i < lists.size(); ++i)
        CHECK(result[i].get<double>() == Approx(base::to_seconds(lengths[i])).margin(0.03));
}

TEST_CASE("a browser hears every speaker of 5.1 where our writers put it", "[browser]") {
    if (!has_browser()) return;
    const TempDir dir;
    struct Form {
        Codec codec;
        const char* format;
    };
    const std::vector<Form> forms = {{Codec::aac, "mp4"},    {Codec::aac, "adts"},  {Codec::flac, "flac"},
                                     {Codec::flac, "mp4"},   {Codec::opus, "webm"}, {Codec::opus, "mp4"},
                                     {Codec::vorbis, "ogg"}, {Codec::opus, "ogg"}};
    std::string page = "<!DOCTYPE html><meta charset=\"utf-8\"><body><script>const files = [";
    for (const Form& form : forms) {
        write_media(dir / "a", form.format, {surround_track(form.codec, 2)});
        page += "'" + base64(read_all(dir / "a")) + "',\n";
        std::filesystem::remove(dir / "a");
    }
    // Which of the tones is loudest in each channel; a browser's order is left, right, centre, low frequency,
    // surrounds.
    page += R"(];
const tones = [440, 620, 800, 60, 980, 1160];
const level = (x, f) => { let r = 0, i = 0; for (let n = 0; n < 48000; ++n) { const a = 2 * Math.PI * f * n / 48000; r += x[n + 24000] * Math.cos(a); i += x[n + 24000] * Math.sin(a); } return Math.hypot(r, i); };
(async () => {
  const all = [];
  for (const data of files) {
    try {
      const audio = await new OfflineAudioContext(6, 48000, 48000).decodeAudioData(Uint8Array.from(atob(data), c => c.charCodeAt(0)).buffer);
      const loudest = [];
      for (let c = 0; c < audio.numberOfChannels; ++c) { const l = tones.map(f => level(audio.getChannelData(c), f)); loudest.push(l.indexOf(Math.max(...l))); }
      all.push(loudest.join());
    } catch (e) { all.push(String(e)); }
  }
  fetch('/result', {method: 'POST', body: JSON.stringify(all)});
})();
</script>)";
    const auto result = nlohmann::json::parse(run_page(page, 60));
    REQUIRE(result.size() == forms.size());
    for (std::size_t i = 0; i < forms.size(); ++i) {
        INFO(media::short_name(forms[i].codec) << " in " << forms[i].format);
        CHECK(result[i] == "0,1,2,3,4,5");
    }
}

namespace {

// Each container with each codec that it holds here, and what neither has: all of it as a file, as devices get it.
std::vector<std::pair<std::string, std::vector<TestTrack>>> all_kinds(const std::vector<Codec>& codecs) {
    std::vector<std::pair<std::string, std::vector<TestTrack>>> files;
    const auto add = [&](const std::string& format, TestTrack track) {
        if (container::why_not(format, track.track).empty()) files.push_back({format, {std::move(track)}});
    };
    for (const Codec codec : codecs) {
        const bool video = codec == Codec::h264 || codec == Codec::h265 || codec == Codec::vp9 || codec == Codec::vp8 ||
                           codec == Codec::av1;
        const TestTrack track = video ? video_track(codec, 10) : audio_track(codec, 0.4);
        const std::vector<std::string> formats =
            video ? std::vector<std::string>{"mp4", "matroska", "webm", "mpeg-ts", "flv"}
                  : std::vector<std::string>{"mp4", "matroska", "ogg", "mp3", "flac", "wav", "adts"};
        for (const std::string& format : formats) add(format, track);
    }
    return files;
}

// What the description of a browser says, held against what it does with each kind of file.
void compare_with_description(Engine engine, const std::string& name, const std::vector<Codec>& codecs) {
    const TempDir dir;
    const auto browser = device::find(name);
    REQUIRE(browser);
    const std::string headless = R"(
async function plays(file) {
  const bytes = Uint8Array.from(atob(file.data), c => c.charCodeAt(0));
  const v = document.createElement('video'); v.muted = true; v.preload = 'auto'; document.body.append(v);
  const result = {frames: 0, audio: 0};
  try {
    v.src = URL.createObjectURL(new Blob([bytes]));
    if (v.readyState < 2) await within(event(v, 'loadeddata'), 8000, 'loadeddata');
    const ended = event(v, 'ended'); await v.play(); await within(ended, 8000, 'playing');
    result.frames = v.getVideoPlaybackQuality().totalVideoFrames;
    // (Where it doesn't count what it decodes, it has heard what it has played to the end.)
    result.audio = v.webkitAudioDecodedByteCount ?? Math.round(v.currentTime * 1000);
  } catch (e) { result.error = String(e); }
  v.remove();
  return result;
}
(async () => { const all = []; while (all.length < files.length) all.push(...await Promise.all(files.slice(all.length, all.length + 4).map(plays))); report(all); })();
)";
    const auto files = all_kinds(codecs);
    std::string page = "<!DOCTYPE html><meta charset=\"utf-8\"><body><script>const files = [";
    for (const auto& [format, tracks] : files) {
        write_media(dir / "one", format, tracks);
        page += "{data: '" + base64(read_all(dir / "one")) + "'},\n";
        std::filesystem::remove(dir / "one");
    }
    const std::string script = kScript;
    page += "];" + script.substr(0, script.find("async function play(")) + headless + "</script>";
    const auto results = nlohmann::json::parse(run_page(page, 150, engine));
    REQUIRE(results.size() == files.size());
    CHECK(files.size() > 2 * codecs.size());
    for (std::size_t i = 0; i < files.size(); ++i) {
        const Track& track = files[i].second.front().track;
        INFO(files[i].first << " " << media::short_name(track.codec) << " " << results[i].dump());
        const bool seen = !results[i].contains("error") &&
                          results[i][track.kind == TrackKind::video ? "frames" : "audio"].get<int>() > 0;
        const auto checks = device::judge(*browser, files[i].first, {track}, 1'000'000);
        const bool said = std::none_of(checks.begin(), checks.end(), [](const device::Check& check) {
            return check.verdict == device::Verdict::fail;
        });
        CHECK(seen == said);
    }
}

}  // namespace

TEST_CASE("the description of the Chromium engine says what it plays", "[browser][device][waits]") {
    if (!has_browser()) return;
    compare_with_description(Engine::chromium, "browser-chromium",
                             {Codec::h264, Codec::h265, Codec::vp9, Codec::vp8, Codec::aac, Codec::ac3, Codec::mp3,
                              Codec::opus, Codec::vorbis, Codec::flac, Codec::lpcm});
}

// (H.264 and AAC it takes from the system, which has none here.)
TEST_CASE("the description of the Gecko engine says what it plays by itself", "[browser][device][waits]") {
    if (!has_browser(Engine::gecko)) return;
    compare_with_description(Engine::gecko, "browser-gecko",
                             {Codec::h265, Codec::vp9, Codec::vp8, Codec::ac3, Codec::mp3, Codec::opus, Codec::vorbis,
                              Codec::flac, Codec::lpcm});
}
