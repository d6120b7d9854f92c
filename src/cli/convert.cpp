#include "convert/convert.hpp"

#include <cmath>
#include <nlohmann/json.hpp>

#include "base/units.hpp"
#include "cli/commands.hpp"
#include "cli/media_json.hpp"
#include "host/machine.hpp"

namespace wavecrest::cli {
namespace {

double rounded(double value) {
    return std::round(value * 1000) / 1000;
}

nlohmann::ordered_json tracks_json(const convert::Plan& plan) {
    auto json = nlohmann::ordered_json::array();
    for (const convert::TrackPlan& track : plan.tracks) {
        nlohmann::ordered_json entry = {{"kind", media::short_name(track.from.kind)},
                                        {"codec", media::short_name(track.from.codec)},
                                        {"action", convert::short_name(track.action)},
                                        {"why", track.why}};
        if (!track.from.language.empty()) entry["language"] = track.from.language;
        json.push_back(std::move(entry));
    }
    return json;
}

void print_plan(const convert::Plan& plan, const std::string& profile) {
    fmt::print("Title {} ({}, {}) of {}\n", plan.title, base::format_clock(plan.duration),
               base::format_bytes(plan.source_bytes), plan.source.substr(0, plan.source.rfind(',')));
    fmt::print("  becomes  {}\n  profile  {}\n", plan.target.string(), profile);
    for (const std::string& step : plan.steps) fmt::print("  -        {}\n", step);
    for (const convert::TrackPlan& track : plan.tracks) {
        if (track.action == convert::TrackPlan::Action::drop)
            fmt::print("  left out {}: {}\n", describe(track.from), track.why);
    }
    for (const std::string& warning : plan.warnings) fmt::print("  warning  {}\n", warning);
}

int show_plan(const ConvertOptions& options, const source::Input& input, const convert::Plan& plan) {
    const bool json = options.output.json;
    if (!json) print_plan(plan, options.profile);
    const auto cost = convert::estimate(input, plan, cancel());
    if (!cost) return report_error(cost.error(), json);
    const auto free = host::free_space(plan.target);
    if (!free) return report_error(free.error(), json);
    if (json) {
        print_json({{"plan",
                     {{"target", plan.target.string()},
                      {"title", plan.title},
                      {"profile", options.profile},
                      {"duration_s", rounded(base::to_seconds(plan.duration))},
                      {"source_bytes", plan.source_bytes},
                      {"steps", plan.steps},
                      {"tracks", tracks_json(plan)},
                      {"warnings", plan.warnings},
                      {"estimate",
                       {{"size_bytes", cost->size_bytes},
                        {"time_s", rounded(base::to_seconds(cost->time))},
                        {"sampled_s", rounded(base::to_seconds(cost->sampled))}}},
                      {"free_bytes", *free},
                      {"fits", *free > cost->size_bytes}}}});
        return 0;
    }
    fmt::print("\nExpected from {} of this title: about {} in about {}.  Free there: {}.\n",
               base::format_span(cost->sampled), base::format_bytes(cost->size_bytes), base::format_span(cost->time),
               base::format_bytes(*free));
    if (*free <= cost->size_bytes) fmt::print("This does not fit: free some space or choose another folder.\n");
    fmt::print("Nothing was converted. Without --plan it is done.\n");
    return 0;
}

}  // namespace

int run_convert(const ConvertOptions& options) {
    const bool json = options.output.json;
    auto profile = profile::find(options.profile);
    if (!profile) return report_error(profile.error(), json);
    auto input = source::open_input(options.input);
    if (!input) return report_error(input.error(), json);
    convert::Request request{options.pick, *profile, options.into, options.name};
    const auto plan = convert::make_plan(**input, request);
    if (!plan) return report_error(plan.error(), json);
    for (const std::string& text : (*input)->notes()) note(text);
    if (options.plan) return show_plan(options, **input, *plan);

    if (!json && !options.output.quiet) print_plan(*plan, options.profile);
    for (const std::string& warning : plan->warnings) {
        if (json || options.output.quiet) note(warning);
    }
    Result<convert::Outcome> outcome;
    {
        ProgressLine line("converting", options.output.quiet);
        outcome = convert::run(**input, *plan, line.callback(), cancel());
    }
    if (!outcome) return report_error(outcome.error(), json);

    nlohmann::ordered_json result = {{"outputs",
                                      {{{"path", outcome->path.string()},
                                        {"name", plan->name.full()},
                                        {"source", options.input},
                                        {"profile", options.profile},
                                        {"title", outcome->title},
                                        {"duration_s", rounded(base::to_seconds(outcome->duration))},
                                        {"pictures", outcome->pictures},
                                        {"size_bytes", outcome->size_bytes},
                                        {"source_bytes", outcome->source_bytes},
                                        {"elapsed_s", rounded(base::to_seconds(outcome->elapsed))},
                                        {"speed", rounded(outcome->speed())},
                                        {"steps", plan->steps},
                                        {"tracks", tracks_json(*plan)},
                                        {"problems", to_json(outcome->problems)}}}}};
    if (!options.output.out.empty()) {
        const std::string name = fmt::format("convert-{}-{}.json", slug(plan->name.full()), slug(options.profile));
        if (const auto status = write_result(options.output.out, name, result); !status)
            return report_error(status.error(), json);
    }
    for (const Problem& problem : outcome->problems) {
        note(fmt::format("{} (from {} to {})", problem.what, base::format_clock(problem.from),
                         base::format_clock(problem.to)));
    }
    if (json) {
        print_json(result);
        return 0;
    }
    fmt::print("\nDone in {} ({:.1f} x real time): {}, {:.0f} % of the rip's {}.\n",
               base::format_span(outcome->elapsed), outcome->speed(), base::format_bytes(outcome->size_bytes),
               outcome->source_bytes > 0
                   ? 100.0 * static_cast<double>(outcome->size_bytes) / static_cast<double>(outcome->source_bytes)
                   : 0.0,
               base::format_bytes(outcome->source_bytes));
    fmt::print("{}\nNext: wavecrest inspect '{}'\n", outcome->path.string(), outcome->path.string());
    return 0;
}

}  // namespace wavecrest::cli
