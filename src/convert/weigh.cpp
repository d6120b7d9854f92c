#include "convert/weigh.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>
#include <mutex>
#include <numeric>

#include "base/clock.hpp"
#include "base/mutex.hpp"
#include "codec/video_decoder.hpp"
#include "convert/excerpts.hpp"
#include "filter/depth.hpp"
#include "filter/scale.hpp"
#include "filter/tone_map.hpp"

namespace wavecrest::convert {
namespace {

// Pictures wait for theirs to come out of the encoder: of large ones only some are looked at.
constexpr double kWaitingBytes = 300e6;
constexpr int kWaitingPictures = 80;
// Of several profiles: their encoders add up, and what they are compared by need not take that much longer.
constexpr int kSharedExcerpts = 5;

int even(double value) {
    return std::max(2, static_cast<int>(std::lround(value / 2)) * 2);
}

struct Size {
    int width = 0, height = 0;
};
// With square pixels, nothing of it lost.
Size shown_size(const Track& track, const filter::Borders& crop) {
    const double aspect = track.pixel_aspect.num > 0 ? track.pixel_aspect.value() : 1;
    const int width = track.width - crop.left - crop.right, height = track.height - crop.top - crop.bottom;
    return aspect >= 1 ? Size{even(width * aspect), even(height)} : Size{even(width), even(height / aspect)};
}

Result<Picture> scaled(const Picture& picture, Size size, std::unique_ptr<filter::Scaler>& scaler) {
    if (picture.width == size.width && picture.height == size.height) return picture;
    if (!scaler) {
        WAVECREST_TRY_ASSIGN(made, filter::Scaler::create(picture.width, picture.height, size.width, size.height,
                                                          {1, 1}, picture.bit_depth));
        scaler = std::move(made);
    }
    return scaler->apply(picture);
}

// Decodes what one encode makes and holds it against what left the filters, at the size it is shown in. Originals come
// on the filters' thread, packets on the encoder's.
class ShownQuality {
  public:
    ShownQuality(const Track& source, const transcode::VideoEncode& encode, Size size) : size_(size) {
        if (media::is_hdr(source.colour)) viewer_ = std::make_unique<filter::ToneMapper>(source);
        to_sdr_ = encode.to_sdr;
    }

    // At the size that is compared at.
    void original(const Picture& picture) {
        const base::MutexLock lock(mutex_);
        originals_.insert_or_assign(picture.pts, picture);
    }
    void packet(const Track& track, const Packet& packet) {
        if (error_) return;
        if (!decoder_) {
            auto made = codec::make_video_decoder(track);
            if (!made) return keep(std::move(made).error());
            decoder_ = std::move(*made);
        }
        if (auto status = decoder_->decode(packet, decoded_); !status) return keep(std::move(status).error());
        look();
    }
    // When a run has ended; another may follow.
    Status finish() {
        if (!error_ && decoder_) {
            if (auto status = decoder_->flush(decoded_); !status) keep(std::move(status).error());
            look();
        }
        decoder_.reset();
        const base::MutexLock lock(mutex_);
        originals_.clear();
        if (error_) return fail(*error_);
        return {};
    }
    // Of all runs.
    measure::PictureQuality result() const { return quality_.result(); }
    Result<Still> worst_still() {
        end_second();
        Still still = std::move(worst_.still);
        if (!viewer_ || to_sdr_ || still.coded.planes[0] == nullptr) return still;
        // High dynamic range is shown as a device without it would.
        still.original = viewer_->apply(still.original);
        still.coded = viewer_->apply(still.coded);
        return still;
    }

  private:
    struct Second {
        std::int64_t number = -1;
        std::int64_t pictures = 0;
        double ssim = 0;    // sum
        double lowest = 2;  // of a picture
        Still still;        // that one
        double mean() const { return pictures > 0 ? ssim / static_cast<double>(pictures) : 2; }
    };

