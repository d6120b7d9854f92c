// What an address of a file server says: smb://HOST[:PORT]/SHARE/FOLDER/FILE (the form that draft-crhertel-smb-url
// describes) and nfs://HOST[:PORT]/EXPORT/FOLDER/FILE (RFC 2224). Names are read as people write them, with blanks, or
// percent-encoded.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "base/address.hpp"
#include "base/result.hpp"

namespace wavecrest::share {

struct Location {
    base::Scheme scheme = base::Scheme::smb;  // or nfs
    std::string host;
    std::uint16_t port = 0;  // 0: the usual one
    // Of SMB the share's name; empty: the server itself. Of NFS always empty: which part of the path is the export only
    // the server knows.
    std::string share;
    std::string path;  // "/" between names, none at the ends; empty: the share's (NFS: the server's) top folder

    std::uint16_t port_used() const;         // IANA: 445 (microsoft-ds), 2049 (nfs)
    std::vector<std::string> names() const;  // of `path`
    // The address, as people write it; of another path in the same place. Encoded is only what would not be read back:
    // "%41" in a name, and bytes that are no UTF-8.
    std::string text() const { return text_of(path); }
    std::string text_of(const std::string& other_path) const;
    // "smb://nas/films": of the share alone (NFS: of the server).
    std::string root() const { return text_of(""); }
};

// Kind usage: no such address; a port that is none; "." or ".." among the names; a user name or password in it.
Result<Location> parse_location(const base::Address& address);
// Two paths as one.
std::string joined(const std::string& folder, const std::string& name);

}  // namespace wavecrest::share
