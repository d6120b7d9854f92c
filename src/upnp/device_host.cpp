#include "upnp/device_host.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>

#include "upnp/ssdp.hpp"

namespace wavecrest::upnp {
namespace {

net::HttpReply xml(int status, std::string text) {
    net::HttpReply reply = net::HttpReply::text(status, std::move(text));
    reply.media_type = "text/xml; charset=\"utf-8\"";
    reply.any_origin = false;
    reply.fields = {{"EXT", ""}, {"Server", kServerField}};
    return reply;
}

// 3.2.2: what is wrong with an action's arguments, by the service's own description.
std::optional<Fault> wrong_arguments(const ServiceSpec& service, const ActionSpec& spec, const Action& action) {
    for (const ArgumentSpec& argument : spec.arguments) {
        if (!argument.in) continue;
        const auto given = std::find_if(action.arguments.begin(), action.arguments.end(),
                                        [&](const auto& one) { return one.first == argument.name; });
        if (given == action.arguments.end()) return Fault{402, fmt::format("{} is missing", argument.name)};
        const auto variable = std::find_if(service.variables.begin(), service.variables.end(),
                                           [&](const StateVariable& one) { return one.name == argument.variable; });
        if (variable == service.variables.end()) continue;
        const std::string& value = given->second;
        if (!variable->allowed.empty() &&
            std::find(variable->allowed.begin(), variable->allowed.end(), value) == variable->allowed.end())
            return Fault{600, fmt::format("{} can't be \"{}\"", argument.name, value.substr(0, 40))};
        if (variable->type.starts_with("ui") || variable->type.starts_with("i")) {
            std::int64_t number = 0;
            const auto [end, error] = std::from_chars(value.data(), value.data() + value.size(), number);
            if (error != std::errc{} || end != value.data() + value.size() ||
                (variable->type.starts_with("ui") && number < 0))
                return Fault{402, fmt::format("{} isn't a number", argument.name)};
            if (variable->most > variable->least && (number < variable->least || number > variable->most))
                return Fault{601, fmt::format("{} is from {} to {}", argument.name, variable->least, variable->most)};
        }
    }
    return std::nullopt;
}

}  // namespace

DeviceHost::DeviceHost(DeviceDescription description, std::vector<HostedService> services, std::string prefix)
    : description_(std::move(description)), services_(std::move(services)), prefix_(std::move(prefix)) {
    for (const HostedService& one : services_) {
        const std::string at = fmt::format("{}/{}", prefix_, one.spec.name());
        description_.services.push_back({one.spec.type, one.spec.id, at + ".xml", at + "/control", at + "/events"});
    }
}

std::vector<std::string> DeviceHost::targets() const {
    std::vector<std::string> all = {description_.type};
    for (const HostedService& one : services_) all.push_back(one.spec.type);
    return all;
}

void DeviceHost::changed(const std::string& service, const Arguments& variables) {
    publisher_.changed(service, variables);
}

net::HttpReply DeviceHost::answer(const net::HttpRequest& request) {
    const auto not_allowed = [] { return net::HttpReply::text(405, "Not supported here.\n"); };
    if (request.path == description_path())
        return request.method == "GET" ? xml(200, write_description(description_)) : not_allowed();
    for (const HostedService& one : services_) {
        const std::string name = one.spec.name(), at = fmt::format("{}/{}", prefix_, name);
        if (request.path == at + ".xml")
            return request.method == "GET" ? xml(200, write_service_description(one.spec)) : not_allowed();
        if (request.path == at + "/events") {
            if (request.method != "SUBSCRIBE" && request.method != "UNSUBSCRIBE") return not_allowed();
            return publisher_.answer(
                request, name, one.state ? one.state : [] { return Arguments{}; });
        }
        if (request.path != at + "/control") continue;
        if (request.method != "POST") return not_allowed();
        auto action = parse_action(request.body);
        if (!action) return net::HttpReply::text(400, "No SOAP action.\n");
        const auto refuse = [](const Fault& fault) { return xml(500, write_fault(fault)); };
        const auto spec = std::find_if(one.spec.actions.begin(), one.spec.actions.end(),
                                       [&](const ActionSpec& s) { return s.name == action->name; });
        if (spec == one.spec.actions.end()) return refuse({401, "Invalid Action"});
        if (const auto wrong = wrong_arguments(one.spec, *spec, *action)) return refuse(*wrong);
        action->service = one.spec.type;
        const auto done = one.act(*action, request);
        return done ? xml(200, write_answer(*action, *done)) : refuse(done.error());
    }
    return net::HttpReply::text(404, "Nothing here.\n");
}

}  // namespace wavecrest::upnp
