#include <xvid.h>

#include <mutex>

#include "bitstream/mpeg4_visual.hpp"
#include "codec/video_decoder.hpp"
#include "codec/waiting_times.hpp"

namespace wavecrest::codec {
namespace {

namespace mpeg4 = bitstream::mpeg4;

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
        if (!std::exchange(begun_, true)) {
            data.assign(track_.codec_config.view().begin(), track_.codec_config.view().end());
            note_layer(data);
        }
        data.insert(data.end(), packet.data.view().begin(), packet.data.view().end());
        note_layer(packet.data.view());
        // The library would leave out the fillers of packed chunks, but not where this mark is missing.
        mpeg4::clear_packed_mark(data);
        duration_ = packet.duration;
        const auto vops = mpeg4::split_vops(data);
        packed_ = packed_ || vops.size() > 1;
        for (const ByteSpan bytes : vops) {
            const auto vop = mpeg4::first_vop(bytes, time_bits_);
            if (packed_ && vop && !vop->coded && vops.size() == 1) {
                reference_time_ = packet.pts;  // it stands for the frame that came early
                continue;
            }
            const bool shown_later = !vop || vop->type != mpeg4::VopType::b;
            decode_all(bytes, packet.pts, shown_later, out);
        }
        return {};
    }
    Status flush(std::vector<Picture>& out) override {
        if (handle_ == nullptr) return {};
        xvid_dec_frame_t frame{};
        frame.length = -1;
        decode_one(frame, reference_time_, out);
        return {};
    }

  private:
    void note_layer(ByteSpan bytes) {
        const auto layer = mpeg4::find_layer(bytes);
        if (!layer) return;
        time_bits_ = layer->time_bits;
        low_delay_ = layer->low_delay;
    }
    // I-, P- and S-VOPs come out when the next of them goes in, unless the layer has low delay; B-VOPs at once.
    void decode_all(ByteSpan bytes, Time pts, bool shown_later, std::vector<Picture>& out) {
        // (The library reads a little beyond the end.)
        ByteVector data(bytes.begin(), bytes.end());
        data.resize(bytes.size() + 64);
        const Time time = shown_later && !low_delay_ ? reference_time_ : pts;
        std::size_t at = 0;
        while (at < bytes.size()) {
            xvid_dec_frame_t frame{};
            frame.bitstream = data.data() + at;
            frame.length = static_cast<int>(bytes.size() - at);
            const int used = decode_one(frame, time, out);
            if (used <= 0) break;
            at += static_cast<std::size_t>(used);
        }
        if (shown_later) reference_time_ = pts;
    }
    int decode_one(xvid_dec_frame_t& frame, Time time, std::vector<Picture>& out) {
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
            Picture picture =
                copy_planes(track_.width, track_.height, 8, Chroma::half_both, picture_.planes, strides, track_);
            picture.pts = time;
            picture.duration = duration_;
            out.push_back(std::move(picture));
        }
        return used;
    }

    Track track_;
    void* handle_ = nullptr;
    Picture picture_;
    bool begun_ = false;
    bool packed_ = false;
    bool low_delay_ = false;
    int time_bits_ = 1;
    Time reference_time_{};  // of the VOP that comes out with the next
    Time duration_{};
};

}  // namespace

std::unique_ptr<media::VideoDecoder> make_mpeg4_decoder(const Track& track) {
    return std::make_unique<Mpeg4Decoder>(track);
}

}  // namespace wavecrest::codec
