#include "job/job.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <nlohmann/json.hpp>

#include "base/address.hpp"
#include "convert/decide.hpp"
#include "convert/ladder.hpp"
#include "source/added_text.hpp"

namespace wavecrest::job {
namespace {

using Json = nlohmann::ordered_json;

}  // namespace

Json to_json(const Job& job) {
    const convert::Selection& s = job.selection;
    Json json = {{"source", job.source},
                 {"pick", s.pick},
                 {"into", s.into.string()},
                 {"name", s.name},
                 {"video", s.video},
                 {"audio", s.audio},
                 {"subtitles", s.subtitles},
                 {"angle", s.angle},
                 {"season", s.season},
                 {"first_episode", s.first_episode},
                 {"extras", s.extras},
                 {"film_names", s.names.film},
                 {"episode_names", s.names.episode},
                 {"record", s.record},
                 {"accept_losses", s.accept_losses},
                 {"profiles", job.profiles},
                 {"one_file", job.one_file},
                 {"ladder", job.ladder},
                 {"remux", job.remux},
                 {"cut", job.cut},
                 {"quality", job.quality},
                 {"subtitle_file", job.subtitle_file},
                 {"captions", job.captions},
                 {"retries", job.retries}};
    json["devices"] = Json::array();
    for (const JobDevice& one : job.devices)
        json["devices"].push_back({{"name", one.name}, {"texts", one.texts}, {"highest_bps", one.highest_bps}});
    return json;
}

Result<Job> from_json(const std::string& text) {
    try {
        const Json json = Json::parse(text);
        Job job;
        convert::Selection& s = job.selection;
        json.at("source").get_to(job.source);
        json.at("pick").get_to(s.pick);
        s.into = json.at("into").get<std::string>();
        json.at("name").get_to(s.name);
        json.at("video").get_to(s.video);
        json.at("audio").get_to(s.audio);
        json.at("subtitles").get_to(s.subtitles);
        json.at("angle").get_to(s.angle);
        json.at("season").get_to(s.season);
        json.at("first_episode").get_to(s.first_episode);
        json.at("extras").get_to(s.extras);
        json.at("film_names").get_to(s.names.film);
        json.at("episode_names").get_to(s.names.episode);
        json.at("record").get_to(s.record);
        json.at("accept_losses").get_to(s.accept_losses);
        json.at("profiles").get_to(job.profiles);
        json.at("one_file").get_to(job.one_file);
        // (Lists of before remuxes and ladders were jobs have none of them.)
        job.ladder = json.value("ladder", false);
        job.remux = json.value("remux", "");
        job.cut = json.value("cut", "");
        json.at("quality").get_to(job.quality);
        json.at("subtitle_file").get_to(job.subtitle_file);
        json.at("captions").get_to(job.captions);
        json.at("retries").get_to(job.retries);
        for (const Json& one : json.at("devices"))
            job.devices.push_back({one.at("name"), one.at("texts"), one.at("highest_bps")});
        return job;
    } catch (const Json::exception& error) {
        return fail(ErrorKind::input, "this is no job of this program", error.what(),
                    "convert it again; the list of jobs may be of a newer version");
    }
}

Result<std::vector<device::Device>> devices_of(const Job& job) {
    std::vector<device::Device> devices;
    for (const JobDevice& one : job.devices) {
        if (one.texts.empty())
            return fail(ErrorKind::input, "a device without a description", one.name, "convert it again");
        WAVECREST_TRY_ASSIGN(device, device::parse(one.texts.front(), one.name));
        for (std::size_t i = 1; i < one.texts.size(); ++i) {
            WAVECREST_TRY_ASSIGN(receiver, device::parse(one.texts[i], one.name));
            device = device::with_receiver(std::move(device), receiver);
        }
        device.name = one.name;
        if (one.highest_bps > 0)
            device.highest_bps =
                device.highest_bps > 0 ? std::min(device.highest_bps, one.highest_bps) : one.highest_bps;
        devices.push_back(std::move(device));
    }
    return devices;
}

namespace {

void add_outcome(Done& done, const convert::Outcome& outcome, const std::vector<std::string>& warnings) {
    done.duration += outcome.duration;
    done.elapsed += outcome.elapsed;
    done.source_bytes += outcome.source_bytes;
    done.lost += outcome.loss.total;
    done.warnings.insert(done.warnings.end(), warnings.begin(), warnings.end());
    for (const Problem& problem : outcome.problems)
        done.problems.push_back(fmt::format("{} (from {} to {})", problem.what, base::format_clock(problem.from),
                                            base::format_clock(problem.to)));
}

}  // namespace

void add_up(Done& done, const convert::Plan& plan, const convert::Outcome& outcome, bool for_devices) {
    for (std::size_t i = 0; i < outcome.files.size(); ++i)
        done.files.push_back(
            {outcome.files[i].path.string(), outcome.files[i].bytes,
             for_devices ? std::vector<std::string>{plan.outputs[i].profile} : std::vector<std::string>{}});
    add_outcome(done, outcome, plan.warnings);
}

void add_up(Done& done, const convert::RemuxPlan& plan, const convert::Outcome& outcome) {
    for (const convert::Outcome::File& file : outcome.files) done.files.push_back({file.path.string(), file.bytes, {}});
    add_outcome(done, outcome, plan.warnings);
}

Result<convert::Request> request_of(const Job& job, const Cancel& cancel) {
    convert::Request request;
    static_cast<convert::Selection&>(request) = job.selection;
    if (request.audio.empty()) request.audio = "first";
    if (request.subtitles.empty()) request.subtitles = "forced";
    request.quality = job.quality;
    for (const std::string& text : job.profiles) {
        WAVECREST_TRY_ASSIGN(profile, profile::parse(text, "profile"));
        request.profiles.push_back(std::move(profile));
    }
    if (request.profiles.empty() && !job.devices.empty()) request.profiles.push_back(convert::usual_for_devices());
    if (request.profiles.empty())
        return fail(ErrorKind::input, "the job has neither a profile nor devices", job.source, "convert it again");
    WAVECREST_TRY(convert::connect(request, &cancel));
    return request;
}

Result<convert::RemuxRequest> remux_request_of(const Job& job, const Cancel& cancel) {
    convert::RemuxRequest request;
    static_cast<convert::Selection&>(request) = job.selection;
    if (request.audio.empty()) request.audio = "all";
    if (request.subtitles.empty()) request.subtitles = "all";
    request.format = job.remux;
    if (!job.cut.empty()) {
        WAVECREST_TRY_ASSIGN(range, convert::parse_range(job.cut));
        request.from = range.from;
        request.to = range.to;
    }
    WAVECREST_TRY(convert::connect(request, &cancel));
    return request;
}

namespace {

// One title after the other; `work` does one of the plans, and adds up what came of it.
template <typename Plan, typename Work>
Status run_all(const std::vector<Plan>& plans, const Progress& progress, Work work) {
    Time total{}, before{};
    for (const Plan& plan : plans) total += plan.duration;
    for (const Plan& plan : plans) {
        const auto part = [&](const ProgressState& state) {
            if (progress) progress({before + state.done, total, {}, state.doing});
        };
        WAVECREST_TRY(work(plan, part));
        before += plan.duration;
    }
    return {};
}

}  // namespace

Result<Done> run(const Job& job, const Progress& progress, const Cancel& cancel) {
    WAVECREST_TRY_ASSIGN(input, source::open_input(job.source, {job.retries, &cancel}));
    if (job.captions) {
        WAVECREST_TRY_ASSIGN(with, source::with_captions(std::move(input), {}, cancel));
        input = std::move(with);
    }
    if (!job.subtitle_file.empty()) {
        WAVECREST_TRY_ASSIGN(with, source::with_subtitle_file(std::move(input), job.subtitle_file));
        input = std::move(with);
    }
    Done done;
    if (!job.remux.empty()) {
        WAVECREST_TRY_ASSIGN(remux, remux_request_of(job, cancel));
        WAVECREST_TRY_ASSIGN(remuxes, convert::plan_remux(*input, remux));
        WAVECREST_TRY(run_all(remuxes, progress, [&](const convert::RemuxPlan& plan, const Progress& part) -> Status {
            WAVECREST_TRY_ASSIGN(outcome, convert::run_remux(*input, plan, part, cancel));
            add_up(done, plan, outcome);
            return {};
        }));
        return done;
    }
    WAVECREST_TRY_ASSIGN(request, request_of(job, cancel));
    if (job.ladder) convert::as_ladder(request, *input, true, &done.warnings, {}, cancel);
    std::vector<convert::Plan> plans;
    if (job.devices.empty()) {
        WAVECREST_TRY_ASSIGN(made, convert::make_plans(*input, request));
        plans = std::move(made);
    } else {
        WAVECREST_TRY_ASSIGN(devices, devices_of(job));
        WAVECREST_TRY_ASSIGN(titles, convert::plan_for_devices(*input, request, devices, job.one_file));
        for (convert::DevicePlan& title : titles) {
            for (const convert::FileDecision& file : title.files)
                done.warnings.insert(done.warnings.end(), file.warnings.begin(), file.warnings.end());
            if (title.plan) plans.push_back(std::move(*title.plan));
        }
    }
    WAVECREST_TRY(run_all(plans, progress, [&](const convert::Plan& plan, const Progress& part) -> Status {
        WAVECREST_TRY_ASSIGN(outcome, convert::run(*input, plan, part, cancel));
        add_up(done, plan, outcome, !job.devices.empty());
        return {};
    }));
    return done;
}

bool may_pass(const Job& job, const Error& error) {
    std::error_code code;
    if (error.kind == ErrorKind::interrupted) return true;
    // Where a target is there already, the error's place is that file.
    if (error.kind == ErrorKind::machine)
        return !std::filesystem::is_regular_file(error.where, code) && !convert::is_taken(error);
    return error.kind == ErrorKind::input && base::Address(job.source).is_local() &&
           !std::filesystem::exists(job.source, code);
}

}  // namespace wavecrest::job
