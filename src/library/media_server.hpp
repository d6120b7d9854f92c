// The house's library for televisions and other control points: a UPnP MediaServer (ContentDirectory,
// ConnectionManager), with its files as bytes and as HLS, small copies, subtitles and pictures. It answers as pages of
// an HTTP server that is there; nothing outside of the collections' folders is ever served.
#pragma once

#include <functional>
#include <memory>
#include <set>
#include <string>
#include <vector>

#include "library/catalogue.hpp"
#include "net/http_server.hpp"
#include "net/networks.hpp"

namespace wavecrest::library {

struct ServedCollection {
    Collection collection;
    net::Networks from;               // whose addresses see it; empty: all
    std::set<std::string> addresses;  // of the devices that see it; empty: all
};

struct MediaServerSettings {
    std::string name;       // as devices show it
    std::string identity;   // any text that stays the same and is no other's: its UDN is made of it
    std::string announced;  // the address devices are told, where it is said: it answers to it, too
    std::vector<ServedCollection> collections;
};
inline constexpr std::string_view kLibraryPath = "/library";

class MediaServer {
  public:
    MediaServer(MediaServerSettings settings, Catalogue& catalogue);  // must outlive it
    MediaServer(const MediaServer&) = delete;
    MediaServer& operator=(const MediaServer&) = delete;
    ~MediaServer();

    // What is at kLibraryPath and below.
    net::HttpReply answer(const net::HttpRequest& request);
    // From now on it is found (SSDP) at this port. Fails (kind machine) where that can't be.
    Status announce(std::uint16_t port, const std::string& interface);
    // The catalogue has changed: who subscribed is told.
    void changed();

  private:
    struct State;
    std::unique_ptr<State> state_;
};

}  // namespace wavecrest::library
