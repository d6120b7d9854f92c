#include "bitstream/nal.hpp"

#include <algorithm>
#include <cstring>

#include "base/bits.hpp"
#include "bitstream/h264.hpp"
#include "bitstream/mpeg2.hpp"

namespace wavecrest::bitstream::nal {
namespace {

// H.264, table 7-1; H.265, table 7-1.
constexpr int kAvcSlice = 1, kAvcIdr = 5, kAvcSei = 6, kAvcSps = 7, kAvcPps = 8, kAvcDelimiter = 9,
              kAvcSpsExtension = 13;
constexpr int kHevcFirstIrap = 16, kHevcLastIrap = 21, kHevcLastPicture = 31;
constexpr int kHevcVps = 32, kHevcPps = 34, kHevcDelimiter = 35, kHevcPrefixSei = 39;
constexpr std::uint32_t kRecoveryPoint = 6;  // payload type, H.264 D.1.1
constexpr std::size_t kSliceHeaderBytes = 32;
constexpr std::size_t kLongestUnit = 64 << 20;
constexpr std::size_t kLongestMessages = 16384;  // of a unit, as far as it is looked at

// Whether an SEI unit has a recovery point at which decoding is right at once.
bool has_recovery_point(ByteSpan unit) {
    for (Messages messages(Codec::h264, unit); const auto message = messages.next();) {
        if (message->type != kRecoveryPoint) continue;
        base::BitReader bits(message->payload);
        return bits.ue() == 0 && bits.ok();
    }
    return false;
}

bool unit_is_random_access(Codec codec, int unit_type, ByteSpan unit) {
    if (codec == Codec::h265) return unit_type >= kHevcFirstIrap && unit_type <= kHevcLastIrap;
    return unit_type == kAvcIdr || (unit_type == kAvcSei && has_recovery_point(unit));
}

}  // namespace

std::size_t find_emulation_prevention(ByteSpan unit) {
    const std::uint8_t* const begin = unit.data();
    const std::uint8_t* const end = begin + unit.size();
    // Of three bytes in a row the last one is looked for: 3 is as rare as 0 is, but runs of 0 aren't.
    for (const std::uint8_t* at = begin + std::min<std::size_t>(2, unit.size()); at < end; ++at) {
        at = static_cast<const std::uint8_t*>(std::memchr(at, 3, static_cast<std::size_t>(end - at)));
        if (at == nullptr) break;
        if (at[-1] == 0 && at[-2] == 0) return static_cast<std::size_t>(at - begin);
    }
    return unit.size();
}

ByteVector unescape(ByteSpan unit, std::size_t limit) {
    unit = unit.first(std::min(unit.size(), limit));
    ByteVector rbsp;
    rbsp.reserve(unit.size());
    while (!unit.empty()) {
        const std::size_t at = find_emulation_prevention(unit);
        rbsp.insert(rbsp.end(), unit.begin(), unit.begin() + static_cast<std::ptrdiff_t>(at));
        unit = unit.subspan(std::min(at + 1, unit.size()));
    }
    return rbsp;
}

void append_escaped(ByteVector& out, ByteSpan rbsp) {
    int zeros = 0;
    for (const std::uint8_t byte : rbsp) {
        if (zeros >= 2 && byte <= 3) {
            out.push_back(3);
            zeros = 0;
        }
        out.push_back(byte);
        zeros = byte == 0 ? zeros + 1 : 0;
    }
}

Messages::Messages(Codec codec, ByteSpan unit) {
    const std::size_t header = codec == Codec::h264 ? 1 : 2;
    if (unit.size() > header && type(codec, unit) == (codec == Codec::h264 ? kAvcSei : kHevcPrefixSei))
        rbsp_ = unescape(unit.subspan(header), kLongestMessages);
}

std::optional<Messages::Message> Messages::next() {
    // The last byte is of the trailing bits.
    if (at_ + 2 >= rbsp_.size()) return std::nullopt;
    const auto number = [this] {
        std::uint32_t value = 0;
        for (; at_ < rbsp_.size() && rbsp_[at_] == 0xFF; ++at_) value += 255;
        return at_ < rbsp_.size() ? value + rbsp_[at_++] : value;
    };
    const std::uint32_t type = number();
    const std::size_t size = number();
    if (size > rbsp_.size() - at_) {
        at_ = rbsp_.size();
        return std::nullopt;
    }
    const ByteSpan payload = ByteSpan(rbsp_).subspan(at_, size);
    at_ += size;
    return Message{type, payload};
}

std::vector<ByteSpan> split_byte_stream(ByteSpan bytes) {
    std::vector<ByteSpan> units;
    std::size_t at = mpeg2::find_start_code(bytes, 0);
    while (at + 3 < bytes.size()) {
        const std::size_t next = mpeg2::find_start_code(bytes, at + 3);
        std::size_t end = next;
        while (end > at + 3 && bytes[end - 1] == 0) --end;
        if (end > at + 3) units.push_back(bytes.subspan(at + 3, end - at - 3));
        at = next;
    }
    return units;
}

std::vector<ByteSpan> split_lengths(ByteSpan bytes, int length_size) {
    std::vector<ByteSpan> units;
    std::size_t at = 0;
    const auto width = static_cast<std::size_t>(length_size);
    while (at + width <= bytes.size()) {
        std::size_t size = 0;
        for (std::size_t i = 0; i < width; ++i) size = size << 8 | bytes[at + i];
        at += width;
        if (size > bytes.size() - at) break;
        if (size > 0) units.push_back(bytes.subspan(at, size));
        at += size;
    }
    return units;
}

void append(ByteVector& out, ByteSpan unit) {
    const std::size_t size = unit.size();
    const std::uint8_t length[4] = {static_cast<std::uint8_t>(size >> 24), static_cast<std::uint8_t>(size >> 16),
                                    static_cast<std::uint8_t>(size >> 8), static_cast<std::uint8_t>(size)};
    out.insert(out.end(), std::begin(length), std::end(length));
    out.insert(out.end(), unit.begin(), unit.end());
}

void append_byte_stream(ByteVector& out, ByteSpan unit) {
    constexpr std::uint8_t kStart[] = {0, 0, 0, 1};
    out.insert(out.end(), std::begin(kStart), std::end(kStart));
    out.insert(out.end(), unit.begin(), unit.end());
}

void append_byte_stream_unit(ByteVector& out, Codec codec, ByteSpan access_unit, ByteSpan parameter_sets) {
    constexpr std::uint8_t kAvcDelimiter[] = {0x09, 0xF0}, kHevcDelimiter[] = {0x46, 0x01, 0x50};
    out.reserve(out.size() + access_unit.size() + parameter_sets.size() + 32);
    append_byte_stream(out, codec == Codec::h264 ? ByteSpan(kAvcDelimiter) : ByteSpan(kHevcDelimiter));
    const auto units = split_lengths(access_unit);
    const bool has_sets = std::any_of(units.begin(), units.end(),
                                      [&](ByteSpan u) { return type(codec, u) == (codec == Codec::h264 ? 7 : 33); });
    if (!has_sets) out.insert(out.end(), parameter_sets.begin(), parameter_sets.end());
    for (const ByteSpan unit : units) append_byte_stream(out, unit);
}

ByteVector byte_stream_unit(Codec codec, ByteSpan access_unit, ByteSpan parameter_sets) {
    ByteVector out;
    append_byte_stream_unit(out, codec, access_unit, parameter_sets);
    return out;
}

int type(Codec codec, ByteSpan unit) {
    if (unit.empty()) return -1;
    return codec == Codec::h265 ? unit[0] >> 1 & 0x3F : unit[0] & 0x1F;
}

bool is_parameter_set(Codec codec, int type) {
    if (codec == Codec::h265) return type >= kHevcVps && type <= kHevcPps;
    return type == kAvcSps || type == kAvcPps || type == kAvcSpsExtension;
}

bool is_delimiter(Codec codec, int type) {
    return type == (codec == Codec::h265 ? kHevcDelimiter : kAvcDelimiter);
}

bool is_picture(Codec codec, int type) {
    if (codec == Codec::h265) return type >= 0 && type <= kHevcLastPicture;
    return type >= kAvcSlice && type <= kAvcIdr;
}

bool is_random_access(Codec codec, ByteSpan access_unit) {
    for (const ByteSpan unit : split_lengths(access_unit)) {
        if (unit_is_random_access(codec, type(codec, unit), unit)) return true;
    }
    return false;
}

std::optional<Ratio> listed_pixel_aspect(std::uint32_t index) {
    constexpr Ratio kAspects[] = {{12, 11}, {10, 11}, {16, 11}, {40, 33},  {24, 11}, {20, 11}, {32, 11}, {80, 33},
                                  {18, 11}, {15, 11}, {64, 33}, {160, 99}, {4, 3},   {3, 2},   {2, 1}};
    if (index == 1) return Ratio{1, 1};
    if (index < 2 || index - 2 >= std::size(kAspects)) return std::nullopt;
    return kAspects[index - 2];
}

void parse_usability(base::BitReader& bits, Ratio& pixel_aspect, ColourDescription& colour) {
    if (bits.flag()) {
        const std::uint32_t aspect = bits.bits(8);
        if (aspect == 255) {
            const std::uint32_t width = bits.bits(16), height = bits.bits(16);
            if (width != 0 && height != 0) pixel_aspect = base::reduced({width, height});
        } else if (const auto listed = listed_pixel_aspect(aspect)) {
            pixel_aspect = *listed;
        }
    }
    if (bits.flag()) bits.skip(1);
    if (bits.flag()) {
        bits.skip(3);
        colour.full_range = bits.flag();
        if (bits.flag()) {
            colour.primaries = static_cast<int>(bits.bits(8));
            colour.transfer = static_cast<int>(bits.bits(8));
            colour.matrix = static_cast<int>(bits.bits(8));
        }
    }
    if (bits.flag()) {
        bits.ue();
        bits.ue();
    }
}

void AccessUnitSplitter::push(ByteSpan piece, std::optional<Time> pts, std::optional<Time> dts,
                              std::vector<AccessUnit>& out) {
    if (pts || dts) stamps_.push_back({buffer_.size(), pts, dts});
    buffer_.insert(buffer_.end(), piece.begin(), piece.end());
    // Small pieces are looked through together.
    constexpr std::size_t kAtOnce = 4096;
    if (pts || dts || buffer_.size() - scanned_ > kAtOnce) scan(false, out);
}

void AccessUnitSplitter::flush(std::vector<AccessUnit>& out) {
    scan(true, out);
    if (unit_at_) take_unit(*unit_at_, buffer_.size(), out);
    end_access_unit(out);
    reset();
}

void AccessUnitSplitter::reset() {
    buffer_.clear();
    scanned_ = 0;
    unit_at_.reset();
    stamps_.clear();
    unit_ = {};
    has_picture_ = false;
    open_field_.reset();
}

void AccessUnitSplitter::scan(bool at_end, std::vector<AccessUnit>& out) {
    const ByteSpan all(buffer_);
    while (true) {
        const std::size_t found = mpeg2::find_start_code(all, scanned_);
        // A code may lie across the end of what has come.
        if (found == all.size()) {
            scanned_ = std::max(scanned_, all.size() > 2 ? all.size() - 2 : 0);
            break;
        }
        if (unit_at_) take_unit(*unit_at_, found, out);
        unit_at_ = found + 3;
        scanned_ = found + 3;
    }
    // What is taken is dropped; a unit without an end is given up when no unit can be so long.
    std::size_t keep = unit_at_ ? *unit_at_ : scanned_;
    if (buffer_.size() - keep > kLongestUnit) {
        unit_at_.reset();
        keep = buffer_.size();
    }
    if (at_end || keep == 0) return;
    const std::size_t drop = keep > 3 ? keep - 3 : 0;  // the start code stays, for timestamps to be told by
    buffer_.erase(buffer_.begin(), buffer_.begin() + static_cast<std::ptrdiff_t>(drop));
    scanned_ -= std::min(scanned_, drop);
    if (unit_at_) *unit_at_ -= drop;
    for (Stamp& timestamp : stamps_) timestamp.from -= std::min(timestamp.from, drop);
}

// Where a picture begins (H.264 clause 7.4.1.2.4, H.265 clause 7.4.2.4.5).
std::optional<AccessUnitSplitter::SliceStart> AccessUnitSplitter::first_slice(ByteSpan unit, bool& starts_picture) {
    starts_picture = false;
    if (codec_ == Codec::h265) {
        starts_picture = unit.size() > 2 && (unit[2] & 0x80) != 0;
        return SliceStart{};
    }
    const ByteVector rbsp = unescape(unit.subspan(1), kSliceHeaderBytes);
    base::BitReader bits(rbsp);
    starts_picture = bits.ue() == 0;  // first_mb_in_slice
    bits.ue();
    bits.ue();
    if (separate_planes_) bits.skip(2);
    SliceStart start;
    start.frame_number = bits.bits(frame_number_bits_);
    if (!frames_only_) {
        start.field = bits.flag();
        if (start.field) start.bottom = bits.flag();
    }
    if (!bits.ok()) return std::nullopt;
    return start;
}

void AccessUnitSplitter::take_unit(std::size_t begin, std::size_t end, std::vector<AccessUnit>& out) {
    while (end > begin && buffer_[end - 1] == 0) --end;
    const ByteSpan unit = ByteSpan(buffer_).subspan(begin, end - begin);
    if (unit.size() < (codec_ == Codec::h265 ? 3u : 2u)) return;
    const int unit_type = type(codec_, unit);
    // What may only come before the pictures of an access unit.
    const bool leads =
        codec_ == Codec::h265
            ? (unit_type >= kHevcVps && unit_type <= kHevcDelimiter) || unit_type == kHevcPrefixSei ||
                  (unit_type >= 41 && unit_type <= 44) || (unit_type >= 48 && unit_type <= 55)
            : (unit_type >= kAvcSei && unit_type <= kAvcDelimiter) || (unit_type >= 14 && unit_type <= 18);
    std::optional<SliceStart> start;
    bool starts_picture = false;
    const bool slice =
        is_picture(codec_, unit_type) && (codec_ == Codec::h265 || unit_type <= 2 || unit_type == kAvcIdr);
    if (slice) start = first_slice(unit, starts_picture);
    if (has_picture_ && leads && !open_field_) end_access_unit(out);
    if (has_picture_ && starts_picture) {
        const bool second_field = open_field_ && start && start->field && start->bottom != open_field_->bottom &&
                                  start->frame_number == open_field_->frame_number;
        if (second_field) {
            open_field_.reset();
            unit_.field_pair = true;
            starts_picture = false;
        } else {
            end_access_unit(out);
        }
    }
    if (codec_ == Codec::h264 && unit_type == kAvcSps) {
        if (const auto sps = h264::parse_sps(unit)) {
            frame_number_bits_ = sps->frame_number_bits;
            frames_only_ = sps->frames_only;
            separate_planes_ = sps->separate_planes;
        }
    }
    if (unit_.data.empty()) {
        // The timestamp of the piece in which this unit's start code lies, if none has begun there before. A code may
        // begin in the piece before, by up to three bytes.
        std::size_t last = stamps_.size();
        for (std::size_t i = 0; i < stamps_.size() && stamps_[i].from <= begin; ++i) last = i;
        if (last < stamps_.size()) {
            unit_.pts = stamps_[last].pts;
            unit_.dts = stamps_[last].dts;
            stamps_.erase(stamps_.begin(), stamps_.begin() + static_cast<std::ptrdiff_t>(last) + 1);
        }
    }
    if (starts_picture && start && start->field) open_field_ = start;
    has_picture_ = has_picture_ || slice;
    unit_.key = unit_.key || unit_is_random_access(codec_, unit_type, unit);
    if (!is_delimiter(codec_, unit_type)) append(unit_.data, unit);
}

void AccessUnitSplitter::end_access_unit(std::vector<AccessUnit>& out) {
    if (has_picture_) out.push_back(std::move(unit_));
    unit_ = {};
    has_picture_ = false;
    open_field_.reset();
}

}  // namespace wavecrest::bitstream::nal
