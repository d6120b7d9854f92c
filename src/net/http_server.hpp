// An HTTP/1.1 server (RFC 9110, RFC 9112): files with byte ranges, HEAD, conditional requests and keep-alive, whose
// bodies go from the page cache to the socket by sendfile; bodies made in memory; and live broadcasts that never end.
// What is at which path is decided by a function: only what it gives is ever served. Drives and shares that hang hold
// their own viewers alone (host/disk_work.hpp), and a crowd of connections none that is being served (net/crowd.hpp).
#pragma once

#include <algorithm>
#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "base/address.hpp"
#include "base/byte_source.hpp"
#include "base/file.hpp"
#include "base/result.hpp"
#include "base/time.hpp"
#include "host/disk_work.hpp"
#include "host/machine.hpp"
#include "net/fan_out.hpp"

namespace wavecrest::net {

// The port registered for HTTP alternatives (IANA: http-alt).
inline constexpr std::uint16_t kDefaultHttpPort = 8080;

struct HttpRequest {
    std::string method;                                       // "GET"; HEAD is asked as GET
    std::string path;                                         // unescaped, without the query
    std::string query;                                        // as written
    std::string body;                                         // at most kMostHttpBody bytes
    std::string address;                                      // the client's
    std::uint16_t port = 0;                                   // of this machine, that it came to
    bool secure = false;                                      // by HTTPS
    bool waited = false;                                      // asked anew: see HttpReply::wait_until
    std::vector<std::pair<std::string, std::string>> fields;  // of the header, in their order

    // The value of the first header field of this name, in whatever letters; empty: there is none.
    std::string_view field(std::string_view name) const;
};
inline constexpr std::size_t kMostHttpBody = 64 * 1024;

// What is sent back. One of file, broadcast and body; an empty body is one, too.
// A file that isn't opened by the system: on a file server.
struct RemoteFile {
    std::shared_ptr<base::ByteSource> bytes;
    std::int64_t modified_ns = 0;  // since 1970
};

struct HttpReply {
    int status = 200;
    std::string media_type = "text/plain; charset=utf-8";
    Bytes body;
    std::optional<base::Address> file;
    // Opens it, where it isn't this machine's; called by a thread for its server, as what reads it is.
    std::function<Result<RemoteFile>()> open_remote;
    // Of a file, some bytes behind a head made in memory, instead of what a Range field asks for; the reply's own
    // header fields say what that is.
    struct FilePart {
        Bytes head;
        std::uint64_t first = 0;
        std::uint64_t end = 0;  // behind the last byte
    };
    std::optional<FilePart> file_part;
    std::shared_ptr<Broadcast> broadcast;  // a live stream; the server has a fan-out for it
    std::string name;                      // the stream's, for status and log; empty: neither shows it
    std::string cache_control;             // empty: none
    // When set, this is called by a thread of the file system that holds `later_from` (it may take a while) and what it
    // gives is sent. One at a time is made of that file.
    std::function<HttpReply()> later;
    base::Address later_from;
    // When set, the rest is nothing yet: this is called every few milliseconds, and once it says true, or the time is
    // over, the request is asked anew, as one that has waited.
    std::function<bool()> wait_until;
    std::chrono::milliseconds wait_most{};
    // Whether pages of other origins may read it (Fetch, Access-Control-Allow-Origin), as players in web pages do.
    bool any_origin = true;
    std::vector<std::pair<std::string, std::string>> fields;  // further ones of the header

    static HttpReply text(int status, std::string text);
};
using HttpAnswer = std::function<HttpReply(const HttpRequest&)>;

struct ServedFile {
    std::string path;  // of the URL, unescaped, beginning with "/"
    base::Path file;
    std::string media_type;  // "video/mp4"
    std::string name;        // the stream's, for status and log
};
// Answers with these files, by GET and HEAD only, and with a list of them where a path isn't among them.
HttpAnswer serve_files(std::vector<ServedFile> files);

struct ClientStatus {
    std::uint64_t id = 0;
    std::string address;       // "192.168.1.20"
    std::string name;          // of the stream it fetches; empty between requests
    std::uint64_t offset = 0;  // in the file, of the next byte to send
    std::uint64_t size = 0;    // of the file, or of what else is sent
    bool of_file = false;
    std::uint64_t sent = 0;     // body bytes on this connection
    bool live = false;          // the fan-out's status tells more of it
    Time connected{};           // how long
    std::string agent;          // how the program at the other end calls itself (User-Agent), as far as it does
    std::string latest;         // of the stream it fetched last
    std::uint64_t first = 0;    // in the file, where what was asked for last begins
    std::uint64_t waiting = 0;  // bytes that were sent and haven't arrived yet (the kernel's queue)
    bool takes = false;         // some of them are on their way, so that it takes what comes
};

struct ServerStatus {
    Time uptime{};
    std::uint64_t sent = 0;  // body bytes to all clients, gone ones included
    std::uint64_t requests = 0;
    std::vector<ClientStatus> clients;
};

// Something worth a log line.
struct ServerEvent {
    enum class Kind { request, refused, left, dropped, disk } kind = Kind::request;
    std::string address;
    std::string what;  // "GET /film.mp4, bytes 0-1023" ...
};

struct HttpServerSettings {
    std::string address;                    // to listen on; empty: all, IPv4 and IPv6
    std::uint16_t port = kDefaultHttpPort;  // 0: any free one
    std::vector<std::uint16_t> further;     // ports it listens at, too
    int threads = std::max(2, host::processors());
    Time idle_limit = base::from_seconds(60);  // a client that takes or asks nothing for so long is dropped
    std::size_t most_connections = 0;          // 0: as many as the process may have open files for
    // Bytes of bodies in memory that are on their way to clients, each body counted once; beyond it those that take
    // nothing are dropped, then others told to come back (503).
    std::size_t body_memory = 96 << 20;
    host::DiskWorkSettings disks;  // on_change is the server's own
    HttpAnswer answer;             // called from the server's threads, several at a time; should be quick
    FanOut* fan_out = nullptr;     // for broadcasts; must outlive the server
    std::function<void(const ServerEvent&)> on_event;  // called from the server's threads, one at a time
};

class HttpServer {
  public:
    // Fails (kind machine) when the port is taken (naming the process that holds it where that can be seen), not
    // permitted, or the address is not this machine's.
    static Result<std::unique_ptr<HttpServer>> start(HttpServerSettings settings);
    // Closes all connections and waits for the threads; for what a hanging drive or share holds only for half a second.
    ~HttpServer();
    std::vector<host::HungDisk> hung_disks() const;

    std::uint16_t port() const;
    ServerStatus status() const;
    // Serves a connection of HTTPS, decrypted elsewhere, as one of its own: a socket of any kind, which the server
    // closes. It came to `port`.
    void adopt(int socket, std::string address, std::uint16_t port);

  private:
    struct State;
    explicit HttpServer(std::unique_ptr<State> state);
    std::unique_ptr<State> state_;
};

// A Range header's value (RFC 9110, 14.1.2) for a file of `size` bytes.
struct ByteRange {
    enum class Kind { whole, part, unsatisfiable } kind = Kind::whole;
    std::uint64_t first = 0;
    std::uint64_t last = 0;  // inclusive
};
// Several ranges, other units and malformed values give the whole file, as the RFC allows.
ByteRange parse_range(std::string_view value, std::uint64_t size);

}  // namespace wavecrest::net
