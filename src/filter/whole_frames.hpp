// Progressive frames out of what video brings: frames marked as progressive pass, fields of film are put together as
// they belong and their pulldown undone, interlaced video is deinterlaced. A title may hold all of it: each interval is
// taken by its own rhythm, and frames keep the times at which they were to be seen.
#pragma once

#include <deque>
#include <optional>
#include <string>
#include <vector>

#include "filter/cadence.hpp"
#include "filter/deinterlace.hpp"
#include "filter/film.hpp"
#include "media/types.hpp"

namespace wavecrest::filter {

class WholeFrames {
  public:
    // What an interval without marks is.
    enum class TimeRange {
        matched,   // film or video of whole frames, the fields of a frame together or cut apart
        pulldown,  // film, four pictures in five frames
        video,     // each field of another instant
    };
    struct Settings {
        Ratio frame_rate;  // as coded
        Deinterlacer::Rate video = Deinterlacer::Rate::frame;
        TimeRange first = TimeRange::video;  // until something moves
        bool marked_film = false;            // there is film whose marks tell its pulldown
    };
    explicit WholeFrames(const Settings& settings);

    // Appends what is due. Frames without marks come out up to 15 frames later. Times of what comes out always rise.
    // What changes its size in mid-stream begins anew.
    void push(Picture picture, std::vector<Picture>& out);
    void flush(std::vector<Picture>& out);

  private:
    struct Waiting {
        Picture picture;
        Picture before;  // the frame before it, for its second field
        bool follows = false;
        Belongs belongs = Belongs::unknown;
    };
    struct Matched {
        Picture picture;
        std::int64_t change = 0;  // from the one before, in thousandths of a level
    };

    TimeRange judge(std::size_t count) const;
    void release(std::size_t count, std::vector<Picture>& out);
    Picture matched(const Waiting& frame);
    void release_pulldown(std::vector<Matched> group, std::vector<Picture>& out);
    void deinterlace(Picture picture, std::vector<Picture>& out);
    void give(std::vector<Picture>& pictures, std::vector<Picture>& out);
    void end_run(std::vector<Picture>& out);

    Settings settings_;
    bool pulldown_possible_;
    Ratio film_rate_;
    TimeRange interval_;
    std::deque<Waiting> waiting_;
    std::string history_;  // of what was released, as far as it is looked at
    std::optional<Picture> previous_;
    std::optional<Picture> last_matched_;
    Belongs phase_ = Belongs::own;  // where too little moves to tell
    int usual_combing_;
    MarkedFilmTiming marked_film_;
    std::optional<Time> film_from_;  // while pulldown is undone: the grid's first time
    std::int64_t film_index_ = 0;
    Deinterlacer deinterlacer_;
    std::optional<Picture> held_;  // the latest: the next may end it
};

}  // namespace wavecrest::filter
