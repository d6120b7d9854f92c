#include "filter/tone_map.hpp"

#include <algorithm>
#include <array>
#include <bit>
#include <cmath>
#include <unordered_map>
#include <vector>

#include "base/wide.hpp"

namespace wavecrest::filter {
namespace {

constexpr double kTargetPeak = 100, kHlgPeak = 1000, kHlgGamma = 1.2, kReferenceWhite = 203, kDisplayGamma = 2.4;

// BT.2100, table 4.
constexpr double kM1 = 2610.0 / 16384, kM2 = 2523.0 / 4096 * 128, kC1 = 3424.0 / 4096, kC2 = 2413.0 / 4096 * 32,
                 kC3 = 2392.0 / 4096 * 32;
// BT.2100, table 5.
constexpr double kA = 0.17883277, kB = 1 - 4 * kA;
const double kC = 0.5 - kA * std::log(4 * kA);

// Shares of luminance in R, G, B.
constexpr double kWide[3] = {0.2627, 0.6780, 0.0593}, kNarrow[3] = {0.2126, 0.7152, 0.0722};
// Linear light of BT.2020 to that of BT.709, and back (Rec. ITU-R BT.2087, annex 1).
constexpr double kToNarrow[3][3] = {
    {1.660491, -0.587641, -0.072850}, {-0.124550, 1.132900, -0.008349}, {-0.018151, -0.100579, 1.118730}};
constexpr double kToWide[3][3] = {
    {0.627404, 0.329283, 0.043313}, {0.069097, 0.919540, 0.011362}, {0.016391, 0.088013, 0.895595}};

constexpr int kSteps = 4096;

// A function of 0 to 1 at even places; the nearest is taken.
class EvenTable {
  public:
    template <typename Function>
    explicit EvenTable(Function function) : values_(kSteps + 1) {
        for (int i = 0; i <= kSteps; ++i)
            values_[static_cast<std::size_t>(i)] = static_cast<float>(function(static_cast<double>(i) / kSteps));
    }
    const float* data() const { return values_.data(); }

  private:
    std::vector<float> values_;
};
WAVECREST_INLINE std::int32_t even_place(float at) {
    at = at > 0 ? at : 0;
    at = at < 1 ? at : 1;
    return static_cast<std::int32_t>(at * kSteps + 0.5f);
}

// A function of light, 0 to 1, at places whose distance is a share of where they are: by the upper bits of the number's
// own form (an exponent and eight bits behind it), from 2^-24 on.
constexpr int kLightShift = 23 - 8;
constexpr std::int32_t kLeastLight = (127 - 24) << 8, kMostLight = 127 << 8;
class LightTable {
  public:
    template <typename Function>
    explicit LightTable(Function function) : values_(kMostLight - kLeastLight + 1) {
        for (std::int32_t i = 1; i < kMostLight - kLeastLight; ++i) {
            // The middle of what falls onto the place.
            const auto bits = static_cast<std::uint32_t>(i + kLeastLight) << kLightShift | 1u << (kLightShift - 1);
            values_[static_cast<std::size_t>(i)] = static_cast<float>(function(std::bit_cast<float>(bits)));
        }
        values_.front() = static_cast<float>(function(0));
        values_.back() = static_cast<float>(function(1));
    }
    const float* data() const { return values_.data(); }

