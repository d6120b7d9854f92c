#include "disc/udf.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cstring>
#include <optional>

#include "base/byte_source.hpp"
#include "disc/udf_format.hpp"

namespace wavecrest::disc {
namespace {

using namespace udf;

constexpr std::uint64_t kLargestFolder = 16 << 20;
constexpr std::size_t kMostExtents = 200'000;
constexpr std::size_t kMostDescriptors = 256;
constexpr int kMostContinuations = 1000;
constexpr int kDeepest = 16;

std::uint16_t le16(ByteSpan b, std::size_t at) {
    return at + 2 <= b.size() ? static_cast<std::uint16_t>(b[at] | b[at + 1] << 8) : std::uint16_t{0};
}
std::uint32_t le32(ByteSpan b, std::size_t at) {
    return static_cast<std::uint32_t>(le16(b, at)) | static_cast<std::uint32_t>(le16(b, at + 2)) << 16;
}
std::uint64_t le64(ByteSpan b, std::size_t at) {
    return le32(b, at) | static_cast<std::uint64_t>(le32(b, at + 4)) << 32;
}

// The tag's own checksum (7.2.3), and the identifier.
bool has_tag(ByteSpan bytes, std::uint16_t identifier) {
    if (bytes.size() < kTagSize || le16(bytes, 0) != identifier) return false;
    unsigned sum = 0;
    for (std::size_t i = 0; i < kTagSize; ++i) sum += i == 4 ? 0u : bytes[i];
    return (sum & 0xFF) == bytes[4];
}

// A name in OSTA compressed Unicode (2.1.1): 8 or 16 bits a character, given as UTF-8.
std::string decode_name(ByteSpan bytes) {
    std::string out;
    if (bytes.empty()) return out;
    const std::size_t step = bytes[0] == 16 ? 2 : 1;
    for (std::size_t i = 1; i + step <= bytes.size(); i += step) {
        const unsigned c = step == 2 ? static_cast<unsigned>(bytes[i] << 8 | bytes[i + 1]) : bytes[i];
        if (c < 0x80) {
            out += static_cast<char>(c);
        } else if (c < 0x800) {
            out += static_cast<char>(0xC0 | c >> 6);
            out += static_cast<char>(0x80 | (c & 0x3F));
        } else {
            out += static_cast<char>(0xE0 | c >> 12);
            out += static_cast<char>(0x80 | (c >> 6 & 0x3F));
            out += static_cast<char>(0x80 | (c & 0x3F));
        }
    }
    return out;
}

// A position within a partition of the logical volume (ECMA-167 4/7.1).
struct Place {
    std::uint32_t block = 0;
    std::uint16_t partition = 0;
};

struct Node {
    bool folder = false;
    std::uint64_t size = 0;
    ByteVector inlined;  // data recorded in the file entry itself
    std::vector<Extent> extents;
};

struct Partition {
    std::uint64_t first_block = 0;
    std::uint64_t blocks = 0;
    std::vector<Extent> metadata;  // of a metadata partition: where its blocks lie in the image
    bool is_metadata = false;
};

class Udf : public DiscFiles {
  public:
    explicit Udf(std::shared_ptr<base::ByteSource> image) : image_(std::move(image)) {}

    Status mount();

    std::string path() const override { return image_->name(); }
    std::string label() const override { return label_; }
    Result<std::vector<Entry>> list(const std::string& folder) const override {
        WAVECREST_TRY_ASSIGN(place, locate(folder));
        WAVECREST_TRY_ASSIGN(children, read_folder(place));
        std::vector<Entry> entries;
        for (const Child& child : children) {
            Entry entry{child.name, child.folder, 0};
            if (!child.folder) {
                // An entry that can't be read is listed all the same: opening it tells why.
                if (const auto node = read_node(child.place)) entry.size = node->size;
            }
            entries.push_back(std::move(entry));
        }
        return entries;
    }
    Result<std::unique_ptr<base::ByteSource>> open(const std::string& file) const override {
        WAVECREST_TRY_ASSIGN(place, locate(file));
        WAVECREST_TRY_ASSIGN(node, read_node(place));
        if (node.folder)
            return fail(ErrorKind::input, "this is a folder", path() + ": " + file, "name a file of the disc");
        if (!node.inlined.empty() || node.size == 0) {
            return std::unique_ptr<base::ByteSource>(
                std::make_unique<base::MemorySource>(std::move(node.inlined), path() + ": " + file));
        }
        return std::unique_ptr<base::ByteSource>(
            std::make_unique<ExtentSource>(image_, std::move(node.extents), path() + ": " + file));
    }

