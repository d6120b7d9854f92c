#include "source/input.hpp"

#include <fmt/format.h>
#include <strings.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <charconv>
#include <functional>
#include <map>

#include "base/address.hpp"
#include "base/byte_source.hpp"
#include "base/units.hpp"
#include "container/ladder.hpp"
#include "container/reader.hpp"
#include "container/sniff.hpp"
#include "disc/blu_ray_reader.hpp"
#include "disc/dvd_reader.hpp"
#include "net/http_source.hpp"
#include "net/live_source.hpp"
#include "source/adaptive_title.hpp"
#include "source/cut.hpp"
#include "source/ladder_input.hpp"
#include "source/share_input.hpp"

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
            shape.audio_tracks += track.kind == TrackKind::audio ? 1 : 0;
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
        std::int64_t clip = 0;
        const std::string& name = item.clips.front();  // five digits by the standard; of a rip, anything
        std::from_chars(name.data(), name.data() + name.size(), clip);
        clip <<= 32;
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

// An address's path with its escapes (RFC 3986, 2.1) undone.
std::string plain_text(const std::string& escaped) {
    std::string text;
    for (std::size_t i = 0; i < escaped.size(); ++i) {
        unsigned value = 0;
        if (escaped[i] == '%' && i + 2 < escaped.size() &&
            std::from_chars(escaped.data() + i + 1, escaped.data() + i + 3, value, 16).ptr == escaped.data() + i + 3 &&
            value >= 32) {
            text += static_cast<char>(value);
            i += 2;
        } else {
            text += escaped[i];
        }
    }
    return text;
}

// A file, or what comes over a pipe or from an address. Each program of a transport stream is a title.
class FileInput : public Input {
  public:
    // Opens the bytes anew, where that can be done.
    using Opener = std::function<Result<std::shared_ptr<base::ByteSource>>()>;

    static Result<std::unique_ptr<Input>> create(std::string path, std::string hint, Opener opener) {
        auto input = std::make_unique<FileInput>();
        input->path_ = std::move(path);
        input->hint_ = std::move(hint);
        input->opener_ = std::move(opener);
        WAVECREST_TRY(input->look());
        return std::unique_ptr<Input>(std::move(input));
    }

    std::string path() const override { return path_; }
    std::string container() const override { return container_; }
    bool is_disc() const override { return false; }
    bool reopens() const override { return seekable_; }
    std::string name_hint() const override { return hint_; }
    const std::vector<Title>& titles() const override { return titles_; }
    const std::vector<disc::Episode>& episodes() const override { return episodes_; }
    const std::vector<std::string>& notes() const override { return notes_; }
    Status check_protection(int) const override { return {}; }
    Result<std::vector<RatePiece>> rate(int number) const override {
        const auto waiting = waiting_.find(number);
        if (waiting != waiting_.end() && waiting->second.rate) {
            auto pieces = waiting->second.rate();
            if (!pieces.empty()) return pieces;
        }
        return fail(ErrorKind::input, "no index: the whole file would have to be read", path_,
                    "wavecrest inspect --deep reads all of it");
    }
    Result<std::unique_ptr<PacketSource>> open(int number, int) const override {
        // What was opened to look at it is used first.
        if (const auto waiting = waiting_.find(number); waiting != waiting_.end() && waiting->second.source) {
            auto source = std::move(waiting->second.source);
            waiting_.erase(waiting);
            return source;
        }
        if (!seekable_) {
            return fail(ErrorKind::input, "piped input can be read only once", path_,
                        "save it to a file and name that");
        }
        WAVECREST_TRY_ASSIGN(bytes, opener_());
        WAVECREST_TRY_ASSIGN(file, container::open_media(std::move(bytes), number_of(number)));
        return std::move(file.source);
    }

  private:
    int number_of(int title) const { return programs_.empty() ? 0 : programs_[static_cast<std::size_t>(title - 1)]; }

