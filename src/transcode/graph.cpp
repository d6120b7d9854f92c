#include "transcode/graph.hpp"

#include <fmt/format.h>

#include <atomic>
#include <deque>
#include <mutex>
#include <thread>

#include "base/queue.hpp"
#include "codec/aac_encoder.hpp"
#include "codec/audio_decoder.hpp"
#include "codec/mpeg2_decoder.hpp"
#include "filter/film.hpp"
#include "filter/scale.hpp"
#include "filter/sound_timeline.hpp"

namespace wavecrest::transcode {
namespace {

constexpr TrackId kVideo = 1;
constexpr TrackId kAudio = 2;

// Puts the packets of both tracks into decoding-time order. Called from both encoding stages.
class Interleaver {
  public:
    Interleaver(PacketSink& sink, bool has_audio)
        : sink_(sink), waiting_(has_audio ? 2 : 1), ended_(waiting_.size(), false) {}

    Status add(Packet packet) {
        const std::lock_guard lock(mutex_);
        waiting_[static_cast<std::size_t>(packet.track - 1)].push_back(std::move(packet));
        return drain();
    }
    Status end(TrackId track) {
        const std::lock_guard lock(mutex_);
        if (static_cast<std::size_t>(track - 1) < ended_.size()) ended_[static_cast<std::size_t>(track - 1)] = true;
        return drain();
    }

  private:
    // A track with nothing to give (sound that is missing on the disc) holds the other up this long, then no more:
    // what waits stays small, and players can read any order.
    static constexpr double kLongestWait = 10;  // seconds

    bool waited_enough() const {
        for (const auto& packets : waiting_) {
            if (!packets.empty() && base::to_seconds(packets.back().dts - packets.front().dts) > kLongestWait)
                return true;
        }
        return false;
    }

    Status drain() {
        while (true) {
            std::size_t first = waiting_.size();
            for (std::size_t i = 0; i < waiting_.size(); ++i) {
                if (waiting_[i].empty()) {
                    if (!ended_[i] && !waited_enough()) return {};
                    continue;
                }
                if (first == waiting_.size() || waiting_[i].front().dts < waiting_[first].front().dts) first = i;
            }
            if (first == waiting_.size()) return {};
            WAVECREST_TRY(sink_.write(waiting_[first].front()));
            waiting_[first].pop_front();
        }
    }

    std::mutex mutex_;
    PacketSink& sink_;
    std::vector<std::deque<Packet>> waiting_;
    std::vector<bool> ended_;
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
        std::unique_ptr<media::AudioEncoder> audio_encoder;
        if (settings_.audio) {
            WAVECREST_TRY_ASSIGN(
                made, codec::make_aac_encoder(settings_.audio->from.sample_rate, settings_.audio->from.channels,
                                              settings_.audio->bitrate_bps));
            audio_encoder = std::move(made);
            Track audio_track = audio_encoder->track();
            audio_track.id = kAudio;
            audio_track.language = settings_.audio->from.language;
            result_.tracks.push_back(audio_track);
        }
        WAVECREST_TRY_ASSIGN(sink, make_sink(result_.tracks));
        Interleaver interleaver(*sink, settings_.audio.has_value());

        {
            std::vector<std::jthread> stages;
            stages.emplace_back([&] { guard(read_stage()); });
            stages.emplace_back([&] { guard(decode_stage()); });
            stages.emplace_back([&] { guard(filter_stage(scaler.get())); });
            if (audio_encoder) stages.emplace_back([&] { guard(audio_stage(*audio_encoder, interleaver)); });
            guard(encode_stage(*video_encoder, interleaver));
        }
        if (cancel_.requested()) return base::interrupted();
        if (error_) return fail(std::move(*error_));
        if (result_.pictures == 0)
            return fail(ErrorKind::input, "the title holds no picture that can be decoded", "video track",
                        "the rip is damaged; make it again");
        result_.duration = last_end_ - result_.first_picture;
        WAVECREST_TRY(sink->finish());
        return std::move(result_);
    }

  private:
    // The first error ends all stages.
    void guard(Status status) {
        if (status) return;
        {
            const std::lock_guard lock(mutex_);
            if (!error_) error_ = std::move(status).error();
        }
        stop();
    }
    void stop() {
        video_packets_.abandon();
        audio_packets_.abandon();
        decoded_.abandon();
        filtered_.abandon();
    }

