// From access units to pictures in display order: parameter sets, pictures out of slices, what is missing.
#include <fmt/format.h>

#include <algorithm>
#include <cstring>
#include <map>
#include <optional>
#include <thread>
#include <utility>

#include "bitstream/frame_packing.hpp"
#include "bitstream/h264.hpp"
#include "bitstream/nal.hpp"
#include "codec/h264/buffer.hpp"
#include "codec/h264/decoder.hpp"
#include "codec/h264/pipeline.hpp"
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
    H264Decoder(const Track& track, const H264DecoderSettings& settings) : track_(track), settings_(settings) {
        if (const auto sets = avc::parameter_sets(track.codec_config.view())) {
            for (const ByteSpan unit : sets->units) take_parameters(unit);
        }
    }

    Status decode(const Packet& packet, std::vector<Picture>& out) override {
        const std::int64_t number = times_.put(packet);
        pts_ = packet.pts;
        for (const ByteSpan unit : nal::split_lengths(packet.data.view())) {
            const int type = unit[0] & 0x1F;
            if (type == avc::kSps || type == avc::kPps) take_parameters(unit);
            if (type == avc::kSei) take_messages(unit);
            if (type >= 2 && type <= 4) return refuse("uses data partitioning");
            if (avc::layer_of(unit) == media::Layers::scalable) return refuse("is scalable (SVC)");
            if (type == avc::kSlice || type == avc::kIdrSlice) WAVECREST_TRY(take_slice(unit, packet.data, number));
        }
        finish_picture();
        give(out);
        return {};
    }
    Status flush(std::vector<Picture>& out) override {
        finish_picture();
        if (const auto half = buffer_.half()) fill_field(*half);
        buffer_.flush(ready_);
        give(out);
        return {};
    }

    std::vector<Problem> problems() const override { return problems_; }

  private:
    tl::unexpected<Error> refuse(const std::string& what) const {
        return fail(ErrorKind::input, fmt::format("this H.264 {}, which can't be decoded", what), "video track",
                    "remux it: convert --remux");
    }
    // Comes before the picture it is about.
    void take_messages(ByteSpan unit) {
        const auto sps = sequences_.find(active_sps_ >= 0     ? active_sps_
                                         : sequences_.empty() ? -1
                                                              : sequences_.begin()->first);
        for (nal::Messages messages(Codec::h264, unit); const auto message = messages.next();) {
            if (message->type == avc::kPictureTimingMessage && sps != sequences_.end()) {
                if (const auto structure = avc::picture_structure(message->payload, sps->second))
                    pic_struct_ = *structure;
            } else if (message->type == bitstream::kFramePackingMessage) {
                if (auto packing = bitstream::parse_frame_packing(Codec::h264, message->payload)) packing_ = packing;
            }
        }
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

    Status take_slice(ByteSpan unit, const Bytes& packet, std::int64_t number) {
        const ByteVector head = nal::unescape(unit.subspan(1), kLongestHeader);
        const auto ids = avc::slice_pps_id(head);
        if (!ids) return {};
        const auto pps = pictures_.find(ids->second);
        if (pps == pictures_.end()) return {};
        const auto sps = sequences_.find(pps->second.sps_id);
        if (sps == sequences_.end()) return {};
        WAVECREST_TRY(check(sps->second, pps->second));
        const auto header = avc::parse_slice_header(unit[0], head, sps->second, pps->second);
        if (!header || header->redundant > 0) return {};
        if (header->type == avc::SliceType::sp || header->type == avc::SliceType::si)
            return refuse("has switching slices");
        if (!frame_ || begins_picture(*header, first_)) {
            finish_picture();
            // What still waits is shown by the old parameters.
            buffer_.activate(sps->second, ready_);
            active_sps_ = sps->first;
            const auto half = buffer_.half();
            frame_ = buffer_.begin(sps->second, *header, number, ready_);
            if (half && half != frame_) fill_field(*half);
            first_ = *header;
            const avc::Sps& s = sps->second;
            frame_->window = {s.crop_left, s.crop_top, std::min(s.width, s.columns * 16 - s.crop_left),
                              std::min(s.height, s.rows * 16 - s.crop_top)};
            // What is shown before the first keyframe but comes after it refers to pictures before both.
            if (!first_shown_) first_shown_ = pts_;
            frame_->dangling = pts_ < *first_shown_;
            if (!frame_->shown) frame_->shown = pts_;
            if (!header->field) frame_->pic_struct = pic_struct_;
            pic_struct_ = -1;
            if (packing_) frame_->packing = std::exchange(packing_, std::nullopt);
            begin_job(sps->second);
        }
        // Only Baseline may have them so; one that comes twice is no such slice.
        const auto& others = job_->slices;
        if (sps->second.profile_idc == 66 && (sps->second.constraint_flags & 0x40) == 0 && !others.empty() &&
            header->first_mb < others.back().slice.header.first_mb &&
            std::none_of(others.begin(), others.end(),
                         [&](const Coded& other) { return other.slice.header.first_mb == header->first_mb; }))
            return refuse("has arbitrary slice order");
        std::vector<Reference> lists[2];
        buffer_.make_lists(sps->second, *header, lists);
        if (header->type != avc::SliceType::i && lists[0].empty()) return {};
        if (header->type == avc::SliceType::b && lists[1].empty()) return {};
        auto& scales = scales_[ids->second];
        if (!scales) scales = std::make_shared<QuantScales>(make_scales(pps->second.scaling));
        Coded& coded = job_->slices.emplace_back();
        coded.sps = std::make_shared<avc::Sps>(sps->second);
        coded.pps = std::make_shared<avc::Pps>(pps->second);
        coded.scales = scales;
        coded.bytes = unit.subspan(1);
        if (!pps->second.cabac && nal::find_emulation_prevention(coded.bytes) < coded.bytes.size()) {
            coded.unescaped = nal::unescape(coded.bytes);
            coded.bytes = coded.unescaped;
        } else {
            coded.packet = packet;
        }
        coded.slice.header = *header;
        coded.slice.constrained_intra = pps->second.constrained_intra;
        coded.slice.weighted = header->type == avc::SliceType::p   ? pps->second.weighted_p ? 1 : 0
                               : header->type == avc::SliceType::b ? pps->second.weighted_b
                                                                   : 0;
        buffer_.hold(lists, job_->held);
        for (int list = 0; list < 2; ++list) coded.slice.lists[list] = std::move(lists[list]);
        prepare_samples(coded.slice, *frame_, job_->work.adaptive);
        return {};
    }
    Status check(const avc::Sps& sps, const avc::Pps& pps) const {
        if (sps.chroma_format != 1) return refuse("is not 4:2:0");
        if (sps.columns * sps.rows > kMostMacroblocks) return refuse("is larger than any level allows");
        if (sps.bit_depth != 8) return refuse(fmt::format("has {} bits a sample", sps.bit_depth));
        if (pps.slice_groups > 1) return refuse("has slice groups");
        if (sps.transform_bypass) return refuse("may be lossless");
        return {};
    }

    void begin_job(const avc::Sps& sps) {
        if (!pipeline_) {
            // Small pictures are done before another thread has woken up.
            const bool small = sps.columns * sps.rows < 1000;
            const int threads = settings_.threads > 0
                                    ? settings_.threads
                                    : std::clamp(static_cast<int>(std::thread::hardware_concurrency()), 1, 3);
            pipeline_ =
                std::make_unique<Pipeline>(*settings_.kernels, small && settings_.threads == 0 ? 0 : threads - 1);
        }
        job_ = pipeline_->make();
        job_->frame = frame_;
        job_->first = first_;
        job_->latest = buffer_.latest();
        job_->give_samples = [this] { buffer_.give_samples(frame_); };
        Work& work = job_->work;
        work.frame = frame_.get();
        work.structure = !first_.field ? kFrame : first_.bottom ? kBottom : kTop;
        work.adaptive = sps.macroblock_adaptive && !first_.field;
        work.columns = sps.columns;
        work.rows = work.adaptive || first_.field ? sps.rows / 2 : sps.rows;
        work.kept = pipeline_->alone() ? Work::kRowsAlone : Work::kRows;
        work.macroblocks.resize(work.places());
    }

    void finish_picture() {
        if (!frame_) return;
        // What comes out at once is waited for at once; else a picture may still be under way when the next one comes.
        const bool resets = std::any_of(first_.markings.begin(), first_.markings.end(),
                                        [](const auto& marking) { return marking.operation == 5; });
        // On memory that a picture under way still needs, this one waits.
        if (frame_->picture.planes[0] == nullptr && buffer_.has_room()) buffer_.give_samples(frame_);
        pipeline_->submit(job_, pipeline_->alone() || resets ? 0 : 1);
        job_.reset();
        const auto sps = sequences_.find(active_sps_);
        if (sps != sequences_.end()) buffer_.end(sps->second, first_, ready_);
        frame_.reset();
    }

    // Of a frame whose other field never came: its rows are shown twice.
    void fill_field(const Frame& frame) {
        pipeline_->finish(&frame);
        const Picture& picture = frame.picture;
        const int there = frame.decoded == kBottom ? 1 : 0;
        for (int c = 0; c < 3; ++c) {
            const int rows = c == 0 ? picture.height : picture.height / 2;
            for (int y = 0; y < rows; y += 2)
                std::memcpy(picture.planes[c] + (y + 1 - there) * picture.strides[c],
                            picture.planes[c] + (y + there) * picture.strides[c],
                            static_cast<std::size_t>(picture.strides[c]));
        }
    }

    void give(std::vector<Picture>& out) {
        for (const auto& frame : ready_) {
            pipeline_->finish(frame.get());
            const auto packing = frame_packing_of(*frame);
            if (frame->dangling) continue;
            const Frame::Window& window = frame->window;
            Picture picture = frame->picture;
            picture.width = window.width;
            picture.height = window.height;
            picture.pixel_aspect = track_.pixel_aspect;
            picture.colour = track_.colour;
            picture.frame_packing = packing;
            for (int c = 0; c < 3; ++c) {
                const int half = c == 0 ? 0 : 1;
                picture.planes[c] += (window.top >> half) * picture.strides[c] + (window.left >> half);
            }
            if (window.left != 0) {
                // Filters want rows that begin at even places.
                const std::ptrdiff_t strides[3] = {picture.strides[0], picture.strides[1], picture.strides[2]};
                picture = copy_planes(picture.width, picture.height, picture.bit_depth, Chroma::half_both,
                                      picture.planes, strides, track_);
                picture.frame_packing = packing;
            }
            times_.give(frame->number, picture);
            note_damage(*frame, picture);
            const bool of_fields = frame->field_pair || frame->field_macroblocks;
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

    // What messages say counts in the order in which pictures are shown (D.2.26).
    std::optional<FramePacking> frame_packing_of(const Frame& frame) {
        if (frame.instantaneous && shown_packing_) shown_packing_ = bitstream::FramePackingMessage{};
        if (frame.packing) shown_packing_ = frame.packing;
        // Decoding began behind the message.
        if (!shown_packing_) return track_.frame_packing;
        const auto packing = shown_packing_->packing;
        if (!shown_packing_->stays) shown_packing_->packing.reset();
        return packing;
    }

    void note_damage(const Frame& frame, const Picture& picture) {
        if (frame.lost == 0 && !frame.misses_references) return;
        const int all = frame.columns * frame.rows;
        const std::string what = frame.lost == all ? "frames are lost: the previous one is repeated"
                                 : frame.lost > 0  ? "parts of frames are lost: filled in from the previous one"
                                                   : "frames refer to missing ones";
        const Time end = picture.pts + picture.duration;
        if (!problems_.empty() && problems_.back().what == what && picture.pts <= problems_.back().to + kTogether) {
            problems_.back().to = std::max(problems_.back().to, end);
        } else if (problems_.size() < kMostProblems) {
            problems_.push_back({what, picture.pts, end});
        }
    }

    // Of a slice, in bytes: 66 reordering commands, 66 of marking, and weights for 64 fields take less.
    static constexpr std::size_t kLongestHeader = 4096;
    static constexpr int kMostMacroblocks = 139'264;            // MaxFS of level 6.2 (table A-1)
    static constexpr Time kTogether = std::chrono::seconds(1);  // what is no farther apart is one interval
    static constexpr std::size_t kMostProblems = 1000;

    Track track_;
    std::vector<Problem> problems_;
    std::map<int, avc::Sps> sequences_;
    std::map<int, avc::Pps> pictures_;
    std::map<int, ByteVector> sps_units_, pps_units_;
    std::map<int, std::shared_ptr<QuantScales>> scales_;
    int active_sps_ = -1, pic_struct_ = -1;
    std::optional<bitstream::FramePackingMessage> packing_;        // of the picture to come
    std::optional<bitstream::FramePackingMessage> shown_packing_;  // of the latest that was shown; nothing: none yet
    PictureBuffer buffer_;
    H264DecoderSettings settings_;
    std::unique_ptr<Pipeline> pipeline_;
    std::shared_ptr<Job> job_;      // the picture that is being filled
    std::shared_ptr<Frame> frame_;  // the picture being decoded
    avc::SliceHeader first_;        // its first slice
    PictureBuffer::Out ready_;
    WaitingTimes times_;
    Time pts_{};                       // of the packet
    std::optional<Time> first_shown_;  // of the first picture that was decoded
};

}  // namespace

std::string why_no_h264(const Track& track) {
    if (track.layers == media::Layers::scalable) return "scalable H.264 (SVC) can be remuxed but not decoded";
    const auto sets = avc::parameter_sets(track.codec_config.view());
    const auto sps = avc::parse_config(track.codec_config.view());
    if (!sps) return "";  // comes with the pictures
    if (sps->chroma_format != 1)
        return fmt::format("H.264 with {} can be remuxed but not decoded", sps->chroma_format == 0 ? "luma only (4:0:0)"
                                                                           : sps->chroma_format == 2 ? "4:2:2"
                                                                                                     : "4:4:4");
    if (sps->bit_depth != 8) return fmt::format("H.264 with {} bits can be remuxed but not decoded", sps->bit_depth);
    if (sps->transform_bypass) return "lossless H.264 can be remuxed but not decoded";
    for (const ByteSpan unit : sets ? sets->units : std::vector<ByteSpan>{}) {
        const auto pps = (unit[0] & 0x1F) == avc::kPps ? avc::parse_pps(unit, *sps) : std::nullopt;
        if (pps && pps->slice_groups > 1) return "H.264 with slice groups can be remuxed but not decoded";
    }
    return "";
}

std::unique_ptr<media::VideoDecoder> make_h264_decoder(const Track& track) {
    return std::make_unique<H264Decoder>(track, H264DecoderSettings{0, &best_kernels()});
}

std::unique_ptr<media::VideoDecoder> make_h264_decoder(const Track& track, const H264DecoderSettings& settings) {
    return std::make_unique<H264Decoder>(track, settings);
}

}  // namespace wavecrest::codec
