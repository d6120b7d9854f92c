#include "upnp/eventing.hpp"

#include <arpa/inet.h>
#include <fmt/format.h>
#include <netdb.h>
#include <sys/socket.h>
#include <unistd.h>

#include <algorithm>
#include <charconv>
#include <deque>
#include <optional>
#include <random>
#include <thread>

#include "base/log.hpp"
#include "base/mutex.hpp"
#include "host/network.hpp"
#include "net/http_client.hpp"
#include "net/url.hpp"
#include "upnp/xml.hpp"

namespace wavecrest::upnp {
namespace {

using Clock = std::chrono::steady_clock;

constexpr std::size_t kMostSubscribers = 128;
constexpr int kSeconds = 1800;  // of a subscription
constexpr int kMostFailures = 3;
constexpr auto kAfterAnswer = std::chrono::milliseconds(150);  // for the answer to a subscription to arrive

std::string random_id() {
    std::random_device random;
    std::string seed;
    for (int i = 0; i < 8; ++i) seed += fmt::format("{:08x}", random());
    return udn_from(seed);
}

std::string without_zone(const std::string& address) {
    return address.substr(0, address.find('%'));
}

// "Second-1800", "infinite".
int seconds_of(const std::string& timeout) {
    int seconds = kSeconds;
    constexpr std::string_view kPrefix = "Second-";
    if (timeout.starts_with(kPrefix))
        std::from_chars(timeout.data() + kPrefix.size(), timeout.data() + timeout.size(), seconds);
    return std::clamp(seconds, 30, kSeconds);
}

}  // namespace

std::string write_properties(const Arguments& properties) {
    std::string text =
        "<?xml version=\"1.0\" encoding=\"utf-8\"?>\n"
        "<e:propertyset xmlns:e=\"urn:schemas-upnp-org:event-1-0\">";
    for (const auto& [name, value] : properties)
        text += fmt::format("<e:property><{0}>{1}</{0}></e:property>", name, escaped(value));
    return text + "</e:propertyset>\n";
}

Result<Arguments> parse_properties(std::string_view xml) {
    pugi::xml_document document;
    WAVECREST_TRY(parse_xml(xml, "event", document));
    Arguments properties;
    for (const pugi::xml_node property : child(document, "propertyset").children()) {
        for (const pugi::xml_node one : property.children()) {
            if (one.type() == pugi::node_element && properties.size() < 64)
                properties.emplace_back(std::string(local_name(one)), std::string(one.text().get()));
        }
    }
    return properties;
}

std::string write_last_change(std::string_view service, const Arguments& variables) {
    const bool rendering = service.find("RenderingControl") != std::string_view::npos;
    std::string text = fmt::format("<Event xmlns=\"urn:schemas-upnp-org:metadata-1-0/{}/\"><InstanceID val=\"0\">",
                                   rendering ? "RCS" : "AVT");
    for (const auto& [name, value] : variables)
        text += fmt::format("<{}{} val=\"{}\"/>", name, name == "Volume" || name == "Mute" ? " channel=\"Master\"" : "",
                            escaped(value));
    return text + "</InstanceID></Event>";
}

Result<Arguments> parse_last_change(std::string_view xml) {
    pugi::xml_document document;
    WAVECREST_TRY(parse_xml(xml, "event", document));
    Arguments variables;
    for (const pugi::xml_node instance : child(document, "Event").children()) {
        if (local_name(instance) != "InstanceID" || std::string_view(instance.attribute("val").as_string()) != "0")
            continue;
        for (const pugi::xml_node one : instance.children()) {
            std::string_view channel = "Master";
            for (const pugi::xml_attribute attribute : one.attributes()) {
                const std::string_view name = attribute.name();
                if (name == "channel" || name == "Channel") channel = attribute.value();
            }
            if (channel == "Master" && variables.size() < 128)
                variables.emplace_back(std::string(local_name(one)), one.attribute("val").as_string());
        }
    }
    return variables;
}

struct Publisher::State {
    struct Subscriber {
        std::string sid, service, callback;
        Clock::time_point until;
        std::uint32_t sequence = 0;
        // Its first notification, of all there is, and when: the answer to its subscription has to be there before.
        std::optional<Arguments> first;
        Clock::time_point first_at;
        Arguments pending;  // the latest of each, in order of their first change
        int failures = 0;

