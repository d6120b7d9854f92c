#include "share/onc_rpc.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <random>

#include "net/wire.hpp"

namespace wavecrest::share {
namespace {

// RFC 5531, 9; programs by IANA.
constexpr std::uint32_t kRpcVersion = 2, kPortMapper = 100000, kNfs = 100003, kMount = 100005;
constexpr std::uint16_t kPortMapperPort = 111;
constexpr std::size_t kMostReply = 4 << 20, kMostExports = 10'000, kMostText = 4096;

tl::unexpected<Error> no_rpc(const std::string& where) {
    return fail(ErrorKind::wanting, "what answers on this port is no NFS server", where, "check the address and port");
}

Status take(net::Wire& wire, std::span<std::uint8_t> into, const std::string& where) {
    while (!into.empty()) {
        const auto got = wire.read(into);
        if (!got && got.error().kind == net::WireError::Kind::timeout)
            return fail(ErrorKind::wanting, "something answers on this port, but says nothing", where,
                        "restart the file server, and check that nothing else uses its port");
        if (!got || *got == 0) return no_rpc(where);
        into = into.subspan(*got);
    }
    return {};
}

}  // namespace

Result<RpcReply> call_rpc(const std::string& host, std::uint16_t port, const RpcCall& call, Time limit) {
    const std::string where = fmt::format("{}, port {}", host, port);
    auto wire = net::Wire::connect(host, port, limit);
    if (!wire)
        return fail(ErrorKind::machine, fmt::format("no connection: {}", wire.error().text), where,
                    "check the address and the port");
    const std::uint32_t number = std::random_device()();
    base::ByteWriter out;
    out.u32(0);
    out.u32(number);
    out.u32(0);  // a call
    out.u32(kRpcVersion);
    out.u32(call.program);
    out.u32(call.version);
    out.u32(call.procedure);
    out.fill(16);  // neither credentials nor verifier (AUTH_NONE)
    out.raw(call.arguments);
    constexpr std::uint32_t kLast = 0x80000000;  // 11: the record's last fragment
    out.put_u32(0, kLast | (out.size() - 4));
    if (!wire->write(out.bytes())) return no_rpc(where);
    ByteVector record;
    for (bool last = false; !last;) {
        std::array<std::uint8_t, 4> mark{};
        WAVECREST_TRY(take(*wire, mark, where));
        const std::uint32_t head = base::ByteReader(mark).u32();
        last = (head & kLast) != 0;
        const std::size_t length = head & ~kLast;
        if (record.size() + length > kMostReply || (length == 0 && !last)) return no_rpc(where);
        const std::size_t before = record.size();
        record.resize(before + length);
        WAVECREST_TRY(take(*wire, std::span(record).subspan(before), where));
    }
    base::ByteReader in(record);
    if (in.u32() != number || in.u32() != 1) return no_rpc(where);
    RpcReply reply;
    if (in.u32() != 0) {
        reply.kind = RpcReply::Kind::refused;
        reply.why = in.u32() == 1 ? "the server wants other credentials" : "the server speaks another version of RPC";
        return reply;
    }
    in.skip(4);
    const std::uint32_t verifier = in.u32();
    in.skip((verifier + 3) / 4 * 4);
    switch (in.u32()) {
        case 0:
            break;
        case 1:
            reply.kind = RpcReply::Kind::no_program;
            break;
        case 2:
            reply.kind = RpcReply::Kind::no_version;
            reply.lowest = in.u32();
            reply.highest = in.u32();
            break;
        default:
            reply.kind = RpcReply::Kind::no_procedure;
    }
    if (!in.ok()) return no_rpc(where);
    const ByteSpan rest = in.take(in.remaining());
    reply.results.assign(rest.begin(), rest.end());
    return reply;
}

Result<std::uint16_t> rpc_port(const std::string& host, std::uint32_t program, std::uint32_t version, Time limit) {
    constexpr std::uint32_t kTcp = 6, kGetPort = 3;
    base::ByteWriter arguments;
    arguments.u32(program);
    arguments.u32(version);
    arguments.u32(kTcp);
    arguments.u32(0);
    WAVECREST_TRY_ASSIGN(reply,
                         call_rpc(host, kPortMapperPort, {kPortMapper, 2, kGetPort, arguments.release()}, limit));
    if (reply.kind != RpcReply::Kind::done) return std::uint16_t{0};
    const std::uint32_t port = base::ByteReader(reply.results).u32();
    return static_cast<std::uint16_t>(port < 65536 ? port : 0);
}

Result<std::vector<int>> nfs_versions(const std::string& host, std::uint16_t port, Time limit) {
    std::vector<int> versions;
    for (const int version : {4, 3}) {
        WAVECREST_TRY_ASSIGN(reply, call_rpc(host, port, {kNfs, static_cast<std::uint32_t>(version), 0}, limit));
        if (reply.kind == RpcReply::Kind::done) versions.push_back(version);
        if (reply.kind == RpcReply::Kind::no_program) return no_rpc(fmt::format("{}, port {}", host, port));
    }
    return versions;
}

Result<std::vector<NfsExport>> parse_exports(ByteSpan results) {
    base::ByteReader in(results);
    const auto text = [&]() -> std::string {
        const std::uint32_t length = in.u32();
        if (length > kMostText) {
            in.seek(results.size() + 1);
            return {};
        }
        std::string value = in.text(length);
        in.skip((4 - length % 4) % 4);
        return value;
    };
    std::vector<NfsExport> exports;
    while (in.ok() && in.u32() != 0 && exports.size() < kMostExports) {
        NfsExport one;
        one.path = text();
        while (in.ok() && in.u32() != 0 && one.to.size() < kMostExports) one.to.push_back(text());
        if (!in.ok()) break;
        exports.push_back(std::move(one));
    }
    if (!in.ok())
        return fail(ErrorKind::wanting, "the server's list of exports is cut off or damaged", "NFS mount service",
                    "restart the file server");
    std::sort(exports.begin(), exports.end(), [](const auto& a, const auto& b) { return a.path < b.path; });
    return exports;
}

Result<std::vector<NfsExport>> nfs_exports(const std::string& host, Time limit) {
    constexpr std::uint32_t kVersion = 3, kExport = 5;
    WAVECREST_TRY_ASSIGN(port, rpc_port(host, kMount, kVersion, limit));
    if (port == 0)
        return fail(ErrorKind::wanting, "the server has no mount service for NFS 3", host,
                    "servers of NFS 4 alone have none: give the folder's path as it is on the server");
    WAVECREST_TRY_ASSIGN(reply, call_rpc(host, port, {kMount, kVersion, kExport}, limit));
    if (reply.kind != RpcReply::Kind::done)
        return fail(ErrorKind::wanting, "the server's mount service lists no exports", host,
                    "give the folder's path as it is on the server");
    return parse_exports(reply.results);
}

}  // namespace wavecrest::share
