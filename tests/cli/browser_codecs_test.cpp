// What the encoders make, played by a browser: every picture, and each channel of surround audio in its place.
#include <catch2/catch.hpp>
#include <cmath>
#include <nlohmann/json.hpp>
#include <numbers>

#include "codec/audio_encoder.hpp"
#include "codec/video_encoder.hpp"
#include "filter/depth.hpp"
#include "sample/test_card.hpp"
#include "support/browser.hpp"
#include "support/clips.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
using namespace media::speaker;

namespace {

constexpr int kFrames = 60, kRate = 48000;
const Ratio kFrameRate{24, 1};

TestTrack numbered(TestTrack made, const Track& track, TrackId id) {
    made.track = track;
    made.track.id = id;
    for (Packet& packet : made.packets) packet.track = id;
    return made;
}

TestTrack coded_card(Codec codec, int bit_depth = 8) {
    codec::VideoEncoderSettings settings;
    settings.codec = codec;
    settings.width = 320;
    settings.height = 180;
    settings.frame_rate = kFrameRate;
    settings.colour = {6, 6, 6, false};
    settings.bit_depth = bit_depth;
    settings.effort = 2;
    settings.keyframe_distance = base::from_seconds(1);
    auto encoder = codec::make_video_encoder(settings);
    REQUIRE(encoder);
    sample::CardSettings card_settings;
    card_settings.width = settings.width;
    card_settings.height = settings.height;
    card_settings.frame_rate = kFrameRate;
    const sample::TestCard card(card_settings);
    TestTrack made;
    for (int i = 0; i < kFrames; ++i)
        REQUIRE((*encoder)->encode(filter::to_depth(card.draw(i), bit_depth), made.packets));
    REQUIRE((*encoder)->flush(made.packets));
    return numbered(std::move(made), (*encoder)->track(), 1);
}

// A tone of its own on each channel: 60 Hz, 80 Hz ...
TestTrack coded_tones(Codec codec, Speakers speakers) {
    codec::AudioEncoderSettings settings;
    settings.codec = codec;
    settings.speakers = speakers;
    settings.bitrate_bps = speakers == kStereo ? 160'000 : 448'000;
    auto encoder = codec::make_audio_encoder(settings);
    REQUIRE(encoder);
    const int channels = media::speaker_count(speakers);
    AudioFrames audio;
    audio.sample_rate = kRate;
    audio.channels = channels;
    audio.speakers = speakers;
    for (int n = 0; n < kRate * 5 / 2; ++n) {
        for (int c = 0; c < channels; ++c)
            audio.samples.push_back(
                static_cast<float>(0.25 * std::sin(2 * std::numbers::pi * (60 + 20 * c) * n / kRate)));
    }
    TestTrack made;
    REQUIRE((*encoder)->encode(audio, made.packets));
    REQUIRE((*encoder)->flush(made.packets));
    return numbered(std::move(made), (*encoder)->track(), 2);
}

constexpr const char* kScript = R"(
const within = (promise, ms, what) => Promise.race([promise, new Promise((_, no) => setTimeout(() => no('too slow: ' + what), ms))]);
const event = (v, name) => new Promise((done, no) => { v.addEventListener(name, done, {once: true}); v.addEventListener('error', () => no(v.error && v.error.message), {once: true}); });
const amplitude = (x, hz) => { let re = 0, im = 0; const from = 12000, to = 108000; for (let n = from; n < to; n++) { const p = 2 * Math.PI * hz * n / 48000; re += x[n] * Math.cos(p); im += x[n] * Math.sin(p); } return 2 * Math.hypot(re, im) / (to - from); };
async function play(file) {
  const bytes = Uint8Array.from(atob(file.data), c => c.charCodeAt(0));
  const result = {name: file.name};
  try {
    if (file.video) {
      const v = document.createElement('video'); v.muted = true; v.playbackRate = 2; document.body.append(v);
      v.src = URL.createObjectURL(new Blob([bytes], {type: file.mime}));
      await within(event(v, 'loadeddata'), 8000, 'loadeddata');
      result.duration = v.duration; result.width = v.videoWidth;
      const ended = event(v, 'ended'); await v.play(); await within(ended, 15000, 'playing');
      result.frames = v.getVideoPlaybackQuality().totalVideoFrames; result.audio = v.webkitAudioDecodedByteCount;
      v.remove();
    } else {
      const heard = await new OfflineAudioContext(file.channels, 48000, 48000).decodeAudioData(bytes.buffer);
      result.samples = heard.length; result.channels = [];
      for (let c = 0; c < heard.numberOfChannels; c++) {
        const x = heard.getChannelData(c), all = [...Array(file.channels).keys()].map(k => amplitude(x, 60 + 20 * k));
        result.channels.push({loudest: all.indexOf(Math.max(...all)), own: all[c], others: Math.max(...all.filter((_, k) => k != c))});
      }
    }
  } catch (e) { result.error = String(e); }
  return result;
}
// (They play in real time, which costs little: three at once.)
(async () => { const all = []; for (let i = 0; i < files.length; i += 3) all.push(...await Promise.all(files.slice(i, i + 3).map(play))); fetch('/result', {method: 'POST', body: JSON.stringify(all)}); })();
)";

}  // namespace

