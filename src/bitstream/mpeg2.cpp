#include "bitstream/mpeg2.hpp"

#ifdef __SSE2__
#include <emmintrin.h>
#endif

#include <algorithm>
#include <bit>
#include <chrono>
#include <cstring>
#include <utility>

#include "base/bits.hpp"

namespace wavecrest::bitstream::mpeg2 {
namespace {

// Table 6-4.
constexpr Ratio kFrameRates[] = {{0, 1},  {24000, 1001}, {24, 1},       {25, 1}, {30000, 1001},
                                 {30, 1}, {50, 1},       {60000, 1001}, {60, 1}};

}  // namespace

std::size_t find_start_code(ByteSpan bytes, std::size_t from) {
    const std::uint8_t* const begin = bytes.data();
#ifdef __SSE2__
    // Sixteen places at a time: where two zeros and a one stand in a row.
    const __m128i zero = _mm_setzero_si128(), one = _mm_set1_epi8(1);
    for (; from + 18 <= bytes.size(); from += 16) {
        const auto load = [&](std::size_t at) { return _mm_loadu_si128(reinterpret_cast<const __m128i*>(begin + at)); };
        const __m128i pair = _mm_cmpeq_epi8(_mm_or_si128(load(from), load(from + 1)), zero);
        const int found = _mm_movemask_epi8(_mm_and_si128(pair, _mm_cmpeq_epi8(load(from + 2), one)));
        if (found != 0) return from + static_cast<std::size_t>(std::countr_zero(static_cast<unsigned>(found)));
    }
#endif
    // Look for the 1: memchr runs at memory speed, and ones after two zeros are rare elsewhere.
    std::size_t at = from + 2;
    while (at < bytes.size()) {
        const void* found = std::memchr(begin + at, 1, bytes.size() - at);
        if (found == nullptr) break;
        at = static_cast<std::size_t>(static_cast<const std::uint8_t*>(found) - begin);
        if (begin[at - 1] == 0 && begin[at - 2] == 0) return at - 2;
        ++at;
    }
    return bytes.size();
}

std::string Sequence::profile_name() const {
    if (!mpeg2) return "";
    if ((profile_and_level & 0x80) != 0) return "4:2:2";  // escape bit: 4:2:2 and multi-view
    switch (profile_and_level >> 4 & 7) {                 // table 8-2
        case 5:
            return "Simple";
        case 4:
            return "Main";
        case 3:
            return "SNR Scalable";
        case 2:
            return "Spatially Scalable";
        case 1:
            return "High";
        default:
            return "unknown";
    }
}

std::string Sequence::level_name() const {
    if (!mpeg2) return "";
    switch (profile_and_level & 15) {  // table 8-3
        case 10:
            return "Low";
        case 8:
            return "Main";
        case 6:
            return "High 1440";
        case 4:
            return "High";
        default:
            return "unknown";
    }
}

Ratio Sequence::pixel_aspect() const {
    if (width == 0 || height == 0) return {1, 1};
    // One rule for standard-definition discs: the coded picture fills the display aspect.
    switch (aspect_code) {
        case 2:
            return base::reduced({4L * height, 3L * width});
        case 3:
            return base::reduced({16L * height, 9L * width});
        case 4:
            return base::reduced({221L * height, 100L * width});
        default:
            return {1, 1};
    }
}

std::optional<Sequence> parse_sequence(ByteSpan bytes) {
    if (bytes.size() < 12 || bytes[3] != kSequenceHeader) return std::nullopt;
    base::BitReader bits(bytes.subspan(4));
    Sequence sequence;
    sequence.width = static_cast<int>(bits.bits(12));
    sequence.height = static_cast<int>(bits.bits(12));
    sequence.aspect_code = static_cast<int>(bits.bits(4));
    const std::uint32_t rate_code = bits.bits(4);
    std::int64_t bitrate = bits.bits(18);
    bits.skip(1);
    std::int64_t vbv = bits.bits(10);
    bits.skip(1);
    if (bits.flag()) bits.skip(64 * 8);
    if (bits.flag()) bits.skip(64 * 8);
    if (!bits.ok() || rate_code == 0 || rate_code > 8) return std::nullopt;
    sequence.frame_rate = kFrameRates[rate_code];

    for (std::size_t at = find_start_code(bytes, 12); at + 4 < bytes.size(); at = find_start_code(bytes, at + 4)) {
        const std::uint8_t code = bytes[at + 3];
        if (code == kUserData) continue;
        if (code != kExtension) break;
        base::BitReader ext(bytes.subspan(at + 4));
        switch (ext.bits(4)) {
            case kSequenceExtension: {
                sequence.mpeg2 = true;
                sequence.profile_and_level = static_cast<int>(ext.bits(8));
                sequence.progressive = ext.flag();
                sequence.chroma_format = static_cast<int>(ext.bits(2));
                sequence.width |= static_cast<int>(ext.bits(2) << 12);
                sequence.height |= static_cast<int>(ext.bits(2) << 12);
                bitrate |= static_cast<std::int64_t>(ext.bits(12)) << 18;
                ext.skip(1);
                vbv |= static_cast<std::int64_t>(ext.bits(8)) << 10;
                sequence.low_delay = ext.flag();
                const std::int64_t n = ext.bits(2);
                const std::int64_t d = ext.bits(5);
                sequence.frame_rate =
                    base::reduced({sequence.frame_rate.num * (n + 1), sequence.frame_rate.den * (d + 1)});
                break;
            }
            case kSequenceDisplayExtension:
                ext.skip(3);
                if (ext.flag()) {
                    sequence.colour.primaries = static_cast<int>(ext.bits(8));
                    sequence.colour.transfer = static_cast<int>(ext.bits(8));
                    sequence.colour.matrix = static_cast<int>(ext.bits(8));
                }
                break;
            default:
                break;
        }
    }
    sequence.bitrate_bps = bitrate * 400;
    sequence.vbv_bits = vbv * 16 * 1024;
    if (sequence.width == 0 || sequence.height == 0) return std::nullopt;
    return sequence;
}

std::optional<PictureHeader> parse_picture(ByteSpan bytes) {
    if (bytes.size() < 8 || bytes[3] != kPicture) return std::nullopt;
    base::BitReader bits(bytes.subspan(4));
    PictureHeader picture;
    picture.temporal_reference = static_cast<int>(bits.bits(10));
    picture.coding_type = static_cast<int>(bits.bits(3));
    if (!bits.ok() || picture.coding_type < 1 || picture.coding_type > 4) return std::nullopt;
    for (std::size_t at = find_start_code(bytes, 8); at + 4 < bytes.size(); at = find_start_code(bytes, at + 4)) {
        const std::uint8_t code = bytes[at + 3];
        if (code == kUserData) continue;
        if (code != kExtension) break;
        base::BitReader ext(bytes.subspan(at + 4));
        if (ext.bits(4) != static_cast<std::uint32_t>(kPictureCodingExtension)) continue;
        ext.skip(16 + 2);  // f_codes, intra_dc_precision
        picture.structure = static_cast<int>(ext.bits(2));
        picture.top_field_first = ext.flag();
        ext.skip(5);  // frame_pred_frame_dct .. alternate_scan
        picture.repeat_first_field = ext.flag();
        ext.skip(1);
        picture.progressive_frame = ext.flag();
        if (!ext.ok() || picture.structure == 0) return std::nullopt;
        break;
    }
    return picture;
}

bool has_closed_captions(ByteSpan unit) {
    for (std::size_t at = find_start_code(unit, 0); at + 8 <= unit.size(); at = find_start_code(unit, at + 3)) {
        const std::uint8_t code = unit[at + 3];
        if (code >= kFirstSlice && code <= kLastSlice) return false;  // user data comes before the slices
        if (code != kUserData) continue;
        const ByteSpan data = unit.subspan(at + 4);
        if (data[0] == 'C' && data[1] == 'C' && data[2] == 1) return true;
        if (data.size() > 4 && data[0] == 'G' && data[1] == 'A' && data[2] == '9' && data[3] == '4' && data[4] == 3)
            return true;
    }
    return false;
}

int display_fields(const Sequence& sequence, const PictureHeader& picture) {
    if (sequence.progressive) {
        if (!picture.repeat_first_field) return 2;
        return picture.top_field_first ? 6 : 4;
    }
    return picture.repeat_first_field && picture.progressive_frame ? 3 : 2;
}

void AccessUnitSplitter::push(ByteSpan piece, std::optional<Time> pts, std::optional<Time> dts, std::uint64_t tag,
                              std::vector<AccessUnit>& out) {
    stamps_.push_back({buffer_.size(), pts, dts, tag, false});
    buffer_.insert(buffer_.end(), piece.begin(), piece.end());
    scan(false, out);
}

void AccessUnitSplitter::flush(std::vector<AccessUnit>& out) {
    scan(true, out);
    if (has_picture_ && slices_seen_) emit(buffer_.size(), out);
    reset();
}

void AccessUnitSplitter::reset() {
    buffer_.clear();
    stamps_.clear();
    scanned_ = 0;
    unit_ = {};
    has_picture_ = awaiting_second_field_ = slices_seen_ = false;
}

void AccessUnitSplitter::scan(bool at_end, std::vector<AccessUnit>& out) {
    // A header is parsed once what follows it has arrived: the longest, a sequence header with both quantiser matrices
    // and its extensions, takes under 200 bytes.
    constexpr std::size_t kLookAhead = 256;
    // Far above what any level's buffer holds (the largest, 4:2:2 at High level, is 47 Mbit).
    constexpr std::size_t kLargestUnit = 8 << 20;
    while (true) {
        const std::size_t at = find_start_code(buffer_, scanned_);
        if (at >= buffer_.size()) {
            scanned_ = buffer_.size() < 2 ? 0 : std::max(scanned_, buffer_.size() - 2);
            // Rubbish without start codes, or a picture without an end, must not pile up.
            const bool nothing_begun = !has_picture_ && !unit_.has_sequence && !unit_.starts_group;
            if (buffer_.size() > kLargestUnit) {
                reset();
            } else if (nothing_begun && buffer_.size() > kLookAhead) {
                drop_front(buffer_.size() - 3);  // a start code may begin in the last three bytes
            }
            return;
        }
        if (at + 4 > buffer_.size() || (!at_end && at + kLookAhead > buffer_.size())) {
            scanned_ = at;
            return;
        }
        const std::uint8_t code = buffer_[at + 3];
        const bool starts_unit = code == kSequenceHeader || code == kGroup || code == kPicture;
        if (starts_unit && has_picture_) {
            bool second_field = false;
            if (code == kPicture && awaiting_second_field_) {
                const auto next = parse_picture(ByteSpan(buffer_).subspan(at));
                second_field = next && next->structure != 3 && next->structure != unit_.picture.structure &&
                               next->temporal_reference == unit_.picture.temporal_reference;
            }
            if (second_field) {
                awaiting_second_field_ = false;
                scanned_ = at + 4;
                continue;
            }
            emit(at, out);
            continue;  // the unit now starts at offset 0 with this start code
        }
        if (starts_unit && !has_picture_ && unit_.data.empty() && !unit_.has_sequence && !unit_.starts_group &&
            at > 0) {
            // Leading bytes that belong to no unit (the stream was entered in its middle).
            drop_front(at);
            continue;
        }
        if (code == kSequenceHeader) {
            if (const auto parsed = parse_sequence(ByteSpan(buffer_).subspan(at))) {
                sequence_ = parsed;
                unit_.has_sequence = true;
                unit_.starts_group = true;
            }
        } else if (code == kGroup) {
            unit_.starts_group = true;
            if (at + 8 <= buffer_.size()) unit_.closed_group = (buffer_[at + 7] & 0x40) != 0;
        } else if (code == kPicture) {
            if (const auto parsed = parse_picture(ByteSpan(buffer_).subspan(at))) {
                unit_.picture = *parsed;
                has_picture_ = true;
                slices_seen_ = false;
                awaiting_second_field_ = parsed->structure != 3;
            }
        } else if (code >= kFirstSlice && code <= kLastSlice) {
            slices_seen_ = true;
        }
        scanned_ = at + 4;
    }
}

void AccessUnitSplitter::drop_front(std::size_t count) {
    buffer_.erase(buffer_.begin(), buffer_.begin() + static_cast<std::ptrdiff_t>(count));
    for (Stamp& timestamp : stamps_) timestamp.from = timestamp.from > count ? timestamp.from - count : 0;
    // Of the pieces that are gone, or begin where the buffer does now, the last one's timestamp applies.
    while (stamps_.size() > 1 && stamps_[1].from == 0) stamps_.erase(stamps_.begin());
    scanned_ = 0;
}

void AccessUnitSplitter::emit(std::size_t end, std::vector<AccessUnit>& out) {
    // The first timestamp is that of the piece in which the unit begins; it is used once.
    if (!stamps_.empty()) {
        Stamp& timestamp = stamps_.front();
        unit_.tag = timestamp.tag;
        if (!std::exchange(timestamp.used, true)) {
            unit_.pts = timestamp.pts;
            unit_.dts = timestamp.dts;
        }
    }
    unit_.data.assign(buffer_.begin(), buffer_.begin() + static_cast<std::ptrdiff_t>(end));
    out.push_back(std::exchange(unit_, {}));
    has_picture_ = awaiting_second_field_ = slices_seen_ = false;

    drop_front(end);
}

void PictureTimer::push(AccessUnit unit, const Sequence& sequence, std::vector<TimedUnit>& out) {
    if (unit.starts_group && !group_.empty()) flush(out);
    // A stream without group headers still gets its times, one picture at a time.
    constexpr std::size_t kLongestGroup = 1024;
    if (group_.size() >= kLongestGroup) flush(out);
    sequence_ = sequence;
    group_.push_back(std::move(unit));
}

void PictureTimer::flush(std::vector<TimedUnit>& out) {
    if (group_.empty()) return;
    const Ratio field_rate{sequence_.frame_rate.num * 2, sequence_.frame_rate.den};
    std::vector<std::size_t> display(group_.size());
    for (std::size_t i = 0; i < display.size(); ++i) display[i] = i;
    std::stable_sort(display.begin(), display.end(), [&](std::size_t a, std::size_t b) {
        return group_[a].picture.temporal_reference < group_[b].picture.temporal_reference;
    });

    // Times relative to the group's start, in fields; then the anchor.
    std::vector<std::int64_t> start(group_.size());
    std::int64_t fields = 0;
    for (const std::size_t i : display) {
        start[i] = fields;
        fields += display_fields(sequence_, group_[i].picture);
    }
    std::optional<Time> anchor;
    for (std::size_t i = 0; i < group_.size() && !anchor; ++i) {
        if (group_[i].pts) anchor = *group_[i].pts - base::frames_to_time(start[i], field_rate);
    }
    Time begin = next_.value_or(anchor.value_or(Time{}));
    if (anchor && std::chrono::abs(*anchor - begin) > base::frames_to_time(1, field_rate)) begin = *anchor;

    const Time one_frame = base::frames_to_time(2, field_rate);
    for (std::size_t i = 0; i < group_.size(); ++i) {
        TimedUnit timed;
        timed.fields = display_fields(sequence_, group_[i].picture);
        timed.pts = begin + base::frames_to_time(start[i], field_rate);
        timed.duration = base::frames_to_time(timed.fields, field_rate);
        timed.dts = i == 0 ? begin - one_frame : begin + base::frames_to_time(start[display[i - 1]], field_rate);
        timed.unit = std::move(group_[i]);
        out.push_back(std::move(timed));
    }
    next_ = begin + base::frames_to_time(fields, field_rate);
    group_.clear();
}

void PictureTimer::reset() {
    group_.clear();
    next_.reset();
}

}  // namespace wavecrest::bitstream::mpeg2
