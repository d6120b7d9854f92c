#include "upnp/soap.hpp"

#include <fmt/format.h>

#include "net/http_client.hpp"
#include "upnp/description.hpp"
#include "upnp/xml.hpp"

namespace wavecrest::upnp {
namespace {

constexpr std::size_t kMostArguments = 64;

std::string envelope(const std::string& inside) {
    return fmt::format(
        "<?xml version=\"1.0\" encoding=\"utf-8\"?>\n"
        "<s:Envelope xmlns:s=\"http://schemas.xmlsoap.org/soap/envelope/\" "
        "s:encodingStyle=\"http://schemas.xmlsoap.org/soap/encoding/\"><s:Body>{}</s:Body></s:Envelope>\n",
        inside);
}

std::string written(const std::string& name, const std::string& service, const Arguments& arguments) {
    std::string text = fmt::format("<u:{} xmlns:u=\"{}\">", name, escaped(service));
    for (const auto& [argument, value] : arguments) text += fmt::format("<{0}>{1}</{0}>", argument, escaped(value));
    return text + fmt::format("</u:{}>", name);
}

// Values may be long: a result of a browse is one.
Arguments read_arguments(pugi::xml_node node) {
    Arguments arguments;
    for (const pugi::xml_node one : node.children()) {
        if (one.type() == pugi::node_element && arguments.size() < kMostArguments)
            arguments.emplace_back(std::string(local_name(one)), std::string(one.text().get()));
    }
    return arguments;
}

Result<pugi::xml_node> body_of(std::string_view text, const std::string& what, pugi::xml_document& document) {
    WAVECREST_TRY(parse_xml(text, what, document));
    const pugi::xml_node body = child(child(document, "Envelope"), "Body");
    for (const pugi::xml_node one : body.children()) {
        if (one.type() == pugi::node_element) return one;
    }
    return fail(ErrorKind::wanting, fmt::format("the {} is no SOAP", what), "",
                "switch the device off and on; where that doesn't help, its software needs an update");
}

// Of the architecture (3.2.2, table 3-3), and of AVTransport (ISO/IEC 29341-4-10, 2.4.27), RenderingControl and
// ContentDirectory, whose numbers from 701 on mean different things.
struct Words {
    std::string_view service;  // empty: any
    int code;
    const char* what;
    const char* remedy;
};
constexpr const char* kUpdate = "its software may need an update";
constexpr Words kWords[] = {
    {"", 401, "the device doesn't know this command", kUpdate},
    {"", 402, "the device takes the command in another form", kUpdate},
    {"", 404, "the device doesn't know this command", kUpdate},
    {"", 501, "the device can't do it at the moment", "try again; then switch the device off and on"},
    {"", 600, "the device takes no such value", "use another value"},
    {"", 601, "the value is out of the device's range", "use another value"},
    {"", 602, "the device has no such command", "use the device's own remote control for it"},
    {"", 603, "the device is out of memory", "switch the device off and on"},
    {"", 606, "the device wants its user to allow this first", "allow it on the device's screen, or in its settings"},
    {kAvTransport, 701, "the device can't do that in its present state", "see it with device show NAME --live"},
    {kAvTransport, 702, "the device has nothing to play", "start something with device play"},
    {kAvTransport, 703, "the device can't read what it is given", "check that it reaches this machine's address"},
    {kAvTransport, 704, "the device doesn't support this format", "convert it for the device: convert --device"},
    {kAvTransport, 705, "somebody else has locked the device", "end playing there first"},
    {kAvTransport, 710, "the device can't seek in this way", "use its own remote control"},
    {kAvTransport, 711, "there is no such position", "use a time within the film"},
    {kAvTransport, 712, "the device doesn't have this play mode", "leave it as it is"},
    {kAvTransport, 714, "the device doesn't take this media type", "convert it for the device: convert --device"},
    {kAvTransport, 715, "the device is busy with it", "wait a moment and try again"},
    {kAvTransport, 716, "the device can't find what it is to play",
     "check that it reaches this machine: same network, no firewall, the stream is running"},
    {kAvTransport, 717, "the device doesn't have this speed", "play it at the usual speed"},
    {kAvTransport, 718, "the device doesn't have this transport", "find it again: device find"},
    {kRenderingControl, 702, "the device doesn't have this control", "use its own remote control"},
    {kContentDirectory, 701, "there is no such object", "browse again from the top"},
    {kContentDirectory, 708, "search criteria not supported or invalid", "search for less"},
    {kContentDirectory, 709, "sort criteria not supported or invalid", "sort by title"},
    {kContentDirectory, 710, "there is no such container", "browse again from the top"},
};

}  // namespace

std::string value_of(const Arguments& arguments, std::string_view name) {
    for (const auto& [one, value] : arguments) {
        if (one == name) return value;
    }
    return "";
}

std::string write_action(const Action& action) {
    return envelope(written(action.name, action.service, action.arguments));
}

Result<Action> parse_action(std::string_view body) {
    pugi::xml_document document;
    WAVECREST_TRY_ASSIGN(node, body_of(body, "request", document));
    Action action;
    action.name = local_name(node);
    for (const pugi::xml_attribute one : node.attributes()) {
        if (std::string_view(one.name()).starts_with("xmlns")) action.service = one.value();
    }
    action.arguments = read_arguments(node);
    return action;
}

std::string write_answer(const Action& action, const Arguments& arguments) {
    return envelope(written(action.name + "Response", action.service, arguments));
}

std::string write_fault(const Fault& fault) {
    return envelope(fmt::format(
        "<s:Fault><faultcode>s:Client</faultcode><faultstring>UPnPError</faultstring><detail>"
        "<UPnPError xmlns=\"urn:schemas-upnp-org:control-1-0\"><errorCode>{}</errorCode><errorDescription>{}"
        "</errorDescription></UPnPError></detail></s:Fault>",
        fault.code, escaped(fault.description)));
}

Result<Answered> parse_answer(std::string_view body, const std::string& action) {
    pugi::xml_document document;
    WAVECREST_TRY_ASSIGN(node, body_of(body, "answer", document));
    Answered answered;
    if (local_name(node) == "Fault") {
        const pugi::xml_node error = child(child(node, "detail"), "UPnPError");
        answered.fault = Fault{child(error, "errorCode").text().as_int(501), text_of(error, "errorDescription")};
        return answered;
    }
    if (local_name(node) != action + "Response")
        return fail(ErrorKind::wanting, fmt::format("the device answers {} with something else", action), "",
                    "switch the device off and on; where that doesn't help, its software needs an update");
    answered.arguments = read_arguments(node);
    return answered;
}

Error in_words(const Fault& fault, const Action& action, const std::string& where) {
    const std::string said = fault.description.empty() ? fmt::format("error {}", fault.code)
                                                       : fmt::format("error {}: {}", fault.code, fault.description);
    for (const Words& one : kWords) {
        if (one.code == fault.code && (one.service.empty() || action.service.starts_with(one.service)))
            return {ErrorKind::wanting, fmt::format("{} ({}, {})", one.what, action.name, said), where, one.remedy, {}};
    }
    return {ErrorKind::wanting,
            fmt::format("the device refuses {} ({})", action.name, said),
            where,
            "try its own remote control",
            {}};
}

Result<Arguments> call(const std::string& control, const Action& action, Time limit) {
    WAVECREST_TRY_ASSIGN(url, net::parse_url(control));
    net::HttpExchange request;
    request.method = "POST";
    request.body = write_action(action);
    request.media_type = "text/xml; charset=\"utf-8\"";
    request.fields = {{"SOAPACTION", fmt::format("\"{}#{}\"", action.service, action.name)}};
    request.limit = limit;
    WAVECREST_TRY_ASSIGN(answered, net::HttpClient::exchange(url, request));
    if (answered.status != 200 && answered.status != 500)
        return fail(ErrorKind::wanting,
                    fmt::format("the device answers {} with status {}", action.name, answered.status), control,
                    "find it again: device find");
    auto parsed = parse_answer(answered.body, action.name);
    if (!parsed) {
        Error error = parsed.error();
        error.where = control;
        return fail(std::move(error));
    }
    if (parsed->fault) return fail(in_words(*parsed->fault, action, control));
    return std::move(parsed->arguments);
}

}  // namespace wavecrest::upnp
