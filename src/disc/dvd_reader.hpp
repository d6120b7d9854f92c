// Reads the DVD-Video structure of an owner's unscrambled rip: titles, and each title as a packet source.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "base/file.hpp"
#include "base/result.hpp"
#include "media/flow.hpp"
#include "media/types.hpp"

namespace wavecrest::disc {

struct DvdCell {
    Time duration{};
    std::uint32_t first_sector = 0;  // in the title set's title VOBs, taken as one run
    std::uint32_t last_sector = 0;
    bool new_clock = false;  // the time stamps start anew
};

struct DvdTitle {
    int number = 0;  // as the disc numbers it, from 1
    int title_set = 0;
    int angles = 1;
    Time duration{};
    std::uint64_t size_bytes = 0;
    std::vector<DvdCell> cells;
    std::vector<Chapter> chapters;
    std::vector<Track> tracks;  // video first; details read from the stream itself where it is readable
    std::vector<Problem> problems;
};

class DvdDisc {
  public:
    // Is this a DVD-Video folder: VIDEO_TS itself, or the folder that holds it?
    static bool is_dvd(const base::Path& folder);

    // Reads the tables. Fails (kind input) when they are missing, point outside their file, or name no title; a damaged
    // IFO is replaced by its BUP twin. Material marked as scrambled is reported by check_protection.
    static Result<DvdDisc> open(const base::Path& folder);
    DvdDisc(DvdDisc&&) noexcept;
    ~DvdDisc();

    const std::vector<DvdTitle>& titles() const;
    // The title with a number, or an error that names those there are.
    Result<const DvdTitle*> title(int number) const;
    // Notes about the tables: a BUP that had to be used, a VOB that is missing or short.
    const std::vector<std::string>& notes() const;
    // The rip's folder name, which serves as the film's name.
    std::string label() const;
    std::string path() const;

    // Looks at packs spread over the whole title; fails with the final status "protected" when any is scrambled.
    Status check_protection(const DvdTitle& title) const;
    // Packets of the title's video and LPCM tracks on a timeline from 0. Calls check_protection first.
    Result<std::unique_ptr<PacketSource>> open_title(int number) const;
    // Bytes over time, from the addresses and times of the navigation packs; needs no other reading.
    Result<std::vector<RatePiece>> rate(const DvdTitle& title) const;

  private:
    struct State;
    explicit DvdDisc(std::shared_ptr<State> state);
    std::shared_ptr<State> state_;
};

}  // namespace wavecrest::disc
