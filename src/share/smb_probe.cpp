#include "share/smb_probe.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <random>

#include "base/little_endian.hpp"
#include "net/wire.hpp"
#include "share/ntlm.hpp"

namespace wavecrest::share {
namespace {

// MS-SMB2, 2.2.1.2
constexpr std::size_t kHeader = 64;
enum Command : std::uint16_t { kNegotiate = 0, kSessionSetup = 1 };
constexpr std::uint32_t kMoreProcessing = 0xC0000016;
constexpr std::size_t kMostAnswer = 1 << 20;

template <std::size_t N>
std::array<std::uint8_t, N> random_bytes() {
    std::random_device device;
    std::array<std::uint8_t, N> bytes{};
    for (auto& byte : bytes) byte = static_cast<std::uint8_t>(device());
    return bytes;
}

// A message with its header, and the length in front (2.1).
ByteVector message(Command command, std::uint64_t number, std::uint64_t session, ByteSpan body) {
    base::ByteWriter out;
    out.u32(kHeader + body.size());
    out.u8(0xFE);
    out.text("SMB");
    out.little(kHeader, 2);
    out.little(1, 2);  // credit charge
    out.little(0, 4);
    out.little(command, 2);
    out.little(31, 2);  // credits asked for
    out.little(0, 4);
    out.little(0, 4);
    out.little(number, 8);
    out.little(0, 8);
    out.little(session, 8);
    out.fill(16);
    out.raw(body);
    return out.release();
}

// 2.2.3
ByteVector negotiate_body() {
    constexpr std::array<std::uint16_t, 5> kDialects = {0x0202, 0x0210, 0x0300, 0x0302, 0x0311};
    base::ByteWriter out;
    out.little(36, 2);
    out.little(kDialects.size(), 2);
    out.little(1, 2);  // signing is possible
    out.little(0, 2);
    out.little(0x7F, 4);  // capabilities: all
    out.raw(random_bytes<16>());
    constexpr std::size_t kContexts = kHeader + 36 + 2 * kDialects.size() + 2;
    static_assert(kContexts % 8 == 0);
    out.little(kContexts, 4);
    out.little(2, 2);
    out.little(0, 2);
    for (const std::uint16_t dialect : kDialects) out.little(dialect, 2);
    out.fill(2);
    // 2.2.3.1.1: SHA-512
    out.little(1, 2);
    out.little(38, 2);
    out.fill(4);
    out.little(1, 2);
    out.little(32, 2);
    out.little(1, 2);
    out.raw(random_bytes<32>());
    out.fill(2);
    // 2.2.3.1.2: AES-128-GCM, AES-128-CCM
    out.little(2, 2);
    out.little(6, 2);
    out.fill(4);
    out.little(2, 2);
    out.little(2, 2);
    out.little(1, 2);
    return out.release();
}

// 2.2.5
ByteVector session_body(ByteSpan token) {
    base::ByteWriter out;
    out.little(25, 2);
    out.u8(0);
    out.u8(1);
    out.little(0, 8);
    out.little(kHeader + 24, 2);
    out.little(token.size(), 2);
    out.little(0, 8);
    out.raw(token);
    return out.release();
}

// X.690: an element with its length.
ByteVector der(std::uint8_t tag, ByteSpan content) {
    base::ByteWriter out;
    out.u8(tag);
    if (content.size() < 0x80) {
        out.u8(content.size());
    } else if (content.size() < 0x100) {
        out.u8(0x81);
        out.u8(content.size());
    } else {
        out.u8(0x82);
        out.u16(content.size());
    }
    out.raw(content);
    return out.release();
}
// RFC 4178, 4.2.1: the first token, with NTLM as the only mechanism (1.3.6.1.4.1.311.2.2.10).
ByteVector first_token(ByteSpan ntlm) {
    constexpr std::array<std::uint8_t, 12> kNtlm = {0x06, 0x0A, 0x2B, 0x06, 0x01, 0x04,
                                                    0x01, 0x82, 0x37, 0x02, 0x02, 0x0A};
    constexpr std::array<std::uint8_t, 8> kSpnego = {0x06, 0x06, 0x2B, 0x06, 0x01, 0x05, 0x05, 0x02};
    ByteVector inner = der(0xA0, der(0x30, kNtlm));
    const ByteVector token = der(0xA2, der(0x04, ntlm));
    inner.insert(inner.end(), token.begin(), token.end());
    ByteVector all(kSpnego.begin(), kSpnego.end());
    const ByteVector init = der(0xA0, der(0x30, inner));
    all.insert(all.end(), init.begin(), init.end());
    return der(0x60, all);
}
// 4.2.2: what follows.
ByteVector next_token(ByteSpan ntlm) {
    return der(0xA1, der(0x30, der(0xA2, der(0x04, ntlm))));
}

// The conversation with a server.
class Talk {
  public:
    Talk(net::Wire wire, std::string where) : wire_(std::move(wire)), where_(std::move(where)) {}

