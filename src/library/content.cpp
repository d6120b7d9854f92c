#include "library/content.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <array>
#include <charconv>
#include <map>
#include <optional>

#include "base/mutex.hpp"
#include "net/url.hpp"
#include "upnp/search_criteria.hpp"

namespace wavecrest::library {
namespace {

using upnp::Fault;
using upnp::Object;

constexpr const char* kFolderClass = "object.container.storageFolder";
constexpr int kNoSuchObject = 701, kNoCriteria = 708, kNoSort = 709, kNoContainer = 710;

tl::unexpected<Fault> refuse(int code, const char* why) {
    return tl::unexpected(Fault{code, why});
}

Selection operator&&(Selection a, const Selection& b) {
    a.where = fmt::format("({}) and ({})", a.where, b.where);
    a.values.insert(a.values.end(), b.values.begin(), b.values.end());
    return a;
}
Selection where(std::string condition, std::vector<std::string> values = {}, std::string order = "sort, id") {
    return {std::move(condition), std::move(values), std::move(order)};
}

// What an item is called in a search's conditions, by its column; the class is made of its kind.
constexpr const char* kClass =
    "case kind when 'music' then 'object.item.audioItem.musicTrack' when 'episode' then 'object.item.videoItem' "
    "else 'object.item.videoItem.movie' end";
struct Property {
    std::string_view name;
    const char* column;
    bool sorts;
};
constexpr std::array kProperties = {
    Property{"dc:title", "title", true},
    Property{"upnp:class", kClass, true},
    Property{"dc:creator", "performer", true},
    Property{"upnp:artist", "performer", true},
    Property{"upnp:album", "album", true},
    Property{"upnp:genre", "genre", true},
    Property{"dc:date", "date", true},
    Property{"upnp:originalTrackNumber", "track", true},
    Property{"upnp:seriesTitle", "series", true},
    Property{"upnp:episodeSeason", "season", true},
    Property{"upnp:episodeNumber", "episode", true},
    Property{"res@size", "size", true},
    Property{"res@duration", "duration_ms", true},
    Property{"@id", "('i' || id)", false},
};
const Property* property(std::string_view name) {
    const auto found =
        std::find_if(kProperties.begin(), kProperties.end(), [&](const Property& p) { return p.name == name; });
    return found == kProperties.end() ? nullptr : &*found;
}

// An SQL condition; nothing where a property is unknown here, which then fits no item (2.3.11.1).
Selection condition_of(const upnp::Criteria& c) {
    using Kind = upnp::Criteria::Kind;
    if (c.kind == Kind::all) return {};
    if (c.kind != Kind::compare) {
        Selection left = condition_of(c.parts[0]);
        const Selection right = condition_of(c.parts[1]);
        left.where = fmt::format("({}) {} ({})", left.where, c.kind == Kind::both ? "and" : "or", right.where);
        left.values.insert(left.values.end(), right.values.begin(), right.values.end());
        return left;
    }
    const Property* known = property(c.property);
    if (known == nullptr) {
        // What no item has.
        return where(c.operation == "exists" && c.value == "false" ? "1" : "0");
    }
    const std::string column = known->column;
    if (c.operation == "exists") {
        const char* has = c.value == "true" ? "not in" : "in";
        return where(fmt::format("{} {} ('', 0)", column, has));
    }
    if (c.operation == "contains") return where(fmt::format("instr(lower({}), lower(?)) > 0", column), {c.value});
    if (c.operation == "doesNotContain") return where(fmt::format("instr(lower({}), lower(?)) = 0", column), {c.value});
    if (c.operation == "startsWith") return where(fmt::format("instr(lower({}), lower(?)) = 1", column), {c.value});
    if (c.operation == "derivedfrom")
        return where(fmt::format("({0} = ? or instr({0}, ? || '.') = 1)", column), {c.value, c.value});
    if (known->name == "res@duration") {
        const auto time = upnp::parse_duration(c.value);
        return where(fmt::format("{} {} cast(? as integer)", column, c.operation),
                     {fmt::format("{}", time ? base::to_ticks(*time, 1000) : 0)});
    }
    const bool number = known->name == "res@size" || known->name == "upnp:episodeSeason" ||
                        known->name == "upnp:episodeNumber" || known->name == "upnp:originalTrackNumber";
    if (number) return where(fmt::format("{} {} cast(? as integer)", column, c.operation), {c.value});
    return where(fmt::format("{} {} ? collate nocase", column, c.operation), {c.value});
}

// Parts of an object's name, which may have any letters: "y:2019", "s:Shore%20Stories:2".
std::vector<std::string> parts_of(const std::string& id) {
    std::vector<std::string> parts;
    for (std::size_t at = 0; at <= id.size();) {
        const std::size_t end = std::min(id.find(':', at), id.size());
        parts.push_back(net::decode_path(id.substr(at, end - at)));
        at = end + 1;
    }
    return parts;
}
// "/" and ":" are escaped, too: they have a meaning in names and paths.
std::string part(std::string_view text) {
    std::string result;
    for (const char c : net::encode_path(text)) {
        if (c == '/')
            result += "%2F";
        else if (c == ':')
            result += "%3A";
        else
            result += c;
    }
    return result;
}

Object folder(std::string id, std::string parent, std::string title, std::size_t children,
              const char* upnp_class = kFolderClass) {
    Object o;
    o.container = true;
    o.id = std::move(id);
    o.parent = std::move(parent);
    o.title = std::move(title);
    o.upnp_class = upnp_class;
    o.children = static_cast<int>(std::min<std::size_t>(children, 1'000'000));
    return o;
}

constexpr const char* kMain = "small_of = 0";  // copies are forms of their original

// A place in the tree: either more containers or items.
struct Place {
    Object self;
    std::vector<Object> containers;
    std::optional<Selection> items;
    std::size_t most_items = SIZE_MAX;
};

class Tree {
  public:
    Tree(Catalogue& catalogue, const std::set<std::string>& collections) : catalogue_(catalogue) {
        std::string list;
        for (const std::string& name : collections) {
            list += list.empty() ? "?" : ",?";
            seen_.values.push_back(name);
        }
        seen_.where = fmt::format("collection in ({})", list);
    }
    const Selection& seen() const { return seen_; }

