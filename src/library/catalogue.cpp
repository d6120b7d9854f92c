#include "library/catalogue.hpp"

#include <fmt/format.h>
#include <sys/stat.h>

#include <algorithm>
#include <array>
#include <cstdlib>
#include <set>
#include <unordered_map>

#include "base/address.hpp"
#include "base/log.hpp"
#include "base/mutex.hpp"
#include "base/sqlite.hpp"
#include "container/ladder.hpp"
#include "library/names.hpp"
#include "share/share.hpp"
#include "source/input.hpp"
#include "source/share_input.hpp"
#include "upnp/description.hpp"

namespace wavecrest::library {
namespace {

using base::Statement;

// Increased with every change of the tables: an older catalogue is made anew.
constexpr int kVersion = 1;
constexpr const char* kTables = R"(
create table item (
    id integer primary key autoincrement,
    collection text not null, path text not null unique, size integer not null, modified integer not null,
    kind text not null, title text not null, sort text not null, date text not null default '',
    year integer not null default 0, series text not null default '', season integer not null default 0,
    episode integer not null default 0, performer text not null default '', album text not null default '',
    genre text not null default '', track integer not null default 0, container text not null default '',
    duration_ms integer not null default 0, width integer not null default 0, height integer not null default 0,
    channels integer not null default 0, sample_rate integer not null default 0, picture text not null default '',
    subtitles text not null default '', added integer not null, small_of integer not null default 0,
    problem text not null default ''
);
create index item_by_kind on item (kind, sort);
create index item_by_series on item (series, season, episode);
create index item_by_added on item (added);
create index item_by_collection on item (collection, sort);
create index item_by_original on item (small_of);
create index item_by_performer on item (performer);
create index item_by_album on item (album);
create table state (name text primary key, value integer not null);
insert into state values ('update', 1);
)";
constexpr const char* kColumns =
    "select id, collection, path, size, kind, title, date, series, season, episode, performer, album, genre, track, "
    "container, duration_ms, width, height, channels, sample_rate, picture, subtitles, added, small_of from item ";

constexpr std::array<std::string_view, 3> kKinds = {"film", "episode", "music"};

Error sql_error(sqlite3* database, const std::string& file) {
    const bool full = (sqlite3_extended_errcode(database) & 0xFF) == SQLITE_FULL;
    return {ErrorKind::machine,
            fmt::format("the catalogue can't be used: {}", sqlite3_errmsg(database)),
            file,
            full ? "free some space on its disk"
                 : "make it writable for this user, or set XDG_STATE_HOME to a folder that is",
            {}};
}

struct FileState {
    std::int64_t id = 0;
    std::uint64_t size = 0;
    std::int64_t modified = 0;
    bool unreadable = false;
};

// Beside a file, of the same name or of its folder.
base::Path beside(const std::set<std::string>& names, const base::Path& file,
                  std::initializer_list<const char*> extensions, std::initializer_list<const char*> folder_names) {
    const std::string stem = file.stem().string();
    for (const char* extension : extensions) {
        if (names.contains(stem + extension)) return file.parent_path() / (stem + extension);
    }
    for (const char* name : folder_names) {
        for (const char* extension : extensions) {
            if (names.contains(std::string(name) + extension))
                return file.parent_path() / (std::string(name) + extension);
        }
    }
    return {};
}

class SqliteCatalogue : public Catalogue {
  public:
    SqliteCatalogue(sqlite3* database, std::string file) : database_(database), file_(std::move(file)) {}
    ~SqliteCatalogue() override { sqlite3_close(database_); }

