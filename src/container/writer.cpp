#include "container/writer.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <initializer_list>

#include "base/atomic_file.hpp"
#include "bitstream/headers.hpp"
#include "container/mp4_writer.hpp"

namespace wavecrest::container {
namespace {

struct Format {
    std::string_view name, extension, title;
    std::initializer_list<Codec> codecs;
    bool one_track;
};

const std::array<Format, 10>& formats() {
    using enum Codec;
    static const std::array<Format, 10> kFormats = {
        Format{"mp4",
               ".mp4",
               "MP4",
               {h264, h265, av1, vp9, mpeg4, mpeg2, mpeg1, aac, ac3, eac3, dts, mp3, mp2, flac, opus, lpcm, text},
               false},
        Format{"matroska",
               ".mkv",
               "Matroska",
               {h264, h265,   av1, vp9, vp8,  mpeg4, mpeg2,  mpeg1, vc1,  aac, ac3,           eac3,
                dts,  truehd, mp3, mp2, flac, opus,  vorbis, lpcm,  text, pgs, dvd_subpicture},
               false},
        Format{"webm", ".webm", "WebM", {vp8, vp9, av1, opus, vorbis, text}, false},
        Format{"mpeg-ts",
               ".ts",
               "a transport stream",
               {h264, h265, mpeg2, mpeg1, mpeg4, vc1, aac, ac3, eac3, dts, truehd, mp3, mp2, pgs},
               false},
        Format{"flv", ".flv", "FLV", {h264, aac, mp3}, false},
        Format{"wav", ".wav", "WAV", {lpcm}, true},
        Format{"flac", ".flac", "FLAC", {flac}, true},
        Format{"mp3", ".mp3", "MP3", {mp3}, true},
        Format{"adts", ".aac", "ADTS", {aac}, true},
        Format{"ogg", ".ogg", "Ogg", {opus, vorbis, flac}, true},
    };
    return kFormats;
}

const Format* find(std::string_view name) {
    for (const Format& format : formats()) {
        if (format.name == name) return &format;
    }
    return nullptr;
}

}  // namespace

std::string why_not_codec(std::string_view name, const Track& track) {
    const Format* format = find(name);
    if (format == nullptr) return fmt::format("files of type {} can't be written", name);
    const bool held = std::find(format->codecs.begin(), format->codecs.end(), track.codec) != format->codecs.end();
    if (!held) {
        return fmt::format(
            "{} does not support {}", format->title,
            track.codec == Codec::unknown && !track.profile.empty() ? track.profile : media::display_name(track.codec));
    }
    return "";
}

std::string why_not(std::string_view name, const Track& track) {
    if (std::string why = why_not_codec(name, track); !why.empty()) return why;
    if (const std::string missing = bitstream::missing_configuration(track); !missing.empty())
        return fmt::format("{} track {}: {}", media::display_name(track.codec), track.id, missing);
    return "";
}

std::string format_from_name(std::string_view name) {
    std::string plain;
    for (const char c : name.substr(name.starts_with(".") ? 1 : 0))
        plain += c >= 'A' && c <= 'Z' ? static_cast<char>(c + 32) : c;
    static constexpr std::pair<std::string_view, std::string_view> kOthers[] = {
        {"m4v", "mp4"},        {"m4a", "mp4"},     {"mov", "mp4"},      {"mkv", "matroska"},
        {"mka", "matroska"},   {"ts", "mpeg-ts"},  {"m2ts", "mpeg-ts"}, {"mts", "mpeg-ts"},
        {"mpegts", "mpeg-ts"}, {"mpg", "mpeg-ps"}, {"vob", "mpeg-ps"},  {"aac", "adts"},
        {"oga", "ogg"},        {"ogv", "ogg"},     {"opus", "ogg"},     {"vtt", "webvtt"}};
    for (const auto& [other, own] : kOthers) {
        if (other == plain) return std::string(own);
    }
    return plain;
}

const std::vector<std::string_view>& writable_formats() {
    static const std::vector<std::string_view> kNames = [] {
        std::vector<std::string_view> names;
        for (const Format& format : formats()) names.push_back(format.name);
        return names;
    }();
    return kNames;
}

bool holds_one_track(std::string_view name) {
    const Format* format = find(name);
    return format != nullptr && format->one_track;
}

std::string_view extension_of(std::string_view name) {
    const Format* format = find(name);
    return format != nullptr ? format->extension : "";
}

bool needs_seeking(std::string_view name, const WriterSettings& settings) {
    if (name == "mp4") return settings.fragments.count() == 0;
    return name == "matroska" || name == "webm" || name == "flv" || name == "wav";
}

Result<std::unique_ptr<PacketSink>> create_media(std::string_view name, base::AtomicFile file,
                                                 std::vector<Track> tracks, WriterSettings settings) {
    return create_media(name, std::make_unique<base::AtomicFile>(std::move(file)), std::move(tracks),
                        std::move(settings));
}

Result<std::unique_ptr<PacketSink>> create_media(std::string_view name, std::unique_ptr<base::ByteSink> file,
                                                 std::vector<Track> tracks, WriterSettings settings) {
    for (const Track& track : tracks) {
        if (const std::string why = why_not(name, track); !why.empty())
            return fail(ErrorKind::input, why, fmt::format("track {}", track.id), "leave the track out or convert it");
    }
    if (!file->seeks_back() && needs_seeking(name, settings)) {
        return fail(ErrorKind::usage, fmt::format("{} can't be written to what only takes bytes", find(name)->title),
                    "", "write it to a file, or use a transport stream or fragmented MP4");
    }
    if (holds_one_track(name) && tracks.size() != 1) {
        return fail(ErrorKind::input, fmt::format("{} supports one track, not {}", find(name)->title, tracks.size()),
                    "", "choose one track");
    }
    if (name == "mp4") {
        WAVECREST_TRY_ASSIGN(writer, Mp4Writer::create(std::move(file), std::move(tracks), std::move(settings)));
        return std::unique_ptr<PacketSink>(std::move(writer));
    }
    if (name == "matroska") return create_matroska(std::move(file), std::move(tracks), std::move(settings), false);
    if (name == "webm") return create_matroska(std::move(file), std::move(tracks), std::move(settings), true);
    if (name == "mpeg-ts") return create_mpeg_ts(std::move(file), std::move(tracks), std::move(settings));
    if (name == "flv") return create_flv(std::move(file), std::move(tracks), std::move(settings));
    if (name == "ogg") return create_ogg(std::move(file), std::move(tracks), std::move(settings));
    return create_audio_file(name, std::move(file), std::move(tracks), std::move(settings));
}

}  // namespace wavecrest::container
