#include "share/find.hpp"

#include <arpa/inet.h>
#include <fmt/format.h>
#include <netdb.h>
#include <sys/socket.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <atomic>
#include <cerrno>
#include <chrono>
#include <map>
#include <random>
#include <set>
#include <thread>

#include "base/file.hpp"
#include "host/network.hpp"
#include "net/dns_sd.hpp"
#include "net/http_client.hpp"
#include "net/udp_socket.hpp"
#include "net/wire.hpp"
#include "share/client.hpp"
#include "share/netbios.hpp"
#include "share/onc_rpc.hpp"
#include "share/smb_probe.hpp"
#include "share/ws_discovery.hpp"

namespace wavecrest::share {
namespace {

using Steady = std::chrono::steady_clock;
using namespace std::chrono_literals;

constexpr std::size_t kMostHosts = 64;
constexpr std::size_t kAtOnce = 12;
const Time kConnect = base::from_seconds(0.7), kAnswer = base::from_seconds(6);
constexpr std::uint16_t kSmbPort = 445, kNfsPort = 2049;

// Who may be a file server, by address.
struct Candidate {
    std::string name;
    std::set<std::string> ways;
};
using Candidates = std::map<std::string, Candidate>;

void add(Candidates& all, const std::string& address, const std::string& name, const char* way) {
    const bool known = all.count(address) > 0;
    if (!known && all.size() >= kMostHosts) return;
    Candidate& one = all[address];
    if (one.name.empty()) one.name = name;
    one.ways.insert(way);
}

std::string random_id() {
    std::random_device random;
    return fmt::format("{:08x}-{:04x}-4{:03x}-8{:03x}-{:08x}{:04x}", random(), random() & 0xFFFF, random() & 0xFFF,
                       random() & 0xFFF, random(), random() & 0xFFFF);
}

// Questions go out by every interface, and answers are collected until the time is over.
class Asking {
  public:
    Asking(std::vector<net::MulticastInterface> interfaces, const Cancel& cancel)
        : interfaces_(std::move(interfaces)), cancel_(cancel) {}

    void by_ws_discovery(Candidates& all, Steady::time_point until) const {
        std::vector<std::unique_ptr<net::UdpSocket>> sockets;
        for (const net::MulticastInterface& one : interfaces_) {
            if (one.ipv4.empty()) continue;
            net::UdpSocket::Settings settings;
            settings.interface = one.index;
            if (!one.loopback) settings.address = one.ipv4;
            auto socket = net::UdpSocket::open(settings);
            if (!socket) continue;
            (*socket)->send({kWsGroup, kWsPort}, ws_probe(random_id()));
            sockets.push_back(std::move(*socket));
        }
        while (!sockets.empty() && Steady::now() < until && !cancel_.requested()) {
            for (const auto& socket : sockets) {
                for (const net::UdpSocket::Datagram& datagram : socket->receive(50ms)) {
                    for (const WsHost& host : parse_probe_matches(datagram.text))
                        add(all, datagram.from.address, ws_name(host, datagram.from.address), "WS-Discovery");
                }
            }
        }
    }

    void by_netbios(Candidates& all, Steady::time_point until) const {
        const auto number = static_cast<std::uint16_t>(std::random_device()());
        std::vector<std::unique_ptr<net::UdpSocket>> sockets;
        for (const net::MulticastInterface& one : interfaces_) {
            if (one.broadcast.empty()) continue;
            net::UdpSocket::Settings settings;
            settings.address = one.ipv4;
            auto socket = net::UdpSocket::open(settings);
            if (!socket) continue;
            (*socket)->send({one.broadcast, kNetBiosPort}, netbios_query(number));
            sockets.push_back(std::move(*socket));
        }
        std::set<std::string> asked;
        while (!sockets.empty() && Steady::now() < until && !cancel_.requested()) {
            for (const auto& socket : sockets) {
                for (const net::UdpSocket::Datagram& datagram : socket->receive(50ms)) {
                    if (!is_netbios_answer(datagram.text, number)) continue;
                    const NetBiosNames names = parse_netbios_status(datagram.text);
                    add(all, datagram.from.address, names.computer, "NetBIOS");
                    if (asked.insert(datagram.from.address).second && asked.size() <= kMostHosts)
                        socket->send({datagram.from.address, kNetBiosPort}, netbios_status_query(number));
                }
            }
        }
    }