  private:
    struct Child {
        std::string name;
        bool folder = false;
        Place place;
    };

    tl::unexpected<Error> damaged(std::string what, std::uint64_t block) const {
        return fail(ErrorKind::input, std::move(what), fmt::format("{}, byte {}", image_->name(), block * kBlock),
                    "make the image again");
    }
    Result<ByteVector> read_block(std::uint64_t block) const {
        return base::read_exactly(*image_, block * kBlock, kBlock);
    }
    Result<std::uint64_t> image_block(Place place) const {
        if (place.partition >= partitions_.size())
            return damaged(fmt::format("a file names partition {}, which does not exist", place.partition), 0);
        const Partition& partition = partitions_[place.partition];
        if (!partition.is_metadata) {
            if (place.block >= partition.blocks)
                return damaged("a file points outside its partition", partition.first_block);
            return partition.first_block + place.block;
        }
        std::uint64_t offset = std::uint64_t{place.block} * kBlock;
        for (const Extent& extent : partition.metadata) {
            if (offset < extent.length) return (extent.offset + offset) / kBlock;
            offset -= extent.length;
        }
        return damaged("a file points outside the metadata partition", 0);
    }

    Status read_volume(std::uint64_t first, std::uint64_t count);
    Status add_partition_map(ByteSpan map);
    Status read_root();
    Result<Node> read_node(Place place) const;
    Result<std::vector<Child>> read_folder(Place place) const;
    Result<Place> locate(const std::string& name) const;

