#include <libde265/de265.h>

#include <algorithm>

#include "bitstream/h265.hpp"
#include "bitstream/nal.hpp"
#include "codec/video_decoder.hpp"
#include "codec/waiting_times.hpp"

namespace wavecrest::codec {
namespace {

class H265Decoder : public media::VideoDecoder {
  public:
    explicit H265Decoder(const Track& track)
        : track_(track),
          depth_(static_cast<std::size_t>(track.reorder_frames >= 0 ? track.reorder_frames : 4)),
          context_(de265_new_decoder()) {
        de265_start_worker_threads(context_, 1);
        if (const auto sets = bitstream::h265::parameter_sets(track.codec_config.view())) {
            for (const ByteSpan unit : sets->units) push(unit, 0);
        }
    }
    H265Decoder(const H265Decoder&) = delete;
    H265Decoder& operator=(const H265Decoder&) = delete;
    ~H265Decoder() override { de265_free_decoder(context_); }

    Status decode(const Packet& packet, std::vector<Picture>& out) override {
        const std::int64_t number = times_.put(packet);
        for (const ByteSpan unit : bitstream::nal::split_lengths(packet.data.view())) push(unit, number);
        de265_push_end_of_frame(context_);
        return take(out);
    }
    Status flush(std::vector<Picture>& out) override {
        de265_flush_data(context_);
        WAVECREST_TRY(take(out));
        release(0, out);
        return {};
    }

  private:
    // The library gives pictures out in the order of decoding when it gets them one by one: put in order here, as deep
    // as the stream says that it reorders.
    void release(std::size_t keep, std::vector<Picture>& out) {
        while (waiting_.size() > keep) {
            const auto first = std::min_element(waiting_.begin(), waiting_.end(),
                                                [](const Picture& a, const Picture& b) { return a.pts < b.pts; });
            out.push_back(std::move(*first));
            waiting_.erase(first);
        }
    }
    static Chroma chroma_of(const de265_image* image) {
        switch (de265_get_chroma_format(image)) {
            case de265_chroma_mono:
                return Chroma::none;
            case de265_chroma_422:
                return Chroma::half_width;
            case de265_chroma_444:
                return Chroma::full;
            default:
                return Chroma::half_both;
        }
    }
    void push(ByteSpan unit, std::int64_t number) {
        de265_push_NAL(context_, unit.data(), static_cast<int>(unit.size()), number, nullptr);
    }
    Status take(std::vector<Picture>& out) {
        int more = 1;
        while (more != 0) {
            more = 0;
            const de265_error error = de265_decode(context_, &more);
            while (const de265_image* image = de265_get_next_picture(context_)) {
                const int depth = de265_get_bits_per_pixel(image, 0);
                const Chroma chroma = chroma_of(image);
                if ((depth != 8 && depth != 10) ||
                    (chroma != Chroma::none && de265_get_bits_per_pixel(image, 1) != depth))
                    return not_decodable();
                const std::uint8_t* planes[3] = {};
                std::ptrdiff_t strides[3] = {};
                for (int p = 0; p < (chroma == Chroma::none ? 1 : 3); ++p) {
                    int stride = 0;
                    planes[p] = de265_get_image_plane(image, p, &stride);
                    strides[p] = stride;
                }
                Picture picture = copy_planes(de265_get_image_width(image, 0), de265_get_image_height(image, 0), depth,
                                              chroma, planes, strides, track_);
                times_.give(de265_get_image_PTS(image), picture);
                waiting_.push_back(std::move(picture));
                release(depth_, out);
            }
            // Damaged pictures are told as warnings; it waits for data otherwise.
            if (error == DE265_ERROR_WAITING_FOR_INPUT_DATA || error != DE265_OK) break;
        }
        while (de265_get_warning(context_) != DE265_OK) {
        }
        return {};
    }

    Track track_;
    std::size_t depth_;
    std::vector<Picture> waiting_;
    de265_decoder_context* context_;
    WaitingTimes times_;
};

}  // namespace

std::unique_ptr<media::VideoDecoder> make_h265_decoder(const Track& track) {
    return std::make_unique<H265Decoder>(track);
}

}  // namespace wavecrest::codec
