// Verification against servers that misbehave: who is to blame?
#include "verify/verify.hpp"

#include <arpa/inet.h>
#include <netinet/in.h>
#include <sys/socket.h>
#include <unistd.h>
#include <catch2/catch.hpp>

#include <thread>

#include "base/byte_source.hpp"
#include "container/mp4_reader.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;

namespace {

// Serves one file over HTTP, badly: pauses, or breaks off, at given places of the first response. Later requests get
// their bytes at once.
class BadServer {
  public:
    BadServer(ByteVector content, std::size_t trouble_at, int pause_ms, bool breaks_off)
        : content_(std::move(content)), trouble_at_(trouble_at), pause_ms_(pause_ms), breaks_off_(breaks_off) {
        listener_ = ::socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0);
        sockaddr_in address{};
        address.sin_family = AF_INET;
        address.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
        socklen_t size = sizeof address;
        REQUIRE(::bind(listener_, reinterpret_cast<sockaddr*>(&address), size) == 0);
        REQUIRE(::listen(listener_, 8) == 0);
        ::getsockname(listener_, reinterpret_cast<sockaddr*>(&address), &size);
        port_ = ntohs(address.sin_port);
        thread_ = std::thread([this] { serve(); });
    }
    ~BadServer() {
        ::shutdown(listener_, SHUT_RDWR);
        ::close(listener_);
        thread_.join();
    }
    std::string address() const { return "http://127.0.0.1:" + std::to_string(port_) + "/film.mp4"; }

  private:
    void serve() {
        bool first = true;
        while (true) {
            const int client = ::accept4(listener_, nullptr, nullptr, SOCK_CLOEXEC);
            if (client < 0) return;
            char request[4096] = {};
            if (::recv(client, request, sizeof request - 1, 0) > 0) answer(client, request, first);
            first = false;
            ::close(client);
        }
    }
    void answer(int client, const std::string& request, bool with_trouble) {
        std::size_t from = 0;
        if (const std::size_t at = request.find("bytes="); at != std::string::npos)
            from = std::stoul(request.substr(at + 6));
        const std::string range = from == 0 ? ""
                                            : "Content-Range: bytes " + std::to_string(from) + "-" +
                                                  std::to_string(content_.size() - 1) + "/" +
                                                  std::to_string(content_.size()) + "\r\n";
        const std::string head = std::string(from == 0 ? "HTTP/1.1 200 OK" : "HTTP/1.1 206 Partial Content") +
                                 "\r\nContent-Type: video/mp4\r\nAccept-Ranges: bytes\r\nConnection: close\r\n" +
                                 range + "Content-Length: " + std::to_string(content_.size() - from) + "\r\n\r\n";
        if (!send(client, base::as_bytes(head))) return;
        if (with_trouble) {
            if (!send(client, ByteSpan(content_).first(trouble_at_)) || breaks_off_) return;
            std::this_thread::sleep_for(std::chrono::milliseconds(pause_ms_));
            from = trouble_at_;
        }
        send(client, ByteSpan(content_).subspan(from));
    }
    static bool send(int client, ByteSpan bytes) {
        while (!bytes.empty()) {
            const ssize_t n = ::send(client, bytes.data(), bytes.size(), MSG_NOSIGNAL);
            if (n <= 0) return false;
            bytes = bytes.subspan(static_cast<std::size_t>(n));
        }
        return true;
    }

    ByteVector content_;
    std::size_t trouble_at_;
    int pause_ms_;
    bool breaks_off_;
    int listener_ = -1;
    std::uint16_t port_ = 0;
    std::thread thread_;
};

verify::Verification verify_at(const std::string& address, const char* link = "gigabit",
                               const device::Device& device = *device::find("tv-hd")) {
    const Cancel cancel;
    verify::Job job;
    job.stream = "Film";
    job.address = address;
    job.device = device;
    job.link = *device::parse_link(link);
    const auto done = verify::run(job, {}, cancel);
    REQUIRE(done);
    return *done;
}

}  // namespace