    void keep(Error error) {
        if (!error_) error_ = std::move(error);
    }
    std::optional<Picture> original_of(Time at) {
        const base::MutexLock lock(mutex_);
        const auto found = originals_.find(at);
        if (found == originals_.end()) return std::nullopt;
        Picture picture = std::move(found->second);
        originals_.erase(found);
        return picture;
    }
    void look() {
        for (const Picture& picture : decoded_) {
            const auto original = original_of(picture.pts);
            if (!original || error_) continue;
            if (auto status = compare(*original, picture); !status) keep(std::move(status).error());
        }
        decoded_.clear();
    }
    Status compare(Picture original, const Picture& picture) {
        if (to_sdr_ && viewer_) original = viewer_->apply(original);
        if (original.bit_depth != picture.bit_depth) original = filter::to_depth(original, picture.bit_depth);
        WAVECREST_TRY_ASSIGN(after, scaled(picture, size_, scaler_));
        const auto similarity = measure::compare(original, after);
        if (!similarity) return {};
        quality_.add(picture.pts, *similarity);
        const auto number = static_cast<std::int64_t>(std::floor(base::to_seconds(picture.pts)));
        if (number != second_.number) {
            end_second();
            second_.number = number;
        }
        ++second_.pictures;
        second_.ssim += similarity->ssim;
        if (similarity->ssim < second_.lowest) {
            second_.lowest = similarity->ssim;
            second_.still = {picture.pts, std::move(original), std::move(after)};
        }
        return {};
    }
    void end_second() {
        if (second_.pictures > 0 && second_.mean() < worst_.mean()) worst_ = std::move(second_);
        second_ = {};
    }

    const Size size_;
    bool to_sdr_ = false;
    std::unique_ptr<filter::ToneMapper> viewer_;  // where the source has a high dynamic range
    std::unique_ptr<filter::Scaler> scaler_;
    std::unique_ptr<media::VideoDecoder> decoder_;
    std::vector<Picture> decoded_;
    measure::QualityMeasure quality_;
    Second second_, worst_;
    std::optional<Error> error_;

    base::Mutex mutex_;
    std::map<Time, Picture> originals_ GUARDED_BY(mutex_);
};

// Pictures as they leave a chain of filters, scaled once for all encodes of it to the size that is compared at. Of
// large ones only some.
class ShownOriginals {
  public:
    ShownOriginals(const Track& source, Size size, std::vector<ShownQuality*> behind)
        : size_(size), behind_(std::move(behind)) {
        const double bytes = 1.5 * size.width * size.height * (source.bit_depth > 8 ? 2 : 1);
        every_ = std::max(1, static_cast<int>(std::ceil(kWaitingPictures * bytes / kWaitingBytes)));
    }
    void picture(const Picture& picture) {
        if (behind_.empty() || count_++ % every_ != 0 || error_) return;
        auto shown = scaled(picture, size_, scaler_);
        if (!shown) {
            error_ = std::move(shown).error();
            return;
        }
        for (ShownQuality* one : behind_) one->original(*shown);
    }
    // When a run has ended; another may follow.
    Status finish() {
        count_ = 0;
        if (error_) return fail(*error_);
        return {};
    }

