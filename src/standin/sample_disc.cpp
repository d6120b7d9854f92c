#include "standin/sample_disc.hpp"

#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <map>

#include "base/atomic_file.hpp"
#include "codec/pgs.hpp"
#include "codec/subpicture.hpp"
#include "disc/blu_ray_writer.hpp"
#include "disc/dvd_writer.hpp"
#include "disc/udf_writer.hpp"
#include "media/language.hpp"
#include "standin/material.hpp"

namespace wavecrest::standin {
namespace {

using Part = DiscDescription::Part;

constexpr std::uint8_t kPaletteWhite = 1, kPaletteBlack = 2;

// Colours of the subtitles: 0 Y Cr Cb each.
ByteVector palette() {
    ByteVector bytes(codec::kSubpicturePaletteSize);
    for (std::size_t i = 0; i < 16; ++i) {
        bytes[4 * i + 1] = i == kPaletteWhite ? 235 : 16;
        bytes[4 * i + 2] = bytes[4 * i + 3] = 128;
    }
    return bytes;
}

// Plain samples in DVD-Video's packing (the other way of bitstream::plain_dvd_lpcm).
ByteVector dvd_samples(ByteSpan plain, int channels, int bits) {
    if (bits == 16) return {plain.begin(), plain.end()};
    const std::size_t samples = static_cast<std::size_t>(channels) * 2;
    ByteVector out;
    for (std::size_t at = 0; at + samples * 3 <= plain.size(); at += samples * 3) {
        for (std::size_t i = 0; i < samples; ++i) {
            out.push_back(plain[at + 3 * i]);
            out.push_back(plain[at + 3 * i + 1]);
        }
        for (std::size_t i = 0; i < samples; i += bits == 24 ? 1 : 2) {
            const std::uint8_t low = plain[at + 3 * i + 2];
            out.push_back(bits == 24 ? low : static_cast<std::uint8_t>((low & 0xF0) | plain[at + 3 * i + 5] >> 4));
        }
    }
    return out;
}

class DvdMaker {
  public:
    DvdMaker(const DiscDescription& disc, disc::DvdWriter& writer, const Progress& progress, const Cancel& cancel)
        : disc_(disc), writer_(writer), progress_(progress), cancel_(cancel) {
        for (const Part& part : disc.parts) total_ += part.length * part.angles;
    }

    Status run() {
        std::map<int, std::vector<std::size_t>> sets;
        for (std::size_t i = 0; i < disc_.parts.size(); ++i) sets[disc_.parts[i].set].push_back(i);
        for (const auto& [number, parts] : sets) {
            WAVECREST_TRY(writer_.begin_set(set_settings()));
            places_.clear();
            for (const std::size_t i : parts) WAVECREST_TRY(write_part(disc_.parts[i], static_cast<int>(i) + 1));
            write_titles(parts);
            WAVECREST_TRY(writer_.end_set());
        }
        return writer_.finish();
    }

  private:
    disc::DvdSetSettings set_settings() const {
        disc::DvdSetSettings set;
        set.pal = disc_.pal;
        set.wide = disc_.wide;
        set.captions = disc_.captions;
        set.palette = palette();
        for (const auto& audio : disc_.audio)
            set.audio.push_back({audio.codec, audio.channels, audio.bits, audio.language, audio.purpose});
        for (const auto& subtitles : disc_.subtitles) {
            set.subtitles.push_back(
                {subtitles.language, subtitles.forced == DiscDescription::Subtitles::Forced::all, Purpose::main});
        }
        return set;
    }

    // The places a title may name: a cell, or the cells of all angles.
    struct Place {
        std::vector<disc::DvdCellName> cells;
        bool chapter = true;
    };

