// Film inside interlaced video without flags: found by looking whether fields belong together, and put back together.
#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "media/types.hpp"

namespace wavecrest::filter {

enum class Cadence {
    video,        // fields of different instants: deinterlace
    progressive,  // both fields of every frame belong together
    shifted,      // the first field belongs to the second of the frame before: film, cut one field off
    pulldown,     // film spread over three and two fields in turn, 4 pictures in 5 frames
};
std::string_view describe(Cadence cadence);

// How much two fields comb when woven: points of the second that stick out from their neighbours of the first above
// and below alike, per million points. 0 to 1 000 000.
int combing(const Picture& first, int first_parity, const Picture& second);

// Judges a run of consecutive frames; feed at least 20. Still stretches tell nothing and don't count.
class CadenceFinder {
  public:
    // `frame_rate` of the video: only at 30000/1001 and 30 there can be pulldown.
    explicit CadenceFinder(Ratio frame_rate) : frame_rate_(frame_rate) {}
    void push(const Picture& picture);
    // A new run starts: the next frame does not follow the one before.
    void cut() {
        previous_.reset();
        runs_.emplace_back();
    }
    // Nothing when there was too little motion to tell.
    std::optional<Cadence> result() const;

  private:
    bool has_rhythm() const;

    Ratio frame_rate_;
    std::optional<Picture> previous_;
    std::vector<std::string> runs_ = {{}};  // of each frame: o, s or n as counted below, or . for one that is still
    int own_ = 0;                           // frames whose fields clearly go together
    int shifted_ = 0;                       // whose first field clearly goes with the second of the frame before
    int neither_ = 0;                       // that move, and tell neither
};

// Weaves film pictures from fields and, for pulldown, leaves the repeated one of every five out and spaces the rest
// evenly. Pictures whose fields belong to nothing are handed on as they are with progressive = false.
class FilmWeaver {
  public:
    // `film_rate`: 0 keeps every picture's time (shifted film); else pictures per second after pulldown is undone.
    explicit FilmWeaver(Ratio film_rate) : film_rate_(film_rate) {}
    void push(Picture picture, std::vector<Picture>& out);
    void flush(std::vector<Picture>& out);

  private:
    void release(std::vector<Picture>& out);

    struct Woven {
        Picture picture;
        std::int64_t difference = 0;  // from the one before
    };
    Ratio film_rate_;
    std::optional<Picture> previous_;
    int usual_ = 1 << 20;  // combing of what was put together so far
    std::optional<Picture> last_;
    std::vector<Woven> group_;
};

}  // namespace wavecrest::filter
