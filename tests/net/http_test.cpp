#include <catch2/catch.hpp>

#include <atomic>
#include <future>
#include <thread>

#include "base/clock.hpp"
#include "net/http_client.hpp"
#include "net/http_server.hpp"
#include "net/shaped_link.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
using net::ByteRange;
using namespace std::chrono_literals;

namespace {

struct Served {
    TempDir dir;
    ByteVector content;
    std::unique_ptr<net::HttpServer> server;

    explicit Served(std::size_t size = 300'000) : content(size) {
        for (std::size_t i = 0; i < size; ++i) content[i] = static_cast<std::uint8_t>(i * 13 + (i >> 9));
        write_all(dir / "film.mp4", content);
        net::HttpServerSettings settings;
        settings.address = "127.0.0.1";
        settings.port = 0;
        settings.answer = net::serve_files({{"/a film.mp4", dir / "film.mp4", "video/mp4", "film"},
                                            {"/gone.mp4", dir / "gone.mp4", "video/mp4", "gone"}});
        auto started = net::HttpServer::start(std::move(settings));
        REQUIRE(started);
        server = std::move(*started);
    }
    std::string ask(const std::string& line, const std::string& headers = "") const {
        return raw_exchange(server->port(), line + " HTTP/1.1\r\nHost: x\r\n" + headers + "Connection: close\r\n\r\n");
    }
    std::string body(const std::string& response) const { return response.substr(response.find("\r\n\r\n") + 4); }
    bool is_content(const std::string& text, std::size_t from, std::size_t count) const {
        return text.size() == count &&
               std::equal(text.begin(), text.end(), content.begin() + static_cast<std::ptrdiff_t>(from),
                          [](char a, std::uint8_t b) { return static_cast<std::uint8_t>(a) == b; });
    }
};

std::string header(const std::string& response, const std::string& name) {
    const std::size_t at = response.find("\r\n" + name + ": ");
    if (at == std::string::npos) return "";
    const std::size_t from = at + 4 + name.size();
    return response.substr(from, response.find("\r\n", from) - from);
}

}  // namespace

