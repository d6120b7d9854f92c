#include "disc/dvd_reader.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>
#include <set>

#include "base/byte_source.hpp"
#include "base/units.hpp"
#include "bitstream/audio_frames.hpp"
#include "bitstream/lpcm.hpp"
#include "bitstream/mpeg2.hpp"
#include "container/mpeg_ps.hpp"
#include "disc/dvd_format.hpp"
#include "disc/dvd_tables.hpp"
#include "disc/dvd_title_source.hpp"

namespace wavecrest::disc {
namespace {

using namespace dvd;
namespace ps = container::ps;
namespace mpeg2 = bitstream::mpeg2;

constexpr std::size_t kProbeSectors = 500;  // at each of two places: one to three groups of pictures
constexpr int kProtectionSamples = 64;
constexpr std::uint64_t kMaxIfo = 8 << 20;
constexpr int kMostSets = 99;
constexpr std::size_t kMostCells = 5000;
constexpr std::size_t kRateReads = 2000;

// A duration in ticks, put back on the exact grid of fields it was rounded from.
Time snap_to_fields(std::int64_t ticks, bool pal) {
    if (pal) return base::from_ticks(base::rescale(ticks, 1, 1800) * 1800, 90000);
    return base::frames_to_time(base::rescale(ticks, 2, 3003), {60000, 1001});
}

// What the streams at one place say.
struct Probe {
    std::optional<mpeg2::Sequence> sequence;
    int frames = 0, repeated = 0, progressive = 0;
    bool captions = false;
    std::map<TrackId, bitstream::AudioHeader> audio;
    std::map<TrackId, bitstream::DvdLpcmHeader> lpcm;
    std::set<TrackId> subpictures;
};

Probe probe_at(base::ByteSource& source, std::uint32_t first) {
    Probe probe;
    mpeg2::AccessUnitSplitter splitter;
    std::vector<mpeg2::AccessUnit> units;
    ps::PackContents contents;
    ByteVector sectors(kProbeSectors * kSector);
    const auto got = source.read_at(std::uint64_t{first} * kSector, sectors);
    if (!got) return probe;
    const auto look_for_frame = [&](TrackId id, Codec codec, ByteSpan data) {
        if (probe.audio.contains(id)) return;
        for (std::size_t at = 0; at + bitstream::kAudioHeaderBytes <= data.size(); ++at) {
            const auto header = bitstream::parse_audio_header(codec, data.subspan(at));
            if (!header || header->dependent) continue;
            const std::size_t next = at + header->bytes;
            // Where the next one lies in the same packet, it must be there.
            if (next + bitstream::kAudioHeaderBytes <= data.size() &&
                !bitstream::parse_audio_header(codec, data.subspan(next)))
                continue;
            probe.audio[id] = *header;
            return;
        }
    };
    for (std::size_t at = 0; at + kSector <= *got; at += kSector) {
        ps::parse_packs(ByteSpan(sectors).subspan(at, kSector), contents);
        for (const ps::PesPacket& packet : contents.packets) {
            if (packet.scrambled || packet.payload.empty()) continue;
            const ByteSpan data = packet.payload;
            if (packet.stream_id == ps::kFirstVideo) {
                splitter.push(data, {}, {}, 0, units);
            } else if (packet.stream_id >= ps::kFirstAudio && packet.stream_id < ps::kFirstAudio + 8) {
                look_for_frame(packet.stream_id, Codec::mp2, data);
            } else if (packet.stream_id == ps::kPrivate1) {
                const int substream = data[0];
                if (substream >= kSubpictureStream && substream < kSubpictureStream + 32) {
                    probe.subpictures.insert(substream);
                } else if (substream >= kAc3Stream && substream < kDtsStream + 8 &&
                           data.size() > kAudioSubstreamHeader) {
                    look_for_frame(substream, substream < kDtsStream ? Codec::ac3 : Codec::dts,
                                   data.subspan(kAudioSubstreamHeader));
                } else if (substream >= kLpcmStream && substream < kLpcmStream + 8) {
                    if (const auto header = bitstream::parse_dvd_lpcm_header(data.subspan(1)))
                        probe.lpcm[substream] = *header;
                }
            }
        }
    }
    probe.sequence = splitter.sequence();
    if (!probe.sequence) return probe;
    for (const mpeg2::AccessUnit& unit : units) {
        ++probe.frames;
        probe.repeated += unit.picture.repeat_first_field ? 1 : 0;
        probe.progressive += unit.picture.progressive_frame || probe.sequence->progressive ? 1 : 0;
        probe.captions = probe.captions || mpeg2::has_closed_captions(unit.data);
    }
    return probe;
}

}  // namespace

struct DvdDisc::State {
    struct TitleSet {
        TitleSetTables tables;
        std::shared_ptr<VobRun> run;
        bool rebuilt = false;
    };
    std::shared_ptr<DiscFiles> files;
    std::string folder;  // of the tables: "VIDEO_TS" or ""
    std::vector<DvdTitle> titles;
    std::vector<std::string> notes;
    std::map<int, TitleSet> sets;
    std::map<std::pair<int, std::uint32_t>, Probe> probes;

