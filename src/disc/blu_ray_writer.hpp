// Writes a Blu-ray folder (BDMV with playlists, clip information and clips) from coded pictures, audio and subtitles:
// what readers of discs look at. Menus are not made, so disc players that insist on them will not take it.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "base/file.hpp"
#include "base/result.hpp"
#include "disc/blu_ray_tables.hpp"
#include "media/types.hpp"

namespace wavecrest::disc {

struct BluRayPicture {
    ByteVector data;
    Time pts{};  // since the clip's start
    Time dts{};  // pictures come in this order; may be slightly negative
    bool key = false;
};

struct BluRayGroup {
    std::vector<BluRayPicture> pictures;
    struct Unit {
        int stream = 0;  // index among the clip's audio or graphics streams
        Time at{};       // since the clip's start; may be slightly negative
        ByteVector data;
        // stream_id_extension of audio other than LPCM; 0: 0x71, that of AC-3 and DTS. TrueHD takes 0x72, its core
        // 0x76.
        std::uint8_t extension = 0;
    };
    std::vector<Unit> audio;     // a frame, or an LPCM unit with its header
    std::vector<Unit> graphics;  // display sets
    // For trying readers on, from this group's first aligned unit (6144 bytes) on.
    enum class Flaw { none, encrypted, scrambled, zeros, rubbish } flaw = Flaw::none;
};

struct BluRayClipSettings {
    std::string name = "00001";
    blu_ray::StreamInfo video;
    std::vector<blu_ray::StreamInfo> audio, graphics;
};

// What a clip came out as: the times a playlist names it by, 45 kHz.
struct BluRayClipTimes {
    std::uint32_t in_time = 0, out_time = 0;
};

// Usage: create; begin_clip, add_group ..., end_clip; add_playlist; finish. The folder appears under its name only with
// finish(); otherwise nothing is left behind.
class BluRayWriter {
  public:
    static Result<BluRayWriter> create(const base::Path& folder);
    BluRayWriter(BluRayWriter&&) noexcept;
    ~BluRayWriter();

    Status begin_clip(const BluRayClipSettings& settings);
    Status add_group(const BluRayGroup& group);
    // `length`: of all pictures.
    Result<BluRayClipTimes> end_clip(Time length);
    Status add_playlist(const std::string& name, const blu_ray::Playlist& playlist);
    Status finish();

  private:
    struct State;
    explicit BluRayWriter(std::unique_ptr<State> state);
    std::unique_ptr<State> state_;
};

}  // namespace wavecrest::disc
