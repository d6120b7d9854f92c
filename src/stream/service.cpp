#include "stream/service.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>

#include "source/input.hpp"

namespace wavecrest::stream {
namespace {

std::string media_type(const std::string& container) {
    return container == "mp4" ? "video/mp4" : "application/octet-stream";
}

}  // namespace

std::string default_path(const std::string& name, const base::Path& file) {
    std::string path = "/";
    for (const char c : name) {
        const auto u = static_cast<unsigned char>(c);
        if (std::isalnum(u) != 0) {
            path += static_cast<char>(std::tolower(u));
        } else if (path.back() != '-' && path.back() != '/') {
            path += '-';
        }
    }
    while (path.size() > 1 && path.back() == '-') path.pop_back();
    return path + file.extension().string();
}

std::string address_for(const std::string& host, std::uint16_t port, const std::string& path) {
    const bool ipv6 = host.find(':') != std::string::npos;
    return fmt::format("http://{}{}{}{}{}", ipv6 ? "[" : "", host, ipv6 ? "]" : "",
                       port == 80 ? "" : fmt::format(":{}", port), net::encode_path(path));
}

Result<std::vector<ReadyStream>> prepare(const std::vector<StreamItem>& items) {
    std::vector<ReadyStream> ready;
    for (const StreamItem& item : items) {
        WAVECREST_TRY_ASSIGN(input, source::open_input(item.file));
        if (input->is_disc()) {
            return fail(ErrorKind::input, "a disc rip can't be streamed as it is", item.file.string(),
                        "convert it first (wavecrest convert), then stream the file it makes");
        }
        const source::Title& title = input->titles().front();
        ReadyStream stream;
        stream.name = item.name;
        stream.file = item.file;
        stream.path = item.path.empty() ? default_path(item.name, item.file) : item.path;
        stream.container = input->container();
        stream.duration = title.duration;
        stream.size_bytes = title.size_bytes;
        if (!stream.path.starts_with("/") || stream.path.find_first_of("?#") != std::string::npos) {
            return fail(ErrorKind::usage, fmt::format("\"{}\" is no path", stream.path),
                        fmt::format("stream \"{}\"", item.name), "begin it with / and leave out ? and #");
        }
        for (const ReadyStream& other : ready) {
            if (other.path != stream.path) continue;
            return fail(ErrorKind::usage,
                        fmt::format("the streams \"{}\" and \"{}\" have the same path {}", other.name, stream.name,
                                    stream.path),
                        "streams", "give one of them another name or path");
        }
        if (title.duration.count() > 0)
            stream.bitrate_bps =
                static_cast<std::int64_t>(static_cast<double>(title.size_bytes) * 8 / base::to_seconds(title.duration));
        if (const auto pieces = input->rate(title.number)) stream.curve = measure::RateCurve(*pieces);
        ready.push_back(std::move(stream));
    }
    return ready;
}

Result<std::unique_ptr<Service>> Service::start(std::vector<ReadyStream> streams, const ServiceSettings& settings) {
    net::HttpServerSettings http;
    http.address = settings.address;
    http.port = settings.port;
    http.on_event = settings.on_event;
    for (const ReadyStream& stream : streams)
        http.files.push_back({stream.path, stream.file, media_type(stream.container), stream.name});
    WAVECREST_TRY_ASSIGN(server, net::HttpServer::start(std::move(http)));
    return std::unique_ptr<Service>(new Service(std::move(streams), std::move(server)));
}

ServiceStatus Service::status() const {
    const net::ServerStatus server = server_->status();
    ServiceStatus status{server.uptime, server.sent, server.requests, server.clients.size(), {}};
    for (const net::ClientStatus& client : server.clients) {
        if (client.name.empty()) continue;
        const auto stream =
            std::find_if(streams_.begin(), streams_.end(), [&](const ReadyStream& s) { return s.name == client.name; });
        Viewer viewer{client.address, client.name, {}, {}, client.sent};
        if (stream != streams_.end() && client.size > 0) {
            viewer.duration = stream->duration;
            // The index comes first in the file, then pictures and sound in the order of their times.
            const std::uint64_t media = stream->curve.bytes();
            const std::uint64_t index = stream->size_bytes > media ? stream->size_bytes - media : 0;
            viewer.position = stream->curve.time_of(client.offset > index ? client.offset - index : 0);
        }
        status.viewers.push_back(std::move(viewer));
    }
    return status;
}

}  // namespace wavecrest::stream
