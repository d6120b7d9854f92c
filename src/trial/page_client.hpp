// The other end of the check page, in place of a browser: goes through a test by the same messages over the same wire.
// What a step looks like is up to whoever shows it.
#pragma once

#include <functional>
#include <string>
#include <vector>

#include "base/bytes.hpp"
#include "base/cancel.hpp"
#include "base/result.hpp"
#include "net/url.hpp"
#include "trial/step.hpp"

namespace wavecrest::trial {

// A step as the page is told of it.
struct ShownStep {
    Step step;           // of its clip the length, whether it has video and how, and the channels of its audio
    std::string target;  // of the clip, at the page's server; empty: there is none
    std::string type;    // its media type, with codecs
};

class PageClient {
  public:
    using Show = std::function<Result<Seen>(const ShownStep& step)>;

    PageClient(net::Url page, const Cancel& cancel) : page_(std::move(page)), cancel_(cancel) {}

    // Goes through the whole test and gives what the page says at the end, a line each. `on_step` is told what comes.
    // Fails (kind wanting) where the page can't be reached, or answers as none does; and as `show` does.
    Result<std::vector<std::string>> go_through(const Show& show,
                                                const std::function<void(const std::string& what)>& on_step) const;
    // All of what is at the page's server.
    Result<ByteVector> fetch(const std::string& target) const;

  private:
    net::Url page_;
    const Cancel& cancel_;
};

}  // namespace wavecrest::trial
