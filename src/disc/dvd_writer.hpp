// Writes an unscrambled DVD-Video folder (VIDEO_TS with IFO, BUP and VOB files) from coded pictures, audio and
// subtitles. Title sets hold VOBs (each with a clock of its own) made of cells; titles are program chains that name
// cells in any order.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "base/bytes.hpp"
#include "base/file.hpp"
#include "base/result.hpp"
#include "media/types.hpp"

namespace wavecrest::disc {

struct DvdAudio {
    Codec codec = Codec::lpcm;  // lpcm at 48 kHz, or ac3
    int channels = 2;
    int bits = 16;                // LPCM: 16, 20 or 24
    std::string language = "en";  // ISO 639-1
    Purpose purpose = Purpose::main;
};

struct DvdSubtitles {
    std::string language = "en";
    bool forced = false;  // a track of its own for what is needed to follow the story
    Purpose purpose = Purpose::main;
};

struct DvdSetSettings {
    bool pal = false;
    bool wide = true;  // 16:9, else 4:3
    bool captions = false;
    std::vector<DvdAudio> audio;          // at most 8
    std::vector<DvdSubtitles> subtitles;  // at most 32
    ByteVector palette;                   // 16 of 4 bytes: 0 Y Cr Cb; empty: black
};

// A coded picture as it is put on the disc: in coding order, which is display order (no B pictures).
struct DvdPicture {
    ByteVector data;
    int fields = 2;  // field periods it is shown for
};

// A group of pictures (it becomes one VOBU: 0.4 to 1.0 s) and what goes with it.
struct DvdGroup {
    std::vector<DvdPicture> pictures;
    // For each audio track: LPCM samples as DVD-Video packs them (whole groups), or AC-3 frames.
    std::vector<std::vector<ByteVector>> audio;
    struct Subtitle {
        int track = 0;
        Time at{};  // since the VOB's start
        ByteVector unit;
    };
    std::vector<Subtitle> subtitles;
    // For trying readers on: packs marked as scrambled, or sectors that came out as zeros or rubbish (navigation packs
    // are spared with `scrambled`).
    bool scrambled = false;
    enum class Damage { none, zeros, rubbish } damage = Damage::none;
};

struct DvdCellName {
    int vob = 1, cell = 1;  // as begin_vob and begin_cell count them in the set
};
// A title: what is played in order; several names in one place are angles, written by begin_angles.
struct DvdTitleSettings {
    std::vector<std::vector<DvdCellName>> cells;
    std::vector<std::size_t> chapters = {0};  // the places that begin them; the first 0
};

// Usage: create; begin_set; begin_vob, begin_cell, add_group ..., end_vob; add_title ...; end_set; finish. The folder
// appears under its name only with finish(); otherwise nothing is left behind. Errors: machine (can't write), input
// (data the structure can't hold: a set above nine VOB files, pictures too large to reach the decoder in time).
class DvdWriter {
  public:
    // `folder` must not exist yet; it will hold VIDEO_TS and AUDIO_TS. VOB files are cut at `file_limit` bytes, at most
    // 1 GiB.
    static Result<DvdWriter> create(const base::Path& folder, std::uint64_t file_limit = 1ull << 30);
    DvdWriter(DvdWriter&&) noexcept;
    ~DvdWriter();

    Status begin_set(const DvdSetSettings& settings);
    // The number of the VOB in the set, from 1.
    int begin_vob();
    // The number of the cell in the VOB, from 1. Cells begin at groups of pictures.
    int begin_cell();
    Status add_group(const DvdGroup& group);
    Status end_vob();
    // VOBs between these two are angles of one interval: they are written interleaved, VOBU by VOBU. Each holds one
    // cell.
    void begin_angles();
    Status end_angles();
    // The number of the title on the disc, from 1.
    int add_title(const DvdTitleSettings& settings);
    Status end_set();
    Status finish();

  private:
    struct State;
    explicit DvdWriter(std::unique_ptr<State> state);
    std::unique_ptr<State> state_;
};

}  // namespace wavecrest::disc
