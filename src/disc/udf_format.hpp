// Layouts of ECMA-167 structures as the OSTA UDF specification uses them on video discs: byte offsets and codes, shared
// by the reader and the writer. Numbers are little-endian.
#pragma once

#include <cstddef>
#include <cstdint>

namespace wavecrest::disc::udf {

inline constexpr std::uint64_t kBlock = 2048;

// Descriptor tags (3/7.2, 4/7.2): 16 bytes before each descriptor.
inline constexpr std::size_t kTagSize = 16;
inline constexpr std::uint16_t kPrimaryVolume = 1;
inline constexpr std::uint16_t kAnchor = 2;
inline constexpr std::uint16_t kImplementationUse = 4;
inline constexpr std::uint16_t kPartitionDescriptor = 5;
inline constexpr std::uint16_t kLogicalVolume = 6;
inline constexpr std::uint16_t kUnallocatedSpace = 7;
inline constexpr std::uint16_t kTerminating = 8;
inline constexpr std::uint16_t kIntegrity = 9;
inline constexpr std::uint16_t kFileSet = 256;
inline constexpr std::uint16_t kFileIdentifier = 257;
inline constexpr std::uint16_t kAllocationExtent = 258;
inline constexpr std::uint16_t kFileEntry = 261;
inline constexpr std::uint16_t kExtendedFileEntry = 266;

// Anchor volume descriptor pointer (3/10.2): extents (length, location).
inline constexpr std::size_t kAnchorMain = 16;
inline constexpr std::size_t kAnchorReserve = 24;

// Partition descriptor (3/10.5).
inline constexpr std::size_t kPartitionNumber = 22;
inline constexpr std::size_t kPartitionStart = 188;
inline constexpr std::size_t kPartitionLength = 192;

// Logical volume descriptor (3/10.6).
inline constexpr std::size_t kVolumeIdentifier = 84;  // dstring of 128
inline constexpr std::size_t kVolumeBlockSize = 212;
inline constexpr std::size_t kVolumeContents = 248;  // long_ad of the file set descriptor
inline constexpr std::size_t kVolumeMapLength = 264;
inline constexpr std::size_t kVolumeMapCount = 268;
inline constexpr std::size_t kVolumeMaps = 440;
inline constexpr char kMetadataPartition[] = "*UDF Metadata Partition";
inline constexpr char kSparablePartition[] = "*UDF Sparable Partition";

// File set descriptor (4/14.1): long_ad of the root folder's entry.
inline constexpr std::size_t kFileSetRoot = 400;

// File identifier descriptor (4/14.4).
inline constexpr std::size_t kIdentifierHeader = 38;
inline constexpr std::uint8_t kFolderFlag = 0x02, kDeletedFlag = 0x04, kParentFlag = 0x08;

// File entry (4/14.9) and extended file entry (4/14.17).
inline constexpr std::size_t kEntryType = 27;   // in the ICB tag
inline constexpr std::size_t kEntryFlags = 34;  // likewise; low three bits: how data is described
inline constexpr std::size_t kEntrySize = 56;   // information length
inline constexpr std::size_t kPlainAttributes = 168, kPlainEntrySize = 176;
inline constexpr std::size_t kExtendedAttributes = 208, kExtendedEntrySize = 216;
inline constexpr std::uint8_t kFolderType = 4, kFileType = 5, kMetadataFileType = 250, kMetadataMirrorType = 251;
inline constexpr unsigned kShortDescriptors = 0, kLongDescriptors = 1, kInlineData = 3;

// The two top bits of an allocation descriptor's length (4/14.14.1.1).
inline constexpr unsigned kRecorded = 0, kContinues = 3;

}  // namespace wavecrest::disc::udf
