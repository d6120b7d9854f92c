#include "library/media_server.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <cstdlib>
#include <list>
#include <optional>

#include "base/byte_source.hpp"
#include "base/mutex.hpp"
#include "container/from_time.hpp"
#include "container/reader.hpp"
#include "library/content.hpp"
#include "library/poster.hpp"
#include "net/own_page.hpp"
#include "net/url.hpp"
#include "share/location.hpp"
#include "source/media_item.hpp"
#include "source/share_input.hpp"
#include "stream/film_hls.hpp"
#include "stream/service.hpp"
#include "upnp/device_host.hpp"
#include "upnp/ssdp.hpp"

namespace wavecrest::library {
namespace {

using upnp::Arguments;
using upnp::Fault;

constexpr std::size_t kMostFilms = 16;  // kept open for HLS, those asked for last

source::Title title_of(const Item& item) {
    source::Title title;
    title.duration = item.duration;
    title.size_bytes = item.size;
    if (item.width > 0) {
        Track video;
        video.kind = TrackKind::video;
        video.width = item.width;
        video.height = item.height;
        title.tracks.push_back(video);
    }
    if (item.channels > 0) {
        Track audio;
        audio.kind = TrackKind::audio;
        audio.channels = item.channels;
        audio.sample_rate = item.sample_rate;
        title.tracks.push_back(audio);
    }
    return title;
}

upnp::Resource resource_of_file(const Item& item, const std::string& address) {
    return source::resource_of(title_of(item), item.container, address, container::seeks_by_time(item.container));
}

// "npt=335.1-", "npt=0:05:35.1-0:06:00" (IEC 62481-1, 7.5.4.3, time seek): where it begins.
std::optional<Time> begin_of_time_range(std::string_view field) {
    constexpr std::string_view kPrefix = "npt=";
    if (!field.starts_with(kPrefix)) return std::nullopt;
    const std::string text(field.substr(kPrefix.size(), field.find('-') - kPrefix.size()));
    if (text.find(':') != std::string::npos) return upnp::parse_duration(text);
    char* end = nullptr;
    const double seconds = std::strtod(text.c_str(), &end);
    if (text.empty() || *end != 0 || !(seconds >= 0) || seconds > 1e6) return std::nullopt;
    return base::from_seconds(seconds);
}

std::string npt(Time time) {
    return fmt::format("{:.3f}", base::to_seconds(time));
}

std::string picture_type(const base::Path& file) {
    return file.extension() == ".png" ? "image/png" : "image/jpeg";
}

std::uint32_t number_of(const std::string& text) {
    std::uint32_t value = 0;
    std::from_chars(text.data(), text.data() + text.size(), value);
    return value;
}

net::HttpReply nothing() {
    return net::HttpReply::text(404, "Nothing in the library at this address.\n");
}

}  // namespace

struct MediaServer::State {
    MediaServerSettings settings;
    Catalogue& catalogue;
    Content content;
    std::unique_ptr<upnp::DeviceHost> host;
    std::unique_ptr<upnp::Advertiser> advertiser;
    base::Mutex mutex;
    std::list<std::pair<std::string, std::shared_ptr<stream::FilmHls>>> films GUARDED_BY(mutex);  // by file

    State(MediaServerSettings s, Catalogue& c) : settings(std::move(s)), catalogue(c), content(c) {}

    // The collections that a host may see.
    std::set<std::string> seen_by(const std::string& address) const {
        std::set<std::string> names;
        for (const ServedCollection& one : settings.collections) {
            const bool in_network = one.from.empty() || one.from.contain(address);
            const bool is_device = one.addresses.empty() || one.addresses.contains(address);
            if (in_network && is_device) names.insert(one.collection.name);
        }
        return names;
    }

    static std::string address(const net::HttpRequest& request, std::int64_t id, const std::string& name) {
        return fmt::format("http://{}{}/i/{}/{}", request.field("Host"), kLibraryPath, id, name);
    }
    static std::string file_name(const Item& item) { return "media" + item.file.extension().string(); }

    upnp::Object describe(const Item& item, const net::HttpRequest& request) {
        upnp::Object o = object_of(item);
        const bool video = item.kind != Item::Kind::music;
        o.resources.push_back(resource_of_file(item, address(request, item.id, file_name(item))));
        if (video) {
            for (const Item& small : catalogue.small_copies(item.id))
                o.resources.push_back(resource_of_file(small, address(request, small.id, file_name(small))));
            o.resources.push_back(source::resource_of(title_of(item), "hls", address(request, item.id, "hls.m3u8")));
        }
        if (!item.picture.empty())
            o.picture = address(request, item.id, "picture" + item.picture.extension().string());
        else if (video)
            o.picture = address(request, item.id, "picture.png");
        if (!item.subtitles.empty())
            o.subtitles = address(request, item.id, "subtitles" + item.subtitles.extension().string());
        return o;
    }

