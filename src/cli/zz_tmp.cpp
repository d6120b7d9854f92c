#include "cli/commands.hpp"
namespace wavecrest::cli {
int run_site_new(const SiteNewOptions&){return 9;} int run_site_check(const SiteOptions&){return 9;} int run_site_show(const SiteOptions&){return 9;}
int run_stream(const StreamRunOptions&){return 9;} int run_verify(const VerifyOptions&){return 9;} int run_report(const ReportOptions&){return 9;} int run_demo(const std::string&,const std::string&){return 9;}
}
