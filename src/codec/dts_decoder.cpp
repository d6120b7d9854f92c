#include <array>
#include <cstdint>

extern "C" {
#include <dca.h>
}

#include "bitstream/audio_frames.hpp"
#include "codec/audio_decoder.hpp"

namespace wavecrest::codec {
namespace {

using namespace media::speaker;

constexpr int kBlockSamples = 256;

class DtsDecoder : public media::AudioDecoder {
  public:
    DtsDecoder() : state_(dca_init(0)) {}
    DtsDecoder(const DtsDecoder&) = delete;
    DtsDecoder& operator=(const DtsDecoder&) = delete;
    ~DtsDecoder() override { dca_free(state_); }

    Status decode(const Packet& packet, std::vector<Sound>& out) override {
        const auto header = bitstream::parse_audio_header(Codec::dts, packet.data.view());
        if (!header || header->dependent) return {};
        Sound sound;
        sound.pts = packet.pts;
        sound.sample_rate = header->sample_rate;
        sound.speakers = header->speakers;
        sound.channels = header->channels;
        sound.samples.assign(static_cast<std::size_t>(header->samples * sound.channels), 0.0f);

        // The core alone; extensions lie behind it.
        const std::size_t core = std::min(header->bytes, packet.data.size());
        buffer_.assign(packet.data.data(), packet.data.data() + core);
        buffer_.resize(header->bytes + 64);
        int flags = 0, rate = 0, bits = 0, length = 0;
        if (dca_syncinfo(state_, buffer_.data(), &flags, &rate, &bits, &length) != 0) {
            level_t level = 1;
            if (dca_frame(state_, buffer_.data(), &flags, &level, 0) == 0) {
                dca_dynrng(state_, nullptr, nullptr);
                const int blocks = std::min(dca_blocks_num(state_), header->samples / kBlockSamples);
                for (int block = 0; block < blocks; ++block) {
                    if (dca_block(state_) != 0) break;
                    take_block(flags, block, sound);
                }
            }
        }
        out.push_back(std::move(sound));
        return {};
    }

  private:
    // One plane a channel: centre first where there is one, then left, right, surround; low frequency last.
    void take_block(int flags, int block, Sound& sound) const {
        std::array<Speakers, 6> planes{};
        std::size_t count = 0;
        const auto add = [&](std::initializer_list<Speakers> speakers) {
            for (const Speakers s : speakers) planes[count++] = s;
        };
        switch (flags & DCA_CHANNEL_MASK) {
            case DCA_MONO:
                add({kCentre});
                break;
            case DCA_3F:
                add({kCentre, kLeft, kRight});
                break;
            case DCA_2F1R:
                add({kLeft, kRight, kCentreSurround});
                break;
            case DCA_3F1R:
                add({kCentre, kLeft, kRight, kCentreSurround});
                break;
            case DCA_2F2R:
                add({kLeft, kRight, kLeftSurround, kRightSurround});
                break;
            case DCA_3F2R:
                add({kCentre, kLeft, kRight, kLeftSurround, kRightSurround});
                break;
            default:
                add({kLeft, kRight});
        }
        if ((flags & DCA_LFE) != 0) add({kLowFrequency});
        const sample_t* samples = dca_samples(state_);
        for (std::size_t plane = 0; plane < count; ++plane) {
            if ((sound.speakers & planes[plane]) == 0) continue;
            const int channel = media::speaker_count(sound.speakers & (planes[plane] - 1));
            float* to = sound.samples.data() + block * kBlockSamples * sound.channels + channel;
            for (int i = 0; i < kBlockSamples; ++i, to += sound.channels)
                *to = static_cast<float>(samples[plane * kBlockSamples + static_cast<std::size_t>(i)]);
        }
    }

    dca_state_t* state_;
    ByteVector buffer_;
};

}  // namespace

std::unique_ptr<media::AudioDecoder> make_dts_decoder(const Track&) {
    return std::make_unique<DtsDecoder>();
}

}  // namespace wavecrest::codec
