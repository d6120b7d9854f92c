#include <fmt/format.h>
#include <zlib.h>

#include <algorithm>
#include <deque>
#include <map>
#include <optional>
#include <utility>

#include "base/byte_source.hpp"
#include "base/units.hpp"
#include "base/window_reader.hpp"
#include "bitstream/h264.hpp"
#include "bitstream/h265.hpp"
#include "bitstream/headers.hpp"
#include "bitstream/lpcm.hpp"
#include "bitstream/nal.hpp"
#include "bitstream/xiph.hpp"
#include "container/from_time.hpp"
#include "container/matroska_ebml.hpp"
#include "container/matroska_format.hpp"
#include "container/matroska_tracks.hpp"
#include "container/reader.hpp"
#include "container/skip_gate.hpp"
#include "container/timing.hpp"

namespace wavecrest::container {
namespace {

using namespace mkv;
using base::ByteReader;

constexpr std::uint64_t kMostHeader = 64 << 20;  // of an element that is read as a whole
constexpr std::uint64_t kLargestBlock = 256 << 20;
constexpr std::size_t kProbePackets = 400;
constexpr std::size_t kTail = 8 << 20;
constexpr std::uint64_t kMostTicks = (std::uint64_t{1} << 53) - 1;

struct CuePoint {
    Time time{};
    std::uint64_t cluster = 0;  // offset in the file
};

class MatroskaSource : public PacketSource {
  public:
    explicit MatroskaSource(std::shared_ptr<base::ByteSource> bytes) : bytes_(std::move(bytes), 2 << 20) {}

    const std::vector<Track>& tracks() const override { return tracks_; }
    const std::vector<Chapter>& chapters() const override { return chapters_; }
    Time duration() const override { return duration_; }
    const std::vector<Problem>& problems() const override { return problems_; }

    Status open();
    Result<std::optional<Packet>> read() override;
    Status seek(Time time) override;
    std::vector<RatePiece> rate() const;
    Result<FileFromTime> from_time(Time time);

    std::string doc_type = "matroska";
    std::string title;
    std::vector<std::string> notes;
    std::vector<Problem> known_problems;

