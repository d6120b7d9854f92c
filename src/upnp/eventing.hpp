// Eventing (UPnP Device Architecture 1.1, clause 4): who subscribes to a service is told when its state changes.
#pragma once

#include <functional>
#include <memory>
#include <string>
#include <string_view>

#include "base/result.hpp"
#include "base/time.hpp"
#include "net/http_server.hpp"
#include "upnp/description.hpp"
#include "upnp/soap.hpp"

namespace wavecrest::upnp {

// The property set of a notification (4.3.2).
std::string write_properties(const Arguments& properties);
Result<Arguments> parse_properties(std::string_view xml);

// LastChange of AVTransport and RenderingControl: several variables in one (ISO/IEC 29341-4-10, 2.3.1), of instance 0;
// of values by channel those of the master.
std::string write_last_change(std::string_view service, const Arguments& variables);
Result<Arguments> parse_last_change(std::string_view xml);

// The side that is subscribed to. Notifications go by a thread of its own: to callbacks at the subscriber's own address
// and on the local networks, nowhere else.
class Publisher {
  public:
    Publisher();
    Publisher(const Publisher&) = delete;
    Publisher& operator=(const Publisher&) = delete;
    ~Publisher();

    // SUBSCRIBE (also to renew) and UNSUBSCRIBE for a service. `state`: what a new subscriber is told first.
    net::HttpReply answer(const net::HttpRequest& request, const std::string& service,
                          const std::function<Arguments()>& state);
    // Tells the subscribers of a service.
    void changed(const std::string& service, const Arguments& properties);
    std::size_t subscribers() const;

  private:
    struct State;
    std::unique_ptr<State> state_;
};

// The side that subscribes: a small server for notifications.
class EventListener {
  public:
    using OnEvent = std::function<void(const std::string& service_type, const Arguments& properties)>;
    // Called from a thread of the server's. Fails (kind machine) where no port can be listened at.
    static Result<std::unique_ptr<EventListener>> start(OnEvent on_event);
    EventListener(const EventListener&) = delete;
    EventListener& operator=(const EventListener&) = delete;
    ~EventListener();  // ends the subscriptions

    // Subscribes to a service of a device that sees this machine as `own_address`.
    Status subscribe(const Service& service, const std::string& own_address);
    // Renews what is about to run out; to be called every few seconds.
    void keep();

  private:
    struct State;
    explicit EventListener(std::unique_ptr<State> state);
    std::unique_ptr<State> state_;
};

// The address by which this machine reaches a host: what the host can reach it by.
Result<std::string> own_address_towards(const std::string& host);

}  // namespace wavecrest::upnp
