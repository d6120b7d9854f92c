// What a house has to play: the media files of its folders, kept in a small database (SQLite 3) on a local disk, so
// that twenty thousand of them are told in milliseconds after a start. It is only ever made of the folders: deleting it
// loses nothing.
//
// One program scans; several may read. All calls may come from any thread.
#pragma once

#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "base/cancel.hpp"
#include "base/file.hpp"
#include "base/result.hpp"
#include "base/time.hpp"

namespace wavecrest::library {

struct Collection {
    std::string name;
    base::Path folder;  // or the address of one on a share
};

struct Item {
    std::int64_t id = 0;
    std::string collection;
    base::Path file;  // or an address
    std::uint64_t size = 0;
    enum class Kind { film, episode, music } kind = Kind::film;
    std::string title;
    std::string date;  // "2019", "2019-05-01"; empty: not known
    std::string series;
    int season = 0, episode = 0;
    std::string performer, album, genre;
    int track = 0;
    std::string container;
    Time duration{};
    int width = 0, height = 0, channels = 0, sample_rate = 0;
    base::Path picture, subtitles;  // beside it; empty: none
    std::int64_t added = 0;         // seconds since 1970
    std::int64_t small_of = 0;      // it is a copy of that item, for small screens; 0: it is none
};
std::string_view short_name(Item::Kind kind);  // "film", "episode", "music"

// A file that could not be read, and why.
struct Unreadable {
    base::Path file;
    std::string why;
};

// Which items are meant: an SQL condition over the columns of the catalogue with its values, made in content.cpp.
struct Selection {
    std::string where = "1";
    std::vector<std::string> values;
    std::string order = "sort, id";
};
// One group of items with the same value: a year, an album.
struct Group {
    std::string value;
    std::size_t items = 0;
};

struct ScanResult {
    std::size_t files = 0, added = 0, changed = 0, removed = 0, unreadable = 0;
    bool any() const { return added + changed + removed > 0; }
};

class Catalogue {
  public:
    // Makes the database where there is none. Kind machine where it can't be. One that is damaged is begun anew.
    static Result<std::unique_ptr<Catalogue>> open(const base::Path& file);
    // library-NAME.db beside the other state of this user ($XDG_STATE_HOME/wavecrest), by the site's file.
    static base::Path usual_place(const base::Path& site_file);
    virtual ~Catalogue() = default;

    // Brings it up to what the folders hold now. Reads the headers of files that are new or changed; what isn't whole
    // yet is tried again when it has changed. A folder that can't be listed (a share that is gone) keeps its items.
    // Nothing outside of the folders is taken, links that lead out of them neither. Where one collection's folder lies
    // in another's, its files are its own alone; no two have the same.
    virtual Result<ScanResult> scan(const std::vector<Collection>& collections, std::int64_t now,
                                    const Cancel& cancel) = 0;
    // Increases with every change; kept over restarts.
    virtual std::uint32_t update_id() = 0;

    // In their order, from the `first` on at most `most`.
    virtual std::vector<Item> items(const Selection& selection, std::size_t first, std::size_t most) = 0;
    virtual std::size_t count(const Selection& selection) = 0;
    virtual std::optional<Item> item(std::int64_t id) = 0;
    virtual std::vector<Item> small_copies(std::int64_t id) = 0;
    // Values of a column ("series", "album", "year", "performer", "genre", "season", "collection") in the selection,
    // empty ones left out.
    virtual std::vector<Group> groups(const std::string& column, const Selection& selection) = 0;
    virtual std::vector<Unreadable> unreadable() = 0;
};

}  // namespace wavecrest::library
