#include "disc/udf_writer.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <vector>

#include "base/atomic_file.hpp"
#include "base/byte_source.hpp"
#include "disc/udf_format.hpp"

namespace wavecrest::disc {
namespace {

using namespace udf;
using base::Path;

constexpr std::uint64_t kMainSequence = 32, kReserveSequence = 48, kSequenceBlocks = 16;
constexpr std::uint64_t kIntegrityBlock = 64, kAnchorBlock = 256, kFirstBlock = 257;
constexpr std::uint64_t kLargestExtent = 0x3FFFF800;  // whole blocks that a descriptor's 30 bits hold
constexpr std::uint64_t kMetadataUnit = 32;           // blocks by which a metadata file grows

// Little-endian fields in a block.
class Block {
  public:
    Block() : bytes_(kBlock) {}
    void u8(std::size_t at, std::uint64_t v) { bytes_[at] = static_cast<std::uint8_t>(v); }
    void u16(std::size_t at, std::uint64_t v) { put(at, v, 2); }
    void u32(std::size_t at, std::uint64_t v) { put(at, v, 4); }
    void u64(std::size_t at, std::uint64_t v) { put(at, v, 8); }
    void text(std::size_t at, std::string_view text) {
        std::copy(text.begin(), text.end(), bytes_.begin() + static_cast<std::ptrdiff_t>(at));
    }
    // A dstring (1/7.2.12): compression identifier, characters, and the length in the field's last byte.
    void dstring(std::size_t at, std::size_t size, const std::string& text) {
        const std::string part = text.substr(0, size - 2);
        u8(at, 8);
        this->text(at + 1, part);
        u8(at + size - 1, part.size() + 1);
    }
    void character_set(std::size_t at) { text(at + 1, "OSTA Compressed Unicode"); }
    void entity(std::size_t at, std::string_view name, std::uint16_t revision = 0) {
        text(at + 1, name);
        if (revision != 0) u16(at + 24, revision);
    }
    void time(std::size_t at) {
        u16(at, 1 << 12);  // coordinated universal time; a fixed day, so that the same disc gives the same bytes
        u16(at + 2, 2020);
        u8(at + 4, 1);
        u8(at + 5, 1);
    }
    void long_ad(std::size_t at, std::uint64_t length, std::uint64_t block, std::uint64_t partition) {
        u32(at, length);
        u32(at + 4, block);
        u16(at + 8, partition);
    }
    // The tag in front (3/7.2), over `length` bytes in all.
    void tag(std::uint16_t identifier, std::uint64_t location, std::size_t length, bool version3, std::size_t at = 0) {
        u16(at, identifier);
        u16(at + 2, version3 ? 3 : 2);
        u16(at + 6, 1);
        std::uint16_t crc = 0;
        for (std::size_t i = at + kTagSize; i < at + length; ++i) {
            crc ^= static_cast<std::uint16_t>(bytes_[i] << 8);
            for (int k = 0; k < 8; ++k)
                crc = static_cast<std::uint16_t>((crc & 0x8000) != 0 ? crc << 1 ^ 0x1021 : crc << 1);
        }
        u16(at + 8, crc);
        u16(at + 10, length - kTagSize);
        u32(at + 12, location);
        unsigned sum = 0;
        for (std::size_t i = at; i < at + kTagSize; ++i) sum += i == at + 4 ? 0u : bytes_[i];
        u8(at + 4, sum & 0xFF);
    }
    const ByteVector& bytes() const { return bytes_; }

  private:
    void put(std::size_t at, std::uint64_t v, int count) {
        for (int i = 0; i < count; ++i)
            bytes_[at + static_cast<std::size_t>(i)] = static_cast<std::uint8_t>(v >> (8 * i));
    }
    ByteVector bytes_;
};

struct Node {
    std::string name;
    Path path;
    bool folder = false;
    std::uint64_t size = 0;
    std::vector<std::size_t> children;
    std::size_t parent = 0;
    std::uint64_t entry = 0;  // block of its file entry, in the partition of entries
    std::uint64_t data = 0;   // first block of its data: folders likewise, files in the physical partition
    ByteVector listing;       // of a folder
};

class ImageWriter {
  public:
    ImageWriter(std::string label, UdfRevision revision)
        : label_(std::move(label)), metadata_(revision == UdfRevision::blu_ray) {}