  private:
    const Size size_;
    std::vector<ShownQuality*> behind_;
    int every_ = 1;
    std::int64_t count_ = 0;
    std::unique_ptr<filter::Scaler> scaler_;
    std::optional<Error> error_;
};

// The whole from rates of samples: mean and, by Student's t, where it lies 19 times in 20.
Range by_samples(const std::vector<double>& rates, double whole) {
    Range range;
    if (rates.empty()) return range;
    const auto n = static_cast<double>(rates.size());
    const double mean = std::accumulate(rates.begin(), rates.end(), 0.0) / n;
    range.low = range.likely = range.high = mean * whole;
    if (rates.size() < 2) return range;
    double squares = 0;
    for (const double rate : rates) squares += (rate - mean) * (rate - mean);
    constexpr double kStudent[] = {12.71, 4.30, 3.18, 2.78, 2.57, 2.45, 2.36};  // two-sided 95 %, from 1 degree on
    const double t = kStudent[std::min(rates.size() - 2, std::size(kStudent) - 1)];
    const double off = t * std::sqrt(squares / (n - 1) / n) * whole;
    // No sample is as far out as a few of them would have it.
    range.low = std::max(range.likely - off, *std::min_element(rates.begin(), rates.end()) * whole);
    range.high = std::min(range.likely + off, *std::max_element(rates.begin(), rates.end()) * whole);
    return range;
}

Weighed::Fit fit_of(const device::Device& device, const std::string& container, const std::vector<Track>& tracks,
                    std::int64_t peak_bps) {
    Weighed::Fit fit{device.name, device::Verdict::pass, ""};
    for (const device::Check& check : device::judge(device, container, tracks, peak_bps)) {
        if (check.verdict <= fit.verdict) continue;
        fit.verdict = check.verdict;
        fit.why = fmt::format("{}: {}, supported: {}", check.name, check.measured, check.limit);
    }
    return fit;
}

const transcode::VideoEncode* video_of(const Plan& plan, std::size_t output) {
    for (const transcode::OutputTrack& track : plan.graph.outputs[output]) {
        if (track.kind == transcode::OutputTrack::Kind::video) return &plan.graph.video_encodes[track.index];
    }
    return nullptr;
}

// One title on its samples.
class Scales {
  public:
    Scales(const source::Input& input, const Plan& plan, const Cancel& cancel)
        : input_(input),
          plan_(plan),
          cancel_(cancel),
          excerpts_(excerpts_of(plan.duration, plan.outputs.size() > 1 ? kSharedExcerpts : kExcerpts)) {}

    std::size_t steps(bool timed) const {
        return excerpts_.size() + (timed ? plan_.outputs.size() * timed_excerpts() : 0);
    }

    Status look(Weighing& weighing, const std::function<void()>& step) {
        transcode::GraphSettings graph = plan_.graph;
        std::vector<std::unique_ptr<ShownQuality>> shown;
        const filter::Borders none;
        for (transcode::VideoEncode& one : graph.video_encodes) {
            const Size size = shown_size(*graph.video, graph.chains[one.chain].crop);
            weighing.width = std::max(weighing.width, size.width);
            weighing.height = std::max(weighing.height, size.height);
            shown.push_back(std::make_unique<ShownQuality>(*graph.video, one, size));
            ShownQuality* const here = shown.back().get();
            one.watch.packet = [here](const Track& track, const Packet& packet) { here->packet(track, packet); };
        }
        std::vector<std::unique_ptr<ShownOriginals>> originals;
        for (std::size_t chain = 0; chain < graph.chains.size(); ++chain) {
            std::vector<ShownQuality*> behind;
            for (std::size_t i = 0; i < graph.video_encodes.size(); ++i) {
                if (graph.video_encodes[i].chain == chain) behind.push_back(shown[i].get());
            }
            originals.push_back(std::make_unique<ShownOriginals>(
                *graph.video, shown_size(*graph.video, graph.chains[chain].crop), std::move(behind)));
            graph.chains[chain].watch = [here = originals.back().get()](const Picture& one) { here->picture(one); };
        }
        for (const Excerpt& excerpt : excerpts_) {
            std::vector<Counted> counted(plan_.outputs.size());
            WAVECREST_TRY_ASSIGN(result, run_excerpt(input_, plan_, graph, excerpt, counted, refused_, cancel_));
            for (const auto& one : shown) WAVECREST_TRY(one->finish());
            for (const auto& one : originals) WAVECREST_TRY(one->finish());
            step();
            if (!result || result->duration.count() <= 0) continue;
            weighing.sampled += result->duration;
            ++weighing.samples;
            for (std::size_t i = 0; i < counted.size(); ++i)
                rates_[i].push_back(whole_rate(plan_, i, counted[i], result->duration));
        }
        if (weighing.samples == 0 && refused_) return fail(*refused_);
        if (weighing.samples == 0)
            return fail(ErrorKind::input, "no sample of the title could be converted", plan_.source,
                        "inspect it: its data may be missing");
        for (std::size_t i = 0; i < plan_.outputs.size(); ++i) {
            Weighed& one = weighing.profiles[i];
            one.bytes = by_samples(rates_[i], base::to_seconds(plan_.duration));
            const transcode::VideoEncode* const video = video_of(plan_, i);
            one.kept = video == nullptr;
            if (one.kept) continue;
            ShownQuality& here = *shown[static_cast<std::size_t>(video - plan_.graph.video_encodes.data())];
            one.quality = here.result();
            WAVECREST_TRY_ASSIGN(still, here.worst_still());
            one.worst = std::move(still);
        }
        return {};
    }