    tl::expected<Arguments, Fault> directory(const upnp::Action& action, const net::HttpRequest& request) {
        if (action.name == "GetSearchCapabilities") return Arguments{{"SearchCaps", Content::search_capabilities()}};
        if (action.name == "GetSortCapabilities") return Arguments{{"SortCaps", Content::sort_capabilities()}};
        const std::string update = fmt::format("{}", catalogue.update_id());
        if (action.name == "GetSystemUpdateID") return Arguments{{"Id", update}};
        const auto in = [&](const char* name) { return upnp::value_of(action.arguments, name); };
        ContentAsked asked;
        asked.sort = in("SortCriteria");
        asked.first = number_of(in("StartingIndex"));
        asked.most = number_of(in("RequestedCount"));
        asked.collections = seen_by(request.address);
        const auto describing = [&](const Item& item) { return describe(item, request); };
        Content::Found found;
        if (action.name == "Search") {
            asked.object = in("ContainerID");
            found = content.search(asked, in("SearchCriteria"), describing);
        } else {
            asked.object = in("ObjectID");
            found = in("BrowseFlag") == "BrowseMetadata" ? content.metadata(asked, describing)
                                                         : content.children(asked, describing);
        }
        if (!found) return tl::unexpected(found.error());
        return Arguments{{"Result", upnp::write_didl(found->objects, in("Filter"))},
                         {"NumberReturned", fmt::format("{}", found->objects.size())},
                         {"TotalMatches", fmt::format("{}", found->total)},
                         {"UpdateID", update}};
    }

    static tl::expected<Arguments, Fault> connections(const upnp::Action& action) {
        if (action.name == "GetProtocolInfo") return Arguments{{"Source", source_list()}, {"Sink", ""}};
        if (action.name == "GetCurrentConnectionIDs") return Arguments{{"ConnectionIDs", "0"}};
        if (upnp::value_of(action.arguments, "ConnectionID") != "0")
            return tl::unexpected(Fault{706, "Invalid connection reference"});
        return Arguments{{"RcsID", "-1"},
                         {"AVTransportID", "-1"},
                         {"ProtocolInfo", ""},
                         {"PeerConnectionManager", ""},
                         {"PeerConnectionID", "-1"},
                         {"Direction", "Output"},
                         {"Status", "OK"}};
    }
    static std::string source_list() {
        std::string list = "http-get:*:application/vnd.apple.mpegurl:*";
        for (const char* name :
             {"mp4", "matroska", "webm", "mpeg-ts", "mpeg-ps", "avi", "flv", "mp3", "flac", "ogg", "wav", "adts"})
            list += fmt::format(",http-get:*:{}:*", container::media_type(name));
        return list;
    }

    std::shared_ptr<stream::FilmHls> film(const base::Path& file) {
        {
            const base::MutexLock lock(mutex);
            for (auto one = films.begin(); one != films.end(); ++one) {
                if (one->first != file.string()) continue;
                films.splice(films.begin(), films, one);
                return films.front().second;
            }
        }
        auto opened = stream::FilmHls::open(file);
        if (!opened) return nullptr;
        const std::shared_ptr<stream::FilmHls> made = std::move(*opened);
        const base::MutexLock lock(mutex);
        films.emplace_front(file.string(), made);
        if (films.size() > kMostFilms) films.pop_back();
        return made;
    }

    // A file of a collection, as long as it really lies in its folder.
    bool is_inside(const base::Path& file, const std::string& collection) const {
        std::error_code error;
        // (On a share there are no links to follow, and no ".." in what a server lists.)
        if (base::Address(file).is_share())
            return std::any_of(settings.collections.begin(), settings.collections.end(), [&](const auto& one) {
                const auto root = share::parse_location(base::Address(one.collection.folder));
                return one.collection.name == collection && root && file.string().starts_with(root->text() + "/");
            });
        const base::Path real = std::filesystem::canonical(file, error);
        if (error) return false;
        return std::any_of(settings.collections.begin(), settings.collections.end(), [&](const ServedCollection& one) {
            std::error_code ignored;
            const base::Path root = std::filesystem::canonical(one.collection.folder, ignored);
            return one.collection.name == collection && !ignored && real.string().starts_with(root.string() + "/");
        });
    }

