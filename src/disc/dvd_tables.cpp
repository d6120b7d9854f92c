#include "disc/dvd_tables.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <optional>

#include "disc/dvd_format.hpp"

namespace wavecrest::disc::dvd {
namespace {

using base::ByteReader;

// Bytes in which reads outside are errors with the offset.
class Table {
  public:
    Table(ByteSpan bytes, const std::string& name) : bytes_(bytes), name_(name) {}

    Result<ByteReader> at(std::uint64_t offset, std::size_t needed) const {
        if (offset > bytes_.size() || needed > bytes_.size() - offset) {
            return fail(ErrorKind::input, "a table points outside the file", fmt::format("{}, byte {}", name_, offset),
                        kRemedy);
        }
        ByteReader reader{bytes_};
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
    Result<std::uint64_t> start(std::size_t field) const {
        WAVECREST_TRY_ASSIGN(sector, u32(field));
        if (sector == 0) {
            return fail(ErrorKind::input, "a table the titles need is missing",
                        fmt::format("{}, byte {}", name_, field), kRemedy);
        }
        return std::uint64_t{sector} * kSector;
    }
    tl::unexpected<Error> damaged(std::string what, std::uint64_t offset) const {
        return fail(ErrorKind::input, std::move(what), fmt::format("{}, byte {}", name_, offset), kRemedy);
    }
    Status check_start(const char* id, std::size_t shortest) const {
        if (bytes_.size() < 12 || !std::equal(bytes_.begin(), bytes_.begin() + 12, id))
            return fail(ErrorKind::input, "not a DVD table file", name_ + ", byte 0", "rip the disc again");
        if (bytes_.size() < shortest) {
            return fail(ErrorKind::input, "file is truncated", fmt::format("{}, byte {}", name_, bytes_.size()),
                        "rip the disc again");
        }
        return {};
    }

  private:
    static constexpr const char* kRemedy = "the disc's tables are damaged; make the rip again";

    ByteSpan bytes_;
    const std::string& name_;
};

// ISO 639-1 codes as discs write them; zeros, spaces and 0xFF mean none.
std::string language_code(std::uint16_t code) {
    const char a = static_cast<char>(code >> 8), b = static_cast<char>(code);
    if (a < 'a' || a > 'z' || b < 'a' || b > 'z') return "";
    return {a, b};
}

Status read_attributes(const Table& table, TitleSetTables& out) {
    WAVECREST_TRY_ASSIGN(video, table.u16(mat::kVideoAttributes));
    out.video = video;
    WAVECREST_TRY_ASSIGN(audio_count, table.u16(mat::kAudioCount));
    for (std::size_t i = 0; i < std::min<std::size_t>(audio_count, 8); ++i) {
        WAVECREST_TRY_ASSIGN(reader, table.at(mat::kAudioAttributes + 8 * i, 8));
        const std::uint8_t coding = reader.u8(), format = reader.u8();
        TitleSetTables::Audio audio;
        audio.coding = coding >> 5;
        audio.quantization = format >> 6;
        audio.sample_rate_code = format >> 4 & 3;
        audio.channels = (format & 7) + 1;
        const std::uint16_t language = reader.u16();
        if ((coding >> 2 & 3) == 1) audio.language = language_code(language);
        reader.skip(1);
        audio.purpose_code = reader.u8();
        out.audio.push_back(std::move(audio));
    }
    WAVECREST_TRY_ASSIGN(subpicture_count, table.u16(mat::kSubpictureCount));
    for (std::size_t i = 0; i < std::min<std::size_t>(subpicture_count, 32); ++i) {
        WAVECREST_TRY_ASSIGN(reader, table.at(mat::kSubpictureAttributes + 6 * i, 6));
        reader.skip(2);
        TitleSetTables::Subpicture subpicture;
        subpicture.language = language_code(reader.u16());
        reader.skip(1);
        subpicture.purpose_code = reader.u8();
        out.subpictures.push_back(std::move(subpicture));
    }
    return {};
}

Status read_chapters(const Table& table, TitleSetTables& out) {
    WAVECREST_TRY_ASSIGN(start, table.start(mat::kVtsChapters));
    WAVECREST_TRY_ASSIGN(count, table.u16(start));
    WAVECREST_TRY_ASSIGN(end, table.u32(start + 4));
    if (count == 0 || count > 99) return table.damaged(fmt::format("the chapter table names {} titles", count), start);
    for (std::uint64_t i = 0; i < count; ++i) {
        WAVECREST_TRY_ASSIGN(from, table.u32(start + 8 + 4 * i));
        std::uint64_t to = std::uint64_t{end} + 1;
        if (i + 1 < count) {
            WAVECREST_TRY_ASSIGN(next, table.u32(start + 12 + 4 * i));
            to = next;
        }
        std::vector<TitleSetTables::Chapter> chapters;
        if (to < from + 4ull || to - from > 4 * 999) {
            out.notes.push_back(fmt::format("the chapters of title {} of the set can't be read", i + 1));
        } else {
            for (std::uint64_t at = from; at + 4 <= to; at += 4) {
                WAVECREST_TRY_ASSIGN(pair, table.at(start + at, 4));
                const int chain = pair.u16();
                chapters.push_back({chain, pair.u16()});
            }
        }
        out.titles.push_back(std::move(chapters));
    }
    return {};
}

Result<TitleSetTables::Chain> read_chain(const Table& table, std::uint64_t at) {
    WAVECREST_TRY_ASSIGN(header, table.at(at, pgc::kSize));
    TitleSetTables::Chain chain;
    header.skip(pgc::kPrograms);
    const std::size_t programs = header.u8(), cells = header.u8();
    chain.duration = decode_bcd_time(header.u32());
    header.skip(pgc::kAudioControl - pgc::kTime - 4);
    for (auto& word : chain.audio) word = header.u16();
    for (auto& word : chain.subpicture) word = header.u32();
    chain.next = header.u16();
    header.skip(pgc::kPalette - pgc::kNextChain - 2);
    const ByteSpan palette = header.take(64);
    chain.palette.assign(palette.begin(), palette.end());
    header.skip(2);
    const std::uint16_t program_map = header.u16(), playback = header.u16(), position = header.u16();
    if (cells == 0) return table.damaged("the program chain has no cells", at);
    WAVECREST_TRY_ASSIGN(map, table.at(at + program_map, programs));
    for (std::size_t i = 0; i < programs; ++i) {
        const int cell = map.u8();
        if (cell < 1 || cell > static_cast<int>(cells))
            return table.damaged(fmt::format("program {} begins with cell {}", i + 1, cell), at + program_map);
        chain.programs.push_back(cell);
    }
    WAVECREST_TRY_ASSIGN(reader, table.at(at + playback, cells * pgc::kCellPlaybackSize));
    // The identifiers can be done without.
    auto identifiers = table.at(at + position, cells * pgc::kCellPositionSize);
    for (std::size_t i = 0; i < cells; ++i) {
        TitleSetTables::Cell cell;
        const std::uint8_t category = reader.u8();
        cell.block_mode = category >> 6;
        cell.angle_block = (category >> 4 & 3) == 1;
        cell.interleaved = (category & 0x04) != 0;
        cell.new_clock = (category & 0x02) != 0;
        reader.skip(3);
        cell.duration = decode_bcd_time(reader.u32());
        cell.first_sector = reader.u32();
        reader.skip(4);
        cell.last_vobu = reader.u32();
        cell.last_sector = reader.u32();
        if (cell.last_sector < cell.first_sector)
            return table.damaged(fmt::format("cell {} ends before it begins", i + 1), at + playback);
        if (position != 0 && identifiers) {
            cell.vob = identifiers->u16();
            identifiers->skip(1);
            cell.cell = identifiers->u8();
        }
        chain.cells.push_back(cell);
    }
    return chain;
}

Status read_chains(const Table& table, TitleSetTables& out) {
    WAVECREST_TRY_ASSIGN(start, table.start(mat::kVtsPgcs));
    WAVECREST_TRY_ASSIGN(count, table.u16(start));
    std::optional<Error> first_error;
    bool any = false;
    for (std::uint64_t i = 0; i < std::min<std::uint64_t>(count, 999); ++i) {
        WAVECREST_TRY_ASSIGN(offset, table.u32(start + 8 + 8 * i + 4));
        auto chain = read_chain(table, start + offset);
        if (chain) {
            any = true;
            out.chains.push_back(std::move(*chain));
        } else {
            if (!first_error) first_error = chain.error();
            out.notes.push_back(fmt::format("program chain {} can't be used: {}", i + 1, chain.error().what));
            out.chains.emplace_back();
        }
    }
    if (!any) return first_error ? fail(*first_error) : table.damaged("there are no program chains", start);
    return {};
}

Status read_time_maps(const Table& table, TitleSetTables& out) {
    WAVECREST_TRY_ASSIGN(start, table.start(mat::kVtsTimeMap));
    WAVECREST_TRY_ASSIGN(count, table.u16(start));
    for (std::uint64_t i = 0; i < std::min<std::uint64_t>(count, 999); ++i) {
        WAVECREST_TRY_ASSIGN(offset, table.u32(start + 8 + 4 * i));
        WAVECREST_TRY_ASSIGN(reader, table.at(start + offset, 4));
        TitleSetTables::TimeMap map;
        map.unit_s = reader.u8();
        reader.skip(1);
        const std::size_t entries = reader.u16();
        WAVECREST_TRY_ASSIGN(list, table.at(start + offset + 4, entries * 4));
        for (std::size_t k = 0; k < entries; ++k) map.sectors.push_back(list.u32() & 0x7FFFFFFF);
        out.time_maps.push_back(std::move(map));
    }
    return {};
}

Status read_vobu_map(const Table& table, TitleSetTables& out) {
    WAVECREST_TRY_ASSIGN(start, table.start(mat::kVtsVobuMap));
    WAVECREST_TRY_ASSIGN(end, table.u32(start));
    if (end < 3) return table.damaged("the VOBU address map is empty", start);
    const std::uint64_t count = (std::uint64_t{end} + 1 - 4) / 4;
    WAVECREST_TRY_ASSIGN(reader, table.at(start + 4, static_cast<std::size_t>(count * 4)));
    for (std::uint64_t i = 0; i < count; ++i) out.vobus.push_back(reader.u32());
    if (!std::is_sorted(out.vobus.begin(), out.vobus.end())) {
        out.vobus.clear();
        return table.damaged("the VOBU address map is out of order", start);
    }
    return {};
}

}  // namespace

Result<ManagerTables> parse_manager(ByteSpan bytes, const std::string& name) {
    const Table table(bytes, name);
    WAVECREST_TRY(table.check_start(mat::kVmgId, mat::kVmgSize));
    WAVECREST_TRY_ASSIGN(start, table.start(mat::kVmgTitleTable));
    WAVECREST_TRY_ASSIGN(count, table.u16(start));
    if (count == 0 || count > 99) return table.damaged(fmt::format("the title table names {} titles", count), start);
    ManagerTables out;
    for (std::uint64_t i = 0; i < count; ++i) {
        WAVECREST_TRY_ASSIGN(entry, table.at(start + 8 + i * kTitleEntrySize, kTitleEntrySize));
        ManagerTables::Title title;
        entry.skip(1);
        title.angles = std::clamp<int>(entry.u8(), 1, 9);
        title.chapters = entry.u16();
        entry.skip(2);
        title.title_set = entry.u8();
        title.title_in_set = entry.u8();
        out.titles.push_back(title);
    }
    return out;
}

Result<TitleSetTables> parse_title_set(ByteSpan bytes, const std::string& name) {
    const Table table(bytes, name);
    WAVECREST_TRY(table.check_start(mat::kVtsId, mat::kVtsSize));
    TitleSetTables out;
    WAVECREST_TRY(read_attributes(table, out));
    WAVECREST_TRY(read_chapters(table, out));
    WAVECREST_TRY(read_chains(table, out));
    // Playing does without these two.
    if (const auto status = read_time_maps(table, out); !status) {
        out.time_maps.clear();
        out.notes.push_back(fmt::format("the time map can't be used: {}", status.error().what));
    }
    if (const auto status = read_vobu_map(table, out); !status)
        out.notes.push_back(fmt::format("the VOBU address map can't be used: {}", status.error().what));
    return out;
}

}  // namespace wavecrest::disc::dvd
