#include <algorithm>
#include <cmath>
#include <nlohmann/json.hpp>

#include "base/byte_source.hpp"
#include "base/units.hpp"
#include "cli/commands.hpp"
#include "cli/deep_report.hpp"
#include "cli/media_text.hpp"
#include "convert/name.hpp"
#include "measure/rate.hpp"
#include "render/figure.hpp"
#include "render/table.hpp"
#include "report/inspection.hpp"
#include "source/input.hpp"

namespace wavecrest::cli {
namespace {

void print_title(const report::InspectedTitle& report, bool disc, const char* pieces) {
    const source::Title& title = report.title;
    if (disc)
        print("\nTitle {}{}: {}, {}\n", title.number, title.main ? " (main)" : "", base::format_clock(title.duration),
              base::format_bytes(title.size_bytes));
    if (report.is_protected) print("  copy-protected: it can't be converted\n");
    const std::vector<std::string> names = names_of(title.tracks);
    std::size_t width = 8;
    for (const std::string& name : names) width = std::max(width, name.size());
    for (std::size_t i = 0; i < names.size(); ++i) print("  {:<{}} {}\n", names[i], width, describe(title.tracks[i]));
    if (report.rate.bytes() == 0 && report.mean_bps() > 0)
        print("  {:<{}} average {}; inspect --deep measures peaks\n", "bit rate", width,
              base::format_bitrate(report.mean_bps()));
    if (report.rate.bytes() > 0)
        print("  {:<{}} average {}, peak {} (1 s)\n", "bit rate", width, base::format_bitrate(report.rate.mean_bps()),
              base::format_bitrate(report.rate.peak_bps()));
    if (!title.chapters.empty()) {
        std::string starts;
        for (const Chapter& chapter : title.chapters)
            starts += (starts.empty() ? "" : ", ") + base::format_clock(chapter.start);
        print("  {:<{}} {}, at {}\n", "chapters", width, title.chapters.size(), starts);
    }
    if (title.angles > 1) print("  {:<{}} {}: select with convert --angle\n", "angles", width, title.angles);
    if (pieces != nullptr && !title.segments.empty()) {
        print("  {:<{}} {}\n", pieces, width, title.segments.size());
        Time at{};
        for (const auto& segment : title.segments) {
            print("  {:<{}} {:>9}  {:>8}  {}\n", "", width, base::format_clock(at),
                  base::format_clock(segment.duration), segment.id);
            at += segment.duration;
        }
    }
    for (const std::string& difference : title.differences) print("  {:<{}} {}\n", "note", width, difference);
    for (const Problem& problem : report.problems) {
        print("  problem  {} (from {} to {})\n", problem.what, base::format_clock(problem.from),
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
                                                                   {"webvtt", "WebVTT subtitles"},
                                                                   {"hls", "HLS playlist"},
                                                                   {"dash", "DASH manifest"}};
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
    render::Series bars{"bit rate (1 s)", render::Series::Style::steps, 0, false, {}};
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
    figure.series = {std::move(bars), level(rate.mean_bps(), "average", 2), level(rate.peak_bps(), "peak (1 s)", 1)};
    WAVECREST_TRY(write_result(folder, stem + ".csv", csv));
    return render::write_png(figure, base::Path(folder) / (stem + ".png"));
}

// What --out asks for; `result` gets the names of the figures. What can't be written is told behind what was found.
std::optional<Error> write_files(const InspectOptions& options, const report::Inspection& inspected,
                                 const source::Input& input, nlohmann::ordered_json& result) {
    if (options.output.out.empty()) return std::nullopt;
    std::optional<Error> unwritten;
    const auto written = [&](const Status& status) {
        if (!status && !unwritten) unwritten = status.error();
    };
    const std::string name = convert::film_name(input.name_hint()).full();
    const std::string stem = "inspect-" + slug(name) + (input.is_disc() ? "-disc" : "");
    const measure::RateCurve& rate = inspected.main().rate;
    if (rate.bytes() > 0) result["figure"] = stem + ".png";
    if (inspected.deep) {
        std::vector<std::string> files;
        written(write_deep_figures(options.output.out, stem, name, *inspected.deep, files));
        result["figures"] = files;
    }
    written(write_result(options.output.out, stem + ".json", result));
    if (rate.bytes() > 0) written(write_figure(options.output.out, stem, name, rate));
    return unwritten;
}

void print_overview(const InspectOptions& options, const report::Inspection& inspected, const source::Input& input) {
    // What comes over a pipe has no size yet.
    print("{}: {}{}\n", options.input == "-" ? "standard input" : options.input, kind_of(input),
          inspected.size_bytes > 0 ? ", " + base::format_bytes(inspected.size_bytes) : "");
    if (input.is_disc()) {
        using Align = render::Table::Align;
        render::Table table(
            {"title", "length", "size", "chapters", "audio", "subtitles", "choice"},
            {Align::right, Align::right, Align::right, Align::right, Align::right, Align::right, Align::left});
        // Some discs have hundreds of titles that only repeat or imitate the film.
        constexpr std::size_t kLongTable = 40;
        std::size_t left_out = 0;
        for (const report::InspectedTitle& report : inspected.titles) {
            const source::Title& title = report.title;
            const bool repeats = title.role == disc::Role::duplicate || title.role == disc::Role::fake;
            if (repeats && !report.in_full && inspected.titles.size() > kLongTable) {
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
        print("\n{}", Raw{table.text(2)});
        if (left_out > 0) print("  {} duplicate and fake titles are hidden; --json lists them.\n", left_out);
        if (options.pick.empty() && !input.episodes().empty()) {
            print("\n{} episodes (convert --pick episodes):\n", input.episodes().size());
            int number = 0;
            for (const disc::Episode& episode : input.episodes()) {
                print("  {:>2}  {:>8}  title {}{}\n", ++number, base::format_clock(episode.end - episode.start),
                      episode.title,
                      episode.first_chapter > 0
                          ? fmt::format(", chapters {} to {}", episode.first_chapter, episode.last_chapter)
                          : "");
            }
        }
    }
}

// The encodes a player may choose from.
void print_rungs(const source::Title& title) {
    if (title.rungs.empty()) return;
    render::Table table({"rung", "size", "fps", "codecs", "peak", "average"});
    const auto rate = [](std::int64_t bps) { return bps > 0 ? base::format_bitrate(bps) : std::string("not told"); };
    for (std::size_t i = 0; i < title.rungs.size(); ++i) {
        const source::Title::Rung& one = title.rungs[i];
        table.add({std::to_string(i + 1),
                   one.size.height > 0 ? fmt::format("{}x{}", one.size.width, one.size.height) : "not told",
                   one.fps > 0 ? fmt::format("{:.5g}", one.fps) : "not told", one.codecs, rate(one.peak_bps),
                   rate(one.average_bps)});
    }
    print("\n  {} of the video; the tracks above are those of the best\n{}",
          base::format_count(title.rungs.size(), "bit rate"), by_lines(table.text(2)));
}

}  // namespace

int run_inspect(const InspectOptions& options) {
    const bool json = options.output.json;
    auto opened = source::open_input(options.input, {options.retries, &cancel()});
    if (!opened) return report_error(opened.error(), json);
    const source::Input& input = **opened;
    auto inspected = report::inspect(input, options.pick);
    if (!inspected) return report_error(inspected.error(), json);
    if (options.deep) {
        ProgressLine reading("reading", options.output.quiet || json),
            packets("reading packets", options.output.quiet || json);
        const Status read =
            report::inspect_deep(*inspected, input, options.input, reading.callback(), packets.callback(), cancel());
        if (!read) return report_error(read.error(), json);
    }
    nlohmann::ordered_json result = report::to_json(*inspected, input, options.input);
    const auto unwritten = write_files(options, *inspected, input, result);
    if (json) {
        const int ended = unwritten ? report_beside(*unwritten, result) : 0;
        print_json(result);
        return ended;
    }
    print_overview(options, *inspected, input);
    for (const report::InspectedTitle& title : inspected->titles) {
        if (title.in_full)
            print_title(title, input.is_disc(),
                        options.pick.empty()             ? nullptr
                        : input.container() == "blu-ray" ? "clips"
                                                         : "cells");
    }
    print_rungs(inspected->main().title);
    if (inspected->deep) print_deep(*inspected->deep);
    if (inspected->transport) print_transport(*inspected->transport);
    for (const std::string& text : input.notes()) note(text);
    if (unwritten) return report_error(*unwritten);
    if (!options.output.out.empty()) print("\nChart, CSV and JSON are in {}.\n", options.output.out);
    if (input.is_disc() && !inspected->is_protected()) {
        print("\nNext: wavecrest convert '{}' {}--into LIBRARY --plan   (dry run: actions, size, time)\n",
              options.input, input.episodes().empty() ? "" : "--pick episodes ");
    }
    return 0;
}

}  // namespace wavecrest::cli
