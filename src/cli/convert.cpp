#include "convert/convert.hpp"

#include <fmt/ranges.h>

#include <algorithm>
#include <nlohmann/json.hpp>

#include "base/address.hpp"
#include "base/units.hpp"
#include "cli/commands.hpp"
#include "cli/job.hpp"
#include "cli/media_text.hpp"
#include "cli/terminal.hpp"
#include "container/ladder.hpp"
#include "container/writer.hpp"
#include "convert/decide.hpp"
#include "convert/ladder.hpp"
#include "convert/remux.hpp"
#include "host/machine.hpp"
#include "render/table.hpp"
#include "report/results.hpp"
#include "site/site.hpp"
#include "source/added_text.hpp"

namespace wavecrest::cli {
namespace {

// What converting and remuxing are asked alike.
void take_choices(const ConvertOptions& options, convert::Selection& request) {
    request.pick = options.pick;
    request.into = options.into;
    request.name = options.name;
    request.video = options.video;
    if (!options.audio.empty()) request.audio = options.audio;
    if (!options.subtitles.empty()) request.subtitles = options.subtitles;
    request.angle = options.angle;
    request.season = options.season;
    request.first_episode = options.first_episode;
    request.extras = options.extras;
    request.record = options.record;
    if (!options.film_names.empty()) request.names.film = options.film_names;
    if (!options.episode_names.empty()) request.names.episode = options.episode_names;
    request.accept_losses = options.accept_losses;
}

Result<std::unique_ptr<source::Input>> open_with_added_text(const ConvertOptions& options) {
    WAVECREST_TRY_ASSIGN(input, source::open_input(options.input, {options.retries, &cancel()}));
    if (options.captions) {
        ProgressLine line("reading captions", options.output.quiet);
        WAVECREST_TRY_ASSIGN(with, source::with_captions(std::move(input), line.callback(), cancel()));
        input = std::move(with);
    }
    if (options.subtitle_file.empty()) return input;
    return source::with_subtitle_file(std::move(input), options.subtitle_file);
}

std::string copied(const convert::Outcome& outcome) {
    return outcome.copying.count() > 0 ? fmt::format(", copied to the share in {}", base::format_span(outcome.copying))
                                       : "";
}

// Says behind "Done" what did not come out; the exit status says that something didn't.
void warn_of(const convert::Outcome& outcome) {
    if (!outcome.loss.any()) return;
    print(stderr, "warning: {} of {} lost, {} ({})\n", base::format_span(outcome.loss.total),
          base::format_span(outcome.duration), outcome.loss.intervals.front().what, convert::times_of(outcome.loss));
}

// What the files are made by, as it was asked for.
std::string asked_for(const ConvertOptions& options) {
    if (!options.devices.empty() || !options.site.empty())
        return options.devices.empty() ? options.site : fmt::format("{}", fmt::join(options.devices, "-"));
    return options.profiles.empty() ? kUsualProfile : fmt::format("{}", fmt::join(options.profiles, "-"));
}

const char* label_of(const ConvertOptions& options) {
    return options.devices.empty() && options.site.empty() ? "profile" : "for";
}

// What is done for each of the first outputs.
std::vector<std::string> steps_of_all(const convert::Plan& plan, std::size_t outputs) {
    std::vector<std::string> steps = plan.outputs.front().steps;
    for (std::size_t i = 1; i < outputs; ++i) {
        const std::vector<std::string>& other = plan.outputs[i].steps;
        std::erase_if(
            steps, [&](const std::string& step) { return std::find(other.begin(), other.end(), step) == other.end(); });
    }
    return steps;
}

// Rungs are shown one line each: what they differ by.
void print_rungs(const convert::Plan& plan) {
    const std::size_t rungs = plan.graph.video_encodes.size();
    print("  output   {}\n", plan.place().parent_path().string());
    render::Table table({"rung", "codec", "size", "quality", "peak", "why"});
    for (std::size_t i = 0; i < rungs; ++i) {
        const codec::VideoEncoderSettings& encode = plan.graph.video_encodes[i].encode;
        std::string why;
        for (const std::string& step : plan.outputs[i].steps) {
            if (step.starts_with("rung: ")) why = step.substr(6);
        }
        table.add({plan.outputs[i].profile, std::string(media::display_name(encode.codec)),
                   fmt::format("{}x{}", encode.width, encode.height),
                   encode.mean_bps > 0 ? base::format_bitrate(encode.mean_bps) : fmt::format("{:g}", encode.quality),
                   encode.peak_bps > 0 ? base::format_bitrate(encode.peak_bps) : "", why});
    }
    print("{}", by_lines(table.text(2)));
    for (std::size_t i = rungs; i < plan.outputs.size(); ++i) {
        for (const std::string& step : plan.outputs[i].steps) print("  -        {}\n", step);
    }
    for (const std::string& step : steps_of_all(plan, rungs)) print("  -        {}\n", step);
}

// `label`: what the name of each output is, its profile's or its devices'.
void print_plan(const convert::Plan& plan, const char* label) {
    print("Title {} ({}, {}) of {}\n", plan.title, base::format_clock(plan.duration),
          base::format_bytes(plan.source_bytes), plan.source.substr(0, plan.source.rfind(',')));
    if (plan.is_ladder()) print_rungs(plan);
    for (std::size_t i = 0; i < plan.targets.size() && !plan.is_ladder(); ++i) {
        print("  output   {}\n  {:<8} {}\n", plan.targets[i].place, label, plan.outputs[i].profile);
        for (const std::string& step : plan.outputs[i].steps) print("  -        {}\n", step);
    }
    if (plan.targets.size() > 1 && !plan.steps.empty() && !plan.is_ladder()) print("  all\n");
    for (const std::string& step : plan.steps) print("  -        {}\n", step);
    for (const convert::TrackPlan& track : plan.tracks) {
        if (track.action == convert::TrackPlan::Action::drop)
            print("  left out {}: {}\n", describe(track.from), track.why);
    }
    for (const std::string& warning : plan.warnings) print("  warning  {}\n", warning);
}

void print_quality(const measure::PictureQuality& quality, const char* indent = "") {
    print(
        "{}Video quality: {} (SSIM {:.3f}, 1 is identical; PSNR {:.1f} dB; {} frames).\n{}  Worst second: SSIM {:.3f} "
        "at {}. Changes by scaling and deinterlacing are not counted.\n",
        indent, measure::in_words(quality), quality.ssim, quality.psnr_db, quality.pictures, indent, quality.worst_ssim,
        base::format_clock(quality.worst_at));
    if (measure::is_worse(quality))
        print("{}  For better quality raise `visual_quality` in the profile, or raise `peak_bitrate`.\n", indent);
}

int show_plans(const ConvertOptions& options, const source::Input& input, const std::vector<convert::Plan>& plans,
               const nlohmann::ordered_json& decisions) {
    const bool json = options.output.json;
    auto list = nlohmann::ordered_json::array();
    std::uint64_t bytes = 0;
    Time time{}, sampled{};
    std::optional<measure::PictureQuality> quality;  // of the latest
    std::vector<std::uint64_t> file_bytes;           // of the latest
    const auto capacity = speeds_for(options);
    if (!capacity) return report_error(capacity.error(), json);
    const char* const about = *capacity ? "at most" : "about";
    bool bounded = true;
    for (const convert::Plan& plan : plans) {
        if (!json) print_plan(plan, label_of(options));
        const auto cost = *capacity ? convert::estimate(plan, **capacity) : convert::estimate(input, plan, cancel());
        if (!cost) return report_error(cost.error(), json);
        bytes += cost->size_bytes;
        time += cost->time;
        sampled += cost->sampled;
        auto entry = report::to_json(plan);
        entry["estimate"] = report::to_json(*cost);
        quality = cost->quality;
        file_bytes = cost->file_bytes;
        bounded = bounded && std::count(file_bytes.begin(), file_bytes.end(), 0U) == 0;
        list.push_back(std::move(entry));
        if (!json && plans.size() > 1) {
            print("  estimate {} {}, {}\n", about, base::format_bytes(cost->size_bytes), base::format_span(cost->time));
            if (cost->quality) print_quality(*cost->quality, "  ");
        }
    }
    const auto free = convert::free_space(plans.front().target(), plans.front().share.get());
    if (!free) return report_error(free.error(), json);
    // A plan that can't be carried out is none: said behind it.
    std::optional<Error> against;
    if (*free <= bytes && !*capacity)
        against = Error{ErrorKind::machine, "not enough disk space", plans.front().place().parent_path().string(),
                        "free some space, or choose another folder with --into"};
    if (const Status writable = host::check_writable(plans.front().target()); !writable) against = writable.error();
    if (json) {
        for (auto& entry : list) {
            entry["free_bytes"] = *free;
            entry["fits"] = *free > bytes;
        }
        nlohmann::ordered_json result = {{"plan", list.front()}};
        if (plans.size() > 1) result["plans"] = list;
        if (!decisions.empty()) result["decisions"] = decisions;
        const int ended = against ? report_beside(*against, result) : 0;
        print_json(result);
        return ended;
    }
    const std::string whose = plans.size() > 1 ? fmt::format("these {} titles", plans.size()) : "this title";
    if (*capacity) {
        print(
            "\nEstimate of {} without a sample: {}, about {} by the speed of this machine.  Free space: {}.\n", whose,
            bounded ? "at most " + base::format_bytes(bytes) : "no limit of the size (the profile has no peak_bitrate)",
            base::format_span(time), base::format_bytes(*free));
        if (bounded && *free <= bytes)
            print("The free space may not do. Without --no-samples the size is estimated.\n");
    } else {
        print("\nEstimate from {} of samples of {}: about {}, {}.  Free space: {}.\n", base::format_span(sampled),
              whose, base::format_bytes(bytes), base::format_span(time), base::format_bytes(*free));
    }
    if (plans.size() == 1 && plans.front().targets.size() > 1) {
        for (std::size_t i = 0; i < file_bytes.size(); ++i)
            print("  {}: {} {}\n", plans.front().outputs[i].profile, about, base::format_bytes(file_bytes[i]));
    }
    if (quality && plans.size() == 1) print_quality(*quality);
    if (against) return report_error(*against);
    print("Dry run: nothing was converted. Run without --plan to convert.\n");
    return 0;
}

void print_remux(const convert::RemuxPlan& plan) {
    print("Title {} ({}, {}) of {}\n", plan.title, base::format_clock(plan.duration),
          base::format_bytes(plan.source_bytes), plan.source.substr(0, plan.source.rfind(',')));
    print("  output   {}\n", plan.place);
    for (const convert::TrackPlan& track : plan.tracks) {
        const bool kept = track.action == convert::TrackPlan::Action::keep;
        print("  {} {}: {}\n", kept ? "kept    " : "left out", describe(track.from), track.why);
    }
    for (const std::string& step : plan.steps) print("  -        {}\n", step);
    for (const std::string& warning : plan.warnings) print("  warning  {}\n", warning);
}

int run_remux(const ConvertOptions& options) {
    const bool json = options.output.json;
    convert::RemuxRequest request;
    if (!options.cut.empty()) {
        const auto interval = convert::parse_range(options.cut);
        if (!interval) return report_error(interval.error(), json);
        request.from = interval->from;
        request.to = interval->to;
    }
    auto input = open_with_added_text(options);
    if (!input) return report_error(input.error(), json);
    request.format = container::format_from_name(options.remux);
    take_choices(options, request);
    if (const Status connected = convert::connect(request, &cancel()); !connected)
        return report_error(connected.error(), json);
    const auto plans = convert::plan_remux(**input, request);
    if (!plans) return report_error(plans.error(), json);
    for (const std::string& text : (*input)->notes()) note(text);
    nlohmann::ordered_json result = {{"outputs", nlohmann::ordered_json::array()}};
    std::optional<Error> failure;
    bool lost = false;
    std::optional<JobEntry> entry;
    if (!options.plan) entry.emplace(options);
    for (const convert::RemuxPlan& plan : *plans) {
        if (!json && (!options.output.quiet || options.plan)) print_remux(plan);
        if (options.plan) {
            result["outputs"].push_back(report::to_json(plan));
            continue;
        }
        Result<convert::Outcome> outcome;
        {
            ProgressLine line(plans->size() > 1 ? fmt::format("remuxing title {}", plan.title) : "remuxing",
                              options.output.quiet);
            outcome = convert::run_remux(**input, plan, line.callback(), cancel());
        }
        if (!outcome) {
            failure = outcome.error();
            break;
        }
        entry->add(plan, *outcome);
        result["outputs"].push_back(report::to_json(plan, *outcome, options.input));
        for (const Problem& problem : outcome->problems)
            note(fmt::format("{} (from {} to {})", problem.what, base::format_clock(problem.from),
                             base::format_clock(problem.to)));
        lost = lost || outcome->loss.any();
        if (!json) {
            print("\nDone in {}{}: {} of {}, no re-encoding.\n{}\n", base::format_span(outcome->elapsed),
                  copied(*outcome), base::format_clock(outcome->duration), base::format_bytes(outcome->size_bytes),
                  outcome->path().string());
        }
        warn_of(*outcome);
    }
    if (entry) entry->finish(failure);
    if (failure) {
        const int ended = report_beside(*failure, result);
        if (json) print_json(result);
        return ended;
    }
    if (json) {
        print_json(result);
    } else if (options.plan) {
        if (const Status writable = host::check_writable(plans->front().target); !writable)
            return report_error(writable.error());
        print("\nDry run: nothing was written. Run without --plan to remux.\n");
    } else {
        print("Next: wavecrest inspect '{}'\n", plans->back().place);
    }
    return lost ? kDoneWithLosses : 0;
}

// The folder of a ladder is one thing: it is copied as a whole.
void print_ladder(const convert::Outcome& outcome) {
    const base::Path folder = outcome.playlist.parent_path();
    print("{}\n", folder.string());
    for (const convert::Outcome::File& file : outcome.files)
        print("  {:<22} {}\n", file.path.filename().string(), base::format_bytes(file.bytes));
    print("  {}: HLS, {}: DASH, index.html: a page that plays it\n", container::kLadderPlaylist,
          container::kLadderManifest);
}

// Does what was planned, one title after the other.
int carry_out(const ConvertOptions& options, const source::Input& input, const std::vector<convert::Plan>& plans,
              const nlohmann::ordered_json& decisions) {
    const bool json = options.output.json;
    // Streams that are being watched come first.
    host::yield_to_others();

    nlohmann::ordered_json result = {{"outputs", nlohmann::ordered_json::array()}};
    if (!decisions.empty()) result["decisions"] = decisions;
    std::optional<Error> failure;
    bool lost = false;
    const auto pacer = pacer_for(options.nice);
    if (!pacer) return report_error(pacer.error(), json);
    JobEntry entry(options);
    for (const convert::Plan& plan : plans) {
        if (!json && !options.output.quiet) print_plan(plan, label_of(options));
        for (const std::string& warning : plan.warnings) {
            if (json || options.output.quiet) note(warning);
        }
        Result<convert::Outcome> outcome;
        {
            ProgressLine line(plans.size() > 1 ? fmt::format("converting title {}", plan.title) : "converting",
                              options.output.quiet);
            outcome = convert::run(input, plan, paced(*pacer, line.callback(), cancel()), cancel());
        }
        if (!outcome) {
            failure = outcome.error();
            break;
        }
        entry.add(plan, *outcome);
        for (std::size_t i = 0; i < outcome->files.size(); ++i)
            result["outputs"].push_back(report::to_json(plan, *outcome, i, options.input));
        lost = lost || outcome->loss.any();
        for (const Problem& problem : outcome->problems) {
            note(fmt::format("{} (from {} to {})", problem.what, base::format_clock(problem.from),
                             base::format_clock(problem.to)));
        }
        if (json) {
            warn_of(*outcome);
            continue;
        }
        print("\nDone in {}{}{}: {}, {:.0f} % of the source ({}).\n", base::format_span(outcome->elapsed),
              outcome->kept.count() > 0 ? "" : fmt::format(" ({:.1f} x real time)", outcome->speed()), copied(*outcome),
              base::format_bytes(outcome->size_bytes),
              outcome->source_bytes > 0
                  ? 100.0 * static_cast<double>(outcome->size_bytes) / static_cast<double>(outcome->source_bytes)
                  : 0.0,
              base::format_bytes(outcome->source_bytes));
        if (outcome->kept.count() > 0)
            print("The first {} were finished by an earlier run.\n", base::format_clock(outcome->kept));
        if (outcome->quality) print_quality(*outcome->quality);
        if (!outcome->playlist.empty()) {
            print_ladder(*outcome);
            warn_of(*outcome);
            continue;
        }
        for (const convert::Outcome::File& file : outcome->files) {
            print("{}{}\n", file.path.string(),
                  outcome->files.size() > 1 ? fmt::format("  ({})", base::format_bytes(file.bytes)) : "");
        }
        warn_of(*outcome);
    }
    entry.finish(failure);
    if (!options.output.out.empty() && !result["outputs"].empty()) {
        const std::string name =
            fmt::format("convert-{}-{}.json", slug(plans.front().name.full()), slug(asked_for(options)));
        if (const auto status = write_result(options.output.out, name, result); !status && !failure)
            failure = status.error();
    }
    const int ended = failure ? report_beside(*failure, result) : 0;
    if (json) print_json(result);
    if (failure) return ended;
    if (!json && plans.back().is_ladder())
        print("Next: wavecrest stream run '{}'\n", plans.back().place().parent_path().string());
    else if (!json)
        print("Next: wavecrest inspect '{}'\n", plans.back().place().string());
    return lost ? kDoneWithLosses : 0;
}

void print_decision(const convert::DevicePlan& title) {
    print("Title {} ({}, {})\n", title.pick.title->number, base::format_clock(title.pick.duration()),
          base::format_bytes(title.pick.title->size_bytes));
    for (const convert::FileDecision& file : title.files) {
        using Kind = convert::FileDecision::Kind;
        print("  for {}: {}\n", fmt::join(file.devices, ", "),
              file.kind == Kind::as_it_is ? "plays as it is"
              : file.kind == Kind::remux  ? fmt::format("remux to {}, no re-encoding", file.profile.container)
                                          : fmt::format("convert to {}", file.profile.container));
        for (const convert::Objection& one : file.container)
            print("    container   {} does not read {}\n", one.device, one.check.measured);
        for (const convert::TrackDecision& track : file.tracks) {
            const bool kept = track.action == convert::TrackPlan::Action::keep;
            const std::string name = track.track.kind == TrackKind::video
                                         ? std::string("video")
                                         : fmt::format("{} {}", media::short_name(track.track.kind), track.number);
            const std::string why = convert::reason_of(track);
            print("    {:<11} {}{}\n", name, kept ? "as it is" : "transcode",
                  why.empty() ? ""
                  : kept      ? fmt::format(" ({})", why)
                              : ": " + why);
        }
        for (const std::string& warning : file.warnings) print("    warning     {}\n", warning);
    }
    print("\n");
}

int run_for_devices(const ConvertOptions& options, const source::Input& input, const convert::Request& request) {
    const bool json = options.output.json;
    const auto devices = chosen_devices(options.devices, options.site);
    if (!devices) return report_error(devices.error(), json);
    const auto titles = convert::plan_for_devices(input, request, *devices, options.one_file);
    if (!titles) return report_error(titles.error(), json);
    auto decisions = nlohmann::ordered_json::array();
    std::vector<convert::Plan> plans;
    for (const convert::DevicePlan& title : *titles) {
        if (!json && (!options.output.quiet || options.plan)) print_decision(title);
        std::size_t output = 0;
        for (const convert::FileDecision& file : title.files) {
            const bool made = file.kind != convert::FileDecision::Kind::as_it_is;
            decisions.push_back(report::to_json(file, made ? title.plan->targets[output++].place : ""));
            decisions.back()["title"] = title.pick.title->number;
        }
        if (title.plan) plans.push_back(*title.plan);
    }
    if (plans.empty()) {
        if (json) {
            print_json({{"outputs", nlohmann::ordered_json::array()}, {"decisions", decisions}});
        } else {
            print("Nothing to convert: {} plays on {} as it is.\n", options.input,
                  devices->size() == 1 ? devices->front().name : "all of these devices");
        }
        return 0;
    }
    if (options.plan) return show_plans(options, input, plans, decisions);
    return carry_out(options, input, plans, decisions);
}

}  // namespace

Result<std::vector<SiteChoice>> site_devices(const ConvertOptions& options) {
    // Not more than the link carries beside what else is on it.
    constexpr double kShareOfLink = 0.8;
    WAVECREST_TRY_ASSIGN(site, site::load(options.site));
    std::vector<SiteChoice> devices;
    std::vector<std::string> names;
    for (const site::SiteDevice& one : site.devices) {
        names.push_back(one.device.name);
        if (!options.devices.empty() &&
            std::find(options.devices.begin(), options.devices.end(), one.device.name) == options.devices.end())
            continue;
        devices.push_back({one.device, one.device_class});
        const auto most = static_cast<std::int64_t>(static_cast<double>(one.link.payload_bps) * kShareOfLink);
        std::int64_t& highest = devices.back().device.highest_bps;
        if (most > 0) highest = highest > 0 ? std::min(highest, most) : most;
    }
    for (const std::string& name : options.devices) {
        if (std::find(names.begin(), names.end(), name) == names.end())
            return fail(ErrorKind::usage, fmt::format("the site has no device \"{}\"", name), options.site,
                        fmt::format("it has {}", fmt::join(names, ", ")));
    }
    if (devices.empty())
        return fail(ErrorKind::usage, "the site has no devices", options.site, "add a [[device]] to it");
    return devices;
}

Result<std::vector<device::Device>> chosen_devices(const std::vector<std::string>& names, const std::string& site) {
    std::vector<device::Device> devices;
    if (!site.empty()) {
        ConvertOptions options;
        options.site = site;
        options.devices = names;
        WAVECREST_TRY_ASSIGN(chosen, site_devices(options));
        for (SiteChoice& one : chosen) devices.push_back(std::move(one.device));
        return devices;
    }
    for (const std::string& name : names) {
        WAVECREST_TRY_ASSIGN(device, device::find(name));
        devices.push_back(std::move(device));
    }
    return devices;
}

namespace {

// Options that contradict each other, or would have no effect.
Status check_together(const ConvertOptions& options) {
    if (base::has_scheme(options.into) && !base::Address(options.into).is_share())
        return fail(ErrorKind::usage, "conversions are written to folders, of this machine or of a share", "--into",
                    "name a folder, or smb://SERVER/SHARE/FOLDER");
    if (!options.rest.empty() && !options.watch)
        return fail(ErrorKind::usage, "--rest is for --watch", "--rest", "add --watch, or leave it out");
    const auto refuse = [](const char* what, const char* option, const char* remedy) {
        return fail(ErrorKind::usage, what, option, remedy);
    };
    const bool for_devices = !options.devices.empty() || !options.site.empty();
    if (!options.remux.empty() && options.quality)
        return refuse("a remux does not re-encode, so no quality is lost", "--measure-quality", "leave it out");
    if (!options.remux.empty() && !options.profiles.empty())
        return refuse("a remux keeps the tracks as they are: a profile would have no effect", "--profile",
                      "leave one of them out");
    if (for_devices && !options.remux.empty())
        return refuse("--device decides itself whether a remux will do", "--remux", "leave one of them out");
    if (for_devices && options.profiles.size() > 1)
        return refuse("with --device one profile gives quality and effort", "--profile", "give one");
    if (options.one_file && !for_devices)
        return refuse("--one-file works with --device only", "--one-file", "name the devices, or leave it out");
    if (options.ladder && (for_devices || !options.remux.empty()))
        return refuse("a ladder is made by a profile", "--ladder", "leave out --device, --site and --remux");
    if (options.ladder && options.profiles.size() > 1)
        return refuse("a ladder is made by one profile", "--ladder", "give one --profile");
    if (!options.cut.empty() && options.remux.empty())
        return refuse("--cut works with --remux only", "--cut", "add --remux and a container, such as --remux mp4");
    return {};
}

}  // namespace

int run_convert(ConvertOptions given) {
    if (const auto pacer = pacer_for(given.nice); !pacer) return report_error(pacer.error(), given.output.json);
    if (!given.site.empty()) {
        const auto site = site::load(given.site);
        if (!site) return report_error(site.error(), given.output.json);
        if (given.film_names.empty()) given.film_names = site->names.film;
        if (given.episode_names.empty()) given.episode_names = site->names.episode;
    }
    if (const Status fit = check_together(given); !fit) return report_error(fit.error(), given.output.json);
    if (given.watch) return run_convert_watch(given);
    if (given.queue || !given.list.empty() || are_many(given.inputs)) return run_convert_many(given, given.inputs);
    ConvertOptions options = given;
    options.input = given.inputs.front();
    const bool json = options.output.json;
    const bool for_devices = !options.devices.empty() || !options.site.empty();
    if (!options.remux.empty()) return run_remux(options);
    std::vector<std::string> names = options.profiles;
    convert::Request request;
    if (names.empty() && for_devices) {
        request.profiles.push_back(convert::usual_for_devices());
    } else if (names.empty()) {
        names.emplace_back(options.ladder ? kLadderProfile : kUsualProfile);
    }
    for (const std::string& name : names) {
        auto profile = profile::find(name);
        if (!profile) return report_error(profile.error(), json);
        options.ladder = options.ladder || profile->is_ladder();
        request.profiles.push_back(std::move(*profile));
    }
    if (const Status fit = check_together(options); !fit) return report_error(fit.error(), json);
    auto input = open_with_added_text(options);
    if (!input) return report_error(input.error(), json);
    take_choices(options, request);
    if (const Status connected = convert::connect(request, &cancel()); !connected)
        return report_error(connected.error(), json);
    request.quality = options.quality;
    for (const std::string& text : (*input)->notes()) note(text);
    if (for_devices) return run_for_devices(options, **input, request);
    std::vector<std::string> notes;
    std::optional<ProgressLine> line;
    if (options.ladder) {
        line.emplace("choosing rungs", options.output.quiet);
        convert::as_ladder(request, **input, options.samples, &notes, line->callback(), cancel());
    }
    const auto plans = convert::make_plans(**input, request);
    line.reset();
    if (!plans) return report_error(plans.error(), json);
    for (const std::string& text : notes) note(text);
    if (options.plan) return show_plans(options, **input, *plans, {});
    return carry_out(options, **input, *plans, {});
}

}  // namespace wavecrest::cli
