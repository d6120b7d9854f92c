// Ogg (RFC 3533) with Opus (RFC 7845), Vorbis (Vorbis I, annex A) and FLAC (its Ogg mapping): read and written.
#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <chrono>
#include <deque>
#include <map>
#include <optional>

#include "base/atomic_file.hpp"
#include "base/byte_source.hpp"
#include "base/window_reader.hpp"
#include "bitstream/headers.hpp"
#include "bitstream/xiph.hpp"
#include "container/reader.hpp"
#include "container/tags.hpp"
#include "container/writer.hpp"

namespace wavecrest::container {
namespace {

constexpr std::size_t kPageHeader = 27;
constexpr std::size_t kLongestPage = kPageHeader + 255 + 255 * 255;
constexpr std::size_t kLongestPacket = 16 << 20;
constexpr std::size_t kPageBytes = 4096;  // players skip to pages
constexpr std::uint8_t kContinued = 1, kFirst = 2, kLast = 4;
constexpr int kOpusPreRoll = 3840;  // samples, RFC 7845, 4.6

constexpr std::array<std::uint32_t, 256> make_table() {
    std::array<std::uint32_t, 256> table{};
    for (std::uint32_t i = 0; i < 256; ++i) {
        std::uint32_t crc = i << 24;
        for (int k = 0; k < 8; ++k) crc = (crc & 0x80000000) != 0 ? crc << 1 ^ 0x04C11DB7 : crc << 1;
        table[i] = crc;
    }
    return table;
}
constexpr auto kCrc = make_table();

// Of a page, with its own field taken as zero.
std::uint32_t page_crc(ByteSpan page) {
    std::uint32_t crc = 0;
    for (std::size_t i = 0; i < page.size(); ++i) {
        const std::uint8_t byte = i >= 22 && i < 26 ? 0 : page[i];
        crc = crc << 8 ^ kCrc[(crc >> 24 ^ byte) & 0xFF];
    }
    return crc;
}

bool begins(ByteSpan bytes, std::string_view text) {
    return bytes.size() >= text.size() &&
           std::equal(text.begin(), text.end(), bytes.begin(),
                      [](char a, std::uint8_t b) { return static_cast<std::uint8_t>(a) == b; });
}

struct Page {
    std::uint8_t flags = 0;
    std::int64_t granule = -1;
    std::uint32_t serial = 0, number = 0;
    std::vector<ByteSpan> pieces;  // of packets
    bool last_open = false;        // the last piece goes on in the next page
    std::size_t size = 0;
};

// A page whose check sum is right at the beginning of `bytes`.
std::optional<Page> parse_page(ByteSpan bytes) {
    if (bytes.size() < kPageHeader || !begins(bytes, "OggS") || bytes[4] != 0) return std::nullopt;
    const std::size_t segments = bytes[26];
    if (bytes.size() < kPageHeader + segments) return std::nullopt;
    std::size_t body = 0;
    for (std::size_t i = 0; i < segments; ++i) body += bytes[kPageHeader + i];
    Page page;
    page.size = kPageHeader + segments + body;
    if (bytes.size() < page.size) return std::nullopt;
    if (base::little_endian(bytes, 22, 4) != page_crc(bytes.first(page.size))) return std::nullopt;
    page.flags = bytes[5];
    page.granule = static_cast<std::int64_t>(base::little_endian(bytes, 6, 8));
    page.serial = static_cast<std::uint32_t>(base::little_endian(bytes, 14, 4));
    page.number = static_cast<std::uint32_t>(base::little_endian(bytes, 18, 4));
    std::size_t at = kPageHeader + segments, length = 0;
    for (std::size_t i = 0; i < segments; ++i) {
        const std::size_t lace = bytes[kPageHeader + i];
        length += lace;
        if (lace < 255) {
            page.pieces.push_back(bytes.subspan(at, length));
            at += length;
            length = 0;
        }
    }
    if (length > 0 || (segments > 0 && bytes[kPageHeader + segments - 1] == 255)) {
        page.pieces.push_back(bytes.subspan(at, length));
        page.last_open = true;
    }
    return page;
}

class OggSource : public PacketSource {
  public:
    explicit OggSource(std::shared_ptr<base::ByteSource> bytes) : bytes_(std::move(bytes), 512 << 10) {}
    const std::vector<Track>& tracks() const override { return tracks_; }
    const std::vector<Chapter>& chapters() const override { return chapters_; }
    Time duration() const override { return duration_; }
    const std::vector<Problem>& problems() const override { return problems_; }

