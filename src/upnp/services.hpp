// The services of UPnP AV as their standards declare them (ISO/IEC 29341-4-10 AVTransport, -4-11 ConnectionManager,
// -4-12 ContentDirectory, -4-13 RenderingControl, version 1), as far as this program offers them.
#pragma once

#include <string>
#include <vector>

namespace wavecrest::upnp {

struct StateVariable {
    std::string name;
    std::string type = "string";
    bool evented = false;
    std::vector<std::string> allowed;  // empty: anything
    int least = 0, most = 0;           // a range, where most is larger
};
struct ArgumentSpec {
    std::string name;
    bool in = true;
    std::string variable;  // what it is of
};
struct ActionSpec {
    std::string name;
    std::vector<ArgumentSpec> arguments;
};
struct ServiceSpec {
    std::string type;  // "urn:schemas-upnp-org:service:AVTransport:1"
    std::string id;    // "urn:upnp-org:serviceId:AVTransport"
    std::vector<StateVariable> variables;
    std::vector<ActionSpec> actions;

    std::string name() const;  // "AVTransport"
};

ServiceSpec av_transport();
ServiceSpec rendering_control();
ServiceSpec connection_manager();
ServiceSpec content_directory();

// The service's description (UPnP Device Architecture 1.1, 2.5).
std::string write_service_description(const ServiceSpec& service);

}  // namespace wavecrest::upnp
