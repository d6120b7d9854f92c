#include "net/wire.hpp"

#include <arpa/inet.h>
#include <fmt/format.h>
#include <netdb.h>
#include <openssl/err.h>
#include <openssl/ssl.h>
#include <openssl/x509v3.h>
#include <poll.h>
#include <sys/socket.h>
#include <unistd.h>

#include <cerrno>
#include <chrono>
#include <cstring>
#include <utility>

namespace wavecrest::net {
namespace {

using Steady = std::chrono::steady_clock;
using Kind = WireError::Kind;

Steady::time_point from_now(Time limit) {
    return Steady::now() + std::chrono::duration_cast<Steady::duration>(limit);
}

tl::unexpected<WireError> system_error(int number) {
    const Kind kind = number == ECONNREFUSED                    ? Kind::refused
                      : number == ETIMEDOUT                     ? Kind::timeout
                      : number == ECONNRESET || number == EPIPE ? Kind::closed
                                                                : Kind::other;
    return tl::unexpected(WireError{kind, std::strerror(number), 0});
}

tl::expected<void, WireError> wait_for(int socket, short what, Steady::time_point until) {
    while (true) {
        const auto left = std::chrono::ceil<std::chrono::milliseconds>(until - Steady::now());
        if (left.count() <= 0) return tl::unexpected(WireError{Kind::timeout, "timed out", 0});
        pollfd one{socket, what, 0};
        if (::poll(&one, 1, static_cast<int>(left.count())) > 0) return {};
    }
}

// Connected, or the error's number.
tl::expected<void, WireError> connect_socket(int socket, const addrinfo& to, Time limit) {
    if (::connect(socket, to.ai_addr, to.ai_addrlen) == 0) return {};
    if (errno != EINPROGRESS) return system_error(errno);
    if (auto ready = wait_for(socket, POLLOUT, from_now(limit)); !ready) return ready;
    int error = 0;
    socklen_t size = sizeof error;
    ::getsockopt(socket, SOL_SOCKET, SO_ERROR, &error, &size);
    if (error != 0) return system_error(error);
    return {};
}

bool is_ip_address(const std::string& host) {
    in6_addr address{};
    return ::inet_pton(AF_INET, host.c_str(), &address) == 1 || ::inet_pton(AF_INET6, host.c_str(), &address) == 1;
}

std::string tls_text() {
    char text[256] = "TLS failed";
    if (const unsigned long code = ::ERR_get_error(); code != 0) ::ERR_error_string_n(code, text, sizeof text);
    return text;
}

}  // namespace

tl::expected<int, WireError> connect_tcp(const std::string& host, std::uint16_t port, Time limit) {
    addrinfo wanted{}, *found = nullptr;
    wanted.ai_socktype = SOCK_STREAM;
    if (const int why = ::getaddrinfo(host.c_str(), fmt::format("{}", port).c_str(), &wanted, &found); why != 0)
        return tl::unexpected(WireError{Kind::host_not_found, ::gai_strerror(why), 0});
    const std::unique_ptr<addrinfo, decltype(&::freeaddrinfo)> hold(found, ::freeaddrinfo);
    tl::expected<void, WireError> latest = system_error(EADDRNOTAVAIL);
    for (const addrinfo* one = found; one != nullptr; one = one->ai_next) {
        const int socket = ::socket(one->ai_family, SOCK_STREAM | SOCK_NONBLOCK | SOCK_CLOEXEC, 0);
        if (socket < 0) {
            latest = system_error(errno);
            continue;
        }
        latest = connect_socket(socket, *one, limit);
        if (latest) return socket;
        ::close(socket);
    }
    return tl::unexpected(latest.error());
}

void Wire::FreeTls::operator()(SSL* tls) const {
    ::SSL_free(tls);
}
void Wire::FreeTls::operator()(SSL_CTX* context) const {
    ::SSL_CTX_free(context);
}

tl::expected<Wire, WireError> Wire::connect(const std::string& host, std::uint16_t port, Time limit) {
    const auto socket = connect_tcp(host, port, limit);
    if (!socket) return tl::unexpected(socket.error());
    return Wire(*socket, limit);
}

Wire::Wire(Wire&& other) noexcept
    : socket_(std::exchange(other.socket_, -1)),
      limit_(other.limit_),
      context_(std::move(other.context_)),
      tls_(std::move(other.tls_)) {}

Wire& Wire::operator=(Wire&& other) noexcept {
    std::swap(socket_, other.socket_);
    std::swap(limit_, other.limit_);
    std::swap(context_, other.context_);
    std::swap(tls_, other.tls_);
    return *this;
}

Wire::~Wire() {
    tls_.reset();
    if (socket_ >= 0) ::close(socket_);
}

template <typename Call>
tl::expected<int, WireError> Wire::step(Call call) {
    const auto until = from_now(limit_);
    while (true) {
        ::ERR_clear_error();
        errno = 0;
        const int done = call();
        if (done > 0) return done;
        const int why = ::SSL_get_error(tls_.get(), done);
        if (why == SSL_ERROR_ZERO_RETURN) return 0;
        if (why == SSL_ERROR_WANT_READ || why == SSL_ERROR_WANT_WRITE) {
            const auto ready = wait_for(socket_, why == SSL_ERROR_WANT_READ ? POLLIN : POLLOUT, until);
            if (!ready) return tl::unexpected(ready.error());
            continue;
        }
        if (why == SSL_ERROR_SYSCALL && errno != 0) return system_error(errno);
        // The other end closed without TLS's own farewell: an end all the same where all lengths are told.
        if (why == SSL_ERROR_SYSCALL || ERR_GET_REASON(::ERR_peek_error()) == SSL_R_UNEXPECTED_EOF_WHILE_READING)
            return tl::unexpected(WireError{Kind::closed, "closed", 0});
        const long verified = ::SSL_get_verify_result(tls_.get());
        if (verified != X509_V_OK)
            return tl::unexpected(WireError{Kind::certificate, ::X509_verify_cert_error_string(verified), verified});
        return tl::unexpected(WireError{Kind::not_tls, tls_text(), 0});
    }
}

tl::expected<void, WireError> Wire::start_tls(const std::string& host, const base::Path& trusted) {
    const auto failed = [] { return tl::unexpected(WireError{Kind::other, tls_text(), 0}); };
    context_.reset(::SSL_CTX_new(::TLS_client_method()));
    if (!context_ || ::SSL_CTX_set_default_verify_paths(context_.get()) != 1) return failed();
    if (!trusted.empty() && ::SSL_CTX_load_verify_file(context_.get(), trusted.c_str()) != 1) return failed();
    ::SSL_CTX_set_verify(context_.get(), SSL_VERIFY_PEER, nullptr);
    tls_.reset(::SSL_new(context_.get()));
    if (!tls_ || ::SSL_set_fd(tls_.get(), socket_) != 1) return failed();
    if (is_ip_address(host)) {
        ::X509_VERIFY_PARAM_set1_ip_asc(::SSL_get0_param(tls_.get()), host.c_str());
    } else {
        ::SSL_set_tlsext_host_name(tls_.get(), host.c_str());  // RFC 6066, 3: names only, no addresses
        ::SSL_set1_host(tls_.get(), host.c_str());
    }
    const auto done = step([&] { return ::SSL_connect(tls_.get()); });
    if (!done) return tl::unexpected(done.error());
    if (*done == 0) return tl::unexpected(WireError{Kind::closed, "closed", 0});
    return {};
}

tl::expected<std::size_t, WireError> Wire::read(std::span<std::uint8_t> buffer) {
    if (tls_) {
        const auto got = step([&] { return ::SSL_read(tls_.get(), buffer.data(), static_cast<int>(buffer.size())); });
        if (!got) return tl::unexpected(got.error());
        return static_cast<std::size_t>(*got);
    }
    const auto until = from_now(limit_);
    while (true) {
        const ssize_t got = ::recv(socket_, buffer.data(), buffer.size(), MSG_DONTWAIT);
        if (got >= 0) return static_cast<std::size_t>(got);
        if (errno != EAGAIN && errno != EINTR) return system_error(errno);
        if (const auto ready = wait_for(socket_, POLLIN, until); !ready) return tl::unexpected(ready.error());
    }
}

tl::expected<void, WireError> Wire::write(ByteSpan bytes) {
    const auto until = from_now(limit_);
    while (!bytes.empty()) {
        if (tls_) {
            const auto put =
                step([&] { return ::SSL_write(tls_.get(), bytes.data(), static_cast<int>(bytes.size())); });
            if (!put) return tl::unexpected(put.error());
            if (*put == 0) return tl::unexpected(WireError{Kind::closed, "closed", 0});
            bytes = bytes.subspan(static_cast<std::size_t>(*put));
            continue;
        }
        const ssize_t put = ::send(socket_, bytes.data(), bytes.size(), MSG_NOSIGNAL | MSG_DONTWAIT);
        if (put >= 0) {
            bytes = bytes.subspan(static_cast<std::size_t>(put));
            continue;
        }
        if (errno != EAGAIN && errno != EINTR) return system_error(errno);
        if (auto ready = wait_for(socket_, POLLOUT, until); !ready) return ready;
    }
    return {};
}

}  // namespace wavecrest::net