    Status write_part(const Part& part, int number) {
        const std::int64_t count = Material::picture_count(disc_, part);
        auto& places = places_[part.name];
        if (part.angles > 1) {
            writer_.begin_angles();
            Place place;
            for (int angle = 0; angle < part.angles; ++angle) {
                const int vob = writer_.begin_vob();
                place.cells.push_back({vob, writer_.begin_cell()});
                WAVECREST_TRY(write_interval(part, number, 0, count, angle, {}));
                WAVECREST_TRY(writer_.end_vob());
            }
            WAVECREST_TRY(writer_.end_angles());
            places.push_back(std::move(place));
            return {};
        }
        std::vector<std::int64_t> starts;
        for (int i = 0; i < part.chapters; ++i) {
            const std::int64_t group = Material::group_length(disc_, part);
            // Chapters begin with a group of pictures.
            const std::int64_t at = (count * i / part.chapters + group - 1) / group * group;
            if (at < count && (starts.empty() || at > starts.back())) starts.push_back(at);
        }
        if (!part.clock_breaks) {
            const int vob = writer_.begin_vob();
            WAVECREST_TRY(write_interval(part, number, 0, count, 0, starts));
            WAVECREST_TRY(writer_.end_vob());
            for (std::size_t i = 0; i < starts.size(); ++i) places.push_back({{{vob, static_cast<int>(i) + 1}}, true});
            return {};
        }
        for (std::size_t i = 0; i < starts.size(); ++i) {
            const int vob = writer_.begin_vob();
            WAVECREST_TRY(
                write_interval(part, number, starts[i], i + 1 < starts.size() ? starts[i + 1] : count, 0, {starts[i]}));
            WAVECREST_TRY(writer_.end_vob());
            places.push_back({{{vob, 1}}, true});
        }
        return {};
    }

    // Pictures from `first` to `end` of a part as one VOB, cells beginning at the pictures named.
    Status write_interval(const Part& part, int number, std::int64_t first, std::int64_t end, int angle,
                          const std::vector<std::int64_t>& cells) {
        const Ratio rate = Material::picture_rate(disc_, part);
        const Time begin = base::frames_to_time(first, rate), until = base::frames_to_time(end, rate);
        auto cues = subtitles_between(disc_, disc_.width(), disc_.height(), begin, until);
        std::size_t cue = 0;
        Material material(disc_, part, number, first, end, angle);
        while (true) {
            if (cancel_.requested()) return base::interrupted();
            WAVECREST_TRY_ASSIGN(group, material.next());
            if (!group) return {};
            const std::int64_t at = first + group->first_picture;
            if (std::find(cells.begin(), cells.end(), at) != cells.end()) writer_.begin_cell();
            const Time from = base::frames_to_time(at, rate),
                       to = base::frames_to_time(at + static_cast<std::int64_t>(group->pictures.size()), rate);
            disc::DvdGroup out;
            for (auto& picture : group->pictures) out.pictures.push_back({std::move(picture.data), picture.fields});
            for (std::size_t i = 0; i < group->audio.size(); ++i) {
                auto& pieces = out.audio.emplace_back();
                for (const Packet& packet : group->audio[i]) {
                    const ByteSpan data = packet.data.view();
                    pieces.push_back(disc_.audio[i].codec == Codec::lpcm
                                         ? dvd_samples(data, disc_.audio[i].channels, disc_.audio[i].bits)
                                         : ByteVector(data.begin(), data.end()));
                }
            }
            for (; cue < cues.size() && cues[cue].from < to; ++cue) {
                const SubtitleCue& c = cues[cue];
                codec::SubpictureImage image;
                image.x = c.x;
                image.y = c.y;
                image.width = c.width;
                image.height = c.height;
                image.pixels = c.pixels;
                image.colours = {0, kPaletteWhite, kPaletteBlack, 0};
                image.opacity = {0, 15, 15, 0};
                image.forced = c.forced;
                image.duration = std::min(c.to, until) - c.from;
                WAVECREST_TRY_ASSIGN(unit, codec::write_subpicture(image));
                out.subtitles.push_back({c.track, c.from - begin, std::move(unit)});
            }
            for (const DiscDescription::Flaw& flaw : part.flaws) {
                if (flaw.to <= from || flaw.from >= to) continue;
                if (flaw.kind == DiscDescription::Flaw::Kind::scrambled ||
                    flaw.kind == DiscDescription::Flaw::Kind::encrypted) {
                    out.scrambled = true;
                } else {
                    out.damage = flaw.kind == DiscDescription::Flaw::Kind::zeros ? disc::DvdGroup::Damage::zeros
                                                                                 : disc::DvdGroup::Damage::rubbish;
                }
            }
            WAVECREST_TRY(writer_.add_group(out));
            done_ += to - from;
            if (progress_) progress_({done_, total_});
        }
    }

