#include "standin/sample_disc.hpp"

#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <map>

#include "codec/subpicture.hpp"
#include "disc/dvd_writer.hpp"
#include "disc/udf_writer.hpp"
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
        for (const auto& sound : disc_.sound)
            set.sound.push_back({sound.codec, sound.channels, sound.bits, sound.language, sound.purpose});
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
                WAVECREST_TRY(write_stretch(part, number, 0, count, angle, {}));
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
            WAVECREST_TRY(write_stretch(part, number, 0, count, 0, starts));
            WAVECREST_TRY(writer_.end_vob());
            for (std::size_t i = 0; i < starts.size(); ++i) places.push_back({{{vob, static_cast<int>(i) + 1}}, true});
            return {};
        }
        for (std::size_t i = 0; i < starts.size(); ++i) {
            const int vob = writer_.begin_vob();
            WAVECREST_TRY(
                write_stretch(part, number, starts[i], i + 1 < starts.size() ? starts[i + 1] : count, 0, {starts[i]}));
            WAVECREST_TRY(writer_.end_vob());
            places.push_back({{{vob, 1}}, true});
        }
        return {};
    }

    // Pictures from `first` to `end` of a part as one VOB, cells beginning at the pictures named.
    Status write_stretch(const Part& part, int number, std::int64_t first, std::int64_t end, int angle,
                         const std::vector<std::int64_t>& cells) {
        const Ratio rate = Material::picture_rate(disc_, part);
        const Time begin = base::frames_to_time(first, rate), until = base::frames_to_time(end, rate);
        auto cues = subtitles_between(disc_, 720, disc_.pal ? 576 : 480, begin, until);
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
            for (std::size_t i = 0; i < group->sound.size(); ++i) {
                auto& pieces = out.sound.emplace_back();
                for (const Packet& packet : group->sound[i]) {
                    const ByteSpan data = packet.data.view();
                    pieces.push_back(disc_.sound[i].codec == Codec::lpcm
                                         ? dvd_samples(data, disc_.sound[i].channels, disc_.sound[i].bits)
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
                if (flaw.kind == DiscDescription::Flaw::Kind::scrambled) {
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

Status damage_file(const base::Path& folder, const DiscDescription::FileFlaw& flaw) {
    const base::Path path = folder / flaw.file;
    std::error_code error;
    const std::uint64_t size = std::filesystem::file_size(path, error);
    if (error) {
        return fail(ErrorKind::usage, fmt::format("the disc has no file {} to damage", flaw.file), "file_flaw",
                    "name a file as it lies on the disc, such as VIDEO_TS/VTS_01_0.IFO");
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
        return fail(ErrorKind::usage, "Blu-ray discs can't be made yet", target.string(), "use kind = \"dvd\"");
    }
    for (const auto& flaw : disc.flaws) WAVECREST_TRY(damage_file(folder, flaw));
    if (!image) return {};
    return disc::write_udf_image(
        folder, target, target.stem().string(),
        disc.kind == DiscDescription::Kind::dvd ? disc::UdfRevision::dvd_video : disc::UdfRevision::blu_ray);
}

}  // namespace wavecrest::standin
