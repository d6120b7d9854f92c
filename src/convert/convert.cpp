#include "convert/convert.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <cmath>

#include "base/atomic_file.hpp"
#include "base/clock.hpp"
#include "base/log.hpp"
#include "container/writer.hpp"
#include "convert/quality.hpp"
#include "host/machine.hpp"

namespace wavecrest::convert {
namespace {

constexpr int kExcerpts = 6;
const Time kExcerptLength = base::from_seconds(2);

// The quality that is measured is that of the first video.
void watch_first(transcode::GraphSettings& graph, CodedQuality& coded) {
    if (!graph.video_encodes.empty()) graph.video_encodes.front().watch = coded.watch();
}

// Takes packets and only counts their bytes.
class CountingSink : public PacketSink {
  public:
    explicit CountingSink(std::uint64_t& bytes) : bytes_(bytes) {}
    Status write(const Packet& packet) override {
        bytes_ += packet.data.size();
        return {};
    }
    Status finish() override { return {}; }

  private:
    std::uint64_t& bytes_;
};

Status check_space(const Plan& plan, std::uint64_t needed, const char* how) {
    WAVECREST_TRY_ASSIGN(free, host::free_space(plan.target()));
    if (free >= needed) return {};
    return fail(
        ErrorKind::machine,
        fmt::format("not enough disk space: {} free, {} {}", base::format_bytes(free), base::format_bytes(needed), how),
        plan.target().parent_path().parent_path().string(),
        "free some space or choose a folder on another disk with --into");
}

}  // namespace

namespace {

// Where the files of a title go.
Status choose_targets(const source::Input& input, const Request& request, bool several, Plan& plan) {
    const source::Pick& pick = plan.pick;
    plan.name = request.name.empty() ? film_name(input.name_hint()) : given_name(request.name);
    if (pick.episode == 0 && (several || (!pick.title->main && request.name.empty())))
        plan.name.name += fmt::format(" - title {}", pick.title->number);
    for (std::size_t i = 0; i < plan.outputs.size(); ++i) {
        const transcode::EncodePlan::Output& output = plan.outputs[i];
        const std::string extension(container::extension_of(output.container).substr(1));
        Plan::Target target;
        target.path =
            request.into / (pick.episode > 0 ? episode_path(plan.name, request.season,
                                                            request.first_episode + pick.episode - 1, extension)
                                             : library_path(plan.name, extension));
        // The first is the film; the others lie beside it.
        if (i > 0)
            target.path.replace_filename(
                fmt::format("{} - {}.{}", target.path.stem().string(), output.profile, extension));
        std::error_code error;
        if (std::filesystem::exists(target.path, error)) {
            return fail(ErrorKind::machine, "the converted film exists already and is not overwritten",
                        target.path.string(), "move it away, or give another --name or --into");
        }
        for (const Plan::Target& other : plan.targets) {
            if (other.path == target.path)
                return fail(ErrorKind::usage, "two profiles have the same name", output.profile,
                            "give each profile once");
        }
        if (output.most_bps > 0)
            target.most_bytes = static_cast<std::uint64_t>(static_cast<double>(output.most_bps) / 8 *
                                                           base::to_seconds(plan.duration) * 1.01) +
                                100'000;
        plan.targets.push_back(std::move(target));
    }
    if (pick.episode > 0) plan.name = film_name(plan.target().stem().string());
    return {};
}

Result<Plan> plan_one(const source::Input& input, const Request& request, const source::Pick& pick, bool several) {
    const auto& title = pick.title;
    Plan plan;
    plan.source = fmt::format("{}, title {}", input.path(), title->number);
    plan.title = title->number;
    plan.pick = pick;
    plan.angle = request.angle;
    plan.duration = pick.duration();
    plan.quality = request.quality;
    plan.accept_losses = request.accept_losses;
    plan.source_bytes = title->size_bytes;
    if (!pick.whole() && title->duration.count() > 0) {
        plan.source_bytes =
            static_cast<std::uint64_t>(static_cast<double>(title->size_bytes) * base::to_seconds(plan.duration) /
                                       base::to_seconds(title->duration));
    }
    for (Chapter chapter : title->chapters) {
        if (chapter.start < pick.start || chapter.start >= pick.start + plan.duration) continue;
        chapter.start -= pick.start;
        plan.chapters.push_back(std::move(chapter));
    }
    if (request.angle > title->angles) {
        return fail(ErrorKind::usage, fmt::format("title {} has no angle {}", title->number, request.angle),
                    input.path(), fmt::format("it has {}", title->angles));
    }
    WAVECREST_TRY(input.check_protection(title->number));

    transcode::PlanSource from;
    from.name = plan.source;
    from.tracks = title->tracks;
    from.duration = plan.duration;
    if (input.reopens()) from.open = [&input, &plan] { return input.open(plan.pick, plan.angle); };
    WAVECREST_TRY_ASSIGN(
        encode, transcode::plan_encode(from, {request.profiles, request.video, request.audio, request.subtitles}));
    static_cast<transcode::EncodePlan&>(plan) = std::move(encode);
    if (title->angles > 1)
        plan.steps.insert(plan.steps.begin(), fmt::format("angle {} of {}", request.angle, title->angles));
    if (plan.chapters.size() > 1) plan.steps.push_back(fmt::format("{} chapters kept", plan.chapters.size()));
    for (const Problem& problem : title->problems) plan.warnings.push_back(problem.what);
    if (title->role == disc::Role::duplicate || title->role == disc::Role::fake)
        plan.warnings.push_back(fmt::format("title {}: {}", title->number, title->why));
    WAVECREST_TRY(choose_targets(input, request, several, plan));
    return plan;
}

}  // namespace

Result<std::vector<Plan>> make_plans(const source::Input& input, const Request& request) {
    WAVECREST_TRY_ASSIGN(picks, input.picks(request.pick));
    std::vector<Plan> plans;
    for (const source::Pick& pick : picks) {
        WAVECREST_TRY_ASSIGN(plan, plan_one(input, request, pick, picks.size() > 1));
        plans.push_back(std::move(plan));
    }
    return plans;
}

Result<Plan> make_plan(const source::Input& input, const Request& request) {
    WAVECREST_TRY_ASSIGN(pick, input.pick(request.pick));
    return plan_one(input, request, pick, false);
}

Result<Estimate> estimate(const source::Input& input, const Plan& plan, const Cancel& cancel) {
    std::vector<std::uint64_t> bytes(plan.outputs.size());
    Time sampled{}, worked{};
    measure::QualityMeasure quality;
    const base::RealClock clock;
    std::optional<Error> refused;
    // A short title is tried as a whole: excerpts begin at keyframes before their places, and would overlap.
    const bool whole = plan.duration <= kExcerpts * kExcerptLength * 3 / 2;
    for (int i = 0; i < (whole ? 1 : kExcerpts); ++i) {
        // Steps of the golden ratio: spread evenly, yet in step with no rhythm the title may have.
        const double place = std::fmod(0.5 + i * 0.6180339887, 1.0);
        const Time at = whole ? Time{} : base::from_seconds(place * base::to_seconds(plan.duration - kExcerptLength));
        const Time begun = clock.now();
        transcode::GraphSettings graph = plan.graph;
        if (!whole) graph.until = std::max(at, Time{}) + kExcerptLength;
        const auto excerpt = [&](std::vector<std::uint64_t>& counted) -> Result<std::optional<transcode::GraphResult>> {
            WAVECREST_TRY_ASSIGN(source, input.open(plan.pick, plan.angle));
            if (at.count() > 0 && !source->seek(at)) return std::optional<transcode::GraphResult>{};
            const auto sink = [&](std::size_t output,
                                  const std::vector<Track>&) -> Result<std::unique_ptr<PacketSink>> {
                return std::make_unique<CountingSink>(counted.at(output));
            };
            auto result = transcode::run(*source, graph, sink, {}, cancel);
            // Where the data is missing there is nothing to try; the other places still tell.
            if (!result && result.error().kind == ErrorKind::input) {
                refused = std::move(result).error();
                return std::optional<transcode::GraphResult>{};
            }
            if (!result) return fail(std::move(result).error());
            return std::optional(std::move(*result));
        };
        WAVECREST_TRY_ASSIGN(result, excerpt(bytes));
        worked += clock.now() - begun;
        if (!result) continue;
        sampled += result->duration;
        if (!plan.quality) continue;
        // Once more: looking takes time, which converting doesn't.
        CodedQuality coded(quality);
        watch_first(graph, coded);
        std::vector<std::uint64_t> again(plan.outputs.size());
        WAVECREST_TRY(excerpt(again));
        WAVECREST_TRY(coded.finish());
    }
    if (sampled.count() <= 0 && refused) return fail(*std::move(refused));
    if (sampled.count() <= 0)
        return fail(ErrorKind::input, "no sample of the title could be converted", plan.source,
                    "convert it without --plan");
    const double factor = base::to_seconds(plan.duration) / base::to_seconds(sampled);
    Estimate result;
    result.sampled = sampled;
    for (std::size_t i = 0; i < bytes.size(); ++i) {
        auto size = static_cast<std::uint64_t>(static_cast<double>(bytes[i]) * factor * 1.005);  // the index
        if (const auto most = i < plan.targets.size() ? plan.targets[i].most_bytes : 0; most > 0)
            size = std::min(size, most);
        result.file_bytes.push_back(size);
        result.size_bytes += size;
    }
    result.time = base::from_seconds(base::to_seconds(worked) * factor);
    if (plan.quality) result.quality = quality.result();
    return result;
}

void log_outcome(const Outcome& outcome) {
    for (const Problem& problem : outcome.problems)
        base::log(base::LogLevel::warning, "{}: {} ({} to {})", outcome.path().string(), problem.what,
                  base::format_clock(problem.from), base::format_clock(problem.to));
    base::log(base::LogLevel::info, "done: {}, {} in {}", outcome.path().string(),
              base::format_bytes(outcome.size_bytes), base::format_span(outcome.elapsed));
}

Result<Outcome> run(const source::Input& input, const Plan& plan, const Progress& progress, const Cancel& cancel) {
    // Made first, so that a target that can't be written to is told at once.
    std::vector<base::AtomicFile> files;
    std::uint64_t most = 0;
    bool limited = true;
    for (const Plan::Target& target : plan.targets) {
        WAVECREST_TRY_ASSIGN(file, base::AtomicFile::create(target.path, base::AtomicFile::IfExists::refuse));
        files.push_back(std::move(file));
        most += target.most_bytes;
        limited = limited && target.most_bytes > 0;
    }
    // The peak rate, or else the rip itself, bounds the size; without room for that a sample decides.
    WAVECREST_TRY_ASSIGN(free, host::free_space(plan.target()));
    if (free < (limited ? most : plan.source_bytes * plan.targets.size())) {
        Plan size_alone = plan;
        size_alone.quality = false;
        WAVECREST_TRY_ASSIGN(expected, estimate(input, size_alone, cancel));
        WAVECREST_TRY(
            check_space(plan, expected.size_bytes + expected.size_bytes / 10, "needed by a sample of the title"));
    }
    const base::RealClock clock;
    WAVECREST_TRY_ASSIGN(source, input.open(plan.pick, plan.angle));
    Outcome outcome;
    outcome.title = plan.title;
    outcome.source_bytes = plan.source_bytes;
    const auto make_sink = [&](std::size_t output,
                               const std::vector<Track>& tracks) -> Result<std::unique_ptr<PacketSink>> {
        container::WriterSettings settings;
        settings.title = plan.name.name;
        settings.year = plan.name.year;
        settings.chapters = plan.chapters;
        settings.duration = plan.duration;
        return container::create_media(plan.outputs[output].container, std::move(files[output]), tracks,
                                       std::move(settings));
    };
    measure::QualityMeasure quality;
    CodedQuality coded(quality);
    transcode::GraphSettings graph = plan.graph;
    if (plan.quality) watch_first(graph, coded);
    graph.accept = [&](const transcode::GraphResult& made) -> Status {
        std::vector<Problem> problems = source->problems();
        problems.insert(problems.end(), made.problems.begin(), made.problems.end());
        outcome.loss = add_up(problems);
        return plan.accept_losses ? Status{} : check_loss(outcome.loss, plan.duration, plan.source);
    };
    base::log(base::LogLevel::info, "converting {} to {}", plan.source, plan.target().string());
    WAVECREST_TRY_ASSIGN(result, transcode::run(*source, graph, make_sink, progress, cancel));
    outcome.elapsed = clock.now();
    outcome.duration = result.duration;
    outcome.pictures = result.pictures;
    outcome.problems = source->problems();
    outcome.problems.insert(outcome.problems.end(), result.problems.begin(), result.problems.end());
    outcome.subtitles = result.subtitles;
    if (!plan.graph.audio_encodes.empty() && result.audio_frames == 0) {
        outcome.problems.push_back({"the audio track is empty", {}, result.duration});
    }
    if (plan.quality) {
        // The film is there: what is wrong with measuring it doesn't undo it.
        if (const auto status = coded.finish(); !status) {
            outcome.problems.push_back(
                {"video quality can't be measured: " + status.error().what, {}, result.duration});
        } else {
            outcome.quality = quality.result();
            if (coded.missing() > 0)
                outcome.problems.push_back(
                    {fmt::format("{} of {} encoded frames can't be decoded", coded.missing(), result.pictures),
                     {},
                     result.duration});
        }
    }
    std::error_code error;
    for (const Plan::Target& target : plan.targets) {
        outcome.files.push_back({target.path, std::filesystem::file_size(target.path, error)});
        outcome.size_bytes += outcome.files.back().bytes;
    }
    log_outcome(outcome);
    return outcome;
}

}  // namespace wavecrest::convert
