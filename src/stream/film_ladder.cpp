#include "stream/film_ladder.hpp"

#include <algorithm>

#include "source/share_input.hpp"

namespace wavecrest::stream {

namespace {

// Looking takes a connection, which takes longer than the answer to a playlist that waits for it.
constexpr std::chrono::seconds kLookAtShare{5};

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
    std::unique_ptr<FilmLadder> made(new FilmLadder(std::move(real)));
    WAVECREST_TRY(made->look_again());
    return made;
}

FilmLadder::Ladder FilmLadder::now() const {
    const base::MutexLock lock(mutex_);
    return ladder_;
}

Result<FileVersion> FilmLadder::version_of_playlist() const {
    return version_of(file(std::string(container::kLadderPlaylist)));
}

Result<FileVersion> FilmLadder::version_of_media(const container::Ladder& ladder) const {
    const auto& renditions = ladder.video.empty() ? ladder.audio : ladder.video;
    return renditions.empty() ? FileVersion{} : version_of(file(renditions.front().file_name()));
}

Status FilmLadder::look_again() {
    const base::MutexLock looking(looking_);
    const Ladder known = now();
    const auto at = std::chrono::steady_clock::now();
    if (known && folder_.is_share() && at - looked_at_ < kLookAtShare) return {};
    // From before it is read: what is exchanged meanwhile is noticed the next time.
    const auto playlist = version_of_playlist();
    if (known && playlist && *playlist == playlist_) {
        const auto media = version_of_media(*known);
        if (media && *media == media_) {
            looked_at_ = at;
            return {};
        }
    }
    WAVECREST_TRY_ASSIGN(open, open_beside(folder_));
    WAVECREST_TRY_ASSIGN(read, container::read_ladder(open, folder_.text()));
    WAVECREST_TRY_ASSIGN(media, version_of_media(read));
    playlist_ = playlist ? *playlist : FileVersion{};
    media_ = media;
    looked_at_ = at;
    const base::MutexLock lock(mutex_);
    ladder_ = std::make_shared<const container::Ladder>(std::move(read));
    return {};
}

std::uint64_t FilmLadder::size_bytes() const {
    const Ladder ladder = now();
    std::uint64_t size = 0;
    for (const auto* renditions : {&ladder->video, &ladder->audio}) {
        for (const container::Ladder::Rendition& one : *renditions)
            size += one.file.segments.empty() ? 0 : one.file.segments.back().range.end();
    }
    return size;
}

std::optional<FilmLadder::Answer> FilmLadder::answer(std::string_view name, const std::string& query) const {
    const Ladder ladder = now();
    if (auto text = container::text_of(*ladder, name, query))
        return Answer{std::move(*text), std::nullopt,
                      name == container::kLadderManifest ? "application/dash+xml" : "application/vnd.apple.mpegurl"};
    for (const auto* renditions : {&ladder->video, &ladder->audio}) {
        for (const container::Ladder::Rendition& one : *renditions) {
            const char* const type = renditions == &ladder->video ? "video/mp4" : "audio/mp4";
            if (name == one.file_name()) return Answer{"", file(one.file_name()), type};
            if (name == one.head_name())
                return Answer{std::string(one.file.head.begin(), one.file.head.end()), std::nullopt, type};
        }
    }
    for (const container::Ladder::Text& one : ladder->subtitles) {
        if (name == one.file_name()) return Answer{"", file(one.file_name()), "text/vtt"};
    }
    if (name == "index.html") return Answer{"", file("index.html"), "text/html; charset=utf-8"};
    return std::nullopt;
}

Time FilmLadder::time_at(std::uint64_t file_size, std::uint64_t offset) const {
    const Ladder ladder = now();
    for (const auto* renditions : {&ladder->video, &ladder->audio}) {
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
