#include "disc/iso9660.hpp"
#include "base/byte_source.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <optional>

namespace wavecrest::disc {
namespace {

// ECMA-119 clauses 8.4 (primary volume descriptor) and 9.1 (directory record).
constexpr std::uint64_t kSector = 2048;
constexpr std::uint64_t kFirstDescriptor = 16;
constexpr std::size_t kMostDescriptors = 32;
constexpr std::uint8_t kPrimary = 1, kTerminator = 255;
constexpr std::size_t kVolumeIdentifier = 40, kBlockSize = 128, kRootRecord = 156;
constexpr std::size_t kRecordMinimum = 34;
constexpr std::uint8_t kFolderFlag = 0x02, kMultiExtentFlag = 0x80;
constexpr std::uint64_t kLargestFolder = 16 << 20;
constexpr std::size_t kMostEntries = 100'000;
constexpr int kDeepest = 16;

// Numbers recorded in both byte orders (7.2.3, 7.3.3): the little-endian half comes first.
std::uint32_t both32(ByteSpan bytes, std::size_t at) {
    return static_cast<std::uint32_t>(bytes[at] | bytes[at + 1] << 8 | bytes[at + 2] << 16) |
           static_cast<std::uint32_t>(bytes[at + 3]) << 24;
}
std::uint16_t both16(ByteSpan bytes, std::size_t at) {
    return static_cast<std::uint16_t>(bytes[at] | bytes[at + 1] << 8);
}

struct Record {
    std::string name;
    bool folder = false;
    std::vector<Extent> extents;
    std::uint64_t size = 0;
};

class Iso9660 : public DiscFiles {
  public:
    Iso9660(std::shared_ptr<base::ByteSource> image, std::string label, Record root, std::uint64_t block)
        : image_(std::move(image)), label_(std::move(label)), root_(std::move(root)), block_(block) {}

    std::string path() const override { return image_->name(); }
    std::string label() const override { return label_; }
    Result<std::vector<Entry>> list(const std::string& folder) const override {
        WAVECREST_TRY_ASSIGN(record, locate(folder));
        WAVECREST_TRY_ASSIGN(records, read_folder(record));
        std::vector<Entry> entries;
        for (const Record& r : records) entries.push_back({r.name, r.folder, r.folder ? 0 : r.size});
        return entries;
    }
    Result<std::unique_ptr<base::ByteSource>> open(const std::string& file) const override {
        WAVECREST_TRY_ASSIGN(record, locate(file));
        if (record.folder)
            return fail(ErrorKind::input, "this is a folder", path() + ": " + file, "name a file of the disc");
        return std::unique_ptr<base::ByteSource>(
            std::make_unique<ExtentSource>(image_, record.extents, path() + ": " + file));
    }

    static std::optional<Record> parse_record(ByteSpan bytes, std::uint64_t block) {
        if (bytes.size() < kRecordMinimum || bytes.size() < 33u + bytes[32]) return std::nullopt;
        Record record;
        record.folder = (bytes[25] & kFolderFlag) != 0;
        record.size = both32(bytes, 10);
        // Data begins after the extended attribute record (9.1.2, 9.1.3).
        record.extents.push_back({(std::uint64_t{both32(bytes, 2)} + bytes[1]) * block, record.size});
        const std::size_t length = bytes[32];
        record.name.assign(reinterpret_cast<const char*>(bytes.data() + 33), length);
        if (const auto version = record.name.rfind(';'); version != std::string::npos) record.name.resize(version);
        if (!record.name.empty() && record.name.back() == '.') record.name.pop_back();
        return record;
    }

