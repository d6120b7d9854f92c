#include "convert/text_sink.hpp"

#include "container/subtitle_text.hpp"

namespace wavecrest::convert {

TextSink::TextSink(std::unique_ptr<base::ByteSink> file, const Track& track) : file_(std::move(file)) {
    if (track.kind == TrackKind::video) captions_.emplace(track.codec);
}

Status TextSink::write(const Packet& packet) {
    if (captions_) {
        captions_->push(packet);
    } else {
        cues_.push_back(packet);
    }
    return {};
}

Status TextSink::finish() {
    if (captions_) {
        for (const bitstream::CaptionCue& cue : captions_->finish()) {
            Packet packet;
            packet.pts = packet.dts = cue.from;
            packet.duration = cue.to - cue.from;
            packet.data = Bytes(ByteVector(cue.text.begin(), cue.text.end()));
            cues_.push_back(std::move(packet));
        }
        if (cues_.empty())
            return fail(ErrorKind::input, "the closed captions are empty", "", "there is nothing to write");
    }
    const std::string text = container::write_web_vtt(cues_);
    WAVECREST_TRY(file_->write(base::as_bytes(text)));
    return file_->commit();
}

}  // namespace wavecrest::convert
