#include "transcode/graph.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <cstring>
#include <deque>
#include <map>
#include <set>
#include <thread>

#include "base/mutex.hpp"
#include "base/queue.hpp"
#include "codec/aac_encoder.hpp"
#include "codec/audio_decoder.hpp"
#include "codec/subtitle_decoder.hpp"
#include "codec/video_decoder.hpp"
#include "container/interleave.hpp"
#include "filter/audio_timeline.hpp"
#include "filter/constant_rate.hpp"
#include "filter/downmix.hpp"
#include "filter/limiter.hpp"
#include "filter/overlay.hpp"
#include "filter/resample.hpp"
#include "filter/scale.hpp"

namespace wavecrest::transcode {
namespace {

constexpr TrackId kVideo = 1;
constexpr TrackId kFirstAudio = 2;

// Subtitles may lie behind the pictures they belong to by what a decoder buffers: pictures wait that long for them.
const Time kSubtitleLead = base::from_seconds(2);

// Audio at another rate goes on as long as its times fit what came before to this.
const Time kLongestStep = std::chrono::milliseconds(20);

// What the encoding stages write to, in the order of decoding times. A track with nothing to give (audio that is
// missing on the disc) holds the others up for a while, then no more: what waits stays small, and players can read any
// order.
class SharedInterleaver {
  public:
    SharedInterleaver(PacketSink& sink, const std::vector<Track>& tracks) : inner_(sink, tracks, Time{}) {}

    Status add(Packet packet) {
        const base::MutexLock lock(mutex_);
        return inner_.write(std::move(packet));
    }
    Status end(TrackId track) {
        const base::MutexLock lock(mutex_);
        return inner_.end(track);
    }

  private:
    base::Mutex mutex_;
    container::Interleaver inner_ GUARDED_BY(mutex_);
};

class Graph {
  public:
    Graph(PacketSource& source, const GraphSettings& settings, const Progress& progress, const Cancel& cancel)
        : source_(source), settings_(settings), progress_(progress), cancel_(cancel) {}

    Result<GraphResult> run(const SinkMaker& make_sink) {
        WAVECREST_TRY_ASSIGN(video_encoder, codec::make_h264_encoder(settings_.video.encode));
        const VideoPath& video = settings_.video;
        std::unique_ptr<filter::Scaler> scaler;
        if (video.encode.width != video.from.width || video.encode.height != video.from.height) {
            WAVECREST_TRY_ASSIGN(made, filter::Scaler::create(video.from.width, video.from.height, video.encode.width,
                                                              video.encode.height, video.encode.pixel_aspect));
            scaler = std::move(made);
        }
        Track video_track = video_encoder->track();
        video_track.id = kVideo;
        video_track.language = video.from.language;
        result_.tracks.push_back(video_track);
        for (std::size_t i = 0; i < settings_.audio.size(); ++i) {
            const AudioPath& path = settings_.audio[i];
            auto chain = std::make_unique<AudioChain>();
            chain->id = kFirstAudio + static_cast<TrackId>(i);
            chain->path = &path;
            WAVECREST_TRY_ASSIGN(made, codec::make_aac_encoder(path.from.sample_rate, std::min(path.from.channels, 2),
                                                               path.bitrate_bps));
            chain->encoder = std::move(made);
            Track audio_track = chain->encoder->track();
            audio_track.id = chain->id;
            audio_track.language = path.from.language;
            audio_track.purpose = path.from.purpose;
            result_.tracks.push_back(audio_track);
            audio_chains_.push_back(std::move(chain));
        }
        for (const VideoPath::Subtitles& path : settings_.video.subtitles)
            subtitle_chains_[path.from.id].decoder = codec::make_subtitle_decoder(path.from);
        WAVECREST_TRY_ASSIGN(sink, make_sink(result_.tracks));
        SharedInterleaver interleaver(*sink, result_.tracks);

        {
            std::vector<std::jthread> stages;
            stages.emplace_back([&] { guard(read_stage()); });
            stages.emplace_back([&] { guard(decode_stage()); });
            stages.emplace_back([&] { guard(filter_stage(scaler.get())); });
            for (const auto& chain : audio_chains_)
                stages.emplace_back([&, chain = chain.get()] { guard(audio_stage(*chain, interleaver)); });
            guard(encode_stage(*video_encoder, interleaver));
        }
        if (cancel_.requested()) return base::interrupted();
        if (const base::MutexLock lock(mutex_); error_) return fail(std::move(*error_));
        if (result_.pictures == 0)
            return fail(ErrorKind::input, "the title has no video that can be decoded", "video track",
                        "the rip is damaged; rip the disc again");
        result_.duration = last_end_ - result_.first_picture;
        if (settings_.accept) WAVECREST_TRY(settings_.accept(result_));
        WAVECREST_TRY(sink->finish());
        return std::move(result_);
    }

