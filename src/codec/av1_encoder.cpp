#include <fmt/format.h>
#include <svt-av1/EbSvtAv1Enc.h>
#include <svt-av1/EbSvtAv1Metadata.h>

#include <algorithm>
#include <cmath>
#include <cstdlib>
#include <cstring>
#include <mutex>

#include "bitstream/web_video.hpp"
#include "codec/encoder_support.hpp"

namespace wavecrest::codec {
namespace {

// Our effort steps, as the library's presets: each takes about as long as that step of H.264. (Preset 12 leaves out
// what flashes right behind a keyframe: 18 dB.)
constexpr std::int8_t kPresets[] = {11, 11, 11, 10, 9, 8, 7, 6, 5};

class Av1Encoder : public media::VideoEncoder {
  public:
    ~Av1Encoder() override {
        if (started_) {
            // The library waits for ever for an end where it has seen no picture.
            if (times_.count() == 0) send_black();
            svt_av1_enc_deinit(handle_);
        }
        if (handle_ != nullptr) svt_av1_enc_deinit_handle(handle_);
    }
    Av1Encoder(const Av1Encoder&) = delete;
    Av1Encoder& operator=(const Av1Encoder&) = delete;

    static Result<std::unique_ptr<media::VideoEncoder>> create(const VideoEncoderSettings& settings) {
        // It writes what it does to the terminal unless it is told not to, and the environment is its only ear.
        static std::once_flag once;
        std::call_once(once, [] { ::setenv("SVT_LOG", "-1", 0); });
        if (settings.width < 64 || settings.height < 64)
            return refused_settings(
                fmt::format("AV1 video of {}x{} can't be encoded: at least 64x64", settings.width, settings.height));
        std::unique_ptr<Av1Encoder> self(new Av1Encoder(settings));
        EbSvtAv1EncConfiguration config{};
        if (svt_av1_enc_init_handle(&self->handle_, nullptr, &config) != EB_ErrorNone)
            return refused_settings("the AV1 encoder does not start");
        config.enc_mode = kPresets[std::clamp(settings.effort, 1, 9) - 1];
        config.source_width = static_cast<std::uint32_t>(settings.width);
        config.source_height = static_cast<std::uint32_t>(settings.height);
        config.frame_rate_numerator = static_cast<std::uint32_t>(settings.frame_rate.num);
        config.frame_rate_denominator = static_cast<std::uint32_t>(settings.frame_rate.den);
        config.encoder_bit_depth = static_cast<std::uint32_t>(settings.bit_depth);
        tell_dynamic_range(settings, config);
        config.rate_control_mode = SVT_AV1_RC_MODE_CQP_OR_CRF;
        config.enable_adaptive_quantization = 2;
        config.qp = static_cast<std::uint32_t>(std::clamp(factor_of(settings.quality), 1, 63));
        config.enable_tf = 0;  // it smears what flashes
        using Pass = VideoEncoderSettings::Pass;
        if (settings.mean_bps > 0) {
            config.rate_control_mode = SVT_AV1_RC_MODE_VBR;
            // (The library's own two passes come out at a seventh of what is asked for, its one pass at three quarters,
            // much the same each time: first passes find out how far off it is, each more exactly.)
            double asked = static_cast<double>(settings.mean_bps);
            if (settings.notes) asked *= correction(*settings.notes);
            config.target_bit_rate = static_cast<std::uint32_t>(kbps(static_cast<std::int64_t>(asked))) * 1000;
            self->mean_bps_ = settings.mean_bps;
            self->notes_ = settings.pass == Pass::first ? settings.notes : nullptr;
        } else if (settings.peak_bps > 0) {
            // (What the library calls a capped rate factor exceeds its buffer by half and more.)
            const auto buffer_ms = std::clamp<std::int64_t>(
                static_cast<std::int64_t>(base::to_seconds(settings.buffer) * 1000), 40, 10'000);
            config.rate_control_mode = SVT_AV1_RC_MODE_CBR;
            config.pred_structure = 1;
            config.target_bit_rate = static_cast<std::uint32_t>(settings.peak_bps);
            config.min_qp_allowed = config.qp;
            config.max_qp_allowed = 63;
            config.maximum_buffer_size_ms = buffer_ms;
            config.optimal_buffer_level_ms = buffer_ms * 3 / 4;
            config.starting_buffer_level_ms =
                static_cast<std::int64_t>(static_cast<double>(buffer_ms) * std::min(settings.buffer_level, 0.75));
        }
        config.intra_refresh_type = SVT_AV1_KF_REFRESH;  // closed groups
        VideoEncoderSettings apart = settings;
        apart.keyframe_distance = keyframe_distance(settings);
        config.intra_period_length = keyframe_frames(apart) - 1;
        if (settings.fixed_keyframes) config.scene_change_detection = 0;
        config.color_primaries = static_cast<EbColorPrimaries>(settings.colour.primaries);
        config.transfer_characteristics = static_cast<EbTransferCharacteristics>(settings.colour.transfer);
        config.matrix_coefficients = static_cast<EbMatrixCoefficients>(settings.colour.matrix);
        config.color_range = settings.colour.full_range ? EB_CR_FULL_RANGE : EB_CR_STUDIO_RANGE;
        config.logical_processors = static_cast<std::uint32_t>(std::max(settings.threads, 0));
        if (svt_av1_enc_set_parameter(self->handle_, &config) != EB_ErrorNone ||
            svt_av1_enc_init(self->handle_) != EB_ErrorNone)
            return refused_size(settings);
        self->started_ = true;
        WAVECREST_TRY(self->take_header());
        return std::unique_ptr<media::VideoEncoder>(std::move(self));
    }

    const Track& track() const override { return track_; }

    Status encode(const Picture& picture, std::vector<Packet>& out) override {
        if (!send(picture)) return failed_at(times_.count());
        return take(out, false);
    }
    Status flush(std::vector<Packet>& out) override {
        if (times_.count() == 0) return {};
        EbBufferHeaderType header{};
        header.size = sizeof header;
        header.flags = EB_BUFFERFLAG_EOS;
        header.pic_type = EB_AV1_INVALID_PICTURE;
        if (svt_av1_enc_send_picture(handle_, &header) != EB_ErrorNone) return failed_at(times_.count());
        return take(out, true);
    }

  private:
    bool send(const Picture& picture) {
        EbSvtIOFormat planes{};
        planes.luma = picture.planes[0];
        planes.cb = picture.planes[1];
        planes.cr = picture.planes[2];
        const int bytes = picture.sample_bytes();  // strides count samples
        planes.y_stride = static_cast<std::uint32_t>(picture.strides[0] / bytes);
        planes.cb_stride = static_cast<std::uint32_t>(picture.strides[1] / bytes);
        planes.cr_stride = static_cast<std::uint32_t>(picture.strides[2] / bytes);
        planes.width = static_cast<std::uint32_t>(picture.width);
        planes.height = static_cast<std::uint32_t>(picture.height);
        planes.color_fmt = EB_YUV420;
        planes.bit_depth = picture.bit_depth > 8 ? EB_TEN_BIT : EB_EIGHT_BIT;
        EbBufferHeaderType header{};
        header.size = sizeof header;
        header.p_buffer = reinterpret_cast<std::uint8_t*>(&planes);
        header.n_filled_len = static_cast<std::uint32_t>(picture.width * picture.height * 3 / 2 * bytes);
        header.pts = times_.put(picture);
        header.pic_type = EB_AV1_INVALID_PICTURE;
        return svt_av1_enc_send_picture(handle_, &header) == EB_ErrorNone;
    }
    void send_black() {
        Picture picture = Picture::allocate(track_.width, track_.height, track_.bit_depth);
        for (int plane = 0; plane < 3; ++plane)
            std::memset(picture.planes[plane], 0,
                        static_cast<std::size_t>(picture.strides[plane] * picture.plane_height(plane)));
        send(picture);
    }

    explicit Av1Encoder(const VideoEncoderSettings& settings)
        : track_(track_of(settings)), times_(settings.frame_rate) {
        track_.profile = "Main";
    }

    // In the library's own syntax, whose units are candelas and parts of one (AV1, 6.7.4).
    static void tell_dynamic_range(const VideoEncoderSettings& settings, EbSvtAv1EncConfiguration& config) {
        config.high_dynamic_range_input = media::is_hdr(settings.colour) ? 1 : 0;
        if (const auto& display = settings.mastering_display) {
            const auto part = [](int steps) { return steps * 0.00002; };
            const auto& x = display->primaries_x;
            const auto& y = display->primaries_y;
            const std::string text = fmt::format(
                "G({:.5f},{:.5f})B({:.5f},{:.5f})R({:.5f},{:.5f})WP({:.5f},{:.5f})L({:.4f},{:.4f})", part(x[1]),
                part(y[1]), part(x[2]), part(y[2]), part(x[0]), part(y[0]), part(display->white_x),
                part(display->white_y), static_cast<double>(display->max_luminance) / 10000,
                static_cast<double>(display->min_luminance) / 10000);
            svt_aom_parse_mastering_display(&config.mastering_display, text.c_str());
        }
        if (const auto& light = settings.content_light)
            svt_aom_parse_content_light_level(
                &config.content_light_level,
                fmt::format("{},{}", light->max_content, light->max_frame_average).c_str());
    }

    // The library's rate factor that looks like H.264's of this quality: measured (docs/development.md).
    static int factor_of(double quality) { return static_cast<int>(std::lround(3.35 * rate_factor(quality) - 43)); }

    Status take_header() {
        EbBufferHeaderType* got = nullptr;
        if (svt_av1_enc_stream_header(handle_, &got) != EB_ErrorNone || got == nullptr)
            return refused_settings("the encoder gives no header");
        const ByteVector bytes(got->p_buffer, got->p_buffer + got->n_filled_len);
        svt_av1_enc_stream_header_release(got);
        const auto header = bitstream::parse_av1(bytes);
        if (!header) return refused_settings("the encoder's header can't be read");
        track_.level = bitstream::av1_level_name(header->level);
        track_.codec_config = Bytes(bitstream::make_av1_config(*header, bytes));
        return {};
    }

    Status take(std::vector<Packet>& out, bool to_end) {
        while (true) {
            EbBufferHeaderType* got = nullptr;
            const EbErrorType result = svt_av1_enc_get_packet(handle_, &got, to_end ? 1 : 0);
            if (result == EB_NoErrorEmptyQueue) return {};
            if (result != EB_ErrorNone || got == nullptr) return failed_at(times_.count());
            const bool last = (got->flags & EB_BUFFERFLAG_EOS) != 0;
            bytes_ += got->n_filled_len;
            if (got->n_filled_len > 0) {
                Packet packet;
                packet.key = got->pic_type == EB_AV1_KEY_PICTURE;
                packet.data = Bytes(bitstream::av1_without_delimiters(ByteSpan(got->p_buffer, got->n_filled_len)));
                packet.pts = packet.dts = times_.time_of(got->pts);
                packet.duration = times_.duration_of(got->pts);
                times_.forget_before(got->pts);
                if (!packet.data.empty()) out.push_back(std::move(packet));
            }
            svt_av1_enc_release_out_buffer(&got);
            if (last) {
                take_notes();
                return {};
            }
        }
    }

    // How many times as much is to be asked for as is wanted; told at the end of the first pass.
    void take_notes() {
        if (!notes_ || times_.count() == 0) return;
        const double seconds = base::to_seconds(base::frames_to_time(times_.count(), track_.frame_rate));
        const double wanted = static_cast<double>(mean_bps_) * seconds / 8;
        const double factor =
            std::clamp(correction(*notes_) * wanted / std::max(static_cast<double>(bytes_), 1.0), 0.25, 4.0);
        notes_->bytes.resize(sizeof factor);
        std::memcpy(notes_->bytes.data(), &factor, sizeof factor);
    }
    static double correction(const PassNotes& notes) {
        double factor = 1;
        if (notes.bytes.size() == sizeof factor) std::memcpy(&factor, notes.bytes.data(), sizeof factor);
        return factor;
    }

    EbComponentType* handle_ = nullptr;
    std::shared_ptr<PassNotes> notes_;  // to be written
    std::int64_t mean_bps_ = 0;
    std::uint64_t bytes_ = 0;
    bool started_ = false;
    Track track_;
    EncoderTimes times_;
};

}  // namespace

Result<std::unique_ptr<media::VideoEncoder>> make_av1_encoder(const VideoEncoderSettings& settings) {
    return Av1Encoder::create(settings);
}

}  // namespace wavecrest::codec