    void write_titles(const std::vector<std::size_t>& parts) {
        const auto add = [&](const std::vector<std::string>& plays) {
            disc::DvdTitleSettings title;
            title.chapters.clear();
            for (const std::string& name : plays) {
                for (const Place& place : places_[name]) {
                    if (place.chapter) title.chapters.push_back(title.cells.size());
                    title.cells.push_back(place.cells);
                }
            }
            writer_.add_title(title);
        };
        if (disc_.titles.empty()) {
            for (const std::size_t i : parts) add({disc_.parts[i].name});
        }
        for (const auto& title : disc_.titles) {
            if (places_.contains(title.plays.front())) add(title.plays);
        }
    }

    const DiscDescription& disc_;
    disc::DvdWriter& writer_;
    const Progress& progress_;
    const Cancel& cancel_;
    std::map<std::string, std::vector<Place>> places_;
    Time total_{}, done_{};
};

class BluRayMaker {
  public:
    BluRayMaker(const DiscDescription& disc, disc::BluRayWriter& writer, const Progress& progress, const Cancel& cancel)
        : disc_(disc), writer_(writer), progress_(progress), cancel_(cancel) {
        for (const Part& part : disc.parts) total_ += part.length * part.angles;
        for (std::size_t i = 0; i < disc.audio.size(); ++i) {
            const auto& audio = disc.audio[i];
            disc::blu_ray::StreamInfo stream;
            stream.pid = 0x1100 + static_cast<int>(i);
            stream.coding = audio.codec == Codec::ac3 ? 0x81 : 0x80;
            stream.format = audio.channels == 1 ? 1 : audio.channels == 2 ? 3 : 6;
            stream.rate = 1;
            stream.language = media::language_639_2(audio.language);
            audio_.push_back(stream);
        }
        for (std::size_t i = 0; i < disc.subtitles.size(); ++i)
            graphics_.push_back(
                {0x1200 + static_cast<int>(i), 0x90, 0, 0, media::language_639_2(disc.subtitles[i].language)});
    }

    Status run() {
        for (std::size_t i = 0; i < disc_.parts.size(); ++i)
            WAVECREST_TRY(write_part(disc_.parts[i], static_cast<int>(i) + 1));
        int number = 0;
        const auto add = [&](const std::vector<std::string>& plays) {
            disc::blu_ray::Playlist playlist;
            for (const std::string& name : plays) {
                for (const Place& place : places_[name]) {
                    for (const std::uint32_t chapter : place.chapters)
                        playlist.chapters.push_back({static_cast<int>(playlist.items.size()), chapter});
                    playlist.items.push_back(place.item);
                }
            }
            return writer_.add_playlist(fmt::format("{:05}", number++), playlist);
        };
        if (disc_.titles.empty()) {
            for (const Part& part : disc_.parts) WAVECREST_TRY(add({part.name}));
        }
        for (const auto& title : disc_.titles) WAVECREST_TRY(add(title.plays));
        return writer_.finish();
    }

  private:
    struct Place {
        disc::blu_ray::Playlist::Item item;
        std::vector<std::uint32_t> chapters;  // times in the clip
    };

