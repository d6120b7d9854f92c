#include "standin/material.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <cstring>
#include <future>

#include "bitstream/h264.hpp"
#include "bitstream/h265.hpp"
#include "bitstream/nal.hpp"
#include "codec/ac3_encoder.hpp"
#include "codec/video_encoder.hpp"
#include "filter/tone_map.hpp"

namespace wavecrest::standin {
namespace {

using Pictures = DiscDescription::Part::Pictures;
using namespace media::speaker;

// Frames after which fields are cut elsewhere, where they are cut now here, now there.
constexpr std::int64_t kPhase = 25;

bool interlaced(Pictures pictures) {
    return pictures == Pictures::interlaced || pictures == Pictures::film_unmarked ||
           pictures == Pictures::film_shifted || pictures == Pictures::film_phases;
}

// Lines of both fields, the upper from one picture and the lower from another.
Picture weave(const Picture& upper, const Picture& lower) {
    Picture out = Picture::allocate(upper.width, upper.height);
    for (int plane = 0; plane < 3; ++plane) {
        const int rows = plane == 0 ? upper.height : upper.height / 2;
        for (int y = 0; y < rows; ++y) {
            const Picture& from = y % 2 == 0 ? upper : lower;
            std::memcpy(out.planes[plane] + y * out.strides[plane], from.planes[plane] + y * from.strides[plane],
                        static_cast<std::size_t>(out.strides[plane]));
        }
    }
    return out;
}

ColourDescription hdr_colour(const DiscDescription& disc) {
    return {9, disc.range == DiscDescription::Range::hlg ? media::kTransferHlg : media::kTransferPq, 9, false};
}

Speakers speakers_of(int channels) {
    return media::usual_speakers(channels);
}

ByteVector plain_samples(const std::vector<float>& samples, int bits) {
    ByteVector out;
    out.reserve(samples.size() * 3);
    for (const float sample : samples) {
        if (bits == 16) {
            const auto value = static_cast<std::int32_t>(std::lround(sample * 32768.0f));
            const auto clipped = static_cast<std::uint16_t>(std::clamp(value, -32768, 32767));
            out.push_back(static_cast<std::uint8_t>(clipped >> 8));
            out.push_back(static_cast<std::uint8_t>(clipped));
        } else {
            const auto scale = static_cast<double>(1 << (bits - 1));
            auto value = static_cast<std::int64_t>(std::lround(sample * scale));
            value = std::clamp<std::int64_t>(value, -(1 << (bits - 1)), (1 << (bits - 1)) - 1);
            const auto word = static_cast<std::uint32_t>(value << (24 - bits));
            out.push_back(static_cast<std::uint8_t>(word >> 16));
            out.push_back(static_cast<std::uint8_t>(word >> 8));
            out.push_back(static_cast<std::uint8_t>(word));
        }
    }
    return out;
}

}  // namespace

struct Material::State {
    const DiscDescription& disc;
    const DiscDescription::Part& part;
    std::int64_t first, end, at;
    sample::TestCard card;
    codec::Mpeg2Encoder encoder;
    std::unique_ptr<media::VideoEncoder> coder;  // of H.264 and H.265
    std::optional<filter::SdrInHdr> hdr;
    int group;
    Ratio rate;
    std::vector<std::unique_ptr<media::AudioEncoder>> ac3;
    std::future<Picture> drawn;

    State(const DiscDescription& d, const DiscDescription::Part& p, const sample::CardSettings& card_settings,
          const codec::Mpeg2Settings& video, std::int64_t from, std::int64_t to)
        : disc(d),
          part(p),
          first(from),
          end(to),
          at(from),
          card(card_settings),
          encoder(video),
          group(video.group_length),
          rate(video.picture_rate()) {}

