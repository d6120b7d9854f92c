// The decoded picture buffer: how many frames take memory at a time.
#include <algorithm>
#include <catch2/catch.hpp>
#include <memory>
#include <vector>

#include "codec/h264/buffer.hpp"

using namespace wavecrest;
using namespace wavecrest::codec::h264;

TEST_CASE("a frame that has left the buffer but is still referred to takes the place of the next one", "[h264]") {
    bitstream::h264::Sps sps;
    sps.columns = 4;
    sps.rows = 3;
    sps.reference_frames = sps.buffered_frames = 2;
    sps.reorder_frames = 0;
    sps.order_type = 2;
    PictureBuffer buffer;
    PictureBuffer::Out out;
    buffer.activate(sps, out);
    const auto next = [&](int number) {
        bitstream::h264::SliceHeader slice;
        slice.nal_type = number == 0 ? bitstream::h264::kIdrSlice : bitstream::h264::kSlice;
        slice.nal_ref_idc = 1;
        slice.type = number == 0 ? bitstream::h264::SliceType::i : bitstream::h264::SliceType::p;
        slice.frame_num = number;
        slice.references[0] = std::min(number, 2);
        auto frame = buffer.begin(sps, slice, number, out);
        CHECK(frame->picture.planes[0] == nullptr);
        std::vector<std::shared_ptr<Frame>> held;
        std::vector<Reference> lists[2];
        buffer.make_lists(sps, slice, lists);
        buffer.hold(lists, held);
        CHECK(held.size() == static_cast<std::size_t>(slice.references[0]));
        const bool room = buffer.has_room();
        buffer.give_samples(frame);
        CHECK(frame->picture.width == 64);
        CHECK(frame->picture.height == 48);
        const std::uint8_t* const samples = frame->picture.planes[0];
        frame.reset();
        buffer.end(sps, slice, out);
        out.clear();
        return std::tuple(room, samples, held);
    };
    // Two to refer to, and the current one.
    auto [room0, samples0, held0] = next(0);
    auto [room1, samples1, held1] = next(1);
    auto [room2, samples2, held2] = next(2);
    CHECK((room0 && room1 && room2));
    CHECK((samples0 != samples1 && samples1 != samples2 && samples0 != samples2));
    // The third one's picture under way still refers to the first one, which has slid out.
    held1.clear();
    CHECK_FALSE(buffer.has_room());
    held2.clear();
    CHECK(buffer.has_room());
    // Whose memory serves again.
    auto [room3, samples3, held3] = next(3);
    CHECK(room3);
    CHECK(samples3 == samples0);
}
