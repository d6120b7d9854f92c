#include "container/dash_manifest.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <cmath>

#include "base/xml.hpp"

namespace wavecrest::container {
namespace {

using base::child;
using base::escaped;
using base::local_name;

constexpr std::size_t kMostSegments = 100'000;
constexpr std::int64_t kTimescale = 90'000;       // of timelines that are written
constexpr std::uint64_t kLatest = 4'000'000'000;  // seconds; some live manifests count from 1970
constexpr std::string_view kTrickMode = "http://dashif.org/guidelines/trickmode";
constexpr std::string_view kRole = "urn:mpeg:dash:role:2011";
constexpr std::string_view kChannels = "urn:mpeg:dash:23003:3:audio_channel_configuration:2011";

std::string_view attribute(pugi::xml_node node, const char* name) {
    return node.attribute(name).value();
}

std::optional<std::uint64_t> whole(std::string_view text) {
    std::uint64_t value = 0;
    const auto [rest, error] = std::from_chars(text.data(), text.data() + text.size(), value);
    if (error != std::errc{} || rest != text.data() + text.size() || value >> 62 != 0) return std::nullopt;
    return value;
}

// xs:duration as it is used here: days, hours, minutes and seconds ("PT1H2M3.5S").
std::optional<Time> duration_of(std::string_view text) {
    if (!text.starts_with('P')) return std::nullopt;
    text.remove_prefix(1);
    double seconds = 0;
    bool in_time = false;
    while (!text.empty()) {
        if (text.front() == 'T') {
            in_time = true;
            text.remove_prefix(1);
            continue;
        }
        double value = 0;
        const auto [rest, error] = std::from_chars(text.data(), text.data() + text.size(), value);
        if (error != std::errc{} || rest == text.data() + text.size() || !(value >= 0)) return std::nullopt;
        text.remove_prefix(static_cast<std::size_t>(rest - text.data()));
        const char unit = text.front();
        text.remove_prefix(1);
        if (!in_time && unit == 'D')
            seconds += value * 86'400;
        else if (in_time && (unit == 'H' || unit == 'M' || unit == 'S'))
            seconds += value * (unit == 'H' ? 3600 : unit == 'M' ? 60 : 1);
        else
            return std::nullopt;
    }
    if (!(seconds < 1e7)) return std::nullopt;
    return base::from_seconds(seconds);
}

// xs:dateTime in UTC or with an offset, as milliseconds since 1970.
std::optional<std::int64_t> instant_of(std::string_view text) {
    const auto digits = [&](std::size_t at, std::size_t count) -> int {
        int value = 0;
        if (at + count > text.size()) return -1;
        const auto [rest, error] = std::from_chars(text.data() + at, text.data() + at + count, value);
        return error == std::errc{} && rest == text.data() + at + count ? value : -1;
    };
    const int year = digits(0, 4), month = digits(5, 2), day = digits(8, 2);
    const int hour = digits(11, 2), minute = digits(14, 2), second = digits(17, 2);
    if (year < 1970 || month < 1 || month > 12 || day < 1 || hour < 0 || minute < 0 || second < 0) return std::nullopt;
    const std::chrono::sys_days date =
        std::chrono::year(year) / std::chrono::month(static_cast<unsigned>(month)) / static_cast<int>(day);
    std::int64_t ms = std::chrono::duration_cast<std::chrono::milliseconds>(date.time_since_epoch()).count() +
                      ((std::int64_t{hour} * 60 + minute) * 60 + second) * 1000;
    std::size_t at = 19;
    if (at < text.size() && text[at] == '.') {
        std::int64_t scale = 100;
        for (++at; at < text.size() && text[at] >= '0' && text[at] <= '9'; ++at, scale /= 10)
            ms += (text[at] - '0') * scale;
    }
    if (at < text.size() && (text[at] == '+' || text[at] == '-')) {
        const int hours = digits(at + 1, 2), minutes = digits(at + 4, 2);
        if (hours < 0 || minutes < 0) return std::nullopt;
        ms -= (text[at] == '+' ? 1 : -1) * (std::int64_t{hours} * 60 + minutes) * 60'000;
    }
    return ms;
}

// "0-499" (RFC 9110, 14.1.2; both ends are in it).
std::optional<ByteRange> range_of(std::string_view text) {
    const std::size_t dash = text.find('-');
    if (dash == std::string_view::npos) return std::nullopt;
    const auto first = whole(text.substr(0, dash)), last = whole(text.substr(dash + 1));
    if (!first || !last || *last < *first) return std::nullopt;
    return ByteRange{*first, *last - *first + 1};
}

double rate_of(std::string_view text) {
    const std::size_t slash = text.find('/');
    const auto num = whole(text.substr(0, slash));
    const auto den = slash == std::string_view::npos ? std::optional<std::uint64_t>(1) : whole(text.substr(slash + 1));
    return num && den && *den > 0 ? static_cast<double>(*num) / static_cast<double>(*den) : 0;
}

// BaseURL elements one inside the other (5.6.4).
std::string joined(const std::string& base, std::string_view reference) {
    const std::size_t colon = reference.find(':');
    const bool absolute =
        reference.starts_with('/') || (colon != std::string_view::npos && colon < reference.find_first_of("/?#"));
    if (absolute || base.empty()) return std::string(reference);
    if (reference.empty()) return base;
    return base.substr(0, base.rfind('/') == std::string::npos ? 0 : base.rfind('/') + 1) + std::string(reference);
}

// Identifiers of a template replaced (5.3.9.4.4); nothing where one isn't known.
struct TemplateValues {
    std::string_view id;
    std::int64_t bandwidth = 0;
    std::uint64_t number = 0, time = 0;
};
std::optional<std::string> filled(std::string_view pattern, const TemplateValues& values) {
    std::string result;
    while (true) {
        const std::size_t at = pattern.find('$');
        result += pattern.substr(0, at);
        if (at == std::string_view::npos) return result;
        const std::size_t end = pattern.find('$', at + 1);
        if (end == std::string_view::npos) return std::nullopt;
        std::string_view name = pattern.substr(at + 1, end - at - 1);
        pattern.remove_prefix(end + 1);
        if (name.empty()) {
            result += '$';
            continue;
        }
        std::size_t width = 1;
        if (const std::size_t format = name.find('%'); format != std::string_view::npos) {
            const std::string_view digits = name.substr(format + 1);
            if (digits.size() < 3 || digits.front() != '0' || digits.back() != 'd') return std::nullopt;
            const auto read = whole(digits.substr(1, digits.size() - 2));
            if (!read || *read > 32) return std::nullopt;
            width = static_cast<std::size_t>(*read);
            name = name.substr(0, format);
        }
        if (name == "RepresentationID")
            result += values.id;
        else if (name == "Number")
            result += fmt::format("{:0{}}", values.number, width);
        else if (name == "Time")
            result += fmt::format("{:0{}}", values.time, width);
        else if (name == "Bandwidth")
            result += fmt::format("{:0{}}", values.bandwidth, width);
        else
            return std::nullopt;
    }
}

class Parser {
  public:
    Parser(const std::string& name, std::int64_t now_ms) : name_(name), now_ms_(now_ms) {}

