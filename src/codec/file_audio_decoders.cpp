// Audio of files: AAC by faad2, FLAC, Opus and Vorbis by their own libraries.
#include <FLAC/stream_decoder.h>
#include <neaacdec.h>
#include <opus/opus_multistream.h>
#include <vorbis/codec.h>

#include <algorithm>
#include <array>

#include "bitstream/xiph.hpp"
#include "codec/audio_decoder.hpp"
#include "codec/channel_order.hpp"

namespace wavecrest::codec {
namespace {

using namespace media::speaker;

class AacDecoder : public media::AudioDecoder {
  public:
    explicit AacDecoder(const Track& track) : handle_(NeAACDecOpen()) {
        NeAACDecConfigurationPtr config = NeAACDecGetCurrentConfiguration(handle_);
        config->outputFormat = FAAD_FMT_FLOAT;
        config->downMatrix = 0;
        NeAACDecSetConfiguration(handle_, config);
        unsigned long rate = 0;
        unsigned char channels = 0;
        ByteVector copy(track.codec_config.view().begin(), track.codec_config.view().end());
        // What it gives back is negative for a failure, but of type char, which has no sign on ARM.
        ok_ =
            !copy.empty() && static_cast<signed char>(NeAACDecInit2(
                                 handle_, copy.data(), static_cast<unsigned long>(copy.size()), &rate, &channels)) >= 0;
    }
    AacDecoder(const AacDecoder&) = delete;
    AacDecoder& operator=(const AacDecoder&) = delete;
    ~AacDecoder() override { NeAACDecClose(handle_); }

    Status decode(const Packet& packet, std::vector<AudioFrames>& out) override {
        if (!ok_)
            return fail(ErrorKind::input, "the AAC configuration can't be used", "audio track",
                        "choose another audio track");
        NeAACDecFrameInfo info{};
        ByteVector copy(packet.data.view().begin(), packet.data.view().end());
        const void* samples = NeAACDecDecode(handle_, &info, copy.data(), static_cast<unsigned long>(copy.size()));
        if (info.error != 0 || samples == nullptr || info.samples == 0 || info.channels == 0) return {};
        AudioFrames audio;
        audio.pts = packet.pts;
        audio.sample_rate = static_cast<int>(info.samplerate);
        audio.channels = info.channels;
        const auto* begin = static_cast<const float*>(samples);
        audio.samples.assign(begin, begin + info.samples);
        std::vector<Speakers> places;
        for (int i = 0; i < info.channels; ++i) {
            constexpr std::array<Speakers, 10> kPlaces = {
                0,         kCentre,    kLeft,           kRight,       kLeftSurround, kRightSurround,
                kLeftBack, kRightBack, kCentreSurround, kLowFrequency};
            const unsigned position = info.channel_position[i];
            places.push_back(position < kPlaces.size() ? kPlaces[position] : 0);
        }
        // Without side channels, those behind are the surround pair.
        if (std::find(places.begin(), places.end(), kLeftSurround) == places.end()) {
            std::replace(places.begin(), places.end(), kLeftBack, kLeftSurround);
            std::replace(places.begin(), places.end(), kRightBack, kRightSurround);
        }
        arrange(audio, places);
        out.push_back(std::move(audio));
        return {};
    }

  private:
    NeAACDecHandle handle_;
    bool ok_ = false;
};

class FlacDecoder : public media::AudioDecoder {
  public:
    explicit FlacDecoder(const Track& track) : decoder_(FLAC__stream_decoder_new()) {
        const ByteSpan config = track.codec_config.view();
        input_ = {'f', 'L', 'a', 'C', 0x80, 0, 0, static_cast<std::uint8_t>(config.size())};
        input_.insert(input_.end(), config.begin(), config.end());
        ok_ = FLAC__stream_decoder_init_stream(decoder_, read, nullptr, nullptr, nullptr, nullptr, write, nullptr,
                                               error, this) == FLAC__STREAM_DECODER_INIT_STATUS_OK &&
              FLAC__stream_decoder_process_until_end_of_metadata(decoder_);
    }
    FlacDecoder(const FlacDecoder&) = delete;
    FlacDecoder& operator=(const FlacDecoder&) = delete;
    ~FlacDecoder() override { FLAC__stream_decoder_delete(decoder_); }

