#include "support/h264_writer.hpp"

#include <algorithm>
#include <array>
#include <cstdlib>
#include <cstring>
#include <random>

#include "base/time.hpp"
#include "bitstream/h264.hpp"
#include "codec/h264/tables.hpp"
#include "support/h264_reconstruct.hpp"

namespace wavecrest::test {
namespace {

using namespace codec::h264;  // the standard's tables

// Bits, and Exp-Golomb codes (9.1).
class Bits {
  public:
    void put(std::uint32_t value, int count) {
        for (int i = count - 1; i >= 0; --i) bit(static_cast<int>(value >> i & 1));
    }
    void bit(int value) {
        if (used_ % 8 == 0) bytes_.push_back(0);
        if (value != 0) bytes_.back() = static_cast<std::uint8_t>(bytes_.back() | 0x80 >> used_ % 8);
        ++used_;
    }
    void ue(std::uint32_t value) {
        int length = 0;
        while ((value + 1) >> (length + 1) != 0) ++length;
        put(0, length);
        put(value + 1, length + 1);
    }
    void se(int value) {
        ue(value > 0 ? static_cast<std::uint32_t>(2 * value - 1) : static_cast<std::uint32_t>(-2 * value));
    }
    void te(int range, int value) { range > 1 ? ue(static_cast<std::uint32_t>(value)) : bit(1 - value); }
    void align(int value) {
        while (used_ % 8 != 0) bit(value);
    }
    void stop() {
        bit(1);
        align(0);
    }
    const ByteVector& bytes() const { return bytes_; }

  private:
    ByteVector bytes_;
    std::size_t used_ = 0;
};

// The arithmetic encoder (9.3.4.2 to 9.3.4.5).
class CabacWriter {
  public:
    explicit CabacWriter(Bits& bits) : bits_(bits) {}
    void start() {
        low_ = 0;
        range_ = 510;
        first_ = true;
        outstanding_ = 0;
    }
    void contexts(int table, int qp) {
        for (int i = 0; i < 1024; ++i) {
            const int pre = std::clamp(
                ((kContextInit[table][i][0] * std::clamp(qp, 0, 51)) >> 4) + kContextInit[table][i][1], 1, 126);
            state_[i] = pre <= 63 ? 63 - pre : pre - 64;
            symbol_[i] = pre <= 63 ? 0 : 1;
        }
    }
    void decision(int context, int bin) {
        const int state = state_[context];
        const int lps = kRangeLps[state][range_ >> 6 & 3];
        range_ -= lps;
        if (bin != symbol_[context]) {
            low_ += range_;
            range_ = lps;
            if (state == 0) symbol_[context] ^= 1;
            state_[context] = kNextStateLps[state];
        } else if (state < 62) {
            ++state_[context];
        }
        renormalize();
    }
    void bypass(int bin) {
        low_ <<= 1;
        if (bin != 0) low_ += range_;
        if (low_ >= 1024) {
            put(1);
            low_ -= 1024;
        } else if (low_ < 512) {
            put(0);
        } else {
            low_ -= 512;
            ++outstanding_;
        }
    }
    void terminate(int bin) {
        range_ -= 2;
        if (bin == 0) return renormalize();
        low_ += range_;
        range_ = 2;
        renormalize();
        put(low_ >> 9 & 1);
        bits_.put(static_cast<std::uint32_t>((low_ >> 7 & 3) | 1), 2);
    }

  private:
    void put(int bit) {
        if (first_) {
            first_ = false;
        } else {
            bits_.bit(bit);
        }
        for (; outstanding_ > 0; --outstanding_) bits_.bit(1 - bit);
    }
    void renormalize() {
        while (range_ < 256) {
            if (low_ < 256) {
                put(0);
            } else if (low_ >= 512) {
                low_ -= 512;
                put(1);
            } else {
                low_ -= 256;
                ++outstanding_;
            }
            range_ <<= 1;
            low_ <<= 1;
        }
    }
    Bits& bits_;
    int low_ = 0, range_ = 510, outstanding_ = 0;
    bool first_ = true;
    int state_[1024] = {}, symbol_[1024] = {};
};

constexpr int kP = 0, kB = 1, kI = 2;
constexpr int kCoding[16] = {0, 1, 4, 5, 2, 3, 6, 7, 8, 9, 12, 13, 10, 11, 14, 15};  // coding order to raster

struct Block {  // macroblock, as neighbours need to know it
    int slice = -1;
    enum Type { nothing, skip, direct, inter, intra4, intra16, pcm } type = nothing;
    bool transform8 = false;
    int pattern = 0, chroma_mode = 0;
    int total[24] = {};   // coefficients
    bool coded[24] = {};  // coded_block_flag
    bool dc[3] = {};
    int modes[16] = {};
    int ref[2][4] = {{-1, -1, -1, -1}, {-1, -1, -1, -1}};
    bool direct8[4] = {};
    int mvd[2][16][2] = {};
    bool is_intra() const { return type >= intra4; }
};

struct Stored {  // a frame to refer to
    int frame_num = 0, short_fields = 0, long_fields = 0, long_index = 0;
    int order = 0;
    bool missing = false;
    std::shared_ptr<H264Frame> frame;
};

class Writer {
  public:
    explicit Writer(const H264WriterSettings& settings) : s_(settings), random_(settings.seed) {}

    H264Written run() {
        const ByteVector sps = parameter_set(), pps = picture_set();
        H264Written out;
        out.config = Bytes(bitstream::h264::make_config(ByteSpan(sps), ByteSpan(pps)));
        const auto sequence = bitstream::h264::parse_sps(ByteSpan(sps));
        const auto set = bitstream::h264::parse_pps(ByteSpan(pps), *sequence);
        made_ = std::make_unique<H264Reconstruction>(*sequence, *set);
        out.columns = s_.columns;
        out.crop_left = sequence->crop_left;
        out.crop_top = sequence->crop_top;
        // Order of output: anchors ahead of what is shown before them.
        int shown = 0;
        for (int i = 0; i < s_.pictures;) {
            const bool restart = i == 0 || (i % 8 == 0 && chance(60)) || must_restart();
            if (restart) {
                order_base_ = shown;
                next_order_ = 1;
                picture(out, shown, true, true);
                ++shown;
                ++i;
                continue;
            }
            const int between = s_.b_slices && s_.order_type != 2 ? std::min(pick(0, 2), s_.pictures - i - 1) : 0;
            picture(out, shown + between, false, true);
            for (int b = 0; b < between; ++b) picture(out, shown + b, false, s_.references > 1 && chance(40));
            shown += between + 1;
            i += between + 1;
        }
        std::sort(frames_.begin(), frames_.end(), [](const auto& a, const auto& b) { return a.first < b.first; });
        for (const auto& [time, frame] : frames_) {
            out.pictures.push_back(made_->shown(*frame));
            out.pictures.back().pts = base::from_ticks(time, 25);
            out.kinds.push_back(frame->kinds);
        }
        return out;
    }

  private:
    int pick(int from, int to) {
        return from + static_cast<int>(random_() % static_cast<std::uint32_t>(to - from + 1));
    }
    bool chance(int of_100) { return static_cast<int>(random_() % 100) < of_100; }

    // All that was ever referred to stays in the lists where temporal direct prediction looks for it.
    bool must_restart() const { return s_.temporal && static_cast<int>(stored_.size()) + 3 > s_.references; }