TEST_CASE("range headers, as RFC 9110 has them", "[http]") {
    const auto part = [](const char* text) {
        const ByteRange range = net::parse_range(text, 10'000);
        REQUIRE(range.kind == ByteRange::Kind::part);
        return std::pair(range.first, range.last);
    };
    // The examples of clause 14.1.2, for a representation of 10 000 bytes.
    CHECK(part("bytes=0-499") == std::pair<std::uint64_t, std::uint64_t>(0, 499));
    CHECK(part("bytes=500-999") == std::pair<std::uint64_t, std::uint64_t>(500, 999));
    CHECK(part("bytes=-500") == std::pair<std::uint64_t, std::uint64_t>(9500, 9999));
    CHECK(part("bytes=9500-") == std::pair<std::uint64_t, std::uint64_t>(9500, 9999));
    CHECK(part("bytes=9500-99999") == std::pair<std::uint64_t, std::uint64_t>(9500, 9999));
    CHECK(part("bytes=-99999") == std::pair<std::uint64_t, std::uint64_t>(0, 9999));
    for (const char* whole : {"bytes=0-0,-1", "items=0-5", "bytes=5-2", "bytes=", "bytes=-", "bytes=a-b", "",
                              "bytes=99999999999999999999-"}) {
        INFO(whole);
        CHECK(net::parse_range(whole, 10'000).kind == ByteRange::Kind::whole);
    }
    CHECK(net::parse_range("bytes=10000-", 10'000).kind == ByteRange::Kind::unsatisfiable);
    CHECK(net::parse_range("bytes=-0", 10'000).kind == ByteRange::Kind::unsatisfiable);
    CHECK(net::parse_range("bytes=-5", 0).kind == ByteRange::Kind::unsatisfiable);
}

TEST_CASE("a file is served whole, in part, and by its head", "[http]") {
    const Served s;
    const std::string whole = s.ask("GET /a%20film.mp4");
    CHECK(whole.starts_with("HTTP/1.1 200"));
    CHECK(header(whole, "Content-Type") == "video/mp4");
    CHECK(header(whole, "Content-Length") == "300000");
    CHECK(header(whole, "Accept-Ranges") == "bytes");
    CHECK(s.is_content(s.body(whole), 0, 300'000));
    const std::string part = s.ask("GET /a%20film.mp4", "Range: bytes=1000-1999\r\n");
    CHECK(part.starts_with("HTTP/1.1 206"));
    CHECK(header(part, "Content-Range") == "bytes 1000-1999/300000");
    CHECK(s.is_content(s.body(part), 1000, 1000));
    const std::string tail = s.ask("GET /a%20film.mp4", "Range: bytes=-7\r\n");
    CHECK(s.is_content(s.body(tail), 299'993, 7));
    const std::string head = s.ask("HEAD /a%20film.mp4");
    CHECK(head.starts_with("HTTP/1.1 200"));
    CHECK(header(head, "Content-Length") == "300000");
    CHECK(s.body(head).empty());
    const std::string beyond = s.ask("GET /a%20film.mp4", "Range: bytes=300000-\r\n");
    CHECK(beyond.starts_with("HTTP/1.1 416"));
    CHECK(header(beyond, "Content-Range") == "bytes */300000");
}

TEST_CASE("conditional requests", "[http]") {
    const Served s;
    const std::string first = s.ask("HEAD /a%20film.mp4");
    const std::string tag = header(first, "ETag"), modified = header(first, "Last-Modified");
    REQUIRE_FALSE(tag.empty());
    REQUIRE_FALSE(modified.empty());
    CHECK(s.ask("GET /a%20film.mp4", "If-None-Match: " + tag + "\r\n").starts_with("HTTP/1.1 304"));
    CHECK(s.ask("GET /a%20film.mp4", "If-None-Match: \"other\", " + tag + "\r\n").starts_with("HTTP/1.1 304"));
    CHECK(s.ask("GET /a%20film.mp4", "If-None-Match: \"other\"\r\n").starts_with("HTTP/1.1 200"));
    CHECK(s.ask("GET /a%20film.mp4", "If-Modified-Since: " + modified + "\r\n").starts_with("HTTP/1.1 304"));
    CHECK(
        s.ask("GET /a%20film.mp4", "If-Modified-Since: Thu, 01 Jan 1998 00:00:00 GMT\r\n").starts_with("HTTP/1.1 200"));
    // The tag decides before the date.
    CHECK(s.ask("GET /a%20film.mp4", "If-None-Match: \"other\"\r\nIf-Modified-Since: " + modified + "\r\n")
              .starts_with("HTTP/1.1 200"));
    CHECK(s.ask("GET /a%20film.mp4", "Range: bytes=0-9\r\nIf-Range: " + tag + "\r\n").starts_with("HTTP/1.1 206"));
    CHECK(s.ask("GET /a%20film.mp4", "Range: bytes=0-9\r\nIf-Range: \"other\"\r\n").starts_with("HTTP/1.1 200"));
    CHECK(s.ask("GET /a%20film.mp4", "Range: bytes=0-9\r\nIf-Range: " + modified + "\r\n").starts_with("HTTP/1.1 206"));
}

TEST_CASE("nothing but the named paths is served", "[http]") {
    const Served s;
    for (const char* path : {"/", "/film.mp4", "/../film.mp4", "/%2e%2e/%2e%2e/etc/passwd", "/a%20film.mp4/",
                             "//a%20film.mp4", "/etc/passwd", "*"}) {
        INFO(path);
        const std::string response = s.ask(std::string("GET ") + path);
        CHECK(response.starts_with("HTTP/1.1 404"));
        CHECK(s.body(response).find("/a%20film.mp4") != std::string::npos);  // what there is
        CHECK(s.body(response).find("root:") == std::string::npos);
    }
    CHECK(s.ask("GET /gone.mp4").starts_with("HTTP/1.1 503"));
    CHECK(s.ask("DELETE /a%20film.mp4").starts_with("HTTP/1.1 405"));
    CHECK(header(s.ask("PUT /a%20film.mp4"), "Allow").find("GET") != std::string::npos);
    CHECK(s.ask("OPTIONS /a%20film.mp4").starts_with("HTTP/1.1 204"));
    CHECK(std::filesystem::exists(s.dir / "film.mp4"));
}

TEST_CASE("malformed requests are refused and harm nobody", "[http]") {
    const Served s;
    const std::uint16_t port = s.server->port();
    CHECK(raw_exchange(port, "hello\r\n\r\n").starts_with("HTTP/1.1 400"));
    CHECK(raw_exchange(port, std::string(64, '\0') + "\r\n\r\n").starts_with("HTTP/1.1 400"));
    raw_exchange(port, "GET / HTTP/1.1\r\n" + std::string(40'000, 'x') + "\r\n\r\n");
    raw_exchange(port, "GET /a%20film.mp4 HTTP/1.1\r\nHo");  // leaves in the middle
    CHECK(s.ask("GET /a%20film.mp4", "Range: bytes=0-9\r\n").starts_with("HTTP/1.1 206"));
}

TEST_CASE("requests that two readers would take apart differently are refused", "[http]") {
    const Served s;
    const std::uint16_t port = s.server->port();
    const std::string line = "GET /a%20film.mp4 HTTP/1.1\r\n", range = "Range: bytes=0-9\r\n\r\n";
    // RFC 9112, 6.1, 6.3: where a body ends must be known; what follows it is no request.
    const std::string hidden =
        "POST / HTTP/1.1\r\nHost: x\r\nTransfer-Encoding: xchunked\r\n\r\n" + line + "Host: x\r\n" + range;
    const std::string answered = raw_exchange(port, hidden);
    CHECK(answered.starts_with("HTTP/1.1 501"));
    CHECK(answered.find("HTTP/1.1 206") == std::string::npos);
    CHECK(raw_exchange(port,
                       "POST / HTTP/1.1\r\nHost: x\r\nTransfer-Encoding: chunked\r\nContent-Length: 4\r\n\r\n0\r\n\r\n")
              .starts_with("HTTP/1.1 400"));
    // 3.2: one Host, in HTTP/1.1.
    CHECK(raw_exchange(port, line + range).starts_with("HTTP/1.1 400"));
    CHECK(raw_exchange(port, line + "Host: a\r\nHost: b\r\n" + range).starts_with("HTTP/1.1 400"));
    CHECK(raw_exchange(port, "GET /a%20film.mp4 HTTP/1.0\r\n" + range).find(" 206 ") != std::string::npos);
    // 3.2.2: a whole address.
    CHECK(raw_exchange(port, "GET http://x:8080/a%20film.mp4 HTTP/1.1\r\nHost: x\r\n" + range)
              .starts_with("HTTP/1.1 206"));
    // RFC 9110, 10.1.1: whoever waits to be told to go on is told.
    const std::string waits = raw_exchange(
        port, "POST /a%20film.mp4 HTTP/1.1\r\nHost: x\r\nExpect: 100-continue\r\nContent-Length: 4\r\n\r\n");
    CHECK(waits.starts_with("HTTP/1.1 100"));
    CHECK(raw_exchange(port, line + "Host: x\r\nExpect: miracles\r\n\r\n").starts_with("HTTP/1.1 417"));
}

TEST_CASE("an answer can wait for something, for so long, while others are answered", "[http]") {
    std::atomic<bool> there = false;
    std::atomic<int> waiting = 0;
    net::HttpServerSettings settings;
    settings.address = "127.0.0.1";
    settings.port = 0;
    settings.answer = [&](const net::HttpRequest& request) {
        if (request.path == "/now" || request.waited) return net::HttpReply::text(200, there ? "there\n" : "not yet\n");
        ++waiting;
        net::HttpReply waits;
        waits.wait_until = [&] { return there.load(); };
        waits.wait_most = request.path == "/soon" ? 50ms : 60s;
        return waits;
    };
    auto server = net::HttpServer::start(std::move(settings));
    REQUIRE(server);
    const auto ask = [&](const std::string& path) {
        return raw_exchange((*server)->port(), "GET " + path + " HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n");
    };
    CHECK(ask("/soon").ends_with("not yet\n"));
    std::vector<std::future<std::string>> answers;
    for (int i = 0; i < 20; ++i) answers.push_back(std::async(std::launch::async, ask, "/later"));
    while (waiting < 21) std::this_thread::yield();
    // More of them than the server has threads.
    CHECK(ask("/now").ends_with("not yet\n"));
    there = true;
    for (auto& answer : answers) CHECK(answer.get().ends_with("there\n"));
}

TEST_CASE("a connection is kept for further requests", "[http]") {
    const Served s;
    const std::string one = "GET /a%20film.mp4 HTTP/1.1\r\nHost: x\r\nRange: bytes=5-9\r\n\r\n";
    const std::string both = raw_exchange(s.server->port(), one + one);
    std::size_t answers = 0;
    for (std::size_t at = both.find("HTTP/1.1 206"); at != std::string::npos; at = both.find("HTTP/1.1 206", at + 1))
        ++answers;
    CHECK(answers == 2);
    CHECK(s.server->status().requests == 2);
}

TEST_CASE("many clients at once get their own bytes", "[http]") {
    const Served s(5'000'000);
    std::atomic<int> right{0};
    std::vector<std::thread> clients;
    for (int n = 0; n < 40; ++n) {
        clients.emplace_back([&, n] {
            net::HttpClient client(local_url(s.server->port(), "/a%20film.mp4"));
            const std::uint64_t first = static_cast<std::uint64_t>(n) * 1000;
            if (!client.get(first)) return;
            ByteVector buffer(60'000);
            std::uint64_t at = first;
            bool same = true;
            while (true) {
                const auto got = client.read(buffer);
                if (!got || *got == 0) break;
                same &= std::equal(buffer.begin(), buffer.begin() + static_cast<std::ptrdiff_t>(*got),
                                   s.content.begin() + static_cast<std::ptrdiff_t>(at));
                at += *got;
            }
            if (same && at == s.content.size()) ++right;
        });
    }
    for (std::thread& thread : clients) thread.join();
    CHECK(right == 40);
}

TEST_CASE("a client that vanishes in the middle is forgotten", "[http]") {
    const Served s(20'000'000);
    {
        net::HttpClient client(local_url(s.server->port(), "/a%20film.mp4"));
        REQUIRE(client.get(0));
        ByteVector buffer(1000);
        REQUIRE(client.read(buffer));
        CHECK(s.server->status().clients.size() == 1);
        CHECK(s.server->status().clients[0].name == "film");
    }
    for (int i = 0; i < 100 && !s.server->status().clients.empty(); ++i)
        std::this_thread::sleep_for(std::chrono::milliseconds(20));
    CHECK(s.server->status().clients.empty());
}

TEST_CASE("a client that takes nothing is dropped after the limit, others go on", "[http][waits]") {
    const TempDir dir;
    write_all(dir / "f", ByteVector(30'000'000, 1));
    net::HttpServerSettings settings;
    settings.address = "127.0.0.1";
    settings.port = 0;
    settings.idle_limit = base::from_seconds(1);
    settings.answer = net::serve_files({{"/f", dir / "f", "video/mp4", "f"}});
    std::atomic<bool> dropped{false};
    settings.on_event = [&](const net::ServerEvent& event) {
        dropped = dropped || event.kind == net::ServerEvent::Kind::dropped;
    };
    auto server = net::HttpServer::start(std::move(settings));
    REQUIRE(server);
    net::HttpClient lazy(local_url((*server)->port(), "/f"));
    REQUIRE(lazy.get(0));
    for (int i = 0; i < 250 && !dropped; ++i) std::this_thread::sleep_for(std::chrono::milliseconds(20));
    CHECK(dropped);
    net::HttpClient other(local_url((*server)->port(), "/f"));
    CHECK(other.get(0));
}

TEST_CASE("bodies in memory have a budget: who takes nothing gives way, then others are told to come back",
          "[http][waits]") {
    net::HttpServerSettings settings;
    settings.address = "127.0.0.1";
    settings.port = 0;
    settings.body_memory = 24 << 20;
    settings.answer = [](const net::HttpRequest& request) {
        net::HttpReply reply;
        if (request.path != "/small") reply.body = Bytes(ByteVector(10 << 20, 7));
        return reply;
    };
    auto server = net::HttpServer::start(std::move(settings));
    REQUIRE(server);
    std::vector<std::unique_ptr<net::HttpClient>> lazy;
    int taken = 0;
    for (int i = 0; i < 4; ++i) {
        lazy.push_back(std::make_unique<net::HttpClient>(local_url((*server)->port(), "/large")));
        const auto head = lazy.back()->get(0);
        taken += head && head->status == 200 ? 1 : 0;
    }
    CHECK(taken == 2);
    net::HttpClient other(local_url((*server)->port(), "/small"));
    const auto head = other.get(0);
    REQUIRE(head);
    CHECK(head->status == 200);
}

TEST_CASE("a port that is taken is refused, naming who holds it", "[http]") {
    const Served s;
    net::HttpServerSettings settings;
    settings.address = "127.0.0.1";
    settings.port = s.server->port();
    const auto second = net::HttpServer::start(settings);
    REQUIRE_FALSE(second);
    CHECK(second.error().kind == ErrorKind::machine);
    CHECK(second.error().what.find("core_tests") != std::string::npos);
    settings.port = 0;
    settings.address = "203.0.113.9";
    CHECK(net::HttpServer::start(settings).error().what.find("not an address of this machine") != std::string::npos);
    settings.address = "lounge";
    CHECK(net::HttpServer::start(settings).error().kind == ErrorKind::usage);
}

TEST_CASE("what can't be reached is said in words", "[http]") {
    net::HttpClient nobody(local_url(free_port(), "/"));
    const auto refused = nobody.get(0);
    REQUIRE_FALSE(refused);
    CHECK(refused.error().kind == ErrorKind::wanting);
    CHECK(refused.error().what.find("refused") != std::string::npos);
    const Served s;
    net::HttpClient lost(local_url(s.server->port(), "/elsewhere"));
    CHECK(lost.get(0).error().what.find("no stream at this path") != std::string::npos);
}

TEST_CASE("a shaped link passes its rate, in skipped time", "[link]") {
    base::SkippingClock clock;
    net::ShapedLink link(8'000'000, clock);
    const Time start = clock.now();
    constexpr std::int64_t kBytes = 10'000'000;
    for (std::int64_t sent = 0; sent < kBytes; sent += 10'000) link.pass(10'000);
    const double seconds = base::to_seconds(clock.now() - start);
    // Ten seconds at a megabyte a second, less what passes at once.
    CHECK(seconds == Approx((kBytes - 10'000) / 1e6).epsilon(0.005));
    CHECK(base::to_seconds(link.waited()) == Approx(seconds).epsilon(0.02));
}
