// A file of subtitles beside an input, read as one of its tracks.
#pragma once

#include <memory>
#include <string>
#include <vector>

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

}  // namespace wavecrest::source
