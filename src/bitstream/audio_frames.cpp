#include "bitstream/audio_frames.hpp"

#include <algorithm>
#include <array>
#include <iterator>

#include "base/bits.hpp"
#include "bitstream/aac.hpp"

namespace wavecrest::bitstream {
namespace {

using base::BitReader;
using namespace media::speaker;

constexpr std::array<int, 19> kAc3Rates = {32,  40,  48,  56,  64,  80,  96,  112, 128, 160,
                                           192, 224, 256, 320, 384, 448, 512, 576, 640};

std::optional<AudioHeader> parse_ac3(ByteSpan bytes) {
    if (bytes.size() < 8 || bytes[0] != 0x0B || bytes[1] != 0x77) return std::nullopt;
    const int bsid = bytes[5] >> 3;
    AudioHeader header;
    int mode = 0;
    bool low = false;
    if (bsid <= 10) {
        const int rate_code = bytes[4] >> 6, size_code = bytes[4] & 63;
        if (rate_code == 3 || size_code >= 38) return std::nullopt;
        constexpr int kRates[] = {48000, 44100, 32000};
        const int halvings = bsid > 8 ? bsid - 8 : 0;
        const int kbps = kAc3Rates[static_cast<std::size_t>(size_code / 2)];
        header.codec = Codec::ac3;
        header.sample_rate = kRates[rate_code] >> halvings;
        header.bitrate_bps = kbps * 1000LL >> halvings;
        header.samples = 1536;
        // Table 4.13; at 44.1 kHz odd codes have one word more.
        int words = kbps * 2;
        if (rate_code == 1) words = kbps * 320 / 147 + (size_code & 1);
        if (rate_code == 2) words = kbps * 3;
        header.bytes = static_cast<std::size_t>(words) * 2;
        BitReader bits(bytes.subspan(5));
        bits.skip(5);
        const std::uint32_t service = bits.bits(3);
        mode = static_cast<int>(bits.bits(3));
        if ((mode & 1) != 0 && mode != 1) bits.skip(2);
        if ((mode & 4) != 0) bits.skip(2);
        if (mode == 2) bits.skip(2);
        low = bits.flag();
        // Table 4.2: 2 is for the visually impaired, 5 commentary.
        header.purpose = service == 2 ? Purpose::described : service == 5 ? Purpose::commentary : Purpose::main;
    } else if (bsid <= 16) {
        BitReader bits(bytes.subspan(2));
        const std::uint32_t type = bits.bits(2);
        if (type == 3) return std::nullopt;
        bits.skip(3);
        header.bytes = (bits.bits(11) + 1) * 2;
        const std::uint32_t rate_code = bits.bits(2);
        int blocks = 6;
        if (rate_code == 3) {
            const std::uint32_t half = bits.bits(2);
            if (half == 3) return std::nullopt;
            constexpr int kHalfRates[] = {24000, 22050, 16000};
            header.sample_rate = kHalfRates[half];
        } else {
            constexpr int kRates[] = {48000, 44100, 32000};
            header.sample_rate = kRates[rate_code];
            constexpr int kBlocks[] = {1, 2, 3, 6};
            blocks = kBlocks[bits.bits(2)];
        }
        mode = static_cast<int>(bits.bits(3));
        low = bits.flag();
        header.codec = Codec::eac3;
        header.samples = 256 * blocks;
        header.dependent = type == 1;
        header.bitrate_bps =
            static_cast<std::int64_t>(header.bytes) * 8 * header.sample_rate / std::max(1, header.samples);
        if (header.bytes < 8) return std::nullopt;
    } else {
        return std::nullopt;
    }
    header.speakers = kAc3Modes[static_cast<std::size_t>(mode)] | (low ? kLowFrequency : 0);
    header.channels = media::speaker_count(header.speakers);
    return header;
}

std::optional<AudioHeader> parse_dts(ByteSpan bytes) {
    if (bytes.size() < kAudioHeaderBytes) return std::nullopt;
    AudioHeader header;
    header.codec = Codec::dts;
    BitReader bits(bytes);
    const std::uint32_t sync = bits.bits(32);
    if (sync == 0x64582025) {  // extension substream (7.4.1)
        bits.skip(8 + 2);
        const bool wide = bits.flag();
        bits.skip(wide ? 12 : 8);
        header.bytes = bits.bits(wide ? 20 : 16) + 1;
        header.dependent = true;
        return header.bytes >= 16 ? std::optional(header) : std::nullopt;
    }
    if (sync != 0x7FFE8001) return std::nullopt;
    const bool normal = bits.flag();
    const std::uint32_t deficit = bits.bits(5);
    bits.skip(1);
    const std::uint32_t blocks = bits.bits(7) + 1;
    header.bytes = bits.bits(14) + 1;
    const std::uint32_t arrangement = bits.bits(6);
    const std::uint32_t rate_code = bits.bits(4);
    const std::uint32_t bit_rate_code = bits.bits(5);
    bits.skip(5 + 3 + 1 + 1);
    const std::uint32_t low = bits.bits(2);
    if ((normal && deficit != 31) || blocks < 6 || header.bytes < 96 || low == 3) return std::nullopt;
    constexpr int kRates[16] = {0, 8000, 16000, 32000, 0, 0, 11025, 22050, 44100, 0, 0, 12000, 24000, 48000, 0, 0};
    header.sample_rate = kRates[rate_code];
    if (header.sample_rate == 0) return std::nullopt;
    header.samples = static_cast<int>(blocks) * 32;
    constexpr Speakers kArrangements[] = {kCentre,
                                          kStereo,
                                          kStereo,
                                          kStereo,
                                          kStereo,
                                          kStereo | kCentre,
                                          kStereo | kCentreSurround,
                                          kStereo | kCentre | kCentreSurround,
                                          kStereo | kLeftSurround | kRightSurround,
                                          kStereo | kCentre | kLeftSurround | kRightSurround};
    if (arrangement >= std::size(kArrangements)) return std::nullopt;
    header.speakers = kArrangements[arrangement] | (low != 0 ? kLowFrequency : 0);
    header.channels = media::speaker_count(header.speakers);
    // Table 5-7, kbit/s; codes from 29 on are open, variable and lossless.
    constexpr int kBitRates[29] = {32,  56,  64,   96,   112,  128,  192,  224,  256,  320,  384,  448,  512,  576, 640,
                                   768, 960, 1024, 1152, 1280, 1344, 1408, 1411, 1472, 1536, 1920, 2048, 3072, 3840};
    header.bitrate_bps = bit_rate_code < 29
                             ? kBitRates[bit_rate_code] * 1000LL
                             : static_cast<std::int64_t>(header.bytes) * 8 * header.sample_rate / header.samples;
    return header;
}

std::optional<AudioHeader> parse_mpeg(ByteSpan bytes) {
    if (bytes.size() < 4 || bytes[0] != 0xFF || (bytes[1] & 0xE0) != 0xE0) return std::nullopt;
    const int version = bytes[1] >> 3 & 3, layer = 4 - (bytes[1] >> 1 & 3);
    const int rate_index = bytes[2] >> 4, frequency = bytes[2] >> 2 & 3;
    const bool padding = (bytes[2] & 2) != 0;
    if (version == 1 || layer == 4 || rate_index == 0 || rate_index == 15 || frequency == 3) return std::nullopt;
    constexpr int kFrequencies[] = {44100, 48000, 32000};
    constexpr int kMpeg1[3][15] = {{0, 32, 64, 96, 128, 160, 192, 224, 256, 288, 320, 352, 384, 416, 448},
                                   {0, 32, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320, 384},
                                   {0, 32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320}};
    constexpr int kMpeg2[2][15] = {{0, 32, 48, 56, 64, 80, 96, 112, 128, 144, 160, 176, 192, 224, 256},
                                   {0, 8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160}};
    const bool first = version == 3;
    AudioHeader header;
    header.codec = layer == 3 ? Codec::mp3 : Codec::mp2;
    header.sample_rate = kFrequencies[frequency] >> (first ? 0 : version == 2 ? 1 : 2);
    const int kbps = first ? kMpeg1[layer - 1][rate_index] : kMpeg2[layer == 1 ? 0 : 1][rate_index];
    header.bitrate_bps = kbps * 1000LL;
    header.samples = layer == 1 ? 384 : layer == 3 && !first ? 576 : 1152;
    const std::int64_t slot = layer == 1 ? 4 : 1;
    header.bytes = static_cast<std::size_t>(
        (header.samples / 8 / slot * header.bitrate_bps / header.sample_rate + (padding ? 1 : 0)) * slot);
    header.channels = bytes[3] >> 6 == 3 ? 1 : 2;
    header.speakers = media::usual_speakers(header.channels);
    return header;
}

std::optional<AudioHeader> parse_aac(ByteSpan bytes) {
    const auto adts = aac::parse_adts(bytes);
    if (!adts) return std::nullopt;
    AudioHeader header;
    header.codec = Codec::aac;
    header.bytes = adts->frame_bytes;
    header.samples = aac::kFrameSamples * adts->blocks;
    header.sample_rate = adts->sample_rate;
    header.channels = adts->channel_configuration == 7 ? 8 : adts->channel_configuration;
    header.speakers = header.channels > 0 ? media::usual_speakers(header.channels) : 0;
    return header;
}

// The longest frame any of these headers can name.
constexpr std::size_t kLongestFrame = 1 << 20;

}  // namespace

std::optional<AudioHeader> parse_audio_header(Codec codec, ByteSpan bytes) {
    switch (codec) {
        case Codec::ac3:
        case Codec::eac3:
            return parse_ac3(bytes);
        case Codec::dts:
            return parse_dts(bytes);
        case Codec::mp2:
        case Codec::mp3:
            return parse_mpeg(bytes);
        case Codec::aac:
            return parse_aac(bytes);
        default:
            return std::nullopt;
    }
}

void AudioFrameSplitter::push(ByteSpan piece, std::optional<Time> pts, std::vector<AudioFrame>& out) {
    stamps_.push_back({buffer_.size(), pts});
    buffer_.insert(buffer_.end(), piece.begin(), piece.end());
    scan(false, out);
}

void AudioFrameSplitter::flush(std::vector<AudioFrame>& out) {
    scan(true, out);
    if (held_) out.push_back(std::move(*held_));
    reset();
}

void AudioFrameSplitter::reset() {
    buffer_.clear();
    stamps_.clear();
    synchronised_ = false;
    held_.reset();
}

void AudioFrameSplitter::scan(bool at_end, std::vector<AudioFrame>& out) {
    std::size_t at = 0;
    const ByteSpan all(buffer_);
    std::size_t timestamp = 0;
    while (at + (at_end ? 4 : kAudioHeaderBytes) <= all.size()) {
        const auto header = parse_audio_header(codec_, all.subspan(at));
        if (!header) {
            synchronised_ = false;
            ++at;
            continue;
        }
        const std::size_t next = at + header->bytes;
        if (next > all.size() || header->bytes > kLongestFrame) {
            if (!at_end && header->bytes <= kLongestFrame) break;
            if (synchronised_) {  // the last frame is cut
                at = all.size();
                break;
            }
            ++at;
            continue;
        }
        if (!synchronised_ && next + kAudioHeaderBytes <= all.size() &&
            !parse_audio_header(codec_, all.subspan(next))) {
            ++at;  // chance bytes
            continue;
        }
        if (!synchronised_ && !at_end && next + kAudioHeaderBytes > all.size()) break;
        synchronised_ = true;
        std::optional<Time> pts;
        while (timestamp + 1 < stamps_.size() && stamps_[timestamp + 1].from <= at) ++timestamp;
        if (timestamp < stamps_.size() && stamps_[timestamp].from <= at) std::swap(pts, stamps_[timestamp].pts);
        const auto begin = buffer_.begin() + static_cast<std::ptrdiff_t>(at);
        if (header->dependent) {
            if (held_) held_->data.insert(held_->data.end(), begin, begin + static_cast<std::ptrdiff_t>(header->bytes));
        } else {
            if (held_) out.push_back(std::move(*held_));
            held_ = AudioFrame{ByteVector(begin, begin + static_cast<std::ptrdiff_t>(header->bytes)), *header, pts};
        }
        at = next;
    }
    // Only these formats have frames that belong to the one before.
    if (held_ && codec_ != Codec::eac3 && codec_ != Codec::dts) {
        out.push_back(std::move(*held_));
        held_.reset();
    }
    drop_front(at);
}

void AudioFrameSplitter::drop_front(std::size_t count) {
    buffer_.erase(buffer_.begin(), buffer_.begin() + static_cast<std::ptrdiff_t>(count));
    for (Stamp& timestamp : stamps_) timestamp.from = timestamp.from > count ? timestamp.from - count : 0;
    while (stamps_.size() > 1 && stamps_[1].from == 0) stamps_.erase(stamps_.begin());
}

}  // namespace wavecrest::bitstream
