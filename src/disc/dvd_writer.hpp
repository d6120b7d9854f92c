// Writes an unscrambled DVD-Video folder (VIDEO_TS with IFO, BUP and VOB files) from coded pictures and LPCM sound.
// One title set per title, one program chain each, chapters as programs of one cell.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "base/bytes.hpp"
#include "base/file.hpp"
#include "base/result.hpp"
#include "base/time.hpp"

namespace wavecrest::disc {

struct DvdTitleSettings {
    bool wide = true;                   // 16:9, else 4:3
    std::string audio_language = "en";  // ISO 639-1
    std::vector<Time> chapters = {{}};  // starts, the first 0; moved to the next group of pictures
};

// A coded 720x480 picture as it is put on the disc: in coding order, which is display order (no B pictures).
struct DvdPicture {
    ByteVector data;
    int fields = 2;  // field periods of 1001/60000 s it is shown for
};

// Usage: create, then per title begin_title, add_group (many), end_title; last finish. The folder appears under its
// name only with finish(); otherwise nothing is left behind. Errors: machine (can't write), input (data the structure
// can't hold: a title above 1 GiB, pictures too large to reach the decoder in time).
class DvdWriter {
  public:
    // `folder` must not exist yet; it will hold VIDEO_TS and AUDIO_TS.
    static Result<DvdWriter> create(const base::Path& folder);
    DvdWriter(DvdWriter&&) noexcept;
    ~DvdWriter();

    Status begin_title(const DvdTitleSettings& settings);
    // A group of pictures (it becomes one VOBU: 0.4 to 1.0 s) and the sound since the last group, 48 kHz 16-bit stereo.
    Status add_group(const std::vector<DvdPicture>& pictures, const std::vector<std::int16_t>& stereo);
    Status end_title();
    Status finish();

  private:
    struct State;
    explicit DvdWriter(std::unique_ptr<State> state);
    std::unique_ptr<State> state_;
};

}  // namespace wavecrest::disc
