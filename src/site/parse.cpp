#include "site/site.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>
#include <cctype>

#include "base/address.hpp"
#include "base/config.hpp"
#include "media/track_choice.hpp"
#include "share/location.hpp"
#include "source/ladder_input.hpp"
#include "source/share_input.hpp"
#include "stream/control.hpp"

namespace wavecrest::site {
namespace {

base::Path from_folder(const std::string& file, const base::Path& folder) {
    const bool elsewhere = base::Path(file).is_absolute() || base::has_scheme(file);
    return elsewhere ? base::Path(file) : folder / file;
}

// A class, or descriptions that lie in the site file's folder or, as ever, in the working folder.
Result<device::Device> device_of(const std::string& device_class, const base::Path& folder) {
    std::string names;
    for (std::size_t at = 0; at <= device_class.size();) {
        const std::size_t plus = std::min(device_class.find('+', at), device_class.size());
        std::string one = device_class.substr(at, plus - at);
        std::error_code error;
        if (const base::Path beside = from_folder(one, folder);
            one.ends_with(".toml") && std::filesystem::exists(beside, error))
            one = beside.string();
        names += (at > 0 ? "+" : "") + one;
        at = plus + 1;
    }
    return device::find(names);
}

SiteDevice parse_device(base::ConfigTable& table, const base::Path& folder) {
    SiteDevice entry;
    entry.line = table.line();
    const auto name = table.text("name");
    const auto device_class = table.text("class");
    const auto room = table.text("room", "");
    const auto player = table.text("player", "");
    const auto address = table.text("address", "");
    const auto link = table.text("link", "gigabit");
    table.finish();
    auto found = device_of(device_class, folder);
    if (!found) table.wrong("class", found.error().what, found.error().remedy);
    const auto parsed_link = device::parse_link(link);
    if (!parsed_link)
        table.wrong("link", fmt::format("\"{}\" isn't a valid link", link),
                    "write gigabit, fast-ethernet, or a rate such as \"12 Mbit/s\"");
    if (found) entry.device = std::move(*found);
    entry.device.name = name;
    entry.device_class = device_class;
    entry.room = room;
    entry.player = player;
    entry.address = address;
    if (!address.empty() && (!net::Networks::parse({address}) || address.find('/') != std::string::npos))
        table.wrong("address", fmt::format("\"{}\" isn't an IP address", address), "write for example 192.168.1.20");
    if (parsed_link) entry.link = *parsed_link;
    return entry;
}

SiteShare parse_share(base::ConfigTable& table) {
    SiteShare entry;
    entry.line = table.line();
    entry.name = table.text("name");
    const auto address = table.text("address");
    table.finish();
    const auto location = share::parse_location(address);
    if (!location) {
        table.wrong("address", location.error().what, location.error().remedy);
    } else if (location->scheme == base::Scheme::smb && location->share.empty()) {
        table.wrong("address", "the address names no share", "write its name behind the server's");
    } else {
        entry.address = location->text();
    }
    return entry;
}

// Where a stream's files are: below a share of the site, or the site file's folder.
std::function<base::Address(const std::string&)> place_of(base::ConfigTable& table, const base::Path& folder,
                                                          const std::vector<SiteShare>& shares) {
    const auto name = table.text("share", "");
    if (name.empty()) return [folder](const std::string& file) { return base::Address(from_folder(file, folder)); };
    std::vector<std::string> known;
    for (const SiteShare& one : shares) {
        known.push_back(one.name);
        if (one.name == name)
            return [at = one.address.text()](const std::string& file) {
                return base::Address(base::has_scheme(file) ? file : at + "/" + file);
            };
    }
    const std::string meant = base::nearest(name, known);
    table.wrong("share", fmt::format("there is no share \"{}\"", name),
                !meant.empty()  ? fmt::format("did you mean \"{}\"?", meant)
                : known.empty() ? "add a [[share]] with this name and its address"
                                : fmt::format("name one of: {}", fmt::join(known, ", ")));
    return [](const std::string& file) { return base::Address(file); };
}

std::vector<stream::Part> parse_parts(base::ConfigTable& table, const base::Path& folder,
                                      const std::vector<SiteShare>& shares, bool& unlisted) {
    const auto place = place_of(table, folder, shares);
    const auto file = table.text("file", "");
    auto files = table.texts("files");
    const auto all_of = table.text("folder", "");
    const auto title = table.text("title", "main");
    const auto chapter = table.number("chapter", 1, 999, 1);
    if (!file.empty()) files.insert(files.begin(), file);
    std::vector<stream::Part> parts;
    for (const std::string& one : files) parts.push_back({place(one), title, 1});
    if (!all_of.empty() && place(all_of).is_share()) {
        const auto there = media_on_share(place(all_of));
        for (const base::Address& one : there.value_or(std::vector<base::Address>())) parts.push_back({one, title, 1});
        if (there && there->empty()) table.wrong("folder", "there are no media files in it", "name another folder");
        if (!there && there.error().kind != ErrorKind::machine)
            table.wrong("folder", fmt::format("{} ({})", there.error().what, there.error().where),
                        there.error().remedy);
        unlisted = !there;
        if (parts.empty()) parts.push_back({place(all_of), title, 1});
    } else if (!all_of.empty() && !place(all_of).is_local()) {
        table.wrong("folder", "this is no folder", "name one of this machine, or of a share (smb://, nfs://)");
        parts.push_back({place(all_of), title, 1});  // (So that it isn't missing, too.)
    } else if (!all_of.empty()) {
        for (const base::Path& one : media_in(from_folder(all_of, folder))) parts.push_back({one, title, 1});
        if (parts.empty()) table.wrong("folder", "there are no media files in it", "name another folder");
    }
    if (!parts.empty()) parts.front().chapter = static_cast<int>(chapter);
    return parts;
}

// A key, or the file that holds it: "key" or "key_file".
std::string parse_key(base::ConfigTable& table, const std::string& name, const base::Path& folder) {
    std::string key = table.text(name, "");
    const std::string file = table.text(name + "_file", "");
    if (!key.empty() && !file.empty())
        table.wrong(name, fmt::format("{0} and {0}_file are both set", name), "leave one of them out");
    if (!file.empty()) {
        auto read = stream::read_key(from_folder(file, folder));
        if (!read) {
            table.wrong(name + "_file", fmt::format("{} ({})", read.error().what, read.error().where),
                        read.error().remedy);
            return "";
        }
        key = std::move(*read);
    }
    if (!key.empty() && key.size() < stream::kShortestKey)
        table.wrong(file.empty() ? name : name + "_file", "the stream key is too short",
                    "use at least eight letters and digits");
    return key;
}

bool is_ladder(const stream::ServedStream& item) {
    return item.parts.size() == 1 && source::is_ladder_folder(item.parts.front().source);
}

// Where nothing is said, one file is served as it is, a ladder's folder as a ladder, and everything else live. An empty
// list is said, too: the stream is only sent.
void settle_deliveries(base::ConfigTable& table, SiteStream& entry) {
    stream::ServedStream& item = entry.item;
    const bool said = item.deliveries.any();
    const bool sent = !item.targets.empty() || !item.push.empty();
    const bool only_sent = table.has("delivery") && !said && sent;
    if (!item.deliveries.any() && item.published())
        (entry.profile.empty() ? item.deliveries.rtmp : item.deliveries.live) = true;
    if (!item.deliveries.any() && !only_sent) {
        std::error_code error;
        const bool plain = item.parts.size() == 1 && !entry.unlisted &&
                           !std::filesystem::is_directory(item.parts.front().source.path(), error);
        if (plain && entry.profile.empty()) {
            item.deliveries.file = true;
        } else if (!sent) {
            item.deliveries.live = true;
        }
    }
    if (is_ladder(item) && !table.has("delivery") && !sent) item.deliveries = {.ladder = true};
    // A ladder of files is there; of all else it is made on the way.
    if (item.deliveries.ladder && !is_ladder(item)) {
        item.deliveries.ladder = false;
        item.deliveries.live_ladder = true;
    }
}

// What is said of a stream that isn't delivered so.
void refuse_unused(base::ConfigTable& table, const SiteStream& entry, const TrackChoice& choice) {
    const stream::ServedStream& item = entry.item;
    const stream::Deliveries& to = item.deliveries;
    if (is_ladder(item) && (to.file || to.hls))
        table.wrong("delivery", "this is a ladder of several bit rates, not a file",
                    fmt::format("write ladder for {}", table.called("delivery")));
    const bool whole = !item.is_live() && !to.hls;
    if (!choice.audio.empty() && whole)
        table.wrong(
            "audio", "a file is delivered with all of its audio tracks: players select one",
            fmt::format("add live or hls to {}, or leave {} out", table.called("delivery"), table.called("audio")));
    if (choice.video > 0 && whole)
        table.wrong(
            "video", "a file is delivered with all of its video tracks: players select one",
            fmt::format("add live or hls to {}, or leave {} out", table.called("delivery"), table.called("video")));
    if (choice.burn_in != TrackChoice{}.burn_in && entry.profile.empty() && !item.published())
        table.wrong("burn_in", "subtitles are burned in only when transcoding",
                    fmt::format("name a profile with {}, or leave it out", table.called("profile")));
    if (!item.subtitles.empty() && !to.file && !to.hls && !item.published())
        table.wrong("subtitles", "subtitle files are for file and hls",
                    "offer the stream as file or hls, too, or leave the subtitles out");
    if (!to.by_http() && (item.ports.http != 0 || item.ports.tls != 0))
        table.wrong(item.ports.http != 0 ? "port" : "tls_port", "this stream is not delivered by HTTP",
                    "offer it as file, hls, live or live-hls, too, or leave the port out");
    if (item.ports.rtmp != 0 && !to.rtmp && !item.published())
        table.wrong("rtmp_port", "this stream is not delivered by RTMP",
                    "offer it as rtmp, too, or leave the port out");
}

// What is said of the source, or of how it is played, and means nothing there.
void refuse_unplayed(base::ConfigTable& table, const SiteStream& entry) {
    const stream::ServedStream& item = entry.item;
    const auto refuse = [&](const char* which, bool is_said, const char* what, const char* remedy) {
        if (is_said) table.wrong(which, what, remedy);
    };
    if (!item.publish_key.empty()) {
        const char* const what = "a published stream is delivered whole, as it comes";
        for (const char* which : {"loop", "bitrate", "title", "chapter", "audio", "video", "burn_in", "subtitles"})
            refuse(which, table.has(which), what, "leave it out");
        const stream::Deliveries& to = item.deliveries;
        refuse("profile", !entry.profile.empty() && !to.live && !to.live_hls && !to.live_ladder && item.targets.empty(),
               "RTMP players are given a published stream unchanged",
               "deliver it live, live-hls or ladder, too, or leave the profile out");
    } else if (!item.is_live() && !item.parts.empty()) {
        const char* const what = "this is for live streams only: files are delivered on demand";
        const char* const remedy =
            "offer the stream live, live-hls or rtmp, or send it by udp or rtp; or leave this out";
        refuse("loop", item.loop, what, remedy);
        refuse("bitrate", item.rate_bps != 0, what, remedy);
        refuse("profile", !entry.profile.empty(), what, remedy);
        refuse("chapter", item.parts.front().chapter > 1, what, remedy);
    }
}

// Where a stream goes by itself, and how it is asked for.
void parse_deliveries(base::ConfigTable& table, stream::ServedStream& item) {
    for (const std::string& word : table.texts("delivery")) {
        const Status added = stream::add_delivery(item.deliveries, word);
        if (!added) table.wrong("delivery", added.error().what, added.error().remedy);
    }
    for (const bool rtp : {false, true}) {
        for (const std::string& text : table.texts(rtp ? "rtp" : "udp")) {
            const auto address = net::parse_udp_address(text);
            if (!address) table.wrong(rtp ? "rtp" : "udp", address.error().what, address.error().remedy);
            if (address) item.targets.push_back({*address, rtp});
        }
    }
    for (const std::string& text : table.texts("push")) {
        const auto address = net::parse_rtmp_address(text);
        if (!address) table.wrong("push", address.error().what, address.error().remedy);
        if (address) item.push.push_back(*address);
    }
}

SiteStream parse_stream(base::ConfigTable& table, const base::Path& folder, const std::vector<SiteShare>& shares) {
    SiteStream entry;
    stream::ServedStream& item = entry.item;
    entry.line = table.line();
    item.name = table.text("name");
    item.parts = parse_parts(table, folder, shares, entry.unlisted);
    item.publish_key = parse_key(table, "publish_key", folder);
    item.path = table.text("path", "");
    item.ports.http = static_cast<std::uint16_t>(table.number("port", 1, 65535, 0));
    item.ports.tls = static_cast<std::uint16_t>(table.number("tls_port", 1, 65535, 0));
    item.ports.rtmp = static_cast<std::uint16_t>(table.number("rtmp_port", 1, 65535, 0));
    const auto subtitles = table.text("subtitles", "");
    TrackChoice choice;
    choice.audio = table.texts("audio");
    choice.video = static_cast<int>(table.number("video", 1, 99, 0));
    choice.burn_in = table.text("burn_in", choice.burn_in);
    entry.devices = table.texts("devices");
    parse_deliveries(table, item);
    item.loop = table.flag("loop", false);
    item.rate_bps = table.bitrate("bitrate", 0);
    entry.profile = table.text("profile", "");
    const auto from = table.texts("from");
    item.key = parse_key(table, "key", folder);
    table.finish();
    const auto networks = net::Networks::parse(from);
    if (!networks) table.wrong("from", networks.error().what, networks.error().remedy);
    if (networks) item.from = *networks;
    if (item.parts.empty() && item.publish_key.empty())
        table.wrong("name", fmt::format("\"file\" is missing: stream \"{}\" has no source", item.name),
                    "add file, files or folder; or publish_key, to accept RTMP publishing");
    if (!item.parts.empty() && !item.publish_key.empty())
        table.wrong("publish_key", "a stream is either published here or played from files", "leave one of them out");
    if (item.path.empty())
        item.path =
            stream::default_path(item.name, item.parts.empty() ? base::Address("live.flv") : item.parts.front().source);
    // (Beside the stream's files.)
    if (!subtitles.empty()) item.subtitles = base::Path(place_of(table, folder, shares)(subtitles).text());
    settle_deliveries(table, entry);
    if (const auto fit = media::check_audio_words(choice.audio, table.where("audio")); !fit)
        table.wrong("audio", fit.error().what, fit.error().remedy);
    for (stream::Part& part : item.parts) part.choice = choice;
    refuse_unused(table, entry, choice);
    refuse_unplayed(table, entry);
    return entry;
}

template <typename Entry>
Status refuse_twins(const std::vector<Entry>& entries, const base::Path& file, const char* what,
                    std::string (*name)(const Entry&)) {
    for (std::size_t i = 0; i < entries.size(); ++i) {
        for (std::size_t k = 0; k < i; ++k) {
            if (name(entries[i]).empty() || name(entries[i]) != name(entries[k])) continue;
            return fail(ErrorKind::usage, fmt::format("two {} are named \"{}\"", what, name(entries[i])),
                        fmt::format("{}, line {}", file.string(), entries[i].line), "give one of them another name");
        }
    }
    return {};
}

}  // namespace

namespace {

// By its name; hidden ones aren't.
bool is_media(const base::Path& file) {
    static constexpr std::string_view kKinds[] = {".mp4", ".m4v",  ".mkv", ".webm", ".ts",  ".m2ts",
                                                  ".mpg", ".mpeg", ".vob", ".avi",  ".flv", ".mov",
                                                  ".mp3", ".flac", ".ogg", ".wav",  ".m4a"};
    std::string extension = file.extension().string();
    std::transform(extension.begin(), extension.end(), extension.begin(),
                   [](unsigned char c) { return static_cast<char>(std::tolower(c)); });
    return !file.filename().string().starts_with('.') &&
           std::find(std::begin(kKinds), std::end(kKinds), extension) != std::end(kKinds);
}

}  // namespace

Result<std::vector<base::Address>> media_on_share(const base::Address& folder) {
    WAVECREST_TRY_ASSIGN(opened, source::open_share(folder, nullptr));
    WAVECREST_TRY_ASSIGN(entries, opened.share->list(opened.path));  // by name
    std::vector<base::Address> files;
    for (const share::Entry& one : entries) {
        if (!one.folder && is_media(one.name))
            files.emplace_back(opened.share->location().text_of(share::joined(opened.path, one.name)));
    }
    return files;
}

std::vector<base::Path> media_in(const base::Path& folder) {
    std::vector<base::Path> files;
    std::error_code error;
    for (const auto& one : std::filesystem::directory_iterator(folder, error)) {
        if (one.is_regular_file(error) && is_media(one.path())) files.push_back(one.path());
    }
    std::sort(files.begin(), files.end());
    return files;
}

Result<Site> load(const base::Path& file) {
    auto text = base::read_text_file(file);
    if (!text) {
        std::error_code error;
        Error about = std::move(text).error();
        if (!std::filesystem::exists(file, error)) about.remedy = "start one with wavecrest site new, or name another";
        return fail(std::move(about));
    }
    return parse(*text, file);
}

namespace {

SiteCollection parse_collection(base::ConfigTable& table, const base::Path& folder,
                                const std::vector<SiteShare>& shares) {
    SiteCollection collection;
    collection.line = table.line();
    collection.name = table.text("name");
    const bool on_share = table.has("share");
    const auto below = place_of(table, folder, shares);
    const auto place = on_share ? table.text("folder", "") : table.text("folder");
    const base::Address all = below(place);
    collection.folder = all.is_share() ? base::Path(all.text()) : all.path();
    if (all.is_share() && !share::parse_location(all))
        table.wrong("folder", "this is no address of a share", "write smb://SERVER/SHARE/FOLDER");
    const auto networks = net::Networks::parse(table.texts("from"));
    if (!networks) table.wrong("from", networks.error().what, networks.error().remedy);
    if (networks) collection.from = *networks;
    collection.devices = table.texts("devices");
    table.finish();
    return collection;
}

void check_devices(const Site& site, const std::vector<std::string>& wanted, const base::ConfigTable& table) {
    std::vector<std::string> known;
    for (const SiteDevice& d : site.devices) known.push_back(d.device.name);
    for (const std::string& one : wanted) {
        if (std::find(known.begin(), known.end(), one) != known.end()) continue;
        const std::string meant = base::nearest(one, known);
        table.wrong("devices", fmt::format("there is no device \"{}\"", one),
                    meant.empty() ? fmt::format("name one of: {}", fmt::join(known, ", "))
                                  : fmt::format("did you mean \"{}\"?", meant));
    }
}

// Where it serves, with what certificate and memory.
void read_server(base::ConfigTable server, Site& site) {
    const auto port = server.number("port", 1, 65535, net::kDefaultHttpPort);
    const auto rtmp_port = server.number("rtmp_port", 1, 65535, net::kDefaultRtmpPort);
    const auto listen = server.text("listen", "");
    const auto advertise = server.text("advertise", "");
    const auto interface = server.text("interface", "");
    const auto certificate = server.text("certificate", "");
    const auto key = server.text("certificate_key", "");
    const auto tls_port = server.number("tls_port", 1, 65535, net::kDefaultTlsPort);
    const auto plain_http = server.flag("plain_http", true);
    if (certificate.empty() != key.empty())
        server.wrong(certificate.empty() ? "certificate_key" : "certificate",
                     "a certificate and its key belong together", "name both files, or none");
    if (certificate.empty() && !plain_http)
        server.wrong("plain_http", "without HTTP and without a certificate nothing can be served",
                     "add certificate and certificate_key, or leave this out");
    const auto memory = server.text("memory", "");
    if (!memory.empty()) {
        const auto bytes = base::parse_bytes(memory);
        constexpr std::uint64_t kLeast = 32'000'000, kMost = std::uint64_t{1} << 40;
        if (!bytes || *bytes < kLeast || *bytes > kMost)
            server.wrong("memory", fmt::format("\"{}\" isn't enough memory", memory),
                         "write at least \"32 MB\", for example \"144 MB\"");
        if (bytes) site.memory = static_cast<std::size_t>(*bytes);
    }
    const auto hops = server.number("ttl", 1, 255, site.udp.ttl);
    server.finish();
    site.udp.interface = interface;
    site.udp.ttl = static_cast<int>(hops);
    site.port = static_cast<std::uint16_t>(port);
    site.tls_port = static_cast<std::uint16_t>(tls_port);
    site.plain_http = plain_http;
    const base::Path folder = site.file.parent_path();
    if (!certificate.empty()) site.certificate = {from_folder(certificate, folder), from_folder(key, folder)};
    site.rtmp_port = static_cast<std::uint16_t>(rtmp_port);
    site.listen = listen == "0.0.0.0" || listen == "::" ? "" : listen;  // both mean all addresses
    site.advertise = advertise;
}

// How files are named.
void read_library(base::ConfigTable library, Site& site) {
    site.names.film = library.text("film_names", site.names.film);
    site.names.episode = library.text("episode_names", site.names.episode);
    library.finish();
    const convert::NameTemplates usual;
    for (const auto& [field, names] : {std::pair{"film_names", convert::NameTemplates{site.names.film, usual.episode}},
                                       {"episode_names", convert::NameTemplates{usual.film, site.names.episode}}}) {
        if (const auto status = convert::check(names); !status)
            library.wrong(field, status.error().what, status.error().remedy);
    }
}

// Two streams that are sent to one address would be one jumble.
void refuse_same_targets(const Site& site, const SiteStream& entry, base::ConfigTable& table) {
    for (const SiteStream& other : site.streams) {
        for (const stream::LiveTarget& a : other.item.targets) {
            for (const stream::LiveTarget& b : entry.item.targets) {
                if (a.to.text != b.to.text) continue;
                table.wrong(b.rtp ? "rtp" : "udp",
                            fmt::format("stream \"{}\" is sent to {} already", other.name(), a.to.text),
                            "give this one another address or port");
            }
        }
    }
}

void read_stream(base::ConfigTable& table, Site& site) {
    SiteStream entry = parse_stream(table, site.file.parent_path(), site.shares);
    if (entry.item.ports.http != 0 && !site.plain_http)
        table.wrong("port", "plain_http = false in [server]: there is no HTTP",
                    "name a tls_port, or leave the port out");
    if (entry.item.ports.tls != 0 && !site.certificate)
        table.wrong("tls_port", "without a certificate in [server] there is no HTTPS",
                    "name a port, or add the certificate");
    check_devices(site, entry.devices, table);
    refuse_same_targets(site, entry, table);
    site.streams.push_back(std::move(entry));
}

void read_collection(base::ConfigTable& table, Site& site) {
    SiteCollection entry = parse_collection(table, site.file.parent_path(), site.shares);
    check_devices(site, entry.devices, table);
    for (const SiteCollection& other : site.collections) {
        if (other.folder.lexically_normal() == entry.folder.lexically_normal())
            table.wrong("folder", fmt::format("collection \"{}\" has the same folder", other.name),
                        "give each its own; one may lie in the other's");
    }
    site.collections.push_back(std::move(entry));
}

Status refuse_twins_of(const Site& site) {
    WAVECREST_TRY(refuse_twins<SiteDevice>(site.devices, site.file, "devices",
                                           [](const SiteDevice& d) { return d.device.name; }));
    WAVECREST_TRY(
        refuse_twins<SiteStream>(site.streams, site.file, "streams", [](const SiteStream& s) { return s.name(); }));
    WAVECREST_TRY(refuse_twins<SiteShare>(site.shares, site.file, "shares", [](const SiteShare& s) { return s.name; }));
    return refuse_twins<SiteCollection>(site.collections, site.file, "collections",
                                        [](const SiteCollection& c) { return c.name; });
}

Result<Site> read_site(base::ConfigTable root, const base::Path& file) {
    Site site;
    site.file = file;
    auto house = root.table("site");
    const auto name = house.text("name", "My site");
    site.house = name;
    house.finish();
    read_server(root.table("server"), site);
    read_library(root.table("library"), site);
    for (base::ConfigTable& table : root.tables("device"))
        site.devices.push_back(parse_device(table, file.parent_path()));
    for (base::ConfigTable& table : root.tables("share")) site.shares.push_back(parse_share(table));
    for (base::ConfigTable& table : root.tables("stream")) read_stream(table, site);
    for (base::ConfigTable& table : root.tables("collection")) read_collection(table, site);
    root.finish();
    if (const Status twins = refuse_twins_of(site); !twins) return root.complete(Result<Site>(fail(twins.error())));
    return root.complete(Result<Site>(std::move(site)));
}

}  // namespace

Result<Site> parse(std::string_view text, const base::Path& file) {
    WAVECREST_TRY_ASSIGN(root, base::ConfigTable::parse(text, file.string()));
    return read_site(std::move(root), file);
}

Result<Site> parse_options(const std::vector<base::ConfigOption>& options) {
    return read_site(base::ConfigTable::of_options(options, "stream"), {});
}

}  // namespace wavecrest::site
