#include "share/netbios.hpp"

#include "base/bytes.hpp"

namespace wavecrest::share {
namespace {

// 4.2.1.3
constexpr std::uint16_t kName = 0x20, kStatus = 0x21, kInternet = 1;
constexpr std::uint16_t kResponse = 0x8000, kRecursion = 0x0100, kBroadcast = 0x0010;

std::string query(std::uint16_t number, std::uint16_t flags, std::uint16_t type) {
    base::ByteWriter out;
    out.u16(number);
    out.u16(flags);
    out.u16(1);
    out.fill(6);
    // RFC 1001, 14.1: "*" and fifteen zeros, each half of a byte a letter from "A" on.
    out.u8(32);
    out.text("CK");
    out.fill(30, 'A');
    out.u8(0);
    out.u16(type);
    out.u16(kInternet);
    const ByteVector bytes = out.release();
    return {bytes.begin(), bytes.end()};
}

std::string name_at(base::ByteReader& in) {
    std::string name = in.text(15);
    while (!name.empty() && (name.back() == ' ' || name.back() == '\0')) name.pop_back();
    return name;
}

}  // namespace

std::string netbios_query(std::uint16_t number) {
    return query(number, kRecursion | kBroadcast, kName);
}
std::string netbios_status_query(std::uint16_t number) {
    return query(number, 0, kStatus);
}

bool is_netbios_answer(std::string_view datagram, std::uint16_t number) {
    base::ByteReader in(base::as_bytes(datagram));
    const std::uint16_t id = in.u16(), flags = in.u16();
    return in.ok() && id == number && (flags & kResponse) != 0 && (flags & 0xF) == 0;
}

NetBiosNames parse_netbios_status(std::string_view datagram) {
    NetBiosNames names;
    base::ByteReader in(base::as_bytes(datagram));
    in.skip(12);
    if (in.u8() != 32) return names;
    in.skip(33);
    if (in.u16() != kStatus) return names;
    in.skip(8);  // class, time to live, length
    const int count = in.u8();
    for (int i = 0; i < count && in.ok(); ++i) {
        std::string name = name_at(in);
        const std::uint8_t kind = in.u8();
        const bool group = (in.u16() & 0x8000) != 0;
        if (!in.ok()) break;
        if (kind == 0x00 && group && names.group.empty())
            names.group = std::move(name);
        else if ((kind == 0x00 || kind == 0x20) && !group && names.computer.empty())
            names.computer = std::move(name);
    }
    return names;
}

}  // namespace wavecrest::share
