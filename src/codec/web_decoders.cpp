#include <dav1d/dav1d.h>
#include <vpx/vp8dx.h>
#include <vpx/vpx_decoder.h>

#include <algorithm>

#include "codec/video_decoder.hpp"
#include "codec/waiting_times.hpp"

namespace wavecrest::codec {
namespace {

class VpxDecoder : public media::VideoDecoder {
  public:
    explicit VpxDecoder(const Track& track) : track_(track) {
        vpx_codec_dec_cfg_t config{};
        config.threads = 2;
        ok_ = vpx_codec_dec_init(&context_, track.codec == Codec::vp8 ? vpx_codec_vp8_dx() : vpx_codec_vp9_dx(),
                                 &config, 0) == VPX_CODEC_OK;
    }
    VpxDecoder(const VpxDecoder&) = delete;
    VpxDecoder& operator=(const VpxDecoder&) = delete;
    ~VpxDecoder() override {
        if (ok_) vpx_codec_destroy(&context_);
    }
    // Every frame comes out at once; damaged ones are left out.
    Status decode(const Packet& packet, std::vector<Picture>& out) override {
        if (!ok_ || vpx_codec_decode(&context_, packet.data.data(), static_cast<unsigned>(packet.data.size()), nullptr,
                                     0) != VPX_CODEC_OK)
            return {};
        vpx_codec_iter_t iter = nullptr;
        while (const vpx_image_t* image = vpx_codec_get_frame(&context_, &iter)) {
            // (Without the mark of 16-bit samples, formats are those of 8 bits.)
            const int depth = static_cast<int>(image->bit_depth), format = image->fmt & ~VPX_IMG_FMT_HIGHBITDEPTH;
            const Chroma chroma = format == VPX_IMG_FMT_I444   ? Chroma::full
                                  : format == VPX_IMG_FMT_I422 ? Chroma::half_width
                                                               : Chroma::half_both;
            if ((depth != 8 && depth != 10) || (chroma == Chroma::half_both && format != VPX_IMG_FMT_I420))
                return not_decodable();
            const std::ptrdiff_t strides[3] = {image->stride[0], image->stride[1], image->stride[2]};
            Picture picture = copy_planes(static_cast<int>(image->d_w), static_cast<int>(image->d_h), depth, chroma,
                                          image->planes, strides, track_);
            picture.pts = packet.pts;
            picture.duration = packet.duration;
            out.push_back(std::move(picture));
        }
        return {};
    }
    Status flush(std::vector<Picture>&) override { return {}; }

  private:
    Track track_;
    vpx_codec_ctx_t context_{};
    bool ok_ = false;
};

class Av1Decoder : public media::VideoDecoder {
  public:
    explicit Av1Decoder(const Track& track) : track_(track) {
        Dav1dSettings settings;
        dav1d_default_settings(&settings);
        settings.n_threads = 2;
        settings.max_frame_delay = 1;
        if (dav1d_open(&context_, &settings) != 0) context_ = nullptr;
    }
    Av1Decoder(const Av1Decoder&) = delete;
    Av1Decoder& operator=(const Av1Decoder&) = delete;
    ~Av1Decoder() override {
        if (context_ != nullptr) dav1d_close(&context_);
    }
    Status decode(const Packet& packet, std::vector<Picture>& out) override {
        if (context_ == nullptr || packet.data.empty()) return {};
        Dav1dData data{};
        std::uint8_t* bytes = dav1d_data_create(&data, packet.data.size());
        if (bytes == nullptr) return {};
        std::copy_n(packet.data.data(), packet.data.size(), bytes);
        data.m.timestamp = times_.put(packet);
        while (data.sz > 0) {
            const int result = dav1d_send_data(context_, &data);
            WAVECREST_TRY(take(out));
            if (result < 0 && result != DAV1D_ERR(EAGAIN)) break;  // damaged: left out
        }
        dav1d_data_unref(&data);
        return take(out);
    }
    Status flush(std::vector<Picture>& out) override { return context_ != nullptr ? take(out) : Status{}; }

  private:
    static Chroma chroma_of(Dav1dPixelLayout layout) {
        switch (layout) {
            case DAV1D_PIXEL_LAYOUT_I400:
                return Chroma::none;
            case DAV1D_PIXEL_LAYOUT_I422:
                return Chroma::half_width;
            case DAV1D_PIXEL_LAYOUT_I444:
                return Chroma::full;
            default:
                return Chroma::half_both;
        }
    }
    Status take(std::vector<Picture>& out) {
        while (true) {
            Dav1dPicture decoded{};
            if (dav1d_get_picture(context_, &decoded) != 0) return {};
            if (decoded.p.bpc != 8 && decoded.p.bpc != 10) {
                dav1d_picture_unref(&decoded);
                return not_decodable();
            }
            const std::uint8_t* planes[3];
            for (int p = 0; p < 3; ++p) planes[p] = static_cast<const std::uint8_t*>(decoded.data[p]);
            const std::ptrdiff_t strides[3] = {decoded.stride[0], decoded.stride[1], decoded.stride[1]};
            Picture picture = copy_planes(decoded.p.w, decoded.p.h, decoded.p.bpc, chroma_of(decoded.p.layout), planes,
                                          strides, track_);
            times_.give(decoded.m.timestamp, picture);
            dav1d_picture_unref(&decoded);
            out.push_back(std::move(picture));
        }
    }

    Track track_;
    Dav1dContext* context_ = nullptr;
    WaitingTimes times_;
};

}  // namespace

std::unique_ptr<media::VideoDecoder> make_vpx_decoder(const Track& track) {
    return std::make_unique<VpxDecoder>(track);
}
std::unique_ptr<media::VideoDecoder> make_av1_decoder(const Track& track) {
    return std::make_unique<Av1Decoder>(track);
}

}  // namespace wavecrest::codec