    Status open();
    Result<std::optional<Packet>> read() override;
    Status seek(Time time) override;
    std::vector<std::string> notes;
    media::Tags tags;

  private:
    struct Stream {
        Track track;
        int headers_left = 0;
        std::vector<ByteVector> headers;
        ByteVector open;  // of a packet that goes on
        bool broken = false;
        std::unique_ptr<bitstream::VorbisTimer> vorbis;
        std::vector<std::pair<ByteVector, int>> waiting;  // packets and samples of the page at hand
        std::int64_t next = -1;                           // sample at which the next packet begins
        std::int64_t pre_skip = 0;
        std::uint32_t page = 0;
        bool begun = false;
    };
    Status read_page();
    bool take_header(Stream& s, ByteSpan packet);
    int samples_of(Stream& s, ByteSpan packet) const;
    void finish_page(Stream& s, const Page& page);
    Time time_of(const Stream& s, std::int64_t sample) const {
        return base::from_ticks(sample - s.pre_skip, s.track.sample_rate);
    }
    std::optional<std::pair<std::uint64_t, Page>> page_behind(std::uint64_t place, std::uint64_t limit);

    base::WindowReader bytes_;
    std::uint64_t at_ = 0, data_ = 0;
    bool ended_ = false;
    std::map<std::uint32_t, Stream> streams_;
    std::deque<Packet> ready_;
    std::vector<Track> tracks_;
    std::vector<Chapter> chapters_;
    std::vector<Problem> problems_;
    Time duration_{}, reached_{};
    std::optional<Time> skip_to_;
};

bool OggSource::take_header(Stream& s, ByteSpan packet) {
    if (s.headers_left == 0) return false;
    s.headers.emplace_back(packet.begin(), packet.end());
    --s.headers_left;
    // Comments are the second header, behind a mark of the codec.
    const std::size_t mark = s.track.codec == Codec::opus ? 8 : s.track.codec == Codec::vorbis ? 7 : 4;
    if (s.headers.size() == 2 && packet.size() > mark && tags.empty())
        tags = parse_vorbis_comment(packet.subspan(mark));
    if (s.headers.size() == 1 && s.track.codec == Codec::flac && packet.size() >= 13 + 38) {
        const int following = packet[7] << 8 | packet[8];
        s.headers_left = following > 0 ? following : 1;
        // 0x7F "FLAC", version, count, "fLaC", then the STREAMINFO block with its header.
        s.track.codec_config = Bytes(ByteVector(packet.begin() + 17, packet.begin() + 17 + bitstream::kFlacStreamInfo));
    }
    if (s.headers_left > 0) return true;
    if (s.track.codec == Codec::opus) s.track.codec_config = Bytes(std::move(s.headers[0]));
    if (s.track.codec == Codec::vorbis) {
        s.track.codec_config = Bytes(bitstream::join_vorbis_headers(s.headers[0], s.headers[1], s.headers[2]));
        s.vorbis = bitstream::VorbisTimer::create(s.track.codec_config.view());
        if (!s.vorbis) s.broken = true;
    }
    s.headers.clear();
    bitstream::describe_headers(s.track, {});
    if (const auto head = bitstream::parse_opus_head(s.track.codec_config.view()); head && s.track.codec == Codec::opus)
        s.pre_skip = head->pre_skip;
    return true;
}

int OggSource::samples_of(Stream& s, ByteSpan packet) const {
    if (s.track.codec == Codec::opus) return bitstream::opus_packet_samples(packet);
    if (s.vorbis) return s.vorbis->samples(packet);
    if (const auto frame = bitstream::parse_flac_frame(packet)) return frame->samples;
    return 0;
}

Status OggSource::read_page() {
    WAVECREST_TRY_ASSIGN(view, bytes_.view(at_, kLongestPage));
    if (view.size() < kPageHeader) {
        ended_ = true;
        return {};
    }
    const auto page = parse_page(view);
    if (!page) {
        // Damage: the next page that is whole.
        const auto next = page_behind(at_ + 1, bytes_.size());
        problems_.push_back({next ? "damaged pages skipped" : "the file ends inside a page", reached_, reached_});
        for (auto& [serial, s] : streams_) {
            s.open.clear();
            s.next = -1;
            if (s.vorbis) s.vorbis->restart();
        }
        if (next) {
            at_ = next->first;
        } else {
            ended_ = true;
        }
        return {};
    }
    at_ += page->size;
    auto found = streams_.find(page->serial);
    if ((page->flags & kFirst) != 0 && found == streams_.end() && !page->pieces.empty()) {
        const ByteSpan head = page->pieces.front();
        Stream s;
        s.track.id = static_cast<TrackId>(streams_.size() + 1);
        s.track.kind = TrackKind::audio;
        if (begins(head, "OpusHead")) {
            s.track.codec = Codec::opus;
            s.headers_left = 2;
        } else if (begins(head, "\x01vorbis")) {
            s.track.codec = Codec::vorbis;
            s.headers_left = 3;
        } else if (begins(head,
                          "\x7F"
                          "FLAC")) {
            s.track.codec = Codec::flac;
            s.headers_left = 1;
        } else {
            s.broken = true;
            constexpr std::pair<std::string_view, std::string_view> kOthers[] = {
                {"\x80theora", "video codec Theora"}, {"BBCD", "video codec Dirac"}, {"Speex   ", "audio codec Speex"}};
            std::string what = "the codec of a stream";
            for (const auto& [mark, name] : kOthers) {
                if (begins(head, mark)) what = name;
            }
            notes.push_back(what + " not supported, skipped");
        }
        found = streams_.emplace(page->serial, std::move(s)).first;
    }
    if (found == streams_.end()) return {};
    Stream& s = found->second;
    if (s.broken) return {};
    const bool gap = s.begun && page->number != s.page + 1;
    s.begun = true;
    s.page = page->number;
    if (gap) {
        s.open.clear();
        s.next = -1;
    }
    bool skip_first = (page->flags & kContinued) != 0 && s.open.empty();
    if ((page->flags & kContinued) == 0) s.open.clear();
    for (std::size_t i = 0; i < page->pieces.size(); ++i) {
        const ByteSpan piece = page->pieces[i];
        const bool open = page->last_open && i + 1 == page->pieces.size();
        if (std::exchange(skip_first, false)) continue;
        if (s.open.size() + piece.size() > kLongestPacket) {
            s.open.clear();
            continue;
        }
        s.open.insert(s.open.end(), piece.begin(), piece.end());
        if (open) break;
        ByteVector packet = std::exchange(s.open, {});
        if (packet.empty() || take_header(s, packet)) continue;
        const int samples = samples_of(s, packet);
        s.waiting.emplace_back(std::move(packet), samples);
    }
    finish_page(s, *page);
    return {};
}

// A page tells at which sample its last whole packet ends.
void OggSource::finish_page(Stream& s, const Page& page) {
    if (s.waiting.empty() || page.granule < 0) return;
    std::int64_t sum = 0;
    for (const auto& [packet, samples] : s.waiting) sum += samples;
    std::int64_t at = s.next;
    if (at < 0) at = page.granule - sum;
    // The first page may begin later than 0, the last may end early.
    const bool last = (page.flags & kLast) != 0;
    if (!last && at + sum != page.granule) at = page.granule - sum;
    std::int64_t cut = last ? std::max<std::int64_t>(at + sum - page.granule, 0) : 0;
    std::vector<Packet> packets;
    for (auto& [data, samples] : s.waiting) {
        Packet packet;
        packet.track = s.track.id;
        packet.pts = packet.dts = time_of(s, at);
        packet.duration = base::from_ticks(samples, s.track.sample_rate);
        packet.key = true;
        packet.data = Bytes(std::move(data));
        at += samples;
        packets.push_back(std::move(packet));
    }
    for (auto p = packets.rbegin(); p != packets.rend() && cut > 0; ++p) {
        const std::int64_t own = base::to_ticks(p->duration, s.track.sample_rate);
        const std::int64_t taken = std::min(own, cut);
        p->duration = base::from_ticks(own - taken, s.track.sample_rate);
        cut -= taken;
    }
    s.next = at;
    s.waiting.clear();
    for (Packet& packet : packets) {
        reached_ = std::max(reached_, packet.pts);
        ready_.push_back(std::move(packet));
    }
}

Status OggSource::open() {
    const auto waiting = [&] {
        return streams_.empty() || std::any_of(streams_.begin(), streams_.end(), [](const auto& e) {
                   return e.second.headers_left > 0 && !e.second.broken;
               });
    };
    while (!ended_ && waiting() && at_ < (64u << 20)) WAVECREST_TRY(read_page());
    std::erase_if(streams_, [](const auto& e) { return e.second.broken || e.second.track.sample_rate == 0; });
    if (streams_.empty())
        return fail(ErrorKind::input, "no Opus, Vorbis or FLAC audio in this Ogg file", bytes_.source().name(),
                    "copy it again");
    data_ = at_;
    if (bytes_.source().seekable()) {
        std::uint64_t tail = 256 << 10;
        const std::uint64_t size = bytes_.size();
        while (duration_.count() == 0) {
            std::uint64_t place = size > tail ? size - tail : 0;
            while (const auto page = page_behind(place, size)) {
                const auto s = streams_.find(page->second.serial);
                if (s != streams_.end() && page->second.granule >= 0)
                    duration_ = std::max(duration_, time_of(s->second, page->second.granule));
                place = page->first + page->second.size;
            }
            if (tail >= size) break;
            tail *= 8;
        }
    }
    for (auto& [serial, s] : streams_) {
        s.track.duration = duration_;
        if (duration_.count() > 0 && streams_.size() == 1 && bytes_.size() != base::kUnknownSize)
            s.track.bitrate_bps =
                static_cast<std::int64_t>(static_cast<double>(bytes_.size() - data_) * 8 / base::to_seconds(duration_));
        tracks_.push_back(s.track);
    }
    return {};
}

Result<std::optional<Packet>> OggSource::read() {
    while (true) {
        while (ready_.empty() && !ended_) WAVECREST_TRY(read_page());
        if (ready_.empty()) return std::optional<Packet>{};
        Packet packet = std::move(ready_.front());
        ready_.pop_front();
        if (skip_to_ && packet.pts + packet.duration <= *skip_to_) continue;
        return std::optional<Packet>(std::move(packet));
    }
}

std::optional<std::pair<std::uint64_t, Page>> OggSource::page_behind(std::uint64_t place, std::uint64_t limit) {
    while (place + kPageHeader <= limit) {
        const auto view = bytes_.view(place, 2 * kLongestPage);
        if (!view || view->size() < kPageHeader) return std::nullopt;
        for (std::size_t i = 0; i + kPageHeader <= view->size(); ++i) {
            if ((*view)[i] != 'O' || !begins(view->subspan(i), "OggS")) continue;
            if (place + i >= limit) return std::nullopt;
            if (i > kLongestPage && view->size() == 2 * kLongestPage) break;  // may be cut: looked at again from here
            if (auto page = parse_page(view->subspan(i))) return std::pair(place + i, std::move(*page));
        }
        if (view->size() < 2 * kLongestPage) return std::nullopt;
        place += kLongestPage;
    }
    return std::nullopt;
}

Status OggSource::seek(Time time) {
    if (!bytes_.source().seekable()) {
        return fail(skips_refused(bytes_.source()));
    }
    // The page that ends at or before the time, and a little more for decoders that need it (Opus).
    const Time target = time - base::from_ticks(kOpusPreRoll, 48000);
    std::uint64_t low = data_, high = bytes_.size();
    while (high - low > (128 << 10)) {
        const std::uint64_t middle = low + (high - low) / 2;
        auto page = page_behind(middle, high);
        while (page && (page->second.granule < 0 || !streams_.contains(page->second.serial)))
            page = page_behind(page->first + page->second.size, high);
        if (page && time_of(streams_.at(page->second.serial), page->second.granule) <= target) {
            low = page->first;
        } else {
            high = middle;
        }
    }
    at_ = low;
    ended_ = false;
    ready_.clear();
    for (auto& [serial, s] : streams_) {
        s.open.clear();
        s.waiting.clear();
        s.next = -1;
        s.begun = false;
        if (s.vorbis) s.vorbis->restart();
    }
    skip_to_ = time;
    return {};
}

// One track; its packets are gathered to pages of up to a second.
class OggWriter : public PacketSink {
  public:
    OggWriter(std::unique_ptr<base::ByteSink> file, Track track, media::Tags tags)
        : file_(std::move(file)), track_(std::move(track)), tags_(std::move(tags)) {}

