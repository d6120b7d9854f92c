#include <fmt/format.h>

#include <cmath>
#include <cstdint>

extern "C" {
#include <a52dec/a52.h>
}

#include "base/bits.hpp"
#include "bitstream/audio_frames.hpp"
#include "codec/audio_decoder.hpp"
#include "codec/planes.hpp"

namespace wavecrest::codec {
namespace {

using namespace media::speaker;

constexpr int kBlocks = 6;

class Ac3Decoder : public media::AudioDecoder {
  public:
    explicit Ac3Decoder(const Track& track) : track_(track), state_(a52_init(0)) {}
    Ac3Decoder(const Ac3Decoder&) = delete;
    Ac3Decoder& operator=(const Ac3Decoder&) = delete;
    ~Ac3Decoder() override { a52_free(state_); }

    Status decode(const Packet& packet, std::vector<AudioFrames>& out) override {
        const auto header = bitstream::parse_audio_header(Codec::ac3, packet.data.view());
        if (!header) return {};  // what is missing becomes silence by its time
        if (header->codec == Codec::eac3) {
            return fail(ErrorKind::input, "this E-AC-3 audio has no AC-3 core, and can't be decoded without one",
                        fmt::format("audio track {:#x}", track_.id), "choose another audio track");
        }
        AudioFrames audio;
        audio.pts = packet.pts;
        audio.sample_rate = header->sample_rate;
        audio.speakers = header->speakers;
        audio.channels = header->channels;
        audio.downmix = downmix_of(packet.data.view());
        audio.samples.assign(static_cast<std::size_t>(kBlocks * kPlaneSamples * audio.channels), 0.0f);

        // liba52 reads in words, somewhat beyond the frame.
        buffer_.assign(packet.data.data(), packet.data.data() + packet.data.size());
        buffer_.resize(std::max(buffer_.size(), header->bytes) + 64);
        int flags = 0, rate = 0, bits = 0;
        if (a52_syncinfo(buffer_.data(), &flags, &rate, &bits) == 0) return {};
        sample_t level = 1;
        if (a52_frame(state_, buffer_.data(), &flags, &level, 0) == 0) {
            a52_dynrng(state_, nullptr, nullptr);  // full range; a night mode is the receiver's business
            for (int block = 0; block < kBlocks; ++block) {
                if (a52_block(state_) != 0) break;
                place_planes(a52_samples(state_), order_of(flags), block, audio);
            }
        }
        out.push_back(std::move(audio));
        return {};
    }

  private:
    // The bit stream information of a syncframe: ETSI TS 102 366, 4.3.2 and 4.4.2.
    static AudioFrames::Downmix downmix_of(ByteSpan frame) {
        constexpr std::size_t kSyncInformation = 5;
        constexpr int kUsualDialogue = 27;  // dB below full scale: what most discs have
        constexpr float kCentre[] = {0.70710678f, 0.59566214f, 0.5f, 0.59566214f};
        constexpr float kSurround[] = {0.70710678f, 0.5f, 0.0f, 0.5f};
        AudioFrames::Downmix mix;
        if (frame.size() <= kSyncInformation) return mix;
        base::BitReader bits(frame.subspan(kSyncInformation));
        const std::uint32_t bsid = bits.bits(5);
        bits.skip(3);
        const std::uint32_t acmod = bits.bits(3);
        if (bsid > 8) return mix;
        if ((acmod & 1) != 0 && acmod != 1) mix.centre = kCentre[bits.bits(2)];
        if ((acmod & 4) != 0) mix.surround = kSurround[bits.bits(2)];
        if (acmod == 2) bits.skip(2);
        bits.skip(1);
        const int dialogue = static_cast<int>(bits.bits(5));
        if (bits.ok() && dialogue != 0) mix.gain = std::pow(10.0f, static_cast<float>(dialogue - kUsualDialogue) / 20);
        return mix;
    }

    // Low frequency first, then left, centre, right, surround.
    static std::vector<Speakers> order_of(int flags) {
        std::vector<Speakers> order;
        if ((flags & A52_LFE) != 0) order.push_back(kLowFrequency);
        const auto with = [&](std::initializer_list<Speakers> speakers) {
            order.insert(order.end(), speakers);
            return order;
        };
        switch (flags & A52_CHANNEL_MASK) {
            case A52_MONO:
                return with({kCentre});
            case A52_3F:
                return with({kLeft, kCentre, kRight});
            case A52_2F1R:
                return with({kLeft, kRight, kCentreSurround});
            case A52_3F1R:
                return with({kLeft, kCentre, kRight, kCentreSurround});
            case A52_2F2R:
                return with({kLeft, kRight, kLeftSurround, kRightSurround});
            case A52_3F2R:
                return with({kLeft, kCentre, kRight, kLeftSurround, kRightSurround});
            default:  // stereo in its forms
                return with({kLeft, kRight});
        }
    }

    Track track_;
    a52_state_t* state_;
    ByteVector buffer_;
};

}  // namespace

std::unique_ptr<media::AudioDecoder> make_ac3_decoder(const Track& track) {
    return std::make_unique<Ac3Decoder>(track);
}

}  // namespace wavecrest::codec