  private:
    std::vector<float> values_;
};
WAVECREST_INLINE std::int32_t light_place(float light) {
    std::int32_t at = (std::bit_cast<std::int32_t>(light) >> kLightShift) - kLeastLight;
    at = at > 0 ? at : 0;  // negative numbers, too: their first bit is set
    return at < kMostLight - kLeastLight ? at : kMostLight - kLeastLight;
}

// So many samples of a line at a time: all that is needed of them lies in the nearest cache.
constexpr std::size_t kRun = 256;

// Places first, in vectors, then what lies there.
template <typename Place>
WAVECREST_INLINE void look_up(const float* table, float* __restrict values, std::size_t count, Place place) {
    std::int32_t at[kRun];
    for (std::size_t x = 0; x < count; ++x) at[x] = place(values[x]);
    for (std::size_t x = 0; x < count; ++x) values[x] = table[at[x]];
}

// What light of the display, cd/m2, is multiplied by to be that of the scene: where it has this luminance (the inverse
// of BT.2100's opto-optical transfer).
double scene_gain(double luminance) {
    return luminance > 0 ? std::pow(luminance / kHlgPeak, (1 - kHlgGamma) / kHlgGamma) / kHlgPeak : 0;
}

// Display light from 0 to 1 of a PQ signal, after the EETF.
double mapped_pq(double signal, double peak) {
    return std::clamp(pq_to_luminance(eetf(signal, peak, kTargetPeak)) / kTargetPeak, 0.0, 1.0);
}

}  // namespace

double pq_to_luminance(double signal) {
    const double power = std::pow(std::max(signal, 0.0), 1 / kM2);
    return 10000 * std::pow(std::max(power - kC1, 0.0) / (kC2 - kC3 * power), 1 / kM1);
}

double luminance_to_pq(double luminance) {
    const double power = std::pow(std::clamp(luminance / 10000, 0.0, 1.0), kM1);
    return std::pow((kC1 + kC2 * power) / (1 + kC3 * power), kM2);
}

double hlg_to_scene(double signal) {
    return signal <= 0.5 ? signal * signal / 3 : (std::exp((signal - kC) / kA) + kB) / 12;
}

double scene_to_hlg(double light) {
    return light <= 1.0 / 12 ? std::sqrt(3 * std::max(light, 0.0)) : kA * std::log(12 * light - kB) + kC;
}

double eetf(double signal, double source_peak, double target_peak) {
    const double whole = luminance_to_pq(source_peak);
    const double e1 = std::min(signal / whole, 1.0), most = luminance_to_pq(target_peak) / whole;
    if (most >= 1) return signal;
    const double knee = 1.5 * most - 0.5;
    if (e1 < knee) return e1 * whole;
    const double t = (e1 - knee) / (1 - knee), t2 = t * t, t3 = t2 * t;
    const double e2 = (2 * t3 - 3 * t2 + 1) * knee + (t3 - 2 * t2 + t) * (1 - knee) + (-2 * t3 + 3 * t2) * most;
    return e2 * whole;
}

double source_peak(const Track& track) {
    if (track.colour.transfer == media::kTransferHlg) return kHlgPeak;
    double peak = 1000;
    if (track.mastering_display && track.mastering_display->max_luminance > 0)
        peak = static_cast<double>(track.mastering_display->max_luminance) / 10000;
    if (track.content_light && track.content_light->max_content >= kTargetPeak)
        peak = std::min(peak, static_cast<double>(track.content_light->max_content));
    return std::clamp(peak, kTargetPeak, 10000.0);
}

struct ToneMapper::Tables {
    bool hlg;
    EvenTable light;    // signal to light: of the display, mapped (PQ), or of the scene (HLG)
    LightTable gain;    // HLG: by the scene's luminance, what its light is multiplied by for the display
    LightTable mapped;  // HLG: by the display's light, the same, mapped
    LightTable signal;  // by light, the signal of BT.1886

