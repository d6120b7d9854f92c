// File servers of the local networks, and what they share: found by DNS-SD, WS-Discovery, NetBIOS names and this
// machine's neighbours, then asked politely, each a few questions.
#pragma once

#include <string>
#include <vector>

#include "base/cancel.hpp"
#include "base/result.hpp"
#include "base/time.hpp"
#include "share/account.hpp"

namespace wavecrest::share {

struct FindSettings {
    std::string interface;  // by name or address; empty: all
    Time length = base::from_seconds(4);
    std::vector<std::string> hosts;  // only these, by name or address; empty: whoever is there
    Accounts accounts;               // what is kept for servers
};

struct FoundShare {
    enum class Access { guest, account, needs_account, unknown } access = Access::unknown;
    std::string name;       // of NFS the export's path
    std::string address;    // to use: "smb://192.168.1.20/films"
    bool exported = false;  // of NFS: as the mount service lists it
    std::string to;         // of NFS: whom it is exported to; empty: all, or not told
};
struct FoundServer {
    std::string name;      // as it calls itself; empty: not told
    std::string address;   // in digits
    std::string found_by;  // "DNS-SD, NetBIOS"
    std::string smb;       // "SMB 3.1.1"; empty: it has none
    std::string nfs;       // "NFS 3, NFS 4"; empty: it has none
    std::vector<FoundShare> shares;
    std::string problem;  // why its shares can't be listed; empty: they are
};
struct FoundServers {
    std::vector<FoundServer> servers;  // by name
    std::vector<std::string> notes;    // ways that weren't open
};

// Kind usage: no such interface; kind interrupted.
Result<FoundServers> find_servers(const FindSettings& settings, const Cancel& cancel);

}  // namespace wavecrest::share
