#include <fmt/ranges.h>
#include <algorithm>
#include <cctype>
#include <chrono>
#include <nlohmann/json.hpp>
#include <thread>

#include "base/address.hpp"
#include "base/units.hpp"
#include "cli/commands.hpp"
#include "convert/name.hpp"
#include "net/http_client.hpp"
#include "net/worse_link.hpp"
#include "standin/renderer.hpp"
#include "standin/sample_disc.hpp"
#include "standin/screen.hpp"

namespace wavecrest::cli {

namespace {

int make(const StandinDiscOptions& options, const standin::DiscDescription& disc, const std::string& what) {
    Status done;
    {
        ProgressLine line("making the sample disc", options.quiet);
        done = standin::make_disc(options.folder, disc, line.callback(), cancel());
    }
    if (!done) return report_error(done.error());
    print("Sample disc in {}: {}.\n", options.folder, what);
    print("Next: wavecrest inspect '{}'\n", options.folder);
    return 0;
}

}  // namespace

int run_standin_disc(const StandinDiscOptions& options) {
    if (!options.from.empty()) {
        const auto text = base::read_text_file(options.from);
        if (!text) return report_error(text.error());
        auto disc = standin::parse_disc_description(*text, options.from);
        if (!disc) return report_error(disc.error());
        const std::size_t titles = disc->titles.empty() ? disc->parts.size() : disc->titles.size();
        return make(options, *disc,
                    fmt::format("{} made of {}", base::format_count(titles, "title"),
                                base::format_count(disc->parts.size(), "part")));
    }
    const auto main_length = base::parse_span(options.length), extra_length = base::parse_span(options.extra);
    const auto usage = [](const std::string& what, const char* where) {
        return report_error({ErrorKind::usage, what, where, "write a length such as \"90 s\" or \"2 min\""});
    };
    if (!main_length || base::to_seconds(*main_length) < 1 || base::to_seconds(*main_length) > 900) {
        return usage(fmt::format("\"{}\" isn't a length from 1 s to 15 min", options.length), "--length");
    }
    if (!extra_length || base::to_seconds(*extra_length) > 900)
        return usage(fmt::format("\"{}\" isn't a length up to 15 min", options.extra), "--extra");

    standin::SampleDiscSettings settings;
    std::string title = options.title.empty()
                            ? convert::film_name(base::Path(options.folder).lexically_normal().filename().string()).name
                            : options.title;
    if (title.empty()) title = "SAMPLE DISC";
    std::transform(title.begin(), title.end(), title.begin(),
                   [](unsigned char c) { return static_cast<char>(std::toupper(c)); });
    settings.title = title.substr(0, 30);
    settings.main_length = *main_length;
    settings.extra_length = *extra_length;
    settings.chapters = options.chapters;
    settings.seed = options.seed;
    return make(options, standin::describe(settings),
                fmt::format("a main title of {}{}", base::format_clock(*main_length),
                            extra_length->count() > 0
                                ? fmt::format(" and a bonus title of {}", base::format_clock(*extra_length))
                                : ""));
}

Result<net::LinkFaults> parse_faults(const LinkFaultOptions& options) {
    net::LinkFaults faults;
    faults.loss = options.loss / 100;
    faults.reorder = options.reorder / 100;
    faults.seed = options.seed;
    if (!options.squeeze.empty()) {
        WAVECREST_TRY_ASSIGN(steps, net::parse_rate_steps(options.squeeze));
        faults.squeeze = std::move(steps);
    }
    const std::tuple<const std::string&, const char*, Time*> kTimes[] = {
        {options.delay, "--delay", &faults.delay},
        {options.jitter, "--jitter", &faults.jitter},
        {options.outage, "--outage", &faults.outage},
        {options.outage_every, "--every", &faults.outage_every}};
    for (const auto& [text, where, to] : kTimes) {
        if (text.empty()) continue;
        const auto span = base::parse_span(text);
        if (!span || *span > base::from_seconds(3600))
            return fail(ErrorKind::usage, fmt::format("\"{}\" is not understood", text), where,
                        "write for example \"40 ms\"");
        *to = *span;
    }
    if ((faults.outage.count() > 0) != (faults.outage_every.count() > 0) || faults.outage > faults.outage_every)
        return fail(ErrorKind::usage, "an outage needs a length and an interval", "--outage and --every",
                    "give both: --outage \"2 s\" --every \"30 s\"");
    return faults;
}

int run_standin_device(const StandinDeviceOptions& options) {
    const bool json = options.output.json;
    standin::ScreenSettings settings;
    const auto page = net::parse_url(options.page);
    if (!page) return report_error(page.error(), json);
    settings.page = *page;
    auto device = device::find(options.device_class);
    if (!device) return report_error(device.error(), json);
    settings.device = std::move(*device);
    settings.name = options.name;
    if (!options.link.empty()) {
        const auto link = device::parse_link(options.link);
        if (!link)
            return report_error({ErrorKind::usage, fmt::format("\"{}\" isn't a valid link", options.link), "--link",
                                 "write gigabit, fast-ethernet, or a rate such as \"12 Mbit/s\""},
                                json);
        settings.link_bps = link->payload_bps;
    }
    if (!options.output.quiet && !json) settings.on_step = [](const std::string& what) { print(stderr, "{}\n", what); };
    const auto told = standin::take_test(settings, cancel());
    if (!told) return report_error(told.error(), json);
    if (json) {
        print_json({{"summary", *told}});
        return 0;
    }
    if (options.output.quiet) return 0;
    print("The check page says of this {}:\n", settings.device.name);
    for (const std::string& line : *told) print("  {}\n", line);
    return 0;
}

int run_standin_renderer(const StandinRendererOptions& options) {
    const bool json = options.output.json;
    const auto wrong = [&](const std::string& text, const char* where, std::string remedy) {
        return report_error(
            {ErrorKind::usage, fmt::format("\"{}\" is not understood", text), where, std::move(remedy), {}}, json);
    };
    standin::RendererSettings settings;
    settings.name = options.name;
    auto device = device::find(options.device_class);
    if (!device) return report_error(device.error(), json);
    settings.device = std::move(*device);
    settings.interface = options.interface;
    settings.port = options.port;
    if (!options.link.empty()) {
        const auto link = device::parse_link(options.link);
        if (!link)
            return wrong(options.link, "--link", "write gigabit, fast-ethernet, or a rate such as \"12 Mbit/s\"");
        settings.link_bps = link->payload_bps;
    }
    if (!options.fault.empty()) {
        const auto fault = standin::fault_from_name(options.fault);
        if (!fault)
            return wrong(options.fault, "--fault",
                         fmt::format("write one of: {}", fmt::join(standin::fault_names(), ", ")));
        settings.fault = *fault;
    }
    std::optional<Time> bound;
    if (!options.bound.empty()) {
        bound = base::parse_span(options.bound);
        if (!bound) return wrong(options.bound, "--for", "write for example \"10 min\"");
    }
    if (!options.output.quiet && !json)
        settings.on_line = [name = options.name](const std::string& line) {
            print("{}: {}\n", name, line);
            std::fflush(stdout);
        };
    const auto renderer = standin::Renderer::start(std::move(settings));
    if (!renderer) return report_error(renderer.error(), json);
    if (!json && !options.output.quiet) {
        print("{} waits to be told what to play. Ctrl-C ends it.\nNext: wavecrest device find\n", options.name);
        std::fflush(stdout);
    }
    const auto start = std::chrono::steady_clock::now();
    while (!cancel().requested()) {
        if (bound && std::chrono::steady_clock::now() - start >
                         std::chrono::duration_cast<std::chrono::steady_clock::duration>(*bound))
            break;
        std::this_thread::sleep_for(std::chrono::milliseconds(50));
    }
    return 0;
}

int run_standin_link(const StandinLinkOptions& options) {
    const bool json = options.output.json;
    auto parsed = parse_faults(options.faults);
    if (!parsed) return report_error(parsed.error(), json);
    net::LinkFaults& faults = *parsed;
    const auto wrong = [&](const std::string& text, const char* where, const char* remedy) {
        return report_error({ErrorKind::usage, fmt::format("\"{}\" is not understood", text), where, remedy}, json);
    };
    std::optional<Time> bound;
    if (!options.bound.empty()) {
        bound = base::parse_span(options.bound);
        if (!bound) return wrong(options.bound, "--for", "write for example \"10 s\" or \"5 min\"");
    }
    if (!options.rate.empty()) {
        const auto rate = base::parse_bitrate(options.rate);
        if (!rate || *rate < 1000) return wrong(options.rate, "--bitrate", "write for example \"6 Mbit/s\"");
        faults.rate_bps = *rate;
    }
    Result<std::unique_ptr<net::WorseLink>> link = fail(ErrorKind::usage, "", "", "");
    const base::Address near(options.from), far(options.to);
    const bool udp = near.scheme() == base::Scheme::udp;
    if (udp != (far.scheme() == base::Scheme::udp))
        return wrong(options.to, "the link", "write udp:// in front of both, or of neither");
    if (udp) {
        const auto from = net::parse_udp_address(std::string(near.behind_scheme())),
                   to = net::parse_udp_address(std::string(far.behind_scheme()));
        if (!from) return report_error(from.error(), json);
        if (!to) return report_error(to.error(), json);
        net::UdpSettings settings;
        settings.interface = options.interface;
        link = net::WorseLink::udp(*from, *to, faults, settings);
    } else {
        // The far end as in an HTTP address, the near one a port alone or with an address.
        const auto to = net::parse_url("http://" + options.to);
        if (!to) return report_error(to.error(), json);
        const std::size_t end = options.to.rfind(':'), bracket = options.to.rfind(']');
        if (end == std::string::npos || (bracket != std::string::npos && end < bracket))
            return wrong(options.to, "destination of the link", "write HOST:PORT, the port too: 192.168.1.10:8080");
        const std::size_t colon = options.from.rfind(':');
        const std::string port_text = colon == std::string::npos ? options.from : options.from.substr(colon + 1);
        const auto from = net::parse_url("http://127.0.0.1:" + port_text);
        if (!from) return wrong(options.from, "listening address of the link", "write a port, or ADDRESS:PORT");
        link = net::WorseLink::tcp(colon == std::string::npos ? "" : options.from.substr(0, colon), from->port,
                                   to->host, to->port, faults);
    }
    if (!link) return report_error(link.error(), json);
    if (!json) {
        print("Passing {} on to {}. Use {} instead of the stream's own address. Ctrl-C stops it.\n", options.from,
              options.to, udp ? options.to : fmt::format("port {}", (*link)->port()));
        std::fflush(stdout);
    }
    using namespace std::chrono_literals;
    const auto start = std::chrono::steady_clock::now();
    while (!cancel().requested()) {
        if (bound && std::chrono::steady_clock::now() - start >
                         std::chrono::duration_cast<std::chrono::steady_clock::duration>(*bound))
            break;
        std::this_thread::sleep_for(50ms);
    }
    const net::LinkFigures figures = (*link)->figures();
    if (json) {
        print_json({{"passed", figures.passed}, {"bytes", figures.bytes}, {"lost", figures.lost}});
    } else {
        print("Passed {}{}.\n", base::format_bytes(figures.bytes),
              udp                ? fmt::format(" in {} packets, {} lost", figures.passed, figures.lost)
              : figures.lost > 0 ? fmt::format(", {} TCP segments retransmitted", figures.lost)
                                 : "");
    }
    return 0;
}

}  // namespace wavecrest::cli
