// TLS 1.2 and 1.3 (RFC 5246, RFC 8446) in front of a server that knows nothing of it: connections are accepted and
// decrypted here, and what they say is handed on as local sockets.
#pragma once

#include <cstdint>
#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "base/file.hpp"
#include "base/result.hpp"
#include "base/time.hpp"

namespace wavecrest::net {

// Our own choice, since 443 belongs to the machine's administrator.
inline constexpr std::uint16_t kDefaultTlsPort = 8443;

// A server's certificate, with those that signed it behind it, and its private key; both PEM (RFC 7468).
struct CertificateFiles {
    base::Path certificate, key;
};
struct CertificateFacts {
    std::string names;            // "cedar.example, 192.168.1.10"
    std::int64_t valid_from = 0;  // seconds since 1970
    std::int64_t valid_until = 0;
};
// Reads both and sees whether they belong together. Kind input: no such file, no PEM, a key of another certificate or
// with a password.
Result<CertificateFacts> check_certificate(const CertificateFiles& files);
// Whether it names this host (RFC 6125, 6.4): a name or an address in digits. Kind input as above.
Result<bool> certificate_names(const base::Path& certificate, const std::string& host);

struct TlsFrontSettings {
    std::string address;                   // to listen on; empty: all
    std::uint16_t port = kDefaultTlsPort;  // 0: any free one
    std::vector<std::uint16_t> further;    // ports it listens at, too
    CertificateFiles files;
    // Takes a decrypted connection: a stream socket, to be closed by the taker, the client's address, and the port it
    // came to. Called from the front's threads.
    std::function<void(int socket, std::string address, std::uint16_t port)> hand_over;
    std::function<void(const std::string& address, const std::string& why)> on_refused;
    Time idle_limit = base::from_seconds(60);  // a client that takes nothing of what there is for so long is dropped
    std::size_t most_connections = 0;          // 0: as many as the process may have open files for
};

class TlsFront {
  public:
    // Errors as of check_certificate() and of HttpServer::start().
    static Result<std::unique_ptr<TlsFront>> start(TlsFrontSettings settings);
    // Closes all connections.
    ~TlsFront();
    std::uint16_t port() const;

  private:
    struct State;
    explicit TlsFront(std::unique_ptr<State> state);
    std::unique_ptr<State> state_;
};

}  // namespace wavecrest::net
