#include "net/http_client.hpp"

#include <fmt/format.h>

#include <openssl/x509_vfy.h>

#include <boost/asio.hpp>
#include <boost/asio/ssl.hpp>
#include <boost/beast/core.hpp>
#include <boost/beast/http.hpp>
#include <boost/beast/ssl.hpp>

#include <charconv>

namespace wavecrest::net {
namespace {

namespace asio = boost::asio;
namespace beast = boost::beast;
namespace http = beast::http;
using asio::ip::tcp;
using boost::system::error_code;

}  // namespace

namespace {

constexpr std::string_view kPlainScheme = "http://", kSecureScheme = "https://";

std::uint16_t usual_port(const Url& url) {
    return url.secure ? 443 : 80;
}

// As a Host field names it (RFC 9110, 7.2).
std::string authority_of(const Url& url) {
    const bool ipv6 = url.host.find(':') != std::string::npos;
    return fmt::format("{}{}{}{}", ipv6 ? "[" : "", url.host, ipv6 ? "]" : "",
                       url.port == usual_port(url) ? "" : fmt::format(":{}", url.port));
}

}  // namespace

std::string Url::text() const {
    return fmt::format("{}{}{}", secure ? kSecureScheme : kPlainScheme, authority_of(*this), target);
}

bool is_http_address(const std::string& text) {
    return text.starts_with(kPlainScheme) || text.starts_with(kSecureScheme);
}

Result<Url> parse_url(const std::string& text) {
    const auto wrong = [&](const char* what) {
        return fail(ErrorKind::usage, what, text, "write an address such as http://192.168.1.10:8080/film.mp4");
    };
    if (!is_http_address(text)) return wrong("the address does not begin with http:// or https://");
    Url url;
    url.secure = text.starts_with(kSecureScheme);
    url.port = usual_port(url);
    std::string authority = text.substr((url.secure ? kSecureScheme : kPlainScheme).size());
    if (const std::size_t slash = authority.find('/'); slash != std::string::npos) {
        url.target = authority.substr(slash);
        authority.resize(slash);
    }
    std::string port;
    if (authority.starts_with("[")) {
        const std::size_t end = authority.find(']');
        if (end == std::string::npos) return wrong("the address lacks a closing bracket");
        url.host = authority.substr(1, end - 1);
        if (end + 1 < authority.size()) port = authority.substr(end + 1);
    } else {
        const std::size_t colon = authority.find(':');
        url.host = authority.substr(0, colon);
        if (colon != std::string::npos) port = authority.substr(colon);
    }
    if (url.host.empty()) return wrong("the address names no host");
    if (!port.empty()) {
        unsigned number = 0;
        const auto [rest, error] = std::from_chars(port.data() + 1, port.data() + port.size(), number);
        if (port[0] != ':' || error != std::errc{} || rest != port.data() + port.size() || number == 0 ||
            number > 65535)
            return wrong("the address has no valid port");
        url.port = static_cast<std::uint16_t>(number);
    }
    if (url.target.find_first_of(" \r\n\t") != std::string::npos)
        return wrong("the address contains blanks: write them as %20");
    return url;
}

struct HttpClient::State {
    Url url;
    Time limit;
    asio::io_context context;
    asio::ssl::context tls{asio::ssl::context::tls_client};
    // One of them is used.
    std::optional<beast::tcp_stream> plain;
    std::optional<beast::ssl_stream<beast::tcp_stream>> secure;
    beast::flat_buffer buffer;
    std::optional<http::response_parser<http::buffer_body>> parser;
    bool reusable = false;

    State(Url u, Time l) : url(std::move(u)), limit(l) {}

