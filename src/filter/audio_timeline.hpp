// Keeps audio without gaps: missing intervals become silence, overlaps are trimmed. Pictures are never shifted for it.
#pragma once

#include <deque>
#include <functional>
#include <optional>

#include "base/result.hpp"
#include "media/types.hpp"

namespace wavecrest::filter {

class AudioTimeline {
  public:
    // `next` gets what is due, up to 0.2 s later, as one continuous stream; its errors are handed on.
    using Next = std::function<Status(AudioFrames)>;
    explicit AudioTimeline(Next next) : next_(std::move(next)) {}

    // Takes the next audio. Where it overlaps with
    // what came before, the older audio's end goes: a new part's beginning is what its pictures go with. Silence comes
    // in pieces of a second at most.
    Status push(AudioFrames audio);
    Status flush();

  private:
    void cut_tail(std::int64_t frames);
    Status give(std::int64_t keep);

    Next next_;
    std::optional<Time> start_;
    std::int64_t frames_ = 0;       // taken, silence included
    std::deque<AudioFrames> held_;  // the latest; the next may cut its end
    std::int64_t held_frames_ = 0;
};

}  // namespace wavecrest::filter
