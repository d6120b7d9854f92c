#include "job/arrivals.hpp"
#include "job/shelf.hpp"

#include <fmt/chrono.h>
#include <fmt/ranges.h>
#include <pwd.h>
#include <unistd.h>

#include <atomic>
#include <ctime>
#include <nlohmann/json.hpp>
#include <numeric>
#include <regex>
#include <thread>

#include "base/address.hpp"
#include "base/clock.hpp"
#include "base/log.hpp"
#include "base/units.hpp"
#include "cli/commands.hpp"
#include "cli/job.hpp"
#include "cli/worker.hpp"
#include "container/writer.hpp"
#include "host/folder_changes.hpp"
#include "host/machine.hpp"
#include "render/table.hpp"
#include "report/results.hpp"
#include "site/site.hpp"
#include "source/digest.hpp"
#include "source/share_input.hpp"
#include "source/shelf.hpp"

namespace wavecrest::cli {
namespace {

using namespace std::chrono_literals;
using Json = nlohmann::ordered_json;

job::WallTime wall_now() {
    return std::time(nullptr);
}
std::string clock_text(job::WallTime time) {
    return time == 0 ? "" : fmt::format("{:%Y-%m-%d %H:%M}", fmt::localtime(static_cast<std::time_t>(time)));
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

}  // namespace

Result<std::shared_ptr<job::Pacer>> pacer_for(const std::string& nice) {
    job::Nice wanted;
    if (!nice.empty()) {
        WAVECREST_TRY_ASSIGN(parsed, job::parse_nice(nice));
        wanted = parsed;
    }
    return std::make_shared<job::Pacer>(wanted, job::real_world());
}

Progress paced(std::shared_ptr<job::Pacer> pacer, Progress inner, const Cancel& cancel) {
    return [pacer = std::move(pacer), inner = std::move(inner), &cancel](const ProgressState& state) {
        if (inner) inner(state);
        job::wait_for(*pacer, note, cancel);
    };
}

namespace {

// How far several jobs are together, by the sizes of their sources.
class Overall {
  public:
    explicit Overall(std::vector<std::uint64_t> sizes) : sizes_(std::move(sizes)) {
        total_ = std::accumulate(sizes_.begin(), sizes_.end(), std::uint64_t{0});
    }
    bool of_several() const { return sizes_.size() > 1 && total_ > 0; }
    // "  |  all 38 % 1 h 20 min left", while this much (0 to 1) of the current one is done.
    std::string text(double fraction) const {
        const double done = part(fraction);
        const double elapsed = std::chrono::duration<double>(std::chrono::steady_clock::now() - start_).count();
        std::string text = fmt::format("  |  all {:.0f} %", 100 * done);
        constexpr double kEnough = 0.01;  // to guess from
        if (done > kEnough)
            text += fmt::format(" {} left", base::format_span(base::from_seconds(elapsed / done * (1 - done))));
        return text;
    }
    void next() { before_ += current_ < sizes_.size() ? sizes_[current_++] : 0; }

  private:
    double part(double fraction) const {
        const double here = current_ < sizes_.size() ? static_cast<double>(sizes_[current_]) : 0.0;
        return (static_cast<double>(before_) + fraction * here) / static_cast<double>(total_);
    }

