// The installation file of a house (site.toml): devices, streams, the server's address; and its check before anything
// runs.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "base/file.hpp"
#include "base/result.hpp"
#include "device/device.hpp"
#include "stream/live.hpp"
#include "stream/service.hpp"

namespace wavecrest::site {

struct SiteDevice {
    device::Device device;  // its name is the one it has in the house
    std::string device_class;
    std::string room;
    device::Link link;
    int line = 0;
};

struct SiteStream {
    std::string name;
    base::Path file;                          // absolute, or relative to the working folder
    std::string path;                         // of the URL
    std::vector<std::string> devices;         // names; empty: all
    std::vector<stream::LiveTarget> targets;  // where it is sent by UDP, too
    bool loop = false;
    std::int64_t rate_bps = 0;  // of what is sent; 0: as the film needs
    int line = 0;

    bool meant_for(const std::string& device) const;
};

struct Site {
    base::Path file;
    std::string house;
    std::uint16_t port = net::kDefaultHttpPort;
    std::string listen;     // address to listen on; empty: all
    std::string advertise;  // address devices use; empty: this machine's first
    net::UdpSettings udp;
    std::vector<SiteDevice> devices;
    std::vector<SiteStream> streams;

    // The address devices are to use.
    std::string host() const;
    std::string address_of(const SiteStream& stream) const;
    std::vector<stream::StreamItem> items() const;
    // Those that are sent by UDP.
    std::vector<stream::LiveItem> live_items() const;
};

// Kind usage for mistakes in the file, with its line; kind input when it can't be read.
Result<Site> load(const base::Path& file);
Result<Site> parse(std::string_view text, const base::Path& file);

// What `check` found about a site on this machine.
struct Finding {
    enum class Severity { error, warning } severity = Severity::error;
    Error about;
};
// Files missing or unreadable, the port taken, the address not this machine's, streams no device can play, links and
// server too slow for what is asked. Reads the streams' indexes; starts nothing.
std::vector<Finding> check(const Site& site);

struct NewSite {
    std::string house;
    std::uint16_t port = net::kDefaultHttpPort;
    struct NewDevice {
        std::string name, device_class, link;
    };
    struct NewStream {
        std::string name, file;
    };
    std::vector<NewDevice> devices;
    std::vector<NewStream> streams;
};
// The text of a commented installation file. Without devices and streams it holds examples to uncomment.
std::string compose(const NewSite& site);

}  // namespace wavecrest::site
