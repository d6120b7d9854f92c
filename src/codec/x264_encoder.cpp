#include <fmt/format.h>

#include <cstdint>
#include <deque>
extern "C" {
#include <x264.h>
}

#include "bitstream/frame_packing.hpp"
#include "bitstream/h264.hpp"
#include "bitstream/nal.hpp"
#include "codec/encoder_support.hpp"

namespace wavecrest::codec {
namespace {

// Our effort steps, as the library's presets.
constexpr const char* kPresets[] = {"ultrafast", "superfast", "veryfast", "faster",  "fast",
                                    "medium",    "slow",      "slower",   "veryslow"};
constexpr int kMediumStep = 5;  // index of "medium" for effort 5

#ifdef __x86_64__
constexpr std::uint32_t kAvx512 = X264_CPU_AVX512;
#else
constexpr std::uint32_t kAvx512 = 0;
#endif
// The library's macroblock tree for AVX-512 reads beyond rows of macroblocks that aren't a multiple of eight, what lies
// there by chance: the same pictures gave other bytes each time.
bool is_repeatable_with_avx512(int width) {
    return (width + 15) / 16 % 8 == 0;
}

class X264Encoder : public media::VideoEncoder {
  public:
    ~X264Encoder() override {
        if (encoder_ != nullptr) x264_encoder_close(encoder_);
    }
    X264Encoder(const X264Encoder&) = delete;
    X264Encoder& operator=(const X264Encoder&) = delete;

    static Result<std::unique_ptr<media::VideoEncoder>> create(const VideoEncoderSettings& settings) {
        if (settings.bit_depth != 8) return refused_settings("H.264 is encoded with 8 bits only");
        std::unique_ptr<X264Encoder> self(new X264Encoder(settings));
        x264_param_t param;
        const int step = std::clamp(settings.effort - 5 + kMediumStep, 0, static_cast<int>(std::size(kPresets)) - 1);
        if (x264_param_default_preset(&param, kPresets[step], nullptr) < 0)
            return refused_settings("the effort is out of range");
        param.i_log_level = X264_LOG_NONE;
        param.i_csp = X264_CSP_I420;
        param.i_width = settings.width;
        param.i_height = settings.height;
        param.i_fps_num = static_cast<std::uint32_t>(settings.frame_rate.num);
        param.i_fps_den = static_cast<std::uint32_t>(settings.frame_rate.den);
        if (settings.variable_rate) {
            param.i_timebase_num = 1;
            param.i_timebase_den = kTicksPerSecond;
        } else {
            param.i_timebase_num = param.i_fps_den;
            param.i_timebase_den = param.i_fps_num;
        }
        param.b_vfr_input = settings.variable_rate ? 1 : 0;
        param.vui.i_sar_width = static_cast<int>(settings.pixel_aspect.num);
        param.vui.i_sar_height = static_cast<int>(settings.pixel_aspect.den);
        param.vui.i_colorprim = settings.colour.primaries;
        param.vui.i_transfer = settings.colour.transfer;
        param.vui.i_colmatrix = settings.colour.matrix;
        param.vui.b_fullrange = settings.colour.full_range ? 1 : 0;
        param.rc.i_lookahead = lookahead(settings, param.rc.i_lookahead);
        param.b_annexb = 0;
        param.b_repeat_headers = 0;
        param.b_interlaced = settings.interlaced ? 1 : 0;
        param.i_threads = settings.threads;
        if (!is_repeatable_with_avx512(settings.width)) param.cpu &= ~kAvx512;
        using Pass = VideoEncoderSettings::Pass;
        std::string notes = settings.notes ? settings.notes->file() : "";
        if (settings.mean_bps > 0) {
            param.rc.i_rc_method = X264_RC_ABR;
            param.rc.i_bitrate = kbps(settings.mean_bps);
            param.rc.b_stat_write = settings.pass == Pass::first ? 1 : 0;
            param.rc.b_stat_read = settings.pass == Pass::second ? 1 : 0;
            if (settings.pass != Pass::only) param.rc.psz_stat_in = param.rc.psz_stat_out = notes.data();
            if (settings.pass == Pass::first) x264_param_apply_fastfirstpass(&param);
        } else {
            param.rc.i_rc_method = X264_RC_CRF;
            param.rc.f_rf_constant = static_cast<float>(rate_factor(settings.quality));
        }
        if (settings.peak_bps > 0) {
            param.rc.i_vbv_max_bitrate = static_cast<int>(settings.peak_bps / 1000);
            param.rc.i_vbv_buffer_size =
                static_cast<int>(static_cast<double>(settings.peak_bps) * base::to_seconds(settings.buffer) / 1000);
            param.rc.f_vbv_buffer_init = static_cast<float>(settings.buffer_level);
        }
        if (settings.keyframe_distance.count() > 0 && settings.variable_rate) {
            param.i_keyint_max = X264_KEYINT_MAX_INFINITE;  // a number of frames says nothing: encode() counts time
        } else if (settings.keyframe_distance.count() > 0) {
            param.i_keyint_max = keyframe_frames(settings);
        }
        if (settings.fixed_keyframes) {
            param.i_keyint_min = param.i_keyint_max;
            param.i_scenecut_threshold = 0;
        }
        if (!settings.level.empty()) param.i_level_idc = bitstream::h264::level_idc_from_name(settings.level);
        // Looked up first: the library writes its own complaint about an unknown one.
        const std::string profile = settings.profile.empty() ? "high" : settings.profile;
        const auto known = [&](const char* const* names) {
            for (; *names != nullptr; ++names) {
                if (profile == *names) return true;
            }
            return false;
        };
        if (!known(x264_profile_names) || x264_param_apply_profile(&param, profile.c_str()) < 0) {
            return refused_settings("the profile \"" + profile + "\" is unknown");
        }
        self->encoder_ = x264_encoder_open(&param);
        param.rc.psz_stat_in = param.rc.psz_stat_out = nullptr;  // not the library's own
        x264_param_cleanup(&param);
        if (self->encoder_ == nullptr) return refused_size(settings);
        WAVECREST_TRY(self->take_headers());
        return std::unique_ptr<media::VideoEncoder>(std::move(self));
    }

