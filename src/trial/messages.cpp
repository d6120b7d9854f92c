#include "trial/messages.hpp"

#include <algorithm>
#include <cmath>
#include <nlohmann/json.hpp>

#include "base/printable.hpp"

namespace wavecrest::trial {
namespace {

using Json = nlohmann::json;

constexpr std::size_t kMostText = 200, kMostList = 1500, kMostChannels = 8, kMostClaims = 100;
constexpr double kMostSeconds = 3600;

std::string dump(const Json& json) {
    return json.dump(-1, ' ', false, Json::error_handler_t::replace);
}

std::string text(const Json& json, const char* key) {
    const auto found = json.find(key);
    if (found == json.end() || !found->is_string()) return "";
    return base::printable(found->get_ref<const std::string&>().substr(0, kMostText));
}

double number_of(const Json& value, double low, double high, double fallback) {
    if (!value.is_number()) return fallback;
    const double number = value.get<double>();
    return std::isfinite(number) && number >= low && number <= high ? number : fallback;
}
double number(const Json& json, const char* key, double low, double high, double fallback) {
    const auto found = json.find(key);
    return found == json.end() ? fallback : number_of(*found, low, high, fallback);
}
std::int64_t whole(const Json& json, const char* key, double high) {
    return static_cast<std::int64_t>(number(json, key, -1, high, -1));
}

bool flag(const Json& json, const char* key) {
    const auto found = json.find(key);
    return found != json.end() && found->is_boolean() && found->get<bool>();
}

const Json& list(const Json& json, const char* key) {
    static const Json none = Json::array();
    const auto found = json.find(key);
    return found != json.end() && found->is_array() ? *found : none;
}
// Each element of a list that is a list of at least so many itself.
template <typename Act>
void each(const Json& json, const char* key, std::size_t size, std::size_t most, Act act) {
    std::size_t count = 0;
    for (const Json& one : list(json, key)) {
        if (++count > most) return;
        if (one.is_array() && one.size() >= size) act(one);
    }
}

bool is_word(const std::string& word, std::initializer_list<const char*> words) {
    return std::any_of(words.begin(), words.end(), [&](const char* one) { return word == one; });
}

Seen seen_of(const Json& json) {
    Seen seen;
    if (!json.is_object()) return seen;
    const std::string says = text(json, "says");
    if (is_word(says, {"probably", "maybe", "no"})) seen.says = says;
    const auto capabilities = json.find("capabilities");
    if (capabilities != json.end() && capabilities->is_object())
        seen.capabilities = {flag(*capabilities, "supported"), flag(*capabilities, "smooth"),
                             flag(*capabilities, "powerEfficient")};
    seen.error = text(json, "error");
    seen.started = flag(json, "started");
    seen.startup_s = number(json, "startup_s", 0, kMostSeconds, 0);
    seen.played_s = number(json, "played_s", 0, kMostSeconds, 0);
    seen.wall_s = number(json, "wall_s", 0, kMostSeconds, 0);
    seen.waits = static_cast<int>(number(json, "waits", 0, 1e6, 0));
    seen.waited_s = number(json, "waited_s", 0, kMostSeconds, 0);
    seen.frames = whole(json, "frames", 1e7);
    seen.dropped = whole(json, "dropped", 1e7);
    seen.presented = whole(json, "presented", 1e7);
    seen.width = static_cast<int>(number(json, "width", 0, 65535, 0));
    seen.height = static_cast<int>(number(json, "height", 0, 65535, 0));
    seen.combing = static_cast<int>(number(json, "combing", 0, 255, -1));
    seen.audio_bytes = whole(json, "audio_bytes", 1e12);
    for (const Json& level : list(json, "levels")) {
        if (seen.levels.size() < kMostChannels) seen.levels.push_back(number_of(level, 0, 1, 0));
    }
    each(json, "marks", 2, kMostList, [&](const Json& one) {
        seen.marks.push_back(
            {number_of(one[0], 0, kMostSeconds, 0), static_cast<int>(number_of(one[1], -1, 65535, -1))});
    });
    each(json, "seeks", 4, 20, [&](const Json& one) {
        seen.seeks.push_back({number_of(one[0], 0, kMostSeconds, 0), number_of(one[1], -1, kMostSeconds, -1),
                              number_of(one[2], 0, kMostSeconds, 0),
                              static_cast<int>(number_of(one[3], -1, 65535, -1))});
    });
    for (const Json& beep : list(json, "beeps")) {
        if (seen.beeps.size() < 100) seen.beeps.push_back(number_of(beep, -10, kMostSeconds, -10));
    }
    each(json, "downloaded", 2, 200, [&](const Json& one) {
        const double at = number_of(one[0], 0, kMostSeconds, -1), bytes = number_of(one[1], 0, 1e12, -1);
        const bool goes_on =
            seen.downloaded.empty() || (at > seen.downloaded.back().first && bytes >= seen.downloaded.back().second);
        if (at >= 0 && bytes >= 0 && goes_on) seen.downloaded.emplace_back(at, bytes);
    });
    seen.display_hz = number(json, "display_hz", 10, 1000, 0);
    seen.display_width = static_cast<int>(number(json, "display_width", 0, 65535, 0));
    seen.display_height = static_cast<int>(number(json, "display_height", 0, 65535, 0));
    seen.display_hdr = flag(json, "display_hdr");
    each(json, "claims", 2, kMostClaims, [&](const Json& one) {
        if (!one[0].is_string() || !one[1].is_string()) return;
        const std::string said = one[1].get<std::string>();
        if (is_word(said, {"probably", "maybe", "no"}))
            seen.claims.emplace_back(base::printable(one[0].get<std::string>().substr(0, kMostText)), said);
    });
    seen.answer = text(json, "answer");
    return seen;
}

Json json_of(const Seen& seen) {
    Json json = {{"says", seen.says},
                 {"error", seen.error},
                 {"started", seen.started},
                 {"startup_s", seen.startup_s},
                 {"played_s", seen.played_s},
                 {"wall_s", seen.wall_s},
                 {"waits", seen.waits},
                 {"waited_s", seen.waited_s},
                 {"frames", seen.frames},
                 {"dropped", seen.dropped},
                 {"presented", seen.presented},
                 {"width", seen.width},
                 {"height", seen.height},
                 {"combing", seen.combing},
                 {"audio_bytes", seen.audio_bytes},
                 {"levels", seen.levels},
                 {"beeps", seen.beeps},
                 {"downloaded", seen.downloaded},
                 {"display_hz", seen.display_hz},
                 {"display_width", seen.display_width},
                 {"display_height", seen.display_height},
                 {"display_hdr", seen.display_hdr},
                 {"claims", seen.claims},
                 {"answer", seen.answer}};
    if (seen.capabilities)
        json["capabilities"] = {{"supported", seen.capabilities->supported},
                                {"smooth", seen.capabilities->smooth},
                                {"powerEfficient", seen.capabilities->power_efficient}};
    auto marks = Json::array(), seeks = Json::array();
    for (const Seen::Mark& mark : seen.marks) marks.push_back({mark.at_s, mark.frame});
    for (const Seen::Seek& seek : seen.seeks) seeks.push_back({seek.to_s, seek.took_s, seek.landed_s, seek.frame});
    json["marks"] = std::move(marks);
    json["seeks"] = std::move(seeks);
    return json;
}

// What is named to the browser of a clip whose bit rate is whatever its card needs: a tenth of a bit for each pixel.
std::int64_t usual_bitrate(const sample::ClipVideo& video) {
    if (video.bitrate_bps > 0) return video.bitrate_bps;
    return static_cast<std::int64_t>(0.1 * video.size.width * video.size.height * video.frame_rate.value());
}

const char* name_of(Step::Kind kind) {
    using Kind = Step::Kind;
    switch (kind) {
        case Kind::display:
            return "display";
        case Kind::download:
            return "download";
        case Kind::claims:
            return "claims";
        case Kind::motion:
            return "motion";
        case Kind::seek:
            return "seek";
        case Kind::sync:
            return "sync";
        case Kind::question:
            return "question";
        default:
            return "play";
    }
}

// (Deep nesting would be walked by recursion when it is taken apart.)
Json parsed(std::string_view text) {
    constexpr int kDeepest = 6;
    bool too_deep = false;
    Json json = Json::parse(
        text,
        [&](int depth, Json::parse_event_t, Json&) {
            too_deep = too_deep || depth > kDeepest;
            return !too_deep;
        },
        false);
    return too_deep || !json.is_object() ? Json::object() : json;
}

}  // namespace

Message parse_message(std::string_view body) {
    const Json json = parsed(body);
    Message message;
    const std::string session = text(json, "session");
    if (session.size() == 32 && session.find_first_not_of("0123456789abcdef") == std::string::npos)
        message.session = session;
    message.step = text(json, "step");
    message.name = text(json, "name");
    if (const auto seen = json.find("seen"); seen != json.end()) message.seen = seen_of(*seen);
    return message;
}

std::string seen_text(const Seen& seen) {
    return dump(json_of(seen));
}

Seen parse_seen(std::string_view body) {
    return seen_of(parsed(body));
}

std::string step_text(const Step& step, const Telling& telling) {
    Json json = {{"session", telling.session},  {"step", step.id},
                 {"kind", name_of(step.kind)},  {"topic", step.topic},
                 {"what", step.what},           {"url", telling.address},
                 {"type", telling.type},        {"done", telling.done},
                 {"positions", step.positions}, {"types", step.types},
                 {"question", step.question},   {"answers", step.answers},
                 {"last", telling.last},        {"last_failed", telling.last_failed}};
    if (step.clip) {
        json["preload"] = step.preload;
        json["seconds"] = base::to_seconds(step.clip->length);
        json["channels"] = step.clip->audio ? step.clip->audio->channels : 0;
        json["video"] = step.clip->video.has_value();
        json["interlaced"] = step.clip->video && step.clip->video->interlaced;
        json["fps"] = step.clip->video ? step.clip->video->frame_rate.value() : 0;
        json["width"] = step.clip->video ? step.clip->video->size.width : 0;
        json["height"] = step.clip->video ? step.clip->video->size.height : 0;
        json["bps"] = step.clip->video ? usual_bitrate(*step.clip->video) : 0;
    }
    return dump(json);
}

std::string wait_text(const std::string& session, const std::string& why, double done) {
    return dump({{"session", session}, {"step", ""}, {"kind", "wait"}, {"topic", why}, {"what", ""}, {"done", done}});
}

std::string finished_text(const std::string& session, const std::string& name,
                          const std::vector<std::string>& summary) {
    return dump({{"session", session},
                 {"step", ""},
                 {"kind", "finished"},
                 {"topic", name},
                 {"what", ""},
                 {"done", 1},
                 {"summary", summary}});
}

}  // namespace wavecrest::trial
