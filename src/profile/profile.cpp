#include "profile/profile.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <cmath>

#include "base/config.hpp"
#include "base/embedded.hpp"
#include "base/file.hpp"
#include "profile/ladder.hpp"

namespace wavecrest::profile {
namespace {

constexpr std::string_view kFolder = "profiles/";

bool is_file_name(const std::string& name) {
    return name.size() > 5 && name.ends_with(".toml");
}

std::int64_t usual_bitrate(Codec codec, int channels) {
    const std::int64_t pairs = std::max(1, (channels + 1) / 2);
    switch (codec) {
        case Codec::aac:
            return channels <= 1 ? 80'000 : channels == 2 ? 160'000 : 384'000;
        case Codec::ac3:
            return channels <= 1 ? 96'000 : channels == 2 ? 192'000 : 448'000;
        case Codec::opus:
            return channels <= 1 ? 64'000 : 96'000 * pairs;
        case Codec::mp3:
            return channels <= 1 ? 96'000 : 192'000;
        default:
            return 0;
    }
}

// "ac3", "aac stereo", "dts 5.1"
std::optional<AudioSettings::Kept> parse_kept(const std::string& text) {
    const std::size_t blank = text.find(' ');
    const auto codec = media::codec_from_name(text.substr(0, blank));
    if (!codec || *codec == Codec::unknown) return std::nullopt;
    if (blank == std::string::npos) return AudioSettings::Kept{*codec, 0};
    for (const int channels : {1, 2, 6, 8}) {
        if (text.substr(blank + 1) == media::channel_layout(channels)) return AudioSettings::Kept{*codec, channels};
    }
    return std::nullopt;
}

AudioSettings parse_audio(base::ConfigTable& table) {
    AudioSettings audio;
    const std::string codec = table.choice("codec", {"aac", "ac3", "opus", "mp3", "flac", "lpcm", "as-source"}, "aac");
    audio.keep = codec == "as-source";
    if (!audio.keep) audio.codec = media::codec_from_name(codec).value_or(Codec::aac);
    const std::string channels = table.choice("channels", {"mono", "stereo", "5.1", "as-source"}, "stereo");
    audio.channels = channels == "mono" ? 1 : channels == "stereo" ? 2 : channels == "5.1" ? 6 : 0;
    audio.bitrate_bps = table.bitrate("bitrate", 0);
    const bool lossless = audio.codec == Codec::flac || audio.codec == Codec::lpcm;
    if (table.has("bitrate") && (audio.keep || lossless)) {
        table.wrong("bitrate", "this audio has no bit rate to choose", "leave it out");
    } else if (audio.bitrate_bps != 0 && (audio.bitrate_bps < 32'000 || audio.bitrate_bps > 640'000)) {
        table.wrong("bitrate", "audio needs 32 to 640 kbit/s", "write for example \"160 kbit/s\"");
    }
    if (audio.keep && table.has("channels"))
        table.wrong("channels", "audio that is kept as it is has the source's channels", "leave it out");
    if (audio.codec == Codec::mp3 && audio.channels == 6)
        table.wrong("channels", "MP3 has at most two channels", "write \"stereo\", or use another codec");
    for (const std::string& text : table.texts("keep")) {
        if (const auto kept = parse_kept(text)) {
            audio.keeps.push_back(*kept);
        } else {
            table.wrong("keep", fmt::format("\"{}\" isn't a kind of audio", text),
                        "write codecs, with the most channels where there is a limit: [\"ac3\", \"aac stereo\"]");
        }
    }
    if (audio.keep && !audio.keeps.empty())
        table.wrong("keep", "audio that is kept as it is needs no list", "leave it out, or name a codec");
    if (table.has("loudness")) {
        const std::string loudness = table.text("loudness", "");
        audio.loudness = base::parse_loudness(loudness);
        if (!audio.loudness || *audio.loudness < -40 || *audio.loudness > -10)
            table.wrong("loudness", fmt::format("\"{}\" isn't a loudness from -40 to -10 LUFS", loudness),
                        "write for example \"-23 LUFS\"");
    }
    audio.night = table.choice("dynamic_range", {"full", "night"}, "full") == "night";
    if (audio.keep && (audio.loudness || audio.night))
        table.wrong(audio.night ? "dynamic_range" : "loudness", "audio that is kept as it is can't be changed",
                    "leave it out, or name a codec");
    table.finish();
    return audio;
}

// What is encoded, or not.
void parse_video_codec(base::ConfigTable& table, VideoSettings& video) {
    const std::string name = table.text("codec", "h264");
    if (name == "none") {
        video.what = VideoSettings::What::none;
        return;
    }
    if (name == "as-source") {
        video.what = VideoSettings::What::keep;
        return;
    }
    const auto codec = media::codec_from_name(name);
    for (const Codec one : {Codec::h264, Codec::h265, Codec::vp9, Codec::av1}) {
        if (codec == one) {
            video.codec = one;
            return;
        }
    }
    table.wrong("codec", fmt::format("video can't be encoded as \"{}\"", name),
                "write \"h264\", \"h265\", \"vp9\", \"av1\", \"as-source\" or \"none\"");
}

void parse_bit_rates(base::ConfigTable& table, VideoSettings& video) {
    video.mean_bps = table.bitrate("bitrate", 0);
    const std::string size = table.text("target_size", "");
    if (!size.empty()) {
        const auto bytes = base::parse_bytes(size);
        if (!bytes || *bytes < 1'000'000) {
            table.wrong("target_size", fmt::format("\"{}\" isn't a size of a file", size),
                        "write for example \"1.4 GB\"");
        } else {
            video.target_bytes = *bytes;
        }
    }
    video.peak_bps = table.bitrate("peak_bitrate", 0);
    video.buffer = table.span("buffer", video.buffer);
    if (video.buffer.count() == 0)
        table.wrong("buffer", "the buffer must be longer than 0", "write a length such as \"2 s\"");
    if (video.mean_bps > 0 && video.target_bytes > 0)
        table.wrong("target_size", "the size follows from \"bitrate\" already", "write one of the two");
    if (video.two_passes() && table.has("visual_quality"))
        table.wrong("visual_quality", "a bit rate or size and a quality contradict each other",
                    "leave out one of them; peak_bitrate limits a quality");
    if (video.mean_bps > 0 && video.mean_bps < 50'000)
        table.wrong("bitrate", "video needs at least 50 kbit/s", "write for example \"2 Mbit/s\"");
    // (Their encoders give an average or a peak, not both.)
    const bool one_of_both = video.codec == Codec::vp9 || video.codec == Codec::av1;
    if (video.peak_bps > 0 && video.two_passes() && one_of_both)
        table.wrong("peak_bitrate",
                    fmt::format("{} holds a peak only with a quality", media::display_name(video.codec)),
                    "leave it out, or use visual_quality");
    if (video.peak_bps > 0 && video.mean_bps > video.peak_bps)
        table.wrong("bitrate", "the average is above the peak", "raise peak_bitrate, or lower bitrate");
}

void parse_keyframes(base::ConfigTable& table, VideoSettings& video) {
    video.keyframe_interval = table.span("keyframe_interval", Time{});
    video.fixed_keyframes = table.flag("fixed_keyframes", false);
    if (video.keyframe_interval.count() == 0 && table.has("keyframe_interval"))
        table.wrong("keyframe_interval", "the keyframe interval must be longer than 0",
                    "write a length such as \"4 s\", or leave it out");
    if (video.fixed_keyframes && video.keyframe_interval.count() == 0)
        table.wrong("fixed_keyframes", "keyframes at a fixed distance need keyframe_interval",
                    "write for example keyframe_interval = \"2 s\"");
}

void parse_frames(base::ConfigTable& table, VideoSettings& video) {
    video.largest = table.size("max_size", video.largest);
    video.square_pixels = table.choice("pixels", {"square", "as-source"}, "square") == "square";
    video.every_field = table.choice("interlaced", {"per-frame", "per-field"}, "per-frame") == "per-field";
    video.crop = table.choice("crop", {"none", "black-borders"}, "none") != "none";
    const auto rate = table.text("frame_rate", "as-source");
    video.half_rate = rate == "half";
    video.constant_rate = rate != "as-source" && rate != "half";
    if (!video.constant_rate || rate == "constant") return;
    const auto fixed = base::parse_frame_rate(rate);
    if (!fixed) {
        table.wrong("frame_rate", fmt::format("\"{}\" isn't a valid frame rate", rate),
                    "write \"as-source\", \"constant\", \"half\" or frames per second such as \"25\" or \"29.97\"");
    }
    video.frame_rate = fixed.value_or(Ratio{0, 1});
}

void parse_depth(base::ConfigTable& table, VideoSettings& video) {
    video.bit_depth = static_cast<int>(table.number("bit_depth", 8, 10, video.profile == "main10" ? 10 : 8));
    if (video.bit_depth == 9)
        table.wrong("bit_depth", "video has 8 or 10 bits", "write bit_depth = 8 or bit_depth = 10");
    if (video.bit_depth == 10 && video.codec == Codec::h264)
        table.wrong("bit_depth", "H.264 is encoded with 8 bits only", "use codec = \"h265\", \"vp9\" or \"av1\"");
    if (video.bit_depth == 10 && video.profile == "main")
        table.wrong("bit_depth", "H.265's Main profile has 8 bits", "write profile = \"main10\", or leave it out");
    const std::string hdr = table.choice("hdr", {"keep", "to-sdr"}, video.bit_depth == 10 ? "keep" : "to-sdr");
    if (hdr == "keep" && video.bit_depth == 8)
        table.wrong("hdr", "high dynamic range needs 10 bits", "write bit_depth = 10");
    video.keeps_hdr = hdr == "keep";
}

VideoSettings parse_video(base::ConfigTable& table) {
    VideoSettings video;
    parse_video_codec(table, video);
    if (video.what != VideoSettings::What::encode) {
        // Whatever else is written here would change nothing.
        for (const char* key : {"profile", "level", "effort", "visual_quality", "bitrate", "target_size",
                                "peak_bitrate", "max_size", "frame_rate", "bit_depth", "crop", "keyframe_interval"}) {
            if (table.has(key))
                table.wrong(key, "video that isn't encoded has nothing to choose", "leave it out, or name a codec");
        }
        table.finish();
        return video;
    }
    const bool has_profiles = video.codec == Codec::h264 || video.codec == Codec::h265;
    video.profile = table.choice("profile",
                                 video.codec == Codec::h265 ? std::vector<std::string>{"", "main", "main10"}
                                                            : std::vector<std::string>{"", "baseline", "main", "high"},
                                 video.codec == Codec::h264 ? "high" : "");
    video.level = table.choice("level", {"", "3.0", "3.1", "3.2", "4.0", "4.1", "4.2", "5.0", "5.1"}, "");
    for (const char* key : {"profile", "level"}) {
        if (!has_profiles && table.has(key))
            table.wrong(key, fmt::format("{} video has no {} to choose", media::display_name(video.codec), key),
                        "leave it out");
    }
    parse_depth(table, video);
    video.effort = static_cast<int>(table.number("effort", 1, 9, 5));
    video.quality = table.decimal("visual_quality", 0, 100, video.quality);
    if (table.has_former("quality")) {
        const double old = table.decimal("quality", 0, 51, 20);
        table.wrong("quality", "\"quality\" is now \"visual_quality\", from 0 to 100, the same for every codec",
                    fmt::format("write visual_quality = {:g}", std::round((51 - old) / 0.4 * 2) / 2));
    }
    parse_bit_rates(table, video);
    parse_keyframes(table, video);
    parse_frames(table, video);
    table.finish();
    return video;
}

// What of the video differs from rung to rung; the rest is as [video] has it.
VideoSettings parse_rung(base::ConfigTable& table, const VideoSettings& common) {
    VideoSettings rung = common;
    if (table.has("codec")) {
        parse_video_codec(table, rung);
        if (rung.what != VideoSettings::What::encode)
            table.wrong("codec", "a rung is encoded", "write \"h264\", \"h265\", \"vp9\" or \"av1\"");
        if (rung.codec != common.codec) rung.profile = rung.codec == Codec::h264 ? "high" : "", rung.level.clear();
    }
    if (!table.has("max_size"))
        table.wrong("max_size", "a rung needs its size", "write for example max_size = \"720p\"");
    rung.largest = table.size("max_size", common.largest);
    rung.effort = static_cast<int>(table.number("effort", 1, 9, common.effort));
    rung.quality = table.decimal("visual_quality", 0, 100, common.quality);
    rung.peak_bps = table.bitrate("peak_bitrate", 0);
    rung.mean_bps = table.bitrate("bitrate", 0);
    rung.buffer = table.span("buffer", common.buffer);
    // (A player goes by what a rung needs at most.)
    const bool by_mean = rung.codec == Codec::vp9 || rung.codec == Codec::av1;
    if (rung.peak_bps == 0 && !(by_mean && rung.mean_bps > 0))
        table.wrong("peak_bitrate", "a rung needs its highest bit rate",
                    "write for example peak_bitrate = \"3 Mbit/s\"");
    if (rung.mean_bps > 0 && rung.peak_bps > 0 && by_mean)
        table.wrong("bitrate", fmt::format("{} holds a peak only with a quality", media::display_name(rung.codec)),
                    "leave one of them out");
    if (rung.mean_bps > 0 && table.has("visual_quality"))
        table.wrong("visual_quality", "a bit rate and a quality contradict each other", "leave out one of them");
    if (rung.peak_bps > 0 && rung.mean_bps > rung.peak_bps)
        table.wrong("bitrate", "the average is above the peak", "raise peak_bitrate, or lower bitrate");
    table.finish();
    return rung;
}

// ladder = "auto", or [[rung]] tables.
void parse_ladder(base::ConfigTable& root, Profile& profile) {
    constexpr std::size_t kMostRungs = 12;
    const std::string how = root.choice("ladder", {"", "auto"}, "");
    profile.automatic_ladder = how == "auto";
    std::vector<base::ConfigTable> tables = root.tables("rung");
    if (profile.automatic_ladder && !tables.empty())
        root.wrong("ladder", "\"auto\" chooses the rungs itself", "leave out ladder, or the [[rung]] tables");
    if (!profile.automatic_ladder && tables.empty()) return;
    if (profile.video.what != VideoSettings::What::encode)
        root.wrong("ladder", "a ladder needs video that is encoded", "name a codec in [video]");
    if (profile.container != "mp4") root.wrong("container", "a ladder's files are MP4", "leave container out");
    if (profile.video.two_passes() || profile.video.peak_bps > 0)
        root.wrong("ladder", "the bit rates of a ladder belong to its rungs",
                   "leave bitrate, target_size and peak_bitrate out of [video]");
    if (tables.size() > kMostRungs)
        root.wrong("rung", fmt::format("a ladder has at most {} rungs", kMostRungs), "leave some out");
    if (profile.video.keyframe_interval.count() == 0) profile.video.keyframe_interval = kLadderSegment;
    profile.video.fixed_keyframes = true;
    for (base::ConfigTable& table : tables) profile.rungs.push_back(parse_rung(table, profile.video));
}

// What only some containers have.
void check_container(base::ConfigTable& root, const Profile& profile) {
    static constexpr std::string_view kAudioAlone[] = {"wav", "flac", "mp3", "ogg", "adts"};
    const bool audio_alone =
        std::find(std::begin(kAudioAlone), std::end(kAudioAlone), profile.container) != std::end(kAudioAlone);
    if (audio_alone && profile.has_video())
        root.wrong("container", fmt::format("{} files have no video", profile.container),
                   "write codec = \"none\" in [video], or use \"mp4\" or \"matroska\"");
    if (audio_alone && profile.audio.size() > 1)
        root.wrong("container", fmt::format("{} files have one audio track", profile.container),
                   "leave one [[audio]], or use \"matroska\"");
    if (profile.subtitles.keep_images && profile.container != "matroska" && profile.container != "mpeg-ts")
        root.wrong("container", fmt::format("{} does not support bitmap subtitles", profile.container),
                   "use \"matroska\", or leave out bitmap = \"keep\"");
}

}  // namespace

bool AudioSettings::keeps_track(const Track& track) const {
    return keep || std::any_of(keeps.begin(), keeps.end(), [&](const Kept& one) {
               return one.codec == track.codec && (one.channels == 0 || track.channels <= one.channels);
           });
}

std::int64_t AudioSettings::bitrate_for(int count) const {
    if (keep) return 0;
    if (bitrate_bps == 0) return usual_bitrate(codec, count);
    return bitrate_bps * count / std::max(channels > 0 ? channels : count, count);
}

std::int64_t Profile::peak_bps() const {
    if (video.peak_bps == 0 || video.what == VideoSettings::What::keep) return 0;
    std::int64_t sum = video.peak_bps;
    for (const AudioSettings& one : audio) sum += one.bitrate_for(one.channels > 0 ? one.channels : 6);
    return sum;
}

Result<Profile> parse(std::string_view text, const std::string& file) {
    WAVECREST_TRY_ASSIGN(root, base::ConfigTable::parse(text, file));
    Profile profile;
    const auto name = root.text("name");
    profile.name = name;
    const auto purpose = root.text("purpose", "");
    profile.purpose = purpose;
    profile.container =
        root.choice("container", {"mp4", "matroska", "webm", "mpeg-ts", "wav", "flac", "mp3", "ogg", "adts"}, "mp4");

    auto video = root.table("video");
    profile.video = parse_video(video);

    // One table for one kind of audio, or an array of them.
    std::vector<base::ConfigTable> kinds = root.table_or_tables("audio");
    if (kinds.empty()) kinds.push_back(root.table("audio"));
    profile.audio.clear();
    for (base::ConfigTable& table : kinds) profile.audio.push_back(parse_audio(table));
    auto subtitles = root.table("subtitles");
    profile.subtitles.keep_text = subtitles.choice("text", {"keep", "leave-out"}, "keep") == "keep";
    profile.subtitles.keep_images = subtitles.choice("bitmap", {"burn-in", "keep"}, "burn-in") == "keep";
    subtitles.finish();
    check_container(root, profile);
    parse_ladder(root, profile);
    root.finish();
    return root.complete(Result<Profile>(std::move(profile)));
}

const std::vector<Profile>& built_in() {
    static const std::vector<Profile> profiles = [] {
        std::vector<Profile> all;
        for (const base::EmbeddedFile& file : base::embedded_files()) {
            if (!file.name.starts_with(kFolder)) continue;
            if (auto profile = parse(file.text, std::string(file.name))) all.push_back(std::move(*profile));
        }
        return all;
    }();
    return profiles;
}

Result<std::string> source_text(const std::string& name) {
    if (is_file_name(name)) return base::read_text_file(name);
    std::vector<std::string> names;
    for (const base::EmbeddedFile& file : base::embedded_files()) {
        if (!file.name.starts_with(kFolder)) continue;
        if (file.name == fmt::format("{}{}.toml", kFolder, name)) return std::string(file.text);
        names.emplace_back(file.name.substr(kFolder.size(), file.name.size() - kFolder.size() - 5));
    }
    const std::string meant = base::nearest(name, names);
    return fail(ErrorKind::usage, fmt::format("unknown profile \"{}\"", name), "profile",
                meant.empty() ? fmt::format("use one of: {}; or a file ending in .toml", fmt::join(names, ", "))
                              : fmt::format("did you mean \"{}\"?", meant));
}

namespace {

// A key with its value as TOML: numbers, booleans and arrays as they are, all else as a string.
std::string toml_value(const std::string& value) {
    const bool number = !value.empty() && value.find_first_not_of("0123456789.-+") == std::string::npos;
    const bool quoted = value.size() >= 2 && value.front() == '"' && value.back() == '"';
    if (number || quoted || value == "true" || value == "false" || value.starts_with("[")) return value;
    return "\"" + value + "\"";
}

struct Change {
    std::string table, key, value;
};
Result<Change> parse_change(const std::string& text) {
    const std::size_t equals = text.find('=');
    const auto trimmed = [](std::string part) {
        part.erase(0, part.find_first_not_of(' '));
        part.erase(part.find_last_not_of(' ') + 1);
        return part;
    };
    std::string name = trimmed(text.substr(0, equals));
    if (equals == std::string::npos || name.empty() ||
        name.find_first_not_of("abcdefghijklmnopqrstuvwxyz0123456789_.") != std::string::npos)
        return fail(ErrorKind::usage, fmt::format("\"{}\" is no KEY=VALUE", text), "--set",
                    "write for example --set effort=7 or --set \"audio.bitrate=96 kbit/s\"");
    Change change;
    static const std::vector<std::string> kTop = {"container", "purpose"};
    if (const std::size_t dot = name.find('.'); dot != std::string::npos) {
        change.table = name.substr(0, dot);
        name = name.substr(dot + 1);
    } else if (std::find(kTop.begin(), kTop.end(), name) == kTop.end()) {
        change.table = "video";
    }
    change.key = name;
    change.value = toml_value(trimmed(text.substr(equals + 1)));
    return change;
}

// The name of the table that a line begins, where it does: "video", "audio".
std::optional<std::string> begun_table(const std::string& line) {
    const std::size_t from = line.find_first_not_of(" [");
    if (line.find_first_not_of(' ') == std::string::npos || line[line.find_first_not_of(' ')] != '[') return {};
    return line.substr(from, line.find(']') - from);
}
std::string key_of(const std::string& line) {
    const std::size_t from = line.find_first_not_of(' ');
    if (from == std::string::npos || line[from] == '#' || line[from] == '[') return "";
    const std::size_t equals = line.find('=');
    if (equals == std::string::npos) return "";
    std::string key = line.substr(from, equals - from);
    key.erase(key.find_last_not_of(' ') + 1);
    return key;
}

// Of the video: each of them decides how large it becomes.
constexpr std::string_view kSizeKeys[] = {"visual_quality", "bitrate", "target_size"};
bool decides_size(const Change& change) {
    return change.table == "video" && std::count(std::begin(kSizeKeys), std::end(kSizeKeys), change.key) > 0;
}

// Leaves out what decides the video's size, where these changes say it anew.
void leave_out_size(const std::vector<Change>& changes, std::vector<std::string>& lines) {
    if (std::none_of(changes.begin(), changes.end(), decides_size)) return;
    std::string table;
    std::erase_if(lines, [&](const std::string& line) {
        if (const auto begun = begun_table(line)) table = *begun;
        return decides_size({table, key_of(line), ""});
    });
}

void apply_change(const Change& change, std::vector<std::string>& lines) {
    std::string table;
    std::optional<std::size_t> begin, end;  // of the table's own lines
    if (change.table.empty()) begin = 0;
    for (std::size_t i = 0; i < lines.size(); ++i) {
        if (const auto begun = begun_table(lines[i])) {
            if (begin && !end) end = i;
            table = *begun;
            if (!begin && table == change.table) begin = i + 1;
        } else if (table == change.table && (!end || i < *end) && key_of(lines[i]) == change.key) {
            // What is said behind the value was said of another.
            lines[i] = fmt::format("{} = {}", change.key, change.value);
            return;
        }
    }
    const std::string line = fmt::format("{} = {}", change.key, change.value);
    if (!begin) {
        lines.insert(lines.end(), {"", fmt::format("[{}]", change.table), line});
        return;
    }
    std::size_t at = end.value_or(lines.size());
    while (at > *begin && lines[at - 1].find_first_not_of(' ') == std::string::npos) --at;
    lines.insert(lines.begin() + static_cast<std::ptrdiff_t>(at), line);
}

}  // namespace

Result<std::string> derived_text(const std::string& like, const std::string& name,
                                 const std::vector<std::string>& changes) {
    WAVECREST_TRY_ASSIGN(text, source_text(like));
    std::vector<std::string> lines;
    for (std::size_t at = 0; at < text.size();) {
        const std::size_t end = std::min(text.find('\n', at), text.size());
        lines.push_back(text.substr(at, end - at));
        at = end + 1;
    }
    // The comment at its top tells when to take the other one.
    while (!lines.empty() && lines.front().starts_with("#")) lines.erase(lines.begin());
    lines.insert(lines.begin(), fmt::format("# {}, made like {}.", name, like));
    apply_change({"", "name", toml_value(name)}, lines);
    apply_change({"", "purpose", toml_value("of our own, like " + like)}, lines);
    std::vector<Change> wanted;
    for (const std::string& one : changes) {
        WAVECREST_TRY_ASSIGN(change, parse_change(one));
        wanted.push_back(std::move(change));
    }
    leave_out_size(wanted, lines);
    for (const Change& change : wanted) apply_change(change, lines);
    std::string made;
    for (const std::string& line : lines) made += line + "\n";
    WAVECREST_TRY(parse(made, "the new profile"));
    return made;
}

Result<Profile> find(const std::string& name) {
    WAVECREST_TRY_ASSIGN(text, source_text(name));
    return parse(text, is_file_name(name) ? name : fmt::format("built-in profile {}", name));
}

}  // namespace wavecrest::profile
