// The decoded picture buffer: which pictures are kept to refer to (8.2.4, 8.2.5), their order (8.2.1), and when they
// come out (annex C.4).
#pragma once

#include <memory>
#include <vector>

#include "bitstream/h264.hpp"
#include "codec/h264/picture.hpp"

namespace wavecrest::codec::h264 {

class PictureBuffer {
  public:
    using Out = std::vector<std::shared_ptr<Frame>>;

    // A new sequence of this kind begins; pictures of another size come out and go.
    void activate(const bitstream::h264::Sps& sps, Out& out);

    // The frame for the next picture, or for its second field; frame_num, order counts and gaps are seen to. A new one
    // has no samples yet.
    std::shared_ptr<Frame> begin(const bitstream::h264::Sps& sps, const bitstream::h264::SliceHeader& slice,
                                 std::int64_t number, Out& out);
    // RefPicList0 and 1 of a slice of the current picture (8.2.4). Places that nothing belongs to hold some picture, so
    // that damaged streams can be decoded. Empty: there is nothing to refer to.
    void make_lists(const bitstream::h264::Sps& sps, const bitstream::h264::SliceHeader& slice,
                    std::vector<Reference> (&lists)[2]);
    // The current picture is decoded: it is marked as its (first) slice says (8.2.5), and what is due comes out.
    void end(const bitstream::h264::Sps& sps, const bitstream::h264::SliceHeader& slice, Out& out);
    void flush(Out& out);

    // A frame of which one field has been decoded; null: there is none.
    std::shared_ptr<Frame> half() const { return current_; }
    // To copy from where something is missing; null: nothing has been decoded yet.
    const std::shared_ptr<Frame>& latest() const { return latest_; }
    // Whether the buffer and the current picture are all that takes memory when this one gets it, too. Else pictures
    // that are still being decoded refer to frames that have left the buffer.
    bool has_room() const;
    // Memory for them; what a frame that is gone had serves again.
    void give_samples(const std::shared_ptr<Frame>& frame);
    // Adds the frames that these lists name to `held`, but for the current one, and each once.
    void hold(const std::vector<Reference> (&lists)[2], std::vector<std::shared_ptr<Frame>>& held) const;

  private:
    std::shared_ptr<Frame> allocate(const bitstream::h264::Sps& sps, bool reference);
    std::uint8_t free_slot() const;
    void keep_current(Out& out);
    void set_order(const bitstream::h264::Sps& sps, const bitstream::h264::SliceHeader& slice, Frame& frame);
    void fill_gap(const bitstream::h264::Sps& sps, const bitstream::h264::SliceHeader& slice, Out& out);
    void wrap_numbers(const bitstream::h264::Sps& sps, int frame_num);
    void slide(const bitstream::h264::Sps& sps);
    void mark(const bitstream::h264::Sps& sps, const bitstream::h264::SliceHeader& slice);
    void bump(bool all, Out& out);
    void drop_unused();
    void make_initial_lists(const bitstream::h264::Sps& sps, const bitstream::h264::SliceHeader& slice,
                            std::vector<Reference> (&lists)[2]) const;
    void modify_list(const bitstream::h264::Sps& sps, const bitstream::h264::SliceHeader& slice,
                     const std::vector<bitstream::h264::SliceHeader::Modification>& modifications,
                     std::vector<Reference>& list) const;
    void fill_list(int structure, std::vector<Reference>& list) const;
    Reference by_number(int number, bool long_term, const bitstream::h264::SliceHeader& slice) const;

    std::vector<std::shared_ptr<Frame>> frames_;  // without the current one
    std::vector<Picture> samples_;                // of all frames, to be used again when nobody holds them any more
    std::vector<std::weak_ptr<Frame>> given_;     // frames with samples of their own, here or under way
    std::shared_ptr<Frame> current_, latest_;
    struct PutOut {
        int count = 0;  // order
        Time shown{};
    };
    std::optional<PutOut> last_out_;  // since counts began anew; of those whose time is known
    bool second_field_ = false;
    std::uint32_t last_id_ = 0;
    int depth_ = 0;     // frames that may wait for their turn
    int capacity_ = 1;  // frames kept to refer to
    int room_ = 1;      // frames in all, with the current one
    int columns_ = 0, rows_ = 0;
    // 8.2.1
    int previous_frame_num_ = 0, previous_reference_frame_num_ = 0, frame_num_offset_ = 0;
    int previous_msb_ = 0, previous_lsb_ = 0;
    bool previous_reset_ = false, previous_reset_bottom_ = false;  // memory management operation 5
    int previous_reset_order_ = 0;
};

}  // namespace wavecrest::codec::h264
