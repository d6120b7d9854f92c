#include "codec/audio_decoder.hpp"

#include <fmt/format.h>

namespace wavecrest::codec {
namespace {

class LpcmDecoder : public media::AudioDecoder {
  public:
    explicit LpcmDecoder(const Track& track) : track_(track) {}

    Status decode(const Packet& packet, std::vector<AudioFrames>& out) override {
        AudioFrames audio;
        audio.pts = packet.pts;
        audio.sample_rate = track_.sample_rate;
        audio.channels = track_.channels;
        audio.speakers = track_.speakers;
        const ByteSpan data = packet.data.view();
        if (track_.bit_depth == 16) {
            audio.samples.resize(data.size() / 2);
            for (std::size_t i = 0; i < audio.samples.size(); ++i) {
                audio.samples[i] =
                    static_cast<float>(static_cast<std::int16_t>(data[2 * i] << 8 | data[2 * i + 1])) / 32768.0f;
            }
        } else if (track_.bit_depth > 24) {
            audio.samples.resize(data.size() / 4);
            for (std::size_t i = 0; i < audio.samples.size(); ++i) {
                const auto word = static_cast<std::uint32_t>(data[4 * i]) << 24 |
                                  static_cast<std::uint32_t>(data[4 * i + 1]) << 16 |
                                  static_cast<std::uint32_t>(data[4 * i + 2]) << 8 | data[4 * i + 3];
                audio.samples[i] = static_cast<float>(static_cast<std::int32_t>(word)) / 2147483648.0f;
            }
        } else {
            audio.samples.resize(data.size() / 3);
            for (std::size_t i = 0; i < audio.samples.size(); ++i) {
                const auto word = static_cast<std::uint32_t>(data[3 * i]) << 24 |
                                  static_cast<std::uint32_t>(data[3 * i + 1]) << 16 |
                                  static_cast<std::uint32_t>(data[3 * i + 2]) << 8;
                audio.samples[i] = static_cast<float>(static_cast<std::int32_t>(word)) / 2147483648.0f;
            }
        }
        out.push_back(std::move(audio));
        return {};
    }

  private:
    Track track_;
};

}  // namespace

bool can_decode_audio(const Track& track) {
    switch (track.codec) {
        case Codec::lpcm:
            return track.channels > 0 && track.sample_rate > 0;
        case Codec::ac3:
        case Codec::eac3:
        case Codec::truehd:
        case Codec::dts:
        case Codec::mp2:
        case Codec::mp3:
        case Codec::aac:
        case Codec::flac:
        case Codec::opus:
        case Codec::vorbis:
            return true;
        default:
            return false;
    }
}

Result<std::unique_ptr<media::AudioDecoder>> make_audio_decoder(const Track& track) {
    switch (track.codec) {
        case Codec::lpcm:
            return std::make_unique<LpcmDecoder>(track);
        case Codec::ac3:
        case Codec::eac3:
        case Codec::truehd:
            return make_ac3_decoder(track);
        case Codec::dts:
            return make_dts_decoder(track);
        case Codec::mp2:
        case Codec::mp3:
            return make_mpeg_audio_decoder(track);
        case Codec::aac:
            return make_aac_decoder(track);
        case Codec::flac:
            return make_flac_decoder(track);
        case Codec::opus:
            return make_opus_decoder(track);
        case Codec::vorbis:
            return make_vorbis_decoder(track);
        default:
            return fail(ErrorKind::input, fmt::format("{} audio can't be decoded", media::display_name(track.codec)),
                        fmt::format("audio track {:#x}", track.id), "choose another audio track");
    }
}

}  // namespace wavecrest::codec
