#include "disc/blu_ray_tables.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cstring>

#include "base/bits.hpp"
#include "bitstream/stream_type.hpp"
#include "container/mpeg_ts.hpp"

namespace wavecrest::disc::blu_ray {
namespace {

namespace ts = container::ts;
using base::ByteReader;
using base::ByteWriter;

constexpr std::size_t kMostItems = 1000, kMostEntries = 1 << 20;

tl::unexpected<Error> damaged(std::string what, const std::string& name, std::uint64_t at) {
    return fail(ErrorKind::input, std::move(what), fmt::format("{}, byte {}", name, at),
                "the disc's tables are damaged; make the rip again");
}

constexpr int kHevc = 0x24;  // stream_coding_type of Ultra HD discs, whose tables have version 0300

Status check_mark(ByteSpan bytes, const char* mark, const std::string& name) {
    if (bytes.size() < 40 || std::memcmp(bytes.data(), mark, 4) != 0 || bytes[4] != '0')
        return damaged("not a Blu-ray table file", name, 0);
    return {};
}

// A table: a 32-bit length at `at`, then that many bytes.
Result<ByteSpan> table(ByteSpan bytes, std::uint64_t at, const std::string& name) {
    if (at + 4 > bytes.size()) return damaged("a table points outside the file", name, at);
    const std::size_t length = std::size_t{bytes[at]} << 24 | std::size_t{bytes[at + 1]} << 16 |
                               std::size_t{bytes[at + 2]} << 8 | bytes[at + 3];
    if (length > bytes.size() - at - 4) return damaged("a table is longer than the file", name, at);
    return bytes.subspan(static_cast<std::size_t>(at) + 4, length);
}

// stream_attributes or StreamCodingInfo: coding type, then what belongs to it.
void read_coding(ByteSpan body, StreamInfo& stream) {
    ByteReader reader(body);
    stream.coding = reader.u8();
    switch (bitstream::codec_of_stream_type(stream.coding)) {
        case Codec::pgs:
            stream.language = reader.text(3);
            break;
        case Codec::mpeg1:
        case Codec::mpeg2:
        case Codec::h264:
        case Codec::h265:
        case Codec::vc1: {
            const std::uint8_t byte = reader.u8();
            stream.format = byte >> 4;
            stream.rate = byte & 15;
            if (stream.coding == kHevc && reader.remaining() > 0) {
                const std::uint8_t more = reader.u8();
                stream.dynamic_range = more >> 4;
                stream.colour_space = more & 15;
            }
            break;
        }
        case Codec::unknown:
            break;
        default: {
            const std::uint8_t byte = reader.u8();
            stream.format = byte >> 4;
            stream.rate = byte & 15;
            stream.language = reader.text(3);
        }
    }
    const bool letters =
        std::all_of(stream.language.begin(), stream.language.end(), [](char c) { return c >= 'a' && c <= 'z'; });
    if (!letters) stream.language.clear();
}

void write_coding(ByteWriter& out, const StreamInfo& stream, std::size_t size) {
    ByteWriter body;
    body.u8(static_cast<unsigned>(stream.coding));
    const Codec codec = bitstream::codec_of_stream_type(stream.coding);
    const std::string language = (stream.language + "   ").substr(0, 3);
    if (codec == Codec::pgs) {
        body.text(language);
    } else {
        body.u8(static_cast<unsigned>(stream.format << 4 | stream.rate));
        const bool audio = describe(stream).kind == TrackKind::audio;
        if (audio) body.text(language);
        if (codec == Codec::h265) {
            body.u8(static_cast<unsigned>(stream.dynamic_range << 4 | stream.colour_space));
        } else if (!audio) {
            body.u8(0x30);  // 16:9 (in clip information; reserved in playlists)
        }
    }
    body.pad_to(size);
    out.u8(body.size());
    out.raw(body.bytes());
}

Result<Playlist::Item> read_item(ByteSpan body, const std::string& name) {
    ByteReader reader(body);
    Playlist::Item item;
    item.clips.push_back(reader.text(5));
    reader.skip(4);
    const std::uint16_t flags = reader.u16();
    const bool angles = (flags & 0x10) != 0;
    const int connection = flags & 15;
    item.seamless = connection == 5 || connection == 6;
    reader.skip(1);
    item.in_time = reader.u32();
    item.out_time = reader.u32();
    reader.skip(8 + 1 + 1 + 2);
    if (angles) {
        const int count = reader.u8();
        reader.skip(1);
        for (int i = 1; i < count && reader.ok(); ++i) {
            item.clips.push_back(reader.text(5));
            reader.skip(4 + 1);
        }
    }
    if (!reader.ok()) return damaged("a play item is truncated", name, 0);
    if (item.out_time < item.in_time) return damaged("a play item ends before it begins", name, 0);
    for (const std::string& clip : item.clips) {
        const bool digits =
            clip.size() == 5 && std::all_of(clip.begin(), clip.end(), [](char c) { return c >= '0' && c <= '9'; });
        if (!digits) return damaged("a play item names no clip", name, 0);
    }
    // The table of streams (STN_table).
    const std::size_t length = reader.u16();
    if (!reader.ok() || length > reader.remaining()) return item;
    reader.skip(2);
    const int video = reader.u8(), audio = reader.u8(), graphics = reader.u8();
    reader.skip(4 + 5);
    const auto take = [&](int count, std::vector<StreamInfo>& list) {
        for (int i = 0; i < count && reader.ok(); ++i) {
            StreamInfo stream;
            ByteReader entry(reader.take(reader.u8()));
            const int type = entry.u8();
            entry.skip(type == 2 || type == 4 ? 2u : type == 3 ? 1u : 0u);
            stream.pid = entry.u16() & ts::kPidMask;
            const ByteSpan coding = reader.take(reader.u8());
            read_coding(coding, stream);
            if (reader.ok() && entry.ok()) list.push_back(std::move(stream));
        }
    };
    take(video, item.video);
    take(audio, item.audio);
    take(graphics, item.graphics);
    return item;
}

}  // namespace

Track describe(const StreamInfo& stream) {
    Track track;
    track.id = stream.pid;
    track.codec = bitstream::codec_of_stream_type(stream.coding);
    track.language = stream.language;
    switch (track.codec) {
        case Codec::pgs:
            track.kind = TrackKind::subtitle;
            break;
        case Codec::mpeg1:
        case Codec::mpeg2:
        case Codec::h264:
        case Codec::h265:
        case Codec::vc1: {
            track.kind = TrackKind::video;
            track.bit_depth = track.codec == Codec::h265 ? 10 : 8;
            constexpr int kHeights[] = {0, 480, 576, 480, 1080, 720, 1080, 576, 2160};
            constexpr Ratio kRates[] = {{0, 1},        {24000, 1001}, {24, 1}, {25, 1},
                                        {30000, 1001}, {0, 1},        {50, 1}, {60000, 1001}};
            if (stream.format < 9) track.height = kHeights[stream.format];
            track.width = track.height == 2160   ? 3840
                          : track.height == 1080 ? 1920
                          : track.height == 720  ? 1280
                          : track.height > 0     ? 720
                                                 : 0;
            if (track.height > 0 && track.height < 720)
                track.pixel_aspect = base::reduced({16L * track.height, 9L * track.width});
            if (stream.rate < 8) track.frame_rate = kRates[stream.rate];
            const bool fields = stream.format == 1 || stream.format == 2 || stream.format == 4;
            track.scan = stream.format == 0 ? Scan::unknown : fields ? Scan::interlaced : Scan::progressive;
            break;
        }
        default:
            track.kind = TrackKind::audio;
            track.sample_rate = stream.rate == 4 || stream.rate == 14   ? 96000
                                : stream.rate == 5 || stream.rate == 12 ? 192000
                                                                        : 48000;
            track.channels = stream.format == 1 ? 1 : stream.format == 3 ? 2 : 6;
            if (stream.coding == 0x85) track.profile = "HD High Resolution";
            if (stream.coding == 0x86) track.profile = "HD Master Audio";
    }
    return track;
}

Result<Playlist> parse_playlist(ByteSpan bytes, const std::string& name) {
    WAVECREST_TRY(check_mark(bytes, "MPLS", name));
    ByteReader header(bytes);
    header.skip(8);
    const std::uint32_t list_at = header.u32(), marks_at = header.u32();
    WAVECREST_TRY_ASSIGN(list, table(bytes, list_at, name));
    Playlist playlist;
    ByteReader reader(list);
    reader.skip(2);
    const std::size_t count = reader.u16();
    reader.skip(2);
    if (count == 0 || count > kMostItems)
        return damaged(fmt::format("the playlist has {} items", count), name, list_at);
    for (std::size_t i = 0; i < count; ++i) {
        const ByteSpan body = reader.take(reader.u16());
        if (!reader.ok()) return damaged("the playlist is truncated", name, list_at);
        WAVECREST_TRY_ASSIGN(item, read_item(body, name));
        playlist.items.push_back(std::move(item));
    }
    // Chapters can be done without.
    if (const auto marks = table(bytes, marks_at, name)) {
        ByteReader mark(*marks);
        const int number = mark.u16();
        for (int i = 0; i < number && mark.remaining() >= 14; ++i) {
            mark.skip(1);
            const int type = mark.u8();
            Playlist::Mark entry;
            entry.item = mark.u16();
            entry.time = mark.u32();
            mark.skip(6);
            if (type == 1 && static_cast<std::size_t>(entry.item) < playlist.items.size())
                playlist.chapters.push_back(entry);
        }
    }
    return playlist;
}

Result<ClipInfo> parse_clip_info(ByteSpan bytes, const std::string& name) {
    WAVECREST_TRY(check_mark(bytes, "HDMV", name));
    ByteReader header(bytes);
    header.skip(8);
    const std::uint32_t sequence_at = header.u32(), program_at = header.u32(), map_at = header.u32();
    ClipInfo clip;
    WAVECREST_TRY_ASSIGN(info, table(bytes, 40, name));
    ByteReader general(info);
    general.skip(2 + 1 + 1 + 4 + 4);
    clip.packets = general.u32();
    if (!general.ok()) return damaged("the clip information is truncated", name, 40);

    if (const auto sequence = table(bytes, sequence_at, name)) {
        ByteReader reader(*sequence);
        reader.skip(1);
        if (reader.u8() > 0) {
            reader.skip(4);
            const int clocks = reader.u8();
            reader.skip(1);
            for (int i = 0; i < clocks && reader.ok(); ++i) {
                reader.skip(2 + 4);
                const std::uint32_t from = reader.u32(), to = reader.u32();
                if (!reader.ok()) break;
                if (i == 0) clip.start_time = from;
                clip.end_time = to;
            }
        }
    }
    if (const auto program = table(bytes, program_at, name)) {
        ByteReader reader(*program);
        reader.skip(1);
        if (reader.u8() > 0) {
            reader.skip(4 + 2);
            const int streams = reader.u8();
            reader.skip(1);
            for (int i = 0; i < streams && reader.ok(); ++i) {
                StreamInfo stream;
                stream.pid = reader.u16() & ts::kPidMask;
                const ByteSpan coding = reader.take(reader.u8());
                read_coding(coding, stream);
                if (reader.ok()) clip.streams.push_back(std::move(stream));
            }
        }
    }
    // The entry-point map, of the first stream it has: coarse entries, each refined by a run of fine ones.
    const auto map = table(bytes, map_at, name);
    if (!map || map->size() < 16) return clip;
    const ByteSpan points = map->subspan(2);
    ByteReader reader(points);
    reader.skip(1);
    if (reader.u8() == 0) return clip;
    reader.skip(2);
    base::BitReader counts(reader.take(6));
    counts.skip(10 + 4);
    const std::size_t coarse_count = counts.bits(16), fine_count = counts.bits(18);
    const std::size_t start = reader.u32();
    ByteReader stream_map(points);
    stream_map.seek(start);
    const std::size_t fine_at = stream_map.u32();
    if (!stream_map.ok() || fine_count > kMostEntries) return clip;
    struct Coarse {
        std::size_t first_fine;
        std::uint32_t time, packet;
    };
    std::vector<Coarse> coarse;
    for (std::size_t i = 0; i < coarse_count && stream_map.ok(); ++i) {
        const std::uint32_t word = stream_map.u32();
        coarse.push_back({word >> 14, word & 0x3FFF, stream_map.u32()});
    }
    ByteReader fine(points);
    fine.seek(start + fine_at);
    std::size_t group = 0;
    for (std::size_t i = 0; i < fine_count && fine.ok() && fine.remaining() >= 4 && !coarse.empty(); ++i) {
        const std::uint32_t word = fine.u32();
        while (group + 1 < coarse.size() && coarse[group + 1].first_fine <= i) ++group;
        ClipInfo::Entry entry;
        entry.time = (coarse[group].time & ~1u) << 18 | 0;
        entry.time += (word >> 17 & 0x7FF) << 8;
        entry.packet = (coarse[group].packet & ~0x1FFFFu) + (word & 0x1FFFF);
        // Ascending, or the map is not to be trusted from here on.
        if (!clip.entries.empty() &&
            (entry.packet <= clip.entries.back().packet || entry.time < clip.entries.back().time))
            break;
        clip.entries.push_back(entry);
    }
    return clip;
}

ByteVector write_playlist(const Playlist& playlist) {
    ByteWriter list;
    list.u16(0);
    list.u16(playlist.items.size());
    list.u16(0);
    for (const Playlist::Item& item : playlist.items) {
        ByteWriter body;
        body.text(item.clips.front());
        body.text("M2TS");
        body.u16((item.clips.size() > 1 ? 0x10u : 0u) | (item.seamless ? 5u : 1u));
        body.u8(0);
        body.u32(item.in_time);
        body.u32(item.out_time);
        body.fill(8 + 1 + 1 + 2);
        if (item.clips.size() > 1) {
            body.u8(item.clips.size());
            body.u8(1);  // seamless
            for (std::size_t i = 1; i < item.clips.size(); ++i) {
                body.text(item.clips[i]);
                body.text("M2TS");
                body.u8(0);
            }
        }
        ByteWriter streams;
        streams.u16(0);
        streams.u8(item.video.size());
        streams.u8(item.audio.size());
        streams.u8(item.graphics.size());
        streams.fill(4 + 5);
        for (const auto* kind : {&item.video, &item.audio, &item.graphics}) {
            for (const StreamInfo& stream : *kind) {
                streams.u8(9);
                streams.u8(1);
                streams.u16(static_cast<unsigned>(stream.pid));
                streams.fill(6);
                write_coding(streams, stream, 5);
            }
        }
        body.u16(streams.size());
        body.raw(streams.bytes());
        list.u16(body.size());
        list.raw(body.bytes());
    }
    ByteWriter marks;
    marks.u16(playlist.chapters.size());
    for (const Playlist::Mark& mark : playlist.chapters) {
        marks.u8(0);
        marks.u8(1);
        marks.u16(static_cast<unsigned>(mark.item));
        marks.u32(mark.time);
        marks.u16(0xFFFF);
        marks.u32(0);
    }
    ByteWriter out;
    const bool ultra = std::any_of(playlist.items.begin(), playlist.items.end(), [](const Playlist::Item& item) {
        return !item.video.empty() && item.video.front().coding == kHevc;
    });
    out.text(ultra ? "MPLS0300" : "MPLS0200");
    constexpr std::size_t kListAt = 58;
    out.u32(kListAt);
    out.u32(kListAt + 4 + list.size());
    out.u32(0);
    out.pad_to(40);
    out.u32(14);  // application information: sequential playback, nothing masked
    out.u8(0);
    out.u8(1);
    out.pad_to(kListAt);
    out.u32(list.size());
    out.raw(list.bytes());
    out.u32(marks.size());
    out.raw(marks.bytes());
    return out.release();
}

ByteVector write_clip_info(const ClipInfo& clip, int pmt_pid, int pcr_pid, std::uint32_t bytes_per_second) {
    ByteWriter info;
    info.u16(0);
    info.u8(1);  // AV stream
    info.u8(1);  // main path of a movie
    info.u32(0);
    info.u32(bytes_per_second);
    info.u32(clip.packets);
    info.fill(128);
    info.u16(30);
    info.u8(0x80);
    info.text("HDMV");
    info.fill(25);

    ByteWriter sequence;
    sequence.u8(0);
    sequence.u8(1);
    sequence.u32(0);
    sequence.u8(1);
    sequence.u8(0);
    sequence.u16(static_cast<unsigned>(pcr_pid));
    sequence.u32(0);
    sequence.u32(clip.start_time);
    sequence.u32(clip.end_time);

    ByteWriter program;
    program.u8(0);
    program.u8(1);
    program.u32(0);
    program.u16(static_cast<unsigned>(pmt_pid));
    program.u8(clip.streams.size());
    program.u8(0);
    for (const StreamInfo& stream : clip.streams) {
        program.u16(static_cast<unsigned>(stream.pid));
        write_coding(program, stream, 21);
    }

    // Entry points: a coarse entry whenever the upper bits of time or packet number change.
    ByteWriter coarse, fine;
    std::size_t coarse_count = 0;
    std::uint32_t last_time = 0, last_packet = 0;
    for (std::size_t i = 0; i < clip.entries.size(); ++i) {
        const ClipInfo::Entry& entry = clip.entries[i];
        const std::uint32_t time = entry.time >> 18 & 0x3FFF;
        if (i == 0 || (time & ~1u) != (last_time & ~1u) || (entry.packet >> 17) != (last_packet >> 17)) {
            coarse.u32(i << 14 | time);
            coarse.u32(entry.packet);
            ++coarse_count;
        }
        last_time = time;
        last_packet = entry.packet;
        fine.u32(1u << 28 | (entry.time >> 8 & 0x7FF) << 17 | (entry.packet & 0x1FFFF));
    }
    ByteWriter map;
    map.u16(1);  // EP_map
    map.u8(0);
    map.u8(1);
    const int video_pid = clip.streams.empty() ? 0x1011 : clip.streams.front().pid;
    map.u16(static_cast<unsigned>(video_pid));
    base::BitWriter counts;
    counts.bits(0, 10);
    counts.bits(1, 4);
    counts.bits(static_cast<std::uint32_t>(coarse_count), 16);
    counts.bits(static_cast<std::uint32_t>(clip.entries.size()), 18);
    map.raw(counts.release());
    map.u32(14);  // this stream's map, from the start of the entry-point map
    map.u32(4 + coarse.size());
    map.raw(coarse.bytes());
    map.raw(fine.bytes());

    ByteWriter out;
    const bool ultra = !clip.streams.empty() && clip.streams.front().coding == kHevc;
    out.text(ultra ? "HDMV0300" : "HDMV0200");
    out.pad_to(40);
    const auto place = [&](const ByteWriter& body) {
        const std::size_t at = out.size();
        out.u32(body.size());
        out.raw(body.bytes());
        return at;
    };
    place(info);
    out.put_u32(8, place(sequence));
    out.put_u32(12, place(program));
    out.put_u32(16, place(map));
    ByteWriter none;
    out.put_u32(20, place(none));
    return out.release();
}

}  // namespace wavecrest::disc::blu_ray
