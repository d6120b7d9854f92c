#include "net/dns_sd.hpp"

#include <avahi-client/client.h>
#include <avahi-client/lookup.h>
#include <avahi-common/error.h>
#include <avahi-common/simple-watch.h>

#include <algorithm>
#include <chrono>
#include <memory>

namespace wavecrest::net {
namespace {

constexpr std::size_t kMost = 256;

struct Browsing {
    AvahiClient* client = nullptr;
    DnsServices found;
    std::size_t resolving = 0;
};

void keep(DnsServices& found, DnsService service) {
    for (DnsService& one : found.services) {
        if (one.name != service.name || one.type != service.type || one.host != service.host) continue;
        if (one.address.find(':') != std::string::npos && service.address.find(':') == std::string::npos) one = service;
        return;
    }
    if (found.services.size() < kMost) found.services.push_back(std::move(service));
}

void on_resolved(AvahiServiceResolver* resolver, AvahiIfIndex /*interface*/, AvahiProtocol /*protocol*/,
                 AvahiResolverEvent event, const char* name, const char* type, const char* /*domain*/, const char* host,
                 const AvahiAddress* address, std::uint16_t port, AvahiStringList* /*text*/,
                 AvahiLookupResultFlags /*flags*/, void* user) {
    auto& browsing = *static_cast<Browsing*>(user);
    if (event == AVAHI_RESOLVER_FOUND && address != nullptr) {
        char digits[AVAHI_ADDRESS_STR_MAX] = {};
        avahi_address_snprint(digits, sizeof digits, address);
        keep(browsing.found, {name, type, host, digits, port});
    }
    avahi_service_resolver_free(resolver);
}

void on_browsed(AvahiServiceBrowser* /*browser*/, AvahiIfIndex interface, AvahiProtocol protocol,
                AvahiBrowserEvent event, const char* name, const char* type, const char* domain,
                AvahiLookupResultFlags /*flags*/, void* user) {
    auto& browsing = *static_cast<Browsing*>(user);
    if (event != AVAHI_BROWSER_NEW || ++browsing.resolving > 2 * kMost) return;
    // (Resolvers that never answer go with the client.)
    (void)avahi_service_resolver_new(browsing.client, interface, protocol, name, type, domain, AVAHI_PROTO_UNSPEC,
                                     static_cast<AvahiLookupFlags>(0), on_resolved, user);
}

void on_client(AvahiClient* /*client*/, AvahiClientState /*state*/, void* /*user*/) {}

}  // namespace

DnsServices browse_services(const std::vector<std::string>& types, Time length, const Cancel& cancel) {
    Browsing browsing;
    const std::unique_ptr<AvahiSimplePoll, decltype(&avahi_simple_poll_free)> poll(avahi_simple_poll_new(),
                                                                                   avahi_simple_poll_free);
    if (!poll) return {{}, "the mDNS client can't be started"};
    int error = 0;
    const std::unique_ptr<AvahiClient, decltype(&avahi_client_free)> client(
        avahi_client_new(avahi_simple_poll_get(poll.get()), static_cast<AvahiClientFlags>(0), on_client, nullptr,
                         &error),
        avahi_client_free);
    if (!client) return {{}, "the mDNS daemon (Avahi) doesn't run on this machine"};
    browsing.client = client.get();
    for (const std::string& type : types)
        (void)avahi_service_browser_new(client.get(), AVAHI_IF_UNSPEC, AVAHI_PROTO_UNSPEC, type.c_str(), nullptr,
                                        static_cast<AvahiLookupFlags>(0), on_browsed, &browsing);
    const auto until = std::chrono::steady_clock::now() + std::chrono::duration_cast<std::chrono::nanoseconds>(length);
    while (!cancel.requested() && std::chrono::steady_clock::now() < until) {
        if (avahi_simple_poll_iterate(poll.get(), 50) != 0) break;
    }
    return std::move(browsing.found);
}

}  // namespace wavecrest::net
