#include "source/adaptive_title.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <deque>

#include "base/address.hpp"
#include "base/byte_source.hpp"
#include "base/mutex.hpp"
#include "container/cmaf.hpp"
#include "container/dash_manifest.hpp"
#include "container/media_playlist.hpp"
#include "media/language.hpp"
#include "net/http_client.hpp"
#include "net/url.hpp"
#include "share/location.hpp"
#include "source/share_input.hpp"

namespace wavecrest::source {
namespace {

using container::DashManifest;
using container::MediaPlaylist;
using Rendition = AdaptiveTitle::Rendition;
using Place = AdaptiveTitle::Place;

constexpr std::size_t kMostSegment = 256 << 20;

std::string lowered_path(std::string_view name) {
    std::string path(name.substr(0, name.find_first_of("?#")));
    for (char& c : path) c = c >= 'A' && c <= 'Z' ? static_cast<char>(c + 32) : c;
    return path;
}

tl::unexpected<Error> too_short(const std::string& address) {
    return fail(ErrorKind::input, "the file is shorter than its playlist says", address,
                "copy the folder again, or make it anew");
}

// What a playlist at `base` calls `reference`.
std::string resolved(const std::string& base, const std::string& reference) {
    if (base::is_web_address(base)) return net::resolve_uri(base, reference);
    if (base::has_scheme(reference)) return reference;  // refused when it is fetched
    if (base::Address(base).is_share()) {
        const auto at = share::parse_location(base::Address(base));
        const std::string folder = at ? base::Path(at->path).parent_path().string() : "";
        return at ? at->text_of(share::joined(folder, net::decode_path(reference))) : reference;
    }
    return (base::Path(base).parent_path() / net::decode_path(reference)).string();
}

Rendition of_variant(const MediaPlaylist::Variant& variant, const std::string& address) {
    Rendition one;
    one.peak_bps = variant.bandwidth_bps;
    one.average_bps = variant.average_bps;
    one.codecs = variant.codecs;
    one.size = variant.size.value_or(base::Size{});
    one.fps = variant.fps;
    one.name = variant.size ? fmt::format("{}x{}", variant.size->width, variant.size->height)
                            : base::format_bitrate(variant.bandwidth_bps);
    one.list = Place{resolved(address, variant.uri), {}};
    return one;
}

// The segments of a media playlist.
void take_segments(const MediaPlaylist& list, const std::string& address, Rendition& one) {
    one.segments.clear();
    Time from{};
    std::uint64_t number = list.sequence;
    for (const MediaPlaylist::Segment& segment : list.segments) {
        one.segments.push_back({{resolved(address, segment.uri), segment.range}, from, segment.duration, number++});
        from += segment.duration;
    }
    if (!list.map_uri.empty()) one.header = Place{resolved(address, list.map_uri), list.map_range};
    one.longest = base::from_seconds(static_cast<double>(list.target_s));
    one.ended = list.ended;
    one.transport = list.map_uri.empty() && std::none_of(list.segments.begin(), list.segments.end(), [](const auto& s) {
                        return lowered_path(s.uri).ends_with(".vtt");
                    });
    one.loaded = true;
}

Result<AdaptiveTitle> read_playlist(std::string_view text, const std::string& address) {
    WAVECREST_TRY_ASSIGN(list, container::parse_playlist(text, address));
    AdaptiveTitle title;
    title.address = address;
    title.encrypted = list.encrypted;
    if (list.variants.empty()) {
        Rendition one;
        one.name = "the only one";
        take_segments(list, address, one);
        one.list = Place{address, {}};
        title.live = !list.ended;
        title.duration = list.ended ? list.duration() : Time{};
        title.video.push_back(std::move(one));
        return title;
    }
    // (Variants that differ by their audio alone have the same playlist.)
    for (const MediaPlaylist::Variant& variant : list.variants) {
        Rendition one = of_variant(variant, address);
        const bool known = std::any_of(title.video.begin(), title.video.end(),
                                       [&](const Rendition& other) { return *other.list == *one.list; });
        if (!known) title.video.push_back(std::move(one));
    }
    const std::string& group = list.variants.front().audio;
    for (const MediaPlaylist::Audio& audio : list.audio) {
        if (audio.group != group || audio.uri.empty()) continue;
        Rendition one;
        one.name = audio.name;
        one.language = audio.language;
        one.preferred = audio.preferred;
        one.channels = audio.channels;
        one.list = Place{resolved(address, audio.uri), {}};
        title.audio.push_back(std::move(one));
    }
    for (const MediaPlaylist::Subtitles& subtitles : list.subtitles) {
        Rendition one;
        one.name = subtitles.name;
        one.language = subtitles.language;
        one.forced = subtitles.forced;
        one.list = Place{resolved(address, subtitles.uri), {}};
        title.text.push_back(std::move(one));
    }
    title.keyframe_lists = !list.keyframe_variants.empty();
    return title;
}

Rendition of_representation(const DashManifest& manifest, const DashManifest::AdaptationSet& set,
                            const DashManifest::Representation& from, const std::string& address) {
    Rendition one;
    one.peak_bps = from.bandwidth_bps;
    one.codecs = from.codecs;
    one.size = from.size;
    one.fps = from.fps;
    one.channels = from.channels;
    one.language = set.language;
    one.forced = set.forced;
    one.name = set.kind == DashManifest::AdaptationSet::Kind::video && from.size.height > 0
                   ? fmt::format("{}x{}", from.size.width, from.size.height)
               : !set.label.empty() ? set.label
                                    : from.id;
    one.longest = manifest.longest_segment;
    one.ended = !manifest.live;
    const auto place = [&](const DashManifest::Resource& at) { return Place{resolved(address, at.uri), at.range}; };
    if (from.header) one.header = place(*from.header);
    if (from.index) {
        one.list = place(*from.index);
    } else if (from.indexed) {
        one.segments.push_back({place(*from.indexed), {}, manifest.duration, 0});
        one.loaded = true;
    } else {
        std::uint64_t number = from.first_number;
        for (const DashManifest::Segment& segment : from.segments)
            one.segments.push_back({place(segment.at), segment.from, segment.duration, number++});
        one.loaded = true;
    }
    one.transport = set.media_type == "video/mp2t";
    return one;
}

Result<AdaptiveTitle> read_manifest(std::string_view text, const std::string& address, std::int64_t now_ms) {
    using Kind = DashManifest::AdaptationSet::Kind;
    WAVECREST_TRY_ASSIGN(manifest, container::parse_dash_manifest(text, address, now_ms));
    AdaptiveTitle title;
    title.address = address;
    title.dash = true;
    title.live = manifest.live;
    title.duration = manifest.duration;
    title.delay = manifest.delay;
    title.update = manifest.update;
    bool has_video = false;
    for (const DashManifest::AdaptationSet& set : manifest.sets) {
        if (set.keyframes_alone) {
            title.keyframe_lists = true;
            continue;
        }
        // Players stay within one set: the first that has pictures.
        if (set.kind == Kind::video && std::exchange(has_video, true)) {
            title.uncertain = "the manifest has several sets of video; the first is played";
            continue;
        }
        if (set.kind != Kind::other) title.encrypted = title.encrypted || set.encrypted;
        for (const DashManifest::Representation& one : set.representations) {
            if (set.kind == Kind::video) title.video.push_back(of_representation(manifest, set, one, address));
            if (set.kind == Kind::text) title.text.push_back(of_representation(manifest, set, one, address));
        }
        // Of several bit rates of one audio the highest: few bits beside those of the video.
        if (set.kind == Kind::audio) {
            const auto best =
                std::max_element(set.representations.begin(), set.representations.end(),
                                 [](const auto& a, const auto& b) { return a.bandwidth_bps < b.bandwidth_bps; });
            title.audio.push_back(of_representation(manifest, set, *best, address));
        }
    }
    // The peak with the audio that is heard, as HLS has it.
    if (!title.audio.empty()) {
        for (Rendition& one : title.video) one.peak_bps += title.audio.front().peak_bps;
    }
    return title;
}

}  // namespace

bool is_adaptive_name(std::string_view name) {
    const std::string path = lowered_path(name);
    return path.ends_with(".m3u8") || path.ends_with(".mpd");
}

Result<AdaptiveTitle> read_adaptive_title(std::string_view text, const std::string& address, std::int64_t now_ms) {
    const std::size_t first = text.find_first_not_of(" \t\r\n\xEF\xBB\xBF");
    const bool xml = first != std::string_view::npos && text[first] == '<';
    WAVECREST_TRY_ASSIGN(title, xml ? read_manifest(text, address, now_ms) : read_playlist(text, address));
    if (title.video.empty() && title.audio.empty())
        return fail(ErrorKind::input, "it lists nothing to play", address,
                    "check what the server sends at this address");
    for (std::size_t i = 0; i < title.video.size(); ++i) title.video[i].listed = i;
    std::stable_sort(title.video.begin(), title.video.end(),
                     [](const Rendition& a, const Rendition& b) { return a.peak_bps < b.peak_bps; });
    std::stable_sort(title.audio.begin(), title.audio.end(),
                     [](const Rendition& a, const Rendition& b) { return a.preferred && !b.preferred; });
    return title;
}

Status load_segments(AdaptiveTitle& title, Rendition& rendition, const FetchPlace& fetch) {
    if (rendition.loaded && (!title.live || !rendition.list)) return {};
    if (!rendition.list) return {};
    WAVECREST_TRY_ASSIGN(bytes, fetch(*rendition.list));
    if (title.dash) {
        const std::uint64_t offset = rendition.list->range ? rendition.list->range->offset : 0;
        constexpr std::uint64_t kAnySize = std::uint64_t{1} << 60;
        WAVECREST_TRY_ASSIGN(segments,
                             container::parse_segment_index(bytes, offset, kAnySize, rendition.list->address));
        rendition.segments.clear();
        std::uint64_t number = 0;
        for (const container::CmafFile::Segment& one : segments)
            rendition.segments.push_back({{rendition.list->address, one.range}, one.from, one.duration, number++});
        rendition.loaded = true;
        return {};
    }
    const std::string_view text(reinterpret_cast<const char*>(bytes.data()), bytes.size());
    WAVECREST_TRY_ASSIGN(list, container::parse_playlist(text, rendition.list->address));
    if (!list.variants.empty())
        return fail(ErrorKind::input, "a variant's playlist lists variants again", rendition.list->address,
                    "check what the server sends at this address");
    if (list.several_maps)
        return fail(ErrorKind::input, "the initialization section changes within the playlist, which isn't supported",
                    rendition.list->address, "use a stream without such changes");
    title.encrypted = title.encrypted || list.encrypted;
    const std::vector<AdaptiveTitle::Segment> before = std::move(rendition.segments);
    take_segments(list, rendition.list->address, rendition);
    // Times go on where those that are listed still are.
    if (!before.empty() && !rendition.segments.empty()) {
        const auto known = std::find_if(before.begin(), before.end(), [&](const AdaptiveTitle::Segment& one) {
            return one.number == rendition.segments.front().number;
        });
        const Time shift = known != before.end() ? known->from : before.back().from + before.back().duration;
        for (AdaptiveTitle::Segment& one : rendition.segments) one.from += shift;
    }
    if (!rendition.ended) title.live = true;
    if (rendition.ended && !title.live) title.duration = std::max(title.duration, list.duration());
    return {};
}

namespace {

Result<ByteVector> part_of(base::ByteSource& file, const Place& place) {
    const std::uint64_t offset = place.range ? place.range->offset : 0;
    const std::uint64_t length = place.range ? place.range->length : file.size();
    if (length > kMostSegment)
        return fail(ErrorKind::input, "a segment is larger than 256 MB", place.address, "check the playlist");
    if (offset > file.size() || length > file.size() - offset) return too_short(place.address);
    return base::read_exactly(file, offset, static_cast<std::size_t>(length));
}

// Of the files beside a playlist on a share; a few stay open, for one reader after the other.
FetchPlace fetch_from_share(const std::string& base) {
    struct Open {
        std::string address;
        std::shared_ptr<base::ByteSource> file;
    };
    struct Files {
        base::Mutex mutex;
        std::deque<Open> open;
    };
    constexpr std::size_t kMost = 4;
    const std::string folder = base.substr(0, base.rfind('/') + 1);
    return [folder, files = std::make_shared<Files>()](const Place& place) -> Result<ByteVector> {
        if (!place.address.starts_with(folder))
            return fail(ErrorKind::input, "the playlist names what isn't in its folder", place.address,
                        "give the address at which a web server has it");
        const base::MutexLock lock(files->mutex);
        auto& open = files->open;
        auto found =
            std::find_if(open.begin(), open.end(), [&](const Open& one) { return one.address == place.address; });
        if (found == open.end()) {
            WAVECREST_TRY_ASSIGN(opened, open_share(base::Address(place.address), nullptr));
            WAVECREST_TRY_ASSIGN(file, opened.share->read(opened.path));
            if (open.size() == kMost) open.pop_front();
            open.push_back({place.address, std::move(file)});
            found = std::prev(open.end());
        }
        return part_of(*found->file, place);
    };
}

}  // namespace

FetchPlace plain_fetch(const std::string& base, const base::Path& trusted) {
    if (base::is_web_address(base)) {
        return [trusted](const Place& place) -> Result<ByteVector> {
            WAVECREST_TRY_ASSIGN(url, net::parse_url(place.address));
            url.trusted = trusted;
            net::HttpClient client(url);
            WAVECREST_TRY_ASSIGN(head,
                                 place.range ? client.get(place.range->offset, place.range->end() - 1) : client.get(0));
            if (place.range && head.status != 206)
                return fail(ErrorKind::input, "the server does not support byte ranges", place.address,
                            "use another web server: the segments are parts of one file");
            ByteVector all, buffer(64 << 10);
            while (true) {
                WAVECREST_TRY_ASSIGN(got, client.read(buffer));
                if (got == 0 && place.range && all.size() < place.range->length) return too_short(place.address);
                if (got == 0) return all;
                if (all.size() + got > kMostSegment)
                    return fail(ErrorKind::input, "a segment is larger than 256 MB", place.address,
                                "check what the server sends at this address");
                all.insert(all.end(), buffer.begin(), buffer.begin() + static_cast<std::ptrdiff_t>(got));
            }
        };
    }
    if (base::Address(base).is_share()) return fetch_from_share(base);
    return [folder = base::Path(base).parent_path().lexically_normal()](const Place& place) -> Result<ByteVector> {
        const base::Path path = base::Path(place.address).lexically_normal();
        const auto relative = path.lexically_relative(folder.empty() ? "." : folder);
        if (base::has_scheme(place.address) || relative.empty() || *relative.begin() == "..")
            return fail(ErrorKind::input, "the playlist names what isn't in its folder", place.address,
                        "give the address at which a web server has it");
        WAVECREST_TRY_ASSIGN(file, base::FileSource::open(path));
        return part_of(file, place);
    };
}

Result<std::uint64_t> size_of_place(const Place& place, const base::Path& trusted) {
    if (place.range) return place.range->length;
    if (base::Address(place.address).is_share()) {
        WAVECREST_TRY_ASSIGN(opened, open_share(base::Address(place.address), nullptr));
        return opened.entry.size;
    }
    if (!base::is_web_address(place.address)) {
        WAVECREST_TRY_ASSIGN(file, base::FileSource::open(place.address));
        return file.size();
    }
    WAVECREST_TRY_ASSIGN(url, net::parse_url(place.address));
    url.trusted = trusted;
    net::HttpClient client(url);
    WAVECREST_TRY_ASSIGN(head, client.get(0));
    if (head.endless)
        return fail(ErrorKind::input, "the server doesn't tell how long a segment is", place.address,
                    "save the stream first, or use another delivery");
    return head.full_size;
}

std::string Missing::text(const Rendition& of) const {
    const std::string plain = error.where.substr(0, error.where.find_first_of("?#"));
    return fmt::format("{}: {} ({})", of.name, error.what, base::Path(plain).filename().string());
}

std::optional<Missing> first_missing(const Rendition& rendition, const FetchPlace& fetch, const base::Path& trusted) {
    const auto& segments = rendition.segments;
    if (segments.empty()) return std::nullopt;
    const auto last_byte = [&](const AdaptiveTitle::Segment& segment) {
        return fetch({segment.at.address, container::ByteRange{segment.at.range->end() - 1, 1}});
    };
    const bool one_file = std::all_of(segments.begin(), segments.end(), [&](const auto& segment) {
        return segment.at.range && segment.at.range->length > 0 && segment.at.address == segments.front().at.address;
    });
    if (one_file) {
        if (last_byte(segments.back())) return std::nullopt;
        const auto first = std::partition_point(segments.begin(), segments.end(),
                                                [&](const auto& segment) { return last_byte(segment).has_value(); });
        if (first == segments.end()) return std::nullopt;  // (It came back meanwhile.)
        const auto last = last_byte(*first);
        return last ? std::nullopt : std::optional(Missing{last.error(), first->from});
    }
    const std::size_t step =
        base::is_web_address(segments.front().at.address) ? std::max<std::size_t>((segments.size() - 1) / 2, 1) : 1;
    for (std::size_t i = 0; i < segments.size(); i += step) {
        const auto size = size_of_place({segments[i].at.address, {}}, trusted);
        if (!size) return Missing{size.error(), segments[i].from};
        if (segments[i].at.range && segments[i].at.range->end() > *size)
            return Missing{too_short(segments[i].at.address).value(), segments[i].from};
    }
    return std::nullopt;
}

}  // namespace wavecrest::source
