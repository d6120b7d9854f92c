// Configured streams at work: checked before anything listens, then served, with figures while it runs.
#pragma once

#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "base/file.hpp"
#include "base/result.hpp"
#include "measure/rate.hpp"
#include "net/http_server.hpp"

namespace wavecrest::stream {

struct StreamItem {
    std::string name;
    base::Path file;
    std::string path;  // of the URL; empty: made from the name and the file's extension
};

// A stream that was found fit to be served.
struct ReadyStream {
    std::string name;
    base::Path file;
    std::string path;
    std::string container;
    Time duration{};
    std::uint64_t size_bytes = 0;
    std::int64_t bitrate_bps = 0;  // mean
    measure::RateCurve curve;      // bytes over the title's time
};

// The path a stream gets when none is given: "/lanterns.mp4".
std::string default_path(const std::string& name, const base::Path& file);
// The address to enter on a device.
std::string address_for(const std::string& host, std::uint16_t port, const std::string& path);

// Opens every file and reads its index. Fails on the first that is missing, unreadable or no media file, on paths that
// do not begin with "/" and on two streams with one path (kind usage for these).
Result<std::vector<ReadyStream>> prepare(const std::vector<StreamItem>& items);

struct ServiceSettings {
    std::string address;  // to listen on; empty: all
    std::uint16_t port = net::kDefaultHttpPort;
    std::function<void(const net::ServerEvent&)> on_event;
};

// A client with its place in the title.
struct Viewer {
    std::string address;
    std::string stream;
    Time position{};  // of what has been sent; some of it still waits in the network's and the player's buffers
    Time duration{};
    std::uint64_t sent = 0;
};

struct ServiceStatus {
    Time uptime{};
    std::uint64_t sent = 0;
    std::uint64_t requests = 0;
    std::size_t connections = 0;
    std::vector<Viewer> viewers;  // connections a body is being sent on
};

class Service {
  public:
    static Result<std::unique_ptr<Service>> start(std::vector<ReadyStream> streams, const ServiceSettings& settings);
    std::uint16_t port() const { return server_->port(); }
    const std::vector<ReadyStream>& streams() const { return streams_; }
    ServiceStatus status() const;

  private:
    Service(std::vector<ReadyStream> streams, std::unique_ptr<net::HttpServer> server)
        : streams_(std::move(streams)), server_(std::move(server)) {}
    std::vector<ReadyStream> streams_;
    std::unique_ptr<net::HttpServer> server_;
};

}  // namespace wavecrest::stream