    // A coded picture of the part.
    Picture draw(std::int64_t picture) const {
        switch (part.pictures) {
            case Pictures::interlaced:
                return weave(card.draw(2 * picture), card.draw(2 * picture + 1));
            case Pictures::film_unmarked: {
                // Fields of film pictures, two and three in turn.
                constexpr std::int64_t kFilm[] = {0, 0, 1, 1, 1, 2, 2, 3, 3, 3};
                const auto film = [&](std::int64_t field) { return field / 10 * 4 + kFilm[field % 10]; };
                return weave(card.draw(film(2 * picture)), card.draw(film(2 * picture + 1)));
            }
            case Pictures::film_shifted:
                return weave(card.draw(std::max<std::int64_t>(picture - 1, 0)), card.draw(picture));
            case Pictures::film_phases:
                return weave(card.draw(picture), card.draw(picture / kPhase % 2 == 0 ? picture : picture + 1));
            default:
                return hdr ? sample::draw_hdr_card(*hdr, card.draw(picture)) : card.draw(picture);
        }
    }
    // Every group is coded for itself: closed, and at the same place whatever is on the pictures.
    Status add_coded(Picture picture, Time in_group, bool opens, bool closes, MaterialGroup& out) {
        if (opens) {
            codec::VideoEncoderSettings settings;
            settings.width = disc.width();
            settings.height = disc.height();
            settings.frame_rate = rate;
            // Standard definition has the colours and the shape of its pixels of old.
            const bool small = disc.height() <= 576;
            settings.colour = !small                 ? ColourDescription{1, 1, 1, false}
                              : disc.height() == 576 ? ColourDescription{5, 6, 5, false}
                                                     : ColourDescription{6, 6, 6, false};
            if (small) settings.pixel_aspect = base::reduced({16L * disc.height(), 9L * disc.width()});
            settings.codec = disc.codec;
            if (disc.codec == Codec::h264) settings.level = "4.1";
            if (disc.range != DiscDescription::Range::sdr) {
                settings.bit_depth = 10;
                settings.colour = hdr_colour(disc);
            }
            if (disc.range == DiscDescription::Range::hdr10) {
                settings.mastering_display = sample::kCardDisplay;
                settings.content_light = sample::kCardLight;
            }
            settings.effort = 2;
            settings.peak_bps = std::min<std::int64_t>(disc.video_bps * 3 / 2, 40'000'000);
            settings.buffer = base::from_seconds(0.5);
            settings.threads = 1;  // the same bytes each time
            WAVECREST_TRY_ASSIGN(made, codec::make_video_encoder(settings));
            coder = std::move(made);
        }
        std::vector<Packet> packets;
        picture.pts = in_group;
        picture.duration = base::frames_to_time(1, rate);
        WAVECREST_TRY(coder->encode(picture, packets));
        if (closes) WAVECREST_TRY(coder->flush(packets));
        ByteVector sets;
        const ByteSpan config = coder->track().codec_config.view();
        const auto add = [&](const auto& parsed) {
            if (!parsed) return;
            for (const ByteSpan unit : parsed->units) bitstream::nal::append_byte_stream(sets, unit);
        };
        if (disc.codec == Codec::h264) {
            add(bitstream::h264::parameter_sets(config));
        } else {
            add(bitstream::h265::parameter_sets(config));
        }
        for (const Packet& p : packets) {
            out.pictures.push_back(
                {bitstream::nal::byte_stream_unit(disc.codec, p.data.view(), p.key ? ByteSpan(sets) : ByteSpan{}),
                 p.key, 2, p.pts, p.dts});
        }
        return {};
    }
    std::int64_t samples_before(std::int64_t picture) const {
        return base::rescale(picture * rate.den, 48000, rate.num);
    }
};

Ratio Material::picture_rate(const DiscDescription& disc, const DiscDescription::Part& part) {
    if (part.pictures == Pictures::film) return {24000, 1001};
    return disc.pal ? Ratio{25, 1} : Ratio{30000, 1001};
}

std::int64_t Material::picture_count(const DiscDescription& disc, const DiscDescription::Part& part) {
    const Ratio rate = picture_rate(disc, part);
    return base::rescale(part.length.count(), rate.num, base::kFlicksPerSecond * rate.den);
}

int Material::group_length(const DiscDescription&, const DiscDescription::Part& part) {
    return part.pictures == Pictures::film ? 12 : 15;
}

Material::Material(const DiscDescription& disc, const DiscDescription::Part& part, int part_number, std::int64_t first,
                   std::int64_t end, int angle) {
    sample::CardSettings card;
    codec::Mpeg2Settings video;
    const bool blu_ray = disc.kind == DiscDescription::Kind::blu_ray;
    video.width = card.width = disc.width();
    video.height = card.height = disc.height();
    video.wide = disc.wide || blu_ray;
    video.pal = disc.pal;
    using Coded = codec::Mpeg2Settings::Pictures;
    video.pictures = interlaced(part.pictures)          ? Coded::interlaced
                     : part.pictures == Pictures::whole ? Coded::whole
                     : blu_ray                          ? Coded::film_whole
                                                        : Coded::film;
    video.mean_bps = disc.video_bps;
    video.peak_bps = std::min<std::int64_t>(std::max<std::int64_t>(8'000'000, disc.video_bps * 3 / 2), 40'000'000);
    if (!blu_ray) {
        // What audio leaves of the 10.08 Mbit/s that a DVD gives, packs' headers included.
        std::int64_t audio_bps = 0;
        for (const auto& audio : disc.audio) {
            audio_bps += audio.codec == Codec::lpcm ? 48000LL * audio.channels * audio.bits
                         : audio.bitrate_bps > 0    ? audio.bitrate_bps
                         : audio.channels > 2       ? 448'000
                                                    : 192'000;
        }
        const std::int64_t left = 9'500'000 - audio_bps * 108 / 100;
        video.peak_bps = std::clamp<std::int64_t>(left, 1'500'000, 8'000'000);
        video.mean_bps = std::min(video.mean_bps, video.peak_bps * 3 / 4);
    }
    video.group_length = group_length(disc, part);
    video.captions = disc.captions;
    card.display_aspect = video.wide ? Ratio{16, 9} : Ratio{4, 3};
    const Ratio rate = picture_rate(disc, part);
    const bool film = part.pictures == Pictures::film || part.pictures == Pictures::film_unmarked;
    card.frame_rate = part.pictures == Pictures::interlaced ? Ratio{rate.num * 2, rate.den}
                      : film                                ? Ratio{24000, 1001}
                                                            : rate;
    card.title = part.text.empty() ? disc.title : part.text;
    if (angle > 0) card.title += fmt::format(" - ANGLE {}", angle + 1);
    card.title_number = (part_number + 5 * angle) & 15;
    card.seed = disc.seed + static_cast<std::uint32_t>(part_number + 100 * angle);
    state_ = std::make_unique<State>(disc, part, card, video, first, end);
    if (disc.range != DiscDescription::Range::sdr) state_->hdr.emplace(hdr_colour(disc));
    for (const auto& audio : disc.audio) {
        if (audio.codec != Codec::ac3) {
            state_->ac3.push_back(nullptr);
            continue;
        }
        const std::int64_t bitrate = audio.bitrate_bps > 0 ? audio.bitrate_bps : audio.channels > 2 ? 448'000 : 192'000;
        auto encoder = codec::make_ac3_encoder({speakers_of(audio.channels), bitrate, audio.purpose, 27});
        state_->ac3.push_back(encoder ? std::move(*encoder) : nullptr);
    }
}

Material::~Material() = default;

Result<std::optional<MaterialGroup>> Material::next() {
    State& s = *state_;
    if (s.at >= s.end) return std::optional<MaterialGroup>{};
    MaterialGroup group;
    group.first_picture = s.at - s.first;
    const std::int64_t to = std::min(s.at + s.group, s.end);
    if (!s.drawn.valid()) s.drawn = std::async(std::launch::async, [&s, n = s.at] { return s.draw(n); });
    for (std::int64_t n = s.at; n < to; ++n) {
        // The next picture is drawn while this one is coded.
        const Picture picture = s.drawn.get();
        if (n + 1 < s.end) s.drawn = std::async(std::launch::async, [&s, n] { return s.draw(n + 1); });
        const Time at = base::frames_to_time(n - s.at, s.rate);
        if (s.disc.codec != Codec::mpeg2) {
            WAVECREST_TRY(s.add_coded(picture, at, n == s.at, n + 1 == to, group));
            continue;
        }
        codec::Mpeg2Picture coded = s.encoder.encode(picture, n + 1 == s.end);
        group.pictures.push_back({std::move(coded.data), coded.key, coded.fields, at, at});
    }
    group.last = to == s.end;
    // Audio of the part from its own start on, so that intervals of it join without a seam.
    const std::int64_t from_sample = s.samples_before(s.at), to_sample = s.samples_before(to);
    for (std::size_t i = 0; i < s.disc.audio.size(); ++i) {
        const auto& audio = s.disc.audio[i];
        auto& packets = group.audio.emplace_back();
        if (audio.codec == Codec::lpcm && audio.channels == 2 && audio.bits == 16 && i == 0) {
            // The card's own samples, untouched.
            Packet packet;
            ByteVector bytes;
            for (const std::int16_t sample : s.card.audio(from_sample, to_sample - from_sample)) {
                bytes.push_back(static_cast<std::uint8_t>(static_cast<std::uint16_t>(sample) >> 8));
                bytes.push_back(static_cast<std::uint8_t>(sample));
            }
            packet.data = Bytes(std::move(bytes));
            packets.push_back(std::move(packet));
            continue;
        }
        AudioFrames samples;
        samples.sample_rate = 48000;
        samples.channels = audio.channels;
        samples.speakers = speakers_of(audio.channels);
        samples.samples =
            sample::channel_audio(s.card, from_sample, to_sample - from_sample, audio.channels, static_cast<int>(i));
        if (audio.codec == Codec::lpcm) {
            Packet packet;
            packet.data = Bytes(plain_samples(samples.samples, audio.bits));
            packets.push_back(std::move(packet));
            continue;
        }
        if (!s.ac3[i]) {
            return fail(ErrorKind::usage, "the AC-3 bit rate does not fit the channels", "audio",
                        "leave bitrate out, or take 192 kbit/s for stereo and 448 kbit/s for 5.1");
        }
        WAVECREST_TRY(s.ac3[i]->encode(samples, packets));
        if (group.last) WAVECREST_TRY(s.ac3[i]->flush(packets));
    }
    s.at = to;
    return std::optional<MaterialGroup>(std::move(group));
}

std::vector<SubtitleCue> subtitles_between(const DiscDescription& disc, int width, int height, Time from, Time to) {
    std::vector<SubtitleCue> cues;
    for (std::size_t track = 0; track < disc.subtitles.size(); ++track) {
        const auto& settings = disc.subtitles[track];
        // The first after half a beat; every language somewhat later than the one before.
        for (int number = 0;; ++number) {
            SubtitleCue cue;
            cue.from =
                settings.every / 4 + settings.every * number + base::from_seconds(0.1 * static_cast<double>(track));
            if (cue.from >= to) break;
            if (cue.from < from) continue;
            cue.track = static_cast<int>(track);
            cue.to = cue.from + settings.every / 2;
            cue.forced = settings.forced == DiscDescription::Subtitles::Forced::all ||
                         (settings.forced == DiscDescription::Subtitles::Forced::some && number % 3 == 2);
            std::string language = settings.language;
            for (char& c : language) c = c >= 'a' && c <= 'z' ? static_cast<char>(c - 'a' + 'A') : c;
            const sample::TextMask mask = sample::text_mask(fmt::format("{}{} {}", cue.forced ? "SIGN " : "", language, number + 1),
                                            width / 240, height / 160);
            cue.width = mask.width;
            cue.height = mask.height;
            cue.x = (width - mask.width) / 2;
            cue.y = height * 80 / 100 - mask.height - static_cast<int>(track % 4) * 2 * (mask.height + 4) / 2;
            cue.y = cue.y / 2 * 2;
            cue.pixels = mask.pixels;
            cues.push_back(std::move(cue));
        }
    }
    std::stable_sort(cues.begin(), cues.end(),
                     [](const SubtitleCue& a, const SubtitleCue& b) { return a.from < b.from; });
    return cues;
}

}  // namespace wavecrest::standin
