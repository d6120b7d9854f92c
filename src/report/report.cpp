#include "report/report.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <cmath>
#include <kainjow/mustache.hpp>
#include <nlohmann/json.hpp>

#include "base/address.hpp"
#include "base/atomic_file.hpp"
#include "base/byte_source.hpp"
#include "base/embedded.hpp"
#include "base/units.hpp"
#include "media/language.hpp"
#include "net/guess_limiter.hpp"

namespace wavecrest::report {
namespace {

using kainjow::mustache::data;
using Json = nlohmann::json;

std::string base64(ByteSpan bytes) {
    static constexpr char kDigits[] = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
    std::string out;
    out.reserve((bytes.size() + 2) / 3 * 4);
    for (std::size_t i = 0; i < bytes.size(); i += 3) {
        const std::size_t n = std::min<std::size_t>(3, bytes.size() - i);
        std::uint32_t v = 0;
        for (std::size_t k = 0; k < 3; ++k) v = v << 8 | (k < n ? bytes[i + k] : 0u);
        for (std::size_t k = 0; k < 4; ++k) out += k <= n ? kDigits[v >> (18 - 6 * k) & 63] : '=';
    }
    return out;
}

Time time_of(const Json& object, const char* key) {
    return base::from_seconds(object.value(key, 0.0));
}
std::string bytes_of(const Json& object, const char* key) {
    return base::format_bytes(object.value(key, std::uint64_t{0}));
}
std::string rate_of(const Json& object, const char* key) {
    return base::format_bitrate(object.value(key, std::int64_t{0}));
}

std::string sentence(std::string text) {
    if (!text.empty()) text[0] = static_cast<char>(std::toupper(static_cast<unsigned char>(text[0])));
    return text;
}

class Page {
  public:
    Page(const site::Site& site, const measure::Capacity* capacity, base::Path results)
        : site_(site), capacity_(capacity), results_(std::move(results)) {}

    Result<std::string> render() {
        std::string_view text;
        for (const base::EmbeddedFile& file : base::embedded_files()) {
            if (file.name == "templates/report.mustache") text = file.text;
        }
        data page = data::type::object;
        const auto now = std::time(nullptr);
        char date[32];
        std::tm parts{};
        ::localtime_r(&now, &parts);
        std::strftime(date, sizeof date, "%Y-%m-%d", &parts);
        page["house"] = site_.house;
        page["date"] = date;
        page["devices"] = devices();
        page["has_rooms"] = std::any_of(site_.devices.begin(), site_.devices.end(),
                                        [](const site::SiteDevice& d) { return !d.room.empty(); });
        page["streams"] = streams();
        page["has_server"] = capacity_ != nullptr;
        if (capacity_ != nullptr) page["server"] = server(*capacity_);
        if (capacity_ == nullptr)
            missing.push_back("this machine wasn't measured (wavecrest site measure): that section is left out");
        try {
            WAVECREST_TRY_ASSIGN(rips, load("inspect-", "-disc.json"));
            page["rips"] = list(rips, [this](const Json& j) { return rip(j); });
            WAVECREST_TRY_ASSIGN(conversions, load("convert-", ".json"));
            page["conversions"] = list(conversions, [](const Json& j) { return conversion(j.at("outputs").at(0)); });
            WAVECREST_TRY_ASSIGN(tested, load("device-", ".json"));
            page["tested"] = list(tested, [this](const Json& j) { return tested_device(j); });
            page["has_tested"] = !tested.empty();
            WAVECREST_TRY_ASSIGN(verifications, load("verify.json", ""));
            WAVECREST_TRY_ASSIGN(watched, load("verify-watched-", ".json"));
            verifications.insert(verifications.end(), watched.begin(), watched.end());
            WAVECREST_TRY_ASSIGN(played, load("verify-on-", ".json"));
            verifications.insert(verifications.end(), played.begin(), played.end());
            data cards = data::type::list;
            int passed = 0, all = 0, gone = 0;
            for (const Json& file : verifications) {
                for (const Json& result : file.at("results")) {
                    cards.push_back(verification(result));
                    if (!no_longer_there(result).empty()) {
                        ++gone;
                        continue;
                    }
                    passed += result.at("verdict") != "fail" ? 1 : 0;
                    ++all;
                }
            }
            page["verifications"] = std::move(cards);
            page["verdict_line"] = all == 0 ? "Nothing has been verified yet."
                                   : passed == all
                                       ? fmt::format("All {} tests passed.", all)
                                       : fmt::format("{} of {} tests passed; fixes are listed below.", passed, all);
            if (gone > 0)
                missing.push_back(
                    fmt::format("{} for devices or streams no longer in the site file: marked, and not counted; verify "
                                "again, or delete their result files",
                                base::format_count(static_cast<std::size_t>(gone), "verdict")));
            if (rips.empty()) missing.push_back("no disc was inspected with --out: that section is left out");
            if (conversions.empty()) missing.push_back("no conversion was made with --out: that section is left out");
            if (all == 0) missing.push_back("nothing was verified with --out: there are no verdicts");
            page["has_rips"] = !rips.empty();
            page["has_conversions"] = !conversions.empty();
            page["has_verifications"] = all + gone > 0;
        } catch (const Json::exception& error) {
            return fail(ErrorKind::input,
                        fmt::format("a result file does not have the expected form ({})", error.what()),
                        results_.string(), "run the command that wrote it again");
        }
        kainjow::mustache::mustache templ{std::string(text)};
        if (!templ.is_valid())
            return fail(ErrorKind::input, "the page template is damaged: " + templ.error_message(), "report.mustache",
                        "build the program again");
        return templ.render(page);
    }

