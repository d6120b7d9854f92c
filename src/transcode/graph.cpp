#include "transcode/graph.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <chrono>
#include <cstring>
#include <deque>
#include <map>
#include <set>
#include <thread>

#include "base/mutex.hpp"
#include "base/queue.hpp"
#include "codec/audio_decoder.hpp"
#include "codec/subtitle_decoder.hpp"
#include "codec/video_decoder.hpp"
#include "container/interleave.hpp"
#include "filter/audio_timeline.hpp"
#include "filter/constant_rate.hpp"
#include "filter/depth.hpp"
#include "filter/fit.hpp"
#include "filter/limiter.hpp"
#include "filter/night.hpp"
#include "filter/overlay.hpp"
#include "filter/remix.hpp"
#include "filter/resample.hpp"
#include "filter/tone_map.hpp"

namespace wavecrest::transcode {
namespace {

// Subtitles may lie behind the pictures they belong to by what a decoder buffers: pictures wait that long for them.
const Time kSubtitleLead = base::from_seconds(2);

// Audio at another rate goes on as long as its times fit what came before to this.
const Time kLongestStep = std::chrono::milliseconds(20);

// Samples stay below; between them true peaks are up to half a decibel higher, which must not pass -1 dBTP.
constexpr float kFullScale = 0.999f, kLoudnessCeiling = 0.8413951f;  // -1.5 dBFS

// How often what is cropped is looked at.
constexpr std::int64_t kBordersEvery = 12;

// Packets are small, pictures large: a second or two of the former, a handful of the latter. Audio must not hold the
// reader up while pictures are waited for: its queue takes what comes with the pictures in flight.
constexpr std::size_t kVideoPackets = 48, kFewVideoPackets = 4, kAudioPackets = 4096;

// Pictures that wait between two stages: six, fewer where they are so large that two keep both busy.
std::size_t queued_pictures(int width, int height, int bit_depth) {
    constexpr std::size_t kMost = 6, kFewest = 2, kBytes = 40'000'000;
    const auto bytes = static_cast<std::size_t>(width) * static_cast<std::size_t>(height) * 3 / (bit_depth > 8 ? 1 : 2);
    return std::clamp(kBytes / std::max<std::size_t>(bytes, 1), kFewest, kMost);
}

// What the stages of an output write to, in the order of decoding times. A track with nothing to give (audio that is
// missing on the disc) holds the others up for a while, then no more: what waits stays small, and players can read any
// order.
class SharedInterleaver {
  public:
    SharedInterleaver(PacketSink& sink, const std::vector<Track>& tracks)
        : inner_(sink, tracks, Time{}), unfinished_(tracks.size()) {}

    Status add(Packet packet) {
        const base::MutexLock lock(mutex_);
        return inner_.write(std::move(packet));
    }
    // The last of a track, which its encoder gives when the source has ended. They are put in place when all tracks
    // have ended: of audio that ends early they belong long before, and where they come to lie must not hang on which
    // stage was quicker (the same source gives the same bytes).
    Status finish(TrackId track, std::vector<Packet> last) {
        const base::MutexLock lock(mutex_);
        last_[track] = std::move(last);
        if (last_.size() < unfinished_) return {};
        for (auto& [id, packets] : last_) {
            for (Packet& packet : packets) WAVECREST_TRY(inner_.write(std::move(packet)));
        }
        for (const auto& [id, packets] : last_) WAVECREST_TRY(inner_.end(id));
        return {};
    }

  private:
    base::Mutex mutex_;
    container::Interleaver inner_ GUARDED_BY(mutex_);
    std::size_t unfinished_;  // tracks
    std::map<TrackId, std::vector<Packet>> last_ GUARDED_BY(mutex_);
};

struct Output {
    std::vector<Track> tracks;
    std::unique_ptr<PacketSink> sink;
    std::unique_ptr<SharedInterleaver> interleaver;
};

// A track's place in each output that has it. Written by one stage.
class Fan {
  public:
    void add(Output& output, TrackId id) { places_.push_back({&output, id}); }
    Status give(const Packet& packet) {
        for (const Place& place : places_) {
            Packet own = packet;
            own.track = place.id;
            WAVECREST_TRY(place.output->interleaver->add(std::move(own)));
        }
        return {};
    }
    Status finish(const std::vector<Packet>& last) {
        for (const Place& place : places_) {
            std::vector<Packet> own = last;
            for (Packet& packet : own) packet.track = place.id;
            WAVECREST_TRY(place.output->interleaver->finish(place.id, std::move(own)));
        }
        return {};
    }

