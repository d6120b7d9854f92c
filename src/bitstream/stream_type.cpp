#include "bitstream/stream_type.hpp"

namespace wavecrest::bitstream {
namespace {

struct Entry {
    int type;
    Codec codec;
};
// Of several types of a codec the first is written.
constexpr Entry kTypes[] = {{0x01, Codec::mpeg1}, {0x02, Codec::mpeg2},  {0x10, Codec::mpeg4}, {0x1B, Codec::h264},
                            {0x24, Codec::h265},  {0xEA, Codec::vc1},    {0x03, Codec::mp2},   {0x04, Codec::mp2},
                            {0x0F, Codec::aac},   {0x80, Codec::lpcm},   {0x81, Codec::ac3},   {0x87, Codec::eac3},
                            {0x84, Codec::eac3},  {0xA1, Codec::eac3},  // secondary audio
                            {0x82, Codec::dts},   {0x85, Codec::dts},    {0x86, Codec::dts},   {0x8A, Codec::dts},
                            {0xA2, Codec::dts},   {0x83, Codec::truehd}, {0x90, Codec::pgs}};

constexpr int kPrivateData = 0x06, kMpeg2Audio = 0x04, kDtsHd = 0x86;

}  // namespace

Codec codec_of_stream_type(int type) {
    for (const Entry& entry : kTypes) {
        if (entry.type == type) return entry.codec;
    }
    return Codec::unknown;
}

int stream_type_of(const Track& track) {
    const bool mpeg_audio = track.codec == Codec::mp2 || track.codec == Codec::mp3;
    if (mpeg_audio && track.sample_rate < 32000) return kMpeg2Audio;
    if (track.codec == Codec::dts && !track.profile.empty()) return kDtsHd;
    if (track.codec == Codec::lpcm) return kPrivateData;  // only Blu-ray has a form for it
    for (const Entry& entry : kTypes) {
        if (entry.codec == (mpeg_audio ? Codec::mp2 : track.codec)) return entry.type;
    }
    return kPrivateData;
}

}  // namespace wavecrest::bitstream
