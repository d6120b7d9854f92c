#include "standin/disc_description.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "base/config.hpp"

namespace wavecrest::standin {
namespace {

using base::ConfigTable;
using D = DiscDescription;

constexpr int kLongestPart = 900;  // seconds

Result<Time> length_of(ConfigTable& table, std::string_view key, Time fallback) {
    WAVECREST_TRY_ASSIGN(length, table.span(key, fallback));
    if (length.count() < 0 || base::to_seconds(length) > kLongestPart)
        return table.refuse(key, "no length from 0 s to 15 min", "write a length such as \"90 s\"");
    return length;
}

Result<Purpose> purpose_of(ConfigTable& table) {
    WAVECREST_TRY_ASSIGN(word, table.choice("purpose", {"main", "described", "commentary", "captions"}, "main"));
    for (const Purpose p : {Purpose::described, Purpose::commentary, Purpose::captions}) {
        if (word == media::short_name(p)) return p;
    }
    return Purpose::main;
}

Result<D::Sound> read_sound(ConfigTable& table) {
    D::Sound sound;
    WAVECREST_TRY_ASSIGN(codec, table.choice("codec", {"lpcm", "ac3"}, "ac3"));
    sound.codec = codec == "ac3" ? Codec::ac3 : Codec::lpcm;
    WAVECREST_TRY_ASSIGN(channels, table.number("channels", 1, 6, 2));
    if (channels != 1 && channels != 2 && channels != 6)
        return table.refuse("channels", fmt::format("{} channels", channels), "use 1, 2 or 6");
    sound.channels = static_cast<int>(channels);
    WAVECREST_TRY_ASSIGN(bits, table.number("bits", 16, 24, 16));
    if (bits != 16 && bits != 20 && bits != 24) return table.refuse("bits", "no such depth", "use 16, 20 or 24");
    sound.bits = static_cast<int>(bits);
    WAVECREST_TRY_ASSIGN(language, table.text("language", "en"));
    sound.language = language;
    WAVECREST_TRY_ASSIGN(purpose, purpose_of(table));
    sound.purpose = purpose;
    WAVECREST_TRY_ASSIGN(rate, table.bitrate("bitrate", sound.channels > 2 ? 448'000 : 192'000));
    sound.bitrate_bps = rate;
    WAVECREST_TRY(table.finish());
    return sound;
}

Result<D::Subtitles> read_subtitles(ConfigTable& table) {
    D::Subtitles subtitles;
    WAVECREST_TRY_ASSIGN(language, table.text("language", "en"));
    subtitles.language = language;
    WAVECREST_TRY_ASSIGN(forced, table.choice("forced", {"none", "some", "all"}, "none"));
    subtitles.forced = forced == "all"    ? D::Subtitles::Forced::all
                       : forced == "some" ? D::Subtitles::Forced::some
                                          : D::Subtitles::Forced::none;
    WAVECREST_TRY_ASSIGN(every, table.span("every", subtitles.every));
    if (base::to_seconds(every) < 1) return table.refuse("every", "less than a second", "write \"4 s\" or more");
    subtitles.every = every;
    WAVECREST_TRY(table.finish());
    return subtitles;
}

Result<D::Part> read_part(ConfigTable& table) {
    D::Part part;
    WAVECREST_TRY_ASSIGN(name, table.text("name"));
    part.name = name;
    WAVECREST_TRY_ASSIGN(set, table.number("set", 1, 9, 1));
    part.set = static_cast<int>(set);
    WAVECREST_TRY_ASSIGN(length, length_of(table, "length", part.length));
    if (base::to_seconds(length) < 0.5) return table.refuse("length", "shorter than half a second", "write \"10 s\"");
    part.length = length;
    static const std::vector<std::pair<std::string, D::Part::Pictures>> kPictures = {
        {"film", D::Part::Pictures::film},
        {"film-unmarked", D::Part::Pictures::film_unmarked},
        {"film-shifted", D::Part::Pictures::film_shifted},
        {"film-phases", D::Part::Pictures::film_phases},
        {"whole", D::Part::Pictures::whole},
        {"interlaced", D::Part::Pictures::interlaced}};
    std::vector<std::string> words;
    for (const auto& [word, value] : kPictures) words.push_back(word);
    WAVECREST_TRY_ASSIGN(pictures, table.choice("pictures", words, "film"));
    for (const auto& [word, value] : kPictures) {
        if (word == pictures) part.pictures = value;
    }
    WAVECREST_TRY_ASSIGN(chapters, table.number("chapters", 1, 99, 1));
    part.chapters = static_cast<int>(chapters);
    WAVECREST_TRY_ASSIGN(clock, table.choice("clock", {"continues", "breaks"}, "continues"));
    part.clock_breaks = clock == "breaks";
    WAVECREST_TRY_ASSIGN(angles, table.number("angles", 1, 9, 1));
    part.angles = static_cast<int>(angles);
    if (part.angles > 1 && part.chapters > 1)
        return table.refuse("angles", "a part with angles has one chapter here", "put the chapters into other parts");
    WAVECREST_TRY_ASSIGN(text, table.text("text", ""));
    part.text = text;
    WAVECREST_TRY_ASSIGN(flaws, table.tables("flaw"));
    for (ConfigTable& entry : flaws) {
        D::Flaw flaw;
        WAVECREST_TRY_ASSIGN(kind, entry.choice("kind", {"zeros", "rubbish", "scrambled", "encrypted"}, "zeros"));
        flaw.kind = kind == "encrypted"   ? D::Flaw::Kind::encrypted
                    : kind == "scrambled" ? D::Flaw::Kind::scrambled
                    : kind == "rubbish"   ? D::Flaw::Kind::rubbish
                                          : D::Flaw::Kind::zeros;
        WAVECREST_TRY_ASSIGN(from, length_of(entry, "from", Time{}));
        WAVECREST_TRY_ASSIGN(to, length_of(entry, "to", part.length));
        flaw.from = from;
        flaw.to = to;
        WAVECREST_TRY(entry.finish());
        part.flaws.push_back(flaw);
    }
    WAVECREST_TRY(table.finish());
    return part;
}

}  // namespace

Result<DiscDescription> parse_disc_description(std::string_view text, const std::string& file) {
    WAVECREST_TRY_ASSIGN(root, ConfigTable::parse(text, file));
    D disc;
    WAVECREST_TRY_ASSIGN(title, root.text("title", disc.title));
    disc.title = title;
    WAVECREST_TRY_ASSIGN(kind, root.choice("kind", {"dvd", "blu-ray"}, "dvd"));
    disc.kind = kind == "dvd" ? D::Kind::dvd : D::Kind::blu_ray;
    WAVECREST_TRY_ASSIGN(television, root.choice("television", {"ntsc", "pal"}, "ntsc"));
    disc.pal = television == "pal";
    WAVECREST_TRY_ASSIGN(definition, root.choice("definition", {"high", "standard"}, "high"));
    disc.high_definition = definition == "high";
    WAVECREST_TRY_ASSIGN(codec, root.choice("codec", {"mpeg2", "h264"}, "mpeg2"));
    disc.codec = codec == "h264" ? Codec::h264 : Codec::mpeg2;
    if (disc.codec == Codec::h264 && disc.kind == D::Kind::dvd)
        return root.refuse("codec", "a DVD's pictures are MPEG-2", "leave codec out, or make a \"blu-ray\"");
    WAVECREST_TRY_ASSIGN(aspect, root.choice("aspect", {"16:9", "4:3"}, "16:9"));
    disc.wide = aspect != "4:3";
    WAVECREST_TRY_ASSIGN(captions, root.flag("captions", false));
    disc.captions = captions;
    WAVECREST_TRY_ASSIGN(seed, root.number("seed", 0, 1'000'000, 1));
    disc.seed = static_cast<std::uint32_t>(seed);
    WAVECREST_TRY_ASSIGN(rate, root.bitrate("bitrate", disc.kind == D::Kind::dvd ? 4'500'000 : 16'000'000));
    if (rate < 1'000'000 || rate > (disc.kind == D::Kind::dvd ? 7'500'000 : 30'000'000)) {
        return root.refuse("bitrate", "pictures take 1 to 7.5 Mbit/s on a DVD, to 30 Mbit/s on a Blu-ray disc",
                           "write a rate such as \"4.5 Mbit/s\"");
    }
    disc.video_bps = rate;
    WAVECREST_TRY_ASSIGN(limit, root.number("file_megabytes", 1, 1024, 1024));
    disc.file_limit = static_cast<std::uint64_t>(limit) << 20;

    WAVECREST_TRY_ASSIGN(sounds, root.tables("sound"));
    if (!sounds.empty()) disc.sound.clear();
    if (sounds.size() > 8) return root.refuse("sound", "more than eight sound tracks", "leave some out");
    for (ConfigTable& table : sounds) {
        WAVECREST_TRY_ASSIGN(sound, read_sound(table));
        disc.sound.push_back(sound);
    }
    WAVECREST_TRY_ASSIGN(subtitles, root.tables("subtitles"));
    if (subtitles.size() > 32) return root.refuse("subtitles", "more than 32 subtitle tracks", "leave some out");
    for (ConfigTable& table : subtitles) {
        WAVECREST_TRY_ASSIGN(entry, read_subtitles(table));
        disc.subtitles.push_back(entry);
    }
    WAVECREST_TRY_ASSIGN(parts, root.tables("part"));
    std::map<std::string, int> sets;  // of the parts by name
    for (ConfigTable& table : parts) {
        WAVECREST_TRY_ASSIGN(part, read_part(table));
        if (disc.codec == Codec::h264 && part.pictures != D::Part::Pictures::film &&
            part.pictures != D::Part::Pictures::whole) {
            return table.refuse("pictures", "H.264 is made of whole pictures here", "write \"film\" or \"whole\"");
        }
        if (!sets.emplace(part.name, part.set).second)
            return table.refuse("name", fmt::format("there are two parts \"{}\"", part.name), "give each its own name");
        disc.parts.push_back(std::move(part));
    }
    if (disc.parts.empty()) return root.refuse("part", "the disc has no parts", "add a [[part]] with a name");
    WAVECREST_TRY_ASSIGN(titles, root.tables("plays"));
    for (ConfigTable& table : titles) {
        D::Title entry;
        WAVECREST_TRY_ASSIGN(plays, table.texts("plays"));
        entry.plays = plays;
        std::vector<std::string> names;
        for (const auto& [name, set] : sets) names.push_back(name);
        for (const std::string& name : entry.plays) {
            if (!sets.contains(name)) {
                const std::string meant = base::nearest(name, names);
                return table.refuse("plays", fmt::format("there is no part \"{}\"", name),
                                    meant.empty() ? "name a [[part]]" : fmt::format("did you mean \"{}\"?", meant));
            }
            if (disc.kind == D::Kind::dvd && sets[name] != sets[entry.plays.front()]) {
                return table.refuse("plays", "a title plays parts of two title sets", "give the parts the same set");
            }
        }
        if (entry.plays.empty()) return table.refuse("plays", "the title plays nothing", "name a [[part]]");
        WAVECREST_TRY(table.finish());
        disc.titles.push_back(std::move(entry));
    }
    WAVECREST_TRY_ASSIGN(flaws, root.tables("file_flaw"));
    for (ConfigTable& table : flaws) {
        D::FileFlaw flaw;
        WAVECREST_TRY_ASSIGN(name, table.text("file"));
        flaw.file = name;
        WAVECREST_TRY_ASSIGN(what, table.choice("kind", {"missing", "cut", "rubbish"}, "missing"));
        flaw.kind = what == "cut"       ? D::FileFlaw::Kind::cut
                    : what == "rubbish" ? D::FileFlaw::Kind::rubbish
                                        : D::FileFlaw::Kind::missing;
        WAVECREST_TRY(table.finish());
        disc.flaws.push_back(std::move(flaw));
    }
    WAVECREST_TRY(root.finish());
    return disc;
}

}  // namespace wavecrest::standin
