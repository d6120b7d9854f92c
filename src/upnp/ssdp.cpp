#include "upnp/ssdp.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <charconv>
#include <condition_variable>
#include <random>
#include <set>
#include <thread>

#include "base/mutex.hpp"
#include "host/network.hpp"
#include "net/url.hpp"

namespace wavecrest::upnp {
namespace {

using Clock = std::chrono::steady_clock;
using std::chrono::milliseconds;

constexpr std::size_t kMostAnswers = 512, kMostLine = 1024;
constexpr int kMaxAge = 1800;
constexpr auto kLookAtNetwork = std::chrono::seconds(3);

std::string upper(std::string_view text) {
    std::string result(text);
    for (char& c : result) c = static_cast<char>(std::toupper(static_cast<unsigned char>(c)));
    return result;
}
std::string_view trimmed(std::string_view text) {
    while (!text.empty() && (text.front() == ' ' || text.front() == '\t')) text.remove_prefix(1);
    while (!text.empty() && (text.back() == ' ' || text.back() == '\t')) text.remove_suffix(1);
    return text;
}
int number(std::string_view text, int otherwise) {
    int value = otherwise;
    std::from_chars(text.data(), text.data() + text.size(), value);
    return value;
}

}  // namespace

std::optional<SsdpMessage> parse_ssdp(std::string_view datagram) {
    SsdpMessage message;
    bool discover = false;
    std::string notification;
    for (bool first = true; !datagram.empty(); first = false) {
        const std::size_t end = datagram.find('\n');
        std::string_view line = datagram.substr(0, end);
        datagram.remove_prefix(end == std::string_view::npos ? datagram.size() : end + 1);
        if (!line.empty() && line.back() == '\r') line.remove_suffix(1);
        if (line.size() > kMostLine) return std::nullopt;
        if (first) {
            const std::string start = upper(line);
            if (start.starts_with("M-SEARCH * HTTP/1.")) {
                message.kind = SsdpMessage::Kind::search;
            } else if (start.starts_with("NOTIFY * HTTP/1.")) {
                message.kind = SsdpMessage::Kind::alive;
            } else if (!start.starts_with("HTTP/1.1 200") && !start.starts_with("HTTP/1.0 200")) {
                return std::nullopt;
            }
            continue;
        }
        if (line.empty()) break;
        const std::size_t colon = line.find(':');
        if (colon == std::string_view::npos) continue;
        const std::string name = upper(trimmed(line.substr(0, colon)));
        const std::string value(trimmed(line.substr(colon + 1)));
        if (name == "ST" || name == "NT") message.target = value;
        if (name == "USN") message.usn = value;
        if (name == "LOCATION") message.location = value;
        if (name == "SERVER") message.server = value;
        if (name == "MX") message.mx = std::clamp(number(value, 1), 0, 120);
        if (name == "MAN") discover = value == "\"ssdp:discover\"" || value == "ssdp:discover";
        if (name == "NTS") notification = value;
        if (name == "CACHE-CONTROL") {
            const std::string lower = upper(value);
            if (const std::size_t at = lower.find("MAX-AGE"); at != std::string::npos) {
                const std::size_t equals = value.find('=', at);
                if (equals != std::string::npos) message.max_age = number(trimmed(value.substr(equals + 1)), kMaxAge);
            }
        }
    }
    using Kind = SsdpMessage::Kind;
    if (message.kind == Kind::search)
        return discover && !message.target.empty() ? std::optional(message) : std::nullopt;
    if (message.kind == Kind::alive) {
        if (notification == "ssdp:byebye")
            message.kind = Kind::byebye;
        else if (notification != "ssdp:alive" && notification != "ssdp:update")
            return std::nullopt;
    }
    if (message.usn.empty() || (message.kind != Kind::byebye && message.location.empty())) return std::nullopt;
    return message;
}

std::string write_ssdp(const SsdpMessage& m, bool ipv6) {
    using Kind = SsdpMessage::Kind;
    const std::string group =
        ipv6 ? fmt::format("[{}]:{}", kSsdpGroupIpv6, kSsdpPort) : fmt::format("{}:{}", kSsdpGroup, kSsdpPort);
    switch (m.kind) {
        case Kind::search:  // 1.3.2
            return fmt::format(
                "M-SEARCH * HTTP/1.1\r\nHOST: {}\r\nMAN: \"ssdp:discover\"\r\nMX: {}\r\nST: {}\r\n"
                "USER-AGENT: {}\r\n\r\n",
                group, m.mx, m.target, kServerField);
        case Kind::alive:  // 1.2.2
            return fmt::format(
                "NOTIFY * HTTP/1.1\r\nHOST: {}\r\nCACHE-CONTROL: max-age={}\r\nLOCATION: {}\r\nNT: {}\r\n"
                "NTS: ssdp:alive\r\nSERVER: {}\r\nUSN: {}\r\n\r\n",
                group, m.max_age, m.location, m.target, kServerField, m.usn);
        case Kind::byebye:  // 1.2.3
            return fmt::format("NOTIFY * HTTP/1.1\r\nHOST: {}\r\nNT: {}\r\nNTS: ssdp:byebye\r\nUSN: {}\r\n\r\n", group,
                               m.target, m.usn);
        case Kind::response:  // 1.3.3
            return fmt::format(
                "HTTP/1.1 200 OK\r\nCACHE-CONTROL: max-age={}\r\nEXT:\r\nLOCATION: {}\r\nSERVER: {}\r\n"
                "ST: {}\r\nUSN: {}\r\nContent-Length: 0\r\n\r\n",
                m.max_age, m.location, kServerField, m.target, m.usn);
    }
    return "";
}

std::string udn_of(std::string_view usn) {
    if (!usn.starts_with("uuid:")) return "";
    return std::string(usn.substr(0, usn.find("::")));
}

bool is_senders_own(const std::string& location, const net::UdpEnd& from) {
    const auto parts = net::split_address(location);
    return parts && parts->scheme == "http" && parts->host == from.address.substr(0, from.address.find('%'));
}

Status search(const SearchSettings& settings, const std::function<void(const SearchAnswer&)>& on_answer,
              const Cancel& cancel) {
    WAVECREST_TRY_ASSIGN(interfaces, net::multicast_interfaces(settings.interface));
    struct Asking {
        std::unique_ptr<net::UdpSocket> socket;
        bool ipv6;
    };
    std::vector<Asking> asking;
    for (const net::MulticastInterface& one : interfaces) {
        for (const bool ipv6 : {false, true}) {
            if ((ipv6 ? one.ipv6 : one.ipv4).empty()) continue;
            net::UdpSocket::Settings wanted;
            wanted.ipv6 = ipv6;
            wanted.interface = one.index;
            if (!ipv6) wanted.address = one.ipv4;
            if (auto socket = net::UdpSocket::open(wanted)) asking.push_back({std::move(*socket), ipv6});
        }
    }
    if (asking.empty())
        return fail(ErrorKind::machine, "there is no network to search", "network",
                    "connect this machine to the house's network");

    // Searches may get lost: three of them, a third of the time apart, as clause 1.3.2 advises.
    SsdpMessage question;
    question.kind = SsdpMessage::Kind::search;
    question.target = settings.target;
    question.mx = 1;
    const auto begin = Clock::now();
    const auto length = std::chrono::duration_cast<milliseconds>(settings.length);
    std::set<std::pair<std::string, std::string>> seen;
    bool ever_sent = false;
    for (int asked = 0; Clock::now() - begin < length;) {
        if (cancel.requested()) return base::interrupted();
        if (settings.enough && settings.enough()) break;
        if (asked < 3 && Clock::now() - begin >= asked * length / 4) {
            ++asked;
            for (const Asking& one : asking) {
                const net::UdpEnd group{one.ipv6 ? kSsdpGroupIpv6 : kSsdpGroup, kSsdpPort};
                ever_sent = one.socket->send(group, write_ssdp(question, one.ipv6)) || ever_sent;
            }
            if (!ever_sent)
                return fail(ErrorKind::machine, "multicast can't be sent by any network interface", "network",
                            "check the cable or Wi-Fi, and whether the network has a route for 239.0.0.0/8");
        }
        for (const Asking& one : asking) {
            for (const net::UdpSocket::Datagram& datagram :
                 one.socket->receive(milliseconds(asking.size() > 2 ? 5 : 20))) {
                const auto message = parse_ssdp(datagram.text);
                if (!message || message->kind != SsdpMessage::Kind::response) continue;
                if (!is_senders_own(message->location, datagram.from)) continue;
                if (seen.size() >= kMostAnswers || !seen.emplace(message->usn, message->location).second) continue;
                on_answer({*message, datagram.from});
            }
        }
    }
    return {};
}

namespace {

class RunningAdvertiser : public Advertiser {
  public:
    explicit RunningAdvertiser(Settings settings) : settings_(std::move(settings)), random_(std::random_device{}()) {}

