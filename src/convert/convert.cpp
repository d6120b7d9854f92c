#include "convert/convert.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <cmath>
#include <limits>
#include <map>

#include "base/atomic_file.hpp"
#include "base/clock.hpp"
#include "base/log.hpp"
#include "container/ladder.hpp"
#include "container/writer.hpp"
#include "convert/excerpts.hpp"
#include "convert/kept_pieces.hpp"
#include "convert/ladder.hpp"
#include "convert/quality.hpp"
#include "convert/record.hpp"
#include "host/machine.hpp"
#include "measure/loudness.hpp"
#include "source/digest.hpp"

namespace wavecrest::convert {
namespace {

// The quality that is measured is that of the first video.
void watch_first(transcode::GraphSettings& graph, CodedQuality& coded) {
    if (!graph.video_encodes.empty()) graph.video_encodes.front().watch = coded.watch();
}

// The outputs whose video is made in two passes, with their encodes as those of the first pass.
transcode::GraphSettings first_pass(const transcode::GraphSettings& whole) {
    using Kind = transcode::OutputTrack::Kind;
    transcode::GraphSettings graph = whole;
    const auto two = [&](const transcode::OutputTrack& track) {
        return track.kind == Kind::video && whole.video_encodes[track.index].encode.mean_bps > 0;
    };
    for (auto& output : graph.outputs) {
        if (std::none_of(output.begin(), output.end(), two)) output.clear();
    }
    for (transcode::VideoEncode& one : graph.video_encodes) one.encode.pass = codec::VideoEncoderSettings::Pass::first;
    // What no output has isn't made.
    std::vector<transcode::VideoEncode> encodes;
    std::map<std::size_t, std::size_t> moved;
    for (auto& output : graph.outputs) {
        for (transcode::OutputTrack& track : output) {
            if (track.kind != Kind::video) continue;
            const auto [place, added] = moved.try_emplace(track.index, encodes.size());
            if (added) encodes.push_back(graph.video_encodes[track.index]);
            track.index = place->second;
        }
    }
    graph.video_encodes = std::move(encodes);
    return graph;
}

Status check_space(const Plan& plan, std::uint64_t needed, const char* how) {
    WAVECREST_TRY_ASSIGN(free, free_space(plan.target(), plan.share.get()));
    if (free >= needed) return {};
    return fail(
        ErrorKind::machine,
        fmt::format("not enough disk space: {} free, {} {}", base::format_bytes(free), base::format_bytes(needed), how),
        plan.place().parent_path().parent_path().string(),
        "free some space or choose a folder on another disk with --into");
}

}  // namespace

namespace {

// How one file of a plan is made, for its record.
std::string how_made(const Plan& plan, std::size_t output) {
    std::string text = fmt::format("{}\n{}\n", plan.outputs[output].profile, plan.outputs[output].container);
    for (const std::string& step : plan.outputs[output].steps) text += step + "\n";
    return source::text_digest(text + key_of(plan, ""));
}

// MP4 and Matroska files of audio alone have names of their own.
std::string extension_for(const transcode::EncodePlan::Output& output) {
    if (output.container == kWebVtt) return "vtt";
    if (!output.has_video && output.container == "mp4") return "m4a";
    if (!output.has_video && output.container == "matroska") return "mka";
    return std::string(container::extension_of(output.container).substr(1));
}

tl::unexpected<Error> another_waits(const base::Path& path) {
    return fail(ErrorKind::machine, "another conversion of this name waits here to be copied to the share",
                path.string(), "repeat the command that made it, move it away, or give another --name");
}

// Where the files of a title go.
Status choose_targets(const source::Input& input, const Request& request, bool several, Plan& plan) {
    for (std::size_t i = 0; i < plan.outputs.size(); ++i) {
        const transcode::EncodePlan::Output& output = plan.outputs[i];
        const std::string extension = extension_for(output);
        Plan::Target target;
        Place place = place_of(input, request, plan.pick, several, plan.is_ladder() ? kLadderExtension : extension);
        plan.name = std::move(place.name);
        target.path = std::move(place.path);
        // The first is the film; the others lie beside it. A ladder's are in a folder of their own.
        if (plan.is_ladder())
            target.path /= output.profile + (output.container == kWebVtt ? ".vtt" : ".mp4");
        else if (i > 0)
            target.path.replace_filename(
                fmt::format("{} - {}.{}", target.path.stem().string(), output.profile, extension));
        target.place = plan.share ? plan.share->address_of(target.path) : target.path.string();
        std::error_code error;
        target.finished = std::filesystem::exists(target.path, error) &&
                          transcode::PieceFolder::finished(i == 0 ? target.path : plan.target(), target.path);
        const auto digest = several || plan.share ? source::digest_of(input.path()) : std::string();
        const bool beside_first = plan.is_ladder() && i > 0;
        if (std::filesystem::exists(target.path, error) && !target.finished) {
            const Plan::Target& first = plan.targets.empty() ? target : plan.targets.front();
            const bool recorded = beside_first ? first.recorded || first.waits
                                               : digest && is_recorded(target.path, *digest, how_made(plan, i));
            if (!recorded && plan.share) return another_waits(target.path);
            if (!recorded) return exists_already(target.place);
            (plan.share ? target.waits : target.recorded) = true;
        }
        if (plan.share) {
            WAVECREST_TRY_ASSIGN(size, plan.share->size_of(target.path));
            // (Of what waits, part may have been copied.)
            if (size && !target.waits) {
                const auto record = plan.share->text_of(record_path(target.path));
                target.recorded = beside_first ? plan.targets.front().recorded
                                               : several && digest && record &&
                                                     matches_record(*record, *size, *digest, how_made(plan, i));
                if (!target.recorded) return exists_already(target.place);
            }
        }
        for (const Plan::Target& other : plan.targets) {
            if (other.path == target.path)
                return fail(ErrorKind::usage, "two profiles have the same name", output.profile,
                            "give each profile once");
        }
        if (output.target_bytes > 0) {
            target.most_bytes = output.target_bytes + output.target_bytes / 50;
        } else if (output.most_bps > 0)
            target.most_bytes = static_cast<std::uint64_t>(static_cast<double>(output.most_bps) / 8 *
                                                           base::to_seconds(plan.duration) * 1.01) +
                                100'000;
        plan.targets.push_back(std::move(target));
    }
    // Part of it made before and part not: then it is another conversion.
    for (const Plan::Target& target : plan.targets) {
        if (target.recorded && !plan.done()) return exists_already(target.place);
        if (target.waits && !plan.waits()) return another_waits(target.path);
    }
    return {};
}

}  // namespace

Result<Plan> make_plan(const source::Input& input, const Request& request, const source::Pick& pick, bool several) {
    const auto& title = pick.title;
    Plan plan;
    plan.source = fmt::format("{}, title {}", input.path(), title->number);
    plan.title = title->number;
    plan.pick = pick;
    plan.angle = request.angle;
    plan.share = request.share;
    plan.duration = pick.duration();
    plan.quality = request.quality;
    plan.accept_losses = request.accept_losses;
    plan.record = request.record;
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
    if (request.rungs) {
        WAVECREST_TRY_ASSIGN(rungs, request.rungs(pick));
        WAVECREST_TRY_ASSIGN(ladder, plan_ladder(from, request, rungs));
        static_cast<transcode::EncodePlan&>(plan) = std::move(ladder.encode);
        plan.segment = ladder.segment;
        // Pieces end where segments do.
        plan.piece_length = std::max<std::int64_t>(plan.piece_length / plan.segment, 1) * plan.segment;
    } else {
        WAVECREST_TRY_ASSIGN(
            encode, transcode::plan_encode(from, {request.profiles, request.video, request.audio, request.subtitles}));
        static_cast<transcode::EncodePlan&>(plan) = std::move(encode);
    }
    if (title->angles > 1)
        plan.steps.insert(plan.steps.begin(), fmt::format("angle {} of {}", request.angle, title->angles));
    if (plan.chapters.size() > 1) plan.steps.push_back(fmt::format("{} chapters kept", plan.chapters.size()));
    for (const Problem& problem : title->problems) plan.warnings.push_back(problem.what);
    if (title->role == disc::Role::duplicate || title->role == disc::Role::fake)
        plan.warnings.push_back(fmt::format("title {}: {}", title->number, title->why));
    WAVECREST_TRY(choose_targets(input, request, several, plan));
    return plan;
}

constexpr const char* kTaken = "the converted film exists already and is not overwritten";

bool is_taken(const Error& error) {
    return error.what == kTaken;
}

tl::unexpected<Error> exists_already(const std::string& place) {
    return fail(ErrorKind::machine, kTaken, place, "move it away, or give another --name or --into");
}

Place place_of(const source::Input& input, const Selection& selection, const source::Pick& pick, bool several,
               std::string_view extension) {
    const bool named = !selection.name.empty();
    FilmName name = named ? given_name(selection.name) : film_name(input.name_hint());
    const bool extra = selection.extras && pick.title->role == disc::Role::bonus && !pick.title->main;
    if (pick.episode > 0) name.episode = selection.first_episode + pick.episode - 1;
    if (selection.season >= 0) name.season = selection.season;
    if (name.episode > 0 && name.season < 0) name.season = 1;
    const std::string number = fmt::format(" - title {}", pick.title->number);
    if (extra) {
        FilmName film = name;
        film.part = 0;
        const base::Path folder = library_path(film, extension, selection.names).parent_path();
        name.name += number;
        return {name, selection.into / folder / "extras" / fmt::format("{}.{}", safe_name(name.name), extension)};
    }
    if (name.episode == 0 && !selection.extras && (several || (!pick.title->main && !named))) name.name += number;
    const base::Path path = selection.into / library_path(name, extension, selection.names);
    // (Titles of episodes say which they are.)
    if (name.episode > 0) name = {path.stem().string()};
    return {std::move(name), path};
}

Result<std::vector<source::Pick>> picks_of(const source::Input& input, const Selection& selection) {
    WAVECREST_TRY(check(selection.names));
    WAVECREST_TRY_ASSIGN(picks, input.picks(selection.pick));
    if (!selection.extras) return picks;
    for (const source::Title& title : input.titles()) {
        const bool there = std::any_of(picks.begin(), picks.end(),
                                       [&](const source::Pick& pick) { return pick.title->number == title.number; });
        if (title.role == disc::Role::bonus && !title.main && !there)
            picks.push_back({std::make_shared<const source::Title>(title), 0, {}, {}});
    }
    return picks;
}

Result<std::vector<Plan>> make_plans(const source::Input& input, const Request& request) {
    WAVECREST_TRY_ASSIGN(picks, picks_of(input, request));
    std::vector<Plan> plans;
    for (const source::Pick& pick : picks) {
        WAVECREST_TRY_ASSIGN(plan, make_plan(input, request, pick, picks.size() > 1));
        plans.push_back(std::move(plan));
    }
    if (std::all_of(plans.begin(), plans.end(), [](const Plan& plan) { return plan.done(); }))
        return exists_already(plans.front().targets.front().place);
    std::erase_if(plans, [](const Plan& plan) { return plan.done(); });
    return plans;
}

Result<Plan> make_plan(const source::Input& input, const Request& request) {
    WAVECREST_TRY(check(request.names));
    WAVECREST_TRY_ASSIGN(pick, input.pick(request.pick));
    return make_plan(input, request, pick, false);
}

namespace {

// How often the work of one pass is done: the first of two does much the same.
double passes(const Plan& plan) {
    return plan.two_passes() ? 1.8 : 1;
}

// What is known of a file's size needs no sample.
std::uint64_t known_size(const Plan& plan, std::size_t output, std::uint64_t sampled) {
    if (plan.outputs[output].target_bytes > 0) sampled = plan.outputs[output].target_bytes;
    const std::uint64_t most = output < plan.targets.size() ? plan.targets[output].most_bytes : 0;
    return most > 0 ? std::min(sampled, most) : sampled;
}

}  // namespace

Result<Estimate> estimate(const source::Input& input, const Plan& plan, const Cancel& cancel) {
    std::vector<double> bytes(plan.outputs.size());  // of what was sampled, as the whole has them
    Time sampled{}, worked{};
    measure::QualityMeasure quality;
    const base::RealClock clock;
    std::optional<Error> refused;
    for (const Excerpt& excerpt : excerpts_of(plan.duration)) {
        const Time begun = clock.now();
        std::vector<Counted> counted(plan.outputs.size());
        WAVECREST_TRY_ASSIGN(result, run_excerpt(input, plan, plan.graph, excerpt, counted, refused, cancel));
        worked += clock.now() - begun;
        if (!result) continue;
        sampled += result->duration;
        for (std::size_t i = 0; i < bytes.size(); ++i)
            bytes[i] += whole_rate(plan, i, counted[i], result->duration) * base::to_seconds(result->duration);
        if (!plan.quality) continue;
        // Once more: looking takes time, which converting doesn't.
        CodedQuality coded(quality);
        transcode::GraphSettings graph = plan.graph;
        watch_first(graph, coded);
        std::vector<Counted> again(plan.outputs.size());
        WAVECREST_TRY(run_excerpt(input, plan, graph, excerpt, again, refused, cancel));
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
        const std::uint64_t size = known_size(plan, i, static_cast<std::uint64_t>(bytes[i] * factor));
        result.file_bytes.push_back(size);
        result.size_bytes += size;
    }
    result.time = base::from_seconds(base::to_seconds(worked) * factor * passes(plan));
    if (plan.quality) result.quality = quality.result();
    return result;
}

Result<Estimate> estimate(const Plan& plan, const measure::Capacity& capacity) {
    const auto load = measure::load_of(capacity, plan.graph);
    if (!load)
        return fail(ErrorKind::wanting, "the speed of this machine wasn't measured with the codecs of this title",
                    plan.source, "leave --no-samples out: then samples of it are tried");
    Estimate result;
    result.time = base::from_seconds(load->alone * base::to_seconds(plan.duration) * passes(plan));
    for (std::size_t i = 0; i < plan.outputs.size(); ++i) {
        result.file_bytes.push_back(known_size(plan, i, std::numeric_limits<std::uint64_t>::max()));
        if (result.file_bytes.back() == std::numeric_limits<std::uint64_t>::max()) result.file_bytes.back() = 0;
        result.size_bytes += result.file_bytes.back();
    }
    return result;
}

namespace {

int first_passes(const Plan& plan) {
    int passes = 0;
    for (const transcode::VideoEncode& one : plan.graph.video_encodes) {
        if (one.encode.mean_bps > 0) passes = std::max(passes, codec::first_passes(one.encode.codec));
    }
    return passes;
}

// What other tracks and the index leave of a file's size is the video's.
Status share_out(const Plan& plan, const transcode::GraphResult& result, const std::vector<Counted>& counted,
                 transcode::GraphSettings& graph) {
    const double seconds = std::max(base::to_seconds(result.duration), 0.1);
    for (std::size_t output = 0; output < graph.outputs.size(); ++output) {
        const auto target = static_cast<double>(plan.outputs[output].target_bytes);
        if (target <= 0) continue;
        for (const transcode::OutputTrack& track : graph.outputs[output]) {
            if (track.kind != transcode::OutputTrack::Kind::video) continue;
            codec::VideoEncoderSettings& encode = graph.video_encodes[track.index].encode;
            const double others = static_cast<double>(counted[output].other_bytes);
            // (Some encoders give no packets in their first pass.)
            const double packets = static_cast<double>(
                std::max<std::uint64_t>(counted[output].packets, static_cast<std::uint64_t>(result.pictures)));
            const double left = target - others - overhead(plan.outputs[output].container, target, packets, seconds);
            constexpr double kLeast = 20'000;
            const double mean = left * 8 / seconds;
            if (mean < kLeast)
                return fail(ErrorKind::usage,
                            fmt::format("a file of {} is too small: {} of audio and index leave nothing for the video",
                                        base::format_bytes(plan.outputs[output].target_bytes),
                                        base::format_bytes(static_cast<std::uint64_t>(target - left))),
                            fmt::format("profile {}", plan.outputs[output].profile),
                            "raise target_size, or lower the audio's bit rate");
            encode.mean_bps = static_cast<std::int64_t>(mean);
            if (encode.peak_bps > 0) encode.mean_bps = std::min(encode.mean_bps, encode.peak_bps);
        }
    }
    return {};
}

void to_second_pass(transcode::GraphSettings& graph) {
    for (transcode::VideoEncode& one : graph.video_encodes) {
        if (one.encode.mean_bps > 0) one.encode.pass = codec::VideoEncoderSettings::Pass::second;
    }
}

// Goes through the title beforehand for the bits of its video: where they are needed, and how many other tracks leave.
Status prepare_passes(const source::Input& input, const Plan& plan, transcode::GraphSettings& graph,
                      const std::function<Progress(int)>& part, KeptPieces& pieces, const Cancel& cancel) {
    WAVECREST_TRY(pieces.take_notes(graph));
    std::vector<Counted> counted(plan.outputs.size());
    transcode::GraphResult result;
    for (int pass = 0; pass < first_passes(plan); ++pass) {
        std::fill(counted.begin(), counted.end(), Counted{});
        WAVECREST_TRY_ASSIGN(source, input.open(plan.pick, plan.angle));
        const auto sink = [&](std::size_t output,
                              const std::vector<Track>& tracks) -> Result<std::unique_ptr<PacketSink>> {
            return std::make_unique<CountingSink>(tracks, counted.at(output));
        };
        transcode::GraphSettings first = first_pass(graph);
        WAVECREST_TRY_ASSIGN(made, transcode::run(*source, first, sink, part(pass), cancel));
        result = std::move(made);
        WAVECREST_TRY(share_out(plan, result, counted, graph));
    }
    WAVECREST_TRY(pieces.keep_notes(graph));
    to_second_pass(graph);
    return {};
}

// Listens to the audio once, for the gain that brings it to a loudness.
Status find_gains(const source::Input& input, const Plan& plan, transcode::GraphSettings& graph, const Cancel& cancel) {
    std::vector<transcode::AudioEncode> asked;
    for (const transcode::AudioEncode& one : graph.audio_encodes) {
        if (one.loudness) asked.push_back(one);
    }
    std::vector<measure::ProgrammeLoudness> meters(asked.size());
    WAVECREST_TRY_ASSIGN(source, input.open(plan.pick, plan.angle));
    WAVECREST_TRY(transcode::listen(
        *source, asked, [&](std::size_t number, const AudioFrames& audio) { meters[number].push(audio); }, cancel));
    std::size_t number = 0;
    for (transcode::AudioEncode& one : graph.audio_encodes) {
        if (!one.loudness) continue;
        const auto measured = meters[number++].result();
        constexpr double kSilence = -70;  // LUFS: nothing counts below (BS.1770)
        if (!measured || !(measured->integrated > kSilence)) continue;
        one.gain = static_cast<float>(std::pow(10, (*one.loudness - measured->integrated) / 20));
    }
    return {};
}

}  // namespace

void log_outcome(const Outcome& outcome) {
    for (const Problem& problem : outcome.problems)
        base::log(base::LogLevel::warning, "{}: {} ({} to {})", outcome.path().string(), problem.what,
                  base::format_clock(problem.from), base::format_clock(problem.to));
    base::log(base::LogLevel::info, "done: {}, {} in {}", outcome.path().string(),
              base::format_bytes(outcome.size_bytes), base::format_span(outcome.elapsed));
}

namespace {

// The files that a plan makes, none for those that an earlier run finished.
struct NewFiles {
    std::vector<std::optional<base::AtomicFile>> files;
    std::vector<std::uint64_t> inodes;
    std::uint64_t most = 0;  // bytes that they can have together; 0: no limit
};
Result<NewFiles> make_files(const Plan& plan, const KeptPieces& pieces) {
    NewFiles made;
    bool limited = true;
    for (const Plan::Target& target : plan.targets) {
        if (target.finished && pieces.finished(target.path)) {
            made.files.emplace_back();
            continue;
        }
        WAVECREST_TRY_ASSIGN(file, base::AtomicFile::create(target.path, base::AtomicFile::IfExists::refuse));
        made.inodes.push_back(file.inode());
        made.files.emplace_back(std::move(file));
        made.most += target.most_bytes;
        limited = limited && target.most_bytes > 0;
    }
    if (!limited) made.most = 0;
    return made;
}

// The peak rate, or else the rip itself, bounds the size; without room for that a sample decides. Nothing is kept where
// there isn't space for it twice.
Status check_room(const source::Input& input, const Plan& plan, std::uint64_t most, KeptPieces& pieces,
                  const Cancel& cancel) {
    WAVECREST_TRY_ASSIGN(free, free_space(plan.target(), plan.share.get()));
    const std::uint64_t bound = most > 0 ? most : plan.source_bytes * plan.targets.size();
    if (free >= 2 * bound || pieces.any()) return {};
    Plan size_alone = plan;
    size_alone.quality = false;
    WAVECREST_TRY_ASSIGN(expected, estimate(input, size_alone, cancel));
    const std::uint64_t needed = expected.size_bytes + expected.size_bytes / 10;
    WAVECREST_TRY(check_space(plan, needed, "needed by a sample of the title"));
    if (free < 2 * needed) pieces.give_up();
    return {};
}

// The film is there: what is wrong with measuring it doesn't undo it.
void take_quality(CodedQuality& coded, const measure::QualityMeasure& quality, std::int64_t pictures, Time duration,
                  Outcome& outcome) {
    if (const auto status = coded.finish(); !status) {
        outcome.problems.push_back({"video quality can't be measured: " + status.error().what, {}, duration});
        return;
    }
    outcome.quality = quality.result();
    if (coded.missing() > 0)
        outcome.problems.push_back(
            {fmt::format("{} of {} encoded frames can't be decoded", coded.missing(), pictures), {}, duration});
}

Result<Outcome> run_keeping(const source::Input& input, const Plan& plan, KeptPieces& pieces, const Progress& progress,
                            const Cancel& cancel) {
    // Made first, so that a target that can't be written to is told at once.
    if (plan.share) WAVECREST_TRY(plan.share->check_writable());
    WAVECREST_TRY_ASSIGN(made_files, make_files(plan, pieces));
    WAVECREST_TRY(check_room(input, plan, made_files.most, pieces, cancel));
    const base::RealClock clock;
    transcode::GraphSettings graph = plan.graph;
    Outcome outcome;
    outcome.kept = std::min(pieces.use(graph, plan.piece_length), plan.duration);  // the last piece is shorter
    for (std::size_t i = 0; i < made_files.files.size(); ++i) {
        if (!made_files.files[i]) graph.outputs[i].clear();
    }
    if ((plan.wants_loudness() || plan.two_passes()) && !input.reopens())
        return fail(ErrorKind::usage, "a loudness, an average bit rate or a size needs two passes", plan.source,
                    "save it as a file first, or use a profile with visual_quality and without loudness");
    if (plan.wants_loudness()) WAVECREST_TRY(find_gains(input, plan, graph, cancel));
    // Each pass counts for the same part of the work.
    const int passes = first_passes(plan) + 1;
    const bool before = pieces.has_passes();  // those of an earlier run
    const auto part = [&](int number) -> Progress {
        if (!progress) return {};
        return [&progress, number, passes, kept = outcome.kept, before](const ProgressState& state) {
            progress({(state.total * number + state.done) / passes, state.total,
                      before ? state.total * number / passes : kept});
        };
    };
    if (plan.two_passes() && pieces.restore_notes(graph)) {
        to_second_pass(graph);
    } else if (plan.two_passes()) {
        WAVECREST_TRY(prepare_passes(input, plan, graph, part, pieces, cancel));
    }
    WAVECREST_TRY_ASSIGN(source, input.open(plan.pick, plan.angle));
    outcome.title = plan.title;
    outcome.source_bytes = plan.source_bytes;
    Counted not_written;
    const auto make_sink = [&](std::size_t output,
                               const std::vector<Track>& tracks) -> Result<std::unique_ptr<PacketSink>> {
        auto& file = made_files.files[output];
        if (!file) return std::make_unique<CountingSink>(tracks, not_written);
        if (plan.is_ladder()) return create_ladder_file(plan, output, *std::move(file), tracks);
        container::WriterSettings settings;
        settings.title = plan.name.name;
        settings.year = plan.name.year;
        settings.chapters = plan.chapters;
        settings.duration = plan.duration;
        if (!plan.outputs[output].has_video) settings.tags = plan.pick.title->tags;
        return container::create_media(plan.outputs[output].container, *std::move(file), tracks, std::move(settings));
    };
    measure::QualityMeasure quality;
    CodedQuality coded(quality);
    if (plan.quality) watch_first(graph, coded);
    graph.accept = [&](const transcode::GraphResult& made) -> Status {
        std::vector<Problem> problems = source->problems();
        problems.insert(problems.end(), made.problems.begin(), made.problems.end());
        outcome.loss = add_up(problems);
        if (!plan.accept_losses) {
            const Status status = check_loss(outcome.loss, plan.duration, plan.source);
            pieces.refused = !status;
            WAVECREST_TRY(status);
        }
        return pieces.begin_finishing(made_files.inodes);
    };
    base::log(base::LogLevel::info, "converting {} to {}", plan.source, plan.target().string());
    WAVECREST_TRY_ASSIGN(result, transcode::run(*source, graph, make_sink, part(passes - 1), cancel));
    outcome.elapsed = clock.now();
    outcome.duration = result.duration;
    outcome.pictures = result.pictures;
    outcome.problems = source->problems();
    outcome.problems.insert(outcome.problems.end(), result.problems.begin(), result.problems.end());
    outcome.subtitles = result.subtitles;
    if (!plan.graph.audio_encodes.empty() && result.audio_frames == 0) {
        outcome.problems.push_back({"the audio track is empty", {}, result.duration});
    }
    if (plan.quality) take_quality(coded, quality, result.pictures, result.duration, outcome);
    if (plan.is_ladder()) {
        WAVECREST_TRY_ASSIGN(playlist, finish_ladder(plan));
        outcome.playlist = std::move(playlist);
    }
    std::error_code error;
    for (const Plan::Target& target : plan.targets) {
        outcome.files.push_back({target.path, std::filesystem::file_size(target.path, error)});
        outcome.size_bytes += outcome.files.back().bytes;
    }
    return outcome;
}

// The files are there: what is wrong with the records doesn't undo them.
void write_records(const source::Input& input, const Plan& plan, const Outcome& outcome) {
    const auto digest = source::digest_of(input.path());
    for (std::size_t i = 0; i < (plan.is_ladder() ? 1 : outcome.files.size()); ++i) {
        if (const auto status = write_record(plan, outcome, i, digest.value_or(""), how_made(plan, i)); !status)
            base::log(base::LogLevel::warning, "{} ({})", status.error().what, status.error().where);
    }
}

}  // namespace

Result<std::uint64_t> free_space(const base::Path& target, const ShareFolder* share) {
    WAVECREST_TRY_ASSIGN(here, host::free_space(target));
    const auto there = share != nullptr ? share->free_space() : std::nullopt;
    return there ? std::min(here, *there) : here;
}

namespace {

// What an earlier run made.
Outcome waiting_outcome(const Plan& plan) {
    Outcome outcome;
    outcome.title = plan.title;
    outcome.duration = outcome.kept = plan.duration;
    outcome.source_bytes = plan.source_bytes;
    std::error_code error;
    for (const Plan::Target& target : plan.targets) {
        outcome.files.push_back({target.path, std::filesystem::file_size(target.path, error)});
        outcome.size_bytes += outcome.files.back().bytes;
    }
    if (plan.is_ladder()) outcome.playlist = plan.target().parent_path() / container::kLadderPlaylist;
    return outcome;
}

}  // namespace

Status deliver(const ShareFolder& share, bool records, const Progress& progress, Outcome& outcome) {
    std::vector<base::Path> files, own;
    std::error_code error;
    for (const Outcome::File& file : outcome.files) {
        const base::Path record = record_path(file.path);
        if (outcome.playlist.empty()) files.push_back(file.path);
        if (std::filesystem::exists(record, error)) (records ? files : own).push_back(record);
    }
    if (!outcome.playlist.empty()) {
        for (const auto& entry : std::filesystem::directory_iterator(outcome.playlist.parent_path(), error)) {
            if (!entry.path().string().ends_with(".record.json") && entry.path() != outcome.playlist)
                files.push_back(entry.path());
        }
        files.push_back(outcome.playlist);
    }
    const base::RealClock clock;
    base::log(base::LogLevel::info, "copying {} to {}", base::format_bytes(outcome.size_bytes),
              share.address_of(outcome.path()));
    WAVECREST_TRY(share.deliver(files, own, [&](std::uint64_t bytes) {
        if (!progress) return;
        const double part =
            static_cast<double>(bytes) / static_cast<double>(std::max<std::uint64_t>(outcome.size_bytes, 1));
        const Time done = base::from_seconds(base::to_seconds(outcome.duration) * std::min(part, 1.0));
        progress({done, outcome.duration, {}, "copying to the share"});
    }));
    outcome.copying = clock.now();
    for (Outcome::File& file : outcome.files) file.path = share.address_of(file.path);
    if (!outcome.playlist.empty()) outcome.playlist = share.address_of(outcome.playlist);
    return {};
}

Result<Outcome> run(const source::Input& input, const Plan& plan, const Progress& progress, const Cancel& cancel) {
    if (plan.share && plan.waits()) {
        Outcome outcome = waiting_outcome(plan);
        WAVECREST_TRY(deliver(*plan.share, plan.record, progress, outcome));
        log_outcome(outcome);
        return outcome;
    }
    WAVECREST_TRY_ASSIGN(pieces, KeptPieces::open(input, plan));
    auto outcome = run_keeping(input, plan, pieces, progress, cancel);
    if (!outcome) {
        // Space comes back, and losses may be accepted; what is wrong with the input stays wrong.
        const ErrorKind kind = outcome.error().kind;
        const bool useful = kind == ErrorKind::machine || kind == ErrorKind::interrupted || pieces.refused;
        return fail(pieces.after(std::move(outcome).error(), useful, plan.piece_length));
    }
    pieces.remove();
    // (Of what waits to be copied, the record tells the next run what it is.)
    if (plan.record || plan.share) write_records(input, plan, *outcome);
    if (plan.share) WAVECREST_TRY(deliver(*plan.share, plan.record, progress, *outcome));
    log_outcome(*outcome);
    return outcome;
}

}  // namespace wavecrest::convert