  private:
    // By its metadata, from the host that answered and no other.
    static std::string ws_name(const WsHost& host, const std::string& from) {
        for (const std::string& address : host.addresses) {
            const auto url = net::parse_url(address);
            if (!url || url->host != from) continue;
            net::HttpExchange request;
            request.method = "POST";
            request.media_type = "application/soap+xml";
            request.body = ws_get(random_id(), host.endpoint);
            request.most = 64 << 10;
            request.limit = base::from_seconds(1);
            const auto answered = net::HttpClient::exchange(*url, request);
            if (answered) return parse_ws_computer(answered->body).name;
        }
        return {};
    }

    const std::vector<net::MulticastInterface> interfaces_;
    const Cancel& cancel_;
};

// Hosts this machine has talked to lately (proc(5), /proc/net/arp).
std::vector<std::string> neighbours(const std::vector<net::MulticastInterface>& interfaces) {
    std::vector<std::string> found;
    const auto text = base::read_text_file("/proc/net/arp");
    if (!text) return found;
    std::size_t at = text->find('\n');
    while (at != std::string::npos && at + 1 < text->size()) {
        const std::size_t end = std::min(text->find('\n', at + 1), text->size());
        const std::string line = text->substr(at + 1, end - at - 1);
        at = end;
        const std::string address = line.substr(0, line.find(' '));
        const std::string device = line.substr(line.find_last_of(" \t") + 1);
        const bool wanted =
            std::any_of(interfaces.begin(), interfaces.end(), [&](const auto& one) { return one.name == device; });
        if (wanted && line.find("00:00:00:00:00:00") == std::string::npos) found.push_back(address);
    }
    return found;
}

std::string resolved(const std::string& host) {
    addrinfo hints{};
    hints.ai_socktype = SOCK_STREAM;
    addrinfo* found = nullptr;
    if (::getaddrinfo(host.c_str(), nullptr, &hints, &found) != 0 || found == nullptr) return {};
    std::array<char, 64> text{};
    ::getnameinfo(found->ai_addr, found->ai_addrlen, text.data(), text.size(), nullptr, 0, NI_NUMERICHOST);
    ::freeaddrinfo(found);
    return text.data();
}

bool is_open(const std::string& host, std::uint16_t port) {
    const auto socket = net::connect_tcp(host, port, kConnect);
    if (socket) ::close(*socket);
    return socket.has_value();
}

void ask_smb(FoundServer& server, const Accounts& accounts) {
    Location at;
    at.host = server.address;
    // (An account may be kept by the server's name.)
    Account account = accounts.find(at);
    if (account.is_guest() && !server.name.empty()) {
        Location named = at;
        named.host = server.name;
        account = accounts.find(named);
    }
    const auto probe = probe_smb(server.address, kSmbPort, account, kAnswer);
    if (!probe) {
        server.problem = probe.error().what;
        return;
    }
    server.smb = probe->greeting.version();
    if (server.name.empty()) server.name = probe->logon->server_name;
    if (!probe->logon->let_in()) {
        server.problem = account.is_guest() ? "lists its shares only to users: --user with share prove"
                                            : "the account that is kept: " + probe->logon->reason();
        return;
    }
    const auto shares = make_smb_client(at, account, kAnswer)->list("");
    if (!shares) {
        server.problem = shares.error() == EACCES || shares.error() == EPERM
                             ? "lists its shares only to users: share prove SERVER/SHARE --user NAME"
                             : "its shares can't be listed: " + base::system_reason(shares.error());
        return;
    }
    for (const Entry& one : *shares) {
        FoundShare share;
        share.name = one.name;
        at.share = one.name;
        share.address = at.text();
        const auto top = make_smb_client(at, account, kAnswer)->list("");
        share.access = top ? account.is_guest() ? FoundShare::Access::guest : FoundShare::Access::account
                       : top.error() == EACCES || top.error() == EPERM ? FoundShare::Access::needs_account
                                                                       : FoundShare::Access::unknown;
        server.shares.push_back(std::move(share));
    }
}

void ask_nfs(FoundServer& server) {
    const auto versions = nfs_versions(server.address, kNfsPort, kAnswer);
    if (!versions || versions->empty()) return;
    for (const int version : *versions) server.nfs += fmt::format("{}NFS {}", server.nfs.empty() ? "" : ", ", version);
    Location at;
    at.scheme = base::Scheme::nfs;
    at.host = server.address;
    const auto exports = nfs_exports(server.address, kAnswer);
    for (const NfsExport& one : exports.value_or(std::vector<NfsExport>())) {
        FoundShare share;
        share.name = one.path;
        share.address = at.text_of(one.path.substr(one.path.starts_with("/") ? 1 : 0));
        share.exported = true;
        share.to = fmt::format("{}", fmt::join(one.to, " "));
        server.shares.push_back(std::move(share));
    }
    if (!server.shares.empty()) return;
    // NFS 4 alone: what is at the top of its pseudo file system (RFC 7530, 7).
    const auto top = make_nfs_client(at, kAnswer)->list("");
    for (const Entry& one : top.value_or(std::vector<Entry>())) {
        FoundShare share;
        share.name = "/" + one.name;
        share.address = at.text_of(one.name);
        server.shares.push_back(std::move(share));
    }
}

}  // namespace

Result<FoundServers> find_servers(const FindSettings& settings, const Cancel& cancel) {
    FoundServers found;
    Candidates candidates;
    if (!settings.hosts.empty()) {
        for (const std::string& host : settings.hosts) {
            const std::string address = resolved(host);
            if (address.empty()) {
                found.notes.push_back(fmt::format("host name \"{}\" not found (DNS, mDNS)", host));
            } else {
                add(candidates, address, address == host ? "" : host, "named");
            }
        }
    } else {
        WAVECREST_TRY_ASSIGN(interfaces, net::multicast_interfaces(settings.interface));
        const auto until = Steady::now() + std::chrono::duration_cast<Steady::duration>(
                                               std::chrono::duration<double>(base::to_seconds(settings.length)));
        const Asking asking(interfaces, cancel);
        Candidates by_ws, by_netbios;
        net::DnsServices services;
        std::thread ws([&] { asking.by_ws_discovery(by_ws, until); });
        std::thread netbios([&] { asking.by_netbios(by_netbios, until); });
        services = net::browse_services({"_smb._tcp", "_nfs._tcp"}, settings.length, cancel);
        ws.join();
        netbios.join();
        if (!services.unavailable.empty()) found.notes.push_back("not searched by DNS-SD: " + services.unavailable);
        for (const net::DnsService& one : services.services) add(candidates, one.address, one.name, "DNS-SD");
        for (const Candidates* others : {&by_ws, &by_netbios}) {
            for (const auto& [address, one] : *others) {
                for (const std::string& way : one.ways) add(candidates, address, one.name, way.c_str());
            }
        }
        for (const std::string& address : neighbours(interfaces)) add(candidates, address, "", "neighbour");
        std::erase_if(candidates, [](const auto& one) { return !host::on_local_network(one.first); });
    }
    if (cancel.requested()) return base::interrupted();
    // Several at once, each by one thread.
    std::vector<FoundServer> servers;
    for (const auto& [address, one] : candidates)
        servers.push_back({one.name, address, fmt::format("{}", fmt::join(one.ways, ", ")), "", "", {}, ""});
    std::atomic<std::size_t> next = 0;
    std::vector<std::thread> threads;
    for (std::size_t i = 0; i < std::min(kAtOnce, servers.size()); ++i)
        threads.emplace_back([&] {
            for (std::size_t mine = next++; mine < servers.size() && !cancel.requested(); mine = next++) {
                FoundServer& server = servers[mine];
                if (is_open(server.address, kSmbPort)) ask_smb(server, settings.accounts);
                if (is_open(server.address, kNfsPort)) ask_nfs(server);
            }
        });
    for (std::thread& thread : threads) thread.join();
    if (cancel.requested()) return base::interrupted();
    for (FoundServer& server : servers) {
        if (!server.smb.empty() || !server.nfs.empty() || !server.problem.empty()) {
            found.servers.push_back(std::move(server));
        } else if (server.found_by == "named") {
            found.notes.push_back(fmt::format("{}: no file server answers on ports {} (SMB) and {} (NFS)",
                                              server.address, kSmbPort, kNfsPort));
        }
    }
    std::sort(found.servers.begin(), found.servers.end(), [](const FoundServer& a, const FoundServer& b) {
        return std::pair(a.name, a.address) < std::pair(b.name, b.address);
    });
    return found;
}

}  // namespace wavecrest::share
