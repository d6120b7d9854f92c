// The transport stream's schedule, checked by a meter that knows nothing of how it was made.
#include "container/ts_mux.hpp"

#include <catch2/catch.hpp>
#include <chrono>
#include <map>

#include "bitstream/decoder_buffer.hpp"
#include "container/mpeg_ts.hpp"
#include "measure/transport.hpp"
#include "support/clips.hpp"
#include "support/h264_writer.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
using namespace std::chrono_literals;

namespace {

struct Made {
    ByteVector bytes;
    std::vector<Time> due;
    std::vector<std::size_t> groups;  // packets at which one begins
    container::MuxFigures figures;
};

Made multiplex(const std::vector<TestTrack>& test_tracks, container::MuxSettings settings = {}) {
    Made made;
    std::vector<Track> tracks;
    for (const TestTrack& test_track : test_tracks) tracks.push_back(test_track.track);
    container::TransportMux mux(tracks, std::move(settings), [&](const container::MuxedPacket& packet) -> Status {
        REQUIRE(packet.bytes.size() == 188);
        if (packet.group_start) made.groups.push_back(made.due.size());
        made.due.push_back(packet.due);
        made.bytes.insert(made.bytes.end(), packet.bytes.begin(), packet.bytes.end());
        return {};
    });
    std::vector<std::size_t> next(test_tracks.size());
    while (true) {
        std::size_t best = test_tracks.size();
        for (std::size_t i = 0; i < test_tracks.size(); ++i) {
            if (next[i] >= test_tracks[i].packets.size()) continue;
            if (best == test_tracks.size() ||
                test_tracks[i].packets[next[i]].dts < test_tracks[best].packets[next[best]].dts)
                best = i;
        }
        if (best == test_tracks.size()) break;
        REQUIRE(mux.write(test_tracks[best].packets[next[best]++]));
    }
    REQUIRE(mux.finish());
    made.figures = mux.figures();
    return made;
}

measure::TransportReport measured(const ByteVector& bytes) {
    measure::TransportMeter meter;
    for (std::size_t at = 0; at + 188 <= bytes.size(); at += 188) meter.push(ByteSpan(bytes).subspan(at, 188));
    return meter.report();
}

// Where a group begins, no PES packet of audio goes on: by ISO/IEC 13818-1, 2.4.3.2 and 2.4.3.6, by hand.
void check_groups(const Made& made) {
    std::map<int, std::size_t> left;
    std::size_t group = 0;
    for (std::size_t i = 0; i * 188 < made.bytes.size(); ++i) {
        const std::uint8_t* p = made.bytes.data() + i * 188;
        if (group < made.groups.size() && made.groups[group] == i) {
            ++group;
            for (const auto& [pid, bytes] : left) {
                INFO("packet " << i << ", PID " << pid);
                CHECK(bytes == 0);
            }
        }
        const int pid = (p[1] & 0x1F) << 8 | p[2];
        const std::size_t payload = (p[3] & 0x20) != 0 ? 5 + p[4] : 4;
        if ((p[3] & 0x10) == 0 || payload >= 188) continue;
        const bool starts = (p[1] & 0x40) != 0 && p[payload] == 0 && p[payload + 1] == 0 && p[payload + 2] == 1;
        // (Those of pictures have no length.)
        if (starts) left[pid] = p[payload + 4] << 8 | p[payload + 5];
        if (const auto found = left.find(pid); found != left.end() && found->second > 0)
            found->second -= std::min(found->second, 188 - payload - (starts ? 6 : 0));
    }
    CHECK(group == made.groups.size());
}

void check_audio(const Made& made, const std::vector<TestTrack>& test_tracks) {
    const auto report = measured(made.bytes);
    CHECK(report.packets == made.due.size());
    CHECK(report.discontinuities == 0);
    CHECK(report.clock_jumps == 0);
    CHECK(report.clock_interval <= 40ms);
    CHECK(report.table_interval <= 200ms);
    REQUIRE(report.streams.size() == test_tracks.size());
    for (std::size_t i = 0; i < test_tracks.size(); ++i) {
        const auto& stream = report.streams[i];
        INFO(media::short_name(test_tracks[i].track.codec)
             << ", held " << stream.held_bytes << ", transport buffer " << stream.transport_buffer << ", late "
             << base::to_seconds(stream.latest));
        CHECK(stream.units > 10);
        CHECK(stream.late == 0);
        CHECK(stream.earliest <= 1s);
        CHECK(stream.overflows == 0);
        if (const auto limit = bitstream::decoder_buffer(test_tracks[i].track))
            CHECK(stream.held_bytes <= limit->size_bits / 8);
        if (test_tracks[i].track.codec == Codec::aac) CHECK(stream.held_bytes <= 3584);
        if (test_tracks[i].track.codec == Codec::ac3) CHECK(stream.held_bytes <= 5696);
    }
    CHECK(measure::in_words(report).empty());
    check_groups(made);
    // Packets come in the order of their times.
    CHECK(std::is_sorted(made.due.begin(), made.due.end()));
}

}  // namespace

