#include "disc/dvd_reader.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <map>

#include "bitstream/mpeg2.hpp"
#include "container/mpeg_ps.hpp"
#include "disc/dvd_format.hpp"
#include "disc/dvd_title_source.hpp"

namespace wavecrest::disc {
namespace {

using base::ByteReader;
using base::FileSource;
using base::Path;
using namespace dvd;
namespace ps = container::ps;
namespace mpeg2 = bitstream::mpeg2;

constexpr std::size_t kProbeSectors = 1500;  // from the start and from the middle: two to five groups of pictures each
constexpr int kProtectionSamples = 64;
constexpr std::uint64_t kMaxIfo = 8 << 20;

std::string upper(std::string text) {
    std::transform(text.begin(), text.end(), text.begin(),
                   [](unsigned char c) { return static_cast<char>(std::toupper(c)); });
    return text;
}

// The entry of a folder whose name matches without regard to case.
Path find_entry(const Path& folder, const std::string& name) {
    std::error_code error;
    for (const auto& entry : std::filesystem::directory_iterator(folder, error)) {
        if (upper(entry.path().filename().string()) == upper(name)) return entry.path();
    }
    return {};
}

Path video_folder(const Path& folder) {
    std::error_code error;
    if (!std::filesystem::is_directory(folder, error)) return {};
    if (!find_entry(folder, "VIDEO_TS.IFO").empty() || upper(folder.filename().string()) == "VIDEO_TS") return folder;
    const Path inside = find_entry(folder, "VIDEO_TS");
    return std::filesystem::is_directory(inside, error) ? inside : Path{};
}

// An IFO in memory. Reads outside it are errors with the offset.
class Ifo {
  public:
    Ifo(ByteVector bytes, std::string name) : bytes_(std::move(bytes)), name_(std::move(name)) {}

    Result<ByteReader> at(std::uint64_t offset, std::size_t needed) const {
        if (offset > bytes_.size() || needed > bytes_.size() - offset) {
            return fail(ErrorKind::input, "a table points outside the file", fmt::format("{}, byte {}", name_, offset),
                        "the disc's tables are damaged; make the rip again");
        }
        ByteReader reader{ByteSpan(bytes_)};
        reader.seek(static_cast<std::size_t>(offset));
        return reader;
    }
    Result<std::uint32_t> u32(std::uint64_t offset) const {
        WAVECREST_TRY_ASSIGN(reader, at(offset, 4));
        return reader.u32();
    }
    Result<std::uint16_t> u16(std::uint64_t offset) const {
        WAVECREST_TRY_ASSIGN(reader, at(offset, 2));
        return reader.u16();
    }
    // The byte offset of a table whose start sector is given at `field`.
    Result<std::uint64_t> table(std::size_t field) const {
        WAVECREST_TRY_ASSIGN(sector, u32(field));
        if (sector == 0) {
            return fail(ErrorKind::input, "a table the titles need is missing",
                        fmt::format("{}, byte {}", name_, field), "the disc's tables are damaged; make the rip again");
        }
        return std::uint64_t{sector} * kSector;
    }
    const std::string& name() const { return name_; }

  private:
    ByteVector bytes_;
    std::string name_;
};

Result<Ifo> load_one(const Path& path, const char* id) {
    WAVECREST_TRY_ASSIGN(file, FileSource::open(path));
    if (file.size() == 0) return fail(ErrorKind::input, "the file is empty", path.string(), "make the rip again");
    if (file.size() > kMaxIfo) {
        return fail(ErrorKind::input, "the file is too large for a table file", path.string(),
                    "check that this is a ripped DVD");
    }
    WAVECREST_TRY_ASSIGN(bytes, base::read_exactly(file, 0, file.size()));
    const std::size_t shortest = id == mat::kVmgId ? mat::kVmgSize : mat::kVtsSize;
    if (bytes.size() < 12 || !std::equal(bytes.begin(), bytes.begin() + 12, id)) {
        return fail(ErrorKind::input, "this is no DVD table file", fmt::format("{}, byte 0", path.string()),
                    "make the rip again");
    }
    if (bytes.size() < shortest) {
        return fail(ErrorKind::input, "the file is cut short", fmt::format("{}, byte {}", path.string(), bytes.size()),
                    "make the rip again");
    }
    return Ifo(std::move(bytes), path.string());
}

// ISO 639-1 codes as discs write them; zeros, spaces and 0xFF mean none.
std::string language_code(std::uint16_t code) {
    const char a = static_cast<char>(code >> 8), b = static_cast<char>(code);
    if (a < 'a' || a > 'z' || b < 'a' || b > 'z') return "";
    return {a, b};
}

}  // namespace

struct DvdDisc::State {
    Path folder;
    Path tables;
    std::vector<DvdTitle> titles;
    std::vector<std::string> notes;
    std::map<int, std::shared_ptr<VobRun>> vobs;  // by title set
    std::map<int, Ifo> sets;                      // likewise: the IFO, or the twin that replaced it

