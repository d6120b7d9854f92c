#include "upnp/renderer.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <cmath>

#include "net/http_client.hpp"
#include "upnp/soap.hpp"
#include "upnp/xml.hpp"

namespace wavecrest::upnp {
namespace {

int number(const std::string& text, int otherwise) {
    int value = otherwise;
    std::from_chars(text.data(), text.data() + text.size(), value);
    return value;
}

}  // namespace

std::string_view short_name(TransportState state) {
    switch (state) {
        case TransportState::stopped:
            return "stopped";
        case TransportState::playing:
            return "playing";
        case TransportState::paused:
            return "paused";
        case TransportState::transitioning:
            return "loading";
        case TransportState::no_media:
            return "idle";
        case TransportState::other:
            break;
    }
    return "unknown";
}

TransportState transport_state(std::string_view text) {
    if (text == "STOPPED") return TransportState::stopped;
    if (text == "PLAYING") return TransportState::playing;
    if (text == "PAUSED_PLAYBACK") return TransportState::paused;
    if (text == "TRANSITIONING") return TransportState::transitioning;
    if (text == "NO_MEDIA_PRESENT") return TransportState::no_media;
    return TransportState::other;
}

Result<Renderer> Renderer::of(const DeviceDescription& device, Time limit) {
    const DeviceDescription* renderer = device.device(kMediaRenderer);
    const Service* transport = renderer != nullptr ? renderer->service(kAvTransport) : nullptr;
    if (transport == nullptr)
        return fail(ErrorKind::wanting,
                    renderer == nullptr ? "the device is no renderer: it can't be told to play"
                                        : "the renderer has no AVTransport: it can't be told to play",
                    device.name, "see what was found: device find");
    Renderer made;
    made.name_ = device.name;
    made.transport_ = *transport;
    if (const Service* rendering = renderer->service(kRenderingControl)) made.rendering_ = *rendering;
    made.limit_ = limit;
    return made;
}

Result<Arguments> Renderer::transport_action(const char* name, Arguments further) const {
    Arguments arguments = {{"InstanceID", "0"}};
    arguments.insert(arguments.end(), further.begin(), further.end());
    return call(transport_.control, {transport_.type, name, std::move(arguments)}, limit_);
}

Result<Arguments> Renderer::rendering_action(const char* name, Arguments further) const {
    if (!rendering_)
        return fail(ErrorKind::wanting, "the device has no volume control", name_, "use its own remote control");
    Arguments arguments = {{"InstanceID", "0"}, {"Channel", "Master"}};
    arguments.insert(arguments.end(), further.begin(), further.end());
    return call(rendering_->control, {rendering_->type, name, std::move(arguments)}, limit_);
}

Status Renderer::set(const Object& item) {
    if (item.resources.empty())
        return fail(ErrorKind::usage, "there is nothing to play", item.title, "name a stream, a file or an address");
    // Several devices refuse another title while they play one.
    (void)transport_action("Stop");
    WAVECREST_TRY(transport_action("SetAVTransportURI", {{"CurrentURI", item.resources.front().address},
                                                         {"CurrentURIMetaData", write_didl(std::span(&item, 1))}}));
    return {};
}

Status Renderer::play() {
    WAVECREST_TRY(transport_action("Play", {{"Speed", "1"}}));
    return {};
}
Status Renderer::pause() {
    WAVECREST_TRY(transport_action("Pause"));
    return {};
}
Status Renderer::stop() {
    WAVECREST_TRY(transport_action("Stop"));
    return {};
}

Status Renderer::seek(Time to) {
    // Whole seconds: fractions are allowed, and refused by many.
    const std::string target = format_duration(base::from_seconds(std::round(base::to_seconds(to))));
    WAVECREST_TRY(transport_action("Seek", {{"Unit", "REL_TIME"}, {"Target", target.substr(0, target.find('.'))}}));
    return {};
}

Result<TransportInfo> Renderer::state() const {
    WAVECREST_TRY_ASSIGN(told, transport_action("GetTransportInfo"));
    return TransportInfo{transport_state(value_of(told, "CurrentTransportState")),
                         value_of(told, "CurrentTransportStatus") == "ERROR_OCCURRED"};
}

Result<PositionInfo> Renderer::position() const {
    WAVECREST_TRY_ASSIGN(told, transport_action("GetPositionInfo"));
    PositionInfo info;
    info.position = parse_duration(value_of(told, "RelTime"));  // else "NOT_IMPLEMENTED"
    info.duration = parse_duration(value_of(told, "TrackDuration"));
    if (info.duration && info.duration->count() == 0) info.duration.reset();
    info.address = value_of(told, "TrackURI");
    if (const auto objects = parse_didl(value_of(told, "TrackMetaData")); objects && !objects->empty())
        info.title = objects->front().title;
    return info;
}

int Renderer::largest_volume() const {
    constexpr int kUsual = 100;
    if (!rendering_ || rendering_->description.empty()) return kUsual;
    const auto url = net::parse_url(rendering_->description);
    if (!url) return kUsual;
    net::HttpExchange request;
    request.limit = limit_;
    request.most = kMostXml;
    const auto answered = net::HttpClient::exchange(*url, request);
    pugi::xml_document document;
    if (!answered || !parse_xml(answered->body, "service description", document)) return kUsual;
    for (const pugi::xml_node one : child(child(document, "scpd"), "serviceStateTable").children()) {
        if (text_of(one, "name") == "Volume")
            return std::max(1, number(text_of(child(one, "allowedValueRange"), "maximum"), kUsual));
    }
    return kUsual;
}

Result<int> Renderer::volume() const {
    WAVECREST_TRY_ASSIGN(told, rendering_action("GetVolume"));
    const int largest = largest_volume();
    return std::clamp((number(value_of(told, "CurrentVolume"), 0) * 100 + largest / 2) / largest, 0, 100);
}

Status Renderer::set_volume(int percent) {
    const int value = (std::clamp(percent, 0, 100) * largest_volume() + 50) / 100;
    WAVECREST_TRY(rendering_action("SetVolume", {{"DesiredVolume", fmt::format("{}", value)}}));
    return {};
}

Result<bool> Renderer::mute() const {
    WAVECREST_TRY_ASSIGN(told, rendering_action("GetMute"));
    const std::string value = value_of(told, "CurrentMute");
    return value == "1" || value == "true" || value == "yes";
}

Status Renderer::set_mute(bool mute) {
    WAVECREST_TRY(rendering_action("SetMute", {{"DesiredMute", mute ? "1" : "0"}}));
    return {};
}

}  // namespace wavecrest::upnp