    const Track& track() const override { return track_; }

    Status encode(const Picture& picture, std::vector<Packet>& out) override {
        x264_picture_t in;
        x264_picture_init(&in);
        in.img.i_csp = X264_CSP_I420;
        in.img.i_plane = 3;
        for (int i = 0; i < 3; ++i) {
            in.img.plane[i] = picture.planes[i];
            in.img.i_stride[i] = picture.strides[i];
        }
        ++pictures_;
        in.i_pts = variable_ && !times_.empty()
                       ? std::max(base::to_ticks(picture.pts, kTicksPerSecond), times_.back().tick + 1)
                   : variable_ ? base::to_ticks(picture.pts, kTicksPerSecond)
                               : pictures_ - 1;
        if (variable_ && key_distance_.count() > 0 && (!last_key_ || picture.pts - *last_key_ >= key_distance_)) {
            in.i_type = X264_TYPE_IDR;
            last_key_ = picture.pts;
        }
        const bool alternating =
            picture.frame_packing && picture.frame_packing->arrangement == FramePacking::Arrangement::alternating;
        times_.push_back({in.i_pts, picture.pts, picture.duration, picture.frame_packing,
                          alternating || picture.frame_packing != latest_packing_});
        latest_packing_ = picture.frame_packing;
        return run(&in, out);
    }

    Status flush(std::vector<Packet>& out) override {
        while (x264_encoder_delayed_frames(encoder_) > 0) WAVECREST_TRY(run(nullptr, out));
        return {};
    }

