#include "verify/stills.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "codec/video_decoder.hpp"
#include "render/png.hpp"

namespace wavecrest::verify {
namespace {

// To R'G'B' (H.273, 8.3): by the stream's matrix; where it says nothing, that of its size.
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

}  // namespace

Result<std::vector<base::Path>> save_stills(PacketSource& source, const StillSettings& settings, const Cancel& cancel) {
    const auto track = std::find_if(source.tracks().begin(), source.tracks().end(),
                                    [](const Track& t) { return t.kind == TrackKind::video; });
    if (track == source.tracks().end())
        return fail(ErrorKind::input, "there is no picture in it", settings.stem, "leave out --stills");
    WAVECREST_TRY_ASSIGN(decoder, codec::make_video_decoder(*track));
    std::error_code error;
    std::filesystem::create_directories(settings.folder, error);
    if (error)
        return fail(ErrorKind::machine, "the folder can't be made: " + error.message(), settings.folder.string(),
                    "name another with --stills");
    std::vector<base::Path> files;
    Time next = Time::min();
    std::optional<Time> zero;
    bool taken = false;  // since the last skip
    const auto save = [&](const std::vector<Picture>& pictures) -> Status {
        for (const Picture& picture : pictures) {
            if (!zero) zero = picture.pts;
            if (picture.pts < next) continue;
            const auto moment = static_cast<std::int64_t>(
                base::to_seconds(settings.by_seeking ? picture.pts : picture.pts - *zero) + 0.001);
            const base::Path file = settings.folder / fmt::format("{}-{}-{:02}-{:02}.png", settings.stem, moment / 3600,
                                                                  moment / 60 % 60, moment % 60);
            const int width =
                std::max(1, static_cast<int>(std::lround(picture.width * static_cast<double>(picture.pixel_aspect.num) /
                                                         static_cast<double>(picture.pixel_aspect.den))));
            next = picture.pts + settings.every;
            taken = true;
            // Keyframes far apart: the same picture again.
            if (!files.empty() && files.back() == file) return {};
            WAVECREST_TRY(render::write_rgb_png(file, width, picture.height, to_rgb(picture, width)));
            files.push_back(file);
            if (settings.by_seeking) break;
        }
        return {};
    };
    std::vector<Picture> pictures;
    const Time last = settings.by_seeking ? source.duration() : Time{};
    for (Time at{}; at <= last; at += settings.every) {
        if (settings.by_seeking) {
            if (!source.seek(at)) break;
            WAVECREST_TRY_ASSIGN(fresh, codec::make_video_decoder(*track));
            decoder = std::move(fresh);
            next = Time::min();
        }
        taken = false;
        while (!settings.by_seeking || !taken) {
            if (cancel.requested()) return base::interrupted();
            auto packet = source.read();
            if (!packet || !*packet) {
                pictures.clear();
                if (decoder->flush(pictures)) WAVECREST_TRY(save(pictures));
                break;
            }
            if ((*packet)->track != track->id) continue;
            pictures.clear();
            // What is damaged shows nothing; the next keyframe will.
            if (!decoder->decode(**packet, pictures)) continue;
            WAVECREST_TRY(save(pictures));
        }
    }
    return files;
}

}  // namespace wavecrest::verify
