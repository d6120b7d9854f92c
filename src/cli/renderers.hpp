// UPnP renderers of the network, for the commands that find and drive them.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "base/cancel.hpp"
#include "base/result.hpp"
#include "net/http_server.hpp"
#include "site/site.hpp"
#include "source/media_item.hpp"
#include "upnp/discovery.hpp"
#include "upnp/renderer.hpp"

namespace wavecrest::cli {

struct FoundRenderer {
    upnp::FoundDevice found;
    upnp::Renderer renderer;
};
// Those that are meant: by its name as it is found, the beginning of that, its UDN, a device of the site (by its
// address), or "all". At least one; kind wanting where there is none, with what there is.
Result<std::vector<FoundRenderer>> find_renderers(const std::string& name, const std::string& interface,
                                                  const site::Site* site, const Cancel& cancel);

// --on takes browsers of this machine, too: a name that is nearly one of theirs is a slip, not a renderer's. Kind usage.
Status check_no_browser_is_meant(const std::string& name);

// What a renderer is given to play, and who serves it meanwhile.
class Offer {
  public:
    // `media`: a stream of the site, a file (served from here as long as this lives), or an http address.
    static Result<Offer> make(const std::string& media, const site::Site* site);

    const std::string& title() const { return title_; }
    bool served_here() const { return server_ != nullptr; }
    // As this renderer is given it: by an address that it reaches, in a form that it says it takes; the first one where
    // it takes none. Fails (kind machine) where there is no way to it.
    Result<upnp::Object> item_for(const upnp::FoundDevice& device) const;

  private:
    std::string title_;
    std::vector<upnp::Object> forms_;  // each with one resource; its address with kOwnAddress where it is served here
    std::unique_ptr<net::HttpServer> server_;
};

}  // namespace wavecrest::cli
