#include "convert/ladder.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <thread>

#include "base/units.hpp"
#include "codec/video_encoder.hpp"
#include "container/ladder.hpp"
#include "convert/text_sink.hpp"
#include "convert/weigh.hpp"
#include "media/language.hpp"
#include "render/ladder_page.hpp"

namespace wavecrest::convert {
namespace {

using transcode::OutputTrack;

constexpr std::string_view kVideo = "video-", kAudio = "audio", kSubtitles = "subtitles";
constexpr std::int64_t kTextBps = 1000;  // what a text track takes at most, for estimates

// A profile of the video alone.
profile::Profile video_only(const profile::Profile& like, const profile::VideoSettings& video, std::string name) {
    profile::Profile one = like;
    one.name = std::move(name);
    one.container = "mp4";
    one.video = video;
    one.audio.clear();
    one.subtitles = {false, false};
    one.rungs.clear();
    one.automatic_ladder = false;
    return one;
}

profile::Profile audio_only(const profile::Profile& like) {
    profile::Profile one = like;
    one.name = kAudio;
    one.container = "mp4";
    one.video.what = profile::VideoSettings::What::none;
    one.rungs.clear();
    one.automatic_ladder = false;
    return one;
}

// "audio-en", and "audio-en-2" where there is one already.
std::string unused_name(const transcode::EncodePlan& plan, std::string_view kind, const std::string& language) {
    const std::string tag = media::language_tag(language);
    const std::string wanted = tag.empty() ? std::string(kind) : fmt::format("{}-{}", kind, tag);
    std::string name = wanted;
    for (int number = 2; std::any_of(plan.outputs.begin(), plan.outputs.end(),
                                     [&](const auto& output) { return output.profile == name; });
         ++number)
        name = fmt::format("{}-{}", wanted, number);
    return name;
}

// The audio output of a plan becomes one for each of its tracks.
void split_audio(transcode::EncodePlan& plan) {
    const transcode::EncodePlan::Output together = std::move(plan.outputs.back());
    const std::vector<OutputTrack> tracks = std::move(plan.graph.outputs.back());
    plan.outputs.pop_back();
    plan.graph.outputs.pop_back();
    for (std::size_t i = 0; i < tracks.size(); ++i) {
        transcode::EncodePlan::Output one = together;
        const Track& from = tracks[i].kind == OutputTrack::Kind::kept ? plan.graph.kept[tracks[i].index]
                                                                      : plan.graph.audio_encodes[tracks[i].index].from;
        one.profile = unused_name(plan, kAudio, from.language);
        one.most_bps = together.most_bps / static_cast<std::int64_t>(tracks.size());
        if (i < together.steps.size()) one.steps = {together.steps[i]};
        plan.outputs.push_back(std::move(one));
        plan.graph.outputs.push_back({tracks[i]});
    }
}

void add_text(const transcode::PlanSource& source, transcode::EncodePlan& plan) {
    for (const Track& track : source.tracks) {
        if (track.kind != TrackKind::subtitle || track.codec != Codec::text) continue;
        const auto entry = std::find_if(plan.tracks.begin(), plan.tracks.end(),
                                        [&](const TrackPlan& one) { return one.from.id == track.id; });
        // What is in the picture would be there twice.
        if (entry != plan.tracks.end() && entry->action == TrackPlan::Action::transcode) continue;
        if (entry != plan.tracks.end()) *entry = {track, TrackPlan::Action::keep, "as WebVTT"};
        transcode::EncodePlan::Output output;
        output.profile = unused_name(plan, kSubtitles, track.language);
        output.container = kWebVtt;
        output.most_bps = kTextBps;
        output.has_video = false;
        output.steps = {fmt::format("subtitles: {} (text) as WebVTT", media::language_name(track.language))};
        plan.outputs.push_back(std::move(output));
        plan.graph.outputs.push_back({{OutputTrack::Kind::kept, plan.graph.kept.size()}});
        plan.graph.kept.push_back(track);
    }
}

// Exactly how far apart the encoders put their keyframes.
Time segment_length(const codec::VideoEncoderSettings& encode) {
    if (encode.variable_rate || encode.frame_rate.num <= 0) return encode.keyframe_distance;
    const double frames = base::to_seconds(encode.keyframe_distance) * encode.frame_rate.value();
    return base::frames_to_time(std::max<std::int64_t>(std::llround(frames), 1), encode.frame_rate);
}

// Encoders side by side need fewer threads each than one alone, which cost them some of their speed: as their pictures'
// share of the processors is, and some more so that none of these waits.
void share_processors(std::vector<transcode::VideoEncode>& encodes) {
    if (encodes.size() < 2) return;
    double pixels = 0;
    for (const transcode::VideoEncode& one : encodes)
        pixels += static_cast<double>(one.encode.width) * one.encode.height;
    const auto processors = static_cast<double>(std::max(std::thread::hardware_concurrency(), 1U));
    for (transcode::VideoEncode& one : encodes) {
        const double share = static_cast<double>(one.encode.width) * one.encode.height / pixels;
        one.encode.threads = std::max(1, static_cast<int>(std::ceil(processors * share + 0.5)));
    }
}

// "video-720p"; with its bit rate where several are of one size.
std::string rung_name(const transcode::EncodePlan& plan, std::size_t number, std::size_t rungs) {
    const auto& encodes = plan.graph.video_encodes;
    const auto size_of = [&](std::size_t i) {
        return profile::size_name(encodes[i].encode.width, encodes[i].encode.height);
    };
    const auto rate_of = [&](std::size_t i) {
        const codec::VideoEncoderSettings& encode = encodes[i].encode;
        return (encode.peak_bps > 0 ? encode.peak_bps : encode.mean_bps) / 1000;
    };
    std::string name = fmt::format("{}{}", kVideo, size_of(number));
    int same_size = 0, same_rate_before = 0;
    for (std::size_t i = 0; i < rungs; ++i) {
        if (size_of(i) != size_of(number)) continue;
        ++same_size;
        same_rate_before += i < number && rate_of(i) == rate_of(number) ? 1 : 0;
    }
    if (same_size > 1) name += fmt::format("-{}k", rate_of(number));
    if (same_rate_before > 0) name += fmt::format("-{}", same_rate_before + 1);
    return name;
}

}  // namespace

Status check_ladder(const profile::Profile& profile) {
    if (profile.video.what != profile::VideoSettings::What::encode)
        return fail(ErrorKind::usage, "a ladder needs a profile that encodes video",
                    fmt::format("profile {}", profile.name), "use --profile any-room, or another with a video codec");
    return {};
}

Result<LadderPlan> plan_ladder(const transcode::PlanSource& source, const Request& request,
                               const std::vector<profile::Rung>& rungs) {
    const profile::Profile& profile = request.profiles.front();
    WAVECREST_TRY(check_ladder(profile));
    if (rungs.empty())
        return fail(ErrorKind::usage, "no rung of the ladder suits this title", source.name,
                    "add [[rung]] tables to the profile, or write ladder = \"auto\"");
    transcode::PlanRequest encode;
    encode.video = request.video;
    encode.audio = request.audio;
    encode.subtitles = request.subtitles;
    for (const profile::Rung& rung : rungs) encode.profiles.push_back(video_only(profile, rung.video, profile.name));
    WAVECREST_TRY_ASSIGN(audio, transcode::choose_audio(source, request.audio));
    const bool has_audio = !audio.empty() && !profile.audio.empty();
    if (has_audio) encode.profiles.push_back(audio_only(profile));
    LadderPlan plan;
    WAVECREST_TRY_ASSIGN(made, transcode::plan_encode(source, encode));
    plan.encode = std::move(made);
    for (std::size_t i = 0; i < rungs.size(); ++i) {
        plan.encode.outputs[i].profile = rung_name(plan.encode, i, rungs.size());
        if (!rungs[i].why.empty()) plan.encode.outputs[i].steps.push_back("rung: " + rungs[i].why);
    }
    if (has_audio) split_audio(plan.encode);
    if (profile.subtitles.keep_text) add_text(source, plan.encode);
    plan.segment = segment_length(plan.encode.graph.video_encodes.front().encode);
    share_processors(plan.encode.graph.video_encodes);
    for (const transcode::VideoEncode& one : plan.encode.graph.video_encodes) {
        if (segment_length(one.encode) != plan.segment)
            return fail(ErrorKind::usage, "the rungs have keyframes at different distances",
                        fmt::format("profile {}", profile.name), "leave keyframe_interval to [video]");
    }
    plan.encode.steps.push_back(fmt::format("{} with keyframes every {:.3f} s, for HLS and DASH",
                                            base::format_count(rungs.size(), "rung"), base::to_seconds(plan.segment)));
    return plan;
}

namespace {

// One size in several qualities: what it takes, and how close it comes.
struct Tried {
    double rate = 0;  // bit/s
    double ssim = 0;
    double quality = 0;
};
struct SizeCurve {
    base::Size largest;         // of its rung
    std::string name;           // "720p"
    int height = 0;             // of its pictures
    std::vector<Tried> points;  // by rate, going up

