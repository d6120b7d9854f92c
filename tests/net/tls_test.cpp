// HTTPS: our server's front against our client, and both against what goes wrong.
#include "net/tls.hpp"

#include <sys/socket.h>
#include <unistd.h>

#include <catch2/catch.hpp>
#include <chrono>
#include <thread>

#include "net/http_client.hpp"
#include "net/http_server.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
using namespace std::chrono_literals;

namespace {

struct Secured {
    TempDir dir;
    ByteVector content = ByteVector(3'000'000);
    std::unique_ptr<net::HttpServer> server;
    std::unique_ptr<net::TlsFront> front;

    explicit Secured(Time idle_limit = base::from_seconds(60)) {
        for (std::size_t i = 0; i < content.size(); ++i) content[i] = static_cast<std::uint8_t>(i * 7 + (i >> 11));
        write_all(dir / "film.mp4", content);
        make_certificate(dir / "cert.pem", dir / "key.pem", "127.0.0.1");
        net::HttpServerSettings settings;
        settings.address = "127.0.0.1";
        settings.port = 0;
        settings.answer = net::serve_files({{"/film.mp4", dir / "film.mp4", "video/mp4", "film"}});
        auto started = net::HttpServer::start(std::move(settings));
        REQUIRE(started);
        server = std::move(*started);
        net::TlsFrontSettings tls;
        tls.address = "127.0.0.1";
        tls.port = 0;
        tls.files = {dir / "cert.pem", dir / "key.pem"};
        tls.idle_limit = idle_limit;
        tls.hand_over = [this](int socket, std::string address, std::uint16_t port) {
            server->adopt(socket, std::move(address), port);
        };
        auto opened = net::TlsFront::start(std::move(tls));
        REQUIRE(opened);
        front = std::move(*opened);
    }
    net::Url url() const {
        net::Url url = local_url(front->port(), "/film.mp4");
        url.secure = true;
        url.trusted = dir / "cert.pem";
        return url;
    }
};

ByteVector fetch(net::HttpClient& client) {
    ByteVector all, piece(50'000);
    while (true) {
        const auto got = client.read(piece);
        REQUIRE(got);
        if (*got == 0) return all;
        all.insert(all.end(), piece.begin(), piece.begin() + static_cast<std::ptrdiff_t>(*got));
    }
}

}  // namespace

TEST_CASE("a file comes by HTTPS, whole and in parts, over one connection", "[tls]") {
    const Secured s;
    net::HttpClient client(s.url());
    const auto head = client.get(0);
    INFO((head ? "" : head.error().what));
    REQUIRE(head);
    CHECK(head->full_size == s.content.size());
    CHECK(fetch(client) == s.content);
    for (const std::uint64_t first : {1'000'000u, 2'999'990u}) {
        const auto part = client.get(first);
        REQUIRE(part);
        CHECK(part->status == 206);
        CHECK(fetch(client) == ByteVector(s.content.begin() + static_cast<std::ptrdiff_t>(first), s.content.end()));
    }
    // The server sees who asks, and one connection.
    const auto status = s.server->status();
    REQUIRE(status.clients.size() == 1);
    CHECK(status.clients[0].address == "127.0.0.1");
    const auto answered = net::HttpClient::exchange(s.url(), {});
    REQUIRE(answered);
    CHECK(answered->status == 200);
}

TEST_CASE("certificates that aren't trusted, or are another host's, are refused by name", "[tls]") {
    const Secured s;
    net::Url url = s.url();
    url.trusted.clear();
    net::HttpClient stranger(url);
    const auto refused = stranger.get(0);
    REQUIRE_FALSE(refused);
    CHECK(refused.error().kind == ErrorKind::wanting);
    CHECK(refused.error().what.find("self-signed") != std::string::npos);
    CHECK(refused.error().remedy.find("--trust") != std::string::npos);
    url = s.url();
    url.host = "localhost";
    net::HttpClient elsewhere(url);
    const auto other = elsewhere.get(0);
    REQUIRE_FALSE(other);
    CHECK(other.error().what.find("hostname mismatch") != std::string::npos);
    // Plain HTTP at the secure port, and the other way round.
    net::HttpClient plain(local_url(s.front->port(), "/film.mp4"));
    CHECK_FALSE(plain.get(0));
    url = s.url();
    url.port = s.server->port();
    net::HttpClient wrong(url, base::from_seconds(5));
    const auto no_tls = wrong.get(0);
    REQUIRE_FALSE(no_tls);
    CHECK(no_tls.error().what.find("no TLS") != std::string::npos);
    // All that left the server as it was.
    net::HttpClient right(s.url());
    CHECK(right.get(0));
}

TEST_CASE("clients that vanish, or never say anything, leave nothing behind", "[tls]") {
    Secured s;
    std::vector<int> silent;
    for (int i = 0; i < 20; ++i) silent.push_back(connect_to(s.front->port()));
    for (int i = 0; i < 10; ++i) {
        net::HttpClient leaver(s.url());
        REQUIRE(leaver.get(0));
        ByteVector piece(1000);
        REQUIRE(leaver.read(piece));
        leaver.close();
    }
    net::HttpClient client(s.url());
    REQUIRE(client.get(0));
    CHECK(fetch(client) == s.content);
    for (int i = 0; i < 100 && s.server->status().clients.size() > 1; ++i) std::this_thread::sleep_for(50ms);
    CHECK(s.server->status().clients.size() == 1);
    for (const int handle : silent) ::close(handle);
    // Ends with connections open.
    s.front.reset();
}

TEST_CASE("who takes nothing by HTTPS is dropped, and holds no handles", "[tls][hostile]") {
    Secured s(base::from_seconds(1));
    // More than the sockets on the way hold.
    write_all(s.dir / "film.mp4", ByteVector(60'000'000, 7));
    std::vector<std::unique_ptr<net::HttpClient>> lazy;
    for (int i = 0; i < 5; ++i) {
        lazy.push_back(std::make_unique<net::HttpClient>(s.url()));
        REQUIRE(lazy.back()->get(0));
    }
    const auto handles = [] {
        return std::distance(std::filesystem::directory_iterator("/proc/self/fd"),
                             std::filesystem::directory_iterator());
    };
    CHECK(s.server->status().clients.size() == 5);
    const auto before = handles();
    for (int i = 0; i < 200 && !s.server->status().clients.empty(); ++i) std::this_thread::sleep_for(50ms);
    CHECK(s.server->status().clients.empty());
    // Of each: the connection, both ends of the pair, and the file.
    for (int i = 0; i < 100 && handles() > before - 15; ++i) std::this_thread::sleep_for(50ms);
    CHECK(handles() <= before - 15);
}

TEST_CASE("of TLS 1.2 only what has forward secrecy is spoken", "[tls][hostile]") {
    Secured s;
    const auto speaks = [&](const std::string& ciphers) {
        const std::string line = "openssl s_client -connect 127.0.0.1:" + std::to_string(s.front->port()) +
                                 " -tls1_2 -cipher " + ciphers + " </dev/null >/dev/null 2>&1";
        return std::system(line.c_str()) == 0;
    };
    if (std::system("command -v openssl >/dev/null") != 0) return;
    CHECK(speaks("ECDHE-RSA-AES128-GCM-SHA256:ECDHE-ECDSA-AES128-GCM-SHA256"));
    CHECK_FALSE(speaks("AES128-GCM-SHA256"));
    CHECK_FALSE(speaks("ECDHE-RSA-AES128-SHA:ECDHE-ECDSA-AES128-SHA"));
}

TEST_CASE("certificates and keys are looked at before anything listens", "[tls]") {
    const TempDir dir;
    make_certificate(dir / "cert.pem", dir / "key.pem", "cedar.example");
    make_certificate(dir / "other.pem", dir / "other-key.pem", "192.0.2.7", true);
    const auto facts = net::check_certificate({dir / "cert.pem", dir / "key.pem"});
    REQUIRE(facts);
    CHECK(facts->names == "cedar.example");
    CHECK(facts->valid_until - facts->valid_from == 92 * 86'400);
    CHECK(net::check_certificate({dir / "other.pem", dir / "other-key.pem"})->names == "192.0.2.7");
    CHECK(*net::certificate_names(dir / "cert.pem", "cedar.example"));
    CHECK_FALSE(*net::certificate_names(dir / "cert.pem", "192.0.2.7"));
    CHECK(*net::certificate_names(dir / "other.pem", "192.0.2.7"));
    const auto mixed = net::check_certificate({dir / "cert.pem", dir / "other-key.pem"});
    REQUIRE_FALSE(mixed);
    CHECK(mixed.error().kind == ErrorKind::input);
    write_all(dir / "junk.pem", std::string("no certificate"));
    CHECK(net::check_certificate({dir / "junk.pem", dir / "key.pem"}).error().what.find("PEM") != std::string::npos);
    CHECK_FALSE(net::check_certificate({dir / "cert.pem", dir / "junk.pem"}));
    CHECK_FALSE(net::check_certificate({dir / "gone.pem", dir / "key.pem"}));
}
