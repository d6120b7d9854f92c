// verify --on NAME: the real renderer plays, and is watched.
#include <algorithm>
#include <nlohmann/json.hpp>

#include "base/units.hpp"
#include "cli/commands.hpp"
#include "cli/renderers.hpp"
#include "report/results.hpp"
#include "stream/watched.hpp"
#include "verify/checks.hpp"
#include "verify/renderer.hpp"

namespace wavecrest::cli {
namespace {

device::Link link_of(const site::Site* site, const upnp::FoundDevice& found) {
    for (const site::SiteDevice& one : site != nullptr ? site->devices : std::vector<site::SiteDevice>{}) {
        if (one.device.name == found.description.name || (!one.address.empty() && one.address == found.address))
            return one.link;
    }
    return {};
}

// What the server saw of it meanwhile: who fetched, and whether it ran dry.
void add_server_side(verify::Verification& v, const site::Site& site, const std::string& address) {
    const auto viewings = stream::viewings_at(site.port);
    if (!viewings) return;
    const measure::Viewing* latest = nullptr;
    for (const measure::Viewing& one : *viewings) {
        if (one.address == address && one.stream == v.stream) latest = &one;
    }
    if (latest == nullptr) return;
    const bool dry = !latest->stalls.empty();
    verify::add(v, "seen from the server", dry ? device::Verdict::warn : device::Verdict::pass,
                dry ? fmt::format("ran dry, {} in all", base::format_span(latest->stalled()))
                    : fmt::format("fetched in time, up to {} ahead", base::format_span(latest->most_buffered)),
                "fetched in time", "the link or the server was too slow for it");
    v.verdict = device::worse(v.verdict, v.checks.back().verdict);
}

}  // namespace

int run_verify_on_renderer(const VerifyOptions& options) {
    const bool json = options.output.json;
    const auto refuse = [&](std::string what, const char* where, const char* remedy) {
        return report_error({ErrorKind::usage, std::move(what), where, remedy, {}}, json);
    };
    if (const Status named = check_no_browser_is_meant(options.on); !named) return report_error(named.error(), json);
    if (options.again || options.real_time || !options.wait.empty() || !options.device.empty())
        return refuse(
            "a renderer plays once, at its own pace", "--on",
            "leave out --again, --real-time, --wait and --device; or name a browser of this machine: chromium or "
            "firefox");
    if (options.site.empty() == options.url.empty())
        return refuse("name either a site file with --site, or one address or file", "the command line",
                      "wavecrest verify --site site.toml --on NAME, or wavecrest verify FILE --on NAME");
    std::optional<Time> listen;
    if (!options.listen.empty()) {
        listen = base::parse_span(options.listen);
        if (!listen || listen->count() <= 0)
            return refuse(fmt::format("\"{}\" isn't a valid time", options.listen), "--for",
                          "write for example \"1 min\"");
    }
    std::optional<site::Site> site;
    std::vector<std::string> media = {options.url};
    if (!options.site.empty()) {
        auto loaded = site::load(options.site);
        if (!loaded) return report_error(loaded.error(), json);
        site = std::move(*loaded);
        media.clear();
        for (const site::SiteStream& one : site->streams) {
            if (options.stream.empty() || options.stream == one.name()) media.push_back(one.name());
        }
        if (media.empty())
            return refuse(fmt::format("the site has no stream \"{}\"", options.stream), "--stream",
                          "wavecrest site show lists the streams");
    }
    const site::Site* known = site ? &*site : nullptr;
    auto renderers = find_renderers(options.on, options.interface, known, cancel());
    if (!renderers) {
        Error error = renderers.error();
        error.remedy += ". (Browsers of this machine: chromium, firefox)";
        return report_error(error, json);
    }
    nlohmann::ordered_json result = {{"results", nlohmann::ordered_json::array()}};
    device::Verdict worst = device::Verdict::pass;
    std::optional<Error> failure;
    for (const std::string& one : media) {
        const auto offer = Offer::make(one, known);
        if (!offer) {
            failure = offer.error();
            break;
        }
        for (FoundRenderer& renderer : *renderers) {
            const auto item = offer->item_for(renderer.found);
            if (!item) {
                failure = item.error();
                break;
            }
            verify::RendererJob job;
            job.stream = offer->title();
            job.item = *item;
            job.device = renderer.found.description.name;
            job.link = link_of(known, renderer.found);
            if (listen) job.listen = *listen;
            Result<verify::Verification> done = fail(Error{});
            {
                ProgressLine line(fmt::format("playing on {}", job.device), options.output.quiet || json);
                done = verify::run_on_renderer(job, renderer.renderer, line.callback(), cancel());
            }
            if (!done) {
                failure = done.error();
                break;
            }
            if (known != nullptr) add_server_side(*done, *known, renderer.found.address);
            worst = device::worse(worst, done->verdict);
            const auto entry = report::to_json(*done);
            if (!options.output.out.empty()) {
                const std::string file = fmt::format("verify-on-{}-{}.json", slug(job.device), slug(job.stream));
                if (const auto status = write_result(options.output.out, file, {{"results", {entry}}});
                    !status && !failure)
                    failure = status.error();
            }
            result["results"].push_back(entry);
            if (!json) print_verification(*done);
            std::fflush(stdout);
        }
        if (failure) break;
    }
    if (result["results"].empty() && failure) return report_error(*failure, json);
    if (!json) print("\nVerdict: {}\n", coloured_verdict(device::short_name(worst)));
    int ended = worst == device::Verdict::fail ? 1 : 0;
    if (failure) ended = report_beside(*failure, result);
    if (json) print_json(result);
    return ended;
}

}  // namespace wavecrest::cli
