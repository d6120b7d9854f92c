// Fuzz targets for what reads discs, files and wires. None may crash, hang or use memory without bound on any bytes.
#include "targets.hpp"

#include <cstddef>
#include <cstdint>
#include <cstdlib>

#include "base/byte_source.hpp"
#include "bitstream/audio_frames.hpp"
#include "bitstream/captions.hpp"
#include "bitstream/h264.hpp"
#include "bitstream/h265.hpp"
#include "bitstream/headers.hpp"
#include "bitstream/lpcm.hpp"
#include "bitstream/mpeg2.hpp"
#include "bitstream/web_video.hpp"
#include "codec/h264/decoder.hpp"
#include "codec/pgs.hpp"
#include "codec/subpicture.hpp"
#include "container/cmaf.hpp"
#include "container/dash_manifest.hpp"
#include "container/from_time.hpp"
#include "container/media_playlist.hpp"
#include "container/mpeg_ps.hpp"
#include "container/mpeg_ts.hpp"
#include "container/reader.hpp"
#include "container/sniff.hpp"
#include "container/tags.hpp"
#include "device/claims.hpp"
#include "disc/blu_ray_tables.hpp"
#include "disc/disc_files.hpp"
#include "disc/dvd_tables.hpp"
#include "disc/dvd_title_source.hpp"
#include "disc/iso9660.hpp"
#include "disc/udf.hpp"
#include "host/file_system.hpp"
#include "library/names.hpp"
#include "measure/transport.hpp"
#include "net/amf0.hpp"
#include "net/networks.hpp"
#include "net/rate_steps.hpp"
#include "net/rtmp_chunks.hpp"
#include "net/rtp.hpp"
#include "net/url.hpp"
#include "share/location.hpp"
#include "share/netbios.hpp"
#include "share/ntlm.hpp"
#include "share/onc_rpc.hpp"
#include "share/ws_discovery.hpp"
#include "source/adaptive_title.hpp"
#include "stream/watched.hpp"
#include "trial/messages.hpp"
#include "upnp/description.hpp"
#include "upnp/didl.hpp"
#include "upnp/eventing.hpp"
#include "upnp/protocol_info.hpp"
#include "upnp/search_criteria.hpp"
#include "upnp/soap.hpp"
#include "upnp/ssdp.hpp"
#include "verify/watched.hpp"

using namespace wavecrest;