  private:
    struct Place {
        Output* output;
        TrackId id;
    };
    std::vector<Place> places_;
};

// The part before a cut.
void drop_before_start(AudioFrames& audio) {
    if (audio.pts >= Time{}) return;
    const auto drop = std::min(static_cast<std::size_t>(base::to_ticks(-audio.pts, audio.sample_rate)), audio.frames());
    audio.samples.erase(
        audio.samples.begin(),
        audio.samples.begin() + static_cast<std::ptrdiff_t>(drop * static_cast<std::size_t>(audio.channels)));
    audio.pts += base::from_ticks(static_cast<std::int64_t>(drop), audio.sample_rate);
}

// One encode of audio, behind the decoder it may share with others: mixed, resampled, without gaps, within full scale.
class AudioEncodeStage {
  public:
    AudioEncodeStage(const AudioEncode& settings, std::unique_ptr<media::AudioEncoder> encoder)
        : settings_(settings),
          encoder_(std::move(encoder)),
          limiter_(settings.encode.sample_rate, media::speaker_count(settings.encode.speakers),
                   settings.loudness ? kLoudnessCeiling : kFullScale),
          timeline_([this](const AudioFrames& audio) {
              limiter_.push(audio, limited_);
              return encode();
          }) {}
    AudioEncodeStage(const AudioEncodeStage&) = delete;
    AudioEncodeStage& operator=(const AudioEncodeStage&) = delete;

    Track track() const {
        Track track = encoder_->track();
        track.language = settings_.from.language;
        track.purpose = settings_.from.purpose;
        track.name = settings_.from.name;
        return track;
    }
    Fan& fan() { return fan_; }
    std::int64_t frames() const { return frames_; }
    std::optional<Time> first() const { return first_; }
    Time end() const { return end_; }

    Status push(AudioFrames audio) {
        const int rate = settings_.encode.sample_rate;
        if (audio.sample_rate <= 0 || audio.channels <= 0) return {};
        filter::remix(audio, settings_.encode.speakers);
        if (settings_.night) {
            if (!night_ || night_rate_ != audio.sample_rate) night_.emplace(audio.sample_rate);
            night_rate_ = audio.sample_rate;
            night_->apply(audio);
        }
        if (settings_.gain != 1) {
            for (float& sample : audio.samples) sample *= settings_.gain;
        }
        const bool goes_on = resampler_ && audio.sample_rate == resampler_->from_rate() &&
                             std::chrono::abs(audio.pts - resampler_->end()) < kLongestStep;
        if (!goes_on) WAVECREST_TRY(end_resampling());
        if (audio.sample_rate == rate) return take(std::move(audio));
        if (!resampler_) {
            WAVECREST_TRY_ASSIGN(made, filter::Resampler::create(audio.sample_rate, rate, audio.channels));
            resampler_ = std::move(made);
        }
        std::vector<AudioFrames> resampled;
        resampler_->push(audio, resampled);
        for (AudioFrames& piece : resampled) WAVECREST_TRY(take(std::move(piece)));
        return {};
    }
    Status finish() {
        finishing_ = true;
        WAVECREST_TRY(end_resampling());
        WAVECREST_TRY(timeline_.flush());
        limiter_.flush(limited_);
        WAVECREST_TRY(encode());
        WAVECREST_TRY(encoder_->flush(packets_));
        return fan_.finish(packets_);
    }

  private:
    Status take(AudioFrames audio) {
        if (audio.channels != media::speaker_count(settings_.encode.speakers)) return {};
        drop_before_start(audio);
        if (audio.samples.empty()) return {};
        frames_ += static_cast<std::int64_t>(audio.frames());
        if (!first_) first_ = audio.pts;
        end_ = audio.pts + base::from_ticks(static_cast<std::int64_t>(audio.frames()), audio.sample_rate);
        return timeline_.push(std::move(audio));
    }
    Status end_resampling() {
        std::vector<AudioFrames> rest;
        if (resampler_) resampler_->flush(rest);
        resampler_.reset();
        for (AudioFrames& audio : rest) WAVECREST_TRY(take(std::move(audio)));
        return {};
    }
    Status encode() {
        for (const AudioFrames& audio : limited_) WAVECREST_TRY(encoder_->encode(audio, packets_));
        limited_.clear();
        if (finishing_) return {};
        for (const Packet& packet : packets_) WAVECREST_TRY(fan_.give(packet));
        packets_.clear();
        return {};
    }

