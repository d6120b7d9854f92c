#include "codec/h264/buffer.hpp"

#include <algorithm>
#include <cstdlib>
#include <iterator>

namespace wavecrest::codec::h264 {

using bitstream::h264::SliceHeader;
using bitstream::h264::SliceType;
using bitstream::h264::Sps;

namespace {

constexpr int kMostFrames = 16;
constexpr std::uint8_t kMostSlots = 31;

// MaxDpbFrames (A.3.1).
int buffer_size(const Sps& sps) {
    const std::int64_t macroblocks = std::int64_t{sps.columns} * sps.rows;
    std::int64_t pictures = 0;
    for (const bitstream::h264::Level& level : bitstream::h264::levels()) {
        const bool b1 = level.idc == 10 && (sps.level_idc == 9 || sps.level_idc == 10);
        if (level.idc == sps.level_idc || b1) pictures = level.pictures;
    }
    if (pictures == 0) return kMostFrames;
    return static_cast<int>(
        std::clamp<std::int64_t>(pictures / std::max<std::int64_t>(macroblocks, 1), 1, kMostFrames));
}

bool is_idr(const SliceHeader& slice) {
    return slice.nal_type == bitstream::h264::kIdrSlice;
}
int structure_of(const SliceHeader& slice) {
    return !slice.field ? kFrame : slice.bottom ? kBottom : kTop;
}
bool resets(const SliceHeader& slice) {
    return std::any_of(slice.markings.begin(), slice.markings.end(), [](const auto& m) { return m.operation == 5; });
}

}  // namespace

void PictureBuffer::activate(const Sps& sps, Out& out) {
    if (sps.columns != columns_ || sps.rows != rows_) {
        flush(out);
        frames_.clear();
        latest_.reset();
        samples_.clear();
        columns_ = sps.columns;
        rows_ = sps.rows;
    }
    capacity_ = std::clamp(sps.reference_frames, 1, kMostFrames);
    const int size = std::max(buffer_size(sps), std::min(sps.reference_frames, kMostFrames));
    room_ = std::max({sps.buffered_frames >= 0 ? sps.buffered_frames : size, capacity_, 1}) + 1;
    depth_ = sps.reorder_frames >= 0    ? sps.reorder_frames
             : sps.buffered_frames >= 0 ? std::min(sps.buffered_frames, size)
                                        : size;
    const bool intra_only = (sps.constraint_flags & 0x10) != 0 &&
                            (sps.profile_idc == 44 || sps.profile_idc == 86 || sps.profile_idc == 100 ||
                             sps.profile_idc == 110 || sps.profile_idc == 122 || sps.profile_idc == 244);
    if (sps.order_type == 2 || (sps.reorder_frames < 0 && intra_only)) depth_ = 0;
}

std::uint8_t PictureBuffer::free_slot() const {
    std::uint8_t slot = 0;
    const auto is_taken = [&](const auto& one) { return one->is_reference() && one->slot == slot; };
    while (slot < kMostSlots && std::any_of(frames_.begin(), frames_.end(), is_taken)) ++slot;
    return slot;
}

std::shared_ptr<Frame> PictureBuffer::allocate(const Sps& sps, bool reference) {
    auto frame = std::make_shared<Frame>();
    frame->id = ++last_id_;
    frame->slot = free_slot();
    frame->columns = sps.columns;
    frame->rows = sps.rows;
    if (!reference) return frame;
    frame->motion.emplace(static_cast<std::size_t>(sps.columns) * static_cast<std::size_t>(sps.rows),
                          !sps.direct_8x8_inference, !sps.direct_8x8_inference || !sps.frames_only);
    return frame;
}

bool PictureBuffer::has_room() const {
    return std::count_if(given_.begin(), given_.end(), [](const auto& one) { return !one.expired(); }) < room_;
}

void PictureBuffer::give_samples(const std::shared_ptr<Frame>& frame) {
    // Memory that nobody looks at any more serves again; more than that is given back.
    const auto fits = [&](const Picture& one) {
        return one.width == frame->columns * 16 && one.height == frame->rows * 16 && one.storage.use_count() == 1;
    };
    if (const auto found = std::find_if(samples_.begin(), samples_.end(), fits); found != samples_.end()) {
        frame->picture = *found;
    } else {
        frame->picture = Picture::allocate(frame->columns * 16, frame->rows * 16);
        samples_.push_back(frame->picture);
    }
    std::erase_if(samples_, [](const Picture& one) { return one.storage.use_count() == 1; });
    std::erase_if(given_, [](const auto& one) { return one.expired(); });
    given_.push_back(frame);
}

// 8.2.1
void PictureBuffer::set_order(const Sps& sps, const SliceHeader& slice, Frame& frame) {
    const int max_frame_num = 1 << sps.frame_number_bits;
    if (sps.order_type == 0) {
        const int max_lsb = 1 << sps.order_bits;
        int previous_msb = previous_msb_, previous_lsb = previous_lsb_;
        if (is_idr(slice)) previous_msb = previous_lsb = 0;
        int msb = previous_msb;
        if (slice.order_lsb < previous_lsb && previous_lsb - slice.order_lsb >= max_lsb / 2) {
            msb += max_lsb;
        } else if (slice.order_lsb > previous_lsb && slice.order_lsb - previous_lsb > max_lsb / 2) {
            msb -= max_lsb;
        }
        if (!slice.field || !slice.bottom) frame.order[0] = msb + slice.order_lsb;
        if (!slice.field) {
            frame.order[1] = frame.order[0] + slice.delta_order_bottom;
        } else if (slice.bottom) {
            frame.order[1] = msb + slice.order_lsb;
        }
        if (slice.nal_ref_idc != 0) {
            previous_msb_ = msb;
            previous_lsb_ = slice.order_lsb;
        }
        return;
    }
    if (is_idr(slice)) {
        frame_num_offset_ = 0;
    } else if (previous_frame_num_ > slice.frame_num) {
        frame_num_offset_ += max_frame_num;
    }
    if (sps.order_type == 1) {
        const auto cycle = static_cast<int>(sps.offsets_for_reference.size());
        int absolute = cycle != 0 ? frame_num_offset_ + slice.frame_num : 0;
        if (slice.nal_ref_idc == 0 && absolute > 0) --absolute;
        std::int64_t sum = 0;
        if (absolute > 0) {
            std::int64_t delta = 0;
            for (const int one : sps.offsets_for_reference) delta += one;
            sum = (absolute - 1) / cycle * delta;
            for (int i = 0; i <= (absolute - 1) % cycle; ++i)
                sum += sps.offsets_for_reference[static_cast<std::size_t>(i)];
        }
        if (slice.nal_ref_idc == 0) sum += sps.offset_for_non_reference;
        const auto expected = static_cast<int>(std::clamp<std::int64_t>(sum, -(1 << 28), 1 << 28));
        if (!slice.field) {
            frame.order[0] = expected + slice.delta_order[0];
            frame.order[1] = frame.order[0] + sps.offset_top_to_bottom + slice.delta_order[1];
        } else if (!slice.bottom) {
            frame.order[0] = expected + slice.delta_order[0];
        } else {
            frame.order[1] = expected + sps.offset_top_to_bottom + slice.delta_order[0];
        }
    } else {
        const int order =
            is_idr(slice) ? 0 : 2 * (frame_num_offset_ + slice.frame_num) - (slice.nal_ref_idc == 0 ? 1 : 0);
        if (!slice.field || !slice.bottom) frame.order[0] = order;
        if (!slice.field || slice.bottom) frame.order[1] = order;
    }
    previous_frame_num_ = slice.frame_num;
}

// 8.2.4.1
void PictureBuffer::wrap_numbers(const Sps& sps, int frame_num) {
    const int max_frame_num = 1 << sps.frame_number_bits;
    for (const auto& frame : frames_)
        frame->frame_num_wrap = frame->frame_num > frame_num ? frame->frame_num - max_frame_num : frame->frame_num;
    if (current_) current_->frame_num_wrap = current_->frame_num;
}

// 8.2.5.3
void PictureBuffer::slide(const Sps& sps) {
    (void)sps;
    int count = 0;
    Frame* oldest = nullptr;
    for (const auto& frame : frames_) {
        if (!frame->is_reference()) continue;
        ++count;
        if (frame->short_term != 0 && (oldest == nullptr || frame->frame_num_wrap < oldest->frame_num_wrap))
            oldest = frame.get();
    }
    if (count >= capacity_ && oldest != nullptr) oldest->short_term = 0;
}

// 8.2.5.2: frames that were never sent, or are lost.
void PictureBuffer::fill_gap(const Sps& sps, const SliceHeader& slice, Out& out) {
    const int max_frame_num = 1 << sps.frame_number_bits;
    if (is_idr(slice) || slice.frame_num == previous_reference_frame_num_) return;
    int number = (previous_reference_frame_num_ + 1) % max_frame_num;
    int missing = (slice.frame_num - number + max_frame_num) % max_frame_num;
    if (missing == 0 || latest_ == nullptr) return;
    // Only the latest can still be referred to.
    if (missing > capacity_) {
        number = (number + missing - capacity_) % max_frame_num;
        missing = capacity_;
    }
    for (; missing > 0; --missing, number = (number + 1) % max_frame_num) {
        wrap_numbers(sps, number);
        slide(sps);
        auto frame = std::make_shared<Frame>();
        frame->id = ++last_id_;
        frame->slot = free_slot();
        frame->columns = sps.columns;
        frame->rows = sps.rows;
        // What is predicted from it shows what was there before.
        frame->picture = latest_->picture;
        frame->decoded = kFrame;
        frame->missing = true;
        frame->lost_whole = !sps.gaps_allowed;
        frame->frame_num = frame->frame_num_wrap = number;
        frame->short_term = kFrame;
        SliceHeader made;
        made.nal_ref_idc = 1;
        made.frame_num = number;
        if (sps.order_type != 0)
            set_order(sps, made, *frame);
        else
            frame->order[0] = frame->order[1] = latest_->order[0];
        frames_.push_back(std::move(frame));
        previous_reference_frame_num_ = number;
        drop_unused();
    }
    (void)out;
}

std::shared_ptr<Frame> PictureBuffer::begin(const Sps& sps, const SliceHeader& slice, std::int64_t number, Out& out) {
    const int structure = structure_of(slice);
    second_field_ = false;
    if (current_) {
        // The other field of a frame of which one has been decoded (7.4.1.2.4).
        const bool pair = structure != kFrame && current_->decoded == kFrame - structure && !is_idr(slice) &&
                          current_->frame_num == slice.frame_num && current_->field_pair &&
                          current_->reference == (slice.nal_ref_idc != 0);
        const bool idr_pair = structure != kFrame && current_->decoded == kFrame - structure && is_idr(slice) &&
                              current_->frame_num == slice.frame_num && current_->field_pair && current_->flushes;
        if (pair || idr_pair) {
            second_field_ = true;
            set_order(sps, slice, *current_);
            return current_;
        }
        keep_current(out);
    }
    if (is_idr(slice)) {
        for (const auto& frame : frames_) frame->short_term = frame->long_term = 0;
        bump(true, out);
        last_out_.reset();
        drop_unused();
    }
    fill_gap(sps, slice, out);
    current_ = allocate(sps, slice.nal_ref_idc != 0);
    current_->number = number;
    current_->frame_num = current_->frame_num_wrap = slice.frame_num;
    current_->field_pair = structure != kFrame;
    current_->adaptive = sps.macroblock_adaptive && !slice.field;
    current_->flushes = current_->instantaneous = is_idr(slice);
    current_->reference = slice.nal_ref_idc != 0;
    current_->wanted = true;
    set_order(sps, slice, *current_);
    if (structure == kTop) current_->order[1] = current_->order[0];
    if (structure == kBottom) current_->order[0] = current_->order[1];
    return current_;
}

void PictureBuffer::hold(const std::vector<Reference> (&lists)[2], std::vector<std::shared_ptr<Frame>>& held) const {
    for (const auto& frame : frames_) {
        const auto names = [&](const std::vector<Reference>& list) {
            return std::any_of(list.begin(), list.end(), [&](const Reference& r) { return r.frame == frame.get(); });
        };
        if ((names(lists[0]) || names(lists[1])) && std::find(held.begin(), held.end(), frame) == held.end())
            held.push_back(frame);
    }
}

namespace {

// 8.2.4.2.5: fields of frames in turn, beginning with the current parity.
std::vector<Reference> fields_in_turn(const std::vector<Frame*>& frames, int structure, bool are_long) {
    std::vector<Reference> fields;
    std::size_t next[2] = {0, 0};
    const auto take = [&](int parity) {
        std::size_t& i = next[parity == structure ? 0 : 1];
        while (i < frames.size() && ((are_long ? frames[i]->long_term : frames[i]->short_term) & parity) == 0) ++i;
        if (i >= frames.size()) return false;
        fields.push_back({frames[i++], parity, false, are_long});
        return true;
    };
    int parity = structure;
    while (take(parity)) parity = kFrame - parity;
    while (take(kFrame - parity)) {
    }
    return fields;
}

}  // namespace

void PictureBuffer::make_lists(const Sps& sps, const SliceHeader& slice, std::vector<Reference> (&lists)[2]) {
    lists[0].clear();
    lists[1].clear();
    if (slice.type == SliceType::i || slice.type == SliceType::si) return;
    wrap_numbers(sps, slice.frame_num);
    make_initial_lists(sps, slice, lists);
    for (int l = 0; l < (slice.type == SliceType::b ? 2 : 1); ++l) {
        const auto wanted = static_cast<std::size_t>(slice.references[l]);
        lists[l].resize(std::min(lists[l].size(), wanted));
        lists[l].resize(wanted);
        modify_list(sps, slice, slice.modifications[l], lists[l]);
        fill_list(structure_of(slice), lists[l]);
    }
}

// 8.2.4.2
void PictureBuffer::make_initial_lists(const Sps& sps, const SliceHeader& slice,
                                       std::vector<Reference> (&lists)[2]) const {
    std::vector<Frame*> short_term, long_term;
    const auto consider = [&](Frame* frame) {
        if (!slice.field ? frame->short_term == kFrame : frame->short_term != 0) short_term.push_back(frame);
        if (!slice.field ? frame->long_term == kFrame : frame->long_term != 0) long_term.push_back(frame);
    };
    for (const auto& frame : frames_) consider(frame.get());
    if (second_field_) consider(current_.get());
    std::stable_sort(long_term.begin(), long_term.end(),
                     [](const Frame* x, const Frame* y) { return x->long_index < y->long_index; });
    const auto add = [&](std::vector<Reference>& list, const std::vector<Frame*>& frames, bool are_long) {
        if (slice.field) {
            for (const Reference& one : fields_in_turn(frames, structure_of(slice), are_long)) list.push_back(one);
        } else {
            for (Frame* frame : frames) list.push_back({frame, kFrame, false, are_long});
        }
    };
    if (slice.type != SliceType::b) {
        std::stable_sort(short_term.begin(), short_term.end(),
                         [](const Frame* x, const Frame* y) { return x->frame_num_wrap > y->frame_num_wrap; });
        add(lists[0], short_term, false);
        add(lists[0], long_term, true);
        return;
    }
    const int now = slice.field ? current_->order[slice.bottom ? 1 : 0] : current_->order_count(kFrame);
    // A frame of which only one field is decoded counts by that; in frames both count.
    const auto order = [&](const Frame* frame) {
        return slice.field ? frame->order_count() : frame->order_count(kFrame);
    };
    std::vector<Frame*> before, after;
    for (Frame* frame : short_term) {
        // They have no order of their own (8.2.5.2).
        if (frame->missing && sps.order_type == 0) continue;
        // Fields: the other field of the current frame comes before (8.2.4.2.4).
        (slice.field ? order(frame) <= now : order(frame) < now) ? before.push_back(frame) : after.push_back(frame);
    }
    std::stable_sort(before.begin(), before.end(), [&](const Frame* x, const Frame* y) { return order(x) > order(y); });
    std::stable_sort(after.begin(), after.end(), [&](const Frame* x, const Frame* y) { return order(x) < order(y); });
    std::vector<Frame*> forward = before, backward = after;
    forward.insert(forward.end(), after.begin(), after.end());
    backward.insert(backward.end(), before.begin(), before.end());
    add(lists[0], forward, false);
    add(lists[0], long_term, true);
    add(lists[1], backward, false);
    add(lists[1], long_term, true);
    const bool same = lists[0].size() == lists[1].size() &&
                      std::equal(lists[0].begin(), lists[0].end(), lists[1].begin(),
                                 [](const Reference& x, const Reference& y) { return x.id() == y.id(); });
    if (lists[1].size() > 1 && same) std::swap(lists[1][0], lists[1][1]);
}

// 8.2.4.3: what the slice moves to the front. The list keeps its size.
void PictureBuffer::modify_list(const Sps& sps, const SliceHeader& slice,
                                const std::vector<SliceHeader::Modification>& modifications,
                                std::vector<Reference>& list) const {
    const std::size_t wanted = list.size();
    const int max_frame_num = 1 << sps.frame_number_bits;
    const int max_number = slice.field ? 2 * max_frame_num : max_frame_num;
    const int current_number = slice.field ? 2 * slice.frame_num + 1 : slice.frame_num;
    int predicted = current_number;
    std::size_t index = 0;
    for (const SliceHeader::Modification& one : modifications) {
        Reference found;
        if (one.operation < 2) {
            const auto difference = static_cast<int>((one.value & 0x1FFFF) + 1);
            if (one.operation == 0) {
                predicted -= difference;
                if (predicted < 0) predicted += max_number;
            } else {
                predicted += difference;
                if (predicted >= max_number) predicted -= max_number;
            }
            found = by_number(predicted > current_number ? predicted - max_number : predicted, false, slice);
        } else {
            found = by_number(static_cast<int>(one.value & 0xFFFF), true, slice);
        }
        if (index >= wanted) break;
        if (found.frame == nullptr) continue;
        list.insert(list.begin() + static_cast<std::ptrdiff_t>(index), found);
        ++index;
        std::size_t to = index;
        for (std::size_t from = index; from < list.size(); ++from) {
            if (list[from].frame == nullptr || list[from].id() != found.id()) list[to++] = list[from];
        }
        list.resize(wanted);
    }
}

// Another picture stands in for each that is missing; without any the list is empty.
void PictureBuffer::fill_list(int structure, std::vector<Reference>& list) const {
    Reference some;
    const auto there =
        std::find_if(list.begin(), list.end(), [](const Reference& one) { return one.frame != nullptr; });
    if (there != list.end()) {
        some = *there;
    } else if (latest_ != nullptr) {
        some = {latest_.get(), structure, true, false};
    } else {
        list.clear();
    }
    for (Reference& one : list) {
        if (one.frame != nullptr) continue;
        one = some;
        one.stands_in = true;
    }
}

// PicNum or LongTermPicNum (8.2.4.1).
Reference PictureBuffer::by_number(int number, bool long_term, const SliceHeader& slice) const {
    const int structure = structure_of(slice);
    const auto look = [&](Frame* frame) -> Reference {
        const int own = long_term ? frame->long_index : frame->frame_num_wrap;
        const int marked = long_term ? frame->long_term : frame->short_term;
        if (!slice.field)
            return marked == kFrame && own == number ? Reference{frame, kFrame, false, long_term} : Reference{};
        for (const int which : {structure, kFrame - structure}) {
            if ((marked & which) != 0 && 2 * own + (which == structure ? 1 : 0) == number)
                return {frame, which, false, long_term};
        }
        return {};
    };
    for (const auto& frame : frames_) {
        if (const Reference found = look(frame.get()); found.frame != nullptr) return found;
    }
    if (second_field_) return look(current_.get());
    return {};
}

// 8.2.5.1
void PictureBuffer::mark(const Sps& sps, const SliceHeader& slice) {
    const int structure = structure_of(slice);
    Frame& now = *current_;
    if (is_idr(slice)) {
        if (slice.long_term) {
            now.long_term |= structure;
            now.long_index = 0;
        } else {
            now.short_term |= structure;
        }
        return;
    }
    wrap_numbers(sps, slice.frame_num);
    if (!slice.adaptive_marking) {
        // The second field of a reference frame takes no room of its own.
        if (!(second_field_ && now.short_term != 0)) slide(sps);
        now.short_term |= structure;
        return;
    }
    const int current_number = slice.field ? 2 * slice.frame_num + 1 : slice.frame_num;
    bool long_now = false;
    const auto free_index = [&](int index, const Frame* but) {
        for (const auto& frame : frames_) {
            if (frame.get() != but && frame->long_term != 0 && frame->long_index == index) frame->long_term = 0;
        }
        if (&now != but && now.long_term != 0 && now.long_index == index) now.long_term = 0;
    };
    for (const SliceHeader::Marking& one : slice.markings) {
        switch (one.operation) {
            case 1: {
                const Reference found =
                    by_number(current_number - static_cast<int>((one.a & 0x1FFFF) + 1), false, slice);
                if (found.frame != nullptr) found.frame->short_term &= ~found.structure;
                break;
            }
            case 2: {
                const Reference found = by_number(static_cast<int>(one.a & 0xFFFF), true, slice);
                if (found.frame != nullptr) found.frame->long_term &= ~found.structure;
                break;
            }
            case 3: {
                const Reference found =
                    by_number(current_number - static_cast<int>((one.a & 0x1FFFF) + 1), false, slice);
                if (found.frame == nullptr) break;
                const int index = static_cast<int>(one.b & 0xFF);
                free_index(index, found.frame);
                // The other field may have another index.
                if (found.frame->long_term != 0 && found.frame->long_index != index) found.frame->long_term = 0;
                found.frame->short_term &= ~found.structure;
                found.frame->long_term |= found.structure;
                found.frame->long_index = index;
                break;
            }
            case 4:
                for (const auto& frame : frames_) {
                    if (frame->long_term != 0 && frame->long_index >= static_cast<int>(one.a & 0xFF))
                        frame->long_term = 0;
                }
                break;
            case 5:
                for (const auto& frame : frames_) frame->short_term = frame->long_term = 0;
                break;
            default: {
                const int index = static_cast<int>(one.a & 0xFF);
                free_index(index, &now);
                now.long_term |= structure;
                now.long_index = index;
                long_now = true;
                break;
            }
        }
    }
    if (!long_now) now.short_term |= structure;
    // More than fit, in damaged streams.
    int count = 0;
    for (const auto& frame : frames_) count += frame->is_reference() ? 1 : 0;
    if (count >= capacity_ && !(second_field_)) slide(sps);
}

void PictureBuffer::end(const Sps& sps, const SliceHeader& slice, Out& out) {
    if (!current_) return;
    current_->decoded |= structure_of(slice);
    if (slice.nal_ref_idc != 0) {
        mark(sps, slice);
        previous_reference_frame_num_ = slice.frame_num;
        if (resets(slice)) {
            // 7.4.3: as if it were the first after an IDR picture.
            const int base = current_->decoded == kFrame ? std::min(current_->order[0], current_->order[1])
                             : slice.bottom              ? current_->order[1]
                                                         : current_->order[0];
            bump(true, out);
            last_out_.reset();
            current_->order[0] -= base;
            current_->order[1] -= base;
            current_->frame_num = current_->frame_num_wrap = 0;
            current_->flushes = true;
            previous_reference_frame_num_ = previous_frame_num_ = 0;
            frame_num_offset_ = 0;
            previous_msb_ = 0;
            previous_lsb_ = slice.bottom ? 0 : current_->order[0];
        }
    }
    if (current_->decoded == kFrame) keep_current(out);
}

// The current picture is whole, or its other field doesn't come.
void PictureBuffer::keep_current(Out& out) {
    // Shown later than what was put out, but counted lower: the IDR picture at which counts began anew is lost. All
    // that waits comes before it.
    if (last_out_ && current_->shown && *current_->shown > last_out_->shown &&
        current_->order_count() < last_out_->count) {
        bump(true, out);
        last_out_.reset();
    }
    // What is referred to is better coded than what isn't, and is kept anyway.
    if (current_->reference || latest_ == nullptr) latest_ = current_;
    frames_.push_back(std::move(current_));
    current_.reset();
    bump(false, out);
    drop_unused();
}

// C.4.5.3
void PictureBuffer::bump(bool all, Out& out) {
    while (true) {
        int waiting = 0;
        std::size_t first = frames_.size();
        for (std::size_t i = 0; i < frames_.size(); ++i) {
            if (!frames_[i]->wanted) continue;
            ++waiting;
            if (first == frames_.size() || frames_[i]->order_count() < frames_[first]->order_count()) first = i;
        }
        if (waiting == 0 || (!all && waiting <= depth_)) return;
        frames_[first]->wanted = false;
        if (frames_[first]->shown) last_out_ = {frames_[first]->order_count(), *frames_[first]->shown};
        out.push_back(frames_[first]);
    }
}

void PictureBuffer::drop_unused() {
    for (const auto& frame : frames_) {
        if (frame->is_reference() || !frame->motion || frame == current_) continue;
        // Nothing is predicted from its motion any more, nor does a picture under way.
        if (frame.use_count() == 1) frame->motion.reset();
    }
    std::erase_if(frames_,
                  [](const std::shared_ptr<Frame>& frame) { return !frame->wanted && !frame->is_reference(); });
}

void PictureBuffer::flush(Out& out) {
    if (current_) keep_current(out);
    bump(true, out);
    drop_unused();
}

}  // namespace wavecrest::codec::h264