    // Runs one asynchronous step to its end, under the time limit. `start` is given the stream and what to call.
    template <typename Start>
    error_code step(Start start) {
        error_code result = asio::error::would_block;
        const auto done = [&](error_code error, auto&&...) { result = error; };
        lowest().expires_after(std::chrono::duration_cast<std::chrono::steady_clock::duration>(limit));
        if (secure) {
            start(*secure, done);
        } else {
            start(*plain, done);
        }
        context.restart();
        context.run();
        return result;
    }
    beast::tcp_stream& lowest() { return secure ? secure->next_layer() : *plain; }
    bool connected() const { return plain || secure; }
    const SSL* secure_handle() const {
        return const_cast<beast::ssl_stream<beast::tcp_stream>&>(*secure).native_handle();
    }
    void close() {
        plain.reset();
        secure.reset();
    }

    tl::unexpected<Error> unreachable(error_code error, const char* doing) const {
        const std::string where = url.text();
        if (error == asio::error::connection_refused) {
            return fail(ErrorKind::wanting, "nothing answers at this address: the connection was refused", where,
                        "start the stream (wavecrest stream run), and compare host and port with what it printed");
        }
        if (error == beast::error::timeout || error == asio::error::timed_out) {
            return fail(ErrorKind::wanting,
                        fmt::format("no answer while {}, within {:.0f} s", doing, base::to_seconds(limit)), where,
                        "check the cable or Wi-Fi, the address, and any firewall in between");
        }
        if (error == asio::error::host_not_found || error == asio::error::host_not_found_try_again) {
            return fail(ErrorKind::wanting, "the host's name is not known on this network", where,
                        "use the server's address in digits");
        }
        if (secure && ::SSL_get_verify_result(secure_handle()) != X509_V_OK) {
            const long why = ::SSL_get_verify_result(secure_handle());
            return fail(
                ErrorKind::wanting,
                fmt::format("the server's certificate is not accepted: {}", ::X509_verify_cert_error_string(why)),
                where,
                why == X509_V_ERR_HOSTNAME_MISMATCH || why == X509_V_ERR_IP_ADDRESS_MISMATCH
                    ? "use the name in the address for which the certificate was made"
                    : "players refuse it, too, unless they were told of it; to check with it all the same, "
                      "name it with --trust");
        }
        if (url.secure && error.category() == asio::error::get_ssl_category()) {
            return fail(ErrorKind::wanting, "what answers at this address doesn't speak TLS", where,
                        "compare scheme and port with what wavecrest stream run printed");
        }
        if (error == http::error::end_of_stream || error == http::error::partial_message ||
            error == asio::error::connection_reset) {
            return fail(ErrorKind::wanting, fmt::format("the server ended the connection while {}", doing), where,
                        "look at the server's log");
        }
        return fail(ErrorKind::wanting, fmt::format("{} failed: {}", doing, error.message()), where,
                    "check that this is the address of an HTTP stream");
    }

