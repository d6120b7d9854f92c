// What a made-up disc holds, in a few lines of TOML (docs/manual.md, "Sample discs").
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "base/result.hpp"
#include "media/types.hpp"

namespace wavecrest::standin {

struct DiscDescription {
    enum class Kind { dvd, blu_ray };
    struct Audio {
        Codec codec = Codec::lpcm;  // lpcm or ac3
        int channels = 2;           // 1, 2 or 6
        int bits = 16;              // LPCM
        std::string language = "en";
        Purpose purpose = Purpose::main;
        std::int64_t bitrate_bps = 0;  // AC-3; 0: 192 kbit/s, 448 for more than two channels
    };
    struct Subtitles {
        std::string language = "en";
        enum class Forced { none, some, all } forced = Forced::none;  // some: every third
        Time every = base::from_seconds(4);                           // one begins that often, and stays for half of it
    };
    struct Flaw {
        // encrypted: Blu-ray's aligned units; on a DVD the same as scrambled
        enum class Kind { zeros, rubbish, scrambled, encrypted } kind = Kind::zeros;
        Time from{}, to{};  // in the part
    };
    // Material: pictures of one test card with its audio and subtitles.
    struct Part {
        enum class Pictures { film, film_unmarked, film_shifted, film_phases, whole, interlaced };
        std::string name;
        int set = 1;  // title set (DVD)
        Time length = base::from_seconds(10);
        Pictures pictures = Pictures::film;
        int chapters = 1;
        bool clock_breaks = false;  // every chapter has a clock of its own
        int angles = 1;
        std::string text;  // on the card; empty: the disc's title
        std::vector<Flaw> flaws;
    };
    struct Title {
        std::vector<std::string> plays;  // parts, in order
    };
    // Files of the finished disc that are damaged.
    struct FileFlaw {
        std::string file;                                                // "VIDEO_TS/VTS_01_0.IFO"
        enum class Kind { missing, cut, rubbish } kind = Kind::missing;  // cut: its second half is gone
    };
    std::string title = "SAMPLE DISC";
    Kind kind = Kind::dvd;
    enum class Definition { standard, high, ultra_high } definition = Definition::high;  // of a Blu-ray disc
    Codec codec = Codec::mpeg2;                                                          // or h264, h265 (Blu-ray)
    enum class Range { sdr, hdr10, hlg } range = Range::sdr;  // other than SDR: H.265, 10 bits
    bool pal = false;
    bool wide = true;
    bool captions = false;
    std::uint32_t seed = 1;
    std::int64_t video_bps = 4'500'000;
    std::uint64_t file_limit = 1ull << 30;  // VOB files are cut there
    std::vector<Audio> audio = {{}};
    std::vector<Subtitles> subtitles;
    std::vector<Part> parts;
    std::vector<Title> titles;  // numbers from 1 in each set's order; empty: every part is one
    std::vector<FileFlaw> flaws;

    // The coded picture.
    bool large() const { return kind == Kind::blu_ray && definition != Definition::standard; }
    bool ultra() const { return kind == Kind::blu_ray && definition == Definition::ultra_high; }
    int width() const { return ultra() ? 3840 : large() ? 1920 : 720; }
    int height() const { return ultra() ? 2160 : large() ? 1080 : pal ? 576 : 480; }
};

// Kind usage, with line and the nearest known key.
Result<DiscDescription> parse_disc_description(std::string_view text, const std::string& file);

}  // namespace wavecrest::standin