    const AudioEncode& settings_;
    std::unique_ptr<media::AudioEncoder> encoder_;
    Fan fan_;
    std::unique_ptr<filter::Resampler> resampler_;  // while the source has another rate
    std::optional<filter::NightRange> night_;
    int night_rate_ = 0;
    filter::Limiter limiter_;
    std::vector<AudioFrames> limited_;
    std::vector<Packet> packets_;  // while it finishes, all that is left
    bool finishing_ = false;
    filter::AudioTimeline timeline_;
    std::int64_t frames_ = 0;
    std::optional<Time> first_;
    Time end_{};
};

// One track of audio that is decoded, with the encodes made of it.
struct AudioTrackStage {
    Track from;
    std::vector<AudioEncodeStage*> encodes;
    base::BoundedQueue<Packet> packets{kAudioPackets};
};

// One encode of video: scaled and made another depth, where it has another, and encoded, each by a thread of its own.
struct VideoEncodeStage {
    // Pictures that may wait in front of the scaler, and behind it.
    VideoEncodeStage(std::size_t before, std::size_t behind) : filtered(before), scaled(behind), ready(behind) {}

    const VideoEncode* settings = nullptr;
    std::unique_ptr<media::VideoEncoder> encoder;
    std::unique_ptr<filter::Fitter> fitter;
    bool scales = false;  // by a thread of its own, since all pictures are
    std::unique_ptr<filter::ToneMapper> tone_mapper;
    bool changes_depth = false;
    base::BoundedQueue<Picture> filtered, scaled, ready;
    Fan fan;
    // Written by the encoding thread alone, and read when it has ended.
    std::int64_t pictures = 0;
    Time first{}, end{};

    bool changes_samples() const { return tone_mapper || changes_depth; }
    base::BoundedQueue<Picture>& input() { return scales ? filtered : behind_scaler(); }
    base::BoundedQueue<Picture>& behind_scaler() { return changes_samples() ? scaled : ready; }
};

// A chain of filters with the encodes behind it.
struct VideoChainStage {
    explicit VideoChainStage(std::size_t pictures) : decoded(pictures) {}

    const VideoChain* settings = nullptr;
    ColourDescription colour;   // of the pictures that go through
    int width = 0, height = 0;  // of them as they are decoded
    std::vector<VideoEncodeStage*> encodes;
    base::BoundedQueue<Picture> decoded;

    // Subtitles come from the reading thread, ahead of their pictures.
    struct SubtitleTrack {
        std::unique_ptr<media::SubtitleDecoder> decoder;  // the reading thread's
        bool forced_only = false;
        std::deque<Overlay> coming;
        Overlay showing;
    };
    base::Mutex mutex;
    std::map<TrackId, SubtitleTrack> subtitles;  // complete before the stages start; coming and showing under `mutex`
    int shown = 0;                               // images burned in; the filtering thread's
    std::int64_t cropped = 0;                    // pictures; likewise
    std::optional<Problem> cut_off;              // what of the picture was lost by it; likewise

    void take_subtitle(const Packet& packet) {
        const auto found = subtitles.find(packet.track);
        if (found == subtitles.end()) return;
        SubtitleTrack& track = found->second;
        std::vector<Overlay> images;
        track.decoder->decode(packet, images);
        const base::MutexLock lock(mutex);
        for (Overlay& overlay : images) {
            // What is not forced is not drawn, yet it ends what was drawn before.
            if (track.forced_only && !overlay.forced) overlay.regions.clear();
            if (media::is_hdr(colour)) filter::to_hdr(overlay, colour);
            filter::move_inside(overlay, settings->crop, width, height);
            track.coming.push_back(std::move(overlay));
        }
        std::stable_sort(track.coming.begin(), track.coming.end(),
                         [](const Overlay& a, const Overlay& b) { return a.pts < b.pts; });
    }

    void burn_in(Picture& picture) {
        const base::MutexLock lock(mutex);
        bool any = false;
        for (auto& [id, track] : subtitles) {
            while (!track.coming.empty() && track.coming.front().pts <= picture.pts) {
                track.showing = std::move(track.coming.front());
                track.coming.pop_front();
                shown += track.showing.regions.empty() ? 0 : 1;
            }
            any = any || !track.showing.regions.empty();
        }
        if (!any) return;
        // The decoder's samples may be shared: the overlay goes onto a copy.
        Picture own = picture.allocate_alike(picture.width, picture.height);
        for (int plane = 0; plane < 3; ++plane) {
            for (int y = 0; y < picture.plane_height(plane); ++y)
                std::memcpy(own.row<std::uint8_t>(plane, y), picture.row<std::uint8_t>(plane, y),
                            picture.row_bytes(plane));
        }
        for (const auto& [id, track] : subtitles) filter::lay_over(own, track.showing);
        picture = std::move(own);
    }
};

Result<std::unique_ptr<media::VideoEncoder>> make_encoder(const VideoEncode& one) {
    return one.pieces ? make_piecewise_encoder(one.encode, *one.pieces) : codec::make_video_encoder(one.encode);
}

class Graph {
  public:
    Graph(PacketSource& source, const GraphSettings& settings, const Progress& progress, const Cancel& cancel)
        : source_(source), settings_(settings), progress_(progress), cancel_(cancel) {}