    Status begin() {
        std::vector<ByteVector> headers;
        const ByteSpan config = track_.codec_config.view();
        if (track_.codec == Codec::opus) {
            const auto head = bitstream::parse_opus_head(config);
            if (head) pre_skip_ = head->pre_skip;
            headers.emplace_back(config.begin(), config.end());
            base::ByteWriter tags;
            tags.text("OpusTags");
            tags.raw(make_vorbis_comment(tags_));
            headers.push_back(tags.release());
        } else if (track_.codec == Codec::vorbis) {
            const auto split = bitstream::split_vorbis_headers(config);
            if (!split)
                return fail(ErrorKind::input, "the Vorbis headers are damaged", fmt::format("track {}", track_.id),
                            "leave the track out");
            for (const ByteSpan header : *split) headers.emplace_back(header.begin(), header.end());
            timer_ = bitstream::VorbisTimer::create(config);
        } else {
            base::ByteWriter first;
            first.u8(0x7F);
            first.text("FLAC");
            first.u16(0x0100);
            first.u16(1);
            first.text("fLaC");
            first.u32(bitstream::kFlacStreamInfo);
            first.raw(config);
            headers.push_back(first.release());
            base::ByteWriter comment;  // VORBIS_COMMENT, the last metadata block
            const ByteVector fields = make_vorbis_comment(tags_);
            comment.u32(0x84000000u | fields.size());
            comment.raw(fields);
            headers.push_back(comment.release());
        }
        // The first header has a page of its own, and so have the others together.
        for (std::size_t i = 0; i < headers.size(); ++i) {
            packets_.push_back(std::move(headers[i]));
            if (i == 0 || i + 1 == headers.size()) WAVECREST_TRY(end_page(0, i == 0 ? kFirst : 0));
        }
        return {};
    }
    Status write(const Packet& packet) override {
        if (packet.track != track_.id) return {};
        // The page at hand is written when the next packet shows that it is not the last.
        std::size_t bytes = 0;
        for (const ByteVector& p : packets_) bytes += p.size();
        if (!packets_.empty() &&
            (bytes > kPageBytes || packets_.size() >= 200 || sample_ - page_from_ >= track_.sample_rate)) {
            WAVECREST_TRY(end_page(sample_, 0));
            page_from_ = sample_;
        }
        if (!begun_) {
            // Time 0 is behind what is to be skipped; audio that starts later begins at a later sample.
            begun_ = true;
            sample_ = std::max<std::int64_t>(base::to_ticks(packet.pts, track_.sample_rate) + pre_skip_, 0);
            page_from_ = sample_;
        }
        const ByteSpan data = packet.data.view();
        std::int64_t whole = base::to_ticks(bitstream::audio_duration(track_, data), track_.sample_rate);
        if (timer_) whole = timer_->samples(data);
        const std::int64_t heard = base::to_ticks(packet.duration, track_.sample_rate);
        sample_ += whole;
        cut_ = std::max<std::int64_t>(whole - heard, 0);
        packets_.emplace_back(data.begin(), data.end());
        return {};
    }
    Status finish() override {
        WAVECREST_TRY(end_page(sample_ - cut_, kLast));
        return file_->commit();
    }

