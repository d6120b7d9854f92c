// One TCP connection to a server, with TLS on it where that is wanted. Blocking, with a time limit on every wait.
#pragma once

#include <openssl/types.h>

#include <cstdint>
#include <memory>
#include <span>
#include <string>
#include <tl/expected.hpp>

#include "base/bytes.hpp"
#include "base/file.hpp"
#include "base/time.hpp"

namespace wavecrest::net {

struct WireError {
    enum class Kind {
        host_not_found,
        refused,      // nobody listens there
        timeout,      // no answer within the limit
        closed,       // the other end closed, or reset, the connection
        not_tls,      // what answers does not speak TLS
        certificate,  // it is not trusted: see `certificate`
        other,        // see `text`
    } kind = Kind::other;
    std::string text;      // the system's or OpenSSL's words for it
    long certificate = 0;  // X509_V_ERR_...
};

// A connected socket that does not block; all addresses of the host are tried in turn, each for at most `limit`.
// `host`: a name, or an address in digits without brackets.
tl::expected<int, WireError> connect_tcp(const std::string& host, std::uint16_t port, Time limit);

class Wire {
  public:
    static tl::expected<Wire, WireError> connect(const std::string& host, std::uint16_t port, Time limit);
    Wire(Wire&& other) noexcept;
    Wire& operator=(Wire&& other) noexcept;
    ~Wire();

    // Speaks TLS from here on. The certificate has to be the host's, and signed by an authority that the system trusts
    // or by one in `trusted` (PEM; empty: none). Reading and writing then need SIGPIPE ignored or blocked.
    tl::expected<void, WireError> start_tls(const std::string& host, const base::Path& trusted);
    // What has come, at least a byte; 0 at the end.
    tl::expected<std::size_t, WireError> read(std::span<std::uint8_t> buffer);
    // All of it.
    tl::expected<void, WireError> write(ByteSpan bytes);

  private:
    struct FreeTls {
        void operator()(SSL* tls) const;
        void operator()(SSL_CTX* context) const;
    };

    Wire(int socket, Time limit) : socket_(socket), limit_(limit) {}
    // Makes the step of TLS that `call` makes until it is done, waiting for the other end in between.
    template <typename Call>
    tl::expected<int, WireError> step(Call call);

    int socket_ = -1;
    Time limit_{};
    std::unique_ptr<SSL_CTX, FreeTls> context_;
    std::unique_ptr<SSL, FreeTls> tls_;
};

}  // namespace wavecrest::net
