#include "measure/capacity.hpp"

#include <catch2/catch.hpp>

#include <cmath>

#include "base/atomic_file.hpp"
#include "codec/video_decoder.hpp"
#include "measure/codec_speed.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using measure::Capacity;

namespace {

// Ten pictures a second at effort 5 and 854x480 use two processors to the full.
Capacity made_up() {
    Capacity capacity = measure::this_machine();
    capacity.processors = 2;
    capacity.at = "2026-05-09 14:02";
    const auto add = [](auto& list, Codec codec, int width, int height, int depth, int effort, double processor) {
        list.push_back({codec, width, height, depth, effort, {processor, processor / 2}});
    };
    add(capacity.encoding, Codec::h264, 854, 480, 8, 1, 0.05);
    add(capacity.encoding, Codec::h264, 854, 480, 8, 3, 0.10);
    add(capacity.encoding, Codec::h264, 854, 480, 8, 5, 0.20);
    add(capacity.encoding, Codec::h264, 1708, 960, 8, 3, 0.40);
    add(capacity.encoding, Codec::h265, 854, 480, 8, 3, 0.30);
    add(capacity.encoding, Codec::h265, 854, 480, 10, 3, 0.45);
    add(capacity.decoding, Codec::mpeg2, 720, 480, 8, 0, 0.002);
    add(capacity.decoding, Codec::h264, 1920, 1080, 8, 0, 0.010);
    capacity.filters = {{0.03, 0.03}, {0.004, 0.004}, {0.02, 0.02}};
    capacity.audio = 0.01;
    capacity.live = {{"720x480 MPEG-2, 29.97 fps", "small-screen", 3.4, 3.1}};
    capacity.server_bps = 2e9;
    capacity.ports = {{"eth0", 1'000'000'000}, {"wlan0", 0}};
    capacity.drives = {{"/media/films", "//server/films", 40e6, 20e6}};
    capacity.hardware = {{"/dev/dri/renderD128", "made up", {"H.264"}, {}, ""}};
    return capacity;
}

double ms(const std::optional<measure::PictureTime>& time) {
    REQUIRE(time);
    return time->processor * 1000;
}

transcode::GraphSettings to_h264() {
    transcode::GraphSettings graph;
    Track video;
    video.codec = Codec::mpeg2;
    video.width = 720;
    video.height = 480;
    video.bit_depth = 8;
    video.frame_rate = {25, 1};
    graph.video = video;
    graph.chains.resize(1);
    graph.video_encodes.resize(1);
    auto& encode = graph.video_encodes.front().encode;
    encode.width = 720;
    encode.height = 480;
    encode.frame_rate = {25, 1};
    encode.effort = 3;
    return graph;
}

}  // namespace

TEST_CASE("times between what was measured follow efforts, sizes and depths", "[capacity]") {
    const Capacity c = made_up();
    CHECK(ms(measure::encoding_time(c, Codec::h264, 8, 854, 480, 3)) == Approx(100));
    CHECK(ms(measure::encoding_time(c, Codec::h264, 8, 854, 480, 4)) == Approx(141.42).epsilon(1e-4));
    CHECK(ms(measure::encoding_time(c, Codec::h264, 8, 1708, 960, 5)) == Approx(800));
    // Half-way in size, as logarithms go; and as many times the pixels beyond the largest.
    CHECK(ms(measure::encoding_time(c, Codec::h264, 8, 1208, 679, 3)) == Approx(200).epsilon(2e-3));
    CHECK(ms(measure::encoding_time(c, Codec::h264, 8, 3416, 1920, 3)) == Approx(1600));
    CHECK(ms(measure::encoding_time(c, Codec::h264, 8, 427, 240, 1)) == Approx(12.5));
    // Of one size and one effort alone, the rest is in proportion.
    CHECK(ms(measure::encoding_time(c, Codec::h265, 8, 1708, 960, 3)) == Approx(1200));
    CHECK(ms(measure::encoding_time(c, Codec::h265, 10, 1708, 960, 3)) == Approx(1800));
    CHECK_FALSE(measure::encoding_time(c, Codec::h264, 10, 854, 480, 3));
    CHECK_FALSE(measure::encoding_time(c, Codec::av1, 8, 854, 480, 3));
    CHECK(ms(measure::decoding_time(c, Codec::mpeg1, 8, 360, 480)) == Approx(1));
    CHECK_FALSE(measure::decoding_time(c, Codec::vc1, 8, 720, 480));
}

TEST_CASE("what a transcode takes is the sum of its stages", "[capacity]") {
    const Capacity c = made_up();
    auto graph = to_h264();
    const double encoding = measure::encoding_time(c, Codec::h264, 8, 720, 480, 3)->processor;
    auto load = measure::load_of(c, graph);
    REQUIRE(load);
    CHECK(load->processor == Approx(25 * (0.002 + encoding)));
    CHECK(load->alone == Approx(load->processor / 2));  // both processors, nothing waits

    // Deinterlaced to a frame for each field, scaled, with surround beside it.
    graph.chains.front().fields.emplace();
    auto& encode = graph.video_encodes.front().encode;
    encode.frame_rate = {50, 1};
    encode.width = 640;
    encode.height = 360;
    graph.audio_encodes.resize(1);
    graph.audio_encodes.front().encode.speakers = media::speaker::kFiveOne;
    load = measure::load_of(c, graph);
    REQUIRE(load);
    const double small = measure::encoding_time(c, Codec::h264, 8, 640, 360, 3)->processor;
    const double part = 720.0 * 480 / (1920.0 * 1080);
    CHECK(load->processor == Approx(25 * (0.002 + 0.03 * part) + 50 * (small + 0.004 * part) + 0.03));

    // A stage that is slower than all of it bounds it.
    graph = to_h264();
    Capacity slow = c;
    slow.decoding.front().time = {0.05, 0.5};
    CHECK(measure::load_of(slow, graph)->alone == Approx(12.5));
    // What wasn't measured isn't guessed; what is kept costs nothing.
    graph.video->codec = Codec::vc1;
    CHECK_FALSE(measure::load_of(c, graph));
    CHECK(measure::load_of(c, {})->processor == 0);
}

TEST_CASE("figures that contradict each other are noticed", "[capacity]") {
    Capacity c = made_up();
    CHECK_FALSE(measure::was_disturbed(c));
    c.encoding[0].time.alone = c.encoding[1].time.alone * 1.2;  // effort 1 beside 3: as trials differ
    CHECK_FALSE(measure::was_disturbed(c));
    c.encoding[0].time.alone = c.encoding[1].time.alone * 1.4;
    CHECK(measure::was_disturbed(c));
    c = made_up();
    c.decoding.push_back({Codec::h264, 720, 480, 8, 0, {0.1, 0.1}});  // smaller, yet slower than 1080p
    CHECK(measure::was_disturbed(c));
}

TEST_CASE("viewers at once are bounded by what is slowest", "[capacity]") {
    Capacity c = made_up();
    auto viewers = measure::viewers_at_once(c, 8e6);
    CHECK(viewers.count == 34);  // 40 MB/s, 87 % of it
    CHECK(viewers.limit == "drive of /media/films");
    c.drives.front().read = 400e6;
    viewers = measure::viewers_at_once(c, 8e6);
    CHECK(viewers.limit == "port eth0");
    CHECK(viewers.count == 102);
    c.server_bps = 100e6;
    CHECK(measure::viewers_at_once(c, 8e6).limit == "server");
    CHECK(measure::viewers_at_once(c, 1e12).count == 0);
    CHECK(made_up().live.front().carries() == 2);
}

TEST_CASE("what was measured is kept for this machine and no other", "[capacity]") {
    const test::TempDir folder;
    const base::Path file = folder.path() / "state" / "machine.json";
    REQUIRE(*measure::load_capacity(file) == std::nullopt);
    Capacity c = made_up();
    c.processors = measure::this_machine().processors;
    REQUIRE(measure::save(c, file));
    const auto again = measure::load_capacity(file);
    REQUIRE(again);
    REQUIRE(*again);
    CHECK(measure::to_json_text(**again) == measure::to_json_text(c));
    CHECK((*again)->encoding.size() == 6);
    CHECK((*again)->hardware.front().decodes == std::vector<std::string>{"H.264"});

    // Times that no picture takes are as if they weren't there.
    Capacity absurd = c;
    for (measure::CodecSpeed& one : absurd.encoding) one.time.alone = 1e308;
    REQUIRE(measure::save(absurd, file));
    CHECK_FALSE(measure::encoding_time(**measure::load_capacity(file), Codec::h264, 8, 854, 480, 3));

    c.processors += 1;
    REQUIRE(measure::save(c, file));
    CHECK_FALSE(*measure::load_capacity(file));
    // Every cut of it is refused or taken whole.
    const std::string text = measure::to_json_text(made_up());
    for (std::size_t length = 0; length + 2 < text.size(); length += 37) {
        REQUIRE(base::write_file(file, base::as_bytes(text.substr(0, length)), base::AtomicFile::IfExists::replace));
        const auto cut = measure::load_capacity(file);
        REQUIRE_FALSE(cut);
        CHECK(cut.error().kind == ErrorKind::input);
    }
    for (const char* wrong : {"[]", "{\"host\": 5}", "null", "{\"encoding\": {\"a\": 1}}"}) {
        REQUIRE(base::write_file(file, base::as_bytes(wrong), base::AtomicFile::IfExists::replace));
        CHECK_FALSE(measure::load_capacity(file));
    }
}

TEST_CASE("codecs, filters and audio are measured by really running them", "[capacity]") {
    measure::SpeedSettings settings;
    settings.sizes = {{160, 96}, {320, 192}};
    settings.efforts = {1, 3};
    settings.seconds = 0.02;
    Capacity c;
    double last = 0;
    std::size_t told = 0;
    const base::Cancel never;
    const auto clips = measure::measure_codecs(
        settings, c,
        [&](double done, const std::string& next) {
            CHECK(done >= last);
            CHECK(done <= 1);
            CHECK_FALSE(next.empty());
            last = done;
            ++told;
        },
        never);
    REQUIRE(clips);
    CHECK(last > 0.9);
    // Four codecs at two efforts, twice the greater depth, and four at the other size.
    CHECK(c.encoding.size() == 14);
    CHECK(c.decoding.size() == clips->size());
    CHECK(told == c.encoding.size() + c.decoding.size() + 2);
    for (const auto* list : {&c.encoding, &c.decoding}) {
        for (const measure::CodecSpeed& one : *list) {
            CHECK(one.time.alone > 0);
            CHECK(one.time.processor > 0);
        }
    }
    CHECK(c.filters.deinterlace.alone > 0);
    CHECK(c.filters.scale.alone > 0);
    CHECK(c.filters.tone_map.alone > 0);
    CHECK(c.audio > 0);
    // A clip is what it says: a picture for each packet.
    for (const measure::Clip& clip : *clips) {
        CHECK(clip.packets.front().key);
        CHECK(clip.packets.size() >= 8);
    }

    base::Cancel now;
    now.request();
    const auto stopped = measure::measure_codecs(settings, c, {}, now);
    REQUIRE_FALSE(stopped);
    CHECK(stopped.error().kind == ErrorKind::interrupted);
}
