// High dynamic range made standard, for devices without it: Rec. ITU-R BT.2100 (PQ or HLG, primaries of BT.2020) to
// BT.709 of 8 bits, graded for the 100 cd/m2 of BT.1886's reference display.
//
// Each of R', G' and B' goes through the electrical-to-electrical transfer of Report ITU-R BT.2390, 5.4.1, from the
// source's peak to 100 cd/m2; HLG is first rendered for a display of 1000 cd/m2 by the opto-optical transfer of BT.2100
// (table 5). What then lies outside BT.709's primaries is drawn towards grey of the same luminance until it fits.
#pragma once

#include <memory>
#include <optional>

#include "base/result.hpp"
#include "media/types.hpp"

namespace wavecrest::filter {

// BT.2100, table 4: the display's luminance, 0 to 10000 cd/m2, of a PQ signal from 0 to 1, and back.
double pq_to_luminance(double signal);
double luminance_to_pq(double luminance);
// BT.2100, table 5: the scene's light of an HLG signal, both from 0 to 1, and back.
double hlg_to_scene(double signal);
double scene_to_hlg(double light);
// BT.2390, 5.4.1, steps 1 to 4, with both blacks at 0: a PQ signal for a display of `source_peak` cd/m2 made one for
// `target_peak`.
double eetf(double signal, double source_peak, double target_peak);

// The peak a source was graded for, cd/m2: that of its mastering display, or of its brightest pixel where that is less;
// 1000 where nothing is told.
double source_peak(const Track& track);

class ToneMapper {
  public:
    // For tracks whose colour is one of high dynamic range (media::is_hdr).
    explicit ToneMapper(const Track& track);
    ~ToneMapper();
    // Of 10 bits (or 8), any size.
    Picture apply(const Picture& picture) const;
    static ColourDescription result_colour() { return {1, 1, 1, false}; }

  private:
    struct Tables;
    std::unique_ptr<Tables> tables_;
};

// The other way: pictures of standard dynamic range (8 bits, BT.709's or BT.601's matrix) inside a signal of high
// dynamic range. White becomes the reference white of Report ITU-R BT.2408, 203 cd/m2; nothing is made brighter.
class SdrInHdr {
  public:
    explicit SdrInHdr(const ColourDescription& colour);
    // Of 10 bits.
    Picture apply(const Picture& picture) const;
    // Luma of grey of so many cd/m2, 0 to 1000 (HLG) or 10000 (PQ), of 10 bits.
    std::uint16_t grey(double luminance) const;

  private:
    ColourDescription colour_;
};

// Subtitles' colours (BT.709) for pictures of high dynamic range: white becomes the reference white of Report ITU-R
// BT.2408, 203 cd/m2. With 10 bits.
void to_hdr(Overlay& overlay, const ColourDescription& colour);

}  // namespace wavecrest::filter