    std::string in_folder(const std::string& name) const { return folder.empty() ? name : folder + "/" + name; }

    Result<ByteVector> load(const std::string& name) const {
        WAVECREST_TRY_ASSIGN(file, files->open(in_folder(name)));
        if (file->size() == 0) return fail(ErrorKind::input, "the file is empty", file->name(), "rip the disc again");
        if (file->size() > kMaxIfo) {
            return fail(ErrorKind::input, "the file is too large for a table file", file->name(),
                        "check that this is a ripped DVD");
        }
        return base::read_exactly(*file, 0, static_cast<std::size_t>(file->size()));
    }

    // Reads a table file, or its twin when it can't be used.
    template <typename Parse>
    auto load_tables(const std::string& stem, Parse parse) -> decltype(parse(ByteSpan{}, std::string{})) {
        const auto one = [&](const std::string& name) -> decltype(parse(ByteSpan{}, std::string{})) {
            WAVECREST_TRY_ASSIGN(bytes, load(name));
            return parse(bytes, files->path() + "/" + in_folder(name));
        };
        auto tables = one(stem + ".IFO");
        if (tables) return tables;
        auto twin = one(stem + ".BUP");
        if (!twin) return tables;
        notes.push_back(fmt::format("backup {2}.BUP used; {0}.IFO unreadable ({1})", stem, tables.error().what, stem));
        return twin;
    }

