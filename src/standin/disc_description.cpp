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

Time length_of(ConfigTable& table, std::string_view key, Time fallback) {
    const auto length = table.span(key, fallback);
    if (length.count() < 0 || base::to_seconds(length) > kLongestPart)
        table.wrong(key, "not a length from 0 s to 15 min", "write a length such as \"90 s\"");
    return length;
}

Purpose purpose_of(ConfigTable& table) {
    const auto word = table.choice("purpose", {"main", "described", "commentary", "captions"}, "main");
    for (const Purpose p : {Purpose::described, Purpose::commentary, Purpose::captions}) {
        if (word == media::short_name(p)) return p;
    }
    return Purpose::main;
}

D::Audio read_audio(ConfigTable& table) {
    D::Audio audio;
    const auto codec = table.choice("codec", {"lpcm", "ac3"}, "ac3");
    audio.codec = codec == "ac3" ? Codec::ac3 : Codec::lpcm;
    const auto channels = table.number("channels", 1, 6, 2);
    if (channels != 1 && channels != 2 && channels != 6)
        table.wrong("channels", fmt::format("{} channels", channels), "use 1, 2 or 6");
    audio.channels = static_cast<int>(channels);
    const auto bits = table.number("bits", 16, 24, 16);
    if (bits != 16 && bits != 20 && bits != 24) table.wrong("bits", "no such depth", "use 16, 20 or 24");
    audio.bits = static_cast<int>(bits);
    const auto language = table.text("language", "en");
    audio.language = language;
    auto purpose = purpose_of(table);
    audio.purpose = purpose;
    const auto rate = table.bitrate("bitrate", audio.channels > 2 ? 448'000 : 192'000);
    audio.bitrate_bps = rate;
    table.finish();
    return audio;
}

D::Subtitles read_subtitles(ConfigTable& table) {
    D::Subtitles subtitles;
    const auto language = table.text("language", "en");
    subtitles.language = language;
    const auto forced = table.choice("forced", {"none", "some", "all"}, "none");
    subtitles.forced = forced == "all"    ? D::Subtitles::Forced::all
                       : forced == "some" ? D::Subtitles::Forced::some
                                          : D::Subtitles::Forced::none;
    const auto every = table.span("every", subtitles.every);
    if (base::to_seconds(every) < 1) table.wrong("every", "less than a second", "write \"4 s\" or more");
    subtitles.every = every;
    table.finish();
    return subtitles;
}

D::Part read_part(ConfigTable& table) {
    D::Part part;
    const auto name = table.text("name");
    part.name = name;
    const auto set = table.number("set", 1, 9, 1);
    part.set = static_cast<int>(set);
    auto length = length_of(table, "length", part.length);
    if (base::to_seconds(length) < 0.5) table.wrong("length", "shorter than half a second", "write \"10 s\"");
    part.length = length;
    static const std::vector<std::pair<std::string, D::Part::Pictures>> kPictures = {
        {"film", D::Part::Pictures::film},
        {"film-unflagged", D::Part::Pictures::film_unmarked},
        {"film-shifted", D::Part::Pictures::film_shifted},
        {"film-phases", D::Part::Pictures::film_phases},
        {"progressive", D::Part::Pictures::whole},
        {"interlaced", D::Part::Pictures::interlaced}};
    std::vector<std::string> words;
    for (const auto& [word, value] : kPictures) words.push_back(word);
    const auto pictures = table.choice("cadence", words, "film");
    for (const auto& [word, value] : kPictures) {
        if (word == pictures) part.pictures = value;
    }
    const auto chapters = table.number("chapters", 1, 99, 1);
    part.chapters = static_cast<int>(chapters);
    const auto clock = table.choice("clock", {"continues", "breaks"}, "continues");
    part.clock_breaks = clock == "breaks";
    const auto angles = table.number("angles", 1, 9, 1);
    part.angles = static_cast<int>(angles);
    if (part.angles > 1 && part.chapters > 1)
        table.wrong("angles", "a part with angles has one chapter here", "put the chapters into other parts");
    const auto text = table.text("text", "");
    part.text = text;
    auto flaws = table.tables("flaw");
    for (ConfigTable& entry : flaws) {
        D::Flaw flaw;
        const auto kind = entry.choice("kind", {"zeros", "rubbish", "scrambled", "encrypted"}, "zeros");
        flaw.kind = kind == "encrypted"   ? D::Flaw::Kind::encrypted
                    : kind == "scrambled" ? D::Flaw::Kind::scrambled
                    : kind == "rubbish"   ? D::Flaw::Kind::rubbish
                                          : D::Flaw::Kind::zeros;
        auto from = length_of(entry, "from", Time{});
        auto to = length_of(entry, "to", part.length);
        flaw.from = from;
        flaw.to = to;
        entry.finish();
        part.flaws.push_back(flaw);
    }
    table.finish();
    return part;
}

}  // namespace