  private:
    Status end_page(std::int64_t granule, std::uint8_t flags) {
        // Packets may run over several pages of 255 segments each.
        std::vector<std::uint8_t> laces;
        ByteVector body;
        for (const ByteVector& packet : packets_) {
            laces.insert(laces.end(), packet.size() / 255, 255);
            laces.push_back(static_cast<std::uint8_t>(packet.size() % 255));
            body.insert(body.end(), packet.begin(), packet.end());
        }
        packets_.clear();
        std::size_t lace = 0, at = 0;
        bool continued = false;
        do {
            const std::size_t count = std::min<std::size_t>(255, laces.size() - lace);
            std::size_t size = 0;
            bool any_end = false;
            for (std::size_t i = 0; i < count; ++i) {
                size += laces[lace + i];
                any_end = any_end || laces[lace + i] < 255;
            }
            const bool last_page = lace + count == laces.size();
            base::ByteWriter out;
            const auto put = [&](std::uint64_t value, int bytes) {
                for (int i = 0; i < bytes; ++i) out.u8(value >> (8 * i) & 0xFF);
            };
            out.text("OggS");
            out.u8(0);
            out.u8((continued ? kContinued : 0u) | (flags & kFirst) | (last_page ? flags & kLast : 0u));
            put(any_end ? static_cast<std::uint64_t>(granule) : ~std::uint64_t{0}, 8);
            put(kSerial, 4);
            put(page_++, 4);
            put(0, 4);
            out.u8(count);
            for (std::size_t i = 0; i < count; ++i) out.u8(laces[lace + i]);
            out.raw(ByteSpan(body).subspan(at, size));
            ByteVector page = out.release();
            const std::uint32_t crc = page_crc(page);
            for (std::size_t i = 0; i < 4; ++i) page[22 + i] = static_cast<std::uint8_t>(crc >> (8 * i));
            WAVECREST_TRY(file_->write(page));
            continued = count > 0 && laces[lace + count - 1] == 255;
            lace += count;
            at += size;
        } while (lace < laces.size());
        return {};
    }
    static constexpr std::uint32_t kSerial = 0x57617665;

    std::unique_ptr<base::ByteSink> file_;
    Track track_;
    media::Tags tags_;
    std::unique_ptr<bitstream::VorbisTimer> timer_;
    std::vector<ByteVector> packets_;
    std::int64_t sample_ = 0, page_from_ = 0, cut_ = 0, pre_skip_ = 0;
    std::uint32_t page_ = 0;
    bool begun_ = false;
};

}  // namespace

Result<MediaFile> open_ogg(std::shared_ptr<base::ByteSource> bytes) {
    auto source = std::make_unique<OggSource>(std::move(bytes));
    WAVECREST_TRY(source->open());
    MediaFile file;
    file.container = "ogg";
    file.notes = source->notes;
    file.tags = source->tags;
    file.source = std::move(source);
    return file;
}

Result<std::unique_ptr<PacketSink>> create_ogg(std::unique_ptr<base::ByteSink> file, std::vector<Track> tracks,
                                               WriterSettings settings) {
    auto writer = std::make_unique<OggWriter>(std::move(file), std::move(tracks.front()), std::move(settings.tags));
    WAVECREST_TRY(writer->begin());
    return std::unique_ptr<PacketSink>(std::move(writer));
}

}  // namespace wavecrest::container
