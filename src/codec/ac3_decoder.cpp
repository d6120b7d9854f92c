#include <fmt/format.h>

#include <array>
#include <cstdint>

extern "C" {
#include <a52dec/a52.h>
}

#include "bitstream/audio_frames.hpp"
#include "codec/audio_decoder.hpp"

namespace wavecrest::codec {
namespace {

using namespace media::speaker;

constexpr int kBlocks = 6, kBlockSamples = 256;

class Ac3Decoder : public media::AudioDecoder {
  public:
    explicit Ac3Decoder(const Track& track) : track_(track), state_(a52_init(0)) {}
    Ac3Decoder(const Ac3Decoder&) = delete;
    Ac3Decoder& operator=(const Ac3Decoder&) = delete;
    ~Ac3Decoder() override { a52_free(state_); }

    Status decode(const Packet& packet, std::vector<Sound>& out) override {
        const auto header = bitstream::parse_audio_header(Codec::ac3, packet.data.view());
        if (!header) return {};  // what is missing becomes silence by its time
        if (header->codec == Codec::eac3) {
            return fail(ErrorKind::input, "this E-AC-3 sound has no AC-3 core, and can't be decoded without one",
                        fmt::format("audio track {:#x}", track_.id), "choose another sound track");
        }
        Sound sound;
        sound.pts = packet.pts;
        sound.sample_rate = header->sample_rate;
        sound.speakers = header->speakers;
        sound.channels = header->channels;
        sound.samples.assign(static_cast<std::size_t>(kBlocks * kBlockSamples * sound.channels), 0.0f);

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
                take_block(flags, block, sound);
            }
        }
        out.push_back(std::move(sound));
        return {};
    }

  private:
    // liba52 gives one plane of 256 samples a channel: low frequency first, then left, centre, right, surround.
    void take_block(int flags, int block, Sound& sound) const {
        std::array<Speakers, 6> planes{};
        std::size_t count = 0;
        if ((flags & A52_LFE) != 0) planes[count++] = kLowFrequency;
        const auto add = [&](std::initializer_list<Speakers> speakers) {
            for (const Speakers s : speakers) planes[count++] = s;
        };
        switch (flags & A52_CHANNEL_MASK) {
            case A52_MONO:
                add({kCentre});
                break;
            case A52_3F:
                add({kLeft, kCentre, kRight});
                break;
            case A52_2F1R:
                add({kLeft, kRight, kCentreSurround});
                break;
            case A52_3F1R:
                add({kLeft, kCentre, kRight, kCentreSurround});
                break;
            case A52_2F2R:
                add({kLeft, kRight, kLeftSurround, kRightSurround});
                break;
            case A52_3F2R:
                add({kLeft, kCentre, kRight, kLeftSurround, kRightSurround});
                break;
            default:  // stereo in its forms
                add({kLeft, kRight});
        }
        const sample_t* samples = a52_samples(state_);
        for (std::size_t plane = 0; plane < count; ++plane) {
            if ((sound.speakers & planes[plane]) == 0) continue;
            const int channel = media::speaker_count(sound.speakers & (planes[plane] - 1));
            float* to = sound.samples.data() + block * kBlockSamples * sound.channels + channel;
            for (int i = 0; i < kBlockSamples; ++i, to += sound.channels)
                *to = static_cast<float>(samples[plane * kBlockSamples + static_cast<std::size_t>(i)]);
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
