// stream run with --udp and --rtp: what arrives is the film, on its clock.
#include <atomic>
#include <catch2/catch.hpp>
#include <chrono>
#include <csignal>
#include <nlohmann/json.hpp>
#include <thread>

#include "measure/transport.hpp"
#include "net/rtp.hpp"
#include "net/udp.hpp"
#include "support/clips.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
using namespace std::chrono_literals;

namespace {

struct Received {
    ByteVector bytes;  // transport packets
    std::vector<std::chrono::nanoseconds> at;
    std::size_t largest = 0;
    net::SequenceMeter sequence;
    bool rtp = false;

    void take(net::UdpReceiver& receiver) {
        const auto datagrams = receiver.receive(20ms);
        REQUIRE(datagrams);
        for (const auto& datagram : *datagrams) {
            ByteSpan payload = datagram.bytes;
            if (rtp) {
                const auto packet = net::parse_rtp(datagram.bytes);
                REQUIRE(packet);
                CHECK(packet->header.payload_type == 33);
                sequence.push(packet->header.sequence);
                payload = packet->payload;
            }
            REQUIRE(payload.size() % 188 == 0);
            largest = std::max(largest, payload.size());
            bytes.insert(bytes.end(), payload.begin(), payload.end());
            at.push_back(datagram.at);
        }
    }
    measure::TransportReport report() const {
        measure::TransportMeter meter;
        for (std::size_t i = 0; i + 188 <= bytes.size(); i += 188) meter.push(ByteSpan(bytes).subspan(i, 188));
        return meter.report();
    }
};

std::unique_ptr<net::UdpReceiver> listen(std::uint16_t port) {
    auto receiver = net::UdpReceiver::open(*net::parse_udp_address("127.0.0.1:" + std::to_string(port)));
    REQUIRE(receiver);
    return std::move(*receiver);
}

}  // namespace

TEST_CASE("a film goes out as datagrams and as RTP at once, on its own clock", "[live][waits]") {
    const TempDir dir;
    const std::vector<TestTrack> test_tracks = {video_track(Codec::h264, 72), audio_track(Codec::aac, 3)};
    write_media(dir / "harbour.mp4", "mp4", test_tracks);
    const std::uint16_t first = free_port(), second = free_port();
    const auto plain = listen(first), framed = listen(second);
    Received a, b;
    b.rtp = true;
    {
        const Background sender({"stream", "run", "harbour.mp4", "--udp", "127.0.0.1:" + std::to_string(first), "--rtp",
                                 "127.0.0.1:" + std::to_string(second)},
                                dir.path());
        const auto begin = std::chrono::steady_clock::now();
        while (std::chrono::steady_clock::now() - begin < 30s &&
               sender.output().find("Stopped after") == std::string::npos) {
            for (int i = 0; i < 20; ++i) {
                a.take(*plain);
                b.take(*framed);
            }
        }
        INFO(sender.output());
        CHECK(sender.output().find("udp://127.0.0.1:" + std::to_string(first)) != std::string::npos);
    }
    CHECK(a.largest == 1316);
    INFO(a.bytes.size());
    CHECK(a.bytes == b.bytes);
    CHECK(b.sequence.lost() == 0);
    CHECK(b.sequence.doubled() == 0);
    const auto report = a.report();
    CHECK(report.discontinuities == 0);
    CHECK(report.clock_interval <= 40ms);
    CHECK(measure::in_words(report).empty());
    // Three seconds of film and the lead before its first picture: not faster. (Slower is what a busy machine makes
    // it.)
    REQUIRE(a.at.size() > 50);
    const auto took = std::chrono::duration<double>(a.at.back() - a.at.front()).count();
    CHECK(took > base::to_seconds(report.duration) - 0.35);
    CHECK(took > 2.5);
    write_all(dir / "got.ts", a.bytes);
    const auto got = read_media(dir / "got.ts");
    REQUIRE(got.size() == 2);
    CHECK(payload_of(got[0]) == payload_of(test_tracks[0]));
    CHECK(payload_of(got[1]) == payload_of(test_tracks[1]));
}

