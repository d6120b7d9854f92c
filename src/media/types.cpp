#include "media/types.hpp"

#include <fmt/format.h>

#include <array>
#include <bit>
#include <cmath>
#include <utility>

#include "base/mutex.hpp"

namespace wavecrest::media {
namespace {

constexpr std::pair<Codec, std::string_view> kCodecNames[] = {
    {Codec::mpeg1, "mpeg1"},   {Codec::mpeg2, "mpeg2"},   {Codec::mpeg4, "mpeg4"},
    {Codec::h264, "h264"},     {Codec::h265, "h265"},     {Codec::vc1, "vc1"},
    {Codec::vp8, "vp8"},       {Codec::vp9, "vp9"},       {Codec::av1, "av1"},
    {Codec::ac3, "ac3"},       {Codec::eac3, "eac3"},     {Codec::dts, "dts"},
    {Codec::truehd, "truehd"}, {Codec::aac, "aac"},       {Codec::mp2, "mp2"},
    {Codec::mp3, "mp3"},       {Codec::lpcm, "lpcm"},     {Codec::flac, "flac"},
    {Codec::opus, "opus"},     {Codec::vorbis, "vorbis"}, {Codec::dvd_subpicture, "dvd-subpicture"},
    {Codec::pgs, "pgs"},       {Codec::text, "text"},
};

}  // namespace

std::string_view short_name(Codec codec) {
    for (const auto& [value, name] : kCodecNames) {
        if (value == codec) return name;
    }
    return "unknown";
}

std::string_view display_name(Codec codec) {
    switch (codec) {
        case Codec::mpeg1:
            return "MPEG-1";
        case Codec::mpeg2:
            return "MPEG-2";
        case Codec::mpeg4:
            return "MPEG-4";
        case Codec::h264:
            return "H.264";
        case Codec::h265:
            return "H.265";
        case Codec::vc1:
            return "VC-1";
        case Codec::vp8:
            return "VP8";
        case Codec::vp9:
            return "VP9";
        case Codec::av1:
            return "AV1";
        case Codec::ac3:
            return "AC-3";
        case Codec::eac3:
            return "E-AC-3";
        case Codec::dts:
            return "DTS";
        case Codec::truehd:
            return "TrueHD";
        case Codec::aac:
            return "AAC";
        case Codec::mp2:
            return "MP2";
        case Codec::mp3:
            return "MP3";
        case Codec::lpcm:
            return "LPCM";
        case Codec::flac:
            return "FLAC";
        case Codec::opus:
            return "Opus";
        case Codec::vorbis:
            return "Vorbis";
        case Codec::dvd_subpicture:
            return "DVD bitmap";
        case Codec::pgs:
            return "PGS bitmap";
        case Codec::text:
            return "text";
        default:
            return "unknown";
    }
}

std::optional<Codec> codec_from_name(std::string_view text) {
    std::string plain;
    for (const char c : text) {
        if (c >= 'A' && c <= 'Z') plain += static_cast<char>(c + 32);
        if ((c >= 'a' && c <= 'z') || (c >= '0' && c <= '9')) plain += c;
    }
    static constexpr std::pair<std::string_view, Codec> kOthers[] = {
        {"avc", Codec::h264}, {"hevc", Codec::h265},   {"mpeg4part2", Codec::mpeg4},
        {"pcm", Codec::lpcm}, {"eac", Codec::eac3},    {"mpeg1layer2", Codec::mp2},
        {"srt", Codec::text}, {"webvtt", Codec::text}, {"dvdsubpicture", Codec::dvd_subpicture}};
    for (const auto& [name, codec] : kOthers) {
        if (name == plain) return codec;
    }
    for (const auto& [value, name] : kCodecNames) {
        if (name == plain) return value;
    }
    return std::nullopt;
}

std::string_view short_name(TrackKind kind) {
    switch (kind) {
        case TrackKind::video:
            return "video";
        case TrackKind::audio:
            return "audio";
        case TrackKind::subtitle:
            return "subtitle";
    }
    return "video";
}

std::string_view short_name(Scan scan) {
    switch (scan) {
        case Scan::progressive:
            return "progressive";
        case Scan::interlaced:
            return "interlaced";
        case Scan::pulldown:
            return "pulldown";
        case Scan::unknown:
            break;
    }
    return "unknown";
}

std::string describe(const ColourDescription& colour) {
    switch (colour.matrix) {
        case 1:
            return "BT.709";
        case 5:
            return "BT.601 (625 lines)";
        case 6:
            return "BT.601 (525 lines)";
        case 9:
        case 10:
            return colour.transfer == 16 ? "BT.2020 PQ" : colour.transfer == 18 ? "BT.2020 HLG" : "BT.2020";
        case 2:
            return "not specified";
        default:
            return fmt::format("H.273 matrix {}", colour.matrix);
    }
}

std::string_view short_name(FramePacking::Arrangement arrangement) {
    using A = FramePacking::Arrangement;
    switch (arrangement) {
        case A::checkerboard:
            return "checkerboard";
        case A::columns:
            return "column-interleaved";
        case A::rows:
            return "row-interleaved";
        case A::side_by_side:
            return "side-by-side";
        case A::top_bottom:
            return "top-bottom";
        case A::alternating:
            return "alternating";
        case A::single:
            return "single";
        case A::tiles:
            return "tiles";
    }
    return "unknown";
}

std::string describe(const FramePacking& packing) {
    using A = FramePacking::Arrangement;
    if (packing.arrangement == A::single) return "one view";
    const char* const how = packing.fields                           ? "field-sequential"
                            : packing.arrangement == A::checkerboard ? "checkerboard"
                            : packing.arrangement == A::columns      ? "column-interleaved"
                            : packing.arrangement == A::rows         ? "row-interleaved"
                            : packing.arrangement == A::side_by_side ? "side by side"
                            : packing.arrangement == A::top_bottom   ? "top-bottom"
                            : packing.arrangement == A::alternating  ? "frame-sequential"
                                                                     : "tiled";
    return fmt::format("3D {}{}{}", how,
                       packing.first == FramePacking::View::unknown ? ""
                       : packing.first == FramePacking::View::left  ? ", left view first"
                                                                    : ", right view first",
                       packing.flipped ? ", one mirrored" : "");
}

Ratio Track::display_aspect() const {
    if (height == 0) return {0, 1};
    return base::reduced({width * pixel_aspect.num, height * pixel_aspect.den});
}

std::string_view short_name(Purpose purpose) {
    switch (purpose) {
        case Purpose::main:
            return "main";
        case Purpose::described:
            return "described";
        case Purpose::commentary:
            return "commentary";
        case Purpose::captions:
            return "captions";
    }
    return "main";
}

int speaker_count(Speakers speakers) {
    return std::popcount(speakers);
}

Speakers usual_speakers(int channels) {
    using namespace speaker;
    switch (channels) {
        case 1:
            return kCentre;
        case 2:
            return kStereo;
        case 3:
            return kStereo | kCentre;
        case 4:
            return kStereo | kCentre | kCentreSurround;
        case 5:
            return kStereo | kCentre | kLeftSurround | kRightSurround;
        case 6:
            return kFiveOne;
        case 7:
            return kFiveOne | kCentreSurround;
        case 8:
            return kFiveOne | kLeftBack | kRightBack;
        default:
            return kFiveOne | kCentreSurround | kLeftBack | kRightBack;
    }
}

std::string channel_layout(const Track& track) {
    if (track.speakers == 0) return channel_layout(track.channels);
    const bool low = (track.speakers & speaker::kLowFrequency) != 0;
    if (track.channels <= 2 && !low) return channel_layout(track.channels);
    return fmt::format("{}.{}", track.channels - (low ? 1 : 0), low ? 1 : 0);
}

std::string channel_layout(int channels) {
    switch (channels) {
        case 1:
            return "mono";
        case 2:
            return "stereo";
        case 6:
            return "5.1";
        case 8:
            return "7.1";
        default:
            return fmt::format("{} channels", channels);
    }
}

std::string aspect_name(Ratio aspect) {
    // The names cover the few lines or columns that cropping and rounding to even sizes change.
    const double value = aspect.value();
    if (std::abs(value - 4.0 / 3.0) < 0.02) return "4:3";
    if (std::abs(value - 16.0 / 9.0) < 0.02) return "16:9";
    return fmt::format("{:.2f}:1", value);
}

namespace {

// Room for samples that pictures gave back and others of the same size take: fresh memory has to be cleared by the
// system first, which takes longer than many a filter.
class SamplePool {
  public:
    static std::shared_ptr<std::uint8_t[]> take(std::size_t size) {
        std::uint8_t* samples = pool().kept(size);
        if (samples == nullptr) samples = new (std::align_val_t{64}) std::uint8_t[size];
        return {samples, [size](std::uint8_t* p) { pool().give(p, size); }};
    }

