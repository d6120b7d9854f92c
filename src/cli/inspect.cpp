#include <algorithm>
#include <cmath>
#include <nlohmann/json.hpp>

#include "base/units.hpp"
#include "cli/commands.hpp"
#include "cli/media_json.hpp"
#include "convert/name.hpp"
#include "measure/deep.hpp"
#include "measure/rate.hpp"
#include "render/figure.hpp"
#include "render/table.hpp"
#include "source/input.hpp"

namespace wavecrest::cli {
namespace {

struct TitleReport {
    const source::Title* title;
    measure::RateCurve rate;
    bool is_protected = false;
    bool in_full = false;
    std::vector<Problem> problems;
};

// Over the whole title: from its rate curve, or from size and length.
std::int64_t mean_bps(const TitleReport& report) {
    if (report.rate.bytes() > 0) return report.rate.mean_bps();
    const double seconds = base::to_seconds(report.title->duration);
    return seconds > 0 ? static_cast<std::int64_t>(static_cast<double>(report.title->size_bytes) * 8 / seconds) : 0;
}

nlohmann::ordered_json title_json(const TitleReport& report) {
    const source::Title& title = *report.title;
    nlohmann::ordered_json json = {{"number", title.number},
                                   {"duration_s", std::round(base::to_seconds(title.duration) * 1000) / 1000},
                                   {"main", title.main},
                                   {"role", disc::short_name(title.role)},
                                   {"why", title.why},
                                   {"size_bytes", title.size_bytes},
                                   {"bitrate_bps", mean_bps(report)},
                                   {"angles", title.angles},
                                   {"protected", report.is_protected}};
    if (report.in_full) json["peak_1s_bps"] = report.rate.peak_bps();
    if (title.same_as != 0) json["same_as"] = title.same_as;
    json["chapters"] = to_json(title.chapters);
    json["tracks"] = nlohmann::ordered_json::array();
    for (const Track& track : title.tracks) json["tracks"].push_back(to_json(track));
    json["cells"] = nlohmann::ordered_json::array();
    for (const auto& segment : title.segments) {
        json["cells"].push_back(
            {{"id", segment.id}, {"duration_s", std::round(base::to_seconds(segment.duration) * 1000) / 1000}});
    }
    json["differences"] = title.differences;
    json["problems"] = to_json(report.problems);
    return json;
}

void print_title(const TitleReport& report, bool disc, const char* pieces) {
    const source::Title& title = *report.title;
    if (disc)
        fmt::print("\nTitle {}{}: {}, {}\n", title.number, title.main ? " (main)" : "",
                   base::format_clock(title.duration), base::format_bytes(title.size_bytes));
    if (report.is_protected) fmt::print("  protected: its packs are marked as scrambled, so it can't be converted\n");
    for (const Track& track : title.tracks) fmt::print("  {:<8} {}\n", media::short_name(track.kind), describe(track));
    if (report.rate.bytes() == 0 && mean_bps(report) > 0)
        fmt::print("  {:<8} {} on average; inspect --deep tells its peaks\n", "bit rate",
                   base::format_bitrate(mean_bps(report)));
    if (report.rate.bytes() > 0)
        fmt::print("  {:<8} {} on average, {} in the highest second\n", "bit rate",
                   base::format_bitrate(report.rate.mean_bps()), base::format_bitrate(report.rate.peak_bps()));
    if (!title.chapters.empty()) {
        std::string starts;
        for (const Chapter& chapter : title.chapters)
            starts += (starts.empty() ? "" : ", ") + base::format_clock(chapter.start);
        fmt::print("  {:<8} {}, at {}\n", "chapters", title.chapters.size(), starts);
    }
    if (title.angles > 1) fmt::print("  {:<8} {}: convert --angle takes one of them\n", "angles", title.angles);
    if (pieces != nullptr && !title.segments.empty()) {
        fmt::print("  {:<8} {}\n", pieces, title.segments.size());
        Time at{};
        for (const auto& segment : title.segments) {
            fmt::print("           {:>9}  {:>8}  {}\n", base::format_clock(at), base::format_clock(segment.duration),
                       segment.id);
            at += segment.duration;
        }
    }
    for (const std::string& difference : title.differences) fmt::print("  note     {}\n", difference);
    for (const Problem& problem : report.problems) {
        fmt::print("  problem  {} (from {} to {})\n", problem.what, base::format_clock(problem.from),
                   base::format_clock(problem.to));
    }
}

const char* kind_of(const source::Input& input) {
    if (input.container() == "dvd-video") return "ripped DVD-Video disc";
    if (input.container() == "blu-ray") return "ripped Blu-ray disc";
    constexpr std::pair<std::string_view, const char*> kNames[] = {{"mp4", "MP4 file"},
                                                                   {"matroska", "Matroska file"},
                                                                   {"webm", "WebM file"},
                                                                   {"mpeg-ts", "MPEG transport stream"},
                                                                   {"mpeg-ps", "MPEG program stream"},
                                                                   {"avi", "AVI file"},
                                                                   {"flv", "FLV file"},
                                                                   {"wav", "WAV file"},
                                                                   {"flac", "FLAC file"},
                                                                   {"mp3", "MP3 file"},
                                                                   {"adts", "AAC file (ADTS)"},
                                                                   {"ogg", "Ogg file"},
                                                                   {"srt", "SRT subtitles"},
                                                                   {"webvtt", "WebVTT subtitles"}};
    for (const auto& [name, text] : kNames) {
        if (input.container() == name) return text;
    }
    return "media file";
}

Status write_figure(const std::string& folder, const std::string& stem, const std::string& name,
                    const measure::RateCurve& rate) {
    const std::vector<double> seconds = rate.per_second();
    std::string csv = "second,bits_per_second\n";
    render::Figure figure;
    figure.title = fmt::format("{}: bit rate over time", name);
    figure.x_label = "time in the title (minutes:seconds)";
    figure.y_label = "Mbit/s";
    render::Series bars{"each second", render::Series::Style::steps, 0, false, {}};
    for (std::size_t i = 0; i < seconds.size(); ++i) {
        csv += fmt::format("{},{:.0f}\n", i, seconds[i]);
        bars.points.emplace_back(static_cast<double>(i), seconds[i] / 1e6);
    }
    if (!seconds.empty()) bars.points.emplace_back(base::to_seconds(rate.duration()), seconds.back() / 1e6);
    const double end = base::to_seconds(rate.duration());
    const auto level = [&](std::int64_t bps, const char* what, int colour) {
        return render::Series{fmt::format("{}: {}", what, base::format_bitrate(bps)),
                              render::Series::Style::dashed,
                              colour,
                              false,
                              {{0.0, static_cast<double>(bps) / 1e6}, {end, static_cast<double>(bps) / 1e6}}};
    };
    figure.series = {std::move(bars), level(rate.mean_bps(), "average", 2),
                     level(rate.peak_bps(), "highest second", 1)};
    WAVECREST_TRY(write_result(folder, stem + ".csv", csv));
    return render::write_png(figure, base::Path(folder) / (stem + ".png"));
}

std::string seconds_text(Time time) {
    return fmt::format("{:.2f} s", base::to_seconds(time));
}

nlohmann::ordered_json deep_json(const measure::DeepReport& deep) {
    const auto seconds = [](Time time) { return std::round(base::to_seconds(time) * 1000) / 1000; };
    const auto tenth = [](double value) {
        return std::isfinite(value) ? nlohmann::ordered_json(std::round(value * 10) / 10)
                                    : nlohmann::ordered_json(nullptr);
    };
    nlohmann::ordered_json json = {{"summary", measure::in_words(deep)},
                                   {"duration_s", seconds(deep.duration)},
                                   {"bitrate_bps", deep.rate.mean_bps(deep.duration)},
                                   {"peak_1s_bps", deep.rate.peak(10).bps},
                                   {"peak_10s_bps", deep.rate.peak(100).bps},
                                   {"interleave_s", seconds(deep.interleave)}};
    if (deep.borders) {
        json["borders"] = {{"left", deep.borders->left},
                           {"right", deep.borders->right},
                           {"top", deep.borders->top},
                           {"bottom", deep.borders->bottom}};
    }
    json["tracks"] = nlohmann::ordered_json::array();
    for (const measure::TrackMeasure& m : deep.tracks) {
        nlohmann::ordered_json entry = {{"id", m.track.id},
                                        {"kind", media::short_name(m.track.kind)},
                                        {"packets", m.packets},
                                        {"bytes", m.bytes},
                                        {"start_s", seconds(m.first)},
                                        {"end_s", seconds(m.end)},
                                        {"bitrate_bps", m.rate.mean_bps(m.end)},
                                        {"peak_1s_bps", m.rate.peak(10).bps},
                                        {"peak_10s_bps", m.rate.peak(100).bps},
                                        {"gaps", m.gap_count}};
        if (m.track.kind == TrackKind::video) {
            entry["keyframes"] = {{"count", m.keyframes.size()},
                                  {"shortest_s", seconds(m.shortest_group)},
                                  {"mean_s", seconds(m.mean_group)},
                                  {"longest_s", seconds(m.longest_group)},
                                  {"longest_at_s", seconds(m.longest_group_at)}};
            entry["reference_frames"] = m.track.reference_frames;
            if (!m.needed_level.empty()) entry["level_needed"] = m.needed_level;
            if (!m.cadence.empty()) entry["cadence"] = m.cadence;
            if (m.buffer) {
                entry["buffer"] = {{"rate_bps", m.buffer->rate_bps},       {"size_bits", m.buffer->size_bits},
                                   {"claimed", m.buffer->claimed},         {"needed_bits", m.buffer->needed_bits},
                                   {"lowest_bits", m.buffer->lowest_bits}, {"missed", m.buffer->missed}};
            }
        }
        if (m.loudness) {
            entry["loudness"] = {{"integrated_lufs", tenth(m.loudness->integrated)},
                                 {"range_lu", tenth(m.loudness->range)},
                                 {"true_peak_dbtp", tenth(m.loudness->true_peak)},
                                 {"share", std::round(m.loudness->share * 1000) / 1000}};
        } else if (!m.not_decoded.empty()) {
            entry["not_decoded"] = m.not_decoded;
        }
        json["tracks"].push_back(std::move(entry));
    }
    json["problems"] = to_json(deep.problems);
    json["work_s"] = {{"structure", std::round(deep.structure_seconds * 1000) / 1000},
                      {"decoding", std::round(deep.decoding_seconds * 1000) / 1000}};
    return json;
}

void print_deep(const measure::DeepReport& deep) {
    fmt::print("\nRead to the end: {}\n", base::format_clock(deep.duration));
    for (const std::string& word : measure::in_words(deep)) fmt::print("  - {}\n", word);
    fmt::print("\n  {:<8} {} on average, {} in the highest second, {} in the highest ten\n", "all",
               base::format_bitrate(deep.rate.mean_bps(deep.duration)), base::format_bitrate(deep.rate.peak(10).bps),
               base::format_bitrate(deep.rate.peak(100).bps));
    for (const measure::TrackMeasure& m : deep.tracks) {
        fmt::print("  {:<8} {}: {} on average, {} in the highest second\n", media::short_name(m.track.kind),
                   media::short_name(m.track.codec), base::format_bitrate(m.rate.mean_bps(m.end)),
                   base::format_bitrate(m.rate.peak(10).bps));
        if (m.track.kind == TrackKind::video && !m.keyframes.empty()) {
            fmt::print("           {} keyframes, {} to {} apart, {} on average{}\n", m.keyframes.size(),
                       seconds_text(m.shortest_group), seconds_text(m.longest_group), seconds_text(m.mean_group),
                       m.track.reference_frames > 0 ? fmt::format("; {} reference {}", m.track.reference_frames,
                                                                  m.track.reference_frames == 1 ? "frame" : "frames")
                                                    : "");
        }
        if (m.buffer) {
            fmt::print("           decoder buffer {}: {} filled at {}; needed {}, lowest level {}{}\n",
                       m.buffer->claimed ? "as its header claims" : "of its level",
                       base::format_bytes(static_cast<std::uint64_t>(m.buffer->size_bits / 8)),
                       base::format_bitrate(m.buffer->rate_bps),
                       base::format_bytes(static_cast<std::uint64_t>(m.buffer->needed_bits / 8)),
                       base::format_bytes(static_cast<std::uint64_t>(m.buffer->lowest_bits / 8)),
                       m.buffer->missed > 0 ? fmt::format("; {} pictures late", m.buffer->missed) : "");
        }
        if (!m.needed_level.empty())
            fmt::print("           level {} claimed, {} needed\n", m.track.level, m.needed_level);
        if (!m.cadence.empty()) fmt::print("           cadence: {}\n", m.cadence);
        if (m.loudness)
            fmt::print("           loudness {:.1f} LUFS, range {:.1f} LU, true peak {:+.1f} dBTP{}\n",
                       m.loudness->integrated, m.loudness->range, m.loudness->true_peak,
                       m.loudness->share < 0.9
                           ? fmt::format(" (of {:.0f} % of the sound, spread evenly)", 100 * m.loudness->share)
                           : "");
        if (!m.not_decoded.empty()) fmt::print("           loudness unknown: {}\n", m.not_decoded);
        if (m.gap_count > 0) fmt::print("           {} gaps or jumps in its times\n", m.gap_count);
    }
    if (deep.borders)
        fmt::print("  {:<8} {} above, {} below, {} left, {} right (of {} pictures looked at)\n", "borders",
                   deep.borders->top, deep.borders->bottom, deep.borders->left, deep.borders->right,
                   deep.borders->pictures);
    fmt::print("  {:<8} tracks lie at most {} apart\n", "order", seconds_text(deep.interleave));
    constexpr std::size_t kShown = 12;
    for (std::size_t i = 0; i < std::min(kShown, deep.problems.size()); ++i)
        fmt::print("  problem  {} (from {} to {})\n", deep.problems[i].what, base::format_clock(deep.problems[i].from),
                   base::format_clock(deep.problems[i].to));
    if (deep.problems.size() > kShown)
        fmt::print("  ... and {} more; --json lists them\n", deep.problems.size() - kShown);
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
        figure.title = fmt::format("{}: bit rate, and the links that carry it", name);
        figure.x_label = "time (minutes:seconds)";
        figure.y_label = "Mbit/s";
        std::string csv = "second,bits_per_second\n";
        render::Series bars{"each second", render::Series::Style::steps, 0, false, {}};
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
                                     fmt::format("highest second: {}", base::format_bitrate(peak.bps)), 1));
        // Only links within sight of the curve; where all are far above it, that is said.
        const std::size_t before = figure.series.size();
        for (const auto& [rate, label] : {std::pair{94.0, "100 Mbit/s wire, one screen"},
                                          {47.0, "100 Mbit/s wire, two screens"},
                                          {20.0, "weak Wi-Fi, 20 Mbit/s"},
                                          {941.0, "gigabit"}}) {
            if (rate < highest * 4 && rate > highest / 4)
                figure.series.push_back(flat(rate, label, rate == 94.0 ? 2 : 3));
        }
        if (figure.series.size() == before)
            figure.title = fmt::format("{}: bit rate, far below what weak Wi-Fi (20 Mbit/s) carries", name);
        WAVECREST_TRY(write("rate", figure, csv));
    }
    for (const measure::TrackMeasure& m : deep.tracks) {
        if (m.track.kind != TrackKind::video || m.keyframes.size() < 2) continue;
        render::Figure figure;
        figure.title = fmt::format("{}: distance of keyframes, the longest a skip or channel change waits", name);
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

}  // namespace

