#include "source/input.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>

#include "base/units.hpp"
#include "container/mp4_reader.hpp"
#include "container/sniff.hpp"
#include "disc/blu_ray_reader.hpp"
#include "disc/dvd_reader.hpp"
#include "source/cut.hpp"

namespace wavecrest::source {
namespace {

// Sets roles, reasons and the main title.
std::vector<disc::Episode> choose(std::vector<Title>& titles) {
    std::vector<disc::TitleShape> shapes;
    for (const Title& title : titles) {
        disc::TitleShape shape;
        shape.number = title.number;
        shape.duration = title.duration;
        shape.segments = title.segments;
        for (const Chapter& chapter : title.chapters) shape.chapters.push_back(chapter.start);
        for (const Track& track : title.tracks) {
            shape.sound_tracks += track.kind == TrackKind::audio ? 1 : 0;
            shape.subtitle_tracks += track.kind == TrackKind::subtitle ? 1 : 0;
        }
        shapes.push_back(std::move(shape));
    }
    disc::Choices choices = disc::choose_titles(shapes);
    for (std::size_t i = 0; i < titles.size(); ++i) {
        titles[i].main = titles[i].number == choices.main;
        titles[i].role = choices.titles[i].role;
        titles[i].why = std::move(choices.titles[i].why);
        titles[i].same_as = choices.titles[i].same_as;
    }
    return std::move(choices.episodes);
}

std::vector<disc::TitleShape::Segment> segments_of(const disc::DvdTitle& title) {
    std::vector<disc::TitleShape::Segment> segments;
    for (const disc::DvdCell& cell : title.cells_of(1)) {
        segments.push_back(
            {fmt::format("set {}, sectors {} to {}", title.title_set, cell.first_sector, cell.last_sector),
             cell.duration, cell.first_sector, std::int64_t{cell.last_sector} + 1});
    }
    return segments;
}

std::vector<disc::TitleShape::Segment> segments_of(const disc::BluRayTitle& title) {
    std::vector<disc::TitleShape::Segment> segments;
    for (const disc::BluRayItem& item : title.items) {
        // Places on the medium: clips in the order of their numbers, and time within.
        const std::int64_t clip = std::stoll(item.clips.front()) << 32;
        const auto clock = [](std::uint32_t time) { return base::format_clock(base::from_ticks(time, 45000)); };
        segments.push_back(
            {fmt::format("clip {}, {} to {}", item.clips.front(), clock(item.in_time), clock(item.out_time)),
             item.duration, clip + item.in_time, clip + item.out_time});
    }
    return segments;
}

// Disc is DvdDisc or BluRayDisc.
template <typename Disc>
class DiscInput : public Input {
  public:
    DiscInput(Disc disc, std::string container) : disc_(std::move(disc)), container_(std::move(container)) {
        for (const auto& from : disc_.titles()) {
            Title title;
            title.number = from.number;
            title.duration = from.duration;
            title.size_bytes = from.size_bytes;
            title.angles = from.angles;
            title.chapters = from.chapters;
            title.segments = segments_of(from);
            title.tracks = from.tracks;
            title.problems = from.problems;
            title.differences = from.differences;
            titles_.push_back(std::move(title));
        }
        episodes_ = choose(titles_);
    }

    std::string path() const override { return disc_.path(); }
    std::string container() const override { return container_; }
    bool is_disc() const override { return true; }
    std::string name_hint() const override { return disc_.label(); }
    const std::vector<Title>& titles() const override { return titles_; }
    const std::vector<disc::Episode>& episodes() const override { return episodes_; }
    const std::vector<std::string>& notes() const override { return disc_.notes(); }
    Status check_protection(int number) const override {
        WAVECREST_TRY_ASSIGN(title, disc_.title(number));
        return disc_.check_protection(*title);
    }
    Result<std::vector<RatePiece>> rate(int number) const override {
        WAVECREST_TRY_ASSIGN(title, disc_.title(number));
        return disc_.rate(*title);
    }
    Result<std::unique_ptr<PacketSource>> open(int number, int angle) const override {
        return disc_.open_title(number, angle);
    }

