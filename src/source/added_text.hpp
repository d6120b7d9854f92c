// Text that is no track of an input's own, read as one: a file of subtitles beside it, closed captions inside its
// video.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "base/cancel.hpp"
#include "base/progress.hpp"
#include "source/input.hpp"

namespace wavecrest::source {

struct SubtitleFile {
    std::string language;  // from the name, "lanterns.en.srt"; empty where it tells none
    std::vector<Packet> cues;
    std::vector<Problem> problems;  // lines without valid times
};

// SRT or WebVTT. Kind input for other files.
Result<SubtitleFile> read_subtitle_file(const base::Path& file);

// The input with the file's cues as one more track of text in its main titles (all that `picks("main")` names).
Result<std::unique_ptr<Input>> with_subtitle_file(std::unique_ptr<Input> input, const base::Path& file);

// The input with the closed captions of each main title's video (CEA-608 or -708) as a track of text. Reads those
// titles to their ends. Fails (kind input) where none has any.
Result<std::unique_ptr<Input>> with_captions(std::unique_ptr<Input> input, const Progress& progress,
                                             const Cancel& cancel);

}  // namespace wavecrest::source