    std::vector<std::string> missing;

  private:
    template <typename Make>
    static data list(const std::vector<Json>& objects, Make make) {
        data result = data::type::list;
        for (const Json& object : objects) result.push_back(make(object));
        return result;
    }

    // The JSON results whose names begin and end so, in order of name.
    Result<std::vector<Json>> load(const std::string& prefix, const std::string& suffix) const {
        std::vector<base::Path> files;
        std::error_code error;
        for (const auto& entry : std::filesystem::directory_iterator(results_, error)) {
            const std::string name = entry.path().filename().string();
            if (name.starts_with(prefix) && name.ends_with(suffix) && name.ends_with(".json"))
                files.push_back(entry.path());
        }
        std::sort(files.begin(), files.end());
        std::vector<Json> objects;
        for (const base::Path& file : files) {
            WAVECREST_TRY_ASSIGN(text, base::read_text_file(file, 64 << 20));
            Json object = Json::parse(text, nullptr, false);
            if (!object.is_object())
                return fail(ErrorKind::input, "a result file is no valid JSON", file.string(),
                            "run the command that wrote it again");
            objects.push_back(std::move(object));
        }
        return objects;
    }

    std::string figure(const Json& object) const {
        const std::string name = object.value("figure", "");
        if (name.empty() || name.find('/') != std::string::npos) return "";
        auto file = base::FileSource::open(results_ / name);
        if (!file) return "";
        const auto bytes = base::read_exactly(*file, 0, file->size());
        return bytes ? "data:image/png;base64," + base64(*bytes) : "";
    }

    data devices() const {
        data result = data::type::list;
        for (const site::SiteDevice& d : site_.devices) {
            data row = data::type::object;
            row["name"] = d.device.name;
            row["what"] = d.device.description;
            row["room"] = d.room;
            row["link"] = d.link.name;
            result.push_back(row);
        }
        return result;
    }

    data streams() const {
        data result = data::type::list;
        for (const site::SiteStream& s : site_.streams) {
            data row = data::type::object;
            row["name"] = s.name();
            row["address"] = site_.address_of(s);
            std::string parts;
            for (const stream::Part& part : s.item.parts) parts += (parts.empty() ? "" : ", ") + part.source.name();
            row["file"] = parts.empty() ? "published by RTMP" : parts;
            std::string meant;
            for (const site::SiteDevice& d : site_.devices) {
                if (s.meant_for(d.device.name)) meant += (meant.empty() ? "" : ", ") + d.device.name;
            }
            row["devices"] = meant;
            result.push_back(row);
        }
        return result;
    }

    // What this machine can do.
    static data server(const measure::Capacity& capacity) {
        data result = data::type::object;
        result["host"] = capacity.host;
        result["processor"] = capacity.processor;
        result["processors"] = base::format_count(static_cast<std::size_t>(capacity.processors), "processor");
        result["at"] = capacity.at;
        data live = data::type::list;
        for (const measure::LiveSpeed& one : capacity.live) {
            data row = data::type::object;
            row["source"] = one.source;
            row["profile"] = one.profile;
            row["at_once"] = std::to_string(one.carries());
            live.push_back(std::move(row));
        }
        result["live"] = std::move(live);
        data viewers = data::type::list;
        for (const auto& [what, bps] : {std::pair{"DVD", 8e6}, std::pair{"Blu-ray", 30e6}, std::pair{"4K", 80e6}}) {
            const measure::Viewers most = measure::viewers_at_once(capacity, bps);
            data row = data::type::object;
            row["what"] = fmt::format("{}, {}", what, base::format_bitrate(std::llround(bps)));
            row["count"] = std::to_string(most.count);
            row["limit"] = most.limit;
            viewers.push_back(std::move(row));
        }
        result["viewers"] = std::move(viewers);
        data drives = data::type::list;
        for (const measure::DriveSpeed& one : capacity.drives) {
            if (one.read <= 0) continue;
            data row = data::type::object;
            row["text"] = fmt::format(
                "{} ({}): reads {}/s{}", one.folder, one.mounted,
                base::format_bytes(static_cast<std::uint64_t>(one.read)),
                one.write > 0 ? fmt::format(", writes {}/s", base::format_bytes(static_cast<std::uint64_t>(one.write)))
                              : "");
            drives.push_back(std::move(row));
        }
        result["drives"] = std::move(drives);
        return result;
    }