        bool is_due(Clock::time_point now) const { return first ? now >= first_at : !pending.empty(); }
    };
    base::Mutex mutex;
    base::Condition changed;
    std::vector<Subscriber> subscribers GUARDED_BY(mutex);
    bool ending GUARDED_BY(mutex) = false;
    std::thread thread;

    void run() {
        base::MutexLock lock(mutex);
        while (!ending) {
            const auto now = Clock::now();
            std::erase_if(subscribers, [&](const Subscriber& s) { return s.until < now; });
            const auto next = std::find_if(subscribers.begin(), subscribers.end(),
                                           [&](const Subscriber& s) { return s.is_due(now); });
            if (next == subscribers.end()) {
                auto until = now + std::chrono::seconds(5);
                for (const Subscriber& one : subscribers) {
                    if (one.first) until = std::min(until, one.first_at);
                }
                changed.wait_until(mutex, until);
                continue;
            }
            Subscriber telling = *next;
            if (telling.first) {
                telling.pending = std::move(*telling.first);
                next->first.reset();
            } else {
                next->pending.clear();
            }
            next->sequence = next->sequence == 0xFFFFFFFF ? 1 : next->sequence + 1;  // 4.3.2: 0 is the first alone
            lock.unlock();
            const bool told = tell(telling);
            lock.lock();
            const auto same = std::find_if(subscribers.begin(), subscribers.end(),
                                           [&](const Subscriber& s) { return s.sid == telling.sid; });
            if (same == subscribers.end()) continue;
            same->failures = told ? 0 : same->failures + 1;
            if (same->failures >= kMostFailures) subscribers.erase(same);
        }
    }
    static bool tell(const Subscriber& s) {
        const auto url = net::parse_url(s.callback);
        if (!url) return false;
        net::HttpExchange request;
        request.method = "NOTIFY";
        request.body = write_properties(s.pending);
        request.media_type = "text/xml; charset=\"utf-8\"";
        request.fields = {
            {"NT", "upnp:event"}, {"NTS", "upnp:propchange"}, {"SID", s.sid}, {"SEQ", fmt::format("{}", s.sequence)}};
        request.limit = base::from_seconds(2);
        request.most = 64 << 10;
        const auto answered = net::HttpClient::exchange(*url, request);
        return answered && answered->status == 200;
    }
};

Publisher::Publisher() : state_(std::make_unique<State>()) {
    state_->thread = std::thread([this] { state_->run(); });
}

Publisher::~Publisher() {
    {
        const base::MutexLock lock(state_->mutex);
        state_->ending = true;
    }
    state_->changed.notify_all();
    state_->thread.join();
}

net::HttpReply Publisher::answer(const net::HttpRequest& request, const std::string& service,
                                 const std::function<Arguments()>& state) {
    const std::string sid(request.field("SID"));
    const auto accepted = [](const std::string& id, int seconds) {
        net::HttpReply reply;
        reply.any_origin = false;
        reply.fields = {{"SID", id}, {"TIMEOUT", fmt::format("Second-{}", seconds)}};
        return reply;
    };
    base::MutexLock lock(state_->mutex);
    auto& subscribers = state_->subscribers;
    const auto known = std::find_if(subscribers.begin(), subscribers.end(),
                                    [&](const State::Subscriber& s) { return s.sid == sid && s.service == service; });
    if (request.method == "UNSUBSCRIBE") {
        if (known == subscribers.end()) return net::HttpReply::text(412, "There is no such subscription.\n");
        subscribers.erase(known);
        return net::HttpReply{};
    }
    const int seconds = seconds_of(std::string(request.field("TIMEOUT")));
    if (!sid.empty()) {
        if (known == subscribers.end()) return net::HttpReply::text(412, "There is no such subscription.\n");
        known->until = Clock::now() + std::chrono::seconds(seconds);
        return accepted(sid, seconds);
    }
    if (request.field("NT") != "upnp:event") return net::HttpReply::text(412, "NT has to be upnp:event.\n");
    // "<http://...><http://...>": the first at the subscriber's own address.
    State::Subscriber made;
    std::string_view callbacks = request.field("CALLBACK");
    while (made.callback.empty()) {
        const std::size_t open = callbacks.find('<'), close = callbacks.find('>', open);
        if (open == std::string_view::npos || close == std::string_view::npos) break;
        const std::string one(callbacks.substr(open + 1, close - open - 1));
        callbacks.remove_prefix(close + 1);
        const auto parts = net::split_address(one);
        if (!parts || parts->scheme != "http" || without_zone(parts->host) != without_zone(request.address) ||
            !host::on_local_network(request.address))
            continue;
        made.callback = one;
        // Which interface leads to a link-local address, only this machine knows.
        if (const std::size_t zone = request.address.find('%');
            zone != std::string::npos && one.find('%') == std::string::npos && one.find(']') != std::string::npos)
            made.callback.insert(one.find(']'), "%25" + request.address.substr(zone + 1));
    }
    if (made.callback.empty())
        return net::HttpReply::text(412, "CALLBACK has to be at the subscriber's own address on the local network.\n");
    if (subscribers.size() >= kMostSubscribers) return net::HttpReply::text(503, "Too many subscriptions.\n");
    made.sid = random_id();
    made.service = service;
    made.until = Clock::now() + std::chrono::seconds(seconds);
    lock.unlock();
    made.first = state();
    made.first_at = Clock::now() + kAfterAnswer;
    lock.lock();
    const std::string id = made.sid;
    state_->subscribers.push_back(std::move(made));
    state_->changed.notify_all();
    return accepted(id, seconds);
}

void Publisher::changed(const std::string& service, const Arguments& properties) {
    const base::MutexLock lock(state_->mutex);
    for (State::Subscriber& one : state_->subscribers) {
        if (one.service != service) continue;
        for (const auto& [name, value] : properties) {
            const auto before = std::find_if(one.pending.begin(), one.pending.end(),
                                             [&, n = name](const auto& p) { return p.first == n; });
            if (before == one.pending.end())
                one.pending.emplace_back(name, value);
            else
                before->second = value;
        }
    }
    state_->changed.notify_all();
}

std::size_t Publisher::subscribers() const {
    const base::MutexLock lock(state_->mutex);
    return state_->subscribers.size();
}

struct EventListener::State {
    struct Subscription {
        Service service;
        std::string sid, address;  // of the device
        Clock::time_point renew;
    };
    OnEvent on_event;
    std::string path = "/" + random_id().substr(5);
    base::Mutex mutex;
    base::Condition changed;
    std::vector<Subscription> subscriptions GUARDED_BY(mutex);
    int subscribing GUARDED_BY(mutex) = 0;  // asked for, and not answered yet
    std::unique_ptr<net::HttpServer> server;