    // Nothing where there is no such container.
    std::optional<Place> find(const std::string& id) const {
        const auto parts = parts_of(id);
        const std::string& kind = parts[0];
        if (id == "0") return root();
        if (id == "films") return items(id, "0", "Films", main("kind = 'film'"));
        if (id == "episodes") return groups(id, "0", "Series", "series", main("kind = 'episode'", "series"), "s");
        if (id == "recent") {
            Place place = items(id, "0", "Recently added", main("kind <> 'music'", "added desc, id desc"));
            place.most_items = kRecent;
            place.self.children =
                static_cast<int>(std::min<std::size_t>(kRecent, static_cast<std::size_t>(place.self.children)));
            return place;
        }
        if (id == "years") return groups(id, "0", "By year", "year", main("kind = 'film'"), "y");
        if (id == "music") return music();
        if (id == "performers") return groups(id, "music", "Performers", "performer", main("kind = 'music'"), "p");
        if (id == "albums") return groups(id, "music", "Albums", "album", main("kind = 'music'"), "a");
        if (id == "genres") return groups(id, "music", "Genres", "genre", main("kind = 'music'"), "g");
        if (id == "tracks") return items(id, "music", "All music", main("kind = 'music'"));
        if (id == "collections") return groups(id, "0", "Collections", "collection", main("1"), "c");
        if (parts.size() < 2) return std::nullopt;
        const std::string& value = parts[1];
        if (kind == "y" && parts.size() == 2)
            return existing(
                items(id, "years", value, main("kind = 'film' and year = cast(? as integer)", "sort, id", {value})));
        if (kind == "c" && parts.size() == 2)
            return existing(items(id, "collections", value, main("collection = ?", "sort, id", {value})));
        if (kind == "p" && parts.size() == 2) {
            auto albums = groups(id, "performers", value, "album",
                                 main("kind = 'music' and performer = ?", "sort, id", {value}), "p:" + part(value));
            if (albums.containers.size() > 1) return albums;
            return existing(
                items(id, "performers", value, main("kind = 'music' and performer = ?", "track, sort, id", {value})));
        }
        if (kind == "p" && parts.size() == 3)
            return existing(
                items(id, "p:" + part(value), parts[2],
                      main("kind = 'music' and performer = ? and album = ?", "track, sort, id", {value, parts[2]})));
        if (kind == "a" && parts.size() == 2)
            return existing(
                items(id, "albums", value, main("kind = 'music' and album = ?", "track, sort, id", {value})));
        if (kind == "g" && parts.size() == 2)
            return existing(items(id, "genres", value, main("kind = 'music' and genre = ?", "sort, id", {value})));
        if (kind == "s" && parts.size() == 2) {
            auto seasons =
                groups(id, "episodes", value, "season", main("series = ?", "season", {value}), "s:" + part(value));
            if (seasons.containers.size() > 1) {
                for (Object& season : seasons.containers) season.title = "Season " + season.title;
                return seasons;
            }
            return existing(items(id, "episodes", value, main("series = ?", "season, episode, sort", {value})));
        }
        if (kind == "s" && parts.size() == 3)
            return existing(
                items(id, "s:" + part(value), "Season " + parts[2],
                      main("series = ? and season = cast(? as integer)", "episode, sort", {value, parts[2]})));
        return std::nullopt;
    }

