// Opus, FLAC and MP3 by their own libraries.
#include <FLAC/stream_encoder.h>
#include <fmt/format.h>
#include <lame/lame.h>
#include <opus/opus_multistream.h>

#include <algorithm>
#include <cmath>

#include "bitstream/audio_frames.hpp"
#include "bitstream/xiph.hpp"
#include "codec/audio_encoder.hpp"
#include "codec/channel_order.hpp"

namespace wavecrest::codec {
namespace {

tl::unexpected<Error> refused(const AudioEncoderSettings& settings, std::string what) {
    return fail(ErrorKind::usage, std::move(what),
                fmt::format("{} at {} Hz, {} channels, {} bit/s", media::display_name(settings.codec),
                            settings.sample_rate, media::speaker_count(settings.speakers), settings.bitrate_bps),
                "change the audio settings of the profile");
}
tl::unexpected<Error> failed(Codec codec) {
    return fail(ErrorKind::input, fmt::format("the {} encoder failed", media::display_name(codec)), "audio track",
                "choose another audio codec");
}

Track track_of(const AudioEncoderSettings& settings) {
    Track track;
    track.kind = TrackKind::audio;
    track.codec = settings.codec;
    track.sample_rate = settings.sample_rate;
    track.channels = media::speaker_count(settings.speakers);
    track.speakers = settings.speakers;
    track.bitrate_bps = settings.bitrate_bps;
    return track;
}

// What arrives in pieces of any length goes on in frames of one length.
class FrameBuffer {
  public:
    FrameBuffer(int channels, int frame) : channels_(static_cast<std::size_t>(channels)), frame_(frame) {}
    void push(const AudioFrames& audio) {
        if (!start_) start_ = audio.pts;
        samples_.insert(samples_.end(), audio.samples.begin(), audio.samples.end());
    }
    // Fills the last frame up with silence, and adds as many more as are asked for.
    void pad(std::size_t frames_more) {
        const std::size_t one = static_cast<std::size_t>(frame_) * channels_;
        samples_.resize((samples_.size() + one - 1) / one * one + frames_more * one, 0.0f);
    }
    template <typename Take>  // Status(const float* frame)
    Status each(const Take& take) {
        const std::size_t one = static_cast<std::size_t>(frame_) * channels_;
        std::size_t used = 0;
        for (; samples_.size() - used >= one; used += one) WAVECREST_TRY(take(samples_.data() + used));
        samples_.erase(samples_.begin(), samples_.begin() + static_cast<std::ptrdiff_t>(used));
        return {};
    }
    Time start() const { return start_.value_or(Time{}); }
    const std::vector<float>& rest() const { return samples_; }
    void clear() { samples_.clear(); }

