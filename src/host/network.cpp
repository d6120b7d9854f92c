#include "host/network.hpp"

#include <arpa/inet.h>
#include <linux/netlink.h>
#include <linux/rtnetlink.h>
#include <sys/socket.h>
#include <unistd.h>

#include <array>
#include <cstdio>
#include <cstring>
#include <map>
#include <nlohmann/json.hpp>

namespace wavecrest::host {
namespace {

using Json = nlohmann::json;

// Does a rule's expression speak about this port? Nothing when it asks for something that isn't known here.
std::optional<bool> matches(const Json& match, Transport transport, std::uint16_t port) {
    const Json left = match.value("left", Json()), right = match.value("right", Json());
    const auto is_port = [&](const Json& value) {
        if (value.is_number_integer()) return value.get<std::int64_t>() == port;
        if (value.is_object() && value.contains("range") && value["range"].size() == 2)
            return value["range"][0].is_number_integer() && value["range"][1].is_number_integer() &&
                   value["range"][0].get<std::int64_t>() <= port && port <= value["range"][1].get<std::int64_t>();
        return false;
    };
    const bool negated = match.value("op", "==") == "!=";
    if (left.is_object() && left.contains("payload") && left["payload"].is_object()) {
        const std::string protocol = left["payload"].value("protocol", ""), field = left["payload"].value("field", "");
        if (field != "dport") return std::nullopt;
        const bool fits = protocol == "th" || protocol == (transport == Transport::tcp ? "tcp" : "udp");
        bool listed = is_port(right);
        if (right.is_object() && right.contains("set") && right["set"].is_array()) {
            for (const Json& one : right["set"]) listed = listed || is_port(one);
        }
        return fits && listed != negated;
    }
    if (left.is_object() && left.contains("meta")) {
        const std::string key = left["meta"].value("key", "");
        // Devices come by another interface than loopback.
        if (key == "iif" || key == "iifname") {
            const bool loopback = right.is_string() && right.get<std::string>() == "lo";
            return loopback ? std::optional(negated) : std::nullopt;
        }
        if (key == "l4proto") {
            const std::string wanted = transport == Transport::tcp ? "tcp" : "udp";
            bool listed = right.is_string() && right.get<std::string>() == wanted;
            if (right.is_object() && right.contains("set")) {
                for (const Json& one : right["set"]) listed = listed || one == wanted;
            }
            return listed != negated;
        }
        return std::nullopt;
    }
    // A new connection is neither established nor related to one.
    if (left.is_object() && left.contains("ct")) {
        if (left["ct"].value("key", "") != "state") return std::nullopt;
        const std::string text = right.dump();
        return (text.find("\"new\"") != std::string::npos) != negated;
    }
    return std::nullopt;
}

}  // namespace

std::optional<std::uint32_t> lease_seconds(const std::string& address) {
    std::array<unsigned char, 16> wanted{};
    const bool v6 = ::inet_pton(AF_INET6, address.c_str(), wanted.data()) == 1;
    if (!v6 && ::inet_pton(AF_INET, address.c_str(), wanted.data()) != 1) return std::nullopt;
    const int handle = ::socket(AF_NETLINK, SOCK_RAW | SOCK_CLOEXEC, NETLINK_ROUTE);
    if (handle < 0) return std::nullopt;
    struct {
        nlmsghdr header;
        ifaddrmsg body;
    } request{};
    request.header.nlmsg_len = NLMSG_LENGTH(sizeof(ifaddrmsg));
    request.header.nlmsg_type = RTM_GETADDR;
    request.header.nlmsg_flags = NLM_F_REQUEST | NLM_F_DUMP;
    request.body.ifa_family = v6 ? AF_INET6 : AF_INET;
    std::optional<std::uint32_t> lease;
    bool done = ::send(handle, &request, request.header.nlmsg_len, 0) < 0;
    alignas(nlmsghdr) std::array<char, 32768> buffer{};
    while (!done) {
        const ssize_t n = ::recv(handle, buffer.data(), buffer.size(), 0);
        if (n <= 0) break;
        auto left = static_cast<unsigned>(n);
        for (auto* message = reinterpret_cast<nlmsghdr*>(buffer.data()); NLMSG_OK(message, left);
             message = NLMSG_NEXT(message, left)) {
            if (message->nlmsg_type == NLMSG_DONE || message->nlmsg_type == NLMSG_ERROR) {
                done = true;
                break;
            }
            const auto* entry = static_cast<ifaddrmsg*>(NLMSG_DATA(message));
            auto rest = static_cast<int>(IFA_PAYLOAD(message));
            bool ours = false;
            std::uint32_t valid = 0xFFFFFFFF;
            for (auto* attribute = IFA_RTA(entry); RTA_OK(attribute, rest); attribute = RTA_NEXT(attribute, rest)) {
                const auto size = static_cast<std::size_t>(RTA_PAYLOAD(attribute));
                const std::size_t length = v6 ? 16 : 4;
                if ((attribute->rta_type == IFA_ADDRESS || attribute->rta_type == IFA_LOCAL) && size >= length)
                    ours = ours || std::memcmp(RTA_DATA(attribute), wanted.data(), length) == 0;
                if (attribute->rta_type == IFA_CACHEINFO && size >= sizeof(ifa_cacheinfo))
                    valid = static_cast<ifa_cacheinfo*>(RTA_DATA(attribute))->ifa_valid;
            }
            if (ours && valid != 0xFFFFFFFF) lease = valid;
        }
    }
    ::close(handle);
    return lease;
}

FirewallAnswer judge_ruleset(std::string_view text, Transport transport, std::uint16_t port) {
    const Json ruleset = Json::parse(text, nullptr, false);
    if (!ruleset.is_object() || !ruleset.contains("nftables"))
        return {FirewallAnswer::Kind::unknown, "the firewall's rules can't be read"};
    struct Chain {
        std::string name;
        bool input = false, drops = false;
        int priority = 0;
        std::vector<const Json*> rules;
    };
    std::map<std::string, Chain> chains;
    const auto key_of = [](const Json& one, const char* chain) {
        return one.value("family", "") + " " + one.value("table", "") + " " + one.value(chain, "");
    };
    for (const Json& entry : ruleset["nftables"]) {
        if (entry.contains("chain")) {
            const Json& chain = entry["chain"];
            Chain& made = chains[key_of(chain, "name")];
            made.name = chain.value("table", "") + " " + chain.value("name", "");
            made.input = chain.value("hook", "") == "input" && chain.value("type", "") == "filter" &&
                         chain.value("family", "") != "ip6";
            made.drops = chain.value("policy", "accept") == "drop";
        } else if (entry.contains("rule")) {
            chains[key_of(entry["rule"], "chain")].rules.push_back(&entry["rule"]);
        }
    }
    // What a chain does in the end: its rules in their order, chains they go to included.
    enum class Fate { accept, drop, goes_on };
    const auto walk = [&](const auto& self, const std::string& key, int depth) -> Fate {
        const auto found = chains.find(key);
        if (found == chains.end() || depth > 16) return Fate::goes_on;
        for (const Json* rule : found->second.rules) {
            bool fits = true;
            for (const Json& expression : rule->value("expr", Json::array())) {
                if (expression.contains("match")) {
                    fits = fits && matches(expression["match"], transport, port).value_or(false);
                    continue;
                }
                if (!fits) break;
                if (expression.contains("accept")) return Fate::accept;
                if (expression.contains("drop") || expression.contains("reject")) return Fate::drop;
                if (expression.contains("return")) return Fate::goes_on;
                for (const char* way : {"jump", "goto"}) {
                    if (!expression.contains(way)) continue;
                    Json target = *rule;
                    target["chain"] = expression[way].value("target", "");
                    const Fate fate = self(self, key_of(target, "chain"), depth + 1);
                    if (fate != Fate::goes_on) return fate;
                }
            }
        }
        return Fate::goes_on;
    };
    for (const auto& [key, chain] : chains) {
        if (!chain.input) continue;
        const Fate fate = walk(walk, key, 0);
        if (fate == Fate::drop || (fate == Fate::goes_on && chain.drops))
            return {FirewallAnswer::Kind::closed, "the chain " + chain.name + " lets nothing in there"};
    }
    return {FirewallAnswer::Kind::open, ""};
}

FirewallAnswer firewall(Transport transport, std::uint16_t port) {
    for (const char* program : {"/usr/sbin/nft", "/sbin/nft"}) {
        if (::access(program, X_OK) != 0) continue;
        if (::geteuid() != 0) return {FirewallAnswer::Kind::unknown, "only root may read the firewall's rules"};
        FILE* pipe = ::popen((std::string(program) + " --json list ruleset 2>/dev/null").c_str(), "re");
        if (pipe == nullptr) break;
        std::string text;
        std::array<char, 8192> buffer{};
        while (const std::size_t n = std::fread(buffer.data(), 1, buffer.size(), pipe)) text.append(buffer.data(), n);
        if (::pclose(pipe) != 0) return {FirewallAnswer::Kind::unknown, "the firewall's rules can't be read"};
        return judge_ruleset(text, transport, port);
    }
    return {FirewallAnswer::Kind::unknown, "there is no program to read the firewall's rules with (nft)"};
}

}  // namespace wavecrest::host