    Status collect(const Path& folder) {
        nodes_.push_back({"", folder, true, 0, {}, 0, 0, 0, {}});
        for (std::size_t i = 0; i < nodes_.size(); ++i) {
            if (!nodes_[i].folder) continue;
            std::vector<Path> entries;
            std::error_code error;
            for (const auto& entry : std::filesystem::directory_iterator(nodes_[i].path, error))
                entries.push_back(entry.path());
            if (error)
                return fail(ErrorKind::input, "the folder can't be read: " + error.message(), nodes_[i].path.string(),
                            "check its permissions");
            std::sort(entries.begin(), entries.end());
            for (const Path& path : entries) {
                Node node{
                    path.filename().string(), path, std::filesystem::is_directory(path, error), 0, {}, i, 0, 0, {}};
                if (!node.folder) node.size = std::filesystem::file_size(path, error);
                nodes_[i].children.push_back(nodes_.size());
                nodes_.push_back(std::move(node));
            }
        }
        return {};
    }

    Status write(const Path& image) {
        lay_out();
        WAVECREST_TRY_ASSIGN(file, base::AtomicFile::create(image, base::AtomicFile::IfExists::refuse));
        file_ = &file;
        WAVECREST_TRY(write_volume());
        WAVECREST_TRY(write_entries());
        for (const Node& node : nodes_) {
            if (!node.folder) WAVECREST_TRY(copy(node));
        }
        WAVECREST_TRY(pad_to(total_blocks_ - 1));
        WAVECREST_TRY(file.write(anchor(total_blocks_ - 1).bytes()));
        return file.commit();
    }

  private:
    static std::uint64_t blocks(std::uint64_t bytes) { return (bytes + kBlock - 1) / kBlock; }

    // Where everything goes. Blocks count from the partition's start; entries lie in the metadata partition where there
    // is one.
    void lay_out() {
        // Block 0 is the file set descriptor, 1 its terminator.
        std::uint64_t next = 2;
        for (Node& node : nodes_) node.entry = next++;
        for (Node& node : nodes_) {
            if (!node.folder) continue;
            node.listing.clear();
            node.data = next;
            node.size = listing_size(node);
            next += blocks(node.size);
        }
        entry_blocks_ = next;
        std::uint64_t data = next;
        if (metadata_) {
            // The metadata file's entry, its mirror's, then the metadata itself, then the files.
            entry_blocks_ = (next + kMetadataUnit - 1) / kMetadataUnit * kMetadataUnit;
            data = kMetadataUnit + entry_blocks_;
        }
        for (Node& node : nodes_) {
            if (node.folder) continue;
            node.data = data;
            data += blocks(node.size);
        }
        partition_blocks_ = data;
        total_blocks_ = kFirstBlock + partition_blocks_ + 1;
    }
    std::uint64_t entries_at() const { return metadata_ ? kMetadataUnit : 0; }
    std::uint16_t entry_partition() const { return metadata_ ? 1 : 0; }

    static std::size_t identifier_size(const std::string& name) {
        return (kIdentifierHeader + (name.empty() ? 0 : name.size() + 1) + 3) / 4 * 4;
    }
    std::uint64_t listing_size(const Node& node) const {
        std::uint64_t size = identifier_size("");
        for (const std::size_t child : node.children) size += identifier_size(nodes_[child].name);
        return size;
    }
    ByteVector make_listing(const Node& node) const {
        ByteVector bytes;
        const auto add = [&](const Node& target, const std::string& name, std::uint8_t flags) {
            Block b;
            b.u16(16, 1);
            b.u8(18, flags);
            b.u8(19, name.empty() ? 0 : name.size() + 1);
            b.long_ad(20, kBlock, target.entry, entry_partition());
            b.u16(36, 0);
            if (!name.empty()) {
                b.u8(kIdentifierHeader, 8);
                b.text(kIdentifierHeader + 1, name);
            }
            const std::size_t size = identifier_size(name);
            b.tag(kFileIdentifier, node.data + bytes.size() / kBlock, size, metadata_);
            bytes.insert(bytes.end(), b.bytes().begin(), b.bytes().begin() + static_cast<std::ptrdiff_t>(size));
        };
        add(nodes_[node.parent], "", kParentFlag | kFolderFlag);
        for (const std::size_t child : node.children)
            add(nodes_[child], nodes_[child].name, nodes_[child].folder ? kFolderFlag : 0);
        bytes.resize(static_cast<std::size_t>(blocks(bytes.size()) * kBlock));
        return bytes;
    }