    Status time(Weighing& weighing, const std::function<void()>& step) {
        const base::RealClock clock;
        for (std::size_t i = 0; i < plan_.outputs.size(); ++i) {
            const transcode::GraphSettings alone = only_output(plan_.graph, i);
            std::vector<double> rates;
            double sampled = 0, worked = 0;
            for (std::size_t number = 0; number < timed_excerpts(); ++number) {
                std::vector<Counted> counted(1);
                const Time begun = clock.now();
                WAVECREST_TRY_ASSIGN(
                    result, run_excerpt(input_, plan_, alone, excerpts_[number * excerpts_.size() / timed_excerpts()],
                                        counted, refused_, cancel_));
                const double took = base::to_seconds(clock.now() - begun);
                step();
                if (!result || result->duration.count() <= 0) continue;
                rates.push_back(took / base::to_seconds(result->duration));
                sampled += base::to_seconds(result->duration);
                worked += took;
            }
            if (rates.empty()) continue;
            // The first of two passes does much the same work.
            const transcode::VideoEncode* const video = video_of(plan_, i);
            const double whole =
                base::to_seconds(plan_.duration) * (video != nullptr && video->encode.mean_bps > 0 ? 1.8 : 1);
            weighing.profiles[i].seconds = {*std::min_element(rates.begin(), rates.end()) * whole,
                                            worked / sampled * whole,
                                            *std::max_element(rates.begin(), rates.end()) * whole};
        }
        return {};
    }

    // The highest rate of the samples, bit/s.
    std::int64_t peak_of(std::size_t output) const {
        const auto& rates = rates_.at(output);
        return static_cast<std::int64_t>(8 * *std::max_element(rates.begin(), rates.end()));
    }

  private:
    // Half of them, or some less.
    std::size_t timed_excerpts() const { return std::max<std::size_t>(1, excerpts_.size() / 2); }