  private:
#ifdef __SANITIZE_ADDRESS__
    static constexpr std::size_t kMost = 0;  // so that it sees who uses what was given back
#else
    static constexpr std::size_t kMost = 64'000'000;  // bytes
#endif
    struct Room {
        std::uint8_t* samples;
        std::size_t size;
    };

    // Never destroyed: pictures may outlive everything else.
    static SamplePool& pool() {
        static auto* const pool = new SamplePool;
        return *pool;
    }
    static void release(std::uint8_t* samples) { ::operator delete[](samples, std::align_val_t{64}); }

    std::uint8_t* kept(std::size_t size) {
        const base::MutexLock lock(mutex_);
        for (std::size_t i = rooms_.size(); i > 0; --i) {
            if (rooms_[i - 1].size != size) continue;
            std::uint8_t* const samples = rooms_[i - 1].samples;
            rooms_.erase(rooms_.begin() + static_cast<std::ptrdiff_t>(i - 1));
            bytes_ -= size;
            return samples;
        }
        return nullptr;
    }
    void give(std::uint8_t* samples, std::size_t size) {
        std::vector<std::uint8_t*> out;  // the oldest go
        {
            const base::MutexLock lock(mutex_);
            rooms_.push_back({samples, size});
            bytes_ += size;
            while (bytes_ > kMost) {
                out.push_back(rooms_.front().samples);
                bytes_ -= rooms_.front().size;
                rooms_.erase(rooms_.begin());
            }
        }
        for (std::uint8_t* one : out) release(one);
    }

