#include "job/store.hpp"

#include <fmt/chrono.h>
#include <fmt/ranges.h>
#include <pwd.h>
#include <unistd.h>

#include <atomic>
#include <ctime>
#include <map>
#include <nlohmann/json.hpp>
#include <thread>

#include "base/log.hpp"
#include "base/units.hpp"
#include "cli/commands.hpp"
#include "cli/job.hpp"
#include "convert/decide.hpp"
#include "host/machine.hpp"
#include "render/table.hpp"
#include "site/site.hpp"
#include "source/shelf.hpp"

namespace wavecrest::cli {
namespace {

using namespace std::chrono_literals;
using Json = nlohmann::ordered_json;

constexpr int kDoneWithLosses = 5, kSomeFailed = 6;

job::WallTime wall_now() {
    return std::time(nullptr);
}
std::string clock_text(job::WallTime time) {
    return time == 0 ? "" : fmt::format("{:%Y-%m-%d %H:%M}", fmt::localtime(static_cast<std::time_t>(time)));
}

// What a job is called: its name, else its source's last part.
std::string name_of(const job::Job& job) {
    if (!job.selection.name.empty()) return job.selection.name;
    std::error_code error;
    const base::Path path =
        base::Path(job.source).filename().empty() ? base::Path(job.source).parent_path() : base::Path(job.source);
    const bool folder = std::filesystem::is_directory(path, error);
    return convert::film_name(folder ? path.filename().string() : path.stem().string()).full();
}
std::string made_by(const job::Job& job) {
    std::vector<std::string> names;
    for (const job::JobDevice& one : job.devices) names.push_back(one.name);
    if (names.empty()) {
        for (const std::string& text : job.profiles) {
            const auto profile = profile::parse(text, "profile");
            names.push_back(profile ? profile->name : "profile");
        }
    }
    return fmt::format("{}", fmt::join(names, ", "));
}

std::string result_text(const job::Record& record) {
    switch (record.state) {
        case job::State::waiting:
            if (!record.error) return "";
            return fmt::format("{}; next try {}", record.error->what, clock_text(record.next_try));
        case job::State::running:
            return fmt::format("{:.0f} %{}", record.progress * 100, record.stop_wanted ? ", stopping" : "");
        case job::State::done: {
            const Json json = Json::parse(record.result, nullptr, false);
            if (!json.is_object() || json["files"].empty()) return "nothing to convert";
            std::uint64_t bytes = 0;
            for (const Json& file : json["files"]) bytes += file.value("bytes", std::uint64_t{0});
            return fmt::format("{} in {}{}", base::format_bytes(bytes),
                               base::format_span(base::from_seconds(json.value("elapsed_s", 0.0))),
                               json.value("lost_s", 0.0) > 0 ? ", some of it lost" : "");
        }
        case job::State::failed:
            return record.error ? record.error->what : "";
        default:
            return "";
    }
}

Json to_json(const job::Record& record) {
    Json json = {{"job", record.id},
                 {"state", job::short_name(record.state)},
                 {"source", record.job.source},
                 {"name", name_of(record.job)},
                 {"into", record.job.selection.into.string()},
                 {"for", made_by(record.job)},
                 {"added", record.added},
                 {"started", record.started},
                 {"ended", record.ended},
                 {"tries", record.tries},
                 {"digest", record.digest}};
    if (record.state == job::State::running) json["progress"] = record.progress;
    if (record.next_try > 0) json["next_try"] = record.next_try;
    if (record.error)
        json["error"] = {
            {"what", record.error->what}, {"where", record.error->where}, {"remedy", record.error->remedy}};
    if (const Json result = Json::parse(record.result, nullptr, false); result.is_object()) json["result"] = result;
    return json;
}

// One job, with its progress kept in the list; ends early when the program or the job is to stop.
struct Worked {
    job::State state = job::State::done;
    bool lost = false, interrupted = false;
    std::optional<Error> error;
};
Result<Worked> work_one(job::Store& store, const job::Record& record, const std::string& doing, const Output& output) {
    Cancel stop;
    std::atomic<double> progress{0};
    std::atomic<bool> over{false}, stopped{false};
    std::thread watching([&] {
        for (int turn = 0; !over; ++turn) {
            if (cancel().requested()) stop.request();
            if (turn % 10 == 0) {
                if (const auto wanted = store.report(record.id, progress); wanted && *wanted) {
                    stopped = true;
                    stop.request();
                }
            }
            std::this_thread::sleep_for(50ms);
        }
    });
    Result<job::Done> done;
    {
        ProgressLine line(doing, output.quiet);
        const auto show = line.callback();
        const Progress both = [&](const ProgressState& state) {
            if (state.total.count() > 0) progress = base::to_seconds(state.done) / base::to_seconds(state.total);
            if (show) show(state);
        };
        done = job::run(record.job, both, stop);
    }
    over = true;
    watching.join();
    Worked worked;
    if (done) {
        WAVECREST_TRY(store.finish(record.id, *done, wall_now()));
        worked.lost = done->lost.count() > 0;
        return worked;
    }
    worked.error = done.error();
    if (stopped) {
        worked.state = job::State::stopped;
        WAVECREST_TRY(store.stopped(record.id, wall_now()));
    } else if (cancel().requested()) {
        worked.state = job::State::waiting;
        worked.interrupted = true;
        WAVECREST_TRY(store.put_back(record.id));
    } else {
        const bool passes = job::may_pass(record.job, done.error());
        worked.state = passes ? job::State::waiting : job::State::failed;
        WAVECREST_TRY(store.give_up(record.id, done.error(), passes, wall_now()));
    }
    return worked;
}

void print_worked(const job::Record& record, const Worked& worked) {
    const std::string result = result_text(record);
    print("{:<8} job {}: {}{}\n", job::short_name(record.state), record.id, name_of(record.job),
          result.empty() ? "" : ", " + result);
    if (!worked.error || worked.interrupted || worked.state == job::State::stopped) return;
    print("  where:  {}\n  to do:  {}\n", worked.error->where, worked.error->remedy);
}

// Works through these, or through all that wait and are due; the program's exit status.
int work(job::Store& store, const std::vector<std::int64_t>& ids, bool wait, const Output& output) {
    // Streams that are being watched come first.
    host::yield_to_others();
    Json list = Json::array();
    bool lost = false, failed = false;
    std::size_t number = 0;
    while (!cancel().requested()) {
        if (!ids.empty() && number >= ids.size()) break;
        const auto record =
            store.claim(wall_now(), ids.empty() ? std::nullopt : std::optional<std::int64_t>(ids[number]));
        if (!record) return report_error(record.error(), output.json);
        ++number;
        if (!*record && !ids.empty()) continue;  // stopped, or somebody else took it
        if (!*record) {
            if (!wait) break;
            for (int i = 0; i < 100 && !cancel().requested(); ++i) std::this_thread::sleep_for(50ms);
            continue;
        }
        const std::string doing = ids.size() > 1
                                      ? fmt::format("{} of {}: {}", number, ids.size(), name_of((*record)->job))
                                      : fmt::format("job {}: {}", (*record)->id, name_of((*record)->job));
        const auto worked = work_one(store, **record, doing, output);
        if (!worked) return report_error(worked.error(), output.json);
        lost = lost || worked->lost;
        failed = failed || (worked->error && !worked->interrupted);
        const auto after = store.get((*record)->id);
        if (!after) return report_error(after.error(), output.json);
        list.push_back(to_json(*after));
        if (!output.json) print_worked(*after, *worked);
    }
    const bool interrupted = cancel().requested();
    if (output.json) {
        print_json({{"jobs", list}, {"interrupted", interrupted}});
    } else if (interrupted) {
        print("\nInterrupted. Next: wavecrest job run goes on with what waits.\n");
    } else if (list.empty()) {
        print("No job is due. Next: wavecrest job list\n");
    } else if (failed) {
        print("\nSome jobs failed. Next: wavecrest job show NUMBER\n");
    }
    return interrupted ? exit_status(ErrorKind::interrupted) : failed ? kSomeFailed : lost ? kDoneWithLosses : 0;
}

Result<std::unique_ptr<job::Store>> open_store() {
    return job::Store::open(job::Store::usual_place());
}

// One source of several, with what is against converting it.
struct Item {
    job::Job job;
    std::string digest;
    std::string against;  // why it isn't converted; empty: it is
    bool failed = false;  // before, or nothing is known of it
};

// The inputs one by one, and what lies on those that are shelves.
Result<std::vector<Item>> expand(const ConvertOptions& options, const std::vector<std::string>& inputs) {
    std::vector<std::pair<std::string, std::string>> sources;  // and what is against them
    for (const std::string& input : inputs) {
        std::error_code error;
        if (!std::filesystem::is_directory(input, error) || source::is_disc_folder(input)) {
            sources.emplace_back(input, "");
            continue;
        }
        WAVECREST_TRY_ASSIGN(entries, source::read_shelf(input));
        for (const source::ShelfEntry& entry : entries)
            sources.emplace_back(entry.path.string(), entry.kind == source::ShelfEntry::Kind::unknown
                                                          ? "no disc and no media file in it"
                                                          : "");
    }
    std::vector<Item> items;
    std::map<std::string, std::string> seen;  // digests, and their first source
    for (const auto& [source, against] : sources) {
        WAVECREST_TRY_ASSIGN(job, job_of(options, source));
        Item item{std::move(job), "", against, !against.empty()};
        if (item.against.empty()) {
            if (auto digest = job::digest_of(source)) item.digest = *digest;
            if (!item.digest.empty()) {
                const auto [first, added] = seen.try_emplace(item.digest, source);
                if (!added) item.against = fmt::format("duplicate of {}", first->second);
            }
        }
        items.push_back(std::move(item));
    }
    if (items.empty())
        return fail(ErrorKind::input, "no disc and no media file", fmt::format("{}", fmt::join(inputs, ", ")),
                    "name a folder of ripped discs, disc images or media files");
    return items;
}

// What was converted before in the same way, and is still there, needn't be again; what failed for good, or was
// stopped, is not tried again unasked.
void mark_known(const std::vector<job::Record>& records, std::vector<Item>& items) {
    for (Item& item : items) {
        if (!item.against.empty()) continue;
        for (const job::Record& record : records) {
            const bool same = item.digest.empty() ? record.job.source == item.job.source : record.digest == item.digest;
            if (!same || record.job.selection.into != item.job.selection.into ||
                made_by(record.job) != made_by(item.job))
                continue;
            item.against.clear();
            if (record.state == job::State::waiting || record.state == job::State::running)
                item.against = fmt::format("is job {} already", record.id);
            if (record.state == job::State::failed || record.state == job::State::stopped) {
                item.against = record.state == job::State::stopped
                                   ? fmt::format("was stopped; job retry {} takes it up again", record.id)
                                   : fmt::format("failed before: {}; job retry {} tries again",
                                                 record.error ? record.error->what : "", record.id);
                item.failed = record.state == job::State::failed;
            }
            if (record.state != job::State::done) continue;
            const Json json = Json::parse(record.result, nullptr, false);
            std::error_code error;
            if (!json.is_object() || json["files"].empty() ||
                !std::filesystem::exists(json["files"][0].value("path", ""), error))
                continue;
            item.against = fmt::format("already converted: {}", json["files"][0].value("path", ""));
        }
    }
}

// Bytes and time of a second of a title. Of the first few titles each is sampled; for the others it is the mean of
// those of their kind, so that hundreds take no longer.
struct Cost {
    double bytes = 0, seconds = 0;
};
constexpr std::size_t kSampled = 12;
struct Costs {
    std::map<std::string, std::vector<Cost>> of_kinds;
    std::size_t sampled = 0;

