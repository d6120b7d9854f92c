#include "convert/convert.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <cmath>

#include "base/clock.hpp"
#include "container/mp4_writer.hpp"
#include "host/machine.hpp"
#include "media/language.hpp"

namespace wavecrest::convert {
namespace {

constexpr int kExcerpts = 6;
const Time kExcerptLength = base::from_seconds(2);

int even(double value) {
    return std::max(2, static_cast<int>(std::lround(value / 2)) * 2);
}

// The size to code at: within the profile's limit as displayed, never enlarged, pixel aspect squared or kept.
void choose_size(const Track& from, const profile::VideoSettings& settings, codec::H264Settings& encode) {
    const double pixel = from.pixel_aspect.value();
    double width = settings.square_pixels ? std::max(from.width * pixel, 1.0 * from.width) : from.width;
    double height = settings.square_pixels && pixel < 1 ? from.height / pixel : from.height;
    const double shown_width = settings.square_pixels ? width : width * pixel;
    const double shrink = std::min({1.0, settings.largest.width / shown_width, settings.largest.height / height});
    // A few pixels over the limit by rounding of the aspect are no reason to resample: limits are inclusive of them.
    if (shrink < 0.995) {
        width *= shrink;
        height *= shrink;
    }
    encode.width = even(width);
    encode.height = even(height);
    encode.pixel_aspect = settings.square_pixels ? Ratio{1, 1} : from.pixel_aspect;
}

// Standard-definition discs that don't signal their colours use BT.601 of their line count.
ColourDescription output_colour(const Track& from, std::vector<std::string>& steps) {
    if (from.colour.matrix != 2) {
        steps.push_back(fmt::format("colour: {} carried through", media::describe(from.colour)));
        return from.colour;
    }
    ColourDescription colour = from.colour;
    if (from.height <= 576) {
        colour = from.height == 576 ? ColourDescription{5, 6, 5, false} : ColourDescription{6, 6, 6, false};
        steps.push_back(fmt::format("colour: not signalled on the disc; written as {}, the rule for this size",
                                    media::describe(colour)));
    }
    return colour;
}

Status plan_video(const Track& track, const Request& request, Plan& plan) {
    if (track.codec != Codec::mpeg2 && track.codec != Codec::mpeg1) {
        return fail(ErrorKind::input,
                    fmt::format("video of codec {} can't be decoded yet", media::short_name(track.codec)), plan.source,
                    "convert a ripped DVD; the file itself may play as it is (wavecrest verify tells)");
    }
    if (track.scan == Scan::unknown) {
        return fail(ErrorKind::input, "no picture of this title can be read", plan.source,
                    "the rip is damaged or incomplete; make it again");
    }
    if (track.scan == Scan::interlaced) {
        return fail(ErrorKind::input, "the title is interlaced video, which can't be converted yet", plan.source,
                    "pick a title that is film");
    }
    const profile::VideoSettings& settings = request.profile.video;
    transcode::VideoPath& path = plan.graph.video;
    path.from = track;
    path.undo_pulldown = track.scan == Scan::pulldown;
    codec::H264Settings& encode = path.encode;
    choose_size(track, settings, encode);
    encode.frame_rate = track.frame_rate;
    if (path.undo_pulldown)
        plan.steps.push_back(
            fmt::format("pulldown undone: every film picture once, {} a second", base::format_rate(track.frame_rate)));
    if (encode.width != track.width || encode.height != track.height) {
        plan.steps.push_back(fmt::format("picture: {}x{} (shown {}) to {}x{} with {} pixels", track.width, track.height,
                                         media::aspect_name(track.display_aspect()), encode.width, encode.height,
                                         encode.pixel_aspect == Ratio{1, 1} ? "square" : "the source's"));
    } else {
        plan.steps.push_back(fmt::format("picture: {}x{} kept, pixel aspect {}:{}", track.width, track.height,
                                         encode.pixel_aspect.num, encode.pixel_aspect.den));
    }
    encode.colour = output_colour(track, plan.steps);
    encode.profile = settings.codec_profile;
    encode.level = settings.level;
    encode.effort = settings.effort;
    encode.quality = settings.quality;
    encode.peak_bps = settings.peak_bps;
    encode.buffer = settings.buffer;
    encode.keyframe_distance = settings.keyframe_every;
    plan.steps.push_back(fmt::format(
        "video: H.264 {} profile, quality {:g}, effort {}{}", settings.codec_profile, settings.quality, settings.effort,
        settings.peak_bps > 0 ? fmt::format(", at most {} over {}", base::format_bitrate(settings.peak_bps),
                                            base::format_span(settings.buffer))
                              : ""));
    plan.tracks.push_back({track, TrackPlan::Action::transcode,
                           fmt::format("{} becomes H.264, much smaller and played by nearly everything",
                                       media::short_name(track.codec))});
    return {};
}

void plan_audio(const std::vector<Track>& tracks, const Request& request, Plan& plan) {
    for (const Track& track : tracks) {
        if (track.kind != TrackKind::audio) continue;
        TrackPlan entry{track, TrackPlan::Action::drop, ""};
        if (plan.graph.audio) {
            entry.why = "one sound track is taken: the first that can be decoded";
        } else if (track.codec != Codec::lpcm || track.bit_depth != 16) {
            entry.why = fmt::format("{} sound can't be decoded yet", media::short_name(track.codec));
        } else if (track.channels > 2) {
            entry.why = "more than two channels can't be coded as AAC here";
        } else {
            entry.action = TrackPlan::Action::transcode;
            entry.why = "LPCM becomes AAC: an eighth of the size, played by nearly everything";
            plan.graph.audio = transcode::AudioPath{track, request.profile.audio.bitrate_bps * track.channels / 2};
            plan.steps.push_back(fmt::format("sound: AAC {}, {} Hz, {}, {}", media::channel_layout(track.channels),
                                             track.sample_rate, base::format_bitrate(plan.graph.audio->bitrate_bps),
                                             media::language_name(track.language)));
        }
        plan.tracks.push_back(std::move(entry));
    }
    if (!plan.graph.audio)
        plan.warnings.emplace_back("the result will be silent: the title has no sound track that can be decoded");
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
    WAVECREST_TRY_ASSIGN(free, host::free_space(plan.target));
    if (free >= needed) return {};
    return fail(ErrorKind::machine,
                fmt::format("there is not enough space: {} free, {} {}", base::format_bytes(free),
                            base::format_bytes(needed), how),
                plan.target.parent_path().parent_path().string(),
                "free some space or choose a folder on another disk with --into");
}

}  // namespace

std::string_view short_name(TrackPlan::Action action) {
    return action == TrackPlan::Action::transcode ? "transcode" : "drop";
}

Result<Plan> make_plan(const source::Input& input, const Request& request) {
    WAVECREST_TRY_ASSIGN(title, input.pick(request.pick));
    Plan plan;
    plan.source = fmt::format("{}, title {}", input.path(), title->number);
    plan.title = title->number;
    plan.duration = title->duration;
    plan.source_bytes = title->size_bytes;
    plan.chapters = title->chapters;
    WAVECREST_TRY(input.check_protection(title->number));

    const auto video = std::find_if(title->tracks.begin(), title->tracks.end(),
                                    [](const Track& t) { return t.kind == TrackKind::video; });
    if (video == title->tracks.end())
        return fail(ErrorKind::input, "there is no picture track", plan.source, "name a film");
    WAVECREST_TRY(plan_video(*video, request, plan));
    plan_audio(title->tracks, request, plan);
    for (const Track& track : title->tracks) {
        if (track.kind == TrackKind::subtitle)
            plan.tracks.push_back({track, TrackPlan::Action::drop, "subtitles can't be converted yet"});
    }
    if (plan.chapters.size() > 1) plan.steps.push_back(fmt::format("{} chapters kept", plan.chapters.size()));
    for (const Problem& problem : title->problems) plan.warnings.push_back(problem.what);

    plan.name = film_name(request.name.empty() ? input.name_hint() : request.name);
    if (!title->main && request.name.empty()) plan.name.name += fmt::format(" - title {}", title->number);
    plan.target = request.into / library_path(plan.name, "mp4");
    std::error_code error;
    if (std::filesystem::exists(plan.target, error)) {
        return fail(ErrorKind::machine, "the converted film exists already and is not overwritten",
                    plan.target.string(), "move it away, or give another --name or --into");
    }
    if (const std::int64_t peak = plan.graph.video.encode.peak_bps; peak > 0) {
        const std::int64_t audio = plan.graph.audio ? plan.graph.audio->bitrate_bps : 0;
        plan.most_bytes =
            static_cast<std::uint64_t>(static_cast<double>(peak + audio) / 8 * base::to_seconds(plan.duration) * 1.01) +
            100'000;
    }
    return plan;
}

Result<Estimate> estimate(const source::Input& input, const Plan& plan, const Cancel& cancel) {
    std::uint64_t bytes = 0;
    Time sampled{};
    const base::RealClock clock;
    for (int i = 0; i < kExcerpts; ++i) {
        // Steps of the golden ratio: spread evenly, yet in step with no rhythm the title may have.
        const double place = std::fmod(0.5 + i * 0.6180339887, 1.0);
        const Time at = base::from_seconds(place * base::to_seconds(plan.duration - kExcerptLength));
        WAVECREST_TRY_ASSIGN(source, input.open(plan.title));
        if (at.count() > 0 && !source->seek(at)) continue;
        transcode::GraphSettings graph = plan.graph;
        graph.until = std::max(at, Time{}) + kExcerptLength;
        const auto sink = [&](const std::vector<Track>&) -> Result<std::unique_ptr<PacketSink>> {
            return std::make_unique<CountingSink>(bytes);
        };
        const auto result = transcode::run(*source, graph, sink, {}, cancel);
        // Where the data is missing there is nothing to try; the other places still tell.
        if (!result && result.error().kind != ErrorKind::input) return fail(result.error());
        if (result) sampled += result->duration;
    }
    if (sampled.count() <= 0)
        return fail(ErrorKind::input, "no part of the title could be tried", plan.source, "convert it without --plan");
    const double factor = base::to_seconds(plan.duration) / base::to_seconds(sampled);
    Estimate result;
    result.sampled = sampled;
    result.size_bytes = static_cast<std::uint64_t>(static_cast<double>(bytes) * factor * 1.005);  // the index
    if (plan.most_bytes > 0) result.size_bytes = std::min(result.size_bytes, plan.most_bytes);
    result.time = base::from_seconds(base::to_seconds(clock.now()) * factor);
    return result;
}

Result<Outcome> run(const source::Input& input, const Plan& plan, const Progress& progress, const Cancel& cancel) {
    // Made first, so that a target that can't be written to is told at once.
    WAVECREST_TRY_ASSIGN(file, base::AtomicFile::create(plan.target, base::AtomicFile::IfExists::refuse));
    // The peak rate, or else the rip itself, bounds the size; without room for that a sample decides.
    WAVECREST_TRY_ASSIGN(free, host::free_space(plan.target));
    if (free < (plan.most_bytes > 0 ? plan.most_bytes : plan.source_bytes)) {
        WAVECREST_TRY_ASSIGN(expected, estimate(input, plan, cancel));
        WAVECREST_TRY(
            check_space(plan, expected.size_bytes + expected.size_bytes / 10, "needed by a sample of the title"));
    }
    const base::RealClock clock;
    WAVECREST_TRY_ASSIGN(source, input.open(plan.title));
    Outcome outcome;
    outcome.path = plan.target;
    outcome.title = plan.title;
    outcome.source_bytes = plan.source_bytes;
    const auto make_sink = [&](const std::vector<Track>& tracks) -> Result<std::unique_ptr<PacketSink>> {
        container::Mp4Settings settings;
        settings.title = plan.name.name;
        settings.year = plan.name.year;
        settings.chapters = plan.chapters;
        settings.duration = plan.duration;
        WAVECREST_TRY_ASSIGN(writer, container::Mp4Writer::create(std::move(file), tracks, std::move(settings)));
        return std::unique_ptr<PacketSink>(std::move(writer));
    };
    WAVECREST_TRY_ASSIGN(result, transcode::run(*source, plan.graph, make_sink, progress, cancel));
    outcome.elapsed = clock.now();
    outcome.duration = result.duration;
    outcome.pictures = result.pictures;
    outcome.problems = source->problems();
    if (plan.graph.audio && result.sound_frames == 0) {
        outcome.problems.push_back({"the sound track that the tables name holds no sound", {}, result.duration});
    }
    std::error_code error;
    outcome.size_bytes = std::filesystem::file_size(plan.target, error);
    return outcome;
}

}  // namespace wavecrest::convert
