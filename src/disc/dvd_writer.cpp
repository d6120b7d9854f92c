#include "disc/dvd_writer.hpp"

#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <cmath>
#include <deque>
#include <optional>

#include "container/mpeg_ps.hpp"
#include "disc/dvd_format.hpp"

namespace wavecrest::disc {
namespace {

using base::AtomicFile;
using base::ByteWriter;
using namespace dvd;
namespace ps = container::ps;

constexpr std::int64_t kMuxRate = 10'080'000;                                                // bits per second
constexpr std::int64_t kPackTicks = (27'000'000LL * kSector * 8 + kMuxRate - 1) / kMuxRate;  // 27 MHz
constexpr std::int64_t kFirstPts = 27'000;  // 90 kHz: 0.3 s to fill the decoder's buffers
constexpr std::size_t kVideoBuffer = 232 * 1024;
constexpr std::size_t kAudioBuffer = 58 * 1024;
constexpr std::uint8_t kLpcmSubstream = 0xA0;
constexpr std::size_t kLpcmFrame = 48000 / kLpcmFramesPerSecond * 4;  // bytes of 16-bit stereo at 48 kHz
constexpr std::int64_t kLpcmFrameTicks = 90000 / kLpcmFramesPerSecond;
constexpr std::size_t kLpcmPayload = 2012;  // whole sample frames that fit beside a PES header with a time stamp
constexpr std::size_t kMaxTimeMapEntries = 2047;

// PTS of a field, counted from the first picture's, in 90 kHz: 1501.5 ticks a field.
std::int64_t field_ticks(std::int64_t fields) {
    return fields * 3003 / 2 + (fields * 3003 % 2);
}

// What a model decoder's input buffer holds (ISO/IEC 13818-1, 2.5.2): bytes leave when they are decoded.
class DecoderBuffer {
  public:
    explicit DecoderBuffer(std::size_t size) : size_(size) {}
    void add(std::size_t bytes, std::int64_t leaves_at) {
        held_ += bytes;
        if (!parts_.empty() && parts_.back().at == leaves_at) {
            parts_.back().bytes += bytes;
        } else {
            parts_.push_back({leaves_at, bytes});
        }
    }
    // The earliest time at or after `now` when `bytes` fit.
    std::int64_t when_room(std::size_t bytes, std::int64_t now) {
        while (!parts_.empty() && (parts_.front().at <= now || held_ + bytes > size_)) {
            now = std::max(now, parts_.front().at);
            held_ -= parts_.front().bytes;
            parts_.pop_front();
        }
        return now;
    }

