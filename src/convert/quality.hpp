// Decodes what an encoder makes, as a player will, and holds it against the pictures it was made from.
#pragma once

#include <cstddef>
#include <map>
#include <memory>
#include <optional>

#include "measure/picture_quality.hpp"
#include "media/flow.hpp"
#include "transcode/graph.hpp"

namespace wavecrest::convert {

// For one run of a graph. Pictures are kept until theirs is decoded: as many as the encoder looks ahead.
class CodedQuality {
  public:
    // Adds up in `into`, which others may share.
    explicit CodedQuality(measure::QualityMeasure& into) : into_(into) {}
    CodedQuality(const CodedQuality&) = delete;
    CodedQuality& operator=(const CodedQuality&) = delete;

    // Refers to this object.
    transcode::EncoderWatch watch();
    // When the graph has ended: what is still in the decoder. Fails when what was coded can't be decoded.
    Status finish();
    // Pictures that were coded but never came out of the decoder; known after finish().
    std::size_t missing() const { return originals_.size(); }

  private:
    void look(const Track& track, const Packet& packet);
    void compare();

    measure::QualityMeasure& into_;
    std::unique_ptr<media::VideoDecoder> decoder_;
    std::map<Time, Picture> originals_;
    std::vector<Picture> decoded_;
    std::optional<Error> error_;
};

}  // namespace wavecrest::convert
