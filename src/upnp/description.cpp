#include "upnp/description.hpp"

#include <fmt/format.h>
#include <openssl/evp.h>

#include <array>

#include "net/url.hpp"
#include "upnp/xml.hpp"

namespace wavecrest::upnp {
namespace {

constexpr int kMostNested = 6;
constexpr std::size_t kMostServices = 64;

struct Reader {
    std::string base;  // addresses are relative to it
    std::string host;
    std::string
        zone;  // "%25eth0" of a link-local address: this machine's own affair, which the device knows nothing of
    std::size_t services = 0;

    std::string resolved(const std::string& reference) const {
        if (reference.empty()) return "";
        std::string address = net::resolve_uri(base, reference);
        const auto parts = net::split_address(address);
        if (!parts || parts->scheme != "http" || parts->host != host) return "";
        if (!zone.empty()) address.insert(address.find(']'), zone);
        return address;
    }

    DeviceDescription read(pugi::xml_node node, int depth) {
        DeviceDescription device;
        device.type = text_of(node, "deviceType");
        device.name = text_of(node, "friendlyName");
        device.manufacturer = text_of(node, "manufacturer");
        device.model = text_of(node, "modelName");
        device.model_number = text_of(node, "modelNumber");
        device.model_description = text_of(node, "modelDescription");
        device.udn = text_of(node, "UDN");
        for (const pugi::xml_node one : child(node, "serviceList").children()) {
            if (local_name(one) != "service" || ++services > kMostServices) continue;
            Service service{text_of(one, "serviceType"), text_of(one, "serviceId"), resolved(text_of(one, "SCPDURL")),
                            resolved(text_of(one, "controlURL")), resolved(text_of(one, "eventSubURL"))};
            if (!service.type.empty() && !service.control.empty()) device.services.push_back(std::move(service));
        }
        if (depth < kMostNested) {
            for (const pugi::xml_node one : child(node, "deviceList").children()) {
                if (local_name(one) == "device" && device.devices.size() < kMostServices)
                    device.devices.push_back(read(one, depth + 1));
            }
        }
        return device;
    }
};

}  // namespace

const Service* DeviceDescription::service(std::string_view wanted) const {
    for (const Service& one : services) {
        if (one.type.starts_with(wanted)) return &one;
    }
    for (const DeviceDescription& one : devices) {
        if (const Service* found = one.service(wanted)) return found;
    }
    return nullptr;
}

const DeviceDescription* DeviceDescription::device(std::string_view type_wanted) const {
    if (type.starts_with(type_wanted)) return this;
    for (const DeviceDescription& one : devices) {
        if (const DeviceDescription* found = one.device(type_wanted)) return found;
    }
    return nullptr;
}

Result<DeviceDescription> parse_description(std::string_view xml, const std::string& location) {
    pugi::xml_document document;
    if (auto read = parse_xml(xml, "device description", document); !read) {
        Error error = read.error();
        error.where = location;
        return fail(std::move(error));
    }
    const pugi::xml_node root = child(document, "root"), device = child(root, "device");
    const auto at = net::split_address(location);
    if (!device || !at)
        return fail(ErrorKind::wanting, "the device description holds no device", location,
                    "switch the device off and on; where that doesn't help, its software needs an update");
    Reader reader;
    reader.host = at->host.substr(0, at->host.find('%'));
    reader.base = location;
    if (const std::size_t mark = location.find('%'), end = location.find(']'); mark < end && end != std::string::npos) {
        reader.zone = location.substr(mark, end - mark);
        reader.base.erase(mark, end - mark);
    }
    // Version 1.0 has URLBase, against which addresses are resolved; elsewhere than at the device itself it isn't
    // believed.
    if (const std::string base = text_of(root, "URLBase"); !base.empty()) {
        if (!reader.resolved(base).empty()) reader.base = net::resolve_uri(reader.base, base);
    }
    return reader.read(device, 0);
}

std::string write_description(const DeviceDescription& d) {
    std::string text =
        "<?xml version=\"1.0\" encoding=\"utf-8\"?>\n<root xmlns=\"urn:schemas-upnp-org:device-1-0\">"
        "<specVersion><major>1</major><minor>1</minor></specVersion><device>";
    text += element("deviceType", d.type) + element("friendlyName", d.name) + element("manufacturer", d.manufacturer) +
            element("modelDescription", d.model_description) + element("modelName", d.model) +
            element("modelNumber", d.model_number) + element("UDN", d.udn);
    text += "<serviceList>";
    for (const Service& one : d.services)
        text += "<service>" + element("serviceType", one.type) + element("serviceId", one.id) +
                element("SCPDURL", one.description) + element("controlURL", one.control) +
                fmt::format("<eventSubURL>{}</eventSubURL></service>", escaped(one.events));
    return text + "</serviceList></device></root>\n";
}

std::string udn_from(std::string_view text) {
    std::array<unsigned char, EVP_MAX_MD_SIZE> hash{};
    unsigned size = 0;
    EVP_Digest(text.data(), text.size(), hash.data(), &size, EVP_sha256(), nullptr);
    hash[6] = static_cast<unsigned char>((hash[6] & 0x0F) | 0x80);
    hash[8] = static_cast<unsigned char>((hash[8] & 0x3F) | 0x80);
    std::string udn = "uuid:";
    for (std::size_t i = 0; i < 16; ++i) {
        if (i == 4 || i == 6 || i == 8 || i == 10) udn += '-';
        udn += fmt::format("{:02x}", hash[i]);
    }
    return udn;
}

}  // namespace wavecrest::upnp
