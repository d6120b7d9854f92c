#include "net/http_client.hpp"

#include <fmt/format.h>

#include <openssl/x509_vfy.h>

#include <algorithm>
#include <boost/beast/http/buffer_body.hpp>
#include <boost/beast/http/parser.hpp>
#include <boost/beast/http/string_body.hpp>
#include <charconv>

#include "base/log.hpp"
#include "net/guess_limiter.hpp"
#include "net/wire.hpp"

namespace wavecrest::net {
namespace {

namespace beast = boost::beast;
namespace http = beast::http;
using boost::system::error_code;

constexpr std::size_t kReceived = 64 << 10, kPiece = 8 << 10;

}  // namespace

struct HttpClient::State {
    Url url;
    Time limit;
    std::optional<Wire> wire;
    ByteVector received = ByteVector(kReceived);
    std::size_t parsed = 0, end = 0;  // of it
    std::optional<http::response_parser<http::buffer_body>> parser;
    bool reusable = false;

    State(Url u, Time l) : url(std::move(u)), limit(l) {}

    tl::unexpected<Error> unreachable(const WireError& error, const char* doing) const;
    Status connect();
    Status ask(const char* method, const std::string& fields, const std::string& body = "");
    // Parses some of what was received, or receives more.
    template <typename Parser>
    Status advance(Parser& parser, const char* doing);
};

tl::unexpected<Error> HttpClient::State::unreachable(const WireError& error, const char* doing) const {
    const auto wanting = [&](std::string what, const char* remedy) {
        return fail(ErrorKind::wanting, std::move(what), url.text(), remedy);
    };
    switch (error.kind) {
        case WireError::Kind::refused:
            return wanting("connection refused: nothing listens at this address",
                           "start the stream (wavecrest stream run), and check host and port");
        case WireError::Kind::timeout:
            return wanting(fmt::format("no answer while {}, within {:.0f} s", doing, base::to_seconds(limit)),
                           "check the cable or Wi-Fi, the address, and any firewall in between");
        case WireError::Kind::host_not_found:
            return wanting("host name not found (DNS)", "use the server's IP address");
        case WireError::Kind::certificate:
            return wanting(
                "the server's certificate is not accepted: " + error.text,
                error.certificate == X509_V_ERR_HOSTNAME_MISMATCH || error.certificate == X509_V_ERR_IP_ADDRESS_MISMATCH
                    ? "use the name in the address for which the certificate was made"
                    : "players refuse it, too, unless it is installed on them; to verify with it anyway, "
                      "name it with --trust");
        case WireError::Kind::not_tls:
            return wanting("no TLS (https) at this address", "check http or https, and the port");
        case WireError::Kind::closed:
            return wanting(fmt::format("the server closed the connection while {}", doing), "check the server's log");
        case WireError::Kind::other:
            break;
    }
    return wanting(fmt::format("{} failed: {}", doing, error.text), "check that this is the address of an HTTP stream");
}

Status HttpClient::State::connect() {
    wire.reset();
    parsed = end = 0;
    auto made = Wire::connect(url.host, url.port, limit);
    if (!made) return unreachable(made.error(), "connecting");
    if (url.secure) {
        if (const auto secured = made->start_tls(url.host, url.trusted); !secured)
            return unreachable(secured.error(), "connecting");
    }
    wire = std::move(*made);
    return {};
}

// RFC 9112, 3. `fields`: each with its CR LF.
Status HttpClient::State::ask(const char* method, const std::string& fields, const std::string& body) {
    const std::string request = fmt::format("{} {} HTTP/1.1\r\nHost: {}\r\n{}\r\n{}", method, url.target,
                                            authority(url.host, url.port, url.usual_port()), fields, body);
    const auto written = wire->write(base::as_bytes(request));
    if (!written) return unreachable(written.error(), "asking for the stream");
    return {};
}

template <typename Parser>
Status HttpClient::State::advance(Parser& into, const char* doing) {
    const auto no_http = [&](const error_code& error) -> Status {
        if (error == http::error::partial_message || error == http::error::end_of_stream)
            return unreachable({WireError::Kind::closed, "", 0}, doing);
        return unreachable({WireError::Kind::other, error.message(), 0}, doing);
    };
    if (parsed < end) {
        error_code error;
        const std::size_t used = into.put({received.data() + parsed, end - parsed}, error);
        parsed += used;
        if (error == http::error::need_buffer) return {};
        if (error && error != http::error::need_more) return no_http(error);
        if (used > 0) return {};
    }
    std::copy(received.begin() + static_cast<std::ptrdiff_t>(parsed),
              received.begin() + static_cast<std::ptrdiff_t>(end), received.begin());
    end -= std::exchange(parsed, 0);
    if (end == received.size()) return unreachable({WireError::Kind::other, "response header too long", 0}, doing);
    const auto got = wire->read(std::span(received).subspan(end));
    if (!got) return unreachable(got.error(), doing);
    end += *got;
    if (*got > 0) return {};
    error_code error = http::error::end_of_stream;
    if (into.got_some()) into.put_eof(error);
    if (error) return no_http(error);
    return {};
}

HttpClient::HttpClient(Url url, Time limit) : state_(std::make_unique<State>(std::move(url), limit)) {}
HttpClient::~HttpClient() = default;

void HttpClient::close() {
    state_->parser.reset();
    state_->wire.reset();
    state_->reusable = false;
}

Result<ResponseHead> HttpClient::get(std::uint64_t first, std::optional<std::uint64_t> last) {
    State& s = *state_;
    std::string fields = "User-Agent: Wavecrest verify\r\n";
    if (first > 0 || last) fields += fmt::format("Range: bytes={}-{}\r\n", first, last ? fmt::format("{}", *last) : "");
    bool used_again = s.reusable && s.wire;
    while (true) {
        if (!used_again) {
            close();
            WAVECREST_TRY(s.connect());
        }
        s.reusable = false;
        s.parser.emplace();
        s.parser->body_limit(boost::none);
        Status asked = s.ask("GET", fields);
        while (asked && !s.parser->is_header_done()) asked = s.advance(*s.parser, "asking for the stream");
        if (asked) break;
        // A kept connection may have been closed by the server meanwhile: try once anew.
        if (!used_again) return fail(asked.error());
        used_again = false;
    }

    const auto& head = s.parser->get();
    ResponseHead result;
    result.status = static_cast<int>(head.result_int());
    base::log(base::LogLevel::debug, "GET {} from byte {}: status {}", without_keys(s.url.text()), first,
              result.status);
    result.media_type = std::string(head[http::field::content_type]);
    result.takes_ranges = head[http::field::accept_ranges] == "bytes" || result.status == 206;
    result.body_size = s.parser->content_length().value_or(0);
    result.full_size = result.body_size;
    result.endless = !s.parser->content_length();
    if (const auto range = head[http::field::content_range]; !range.empty()) {
        const std::string_view text(range.data(), range.size());
        const std::size_t slash = text.rfind('/');
        if (slash != std::string_view::npos)
            std::from_chars(text.data() + slash + 1, text.data() + text.size(), result.full_size);
    }
    if (result.status == 404)
        return fail(ErrorKind::wanting, "the server has no stream at this path (status 404)", s.url.text(),
                    "check the path (wavecrest site show, or what stream run printed)");
    if (result.status == 416)
        return fail(ErrorKind::wanting, fmt::format("the file on the server ends before byte {} (status 416)", first),
                    s.url.text(), "copy the file to the server again");
    if (result.status != 200 && result.status != 206) {
        return fail(ErrorKind::wanting, fmt::format("the server answers with status {}", result.status), s.url.text(),
                    "check the server's log");
    }
    if (result.status == 200 && first > 0)
        return fail(ErrorKind::wanting, "the server does not support seeking (no byte ranges)", s.url.text(),
                    "use a server that supports byte ranges");
    return result;
}

void HttpClient::set_target(const std::string& target) {
    state_->url.target = target;
}

Result<std::size_t> HttpClient::read(std::span<std::uint8_t> buffer) {
    State& s = *state_;
    if (!s.parser) return 0;
    // Whoever measures when bytes come wants them as they come, not in lumps.
    buffer = buffer.first(std::min(buffer.size(), kPiece));
    while (!s.parser->is_done()) {
        auto& body = s.parser->get().body();
        body.data = buffer.data();
        body.size = buffer.size();
        WAVECREST_TRY(s.advance(*s.parser, "receiving the stream"));
        if (const std::size_t got = buffer.size() - body.size; got > 0) {
            s.reusable = s.parser->is_done() && s.parser->keep_alive();
            return got;
        }
    }
    s.reusable = s.parser->keep_alive();
    return 0;
}

Result<HttpAnswered> HttpClient::exchange(const Url& url, const HttpExchange& wanted) {
    State s(url, wanted.limit);
    WAVECREST_TRY(s.connect());
    const auto began = std::chrono::steady_clock::now();
    std::string fields = "User-Agent: Wavecrest\r\nConnection: close\r\n";
    if (!wanted.token.empty()) fields += fmt::format("Authorization: Bearer {}\r\n", wanted.token);
    for (const auto& [name, value] : wanted.fields) fields += fmt::format("{}: {}\r\n", name, value);
    const bool has_body = !wanted.body.empty();
    if (!has_body && wanted.method == "POST") fields += "Content-Length: 0\r\n";
    if (has_body)
        fields += fmt::format("Content-Type: {}\r\nContent-Length: {}\r\n", wanted.media_type, wanted.body.size());
    WAVECREST_TRY(s.ask(wanted.method.c_str(), fields, wanted.body));
    http::response_parser<http::string_body> parser;
    parser.body_limit(wanted.most);
    while (!parser.is_done()) {
        WAVECREST_TRY(s.advance(parser, "asking"));
        if (std::chrono::steady_clock::now() - began > (wanted.whole.count() > 0 ? wanted.whole : 3 * wanted.limit))
            return s.unreachable({WireError::Kind::timeout, "", 0}, "receiving the answer");
    }
    const auto& response = parser.get();
    HttpAnswered answered{
        static_cast<int>(response.result_int()), std::string(response[http::field::content_type]), response.body(), {}};
    for (const auto& one : response)
        answered.fields.emplace_back(std::string(one.name_string().data(), one.name_string().size()),
                                     std::string(one.value().data(), one.value().size()));
    return answered;
}

std::string HttpAnswered::field(std::string_view name) const {
    for (const auto& [one, value] : fields) {
        if (beast::iequals(beast::string_view(one.data(), one.size()), beast::string_view(name.data(), name.size())))
            return value;
    }
    return "";
}

}  // namespace wavecrest::net
