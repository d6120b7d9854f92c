#include <fmt/ranges.h>
#include <unistd.h>

#include <algorithm>
#include <chrono>
#include <cmath>
#include <nlohmann/json.hpp>
#include <set>

#include "base/units.hpp"
#include "cli/commands.hpp"
#include "host/machine.hpp"
#include "measure/capacity.hpp"
#include "render/table.hpp"
#include "report/results.hpp"
#include "site/capacity.hpp"

namespace wavecrest::cli {
namespace {

// What is measured next: drawn over itself on a terminal, a line every few seconds elsewhere.
class StepLine {
  public:
    explicit StepLine(bool quiet) : quiet_(quiet), terminal_(::isatty(STDERR_FILENO) != 0) {}
    ~StepLine() {
        if (shown_ && terminal_) print(stderr, "\r\033[K");
    }
    StepLine(const StepLine&) = delete;
    StepLine& operator=(const StepLine&) = delete;
    void show(double done, const std::string& next) {
        using namespace std::chrono_literals;
        const auto now = std::chrono::steady_clock::now();
        if (quiet_ || (!terminal_ && shown_ && now - last_ < 10s)) return;
        const std::string line = fmt::format("measuring: {:2.0f} %, {}", done * 100, next);
        print(stderr, "{}{}{}", Raw{terminal_ ? "\r\033[K" : ""}, line, Raw{terminal_ ? "" : "\n"});
        std::fflush(stderr);
        shown_ = true;
        last_ = now;
    }

