// A UPnP device that this program is: its description, its services and their events, as answers of an HTTP server.
#pragma once

#include <functional>
#include <memory>
#include <string>
#include <tl/expected.hpp>
#include <vector>

#include "net/http_server.hpp"
#include "upnp/description.hpp"
#include "upnp/eventing.hpp"
#include "upnp/services.hpp"
#include "upnp/soap.hpp"

namespace wavecrest::upnp {

struct HostedService {
    ServiceSpec spec;
    // Called from the server's threads; in arguments are all there, with values the service's description allows.
    std::function<tl::expected<Arguments, Fault>(const Action& action, const net::HttpRequest& request)> act;
    std::function<Arguments()> state;  // its evented variables, for who subscribes; null: it has none
};

class DeviceHost {
  public:
    // What is at `prefix` ("/upnp") and below. Addresses of the description's services are filled in.
    DeviceHost(DeviceDescription description, std::vector<HostedService> services, std::string prefix);

    net::HttpReply answer(const net::HttpRequest& request);
    // Tells who subscribed to a service (its name, "AVTransport") what has changed.
    void changed(const std::string& service, const Arguments& variables);

    const DeviceDescription& description() const { return description_; }
    std::string description_path() const { return prefix_ + "/device.xml"; }
    std::vector<std::string> targets() const;  // what it is found by

  private:
    DeviceDescription description_;
    std::vector<HostedService> services_;
    std::string prefix_;
    Publisher publisher_;
};

}  // namespace wavecrest::upnp