  private:
    std::size_t channels_;
    int frame_;
    std::optional<Time> start_;
    std::vector<float> samples_;
};

class OpusEncoder : public media::AudioEncoder {
  public:
    static Result<std::unique_ptr<media::AudioEncoder>> create(const AudioEncoderSettings& settings) {
        const int channels = media::speaker_count(settings.speakers);
        const std::vector<Speakers> order = vorbis_order(channels);
        if (settings.sample_rate != bitstream::kOpusRate) return refused(settings, "Opus is encoded at 48 kHz");
        if (order.empty() || set_of(order) != settings.speakers)
            return refused(settings, "Opus does not support this channel layout");
        if (settings.bitrate_bps < 6000 || settings.bitrate_bps > 256'000 * channels)
            return refused(settings, "Opus takes 6 to 256 kbit/s a channel");
        std::unique_ptr<OpusEncoder> self(new OpusEncoder(settings, positions_of(order)));
        int streams = 0, coupled = 0, error = 0;
        std::vector<unsigned char> mapping(static_cast<std::size_t>(channels));
        const int family = channels <= 2 ? 0 : 1;
        self->encoder_ = opus_multistream_surround_encoder_create(
            bitstream::kOpusRate, channels, family, &streams, &coupled, mapping.data(), OPUS_APPLICATION_AUDIO, &error);
        if (error != OPUS_OK) return refused(settings, "the Opus encoder refuses these settings");
        opus_int32 look_ahead = 0;
        opus_multistream_encoder_ctl(self->encoder_, OPUS_SET_BITRATE(static_cast<opus_int32>(settings.bitrate_bps)));
        opus_multistream_encoder_ctl(self->encoder_, OPUS_GET_LOOKAHEAD(&look_ahead));
        self->delay_ = look_ahead;
        bitstream::OpusHead head;
        head.channels = channels;
        head.pre_skip = look_ahead;
        head.input_rate = bitstream::kOpusRate;
        head.family = family;
        if (family != 0) {
            head.mapping = {static_cast<std::uint8_t>(streams), static_cast<std::uint8_t>(coupled)};
            head.mapping.insert(head.mapping.end(), mapping.begin(), mapping.end());
        }
        self->track_.codec_config = Bytes(bitstream::make_opus_head(head));
        return std::unique_ptr<media::AudioEncoder>(std::move(self));
    }
    OpusEncoder(const OpusEncoder&) = delete;
    OpusEncoder& operator=(const OpusEncoder&) = delete;
    ~OpusEncoder() override {
        if (encoder_ != nullptr) opus_multistream_encoder_destroy(encoder_);
    }
    const Track& track() const override { return track_; }
    Status encode(const AudioFrames& audio, std::vector<Packet>& out) override {
        buffer_.push(audio);
        return run(out);
    }
    Status flush(std::vector<Packet>& out) override {
        buffer_.pad(static_cast<std::size_t>((delay_ + kFrame - 1) / kFrame));
        return run(out);
    }

  private:
    OpusEncoder(const AudioEncoderSettings& settings, std::vector<std::size_t> positions)
        : track_(track_of(settings)), positions_(std::move(positions)), buffer_(track_.channels, kFrame) {}

    Status run(std::vector<Packet>& out) {
        return buffer_.each([&](const float* frame) -> Status {
            const auto channels = positions_.size();
            std::vector<float> ordered(channels * kFrame);
            for (std::size_t i = 0; i < kFrame; ++i) {
                for (std::size_t c = 0; c < channels; ++c)
                    ordered[i * channels + c] = frame[i * channels + positions_[c]];
            }
            ByteVector coded(channels * 1500);
            const int size = opus_multistream_encode_float(encoder_, ordered.data(), kFrame, coded.data(),
                                                           static_cast<opus_int32>(coded.size()));
            if (size < 0) return failed(Codec::opus);
            coded.resize(static_cast<std::size_t>(size));
            Packet packet;
            packet.pts = packet.dts =
                buffer_.start() + base::from_ticks(packets_++ * kFrame - delay_, bitstream::kOpusRate);
            packet.duration = base::from_ticks(kFrame, bitstream::kOpusRate);
            packet.key = true;
            packet.data = Bytes(std::move(coded));
            out.push_back(std::move(packet));
            return {};
        });
    }

    static constexpr int kFrame = 960;  // 20 ms
    Track track_;
    std::vector<std::size_t> positions_;
    FrameBuffer buffer_;
    OpusMSEncoder* encoder_ = nullptr;
    std::int64_t packets_ = 0, delay_ = 0;
};

class FlacEncoder : public media::AudioEncoder {
  public:
    static Result<std::unique_ptr<media::AudioEncoder>> create(const AudioEncoderSettings& settings) {
        const int channels = media::speaker_count(settings.speakers);
        const std::vector<Speakers> order = flac_order(channels);
        if (order.empty() || set_of(order) != settings.speakers)
            return refused(settings, "FLAC does not support this channel layout");
        if (settings.bit_depth != 16 && settings.bit_depth != 24)
            return refused(settings, "FLAC is encoded with 16 or 24 bits");
        std::unique_ptr<FlacEncoder> self(new FlacEncoder(settings, positions_of(order)));
        FLAC__StreamEncoder* encoder = self->encoder_;
        FLAC__stream_encoder_set_channels(encoder, static_cast<unsigned>(channels));
        FLAC__stream_encoder_set_bits_per_sample(encoder, static_cast<unsigned>(settings.bit_depth));
        FLAC__stream_encoder_set_sample_rate(encoder, static_cast<unsigned>(settings.sample_rate));
        FLAC__stream_encoder_set_compression_level(encoder, 5);
        FLAC__stream_encoder_set_blocksize(encoder, kBlock);
        if (FLAC__stream_encoder_init_stream(encoder, write, nullptr, nullptr, nullptr, self.get()) !=
            FLAC__STREAM_ENCODER_INIT_STATUS_OK)
            return refused(settings, "the FLAC encoder refuses these settings");
        if (self->track_.codec_config.empty()) return refused(settings, "the FLAC encoder gives no header");
        return std::unique_ptr<media::AudioEncoder>(std::move(self));
    }
    FlacEncoder(const FlacEncoder&) = delete;
    FlacEncoder& operator=(const FlacEncoder&) = delete;
    ~FlacEncoder() override { FLAC__stream_encoder_delete(encoder_); }
    const Track& track() const override { return track_; }
    Status encode(const AudioFrames& audio, std::vector<Packet>& out) override {
        if (!start_) start_ = audio.pts;
        out_ = &out;
        const std::size_t channels = positions_.size();
        const float scale = track_.bit_depth == 24 ? 8388608.0f : 32768.0f;
        std::vector<FLAC__int32> ordered(audio.samples.size());
        for (std::size_t i = 0; i < audio.frames(); ++i) {
            for (std::size_t c = 0; c < channels; ++c)
                ordered[i * channels + c] = static_cast<FLAC__int32>(
                    std::lround(std::clamp(audio.samples[i * channels + positions_[c]] * scale, -scale, scale - 1)));
        }
        const bool done = FLAC__stream_encoder_process_interleaved(encoder_, ordered.data(),
                                                                   static_cast<unsigned>(audio.frames())) != 0;
        out_ = nullptr;
        if (!done) return failed(Codec::flac);
        return {};
    }
    Status flush(std::vector<Packet>& out) override {
        out_ = &out;
        const bool done = FLAC__stream_encoder_finish(encoder_) != 0;
        out_ = nullptr;
        if (!done) return failed(Codec::flac);
        return {};
    }

