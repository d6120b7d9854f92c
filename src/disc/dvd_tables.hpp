// The navigation tables of DVD-Video (IFO files), parsed from bytes: nothing here reads files or trusts a number.
#pragma once

#include <array>
#include <cstdint>
#include <string>
#include <vector>

#include "base/bytes.hpp"
#include "base/result.hpp"
#include "base/time.hpp"

namespace wavecrest::disc::dvd {

// VIDEO_TS.IFO: which titles there are.
struct ManagerTables {
    struct Title {
        int angles = 1;
        int chapters = 0;
        int title_set = 0;     // 1 to 99
        int title_in_set = 0;  // 1 to 99
    };
    std::vector<Title> titles;
};

// VTS_nn_0.IFO: the titles of one set.
struct TitleSetTables {
    struct Chapter {
        int chain = 0;    // number of the program chain, from 1
        int program = 0;  // in it, from 1
    };
    struct Cell {
        int block_mode = 0;  // 0 in no block, 1 first, 2 inside, 3 last of a block
        bool angle_block = false;
        bool interleaved = false;
        bool new_clock = false;
        Time duration{};
        std::uint32_t first_sector = 0;  // in the set's title VOBs taken as one run
        std::uint32_t last_vobu = 0;     // start of the last VOBU
        std::uint32_t last_sector = 0;
        int vob = 0;  // identifiers of the data, as the streams themselves carry them
        int cell = 0;
    };
    struct Chain {
        Time duration{};
        int next = 0;               // chain that follows; 0: none
        std::vector<int> programs;  // first cell of each, from 1
        std::vector<Cell> cells;
        std::array<std::uint16_t, 8> audio{};        // control words; bit 15: the stream is there
        std::array<std::uint32_t, 32> subpicture{};  // bit 31
        ByteVector palette;                          // 16 of 4 bytes: 0 Y Cr Cb
    };
    struct Audio {
        int coding = 0;  // AudioMode
        int quantization = 0;
        int sample_rate_code = 0;
        int channels = 2;
        std::string language;  // ISO 639-1, empty when not given
        int purpose_code = 0;
    };
    struct Subpicture {
        std::string language;
        int purpose_code = 0;
    };
    struct TimeMap {
        int unit_s = 0;                      // seconds from one entry to the next
        std::vector<std::uint32_t> sectors;  // of the VOBU shown then; the first entry is for unit_s
    };
    std::uint16_t video = 0;  // attribute word
    std::vector<Audio> audio;
    std::vector<Subpicture> subpictures;
    std::vector<std::vector<Chapter>> titles;  // chapters of each, from title 1
    std::vector<Chain> chains;                 // from chain 1; one that can't be read has no cells
    std::vector<TimeMap> time_maps;            // by chain
    std::vector<std::uint32_t> vobus;          // sectors of all navigation packs, ascending
    std::vector<std::string> notes;            // tables that could not be used
};

// `name` is used in errors: the file. Fail (kind input, with the byte offset) when the identifier is not there, or a
// table that the titles need points outside the bytes. What can be done without is left empty and noted.
Result<ManagerTables> parse_manager(ByteSpan bytes, const std::string& name);
Result<TitleSetTables> parse_title_set(ByteSpan bytes, const std::string& name);

}  // namespace wavecrest::disc::dvd