    // The file from a time on. Finding it reads some of the file.
    static net::HttpReply from_time(const Item& item, net::HttpReply reply, std::string_view range) {
        const auto time = begin_of_time_range(range);
        if (!time || *time >= item.duration || !container::seeks_by_time(item.container))
            return net::HttpReply::text(416, "This file isn't given from such a time.\n");
        net::HttpReply later;
        later.later_from = item.file;
        later.later = [item, reply = std::move(reply), time = *time] {
            auto opened = source::open_file(item.file);
            if (!opened) return net::HttpReply::text(503, "The file can't be read at the moment.\n");
            const std::shared_ptr<base::ByteSource> file = std::move(*opened);
            auto found = container::file_from_time(file, item.container, time);
            if (!found) return net::HttpReply::text(416, "This file isn't given from such a time.\n");
            net::HttpReply made = reply;
            std::string given = fmt::format("npt={}-{}/{}", npt(found->time), npt(item.duration), npt(item.duration));
            // (Behind a head of its own, what is sent isn't a range of the file's bytes.)
            if (found->head.size() == 0)
                given += fmt::format(" bytes={}-{}/{}", found->offset, found->end - 1, file->size());
            made.fields.emplace_back("TimeSeekRange.dlna.org", std::move(given));
            made.file_part = {std::move(found->head), found->offset, found->end};
            return made;
        };
        return later;
    }

    net::HttpReply hls(const Item& item, const std::string& name) {
        net::HttpReply reply;
        reply.later_from = item.file;
        reply.later = [this, file = item.file, title = item.title, name] {
            net::HttpReply made;
            made.name = title;
            const auto opened = film(file);
            if (!opened) return net::HttpReply::text(503, "The film can't be read at the moment.\n");
            constexpr std::string_view kSegment = "hls-";
            if (name == "hls.m3u8") {
                const auto list = opened->playlist("hls");
                if (!list) return net::HttpReply::text(503, "The film can't be read at the moment.\n");
                const ByteSpan bytes = base::as_bytes(*list);
                made.body = Bytes(ByteVector(bytes.begin(), bytes.end()));
                made.media_type = "application/vnd.apple.mpegurl";
                return made;
            }
            if (!name.starts_with(kSegment) || !name.ends_with(".ts")) return nothing();
            auto segment = opened->segment(number_of(name.substr(kSegment.size())));
            if (!segment) return nothing();
            made.body = std::move(*segment);
            made.media_type = "video/mp2t";
            return made;
        };
        return reply;
    }

    // "/i/12/media.mp4".
    net::HttpReply media(const net::HttpRequest& request) {
        std::string_view rest = std::string_view(request.path).substr(kLibraryPath.size());
        if (request.method != "GET") return net::HttpReply::text(405, "Only GET and HEAD are supported.\n");
        if (!rest.starts_with("/i/")) return nothing();
        rest.remove_prefix(3);
        std::int64_t id = 0;
        const auto [end, error] = std::from_chars(rest.data(), rest.data() + rest.size(), id);
        rest.remove_prefix(static_cast<std::size_t>(end - rest.data()));
        if (error != std::errc{} || !rest.starts_with("/")) return nothing();
        const std::string name(rest.substr(1));
        const auto item = catalogue.item(id);
        if (!item || !seen_by(request.address).contains(item->collection)) return nothing();
        // All that looks at the folder is done by its drive's own thread: one that hangs holds up nobody else.
        net::HttpReply reply;
        reply.later_from = item->file;
        reply.later = [this, item = *item, name, range = std::string(request.field("TimeSeekRange.dlna.org"))] {
            net::HttpReply made = form_of(item, name, range);
            return made.later ? made.later() : made;
        };
        return reply;
    }

    static void set_file(net::HttpReply& reply, const base::Path& file) {
        const base::Address place(file);
        reply.file = place;
        if (place.is_share()) reply.open_remote = [place] { return stream::open_on_share(place); };
    }

