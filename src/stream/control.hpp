// Seeing and steering running streams from elsewhere: over HTTP, with a token; and how a shell on this machine finds
// what runs.
#pragma once

#include <string>
#include <vector>

#include "base/file.hpp"
#include "base/result.hpp"
#include "net/guess_limiter.hpp"
#include "net/http_server.hpp"

namespace wavecrest::stream {

class StreamServer;

// Answers below kControlPath: the page for people (GET /control), and with "Authorization: Bearer TOKEN" the state of
// all streams (GET /control/status), how those fare who fetch films for themselves (GET /control/viewings), and orders
// (POST /control/do). Orders are JSON objects:
//   {"stream": NAME, "do": "pause" | "resume" | "stop"}
//   {"stream": NAME, "do": "seek", "by_s": SECONDS | "to_s": SECONDS | "part": 1 or -1}
// Renderers of the network (GET /control/screens) and orders for them (POST /control/screens; status 202, since what
// comes of it is told by the next GET):
//   {"screen": ID | "all", "do": "play", "stream": NAME} and "pause", "resume", "stop", "seek" ("by_s", "to_s"),
//   "volume" ("percent"), "mute" ("on")
// Wrong tokens of an address are slowed down by `guesses`. The controls answer only where they are asked for by an IP
// address, "localhost", a name of this machine or one ending in .local or .home.arpa: not by a name of somebody's own
// that points here. `server` and `guesses` must outlive the answer.
net::HttpAnswer control_answer(StreamServer& server, std::string token, net::GuessLimiter& guesses);

// The token of this user on this machine, made at first use and kept in a file that only the user can read:
// access-code in $XDG_STATE_HOME/wavecrest, or in ~/.local/state/wavecrest. Kind machine where that can't be.
Result<std::string> control_token();
base::Path control_token_file();

// A running server, noted in a file beside the token for as long as it runs.
struct Run {
    int pid = 0;
    std::uint16_t port = 0;
    std::string what;  // the site file, or the file that is streamed
};
class RunNote {
  public:
    // Without a place to write, there is no note: the server runs all the same.
    explicit RunNote(const Run& run);
    RunNote(const RunNote&) = delete;
    RunNote& operator=(const RunNote&) = delete;
    ~RunNote();

  private:
    base::Path file_;
    int lock_ = -1;
};
// Those whose process is alive; notes of others (after a crash) are removed.
std::vector<Run> running();

}  // namespace wavecrest::stream
