#include "stream/film_ladder.hpp"

#include <algorithm>

#include "source/share_input.hpp"

namespace wavecrest::stream {

namespace {

// On a share it goes over a connection that is closed afterwards: those who fetch its files have their own.
Result<container::OpenBeside> open_beside(const base::Address& folder) {
    if (!folder.is_share()) return container::open_in(folder.path());
    WAVECREST_TRY_ASSIGN(opened, source::open_share(folder, nullptr));
    return [opened](const std::string& name) { return opened.share->read(share::joined(opened.path, name)); };
}

}  // namespace

base::Address FilmLadder::file(const std::string& name) const {
    if (!folder_.is_share()) return base::Address(folder_.path() / name);
    const std::string& text = folder_.text();
    return base::Address(text + (text.ends_with('/') ? "" : "/") + name);
}

Result<std::unique_ptr<FilmLadder>> FilmLadder::open(const base::Address& folder) {
    base::Address real = folder;
    if (!folder.is_share()) {
        std::error_code error;
        const base::Path path = std::filesystem::canonical(folder.path(), error);
        if (!error) real = base::Address(path);  // from now on no link on the way is followed
    }
    WAVECREST_TRY_ASSIGN(open, open_beside(real));
    WAVECREST_TRY_ASSIGN(ladder, container::read_ladder(open, real.text()));
    std::unique_ptr<FilmLadder> made(new FilmLadder(std::move(real), std::move(ladder)));
    for (const auto* renditions : {&made->ladder_.video, &made->ladder_.audio}) {
        for (const container::Ladder::Rendition& one : *renditions)
            made->size_ += one.file.segments.empty() ? 0 : one.file.segments.back().range.end();
    }
    return made;
}

std::optional<FilmLadder::Answer> FilmLadder::answer(std::string_view name, const std::string& query) const {
    if (auto text = container::text_of(ladder_, name, query))
        return Answer{std::move(*text), std::nullopt,
                      name == container::kLadderManifest ? "application/dash+xml" : "application/vnd.apple.mpegurl"};
    for (const auto* renditions : {&ladder_.video, &ladder_.audio}) {
        for (const container::Ladder::Rendition& one : *renditions) {
            const char* const type = renditions == &ladder_.video ? "video/mp4" : "audio/mp4";
            if (name == one.file_name()) return Answer{"", file(one.file_name()), type};
            if (name == one.head_name())
                return Answer{std::string(one.file.head.begin(), one.file.head.end()), std::nullopt, type};
        }
    }
    for (const container::Ladder::Text& one : ladder_.subtitles) {
        if (name == one.file_name()) return Answer{"", file(one.file_name()), "text/vtt"};
    }
    if (name == "index.html") return Answer{"", file("index.html"), "text/html; charset=utf-8"};
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