    Status open() {
        WAVECREST_TRY_ASSIGN(interfaces, net::multicast_interfaces(settings_.interface));
        WAVECREST_TRY(listen_at(std::move(interfaces)));
        thread_ = std::thread([this] { run(); });
        return {};
    }
    ~RunningAdvertiser() override {
        cancel_.request();
        if (thread_.joinable()) thread_.join();
    }

  private:
    struct Due {
        Clock::time_point at;
        net::UdpEnd to;
        unsigned interface;
        SsdpMessage message;
    };

    // From now on at these.
    Status listen_at(std::vector<net::MulticastInterface> interfaces) {
        std::vector<std::unique_ptr<net::UdpSocket>> listening;
        Error error;
        for (const bool ipv6 : {false, true}) {
            net::UdpSocket::Settings wanted;
            wanted.ipv6 = ipv6;
            wanted.port = kSsdpPort;
            wanted.shared = true;
            auto socket = net::UdpSocket::open(wanted);
            if (!socket) {
                error = socket.error();
                continue;
            }
            bool any = false;
            for (const net::MulticastInterface& one : interfaces) {
                if (!(ipv6 ? one.ipv6 : one.ipv4).empty())
                    any = (*socket)->join(ipv6 ? kSsdpGroupIpv6 : kSsdpGroup, one.index) || any;
            }
            if (any) listening.push_back(std::move(*socket));
        }
        if (listening.empty()) {
            if (error.what.empty())
                return fail(ErrorKind::machine, "no network interface takes multicast", "network",
                            "connect this machine to the house's network");
            return fail(std::move(error));
        }
        interfaces_ = std::move(interfaces);
        listening_ = std::move(listening);
        return {};
    }
    // A machine that boots has its network later, and its address may change. Whether it is another now.
    bool follow_network() {
        auto interfaces = net::multicast_interfaces(settings_.interface);
        return interfaces && *interfaces != interfaces_ && listen_at(std::move(*interfaces));
    }

