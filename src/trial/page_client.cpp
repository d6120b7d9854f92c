#include "trial/page_client.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <nlohmann/json.hpp>
#include <thread>

#include "net/http_client.hpp"
#include "trial/messages.hpp"

namespace wavecrest::trial {
namespace {

using Json = nlohmann::json;

Error not_understood(const net::Url& page, const std::string& why) {
    return {ErrorKind::wanting,
            "the check page's answer isn't understood" + why,
            page.text(),
            "use the same version of wavecrest at both ends",
            {}};
}

Result<Json> post(const net::Url& page, const Json& body) {
    net::Url url = page;
    url.target = "/test/next";
    net::HttpExchange request;
    request.method = "POST";
    request.body = body.dump();
    request.limit = base::from_seconds(20);
    WAVECREST_TRY_ASSIGN(answered, net::HttpClient::exchange(url, request));
    Json json = Json::parse(answered.body, nullptr, false);
    if (!json.is_object()) return fail(not_understood(page, ""));
    return json;
}

// What the page is told of a step, as far as it matters here.
ShownStep step_of(const Json& json) {
    static const std::pair<const char*, Step::Kind> kKinds[] = {
        {"display", Step::Kind::display},  {"download", Step::Kind::download}, {"claims", Step::Kind::claims},
        {"motion", Step::Kind::motion},    {"seek", Step::Kind::seek},         {"sync", Step::Kind::sync},
        {"question", Step::Kind::question}};
    ShownStep shown;
    Step& step = shown.step;
    shown.target = json.value("url", "");
    shown.type = json.value("type", "");
    step.id = json.value("step", "");
    for (const auto& [name, kind] : kKinds) {
        if (json.value("kind", "") == name) step.kind = kind;
    }
    step.what = json.value("what", "");
    step.preload = json.value("preload", false);
    step.positions = json.value("positions", std::vector<double>{});
    step.types = json.value("types", std::vector<std::string>{});
    step.question = json.value("question", "");
    step.answers = json.value("answers", std::vector<std::string>{});
    if (shown.target.find("/hls/") != std::string::npos) step.delivery = Step::Delivery::hls_ts;
    if (shown.target.find("/parts/") != std::string::npos) step.delivery = Step::Delivery::hls_fmp4;
    if (shown.target.empty()) return shown;
    sample::Clip clip;
    clip.length = base::from_seconds(std::clamp(json.value("seconds", 0.0), 0.1, 600.0));
    if (json.value("video", false)) {
        clip.video = sample::ClipVideo{};
        clip.video->interlaced = json.value("interlaced", false);
        const double fps = std::clamp(json.value("fps", 30.0), 1.0, 300.0);
        clip.video->frame_rate = {std::llround(fps * 1000), 1000};
    }
    if (const int channels = json.value("channels", 0); channels > 0)
        clip.audio = sample::ClipAudio{Codec::aac, std::min(channels, 8)};
    step.clip = clip;
    return shown;
}

}  // namespace

Result<ByteVector> PageClient::fetch(const std::string& target) const {
    net::Url url = page_;
    url.target = target;
    net::HttpClient client(url);
    WAVECREST_TRY(client.get(0));
    ByteVector all;
    std::vector<std::uint8_t> buffer(256 * 1024);
    while (true) {
        if (cancel_.requested()) return base::interrupted();
        WAVECREST_TRY_ASSIGN(count, client.read(buffer));
        if (count == 0) return all;
        all.insert(all.end(), buffer.begin(), buffer.begin() + static_cast<std::ptrdiff_t>(count));
    }
}

Result<std::vector<std::string>> PageClient::go_through(
    const Show& show, const std::function<void(const std::string& what)>& on_step) const {
    try {
        WAVECREST_TRY_ASSIGN(page, fetch(page_.target));
        if (std::string_view(reinterpret_cast<const char*>(page.data()), page.size()).find("/test/next") ==
            std::string_view::npos)
            return fail(ErrorKind::wanting, "there is no check page at this address", page_.text(),
                        "start one with wavecrest device test, and give the address that it prints");
        WAVECREST_TRY_ASSIGN(step, post(page_, {{"session", ""}, {"step", ""}}));
        while (true) {
            if (cancel_.requested()) return base::interrupted();
            const std::string session = step.value("session", ""), kind = step.value("kind", "");
            if (kind == "finished") return step.value("summary", std::vector<std::string>{});
            Json body = {{"session", session}, {"step", ""}};
            if (kind == "wait") {
                std::this_thread::sleep_for(std::chrono::milliseconds(200));
            } else {
                if (on_step) on_step(step.value("what", ""));
                WAVECREST_TRY_ASSIGN(seen, show(step_of(step)));
                body["step"] = step.value("step", "");
                body["seen"] = Json::parse(seen_text(seen));
            }
            WAVECREST_TRY_ASSIGN(next, post(page_, body));
            step = std::move(next);
        }
    } catch (const Json::exception& error) {
        return fail(not_understood(page_, fmt::format(" ({})", error.what())));
    }
}

}  // namespace wavecrest::trial