    struct Heard {
        std::uint32_t status = 0;
        std::uint64_t session = 0;
        ByteVector whole;  // with the header: offsets count from there
    };
    Result<Heard> ask(Command command, ByteSpan body) {
        if (!wire_.write(message(command, number_++, session_, body))) return no_smb();
        std::array<std::uint8_t, 4> front{};
        WAVECREST_TRY(take(front));
        const auto length = static_cast<std::size_t>(base::ByteReader(front).u32() & 0xFFFFFF);
        if (front[0] != 0 || length < 8 || length > kMostAnswer) return no_smb();
        Heard heard;
        heard.whole.resize(length);
        WAVECREST_TRY(take(heard.whole));
        if (heard.whole[0] == 0xFF && heard.whole[1] == 'S' && heard.whole[2] == 'M' && heard.whole[3] == 'B')
            return fail(ErrorKind::wanting, "the server speaks SMB 1 only", where_,
                        "switch SMB 2 or 3 on at the server: SMB 1 is neither safe nor fast");
        if (heard.whole[0] != 0xFE || length < kHeader || base::little_endian(heard.whole, 12, 2) != command)
            return no_smb();
        heard.status = static_cast<std::uint32_t>(base::little_endian(heard.whole, 8, 4));
        heard.session = base::little_endian(heard.whole, 40, 8);
        session_ = heard.session;
        return heard;
    }
    tl::unexpected<Error> no_smb() const {
        return fail(ErrorKind::wanting, "what answers on this port is no server of SMB 2 or 3", where_,
                    "check the port, and which versions of SMB are switched on at the server");
    }

  private:
    Status take(std::span<std::uint8_t> into) {
        while (!into.empty()) {
            const auto got = wire_.read(into);
            if (!got && got.error().kind == net::WireError::Kind::timeout)
                return fail(ErrorKind::wanting, "something answers on this port, but says nothing", where_,
                            "restart the file server, and check that nothing else uses its port");
            if (!got || *got == 0) return no_smb();
            into = into.subspan(*got);
        }
        return {};
    }

    net::Wire wire_;
    std::string where_;
    std::uint64_t number_ = 0, session_ = 0;
};

}  // namespace

std::string SmbGreeting::version() const {
    const int major = dialect >> 8, minor = dialect >> 4 & 0xF, patch = dialect & 0xF;
    return patch > 0 ? fmt::format("SMB {}.{}.{}", major, minor, patch) : fmt::format("SMB {}.{}", major, minor);
}

// MS-ERREF, 2.3.1
std::string SmbLogon::reason() const {
    switch (status) {
        case 0xC000006D:
        case 0xC000006A:
        case 0xC0000064:
            return "wrong user name or password";
        case 0xC0000072:
            return "the account is disabled";
        case 0xC0000071:
        case 0xC0000224:
            return "the account's password has expired";
        case 0xC0000193:
            return "the account has expired";
        case 0xC0000234:
            return "the account is locked after too many wrong passwords";
        case 0xC000006E:
        case 0xC000006F:
        case 0xC0000070:
            return "the account must not be used from here, or at this time";
        case 0xC000015B:
            return "the account must not log on over the network";
        case 0xC0000022:
            return "the server lets no such account in";
        case 0xC00000BB:
            return "the server takes none of the ways to log on that are known here";
        default:
            return fmt::format("the server refuses the logon (status {:08X})", status);
    }
}

Result<SmbProbe> probe_smb(const std::string& host, std::uint16_t port, const Account& account, Time limit) {
    const std::string where = fmt::format("{}, port {}", host, port);
    auto wire = net::Wire::connect(host, port, limit);
    if (!wire)
        return fail(ErrorKind::machine, fmt::format("no connection: {}", wire.error().text), where,
                    "check the address and the port");
    Talk talk(std::move(*wire), where);
    WAVECREST_TRY_ASSIGN(hello, talk.ask(kNegotiate, negotiate_body()));
    SmbProbe probe;
    if (hello.status != 0)
        return fail(
            ErrorKind::wanting,
            fmt::format("the server takes none of the versions SMB 2.0.2 to 3.1.1 (status {:08X})", hello.status),
            where, "check which versions of SMB are switched on at the server");
    // 2.2.4
    if (hello.whole.size() < kHeader + 64) return talk.no_smb();
    const ByteSpan body = ByteSpan(hello.whole).subspan(kHeader);
    probe.greeting.signing_required = (base::little_endian(body, 2, 2) & 2) != 0;
    probe.greeting.dialect = static_cast<std::uint16_t>(base::little_endian(body, 4, 2));
    probe.greeting.largest_read = static_cast<std::uint32_t>(base::little_endian(body, 32, 4));

    WAVECREST_TRY_ASSIGN(asked, talk.ask(kSessionSetup, session_body(first_token(ntlm::negotiate()))));
    SmbLogon logon;
    logon.status = asked.status;
    if (asked.status == kMoreProcessing) {
        // (Wherever in its token the server has put it.)
        constexpr std::string_view kMark{"NTLMSSP\0", 8};
        const auto found = std::search(asked.whole.begin() + kHeader, asked.whole.end(), kMark.begin(), kMark.end(),
                                       [](std::uint8_t a, char b) { return a == static_cast<std::uint8_t>(b); });
        const auto at = static_cast<std::size_t>(found - asked.whole.begin());
        WAVECREST_TRY_ASSIGN(challenge, ntlm::parse_challenge(ByteSpan(asked.whole).subspan(at)));
        Account who = account;
        // An account of the server's own: the name it gives itself stands for its domain.
        logon.server_name = challenge.computer.empty() ? challenge.domain : challenge.computer;
        const ByteVector token = next_token(ntlm::authenticate(who, challenge, random_bytes<8>()));
        WAVECREST_TRY_ASSIGN(answered, talk.ask(kSessionSetup, session_body(token)));
        logon.status = answered.status;
        if (answered.status == 0) {
            // 2.2.6
            const std::uint64_t flags = base::little_endian(ByteSpan(answered.whole).subspan(kHeader), 2, 2);
            logon.as_guest = (flags & 3) != 0;
            logon.encrypted = (flags & 4) != 0;
        }
    }
    probe.logon = std::move(logon);
    return probe;
}

}  // namespace wavecrest::share