    std::vector<std::uint64_t> sizes_;
    std::uint64_t total_ = 0, before_ = 0;
    std::size_t current_ = 0;
    std::chrono::steady_clock::time_point start_ = std::chrono::steady_clock::now();
};

std::uint64_t size_of(const base::Path& source) {
    std::error_code error;
    if (!std::filesystem::is_directory(source, error)) {
        const std::uintmax_t size = std::filesystem::file_size(source, error);
        return error ? 0 : size;
    }
    std::uint64_t size = 0;
    for (auto i = std::filesystem::recursive_directory_iterator(source, error);
         !error && i != std::filesystem::recursive_directory_iterator(); i.increment(error)) {
        std::error_code unknown;
        if (const std::uintmax_t one = i->file_size(unknown); !unknown) size += one;
    }
    return size;
}

Overall overall_of(job::Store& store, const std::vector<std::int64_t>& ids) {
    std::vector<std::uint64_t> sizes;
    for (const std::int64_t id : ids) {
        const auto record = store.get(id);
        sizes.push_back(record ? size_of(record->job.source) : 0);
    }
    return Overall(std::move(sizes));
}

// One job, with its progress kept in the list; ends early when the program or the job is to stop.
struct Worked {
    job::State state = job::State::done;
    bool lost = false, interrupted = false;
    std::optional<Error> error;
};
Result<Worked> work_one(job::Store& store, const job::Record& record, const std::string& doing, const Overall& overall,
                        const std::shared_ptr<job::Pacer>& pacer, const Output& output) {
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
        std::function<std::string(double)> all;
        if (overall.of_several()) all = [&overall](double part) { return overall.text(part); };
        ProgressLine line(doing, output.quiet, all);
        const auto show = line.callback();
        const Progress both = [&](const ProgressState& state) {
            if (state.total.count() > 0) progress = base::to_seconds(state.done) / base::to_seconds(state.total);
            if (show) show(state);
        };
        done = job::run(record.job, paced(pacer, both, stop), stop);
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
    print("{:<8} job {}: {}{}\n", job::short_name(record.state), record.id, job::name_of(record.job),
          result.empty() ? "" : ", " + result);
    if (!worked.error || worked.interrupted || worked.state == job::State::stopped) return;
    print("  where:  {}\n  to do:  {}\n", worked.error->where, worked.error->remedy);
}

// What came of those that are done.
struct Saved {
    std::size_t films = 0;
    std::uint64_t bytes = 0, source = 0;
    double seconds = 0;
    std::uint64_t difference() const { return bytes < source ? source - bytes : bytes - source; }
    void add(const job::Record& record) {
        const Json json = Json::parse(record.result, nullptr, false);
        if (record.state != job::State::done || !json.is_object() || json["files"].empty()) return;
        ++films;
        for (const Json& file : json["files"]) bytes += file.value("bytes", std::uint64_t{0});
        source += json.value("source_bytes", std::uint64_t{0});
        seconds += json.value("elapsed_s", 0.0);
    }
};

// Works through these, or through all that wait and are due; the program's exit status.
int work(job::Store& store, const std::vector<std::int64_t>& ids, bool wait, const std::string& nice,
         const Output& output) {
    const auto pacer = pacer_for(nice);
    if (!pacer) return report_error(pacer.error(), output.json);
    // Streams that are being watched come first.
    host::yield_to_others();
    Json list = Json::array();
    bool lost = false, failed = false;
    std::size_t number = 0;
    Overall overall = overall_of(store, ids);
    Saved saved;
    while (!cancel().requested()) {
        if (!ids.empty() && number >= ids.size()) break;
        job::wait_for(**pacer, note, cancel());
        if (cancel().requested()) break;
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
                                      ? fmt::format("{} of {}: {}", number, ids.size(), job::name_of((*record)->job))
                                      : fmt::format("job {}: {}", (*record)->id, job::name_of((*record)->job));
        const auto worked = work_one(store, **record, doing, overall, *pacer, output);
        if (!worked) return report_error(worked.error(), output.json);
        lost = lost || worked->lost;
        failed = failed || (worked->error && !worked->interrupted);
        const auto after = store.get((*record)->id);
        if (!after) return report_error(after.error(), output.json);
        overall.next();
        saved.add(*after);
        list.push_back(report::to_json(*after));
        if (!output.json) print_worked(*after, *worked);
    }
    const bool interrupted = cancel().requested();
    if (!output.json && saved.films > 1)
        print("\n{} films: {} of {}, {} {}, in {}.\n", saved.films, base::format_bytes(saved.bytes),
              base::format_bytes(saved.source), base::format_bytes(saved.difference()),
              saved.bytes < saved.source ? "saved" : "more", base::format_span(base::from_seconds(saved.seconds)));
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

// "1.2 GB", "at most 1.2 GB"
std::string size_text(double bytes, bool unbounded, bool most) {
    if (unbounded) return "no limit";
    return (most ? "at most " : "") + base::format_bytes(static_cast<std::uint64_t>(bytes));
}

int show_shelf(const ConvertOptions& options, const std::vector<job::Item>& items) {
    const bool json = options.output.json;
    const auto capacity = speeds_for(options);
    if (!capacity) return report_error(capacity.error(), json);
    const auto price = job::price_of(items, *capacity ? &**capacity : nullptr, cancel());
    if (!price) return report_error(price.error(), json);
    convert::Selection place;
    place.into = options.into;
    if (const Status connected = convert::connect(place, &cancel()); !connected)
        return report_error(connected.error(), json);
    const auto free = convert::free_space(place.into / "x", place.share.get());
    if (!free) return report_error(free.error(), json);
    const bool fits = price->bytes < static_cast<double>(*free);
    if (json) {
        Json result = report::to_json(*price);
        result["total"]["free_bytes"] = *free;
        result["total"]["fits"] = fits;
        print_json(result);
        return 0;
    }
    render::Table table({"film", "length", "source", "size", "time", ""});
    for (const job::Priced& one : price->items) {
        if (one.action != job::Priced::Action::convert) {
            table.add({one.name, "", "", "", "", one.reason});
        } else {
            table.add({one.name, base::format_clock(one.duration), base::format_bytes(one.source_bytes),
                       size_text(one.bytes, one.unbounded, price->most), base::format_span(one.time), ""});
        }
    }
    print("{}\n{} to convert, {} not: {} {} of {}, about {}. Free space: {}.\n", Raw{table.text()}, price->converted,
          price->items.size() - price->converted, price->most ? "at most" : "about",
          base::format_bytes(static_cast<std::uint64_t>(price->bytes)), base::format_bytes(price->source_bytes),
          base::format_span(price->time), base::format_bytes(*free));
    if (price->most)
        print(
            "Nothing was tried: times are by the speed of this machine (site measure), sizes by the peak bit rate.\n");
    if (price->unbounded > 0)
        print("{} without a limit not counted: the profile has no peak bit rate.\n",
              base::format_count(price->unbounded, "size"));
    if (!price->most && price->converted > price->sampled)
        print("Samples of {} titles; for the others size and time are the mean of their kind (codec, size, scan).\n",
              price->sampled);
    if (!fits && price->most)
        print("The free space may not do for all of them. Without --no-samples the sizes are estimated.\n");
    if (!fits && !price->most)
        return report_error({ErrorKind::machine, "not enough disk space for all of them", options.into,
                             "free some space, or choose another folder with --into"});
    print("Dry run: nothing was converted. Run without --plan to convert, or with --queue to convert later.\n");
    return 0;
}

}  // namespace

Result<std::optional<measure::Capacity>> speeds_for(const ConvertOptions& options) {
    if (options.samples) return std::optional<measure::Capacity>{};
    const base::Path file = measure::capacity_file();
    WAVECREST_TRY_ASSIGN(capacity, measure::load_capacity(file));
    if (!capacity)
        return fail(ErrorKind::usage, "--no-samples needs to know how fast this machine is, which wasn't measured",
                    file.string(), "run wavecrest site measure once, or leave --no-samples out");
    return capacity;
}

Result<job::Job> job_of(const ConvertOptions& options, const std::string& source) {
    job::Job job;
    job.source = base::Address(source).is_local() ? base::absolute_path(source).string() : source;
    convert::Selection& s = job.selection;
    s.pick = options.pick;
    s.into = base::Address(options.into).is_local() ? base::absolute_path(options.into) : base::Path(options.into);
    s.name = options.name;
    s.video = options.video;
    s.audio = options.audio;
    s.subtitles = options.subtitles;
    s.angle = options.angle;
    s.season = options.season;
    s.first_episode = options.first_episode;
    s.extras = options.extras;
    s.record = options.record;
    if (!options.film_names.empty()) s.names.film = options.film_names;
    if (!options.episode_names.empty()) s.names.episode = options.episode_names;
    WAVECREST_TRY(convert::check(s.names));
    s.accept_losses = options.accept_losses;
    job.one_file = options.one_file;
    job.ladder = options.ladder;
    job.quality = options.quality;
    job.captions = options.captions;
    job.retries = options.retries;
    if (!options.subtitle_file.empty()) job.subtitle_file = base::absolute_path(options.subtitle_file).string();
    if (!options.remux.empty()) {
        job.remux = container::format_from_name(options.remux);
        WAVECREST_TRY(convert::check_remux_format(job.remux));
        job.cut = options.cut;
        if (!job.cut.empty()) {
            WAVECREST_TRY(convert::parse_range(job.cut));
        }
        return job;
    }
    std::vector<std::string> profiles = options.profiles;
    const bool for_devices = !options.devices.empty() || !options.site.empty();
    if (profiles.empty() && !for_devices) profiles.emplace_back(options.ladder ? kLadderProfile : kUsualProfile);
    for (const std::string& name : profiles) {
        WAVECREST_TRY_ASSIGN(text, profile::source_text(name));
        WAVECREST_TRY_ASSIGN(profile, profile::parse(text, name));
        job.ladder = job.ladder || (profile.is_ladder() && !for_devices);
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

namespace {

// The job of an earlier run that asked for the very same and didn't come to its end.
Result<std::optional<std::int64_t>> unfinished(job::Store& store, const job::Job& job) {
    WAVECREST_TRY_ASSIGN(records, store.list());
    const std::string wanted = job::to_json(job).dump();
    for (const job::Record& record : records) {
        const bool open = record.state == job::State::waiting || record.state == job::State::stopped ||
                          record.state == job::State::failed;
        if (open && job::to_json(record.job).dump() == wanted) return std::optional(record.id);
    }
    return std::optional<std::int64_t>{};
}

}  // namespace

JobEntry::JobEntry(const ConvertOptions& options) {
    const auto begin = [&]() -> Status {
        WAVECREST_TRY_ASSIGN(job, job_of(options, options.input));
        WAVECREST_TRY_ASSIGN(store, open_store());
        WAVECREST_TRY_ASSIGN(earlier, unfinished(*store, job));
        std::optional<job::Record> record;
        if (earlier && store->retry(*earlier)) {
            WAVECREST_TRY_ASSIGN(claimed, store->claim(wall_now(), *earlier));
            record = std::move(claimed);
        }
        if (!record) {
            std::string digest;
            if (auto found = source::digest_of(job.source)) digest = std::move(*found);
            WAVECREST_TRY_ASSIGN(id, store->add(job, digest, wall_now()));
            WAVECREST_TRY_ASSIGN(claimed, store->claim(wall_now(), id));
            record = std::move(claimed);
        }
        if (record) state_ = std::make_unique<State>(State{std::move(store), std::move(*record), {}});
        return {};
    };
    if (const auto status = begin(); !status) note(fmt::format("not in the list of jobs: {}", status.error().what));
}
JobEntry::~JobEntry() = default;

void JobEntry::add(const convert::Plan& plan, const convert::Outcome& outcome) {
    if (state_) job::add_up(state_->done, plan, outcome, !state_->record.job.devices.empty());
}

void JobEntry::add(const convert::RemuxPlan& plan, const convert::Outcome& outcome) {
    if (state_) job::add_up(state_->done, plan, outcome);
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
    return source::is_shelf(inputs.front());
}

int run_convert_many(const ConvertOptions& options, const std::vector<std::string>& inputs) {
    const bool json = options.output.json;
    const auto refuse = [&](const char* what, const char* option) {
        return report_error({ErrorKind::usage, what, option, "convert them one by one, or leave it out"}, json);
    };
    if (!options.name.empty() && inputs.size() > 1) return refuse("several films can't have one name", "--name");
    if (!options.subtitle_file.empty()) return refuse("a subtitle file belongs to one film", "--subtitle-file");
    if (options.into.empty()) return refuse("no folder for the films", "--into");
    std::vector<job::NameRow> list;
    if (!options.list.empty()) {
        auto rows = job::read_name_list(options.list);
        if (!rows) return report_error(rows.error(), json);
        list = std::move(*rows);
    }
    auto items = job::items_of(
        inputs, [&](const std::string& source) { return job_of(options, source); }, list);
    if (!items) return report_error(items.error(), json);
    auto store = open_store();
    if (!store) return report_error(store.error(), json);
    const auto records = (*store)->list();
    if (!records) return report_error(records.error(), json);
    job::mark_known(*records, *items);
    if (options.plan) return show_shelf(options, *items);
    std::vector<std::int64_t> ids;
    bool unknown = false;
    for (const job::Item& item : *items) {
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
    const int status = work(**store, ids, false, options.nice, options.output);
    return status == 0 && unknown ? kSomeFailed : status;
}

// What has arrived goes the way of all sources; what was converted before isn't again.
int run_convert_watch(const ConvertOptions& options) {
    const bool json = options.output.json;
    const auto refuse = [&](std::string what, const char* where, const char* remedy) {
        return report_error({ErrorKind::usage, std::move(what), where, remedy, {}}, json);
    };
    if (options.plan) return refuse("a dry run ends by itself", "--watch", "leave --plan or --watch out");
    if (options.into.empty()) return refuse("no folder for the films", "--into", "add --into LIBRARY");
    std::optional<Time> rest = base::from_seconds(60);
    if (!options.rest.empty()) rest = base::parse_span(options.rest);
    if (!rest || rest->count() <= 0)
        return refuse(fmt::format("\"{}\" isn't a valid time", options.rest), "--rest", "write for example \"1 min\"");
    std::vector<base::Path> folders;
    base::Path into = base::absolute_path(options.into).lexically_normal();
    for (const std::string& input : options.inputs) {
        if (const base::Address address(input); address.is_share()) {
            // (An empty one is no shelf yet; one that can't be reached now may be later, and is told.)
            const auto opened = source::open_share(address, &cancel());
            if (!opened) return report_error(opened.error(), json);
            if (!opened->entry.folder)
                return refuse("only folders of films are watched", "--watch",
                              "name the folder that rips are copied to");
            const std::string whole = opened->share->location().text_of(opened->path);
            if ((options.into + "/").starts_with(whole + "/"))
                return refuse("the results would arrive in the watched folder themselves", "--into",
                              "name a folder beside it");
            folders.emplace_back(whole);
            continue;
        }
        std::error_code error;
        const base::Path folder = base::absolute_path(input).lexically_normal();
        if (!std::filesystem::is_directory(folder, error) || source::is_input_folder(folder))
            return refuse("only folders of films are watched", "--watch", "name the folder that rips are copied into");
        if ((into / "").string().starts_with((folder / "").string()))
            return refuse("the results would arrive in the watched folder themselves", "--into",
                          "name a folder beside it");
        folders.push_back(folder);
    }
    // Whoever waits for films waits for a share that comes back, too.
    give_up_on_drives(std::chrono::milliseconds(0), json);
    job::Arrivals arrivals(folders, *rest);
    if (!options.output.quiet && !json)
        note(fmt::format("watching {} for films; each is taken when nothing of it changed for {}. Ctrl-C ends it",
                         fmt::join(options.inputs, ", "), base::format_span(*rest)));
    const base::RealClock clock;
    // What others do on a share isn't told, so it is looked at often enough for somebody who waits. Drives of this
    // machine are looked at when something changed there, and when what came has been at rest.
    const Time often = std::min<Time>(*rest / 2, std::chrono::seconds(5));
    const Time seldom = std::chrono::minutes(5);
    host::FolderChanges changes(folders);
    int worst = 0;
    while (!cancel().requested()) {
        changes.renew();
        const Time now = clock.now();
        const auto looked = arrivals.look(now);
        for (const Error& error : looked.unreadable)
            note(fmt::format("{} ({}): looked at again", error.what, error.where));
        for (const auto& [source, why] : looked.broken)
            note(fmt::format("{}: {}; it is taken when it was mended", source.string(), why));
        if (!looked.whole.empty()) {
            std::vector<std::string> sources;
            for (const base::Path& one : looked.whole) sources.push_back(one.string());
            if (const int status = run_convert_many(options, sources); status != 0) worst = status;
        }
        Time next = now + (changes.tells_all() ? seldom : often);
        if (looked.waiting > 0) next = std::min(next, looked.due);
        // A copy that goes on changes all the time.
        const Time soonest = now + often;
        while (clock.now() < next && !cancel().requested()) {
            const Time most = std::min<Time>(next - clock.now(), std::chrono::milliseconds(200));
            if (changes.wait(most)) next = std::min(next, std::max(soonest, clock.now()));
        }
    }
    return worst == 130 ? 0 : worst;
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
        list.push_back(report::to_json(record));
        table.add({std::to_string(record.id), std::string(job::short_name(record.state)), job::name_of(record.job),
                   job::made_by(record.job), clock_text(record.added), result_text(record)});
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
        print_json(report::to_json(*record));
        return 0;
    }
    const auto line = [](const char* what, const std::string& text) {
        if (!text.empty()) print("  {:<9} {}\n", what, text);
    };
    const std::string result = result_text(*record);
    print("Job {}: {}, {}{}\n", record->id, job::name_of(record->job), job::short_name(record->state),
          result.empty() ? "" : " (" + result + ")");
    line("source", record->job.source);
    line("into", record->job.selection.into.string());
    line("for", job::made_by(record->job));
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
        print_json(report::to_json(*record));
    } else if (record->state == job::State::running) {
        print("Job {} is being stopped. Next: wavecrest job show {}\n", options.id, options.id);
    } else {
        print("Job {} is {}. Next: wavecrest job retry {} takes it up again\n", options.id,
              job::short_name(record->state), options.id);
    }
    return 0;
}

// In a worker always: jobs lie anywhere, and those that are queued while this runs, too.
int run_job_run(const JobOptions& options) {
    return run_in_worker([&] {
        const auto store = open_store();
        if (!store) return report_error(store.error(), options.output.json);
        return work(**store, {}, options.wait, options.nice, options.output);
    });
}

int run_job_service(const JobOptions& options) {
    if (const auto pacer = pacer_for(options.nice); !pacer) return report_error(pacer.error());
    std::error_code error;
    const auto program = std::filesystem::read_symlink("/proc/self/exe", error);
    const passwd* user = ::getpwuid(::geteuid());
    // Jobs are this user's; conversions give way to streams, and end cleanly when the machine goes down.
    print(
        "[Unit]\nDescription=Wavecrest conversions\nAfter=local-fs.target remote-fs.target network.target\n\n"
        "[Service]\nUser={}\nExecStart={} job run --wait --quiet{}\nNice=10\nIOSchedulingClass=idle\n"
        "KillSignal=SIGTERM\nTimeoutStopSec=30\nRestart=on-failure\nRestartSec=30\n\n"
        "[Install]\nWantedBy=multi-user.target\n",
        user != nullptr ? user->pw_name : "root", error ? std::string("wavecrest") : program.string(),
        // (A percent sign is the unit file's own.)
        options.nice.empty() ? ""
                             : fmt::format(" --nice \"{}\"", std::regex_replace(options.nice, std::regex("%"), "%%")));
    std::fflush(stdout);
    print(stderr,
          "\nTo install it:\n  wavecrest job service | sudo tee /etc/systemd/system/wavecrest-jobs.service\n  sudo "
          "systemctl daemon-reload && sudo systemctl enable --now wavecrest-jobs\nThen see: wavecrest job list\n");
    return 0;
}

}  // namespace wavecrest::cli