    Status look() {
        WAVECREST_TRY_ASSIGN(bytes, opener_());
        seekable_ = bytes->seekable();
        const std::uint64_t size = bytes->size();
        WAVECREST_TRY_ASSIGN(file, container::open_media(bytes, 0));
        container_ = file.container;
        notes_ = file.notes;
        if (seekable_ && file.programs.size() > 1) programs_ = file.programs;
        const std::size_t count = std::max<std::size_t>(programs_.size(), 1);
        for (std::size_t i = 0; i < count; ++i) {
            if (i > 0 || count > 1) {
                WAVECREST_TRY_ASSIGN(again, opener_());
                auto other = container::open_media(std::move(again), programs_[i]);
                if (!other) continue;  // a program of data alone
                file = std::move(*other);
            }
            add_title(static_cast<int>(i) + 1, std::move(file), size == base::kUnknownSize ? 0 : size / count);
        }
        if (titles_.empty()) return fail(ErrorKind::input, "no program has video or audio", path_, "record it again");
        auto main = titles_.begin();
        for (auto t = titles_.begin(); t != titles_.end(); ++t) {
            const auto has_picture = [](const Title& title) {
                return std::any_of(title.tracks.begin(), title.tracks.end(),
                                   [](const Track& track) { return track.kind == TrackKind::video; });
            };
            if (has_picture(*t) && !has_picture(*main)) main = t;
        }
        main->main = true;
        main->why = titles_.size() == 1 ? "the only title" : "the first program with video";
        return {};
    }
    void add_title(int number, container::MediaFile file, std::uint64_t size) {
        Title title;
        title.number = number;
        title.duration = file.source->duration();
        title.size_bytes = size;
        title.chapters = file.source->chapters();
        title.tracks = file.source->tracks();
        title.problems = file.problems;
        title.tags = file.tags;
        if (!programs_.empty()) title.why = file.title.empty() ? "another program" : file.title;
        if (programs_.empty() && !file.title.empty() && !seekable_)
            hint_ = file.title;  // a pipe has no name of its own
        titles_.push_back(std::move(title));
        waiting_.emplace(number, std::move(file));
    }