  private:
    Selection main(const std::string& condition, std::string order = "sort, id",
                   std::vector<std::string> values = {}) const {
        Selection s = where(fmt::format("{} and {}", kMain, condition), std::move(values)) && seen_;
        s.order = std::move(order);
        return s;
    }
    Place items(std::string id, std::string parent, std::string title, Selection selection) const {
        Place place;
        place.self = folder(std::move(id), std::move(parent), std::move(title), catalogue_.count(selection));
        place.items = std::move(selection);
        return place;
    }
    static std::optional<Place> existing(Place place) {
        return place.self.children > 0 ? std::optional(std::move(place)) : std::nullopt;
    }
    Place groups(std::string id, std::string parent, std::string title, const std::string& column,
                 const Selection& selection, const std::string& prefix) const {
        Place place;
        for (const Group& one : catalogue_.groups(column, selection))
            place.containers.push_back(folder(prefix + ":" + part(one.value), id, one.value, one.items,
                                              column == "album"       ? "object.container.album.musicAlbum"
                                              : column == "performer" ? "object.container.person.musicArtist"
                                              : column == "genre"     ? "object.container.genre.musicGenre"
                                                                      : kFolderClass));
        if (column == "year") std::reverse(place.containers.begin(), place.containers.end());
        place.self = folder(std::move(id), std::move(parent), std::move(title), place.containers.size());
        return place;
    }
    // Containers of the tree's upper levels, without those that are empty. How many are in each isn't told: that would
    // cost a look at all items.
    struct Entry {
        const char *id, *title, *condition;
    };
    Place upper(const char* id, const char* parent, const char* title, std::initializer_list<Entry> entries) const {
        Place place;
        for (const Entry& one : entries) {
            if (catalogue_.items(main(one.condition, "id"), 0, 1).empty()) continue;
            place.containers.push_back(folder(one.id, id, one.title, 0));
            place.containers.back().children = -1;
        }
        place.self = folder(id, parent, title, place.containers.size());
        return place;
    }
    Place root() const {
        Place place = upper("0", "-1", "Library",
                            {{"films", "Films", "kind = 'film'"},
                             {"episodes", "Series", "kind = 'episode'"},
                             {"recent", "Recently added", "kind <> 'music'"},
                             {"years", "By year", "kind = 'film' and year > 0"},
                             {"music", "Music", "kind = 'music'"}});
        const Place collections = groups("collections", "0", "Collections", "collection", main("1"), "c");
        if (collections.containers.size() > 1) {
            place.containers.push_back(collections.self);
            ++place.self.children;
        }
        return place;
    }
    Place music() const {
        return upper("music", "0", "Music",
                     {{"performers", "Performers", "kind = 'music' and performer <> ''"},
                      {"albums", "Albums", "kind = 'music' and album <> ''"},
                      {"genres", "Genres", "kind = 'music' and genre <> ''"},
                      {"tracks", "All music", "kind = 'music'"}});
    }

