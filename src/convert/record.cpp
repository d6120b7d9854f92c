#include "convert/record.hpp"

#include <fmt/chrono.h>

#include <ctime>
#include <nlohmann/json.hpp>

#include "base/atomic_file.hpp"
#include "base/units.hpp"

namespace wavecrest::convert {

using Json = nlohmann::ordered_json;

base::Path record_path(const base::Path& file) {
    base::Path path = file;
    path += ".record.json";
    return path;
}

Status write_record(const Plan& plan, const Outcome& outcome, std::size_t file, const std::string& digest,
                    const std::string& key) {
    const Outcome::File& made = outcome.files.at(file);
    Json json = {
        {"file", made.path.filename().string()},
        {"made_at", fmt::format("{:%Y-%m-%dT%H:%M:%SZ}", fmt::gmtime(std::time(nullptr)))},
        {"size_bytes", made.bytes},
        {"duration_s", base::to_seconds(outcome.duration)},
        {"source",
         {{"path", plan.source}, {"title", plan.title}, {"digest", digest}, {"size_bytes", plan.source_bytes}}},
        {"profile", plan.outputs[file].profile},
        {"tracks", Json::array()},
        {"steps", plan.outputs[file].steps},
        {"elapsed_s", base::to_seconds(outcome.elapsed)},
        {"problems", Json::array()},
        {"made_as", key}};
    for (const std::string& step : plan.steps) json["steps"].push_back(step);
    for (const TrackPlan& track : plan.tracks)
        json["tracks"].push_back({{"kind", media::short_name(track.from.kind)},
                                  {"codec", media::short_name(track.from.codec)},
                                  {"language", track.from.language},
                                  {"action", transcode::short_name(track.action)},
                                  {"why", track.why}});
    for (const Problem& problem : outcome.problems)
        json["problems"].push_back({{"what", problem.what},
                                    {"from_s", base::to_seconds(problem.from)},
                                    {"to_s", base::to_seconds(problem.to)}});
    if (outcome.quality && file == 0)
        json["quality"] = {{"ssim", outcome.quality->ssim}, {"psnr_db", outcome.quality->psnr_db}};
    // (What a disc calls itself need not be UTF-8.)
    const std::string text = json.dump(2, ' ', false, Json::error_handler_t::replace) + "\n";
    return base::write_file(record_path(made.path), base::as_bytes(text), base::AtomicFile::IfExists::replace);
}

bool is_recorded(const base::Path& file, const std::string& digest, const std::string& key) {
    const auto text = base::read_text_file(record_path(file));
    std::error_code error;
    const auto size = std::filesystem::file_size(file, error);
    return text && !error && matches_record(*text, size, digest, key);
}

bool matches_record(const std::string& record, std::uint64_t size, const std::string& digest, const std::string& key) {
    if (digest.empty()) return false;
    const Json json = Json::parse(record, nullptr, false);
    if (!json.is_object() || !json.contains("source") || !json["source"].is_object()) return false;
    const auto told = [](const Json& object, const char* member) {
        const auto found = object.find(member);
        return found != object.end() && found->is_string() ? found->get<std::string>() : std::string();
    };
    const auto recorded = json.find("size_bytes");
    return recorded != json.end() && recorded->is_number_unsigned() && recorded->get<std::uint64_t>() == size &&
           told(json["source"], "digest") == digest && told(json, "made_as") == key;
}

}  // namespace wavecrest::convert