    Result<GraphResult> run(const SinkMaker& make_sink) {
        WAVECREST_TRY(make_stages());
        WAVECREST_TRY(make_outputs(make_sink));
        {
            std::vector<std::jthread> stages;
            if (settings_.video) stages.emplace_back([&] { guard(decode_stage()); });
            for (const auto& chain : chains_)
                stages.emplace_back([&, stage = chain.get()] { guard(filter_stage(*stage)); });
            for (const auto& encode : video_) {
                if (encode->scales) stages.emplace_back([&, stage = encode.get()] { guard(scale_stage(*stage)); });
                if (encode->changes_samples())
                    stages.emplace_back([&, stage = encode.get()] { guard(sample_stage(*stage)); });
                stages.emplace_back([&, stage = encode.get()] { guard(encode_stage(*stage)); });
            }
            for (const auto& track : audio_tracks_)
                stages.emplace_back([&, stage = track.get()] { guard(audio_stage(*stage)); });
            guard(read_stage());
        }
        if (cancel_.requested()) return base::interrupted();
        if (const base::MutexLock lock(mutex_); error_) return fail(std::move(*error_));
        WAVECREST_TRY(add_up());
        if (settings_.accept) WAVECREST_TRY(settings_.accept(result_));
        for (const auto& output : outputs_) WAVECREST_TRY(output->sink->finish());
        return std::move(result_);
    }

  private:
    Status make_stages() {
        for (const VideoChain& chain : settings_.chains) {
            const Track& from = *settings_.video;
            auto stage = std::make_unique<VideoChainStage>(queued_pictures(from.width, from.height, from.bit_depth));
            stage->settings = &chain;
            stage->colour = from.colour;
            stage->width = from.width;
            stage->height = from.height;
            for (const VideoChain::Subtitles& one : chain.subtitles) {
                auto& track = stage->subtitles[one.from.id];
                WAVECREST_TRY_ASSIGN(decoder, codec::make_subtitle_decoder(one.from, from));
                track.decoder = std::move(decoder);
                track.forced_only = one.forced_only;
            }
            chains_.push_back(std::move(stage));
        }
        for (const VideoEncode& one : settings_.video_encodes) {
            const Track& from = *settings_.video;
            const filter::Borders& crop = settings_.chains.at(one.chain).crop;
            const int width = from.width - crop.left - crop.right, height = from.height - crop.top - crop.bottom;
            auto stage = std::make_unique<VideoEncodeStage>(
                queued_pictures(width, height, from.bit_depth),
                queued_pictures(one.encode.width, one.encode.height, from.bit_depth));
            stage->settings = &one;
            WAVECREST_TRY_ASSIGN(encoder, make_encoder(one));
            stage->encoder = std::move(encoder);
            stage->scales = one.encode.width != width || one.encode.height != height;
            stage->fitter = std::make_unique<filter::Fitter>(
                base::Size{width, height}, base::Size{one.encode.width, one.encode.height}, one.encode.pixel_aspect);
            if (one.to_sdr) {
                stage->tone_mapper = std::make_unique<filter::ToneMapper>(from);
            } else {
                stage->changes_depth = std::max(from.bit_depth, 8) != one.encode.bit_depth;
            }
            chains_.at(one.chain)->encodes.push_back(stage.get());
            video_.push_back(std::move(stage));
        }
        for (const AudioEncode& one : settings_.audio_encodes) {
            WAVECREST_TRY_ASSIGN(encoder, codec::make_audio_encoder(one.encode));
            audio_.push_back(std::make_unique<AudioEncodeStage>(one, std::move(encoder)));
            auto track = std::find_if(audio_tracks_.begin(), audio_tracks_.end(),
                                      [&](const auto& t) { return t->from.id == one.from.id; });
            if (track == audio_tracks_.end()) {
                auto made = std::make_unique<AudioTrackStage>();
                made->from = one.from;
                track = audio_tracks_.insert(audio_tracks_.end(), std::move(made));
            }
            (*track)->encodes.push_back(audio_.back().get());
        }
        return {};
    }

