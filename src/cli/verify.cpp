#include "verify/browser.hpp"

#include <algorithm>
#include <cmath>
#include <nlohmann/json.hpp>
#include <thread>

#include "base/address.hpp"
#include "base/units.hpp"
#include "cli/commands.hpp"
#include "net/guess_limiter.hpp"
#include "render/figure.hpp"
#include "render/table.hpp"
#include "report/results.hpp"
#include "site/paths.hpp"
#include "site/site.hpp"

namespace wavecrest::cli {
namespace {

constexpr const char* kStraight = " (from the share)";

// Of a site's stream: in which delivery it is played.
struct PlannedJob {
    verify::Job job;
    std::string stream, delivery;
};

Result<std::vector<PlannedJob>> make_jobs(const VerifyOptions& options) {
    std::vector<PlannedJob> jobs;
    if (options.site.empty() == options.url.empty()) {
        return fail(ErrorKind::usage, "name either a site file with --site, or one address", "the command line",
                    "wavecrest verify --site site.toml, or wavecrest verify URL --device CLASS");
    }
    std::optional<Time> wait = base::parse_span(options.wait.empty() ? "0 s" : options.wait),
                        listen = base::parse_span(!options.listen.empty() ? options.listen
                                                  : options.again         ? "240 h"
                                                                          : "10 s");
    const auto waits = [&](const std::string& address) {
        const bool datagrams = base::Address(address).is_datagrams();
        return options.wait.empty() && datagrams ? base::from_seconds(10) : *wait;
    };
    if (!wait || !listen || listen->count() <= 0)
        return fail(ErrorKind::usage, fmt::format("\"{}\" isn't a valid time", !wait ? options.wait : options.listen),
                    !wait ? "--wait" : "--for", "write for example \"10 s\" or \"5 min\"");
    WAVECREST_TRY_ASSIGN(faults, parse_faults(options.faults));
    if (options.site.empty()) {
        if (options.device.empty())
            return fail(ErrorKind::usage, "--device is missing", "--device",
                        "name a device class; wavecrest device list shows them");
        WAVECREST_TRY_ASSIGN(device, device::find(options.device));
        const auto link = device::parse_link(options.link.empty() ? "gigabit" : options.link);
        if (!link)
            return fail(ErrorKind::usage, fmt::format("\"{}\" isn't a valid link", options.link), "--link",
                        "write gigabit, fast-ethernet, or a rate such as \"12 Mbit/s\"");
        jobs.push_back({{net::without_keys(options.url), options.url, device, *link, waits(options.url), *listen,
                         options.trusted, faults, options.stills, false, options.real_time},
                        "",
                        ""});
        return jobs;
    }
    WAVECREST_TRY_ASSIGN(site, site::load(options.site));
    const base::Path trusted = !options.trusted.empty() ? base::Path(options.trusted)
                               : site.certificate       ? site.certificate->certificate
                                                        : base::Path();
    std::vector<std::string> streams, devices;
    for (const site::SiteStream& stream : site.streams) {
        streams.push_back(stream.name());
        if (!options.stream.empty() && options.stream != stream.name()) continue;
        for (const site::SiteDevice& d : site.devices) {
            if (std::find(devices.begin(), devices.end(), d.device.name) == devices.end())
                devices.push_back(d.device.name);
            if (!stream.meant_for(d.device.name) || (!options.device.empty() && options.device != d.device.name))
                continue;
            // A device that plays from shares may not need the stream at all.
            const bool one_file = stream.item.parts.size() == 1 && stream.item.deliveries.file;
            if (one_file && site::plays_straight(d.device, stream.item.parts.front().source))
                jobs.push_back({{stream.name() + kStraight, stream.item.parts.front().source.text(), d.device, d.link,
                                 *wait, *listen, trusted, faults, options.stills, false, options.real_time},
                                stream.name(),
                                "share"});
            for (const stream::StreamAddress& one : site.addresses_for(stream, d)) {
                if (one.delivery == "subtitles") continue;
                // What is sent to a single device can be received there only.
                if (one.delivery == "udp" || one.delivery == "rtp") {
                    const auto to = net::parse_udp_address(one.address.substr(6));
                    if (!to || !to->multicast) continue;
                }
                jobs.push_back({{one.delivery == "file" ? one.stream : fmt::format("{} ({})", one.stream, one.delivery),
                                 one.address, d.device, d.link, waits(one.address), *listen, trusted, faults,
                                 options.stills, false, options.real_time},
                                one.stream,
                                one.delivery});
            }
        }
    }
    if (jobs.empty()) {
        const std::string meant = base::nearest(options.device.empty() ? options.stream : options.device,
                                                options.device.empty() ? streams : devices);
        return fail(ErrorKind::usage, "no stream of the site is for this device", options.site,
                    meant.empty() ? "wavecrest site show lists streams and devices"
                                  : fmt::format("did you mean \"{}\"?", meant));
    }
    return jobs;
}

// A value that stays from point to point, as a line.
render::Series steps(std::string name, render::Series::Style style, int colour,
                     const std::vector<std::pair<double, double>>& from, double end) {
    render::Series series{std::move(name), style, colour, false, {}};
    for (const auto& [x, y] : from) {
        if (!series.points.empty()) series.points.emplace_back(x, series.points.back().second);
        series.points.emplace_back(x, y);
    }
    if (!series.points.empty()) series.points.emplace_back(end, series.points.back().second);
    return series;
}

// What was asked for of a ladder over time, and the link where it changed.
void add_rungs(const verify::Verification& v, double end, render::Figure& figure) {
    std::vector<std::pair<double, double>> asked;
    for (const verify::RungChange& one : v.changes)
        asked.emplace_back(base::to_seconds(one.clock), static_cast<double>(v.rungs[one.to].peak_bps) / 1e6);
    figure.series.push_back(steps("rung asked for (its peak)", render::Series::Style::line, 3, asked, end));
}

// The link's rate at each moment, Mbit/s.
std::vector<std::pair<double, double>> link_over_time(const verify::Verification& v) {
    std::vector<std::pair<double, double>> rates;
    for (const auto& [at, rate] : v.link_rates)
        rates.emplace_back(base::to_seconds(at), static_cast<double>(rate) / 1e6);
    if (rates.empty()) rates.emplace_back(0, static_cast<double>(v.link.payload_bps) / 1e6);
    return rates;
}

// Each change of a ladder's bit rate as a line.
std::vector<std::string> told_changes(const verify::Verification& v) {
    std::vector<std::string> lines;
    for (std::size_t i = 0; i < v.changes.size(); ++i) {
        const verify::RungChange& one = v.changes[i];
        const verify::RungUse& to = v.rungs[one.to];
        const std::string rate = to.name.find(' ') == std::string::npos ? ", " + base::format_bitrate(to.peak_bps) : "";
        lines.push_back(fmt::format("{:>7}  {} {}{}: {}", base::format_clock(one.clock),
                                    i == 0              ? "starts with"
                                    : one.to > one.from ? "up to"
                                                        : "down to",
                                    to.name, rate, one.why));
    }
    return lines;
}

Status write_files(const std::string& folder, const std::string& stem, const verify::Verification& v) {
    std::string csv = fmt::format("second,stream_bits_per_second,received_bits_per_second,buffer_seconds{}\n",
                                  v.changes.empty() ? "" : ",rung,link_bits_per_second");
    std::size_t change = 0;
    std::size_t level = 0;
    render::Figure figure;
    figure.title = fmt::format("{} on {}: {}", v.stream, v.device, device::short_name(v.verdict));
    figure.x_label = "time since the request (minutes:seconds)";
    figure.y_label = "Mbit/s";
    // A live stream has no buffer that runs full or dry by its viewer's pace.
    const bool live = v.levels.empty();
    if (!live) figure.y2_label = "buffer (seconds)";
    if (live) figure.x_label = "time since it appeared (minutes:seconds)";
    if (!v.stalls.empty()) figure.band_name = "stall";
    render::Series stream{live ? "received" : "bit rate of the stream", render::Series::Style::steps, 0, false, {}};
    render::Series buffer{"buffer", render::Series::Style::line, 2, true, {}};
    double highest = 0;
    for (std::size_t i = 0; i < v.seconds.size(); ++i) {
        const auto x = static_cast<double>(i);
        while (level + 1 < v.levels.size() && base::to_seconds(v.levels[level + 1].clock) <= x + 0.5) ++level;
        const double held = v.levels.empty() ? 0 : base::to_seconds(v.levels[level].level);
        csv += fmt::format("{},{:.0f},{:.0f},{:.2f}", i, v.seconds[i].stream_bps, v.seconds[i].received_bps, held);
        if (!v.changes.empty()) {
            while (change + 1 < v.changes.size() && base::to_seconds(v.changes[change + 1].clock) <= x + 0.5) ++change;
            std::int64_t rate = v.link.payload_bps;
            for (const auto& [at, bps] : v.link_rates) rate = base::to_seconds(at) <= x + 0.5 ? bps : rate;
            csv += fmt::format(",{},{}", v.rungs[v.changes[change].to].name, rate);
        }
        csv += "\n";
        stream.points.emplace_back(x, v.seconds[i].stream_bps / 1e6);
        highest = std::max(highest, v.seconds[i].stream_bps / 1e6);
    }
    // The last second has its width, too.
    if (!stream.points.empty())
        stream.points.emplace_back(static_cast<double>(v.seconds.size()), stream.points.back().second);
    for (const measure::BufferLevel& l : v.levels)
        buffer.points.emplace_back(base::to_seconds(l.clock), base::to_seconds(l.level));
    for (const measure::Stall& stall : v.stalls)
        figure.bands.push_back({base::to_seconds(stall.clock), base::to_seconds(stall.clock + stall.length)});
    figure.series.push_back(std::move(stream));
    if (!live) figure.series.push_back(std::move(buffer));
    double link = 0;
    const auto end = static_cast<double>(v.seconds.size());
    const std::vector<std::pair<double, double>> rates = link_over_time(v);
    for (const auto& [at, rate] : rates) link = std::max(link, rate);
    if (!v.changes.empty()) {
        add_rungs(v, end, figure);
        for (const verify::RungUse& one : v.rungs) highest = std::max(highest, static_cast<double>(one.peak_bps) / 1e6);
    }
    // A gigabit drawn to scale would flatten everything else: a link far above the film is named, not drawn.
    if (link < highest * 4) {
        figure.series.push_back(steps(
            rates.size() > 1 ? std::string("link") : fmt::format("link: {}", base::format_bitrate(v.link.payload_bps)),
            render::Series::Style::dashed, 1, rates, end));
    } else {
        figure.title += fmt::format(" (link: {}, above this scale)", base::format_bitrate(v.link.payload_bps));
    }
    WAVECREST_TRY(write_result(folder, stem + ".csv", csv));
    return v.seconds.empty() ? Status{} : render::write_png(figure, base::Path(folder) / (stem + ".png"));
}

std::string played_how(const verify::Verification& v) {
    if (v.grounds == "watched") return "watched on";
    if (v.grounds == "device") return "played by";
    return v.browser.empty() ? "on" : fmt::format("in {}, on the link of", v.browser);
}

void print_result(const verify::Verification& v) {
    print("\n{} {} {}{}: {}{}\n  {}\n", v.stream, played_how(v), v.device,
          v.link.name.empty() ? "" : fmt::format(" ({})", v.link.name), coloured_verdict(device::short_name(v.verdict)),
          v.cause == verify::Cause::none ? "" : fmt::format(", cause: {}", verify::short_name(v.cause)), v.summary);
    // What failed, and what playing showed; the rest is only named.
    static const std::vector<std::string> kPlaying = {"startup",      "stalls",          "seeking",
                                                      "link",         "packets",         "arrival",
                                                      "packets lost", "quality reached", "changes of bit rate"};
    render::Table table({"check", "verdict", "measured", "limit"});
    std::string fine = "    other checks passed:";
    std::size_t line_start = 0;
    bool any_fine = false;
    for (const device::Check& c : v.checks) {
        const bool shown =
            c.verdict != device::Verdict::pass || std::find(kPlaying.begin(), kPlaying.end(), c.name) != kPlaying.end();
        if (shown) {
            table.add({c.name, std::string(device::short_name(c.verdict)), c.measured, c.limit});
        } else {
            // Wrapped for a terminal of ordinary width.
            if (any_fine) fine += ',';
            if (fine.size() - line_start + c.name.size() > 96) {
                line_start = fine.size() + 1;
                fine += "\n              ";
            }
            fine += ' ' + c.name;
            any_fine = true;
        }
    }
    print("\n{}", Raw{table.text(4)});
    if (any_fine) print("{}\n", by_lines(fine));
    if (!v.stalls.empty()) {
        print("\n    stalls:");
        for (std::size_t i = 0; i < v.stalls.size() && i < 8; ++i)
            print("{} at {} for {}", i > 0 ? "," : "", base::format_clock(v.stalls[i].at),
                  base::format_span(v.stalls[i].length));
        if (v.stalls.size() > 8) print(" and {} more", v.stalls.size() - 8);
        print("\n");
    }
    if (const auto changes = told_changes(v); !changes.empty()) {
        Time all{};
        for (const verify::RungUse& one : v.rungs) all += one.played;
        print("\n    played:");
        bool first = true;
        for (auto one = v.rungs.rbegin(); one != v.rungs.rend(); ++one) {
            print("{} {} {:.0f} %", first ? "" : ",", one->name,
                  all.count() > 0 ? 100 * base::to_seconds(one->played) / base::to_seconds(all) : 0.0);
            first = false;
        }
        print("\n    bit rate over time:\n");
        constexpr std::size_t kMost = 20;
        for (std::size_t i = 0; i < std::min(changes.size(), kMost); ++i) print("    {}\n", changes[i]);
        if (changes.size() > kMost) print("             and {} more (--out DIR writes all)\n", changes.size() - kMost);
    }
    for (const device::Check& c : v.checks) {
        if (!c.why.empty() && c.why != v.remedy) print("    {}: {}\n", c.name, c.why);
    }
    if (!v.stills.empty())
        print("    frames: {} to {}\n", v.stills.front().string(), v.stills.back().filename().string());
    if (!v.remedy.empty()) print("  to do:  {}\n", v.remedy);
}

// All of them at a glance.
void print_matrix(const std::vector<verify::Verification>& all) {
    std::vector<std::string> streams, devices;
    const auto keep = [](std::vector<std::string>& names, const std::string& name) {
        if (std::find(names.begin(), names.end(), name) == names.end()) names.push_back(name);
    };
    for (const verify::Verification& v : all) {
        keep(streams, v.stream);
        keep(devices, v.device);
    }
    if (streams.size() * devices.size() < 2) return;
    // The longer list goes down the page.
    const bool turned = devices.size() > streams.size();
    if (turned) std::swap(streams, devices);
    std::vector<std::string> head = {turned ? "device" : "stream"};
    head.insert(head.end(), devices.begin(), devices.end());
    render::Table table(head);
    for (const std::string& row : streams) {
        std::vector<std::string> cells = {row};
        for (const std::string& column : devices) {
            std::string cell = "-";
            for (const verify::Verification& v : all) {
                if ((turned ? v.device : v.stream) != row || (turned ? v.stream : v.device) != column) continue;
                cell = device::short_name(v.verdict);
                if (v.cause != verify::Cause::none) cell += fmt::format(": {}", verify::short_name(v.cause));
            }
            cells.push_back(cell);
        }
        table.add(std::move(cells));
    }
    print("\nSummary:\n\n{}", Raw{table.text(2)});
}

// A screen that waits for its stream, shows it, and waits again.
int play_again_and_again(verify::Job job, const VerifyOptions& options) {
    const bool json = options.output.json;
    job.wait = std::chrono::hours(200);
    job.to_end = true;
    job.real_time = true;
    auto results = nlohmann::ordered_json::array();
    device::Verdict worst = device::Verdict::pass;
    while (!cancel().requested()) {
        note(fmt::format("waiting for {} (Ctrl-C stops it)", job.address));
        Result<verify::Verification> done;
        {
            ProgressLine line(fmt::format("playing as {}", job.device.name), options.output.quiet || json);
            done = verify::run(job, line.callback(), cancel());
        }
        if (!done && done.error().kind != ErrorKind::interrupted) return report_error(done.error(), json);
        if (!done || cancel().requested()) break;
        worst = device::worse(worst, done->verdict);
        results.push_back(report::to_json(*done));
        if (!json) print_result(*done);
        std::fflush(stdout);
        // What ends at once is not asked for in a rush.
        for (int i = 0; i < 20 && !cancel().requested(); ++i)
            std::this_thread::sleep_for(std::chrono::milliseconds(50));
    }
    if (json) {
        print_json({{"results", results}});
    } else {
        print("\nPlayed {}. Verdict: {}\n", base::format_count(results.size(), "time"),
              results.empty() ? Raw{"none"} : coloured_verdict(device::short_name(worst)));
    }
    return results.empty() ? 130 : worst == device::Verdict::fail ? 1 : 0;
}

}  // namespace

void print_verification(const verify::Verification& verification) {
    print_result(verification);
}

namespace {

// What was played of each stream on demand, by its deliveries: live ones are for something else.
std::vector<site::Delivered> delivered(const std::vector<PlannedJob>& jobs,
                                       const std::vector<verify::Verification>& all) {
    std::vector<site::Delivered> played;
    for (std::size_t i = 0; i < all.size(); ++i) {
        const std::string& delivery = jobs[i].delivery;
        if (delivery == "file" || delivery == "hls" || delivery.starts_with("ladder"))
            played.push_back({jobs[i].stream, delivery, &all[i]});
    }
    return played;
}

// Which address to enter, where a device can be given several.
void print_best(const std::vector<site::BestDelivery>& best) {
    if (!best.empty()) print("\nAddress to enter:\n\n");
    for (const site::BestDelivery& one : best) {
        const std::string address = net::without_keys(one.address);
        print("  {} on {}: {}\n", one.stream, one.device,
              one.delivery.empty() ? "none, no delivery plays there"
                                   : fmt::format("{} ({}{})", address, one.delivery,
                                                 address == one.address ? "" : "; wavecrest site show adds the key"));
        print("      {}\n", net::without_keys(one.why));
    }
}

// Where a device could play a film from its share, too: which path is the smoother one.
void print_paths(const std::vector<verify::Verification>& all) {
    for (const verify::Verification& straight : all) {
        if (!straight.stream.ends_with(kStraight)) continue;
        const std::string name = straight.stream.substr(0, straight.stream.size() - std::string_view(kStraight).size());
        for (const verify::Verification& through : all) {
            if (through.stream != name || through.device != straight.device) continue;
            const site::PathComparison both = site::compare(straight, through);
            print("\n{} on {}, compared: {}{}\n", name, straight.device, site::in_words(both.smoother),
                  both.why.empty() ? "" : " (" + both.why + ")");
        }
    }
}

}  // namespace

int run_verify(const VerifyOptions& options) {
    const bool json = options.output.json;
    if (options.watch) return run_verify_watch(options);
    const auto engine = host::engine_from_name(options.on);
    if (!options.on.empty() && !engine) return run_verify_on_renderer(options);
    const auto jobs = make_jobs(options);
    if (!jobs) return report_error(jobs.error(), json);
    if (engine && options.again)
        return report_error({ErrorKind::usage, "a browser plays once", "--again", "leave one of --on and --again out"},
                            json);
    if (options.again) {
        if (jobs->size() > 1)
            return report_error(
                {ErrorKind::usage, fmt::format("one screen plays one stream, but {} are selected", jobs->size()),
                 "--again", "name one with --stream and --device, or by its address"},
                json);
        return play_again_and_again(jobs->front().job, options);
    }
    nlohmann::ordered_json result = {{"results", nlohmann::ordered_json::array()}};
    device::Verdict worst = device::Verdict::pass;
    std::vector<verify::Verification> all;
    std::optional<Error> failure;  // of what is written beside the result, or of one of the jobs
    for (const auto& [job, stream, delivery] : *jobs) {
        Result<verify::Verification> done;
        {
            ProgressLine line(engine ? fmt::format("playing in {}, on the link of {}", options.on, job.device.name)
                                     : fmt::format("playing as {}", job.device.name),
                              options.output.quiet || json);
            done = engine ? verify::run_in_browser(job, *engine, line.callback(), cancel())
                          : verify::run(job, line.callback(), cancel());
        }
        if (!done) {
            failure = done.error();
            break;
        }
        worst = device::worse(worst, done->verdict);
        auto entry = report::to_json(*done);
        if (!options.output.out.empty()) {
            const std::string stem = fmt::format("verify-{}-{}", slug(done->stream), slug(done->device));
            if (!done->seconds.empty()) entry["figure"] = stem + ".png";
            if (const auto status = write_files(options.output.out, stem, *done); !status && !failure)
                failure = status.error();
        }
        result["results"].push_back(std::move(entry));
        if (!json) print_result(*done);
        all.push_back(std::move(*done));
    }
    if (all.empty() && failure) return report_error(*failure, json);
    // (Of some alone it isn't known which is the best.)
    const std::vector<site::BestDelivery> best =
        all.size() == jobs->size() ? site::best_deliveries(delivered(*jobs, all)) : std::vector<site::BestDelivery>();
    for (const site::BestDelivery& one : best) result["best_deliveries"].push_back(report::to_json(one));
    if (!options.output.out.empty()) {
        if (const auto status = write_result(options.output.out, "verify.json", result); !status && !failure)
            failure = status.error();
    }
    int ended = worst == device::Verdict::fail ? 1 : 0;
    if (!json) {
        if (!options.output.out.empty() && !failure) print("\nCharts, CSV and JSON are in {}.\n", options.output.out);
        print_matrix(all);
        print_paths(all);
        print_best(best);
        print("\nVerdict: {}\n", coloured_verdict(device::short_name(worst)));
    }
    if (failure) ended = report_beside(*failure, result);
    if (json) print_json(result);
    return ended;
}

}  // namespace wavecrest::cli