  private:
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
        video_packets_.abandon();
        for (const auto& chain : audio_chains_) chain->packets.abandon();
        decoded_.abandon();
        filtered_.abandon();
    }

    // One audio track on its way.
    struct AudioChain {
        TrackId id = 0;
        const AudioPath* path = nullptr;
        std::unique_ptr<media::AudioEncoder> encoder;
        // AudioFrames must not hold the reader up while pictures are waited for: its queue takes what comes with the
        // pictures in flight.
        base::BoundedQueue<Packet> packets{4096};
    };

    Status read_stage() {
        const TrackId video = settings_.video.from.id;
        const Time lead = subtitle_chains_.empty() ? Time{} : kSubtitleLead;
        std::deque<Packet> held;  // pictures that wait for their subtitles
        const auto release = [&](std::optional<Time> up_to) {
            while (!held.empty() && (!up_to || held.front().dts <= *up_to)) {
                if (!video_packets_.push(std::move(held.front()))) return false;
                held.pop_front();
            }
            return true;
        };
        while (true) {
            if (cancel_.requested()) {
                stop();
                return {};
            }
            WAVECREST_TRY_ASSIGN(packet, source_.read());
            if (!packet) break;
            const bool past = settings_.until.count() > 0 && packet->dts >= settings_.until;
            if (past && packet->track == video) break;
            if (past) continue;
            if (packet->track == video) {
                const Time now = packet->dts;
                held.push_back(std::move(*packet));
                if (!release(now - lead)) break;
            } else if (subtitle_chains_.contains(packet->track)) {
                take_subtitle(*packet);
            } else {
                for (const auto& chain : audio_chains_) {
                    if (packet->track == chain->path->from.id) {
                        chain->packets.push(std::move(*packet));
                        break;
                    }
                }
            }
        }
        release({});
        video_packets_.close();
        for (const auto& chain : audio_chains_) chain->packets.close();
        return {};
    }

    void take_subtitle(const Packet& packet) {
        std::vector<Overlay> shown;
        SubtitleChain& chain = subtitle_chains_.at(packet.track);
        chain.decoder->decode(packet, shown);
        const auto path = std::find_if(settings_.video.subtitles.begin(), settings_.video.subtitles.end(),
                                       [&](const VideoPath::Subtitles& p) { return p.from.id == packet.track; });
        const base::MutexLock lock(overlay_mutex_);
        for (Overlay& overlay : shown) {
            // What is not forced is not drawn, yet it ends what was drawn before.
            if (path->forced_only && !overlay.forced) overlay.regions.clear();
            chain.coming.push_back(std::move(overlay));
        }
        std::stable_sort(chain.coming.begin(), chain.coming.end(),
                         [](const Overlay& a, const Overlay& b) { return a.pts < b.pts; });
    }

    void burn_in(Picture& picture) {
        const base::MutexLock lock(overlay_mutex_);
        bool any = false;
        for (auto& [id, chain] : subtitle_chains_) {
            while (!chain.coming.empty() && chain.coming.front().pts <= picture.pts) {
                chain.showing = std::move(chain.coming.front());
                chain.coming.pop_front();
                result_.subtitles += chain.showing.regions.empty() ? 0 : 1;
            }
            any = any || !chain.showing.regions.empty();
        }
        if (!any) return;
        // The decoder's samples may be shared: the overlay goes onto a copy.
        Picture own = picture.allocate_alike(picture.width, picture.height);
        for (int plane = 0; plane < 3; ++plane) {
            const int rows = plane == 0 ? picture.height : (picture.height + 1) / 2;
            for (int y = 0; y < rows; ++y) {
                std::memcpy(own.planes[plane] + y * own.strides[plane],
                            picture.planes[plane] + y * picture.strides[plane],
                            static_cast<std::size_t>(own.strides[plane]));
            }
        }
        for (const auto& [id, chain] : subtitle_chains_) filter::lay_over(own, chain.showing);
        picture = std::move(own);
    }

