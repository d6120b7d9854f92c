#include <algorithm>
#include <cstdint>

extern "C" {
#include <dca.h>
}

#include "bitstream/audio_frames.hpp"
#include "codec/audio_decoder.hpp"
#include "codec/planes.hpp"

namespace wavecrest::codec {
namespace {

using namespace media::speaker;

class DtsDecoder : public media::AudioDecoder {
  public:
    DtsDecoder() : state_(dca_init(0)) {}
    DtsDecoder(const DtsDecoder&) = delete;
    DtsDecoder& operator=(const DtsDecoder&) = delete;
    ~DtsDecoder() override { dca_free(state_); }

    Status decode(const Packet& packet, std::vector<AudioFrames>& out) override {
        const auto header = bitstream::parse_audio_header(Codec::dts, packet.data.view());
        if (!header || header->dependent) return {};
        AudioFrames audio;
        audio.pts = packet.pts;
        audio.sample_rate = header->sample_rate;
        audio.speakers = header->speakers;
        audio.channels = header->channels;
        audio.samples.assign(static_cast<std::size_t>(header->samples * audio.channels), 0.0f);

        // The core alone; extensions lie behind it.
        const std::size_t core = std::min(header->bytes, packet.data.size());
        buffer_.assign(packet.data.data(), packet.data.data() + core);
        buffer_.resize(header->bytes + 64);
        int flags = 0, rate = 0, bits = 0, length = 0;
        if (dca_syncinfo(state_, buffer_.data(), &flags, &rate, &bits, &length) != 0) {
            level_t level = 1;
            if (dca_frame(state_, buffer_.data(), &flags, &level, 0) == 0) {
                dca_dynrng(state_, nullptr, nullptr);
                const int blocks = std::min(dca_blocks_num(state_), header->samples / kPlaneSamples);
                for (int block = 0; block < blocks; ++block) {
                    if (dca_block(state_) != 0) break;
                    place_planes(dca_samples(state_), order_of(flags), block, audio);
                }
            }
        }
        out.push_back(std::move(audio));
        return {};
    }

  private:
    // Centre first where there is one, then left, right, surround; low frequency last.
    static std::vector<Speakers> order_of(int flags) {
        const auto with = [&](std::vector<Speakers> order) {
            if ((flags & DCA_LFE) != 0) order.push_back(kLowFrequency);
            return order;
        };
        switch (flags & DCA_CHANNEL_MASK) {
            case DCA_MONO:
                return with({kCentre});
            case DCA_3F:
                return with({kCentre, kLeft, kRight});
            case DCA_2F1R:
                return with({kLeft, kRight, kCentreSurround});
            case DCA_3F1R:
                return with({kCentre, kLeft, kRight, kCentreSurround});
            case DCA_2F2R:
                return with({kLeft, kRight, kLeftSurround, kRightSurround});
            case DCA_3F2R:
                return with({kCentre, kLeft, kRight, kLeftSurround, kRightSurround});
            default:
                return with({kLeft, kRight});
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