    std::string usn(const std::string& target) const {
        return target == settings_.udn ? target : fmt::format("{}::{}", settings_.udn, target);
    }
    // What it is found by (1.2.2): the root device, itself, and its types.
    std::vector<std::string> all_targets() const {
        std::vector<std::string> all = {"upnp:rootdevice", settings_.udn};
        all.insert(all.end(), settings_.targets.begin(), settings_.targets.end());
        return all;
    }
    // As hosts reach it by this interface; empty where it has no address for that.
    std::string location(unsigned interface, bool ipv6) const {
        for (const net::MulticastInterface& one : interfaces_) {
            const std::string& address = ipv6 ? one.ipv6 : one.ipv4;
            if (one.index == interface && !address.empty())
                return fmt::format("http://{}{}", net::authority(address, settings_.port, 80), settings_.path);
        }
        return "";
    }
    // Of a search, what fits: a type of a lower version is answered, too (1.3.3), as it was asked for.
    std::vector<std::string> answers_to(const std::string& wanted) const {
        if (wanted == "ssdp:all") return all_targets();
        for (const std::string& target : all_targets()) {
            if (wanted == target) return {wanted};
            const std::size_t ours = target.rfind(':'), theirs = wanted.rfind(':');
            if (target.starts_with("urn:") && theirs != std::string::npos && theirs == ours &&
                wanted.substr(0, theirs) == target.substr(0, ours) &&
                number(std::string_view(wanted).substr(theirs + 1), 99) <=
                    number(std::string_view(target).substr(ours + 1), 0))
                return {wanted};
        }
        return {};
    }

