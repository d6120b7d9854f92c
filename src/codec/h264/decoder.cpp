// From access units to pictures in display order: parameter sets, pictures out of slices, what is missing.
#include <fmt/format.h>

#include <cstring>
#include <map>

#include "bitstream/h264.hpp"
#include "bitstream/nal.hpp"
#include "codec/h264/buffer.hpp"
#include "codec/h264/slice.hpp"
#include "codec/video_decoder.hpp"
#include "codec/waiting_times.hpp"

namespace wavecrest::codec {
namespace {

namespace avc = bitstream::h264;
namespace nal = bitstream::nal;
using namespace h264;

// Whether a slice begins another picture than the one before (7.4.1.2.4).
bool begins_picture(const avc::SliceHeader& a, const avc::SliceHeader& b) {
    return a.frame_num != b.frame_num || a.pps_id != b.pps_id || a.field != b.field || a.bottom != b.bottom ||
           (a.nal_ref_idc == 0) != (b.nal_ref_idc == 0) || a.order_lsb != b.order_lsb ||
           a.delta_order_bottom != b.delta_order_bottom || a.delta_order[0] != b.delta_order[0] ||
           a.delta_order[1] != b.delta_order[1] || (a.nal_type == avc::kIdrSlice) != (b.nal_type == avc::kIdrSlice) ||
           a.idr_id != b.idr_id;
}

class H264Decoder : public media::VideoDecoder {
  public:
    explicit H264Decoder(const Track& track) : track_(track) {
        if (const auto sets = avc::parameter_sets(track.codec_config.view())) {
            for (const ByteSpan unit : sets->units) take_parameters(unit);
        }
    }

    Status decode(const Packet& packet, std::vector<Picture>& out) override {
        const std::int64_t number = times_.put(packet);
        for (const ByteSpan unit : nal::split_lengths(packet.data.view())) {
            const int type = unit[0] & 0x1F;
            if (type == avc::kSps || type == avc::kPps) take_parameters(unit);
            if (type == avc::kSei) take_message(unit);
            if (type >= 2 && type <= 4) return refuse("is cut into data partitions");
            if (type == avc::kSlice || type == avc::kIdrSlice) WAVECREST_TRY(take_slice(unit, number));
        }
        finish_picture();
        give(out);
        return {};
    }
    Status flush(std::vector<Picture>& out) override {
        finish_picture();
        buffer_.flush(ready_);
        give(out);
        return {};
    }

  private:
    tl::unexpected<Error> refuse(const std::string& what) const {
        return fail(ErrorKind::input, fmt::format("this H.264 {}, which can't be decoded", what), "video track",
                    "keep it as it is: convert --rewrap");
    }
    // Comes before the picture it is about.
    void take_message(ByteSpan unit) {
        const auto sps = sequences_.find(active_sps_ >= 0     ? active_sps_
                                         : sequences_.empty() ? -1
                                                              : sequences_.begin()->first);
        if (sps == sequences_.end()) return;
        if (const auto structure = avc::picture_structure(unit, sps->second)) pic_struct_ = *structure;
    }
    void take_parameters(ByteSpan unit) {
        if ((unit[0] & 0x1F) == avc::kSps) {
            if (const auto sps = avc::parse_sps(unit); sps && sps->id < 32) {
                sps_units_[sps->id].assign(unit.begin(), unit.end());
                // Not under a picture that is being decoded.
                if (active_sps_ == sps->id) finish_picture();
                sequences_[sps->id] = *sps;
                scales_.clear();
            }
            // Picture parameter sets lean on their sequence's.
            const auto kept = pps_units_;
            for (const auto& [id, bytes] : kept) take_pps(bytes);
            return;
        }
        take_pps(unit);
    }
    void take_pps(ByteSpan unit) {
        const auto ids = avc::pps_ids(unit);
        if (!ids) return;
        ByteVector bytes(unit.begin(), unit.end());
        const auto before = pps_units_.find(ids->first);
        const auto sequence = sequences_.find(ids->second);
        if (before == pps_units_.end() || before->second != bytes) finish_picture();
        pps_units_[ids->first] = std::move(bytes);
        if (sequence == sequences_.end()) return;
        if (const auto pps = avc::parse_pps(unit, sequence->second)) {
            pictures_[ids->first] = *pps;
            scales_.erase(ids->first);
        }
    }

