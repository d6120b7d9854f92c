#include "upnp/didl.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>

#include "upnp/xml.hpp"

namespace wavecrest::upnp {
namespace {

class Filter {
  public:
    explicit Filter(std::string_view list) {
        while (!list.empty()) {
            std::string_view one = list.substr(0, list.find(','));
            list.remove_prefix(std::min(list.size(), one.size() + 1));
            while (!one.empty() && one.front() == ' ') one.remove_prefix(1);
            while (!one.empty() && one.back() == ' ') one.remove_suffix(1);
            if (one == "*") all_ = true;
            names_.emplace_back(one);
        }
    }
    // An attribute takes its element with it.
    bool takes(std::string_view name) const {
        return all_ || std::any_of(names_.begin(), names_.end(), [&](const std::string& one) {
                   return one == name || (one.starts_with(name) && one.substr(name.size(), 1) == "@");
               });
    }

  private:
    bool all_ = false;
    std::vector<std::string> names_;
};

std::string attribute(std::string_view name, std::string_view value) {
    return value.empty() ? "" : fmt::format(" {}=\"{}\"", name, escaped(value));
}
std::string attribute(std::string_view name, std::int64_t value) {
    return value <= 0 ? "" : attribute(name, fmt::format("{}", value));
}

std::string write(const Resource& r, const Filter& filter) {
    const auto wanted = [&](const char* name, const std::string& text) {
        return filter.takes(fmt::format("res@{}", name)) ? text : "";
    };
    return fmt::format("<res{}{}{}{}{}{}{}>{}</res>", attribute("protocolInfo", r.protocol_info),
                       wanted("size", attribute("size", static_cast<std::int64_t>(r.size))),
                       wanted("duration", r.duration ? attribute("duration", format_duration(*r.duration)) : ""),
                       wanted("bitrate", attribute("bitrate", r.bitrate_bps / 8)),
                       wanted("resolution", attribute("resolution", r.resolution)),
                       wanted("nrAudioChannels", attribute("nrAudioChannels", r.channels)),
                       wanted("sampleFrequency", attribute("sampleFrequency", r.sample_rate)), escaped(r.address));
}

std::string number(int value) {
    return value > 0 ? fmt::format("{}", value) : "";
}

std::int64_t read_number(const char* text) {
    std::int64_t value = 0;
    const std::string_view view(text);
    std::from_chars(view.data(), view.data() + view.size(), value);
    return std::max<std::int64_t>(value, 0);
}

Resource read_resource(pugi::xml_node node) {
    Resource r;
    r.address = text_of(node);
    r.protocol_info = node.attribute("protocolInfo").as_string();
    r.duration = parse_duration(node.attribute("duration").as_string());
    r.size = static_cast<std::uint64_t>(read_number(node.attribute("size").as_string()));
    const std::int64_t bytes = read_number(node.attribute("bitrate").as_string());
    r.bitrate_bps = bytes < (std::int64_t{1} << 40) ? bytes * 8 : 0;
    r.resolution = node.attribute("resolution").as_string();
    r.channels = std::max(0, node.attribute("nrAudioChannels").as_int());
    r.sample_rate = std::max(0, node.attribute("sampleFrequency").as_int());
    return r;
}

}  // namespace

std::string format_duration(Time time) {
    const std::int64_t ms = base::to_ticks(std::max(time, Time{}), 1000);
    return fmt::format("{}:{:02}:{:02}.{:03}", ms / 3'600'000, ms / 60'000 % 60, ms / 1000 % 60, ms % 1000);
}

std::optional<Time> parse_duration(std::string_view text) {
    // "H+:MM:SS", "H+:MM:SS.F+", "H+:MM:SS.F0/F1"; some devices leave the hours out, or have one digit.
    std::int64_t parts[3] = {};
    int count = 0;
    while (count < 3) {
        std::int64_t value = 0;
        const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), value);
        if (error != std::errc{} || value < 0 || value > 1'000'000) return std::nullopt;
        parts[count++] = value;
        text.remove_prefix(static_cast<std::size_t>(end - text.data()));
        if (text.empty() || text.front() != ':') break;
        text.remove_prefix(1);
    }
    if (count < 2) return std::nullopt;
    const std::int64_t hours = count == 3 ? parts[0] : 0;
    const std::int64_t minutes = parts[count - 2], seconds = parts[count - 1];
    if (minutes > 59 || seconds > 59) return std::nullopt;
    double fraction = 0;
    if (!text.empty() && text.front() == '.') {
        text.remove_prefix(1);
        const std::size_t slash = text.find('/');
        const std::string digits(text.substr(0, std::min<std::size_t>(slash, 9)));
        std::int64_t above = 0, below = 0;
        const auto [end, error] = std::from_chars(digits.data(), digits.data() + digits.size(), above);
        if (error != std::errc{} || end != digits.data() + digits.size() || above < 0) return std::nullopt;
        if (slash == std::string_view::npos) {
            fraction = static_cast<double>(above);
            for (std::size_t i = 0; i < digits.size(); ++i) fraction /= 10;
        } else {
            const std::string_view rest = text.substr(slash + 1);
            std::from_chars(rest.data(), rest.data() + rest.size(), below);
            if (below <= 0 || above >= below) return std::nullopt;
            fraction = static_cast<double>(above) / static_cast<double>(below);
        }
    } else if (!text.empty()) {
        return std::nullopt;
    }
    return base::from_seconds(static_cast<double>(hours * 3600 + minutes * 60 + seconds) + fraction);
}