    Status decode_stage() {
        WAVECREST_TRY_ASSIGN(decoder, codec::make_video_decoder(settings_.video.from));
        std::vector<Picture> pictures;
        std::multiset<Time> hidden;  // presentation times of pictures that are only decoded
        const auto pass_on = [&] {
            for (Picture& picture : pictures) {
                if (const auto found = hidden.find(picture.pts); found != hidden.end()) {
                    hidden.erase(found);
                    continue;
                }
                if (!decoded_.push(std::move(picture))) return;
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
                WAVECREST_TRY_ASSIGN(fresh, codec::make_video_decoder(settings_.video.from));
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
        decoded_.close();
        return {};
    }
    void keep_problems(const media::VideoDecoder& decoder) {
        for (Problem& problem : decoder.problems()) result_.problems.push_back(std::move(problem));
    }

    Status filter_stage(filter::Scaler* scaler) {
        std::optional<filter::WholeFrames> whole_frames;
        if (settings_.video.fields) whole_frames.emplace(*settings_.video.fields);
        std::optional<filter::ConstantRate> constant;
        if (settings_.video.constant_rate) constant.emplace(*settings_.video.constant_rate);
        std::vector<Picture> whole, even;
        const auto pass_on = [&]() -> Status {
            for (Picture& picture : whole) {
                if (constant) {
                    constant->push(std::move(picture), even);
                } else {
                    even.push_back(std::move(picture));
                }
            }
            whole.clear();
            for (Picture& picture : even) WAVECREST_TRY(finish_picture(std::move(picture), scaler));
            even.clear();
            return {};
        };
        while (auto picture = decoded_.pop()) {
            if (whole_frames) {
                whole_frames->push(std::move(*picture), whole);
            } else {
                whole.push_back(std::move(*picture));
            }
            WAVECREST_TRY(pass_on());
        }
        if (whole_frames) whole_frames->flush(whole);
        WAVECREST_TRY(pass_on());
        if (constant) constant->flush(even);
        WAVECREST_TRY(pass_on());
        filtered_.close();
        return {};
    }

    Status finish_picture(Picture picture, filter::Scaler* scaler) {
        if (picture.pts < Time{}) return {};  // before a cut: needed for decoding only
        if (!settings_.video.subtitles.empty()) burn_in(picture);
        if (scaler != nullptr) {
            WAVECREST_TRY_ASSIGN(scaled, scaler->apply(picture));
            filtered_.push(std::move(scaled));
            return {};
        }
        if (picture.width != settings_.video.encode.width || picture.height != settings_.video.encode.height) {
            return fail(ErrorKind::input,
                        fmt::format("the video size changes to {}x{} inside the title", picture.width, picture.height),
                        "video track", "such titles can't be converted yet");
        }
        filtered_.push(std::move(picture));
        return {};
    }

    Status encode_stage(media::VideoEncoder& encoder, SharedInterleaver& out) {
        const EncoderWatch& watch = settings_.watch;
        std::vector<Packet> packets;
        const auto pass_on = [&]() -> Status {
            for (Packet& packet : packets) {
                packet.track = kVideo;
                if (watch.packet) watch.packet(encoder.track(), packet);
                WAVECREST_TRY(out.add(std::move(packet)));
            }
            packets.clear();
            return {};
        };
        while (auto picture = filtered_.pop()) {
            if (result_.pictures++ == 0) result_.first_picture = picture->pts;
            last_end_ = picture->pts + picture->duration;
            if (watch.picture) watch.picture(*picture);
            WAVECREST_TRY(encoder.encode(*picture, packets));
            WAVECREST_TRY(pass_on());
            if (progress_) progress_({last_end_ - result_.first_picture, source_.duration()});
        }
        if (cancel_.requested()) return {};
        WAVECREST_TRY(encoder.flush(packets));
        WAVECREST_TRY(pass_on());
        return out.end(kVideo);
    }

    Status audio_stage(AudioChain& chain, SharedInterleaver& out) {
        media::AudioEncoder& encoder = *chain.encoder;
        WAVECREST_TRY_ASSIGN(decoder, codec::make_audio_decoder(chain.path->from));
        const int channels = encoder.track().channels;
        const int rate = chain.path->from.sample_rate;
        filter::Limiter limiter(rate, channels);
        std::vector<AudioFrames> audio_frames, limited;
        std::vector<Packet> packets;
        const auto encode = [&]() -> Status {
            for (const AudioFrames& audio : limited) WAVECREST_TRY(encoder.encode(audio, packets));
            limited.clear();
            for (Packet& packet : packets) {
                packet.track = chain.id;
                WAVECREST_TRY(out.add(std::move(packet)));
            }
            packets.clear();
            return {};
        };
        filter::AudioTimeline timeline([&](const AudioFrames& audio) -> Status {
            limiter.push(audio, limited);
            return encode();
        });
        std::unique_ptr<filter::Resampler> resampler;  // while the source has another rate than it began with
        const auto take = [&](AudioFrames audio) -> Status {
            filter::fold_to_stereo(audio);
            if (audio.channels != channels) filter::match_channels(audio, channels);
            drop_before_start(audio);
            if (audio.samples.empty()) return {};
            if (chain.id == kFirstAudio) result_.audio_frames += static_cast<std::int64_t>(audio.frames());
            return timeline.push(std::move(audio));
        };
        const auto end_resampling = [&]() -> Status {
            std::vector<AudioFrames> rest;
            if (resampler) resampler->flush(rest);
            resampler.reset();
            for (AudioFrames& audio : rest) WAVECREST_TRY(take(std::move(audio)));
            return {};
        };
        while (auto packet = chain.packets.pop()) {
            audio_frames.clear();
            WAVECREST_TRY(decoder->decode(*packet, audio_frames));
            for (AudioFrames& audio : audio_frames) {
                const bool goes_on = resampler && audio.sample_rate == resampler->from_rate() &&
                                     audio.channels == resampler->channels() &&
                                     std::chrono::abs(audio.pts - resampler->end()) < kLongestStep;
                if (!goes_on) WAVECREST_TRY(end_resampling());
                if (audio.sample_rate == rate) {
                    WAVECREST_TRY(take(std::move(audio)));
                    continue;
                }
                if (audio.sample_rate <= 0 || audio.channels <= 0) continue;
                if (!resampler) {
                    WAVECREST_TRY_ASSIGN(made, filter::Resampler::create(audio.sample_rate, rate, audio.channels));
                    resampler = std::move(made);
                }
                std::vector<AudioFrames> resampled;
                resampler->push(audio, resampled);
                for (AudioFrames& piece : resampled) WAVECREST_TRY(take(std::move(piece)));
            }
        }
        WAVECREST_TRY(end_resampling());
        WAVECREST_TRY(timeline.flush());
        limiter.flush(limited);
        WAVECREST_TRY(encode());
        WAVECREST_TRY(encoder.flush(packets));
        WAVECREST_TRY(encode());
        return out.end(chain.id);
    }

    // The part before a cut.
    static void drop_before_start(AudioFrames& audio) {
        if (audio.pts >= Time{}) return;
        const auto drop =
            std::min(static_cast<std::size_t>(base::to_ticks(-audio.pts, audio.sample_rate)), audio.frames());
        audio.samples.erase(
            audio.samples.begin(),
            audio.samples.begin() + static_cast<std::ptrdiff_t>(drop * static_cast<std::size_t>(audio.channels)));
        audio.pts += base::from_ticks(static_cast<std::int64_t>(drop), audio.sample_rate);
    }

    PacketSource& source_;
    const GraphSettings& settings_;
    const Progress& progress_;
    const Cancel& cancel_;

    // Packets are small, pictures large: a second or two of the former, a handful of the latter.
    base::BoundedQueue<Packet> video_packets_{48};
    std::vector<std::unique_ptr<AudioChain>> audio_chains_;
    base::BoundedQueue<Picture> decoded_{6};
    base::BoundedQueue<Picture> filtered_{6};

    struct SubtitleChain {
        std::unique_ptr<media::SubtitleDecoder> decoder;
        std::deque<Overlay> coming;
        Overlay showing;
    };
    std::map<TrackId, SubtitleChain> subtitle_chains_;  // complete before the stages start
    base::Mutex overlay_mutex_;                         // of `coming` and `showing` of them

    base::Mutex mutex_;
    std::optional<Error> error_ GUARDED_BY(mutex_);
    // Without a mutex: each member is written by one stage alone (problems by that which decodes, pictures by that
    // which encodes them, subtitles by the filters', audio_frames by the first audio track's), and read when all have
    // ended.
    GraphResult result_;
    Time last_end_{};  // the encoding stage's
};

}  // namespace

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

Result<GraphResult> run(PacketSource& source, const GraphSettings& settings, const SinkMaker& make_sink,
                        const Progress& progress, const Cancel& cancel) {
    return Graph(source, settings, progress, cancel).run(make_sink);
}

}  // namespace wavecrest::transcode
