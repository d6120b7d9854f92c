#include "device/claims.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <cctype>

namespace wavecrest::device {
namespace {

struct TypeMeaning {
    const char* type;
    const char* container;
    std::vector<Codec> audio;  // that come with it
};
const std::vector<TypeMeaning>& meanings() {
    static const std::vector<TypeMeaning> all = {
        {"video/mp4", "mp4", {}},
        {"video/x-m4v", "mp4", {}},
        {"video/matroska", "matroska", {}},
        {"video/x-matroska", "matroska", {}},
        {"video/x-mkv", "matroska", {}},
        {"video/webm", "webm", {Codec::opus, Codec::vorbis}},
        {"video/mp2t", "mpeg-ts", {}},
        {"video/mpeg-ts", "mpeg-ts", {}},
        {"video/vnd.dlna.mpeg-tts", "mpeg-ts", {}},
        {"video/mpeg", "mpeg-ps", {Codec::mp2}},
        {"video/avi", "avi", {}},
        {"video/x-msvideo", "avi", {}},
        {"video/x-flv", "flv", {}},
        {"audio/mpeg", "mp3", {Codec::mp3}},
        {"audio/mp4", "mp4", {Codec::aac}},
        {"audio/x-m4a", "mp4", {Codec::aac}},
        {"audio/aac", "adts", {Codec::aac}},
        {"audio/vnd.dlna.adts", "adts", {Codec::aac}},
        {"audio/flac", "flac", {Codec::flac}},
        {"audio/x-flac", "flac", {Codec::flac}},
        {"audio/wav", "wav", {Codec::lpcm}},
        {"audio/x-wav", "wav", {Codec::lpcm}},
        {"audio/l16", "", {Codec::lpcm}},
        {"audio/ac3", "", {Codec::ac3}},
        {"audio/vnd.dolby.dd-raw", "", {Codec::ac3}},
        {"audio/eac3", "", {Codec::eac3}},
        {"audio/ogg", "ogg", {Codec::vorbis}},
        {"application/ogg", "ogg", {Codec::vorbis}},
    };
    return all;
}

std::string lower(std::string_view text) {
    std::string result(text.substr(0, text.find(';')));
    for (char& c : result) c = static_cast<char>(std::tolower(static_cast<unsigned char>(c)));
    return result;
}

bool has(std::string_view text, std::string_view part) {
    return text.find(part) != std::string_view::npos;
}

template <typename T>
void keep(std::vector<T>& list, const T& one) {
    if (std::find(list.begin(), list.end(), one) == list.end()) list.push_back(one);
}

VideoAbility& video_of(Device& d, Codec codec) {
    for (VideoAbility& one : d.video) {
        if (one.codec == codec) return one;
    }
    d.video.emplace_back();
    d.video.back().codec = codec;
    return d.video.back();
}

void add_audio(Device& d, Codec codec, int channels, const std::string& basis) {
    for (AudioAbility& one : d.audio) {
        if (one.codec != codec) continue;
        one.channels = std::max(one.channels, channels);
        return;
    }
    d.audio.push_back({codec, channels, {}, basis});
}

// "AVC_MP4_HP_HD_AAC", "MPEG_PS_PAL", "HEVC_TS_NA_ISO": IEC 62481-2 names codecs, and sizes as SD or HD.
void take_profile(Device& d, std::string_view profile) {
    const std::string basis = fmt::format("claimed: {}", profile);
    const bool hd = has(profile, "_HD");
    const base::Size size = hd ? base::Size{1920, 1080} : base::Size{720, 576};
    const auto take = [&](Codec codec, base::Size largest, const char* codec_profile) {
        VideoAbility& one = video_of(d, codec);
        if (largest.width > one.largest.width) {
            one.largest = largest;
            one.basis = basis;
        }
        if (*codec_profile != 0) keep(one.profiles, std::string(codec_profile));
        if (codec == Codec::h264) one.scans = {Scan::progressive, Scan::interlaced};
    };
    if (profile.starts_with("AVC")) {
        take(Codec::h264, size, "Main");
        if (has(profile, "_HP")) take(Codec::h264, size, "High");
        take(Codec::h264, size, "Baseline");
    } else if (profile.starts_with("HEVC")) {
        take(Codec::h265, has(profile, "UHD") ? base::Size{3840, 2160} : base::Size{1920, 1080}, "Main");
    } else if (profile.starts_with("MPEG_PS") || profile.starts_with("MPEG_TS")) {
        take(Codec::mpeg2, size, "Main");
    } else if (profile.starts_with("MPEG4_P2")) {
        take(Codec::mpeg4, size, "");
    }
    if (has(profile, "EAC3"))
        add_audio(d, Codec::eac3, 6, basis);
    else if (has(profile, "AC3"))
        add_audio(d, Codec::ac3, 6, basis);
    if (has(profile, "AAC")) add_audio(d, Codec::aac, has(profile, "MULT5") ? 6 : 2, basis);
    if (profile.starts_with("LPCM")) add_audio(d, Codec::lpcm, 2, basis);
    if (profile == "MP3" || has(profile, "MPEG1_L3")) add_audio(d, Codec::mp3, 2, basis);
}

}  // namespace

Device from_claims(const std::string& name, const std::vector<upnp::ProtocolInfo>& takes) {
    Device d;
    d.name = name;
    d.description = "As it says of itself over UPnP";
    d.basis =
        "claimed by the device over UPnP (GetProtocolInfo), which tells no levels, frame rates or bit rates: try it "
        "with device test";
    d.protocols = {"http"};
    bool everything = false;
    for (const upnp::ProtocolInfo& one : takes) {
        if (one.protocol != "http-get" && one.protocol != "*") continue;
        const std::string type = lower(one.media_type);
        everything = everything || type == "*" || type == "video/*";
        if (type == "application/vnd.apple.mpegurl" || type == "application/x-mpegurl")
            keep(d.protocols, std::string("hls"));
        for (const TypeMeaning& meaning : meanings()) {
            if (type != meaning.type) continue;
            if (*meaning.container != 0) keep(d.containers, std::string(meaning.container));
            for (const Codec codec : meaning.audio) add_audio(d, codec, 2, fmt::format("claimed: {}", type));
        }
        take_profile(d, one.extra_field("DLNA.ORG_PN"));
    }
    if (everything) {
        keep(d.containers, std::string("mp4"));
        keep(d.containers, std::string("mpeg-ts"));
    }
    // What isn't told, though without it nothing could be decided.
    const auto reads_any = [&](std::initializer_list<const char*> containers) {
        return std::any_of(containers.begin(), containers.end(), [&](const char* one) { return reads(d, one); });
    };
    const std::string assumed = "not told by the device: assumed from its containers";
    const auto knows = [&](Codec codec) {
        return std::any_of(d.video.begin(), d.video.end(), [&](const VideoAbility& v) { return v.codec == codec; });
    };
    if (reads_any({"mp4", "matroska", "mpeg-ts"}) && !knows(Codec::h264)) {
        VideoAbility& one = video_of(d, Codec::h264);
        one.profiles = {"Baseline", "Main", "High"};
        one.level = "4.1";
        one.largest = {1920, 1080};
        one.max_fps = 30;
        one.basis = assumed;
    }
    if (reads_any({"mpeg-ps"}) && !knows(Codec::mpeg2)) {
        VideoAbility& one = video_of(d, Codec::mpeg2);
        one.profiles = {"Main"};
        one.largest = {720, 576};
        one.basis = assumed;
    }
    if (reads_any({"webm"}) && !knows(Codec::vp9)) {
        VideoAbility& one = video_of(d, Codec::vp9);
        one.largest = {1920, 1080};
        one.basis = assumed;
    }
    const bool has_aac =
        std::any_of(d.audio.begin(), d.audio.end(), [](const AudioAbility& a) { return a.codec == Codec::aac; });
    if (reads_any({"mp4", "matroska", "mpeg-ts"}) && !has_aac) add_audio(d, Codec::aac, 2, assumed);
    using base::from_seconds;
    d.playing.start_buffer = d.playing.resume_buffer = from_seconds(2);
    d.playing.buffer = d.playing.hls_buffer = from_seconds(10);
    return d;
}

std::string claims_in_words(const std::vector<upnp::ProtocolInfo>& takes) {
    const Device d = from_claims("", takes);
    std::vector<std::string> parts = d.containers;
    bool profiles = false;
    for (const VideoAbility& one : d.video) {
        if (!one.basis.starts_with("claimed")) continue;
        parts.emplace_back(media::display_name(one.codec));
        profiles = true;
    }
    for (const AudioAbility& one : d.audio) {
        if (profiles && one.basis.starts_with("claimed")) parts.emplace_back(media::display_name(one.codec));
    }
    if (parts.empty()) return takes.empty() ? "doesn't say" : "nothing known here";
    return fmt::format("{}", fmt::join(parts, ", "));
}

}  // namespace wavecrest::device
