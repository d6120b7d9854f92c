#include "source/shelf.hpp"

#include <algorithm>
#include <array>
#include <cctype>
#include <functional>
#include <optional>

#include "container/ladder.hpp"
#include "source/ladder_input.hpp"
#include "source/share_input.hpp"

namespace wavecrest::source {
namespace {

namespace fs = std::filesystem;

constexpr int kDeepest = 8;
constexpr std::size_t kMost = 100'000;  // entries looked at

std::string lower(std::string text) {
    std::transform(text.begin(), text.end(), text.begin(), [](unsigned char c) { return std::tolower(c); });
    return text;
}

bool is_image(const fs::path& file) {
    const std::string extension = lower(file.extension().string());
    return extension == ".iso" || extension == ".img" || extension == ".udf";
}
bool is_media(const fs::path& file) {
    static constexpr std::array<std::string_view, 16> kExtensions = {".mkv", ".mp4", ".m4v", ".mov",  ".webm", ".avi",
                                                                     ".flv", ".ts",  ".mts", ".m2ts", ".mpg",  ".mpeg",
                                                                     ".vob", ".m2p", ".trp", ".ps"};
    const std::string extension = lower(file.extension().string());
    return std::find(kExtensions.begin(), kExtensions.end(), extension) != kExtensions.end();
}

// What is in a folder. Hidden ones are left out, and links to folders.
struct Listing {
    std::vector<std::string> folders, files;
};
using List = std::function<Result<Listing>(const std::string& folder)>;

Result<Listing> list_here(const std::string& folder) {
    std::error_code error;
    Listing listing;
    for (auto i = fs::directory_iterator(folder, error); !error && i != fs::directory_iterator(); i.increment(error)) {
        std::string name = i->path().filename().string();
        std::error_code ignored;
        if (name.starts_with('.')) continue;
        if (i->is_directory(ignored) && !i->is_symlink(ignored)) {
            listing.folders.push_back(std::move(name));
        } else if (i->is_regular_file(ignored)) {
            listing.files.push_back(std::move(name));
        }
    }
    if (error)
        return fail(error == std::errc::permission_denied ? ErrorKind::machine : ErrorKind::input,
                    "the folder can't be read: " + base::system_reason(error.value()), folder,
                    "check the name, its rights, and whether the drive or share is mounted");
    return listing;
}

// Of paths on the share.
List list_there(std::shared_ptr<share::Share> share) {
    return [share = std::move(share)](const std::string& folder) -> Result<Listing> {
        WAVECREST_TRY_ASSIGN(entries, share->list(folder));
        Listing listing;
        for (share::Entry& one : entries) {
            if (!one.name.starts_with('.'))
                (one.folder ? listing.folders : listing.files).push_back(std::move(one.name));
        }
        return listing;
    };
}

// Whether what is in a folder of this name makes it a disc.
bool is_disc(const std::string& name, const Listing& listing) {
    const auto is_structure = [](const std::string& one) { return lower(one) == "video_ts" || lower(one) == "bdmv"; };
    return is_structure(name) || std::any_of(listing.folders.begin(), listing.folders.end(), is_structure) ||
           // (A disc's files without their folder.)
           std::any_of(listing.files.begin(), listing.files.end(), [](const std::string& one) {
               return lower(one) == "video_ts.ifo" || lower(one) == "index.bdmv";
           });
}
bool is_ladder(const Listing& listing) {
    return std::find(listing.files.begin(), listing.files.end(), container::kLadderPlaylist) != listing.files.end();
}

class Walk {
  public:
    explicit Walk(List list) : list_(std::move(list)) {}

    // Folders below it that can't be read are passed over.
    Status look(const std::string& folder, int depth) {
        if (depth > kDeepest || looked_at_ > kMost) return {};
        auto listed = list_(folder);
        if (!listed && depth > 0) return {};
        if (!listed) return fail(std::move(listed).error());
        Listing& listing = *listed;
        looked_at_ += listing.folders.size() + listing.files.size();
        if (is_ladder(listing)) return {};
        if (is_disc(fs::path(folder).filename().string(), listing)) {
            found.push_back({ShelfEntry::Kind::disc, folder});
            return {};
        }
        std::sort(listing.folders.begin(), listing.folders.end());
        std::sort(listing.files.begin(), listing.files.end());
        bool known = false;
        for (const std::string& file : listing.files) {
            if (is_image(file)) found.push_back({ShelfEntry::Kind::image, share::joined(folder, file)});
            if (is_media(file)) found.push_back({ShelfEntry::Kind::file, share::joined(folder, file)});
            known = known || is_image(file) || is_media(file);
        }
        if (!known && (!listing.files.empty() || (listing.folders.empty() && depth > 0)))
            found.push_back({ShelfEntry::Kind::unknown, folder});
        for (const std::string& one : listing.folders) WAVECREST_TRY(look(share::joined(folder, one), depth + 1));
        return {};
    }

    std::vector<ShelfEntry> found;

  private:
    const List list_;
    std::size_t looked_at_ = 0;
};

}  // namespace

bool is_disc_folder(const base::Path& folder) {
    const auto listing = list_here(folder.string());
    return is_disc(folder.filename().string(), listing.value_or(Listing{}));
}

bool is_input_folder(const base::Path& folder) {
    return is_disc_folder(folder) || !ladder_in(folder).empty();
}

bool is_shelf(const base::Address& place) {
    std::error_code error;
    if (place.is_share()) {
        const auto opened = open_share(place, nullptr);
        if (!opened || !opened->entry.folder) return false;
        const auto listing = list_there(opened->share)(opened->path);
        return listing && !is_disc(fs::path(opened->path).filename().string(), *listing) && !is_ladder(*listing) &&
               !(listing->files.empty() && listing->folders.empty());
    }
    return fs::is_directory(place.path(), error) && !is_input_folder(place.path()) &&
           !fs::is_empty(place.path(), error) && !error;
}

Result<std::vector<ShelfEntry>> read_shelf(const base::Address& folder) {
    std::optional<OpenedShare> on_share;
    if (folder.is_share()) {
        WAVECREST_TRY_ASSIGN(opened, open_share(folder, nullptr));
        on_share = std::move(opened);
    }
    Walk walk(on_share ? list_there(on_share->share) : List(list_here));
    WAVECREST_TRY(walk.look(on_share ? on_share->path : folder.path().string(), 0));
    std::sort(walk.found.begin(), walk.found.end(),
              [](const ShelfEntry& a, const ShelfEntry& b) { return a.path < b.path; });
    if (on_share) {
        for (ShelfEntry& one : walk.found) one.path = on_share->share->location().text_of(one.path.string());
    }
    return std::move(walk.found);
}

}  // namespace wavecrest::source