  private:
    tl::unexpected<Error> damaged(std::string what, std::uint64_t at) const {
        return fail(ErrorKind::input, std::move(what), fmt::format("{}, byte {}", bytes_.source().name(), at),
                    "the file is damaged or not finished; copy or make it again");
    }
    Time from_ns(std::int64_t ns) const { return Time(base::rescale(ns, base::kFlicksPerSecond, 1'000'000'000)); }
    Time scaled(std::int64_t ticks) const {
        return Time(base::rescale(ticks, scale_ * (base::kFlicksPerSecond / 100'000), 10'000));
    }
    Result<std::optional<Element>> element_at(std::uint64_t at);
    Status read_header(std::uint64_t at, std::uint32_t only);
    void parse_info(ByteSpan body);
    void parse_tracks(ByteSpan body);
    void parse_cues(ByteSpan body);
    void parse_chapters(ByteSpan body);
    void parse_edition(ByteSpan body);
    void parse_attachments(ByteSpan body);
    Status read_more();
    void take_group(ByteSpan body);
    void take_block(ByteSpan body, std::optional<bool> key, std::optional<std::int64_t> duration, std::int64_t discard);
    void emit(MkvTrack& t, ByteSpan frame, std::optional<Time> stated, Time duration, bool key, Time discard);
    std::optional<ByteVector> restored(const MkvTrack& t, ByteSpan frame) const;
    void resynchronise();
    bool is_known_at(std::uint64_t place);
    void find_duration();
    std::optional<CuePoint> cluster_at(std::uint64_t place);
    // The next cluster at or after `from`, with its time.
    std::optional<CuePoint> find_cluster(std::uint64_t from, std::uint64_t limit);
    void go_to(std::uint64_t cluster);
    Result<std::map<std::uint64_t, int>> leading_at(std::uint64_t cluster);
    void restart_clocks();
    std::vector<ByteSpan> pictures_of(TrackId id) const {
        std::vector<ByteSpan> pictures;
        for (const Packet& packet : ready_) {
            if (packet.track == id) pictures.push_back(packet.data.view());
        }
        return pictures;
    }
    MkvTrack* find(std::uint64_t number) {
        for (MkvTrack& t : mkv_tracks_) {
            if (t.number == number) return &t;
        }
        return nullptr;
    }

    base::WindowReader bytes_;
    struct Extent {
        std::uint64_t at = 0;
        std::size_t size = 0;
    };
    Extent ebml_, info_, track_entries_;  // elements in the file, with their headers
    std::uint64_t segment_ = 0;           // offset of the segment's body
    std::uint64_t at_ = 0;                // where reading goes on
    std::uint64_t first_cluster_ = 0;
    std::int64_t scale_ = 1'000'000;  // ns a tick
    std::int64_t cluster_ticks_ = 0;
    std::vector<MkvTrack> mkv_tracks_;
    std::vector<Track> tracks_;
    std::vector<Chapter> chapters_;
    std::vector<CuePoint> cues_;
    std::map<std::uint32_t, std::uint64_t> places_;  // of level-one elements, from the seek head
    std::vector<Problem> problems_;
    Time duration_{};
    Time reached_{};
    std::deque<Packet> ready_;
    bool ended_ = false;
    // After a skip: pictures before `skip_key_`, and audio that ends before it, are left out.
    SkipGate skip_;
};

Result<std::optional<Element>> MatroskaSource::element_at(std::uint64_t at) {
    WAVECREST_TRY_ASSIGN(bytes, bytes_.view(at, 12));
    return parse_element(bytes);
}

Status MatroskaSource::open() {
    WAVECREST_TRY_ASSIGN(ebml, element_at(0));
    if (!ebml || ebml->id != kEbml || ebml->size > 4096) {
        return fail(ErrorKind::input, "not a Matroska file", fmt::format("{}, byte 0", bytes_.source().name()),
                    "name a Matroska or WebM file");
    }
    WAVECREST_TRY_ASSIGN(head, bytes_.view(ebml->header, static_cast<std::size_t>(ebml->size)));
    for_children(head, [&](std::uint32_t id, ByteSpan body) {
        if (id == kDocType) doc_type = text_of(body);
    });
    at_ = ebml->header + ebml->size;
    ebml_ = {0, static_cast<std::size_t>(at_)};
    WAVECREST_TRY_ASSIGN(segment, element_at(at_));
    if (!segment || segment->id != kSegment) return damaged("the file has no segment", at_);
    at_ += segment->header;
    segment_ = at_;
    const std::uint64_t told_end = segment->size == kUnknownSize ? 0 : segment_ + segment->size;
    // All that comes before the first cluster; what lies behind is fetched by the seek head.
    while (true) {
        WAVECREST_TRY_ASSIGN(element, element_at(at_));
        if (!element) {
            if (mkv_tracks_.empty()) return damaged("the file has no track descriptions", at_);
            break;
        }
        if (element->id == kCluster) break;
        if (element->size == kUnknownSize || element->size > kMostHeader) {
            if (element->size == kUnknownSize) return damaged("an element before the first cluster has no size", at_);
        } else {
            WAVECREST_TRY(read_header(at_, 0));
        }
        at_ += element->header + element->size;
    }
    first_cluster_ = at_;
    if (bytes_.source().seekable()) {
        for (const std::uint32_t id : {kTracks, kCues, kChapters, kAttachments, kInfo}) {
            const auto place = places_.find(id);
            if (place == places_.end() || place->second < first_cluster_) continue;
            (void)read_header(place->second, id);  // what can't be read there is done without
        }
    }
    if (mkv_tracks_.empty()) return damaged("the file has no track descriptions", segment_);
    std::sort(cues_.begin(), cues_.end(), [](const CuePoint& a, const CuePoint& b) { return a.time < b.time; });
    std::stable_sort(chapters_.begin(), chapters_.end(),
                     [](const Chapter& a, const Chapter& b) { return a.start < b.start; });
    restart_clocks();
    // The first packets tell what the descriptions leave out.
    const auto all_described = [&] {
        return std::all_of(mkv_tracks_.begin(), mkv_tracks_.end(),
                           [](const MkvTrack& t) { return t.described || t.info.kind == TrackKind::subtitle; });
    };
    const bool flags_wanted = std::any_of(mkv_tracks_.begin(), mkv_tracks_.end(),
                                          [](const MkvTrack& t) { return t.info.codec == Codec::mpeg2; });
    for (std::size_t i = 0; i < kProbePackets && (!all_described() || (flags_wanted && ready_.size() < 60)) && !ended_;
         ++i)
        WAVECREST_TRY(read_more());
    if (duration_.count() == 0 && bytes_.source().seekable()) find_duration();
    for (MkvTrack& t : mkv_tracks_) {
        bitstream::describe_cadence(t.info, pictures_of(t.info.id));
        t.info.duration = duration_;
        if (!t.described && t.info.kind != TrackKind::subtitle) bitstream::describe_headers(t.info, {});
        if (!t.problem.empty()) notes.push_back(fmt::format("track {}: {}", t.info.id, t.problem));
        tracks_.push_back(t.info);
    }
    if (bytes_.size() != base::kUnknownSize && told_end > bytes_.size()) {
        const double part = static_cast<double>(bytes_.size()) / static_cast<double>(told_end);
        known_problems.push_back(
            {fmt::format("file is truncated: {} missing at the end", base::format_bytes(told_end - bytes_.size())),
             base::from_seconds(base::to_seconds(duration_) * part), duration_});
    }
    for (const Packet& packet : ready_) {
        for (Track& track : tracks_) {
            if (track.id == packet.track && track.start.count() == 0) track.start = std::max(packet.pts, Time{});
        }
    }
    return {};
}

// Reads a level-one element; `only` restricts to one kind.
Status MatroskaSource::read_header(std::uint64_t at, std::uint32_t only) {
    WAVECREST_TRY_ASSIGN(element, element_at(at));
    if (!element || element->size > kMostHeader || (only != 0 && element->id != only)) return {};
    switch (element->id) {
        case kSeekHead:
        case kInfo:
        case kTracks:
        case kCues:
        case kChapters:
        case kAttachments:
            break;
        default:
            return {};
    }
    if (element->id == kAttachments && only == 0 && places_.contains(kAttachments)) places_.erase(kAttachments);
    ByteVector body(static_cast<std::size_t>(element->size));
    WAVECREST_TRY_ASSIGN(got, bytes_.source().read_at(at + element->header, body));
    body.resize(got);
    const Extent whole{at, element->header + got};
    switch (element->id) {
        case kSeekHead:
            for_children(body, [&](std::uint32_t id, ByteSpan seek) {
                if (id != kSeek) return;
                std::uint64_t target = 0, position = 0;
                for_children(seek, [&](std::uint32_t field, ByteSpan value) {
                    if (field == kSeekId) target = unsigned_of(value);
                    if (field == kSeekPosition) position = unsigned_of(value);
                });
                places_.emplace(static_cast<std::uint32_t>(target), segment_ + position);
            });
            break;
        case kInfo:
            info_ = whole;
            parse_info(body);
            break;
        case kTracks:
            if (mkv_tracks_.empty()) track_entries_ = whole;
            parse_tracks(body);
            break;
        case kCues:
            parse_cues(body);
            break;
        case kChapters:
            parse_chapters(body);
            break;
        case kAttachments:
            parse_attachments(body);
            break;
        default:
            break;
    }
    return {};
}

void MatroskaSource::parse_info(ByteSpan body) {
    double length = 0;
    for_children(body, [&](std::uint32_t id, ByteSpan value) {
        if (id == kTimestampScale)
            scale_ = std::clamp<std::int64_t>(static_cast<std::int64_t>(unsigned_of(value)), 1, 1'000'000'000);
        if (id == kDuration) length = float_of(value);
        if (id == kTitle) title = text_of(value);
    });
    constexpr double kLongest = 1e15;  // ns: eleven days
    if (length > 0 && length * static_cast<double>(scale_) < kLongest)
        duration_ = base::from_seconds(length * static_cast<double>(scale_) / 1e9);
}

void MatroskaSource::parse_tracks(ByteSpan body) {
    if (!mkv_tracks_.empty()) return;
    for_children(body, [&](std::uint32_t id, ByteSpan entry) {
        if (id != kTrackEntry) return;
        std::string left_out;
        auto track = parse_track_entry(entry, left_out);
        if (!left_out.empty()) notes.push_back(std::move(left_out));
        if (track && find(track->number) == nullptr) mkv_tracks_.push_back(std::move(*track));
    });
}

void MatroskaSource::parse_cues(ByteSpan body) {
    for_children(body, [&](std::uint32_t id, ByteSpan point) {
        if (id != kCuePoint) return;
        std::int64_t time = 0;
        std::optional<std::uint64_t> cluster;
        bool video = false;
        for_children(point, [&](std::uint32_t field, ByteSpan value) {
            if (field == kCueTime) time = static_cast<std::int64_t>(unsigned_of(value));
            if (field != kCueTrackPositions) return;
            for_children(value, [&](std::uint32_t part, ByteSpan v) {
                if (part == kCueTrack) {
                    const MkvTrack* track = find(unsigned_of(v));
                    video = video || track == nullptr || track->info.kind != TrackKind::subtitle;
                }
                if (part == kCueClusterPosition && !cluster) cluster = segment_ + unsigned_of(v);
            });
        });
        if (cluster && video && *cluster < bytes_.size()) cues_.push_back({scaled(time), *cluster});
    });
}

// Of several editions the first; chapters inside chapters are left out.
void MatroskaSource::parse_chapters(ByteSpan body) {
    bool taken = false;
    for_children(body, [&](std::uint32_t id, ByteSpan value) {
        if (id == kEditionEntry && !std::exchange(taken, true)) parse_edition(value);
    });
}

void MatroskaSource::parse_edition(ByteSpan body) {
    constexpr std::size_t kMostChapters = 10000;
    for_children(body, [&](std::uint32_t id, ByteSpan value) {
        if (id != kChapterAtom || chapters_.size() >= kMostChapters) return;
        Chapter chapter;
        bool hidden = false;
        for_children(value, [&](std::uint32_t field, ByteSpan v) {
            if (field == kChapterStart) chapter.start = from_ns(static_cast<std::int64_t>(unsigned_of(v)));
            if (field == kChapterHidden) hidden = unsigned_of(v) != 0;
            if (field == kChapterDisplay && chapter.name.empty()) {
                for_children(v, [&](std::uint32_t part, ByteSpan x) {
                    if (part == kChapterString) chapter.name = text_of(x);
                });
            }
        });
        if (!hidden) chapters_.push_back(std::move(chapter));
    });
}

void MatroskaSource::parse_attachments(ByteSpan body) {
    std::vector<std::string> names;
    for_children(body, [&](std::uint32_t id, ByteSpan file) {
        if (id != kAttachedFile) return;
        for_children(file, [&](std::uint32_t field, ByteSpan value) {
            if (field == kFileName) names.push_back(text_of(value));
        });
    });
    if (names.empty()) return;
    std::string list;
    for (std::size_t i = 0; i < std::min<std::size_t>(names.size(), 4); ++i) list += (i > 0 ? ", " : "") + names[i];
    notes.push_back(fmt::format("{} attached {} skipped: {}{}", names.size(),
                                names.size() == 1 ? "file is" : "files are", list, names.size() > 4 ? " ..." : ""));
}

void MatroskaSource::restart_clocks() {
    const Time tick = scaled(1);
    const Time tolerance = tick / 2 + tick / 20 + Time(1);
    for (MkvTrack& t : mkv_tracks_) {
        if (t.info.kind == TrackKind::video) {
            // Interlaced pictures may be shown for one field more or less.
            Ratio rate = t.info.frame_rate;
            if (t.info.scan == Scan::interlaced) rate.num *= 2;
            if (!t.grid) t.grid = std::make_unique<PictureGrid>(rate, tolerance);
            const Time period =
                t.info.frame_rate.num > 0 ? base::frames_to_time(1, t.info.frame_rate) : from_ns(40'000'000);
            t.decoding = std::make_unique<DecodingTimes>(std::max(0, t.info.reorder_frames), period);
        } else if (t.info.kind == TrackKind::audio) {
            t.clock = std::make_unique<AudioClock>(t.info.sample_rate, 2 * tolerance);
        }
        if (t.vorbis) t.vorbis->restart();
    }
}

Result<std::optional<Packet>> MatroskaSource::read() {
    while (true) {
        while (ready_.empty() && !ended_) WAVECREST_TRY(read_more());
        if (ready_.empty()) return std::optional<Packet>{};
        Packet packet = std::move(ready_.front());
        ready_.pop_front();
        const auto track =
            std::find_if(tracks_.begin(), tracks_.end(), [&](const Track& t) { return t.id == packet.track; });
        if (track != tracks_.end() && skip_.leaves_out(track->kind, packet)) continue;
        return std::optional<Packet>(std::move(packet));
    }
}

Status MatroskaSource::read_more() {
    WAVECREST_TRY_ASSIGN(element, element_at(at_));
    if (!element) {
        WAVECREST_TRY_ASSIGN(rest, bytes_.view(at_, 12));
        if (rest.size() < 12) {
            ended_ = true;
            return {};
        }
        resynchronise();
        return {};
    }
    const bool known = element->size != kUnknownSize;
    switch (element->id) {
        case kCluster:
        case kSegment:
            at_ += element->header;  // goes in; sizes are not needed
            return {};
        case kTimestamp: {
            WAVECREST_TRY_ASSIGN(bytes,
                                 bytes_.view(at_ + element->header,
                                             static_cast<std::size_t>(std::min<std::uint64_t>(element->size, 8))));
            cluster_ticks_ = static_cast<std::int64_t>(unsigned_of(bytes) & kMostTicks);
            break;
        }
        case kSimpleBlock:
        case kBlockGroup: {
            if (element->size > kLargestBlock) {
                resynchronise();
                return {};
            }
            const std::uint64_t start = at_;
            WAVECREST_TRY_ASSIGN(body, bytes_.view(at_ + element->header, static_cast<std::size_t>(element->size)));
            if (body.size() < element->size) {
                problems_.push_back({"the file ends inside a block", reached_, std::max(reached_, duration_)});
                ended_ = true;
                return {};
            }
            at_ = start + element->header + element->size;
            if (element->id == kSimpleBlock) {
                take_block(body, std::nullopt, std::nullopt, 0);
            } else {
                take_group(body);
            }
            return {};
        }
        case kVoid:
        case kCrc32:
        case kCues:
        case kTags:
        case kSeekHead:
        case kInfo:
        case kTracks:
        case kChapters:
        case kAttachments:
            break;
        default:
            // Unknown elements are passed over when they look audio: what follows must be an element, too.
            if (!known || element->size > kLargestBlock || element->id < 0x80 ||
                !is_known_at(at_ + element->header + element->size)) {
                resynchronise();
                return {};
            }
    }
    if (!known) {
        resynchronise();
        return {};
    }
    const std::uint64_t next = at_ + element->header + element->size;
    if (next > bytes_.size()) {
        // It lies about its length, or the file is cut short in it.
        resynchronise();
        return {};
    }
    at_ = next;
    return {};
}

// Whether an element that this reader knows begins there, or the file ends.
bool MatroskaSource::is_known_at(std::uint64_t place) {
    if (place == bytes_.size()) return true;
    const auto element = element_at(place);
    if (!element || !*element) return false;
    constexpr std::uint64_t kIds[] = {kCluster, kTimestamp, kPosition,    kPrevSize, kSimpleBlock, kBlockGroup,
                                      kVoid,    kCrc32,     kCues,        kTags,     kSeekHead,    kInfo,
                                      kTracks,  kChapters,  kAttachments, kSegment};
    return std::find(std::begin(kIds), std::end(kIds), (*element)->id) != std::end(kIds);
}

// What lies here is no element: goes on at the next cluster.
void MatroskaSource::resynchronise() {
    const auto next = find_cluster(at_ + 1, bytes_.size());
    Problem problem{"damaged bytes skipped", reached_, reached_};
    if (!next) {
        ended_ = true;
        problem.what = "the rest of the file is damaged";
        problem.to = std::max(duration_, reached_);
    } else {
        at_ = next->cluster;
        problem.to = std::max(next->time, reached_);
    }
    problems_.push_back(std::move(problem));
}

// A cluster that begins exactly here, with the time that comes at once but for a check sum and filling.
std::optional<CuePoint> MatroskaSource::cluster_at(std::uint64_t place) {
    const auto head = bytes_.view(place, 96);
    if (!head) return std::nullopt;
    const auto cluster = parse_element(*head);
    if (!cluster || cluster->id != kCluster) return std::nullopt;
    for (std::size_t at = cluster->header; at < head->size();) {
        const auto element = parse_element(head->subspan(at));
        if (!element || element->size > 64) break;
        const std::size_t body = at + element->header, end = body + static_cast<std::size_t>(element->size);
        if (element->id == kTimestamp && end <= head->size()) {
            const std::uint64_t ticks = unsigned_of(head->subspan(body, static_cast<std::size_t>(element->size)));
            return CuePoint{scaled(static_cast<std::int64_t>(ticks & kMostTicks)), place};
        }
        if (element->id != kVoid && element->id != kCrc32 && element->id != kPosition && element->id != kPrevSize)
            break;
        at = end;
    }
    return std::nullopt;
}

std::optional<CuePoint> MatroskaSource::find_cluster(std::uint64_t from, std::uint64_t limit) {
    constexpr std::size_t kPiece = 1 << 16;
    std::uint64_t at = from;
    while (at < limit) {
        const auto view = bytes_.view(at, kPiece);
        if (!view || view->size() < 16) return std::nullopt;
        constexpr std::uint8_t kId[] = {0x1F, 0x43, 0xB6, 0x75};
        const auto found = std::search(view->begin(), view->end(), std::begin(kId), std::end(kId));
        if (found == view->end()) {
            at += view->size() - 3;
            continue;
        }
        at += static_cast<std::uint64_t>(found - view->begin());
        if (const auto cluster = cluster_at(at)) return cluster;
        ++at;
    }
    return std::nullopt;
}

void MatroskaSource::take_group(ByteSpan body) {
    ByteSpan block;
    std::optional<std::int64_t> duration;
    bool referenced = false;
    std::int64_t discard = 0;
    for_children(body, [&](std::uint32_t id, ByteSpan value) {
        if (id == kBlock) block = value;
        if (id == kBlockDuration) duration = static_cast<std::int64_t>(unsigned_of(value));
        if (id == kReferenceBlock) referenced = true;
        if (id == kDiscardPadding) discard = signed_of(value);
    });
    if (!block.empty()) take_block(block, !referenced, duration, discard);
}

// A block (RFC 9559, 10): track, time in the cluster, flags, and one frame or several laced together.
void MatroskaSource::take_block(ByteSpan body, std::optional<bool> key, std::optional<std::int64_t> duration,
                                std::int64_t discard) {
    const auto vint = [](ByteSpan bytes, std::size_t& at) -> std::optional<std::uint64_t> {
        if (at >= bytes.size() || bytes[at] == 0) return std::nullopt;
        const auto width = static_cast<std::size_t>(std::countl_zero(bytes[at])) + 1;
        if (at + width > bytes.size()) return std::nullopt;
        std::uint64_t value = bytes[at] & (0xFFu >> width);
        for (std::size_t i = 1; i < width; ++i) value = value << 8 | bytes[at + i];
        at += width;
        return value;
    };
    std::size_t at = 0;
    const auto number = vint(body, at);
    if (!number || at + 3 > body.size()) return;
    MkvTrack* t = find(*number);
    if (t == nullptr || t->problem == "it is encrypted") return;
    const auto relative = static_cast<std::int16_t>(body[at] << 8 | body[at + 1]);
    const std::uint8_t flags = body[at + 2];
    at += 3;
    const Time stated = scaled(cluster_ticks_ + relative) - from_ns(t->codec_delay);
    const bool is_key = key.value_or((flags & 0x80) != 0);
    const int lacing = flags >> 1 & 3;
    std::vector<ByteSpan> frames;
    if (lacing == 0) {
        frames.push_back(body.subspan(at));
    } else {
        if (at >= body.size()) return;
        const std::size_t count = std::size_t{body[at++]} + 1;
        std::vector<std::size_t> sizes;
        std::size_t sum = 0;
        if (lacing == 2) {
            if ((body.size() - at) % count != 0) return;
            sizes.assign(count, (body.size() - at) / count);
        } else {
            std::int64_t size = 0;
            for (std::size_t i = 0; i + 1 < count; ++i) {
                if (lacing == 1) {  // Xiph
                    size = 0;
                    std::uint8_t part = 255;
                    while (part == 255) {
                        if (at >= body.size()) return;
                        part = body[at++];
                        size += part;
                    }
                } else {  // EBML: the first, then differences
                    const std::size_t before = at;
                    const auto value = vint(body, at);
                    if (!value) return;
                    if (i == 0) {
                        size = static_cast<std::int64_t>(*value);
                    } else {
                        const auto width = static_cast<int>(at - before);
                        size += static_cast<std::int64_t>(*value) - ((std::int64_t{1} << (7 * width - 1)) - 1);
                    }
                }
                if (size < 0 || static_cast<std::size_t>(size) > body.size()) return;
                sizes.push_back(static_cast<std::size_t>(size));
                sum += static_cast<std::size_t>(size);
            }
            if (sum > body.size() - at) return;
            sizes.push_back(body.size() - at - sum);
        }
        for (const std::size_t size : sizes) {
            frames.push_back(body.subspan(at, size));
            at += size;
        }
    }
    Time each{};
    if (duration) each = scaled(*duration) / static_cast<std::int64_t>(frames.size());
    if (each.count() == 0 && t->default_duration > 0 && t->info.kind != TrackKind::video)
        each = from_ns(t->default_duration);
    for (std::size_t i = 0; i < frames.size(); ++i) {
        const bool last = i + 1 == frames.size();
        emit(*t, frames[i], i == 0 ? std::optional(stated) : std::nullopt, each, is_key,
             last ? from_ns(std::max<std::int64_t>(discard, 0)) : Time{});
    }
}

// Undoes what the container did to a frame.
std::optional<ByteVector> MatroskaSource::restored(const MkvTrack& t, ByteSpan frame) const {
    constexpr std::size_t kMostInflated = 64 << 20;
    ByteVector data;
    if (t.deflated) {
        z_stream stream{};
        if (inflateInit(&stream) != Z_OK) return std::nullopt;
        stream.next_in = const_cast<Bytef*>(frame.data());
        stream.avail_in = static_cast<uInt>(frame.size());
        int status = Z_OK;
        while (status == Z_OK && data.size() < kMostInflated) {
            const std::size_t before = data.size();
            data.resize(before + std::max<std::size_t>(4096, frame.size() * 2));
            stream.next_out = data.data() + before;
            stream.avail_out = static_cast<uInt>(data.size() - before);
            status = inflate(&stream, Z_NO_FLUSH);
            data.resize(data.size() - stream.avail_out);
        }
        inflateEnd(&stream);
        if (status != Z_STREAM_END) return std::nullopt;
    } else {
        data.reserve(t.stripped_header.size() + frame.size());
        data = t.stripped_header;
        data.insert(data.end(), frame.begin(), frame.end());
    }
    switch (t.conversion) {
        case Conversion::little_endian: {
            const std::size_t width = t.info.bit_depth > 24 ? 4 : t.info.bit_depth > 16 ? 3 : 2;
            data.resize(data.size() / width * width);
            for (std::size_t i = 0; i < data.size(); i += width)
                std::reverse(data.begin() + static_cast<std::ptrdiff_t>(i),
                             data.begin() + static_cast<std::ptrdiff_t>(i + width));
            break;
        }
        case Conversion::nal_lengths: {
            ByteVector longer;
            for (const ByteSpan unit : bitstream::nal::split_lengths(data, t.length_size))
                bitstream::nal::append(longer, unit);
            return longer;
        }
        case Conversion::byte_stream: {
            ByteVector lengths;
            for (const ByteSpan unit : bitstream::nal::split_byte_stream(data)) {
                if (!bitstream::nal::is_delimiter(t.info.codec, bitstream::nal::type(t.info.codec, unit)))
                    bitstream::nal::append(lengths, unit);
            }
            return lengths;
        }
        case Conversion::ass:
        case Conversion::markup: {
            std::string raw(data.begin(), data.end());
            // In WebM an identifier and settings come before the text, a line each.
            if (t.codec_id.starts_with("D_WEBVTT")) {
                for (int line = 0; line < 2; ++line)
                    raw.erase(0, raw.find('\n') == std::string::npos ? raw.size() : raw.find('\n') + 1);
            }
            const std::string text = t.conversion == Conversion::ass
                                         ? plain_text_of_ass(raw)
                                         : without_markup(raw, t.codec_id.find("WEBVTT") != std::string::npos);
            return ByteVector(text.begin(), text.end());
        }
        default:
            break;
    }
    return data;
}

void MatroskaSource::emit(MkvTrack& t, ByteSpan frame, std::optional<Time> stated, Time duration, bool key,
                          Time discard) {
    if (std::exchange(t.bare, false) && frame.size() > 4 && frame[0] == 0 && frame[1] == 0 &&
        (frame[2] == 1 || (frame[2] == 0 && frame[3] == 1)))
        t.conversion = Conversion::byte_stream;
    auto data = restored(t, frame);
    if (!data || data->empty()) return;
    Track& info = t.info;
    if (!t.described && info.kind != TrackKind::subtitle) {
        bitstream::describe_headers(info, *data);
        t.described = true;
        // The clocks count in what was just learnt.
        if (info.kind == TrackKind::video) {
            t.grid.reset();
            Ratio rate = info.frame_rate;
            if (info.scan == Scan::interlaced) rate.num *= 2;
            const Time tick = scaled(1);
            t.grid = std::make_unique<PictureGrid>(rate, tick / 2 + tick / 20 + Time(1));
            t.decoding = std::make_unique<DecodingTimes>(
                std::max(0, info.reorder_frames),
                info.frame_rate.num > 0 ? base::frames_to_time(1, info.frame_rate) : from_ns(40'000'000));
        } else {
            t.clock = std::make_unique<AudioClock>(info.sample_rate, scaled(1) + scaled(1) / 10);
        }
    }
    Packet packet;
    packet.track = info.id;
    packet.key = key;
    if (info.kind == TrackKind::audio) {
        Time length = t.vorbis ? base::from_ticks(t.vorbis->samples(*data), info.sample_rate)
                               : bitstream::audio_duration(info, *data);
        if (length.count() == 0 && !t.vorbis) length = duration;
        packet.pts = stated ? t.clock->on_timeline(*stated, length) : t.clock->next(length);
        packet.dts = packet.pts;
        packet.duration = std::max(length - discard, Time{});
        packet.key = true;
    } else if (info.kind == TrackKind::video) {
        const Time period = info.frame_rate.num > 0 ? base::frames_to_time(1, info.frame_rate) : Time{};
        packet.pts = t.grid->snap(stated ? *stated : reached_ + period);
        packet.dts = t.decoding->next(packet.pts);
        packet.duration = duration.count() > 0 && period.count() == 0 ? duration : period;
    } else {
        packet.pts = packet.dts = stated.value_or(reached_);
        packet.duration = duration;
        packet.key = true;
    }
    if (info.kind != TrackKind::subtitle) reached_ = std::max(reached_, packet.pts);
    packet.data = Bytes(std::move(*data));
    ready_.push_back(std::move(packet));
}

void MatroskaSource::find_duration() {
    // The end of the last block in the last megabytes.
    std::uint64_t at = bytes_.size() > kTail ? bytes_.size() - kTail : first_cluster_;
    at = std::max(at, first_cluster_);
    std::optional<CuePoint> last;
    while (const auto cluster = find_cluster(at, bytes_.size())) {
        last = cluster;
        at = cluster->cluster + 4;
    }
    if (!last) return;
    const auto saved_at = at_;
    const auto saved_ticks = cluster_ticks_;
    auto saved_ready = std::move(ready_);
    const Time saved_reached = reached_;
    ready_.clear();
    at_ = last->cluster;
    restart_clocks();
    Time end = last->time;
    for (int i = 0; i < 100000 && !ended_; ++i) {
        if (!read_more()) break;
        for (const Packet& packet : ready_) end = std::max(end, packet.pts + packet.duration);
        ready_.clear();
    }
    duration_ = end;
    ended_ = false;
    problems_.clear();
    at_ = saved_at;
    cluster_ticks_ = saved_ticks;
    ready_ = std::move(saved_ready);
    reached_ = saved_reached;
    restart_clocks();
    // Packets that wait have had their times already: clocks go on behind them.
    for (const Packet& packet : ready_) {
        MkvTrack* t = find(static_cast<std::uint64_t>(packet.track));
        if (t->clock) t->clock->on_timeline(packet.pts, packet.duration);
        if (t->decoding) t->decoding->next(packet.pts);
    }
}

void MatroskaSource::go_to(std::uint64_t cluster) {
    at_ = cluster;
    ended_ = false;
    ready_.clear();
    reached_ = Time{};
    skip_.set({});
    restart_clocks();
}

// How many pictures of each track come behind the first one from there on and are shown before it (an open group).
Result<std::map<std::uint64_t, int>> MatroskaSource::leading_at(std::uint64_t cluster) {
    struct Seen {
        Time first{};
        bool begun = false, done = false;
    };
    std::map<std::uint64_t, Seen> seen;
    for (const MkvTrack& t : mkv_tracks_) {
        if (t.info.kind == TrackKind::video) seen[t.number];
    }
    std::map<std::uint64_t, int> leading;
    go_to(cluster);
    const auto all_done = [&] { return std::all_of(seen.begin(), seen.end(), [](auto& s) { return s.second.done; }); };
    for (std::size_t i = 0; i < kProbePackets && !ended_ && !all_done(); ++i) {
        WAVECREST_TRY(read_more());
        for (const Packet& packet : ready_) {
            const auto found = seen.find(static_cast<std::uint64_t>(packet.track));
            if (found == seen.end() || found->second.done) continue;
            Seen& s = found->second;
            if (!std::exchange(s.begun, true)) {
                s.first = packet.pts;
            } else if (packet.pts < s.first) {
                ++leading[found->first];
            } else {
                s.done = true;
            }
        }
        ready_.clear();
    }
    return leading;
}

Status MatroskaSource::seek(Time time) {
    if (!bytes_.source().seekable()) {
        return fail(skips_refused(bytes_.source()));
    }
    // A cluster at or before the time: by the cues, else by halving the file.
    std::uint64_t place = first_cluster_;
    if (!cues_.empty()) {
        const auto after = std::upper_bound(cues_.begin(), cues_.end(), time,
                                            [](Time value, const CuePoint& c) { return value < c.time; });
        if (after != cues_.begin()) place = std::prev(after)->cluster;
    } else {
        std::uint64_t low = first_cluster_, high = bytes_.size();
        while (high - low > (1 << 20)) {
            const std::uint64_t middle = low + (high - low) / 2;
            const auto cluster = find_cluster(middle, high);
            if (cluster && cluster->time <= time) {
                low = place = cluster->cluster;
            } else {
                high = middle;
            }
        }
    }
    const bool has_video =
        std::any_of(tracks_.begin(), tracks_.end(), [](const Track& t) { return t.kind == TrackKind::video; });
    // From there on the last picture that starts decoding; further back when there is none.
    std::uint64_t back = 4 << 20;
    const std::size_t told = problems_.size();
    while (true) {
        go_to(place);
        std::optional<Time> key;
        std::uint64_t key_cluster = place, cluster = place;
        bool past = false;
        while (!ended_ && !past) {
            const std::uint64_t before = at_;
            WAVECREST_TRY_ASSIGN(element, element_at(at_));
            if (element && element->id == kCluster) cluster = before;
            WAVECREST_TRY(read_more());
            for (const Packet& packet : ready_) {
                const MkvTrack* t = find(static_cast<std::uint64_t>(packet.track));
                if (t->info.kind == TrackKind::subtitle || (has_video && t->info.kind != TrackKind::video)) continue;
                if (packet.dts > time) past = true;
                if (packet.key && packet.pts <= time && (!key || packet.pts > *key)) {
                    key = packet.pts;
                    key_cluster = cluster;
                }
            }
            ready_.clear();
        }
        problems_.resize(told);
        if (key || place <= first_cluster_) {
            WAVECREST_TRY_ASSIGN(leading, leading_at(key_cluster));
            problems_.resize(told);
            go_to(key_cluster);
            for (MkvTrack& t : mkv_tracks_) {
                if (t.decoding && key_cluster != first_cluster_) t.decoding->expect_leading(leading[t.number]);
            }
            if (key) skip_.set(key, scaled(1));
            return {};
        }
        const std::uint64_t from = place > back + first_cluster_ ? place - back : first_cluster_;
        const auto earlier = find_cluster(from, place);
        place = earlier && earlier->cluster < place ? earlier->cluster : first_cluster_;
        if (from == first_cluster_) place = first_cluster_;
        back *= 2;
    }
}

std::vector<RatePiece> MatroskaSource::rate() const {
    std::vector<RatePiece> pieces;
    for (std::size_t i = 0; i < cues_.size(); ++i) {
        const bool last = i + 1 == cues_.size();
        const Time to = last ? duration_ : cues_[i + 1].time;
        const std::uint64_t end = last ? bytes_.size() : cues_[i + 1].cluster;
        if (to > cues_[i].time && end > cues_[i].cluster) pieces.push_back({cues_[i].time, to, end - cues_[i].cluster});
    }
    return pieces;
}

// The descriptions, then all clusters from one on. Their timestamps stay as they are.
Result<FileFromTime> MatroskaSource::from_time(Time time) {
    WAVECREST_TRY(seek(time));
    const std::uint64_t cluster = at_;
    FileFromTime found;
    found.offset = cluster;
    found.end = bytes_.size();
    // Cues tell of clusters by their place in the whole file.
    if (const auto cues = places_.find(kCues); cues != places_.end() && cues->second > cluster)
        found.end = std::min(found.end, cues->second);
    if (cluster >= found.end) return damaged("no cluster is there", cluster);
    if (const auto begin = cluster_at(cluster)) found.time = begin->time;
    base::ByteWriter descriptions;
    base::ByteWriter head;
    for (const Extent& extent : {ebml_, info_, track_entries_}) {
        if (extent.size == 0) continue;
        WAVECREST_TRY_ASSIGN(bytes, base::read_exactly(bytes_.source(), extent.at, extent.size));
        (extent.at == 0 ? head : descriptions).raw(bytes);
    }
    head.u32(kSegment);
    const std::uint64_t size = descriptions.size() + (found.end - found.offset);
    head.u64(std::uint64_t{1} << 56 | size);  // in eight bytes (RFC 8794, 4)
    head.raw(descriptions.bytes());
    found.head = Bytes(head.release());
    return found;
}

}  // namespace

Result<FileFromTime> matroska_from_time(std::shared_ptr<base::ByteSource> source, Time time) {
    MatroskaSource reader(std::move(source));
    WAVECREST_TRY(reader.open());
    return reader.from_time(time);
}

Result<MediaFile> open_matroska(std::shared_ptr<base::ByteSource> bytes) {
    auto source = std::make_unique<MatroskaSource>(std::move(bytes));
    WAVECREST_TRY(source->open());
    MediaFile file;
    file.container = source->doc_type == "webm" ? "webm" : "matroska";
    file.title = source->title;
    file.notes = source->notes;
    file.problems = source->known_problems;
    MatroskaSource* reader = source.get();
    file.rate = [reader] { return reader->rate(); };
    file.source = std::move(source);
    return file;
}

}  // namespace wavecrest::container