    std::shared_ptr<base::ByteSource> image_;
    std::string label_;
    struct Physical {
        std::uint16_t number;
        std::uint64_t first, blocks;
    };
    std::vector<Physical> physical_;
    std::vector<Partition> partitions_;  // as the partition maps number them
    Place file_set_;
    Place root_;
    bool has_volume_ = false;
};

Status Udf::mount() {
    const std::uint64_t blocks = image_->size() / kBlock;
    // The anchor stands at 256, or near the end (3/8.4.2.1).
    std::optional<ByteVector> anchor;
    for (const std::uint64_t at : {std::uint64_t{256}, blocks - 1, blocks - 257}) {
        if (at >= blocks) continue;
        auto bytes = read_block(at);
        if (bytes && has_tag(*bytes, kAnchor)) {
            anchor = std::move(*bytes);
            break;
        }
    }
    if (!anchor) {
        return fail(ErrorKind::input, "there is no disc file system here", image_->name(),
                    "name a disc image, or make it again");
    }
    Status status;
    // The main sequence of descriptors, or the reserve one.
    for (const std::size_t field : {kAnchorMain, kAnchorReserve}) {
        physical_.clear();
        partitions_.clear();
        has_volume_ = false;
        status = read_volume(le32(*anchor, field + 4), le32(*anchor, field) / kBlock);
        if (status) status = read_root();
        if (status) break;
    }
    return status;
}

Status Udf::read_volume(std::uint64_t first, std::uint64_t count) {
    std::optional<ByteVector> volume;
    for (std::uint64_t i = 0; i < std::min<std::uint64_t>(count, kMostDescriptors); ++i) {
        WAVECREST_TRY_ASSIGN(bytes, read_block(first + i));
        if (has_tag(bytes, kTerminating)) break;
        if (has_tag(bytes, kPartitionDescriptor)) {
            physical_.push_back(
                {le16(bytes, kPartitionNumber), le32(bytes, kPartitionStart), le32(bytes, kPartitionLength)});
        } else if (has_tag(bytes, kLogicalVolume)) {
            volume = std::move(bytes);
        }
    }
    if (!volume || physical_.empty()) return damaged("the volume's descriptors are missing", first);
    if (le32(*volume, kVolumeBlockSize) != kBlock) {
        return fail(ErrorKind::input,
                    fmt::format("blocks of {} bytes are not used on video discs", le32(*volume, kVolumeBlockSize)),
                    image_->name(), "name the image of a DVD or Blu-ray disc");
    }
    const std::size_t label_length = std::min<std::size_t>((*volume)[kVolumeIdentifier + 127], 127);
    label_ = decode_name(ByteSpan(*volume).subspan(kVolumeIdentifier, label_length));
    file_set_ = {le32(*volume, kVolumeContents + 4), le16(*volume, kVolumeContents + 8)};
    const std::size_t maps = le32(*volume, kVolumeMapCount);
    std::size_t at = kVolumeMaps;
    for (std::size_t i = 0; i < maps; ++i) {
        if (at + 2 > volume->size() || (*volume)[at + 1] < 6 || at + (*volume)[at + 1] > volume->size())
            return damaged("the partition maps are damaged", first);
        WAVECREST_TRY(add_partition_map(ByteSpan(*volume).subspan(at, (*volume)[at + 1])));
        at += (*volume)[at + 1];
    }
    return {};
}

Status Udf::add_partition_map(ByteSpan map) {
    Partition partition;
    std::uint16_t number = le16(map, 4);
    if (map[0] == 2) {
        if (map.size() < 64) return damaged("a partition map is truncated", 0);
        const std::string kind(reinterpret_cast<const char*>(map.data() + 5), 23);
        number = le16(map, 38);
        partition.is_metadata = kind.starts_with(kMetadataPartition);
        if (!partition.is_metadata && !kind.starts_with(kSparablePartition)) {
            return fail(ErrorKind::input, "the image's partition is of a kind that is not used on video discs",
                        image_->name(), "name the image of a DVD or Blu-ray disc");
        }
    }
    const auto found =
        std::find_if(physical_.begin(), physical_.end(), [&](const Physical& p) { return p.number == number; });
    if (found == physical_.end()) return damaged("a partition map names a partition that does not exist", 0);
    partition.first_block = found->first;
    partition.blocks = found->blocks;
    if (partition.is_metadata) {
        // The metadata file, or its mirror, lies in the physical partition (UDF 2.50, 2.2.10).
        Udf physical(image_);
        Partition plain = partition;
        plain.is_metadata = false;
        physical.partitions_ = {plain};
        auto node = physical.read_node({le32(map, 40), 0});
        if (!node || node->extents.empty()) node = physical.read_node({le32(map, 44), 0});
        if (!node) return fail(node.error());
        partition.metadata = std::move(node->extents);
    }
    partitions_.push_back(std::move(partition));
    return {};
}

Status Udf::read_root() {
    WAVECREST_TRY_ASSIGN(block, image_block(file_set_));
    WAVECREST_TRY_ASSIGN(bytes, read_block(block));
    if (!has_tag(bytes, kFileSet)) return damaged("the file set descriptor is damaged", block);
    root_ = {le32(bytes, kFileSetRoot + 4), le16(bytes, kFileSetRoot + 8)};
    WAVECREST_TRY_ASSIGN(node, read_node(root_));
    if (!node.folder) return damaged("the root folder is damaged", block);
    return {};
}

Result<Node> Udf::read_node(Place place) const {
    WAVECREST_TRY_ASSIGN(block, image_block(place));
    WAVECREST_TRY_ASSIGN(bytes, read_block(block));
    const bool extended = has_tag(bytes, kExtendedFileEntry);
    if (!extended && !has_tag(bytes, kFileEntry)) return damaged("a file entry is damaged", block);
    Node node;
    node.folder = bytes[kEntryType] == kFolderType;
    node.size = le64(bytes, kEntrySize);
    const std::size_t attributes = le32(bytes, extended ? kExtendedAttributes : kPlainAttributes);
    const std::size_t length = le32(bytes, extended ? kExtendedAttributes + 4 : kPlainAttributes + 4);
    const std::size_t header = extended ? kExtendedEntrySize : kPlainEntrySize;
    if (attributes > kBlock || length > kBlock || header + attributes + length > kBlock)
        return damaged("a file entry is damaged", block);
    ByteVector descriptors(bytes.begin() + static_cast<std::ptrdiff_t>(header + attributes),
                           bytes.begin() + static_cast<std::ptrdiff_t>(header + attributes + length));
    const unsigned kind = le16(bytes, kEntryFlags) & 7u;
    if (kind == kInlineData) {
        if (node.size > descriptors.size()) return damaged("a file entry is damaged", block);
        descriptors.resize(static_cast<std::size_t>(node.size));
        node.inlined = std::move(descriptors);
        return node;
    }
    if (kind != kShortDescriptors && kind != kLongDescriptors) return damaged("a file entry is damaged", block);
    const std::size_t step = kind == kShortDescriptors ? 8 : 16;
    std::uint64_t total = 0;
    int continuations = 0;
    for (std::size_t at = 0; at + step <= descriptors.size() && total < node.size;) {
        const std::uint32_t word = le32(descriptors, at);
        const std::uint64_t size = word & 0x3FFFFFFF;
        const Place where{le32(descriptors, at + 4),
                          kind == kShortDescriptors ? place.partition : le16(descriptors, at + 8)};
        at += step;
        if (size == 0) break;
        switch (word >> 30) {
            case kRecorded: {
                WAVECREST_TRY_ASSIGN(start, image_block(where));
                // Neighbouring extents become one; in a metadata partition they need not lie in one piece.
                if (!partitions_[where.partition].is_metadata) {
                    if (!node.extents.empty() && node.extents.back().offset != Extent::kHole &&
                        node.extents.back().offset + node.extents.back().length == start * kBlock) {
                        node.extents.back().length += size;
                    } else {
                        node.extents.push_back({start * kBlock, size});
                    }
                } else {
                    for (std::uint64_t done = 0; done < size; done += kBlock) {
                        WAVECREST_TRY_ASSIGN(one, image_block({where.block + static_cast<std::uint32_t>(done / kBlock),
                                                               where.partition}));
                        node.extents.push_back({one * kBlock, std::min<std::uint64_t>(kBlock, size - done)});
                        if (node.extents.size() > kMostExtents) return damaged("a file has too many extents", block);
                    }
                }
                total += size;
                break;
            }
            case kContinues: {
                WAVECREST_TRY_ASSIGN(next, image_block(where));
                WAVECREST_TRY_ASSIGN(more, read_block(next));
                const std::size_t count = le32(more, 20);
                if (!has_tag(more, kAllocationExtent) || count > kBlock - 24 || ++continuations > kMostContinuations)
                    return damaged("a file's list of extents is damaged", next);
                descriptors.assign(more.begin() + 24, more.begin() + 24 + static_cast<std::ptrdiff_t>(count));
                at = 0;
                break;
            }
            default:
                node.extents.push_back({Extent::kHole, size});
                total += size;
        }
        if (node.extents.size() > kMostExtents) return damaged("a file has too many extents", block);
    }
    if (total < node.size) node.size = total;
    // The last extent may be longer than the file.
    for (std::uint64_t extra = total - node.size; extra > 0 && !node.extents.empty();) {
        const std::uint64_t cut = std::min(extra, node.extents.back().length);
        node.extents.back().length -= cut;
        extra -= cut;
        if (node.extents.back().length == 0) node.extents.pop_back();
    }
    return node;
}

Result<std::vector<Udf::Child>> Udf::read_folder(Place place) const {
    WAVECREST_TRY_ASSIGN(node, read_node(place));
    if (!node.folder) return fail(ErrorKind::input, "this is no folder", path(), "the image is damaged; make it again");
    if (node.size > kLargestFolder) return damaged("a folder is damaged", 0);
    ByteVector bytes = std::move(node.inlined);
    if (bytes.empty() && node.size > 0) {
        ExtentSource source(image_, std::move(node.extents), path());
        WAVECREST_TRY_ASSIGN(read, base::read_exactly(source, 0, static_cast<std::size_t>(node.size)));
        bytes = std::move(read);
    }
    std::vector<Child> children;
    for (std::size_t at = 0; at + kIdentifierHeader <= bytes.size();) {
        const ByteSpan entry = ByteSpan(bytes).subspan(at);
        if (!has_tag(entry, kFileIdentifier)) return damaged("a folder is damaged", place.block);
        const std::size_t name_length = entry[19], use_length = le16(entry, 36);
        const std::size_t length = kIdentifierHeader + use_length + name_length;
        if (length > entry.size()) return damaged("a folder is damaged", place.block);
        const std::uint8_t flags = entry[18];
        if ((flags & (kDeletedFlag | kParentFlag)) == 0) {
            children.push_back({decode_name(entry.subspan(kIdentifierHeader + use_length, name_length)),
                                (flags & kFolderFlag) != 0,
                                {le32(entry, 24), le16(entry, 28)}});
        }
        at += (length + 3) / 4 * 4;
    }
    return children;
}

Result<Place> Udf::locate(const std::string& name) const {
    Place at = root_;
    int depth = 0;
    for (const base::Path& part : base::Path(name)) {
        std::vector<Child> children;
        if (++depth <= kDeepest) {
            WAVECREST_TRY_ASSIGN(read, read_folder(at));
            children = std::move(read);
        }
        const auto found = std::find_if(children.begin(), children.end(),
                                        [&](const Child& c) { return same_name(c.name, part.string()); });
        if (found == children.end()) {
            return fail(ErrorKind::input, "there is no such file or folder on the disc", path() + ": " + name,
                        "the image is incomplete; make it again");
        }
        at = found->place;
    }
    return at;
}

}  // namespace

Result<std::shared_ptr<DiscFiles>> open_udf(std::shared_ptr<base::ByteSource> image) {
    auto volume = std::make_shared<Udf>(std::move(image));
    WAVECREST_TRY(volume->mount());
    return std::shared_ptr<DiscFiles>(std::move(volume));
}

}  // namespace wavecrest::disc
