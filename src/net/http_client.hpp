// Fetches over HTTP/1.1, with TLS where the address begins with https://: one connection, byte ranges, bodies read
// piece by piece. Blocking, with a time limit on every wait. Certificates are checked as the system does (its
// authorities, or those of SSL_CERT_FILE), and accepted besides where the URL says so.
#pragma once

#include <cstdint>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "base/result.hpp"
#include "base/time.hpp"
#include "net/url.hpp"

namespace wavecrest::net {

struct ResponseHead {
    int status = 0;
    std::string media_type;
    std::uint64_t body_size = 0;  // Content-Length
    std::uint64_t full_size = 0;  // of the whole file, from Content-Range or Content-Length
    bool takes_ranges = false;
    bool endless = false;  // no length is told: a live stream
};

struct HttpExchange {
    std::string method = "GET";
    std::string token{};
    std::string body{};
    std::string media_type = "application/json";                // of the body
    std::vector<std::pair<std::string, std::string>> fields{};  // further ones of the header
    std::size_t most = 4 << 20;                                 // bytes of what is answered
    Time limit = base::from_seconds(5);                         // of each wait
    Time whole{};                                               // of all of it; 0: three times as long
};
struct HttpAnswered {
    int status = 0;
    std::string media_type;
    std::string body;
    std::vector<std::pair<std::string, std::string>> fields;  // of the header

    // The value of the first one of this name, in whatever letters; empty: there is none.
    std::string field(std::string_view name) const;
};

class HttpClient {
  public:
    explicit HttpClient(Url url, Time limit = base::from_seconds(15));
    ~HttpClient();

    // Requests bytes from `first` on (to `last`, inclusive, when given) and reads the response's head. A connection
    // whose last body was read to its end is used again, else a new one is made. Errors (kind wanting: the stream was
    // checked and can't be reached): no connection, time limit, no HTTP, a status other than 200 and 206.
    Result<ResponseHead> get(std::uint64_t first, std::optional<std::uint64_t> last = {});
    // Asks for another path of the same server from now on.
    void set_target(const std::string& target);
    // The next piece of the body; 0 at its end.
    Result<std::size_t> read(std::span<std::uint8_t> buffer);
    // Gives up the body and the connection.
    void close();

    // One request with everything read into memory. `token` goes as Authorization: Bearer where it isn't
    // empty. Gives any status; errors (kind wanting) as of get().
    static Result<HttpAnswered> exchange(const Url& url, const HttpExchange& request);

  private:
    struct State;
    std::unique_ptr<State> state_;
};

}  // namespace wavecrest::net
