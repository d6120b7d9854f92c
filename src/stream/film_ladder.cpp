#include "stream/film_ladder.hpp"

#include <algorithm>

namespace wavecrest::stream {

Result<std::unique_ptr<FilmLadder>> FilmLadder::open(const base::Path& folder) {
    std::error_code error;
    base::Path real = std::filesystem::canonical(folder, error);  // from now on no link on the way is followed
    if (error) real = folder;
    WAVECREST_TRY_ASSIGN(ladder, container::read_ladder(real));
    std::unique_ptr<FilmLadder> made(new FilmLadder(real, std::move(ladder)));
    for (const auto* renditions : {&made->ladder_.video, &made->ladder_.audio}) {
        for (const container::Ladder::Rendition& one : *renditions) {
            const auto size = std::filesystem::file_size(real / one.file_name(), error);
            if (!error) made->size_ += size;
        }
    }
    return made;
}

std::optional<FilmLadder::Answer> FilmLadder::answer(std::string_view name, const std::string& query) const {
    if (auto text = container::text_of(ladder_, name, query))
        return Answer{std::move(*text),
                      {},
                      name == container::kLadderManifest ? "application/dash+xml" : "application/vnd.apple.mpegurl"};
    for (const auto* renditions : {&ladder_.video, &ladder_.audio}) {
        for (const container::Ladder::Rendition& one : *renditions) {
            const char* const type = renditions == &ladder_.video ? "video/mp4" : "audio/mp4";
            if (name == one.file_name()) return Answer{"", folder_ / one.file_name(), type};
            if (name == one.head_name())
                return Answer{std::string(one.file.head.begin(), one.file.head.end()), {}, type};
        }
    }
    for (const container::Ladder::Text& one : ladder_.subtitles) {
        if (name == one.file_name()) return Answer{"", folder_ / one.file_name(), "text/vtt"};
    }
    if (name == "index.html") return Answer{"", folder_ / "index.html", "text/html; charset=utf-8"};
    return std::nullopt;
}

Time FilmLadder::time_at(std::uint64_t file_size, std::uint64_t offset) const {
    for (const auto* renditions : {&ladder_.video, &ladder_.audio}) {
        for (const container::Ladder::Rendition& one : *renditions) {
            const auto& segments = one.file.segments;
            if (segments.empty() || segments.back().range.end() != file_size) continue;
            Time reached{};
            for (const container::CmafFile::Segment& segment : segments) {
                if (segment.range.end() <= offset) reached = segment.from + segment.duration;
            }
            return reached;
        }
    }
    return {};
}

}  // namespace wavecrest::stream