  private:
    Disc disc_;
    std::string container_;
    std::vector<Title> titles_;
    std::vector<disc::Episode> episodes_;
};

class Mp4Input : public Input {
  public:
    Mp4Input(base::Path path, container::Mp4Movie movie, std::uint64_t size)
        : path_(std::move(path)), movie_(std::move(movie)) {
        Title title;
        title.main = true;
        title.why = "the only title";
        title.duration = movie_.duration;
        title.size_bytes = size;
        title.chapters = movie_.chapters;
        for (const container::Mp4Track& track : movie_.tracks) title.tracks.push_back(track.info);
        if (movie_.missing_bytes > 0) {
            title.problems.push_back({fmt::format("the file is cut short: {} of picture and sound are missing",
                                                  base::format_bytes(movie_.missing_bytes)),
                                      first_missing(size), movie_.duration});
        }
        titles_.push_back(std::move(title));
        if (!movie_.index_in_front)
            notes_.push_back(
                "the index lies behind the pictures: players must fetch the end of the file before they can start");
    }

    std::string path() const override { return path_.string(); }
    std::string container() const override { return "mp4"; }
    bool is_disc() const override { return false; }
    std::string name_hint() const override { return path_.stem().string(); }
    const std::vector<Title>& titles() const override { return titles_; }
    const std::vector<disc::Episode>& episodes() const override { return episodes_; }
    const std::vector<std::string>& notes() const override { return notes_; }
    Status check_protection(int) const override { return {}; }
    Result<std::vector<RatePiece>> rate(int) const override {
        std::vector<RatePiece> pieces;
        for (const container::Mp4Track& track : movie_.tracks) {
            for (const container::Mp4Sample& s : track.samples) pieces.push_back({s.pts, s.pts + s.duration, s.size});
        }
        return pieces;
    }
    Result<std::unique_ptr<PacketSource>> open(int, int) const override {
        WAVECREST_TRY_ASSIGN(file, base::FileSource::open(path_));
        return std::unique_ptr<PacketSource>(
            std::make_unique<container::Mp4Source>(std::make_unique<base::FileSource>(std::move(file)), movie_));
    }

  private:
    Time first_missing(std::uint64_t size) const {
        Time first = movie_.duration;
        for (const container::Mp4Track& track : movie_.tracks) {
            for (const container::Mp4Sample& s : track.samples) {
                if (s.offset + s.size > size) first = std::min(first, std::max(s.pts, Time{}));
            }
        }
        return first;
    }

