#include "host/network.hpp"

#include <arpa/inet.h>
#include <ifaddrs.h>
#include <linux/netlink.h>
#include <linux/rtnetlink.h>
#include <net/if.h>
#include <netinet/in.h>
#include <sys/socket.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <fstream>
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

bool on_local_network(const std::string& address) {
    in_addr v4{};
    in6_addr v6{};
    const std::string digits = address.substr(0, address.find('%'));
    const bool is_v4 = ::inet_pton(AF_INET, digits.c_str(), &v4) == 1;
    if (!is_v4 && ::inet_pton(AF_INET6, digits.c_str(), &v6) != 1) return false;
    ifaddrs* list = nullptr;
    if (::getifaddrs(&list) != 0) return false;
    bool found = false;
    for (const ifaddrs* entry = list; entry != nullptr && !found; entry = entry->ifa_next) {
        if (entry->ifa_addr == nullptr || entry->ifa_netmask == nullptr || (entry->ifa_flags & IFF_UP) == 0) continue;
        if (is_v4 && entry->ifa_addr->sa_family == AF_INET) {
            const auto of = [](const sockaddr* a) { return reinterpret_cast<const sockaddr_in*>(a)->sin_addr.s_addr; };
            found = ((of(entry->ifa_addr) ^ v4.s_addr) & of(entry->ifa_netmask)) == 0;
        } else if (!is_v4 && entry->ifa_addr->sa_family == AF_INET6) {
            const auto of = [](const sockaddr* a) {
                return reinterpret_cast<const sockaddr_in6*>(a)->sin6_addr.s6_addr;
            };
            found = true;
            for (int i = 0; i < 16; ++i)
                found = found && ((of(entry->ifa_addr)[i] ^ v6.s6_addr[i]) & of(entry->ifa_netmask)[i]) == 0;
        }
    }
    ::freeifaddrs(list);
    return found;
}

