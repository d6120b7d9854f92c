#include <algorithm>
#include <cmath>
#include <nlohmann/json.hpp>

#include "base/byte_source.hpp"
#include "base/units.hpp"
#include "cli/commands.hpp"
#include "cli/deep_report.hpp"
#include "cli/media_json.hpp"
#include "convert/name.hpp"
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
        print("\nTitle {}{}: {}, {}\n", title.number, title.main ? " (main)" : "", base::format_clock(title.duration),
              base::format_bytes(title.size_bytes));
    if (report.is_protected) print("  copy-protected: it can't be converted\n");
    const std::vector<std::string> names = names_of(title.tracks);
    std::size_t width = 8;
    for (const std::string& name : names) width = std::max(width, name.size());
    for (std::size_t i = 0; i < names.size(); ++i) print("  {:<{}} {}\n", names[i], width, describe(title.tracks[i]));
    if (report.rate.bytes() == 0 && mean_bps(report) > 0)
        print("  {:<{}} average {}; inspect --deep measures peaks\n", "bit rate", width,
              base::format_bitrate(mean_bps(report)));
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
    figure.series = {std::move(bars), level(rate.mean_bps(), "average", 2),
                     level(rate.peak_bps(), "highest second", 1)};
    WAVECREST_TRY(write_result(folder, stem + ".csv", csv));
    return render::write_png(figure, base::Path(folder) / (stem + ".png"));
}

}  // namespace

int run_inspect(const InspectOptions& options) {
    const bool json = options.output.json;
    auto opened = source::open_input(options.input, {options.retries});
    if (!opened) return report_error(opened.error(), json);
    const source::Input& input = **opened;

    std::vector<int> in_full;  // numbers
    if (options.pick.empty()) {
        for (const source::Title& title : input.titles()) {
            if (title.main) in_full.push_back(title.number);
        }
    } else {
        auto picked = input.picks(options.pick);
        if (!picked) return report_error(picked.error(), json);
        for (const source::Pick& pick : *picked) in_full.push_back(pick.title->number);
    }
    std::vector<TitleReport> reports;
    std::uint64_t size = 0;
    bool any_protected = false;
    for (const source::Title& title : input.titles()) {
        TitleReport report{&title, {}, false, false, title.problems};
        report.in_full = std::find(in_full.begin(), in_full.end(), title.number) != in_full.end();
        if (!report.in_full && !options.pick.empty()) continue;
        if (const auto status = input.check_protection(title.number); !status)
            report.is_protected = any_protected = true;
        if (report.in_full) {
            if (const auto pieces = input.rate(title.number)) {
                report.rate = measure::RateCurve(*pieces);
            } else if (input.is_disc()) {
                report.problems.push_back(
                    {fmt::format("bit rate unknown: {}", pieces.error().what), {}, title.duration});
            }
        }
        // The same data under two numbers is there once.
        if (title.role != disc::Role::duplicate && title.role != disc::Role::fake) size += title.size_bytes;
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
    std::optional<measure::TransportReport> transport;
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
        std::error_code error;
        if (input.container() == "mpeg-ts" && std::filesystem::is_regular_file(options.input, error)) {
            auto file = base::FileSource::open(options.input);
            if (!file) return report_error(file.error(), json);
            ProgressLine line("reading packets", options.output.quiet || json);
            auto report = measure::measure_transport(*file, line.callback(), cancel());
            if (!report) return report_error(report.error(), json);
            transport = std::move(*report);
            result["deep"]["transport"] = transport_json(*transport);
        }
    }

    std::optional<Error> unwritten;  // what was found is printed all the same
    const auto written = [&](const Status& status) {
        if (!status && !unwritten) unwritten = status.error();
    };
    if (!options.output.out.empty()) {
        const std::string stem =
            "inspect-" + slug(convert::film_name(input.name_hint()).full()) + (input.is_disc() ? "-disc" : "");
        if (main->rate.bytes() > 0) result["figure"] = stem + ".png";
        if (deep) {
            std::vector<std::string> files;
            written(write_deep_figures(options.output.out, stem, convert::film_name(input.name_hint()).full(), *deep,
                                       files));
            result["figures"] = files;
        }
        written(write_result(options.output.out, stem + ".json", result));
        if (main->rate.bytes() > 0)
            written(write_figure(options.output.out, stem, convert::film_name(input.name_hint()).full(), main->rate));
    }
    if (json) {
        const int ended = unwritten ? report_beside(*unwritten, result) : 0;
        print_json(result);
        return ended;
    }

    // What comes over a pipe has no size yet.
    print("{}: {}{}\n", options.input == "-" ? "standard input" : options.input, kind_of(input),
          size > 0 ? ", " + base::format_bytes(size) : "");
    if (input.is_disc()) {
        using Align = render::Table::Align;
        render::Table table(
            {"title", "length", "size", "chapters", "audio", "subtitles", "choice"},
            {Align::right, Align::right, Align::right, Align::right, Align::right, Align::right, Align::left});
        // Some discs have hundreds of titles that only repeat or imitate the film.
        constexpr std::size_t kLongTable = 40;
        std::size_t left_out = 0;
        for (const TitleReport& report : reports) {
            const source::Title& title = *report.title;
            const bool repeats = title.role == disc::Role::duplicate || title.role == disc::Role::fake;
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
    for (const TitleReport& report : reports) {
        if (report.in_full)
            print_title(report, input.is_disc(),
                        options.pick.empty()             ? nullptr
                        : input.container() == "blu-ray" ? "clips"
                                                         : "cells");
    }
    if (deep) print_deep(*deep);
    if (transport) print_transport(*transport);
    for (const std::string& text : input.notes()) note(text);
    if (unwritten) return report_error(*unwritten);
    if (!options.output.out.empty()) print("\nChart, CSV and JSON are in {}.\n", options.output.out);
    if (input.is_disc() && !any_protected) {
        print("\nNext: wavecrest convert '{}' {}--into LIBRARY --plan   (dry run: actions, size, time)\n",
              options.input, input.episodes().empty() ? "" : "--pick episodes ");
    }
    return 0;
}

}  // namespace wavecrest::cli