TEST_CASE("a server that pauses is told apart from a slow link", "[verify][waits]") {
    const ByteVector film = read_all(sample_film());
    const BadServer server(film, film.size() / 8, 6000, false);
    const verify::Verification v = verify_at(server.address());
    INFO(v.summary << "; started after " << base::to_seconds(v.startup) << " s");
    CHECK(v.verdict == device::Verdict::fail);
    CHECK(v.cause == verify::Cause::server);
    REQUIRE(v.stalls.size() == 1);
    // Some seconds of the film had come; the pause outlasts them.
    CHECK(base::to_seconds(v.stalls[0].length) > 0.5);
    CHECK(base::to_seconds(v.stalls[0].length) < 6);
    CHECK(v.remedy.find("server") != std::string::npos);
}

TEST_CASE("a connection that breaks off is the server's", "[verify]") {
    const ByteVector film = read_all(sample_film());
    const BadServer server(film, film.size() / 2, 0, true);
    const verify::Verification v = verify_at(server.address());
    CHECK(v.verdict == device::Verdict::fail);
    CHECK(v.cause == verify::Cause::server);
    CHECK(v.summary.find("received") != std::string::npos);
}

TEST_CASE("what arrives and is no film is the file's", "[verify]") {
    for (const ByteVector& content :
         {ByteVector(50'000, 0x77), ByteVector{}, ByteVector{0, 0, 0, 8, 'f', 't', 'y', 'p'}}) {
        const BadServer server(content, 0, 0, false);
        const verify::Verification v = verify_at(server.address());
        CHECK(v.verdict == device::Verdict::fail);
        CHECK((v.cause == verify::Cause::file || v.cause == verify::Cause::server));
        CHECK_FALSE(v.remedy.empty());
        CHECK_FALSE(v.started);
    }
}

TEST_CASE("startup over a slow link is the index and the first pictures at its rate", "[verify]") {
    const ByteVector film = read_all(sample_film());
    const BadServer server(film, 1000, 0, false);
    const verify::Verification fast = verify_at(server.address());
    CHECK(fast.verdict == device::Verdict::pass);
    const BadServer again(film, 1000, 0, false);
    const verify::Verification slow = verify_at(again.address(), "600 kbit/s");
    CHECK(slow.startup > fast.startup);
    CHECK(base::to_seconds(slow.startup) > 0.3);
    CHECK(slow.mean_bps == fast.mean_bps);
    REQUIRE(slow.seeks.size() == 3);
    for (const verify::SeekOrder& seek : slow.seeks) CHECK(seek.landed <= seek.to);
}

TEST_CASE("a seek takes what lies between the keyframe and what must be in the buffer, at the link's rate",
          "[verify]") {
    const ByteVector film = read_all(sample_film());
    base::MemorySource source(film);
    const auto movie = container::read_mp4(source);
    REQUIRE(movie);
    device::Device device = *device::find("tv-hd");
    device.playing.start_buffer = device.playing.resume_buffer = base::from_seconds(0.2);
    device.playing.buffer = device.playing.refill = base::from_seconds(1);
    for (const bool exactly : {true, false}) {
        device.playing.seeks_exactly = exactly;
        const BadServer server(film, 1000, 0, false);
        const double link = 2'000'000;
        const verify::Verification v = verify_at(server.address(), "2 Mbit/s", device);
        REQUIRE(v.seeks.size() == 3);
        const verify::SeekOrder& seek = v.seeks.back();  // to three quarters, of which nothing has come
        Time keyframe{};
        for (const container::Mp4Track& track : movie->tracks) {
            for (const container::Mp4Sample& s : track.samples) {
                if (track.info.kind == TrackKind::video && s.key && s.pts <= seek.to) keyframe = s.pts;
            }
        }
        INFO(base::to_seconds(seek.to) << " s, keyframe at " << base::to_seconds(keyframe) << " s");
        CHECK(seek.landed == (exactly ? seek.to : keyframe));
        // From the first byte that is shown from the keyframe on, to the last before what the buffer wants.
        std::uint64_t first = film.size(), last = 0;
        for (const container::Mp4Track& track : movie->tracks) {
            for (const container::Mp4Sample& s : track.samples) {
                if (s.pts + s.duration > keyframe) first = std::min(first, s.offset);
                if (s.pts < seek.landed + device.playing.start_buffer) last = std::max(last, s.offset + s.size);
            }
        }
        const double expected = static_cast<double>(last - first) * 8 / link;
        CHECK(base::to_seconds(seek.first_picture) == Approx(expected).margin(0.1));
        CHECK(expected > 0.05);
    }
}
