// The steps of a device test on a UPnP renderer: each clip is really played there, and watched by its own state and
// position. That its picture is shown can't be seen so: whoever stands before it may be asked.
#pragma once

#include <functional>
#include <string>
#include <vector>

#include "base/cancel.hpp"
#include "net/url.hpp"
#include "trial/page_client.hpp"
#include "upnp/protocol_info.hpp"
#include "upnp/renderer.hpp"

namespace wavecrest::trial {

// Shows steps there, of the page at this address, as the renderer reaches it. What it claims is what it says it takes;
// its display and its frames tell nothing. `ask` puts a question to people and gives one of the answers, or nothing; null:
// nobody is there.
PageClient::Show show_on(upnp::Renderer& renderer, std::vector<upnp::ProtocolInfo> takes, const net::Url& page,
                         std::function<std::string(const Step& step)> ask, const Cancel& cancel);

}  // namespace wavecrest::trial
