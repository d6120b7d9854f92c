#include "site/site.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>

#include "base/config.hpp"
#include "host/machine.hpp"
#include "source/input.hpp"

namespace wavecrest::site {
namespace {

Result<SiteDevice> parse_device(base::ConfigTable& table) {
    SiteDevice entry;
    entry.line = table.line();
    WAVECREST_TRY_ASSIGN(name, table.text("name"));
    WAVECREST_TRY_ASSIGN(device_class, table.text("class"));
    WAVECREST_TRY_ASSIGN(room, table.text("room", ""));
    WAVECREST_TRY_ASSIGN(link, table.text("link", "gigabit"));
    WAVECREST_TRY(table.finish());
    auto found = device::find(device_class);
    if (!found) return table.refuse("class", found.error().what, found.error().remedy);
    const auto parsed_link = device::parse_link(link);
    if (!parsed_link)
        return table.refuse("link", fmt::format("\"{}\" is no link", link),
                            "write gigabit, fast-ethernet, or a rate such as \"12 Mbit/s\"");
    entry.device = std::move(*found);
    entry.device.name = name;
    entry.device_class = device_class;
    entry.room = room;
    entry.link = *parsed_link;
    return entry;
}

Result<SiteStream> parse_stream(base::ConfigTable& table, const base::Path& folder) {
    SiteStream entry;
    entry.line = table.line();
    WAVECREST_TRY_ASSIGN(name, table.text("name"));
    WAVECREST_TRY_ASSIGN(file, table.text("file"));
    WAVECREST_TRY_ASSIGN(path, table.text("path", ""));
    WAVECREST_TRY_ASSIGN(devices, table.texts("devices"));
    for (const bool rtp : {false, true}) {
        WAVECREST_TRY_ASSIGN(targets, table.texts(rtp ? "rtp" : "udp"));
        for (const std::string& text : targets) {
            const auto address = net::parse_udp_address(text);
            if (!address) return table.refuse(rtp ? "rtp" : "udp", address.error().what, address.error().remedy);
            entry.targets.push_back({*address, rtp});
        }
    }
    WAVECREST_TRY_ASSIGN(loop, table.flag("loop", false));
    WAVECREST_TRY_ASSIGN(rate, table.bitrate("rate", 0));
    WAVECREST_TRY(table.finish());
    if (entry.targets.empty() && (loop || rate != 0))
        return table.refuse(loop ? "loop" : "rate",
                            "only streams that are sent by UDP have it: viewers of others fetch "
                            "the file at their own pace",
                            "add udp or rtp, or leave it out");
    entry.loop = loop;
    entry.rate_bps = rate;
    entry.name = name;
    entry.file = base::Path(file).is_absolute() ? base::Path(file) : folder / file;
    entry.path = path.empty() ? stream::default_path(name, file) : path;
    entry.devices = devices;
    return entry;
}

template <typename Entry>
Status refuse_twins(const std::vector<Entry>& entries, const base::Path& file, const char* what,
                    std::string (*name)(const Entry&)) {
    for (std::size_t i = 0; i < entries.size(); ++i) {
        for (std::size_t k = 0; k < i; ++k) {
            if (name(entries[i]) != name(entries[k])) continue;
            return fail(ErrorKind::usage, fmt::format("two {} are named \"{}\"", what, name(entries[i])),
                        fmt::format("{}, line {}", file.string(), entries[i].line), "give one of them another name");
        }
    }
    return {};
}

std::string toml_text(const std::string& text) {
    std::string out = "\"";
    for (const char c : text) {
        if (c == '"' || c == '\\') out += '\\';
        if (static_cast<unsigned char>(c) >= 32) out += c;
    }
    return out + "\"";
}

void check_streams(const Site& site, std::vector<Finding>& findings) {
    std::int64_t all_screens = 0;
    for (const SiteStream& entry : site.streams) {
        const std::string where = fmt::format("{}, line {}", site.file.string(), entry.line);
        const auto input = source::open_input(entry.file);
        if (!input) {
            Error about = input.error();
            about.what = fmt::format("stream \"{}\": {}", entry.name, about.what);
            findings.push_back({Finding::Severity::error, std::move(about)});
            continue;
        }
        if ((*input)->is_disc()) {
            findings.push_back(
                {Finding::Severity::error,
                 {ErrorKind::wanting,
                  fmt::format("stream \"{}\" is a disc rip, which can't be streamed as it is", entry.name), where,
                  "convert it (wavecrest convert) and name the file it makes"}});
            continue;
        }
        const source::Title& title = (*input)->titles().front();
        const auto mean = static_cast<std::int64_t>(
            title.duration.count() > 0 ? static_cast<double>(title.size_bytes) * 8 / base::to_seconds(title.duration)
                                       : 0);
        std::vector<std::string> cannot;
        std::size_t meant = 0;
        for (const SiteDevice& d : site.devices) {
            if (!entry.meant_for(d.device.name)) continue;
            ++meant;
            all_screens += mean;
            const auto checks = device::judge(d.device, (*input)->container(), title.tracks, mean);
            const auto bad = std::find_if(checks.begin(), checks.end(),
                                          [](const device::Check& c) { return c.verdict == device::Verdict::fail; });
            if (bad != checks.end()) {
                cannot.push_back(
                    fmt::format("{}: {} {} (takes {})", d.device.name, bad->name, bad->measured, bad->limit));
            } else if (mean > d.link.payload_bps) {
                findings.push_back(
                    {Finding::Severity::warning,
                     {ErrorKind::wanting,
                      fmt::format("stream \"{}\" takes {} on average, more than the link of {} carries ({})",
                                  entry.name, base::format_bitrate(mean), d.device.name, d.link.name),
                      where,
                      "wire the device, or convert the film with a profile of a lower rate (wavecrest profile list)"}});
            }
        }
        if (meant > 0 && cannot.size() == meant) {
            findings.push_back(
                {Finding::Severity::error,
                 {ErrorKind::wanting,
                  fmt::format("no device of the house can play stream \"{}\": {}", entry.name, fmt::join(cannot, "; ")),
                  where, "convert the film with a profile these devices can play"}});
        } else if (!cannot.empty()) {
            findings.push_back(
                {Finding::Severity::warning,
                 {ErrorKind::wanting,
                  fmt::format("some devices can't play stream \"{}\": {}", entry.name, fmt::join(cannot, "; ")), where,
                  "convert the film once more for them, or list only the others in devices"}});
        }
    }
    const device::Link server = *device::parse_link("gigabit");
    if (all_screens > server.payload_bps) {
        findings.push_back({Finding::Severity::warning,
                            {ErrorKind::wanting,
                             fmt::format("all screens at once would take {}, more than a gigabit port carries",
                                         base::format_bitrate(all_screens)),
                             site.file.string(), "use lower rates, or a faster port"}});
    }
}

}  // namespace

bool SiteStream::meant_for(const std::string& device) const {
    return devices.empty() || std::find(devices.begin(), devices.end(), device) != devices.end();
}

std::string Site::host() const {
    return !advertise.empty() ? advertise : !listen.empty() ? listen : host::best_address();
}
std::string Site::address_of(const SiteStream& s) const {
    return stream::address_for(host(), port, s.path);
}

std::vector<stream::StreamItem> Site::items() const {
    std::vector<stream::StreamItem> result;
    for (const SiteStream& s : streams) result.push_back({s.name, s.file, s.path});
    return result;
}

std::vector<stream::LiveItem> Site::live_items() const {
    std::vector<stream::LiveItem> result;
    for (const SiteStream& s : streams) {
        if (!s.targets.empty()) result.push_back({s.name, s.file, s.targets, s.loop, s.rate_bps});
    }
    return result;
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

Result<Site> parse(std::string_view text, const base::Path& file) {
    WAVECREST_TRY_ASSIGN(root, base::ConfigTable::parse(text, file.string()));
    Site site;
    site.file = file;
    WAVECREST_TRY_ASSIGN(house, root.table("house"));
    WAVECREST_TRY_ASSIGN(name, house.text("name", "My house"));
    site.house = name;
    WAVECREST_TRY(house.finish());
    WAVECREST_TRY_ASSIGN(server, root.table("server"));
    WAVECREST_TRY_ASSIGN(port, server.number("port", 1, 65535, net::kDefaultHttpPort));
    WAVECREST_TRY_ASSIGN(listen, server.text("listen", ""));
    WAVECREST_TRY_ASSIGN(advertise, server.text("advertise", ""));
    WAVECREST_TRY_ASSIGN(interface, server.text("interface", ""));
    WAVECREST_TRY_ASSIGN(hops, server.number("hops", 1, 255, site.udp.hops));
    WAVECREST_TRY(server.finish());
    site.udp.interface = interface;
    site.udp.hops = static_cast<int>(hops);
    site.port = static_cast<std::uint16_t>(port);
    site.listen = listen == "0.0.0.0" || listen == "::" ? "" : listen;  // both mean all addresses
    site.advertise = advertise;
    WAVECREST_TRY_ASSIGN(devices, root.tables("device"));
    for (base::ConfigTable& table : devices) {
        WAVECREST_TRY_ASSIGN(entry, parse_device(table));
        site.devices.push_back(std::move(entry));
    }
    WAVECREST_TRY_ASSIGN(streams, root.tables("stream"));
    for (base::ConfigTable& table : streams) {
        WAVECREST_TRY_ASSIGN(entry, parse_stream(table, file.parent_path()));
        std::vector<std::string> known;
        for (const SiteDevice& d : site.devices) known.push_back(d.device.name);
        for (const std::string& wanted : entry.devices) {
            if (std::find(known.begin(), known.end(), wanted) != known.end()) continue;
            const std::string meant = base::nearest(wanted, known);
            return table.refuse("devices", fmt::format("there is no device \"{}\"", wanted),
                                meant.empty() ? fmt::format("name one of: {}", fmt::join(known, ", "))
                                              : fmt::format("did you mean \"{}\"?", meant));
        }
        for (const SiteStream& other : site.streams) {
            for (const stream::LiveTarget& a : other.targets) {
                for (const stream::LiveTarget& b : entry.targets) {
                    if (a.to.text != b.to.text) continue;
                    return table.refuse(b.rtp ? "rtp" : "udp",
                                        fmt::format("stream \"{}\" is sent to {} already", other.name, a.to.text),
                                        "give this one another address or port");
                }
            }
        }
        site.streams.push_back(std::move(entry));
    }
    WAVECREST_TRY(root.finish());
    WAVECREST_TRY(
        refuse_twins<SiteDevice>(site.devices, file, "devices", [](const SiteDevice& d) { return d.device.name; }));
    WAVECREST_TRY(refuse_twins<SiteStream>(site.streams, file, "streams", [](const SiteStream& s) { return s.name; }));
    return site;
}

std::vector<Finding> check(const Site& site) {
    std::vector<Finding> findings;
    const auto add = [&](Finding::Severity severity, std::string what, std::string where, std::string remedy) {
        findings.push_back({severity, {ErrorKind::wanting, std::move(what), std::move(where), std::move(remedy)}});
    };
    if (site.devices.empty())
        add(Finding::Severity::warning, "no devices are listed, so nothing can be verified", site.file.string(),
            "add a [[device]] for every screen (wavecrest device list shows the classes)");
    if (site.streams.empty())
        add(Finding::Severity::error, "no streams are listed", site.file.string(),
            "add a [[stream]] with a name and a file");
    if (const auto holder = host::tcp_listener(site.port)) {
        add(Finding::Severity::error,
            holder->pid != 0 ? fmt::format("TCP port {} is in use by the process \"{}\" (number {})", site.port,
                                           holder->program, holder->pid)
                             : fmt::format("TCP port {} is in use by a process of another user", site.port),
            fmt::format("{}, port", site.file.string()),
            "end that process (it may be an earlier stream run), or choose another port");
    }
    const auto addresses = host::addresses();
    const auto is_ours = [&](const std::string& text) {
        return std::any_of(addresses.begin(), addresses.end(),
                           [&](const host::Address& a) { return a.address == text; });
    };
    for (const auto& [key, text] : {std::pair{"listen", site.listen}, std::pair{"advertise", site.advertise}}) {
        if (!text.empty() && !is_ours(text)) {
            add(std::string_view(key) == "listen" ? Finding::Severity::error : Finding::Severity::warning,
                fmt::format("{} is not an address of this machine", text),
                fmt::format("{}, {}", site.file.string(), key),
                "use one of this machine's addresses (wavecrest site show lists them)");
        }
    }
    const auto outward = std::count_if(addresses.begin(), addresses.end(),
                                       [](const host::Address& a) { return !a.loopback && !a.ipv6; });
    if (site.advertise.empty() && site.listen.empty() && outward > 1) {
        add(Finding::Severity::warning, fmt::format("this machine has {} addresses; {} is used", outward, site.host()),
            site.file.string(), "set advertise in [server] to the one the devices reach");
    }
    if (outward == 0)
        add(Finding::Severity::warning,
            "this machine has no network address: only programs on it can reach the streams", "network interfaces",
            "connect the network");
    check_streams(site, findings);
    return findings;
}

std::string compose(const NewSite& site) {
    std::string text = fmt::format(
        "# The installation of one house. wavecrest site check tells what is wrong with it.\n\n"
        "[house]\nname = {}\n\n"
        "[server]\nport = {}            # TCP port of the streams\n"
        "# listen = \"192.168.1.10\"    # only this address; all when left out\n"
        "# advertise = \"192.168.1.10\" # the address devices are told; this machine's first when left out\n"
        "# interface = \"eth0\"         # by which multicast is sent; hops = 4: routers it may pass\n",
        toml_text(site.house), site.port);
    text +=
        "\n# Every screen and player of the house. Classes: wavecrest device list.\n"
        "# Links: gigabit, fast-ethernet, or the payload rate measured there, such as \"12 Mbit/s\".\n";
    for (const auto& d : site.devices) {
        text += fmt::format("[[device]]\nname = {}\nclass = {}\nlink = {}\n\n", toml_text(d.name),
                            toml_text(d.device_class), toml_text(d.link));
    }
    if (site.devices.empty())
        text +=
            "# [[device]]\n# name = \"Lounge TV\"\n# class = \"tv-hd\"\n# room = \"Lounge\"\n# link = \"gigabit\"\n\n";
    text += "# What is streamed. Files are named from this file's folder. Without devices a stream is meant for all.\n";
    for (const auto& s : site.streams)
        text += fmt::format("[[stream]]\nname = {}\nfile = {}\n\n", toml_text(s.name), toml_text(s.file));
    if (site.streams.empty())
        text +=
            "# [[stream]]\n# name = \"Lake film\"\n# file = \"library/Lake Film (2019)/Lake Film (2019).mp4\"\n# path "
            "= \"/lake.mp4\"\n# devices = [\"Lounge TV\"]\n"
            "# udp = [\"239.20.0.1:5004\"]   # sent there, too, to all who listen; rtp = [...] the same as RTP\n"
            "# loop = true                 # begin anew at the end\n";
    return text;
}

}  // namespace wavecrest::site
