#include "job/shelf.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <map>
#include <nlohmann/json.hpp>
#include <set>

#include "base/address.hpp"
#include "base/clock.hpp"
#include "convert/decide.hpp"
#include "convert/ladder.hpp"
#include "source/digest.hpp"
#include "source/share_input.hpp"
#include "source/shelf.hpp"

namespace wavecrest::job {
namespace {

// Bytes and time of a second of a title. Of the first few titles each is sampled; for the others it is the mean of
// those of their kind, so that hundreds take no longer.
struct Cost {
    double bytes = 0, seconds = 0;
    bool unbounded = false;  // bytes are not known, nor bounded
};
constexpr std::size_t kSampled = 12;
struct Costs {
    const measure::Capacity* capacity = nullptr;
    std::map<std::string, std::vector<Cost>> of_kinds;
    std::size_t sampled = 0;

    Cost mean(const std::string& kind) const {
        Cost sum;
        const std::vector<Cost>& all = of_kinds.at(kind);
        for (const Cost& one : all) sum.bytes += one.bytes, sum.seconds += one.seconds;
        return {sum.bytes / static_cast<double>(all.size()), sum.seconds / static_cast<double>(all.size()),
                all.front().unbounded};
    }
};

// Of a remux: what its tracks hold in the first seconds, and how long it takes to read them.
Result<Cost> remux_cost_of(const Job& job, const source::Input& input, const source::Pick& pick, const Cancel& cancel) {
    WAVECREST_TRY_ASSIGN(request, remux_request_of(job, cancel));
    request.pick = std::to_string(pick.title->number);
    WAVECREST_TRY_ASSIGN(plans, convert::plan_remux(input, request));
    const convert::RemuxPlan& plan = plans.front();
    std::set<TrackId> kept;
    for (const convert::TrackPlan& track : plan.tracks) {
        if (track.action == convert::TrackPlan::Action::keep) kept.insert(track.from.id);
    }
    WAVECREST_TRY_ASSIGN(source, input.open(plan.pick, plan.angle));
    const base::RealClock clock;
    std::uint64_t bytes = 0;
    Time from = Time::max(), to = Time::min();
    constexpr std::uint64_t kEnough = 64 << 20;
    const Time patience = base::from_seconds(0.5);
    while (bytes < kEnough && clock.now() < patience) {
        WAVECREST_TRY_ASSIGN(packet, source->read());
        if (!packet) break;
        if (!kept.contains(packet->track)) continue;
        bytes += packet->data.size();
        from = std::min(from, packet->pts);
        to = std::max(to, packet->pts + packet->duration);
    }
    const double seconds = to > from ? base::to_seconds(to - from) : 0;
    if (seconds <= 0) return Cost{};
    // Written as fast as it is read, and read and written in turn.
    return Cost{static_cast<double>(bytes) / seconds, 2 * base::to_seconds(clock.now()) / seconds};
}

Result<Cost> cost_of(const Job& job, const source::Input& input, const source::Pick& pick,
                     const measure::Capacity* capacity, const Cancel& cancel) {
    if (!job.remux.empty()) return remux_cost_of(job, input, pick, cancel);
    WAVECREST_TRY_ASSIGN(request, request_of(job, cancel));
    if (job.ladder) convert::as_ladder(request, input, capacity == nullptr, nullptr, {}, cancel);
    std::optional<convert::Plan> plan;
    if (job.devices.empty()) {
        WAVECREST_TRY_ASSIGN(made, convert::make_plan(input, request, pick, false));
        plan = std::move(made);
    } else {
        WAVECREST_TRY_ASSIGN(devices, devices_of(job));
        WAVECREST_TRY_ASSIGN(titles, convert::plan_for_devices(input, request, devices, job.one_file));
        plan = titles.front().plan;
        if (!plan) return Cost{};
    }
    auto estimated =
        capacity != nullptr ? convert::estimate(*plan, *capacity) : convert::estimate(input, *plan, cancel);
    if (!estimated) return fail(std::move(estimated).error());
    const convert::Estimate& estimate = *estimated;
    const double length = std::max(base::to_seconds(plan->duration), 0.1);
    const bool unbounded = std::count(estimate.file_bytes.begin(), estimate.file_bytes.end(), 0U) > 0;
    return Cost{static_cast<double>(estimate.size_bytes) / length, base::to_seconds(estimate.time) / length, unbounded};
}

// Adds to the price; the names of films so far with their sources.
Result<Priced> price_item(const Item& item, Costs& costs, std::map<std::string, std::string>& names,
                          const Cancel& cancel) {
    Priced priced;
    priced.source = item.job.source;
    priced.name = name_of(item.job);
    const auto refuse = [&](const Error& error) -> Result<Priced> {
        if (error.kind == ErrorKind::interrupted) return fail(error);
        priced.action = Priced::Action::fails;
        priced.reason = error.what;
        return priced;
    };
    if (!item.against.empty()) {
        priced.action = Priced::Action::leave_out;
        priced.reason = item.against;
        return priced;
    }
    const auto input = source::open_input(item.job.source, {item.job.retries});
    if (!input) return refuse(input.error());
    const auto picks = convert::picks_of(**input, item.job.selection);
    if (!picks) return refuse(picks.error());
    const std::string name = item.job.selection.name.empty() ? convert::film_name((*input)->name_hint()).full()
                                                             : convert::given_name(item.job.selection.name).full();
    for (const source::Pick& pick : *picks) {
        if (const auto status = (*input)->check_protection(pick.title->number); !status) return refuse(status.error());
        std::string kind((*input)->is_disc() ? "disc" : "file");
        for (const Track& track : pick.title->tracks) {
            if (track.kind == TrackKind::video)
                kind += fmt::format(" {} {}x{} {} {} {:.3f}", media::short_name(track.codec), track.width, track.height,
                                    media::short_name(track.scan), track.bit_depth, track.frame_rate.value());
            // The most that can come out hangs on all that goes along.
            if (track.kind == TrackKind::audio && costs.capacity != nullptr)
                kind += fmt::format(" {} {}", media::short_name(track.codec), track.channels);
        }
        Cost own;
        if ((costs.capacity == nullptr && costs.sampled < kSampled) || !costs.of_kinds.contains(kind)) {
            const auto cost = cost_of(item.job, **input, pick, costs.capacity, cancel);
            if (!cost) return refuse(cost.error());
            own = *cost;
            costs.of_kinds[kind].push_back(own);
            if (costs.capacity == nullptr) ++costs.sampled;
        } else {
            own = costs.mean(kind);
        }
        priced.unbounded = priced.unbounded || own.unbounded;
        const double length = base::to_seconds(pick.duration());
        priced.duration += pick.duration();
        priced.bytes += own.bytes * length;
        priced.time += base::from_seconds(own.seconds * length);
        priced.source_bytes += pick.title->size_bytes;
    }
    priced.titles = picks->size();
    priced.name = name;
    const auto [first, added] = names.try_emplace(name, item.job.source);
    if (!added && item.job.selection.pick != "episodes")
        return refuse({ErrorKind::usage,
                       fmt::format("its name is that of {}: convert it apart, with --name", first->second),
                       "",
                       "",
                       {}});
    return priced;
}

}  // namespace

namespace {

// The jobs of one source: one, or one for each row that names it.
Result<std::vector<Job>> jobs_of(const std::string& source, const MakeJob& make, const std::vector<NameRow>& list) {
    std::vector<Job> jobs;
    WAVECREST_TRY_ASSIGN(job, make(source));
    for (const NameRow& row : list) {
        if (!names(row, source)) continue;
        jobs.push_back(job);
        jobs.back().selection.name = row.name;
        jobs.back().selection.pick = row.title > 0 ? std::to_string(row.title) : "main";
    }
    if (jobs.empty()) jobs.push_back(std::move(job));
    return jobs;
}

Status check_rows(const std::vector<NameRow>& list, const std::vector<std::pair<std::string, std::string>>& sources) {
    for (const NameRow& row : list) {
        if (std::none_of(sources.begin(), sources.end(), [&](const auto& one) { return names(row, one.first); }))
            return fail(ErrorKind::usage, fmt::format("no disc or file is called \"{}\"", row.disc),
                        fmt::format("line {} of the list", row.line), "correct the name, or remove the line");
    }
    return {};
}

}  // namespace

Result<std::vector<Item>> items_of(const std::vector<std::string>& inputs, const MakeJob& make,
                                   const std::vector<NameRow>& list) {
    std::vector<std::pair<std::string, std::string>> sources;  // and what is against them
    for (const std::string& input : inputs) {
        const base::Address place(input);
        std::error_code error;
        const bool is_folder = place.is_share()
                                   ? source::is_shelf(place)
                                   : std::filesystem::is_directory(input, error) && !source::is_input_folder(input);
        if (!is_folder) {
            sources.emplace_back(input, "");
            continue;
        }
        WAVECREST_TRY_ASSIGN(entries, source::read_shelf(place));
        for (const source::ShelfEntry& entry : entries)
            sources.emplace_back(entry.path.string(), entry.kind == source::ShelfEntry::Kind::unknown
                                                          ? "no disc and no media file in it"
                                                          : "");
    }
    std::vector<Item> items;
    std::map<std::string, std::string> seen;  // digests, and their first source
    WAVECREST_TRY(check_rows(list, sources));
    for (const auto& [source, against] : sources) {
        WAVECREST_TRY_ASSIGN(jobs, jobs_of(source, make, list));
        std::string digest, is_against = against;
        if (is_against.empty()) {
            digest = source::digest_of(source).value_or("");
            const auto [first, added] = digest.empty() ? std::pair(seen.end(), true) : seen.try_emplace(digest, source);
            if (!added) is_against = fmt::format("duplicate of {}", first->second);
        }
        for (Job& job : jobs) items.push_back({std::move(job), digest, is_against, !against.empty()});
    }
    if (items.empty())
        return fail(ErrorKind::input, "no disc and no media file", fmt::format("{}", fmt::join(inputs, ", ")),
                    "name a folder of ripped discs, disc images or media files");
    return items;
}

namespace {

// A file, here or on a share.
bool is_there(const std::string& place) {
    std::error_code error;
    const base::Address address(place);
    if (address.is_share()) return source::open_share(address, nullptr).has_value();
    return std::filesystem::exists(place, error);
}

}  // namespace

void mark_known(const std::vector<Record>& records, std::vector<Item>& items) {
    for (Item& item : items) {
        if (!item.against.empty()) continue;
        for (const Record& record : records) {
            const bool same = item.digest.empty() ? record.job.source == item.job.source : record.digest == item.digest;
            if (!same || record.job.selection.pick != item.job.selection.pick ||
                record.job.selection.name != item.job.selection.name ||
                record.job.selection.into != item.job.selection.into || made_by(record.job) != made_by(item.job))
                continue;
            item.against.clear();
            if (record.state == State::waiting || record.state == State::running)
                item.against = fmt::format("is job {} already", record.id);
            if (record.state == State::failed || record.state == State::stopped) {
                item.against = record.state == State::stopped
                                   ? fmt::format("was stopped; job retry {} takes it up again", record.id)
                                   : fmt::format("failed before: {}; job retry {} tries again",
                                                 record.error ? record.error->what : "", record.id);
                item.failed = record.state == State::failed;
            }
            if (record.state != State::done) continue;
            const nlohmann::json json = nlohmann::json::parse(record.result, nullptr, false);
            if (!json.is_object() || json["files"].empty() || !is_there(json["files"][0].value("path", ""))) continue;
            item.against = fmt::format("already converted: {}", json["files"][0].value("path", ""));
        }
    }
}

Result<Price> price_of(const std::vector<Item>& items, const measure::Capacity* capacity, const Cancel& cancel) {
    Price price;
    price.most = capacity != nullptr;
    Costs costs;
    costs.capacity = capacity;
    std::map<std::string, std::string> names;
    for (const Item& item : items) {
        if (cancel.requested()) return base::interrupted();
        WAVECREST_TRY_ASSIGN(priced, price_item(item, costs, names, cancel));
        if (priced.action == Priced::Action::convert) {
            ++price.converted;
            price.source_bytes += priced.source_bytes;
            price.bytes += priced.bytes;
            price.time += priced.time;
            price.unbounded += priced.unbounded ? 1 : 0;
        }
        price.items.push_back(std::move(priced));
    }
    price.sampled = costs.sampled;
    return price;
}

std::string_view short_name(Priced::Action action) {
    return action == Priced::Action::convert ? "convert" : action == Priced::Action::leave_out ? "left-out" : "fails";
}

std::string name_of(const Job& job) {
    if (!job.selection.name.empty()) return job.selection.name;
    std::error_code error;
    const base::Path path =
        base::Path(job.source).filename().empty() ? base::Path(job.source).parent_path() : base::Path(job.source);
    const bool folder = std::filesystem::is_directory(path, error);
    return convert::film_name(folder ? path.filename().string() : path.stem().string()).full();
}
std::string made_by(const Job& job) {
    if (!job.remux.empty()) return "remux to " + job.remux + (job.cut.empty() ? "" : ", " + job.cut);
    std::vector<std::string> names;
    for (const JobDevice& one : job.devices) names.push_back(one.name);
    if (names.empty()) {
        for (const std::string& text : job.profiles) {
            const auto profile = profile::parse(text, "profile");
            names.push_back(profile ? profile->name : "profile");
        }
    }
    return fmt::format("{}", fmt::join(names, ", "));
}

}  // namespace wavecrest::job