    Status make_outputs(const SinkMaker& make_sink) {
        for (std::size_t number = 0; number < settings_.outputs.size(); ++number) {
            auto output = std::make_unique<Output>();
            for (const OutputTrack& one : settings_.outputs[number]) {
                const TrackId id = static_cast<TrackId>(output->tracks.size()) + 1;
                Track track = track_of(one);
                track.id = id;
                output->tracks.push_back(std::move(track));
                fan_of(one).add(*output, id);
            }
            WAVECREST_TRY_ASSIGN(sink, make_sink(number, output->tracks));
            output->sink = std::move(sink);
            output->interleaver = std::make_unique<SharedInterleaver>(*output->sink, output->tracks);
            outputs_.push_back(std::move(output));
        }
        return {};
    }
    Track track_of(const OutputTrack& one) const {
        if (one.kind == OutputTrack::Kind::kept) return settings_.kept.at(one.index);
        if (one.kind == OutputTrack::Kind::audio) return audio_.at(one.index)->track();
        Track track = video_.at(one.index)->encoder->track();
        track.language = settings_.video->language;
        return track;
    }
    Fan& fan_of(const OutputTrack& one) {
        switch (one.kind) {
            case OutputTrack::Kind::video:
                return video_.at(one.index)->fan;
            case OutputTrack::Kind::audio:
                return audio_.at(one.index)->fan();
            case OutputTrack::Kind::kept:
                break;
        }
        return kept_[settings_.kept.at(one.index).id];
    }

    // The first error ends all stages.
    void guard(Status status) {
        if (status) return;
        {
            const base::MutexLock lock(mutex_);
            if (!error_) error_ = std::move(status).error();
        }
        stop();
    }
    void stop() {
        stopping_ = true;
        video_packets_.abandon();
        for (const auto& track : audio_tracks_) track->packets.abandon();
        for (const auto& chain : chains_) chain->decoded.abandon();
        for (const auto& encode : video_) {
            encode->filtered.abandon();
            encode->scaled.abandon();
            encode->ready.abandon();
        }
    }

    Status read_stage() {
        // Without video the first track that is used tells when an excerpt is over.
        const TrackId reference = settings_.video           ? settings_.video->id
                                  : !audio_tracks_.empty()  ? audio_tracks_.front()->from.id
                                  : !settings_.kept.empty() ? settings_.kept.front().id
                                                            : -1;
        const bool burns =
            std::any_of(chains_.begin(), chains_.end(), [](const auto& c) { return !c->subtitles.empty(); });
        const Time lead = burns ? kSubtitleLead : Time{};
        std::deque<Packet> held;  // pictures that wait for their subtitles
        const auto release = [&](std::optional<Time> up_to) {
            while (!held.empty() && (!up_to || held.front().dts <= *up_to)) {
                if (!video_packets_.push(std::move(held.front()))) return false;
                held.pop_front();
            }
            return true;
        };
        while (!stopping_) {
            if (cancel_.requested()) {
                stop();
                return {};
            }
            WAVECREST_TRY_ASSIGN(packet, source_.read());
            if (!packet) break;
            const bool past = settings_.until.count() > 0 && packet->dts >= settings_.until;
            if (past && packet->track == reference) break;
            if (past) continue;
            if (const auto kept = kept_.find(packet->track); kept != kept_.end())
                WAVECREST_TRY(keep(*packet, kept->second));
            if (settings_.video && packet->track == settings_.video->id) {
                const Time now = packet->dts;
                held.push_back(std::move(*packet));
                if (!release(now - lead)) break;
                continue;
            }
            for (const auto& chain : chains_) chain->take_subtitle(*packet);
            for (const auto& track : audio_tracks_) {
                if (packet->track != track->from.id) continue;
                track->packets.push(std::move(*packet));
                break;
            }
        }
        release({});
        video_packets_.close();
        for (const auto& track : audio_tracks_) track->packets.close();
        for (auto& [id, fan] : kept_) WAVECREST_TRY(fan.finish({}));
        return {};
    }

    // A track that goes along as it is. What is heard before a cut is left out.
    Status keep(const Packet& packet, Fan& fan) {
        const bool before = !packet.hidden && packet.pts < Time{} && packet.pts + packet.duration <= Time{};
        const auto track = std::find_if(settings_.kept.begin(), settings_.kept.end(),
                                        [&](const Track& t) { return t.id == packet.track; });
        if (before && track->kind != TrackKind::video) return {};
        kept_end_ = std::max(kept_end_, packet.pts + packet.duration);
        if (!settings_.video && audio_.empty() && progress_) progress_({packet.pts, source_.duration()});
        return fan.give(packet);
    }

