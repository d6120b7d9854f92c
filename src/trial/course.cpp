#include "trial/course.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <array>
#include <cmath>

#include "base/units.hpp"
#include "bitstream/levels.hpp"
#include "container/writer.hpp"

namespace wavecrest::trial {
namespace {

// Sizes and rates in the order of what they ask of a decoder; the levels that a stream of each needs (Rec. ITU-T H.264,
// table A-1; H.265, table A.8; VP9 and AV1: the levels of their own specifications, which number alike).
struct Rung {
    const char* name;
    base::Size size;
    int rate;
    const char *h264, *h265, *web;

    std::string level(Codec codec) const { return codec == Codec::h264 ? h264 : codec == Codec::h265 ? h265 : web; }
};
constexpr std::array kRungs = {
    Rung{"480p30", {720, 480}, 30, "3.0", "3.0", "3.0"},    Rung{"720p30", {1280, 720}, 30, "3.1", "3.1", "3.1"},
    Rung{"720p60", {1280, 720}, 60, "3.2", "4.0", "4.0"},   Rung{"1080p30", {1920, 1080}, 30, "4.0", "4.0", "4.0"},
    Rung{"1080p60", {1920, 1080}, 60, "4.2", "4.1", "4.1"}, Rung{"2160p30", {3840, 2160}, 30, "5.1", "5.0", "5.0"},
    Rung{"2160p60", {3840, 2160}, 60, "5.2", "5.1", "5.1"}};
constexpr int kFullHd = 3;  // 1080p30: where most devices of today still play, and a good place to begin

constexpr const char *kVp9 = "video/webm; codecs=\"vp9\"", *kVp9Mp4 = "video/mp4; codecs=\"vp09.00.40.08\"",
                     *kAv1Webm = "video/webm; codecs=\"av01.0.08M.08\"",
                     *kAv1Mp4 = "video/mp4; codecs=\"av01.0.08M.08\"", *kVp8 = "video/webm; codecs=\"vp8\"";

// One kind of stream of a codec, tried along the rungs.
struct Family {
    const char* id;
    Codec codec;
    const char* profile;  // as the encoder takes it
    int depth;
    std::vector<std::string> profiles;  // that a device has which plays it
    std::vector<std::string> types;     // what a browser that plays it says so of
};
const std::vector<Family>& families() {
    static const std::vector<Family> all = {
        {"h264",
         Codec::h264,
         "high",
         8,
         {"Constrained Baseline", "Baseline", "Main", "High"},
         {"video/mp4; codecs=\"avc1.640028\""}},
        {"h264-main",
         Codec::h264,
         "main",
         8,
         {"Constrained Baseline", "Baseline", "Main"},
         {"video/mp4; codecs=\"avc1.4D401F\""}},
        {"h264-baseline",
         Codec::h264,
         "baseline",
         8,
         {"Constrained Baseline", "Baseline"},
         {"video/mp4; codecs=\"avc1.42E01E\""}},
        {"h265",
         Codec::h265,
         "main",
         8,
         {"Main"},
         {"video/mp4; codecs=\"hvc1.1.6.L120.B0\"", "video/mp4; codecs=\"hev1.1.6.L120.B0\""}},
        {"h265-main10", Codec::h265, "main10", 10, {"Main", "Main 10"}, {"video/mp4; codecs=\"hvc1.2.4.L120.B0\""}},
        {"vp9", Codec::vp9, "", 8, {"0"}, {kVp9, kVp9Mp4}},
        {"vp9-10bit", Codec::vp9, "", 10, {"0", "2"}, {"video/webm; codecs=\"vp09.02.40.10\""}},
        {"av1", Codec::av1, "", 8, {"Main"}, {kAv1Webm, kAv1Mp4}},
        {"av1-10bit", Codec::av1, "", 10, {"Main"}, {"video/mp4; codecs=\"av01.0.08M.10\""}}};
    return all;
}
const Family& family(std::string_view id) {
    return *std::find_if(families().begin(), families().end(), [&](const Family& one) { return id == one.id; });
}
// Of each codec, its first family and what comes if that doesn't play, or does with more bits.
struct Kin {
    const char* first;
    std::vector<const char*> lesser;  // tried where it doesn't play at all
    const char* deep;                 // "": none can be made
};
const std::vector<Kin>& kin() {
    static const std::vector<Kin> all = {{"h264", {"h264-main", "h264-baseline"}, ""},
                                         {"h265", {}, "h265-main10"},
                                         {"vp9", {}, "vp9-10bit"},
                                         {"av1", {}, "av1-10bit"}};
    return all;
}

bool is_web(Codec codec) {
    return codec == Codec::vp9 || codec == Codec::av1;
}

// What no clip can be made of: only what the browser says is known.
struct ClaimedAudio {
    Codec codec;
    int channels;
    std::vector<std::string> types;
};
const std::vector<ClaimedAudio>& claimed_audio() {
    static const std::vector<ClaimedAudio> all = {
        {Codec::eac3, 6, {"audio/mp4; codecs=\"ec-3\""}},
        {Codec::dts, 6, {"audio/mp4; codecs=\"dtsc\""}},
        {Codec::truehd, 6, {"audio/mp4; codecs=\"mlpa\""}},
        {Codec::vorbis, 2, {"audio/webm; codecs=\"vorbis\"", "audio/ogg; codecs=\"vorbis\""}}};
    return all;
}
std::vector<std::string> all_types() {
    std::vector<std::string> types;
    for (const Family& one : families()) types.insert(types.end(), one.types.begin(), one.types.end());
    for (const ClaimedAudio& one : claimed_audio()) types.insert(types.end(), one.types.begin(), one.types.end());
    types.emplace_back(kVp8);
    for (const char* one :
         {"video/x-matroska", "video/mp2t", "video/x-msvideo", "video/mpeg", "video/x-flv",
          "application/vnd.apple.mpegurl", "audio/mp4; codecs=\"mp4a.40.2\"", "audio/mp4; codecs=\"ac-3\"",
          "audio/mp4; codecs=\"flac\"", "audio/mp4; codecs=\"opus\"", "audio/mpeg", "audio/wav"})
        types.emplace_back(one);
    return types;
}

// "probably", "maybe", "no"; empty: wasn't asked.
std::string claim(const Course& course, const std::vector<std::string>& types) {
    const Course::Taken* asked = course.find("link/claims");
    if (asked == nullptr || asked->seen.claims.empty()) return "";
    std::string best;
    for (const auto& [type, says] : asked->seen.claims) {
        if (std::find(types.begin(), types.end(), type) == types.end()) continue;
        if (says == "probably" || best.empty() || (says == "maybe" && best == "no")) best = says;
    }
    return best;
}

Step play_step(std::string id, std::string topic, sample::Clip clip) {
    Step step;
    step.id = std::move(id);
    step.topic = std::move(topic);
    step.what = sample::in_words(clip);
    step.clip = std::move(clip);
    return step;
}

// What is asked of the decoder alone.
Step decoder_step(std::string id, std::string topic, sample::Clip clip) {
    Step step = play_step(std::move(id), std::move(topic), std::move(clip));
    step.preload = true;
    return step;
}

// VP9 and AV1 lie in WebM, but for a browser that says it takes them in MP4 alone.
std::string container_for(const Course& course, Codec codec) {
    if (!is_web(codec)) return "mp4";
    const bool vp9 = codec == Codec::vp9;
    const std::string webm = claim(course, {vp9 ? kVp9 : kAv1Webm}), mp4 = claim(course, {vp9 ? kVp9Mp4 : kAv1Mp4});
    return webm == "no" && (mp4 == "probably" || mp4 == "maybe") ? "mp4" : "webm";
}

sample::Clip clip_of(const Course& course, const Family& one, const Rung& rung) {
    sample::Clip clip;
    clip.container = container_for(course, one.codec);
    clip.video = sample::ClipVideo{one.codec, one.profile, rung.size, {rung.rate, 1}, one.depth, false, 0};
    return clip;
}

Step rung_step(const Course& course, const Family& one, int rung) {
    const Rung& of = kRungs[static_cast<std::size_t>(rung)];
    return decoder_step(fmt::format("{}/{}", one.id, of.name), std::string(media::display_name(one.codec)),
                        clip_of(course, one, of));
}

constexpr const char* kAgain = "/again";

// What stuttered is tried twice: the second time counts.
const Course::Taken* last_of(const Course& course, const std::string& id) {
    const Course::Taken* again = course.find(id + kAgain);
    return again != nullptr ? again : course.find(id);
}
const Course::Taken* of_rung(const Course& course, const Family& one, const Rung& rung) {
    return last_of(course, fmt::format("{}/{}", one.id, rung.name));
}

bool was_played(const Course::Taken* taken) {
    return taken != nullptr && taken->judged.outcome == Outcome::played;
}
bool has_stuttered_once(const Course::Taken* taken) {
    return taken != nullptr && taken->judged.outcome == Outcome::stutters && !taken->step.id.ends_with(kAgain);
}
Step again(Step step) {
    step.id += kAgain;
    return step;
}

constexpr const char* kHeard = "question/audio";
std::string question_id(const Course::Taken& taken) {
    return taken.step.clip && !taken.step.clip->video ? kHeard : "question/" + taken.step.id;
}
// Where the browser doesn't tell enough, whoever stands before the device is asked; until then it counts as played,
// since its position went on evenly.
bool counts_as_played(const Course& course, const Course::Taken* taken) {
    if (taken == nullptr || taken->judged.outcome == Outcome::failed || taken->judged.outcome == Outcome::stutters)
        return false;
    if (taken->judged.outcome == Outcome::played) return true;
    const Course::Taken* asked = course.find(question_id(*taken));
    return asked == nullptr || asked->judged.outcome != Outcome::failed;
}
// Seen to play, or said so by whoever stood before it.
bool was_seen(const Course& course, const Course::Taken* taken) {
    return was_played(taken) || (taken != nullptr && was_played(course.find(question_id(*taken))));
}
// The question about something unclear that wasn't asked yet.
std::optional<Step> question_about(const Course& course, const Course::Taken* taken) {
    if (taken == nullptr || taken->judged.outcome != Outcome::unclear) return std::nullopt;
    Step step = taken->step;
    step.id = question_id(*taken);
    if (course.find(step.id) != nullptr) return std::nullopt;
    step.kind = Step::Kind::question;
    const bool audio = !step.clip->video;
    step.question = audio ? "Do you hear beeps?" : "Is the video shown, and does it move smoothly?";
    step.answers = {"Yes", "No"};
    step.what = audio ? "whether beeps are heard" : step.what + ", as seen";
    return step;
}

// The rung below that has fewer pixels and more frames; -1: none.
int faster_below(int rung) {
    const bool slower =
        rung > 0 && kRungs[static_cast<std::size_t>(rung)].rate < kRungs[static_cast<std::size_t>(rung - 1)].rate;
    return slower ? rung - 1 : -1;
}

// Rungs that are tried at all.
int rung_count(const CourseSettings& settings) {
    int count = 0;
    for (const Rung& rung : kRungs) count += rung.size.height <= settings.largest.height ? 1 : 0;
    return std::max(count, 1);
}

struct Ladder {
    int played = -1;           // the highest that plays
    std::optional<Step> next;  // to be tried
};
Ladder ladder(const Course& course, const Family& one, int count) {
    Ladder result;
    int failed = count;
    bool refused = false;
    for (int i = 0; i < count; ++i) {
        const Course::Taken* taken = of_rung(course, one, kRungs[static_cast<std::size_t>(i)]);
        if (taken == nullptr) continue;
        if (counts_as_played(course, taken)) {
            result.played = i;
        } else {
            failed = std::min(failed, i);
            refused = refused || taken->judged.outcome == Outcome::failed;
        }
    }
    // (One that stuttered below one that played was disturbed.)
    failed = failed <= result.played ? count : failed;
    for (int i = count - 1; i > result.played; --i) {
        if (of_rung(course, one, kRungs[static_cast<std::size_t>(i)]) != nullptr) failed = i;
    }
    const auto rung = [&](int at) { result.next = rung_step(course, one, at); };
    if (failed - result.played <= 1) {
        // The end of what plays is looked at twice.
        const Course::Taken* next =
            failed < count ? of_rung(course, one, kRungs[static_cast<std::size_t>(failed)]) : nullptr;
        if (has_stuttered_once(next)) {
            result.next = again(rung_step(course, one, failed));
        } else if (result.played >= 0) {
            result.next = question_about(course, of_rung(course, one, kRungs[static_cast<std::size_t>(result.played)]));
        }
    } else if (failed == count && result.played < 0) {
        rung(claim(course, one.types) == "no" ? 0 : std::min(kFullHd, count - 1));
    } else if (result.played < 0 && refused) {
        rung(0);  // most likely the codec as such
    } else {
        rung(result.played < 0 ? failed / 2 : (result.played + failed) / 2);
    }
    return result;
}

// The family of a codec that plays, and how far.
struct Best {
    const Family* family = nullptr;
    int rung = -1;
};
Best best_of(const Course& course, const Kin& codec) {
    const int count = rung_count(course.settings());
    std::vector<const char*> ids = {codec.first};
    ids.insert(ids.end(), codec.lesser.begin(), codec.lesser.end());
    for (const char* id : ids) {
        const Ladder found = ladder(course, family(id), count);
        if (found.played >= 0) return {&family(id), found.played};
    }
    return {};
}

// What further clips are made of: the first codec that plays.
struct Choice {
    Best best;
    std::string container;
};
std::optional<Choice> choice_of(const Course& course) {
    for (const Kin& codec : kin()) {
        const Best best = best_of(course, codec);
        if (best.family != nullptr) return Choice{best, container_for(course, best.family->codec)};
    }
    return std::nullopt;
}
sample::ClipVideo video_of(const Choice& choice, base::Size size, int rate) {
    return {choice.best.family->codec, choice.best.family->profile, size, {rate, 1}, 8, false, 0};
}
// Without trying codecs there is the one that nearly all play.
Choice choice_or_usual(const Course& course) {
    return choice_of(course).value_or(Choice{{&family("h264"), 1}, "mp4"});
}

std::optional<Codec> best_audio_for(std::string_view container) {
    return container == "webm" || container == "ogg" ? Codec::opus : Codec::aac;
}

bool wanted(const CourseSettings& settings, std::string_view section) {
    return settings.only.empty() ||
           std::find(settings.only.begin(), settings.only.end(), section) != settings.only.end();
}

bool holds(std::string_view container, Codec codec) {
    Track track;
    track.codec = codec;
    return container::why_not_codec(container, track).empty();
}

// A container with the first codec that plays and that it holds; nothing where there is none.
std::optional<Step> container_step(const Course& course, const char* container) {
    sample::Clip clip;
    clip.container = container;
    const std::optional<Choice> any = choice_of(course);
    for (const Kin& codec : kin()) {
        const Best best = any ? best_of(course, codec) : Best{&family(codec.first), 0};
        if (best.family == nullptr || !holds(container, best.family->codec)) continue;
        clip.video = video_of({best, container}, kRungs[0].size, 30);
        break;
    }
    if (!clip.video) return std::nullopt;
    clip.audio = sample::ClipAudio{*best_audio_for(container), 2};
    clip.length = base::from_seconds(3);
    return decoder_step(fmt::format("containers/{}", container), "Containers", std::move(clip));
}

Step hls_step(Step::Delivery delivery) {
    sample::Clip clip;
    clip.container = "mp4";
    clip.video = sample::ClipVideo{Codec::h264, "high", kRungs[0].size, {30, 1}, 8, false, 0};
    clip.audio = sample::ClipAudio{};
    clip.length = base::from_seconds(6);
    clip.fragmented = delivery == Step::Delivery::hls_fmp4;
    const bool parts = clip.fragmented;
    Step step = play_step(parts ? "containers/hls-fmp4" : "containers/hls-ts", "HLS", std::move(clip));
    step.what = parts ? "HLS with fragmented MP4" : "HLS with transport streams";
    step.delivery = delivery;
    return step;
}

struct AudioTrial {
    Codec codec;
    std::vector<const char*> containers;
    bool surround;
};
const std::vector<AudioTrial>& audio_trials() {
    static const std::vector<AudioTrial> all = {{Codec::aac, {"mp4", "adts", "matroska", "mpeg-ts"}, true},
                                                {Codec::mp3, {"mp3", "mp4", "matroska"}, false},
                                                {Codec::ac3, {"mp4", "mpeg-ts", "matroska"}, true},
                                                {Codec::opus, {"webm", "ogg", "mp4", "matroska"}, true},
                                                {Codec::flac, {"flac", "mp4", "ogg", "matroska"}, true},
                                                {Codec::lpcm, {"wav"}, false}};
    return all;
}
std::string audio_id(Codec codec, std::string_view container, int channels) {
    return fmt::format("audio/{}-{}{}", media::short_name(codec), container, channels > 2 ? "-5.1" : "");
}
Step audio_step(Codec codec, const char* container, int channels) {
    sample::Clip clip;
    clip.container = container;
    clip.audio = sample::ClipAudio{codec, channels};
    clip.length = base::from_seconds(2);
    return play_step(audio_id(codec, container, channels), "Audio", std::move(clip));
}
bool holds_video(std::string_view container) {
    return container == "mp4" || container == "matroska" || container == "webm" || container == "mpeg-ts";
}

constexpr std::array kRates = {5, 10, 20, 30, 40, 60, 80, 100};  // Mbit/s
std::string rate_id(int mbps) {
    return fmt::format("bitrate/{}M", mbps);
}

constexpr std::array kBeats = {24, 25, 50, 60};

}  // namespace

struct Course::Section {
    std::string name;
    std::optional<Step> (Course::*next)() const;
    double usual;                  // steps
    std::vector<std::string> ids;  // what its steps' ids begin with
};

const std::vector<Course::Section>& Course::sections() {
    static const std::vector<Section> all = {
        {"link", &Course::link, 3, {"link/"}},
        {"video", &Course::video, 16, {"h264", "h265", "vp9", "av1", "mpeg2", "interlaced"}},
        {"containers", &Course::containers, 6, {"containers/"}},
        {"audio", &Course::audio, 14, {"audio/"}},
        {"bitrate", &Course::bitrate, 3, {"bitrate/"}},
        {"motion", &Course::motion, 4, {"motion/"}},
        {"seeking", &Course::seeking, 1, {"seeking/"}},
        {"sync", &Course::sync, 1, {"sync/"}}};
    return all;
}

const std::vector<std::string>& section_names() {
    static const std::vector<std::string> names = {"link",    "video",  "containers", "audio",
                                                   "bitrate", "motion", "seeking",    "sync"};
    return names;
}

const Course::Taken* Course::find(std::string_view id) const {
    const auto found = std::find_if(taken_.begin(), taken_.end(), [&](const Taken& one) { return one.step.id == id; });
    return found == taken_.end() ? nullptr : &*found;
}

double Course::display_hz() const {
    const Taken* display = find("link/display");
    return display == nullptr ? 0 : display->seen.display_hz;
}

std::optional<Step> Course::next() const {
    for (const Section& section : sections()) {
        // (Display and claims are needed by all others.)
        if (!wanted(settings_, section.name) && section.name != "link") continue;
        if (auto step = (this->*section.next)()) return step;
    }
    return std::nullopt;
}

void Course::take(const Step& step, Seen seen, std::string when) {
    Judged judged = judge(step, seen, display_hz());
    taken_.push_back({step, std::move(seen), std::move(judged), std::move(when)});
}

std::vector<Step> Course::likely() const {
    std::vector<Step> steps;
    const auto first = next();
    if (!first) return steps;
    steps.push_back(*first);
    for (const Outcome result : {Outcome::played, Outcome::failed}) {
        Course copy = *this;
        copy.taken_.push_back({*first, {}, {result, ""}, ""});
        if (auto second = copy.next()) steps.push_back(std::move(*second));
    }
    return steps;
}

double Course::done() const {
    if (!next()) return 1;
    double all = 0, sum = 0;
    bool before = true;
    for (const Section& section : sections()) {
        if (!wanted(settings_, section.name) && section.name != "link") continue;
        all += section.usual;
        const bool finished = before && !(this->*section.next)();
        before = finished;
        const auto taken = static_cast<double>(std::count_if(taken_.begin(), taken_.end(), [&](const Taken& one) {
            return std::any_of(section.ids.begin(), section.ids.end(),
                               [&](const std::string& id) { return one.step.id.starts_with(id); });
        }));
        sum += finished ? section.usual : std::min(taken, section.usual - 0.5);
    }
    return std::clamp(sum / all, 0.0, 0.99);
}

std::optional<Step> Course::link() const {
    Step step;
    step.topic = "Display and connection";
    if (find("link/display") == nullptr) {
        step.id = "link/display";
        step.kind = Step::Kind::display;
        step.what = "display size and refresh rate";
        return step;
    }
    if (find("link/claims") == nullptr) {
        step.id = "link/claims";
        step.kind = Step::Kind::claims;
        step.what = "what it says it plays";
        step.types = all_types();
        return step;
    }
    if (find("link/download") == nullptr && wanted(settings_, "link")) {
        step.id = "link/download";
        step.kind = Step::Kind::download;
        step.what = "speed of the connection";
        return step;
    }
    return std::nullopt;
}

std::optional<Step> Course::video() const {
    const int count = rung_count(settings_);
    for (const Kin& codec : kin()) {
        const Ladder first = ladder(*this, family(codec.first), count);
        if (first.next) return *first.next;
        if (first.played < 0) {
            for (const char* id : codec.lesser) {
                // Who needs these is old: the small ones are enough.
                const Ladder lesser = ladder(*this, family(id), std::min(count, kFullHd + 1));
                if (lesser.next) return *lesser.next;
                if (lesser.played >= 0) break;
            }
            continue;
        }
        // What is larger may be slower: the faster of the sizes below is tried for itself.
        if (const int below = faster_below(first.played); below >= 0) {
            const Taken* fast = of_rung(*this, family(codec.first), kRungs[static_cast<std::size_t>(below)]);
            if (fast == nullptr) return rung_step(*this, family(codec.first), below);
            if (has_stuttered_once(fast)) return again(rung_step(*this, family(codec.first), below));
        }
        if (*codec.deep == 0) continue;
        // With more bits as far as with 8, or at least in full HD.
        const Family& deep = family(codec.deep);
        const Taken* large = of_rung(*this, deep, kRungs[static_cast<std::size_t>(first.played)]);
        if (large == nullptr) return rung_step(*this, deep, first.played);
        if (has_stuttered_once(large)) return again(rung_step(*this, deep, first.played));
        if (!counts_as_played(*this, large) && first.played > kFullHd &&
            of_rung(*this, deep, kRungs[kFullHd]) == nullptr)
            return rung_step(*this, deep, kFullHd);
    }
    if (find("mpeg2/480p") == nullptr) {
        sample::Clip clip;
        clip.container = "mpeg-ts";
        clip.video = sample::ClipVideo{Codec::mpeg2, "", {720, 480}, {30000, 1001}, 8, false, 0};
        return decoder_step("mpeg2/480p", "MPEG-2", std::move(clip));
    }
    const Best h264 = best_of(*this, kin().front());
    if (h264.family != nullptr && h264.rung >= kFullHd && find("interlaced/1080") == nullptr) {
        sample::Clip clip;
        clip.video = sample::ClipVideo{Codec::h264, h264.family->profile, {1920, 1080}, {25, 1}, 8, true, 0};
        return decoder_step("interlaced/1080", "Interlaced video", std::move(clip));
    }
    return std::nullopt;
}

std::optional<Step> Course::containers() const {
    for (const char* container : {"mp4", "matroska", "webm", "mpeg-ts", "flv"}) {
        const auto step = container_step(*this, container);
        if (step && find(step->id) == nullptr) return step;
    }
    for (const Step::Delivery delivery : {Step::Delivery::hls_ts, Step::Delivery::hls_fmp4}) {
        Step step = hls_step(delivery);
        if (find(step.id) == nullptr) return step;
    }
    return std::nullopt;
}

std::optional<Step> Course::audio() const {
    for (const AudioTrial& trial : audio_trials()) {
        const char* plays_in = nullptr;
        for (const char* container : trial.containers) {
            // A container known not to be read isn't tried again.
            const Taken* read = find(fmt::format("containers/{}", container));
            if (holds_video(container) && read != nullptr && !counts_as_played(*this, read)) continue;
            const Taken* taken = find(audio_id(trial.codec, container, 2));
            if (taken == nullptr) return audio_step(trial.codec, container, 2);
            if (counts_as_played(*this, taken) && plays_in == nullptr) plays_in = container;
        }
        if (trial.surround && plays_in != nullptr && find(audio_id(trial.codec, plays_in, 6)) == nullptr)
            return audio_step(trial.codec, plays_in, 6);
    }
    for (const Taken& one : taken_) {
        if (!one.step.id.starts_with("audio/")) continue;
        if (auto question = question_about(*this, &one)) return question;
    }
    return std::nullopt;
}

std::optional<Step> Course::bitrate() const {
    const Choice choice = choice_or_usual(*this);
    const Rung& rung = kRungs[static_cast<std::size_t>(std::min(choice.best.rung, kFullHd))];
    // More than the connection carries says nothing of the device.
    double most = 1e12;
    if (const Taken* download = find("link/download")) {
        if (const auto speed = download_speed(download->seen)) most = speed->mean_bps * 0.8;
    }
    int played = -1, failed = static_cast<int>(kRates.size());
    while (failed > 1 && kRates[static_cast<std::size_t>(failed - 1)] * 1e6 > most) --failed;
    for (int i = 0; i < static_cast<int>(kRates.size()); ++i) {
        const Taken* taken = last_of(*this, rate_id(kRates[static_cast<std::size_t>(i)]));
        if (taken == nullptr) continue;
        if (counts_as_played(*this, taken)) {
            played = i;
        } else {
            failed = std::min(failed, i);
        }
    }
    const Taken* edge = failed < static_cast<int>(kRates.size())
                            ? last_of(*this, rate_id(kRates[static_cast<std::size_t>(failed)]))
                            : nullptr;
    if (failed - played <= 1) return has_stuttered_once(edge) ? std::optional(again(edge->step)) : std::nullopt;
    const int at = played < 0 && failed == static_cast<int>(kRates.size()) ? 2 : (played + failed) / 2;
    const int mbps = kRates[static_cast<std::size_t>(at)];
    sample::Clip clip;
    clip.container = choice.container;
    clip.video = video_of(choice, rung.size, 30);
    clip.video->bitrate_bps = mbps * 1'000'000LL;
    return play_step(rate_id(mbps), "Bit rate", std::move(clip));
}

std::optional<Step> Course::motion() const {
    const Choice choice = choice_or_usual(*this);
    for (const int rate : kBeats) {
        if (rate > 30 && choice.best.rung < 2) continue;
        sample::Clip clip;
        clip.container = choice.container;
        clip.video = video_of(choice, kRungs[static_cast<std::size_t>(std::min(choice.best.rung, 1))].size, rate);
        Step step = decoder_step(fmt::format("motion/{}", rate), "Motion", std::move(clip));
        step.kind = Step::Kind::motion;
        step.what = fmt::format("even motion at {} fps", rate);
        if (find(step.id) == nullptr) return step;
    }
    return std::nullopt;
}

std::optional<Step> Course::seeking() const {
    if (find("seeking/file") != nullptr) return std::nullopt;
    const Choice choice = choice_or_usual(*this);
    sample::Clip clip;
    clip.container = choice.container;
    clip.video = video_of(choice, kRungs[0].size, 25);
    clip.length = base::from_seconds(30);
    Step step = play_step("seeking/file", "Seeking", std::move(clip));
    step.kind = Step::Kind::seek;
    step.what = "seeking in a file";
    step.positions = {20, 5, 26, 12};
    return step;
}

std::optional<Step> Course::sync() const {
    if (find("sync/file") != nullptr) return std::nullopt;
    const Choice choice = choice_or_usual(*this);
    sample::Clip clip;
    clip.container = choice.container;
    clip.video = video_of(choice, kRungs[0].size, 30);
    clip.audio = sample::ClipAudio{*best_audio_for(choice.container), 2};
    clip.length = base::from_seconds(8);
    Step step = decoder_step("sync/file", "Audio and video", std::move(clip));
    step.kind = Step::Kind::sync;
    step.what = "audio and video together";
    return step;
}

std::vector<std::string> Course::summary() const {
    std::vector<std::string> lines;
    const auto seen = [&](const char* topic, const char* id) {
        if (const Taken* taken = find(id)) lines.push_back(fmt::format("{}: {}", topic, taken->judged.seen));
    };
    seen("Display", "link/display");
    seen("Connection", "link/download");
    if (wanted(settings_, "video")) {
        for (const Kin& codec : kin()) {
            const Best best = best_of(*this, codec);
            const std::string_view name = media::display_name(family(codec.first).codec);
            if (best.family == nullptr) {
                lines.push_back(fmt::format("{}: not played", name));
                continue;
            }
            const Rung& rung = kRungs[static_cast<std::size_t>(best.rung)];
            std::string line = fmt::format("{}: {}x{} at {} fps", name, rung.size.width, rung.size.height, rung.rate);
            for (const Rung& one : kRungs) {
                if (*codec.deep != 0 && counts_as_played(*this, of_rung(*this, family(codec.deep), one)))
                    line += fmt::format(", 10 bits up to {}", one.name);
            }
            lines.push_back(std::move(line));
        }
    }
    std::vector<std::string> audio, containers;
    for (const Taken& one : taken_) {
        if (!counts_as_played(*this, &one)) continue;
        if (one.step.id.starts_with("audio/")) {
            const std::string name = fmt::format("{}{}", media::display_name(one.step.clip->audio->codec),
                                                 one.step.clip->audio->channels > 2 ? " 5.1" : "");
            if (std::find(audio.begin(), audio.end(), name) == audio.end()) audio.push_back(name);
        }
        if (one.step.id.starts_with("containers/"))
            containers.push_back(one.step.delivery == Step::Delivery::file ? one.step.clip->container : one.step.what);
    }
    if (wanted(settings_, "audio"))
        lines.push_back(fmt::format("Audio: {}", audio.empty() ? "none" : fmt::format("{}", fmt::join(audio, ", "))));
    if (wanted(settings_, "containers"))
        lines.push_back(fmt::format("Containers: {}",
                                    containers.empty() ? "none" : fmt::format("{}", fmt::join(containers, ", "))));
    int most = 0;
    for (const int rate : kRates) most = counts_as_played(*this, last_of(*this, rate_id(rate))) ? rate : most;
    if (most > 0) lines.push_back(fmt::format("Bit rate: plays {} Mbit/s", most));
    for (const int rate : kBeats) {
        if (const Taken* taken = find(fmt::format("motion/{}", rate)))
            lines.push_back(fmt::format("Motion at {} fps: {}", rate, taken->judged.seen));
    }
    seen("Seeking", "seeking/file");
    seen("Audio and video", "sync/file");
    return lines;
}

namespace {

// `fast`: a rung of its own beside the first, that plays too; -1: none.
void add_video(device::Device& device, const Family& one, int rung, int fast, bool interlaced, bool hdr,
               const std::string& basis) {
    device::VideoAbility ability;
    ability.codec = one.codec;
    ability.profiles = one.profiles;
    ability.scans = {Scan::progressive};
    if (interlaced) ability.scans.push_back(Scan::interlaced);
    ability.bit_depth = one.depth;
    ability.basis = basis;
    if (hdr && one.depth > 8) ability.hdr = {"hdr10", "hlg"};
    for (const int at : {rung, fast}) {
        if (at < 0) continue;
        const Rung& shown = kRungs[static_cast<std::size_t>(at)];
        ability.level = shown.level(one.codec);
        ability.largest = shown.size;
        ability.max_fps = shown.rate;
        device.video.push_back(ability);
    }
}

}  // namespace

// When its last step was taken.
std::string Course::tested_at() const {
    return taken_.empty() ? "" : taken_.back().when;
}

device::Device Course::description(const std::string& name, const device::Device& like) const {
    device::Device device;
    device.name = name;
    device.playing = like.playing;
    device.subtitles = like.subtitles;
    device.protocols = {"http"};
    if (device::takes(like, "https")) device.protocols.emplace_back("https");
    const bool hls_played =
        counts_as_played(*this, find("containers/hls-ts")) || counts_as_played(*this, find("containers/hls-fmp4"));
    if (hls_played || (!wanted(settings_, "containers") && device::takes(like, "hls")))
        device.protocols.emplace_back("hls");
    if (device::takes(like, "dash")) device.protocols.emplace_back("dash");
    for (const Taken& one : taken_) {
        if (counts_as_played(*this, &one) && one.step.clip && one.step.kind == Step::Kind::play &&
            one.step.delivery == Step::Delivery::file && !device::reads(device, one.step.clip->container))
            device.containers.push_back(one.step.clip->container);
    }
    add_tried_video(device, like);
    add_claimed_video(device, like);
    add_tried_audio(device);
    add_claimed_audio(device, like);
    take_over_untested(device, like);
    device.highest_bps = highest_rate(like);
    for (const Taken& one : taken_) {
        device::Tried tried;
        tried.what = one.step.what;
        tried.says = claim_text(one.seen);
        tried.result = std::string(short_name(one.judged.outcome));
        tried.seen = one.judged.seen;
        tried.when = one.when;
        device.tried.push_back(std::move(tried));
    }
    return device;
}

void Course::add_tried_video(device::Device& device, const device::Device& like) const {
    const std::string when = tested_at();
    bool hdr = false;
    if (const Taken* display = find("link/display")) hdr = display->seen.display_hdr;
    for (const Kin& codec : kin()) {
        const Best best = best_of(*this, codec);
        if (best.family == nullptr) continue;
        const bool interlaced = codec.first == std::string_view("h264") && was_played(find("interlaced/1080"));
        int deep = -1;
        if (*codec.deep != 0) {
            for (int i = 0; i <= best.rung; ++i) {
                if (counts_as_played(*this, of_rung(*this, family(codec.deep), kRungs[static_cast<std::size_t>(i)])))
                    deep = i;
            }
        }
        const bool is_shown =
            was_seen(*this, of_rung(*this, *best.family, kRungs[static_cast<std::size_t>(best.rung)]));
        const std::string basis = is_shown ? "played " + when : "no error " + when + ", but its frames weren't seen";
        int fast = faster_below(best.rung);
        if (fast >= 0 && !counts_as_played(*this, of_rung(*this, *best.family, kRungs[static_cast<std::size_t>(fast)])))
            fast = -1;
        // With more bits, too, what has fewer pixels and as many frames as with 8 is no harder.
        const bool alike = deep == best.rung;
        if (deep >= 0) add_video(device, family(codec.deep), deep, alike ? fast : -1, interlaced, hdr, basis);
        if (!alike) add_video(device, *best.family, best.rung, fast, interlaced, hdr, basis);
        if (best.rung == rung_count(settings_) - 1) add_untried_sizes(device, like, best.family->codec, deep >= 0);
    }
    if (!counts_as_played(*this, find("mpeg2/480p"))) return;
    device::VideoAbility ability;
    ability.codec = Codec::mpeg2;
    ability.profiles = {"Simple", "Main"};
    ability.largest = {720, 576};
    ability.max_fps = 30;
    ability.scans = {Scan::progressive};
    ability.basis = "played " + when;
    device.video.push_back(std::move(ability));
}

void Course::add_claimed_video(device::Device& device, const device::Device& like) const {
    if (claim(*this, {kVp8}) != "probably" || device.video.empty()) return;
    const auto known = std::find_if(like.video.begin(), like.video.end(),
                                    [](const device::VideoAbility& one) { return one.codec == Codec::vp8; });
    device::VideoAbility ability;
    ability.codec = Codec::vp8;
    ability.largest = {1280, 720};
    ability.max_fps = 30;
    ability.scans = {Scan::progressive};
    if (known != like.video.end()) ability = *known;
    ability.basis = "claimed by its browser " + tested_at() + ", not tried";
    device.video.push_back(std::move(ability));
}

void Course::add_tried_audio(device::Device& device) const {
    for (const AudioTrial& trial : audio_trials()) {
        device::AudioAbility ability;
        ability.codec = trial.codec;
        ability.channels = 0;
        bool is_heard = false;
        for (const char* container : trial.containers) {
            const Taken* taken = find(audio_id(trial.codec, container, 2));
            if (taken == nullptr || !counts_as_played(*this, taken)) continue;
            ability.containers.emplace_back(container);
            is_heard = is_heard || was_seen(*this, taken);
            ability.channels = std::max(ability.channels, 2);
            if (counts_as_played(*this, find(audio_id(trial.codec, container, 6)))) ability.channels = 6;
        }
        if (ability.channels == 0) continue;
        const bool everywhere = std::all_of(
            device.containers.begin(), device.containers.end(),
            [&](const std::string& container) { return !holds(container, trial.codec) || ability.is_in(container); });
        if (everywhere) ability.containers.clear();
        ability.basis = is_heard ? "played " + tested_at() : "no error " + tested_at() + ", but nobody heard it";
        device.audio.push_back(std::move(ability));
    }
}

void Course::add_claimed_audio(device::Device& device, const device::Device& like) const {
    for (const ClaimedAudio& one : claimed_audio()) {
        if (claim(*this, one.types) != "probably") continue;
        const auto known = std::find_if(like.audio.begin(), like.audio.end(),
                                        [&](const device::AudioAbility& other) { return other.codec == one.codec; });
        device::AudioAbility ability;
        ability.codec = one.codec;
        ability.channels = known != like.audio.end() ? known->channels : one.channels;
        ability.basis = "claimed by its browser " + tested_at() + ", not tried";
        device.audio.push_back(std::move(ability));
    }
}

// A rate that it didn't play limits it; where its connection was the limit, that says nothing of the device.
std::int64_t Course::highest_rate(const device::Device& like) const {
    constexpr std::int64_t kOtherClips = 4;  // Mbit/s, about what the clips of the codecs need
    std::int64_t most = 0;
    bool is_limited = false;
    for (const int rate : kRates) {
        const Taken* taken = last_of(*this, rate_id(rate));
        if (taken == nullptr) continue;
        const bool plays = counts_as_played(*this, taken);
        most = plays ? rate : most;
        is_limited = is_limited || !plays;
    }
    if (is_limited) return (most > 0 ? most : kOtherClips) * 1'000'000;
    return like.highest_bps == 0 ? 0 : std::max<std::int64_t>(most * 1'000'000, like.highest_bps);
}

// Where the largest size that was to be tried plays, those above it stay as they were assumed.
void Course::add_untried_sizes(device::Device& device, const device::Device& like, Codec codec, bool is_deep) const {
    for (const device::VideoAbility& one : like.video) {
        const bool larger = one.largest.height > settings_.largest.height;
        if (one.codec != codec || !larger || (one.bit_depth > 8 && !is_deep)) continue;
        device.video.push_back(one);
        device.video.back().basis = fmt::format("assumed, as {}: above {}x{} nothing was tried", like.name,
                                                settings_.largest.width, settings_.largest.height);
    }
}

void Course::take_over_untested(device::Device& device, const device::Device& like) const {
    const std::string assumed = "assumed, as " + like.name;
    if (!wanted(settings_, "video")) device.video = like.video;
    if (!wanted(settings_, "audio")) device.audio = like.audio;
    if (!wanted(settings_, "containers")) {
        for (const std::string& container : like.containers) {
            if (!device::reads(device, container)) device.containers.push_back(container);
        }
    }
    for (device::VideoAbility& one : device.video) {
        if (one.basis.empty()) one.basis = assumed;
    }
    for (device::AudioAbility& one : device.audio) {
        if (one.basis.empty()) one.basis = assumed;
    }
}

std::vector<sample::Clip> usual_clips(const CourseSettings& settings) {
    std::vector<sample::Clip> clips;
    const auto add = [&](const std::optional<sample::Clip>& clip) {
        if (clip && std::find(clips.begin(), clips.end(), *clip) == clips.end()) clips.push_back(*clip);
    };
    // A device that plays everything, and one that plays little: between them lies what others are asked for.
    for (const bool able : {true, false}) {
        Course course(settings);
        while (const auto step = course.next()) {
            add(step->clip);
            Seen seen;
            if (step->kind == Step::Kind::play && step->clip) {
                const bool small =
                    step->clip->video && step->clip->video->size.height <= 720 && step->clip->video->bit_depth == 8;
                if (!able && !small) {
                    seen.error = "too large";
                } else {
                    seen.started = true;
                    seen.played_s = seen.wall_s = base::to_seconds(step->clip->length);
                    seen.width = seen.height = 1;
                    seen.levels = std::vector<double>(6, 0.1);
                    seen.frames = 1000, seen.dropped = 0;
                }
            }
            course.take(*step, std::move(seen), "");
        }
    }
    return clips;
}

}  // namespace wavecrest::trial