TEST_CASE("clocks, tables and buffers keep their limits at a variable rate", "[mux]") {
    for (const Codec codec : {Codec::h264, Codec::h265, Codec::mpeg2}) {
        INFO(media::short_name(codec));
        const std::vector<TestTrack> test_tracks = {video_track(codec, 240), audio_track(Codec::aac, 10),
                                                    audio_track(Codec::ac3, 10, 3)};
        const Made made = multiplex(test_tracks);
        check_audio(made, test_tracks);
        CHECK(made.figures.late == 0);
        CHECK(made.figures.null_packets == 0);
        // A group for every keyframe, with the tables first.
        const auto keys = std::count_if(test_tracks[0].packets.begin(), test_tracks[0].packets.end(),
                                        [](const Packet& p) { return p.key; });
        CHECK(static_cast<std::ptrdiff_t>(made.groups.size()) == keys);
        for (const std::size_t at : made.groups) {
            const auto packet = container::ts::parse_packet(ByteSpan(made.bytes).subspan(at * 188, 188));
            REQUIRE(packet);
            CHECK(packet->pid == container::ts::kPatPid);
        }
    }
}

TEST_CASE("a constant rate is filled up, evenly to the tick", "[mux]") {
    const std::vector<TestTrack> test_tracks = {video_track(Codec::h264, 240), audio_track(Codec::aac, 10)};
    container::MuxSettings settings;
    settings.rate_bps = 3'000'000;
    settings.title = "Harbour";
    const Made made = multiplex(test_tracks, settings);
    check_audio(made, test_tracks);
    CHECK(made.figures.late == 0);
    CHECK(made.figures.null_packets > 0);
    for (std::size_t i = 0; i < made.due.size(); ++i) {
        const Time even = made.due.front() + base::from_ticks(static_cast<std::int64_t>(i) * 188 * 8, 3'000'000);
        REQUIRE(std::chrono::abs(made.due[i] - even) <= base::from_ticks(1, 27'000'000));
    }
    const auto report = measured(made.bytes);
    CHECK(report.clock_jitter <= 500ns);  // TR 101 290, 2.4
    CHECK(report.mean_bps == Approx(3'000'000).epsilon(0.01));
}

TEST_CASE("a constant rate that is too low is told", "[mux]") {
    container::MuxSettings settings;
    settings.rate_bps = 150'000;
    const Made made = multiplex({video_track(Codec::h264, 120), audio_track(Codec::aac, 5)}, settings);
    CHECK(made.figures.late > 0);
    CHECK(made.figures.latest > 100ms);
    // The meter sees the same from the bytes alone.
    const auto report = measured(made.bytes);
    CHECK(report.streams[0].late > 0);
    bool said = false;
    for (const std::string& word : measure::in_words(report))
        said = said || word.find("late data") != std::string::npos;
    CHECK(said);
}