    Status take_slice(ByteSpan unit, std::int64_t number) {
        const ByteVector rbsp = nal::unescape(unit.subspan(1));
        const auto ids = avc::slice_pps_id(rbsp);
        if (!ids) return {};
        const auto pps = pictures_.find(ids->second);
        if (pps == pictures_.end()) return {};
        const auto sps = sequences_.find(pps->second.sps_id);
        if (sps == sequences_.end()) return {};
        WAVECREST_TRY(check(sps->second, pps->second));
        const auto header = avc::parse_slice_header(unit[0], rbsp, sps->second, pps->second);
        if (!header || header->redundant > 0) return {};
        if (header->type == avc::SliceType::sp || header->type == avc::SliceType::si)
            return refuse("has switching slices");
        if (!frame_ || begins_picture(*header, first_)) {
            finish_picture();
            // What still waits is shown by the old parameters.
            buffer_.activate(sps->second, ready_);
            active_sps_ = sps->first;
            frame_ = buffer_.begin(sps->second, *header, number, ready_);
            first_ = *header;
            if (!header->field) frame_->pic_struct = pic_struct_;
            pic_struct_ = -1;
            for (int row = header->bottom ? 1 : 0; row < frame_->rows; row += header->field ? 2 : 1) {
                for (int x = 0; x < frame_->columns; ++x)
                    frame_->macroblocks[static_cast<std::size_t>(row * frame_->columns + x)].slice =
                        Macroblock::kNoSlice;
            }
        }
        if (frame_->slices.size() >= Macroblock::kNoSlice) return {};
        SliceInput input;
        input.sps = &sps->second;
        input.pps = &pps->second;
        auto& scales = scales_[ids->second];
        if (!scales) scales = std::make_shared<QuantScales>(make_scales(pps->second.scaling));
        input.scales = scales.get();
        input.header = *header;
        input.rbsp = rbsp;
        input.frame = frame_.get();
        input.number = static_cast<int>(frame_->slices.size());
        buffer_.make_lists(sps->second, *header, input.lists, frame_->damaged);
        if (header->type != avc::SliceType::i && input.lists[0].empty()) return {};
        if (header->type == avc::SliceType::b && input.lists[1].empty()) return {};
        frame_->slices.push_back(
            {header->deblocking, header->alpha_offset, header->beta_offset, header->type == avc::SliceType::b});
        slice_.decode(input);
        return {};
    }
    Status check(const avc::Sps& sps, const avc::Pps& pps) const {
        if (sps.chroma_format != 1) return refuse("is not 4:2:0");
        if (sps.bit_depth != 8) return refuse(fmt::format("has {} bits a sample", sps.bit_depth));
        if (pps.slice_groups > 1) return refuse("has slice groups");
        if (sps.transform_bypass) return refuse("may be lossless");
        return {};
    }

    void finish_picture() {
        if (!frame_) return;
        const auto sps = sequences_.find(active_sps_);
        conceal();
        const int structure = !first_.field ? kFrame : first_.bottom ? kBottom : kTop;
        deblock(*frame_, structure);
        if (sps != sequences_.end()) buffer_.end(sps->second, first_, ready_);
        frame_.reset();
    }
    // Macroblocks of which nothing came show what was there before.
    void conceal() {
        const Frame* from = buffer_.latest();
        for (int row = first_.bottom ? 1 : 0; row < frame_->rows; row += first_.field ? 2 : 1) {
            for (int x = 0; x < frame_->columns; ++x) {
                Macroblock& mb = frame_->macroblocks[static_cast<std::size_t>(row * frame_->columns + x)];
                if (mb.slice != Macroblock::kNoSlice) continue;
                frame_->damaged = true;
                mb = {};
                mb.kind = Kind::inter;
                mb.field = first_.field;
                for (int list = 0; list < 2; ++list) {
                    mb.ref[static_cast<std::size_t>(list)].fill(-1);
                    mb.ref_picture[static_cast<std::size_t>(list)].fill(-1);
                }
                for (int c = 0; c < 3; ++c) {
                    const int size = c == 0 ? 16 : 8;
                    const Picture& to = frame_->picture;
                    const std::ptrdiff_t stride = to.strides[c];
                    const std::ptrdiff_t at =
                        (first_.field ? (row >> 1) * 2 * size + (row & 1) : row * size) * stride + x * size;
                    for (int y = 0; y < size; ++y) {
                        const std::ptrdiff_t place = at + y * stride * (first_.field ? 2 : 1);
                        if (from != nullptr && from != frame_.get()) {
                            std::memcpy(to.planes[c] + place, from->picture.planes[c] + place,
                                        static_cast<std::size_t>(size));
                        } else {
                            std::memset(to.planes[c] + place, 128, static_cast<std::size_t>(size));
                        }
                    }
                }
            }
        }
    }