  private:
    bool quiet_, terminal_, shown_ = false;
    std::chrono::steady_clock::time_point last_{};
};

std::string fps_text(double seconds) {
    const double fps = seconds > 0 ? 1 / seconds : 0;
    return fps >= 100 ? fmt::format("{:.0f}", std::round(fps / 10) * 10)
                      : fmt::format("{:.{}f}", fps, fps >= 10 ? 0 : 1);
}

// Each distinct value, the smallest first.
template <typename Of>
std::set<int> values(const std::vector<measure::CodecSpeed>& speeds, Of of) {
    std::set<int> all;
    for (const measure::CodecSpeed& one : speeds) all.insert(of(one));
    return all;
}

int width_of(const std::vector<measure::CodecSpeed>& speeds, int height) {
    for (const measure::CodecSpeed& one : speeds) {
        if (one.height == height) return one.width;
    }
    return height * 16 / 9;
}

std::string codec_name(const measure::CodecSpeed& one) {
    return std::string(media::display_name(one.codec)) + (one.bit_depth > 8 ? " 10-bit" : "");
}

// Rows of what was measured of each codec, in the order of measuring.
std::vector<const measure::CodecSpeed*> one_of_each(const std::vector<measure::CodecSpeed>& speeds) {
    std::vector<const measure::CodecSpeed*> all;
    for (const measure::CodecSpeed& one : speeds) {
        if (std::none_of(all.begin(), all.end(),
                         [&](const auto* known) { return codec_name(*known) == codec_name(one); }))
            all.push_back(&one);
    }
    return all;
}

bool was_measured(const std::vector<measure::CodecSpeed>& speeds, const measure::CodecSpeed& like, int height,
                  int effort) {
    return std::any_of(speeds.begin(), speeds.end(), [&](const measure::CodecSpeed& one) {
        return codec_name(one) == codec_name(like) && one.height == height && one.effort == effort;
    });
}

void print_encoding(const measure::Capacity& capacity) {
    const auto efforts = values(capacity.encoding, [](const auto& one) { return one.effort; });
    const auto heights = values(capacity.encoding, [](const auto& one) { return one.height; });
    std::vector<std::string> headings = {"encoding, fps", ""};
    std::vector<render::Table::Align> aligns(2, render::Table::Align::left);
    for (const int effort : efforts) {
        headings.push_back(fmt::format("effort {}", effort));
        aligns.push_back(render::Table::Align::right);
    }
    render::Table table(headings, aligns);
    std::string deep;
    for (const measure::CodecSpeed* codec : one_of_each(capacity.encoding)) {
        if (codec->bit_depth > 8) {
            const auto time = measure::encoding_time(capacity, codec->codec, codec->bit_depth, codec->width,
                                                     codec->height, codec->effort);
            const auto plain =
                measure::encoding_time(capacity, codec->codec, 8, codec->width, codec->height, codec->effort);
            if (time && plain && plain->alone > 0)
                deep += fmt::format("{}{} {:.1f} times", deep.empty() ? "" : ", ", media::display_name(codec->codec),
                                    time->alone / plain->alone);
            continue;
        }
        bool first = true;
        for (const int height : heights) {
            std::vector<std::string> row = {first ? codec_name(*codec) : "", fmt::format("{}p", height)};
            for (const int effort : efforts) {
                const auto time = measure::encoding_time(capacity, codec->codec, codec->bit_depth,
                                                         width_of(capacity.encoding, height), height, effort);
                const bool computed = !was_measured(capacity.encoding, *codec, height, effort);
                row.push_back(time ? (computed ? "~" : "") + fps_text(time->alone) : "-");
            }
            table.add(row);
            first = false;
        }
    }
    print("{}", Raw{table.text(2)});
    if (!deep.empty()) print("  10-bit takes {} as long.\n", deep);
}

void print_decoding(const measure::Capacity& capacity) {
    const auto heights = values(capacity.decoding, [](const auto& one) { return one.height; });
    std::vector<std::string> headings = {"decoding, fps"};
    std::vector<render::Table::Align> aligns(1, render::Table::Align::left);
    for (const int height : heights) {
        headings.push_back(fmt::format("{}p", height));
        aligns.push_back(render::Table::Align::right);
    }
    render::Table table(headings, aligns);
    for (const measure::CodecSpeed* codec : one_of_each(capacity.decoding)) {
        std::vector<std::string> row = {codec_name(*codec)};
        for (const int height : heights) {
            const auto time = measure::decoding_time(capacity, codec->codec, codec->bit_depth,
                                                     width_of(capacity.decoding, height), height);
            const bool computed = !was_measured(capacity.decoding, *codec, height, 0);
            row.push_back(time ? (computed ? "~" : "") + fps_text(time->alone) : "-");
        }
        table.add(row);
    }
    print("\n{}", Raw{table.text(2)});
}

void print_live(const measure::Capacity& capacity) {
    render::Table table({"live transcodes", "profile", "at once", "speed of all"},
                        {render::Table::Align::left, render::Table::Align::left, render::Table::Align::right,
                         render::Table::Align::right});
    for (const measure::LiveSpeed& one : capacity.live)
        table.add({one.source, one.profile, fmt::format("{}", one.carries()), fmt::format("{:.1f}x", one.at_once)});
    print("\n{}", Raw{table.text(2)});
}

// Viewers of files that are sent as they are, and what bounds their number.
void print_viewers(const measure::Capacity& capacity) {
    print("\n  server {}", base::format_bitrate(std::llround(capacity.server_bps)));
    for (const measure::Port& port : capacity.ports)
        print("; port {} {}", port.interface,
              port.bps > 0 ? base::format_bitrate(port.bps) : std::string("of unknown speed (taken for 1 Gbit/s)"));
    for (const measure::DriveSpeed& drive : capacity.drives) {
        if (drive.read <= 0) {
            print("\n  {} ({}): couldn't be tried", drive.folder, drive.mounted);
            continue;
        }
        print("\n  {} ({}): reads {}/s", drive.folder, drive.mounted,
              base::format_bytes(static_cast<std::uint64_t>(drive.read)));
        if (drive.write > 0) print(", writes {}/s", base::format_bytes(static_cast<std::uint64_t>(drive.write)));
    }
    print("\n\n");
    render::Table table({"viewers at once, not transcoded", "bit rate", "viewers", "limit"},
                        {render::Table::Align::left, render::Table::Align::right, render::Table::Align::right,
                         render::Table::Align::left});
    const auto add = [&](const char* what, double bps) {
        const measure::Viewers viewers = measure::viewers_at_once(capacity, bps);
        table.add({what, base::format_bitrate(std::llround(bps)), fmt::format("{}", viewers.count), viewers.limit});
    };
    add("DVD", 8e6);
    add("Blu-ray", 30e6);
    add("4K", 80e6);
    print("{}", Raw{table.text(2)});
}

void print_hardware(const measure::Capacity& capacity) {
    if (capacity.hardware.empty()) {
        print("\n  Hardware for video: none that the system offers (VA-API, V4L2).\n");
        return;
    }
    print("\n  Hardware for video, not used by this program:\n");
    for (const host::VideoHardware& one : capacity.hardware) {
        print("    {} {}", one.device, one.name);
        if (!one.problem.empty()) print(": {}", one.problem);
        if (!one.decodes.empty()) print(": decodes {}", fmt::format("{}", fmt::join(one.decodes, ", ")));
        if (!one.encodes.empty()) print("; encodes {}", fmt::format("{}", fmt::join(one.encodes, ", ")));
        print("\n");
    }
}

void print_capacity(const measure::Capacity& capacity) {
    print("{}: {}, {}. Measured {}.\n\n", capacity.host, capacity.processor,
          base::format_count(static_cast<std::size_t>(capacity.processors), "processor"), capacity.at);
    print_encoding(capacity);
    print_decoding(capacity);
    print("  ~ computed from other sizes and efforts\n");
    print_live(capacity);
    print_viewers(capacity);
    print_hardware(capacity);
}

// Folders and films to try: what was named, else what the site file has, else where it is called.
Result<site::MeasureSettings> settings_of(const SiteMeasureOptions& options) {
    site::MeasureSettings settings;
    for (const std::string& folder : options.folders) settings.folders.emplace_back(folder);
    std::error_code error;
    if (!options.file.empty() || std::filesystem::exists("site.toml", error)) {
        const std::string file = options.file.empty() ? "site.toml" : options.file;
        WAVECREST_TRY_ASSIGN(site, site::load(file));
        if (settings.folders.empty()) settings.folders.push_back(base::absolute_path(file).parent_path());
        for (const site::SiteStream& stream : site.streams) {
            for (const stream::Part& part : stream.item.parts) {
                if (std::filesystem::is_regular_file(part.source.path(), error))
                    settings.films.push_back(part.source.path());
            }
        }
    }
    if (settings.folders.empty()) settings.folders.emplace_back(".");
    for (const base::Path& folder : settings.folders) {
        if (!std::filesystem::is_directory(folder, error))
            return fail(ErrorKind::usage, "not a folder", folder.string(), "name a folder whose drive is to be tried");
    }
    return settings;
}

}  // namespace

int run_site_measure(const SiteMeasureOptions& options) {
    const bool json = options.output.json;
    const base::Path file = measure::capacity_file();
    if (options.show) {
        const auto kept = measure::load_capacity(file);
        if (!kept) return report_error(kept.error(), json);
        if (!*kept)
            return report_error({ErrorKind::wanting, "this machine wasn't measured yet", file.string(),
                                 "run wavecrest site measure while nothing else runs"},
                                json);
        if (json) {
            print_json(nlohmann::ordered_json::parse(measure::to_json_text(**kept)));
        } else {
            print_capacity(**kept);
        }
        return 0;
    }
    const auto settings = settings_of(options);
    if (!settings) return report_error(settings.error(), json);
    // Said before it takes its time.
    if (const Status writable = host::check_writable(file); !writable) return report_error(writable.error(), json);
    if (const double busy = measure::busy_processors(); busy > 0.3 && !options.output.quiet)
        note(fmt::format(
            "other programs keep {:.1f} processors busy: what is measured now is less than this machine can", busy));
    auto capacity = [&] {
        StepLine line(options.output.quiet);
        return site::measure_machine(
            *settings, [&](double done, const std::string& next) { line.show(done, next); }, cancel());
    }();
    if (!capacity) return report_error(capacity.error(), json);
    if (measure::was_disturbed(*capacity))
        note(
            "figures contradict each other: something else took the processor meanwhile (on a virtual machine perhaps "
            "its host); measure again when it is quiet");
    if (const auto saved = measure::save(*capacity, file); !saved) return report_error(saved.error(), json);
    if (!options.output.out.empty()) {
        if (const auto status = write_result(options.output.out, "machine.json", measure::to_json_text(*capacity));
            !status)
            return report_error(status.error(), json);
    }
    if (json) {
        print_json(nlohmann::ordered_json::parse(measure::to_json_text(*capacity)));
        return 0;
    }
    print_capacity(*capacity);
    print("\nKept in {} for site check, stream run, convert --plan --no-samples and the report.\n", file.string());
    return 0;
}

}  // namespace wavecrest::cli
