#include "report/inspection.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "base/byte_source.hpp"
#include "base/units.hpp"
#include "convert/name.hpp"
#include "report/results.hpp"

namespace wavecrest::report {
namespace {

Json title_json(const InspectedTitle& report) {
    const source::Title& title = report.title;
    Json json = {{"number", title.number},
                 {"duration_s", std::round(base::to_seconds(title.duration) * 1000) / 1000},
                 {"main", title.main},
                 {"role", disc::short_name(title.role)},
                 {"why", title.why},
                 {"size_bytes", title.size_bytes},
                 {"bitrate_bps", report.mean_bps()},
                 {"angles", title.angles},
                 {"protected", report.is_protected}};
    if (report.in_full) json["peak_1s_bps"] = report.rate.peak_bps();
    if (title.same_as != 0) json["same_as"] = title.same_as;
    json["chapters"] = to_json(title.chapters);
    json["tracks"] = Json::array();
    for (const Track& track : title.tracks) json["tracks"].push_back(to_json(track));
    json["cells"] = Json::array();
    for (const auto& segment : title.segments) {
        json["cells"].push_back(
            {{"id", segment.id}, {"duration_s", std::round(base::to_seconds(segment.duration) * 1000) / 1000}});
    }
    json["differences"] = title.differences;
    json["problems"] = to_json(report.problems);
    return json;
}

}  // namespace

std::int64_t InspectedTitle::mean_bps() const {
    if (rate.bytes() > 0) return rate.mean_bps();
    const double seconds = base::to_seconds(title.duration);
    return seconds > 0 ? static_cast<std::int64_t>(static_cast<double>(title.size_bytes) * 8 / seconds) : 0;
}

const InspectedTitle& Inspection::main() const {
    const auto found = std::find_if(titles.begin(), titles.end(), [](const auto& one) { return one.title.main; });
    return found != titles.end() ? *found : titles.front();
}

bool Inspection::is_protected() const {
    return std::any_of(titles.begin(), titles.end(), [](const auto& one) { return one.is_protected; });
}

Result<Inspection> inspect(const source::Input& input, const std::string& pick) {
    std::vector<int> in_full;  // numbers
    if (pick.empty()) {
        for (const source::Title& title : input.titles()) {
            if (title.main) in_full.push_back(title.number);
        }
    } else {
        WAVECREST_TRY_ASSIGN(picked, input.picks(pick));
        for (const source::Pick& one : picked) in_full.push_back(one.title->number);
    }
    Inspection inspection;
    for (const source::Title& title : input.titles()) {
        InspectedTitle one{title, {}, false, false, title.problems};
        one.in_full = std::find(in_full.begin(), in_full.end(), title.number) != in_full.end();
        if (!one.in_full && !pick.empty()) continue;
        one.is_protected = !input.check_protection(title.number);
        if (one.in_full) {
            if (const auto pieces = input.rate(title.number)) {
                one.rate = measure::RateCurve(*pieces);
            } else if (input.is_disc()) {
                one.problems.push_back({fmt::format("bit rate unknown: {}", pieces.error().what), {}, title.duration});
            }
        }
        if (title.role != disc::Role::duplicate && title.role != disc::Role::fake)
            inspection.size_bytes += title.size_bytes;
        inspection.titles.push_back(std::move(one));
    }
    return inspection;
}

Status inspect_deep(Inspection& inspection, const source::Input& input, const std::string& address,
                    const Progress& reading, const Progress& packets, const Cancel& cancel) {
    const int number = inspection.main().title.number;
    WAVECREST_TRY(input.check_protection(number));
    WAVECREST_TRY_ASSIGN(source, input.open(number, 1));
    const measure::Reopen again = [&] { return input.open(number, 1); };
    WAVECREST_TRY_ASSIGN(
        deep, measure::measure_deep(*source, address == "-" ? measure::Reopen() : again, {}, reading, cancel));
    inspection.deep = std::move(deep);
    std::error_code error;
    if (input.container() == "mpeg-ts" && std::filesystem::is_regular_file(address, error)) {
        WAVECREST_TRY_ASSIGN(file, base::FileSource::open(address));
        WAVECREST_TRY_ASSIGN(transport, measure::measure_transport(file, packets, cancel));
        inspection.transport = std::move(transport);
    }
    return {};
}

Json to_json(const Inspection& inspection, const source::Input& input, const std::string& address) {
    const InspectedTitle& main = inspection.main();
    Json result = {{"source", address},
                   {"container", input.container()},
                   {"name", convert::film_name(input.name_hint()).full()},
                   {"duration_s", std::round(base::to_seconds(main.title.duration) * 1000) / 1000},
                   {"size_bytes", inspection.size_bytes},
                   {"bitrate_bps", main.mean_bps()},
                   {"peak_1s_bps", main.rate.peak_bps()}};
    if (input.is_disc()) {
        result["titles"] = Json::array();
        for (const InspectedTitle& report : inspection.titles) result["titles"].push_back(title_json(report));
        result["episodes"] = Json::array();
        for (const disc::Episode& episode : input.episodes()) {
            Json entry = {{"title", episode.title}, {"duration_s", base::to_seconds(episode.end - episode.start)}};
            if (episode.first_chapter > 0) {
                entry["first_chapter"] = episode.first_chapter;
                entry["last_chapter"] = episode.last_chapter;
                entry["start_s"] = base::to_seconds(episode.start);
            }
            result["episodes"].push_back(std::move(entry));
        }
    } else {
        result["chapters"] = to_json(main.title.chapters);
    }
    result["tracks"] = Json::array();
    for (const Track& track : main.title.tracks) result["tracks"].push_back(to_json(track));
    if (!main.title.rungs.empty()) {
        result["rungs"] = Json::array();
        for (const source::Title::Rung& one : main.title.rungs)
            result["rungs"].push_back({{"name", one.name},
                                       {"codecs", one.codecs},
                                       {"width", one.size.width},
                                       {"height", one.size.height},
                                       {"fps", one.fps},
                                       {"peak_bps", one.peak_bps},
                                       {"average_bps", one.average_bps}});
    }
    result["notes"] = input.notes();
    result["problems"] = to_json(main.problems);

    if (inspection.deep) result["deep"] = to_json(*inspection.deep);
    if (inspection.transport) result["deep"]["transport"] = to_json(*inspection.transport);
    return result;
}

}  // namespace wavecrest::report
