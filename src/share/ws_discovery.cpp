#include "share/ws_discovery.hpp"

#include <fmt/format.h>

#include "base/xml.hpp"

namespace wavecrest::share {
namespace {

constexpr const char* kEnvelope =
    R"(<?xml version="1.0" encoding="utf-8"?><soap:Envelope xmlns:soap="http://www.w3.org/2003/05/soap-envelope" )"
    R"(xmlns:wsa="http://schemas.xmlsoap.org/ws/2004/08/addressing" )"
    R"(xmlns:wsd="http://schemas.xmlsoap.org/ws/2005/04/discovery" )"
    R"(xmlns:wsdp="http://schemas.xmlsoap.org/ws/2006/02/devprof"><soap:Header><wsa:To>{}</wsa:To><wsa:Action>{}</wsa:Action>)"
    R"(<wsa:MessageID>urn:uuid:{}</wsa:MessageID>{}</soap:Header><soap:Body>{}</soap:Body></soap:Envelope>)";
constexpr std::size_t kMostMatches = 32, kMostAddresses = 8, kDeepest = 24;

std::vector<std::string> words_of(std::string_view text) {
    std::vector<std::string> words;
    std::size_t at = 0;
    while ((at = text.find_first_not_of(" \t\r\n", at)) != std::string_view::npos) {
        const std::size_t end = std::min(text.find_first_of(" \t\r\n", at), text.size());
        words.emplace_back(text.substr(at, end - at));
        at = end;
    }
    return words;
}

// The first element of this name anywhere below; an empty node where there is none.
pugi::xml_node find(pugi::xml_node in, std::string_view name, std::size_t depth = 0) {
    for (const pugi::xml_node one : in.children()) {
        if (base::local_name(one) == name) return one;
        if (depth < kDeepest) {
            if (const pugi::xml_node below = find(one, name, depth + 1)) return below;
        }
    }
    return {};
}

bool read(std::string_view text, pugi::xml_document& document) {
    constexpr std::size_t kMost = 64 << 10;
    return base::parse_xml(text, "answer", "", document, kMost).has_value();
}

}  // namespace

std::string ws_probe(const std::string& id) {
    return fmt::format(fmt::runtime(kEnvelope), "urn:schemas-xmlsoap-org:ws:2005:04:discovery",
                       "http://schemas.xmlsoap.org/ws/2005/04/discovery/Probe", id, "",
                       "<wsd:Probe><wsd:Types>wsdp:Device</wsd:Types></wsd:Probe>");
}

std::vector<WsHost> parse_probe_matches(std::string_view text) {
    std::vector<WsHost> hosts;
    pugi::xml_document document;
    if (!read(text, document)) return hosts;
    for (const pugi::xml_node match : find(document, "ProbeMatches").children()) {
        if (base::local_name(match) != "ProbeMatch" || hosts.size() >= kMostMatches) continue;
        bool computer = false;
        for (const std::string& type : words_of(base::text_of(match, "Types")))
            computer = computer || type.substr(type.find(':') + 1) == "Computer";
        if (!computer) continue;
        WsHost host;
        host.endpoint = base::text_of(base::child(match, "EndpointReference"), "Address");
        for (std::string& address : words_of(base::text_of(match, "XAddrs"))) {
            if (address.starts_with("http://") && host.addresses.size() < kMostAddresses)
                host.addresses.push_back(std::move(address));
        }
        hosts.push_back(std::move(host));
    }
    return hosts;
}

std::string ws_get(const std::string& id, const std::string& endpoint) {
    return fmt::format(fmt::runtime(kEnvelope), base::escaped(endpoint),
                       "http://schemas.xmlsoap.org/ws/2004/09/transfer/Get", id,
                       "<wsa:ReplyTo><wsa:Address>http://schemas.xmlsoap.org/ws/2004/08/addressing/role/anonymous"
                       "</wsa:Address></wsa:ReplyTo>",
                       "");
}

WsComputer parse_ws_computer(std::string_view text) {
    pugi::xml_document document;
    if (!read(text, document)) return {};
    const std::string said = base::text_of(find(document, "Computer"));
    const std::size_t slash = said.find('/');
    if (slash == std::string::npos) return {said, ""};
    const std::size_t colon = said.find(':', slash);
    return {said.substr(0, slash), colon == std::string::npos ? "" : said.substr(colon + 1)};
}

}  // namespace wavecrest::share
