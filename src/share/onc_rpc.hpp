// Remote procedure calls as NFS servers answer them (ONC RPC version 2, RFC 5531, over TCP): which versions of NFS a
// server speaks, where its mount service listens (port mapper, RFC 1833) and what that exports (RFC 1813, appendix I).
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "base/bytes.hpp"
#include "base/result.hpp"
#include "base/time.hpp"

namespace wavecrest::share {

struct RpcCall {
    std::uint32_t program = 0, version = 0, procedure = 0;
    ByteVector arguments{};  // XDR (RFC 4506)
};
struct RpcReply {
    enum class Kind {
        done,        // `results` is what the procedure gives
        no_program,  // the program isn't there
        no_version,  // it is, from `lowest` to `highest`
        no_procedure,
        refused  // the call itself: `why`
    } kind = Kind::done;
    std::uint32_t lowest = 0, highest = 0;
    std::string why;
    ByteVector results;
};
// Errors (kind machine): no connection; kind wanting: what answers isn't RPC. `limit`: of each wait.
Result<RpcReply> call_rpc(const std::string& host, std::uint16_t port, const RpcCall& call, Time limit);

// The TCP port of a program by the port mapper (port 111); 0: it isn't there. Errors as of call_rpc().
Result<std::uint16_t> rpc_port(const std::string& host, std::uint32_t program, std::uint32_t version, Time limit);
// The versions of NFS at a port: of 3 and 4 those that answer. Errors as of call_rpc().
Result<std::vector<int>> nfs_versions(const std::string& host, std::uint16_t port, Time limit);

struct NfsExport {
    std::string path;             // "/export/films"
    std::vector<std::string> to;  // hosts and networks that may mount it; empty: all
};
// What the mount service exports; kind wanting where there is no port mapper or mount service (servers of NFS 4 alone).
Result<std::vector<NfsExport>> nfs_exports(const std::string& host, Time limit);
// The same from the results of the procedure.
Result<std::vector<NfsExport>> parse_exports(ByteSpan results);

}  // namespace wavecrest::share