    Status write_part(const Part& part, int number) {
        const std::int64_t count = Material::picture_count(disc_, part);
        std::vector<std::int64_t> starts;
        for (int i = 0; i < part.chapters; ++i) {
            const std::int64_t group = Material::group_length(disc_, part);
            const std::int64_t at = (count * i / part.chapters + group - 1) / group * group;
            if (at < count && (starts.empty() || at > starts.back())) starts.push_back(at);
        }
        auto& places = places_[part.name];
        if (!part.clock_breaks) {
            Place place;
            for (int angle = 0; angle < part.angles; ++angle)
                WAVECREST_TRY(write_clip(part, number, 0, count, angle,
                                         angle == 0 ? starts : std::vector<std::int64_t>{}, place));
            places.push_back(std::move(place));
            return {};
        }
        for (std::size_t i = 0; i < starts.size(); ++i) {
            Place place;
            WAVECREST_TRY(write_clip(part, number, starts[i], i + 1 < starts.size() ? starts[i + 1] : count, 0,
                                     {starts[i]}, place));
            places.push_back(std::move(place));
        }
        return {};
    }

    Status write_clip(const Part& part, int number, std::int64_t first, std::int64_t end, int angle,
                      const std::vector<std::int64_t>& chapters, Place& place) {
        using Pictures = Part::Pictures;
        const Ratio rate = Material::picture_rate(disc_, part);
        const bool fields = part.pictures == Pictures::interlaced || part.pictures == Pictures::film_unmarked ||
                            part.pictures == Pictures::film_shifted || part.pictures == Pictures::film_phases;
        disc::BluRayClipSettings settings;
        settings.name = fmt::format("{:05}", ++clips_);
        settings.video = {0x1011,
                          stream_type(),
                          video_format(fields),
                          part.pictures == Pictures::film ? 1
                          : disc_.pal                     ? 3
                                                          : 4,
                          "",
                          disc_.range == DiscDescription::Range::hdr10 ? 1 : 0,
                          disc_.range == DiscDescription::Range::sdr ? 1 : 2};
        settings.audio = audio_;
        settings.graphics = graphics_;
        WAVECREST_TRY(writer_.begin_clip(settings));
        const Time begin = base::frames_to_time(first, rate), until = base::frames_to_time(end, rate);
        const auto cues = subtitles_between(disc_, disc_.width(), disc_.height(), begin, until);
        std::size_t cue = 0;
        std::vector<disc::BluRayGroup::Unit> clears;
        Material material(disc_, part, number, first, end, angle);
        while (true) {
            if (cancel_.requested()) return base::interrupted();
            WAVECREST_TRY_ASSIGN(group, material.next());
            if (!group) break;
            const std::int64_t at = group->first_picture;
            const Time from = base::frames_to_time(at, rate),
                       to = base::frames_to_time(at + static_cast<std::int64_t>(group->pictures.size()), rate);
            disc::BluRayGroup out;
            for (auto& picture : group->pictures)
                out.pictures.push_back({std::move(picture.data), from + picture.pts, from + picture.dts, picture.key});
            for (std::size_t i = 0; i < group->audio.size(); ++i) {
                for (const Packet& packet : group->audio[i]) add_audio(i, packet, begin + from, begin, out);
            }
            std::stable_sort(out.audio.begin(), out.audio.end(),
                             [](const auto& a, const auto& b) { return a.at < b.at; });
            for (; cue < cues.size() && cues[cue].from < begin + to; ++cue) {
                const SubtitleCue& c = cues[cue];
                codec::PgsImage image;
                image.canvas_width = disc_.width();
                image.canvas_height = disc_.height();
                image.x = c.x;
                image.y = c.y;
                image.width = c.width;
                image.height = c.height;
                image.pixels = c.pixels;
                image.colours = {{}, {235, 128, 128, 255}, {16, 128, 128, 255}};
                image.forced = c.forced;
                image.number = 2 * static_cast<int>(cue);
                out.graphics.push_back({c.track, c.from - begin, codec::write_pgs_show(image), 0});
                clears.push_back({c.track, std::min(c.to, until) - begin, codec::write_pgs_clear(image), 0});
            }
            for (auto& clear : clears) {
                if (!clear.data.empty() && clear.at < to) out.graphics.push_back(std::exchange(clear, {}));
            }
            std::stable_sort(out.graphics.begin(), out.graphics.end(),
                             [](const auto& a, const auto& b) { return a.at < b.at; });
            for (const DiscDescription::Flaw& flaw : part.flaws) {
                if (flaw.to <= begin + from || flaw.from >= begin + to) continue;
                using Kind = DiscDescription::Flaw::Kind;
                using Mark = disc::BluRayGroup::Flaw;
                out.flaw = flaw.kind == Kind::encrypted   ? Mark::encrypted
                           : flaw.kind == Kind::scrambled ? Mark::scrambled
                           : flaw.kind == Kind::zeros     ? Mark::zeros
                                                          : Mark::rubbish;
            }
            WAVECREST_TRY(writer_.add_group(out));
            done_ += to - from;
            if (progress_) progress_({done_, total_});
        }
        WAVECREST_TRY_ASSIGN(times, writer_.end_clip(until - begin));
        place.item.clips.push_back(settings.name);
        if (place.item.clips.size() > 1) return {};
        place.item.in_time = times.in_time;
        place.item.out_time = times.out_time;
        place.item.video = {settings.video};
        place.item.audio = audio_;
        place.item.graphics = graphics_;
        for (const std::int64_t chapter : chapters) {
            place.chapters.push_back(times.in_time +
                                     static_cast<std::uint32_t>(base::to_ticks(
                                         base::frames_to_time(chapter - first, rate), disc::blu_ray::kClock)));
        }
        return {};
    }

