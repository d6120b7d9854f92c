#include "source/input.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>

#include "base/units.hpp"
#include "container/mp4_reader.hpp"
#include "container/sniff.hpp"
#include "disc/dvd_reader.hpp"

namespace wavecrest::source {
namespace {

class DvdInput : public Input {
  public:
    explicit DvdInput(disc::DvdDisc disc) : disc_(std::move(disc)) {
        for (const disc::DvdTitle& from : disc_.titles()) {
            Title title;
            title.number = from.number;
            title.duration = from.duration;
            title.size_bytes = from.size_bytes;
            title.chapters = from.chapters;
            title.tracks = from.tracks;
            title.problems = from.problems;
            titles_.push_back(std::move(title));
        }
        choose_main();
    }

    std::string path() const override { return disc_.path(); }
    std::string container() const override { return "dvd-video"; }
    bool is_disc() const override { return true; }
    std::string name_hint() const override { return disc_.label(); }
    const std::vector<Title>& titles() const override { return titles_; }
    const std::vector<std::string>& notes() const override { return disc_.notes(); }
    Status check_protection(int number) const override {
        WAVECREST_TRY_ASSIGN(title, disc_.title(number));
        return disc_.check_protection(*title);
    }
    Result<std::vector<RatePiece>> rate(int number) const override {
        WAVECREST_TRY_ASSIGN(title, disc_.title(number));
        return disc_.rate(*title);
    }
    Result<std::unique_ptr<PacketSource>> open(int number) const override { return disc_.open_title(number); }

  private:
    // The film is the longest title; of equally long ones the first.
    void choose_main() {
        const auto longest = std::max_element(titles_.begin(), titles_.end(),
                                              [](const Title& a, const Title& b) { return a.duration < b.duration; });
        Time second{};
        for (const Title& title : titles_) {
            if (&title != &*longest) second = std::max(second, title.duration);
        }
        longest->main = true;
        longest->why = titles_.size() == 1
                           ? "the only title"
                           : fmt::format("the longest title; the next longest lasts {}", base::format_clock(second));
        for (Title& title : titles_) {
            if (!title.main) title.why = fmt::format("shorter than title {}", longest->number);
        }
    }

    disc::DvdDisc disc_;
    std::vector<Title> titles_;
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
    const std::vector<std::string>& notes() const override { return notes_; }
    Status check_protection(int) const override { return {}; }
    Result<std::vector<RatePiece>> rate(int) const override {
        std::vector<RatePiece> pieces;
        for (const container::Mp4Track& track : movie_.tracks) {
            for (const container::Mp4Sample& s : track.samples) pieces.push_back({s.pts, s.pts + s.duration, s.size});
        }
        return pieces;
    }
    Result<std::unique_ptr<PacketSource>> open(int) const override {
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
    std::vector<std::string> notes_;
};

}  // namespace

Result<const Title*> Input::pick(const std::string& choice) const {
    int number = 0;
    const auto [rest, error] = std::from_chars(choice.data(), choice.data() + choice.size(), number);
    const bool is_number = error == std::errc{} && rest == choice.data() + choice.size();
    for (const Title& title : titles()) {
        if (is_number ? title.number == number : choice == "main" && title.main) return &title;
    }
    return fail(
        ErrorKind::usage,
        is_number ? fmt::format("there is no title {}", number) : fmt::format("\"{}\" picks no title", choice), path(),
        fmt::format("pick \"main\" or a number from 1 to {}; wavecrest inspect lists the titles", titles().size()));
}

Result<std::unique_ptr<Input>> open_input(const base::Path& path) {
    std::error_code error;
    const auto kind = std::filesystem::status(path, error);
    if (!std::filesystem::exists(kind)) {
        return fail(ErrorKind::input, "there is no such file or folder", path.string(),
                    "check the name and whether the drive or share is mounted");
    }
    if (std::filesystem::is_directory(kind)) {
        auto files = disc::folder_files(path);
        if (disc::DvdDisc::is_dvd(*files)) {
            WAVECREST_TRY_ASSIGN(disc, disc::DvdDisc::open(std::move(files)));
            return std::unique_ptr<Input>(std::make_unique<DvdInput>(std::move(disc)));
        }
        return fail(ErrorKind::input, "this folder holds no DVD-Video structure", path.string(),
                    "name the folder that contains VIDEO_TS, or a media file");
    }
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
    if (found.empty())
        return fail(ErrorKind::input, "this is no media file this program knows",
                    fmt::format("{}, byte 0", path.string()), "name the folder of a ripped DVD or an MP4 file");
    return fail(ErrorKind::input, fmt::format("this is a file of type {}, which can't be read yet", found),
                path.string(), "name the folder of a ripped DVD or an MP4 file");
}

}  // namespace wavecrest::source
