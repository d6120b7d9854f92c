// The subtitles that an HLS stream lists, fetched beside it as a player with all of them shown would, and counted.
#pragma once

#include <functional>
#include <set>
#include <string>
#include <vector>

#include "container/media_playlist.hpp"
#include "verify/verify.hpp"

namespace wavecrest::verify {

class TextSubtitles {
  public:
    using Fetch = std::function<Result<std::string>(const std::string& address)>;

    // `base`: the address of the list they are in.
    TextSubtitles(const std::vector<container::MediaPlaylist::Subtitles>& listed, const std::string& base, Fetch fetch);

    // Fetches what belongs to the stream up to a time from its beginning; Time::max(): all that is listed now.
    void follow(Time until);
    // Adds a check where there are subtitles: what came of each. They never fail a stream.
    void conclude(Verification& v) const;

  private:
    struct Rendition {
        container::MediaPlaylist::Subtitles listed;
        std::string address;
        container::MediaPlaylist playlist;
        bool begun = false;
        std::size_t next = 0;  // segment of the playlist
        Time reached{};
        std::set<std::string> cues;  // with their times: a cue may be in several segments
        std::string problem;         // the first
    };
    void follow(Rendition& rendition, Time until);

    std::vector<Rendition> renditions_;
    Fetch fetch_;
};

}  // namespace wavecrest::verify
