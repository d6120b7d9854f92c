// A UPnP renderer as the client: it is told to play, and asked where it is, while it really plays. What it says is
// believed only where its position bears it out.
#pragma once

#include "upnp/renderer.hpp"
#include "verify/verify.hpp"

namespace wavecrest::verify {

struct RendererJob {
    std::string stream;  // name for the result
    upnp::Object item;   // its first resource is played
    std::string device;  // name for the result
    device::Link link;
    // Of a title with a known length the beginning is played for at most so long, then it seeks to its middle and to
    // its end; what is hardly longer is played through. Of others it plays so long.
    Time listen = base::from_seconds(40);
    Time patience = base::from_seconds(20);  // until it starts, or lands after a seek
};

// Takes as long as it plays. A renderer that refuses gives a failed verification; the only errors are those of
// interruption. It is stopped at the end.
Result<Verification> run_on_renderer(const RendererJob& job, upnp::Renderer& renderer, const Progress& progress,
                                     const Cancel& cancel);

}  // namespace wavecrest::verify