    std::string path_, hint_, container_;
    Opener opener_;
    bool seekable_ = true;
    std::vector<int> programs_;
    std::vector<Title> titles_;
    std::vector<disc::Episode> episodes_;
    std::vector<std::string> notes_;
    mutable std::map<int, container::MediaFile> waiting_;
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
    const auto whole = [](const Title& title) { return Pick{std::make_shared<const Title>(title), 0, {}, {}}; };
    const auto refuse = [&](std::string what) {
        return fail(
            ErrorKind::usage, std::move(what), path(),
            fmt::format(
                "pick main, episodes, all, or numbers from 1 to {}, e.g. 1,3-5; wavecrest inspect lists the titles",
                titles().back().number));
    };
    if (choice == "main") {
        for (const Title& title : titles()) {
            if (title.main) picks.push_back(whole(title));
        }
        return picks;
    }
    if (choice == "episodes") {
        for (const disc::Episode& episode : episodes()) {
            const Title* title = find(episode.title);
            if (title == nullptr) continue;
            Pick pick = whole(*title);
            pick.episode = static_cast<int>(picks.size() + 1);
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
            if (title.role != disc::Role::duplicate && title.role != disc::Role::fake) picks.push_back(whole(title));
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
            return refuse(fmt::format("invalid title selection \"{}\"", choice));
        for (int number = first; number <= last; ++number) {
            const Title* title = find(number);
            if (title == nullptr) return refuse(fmt::format("there is no title {}", number));
            const bool known =
                std::any_of(picks.begin(), picks.end(), [&](const Pick& p) { return p.title->number == number; });
            if (!known) picks.push_back(whole(*title));
        }
        if (parsed.ptr == end) return picks;
        if (*parsed.ptr != ',') return refuse(fmt::format("invalid title selection \"{}\"", choice));
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
    return fail(ErrorKind::input, fmt::format("{} has no DVD-Video or Blu-ray structure", what), files->path(),
                "name the folder or image of a ripped disc, or a media file");
}

// Whether a file that isn't known by its first bytes is an image of a disc: they begin with empty sectors, nothing a
// file would be told by.
bool is_image(base::ByteSource& file, ByteSpan first) {
    if (!container::sniff(first).empty()) return false;
    ByteVector volume(2048);
    constexpr std::uint64_t kVolumeRecognition = 32768;
    const auto got = file.read_at(kVolumeRecognition, volume);
    return got && *got == volume.size() && disc::looks_like_image(volume);
}

Result<ByteVector> first_bytes(base::ByteSource& file) {
    if (file.size() == 0)
        return fail(ErrorKind::input, "the file is empty", file.name(), "copy or make the file again");
    return base::read_exactly(file, 0,
                              static_cast<std::size_t>(std::min<std::uint64_t>(container::kSniffBytes, file.size())));
}

Result<std::unique_ptr<Input>> open_on_share(const base::Address& from, const disc::ReadSettings& settings) {
    WAVECREST_TRY_ASSIGN(opened, open_share(from, settings.cancel));
    if (opened.entry.folder) {
        // (Segments of a ladder are files that name one another.)
        const std::string list = share::joined(opened.path, std::string(container::kLadderPlaylist));
        const auto playlist = opened.share->look(list);
        if (playlist && !playlist->folder) return open_ladder(opened.share->location().text_of(list));
        return open_disc(share_files(std::move(opened), settings), "this folder");
    }
    if (is_adaptive_name(opened.path)) return open_ladder(opened.share->location().text_of(opened.path));
    WAVECREST_TRY_ASSIGN(file, opened.share->read(opened.path));
    WAVECREST_TRY_ASSIGN(first, first_bytes(*file));
    const auto read = [opened, retries = settings.retries]() -> Result<std::shared_ptr<base::ByteSource>> {
        WAVECREST_TRY_ASSIGN(source, opened.share->read(opened.path));
        return std::shared_ptr<base::ByteSource>(std::make_shared<base::RetryingSource>(std::move(source), retries));
    };
    if (is_image(*file, first)) {
        WAVECREST_TRY_ASSIGN(image, read());
        WAVECREST_TRY_ASSIGN(files, disc::image_files(std::move(image)));
        return open_disc(std::move(files), "this disc image");
    }
    return FileInput::create(from.text(), base::Path(opened.path).stem().string(), read);
}

}  // namespace

Result<std::unique_ptr<Input>> open_input(std::shared_ptr<base::ByteSource> bytes, const std::string& name) {
    return FileInput::create(name, name, [bytes]() -> Result<std::shared_ptr<base::ByteSource>> { return bytes; });
}

Result<Summary> summarize(const base::Address& from) {
    const std::string extension = base::Path(from.text()).extension().string();
    const bool maybe_mp4 = std::ranges::any_of(std::array{".mp4", ".m4v", ".m4a", ".mov"}, [&](const char* one) {
        return ::strcasecmp(extension.c_str(), one) == 0;
    });
    if (maybe_mp4 && (from.is_local() || from.is_share())) {
        std::shared_ptr<base::ByteSource> bytes;
        if (from.is_share()) {
            if (auto remote = open_file(from)) bytes = std::move(*remote);
        } else if (auto file = base::FileSource::open(from.path())) {
            file->expect_few_reads();
            bytes = std::make_shared<base::FileSource>(std::move(*file));
        }
        if (bytes) {
            auto head = container::read_mp4_head(bytes);
            if (head && *head) {
                Summary summary;
                summary.container = std::move((*head)->container);
                summary.title.main = true;
                summary.title.duration = (*head)->duration;
                summary.title.tracks = std::move((*head)->tracks);
                summary.title.tags = std::move((*head)->tags);
                return summary;
            }
        }
    }
    WAVECREST_TRY_ASSIGN(input, open_input(from));
    if (input->titles().empty()) return fail(ErrorKind::input, "nothing to play in it", from.text(), "name a film");
    return Summary{input->container(), input->titles().front()};
}

Result<std::unique_ptr<Input>> open_input(const base::Address& from, const disc::ReadSettings& settings) {
    const std::string& name = from.text();
    if (from.scheme() == base::Scheme::standard_input)
        return open_input(std::make_shared<base::PipeSource>(STDIN_FILENO, "standard input"), "standard input");
    if (from.scheme() == base::Scheme::unknown)
        return fail(ErrorKind::usage, "addresses of this scheme are not supported", name,
                    fmt::format("use one of {}, or a path", base::scheme_names()));
    if (from.is_live()) {
        const std::string hint(from.behind_scheme());
        return FileInput::create(name, hint, [from]() -> Result<std::shared_ptr<base::ByteSource>> {
            WAVECREST_TRY_ASSIGN(source, net::open_live(from));
            return std::shared_ptr<base::ByteSource>(std::move(source));
        });
    }
    if (base::is_web_address(name) && is_adaptive_name(name)) return open_ladder(name);
    if (base::is_web_address(name)) {
        WAVECREST_TRY_ASSIGN(url, net::parse_url(name));
        const std::string hint = base::Path(plain_text(url.target.substr(0, url.target.find('?')))).stem().string();
        return FileInput::create(name, hint.empty() ? url.host : hint,
                                 [url]() -> Result<std::shared_ptr<base::ByteSource>> {
                                     WAVECREST_TRY_ASSIGN(source, net::open_http(url));
                                     return std::shared_ptr<base::ByteSource>(std::move(source));
                                 });
    }
    if (from.is_share()) return open_on_share(from, settings);
    const base::Path path = from.path();
    std::error_code error;
    const auto kind = std::filesystem::status(path, error);
    if (error == std::errc::permission_denied)
        return fail(ErrorKind::machine, "this user may not look into a folder on the way to it", name,
                    "let this user read the folders above it (chmod a+x, or mount the share with other rights)");
    if (!std::filesystem::status_known(kind))
        return fail(ErrorKind::machine, fmt::format("it can't be reached: {}", error.message()), name,
                    "check the drive, or the share it lies on (wavecrest share check)");
    if (!std::filesystem::exists(kind)) {
        return fail(ErrorKind::input, "there is no such file or folder", name,
                    "check the name and whether the drive or share is mounted");
    }
    if (std::filesystem::is_directory(kind)) {
        for (const base::Path& folder : {path, path / "VIDEO_TS", path / "BDMV"}) {
            if (!std::filesystem::is_directory(folder, error) || ::access(folder.c_str(), R_OK | X_OK) == 0) continue;
            return fail(
                ErrorKind::machine, "this user may not read the folder", folder.string(),
                "let this user read it (chmod u+rx, or mount the share with other rights), or run as its owner");
        }
    }
    if (std::filesystem::is_directory(kind)) {
        if (const base::Path ladder = ladder_in(path); !ladder.empty()) return open_ladder(ladder.string());
        if (path.has_filename() ? path.extension() == ".ladder" : path.parent_path().extension() == ".ladder")
            return fail(ErrorKind::input,
                        fmt::format("the ladder's playlist {} is missing", container::kLadderPlaylist), name,
                        "copy the whole folder again, or make it again: wavecrest convert --ladder");
    }
    if (is_adaptive_name(name) && std::filesystem::is_regular_file(kind)) return open_ladder(name);
    if (std::filesystem::is_directory(kind)) return open_disc(disc::folder_files(path, settings), "this folder");
    if (std::filesystem::is_fifo(kind)) {
        return fail(ErrorKind::input, "this is a named pipe", name, "use - as the input, and redirect: < PIPE");
    }
    WAVECREST_TRY_ASSIGN(file, base::FileSource::open(path));
    WAVECREST_TRY_ASSIGN(first, first_bytes(file));
    if (is_image(file, first)) {
        WAVECREST_TRY_ASSIGN(files, disc::open_image(path, settings));
        return open_disc(std::move(files), "this disc image");
    }
    return FileInput::create(
        name, path.stem().string(), [path, retries = settings.retries]() -> Result<std::shared_ptr<base::ByteSource>> {
            WAVECREST_TRY_ASSIGN(source, base::FileSource::open(path));
            std::unique_ptr<base::ByteSource> plain = std::make_unique<base::FileSource>(std::move(source));
            if (retries == 0) return std::shared_ptr<base::ByteSource>(std::move(plain));
            return std::shared_ptr<base::ByteSource>(std::make_shared<base::RetryingSource>(std::move(plain), retries));
        });
}

}  // namespace wavecrest::source
