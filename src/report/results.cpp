#include "report/results.hpp"

#include <cmath>

#include "base/units.hpp"
#include "net/guess_limiter.hpp"

namespace wavecrest::report {
namespace {

double rounded(double value) {
    return std::round(value * 1000) / 1000;
}

}  // namespace

Json to_json(const verify::Verification& v) {
    auto stalls = Json::array(), seeks = Json::array(), checks = Json::array();
    for (const measure::Stall& stall : v.stalls)
        stalls.push_back(
            {{"at_s", rounded(base::to_seconds(stall.at))}, {"for_s", rounded(base::to_seconds(stall.length))}});
    for (const verify::SeekOrder& seek : v.seeks) {
        seeks.push_back({{"to_s", rounded(base::to_seconds(seek.to))},
                         {"landed_s", rounded(base::to_seconds(seek.landed))},
                         {"first_picture_s", rounded(base::to_seconds(seek.first_picture))}});
    }
    for (const device::Check& c : v.checks)
        checks.push_back({{"name", c.name},
                          {"verdict", device::short_name(c.verdict)},
                          {"measured", c.measured},
                          {"limit", c.limit},
                          {"why", c.why}});
    Json json = {{"stream", net::without_keys(v.stream)},
                 {"device", v.device},
                 {"url", net::without_keys(v.address)},
                 {"link", {{"name", v.link.name}, {"payload_bps", v.link.payload_bps}}},
                 {"verdict", device::short_name(v.verdict)},
                 {"cause", verify::short_name(v.cause)},
                 {"summary", net::without_keys(v.summary)},
                 {"remedy", net::without_keys(v.remedy)},
                 {"duration_s", rounded(base::to_seconds(v.duration))}};
    if (v.started) {
        json["startup_s"] = rounded(base::to_seconds(v.startup));
    } else {
        json["startup_s"] = nullptr;
    }
    json["grounds"] = v.grounds;
    if (!v.browser.empty()) json["browser"] = v.browser;
    if (const auto room = verify::headroom(v)) {
        json["headroom"] = std::round(*room * 100) / 100;
        json["slowest_link_bps"] = *v.slowest_link_bps;
    } else {
        json["headroom"] = nullptr;
    }
    json["stalls"] = stalls;
    json["bitrate"] = {{"mean_bps", v.mean_bps}, {"peak_1s_bps", v.peak_1s_bps}};
    json["seeks"] = seeks;
    json["checks"] = checks;
    if (!v.stills.empty()) {
        auto stills = Json::array();
        for (const base::Path& file : v.stills) stills.push_back(file.string());
        json["stills"] = stills;
    }
    if (v.rungs.empty()) return json;
    auto rungs = Json::array(), changes = Json::array(), link = Json::array();
    for (const verify::RungUse& one : v.rungs)
        rungs.push_back({{"name", one.name},
                         {"width", one.width},
                         {"height", one.height},
                         {"peak_bps", one.peak_bps},
                         {"average_bps", one.mean_bps},
                         {"played_s", rounded(base::to_seconds(one.played))}});
    for (const verify::RungChange& one : v.changes)
        changes.push_back({{"at_s", rounded(base::to_seconds(one.clock))},
                           {"position_s", rounded(base::to_seconds(one.position))},
                           {"from", v.rungs[one.from].name},
                           {"to", v.rungs[one.to].name},
                           {"peak_bps", v.rungs[one.to].peak_bps},
                           {"why", one.why}});
    for (const auto& [at, rate] : v.link_rates)
        link.push_back({{"at_s", rounded(base::to_seconds(at))}, {"bps", rate}});
    json["rungs"] = rungs;
    json["changes"] = changes;
    if (!link.empty()) json["link_rates"] = link;
    return json;
}

Json to_json(const site::BestDelivery& best) {
    return {{"stream", best.stream},
            {"device", best.device},
            {"delivery", best.delivery},
            {"url", net::without_keys(best.address)},
            {"why", net::without_keys(best.why)}};
}

Json to_json(const std::vector<convert::TrackPlan>& tracks) {
    auto json = Json::array();
    for (const convert::TrackPlan& track : tracks) {
        Json entry = {{"kind", media::short_name(track.from.kind)},
                      {"codec", media::short_name(track.from.codec)},
                      {"action", transcode::short_name(track.action)},
                      {"why", track.why}};
        if (!track.from.language.empty()) entry["language"] = track.from.language;
        json.push_back(std::move(entry));
    }
    return json;
}

namespace {

// What becomes of the title in one of the files.
std::vector<std::string> steps_of(const convert::Plan& plan, std::size_t file) {
    std::vector<std::string> steps = plan.outputs[file].steps;
    steps.insert(steps.end(), plan.steps.begin(), plan.steps.end());
    return steps;
}

}  // namespace

Json to_json(const convert::Plan& plan) {
    Json files = Json::array();
    for (std::size_t i = 0; i < plan.targets.size(); ++i)
        files.push_back({{"path", plan.targets[i].place},
                         {"profile", plan.outputs[i].profile},
                         {"container", plan.outputs[i].container},
                         {"steps", plan.outputs[i].steps}});
    return {{"target", plan.place().string()},
            {"title", plan.title},
            {"profile", plan.outputs.front().profile},
            {"files", files},
            {"duration_s", rounded(base::to_seconds(plan.duration))},
            {"source_bytes", plan.source_bytes},
            {"steps", steps_of(plan, 0)},
            {"tracks", to_json(plan.tracks)},
            {"warnings", plan.warnings}};
}

Json to_json(const measure::PictureQuality& quality) {
    return {{"frames", quality.pictures},
            {"ssim", rounded(quality.ssim)},
            {"psnr_db", rounded(quality.psnr_db)},
            {"worst_second",
             {{"at_s", rounded(base::to_seconds(quality.worst_at))}, {"ssim", rounded(quality.worst_ssim)}}},
            {"text", measure::in_words(quality)}};
}

namespace {

Json range_of(const convert::Range& range) {
    return {{"low", rounded(range.low)}, {"likely", rounded(range.likely)}, {"high", rounded(range.high)}};
}

}  // namespace

Json to_json(const convert::Weighing& weighing) {
    Json json = {{"duration_s", rounded(base::to_seconds(weighing.duration))},
                 {"sampled_s", rounded(base::to_seconds(weighing.sampled))},
                 {"samples", weighing.samples},
                 {"compared_at", {{"width", weighing.width}, {"height", weighing.height}}},
                 {"profiles", Json::array()}};
    for (const convert::Weighed& one : weighing.profiles) {
        Json entry = {{"profile", one.profile}, {"size_bytes", range_of(one.bytes)}};
        if (one.seconds.high > 0) entry["time_s"] = range_of(one.seconds);
        entry["video_kept"] = one.kept;
        if (!one.kept) entry["quality"] = to_json(one.quality);
        entry["devices"] = Json::array();
        for (const convert::Weighed::Fit& fit : one.devices) {
            Json device = {{"device", fit.device}, {"verdict", device::short_name(fit.verdict)}};
            if (!fit.why.empty()) device["why"] = fit.why;
            entry["devices"].push_back(std::move(device));
        }
        json["profiles"].push_back(std::move(entry));
    }
    return json;
}

namespace {

// What converting and remuxing have in common.
void add_outcome(Json& json, const convert::Outcome& outcome) {
    json["title"] = outcome.title;
    json["duration_s"] = rounded(base::to_seconds(outcome.duration));
    json["frames"] = outcome.pictures;
    json["size_bytes"] = outcome.size_bytes;
    json["source_bytes"] = outcome.source_bytes;
    json["elapsed_s"] = rounded(base::to_seconds(outcome.elapsed));
    if (outcome.kept.count() > 0) json["kept_s"] = rounded(base::to_seconds(outcome.kept));
    json["speed"] = rounded(outcome.speed());
}

}  // namespace

Json to_json(const convert::Plan& plan, const convert::Outcome& outcome, std::size_t file, const std::string& source) {
    Json json = {{"path", outcome.files[file].path.string()},
                 {"name", plan.name.full()},
                 {"source", source},
                 {"profile", plan.outputs[file].profile},
                 {"container", plan.outputs[file].container}};
    add_outcome(json, outcome);
    if (!outcome.playlist.empty()) json["ladder"] = outcome.playlist.string();
    json["size_bytes"] = outcome.files[file].bytes;
    json["steps"] = steps_of(plan, file);
    json["tracks"] = to_json(plan.tracks);
    json["subtitles_burned_in"] = outcome.subtitles;
    json["problems"] = to_json(outcome.problems);
    json["lost_s"] = rounded(base::to_seconds(outcome.loss.total));
    if (outcome.quality && file == 0) json["quality"] = to_json(*outcome.quality);
    return json;
}

Json to_json(const convert::RemuxPlan& plan) {
    return {{"path", plan.place}, {"title", plan.title}, {"tracks", to_json(plan.tracks)}, {"warnings", plan.warnings}};
}

Json to_json(const convert::RemuxPlan& plan, const convert::Outcome& outcome, const std::string& source) {
    Json json = {{"path", outcome.path().string()}, {"source", source}, {"container", plan.format}};
    add_outcome(json, outcome);
    json["tracks"] = to_json(plan.tracks);
    json["problems"] = to_json(outcome.problems);
    json["lost_s"] = rounded(base::to_seconds(outcome.loss.total));
    return json;
}

Json to_json(const job::Record& record) {
    Json json = {{"job", record.id},
                 {"state", job::short_name(record.state)},
                 {"source", record.job.source},
                 {"name", job::name_of(record.job)},
                 {"into", record.job.selection.into.string()},
                 {"for", job::made_by(record.job)},
                 {"added", record.added},
                 {"started", record.started},
                 {"ended", record.ended},
                 {"tries", record.tries},
                 {"digest", record.digest}};
    if (record.state == job::State::running) json["progress"] = record.progress;
    if (record.next_try > 0) json["next_try"] = record.next_try;
    if (record.error)
        json["error"] = {
            {"what", record.error->what}, {"where", record.error->where}, {"remedy", record.error->remedy}};
    if (const Json result = Json::parse(record.result, nullptr, false); result.is_object()) json["result"] = result;
    return json;
}

Json to_json(const job::Price& price) {
    Json json;
    json["sources"] = Json::array();
    for (const job::Priced& one : price.items) {
        Json item = {{"source", one.source}, {"name", one.name}, {"action", job::short_name(one.action)}};
        if (one.action == job::Priced::Action::convert) {
            item["titles"] = one.titles;
            item["duration_s"] = rounded(base::to_seconds(one.duration));
            item["source_bytes"] = one.source_bytes;
            item["estimate"] = {{"size_bytes", static_cast<std::uint64_t>(one.bytes)},
                                {"time_s", rounded(base::to_seconds(one.time))}};
            if (price.most) item["estimate"]["is_most"] = true;
            if (one.unbounded) item["estimate"]["size_bytes"] = nullptr;
        } else {
            item["reason"] = one.reason;
        }
        json["sources"].push_back(std::move(item));
    }
    json["total"] = {{"convert", price.converted},
                     {"not_converted", price.items.size() - price.converted},
                     {"titles_sampled", price.sampled},
                     {"source_bytes", price.source_bytes},
                     {"size_bytes", static_cast<std::uint64_t>(price.bytes)},
                     {"time_s", rounded(base::to_seconds(price.time))}};
    return json;
}

Json to_json(const convert::FileDecision& file, const std::string& path) {
    const auto objections = [](const std::vector<convert::Objection>& all) {
        Json list = Json::array();
        for (const convert::Objection& one : all)
            list.push_back({{"device", one.device},
                            {"check", one.check.name},
                            {"measured", one.check.measured},
                            {"supported", one.check.limit}});
        return list;
    };
    Json json = {{"devices", file.devices}, {"action", convert::short_name(file.kind)}};
    if (!path.empty()) json["path"] = path;
    if (file.kind != convert::FileDecision::Kind::as_it_is) json["container"] = file.profile.container;
    json["container_objections"] = objections(file.container);
    json["tracks"] = Json::array();
    for (const convert::TrackDecision& track : file.tracks)
        json["tracks"].push_back({{"track", to_json(track.track)},
                                  {"action", transcode::short_name(track.action)},
                                  {"objections", objections(track.objections)},
                                  {"reason", convert::reason_of(track)}});
    json["warnings"] = file.warnings;
    return json;
}

Json to_json(const convert::Estimate& cost) {
    Json json = {{"size_bytes", cost.size_bytes},
                 {"file_bytes", cost.file_bytes},
                 {"time_s", rounded(base::to_seconds(cost.time))},
                 {"sampled_s", rounded(base::to_seconds(cost.sampled))}};
    if (cost.sampled.count() == 0) json["is_most"] = true;
    if (cost.quality) json["quality"] = to_json(*cost.quality);
    return json;
}

Json to_json(const measure::DeepReport& deep) {
    const auto seconds = [](Time time) { return std::round(base::to_seconds(time) * 1000) / 1000; };
    const auto tenth = [](double value) {
        return std::isfinite(value) ? Json(std::round(value * 10) / 10) : Json(nullptr);
    };
    Json json = {{"summary", measure::in_words(deep)},
                 {"duration_s", seconds(deep.duration)},
                 {"bitrate_bps", deep.rate.mean_bps(deep.duration)},
                 {"peak_1s_bps", deep.rate.peak(10).bps},
                 {"peak_10s_bps", deep.rate.peak(100).bps},
                 {"interleave_s", seconds(deep.interleave)}};
    if (deep.borders) {
        json["borders"] = {{"left", deep.borders->left},
                           {"right", deep.borders->right},
                           {"top", deep.borders->top},
                           {"bottom", deep.borders->bottom}};
    }
    json["tracks"] = Json::array();
    for (const measure::TrackMeasure& m : deep.tracks) {
        Json entry = {{"id", m.track.id},
                      {"kind", media::short_name(m.track.kind)},
                      {"packets", m.packets},
                      {"bytes", m.bytes},
                      {"start_s", seconds(m.first)},
                      {"end_s", seconds(m.end)},
                      {"bitrate_bps", m.rate.mean_bps(m.end)},
                      {"peak_1s_bps", m.rate.peak(10).bps},
                      {"peak_10s_bps", m.rate.peak(100).bps},
                      {"gaps", m.gap_count}};
        if (m.track.kind == TrackKind::video) {
            entry["keyframes"] = {{"count", m.keyframes.size()},
                                  {"shortest_s", seconds(m.shortest_group)},
                                  {"mean_s", seconds(m.mean_group)},
                                  {"longest_s", seconds(m.longest_group)},
                                  {"longest_at_s", seconds(m.longest_group_at)}};
            entry["reference_frames"] = m.track.reference_frames;
            if (!m.needed_level.empty()) entry["level_needed"] = m.needed_level;
            if (!m.cadence.empty()) entry["cadence"] = m.cadence;
            if (m.buffer) {
                entry["buffer"] = {{"rate_bps", m.buffer->rate_bps},
                                   {"size_bits", m.buffer->size_bits},
                                   {"declared", m.buffer->claimed},
                                   {"used_bits", m.buffer->needed_bits},
                                   {"minimum_fill_bits", m.buffer->lowest_bits},
                                   {"late_frames", m.buffer->missed}};
            }
        }
        if (m.loudness) {
            entry["loudness"] = {{"integrated_lufs", tenth(m.loudness->integrated)},
                                 {"range_lu", tenth(m.loudness->range)},
                                 {"true_peak_dbtp", tenth(m.loudness->true_peak)},
                                 {"share", std::round(m.loudness->share * 1000) / 1000}};
        } else if (!m.not_decoded.empty()) {
            entry["not_decoded"] = m.not_decoded;
        }
        json["tracks"].push_back(std::move(entry));
    }
    json["problems"] = to_json(deep.problems);
    json["work_s"] = {{"structure", std::round(deep.structure_seconds * 1000) / 1000},
                      {"decoding", std::round(deep.decoding_seconds * 1000) / 1000}};
    return json;
}

Json to_json(const measure::TransportReport& report) {
    const auto seconds = [](Time time) { return std::round(base::to_seconds(time) * 1e6) / 1e6; };
    Json json = {{"packets", report.packets},
                 {"null_packets", report.null_packets},
                 {"transport_errors", report.marked_bad},
                 {"discontinuities", report.discontinuities},
                 {"repeated", report.repeated},
                 {"pcr_interval_s", seconds(report.clock_interval)},
                 {"pcr_discontinuities", report.clock_jumps},
                 {"psi_interval_s", seconds(report.table_interval)},
                 {"bitrate_bps", report.mean_bps},
                 {"summary", measure::in_words(report)}};
    json["streams"] = Json::array();
    for (const measure::TransportStreamMeasure& stream : report.streams) {
        json["streams"].push_back({{"pid", stream.pid},
                                   {"packets", stream.packets},
                                   {"late", stream.late},
                                   {"latest_s", seconds(stream.latest)},
                                   {"earliest_s", seconds(stream.earliest)},
                                   {"held_bytes", stream.held_bytes},
                                   {"transport_buffer_overflows", stream.overflows}});
    }
    return json;
}

Json to_json(const trial::FinishedTest& done, const device::Device& measured, const device::Device& before,
             const std::string& file) {
    auto differences = Json::array();
    for (const device::Difference& row : device::compare(before, measured))
        differences.push_back({{"what", row.what}, {"assumed", row.first}, {"measured", row.second}});
    return {{"name", done.name},
            {"address", done.address},
            {"browser", done.agent},
            {"tested", done.course.taken().empty() ? "" : done.course.taken().back().when},
            {"file", file},
            {"assumed", before.name},
            {"differences", differences},
            {"summary", done.course.summary()},
            {"device", to_json(measured)}};
}

Json to_json(const stream::StreamServer& server, const stream::StreamServerStatus& status) {
    auto streams = Json::array(), live = Json::array();
    for (const stream::ReadyStream& s : server.on_demand())
        streams.push_back({{"name", s.name},
                           {"path", s.path},
                           {"duration_s", base::to_seconds(s.duration)},
                           {"size_bytes", s.size_bytes},
                           {"bitrate_bps", s.bitrate_bps}});
    for (const stream::StreamStatus& s : status.streams) {
        if (!s.live || (s.published && s.status.parts == 0)) continue;
        live.push_back({{"name", s.name},
                        {"position_s", base::to_seconds(s.status.position)},
                        {"loops", s.status.rounds},
                        {"datagrams", s.status.datagrams},
                        {"bytes", s.status.bytes},
                        {"refused", s.status.refused},
                        {"stalls", s.status.stalls},
                        {"ended", s.status.ended}});
    }
    return {{"streams", streams},
            {"port", server.http_port()},
            {"live",
             {{"streams", live},
              {"late_99_s", base::to_seconds(status.late_99)},
              {"latest_s", base::to_seconds(status.latest)},
              {"real_time_scheduling", status.real_time}}},
            {"uptime_s", base::to_seconds(status.uptime)},
            {"sent_bytes", status.sent},
            {"requests", status.requests}};
}

Json to_json(const site::Site& site, const std::vector<site::Finding>& findings) {
    auto list = Json::array();
    int errors = 0;
    for (const site::Finding& finding : findings) {
        const bool is_error = finding.severity == site::Finding::Severity::error;
        errors += is_error ? 1 : 0;
        list.push_back({{"severity", is_error ? "error" : "warning"},
                        {"what", finding.about.what},
                        {"where", finding.about.where},
                        {"remedy", finding.about.remedy}});
    }
    return {{"site", site.file.string()}, {"house", site.house}, {"errors", errors}, {"findings", list}};
}

Json addresses_to_json(const site::Site& site) {
    auto list = Json::array();
    for (const site::SiteDevice& d : site.devices) {
        for (const site::SiteStream& s : site.streams) {
            if (!s.meant_for(d.device.name)) continue;
            for (const stream::StreamAddress& one : site.addresses_for(s, d))
                list.push_back({{"device", d.device.name},
                                {"room", d.room},
                                {"player", d.player},
                                {"device_address", d.address},
                                {"stream", s.name()},
                                {"delivery", one.delivery},
                                {"url", one.address}});
        }
    }
    return {{"house", site.house}, {"addresses", list}};
}

}  // namespace wavecrest::report
