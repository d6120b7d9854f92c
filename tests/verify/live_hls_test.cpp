// Verification of live HLS against a made-up server that lists a segment a second: how a player begins.
#include <fmt/format.h>
#include <catch2/catch.hpp>

#include <chrono>
#include <mutex>

#include "net/http_server.hpp"
#include "support/clips.hpp"
#include "support/support.hpp"
#include "verify/verify.hpp"

using namespace wavecrest;
using namespace wavecrest::test;

namespace {

constexpr std::size_t kListed = 6;

// A film's transport packets, cut at the tables before each keyframe (a second apart).
std::vector<Bytes> segments_of(const base::Path& film) {
    const TempDir dir;
    write_media(dir / "film.ts", "mpeg-ts", read_media(film));
    const ByteVector all = read_all(dir / "film.ts");
    std::vector<std::size_t> cuts;
    std::size_t tables = 0;
    for (std::size_t at = 0; at < all.size(); at += 188) {
        if ((all[at + 1] & 0x1F) == 0 && all[at + 2] == 0) tables = at;
        const bool keyframe = (all[at + 3] & 0x20) != 0 && all[at + 4] > 0 && (all[at + 5] & 0x40) != 0;
        if (keyframe && (cuts.empty() || cuts.back() != tables)) cuts.push_back(tables);
    }
    cuts.push_back(all.size());
    std::vector<Bytes> segments;
    for (std::size_t i = 0; i + 1 < cuts.size(); ++i)
        segments.emplace_back(ByteVector(all.begin() + static_cast<std::ptrdiff_t>(cuts[i]),
                                         all.begin() + static_cast<std::ptrdiff_t>(cuts[i + 1])));
    return segments;
}

// Of a film's segments, the first few at once, then one after the other.
class LiveServer {
  public:
    // `behind`: by so many segments players are asked to begin before the end.
    explicit LiveServer(std::chrono::milliseconds each = std::chrono::seconds(1), int behind = 5)
        : each_(each), behind_(behind) {
        REQUIRE(segments_.size() == 12);
        net::HttpServerSettings settings;
        settings.address = "127.0.0.1";
        settings.port = 0;
        settings.answer = [this](const net::HttpRequest& request) { return answer(request.path); };
        auto started = net::HttpServer::start(std::move(settings));
        REQUIRE(started);
        server_ = std::move(*started);
    }
    std::string address() const { return fmt::format("http://127.0.0.1:{}/live.m3u8", server_->port()); }
    std::size_t bytes(std::size_t number) const { return segments_[number].size(); }
    std::vector<std::string> asked() const {
        const std::lock_guard lock(mutex_);
        return asked_;
    }

  private:
    net::HttpReply answer(const std::string& path) {
        const auto now = std::chrono::steady_clock::now();
        const std::lock_guard lock(mutex_);
        asked_.push_back(path);
        if (path == "/live.m3u8")
            return net::HttpReply::text(200, "#EXTM3U\n#EXT-X-STREAM-INF:BANDWIDTH=100000\nfilm.m3u8\n");
        if (path == "/film.m3u8") {
            if (lists_++ < 2) begun_ = now;  // at the look, and by the player
            const auto passed = static_cast<std::size_t>((now - begun_) / each_);
            std::string text = fmt::format(
                "#EXTM3U\n#EXT-X-VERSION:3\n#EXT-X-TARGETDURATION:1\n#EXT-X-MEDIA-SEQUENCE:0\n"
                "#EXT-X-START:TIME-OFFSET=-{}\n",
                behind_);
            for (std::size_t i = 0; i < std::min(kListed + passed, segments_.size()); ++i)
                text += fmt::format("#EXTINF:1.001,\n{}.ts\n", i);
            return net::HttpReply::text(200, text);
        }
        net::HttpReply reply;
        const std::size_t number = std::stoul(path.substr(1));
        if (number >= segments_.size()) return net::HttpReply::text(404, "not yet\n");
        reply.body = segments_[number];
        reply.media_type = "video/mp2t";
        return reply;
    }