  private:
    FlacEncoder(const AudioEncoderSettings& settings, std::vector<std::size_t> positions)
        : track_(track_of(settings)), positions_(std::move(positions)), encoder_(FLAC__stream_encoder_new()) {
        track_.bit_depth = settings.bit_depth;
        track_.bitrate_bps = 0;
    }

    static FLAC__StreamEncoderWriteStatus write(const FLAC__StreamEncoder*, const FLAC__byte buffer[],
                                                std::size_t bytes, unsigned samples, unsigned, void* self_pointer) {
        auto& self = *static_cast<FlacEncoder*>(self_pointer);
        if (samples == 0) {
            // Headers: the marker, then the blocks; of STREAMINFO the body counts.
            if (bytes == 4 + bitstream::kFlacStreamInfo && (buffer[0] & 0x7F) == 0)
                self.track_.codec_config = Bytes(ByteVector(buffer + 4, buffer + bytes));
            return FLAC__STREAM_ENCODER_WRITE_STATUS_OK;
        }
        if (self.out_ == nullptr) return FLAC__STREAM_ENCODER_WRITE_STATUS_FATAL_ERROR;
        Packet packet;
        packet.pts = packet.dts =
            self.start_.value_or(Time{}) + base::from_ticks(self.samples_, self.track_.sample_rate);
        packet.duration = base::from_ticks(samples, self.track_.sample_rate);
        packet.key = true;
        packet.data = Bytes(ByteVector(buffer, buffer + bytes));
        self.samples_ += samples;
        self.out_->push_back(std::move(packet));
        return FLAC__STREAM_ENCODER_WRITE_STATUS_OK;
    }

