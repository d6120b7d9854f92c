#include "convert/quality.hpp"

#include "codec/video_decoder.hpp"

namespace wavecrest::convert {

transcode::EncoderWatch CodedQuality::watch() {
    return {[this](const Picture& picture) {
                if (!error_) originals_.insert_or_assign(picture.pts, picture);
            },
            [this](const Track& track, const Packet& packet) { look(track, packet); }};
}

void CodedQuality::look(const Track& track, const Packet& packet) {
    if (error_) return;
    if (!decoder_) {
        auto made = codec::make_video_decoder(track);
        if (!made) {
            error_ = std::move(made).error();
            originals_.clear();
            return;
        }
        decoder_ = std::move(*made);
    }
    if (const auto status = decoder_->decode(packet, decoded_); !status) error_ = status.error();
    compare();
}

void CodedQuality::compare() {
    for (const Picture& picture : decoded_) {
        const auto original = originals_.find(picture.pts);
        if (original == originals_.end()) continue;
        if (const auto similarity = measure::compare(original->second, picture)) {
            into_.add(picture.pts, *similarity);
            originals_.erase(original);
        }
    }
    decoded_.clear();
}

Status CodedQuality::finish() {
    if (!error_ && decoder_) {
        if (const auto status = decoder_->flush(decoded_); !status) error_ = status.error();
        compare();
    }
    if (error_) return fail(*error_);
    return {};
}

}  // namespace wavecrest::convert
