#include "convert/weigh.hpp"

#include <fmt/ranges.h>

#include <algorithm>
#include <nlohmann/json.hpp>

#include "base/units.hpp"
#include "cli/commands.hpp"
#include "cli/job.hpp"
#include "convert/decide.hpp"
#include "filter/rgb.hpp"
#include "render/figure.hpp"
#include "render/png.hpp"
#include "render/table.hpp"
#include "report/results.hpp"

namespace wavecrest::cli {
namespace {

using Json = nlohmann::ordered_json;

Result<convert::Request> request_of(const WeighOptions& options) {
    convert::Request request;
    request.pick = options.pick;
    // Nothing is written: a place where no film can be in the way.
    request.into = std::filesystem::temp_directory_path() / "wavecrest-weigh" / "nothing";
    request.video = options.video;
    request.audio = options.audio;
    request.subtitles = options.subtitles;
    request.angle = options.angle;
    for (const std::string& name : options.profiles) {
        WAVECREST_TRY_ASSIGN(profile, profile::find(name));
        request.profiles.push_back(std::move(profile));
    }
    return request;
}

// What the options allow together.
Status check(const WeighOptions& options) {
    const bool finds = !options.target_size.empty() || options.quality > 0;
    if (options.profiles.empty() && options.devices.empty() && options.site.empty())
        return fail(ErrorKind::usage, "nothing to weigh: no profile and no device is named", "--profile",
                    "add for example --profile full-picture,newer-tv,small-screen (wavecrest profile list)");
    if (!options.target_size.empty() && options.quality > 0)
        return fail(ErrorKind::usage, "a size and a quality can't be asked for at once", "--quality",
                    "leave one of them out");
    if (finds && options.profiles.size() != 1)
        return fail(ErrorKind::usage, "a setting is found for one profile", "--profile", "name one profile");
    return {};
}

// "28.6 MB (13.5 to 42.6)": a unit that all have stands once.
std::string range_text(const convert::Range& range, const std::function<std::string(double)>& text) {
    std::string low = text(range.low), high = text(range.high);
    const std::string likely = text(range.likely);
    if (low == high) return likely;
    const auto unit = [](const std::string& one) { return one.substr(one.find_last_of(' ') + 1); };
    const auto plain = [](const std::string& one) { return std::count(one.begin(), one.end(), ' ') == 1; };
    if (plain(low) && plain(likely) && plain(high) && unit(low) == unit(likely) && unit(high) == unit(likely)) {
        for (std::string* one : {&low, &high}) one->resize(one->find(' '));
    }
    return fmt::format("{} ({} to {})", likely, low, high);
}
std::string bytes_text(double bytes) {
    return base::format_bytes(static_cast<std::uint64_t>(std::max(bytes, 0.0)));
}
std::string span_text(double seconds) {
    return base::format_span(base::from_seconds(seconds));
}

void print_weighing(const convert::Weighing& weighing, const std::string& title) {
    print("{} ({}), {}; compared at {}x{}\n\n", title, base::format_clock(weighing.duration),
          weighing.samples == 1 ? "all of it tried"
                                : fmt::format("by {} of {} in all",
                                              base::format_count(static_cast<std::size_t>(weighing.samples), "sample"),
                                              base::format_span(weighing.sampled)),
          weighing.width, weighing.height);
    const bool timed = std::any_of(weighing.profiles.begin(), weighing.profiles.end(),
                                   [](const convert::Weighed& one) { return one.seconds.high > 0; });
    std::vector<std::string> headings = {"profile", "size"};
    if (timed) headings.emplace_back("time here");
    headings.insert(headings.end(), {"SSIM", "worst second", "looks"});
    render::Table table(headings);
    for (const convert::Weighed& one : weighing.profiles) {
        std::vector<std::string> row = {one.profile, range_text(one.bytes, bytes_text)};
        if (timed) row.push_back(one.seconds.high > 0 ? range_text(one.seconds, span_text) : "");
        if (one.kept) {
            row.insert(row.end(), {"1", "", "as the source: the video is kept"});
        } else {
            row.push_back(fmt::format("{:.3f}", one.quality.ssim));
            row.push_back(
                fmt::format("{:.3f} at {}", one.quality.worst_ssim, base::format_clock(one.quality.worst_at)));
            row.emplace_back(measure::in_words(one.quality));
        }
        table.add(std::move(row));
    }
    print("{}", Raw{table.text()});
    if (weighing.profiles.front().devices.empty()) return;
    print("\n");
    for (const convert::Weighed& one : weighing.profiles) {
        for (const convert::Weighed::Fit& fit : one.devices)
            print("{} on {}: {}{}\n", one.profile, fit.device, coloured_verdict(device::short_name(fit.verdict)),
                  fit.why.empty() ? "" : ", " + fit.why);
    }
}

// The source at the left, what the profile makes at the right.
Status write_still(const convert::Still& still, const base::Path& path) {
    const ByteVector left = filter::to_rgb(still.original), right = filter::to_rgb(still.coded);
    const auto width = static_cast<std::size_t>(still.original.width),
               height = static_cast<std::size_t>(still.original.height);
    constexpr std::size_t kGap = 8, kPixel = 3;
    const std::size_t row = (2 * width + kGap) * kPixel;
    ByteVector both(row * height, 255);
    for (std::size_t y = 0; y < height; ++y) {
        const auto at = [&](const ByteVector& rgb) {
            return rgb.begin() + static_cast<std::ptrdiff_t>(y * width * kPixel);
        };
        const auto count = static_cast<std::ptrdiff_t>(width * kPixel);
        const auto begin = both.begin() + static_cast<std::ptrdiff_t>(y * row);
        std::copy_n(at(left), count, begin);
        std::copy_n(at(right), count, begin + count + static_cast<std::ptrdiff_t>(kGap * kPixel));
    }
    return render::write_rgb_png(path, static_cast<int>(2 * width + kGap), static_cast<int>(height), both);
}

render::Figure figure_of(const convert::Weighing& weighing, const std::string& title) {
    render::Figure figure;
    figure.title = fmt::format("{}: quality over size", title);
    figure.y_label = "SSIM (1 is identical)";
    figure.clock_x = figure.from_zero = false;
    figure.y_most = 1;
    double largest = 0;
    for (const convert::Weighed& one : weighing.profiles) largest = std::max(largest, one.bytes.high);
    const double unit = largest >= 1e9 ? 1e9 : 1e6;
    figure.x_label = unit > 1e6 ? "size of the whole title, GB (bar: where it will lie)"
                                : "size of the whole title, MB (bar: where it will lie)";
    int colour = 0;
    for (const convert::Weighed& one : weighing.profiles) {
        const double ssim = one.kept ? 1 : one.quality.ssim;
        // How uncertain the size is.
        if (one.bytes.high > one.bytes.low)
            figure.series.push_back({"",
                                     render::Series::Style::line,
                                     colour,
                                     false,
                                     {{one.bytes.low / unit, ssim}, {one.bytes.high / unit, ssim}}});
        figure.series.push_back(
            {one.profile, render::Series::Style::marks, colour, false, {{one.bytes.likely / unit, ssim}}});
        ++colour;
    }
    return figure;
}

// What --out asks for; the names of the files go into `result`.
Status write_files(const std::string& folder, const convert::Weighing& weighing, const std::string& title,
                   Json& result) {
    const std::string stem = "weigh-" + slug(title);
    std::error_code error;
    std::filesystem::create_directories(folder, error);
    if (error)
        return fail(ErrorKind::machine, "the folder can't be made: " + error.message(), folder,
                    "choose a folder you may write to with --out");
    WAVECREST_TRY(render::write_png(figure_of(weighing, title), base::Path(folder) / (stem + ".png")));
    result["figure"] = stem + ".png";
    for (std::size_t i = 0; i < weighing.profiles.size(); ++i) {
        const convert::Weighed& one = weighing.profiles[i];
        if (one.worst.coded.planes[0] == nullptr) continue;
        const std::string name = fmt::format("{}-{}.png", stem, slug(one.profile));
        WAVECREST_TRY(write_still(one.worst, base::Path(folder) / name));
        result["profiles"][i]["still"] = name;
        result["profiles"][i]["still_at_s"] = base::to_seconds(one.worst.at);
    }
    return write_result(folder, stem + ".json", result);
}

// The smallest of those that nobody can tell from the source, and that all devices play.
const convert::Weighed* advised(const convert::Weighing& weighing) {
    const convert::Weighed* best = nullptr;
    for (const convert::Weighed& one : weighing.profiles) {
        const bool plays = std::all_of(one.devices.begin(), one.devices.end(), [](const convert::Weighed::Fit& fit) {
            return fit.verdict != device::Verdict::fail;
        });
        constexpr double kLossless = 0.98;  // measure::in_words
        const bool fine = one.kept || one.quality.ssim >= kLossless;
        if (plays && fine && (best == nullptr || one.bytes.likely < best->bytes.likely)) best = &one;
    }
    return best;
}

Result<Json> weigh(const WeighOptions& options) {
    WAVECREST_TRY(check(options));
    WAVECREST_TRY_ASSIGN(devices, chosen_devices(options.devices, options.site));
    WAVECREST_TRY_ASSIGN(request, request_of(options));
    convert::Goal goal;
    goal.ssim = options.quality;
    if (!options.target_size.empty()) {
        const auto bytes = base::parse_bytes(options.target_size);
        if (!bytes || *bytes == 0)
            return fail(ErrorKind::usage, fmt::format("\"{}\" isn't a valid size", options.target_size),
                        "--target-size", "write for example \"4 GB\"");
        goal.bytes = *bytes;
    }
    WAVECREST_TRY_ASSIGN(input, source::open_input(options.input, {options.retries, &cancel()}));
    if (!input->reopens())
        return fail(ErrorKind::usage, "what comes once only can't be sampled", options.input,
                    "save it as a file first");
    for (const std::string& text : input->notes()) note(text);
    const std::string title = convert::film_name(input->name_hint()).full();
    const bool finds = goal.bytes > 0 || goal.ssim > 0;
    std::optional<convert::Setting> setting;
    convert::Weighing weighing;
    {
        ProgressLine line("weighing", options.output.quiet);
        if (finds) {
            WAVECREST_TRY_ASSIGN(found,
                                 convert::find_setting(*input, request, goal, devices, line.callback(), cancel()));
            weighing = std::move(found.weighing);
            setting = std::move(found);
        } else {
            convert::Plan plan;
            if (request.profiles.empty()) {
                request.profiles.push_back(convert::usual_for_devices());
                WAVECREST_TRY_ASSIGN(titles, convert::plan_for_devices(*input, request, devices, false));
                if (!titles.front().plan)
                    return fail(ErrorKind::usage, "nothing to weigh: it plays on these devices as it is", options.input,
                                "name profiles with --profile to compare them all the same");
                plan = std::move(*titles.front().plan);
            } else {
                WAVECREST_TRY_ASSIGN(made, convert::make_plan(*input, request));
                plan = std::move(made);
            }
            WAVECREST_TRY_ASSIGN(made, convert::weigh(*input, plan, devices, true, line.callback(), cancel()));
            weighing = std::move(made);
        }
    }
    Json result = report::to_json(weighing);
    if (setting) {
        result["visual_quality"] = setting->visual_quality;
        result["reached"] = setting->reached;
    }
    const bool quiet = options.output.json;
    if (!quiet) print_weighing(weighing, title);
    if (!options.output.out.empty()) {
        WAVECREST_TRY(write_files(options.output.out, weighing, title, result));
        if (!quiet)
            print("\nFigure and stills of each worst second (left the source, right the result): {}\n",
                  options.output.out);
    }
    if (quiet) return result;
    if (setting) {
        if (goal.bytes > 0 && weighing.profiles.front().bytes.likely < 0.8 * static_cast<double>(goal.bytes))
            print("\nEven the highest quality takes less than {}.\n", base::format_bytes(goal.bytes));
        const std::string asked = goal.bytes > 0 ? base::format_bytes(goal.bytes) : fmt::format("SSIM {}", goal.ssim);
        print("\n{} {} this line in the profile's [video]:\n  visual_quality = {}\n",
              setting->reached ? "For" : "Nothing reaches",
              setting->reached ? asked + " write" : asked + "; closest is", setting->visual_quality);
        if (goal.bytes > 0)
            print("To meet the size exactly, in two passes, write instead: target_size = \"{}\"\n",
                  base::format_bytes(goal.bytes));
        return result;
    }
    if (const convert::Weighed* best = advised(weighing))
        print("\nSmallest that looks visually lossless{}: {}.\n",
              best->devices.empty() ? "" : " and plays on all of them", best->profile);
    if (!options.profiles.empty())
        print("Next: wavecrest convert '{}' --profile NAME --into LIBRARY\n", options.input);
    else
        print("Next: wavecrest convert '{}' {} --into LIBRARY\n", options.input,
              options.site.empty() ? fmt::format("--device {}", fmt::join(options.devices, ","))
                                   : fmt::format("--site {}", options.site));
    return result;
}

}  // namespace

int run_weigh(const WeighOptions& options) {
    const auto result = weigh(options);
    if (!result) return report_error(result.error(), options.output.json);
    if (options.output.json) print_json(*result);
    return 0;
}

}  // namespace wavecrest::cli
