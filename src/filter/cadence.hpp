// Film inside interlaced video without flags: found by looking whether fields belong together.
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

// What a frame's fields go with, judged against the frame before it.
enum class Belongs : char {
    own = 'o',       // its first field clearly goes with its second
    previous = 's',  // its first field clearly goes with the second of the frame before
    neither = 'n',   // it moves, and goes with neither
    unknown = '.',   // too little moves to tell, or it goes with both
};
Belongs fields_belong(const Picture& previous, const Picture& picture);

// Whether a run of `Belongs`, of at least ten frames, has the five-frame rhythm of 3:2 pulldown.
bool has_pulldown_rhythm(std::string_view run);
// Only at 30000/1001 and 30 frames a second there can be 3:2 pulldown.
bool can_have_pulldown(Ratio frame_rate);

// Mean difference of two pictures' luma in thousandths of a level of 8 bits, on every fourth line of a field.
std::int64_t field_difference(const Picture& a, const Picture& b, int parity);
inline constexpr std::int64_t kMoves = 1000;  // thousandths of a level by which frames differ when something moves
// Lines of `first_parity` (0: even) from `first`, the others from `second`; marked as progressive.
Picture weave_fields(const Picture& first, int first_parity, const Picture& second);

// Judges a run of consecutive frames; feed at least 20. Still intervals tell nothing and don't count; frames that are
// marked as progressive are counted and need no judgement.
class CadenceFinder {
  public:
    // `frame_rate` of the video as coded.
    explicit CadenceFinder(Ratio frame_rate) : frame_rate_(frame_rate) {}
    void push(const Picture& picture);
    // A new run starts: the next frame does not follow the one before.
    void cut() {
        previous_.reset();
        runs_.emplace_back();
    }
    // Of the frames that aren't marked as progressive; nothing when there was too little motion to tell.
    std::optional<Cadence> result() const;
    int marked() const { return marked_; }      // frames marked as progressive
    int repeated() const { return repeated_; }  // those of them that are shown for three fields
    int unmarked() const { return unmarked_; }  // all others

  private:
    bool has_rhythm() const;

    Ratio frame_rate_;
    std::optional<Picture> previous_;
    std::vector<std::string> runs_ = {{}};  // `Belongs` of each frame
    int own_ = 0, shifted_ = 0, neither_ = 0;
    int marked_ = 0, repeated_ = 0, unmarked_ = 0;
};

}  // namespace wavecrest::filter
