#include "codec/aac_encoder.hpp"

#include <fmt/format.h>

#include <cmath>
extern "C" {
#include <vo-aacenc/cmnMemory.h>
#include <vo-aacenc/voAAC.h>
}

#include "bitstream/aac.hpp"

namespace wavecrest::codec {
namespace {

constexpr int kFrame = bitstream::aac::kFrameSamples;

class AacEncoder : public media::AudioEncoder {
  public:
    AacEncoder(const AacEncoder&) = delete;
    AacEncoder& operator=(const AacEncoder&) = delete;
    ~AacEncoder() override {
        if (handle_ != nullptr) api_.Uninit(handle_);
    }

    static Result<std::unique_ptr<media::AudioEncoder>> create(int sample_rate, int channels, std::int64_t bitrate) {
        const auto refused = [&](const char* what) {
            return fail(ErrorKind::usage, what,
                        fmt::format("AAC at {} Hz, {} channels, {} bit/s", sample_rate, channels, bitrate),
                        "use 32, 44.1 or 48 kHz in mono or stereo, and 32 to 160 kbit/s a channel");
        };
        if (channels < 1 || channels > 2) return refused("the AAC encoder takes mono and stereo only");
        ByteVector config = bitstream::aac::make_config(sample_rate, channels);
        if (config.empty()) return refused("AAC does not support this sample rate");
        std::unique_ptr<AacEncoder> self(new AacEncoder);
        self->memory_.Alloc = cmnMemAlloc;
        self->memory_.Copy = cmnMemCopy;
        self->memory_.Free = cmnMemFree;
        self->memory_.Set = cmnMemSet;
        self->memory_.Check = cmnMemCheck;
        VO_CODEC_INIT_USERDATA user{};
        user.memflag = VO_IMF_USERMEMOPERATOR;
        user.memData = &self->memory_;
        voGetAACEncAPI(&self->api_);
        if (self->api_.Init(&self->handle_, VO_AUDIO_CodingAAC, &user) != VO_ERR_NONE)
            return refused("the AAC encoder does not start");
        AACENC_PARAM param{};
        param.sampleRate = sample_rate;
        param.bitRate = static_cast<int>(bitrate);
        param.nChannels = static_cast<short>(channels);
        param.adtsUsed = 0;
        if (self->api_.SetParam(self->handle_, VO_PID_AAC_ENCPARAM, &param) != VO_ERR_NONE)
            return refused("the AAC encoder refuses these settings");
        Track& track = self->track_;
        track.kind = TrackKind::audio;
        track.codec = Codec::aac;
        track.profile = "AAC-LC";
        track.sample_rate = sample_rate;
        track.channels = channels;
        track.bitrate_bps = bitrate;
        track.codec_config = Bytes(std::move(config));
        return std::unique_ptr<media::AudioEncoder>(std::move(self));
    }

    const Track& track() const override { return track_; }

    Status encode(const AudioFrames& audio, std::vector<Packet>& out) override {
        if (!begun_) {
            start_ = audio.pts;
            begun_ = true;
        }
        for (const float sample : audio.samples) {
            pending_.push_back(
                static_cast<std::int16_t>(std::lround(std::fmin(std::fmax(sample * 32768.0f, -32768.0f), 32767.0f))));
        }
        return run(out);
    }

    Status flush(std::vector<Packet>& out) override {
        // The encoder has no end of its own: silence up to a whole frame, and two frames to push the last audio out.
        const auto frame = static_cast<std::size_t>(kFrame * track_.channels);
        pending_.resize((pending_.size() + frame - 1) / frame * frame + 2 * frame, 0);
        return run(out);
    }

  private:
    AacEncoder() = default;

    Status run(std::vector<Packet>& out) {
        const auto frame = static_cast<std::size_t>(kFrame * track_.channels);
        std::size_t used = 0;
        for (; pending_.size() - used >= frame; used += frame) {
            VO_CODECBUFFER input{};
            input.Buffer = reinterpret_cast<VO_PBYTE>(pending_.data() + used);
            input.Length = static_cast<VO_U32>(frame * sizeof(std::int16_t));
            if (api_.SetInputData(handle_, &input) != VO_ERR_NONE) return failed();
            std::uint8_t coded[8192];
            VO_CODECBUFFER output{};
            output.Buffer = coded;
            output.Length = sizeof coded;
            VO_AUDIO_OUTPUTINFO info{};
            if (api_.GetOutputData(handle_, &output, &info) != VO_ERR_NONE) return failed();
            Packet packet;
            packet.pts = packet.dts = start_ + base::from_ticks(packets_ * kFrame - kAacPriming, track_.sample_rate);
            packet.duration = base::from_ticks(kFrame, track_.sample_rate);
            packet.key = true;
            packet.data = Bytes(ByteVector(coded, coded + output.Length));
            ++packets_;
            out.push_back(std::move(packet));
        }
        pending_.erase(pending_.begin(), pending_.begin() + static_cast<std::ptrdiff_t>(used));
        return {};
    }

    static tl::unexpected<Error> failed() {
        return fail(ErrorKind::input, "the AAC encoder failed", "audio track", "choose another audio track");
    }

    VO_AUDIO_CODECAPI api_{};
    VO_MEM_OPERATOR memory_{};
    VO_HANDLE handle_ = nullptr;
    Track track_;
    bool begun_ = false;
    Time start_{};
    std::int64_t packets_ = 0;
    std::vector<std::int16_t> pending_;
};

}  // namespace

Result<std::unique_ptr<media::AudioEncoder>> make_aac_encoder(int sample_rate, int channels, std::int64_t bitrate_bps) {
    return AacEncoder::create(sample_rate, channels, bitrate_bps);
}

}  // namespace wavecrest::codec