    int stream_type() const { return disc_.codec == Codec::h264 ? 0x1B : disc_.codec == Codec::h265 ? 0x24 : 0x02; }
    int video_format(bool fields) const {
        if (disc_.ultra()) return 8;
        if (disc_.large()) return fields ? 4 : 6;
        return disc_.pal ? (fields ? 2 : 7) : (fields ? 1 : 3);
    }

    // A packet of audio as a Blu-ray disc has it. LPCM goes into units of 5 ms behind a header.
    void add_audio(std::size_t index, const Packet& packet, Time group_start, Time clip_start, disc::BluRayGroup& out) {
        const auto& audio = disc_.audio[index];
        const ByteSpan data = packet.data.view();
        const int stream = static_cast<int>(index);
        if (audio.codec == Codec::ac3) {
            out.audio.push_back({stream, packet.pts, ByteVector(data.begin(), data.end()), 0});
            return;
        }
        const std::size_t width = audio.bits == 16 ? 2 : 3;
        const std::size_t frame = width * static_cast<std::size_t>(audio.channels), unit = 240 * frame;
        // In the disc's order: low frequency last; an odd channel count is filled up.
        static constexpr std::size_t kFiveOne[] = {0, 1, 2, 4, 5, 3};
        for (std::size_t at = 0; at < data.size(); at += unit) {
            const std::size_t size = std::min(unit, data.size() - at);
            ByteVector body;
            for (std::size_t n = 0; n < size / frame; ++n) {
                for (std::size_t c = 0; c < static_cast<std::size_t>(audio.channels); ++c) {
                    const std::size_t from = at + n * frame + width * (audio.channels == 6 ? kFiveOne[c] : c);
                    body.insert(body.end(), data.begin() + static_cast<std::ptrdiff_t>(from),
                                data.begin() + static_cast<std::ptrdiff_t>(from + width));
                }
                if (audio.channels == 1) body.insert(body.end(), width, 0);
            }
            ByteVector whole = {static_cast<std::uint8_t>(body.size() >> 8), static_cast<std::uint8_t>(body.size()),
                                static_cast<std::uint8_t>((audio.channels == 1   ? 1
                                                           : audio.channels == 2 ? 3
                                                                                 : 9)
                                                              << 4 |
                                                          1),
                                static_cast<std::uint8_t>((audio.bits - 12) / 4 << 6)};
            whole.insert(whole.end(), body.begin(), body.end());
            const Time start = base::from_ticks(base::to_ticks(group_start, 48000), 48000);
            out.audio.push_back({stream,
                                 start + base::from_ticks(static_cast<std::int64_t>(at / frame), 48000) - clip_start,
                                 std::move(whole), 0});
        }
    }