    Status decode_stage() {
        WAVECREST_TRY_ASSIGN(decoder, codec::make_video_decoder(*settings_.video));
        std::vector<Picture> pictures;
        std::multiset<Time> hidden;  // presentation times of pictures that are only decoded
        const auto pass_on = [&] {
            for (Picture& picture : pictures) {
                if (const auto found = hidden.find(picture.pts); found != hidden.end()) {
                    hidden.erase(found);
                    continue;
                }
                for (const auto& chain : chains_) {
                    if (!chain->decoded.push(picture)) return;
                }
            }
            pictures.clear();
        };
        bool begun = false, last_hidden = false;
        while (auto packet = video_packets_.pop()) {
            if (!begun && !packet->key) continue;
            begun = true;
            if (packet->hidden && packet->key && !last_hidden) {
                // An interval that begins between keyframes: its hidden pictures' times may be those of shown ones
                // before it, so that these must have left the decoder.
                WAVECREST_TRY(decoder->flush(pictures));
                pass_on();
                hidden.clear();
                keep_problems(*decoder);
                WAVECREST_TRY_ASSIGN(fresh, codec::make_video_decoder(*settings_.video));
                decoder = std::move(fresh);
            }
            last_hidden = packet->hidden;
            if (packet->hidden) hidden.insert(packet->pts);
            WAVECREST_TRY(decoder->decode(*packet, pictures));
            pass_on();
        }
        WAVECREST_TRY(decoder->flush(pictures));
        pass_on();
        keep_problems(*decoder);
        for (const auto& chain : chains_) chain->decoded.close();
        return {};
    }
    void keep_problems(const media::VideoDecoder& decoder) {
        for (Problem& problem : decoder.problems()) result_.problems.push_back(std::move(problem));
    }

    Status filter_stage(VideoChainStage& chain) {
        std::optional<filter::WholeFrames> whole_frames;
        if (chain.settings->fields) whole_frames.emplace(*chain.settings->fields);
        std::optional<filter::ConstantRate> constant;
        if (chain.settings->constant_rate) constant.emplace(*chain.settings->constant_rate);
        std::vector<Picture> whole, even;
        std::int64_t shown = 0;
        const auto pass_on = [&] {
            for (Picture& picture : whole) {
                if (chain.settings->crop.any()) picture = crop(std::move(picture), chain);
                if (constant) {
                    constant->push(std::move(picture), even);
                } else {
                    even.push_back(std::move(picture));
                }
            }
            whole.clear();
            for (Picture& picture : even) {
                if (picture.pts < Time{}) continue;  // before a cut: needed for decoding only
                if (chain.settings->half_rate) {
                    if (shown++ % 2 != 0) continue;
                    picture.duration *= 2;
                }
                if (!chain.subtitles.empty()) chain.burn_in(picture);
                if (chain.settings->watch) chain.settings->watch(picture);
                for (VideoEncodeStage* encode : chain.encodes) encode->input().push(picture);
            }
            even.clear();
        };
        while (auto picture = chain.decoded.pop()) {
            if (whole_frames) {
                whole_frames->push(std::move(*picture), whole);
            } else {
                whole.push_back(std::move(*picture));
            }
            pass_on();
        }
        if (whole_frames) whole_frames->flush(whole);
        pass_on();
        if (constant) constant->flush(even);
        pass_on();
        for (VideoEncodeStage* encode : chain.encodes) encode->input().close();
        return {};
    }

    // Of what is cut away something is looked at now and then: sampling beforehand may have missed a brighter part.
    Picture crop(Picture picture, VideoChainStage& chain) {
        const filter::Borders& borders = chain.settings->crop;
        // (Found in pictures of the title's size; others have borders of their own.)
        if (picture.width != chain.width || picture.height != chain.height) return picture;
        if (chain.cropped++ % kBordersEvery == 0) {
            const auto found = filter::black_borders(picture);
            if (found && filter::common(*found, borders) != borders) {
                if (chain.cut_off && picture.pts - chain.cut_off->to < base::from_seconds(2)) {
                    chain.cut_off->to = picture.pts + picture.duration;
                } else if (!chain.cut_off) {
                    chain.cut_off = Problem{"picture inside the black borders was cropped", picture.pts,
                                            picture.pts + picture.duration};
                }
            }
        }
        return filter::cropped(std::move(picture), borders);
    }

    Status scale_stage(VideoEncodeStage& stage) {
        while (auto picture = stage.filtered.pop()) {
            WAVECREST_TRY_ASSIGN(scaled, stage.fitter->apply(std::move(*picture)));
            if (!stage.behind_scaler().push(std::move(scaled))) break;
        }
        stage.behind_scaler().close();
        return {};
    }

