#include "cli/library.hpp"

#include <algorithm>
#include <ctime>
#include <nlohmann/json.hpp>

#include "base/units.hpp"
#include "cli/commands.hpp"
#include "media/types.hpp"
#include "render/table.hpp"

namespace wavecrest::cli {
namespace {

using Json = nlohmann::ordered_json;
using library::Item;
using library::Selection;

Json to_json(const Item& item) {
    Json json = {{"id", item.id},
                 {"kind", library::short_name(item.kind)},
                 {"title", item.title},
                 {"file", item.file.string()},
                 {"collection", item.collection},
                 {"container", item.container},
                 {"duration_s", base::to_seconds(item.duration)},
                 {"size_bytes", item.size}};
    const auto text = [&](const char* key, const std::string& value) {
        if (!value.empty()) json[key] = value;
    };
    const auto number = [&](const char* key, std::int64_t value) {
        if (value > 0) json[key] = value;
    };
    text("date", item.date);
    text("series", item.series);
    if (!item.series.empty()) json["season"] = item.season;
    number("episode", item.episode);
    text("performer", item.performer);
    text("album", item.album);
    text("genre", item.genre);
    number("track", item.track);
    number("width", item.width);
    number("height", item.height);
    number("channels", item.channels);
    text("picture", item.picture.string());
    text("subtitles", item.subtitles.string());
    number("small_copy_of", item.small_of);
    return json;
}

// What it is called among others of its kind.
std::string name_of(const Item& item) {
    if (item.kind == Item::Kind::episode)
        return fmt::format("{} S{:02}E{:02} {}", item.series, item.season, item.episode, item.title);
    if (item.kind == Item::Kind::music)
        return item.performer.empty() ? item.title : fmt::format("{}: {}", item.performer, item.title);
    return item.date.empty() ? item.title : fmt::format("{} ({})", item.title, item.date.substr(0, 4));
}

std::string size_text(const Item& item) {
    return item.height > 0 ? fmt::format("{}x{}", item.width, item.height) : "";
}

struct Opened {
    site::Site site;
    std::unique_ptr<library::Catalogue> catalogue;
    library::ScanResult scanned;
};

// The catalogue as its folders are now.
Result<Opened> open_scanned(const LibraryOptions& options) {
    Opened opened;
    WAVECREST_TRY_ASSIGN(site, site::load(options.site));
    opened.site = std::move(site);
    if (opened.site.collections.empty())
        return fail(ErrorKind::usage, "the site has no collections", options.site,
                    "add a [[collection]] with a name and a folder");
    WAVECREST_TRY_ASSIGN(catalogue, library::Catalogue::open(library::Catalogue::usual_place(options.site)));
    opened.catalogue = std::move(catalogue);
    WAVECREST_TRY_ASSIGN(scanned, opened.catalogue->scan(collections_of(opened.site), std::time(nullptr), cancel()));
    opened.scanned = scanned;
    return opened;
}

int print_items(const std::vector<Item>& items, std::size_t total, const std::vector<library::Unreadable>& unreadable,
                bool json, const char* none) {
    if (json) {
        Json result;
        result["total"] = total;
        result["items"] = Json::array();
        for (const Item& item : items) result["items"].push_back(to_json(item));
        result["unreadable"] = Json::array();
        for (const library::Unreadable& one : unreadable)
            result["unreadable"].push_back({{"file", one.file.string()}, {"why", one.why}});
        print_json(result);
        return 0;
    }
    if (items.empty()) print("{}\n", none);
    render::Table table({"id", "kind", "name", "length", "size", "video", "collection"});
    for (const Item& item : items)
        table.add({fmt::format("{}", item.id), std::string(library::short_name(item.kind)), name_of(item),
                   base::format_clock(item.duration), base::format_bytes(item.size), size_text(item), item.collection});
    if (!items.empty()) print("{}", Raw{table.text(0)});
    if (items.size() < total)
        print("{} of {} are shown; --all shows all of them, library find WORDS some.\n", items.size(), total);
    if (!unreadable.empty()) {
        print("\nNot in the library, because they can't be read:\n");
        for (std::size_t i = 0; i < unreadable.size() && i < 20; ++i)
            print("  {}: {}\n", unreadable[i].file.string(), unreadable[i].why);
        if (unreadable.size() > 20) print("  and {} more\n", unreadable.size() - 20);
    }
    return 0;
}

}  // namespace

std::vector<library::Collection> collections_of(const site::Site& site) {
    std::vector<library::Collection> all;
    for (const site::SiteCollection& one : site.collections) all.push_back({one.name, one.folder});
    return all;
}

Result<std::unique_ptr<ServedLibrary>> ServedLibrary::open(const site::Site& site) {
    if (site.collections.empty()) return std::unique_ptr<ServedLibrary>();
    auto made = std::make_unique<ServedLibrary>();
    WAVECREST_TRY_ASSIGN(catalogue, library::Catalogue::open(library::Catalogue::usual_place(site.file)));
    made->catalogue_ = std::move(catalogue);
    made->collections_ = collections_of(site);
    library::MediaServerSettings settings;
    settings.name = site.house;
    settings.identity = base::absolute_path(site.file).string();
    settings.announced = site.advertise;
    for (const site::SiteCollection& one : site.collections) {
        library::ServedCollection served{{one.name, one.folder}, one.from, {}};
        for (const std::string& name : one.devices) {
            for (const site::SiteDevice& device : site.devices) {
                // Nobody has the address of a device whose address isn't known.
                if (device.device.name == name) served.addresses.insert(device.address);
            }
        }
        settings.collections.push_back(std::move(served));
    }
    made->media_ = std::make_unique<library::MediaServer>(std::move(settings), *made->catalogue_);
    return made;
}

std::pair<std::string, net::HttpAnswer> ServedLibrary::pages() {
    return {std::string(library::kLibraryPath),
            [media = media_.get()](const net::HttpRequest& request) { return media->answer(request); }};
}

void ServedLibrary::start(std::uint16_t port, const std::string& interface,
                          std::function<void(const std::string&)> on_line) {
    if (const auto announced = media_->announce(port, interface); !announced && on_line)
        on_line(fmt::format("library: devices can't find it: {}", announced.error().what));
    library::Watcher::Settings settings;
    settings.collections = collections_;
    settings.on_scan = [this, on_line](const library::ScanResult& result) {
        media_->changed();
        if (!on_line) return;
        std::string line = fmt::format("library: {}", base::format_count(result.files - result.unreadable, "file"));
        if (result.added > 0) line += fmt::format(", {} new", result.added);
        if (result.removed > 0) line += fmt::format(", {} gone", result.removed);
        if (result.unreadable > 0)
            line += fmt::format(", {} can't be read (library list names them)", result.unreadable);
        on_line(line);
    };
    settings.on_error = [on_line](const Error& error) {
        if (on_line) on_line(fmt::format("library: {}; {}", error.what, error.remedy));
    };
    watcher_ = std::make_unique<library::Watcher>(std::move(settings), *catalogue_);
}

int run_library_list(const LibraryOptions& options) {
    const bool json = options.output.json;
    auto opened = open_scanned(options);
    if (!opened) return report_error(opened.error(), json);
    Selection selection;
    selection.where = "small_of = 0";
    if (!options.kind.empty()) {
        selection.where += " and kind = ?";
        selection.values.push_back(options.kind);
    }
    if (!options.collection.empty()) {
        const auto& all = opened->site.collections;
        if (std::none_of(all.begin(), all.end(), [&](const auto& c) { return c.name == options.collection; })) {
            std::vector<std::string> names;
            for (const auto& c : all) names.push_back(c.name);
            const std::string meant = base::nearest(options.collection, names);
            return report_error({ErrorKind::usage,
                                 fmt::format("there is no collection \"{}\"", options.collection),
                                 options.site,
                                 meant.empty() ? "see the site file" : fmt::format("did you mean \"{}\"?", meant),
                                 {}},
                                json);
        }
        selection.where += " and collection = ?";
        selection.values.push_back(options.collection);
    }
    selection.order = "kind, series, season, episode, performer, album, track, sort, id";
    constexpr std::size_t kShown = 200;
    const std::size_t total = opened->catalogue->count(selection);
    const auto items = opened->catalogue->items(selection, 0, options.all || json ? total : kShown);
    return print_items(items, total, opened->catalogue->unreadable(), json,
                       "The library is empty: no media file lies in its folders.");
}

int run_library_find(const LibraryOptions& options) {
    const bool json = options.output.json;
    auto opened = open_scanned(options);
    if (!opened) return report_error(opened.error(), json);
    Selection selection;
    selection.where = "small_of = 0";
    for (const std::string& word : options.words) {
        selection.where +=
            " and instr(lower(title || ' ' || series || ' ' || performer || ' ' || album || ' ' || genre || ' ' || "
            "date), "
            "lower(?)) > 0";
        selection.values.push_back(word);
    }
    const std::size_t total = opened->catalogue->count(selection);
    const auto items = opened->catalogue->items(selection, 0, options.all || json ? total : 50);
    print_items(items, total, {}, json, "Nothing in the library fits that.");
    return total == 0 ? 1 : 0;
}

int run_library_show(const LibraryOptions& options) {
    const bool json = options.output.json;
    auto opened = open_scanned(options);
    if (!opened) return report_error(opened.error(), json);
    const auto item = opened->catalogue->item(options.id);
    if (!item)
        return report_error({ErrorKind::usage,
                             fmt::format("there is no item {} in the library", options.id),
                             options.site,
                             "library find WORDS tells the numbers",
                             {}},
                            json);
    const auto copies = opened->catalogue->small_copies(item->id);
    if (json) {
        Json result = to_json(*item);
        result["small_copies"] = Json::array();
        for (const Item& one : copies) result["small_copies"].push_back(to_json(one));
        print_json(result);
        return 0;
    }
    print("{}\n", name_of(*item));
    const auto line = [](const char* what, const std::string& text) {
        if (!text.empty()) print("  {:<12} {}\n", what, text);
    };
    line("kind", std::string(library::short_name(item->kind)));
    line("file", item->file.string());
    line("collection", item->collection);
    line("container", item->container);
    line("length", base::format_clock(item->duration));
    line("size", base::format_bytes(item->size));
    line("video", size_text(*item));
    line("audio", item->channels > 0 ? media::channel_layout(item->channels) : "");
    line("date", item->date);
    line("album", item->album);
    line("genre", item->genre);
    line("subtitles", item->subtitles.string());
    line("picture", !item->picture.empty()            ? item->picture.string()
                    : item->kind == Item::Kind::music ? ""
                                                      : "taken from the film when a device asks for it");
    for (const Item& one : copies)
        line("small copy", fmt::format("{} ({}, {})", one.file.string(), size_text(one), base::format_bytes(one.size)));
    print("Next: wavecrest device play NAME '{}'\n", item->file.string());
    return 0;
}

}  // namespace wavecrest::cli