    const std::chrono::milliseconds each_;
    const int behind_;
    const std::vector<Bytes> segments_ = segments_of(sample_ladder() / "video-480p.mp4");
    mutable std::mutex mutex_;
    std::vector<std::string> asked_;
    int lists_ = 0;
    std::chrono::steady_clock::time_point begun_;
    std::unique_ptr<net::HttpServer> server_;
};

verify::Verification verified(const LiveServer& server, double bps, double seconds, int restart, int catch_up) {
    verify::Job job;
    job.stream = "Film";
    job.address = server.address();
    job.device = *device::find("tv-hd");
    job.device.playing.start_buffer = job.device.playing.resume_buffer = base::from_seconds(0.4);
    job.device.playing.live_probe = 30'000;
    job.device.playing.live_restart = restart;
    job.device.playing.live_catch_up = catch_up;
    job.link = *device::parse_link(fmt::format("{:.0f} kbit/s", bps / 1000));
    job.listen = base::from_seconds(seconds);
    const Cancel cancel;
    const auto done = verify::run(job, {}, cancel);
    REQUIRE(done);
    return *done;
}

const device::Check& check_of(const verify::Verification& v, const std::string& name) {
    const auto found =
        std::find_if(v.checks.begin(), v.checks.end(), [&](const auto& one) { return one.name == name; });
    REQUIRE(found != v.checks.end());
    return *found;
}

}  // namespace

TEST_CASE("a player of live HLS looks first where it does, and starts anew where that took too long",
          "[verify][waits]") {
    using Paths = std::vector<std::string>;
    // (A look at what kind of a stream it is comes before the player.)
    const auto begin = [](const LiveServer& server, std::ptrdiff_t count) {
        const Paths asked = server.asked();
        REQUIRE(static_cast<std::ptrdiff_t>(asked.size()) >= 2 + count);
        return Paths(asked.begin() + 2, asked.begin() + 2 + count);
    };
    {
        // It begins where the list asks it to.
        const LiveServer server;
        const verify::Verification quick = verified(server, 90e6, 0.9, 2, 0);
        CHECK(begin(server, 6) == Paths{"/live.m3u8", "/film.m3u8", "/0.ts", "/1.ts", "/2.ts", "/3.ts"});
        CHECK(check_of(quick, "segments").measured.find("restarted") == std::string::npos);
    }
    {
        // Where that is what is listed first, it has looked already.
        const LiveServer server(std::chrono::seconds(1), 6);
        verified(server, 90e6, 0.9, 2, 0);
        CHECK(begin(server, 4) == Paths{"/live.m3u8", "/film.m3u8", "/0.ts", "/1.ts"});
    }
    const LiveServer server;
    const double bytes = 30'000 + static_cast<double>(server.bytes(1) + server.bytes(2));
    const verify::Verification slow = verified(server, bytes * 8 / 1.4, 3.5, 2, 0);
    CHECK(begin(server, 6) == Paths{"/live.m3u8", "/film.m3u8", "/0.ts", "/1.ts", "/2.ts", "/film.m3u8"});
    const Paths asked = server.asked();
    const auto rest =
        std::find_if(asked.begin() + 8, asked.end(), [](const auto& one) { return one.ends_with(".ts"); });
    REQUIRE(rest != asked.end());
    CHECK(*rest == "/6.ts");
    CHECK(check_of(slow, "segments").measured.find("restarted") != std::string::npos);
    // What was dropped on purpose is no gap of the stream.
    CHECK(check_of(slow, "gaps in tracks").verdict == device::Verdict::pass);
    // The first picture came with the first segment, behind what it had looked at.
    const double expected = (30'000 + static_cast<double>(server.bytes(1))) / bytes * 1.4;
    CHECK(base::to_seconds(slow.startup) > expected * 0.9);
    CHECK(base::to_seconds(slow.startup) < expected + 1);
}

TEST_CASE("a player of live HLS that leaves out what it is too late for stops at the gap", "[verify][waits]") {
    const LiveServer server(std::chrono::milliseconds(200));
    double bytes = 30'000;
    for (std::size_t i = 1; i < kListed; ++i) bytes += static_cast<double>(server.bytes(i));
    const verify::Verification slow = verified(server, bytes * 8 / 1.2, 5, 0, 3);
    CHECK(slow.verdict == device::Verdict::fail);
    CHECK(slow.cause == verify::Cause::network);
    CHECK(check_of(slow, "segments").measured == "5 fetched");
    const device::Check& edge = check_of(slow, "live edge");
    CHECK(edge.verdict == device::Verdict::fail);
    CHECK(edge.measured.find("segments behind; the player skips ahead and stops at the gap") != std::string::npos);
    CHECK(edge.limit == "3 segments");
    CHECK(edge.why.find("the link is too slow") == 0);
    // That the stream has stopped isn't said: it hasn't.
    CHECK(std::none_of(slow.checks.begin(), slow.checks.end(), [](const auto& one) { return one.name == "seen"; }));
    // It plays what it has, and asks for nothing more.
    CHECK(slow.started);
    CHECK(server.asked().back() == "/film.m3u8");
}