    Status read_stage() {
        const TrackId video = settings_.video.from.id;
        const TrackId audio = settings_.audio ? settings_.audio->from.id : -1;
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
                if (!video_packets_.push(std::move(*packet))) break;
            } else if (packet->track == audio) {
                if (!audio_packets_.push(std::move(*packet))) break;
            }
        }
        video_packets_.close();
        audio_packets_.close();
        return {};
    }

    Status decode_stage() {
        const auto decoder = codec::make_mpeg2_decoder(settings_.video.from);
        filter::FilmTiming film(settings_.video.encode.frame_rate);
        std::vector<Picture> pictures;
        const auto pass_on = [&] {
            for (Picture& picture : pictures) {
                if (settings_.video.undo_pulldown) film.apply(picture);
                if (!decoded_.push(std::move(picture))) return;
            }
            pictures.clear();
        };
        bool begun = false;
        while (auto packet = video_packets_.pop()) {
            if (!begun && !packet->key) continue;
            begun = true;
            WAVECREST_TRY(decoder->decode(*packet, pictures));
            pass_on();
        }
        WAVECREST_TRY(decoder->flush(pictures));
        pass_on();
        decoded_.close();
        return {};
    }

    Status filter_stage(filter::Scaler* scaler) {
        while (auto picture = decoded_.pop()) {
            if (scaler != nullptr) {
                WAVECREST_TRY_ASSIGN(scaled, scaler->apply(*picture));
                if (!filtered_.push(std::move(scaled))) break;
            } else if (picture->width != settings_.video.encode.width ||
                       picture->height != settings_.video.encode.height) {
                return fail(
                    ErrorKind::input,
                    fmt::format("the picture size changes to {}x{} inside the title", picture->width, picture->height),
                    "video track", "such titles can't be converted yet");
            } else if (!filtered_.push(std::move(*picture))) {
                break;
            }
        }
        filtered_.close();
        return {};
    }

    Status encode_stage(media::VideoEncoder& encoder, Interleaver& out) {
        std::vector<Packet> packets;
        const auto pass_on = [&]() -> Status {
            for (Packet& packet : packets) {
                packet.track = kVideo;
                WAVECREST_TRY(out.add(std::move(packet)));
            }
            packets.clear();
            return {};
        };
        while (auto picture = filtered_.pop()) {
            if (result_.pictures++ == 0) result_.first_picture = picture->pts;
            last_end_ = picture->pts + picture->duration;
            WAVECREST_TRY(encoder.encode(*picture, packets));
            WAVECREST_TRY(pass_on());
            if (progress_) progress_({last_end_ - result_.first_picture, source_.duration()});
        }
        if (cancel_.requested()) return {};
        WAVECREST_TRY(encoder.flush(packets));
        WAVECREST_TRY(pass_on());
        return out.end(kVideo);
    }

    Status audio_stage(media::AudioEncoder& encoder, Interleaver& out) {
        WAVECREST_TRY_ASSIGN(decoder, codec::make_audio_decoder(settings_.audio->from));
        filter::SoundTimeline timeline;
        std::vector<Sound> sounds;
        std::vector<Packet> packets;
        const auto pass_on = [&]() -> Status {
            for (Packet& packet : packets) {
                packet.track = kAudio;
                WAVECREST_TRY(out.add(std::move(packet)));
            }
            packets.clear();
            return {};
        };
        while (auto packet = audio_packets_.pop()) {
            sounds.clear();
            WAVECREST_TRY(decoder->decode(*packet, sounds));
            for (Sound& sound : sounds) {
                // Silence goes in piece by piece: an hour of it at once would fill the memory.
                for (std::int64_t silent = timeline.follow_on(sound); silent > 0;) {
                    Sound piece;
                    piece.sample_rate = sound.sample_rate;
                    piece.channels = sound.channels;
                    const std::int64_t count = std::min<std::int64_t>(silent, sound.sample_rate);
                    piece.samples.assign(static_cast<std::size_t>(count * sound.channels), 0.0f);
                    silent -= count;
                    WAVECREST_TRY(encoder.encode(piece, packets));
                    WAVECREST_TRY(pass_on());
                }
                result_.sound_frames += static_cast<std::int64_t>(sound.frames());
                WAVECREST_TRY(encoder.encode(sound, packets));
            }
            WAVECREST_TRY(pass_on());
        }
        WAVECREST_TRY(encoder.flush(packets));
        WAVECREST_TRY(pass_on());
        return out.end(kAudio);
    }

    PacketSource& source_;
    const GraphSettings& settings_;
    const Progress& progress_;
    const Cancel& cancel_;

    // Packets are small, pictures large: a second or two of the former, a handful of the latter. Sound must not hold
    // the reader up while pictures are waited for, so its queue takes what comes with the pictures in flight.
    base::BoundedQueue<Packet> video_packets_{48};
    base::BoundedQueue<Packet> audio_packets_{4096};
    base::BoundedQueue<Picture> decoded_{6};
    base::BoundedQueue<Picture> filtered_{6};

    std::mutex mutex_;
    std::optional<Error> error_;
    GraphResult result_;
    Time last_end_{};
};

}  // namespace

Result<GraphResult> run(PacketSource& source, const GraphSettings& settings, const SinkMaker& make_sink,
                        const Progress& progress, const Cancel& cancel) {
    return Graph(source, settings, progress, cancel).run(make_sink);
}

}  // namespace wavecrest::transcode
