#include "stream/live_plan.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>

#include "base/units.hpp"
#include "container/writer.hpp"
#include "stream/rtmp_wire.hpp"
#include "stream/text_subtitles.hpp"

namespace wavecrest::stream {

namespace {

// Longest distance of keyframes where a live stream is encoded for HLS.
constexpr std::chrono::seconds kLiveKeyframes{1};

}  // namespace

Result<ReadyPlayout> find_playout(const LiveItem& item) {
    const bool transport = !item.targets.empty() || item.http || item.hls;
    const auto why_not = [&](const Track& track, bool disc) -> std::string {
        if (is_text_subtitle(track)) return item.hls || item.ladder ? "" : "text subtitles are delivered by HLS only";
        if (item.transcode) return item.transcode->uses(track.id) ? "" : "not in the profile";
        if (track.kind == TrackKind::subtitle)
            return "bitmap subtitles are not supported live; a profile burns them in";
        const std::string first = !transport ? ""
                                  : disc     ? container::why_not_codec("mpeg-ts", track)
                                             : container::why_not("mpeg-ts", track);
        // A track goes where it can; RTMP alone decides only where it is the only one.
        return !first.empty() || transport ? first : why_not_rtmp(track);
    };
    WAVECREST_TRY_ASSIGN(playout, prepare_playout(item.parts, why_not));
    const std::int64_t peak = item.transcode ? item.transcode->video_encodes.front().encode.peak_bps : 0;
    if (item.rate_bps > 0 && peak > item.rate_bps)
        return fail(ErrorKind::usage,
                    fmt::format("{} is below the profile's peak of {}", base::format_bitrate(item.rate_bps),
                                base::format_bitrate(peak)),
                    fmt::format("rate of stream \"{}\"", item.name), "raise the rate, or use a smaller profile");
    for (const ReadyPart& part : playout.parts) {
        // Packets, tables and clocks take a twentieth more than what they carry.
        const std::int64_t least = part.mean_bps + part.mean_bps / 20;
        if (item.rate_bps == 0 || item.transcode || item.rate_bps >= least) continue;
        return fail(ErrorKind::usage,
                    fmt::format("{} is too low for {}: average {}", base::format_bitrate(item.rate_bps), part.name,
                                base::format_bitrate(least)),
                    fmt::format("rate of stream \"{}\"", item.name),
                    "set at least 1.5 times that, leave it out, or use a profile of lower bit rate");
    }
    if (item.rtmp && transport && !item.transcode) {
        for (const Track& track : playout.tracks) {
            if (is_text_subtitle(track)) continue;
            const std::string why = why_not_rtmp(track);
            if (why.empty()) continue;
            if (track.kind == TrackKind::video)
                return fail(ErrorKind::input, "its video can't be sent by RTMP: " + why,
                            item.parts.front().source.text(), "name a profile for the stream, or leave RTMP out");
            playout.notes.push_back("RTMP without audio: " + why);
        }
    }
    return playout;
}

// Segments of HLS end at keyframes: the closer these are, the sooner a player has enough of them to begin, and the less
// it lags.
void place_keyframes(LiveItem& item) {
    if (!item.hls || !item.transcode || item.ladder) return;
    Time& distance = item.transcode->video_encodes.front().encode.keyframe_distance;
    distance = distance.count() > 0 ? std::min(distance, Time(kLiveKeyframes)) : Time(kLiveKeyframes);
}

Result<std::vector<ReadyLive>> prepare_live(const std::vector<LiveItem>& items) {
    std::vector<ReadyLive> all;
    std::vector<std::pair<std::string, std::string>> taken;  // address, stream
    for (const LiveItem& item : items) {
        ReadyLive ready;
        ready.item = item;
        place_keyframes(ready.item);
        for (const LiveTarget& target : item.targets) {
            const auto other = std::find_if(taken.begin(), taken.end(),
                                            [&](const auto& entry) { return entry.first == target.to.text; });
            if (other != taken.end()) {
                return fail(ErrorKind::usage,
                            fmt::format("the streams \"{}\" and \"{}\" both go to {}", other->second, item.name,
                                        target.to.text),
                            "streams", "give one of them another address or port");
            }
            taken.emplace_back(target.to.text, item.name);
        }
        if (!item.parts.empty()) {
            WAVECREST_TRY_ASSIGN(playout, find_playout(ready.item));
            ready.playout = std::move(playout);
        }
        all.push_back(std::move(ready));
    }
    return all;
}

}  // namespace wavecrest::stream