TEST_CASE("a loop goes on without a seam, and Ctrl-C ends it", "[live][waits]") {
    const TempDir dir;
    write_media(dir / "loop.mkv", "matroska", {video_track(Codec::h264, 48), audio_track(Codec::aac, 2)});
    write_all(dir / "site.toml", "[site]\nname = \"Cedar Landing\"\n[server]\nport = " + std::to_string(free_port()) +
                                     "\n[[stream]]\nname = \"Loop\"\nfile = \"loop.mkv\"\nudp = [\"127.0.0.1:" +
                                     std::to_string(free_port()) + "\"]\nloop = true\nbitrate = \"2 Mbit/s\"\n");
    const auto text = std::string([&] {
        const ByteVector bytes = read_all(dir / "site.toml");
        return std::string(bytes.begin(), bytes.end());
    }());
    const std::size_t at = text.find("127.0.0.1:") + 10;
    const auto port = static_cast<std::uint16_t>(std::stoi(text.substr(at)));
    const auto receiver = listen(port);
    Received got;
    {
        Background sender({"stream", "run", "--site", "site.toml"}, dir.path());
        const auto begin = std::chrono::steady_clock::now();
        while (std::chrono::steady_clock::now() - begin < 9s) got.take(*receiver);
        CHECK(sender.end(SIGINT) == 0);
        CHECK(sender.output().find("looped") != std::string::npos);
    }
    const auto report = got.report();
    CHECK(report.duration > 1s);
    CHECK(report.discontinuities == 0);
    CHECK(report.clock_jumps == 0);
    CHECK(report.clock_interval <= 40ms);
    CHECK(report.mean_bps == Approx(2'000'000).epsilon(0.02));
    write_all(dir / "got.ts", got.bytes);
    const auto test_tracks = read_media(dir / "got.ts");
    REQUIRE(test_tracks.size() == 2);
    REQUIRE(test_tracks[0].packets.size() > 20);
    std::vector<Time> times;
    // Receiving ends anywhere: pictures behind the last keyframe may lack those shown before them.
    Time whole{};
    for (const Packet& p : test_tracks[0].packets) whole = p.key ? p.pts : whole;
    for (const Packet& p : test_tracks[0].packets) {
        if (p.pts <= whole) times.push_back(p.pts);
    }
    std::sort(times.begin(), times.end());
    for (std::size_t i = 1; i < times.size(); ++i)
        CHECK(std::chrono::abs(times[i] - times[i - 1] - base::from_ticks(1001, 24000)) < 1ms);
}

