#include "site/check.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>
#include <unistd.h>
#include <algorithm>
#include <chrono>
#include <cmath>

#include "base/units.hpp"
#include "host/machine.hpp"
#include "host/mounts.hpp"
#include "host/network.hpp"
#include "media/track_choice.hpp"
#include "profile/profile.hpp"
#include "site/encode.hpp"
#include "site/shares.hpp"
#include "source/input.hpp"
#include "source/share_input.hpp"
#include "stream/control.hpp"

namespace wavecrest::site {
namespace {

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
    if (!part.source.is_local()) return;
    const base::Path file = part.source.path();
    const auto mount = host::mount_of(file);
    std::error_code error;
    if (!mount || !std::filesystem::is_regular_file(file, error)) return;
    const auto speed = host::read_speed(file);
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
    WAVECREST_TRY_ASSIGN(tracks, transcode::tracks_of(graph, 0));
    return tracks;
}

// What a device is given of a ladder at least: its lowest rung.
struct LowestRung {
    std::vector<Track> tracks;
    std::int64_t peak_bps = 0;
};
std::optional<LowestRung> lowest_rung(const SiteStream& entry, const source::Title& title) {
    LowestRung lowest;
    if (entry.item.deliveries.ladder && !title.rungs.empty()) {
        lowest.tracks = title.tracks;
        lowest.peak_bps = title.rungs.back().peak_bps;
        for (Track& track : lowest.tracks) {
            if (track.kind != TrackKind::video || title.rungs.back().size.height == 0) continue;
            track.width = title.rungs.back().size.width;
            track.height = title.rungs.back().size.height;
            track.level.clear();
        }
        return lowest;
    }
    if (!entry.item.deliveries.live_ladder) return std::nullopt;
    const auto ladder = plan_ladder(entry.item.parts.front(), entry.profile, false, false, Cancel());
    if (!ladder) return std::nullopt;  // (That was told.)
    for (const stream::LadderTracks::Entry& one : ladder->tracks.entries) {
        auto tracks = transcode::tracks_of(ladder->graph, one.output);
        if (!tracks || tracks->empty()) return std::nullopt;
        const bool video = tracks->front().kind == TrackKind::video;
        // Rungs go down; audio is heard with each.
        if (video) lowest = {};
        lowest.tracks.push_back(tracks->front());
        lowest.peak_bps += one.peak_bps;
    }
    return lowest;
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
    const std::optional<LowestRung> lowest = lowest_rung(entry, title);
    if (!entry.profile.empty() && !entry.item.deliveries.live_ladder) {
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
            const bool ladder = lowest && one.delivery.starts_with("ladder");
            const bool anew = !own && !encoded.empty();
            const std::int64_t bps = ladder ? lowest->peak_bps : anew ? encoded_bps : file_bps;
            std::vector<device::Check> checks = {device::judge_protocol(d.device, stream::protocol_of(one))};
            const std::string held = one.delivery == "file" ? container : stream::container_of(one);
            const std::vector<Track>& tracks = ladder                   ? lowest->tracks
                                               : anew                   ? encoded
                                               : one.delivery == "file" ? title.tracks
                                                                        : chosen;
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

// Whether the machine transcodes what it is to, all at once.
void check_transcodes(const Site& site, const measure::Capacity* capacity, std::vector<Finding>& findings) {
    std::vector<NamedGraph> graphs;
    for (const SiteStream& entry : site.streams) {
        if (entry.item.published()) continue;
        // (What can't be planned was told.)
        if (entry.item.deliveries.live_ladder) {
            if (auto ladder = plan_ladder(entry.item.parts.front(), entry.profile, false, false, Cancel()))
                graphs.push_back(
                    {entry.name(), entry.profile.empty() ? kLadderProfile : entry.profile, std::move(ladder->graph)});
            continue;
        }
        if (entry.profile.empty()) continue;
        if (auto graph = plan_encode(entry.item.parts.front(), entry.profile))
            graphs.push_back({entry.name(), entry.profile, std::move(*graph)});
    }
    if (graphs.empty()) return;
    if (capacity == nullptr) {
        findings.push_back({Finding::Severity::warning,
                            {ErrorKind::wanting,
                             fmt::format("whether this machine is fast enough for {} isn't known: its speed was not "
                                         "measured",
                                         base::format_count(graphs.size(), "live transcode")),
                             site.file.string(), "run wavecrest site measure while nothing else runs"}});
        return;
    }
    for (Finding& finding : judge_demand(demand_of(*capacity, graphs), *capacity, site.file.string()))
        findings.push_back(std::move(finding));
}

void check_streams(const Site& site, const measure::Capacity* capacity, std::vector<Finding>& findings) {
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
            if (const auto mount = host::missing_mount_of(part.source.path())) {
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
    if (capacity != nullptr && capacity->server_bps > 0 &&
        static_cast<double>(all_screens) > capacity->server_bps * measure::kReserve)
        findings.push_back(
            {Finding::Severity::warning,
             {ErrorKind::wanting,
              fmt::format("all devices at once need {}, more than this server sends ({})",
                          base::format_bitrate(all_screens), base::format_bitrate(std::llround(capacity->server_bps))),
              site.file.string(), "use lower bit rates, or a faster machine"}});
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

void check_collections(const Site& site, std::vector<Finding>& findings) {
    // The port of SSDP: devices ask there (UPnP Device Architecture 1.1, 1.3.2).
    constexpr std::uint16_t kSearchPort = 1900;
    if (const auto wall = host::firewall(host::Transport::udp, kSearchPort);
        !site.collections.empty() && wall.kind == host::FirewallAnswer::Kind::closed)
        findings.push_back({Finding::Severity::warning,
                            {ErrorKind::wanting,
                             fmt::format("the firewall blocks UDP port {}: devices don't find the library ({})",
                                         kSearchPort, wall.why),
                             site.file.string(),
                             fmt::format("open it: nft add rule TABLE CHAIN udp dport {} accept", kSearchPort),
                             {}}});
    for (const SiteCollection& one : site.collections) {
        const std::string where = fmt::format("{}, line {}", site.file.string(), one.line);
        const auto not_listed = [&](const std::string& why, std::string remedy) {
            findings.push_back({Finding::Severity::error,
                                {ErrorKind::wanting,
                                 fmt::format("the folder of collection \"{}\" can't be listed: {} ({})", one.name,
                                             one.folder.string(), why),
                                 where,
                                 std::move(remedy),
                                 {}}});
        };
        if (base::Address(one.folder).is_share()) {
            const auto opened = source::open_share(base::Address(one.folder), nullptr);
            const auto listed =
                opened ? opened->share->list(opened->path) : Result<std::vector<share::Entry>>(fail(opened.error()));
            if (!listed) not_listed(listed.error().what, listed.error().remedy);
        } else {
            std::error_code error;
            const std::filesystem::directory_iterator entries(one.folder, error);
            if (error) not_listed(error.message(), "check the path, and that the share is mounted and may be read");
        }
        for (const std::string& name : one.devices) {
            const auto device = std::find_if(site.devices.begin(), site.devices.end(),
                                             [&](const SiteDevice& d) { return d.device.name == name; });
            if (device != site.devices.end() && device->address.empty())
                findings.push_back(
                    {Finding::Severity::error,
                     {ErrorKind::wanting,
                      fmt::format("collection \"{}\" is for {}, whose address isn't known, so that it sees "
                                  "nothing of it",
                                  one.name, name),
                      where,
                      fmt::format("add address = \"...\" to the device {}", name),
                      {}}});
        }
    }
}

}  // namespace

std::vector<Finding> judge_demand(const TranscodeDemand& demand, const measure::Capacity& capacity,
                                  const std::string& where) {
    std::vector<Finding> findings;
    const auto add = [&](std::string what, const char* remedy) {
        findings.push_back({Finding::Severity::warning, {ErrorKind::wanting, std::move(what), where, remedy}});
    };
    for (const TranscodeDemand::Stream& one : demand.streams) {
        if (one.load.alone > measure::kReserve)
            add(fmt::format("this machine transcodes \"{}\" with {} at {:.2f} times real time: playback will stall",
                            one.name, one.profile, 1 / one.load.alone),
                "use a profile of smaller size or less effort, or convert it beforehand (wavecrest convert)");
    }
    const double able = capacity.processors * measure::kReserve;
    if (findings.empty() && demand.processors > able)
        add(fmt::format("{} at once keep {:.1f} processors busy, of {} that this machine has: playback will stall",
                        base::format_count(demand.streams.size(), "live transcode"), demand.processors,
                        capacity.processors),
            "convert some of them beforehand (wavecrest convert), or use profiles of smaller size or less effort");
    for (const std::string& name : demand.unknown)
        add(fmt::format("whether this machine is fast enough to transcode \"{}\" isn't known: its codec is not one of "
                        "those measured",
                        name),
            "start it with wavecrest stream run, which tries it, and see that it plays without stalls");
    return findings;
}

std::vector<Finding> check(const Site& site, const measure::Capacity* capacity) {
    std::vector<Finding> findings;
    const auto add = [&](Finding::Severity severity, std::string what, std::string where, std::string remedy) {
        findings.push_back({severity, {ErrorKind::wanting, std::move(what), std::move(where), std::move(remedy)}});
    };
    if (site.devices.empty())
        add(Finding::Severity::warning, "the site has no devices, so nothing can be verified", site.file.string(),
            "add a [[device]] for each (wavecrest device list shows the classes)");
    if (site.streams.empty() && site.collections.empty())
        add(Finding::Severity::error, "the site has no streams", site.file.string(),
            "add a [[stream]] with a name and a file, or a [[collection]] with a folder");
    check_collections(site, findings);
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
    check_shares(site, base::from_seconds(1), findings);
    check_streams(site, capacity, findings);
    check_transcodes(site, capacity, findings);
    check_as_run(site, findings);
    return findings;
}

}  // namespace wavecrest::site
