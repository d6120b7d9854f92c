#include <algorithm>
#include <cctype>

#include "base/units.hpp"
#include "cli/commands.hpp"
#include "convert/name.hpp"
#include "standin/sample_disc.hpp"

namespace wavecrest::cli {

namespace {

int make(const StandinDiscOptions& options, const standin::DiscDescription& disc, const std::string& what) {
    Status done;
    {
        ProgressLine line("making the sample disc", options.quiet);
        done = standin::make_disc(options.folder, disc, line.callback(), cancel());
    }
    if (!done) return report_error(done.error());
    fmt::print("Sample disc in {}: {}.\n", options.folder, what);
    fmt::print("Next: wavecrest inspect '{}'\n", options.folder);
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
        return make(options, *disc, fmt::format("{} titles made of {} parts", titles, disc->parts.size()));
    }
    const auto main_length = base::parse_span(options.length), extra_length = base::parse_span(options.extra);
    const auto usage = [](const std::string& what, const char* where) {
        return report_error({ErrorKind::usage, what, where, "write a length such as \"90 s\" or \"2 min\""});
    };
    if (!main_length || base::to_seconds(*main_length) < 1 || base::to_seconds(*main_length) > 900) {
        return usage(fmt::format("\"{}\" is no length from 1 s to 15 min", options.length), "--length");
    }
    if (!extra_length || base::to_seconds(*extra_length) > 900)
        return usage(fmt::format("\"{}\" is no length up to 15 min", options.extra), "--extra");

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
    return make(
        options, standin::describe(settings),
        fmt::format(
            "a main title of {}{}", base::format_clock(*main_length),
            extra_length->count() > 0 ? fmt::format(" and an extra of {}", base::format_clock(*extra_length)) : ""));
}

}  // namespace wavecrest::cli