    data rip(const Json& json) const {
        data row = data::type::object;
        row["name"] = json.at("name").get<std::string>();
        row["size"] = bytes_of(json, "size_bytes");
        row["rate"] =
            fmt::format("average {}, peak {} (1 s)", rate_of(json, "bitrate_bps"), rate_of(json, "peak_1s_bps"));
        data titles = data::type::list;
        for (const Json& title : json.at("titles")) {
            data entry = data::type::object;
            entry["number"] = fmt::format("{}", title.at("number").get<int>());
            entry["length"] = base::format_clock(time_of(title, "duration_s"));
            entry["size"] = bytes_of(title, "size_bytes");
            entry["chapters"] = fmt::format("{}", title.at("chapters").size());
            entry["choice"] = (title.at("main").get<bool>() ? "main: " : "") + title.at("why").get<std::string>();
            entry["is_main"] = title.at("main").get<bool>();
            titles.push_back(entry);
        }
        row["titles"] = std::move(titles);
        row["tracks"] = tracks(json.at("tracks"));
        const std::string picture = figure(json);
        row["has_figure"] = !picture.empty();
        row["figure"] = picture;
        return row;
    }

    static data tracks(const Json& list) {
        data result = data::type::list;
        for (const Json& track : list) {
            data entry = data::type::object;
            const std::string short_name = track.at("codec").get<std::string>();
            const auto codec = media::codec_from_name(short_name);
            std::string text = codec ? std::string(media::display_name(*codec)) : short_name;
            if (track.at("kind") == "video") {
                text += fmt::format(" {}, {}x{}, {}", track.value("profile", ""), track.value("width", 0),
                                    track.value("height", 0), track.value("scan", ""));
            } else {
                if (const std::string layout = track.value("layout", ""); !layout.empty()) text += ", " + layout;
                text += fmt::format(", {}", media::language_name(track.value("language", "")));
            }
            entry["kind"] = track.at("kind").get<std::string>();
            entry["text"] = text;
            result.push_back(entry);
        }
        return result;
    }

    static data conversion(const Json& json) {
        data row = data::type::object;
        const auto before = json.at("source_bytes").get<std::uint64_t>(),
                   after = json.at("size_bytes").get<std::uint64_t>();
        row["name"] = json.value("name", "");
        row["profile"] = json.value("profile", "");
        row["before"] = base::format_bytes(before);
        row["after"] = base::format_bytes(after);
        const double percent = before > 0 ? 100.0 * static_cast<double>(after) / static_cast<double>(before) : 0;
        row["percent"] = fmt::format("{:.0f}", percent);
        row["bar"] = fmt::format("{:.1f}", std::clamp(percent, 0.5, 100.0));
        row["time"] = base::format_span(time_of(json, "elapsed_s"));
        row["speed"] = fmt::format("{:.1f}", json.value("speed", 0.0));
        row["length"] = base::format_clock(time_of(json, "duration_s"));
        row["path"] = json.value("path", "");
        data steps = data::type::list;
        for (const Json& step : json.at("steps")) {
            data entry = data::type::object;
            entry["text"] = step.get<std::string>();
            steps.push_back(entry);
        }
        row["steps"] = std::move(steps);
        data problems = data::type::list;
        for (const Json& problem : json.at("problems")) {
            data entry = data::type::object;
            entry["text"] = fmt::format("{}, from {} to {}", problem.at("what").get<std::string>(),
                                        base::format_clock(time_of(problem, "from_s")),
                                        base::format_clock(time_of(problem, "to_s")));
            problems.push_back(entry);
        }
        row["problems"] = std::move(problems);
        return row;
    }

    // What of a result the site doesn't have any more: "the device", "the stream"; empty when both are there. Addresses
    // verified without a site belong to none.
    std::string no_longer_there(const Json& json) const {
        const auto device = json.at("device").get<std::string>(), stream = json.at("stream").get<std::string>();
        if (base::has_scheme(stream)) return "";
        const auto named = [&](const site::SiteStream& s) {
            return stream == s.name() || stream.starts_with(s.name() + " (");
        };
        if (std::none_of(site_.streams.begin(), site_.streams.end(), named)) return "the stream";
        const bool has_device = std::any_of(site_.devices.begin(), site_.devices.end(),
                                            [&](const site::SiteDevice& d) { return d.device.name == device; });
        return has_device ? "" : "the device";
    }

