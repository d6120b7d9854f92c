#include <cmath>
#include <nlohmann/json.hpp>

#include "base/units.hpp"
#include "cli/commands.hpp"
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
    std::vector<Problem> problems;
};

nlohmann::ordered_json title_json(const TitleReport& report) {
    const source::Title& title = *report.title;
    nlohmann::ordered_json json = {{"number", title.number},
                                   {"duration_s", std::round(base::to_seconds(title.duration) * 1000) / 1000},
                                   {"main", title.main},
                                   {"why", title.why},
                                   {"size_bytes", title.size_bytes},
                                   {"bitrate_bps", report.rate.mean_bps()},
                                   {"peak_1s_bps", report.rate.peak_bps()},
                                   {"protected", report.is_protected}};
    json["chapters"] = to_json(title.chapters);
    json["tracks"] = nlohmann::ordered_json::array();
    for (const Track& track : title.tracks) json["tracks"].push_back(to_json(track));
    json["problems"] = to_json(report.problems);
    return json;
}

void print_title(const TitleReport& report, bool disc) {
    const source::Title& title = *report.title;
    if (disc)
        fmt::print("\nTitle {}{}: {}, {}\n", title.number, title.main ? " (main)" : "",
                   base::format_clock(title.duration), base::format_bytes(title.size_bytes));
    if (report.is_protected) fmt::print("  protected: its packs are marked as scrambled, so it can't be converted\n");
    for (const Track& track : title.tracks) fmt::print("  {:<8} {}\n", media::short_name(track.kind), describe(track));
    if (report.rate.bytes() > 0)
        fmt::print("  {:<8} {} on average, {} in the highest second\n", "bit rate",
                   base::format_bitrate(report.rate.mean_bps()), base::format_bitrate(report.rate.peak_bps()));
    if (!title.chapters.empty()) {
        std::string starts;
        for (const Chapter& chapter : title.chapters)
            starts += (starts.empty() ? "" : ", ") + base::format_clock(chapter.start);
        fmt::print("  {:<8} {}, at {}\n", "chapters", title.chapters.size(), starts);
    }
    for (const Problem& problem : report.problems) {
        fmt::print("  problem  {} (from {} to {})\n", problem.what, base::format_clock(problem.from),
                   base::format_clock(problem.to));
    }
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

}  // namespace

int run_inspect(const InspectOptions& options) {
    const bool json = options.output.json;
    auto opened = source::open_input(options.input);
    if (!opened) return report_error(opened.error(), json);
    const source::Input& input = **opened;

    std::vector<const source::Title*> wanted;
    if (options.pick.empty()) {
        for (const source::Title& title : input.titles()) wanted.push_back(&title);
    } else {
        auto picked = input.pick(options.pick);
        if (!picked) return report_error(picked.error(), json);
        wanted.push_back(*picked);
    }
    std::vector<TitleReport> reports;
    std::uint64_t size = 0;
    bool any_protected = false;
    for (const source::Title* title : wanted) {
        TitleReport report{title, {}, false, title->problems};
        if (const auto status = input.check_protection(title->number); !status)
            report.is_protected = any_protected = true;
        if (const auto pieces = input.rate(title->number)) {
            report.rate = measure::RateCurve(*pieces);
        } else {
            report.problems.push_back(
                {fmt::format("the bit rate can't be told: {}", pieces.error().what), {}, title->duration});
        }
        size += title->size_bytes;
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
                                     {"bitrate_bps", main->rate.mean_bps()},
                                     {"peak_1s_bps", main->rate.peak_bps()}};
    if (input.is_disc()) {
        result["titles"] = nlohmann::ordered_json::array();
        for (const TitleReport& report : reports) result["titles"].push_back(title_json(report));
    } else {
        result["chapters"] = to_json(main->title->chapters);
    }
    result["tracks"] = nlohmann::ordered_json::array();
    for (const Track& track : main->title->tracks) result["tracks"].push_back(to_json(track));
    result["notes"] = input.notes();
    result["problems"] = to_json(main->problems);

    if (!options.output.out.empty()) {
        const std::string stem =
            "inspect-" + slug(convert::film_name(input.name_hint()).full()) + (input.is_disc() ? "-disc" : "");
        result["figure"] = stem + ".png";
        if (const auto status = write_result(options.output.out, stem + ".json", result); !status)
            return report_error(status.error(), json);
        if (const auto status =
                write_figure(options.output.out, stem, convert::film_name(input.name_hint()).full(), main->rate);
            !status)
            return report_error(status.error(), json);
    }
    if (json) {
        print_json(result);
        return 0;
    }

    fmt::print("{}: {}, {}\n", options.input, input.is_disc() ? "ripped DVD-Video disc" : "MP4 file",
               base::format_bytes(size));
    if (input.is_disc()) {
        using Align = render::Table::Align;
        render::Table table({"title", "length", "size", "chapters", "tracks", "choice"},
                            {Align::right, Align::right, Align::right, Align::right, Align::right, Align::left});
        for (const TitleReport& report : reports) {
            const source::Title& title = *report.title;
            table.add({fmt::format("{}", title.number), base::format_clock(title.duration),
                       base::format_bytes(title.size_bytes), fmt::format("{}", title.chapters.size()),
                       fmt::format("{}", title.tracks.size()), (title.main ? "main: " : "") + title.why});
        }
        fmt::print("\n{}", table.text(2));
    }
    for (const TitleReport& report : reports) {
        if (input.is_disc() && options.pick.empty() && !report.title->main) continue;
        print_title(report, input.is_disc());
    }
    for (const std::string& text : input.notes()) note(text);
    if (!options.output.out.empty()) fmt::print("\nFigure, CSV and JSON are in {}.\n", options.output.out);
    if (input.is_disc() && !any_protected) {
        fmt::print("\nNext: wavecrest convert '{}' --into LIBRARY --plan   (what converting would do and cost)\n",
                   options.input);
    }
    return 0;
}

}  // namespace wavecrest::cli