    Status decode(const Packet& packet, std::vector<AudioFrames>& out) override {
        if (!ok_)
            return fail(ErrorKind::input, "the FLAC configuration can't be used", "audio track",
                        "choose another audio track");
        input_.assign(packet.data.view().begin(), packet.data.view().end());
        at_ = 0;
        audio_ = {};
        FLAC__stream_decoder_process_single(decoder_);
        if (FLAC__stream_decoder_get_state(decoder_) >= FLAC__STREAM_DECODER_END_OF_STREAM)
            FLAC__stream_decoder_flush(decoder_);
        if (!audio_.samples.empty()) {
            audio_.pts = packet.pts;
            arrange(audio_, flac_order(audio_.channels));
            out.push_back(std::move(audio_));
        }
        return {};
    }

  private:
    static FLAC__StreamDecoderReadStatus read(const FLAC__StreamDecoder*, FLAC__byte buffer[], std::size_t* bytes,
                                              void* self_pointer) {
        auto& self = *static_cast<FlacDecoder*>(self_pointer);
        const std::size_t count = std::min(*bytes, self.input_.size() - self.at_);
        std::copy_n(self.input_.begin() + static_cast<std::ptrdiff_t>(self.at_), count, buffer);
        self.at_ += count;
        *bytes = count;
        return count > 0 ? FLAC__STREAM_DECODER_READ_STATUS_CONTINUE : FLAC__STREAM_DECODER_READ_STATUS_END_OF_STREAM;
    }
    static FLAC__StreamDecoderWriteStatus write(const FLAC__StreamDecoder*, const FLAC__Frame* frame,
                                                const FLAC__int32* const buffer[], void* self_pointer) {
        auto& self = *static_cast<FlacDecoder*>(self_pointer);
        const unsigned channels = frame->header.channels;
        const float scale = 1.0f / static_cast<float>(1u << (frame->header.bits_per_sample - 1));
        self.audio_.sample_rate = static_cast<int>(frame->header.sample_rate);
        self.audio_.channels = static_cast<int>(channels);
        self.audio_.samples.resize(std::size_t{frame->header.blocksize} * channels);
        for (unsigned i = 0; i < frame->header.blocksize; ++i) {
            for (unsigned c = 0; c < channels; ++c)
                self.audio_.samples[i * channels + c] = static_cast<float>(buffer[c][i]) * scale;
        }
        return FLAC__STREAM_DECODER_WRITE_STATUS_CONTINUE;
    }
    static void error(const FLAC__StreamDecoder*, FLAC__StreamDecoderErrorStatus, void*) {}

    FLAC__StreamDecoder* decoder_;
    ByteVector input_;
    std::size_t at_ = 0;
    AudioFrames audio_;
    bool ok_ = false;
};

class OpusAudioDecoder : public media::AudioDecoder {
  public:
    explicit OpusAudioDecoder(const Track& track) {
        const auto head = bitstream::parse_opus_head(track.codec_config.view());
        if (!head) return;
        channels_ = head->channels;
        std::vector<unsigned char> mapping = {0, 1};
        int streams = 1, coupled = channels_ - 1;
        if (head->family != 0) {
            streams = head->mapping[0];
            coupled = head->mapping[1];
            mapping.assign(head->mapping.begin() + 2, head->mapping.end());
        }
        int error = 0;
        decoder_ =
            opus_multistream_decoder_create(bitstream::kOpusRate, channels_, streams, coupled, mapping.data(), &error);
        if (error != OPUS_OK) decoder_ = nullptr;
        if (decoder_ != nullptr) opus_multistream_decoder_ctl(decoder_, OPUS_SET_GAIN(head->gain));
        if (head->family <= 1) places_ = vorbis_order(channels_);
    }
    OpusAudioDecoder(const OpusAudioDecoder&) = delete;
    OpusAudioDecoder& operator=(const OpusAudioDecoder&) = delete;
    ~OpusAudioDecoder() override {
        if (decoder_ != nullptr) opus_multistream_decoder_destroy(decoder_);
    }
    Status decode(const Packet& packet, std::vector<AudioFrames>& out) override {
        if (decoder_ == nullptr)
            return fail(ErrorKind::input, "the Opus configuration can't be used", "audio track",
                        "choose another audio track");
        constexpr int kMostSamples = 5760;
        AudioFrames audio;
        audio.pts = packet.pts;
        audio.sample_rate = bitstream::kOpusRate;
        audio.channels = channels_;
        audio.samples.resize(static_cast<std::size_t>(kMostSamples * channels_));
        const int got =
            opus_multistream_decode_float(decoder_, packet.data.data(), static_cast<opus_int32>(packet.data.size()),
                                          audio.samples.data(), kMostSamples, 0);
        if (got <= 0) return {};
        audio.samples.resize(static_cast<std::size_t>(got * channels_));
        arrange(audio, places_);
        out.push_back(std::move(audio));
        return {};
    }

