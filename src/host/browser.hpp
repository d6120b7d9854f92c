// A browser of this machine, run without a screen: where it is, and how it is started and ended.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <string_view>

#include "base/file.hpp"
#include "base/result.hpp"

namespace wavecrest::host {

enum class Engine { chromium, firefox };
// "chromium", "firefox"
std::optional<Engine> engine_from_name(std::string_view name);
std::string_view short_name(Engine engine);
// Its program on this machine, from the folders of PATH; nothing where it isn't installed.
std::optional<base::Path> browser_program(Engine engine);

// A running one, with a profile of its own that goes with the object; media play there without anybody's gesture.
class Browser {
  public:
    // Opens the address. Fails (kind machine) where the browser isn't installed or can't be started.
    static Result<std::unique_ptr<Browser>> start(Engine engine, const std::string& address);
    // Ends all of its processes.
    ~Browser();
    Browser(const Browser&) = delete;
    Browser& operator=(const Browser&) = delete;
    // Whether its first process is still there.
    bool runs();

  private:
    Browser() = default;
    base::Path profile_;
    int process_ = -1;
};

}  // namespace wavecrest::host
