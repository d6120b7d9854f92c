// What goes over the wires, taken apart by a program that shares nothing with ours: RTP and transport packets, and RTMP
// in both directions.
#include <arpa/inet.h>
#include <poll.h>
#include <sys/socket.h>
#include <unistd.h>

#include <algorithm>
#include <catch2/catch.hpp>
#include <chrono>
#include <set>
#include <sstream>
#include <thread>

#include "support/clips.hpp"
#include "support/dissector.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
using namespace std::chrono_literals;

namespace {

std::vector<std::string> split(const std::string& text, char at) {
    std::vector<std::string> parts;
    std::istringstream in(text);
    for (std::string part; std::getline(in, part, at);) parts.push_back(part);
    return parts;
}

sockaddr_in loopback(std::uint16_t port) {
    sockaddr_in address{};
    address.sin_family = AF_INET;
    address.sin_port = htons(port);
    address.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    return address;
}
int bound(int type, std::uint16_t& port) {
    const int socket = ::socket(AF_INET, type | SOCK_CLOEXEC, 0);
    sockaddr_in address = loopback(0);
    REQUIRE(::bind(socket, reinterpret_cast<sockaddr*>(&address), sizeof address) == 0);
    socklen_t size = sizeof address;
    ::getsockname(socket, reinterpret_cast<sockaddr*>(&address), &size);
    port = ntohs(address.sin_port);
    return socket;
}

// Passes one connection on to a port, and notes what passes.
class Tap {
  public:
    Tap(std::uint16_t to, Capture& capture) : capture_(capture) {
        listening_ = bound(SOCK_STREAM, port);
        REQUIRE(::listen(listening_, 1) == 0);
        thread_ = std::thread([this, to] { run(to); });
    }
    ~Tap() { wait(); }
    void wait() {
        if (thread_.joinable()) thread_.join();
    }
    std::uint16_t port = 0;

