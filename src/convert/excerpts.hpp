// Short excerpts of a title, converted to nowhere, for what the whole will come to.
#pragma once

#include <cstdint>
#include <optional>
#include <vector>

#include "convert/convert.hpp"

namespace wavecrest::convert {

struct Excerpt {
    Time at{};
    Time length{};  // 0: the whole title
};

// Spread evenly, yet in step with no rhythm the title may have. A short title is tried as a whole: excerpts begin at
// keyframes before their places, and would overlap.
inline constexpr int kExcerpts = 6;
std::vector<Excerpt> excerpts_of(Time duration, int count = kExcerpts);

// What went to an output.
struct Counted {
    std::uint64_t bytes = 0, packets = 0;
    std::uint64_t other_bytes = 0;  // of all tracks but video
    std::uint64_t first_bytes = 0;  // of the video's first packets, one for each excerpt
};

// Takes packets and only counts their bytes.
class CountingSink : public PacketSink {
  public:
    CountingSink(const std::vector<Track>& tracks, Counted& counted);
    Status write(const Packet& packet) override;
    Status finish() override { return {}; }

  private:
    Counted& counted_;
    TrackId video_ = -1;
    bool begun_ = false;
};

// Runs a plan's graph, or a part of it, over an excerpt; adds to `counted`, one for each output. Nothing where the data
// is missing, with the reason in `refused`.
Result<std::optional<transcode::GraphResult>> run_excerpt(const source::Input& input, const Plan& plan,
                                                          const transcode::GraphSettings& graph, const Excerpt& excerpt,
                                                          std::vector<Counted>& counted, std::optional<Error>& refused,
                                                          const Cancel& cancel);

// What a container adds to so much data: its index and headers, or the headers of transport packets.
double overhead(std::string_view container, double bytes, double packets, double seconds);

// Bytes a second of the whole title, by an excerpt of it. Each begins with a keyframe, of which the whole has one only
// now and then: it counts for so much.
double whole_rate(const Plan& plan, std::size_t output, const Counted& counted, Time sampled);

// A graph with one of its outputs alone, and what that needs.
transcode::GraphSettings only_output(const transcode::GraphSettings& whole, std::size_t output);

}  // namespace wavecrest::convert
