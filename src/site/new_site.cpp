#include "site/new_site.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace wavecrest::site {
namespace {

std::string toml_text(const std::string& text) {
    std::string out = "\"";
    for (const char c : text) {
        if (c == '"' || c == '\\') out += '\\';
        if (static_cast<unsigned char>(c) >= 32) out += c;
    }
    return out + "\"";
}

}  // namespace

std::string compose(const NewSite& site) {
    std::string text = fmt::format(R"(# The site file of one installation. wavecrest site check tests it.

[site]
name = {}

[server]
port = {}                     # TCP port of the streams
# listen = "192.168.1.10"        # listen on this address only; default: all
# advertise = "192.168.1.10"     # announced address; default: this machine's first
# certificate = "site.pem"       # HTTPS; with certificate_key = "site-key.pem", at tls_port = 8443
# interface = "eth0"             # network interface of multicast; ttl = 4

# [library]
# film_names = "{{title}} ({{year}})/{{title}}"   # where convert --site puts films; see the manual

# Every device of the site. Classes: wavecrest device list.
# Links: gigabit, fast-ethernet, or a measured bit rate such as "12 Mbit/s".
)",
                                   toml_text(site.house), site.port);
    for (const auto& d : site.devices) {
        text += fmt::format("[[device]]\nname = {}\nclass = {}\nlink = {}\n\n", toml_text(d.name),
                            toml_text(d.device_class), toml_text(d.link));
    }
    if (site.devices.empty())
        text += R"(# [[device]]
# name = "Lounge TV"
# class = "tv-hd"
# room = "Lounge"
# link = "gigabit"
# player = "living-room app"     # the player program, if the device has several
# address = "192.168.1.20"       # the device's own IP address, if it is static

)";
    text += "# The streams. Files are relative to this file. Without \"devices\" a stream is for all.\n";
    for (const auto& s : site.streams)
        text += fmt::format("[[stream]]\nname = {}\nfile = {}\n\n", toml_text(s.name), toml_text(s.file));
    if (site.streams.empty())
        text += R"(# [[stream]]
# name = "Lake film"
# share = "attic"                # where its files are: a [[share]] with this name and address = "smb://attic/films"
# file = "library/Lake Film (2019)/Lake Film (2019).mp4"
# path = "/lake.mp4"
# devices = ["Lounge TV"]
# port = 8090                    # of its own; also tls_port, rtmp_port
# audio = ["en"]                 # live and hls: languages, or track numbers: ["2"]
# burn_in = "en"                 # with a profile: subtitles burned in; default "forced"
# subtitles = "lake.en.srt"      # subtitle file, for file and hls
# delivery = ["file", "hls"]     # on demand; or shared: "live" (HTTP), "live-hls", "rtmp"
# udp = ["239.20.0.1:5004"]      # also send by UDP; rtp = [...] by RTP
# loop = true                    # live: loop
# files = ["a.mp4", "b.mp4"]     # live: several in a row; or folder = "evening"
# profile = "small-screen"       # live: transcode
# from = ["192.168.1.0/24"]      # who may connect; key_file = "key.txt": key that must be in the URL
)";
    text += "\n# The library that devices browse in the network (UPnP): folders of films, series and music.\n";
    for (const auto& c : site.collections)
        text += fmt::format("[[collection]]\nname = {}\nfolder = {}\n\n", toml_text(c.name), toml_text(c.folder));
    if (site.collections.empty())
        text += R"(# [[collection]]
# name = "Films"
# folder = "library"
# devices = ["Lounge TV"]        # who sees it, by their addresses; from = ["192.168.1.0/24"] by networks
)";
    return text;
}

