#include "library/poster.hpp"

#include <fmt/format.h>
#include <sys/stat.h>

#include <algorithm>
#include <cmath>

#include "base/address.hpp"
#include "base/file.hpp"
#include "codec/video_decoder.hpp"
#include "filter/depth.hpp"
#include "filter/rgb.hpp"
#include "filter/scale.hpp"
#include "filter/tone_map.hpp"
#include "render/png.hpp"
#include "source/input.hpp"
#include "source/share_input.hpp"
#include "upnp/description.hpp"

namespace wavecrest::library {
namespace {

constexpr int kMostWidth = 640, kMostHeight = 360;

// How much there is to see: the spread of brightness, little where all is dark or of one colour.
double interest(const Picture& picture) {
    double sum = 0, squares = 0, count = 0;
    for (int y = 0; y < picture.height; y += 4) {
        const std::uint8_t* row = picture.planes[0] + y * picture.strides[0];
        for (int x = 0; x < picture.width; x += 4) {
            sum += row[x];
            squares += static_cast<double>(row[x]) * row[x];
            ++count;
        }
    }
    const double mean = sum / count;
    const double spread = std::sqrt(std::max(0.0, squares / count - mean * mean));
    return mean < 30 ? spread * mean / 30 : spread;
}

// The first picture at or behind a keyframe.
Result<Picture> picture_at(PacketSource& source, const Track& track, Time time) {
    WAVECREST_TRY(source.seek(time));
    WAVECREST_TRY_ASSIGN(decoder, codec::make_video_decoder(track));
    std::vector<Picture> pictures;
    bool begun = false;
    for (int packets = 0; packets < 4000 && pictures.empty();) {
        WAVECREST_TRY_ASSIGN(packet, source.read());
        if (!packet) break;
        if (packet->track != track.id || (!begun && !packet->key)) continue;
        begun = true;
        ++packets;
        WAVECREST_TRY(decoder->decode(*packet, pictures));
    }
    if (pictures.empty()) WAVECREST_TRY(decoder->flush(pictures));
    if (pictures.empty())
        return fail(ErrorKind::input, "no picture could be decoded", "", "put a picture beside the film");
    return std::move(pictures.front());
}

}  // namespace

namespace {

// Another for another file of the same name.
Result<std::string> name_for(const base::Path& film) {
    if (base::Address(film).is_share()) {
        WAVECREST_TRY_ASSIGN(opened, source::open_share(base::Address(film), nullptr));
        return upnp::udn_from(fmt::format("{} {} {}", film.string(), opened.entry.size, opened.entry.modified_ns));
    }
    struct stat about {};
    if (::stat(film.c_str(), &about) != 0)
        return fail(ErrorKind::input, "the file is gone", film.string(), "check the folder");
    return upnp::udn_from(
        fmt::format("{} {} {}.{}", film.string(), about.st_size, about.st_mtim.tv_sec, about.st_mtim.tv_nsec));
}

}  // namespace

Result<base::Path> poster_of(const base::Path& film) {
    WAVECREST_TRY_ASSIGN(name, name_for(film));
    const base::Path folder = base::cache_folder() / "posters";
    const base::Path file = folder / (name.substr(5) + ".png");
    std::error_code error;
    if (std::filesystem::exists(file, error)) return file;

    WAVECREST_TRY_ASSIGN(input, source::open_input(film));
    const source::Title& title = input->titles().front();
    const auto track = std::find_if(title.tracks.begin(), title.tracks.end(),
                                    [](const Track& t) { return t.kind == TrackKind::video; });
    if (track == title.tracks.end() || !codec::can_decode_video(*track))
        return fail(ErrorKind::input, "there is no video that can be decoded here", film.string(),
                    "put a picture beside the film");
    std::optional<Picture> best;
    double most = -1;
    for (const double part : {0.12, 0.25, 0.4, 0.55}) {
        WAVECREST_TRY_ASSIGN(source, input->open(title.number));
        auto picture = picture_at(*source, *track, base::from_seconds(base::to_seconds(title.duration) * part));
        if (!picture) continue;
        Picture shown =
            media::is_hdr(track->colour) ? filter::ToneMapper(*track).apply(*picture) : filter::to_depth(*picture, 8);
        const double there = interest(shown);
        if (there <= most) continue;
        most = there;
        best = std::move(shown);
    }
    if (!best)
        return fail(ErrorKind::input, "no picture could be decoded", film.string(), "put a picture beside the film");
    const double aspect = static_cast<double>(best->width) * track->pixel_aspect.value() / best->height;
    int width = kMostWidth, height = static_cast<int>(std::lround(kMostWidth / std::max(aspect, 0.01)));
    if (height > kMostHeight) {
        height = kMostHeight;
        width = static_cast<int>(std::lround(kMostHeight * aspect));
    }
    width = std::max(width & ~1, 16);
    height = std::max(height & ~1, 16);
    WAVECREST_TRY_ASSIGN(scaler, filter::Scaler::create(best->width, best->height, width, height, {1, 1}));
    WAVECREST_TRY_ASSIGN(small, scaler->apply(*best));
    std::filesystem::create_directories(folder, error);
    WAVECREST_TRY(render::write_rgb_png(file, small.width, small.height, filter::to_rgb(small)));
    return file;
}

}  // namespace wavecrest::library