    explicit Tables(const Track& track)
        : hlg(track.colour.transfer == media::kTransferHlg),
          light([&](double e) { return hlg ? hlg_to_scene(e) : mapped_pq(e, source_peak(track)); }),
          gain([](double luminance) { return std::pow(luminance, kHlgGamma - 1); }),
          mapped([](double shown) { return mapped_pq(luminance_to_pq(shown * kHlgPeak), kHlgPeak); }),
          signal([](double shown) { return std::pow(shown, 1 / kDisplayGamma); }) {}
};

ToneMapper::ToneMapper(const Track& track) : tables_(std::make_unique<Tables>(track)) {}
ToneMapper::~ToneMapper() = default;

namespace {

// A line of the picture as lines of numbers: signals and their luma.
struct Line {
    std::vector<float> r, g, b, luma;
    explicit Line(std::size_t width) : r(width), g(width), b(width), luma(width) {}
};

// Codes to R', G', B' (BT.2020, table 4, with the ranges of table 5).
struct Scale {
    float black, luma, chroma;  // luma and chroma: one over their range
    explicit Scale(const Picture& picture) {
        const auto unit = static_cast<float>(1 << (picture.bit_depth - 8));
        const bool full = picture.colour.full_range;
        black = full ? 0 : 16 * unit;
        luma = 1 / (full ? 256 * unit - 1 : 219 * unit);
        chroma = 1 / (full ? 256 * unit - 1 : 224 * unit);
    }
};

// Chroma from 0.5 below to 0.5 above nothing, for each column. Its samples lie between two lines, the nearer of which
// counts three times, and on every other column: between them is their mean. `have`: samples up to the line's end.
template <typename Sample>
WAVECREST_INLINE void spread_chroma(const Sample* near, const Sample* far, std::size_t count, std::size_t have,
                                    float middle, float scale, float* __restrict out) {
    float half[kRun / 2 + 1];
    const std::size_t needed = count / 2 + 1, there = needed < have ? needed : have;
    for (std::size_t x = 0; x < there; ++x)
        half[x] = (0.75f * static_cast<float>(near[x]) + 0.25f * static_cast<float>(far[x]) - middle) * scale;
    for (std::size_t x = there; x < needed; ++x) half[x] = half[there - 1];
    for (std::size_t x = 0; x < count / 2; ++x) {
        out[2 * x] = half[x];
        out[2 * x + 1] = 0.5f * (half[x] + half[x + 1]);
    }
    if (count % 2 != 0) out[count - 1] = half[count / 2];
}

template <typename Sample>
WAVECREST_INLINE void to_rgb(const Sample* luma, const float* cb, const float* cr, std::size_t width, float black,
                             float scale, float* __restrict r, float* __restrict g, float* __restrict b) {
    constexpr auto kRed = static_cast<float>(2 * (1 - kWide[0])), kBlue = static_cast<float>(2 * (1 - kWide[2]));
    constexpr auto kGreenRed = static_cast<float>(2 * (1 - kWide[0]) * kWide[0] / kWide[1]);
    constexpr auto kGreenBlue = static_cast<float>(2 * (1 - kWide[2]) * kWide[2] / kWide[1]);
    for (std::size_t x = 0; x < width; ++x) {
        const float v = (static_cast<float>(luma[x]) - black) * scale;
        r[x] = v + kRed * cr[x];
        g[x] = v - kGreenBlue * cb[x] - kGreenRed * cr[x];
        b[x] = v + kBlue * cb[x];
    }
}

// Light of BT.2020's primaries, from 0 to 1, made BT.709's.
WAVECREST_INLINE void to_narrow(float* __restrict red, float* __restrict green, float* __restrict blue,
                                std::size_t width) {
    constexpr auto m = [](int row, int column) { return static_cast<float>(kToNarrow[row][column]); };
    constexpr auto kRed = static_cast<float>(kNarrow[0]), kGreen = static_cast<float>(kNarrow[1]),
                   kBlue = static_cast<float>(kNarrow[2]);
    for (std::size_t x = 0; x < width; ++x) {
        const float r = red[x], g = green[x], b = blue[x];
        const float nr = m(0, 0) * r + m(0, 1) * g + m(0, 2) * b;
        const float ng = m(1, 0) * r + m(1, 1) * g + m(1, 2) * b;
        const float nb = m(2, 0) * r + m(2, 1) * g + m(2, 2) * b;
        const float y = kRed * nr + kGreen * ng + kBlue * nb;
        float least = nr < ng ? nr : ng, most = nr > ng ? nr : ng;
        least = nb < least ? nb : least;
        most = nb > most ? nb : most;
        // How far from grey it may be. (The small number keeps grey from dividing nothing by nothing.)
        float under = y - least, over = most - y;
        under = under > 1e-9f ? under : 1e-9f;
        over = over > 1e-9f ? over : 1e-9f;
        const float below = y / under, above = (1 - y) / over;
        float keep = below < above ? below : above;
        keep = keep < 1 ? keep : 1;
        red[x] = y + keep * (nr - y);
        green[x] = y + keep * (ng - y);
        blue[x] = y + keep * (nb - y);
    }
}

// Ordered dithering by the pattern of Bayer's 4x4: what is added before rounding down.
constexpr float kDither[4][4] = {{0.5f / 16, 8.5f / 16, 2.5f / 16, 10.5f / 16},
                                 {12.5f / 16, 4.5f / 16, 14.5f / 16, 6.5f / 16},
                                 {3.5f / 16, 11.5f / 16, 1.5f / 16, 9.5f / 16},
                                 {15.5f / 16, 7.5f / 16, 13.5f / 16, 5.5f / 16}};

// What a line goes through, with the tables as they lie in memory.
struct LineWork {
    bool hlg;
    const float *light, *gain, *mapped, *signal;
    std::size_t width;
    float *r, *g, *b, *luma;  // the result: signals of BT.709, 0 to 1
};
struct LineSource {
    const void *luma, *cb_near, *cb_far, *cr_near, *cr_far;
    float black, luma_scale, middle, chroma_scale;
};

template <typename Sample>
WAVECREST_INLINE void map_line_of(const LineWork& w, const LineSource& s) {
    float cb[kRun], cr[kRun];
    for (std::size_t from = 0; from < w.width; from += kRun) {
        const std::size_t count = w.width - from < kRun ? w.width - from : kRun;
        const std::size_t have = (w.width + 1) / 2 - from / 2;
        const auto at = [&](const void* samples) { return static_cast<const Sample*>(samples) + from / 2; };
        float *r = w.r + from, *g = w.g + from, *b = w.b + from;
        spread_chroma(at(s.cb_near), at(s.cb_far), count, have, s.middle, s.chroma_scale, cb);
        spread_chroma(at(s.cr_near), at(s.cr_far), count, have, s.middle, s.chroma_scale, cr);
        to_rgb(static_cast<const Sample*>(s.luma) + from, cb, cr, count, s.black, s.luma_scale, r, g, b);
        look_up(w.light, r, count, even_place);
        look_up(w.light, g, count, even_place);
        look_up(w.light, b, count, even_place);
        if (w.hlg) {
            float gain[kRun];
            for (std::size_t x = 0; x < count; ++x)
                gain[x] = static_cast<float>(kWide[0]) * r[x] + static_cast<float>(kWide[1]) * g[x] +
                          static_cast<float>(kWide[2]) * b[x];
            look_up(w.gain, gain, count, light_place);
            for (std::size_t x = 0; x < count; ++x) {
                r[x] *= gain[x];
                g[x] *= gain[x];
                b[x] *= gain[x];
            }
            look_up(w.mapped, r, count, light_place);
            look_up(w.mapped, g, count, light_place);
            look_up(w.mapped, b, count, light_place);
        }
        to_narrow(r, g, b, count);
        look_up(w.signal, r, count, light_place);
        look_up(w.signal, g, count, light_place);
        look_up(w.signal, b, count, light_place);
        float* const luma = w.luma + from;
        for (std::size_t x = 0; x < count; ++x)
            luma[x] = static_cast<float>(kNarrow[0]) * r[x] + static_cast<float>(kNarrow[1]) * g[x] +
                      static_cast<float>(kNarrow[2]) * b[x];
    }
}
WAVECREST_WIDE void map_line_8(const LineWork& work, const LineSource& source) {
    map_line_of<std::uint8_t>(work, source);
}
WAVECREST_WIDE void map_line_16(const LineWork& work, const LineSource& source) {
    map_line_of<std::uint16_t>(work, source);
}

WAVECREST_WIDE void put_luma(const float* luma, std::size_t width, const float* dither, std::uint8_t* __restrict out) {
    const std::size_t whole = width / 4 * 4;
    for (std::size_t x = 0; x < whole; x += 4) {
        for (std::size_t i = 0; i < 4; ++i)
            out[x + i] = static_cast<std::uint8_t>(static_cast<int>(16 + 219 * luma[x + i] + dither[i]));
    }
    for (std::size_t x = whole; x < width; ++x)
        out[x] = static_cast<std::uint8_t>(static_cast<int>(16 + 219 * luma[x] + dither[x % 4]));
}

// Chroma of two lines, in the middle of which it lies: three columns count, the middle one twice; beyond the edges
// there is the first or the last again.
WAVECREST_WIDE void put_chroma(const float* __restrict upper, const float* __restrict lower,
                               const float* __restrict upper_luma, const float* __restrict lower_luma,
                               std::size_t width, float scale, const float* dither, std::uint8_t* __restrict out) {
    constexpr std::size_t kHalf = kRun / 2;
    float offset[kHalf];  // of the code, before rounding down
    for (std::size_t n = 0; n < kHalf; ++n) offset[n] = 128 + dither[n % 4];
    float column[kRun], even[kHalf], odd[kHalf + 1];  // sums of the two lines; of the columns between, one before
    for (std::size_t from = 0; from < width; from += kRun) {
        const std::size_t count = std::min(kRun, width - from), half = (count + 1) / 2;
        const float *const u = upper + from, *const l = lower + from;
        const float *const uy = upper_luma + from, *const ly = lower_luma + from;
        for (std::size_t x = 0; x < count; ++x) column[x] = (u[x] - uy[x]) + (l[x] - ly[x]);
        if (count % 2 != 0) column[count] = column[count - 1];
        odd[0] = from == 0 ? column[0] : odd[kHalf];
        for (std::size_t n = 0; n < half; ++n) even[n] = column[2 * n];
        for (std::size_t n = 0; n < half; ++n) odd[n + 1] = column[2 * n + 1];
        for (std::size_t n = 0; n < half; ++n)
            out[from / 2 + n] =
                static_cast<std::uint8_t>(static_cast<int>(offset[n] + scale * (odd[n] + 2 * even[n] + odd[n + 1])));
    }
}

}  // namespace

Picture ToneMapper::apply(const Picture& picture) const {
    const Tables& tables = *tables_;
    Picture out = picture.allocate_alike(picture.width, picture.height, 8);
    out.colour = result_colour();
    const auto width = static_cast<std::size_t>(picture.width);
    Line lines[2] = {Line(width), Line(width)};
    const Scale scale(picture);
    const auto map = [&](int y, Line& line) {
        const int near = y / 2, far = std::clamp(y % 2 == 0 ? near - 1 : near + 1, 0, picture.plane_height(1) - 1);
        const auto row = [&](int plane, int n) -> const void* { return picture.row<std::uint8_t>(plane, n); };
        const LineWork work = {
            tables.hlg, tables.light.data(), tables.gain.data(), tables.mapped.data(), tables.signal.data(),
            width,      line.r.data(),       line.g.data(),      line.b.data(),        line.luma.data()};
        const LineSource source = {
            row(0, y),   row(1, near), row(1, far), row(2, near),
            row(2, far), scale.black,  scale.luma,  static_cast<float>(1 << (picture.bit_depth - 1)),
            scale.chroma};
        picture.bit_depth > 8 ? map_line_16(work, source) : map_line_8(work, source);
    };
    for (int pair = 0; pair < picture.plane_height(1); ++pair) {
        const int rows = std::min(2, picture.height - 2 * pair);
        for (int i = 0; i < rows; ++i) {
            const int y = 2 * pair + i;
            Line& line = lines[i];
            map(y, line);
            put_luma(line.luma.data(), width, kDither[y % 4], out.row<std::uint8_t>(0, y));
        }
        // Eight columns' worth of a signal are summed up.
        constexpr auto kBlue = static_cast<float>(224 / (2 * (1 - kNarrow[2])) / 8),
                       kRed = static_cast<float>(224 / (2 * (1 - kNarrow[0])) / 8);
        const Line &upper = lines[0], &lower = lines[rows - 1];
        put_chroma(upper.b.data(), lower.b.data(), upper.luma.data(), lower.luma.data(), width, kBlue,
                   kDither[pair % 4], out.row<std::uint8_t>(1, pair));
        put_chroma(upper.r.data(), lower.r.data(), upper.luma.data(), lower.luma.data(), width, kRed, kDither[pair % 4],
                   out.row<std::uint8_t>(2, pair));
    }
    return out;
}

namespace {

// R', G', B' of a display of standard dynamic range, 0 to 1, as a signal of high dynamic range.
std::array<double, 3> signal_in_hdr(const std::array<double, 3>& sdr, const ColourDescription& colour) {
    std::array<double, 3> light{}, wide{};
    for (std::size_t i = 0; i < 3; ++i)
        light[i] = kReferenceWhite * std::pow(std::clamp(sdr[i], 0.0, 1.0), kDisplayGamma);
    double luminance = 0;
    for (std::size_t i = 0; i < 3; ++i) {
        for (std::size_t k = 0; k < 3; ++k) wide[i] += kToWide[i][k] * light[k];
        luminance += kWide[i] * wide[i];
    }
    for (double& value : wide)
        value = colour.transfer == media::kTransferHlg ? scene_to_hlg(value * scene_gain(luminance))
                                                       : luminance_to_pq(value);
    return wide;
}

// BT.2020's Y', Cb, Cr of 10 bits, video range.
std::array<std::uint16_t, 3> to_codes(const std::array<double, 3>& rgb) {
    const double y = kWide[0] * rgb[0] + kWide[1] * rgb[1] + kWide[2] * rgb[2];
    const auto code = [](double value) {
        return static_cast<std::uint16_t>(std::clamp(std::lround(value), 4L, 1019L));
    };
    return {code(64 + 876 * y), code(512 + 896 * (rgb[2] - y) / (2 * (1 - kWide[2]))),
            code(512 + 896 * (rgb[0] - y) / (2 * (1 - kWide[0])))};
}

// 8-bit Y', Cb, Cr, video range, to R', G', B'.
std::array<double, 3> from_codes(int y, int cb, int cr, const double (&shares)[3]) {
    const double v = (y - 16) / 219.0, blue = (cb - 128) / 224.0, red = (cr - 128) / 224.0;
    return {v + 2 * (1 - shares[0]) * red,
            v - 2 * (1 - shares[2]) * shares[2] / shares[1] * blue - 2 * (1 - shares[0]) * shares[0] / shares[1] * red,
            v + 2 * (1 - shares[2]) * blue};
}

}  // namespace

SdrInHdr::SdrInHdr(const ColourDescription& colour) : colour_(colour) {}

std::uint16_t SdrInHdr::grey(double luminance) const {
    const double signal = colour_.transfer == media::kTransferHlg ? scene_to_hlg(luminance * scene_gain(luminance))
                                                                  : luminance_to_pq(luminance);
    return to_codes({signal, signal, signal})[0];
}

Picture SdrInHdr::apply(const Picture& picture) const {
    constexpr double kOld[3] = {0.299, 0.587, 0.114};
    const bool old = picture.colour.matrix == 5 || picture.colour.matrix == 6;
    const double(&shares)[3] = old ? kOld : kNarrow;
    Picture out = picture.allocate_alike(picture.width, picture.height, 10);
    out.colour = colour_;
    // Few colours of what is drawn are different ones: each is computed once.
    std::unordered_map<std::uint32_t, std::array<std::uint16_t, 3>> known;
    const auto coded = [&](int x, int y) {
        const int luma = picture.row<std::uint8_t>(0, y)[x];
        const int cb = picture.row<std::uint8_t>(1, y / 2)[x / 2], cr = picture.row<std::uint8_t>(2, y / 2)[x / 2];
        const auto key = static_cast<std::uint32_t>(luma << 16 | cb << 8 | cr);
        const auto found = known.find(key);
        if (found != known.end()) return found->second;
        return known.emplace(key, to_codes(signal_in_hdr(from_codes(luma, cb, cr, shares), colour_))).first->second;
    };
    for (int y = 0; y < picture.height; ++y) {
        for (int x = 0; x < picture.width; ++x) {
            const auto codes = coded(x, y);
            out.row<std::uint16_t>(0, y)[x] = codes[0];
            if (y % 2 != 0 || x % 2 != 0) continue;
            out.row<std::uint16_t>(1, y / 2)[x / 2] = codes[1];
            out.row<std::uint16_t>(2, y / 2)[x / 2] = codes[2];
        }
    }
    return out;
}

void to_hdr(Overlay& overlay, const ColourDescription& colour) {
    if (overlay.bit_depth != 8) return;
    for (Overlay::Region& region : overlay.regions) {
        for (Overlay::Colour& c : region.colours) {
            const auto codes = to_codes(signal_in_hdr(from_codes(c.y, c.cb, c.cr, kNarrow), colour));
            c.y = codes[0];
            c.cb = codes[1];
            c.cr = codes[2];
        }
    }
    overlay.bit_depth = 10;
}

}  // namespace wavecrest::filter
