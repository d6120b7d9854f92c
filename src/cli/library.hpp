// The library of a site, for the commands that serve and show it.
#pragma once

#include <memory>

#include "library/catalogue.hpp"
#include "library/media_server.hpp"
#include "library/watch.hpp"
#include "site/site.hpp"

namespace wavecrest::cli {

std::vector<library::Collection> collections_of(const site::Site& site);

// The library while streams run: kept up to date, browsed by devices.
class ServedLibrary {
  public:
    // Nothing where the site has no collections. Kind machine where the catalogue can't be kept.
    static Result<std::unique_ptr<ServedLibrary>> open(const site::Site& site);
    // Its pages, for a server.
    std::pair<std::string, net::HttpAnswer> pages();
    // Begins to scan, and to be found at this port. `on_line` is for people, from any thread.
    void start(std::uint16_t port, const std::string& interface, std::function<void(const std::string&)> on_line);

  private:
    std::vector<library::Collection> collections_;
    std::unique_ptr<library::Catalogue> catalogue_;
    std::unique_ptr<library::MediaServer> media_;
    std::unique_ptr<library::Watcher> watcher_;
};

}  // namespace wavecrest::cli