    void open_vobs(int number, TitleSet& set);
    void rebuild(int number, TitleSet& set);
    Result<TitleSet*> title_set(int number);
    Status read_disc();
    Status read_title(const TitleSet& set, int title_in_set, DvdTitle& title);
    void read_tracks(const TitleSet& set, const TitleSetTables::Chain& chain, DvdTitle& title);
    void measure(const TitleSet& set, DvdTitle& title);
    void probe(const TitleSet& set, DvdTitle& title);
    const Probe& probed(const TitleSet& set, int number, std::uint32_t sector) {
        const auto [it, fresh] = probes.try_emplace({number, sector});
        if (fresh) it->second = probe_at(*set.run, sector);
        return it->second;
    }
};

void DvdDisc::State::open_vobs(int number, TitleSet& set) {
    set.run = std::make_shared<VobRun>();
    std::vector<std::pair<int, std::unique_ptr<base::ByteSource>>> parts;
    std::uint64_t present = 0;
    for (int part = 1; part <= 9; ++part) {
        const std::string name = fmt::format("VTS_{:02}_{}.VOB", number, part);
        if (find_entry(*files, folder, name).name.empty()) continue;
        auto file = files->open(in_folder(name));
        if (!file) {
            notes.push_back(fmt::format("{}: {}", name, file.error().what));
            continue;
        }
        if ((*file)->size() % kSector != 0)
            notes.push_back(fmt::format("{} is truncated: it ends inside a sector", name));
        present += (*file)->size();
        parts.emplace_back(part, std::move(*file));
    }
    // What the cells say the files hold in all; a missing part takes what the others leave.
    std::uint64_t needed = 0;
    for (const auto& chain : set.tables.chains) {
        for (const auto& cell : chain.cells) needed = std::max(needed, (std::uint64_t{cell.last_sector} + 1) * kSector);
    }
    int expected = 1;
    const int last = parts.empty() ? 0 : parts.back().first;
    const int missing = last - static_cast<int>(parts.size());
    for (auto& [part, file] : parts) {
        for (; expected < part; ++expected) {
            const std::string name = fmt::format("VTS_{:02}_{}.VOB", number, expected);
            const std::uint64_t size = needed > present ? (needed - present) / static_cast<std::uint64_t>(missing) : 0;
            notes.push_back(fmt::format("{} is missing: part of the titles is lost", name));
            set.run->add_missing(name, size / kSector * kSector);
        }
        set.run->add(std::move(file));
        ++expected;
    }
    if (set.run->empty()) notes.push_back(fmt::format("title set {} has no VOB files", number));
}

// Without tables: the streams' navigation packs name their VOB and cell, and where the next VOBU is.
void DvdDisc::State::rebuild(int number, TitleSet& set) {
    set.rebuilt = true;
    TitleSetTables& tables = set.tables;
    TitleSetTables::Chain chain;
    chain.palette.assign(64, 0x80);
    const std::uint64_t sectors = set.run->size() / kSector;
    ByteVector bytes(kSector);
    std::uint32_t sector = 0;
    while (sector < sectors && chain.cells.size() < kMostCells) {
        const auto got = set.run->read_at(std::uint64_t{sector} * kSector, bytes);
        const auto n = got && *got == kSector ? parse_navigation(bytes) : std::nullopt;
        if (!n) {
            ++sector;
            continue;
        }
        const std::uint32_t end =
            std::min<std::uint32_t>(sector + n->last_sector, static_cast<std::uint32_t>(sectors - 1));
        if (chain.cells.empty() || chain.cells.back().vob != n->vob || chain.cells.back().cell != n->cell) {
            TitleSetTables::Cell cell;
            cell.new_clock = chain.cells.empty() || chain.cells.back().vob != n->vob;
            cell.vob = n->vob;
            cell.cell = n->cell;
            cell.first_sector = sector;
            chain.cells.push_back(cell);
            chain.programs.push_back(static_cast<int>(chain.cells.size()));
        }
        chain.cells.back().last_vobu = sector;
        chain.cells.back().last_sector = end;
        tables.vobus.push_back(sector);
        sector = end + 1;
    }
    if (chain.cells.empty()) return;
    // The streams that are there, as the probe finds them, with nothing known about them.
    const Probe& found = probed(set, number, chain.cells[chain.cells.size() / 2].first_sector);
    tables.video = 0x4000;
    if (found.sequence && found.sequence->height == 576) tables.video |= 0x1000;
    if (found.sequence && found.sequence->aspect_code == 3) tables.video |= 0x0C00;
    const auto add = [&](AudioMode mode, int stream) {
        const std::size_t index = tables.audio.size();
        if (index >= 8) return;
        TitleSetTables::Audio audio;
        audio.coding = static_cast<int>(mode);
        tables.audio.push_back(audio);
        chain.audio[index] = static_cast<std::uint16_t>(0x8000 | stream << 8);
    };
    for (const auto& [id, header] : found.audio) {
        if (header.codec == Codec::ac3) add(AudioMode::ac3, id - kAc3Stream);
        if (header.codec == Codec::dts) add(AudioMode::dts, id - kDtsStream);
        if (header.codec == Codec::mp2) add(AudioMode::mpeg2, id - ps::kFirstAudio);
    }
    for (const auto& [id, header] : found.lpcm) add(AudioMode::lpcm, id - kLpcmStream);
    for (const TrackId id : found.subpictures) {
        const std::size_t index = tables.subpictures.size();
        const auto stream = static_cast<std::uint32_t>(id - kSubpictureStream);
        tables.subpictures.emplace_back();
        chain.subpicture[index] = 0x80000000u | stream << 24 | stream << 16 | stream << 8 | stream;
    }
    std::vector<TitleSetTables::Chapter> chapters;
    for (std::size_t i = 0; i < chain.cells.size(); ++i) chapters.push_back({1, static_cast<int>(i + 1)});
    tables.chains.push_back(std::move(chain));
    tables.titles.push_back(std::move(chapters));
}

Result<DvdDisc::State::TitleSet*> DvdDisc::State::title_set(int number) {
    if (const auto found = sets.find(number); found != sets.end()) return &found->second;
    TitleSet set;
    auto tables = load_tables(fmt::format("VTS_{:02}_0", number),
                              [](ByteSpan bytes, const std::string& name) { return parse_title_set(bytes, name); });
    if (tables) {
        set.tables = std::move(*tables);
        for (const std::string& text : set.tables.notes) notes.push_back(fmt::format("title set {}: {}", number, text));
        open_vobs(number, set);
    } else {
        open_vobs(number, set);
        if (!set.run->empty()) rebuild(number, set);
        if (set.tables.chains.empty()) return fail(tables.error());
        notes.push_back(
            fmt::format("tables of title set {} unreadable ({}): its title was rebuilt from the streams, without "
                        "languages, with a chapter per cell",
                        number, tables.error().what));
    }
    return &sets.emplace(number, std::move(set)).first->second;
}

Status DvdDisc::State::read_disc() {
    auto manager =
        load_tables("VIDEO_TS", [](ByteSpan bytes, const std::string& name) { return parse_manager(bytes, name); });
    std::optional<Error> first_error;
    const auto failed = [&](const Error& error) {
        if (!first_error) first_error = error;
    };
    if (!manager) {
        failed(manager.error());
        // Without the list of titles: all titles of all sets there are.
        ManagerTables list;
        for (int set = 1; set <= kMostSets; ++set) {
            bool there = false;
            for (const char* name : {"VTS_{:02}_0.IFO", "VTS_{:02}_0.BUP", "VTS_{:02}_1.VOB"})
                there = there || !find_entry(*files, folder, fmt::format(fmt::runtime(name), set)).name.empty();
            if (!there) break;
            const auto tables = title_set(set);
            if (!tables) {
                failed(tables.error());
                continue;
            }
            for (std::size_t i = 0; i < (*tables)->tables.titles.size(); ++i)
                list.titles.push_back({1, 0, set, static_cast<int>(i + 1)});
        }
        if (list.titles.empty()) return fail(*first_error);
        notes.push_back(
            fmt::format("title list unreadable ({}): the titles of all sets were taken", manager.error().what));
        manager = std::move(list);
    }
    for (std::size_t i = 0; i < manager->titles.size(); ++i) {
        const ManagerTables::Title& entry = manager->titles[i];
        DvdTitle title;
        title.number = static_cast<int>(i + 1);
        title.title_set = entry.title_set;
        title.angles = entry.angles;
        const auto set = title_set(entry.title_set);
        if (!set) {
            failed(set.error());
            notes.push_back(fmt::format("title {} can't be read: {}", title.number, set.error().what));
            continue;
        }
        if (const auto status = read_title(**set, entry.title_in_set, title); !status) {
            failed(status.error());
            notes.push_back(fmt::format("title {} can't be read: {}", title.number, status.error().what));
            continue;
        }
        measure(**set, title);
        probe(**set, title);
        titles.push_back(std::move(title));
    }
    if (titles.empty()) return fail(*first_error);
    return {};
}

Status DvdDisc::State::read_title(const TitleSet& set, int title_in_set, DvdTitle& title) {
    const TitleSetTables& tables = set.tables;
    const auto damaged = [&](std::string what) {
        return fail(ErrorKind::input, std::move(what), fmt::format("{}, title set {}", files->path(), title.title_set),
                    "the disc's tables are damaged; make the rip again");
    };
    const auto index = static_cast<std::size_t>(title_in_set - 1);
    if (title_in_set < 1 || index >= tables.titles.size())
        return damaged(fmt::format("there is no title {} in the set", title_in_set));
    const auto& chapters = tables.titles[index];
    if (chapters.empty()) return damaged("the title has no chapters");

    // Its program chains, in the order of its chapters; chains that follow and belong to no other title come last.
    std::vector<int> chains;
    const auto add = [&](int chain) {
        const bool usable = chain >= 1 && static_cast<std::size_t>(chain) <= tables.chains.size() &&
                            !tables.chains[static_cast<std::size_t>(chain - 1)].cells.empty();
        if (usable && std::find(chains.begin(), chains.end(), chain) == chains.end()) chains.push_back(chain);
        return usable;
    };
    for (const auto& chapter : chapters) add(chapter.chain);
    if (chains.empty()) return damaged("the title's program chains can't be read");
    const auto claimed = [&](int chain) {
        return std::any_of(tables.titles.begin(), tables.titles.end(), [&](const auto& list) {
            return std::any_of(list.begin(), list.end(), [&](const auto& c) { return c.chain == chain; });
        });
    };
    for (std::size_t i = 0; i < 99; ++i) {
        const int next = tables.chains[static_cast<std::size_t>(chains.back() - 1)].next;
        const std::size_t before = chains.size();
        if (next == 0 || claimed(next) || !add(next) || chains.size() == before) break;
    }
    std::map<int, std::size_t> first_cell;  // of each chain, in the title's cells
    for (const int number : chains) {
        const auto& chain = tables.chains[static_cast<std::size_t>(number - 1)];
        first_cell[number] = title.cells.size();
        int angle = 0;
        for (const auto& from : chain.cells) {
            if (from.block_mode <= 1) angle = 0;
            if (from.angle_block && from.block_mode != 0) ++angle;
            DvdCell cell;
            cell.angle = angle;
            cell.duration = from.duration;
            cell.first_sector = from.first_sector;
            cell.last_sector = from.last_sector;
            cell.last_vobu = from.last_vobu;
            cell.new_clock = from.new_clock;
            cell.interleaved = from.interleaved;
            cell.vob = from.vob;
            cell.cell = from.cell;
            title.cells.push_back(cell);
            if (from.block_mode == 3) angle = 0;
            title.angles = std::max(title.angles, cell.angle);
        }
    }
    if (title.cells.size() > kMostCells) return damaged("the title has too many cells");
    for (std::size_t i = 0; i < chapters.size(); ++i) {
        const auto found = first_cell.find(chapters[i].chain);
        if (found == first_cell.end()) continue;
        const auto& chain = tables.chains[static_cast<std::size_t>(chapters[i].chain - 1)];
        const auto program = static_cast<std::size_t>(chapters[i].program - 1);
        if (chapters[i].program < 1 || program >= chain.programs.size()) {
            notes.push_back(
                fmt::format("title {}: chapter {} names a program that does not exist", title.number, i + 1));
            continue;
        }
        // Until the durations are measured a chapter's start is the number of its cell.
        title.chapters.push_back({Time(static_cast<std::int64_t>(found->second) + chain.programs[program] - 1),
                                  fmt::format("Chapter {}", i + 1)});
    }
    read_tracks(set, tables.chains[static_cast<std::size_t>(chains.front() - 1)], title);
    return {};
}

// Durations and sizes from the data where it is readable.
void DvdDisc::State::measure(const TitleSet& set, DvdTitle& title) {
    const bool pal = (set.tables.video >> 12 & 3) == 1;
    ByteVector bytes(kSector);
    const auto navigation = [&](std::uint32_t sector) {
        const auto got = set.run->read_at(std::uint64_t{sector} * kSector, bytes);
        return got && *got == kSector ? parse_navigation(bytes) : std::nullopt;
    };
    Time told{}, measured{};
    std::vector<Time> starts;
    const std::uint64_t there = set.run->size() / kSector;
    std::uint64_t short_by = 0;
    for (DvdCell& cell : title.cells) {
        starts.push_back(title.duration);
        if (cell.last_sector >= there)
            short_by += cell.last_sector - std::max<std::uint64_t>(there, cell.first_sector) + 1;
        const Time from_table = cell.duration;
        const auto first = navigation(cell.first_sector);
        auto last = navigation(cell.last_vobu);
        // In an interleaved cell the last VOBU of the run may be another angle's.
        if (last && first && cell.interleaved && (last->vob != first->vob || last->cell != first->cell)) last.reset();
        if (first && last && last->end > first->start) cell.duration = snap_to_fields(last->end - first->start, pal);
        if (cell.angle <= 1) {
            told += from_table;
            measured += cell.duration;
            title.duration += cell.duration;
        }
        std::uint64_t sectors = std::uint64_t{cell.last_sector} - cell.first_sector + 1;
        if (cell.interleaved) {
            const auto of_block = std::count_if(title.cells.begin(), title.cells.end(), [&](const DvdCell& c) {
                return c.angle != 0 && c.first_sector <= cell.last_sector && cell.first_sector <= c.last_sector;
            });
            sectors /= static_cast<std::uint64_t>(std::max<std::ptrdiff_t>(1, of_block));
        }
        if (cell.angle <= 1) title.size_bytes += sectors * kSector;
    }
    for (Chapter& chapter : title.chapters) chapter.start = starts[static_cast<std::size_t>(chapter.start.count())];
    // Several chapters may name one cell, and a damaged table any: in order, each once.
    std::stable_sort(title.chapters.begin(), title.chapters.end(),
                     [](const Chapter& a, const Chapter& b) { return a.start < b.start; });
    for (Track& track : title.tracks) track.duration = title.duration;
    if (!set.rebuilt && std::abs(base::to_seconds(told - measured)) >= 1) {
        title.differences.push_back(
            fmt::format("declared duration {}, actual {}", base::format_clock(told), base::format_clock(measured)));
    }
    if (short_by > 0) {
        title.problems.push_back({fmt::format("{} sectors missing", short_by), {}, title.duration});
    }
}

void DvdDisc::State::read_tracks(const TitleSet& set, const TitleSetTables::Chain& chain, DvdTitle& title) {
    const TitleSetTables& tables = set.tables;
    Track video;
    video.id = kDvdVideoTrack;
    video.kind = TrackKind::video;
    video.codec = (tables.video >> 14) == 1 ? Codec::mpeg2 : Codec::mpeg1;
    const bool pal = (tables.video >> 12 & 3) == 1;
    const bool wide = (tables.video >> 10 & 3) == 3;
    constexpr int kWidths[] = {720, 704, 352, 352};
    const int resolution = tables.video >> 3 & 7;
    video.width = kWidths[resolution & 3];
    video.height = (pal ? 576 : 480) / (resolution == 3 ? 2 : 1);
    video.pixel_aspect = base::reduced({(wide ? 16L : 4L) * video.height, (wide ? 9L : 3L) * video.width});
    video.frame_rate = pal ? Ratio{25, 1} : Ratio{30000, 1001};
    video.bit_depth = 8;
    // Line 21 captions are announced for the first and the second field.
    video.closed_captions = (tables.video & 0xC0) != 0 && !pal;
    title.tracks.push_back(video);

    for (std::size_t i = 0; i < tables.audio.size(); ++i) {
        if ((chain.audio[i] & 0x8000) == 0) continue;
        const int stream = chain.audio[i] >> 8 & 7;
        const TitleSetTables::Audio& from = tables.audio[i];
        Track audio;
        audio.kind = TrackKind::audio;
        audio.channels = from.channels;
        audio.sample_rate = 48000;
        audio.language = from.language;
        audio.purpose = from.purpose_code == kForVisuallyImpaired ? Purpose::described
                        : from.purpose_code == kCommentary || from.purpose_code == kOtherCommentary
                            ? Purpose::commentary
                            : Purpose::main;
        switch (static_cast<AudioMode>(from.coding)) {
            case AudioMode::ac3:
                audio.codec = Codec::ac3;
                audio.id = kAc3Stream + stream;
                break;
            case AudioMode::mpeg1:
            case AudioMode::mpeg2:
                audio.codec = Codec::mp2;
                audio.id = ps::kFirstAudio + stream;
                break;
            case AudioMode::dts:
                audio.codec = Codec::dts;
                audio.id = kDtsStream + stream;
                break;
            case AudioMode::lpcm:
                audio.codec = Codec::lpcm;
                audio.id = kLpcmStream + stream;
                audio.bit_depth = 16 + 4 * std::min(from.quantization, 2);
                audio.sample_rate = from.sample_rate_code == 1 ? 96000 : 48000;
                audio.bitrate_bps = std::int64_t{audio.sample_rate} * audio.channels * audio.bit_depth;
                break;
            default:
                continue;
        }
        title.tracks.push_back(audio);
    }
    for (std::size_t i = 0; i < std::min(tables.subpictures.size(), chain.subpicture.size()); ++i) {
        if ((chain.subpicture[i] & 0x80000000) == 0) continue;
        const TitleSetTables::Subpicture& from = tables.subpictures[i];
        Track track;
        track.kind = TrackKind::subtitle;
        track.codec = Codec::dvd_subpicture;
        track.id = kSubpictureStream + static_cast<int>(chain.subpicture[i] >> (wide ? 16 : 24) & 31);
        track.language = from.language;
        track.forced = from.purpose_code == kForcedSubtitles;
        track.purpose = from.purpose_code >= kCaptions && from.purpose_code <= kLargeCaptions + 1 ? Purpose::captions
                        : from.purpose_code >= kCommentarySubtitles                               ? Purpose::commentary
                                                                                                  : Purpose::main;
        track.width = video.width;
        track.height = video.height;
        track.codec_config = Bytes(chain.palette);
        title.tracks.push_back(track);
    }
}

// What the tables don't say, or say wrongly, is read from the streams.
void DvdDisc::State::probe(const TitleSet& set, DvdTitle& title) {
    int frames = 0, repeated = 0, progressive = 0;
    Track& video = title.tracks.front();
    std::set<TrackId> heard;
    const DvdCell& middle = title.cells[title.cells.size() / 2];
    for (const std::uint32_t first :
         {title.cells.front().first_sector, middle.first_sector + (middle.last_sector - middle.first_sector) / 2}) {
        const Probe& found = probed(set, title.title_set, first);
        for (Track& track : title.tracks) {
            if (const auto audio = found.audio.find(track.id); audio != found.audio.end()) {
                const bitstream::AudioHeader& header = audio->second;
                if (heard.insert(track.id).second && header.channels != track.channels && !set.rebuilt) {
                    title.differences.push_back(fmt::format("audio {:#x}: declared as {}, actually {}", track.id,
                                                            media::channel_layout(track.channels),
                                                            media::channel_layout(header.channels)));
                }
                track.channels = header.channels;
                track.speakers = header.speakers;
                track.sample_rate = header.sample_rate;
                track.bitrate_bps = header.bitrate_bps;
                if (track.purpose == Purpose::main) track.purpose = header.purpose;
            }
            if (const auto lpcm = found.lpcm.find(track.id); lpcm != found.lpcm.end()) {
                heard.insert(track.id);
                track.channels = lpcm->second.channels;
                track.sample_rate = lpcm->second.sample_rate;
                track.bit_depth = lpcm->second.bits;
                track.bitrate_bps = std::int64_t{track.sample_rate} * track.channels * track.bit_depth;
            }
        }
        // Streams that no table names.
        const auto known = [&](TrackId id) {
            return std::any_of(title.tracks.begin(), title.tracks.end(), [&](const Track& t) { return t.id == id; });
        };
        const auto add = [&](TrackId id, Codec codec, int channels, Speakers speakers, int rate, std::int64_t bps) {
            if (known(id)) return;
            Track track;
            track.id = id;
            track.kind = TrackKind::audio;
            track.codec = codec;
            track.channels = channels;
            track.speakers = speakers;
            track.sample_rate = rate;
            track.bitrate_bps = bps;
            track.duration = title.duration;
            title.tracks.push_back(track);
            heard.insert(id);
            title.differences.push_back(
                fmt::format("audio {:#x} ({}) is not declared", id, media::display_name(codec)));
        };
        for (const auto& [id, header] : found.audio)
            add(id, header.codec, header.channels, header.speakers, header.sample_rate, header.bitrate_bps);
        for (const auto& [id, header] : found.lpcm) {
            add(id, Codec::lpcm, header.channels, 0, header.sample_rate,
                std::int64_t{header.sample_rate} * header.channels * header.bits);
        }
        if (!found.sequence) continue;
        const mpeg2::Sequence& sequence = *found.sequence;
        frames += found.frames;
        repeated += found.repeated;
        progressive += found.progressive;
        video.closed_captions = video.closed_captions || found.captions;
        video.codec = sequence.mpeg2 ? Codec::mpeg2 : Codec::mpeg1;
        video.profile = sequence.profile_name();
        video.level = sequence.level_name();
        video.width = sequence.width;
        video.height = sequence.height;
        video.pixel_aspect = sequence.pixel_aspect();
        video.frame_rate = sequence.frame_rate;
        video.colour = sequence.colour;
    }
    if (frames == 0) {
        if (title.problems.empty())
            title.problems.push_back({"no video in the first sectors of the title", {}, title.duration});
        return;
    }
    for (const Track& track : title.tracks) {
        if (track.kind == TrackKind::audio && !heard.contains(track.id)) {
            title.differences.push_back(fmt::format("audio {:#x} ({}) is declared, but was not found", track.id,
                                                    media::display_name(track.codec)));
        }
    }
    if (progressive * 10 < frames * 9) {
        video.scan = Scan::interlaced;
    } else if (repeated * 10 > frames * 4 && repeated * 10 < frames * 6) {
        video.scan = Scan::pulldown;  // every other frame repeats a field: four film pictures in ten fields
        video.frame_rate = base::reduced({video.frame_rate.num * 4, video.frame_rate.den * 5});
    } else {
        video.scan = Scan::progressive;
    }
}

bool DvdDisc::is_dvd(const DiscFiles& files) {
    return find_entry(files, "", "VIDEO_TS").folder || !find_entry(files, "", "VIDEO_TS.IFO").name.empty() ||
           !find_entry(files, "", "VTS_01_0.IFO").name.empty();
}

Result<DvdDisc> DvdDisc::open(std::shared_ptr<DiscFiles> files) {
    if (!is_dvd(*files)) {
        return fail(ErrorKind::input, "there is no VIDEO_TS folder here", files->path(),
                    "name the folder or image of a ripped DVD");
    }
    auto state = std::make_shared<State>();
    const auto folder = find_entry(*files, "", "VIDEO_TS");
    state->files = std::move(files);
    if (folder.folder) state->folder = folder.name;
    WAVECREST_TRY(state->read_disc());
    return DvdDisc(std::move(state));
}

Result<DvdDisc> DvdDisc::open(const base::Path& folder) {
    return open(folder_files(folder));
}

DvdDisc::DvdDisc(std::shared_ptr<State> state) : state_(std::move(state)) {}
DvdDisc::DvdDisc(DvdDisc&&) noexcept = default;
DvdDisc::~DvdDisc() = default;

const std::vector<DvdTitle>& DvdDisc::titles() const {
    return state_->titles;
}
const std::vector<std::string>& DvdDisc::notes() const {
    return state_->notes;
}
std::string DvdDisc::path() const {
    return state_->files->path();
}
std::string DvdDisc::label() const {
    return state_->files->label();
}

Result<const DvdTitle*> DvdDisc::title(int number) const {
    for (const DvdTitle& title : titles()) {
        if (title.number == number) return &title;
    }
    return fail(ErrorKind::usage, fmt::format("there is no title {}", number), path(),
                fmt::format("pick a title from 1 to {}, or \"main\"", titles().back().number));
}

Status DvdDisc::check_protection(const DvdTitle& title) const {
    VobRun& run = *state_->sets.at(title.title_set).run;
    ps::PackContents contents;
    ByteVector sector(kSector);
    // Spread over the title by size, whichever cells that falls into.
    std::uint64_t total = 0;
    for (const DvdCell& cell : title.cells) total += std::uint64_t{cell.last_sector} - cell.first_sector + 1;
    for (std::uint64_t i = 0; i < kProtectionSamples; ++i) {
        std::uint64_t place = total * i / kProtectionSamples;
        std::uint64_t at = 0;
        for (const DvdCell& cell : title.cells) {
            const std::uint64_t count = std::uint64_t{cell.last_sector} - cell.first_sector + 1;
            at = cell.first_sector + place;
            if (place < count) break;
            place -= count;
        }
        // A few sectors at each place: one alone may be a navigation pack, which is never scrambled.
        for (std::uint64_t k = 0; k < 4; ++k) {
            const auto got = run.read_at((at + k) * kSector, sector);
            if (!got || *got < kSector) break;
            ps::parse_packs(sector, contents);
            for (const ps::PesPacket& packet : contents.packets) {
                if (packet.scrambled) return fail(protected_error(run.name(), at + k));
            }
        }
    }
    return {};
}

std::shared_ptr<base::ByteSource> DvdDisc::sectors(const DvdTitle& title) const {
    return state_->sets.at(title.title_set).run;
}

Result<std::unique_ptr<PacketSource>> DvdDisc::open_title(int number, int angle) const {
    WAVECREST_TRY_ASSIGN(found, title(number));
    const State::TitleSet& set = state_->sets.at(found->title_set);
    if (set.run->empty()) {
        return fail(ErrorKind::input, fmt::format("the VOB files of title {} are missing", number), path(),
                    "rip the disc again");
    }
    if (angle < 1 || angle > found->angles) {
        return fail(ErrorKind::usage, fmt::format("title {} has no angle {}", number, angle), path(),
                    fmt::format("pick an angle from 1 to {}", found->angles));
    }
    WAVECREST_TRY(check_protection(*found));
    DvdTitleData data{set.run, set.tables.vobus, 0, {}};
    // The map that belongs to this title alone: its chain's.
    for (std::size_t i = 0; i < std::min(set.tables.chains.size(), set.tables.time_maps.size()); ++i) {
        const auto& chain = set.tables.chains[i];
        if (chain.cells.size() == found->cells.size() &&
            chain.cells.front().first_sector == found->cells.front().first_sector) {
            data.time_map_unit_s = set.tables.time_maps[i].unit_s;
            data.time_map = set.tables.time_maps[i].sectors;
            break;
        }
    }
    return make_title_source(std::move(data), *found, angle);
}

Result<std::vector<RatePiece>> DvdDisc::rate(const DvdTitle& title) const {
    const State::TitleSet& set = state_->sets.at(title.title_set);
    const std::vector<std::uint32_t>& vobus = set.tables.vobus;
    if (vobus.empty()) {
        return fail(ErrorKind::input, "the disc has no address map of this title", path(),
                    "convert it: the result has an index");
    }
    std::vector<RatePiece> pieces;
    ByteVector sector(kSector);
    Time now{};
    const auto cells = title.cells_of(1);
    std::size_t all = 0;
    for (const DvdCell& cell : cells) {
        all += static_cast<std::size_t>(std::upper_bound(vobus.begin(), vobus.end(), cell.last_sector) -
                                        std::lower_bound(vobus.begin(), vobus.end(), cell.first_sector));
    }
    const std::size_t step = all / kRateReads + 1;
    for (const DvdCell& cell : cells) {
        auto from = std::lower_bound(vobus.begin(), vobus.end(), cell.first_sector);
        auto to = std::upper_bound(from, vobus.end(), cell.last_sector);
        // Between an angle's VOBUs lie those of the others.
        if (cell.interleaved) {
            for (; from != to; ++from) {
                const auto got = set.run->read_at(std::uint64_t{*from} * kSector, sector);
                const auto n = got && *got == kSector ? parse_navigation(sector) : std::nullopt;
                if (!n || n->vob != cell.vob || n->cell != cell.cell) continue;
                const Time end = now + base::from_ticks(n->end, 90000) - base::from_ticks(n->start, 90000);
                pieces.push_back({now, end, (std::uint64_t{n->last_sector} + 1) * kSector});
                now = end;
            }
            continue;
        }
        const auto count = static_cast<std::size_t>(to - from);
        const auto time_of = [&](std::size_t i, bool end) -> std::optional<Time> {
            const auto got = set.run->read_at(std::uint64_t{from[static_cast<std::ptrdiff_t>(i)]} * kSector, sector);
            const auto n = got && *got == kSector ? parse_navigation(sector) : std::nullopt;
            if (!n) return std::nullopt;
            return base::from_ticks(end ? n->end : n->start, 90000);
        };
        const auto first = count > 0 ? time_of(0, false) : std::nullopt;
        if (!first) {
            now += cell.duration;
            continue;
        }
        // Times of every step-th VOBU; those between share the time evenly.
        Time begin{};
        for (std::size_t i = 0; i < count; i += step) {
            const std::size_t next = std::min(i + step, count);
            Time end = begin + (cell.duration - begin) * static_cast<std::int64_t>(next - i) /
                                   static_cast<std::int64_t>(count - i);
            if (next < count) {
                if (const auto t = time_of(next, false); t && *t - *first > begin) end = *t - *first;
            } else if (cell.duration > begin) {
                end = cell.duration;
            }
            for (std::size_t k = i; k < next; ++k) {
                const std::uint32_t sector_at = from[static_cast<std::ptrdiff_t>(k)];
                const std::uint32_t sector_end =
                    k + 1 < count ? std::min(from[static_cast<std::ptrdiff_t>(k + 1)], cell.last_sector + 1)
                                  : cell.last_sector + 1;
                const auto part = [&](std::size_t n) {
                    return begin +
                           (end - begin) * static_cast<std::int64_t>(n - i) / static_cast<std::int64_t>(next - i);
                };
                pieces.push_back({now + part(k), now + part(k + 1), std::uint64_t{sector_end - sector_at} * kSector});
            }
            begin = end;
        }
        now += cell.duration;
    }
    return pieces;
}

}  // namespace wavecrest::disc