std::string write_didl(std::span<const Object> objects, std::string_view filter_list) {
    const Filter filter(filter_list);
    std::string text =
        "<DIDL-Lite xmlns=\"urn:schemas-upnp-org:metadata-1-0/DIDL-Lite/\" "
        "xmlns:dc=\"http://purl.org/dc/elements/1.1/\" xmlns:upnp=\"urn:schemas-upnp-org:metadata-1-0/upnp/\">";
    for (const Object& o : objects) {
        const char* const name = o.container ? "container" : "item";
        text += fmt::format("<{}{}{} restricted=\"1\"", name, attribute("id", o.id), attribute("parentID", o.parent));
        if (o.container && o.children >= 0 && filter.takes("container@childCount"))
            text += fmt::format(" childCount=\"{}\"", o.children);
        if (o.container && filter.takes("container@searchable")) text += " searchable=\"1\"";
        text +=
            fmt::format("><dc:title>{}</dc:title><upnp:class>{}</upnp:class>", escaped(o.title), escaped(o.upnp_class));
        const std::pair<const char*, std::string> properties[] = {
            {"dc:date", o.date},
            {"dc:creator", o.creator},
            {"upnp:artist", o.artist},
            {"upnp:album", o.album},
            {"upnp:genre", o.genre},
            {"upnp:seriesTitle", o.series},
            {"upnp:episodeSeason", number(o.season)},
            {"upnp:episodeNumber", number(o.episode)},
            {"upnp:originalTrackNumber", number(o.track)},
            {"upnp:albumArtURI", o.picture},
        };
        for (const auto& [property, value] : properties) {
            if (filter.takes(property)) text += element(property, value);
        }
        if (filter.takes("res")) {
            for (const Resource& r : o.resources) text += write(r, filter);
            // A text file of subtitles goes as a resource of its own; there is no other standard way.
            if (!o.subtitles.empty())
                text += fmt::format("<res protocolInfo=\"http-get:*:text/{}:*\">{}</res>",
                                    o.subtitles.ends_with(".vtt") ? "vtt" : "srt", escaped(o.subtitles));
        }
        text += fmt::format("</{}>", name);
    }
    return text + "</DIDL-Lite>";
}

Result<std::vector<Object>> parse_didl(std::string_view text) {
    pugi::xml_document document;
    WAVECREST_TRY(parse_xml(text, "list of media", document));
    const pugi::xml_node root = child(document, "DIDL-Lite");
    if (!root)
        return fail(ErrorKind::wanting, "the list of media is no DIDL-Lite", "",
                    "the device's software needs an update");
    std::vector<Object> objects;
    for (const pugi::xml_node node : root.children()) {
        const std::string_view name = local_name(node);
        if (name != "item" && name != "container") continue;
        Object o;
        o.container = name == "container";
        o.id = node.attribute("id").as_string();
        o.parent = node.attribute("parentID").as_string();
        o.children = node.attribute("childCount").as_int(-1);
        o.title = text_of(node, "title");
        o.upnp_class = text_of(node, "class");
        o.date = text_of(node, "date");
        o.creator = text_of(node, "creator");
        o.artist = text_of(node, "artist");
        o.album = text_of(node, "album");
        o.genre = text_of(node, "genre");
        o.series = text_of(node, "seriesTitle");
        o.season = child(node, "episodeSeason").text().as_int();
        o.episode = child(node, "episodeNumber").text().as_int();
        o.track = child(node, "originalTrackNumber").text().as_int();
        o.picture = text_of(node, "albumArtURI");
        for (const pugi::xml_node one : node.children()) {
            if (local_name(one) != "res") continue;
            Resource r = read_resource(one);
            const bool is_text = r.protocol_info.find(":text/") != std::string::npos;
            if (is_text)
                o.subtitles = r.address;
            else
                o.resources.push_back(std::move(r));
        }
        objects.push_back(std::move(o));
    }
    return objects;
}

}  // namespace wavecrest::upnp