    // Along the logarithm of the rate; nothing outside of what was tried.
    std::optional<Tried> at(double rate) const {
        if (points.empty() || rate < points.front().rate * 0.999 || rate > points.back().rate * 1.001)
            return std::nullopt;
        for (std::size_t i = 1; i < points.size(); ++i) {
            const Tried &a = points[i - 1], &b = points[i];
            if (rate > b.rate && i + 1 < points.size()) continue;
            const double width = std::log(b.rate / a.rate);
            const double part = width > 0 ? std::clamp(std::log(rate / a.rate) / width, 0.0, 1.0) : 1;
            return Tried{rate, a.ssim + (b.ssim - a.ssim) * part, a.quality + (b.quality - a.quality) * part};
        }
        return points.front();
    }
};

struct Choice {
    const SizeCurve* size = nullptr;
    Tried tried;
};
// The size that looks best at a rate; the nearest that was tried where none was tried at it.
Choice best_at(const std::vector<SizeCurve>& sizes, double rate) {
    Choice best;
    for (const SizeCurve& size : sizes) {
        const auto tried = size.at(rate);
        if (tried && (best.size == nullptr || tried->ssim > best.tried.ssim)) best = {&size, *tried};
    }
    if (best.size != nullptr) return best;
    for (const SizeCurve& size : sizes) {
        for (const Tried& one : size.points) {
            if (best.size == nullptr ||
                std::abs(std::log(one.rate / rate)) < std::abs(std::log(best.tried.rate / rate)))
                best = {&size, one};
        }
    }
    return best;
}

// Each size is tried in so many visual qualities, by how much they are below the profile's.
constexpr double kBelowBest[] = {0, 14, 30};
constexpr std::size_t kQualities = std::size(kBelowBest);
constexpr double kStep = 1.8, kMore = 1.5, kAddsNothing = 0.003, kUnseen = 0.004, kSteep = 0.05;
constexpr double kLeastRate = 150'000, kLeastSsim = 0.75;
constexpr std::size_t kMostRungs = 8;

// From the best down.
std::vector<Choice> choose_rungs(const std::vector<SizeCurve>& sizes, double highest_quality, std::string& why_best) {
    double lowest = 1e12, highest = 0;
    for (const SizeCurve& size : sizes) {
        lowest = std::min(lowest, size.points.front().rate);
        highest = std::max(highest, size.points.back().rate);
    }
    // As good as is asked for, in the full size.
    why_best = fmt::format("as good as the profile asks for (visual_quality {:g})", highest_quality);
    double top = highest;
    for (double rate = lowest; rate < highest; rate *= 1.02) {
        const Choice here = best_at(sizes, rate), more = best_at(sizes, std::min(rate * kMore, highest));
        if (rate * kMore > highest) break;
        const double gain = more.tried.ssim - here.tried.ssim;
        if (gain >= kAddsNothing || here.tried.ssim < 0.9) continue;
        top = rate;
        why_best = fmt::format("best: half as many bits again would add {:.3f} to SSIM {:.3f}", std::max(gain, 0.0),
                               here.tried.ssim);
        break;
    }
    double bottom = std::max(std::min(kLeastRate, top), lowest);
    while (bottom < top / kStep && best_at(sizes, bottom).tried.ssim < kLeastSsim) bottom *= 1.1;
    const auto steps = std::clamp<int>(static_cast<int>(std::lround(std::log(top / bottom) / std::log(kStep))), 0,
                                       static_cast<int>(kMostRungs) - 1);
    std::vector<Choice> rungs;
    for (int i = 0; i <= steps; ++i)
        rungs.push_back(best_at(sizes, top * std::pow(bottom / top, steps > 0 ? static_cast<double>(i) / steps : 0)));
    // Steps nobody would see go; steep ones are halved.
    for (std::size_t i = 1; i < rungs.size();) {
        if (rungs[i - 1].tried.ssim - rungs[i].tried.ssim < kUnseen && i + 1 < rungs.size()) {
            rungs.erase(rungs.begin() + static_cast<std::ptrdiff_t>(i));
        } else {
            ++i;
        }
    }
    for (std::size_t i = 1; i < rungs.size() && rungs.size() < kMostRungs;) {
        const Tried &above = rungs[i - 1].tried, &below = rungs[i].tried;
        if (above.ssim - below.ssim > kSteep && above.rate / below.rate > 1.6) {
            rungs.insert(rungs.begin() + static_cast<std::ptrdiff_t>(i),
                         best_at(sizes, std::sqrt(above.rate * below.rate)));
        } else {
            ++i;
        }
    }
    return rungs;
}

std::string reason_of(const std::vector<SizeCurve>& sizes, const std::vector<Choice>& rungs, std::size_t number) {
    const Choice& here = rungs[number];
    std::string why = fmt::format("SSIM {:.3f} at {:.2f} x the bits of the rung above", here.tried.ssim,
                                  here.tried.rate / rungs[number - 1].tried.rate);
    // What the next larger size would have looked like.
    const SizeCurve* larger = nullptr;
    for (const SizeCurve& size : sizes) {
        if (size.height > here.size->height && (larger == nullptr || size.height < larger->height)) larger = &size;
    }
    if (larger == nullptr) return why;
    const auto there = larger->at(here.tried.rate);
    return there ? fmt::format("{}; {} would have {:.3f} there", why, larger->name, there->ssim)
                 : fmt::format("{}; too few bits for {}", why, larger->name);
}

std::int64_t peak_for(double mean) {
    constexpr double kPeak = 1.5;
    const double step = mean >= 1'000'000 ? 100'000 : 10'000;
    return std::max<std::int64_t>(static_cast<std::int64_t>(std::ceil(mean * kPeak / step) * step), 50'000);
}

}  // namespace

Result<std::vector<profile::Rung>> find_rungs(const source::Input& input, const Request& request,
                                              const source::Pick& pick, const Progress& progress,
                                              const Cancel& cancel) {
    const profile::Profile& profile = request.profiles.front();
    WAVECREST_TRY(check_ladder(profile));
    transcode::PlanSource from;
    from.name = fmt::format("{}, title {}", input.path(), pick.title->number);
    from.tracks = pick.title->tracks;
    from.duration = pick.duration();
    if (!input.reopens())
        return fail(ErrorKind::usage, "rungs can't be chosen from samples of what is there once", from.name,
                    "save it as a file first, or use a profile with [[rung]] tables");
    from.open = [&] { return input.open(pick, request.angle); };
    const Track* video = nullptr;
    int number = 0;
    for (const Track& track : from.tracks) {
        if (track.kind == TrackKind::video && ++number == std::max(request.video, 1)) video = &track;
    }
    if (video == nullptr) return fail(ErrorKind::input, "no video", from.name, "name a film: a ladder is of video");
    std::vector<std::string> notes;
    const std::vector<profile::Rung> usual = profile::rungs_for(profile, *video, notes);
    const double best = profile.video.quality;
    transcode::PlanRequest candidates;
    candidates.video = request.video;
    candidates.audio = "none";
    candidates.subtitles = request.subtitles;
    std::vector<SizeCurve> sizes;
    std::vector<double> qualities;
    for (const profile::Rung& rung : usual) {
        sizes.push_back({rung.video.largest, "", 0, {}});
        // Where it is shown larger than it is, more bits soon add nothing.
        for (const double below : kBelowBest) {
            const double quality = best - below;
            profile::VideoSettings settings = rung.video;
            settings.quality = std::max(quality, 5.0);
            settings.peak_bps = settings.mean_bps = 0;
            candidates.profiles.push_back(video_only(profile, settings, profile.name));
            qualities.push_back(settings.quality);
        }
    }
    Plan trial;
    trial.source = from.name;
    trial.pick = pick;
    trial.angle = request.angle;
    trial.duration = from.duration;
    WAVECREST_TRY_ASSIGN(encode, transcode::plan_encode(from, candidates));
    static_cast<transcode::EncodePlan&>(trial) = std::move(encode);
    trial.targets.resize(trial.outputs.size());
    for (std::size_t i = 0; i < sizes.size(); ++i) {
        const codec::VideoEncoderSettings& made = trial.graph.video_encodes[i * kQualities].encode;
        sizes[i].height = made.height;
        sizes[i].name = profile::size_name(made.width, made.height);
    }
    WAVECREST_TRY_ASSIGN(weighing, weigh(input, trial, {}, false, progress, cancel));
    const double seconds = std::max(base::to_seconds(trial.duration), 0.1);
    for (std::size_t i = 0; i < weighing.profiles.size(); ++i) {
        const Weighed& one = weighing.profiles[i];
        sizes[i / kQualities].points.push_back(
            {std::max(one.bytes.likely * 8 / seconds, 1.0), one.quality.ssim, qualities[i]});
    }
    for (SizeCurve& size : sizes) {
        std::sort(size.points.begin(), size.points.end(),
                  [](const Tried& a, const Tried& b) { return a.rate < b.rate; });
    }
    std::string why_best;
    const std::vector<Choice> chosen = choose_rungs(sizes, best, why_best);
    std::vector<profile::Rung> rungs;
    for (std::size_t i = 0; i < chosen.size(); ++i) {
        profile::Rung rung;
        rung.video = profile.video;
        rung.video.fixed_keyframes = true;
        if (rung.video.keyframe_interval.count() == 0) rung.video.keyframe_interval = profile::kLadderSegment;
        rung.video.largest = chosen[i].size->largest;
        rung.video.quality = std::round(chosen[i].tried.quality * 2) / 2;
        rung.video.peak_bps = peak_for(chosen[i].tried.rate);
        rung.why = i == 0 ? why_best : reason_of(sizes, chosen, i);
        rungs.push_back(std::move(rung));
    }
    return rungs;
}

void as_ladder(Request& request, const source::Input& input, bool samples, std::vector<std::string>* notes,
               Progress progress, const Cancel& cancel) {
    const bool looks = samples && request.profiles.front().rungs.empty();
    request.rungs = [&input, &cancel, asked = request, looks, notes,
                     progress](const source::Pick& pick) -> Result<std::vector<profile::Rung>> {
        if (looks) return find_rungs(input, asked, pick, progress, cancel);
        int number = 0;
        for (const Track& track : pick.title->tracks) {
            if (track.kind != TrackKind::video || ++number != std::max(asked.video, 1)) continue;
            std::vector<std::string> left_out;
            auto rungs = profile::rungs_for(asked.profiles.front(), track, left_out);
            if (notes != nullptr) notes->insert(notes->end(), left_out.begin(), left_out.end());
            return rungs;
        }
        return fail(ErrorKind::input, "no video", input.path(), "name a film: a ladder is of video");
    };
}

Result<std::unique_ptr<PacketSink>> create_ladder_file(const Plan& plan, std::size_t output, base::AtomicFile file,
                                                       const std::vector<Track>& tracks) {
    auto sink = std::make_unique<base::AtomicFile>(std::move(file));
    if (plan.outputs[output].container == kWebVtt) return std::make_unique<TextSink>(std::move(sink), tracks.front());
    return container::create_cmaf_file(std::move(sink), tracks.front(), plan.segment);
}

Result<base::Path> finish_ladder(const Plan& plan) {
    container::Ladder ladder;
    for (std::size_t i = 0; i < plan.outputs.size(); ++i) {
        const base::Path& path = plan.targets[i].path;
        const std::string& name = plan.outputs[i].profile;
        const OutputTrack& track = plan.graph.outputs[i].front();
        if (plan.outputs[i].container == kWebVtt) {
            ladder.subtitles.push_back({name, plan.graph.kept[track.index]});
            continue;
        }
        WAVECREST_TRY_ASSIGN(source, base::FileSource::open(path));
        WAVECREST_TRY_ASSIGN(file, container::read_cmaf_file(source, path.string()));
        const bool video = file.track.kind == TrackKind::video;
        // (Times in the file may be rounded.)
        if (video && !plan.graph.video_encodes[track.index].encode.variable_rate)
            file.track.frame_rate = plan.graph.video_encodes[track.index].encode.frame_rate;
        (video ? ladder.video : ladder.audio).push_back({name, std::move(file)});
    }
    WAVECREST_TRY(container::check_aligned(ladder));
    const base::Path folder = plan.target().parent_path();
    WAVECREST_TRY_ASSIGN(page, render::ladder_page(plan.name.full(), std::string(container::kLadderPlaylist),
                                                   std::string(container::kLadderManifest)));
    constexpr auto kReplace = base::AtomicFile::IfExists::replace;
    for (const auto* renditions : {&ladder.video, &ladder.audio}) {
        for (const container::Ladder::Rendition& one : *renditions)
            WAVECREST_TRY(base::write_file(folder / one.head_name(), one.file.head, kReplace));
    }
    WAVECREST_TRY(base::write_file(folder / "index.html", base::as_bytes(page), kReplace));
    for (const std::string& name : container::text_names(ladder))
        WAVECREST_TRY(base::write_file(folder / name, base::as_bytes(*container::text_of(ladder, name)), kReplace));
    return folder / container::kLadderPlaylist;
}

}  // namespace wavecrest::convert