    Result<DashManifest> parse(std::string_view text) {
        pugi::xml_document document;
        if (const Status read =
                base::parse_xml(text, "manifest", "check what the server sends at this address", document);
            !read)
            return fail(ErrorKind::input, read.error().what, name_, read.error().remedy);
        const pugi::xml_node mpd = child(document, "MPD");
        if (!mpd) return refuse("not a DASH manifest: it has no MPD element");
        manifest_.live = attribute(mpd, "type") == "dynamic";
        WAVECREST_TRY(read_times(mpd));
        pugi::xml_node period;
        for (const pugi::xml_node one : mpd.children()) {
            if (local_name(one) != "Period") continue;
            if (period) return refuse("the manifest has several periods, which isn't supported");
            period = one;
        }
        if (!period) return refuse("the manifest has no period");
        if (period.attribute("xlink:href"))
            return refuse("the manifest's period is elsewhere (XLink), which isn't supported");
        if (manifest_.duration.count() == 0)
            manifest_.duration = duration_of(attribute(period, "duration")).value_or(Time{});
        period_start_ = duration_of(attribute(period, "start")).value_or(Time{});
        const std::string base = joined(base_of(mpd, ""), base_of(period, ""));
        for (const pugi::xml_node set : period.children()) {
            if (local_name(set) == "AdaptationSet") WAVECREST_TRY(read_set(period, set, base));
        }
        if (manifest_.sets.empty()) return refuse("the manifest lists nothing to play");
        return std::move(manifest_);
    }