  private:
    Result<std::vector<Record>> read_folder(const Record& folder) const {
        const auto damaged = [&](std::uint64_t at) {
            return fail(ErrorKind::input, "a folder of the disc image is damaged",
                        fmt::format("{}, byte {}", path(), folder.extents.front().offset + at), "make the image again");
        };
        if (!folder.folder) return fail(ErrorKind::input, "this is no folder", path(), "name a folder of the disc");
        if (folder.size > kLargestFolder) return damaged(0);
        ExtentSource source(image_, folder.extents, path());
        WAVECREST_TRY_ASSIGN(bytes, base::read_exactly(source, 0, folder.size));
        std::vector<Record> records;
        bool joins = false;  // the record before was one extent of this same file
        for (std::size_t at = 0; at < bytes.size();) {
            const std::size_t length = bytes[at];
            if (length == 0) {  // no record crosses a sector's end (6.8.1.1)
                at = (at / kSector + 1) * kSector;
                continue;
            }
            if (at + length > bytes.size()) return damaged(at);
            const ByteSpan raw = ByteSpan(bytes).subspan(at, length);
            auto record = parse_record(raw, block_);
            if (!record) return damaged(at);
            at += length;
            if (raw[32] == 1 && raw[33] <= 1) continue;  // the folder itself and its parent
            if (joins && !records.empty() && records.back().name == record->name) {
                records.back().extents.push_back(record->extents.front());
                records.back().size += record->size;
            } else {
                records.push_back(std::move(*record));
            }
            joins = (raw[25] & kMultiExtentFlag) != 0;
            if (records.size() > kMostEntries) return damaged(at);
        }
        return records;
    }

    Result<Record> locate(const std::string& name) const {
        Record at = root_;
        int depth = 0;
        for (const base::Path& part : base::Path(name)) {
            const bool usable = at.folder && ++depth <= kDeepest;
            std::vector<Record> records;
            if (usable) {
                WAVECREST_TRY_ASSIGN(read, read_folder(at));
                records = std::move(read);
            }
            const auto found = std::find_if(records.begin(), records.end(),
                                            [&](const Record& r) { return same_name(r.name, part.string()); });
            if (found == records.end()) {
                return fail(ErrorKind::input, "there is no such file or folder on the disc", path() + ": " + name,
                            "the image is incomplete; make it again");
            }
            at = *found;
        }
        return at;
    }

    std::shared_ptr<base::ByteSource> image_;
    std::string label_;
    Record root_;
    std::uint64_t block_;
};

}  // namespace

bool is_iso9660(base::ByteSource& image) {
    std::uint8_t mark[6] = {};
    const auto got = image.read_at(kFirstDescriptor * kSector, mark);
    return got && *got == sizeof mark && std::equal(mark + 1, mark + 6, "CD001");
}

Result<std::shared_ptr<DiscFiles>> open_iso9660(std::shared_ptr<base::ByteSource> image) {
    const auto failed = [&](const char* what, std::uint64_t sector) {
        return fail(ErrorKind::input, what, fmt::format("{}, byte {}", image->name(), sector * kSector),
                    "name a disc image, or make it again");
    };
    for (std::uint64_t i = 0; i < kMostDescriptors; ++i) {
        const std::uint64_t sector = kFirstDescriptor + i;
        auto bytes = base::read_exactly(*image, sector * kSector, kSector);
        if (!bytes || !std::equal(bytes->begin() + 1, bytes->begin() + 6, "CD001")) {
            return failed(i == 0 ? "there is no ISO 9660 file system here" : "the volume descriptors are damaged",
                          sector);
        }
        if ((*bytes)[0] == kTerminator) break;
        if ((*bytes)[0] != kPrimary) continue;
        const std::uint64_t block = both16(*bytes, kBlockSize);
        auto root = Iso9660::parse_record(ByteSpan(*bytes).subspan(kRootRecord, kRecordMinimum), block);
        if (block < 512 || block > kSector || !root || !root->folder)
            return failed("the volume descriptor is damaged", sector);
        std::string label(bytes->begin() + kVolumeIdentifier, bytes->begin() + kVolumeIdentifier + 32);
        label.erase(label.find_last_not_of(std::string(" \0", 2)) + 1);
        return std::shared_ptr<DiscFiles>(
            std::make_shared<Iso9660>(std::move(image), std::move(label), std::move(*root), block));
    }
    return failed("there is no primary volume descriptor", kFirstDescriptor);
}

}  // namespace wavecrest::disc