TEST_CASE("a browser plays what the encoders make, channel by channel", "[browser][encoders][waits]") {
    if (!has_browser()) return;
    const TempDir dir;
    const TestTrack stereo_opus = coded_tones(Codec::opus, kStereo), surround_opus = coded_tones(Codec::opus, kFiveOne),
                    surround_aac = coded_tones(Codec::aac, kFiveOne),
                    surround_flac = coded_tones(Codec::flac, kFiveOne), mp3 = coded_tones(Codec::mp3, kStereo);
    const TestTrack avc = coded_card(Codec::h264), vp9 = coded_card(Codec::vp9), av1 = coded_card(Codec::av1);
    struct File {
        std::string name, format, mime;
        std::vector<TestTrack> tracks;
        int channels;
    };
    const std::vector<File> files = {
        {"mp4 h264 aac", "mp4", "video/mp4", {avc, surround_aac}, 6},
        {"mp4 av1 opus", "mp4", "video/mp4", {av1, surround_opus}, 6},
        {"mp4 vp9 mp3", "mp4", "video/mp4", {vp9, mp3}, 2},
        {"matroska h264 flac", "matroska", "video/x-matroska", {avc, surround_flac}, 6},
        {"webm vp9 opus", "webm", "video/webm", {vp9, stereo_opus}, 2},
        {"webm av1 opus", "webm", "video/webm", {av1, surround_opus}, 6},
        {"mp4 av1 10 bits", "mp4", "video/mp4", {coded_card(Codec::av1, 10), stereo_opus}, 2},
        {"webm vp9 with text",
         "webm",
         "video/webm",
         {vp9, stereo_opus, text_track({{{200, 900}, "Boats & lamps"}})},
         2},
        {"webm vp9 10 bits", "webm", "video/webm", {coded_card(Codec::vp9, 10), stereo_opus}, 2},
        {"aac", "mp4", "", {surround_aac}, 6},
        {"opus", "webm", "", {surround_opus}, 6},
        {"flac", "mp4", "", {surround_flac}, 6},
        {"mp3", "mp3", "", {mp3}, 2},
    };
    std::string page = "<!DOCTYPE html><meta charset=\"utf-8\"><body><script>const files = [";
    for (const File& file : files) {
        write_media(dir / file.name, file.format, file.tracks);
        page += fmt::format("{{name: '{}', mime: '{}', video: {}, channels: {}, data: '{}'}},\n", file.name, file.mime,
                            file.tracks.size() >= 2, file.channels, base64(read_all(dir / file.name)));
    }
    page += "];" + std::string(kScript) + "</script>";
    const auto results = nlohmann::json::parse(run_page(page, 90));
    REQUIRE(results.size() == files.size());
    for (std::size_t i = 0; i < files.size(); ++i) {
        const auto& r = results[i];
        INFO(r.dump());
        REQUIRE_FALSE(r.contains("error"));
        if (files[i].tracks.size() >= 2) {
            CHECK(r["duration"].get<double>() == Approx(2.5).margin(0.11));
            CHECK(r["width"] == 320);
            CHECK(r["frames"] == kFrames);
            CHECK(r["audio"].get<int>() > 1000);
            continue;
        }
        REQUIRE(r["channels"].size() == static_cast<std::size_t>(files[i].channels));
        for (std::size_t c = 0; c < r["channels"].size(); ++c) {
            INFO(c);
            CHECK(r["channels"][c]["loudest"] == c);
            CHECK(r["channels"][c]["own"].get<double>() == Approx(0.25).epsilon(0.1));
            CHECK(r["channels"][c]["others"].get<double>() < 0.02);
        }
        CHECK(r["samples"].get<double>() == Approx(kRate * 2.5).margin(4000));
    }
}