    static ByteVector unit(int header, const ByteVector& rbsp) {
        ByteVector out = {static_cast<std::uint8_t>(header)};
        int zeros = 0;
        for (const std::uint8_t byte : rbsp) {
            if (zeros >= 2 && byte <= 3) {
                out.push_back(3);
                zeros = 0;
            }
            out.push_back(byte);
            zeros = byte == 0 ? zeros + 1 : 0;
        }
        return out;
    }
    void scaling_lists(Bits& b, int count, std::vector<int>& largest) {
        for (int list = 0; list < count; ++list) {
            const int size = list < 6 ? 16 : 64;
            const bool present = chance(60);
            b.bit(present);
            if (!present) continue;
            int last = 8;
            const bool stops = chance(30);
            const int until = stops ? pick(0, size - 1) : size;
            for (int i = 0; i < size; ++i) {
                if (i == until) {
                    b.se(last == 0 ? 0 : -last);  // next is 0: the rest as the last, or at the first place the default
                    break;
                }
                const int value = pick(6, 40);
                int delta = value - last;
                b.se(delta);
                last = value;
            }
            largest.push_back(40);
        }
    }
    ByteVector parameter_set() {
        Bits b;
        b.put(100, 8);
        b.put(0, 8);
        b.put(30, 8);
        b.ue(0);
        b.ue(1);  // 4:2:0
        b.ue(0);
        b.ue(0);
        b.bit(0);
        b.bit(s_.scaling);
        std::vector<int> unused;
        if (s_.scaling) scaling_lists(b, 8, unused);
        b.ue(static_cast<std::uint32_t>(kFrameNumBits - 4));
        b.ue(static_cast<std::uint32_t>(s_.order_type));
        if (s_.order_type == 0) b.ue(kOrderBits - 4);
        if (s_.order_type == 1) {
            b.bit(0);
            b.se(kForNonReference);
            b.se(kTopToBottom);
            b.ue(2);
            b.se(kCycle[0]);
            b.se(kCycle[1]);
        }
        b.ue(static_cast<std::uint32_t>(s_.references));
        b.bit(s_.gaps);
        b.ue(static_cast<std::uint32_t>(s_.columns - 1));
        b.ue(static_cast<std::uint32_t>((s_.frames_only ? s_.rows : s_.rows / 2) - 1));
        b.bit(s_.frames_only);
        if (!s_.frames_only) b.bit(s_.adaptive);
        b.bit(s_.inference);
        const bool cropped = std::any_of(s_.crop.begin(), s_.crop.end(), [](int side) { return side > 0; });
        b.bit(cropped);
        if (cropped) {
            for (const int side : s_.crop) b.ue(static_cast<std::uint32_t>(side));
        }
        b.bit(1);  // usability information, for the reordering depth
        b.put(0, 4);
        b.bit(s_.timed);  // timing_info_present_flag: 25 a second
        if (s_.timed) {
            b.put(1, 32);
            b.put(50, 32);
            b.bit(1);
        }
        b.put(0, 3);
        b.bit(1);  // bitstream_restriction_flag
        b.bit(1);
        b.ue(0);
        b.ue(0);
        b.ue(12);
        b.ue(12);
        b.ue(s_.b_slices && s_.order_type != 2 ? 2 : 0);
        b.ue(static_cast<std::uint32_t>(std::min(16, s_.references + 3)));
        b.stop();
        return unit(0x67, b.bytes());
    }
    ByteVector picture_set() {
        Bits b;
        b.ue(0);
        b.ue(0);
        b.bit(s_.cabac);
        b.bit(1);  // bottom_field_pic_order_in_frame_present_flag
        b.ue(0);
        b.ue(0);
        b.ue(0);
        b.bit(s_.weighted_p);
        b.put(static_cast<std::uint32_t>(s_.weighted_b), 2);
        b.se(0);
        b.se(0);
        chroma_offset_ = pick(-3, 3);
        b.se(chroma_offset_);
        b.bit(1);
        b.bit(s_.constrained_intra);
        b.bit(0);
        b.bit(s_.transform8);
        const bool lists = s_.scaling && chance(50);
        b.bit(lists);
        std::vector<int> unused;
        if (lists) scaling_lists(b, s_.transform8 ? 8 : 6, unused);
        b.se(pick(-3, 3));
        b.stop();
        return unit(0x68, b.bytes());
    }

    void picture(H264Written& out, int shown, bool restart, bool reference) {
        const bool fields = !s_.frames_only && chance(s_.fields);
        ByteVector bytes;
        if (restart) {
            ++idr_number_;
            stored_.clear();
            previous_frame_num_ = 0;
            frame_num_ = 0;
            offset_ = 0;
            last_order_frame_num_ = 0;
        } else {
            frame_num_ = (previous_frame_num_ + 1) % (1 << kFrameNumBits);
            if (s_.gaps && reference && chance(25)) {
                const int skipped = pick(1, 2);
                for (int i = 0; i < skipped; ++i) {
                    slide();
                    Stored gap;
                    gap.frame_num = frame_num_;
                    gap.short_fields = kWhole;
                    gap.missing = true;
                    stored_.push_back(gap);
                    previous_frame_num_ = frame_num_;
                    frame_num_ = (frame_num_ + 1) % (1 << kFrameNumBits);
                }
            }
        }
        shown_ = shown;
        // Second fields of the same frame refer to the first.
        bottom_first_ = fields && chance(30);
        bottom_shown_first_ = s_.free && s_.order_type != 2 ? chance(50) : bottom_first_;
        restart_ = restart;
        reference_ = reference;
        current_ = Stored{};
        current_.frame_num = frame_num_;
        current_.order = shown - order_base_;
        current_.frame = std::make_shared<H264Frame>();
        current_.frame->id = static_cast<int>(out.packets.size());
        frames_.emplace_back(shown, current_.frame);
        if (fields) {
            const int intra_first = restart ? 1 : 0;
            code(bytes, bottom_first_ ? kBottomField : kTopField, intra_first != 0, false);
            code(bytes, bottom_first_ ? kTopField : kBottomField, false, true);
        } else {
            code(bytes, kWhole, restart, false);
        }
        if (reference) {
            stored_.push_back(current_);
            previous_frame_num_ = frame_num_;
        }
        Packet packet;
        packet.pts = base::from_ticks(shown, 25);
        packet.dts = base::from_ticks(static_cast<std::int64_t>(out.packets.size()), 25);
        packet.duration = base::from_ticks(1, 25);
        packet.key = restart;
        packet.data = Bytes(std::move(bytes));
        out.packets.push_back(std::move(packet));
    }

    // One frame or field.
    void code(ByteVector& bytes, int structure, bool idr, bool second) {
        structure_ = structure;
        idr_ = idr;
        second_ = second;
        order_ = shown_ - order_base_;
        pair_ = s_.adaptive && structure == kWhole;
        width_ = s_.columns;
        height_ = structure == kWhole ? s_.rows : s_.rows / 2;
        blocks_.assign(static_cast<std::size_t>(width_ * height_), Block{});
        prepare_marking();
        prepare_order();
        current_.frame->order = {top_, bottom_};
        made_->begin_picture(current_.frame, structure, pair_);
        const int units = pair_ ? width_ * height_ / 2 : width_ * height_;
        int at = 0;
        slice_ = -1;
        const int fixed = pick(0, 2);
        while (at < units) {
            ++slice_;
            const int length = s_.slices && chance(70) ? std::min(pick(1, units), units - at) : units - at;
            const bool can_refer = !idr && list_size() > 0;
            type_ = !can_refer ? kI : s_.slices ? pick(0, 2) : fixed == 2 && chance(70) ? kP : fixed;
            if (s_.gaps && std::all_of(stored_.begin(), stored_.end(), [](const Stored& f) { return f.missing; }))
                type_ = kI;
            if (type_ == kB && (!s_.b_slices || (!s_.free && only_itself_behind()))) type_ = kP;
            write_slice(bytes, at, length);
            at += length;
        }
        made_->end_picture();
        apply_marking();
        if (s_.order_type != 0) last_order_frame_num_ = frame_num_;
    }

    // What there is to refer to.
    int list_size() const {
        int count = 0;
        const auto add = [&](const Stored& f) {
            const int all = f.short_fields | f.long_fields;
            if (structure_ == kWhole) {
                count += f.short_fields == kWhole || f.long_fields == kWhole ? 1 : 0;
            } else {
                count += (all & 1) + (all >> 1 & 1);
            }
        };
        for (const Stored& f : stored_) add(f);
        if (second_ && reference_) add(current_);
        return count;
    }

    // Whether list 1 would begin with the first field of this very frame: the judge takes what it knows of motion there
    // for that of the field being decoded.
    bool only_itself_behind() const {
        return second_ && reference_ && std::none_of(stored_.begin(), stored_.end(), [&](const Stored& f) {
                   return f.short_fields != 0 && f.order > order_;
               });
    }