    const DiscDescription& disc_;
    disc::BluRayWriter& writer_;
    const Progress& progress_;
    const Cancel& cancel_;
    std::vector<disc::blu_ray::StreamInfo> audio_, graphics_;
    std::map<std::string, std::vector<Place>> places_;
    int clips_ = 0;
    Time total_{}, done_{};
};

Status damage_file(const base::Path& folder, const DiscDescription::FileFlaw& flaw) {
    const base::Path path = folder / flaw.file;
    std::error_code error;
    const std::uint64_t size = std::filesystem::file_size(path, error);
    if (error) {
        return fail(ErrorKind::usage, fmt::format("the disc has no file {} to damage", flaw.file), "file_flaw",
                    "use its path on the disc, such as VIDEO_TS/VTS_01_0.IFO");
    }
    switch (flaw.kind) {
        case DiscDescription::FileFlaw::Kind::missing:
            std::filesystem::remove(path, error);
            return {};
        case DiscDescription::FileFlaw::Kind::cut:
            std::filesystem::resize_file(path, size / 2, error);
            return {};
        case DiscDescription::FileFlaw::Kind::rubbish:
            return base::write_file(path,
                                    ByteVector(static_cast<std::size_t>(std::min<std::uint64_t>(size, 1 << 20)), 0x5A),
                                    base::AtomicFile::IfExists::replace);
    }
    return {};
}

}  // namespace

DiscDescription describe(const SampleDiscSettings& settings) {
    DiscDescription disc;
    disc.title = settings.title;
    disc.seed = settings.seed;
    disc.video_bps = settings.video_bps;
    Part film;
    film.name = "film";
    film.length = settings.main_length;
    film.chapters = settings.chapters;
    disc.parts.push_back(film);
    if (settings.extra_length.count() > 0) {
        Part extra;
        extra.name = "extra";
        extra.set = 2;
        extra.length = settings.extra_length;
        extra.text = settings.title + " - EXTRA";
        disc.parts.push_back(extra);
    }
    return disc;
}

Status make_disc(const base::Path& target, const DiscDescription& disc, const Progress& progress,
                 const Cancel& cancel) {
    const bool image = target.extension() == ".iso";
    std::error_code error;
    if (image && std::filesystem::exists(target, error)) {
        return fail(ErrorKind::machine, "the image exists already and is not overwritten", target.string(),
                    "remove it, or name another file");
    }
    // An image is made from a folder that goes again.
    struct Removed {
        base::Path path;
        ~Removed() {
            std::error_code ignored;
            if (!path.empty()) std::filesystem::remove_all(path, ignored);
        }
    } folder_to_remove;
    base::Path folder = target;
    if (image) {
        folder = target.parent_path() / fmt::format(".{}.{}.disc", target.stem().string(), ::getpid());
        folder_to_remove.path = folder;
    }
    if (disc.kind == DiscDescription::Kind::dvd) {
        WAVECREST_TRY_ASSIGN(writer, disc::DvdWriter::create(folder, disc.file_limit));
        WAVECREST_TRY(DvdMaker(disc, writer, progress, cancel).run());
    } else {
        WAVECREST_TRY_ASSIGN(writer, disc::BluRayWriter::create(folder));
        WAVECREST_TRY(BluRayMaker(disc, writer, progress, cancel).run());
    }
    for (const auto& flaw : disc.flaws) WAVECREST_TRY(damage_file(folder, flaw));
    if (!image) return {};
    return disc::write_udf_image(
        folder, target, target.stem().string(),
        disc.kind == DiscDescription::Kind::dvd ? disc::UdfRevision::dvd_video : disc::UdfRevision::blu_ray);
}

}  // namespace wavecrest::standin