  private:
    OpusMSDecoder* decoder_ = nullptr;
    int channels_ = 0;
    std::vector<Speakers> places_;
};

class VorbisDecoder : public media::AudioDecoder {
  public:
    explicit VorbisDecoder(const Track& track) {
        vorbis_info_init(&info_);
        vorbis_comment_init(&comment_);
        const auto headers = bitstream::split_vorbis_headers(track.codec_config.view());
        ok_ = headers.has_value();
        for (std::size_t i = 0; ok_ && i < 3; ++i) {
            ByteVector copy((*headers)[i].begin(), (*headers)[i].end());
            ogg_packet packet{};
            packet.packet = copy.data();
            packet.bytes = static_cast<long>(copy.size());
            packet.b_o_s = i == 0;
            packet.packetno = static_cast<ogg_int64_t>(i);
            ok_ = vorbis_synthesis_headerin(&info_, &comment_, &packet) == 0;
        }
        if (ok_) ok_ = vorbis_synthesis_init(&dsp_, &info_) == 0;
        if (ok_) vorbis_block_init(&dsp_, &block_);
    }
    VorbisDecoder(const VorbisDecoder&) = delete;
    VorbisDecoder& operator=(const VorbisDecoder&) = delete;
    ~VorbisDecoder() override {
        if (ok_) {
            vorbis_block_clear(&block_);
            vorbis_dsp_clear(&dsp_);
        }
        vorbis_comment_clear(&comment_);
        vorbis_info_clear(&info_);
    }
    Status decode(const Packet& packet, std::vector<AudioFrames>& out) override {
        if (!ok_)
            return fail(ErrorKind::input, "the Vorbis configuration can't be used", "audio track",
                        "choose another audio track");
        ByteVector copy(packet.data.view().begin(), packet.data.view().end());
        ogg_packet coded{};
        coded.packet = copy.data();
        coded.bytes = static_cast<long>(copy.size());
        coded.packetno = ++number_;
        if (vorbis_synthesis(&block_, &coded) != 0 || vorbis_synthesis_blockin(&dsp_, &block_) != 0) return {};
        float** planes = nullptr;
        int got = 0;
        AudioFrames audio;
        audio.pts = packet.pts;
        audio.sample_rate = static_cast<int>(info_.rate);
        audio.channels = info_.channels;
        while ((got = vorbis_synthesis_pcmout(&dsp_, &planes)) > 0) {
            for (int i = 0; i < got; ++i) {
                for (int c = 0; c < info_.channels; ++c) audio.samples.push_back(planes[c][i]);
            }
            vorbis_synthesis_read(&dsp_, got);
        }
        if (audio.samples.empty()) return {};
        arrange(audio, vorbis_order(audio.channels));
        out.push_back(std::move(audio));
        return {};
    }

  private:
    vorbis_info info_{};
    vorbis_comment comment_{};
    vorbis_dsp_state dsp_{};
    vorbis_block block_{};
    ogg_int64_t number_ = 2;
    bool ok_ = false;
};

}  // namespace

std::unique_ptr<media::AudioDecoder> make_aac_decoder(const Track& track) {
    return std::make_unique<AacDecoder>(track);
}
std::unique_ptr<media::AudioDecoder> make_flac_decoder(const Track& track) {
    return std::make_unique<FlacDecoder>(track);
}
std::unique_ptr<media::AudioDecoder> make_opus_decoder(const Track& track) {
    return std::make_unique<OpusAudioDecoder>(track);
}
std::unique_ptr<media::AudioDecoder> make_vorbis_decoder(const Track& track) {
    return std::make_unique<VorbisDecoder>(track);
}

}  // namespace wavecrest::codec