  private:
    struct Waiting {
        std::int64_t tick;  // its time for the library: its number, or its time where the rate varies
        Time pts, duration;
        std::optional<FramePacking> packing;
        bool tells_packing;  // it is another one than that of the picture before
    };

    explicit X264Encoder(const VideoEncoderSettings& settings)
        : frame_rate_(settings.frame_rate),
          track_(track_of(settings)),
          variable_(settings.variable_rate),
          key_distance_(settings.keyframe_distance) {}

    Status take_headers() {
        x264_nal_t* nals = nullptr;
        int count = 0;
        if (x264_encoder_headers(encoder_, &nals, &count) < 0) return refused_settings("the encoder gives no headers");
        ByteVector sps, pps;
        for (int i = 0; i < count; ++i) {
            const ByteVector nal(nals[i].p_payload + 4, nals[i].p_payload + nals[i].i_payload);  // after the length
            if (nals[i].i_type == NAL_SPS) sps = nal;
            if (nals[i].i_type == NAL_PPS) pps = nal;
        }
        const auto parsed = bitstream::h264::parse_sps(sps);
        if (!parsed || pps.empty()) return refused_settings("the encoder's headers can't be read");
        track_.profile = parsed->profile_name();
        track_.level = parsed->level_name();
        track_.reference_frames = parsed->reference_frames;
        track_.codec_config = Bytes(bitstream::h264::make_config(sps, pps));
        return {};
    }

    // The last picture whose tick isn't later; the first where all are.
    const Waiting& picture_at(std::int64_t tick) const {
        const auto later = std::upper_bound(times_.begin(), times_.end(), tick,
                                            [](std::int64_t value, const Waiting& w) { return value < w.tick; });
        return later == times_.begin() ? times_.front() : *std::prev(later);
    }
    // A picture's own time; of what lies before the first or between (decoding delay), by the tick.
    Time time_of(std::int64_t tick) const {
        const Waiting& near = picture_at(tick);
        if (tick == near.tick) return near.pts;
        return near.pts + (variable_ ? base::from_ticks(tick - near.tick, kTicksPerSecond)
                                     : base::frames_to_time(tick - near.tick, frame_rate_));
    }

    Status run(x264_picture_t* in, std::vector<Packet>& out) {
        x264_nal_t* nals = nullptr;
        int count = 0;
        x264_picture_t coded;
        const int size = x264_encoder_encode(encoder_, &nals, &count, in, &coded);
        if (size < 0) return failed_at(pictures_);
        if (size == 0) return {};
        Packet packet;
        const Waiting& picture = picture_at(coded.i_pts);
        packet.key = coded.b_keyframe != 0;
        ByteVector data;
        // Ours, because the library's own message can only say that the left view comes first.
        if (picture.tells_packing || (packet.key && picture.packing))
            bitstream::nal::append(data, bitstream::frame_packing_unit({picture.packing, true}));
        data.insert(data.end(), nals[0].p_payload, nals[0].p_payload + size);
        packet.data = Bytes(std::move(data));
        packet.pts = time_of(coded.i_pts);
        packet.duration = picture.duration;
        packet.dts = time_of(coded.i_dts);
        out.push_back(std::move(packet));
        // Times before the decoding time are not asked for again.
        while (times_.size() > kKeep && times_.front().tick < coded.i_dts) times_.pop_front();
        return {};
    }

    static constexpr std::size_t kKeep = 512;
    static constexpr std::uint32_t kTicksPerSecond = 90000;

    x264_t* encoder_ = nullptr;
    Ratio frame_rate_;
    Track track_;
    bool variable_;
    Time key_distance_;
    std::optional<Time> last_key_;
    std::int64_t pictures_ = 0;
    std::deque<Waiting> times_;
    std::optional<FramePacking> latest_packing_;
};

}  // namespace

Result<std::unique_ptr<media::VideoEncoder>> make_h264_encoder(const VideoEncoderSettings& settings) {
    return X264Encoder::create(settings);
}

}  // namespace wavecrest::codec
