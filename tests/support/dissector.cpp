#include "support/dissector.hpp"

#include <algorithm>
#include <cstdio>
#include <cstdlib>
#include <sstream>

#include "support/support.hpp"

namespace wavecrest::test {
namespace {

void put(ByteVector& out, std::uint64_t value, int bytes, bool little = false) {
    for (int i = 0; i < bytes; ++i) out.push_back(static_cast<std::uint8_t>(value >> 8 * (little ? i : bytes - 1 - i)));
}

constexpr std::uint8_t kTcp = 6, kUdp = 17, kSyn = 0x02, kPush = 0x08, kAck = 0x10;
constexpr std::uint16_t kClientPort = 40'000;

}  // namespace

bool has_dissector() {
    static const bool kThere = std::system("command -v tshark >/dev/null 2>&1") == 0;
    return kThere;
}

void Capture::add(std::uint8_t protocol, ByteSpan head, ByteSpan payload, bool from_client) {
    const std::size_t size = 20 + head.size() + payload.size();
    put(records_, 0, 4, true);
    put(records_, std::uint64_t{count_++} * 1000, 4, true);
    put(records_, size, 4, true);
    put(records_, size, 4, true);
    // RFC 791, 3.1; tshark leaves the checksum alone.
    put(records_, 0x4500, 2);
    put(records_, size, 2);
    put(records_, count_, 2);
    put(records_, 0x4000, 2);
    put(records_, 64, 1);
    put(records_, protocol, 1);
    put(records_, 0, 2);
    put(records_, from_client ? 0x0A000001 : 0x0A000002, 4);
    put(records_, from_client ? 0x0A000002 : 0x0A000001, 4);
    records_.insert(records_.end(), head.begin(), head.end());
    records_.insert(records_.end(), payload.begin(), payload.end());
}

void Capture::add_datagram(ByteSpan payload) {
    ByteVector head;
    put(head, kClientPort, 2);
    put(head, port_, 2);
    put(head, 8 + payload.size(), 2);
    put(head, 0, 2);
    add(kUdp, head, payload, true);
}

// RFC 9293, 3.1.
void Capture::add_segment(ByteSpan payload, bool from_client, std::uint8_t flags) {
    std::uint32_t& own = sent_[from_client ? 1 : 0];
    ByteVector head;
    put(head, from_client ? kClientPort : port_, 2);
    put(head, from_client ? port_ : kClientPort, 2);
    put(head, own, 4);
    put(head, (flags & kAck) != 0 ? sent_[from_client ? 0 : 1] : 0, 4);
    put(head, 0x50, 1);  // 20 bytes
    put(head, flags, 1);
    put(head, 0xFFFF, 2);
    put(head, 0, 4);
    own += static_cast<std::uint32_t>(payload.size()) + ((flags & kSyn) != 0 ? 1 : 0);
    add(kTcp, head, payload, from_client);
}

void Capture::add_stream(ByteSpan bytes, bool from_client) {
    if (!connected_) {
        connected_ = true;
        add_segment({}, true, kSyn);
        add_segment({}, false, kSyn | kAck);
        add_segment({}, true, kAck);
    }
    while (!bytes.empty()) {
        const ByteSpan piece = bytes.first(std::min<std::size_t>(bytes.size(), 1400));
        bytes = bytes.subspan(piece.size());
        add_segment(piece, from_client, kAck | kPush);
        add_segment({}, !from_client, kAck);
    }
}

std::vector<std::string> Capture::fields(const std::vector<std::string>& names, const std::string& decode_as) const {
    const TempDir dir;
    ByteVector file;
    put(file, 0xA1B2C3D4, 4, true);
    put(file, 2, 2, true);
    put(file, 4, 2, true);
    put(file, 0, 8, true);
    put(file, 65'535, 4, true);
    put(file, 101, 4, true);  // raw IP
    file.insert(file.end(), records_.begin(), records_.end());
    write_all(dir / "wire.pcap", file);
    std::string command = "tshark -n -r " + (dir / "wire.pcap").string() + " -Y " + names.front() + " -T fields";
    for (const std::string& name : names) command += " -e " + name;
    if (!decode_as.empty()) command += " -d " + decode_as;
    FILE* pipe = ::popen((command + " 2>/dev/null").c_str(), "r");
    std::string all;
    char buffer[4096];
    while (const std::size_t got = pipe != nullptr ? std::fread(buffer, 1, sizeof buffer, pipe) : 0)
        all.append(buffer, got);
    if (pipe != nullptr) ::pclose(pipe);
    std::vector<std::string> lines;
    std::istringstream in(all);
    for (std::string line; std::getline(in, line);) lines.push_back(line);
    return lines;
}

}  // namespace wavecrest::test