TEST_CASE("datagrams are verified as a device: fine, lost on the way, something else, nothing", "[live][waits]") {
    const TempDir dir;
    write_media(dir / "loop.mp4", "mp4", {video_track(Codec::h264, 96), audio_track(Codec::aac, 4)});
    const std::string direct = "127.0.0.1:" + std::to_string(free_port());
    const auto verify = [&](const std::string& address) {
        return run_program({"verify", address, "--device", "tv-hd", "--for", "3 s", "--wait", "2 s", "--json"},
                           dir.path());
    };
    const auto check_of = [](const nlohmann::json& result, const std::string& name) {
        for (const auto& check : result["checks"]) {
            if (check["name"] == name) return check;
        }
        FAIL("no check " << name);
        return nlohmann::json();
    };
    {
        const Background sender({"stream", "run", "loop.mp4", "--rtp", direct, "--loop"}, dir.path());
        const Ran ran = verify("rtp://" + direct);
        INFO(ran.out << ran.err);
        const auto result = json_of(ran)["results"][0];
        // On a machine that others keep busy datagrams may leave late, and that is rightly found.
        for (const auto& check : result["checks"]) CHECK((check["verdict"] != "fail" || check["name"] == "arrival"));
        CHECK(ran.status == (result["verdict"] == "fail" ? 1 : 0));
        CHECK(check_of(result, "packets lost")["verdict"] == "pass");
        CHECK(check_of(result, "packets")["verdict"] == "pass");
        CHECK(check_of(result, "video codec")["verdict"] == "pass");
        CHECK(result["startup_s"].get<double>() < 13);
        CHECK(result["bitrate"]["mean_bps"].get<double>() > 100'000);
        // The same without looking for RTP: said, with what to try.
        const Ran plain = verify("udp://" + direct);
        CHECK(plain.status == 1);
        CHECK(plain.out.find("try rtp://") != std::string::npos);
    }
    // A way that loses one datagram in fifty and swaps some: a relay between the sender and the device.
    const std::uint16_t in = free_port();
    const std::string relayed = "127.0.0.1:" + std::to_string(free_port());
    {
        const auto relay_in = listen(in);
        auto out = net::UdpSender::open({});
        REQUIRE(out);
        const auto to = net::parse_udp_address(relayed);
        const Background sender({"stream", "run", "loop.mp4", "--rtp", "127.0.0.1:" + std::to_string(in), "--loop"},
                                dir.path());
        std::atomic<bool> done = false;
        std::thread relay([&] {
            ByteVector held;
            for (int n = 0; !done;) {
                const auto datagrams = relay_in->receive(20ms);
                if (!datagrams) return;
                for (const auto& datagram : *datagrams) {
                    ++n;
                    if (n % 50 == 7) continue;
                    const ByteVector bytes(datagram.bytes.begin(), datagram.bytes.end());
                    if (n % 50 == 20) {
                        held = bytes;
                        continue;
                    }
                    std::vector<net::UdpSender::Datagram> now = {{&*to, bytes}};
                    if (!held.empty()) now.push_back({&*to, held});
                    (*out)->send(now);
                    held.clear();
                }
            }
        });
        const Ran ran = verify("rtp://" + relayed);
        done = true;
        relay.join();
        INFO(ran.out << ran.err);
        CHECK(ran.status == 1);
        const auto result = json_of(ran)["results"][0];
        CHECK(result["verdict"] == "fail");
        CHECK(result["cause"] == "network");
        CHECK(check_of(result, "packets lost")["verdict"] == "fail");
        CHECK(check_of(result, "packet order")["verdict"] == "warn");
        CHECK(check_of(result, "packets")["verdict"] == "fail");
    }
    const Ran nothing = verify("udp://" + direct);
    CHECK(nothing.status == 1);
    CHECK(nothing.out.find("nothing received") != std::string::npos);
    CHECK(verify("udp://nowhere").status == 2);
}

TEST_CASE("what can't be sent is refused before anything is", "[live]") {
    const TempDir dir;
    write_media(dir / "web.webm", "webm", {video_track(Codec::vp9, 24), audio_track(Codec::opus, 1)});
    write_media(dir / "film.mp4", "mp4", {video_track(Codec::h264, 24)});
    const Ran vp9 = run_program({"stream", "run", "web.webm", "--udp", "127.0.0.1:5004"}, dir.path());
    CHECK(vp9.status == 3);
    CHECK(vp9.err.find("can't be sent") != std::string::npos);
    CHECK(run_program({"stream", "run", "film.mp4", "--udp", "lounge:5004"}, dir.path()).status == 2);
    CHECK(run_program({"stream", "run", "film.mp4", "--loop"}, dir.path()).status == 2);
    CHECK(
        run_program({"stream", "run", "film.mp4", "--udp", "127.0.0.1:5004", "--bitrate", "much"}, dir.path()).status ==
        2);
    CHECK(run_program({"stream", "run", "missing.mp4", "--udp", "127.0.0.1:5004"}, dir.path()).status == 3);
    CHECK(run_program({"stream", "run", "film.mp4", "--udp", "239.1.1.1:5004", "--interface", "nowhere0"}, dir.path())
              .status == 2);
    // In a site: two streams to one address, by its line.
    write_all(
        dir / "site.toml",
        std::string("[[stream]]\nname = \"A\"\nfile = \"film.mp4\"\nudp = [\"239.20.0.1:5004\"]\n"
                    "[[stream]]\nname = \"B\"\nfile = \"film.mp4\"\npath = \"/b.mp4\"\nrtp = [\"239.20.0.1:5004\"]\n"));
    const Ran twice = run_program({"site", "check"}, dir.path());
    CHECK(twice.status == 1);
    CHECK(twice.err.find("sent to 239.20.0.1:5004 already") != std::string::npos);
    INFO(twice.err);
    CHECK(twice.err.find("line 9") != std::string::npos);
}