  private:
    using Set = DashManifest::AdaptationSet;
    using Representation = DashManifest::Representation;

    tl::unexpected<Error> refuse(std::string what) const {
        return fail(ErrorKind::input, std::move(what), name_, "check what the server sends at this address");
    }

    static std::string base_of(pugi::xml_node node, const std::string& outer) {
        return joined(outer, base::text_of(node, "BaseURL"));
    }

    Status read_times(pugi::xml_node mpd) {
        const auto read = [&](const char* name, Time& into) -> Status {
            const std::string_view text = attribute(mpd, name);
            if (text.empty()) return {};
            const auto value = duration_of(text);
            if (!value) return refuse(fmt::format("the manifest's {} isn't a duration", name));
            into = *value;
            return {};
        };
        WAVECREST_TRY(read("mediaPresentationDuration", manifest_.duration));
        WAVECREST_TRY(read("minBufferTime", manifest_.target_buffer));
        WAVECREST_TRY(read("maxSegmentDuration", manifest_.longest_segment));
        WAVECREST_TRY(read("timeShiftBufferDepth", manifest_.window));
        WAVECREST_TRY(read("suggestedPresentationDelay", manifest_.delay));
        WAVECREST_TRY(read("minimumUpdatePeriod", manifest_.update));
        manifest_.available_from_ms = instant_of(attribute(mpd, "availabilityStartTime")).value_or(0);
        manifest_.published_ms = instant_of(attribute(mpd, "publishTime")).value_or(0);
        return {};
    }

    Status read_set(pugi::xml_node period, pugi::xml_node node, const std::string& outer) {
        Set set;
        set.language = attribute(node, "lang");
        set.label = base::text_of(node, "Label");
        set.media_type = attribute(node, "mimeType");
        std::string kind(attribute(node, "contentType"));
        for (const pugi::xml_node one : node.children()) {
            const std::string_view name = local_name(one);
            if (name == "ContentProtection") set.encrypted = true;
            if (name == "EssentialProperty" && attribute(one, "schemeIdUri") == kTrickMode) set.keyframes_alone = true;
            if (name == "Role" && attribute(one, "value") == "forced-subtitle") set.forced = true;
            if (name == "ContentComponent" && kind.empty()) kind = attribute(one, "contentType");
        }
        const std::string base = base_of(node, outer);
        for (const pugi::xml_node one : node.children()) {
            if (local_name(one) != "Representation") continue;
            if (set.media_type.empty()) set.media_type = attribute(one, "mimeType");
            if (child(one, "ContentProtection")) set.encrypted = true;
            WAVECREST_TRY_ASSIGN(made, read_representation(period, node, one, base));
            set.representations.push_back(std::move(made));
        }
        if (kind.empty()) kind = set.media_type.substr(0, set.media_type.find('/'));
        const std::string codecs = set.representations.empty() ? "" : set.representations.front().codecs;
        set.kind = kind == "video"                                          ? Set::Kind::video
                   : kind == "audio"                                        ? Set::Kind::audio
                   : kind == "text" || codecs == "wvtt" || codecs == "stpp" ? Set::Kind::text
                                                                            : Set::Kind::other;
        if (!set.representations.empty()) manifest_.sets.push_back(std::move(set));
        return {};
    }

