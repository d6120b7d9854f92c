#include "verify/text_subtitles.hpp"

#include <fmt/format.h>

#include "base/byte_source.hpp"
#include "container/reader.hpp"
#include "verify/checks.hpp"

namespace wavecrest::verify {

using device::Verdict;

TextSubtitles::TextSubtitles(const std::vector<container::MediaPlaylist::Subtitles>& listed, const std::string& base,
                             Fetch fetch)
    : fetch_(std::move(fetch)) {
    for (const auto& one : listed)
        renditions_.push_back({one, net::resolve_uri(base, one.uri), {}, false, 0, {}, {}, ""});
}

void TextSubtitles::follow(Time until) {
    for (Rendition& rendition : renditions_) {
        if (rendition.problem.empty()) follow(rendition, until);
    }
}

void TextSubtitles::follow(Rendition& rendition, Time until) {
    if (!rendition.begun) {
        rendition.begun = true;
        const auto text = fetch_(rendition.address);
        auto playlist = text ? container::parse_playlist(*text, rendition.address)
                             : Result<container::MediaPlaylist>(fail(text.error()));
        if (!playlist) {
            rendition.problem = playlist.error().what;
            return;
        }
        rendition.playlist = std::move(*playlist);
    }
    while (rendition.next < rendition.playlist.segments.size() && rendition.reached < until) {
        const auto& segment = rendition.playlist.segments[rendition.next++];
        rendition.reached += segment.duration;
        const auto text = fetch_(net::resolve_uri(rendition.address, segment.uri));
        if (!text || !text->starts_with("WEBVTT")) {
            rendition.problem = text ? "a segment of it isn't WebVTT" : text.error().what;
            return;
        }
        const ByteSpan bytes = base::as_bytes(*text);
        const auto media = container::open_media(
            std::make_shared<base::MemorySource>(ByteVector(bytes.begin(), bytes.end()), segment.uri));
        if (!media) continue;  // nothing is said in it
        while (true) {
            const auto cue = media->source->read();
            if (!cue || !*cue) break;
            const ByteSpan words = (*cue)->data.view();
            rendition.cues.insert(fmt::format("{} {} {}", (*cue)->pts.count(), (*cue)->duration.count(),
                                              std::string(words.begin(), words.end())));
        }
    }
}

void TextSubtitles::conclude(Verification& v) const {
    if (renditions_.empty()) return;
    std::string found, problem;
    for (const Rendition& rendition : renditions_) {
        found += fmt::format("{}{}: {}", found.empty() ? "" : "; ", rendition.listed.name,
                             rendition.problem.empty() ? fmt::format("{} cues", rendition.cues.size()) : "not there");
        if (problem.empty() && !rendition.problem.empty())
            problem = fmt::format("{}: {}", rendition.listed.name, rendition.problem);
    }
    add(v, "subtitles", problem.empty() ? Verdict::pass : Verdict::warn, found, "all listed",
        problem.empty() ? "" : problem + ": players list it but show nothing");
}

}  // namespace wavecrest::verify
