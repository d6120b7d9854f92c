#include "codec/lpcm_decoder.hpp"

#include <fmt/format.h>

namespace wavecrest::codec {
namespace {

class LpcmDecoder : public media::AudioDecoder {
  public:
    explicit LpcmDecoder(const Track& track) : track_(track) {}

    Status decode(const Packet& packet, std::vector<Sound>& out) override {
        if (track_.bit_depth != 16) {
            return fail(ErrorKind::input, fmt::format("{}-bit LPCM sound can't be decoded yet", track_.bit_depth),
                        fmt::format("audio track {:#x}", track_.id), "choose another audio track");
        }
        Sound sound;
        sound.pts = packet.pts;
        sound.sample_rate = track_.sample_rate;
        sound.channels = track_.channels;
        const ByteSpan data = packet.data.view();
        sound.samples.resize(data.size() / 2);
        for (std::size_t i = 0; i < sound.samples.size(); ++i) {
            sound.samples[i] =
                static_cast<float>(static_cast<std::int16_t>(data[2 * i] << 8 | data[2 * i + 1])) / 32768.0f;
        }
        out.push_back(std::move(sound));
        return {};
    }

  private:
    Track track_;
};

}  // namespace

std::unique_ptr<media::AudioDecoder> make_lpcm_decoder(const Track& track) {
    return std::make_unique<LpcmDecoder>(track);
}

}  // namespace wavecrest::codec
