#include "cli/deep_report.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "base/units.hpp"
#include "cli/media_text.hpp"
#include "cli/terminal.hpp"
#include "render/figure.hpp"

namespace wavecrest::cli {
namespace {

std::string seconds_text(Time time) {
    return fmt::format("{:.2f} s", base::to_seconds(time));
}

}  // namespace

void print_deep(const measure::DeepReport& deep) {
    print("\nRead to the end: {}\n", base::format_clock(deep.duration));
    for (const std::string& word : measure::in_words(deep)) print("  - {}\n", word);
    print("\n  {:<8} average {}, peak {} (1 s), {} (10 s)\n", "all",
          base::format_bitrate(deep.rate.mean_bps(deep.duration)), base::format_bitrate(deep.rate.peak(10).bps),
          base::format_bitrate(deep.rate.peak(100).bps));
    for (const measure::TrackMeasure& m : deep.tracks) {
        print("  {:<8} {}: average {}, peak {} (1 s)\n", media::short_name(m.track.kind),
              media::display_name(m.track.codec), base::format_bitrate(m.rate.mean_bps(m.end)),
              base::format_bitrate(m.rate.peak(10).bps));
        if (m.track.kind == TrackKind::video && !m.keyframes.empty()) {
            print("           {} keyframes, interval {} to {}, average {}{}\n", m.keyframes.size(),
                  seconds_text(m.shortest_group), seconds_text(m.longest_group), seconds_text(m.mean_group),
                  m.track.reference_frames > 0 ? fmt::format("; {} reference {}", m.track.reference_frames,
                                                             m.track.reference_frames == 1 ? "frame" : "frames")
                                               : "");
        }
        if (m.buffer) {
            print("           decoder buffer (VBV) {}: limit {} at {}; used {}, minimum fill {}{}\n",
                  m.buffer->claimed ? "as declared" : "of its level",
                  base::format_bytes(static_cast<std::uint64_t>(m.buffer->size_bits / 8)),
                  base::format_bitrate(m.buffer->rate_bps),
                  base::format_bytes(static_cast<std::uint64_t>(m.buffer->needed_bits / 8)),
                  base::format_bytes(static_cast<std::uint64_t>(m.buffer->lowest_bits / 8)),
                  m.buffer->missed > 0 ? fmt::format("; {} frames late", m.buffer->missed) : "");
        }
        if (!m.needed_level.empty())
            print("           level {} declared, {} required\n", m.track.level, m.needed_level);
        if (!m.cadence.empty()) print("           cadence: {}\n", m.cadence);
        if (m.loudness)
            print("           loudness {:.1f} LUFS, range {:.1f} LU, true peak {:+.1f} dBTP{}\n",
                  m.loudness->integrated, m.loudness->range, m.loudness->true_peak,
                  m.loudness->share < 0.9
                      ? fmt::format(" (from {:.0f} % of the audio, spread evenly)", 100 * m.loudness->share)
                      : "");
        if (!m.not_decoded.empty())
            print("           {}: {}\n", m.track.kind == TrackKind::video ? "not decoded" : "loudness not measured",
                  m.not_decoded);
        if (m.gap_count > 0) print("           timestamp gaps: {}\n", m.gap_count);
    }
    if (deep.borders)
        print("  {:<8} top {}, bottom {}, left {}, right {} ({} frames checked)\n", "bars", deep.borders->top,
              deep.borders->bottom, deep.borders->left, deep.borders->right, deep.borders->pictures);
    print("  {:<8} interleaving at most {}\n", "muxing", seconds_text(deep.interleave));
    constexpr std::size_t kShown = 12;
    for (std::size_t i = 0; i < std::min(kShown, deep.problems.size()); ++i)
        print("  problem  {} (from {} to {})\n", deep.problems[i].what, base::format_clock(deep.problems[i].from),
              base::format_clock(deep.problems[i].to));
    if (deep.problems.size() > kShown) print("  ... and {} more; --json lists them\n", deep.problems.size() - kShown);
}

void print_transport(const measure::TransportReport& report) {
    const auto ms = [](Time time) { return fmt::format("{:.0f} ms", base::to_seconds(time) * 1000); };
    print("\n  {:<8} {} of 188 bytes, {} by PCR{}\n", "packets", report.packets, base::format_bitrate(report.mean_bps),
          report.null_packets > 0 ? fmt::format(", {:.0f} % null packets",
                                                100.0 * static_cast<double>(report.null_packets) /
                                                    static_cast<double>(std::max<std::uint64_t>(report.packets, 1)))
                                  : "");
    print("           PCR interval at most {}, PAT/PMT interval at most {}; {} gaps\n", ms(report.clock_interval),
          ms(report.table_interval), report.discontinuities);
    for (const measure::TransportStreamMeasure& stream : report.streams) {
        if (stream.units == 0) continue;
        print("           PID {}: data at most {} before decoding, at most {} buffered (T-STD){}\n", stream.pid,
              ms(stream.earliest), base::format_bytes(static_cast<std::uint64_t>(stream.held_bytes)),
              stream.late > 0 ? fmt::format("; {} late", stream.late) : "");
    }
    for (const std::string& word : measure::in_words(report)) print("  - {}\n", word);
}

// A figure and a table for each question: rate against links, keyframe distances, loudness.
Status write_deep_figures(const std::string& folder, const std::string& stem, const std::string& name,
                          const measure::DeepReport& deep, std::vector<std::string>& files) {
    const auto write = [&](const std::string& part, const render::Figure& figure, const std::string& csv) -> Status {
        WAVECREST_TRY(write_result(folder, stem + "-" + part + ".csv", csv));
        WAVECREST_TRY(render::write_png(figure, base::Path(folder) / (stem + "-" + part + ".png")));
        files.push_back(stem + "-" + part + ".png");
        return {};
    };
    const double end = base::to_seconds(deep.duration);
    const auto flat = [&](double value, std::string label, int colour) {
        return render::Series{
            std::move(label), render::Series::Style::dashed, colour, false, {{0.0, value}, {end, value}}};
    };
    {
        render::Figure figure;
        figure.title = fmt::format("{}: bit rate against common links", name);
        figure.x_label = "time (minutes:seconds)";
        figure.y_label = "Mbit/s";
        std::string csv = "second,bits_per_second\n";
        render::Series bars{"bit rate (1 s)", render::Series::Style::steps, 0, false, {}};
        auto seconds = deep.rate.per_second();
        // The last one counts when most of it is there.
        if (seconds.size() > 1 && static_cast<double>(seconds.size()) - end > 0.5) seconds.pop_back();
        double highest = 0;
        for (std::size_t i = 0; i < seconds.size(); ++i) {
            csv += fmt::format("{},{:.0f}\n", i, seconds[i]);
            bars.points.emplace_back(static_cast<double>(i), seconds[i] / 1e6);
            highest = std::max(highest, seconds[i] / 1e6);
        }
        if (!seconds.empty()) bars.points.emplace_back(end, seconds.back() / 1e6);
        figure.series.push_back(std::move(bars));
        const auto peak = deep.rate.peak(10);
        figure.series.push_back(flat(static_cast<double>(peak.bps) / 1e6,
                                     fmt::format("peak (1 s): {}", base::format_bitrate(peak.bps)), 1));
        // Only links within sight of the curve; where all are far above it, that is said.
        const std::size_t before = figure.series.size();
        for (const auto& [rate, label] : {std::pair{94.0, "100 Mbit/s Ethernet, one viewer"},
                                          {47.0, "100 Mbit/s Ethernet, two viewers"},
                                          {20.0, "weak Wi-Fi, 20 Mbit/s"},
                                          {941.0, "gigabit"}}) {
            if (rate < highest * 4 && rate > highest / 4)
                figure.series.push_back(flat(rate, label, rate == 94.0 ? 2 : 3));
        }
        if (figure.series.size() == before)
            figure.title = fmt::format("{}: bit rate, far below weak Wi-Fi (20 Mbit/s)", name);
        WAVECREST_TRY(write("rate", figure, csv));
    }
    for (const measure::TrackMeasure& m : deep.tracks) {
        if (m.track.kind != TrackKind::video || m.keyframes.size() < 2) continue;
        render::Figure figure;
        figure.title = fmt::format("{}: keyframe interval (longest wait for a seek or channel change)", name);
        figure.x_label = "time (minutes:seconds)";
        figure.y_label = "seconds to the next keyframe";
        std::string csv = "keyframe_s,distance_s\n";
        render::Series bars{"distance", render::Series::Style::steps, 0, false, {}};
        for (std::size_t i = 0; i < m.keyframes.size(); ++i) {
            const Time next = i + 1 < m.keyframes.size() ? m.keyframes[i + 1] : m.end;
            const double at = base::to_seconds(m.keyframes[i]), distance = base::to_seconds(next - m.keyframes[i]);
            csv += fmt::format("{:.3f},{:.3f}\n", at, distance);
            bars.points.emplace_back(at, distance);
        }
        if (!bars.points.empty()) bars.points.emplace_back(base::to_seconds(m.end), bars.points.back().second);
        figure.series.push_back(std::move(bars));
        figure.series.push_back(
            flat(base::to_seconds(m.mean_group), fmt::format("average: {}", seconds_text(m.mean_group)), 2));
        WAVECREST_TRY(write("keyframes", figure, csv));
        break;
    }
    render::Figure figure;
    figure.title = fmt::format("{}: loudness over time", name);
    figure.x_label = "time (minutes:seconds)";
    figure.y_label = "LUFS, three seconds";
    std::string csv = "track,second,short_term_lufs\n";
    int colour = 0;
    for (const measure::TrackMeasure& m : deep.tracks) {
        if (!m.loudness || m.loudness->short_term.empty()) continue;
        render::Series line{describe(m.track), render::Series::Style::line, colour++, false, {}};
        std::size_t number = 0;
        for (const auto& [at, value] : m.loudness->short_term) {
            csv += fmt::format("{},{:.1f},{:.1f}\n", m.track.id, base::to_seconds(at), value);
            if (++number > 2)
                line.points.emplace_back(base::to_seconds(at), std::max(static_cast<double>(value), -70.0));
        }
        if (!line.points.empty()) figure.series.push_back(std::move(line));
    }
    if (figure.series.empty()) return {};
    figure.series.push_back(flat(-23, "EBU R 128 programme loudness: -23", 3));
    return write("loudness", figure, csv);
}

}  // namespace wavecrest::cli
