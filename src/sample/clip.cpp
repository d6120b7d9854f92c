#include "sample/clip.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <random>

#include "codec/audio_encoder.hpp"
#include "codec/mpeg2_encoder.hpp"
#include "codec/video_encoder.hpp"
#include "container/writer.hpp"
#include "filter/depth.hpp"
#include "sample/test_card.hpp"

namespace wavecrest::sample {
namespace {

constexpr TrackId kVideo = 1, kAudio = 2;
constexpr int kEffort = 1;

struct Coded {
    Track track;
    std::vector<Packet> packets;
};

bool repeats(const ClipVideo& video) {
    return video.size.height > 720 || video.bitrate_bps > 0;
}

std::int64_t frame_count(const ClipVideo& video, Time length) {
    const std::int64_t all =
        base::rescale(length.count(), video.frame_rate.num, base::kFlicksPerSecond * video.frame_rate.den);
    const std::int64_t second = (video.frame_rate.num + video.frame_rate.den - 1) / video.frame_rate.den;
    return repeats(video) ? std::min(all, second) : all;
}

// What no encoder can do away with, but where programs read: the code, and the flash. Amplitude 0 to 100.
void add_noise(Picture& picture, int amplitude, std::int64_t frame) {
    std::minstd_rand random(static_cast<unsigned>(frame) + 1);
    const auto line = [&](double part) { return static_cast<int>(part * picture.height); };
    const int flash_left = static_cast<int>(kFlashLeft * picture.width) - 2;
    for (int y = 0; y < line(kCodeTop - 0.01); ++y) {
        const bool beside_flash = y >= line(kFlashTop) - 2 && y <= line(kFlashTop + kFlashHeight) + 2;
        std::uint8_t* row = picture.row<std::uint8_t>(0, y);
        const int end = beside_flash ? flash_left : picture.width;
        for (int x = 0; x < end; ++x) {
            const int noise = static_cast<int>(random() >> 8 & 0xff) - 128;
            row[x] = static_cast<std::uint8_t>(std::clamp(row[x] + noise * amplitude / 100, 16, 235));
        }
    }
}

void draw_fields(Picture& picture) {
    const auto part = [](double fraction, int size) { return static_cast<int>(fraction * size); };
    const int left = part(kFlashLeft, picture.width), width = part(kFlashWidth, picture.width);
    const int top = part(kFlashTop, picture.height), height = part(kFlashHeight, picture.height);
    for (int y = top; y < top + height; ++y)
        std::fill_n(picture.row<std::uint8_t>(0, y) + left, width, static_cast<std::uint8_t>(y % 2 == 0 ? 235 : 16));
}

int noise_amplitude(const ClipVideo& video) {
    const double bits = static_cast<double>(video.bitrate_bps) /
                        (video.frame_rate.value() * video.size.width * video.size.height);  // a pixel
    return std::clamp(static_cast<int>(bits * 60), 4, 90);
}

TestCard card_of(const ClipVideo& video) {
    CardSettings settings;
    settings.width = video.size.width;
    settings.height = video.size.height;
    settings.display_aspect = {video.size.width, video.size.height};
    settings.frame_rate = video.frame_rate;
    settings.title = "TEST CLIP";
    return TestCard(settings);
}

Picture frame_of(const TestCard& card, const ClipVideo& video, std::int64_t frame) {
    Picture picture = card.draw(frame);
    if (video.bitrate_bps > 0) add_noise(picture, noise_amplitude(video), frame);
    picture.progressive = !video.interlaced;
    if (video.interlaced) draw_fields(picture);
    return video.bit_depth > 8 ? filter::to_depth(picture, video.bit_depth) : picture;
}

Result<Coded> encode_mpeg2(const ClipVideo& video, Time length, const Cancel& cancel) {
    codec::Mpeg2Settings settings;
    settings.width = video.size.width;
    settings.height = video.size.height;
    settings.pictures = codec::Mpeg2Settings::Pictures::whole;
    codec::Mpeg2Encoder encoder(settings);
    Coded coded;
    coded.track.codec = Codec::mpeg2;
    coded.track.profile = "Main";
    coded.track.level = "Main";
    coded.track.width = video.size.width;
    coded.track.height = video.size.height;
    coded.track.bit_depth = 8;
    coded.track.frame_rate = settings.picture_rate();
    coded.track.scan = Scan::progressive;
    ClipVideo real = video;
    real.frame_rate = coded.track.frame_rate;
    const TestCard card = card_of(real);
    const std::int64_t count = frame_count(real, length);
    for (std::int64_t n = 0; n < count; ++n) {
        if (cancel.requested()) return base::interrupted();
        codec::Mpeg2Picture picture = encoder.encode(card.draw(n), n + 1 == count);
        Packet packet;
        packet.pts = packet.dts = base::frames_to_time(n, real.frame_rate);
        packet.duration = base::frames_to_time(1, real.frame_rate);
        packet.key = picture.key;
        packet.data = Bytes(std::move(picture.data));
        coded.packets.push_back(std::move(packet));
    }
    return coded;
}

Result<Coded> encode_video(const Clip& clip, const Cancel& cancel) {
    const ClipVideo& video = *clip.video;
    if (video.codec == Codec::mpeg2) return encode_mpeg2(video, clip.length, cancel);
    codec::VideoEncoderSettings settings;
    settings.codec = video.codec;
    settings.profile = video.profile;
    settings.width = video.size.width;
    settings.height = video.size.height;
    settings.frame_rate = video.frame_rate;
    settings.bit_depth = video.bit_depth;
    settings.colour = {1, 1, 1, false};
    settings.effort = kEffort;
    settings.interlaced = video.interlaced;
    settings.keyframe_distance = base::from_seconds(1);
    if (video.bitrate_bps > 0) {
        settings.mean_bps = video.bitrate_bps;
        if (codec::holds_peak_with_mean(video.codec)) {
            settings.peak_bps = video.bitrate_bps;
            settings.buffer = base::from_seconds(0.25);  // what it holds at first comes on top
            settings.buffer_level = 0.5;
        }
    }
    WAVECREST_TRY_ASSIGN(encoder, codec::make_video_encoder(settings));
    const TestCard card = card_of(video);
    const std::int64_t count = frame_count(video, clip.length);
    Coded coded;
    for (std::int64_t n = 0; n < count; ++n) {
        if (cancel.requested()) return base::interrupted();
        // One that is left out leaves the one before for as long: its number is never seen.
        const std::int64_t shown = clip.drop_one_in > 0 && n % clip.drop_one_in == clip.drop_one_in - 1 ? n - 1 : n;
        Picture picture = frame_of(card, video, shown);
        picture.pts = base::frames_to_time(n, video.frame_rate);
        WAVECREST_TRY(encoder->encode(picture, coded.packets));
    }
    WAVECREST_TRY(encoder->flush(coded.packets));
    coded.track = encoder->track();
    const std::size_t group = coded.packets.size();
    const Time step = base::frames_to_time(count, video.frame_rate);
    for (Time from = step; from + step <= clip.length; from += step) {
        for (std::size_t i = 0; i < group; ++i) {
            Packet packet = coded.packets[i];
            packet.pts += from;
            packet.dts += from;
            coded.packets.push_back(std::move(packet));
        }
    }
    return coded;
}

// The flash is in the same frames of each repetition, and so is the beep.
std::vector<float> samples_of(const Clip& clip, std::int64_t first, std::int64_t count) {
    const ClipVideo video = clip.video.value_or(ClipVideo{});
    CardSettings settings;
    settings.width = 64;
    settings.height = 36;
    settings.frame_rate = video.frame_rate;
    static_assert(kCardSampleRate == 48000);
    const TestCard card(settings);
    const std::int64_t late = base::to_ticks(clip.audio_late, kCardSampleRate);
    const std::int64_t period =
        clip.video && repeats(video)
            ? base::to_ticks(base::frames_to_time(frame_count(video, clip.length), video.frame_rate), kCardSampleRate)
            : 0;
    std::vector<float> all;
    for (std::int64_t at = first; at < first + count;) {
        const std::int64_t from = at - late;
        const std::int64_t in_period = period > 0 && from >= 0 ? from % period : from;
        std::int64_t some = first + count - at;
        if (period > 0 && from >= 0) some = std::min(some, period - in_period);
        if (from < 0) {
            some = std::min(some, -from);
            all.insert(all.end(), static_cast<std::size_t>(some * clip.audio->channels), 0.0F);
        } else {
            const std::vector<float> piece = channel_audio(card, in_period, some, clip.audio->channels, 0);
            all.insert(all.end(), piece.begin(), piece.end());
        }
        at += some;
    }
    return all;
}

Result<Coded> encode_audio(const Clip& clip, const Cancel& cancel) {
    codec::AudioEncoderSettings settings;
    settings.codec = clip.audio->codec;
    settings.speakers = media::usual_speakers(clip.audio->channels);
    if (clip.audio->channels > 2) settings.bitrate_bps = 384'000;
    WAVECREST_TRY_ASSIGN(encoder, codec::make_audio_encoder(settings));
    Coded coded;
    const std::int64_t end = base::to_ticks(clip.length, settings.sample_rate);
    constexpr std::int64_t kAtOnce = 4800;
    for (std::int64_t at = 0; at < end; at += kAtOnce) {
        if (cancel.requested()) return base::interrupted();
        AudioFrames frames;
        frames.pts = base::from_ticks(at, settings.sample_rate);
        frames.sample_rate = settings.sample_rate;
        frames.channels = clip.audio->channels;
        frames.speakers = settings.speakers;
        frames.samples = samples_of(clip, at, std::min(kAtOnce, end - at));
        WAVECREST_TRY(encoder->encode(frames, coded.packets));
    }
    WAVECREST_TRY(encoder->flush(coded.packets));
    coded.track = encoder->track();
    return coded;
}

std::string_view profile_words(const ClipVideo& video) {
    if (video.codec == Codec::h264)
        return video.profile == "baseline" ? "Baseline" : video.profile == "main" ? "Main" : "High";
    if (video.codec == Codec::h265) return video.bit_depth > 8 ? "Main 10" : "Main";
    if (video.codec == Codec::vp9) return video.bit_depth > 8 ? "profile 2" : "profile 0";
    if (video.codec == Codec::av1) return video.bit_depth > 8 ? "Main, 10 bits" : "Main";
    return "Main";
}

}  // namespace

std::string in_words(const Clip& clip) {
    std::string text;
    if (clip.video) {
        const ClipVideo& video = *clip.video;
        text = fmt::format("{} {}, {}x{}{}, {} fps", media::display_name(video.codec), profile_words(video),
                           video.size.width, video.size.height, video.interlaced ? " interlaced" : "",
                           base::format_rate(video.frame_rate));
        if (video.bitrate_bps > 0) text += ", " + base::format_bitrate(video.bitrate_bps);
    }
    if (clip.audio)
        text += fmt::format("{}{} {}", text.empty() ? "" : ", ", media::display_name(clip.audio->codec),
                            media::channel_layout(clip.audio->channels));
    return fmt::format("{}, {}", text, clip.container);
}

std::string file_name(const Clip& clip) {
    std::string name;
    const auto add = [&](const std::string& part) { name += (name.empty() ? "" : "-") + part; };
    if (clip.video) {
        const ClipVideo& video = *clip.video;
        add(std::string(media::short_name(video.codec)));
        if (!video.profile.empty()) add(video.profile);
        add(fmt::format("{}x{}", video.size.width, video.size.height));
        add(fmt::format("{}_{}", video.frame_rate.num, video.frame_rate.den));
        if (video.bit_depth > 8) add(fmt::format("{}bit", video.bit_depth));
        if (video.interlaced) add("interlaced");
        if (video.bitrate_bps > 0) add(fmt::format("{}k", video.bitrate_bps / 1000));
    }
    if (clip.audio) add(fmt::format("{}-{}ch", media::short_name(clip.audio->codec), clip.audio->channels));
    add(fmt::format("{}ms", base::to_ticks(clip.length, 1000)));
    if (clip.fragmented) add("fragmented");
    if (clip.audio_late.count() != 0) add(fmt::format("late{}", base::to_ticks(clip.audio_late, 1000)));
    if (clip.drop_one_in > 0) add(fmt::format("drop{}", clip.drop_one_in));
    // (Of these two formats one extension may be the other's.)
    return name + (clip.container == "webm" ? ".webm" : std::string(container::extension_of(clip.container)));
}

Result<std::vector<Track>> make_clip(const Clip& clip, std::unique_ptr<base::ByteSink> file, const Cancel& cancel) {
    std::vector<Track> tracks;
    std::vector<Packet> packets;
    const auto add = [&](Coded coded, TrackId id, TrackKind kind) {
        coded.track.id = id;
        coded.track.kind = kind;
        for (Packet& packet : coded.packets) {
            packet.track = id;
            packets.push_back(std::move(packet));
        }
        tracks.push_back(std::move(coded.track));
    };
    if (clip.video) {
        WAVECREST_TRY_ASSIGN(coded, encode_video(clip, cancel));
        add(std::move(coded), kVideo, TrackKind::video);
    }
    if (clip.audio) {
        WAVECREST_TRY_ASSIGN(coded, encode_audio(clip, cancel));
        add(std::move(coded), kAudio, TrackKind::audio);
    }
    std::stable_sort(packets.begin(), packets.end(), [](const Packet& a, const Packet& b) { return a.dts < b.dts; });
    container::WriterSettings settings;
    settings.duration = clip.length;
    if (clip.fragmented) settings.fragments = base::from_seconds(1);
    WAVECREST_TRY_ASSIGN(writer, container::create_media(clip.container, std::move(file), tracks, std::move(settings)));
    for (const Packet& packet : packets) WAVECREST_TRY(writer->write(packet));
    WAVECREST_TRY(writer->finish());
    return tracks;
}

}  // namespace wavecrest::sample
