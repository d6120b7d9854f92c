#include "base/address.hpp"
#include "report/results.hpp"
#include "site/check.hpp"
#include "site/new_site.hpp"

#include <pwd.h>
#include <unistd.h>

#include <nlohmann/json.hpp>

#include "base/atomic_file.hpp"
#include "base/units.hpp"
#include "cli/commands.hpp"
#include "host/machine.hpp"
#include "net/http_client.hpp"
#include "render/code.hpp"
#include "render/table.hpp"

namespace wavecrest::cli {
namespace {

// "NAME,CLASS,LINK" and "NAME,FILE": the last field may contain commas, names may not.
std::vector<std::string> split(const std::string& text, std::size_t fields) {
    std::vector<std::string> parts;
    std::size_t at = 0;
    while (parts.size() + 1 < fields) {
        const std::size_t comma = text.find(',', at);
        if (comma == std::string::npos) break;
        parts.push_back(text.substr(at, comma - at));
        at = comma + 1;
    }
    parts.push_back(text.substr(at));
    for (std::string& part : parts) {
        part.erase(0, part.find_first_not_of(' '));
        part.erase(part.find_last_not_of(' ') + 1);
    }
    return parts;
}

}  // namespace

int run_site_new(const SiteNewOptions& options) {
    site::NewSite made;
    made.house = options.house;
    if (options.port != 0) made.port = options.port;
    for (const std::string& text : options.devices) {
        const auto parts = split(text, 3);
        if (parts.size() < 2 || parts[0].empty())
            return report_error({ErrorKind::usage, fmt::format("\"{}\" isn't a valid device", text), "--device",
                                 "write NAME,CLASS,LINK: \"Lounge TV,tv-hd,gigabit\""});
        made.devices.push_back({parts[0], parts[1], parts.size() > 2 ? parts[2] : "gigabit"});
    }
    for (const std::string& text : options.streams) {
        const auto parts = split(text, 2);
        if (parts.size() != 2 || parts[0].empty() || parts[1].empty())
            return report_error({ErrorKind::usage, fmt::format("\"{}\" isn't a valid stream", text), "--stream",
                                 "write NAME,FILE: \"Lake film,library/Lake.mp4\""});
        made.streams.push_back({parts[0], parts[1]});
    }
    for (const std::string& text : options.collections) {
        const auto parts = split(text, 2);
        if (parts.size() != 2 || parts[0].empty() || parts[1].empty())
            return report_error({ErrorKind::usage, fmt::format("\"{}\" isn't a valid collection", text), "--collection",
                                 "write NAME,FOLDER: \"Films,library\""});
        made.collections.push_back({parts[0], parts[1]});
    }
    const std::string text = site::compose(made);
    // What was given on the command line is checked before a file is written.
    if (const auto parsed = site::parse(text, options.file); !parsed) return report_error(parsed.error());
    if (const auto status = base::write_file(options.file, base::as_bytes(text), base::AtomicFile::IfExists::refuse);
        !status)
        return report_error(status.error());
    print("Started {} for \"{}\": {}, {}.\nNext: wavecrest site check '{}'\n", options.file, options.house,
          base::format_count(made.devices.size(), "device"), base::format_count(made.streams.size(), "stream"),
          options.file);
    return 0;
}

int run_site_check(const SiteOptions& options) {
    const bool json = options.output.json;
    const auto site = site::load(options.file);
    if (!site) {
        // A file that can be read but is wrong was checked and found wanting.
        Error error = site.error();
        if (error.kind == ErrorKind::usage) error.kind = ErrorKind::wanting;
        return report_error(error, json);
    }
    const auto capacity = measure::load_capacity(measure::capacity_file());
    if (!capacity) return report_error(capacity.error(), json);
    const auto findings = site::check(*site, *capacity ? &**capacity : nullptr);
    std::size_t errors = 0;
    for (const site::Finding& finding : findings) {
        const bool is_error = finding.severity == site::Finding::Severity::error;
        errors += is_error ? 1 : 0;
        if (!json)
            print("{}: {}\n  where:  {}\n  to do:  {}\n", is_error ? "error" : "warning", finding.about.what,
                  finding.about.where, finding.about.remedy);
    }
    if (json) {
        print_json(report::to_json(*site, findings));
    } else if (errors > 0) {
        print("\n{}, {}: correct the errors before running the streams.\n", base::format_count(errors, "error"),
              base::format_count(findings.size() - errors, "warning"));
    } else {
        print("{}: ready, {}.\nNext: wavecrest stream run --site '{}'\n", options.file,
              findings.empty() ? "no problems found" : base::format_count(findings.size(), "warning"), options.file);
    }
    return errors > 0 ? 1 : 0;
}

int run_site_show(const SiteOptions& options) {
    const auto site = site::load(options.file);
    if (!site) return report_error(site.error(), options.output.json);
    if (options.output.json) {
        print_json(report::addresses_to_json(*site));
        return 0;
    }
    print("{}\n\n", site->house);
    render::Table table({"device", "address", "stream"});
    for (const site::SiteDevice& d : site->devices) {
        for (const site::SiteStream& s : site->streams) {
            if (!s.meant_for(d.device.name)) continue;
            for (const stream::StreamAddress& one : site->addresses_for(s, d))
                table.add({d.player.empty() ? d.device.name : fmt::format("{} ({})", d.device.name, d.player),
                           one.address, fmt::format("{} ({})", s.name(), delivery_text(one.delivery))});
        }
    }
    for (const site::SiteStream& s : site->streams) {
        for (const stream::StreamAddress& one : site->addresses_of(s)) {
            const bool given = std::any_of(site->devices.begin(), site->devices.end(), [&](const site::SiteDevice& d) {
                const auto its = site->addresses_for(s, d);
                return s.meant_for(d.device.name) &&
                       std::any_of(its.begin(), its.end(), [&](const auto& a) { return a.address == one.address; });
            });
            if (!given && !base::is_web_address(one.address))
                table.add(
                    {"other devices", one.address, fmt::format("{} ({})", s.name(), delivery_text(one.delivery))});
        }
    }
    print("{}\nAddresses of this machine:", Raw{table.text(2)});
    for (const host::Address& a : host::addresses()) print(" {} ({})", a.address, a.interface);
    print("\n");
    // Codes are for a camera in front of a screen.
    if (options.plain || ::isatty(STDOUT_FILENO) == 0) return 0;
    for (const site::SiteStream& s : site->streams) {
        for (const stream::StreamAddress& one : site->addresses_of(s)) {
            if (!base::is_web_address(one.address)) continue;
            const std::string code = render::qr_code(one.address);
            if (!code.empty())
                print("\n{} ({}): {}\n{}", s.name(), delivery_text(one.delivery), one.address, Raw{code});
        }
    }
    return 0;
}

int run_site_service(const SiteOptions& options) {
    const auto site = site::load(options.file);
    if (!site) return report_error(site.error(), false);
    std::error_code error;
    const auto program = std::filesystem::read_symlink("/proc/self/exe", error);
    const passwd* user = ::getpwuid(::geteuid());
    print("{}", by_lines(site::service_unit(*site, error ? base::Path("wavecrest") : program,
                                            user != nullptr ? user->pw_name : "root")));
    std::fflush(stdout);
    print(stderr,
          "\nTo install it:\n  wavecrest site service '{}' | sudo tee /etc/systemd/system/wavecrest.service\n  sudo "
          "systemctl daemon-reload && sudo systemctl enable --now wavecrest\nThen check that it runs: wavecrest stream "
          "status\n",
          options.file);
    return 0;
}

}  // namespace wavecrest::cli