    Status sample_stage(VideoEncodeStage& stage) {
        const int depth = stage.settings->encode.bit_depth;
        while (auto picture = stage.scaled.pop()) {
            Picture changed =
                stage.tone_mapper ? stage.tone_mapper->apply(*picture) : filter::to_depth(*picture, depth);
            if (!stage.ready.push(std::move(changed))) break;
        }
        stage.ready.close();
        return {};
    }

    Status encode_stage(VideoEncodeStage& stage) {
        const EncoderWatch& watch = stage.settings->watch;
        media::VideoEncoder& encoder = *stage.encoder;
        const bool tells = &stage == video_.front().get() && static_cast<bool>(progress_);
        std::vector<Packet> packets;
        const auto pass_on = [&]() -> Status {
            for (const Packet& packet : packets) {
                if (watch.packet) watch.packet(encoder.track(), packet);
                WAVECREST_TRY(stage.fan.give(packet));
            }
            packets.clear();
            return {};
        };
        while (auto picture = stage.ready.pop()) {
            const codec::VideoEncoderSettings& encode = stage.settings->encode;
            if (!stage.scales) {
                WAVECREST_TRY_ASSIGN(fitting, stage.fitter->apply(std::move(*picture)));
                *picture = std::move(fitting);
            }
            if (picture->bit_depth != encode.bit_depth)
                return fail(ErrorKind::input,
                            fmt::format("the bit depth changes to {} inside the title", picture->bit_depth),
                            "video track", "such titles can't be converted yet");
            if (stage.pictures++ == 0) stage.first = picture->pts;
            stage.end = picture->pts + picture->duration;
            if (watch.picture) watch.picture(*picture);
            WAVECREST_TRY(encoder.encode(*picture, packets));
            WAVECREST_TRY(pass_on());
            if (tells) progress_({stage.end - stage.first, source_.duration()});
        }
        if (cancel_.requested() || stopping_) return {};
        WAVECREST_TRY(encoder.flush(packets));
        WAVECREST_TRY(pass_on());
        return stage.fan.finish({});
    }

    Status audio_stage(AudioTrackStage& stage) {
        WAVECREST_TRY_ASSIGN(decoder, codec::make_audio_decoder(stage.from));
        const bool tells = !settings_.video && &stage == audio_tracks_.front().get() && static_cast<bool>(progress_);
        std::vector<AudioFrames> decoded;
        while (auto packet = stage.packets.pop()) {
            decoded.clear();
            WAVECREST_TRY(decoder->decode(*packet, decoded));
            for (const AudioFrames& audio : decoded) {
                for (AudioEncodeStage* encode : stage.encodes) WAVECREST_TRY(encode->push(audio));
            }
            if (tells) progress_({std::max(packet->pts, Time{}), source_.duration()});
        }
        if (cancel_.requested() || stopping_) return {};
        for (AudioEncodeStage* encode : stage.encodes) WAVECREST_TRY(encode->finish());
        return {};
    }

    // When all stages have ended.
    Status add_up() {
        for (const auto& chain : chains_) {
            result_.subtitles = std::max(result_.subtitles, chain->shown);
            if (chain->cut_off) result_.problems.push_back(*chain->cut_off);
        }
        if (!audio_.empty()) result_.audio_frames = audio_.front()->frames();
        if (!video_.empty()) {
            const VideoEncodeStage& first = *video_.front();
            if (first.pictures == 0)
                return fail(ErrorKind::input, "the title has no video that can be decoded", "video track",
                            "the rip is damaged; rip the disc again");
            result_.pictures = first.pictures;
            result_.first_picture = first.first;
            result_.duration = first.end - first.first;
        } else if (!audio_.empty()) {
            if (result_.audio_frames == 0 && kept_end_ <= Time{})
                return fail(ErrorKind::input, "the title has no audio that can be decoded", "audio track",
                            "wavecrest inspect lists the tracks");
            result_.duration = std::max(audio_.front()->end() - audio_.front()->first().value_or(Time{}), kept_end_);
        } else {
            result_.duration = kept_end_;
        }
        return {};
    }

    PacketSource& source_;
    const GraphSettings& settings_;
    const Progress& progress_;
    const Cancel& cancel_;

    base::BoundedQueue<Packet> video_packets_{settings_.prompt ? kFewVideoPackets : kVideoPackets};
    std::vector<std::unique_ptr<VideoChainStage>> chains_;
    std::vector<std::unique_ptr<VideoEncodeStage>> video_;
    std::vector<std::unique_ptr<AudioEncodeStage>> audio_;
    std::vector<std::unique_ptr<AudioTrackStage>> audio_tracks_;
    std::map<TrackId, Fan> kept_;  // by the source's tracks; the reading thread's
    Time kept_end_{};              // the reading thread's
    std::vector<std::unique_ptr<Output>> outputs_;
    std::atomic<bool> stopping_ = false;