namespace {

// What kind of disc it is, and how its video is made.
void read_kind(ConfigTable& root, D& disc) {
    const auto title = root.text("title", disc.title);
    disc.title = title;
    const auto kind = root.choice("kind", {"dvd", "blu-ray"}, "dvd");
    disc.kind = kind == "dvd" ? D::Kind::dvd : D::Kind::blu_ray;
    const auto television = root.choice("television", {"ntsc", "pal"}, "ntsc");
    disc.pal = television == "pal";
    const auto definition = root.choice("definition", {"ultra-high", "high", "standard"}, "high");
    disc.definition = definition == "ultra-high" ? D::Definition::ultra_high
                      : definition == "standard" ? D::Definition::standard
                                                 : D::Definition::high;
    const auto codec = root.choice("codec", {"mpeg2", "h264", "h265"}, disc.ultra() ? "h265" : "mpeg2");
    disc.codec = media::codec_from_name(codec).value_or(Codec::mpeg2);
    if (disc.codec != Codec::mpeg2 && disc.kind == D::Kind::dvd)
        root.wrong("codec", "DVD video is MPEG-2", "leave codec out, or make a \"blu-ray\"");
    if (disc.ultra() && disc.codec != Codec::h265)
        root.wrong("codec", "Ultra HD Blu-ray video is H.265", "write \"h265\", or leave codec out");
    const auto range = root.choice("dynamic_range", {"sdr", "hdr10", "hlg"}, "sdr");
    disc.range = range == "hdr10" ? D::Range::hdr10 : range == "hlg" ? D::Range::hlg : D::Range::sdr;
    if (disc.range != D::Range::sdr && disc.codec != Codec::h265)
        root.wrong("dynamic_range", "high dynamic range needs H.265", "write codec = \"h265\"");
    const auto aspect = root.choice("aspect", {"16:9", "4:3"}, "16:9");
    disc.wide = aspect != "4:3";
    const auto captions = root.flag("captions", false);
    disc.captions = captions;
    const auto seed = root.number("seed", 0, 1'000'000, 1);
    disc.seed = static_cast<std::uint32_t>(seed);
    const auto rate = root.bitrate("bitrate", disc.kind == D::Kind::dvd ? 4'500'000 : 16'000'000);
    if (rate < 1'000'000 || rate > (disc.kind == D::Kind::dvd ? 7'500'000 : 30'000'000)) {
        root.wrong("bitrate", "video needs 1 to 7.5 Mbit/s on a DVD, up to 30 Mbit/s on a Blu-ray disc",
                   "write for example \"4.5 Mbit/s\"");
    }
    disc.video_bps = rate;
    const auto limit = root.number("file_megabytes", 1, 1024, 1024);
    disc.file_limit = static_cast<std::uint64_t>(limit) << 20;
}

// The title set of each part by its name.
using SetsOfParts = std::map<std::string, int>;

D::Title read_title(ConfigTable& table, const D& disc, const SetsOfParts& sets) {
    D::Title entry;
    const auto plays = table.texts("parts");
    entry.plays = plays;
    std::vector<std::string> names;
    for (const auto& [name, set] : sets) names.push_back(name);
    const auto set_of = [&](const std::string& name) {
        const auto found = sets.find(name);
        return found != sets.end() ? found->second : 0;
    };
    for (const std::string& name : entry.plays) {
        if (!sets.contains(name)) {
            const std::string meant = base::nearest(name, names);
            table.wrong("parts", fmt::format("there is no part \"{}\"", name),
                        meant.empty() ? "name a [[part]]" : fmt::format("did you mean \"{}\"?", meant));
        }
        if (disc.kind == D::Kind::dvd && set_of(name) != set_of(entry.plays.front())) {
            table.wrong("parts", "a title plays parts of two title sets", "give the parts the same set");
        }
    }
    if (entry.plays.empty()) table.wrong("parts", "the title plays nothing", "name a [[part]]");
    table.finish();
    return entry;
}

D::FileFlaw read_file_flaw(ConfigTable& table) {
    D::FileFlaw flaw;
    const auto name = table.text("file");
    flaw.file = name;
    const auto what = table.choice("kind", {"missing", "cut", "rubbish"}, "missing");
    flaw.kind = what == "cut"       ? D::FileFlaw::Kind::cut
                : what == "rubbish" ? D::FileFlaw::Kind::rubbish
                                    : D::FileFlaw::Kind::missing;
    table.finish();
    return flaw;
}

}  // namespace

Result<DiscDescription> parse_disc_description(std::string_view text, const std::string& file) {
    WAVECREST_TRY_ASSIGN(root, ConfigTable::parse(text, file));
    D disc;
    read_kind(root, disc);
    auto audio_tracks = root.tables("audio");
    if (!audio_tracks.empty()) disc.audio.clear();
    if (audio_tracks.size() > 8) root.wrong("audio", "more than eight audio tracks", "leave some out");
    for (ConfigTable& table : audio_tracks) {
        auto audio = read_audio(table);
        disc.audio.push_back(audio);
    }
    auto subtitles = root.tables("subtitles");
    if (subtitles.size() > 32) root.wrong("subtitles", "more than 32 subtitle tracks", "leave some out");
    for (ConfigTable& table : subtitles) {
        auto entry = read_subtitles(table);
        disc.subtitles.push_back(entry);
    }
    auto parts = root.tables("part");
    SetsOfParts sets;
    for (ConfigTable& table : parts) {
        auto part = read_part(table);
        if (disc.codec != Codec::mpeg2 && part.pictures != D::Part::Pictures::film &&
            part.pictures != D::Part::Pictures::whole) {
            table.wrong("cadence", fmt::format("{} is made progressive here", media::display_name(disc.codec)),
                        "write \"film\" or \"progressive\"");
        }
        if (!sets.emplace(part.name, part.set).second)
            table.wrong("name", fmt::format("there are two parts \"{}\"", part.name), "give each its own name");
        disc.parts.push_back(std::move(part));
    }
    if (disc.parts.empty()) root.wrong("part", "the disc has no parts", "add a [[part]] with a name");
    for (ConfigTable& table : root.tables("playlist")) disc.titles.push_back(read_title(table, disc, sets));
    for (ConfigTable& table : root.tables("file_flaw")) disc.flaws.push_back(read_file_flaw(table));
    root.finish();
    return root.complete(Result<DiscDescription>(std::move(disc)));
}

}  // namespace wavecrest::standin
