// Short pieces of picture and audio, coded by real encoders, to be written to files and read back.
#pragma once

#include <string>
#include <vector>

#include "base/file.hpp"
#include "container/reader.hpp"
#include "container/writer.hpp"
#include "media/types.hpp"

namespace wavecrest::test {

struct TestTrack {
    Track track;
    std::vector<Packet> packets;  // in decoding order
};

// Pictures of the test card, from time 0: 320x180 at 24000/1001, a keyframe every 24, B pictures where the codec has
// them.
TestTrack video_track(Codec codec, int pictures, TrackId id = 1);
// An AVI file of MPEG-4 part 2 with two B-VOPs between others, at 24000/1001, and LPCM that beeps with each flash of
// the test card: one chunk for each frame period. Packed: a B-VOP shares the chunk of the VOP it refers to, a VOP that
// isn't coded fills the period left. `told`: user data says that chunks are packed.
ByteVector mpeg4_avi(int pictures, bool packed, bool told = true);
// VC-1 of the advanced profile, as far as headers go: nobody here encodes it, so that its pictures are noise. No B
// pictures; a sequence header and an entry point with every keyframe.
TestTrack vc1_track(int pictures);
// H.265 whose keyframes are followed by pictures shown before them and predicted across them; with HDR10 metadata.
TestTrack open_gop_track(int pictures);
// Puts closed captions (CEA-608, channel 1, pop-on) into the pictures of an H.264 track: each text and from when
// to when it is shown.
struct Caption {
    Time from{}, to{};
    std::string text;  // letters of the basic set
};
void add_captions(TestTrack& test_track, const std::vector<Caption>& captions);
// A tone of this length at 48 kHz stereo (AC-3: 5.1), from time 0; encoder delay before it.
TestTrack audio_track(Codec codec, double seconds, TrackId id = 2, int aac_bps = 128'000);
// Audio of 5.1 at 48 kHz whose every speaker has a tone of its own: AAC, Opus, Vorbis or FLAC. Speakers are in
// the order of media::Speakers.
TestTrack surround_track(Codec codec, double seconds, TrackId id = 2);
// MPEG audio, layer II, at a sample rate of its own: 440 Hz, from a time on.
TestTrack layer_2_track(double seconds, int rate, Time from = {}, TrackId id = 2);
inline constexpr double kSpeakerTones[] = {440, 620, 800, 60, 980, 1160};  // Hz
// Cues of text; times in milliseconds.
TestTrack text_track(const std::vector<std::pair<std::pair<int, int>, std::string>>& cues, TrackId id = 3);

// Writes the tracks in the order of decoding times.
void write_media(const base::Path& path, std::string_view format, const std::vector<TestTrack>& test_tracks,
                 container::WriterSettings settings = {});
// All packets by track; tracks in the order the file has them.
std::vector<TestTrack> read_media(const base::Path& path);
std::vector<TestTrack> read_all_packets(PacketSource& source);

// When the first picture of transport packets is shown, in ticks of 90 kHz: by the first PES packet of stream 0xE0
// (ISO/IEC 13818-1, 2.4.3.6); -1 where there is none.
std::int64_t first_picture_ticks(ByteSpan transport);

// A run of the payload that does not depend on how a container frames it: parameter sets and delimiters left out.
ByteVector payload_of(const TestTrack& test_track);

// One entry of an edit list: what of the presentation as written is shown for how long. `from` below 0: nothing is.
struct EditEntry {
    Time lasts{};
    Time from{};
    bool dwell = false;
};
// An MP4 file of our writer (index in front) with other edit lists, the same for all of its tracks.
ByteVector with_edits(ByteSpan mp4, const std::vector<EditEntry>& edits);

}  // namespace wavecrest::test