    const source::Input& input_;
    const Plan& plan_;
    const Cancel& cancel_;
    std::vector<Excerpt> excerpts_;
    std::map<std::size_t, std::vector<double>> rates_;  // bytes a second of each output, by samples
    std::optional<Error> refused_;
};

}  // namespace

Result<Weighing> weigh(const source::Input& input, const Plan& plan, const std::vector<device::Device>& devices,
                       bool timed, const Progress& progress, const Cancel& cancel) {
    Weighing weighing;
    weighing.duration = plan.duration;
    for (const Plan::Output& output : plan.outputs) {
        if (!output.has_video)
            return fail(ErrorKind::usage, "a profile without video can't be weighed", output.profile,
                        "leave it out: what its audio takes is told by convert --plan");
        weighing.profiles.push_back({output.profile, {}, {}, {}, false, {}, {}});
    }
    Scales scales(input, plan, cancel);
    const auto steps = static_cast<double>(scales.steps(timed));
    double done = 0;
    const auto step = [&] {
        done += 1;
        if (progress)
            progress({base::from_seconds(base::to_seconds(plan.duration) * done / steps), plan.duration, Time{}});
    };
    WAVECREST_TRY(scales.look(weighing, step));
    if (timed) WAVECREST_TRY(scales.time(weighing, step));
    for (std::size_t i = 0; i < plan.outputs.size(); ++i) {
        Weighed& one = weighing.profiles[i];
        // What is known needs no sample.
        if (const auto target = static_cast<double>(plan.outputs[i].target_bytes); target > 0)
            one.bytes = {target, target, target};
        if (const auto most = static_cast<double>(plan.targets[i].most_bytes); most > 0) {
            for (double* bytes : {&one.bytes.low, &one.bytes.likely, &one.bytes.high}) *bytes = std::min(*bytes, most);
        }
        WAVECREST_TRY_ASSIGN(tracks, transcode::tracks_of(plan.graph, i));
        const std::int64_t peak = plan.outputs[i].most_bps > 0 ? plan.outputs[i].most_bps : scales.peak_of(i);
        for (const device::Device& device : devices)
            one.devices.push_back(fit_of(device, plan.outputs[i].container, tracks, peak));
    }
    return weighing;
}

namespace {

profile::Profile with_quality(const profile::Profile& profile, double quality) {
    profile::Profile changed = profile;
    changed.video.quality = quality;
    changed.video.mean_bps = 0;
    changed.video.target_bytes = 0;
    return changed;
}

struct Tried {
    double quality, value;  // the logarithm of the size, or the likeness
};

// Where the line through what was tried comes to `wanted`. Values go up with the quality.
double between(const std::vector<Tried>& tried, double wanted) {
    for (std::size_t i = 1; i < tried.size(); ++i) {
        const Tried &low = tried[i - 1], &high = tried[i];
        if (wanted > high.value && i + 1 < tried.size()) continue;
        if (high.value <= low.value) return high.quality;
        return low.quality + (high.quality - low.quality) * (wanted - low.value) / (high.value - low.value);
    }
    return tried.front().quality;
}

}  // namespace

Result<Setting> find_setting(const source::Input& input, Request request, const Goal& goal,
                             const std::vector<device::Device>& devices, const Progress& progress,
                             const Cancel& cancel) {
    const profile::Profile wanted = request.profiles.front();
    if (wanted.video.what != profile::VideoSettings::What::encode)
        return fail(ErrorKind::usage, "the profile does not encode video", wanted.name, "name one that does");
    const auto value_of = [&](const Weighed& one) {
        return goal.bytes > 0 ? std::log(std::max(one.bytes.likely, 1.0)) : one.quality.ssim;
    };
    const double aim = goal.bytes > 0 ? std::log(static_cast<double>(goal.bytes)) : goal.ssim;
    constexpr double kLowest = 25, kHighest = 97.5;
    std::vector<double> qualities = {kLowest, 52.5, 75, kHighest};
    request.profiles.clear();
    for (const double quality : qualities) {
        request.profiles.push_back(with_quality(wanted, quality));
        request.profiles.back().name = fmt::format("quality {}", quality);
    }
    WAVECREST_TRY_ASSIGN(trial, make_plan(input, request));
    const auto part = [&](double from, double to) -> Progress {
        if (!progress) return {};
        return [&progress, from, to](const ProgressState& state) {
            const double total = base::to_seconds(state.total);
            progress(
                {base::from_seconds(from * total + (to - from) * base::to_seconds(state.done)), state.total, Time{}});
        };
    };
    WAVECREST_TRY_ASSIGN(first, weigh(input, trial, {}, false, part(0, 0.6), cancel));
    std::vector<Tried> tried;
    for (std::size_t i = 0; i < qualities.size(); ++i) tried.push_back({qualities[i], value_of(first.profiles[i])});
    Setting setting;
    constexpr double kStep = 0.5;
    for (int round = 0; round < 2; ++round) {
        setting.visual_quality = std::clamp(std::round(between(tried, aim) / kStep) * kStep, kLowest, kHighest);
        request.profiles = {with_quality(wanted, setting.visual_quality)};
        WAVECREST_TRY_ASSIGN(plan, make_plan(input, request));
        const bool last = round == 1;
        WAVECREST_TRY_ASSIGN(made, weigh(input, plan, devices, last, part(last ? 0.75 : 0.6, last ? 1 : 0.75), cancel));
        setting.weighing = std::move(made);
        const Tried here{setting.visual_quality, value_of(setting.weighing.profiles.front())};
        const auto place = std::lower_bound(tried.begin(), tried.end(), here,
                                            [](const Tried& a, const Tried& b) { return a.quality < b.quality; });
        if (place != tried.end() && place->quality == here.quality) {
            *place = here;
        } else {
            tried.insert(place, here);
        }
    }
    const double reached = value_of(setting.weighing.profiles.front());
    setting.reached = goal.bytes > 0 ? reached <= aim + 0.05 : reached >= aim - 0.002;
    return setting;
}

}  // namespace wavecrest::convert