    Cost mean(const std::string& kind) const {
        Cost sum;
        const std::vector<Cost>& all = of_kinds.at(kind);
        for (const Cost& one : all) sum.bytes += one.bytes, sum.seconds += one.seconds;
        return {sum.bytes / static_cast<double>(all.size()), sum.seconds / static_cast<double>(all.size())};
    }
};

Result<Cost> cost_of(const job::Job& job, const source::Input& input, const source::Pick& pick) {
    convert::Request request;
    static_cast<convert::Selection&>(request) = job.selection;
    if (request.audio.empty()) request.audio = "first";
    if (request.subtitles.empty()) request.subtitles = "forced";
    for (const std::string& text : job.profiles) {
        WAVECREST_TRY_ASSIGN(profile, profile::parse(text, "profile"));
        request.profiles.push_back(std::move(profile));
    }
    std::optional<convert::Plan> plan;
    if (job.devices.empty()) {
        WAVECREST_TRY_ASSIGN(made, convert::make_plan(input, request, pick, false));
        plan = std::move(made);
    } else {
        WAVECREST_TRY_ASSIGN(devices, job::devices_of(job));
        WAVECREST_TRY_ASSIGN(titles, convert::plan_for_devices(input, request, devices, job.one_file));
        plan = titles.front().plan;
        if (!plan) return Cost{};
    }
    WAVECREST_TRY_ASSIGN(estimate, convert::estimate(input, *plan, cancel()));
    const double length = std::max(base::to_seconds(plan->duration), 0.1);
    return Cost{static_cast<double>(estimate.size_bytes) / length, base::to_seconds(estimate.time) / length};
}

// A row of what would be done with one source; adds to the sums.
struct Planned {
    Json json;
    std::vector<std::string> cells;
};
struct Sums {
    double bytes = 0, seconds = 0;
    std::uint64_t source_bytes = 0;
    std::size_t converted = 0, against = 0;
};
Planned plan_item(const Item& item, Costs& costs, std::map<std::string, std::string>& names, Sums& sums) {
    Planned row{{{"source", item.job.source}, {"name", name_of(item.job)}}, {name_of(item.job), "", "", "", "", ""}};
    const auto refuse = [&](const std::string& why, const char* state) {
        row.json["action"] = state;
        row.json["reason"] = why;
        row.cells.back() = why;
        ++sums.against;
        return row;
    };
    if (!item.against.empty()) return refuse(item.against, "left-out");
    const auto input = source::open_input(item.job.source, {item.job.retries});
    if (!input) return refuse(input.error().what, "fails");
    const auto picks = (*input)->picks(item.job.selection.pick);
    if (!picks) return refuse(picks.error().what, "fails");
    double seconds = 0, bytes = 0, working = 0;
    std::uint64_t source_bytes = 0;
    for (const source::Pick& pick : *picks) {
        if (const auto status = (*input)->check_protection(pick.title->number); !status)
            return refuse(status.error().what, "fails");
        std::string kind = fmt::format("{}", (*input)->is_disc());
        for (const Track& track : pick.title->tracks) {
            if (track.kind == TrackKind::video)
                kind += fmt::format(" {} {} {} {}", media::short_name(track.codec), track.height,
                                    media::short_name(track.scan), track.bit_depth);
        }
        Cost own;
        if (costs.sampled < kSampled || !costs.of_kinds.contains(kind)) {
            const auto cost = cost_of(item.job, **input, pick);
            if (!cost) return refuse(cost.error().what, "fails");
            own = *cost;
            costs.of_kinds[kind].push_back(own);
            ++costs.sampled;
        } else {
            own = costs.mean(kind);
        }
        const double length = base::to_seconds(pick.duration());
        seconds += length;
        bytes += own.bytes * length;
        working += own.seconds * length;
        source_bytes += pick.title->size_bytes;
    }
    const std::string name = item.job.selection.name.empty() ? convert::film_name((*input)->name_hint()).full()
                                                             : convert::given_name(item.job.selection.name).full();
    const auto [first, added] = names.try_emplace(name, item.job.source);
    if (!added && item.job.selection.pick != "episodes")
        return refuse(fmt::format("its name is that of {}: convert it apart, with --name", first->second), "fails");
    row.json["action"] = "convert";
    row.json["name"] = name;
    row.json["titles"] = picks->size();
    row.json["duration_s"] = seconds;
    row.json["source_bytes"] = source_bytes;
    row.json["estimate"] = {{"size_bytes", static_cast<std::uint64_t>(bytes)}, {"time_s", working}};
    row.cells = {name,
                 base::format_clock(base::from_seconds(seconds)),
                 base::format_bytes(source_bytes),
                 base::format_bytes(static_cast<std::uint64_t>(bytes)),
                 base::format_span(base::from_seconds(working)),
                 ""};
    sums.bytes += bytes;
    sums.seconds += working;
    sums.source_bytes += source_bytes;
    ++sums.converted;
    return row;
}

int show_shelf(const ConvertOptions& options, const std::vector<Item>& items) {
    const bool json = options.output.json;
    render::Table table({"film", "length", "source", "size", "time", ""});
    Json list = Json::array();
    Costs costs;
    std::map<std::string, std::string> names;
    Sums sums;
    for (std::size_t i = 0; i < items.size() && !cancel().requested(); ++i) {
        Planned row = plan_item(items[i], costs, names, sums);
        table.add(row.cells);
        list.push_back(std::move(row.json));
    }
    if (cancel().requested()) return report_error(base::interrupted().value(), json);
    const auto free = host::free_space(base::Path(options.into) / "x");
    if (!free) return report_error(free.error(), json);
    const bool fits = sums.bytes < static_cast<double>(*free);
    if (json) {
        print_json({{"sources", list},
                    {"total",
                     {{"convert", sums.converted},
                      {"not_converted", sums.against},
                      {"source_bytes", sums.source_bytes},
                      {"size_bytes", static_cast<std::uint64_t>(sums.bytes)},
                      {"time_s", sums.seconds},
                      {"free_bytes", *free},
                      {"fits", fits}}}});
        return 0;
    }
    print("{}\n{} to convert, {} not: about {} of {}, {}. Free space: {}.\n", Raw{table.text()}, sums.converted,
          sums.against, base::format_bytes(static_cast<std::uint64_t>(sums.bytes)),
          base::format_bytes(sums.source_bytes), base::format_span(base::from_seconds(sums.seconds)),
          base::format_bytes(*free));
    if (sums.converted > kSampled)
        print("Sampled were {} titles; for the others size and time are the mean of their kind (codec, size, scan).\n",
              costs.sampled);
    if (!fits)
        return report_error({ErrorKind::machine, "not enough disk space for all of them", options.into,
                             "free some space, or choose another folder with --into"});
    print("Dry run: nothing was converted. Run without --plan to convert, or with --queue to convert later.\n");
    return 0;
}

}  // namespace

Result<job::Job> job_of(const ConvertOptions& options, const std::string& source) {
    job::Job job;
    job.source = source.find("://") == std::string::npos ? base::absolute_path(source).string() : source;
    convert::Selection& s = job.selection;
    s.pick = options.pick;
    s.into = base::absolute_path(options.into);
    s.name = options.name;
    s.video = options.video;
    s.audio = options.audio;
    s.subtitles = options.subtitles;
    s.angle = options.angle;
    s.season = options.season;
    s.first_episode = options.first_episode;
    s.accept_losses = options.accept_losses;
    job.one_file = options.one_file;
    job.quality = options.quality;
    job.captions = options.captions;
    job.retries = options.retries;
    if (!options.subtitle_file.empty()) job.subtitle_file = base::absolute_path(options.subtitle_file).string();
    std::vector<std::string> profiles = options.profiles;
    if (profiles.empty()) profiles.emplace_back(kUsualProfile);
    for (const std::string& name : profiles) {
        WAVECREST_TRY_ASSIGN(text, profile::source_text(name));
        WAVECREST_TRY(profile::parse(text, name));
        job.profiles.push_back(std::move(text));
    }
    if (options.site.empty()) {
        for (const std::string& name : options.devices) {
            WAVECREST_TRY_ASSIGN(device, device::find(name));
            WAVECREST_TRY_ASSIGN(texts, device::source_texts(name));
            job.devices.push_back({device.name, std::move(texts), 0});
        }
        return job;
    }
    WAVECREST_TRY_ASSIGN(chosen, site_devices(options));
    for (const SiteChoice& one : chosen) {
        WAVECREST_TRY_ASSIGN(texts, device::source_texts(one.device_class));
        job.devices.push_back({one.device.name, std::move(texts), one.device.highest_bps});
    }
    return job;
}

struct JobEntry::State {
    std::unique_ptr<job::Store> store;
    job::Record record;
    job::Done done;
};

JobEntry::JobEntry(const ConvertOptions& options) {
    const auto begin = [&]() -> Status {
        WAVECREST_TRY_ASSIGN(job, job_of(options, options.input));
        WAVECREST_TRY_ASSIGN(store, open_store());
        std::string digest;
        if (auto found = job::digest_of(job.source)) digest = std::move(*found);
        WAVECREST_TRY_ASSIGN(id, store->add(job, digest, wall_now()));
        WAVECREST_TRY_ASSIGN(record, store->claim(wall_now(), id));
        if (record) state_ = std::make_unique<State>(State{std::move(store), std::move(*record), {}});
        return {};
    };
    if (const auto status = begin(); !status) note(fmt::format("not in the list of jobs: {}", status.error().what));
}
JobEntry::~JobEntry() = default;

void JobEntry::add(const convert::Plan& plan, const convert::Outcome& outcome) {
    if (state_) job::add_up(state_->done, plan, outcome, !state_->record.job.devices.empty());
}

void JobEntry::finish(const std::optional<Error>& failure) {
    if (!state_) return;
    job::Store& store = *state_->store;
    const std::int64_t id = state_->record.id;
    // What somebody ended here isn't taken up again unasked.
    const Status status = !failure                                  ? store.finish(id, state_->done, wall_now())
                          : failure->kind == ErrorKind::interrupted ? store.stopped(id, wall_now())
                                                                    : store.give_up(id, *failure, false, wall_now());
    if (!status) note(fmt::format("the list of jobs is not up to date: {}", status.error().what));
}

bool are_many(const std::vector<std::string>& inputs) {
    if (inputs.size() != 1) return true;
    std::error_code error;
    return std::filesystem::is_directory(inputs.front(), error) && !source::is_disc_folder(inputs.front()) &&
           !std::filesystem::is_empty(inputs.front(), error) && !error;
}

int run_convert_many(const ConvertOptions& options, const std::vector<std::string>& inputs) {
    const bool json = options.output.json;
    const auto refuse = [&](const char* what, const char* option) {
        return report_error({ErrorKind::usage, what, option, "convert them one by one, or leave it out"}, json);
    };
    if (!options.remux.empty()) return refuse("several inputs are converted, not remuxed", "--remux");
    if (!options.name.empty() && inputs.size() > 1) return refuse("several films can't have one name", "--name");
    if (!options.subtitle_file.empty()) return refuse("a subtitle file belongs to one film", "--subtitle-file");
    if (options.into.empty()) return refuse("no folder for the films", "--into");
    auto items = expand(options, inputs);
    if (!items) return report_error(items.error(), json);
    auto store = open_store();
    if (!store) return report_error(store.error(), json);
    const auto records = (*store)->list();
    if (!records) return report_error(records.error(), json);
    mark_known(*records, *items);
    if (options.plan) return show_shelf(options, *items);
    std::vector<std::int64_t> ids;
    bool unknown = false;
    for (const Item& item : *items) {
        if (!item.against.empty()) {
            note(fmt::format("{}: {}", item.job.source, item.against));
            unknown = unknown || item.failed;
            continue;
        }
        const auto id = (*store)->add(item.job, item.digest, wall_now());
        if (!id) return report_error(id.error(), json);
        ids.push_back(*id);
    }
    if (ids.empty()) {
        if (json) print_json({{"jobs", Json::array()}});
        if (!json) print("Nothing to convert.\n");
        return unknown ? kSomeFailed : 0;
    }
    if (options.queue) {
        if (json) {
            print_json({{"queued", ids}});
        } else {
            print("{} job{} waiting. Next: wavecrest job run, or wavecrest job service for every boot\n", ids.size(),
                  ids.size() == 1 ? "" : "s");
        }
        return 0;
    }
    const int status = work(**store, ids, false, options.output);
    return status == 0 && unknown ? kSomeFailed : status;
}

int run_job_list(const JobOptions& options) {
    const bool json = options.output.json;
    std::optional<job::State> wanted;
    if (!options.state.empty()) {
        wanted = job::state_from_name(options.state);
        if (!wanted)
            return report_error({ErrorKind::usage, fmt::format("jobs are never \"{}\"", options.state), "--state",
                                 "use waiting, running, done, failed or stopped"},
                                json);
    }
    const auto store = open_store();
    if (!store) return report_error(store.error(), json);
    const auto records = (*store)->list();
    if (!records) return report_error(records.error(), json);
    Json list = Json::array();
    render::Table table({"job", "state", "film", "for", "added", "result"});
    for (const job::Record& record : *records) {
        if (wanted && record.state != *wanted) continue;
        list.push_back(to_json(record));
        table.add({std::to_string(record.id), std::string(job::short_name(record.state)), name_of(record.job),
                   made_by(record.job), clock_text(record.added), result_text(record)});
    }
    if (json) {
        print_json({{"jobs", list}});
    } else if (list.empty()) {
        print("No {}jobs. Next: wavecrest convert RIPS --into LIBRARY --queue\n",
              wanted ? options.state + " " : std::string());
    } else {
        print("{}\nNext: wavecrest job show NUMBER, or wavecrest job run\n", Raw{table.text()});
    }
    return 0;
}

int run_job_show(const JobOptions& options) {
    const bool json = options.output.json;
    const auto store = open_store();
    if (!store) return report_error(store.error(), json);
    const auto record = (*store)->get(options.id);
    if (!record) return report_error(record.error(), json);
    if (json) {
        print_json(to_json(*record));
        return 0;
    }
    const auto line = [](const char* what, const std::string& text) {
        if (!text.empty()) print("  {:<9} {}\n", what, text);
    };
    const std::string result = result_text(*record);
    print("Job {}: {}, {}{}\n", record->id, name_of(record->job), job::short_name(record->state),
          result.empty() ? "" : " (" + result + ")");
    line("source", record->job.source);
    line("into", record->job.selection.into.string());
    line("for", made_by(record->job));
    line("added", clock_text(record->added));
    line("started", clock_text(record->started));
    line("ended", record->state == job::State::running ? "" : clock_text(record->ended));
    if (record->tries > 1) line("tries", std::to_string(record->tries));
    if (record->error) {
        line("error", record->error->what);
        line("where", record->error->where);
        line("to do", record->error->remedy);
    }
    if (const Json made = Json::parse(record->result, nullptr, false); made.is_object()) {
        for (const Json& file : made["files"]) {
            std::string devices;
            for (const Json& name : file["devices"])
                devices += (devices.empty() ? " for " : ", ") + name.get<std::string>();
            line("file", fmt::format("{} ({}){}", file.value("path", ""),
                                     base::format_bytes(file.value("bytes", std::uint64_t{0})), devices));
        }
        for (const Json& text : made["problems"]) line("problem", text.get<std::string>());
        for (const Json& text : made["warnings"]) line("warning", text.get<std::string>());
    }
    if (record->state == job::State::failed || record->state == job::State::stopped)
        print("Next: wavecrest job retry {}, then wavecrest job run\n", record->id);
    return 0;
}

int run_job_retry(const JobOptions& options) {
    const bool json = options.output.json;
    const auto store = open_store();
    if (!store) return report_error(store.error(), json);
    std::vector<std::int64_t> ids;
    if (options.all_failed) {
        const auto records = (*store)->list();
        if (!records) return report_error(records.error(), json);
        for (const job::Record& record : *records) {
            if (record.state == job::State::failed) ids.push_back(record.id);
        }
    } else if (options.id > 0) {
        ids.push_back(options.id);
    } else {
        return report_error({ErrorKind::usage, "no job is named", "job retry", "give its number, or --failed for all"},
                            json);
    }
    for (const std::int64_t id : ids) {
        if (const auto status = (*store)->retry(id); !status) return report_error(status.error(), json);
    }
    if (json) {
        print_json({{"waiting", ids}});
    } else {
        print("{} job{} waiting. Next: wavecrest job run\n", ids.size(), ids.size() == 1 ? "" : "s");
    }
    return 0;
}

int run_job_stop(const JobOptions& options) {
    const bool json = options.output.json;
    const auto store = open_store();
    if (!store) return report_error(store.error(), json);
    if (const auto status = (*store)->stop(options.id, wall_now()); !status) return report_error(status.error(), json);
    // One that runs is stopped by its program, within a second.
    auto record = (*store)->get(options.id);
    for (int i = 0; i < 100 && record && record->state == job::State::running; ++i) {
        std::this_thread::sleep_for(100ms);
        record = (*store)->get(options.id);
    }
    if (!record) return report_error(record.error(), json);
    if (json) {
        print_json(to_json(*record));
    } else if (record->state == job::State::running) {
        print("Job {} is being stopped. Next: wavecrest job show {}\n", options.id, options.id);
    } else {
        print("Job {} is {}. Next: wavecrest job retry {} takes it up again\n", options.id,
              job::short_name(record->state), options.id);
    }
    return 0;
}

int run_job_run(const JobOptions& options) {
    const auto store = open_store();
    if (!store) return report_error(store.error(), options.output.json);
    return work(**store, {}, options.wait, options.output);
}

int run_job_service(const JobOptions&) {
    std::error_code error;
    const auto program = std::filesystem::read_symlink("/proc/self/exe", error);
    const passwd* user = ::getpwuid(::geteuid());
    // Jobs are this user's; conversions give way to streams, and end cleanly when the machine goes down.
    print(
        "[Unit]\nDescription=Wavecrest conversions\nAfter=local-fs.target remote-fs.target network.target\n\n"
        "[Service]\nUser={}\nExecStart={} job run --wait --quiet\nNice=10\nIOSchedulingClass=idle\n"
        "KillSignal=SIGTERM\nTimeoutStopSec=30\nRestart=on-failure\nRestartSec=30\n\n"
        "[Install]\nWantedBy=multi-user.target\n",
        user != nullptr ? user->pw_name : "root", error ? std::string("wavecrest") : program.string());
    std::fflush(stdout);
    print(stderr,
          "\nTo install it:\n  wavecrest job service | sudo tee /etc/systemd/system/wavecrest-jobs.service\n  sudo "
          "systemctl daemon-reload && sudo systemctl enable --now wavecrest-jobs\nThen see: wavecrest job list\n");
    return 0;
}

}  // namespace wavecrest::cli