    Catalogue& catalogue_;
    Selection seen_;
};

std::optional<std::int64_t> item_number(const std::string& id) {
    if (!id.starts_with("i")) return std::nullopt;
    std::int64_t number = 0;
    const auto [end, error] = std::from_chars(id.data() + 1, id.data() + id.size(), number);
    if (error != std::errc{} || end != id.data() + id.size() || number <= 0) return std::nullopt;
    return number;
}

// The order by sort criteria; nothing where they can't be read or name what isn't sorted by.
std::optional<std::string> order_of(const std::string& sort, const std::string& usual) {
    if (sort.empty()) return usual;
    const auto keys = upnp::parse_sort(sort);
    if (!keys) return std::nullopt;
    std::string order;
    for (const upnp::SortKey& key : *keys) {
        const Property* known = property(key.property);
        if (known == nullptr || !known->sorts) return std::nullopt;
        const char* column = known->name == "dc:title" ? "sort" : known->column;
        order += fmt::format("{} {}, ", column, key.descending ? "desc" : "asc");
    }
    return order + "id";
}

}  // namespace

Object object_of(const Item& item) {
    Object o;
    o.id = fmt::format("i{}", item.id);
    o.title = item.title;
    o.date = item.date;
    o.genre = item.genre;
    if (item.kind == Item::Kind::music) {
        o.upnp_class = "object.item.audioItem.musicTrack";
        o.creator = o.artist = item.performer;
        o.album = item.album;
        o.track = item.track;
    } else {
        o.upnp_class = item.kind == Item::Kind::episode ? "object.item.videoItem" : "object.item.videoItem.movie";
        o.series = item.series;
        o.season = item.season;
        o.episode = item.episode;
        // What devices show is the title alone.
        if (item.kind == Item::Kind::episode)
            o.title = fmt::format("{} S{:02}E{:02}{}{}", item.series, item.season, item.episode,
                                  item.title.empty() ? "" : " - ", item.title);
    }
    // DIDL-Lite has dates whole (B.5.1).
    if (o.date.size() == 4) o.date += "-01-01";
    return o;
}

struct Content::Known {
    base::Mutex mutex;
    std::uint32_t update GUARDED_BY(mutex) = 0;
    std::map<std::pair<std::string, std::set<std::string>>, Place> places GUARDED_BY(mutex);

