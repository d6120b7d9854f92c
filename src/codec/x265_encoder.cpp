#include <fmt/format.h>

#include <cstdint>

#include <x265.h>

#include "bitstream/h265.hpp"
#include "bitstream/nal.hpp"
#include "codec/encoder_support.hpp"

namespace wavecrest::codec {
namespace {

// Our effort steps, as the library's presets: each takes about as long as that step of H.264.
constexpr const char* kPresets[] = {"ultrafast", "ultrafast", "superfast", "superfast", "veryfast",
                                    "faster",    "medium",    "slow",      "slower"};

class X265Encoder : public media::VideoEncoder {
  public:
    ~X265Encoder() override {
        if (encoder_ != nullptr) api_->encoder_close(encoder_);
        if (param_ != nullptr) api_->param_free(param_);
    }
    X265Encoder(const X265Encoder&) = delete;
    X265Encoder& operator=(const X265Encoder&) = delete;

    static Result<std::unique_ptr<media::VideoEncoder>> create(const VideoEncoderSettings& settings) {
        std::unique_ptr<X265Encoder> self(new X265Encoder(settings));
        const x265_api* api = self->api_ = x265_api_get(settings.bit_depth);
        if (api == nullptr)
            return refused_settings(fmt::format("the H.265 library has no {}-bit encoder", settings.bit_depth));
        x265_param* param = self->param_ = api->param_alloc();
        const int step = std::clamp(settings.effort, 1, 9) - 1;
        if (param == nullptr || api->param_default_preset(param, kPresets[step], nullptr) < 0)
            return refused_settings("the effort is out of range");
        param->logLevel = X265_LOG_NONE;
        param->sourceWidth = settings.width;
        param->sourceHeight = settings.height;
        param->internalCsp = X265_CSP_I420;
        param->fpsNum = static_cast<std::uint32_t>(settings.frame_rate.num);
        param->fpsDenom = static_cast<std::uint32_t>(settings.frame_rate.den);
        param->lookaheadDepth = std::max(lookahead(settings, param->lookaheadDepth), param->bframes + 1);
        param->bRepeatHeaders = 0;
        param->bAnnexB = 0;
        param->bEmitInfoSEI = 0;
        param->bOpenGOP = 0;  // players seek to any keyframe
        param->vui.aspectRatioIdc = X265_EXTENDED_SAR;
        param->vui.sarWidth = static_cast<int>(settings.pixel_aspect.num);
        param->vui.sarHeight = static_cast<int>(settings.pixel_aspect.den);
        param->vui.bEnableVideoSignalTypePresentFlag = 1;
        param->vui.videoFormat = 5;
        param->vui.bEnableVideoFullRangeFlag = settings.colour.full_range ? 1 : 0;
        param->vui.bEnableColorDescriptionPresentFlag = 1;
        param->vui.colorPrimaries = settings.colour.primaries;
        param->vui.transferCharacteristics = settings.colour.transfer;
        param->vui.matrixCoeffs = settings.colour.matrix;
        using Pass = VideoEncoderSettings::Pass;
        if (settings.mean_bps > 0) {
            param->rc.rateControlMode = X265_RC_ABR;
            param->rc.bitrate = kbps(settings.mean_bps);
            param->rc.bStatWrite = settings.pass == Pass::first ? 1 : 0;
            param->rc.bStatRead = settings.pass == Pass::second ? 1 : 0;
            if (settings.pass != Pass::only &&
                api->param_parse(param, "stats", settings.notes ? settings.notes->file().c_str() : "") != 0)
                return refused_settings("the notes of the first pass can't be kept");
        } else {
            param->rc.rateControlMode = X265_RC_CRF;
            param->rc.rfConstant = std::clamp(factor_of(settings.quality), 0.0, 51.0);
        }
        if (settings.peak_bps > 0) {
            param->rc.vbvMaxBitrate = static_cast<int>(settings.peak_bps / 1000);
            param->rc.vbvBufferSize =
                static_cast<int>(static_cast<double>(settings.peak_bps) * base::to_seconds(settings.buffer) / 1000);
            param->rc.vbvBufferInit = settings.buffer_level;
        }
        if (settings.keyframe_distance.count() > 0)
            param->keyframeMax = settings.variable_rate ? -1 : keyframe_frames(settings);
        if (settings.fixed_keyframes) {
            if (!settings.variable_rate) param->keyframeMin = param->keyframeMax;
            param->scenecutThreshold = 0;
        }
        if (settings.threads > 0) param->frameNumThreads = settings.threads;
        if (!settings.level.empty() && api->param_parse(param, "level-idc", settings.level.c_str()) != 0)
            return refused_settings("H.265 has no level " + settings.level);
        WAVECREST_TRY(tell_dynamic_range(settings, *api, *param));
        const std::string profile = !settings.profile.empty() ? settings.profile
                                    : settings.bit_depth == 8 ? "main"
                                                              : "main10";
        if (api->param_apply_profile(param, profile.c_str()) < 0)
            return refused_settings(
                fmt::format("H.265 profile \"{}\" is unknown or has no {} bits", profile, settings.bit_depth));
        self->encoder_ = api->encoder_open(param);
        if (self->encoder_ == nullptr) return refused_size(settings);
        WAVECREST_TRY(self->take_headers());
        return std::unique_ptr<media::VideoEncoder>(std::move(self));
    }

