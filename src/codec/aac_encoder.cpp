#include "codec/aac_encoder.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <bit>
#include <cmath>
extern "C" {
#include <vo-aacenc/cmnMemory.h>
#include <vo-aacenc/voAAC.h>
}

#include "base/bits.hpp"
#include "bitstream/aac.hpp"
#include "codec/audio_encoder.hpp"

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

// 5.1: the library makes one or two channels, and a raw data block (ISO/IEC 14496-3, 4.4.2.1) takes several elements:
// centre, front pair, surround pair and low frequencies are encoded apart and put into one, in the order of channel
// configuration 6. Each element begins with its type and number; what lies between them and the block's end goes over
// bit by bit.
class SurroundAacEncoder : public media::AudioEncoder {
  public:
    static Result<std::unique_ptr<media::AudioEncoder>> create(const AudioEncoderSettings& settings) {
        using namespace media::speaker;
        if (settings.speakers != kFiveOne)
            return fail(ErrorKind::usage, "AAC is encoded in mono, stereo or 5.1", "audio settings of the profile",
                        "use one of these layouts");
        std::unique_ptr<SurroundAacEncoder> self(new SurroundAacEncoder);
        for (const Part& part : kParts) {
            // Low frequencies need little; what the others take is in proportion to what they usually carry.
            const auto bps = std::max<std::int64_t>(settings.bitrate_bps * part.share / 100, part.channels * 16'000);
            WAVECREST_TRY_ASSIGN(made, AacEncoder::create(settings.sample_rate, part.channels, bps));
            self->encoders_.push_back(std::move(made));
        }
        self->track_ = self->encoders_.front()->track();
        self->track_.channels = 6;
        self->track_.speakers = kFiveOne;
        self->track_.bitrate_bps = settings.bitrate_bps;
        self->track_.codec_config = Bytes(bitstream::aac::make_config(settings.sample_rate, 6));
        return std::unique_ptr<media::AudioEncoder>(std::move(self));
    }
    const Track& track() const override { return track_; }
    Status encode(const AudioFrames& audio, std::vector<Packet>& out) override {
        for (std::size_t i = 0; i < std::size(kParts); ++i) {
            const Part& part = kParts[i];
            AudioFrames own;
            own.pts = audio.pts;
            own.sample_rate = audio.sample_rate;
            own.channels = part.channels;
            own.samples.reserve(audio.frames() * static_cast<std::size_t>(part.channels));
            for (std::size_t n = 0; n < audio.frames(); ++n) {
                for (int c = 0; c < part.channels; ++c)
                    own.samples.push_back(audio.samples[n * 6 + static_cast<std::size_t>(part.first + c)]);
            }
            WAVECREST_TRY(encoders_[i]->encode(own, coded_[i]));
        }
        return join(out);
    }
    Status flush(std::vector<Packet>& out) override {
        for (std::size_t i = 0; i < std::size(kParts); ++i) WAVECREST_TRY(encoders_[i]->flush(coded_[i]));
        return join(out);
    }

  private:
    // Elements in their order (table 1.19), by where their channels are in the order of Speakers.
    struct Part {
        int first, channels;
        std::uint32_t type, number;  // id_syn_ele (table 4.85), element_instance_tag
        int share;                   // of the bit rate, per cent
    };
    static constexpr std::uint32_t kSingle = 0, kPair = 1, kLow = 3, kEnd = 7;
    static constexpr Part kParts[] = {
        {2, 1, kSingle, 0, 24}, {0, 2, kPair, 0, 40}, {4, 2, kPair, 1, 32}, {3, 1, kLow, 0, 4}};

    Status join(std::vector<Packet>& out) {
        const auto ready = std::min({coded_[0].size(), coded_[1].size(), coded_[2].size(), coded_[3].size()});
        for (std::size_t n = 0; n < ready; ++n) {
            base::BitWriter block;
            for (std::size_t i = 0; i < std::size(kParts); ++i) {
                const ByteSpan bytes = coded_[i][n].data.view();
                // The block ends with three ones and zeros up to the byte: its last one is the end of that.
                std::size_t last = bytes.size();
                while (last > 0 && bytes[last - 1] == 0) --last;
                if (last == 0) return failed();
                const int zeros = std::countr_zero(bytes[last - 1]);
                const std::size_t bits = last * 8 - static_cast<std::size_t>(zeros) - 3;
                base::BitReader element(bytes);
                element.skip(7);
                block.bits(kParts[i].type, 3);
                block.bits(kParts[i].number, 4);
                for (std::size_t left = bits - 7; left > 0;) {
                    const int step = static_cast<int>(std::min<std::size_t>(left, 32));
                    block.bits(element.bits(step), step);
                    left -= static_cast<std::size_t>(step);
                }
                if (!element.ok()) return failed();
            }
            block.bits(kEnd, 3);
            Packet packet = coded_[0][n];
            packet.data = Bytes(block.release());
            out.push_back(std::move(packet));
        }
        for (auto& one : coded_) one.erase(one.begin(), one.begin() + static_cast<std::ptrdiff_t>(ready));
        return {};
    }
    static tl::unexpected<Error> failed() {
        return fail(ErrorKind::input, "the AAC encoder failed", "audio track", "choose another audio codec");
    }

    std::vector<std::unique_ptr<media::AudioEncoder>> encoders_;
    std::array<std::vector<Packet>, std::size(kParts)> coded_;
    Track track_;
};

}  // namespace

Result<std::unique_ptr<media::AudioEncoder>> make_surround_aac_encoder(const AudioEncoderSettings& settings) {
    return SurroundAacEncoder::create(settings);
}

Result<std::unique_ptr<media::AudioEncoder>> make_aac_encoder(int sample_rate, int channels, std::int64_t bitrate_bps) {
    return AacEncoder::create(sample_rate, channels, bitrate_bps);
}

}  // namespace wavecrest::codec
