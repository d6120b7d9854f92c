// The protocols of file servers: NTLM by the specification's own example, RPC and SMB against servers that lie.
#include <unistd.h>

#include <array>
#include <catch2/catch.hpp>
#include <chrono>
#include <thread>

#include "share/ntlm.hpp"
#include "share/onc_rpc.hpp"
#include "share/smb_probe.hpp"
#include "support/support.hpp"

#include <arpa/inet.h>
#include <sys/socket.h>

using namespace wavecrest;
using namespace wavecrest::test;
using namespace std::chrono_literals;
namespace ntlm = share::ntlm;

namespace {

ByteVector hex(std::string_view text) {
    ByteVector out;
    for (std::size_t i = 0; i + 1 < text.size(); i += 2)
        out.push_back(static_cast<std::uint8_t>(std::stoi(std::string(text.substr(i, 2)), nullptr, 16)));
    return out;
}

// Takes one connection, reads what comes first, and answers with these bytes.
class LyingServer {
  public:
    explicit LyingServer(ByteVector answer) {
        listening_ = ::socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0);
        sockaddr_in at{};
        at.sin_family = AF_INET;
        at.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
        socklen_t size = sizeof at;
        REQUIRE(::bind(listening_, reinterpret_cast<sockaddr*>(&at), size) == 0);
        REQUIRE(::listen(listening_, 4) == 0);
        ::getsockname(listening_, reinterpret_cast<sockaddr*>(&at), &size);
        port_ = ntohs(at.sin_port);
        thread_ = std::thread([this, answer = std::move(answer)] {
            while (true) {
                const int client = ::accept(listening_, nullptr, nullptr);
                if (client < 0) return;
                std::array<char, 4096> heard{};
                if (::recv(client, heard.data(), heard.size(), 0) > 0)
                    (void)::send(client, answer.data(), answer.size(), MSG_NOSIGNAL);
                ::shutdown(client, SHUT_WR);
                ::close(client);
            }
        });
    }
    ~LyingServer() {
        ::shutdown(listening_, SHUT_RDWR);
        ::close(listening_);
        thread_.join();
    }
    std::uint16_t port() const { return port_; }

  private:
    int listening_ = -1;
    std::uint16_t port_ = 0;
    std::thread thread_;
};

}  // namespace

TEST_CASE("NTLM version 2 answers as the specification's example does", "[share]") {
    // MS-NLMP, 4.2.1 and 4.2.4.
    share::Account account;
    account.user = "User";
    account.domain = "Domain";
    account.password = "Password";
    const ntlm::Key key = ntlm::response_key(account);
    CHECK(ByteVector(key.begin(), key.end()) == hex("0c868a403bfd7a93a3001ef22ef02e3f"));
    const ByteVector target = hex("02000c0044006f006d00610069006e0001000c005300650072007600650072000000000000000000");
    const ByteVector info(target.begin(), target.end() - 4);
    ntlm::Nonce client{};
    client.fill(0xAA);
    const ByteVector answer = ntlm::response(key, {0x01, 0x23, 0x45, 0x67, 0x89, 0xAB, 0xCD, 0xEF}, client, 0, info);
    CHECK(ByteVector(answer.begin(), answer.begin() + 16) == hex("68cd0ab851e51c96aabc927bebef6a1c"));
    // Names that aren't plain letters.
    CHECK(ntlm::utf8(ntlm::utf16("S\xC3\xBC"
                                 "d \xE2\x82\xAC \xF0\x9F\x8E\xAC")) ==
          "S\xC3\xBC"
          "d \xE2\x82\xAC \xF0\x9F\x8E\xAC");
    share::Account a = account, b = account;
    a.user =
        "j\xC3\xBC"
        "rgen";
    b.user =
        "J\xC3\x9C"
        "RGEN";
    CHECK(ntlm::response_key(a) == ntlm::response_key(b));
}