    Block anchor(std::uint64_t at) const {
        Block b;
        b.u32(kAnchorMain, kSequenceBlocks * kBlock);
        b.u32(kAnchorMain + 4, kMainSequence);
        b.u32(kAnchorReserve, kSequenceBlocks * kBlock);
        b.u32(kAnchorReserve + 4, kReserveSequence);
        b.tag(kAnchor, at, 512, metadata_);
        return b;
    }
    std::uint16_t revision() const { return metadata_ ? 0x0250 : 0x0102; }

    std::vector<Block> volume_sequence(std::uint64_t start) const {
        std::vector<Block> all;
        Block primary;
        primary.u32(16, 0);
        primary.dstring(24, 32, label_);
        primary.u16(56, 1);
        primary.u16(58, 1);
        primary.u16(60, 2);
        primary.u16(62, 2);
        primary.u32(64, 1);
        primary.u32(68, 1);
        primary.dstring(72, 128, label_);
        primary.character_set(200);
        primary.character_set(264);
        primary.entity(388, "*Wavecrest");
        primary.time(376);
        primary.tag(kPrimaryVolume, start + all.size(), 512, metadata_);
        all.push_back(primary);

        Block use;
        use.u32(16, 1);
        use.entity(20, "*UDF LV Info", revision());
        use.character_set(52);
        use.dstring(116, 128, label_);
        use.tag(kImplementationUse, start + all.size(), 512, metadata_);
        all.push_back(use);

        Block partition;
        partition.u32(16, 2);
        partition.u16(20, 1);
        partition.u16(kPartitionNumber, 0);
        partition.entity(24, metadata_ ? "+NSR03" : "+NSR02");
        partition.u32(184, 1);  // read only
        partition.u32(udf::kPartitionStart, kFirstBlock);
        partition.u32(kPartitionLength, partition_blocks_);
        partition.tag(kPartitionDescriptor, start + all.size(), 512, metadata_);
        all.push_back(partition);

        Block volume;
        volume.u32(16, 3);
        volume.character_set(20);
        volume.dstring(kVolumeIdentifier, 128, label_);
        volume.u32(kVolumeBlockSize, kBlock);
        volume.entity(216, "*OSTA UDF Compliant", revision());
        volume.long_ad(kVolumeContents, kBlock, 0, entry_partition());
        volume.u32(kVolumeMapLength, metadata_ ? 70 : 6);
        volume.u32(kVolumeMapCount, metadata_ ? 2 : 1);
        volume.u32(432, 2 * kBlock);
        volume.u32(436, kIntegrityBlock);
        std::size_t at = kVolumeMaps;
        volume.u8(at, 1);
        volume.u8(at + 1, 6);
        volume.u16(at + 2, 1);
        volume.u16(at + 4, 0);
        if (metadata_) {
            at += 6;
            volume.u8(at, 2);
            volume.u8(at + 1, 64);
            volume.entity(at + 4, kMetadataPartition, revision());
            volume.u16(at + 36, 1);
            volume.u16(at + 38, 0);
            volume.u32(at + 40, 0);  // the metadata file's entry, its mirror's, no bitmap
            volume.u32(at + 44, 1);
            volume.u32(at + 48, 0xFFFFFFFF);
            volume.u32(at + 52, kMetadataUnit);
            volume.u16(at + 56, 1);
        }
        volume.tag(kLogicalVolume, start + all.size(), metadata_ ? 512u : 446u, metadata_);
        all.push_back(volume);

        Block unallocated;
        unallocated.u32(16, 4);
        unallocated.tag(kUnallocatedSpace, start + all.size(), 24, metadata_);
        all.push_back(unallocated);
        Block end;
        end.tag(kTerminating, start + all.size(), 512, metadata_);
        all.push_back(end);
        return all;
    }

