#include <mpg123.h>

#include <mutex>

#include "bitstream/audio_frames.hpp"
#include "codec/audio_decoder.hpp"

namespace wavecrest::codec {
namespace {

class MpegAudioDecoder : public media::AudioDecoder {
  public:
    MpegAudioDecoder() {
        static std::once_flag once;
        std::call_once(once, [] { mpg123_init(); });
        handle_ = mpg123_new(nullptr, nullptr);
        mpg123_param(handle_, MPG123_ADD_FLAGS, MPG123_FORCE_FLOAT | MPG123_QUIET | MPG123_IGNORE_INFOFRAME, 0);
        mpg123_param(handle_, MPG123_REMOVE_FLAGS, MPG123_GAPLESS, 0);
        mpg123_open_feed(handle_);
    }
    MpegAudioDecoder(const MpegAudioDecoder&) = delete;
    MpegAudioDecoder& operator=(const MpegAudioDecoder&) = delete;
    ~MpegAudioDecoder() override { mpg123_delete(handle_); }

    Status decode(const Packet& packet, std::vector<AudioFrames>& out) override {
        const auto header = bitstream::parse_audio_header(Codec::mp2, packet.data.view());
        if (!header) return {};
        AudioFrames audio;
        audio.pts = packet.pts;
        audio.sample_rate = header->sample_rate;
        audio.channels = header->channels;
        audio.speakers = header->speakers;
        mpg123_feed(handle_, packet.data.data(), packet.data.size());
        // mpg123 wants to see the next frame's header before it gives the first frame out: what comes late is kept for
        // the packet it belongs to.
        waiting_.push_back(std::move(audio));
        while (!waiting_.empty()) {
            unsigned char* samples = nullptr;
            std::size_t bytes = 0;
            off_t number = 0;
            const int result = mpg123_decode_frame(handle_, &number, &samples, &bytes);
            if (result == MPG123_NEW_FORMAT) continue;
            if (result != MPG123_OK || bytes == 0) break;
            AudioFrames done = std::move(waiting_.front());
            waiting_.erase(waiting_.begin());
            const auto* begin = reinterpret_cast<const float*>(samples);
            done.samples.assign(begin, begin + bytes / sizeof(float));
            out.push_back(std::move(done));
        }
        // A frame that was not decoded becomes a gap, which is filled with silence by its time.
        while (waiting_.size() > 3) waiting_.erase(waiting_.begin());
        return {};
    }

  private:
    mpg123_handle* handle_;
    std::vector<AudioFrames> waiting_;
};

}  // namespace

std::unique_ptr<media::AudioDecoder> make_mpeg_audio_decoder(const Track&) {
    return std::make_unique<MpegAudioDecoder>();
}

}  // namespace wavecrest::codec