    // The lists of the slice: 8.2.4.
    using References = std::vector<H264Reference>;
    References initial_list(int list) const {
        const auto wrapped = [&](const Stored* f) {
            return f->frame_num > frame_num_ ? f->frame_num - (1 << kFrameNumBits) : f->frame_num;
        };
        const bool field = structure_ != kWhole;
        std::vector<const Stored*> near, far;
        for (const Stored& f : stored_) {
            if (field ? f.short_fields != 0 : f.short_fields == kWhole) near.push_back(&f);
            if (field ? f.long_fields != 0 : f.long_fields == kWhole) far.push_back(&f);
        }
        if (second_ && reference_) near.push_back(&current_);
        std::sort(far.begin(), far.end(), [](auto* a, auto* b) { return a->long_index < b->long_index; });
        if (type_ == kP) {
            std::sort(near.begin(), near.end(), [&](auto* a, auto* b) { return wrapped(a) > wrapped(b); });
        } else {
            const int own = structure_ == kWhole ? std::min(top_, bottom_) : structure_ == kTopField ? top_ : bottom_;
            const auto order = [&](const Stored* f) {
                return f == &current_ ? f->frame->order_of(kWhole - structure_) : f->frame->order_of(kWhole);
            };
            const auto before = [&](const Stored* f) { return field ? order(f) <= own : order(f) < own; };
            std::sort(near.begin(), near.end(), [&](auto* a, auto* b) {
                const bool first = before(a), second = before(b);
                if (first != second) return list == 0 ? first : second;
                return first ? order(a) > order(b) : order(a) < order(b);
            });
        }
        References all;
        for (const bool distant : {false, true}) {
            const auto& frames = distant ? far : near;
            if (!field) {
                for (const Stored* f : frames) all.push_back({f->frame, kWhole, distant});
                continue;
            }
            // 8.2.4.2.5: by turns, the own parity first.
            std::size_t at[2] = {0, 0};
            const int parities[2] = {structure_, kWhole - structure_};
            const auto next = [&](int turn) {
                auto& i = at[turn];
                while (i < frames.size() &&
                       ((distant ? frames[i]->long_fields : frames[i]->short_fields) & parities[turn]) == 0)
                    ++i;
                if (i >= frames.size()) return false;
                all.push_back({frames[i++]->frame, parities[turn], distant});
                return true;
            };
            int turn = 0;
            while (next(turn)) turn ^= 1;
            turn ^= 1;
            while (next(turn)) {
            }
        }
        return all;
    }
    static bool same_lists(const References& a, const References& b) {
        return std::equal(a.begin(), a.end(), b.begin(), b.end(), [](const auto& x, const auto& y) {
            return x.frame == y.frame && x.structure == y.structure;
        });
    }
    References made_list(int list) const {
        References all = initial_list(list);
        if (list == 1 && all.size() > 1 && same_lists(all, initial_list(0))) std::swap(all[0], all[1]);
        all.resize(static_cast<std::size_t>(active_[list]));
        std::size_t at = 0;
        for (const H264Reference& wanted : moved_up_[list]) {
            all.insert(all.begin() + static_cast<std::ptrdiff_t>(at++), wanted);
            const auto again =
                std::find_if(all.begin() + static_cast<std::ptrdiff_t>(at), all.end(),
                             [&](const auto& r) { return r.frame == wanted.frame && r.structure == wanted.structure; });
            if (again != all.end()) all.erase(again);
            all.resize(static_cast<std::size_t>(active_[list]));
        }
        return all;
    }

    // 8.2.5.3
    void slide() {
        int count = 0;
        Stored* oldest = nullptr;
        const auto wrapped = [&](const Stored& f) {
            return f.frame_num > frame_num_ ? f.frame_num - (1 << kFrameNumBits) : f.frame_num;
        };
        for (Stored& f : stored_) {
            if ((f.short_fields | f.long_fields) == 0) continue;
            ++count;
            if (f.short_fields != 0 && (oldest == nullptr || wrapped(f) < wrapped(*oldest))) oldest = &f;
        }
        if (count >= s_.references && oldest != nullptr) oldest->short_fields = 0;
        std::erase_if(stored_, [](const Stored& f) { return (f.short_fields | f.long_fields) == 0; });
    }

    struct Command {
        int operation, a, b;
    };
    // Commands that are legal now; what they do is done by apply_marking().
    void prepare_marking() {
        commands_.clear();
        if (!s_.long_term || !reference_ || idr_ || second_ || !chance(40)) return;
        const bool field = structure_ != kWhole;
        int count = 0;
        for (const Stored& f : stored_) count += (f.short_fields | f.long_fields) != 0 ? 1 : 0;
        // Room has to be made by hand when there are commands. This picture may still refer to all.
        pending_ = stored_;
        std::vector<Stored>& all = pending_;
        const auto number = [&](const Stored& f) {
            const int wrapped = f.frame_num > frame_num_ ? f.frame_num - (1 << kFrameNumBits) : f.frame_num;
            return field ? 2 * wrapped + 1 : wrapped;
        };
        const int own = field ? 2 * frame_num_ + 1 : frame_num_;
        commands_.push_back({4, 3, 0});  // indices 0 to 2
        for (Stored& f : all) {
            if (f.long_fields != 0 && f.long_index > 2) f.long_fields = 0;
        }
        for (Stored& f : all) {
            if (f.short_fields != kWhole || f.long_fields != 0) continue;
            const bool full = count >= s_.references;
            if (full || chance(20)) {
                // Both fields: the same parity has an odd number, the other one an even one.
                commands_.push_back({1, own - number(f) - 1, 0});
                if (field) commands_.push_back({1, own - (number(f) - 1) - 1, 0});
                f.short_fields = 0;
                --count;
            } else if (chance(40)) {
                const int index = pick(0, 2);
                for (Stored& g : all) {
                    if (&g != &f && g.long_fields != 0 && g.long_index == index) {
                        g.long_fields = 0;
                        --count;
                    }
                }
                commands_.push_back({3, own - number(f) - 1, index});
                if (field) commands_.push_back({3, own - (number(f) - 1) - 1, index});
                f.short_fields = 0;
                f.long_fields = kWhole;
                f.long_index = index;
            }
        }
        for (Stored& f : all) {
            if (count < s_.references) break;
            if (f.long_fields == 0) continue;
            commands_.push_back({2, field ? 2 * f.long_index + 1 : f.long_index, 0});
            if (field) commands_.push_back({2, 2 * f.long_index, 0});
            f.long_fields = 0;
            --count;
        }
        std::erase_if(pending_, [](const Stored& f) { return (f.short_fields | f.long_fields) == 0; });
    }
    void apply_marking() {
        if (!reference_) return;
        if (!commands_.empty()) {
            stored_ = pending_;
        } else if (!idr_ && !(second_ && current_.short_fields != 0)) {
            slide();
        }
        current_.short_fields |= structure_;
    }

    // 8.2.1: what has to be written for the order wanted.
    void prepare_order() {
        const int wanted = 2 * order_;
        // The field that is coded first is seen first, mostly.
        top_ = wanted + (bottom_shown_first_ ? 1 : 0);
        bottom_ = wanted + (bottom_shown_first_ ? 0 : 1);
        if (s_.order_type == 0) return;
        if (!idr_ && last_order_frame_num_ > frame_num_) offset_ += 1 << kFrameNumBits;
        if (idr_) offset_ = 0;
        if (s_.order_type == 2) return;
        int absolute = offset_ + frame_num_;
        if (!reference_ && absolute > 0) --absolute;
        int expected = 0;
        if (absolute > 0) {
            expected = (absolute - 1) / 2 * (kCycle[0] + kCycle[1]);
            for (int i = 0; i <= (absolute - 1) % 2; ++i) expected += kCycle[i];
        }
        if (!reference_) expected += kForNonReference;
        if (structure_ == kWhole) {
            delta_[0] = top_ - expected;
            delta_[1] = bottom_ - (top_ + kTopToBottom);
        } else if (structure_ == kTopField) {
            delta_[0] = top_ - expected;
        } else {
            delta_[0] = bottom_ - expected - kTopToBottom;
        }
    }