int run_inspect(const InspectOptions& options) {
    const bool json = options.output.json;
    auto opened = source::open_input(options.input, {options.retries});
    if (!opened) return report_error(opened.error(), json);
    const source::Input& input = **opened;

    std::vector<const source::Title*> in_full;
    if (options.pick.empty()) {
        for (const source::Title& title : input.titles()) {
            if (title.main) in_full.push_back(&title);
        }
    } else {
        auto picked = input.picks(options.pick);
        if (!picked) return report_error(picked.error(), json);
        for (const source::Pick& pick : *picked) {
            if (in_full.empty() || in_full.back() != pick.title) in_full.push_back(pick.title);
        }
    }
    std::vector<TitleReport> reports;
    std::uint64_t size = 0;
    bool any_protected = false;
    for (const source::Title& title : input.titles()) {
        TitleReport report{&title, {}, false, false, title.problems};
        report.in_full = std::find(in_full.begin(), in_full.end(), &title) != in_full.end();
        if (!report.in_full && !options.pick.empty()) continue;
        if (const auto status = input.check_protection(title.number); !status)
            report.is_protected = any_protected = true;
        if (report.in_full) {
            if (const auto pieces = input.rate(title.number)) {
                report.rate = measure::RateCurve(*pieces);
            } else if (input.is_disc()) {
                report.problems.push_back(
                    {fmt::format("the bit rate can't be told: {}", pieces.error().what), {}, title.duration});
            }
        }
        // The same data under two numbers is there once.
        if (title.role != disc::Role::duplicate && title.role != disc::Role::decoy) size += title.size_bytes;
        reports.push_back(std::move(report));
    }
    const TitleReport* main = &reports.front();
    for (const TitleReport& report : reports) {
        if (report.title->main) main = &report;
    }

    nlohmann::ordered_json result = {{"source", options.input},
                                     {"container", input.container()},
                                     {"name", convert::film_name(input.name_hint()).full()},
                                     {"duration_s", std::round(base::to_seconds(main->title->duration) * 1000) / 1000},
                                     {"size_bytes", size},
                                     {"bitrate_bps", mean_bps(*main)},
                                     {"peak_1s_bps", main->rate.peak_bps()}};
    if (input.is_disc()) {
        result["titles"] = nlohmann::ordered_json::array();
        for (const TitleReport& report : reports) result["titles"].push_back(title_json(report));
        result["episodes"] = nlohmann::ordered_json::array();
        for (const disc::Episode& episode : input.episodes()) {
            nlohmann::ordered_json entry = {{"title", episode.title},
                                            {"duration_s", base::to_seconds(episode.end - episode.start)}};
            if (episode.first_chapter > 0) {
                entry["first_chapter"] = episode.first_chapter;
                entry["last_chapter"] = episode.last_chapter;
                entry["start_s"] = base::to_seconds(episode.start);
            }
            result["episodes"].push_back(std::move(entry));
        }
    } else {
        result["chapters"] = to_json(main->title->chapters);
    }
    result["tracks"] = nlohmann::ordered_json::array();
    for (const Track& track : main->title->tracks) result["tracks"].push_back(to_json(track));
    result["notes"] = input.notes();
    result["problems"] = to_json(main->problems);

    std::optional<measure::DeepReport> deep;
    if (options.deep) {
        const source::Title& title = *main->title;
        if (const auto status = input.check_protection(title.number); !status)
            return report_error(status.error(), json);
        auto source = input.open(title.number, 1);
        if (!source) return report_error(source.error(), json);
        Result<measure::DeepReport> measured;
        {
            ProgressLine line("reading", options.output.quiet || json);
            const measure::Reopen again = [&] { return input.open(title.number, 1); };
            measured = measure::measure_deep(**source, options.input == "-" ? measure::Reopen() : again, {},
                                             line.callback(), cancel());
        }
        if (!measured) return report_error(measured.error(), json);
        deep = std::move(*measured);
        result["deep"] = deep_json(*deep);
    }

    if (!options.output.out.empty()) {
        const std::string stem =
            "inspect-" + slug(convert::film_name(input.name_hint()).full()) + (input.is_disc() ? "-disc" : "");
        if (main->rate.bytes() > 0) result["figure"] = stem + ".png";
        if (deep) {
            std::vector<std::string> files;
            if (const auto status = write_deep_figures(options.output.out, stem,
                                                       convert::film_name(input.name_hint()).full(), *deep, files);
                !status)
                return report_error(status.error(), json);
            result["figures"] = files;
        }
        if (const auto status = write_result(options.output.out, stem + ".json", result); !status)
            return report_error(status.error(), json);
        if (const auto status =
                main->rate.bytes() == 0
                    ? Status{}
                    : write_figure(options.output.out, stem, convert::film_name(input.name_hint()).full(), main->rate);
            !status)
            return report_error(status.error(), json);
    }
    if (json) {
        print_json(result);
        return 0;
    }

    // What comes over a pipe has no size yet.
    fmt::print("{}: {}{}\n", options.input == "-" ? "standard input" : options.input, kind_of(input),
               size > 0 ? ", " + base::format_bytes(size) : "");
    if (input.is_disc()) {
        using Align = render::Table::Align;
        render::Table table(
            {"title", "length", "size", "chapters", "sound", "subtitles", "choice"},
            {Align::right, Align::right, Align::right, Align::right, Align::right, Align::right, Align::left});
        // Some discs have hundreds of titles that only repeat or imitate the film.
        constexpr std::size_t kLongTable = 40;
        std::size_t left_out = 0;
        for (const TitleReport& report : reports) {
            const source::Title& title = *report.title;
            const bool repeats = title.role == disc::Role::duplicate || title.role == disc::Role::decoy;
            if (repeats && !report.in_full && reports.size() > kLongTable) {
                ++left_out;
                continue;
            }
            const auto count = [&](TrackKind kind) {
                return fmt::format("{}", std::count_if(title.tracks.begin(), title.tracks.end(),
                                                       [&](const Track& t) { return t.kind == kind; }));
            };
            table.add({fmt::format("{}{}", title.main ? "* " : "", title.number), base::format_clock(title.duration),
                       base::format_bytes(title.size_bytes), fmt::format("{}", title.chapters.size()),
                       count(TrackKind::audio), count(TrackKind::subtitle),
                       fmt::format("{}: {}", disc::short_name(title.role), title.why)});
        }
        fmt::print("\n{}", table.text(2));
        if (left_out > 0) fmt::print("  {} duplicates and decoys are left out here; --json lists them.\n", left_out);
        if (options.pick.empty() && !input.episodes().empty()) {
            fmt::print("\n{} episodes (convert --pick episodes):\n", input.episodes().size());
            int number = 0;
            for (const disc::Episode& episode : input.episodes()) {
                fmt::print("  {:>2}  {:>8}  title {}{}\n", ++number, base::format_clock(episode.end - episode.start),
                           episode.title,
                           episode.first_chapter > 0
                               ? fmt::format(", chapters {} to {}", episode.first_chapter, episode.last_chapter)
                               : "");
            }
        }
    }
    for (const TitleReport& report : reports) {
        if (report.in_full)
            print_title(report, input.is_disc(),
                        options.pick.empty()             ? nullptr
                        : input.container() == "blu-ray" ? "clips"
                                                         : "cells");
    }
    if (deep) print_deep(*deep);
    for (const std::string& text : input.notes()) note(text);
    if (!options.output.out.empty()) fmt::print("\nFigure, CSV and JSON are in {}.\n", options.output.out);
    if (input.is_disc() && !any_protected) {
        fmt::print("\nNext: wavecrest convert '{}' {}--into LIBRARY --plan   (what converting would do and cost)\n",
                   options.input, input.episodes().empty() ? "" : "--pick episodes ");
    }
    return 0;
}

}  // namespace wavecrest::cli
