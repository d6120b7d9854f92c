#include <fmt/format.h>
#include <vpx/vp8cx.h>
#include <vpx/vpx_encoder.h>

#include <algorithm>
#include <cmath>
#include <thread>

#include "bitstream/web_video.hpp"
#include "codec/encoder_support.hpp"

namespace wavecrest::codec {
namespace {

// Our effort steps, as the library's deadlines and speeds: each takes about as long as that step of H.264, as far as
// there is such a one (bench_encoders).
struct Step {
    bool realtime;  // looks at no pictures ahead
    int speed;
};
constexpr Step kSteps[] = {{true, 8},  {true, 8},  {true, 7},  {true, 6}, {true, 5},
                           {false, 5}, {false, 4}, {false, 2}, {false, 1}};

class Vp9Encoder : public media::VideoEncoder {
  public:
    ~Vp9Encoder() override {
        if (open_) vpx_codec_destroy(&codec_);
    }
    Vp9Encoder(const Vp9Encoder&) = delete;
    Vp9Encoder& operator=(const Vp9Encoder&) = delete;

    static Result<std::unique_ptr<media::VideoEncoder>> create(const VideoEncoderSettings& settings) {
        std::unique_ptr<Vp9Encoder> self(new Vp9Encoder(settings));
        vpx_codec_enc_cfg_t config{};
        if (vpx_codec_enc_config_default(vpx_codec_vp9_cx(), &config, 0) != VPX_CODEC_OK)
            return refused_settings("the VP9 encoder does not start");
        const unsigned threads = settings.threads > 0 ? static_cast<unsigned>(settings.threads)
                                                      : std::max(1u, std::thread::hardware_concurrency());
        config.g_w = static_cast<unsigned>(settings.width);
        config.g_h = static_cast<unsigned>(settings.height);
        const bool deep = settings.bit_depth > 8;
        config.g_profile = deep ? 2 : 0;
        config.g_bit_depth = deep ? VPX_BITS_10 : VPX_BITS_8;
        config.g_input_bit_depth = static_cast<unsigned>(settings.bit_depth);
        // Times are numbers of pictures at the usual rate; their own times are put back behind the encoder.
        config.g_timebase = {static_cast<int>(settings.frame_rate.den), static_cast<int>(settings.frame_rate.num)};
        config.g_threads = std::min(threads, 16u);
        Step step = kSteps[std::clamp(settings.effort, 1, 9) - 1];
        using Pass = VideoEncoderSettings::Pass;
        if (settings.pass != Pass::only) step = {false, std::min(step.speed, 5)};  // the quick ones look at no notes
        self->step_ = step;
        config.g_lag_in_frames = step.realtime ? 0 : 25;
        config.kf_mode = VPX_KF_AUTO;
        if (settings.keyframe_distance.count() > 0 && !settings.variable_rate)
            config.kf_max_dist = static_cast<unsigned>(keyframe_frames(settings));
        if (settings.fixed_keyframes) {
            if (settings.variable_rate) {
                config.kf_mode = VPX_KF_DISABLED;
            } else {
                config.kf_min_dist = config.kf_max_dist;
            }
        }
        const auto level = static_cast<unsigned>(std::clamp(level_of(settings.quality), 0, 63));
        if (settings.mean_bps > 0) {
            config.rc_end_usage = VPX_VBR;
            config.rc_target_bitrate = static_cast<unsigned>(kbps(settings.mean_bps));
            config.rc_min_quantizer = 0;
            config.rc_max_quantizer = 63;
            config.rc_undershoot_pct = 1;  // no further from the average than that
            config.rc_overshoot_pct = 1;
            config.g_pass = settings.pass == Pass::first    ? VPX_RC_FIRST_PASS
                            : settings.pass == Pass::second ? VPX_RC_LAST_PASS
                                                            : VPX_RC_ONE_PASS;
            self->notes_ = settings.pass == Pass::first ? settings.notes : nullptr;
            if (settings.pass == Pass::second && settings.notes)
                config.rc_twopass_stats_in = {settings.notes->bytes.data(), settings.notes->bytes.size()};
        } else if (settings.peak_bps > 0) {
            // At the peak all the time would waste bits: the quantizer does not go below what the quality asks for.
            config.rc_end_usage = VPX_CBR;
            config.rc_target_bitrate = static_cast<unsigned>(settings.peak_bps / 1000);
            config.rc_min_quantizer = level;
            config.rc_max_quantizer = 63;
            config.rc_buf_sz = static_cast<unsigned>(base::to_seconds(settings.buffer) * 1000);
            // Not fuller than it is to be kept.
            config.rc_buf_initial_sz = static_cast<unsigned>(config.rc_buf_sz * std::min(settings.buffer_level, 0.75));
            config.rc_buf_optimal_sz = config.rc_buf_sz * 3 / 4;
            config.rc_undershoot_pct = 100;
            config.rc_overshoot_pct = 15;
        } else {
            config.rc_end_usage = VPX_Q;
            config.rc_target_bitrate = 0;
            config.rc_min_quantizer = 0;
            config.rc_max_quantizer = 63;
        }
        if (vpx_codec_enc_init(&self->codec_, vpx_codec_vp9_cx(), &config, deep ? VPX_CODEC_USE_HIGHBITDEPTH : 0) !=
            VPX_CODEC_OK)
            return refused_size(settings);
        self->open_ = true;
        vpx_codec_ctx_t* codec = &self->codec_;
        vpx_codec_control(codec, VP8E_SET_CPUUSED, step.speed);
        vpx_codec_control(codec, VP8E_SET_CQ_LEVEL, level);
        vpx_codec_control(codec, VP9E_SET_ROW_MT, 1u);
        // Columns of tiles are at least 256 pixels wide.
        vpx_codec_control(codec, VP9E_SET_TILE_COLUMNS,
                          static_cast<int>(std::clamp(std::log2(std::max(settings.width / 256, 1)), 0.0, 4.0)));
        vpx_codec_control(codec, VP8E_SET_ENABLEAUTOALTREF, step.realtime || settings.peak_bps > 0 ? 0u : 1u);
        vpx_codec_control(codec, VP9E_SET_COLOR_SPACE, colour_space(settings.colour.matrix));
        vpx_codec_control(codec, VP9E_SET_COLOR_RANGE, settings.colour.full_range ? 1 : 0);
        return std::unique_ptr<media::VideoEncoder>(std::move(self));
    }