    const Track& track() const override { return track_; }

    Status encode(const Picture& picture, std::vector<Packet>& out) override {
        x265_picture in;
        api_->picture_init(param_, &in);
        for (int i = 0; i < 3; ++i) {
            in.planes[i] = picture.planes[i];
            in.stride[i] = picture.strides[i];
        }
        in.bitDepth = track_.bit_depth;
        in.pts = times_.put(picture);
        if (keyframes_ && keyframes_->is_due(picture)) in.sliceType = X265_TYPE_IDR;
        return run(&in, out);
    }
    Status flush(std::vector<Packet>& out) override {
        while (true) {
            const std::size_t before = out.size();
            WAVECREST_TRY(run(nullptr, out));
            if (out.size() == before) return {};
        }
    }

  private:
    explicit X265Encoder(const VideoEncoderSettings& settings)
        : track_(track_of(settings)), times_(settings.frame_rate) {
        if (settings.variable_rate) keyframes_.emplace(settings.keyframe_distance);
    }

    // The library's rate factor that looks like H.264's of this quality: measured (docs/development.md).
    static double factor_of(double quality) { return 1.08 * rate_factor(quality) - 1; }

    // What goes into supplemental enhancement information (D.3.28, D.3.35), in the library's own syntax.
    static Status tell_dynamic_range(const VideoEncoderSettings& settings, const x265_api& api, x265_param& param) {
        if (const auto& display = settings.mastering_display) {
            const auto& x = display->primaries_x;
            const auto& y = display->primaries_y;
            const std::string text =
                fmt::format("G({},{})B({},{})R({},{})WP({},{})L({},{})", x[1], y[1], x[2], y[2], x[0], y[0],
                            display->white_x, display->white_y, display->max_luminance, display->min_luminance);
            if (api.param_parse(&param, "master-display", text.c_str()) != 0)
                return refused_settings("the mastering display's values are out of range");
        }
        if (const auto& light = settings.content_light) {
            const std::string text = fmt::format("{},{}", light->max_content, light->max_frame_average);
            if (api.param_parse(&param, "max-cll", text.c_str()) != 0)
                return refused_settings("the content light level is out of range");
        }
        if (settings.mastering_display || settings.content_light) param.bEmitHDR10SEI = 1;
        return {};
    }

    Status take_headers() {
        x265_nal* nals = nullptr;
        std::uint32_t count = 0;
        if (api_->encoder_headers(encoder_, &nals, &count) < 0) return refused_settings("the encoder gives no headers");
        std::vector<ByteSpan> units;
        for (std::uint32_t i = 0; i < count; ++i) {
            const ByteSpan unit = ByteSpan(nals[i].payload, nals[i].sizeBytes).subspan(4);  // behind its length
            if (bitstream::nal::is_parameter_set(Codec::h265, bitstream::nal::type(Codec::h265, unit)))
                units.push_back(unit);
            // Whoever joins at a keyframe is told, too.
            if (nals[i].type == NAL_UNIT_PREFIX_SEI)
                told_.insert(told_.end(), nals[i].payload, nals[i].payload + nals[i].sizeBytes);
            if (nals[i].type != NAL_UNIT_SPS) continue;
            const auto sps = bitstream::h265::parse_sps(unit);
            if (!sps) return refused_settings("the encoder's headers can't be read");
            track_.profile = sps->profile_name();
            track_.level = sps->level_name();
            track_.reference_frames = sps->decoded_picture_buffer;
            track_.reorder_frames = sps->reorder_frames;
        }
        track_.codec_config = Bytes(bitstream::h265::make_config(units));
        if (track_.codec_config.empty()) return refused_settings("the encoder's headers can't be read");
        return {};
    }

    Status run(x265_picture* in, std::vector<Packet>& out) {
        x265_nal* nals = nullptr;
        std::uint32_t count = 0;
        x265_picture coded;
        const int got = api_->encoder_encode(encoder_, &nals, &count, in, &coded);
        if (got < 0) return failed_at(times_.count());
        if (got == 0 || count == 0) return {};
        ByteVector data;
        for (std::uint32_t i = 0; i < count; ++i)
            data.insert(data.end(), nals[i].payload, nals[i].payload + nals[i].sizeBytes);
        Packet packet;
        packet.key = IS_X265_TYPE_I(coded.sliceType) && bitstream::nal::is_random_access(Codec::h265, data);
        if (packet.key) data.insert(data.begin(), told_.begin(), told_.end());
        packet.data = Bytes(std::move(data));
        packet.pts = times_.time_of(coded.pts);
        packet.duration = times_.duration_of(coded.pts);
        packet.dts = times_.time_of(coded.dts);
        times_.forget_before(coded.dts);
        out.push_back(std::move(packet));
        return {};
    }

    const x265_api* api_ = nullptr;
    x265_param* param_ = nullptr;
    x265_encoder* encoder_ = nullptr;
    Track track_;
    ByteVector told_;  // messages that belong to every keyframe
    EncoderTimes times_;
    std::optional<KeyframeClock> keyframes_;
};

}  // namespace

Result<std::unique_ptr<media::VideoEncoder>> make_h265_encoder(const VideoEncoderSettings& settings) {
    return X265Encoder::create(settings);
}

}  // namespace wavecrest::codec