    Result<Ifo> load(const std::string& stem, const char* id) {
        const Path path = find_entry(tables, stem + ".IFO");
        auto ifo = load_one(path.empty() ? tables / (stem + ".IFO") : path, id);
        if (ifo) return ifo;
        const Path twin = find_entry(tables, stem + ".BUP");
        if (twin.empty()) return ifo;
        auto backup = load_one(twin, id);
        if (!backup) return ifo;
        notes.push_back(
            fmt::format("{}.IFO can't be used ({}); its twin {}.BUP was read instead", stem, ifo.error().what, stem));
        return backup;
    }

    void open_vobs(int set) {
        auto run = std::make_shared<VobRun>();
        for (int part = 1; part <= 9; ++part) {
            const std::string name = fmt::format("VTS_{:02}_{}.VOB", set, part);
            const Path path = find_entry(tables, name);
            if (path.empty()) break;
            auto file = FileSource::open(path);
            if (!file) {
                notes.push_back(fmt::format("{}: {}", name, file.error().what));
                break;
            }
            if (file->size() % kSector != 0)
                notes.push_back(fmt::format("{} is cut short: it ends inside a sector", name));
            run->add(std::move(*file));
        }
        if (run->empty()) notes.push_back(fmt::format("title set {} has no VOB files", set));
        vobs[set] = std::move(run);
    }

