#include "disc/disc_files.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cstring>

#include "base/byte_source.hpp"
#include "disc/iso9660.hpp"
#include "disc/udf.hpp"

namespace wavecrest::disc {
namespace {

char upper(char c) {
    return c >= 'a' && c <= 'z' ? static_cast<char>(c - 'a' + 'A') : c;
}

class FolderFiles : public DiscFiles {
  public:
    FolderFiles(base::Path root, const ReadSettings& settings) : root_(std::move(root)), settings_(settings) {}

    std::string path() const override { return root_.string(); }
    std::string label() const override {
        std::error_code error;
        base::Path folder = std::filesystem::weakly_canonical(root_, error);
        if (!folder.has_filename()) folder = folder.parent_path();
        const std::string name = folder.filename().string();
        // The structure's own folder has the name every disc gives it.
        const bool inner = same_name(name, "VIDEO_TS") || same_name(name, "BDMV");
        return inner ? folder.parent_path().filename().string() : name;
    }
    Result<std::vector<Entry>> list(const std::string& folder) const override {
        WAVECREST_TRY_ASSIGN(where, locate(folder));
        std::vector<Entry> entries;
        std::error_code error;
        for (std::filesystem::directory_iterator it(where, error), end; !error && it != end; it.increment(error)) {
            std::error_code ignored;
            Entry entry{it->path().filename().string(), it->is_directory(ignored), 0};
            if (!entry.folder) {
                const auto size = it->file_size(ignored);
                if (!ignored) entry.size = size;
            }
            entries.push_back(std::move(entry));
        }
        if (error) {
            return fail(ErrorKind::input, "the folder can't be read: " + error.message(), where.string(),
                        "check the drive or share and its permissions");
        }
        std::sort(entries.begin(), entries.end(), [](const Entry& a, const Entry& b) { return a.name < b.name; });
        return entries;
    }
    Result<std::unique_ptr<base::ByteSource>> open(const std::string& file) const override {
        WAVECREST_TRY_ASSIGN(where, locate(file));
        WAVECREST_TRY_ASSIGN(source, base::FileSource::open(where));
        return std::unique_ptr<base::ByteSource>(std::make_unique<base::RetryingSource>(
            std::make_unique<base::FileSource>(std::move(source)), settings_.retries));
    }

  private:
    Result<base::Path> locate(const std::string& name) const {
        base::Path at = root_;
        for (const base::Path& part : base::Path(name)) {
            base::Path found;
            std::error_code error;
            for (std::filesystem::directory_iterator it(at, error), end; !error && it != end; it.increment(error)) {
                if (same_name(it->path().filename().string(), part.string())) found = it->path();
            }
            if (found.empty()) {
                return fail(ErrorKind::input, "there is no such file or folder", (at / part).string(),
                            "the rip is incomplete; make it again");
            }
            at = found;
        }
        return at;
    }

    base::Path root_;
    ReadSettings settings_;
};

}  // namespace

bool same_name(std::string_view a, std::string_view b) {
    return a.size() == b.size() &&
           std::equal(a.begin(), a.end(), b.begin(), [](char x, char y) { return upper(x) == upper(y); });
}

DiscFiles::Entry find_entry(const DiscFiles& files, const std::string& folder, const std::string& name) {
    const auto entries = files.list(folder);
    if (!entries) return {};
    for (const DiscFiles::Entry& entry : *entries) {
        if (same_name(entry.name, name)) return entry;
    }
    return {};
}

std::shared_ptr<DiscFiles> folder_files(const base::Path& folder, const ReadSettings& settings) {
    return std::make_shared<FolderFiles>(folder, settings);
}

bool looks_like_image(ByteSpan bytes) {
    const auto is = [&](std::string_view id) {
        return bytes.size() >= 2048 && std::memcmp(bytes.data() + 1, id.data(), id.size()) == 0;
    };
    return is("CD001") || is("BEA01") || is("NSR02") || is("NSR03");
}

Result<std::shared_ptr<DiscFiles>> image_files(std::shared_ptr<base::ByteSource> image) {
    auto udf = open_udf(image);
    if (udf) return udf;
    auto iso = open_iso9660(image);
    if (iso) return iso;
    // Which of the two errors to tell: that of the file system whose marks are there.
    return is_iso9660(*image) ? iso : udf;
}

Result<std::shared_ptr<DiscFiles>> open_image(const base::Path& image, const ReadSettings& settings) {
    WAVECREST_TRY_ASSIGN(file, base::FileSource::open(image));
    return image_files(
        std::make_shared<base::RetryingSource>(std::make_unique<base::FileSource>(std::move(file)), settings.retries));
}

ExtentSource::ExtentSource(std::shared_ptr<base::ByteSource> image, std::vector<Extent> extents, std::string name)
    : image_(std::move(image)), extents_(std::move(extents)), name_(std::move(name)) {
    for (const Extent& extent : extents_) ends_.push_back(size_ += extent.length);
}

Result<std::size_t> ExtentSource::read_at(std::uint64_t offset, std::span<std::uint8_t> buffer) {
    std::size_t done = 0;
    auto index = static_cast<std::size_t>(std::upper_bound(ends_.begin(), ends_.end(), offset) - ends_.begin());
    for (; index < extents_.size() && done < buffer.size(); ++index) {
        const Extent& extent = extents_[index];
        const std::uint64_t inside = offset + done - (ends_[index] - extent.length);
        const auto count =
            static_cast<std::size_t>(std::min<std::uint64_t>(buffer.size() - done, extent.length - inside));
        if (extent.offset == Extent::kHole) {
            std::memset(buffer.data() + done, 0, count);
            done += count;
            continue;
        }
        WAVECREST_TRY_ASSIGN(got, image_->read_at(extent.offset + inside, buffer.subspan(done, count)));
        done += got;
        if (got < count) break;
    }
    return done;
}

}  // namespace wavecrest::disc
