// Element identifiers of Matroska and WebM (RFC 9559, RFC 8794), with their marker bits.
#pragma once

#include <cstdint>

#include "base/byte_source.hpp"
#include "media/types.hpp"

namespace wavecrest::container::mkv {

inline constexpr std::uint32_t kEbml = 0x1A45DFA3, kDocType = 0x4282, kEbmlVersion = 0x4286, kEbmlReadVersion = 0x42F7,
                               kEbmlMaxId = 0x42F2, kEbmlMaxSize = 0x42F3, kDocTypeVersion = 0x4287,
                               kDocTypeReadVersion = 0x4285;
inline constexpr std::uint32_t kVoid = 0xEC, kCrc32 = 0xBF;
inline constexpr std::uint32_t kSegment = 0x18538067;
inline constexpr std::uint32_t kSeekHead = 0x114D9B74, kSeek = 0x4DBB, kSeekId = 0x53AB, kSeekPosition = 0x53AC;
inline constexpr std::uint32_t kInfo = 0x1549A966, kTimestampScale = 0x2AD7B1, kDuration = 0x4489, kTitle = 0x7BA9,
                               kMuxingApp = 0x4D80, kWritingApp = 0x5741;
inline constexpr std::uint32_t kCluster = 0x1F43B675, kTimestamp = 0xE7, kPosition = 0xA7, kPrevSize = 0xAB,
                               kSimpleBlock = 0xA3, kBlockGroup = 0xA0, kBlock = 0xA1, kBlockDuration = 0x9B,
                               kReferenceBlock = 0xFB, kDiscardPadding = 0x75A2;
inline constexpr std::uint32_t kTracks = 0x1654AE6B, kTrackEntry = 0xAE, kTrackNumber = 0xD7, kTrackUid = 0x73C5,
                               kTrackType = 0x83, kFlagEnabled = 0xB9, kFlagDefault = 0x88, kFlagForced = 0x55AA,
                               kFlagHearingImpaired = 0x55AB, kFlagVisualImpaired = 0x55AC, kFlagCommentary = 0x55AF,
                               kFlagLacing = 0x9C, kDefaultDuration = 0x23E383, kName = 0x536E, kLanguage = 0x22B59C,
                               kLanguageBcp47 = 0x22B59D, kCodecId = 0x86, kCodecPrivate = 0x63A2, kCodecDelay = 0x56AA,
                               kSeekPreRoll = 0x56BB;
inline constexpr std::uint32_t kVideo = 0xE0, kFlagInterlaced = 0x9A, kStereoMode = 0x53B8, kPixelWidth = 0xB0,
                               kPixelHeight = 0xBA, kDisplayWidth = 0x54B0, kDisplayHeight = 0x54BA,
                               kDisplayUnit = 0x54B2, kColour = 0x55B0, kMatrix = 0x55B1, kRange = 0x55B9,
                               kTransfer = 0x55BA, kPrimaries = 0x55BB, kMaxCll = 0x55BC, kMaxFall = 0x55BD,
                               kMastering = 0x55D0, kMasteringFirst = 0x55D1, kLuminanceMax = 0x55D9,
                               kLuminanceMin = 0x55DA, kProjection = 0x7670, kPoseRoll = 0x7675;
inline constexpr std::uint32_t kAudio = 0xE1, kSamplingFrequency = 0xB5, kOutputFrequency = 0x78B5, kChannels = 0x9F,
                               kBitDepth = 0x6264;
inline constexpr std::uint32_t kContentEncodings = 0x6D80, kContentEncoding = 0x6240, kContentEncodingType = 0x5033,
                               kContentCompression = 0x5034, kCompressionAlgorithm = 0x4254,
                               kCompressionSettings = 0x4255;
inline constexpr std::uint32_t kCues = 0x1C53BB6B, kCuePoint = 0xBB, kCueTime = 0xB3, kCueTrackPositions = 0xB7,
                               kCueTrack = 0xF7, kCueClusterPosition = 0xF1, kCueRelativePosition = 0xF0;
inline constexpr std::uint32_t kAttachments = 0x1941A469, kAttachedFile = 0x61A7, kFileName = 0x466E;
inline constexpr std::uint32_t kChapters = 0x1043A770, kEditionEntry = 0x45B9, kEditionFlagDefault = 0x45DB,
                               kChapterAtom = 0xB6, kChapterUid = 0x73C4, kChapterStart = 0x91, kChapterEnd = 0x92,
                               kChapterHidden = 0x98, kChapterDisplay = 0x80, kChapterString = 0x85,
                               kChapterLanguage = 0x437C;
inline constexpr std::uint32_t kTags = 0x1254C367, kTag = 0x7373, kTargets = 0x63C0, kTargetTypeValue = 0x68CA,
                               kSimpleTag = 0x67C8, kTagName = 0x45A3, kTagString = 0x4487;

// 5.1.4.1.28.3: the values of StereoMode for both eyes' views in one picture.
struct StereoMode {
    int value;
    FramePacking::Arrangement arrangement;
    FramePacking::View first;
};
inline constexpr StereoMode kStereoModes[] = {
    {1, FramePacking::Arrangement::side_by_side, FramePacking::View::left},
    {11, FramePacking::Arrangement::side_by_side, FramePacking::View::right},
    {3, FramePacking::Arrangement::top_bottom, FramePacking::View::left},
    {2, FramePacking::Arrangement::top_bottom, FramePacking::View::right},
    {5, FramePacking::Arrangement::checkerboard, FramePacking::View::left},
    {4, FramePacking::Arrangement::checkerboard, FramePacking::View::right},
    {7, FramePacking::Arrangement::rows, FramePacking::View::left},
    {6, FramePacking::Arrangement::rows, FramePacking::View::right},
    {9, FramePacking::Arrangement::columns, FramePacking::View::left},
    {8, FramePacking::Arrangement::columns, FramePacking::View::right},
};

inline constexpr std::uint64_t kUnknownSize = ~std::uint64_t{0};

}  // namespace wavecrest::container::mkv