    Status prepare() {
        const base::MutexLock lock(mutex_);
        sqlite3_busy_timeout(database_, 10'000);
        // It can be made of the folders at any time: a power cut may cost it, not a wait for the disk at each change.
        WAVECREST_TRY(execute("pragma journal_mode = wal"));
        WAVECREST_TRY(execute("pragma synchronous = normal"));
        WAVECREST_TRY(execute("pragma cache_size = -8000"));
        std::int64_t version = 0;
        {
            Statement asked(database_, "pragma user_version");
            if (asked.step() != SQLITE_ROW) return fail(sql_error(database_, file_));
            version = asked.number(0);
        }
        if (version == kVersion) return {};
        WAVECREST_TRY(execute("begin immediate"));
        WAVECREST_TRY(execute("drop table if exists item"));
        WAVECREST_TRY(execute("drop table if exists state"));
        WAVECREST_TRY(execute(kTables));
        WAVECREST_TRY(execute(fmt::format("pragma user_version = {}", kVersion)));
        return execute("commit");
    }

    Result<ScanResult> scan(const std::vector<Collection>& collections, std::int64_t now,
                            const Cancel& cancel) override {
        Scan scan{collections, now, cancel, known_files(), {}, {}, {}};
        const Status done = scan_all(scan);
        // What was found before it ended early counts, too.
        if (scan.result.any()) {
            const base::MutexLock lock(mutex_);
            WAVECREST_TRY(execute("update state set value = value + 1 where name = 'update'"));
        }
        if (!done) return fail(done.error());
        return scan.result;
    }

    std::uint32_t update_id() override {
        const base::MutexLock lock(mutex_);
        Statement asked(database_, "select value from state where name = 'update'");
        return asked.step() == SQLITE_ROW ? static_cast<std::uint32_t>(asked.number(0)) : 0;
    }

    std::vector<Item> items(const Selection& selection, std::size_t first, std::size_t most) override {
        const base::MutexLock lock(mutex_);
        Statement asked(database_, fmt::format("{} where problem = '' and ({}) order by {} limit ? offset ?", kColumns,
                                               selection.where, selection.order));
        for (const std::string& value : selection.values) asked.bind(value);
        asked.bind(static_cast<std::int64_t>(most)).bind(static_cast<std::int64_t>(first));
        return read_all(asked);
    }
    std::size_t count(const Selection& selection) override {
        const base::MutexLock lock(mutex_);
        Statement asked(database_,
                        fmt::format("select count(*) from item where problem = '' and ({})", selection.where));
        for (const std::string& value : selection.values) asked.bind(value);
        return asked.step() == SQLITE_ROW ? static_cast<std::size_t>(asked.number(0)) : 0;
    }
    std::optional<Item> item(std::int64_t id) override {
        const base::MutexLock lock(mutex_);
        Statement asked(database_, fmt::format("{} where problem = '' and id = ?", kColumns));
        asked.bind(id);
        auto found = read_all(asked);
        return found.empty() ? std::nullopt : std::optional(std::move(found.front()));
    }
    std::vector<Item> small_copies(std::int64_t id) override {
        const base::MutexLock lock(mutex_);
        Statement asked(database_, fmt::format("{} where problem = '' and small_of = ? order by size desc", kColumns));
        asked.bind(id);
        return read_all(asked);
    }
    std::vector<Group> groups(const std::string& column, const Selection& selection) override {
        static const std::set<std::string> kNames = {"series",    "season", "album",     "year",
                                                     "performer", "genre",  "collection"};
        if (!kNames.contains(column)) return {};
        const base::MutexLock lock(mutex_);
        Statement asked(
            database_,
            fmt::format("select {0}, count(*) from item where problem = '' and ({1}) and {0} <> '' and {0} <> 0 "
                        "group by {0} order by lower({0})",
                        column, selection.where));
        for (const std::string& value : selection.values) asked.bind(value);
        std::vector<Group> found;
        while (asked.step() == SQLITE_ROW) found.push_back({asked.text(0), static_cast<std::size_t>(asked.number(1))});
        return found;
    }
    std::vector<Unreadable> unreadable() override {
        const base::MutexLock lock(mutex_);
        Statement asked(database_, "select path, problem from item where problem <> '' order by path");
        std::vector<Unreadable> found;
        while (asked.step() == SQLITE_ROW) found.push_back({asked.text(0), asked.text(1)});
        return found;
    }

  private:
    Status execute(const std::string& text) REQUIRES(mutex_) {
        if (sqlite3_exec(database_, text.c_str(), nullptr, nullptr, nullptr) == SQLITE_OK) return {};
        return fail(sql_error(database_, file_));
    }

    static std::vector<Item> read_all(Statement& row) {
        std::vector<Item> items;
        while (row.step() == SQLITE_ROW) {
            Item i;
            int at = 0;
            const auto text = [&] { return row.text(at++); };
            const auto number = [&] { return row.number(at++); };
            i.id = number();
            i.collection = text();
            i.file = text();
            i.size = static_cast<std::uint64_t>(number());
            const std::string kind = text();
            i.kind = static_cast<Item::Kind>(std::find(kKinds.begin(), kKinds.end(), kind) - kKinds.begin());
            i.title = text();
            i.date = text();
            i.series = text();
            i.season = static_cast<int>(number());
            i.episode = static_cast<int>(number());
            i.performer = text();
            i.album = text();
            i.genre = text();
            i.track = static_cast<int>(number());
            i.container = text();
            i.duration = base::from_ticks(number(), 1000);
            i.width = static_cast<int>(number());
            i.height = static_cast<int>(number());
            i.channels = static_cast<int>(number());
            i.sample_rate = static_cast<int>(number());
            i.picture = text();
            i.subtitles = text();
            i.added = number();
            i.small_of = number();
            items.push_back(std::move(i));
        }
        return items;
    }

    std::unordered_map<std::string, FileState> known_files() {
        const base::MutexLock lock(mutex_);
        std::unordered_map<std::string, FileState> known;
        Statement asked(database_, "select path, id, size, modified, problem <> '' from item");
        while (asked.step() == SQLITE_ROW)
            known[asked.text(0)] = {asked.number(1), static_cast<std::uint64_t>(asked.number(2)), asked.number(3),
                                    asked.number(4) != 0};
        return known;
    }
    std::string collection_of(std::int64_t id) {
        const base::MutexLock lock(mutex_);
        Statement asked(database_, "select collection from item where id = ?");
        asked.bind(id);
        return asked.step() == SQLITE_ROW ? asked.text(0) : "";
    }
    // A file of a collection whose folder is another now is gone, though that folder can't be listed.
    static bool is_elsewhere(const std::vector<Collection>& collections, const std::string& path) {
        return std::none_of(collections.begin(), collections.end(), [&](const Collection& one) {
            return path.starts_with(base::Address(one.folder).is_share() ? address_of(one)
                                                                         : base::absolute_path(one.folder).string());
        });
    }

    struct Scan {
        const std::vector<Collection>& collections;
        std::int64_t now;
        const Cancel& cancel;
        std::unordered_map<std::string, FileState> known;
        std::set<std::string> roots;  // of all collections
        std::set<std::string> seen;   // files
        ScanResult result;
    };
    // Paths of a share are those on it.
    struct Folder {
        const Collection& collection;
        base::Path root, path;
        std::shared_ptr<share::Share> share;
        int depth = 0;

        // As it is told, opened and remembered: a path or an address.
        std::string place(const base::Path& of) const {
            return share ? share->location().text_of(of.string()) : of.string();
        }
    };
    struct Found {
        base::Path path;
        std::uint64_t size = 0;
        std::int64_t modified = 0;  // nanoseconds since 1970
    };
    struct Listed {
        std::vector<Found> files;
        std::vector<base::Path> folders;
        std::set<std::string> names;  // of all
    };

    // One form for each folder of a share; as it is written where it is none.
    static std::string address_of(const Collection& one) {
        const auto location = share::parse_location(base::Address(one.folder));
        return location ? location->text() : one.folder.string();
    }

    Status scan_all(Scan& scan) {
        std::set<std::string> unlisted;  // collections that can't be listed now: their items stay
        for (const Collection& one : scan.collections) {
            std::error_code error;
            const base::Path root = std::filesystem::canonical(one.folder, error);
            if (base::Address(one.folder).is_share()) scan.roots.insert(address_of(one));
            if (!error) scan.roots.insert(root.string());
        }
        for (const Collection& one : scan.collections) {
            const auto not_listed = [&](const std::string& why) {
                unlisted.insert(one.name);
                base::log(base::LogLevel::warning, "collection {}: {} can't be listed{}", one.name, one.folder.string(),
                          why.empty() ? "" : ": " + why);
            };
            if (base::Address(one.folder).is_share()) {
                const auto opened = source::open_share(base::Address(one.folder), &scan.cancel);
                if (!opened) {
                    not_listed(opened.error().what);
                    continue;
                }
                const Status walked = walk(scan, {one, opened->path, opened->path, opened->share});
                if (!walked && walked.error().kind == ErrorKind::interrupted) return walked;
                if (!walked) not_listed(walked.error().what);
                continue;
            }
            std::error_code error;
            const base::Path root = std::filesystem::canonical(one.folder, error);
            if (error || !std::filesystem::is_directory(root, error)) {
                not_listed("");
                continue;
            }
            WAVECREST_TRY(walk(scan, {one, root, root, nullptr}));
        }
        std::set<std::string> changed_folders;
        for (const auto& [path, state] : scan.known) {
            if (scan.seen.contains(path)) continue;
            if (unlisted.contains(collection_of(state.id)) && !is_elsewhere(scan.collections, path)) continue;
            const base::MutexLock lock(mutex_);
            Statement gone(database_, "delete from item where id = ?");
            if (gone.bind(state.id).step() != SQLITE_DONE) return fail(sql_error(database_, file_));
            ++scan.result.removed;
            changed_folders.insert(base::Path(path).parent_path().string());
        }
        for (const std::string& folder : changed_folders) WAVECREST_TRY(mark_small_copies(folder));
        return {};
    }

    // Hidden ones, and what is being written, are left out.
    static Listed list_here(const Folder& in) {
        Listed listed;
        std::error_code error;
        std::filesystem::directory_iterator entry(in.path, std::filesystem::directory_options::skip_permission_denied,
                                                  error);
        for (const std::filesystem::directory_iterator end; !error && entry != end; entry.increment(error)) {
            const std::string name = entry->path().filename().string();
            if (name.empty() || name.front() == '.') continue;
            listed.names.insert(name);
            std::error_code ignored;
            // Links may lead out of the folder, and round in circles: only those to files within it are followed.
            if (entry->is_symlink(ignored)) {
                const base::Path real = std::filesystem::canonical(entry->path(), ignored);
                if (ignored || !real.string().starts_with(in.root.string() + "/")) continue;
                if (!std::filesystem::is_regular_file(real, ignored)) continue;
            } else if (entry->is_directory(ignored)) {
                listed.folders.push_back(entry->path());
                continue;
            }
            struct stat about {};
            if (!is_media(entry->path()) || ::stat(entry->path().c_str(), &about) != 0 || !S_ISREG(about.st_mode))
                continue;
            listed.files.push_back({entry->path(), static_cast<std::uint64_t>(about.st_size),
                                    std::int64_t{about.st_mtim.tv_sec} * 1'000'000'000 + about.st_mtim.tv_nsec});
        }
        return listed;
    }
    static Result<Listed> list_there(const Folder& in) {
        auto entries = in.share->list(in.path.string());
        // (A folder within that this account may not see is left out, as one here.)
        if (!entries && in.depth > 0 && entries.error().kind == ErrorKind::input) return Listed{};
        if (!entries) return fail(std::move(entries).error());
        Listed listed;
        for (const share::Entry& one : *entries) {
            if (one.name.empty() || one.name.front() == '.') continue;
            listed.names.insert(one.name);
            const base::Path path = share::joined(in.path.string(), one.name);
            if (one.folder) listed.folders.push_back(path);
            if (!one.folder && is_media(path)) listed.files.push_back({path, one.size, one.modified_ns});
        }
        return listed;
    }

    Status walk(Scan& scan, const Folder& in) {
        constexpr int kDeepest = 16;
        if (in.depth > kDeepest) return {};
        Listed listed;
        if (in.share) {
            WAVECREST_TRY_ASSIGN(there, list_there(in));
            listed = std::move(there);
        } else {
            listed = list_here(in);
        }
        // The tracks of a ladder are no films of their own.
        if (listed.names.contains(std::string(container::kLadderPlaylist))) listed.files.clear();
        std::sort(listed.files.begin(), listed.files.end(),
                  [](const Found& a, const Found& b) { return a.path < b.path; });
        std::sort(listed.folders.begin(), listed.folders.end());
        bool changed = false;
        for (const Found& file : listed.files) {
            if (scan.cancel.requested()) return base::interrupted();
            WAVECREST_TRY_ASSIGN(taken, look_at(scan, in, file, listed.names));
            changed = changed || taken;
        }
        if (changed) WAVECREST_TRY(mark_small_copies(in.place(in.path)));
        for (const base::Path& one : listed.folders) {
            if (!scan.roots.contains(in.place(one)))
                WAVECREST_TRY(walk(scan, {in.collection, in.root, one, in.share, in.depth + 1}));
        }
        return {};
    }

    // Whether it is new or changed.
    Result<bool> look_at(Scan& scan, const Folder& in, const Found& file, const std::set<std::string>& names) {
        const std::string place = in.place(file.path);
        scan.seen.insert(place);
        ++scan.result.files;
        FileState now;
        now.size = file.size;
        now.modified = file.modified;
        if (const auto before = scan.known.find(place); before != scan.known.end()) {
            if (before->second.size == now.size && before->second.modified == now.modified) {
                scan.result.unreadable += before->second.unreadable ? 1 : 0;
                return false;
            }
            now.id = before->second.id;
        }
        WAVECREST_TRY(take(scan, in, file.path, now, names));
        return true;
    }

    Status take(Scan& scan, const Folder& in, const base::Path& file, const FileState& state,
                const std::set<std::string>& names) {
        const NamedAs named = named_as(in.root.empty() ? file : file.lexically_relative(in.root));
        Item item;
        std::string problem;
        const auto input = source::summarize(base::Address(in.place(file)));
        if (!input) {
            problem = input.error().what;
            ++scan.result.unreadable;
        }
        bool video = false;
        int year = named.year;
        item.title = named.title;
        if (problem.empty()) {
            const source::Title& title = input->title;
            item.container = input->container;
            item.duration = title.duration;
            for (const Track& track : title.tracks) {
                if (track.kind == TrackKind::video && item.width == 0) {
                    video = true;
                    item.width = track.width;
                    item.height = track.height;
                }
                if (track.kind == TrackKind::audio && item.channels == 0) {
                    item.channels = track.channels;
                    item.sample_rate = track.sample_rate;
                }
            }
            const media::Tags& tags = title.tags;
            item.performer = tags.performer;
            item.album = tags.album;
            item.genre = tags.genre;
            item.track = tags.number;
            item.date = tags.date;
            if (!tags.title.empty() && !video) item.title = tags.title;
        }
        item.kind = !video && problem.empty() ? Item::Kind::music
                    : !named.series.empty()   ? Item::Kind::episode
                                              : Item::Kind::film;
        if (item.kind == Item::Kind::music) {
            if (item.performer.empty()) item.performer = named.performer;
            if (item.album.empty()) item.album = named.album;
            if (item.track == 0) item.track = named.track;
            if (item.title == named.title && !named.track_title.empty()) item.title = named.track_title;
        } else {
            item.series = named.series;
            item.season = named.season;
            item.episode = named.episode;
        }
        // A film's year stands in its name because somebody put it there; of music, what its tags say counts more.
        if (year > 0 && (item.date.empty() || item.kind != Item::Kind::music)) item.date = fmt::format("{}", year);
        if (year == 0 || item.kind == Item::Kind::music) year = std::atoi(item.date.substr(0, 4).c_str());
        item.picture = beside(names, file, {".jpg", ".jpeg", ".png"},
                              in.path == in.root ? std::initializer_list<const char*>{}
                                                 : std::initializer_list<const char*>{"poster", "cover", "folder"});
        if (!item.picture.empty()) item.picture = in.place(item.picture);
        item.subtitles = beside(names, file, {".srt", ".vtt"}, {});
        if (!item.subtitles.empty()) item.subtitles = in.place(item.subtitles);

        const base::MutexLock lock(mutex_);
        Statement put(
            database_,
            state.id == 0
                ? "insert into item (collection, path, size, modified, kind, title, sort, date, year, series, season, "
                  "episode, performer, album, genre, track, container, duration_ms, width, height, channels, "
                  "sample_rate, picture, subtitles, problem, added) values (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, "
                  "?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)"
                : "update item set collection = ?, path = ?, size = ?, modified = ?, kind = ?, title = ?, sort = ?, "
                  "date = ?, year = ?, series = ?, season = ?, episode = ?, performer = ?, album = ?, genre = ?, "
                  "track = ?, container = ?, duration_ms = ?, width = ?, height = ?, channels = ?, sample_rate = ?, "
                  "picture = ?, subtitles = ?, problem = ? where id = ?");
        put.bind(in.collection.name)
            .bind(in.place(file))
            .bind(static_cast<std::int64_t>(state.size))
            .bind(state.modified);
        put.bind(std::string(short_name(item.kind))).bind(item.title).bind(sorting(item.title)).bind(item.date);
        put.bind(std::int64_t{year}).bind(item.series).bind(std::int64_t{item.season}).bind(std::int64_t{item.episode});
        put.bind(item.performer).bind(item.album).bind(item.genre).bind(std::int64_t{item.track}).bind(item.container);
        put.bind(base::to_ticks(item.duration, 1000)).bind(std::int64_t{item.width}).bind(std::int64_t{item.height});
        put.bind(std::int64_t{item.channels}).bind(std::int64_t{item.sample_rate}).bind(item.picture.string());
        put.bind(item.subtitles.string()).bind(problem).bind(state.id == 0 ? scan.now : state.id);
        if (put.step() != SQLITE_DONE) return fail(sql_error(database_, file_));
        ++(state.id == 0 ? scan.result.added : scan.result.changed);
        return {};
    }

    // "Film (2019) - tablet.mp4" beside "Film (2019).mp4", of the same length, is a copy of it.
    Status mark_small_copies(const std::string& folder) {
        const base::MutexLock lock(mutex_);
        struct One {
            std::int64_t id, duration_ms;
            std::string stem;
        };
        std::vector<One> all;
        {
            Statement asked(database_,
                            "select id, duration_ms, path from item where problem = '' and path >= ? and path < ?");
            asked.bind(folder + "/").bind(folder + "0");  // "0" follows "/"
            while (asked.step() == SQLITE_ROW) {
                const base::Path path = asked.text(2);
                if (path.parent_path() == base::Path(folder))
                    all.push_back({asked.number(0), asked.number(1), path.stem().string()});
            }
        }
        std::unordered_map<std::string, const One*> by_stem;
        for (const One& one : all) by_stem.emplace(one.stem, &one);
        for (const One& one : all) {
            std::int64_t of = 0;
            for (std::size_t at = one.stem.rfind(" - "); at != std::string::npos && at > 0 && of == 0;
                 at = one.stem.rfind(" - ", at - 1)) {
                const auto original = by_stem.find(one.stem.substr(0, at));
                if (original != by_stem.end() && std::abs(original->second->duration_ms - one.duration_ms) <= 2000)
                    of = original->second->id;
            }
            Statement put(database_, "update item set small_of = ? where id = ?");
            if (put.bind(of).bind(one.id).step() != SQLITE_DONE) return fail(sql_error(database_, file_));
        }
        return {};
    }

    base::Mutex mutex_;
    sqlite3* database_;
    std::string file_;
};

}  // namespace

std::string_view short_name(Item::Kind kind) {
    return kKinds[static_cast<std::size_t>(kind)];
}

base::Path Catalogue::usual_place(const base::Path& site_file) {
    const std::string name = upnp::udn_from(base::absolute_path(site_file).string());
    return base::state_folder() / fmt::format("library-{}.db", name.substr(5, 8));
}

Result<std::unique_ptr<Catalogue>> Catalogue::open(const base::Path& file) {
    std::error_code error;
    std::filesystem::create_directories(file.parent_path(), error);
    for (const bool again : {false, true}) {
        sqlite3* database = nullptr;
        const int opened = sqlite3_open_v2(file.c_str(), &database,
                                           SQLITE_OPEN_READWRITE | SQLITE_OPEN_CREATE | SQLITE_OPEN_NOMUTEX, nullptr);
        auto catalogue = std::make_unique<SqliteCatalogue>(database, file.string());
        if (opened != SQLITE_OK) return fail(sql_error(database, file.string()));
        const Status ready = catalogue->prepare();
        if (ready) return std::unique_ptr<Catalogue>(std::move(catalogue));
        const int code = sqlite3_errcode(database);
        if (again || (code != SQLITE_CORRUPT && code != SQLITE_NOTADB)) return fail(ready.error());
        catalogue.reset();
        for (const char* end : {"", "-wal", "-shm"}) std::filesystem::remove(file.string() + end, error);
    }
    return fail(ErrorKind::machine, "the catalogue can't be used", file.string(), "remove it");
}

}  // namespace wavecrest::library