    Status read_tables();
    Status read_title(const Ifo& vts, int title_in_set, DvdTitle& title);
    Status read_tracks(const Ifo& vts, std::uint64_t chain, DvdTitle& title);
    void probe(DvdTitle& title);
};

Status DvdDisc::State::read_tables() {
    WAVECREST_TRY_ASSIGN(vmg, load("VIDEO_TS", mat::kVmgId));
    WAVECREST_TRY_ASSIGN(table, vmg.table(mat::kVmgTitleTable));
    WAVECREST_TRY_ASSIGN(count, vmg.u16(table));
    if (count == 0 || count > 99) {
        return fail(ErrorKind::input, fmt::format("the title table names {} titles", count),
                    fmt::format("{}, byte {}", vmg.name(), table), "the disc's tables are damaged; make the rip again");
    }
    for (int i = 0; i < count; ++i) {
        WAVECREST_TRY_ASSIGN(entry,
                             vmg.at(table + 8 + static_cast<std::uint64_t>(i) * kTitleEntrySize, kTitleEntrySize));
        DvdTitle title;
        title.number = i + 1;
        entry.skip(1);
        title.angles = entry.u8();
        entry.skip(4);
        title.title_set = entry.u8();
        const int title_in_set = entry.u8();
        if (!sets.contains(title.title_set)) {
            WAVECREST_TRY_ASSIGN(vts, load(fmt::format("VTS_{:02}_0", title.title_set), mat::kVtsId));
            sets.emplace(title.title_set, std::move(vts));
            open_vobs(title.title_set);
        }
        WAVECREST_TRY(read_title(sets.at(title.title_set), title_in_set, title));
        titles.push_back(std::move(title));
    }
    for (DvdTitle& title : titles) probe(title);
    return {};
}

Status DvdDisc::State::read_title(const Ifo& vts, int title_in_set, DvdTitle& title) {
    const auto damaged = [&](std::string what, std::uint64_t offset) {
        return fail(ErrorKind::input, std::move(what), fmt::format("{}, byte {}", vts.name(), offset),
                    "the disc's tables are damaged; make the rip again");
    };
    // Chapters: each names a program chain and a program in it.
    WAVECREST_TRY_ASSIGN(chapters, vts.table(mat::kVtsChapters));
    WAVECREST_TRY_ASSIGN(title_count, vts.u16(chapters));
    if (title_in_set < 1 || title_in_set > title_count)
        return damaged(fmt::format("there is no title {} in the set", title_in_set), chapters);
    WAVECREST_TRY_ASSIGN(table_end, vts.u32(chapters + 4));
    WAVECREST_TRY_ASSIGN(begin, vts.u32(chapters + 4 + 4 * static_cast<std::uint64_t>(title_in_set)));
    std::uint32_t end = table_end + 1;
    if (title_in_set < title_count) {
        WAVECREST_TRY_ASSIGN(next, vts.u32(chapters + 8 + 4 * static_cast<std::uint64_t>(title_in_set)));
        end = next;
    }
    if (end < begin + 4) return damaged("the chapter table is empty", chapters);
    const std::uint32_t chapter_count = (end - begin) / 4;
    WAVECREST_TRY_ASSIGN(chain_number, vts.u16(chapters + begin));

    // The program chain.
    WAVECREST_TRY_ASSIGN(chains, vts.table(mat::kVtsPgcs));
    WAVECREST_TRY_ASSIGN(chain_count, vts.u16(chains));
    if (chain_number < 1 || chain_number > chain_count)
        return damaged(fmt::format("there is no program chain {}", chain_number), chains);
    WAVECREST_TRY_ASSIGN(chain_offset, vts.u32(chains + 8 * static_cast<std::uint64_t>(chain_number) + 4));
    const std::uint64_t chain = chains + chain_offset;
    WAVECREST_TRY_ASSIGN(header, vts.at(chain, pgc::kSize));
    header.skip(pgc::kPrograms);
    const int programs = header.u8();
    const int cells = header.u8();
    WAVECREST_TRY_ASSIGN(program_map, vts.u16(chain + pgc::kProgramMap));
    WAVECREST_TRY_ASSIGN(playback, vts.u16(chain + pgc::kCellPlayback));
    if (cells == 0) return damaged("the program chain has no cells", chain);

    std::vector<Time> cell_starts;
    for (int i = 0; i < cells; ++i) {
        WAVECREST_TRY_ASSIGN(reader, vts.at(chain + playback + static_cast<std::uint64_t>(i) * pgc::kCellPlaybackSize,
                                            pgc::kCellPlaybackSize));
        DvdCell cell;
        cell.new_clock = (reader.u8() & 0x02) != 0;
        reader.skip(3);
        cell.duration = decode_bcd_time(reader.u32());
        cell.first_sector = reader.u32();
        reader.skip(8);
        cell.last_sector = reader.u32();
        if (cell.last_sector < cell.first_sector)
            return damaged(fmt::format("cell {} ends before it begins", i + 1), chain + playback);
        cell_starts.push_back(title.duration);
        title.duration += cell.duration;
        title.size_bytes += (std::uint64_t{cell.last_sector} - cell.first_sector + 1) * kSector;
        title.cells.push_back(cell);
    }
    for (std::uint32_t i = 0; i < chapter_count; ++i) {
        WAVECREST_TRY_ASSIGN(pair, vts.at(chapters + begin + 4 * i, 4));
        const int in_chain = pair.u16();
        const int program = pair.u16();
        if (in_chain != chain_number) continue;  // chapters in other chains: titles of several chains come later
        if (program < 1 || program > programs)
            return damaged(fmt::format("chapter {} names program {}", i + 1, program), chapters + begin + 4 * i);
        WAVECREST_TRY_ASSIGN(entry, vts.at(chain + program_map + static_cast<std::uint64_t>(program) - 1, 1));
        const int cell = entry.u8();
        if (cell < 1 || cell > cells)
            return damaged(fmt::format("chapter {} names cell {}", i + 1, cell), chain + program_map);
        title.chapters.push_back({cell_starts[static_cast<std::size_t>(cell) - 1], fmt::format("Chapter {}", i + 1)});
    }
    return read_tracks(vts, chain, title);
}

Status DvdDisc::State::read_tracks(const Ifo& vts, std::uint64_t chain, DvdTitle& title) {
    WAVECREST_TRY_ASSIGN(video_attributes, vts.u16(mat::kVideoAttributes));
    Track video;
    video.id = kDvdVideoTrack;
    video.kind = TrackKind::video;
    video.codec = (video_attributes >> 14) == 1 ? Codec::mpeg2 : Codec::mpeg1;
    const bool pal = (video_attributes >> 12 & 3) == 1;
    const bool wide = (video_attributes >> 10 & 3) == 3;
    constexpr int kWidths[] = {720, 704, 352, 352};
    const int resolution = video_attributes >> 3 & 7;
    video.width = kWidths[resolution & 3];
    video.height = (pal ? 576 : 480) / (resolution == 3 ? 2 : 1);
    video.pixel_aspect = base::reduced({(wide ? 16L : 4L) * video.height, (wide ? 9L : 3L) * video.width});
    video.frame_rate = pal ? Ratio{25, 1} : Ratio{30000, 1001};
    video.bit_depth = 8;
    video.duration = title.duration;
    title.tracks.push_back(video);

    WAVECREST_TRY_ASSIGN(audio_count, vts.u16(mat::kAudioCount));
    for (int i = 0; i < std::min<int>(audio_count, 8); ++i) {
        WAVECREST_TRY_ASSIGN(control, vts.u16(chain + pgc::kAudioControl + 2 * static_cast<std::uint64_t>(i)));
        if ((control & 0x8000) == 0) continue;
        const int stream = control >> 8 & 7;
        WAVECREST_TRY_ASSIGN(reader, vts.at(mat::kAudioAttributes + 8 * static_cast<std::uint64_t>(i), 8));
        const std::uint8_t coding = reader.u8();
        const std::uint8_t format = reader.u8();
        Track audio;
        audio.kind = TrackKind::audio;
        audio.duration = title.duration;
        audio.channels = (format & 7) + 1;
        audio.sample_rate = 48000;
        audio.language = (coding >> 2 & 3) == 1 ? language_code(reader.u16()) : "";
        switch (static_cast<AudioMode>(coding >> 5)) {
            case AudioMode::ac3:
                audio.codec = Codec::ac3;
                audio.id = 0x80 + stream;
                break;
            case AudioMode::mpeg1:
            case AudioMode::mpeg2:
                audio.codec = Codec::mp2;
                audio.id = ps::kFirstAudio + stream;
                break;
            case AudioMode::dts:
                audio.codec = Codec::dts;
                audio.id = 0x88 + stream;
                break;
            case AudioMode::lpcm:
                audio.codec = Codec::lpcm;
                audio.id = 0xA0 + stream;
                audio.bit_depth = 16 + 4 * std::min(format >> 6, 2);
                audio.sample_rate = (format >> 4 & 3) == 1 ? 96000 : 48000;
                audio.bitrate_bps = std::int64_t{audio.sample_rate} * audio.channels * audio.bit_depth;
                break;
            default:
                continue;
        }
        title.tracks.push_back(audio);
    }
    WAVECREST_TRY_ASSIGN(subpictures, vts.u16(mat::kSubpictureCount));
    for (int i = 0; i < std::min<int>(subpictures, 32); ++i) {
        WAVECREST_TRY_ASSIGN(control, vts.u32(chain + pgc::kSubpictureControl + 4 * static_cast<std::uint64_t>(i)));
        if ((control & 0x80000000) == 0) continue;
        WAVECREST_TRY_ASSIGN(reader, vts.at(mat::kSubpictureAttributes + 6 * static_cast<std::uint64_t>(i), 6));
        Track track;
        track.kind = TrackKind::subtitle;
        track.codec = Codec::dvd_subpicture;
        track.id = 0x20 + static_cast<int>(control >> (wide ? 16 : 24) & 31);
        track.duration = title.duration;
        reader.skip(2);
        track.language = language_code(reader.u16());
        title.tracks.push_back(track);
    }
    return {};
}

// What the tables don't say is read from the stream: sequence header, scan, colour; and whether the data is there.
void DvdDisc::State::probe(DvdTitle& title) {
    VobRun& run = *vobs[title.title_set];
    const std::uint64_t needed = (std::uint64_t{title.cells.back().last_sector} + 1) * kSector;
    if (run.size() < needed) {
        title.problems.push_back({fmt::format("the VOB files are {} sectors short of this title",
                                              (needed - run.size() + kSector - 1) / kSector),
                                  {},
                                  title.duration});
    }
    int frames = 0, repeated = 0, progressive = 0;
    Track& video = title.tracks.front();
    const DvdCell& middle = title.cells[title.cells.size() / 2];
    for (const std::uint32_t first :
         {title.cells.front().first_sector, middle.first_sector + (middle.last_sector - middle.first_sector) / 2}) {
        mpeg2::AccessUnitSplitter splitter;
        std::vector<mpeg2::AccessUnit> units;
        ps::PackContents contents;
        ByteVector sectors(kProbeSectors * kSector);
        const auto got = run.read_at(std::uint64_t{first} * kSector, sectors);
        if (!got) continue;
        for (std::size_t at = 0; at + kSector <= *got; at += kSector) {
            ps::parse_packs(ByteSpan(sectors).subspan(at, kSector), contents);
            for (const ps::PesPacket& packet : contents.packets) {
                if (packet.stream_id == ps::kFirstVideo && !packet.scrambled)
                    splitter.push(packet.payload, packet.pts, packet.dts, 0, units);
            }
        }
        if (!splitter.sequence()) continue;
        const mpeg2::Sequence& sequence = *splitter.sequence();
        for (const mpeg2::AccessUnit& unit : units) {
            ++frames;
            repeated += unit.picture.repeat_first_field ? 1 : 0;
            progressive += unit.picture.progressive_frame || sequence.progressive ? 1 : 0;
        }
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
            title.problems.push_back({"no picture was found in the title's first sectors", {}, title.duration});
        return;
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

bool DvdDisc::is_dvd(const Path& folder) {
    return !video_folder(folder).empty();
}

Result<DvdDisc> DvdDisc::open(const Path& folder) {
    auto state = std::make_shared<State>();
    state->folder = folder;
    state->tables = video_folder(folder);
    if (state->tables.empty()) {
        return fail(ErrorKind::input, "there is no VIDEO_TS folder here", folder.string(),
                    "name the folder of a ripped DVD");
    }
    WAVECREST_TRY(state->read_tables());
    return DvdDisc(std::move(state));
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
    return state_->folder.string();
}

std::string DvdDisc::label() const {
    std::error_code error;
    Path folder = std::filesystem::weakly_canonical(state_->folder, error);
    if (!folder.has_filename()) folder = folder.parent_path();
    if (upper(folder.filename().string()) == "VIDEO_TS") folder = folder.parent_path();
    return folder.filename().string();
}

Result<const DvdTitle*> DvdDisc::title(int number) const {
    for (const DvdTitle& title : titles()) {
        if (title.number == number) return &title;
    }
    return fail(ErrorKind::usage, fmt::format("there is no title {}", number), path(),
                fmt::format("pick a title from 1 to {}, or \"main\"", titles().size()));
}

Status DvdDisc::check_protection(const DvdTitle& title) const {
    VobRun& run = *state_->vobs.at(title.title_set);
    const std::uint64_t first = title.cells.front().first_sector;
    const std::uint64_t last = title.cells.back().last_sector;
    ps::PackContents contents;
    ByteVector sector(kSector);
    for (std::uint64_t i = 0; i < kProtectionSamples; ++i) {
        // A few sectors at each place: one alone may be a navigation pack, which is never scrambled.
        for (std::uint64_t k = 0; k < 4; ++k) {
            const std::uint64_t at = first + (last - first) * i / kProtectionSamples + k;
            const auto got = run.read_at(at * kSector, sector);
            if (!got || *got < kSector) break;
            ps::parse_packs(sector, contents);
            for (const ps::PesPacket& packet : contents.packets) {
                if (packet.scrambled) return fail(protected_error(run.name(), at));
            }
        }
    }
    return {};
}

Result<std::unique_ptr<PacketSource>> DvdDisc::open_title(int number) const {
    WAVECREST_TRY_ASSIGN(found, title(number));
    const auto& run = state_->vobs.at(found->title_set);
    if (run->empty()) {
        return fail(ErrorKind::input, fmt::format("the VOB files of title {} are missing", number), path(),
                    "make the rip again");
    }
    WAVECREST_TRY(check_protection(*found));
    return make_title_source(run, *found);
}

Result<std::vector<RatePiece>> DvdDisc::rate(const DvdTitle& title) const {
    const Ifo& ifo = state_->sets.at(title.title_set);
    WAVECREST_TRY_ASSIGN(map, ifo.table(mat::kVtsVobuMap));
    WAVECREST_TRY_ASSIGN(end, ifo.u32(map));
    const std::uint64_t count = (std::uint64_t{end} + 1 - 4) / 4;
    WAVECREST_TRY_ASSIGN(reader, ifo.at(map + 4, static_cast<std::size_t>(count * 4)));
    std::vector<std::uint32_t> sectors(static_cast<std::size_t>(count));
    for (std::uint32_t& sector : sectors) sector = reader.u32();

    std::vector<RatePiece> pieces;
    VobRun& run = *state_->vobs.at(title.title_set);
    ByteVector sector(kSector);
    Time now{};
    for (const DvdCell& cell : title.cells) {
        for (std::size_t i = 0; i < sectors.size(); ++i) {
            if (sectors[i] < cell.first_sector || sectors[i] > cell.last_sector) continue;
            const std::uint32_t next =
                i + 1 < sectors.size() ? std::min(sectors[i + 1], cell.last_sector + 1) : cell.last_sector + 1;
            const auto got = run.read_at(std::uint64_t{sectors[i]} * kSector, sector);
            std::int64_t vobu_end = 0;
            const auto start = got && *got == kSector ? vobu_start(sector, &vobu_end) : std::nullopt;
            if (!start || vobu_end <= *start) continue;
            const Time length = base::from_ticks(vobu_end - *start, 90000);
            pieces.push_back({now, now + length, std::uint64_t{next - sectors[i]} * kSector});
            now += length;
        }
    }
    return pieces;
}

}  // namespace wavecrest::disc
