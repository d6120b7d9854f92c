#include "verify/pictures.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <cmath>

#include "codec/video_decoder.hpp"
#include "filter/depth.hpp"
#include "filter/tone_map.hpp"
#include "render/png.hpp"

namespace wavecrest::verify {
namespace {

// Of 8 bits, to R'G'B' (H.273, 8.3): by the stream's matrix; where it says nothing, that of its size.
ByteVector to_rgb(const Picture& p, int width) {
    const bool sd = p.colour.matrix == 5 || p.colour.matrix == 6 || (p.colour.matrix == 2 && p.height <= 576);
    const double kr = sd ? 0.299 : 0.2126, kb = sd ? 0.114 : 0.0722, kg = 1 - kr - kb;
    const double luma_scale = p.colour.full_range ? 1 : 255.0 / 219,
                 chroma_scale = p.colour.full_range ? 1 : 255.0 / 224;
    const int black = p.colour.full_range ? 0 : 16;
    ByteVector rgb(static_cast<std::size_t>(width) * static_cast<std::size_t>(p.height) * 3);
    std::size_t at = 0;
    const auto clip = [](double v) { return static_cast<std::uint8_t>(std::clamp(std::lround(v), 0L, 255L)); };
    for (int y = 0; y < p.height; ++y) {
        const std::uint8_t* luma = p.planes[0] + y * p.strides[0];
        const std::uint8_t* cb = p.planes[1] + y / 2 * p.strides[1];
        const std::uint8_t* cr = p.planes[2] + y / 2 * p.strides[2];
        for (int x = 0; x < width; ++x) {
            // Pixels that aren't square are drawn out.
            const double from = (x + 0.5) * p.width / width - 0.5;
            const int left = std::clamp(static_cast<int>(std::floor(from)), 0, p.width - 1);
            const int right = std::min(left + 1, p.width - 1);
            const double part = std::clamp(from - left, 0.0, 1.0);
            const double v = (luma[left] * (1 - part) + luma[right] * part - black) * luma_scale;
            const double b = (cb[left / 2] - 128) * chroma_scale, r = (cr[left / 2] - 128) * chroma_scale;
            rgb[at++] = clip(v + 2 * (1 - kr) * r);
            rgb[at++] = clip(v - 2 * (1 - kb) * kb / kg * b - 2 * (1 - kr) * kr / kg * r);
            rgb[at++] = clip(v + 2 * (1 - kb) * b);
        }
    }
    return rgb;
}

class Look {
  public:
    Look(PacketSource& source, const Track& track, const PictureSettings& settings, const Cancel& cancel)
        : source_(source), track_(track), settings_(settings), cancel_(cancel) {}

    Result<PictureLook> run() {
        look_.possible = true;
        if (settings_.places == 0) {
            WAVECREST_TRY(interval(Time::max()));
            return std::move(look_);
        }
        for (int place = 0; place < settings_.places; ++place) {
            const double part = static_cast<double>(place) / settings_.places;
            if (!source_.seek(base::from_seconds(base::to_seconds(source_.duration()) * part))) break;
            next_ = Time::min();
            WAVECREST_TRY(interval(std::chrono::seconds(1)));
        }
        return std::move(look_);
    }

  private:
    // Stills are of 8 bits and standard dynamic range.
    Picture for_screen(const Picture& picture) const {
        if (media::is_hdr(track_.colour)) return filter::ToneMapper(track_).apply(picture);
        return filter::to_depth(picture, 8);
    }
    // Decodes from the next keyframe on.
    Status interval(Time length) {
        WAVECREST_TRY_ASSIGN(decoder, codec::make_video_decoder(track_));
        std::vector<Picture> pictures;
        std::optional<Packet> held;  // the last one isn't decoded: its end may be missing
        std::optional<Time> begun;
        const auto decode = [&](const Packet& packet) -> Status {
            // What can't be decoded at all counts as damage, too; the next keyframe is a new beginning.
            if (const auto done = decoder->decode(packet, pictures); !done) {
                look_.problems.push_back({done.error().what, packet.pts, packet.pts + packet.duration});
                if (track_.codec == Codec::h264) look_.refused = done.error().what;
            }
            return take(pictures);
        };
        while (true) {
            if (cancel_.requested()) return base::interrupted();
            if (settings_.patience &&
                std::chrono::duration_cast<Time>(std::chrono::steady_clock::now() - begun_) > *settings_.patience) {
                look_.in_part = true;
                break;
            }
            auto packet = source_.read();
            if (!packet || !*packet) break;
            if ((*packet)->track != track_.id || (!begun && !(*packet)->key)) continue;
            if (!begun) begun = (*packet)->dts;
            if (length != Time::max() && (*packet)->dts >= *begun + length) break;
            if (held) WAVECREST_TRY(decode(*held));
            held = std::move(*packet);
        }
        // An interval that was cut out is whole to its end.
        if (held && length != Time::max()) WAVECREST_TRY(decode(*held));
        if (decoder->flush(pictures)) WAVECREST_TRY(take(pictures));
        for (Problem& problem : decoder->problems()) look_.problems.push_back(std::move(problem));
        return {};
    }
    Status take(std::vector<Picture>& pictures) {
        for (const Picture& picture : pictures) {
            ++look_.decoded;
            if (!zero_) zero_ = picture.pts;
            if (!settings_.folder.empty() && picture.pts >= next_) WAVECREST_TRY(save(picture));
        }
        pictures.clear();
        return {};
    }
    Status save(const Picture& picture) {
        if (look_.stills.empty()) {
            std::error_code error;
            std::filesystem::create_directories(settings_.folder, error);
            if (error)
                return fail(ErrorKind::machine, "the folder can't be made: " + error.message(),
                            settings_.folder.string(), "name another with --stills");
        }
        const bool seeks = settings_.places > 0;
        next_ = seeks ? Time::max() : picture.pts + settings_.every;
        const auto moment =
            static_cast<std::int64_t>(base::to_seconds(seeks ? picture.pts : picture.pts - *zero_) + 0.001);
        const base::Path file = settings_.folder / fmt::format("{}-{}-{:02}-{:02}.png", settings_.stem, moment / 3600,
                                                               moment / 60 % 60, moment % 60);
        // Keyframes far apart: the same picture again.
        if (!look_.stills.empty() && look_.stills.back() == file) return {};
        const double aspect =
            static_cast<double>(picture.pixel_aspect.num) / static_cast<double>(picture.pixel_aspect.den);
        const int width = std::max(1, static_cast<int>(std::lround(picture.width * aspect)));
        WAVECREST_TRY(render::write_rgb_png(file, width, picture.height, to_rgb(for_screen(picture), width)));
        look_.stills.push_back(file);
        return {};
    }

    PacketSource& source_;
    const Track& track_;
    const PictureSettings& settings_;
    const Cancel& cancel_;
    PictureLook look_;
    Time next_ = Time::min();
    std::optional<Time> zero_;
    const std::chrono::steady_clock::time_point begun_ = std::chrono::steady_clock::now();
};

}  // namespace

Result<PictureLook> look_at_pictures(PacketSource& source, const PictureSettings& settings, const Cancel& cancel) {
    const auto track = std::find_if(source.tracks().begin(), source.tracks().end(),
                                    [](const Track& t) { return t.kind == TrackKind::video; });
    if (track == source.tracks().end()) return PictureLook{};
    if (std::string why = codec::why_no_pictures(*track); !why.empty()) {
        PictureLook look;
        if (track->codec == Codec::h264) look.refused = std::move(why);
        return look;
    }
    return Look(source, *track, settings, cancel).run();
}

}  // namespace wavecrest::verify