    void announce(SsdpMessage::Kind kind) {
        for (const net::MulticastInterface& one : interfaces_) {
            for (const bool ipv6 : {false, true}) {
                SsdpMessage message;
                message.kind = kind;
                message.location = location(one.index, ipv6);
                message.max_age = kMaxAge;
                net::UdpSocket::Settings wanted;
                wanted.ipv6 = ipv6;
                wanted.interface = one.index;
                if (!ipv6) wanted.address = one.ipv4;
                const auto socket = message.location.empty() ? nullptr : net::UdpSocket::open(wanted).value_or(nullptr);
                if (!socket) continue;
                for (const std::string& target : all_targets()) {
                    message.target = target;
                    message.usn = usn(target);
                    socket->send({ipv6 ? kSsdpGroupIpv6 : kSsdpGroup, kSsdpPort}, write_ssdp(message, ipv6));
                }
            }
        }
    }

    void run() {
        auto next = Clock::now(), look = next + kLookAtNetwork;
        int announced = 0;
        while (!cancel_.requested()) {
            if (Clock::now() >= look) {
                look = Clock::now() + kLookAtNetwork;
                if (follow_network()) {
                    next = Clock::now();
                    announced = 0;
                }
            }
            if (Clock::now() >= next) {
                announce(SsdpMessage::Kind::alive);
                // Once more soon, since it may get lost; then well before it is over.
                next = Clock::now() + (++announced < 3 ? std::chrono::seconds(1) : std::chrono::seconds(kMaxAge / 3));
            }
            for (const auto& socket : listening_) {
                for (const auto& datagram : socket->receive(milliseconds(listening_.size() > 1 ? 25 : 50)))
                    take(datagram);
            }
            for (std::size_t i = 0; i < due_.size();) {
                if (due_[i].at > Clock::now()) {
                    ++i;
                    continue;
                }
                net::UdpSocket::Settings wanted;
                wanted.ipv6 = due_[i].to.ipv6();
                wanted.interface = due_[i].interface;
                // From the address that the location has: others are not believed.
                for (const net::MulticastInterface& one : interfaces_) {
                    if (one.index == wanted.interface && !wanted.ipv6) wanted.address = one.ipv4;
                }
                if (const auto socket = net::UdpSocket::open(wanted))
                    (*socket)->send(due_[i].to, write_ssdp(due_[i].message));
                due_.erase(due_.begin() + static_cast<std::ptrdiff_t>(i));
            }
        }
        announce(SsdpMessage::Kind::byebye);
    }

    void take(const net::UdpSocket::Datagram& datagram) {
        const auto message = parse_ssdp(datagram.text);
        if (!message || message->kind != SsdpMessage::Kind::search) return;
        // Answers go nowhere but to the local networks, and not to a crowd.
        if (!host::on_local_network(datagram.from.address) || due_.size() > 200) return;
        const bool ipv6 = datagram.from.ipv6();
        const std::string at = location(datagram.interface, ipv6);
        if (at.empty()) return;
        const auto targets = answers_to(message->target);
        if (!targets.empty() && settings_.on_search) settings_.on_search(datagram.from.address);
        std::uniform_int_distribution<int> spread(0, std::clamp(message->mx, 1, 5) * 500);
        for (const std::string& target : targets) {
            SsdpMessage answer;
            answer.target = target;
            answer.usn = usn(target);
            answer.location = at;
            answer.max_age = kMaxAge;
            due_.push_back({Clock::now() + milliseconds(spread(random_)), datagram.from, datagram.interface, answer});
        }
    }
    Settings settings_;
    std::vector<net::MulticastInterface> interfaces_;
    std::vector<std::unique_ptr<net::UdpSocket>> listening_;
    std::vector<Due> due_;
    std::minstd_rand random_;
    Cancel cancel_;
    std::thread thread_;
};

}  // namespace

Result<std::unique_ptr<Advertiser>> Advertiser::start(Settings settings) {
    auto made = std::make_unique<RunningAdvertiser>(std::move(settings));
    WAVECREST_TRY(made->open());
    return std::unique_ptr<Advertiser>(std::move(made));
}

}  // namespace wavecrest::upnp
