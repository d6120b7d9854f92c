#include "stream/watched.hpp"

#include <algorithm>
#include <nlohmann/json.hpp>

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

}  // namespace wavecrest::stream
