#include "report/report.hpp"

#include "cli/commands.hpp"

namespace wavecrest::cli {

int run_report(const ReportOptions& options) {
    const auto site = site::load(options.site);
    if (!site) return report_error(site.error());
    const base::Path folder = base::Path(options.site).parent_path();
    const base::Path results = options.results.empty() ? folder / "results" : base::Path(options.results);
    const base::Path into = options.into.empty() ? folder / "report" : base::Path(options.into);
    const auto capacity = measure::load_capacity(measure::capacity_file());
    if (!capacity) return report_error(capacity.error());
    const auto written = report::write(*site, *capacity ? &**capacity : nullptr, results, into);
    if (!written) return report_error(written.error());
    print("{}\n", written->page.string());
    for (const std::string& missing : written->missing) note(missing);
    return 0;
}

}  // namespace wavecrest::cli
