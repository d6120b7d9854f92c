#include "convert/profile_check.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "codec/video_encoder.hpp"

namespace wavecrest::convert {
namespace {

// The line of a key in the text; 0 where it isn't written.
int line_of(std::string_view text, const std::string& name) {
    const std::size_t dot = name.find('.');
    const std::string table = dot == std::string::npos ? "" : name.substr(0, dot);
    const std::string key = dot == std::string::npos ? name : name.substr(dot + 1);
    std::string now;
    int line = 0;
    for (std::size_t at = 0; at <= text.size();) {
        const std::size_t end = std::min(text.find('\n', at), text.size());
        std::string_view rest = text.substr(at, end - at);
        at = end + 1;
        ++line;
        rest.remove_prefix(std::min(rest.find_first_not_of(' '), rest.size()));
        if (rest.starts_with('[')) {
            rest.remove_prefix(std::min(rest.find_first_not_of('['), rest.size()));
            now = std::string(rest.substr(0, rest.find(']')));
            continue;
        }
        const std::size_t equals = rest.find('=');
        if (now != table || equals == std::string_view::npos || rest.starts_with('#')) continue;
        std::string_view word = rest.substr(0, equals);
        word = word.substr(0, word.find(' '));
        if (word == key) return line;
    }
    return 0;
}

const char* key_of(const std::string& check) {
    static constexpr std::pair<const char*, const char*> kKeys[] = {
        {"container", "container"},       {"video codec", "video.codec"},   {"codec profile", "video.profile"},
        {"level", "video.level"},         {"video size", "video.max_size"}, {"frame rate", "video.frame_rate"},
        {"bit depth", "video.bit_depth"}, {"audio", "audio.codec"},         {"max bit rate", "video.peak_bitrate"}};
    for (const auto& [name, key] : kKeys) {
        if (check == name) return key;
    }
    return "video.codec";
}

device::Check unknown(std::string name, std::string why) {
    return {std::move(name), device::Verdict::warn, "depends on the source", "", std::move(why)};
}

}  // namespace

Result<std::vector<DeviceFinding>> check_for(const profile::Profile& profile, std::string_view text,
                                             const device::Device& device) {
    std::vector<Track> tracks;
    std::vector<device::Check> checks;
    if (profile.video.what == profile::VideoSettings::What::encode) {
        codec::VideoEncoderSettings settings;
        settings.codec = profile.video.codec;
        settings.width = profile.video.largest.width / 2 * 2;
        settings.height = profile.video.largest.height / 2 * 2;
        settings.profile = profile.video.profile;
        settings.level = profile.video.level;
        settings.bit_depth = profile.video.bit_depth;
        settings.effort = profile.video.effort;
        settings.quality = profile.video.quality;
        settings.peak_bps = profile.video.peak_bps;
        settings.buffer = profile.video.buffer;
        WAVECREST_TRY_ASSIGN(encoder, codec::make_video_encoder(settings));
        tracks.push_back(encoder->track());
    } else if (profile.video.what == profile::VideoSettings::What::keep) {
        checks.push_back(unknown("video codec", "video that is kept is what the source has"));
    }
    bool kept_audio = false;
    for (const profile::AudioSettings& one : profile.audio) {
        Track track;
        track.kind = TrackKind::audio;
        track.codec = one.codec;
        track.channels = one.channels > 0 ? one.channels : 6;
        kept_audio = kept_audio || one.keep;
        if (!one.keep) tracks.push_back(std::move(track));
    }
    const std::vector<device::Check> judged = device::judge(device, profile.container, tracks, profile.peak_bps());
    checks.insert(checks.end(), judged.begin(), judged.end());
    const bool heard = std::any_of(judged.begin(), judged.end(), [](const device::Check& check) {
        return check.name == "audio" && check.verdict == device::Verdict::pass;
    });
    if (kept_audio && !heard) {
        std::erase_if(checks, [](const device::Check& check) { return check.name == "audio"; });
        checks.push_back(
            unknown("audio", "audio that is kept is what the source has: add a kind that the device plays"));
    }
    if (device.highest_bps > 0 && profile.has_video() && profile.peak_bps() == 0) {
        std::erase_if(checks, [](const device::Check& check) { return check.name == "max bit rate"; });
        checks.push_back({"max bit rate", device::Verdict::warn, "no limit", base::format_bitrate(device.highest_bps),
                          fmt::format("set peak_bitrate to at most \"{}\"", base::format_bitrate(device.highest_bps))});
    }
    std::vector<DeviceFinding> findings;
    for (device::Check& check : checks) {
        DeviceFinding finding;
        finding.key = key_of(check.name);
        finding.line = line_of(text, finding.key);
        // What to do is another thing for a profile than for a file.
        if (check.verdict == device::Verdict::fail)
            check.why = fmt::format("{} is not supported; the device takes {}", check.measured, check.limit);
        finding.check = std::move(check);
        findings.push_back(std::move(finding));
    }
    return findings;
}

}  // namespace wavecrest::convert
