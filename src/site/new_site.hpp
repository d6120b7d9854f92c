// Texts made for an installation: its file to begin with, and the unit that runs it at boot.
#pragma once

#include <string>
#include <vector>

#include "site/site.hpp"

namespace wavecrest::site {

// The systemd unit that runs the site's streams at every boot, as `user`, and restarts them when they die.
std::string service_unit(const Site& site, const base::Path& program, const std::string& user);

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
    struct NewCollection {
        std::string name, folder;
    };
    std::vector<NewCollection> collections;
};
// The text of a commented installation file. Without devices and streams it holds examples to uncomment.
std::string compose(const NewSite& site);

// The text of an installation file in which a device has another class; all else stays as it is written, comments too.
// Fails (kind usage) where the file has no such device, or its class isn't on a line of its own.
Result<std::string> with_class(const std::string& text, const base::Path& file, const std::string& device,
                               const std::string& device_class);

// The text of an installation file with a further device at its end. Fails (kind usage) where it would be none then:
// a name that is there already.
Result<std::string> with_device(const std::string& text, const base::Path& file, const NewSite::NewDevice& device,
                                const std::string& address);

}  // namespace wavecrest::site