  private:
    void run(std::uint16_t to) {
        pollfd waiting{listening_, POLLIN, 0};
        if (::poll(&waiting, 1, 10'000) == 1) {
            const int client = ::accept4(listening_, nullptr, nullptr, SOCK_CLOEXEC);
            const int server = ::socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0);
            sockaddr_in address = loopback(to);
            if (::connect(server, reinterpret_cast<sockaddr*>(&address), sizeof address) == 0) pass(client, server);
            ::close(client);
            ::close(server);
        }
        ::close(listening_);
    }
    void pass(int client, int server) {
        ByteVector buffer(64 << 10);
        while (true) {
            pollfd both[2] = {{client, POLLIN, 0}, {server, POLLIN, 0}};
            if (::poll(both, 2, 10'000) <= 0) return;
            for (int i = 0; i < 2; ++i) {
                if (both[i].revents == 0) continue;
                const ssize_t got = ::recv(both[i].fd, buffer.data(), buffer.size(), 0);
                if (got <= 0) return;
                const ByteSpan bytes = ByteSpan(buffer).first(static_cast<std::size_t>(got));
                capture_.add_stream(bytes, i == 0);
                if (::send(both[1 - i].fd, bytes.data(), bytes.size(), MSG_NOSIGNAL) != got) return;
            }
        }
    }

    Capture& capture_;
    int listening_ = -1;
    std::thread thread_;
};

}  // namespace

TEST_CASE("RTP and the transport packets in it are what a dissector expects", "[live][dissector][waits]") {
    if (!has_dissector()) return;
    const TempDir dir;
    write_media(dir / "harbour.mp4", "mp4", {video_track(Codec::h264, 120), audio_track(Codec::aac, 5)});
    std::uint16_t port = 0;
    const int socket = bound(SOCK_DGRAM, port);
    const int room = 4 << 20;
    ::setsockopt(socket, SOL_SOCKET, SO_RCVBUF, &room, sizeof room);
    Capture capture(port);
    std::size_t datagrams = 0;
    {
        const Background program({"stream", "run", "harbour.mp4", "--rtp", "127.0.0.1:" + std::to_string(port)},
                                 dir.path());
        ByteVector buffer(2048);
        const auto until = std::chrono::steady_clock::now() + 10s;
        while (std::chrono::steady_clock::now() < until && datagrams < 120) {
            pollfd waiting{socket, POLLIN, 0};
            if (::poll(&waiting, 1, 500) != 1) continue;
            const ssize_t got = ::recv(socket, buffer.data(), buffer.size(), 0);
            if (got <= 0) continue;
            capture.add_datagram(ByteSpan(buffer).first(static_cast<std::size_t>(got)));
            ++datagrams;
        }
    }
    ::close(socket);
    REQUIRE(datagrams == 120);
    const std::string as = "udp.port==" + std::to_string(port) + ",rtp";
    const auto lines = capture.fields({"rtp", "rtp.version", "rtp.p_type", "rtp.seq", "rtp.timestamp"}, as);
    REQUIRE(lines.size() == datagrams);
    std::optional<int> sequence;
    for (const std::string& line : lines) {
        const auto values = split(line, '\t');
        REQUIRE(values.size() == 5);
        CHECK(values[1] == "2");
        CHECK(values[2] == "33");
        const int now = std::stoi(values[3]);
        if (sequence) CHECK(now == ((*sequence + 1) & 0xFFFF));
        sequence = now;
    }
    // Seven transport packets in each but where a picture ends, with tables, clock references, pictures and audio.
    std::set<std::string> pids;
    std::size_t packets = 0;
    for (const std::string& line : capture.fields({"mp2t", "mp2t.pid"}, as)) {
        const auto values = split(line, '\t');
        REQUIRE(values.size() == 2);
        for (const std::string& pid : split(values[1], ',')) {
            pids.insert(pid);
            ++packets;
        }
    }
    CHECK(packets > datagrams * 4);
    CHECK(packets <= datagrams * 7);
    CHECK(pids.count("0x00000000") == 1);
    CHECK(pids.size() >= 4);
    CHECK_FALSE(capture.fields({"mp2t.af.pcr"}, as).empty());
    CHECK_FALSE(capture.fields({"mpeg_pat"}, as).empty());
    CHECK_FALSE(capture.fields({"mpeg_pmt"}, as).empty());
    CHECK_FALSE(capture.fields({"mpeg-pes.pts"}, as).empty());
    CHECK(capture.fields({"mp2t.cc.drop"}, as).empty());
    CHECK(capture.fields({"_ws.malformed"}, as).empty());
}

TEST_CASE("RTMP is what a dissector expects, in both directions", "[server][dissector][waits]") {
    if (!has_dissector()) return;
    const TempDir dir;
    write_media(dir / "harbour.mp4", "mp4", {video_track(Codec::h264, 240), audio_track(Codec::aac, 10)});
    const std::uint16_t port = free_port(), rtmp_port = free_port();
    const Background program({"stream", "run", "harbour.mp4", "--delivery", "rtmp", "--loop", "--port",
                              std::to_string(port), "--rtmp-port", std::to_string(rtmp_port)},
                             dir.path());
    REQUIRE(wait_for_port(rtmp_port));
    Capture capture(1935);
    Tap tap(rtmp_port, capture);
    const Ran played = run_program({"verify", "rtmp://127.0.0.1:" + std::to_string(tap.port) + "/house/harbour",
                                    "--device", "player-full", "--for", "3 s"},
                                   dir.path());
    INFO(played.out << played.err);
    CHECK(played.status == 0);
    tap.wait();
    const auto lines = capture.fields({"rtmpt", "rtmpt.header.typeid", "rtmpt.function.call", "amf.string"});
    std::string all;
    std::size_t audio = 0, pictures = 0;
    for (const std::string& line : lines) {
        const auto values = split(line, '\t');
        if (values.size() > 1) {
            for (const std::string& type : split(values[1], ',')) {
                audio += type == "0x08" ? 1 : 0;
                pictures += type == "0x09" ? 1 : 0;
            }
        }
        all += line + "\n";
    }
    INFO(all.substr(0, 2000));
    // Commands of the player, answers of the server, and what is played: 24 pictures and 47 frames of audio a second.
    for (const char* word : {"connect", "house", "createStream", "play", "harbour", "_result",
                             "NetConnection.Connect.Success", "NetStream.Play.Start", "onMetaData"})
        CHECK(all.find(word) != std::string::npos);
    CHECK(pictures >= 48);
    CHECK(audio >= 94);
    CHECK(capture.fields({"_ws.malformed"}).empty());
}