  private:
    struct Part {
        std::int64_t at;
        std::size_t bytes;
    };
    std::size_t size_;
    std::size_t held_ = 0;
    std::deque<Part> parts_;
};

struct Vobu {
    std::uint32_t sector = 0;  // in the title's VOBs
    std::uint32_t last = 0;    // offset of its last sector
    std::int64_t clock = 0;    // 90 kHz, of the navigation pack
    std::int64_t start_pts = 0;
    std::int64_t end_pts = 0;
    std::uint32_t reference_ends[3] = {0, 0, 0};
    int cell = 0;  // from 0
};

struct AudioPack {
    std::uint32_t sector;
    std::int64_t pts;
};

struct Cell {
    std::size_t first_vobu = 0;
    std::size_t last_vobu = 0;
    std::int64_t fields = 0;
};

struct Title {
    DvdTitleSettings settings;
    std::vector<Vobu> vobus;
    std::vector<Cell> cells;
    std::int64_t fields = 0;
    std::uint32_t sectors = 0;
    std::uint32_t ifo_sectors = 0;
};

Time fields_to_time(std::int64_t fields) {
    return base::frames_to_time(fields, {60000, 1001});
}

// A table that starts with a count of entries and ends at a sector boundary; its end address is filled in here.
void close_table(ByteWriter& table, std::size_t end_field) {
    table.put_u32(end_field, table.size() - 1);
    table.pad_to((table.size() + kSector - 1) / kSector * kSector);
}

// One program chain (PGC): programs of one cell each.
ByteVector make_pgc(const Title& title) {
    ByteWriter out;
    const std::size_t cells = title.cells.size();
    out.u16(0);
    out.u8(cells);  // programs
    out.u8(cells);
    out.u32(encode_bcd_time(fields_to_time(title.fields)));
    out.u32(0);       // all user operations allowed
    out.u16(0x8000);  // audio stream 0 is there
    out.fill(7 * 2);
    out.fill(32 * 4);                                  // no subpictures
    out.fill(3 * 2);                                   // next, previous, up: none
    out.u16(0);                                        // no still, sequential
    for (int i = 0; i < 16; ++i) out.u32(0x00108080);  // palette: black
    const std::size_t map_at = pgc::kSize;
    const std::size_t playback_at = (map_at + cells + 1) / 2 * 2;
    const std::size_t position_at = playback_at + cells * pgc::kCellPlaybackSize;
    out.u16(0);  // no commands
    out.u16(map_at);
    out.u16(playback_at);
    out.u16(position_at);
    for (std::size_t i = 0; i < cells; ++i) out.u8(i + 1);
    out.pad_to(playback_at);
    for (std::size_t i = 0; i < cells; ++i) {
        const Cell& cell = title.cells[i];
        const Vobu& first = title.vobus[cell.first_vobu];
        const Vobu& last = title.vobus[cell.last_vobu];
        out.u8(i == 0 ? 0x02 : 0x08);  // the clock starts anew in the first cell; the others follow seamlessly
        out.fill(3);
        out.u32(encode_bcd_time(fields_to_time(cell.fields)));
        out.u32(first.sector);
        out.u32(0);
        out.u32(last.sector);
        out.u32(last.sector + last.last);
    }
    for (std::size_t i = 0; i < cells; ++i) {
        out.u16(1);  // VOB
        out.u8(0);
        out.u8(i + 1);
    }
    return out.release();
}

void put_attributes(ByteWriter& out, const DvdTitleSettings& settings) {
    // MPEG-2, NTSC, aspect, no restriction on fitting to narrow screens; 720x480.
    out.u8(0x40 | (settings.wide ? 0x0C : 0x00));
    out.u8(0);
    out.u16(1);               // audio streams
    out.u8(4 << 5 | 1 << 2);  // LPCM, language given
    out.u8(0x01);             // 16 bits, 48 kHz, two channels
    out.text(settings.audio_language.substr(0, 2));
    out.u8(0);
    out.u8(1);  // normal caption
    out.u16(0);
}

ByteVector make_vts_ifo(Title& title) {
    ByteWriter chapters;
    chapters.u16(1);
    chapters.u16(0);
    chapters.u32(0);
    chapters.u32(12);  // the title's chapters start here
    for (std::size_t i = 0; i < title.cells.size(); ++i) {
        chapters.u16(1);
        chapters.u16(i + 1);
    }
    close_table(chapters, 4);

    ByteWriter chains;
    chains.u16(1);
    chains.u16(0);
    chains.u32(0);
    chains.u32(0x81000000);  // entry chain of title 1
    chains.u32(16);
    chains.raw(make_pgc(title));
    close_table(chains, 4);

    ByteWriter time_map;
    const auto whole_seconds = static_cast<std::size_t>(base::to_seconds(fields_to_time(title.fields)));
    const std::size_t unit = whole_seconds / kMaxTimeMapEntries + 1;
    const std::size_t entries = whole_seconds / unit;
    time_map.u16(1);
    time_map.u16(0);
    time_map.u32(0);
    time_map.u32(12);
    time_map.u8(unit);
    time_map.u8(0);
    time_map.u16(entries);
    for (std::size_t i = 0, vobu = 0; i < entries; ++i) {
        const std::int64_t pts = kFirstPts + static_cast<std::int64_t>((i + 1) * unit) * 90000;
        while (vobu + 1 < title.vobus.size() && title.vobus[vobu + 1].start_pts <= pts) ++vobu;
        time_map.u32(title.vobus[vobu].sector);
    }
    close_table(time_map, 4);

    ByteWriter cells;
    cells.u16(1);
    cells.u16(0);
    cells.u32(0);
    for (std::size_t i = 0; i < title.cells.size(); ++i) {
        const Vobu& last = title.vobus[title.cells[i].last_vobu];
        cells.u16(1);
        cells.u8(i + 1);
        cells.u8(0);
        cells.u32(title.vobus[title.cells[i].first_vobu].sector);
        cells.u32(last.sector + last.last);
    }
    close_table(cells, 4);

    ByteWriter vobu_map;
    vobu_map.u32(0);
    for (const Vobu& vobu : title.vobus) vobu_map.u32(vobu.sector);
    close_table(vobu_map, 0);

    ByteWriter out;
    out.text(mat::kVtsId);
    out.pad_to(kSector);
    std::size_t next = 1;
    const auto place = [&](std::size_t field, const ByteWriter& table) {
        out.put_u32(field, next);
        next += table.size() / kSector;
        out.raw(table.bytes());
    };
    place(mat::kVtsChapters, chapters);
    place(mat::kVtsPgcs, chains);
    place(mat::kVtsTimeMap, time_map);
    place(mat::kVtsCells, cells);
    place(mat::kVtsVobuMap, vobu_map);
    title.ifo_sectors = static_cast<std::uint32_t>(next);
    out.put_u32(mat::kLastSectorOfIfo, next - 1);
    out.put_u32(mat::kLastSectorOfSet, 2 * next + title.sectors - 1);
    out.put_u16(mat::kVersion, 0x0011);
    out.put_u32(mat::kMatEnd, mat::kVtsSize - 1);
    out.put_u32(mat::kVtsTitleVobs, next);
    ByteWriter attributes;
    put_attributes(attributes, title.settings);
    out.put(mat::kVideoAttributes, attributes.bytes());
    return out.release();
}

// The chain played when the disc is put in: jump to title 1.
ByteVector make_first_play() {
    ByteWriter out;
    out.fill(pgc::kSize);
    out.put_u16(pgc::kCommands, pgc::kSize);
    out.u16(1);  // one pre command
    out.u16(0);
    out.u16(0);
    out.u16(15);  // end of this table
    out.u32(0x30020000);
    out.u32(0x00010000);
    return out.release();
}

ByteVector make_vmg_ifo(const std::vector<Title>& titles) {
    // Two sectors of tables after the first; everything but the attributes of many title sets fits.
    ByteWriter attributes;
    attributes.u16(titles.size());
    attributes.u16(0);
    attributes.u32(0);
    constexpr std::size_t kEntry = 8 + (mat::kAttributesEnd - mat::kMenuAttributes);
    for (std::size_t i = 0; i < titles.size(); ++i) attributes.u32(8 + 4 * titles.size() + i * kEntry);
    for (const Title& title : titles) {
        const std::size_t start = attributes.size();
        attributes.u32(kEntry - 1);
        attributes.u32(0);
        attributes.pad_to(start + 8 + (mat::kVideoAttributes - mat::kMenuAttributes));
        put_attributes(attributes, title.settings);
        attributes.pad_to(start + kEntry);
    }
    close_table(attributes, 4);

    const std::size_t ifo_sectors = 2 + attributes.size() / kSector;
    ByteWriter table;
    table.u16(titles.size());
    table.u16(0);
    table.u32(0);
    std::size_t sector = 2 * ifo_sectors;  // the title sets follow this one's IFO and BUP
    for (std::size_t i = 0; i < titles.size(); ++i) {
        table.u8(0x3C);  // one chain, all jumps allowed
        table.u8(1);     // angles
        table.u16(titles[i].cells.size());
        table.u16(0);
        table.u8(i + 1);  // title set
        table.u8(1);      // title within it
        table.u32(sector);
        sector += 2 * titles[i].ifo_sectors + titles[i].sectors;
    }
    close_table(table, 4);

    const ByteVector first_play = make_first_play();
    constexpr std::size_t kFirstPlayAt = 0x400;
    ByteWriter out;
    out.text(mat::kVmgId);
    out.pad_to(kSector);
    out.put_u32(mat::kLastSectorOfSet, 2 * ifo_sectors - 1);
    out.put_u32(mat::kLastSectorOfIfo, ifo_sectors - 1);
    out.put_u16(mat::kVersion, 0x0011);
    out.put_u16(mat::kVolumeCount, 1);
    out.put_u16(mat::kVolumeNumber, 1);
    out.put(mat::kDiscSide, ByteVector{1});
    out.put_u16(mat::kTitleSetCount, titles.size());
    out.put(mat::kProvider, base::as_bytes("WAVECREST SAMPLE DISC"));
    out.put_u32(mat::kMatEnd, kFirstPlayAt + first_play.size() - 1);
    out.put_u32(mat::kFirstPlayPgc, kFirstPlayAt);
    out.put(kFirstPlayAt, first_play);
    out.put_u32(mat::kVmgTitleTable, 1);
    out.put_u32(mat::kVmgAttributes, 2);
    out.raw(table.bytes());
    out.raw(attributes.bytes());
    return out.release();
}

}  // namespace

struct DvdWriter::State {
    base::Path folder;
    base::Path temporary;
    std::vector<Title> titles;