    void write_slice(ByteVector& bytes, int first, int length) {
        Bits b;
        const bool field = structure_ != kWhole;
        b.ue(static_cast<std::uint32_t>(first));
        b.ue(static_cast<std::uint32_t>(type_));
        b.ue(0);
        b.put(static_cast<std::uint32_t>(frame_num_), kFrameNumBits);
        if (!s_.frames_only) {
            b.bit(field);
            if (field) b.bit(structure_ == kBottomField);
        }
        if (idr_) b.ue(static_cast<std::uint32_t>(idr_number_ & 1));
        if (s_.order_type == 0) {
            const int order = structure_ == kBottomField ? bottom_ : top_;
            b.put(static_cast<std::uint32_t>(order) & ((1u << kOrderBits) - 1), kOrderBits);
            if (!field) b.se(bottom_ - top_);
        }
        if (s_.order_type == 1) {
            b.se(delta_[0]);
            if (!field) b.se(delta_[1]);
        }
        if (type_ == kB) b.bit(!s_.temporal);
        // The judge's deblocking confuses references of fields from the seventeenth on.
        const int available = std::min(list_size(), s_.free ? 32 : 16);
        active_[0] = active_[1] = 0;
        if (type_ != kI) {
            active_[0] = s_.temporal || s_.gaps ? available : pick(1, available);
            if (type_ == kB) active_[1] = s_.temporal ? available : pick(1, available);
            b.bit(1);
            b.ue(static_cast<std::uint32_t>(active_[0] - 1));
            if (type_ == kB) b.ue(static_cast<std::uint32_t>(active_[1] - 1));
        }
        weights_[0].clear();
        weights_[1].clear();
        for (int list = 0; list < (type_ == kI ? 0 : type_ == kB ? 2 : 1); ++list) write_modifications(b, list);
        if ((type_ == kP && s_.weighted_p) || (type_ == kB && s_.weighted_b == 1)) write_weights(b);
        if (reference_) write_marking(b);
        if (s_.cabac && type_ != kI) {
            table_ = pick(0, 2);
            b.ue(static_cast<std::uint32_t>(table_));
        }
        qp_ = pick(14, 40);
        b.se(qp_ - 26);
        const int drawn = pick(0, 3), filter = drawn == 3 ? 0 : drawn;
        b.ue(static_cast<std::uint32_t>(s_.unfiltered ? 1 : filter));
        int alpha = 0, beta = 0;
        if (filter != 1) {
            alpha = pick(-3, 3);
            beta = pick(-3, 3);
        }
        if (filter != 1 && !s_.unfiltered) {
            b.se(alpha);
            b.se(beta);
        }
        H264Slice slice;
        slice.type = type_;
        slice.spatial = !s_.temporal;
        for (int list = 0; list < (type_ == kI ? 0 : type_ == kB ? 2 : 1); ++list) {
            slice.lists[list] = made_list(list);
            slice.weights[list] = weights_[list];
        }
        slice.weighting = type_ == kP ? (s_.weighted_p ? 1 : 0) : type_ == kB ? s_.weighted_b : 0;
        slice.log2[0] = log2_[0];
        slice.log2[1] = log2_[1];
        slice.filter = s_.unfiltered ? 1 : filter;
        slice.alpha = 2 * alpha;
        slice.beta = 2 * beta;
        made_->begin_slice(std::move(slice));
        bits_ = &b;
        last_delta_ = 0;
        if (s_.cabac) {
            b.align(1);
            CabacWriter coder(b);
            cabac_ = &coder;
            coder.start();
            coder.contexts(type_ == kI ? 0 : table_ + 1, qp_);
            for (int i = first; i < first + length; ++i) {
                macroblock(i);
                coder.terminate(i + 1 == first + length ? 1 : 0);
            }
            b.align(0);
        } else {
            run_ = 0;
            for (int i = first; i < first + length; ++i) {
                if (pair_) {
                    pair(i);
                } else {
                    macroblock(i);
                }
            }
            if (run_ > 0) b.ue(static_cast<std::uint32_t>(run_));
            b.stop();
        }
        const ByteVector made = unit((reference_ ? 0x60 : 0) | (idr_ ? 5 : 1), b.bytes());
        for (int shift = 24; shift >= 0; shift -= 8) bytes.push_back(static_cast<std::uint8_t>(made.size() >> shift));
        bytes.insert(bytes.end(), made.begin(), made.end());
    }

    void write_modifications(Bits& b, int list) {
        moved_up_[list].clear();
        const bool change = s_.reordered && !s_.temporal && chance(50);
        b.bit(change);
        if (!change) return;
        const bool field = structure_ != kWhole;
        const int most = (field ? 2 : 1) << kFrameNumBits;
        const int own = field ? 2 * frame_num_ + 1 : frame_num_;
        int predicted = own;
        const int count = pick(1, std::min(active_[list], 3));
        std::vector<Stored> all = stored_;
        if (second_ && reference_ && (list == 0 || s_.free)) all.push_back(current_);
        for (int i = 0; i < count; ++i) {
            const Stored& f = all[static_cast<std::size_t>(pick(0, static_cast<int>(all.size()) - 1))];
            if (f.missing) continue;
            int parity = structure_;
            if (field && chance(50)) parity = kWhole - structure_;
            const int needed = field ? parity : kWhole;
            const int same = field && parity == structure_ ? 1 : 0;
            if ((f.short_fields & needed) == needed) {
                const int wrapped = f.frame_num > frame_num_ ? f.frame_num - (1 << kFrameNumBits) : f.frame_num;
                const int number = field ? 2 * wrapped + same : wrapped;
                int difference = number - predicted;
                if (difference == 0) {
                    b.ue(0);
                    b.ue(static_cast<std::uint32_t>(most - 1));
                } else {
                    if (difference > 0 && chance(30)) difference -= most;
                    b.ue(difference < 0 ? 0 : 1);
                    b.ue(static_cast<std::uint32_t>(std::abs(difference) - 1));
                }
                predicted = number;
                moved_up_[list].push_back({f.frame, needed, false});
            } else if ((f.long_fields & needed) == needed) {
                b.ue(2);
                b.ue(static_cast<std::uint32_t>(field ? 2 * f.long_index + same : f.long_index));
                moved_up_[list].push_back({f.frame, needed, true});
            }
        }
        b.ue(3);
    }
    void write_weights(Bits& b) {
        for (int& log2 : log2_) b.ue(static_cast<std::uint32_t>(log2 = pick(0, 5)));
        for (int list = 0; list < (type_ == kB ? 2 : 1); ++list) {
            for (int i = 0; i < active_[list]; ++i) {
                const bool luma = chance(60), chroma = chance(60);
                std::array<std::array<int, 2>, 3> own{};
                for (std::size_t plane = 0; plane < 3; ++plane) {
                    const bool given = plane == 0 ? luma : chroma;
                    if (plane < 2) b.bit(given);
                    own[plane] = {1 << log2_[plane == 0 ? 0 : 1], 0};
                    if (!given) continue;
                    own[plane][0] = pick(-20, 60);
                    own[plane][1] = pick(-30, 30);
                    b.se(own[plane][0]);
                    b.se(own[plane][1]);
                }
                weights_[list].push_back(own);
            }
        }
    }
    void write_marking(Bits& b) {
        if (idr_) {
            b.bit(0);
            b.bit(0);
            return;
        }
        b.bit(!commands_.empty());
        if (commands_.empty()) return;
        for (const Command& c : commands_) {
            b.ue(static_cast<std::uint32_t>(c.operation));
            b.ue(static_cast<std::uint32_t>(c.a));
            if (c.operation == 3) b.ue(static_cast<std::uint32_t>(c.b));
        }
        b.ue(0);
    }

    // --- Macroblocks ---

    const Block* left() const { return x_ > 0 ? usable(at_ - 1) : nullptr; }
    const Block* above() const { return y_ > 0 ? usable(at_ - width_) : nullptr; }
    const Block* usable(int index) const {
        const Block& block = blocks_[static_cast<std::size_t>(index)];
        return block.slice == slice_ ? &block : nullptr;
    }
    Block& now() { return blocks_[static_cast<std::size_t>(at_)]; }

    // A pair of an adaptive frame: one flag for both; intra by samples alone, no residual, so that nothing depends on
    // neighbours.
    void pair(int index) {
        bool said = false;
        const bool field = chance(50);
        field_pair_ = field;
        for (int k = 0; k < 2; ++k) {
            at_ = 2 * index + k;  // only to have a place
            x_ = y_ = 0;
            now() = Block{};
            now().slice = slice_;
            mb_ = {};
            mb_.field = field;
            mb_.qp = qp_;
            if (type_ != kI) {
                bits_->ue(0);  // none is skipped
            }
            if (!said) bits_->bit(field);
            said = true;
            if (type_ == kI || chance(s_.intra)) {
                type_code(25, false);
                samples();
            } else {
                inter();
            }
            made_->macroblock(at_, mb_);
        }
        field_pair_ = false;
    }

