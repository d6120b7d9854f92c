#include "codec/mpeg2_decoder.hpp"

#include <cstring>
#include <deque>
#include <map>

extern "C" {
#include <mpeg2.h>
}

#include "bitstream/mpeg2.hpp"

namespace wavecrest::codec {
namespace {

class Mpeg2Decoder : public media::VideoDecoder {
  public:
    explicit Mpeg2Decoder(const Track& track) : decoder_(mpeg2_init()), track_(track) {}
    Mpeg2Decoder(const Mpeg2Decoder&) = delete;
    Mpeg2Decoder& operator=(const Mpeg2Decoder&) = delete;
    ~Mpeg2Decoder() override { mpeg2_close(decoder_); }

    Status decode(const Packet& packet, std::vector<Picture>& out) override {
        // libmpeg2 carries 32-bit tags through to the picture: they number the packets whose times are kept here.
        const std::uint32_t tag = next_tag_++;
        times_[tag] = {packet.pts, packet.duration};
        while (times_.size() > kMostWaiting) times_.erase(times_.begin());
        mpeg2_tag_picture(decoder_, tag, 0);
        return feed(packet.data.view(), out);
    }

    Status flush(std::vector<Picture>& out) override {
        static constexpr std::uint8_t kEnd[] = {0, 0, 1, bitstream::mpeg2::kSequenceEnd,
                                                0, 0, 1, bitstream::mpeg2::kSequenceEnd};
        return feed(kEnd, out);
    }

  private:
    struct Times {
        Time pts, duration;
    };
    static constexpr std::size_t kMostWaiting = 64;

    Status feed(ByteSpan bytes, std::vector<Picture>& out) {
        // libmpeg2 only reads, but its interface is not const.
        auto* begin = const_cast<std::uint8_t*>(bytes.data());
        mpeg2_buffer(decoder_, begin, begin + bytes.size());
        const mpeg2_info_t* info = mpeg2_info(decoder_);
        while (true) {
            const mpeg2_state_t state = mpeg2_parse(decoder_);
            if (state == STATE_BUFFER) return {};
            if (state == STATE_SEQUENCE && (info->sequence->chroma_width * 2 != info->sequence->width ||
                                            info->sequence->chroma_height * 2 != info->sequence->height)) {
                return fail(ErrorKind::input, "this MPEG-2 video is not 4:2:0", "video track",
                            "only 4:2:0 video can be converted");
            }
            if ((state == STATE_SLICE || state == STATE_END || state == STATE_INVALID_END) &&
                info->display_fbuf != nullptr)
                show(*info, out);
        }
    }

    void show(const mpeg2_info_t& info, std::vector<Picture>& out) {
        const mpeg2_picture_t& shown = *info.display_picture;
        const int width = static_cast<int>(info.sequence->picture_width),
                  height = static_cast<int>(info.sequence->picture_height);
        Picture picture = Picture::allocate(width, height);
        for (int plane = 0; plane < 3; ++plane) {
            const auto stride =
                static_cast<std::size_t>(plane == 0 ? info.sequence->width : info.sequence->chroma_width);
            const int rows = plane == 0 ? height : (height + 1) / 2;
            const auto columns = static_cast<std::size_t>(plane == 0 ? width : (width + 1) / 2);
            for (int y = 0; y < rows; ++y) {
                std::memcpy(picture.planes[plane] + y * picture.strides[plane],
                            info.display_fbuf->buf[plane] + static_cast<std::size_t>(y) * stride, columns);
            }
        }
        picture.pixel_aspect = track_.pixel_aspect;
        picture.colour = track_.colour;
        picture.fields = static_cast<int>(shown.nb_fields);
        picture.progressive = (shown.flags & PIC_FLAG_PROGRESSIVE_FRAME) != 0;
        picture.top_field_first = (shown.flags & PIC_FLAG_TOP_FIELD_FIRST) != 0;
        if (const auto times = times_.find(shown.tag); (shown.flags & PIC_FLAG_TAGS) != 0 && times != times_.end()) {
            picture.pts = times->second.pts;
            picture.duration = times->second.duration;
            times_.erase(times);
        } else {
            picture.pts = next_pts_;
        }
        next_pts_ = picture.pts + picture.duration;
        out.push_back(std::move(picture));
    }

    mpeg2dec_t* decoder_;
    Track track_;
    std::uint32_t next_tag_ = 1;
    std::map<std::uint32_t, Times> times_;
    Time next_pts_{};
};

}  // namespace

std::unique_ptr<media::VideoDecoder> make_mpeg2_decoder(const Track& track) {
    return std::make_unique<Mpeg2Decoder>(track);
}

}  // namespace wavecrest::codec
