// Reads the Blu-ray structure (BDMV) of an owner's unencrypted rip, a folder or an image: playlists as titles, and each
// as a packet source.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "base/result.hpp"
#include "disc/disc_files.hpp"
#include "media/flow.hpp"
#include "media/types.hpp"

namespace wavecrest::disc {

// An interval of a clip that a playlist plays.
struct BluRayItem {
    std::vector<std::string> clips;           // by angle: "00012"
    std::uint32_t in_time = 0, out_time = 0;  // 45 kHz, of the clip's own clock
    Time start{};                             // on the title's timeline
    Time duration{};                          // whole pictures
    std::uint64_t bytes = 0;                  // of the first angle
};

struct BluRayTitle {
    int number = 0;        // playlists in the order of their names, from 1
    std::string playlist;  // "00800"
    int angles = 1;
    Time duration{};
    std::uint64_t size_bytes = 0;
    std::vector<BluRayItem> items;
    std::vector<Chapter> chapters;
    std::vector<Track> tracks;  // video first; ids are PIDs
    std::vector<Problem> problems;
    std::vector<std::string> differences;
};

class BluRayDisc {
  public:
    // Is there a Blu-ray structure: BDMV with playlists, or PLAYLIST at the root?
    static bool is_blu_ray(const DiscFiles& files);

    // Reads playlists and clip information (the copies under BACKUP where one is damaged; without playlists every clip
    // is a title). Fails (kind input) when no title can be told.
    static Result<BluRayDisc> open(std::shared_ptr<DiscFiles> files);
    BluRayDisc(BluRayDisc&&) noexcept;
    ~BluRayDisc();

    const std::vector<BluRayTitle>& titles() const;
    Result<const BluRayTitle*> title(int number) const;
    const std::vector<std::string>& notes() const;
    std::string label() const;
    std::string path() const;

    // Looks at aligned units spread over the title's clips: encrypted units, scrambled transport packets, copy control.
    // Fails with the final status "protected".
    Status check_protection(const BluRayTitle& title) const;
    Result<std::unique_ptr<PacketSource>> open_title(int number, int angle = 1) const;
    // Bytes over time, from the entry-point maps.
    Result<std::vector<RatePiece>> rate(const BluRayTitle& title) const;

  private:
    struct State;
    explicit BluRayDisc(std::shared_ptr<State> state);
    std::shared_ptr<State> state_;
};

}  // namespace wavecrest::disc