    std::optional<Place> find(Catalogue& catalogue, const Tree& tree, const ContentAsked& asked) {
        constexpr std::size_t kMost = 200;
        const std::uint32_t now = catalogue.update_id();
        const std::pair key{asked.object, asked.collections};
        {
            const base::MutexLock lock(mutex);
            if (update != now) places.clear();
            update = now;
            if (const auto known = places.find(key); known != places.end()) return known->second;
        }
        auto place = tree.find(asked.object);
        if (!place || place->items) return place;
        const base::MutexLock lock(mutex);
        if (update == now && places.size() < kMost) places.emplace(key, *place);
        return place;
    }
};

Content::Content(Catalogue& catalogue) : catalogue_(catalogue), known_(std::make_unique<Known>()) {}
Content::~Content() = default;

Content::Found Content::metadata(const ContentAsked& asked, const Describe& describe) const {
    const Tree tree(catalogue_, asked.collections);
    ContentFound found;
    found.total = 1;
    if (const auto number = item_number(asked.object)) {
        const auto item = catalogue_.item(*number);
        if (!item || !asked.collections.contains(item->collection)) return refuse(kNoSuchObject, "No such object");
        found.objects.push_back(describe(*item));
        found.objects.back().parent = item->kind == Item::Kind::music  ? "tracks"
                                      : item->kind == Item::Kind::film ? "films"
                                                                       : "episodes";
        return found;
    }
    auto place = known_->find(catalogue_, tree, asked);
    if (!place) return refuse(kNoSuchObject, "No such object");
    found.objects.push_back(std::move(place->self));
    return found;
}

Content::Found Content::children(const ContentAsked& asked, const Describe& describe) const {
    const Tree tree(catalogue_, asked.collections);
    if (item_number(asked.object)) return refuse(kNoContainer, "Not a container");
    auto place = known_->find(catalogue_, tree, asked);
    if (!place) return refuse(kNoSuchObject, "No such object");
    const std::size_t most = std::min(asked.most == 0 ? kMostAtOnce : asked.most, kMostAtOnce);
    ContentFound found;
    if (!place->items) {
        if (!order_of(asked.sort, "")) return refuse(kNoSort, "Unsupported or invalid sort criteria");
        found.total = place->containers.size();
        for (std::size_t i = asked.first; i < found.total && found.objects.size() < most; ++i)
            found.objects.push_back(place->containers[i]);
        return found;
    }
    const auto order = order_of(asked.sort, place->items->order);
    if (!order) return refuse(kNoSort, "Unsupported or invalid sort criteria");
    place->items->order = *order;
    found.total = static_cast<std::size_t>(place->self.children);
    if (asked.first >= found.total) return found;
    for (const Item& item :
         catalogue_.items(*place->items, asked.first,
                          std::min(most, place->most_items - std::min(asked.first, place->most_items)))) {
        found.objects.push_back(describe(item));
        found.objects.back().parent = asked.object;
    }
    return found;
}

Content::Found Content::search(const ContentAsked& asked, std::string_view criteria, const Describe& describe) const {
    const auto parsed = upnp::parse_criteria(criteria);
    if (!parsed) return refuse(kNoCriteria, "Unsupported or invalid search criteria");
    const Tree tree(catalogue_, asked.collections);
    const auto place = known_->find(catalogue_, tree, asked);
    if (!place) return refuse(kNoContainer, "No such container");
    // Of a container of containers, all below it.
    Selection below = place->items ? *place->items : where(kMain) && tree.seen();
    const auto parts = parts_of(asked.object);
    if (!place->items && asked.object == "music") below = below && where("kind = 'music'");
    if (!place->items && asked.object == "episodes") below = below && where("kind = 'episode'");
    if (!place->items && parts[0] == "s" && parts.size() == 2) below = below && where("series = ?", {parts[1]});
    if (!place->items && parts[0] == "p" && parts.size() == 2) below = below && where("performer = ?", {parts[1]});
    Selection wanted = below && condition_of(*parsed);
    const auto order = order_of(asked.sort, "sort, id");
    if (!order) return refuse(kNoSort, "Unsupported or invalid sort criteria");
    wanted.order = *order;
    ContentFound found;
    found.total = catalogue_.count(wanted);
    const std::size_t most = std::min(asked.most == 0 ? kMostAtOnce : asked.most, kMostAtOnce);
    for (const Item& item : catalogue_.items(wanted, asked.first, most)) {
        found.objects.push_back(describe(item));
        found.objects.back().parent = asked.object;
    }
    return found;
}

std::string Content::search_capabilities() {
    std::vector<std::string_view> names;
    for (const Property& p : kProperties) names.push_back(p.name);
    return fmt::format("{}", fmt::join(names, ","));
}

std::string Content::sort_capabilities() {
    std::vector<std::string_view> names;
    for (const Property& p : kProperties) {
        if (p.sorts) names.push_back(p.name);
    }
    return fmt::format("{}", fmt::join(names, ","));
}

}  // namespace wavecrest::library
