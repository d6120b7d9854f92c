// Reads the DVD-Video structure of an owner's unscrambled rip, a folder or an image: titles, and each title as a packet
// source.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "base/byte_source.hpp"
#include "base/result.hpp"
#include "disc/disc_files.hpp"
#include "media/flow.hpp"
#include "media/types.hpp"

namespace wavecrest::disc {

struct DvdCell {
    Time duration{};                 // measured in the data where it is readable
    std::uint32_t first_sector = 0;  // in the title set's title VOBs, taken as one run
    std::uint32_t last_sector = 0;
    std::uint32_t last_vobu = 0;  // where the last VOBU starts
    int angle = 0;                // 0: seen from every angle
    int vob = 0, cell = 0;        // as the data names itself; 0: not known
    bool new_clock = false;       // the timestamps start anew
    bool interleaved = false;     // in units, with other cells between them
};

struct DvdTitle {
    int number = 0;  // as the disc numbers it, from 1
    int title_set = 0;
    int angles = 1;
    Time duration{};
    std::uint64_t size_bytes = 0;
    std::vector<DvdCell> cells;  // of all angles
    std::vector<Chapter> chapters;
    std::vector<Track> tracks;  // video first; details read from the stream itself where it is readable
    std::vector<Problem> problems;
    std::vector<std::string> differences;  // what the data says otherwise than the tables

    // The cells played from an angle (from 1), in order.
    std::vector<DvdCell> cells_of(int angle) const;
};

class DvdDisc {
  public:
    // Is there a DVD-Video structure: VIDEO_TS with its files, or these at the root?
    static bool is_dvd(const DiscFiles& files);

    // Reads the tables; a damaged IFO is replaced by its BUP twin, and without either titles are rebuilt from the
    // streams. Fails (kind input) when no title can be told. Scrambled material is reported by check_protection.
    static Result<DvdDisc> open(std::shared_ptr<DiscFiles> files);
    // The same with the folder of the rip.
    static Result<DvdDisc> open(const base::Path& folder);
    DvdDisc(DvdDisc&&) noexcept;
    ~DvdDisc();

    const std::vector<DvdTitle>& titles() const;
    // The title with a number, or an error that names those there are.
    Result<const DvdTitle*> title(int number) const;
    // Notes about the tables: a BUP that had to be used, a VOB that is missing or short.
    const std::vector<std::string>& notes() const;
    // The rip's folder or volume name, which serves as the film's name.
    std::string label() const;
    std::string path() const;

    // Looks at packs spread over the whole title; fails with the final status "protected" when any is scrambled.
    Status check_protection(const DvdTitle& title) const;
    // Packets of the title's tracks on a timeline from 0. Calls check_protection first.
    Result<std::unique_ptr<PacketSource>> open_title(int number, int angle = 1) const;
    // The title set's VOB files as one run of bytes, as cell addresses count them.
    std::shared_ptr<base::ByteSource> sectors(const DvdTitle& title) const;
    // Bytes over time, from the addresses and times of navigation packs (2000 of them at most are read).
    Result<std::vector<RatePiece>> rate(const DvdTitle& title) const;

  private:
    struct State;
    explicit DvdDisc(std::shared_ptr<State> state);
    std::shared_ptr<State> state_;
};

}  // namespace wavecrest::disc
