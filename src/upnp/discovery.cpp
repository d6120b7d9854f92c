#include "upnp/discovery.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <chrono>
#include <map>
#include <thread>

#include "base/mutex.hpp"
#include "net/http_client.hpp"
#include "upnp/soap.hpp"
#include "upnp/ssdp.hpp"
#include "upnp/xml.hpp"

namespace wavecrest::upnp {
namespace {

constexpr std::size_t kMostDevices = 64;  // asked at a time, each by a thread of its own

// Of several ways to the same device the one that other devices of the house have, too.
int rank(const net::UdpEnd& end) {
    return (end.address == "127.0.0.1" || end.address == "::1" ? 2 : 0) + (end.ipv6() ? 1 : 0);
}

}  // namespace

std::string_view short_name(FoundDevice::Kind kind) {
    switch (kind) {
        case FoundDevice::Kind::renderer:
            return "renderer";
        case FoundDevice::Kind::server:
            return "server";
        case FoundDevice::Kind::other:
            break;
    }
    return "other";
}

Result<FoundDevice> ask_device(const std::string& location, Time limit) {
    WAVECREST_TRY_ASSIGN(url, net::parse_url(location));
    FoundDevice found;
    found.location = location;
    found.address = url.host;
    net::HttpExchange request;
    request.limit = request.whole = limit;
    request.most = kMostXml;
    WAVECREST_TRY_ASSIGN(answered, net::HttpClient::exchange(url, request));
    if (answered.status != 200)
        return fail(ErrorKind::wanting, fmt::format("the device gives no description (status {})", answered.status),
                    location, "switch the device off and on");
    WAVECREST_TRY_ASSIGN(description, parse_description(answered.body, location));
    found.description = std::move(description);
    using Kind = FoundDevice::Kind;
    found.kind = found.description.device(kMediaRenderer) ? Kind::renderer
                 : found.description.device(kMediaServer) ? Kind::server
                                                          : Kind::other;
    const DeviceDescription* renderer = found.description.device(kMediaRenderer);
    if (renderer == nullptr) return found;
    if (const Service* manager = renderer->service(kConnectionManager)) {
        auto told = call(manager->control, {manager->type, "GetProtocolInfo", {}}, limit);
        if (told)
            found.takes = parse_protocol_infos(value_of(*told, "Sink"));
        else
            found.problem = told.error().what;
    }
    return found;
}

Result<std::vector<FoundDevice>> find_devices(const FindSettings& settings, const Cancel& cancel) {
    struct Asked {
        SearchAnswer answer;
        bool done = false;
        FoundDevice found;
    };
    struct Shared {
        base::Mutex mutex;
        std::map<std::string, Asked> asked GUARDED_BY(mutex);  // by UDN
    };
    const auto shared = std::make_shared<Shared>();
    std::vector<std::thread> threads;
    const auto ask = [&](const std::string& udn, const SearchAnswer& answer) {
        threads.emplace_back([shared, udn, answer] {
            std::string location = answer.message.location;
            if (const std::size_t zone = answer.from.address.find('%'); zone != std::string::npos) {
                const std::size_t bracket = location.find(']');
                if (bracket != std::string::npos)
                    location.insert(bracket, "%25" + answer.from.address.substr(zone + 1));
            }
            auto found = ask_device(location);
            const base::MutexLock lock(shared->mutex);
            Asked& one = shared->asked[udn];
            if (one.done && rank(one.answer.from) < rank(answer.from)) return;
            one.answer = answer;
            one.done = true;
            if (found) {
                one.found = std::move(*found);
            } else {
                one.found.location = answer.message.location;
                one.found.problem = found.error().what;
                one.found.description.udn = udn;
            }
            one.found.address = answer.from.address;
        });
    };
    const auto take = [&](const SearchAnswer& answer) {
        const std::string udn = udn_of(answer.message.usn);
        if (udn.empty() || threads.size() >= kMostDevices) return;
        {
            const base::MutexLock lock(shared->mutex);
            const auto known = shared->asked.find(udn);
            if (known != shared->asked.end() && rank(known->second.answer.from) <= rank(answer.from)) return;
            shared->asked[udn].answer = answer;
        }
        ask(udn, answer);
    };
    // By its whole name at once; by the beginning of it when others had time to answer, too.
    const auto begin = std::chrono::steady_clock::now();
    const auto is_wanted = [&](const FoundDevice& found) {
        const std::string& name = found.description.name;
        if (name == settings.name || found.description.udn == settings.name) return true;
        const bool begins =
            name.size() > settings.name.size() &&
            std::equal(settings.name.begin(), settings.name.end(), name.begin(),
                       [](unsigned char a, unsigned char b) { return std::tolower(a) == std::tolower(b); });
        return begins && std::chrono::steady_clock::now() - begin > std::chrono::milliseconds(1500);
    };
    SearchSettings searching;
    searching.interface = settings.interface;
    searching.length = settings.length;
    if (!settings.name.empty()) {
        searching.enough = [&] {
            const base::MutexLock lock(shared->mutex);
            return std::any_of(shared->asked.begin(), shared->asked.end(),
                               [&](const auto& one) { return one.second.done && is_wanted(one.second.found); });
        };
    }
    const Status searched = search(searching, take, cancel);
    for (std::thread& one : threads) one.join();
    if (!searched) return fail(searched.error());

    std::vector<FoundDevice> devices;
    const base::MutexLock lock(shared->mutex);
    for (auto& [udn, one] : shared->asked) {
        if (one.done) devices.push_back(std::move(one.found));
    }
    std::stable_sort(devices.begin(), devices.end(), [](const FoundDevice& a, const FoundDevice& b) {
        return std::pair(a.kind, a.description.name) < std::pair(b.kind, b.description.name);
    });
    return devices;
}

}  // namespace wavecrest::upnp
