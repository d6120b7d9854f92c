#include "stream/watched.hpp"

#include <algorithm>
#include <nlohmann/json.hpp>

#include "base/printable.hpp"
#include "net/http_client.hpp"
#include "stream/control.hpp"

namespace wavecrest::stream {

using Json = nlohmann::json;

Watched watched_in(const std::string& status) {
    Watched watched;
    const Json json = Json::parse(status, nullptr, false);
    const auto number = [](const Json& object, const char* key) {
        const auto found = object.find(key);
        return found != object.end() && found->is_number() ? found->get<double>() : 0.0;
    };
    const auto each = [&](const char* key, const auto& look) {
        if (!json.is_object() || !json.contains(key) || !json[key].is_array()) return;
        for (const Json& one : json[key]) {
            if (one.is_object()) look(one);
        }
    };
    each("viewers", [&](const Json& viewer) {
        watched.anybody = true;
        watched.troubles += static_cast<std::int64_t>(number(viewer, "skipped"));
    });
    each("streams", [&](const Json& stream) {
        // What is sent by UDP has no viewers that are known.
        watched.anybody = watched.anybody || (number(stream, "datagrams") > 0 && number(stream, "rate_bps") > 0);
        watched.troubles += static_cast<std::int64_t>(number(stream, "stalls"));
    });
    if (json.is_object()) watched.late_s = number(json, "late_99_s");
    return watched;
}

Watched watched() {
    Watched all;
    const auto token = control_token();
    if (!token) return all;
    for (const Run& run : running()) {
        net::Url url;
        url.host = "127.0.0.1";
        url.port = run.port;
        url.target = "/control/status";
        net::HttpExchange request;
        request.method = "GET";
        request.token = *token;
        const auto answered = net::HttpClient::exchange(url, request);
        if (!answered || answered->status != 200) continue;
        const Watched one = watched_in(answered->body);
        all.anybody = all.anybody || one.anybody;
        all.troubles += one.troubles;
        all.late_s = std::max(all.late_s, one.late_s);
    }
    return all;
}

namespace {

// 0 for what is no number, or negative.
double number_in(const Json& object, const char* key) {
    const auto found = object.find(key);
    return found != object.end() && found->is_number() ? std::max(found->get<double>(), 0.0) : 0;
}
Time time_in(const Json& object, const char* key) {
    const double seconds = number_in(object, key);
    return seconds < 1e7 ? base::from_seconds(seconds) : Time{};
}
std::string text_in(const Json& object, const char* key) {
    const auto found = object.find(key);
    return found != object.end() && found->is_string() ? base::printable(found->get<std::string>()) : "";
}

}  // namespace

std::vector<measure::Viewing> viewings_in(const std::string& answer) {
    std::vector<measure::Viewing> all;
    const Json json = Json::parse(answer, nullptr, false);
    if (!json.is_object() || !json.contains("viewings") || !json["viewings"].is_array()) return all;
    for (const Json& one : json["viewings"]) {
        if (!one.is_object()) continue;
        measure::Viewing viewing;
        viewing.stream = text_in(one, "stream");
        viewing.address = text_in(one, "address");
        viewing.agent = text_in(one, "agent");
        viewing.hls = text_in(one, "delivery") == "hls";
        viewing.live = text_in(one, "delivery") == "live";
        viewing.most_lag = time_in(one, "most_lag_s");
        viewing.skips = static_cast<std::uint64_t>(std::min(number_in(one, "skipped"), 1e9));
        viewing.ended = text_in(one, "state") != "playing";
        viewing.began = time_in(one, "began_s");
        viewing.last = time_in(one, "last_s");
        if (one.contains("startup_s") && one["startup_s"].is_number()) viewing.startup = time_in(one, "startup_s");
        viewing.position = time_in(one, "position_s");
        viewing.arrived = time_in(one, "arrived_s");
        viewing.duration = time_in(one, "duration_s");
        viewing.most_buffered = time_in(one, "most_buffered_s");
        viewing.held_back = one.contains("held_back") && one["held_back"] == true;
        viewing.seeks = static_cast<int>(std::min(number_in(one, "seeks"), 1e6));
        if (one.contains("stalls") && one["stalls"].is_array()) {
            for (const Json& stall : one["stalls"]) {
                if (stall.is_object())
                    viewing.stalls.push_back(
                        {time_in(stall, "at_s"), time_in(stall, "for_s"), time_in(stall, "clock_s")});
            }
        }
        all.push_back(std::move(viewing));
    }
    return all;
}

Result<std::vector<measure::Viewing>> viewings_at(std::uint16_t port) {
    WAVECREST_TRY_ASSIGN(token, control_token());
    net::Url url;
    url.host = "127.0.0.1";
    url.port = port;
    url.target = "/control/viewings";
    net::HttpExchange request;
    request.token = token;
    WAVECREST_TRY_ASSIGN(answered, net::HttpClient::exchange(url, request));
    if (answered.status != 200)
        return fail(ErrorKind::wanting, "the running streams don't tell how their viewers fare", url.text(),
                    "start them anew with this version: wavecrest stream run");
    return viewings_in(answered.body);
}

}  // namespace wavecrest::stream