    base::Path path_;
    container::Mp4Movie movie_;
    std::vector<Title> titles_;
    std::vector<disc::Episode> episodes_;
    std::vector<std::string> notes_;
};

}  // namespace

Result<std::vector<Pick>> Input::picks(const std::string& choice) const {
    std::vector<Pick> picks;
    const auto find = [&](int number) -> const Title* {
        for (const Title& title : titles()) {
            if (title.number == number) return &title;
        }
        return nullptr;
    };
    const auto refuse = [&](std::string what) {
        return fail(ErrorKind::usage, std::move(what), path(),
                    fmt::format("pick main, episodes, all, or numbers from 1 to {} such as 1,3-5; wavecrest inspect "
                                "lists the titles",
                                titles().back().number));
    };
    if (choice == "main") {
        for (const Title& title : titles()) {
            if (title.main) picks.push_back({&title, 0, {}, {}});
        }
        return picks;
    }
    if (choice == "episodes") {
        for (const disc::Episode& episode : episodes()) {
            Pick pick{find(episode.title), static_cast<int>(picks.size() + 1), {}, {}};
            if (episode.first_chapter > 0) {
                pick.start = episode.start;
                pick.end = episode.end;
            }
            picks.push_back(pick);
        }
        if (picks.empty()) return refuse("no episodes were found here");
        return picks;
    }
    if (choice == "all") {
        for (const Title& title : titles()) {
            if (title.role != disc::Role::duplicate && title.role != disc::Role::decoy)
                picks.push_back({&title, 0, {}, {}});
        }
        return picks;
    }
    const char* at = choice.data();
    const char* const end = at + choice.size();
    while (true) {
        int first = 0;
        auto parsed = std::from_chars(at, end, first);
        int last = first;
        if (parsed.ec == std::errc{} && parsed.ptr != end && *parsed.ptr == '-')
            parsed = std::from_chars(parsed.ptr + 1, end, last);
        if (parsed.ec != std::errc{} || last < first || last - first > 999)
            return refuse(fmt::format("\"{}\" picks no title", choice));
        for (int number = first; number <= last; ++number) {
            const Title* title = find(number);
            if (title == nullptr) return refuse(fmt::format("there is no title {}", number));
            const bool known = std::any_of(picks.begin(), picks.end(), [&](const Pick& p) { return p.title == title; });
            if (!known) picks.push_back({title, 0, {}, {}});
        }
        if (parsed.ptr == end) return picks;
        if (*parsed.ptr != ',') return refuse(fmt::format("\"{}\" picks no title", choice));
        at = parsed.ptr + 1;
    }
}

Result<Pick> Input::pick(const std::string& choice) const {
    WAVECREST_TRY_ASSIGN(found, picks(choice));
    if (found.size() == 1) return found.front();
    return fail(ErrorKind::usage, fmt::format("\"{}\" picks {} titles where one is wanted", choice, found.size()),
                path(), "pick one title");
}

Result<std::unique_ptr<PacketSource>> Input::open(const Pick& pick, int angle) const {
    WAVECREST_TRY_ASSIGN(source, open(pick.title->number, angle));
    if (pick.whole()) return source;
    return cut(std::move(source), pick.start, pick.end);
}

namespace {

Result<std::unique_ptr<Input>> open_disc(std::shared_ptr<disc::DiscFiles> files, const char* what) {
    if (disc::DvdDisc::is_dvd(*files)) {
        WAVECREST_TRY_ASSIGN(disc, disc::DvdDisc::open(std::move(files)));
        return std::unique_ptr<Input>(std::make_unique<DiscInput<disc::DvdDisc>>(std::move(disc), "dvd-video"));
    }
    if (disc::BluRayDisc::is_blu_ray(*files)) {
        WAVECREST_TRY_ASSIGN(disc, disc::BluRayDisc::open(std::move(files)));
        return std::unique_ptr<Input>(std::make_unique<DiscInput<disc::BluRayDisc>>(std::move(disc), "blu-ray"));
    }
    return fail(ErrorKind::input, fmt::format("{} holds no DVD-Video and no Blu-ray structure", what), files->path(),
                "name the folder or image of a ripped disc, or a media file");
}

}  // namespace

Result<std::unique_ptr<Input>> open_input(const base::Path& path, const disc::ReadSettings& settings) {
    std::error_code error;
    const auto kind = std::filesystem::status(path, error);
    if (!std::filesystem::exists(kind)) {
        return fail(ErrorKind::input, "there is no such file or folder", path.string(),
                    "check the name and whether the drive or share is mounted");
    }
    if (std::filesystem::is_directory(kind)) return open_disc(disc::folder_files(path, settings), "this folder");
    WAVECREST_TRY_ASSIGN(file, base::FileSource::open(path));
    if (file.size() == 0)
        return fail(ErrorKind::input, "the file is empty", path.string(), "copy or make the file again");
    ByteVector first(static_cast<std::size_t>(std::min<std::uint64_t>(container::kSniffBytes, file.size())));
    WAVECREST_TRY(file.read_at(0, first));
    const std::string_view found = container::sniff(first);
    if (found == "mp4") {
        WAVECREST_TRY_ASSIGN(movie, container::read_mp4(file));
        return std::unique_ptr<Input>(std::make_unique<Mp4Input>(path, std::move(movie), file.size()));
    }
    const char* remedy = "name the folder or image of a ripped disc, or an MP4 file";
    if (!found.empty()) {
        return fail(ErrorKind::input, fmt::format("this is a file of type {}, which can't be read yet", found),
                    path.string(), remedy);
    }
    ByteVector volume(2048);
    constexpr std::uint64_t kVolumeRecognition = 32768;
    const auto got = file.read_at(kVolumeRecognition, volume);
    if (got && *got == volume.size() && disc::looks_like_image(volume)) {
        WAVECREST_TRY_ASSIGN(files, disc::open_image(path, settings));
        return open_disc(std::move(files), "this disc image");
    }
    return fail(ErrorKind::input, "this is no media file this program knows", fmt::format("{}, byte 0", path.string()),
                remedy);
}

}  // namespace wavecrest::source