    void macroblock(int index) {
        mb_ = {};
        write_macroblock(index);
        mb_.qp = qp_;
        made_->macroblock(index, mb_);
    }
    void write_macroblock(int index) {
        at_ = index;
        x_ = index % width_;
        y_ = index / width_;
        now() = Block{};
        now().slice = slice_;
        if (type_ != kI) {
            const bool first_missing = s_.gaps && !stored_.empty() && stored_.back().missing;
            const bool skip = !first_missing && chance(20);
            if (s_.cabac) {
                const auto counts = [](const Block* b) { return b != nullptr && b->type != Block::skip ? 1 : 0; };
                cabac_->decision((type_ == kB ? 24 : 11) + counts(left()) + counts(above()), skip);
            } else if (!skip) {
                bits_->ue(static_cast<std::uint32_t>(run_));
                run_ = 0;
            } else {
                ++run_;
            }
            if (skip) {
                now().type = Block::skip;
                std::fill(std::begin(now().direct8), std::end(now().direct8), type_ == kB);
                last_delta_ = 0;
                return;
            }
        }
        if (type_ != kI && !chance(s_.intra)) {
            inter();
        } else if (chance(10)) {
            type_code(25, false);
            samples();
        } else {
            intra();
        }
    }

    void samples() {
        now().type = Block::pcm;
        mb_.kind = H264Macroblock::samples;
        for (int& total : now().total) total = 16;
        std::fill(std::begin(now().coded), std::end(now().coded), true);
        std::fill(std::begin(now().dc), std::end(now().dc), true);
        std::fill(std::begin(now().modes), std::end(now().modes), 2);
        now().pattern = 0x2F;
        bits_->align(0);
        const int base = pick(0, 255);
        for (std::uint8_t& value : mb_.raw) {
            value = static_cast<std::uint8_t>(std::clamp(base + pick(-40, 40), 0, 255));
            bits_->put(value, 8);
        }
        if (s_.cabac) cabac_->start();
        last_delta_ = 0;
    }

    // mb_type: an I type from 0 on, or one of P or B.
    void type_code(int type, bool predicted) {
        if (!s_.cabac) {
            const int offset = predicted || type_ == kI ? 0 : type_ == kP ? 5 : 23;
            bits_->ue(static_cast<std::uint32_t>(type + offset));
            return;
        }
        if (!predicted) {
            if (type_ == kP) cabac_->decision(14, 1);
            if (type_ == kB) b_type_bits(13);
            intra_type(type_ == kI ? 3 : type_ == kP ? 17 : 32, type, type_ == kI);
            return;
        }
        if (type_ == kP) {
            // Table 9-37.
            cabac_->decision(14, 0);
            cabac_->decision(15, type == 1 || type == 2 ? 1 : 0);
            if (type == 1 || type == 2) {
                cabac_->decision(17, type == 1 ? 1 : 0);
            } else {
                cabac_->decision(16, type == 3 ? 1 : 0);
            }
            return;
        }
        const auto counts = [](const Block* b) {
            return b != nullptr && b->type != Block::skip && b->type != Block::direct ? 1 : 0;
        };
        const int context = 27 + counts(left()) + counts(above());
        if (type == 0) return cabac_->decision(context, 0);
        if (type <= 2) {
            cabac_->decision(context, 1);
            cabac_->decision(30, 0);
            return cabac_->decision(32, type - 1);
        }
        if (type <= 10) return b_type_bits(type - 3);
        if (type == 11) return b_type_bits(14);
        if (type == 22) return b_type_bits(15);
        // 12 to 21: four bits of 8 to 12, and one more.
        const int code = type + 4;
        b_type_bits(code >> 1);
        cabac_->decision(32, code & 1);
    }
    void b_type_bits(int four) {
        const auto counts = [](const Block* b) {
            return b != nullptr && b->type != Block::skip && b->type != Block::direct ? 1 : 0;
        };
        cabac_->decision(27 + counts(left()) + counts(above()), 1);
        cabac_->decision(30, 1);
        cabac_->decision(31, four >> 3);
        for (int i = 2; i >= 0; --i) cabac_->decision(32, four >> i & 1);
    }
    void intra_type(int base, int type, bool in_i_slice) {
        int context = base;
        if (in_i_slice) {
            const auto counts = [](const Block* b) { return b != nullptr && b->type != Block::intra4 ? 1 : 0; };
            context += counts(left()) + counts(above());
            base += 2;
        }
        cabac_->decision(context, type == 0 ? 0 : 1);
        if (type == 0) return;
        cabac_->terminate(type == 25 ? 1 : 0);
        if (type == 25) return;
        const int more = in_i_slice ? 1 : 0, code = type - 1;
        cabac_->decision(base + 1, code / 12);
        const int chroma = code / 4 % 3;
        cabac_->decision(base + 2, chroma != 0 ? 1 : 0);
        if (chroma != 0) cabac_->decision(base + 2 + more, chroma - 1);
        cabac_->decision(base + 3 + more, code % 4 >> 1);
        cabac_->decision(base + 3 + 2 * more, code & 1);
    }

    bool predicts(const Block* b) const { return b != nullptr && (!s_.constrained_intra || b->is_intra()); }
    void intra() {
        const bool a = predicts(left()), b = predicts(above()),
                   d = x_ > 0 && y_ > 0 && predicts(usable(at_ - width_ - 1));
        const bool whole = chance(50);
        Block& me = now();
        if (whole) {
            std::vector<int> modes = {2};
            if (b) modes.push_back(0);
            if (a) modes.push_back(1);
            if (a && b && d) modes.push_back(3);
            const int mode = modes[random_() % modes.size()];
            me.type = Block::intra16;
            me.pattern = (chance(50) ? 15 : 0) | pick(0, 2) << 4;
            std::fill(std::begin(me.modes), std::end(me.modes), 2);
            type_code(1 + mode + 4 * (me.pattern >> 4) + ((me.pattern & 15) != 0 ? 12 : 0), false);
            me.type = Block::intra16;
            mb_.kind = H264Macroblock::intra16;
            mb_.mode16 = mode;
        } else {
            me.type = Block::intra4;
            type_code(0, false);
            me.transform8 = s_.transform8 && chance(50);
            if (s_.transform8) transform_flag(me.transform8);
            for (int i = 0; i < 16; i += me.transform8 ? 4 : 1) intra_mode(kCoding[i], a, b, d);
            mb_.kind = me.transform8 ? H264Macroblock::intra8 : H264Macroblock::intra4;
            mb_.transform8 = me.transform8;
            std::copy(std::begin(me.modes), std::end(me.modes), mb_.modes.begin());
        }
        std::vector<int> modes = {0};
        if (a) modes.push_back(1);
        if (b) modes.push_back(2);
        if (a && b && d) modes.push_back(3);
        const int chroma = modes[random_() % modes.size()];
        if (s_.cabac) {
            const auto counts = [](const Block* o) {
                return o != nullptr && o->is_intra() && o->type != Block::pcm && o->chroma_mode != 0 ? 1 : 0;
            };
            cabac_->decision(64 + counts(left()) + counts(above()), chroma > 0);
            if (chroma > 0) cabac_->decision(67, chroma > 1);
            if (chroma > 1) cabac_->decision(67, chroma > 2);
        } else {
            bits_->ue(static_cast<std::uint32_t>(chroma));
        }
        me.chroma_mode = mb_.chroma_mode = chroma;
        if (!whole) pattern(true);
        residual();
    }
    void intra_mode(int block, bool a, bool b, bool d) {
        Block& me = now();
        const int x = block % 4, y = block / 4;
        const bool has_a = x > 0 || a, has_b = y > 0 || b, has_d = x > 0 && y > 0 ? true : x > 0 ? b : y > 0 ? a : d;
        std::vector<int> modes = {2};
        if (has_b) modes.insert(modes.end(), {0, 3, 7});
        if (has_a) modes.insert(modes.end(), {1, 8});
        if (has_a && has_b && has_d) modes.insert(modes.end(), {4, 5, 6});
        const int mode = modes[random_() % modes.size()];
        const auto mode_of = [&](const Block* other, int at) {
            if (other == nullptr) return -1;
            if (!other->is_intra()) return s_.constrained_intra ? -1 : 2;
            return other->type == Block::intra4 ? other->modes[at] : 2;
        };
        const int ma = x > 0 ? me.modes[block - 1] : mode_of(left(), block + 3);
        const int mb = y > 0 ? me.modes[block - 4] : mode_of(above(), block + 12);
        const int predicted = ma < 0 || mb < 0 ? 2 : std::min(ma, mb);
        const bool same = mode == predicted;
        const int rest = mode < predicted ? mode : mode - 1;
        if (s_.cabac) {
            cabac_->decision(68, same);
            for (int i = 0; !same && i < 3; ++i) cabac_->decision(69, rest >> i & 1);
        } else {
            bits_->bit(same);
            if (!same) bits_->put(static_cast<std::uint32_t>(rest), 3);
        }
        me.modes[block] = mode;
        if (me.transform8) me.modes[block + 1] = me.modes[block + 4] = me.modes[block + 5] = mode;
    }
    void transform_flag(bool on) {
        if (!s_.cabac) return bits_->bit(on);
        const auto counts = [](const Block* b) { return b != nullptr && b->transform8 ? 1 : 0; };
        cabac_->decision(399 + counts(left()) + counts(above()), on);
    }

