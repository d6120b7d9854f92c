// MD4 isn't safe, but it is what the protocol is made of; OpenSSL keeps it in its older functions.
#define OPENSSL_SUPPRESS_DEPRECATED
#include "share/ntlm.hpp"

#include <openssl/evp.h>
#include <openssl/hmac.h>
#include <openssl/md4.h>

#include <algorithm>
#include <chrono>

#include "base/little_endian.hpp"

namespace wavecrest::share::ntlm {
namespace {

constexpr std::string_view kSignature{"NTLMSSP\0", 8};
// 2.2.2.5
constexpr std::uint32_t kUnicode = 0x1, kRequestTarget = 0x4, kNtlm = 0x200, kAnonymous = 0x800, kAlwaysSign = 0x8000,
                        kExtendedSecurity = 0x80000, kTargetInfo = 0x800000, k128 = 0x20000000, k56 = 0x80000000;
// 2.2.2.1
enum AvId : std::uint16_t { kEnd = 0, kComputerName = 1, kDomainName = 2, kTimestamp = 7 };

Key hmac_md5(ByteSpan key, std::initializer_list<ByteSpan> parts) {
    ByteVector all;
    for (const ByteSpan part : parts) all.insert(all.end(), part.begin(), part.end());
    Key out{};
    unsigned size = 0;
    ::HMAC(EVP_md5(), key.data(), static_cast<int>(key.size()), all.data(), all.size(), out.data(), &size);
    return out;
}

// The code points of a text.
std::u32string code_points(const std::string& text) {
    std::u32string out;
    for (std::size_t i = 0; i < text.size();) {
        const auto first = static_cast<unsigned char>(text[i]);
        const int more = first < 0x80 ? 0 : first >= 0xF0 ? 3 : first >= 0xE0 ? 2 : first >= 0xC0 ? 1 : -1;
        char32_t value = more <= 0 ? first : first & (0x3F >> more);
        bool whole = more >= 0 && i + static_cast<std::size_t>(more) < text.size();
        for (int k = 1; whole && k <= more; ++k) {
            const auto next = static_cast<unsigned char>(text[i + static_cast<std::size_t>(k)]);
            whole = (next & 0xC0) == 0x80;
            value = value << 6 | (next & 0x3F);
        }
        out += whole ? value : first;
        i += whole ? static_cast<std::size_t>(more) + 1 : 1;
    }
    return out;
}

// As servers make capitals of names: the letters of Latin-1 are what accounts have.
std::u32string upper(std::u32string text) {
    for (char32_t& c : text) {
        if ((c >= 'a' && c <= 'z') || (c >= 0xE0 && c <= 0xFE && c != 0xF7)) c -= 32;
    }
    return text;
}

ByteVector utf16(const std::u32string& text) {
    base::ByteWriter out;
    for (char32_t c : text) {
        if (c >= 0x10000) {
            c -= 0x10000;
            out.little(0xD800 + (c >> 10), 2);
            out.little(0xDC00 + (c & 0x3FF), 2);
        } else {
            out.little(c, 2);
        }
    }
    return out.release();
}

}  // namespace

ByteVector utf16(const std::string& text) {
    return utf16(code_points(text));
}

std::string utf8(ByteSpan bytes) {
    std::string out;
    for (std::size_t i = 0; i + 1 < bytes.size(); i += 2) {
        char32_t c = static_cast<char32_t>(base::little_endian(bytes, i, 2));
        if (c >= 0xD800 && c < 0xDC00 && i + 3 < bytes.size()) {
            c = 0x10000 + ((c - 0xD800) << 10) + (static_cast<char32_t>(base::little_endian(bytes, i + 2, 2)) & 0x3FF);
            i += 2;
        }
        if (c < 0x80) {
            out += static_cast<char>(c);
            continue;
        }
        const int more = c < 0x800 ? 1 : c < 0x10000 ? 2 : 3;
        out += static_cast<char>((0xFF << (7 - more) & 0xFF) | c >> (6 * more));
        for (int k = more - 1; k >= 0; --k) out += static_cast<char>(0x80 | (c >> (6 * k) & 0x3F));
    }
    return out;
}

Key response_key(const Account& account) {
    const ByteVector password = utf16(account.password);
    Key md4{};
    ::MD4(password.data(), password.size(), md4.data());
    return hmac_md5(md4, {utf16(upper(code_points(account.user))), utf16(account.domain)});
}

ByteVector response(const Key& key, const Nonce& server, const Nonce& client, std::uint64_t time,
                    ByteSpan target_info) {
    base::ByteWriter temp;
    temp.u8(1);
    temp.u8(1);
    temp.fill(6);
    temp.little(time, 8);
    temp.raw(client);
    temp.fill(4);
    temp.raw(target_info);
    temp.fill(4);
    const Key proof = hmac_md5(key, {server, temp.bytes()});
    ByteVector out(proof.begin(), proof.end());
    out.insert(out.end(), temp.bytes().begin(), temp.bytes().end());
    return out;
}

ByteVector negotiate() {
    base::ByteWriter out;
    out.text(kSignature);
    out.little(1, 4);
    out.little(kUnicode | kRequestTarget | kNtlm | kAlwaysSign | kExtendedSecurity | kTargetInfo | k128 | k56, 4);
    out.fill(16);  // neither domain nor workstation
    return out.release();
}

Result<Challenge> parse_challenge(ByteSpan message) {
    const auto wrong = [] {
        return fail(ErrorKind::input, "the server's answer holds no NTLM challenge", "SMB", "try again");
    };
    constexpr std::size_t kHead = 48;
    if (message.size() < kHead ||
        !std::equal(kSignature.begin(), kSignature.end(), message.begin(),
                    [](char a, std::uint8_t b) { return static_cast<std::uint8_t>(a) == b; }) ||
        base::little_endian(message, 8, 4) != 2)
        return wrong();
    Challenge challenge;
    std::copy_n(message.begin() + 24, 8, challenge.server.begin());
    const std::size_t length = base::little_endian(message, 40, 2), offset = base::little_endian(message, 44, 4);
    if (offset > message.size() || length > message.size() - offset) return wrong();
    const ByteSpan info = message.subspan(offset, length);
    challenge.target_info.assign(info.begin(), info.end());
    for (std::size_t at = 0; at + 4 <= info.size();) {
        const auto id = static_cast<AvId>(base::little_endian(info, at, 2));
        const std::size_t size = base::little_endian(info, at + 2, 2);
        if (id == kEnd || at + 4 + size > info.size()) break;
        const ByteSpan value = info.subspan(at + 4, size);
        if (id == kTimestamp && size == 8) challenge.time = base::little_endian(value, 0, 8);
        if (id == kDomainName) challenge.domain = utf8(value);
        if (id == kComputerName) challenge.computer = utf8(value);
        at += 4 + size;
    }
    return challenge;
}

ByteVector authenticate(const Account& account, const Challenge& challenge, const Nonce& client) {
    std::uint64_t time = challenge.time;
    if (time == 0) {
        constexpr std::uint64_t kFrom1601To1970 = 11'644'473'600;  // seconds
        const auto now = std::chrono::system_clock::now().time_since_epoch();
        time = kFrom1601To1970 * 10'000'000 +
               static_cast<std::uint64_t>(std::chrono::duration_cast<std::chrono::nanoseconds>(now).count() / 100);
    }
    const bool anonymous = account.is_guest();
    const ByteVector lm(anonymous ? 1 : 24, 0);
    const ByteVector nt = anonymous
                              ? ByteVector()
                              : response(response_key(account), challenge.server, client, time, challenge.target_info);
    const ByteVector domain = utf16(account.domain), user = utf16(account.user), station = utf16("WAVECREST");
    base::ByteWriter out;
    out.text(kSignature);
    out.little(3, 4);
    std::size_t offset = 64;
    const auto field = [&](const ByteVector& bytes) {
        out.little(bytes.size(), 2);
        out.little(bytes.size(), 2);
        out.little(offset, 4);
        offset += bytes.size();
    };
    const ByteVector none;
    for (const ByteVector* one : {&lm, &nt, &domain, &user, &station, &none}) field(*one);
    out.little(kUnicode | kRequestTarget | kNtlm | kAlwaysSign | kExtendedSecurity | kTargetInfo | k128 | k56 |
                   (anonymous ? kAnonymous : 0),
               4);
    for (const ByteVector* one : {&lm, &nt, &domain, &user, &station}) out.raw(*one);
    return out.release();
}

}  // namespace wavecrest::share::ntlm
