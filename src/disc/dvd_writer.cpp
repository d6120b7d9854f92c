#include "disc/dvd_writer.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <deque>
#include <optional>
#include <utility>

#include "base/atomic_file.hpp"
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
constexpr std::size_t kLpcmBuffer = 58 * 1024, kAc3Buffer = 4 * 1024, kSubpictureBuffer = 52 * 1024;
constexpr int kLpcmFrameSamples = 48000 / kLpcmFramesPerSecond;
constexpr std::int64_t kLpcmFrameTicks = 90000 / kLpcmFramesPerSecond;
constexpr std::int64_t kAc3FrameTicks = 2880;  // 1536 samples
constexpr std::int64_t kAc3DelayTicks = 480;   // 256 samples: decoded audio is late by that
constexpr std::size_t kStampedPesHeader = 14;
// How long before it is due a pack may arrive: what the buffers hold at the highest rates in use.
constexpr std::int64_t kLpcmLead = 300 * 90 * 250, kAc3Lead = 300 * 90 * 55, kSubpictureLead = 300 * 90 * 400;
constexpr std::size_t kMaxTimeMapEntries = 2047;

// PTS of a field, counted from the first picture's, in 90 kHz: 1501.5 ticks a field, in PAL 1800.
std::int64_t field_ticks(std::int64_t fields, bool pal) {
    return pal ? fields * 1800 : fields * 3003 / 2 + (fields * 3003 % 2);
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
    bool has_room(std::size_t bytes, std::int64_t now) {
        while (!parts_.empty() && parts_.front().at <= now) {
            held_ -= parts_.front().bytes;
            parts_.pop_front();
        }
        return held_ + bytes <= size_;
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
    std::uint32_t sector = 0;  // in the set's title VOBs
    std::uint32_t last = 0;    // offset of its last sector
    std::int64_t clock = 0;    // 90 kHz, of the navigation pack
    std::int64_t start_pts = 0;
    std::int64_t end_pts = 0;
    std::uint32_t reference_ends[3] = {0, 0, 0};
    int cell = 0;  // in its VOB, from 0
    // The first pack of each audio track that is due with its first picture: offset in sectors from here.
    std::vector<std::optional<std::int64_t>> audio_pack;
    ByteVector data;  // until it is written
};

struct Cell {
    std::size_t first_vobu = 0;  // in the VOB
    std::size_t last_vobu = 0;
    std::int64_t fields = 0;
    std::uint32_t first_sector = 0, last_sector = 0;
};

struct Vob {
    std::vector<Vobu> vobus;
    std::vector<Cell> cells;
    std::int64_t fields = 0;
    bool angle = false;
    std::size_t angle_index = 0, angle_count = 1;
};

struct TitleSet {
    DvdSetSettings settings;
    std::vector<Vob> vobs;
    std::vector<DvdTitleSettings> titles;
    std::uint32_t sectors = 0;
    std::uint32_t ifo_sectors = 0;

    const Vob& vob(const DvdCellName& name) const { return vobs[static_cast<std::size_t>(name.vob - 1)]; }
    const Cell& cell(const DvdCellName& name) const { return vob(name).cells[static_cast<std::size_t>(name.cell - 1)]; }
    Time fields_to_time(std::int64_t fields) const {
        return base::frames_to_time(fields, settings.pal ? Ratio{50, 1} : Ratio{60000, 1001});
    }
    std::uint32_t bcd(std::int64_t fields) const { return encode_bcd_time(fields_to_time(fields), settings.pal); }
    std::int64_t fields_of(const DvdTitleSettings& title) const {
        std::int64_t fields = 0;
        for (const auto& place : title.cells) fields += cell(place.front()).fields;
        return fields;
    }
};

int track_number(const DvdSetSettings& settings, std::size_t index) {
    // Streams of one coding are numbered by themselves.
    int number = 0;
    for (std::size_t i = 0; i < index; ++i) number += settings.audio[i].codec == settings.audio[index].codec ? 1 : 0;
    return number;
}

// A table that starts with a count of entries and ends at a sector boundary; its end address is filled in here.
void close_table(ByteWriter& table, std::size_t end_field) {
    table.put_u32(end_field, table.size() - 1);
    table.pad_to((table.size() + kSector - 1) / kSector * kSector);
}

// One program chain (PGC): a program begins with every chapter.
ByteVector make_pgc(const TitleSet& set, const DvdTitleSettings& title) {
    ByteWriter out;
    std::vector<DvdCellName> cells;
    std::vector<int> modes;  // 0 in no block, else 1 first, 2 inside, 3 last of an angle block
    std::vector<std::size_t> places;
    for (const auto& place : title.cells) {
        places.push_back(cells.size());
        for (std::size_t i = 0; i < place.size(); ++i) {
            cells.push_back(place[i]);
            modes.push_back(place.size() == 1 ? 0 : i == 0 ? 1 : i + 1 == place.size() ? 3 : 2);
        }
    }
    out.u16(0);
    out.u8(title.chapters.size());
    out.u8(cells.size());
    out.u32(set.bcd(set.fields_of(title)));
    out.u32(0);  // all user operations allowed
    for (std::size_t i = 0; i < 8; ++i) {
        const bool there = i < set.settings.audio.size();
        out.u16(there ? 0x8000u | static_cast<unsigned>(track_number(set.settings, i)) << 8 : 0u);
    }
    for (std::size_t i = 0; i < 32; ++i) {
        // The same stream for every shape of screen.
        out.u32(i < set.settings.subtitles.size() ? 0x80000000u | i << 24 | i << 16 | i << 8 | i : 0u);
    }
    out.fill(3 * 2);  // next, previous, up: none
    out.u16(0);       // no still, sequential
    if (set.settings.palette.size() == 64) {
        out.raw(set.settings.palette);
    } else {
        for (int i = 0; i < 16; ++i) out.u32(0x00108080);  // black
    }
    const std::size_t map_at = pgc::kSize;
    const std::size_t playback_at = (map_at + title.chapters.size() + 1) / 2 * 2;
    const std::size_t position_at = playback_at + cells.size() * pgc::kCellPlaybackSize;
    out.u16(0);  // no commands
    out.u16(map_at);
    out.u16(playback_at);
    out.u16(position_at);
    for (const std::size_t chapter : title.chapters) out.u8(places[chapter] + 1);
    out.pad_to(playback_at);
    std::optional<DvdCellName> before;
    for (std::size_t i = 0; i < cells.size(); ++i) {
        const Vob& vob = set.vob(cells[i]);
        const Cell& cell = set.cell(cells[i]);
        // The clock goes on where a cell follows its neighbour in the same VOB.
        const bool follows = before && before->vob == cells[i].vob && before->cell + 1 == cells[i].cell;
        unsigned category = follows ? 0x08u : 0x02u;
        if (modes[i] != 0) category |= static_cast<unsigned>(modes[i]) << 6 | 0x10u;
        if (vob.angle) category |= 0x04u;
        out.u8(category);
        out.fill(3);
        out.u32(set.bcd(cell.fields));
        out.u32(cell.first_sector);
        out.u32(vob.angle ? vob.vobus.front().sector + vob.vobus.front().last : 0u);
        out.u32(vob.vobus[cell.last_vobu].sector);
        out.u32(cell.last_sector);
        before = cells[i];
    }
    for (const DvdCellName& name : cells) {
        out.u16(static_cast<unsigned>(name.vob));
        out.u8(0);
        out.u8(static_cast<unsigned>(name.cell));
    }
    return out.release();
}

void put_attributes(ByteWriter& out, const DvdSetSettings& settings) {
    // MPEG-2, television system, aspect, no restriction on fitting to narrow screens; 720 pixels wide.
    out.u8(0x40 | (settings.pal ? 0x10 : 0x00) | (settings.wide ? 0x0C : 0x00));
    out.u8(settings.captions ? 0x80 : 0x00);
    out.u16(settings.audio.size());
    for (std::size_t i = 0; i < 8; ++i) {
        if (i >= settings.audio.size()) {
            out.fill(8);
            continue;
        }
        const DvdAudio& audio = settings.audio[i];
        const auto mode = static_cast<unsigned>(audio.codec == Codec::ac3 ? AudioMode::ac3 : AudioMode::lpcm);
        const unsigned quantization = audio.codec == Codec::ac3 ? 3u : static_cast<unsigned>((audio.bits - 16) / 4);
        out.u8(mode << 5 | 1 << 2);  // language given
        out.u8(quantization << 6 | static_cast<unsigned>(audio.channels - 1));
        out.text((audio.language + "  ").substr(0, 2));
        out.u8(0);
        out.u8(audio.purpose == Purpose::commentary  ? static_cast<unsigned>(kCommentary)
               : audio.purpose == Purpose::described ? static_cast<unsigned>(kForVisuallyImpaired)
                                                     : 1u);
        out.u16(0);
    }
    out.pad_to(out.size() + mat::kSubpictureCount - mat::kAudioAttributes - 64);
    out.u16(settings.subtitles.size());
    for (const DvdSubtitles& subtitles : settings.subtitles) {
        out.u8(1);  // run-length coded, language given
        out.u8(0);
        out.text((subtitles.language + "  ").substr(0, 2));
        out.u8(0);
        out.u8(subtitles.forced                           ? static_cast<unsigned>(kForcedSubtitles)
               : subtitles.purpose == Purpose::commentary ? static_cast<unsigned>(kCommentarySubtitles)
               : subtitles.purpose == Purpose::captions   ? static_cast<unsigned>(kCaptions)
                                                          : 1u);
    }
}

// Sectors of the VOBUs shown at the end of each unit of time.
std::vector<std::uint32_t> time_map(const TitleSet& set, const DvdTitleSettings& title, std::size_t unit) {
    std::vector<std::uint32_t> sectors;
    Time begin{};
    for (const auto& place : title.cells) {
        const Vob& vob = set.vob(place.front());
        const Cell& cell = set.cell(place.front());
        const std::int64_t first = vob.vobus[cell.first_vobu].start_pts;
        const Time end = begin + set.fields_to_time(cell.fields);
        for (std::size_t i = cell.first_vobu; i <= cell.last_vobu; ++i) {
            const Time until =
                i == cell.last_vobu ? end : begin + base::from_ticks(vob.vobus[i].end_pts - first, 90000);
            while (base::from_seconds(static_cast<double>((sectors.size() + 1) * unit)) < until)
                sectors.push_back(vob.vobus[i].sector);
        }
        begin = end;
    }
    return sectors;
}

// VTS_PTT_SRPT: the chapters of each title.
ByteWriter chapters_table(const TitleSet& set) {
    ByteWriter chapters;
    chapters.u16(set.titles.size());
    chapters.u16(0);
    chapters.u32(0);
    std::size_t at = 8 + 4 * set.titles.size();
    for (const DvdTitleSettings& title : set.titles) {
        chapters.u32(at);
        at += 4 * title.chapters.size();
    }
    for (std::size_t t = 0; t < set.titles.size(); ++t) {
        for (std::size_t i = 0; i < set.titles[t].chapters.size(); ++i) {
            chapters.u16(t + 1);
            chapters.u16(i + 1);
        }
    }
    close_table(chapters, 4);
    return chapters;
}

// VTS_PGCI: the program chain of each title.
ByteWriter chains_table(TitleSet& set) {
    ByteWriter chains;
    std::vector<ByteVector> pgcs;
    for (const DvdTitleSettings& title : set.titles) pgcs.push_back(make_pgc(set, title));
    chains.u16(pgcs.size());
    chains.u16(0);
    chains.u32(0);
    std::size_t at = 8 + 8 * pgcs.size();
    for (std::size_t i = 0; i < pgcs.size(); ++i) {
        chains.u32(0x80000000u | (i + 1) << 24);  // entry chain of this title
        chains.u32(at);
        at += pgcs[i].size();
    }
    for (const ByteVector& chain : pgcs) chains.raw(chain);
    close_table(chains, 4);
    return chains;
}

// VTS_TMAPTI: where each title is after every so many seconds.
ByteWriter times_table(TitleSet& set) {
    ByteWriter times;
    times.u16(set.titles.size());
    times.u16(0);
    times.u32(0);
    std::vector<ByteVector> maps;
    for (const DvdTitleSettings& title : set.titles) {
        const auto whole_seconds = static_cast<std::size_t>(base::to_seconds(set.fields_to_time(set.fields_of(title))));
        const std::size_t unit = whole_seconds / kMaxTimeMapEntries + 1;
        auto sectors = time_map(set, title, unit);
        sectors.resize(std::min(sectors.size(), whole_seconds / unit));
        ByteWriter map;
        map.u8(unit);
        map.u8(0);
        map.u16(sectors.size());
        for (const std::uint32_t sector : sectors) map.u32(sector);
        maps.push_back(map.release());
    }
    std::size_t at = 8 + 4 * maps.size();
    for (const ByteVector& map : maps) {
        times.u32(at);
        at += map.size();
    }
    for (const ByteVector& map : maps) times.raw(map);
    close_table(times, 4);
    return times;
}

// VTS_C_ADT: where cells lie.
ByteWriter cells_table(const TitleSet& set) {
    ByteWriter cells;
    cells.u16(set.vobs.size());
    cells.u16(0);
    cells.u32(0);
    for (std::size_t v = 0; v < set.vobs.size(); ++v) {
        const Vob& vob = set.vobs[v];
        for (std::size_t c = 0; c < vob.cells.size(); ++c) {
            // An interleaved cell has an entry for each of its units, here VOBUs.
            const auto entry = [&](std::uint32_t from, std::uint32_t to) {
                cells.u16(v + 1);
                cells.u8(c + 1);
                cells.u8(0);
                cells.u32(from);
                cells.u32(to);
            };
            const Cell& cell = vob.cells[c];
            if (!vob.angle) {
                entry(cell.first_sector, cell.last_sector);
                continue;
            }
            for (std::size_t i = cell.first_vobu; i <= cell.last_vobu; ++i)
                entry(vob.vobus[i].sector, vob.vobus[i].sector + vob.vobus[i].last);
        }
    }
    close_table(cells, 4);
    return cells;
}

// VTS_VOBU_ADMAP: where VOBUs begin.
ByteWriter vobu_table(const TitleSet& set) {
    ByteWriter vobu_map;
    vobu_map.u32(0);
    std::vector<std::uint32_t> all;
    for (const Vob& vob : set.vobs) {
        for (const Vobu& vobu : vob.vobus) all.push_back(vobu.sector);
    }
    std::sort(all.begin(), all.end());
    for (const std::uint32_t sector : all) vobu_map.u32(sector);
    close_table(vobu_map, 0);
    return vobu_map;
}

ByteVector make_vts_ifo(TitleSet& set) {
    ByteWriter out;
    out.text(mat::kVtsId);
    out.pad_to(kSector);
    std::size_t next = 1;
    const auto place = [&](std::size_t field, const ByteWriter& table) {
        out.put_u32(field, next);
        next += table.size() / kSector;
        out.raw(table.bytes());
    };
    place(mat::kVtsChapters, chapters_table(set));
    place(mat::kVtsPgcs, chains_table(set));
    place(mat::kVtsTimeMap, times_table(set));
    place(mat::kVtsCells, cells_table(set));
    place(mat::kVtsVobuMap, vobu_table(set));
    set.ifo_sectors = static_cast<std::uint32_t>(next);
    out.put_u32(mat::kLastSectorOfIfo, next - 1);
    out.put_u32(mat::kLastSectorOfSet, 2 * next + set.sectors - 1);
    out.put_u16(mat::kVersion, 0x0011);
    out.put_u32(mat::kMatEnd, mat::kVtsSize - 1);
    out.put_u32(mat::kVtsTitleVobs, next);
    ByteWriter attributes;
    put_attributes(attributes, set.settings);
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

ByteVector make_vmg_ifo(const std::vector<TitleSet>& sets) {
    // Two sectors of tables after the first; everything but the attributes of many title sets fits.
    ByteWriter attributes;
    attributes.u16(sets.size());
    attributes.u16(0);
    attributes.u32(0);
    constexpr std::size_t kEntry = 8 + (mat::kAttributesEnd - mat::kMenuAttributes);
    for (std::size_t i = 0; i < sets.size(); ++i) attributes.u32(8 + 4 * sets.size() + i * kEntry);
    for (const TitleSet& set : sets) {
        const std::size_t start = attributes.size();
        attributes.u32(kEntry - 1);
        attributes.u32(0);
        attributes.pad_to(start + 8 + (mat::kVideoAttributes - mat::kMenuAttributes));
        put_attributes(attributes, set.settings);
        attributes.pad_to(start + kEntry);
    }
    close_table(attributes, 4);

    const std::size_t ifo_sectors = 2 + attributes.size() / kSector;
    ByteWriter table;
    std::size_t titles = 0;
    for (const TitleSet& set : sets) titles += set.titles.size();
    table.u16(titles);
    table.u16(0);
    table.u32(0);
    std::size_t sector = 2 * ifo_sectors;  // the title sets follow this one's IFO and BUP
    for (std::size_t i = 0; i < sets.size(); ++i) {
        for (std::size_t t = 0; t < sets[i].titles.size(); ++t) {
            const DvdTitleSettings& title = sets[i].titles[t];
            std::size_t angles = 1;
            for (const auto& place : title.cells) angles = std::max(angles, place.size());
            table.u8(0x3C);  // one chain, all jumps allowed
            table.u8(angles);
            table.u16(title.chapters.size());
            table.u16(0);
            table.u8(i + 1);  // title set
            table.u8(t + 1);  // title within it
            table.u32(sector);
        }
        sector += 2 * sets[i].ifo_sectors + sets[i].sectors;
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
    out.put_u16(mat::kTitleSetCount, sets.size());
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

// Data of one audio or subtitle track on its way into packs.
struct Feed {
    bool is_audio = true;
    Codec codec = Codec::lpcm;
    int substream = 0;
    int channels = 2, bits = 16;
    std::size_t unit = 1;         // bytes that must not be parted
    std::size_t frame_bytes = 0;  // LPCM: of 1/600 s
    std::int64_t lead = 0;        // 27 MHz
    DecoderBuffer buffer{kLpcmBuffer};
    std::size_t buffer_size = kLpcmBuffer;
    ByteVector pending;
    std::int64_t position = 0;  // bytes already in packs
    struct Start {
        std::int64_t at;   // byte position where a frame or unit begins
        std::int64_t pts;  // 90 kHz
    };
    std::deque<Start> starts;
    std::int64_t frames = 0;  // taken in so far
    bool first_pack = true;
    std::vector<std::pair<std::int64_t, std::int64_t>> packs;  // sector in the VOB, pts: for SYNCI

    std::size_t header() const { return !is_audio ? 1 : codec == Codec::ac3 ? kAudioSubstreamHeader : kLpcmHeader; }
    // When the next pack's data is due.
    std::optional<std::int64_t> due() const {
        if (pending.empty()) return std::nullopt;
        return starts.empty() ? std::optional<std::int64_t>() : starts.front().pts;
    }
    std::size_t room() const { return (kSector - ps::kPackHeaderSize - kStampedPesHeader - header()) / unit * unit; }
};

}  // namespace

struct DvdWriter::State {
    explicit State(base::AtomicFolder made) : folder(std::move(made)) {}

    base::AtomicFolder folder;
    std::uint64_t file_limit = kMaxVobFile;
    std::vector<TitleSet> sets;

    // The set being written: its VOB files, cut at the limit.
    std::vector<AtomicFile> files;
    // The VOB being written.
    std::vector<Feed> feeds;
    std::int64_t now = 0;  // 27 MHz
    std::uint32_t vob_sectors = 0;
    DecoderBuffer video_buffer{kVideoBuffer};
    std::int64_t last_field_count = 0;  // of the previous picture
    std::int64_t late_packs = 0;
    bool first_video_pack = true;
    bool cell_begins = false;
    bool scrambled = false;
    bool in_angles = false;
    std::size_t first_angle = 0;
    int titles = 0;

    base::Path file(const std::string& name) const { return folder.path() / "VIDEO_TS" / name; }
    TitleSet& set() { return sets.back(); }
    Vob& vob() { return set().vobs.back(); }

    // A finished pack goes behind the VOBU being made.
    void put_sector(const ByteWriter& sector) {
        ByteVector& data = vob().vobus.back().data;
        data.insert(data.end(), sector.bytes().begin(), sector.bytes().end());
        ++vob_sectors;
        now += kPackTicks;
    }
    void note_deadline(std::int64_t deadline) {
        if (now + kPackTicks > deadline) ++late_packs;
    }
    void mark(ps::PesHeader& header) const { header.scrambled = scrambled; }

    void take_in(const DvdGroup& group);
    void write_pack(Feed& feed);
    void write_due_packs();
    Status write_out(Vobu& vobu);
    Status patch(std::uint64_t sector, ByteSpan bytes);
    Status add_group(const DvdGroup& group);
    Status write_navigation(std::size_t vob_index, std::size_t index);
};

void DvdWriter::State::take_in(const DvdGroup& group) {
    for (std::size_t i = 0; i < std::min(group.audio.size(), set().settings.audio.size()); ++i) {
        Feed& feed = feeds[i];
        for (const ByteVector& piece : group.audio[i]) {
            const auto begin = feed.position + static_cast<std::int64_t>(feed.pending.size());
            feed.pending.insert(feed.pending.end(), piece.begin(), piece.end());
            if (feed.codec == Codec::ac3) {
                feed.starts.push_back({begin, kFirstPts - kAc3DelayTicks + feed.frames++ * kAc3FrameTicks});
                continue;
            }
            const auto frame = static_cast<std::int64_t>(feed.frame_bytes);
            const auto end = begin + static_cast<std::int64_t>(piece.size());
            for (; feed.frames * frame < end; ++feed.frames)
                feed.starts.push_back({feed.frames * frame, kFirstPts + feed.frames * kLpcmFrameTicks});
        }
    }
    for (const DvdGroup::Subtitle& subtitle : group.subtitles) {
        Feed& feed = feeds[set().settings.audio.size() + static_cast<std::size_t>(subtitle.track)];
        feed.starts.push_back({feed.position + static_cast<std::int64_t>(feed.pending.size()),
                               kFirstPts + base::to_ticks(subtitle.at, 90000)});
        feed.pending.insert(feed.pending.end(), subtitle.unit.begin(), subtitle.unit.end());
    }
}

// One pack of an audio or subtitle track.
void DvdWriter::State::write_pack(Feed& feed) {
    std::size_t payload = std::min(feed.pending.size(), feed.room());
    const auto begin = feed.position;
    // A subtitle begins in a packet of its own, so that its timestamp is its own.
    if (!feed.is_audio) {
        for (const Feed::Start& start : feed.starts) {
            if (start.at > begin && start.at < begin + static_cast<std::int64_t>(payload)) {
                payload = static_cast<std::size_t>(start.at - begin);
                break;
            }
        }
    }
    const auto end = begin + static_cast<std::int64_t>(payload);
    std::int64_t frames = 0, first = 0;
    std::optional<std::int64_t> pts;
    std::int64_t last_pts = feed.starts.empty() ? now / 300 : feed.starts.front().pts;
    while (!feed.starts.empty() && feed.starts.front().at < end) {
        if (frames++ == 0) {
            pts = feed.starts.front().pts;
            first = feed.starts.front().at - begin;
        }
        last_pts = feed.starts.front().pts;
        feed.starts.pop_front();
    }
    ps::PesHeader header{
        .stream_id = ps::kPrivate1, .pts = pts, .dts = {}, .buffer_bound = {}, .stuffing = 0, .scrambled = false};
    mark(header);
    const std::size_t room = kSector - ps::kPackHeaderSize - ps::pes_header_size(header) - feed.header();
    std::size_t spare = room - payload;
    if (feed.first_pack && spare >= 3) {
        header.buffer_bound = 0x2000 | feed.buffer_size / 1024;
        spare -= 3;
    }
    if (spare < 6) {
        header.stuffing = spare;
        spare = 0;
    }
    now = feed.buffer.when_room(payload, now);
    if (pts) {
        note_deadline(*pts * 300);
        feed.packs.emplace_back(vob_sectors, *pts);
    }
    ByteWriter out;
    ps::write_pack_header(out, now, kMuxRate);
    ps::write_pes_header(out, header, feed.header() + payload);
    out.u8(static_cast<unsigned>(feed.substream));
    if (feed.is_audio) {
        // The pointer counts from the byte after itself; LPCM has three more bytes before the data.
        out.u8(static_cast<std::uint64_t>(frames));
        if (feed.codec == Codec::ac3) {
            out.u16(frames > 0 ? static_cast<std::uint64_t>(first) + 1 : 0u);
        } else {
            out.u16(frames > 0 ? static_cast<std::uint64_t>(first) + 4 : 0u);
            const auto frame = static_cast<std::int64_t>(feed.frame_bytes);
            out.u8(static_cast<std::uint64_t>((begin + frame - 1) / frame % 20));  // no emphasis, not muted, number
            out.u8(static_cast<unsigned>((feed.bits - 16) / 4 << 6 | (feed.channels - 1)));  // 48 kHz
            out.u8(0x80);                                                                    // no dynamic range control
        }
    }
    out.raw(ByteSpan(feed.pending).first(payload));
    if (spare > 0) ps::write_padding(out, spare);
    feed.first_pack = false;
    feed.pending.erase(feed.pending.begin(), feed.pending.begin() + static_cast<std::ptrdiff_t>(payload));
    feed.position = end;
    // It leaves the buffer when the frame that ends in it is heard.
    feed.buffer.add(payload, std::max(last_pts * 300, now));
    put_sector(out);
}

// Packs of tracks whose data comes due within their lead.
void DvdWriter::State::write_due_packs() {
    for (Feed& feed : feeds) {
        while (const auto due = feed.due()) {
            if (*due * 300 > now + feed.lead) break;
            // AudioFrames fills its packs; a subtitle's last pack is short.
            if (feed.is_audio && feed.pending.size() < feed.room()) break;
            if (!feed.buffer.has_room(std::min(feed.pending.size(), feed.room()), now)) break;
            write_pack(feed);
        }
    }
}

Status DvdWriter::State::write_out(Vobu& vobu) {
    vobu.sector = set().sectors;
    vobu.last = static_cast<std::uint32_t>(vobu.data.size() / kSector) - 1;
    for (std::size_t at = 0; at < vobu.data.size();) {
        if (files.empty() || files.back().size() >= file_limit) {
            const std::size_t part = files.size() + 1;
            if (part > 9) {
                return fail(ErrorKind::input, "a title set is larger than nine VOB files", folder.target().string(),
                            "make the sample shorter");
            }
            WAVECREST_TRY_ASSIGN(created, AtomicFile::create(file(fmt::format("VTS_{:02}_{}.VOB", sets.size(), part)),
                                                             AtomicFile::IfExists::refuse));
            files.push_back(std::move(created));
        }
        const auto count =
            static_cast<std::size_t>(std::min<std::uint64_t>(vobu.data.size() - at, file_limit - files.back().size()));
        WAVECREST_TRY(files.back().write(ByteSpan(vobu.data).subspan(at, count)));
        at += count;
    }
    set().sectors += vobu.last + 1;
    vobu.data = {};
    return {};
}

Status DvdWriter::State::patch(std::uint64_t sector, ByteSpan bytes) {
    const std::uint64_t offset = sector * kSector;
    return files[static_cast<std::size_t>(offset / file_limit)].write_at(offset % file_limit, bytes);
}

Status DvdWriter::State::add_group(const DvdGroup& group) {
    Vob& v = vob();
    const bool pal = set().settings.pal;
    // What was begun is finished only now: its audio may go on a little behind its pictures.
    if (!v.vobus.empty() && !in_angles) WAVECREST_TRY(write_out(v.vobus.back()));
    scrambled = group.scrambled;
    Vobu vobu;
    now = (now + 299) / 300 * 300;  // the navigation pack's clock is told in 90 kHz ticks
    vobu.clock = now / 300;
    vobu.start_pts = kFirstPts + field_ticks(v.fields, pal);
    if (std::exchange(cell_begins, false) || v.cells.empty())
        v.cells.push_back({v.vobus.size(), v.vobus.size(), 0, 0, 0});
    vobu.cell = static_cast<int>(v.cells.size()) - 1;
    const std::uint32_t first_sector = vob_sectors;
    v.vobus.push_back(std::move(vobu));

    ByteWriter blank;  // filled in when the addresses of all VOBUs are known
    blank.fill(kSector);
    put_sector(blank);
    take_in(group);

    // Where each picture's bytes end within the group, and when it is decoded: at the previous one's presentation.
    struct Unit {
        std::size_t end;
        std::int64_t decoded;  // 27 MHz
    };
    std::vector<Unit> units;
    ByteVector data;
    std::int64_t fields = v.fields;
    for (const DvdPicture& picture : group.pictures) {
        data.insert(data.end(), picture.data.begin(), picture.data.end());
        const std::int64_t decoded = kFirstPts + field_ticks(fields - (fields == 0 ? 2 : last_field_count), pal);
        units.push_back({data.size(), decoded * 300});
        last_field_count = picture.fields;
        fields += picture.fields;
    }

    std::size_t unit = 0;
    for (std::size_t at = 0; at < data.size();) {
        write_due_packs();
        ps::PesHeader header{
            .stream_id = ps::kFirstVideo, .pts = {}, .dts = {}, .buffer_bound = {}, .stuffing = 0, .scrambled = false};
        mark(header);
        if (at == 0) {
            header.pts = v.vobus.back().start_pts;
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
        const std::int64_t before = now;
        now = video_buffer.when_room(payload, now);
        if (now > before) write_due_packs();  // waiting for room: other tracks have theirs meanwhile
        note_deadline(units[unit].decoded);
        ByteWriter out;
        ps::write_pack_header(out, now, kMuxRate);
        ps::write_pes_header(out, header, payload);
        out.raw(ByteSpan(data).subspan(at, payload));
        if (spare > 0) ps::write_padding(out, spare);
        const std::uint32_t offset = vob_sectors - first_sector;
        std::size_t left = payload;
        while (left > 0) {
            const std::size_t part = std::min(left, units[unit].end - at);
            video_buffer.add(part, units[unit].decoded);
            at += part;
            left -= part;
            if (at == units[unit].end) {
                if (unit < 3) v.vobus.back().reference_ends[unit] = offset;
                if (unit + 1 < units.size()) ++unit;
            }
        }
        put_sector(out);
    }
    v.fields = fields;
    v.vobus.back().end_pts = kFirstPts + field_ticks(fields, pal);
    v.cells.back().last_vobu = v.vobus.size() - 1;
    for (const DvdPicture& picture : group.pictures) v.cells.back().fields += picture.fields;
    if (group.damage != DvdGroup::Damage::none) {
        std::uint32_t noise = 77;
        for (std::size_t i = kSector; i < v.vobus.back().data.size(); ++i) {
            noise = noise * 1664525u + 1013904223u;
            v.vobus.back().data[i] =
                group.damage == DvdGroup::Damage::zeros ? std::uint8_t{0} : static_cast<std::uint8_t>(noise >> 24);
        }
    }
    return {};
}

// Offsets of the search information, in steps of half a second, from the farthest (VOBU_SRI).
constexpr int kSearchSteps[19] = {240, 120, 60, 20, 15, 14, 13, 12, 11, 10, 9, 8, 7, 6, 5, 4, 3, 2, 1};

Status DvdWriter::State::write_navigation(std::size_t vob_index, std::size_t index) {
    const Vob& v = set().vobs[vob_index];
    const Vobu& vobu = v.vobus[index];
    const Cell& cell = v.cells[static_cast<std::size_t>(vobu.cell)];
    const std::uint32_t elapsed = encode_bcd_time(
        base::from_ticks(vobu.start_pts - v.vobus[cell.first_vobu].start_pts, 90000), set().settings.pal);

    ByteWriter out;
    ps::write_pack_header(out, vobu.clock * 300, kMuxRate);
    out.u32(0x00000100u | ps::kSystemHeader);
    out.u16(nav::kSystemHeaderSize - 6);
    out.u24(0x800001u | static_cast<std::uint64_t>(kMuxRate / 400) << 1);
    out.u8(std::max<std::size_t>(set().settings.audio.size(), 1) << 2);  // audio streams; not fixed rate
    out.u8(0xE1);                                                        // both clocks locked, one video stream
    out.u8(0x7F);
    out.u8(0xB9);  // all video: 232 KiB
    out.u16(0xE000 | kVideoBuffer / 1024);
    out.u8(0xB8);  // all audio
    out.u16(0xC000 | 4096 / 128);
    out.u8(ps::kPrivate1);
    out.u16(0xE000 | kLpcmBuffer / 1024);
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
    out.put_u16(dsi(nav::kDsiVob), vob_index + 1);
    out.put(dsi(nav::kDsiCell), ByteVector{static_cast<std::uint8_t>(vobu.cell + 1)});
    out.put_u32(dsi(nav::kDsiElapsed), elapsed);
    out.put_u32(dsi(nav::kDsiVobStart), static_cast<std::uint64_t>(v.vobus.front().start_pts));
    out.put_u32(dsi(nav::kDsiVobEnd), static_cast<std::uint64_t>(v.vobus.back().end_pts));
    if (v.angle) {
        // Every VOBU is an interleaved unit of its own.
        const bool more = index + 1 < v.vobus.size();
        out.put_u16(dsi(nav::kDsiUnit), nav::kInterleavedUnit | nav::kUnitStart | nav::kUnitEnd);
        out.put_u32(dsi(nav::kDsiUnitEnd), vobu.last);
        out.put_u32(dsi(nav::kDsiNextUnit), more ? v.vobus[index + 1].sector - vobu.sector : nav::kNoUnit);
        out.put_u16(dsi(nav::kDsiNextUnitSize), more ? v.vobus[index + 1].last + 1 : 0xFFFFu);
        for (std::size_t a = 0; a < v.angle_count && more; ++a) {
            const Vob& other = set().vobs[vob_index - v.angle_index + a];
            if (index + 1 >= other.vobus.size()) continue;
            out.put_u32(dsi(nav::kDsiAngles + 6 * a), other.vobus[index + 1].sector - vobu.sector);
            out.put_u16(dsi(nav::kDsiAngles + 6 * a + 4), other.vobus[index + 1].last + 1);
        }
    }

    // Search information stays within the cell.
    const auto forward = [&](std::int64_t half_seconds) {
        const std::int64_t target = vobu.start_pts + half_seconds * 45000;
        for (std::size_t i = index; i <= cell.last_vobu; ++i) {
            if (v.vobus[i].end_pts > target) return nav::kVobuHasVideo | (v.vobus[i].sector - vobu.sector);
        }
        return nav::kNoVobu;
    };
    const auto backward = [&](std::int64_t half_seconds) {
        const std::int64_t target = vobu.start_pts - half_seconds * 45000;
        for (std::size_t i = index + 1; i-- > cell.first_vobu;) {
            if (v.vobus[i].start_pts <= target) return nav::kVobuHasVideo | (vobu.sector - v.vobus[i].sector);
        }
        return nav::kNoVobu;
    };
    const bool has_next = index < cell.last_vobu;
    const bool has_previous = index > cell.first_vobu;
    const std::uint32_t next = has_next ? v.vobus[index + 1].sector - vobu.sector : nav::kNoVobu;
    const std::uint32_t previous = has_previous ? vobu.sector - v.vobus[index - 1].sector : nav::kNoVobu;
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

    // The audio packs that go with this VOBU's first picture; bit 15 says one lies before.
    for (std::size_t i = 0; i < vobu.audio_pack.size(); ++i) {
        if (!vobu.audio_pack[i]) continue;
        const std::int64_t distance = *vobu.audio_pack[i];
        out.put_u16(dsi(nav::kDsiSync + 2 * i),
                    static_cast<std::uint64_t>(distance < 0 ? 0x8000 | -distance : distance));
    }
    return patch(vobu.sector, out.bytes());
}

DvdWriter::DvdWriter(std::unique_ptr<State> state) : state_(std::move(state)) {}
DvdWriter::DvdWriter(DvdWriter&&) noexcept = default;
DvdWriter::~DvdWriter() = default;

Result<DvdWriter> DvdWriter::create(const base::Path& target, std::uint64_t file_limit) {
    WAVECREST_TRY_ASSIGN(folder, base::AtomicFolder::create(target));
    for (const char* inside : {"VIDEO_TS", "AUDIO_TS"}) {
        std::error_code error;
        std::filesystem::create_directories(folder.path() / inside, error);
        if (error) {
            return fail(ErrorKind::machine, "the folder can't be made: " + error.message(), target.string(),
                        "choose a folder you may write to");
        }
    }
    auto state = std::make_unique<State>(std::move(folder));
    state->file_limit = std::min(file_limit, kMaxVobFile) / kSector * kSector;
    return DvdWriter(std::move(state));
}

Status DvdWriter::begin_set(const DvdSetSettings& settings) {
    State& s = *state_;
    s.sets.emplace_back();
    s.set().settings = settings;
    s.files.clear();
    return {};
}

int DvdWriter::begin_vob() {
    State& s = *state_;
    s.set().vobs.emplace_back();
    s.vob().angle = s.in_angles;
    s.now = s.last_field_count = s.late_packs = 0;
    s.vob_sectors = 0;
    s.video_buffer = DecoderBuffer(kVideoBuffer);
    s.first_video_pack = true;
    s.feeds.clear();
    const DvdSetSettings& settings = s.set().settings;
    for (std::size_t i = 0; i < settings.audio.size(); ++i) {
        const DvdAudio& audio = settings.audio[i];
        Feed feed;
        feed.codec = audio.codec;
        feed.channels = audio.channels;
        feed.bits = audio.bits;
        const bool ac3 = audio.codec == Codec::ac3;
        feed.substream = (ac3 ? kAc3Stream : kLpcmStream) + track_number(settings, i);
        const int group = audio.channels * audio.bits / 8 * (audio.bits == 16 ? 1 : 2);
        feed.unit = ac3 ? 1 : static_cast<std::size_t>(group);
        feed.frame_bytes = static_cast<std::size_t>(kLpcmFrameSamples * audio.channels * audio.bits / 8);
        feed.lead = ac3 ? kAc3Lead : kLpcmLead;
        feed.buffer_size = ac3 ? kAc3Buffer : kLpcmBuffer;
        feed.buffer = DecoderBuffer(feed.buffer_size);
        s.feeds.push_back(std::move(feed));
    }
    for (std::size_t i = 0; i < settings.subtitles.size(); ++i) {
        Feed feed;
        feed.is_audio = false;
        feed.codec = Codec::dvd_subpicture;
        feed.substream = kSubpictureStream + static_cast<int>(i);
        feed.lead = kSubpictureLead;
        feed.buffer_size = kSubpictureBuffer;
        feed.buffer = DecoderBuffer(kSubpictureBuffer);
        s.feeds.push_back(std::move(feed));
    }
    return static_cast<int>(s.set().vobs.size());
}

int DvdWriter::begin_cell() {
    state_->cell_begins = true;
    return static_cast<int>(state_->vob().cells.size()) + 1;
}

Status DvdWriter::add_group(const DvdGroup& group) {
    return state_->add_group(group);
}

Status DvdWriter::end_vob() {
    State& s = *state_;
    Vob& v = s.vob();
    if (v.vobus.empty())
        return fail(ErrorKind::input, "the title has no video", s.folder.target().string(), "give it a length");
    // The rest of the audio, LPCM in whole frames, belongs to the last VOBU.
    for (Feed& feed : s.feeds) {
        if (feed.is_audio && feed.codec == Codec::lpcm) {
            const auto frame = static_cast<std::int64_t>(feed.frame_bytes);
            const std::int64_t end = feed.position + static_cast<std::int64_t>(feed.pending.size());
            feed.pending.resize(static_cast<std::size_t>((end + frame - 1) / frame * frame - feed.position));
        }
    }
    // In the order in which they are due.
    while (true) {
        Feed* first = nullptr;
        for (Feed& feed : s.feeds) {
            if (!feed.pending.empty() && (first == nullptr || feed.due().value_or(0) < first->due().value_or(0)))
                first = &feed;
        }
        if (first == nullptr) break;
        s.write_pack(*first);
    }
    if (s.late_packs > 0) {
        return fail(ErrorKind::input, fmt::format("{} packs of the title are late (decoder buffer)", s.late_packs),
                    s.folder.target().string(), "lower the video bit rate");
    }
    // Which audio packs go with which VOBU; sectors counted in the VOB, where angles keep their own order.
    std::int64_t at = 0;
    for (std::size_t i = 0; i < v.vobus.size(); ++i) {
        Vobu& vobu = v.vobus[i];
        for (std::size_t k = 0; k < s.set().settings.audio.size(); ++k) {
            const auto& packs = s.feeds[k].packs;
            const auto pack =
                std::find_if(packs.begin(), packs.end(), [&](const auto& p) { return p.second >= vobu.start_pts; });
            std::optional<std::int64_t> distance;
            if (pack != packs.end()) distance = pack->first - at;
            vobu.audio_pack.push_back(distance);
        }
        at += vobu.data.empty() ? vobu.last + 1 : static_cast<std::int64_t>(vobu.data.size() / kSector);
    }
    if (s.in_angles) return {};
    WAVECREST_TRY(s.write_out(v.vobus.back()));
    for (Cell& cell : v.cells) {
        cell.first_sector = v.vobus[cell.first_vobu].sector;
        cell.last_sector = v.vobus[cell.last_vobu].sector + v.vobus[cell.last_vobu].last;
    }
    for (std::size_t i = 0; i < v.vobus.size(); ++i) WAVECREST_TRY(s.write_navigation(s.set().vobs.size() - 1, i));
    return {};
}

void DvdWriter::begin_angles() {
    state_->in_angles = true;
    state_->first_angle = state_->set().vobs.size();
}

Status DvdWriter::end_angles() {
    State& s = *state_;
    s.in_angles = false;
    auto& vobs = s.set().vobs;
    std::size_t longest = 0;
    for (std::size_t a = s.first_angle; a < vobs.size(); ++a) {
        vobs[a].angle_index = a - s.first_angle;
        vobs[a].angle_count = vobs.size() - s.first_angle;
        longest = std::max(longest, vobs[a].vobus.size());
    }
    for (std::size_t i = 0; i < longest; ++i) {
        for (std::size_t a = s.first_angle; a < vobs.size(); ++a) {
            if (i < vobs[a].vobus.size()) WAVECREST_TRY(s.write_out(vobs[a].vobus[i]));
        }
    }
    for (std::size_t a = s.first_angle; a < vobs.size(); ++a) {
        for (Cell& cell : vobs[a].cells) {
            cell.first_sector = vobs[a].vobus[cell.first_vobu].sector;
            cell.last_sector = vobs[a].vobus[cell.last_vobu].sector + vobs[a].vobus[cell.last_vobu].last;
        }
        for (std::size_t i = 0; i < vobs[a].vobus.size(); ++i) WAVECREST_TRY(s.write_navigation(a, i));
    }
    return {};
}

int DvdWriter::add_title(const DvdTitleSettings& settings) {
    state_->set().titles.push_back(settings);
    return ++state_->titles;
}

Status DvdWriter::end_set() {
    State& s = *state_;
    for (AtomicFile& file : s.files) WAVECREST_TRY(file.commit());
    s.files.clear();
    const ByteVector ifo = make_vts_ifo(s.set());
    for (const char* extension : {"IFO", "BUP"}) {
        WAVECREST_TRY(base::write_file(s.file(fmt::format("VTS_{:02}_0.{}", s.sets.size(), extension)), ifo,
                                       AtomicFile::IfExists::refuse));
    }
    return {};
}

Status DvdWriter::finish() {
    State& s = *state_;
    const ByteVector ifo = make_vmg_ifo(s.sets);
    for (const char* name : {"VIDEO_TS.IFO", "VIDEO_TS.BUP"}) {
        WAVECREST_TRY(base::write_file(s.file(name), ifo, AtomicFile::IfExists::refuse));
    }
    return s.folder.commit();
}

}  // namespace wavecrest::disc