    static constexpr unsigned kBlock = 4096;
    Track track_;
    std::vector<std::size_t> positions_;
    FLAC__StreamEncoder* encoder_;
    std::vector<Packet>* out_ = nullptr;  // while the library runs
    std::optional<Time> start_;
    std::int64_t samples_ = 0;
};

class Mp3Encoder : public media::AudioEncoder {
  public:
    static Result<std::unique_ptr<media::AudioEncoder>> create(const AudioEncoderSettings& settings) {
        const int channels = media::speaker_count(settings.speakers);
        if (channels < 1 || channels > 2) return refused(settings, "MP3 is encoded in mono or stereo");
        if (settings.sample_rate != nearest_rate(Codec::mp3, settings.sample_rate))
            return refused(settings, "MP3 is encoded at 32, 44.1 or 48 kHz");
        if (settings.bitrate_bps < 32'000 || settings.bitrate_bps > 320'000)
            return refused(settings, "MP3 takes 32 to 320 kbit/s");
        std::unique_ptr<Mp3Encoder> self(new Mp3Encoder(settings));
        lame_t lame = self->lame_;
        lame_set_num_channels(lame, channels);
        lame_set_mode(lame, channels == 1 ? MONO : JOINT_STEREO);
        lame_set_in_samplerate(lame, settings.sample_rate);
        lame_set_out_samplerate(lame, settings.sample_rate);
        lame_set_brate(lame, static_cast<int>(settings.bitrate_bps / 1000));
        lame_set_quality(lame, 3);
        lame_set_bWriteVbrTag(lame, 0);  // packets are frames of audio alone
        lame_set_write_id3tag_automatic(lame, 0);
        const auto silent = [](const char*, va_list) {};
        lame_set_errorf(lame, silent);
        lame_set_debugf(lame, silent);
        lame_set_msgf(lame, silent);
        if (lame_init_params(lame) < 0) return refused(settings, "the MP3 encoder refuses these settings");
        return std::unique_ptr<media::AudioEncoder>(std::move(self));
    }
    Mp3Encoder(const Mp3Encoder&) = delete;
    Mp3Encoder& operator=(const Mp3Encoder&) = delete;
    ~Mp3Encoder() override { lame_close(lame_); }
    const Track& track() const override { return track_; }
    Status encode(const AudioFrames& audio, std::vector<Packet>& out) override {
        if (!start_) start_ = audio.pts;
        ByteVector coded(audio.frames() * 5 / 4 + 7200);
        const auto frames = static_cast<int>(audio.frames());
        // (The library reads, and does not write.)
        auto* samples = const_cast<float*>(audio.samples.data());
        const int size = track_.channels == 2
                             ? lame_encode_buffer_interleaved_ieee_float(lame_, samples, frames, coded.data(),
                                                                         static_cast<int>(coded.size()))
                             : lame_encode_buffer_ieee_float(lame_, samples, samples, frames, coded.data(),
                                                             static_cast<int>(coded.size()));
        if (size < 0) return failed(Codec::mp3);
        splitter_.push(ByteSpan(coded).first(static_cast<std::size_t>(size)), std::nullopt, frames_);
        return give(out);
    }
    Status flush(std::vector<Packet>& out) override {
        ByteVector coded(7200);
        const int size = lame_encode_flush(lame_, coded.data(), static_cast<int>(coded.size()));
        if (size < 0) return failed(Codec::mp3);
        splitter_.push(ByteSpan(coded).first(static_cast<std::size_t>(size)), std::nullopt, frames_);
        splitter_.flush(frames_);
        return give(out);
    }

  private:
    explicit Mp3Encoder(const AudioEncoderSettings& settings) : track_(track_of(settings)), lame_(lame_init()) {}

    Status give(std::vector<Packet>& out) {
        // The encoder's delay, and that of every decoder: 528 samples of its filters and one.
        const std::int64_t delay = lame_get_encoder_delay(lame_) + 529;
        for (bitstream::AudioFrame& frame : frames_) {
            Packet packet;
            packet.pts = packet.dts = start_.value_or(Time{}) + base::from_ticks(samples_ - delay, track_.sample_rate);
            packet.duration = base::from_ticks(frame.header.samples, track_.sample_rate);
            packet.key = true;
            packet.data = Bytes(std::move(frame.data));
            samples_ += frame.header.samples;
            out.push_back(std::move(packet));
        }
        frames_.clear();
        return {};
    }

    Track track_;
    lame_t lame_;
    bitstream::AudioFrameSplitter splitter_{Codec::mp3};
    std::vector<bitstream::AudioFrame> frames_;
    std::optional<Time> start_;
    std::int64_t samples_ = 0;
};

}  // namespace

Result<std::unique_ptr<media::AudioEncoder>> make_opus_encoder(const AudioEncoderSettings& settings) {
    return OpusEncoder::create(settings);
}
Result<std::unique_ptr<media::AudioEncoder>> make_flac_encoder(const AudioEncoderSettings& settings) {
    return FlacEncoder::create(settings);
}
Result<std::unique_ptr<media::AudioEncoder>> make_mp3_encoder(const AudioEncoderSettings& settings) {
    return Mp3Encoder::create(settings);
}

}  // namespace wavecrest::codec