TEST_CASE("a challenge that lies about its lengths is refused", "[share]") {
    ByteVector message = hex("4e544c4d53535000020000000000000038000000018289620123456789abcdef0000000000000000");
    const ByteVector pairs = hex("02000c0044006f006d00610069006e0007000800112233445566770000000000");
    base::ByteWriter out;
    out.raw(message);
    out.little(pairs.size(), 2);
    out.little(pairs.size(), 2);
    out.little(56, 4);
    out.fill(8);
    out.raw(pairs);
    const ByteVector whole = out.release();
    const auto challenge = ntlm::parse_challenge(whole);
    REQUIRE(challenge);
    CHECK(challenge->domain == "Domain");
    CHECK(challenge->time == 0x0077665544332211);
    for (std::size_t cut = 0; cut < whole.size(); ++cut)
        CHECK_FALSE(ntlm::parse_challenge(ByteSpan(whole).subspan(0, cut)));
    for (std::size_t i = 0; i < whole.size(); ++i) {
        ByteVector flipped = whole;
        flipped[i] ^= 0xFF;
        const auto read = ntlm::parse_challenge(flipped);
        if (read) CHECK(read->target_info.size() <= whole.size());
    }
}

TEST_CASE("a list of exports is read, and a damaged one told", "[share]") {
    base::ByteWriter out;
    const auto text = [&](std::string_view value) {
        out.u32(value.size());
        out.text(value);
        out.fill((4 - value.size() % 4) % 4);
    };
    out.u32(1);
    text("/export/music");
    out.u32(1);
    text("192.0.2.0/24");
    out.u32(1);
    text("attic");
    out.u32(0);
    out.u32(1);
    text("/export/films");
    out.u32(0);
    out.u32(0);
    const ByteVector whole = out.release();
    const auto exports = share::parse_exports(whole);
    REQUIRE(exports);
    REQUIRE(exports->size() == 2);
    CHECK((*exports)[0].path == "/export/films");
    CHECK((*exports)[0].to.empty());
    CHECK((*exports)[1].to == std::vector<std::string>{"192.0.2.0/24", "attic"});
    for (std::size_t cut = 0; cut < whole.size(); ++cut)
        CHECK_FALSE(share::parse_exports(ByteSpan(whole).subspan(0, cut)));
    ByteVector lying = whole;
    lying[4] = 0xFF;
    CHECK_FALSE(share::parse_exports(lying));
}

TEST_CASE("what answers on a port and is no file server is told in bounded time", "[share]") {
    const auto smb = [](ByteVector answer) {
        const LyingServer server(std::move(answer));
        const auto probe = share::probe_smb("127.0.0.1", server.port(), {}, base::from_seconds(1));
        return probe ? std::string() : probe.error().what;
    };
    CHECK(smb({}).find("no server of SMB") != std::string::npos);
    CHECK(smb(hex("485454502f312e3120343030204261640d0a0d0a")).find("no server of SMB") != std::string::npos);
    ByteVector one = hex("00000027ff534d4272");
    one.resize(43);
    CHECK(smb(one).find("SMB 1 only") != std::string::npos);
    ByteVector refused = hex("00000049fe534d4240000000bb0000c0000001000100");
    refused.resize(77);
    CHECK(smb(refused).find("none of the versions") != std::string::npos);
    ByteVector huge = hex("00ffffff");
    CHECK_FALSE(smb(huge).empty());
    ByteVector silent = hex("00000080fe534d42");
    CHECK_FALSE(smb(silent).empty());

    const auto nfs = [](ByteVector answer) {
        const LyingServer server(std::move(answer));
        const auto versions = share::nfs_versions("127.0.0.1", server.port(), base::from_seconds(1));
        return versions ? std::string() : versions.error().what;
    };
    CHECK(nfs({}).find("no NFS server") != std::string::npos);
    CHECK(nfs(hex("ffffffff0000")).find("no NFS server") != std::string::npos);
    CHECK(nfs(hex("0000000000000000")).find("no NFS server") != std::string::npos);
    CHECK(nfs(hex("8000000c000000010000000100000000")).find("no NFS server") != std::string::npos);
    const auto nobody = share::probe_smb("127.0.0.1", free_port(), {}, base::from_seconds(1));
    REQUIRE_FALSE(nobody);
    CHECK(nobody.error().kind == ErrorKind::machine);
}