    // The title being written.
    std::optional<AtomicFile> vob;
    std::vector<AudioPack> audio_packs;
    ByteVector sound;                 // LPCM bytes not yet in a pack
    std::int64_t sound_position = 0;  // bytes already in packs
    std::int64_t now = 0;             // 27 MHz
    DecoderBuffer video_buffer{kVideoBuffer};
    DecoderBuffer audio_buffer{kAudioBuffer};
    std::int64_t last_field_count = 0;  // of the previous picture
    std::int64_t late_packs = 0;
    bool first_video_pack = true;
    bool first_audio_pack = true;

    ~State() {
        if (!temporary.empty()) {
            vob.reset();
            std::error_code ignored;
            std::filesystem::remove_all(temporary, ignored);
        }
    }

    base::Path file(const std::string& name) const { return temporary / "VIDEO_TS" / name; }
    Title& title() { return titles.back(); }

    Status write_sector(const ByteWriter& sector) {
        ++title().sectors;
        now += kPackTicks;
        return vob->write(sector.bytes());
    }

    void note_deadline(std::int64_t deadline) {
        if (now + kPackTicks > deadline) ++late_packs;
    }

    std::int64_t sound_pts() const {
        // Of the first frame that starts in the next pack.
        const auto frame =
            (sound_position + static_cast<std::int64_t>(kLpcmFrame) - 1) / static_cast<std::int64_t>(kLpcmFrame);
        return kFirstPts + frame * kLpcmFrameTicks;
    }