    // What a device showed on the check page.
    data tested_device(const Json& json) const {
        data row = data::type::object;
        const auto name = json.at("name").get<std::string>();
        const auto here = std::find_if(site_.devices.begin(), site_.devices.end(),
                                       [&](const site::SiteDevice& d) { return d.device.name == name; });
        row["name"] = name;
        row["is_gone"] = here == site_.devices.end();
        row["when"] = json.value("tested", "");
        row["assumed"] = json.value("assumed", "");
        data lines = data::type::list, differences = data::type::list, tried = data::type::list;
        for (const Json& line : json.at("summary")) {
            data entry = data::type::object;
            entry["text"] = line.get<std::string>();
            lines.push_back(entry);
        }
        for (const Json& one : json.at("differences")) {
            data entry = data::type::object;
            for (const char* key : {"what", "assumed", "measured"}) entry[key] = one.value(key, "");
            differences.push_back(entry);
        }
        int played = 0, all = 0;
        for (const Json& one : json.at("device").value("tried", Json::array())) {
            const std::string result = one.value("result", "");
            if (result != "unclear") ++all;
            if (result == "played") ++played;
            data entry = data::type::object;
            for (const char* key : {"what", "result", "seen"}) entry[key] = one.value(key, "");
            entry["mark"] = result == "played" ? "pass" : result == "unclear" ? "warn" : "fail";
            tried.push_back(entry);
        }
        row["lines"] = std::move(lines);
        row["has_differences"] = !json.at("differences").empty();
        row["differences"] = std::move(differences);
        row["count"] = fmt::format("{} of {} clips played", played, all);
        row["tried"] = std::move(tried);
        return row;
    }

    data verification(const Json& json) const {
        data row = data::type::object;
        const std::string gone = no_longer_there(json);
        row["is_gone"] = !gone.empty();
        row["gone"] = gone;
        const std::string verdict = json.at("verdict").get<std::string>();
        row["stream"] = net::without_keys(json.at("stream").get<std::string>());
        row["device"] = json.at("device").get<std::string>();
        row["url"] = net::without_keys(json.value("url", ""));
        row["link"] = json.at("link").value("name", "");
        row["verdict"] = verdict;
        const std::string grounds = json.value("grounds", "computed");
        row["grounds"] = grounds == "watched"   ? "the device itself played, watched from the server"
                         : grounds == "device"  ? "the device itself played, told to over UPnP and asked where it is"
                         : grounds == "browser" ? "really played by a browser of the server"
                                                : "computed";
        const std::string what = json.value("cause", "none");
        row["has_cause"] = what != "none";
        row["cause"] = what;
        row["summary"] = sentence(json.value("summary", ""));
        row["remedy"] = json.value("remedy", "");
        row["has_remedy"] = !json.value("remedy", "").empty();
        row["startup"] = json.at("startup_s").is_number() ? base::format_span(time_of(json, "startup_s")) : "never";
        double stood = 0;
        for (const Json& stall : json.at("stalls")) stood += stall.value("for_s", 0.0);
        row["stalls"] = json.at("stalls").empty() ? "none"
                                                  : fmt::format("{}, {} total", json.at("stalls").size(),
                                                                base::format_span(base::from_seconds(stood)));
        row["mean"] = rate_of(json.at("bitrate"), "mean_bps");
        row["peak"] = rate_of(json.at("bitrate"), "peak_1s_bps");
        data checks = data::type::list;
        for (const Json& check : json.at("checks")) {
            data entry = data::type::object;
            for (const char* key : {"name", "verdict", "measured", "limit", "why"}) entry[key] = check.value(key, "");
            checks.push_back(entry);
        }
        row["checks"] = std::move(checks);
        const std::string picture = figure(json);
        row["has_figure"] = !picture.empty();
        row["figure"] = picture;
        return row;
    }

    const site::Site& site_;
    const measure::Capacity* capacity_;
    base::Path results_;
};

}  // namespace

Result<Written> write(const site::Site& site, const measure::Capacity* capacity, const base::Path& results,
                      const base::Path& into) {
    Page page(site, capacity, results);
    WAVECREST_TRY_ASSIGN(html, page.render());
    Written written{into / "index.html", std::move(page.missing)};
    WAVECREST_TRY(base::write_file(written.page, base::as_bytes(html), base::AtomicFile::IfExists::replace));
    return written;
}

}  // namespace wavecrest::report
