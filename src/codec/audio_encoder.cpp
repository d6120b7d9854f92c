#include "codec/audio_encoder.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <span>

#include "codec/aac_encoder.hpp"
#include "codec/ac3_encoder.hpp"
#include "codec/channel_order.hpp"

namespace wavecrest::codec {
namespace {

using namespace media::speaker;

constexpr std::array kAacRates = {8000, 11025, 12000, 16000, 22050, 24000, 32000, 44100, 48000, 64000, 88200, 96000};
constexpr std::array kMp3Rates = {32000, 44100, 48000};

// The lowest that is not below, else the highest.
int nearest_of(std::span<const int> rates, int rate) {
    const auto found = std::lower_bound(rates.begin(), rates.end(), rate);
    return found == rates.end() ? rates.back() : *found;
}

// The nearest bit rate that AC-3 has (ETSI TS 102 366, table 4.13), not below.
std::int64_t ac3_bitrate(std::int64_t bps) {
    constexpr std::array<std::int64_t, 19> kRates = {32,  40,  48,  56,  64,  80,  96,  112, 128, 160,
                                                     192, 224, 256, 320, 384, 448, 512, 576, 640};
    for (const std::int64_t rate : kRates) {
        if (rate * 1000 >= bps) return rate * 1000;
    }
    return 640'000;
}

// Our own: samples as bitstream/lpcm.hpp has them, a fiftieth of a second a packet.
class LpcmEncoder : public media::AudioEncoder {
  public:
    explicit LpcmEncoder(const AudioEncoderSettings& settings) : settings_(settings) {
        track_.kind = TrackKind::audio;
        track_.codec = Codec::lpcm;
        track_.sample_rate = settings.sample_rate;
        track_.channels = media::speaker_count(settings.speakers);
        track_.speakers = settings.speakers;
        track_.bit_depth = settings.bit_depth;
        track_.bitrate_bps = std::int64_t{settings.bit_depth} * track_.channels * settings.sample_rate;
    }
    const Track& track() const override { return track_; }
    Status encode(const AudioFrames& audio, std::vector<Packet>& out) override {
        const float scale = settings_.bit_depth == 24 ? 8388608.0f : 32768.0f;
        ByteVector bytes;
        bytes.reserve(audio.samples.size() * static_cast<std::size_t>(settings_.bit_depth / 8));
        for (const float sample : audio.samples) {
            const auto value = static_cast<std::int32_t>(std::lround(std::clamp(sample * scale, -scale, scale - 1)));
            if (settings_.bit_depth == 24) bytes.push_back(static_cast<std::uint8_t>(value >> 16));
            bytes.push_back(static_cast<std::uint8_t>(value >> 8));
            bytes.push_back(static_cast<std::uint8_t>(value));
        }
        Packet packet;
        packet.pts = packet.dts = audio.pts;
        packet.duration = base::from_ticks(static_cast<std::int64_t>(audio.frames()), settings_.sample_rate);
        packet.key = true;
        packet.data = Bytes(std::move(bytes));
        out.push_back(std::move(packet));
        return {};
    }
    Status flush(std::vector<Packet>&) override { return {}; }

  private:
    AudioEncoderSettings settings_;
    Track track_;
};

}  // namespace

bool can_encode_audio(Codec codec) {
    switch (codec) {
        case Codec::aac:
        case Codec::ac3:
        case Codec::opus:
        case Codec::mp3:
        case Codec::flac:
        case Codec::lpcm:
            return true;
        default:
            return false;
    }
}

int nearest_rate(Codec codec, int sample_rate) {
    switch (codec) {
        case Codec::aac:
            // More than 48 kHz costs bits that nobody hears.
            return std::min(nearest_of(kAacRates, sample_rate), 48000);
        case Codec::mp3:
            return nearest_of(kMp3Rates, sample_rate);
        case Codec::ac3:
        case Codec::opus:
            return 48000;
        default:
            return sample_rate;
    }
}

Speakers nearest_layout(Codec codec, Speakers speakers) {
    const int count = media::speaker_count(speakers);
    if (count <= 1) return kCentre;
    switch (codec) {
        case Codec::mp3:
            return kStereo;
        case Codec::aac:
            return count <= 2 ? kStereo : kFiveOne;
        case Codec::ac3:
            return speakers & (kLeftBack | kRightBack)
                       ? (speakers & ~(kLeftBack | kRightBack)) | kLeftSurround | kRightSurround
                       : speakers;
        case Codec::opus:
            return set_of(vorbis_order(std::min(count, 8)));
        case Codec::flac:
            return set_of(flac_order(std::min(count, 8)));
        default:
            return speakers;
    }
}

Result<std::unique_ptr<media::AudioEncoder>> make_audio_encoder(const AudioEncoderSettings& settings) {
    const int channels = media::speaker_count(settings.speakers);
    switch (settings.codec) {
        case Codec::aac:
            if (channels > 2) return make_surround_aac_encoder(settings);
            return make_aac_encoder(settings.sample_rate, channels, settings.bitrate_bps);
        case Codec::ac3:
            if (settings.sample_rate != 48000) break;
            return make_ac3_encoder({settings.speakers, ac3_bitrate(settings.bitrate_bps), settings.purpose, 27});
        case Codec::opus:
            return make_opus_encoder(settings);
        case Codec::mp3:
            return make_mp3_encoder(settings);
        case Codec::flac:
            return make_flac_encoder(settings);
        case Codec::lpcm:
            return make_lpcm_encoder(settings);
        default:
            break;
    }
    return fail(
        ErrorKind::usage,
        fmt::format("{} audio at {} Hz can't be encoded", media::display_name(settings.codec), settings.sample_rate),
        "audio settings of the profile", "use another codec: aac, ac3, opus, mp3, flac or lpcm");
}

Result<std::unique_ptr<media::AudioEncoder>> make_lpcm_encoder(const AudioEncoderSettings& settings) {
    if (settings.bit_depth != 16 && settings.bit_depth != 24)
        return fail(ErrorKind::usage, fmt::format("LPCM of {} bits can't be made", settings.bit_depth),
                    "audio settings of the profile", "use 16 or 24 bits");
    return std::unique_ptr<media::AudioEncoder>(std::make_unique<LpcmEncoder>(settings));
}

}  // namespace wavecrest::codec