    Status put(std::uint64_t at, const Block& block) {
        WAVECREST_TRY(pad_to(at));
        return file_->write(block.bytes());
    }
    Status pad_to(std::uint64_t at) {
        const ByteVector zeros(kBlock);
        while (file_->size() < at * kBlock) WAVECREST_TRY(file_->write(zeros));
        return {};
    }

    Status write_volume() {
        // Volume recognition (2/9): what standards the volume follows.
        std::uint64_t at = 16;
        for (const char* mark : {"BEA01", metadata_ ? "NSR03" : "NSR02", "TEA01"}) {
            Block b;
            b.text(1, mark);
            b.u8(6, 1);
            WAVECREST_TRY(put(at++, b));
        }
        for (const std::uint64_t start : {kMainSequence, kReserveSequence}) {
            at = start;
            for (const Block& block : volume_sequence(start)) WAVECREST_TRY(put(at++, block));
        }
        Block integrity;
        integrity.time(16);
        integrity.u32(28, 1);  // closed
        const std::size_t partitions = metadata_ ? 2 : 1;
        integrity.u64(40, nodes_.size() + 16);
        integrity.u32(72, partitions);
        integrity.u32(76, 46);
        // Free space and size of each partition, then the implementation's use.
        integrity.u32(80 + 4 * partitions, partition_blocks_);
        if (metadata_) integrity.u32(84 + 4 * partitions, entry_blocks_);
        const std::size_t use = 80 + 8 * partitions;
        integrity.entity(use, "*Wavecrest");
        const auto folders = std::count_if(nodes_.begin(), nodes_.end(), [](const Node& n) { return n.folder; });
        integrity.u32(use + 32, nodes_.size() - static_cast<std::size_t>(folders));
        integrity.u32(use + 36, static_cast<std::uint64_t>(folders));
        integrity.u16(use + 40, revision());
        integrity.u16(use + 42, revision());
        integrity.u16(use + 44, revision());
        integrity.tag(kIntegrity, kIntegrityBlock, use + 46, metadata_);
        WAVECREST_TRY(put(kIntegrityBlock, integrity));
        Block end;
        end.tag(kTerminating, kIntegrityBlock + 1, 512, metadata_);
        WAVECREST_TRY(put(kIntegrityBlock + 1, end));
        return put(kAnchorBlock, anchor(kAnchorBlock));
    }

    // A file entry: plain in revision 1.02, extended in 2.50.
    Block make_entry(std::uint8_t type, std::uint64_t size, std::uint64_t location, std::uint64_t data,
                     std::uint64_t links, bool long_descriptors, std::uint64_t id) const {
        Block b;
        b.u16(20, 4);  // strategy
        b.u16(24, 1);
        b.u8(kEntryType, type);
        b.u16(kEntryFlags, long_descriptors ? kLongDescriptors : kShortDescriptors);
        b.u32(36, 0xFFFFFFFF);  // no owner, no group
        b.u32(40, 0xFFFFFFFF);
        b.u32(44, 0x14A5);  // all may read and look inside
        b.u16(48, links);
        b.u64(kEntrySize, size);
        const std::size_t after_size = metadata_ ? 64 : 56;
        if (metadata_) b.u64(64, size);
        b.u64(after_size + 8, blocks(size));
        b.time(after_size + 16);
        b.time(after_size + 28);
        if (metadata_) b.time(after_size + 40);
        const std::size_t attributes = metadata_ ? kExtendedAttributes : kPlainAttributes;
        b.u32(metadata_ ? 128 : 108, 1);  // checkpoint
        b.entity(metadata_ ? 168 : 128, "*Wavecrest");
        b.u64(metadata_ ? 200 : 160, id);
        std::size_t at = metadata_ ? kExtendedEntrySize : kPlainEntrySize;
        std::size_t length = 0;
        for (std::uint64_t left = size, block = data; left > 0;) {
            const std::uint64_t part = std::min(left, kLargestExtent);
            if (long_descriptors) {
                b.long_ad(at, part, block, 0);
            } else {
                b.u32(at, part);
                b.u32(at + 4, block);
            }
            at += long_descriptors ? 16 : 8;
            length += long_descriptors ? 16 : 8;
            block += part / kBlock;
            left -= part;
        }
        b.u32(attributes + 4, length);
        b.tag(metadata_ ? kExtendedFileEntry : kFileEntry, location, at, metadata_);
        return b;
    }