    struct Part {
        int x, y, width, height, lists;
    };
    int refs(int list) const { return active_[list] << (field_pair_ ? 1 : 0); }
    void write_ref(int list, const Part& p) {
        const int range = refs(list);
        int ref = pick(0, range - 1);
        // Frames that are not there can't be referred to; the latest comes first in the list.
        while (s_.gaps && stored_[stored_.size() - 1 - static_cast<std::size_t>(ref)].missing) ref = pick(0, range - 1);
        Block& me = now();
        if (range > 1) {
            if (s_.cabac) {
                const auto counts = [&](int x, int y) {
                    const Block* from = &me;
                    if (x < 0) {
                        from = left();
                        x += 4;
                    } else if (y < 0) {
                        from = above();
                        y += 4;
                    }
                    if (from == nullptr || from->is_intra() || from->type == Block::skip || from->type == Block::direct)
                        return 0;
                    const int b8 = y / 2 * 2 + x / 2;
                    return !from->direct8[b8] && from->ref[list][b8] > 0 ? 1 : 0;
                };
                int context = counts(p.x - 1, p.y) + 2 * counts(p.x, p.y - 1);
                for (int i = 0; i < ref; ++i) {
                    cabac_->decision(54 + context, 1);
                    context = (context >> 2) + 4;
                }
                cabac_->decision(54 + context, 0);
            } else {
                bits_->te(range - 1, ref);
            }
        }
        for (int y = p.y; y < p.y + p.height; ++y) {
            for (int x = p.x; x < p.x + p.width; ++x) me.ref[list][y / 2 * 2 + x / 2] = ref;
        }
    }
    void write_vector(int list, const Part& p) {
        Block& me = now();
        int delta[2];
        for (int c = 0; c < 2; ++c) {
            delta[c] = chance(30) ? 0 : chance(10) ? pick(-90, 90) : pick(-12, 12);
            if (!s_.cabac) {
                bits_->se(delta[c]);
                continue;
            }
            const auto size = [&](int x, int y) {
                const Block* from = &me;
                if (x < 0) {
                    from = left();
                    x += 4;
                } else if (y < 0) {
                    from = above();
                    y += 4;
                }
                return from == nullptr ? 0 : std::abs(from->mvd[list][y * 4 + x][c]);
            };
            const int sum = size(p.x - 1, p.y) + size(p.x, p.y - 1), base = c == 0 ? 40 : 47;
            const int value = std::abs(delta[c]);
            cabac_->decision(base + (sum < 3 ? 0 : sum > 32 ? 2 : 1), value > 0);
            if (value == 0) continue;
            int context = 3;
            for (int i = 1; i < 9; ++i) {
                cabac_->decision(base + context, value > i);
                if (value <= i) break;
                if (context < 6) ++context;
            }
            if (value >= 9) exp_golomb(value - 9, 3);
            cabac_->bypass(delta[c] < 0);
        }
        for (int y = p.y; y < p.y + p.height; ++y) {
            for (int x = p.x; x < p.x + p.width; ++x) {
                me.mvd[list][y * 4 + x][0] = delta[0];
                me.mvd[list][y * 4 + x][1] = delta[1];
            }
        }
    }
    void exp_golomb(int value, int k) {
        while (value >= 1 << k) {
            cabac_->bypass(1);
            value -= 1 << k;
            ++k;
        }
        cabac_->bypass(0);
        while (k-- > 0) cabac_->bypass(value >> k & 1);
    }

    void inter() {
        static constexpr int kTwo[9][2] = {{1, 1}, {2, 2}, {1, 2}, {2, 1}, {1, 3}, {2, 3}, {3, 1}, {3, 2}, {3, 3}};
        static constexpr int kSub[13][2] = {{0, 0}, {1, 0}, {2, 0}, {3, 0}, {1, 1}, {1, 2}, {2, 1},
                                            {2, 2}, {3, 1}, {3, 2}, {1, 3}, {2, 3}, {3, 3}};
        Block& me = now();
        me.type = Block::inter;
        mb_.kind = H264Macroblock::inter;
        bool large = true;  // no part below 8x8
        const bool b = type_ == kB;
        const int type = b ? (chance(25) ? 22 : pick(0, 22)) : pick(0, s_.cabac || s_.gaps ? 3 : 4);
        const int lists = b ? 2 : 1;
        if (b && type == 0) {
            type_code(0, true);
            me.type = Block::direct;
            std::fill(std::begin(me.direct8), std::end(me.direct8), true);
            large = s_.inference;
            mb_.parts.push_back({0, 0, 4, 4, 0, {-1, -1}, {}, true});
        } else if (b ? type == 22 : type >= 3) {
            type_code(type, true);
            int sub[4], use[4], shape[4];
            for (int i = 0; i < 4; ++i) {
                sub[i] = b ? pick(0, 12) : pick(0, 3);
                use[i] = b ? kSub[sub[i]][0] : 1;
                shape[i] = b ? kSub[sub[i]][1] : sub[i];
                me.direct8[i] = b && sub[i] == 0;
                sub_type(sub[i]);
                if (me.direct8[i] ? !s_.inference : shape[i] != 0) large = false;
            }
            for (int list = 0; list < lists; ++list) {
                for (int i = 0; i < 4; ++i) {
                    if ((use[i] >> list & 1) == 0) continue;
                    const Part p{i % 2 * 2, i / 2 * 2, 2, 2, 0};
                    if (!b && type == 4) {
                        me.ref[0][i] = 0;
                    } else {
                        write_ref(list, p);
                    }
                }
            }
            for (int i = 0; i < 4; ++i) {
                const int x0 = i % 2 * 2, y0 = i / 2 * 2;
                if (me.direct8[i]) {
                    mb_.parts.push_back({x0, y0, 2, 2, 0, {-1, -1}, {}, true});
                    continue;
                }
                const int w = shape[i] == 0 || shape[i] == 1 ? 2 : 1, h = shape[i] == 0 || shape[i] == 2 ? 2 : 1;
                for (int y = y0; y < y0 + 2; y += h) {
                    for (int x = x0; x < x0 + 2; x += w) mb_.parts.push_back({x, y, w, h, use[i], {-1, -1}, {}, false});
                }
            }
            for (int list = 0; list < lists; ++list) {
                for (int i = 0; i < 4; ++i) {
                    if ((use[i] >> list & 1) == 0) continue;
                    const int w = shape[i] == 0 || shape[i] == 1 ? 2 : 1, h = shape[i] == 0 || shape[i] == 2 ? 2 : 1;
                    for (int y = i / 2 * 2; y < i / 2 * 2 + 2; y += h) {
                        for (int x = i % 2 * 2; x < i % 2 * 2 + 2; x += w) write_vector(list, {x, y, w, h, 0});
                    }
                }
            }
        } else {
            type_code(type, true);
            std::vector<Part> parts;
            if (!b) {
                if (type == 0) parts = {{0, 0, 4, 4, 1}};
                if (type == 1) parts = {{0, 0, 4, 2, 1}, {0, 2, 4, 2, 1}};
                if (type == 2) parts = {{0, 0, 2, 4, 1}, {2, 0, 2, 4, 1}};
            } else if (type <= 3) {
                parts = {{0, 0, 4, 4, type}};
            } else {
                const int* use = kTwo[(type - 4) / 2];
                if (type % 2 == 0) parts = {{0, 0, 4, 2, use[0]}, {0, 2, 4, 2, use[1]}};
                if (type % 2 == 1) parts = {{0, 0, 2, 4, use[0]}, {2, 0, 2, 4, use[1]}};
            }
            for (const Part& p : parts)
                mb_.parts.push_back({p.x, p.y, p.width, p.height, p.lists, {-1, -1}, {}, false});
            for (int list = 0; list < lists; ++list) {
                for (const Part& p : parts) {
                    if ((p.lists >> list & 1) != 0) write_ref(list, p);
                }
            }
            for (int list = 0; list < lists; ++list) {
                for (const Part& p : parts) {
                    if ((p.lists >> list & 1) != 0) write_vector(list, p);
                }
            }
        }
        for (auto& part : mb_.parts) {
            for (std::size_t l = 0; l < 2; ++l) {
                part.ref[l] = me.ref[l][part.y / 2 * 2 + part.x / 2];
                for (std::size_t c = 0; c < 2; ++c) part.delta[l][c] = me.mvd[l][part.y * 4 + part.x][c];
            }
        }
        pattern(false);
        if ((me.pattern & 15) != 0 && s_.transform8 && large) {
            const bool on = chance(50);
            transform_flag(on);
            me.transform8 = mb_.transform8 = on;
        }
        residual();
    }
    void sub_type(int type) {
        if (!s_.cabac) return bits_->ue(static_cast<std::uint32_t>(type));
        const auto bins = [&](std::initializer_list<std::pair<int, int>> all) {
            for (const auto& [context, bin] : all) cabac_->decision(context, bin);
        };
        if (type_ == kP) {
            // Table 9-38.
            if (type == 0) bins({{21, 1}});
            if (type == 1) bins({{21, 0}, {22, 0}});
            if (type == 2) bins({{21, 0}, {22, 1}, {23, 1}});
            if (type == 3) bins({{21, 0}, {22, 1}, {23, 0}});
            return;
        }
        if (type == 0) return bins({{36, 0}});
        if (type <= 2) return bins({{36, 1}, {37, 0}, {39, type - 1}});
        if (type <= 6) return bins({{36, 1}, {37, 1}, {38, 0}, {39, (type - 3) >> 1}, {39, (type - 3) & 1}});
        if (type <= 10) return bins({{36, 1}, {37, 1}, {38, 1}, {39, 0}, {39, (type - 7) >> 1}, {39, (type - 7) & 1}});
        bins({{36, 1}, {37, 1}, {38, 1}, {39, 1}, {39, type - 11}});
    }