    // The service of a subscription of this device. A first notification may come before the answer to the
    // subscription is read: it is waited for.
    std::string service_of(const std::string& sid, const std::string& address) {
        const auto until = Clock::now() + std::chrono::seconds(3);
        const base::MutexLock lock(mutex);
        while (true) {
            for (const Subscription& one : subscriptions) {
                if (one.sid == sid && one.address == without_zone(address)) return one.service.type;
            }
            if (subscribing == 0 || Clock::now() >= until) return "";
            changed.wait_until(mutex, until);
        }
    }
    net::HttpReply take(const net::HttpRequest& request) {
        if (request.method != "NOTIFY" || request.path != path) return net::HttpReply::text(404, "Nothing here.\n");
        const std::string type = service_of(std::string(request.field("SID")), request.address);
        if (type.empty()) return net::HttpReply::text(412, "There is no such subscription.\n");
        if (const auto properties = parse_properties(request.body)) on_event(type, *properties);
        return net::HttpReply{};
    }
    static Result<net::HttpAnswered> ask(const Service& service, const char* method,
                                         std::vector<std::pair<std::string, std::string>> fields) {
        WAVECREST_TRY_ASSIGN(url, net::parse_url(service.events));
        net::HttpExchange request;
        request.method = method;
        request.fields = std::move(fields);
        request.limit = base::from_seconds(3);
        request.most = 64 << 10;
        return net::HttpClient::exchange(url, request);
    }
};

EventListener::EventListener(std::unique_ptr<State> state) : state_(std::move(state)) {}

Result<std::unique_ptr<EventListener>> EventListener::start(OnEvent on_event) {
    auto state = std::make_unique<State>();
    state->on_event = std::move(on_event);
    net::HttpServerSettings settings;
    settings.port = 0;
    settings.threads = 1;
    settings.answer = [s = state.get()](const net::HttpRequest& request) { return s->take(request); };
    WAVECREST_TRY_ASSIGN(server, net::HttpServer::start(std::move(settings)));
    state->server = std::move(server);
    return std::unique_ptr<EventListener>(new EventListener(std::move(state)));
}

EventListener::~EventListener() {
    std::vector<State::Subscription> all;
    {
        const base::MutexLock lock(state_->mutex);
        all = state_->subscriptions;
    }
    for (const State::Subscription& one : all) (void)State::ask(one.service, "UNSUBSCRIBE", {{"SID", one.sid}});
}

Status EventListener::subscribe(const Service& service, const std::string& own_address) {
    if (service.events.empty())
        return fail(ErrorKind::wanting, "the device tells no changes of this service", service.type,
                    "it is asked instead");
    const auto at = net::split_address(service.events);
    if (!at) return fail(at.error());
    {
        const base::MutexLock lock(state_->mutex);
        ++state_->subscribing;
    }
    const auto answered = State::ask(
        service, "SUBSCRIBE",
        {{"CALLBACK",
          fmt::format("<http://{}{}>", net::authority(own_address, state_->server->port(), 80), state_->path)},
         {"NT", "upnp:event"},
         {"TIMEOUT", fmt::format("Second-{}", kSeconds)}});
    const std::string sid = answered && answered->status == 200 ? answered->field("SID") : "";
    const base::MutexLock lock(state_->mutex);
    --state_->subscribing;
    state_->changed.notify_all();
    if (!answered) return fail(answered.error());
    if (sid.empty())
        return fail(ErrorKind::wanting, fmt::format("the device refuses a subscription (status {})", answered->status),
                    service.events, "it is asked instead");
    state_->subscriptions.push_back({service, sid, without_zone(at->host),
                                     Clock::now() + std::chrono::seconds(seconds_of(answered->field("TIMEOUT")) / 2)});
    return {};
}

void EventListener::keep() {
    std::vector<State::Subscription> due;
    {
        const base::MutexLock lock(state_->mutex);
        for (State::Subscription& one : state_->subscriptions) {
            if (one.renew > Clock::now()) continue;
            due.push_back(one);
            one.renew = Clock::now() + std::chrono::seconds(60);
        }
    }
    for (const State::Subscription& one : due) {
        const auto answered =
            State::ask(one.service, "SUBSCRIBE", {{"SID", one.sid}, {"TIMEOUT", fmt::format("Second-{}", kSeconds)}});
        if (!answered || answered->status != 200) continue;
        const base::MutexLock lock(state_->mutex);
        for (State::Subscription& same : state_->subscriptions) {
            if (same.sid == one.sid)
                same.renew = Clock::now() + std::chrono::seconds(seconds_of(answered->field("TIMEOUT")) / 2);
        }
    }
}

Result<std::string> own_address_towards(const std::string& host) {
    const auto unknown = [&] {
        return fail(ErrorKind::machine, "there is no way to this address", host, "check the network");
    };
    addrinfo hints{}, *list = nullptr;
    hints.ai_socktype = SOCK_DGRAM;
    if (::getaddrinfo(host.c_str(), "1900", &hints, &list) != 0 || list == nullptr) return unknown();
    // Connecting a datagram socket sends nothing, but chooses an address.
    const int handle = ::socket(list->ai_family, SOCK_DGRAM | SOCK_CLOEXEC, 0);
    sockaddr_storage own{};
    socklen_t size = sizeof own;
    const bool known = handle >= 0 && ::connect(handle, list->ai_addr, list->ai_addrlen) == 0 &&
                       ::getsockname(handle, reinterpret_cast<sockaddr*>(&own), &size) == 0;
    if (handle >= 0) ::close(handle);
    ::freeaddrinfo(list);
    char text[INET6_ADDRSTRLEN] = {};
    if (!known) return unknown();
    if (own.ss_family == AF_INET)
        ::inet_ntop(AF_INET, &reinterpret_cast<const sockaddr_in&>(own).sin_addr, text, sizeof text);
    else
        ::inet_ntop(AF_INET6, &reinterpret_cast<const sockaddr_in6&>(own).sin6_addr, text, sizeof text);
    return std::string(text);
}

}  // namespace wavecrest::upnp
