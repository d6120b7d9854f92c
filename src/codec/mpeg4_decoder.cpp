#include <xvid.h>

#include <mutex>
#include <set>

#include "codec/video_decoder.hpp"
#include "codec/waiting_times.hpp"

namespace wavecrest::codec {
namespace {

class Mpeg4Decoder : public media::VideoDecoder {
  public:
    explicit Mpeg4Decoder(const Track& track) : track_(track) {
        static std::once_flag once;
        std::call_once(once, [] {
            xvid_gbl_init_t global{};
            global.version = XVID_VERSION;
            xvid_global(nullptr, XVID_GBL_INIT, &global, nullptr);
        });
        xvid_dec_create_t create{};
        create.version = XVID_VERSION;
        create.width = track.width;
        create.height = track.height;
        if (xvid_decore(nullptr, XVID_DEC_CREATE, &create, nullptr) == 0) handle_ = create.handle;
        picture_ = Picture::allocate(track.width, track.height);
    }
    Mpeg4Decoder(const Mpeg4Decoder&) = delete;
    Mpeg4Decoder& operator=(const Mpeg4Decoder&) = delete;
    ~Mpeg4Decoder() override {
        if (handle_ != nullptr) xvid_decore(handle_, XVID_DEC_DESTROY, nullptr, nullptr);
    }

    Status decode(const Packet& packet, std::vector<Picture>& out) override {
        if (handle_ == nullptr) return {};
        ByteVector data;
        if (!std::exchange(begun_, true))
            data.assign(track_.codec_config.view().begin(), track_.codec_config.view().end());
        data.insert(data.end(), packet.data.view().begin(), packet.data.view().end());
        times_.insert(packet.pts);
        duration_ = packet.duration;
        // (The library reads a little beyond the end.)
        const std::size_t size = data.size();
        data.resize(size + 64);
        std::size_t at = 0;
        while (at < size) {
            xvid_dec_frame_t frame{};
            frame.bitstream = data.data() + at;
            frame.length = static_cast<int>(size - at);
            const int used = decode_one(frame, out);
            if (used <= 0) break;
            at += static_cast<std::size_t>(used);
        }
        return {};
    }
    Status flush(std::vector<Picture>& out) override {
        if (handle_ == nullptr) return {};
        xvid_dec_frame_t frame{};
        frame.length = -1;
        decode_one(frame, out);
        return {};
    }

  private:
    int decode_one(xvid_dec_frame_t& frame, std::vector<Picture>& out) {
        xvid_dec_stats_t stats{};
        frame.version = stats.version = XVID_VERSION;
        frame.output.csp = XVID_CSP_PLANAR;
        for (int p = 0; p < 3; ++p) {
            frame.output.plane[p] = picture_.planes[p];
            frame.output.stride[p] = picture_.strides[p];
        }
        const int used = xvid_decore(handle_, XVID_DEC_DECODE, &frame, &stats);
        if (used >= 0 && stats.type > 0) {
            const std::ptrdiff_t strides[3] = {picture_.strides[0], picture_.strides[1], picture_.strides[2]};
            Picture picture = copy_planes(track_.width, track_.height, picture_.planes, strides, track_);
            // Pictures come out in the order they are shown in.
            if (!times_.empty()) {
                picture.pts = *times_.begin();
                times_.erase(times_.begin());
            }
            picture.duration = duration_;
            out.push_back(std::move(picture));
        }
        return used;
    }

    Track track_;
    void* handle_ = nullptr;
    Picture picture_;
    bool begun_ = false;
    std::multiset<Time> times_;
    Time duration_{};
};

}  // namespace

std::unique_ptr<media::VideoDecoder> make_mpeg4_decoder(const Track& track) {
    return std::make_unique<Mpeg4Decoder>(track);
}

}  // namespace wavecrest::codec