    Status write_entries() {
        if (metadata_) {
            const std::uint64_t size = entry_blocks_ * kBlock;
            WAVECREST_TRY(put(kFirstBlock, make_entry(kMetadataFileType, size, 0, kMetadataUnit, 1, false, 0)));
            WAVECREST_TRY(put(kFirstBlock + 1, make_entry(kMetadataMirrorType, size, 1, kMetadataUnit, 1, false, 0)));
        }
        const std::uint64_t start = kFirstBlock + entries_at();
        Block set;
        set.time(16);
        set.u16(28, 3);
        set.u16(30, 3);
        set.u32(32, 1);
        set.u32(36, 1);
        set.character_set(48);
        set.dstring(112, 128, label_);
        set.character_set(240);
        set.dstring(304, 32, label_);
        set.long_ad(kFileSetRoot, kBlock, nodes_.front().entry, entry_partition());
        set.entity(416, "*OSTA UDF Compliant", revision());
        set.tag(kFileSet, 0, 512, metadata_);
        WAVECREST_TRY(put(start, set));
        Block end;
        end.tag(kTerminating, 1, 512, metadata_);
        WAVECREST_TRY(put(start + 1, end));
        std::uint64_t id = 0;
        for (const Node& node : nodes_) {
            const auto folders = std::count_if(node.children.begin(), node.children.end(),
                                               [&](std::size_t c) { return nodes_[c].folder; });
            const Block entry =
                make_entry(node.folder ? kFolderType : kFileType, node.size, node.entry, node.data,
                           node.folder ? static_cast<std::uint64_t>(folders) + 1 : 1, metadata_ && !node.folder, id);
            id = id == 0 ? 16 : id + 1;
            WAVECREST_TRY(put(start + node.entry, entry));
        }
        for (const Node& node : nodes_) {
            if (!node.folder) continue;
            WAVECREST_TRY(pad_to(start + node.data));
            WAVECREST_TRY(file_->write(make_listing(node)));
        }
        return {};
    }

    Status copy(const Node& node) {
        WAVECREST_TRY(pad_to(kFirstBlock + node.data));
        WAVECREST_TRY_ASSIGN(source, base::FileSource::open(node.path));
        ByteVector buffer(1 << 20);
        for (std::uint64_t at = 0; at < node.size;) {
            WAVECREST_TRY_ASSIGN(got, source.read_at(at, buffer));
            if (got == 0) break;
            WAVECREST_TRY(file_->write(ByteSpan(buffer).first(got)));
            at += got;
        }
        // The next begins at a block.
        const std::uint64_t end = file_->size();
        if (end % kBlock != 0) WAVECREST_TRY(file_->write(ByteVector(static_cast<std::size_t>(kBlock - end % kBlock))));
        return {};
    }

    std::string label_;
    bool metadata_;
    std::vector<Node> nodes_;
    std::uint64_t entry_blocks_ = 0, partition_blocks_ = 0, total_blocks_ = 0;
    base::AtomicFile* file_ = nullptr;
};

}  // namespace

Status write_udf_image(const Path& folder, const Path& image, const std::string& label, UdfRevision revision) {
    ImageWriter writer(label, revision);
    WAVECREST_TRY(writer.collect(folder));
    return writer.write(image);
}

}  // namespace wavecrest::disc