namespace {

void ifo(ByteSpan bytes) {
    (void)disc::dvd::parse_manager(bytes, "fuzz");
    (void)disc::dvd::parse_title_set(bytes, "fuzz");
}

void playlist(ByteSpan bytes) {
    const auto parsed = disc::blu_ray::parse_playlist(bytes, "fuzz");
    if (!parsed) return;
    for (const auto& item : parsed->items) {
        for (const auto& stream : item.audio) (void)disc::blu_ray::describe(stream);
        for (const auto& stream : item.video) (void)disc::blu_ray::describe(stream);
    }
}

void clip_info(ByteSpan bytes) {
    (void)disc::blu_ray::parse_clip_info(bytes, "fuzz");
}

// Lists everything to a small depth and reads the beginning and the end of every file.
void walk(const disc::DiscFiles& files, const std::string& folder, int depth, int& budget) {
    const auto entries = files.list(folder);
    if (!entries) return;
    for (const auto& entry : *entries) {
        if (--budget < 0) return;
        const std::string name = folder.empty() ? entry.name : folder + "/" + entry.name;
        if (entry.folder) {
            if (depth > 0) walk(files, name, depth - 1, budget);
            continue;
        }
        auto file = files.open(name);
        if (!file) continue;
        ByteVector some(3000);
        (void)(*file)->read_at(0, some);
        (void)(*file)->read_at((*file)->size() > 1000 ? (*file)->size() - 1000 : 0, some);
    }
}

// The bytes are the blocks behind the first 16, so that inputs stay small; an anchor stands where one is looked for.
ByteVector image_of(ByteSpan bytes, bool anchor) {
    ByteVector image(16 * 2048);
    image.insert(image.end(), bytes.begin(), bytes.end());
    if (anchor) {
        image.resize(std::max<std::size_t>(image.size(), 257 * 2048));
        ByteVector block(2048);
        block[0] = 2;
        block[18] = 0x80;  // a sequence of 16 blocks at 16
        block[20] = 16;
        unsigned sum = 0;
        for (std::size_t i = 0; i < 16; ++i) sum += i == 4 ? 0u : block[i];
        block[4] = static_cast<std::uint8_t>(sum);
        std::copy(block.begin(), block.end(), image.begin() + 256 * 2048);
    }
    return image;
}

void iso9660(ByteSpan bytes) {
    const auto files = disc::open_iso9660(std::make_shared<base::MemorySource>(image_of(bytes, false)));
    int budget = 64;
    if (files) walk(**files, "", 4, budget);
}

void udf(ByteSpan bytes) {
    const auto files = disc::open_udf(std::make_shared<base::MemorySource>(image_of(bytes, true)));
    int budget = 64;
    if (files) walk(**files, "", 4, budget);
}

void decode(media::SubtitleDecoder& decoder, ByteSpan bytes) {
    Packet packet;
    packet.data = Bytes(ByteVector(bytes.begin(), bytes.end()));
    std::vector<Overlay> out;
    decoder.decode(packet, out);
}

void subpicture(ByteSpan bytes) {
    Track track;
    track.codec_config = Bytes(ByteVector(codec::kSubpicturePaletteSize));
    decode(*codec::make_subpicture_decoder(track), bytes);
    (void)codec::subpicture_is_forced(bytes);
}

void pgs(ByteSpan bytes) {
    decode(*codec::make_pgs_decoder({}), bytes);
    (void)codec::pgs_is_forced(bytes);
}

// Packs and packets of either stream, and what lies in them.
void streams(ByteSpan bytes) {
    container::ps::PackContents contents;
    container::ps::parse_packs(bytes, contents);
    (void)disc::parse_navigation(bytes);
    bitstream::mpeg2::AccessUnitSplitter splitter;
    bitstream::mpeg2::PictureTimer timer;
    std::vector<bitstream::mpeg2::AccessUnit> units;
    std::vector<bitstream::mpeg2::TimedUnit> timed;
    for (const auto& packet : contents.packets) {
        splitter.push(packet.payload, base::from_ticks(packet.pts.value_or(0), 90'000), {}, 0, units);
        if (const auto header = bitstream::parse_dvd_lpcm_header(packet.payload))
            (void)bitstream::plain_dvd_lpcm(*header, packet.payload.subspan(bitstream::kDvdLpcmHeaderSize));
    }
    splitter.push(bytes, Time{}, Time{}, 0, units);
    splitter.flush(units);
    for (auto& unit : units) {
        (void)bitstream::mpeg2::has_closed_captions(unit.data);
        if (splitter.sequence()) timer.push(std::move(unit), *splitter.sequence(), timed);
    }
    timer.flush(timed);
    for (const Codec codec : {Codec::ac3, Codec::dts, Codec::mp2, Codec::eac3}) {
        bitstream::AudioFrameSplitter frames(codec);
        std::vector<bitstream::AudioFrame> out;
        frames.push(bytes.first(bytes.size() / 2), Time{5}, out);
        frames.push(bytes.subspan(bytes.size() / 2), Time{9}, out);
        frames.flush(out);
    }
    if (const auto header = bitstream::parse_blu_ray_lpcm_header(bytes))
        (void)bitstream::plain_blu_ray_lpcm(*header, bytes.subspan(bitstream::kBluRayLpcmHeaderSize));
    container::ts::SectionCollector sections;
    for (std::size_t at = 0; at + container::ts::kPacket <= bytes.size(); at += container::ts::kPacket) {
        const auto packet = container::ts::parse_packet(bytes.subspan(at));
        if (!packet) continue;
        (void)container::ts::parse_pes(packet->payload);
        if (const auto section = sections.push(*packet)) {
            (void)container::ts::parse_pat(*section);
            (void)container::ts::parse_pmt(*section);
        }
    }
    (void)container::ts::parse_pat(bytes);
    (void)container::ts::parse_pmt(bytes);
    (void)bitstream::h264::parse_sps(bytes);
}

// A reader on any bytes: all packets, a skip, packets again.
void read(Result<container::MediaFile> (*open)(std::shared_ptr<base::ByteSource>), ByteSpan bytes) {
    auto media = open(std::make_shared<base::MemorySource>(ByteVector(bytes.begin(), bytes.end())));
    if (!media) return;
    PacketSource& source = *media->source;
    const auto some = [&](int count) {
        for (int i = 0; i < count; ++i) {
            const auto packet = source.read();
            if (!packet || !*packet) break;
        }
    };
    some(3000);
    for (const int part : {3, 0, 7}) {
        if (!source.seek(source.duration() / 8 * part)) break;
        some(200);
    }
    if (media->rate) (void)media->rate();
}
void from_times(std::string_view container, ByteSpan bytes) {
    const auto source = std::make_shared<base::MemorySource>(ByteVector(bytes.begin(), bytes.end()), "fuzz");
    for (const double seconds : {0.0, 1.5, 4000.0}) {
        const auto found = container::file_from_time(source, container, base::from_seconds(seconds));
        if (found && (found->offset > found->end || found->end > bytes.size())) std::abort();
    }
}
void mp4(ByteSpan bytes) {
    from_times("mp4", bytes);
    read(container::open_mp4, bytes);
}
void matroska(ByteSpan bytes) {
    from_times("matroska", bytes);
    read(container::open_matroska, bytes);
}
void transport(ByteSpan bytes) {
    from_times("mpeg-ts", bytes);
    read([](std::shared_ptr<base::ByteSource> b) { return container::open_mpeg_ts(std::move(b), 0); }, bytes);
}
void program(ByteSpan bytes) {
    from_times("mpeg-ps", bytes);
    read(container::open_mpeg_ps, bytes);
}
void avi(ByteSpan bytes) {
    read(container::open_avi, bytes);
}
void flv(ByteSpan bytes) {
    read(container::open_flv, bytes);
}
void ogg(ByteSpan bytes) {
    read(container::open_ogg, bytes);
}
void audio(ByteSpan bytes) {
    read(container::open_audio_file, bytes);
}
void text(ByteSpan bytes) {
    read(container::open_text_file, bytes);
    const std::string words(bytes.begin(), bytes.end());
    (void)container::plain_text_of_ass(words);
    (void)container::without_markup(words, true);
    (void)container::sniff(bytes);
}

// Configurations and first packets of every codec: the first byte chooses, the second divides.
void headers(ByteSpan bytes) {
    if (bytes.size() < 4) return;
    const auto codec = static_cast<Codec>(bytes[0] % (static_cast<int>(Codec::text) + 1));
    const ByteSpan rest = bytes.subspan(2);
    const std::size_t split = rest.size() * bytes[1] / 256;
    for (const bool configured : {true, false}) {
        Track track;
        track.codec = codec;
        track.kind = codec <= Codec::av1 ? TrackKind::video : TrackKind::audio;
        if (configured)
            track.codec_config = Bytes(ByteVector(rest.begin(), rest.begin() + static_cast<std::ptrdiff_t>(split)));
        bitstream::describe_headers(track, rest.subspan(split));
        (void)bitstream::codec_string(track);
        (void)bitstream::audio_duration(track, rest);
        bitstream::describe_cadence(track, {rest, rest, rest});
    }
    (void)bitstream::h265::parse_sps(rest);
    (void)bitstream::h265::parameter_sets(rest);
    (void)bitstream::av1_without_delimiters(rest);
    bitstream::CaptionReader captions(codec);
    Packet packet;
    packet.data = Bytes(ByteVector(rest.begin(), rest.end()));
    captions.push(packet);
    (void)captions.finish();
    bitstream::LineCaptions line;
    bitstream::ServiceCaptions service;
    for (std::size_t i = 0; i + 1 < rest.size(); i += 2) {
        line.push(Time(static_cast<std::int64_t>(i)), rest[i], rest[i + 1]);
        service.push(Time(static_cast<std::int64_t>(i)), rest[i] % 7 == 0, rest[i], rest[i + 1]);
    }
    line.finish(Time(1 << 20));
    service.finish(Time(1 << 20));
}

// Datagrams of any length, plain and as RTP, into the meter.
void datagrams(ByteSpan bytes) {
    net::SequenceMeter sequence;
    measure::TransportMeter meter;
    while (bytes.size() > 2) {
        const std::size_t size = std::min<std::size_t>(bytes.size() - 2, (bytes[0] << 8 | bytes[1]) % 1500u);
        const ByteSpan datagram = bytes.subspan(2, size);
        bytes = bytes.subspan(2 + size);
        ByteSpan payload = datagram;
        if (const auto packet = net::parse_rtp(datagram)) {
            sequence.push(packet->header.sequence);
            payload = packet->payload;
        }
        for (std::size_t at = 0; at + 188 <= payload.size(); at += 188) meter.push(payload.subspan(at, 188));
    }
    if (sequence.lost() > 65536 * sequence.received() + 65536) __builtin_trap();
    (void)measure::in_words(meter.report());
}

// RTMP: chunks as they come, cut where the first byte says, and the commands in them.
void rtmp(ByteSpan bytes) {
    if (bytes.empty()) return;
    net::rtmp::ChunkReader reader;
    std::vector<net::rtmp::Message> messages;
    const std::size_t step = bytes[0] + 1u;
    bytes = bytes.subspan(1);
    (void)net::amf0::parse(bytes);
    while (!bytes.empty()) {
        const std::size_t part = std::min(step, bytes.size());
        if (!reader.push(bytes.first(part), messages)) break;
        bytes = bytes.subspan(part);
    }
    for (const net::rtmp::Message& message : messages) {
        const auto values = net::amf0::parse(message.payload);
        if (!values) continue;
        // What is written again can be read again.
        const auto again = net::amf0::parse(net::amf0::write(*values));
        if (!again || again->size() != values->size()) __builtin_trap();
    }
}

// Playlists of HLS, their addresses, and lists of networks.
void hls(ByteSpan bytes) {
    const std::string text(bytes.begin(), bytes.end());
    const auto list = container::parse_playlist(text, "fuzz");
    if (list) {
        for (const auto& segment : list->segments) (void)net::resolve_uri("http://host/a/b.m3u8", segment.uri);
        if (list->segments.size() > bytes.size()) __builtin_trap();
        (void)container::write_playlist(*list);
    }
    (void)net::resolve_uri(text, text);
    if (const auto networks = net::Networks::parse({text})) (void)networks->contain(text);
}

// Units with two bytes of length in front; one without length ends a packet.
void h264(ByteSpan bytes) {
    Track track;
    track.kind = TrackKind::video;
    track.codec = Codec::h264;
    const auto decoder = codec::make_h264_decoder(track, {bytes.size() % 2 == 0 ? 1 : 2, &codec::h264::best_kernels()});
    std::vector<Picture> pictures;
    Packet packet;
    ByteVector data;
    int budget = 64;
    const auto give = [&] {
        packet.data = Bytes(std::move(data));
        data = {};
        packet.pts += base::from_seconds(0.04);
        (void)decoder->decode(packet, pictures);
        pictures.clear();
    };
    while (bytes.size() > 2 && budget-- > 0) {
        const auto size = std::min<std::size_t>(static_cast<std::size_t>(bytes[0] << 8 | bytes[1]), bytes.size() - 2);
        const ByteSpan unit = bytes.subspan(2, size);
        bytes = bytes.subspan(2 + size);
        if (unit.empty()) {
            give();
            continue;
        }
        // Large pictures are slow and show nothing that small ones don't.
        if ((unit[0] & 0x1F) == bitstream::h264::kSps) {
            const auto sps = bitstream::h264::parse_sps(unit);
            if (!sps || sps->columns * sps->rows > 400) continue;
        }
        data.insert(data.end(), {0, 0, static_cast<std::uint8_t>(size >> 8), static_cast<std::uint8_t>(size)});
        data.insert(data.end(), unit.begin(), unit.end());
    }
    give();
    (void)decoder->flush(pictures);
    (void)decoder->problems();
}

void tags(ByteSpan bytes) {
    (void)container::parse_vorbis_comment(bytes);
    (void)container::parse_id3(bytes);
}

// Playlists, manifests and indices of titles in several bit rates.
void ladder(ByteSpan bytes) {
    const std::string text(bytes.begin(), bytes.end());
    if (const auto manifest = container::parse_dash_manifest(text, "http://h/a/fuzz.mpd", 1'800'000'000'000))
        (void)container::parse_dash_manifest(container::write_dash_manifest(*manifest, "$RepresentationID$-$Number$"),
                                             "again");
    if (auto title = source::read_adaptive_title(text, "http://h/a/fuzz", 1'800'000'000'000)) {
        const auto fetch = [&](const source::AdaptiveTitle::Place&) -> Result<ByteVector> {
            return ByteVector(bytes.begin(), bytes.end());
        };
        for (auto* renditions : {&title->video, &title->audio, &title->text}) {
            for (std::size_t i = 0; i < std::min<std::size_t>(renditions->size(), 3); ++i) {
                (void)source::load_segments(*title, (*renditions)[i], fetch);
                (void)source::load_segments(*title, (*renditions)[i], fetch);
            }
        }
    }
    (void)container::parse_segment_index(bytes, 4096, 1'000'000, "fuzz");
    base::MemorySource file{ByteVector(bytes.begin(), bytes.end())};
    if (const auto read = container::read_cmaf_file(file, "fuzz")) {
        (void)read->peak_bps();
        (void)read->average_bps();
    }
    (void)net::parse_rate_steps(text.substr(0, 300));
}

// What devices of a network say, and ask.
void upnp_network(ByteSpan bytes) {
    const std::string text(bytes.begin(), bytes.end());
    if (const auto message = upnp::parse_ssdp(text)) {
        (void)upnp::is_senders_own(message->location, {"192.168.1.20", 1900});
        (void)upnp::parse_ssdp(upnp::write_ssdp(*message));
    }
    if (const auto device = upnp::parse_description(text, "http://192.168.1.20:80/d.xml")) {
        (void)device->service(upnp::kAvTransport);
        (void)upnp::parse_description(upnp::write_description(*device), "http://192.168.1.20:80/d.xml");
    }
    (void)upnp::parse_action(text);
    (void)upnp::parse_answer(text, "Browse");
    (void)upnp::parse_properties(text);
    (void)upnp::parse_last_change(text);
    if (const auto objects = upnp::parse_didl(text)) (void)upnp::write_didl(*objects, text.substr(0, 100));
    (void)upnp::parse_duration(text);
    (void)upnp::parse_criteria(text);
    (void)upnp::parse_sort(text);
    (void)device::from_claims("x", upnp::parse_protocol_infos(text));
    (void)library::named_as(base::Path(text.substr(0, text.find('\0'))));
}

// What file servers of the network and disks say of themselves.
void file_servers(ByteSpan bytes) {
    const std::string text(bytes.begin(), bytes.end());
    if (const auto challenge = share::ntlm::parse_challenge(bytes)) {
        share::Account account;
        account.user = account.domain = text.substr(0, 20);
        account.password = "lantern";
        (void)share::ntlm::authenticate(account, *challenge, {});
    }
    (void)share::ntlm::utf8(share::ntlm::utf16(text));
    (void)share::ntlm::utf8(bytes);
    (void)share::parse_exports(bytes);
    (void)share::is_netbios_answer(text, 0x1234);
    (void)share::parse_netbios_status(text);
    (void)share::parse_probe_matches(text);
    (void)share::parse_ws_computer(text);
    if (const auto location = share::parse_location("smb://attic/" + text))
        (void)share::parse_location(location->text());
    (void)share::parse_location(text);
    (void)host::recognise_file_system([&](std::uint64_t offset, std::span<std::uint8_t> into) -> std::size_t {
        if (offset >= bytes.size()) return 0;
        const ByteSpan part = bytes.subspan(static_cast<std::size_t>(offset));
        const std::size_t count = std::min(part.size(), into.size());
        std::copy_n(part.begin(), count, into.begin());
        return count;
    });
}

}  // namespace

// What pages and servers say of themselves, and of their viewers.
void told(ByteSpan bytes) {
    const std::string text(bytes.begin(), bytes.end());
    const trial::Message message = trial::parse_message(text);
    (void)trial::parse_seen(trial::seen_text(message.seen));
    trial::Step step;
    step.clip = sample::Clip{};
    step.clip->video = sample::ClipVideo{};
    step.clip->audio = sample::ClipAudio{};
    using Kind = trial::Step::Kind;
    for (const Kind kind :
         {Kind::display, Kind::download, Kind::claims, Kind::play, Kind::motion, Kind::seek, Kind::sync}) {
        step.kind = kind;
        (void)trial::judge(step, message.seen, message.seen.display_hz);
    }
    for (const measure::Viewing& viewing : stream::viewings_in(text)) (void)verify::judge_watched(viewing, "", {}, "");
}

const std::vector<FuzzTarget>& fuzz_targets() {
    static const std::vector<FuzzTarget> targets = {
        {"ifo", ifo},
        {"playlist", playlist},
        {"clip_info", clip_info},
        {"iso9660", iso9660},
        {"udf", udf},
        {"subpicture", subpicture},
        {"pgs", pgs},
        {"streams", streams},
        {"mp4", mp4},
        {"matroska", matroska},
        {"transport", transport},
        {"program", program},
        {"avi", avi},
        {"flv", flv},
        {"ogg", ogg},
        {"audio", audio},
        {"text", text},
        {"tags", tags},
        {"headers", headers},
        {"datagrams", datagrams},
        {"rtmp", rtmp},
        {"hls", hls},
        {"ladder", ladder},
        {"file_servers", file_servers},
        {"told", told},
        {"upnp_network", upnp_network},
        {"h264", h264},
    };
    return targets;
}

#ifdef WAVECREST_FUZZ_TARGET
extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    WAVECREST_FUZZ_TARGET(ByteSpan(data, size));
    return 0;
}
#endif
