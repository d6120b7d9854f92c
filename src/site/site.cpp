#include "site/site.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <unistd.h>

#include <algorithm>
#include <cctype>
#include <chrono>

#include "base/config.hpp"
#include "base/units.hpp"
#include "codec/x264_encoder.hpp"
#include "convert/convert.hpp"
#include "host/machine.hpp"
#include "host/mounts.hpp"
#include "host/network.hpp"
#include "media/track_choice.hpp"
#include "source/input.hpp"
#include "stream/control.hpp"

namespace wavecrest::site {
namespace {

SiteDevice parse_device(base::ConfigTable& table) {
    SiteDevice entry;
    entry.line = table.line();
    const auto name = table.text("name");
    const auto device_class = table.text("class");
    const auto room = table.text("room", "");
    const auto player = table.text("player", "");
    const auto address = table.text("address", "");
    const auto link = table.text("link", "gigabit");
    table.finish();
    auto found = device::find(device_class);
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

base::Path from_folder(const std::string& file, const base::Path& folder) {
    const bool elsewhere = base::Path(file).is_absolute() || file.find("://") != std::string::npos;
    return elsewhere ? base::Path(file) : folder / file;
}

std::vector<stream::Part> parse_parts(base::ConfigTable& table, const base::Path& folder) {
    const auto file = table.text("file", "");
    auto files = table.texts("files");
    const auto all_of = table.text("folder", "");
    const auto title = table.text("title", "main");
    const auto chapter = table.number("chapter", 1, 999, 1);
    if (!file.empty()) files.insert(files.begin(), file);
    std::vector<stream::Part> parts;
    for (const std::string& one : files) parts.push_back({from_folder(one, folder), title, 1});
    if (!all_of.empty()) {
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

SiteStream parse_stream(base::ConfigTable& table, const base::Path& folder) {
    SiteStream entry;
    stream::ServedStream& item = entry.item;
    entry.line = table.line();
    const auto name = table.text("name");
    auto parts = parse_parts(table, folder);
    const std::string publish_key = parse_key(table, "publish_key", folder);
    const auto path = table.text("path", "");
    const auto port = table.number("port", 1, 65535, 0);
    const auto tls_port = table.number("tls_port", 1, 65535, 0);
    const auto rtmp_port = table.number("rtmp_port", 1, 65535, 0);
    const auto subtitles = table.text("subtitles", "");
    const auto audio = table.texts("audio");
    const auto picture = table.number("video", 1, 99, 0);
    const auto drawn = table.text("burn_in", TrackChoice{}.drawn);
    const auto devices = table.texts("devices");
    const auto deliveries = table.texts("delivery");
    for (const std::string& word : deliveries) {
        const Status added = stream::add_delivery(item.deliveries, word);
        if (!added) table.wrong("delivery", added.error().what, added.error().remedy);
    }
    for (const bool rtp : {false, true}) {
        const auto targets = table.texts(rtp ? "rtp" : "udp");
        for (const std::string& text : targets) {
            const auto address = net::parse_udp_address(text);
            if (!address) table.wrong(rtp ? "rtp" : "udp", address.error().what, address.error().remedy);
            if (address) item.targets.push_back({*address, rtp});
        }
    }
    const auto servers = table.texts("push");
    for (const std::string& text : servers) {
        const auto address = net::parse_rtmp_address(text);
        if (!address) table.wrong("push", address.error().what, address.error().remedy);
        if (address) item.push.push_back(*address);
    }
    const auto loop = table.flag("loop", false);
    const auto rate = table.bitrate("bitrate", 0);
    const auto profile = table.text("profile", "");
    const auto from = table.texts("from");
    const std::string key = parse_key(table, "key", folder);
    table.finish();
    const auto networks = net::Networks::parse(from);
    if (!networks) table.wrong("from", networks.error().what, networks.error().remedy);
    if (parts.empty() && publish_key.empty())
        table.wrong("name", fmt::format("\"file\" is missing: stream \"{}\" has no source", name),
                    "add file, files or folder; or publish_key, to accept RTMP publishing");
    if (!parts.empty() && !publish_key.empty())
        table.wrong("publish_key", "a stream is either published here or played from files", "leave one of them out");
    item.name = name;
    item.path =
        path.empty() ? stream::default_path(name, parts.empty() ? base::Path("live.flv") : parts.front().source) : path;
    if (!subtitles.empty()) item.subtitles = from_folder(subtitles, folder);
    item.ports = {static_cast<std::uint16_t>(port), static_cast<std::uint16_t>(tls_port),
                  static_cast<std::uint16_t>(rtmp_port)};
    item.publish_key = publish_key;
    item.loop = loop;
    item.rate_bps = rate;
    if (networks) item.from = *networks;
    item.key = key;
    item.parts = std::move(parts);
    entry.profile = profile;
    entry.devices = devices;
    // Where nothing is said, one file is served as it is, and everything else live.
    if (!item.deliveries.any() && item.published()) item.deliveries.rtmp = true;
    if (!item.deliveries.any()) {
        std::error_code error;
        const bool plain = item.parts.size() == 1 && !std::filesystem::is_directory(item.parts.front().source, error);
        if (plain && profile.empty()) {
            item.deliveries.file = true;
        } else if (item.targets.empty() && item.push.empty()) {
            item.deliveries.live = true;
        }
    }
    if (!audio.empty() && !item.is_live() && !item.deliveries.hls)
        table.wrong("audio", "a file is delivered with all of its audio tracks: players select one",
                    "add live or hls to \"delivery\", or leave \"audio\" out");
    if (picture > 0 && !item.is_live() && !item.deliveries.hls)
        table.wrong("video", "a file is delivered with all of its video tracks: players select one",
                    "add live or hls to \"delivery\", or leave \"video\" out");
    if (drawn != TrackChoice{}.drawn && profile.empty())
        table.wrong("burn_in", "subtitles are burned in only when transcoding",
                    "name a profile for the stream, or leave it out");
    if (const auto fit = media::check_audio_words(audio, table.where("audio")); !fit)
        table.wrong("audio", fit.error().what, fit.error().remedy);
    for (stream::Part& part : item.parts) part.choice = {audio, static_cast<int>(picture), drawn};
    if (!subtitles.empty() && !item.deliveries.file && !item.deliveries.hls)
        table.wrong("subtitles", "subtitle files are for file and hls",
                    "offer the stream as file or hls, too, or leave the subtitles out");
    const bool by_http =
        item.deliveries.file || item.deliveries.hls || item.deliveries.live || item.deliveries.live_hls;
    if (!by_http && (port != 0 || tls_port != 0))
        table.wrong(port != 0 ? "port" : "tls_port", "this stream is not delivered by HTTP",
                    "offer it as file, hls, live or live-hls, too, or leave the port out");
    if (rtmp_port != 0 && !item.deliveries.rtmp && !item.published())
        table.wrong("rtmp_port", "this stream is not delivered by RTMP",
                    "offer it as rtmp, too, or leave the port out");
    const bool live = item.is_live() && !item.published();
    if (!live && (loop || rate != 0 || !profile.empty()))
        table.wrong(loop        ? "loop"
                    : rate != 0 ? "bitrate"
                                : "profile",
                    item.published() ? "a published stream is passed on unchanged" : "this is for live streams only",
                    item.published()
                        ? "leave it out"
                        : "offer the stream live, live-hls or rtmp, or send it by udp or rtp; or leave this "
                          "out");
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

std::string toml_text(const std::string& text) {
    std::string out = "\"";
    for (const char c : text) {
        if (c == '"' || c == '\\') out += '\\';
        if (static_cast<unsigned char>(c) >= 32) out += c;
    }
    return out + "\"";
}

void check_ports(const Site& site, std::vector<Finding>& findings) {
    const auto add = [&](Finding::Severity severity, std::string what, std::string where, std::string remedy) {
        findings.push_back({severity, {ErrorKind::wanting, std::move(what), std::move(where), std::move(remedy)}});
    };
    const bool rtmp = std::any_of(site.streams.begin(), site.streams.end(), [](const SiteStream& s) {
        return (s.item.deliveries.rtmp || s.item.published()) && s.item.ports.rtmp == 0;
    });
    struct Port {
        std::string key;
        std::uint16_t number;
        std::string where;
        std::string name;
    };
    std::vector<Port> ports;
    const auto take = [&](const char* key, std::uint16_t number, const SiteStream* stream) {
        const bool known = std::any_of(ports.begin(), ports.end(),
                                       [&](const Port& one) { return one.key == key && one.number == number; });
        // Streams may share one.
        if (number == 0 || known) return;
        ports.push_back({key, number,
                         stream == nullptr ? fmt::format("{}, {}", site.file.string(), key)
                                           : fmt::format("{}, line {}", site.file.string(), stream->line),
                         stream == nullptr ? key : fmt::format("{} of stream \"{}\"", key, stream->name())});
    };
    if (site.plain_http) take("port", site.port, nullptr);
    if (site.certificate) take("tls_port", site.tls_port, nullptr);
    if (rtmp) take("rtmp_port", site.rtmp_port, nullptr);
    for (const SiteStream& s : site.streams) {
        take("port", s.item.ports.http, &s);
        take("tls_port", s.item.ports.tls, &s);
        take("rtmp_port", s.item.ports.rtmp, &s);
    }
    for (std::size_t i = 0; i < ports.size(); ++i) {
        for (std::size_t k = 0; k < i; ++k) {
            if (ports[i].number == ports[k].number)
                add(Finding::Severity::error,
                    fmt::format("{} and {} are both {}", ports[k].name, ports[i].name, ports[i].number), ports[i].where,
                    "give one of them another port");
        }
    }
    const std::vector<stream::Run> runs = stream::running();
    const std::string own = base::absolute_path(site.file).string();
    const auto runs_this = [&](int pid) {
        return std::any_of(runs.begin(), runs.end(),
                           [&](const stream::Run& run) { return run.pid == pid && run.what == own; });
    };
    for (const auto& [key, port, where, name] : ports) {
        if (const auto holder = host::tcp_listener(port); holder && !runs_this(holder->pid)) {
            add(Finding::Severity::error,
                holder->pid != 0 ? fmt::format("TCP port {} is in use by the process \"{}\" (PID {})", port,
                                               holder->program, holder->pid)
                                 : fmt::format("TCP port {} is in use by a process of another user", port),
                where, "stop that process (it may be an earlier stream run), or choose another port");
        }
        if (const auto answer = host::firewall(host::Transport::tcp, port);
            answer.kind == host::FirewallAnswer::Kind::closed)
            add(Finding::Severity::error, fmt::format("the firewall blocks TCP port {}: {}", port, answer.why), where,
                fmt::format("open it: nft add rule TABLE CHAIN tcp dport {} accept", port));
    }
}

void check_certificate(const Site& site, std::vector<Finding>& findings) {
    if (!site.certificate) return;
    const auto add = [&](Finding::Severity severity, std::string what, std::string remedy) {
        findings.push_back(
            {severity,
             {ErrorKind::wanting, std::move(what), site.certificate->certificate.string(), std::move(remedy)}});
    };
    const auto facts = net::check_certificate(*site.certificate);
    if (!facts) {
        findings.push_back({Finding::Severity::error, facts.error()});
        return;
    }
    const std::int64_t now =
        std::chrono::duration_cast<std::chrono::seconds>(std::chrono::system_clock::now().time_since_epoch()).count();
    constexpr std::int64_t kDay = 86'400, kSoon = 30 * kDay;
    if (facts->valid_from > now || facts->valid_until < now) {
        add(Finding::Severity::error,
            facts->valid_until < now ? fmt::format("certificate expired {} ago",
                                                   base::format_count((now - facts->valid_until) / kDay, "day"))
                                     : "the certificate is not valid yet",
            "renew it, and check this machine's clock");
    } else if (facts->valid_until - now < kSoon) {
        add(Finding::Severity::warning,
            fmt::format("certificate expires in {}: players will then refuse the streams",
                        base::format_count((facts->valid_until - now) / kDay, "day")),
            "renew it before");
    }
    if (const auto named = net::certificate_names(site.certificate->certificate, site.host()); named && !*named)
        add(Finding::Severity::error,
            fmt::format("certificate is for {}, but the announced address is {}",
                        facts->names.empty() ? "no host" : facts->names, site.host()),
            "set advertise in [server] to a name of the certificate, or get a certificate for this address");
}

// Devices that a stream is meant for, and that may not have it.
void check_admission(const Site& site, const SiteStream& entry, const std::string& where,
                     std::vector<Finding>& findings) {
    for (const SiteDevice& d : site.devices) {
        if (d.address.empty() || !entry.meant_for(d.device.name) || entry.item.from.empty() ||
            entry.item.from.contain(d.address))
            continue;
        findings.push_back({Finding::Severity::error,
                            {ErrorKind::wanting,
                             fmt::format("stream \"{}\" is for {}, but its address {} is blocked by \"from\"",
                                         entry.name(), d.device.name, d.address),
                             where, "add the address to \"from\", or leave the device out of \"devices\""}});
    }
}

// Shares that aren't mounted, and drives or shares slower than what is played from them.
void check_supply(const SiteStream& entry, const stream::Part& part, std::int64_t mean_bps, const std::string& where,
                  std::vector<Finding>& findings) {
    const auto mount = host::mount_of(part.source);
    std::error_code error;
    if (!mount || !std::filesystem::is_regular_file(part.source, error)) return;
    const auto speed = host::read_speed(part.source);
    if (!speed || mean_bps == 0) return;
    // A busy second needs more than the mean, and others may play at the same time.
    constexpr double kReserve = 3;
    const double reserve = *speed * 8 / static_cast<double>(mean_bps);
    if (reserve >= kReserve) return;
    findings.push_back(
        {Finding::Severity::warning,
         {ErrorKind::wanting,
          fmt::format("stream \"{}\": {} reads at {}, {:.1f} times its average bit rate", entry.name(),
                      mount->is_share() ? "the share " + mount->device : mount->at,
                      base::format_bitrate(static_cast<std::int64_t>(*speed * 8)), reserve),
          where,
          mount->is_share() ? "connect server and file server by Ethernet, or copy the film to this machine"
                            : "move the film to a faster drive"}});
}

// What a device is sent of a stream that is encoded anew: what the encoder promises.
Result<std::vector<Track>> encoded_tracks(const SiteStream& entry) {
    WAVECREST_TRY_ASSIGN(graph, plan_encode(entry.item.parts.front(), entry.profile));
    std::vector<Track> tracks;
    if (graph.video.encode.width > 0) {
        WAVECREST_TRY_ASSIGN(encoder, codec::make_h264_encoder(graph.video.encode));
        tracks.push_back(encoder->track());
        tracks.back().scan = Scan::progressive;
    }
    for (const transcode::AudioPath& path : graph.audio) {
        tracks.push_back(path.from);
        tracks.back().codec = Codec::aac;
        tracks.back().channels = std::min(path.from.channels, 2);
    }
    return tracks;
}

// Whether the devices a stream is meant for can play it by one of its ways, and their links carry it. Gives what all of
// them take together at once.
std::int64_t check_devices(const Site& site, const SiteStream& entry, const std::string& container,
                           const source::Title& title, std::int64_t file_bps, const std::string& where,
                           std::vector<Finding>& findings) {
    // All of the file, and what the other ways take of it.
    std::vector<Track> chosen, encoded;
    media::TrackPicker picker(entry.item.parts.front().choice);
    for (const Track& track : title.tracks) {
        // A second picture goes along in the file alone.
        if (picker.why_not(track).empty()) chosen.push_back(track);
    }
    std::int64_t encoded_bps = 0;
    if (!entry.profile.empty()) {
        if (auto tracks = encoded_tracks(entry)) encoded = std::move(*tracks);
        if (const auto profile = profile::find(entry.profile)) encoded_bps = profile->video.peak_bps;
    }
    const auto add = [&](Finding::Severity severity, std::string what, std::string remedy) {
        findings.push_back({severity, {ErrorKind::wanting, std::move(what), where, std::move(remedy)}});
    };
    std::int64_t all_screens = 0;
    std::vector<std::string> cannot;
    std::size_t meant = 0;
    for (const SiteDevice& d : site.devices) {
        if (!entry.meant_for(d.device.name)) continue;
        ++meant;
        std::string why;  // by its first way; empty when one is fit
        std::int64_t least = 0;
        bool fit = false;
        for (const stream::StreamAddress& one : site.addresses_for(entry, d)) {
            const bool own = one.delivery == "file" || one.delivery == "hls";  // made of the file
            if (one.delivery == "subtitles") continue;
            const bool anew = !own && !encoded.empty();
            const std::int64_t bps = anew ? encoded_bps : file_bps;
            std::vector<device::Check> checks = {device::judge_protocol(d.device, stream::protocol_of(one))};
            const std::string held = one.delivery == "file" ? container : stream::container_of(one);
            const std::vector<Track>& tracks = anew ? encoded : one.delivery == "file" ? title.tracks : chosen;
            for (device::Check& check : device::judge(d.device, held, tracks, bps)) checks.push_back(std::move(check));
            const auto bad = std::find_if(checks.begin(), checks.end(),
                                          [](const device::Check& c) { return c.verdict == device::Verdict::fail; });
            if (bad == checks.end()) {
                least = fit ? std::min(least, bps) : bps;
                fit = true;
            } else if (why.empty()) {
                why = fmt::format("{}: {} {} (supported: {})", d.device.name, bad->name, bad->measured, bad->limit);
            }
        }
        all_screens += least;
        if (!fit && !why.empty()) {
            cannot.push_back(why);
        } else if (least > d.link.payload_bps) {
            add(Finding::Severity::warning,
                fmt::format("stream \"{}\" needs {} {}, more than the link of {} ({})", entry.name(),
                            base::format_bitrate(least), least == file_bps ? "on average" : "at its peak",
                            d.device.name, d.link.name),
                "connect the device by Ethernet, or convert the film with a profile of lower bit rate (wavecrest "
                "profile list)");
        }
    }
    const std::string remedy =
        "convert the film with a profile that these devices support, or add a delivery that they support";
    if (meant > 0 && cannot.size() == meant) {
        add(Finding::Severity::error,
            fmt::format("no device of the site can play stream \"{}\": {}", entry.name(), fmt::join(cannot, "; ")),
            remedy);
    } else if (!cannot.empty()) {
        add(Finding::Severity::warning,
            fmt::format("some devices can't play stream \"{}\": {}", entry.name(), fmt::join(cannot, "; ")),
            remedy + "; or list only the others in devices");
    }
    return all_screens;
}

void check_streams(const Site& site, std::vector<Finding>& findings) {
    std::int64_t all_screens = 0;
    for (const SiteStream& entry : site.streams) {
        const std::string where = fmt::format("{}, line {}", site.file.string(), entry.line);
        check_admission(site, entry, where, findings);
        if (entry.item.published()) continue;
        bool missing = false;
        for (const stream::Part& part : entry.item.parts) {
            const auto found = source::open_input(part.source);
            if (found) continue;
            Error about = found.error();
            about.what = fmt::format("stream \"{}\": {}", entry.name(), about.what);
            about.where = fmt::format("{} ({})", where, about.where);
            if (const auto mount = host::missing_mount_of(part.source)) {
                about.what += fmt::format("; {} isn't mounted at {}", mount->device, mount->at);
                about.remedy = fmt::format("mount it: mount {}", mount->at);
            }
            findings.push_back({Finding::Severity::error, std::move(about)});
            missing = true;
        }
        if (missing) continue;
        if (!entry.item.subtitles.empty()) {
            if (const auto text = stream::read_subtitles(entry.item.subtitles); !text) {
                Error about = text.error();
                about.what = fmt::format("stream \"{}\": {}", entry.name(), about.what);
                about.where = fmt::format("{} ({})", where, about.where);
                findings.push_back({Finding::Severity::error, std::move(about)});
            }
        }
        const auto input = source::open_input(entry.item.parts.front().source);
        if (!input) continue;
        if ((*input)->is_disc() && (entry.item.deliveries.file || entry.item.deliveries.hls)) {
            findings.push_back(
                {Finding::Severity::error,
                 {ErrorKind::wanting,
                  fmt::format("stream \"{}\" is a disc rip, which can't be served as a file", entry.name()), where,
                  "offer it live, or convert it (wavecrest convert) and name the file it makes"}});
            continue;
        }
        if (entry.item.is_live()) {
            Site alone;
            alone.file = site.file;
            alone.streams = {entry};
            const auto items = alone.items();
            Status fit;
            if (!items) fit = fail(items.error());
            if (items) {
                const auto ready = stream::prepare_server(*items);
                if (!ready) fit = fail(ready.error());
            }
            if (!fit) {
                Error about = fit.error();
                about.what = fmt::format("stream \"{}\" can't be sent: {}", entry.name(), about.what);
                about.where = fmt::format("{} ({})", where, about.where);
                findings.push_back({Finding::Severity::error, std::move(about)});
                continue;
            }
        }
        const auto pick = (*input)->pick(entry.item.parts.front().title);
        if (!pick) {
            findings.push_back({Finding::Severity::error, pick.error()});
            continue;
        }
        const source::Title& title = *pick->title;
        const auto mean = static_cast<std::int64_t>(
            title.duration.count() > 0 ? static_cast<double>(title.size_bytes) * 8 / base::to_seconds(title.duration)
                                       : 0);
        check_supply(entry, entry.item.parts.front(), mean, where, findings);
        all_screens += check_devices(site, entry, (*input)->container(), title, mean, where, findings);
    }
    // The port that the devices' address is at; a gigabit, where it doesn't tell.
    std::string port = "a gigabit port";
    const device::Link gigabit = *device::parse_link("gigabit");
    std::int64_t carries = gigabit.payload_bps;
    for (const host::Address& address : host::addresses()) {
        if (address.address != site.host()) continue;
        const auto speed = host::wire_speed(address.interface);
        if (!speed) continue;
        carries = *speed / 1'000'000 * (gigabit.payload_bps / 1000);
        port = fmt::format("{}, this machine's port of {},", address.interface, base::format_bitrate(*speed));
    }
    if (all_screens > carries) {
        findings.push_back({Finding::Severity::warning,
                            {ErrorKind::wanting,
                             fmt::format("all devices at once need {}, more than {} ({})",
                                         base::format_bitrate(all_screens), port, base::format_bitrate(carries)),
                             site.file.string(), "use lower bit rates, or a faster network port"}});
    }
}

}  // namespace

namespace {

// What `stream run` would refuse, in its own judgement.
void check_as_run(const Site& site, std::vector<Finding>& findings) {
    const auto refuse = [&](Error about) {
        const auto is_told = [&](const Finding& one) {
            return one.severity == Finding::Severity::error && one.about.what.find(about.what) != std::string::npos;
        };
        if (std::any_of(findings.begin(), findings.end(), is_told)) return;
        about.where = fmt::format("{} ({})", site.file.string(), about.where);
        findings.push_back({Finding::Severity::error, std::move(about)});
    };
    if (const auto udp = net::UdpSender::open(site.server_settings().udp); !udp) refuse(udp.error());
    for (const SiteStream& entry : site.streams) {
        for (const net::RtmpAddress& to : entry.item.push) {
            if (net::can_resolve(to.host)) continue;
            refuse({ErrorKind::wanting,
                    fmt::format("stream \"{}\" is published to {}: host name not found (DNS)", entry.name(), to.host),
                    fmt::format("line {}", entry.line), "check the name, or write the server's IP address"});
        }
    }
    // What one stream alone is refused for was told above.
    const bool fine = std::none_of(findings.begin(), findings.end(),
                                   [](const Finding& one) { return one.severity == Finding::Severity::error; });
    if (!fine || site.streams.empty()) return;
    const auto items = site.items();
    if (!items) return refuse(items.error());
    if (const auto ready = stream::prepare_server(*items); !ready) refuse(ready.error());
}

}  // namespace

bool SiteStream::meant_for(const std::string& device) const {
    return devices.empty() || std::find(devices.begin(), devices.end(), device) != devices.end();
}

std::string Site::host() const {
    return !advertise.empty() ? advertise : !listen.empty() ? listen : host::best_address();
}
std::vector<stream::StreamAddress> Site::addresses_of(const SiteStream& s) const {
    return stream::addresses_of(
        s.item, host(), {plain_http ? port : std::uint16_t{0}, certificate ? tls_port : std::uint16_t{0}, rtmp_port});
}
std::vector<stream::StreamAddress> Site::addresses_for(const SiteStream& s, const SiteDevice& d) const {
    return stream::addresses_for(d.device, addresses_of(s));
}
stream::StreamServerSettings Site::server_settings() const {
    stream::StreamServerSettings settings;
    settings.address = listen;
    settings.announced = advertise;
    settings.http = plain_http;
    settings.http_port = port;
    settings.rtmp_port = rtmp_port;
    settings.certificate = certificate;
    settings.tls_port = tls_port;
    settings.memory = memory;
    settings.udp = udp;
    return settings;
}
std::string Site::address_of(const SiteStream& s) const {
    const auto all = addresses_of(s);
    return all.empty() ? "" : all.front().address;
}

Result<std::vector<stream::ServedStream>> Site::items() const {
    std::vector<stream::ServedStream> result;
    for (const SiteStream& s : streams) {
        result.push_back(s.item);
        if (s.profile.empty()) continue;
        auto graph = plan_encode(s.item.parts.front(), s.profile);
        if (!graph) {
            Error about = graph.error();
            about.what = fmt::format("stream \"{}\": {}", s.name(), about.what);
            return fail(std::move(about));
        }
        result.back().transcode = std::move(*graph);
    }
    return result;
}

namespace {

Result<convert::Plan> plan_of(const stream::Part& part, const std::string& name) {
    WAVECREST_TRY_ASSIGN(profile, profile::find(name));
    WAVECREST_TRY_ASSIGN(input, source::open_input(part.source));
    convert::Request request;
    request.pick = part.title;
    request.profile = profile;
    request.picture = part.choice.picture;
    if (!part.choice.audio.empty()) request.audio = fmt::format("{}", fmt::join(part.choice.audio, ","));
    request.subtitles = part.choice.drawn;
    // Nothing is written: a name that can't be taken.
    request.into = std::filesystem::temp_directory_path() / fmt::format("wavecrest-live-{}", ::getpid());
    return convert::make_plan(*input, request);
}

}  // namespace

Result<transcode::GraphSettings> plan_encode(const stream::Part& part, const std::string& profile) {
    WAVECREST_TRY_ASSIGN(plan, plan_of(part, profile));
    return plan.graph;
}

Result<std::optional<Error>> try_encode(const stream::Part& part, const std::string& profile, const Cancel& cancel) {
    WAVECREST_TRY_ASSIGN(plan, plan_of(part, profile));
    WAVECREST_TRY_ASSIGN(input, source::open_input(part.source));
    WAVECREST_TRY_ASSIGN(estimate, convert::estimate(*input, plan, cancel));
    if (plan.duration.count() <= 0 || estimate.time.count() <= 0) return std::optional<Error>{};
    const double speed = base::to_seconds(plan.duration) / base::to_seconds(estimate.time);
    constexpr double kEnough = 1.15;
    if (speed >= kEnough) return std::optional<Error>{};
    std::string smaller;
    WAVECREST_TRY_ASSIGN(now, profile::find(profile));
    for (const profile::Profile& other : profile::built_in()) {
        if (other.video.peak_bps < now.video.peak_bps) smaller += (smaller.empty() ? "" : ", ") + other.name;
    }
    return std::optional<Error>(
        {ErrorKind::wanting,
         fmt::format("this machine transcodes \"{}\" with {} at {:.2f} times real time: playback will stall",
                     part.source.filename().string(), profile, speed),
         part.source.string(),
         smaller.empty() ? "convert it beforehand (wavecrest convert), and stream the file"
                         : fmt::format("use a faster profile ({}), or convert it beforehand", smaller)});
}

std::vector<base::Path> media_in(const base::Path& folder) {
    static constexpr std::string_view kKinds[] = {".mp4", ".m4v",  ".mkv", ".webm", ".ts",  ".m2ts",
                                                  ".mpg", ".mpeg", ".vob", ".avi",  ".flv", ".mov",
                                                  ".mp3", ".flac", ".ogg", ".wav",  ".m4a"};
    std::vector<base::Path> files;
    std::error_code error;
    for (const auto& one : std::filesystem::directory_iterator(folder, error)) {
        std::string extension = one.path().extension().string();
        std::transform(extension.begin(), extension.end(), extension.begin(),
                       [](unsigned char c) { return static_cast<char>(std::tolower(c)); });
        if (one.is_regular_file(error) && one.path().filename().string().front() != '.' &&
            std::find(std::begin(kKinds), std::end(kKinds), extension) != std::end(kKinds))
            files.push_back(one.path());
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

Result<Site> parse(std::string_view text, const base::Path& file) {
    WAVECREST_TRY_ASSIGN(root, base::ConfigTable::parse(text, file.string()));
    Site site;
    site.file = file;
    auto house = root.table("site");
    const auto name = house.text("name", "My site");
    site.house = name;
    house.finish();
    auto server = root.table("server");
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
    if (!certificate.empty())
        site.certificate = {from_folder(certificate, file.parent_path()), from_folder(key, file.parent_path())};
    site.rtmp_port = static_cast<std::uint16_t>(rtmp_port);
    site.listen = listen == "0.0.0.0" || listen == "::" ? "" : listen;  // both mean all addresses
    site.advertise = advertise;
    auto devices = root.tables("device");
    for (base::ConfigTable& table : devices) {
        SiteDevice entry = parse_device(table);
        site.devices.push_back(std::move(entry));
    }
    auto streams = root.tables("stream");
    for (base::ConfigTable& table : streams) {
        SiteStream entry = parse_stream(table, file.parent_path());
        if (entry.item.ports.http != 0 && !site.plain_http)
            table.wrong("port", "plain_http = false in [server]: there is no HTTP",
                        "name a tls_port, or leave the port out");
        if (entry.item.ports.tls != 0 && !site.certificate)
            table.wrong("tls_port", "without a certificate in [server] there is no HTTPS",
                        "name a port, or add the certificate");
        std::vector<std::string> known;
        for (const SiteDevice& d : site.devices) known.push_back(d.device.name);
        for (const std::string& wanted : entry.devices) {
            if (std::find(known.begin(), known.end(), wanted) != known.end()) continue;
            const std::string meant = base::nearest(wanted, known);
            table.wrong("devices", fmt::format("there is no device \"{}\"", wanted),
                        meant.empty() ? fmt::format("name one of: {}", fmt::join(known, ", "))
                                      : fmt::format("did you mean \"{}\"?", meant));
        }
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
        site.streams.push_back(std::move(entry));
    }
    root.finish();
    Status twins =
        refuse_twins<SiteDevice>(site.devices, file, "devices", [](const SiteDevice& d) { return d.device.name; });
    if (twins)
        twins = refuse_twins<SiteStream>(site.streams, file, "streams", [](const SiteStream& s) { return s.name(); });
    if (!twins) return root.complete(Result<Site>(fail(twins.error())));
    return root.complete(Result<Site>(std::move(site)));
}

std::vector<Finding> check(const Site& site) {
    std::vector<Finding> findings;
    const auto add = [&](Finding::Severity severity, std::string what, std::string where, std::string remedy) {
        findings.push_back({severity, {ErrorKind::wanting, std::move(what), std::move(where), std::move(remedy)}});
    };
    if (site.devices.empty())
        add(Finding::Severity::warning, "the site has no devices, so nothing can be verified", site.file.string(),
            "add a [[device]] for each (wavecrest device list shows the classes)");
    if (site.streams.empty())
        add(Finding::Severity::error, "the site has no streams", site.file.string(),
            "add a [[stream]] with a name and a file");
    check_ports(site, findings);
    check_certificate(site, findings);
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
    if (const auto lease = host::lease_seconds(site.host())) {
        add(Finding::Severity::warning,
            fmt::format(
                "the IP address {} comes from DHCP (lease {} more): addresses entered on devices fail when it changes",
                site.host(), base::format_span(std::chrono::seconds(*lease))),
            "network interfaces", "reserve it in the router, or set a static address");
    }
    if (outward == 0)
        add(Finding::Severity::warning, "this machine has no network address: devices can't reach the streams",
            "network interfaces", "connect the network");
    check_streams(site, findings);
    check_as_run(site, findings);
    return findings;
}

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
    return text;
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
            if (part.source.string().find("://") != std::string::npos) continue;
            const std::string folder = quoted(base::absolute_path(part.source).parent_path());
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

}  // namespace wavecrest::site