std::optional<std::int64_t> wire_speed(const std::string& interface, const std::string& folder) {
    std::ifstream file(folder + "/" + interface + "/speed");
    std::int64_t megabits = 0;
    if (!(file >> megabits) || megabits <= 0) return std::nullopt;
    return megabits * 1'000'000;
}

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
    bool untold = false;
    // What a chain does in the end: its rules in their order, chains they go to included.
    enum class Fate { accept, drop, goes_on };
    const auto walk = [&](const auto& self, const std::string& key, int depth) -> Fate {
        const auto found = chains.find(key);
        if (found == chains.end() || depth > 16) return Fate::goes_on;
        for (const Json* rule : found->second.rules) {
            bool fits = true;
            for (const Json& expression : rule->value("expr", Json::array())) {
                // What iptables wrote and nft can't put into words is read by its own program.
                if (expression.contains("xt")) {
                    untold = true;
                    fits = false;
                }
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
    FirewallAnswer answer{FirewallAnswer::Kind::open, ""};
    for (const auto& [key, chain] : chains) {
        if (!chain.input) continue;
        untold = false;
        const Fate fate = walk(walk, key, 0);
        if (untold) {
            answer = {FirewallAnswer::Kind::unknown, "some rules are from iptables, which isn't installed"};
            continue;
        }
        if (fate == Fate::drop || (fate == Fate::goes_on && chain.drops))
            return {FirewallAnswer::Kind::closed, "the chain " + chain.name + " blocks it"};
    }
    return answer;
}

namespace {

// A rule of `iptables-save`: whether a new connection to the port, from another machine, fits it, and what then.
struct SavedRule {
    bool fits = true;
    std::string target;
    bool for_good = false;  // -g: what the target leaves open isn't taken up here again

    SavedRule(const std::vector<std::string>& words, Transport transport, std::uint16_t port) {
        const std::string protocol = transport == Transport::tcp ? "tcp" : "udp";
        bool negated = false;
        const auto require = [&](bool holds) {
            fits = fits && holds != negated;
            negated = false;
        };
        for (std::size_t i = 2; i < words.size(); ++i) {
            const std::string& word = words[i];
            const std::string value = i + 1 < words.size() ? words[i + 1] : "";
            if (word == "!") {
                negated = true;
            } else if (word == "-p") {
                require(value == protocol || value == "all");
                ++i;
            } else if (word == "-i") {
                // Devices come by another interface than loopback; by which, isn't known.
                require(value == "lo" ? false : negated);
                ++i;
            } else if (word == "--dport" || word == "--dports" || word == "--destination-port") {
                require(lists(value, port));
                ++i;
            } else if (word == "--state" || word == "--ctstate") {
                require(("," + value + ",").find(",NEW,") != std::string::npos);
                ++i;
            } else if (word == "-j" || word == "-g") {
                target = value;
                for_good = word == "-g";
                break;  // the rest is the target's
            } else if (word == "-m" || word == "--comment") {
                // `limit` and others decide from case to case.
                if (word == "-m" && value != "tcp" && value != "udp" && value != "multiport" && value != "state" &&
                    value != "conntrack" && value != "comment")
                    fits = false;
                ++i;
            } else {
                fits = false;
            }
        }
    }
    static bool lists(const std::string& value, std::uint16_t port) {
        for (std::size_t at = 0; at <= value.size();) {
            const std::size_t end = std::min(value.find(',', at), value.size());
            const std::string one = value.substr(at, end - at);
            const std::size_t colon = one.find(':');
            const auto number = [](const std::string& text, int otherwise) {
                return text.empty() ? otherwise : std::atoi(text.c_str());
            };
            const int from = number(one.substr(0, colon), 0);
            const int to = colon == std::string::npos ? from : number(one.substr(colon + 1), 65535);
            if (from <= port && port <= to) return true;
            at = end + 1;
        }
        return false;
    }
};

std::vector<std::string> words_of(std::string_view line) {
    std::vector<std::string> words;
    bool quoted = false, inside = false;
    for (const char c : line) {
        if (c == '"') {
            quoted = !quoted;
            if (!inside) words.emplace_back();
            inside = true;
        } else if (c == ' ' && !quoted) {
            inside = false;
        } else {
            if (!inside) words.emplace_back();
            inside = true;
            words.back() += c;
        }
    }
    return words;
}

// What a command prints; nothing when it fails.
std::optional<std::string> output_of(const std::string& command) {
    FILE* pipe = ::popen((command + " 2>/dev/null").c_str(), "re");
    if (pipe == nullptr) return std::nullopt;
    std::string text;
    std::array<char, 8192> buffer{};
    while (const std::size_t n = std::fread(buffer.data(), 1, buffer.size(), pipe)) text.append(buffer.data(), n);
    return ::pclose(pipe) == 0 ? std::optional(std::move(text)) : std::nullopt;
}

}  // namespace

FirewallAnswer judge_saved_rules(std::string_view text, Transport transport, std::uint16_t port) {
    std::map<std::string, std::vector<std::vector<std::string>>> chains;
    bool filter = false, drops = false;
    while (!text.empty()) {
        const std::size_t end = std::min(text.find('\n'), text.size());
        const std::string_view line = text.substr(0, end);
        text.remove_prefix(std::min(end + 1, text.size()));
        if (line.starts_with("*")) {
            filter = line == "*filter";
        } else if (filter && line.starts_with(":INPUT ")) {
            drops = line.starts_with(":INPUT DROP");
        } else if (filter && line.starts_with("-A ")) {
            auto words = words_of(line);
            if (words.size() > 2) chains[words[1]].push_back(std::move(words));
        }
    }
    enum class Fate { accept, drop, goes_on };
    const auto walk = [&](const auto& self, const std::string& chain, int depth) -> Fate {
        const auto found = chains.find(chain);
        if (found == chains.end() || depth > 16) return Fate::goes_on;
        for (const auto& words : found->second) {
            const SavedRule rule(words, transport, port);
            if (!rule.fits) continue;
            if (rule.target == "ACCEPT") return Fate::accept;
            if (rule.target == "DROP" || rule.target == "REJECT") return Fate::drop;
            if (rule.target == "RETURN") return Fate::goes_on;
            const Fate fate = self(self, rule.target, depth + 1);
            if (fate != Fate::goes_on || rule.for_good) return fate;
        }
        return Fate::goes_on;
    };
    const Fate fate = walk(walk, "INPUT", 0);
    if (fate == Fate::drop || (fate == Fate::goes_on && drops))
        return {FirewallAnswer::Kind::closed, "the chain INPUT blocks it"};
    return {FirewallAnswer::Kind::open, ""};
}

FirewallAnswer firewall(Transport transport, std::uint16_t port) {
    FirewallAnswer answer{FirewallAnswer::Kind::unknown, "no program to read the firewall's rules (nft, iptables)"};
    struct Reader {
        const char *program, *arguments;
        FirewallAnswer (*judge)(std::string_view, Transport, std::uint16_t);
    };
    // Each sees rules that the others don't, or reads them better: one that is closed is enough.
    static constexpr Reader kReaders[] = {{"nft", " --json list ruleset", judge_ruleset},
                                          {"iptables-nft-save", "", judge_saved_rules},
                                          {"iptables-legacy-save", "", judge_saved_rules}};
    for (const Reader& reader : kReaders) {
        for (const char* folder : {"/usr/sbin/", "/sbin/"}) {
            const std::string program = std::string(folder) + reader.program;
            if (::access(program.c_str(), X_OK) != 0) continue;
            if (::geteuid() != 0) return {FirewallAnswer::Kind::unknown, "only root may read the firewall's rules"};
            const auto text = output_of(program + reader.arguments);
            if (!text) {
                if (answer.kind == FirewallAnswer::Kind::unknown) answer.why = "the firewall's rules can't be read";
                break;
            }
            const FirewallAnswer one = reader.judge(*text, transport, port);
            if (one.kind == FirewallAnswer::Kind::closed) return one;
            if (one.kind == FirewallAnswer::Kind::open) answer = one;
            break;
        }
    }
    return answer;
}

}  // namespace wavecrest::host