    const Track& track() const override { return track_; }

    Status encode(const Picture& picture, std::vector<Packet>& out) override {
        vpx_image_t image{};
        vpx_img_wrap(&image, picture.bit_depth > 8 ? VPX_IMG_FMT_I42016 : VPX_IMG_FMT_I420,
                     static_cast<unsigned>(picture.width), static_cast<unsigned>(picture.height), 1, picture.planes[0]);
        for (int i = 0; i < 3; ++i) {
            image.planes[i] = picture.planes[i];
            image.stride[i] = picture.strides[i];
        }
        const std::int64_t number = times_.put(picture);
        const vpx_enc_frame_flags_t flags = keyframes_ && keyframes_->is_due(picture) ? VPX_EFLAG_FORCE_KF : 0;
        if (vpx_codec_encode(&codec_, &image, number, 1, flags, deadline()) != VPX_CODEC_OK)
            return failed_at(times_.count());
        take(out);
        return {};
    }
    Status flush(std::vector<Packet>& out) override {
        while (true) {
            const std::size_t before = out.size();
            more_ = false;
            if (vpx_codec_encode(&codec_, nullptr, -1, 1, 0, deadline()) != VPX_CODEC_OK)
                return failed_at(times_.count());
            take(out);
            if (out.size() == before && !more_) return {};
        }
    }

  private:
    explicit Vp9Encoder(const VideoEncoderSettings& settings)
        : track_(track_of(settings)), times_(settings.frame_rate) {
        if (settings.variable_rate) keyframes_.emplace(settings.keyframe_distance);
        bitstream::WebVideoHeader header;
        header.profile = settings.bit_depth > 8 ? 2 : 0;
        header.bit_depth = settings.bit_depth;
        track_.profile = std::to_string(header.profile);
        header.level = bitstream::vp9_level(settings.width, settings.height, settings.frame_rate);
        header.width = settings.width;
        header.height = settings.height;
        header.colour = settings.colour;
        track_.level = fmt::format("{}.{}", header.level / 10, header.level % 10);
        track_.codec_config = Bytes(bitstream::make_vp9_config(header));
    }

    // The library's level of quality that looks like H.264's of this quality: measured (docs/development.md).
    static int level_of(double quality) { return static_cast<int>(std::lround(2.1 * rate_factor(quality) - 21)); }

    // What the stream itself can say of colours (the specification's table of color_space).
    static int colour_space(int matrix) {
        return matrix == 1                  ? VPX_CS_BT_709
               : matrix == 5 || matrix == 6 ? VPX_CS_BT_601
               : matrix == 9                ? VPX_CS_BT_2020
                                            : VPX_CS_UNKNOWN;
    }

    unsigned long deadline() const { return step_.realtime ? VPX_DL_REALTIME : VPX_DL_GOOD_QUALITY; }

    void take(std::vector<Packet>& out) {
        vpx_codec_iter_t at = nullptr;
        while (const vpx_codec_cx_pkt_t* got = vpx_codec_get_cx_data(&codec_, &at)) {
            if (got->kind == VPX_CODEC_STATS_PKT && notes_) {
                const auto* stats = static_cast<const std::uint8_t*>(got->data.twopass_stats.buf);
                notes_->bytes.insert(notes_->bytes.end(), stats, stats + got->data.twopass_stats.sz);
                more_ = true;
            }
            if (got->kind != VPX_CODEC_CX_FRAME_PKT) continue;
            const auto* bytes = static_cast<const std::uint8_t*>(got->data.frame.buf);
            Packet packet;
            packet.key = (got->data.frame.flags & VPX_FRAME_IS_KEY) != 0;
            packet.data = Bytes(ByteVector(bytes, bytes + got->data.frame.sz));
            packet.pts = packet.dts = times_.time_of(got->data.frame.pts);
            packet.duration = times_.duration_of(got->data.frame.pts);
            times_.forget_before(got->data.frame.pts);
            out.push_back(std::move(packet));
        }
    }

    vpx_codec_ctx_t codec_{};
    bool open_ = false;
    Step step_{};
    std::shared_ptr<PassNotes> notes_;  // to be written
    bool more_ = false;                 // something of them came
    Track track_;
    EncoderTimes times_;
    std::optional<KeyframeClock> keyframes_;
};

}  // namespace

Result<std::unique_ptr<media::VideoEncoder>> make_vp9_encoder(const VideoEncoderSettings& settings) {
    return Vp9Encoder::create(settings);
}

}  // namespace wavecrest::codec