    base::Mutex mutex_;
    std::optional<Error> error_ GUARDED_BY(mutex_);
    // Without a mutex: problems are written by the decoding stage alone, the rest when all stages have ended.
    GraphResult result_;
};

}  // namespace

bool GraphSettings::uses(TrackId track) const {
    const auto is = [&](const Track& t) { return t.id == track; };
    return (video && is(*video)) || std::any_of(kept.begin(), kept.end(), is) ||
           std::any_of(audio_encodes.begin(), audio_encodes.end(), [&](const AudioEncode& a) { return is(a.from); }) ||
           std::any_of(chains.begin(), chains.end(), [&](const VideoChain& chain) {
               return std::any_of(chain.subtitles.begin(), chain.subtitles.end(),
                                  [&](const VideoChain::Subtitles& s) { return is(s.from); });
           });
}

Result<std::vector<Track>> tracks_of(const GraphSettings& settings, std::size_t output) {
    std::vector<Track> tracks;
    for (const OutputTrack& one : settings.outputs.at(output)) {
        Track track;
        if (one.kind == OutputTrack::Kind::kept) {
            track = settings.kept.at(one.index);
        } else if (one.kind == OutputTrack::Kind::video) {
            WAVECREST_TRY_ASSIGN(encoder, make_encoder(settings.video_encodes.at(one.index)));
            track = encoder->track();
        } else {
            const AudioEncode& audio = settings.audio_encodes.at(one.index);
            WAVECREST_TRY_ASSIGN(encoder, codec::make_audio_encoder(audio.encode));
            track = AudioEncodeStage(audio, std::move(encoder)).track();
        }
        track.id = static_cast<TrackId>(tracks.size()) + 1;
        tracks.push_back(std::move(track));
    }
    return tracks;
}

Status look_at_cadence(PacketSource& source, const Track& video, Time length,
                       const std::vector<filter::CadenceFinder*>& finders) {
    WAVECREST_TRY_ASSIGN(decoder, codec::make_video_decoder(video));
    std::vector<Picture> pictures;
    std::optional<Time> start;
    for (filter::CadenceFinder* finder : finders) finder->cut();
    while (true) {
        WAVECREST_TRY_ASSIGN(packet, source.read());
        if (!packet) break;
        if (packet->track != video.id || (!start && !packet->key)) continue;
        if (!start) start = packet->pts;
        if (packet->dts >= *start + length) break;
        WAVECREST_TRY(decoder->decode(*packet, pictures));
        for (const Picture& picture : pictures) {
            for (filter::CadenceFinder* finder : finders) finder->push(picture);
        }
        pictures.clear();
    }
    return {};
}

Status listen(PacketSource& source, const std::vector<AudioEncode>& encodes,
              const std::function<void(std::size_t, const AudioFrames&)>& frames, const Cancel& cancel) {
    struct Ear {
        std::unique_ptr<media::AudioDecoder> decoder;
        std::vector<std::size_t> encodes;
        std::map<std::size_t, filter::NightRange> night;
    };
    std::map<TrackId, Ear> ears;
    for (std::size_t i = 0; i < encodes.size(); ++i) {
        Ear& ear = ears[encodes[i].from.id];
        if (!ear.decoder) {
            WAVECREST_TRY_ASSIGN(decoder, codec::make_audio_decoder(encodes[i].from));
            ear.decoder = std::move(decoder);
        }
        ear.encodes.push_back(i);
    }
    std::vector<AudioFrames> decoded;
    while (true) {
        if (cancel.requested()) return base::interrupted();
        WAVECREST_TRY_ASSIGN(packet, source.read());
        if (!packet) return {};
        const auto found = ears.find(packet->track);
        if (found == ears.end()) continue;
        Ear& ear = found->second;
        decoded.clear();
        WAVECREST_TRY(ear.decoder->decode(*packet, decoded));
        for (const AudioFrames& audio : decoded) {
            if (audio.sample_rate <= 0 || audio.channels <= 0) continue;
            for (const std::size_t number : ear.encodes) {
                AudioFrames heard = audio;
                filter::remix(heard, encodes[number].encode.speakers);
                if (encodes[number].night) ear.night.try_emplace(number, heard.sample_rate).first->second.apply(heard);
                frames(number, heard);
            }
        }
    }
}

Result<GraphResult> run(PacketSource& source, const GraphSettings& settings, const SinkMaker& make_sink,
                        const Progress& progress, const Cancel& cancel) {
    return Graph(source, settings, progress, cancel).run(make_sink);
}

}  // namespace wavecrest::transcode