    void pattern(bool intra) {
        Block& me = now();
        me.pattern = pair_ || chance(100 - s_.residual) ? 0 : pick(0, 15) | pick(0, 2) << 4;
        if (!s_.cabac) {
            for (std::uint32_t code = 0; code < 48; ++code) {
                if (kCodedBlockPattern[code][intra ? 0 : 1] == me.pattern) return bits_->ue(code);
            }
            std::abort();
        }
        const int wanted = me.pattern;
        for (int b8 = 0; b8 < 4; ++b8) {
            const auto zero = [&](const Block* o, int bit) {
                if (o == nullptr || o->type == Block::pcm) return 0;
                if (o->type == Block::skip) return 1;
                return (o->pattern >> bit & 1) == 0 ? 1 : 0;
            };
            const int a = b8 % 2 == 1 ? (wanted >> (b8 - 1) & 1) ^ 1 : zero(left(), b8 + 1);
            const int b = b8 >= 2 ? (wanted >> (b8 - 2) & 1) ^ 1 : zero(above(), b8 + 2);
            cabac_->decision(73 + a + 2 * b, wanted >> b8 & 1);
        }
        const auto chroma = [](const Block* o) {
            return o == nullptr || o->type == Block::skip ? 0 : o->type == Block::pcm ? 2 : o->pattern >> 4;
        };
        const int a = chroma(left()), b = chroma(above()), c = wanted >> 4;
        cabac_->decision(77 + (a != 0 ? 1 : 0) + (b != 0 ? 2 : 0), c != 0);
        if (c != 0) cabac_->decision(81 + (a == 2 ? 1 : 0) + (b == 2 ? 2 : 0), c - 1);
    }

    // --- Coefficients ---

    void residual() {
        Block& me = now();
        if (me.pattern == 0 && me.type != Block::intra16) {
            last_delta_ = 0;
            return;
        }
        int delta = chance(60) ? 0 : pick(-6, 6);
        if (qp_ + delta > 44 || qp_ + delta < 10) delta = 0;
        qp_ += delta;
        if (s_.cabac) {
            const int value = delta > 0 ? 2 * delta - 1 : -2 * delta;
            int context = last_delta_ != 0 ? 1 : 0;
            for (int i = 0; i < value; ++i) {
                cabac_->decision(60 + context, 1);
                context = 2 + (context >> 1);
            }
            cabac_->decision(60 + context, 0);
        } else {
            bits_->se(delta);
        }
        last_delta_ = delta;
        const bool whole = me.type == Block::intra16;
        if (whole) block(0, 0, 0, 16);
        for (int b8 = 0; b8 < 4; ++b8) {
            if ((me.pattern >> b8 & 1) == 0) continue;
            if (me.transform8 && s_.cabac) {
                block(5, 0, kCoding[4 * b8], 64);
                continue;
            }
            for (int k = 0; k < 4; ++k) block(whole ? 1 : 2, 0, kCoding[4 * b8 + k], whole ? 15 : 16);
        }
        if (me.pattern >> 4 != 0) {
            block(3, 1, 0, 4);
            block(3, 2, 0, 4);
        }
        if (me.pattern >> 4 == 2) {
            for (int c = 1; c < 3; ++c) {
                for (int k = 0; k < 4; ++k) block(4, c, k, 15);
            }
        }
    }

    // Levels by scan place, mostly few and small; sums that pass 16 bits aren't legal.
    std::array<int, 64> levels(int count, bool must) {
        std::array<int, 64> made{};
        const int budget = std::max(1, 6000 / (29 * (s_.scaling ? 3 : 1) << qp_ / 6));
        const bool some = must || chance(s_.residual);
        if (!some) return made;
        const int number = chance(15) ? std::min(count, budget) : std::min({count, pick(1, 5), budget});
        int left = budget;
        for (int i = 0; i < number && left > 0; ++i) {
            const int at = chance(60) ? pick(0, std::min(count - 1, 6)) : pick(0, count - 1);
            if (made[static_cast<std::size_t>(at)] != 0) continue;
            const int size = std::min(left, chance(80) ? 1 : chance(80) ? pick(1, 4) : pick(1, 300));
            left -= size;
            made[static_cast<std::size_t>(at)] = chance(50) ? size : -size;
        }
        return made;
    }
    // By kind: 0 DC of intra 16x16, 1 its others, 2 luma, 3 chroma DC, 4 chroma, 5 luma 8x8.
    void block(int kind, int plane, int at, int count) {
        Block& me = now();
        std::array<int, 64> level = levels(count, kind == 5);
        // An 8x8 block of CABAC has to have a level.
        if (s_.flat) level.fill(0);
        if (s_.flat && kind == 5) level[0] = 1;
        keep(level, kind, plane, at, count);
        const int total =
            static_cast<int>(std::count_if(level.begin(), level.begin() + count, [](int l) { return l != 0; }));
        const int place = plane == 0 ? at : 12 + 4 * plane + at;
        const Block* neighbour[2];
        int other[2];
        const int per_row = plane == 0 ? 4 : 2, x = at % per_row, y = at / per_row,
                  base = plane == 0 ? 0 : 12 + 4 * plane;
        neighbour[0] = x > 0 ? &me : left();
        other[0] = base + (x > 0 ? at - 1 : at + per_row - 1);
        neighbour[1] = y > 0 ? &me : above();
        other[1] = base + (y > 0 ? at - per_row : at + per_row * (per_row - 1));
        if (!s_.cabac) {
            int n[2] = {-1, -1};
            for (int i = 0; i < 2; ++i) {
                if (neighbour[i] != nullptr) n[i] = neighbour[i]->total[other[i]];
            }
            const int context = kind == 3                ? -1
                                : n[0] >= 0 && n[1] >= 0 ? (n[0] + n[1] + 1) >> 1
                                                         : std::max({n[0], n[1], 0});
            if (kind != 0 && kind != 3) me.total[place] = total;
            return cavlc(level, count, total, context);
        }
        if (kind != 5) {
            int flags[2];
            for (int i = 0; i < 2; ++i) {
                const Block* o = kind == 0 || kind == 3 ? (i == 0 ? left() : above()) : neighbour[i];
                if (o == nullptr) {
                    flags[i] = me.is_intra() ? 1 : 0;
                } else if (kind == 0 || kind == 3) {
                    flags[i] = o->dc[plane] ? 1 : 0;
                } else {
                    flags[i] = o->coded[other[i]] ? 1 : 0;
                }
            }
            cabac_->decision(85 + 4 * kind + flags[0] + 2 * flags[1], total > 0);
        }
        if (kind == 0 || kind == 3) {
            me.dc[plane] = total > 0;
        } else if (kind == 5) {
            for (const int k : {0, 1, 4, 5}) me.coded[at + k] = true;
        } else {
            me.coded[place] = total > 0;
        }
        if (total == 0) return;
        static constexpr int kSignificant[2][6] = {{105, 120, 134, 149, 152, 402}, {277, 292, 306, 321, 324, 436}};
        static constexpr int kLastOne[2][6] = {{166, 181, 195, 210, 213, 417}, {338, 353, 367, 382, 385, 451}};
        static constexpr int kSize[6] = {227, 237, 247, 257, 266, 426};
        const int field = structure_ != kWhole ? 1 : 0;
        int left_over = total;
        for (int i = 0; i < count - 1; ++i) {
            const bool on = level[static_cast<std::size_t>(i)] != 0;
            const int s = kind == 3 ? std::min(i, 2) : kind == 5 ? kSignificant8x8[field][i] : i;
            cabac_->decision(kSignificant[field][kind] + s, on);
            if (!on) continue;
            --left_over;
            const int l = kind == 3 ? std::min(i, 2) : kind == 5 ? kLast8x8[i] : i;
            cabac_->decision(kLastOne[field][kind] + l, left_over == 0);
            if (left_over == 0) break;
        }
        int ones = 0, larger = 0;
        for (int i = count - 1; i >= 0; --i) {
            const int value = level[static_cast<std::size_t>(i)];
            if (value == 0) continue;
            const int size = std::abs(value) - 1;
            cabac_->decision(kSize[kind] + (larger != 0 ? 0 : std::min(4, 1 + ones)), size > 0);
            if (size > 0) {
                const int context = kSize[kind] + 5 + std::min(kind == 3 ? 3 : 4, larger);
                for (int k = 1; k < 14; ++k) {
                    cabac_->decision(context, size > k);
                    if (size <= k) break;
                }
                if (size >= 14) exp_golomb(size - 14, 0);
                ++larger;
            } else {
                ++ones;
            }
            cabac_->bypass(value < 0);
        }
    }