    base::Mutex mutex_;
    std::vector<Room> rooms_ GUARDED_BY(mutex_);
    std::size_t bytes_ GUARDED_BY(mutex_) = 0;
};

}  // namespace

Picture Picture::allocate(int width, int height, int bit_depth) {
    Picture picture;
    picture.width = width;
    picture.height = height;
    picture.bit_depth = bit_depth;
    const int bytes = picture.sample_bytes();
    const int chroma_width = (width + 1) / 2;
    const int chroma_height = (height + 1) / 2;
    const auto round_up = [](int n) { return (n + 63) / 64 * 64; };
    picture.strides[0] = round_up(width * bytes);
    picture.strides[1] = picture.strides[2] = round_up(chroma_width * bytes);
    const auto luma = static_cast<std::size_t>(picture.strides[0]) * static_cast<std::size_t>(height);
    const auto chroma = static_cast<std::size_t>(picture.strides[1]) * static_cast<std::size_t>(chroma_height);
    picture.storage = SamplePool::take(luma + 2 * chroma);
    std::uint8_t* const samples = picture.storage.get();
    picture.planes[0] = samples;
    picture.planes[1] = samples + luma;
    picture.planes[2] = samples + luma + chroma;
    return picture;
}

Picture Picture::allocate_alike(int to_width, int to_height) const {
    return allocate_alike(to_width, to_height, bit_depth);
}

Picture Picture::allocate_alike(int to_width, int to_height, int depth) const {
    Picture samples = allocate(to_width, to_height, depth);
    Picture picture = *this;
    picture.bit_depth = depth;
    picture.width = to_width;
    picture.height = to_height;
    picture.storage = std::move(samples.storage);
    for (int i = 0; i < 3; ++i) {
        picture.planes[i] = samples.planes[i];
        picture.strides[i] = samples.strides[i];
    }
    return picture;
}

}  // namespace wavecrest::media
