// What a live stream plays: files, discs or titles one after the other, over and over if wished, as packets on one
// timeline that never jumps: where the next part begins, where somebody seeks, where a source comes back after it was
// lost.
#pragma once

#include <deque>
#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "base/address.hpp"
#include "base/byte_source.hpp"
#include "base/cancel.hpp"
#include "base/file.hpp"
#include "base/mutex.hpp"
#include "media/flow.hpp"
#include "media/track_choice.hpp"

namespace wavecrest::source {
class Input;
}

namespace wavecrest::stream {

struct Part {
    base::Address source;        // anything source::open_input opens
    std::string title = "main";  // of a disc, or the program of a recording: see source::Input::picks
    int chapter = 1;             // to begin with
    TrackChoice choice{};
    // Where it comes from otherwise than from `source`, which then is its name for people: bytes that come once, live.
    std::function<Result<std::unique_ptr<base::ByteSource>>()> open{};
};

// Fails as source::open_input().
Result<std::unique_ptr<source::Input>> open_source(const Part& part, const Cancel* cancel = nullptr);

// What was found about a part when it was looked at.
struct ReadyPart {
    Part part;
    std::string name;           // for people: the file's
    Time begin{};               // of the chapter
    Time duration{};            // of the whole title; 0: not known
    std::int64_t mean_bps = 0;  // of the tracks that are played; 0: not known
    bool live = false;          // from another address, as it comes: no seeks, and its end is a loss
};

struct ReadyPlayout {
    std::vector<ReadyPart> parts;
    std::vector<Track> tracks;       // what is played: those of the first part that `wanted` lets through
    std::vector<std::string> notes;  // what is left out and why
};
// Opens every part. `why_not` tells why a track is not wanted, empty when it is. Fails (kind input) on the first that
// is missing, unreadable or protected, has nothing that is wanted, or has other tracks than the first: players don't
// follow from one codec to another. (kind usage: a chapter or track that isn't there.)
Result<ReadyPlayout> prepare_playout(const std::vector<Part>& parts,
                                     const std::function<std::string(const Track& track, bool disc)>& why_not);

class Playout : public PacketSource {
  public:
    // `loop`: begins anew after the last part. Ends early (read fails with kind interrupted) when `cancel` asks.
    Playout(ReadyPlayout ready, bool loop, const Cancel& cancel);
    ~Playout() override;

    const std::vector<Track>& tracks() const override { return ready_.tracks; }
    const std::vector<Chapter>& chapters() const override { return no_chapters_; }
    Time duration() const override { return {}; }
    // Packets of tracks(). A source that is lost is tried again for as long as it takes, more and more seldom.
    Result<std::optional<Packet>> read() override;
    Status seek(Time) override;  // fails: see order_seek()
    const std::vector<Problem>& problems() const override { return no_problems_; }

    // From any thread; carried out by the next read(). Times are those of the part being played when read() sees it.
    struct SeekOrder {
        enum class What { by, to, part } what = What::by;
        Time time{};    // by, to
        int parts = 0;  // 1: to the next part, -1: to the one before
    };
    void order_seek(const SeekOrder& seek);

    // The latest seek that was carried out: how many there were, and from when on its pictures are shown.
    struct Landed {
        std::uint64_t number = 0;
        Time at{};  // on the timeline
    };
    Landed latest_seek() const;

    // What is played at a time of the timeline.
    struct Position {
        std::size_t part = 0;
        Time position{};           // in the part's title
        std::uint64_t rounds = 0;  // how often it began anew
    };
    Position position_at(Time timeline) const;
    // Why the source can't be read at the moment; empty when it can.
    std::string lost() const;

  private:
    struct Span {  // of the timeline
        Time from{};
        Position place;
    };
    struct TrackState {
        TrackId from = -1;       // in the part; -1: it isn't there
        ByteVector in_front;     // of keyframes: parameter sets that differ from those of tracks()
        Time end{}, last_dts{};  // on the timeline; of what was read, tail_ included
        bool any = false;
    };

    Status enter(std::size_t part, Time position);
    Status open_part(std::size_t part);
    Status steer();
    Status enter_next_part();
    bool is_last_part() const { return part_ + 1 == ready_.parts.size(); }
    Result<std::optional<Packet>> next_of_part();
    std::optional<Packet> on_timeline(Packet packet);
    std::optional<Packet> last_audio_of_part();
    Status carry_out(const SeekOrder& seek);
    void leave(const SeekOrder& seek);
    bool comes_before_leaving(std::size_t track_state, const Packet& packet);
    Result<bool> has_audio_from(Time start);
    std::optional<Packet> next_of_tail();
    void drop_tail();
    Time picture_end() const;
    void wait_and_try_again(const Error& error);
    Time timeline_end() const;

    ReadyPlayout ready_;
    bool loop_;
    const Cancel& cancel_;
    std::vector<Chapter> no_chapters_;
    std::vector<Problem> no_problems_;

    std::unique_ptr<PacketSource> source_;
    std::size_t part_ = 0;
    std::vector<TrackState> track_states_;  // of tracks()
    std::deque<Packet> held_;               // read to find where a part begins
    std::map<TrackId, Packet> unfollowed_;  // of a live source: the latest of each track
    Time offset_{};                         // from the part's times to the timeline
    Time start_{};                          // what comes before this in the part is not shown
    Time position_{};                       // reached in the part
    bool entered_ = false;
    bool any_in_part_ = false;
    // Before a seek what is playing is brought to one end: each track up to the time that the pictures have come to,
    // though it lies further on in the file.
    struct Leaving {
        SeekOrder seek;
        Time until{};             // in the part
        std::vector<bool> there;  // track_states that have come to it
        int packets = 0;          // read for it
    };
    std::optional<Leaving> leaving_;
    std::deque<Packet> tail_;  // audio beyond the pictures so far: where the part ends before more of them, it goes
    std::uint64_t rounds_ = 0;
    int failures_ = 0;  // at one place
    Time failed_at_{-1};

    mutable base::Mutex mutex_;
    std::deque<Span> spans_ GUARDED_BY(mutex_);
    std::optional<SeekOrder> order_ GUARDED_BY(mutex_);
    Landed landed_ GUARDED_BY(mutex_);
    std::string lost_ GUARDED_BY(mutex_);
};

}  // namespace wavecrest::stream