    Status write_sound_pack() {
        const std::size_t payload = std::min(sound.size(), kLpcmPayload);
        ps::PesHeader header{
            .stream_id = ps::kPrivate1, .pts = sound_pts(), .dts = {}, .buffer_bound = {}, .stuffing = 0};
        const std::size_t room = kSector - ps::kPackHeaderSize - ps::pes_header_size(header) - kLpcmHeader;
        std::size_t spare = room - payload;
        if (first_audio_pack && spare >= 3) {
            header.buffer_bound = 0x2000 | kAudioBuffer / 1024;
            spare -= 3;
        }
        if (spare < 6) {
            header.stuffing = spare;
            spare = 0;
        }
        const auto frame_size = static_cast<std::int64_t>(kLpcmFrame);
        const std::int64_t first_frame = (sound_position + frame_size - 1) / frame_size;
        const std::int64_t end = sound_position + static_cast<std::int64_t>(payload);
        const std::int64_t frames = (end + frame_size - 1) / frame_size - first_frame;
        const std::int64_t pointer =
            first_frame * frame_size - sound_position + 4;  // counted from the byte after itself

        now = audio_buffer.when_room(payload, now);
        note_deadline(*header.pts * 300);
        audio_packs.push_back({title().sectors, *header.pts});
        ByteWriter out;
        ps::write_pack_header(out, now, kMuxRate);
        ps::write_pes_header(out, header, kLpcmHeader + payload);
        out.u8(kLpcmSubstream);
        out.u8(static_cast<std::uint64_t>(frames));
        out.u16(static_cast<std::uint64_t>(pointer));
        out.u8(static_cast<std::uint64_t>(first_frame % 20));  // no emphasis, not muted, frame number
        out.u8(0x01);                                          // 16 bits, 48 kHz, two channels
        out.u8(0x80);                                          // no dynamic range control
        out.raw(ByteSpan(sound).first(payload));
        if (spare > 0) ps::write_padding(out, spare);
        first_audio_pack = false;
        sound.erase(sound.begin(), sound.begin() + static_cast<std::ptrdiff_t>(payload));
        sound_position = end;
        audio_buffer.add(payload, (kFirstPts + end * kLpcmFrameTicks / frame_size) * 300);
        return write_sector(out);
    }

