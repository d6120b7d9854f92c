// A ripped disc's files, whether they lie in a folder or inside a disc image.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "base/byte_source.hpp"
#include "base/cancel.hpp"
#include "base/file.hpp"
#include "base/result.hpp"

namespace wavecrest::disc {

// Names are matched without regard to case, as copies of discs change it. Paths are relative to the disc's root with
// "/" between names ("VIDEO_TS/VIDEO_TS.IFO"); "" is the root.
class DiscFiles {
  public:
    struct Entry {
        std::string name;
        bool folder = false;
        std::uint64_t size = 0;  // bytes; 0 for folders
    };

    virtual ~DiscFiles() = default;
    // The folder's or image's path, for messages.
    virtual std::string path() const = 0;
    // A name for the disc: the volume's, or the folder's.
    virtual std::string label() const = 0;
    // Fails (kind input) when there is no such folder or it can't be read.
    virtual Result<std::vector<Entry>> list(const std::string& folder) const = 0;
    virtual Result<std::unique_ptr<base::ByteSource>> open(const std::string& file) const = 0;
};

// The entry of a folder that has this name; empty name when there is none.
DiscFiles::Entry find_entry(const DiscFiles& files, const std::string& folder, const std::string& name);
// The same without regard to case; "A" to "Z" only.
bool same_name(std::string_view a, std::string_view b);

// How a disc's data is read. A failed read is tried again this often before the sector counts as lost.
struct ReadSettings {
    int retries = 2;                 // 0 to 100
    const Cancel* cancel = nullptr;  // asked while a file server is waited for; null: nobody cancels
};

// Files of a folder.
std::shared_ptr<DiscFiles> folder_files(const base::Path& folder, const ReadSettings& settings = {});

// Files of a disc image: UDF (revisions 1.02 to 2.60, metadata partitions included) where there is one, else
// ISO 9660. Fails (kind input) when the image holds neither or its structures are damaged beyond use.
Result<std::shared_ptr<DiscFiles>> image_files(std::shared_ptr<base::ByteSource> image);
// Opens the image file with retries.
Result<std::shared_ptr<DiscFiles>> open_image(const base::Path& image, const ReadSettings& settings = {});

// Whether these bytes (from offset 32768 on, at least 2048) open a file system of a disc.
bool looks_like_image(ByteSpan volume_recognition);

// An interval of a file inside an image.
struct Extent {
    std::uint64_t offset = 0;  // in the image; kHole: not recorded, reads as zeros
    std::uint64_t length = 0;  // bytes

    static constexpr std::uint64_t kHole = ~std::uint64_t{0};
};

// A file made of extents of an image.
class ExtentSource : public base::ByteSource {
  public:
    ExtentSource(std::shared_ptr<base::ByteSource> image, std::vector<Extent> extents, std::string name);
    std::uint64_t size() const override { return size_; }
    std::string name() const override { return name_; }
    Result<std::size_t> read_at(std::uint64_t offset, std::span<std::uint8_t> buffer) override;

  private:
    std::shared_ptr<base::ByteSource> image_;
    std::vector<Extent> extents_;
    std::vector<std::uint64_t> ends_;
    std::uint64_t size_ = 0;
    std::string name_;
};

}  // namespace wavecrest::disc
