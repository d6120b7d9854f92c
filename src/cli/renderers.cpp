#include "cli/renderers.hpp"

#include <fmt/ranges.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cctype>
#include <chrono>
#include <cmath>
#include <future>
#include <nlohmann/json.hpp>
#include <thread>

#include "base/address.hpp"
#include "base/atomic_file.hpp"
#include "base/units.hpp"
#include "cli/commands.hpp"
#include "container/reader.hpp"
#include "convert/name.hpp"
#include "device/claims.hpp"
#include "net/dns_sd.hpp"
#include "net/http_client.hpp"
#include "net/url.hpp"
#include "render/table.hpp"
#include "site/new_site.hpp"
#include "upnp/eventing.hpp"

namespace wavecrest::cli {
namespace {

using Json = nlohmann::ordered_json;
using namespace std::chrono_literals;

constexpr const char* kOwnAddress = "OWN-ADDRESS";  // stands in an address until it is known who is to reach it

// What installers look for besides, by DNS-SD (names registered with IANA).
constexpr std::array<std::pair<const char*, const char*>, 5> kServices = {{{"_smb._tcp", "file server (SMB)"},
                                                                           {"_nfs._tcp", "file server (NFS)"},
                                                                           {"_webdav._tcp", "file server (WebDAV)"},
                                                                           {"_rtsp._tcp", "RTSP stream"},
                                                                           {"_http._tcp", "web page"}}};
std::string kind_of(const std::string& type) {
    for (const auto& [one, kind] : kServices) {
        if (type == one) return kind;
    }
    return "other";
}

std::string lower(std::string text) {
    std::transform(text.begin(), text.end(), text.begin(), [](unsigned char c) { return std::tolower(c); });
    return text;
}

Result<std::optional<site::Site>> load_site(const std::string& file) {
    if (file.empty()) return std::optional<site::Site>();
    WAVECREST_TRY_ASSIGN(loaded, site::load(file));
    return std::optional(std::move(loaded));
}

Json to_json(const upnp::FoundDevice& d) {
    Json json = {
        {"name", d.description.name}, {"kind", upnp::short_name(d.kind)},           {"address", d.address},
        {"udn", d.description.udn},   {"manufacturer", d.description.manufacturer}, {"model", d.description.model},
        {"location", d.location}};
    json["takes"] = Json::array();
    for (const upnp::ProtocolInfo& one : d.takes) json["takes"].push_back(one.text());
    if (!d.problem.empty()) json["problem"] = d.problem;
    return json;
}

std::string state_text(const upnp::TransportInfo& state, const upnp::PositionInfo& position) {
    std::string text(upnp::short_name(state.state));
    if (state.error) text += " (it reports an error)";
    const bool shows = state.state == upnp::TransportState::playing || state.state == upnp::TransportState::paused ||
                       state.state == upnp::TransportState::transitioning;
    if (shows && position.position) {
        text += " " + base::format_clock(*position.position);
        if (position.duration) text += " of " + base::format_clock(*position.duration);
    }
    if (shows && !position.title.empty()) text += ", " + position.title;
    return text;
}

// A new device of the site for each renderer that isn't in it. What was done, a line each.
Result<std::vector<std::string>> add_to_site(const std::string& file, const std::vector<upnp::FoundDevice>& devices) {
    WAVECREST_TRY_ASSIGN(site, site::load(file));
    WAVECREST_TRY_ASSIGN(text, base::read_text_file(file));
    std::vector<std::string> lines;
    bool changed = false;
    for (const upnp::FoundDevice& one : devices) {
        if (one.kind != upnp::FoundDevice::Kind::renderer) continue;
        const std::string name = base::printable(one.description.name);
        const auto known = std::find_if(site.devices.begin(), site.devices.end(), [&](const site::SiteDevice& d) {
            return d.device.name == name || (!d.address.empty() && d.address == one.address);
        });
        if (known != site.devices.end()) {
            lines.push_back(fmt::format("{} is in the site file already ({})", name, known->device.name));
            continue;
        }
        const base::Path relative = base::Path("devices") / (convert::safe_name(name) + ".toml");
        const base::Path target = base::Path(file).parent_path() / relative;
        std::error_code error;
        std::filesystem::create_directories(target.parent_path(), error);
        const std::string description = device::write(device::from_claims(name, one.takes));
        const auto written = base::write_file(target, base::as_bytes(description), base::AtomicFile::IfExists::refuse);
        if (!written && !std::filesystem::exists(target, error)) return fail(written.error());
        WAVECREST_TRY_ASSIGN(grown,
                             site::with_device(text, file, {name, relative.string(), "fast-ethernet"}, one.address));
        text = std::move(grown);
        changed = true;
        lines.push_back(fmt::format("{} added, as {}{}", name, relative.string(),
                                    written ? "" : " (which was there, and is kept)"));
    }
    if (changed) WAVECREST_TRY(base::write_file(file, base::as_bytes(text), base::AtomicFile::IfExists::replace));
    return lines;
}

}  // namespace

Result<std::vector<FoundRenderer>> find_renderers(const std::string& name, const std::string& interface,
                                                  const site::Site* site, const Cancel& cancel) {
    upnp::FindSettings settings;
    settings.interface = interface;
    settings.length = base::from_seconds(4);
    std::string address;
    for (const site::SiteDevice& one : site != nullptr ? site->devices : std::vector<site::SiteDevice>{}) {
        if (one.device.name == name) address = one.address;
    }
    const bool all = name == "all";
    if (!all && address.empty()) settings.name = name;
    WAVECREST_TRY_ASSIGN(devices, upnp::find_devices(settings, cancel));
    const auto pick = [&](auto fits) {
        std::vector<FoundRenderer> picked;
        for (const upnp::FoundDevice& one : devices) {
            if (one.kind != upnp::FoundDevice::Kind::renderer || !fits(one)) continue;
            if (auto renderer = upnp::Renderer::of(one.description)) picked.push_back({one, std::move(*renderer)});
        }
        return picked;
    };
    std::vector<FoundRenderer> picked;
    if (all) picked = pick([](const upnp::FoundDevice&) { return true; });
    if (picked.empty())
        picked = pick([&](const auto& d) { return d.description.name == name || d.description.udn == name; });
    if (picked.empty() && !address.empty()) picked = pick([&](const auto& d) { return d.address == address; });
    if (picked.empty())
        picked = pick([&](const auto& d) { return lower(d.description.name).starts_with(lower(name)); });
    std::vector<std::string> names;
    for (const upnp::FoundDevice& one : devices) {
        if (one.kind == upnp::FoundDevice::Kind::renderer) names.push_back(one.description.name);
    }
    if (picked.empty()) {
        return fail(ErrorKind::wanting,
                    all ? "no renderer answers in this network"
                        : fmt::format("no renderer \"{}\" answers in this network", name),
                    "UPnP search",
                    names.empty()
                        ? "switch it on, allow playing from the network in its settings, and check that it is "
                          "in this network: device find"
                        : fmt::format("there is: {}", fmt::join(names, ", ")));
    }
    if (!all && picked.size() > 1 && picked[0].found.description.name != picked[1].found.description.name)
        return fail(ErrorKind::usage, fmt::format("\"{}\" may be several renderers", name), "UPnP search",
                    fmt::format("write its whole name: {}", fmt::join(names, ", ")));
    return picked;
}

Status check_no_browser_is_meant(const std::string& name) {
    const std::string meant = base::nearest(lower(name), {"chromium", "firefox"});
    if (meant.empty()) return {};
    return fail(ErrorKind::usage, fmt::format("there is no browser \"{}\"", name), "--on",
                fmt::format("did you mean \"{}\"?", meant));
}

Result<Offer> Offer::make(const std::string& media, const site::Site* site) {
    Offer offer;
    const auto inspect = [](const base::Address& file) -> std::unique_ptr<source::Input> {
        auto opened = source::open_input(file);
        return opened ? std::move(*opened) : nullptr;
    };
    std::vector<std::string> streams;
    for (const site::SiteStream& stream : site != nullptr ? site->streams : std::vector<site::SiteStream>{}) {
        streams.push_back(stream.name());
        if (lower(stream.name()) != lower(media)) continue;
        offer.title_ = stream.name();
        std::unique_ptr<source::Input> input;
        if (stream.item.parts.size() == 1) input = inspect(stream.item.parts.front().source);
        for (const stream::StreamAddress& one : site->addresses_of(stream)) {
            if (!base::is_web_address(one.address) || one.delivery == "subtitles") continue;
            upnp::Object item = source::item_of(stream.name(), one.address, input.get());
            if (one.delivery != "file") {
                source::Title title;
                if (input && !input->titles().empty() && one.delivery == "hls") title = input->titles().front();
                const bool hls = one.delivery == "hls" || one.delivery == "live-hls";
                item.resources = {source::resource_of(title, hls ? "hls" : "mpeg-ts", one.address)};
            }
            offer.forms_.push_back(std::move(item));
        }
        if (offer.forms_.empty())
            return fail(ErrorKind::usage, fmt::format("\"{}\" isn't to be had by HTTP", media), site->file.string(),
                        "add a delivery to the stream: file, hls or live");
        return offer;
    }
    if (base::is_web_address(media)) {
        WAVECREST_TRY_ASSIGN(url, net::parse_url(media));
        const std::string path = net::decode_path(url.target);
        offer.title_ = base::Path(path).stem().string();
        const std::unique_ptr<source::Input> input = inspect(media);
        upnp::Object item = source::item_of(offer.title_.empty() ? media : offer.title_, media, input.get());
        if (!input) {
            // A live stream, or something that only the device may know: but it has to be there.
            net::HttpClient client(url);
            WAVECREST_TRY_ASSIGN(head, client.get(0));
            if (!head.media_type.empty())
                item.resources.front().protocol_info =
                    upnp::ProtocolInfo{"http-get", "*", head.media_type.substr(0, head.media_type.find(';')), "*"}
                        .text();
        }
        offer.forms_.push_back(std::move(item));
        return offer;
    }
    if (base::has_scheme(media))
        return fail(ErrorKind::usage, "renderers are given http:// addresses only", media,
                    "add a delivery by HTTP to the stream: file, hls or live");
    std::error_code error;
    if (!streams.empty() && !std::filesystem::exists(media, error)) {
        const std::string meant = base::nearest(media, streams);
        return fail(ErrorKind::usage, fmt::format("there is no stream and no file \"{}\"", media), site->file.string(),
                    meant.empty() ? fmt::format("streams: {}", fmt::join(streams, ", "))
                                  : fmt::format("did you mean \"{}\"?", meant));
    }
    // A file of this machine.
    WAVECREST_TRY_ASSIGN(input, source::open_input(media));
    if (input->is_disc())
        return fail(ErrorKind::input, "a disc can't be given to a renderer as it is", media,
                    "convert a title of it, or stream it (stream run) and give the stream");
    const base::Path file = base::absolute_path(media);
    offer.title_ = input->name_hint();
    net::HttpServerSettings settings;
    settings.port = 0;
    settings.answer = net::serve_files(
        {{"/" + file.filename().string(), file, container::media_type(input->container()), offer.title_}});
    WAVECREST_TRY_ASSIGN(server, net::HttpServer::start(std::move(settings)));
    offer.server_ = std::move(server);
    const std::string address =
        fmt::format("http://{}:{}/{}", kOwnAddress, offer.server_->port(), net::encode_path(file.filename().string()));
    offer.forms_.push_back(source::item_of(offer.title_, address, input.get()));
    return offer;
}

Result<upnp::Object> Offer::item_for(const upnp::FoundDevice& device) const {
    const upnp::Object* chosen = &forms_.front();
    for (const upnp::Object& one : forms_) {
        const auto info = upnp::parse_protocol_infos(one.resources.front().protocol_info);
        if (info.empty() || !upnp::takes(device.takes, info.front())) continue;
        chosen = &one;
        break;
    }
    upnp::Object item = *chosen;
    std::string& address = item.resources.front().address;
    if (const std::size_t at = address.find(kOwnAddress); at != std::string::npos) {
        WAVECREST_TRY_ASSIGN(own, upnp::own_address_towards(device.address));
        const std::string host = own.find(':') != std::string::npos ? "[" + own.substr(0, own.find('%')) + "]" : own;
        address.replace(at, std::string_view(kOwnAddress).size(), host);
    }
    return item;
}

int run_device_find(const DeviceFindOptions& options) {
    const bool json = options.output.json;
    upnp::FindSettings settings;
    settings.interface = options.interface;
    if (!options.bound.empty()) {
        const auto length = base::parse_span(options.bound);
        if (!length || length->count() <= 0 || *length > base::from_seconds(600))
            return report_error({ErrorKind::usage,
                                 fmt::format("\"{}\" isn't a valid time", options.bound),
                                 "--for",
                                 "write for example \"5 s\"",
                                 {}},
                                json);
        settings.length = *length;
    }
    // At the same time: what other services hosts announce.
    auto browsed = std::async(std::launch::async, [length = settings.length] {
        std::vector<std::string> types;
        for (const auto& [type, kind] : kServices) types.emplace_back(type);
        return net::browse_services(types, length, cancel());
    });
    const auto found = upnp::find_devices(settings, cancel());
    const net::DnsServices services = browsed.get();
    if (!found) return report_error(found.error(), json);
    std::vector<std::string> added;
    if (!options.add.empty()) {
        auto lines = add_to_site(options.add, *found);
        if (!lines) return report_error(lines.error(), json);
        added = std::move(*lines);
    }
    if (json) {
        Json result;
        result["devices"] = Json::array();
        for (const upnp::FoundDevice& one : *found) result["devices"].push_back(to_json(one));
        result["services"] = Json::array();
        for (const net::DnsService& one : services.services)
            result["services"].push_back({{"name", one.name},
                                          {"type", one.type},
                                          {"host", one.host},
                                          {"address", one.address},
                                          {"port", one.port}});
        if (!services.unavailable.empty()) result["services_unavailable"] = services.unavailable;
        if (!added.empty()) result["added"] = added;
        print_json(result);
        return found->empty() && services.services.empty() ? 1 : 0;
    }
    if (found->empty() && services.services.empty()) {
        print(
            "No UPnP device answers in this network.\n"
            "Check that devices are switched on and in the same network as this machine (guest Wi-Fi is another),\n"
            "that playing from the network is allowed in their settings, and that no firewall closes UDP port 1900.\n");
        if (!services.unavailable.empty())
            print("File servers and web pages weren't looked for: {}.\n", services.unavailable);
        return 1;
    }
    render::Table table({"address", "name", "kind", "model", "says"});
    bool any_renderer = false;
    for (const upnp::FoundDevice& one : *found) {
        const bool renderer = one.kind == upnp::FoundDevice::Kind::renderer;
        any_renderer = any_renderer || renderer;
        table.add({one.address, one.description.name.empty() ? "?" : one.description.name,
                   std::string(upnp::short_name(one.kind)), one.description.model,
                   !one.problem.empty() ? one.problem
                   : renderer           ? device::claims_in_words(one.takes)
                                        : ""});
    }
    for (const net::DnsService& one : services.services)
        table.add({one.address, one.name, kind_of(one.type), "", fmt::format("{}:{}", one.host, one.port)});
    print("{}", Raw{table.text(0)});
    if (!services.unavailable.empty())
        print("\nFile servers and web pages weren't looked for: {}.\n", services.unavailable);
    if (any_renderer) print("\nWhat a renderer says tells no levels, frame rates or bit rates.\n");
    for (const std::string& line : added) print("{}\n", line);
    if (std::any_of(added.begin(), added.end(),
                    [](const std::string& line) { return line.find(" added, as ") != std::string::npos; }))
        print("Links were taken for 100 Mbit/s Ethernet: change them in {} where they aren't.\n", options.add);
    if (any_renderer) print("Next: wavecrest device play NAME FILE, or wavecrest verify --site site.toml --on NAME\n");
    return 0;
}

int run_device_play(const RendererOptions& options) {
    const bool json = options.output.json;
    const auto site = load_site(options.site);
    if (!site) return report_error(site.error(), json);
    const site::Site* known = *site ? &**site : nullptr;
    const auto offer = Offer::make(options.media, known);
    if (!offer) return report_error(offer.error(), json);
    auto renderers = find_renderers(options.name, options.interface, known, cancel());
    if (!renderers) return report_error(renderers.error(), json);

    Json results = Json::array();
    std::size_t playing = 0;
    std::optional<Error> first;
    for (FoundRenderer& one : *renderers) {
        const auto item = offer->item_for(one.found);
        Status done = item ? one.renderer.set(*item) : Status(fail(item.error()));
        if (done) done = one.renderer.play();
        // That it was told to is not that it does.
        upnp::TransportInfo state;
        upnp::PositionInfo position;
        const auto until = std::chrono::steady_clock::now() + 10s;
        while (done && std::chrono::steady_clock::now() < until && !cancel().requested()) {
            std::this_thread::sleep_for(250ms);
            const auto now = one.renderer.state();
            const auto at = one.renderer.position();
            if (!now || !at) continue;
            state = *now;
            position = *at;
            if (state.state == upnp::TransportState::playing && position.position && position.position->count() > 0)
                break;
            if (state.error) break;
        }
        const bool plays = done && state.state == upnp::TransportState::playing;
        playing += plays ? 1 : 0;
        if (!done && !first) first = done.error();
        const std::string text = !done ? done.error().what : state_text(state, position);
        if (json)
            results.push_back({{"name", one.found.description.name},
                               {"address", item ? item->resources.front().address : ""},
                               {"plays", plays},
                               {"state", text}});
        else if (done)
            print("{}: {}{}\n", one.found.description.name, text,
                  plays         ? ""
                  : state.error ? ". It can't play this: see its screen; convert --device NAME makes what it takes"
                                : ". It hasn't begun: wavecrest device show NAME --live tells how it goes on");
    }
    if (json) print_json({{"title", offer->title()}, {"devices", results}});
    if (first && !json) return report_error(*first, false);
    if (playing == 0) return 1;
    if (!offer->served_here()) {
        if (!json) print("Next: wavecrest device pause, seek or stop NAME; wavecrest device show NAME --live\n");
        return 0;
    }
    if (!json) print("{} is served from here until it ends. Ctrl-C stops it.\n", offer->title());
    std::fflush(stdout);
    while (!cancel().requested()) {
        std::this_thread::sleep_for(1s);
        const bool any = std::any_of(renderers->begin(), renderers->end(), [](const FoundRenderer& one) {
            const auto state = one.renderer.state();
            return state && state->state != upnp::TransportState::stopped &&
                   state->state != upnp::TransportState::no_media;
        });
        if (!any) return 0;
    }
    for (FoundRenderer& one : *renderers) (void)one.renderer.stop();
    return exit_status(ErrorKind::interrupted);
}

int run_device_order(const std::string& order, const RendererOptions& options) {
    const bool json = options.output.json;
    const auto refuse = [&](const char* where, const char* remedy) {
        return report_error(
            {ErrorKind::usage, fmt::format("\"{}\" isn't valid here", options.value), where, remedy, {}}, json);
    };
    std::optional<Time> to;
    std::optional<int> percent;
    if (order == "seek") {
        to = base::parse_clock(options.value);
        if (!to) to = base::parse_span(options.value);
        if (!to || to->count() < 0) return refuse("position", "write a time in the film: 1:02:00, or \"90 s\"");
    }
    if (order == "volume" && !options.value.empty()) {
        char* end = nullptr;
        const long value = std::strtol(options.value.c_str(), &end, 10);
        if (end == options.value.c_str() || (*end != 0 && *end != '%') || value < 0 || value > 100)
            return refuse("volume", "write a percentage from 0 to 100");
        percent = static_cast<int>(value);
    }
    if (order == "mute" && options.value != "on" && options.value != "off") return refuse("mute", "write on or off");
    const auto site = load_site(options.site);
    if (!site) return report_error(site.error(), json);
    auto renderers = find_renderers(options.name, options.interface, *site ? &**site : nullptr, cancel());
    if (!renderers) return report_error(renderers.error(), json);
    Json results = Json::array();
    std::optional<Error> first;
    std::size_t obeyed = 0;
    for (FoundRenderer& one : *renderers) {
        upnp::Renderer& renderer = one.renderer;
        std::string text;
        Status done = order == "pause"    ? renderer.pause()
                      : order == "resume" ? renderer.play()
                      : order == "stop"   ? renderer.stop()
                      : order == "seek"   ? renderer.seek(*to)
                      : order == "mute"   ? renderer.set_mute(options.value == "on")
                      : percent           ? renderer.set_volume(*percent)
                                          : Status();
        if (done && (order == "volume" || order == "mute")) {
            const auto volume = renderer.volume();
            const auto mute = renderer.mute();
            text = fmt::format("volume {}{}", volume ? fmt::format("{} %", *volume) : "unknown",
                               mute && *mute ? ", muted" : "");
        } else if (done) {
            std::this_thread::sleep_for(300ms);
            const auto state = renderer.state();
            const auto position = renderer.position();
            text = state && position ? state_text(*state, *position) : "done";
        }
        obeyed += done ? 1 : 0;
        if (!done && !first) first = done.error();
        const bool alone = renderers->size() == 1;
        if (json)
            results.push_back({{"name", one.found.description.name}, {"state", done ? text : done.error().what}});
        else if (done || !alone)
            print("{}: {}\n", one.found.description.name, done ? text : done.error().what);
    }
    if (json) print_json({{"devices", results}});
    // Of several it is enough that one could: others may have had nothing to stop.
    if (obeyed > 0) return 0;
    return json || renderers->size() > 1 ? exit_status(first->kind) : report_error(*first, false);
}

int run_device_live(const RendererOptions& options) {
    const bool json = options.output.json;
    std::optional<Time> bound;
    if (!options.bound.empty()) {
        bound = base::parse_span(options.bound);
        if (!bound || bound->count() <= 0)
            return report_error({ErrorKind::usage,
                                 fmt::format("\"{}\" isn't a valid time", options.bound),
                                 "--for",
                                 "write for example \"10 s\"",
                                 {}},
                                json);
    }
    const auto site = load_site(options.site);
    if (!site) return report_error(site.error(), json);
    auto renderers = find_renderers(options.name, options.interface, *site ? &**site : nullptr, cancel());
    if (!renderers) return report_error(renderers.error(), json);
    const bool drawn = ::isatty(STDOUT_FILENO) == 1 && !json;
    const auto start = std::chrono::steady_clock::now();
    std::string before;
    while (!cancel().requested()) {
        std::string lines;
        Json all = Json::array();
        for (const FoundRenderer& one : *renderers) {
            const auto state = one.renderer.state();
            const auto position = one.renderer.position();
            const auto volume = one.renderer.volume();
            const std::string text = state && position ? state_text(*state, *position) : "doesn't answer";
            lines += fmt::format("{}: {}{}\n", base::printable(one.found.description.name), base::printable(text),
                                 volume ? fmt::format("; volume {} %", *volume) : "");
            Json row = {{"name", one.found.description.name}, {"state", text}};
            if (position && position->position) row["position_s"] = base::to_seconds(*position->position);
            if (position && position->duration) row["duration_s"] = base::to_seconds(*position->duration);
            if (volume) row["volume"] = *volume;
            all.push_back(row);
        }
        if (json) {
            print_json({{"devices", all}});
            return 0;
        }
        if (drawn && !before.empty())
            print("{}", Raw{fmt::format("\x1b[{}A\x1b[J", std::count(before.begin(), before.end(), '\n'))});
        if (drawn || lines != before) print("{}", by_lines(lines));
        std::fflush(stdout);
        before = lines;
        if (bound && std::chrono::steady_clock::now() - start >
                         std::chrono::duration_cast<std::chrono::steady_clock::duration>(*bound))
            break;
        std::this_thread::sleep_for(1s);
    }
    return 0;
}

}  // namespace wavecrest::cli