    void give(std::vector<Picture>& out) {
        for (const auto& frame : ready_) {
            const auto sps = sequences_.find(active_sps_);
            if (sps == sequences_.end()) continue;
            const avc::Sps& s = sps->second;
            const std::uint8_t* planes[3];
            std::ptrdiff_t strides[3];
            for (int c = 0; c < 3; ++c) {
                const int half = c == 0 ? 0 : 1;
                strides[c] = frame->picture.strides[c];
                planes[c] = frame->picture.planes[c] + (s.crop_top >> half) * strides[c] + (s.crop_left >> half);
            }
            const int width = std::min(s.width, frame->columns * 16), height = std::min(s.height, frame->rows * 16);
            Picture picture = copy_planes(width, height, planes, strides, track_);
            times_.give(frame->number, picture);
            const bool of_fields = frame->field_pair ||
                                   (frame->adaptive && std::any_of(frame->macroblocks.begin(), frame->macroblocks.end(),
                                                                   [](const Macroblock& mb) { return mb.field; }));
            // 3 to 6: shown as fields, 5 and 6 with the first one again; film on video has frames of both kinds.
            picture.progressive = frame->pic_struct < 0                              ? !of_fields
                                  : frame->pic_struct == 3 || frame->pic_struct == 4 ? false
                                                                                     : !frame->field_pair;
            picture.top_field_first =
                frame->pic_struct > 2 ? frame->pic_struct % 2 == 1 : frame->order[0] <= frame->order[1];
            if (frame->pic_struct == 5 || frame->pic_struct == 6) picture.fields = 3;
            out.push_back(std::move(picture));
        }
        ready_.clear();
    }

    Track track_;
    std::map<int, avc::Sps> sequences_;
    std::map<int, avc::Pps> pictures_;
    std::map<int, ByteVector> sps_units_, pps_units_;
    std::map<int, std::shared_ptr<QuantScales>> scales_;
    int active_sps_ = -1, pic_struct_ = -1;
    PictureBuffer buffer_;
    SliceDecoder slice_;
    std::shared_ptr<Frame> frame_;  // the picture being decoded
    avc::SliceHeader first_;        // its first slice
    PictureBuffer::Out ready_;
    WaitingTimes times_;
};

}  // namespace

std::string why_no_h264(const Track& track) {
    const auto sps = avc::parse_config(track.codec_config.view());
    if (!sps) return "";  // comes with the pictures
    if (sps->chroma_format != 1)
        return fmt::format("h264 pictures of {} can be kept but not decoded", sps->chroma_format == 0   ? "luma alone"
                                                                              : sps->chroma_format == 2 ? "4:2:2"
                                                                                                        : "4:4:4");
    if (sps->bit_depth != 8) return fmt::format("h264 pictures of {} bits can be kept but not decoded", sps->bit_depth);
    if (sps->transform_bypass) return "lossless h264 pictures can be kept but not decoded";
    return "";
}

std::unique_ptr<media::VideoDecoder> make_h264_decoder(const Track& track) {
    return std::make_unique<H264Decoder>(track);
}

}  // namespace wavecrest::codec