    // One of an item's forms, by the end of its path.
    net::HttpReply form_of(const Item& found, const std::string& name, const std::string& range) {
        const Item* const item = &found;
        if (!is_inside(item->file, item->collection)) return nothing();
        if (name == file_name(*item)) {
            net::HttpReply reply;
            set_file(reply, item->file);
            const upnp::Resource r = resource_of_file(*item, "");
            const auto info = upnp::parse_protocol_infos(r.protocol_info);
            reply.media_type = info.front().media_type;
            reply.name = item->title;
            // IEC 62481-1, 7.5.4.3: devices that ask are told what they were told before.
            reply.fields = {{"contentFeatures.dlna.org", info.front().extra}, {"transferMode.dlna.org", "Streaming"}};
            return range.empty() ? reply : from_time(*item, std::move(reply), range);
        }
        if (name.starts_with("hls") && item->kind != Item::Kind::music) return hls(*item, name);
        if (!item->subtitles.empty() && name == "subtitles" + item->subtitles.extension().string() &&
            is_inside(item->subtitles, item->collection)) {
            net::HttpReply reply;
            set_file(reply, item->subtitles);
            reply.media_type = item->subtitles.extension() == ".vtt" ? "text/vtt" : "application/x-subrip";
            return reply;
        }
        if (!item->picture.empty() && name == "picture" + item->picture.extension().string() &&
            is_inside(item->picture, item->collection)) {
            net::HttpReply reply;
            set_file(reply, item->picture);
            reply.media_type = picture_type(item->picture);
            return reply;
        }
        if (item->picture.empty() && item->kind != Item::Kind::music && name == "picture.png") {
            net::HttpReply reply;
            reply.later_from = item->file;
            reply.later = [file = item->file] {
                const auto poster = poster_of(file);
                if (!poster) return nothing();
                net::HttpReply made;
                const auto bytes = base::read_text_file(*poster);
                if (!bytes) return nothing();
                const ByteSpan span = base::as_bytes(*bytes);
                made.body = Bytes(ByteVector(span.begin(), span.end()));
                made.media_type = "image/png";
                made.cache_control = "max-age=86400";
                return made;
            };
            return reply;
        }
        return nothing();
    }
};

MediaServer::MediaServer(MediaServerSettings settings, Catalogue& catalogue)
    : state_(std::make_unique<State>(std::move(settings), catalogue)) {
    State& s = *state_;
    upnp::DeviceDescription description;
    description.type = "urn:schemas-upnp-org:device:MediaServer:1";
    description.name = s.settings.name;
    description.manufacturer = "Wavecrest";
    description.model = "Wavecrest library";
    description.udn = upnp::udn_from("media server " + s.settings.identity);
    std::vector<upnp::HostedService> services;
    services.push_back(
        {upnp::content_directory(),
         [&s](const upnp::Action& action, const net::HttpRequest& request) { return s.directory(action, request); },
         [&s] {
             return Arguments{{"SystemUpdateID", fmt::format("{}", s.catalogue.update_id())},
                              {"ContainerUpdateIDs", ""}};
         }});
    services.push_back({upnp::connection_manager(),
                        [](const upnp::Action& action, const net::HttpRequest&) { return State::connections(action); },
                        [] {
                            return Arguments{{"SourceProtocolInfo", State::source_list()},
                                             {"SinkProtocolInfo", ""},
                                             {"CurrentConnectionIDs", "0"}};
                        }});
    s.host = std::make_unique<upnp::DeviceHost>(std::move(description), std::move(services),
                                                std::string(kLibraryPath) + "/upnp");
}

MediaServer::~MediaServer() = default;

net::HttpReply MediaServer::answer(const net::HttpRequest& request) {
    // Addresses in answers are made of the name it is asked by.
    if (!net::is_own_host(request, state_->settings.announced))
        return net::HttpReply::text(403, "Ask for it by this machine's address.\n");
    if (state_->seen_by(request.address).empty())
        return net::HttpReply::text(403, "Access to the library is denied.\n");
    if (request.path.starts_with(std::string(kLibraryPath) + "/upnp")) return state_->host->answer(request);
    return state_->media(request);
}

Status MediaServer::announce(std::uint16_t port, const std::string& interface) {
    upnp::Advertiser::Settings advertising;
    advertising.udn = state_->host->description().udn;
    advertising.targets = state_->host->targets();
    advertising.path = state_->host->description_path();
    advertising.port = port;
    advertising.interface = interface;
    WAVECREST_TRY_ASSIGN(advertiser, upnp::Advertiser::start(std::move(advertising)));
    state_->advertiser = std::move(advertiser);
    return {};
}

void MediaServer::changed() {
    state_->host->changed("ContentDirectory",
                          {{"SystemUpdateID", fmt::format("{}", state_->catalogue.update_id())},
                           {"ContainerUpdateIDs", fmt::format("0,{}", state_->catalogue.update_id())}});
}

}  // namespace wavecrest::library
