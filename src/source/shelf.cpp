#include "source/shelf.hpp"

#include <algorithm>
#include <array>
#include <cctype>

#include "source/ladder_input.hpp"

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

class Walk {
  public:
    void look(const fs::path& folder, int depth) {
        if (depth > kDeepest || looked_at_ > kMost || !ladder_in(folder).empty()) return;
        if (is_disc_folder(folder)) {
            found.push_back({ShelfEntry::Kind::disc, folder});
            return;
        }
        std::error_code error;
        std::vector<fs::path> folders, files;
        for (auto i = fs::directory_iterator(folder, fs::directory_options::skip_permission_denied, error);
             !error && i != fs::directory_iterator() && ++looked_at_ <= kMost; i.increment(error)) {
            if (i->path().filename().string().starts_with('.')) continue;
            std::error_code ignored;
            if (i->is_directory(ignored) && !i->is_symlink(ignored)) {
                folders.push_back(i->path());
            } else if (i->is_regular_file(ignored)) {
                files.push_back(i->path());
            }
        }
        std::sort(folders.begin(), folders.end());
        std::sort(files.begin(), files.end());
        bool known = false;
        for (const fs::path& file : files) {
            if (is_image(file)) found.push_back({ShelfEntry::Kind::image, file});
            if (is_media(file)) found.push_back({ShelfEntry::Kind::file, file});
            known = known || is_image(file) || is_media(file);
        }
        if (!known && (!files.empty() || (folders.empty() && depth > 0)))
            found.push_back({ShelfEntry::Kind::unknown, folder});
        for (const fs::path& one : folders) look(one, depth + 1);
    }

    std::vector<ShelfEntry> found;

  private:
    std::size_t looked_at_ = 0;
};

}  // namespace

bool is_disc_folder(const base::Path& folder) {
    std::error_code error;
    const std::string own = lower(folder.filename().string());
    if (own == "video_ts" || own == "bdmv") return true;
    for (auto i = fs::directory_iterator(folder, error); !error && i != fs::directory_iterator(); i.increment(error)) {
        const std::string name = lower(i->path().filename().string());
        std::error_code ignored;
        if ((name == "video_ts" || name == "bdmv") && i->is_directory(ignored)) return true;
        // (A disc's files without their folder.)
        if (name == "video_ts.ifo" || name == "index.bdmv") return true;
    }
    return false;
}

bool is_input_folder(const base::Path& folder) {
    return is_disc_folder(folder) || !ladder_in(folder).empty();
}

Result<std::vector<ShelfEntry>> read_shelf(const base::Path& folder) {
    std::error_code error;
    fs::directory_iterator(folder, error);
    if (error)
        return fail(error == std::errc::permission_denied ? ErrorKind::machine : ErrorKind::input,
                    "the folder can't be read: " + base::system_reason(error.value()), folder.string(),
                    "check the name, its rights, and whether the drive or share is mounted");
    Walk walk;
    walk.look(folder, 0);
    std::sort(walk.found.begin(), walk.found.end(),
              [](const ShelfEntry& a, const ShelfEntry& b) { return a.path < b.path; });
    return std::move(walk.found);
}

}  // namespace wavecrest::source