Result<std::string> with_class(const std::string& text, const base::Path& file, const std::string& device,
                               const std::string& device_class) {
    WAVECREST_TRY_ASSIGN(site, parse(text, file));
    const auto found = std::find_if(site.devices.begin(), site.devices.end(),
                                    [&](const SiteDevice& one) { return one.device.name == device; });
    if (found == site.devices.end())
        return fail(ErrorKind::usage, fmt::format("the site has no device \"{}\"", device), file.string(),
                    "add it to the site file");
    std::string result;
    bool is_done = false;
    int line = 0;
    for (std::size_t at = 0; at < text.size();) {
        const std::size_t end = std::min(text.find('\n', at), text.size() - 1);
        std::string one = text.substr(at, end + 1 - at);
        at = end + 1;
        ++line;
        const std::size_t first = one.find_first_not_of(" \t");
        const std::size_t equals = one.find('=');
        if (!is_done && line >= found->line && first != std::string::npos && equals != std::string::npos) {
            std::string key = one.substr(first, equals - first);
            key.erase(key.find_last_not_of(" \t") + 1);
            if (key == "class") {
                const std::size_t comment = one.find('#', equals);
                one = one.substr(0, equals) + fmt::format("= {}", toml_text(device_class)) +
                      (comment != std::string::npos ? "  " + one.substr(comment) : "\n");
                is_done = true;
            }
        }
        result += one;
    }
    // What was written must say what was meant.
    auto again = parse(result, file);
    const bool says_so =
        is_done && again && std::any_of(again->devices.begin(), again->devices.end(), [&](const auto& one) {
            return one.device.name == device && one.device_class == device_class;
        });
    if (!says_so)
        return fail(ErrorKind::usage, fmt::format("the class of \"{}\" can't be changed", device), file.string(),
                    fmt::format("write it into the file: class = {}", toml_text(device_class)));
    return result;
}

std::string service_unit(const Site& site, const base::Path& program, const std::string& user) {
    const auto quoted = [](const base::Path& path) {
        std::string out = "\"";
        for (const char c : path.string()) {
            if (c == '"' || c == '\\') out += '\\';
            if (c == '%') out += '%';
            out += c;
        }
        return out + "\"";
    };
    std::string mounts;
    for (const SiteStream& s : site.streams) {
        for (const stream::Part& part : s.item.parts) {
            if (!part.source.is_local()) continue;
            const std::string folder = quoted(base::absolute_path(part.source.path()).parent_path());
            if (mounts.find(" " + folder) == std::string::npos) mounts += " " + folder;
        }
    }
    const base::Path file = base::absolute_path(site.file);
    return fmt::format(
        "# Starts the streams of {} at boot, and restarts them on failure.\n"
        "[Unit]\nDescription=Streams of {}\nWants=network-online.target\nAfter=network-online.target remote-fs.target\n"
        "{}StartLimitIntervalSec=0\n\n"
        "[Service]\nUser={}\nExecStart={} stream run --site {} -q\nWorkingDirectory={}\n"
        "Restart=always\nRestartSec=3\nTimeoutStopSec=5\nKillSignal=SIGTERM\nKillMode=mixed\n"
        "# The sender of datagrams asks for real-time scheduling; thousands of viewers need as many files open.\n"
        "LimitRTPRIO=20\nLimitNOFILE=65536\nNoNewPrivileges=true\n\n"
        "[Install]\nWantedBy=multi-user.target\n",
        site.house, site.house, mounts.empty() ? "" : fmt::format("RequiresMountsFor={}\n", mounts.substr(1)), user,
        quoted(program), quoted(file), file.parent_path().string());
}

Result<std::string> with_device(const std::string& text, const base::Path& file, const NewSite::NewDevice& device,
                                const std::string& address) {
    std::string result = text;
    if (!result.empty() && result.back() != '\n') result += '\n';
    result += fmt::format("\n[[device]]\nname = {}\nclass = {}\nlink = {}\naddress = {}\n", toml_text(device.name),
                          toml_text(device.device_class), toml_text(device.link), toml_text(address));
    WAVECREST_TRY(parse(result, file));
    return result;
}

}  // namespace wavecrest::site