    void keep(const std::array<int, 64>& level, int kind, int plane, int at, int count) {
        const auto place = static_cast<std::size_t>(at), k = static_cast<std::size_t>(plane - 1);
        const std::size_t quarter = place / 8 * 2 + place % 4 / 2;
        for (std::size_t i = 0; i < static_cast<std::size_t>(count); ++i) {
            if (kind == 0) mb_.dc[i] = level[i];
            if (kind == 1) mb_.luma[place][i + 1] = level[i];
            if (kind == 2 && !mb_.transform8) mb_.luma[place][i] = level[i];
            // By CAVLC four blocks take the levels of an 8x8 block by turns.
            if (kind == 2 && mb_.transform8) mb_.luma8[quarter][4 * i + place / 4 % 2 * 2 + place % 2] = level[i];
            if (kind == 3) mb_.chroma_dc[k][i] = level[i];
            if (kind == 4) mb_.chroma[k][place][i + 1] = level[i];
            if (kind == 5) mb_.luma8[quarter][i] = level[i];
        }
    }

    // 9.2, the other way round.
    void cavlc(const std::array<int, 64>& level, int count, int total, int context) {
        std::vector<int> values, runs;  // from the highest frequency down; zeros before each
        int zeros = 0, all_zeros = 0;
        for (int i = 0; i < count; ++i) {
            if (level[static_cast<std::size_t>(i)] == 0) {
                ++zeros;
                continue;
            }
            values.insert(values.begin(), level[static_cast<std::size_t>(i)]);
            runs.insert(runs.begin(), zeros);
            all_zeros += zeros;
            zeros = 0;
        }
        int trailing = 0;
        while (trailing < 3 && trailing < total && std::abs(values[static_cast<std::size_t>(trailing)]) == 1)
            ++trailing;
        const std::size_t table = context < 0 ? 4 : context < 2 ? 0 : context < 4 ? 1 : context < 8 ? 2 : 3;
        for (const TokenCode& code : kTokens[table]) {
            if (code.total == total && code.trailing == trailing) bits_->put(code.code, code.length);
        }
        if (total == 0) return;
        int suffix = total > 10 && trailing < 3 ? 1 : 0;
        for (int i = 0; i < total; ++i) {
            const int value = values[static_cast<std::size_t>(i)];
            if (i < trailing) {
                bits_->bit(value < 0);
                continue;
            }
            int code = value > 0 ? 2 * value - 2 : -2 * value - 1;
            if (i == trailing && trailing < 3) code -= 2;
            if (suffix == 0) {
                if (code < 14) {
                    bits_->put(1, code + 1);
                } else if (code < 30) {
                    bits_->put(1, 15);
                    bits_->put(static_cast<std::uint32_t>(code - 14), 4);
                } else {
                    bits_->put(1, 16);
                    bits_->put(static_cast<std::uint32_t>(code - 30), 12);
                }
                suffix = 1;
            } else if (code < 15 << suffix) {
                bits_->put(1, (code >> suffix) + 1);
                bits_->put(static_cast<std::uint32_t>(code & ((1 << suffix) - 1)), suffix);
            } else {
                bits_->put(1, 16);
                bits_->put(static_cast<std::uint32_t>(code - (15 << suffix)), 12);
            }
            if (std::abs(value) > 3 << (suffix - 1) && suffix < 6) ++suffix;
        }
        if (total < count) {
            const auto row = static_cast<std::size_t>(total - 1);
            for (const RunCode& code : context < 0 ? kTotalZerosChromaDc[row] : kTotalZeros[row]) {
                if (code.value == all_zeros) bits_->put(code.code, code.length);
            }
        }
        int rest = all_zeros;
        for (int i = 0; i + 1 < total && rest > 0; ++i) {
            for (const RunCode& code : kRunBefore[static_cast<std::size_t>(std::min(rest, 7) - 1)]) {
                if (code.value == runs[static_cast<std::size_t>(i)]) bits_->put(code.code, code.length);
            }
            rest -= runs[static_cast<std::size_t>(i)];
        }
    }

    static constexpr int kFrameNumBits = 4, kOrderBits = 6;
    static constexpr int kForNonReference = -1, kTopToBottom = 1, kCycle[2] = {2, 3};

    const H264WriterSettings s_;
    std::mt19937 random_;
    int chroma_offset_ = 0;

    // Of the sequence
    std::vector<Stored> stored_, pending_;
    std::unique_ptr<H264Reconstruction> made_;
    std::vector<std::pair<int, std::shared_ptr<H264Frame>>> frames_;  // by when they are shown
    int previous_frame_num_ = 0, frame_num_ = 0, offset_ = 0, last_order_frame_num_ = 0, idr_number_ = 0;
    int order_base_ = 0, next_order_ = 0;

    // Of the picture
    Stored current_;
    int shown_ = 0, order_ = 0, top_ = 0, bottom_ = 0, delta_[2] = {0, 0};
    bool bottom_first_ = false, bottom_shown_first_ = false, restart_ = false, reference_ = false, idr_ = false,
         second_ = false, pair_ = false, field_pair_ = false;
    int structure_ = kWhole, width_ = 0, height_ = 0;
    std::vector<Block> blocks_;
    std::vector<Command> commands_;

    // Of the slice
    int slice_ = 0, type_ = kI, table_ = 0, active_[2] = {0, 0}, qp_ = 26, last_delta_ = 0, run_ = 0;
    Bits* bits_ = nullptr;
    CabacWriter* cabac_ = nullptr;
    std::vector<H264Reference> moved_up_[2];
    std::vector<std::array<std::array<int, 2>, 3>> weights_[2];
    int log2_[2] = {0, 0};
    int at_ = 0, x_ = 0, y_ = 0;
    H264Macroblock mb_;
};

}  // namespace

H264Written write_h264(const H264WriterSettings& settings) {
    return Writer(settings).run();
}

}  // namespace wavecrest::test