    error_code connect() {
        close();
        buffer.clear();
        tcp::resolver resolver(context);
        error_code error;
        const auto found = resolver.resolve(url.host, fmt::format("{}", url.port), error);
        if (error) return error;
        if (!url.secure) {
            plain.emplace(context);
        } else {
            tls.set_default_verify_paths(error);
            if (!url.trusted.empty()) tls.load_verify_file(url.trusted.string(), error);
            if (error) return error;
            secure.emplace(context, tls);
            secure->set_verify_mode(asio::ssl::verify_peer);
            SSL* const handle = secure->native_handle();
            asio::ip::make_address(url.host, error);
            if (error) {
                ::SSL_set_tlsext_host_name(handle, url.host.c_str());  // RFC 6066, 3: names only, no addresses
                ::SSL_set1_host(handle, url.host.c_str());
            } else {
                ::X509_VERIFY_PARAM_set1_ip_asc(::SSL_get0_param(handle), url.host.c_str());
            }
        }
        error = step([&](auto&, auto done) { lowest().async_connect(found, std::move(done)); });
        if (error || !secure) return error;
        return step(
            [&](auto&, auto done) { secure->async_handshake(asio::ssl::stream_base::client, std::move(done)); });
    }
};

HttpClient::HttpClient(Url url, Time limit) : state_(std::make_unique<State>(std::move(url), limit)) {}
HttpClient::~HttpClient() = default;

void HttpClient::close() {
    state_->parser.reset();
    state_->close();
    state_->reusable = false;
}

Result<ResponseHead> HttpClient::get(std::uint64_t first, std::optional<std::uint64_t> last) {
    State& s = *state_;
    http::request<http::empty_body> request{http::verb::get, s.url.target, 11};
    request.set(http::field::host, authority_of(s.url));
    request.set(http::field::user_agent, "Wavecrest verify");
    if (first > 0 || last)
        request.set(http::field::range,
                    last ? fmt::format("bytes={}-{}", first, *last) : fmt::format("bytes={}-", first));

    bool used_again = s.reusable && s.connected();
    for (int attempt = 0;; ++attempt) {
        if (!used_again) {
            close();
            if (const error_code error = s.connect()) return s.unreachable(error, "connecting");
        }
        s.reusable = false;
        s.parser.emplace();
        s.parser->body_limit(boost::none);
        error_code error = s.step([&](auto& to, auto done) { http::async_write(to, request, std::move(done)); });
        if (!error)
            error = s.step(
                [&](auto& from, auto done) { http::async_read_header(from, s.buffer, *s.parser, std::move(done)); });
        if (!error) break;
        // A kept connection may have been closed by the server meanwhile: try once anew.
        if (!used_again || attempt > 0) return s.unreachable(error, "asking for the stream");
        used_again = false;
    }

    const auto& head = s.parser->get();
    ResponseHead result;
    result.status = static_cast<int>(head.result_int());
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
                    "compare the path with what wavecrest stream run printed");
    if (result.status != 200 && result.status != 206) {
        return fail(ErrorKind::wanting, fmt::format("the server answers with status {}", result.status), s.url.text(),
                    "look at the server's log");
    }
    if (result.status == 200 && first > 0)
        return fail(ErrorKind::wanting, "the server ignores byte ranges, so players can't skip", s.url.text(),
                    "serve the file with a server that knows byte ranges");
    return result;
}

void HttpClient::aim(const std::string& target) {
    state_->url.target = target;
}

Result<std::size_t> HttpClient::read(std::span<std::uint8_t> buffer) {
    State& s = *state_;
    if (!s.parser) return 0;
    while (!s.parser->is_done()) {
        s.parser->get().body().data = buffer.data();
        s.parser->get().body().size = buffer.size();
        error_code error =
            s.step([&](auto& from, auto done) { http::async_read_some(from, s.buffer, *s.parser, std::move(done)); });
        if (error == http::error::need_buffer) error = {};
        if (error) return s.unreachable(error, "receiving the stream");
        if (const std::size_t got = buffer.size() - s.parser->get().body().size; got > 0) {
            s.reusable = s.parser->is_done() && s.parser->keep_alive();
            return got;
        }
    }
    s.reusable = s.parser->keep_alive();
    return 0;
}

Result<HttpAnswered> HttpClient::exchange(const Url& url, const HttpExchange& wanted) {
    State s(url, wanted.limit);
    if (const error_code error = s.connect()) return s.unreachable(error, "connecting");
    http::request<http::string_body> request{http::string_to_verb(wanted.method), url.target, 11};
    request.set(http::field::host, authority_of(url));
    request.set(http::field::user_agent, "Wavecrest");
    request.set(http::field::connection, "close");
    if (!wanted.token.empty()) request.set(http::field::authorization, "Bearer " + wanted.token);
    if (!wanted.body.empty()) request.set(http::field::content_type, "application/json");
    request.body() = wanted.body;
    request.prepare_payload();
    error_code error = s.step([&](auto& to, auto done) { http::async_write(to, request, std::move(done)); });
    http::response_parser<http::string_body> parser;
    parser.body_limit(4 << 20);
    if (!error)
        error = s.step([&](auto& from, auto done) { http::async_read(from, s.buffer, parser, std::move(done)); });
    if (error) return s.unreachable(error, "asking");
    const auto& response = parser.get();
    return HttpAnswered{static_cast<int>(response.result_int()), std::string(response[http::field::content_type]),
                        response.body()};
}

}  // namespace wavecrest::net