TEST_CASE("a large picture takes the time it needs and no more", "[mux]") {
    // 120 kB of a keyframe among small pictures: sent over its lead, not in one burst.
    TestTrack picture = video_track(Codec::h264, 96);
    ByteVector big(picture.packets[48].data.view().begin(), picture.packets[48].data.view().end());
    big.resize(big.size() + 4);
    ByteVector unit(120'000, 0x5A);
    unit[0] = 0x0C;  // filler data
    const auto size = static_cast<std::uint32_t>(unit.size());
    for (int i = 0; i < 4; ++i)
        big[big.size() - 4 + static_cast<std::size_t>(i)] = static_cast<std::uint8_t>(size >> (24 - 8 * i));
    big.insert(big.end(), unit.begin(), unit.end());
    picture.packets[48].data = Bytes(std::move(big));
    const std::vector<TestTrack> test_tracks = {picture, audio_track(Codec::aac, 4)};
    const Made made = multiplex(test_tracks);
    check_audio(made, test_tracks);
    CHECK(made.figures.peak_bps < 2'600'000);  // 1 Mbit over 0.66 s, what comes beside it, and some headroom
    CHECK(made.figures.peak_bps > 1'400'000);
}

TEST_CASE("audio alone carries the clock", "[mux]") {
    const std::vector<TestTrack> test_tracks = {audio_track(Codec::aac, 5, 1)};
    const Made made = multiplex(test_tracks);
    check_audio(made, test_tracks);
    CHECK(made.groups.size() > 10);
}

TEST_CASE("what is followed ends where that begins", "[mux]") {
    const std::vector<TestTrack> test_tracks = {video_track(Codec::h264, 100), audio_track(Codec::aac, 4)};
    const auto clock_end = [](const Made& made) { return made.due.back(); };
    Time end{};
    for (const TestTrack& test_track : test_tracks) {
        for (const Packet& packet : test_track.packets) end = std::max(end, packet.dts + packet.duration);
    }
    container::MuxSettings settings;
    settings.lead = 200ms;
    settings.from = -500ms;
    settings.until = end - settings.lead;
    const Made made = multiplex(test_tracks, settings);
    CHECK(made.due.front() == *settings.from);
    CHECK(clock_end(made) < *settings.until);
    CHECK(clock_end(made) > *settings.until - 40ms);
    // Each counter is at its beginning again.
    std::map<int, int> payloads;
    for (std::size_t at = 0; at < made.bytes.size(); at += 188) {
        const int pid = (made.bytes[at + 1] & 0x1F) << 8 | made.bytes[at + 2];
        if ((made.bytes[at + 3] & 0x10) != 0) ++payloads[pid];
    }
    CHECK(payloads.size() == 4);
    for (const auto& [pid, count] : payloads) CHECK(count % 16 == 0);
    const auto report = measured(made.bytes);
    CHECK(report.discontinuities == 0);
    CHECK(report.clock_jumps == 0);
    for (const auto& stream : report.streams) CHECK(stream.late == 0);
    // A film that is damaged may go on after hours: that is no reason to fill them, or to be late.
    settings.until = end + 3h;
    const Made gap = multiplex(test_tracks, settings);
    CHECK(gap.bytes.size() < made.bytes.size() + 500 * 188);
    for (const auto& stream : measured(gap.bytes).streams) CHECK(stream.late == 0);
    // Nothing is nothing.
    CHECK(multiplex({TestTrack{test_tracks[0].track, {}}}, settings).bytes.empty());
}

TEST_CASE("the meter finds what is wrong with a stream", "[mux]") {
    const std::vector<TestTrack> test_tracks = {video_track(Codec::h264, 240), audio_track(Codec::aac, 10)};
    const ByteVector whole = multiplex(test_tracks).bytes;
    const std::size_t count = whole.size() / 188;
    const auto without = [&](auto leave_out) {
        ByteVector bytes;
        for (std::size_t i = 0; i < count; ++i) {
            const ByteSpan packet = ByteSpan(whole).subspan(i * 188, 188);
            if (!leave_out(i, *container::ts::parse_packet(packet)))
                bytes.insert(bytes.end(), packet.begin(), packet.end());
        }
        return bytes;
    };
    using container::ts::TransportPacket;
    bool taken = false;
    const auto lost = measured(without([&](std::size_t i, const TransportPacket& p) {
        if (taken || i < count / 2 || p.pid != 0x100 || p.payload.empty()) return false;
        return taken = true;
    }));
    CHECK(lost.discontinuities == 1);
    REQUIRE(lost.first_discontinuity);
    CHECK(base::to_seconds(*lost.first_discontinuity) == Approx(5.5).margin(1.5));
    const auto no_clock = measured(without(
        [&](std::size_t i, const TransportPacket& p) { return p.pcr_27mhz && i > count / 2 && i < count / 2 + 150; }));
    CHECK(no_clock.clock_interval > 100ms);
    const auto no_tables = measured(without(
        [&](std::size_t i, const TransportPacket& p) { return p.pid == 0 && i > count / 3 && i < 2 * count / 3; }));
    CHECK(no_tables.table_interval > 500ms);
    // A packet twice is allowed; a third time is not.
    ByteVector twice, thrice;
    std::size_t whole_one = 200;
    while (container::ts::parse_packet(ByteSpan(whole).subspan(whole_one * 188, 188))->payload.empty()) ++whole_one;
    for (std::size_t i = 0; i < count; ++i) {
        const ByteSpan packet = ByteSpan(whole).subspan(i * 188, 188);
        const bool this_one = i == whole_one;
        for (int k = 0; k < (this_one ? 2 : 1); ++k) twice.insert(twice.end(), packet.begin(), packet.end());
        for (int k = 0; k < (this_one ? 3 : 1); ++k) thrice.insert(thrice.end(), packet.begin(), packet.end());
    }
    CHECK(measured(twice).repeated == 1);
    CHECK(measured(twice).discontinuities == 0);
    CHECK(measured(thrice).discontinuities == 1);
    // Clocks an hour on from the middle: a jump nobody announced.
    ByteVector jumped = whole;
    for (std::size_t i = count / 2; i < count; ++i) {
        std::uint8_t* p = jumped.data() + i * 188;
        if ((p[3] & 0x20) != 0 && p[4] > 0 && (p[5] & 0x10) != 0) p[6] = static_cast<std::uint8_t>(p[6] + 0x10);
    }
    CHECK(measured(jumped).clock_jumps == 1);
    CHECK(in_words(measured(jumped)).size() >= 1);
}

TEST_CASE("the rate of pictures that tell none is taken from their times", "[mux]") {
    struct Case {
        Ratio rate;
        int longer;  // so many pictures later one is shown twice as long; 0: none
    };
    for (const auto& [rate, longer] : {Case{{24000, 1001}, 0}, Case{{25, 1}, 0}, Case{{30000, 1001}, 0},
                                       Case{{30, 1}, 0}, Case{{50, 1}, 0}, Case{{30000, 1001}, 5}, Case{{25, 1}, 3}}) {
        INFO(rate.num << "/" << rate.den << ", " << longer);
        H264WriterSettings settings;
        settings.seed = 3;
        settings.pictures = 24;
        settings.timed = false;
        H264Written written = write_h264(settings);
        TestTrack test_track;
        test_track.track.id = 1;
        test_track.track.kind = TrackKind::video;
        test_track.track.codec = Codec::h264;
        test_track.track.codec_config = written.config;
        test_track.track.width = settings.columns * 16;
        test_track.track.height = settings.rows * 16;
        std::int64_t number = 0;
        for (Packet& packet : written.packets) {
            packet.track = 1;
            packet.pts = packet.dts = base::frames_to_time(number++, rate);
            packet.duration = base::frames_to_time(1, rate);
            if (longer > 0 && test_track.packets.size() % static_cast<std::size_t>(longer) == 0) ++number;
            test_track.packets.push_back(packet);
        }
        const TempDir dir;
        write_media(dir / "a.ts", "mpeg-ts", {test_track});
        const auto read = read_media(dir / "a.ts");
        REQUIRE(read.size() == 1);
        CHECK(read[0].track.frame_rate.num == rate.num);
        CHECK(read[0].track.frame_rate.den == rate.den);
        CHECK(read[0].packets.size() == test_track.packets.size());
    }
}