    Result<Representation> read_representation(pugi::xml_node period, pugi::xml_node set, pugi::xml_node node,
                                               const std::string& outer) {
        Representation one;
        const auto either = [&](const char* name) {
            const std::string_view own = attribute(node, name);
            return own.empty() ? attribute(set, name) : own;
        };
        const auto number = [&](const char* name, std::uint64_t most) {
            return static_cast<int>(std::min(whole(either(name)).value_or(0), most));
        };
        one.id = attribute(node, "id");
        const auto bandwidth = whole(attribute(node, "bandwidth"));
        if (!bandwidth || *bandwidth == 0 || *bandwidth > 100'000'000'000)
            return refuse(fmt::format("representation \"{}\" doesn't tell its bandwidth", one.id));
        one.bandwidth_bps = static_cast<std::int64_t>(*bandwidth);
        one.codecs = either("codecs");
        one.size = {number("width", 65536), number("height", 65536)};
        one.fps = rate_of(either("frameRate"));
        one.sample_rate = number("audioSamplingRate", 10'000'000);
        for (const pugi::xml_node level : {node, set}) {
            const pugi::xml_node channels = child(level, "AudioChannelConfiguration");
            if (one.channels == 0)
                one.channels =
                    static_cast<int>(std::min<std::uint64_t>(whole(attribute(channels, "value")).value_or(0), 64));
        }
        const std::string base = base_of(node, outer);
        const Levels levels = {node, set, period};
        if (levels.has("SegmentTemplate")) {
            WAVECREST_TRY(read_template(levels, base, one));
        } else if (levels.has("SegmentList")) {
            WAVECREST_TRY(read_list(levels, base, one));
        } else {
            WAVECREST_TRY(read_base(levels, base, one));
        }
        return one;
    }

    // A representation, its adaptation set and the period: what an inner one doesn't say, an outer one does.
    struct Levels {
        pugi::xml_node representation, set, period;

        bool has(std::string_view element) const {
            return child(representation, element) || child(set, element) || child(period, element);
        }
        std::string_view attribute_of(std::string_view element, const char* name) const {
            for (const pugi::xml_node level : {representation, set, period}) {
                if (const pugi::xml_attribute found = child(level, element).attribute(name)) return found.value();
            }
            return {};
        }
        pugi::xml_node child_of(std::string_view element, std::string_view name) const {
            for (const pugi::xml_node level : {representation, set, period}) {
                if (const pugi::xml_node found = child(child(level, element), name)) return found;
            }
            return {};
        }
    };

    Status read_base(const Levels& levels, const std::string& base, Representation& one) const {
        one.indexed = DashManifest::Resource{base, {}};
        const std::string_view index = levels.attribute_of("SegmentBase", "indexRange");
        if (!index.empty()) {
            const auto range = range_of(index);
            if (!range) return refuse(fmt::format("representation \"{}\": the index range can't be read", one.id));
            one.index = DashManifest::Resource{base, range};
        }
        WAVECREST_TRY(read_header(levels, "SegmentBase", base, one));
        one.shift = shift_of(levels, "SegmentBase");
        return {};
    }

    Status read_header(const Levels& levels, const char* element, const std::string& base, Representation& one) const {
        const pugi::xml_node node = levels.child_of(element, "Initialization");
        if (!node) return {};
        DashManifest::Resource header{joined(base, attribute(node, "sourceURL")), {}};
        if (const std::string_view range = attribute(node, "range"); !range.empty()) {
            header.range = range_of(range);
            if (!header.range)
                return refuse(fmt::format("representation \"{}\": the initialization's range can't be read", one.id));
        }
        one.header = std::move(header);
        return {};
    }

    static std::int64_t timescale_of(const Levels& levels, const char* element) {
        const auto scale = whole(levels.attribute_of(element, "timescale"));
        return scale && *scale > 0 && *scale <= 0xFFFFFFFF ? static_cast<std::int64_t>(*scale) : 1;
    }
    static Time shift_of(const Levels& levels, const char* element) {
        const auto offset = whole(levels.attribute_of(element, "presentationTimeOffset"));
        return offset && *offset / static_cast<std::uint64_t>(timescale_of(levels, element)) <= kLatest
                   ? -base::from_ticks(static_cast<std::int64_t>(*offset), timescale_of(levels, element))
                   : Time{};
    }

    struct Timed {
        std::uint64_t time = 0, duration = 0;  // ticks of the timescale, on the media's timeline
    };
    // SegmentTimeline (5.3.9.6). `end`: where the period ends on it; 0: not known.
    Result<std::vector<Timed>> read_timeline(pugi::xml_node timeline, std::uint64_t end, const std::string& id) {
        std::vector<Timed> times;
        std::uint64_t at = 0;
        for (pugi::xml_node s = timeline.first_child(); s; s = s.next_sibling()) {
            if (local_name(s) != "S") continue;
            if (s.attribute("t")) {
                const auto time = whole(attribute(s, "t"));
                if (!time)
                    return refuse(fmt::format("representation \"{}\": a time of its timeline can't be read", id));
                at = *time;
            }
            const auto length = whole(attribute(s, "d"));
            if (!length || *length == 0)
                return refuse(fmt::format("representation \"{}\": a segment of its timeline has no duration", id));
            std::uint64_t count = 1;
            const std::string_view repeated = attribute(s, "r");
            if (repeated.starts_with('-')) {
                // Up to the next that is listed, or to the end.
                const auto next = whole(attribute(s.next_sibling(), "t"));
                const std::uint64_t until = next ? *next : end;
                if (until == 0) return refuse(fmt::format("representation \"{}\": its timeline has no end", id));
                count = until > at ? (until - at + *length - 1) / *length : 0;
            } else if (!repeated.empty()) {
                const auto more = whole(repeated);
                if (!more) return refuse(fmt::format("representation \"{}\": its timeline can't be read", id));
                count = *more + 1;
            }
            if (count > kMostSegments || listed_ + count > kMostSegments)
                return refuse("the manifest lists too many segments");
            listed_ += count;
            for (std::uint64_t i = 0; i < count; ++i, at += *length) times.push_back({at, *length});
            if (at >> 62 != 0) return refuse(fmt::format("representation \"{}\": its timeline is too long", id));
        }
        return times;
    }

    // Segments of equal length, as many as there are, or are there now.
    Result<std::vector<Timed>> even_times(const Levels& levels, const char* element, std::uint64_t offset,
                                          const std::string& id, std::uint64_t& first) {
        const auto length = whole(levels.attribute_of(element, "duration"));
        const std::int64_t scale = timescale_of(levels, element);
        if (!length || *length == 0 || *length >> 53 != 0)
            return refuse(fmt::format("representation \"{}\": neither a duration nor a timeline of its segments", id));
        const double seconds = static_cast<double>(*length) / static_cast<double>(scale);
        double begin = 0, end = std::ceil(base::to_seconds(manifest_.duration) / seconds - 1e-6);
        if (manifest_.live) {
            const double passed =
                static_cast<double>(now_ms_ - manifest_.available_from_ms) / 1000 - base::to_seconds(period_start_);
            end = std::floor(passed / seconds);
            if (manifest_.window.count() > 0)
                begin = std::max(0.0, end - std::floor(base::to_seconds(manifest_.window) / seconds));
        } else if (manifest_.duration.count() == 0) {
            return refuse("the manifest doesn't tell how long the title is");
        }
        if (!(end >= 0) || !(end - begin <= static_cast<double>(kMostSegments)) || end > 1e15)
            return refuse("the manifest lists too many segments");
        listed_ += static_cast<std::size_t>(std::max(end - begin, 0.0));
        if (listed_ > kMostSegments) return refuse("the manifest lists too many segments");
        std::vector<Timed> times;
        first += static_cast<std::uint64_t>(begin);
        for (double i = begin; i < end; ++i)
            times.push_back({offset + static_cast<std::uint64_t>(i) * *length, *length});
        return times;
    }

    void add_segment(const Timed& timed, std::int64_t scale, DashManifest::Resource at, Representation& one) const {
        DashManifest::Segment segment;
        segment.at = std::move(at);
        segment.from = base::from_ticks(static_cast<std::int64_t>(timed.time), scale) + one.shift;
        segment.duration =
            base::from_ticks(static_cast<std::int64_t>(timed.time + timed.duration), scale) + one.shift - segment.from;
        one.segments.push_back(std::move(segment));
    }

    Result<std::vector<Timed>> within_reason(Result<std::vector<Timed>> times, std::int64_t scale,
                                             const std::string& id) const {
        if (times && !times->empty() &&
            (times->back().time + times->back().duration) / static_cast<std::uint64_t>(scale) > kLatest)
            return refuse(fmt::format("representation \"{}\": its times are beyond reason", id));
        return times;
    }

    Result<std::vector<Timed>> times_of(const Levels& levels, const char* element, Representation& one) {
        const std::int64_t scale = timescale_of(levels, element);
        const std::uint64_t offset = whole(levels.attribute_of(element, "presentationTimeOffset")).value_or(0);
        if (offset / static_cast<std::uint64_t>(scale) > kLatest)
            return refuse(fmt::format("representation \"{}\": its times are beyond reason", one.id));
        one.shift = shift_of(levels, element);
        one.first_number = whole(levels.attribute_of(element, "startNumber")).value_or(1);
        if (const pugi::xml_node timeline = levels.child_of(element, "SegmentTimeline")) {
            const std::uint64_t end =
                manifest_.duration.count() > 0
                    ? offset + static_cast<std::uint64_t>(base::to_ticks(manifest_.duration, scale))
                    : 0;
            return within_reason(read_timeline(timeline, end, one.id), scale, one.id);
        }
        return within_reason(even_times(levels, element, offset, one.id, one.first_number), scale, one.id);
    }

    Status read_template(const Levels& levels, const std::string& base, Representation& one) {
        constexpr const char* kElement = "SegmentTemplate";
        const std::string_view media = levels.attribute_of(kElement, "media");
        if (media.empty()) return refuse(fmt::format("representation \"{}\": its template has no addresses", one.id));
        const auto fill = [&](std::string_view pattern, std::uint64_t number, std::uint64_t time) {
            return filled(pattern, {one.id, one.bandwidth_bps, number, time});
        };
        const auto unknown = [&] {
            return refuse(fmt::format("representation \"{}\": its template can't be read", one.id));
        };
        if (const std::string_view header = levels.attribute_of(kElement, "initialization"); !header.empty()) {
            const auto address = fill(header, 0, 0);
            if (!address) return unknown();
            one.header = DashManifest::Resource{joined(base, *address), {}};
        }
        WAVECREST_TRY_ASSIGN(times, times_of(levels, kElement, one));
        std::uint64_t number = one.first_number;
        for (const Timed& timed : times) {
            const auto address = fill(media, number++, timed.time);
            if (!address) return unknown();
            add_segment(timed, timescale_of(levels, kElement), {joined(base, *address), {}}, one);
        }
        return {};
    }

    Status read_list(const Levels& levels, const std::string& base, Representation& one) {
        constexpr const char* kElement = "SegmentList";
        WAVECREST_TRY(read_header(levels, kElement, base, one));
        std::vector<DashManifest::Resource> places;
        for (const pugi::xml_node level : {levels.representation, levels.set, levels.period}) {
            for (const pugi::xml_node node : child(level, kElement).children()) {
                if (local_name(node) != "SegmentURL") continue;
                if (places.size() == kMostSegments) return refuse("the manifest lists too many segments");
                DashManifest::Resource at{joined(base, attribute(node, "media")), {}};
                if (const std::string_view range = attribute(node, "mediaRange"); !range.empty()) {
                    at.range = range_of(range);
                    if (!at.range)
                        return refuse(fmt::format("representation \"{}\": a segment's range can't be read", one.id));
                }
                places.push_back(std::move(at));
            }
            if (!places.empty()) break;
        }
        if (places.empty()) return refuse(fmt::format("representation \"{}\" lists no segment", one.id));
        std::vector<Timed> times;
        if (places.size() == 1 && levels.attribute_of(kElement, "duration").empty() &&
            !levels.child_of(kElement, "SegmentTimeline")) {
            const std::int64_t scale = timescale_of(levels, kElement);
            times = {{0, static_cast<std::uint64_t>(base::to_ticks(manifest_.duration, scale))}};
        } else {
            WAVECREST_TRY_ASSIGN(read, times_of(levels, kElement, one));
            times = std::move(read);
        }
        for (std::size_t i = 0; i < std::min(times.size(), places.size()); ++i)
            add_segment(times[i], timescale_of(levels, kElement), std::move(places[i]), one);
        return {};
    }

    const std::string& name_;
    const std::int64_t now_ms_;
    DashManifest manifest_;
    Time period_start_{};
    std::size_t listed_ = 0;
};

std::string duration_text(Time time) {
    return fmt::format("PT{:.5f}S", base::to_seconds(time));
}

std::string instant_text(std::int64_t ms) {
    const std::chrono::sys_time<std::chrono::milliseconds> at{std::chrono::milliseconds(ms)};
    const auto day = std::chrono::floor<std::chrono::days>(at);
    const std::chrono::year_month_day date(day);
    const auto rest = (at - day).count();
    return fmt::format("{:04}-{:02}-{:02}T{:02}:{:02}:{:02}.{:03}Z", static_cast<int>(date.year()),
                       static_cast<unsigned>(date.month()), static_cast<unsigned>(date.day()), rest / 3'600'000,
                       rest / 60'000 % 60, rest / 1000 % 60, rest % 1000);
}

std::string range_text(const ByteRange& range) {
    return fmt::format("{}-{}", range.offset, range.end() - 1);
}

// As a fraction where the rate is one over 1001.
std::string frame_rate_text(double fps) {
    const double whole_rate = std::round(fps);
    if (std::abs(fps - whole_rate) < 1e-3) return fmt::format("{:.0f}", whole_rate);
    return fmt::format("{:.0f}/1001", std::round(fps * 1001));
}

class Writer {
  public:
    Writer(const DashManifest& manifest, const std::string& pattern) : manifest_(manifest), pattern_(pattern) {}

    std::string text() {
        line(0, "<?xml version=\"1.0\" encoding=\"utf-8\"?>");
        std::string mpd = fmt::format(
            "<MPD xmlns=\"urn:mpeg:dash:schema:mpd:2011\" profiles=\"urn:mpeg:dash:profile:isoff-{}:2011\" type=\"{}\" "
            "minBufferTime=\"{}\"",
            pattern_.empty() ? "on-demand" : "live", manifest_.live ? "dynamic" : "static",
            duration_text(manifest_.target_buffer));
        const auto add = [&](const char* name, Time time) {
            if (time.count() > 0) mpd += fmt::format(" {}=\"{}\"", name, duration_text(time));
        };
        add("maxSegmentDuration", manifest_.longest_segment);
        if (!manifest_.live) add("mediaPresentationDuration", manifest_.duration);
        if (manifest_.live) {
            mpd += fmt::format(" availabilityStartTime=\"{}\" publishTime=\"{}\"",
                               instant_text(manifest_.available_from_ms), instant_text(manifest_.published_ms));
            add("minimumUpdatePeriod", manifest_.update);
            add("timeShiftBufferDepth", manifest_.window);
            add("suggestedPresentationDelay", manifest_.delay);
        }
        line(0, mpd + ">");
        line(1, "<Period id=\"1\" start=\"PT0S\">");
        int number = 0;
        for (const DashManifest::AdaptationSet& set : manifest_.sets) write_set(set, ++number);
        line(1, "</Period>");
        line(0, "</MPD>");
        return std::move(text_);
    }

  private:
    using Set = DashManifest::AdaptationSet;

    void line(int depth, std::string_view text) {
        text_.append(static_cast<std::size_t>(depth) * 2, ' ');
        text_ += text;
        text_ += '\n';
    }

    void write_set(const Set& set, int number) {
        const bool text = set.kind == Set::Kind::text;
        const char* const kind = set.kind == Set::Kind::video ? "video" : text ? "text" : "audio";
        const char* const aligned = pattern_.empty() ? "subsegmentAlignment=\"true\" subsegmentStartsWithSAP=\"1\""
                                                     : "segmentAlignment=\"true\" startWithSAP=\"1\"";
        line(2, fmt::format("<AdaptationSet id=\"{}\" contentType=\"{}\" mimeType=\"{}\"{}{}>", number, kind,
                            escaped(set.media_type),
                            set.language.empty() ? "" : fmt::format(" lang=\"{}\"", escaped(set.language)),
                            text ? "" : fmt::format(" {}", aligned)));
        if (!set.label.empty()) line(3, base::element("Label", set.label));
        line(3, fmt::format("<Role schemeIdUri=\"{}\" value=\"{}\"/>", kRole,
                            set.forced ? "forced-subtitle"
                            : text     ? "subtitle"
                                       : "main"));
        for (const DashManifest::Representation& one : set.representations) write_representation(one);
        line(2, "</AdaptationSet>");
    }

    void write_representation(const DashManifest::Representation& one) {
        std::string head =
            fmt::format("<Representation id=\"{}\" bandwidth=\"{}\"", escaped(one.id), one.bandwidth_bps);
        if (!one.codecs.empty()) head += fmt::format(" codecs=\"{}\"", escaped(one.codecs));
        if (one.size.width > 0)
            head += fmt::format(" width=\"{}\" height=\"{}\" sar=\"1:1\"", one.size.width, one.size.height);
        if (one.fps > 0) head += fmt::format(" frameRate=\"{}\"", frame_rate_text(one.fps));
        if (one.sample_rate > 0) head += fmt::format(" audioSamplingRate=\"{}\"", one.sample_rate);
        line(3, head + ">");
        if (one.channels > 0)
            line(4,
                 fmt::format("<AudioChannelConfiguration schemeIdUri=\"{}\" value=\"{}\"/>", kChannels, one.channels));
        if (one.indexed) {
            line(4, base::element("BaseURL", one.indexed->uri));
            if (one.index && one.index->range) {
                line(4, fmt::format("<SegmentBase indexRange=\"{}\" indexRangeExact=\"true\">",
                                    range_text(*one.index->range)));
                if (one.header && one.header->range)
                    line(5, fmt::format("<Initialization range=\"{}\"/>", range_text(*one.header->range)));
                line(4, "</SegmentBase>");
            }
        } else if (!one.segments.empty() || !pattern_.empty()) {
            write_template(one);
        }
        line(3, "</Representation>");
    }

    void write_template(const DashManifest::Representation& one) {
        const std::int64_t offset = base::to_ticks(-one.shift, kTimescale);
        line(4, fmt::format("<SegmentTemplate timescale=\"{}\" presentationTimeOffset=\"{}\" startNumber=\"{}\" "
                            "media=\"{}\"{}>",
                            kTimescale, offset, one.first_number, escaped(pattern_),
                            one.header ? fmt::format(" initialization=\"{}\"", escaped(one.header->uri)) : ""));
        line(5, "<SegmentTimeline>");
        std::int64_t expected = -1;
        for (std::size_t i = 0; i < one.segments.size();) {
            const auto ticks = [&](std::size_t k) {
                const std::int64_t from = base::to_ticks(one.segments[k].from - one.shift, kTimescale);
                const std::int64_t to =
                    base::to_ticks(one.segments[k].from + one.segments[k].duration - one.shift, kTimescale);
                return std::pair(from, to - from);
            };
            const auto [from, length] = ticks(i);
            std::size_t repeats = 0;
            while (i + repeats + 1 < one.segments.size()) {
                const auto [next, next_length] = ticks(i + repeats + 1);
                if (next_length != length || next != from + length * static_cast<std::int64_t>(repeats + 1)) break;
                ++repeats;
            }
            line(6, fmt::format("<S{} d=\"{}\"{}/>", from != expected ? fmt::format(" t=\"{}\"", from) : "", length,
                                repeats > 0 ? fmt::format(" r=\"{}\"", repeats) : ""));
            expected = from + length * static_cast<std::int64_t>(repeats + 1);
            i += repeats + 1;
        }
        line(5, "</SegmentTimeline>");
        line(4, "</SegmentTemplate>");
    }

    const DashManifest& manifest_;
    const std::string& pattern_;
    std::string text_;
};

}  // namespace

Result<DashManifest> parse_dash_manifest(std::string_view text, const std::string& name, std::int64_t now_ms) {
    return Parser(name, now_ms).parse(text);
}

std::string write_dash_manifest(const DashManifest& manifest, const std::string& number_pattern) {
    return Writer(manifest, number_pattern).text();
}

}  // namespace wavecrest::container
