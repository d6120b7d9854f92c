// The installation file of a house (site.toml): devices, streams, the server's address. Read here; checked
// in check.hpp, begun in new_site.hpp, its encodes planned in encode.hpp.
#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/config.hpp"
#include "base/file.hpp"
#include "base/result.hpp"
#include "convert/name.hpp"
#include "device/device.hpp"
#include "stream/stream_server.hpp"

namespace wavecrest::site {

struct SiteDevice {
    device::Device device;  // its name is the one it has in the house
    std::string device_class;
    std::string room;
    std::string player;   // the program on it that plays, as people call it; empty: its own
    std::string address;  // in digits; empty: not known
    device::Link link;
    int line = 0;
};

struct SiteStream {
    stream::ServedStream item;         // as it is run, but for the profile; files absolute or from the working folder
    std::string profile;               // encoded anew with it on the way; empty: as it is
    std::vector<std::string> devices;  // names; empty: all
    int line = 0;
    bool unlisted = false;  // its folder lies on a share whose server isn't there: its one part stands for all

    const std::string& name() const { return item.name; }
    bool meant_for(const std::string& device) const;
    bool goes_other_ways() const;  // live, besides a ladder
};

// A share of a file server that streams come from, under a name.
struct SiteShare {
    std::string name;
    base::Address address;  // "smb://192.168.1.20/films": without "/" at its end
    int line = 0;
};

// A folder of the library that devices browse (UPnP).
struct SiteCollection {
    std::string name;
    base::Path folder;
    net::Networks from;                // whose addresses see it; empty: all
    std::vector<std::string> devices;  // names of those that see it; empty: all
    int line = 0;
};

struct Site {
    base::Path file;
    std::string house;
    std::uint16_t port = net::kDefaultHttpPort;
    std::string listen;     // address to listen on; empty: all
    std::string advertise;  // address devices use; empty: this machine's first
    std::uint16_t rtmp_port = net::kDefaultRtmpPort;
    std::optional<net::CertificateFiles> certificate;  // for HTTPS
    std::uint16_t tls_port = net::kDefaultTlsPort;
    bool plain_http = true;  // HTTP beside HTTPS
    std::size_t memory = stream::StreamServerSettings{}.memory;
    net::UdpSettings udp;
    convert::NameTemplates names;  // of converted films
    std::vector<SiteDevice> devices;
    std::vector<SiteShare> shares;
    std::vector<SiteStream> streams;
    std::vector<SiteCollection> collections;

    // The address devices are to use.
    std::string host() const;
    // The one to enter first of all, and all of them.
    std::string address_of(const SiteStream& stream) const;
    std::vector<stream::StreamAddress> addresses_of(const SiteStream& stream) const;
    // Those to enter on a device.
    std::vector<stream::StreamAddress> addresses_for(const SiteStream& stream, const SiteDevice& device) const;
    // As a server runs them.
    stream::StreamServerSettings server_settings() const;
    // What a server runs. Plans encodes, which looks at their sources: fails as convert::make_plan does.
    Result<std::vector<stream::ServedStream>> items() const;
};

// Kind usage for mistakes in the file, with its line; kind input when it can't be read.
Result<Site> load(const base::Path& file);
Result<Site> parse(std::string_view text, const base::Path& file);
// The same of options on the command line, for the keys of [server] and of one [[stream]]; files are relative to the
// working folder.
Result<Site> parse_options(const std::vector<base::ConfigOption>& options);

// Media files of a folder, by name.
std::vector<base::Path> media_in(const base::Path& folder);
// The same on a share. Errors as of source::open_share().
Result<std::vector<base::Address>> media_on_share(const base::Address& folder);

}  // namespace wavecrest::site