    Status add_group(const std::vector<DvdPicture>& pictures);
    Status write_navigation(std::size_t index);
};

Status DvdWriter::State::add_group(const std::vector<DvdPicture>& pictures) {
    Title& t = title();
    Vobu vobu;
    vobu.sector = t.sectors;
    now = (now + 299) / 300 * 300;  // the navigation pack's clock is told in 90 kHz ticks
    vobu.clock = now / 300;
    vobu.start_pts = kFirstPts + field_ticks(t.fields);
    const auto& chapters = t.settings.chapters;
    const std::size_t begun = t.cells.size();
    if (begun == 0 || (begun < chapters.size() && fields_to_time(t.fields) >= chapters[begun])) {
        t.cells.push_back({t.vobus.size(), t.vobus.size(), 0});
    }
    vobu.cell = static_cast<int>(t.cells.size()) - 1;

    ByteWriter blank;  // filled in when the addresses of all VOBUs are known
    blank.fill(kSector);
    WAVECREST_TRY(write_sector(blank));

    // Where each picture's bytes end within the group, and when it is decoded: at the previous one's presentation.
    struct Unit {
        std::size_t end;
        std::int64_t decoded;  // 27 MHz
    };
    std::vector<Unit> units;
    ByteVector data;
    std::int64_t fields = t.fields;
    for (const DvdPicture& picture : pictures) {
        data.insert(data.end(), picture.data.begin(), picture.data.end());
        const std::int64_t decoded = kFirstPts + field_ticks(fields - (fields == 0 ? 2 : last_field_count));
        units.push_back({data.size(), decoded * 300});
        last_field_count = picture.fields;
        fields += picture.fields;
    }

    std::size_t unit = 0;
    for (std::size_t at = 0; at < data.size();) {
        while (sound.size() >= kLpcmPayload && sound_pts() * 300 <= units[unit].decoded)
            WAVECREST_TRY(write_sound_pack());
        ps::PesHeader header{.stream_id = ps::kFirstVideo, .pts = {}, .dts = {}, .buffer_bound = {}, .stuffing = 0};
        if (at == 0) {
            header.pts = vobu.start_pts;
            header.dts = units[0].decoded / 300;
        }
        if (first_video_pack) header.buffer_bound = 0x2000 | kVideoBuffer / 1024;
        first_video_pack = false;
        const std::size_t room = kSector - ps::kPackHeaderSize - ps::pes_header_size(header);
        const std::size_t payload = std::min(room, data.size() - at);
        std::size_t spare = room - payload;
        if (spare < 6) {
            header.stuffing = spare;
            spare = 0;
        }
        now = video_buffer.when_room(payload, now);
        note_deadline(units[unit].decoded);
        ByteWriter out;
        ps::write_pack_header(out, now, kMuxRate);
        ps::write_pes_header(out, header, payload);
        out.raw(ByteSpan(data).subspan(at, payload));
        if (spare > 0) ps::write_padding(out, spare);
        const std::uint32_t offset = t.sectors - vobu.sector;
        std::size_t left = payload;
        while (left > 0) {
            const std::size_t part = std::min(left, units[unit].end - at);
            video_buffer.add(part, units[unit].decoded);
            at += part;
            left -= part;
            if (at == units[unit].end) {
                if (unit < 3) vobu.reference_ends[unit] = offset;
                if (unit + 1 < units.size()) ++unit;
            }
        }
        WAVECREST_TRY(write_sector(out));
    }
    t.fields = fields;
    vobu.end_pts = kFirstPts + field_ticks(fields);
    vobu.last = t.sectors - 1 - vobu.sector;
    t.cells.back().last_vobu = t.vobus.size();
    for (const DvdPicture& picture : pictures) t.cells.back().fields += picture.fields;
    t.vobus.push_back(vobu);
    if (static_cast<std::uint64_t>(t.sectors) * kSector > kMaxVobFile) {
        return fail(ErrorKind::input, "the title is larger than the 1 GiB one VOB file holds", folder.string(),
                    "make the sample shorter");
    }
    return {};
}

// Offsets of the search information, in steps of half a second, from the farthest (VOBU_SRI).
constexpr int kSearchSteps[19] = {240, 120, 60, 20, 15, 14, 13, 12, 11, 10, 9, 8, 7, 6, 5, 4, 3, 2, 1};

Status DvdWriter::State::write_navigation(std::size_t index) {
    Title& t = title();
    const Vobu& vobu = t.vobus[index];
    const Cell& cell = t.cells[static_cast<std::size_t>(vobu.cell)];
    const std::uint32_t elapsed =
        encode_bcd_time(base::from_ticks(vobu.start_pts - t.vobus[cell.first_vobu].start_pts, 90000));

    ByteWriter out;
    ps::write_pack_header(out, vobu.clock * 300, kMuxRate);
    out.u32(0x00000100u | ps::kSystemHeader);
    out.u16(nav::kSystemHeaderSize - 6);
    out.u24(0x800001u | static_cast<std::uint64_t>(kMuxRate / 400) << 1);
    out.u8(1 << 2);  // one audio stream, not fixed rate
    out.u8(0xE1);    // both clocks locked, one video stream
    out.u8(0x7F);
    out.u8(0xB9);  // all video: 232 KiB
    out.u16(0xE000 | kVideoBuffer / 1024);
    out.u8(0xB8);  // all audio
    out.u16(0xC000 | 4096 / 128);
    out.u8(ps::kPrivate1);
    out.u16(0xE000 | kAudioBuffer / 1024);
    out.u8(ps::kPrivate2);
    out.u16(0xE000 | 2);

    out.u32(0x00000100u | ps::kPrivate2);
    out.u16(nav::kPciSize + 1);
    out.u8(nav::kPciSubstream);
    out.fill(nav::kPciSize);
    out.put_u32(nav::kPciAt + nav::kPciSector, vobu.sector);
    out.put_u32(nav::kPciAt + nav::kPciStart, static_cast<std::uint64_t>(vobu.start_pts));
    out.put_u32(nav::kPciAt + nav::kPciEnd, static_cast<std::uint64_t>(vobu.end_pts));
    out.put_u32(nav::kPciAt + nav::kPciElapsed, elapsed);

    out.u32(0x00000100u | ps::kPrivate2);
    out.u16(nav::kDsiSize + 1);
    out.u8(nav::kDsiSubstream);
    out.fill(nav::kDsiSize);
    const auto dsi = [](std::size_t field) { return nav::kDsiAt + field; };
    out.put_u32(dsi(nav::kDsiClock), static_cast<std::uint64_t>(vobu.clock));
    out.put_u32(dsi(nav::kDsiSector), vobu.sector);
    out.put_u32(dsi(nav::kDsiVobuEnd), vobu.last);
    for (std::size_t i = 0; i < 3; ++i) out.put_u32(dsi(nav::kDsiReferenceEnds + 4 * i), vobu.reference_ends[i]);
    out.put_u16(dsi(nav::kDsiVob), 1);
    out.put(dsi(nav::kDsiCell), ByteVector{static_cast<std::uint8_t>(vobu.cell + 1)});
    out.put_u32(dsi(nav::kDsiElapsed), elapsed);
    out.put_u32(dsi(nav::kDsiVobStart), static_cast<std::uint64_t>(t.vobus.front().start_pts));
    out.put_u32(dsi(nav::kDsiVobEnd), static_cast<std::uint64_t>(t.vobus.back().end_pts));

    // Search information stays within the cell.
    const auto forward = [&](std::int64_t half_seconds) {
        const std::int64_t target = vobu.start_pts + half_seconds * 45000;
        for (std::size_t i = index; i <= cell.last_vobu; ++i) {
            if (t.vobus[i].end_pts > target) return nav::kVobuHasVideo | (t.vobus[i].sector - vobu.sector);
        }
        return nav::kNoVobu;
    };
    const auto backward = [&](std::int64_t half_seconds) {
        const std::int64_t target = vobu.start_pts - half_seconds * 45000;
        for (std::size_t i = index + 1; i-- > cell.first_vobu;) {
            if (t.vobus[i].start_pts <= target) return nav::kVobuHasVideo | (vobu.sector - t.vobus[i].sector);
        }
        return nav::kNoVobu;
    };
    const bool has_next = index < cell.last_vobu;
    const bool has_previous = index > cell.first_vobu;
    const std::uint32_t next = has_next ? t.vobus[index + 1].sector - vobu.sector : nav::kNoVobu;
    const std::uint32_t previous = has_previous ? vobu.sector - t.vobus[index - 1].sector : nav::kNoVobu;
    std::size_t at = dsi(nav::kDsiSearch);
    const auto put = [&](std::uint32_t value) {
        out.put_u32(at, value);
        at += 4;
    };
    put(has_next ? nav::kVobuHasVideo | next : nav::kNoVobu);
    for (const int step : kSearchSteps) put(forward(step));
    put(next);
    put(previous);
    for (std::size_t i = std::size(kSearchSteps); i-- > 0;) put(backward(kSearchSteps[i]));
    put(has_previous ? nav::kVobuHasVideo | previous : nav::kNoVobu);

    // The sound pack that goes with this VOBU's first picture; bit 15 says it lies before.
    const auto pack = std::find_if(audio_packs.begin(), audio_packs.end(),
                                   [&](const AudioPack& p) { return p.pts >= vobu.start_pts; });
    if (pack != audio_packs.end()) {
        const std::int64_t distance = static_cast<std::int64_t>(pack->sector) - vobu.sector;
        out.put_u16(dsi(nav::kDsiSync), static_cast<std::uint64_t>(distance < 0 ? 0x8000 | -distance : distance));
    }
    return vob->write_at(static_cast<std::uint64_t>(vobu.sector) * kSector, out.bytes());
}

DvdWriter::DvdWriter(std::unique_ptr<State> state) : state_(std::move(state)) {}
DvdWriter::DvdWriter(DvdWriter&&) noexcept = default;
DvdWriter::~DvdWriter() = default;

Result<DvdWriter> DvdWriter::create(const base::Path& given) {
    const base::Path folder = given.has_filename() ? given : given.parent_path();  // "rip/" and "rip" are one place
    std::error_code error;
    if (std::filesystem::exists(folder, error)) {
        return fail(ErrorKind::machine, "the folder exists already and is not overwritten", folder.string(),
                    "remove it, or name another folder");
    }
    auto state = std::make_unique<State>();
    state->folder = folder;
    const base::Path temporary =
        folder.parent_path() / fmt::format(".{}.{}.part", folder.filename().string(), ::getpid());
    std::filesystem::create_directories(temporary / "VIDEO_TS", error);
    if (!error) {
        state->temporary = temporary;
        std::filesystem::create_directories(temporary / "AUDIO_TS", error);
    }
    if (error) {
        return fail(ErrorKind::machine, "the folder can't be made: " + error.message(), folder.string(),
                    "choose a place you may write to");
    }
    return DvdWriter(std::move(state));
}

Status DvdWriter::begin_title(const DvdTitleSettings& settings) {
    State& s = *state_;
    s.titles.push_back({});
    s.title().settings = settings;
    s.audio_packs.clear();
    s.sound.clear();
    s.sound_position = s.now = s.last_field_count = s.late_packs = 0;
    s.video_buffer = DecoderBuffer(kVideoBuffer);
    s.audio_buffer = DecoderBuffer(kAudioBuffer);
    s.first_video_pack = s.first_audio_pack = true;
    WAVECREST_TRY_ASSIGN(file, AtomicFile::create(s.file(fmt::format("VTS_{:02}_1.VOB", s.titles.size())),
                                                  AtomicFile::IfExists::refuse));
    s.vob.emplace(std::move(file));
    return {};
}

Status DvdWriter::add_group(const std::vector<DvdPicture>& pictures, const std::vector<std::int16_t>& stereo) {
    for (const std::int16_t sample : stereo) {
        state_->sound.push_back(static_cast<std::uint8_t>(static_cast<std::uint16_t>(sample) >> 8));
        state_->sound.push_back(static_cast<std::uint8_t>(sample));
    }
    return state_->add_group(pictures);
}

Status DvdWriter::end_title() {
    State& s = *state_;
    Title& t = s.title();
    if (t.vobus.empty())
        return fail(ErrorKind::input, "the title has no pictures", s.folder.string(), "give it a length");
    // The rest of the sound, in whole frames, belongs to the last VOBU.
    s.sound.resize((s.sound.size() + static_cast<std::size_t>(s.sound_position) + kLpcmFrame - 1) / kLpcmFrame *
                       kLpcmFrame -
                   static_cast<std::size_t>(s.sound_position));
    while (!s.sound.empty()) WAVECREST_TRY(s.write_sound_pack());
    t.vobus.back().last = t.sectors - 1 - t.vobus.back().sector;
    if (s.late_packs > 0) {
        return fail(ErrorKind::input, fmt::format("{} packs of the title would reach a decoder too late", s.late_packs),
                    s.folder.string(), "lower the bit rate of the pictures");
    }
    for (std::size_t i = 0; i < t.vobus.size(); ++i) WAVECREST_TRY(s.write_navigation(i));
    WAVECREST_TRY(s.vob->commit());
    s.vob.reset();
    const ByteVector ifo = make_vts_ifo(t);
    for (const char* extension : {"IFO", "BUP"}) {
        WAVECREST_TRY(base::write_file(s.file(fmt::format("VTS_{:02}_0.{}", s.titles.size(), extension)), ifo,
                                       AtomicFile::IfExists::refuse));
    }
    return {};
}

Status DvdWriter::finish() {
    State& s = *state_;
    const ByteVector ifo = make_vmg_ifo(s.titles);
    for (const char* name : {"VIDEO_TS.IFO", "VIDEO_TS.BUP"}) {
        WAVECREST_TRY(base::write_file(s.file(name), ifo, AtomicFile::IfExists::refuse));
    }
    std::error_code error;
    std::filesystem::rename(s.temporary, s.folder, error);
    if (error) {
        return fail(ErrorKind::machine, "the finished folder can't be renamed: " + error.message(), s.folder.string(),
                    "name a folder that does not exist");
    }
    s.temporary.clear();
    return {};
}

}  // namespace wavecrest::disc
