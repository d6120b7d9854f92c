// What page and server tell each other, as JSON texts: a device is no more to be trusted than any input.
#pragma once

#include <string>
#include <string_view>

#include "trial/course.hpp"

namespace wavecrest::trial {

// A page's message: who it is, and what it saw of the step it was given.
struct Message {
    std::string session;  // 32 hex digits; empty: a new one
    std::string step;     // empty: nothing was done yet
    std::string name;     // answered to the question which device it is
    Seen seen;
};
// Anything else than an object gives an empty message; what is of another kind or out of range counts as absent.
Message parse_message(std::string_view text);

std::string seen_text(const Seen& seen);
Seen parse_seen(std::string_view text);

// The step for the page: where its clip is, and how much is done.
struct Telling {
    std::string session, address;  // of the clip, from the root of the server
    std::string type;              // of the clip: "video/mp4; codecs=\"avc1.640028\""
    double done = 0;
    std::string last;  // what came of the step before; empty: nothing to tell
    bool last_failed = false;
};
std::string step_text(const Step& step, const Telling& telling);
std::string wait_text(const std::string& session, const std::string& why, double done);
std::string finished_text(const std::string& session, const std::string& name, const std::vector<std::string>& summary);

}  // namespace wavecrest::trial
