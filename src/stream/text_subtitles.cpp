#include "stream/text_subtitles.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "media/language.hpp"

namespace wavecrest::stream {

bool is_text_subtitle(const Track& track) {
    return track.kind == TrackKind::subtitle && track.codec == Codec::text;
}

Bytes cues_between(const std::vector<Packet>& cues, Time from, Time to, container::SegmentClock clock) {
    std::vector<Packet> shown;
    for (const Packet& cue : cues) {
        if (cue.pts < to && cue.pts + cue.duration > from) shown.push_back(cue);
    }
    std::stable_sort(shown.begin(), shown.end(), [](const Packet& a, const Packet& b) { return a.pts < b.pts; });
    const std::string text = container::write_web_vtt_segment(shown, from, clock);
    const ByteSpan bytes = base::as_bytes(text);
    return Bytes(ByteVector(bytes.begin(), bytes.end()));
}

void forget_cues(std::vector<Packet>& cues, Time until) {
    std::erase_if(cues, [&](const Packet& cue) { return cue.pts + cue.duration <= until; });
}

void add_rendition(container::MediaPlaylist& list, const Track& track, std::string uri) {
    container::MediaPlaylist::Subtitles one;
    one.uri = std::move(uri);
    one.language = media::language_tag(track.language);
    one.name = !track.name.empty()    ? track.name
               : one.language.empty() ? "Subtitles"
                                      : media::language_name(track.language);
    if (track.name.empty() && track.forced) one.name += ", forced";
    if (track.name.empty() && track.purpose == Purpose::captions) one.name += ", captions";
    one.forced = track.forced;
    one.captions = track.purpose == Purpose::captions;
    // 4.2: a quoted string holds neither quotes nor line ends.
    std::erase_if(one.name, [](char c) { return c == '"' || c == '\n' || c == '\r'; });
    const auto taken = [&](const std::string& name) {
        return std::any_of(list.subtitles.begin(), list.subtitles.end(), [&](const auto& s) { return s.name == name; });
    };
    const std::string name = one.name;
    for (int n = 2; taken(one.name); ++n) one.name = fmt::format("{} {}", name, n);
    list.subtitles.push_back(std::move(one));
}

}  // namespace wavecrest::stream
