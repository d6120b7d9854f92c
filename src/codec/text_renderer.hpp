// Subtitles of text drawn as images, for those who burn them in: by libass, which finds the fonts, shapes every script
// and writes from right to left where a language does.
#pragma once

#include <memory>

#include "base/result.hpp"
#include "media/flow.hpp"

namespace wavecrest::codec {

// White with a black outline at the foot of a picture of this size; several cues at a time stand above each other.
// Overlays are those of media::SubtitleDecoder. Fails (kind machine) where there is no font at all.
Result<std::unique_ptr<media::SubtitleDecoder>> make_text_renderer(int width, int height, Ratio pixel_aspect);

}  // namespace wavecrest::codec
