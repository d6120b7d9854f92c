#include "net/http_server.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <linux/sockios.h>
#include <netinet/tcp.h>
#include <signal.h>
#include <sys/ioctl.h>
#include <sys/resource.h>
#include <sys/sendfile.h>
#include <sys/stat.h>

#include <boost/asio.hpp>
#include <boost/beast/core.hpp>
#include <boost/beast/http.hpp>

#include <array>
#include <atomic>
#include <charconv>
#include <chrono>
#include <ctime>
#include <list>
#include <map>
#include <optional>
#include <sstream>
#include <thread>

#include "base/mutex.hpp"
#include "base/printable.hpp"
#include "base/units.hpp"
#include "net/acceptor.hpp"
#include "net/crowd.hpp"
#include "net/url.hpp"

namespace wavecrest::net {
namespace {

namespace asio = boost::asio;
namespace beast = boost::beast;
namespace http = beast::http;
using asio::ip::tcp;
using boost::system::error_code;

constexpr std::size_t kHeaderLimit = 16 * 1024;
constexpr std::size_t kSendStep = 1 << 20;  // bytes a call to sendfile, so that clients share the threads
// Kernel memory for what is on its way to a client (the system doubles it): a large buffer is filled with few calls,
// but a thousand of them are a gigabyte. All clients share a budget.
constexpr int kSmallBuffer = 192 << 10, kLargeBuffer = 2 << 20;
constexpr std::size_t kBufferBudget = 96 << 20;

std::string http_date(std::time_t time) {
    std::tm parts{};
    ::gmtime_r(&time, &parts);
    char text[64];
    std::strftime(text, sizeof text, "%a, %d %b %Y %H:%M:%S GMT", &parts);
    return text;
}

std::optional<std::time_t> parse_http_date(std::string_view text) {
    std::tm parts{};
    const std::string copy(text);
    const char* rest = ::strptime(copy.c_str(), "%a, %d %b %Y %H:%M:%S GMT", &parts);
    if (rest == nullptr || *rest != '\0') return std::nullopt;
    return ::timegm(&parts);
}

// Does an If-None-Match list (RFC 9110, 13.1.2) name this tag? Weak comparison.
bool lists_tag(std::string_view list, std::string_view tag) {
    if (list == "*") return true;
    for (std::size_t at = list.find(tag); at != std::string_view::npos; at = list.find(tag, at + 1)) {
        const std::size_t end = at + tag.size();
        if (end == list.size() || list[end] == ',' || list[end] == ' ') return true;
    }
    return false;
}

class File {
  public:
    explicit File(const base::Path& path) : handle_(base::open_without_links(path)) {
        if (handle_ >= 0 && (::fstat(handle_, &info_) != 0 || !S_ISREG(info_.st_mode))) {
            ::close(handle_);
            handle_ = -1;
        }
        remote_ = handle_ < 0 || base::may_be_remote(handle_);
    }
    explicit File(RemoteFile from) : handle_(-1), bytes_(std::move(from.bytes)) {
        info_.st_size = static_cast<off_t>(bytes_->size());
        info_.st_mtim.tv_sec = from.modified_ns / 1'000'000'000;
        info_.st_mtim.tv_nsec = from.modified_ns % 1'000'000'000;
    }
    File(const File&) = delete;
    File& operator=(const File&) = delete;
    ~File() {
        if (handle_ >= 0) ::close(handle_);
    }
    bool ok() const { return handle_ >= 0 || bytes_; }
    int handle() const { return handle_; }
    // Of a file server's file what reads it; null for others.
    base::ByteSource* bytes() const { return bytes_.get(); }
    // Sending this much waits for nothing: it is here, in memory.
    bool is_at_hand(std::uint64_t offset, std::size_t count) const {
        return !remote_ && base::is_in_memory(handle_, offset, count);
    }
    std::uint64_t size() const { return static_cast<std::uint64_t>(info_.st_size); }
    std::time_t modified() const { return info_.st_mtim.tv_sec; }
    std::string tag() const {
        return fmt::format("\"{:x}-{:x}-{:x}\"", info_.st_size, info_.st_mtim.tv_sec, info_.st_mtim.tv_nsec);
    }

  private:
    int handle_;
    bool remote_ = true;
    struct stat info_ {};
    std::shared_ptr<base::ByteSource> bytes_;
};

using Steady = std::chrono::steady_clock;
// Of any family: connections that come decrypted from elsewhere are local ones.
using Socket = asio::generic::stream_protocol::socket;

// One connection. Its coroutine runs on its own strand; the figures are read from other threads.
struct Client {
    Client(Socket s, std::string a, std::uint64_t number, std::uint16_t to, bool by_tls)
        : id(number), socket(std::move(s)), address(std::move(a)), port(to), secure(by_tls) {}
    const std::uint64_t id;
    Socket socket;
    std::string address;
    const std::uint16_t port;
    const bool secure;
    Steady::time_point connected = Steady::now();
    std::atomic<Steady::rep> last_progress{Steady::now().time_since_epoch().count()};
    base::Mutex mutex;
    std::string name GUARDED_BY(mutex);    // of what is being sent
    std::string latest GUARDED_BY(mutex);  // of what was sent last
    std::string agent GUARDED_BY(mutex);
    std::atomic<std::uint64_t> first{0};
    int buffer = 0;  // bytes, of the socket
    std::atomic<bool> sending{false}, live{false}, noted{false}, served{false};
    std::atomic<bool> of_file{false};
    std::atomic<bool> holds_body{false};  // of the memory for bodies
    Bytes counted;                        // in that memory; of the thread that answers
    std::atomic<std::uint64_t> offset{0};
    std::atomic<std::uint64_t> size{0};
    std::atomic<std::uint64_t> sent{0};
    std::atomic<bool> dropped{false};

    void begin(const std::string& what) {
        const base::MutexLock lock(mutex);
        name = latest = what;
        sending = true;
    }
    void end() {
        const base::MutexLock lock(mutex);
        name.clear();
        sending = false;
    }
    void calls_itself(std::string_view text) {
        constexpr std::size_t kLongest = 200;
        const base::MutexLock lock(mutex);
        agent = base::printable(text.substr(0, kLongest));
    }
    std::string own_name() {
        const base::MutexLock lock(mutex);
        return agent;
    }
    void progress() { last_progress = Steady::now().time_since_epoch().count(); }
    Time quiet(Steady::time_point now) const {
        return std::chrono::duration_cast<Time>(now - Steady::time_point{Steady::duration(last_progress.load())});
    }
    // Whatever waits for it goes on and finds that it is gone. Its handle is closed with the object: a thread that
    // sends may hold it still, and its number mustn't be another's meanwhile.
    void hang_up() { ::shutdown(socket.native_handle(), SHUT_RDWR); }
};

// Bodies in memory that are on their way, each counted once.
class BodyBudget {
  public:
    void take(const Bytes& body) {
        const base::MutexLock lock(mutex_);
        auto& [size, holders] = bodies_[body.data()];
        if (holders++ == 0) used_ += size = body.size();
    }
    void give_back(const Bytes& body) {
        const base::MutexLock lock(mutex_);
        const auto found = bodies_.find(body.data());
        if (found == bodies_.end() || --found->second.second > 0) return;
        used_ -= found->second.first;
        bodies_.erase(found);
    }
    std::size_t used() const {
        const base::MutexLock lock(mutex_);
        return used_;
    }

  private:
    mutable base::Mutex mutex_;
    std::map<const void*, std::pair<std::size_t, std::size_t>> bodies_ GUARDED_BY(mutex_);  // size and holders
    std::size_t used_ GUARDED_BY(mutex_) = 0;
};
constexpr std::size_t kSmallBody = 64 << 10;  // isn't counted

constexpr std::chrono::milliseconds kAskAgain{20};  // HttpReply::wait_until

HttpReply unavailable(host::DiskWork::Outcome outcome) {
    HttpReply reply = HttpReply::text(503, outcome == host::DiskWork::Outcome::busy
                                               ? "The server is busy. Try again in a moment.\n"
                                               : "The drive or share of this stream does not respond.\n");
    reply.fields.emplace_back("Retry-After", outcome == host::DiskWork::Outcome::busy ? "1" : "5");
    return reply;
}

Time to_time(Steady::duration duration) {
    return std::chrono::duration_cast<Time>(duration);
}

}  // namespace

struct HttpServer::State {
    HttpServerSettings settings;
    // One for each thread: connections belong to one of them, and none waits for another. (One context for all threads
    // costs a tenth more processor time when files are served, in handing over between them.)
    std::vector<std::unique_ptr<asio::io_context>> contexts;
    std::atomic<std::size_t> turn{0};
    Acceptors acceptors;
    std::optional<asio::steady_timer> housekeeping;
    std::unique_ptr<host::DiskWork> disks;
    CrowdLimits limits;
    BodyBudget bodies;
    std::atomic<bool> crowded{false};  // said already
    std::vector<std::thread> threads;
    Steady::time_point started = Steady::now();
    std::atomic<std::uint64_t> sent{0};
    std::atomic<std::uint64_t> requests{0};
    std::atomic<std::uint64_t> last_id{0};
    mutable base::Mutex mutex;
    std::list<std::shared_ptr<Client>> clients GUARDED_BY(mutex);
    std::atomic<std::size_t> crowd{0};  // how many they are
    base::Mutex event_mutex;

    void event(ServerEvent::Kind kind, const std::string& address, std::string what) {
        if (!settings.on_event) return;
        const base::MutexLock lock(event_mutex);
        settings.on_event({kind, address, std::move(what)});
    }

    asio::io_context& next_context() { return *contexts[turn++ % contexts.size()]; }
    asio::awaitable<void> accept_loop(tcp::acceptor& acceptor);
    asio::awaitable<void> serve(std::shared_ptr<Client> client);
    void begin(Socket socket, std::string address, std::uint16_t port, bool secure);
    // As many clients as there are now decide how much each may have.
    void fit_buffer(Client& client) const {
        const auto wanted = static_cast<int>(
            std::clamp<std::size_t>(kBufferBudget / std::max<std::size_t>(crowd, 1), kSmallBuffer, kLargeBuffer));
        if (client.buffer != 0 && wanted > client.buffer / 2 && wanted < client.buffer * 2) return;
        client.buffer = wanted;
        error_code ignored;
        client.socket.set_option(asio::socket_base::send_buffer_size(wanted), ignored);
    }
    asio::awaitable<bool> answer(std::shared_ptr<Client> client, const http::request<http::string_body>& request);
    asio::awaitable<HttpReply> find_reply(const http::request<http::string_body>& request, Client& client);
    bool make_room(const std::string& address);
    bool make_room_for(Client& client, const Bytes& body);
    asio::awaitable<host::DiskWork::Outcome> on_disk(Client& client, host::DiskQueue queue, std::function<void()> work);
    asio::awaitable<bool> send_file(std::shared_ptr<Client> client, std::shared_ptr<File> file, base::Address path,
                                    std::uint64_t first, std::uint64_t count);
    asio::awaitable<bool> send_remote(std::shared_ptr<Client> client, std::shared_ptr<File> file, base::Address path,
                                      std::uint64_t first, std::uint64_t count);
    asio::awaitable<bool> send_bytes(Client& client, ByteSpan bytes);
    asio::awaitable<void> send_broadcast(Client& client, const HttpReply& reply, std::string header);
    void keep_house();
};

asio::awaitable<void> HttpServer::State::accept_loop(tcp::acceptor& acceptor) {
    const std::uint16_t port = port_of(acceptor);
    while (true) {
        error_code error;
        tcp::socket socket =
            co_await acceptor.async_accept(next_context(), asio::redirect_error(asio::use_awaitable, error));
        if (error == asio::error::operation_aborted || !acceptor.is_open()) co_return;
        if (error) {
            // Out of handles, most likely: give clients a moment to leave.
            asio::steady_timer pause(*contexts.front(), std::chrono::milliseconds(100));
            co_await pause.async_wait(asio::redirect_error(asio::use_awaitable, error));
            continue;
        }
        const std::string address = peer_address(socket);
        if (!make_room(address)) continue;
        socket.set_option(tcp::no_delay(true), error);
        begin(Socket(std::move(socket)), address, port, false);
    }
}

void HttpServer::State::begin(Socket socket, std::string address, std::uint16_t port, bool secure) {
    error_code ignored;
    socket.native_non_blocking(true, ignored);
    const auto executor = socket.get_executor();
    auto client = std::make_shared<Client>(std::move(socket), std::move(address), ++last_id, port, secure);
    {
        const base::MutexLock lock(mutex);
        clients.push_back(client);
        crowd = clients.size();
    }
    fit_buffer(*client);
    asio::co_spawn(executor, serve(client), asio::detached);
}

// False when a newcomer can't be taken.
bool HttpServer::State::make_room(const std::string& address) {
    const auto now = Steady::now();
    const base::MutexLock lock(mutex);
    if (clients.size() < std::min(limits.most, limits.most_of_address)) return true;
    std::vector<Guest> guests;
    std::vector<std::shared_ptr<Client>> all;
    for (const auto& client : clients) {
        guests.push_back({client->address, client->served || client->live, client->live ? Time{} : client->quiet(now)});
        all.push_back(client);
    }
    const auto choice = who_gives_way(guests, address, limits);
    if (!choice) return true;
    if (!crowded.exchange(true))
        event(ServerEvent::Kind::refused, address,
              fmt::format("{} connections are open: idle ones are closed", clients.size()));
    if (*choice == guests.size()) return false;
    all[*choice]->hang_up();
    clients.remove(all[*choice]);  // it counts no more, though it is on its way out still
    crowd = clients.size();
    return true;
}

// Whether a body may be held for this client, which has it counted until its answer is through; others that take
// nothing give way to it.
bool HttpServer::State::make_room_for(Client& client, const Bytes& body) {
    constexpr Time kStalled = std::chrono::seconds(2);
    const base::MutexLock lock(mutex);
    while (bodies.used() + body.size() > settings.body_memory) {
        const auto now = Steady::now();
        std::shared_ptr<Client> quietest;
        for (const auto& one : clients) {
            if (one.get() == &client || !one->holds_body || one->dropped || one->quiet(now) < kStalled) continue;
            if (!quietest || one->quiet(now) > quietest->quiet(now)) quietest = one;
        }
        if (!quietest) return false;
        // What it holds comes back in a moment, when its coroutine has noticed.
        quietest->dropped = true;
        quietest->hang_up();
        break;
    }
    // Counted in the same step: two answers at one moment must not both find room for one.
    bodies.take(body);
    client.counted = body;
    return true;
}

// Runs work on the threads of a file system, while this connection's thread serves others.
asio::awaitable<host::DiskWork::Outcome> HttpServer::State::on_disk(Client& client, host::DiskQueue queue,
                                                                    std::function<void()> work) {
    struct Wait {
        explicit Wait(const asio::any_io_executor& executor) : over(executor) {}
        asio::steady_timer over;
        std::optional<host::DiskWork::Outcome> outcome;
    };
    const asio::any_io_executor executor = client.socket.get_executor();
    const auto wait = std::make_shared<Wait>(executor);
    wait->over.expires_at(asio::steady_timer::time_point::max());
    auto done = [wait, executor](host::DiskWork::Outcome outcome) {
        asio::post(executor, [wait, outcome] {
            wait->outcome = outcome;
            wait->over.cancel();
        });
    };
    disks->run(queue, std::move(work), std::move(done));
    error_code ignored;
    while (!wait->outcome) co_await wait->over.async_wait(asio::redirect_error(asio::use_awaitable, ignored));
    co_return *wait->outcome;
}

// What a request's header alone decides (RFC 9112): the status to refuse it with, or 0.
int refusal_of(const http::request<http::string_body>& request) {
    // 3.2: exactly one Host, in HTTP/1.1.
    if (request.version() >= 11 && request.count(http::field::host) != 1) return 400;
    if (request.count(http::field::host) > 1) return 400;
    // 6.1 and 6.3: a coding that isn't known hides where the body ends; so does a length beside a coding.
    if (request.count(http::field::transfer_encoding) > 0) {
        if (request.count(http::field::transfer_encoding) > 1 || request.count(http::field::content_length) > 0)
            return 400;
        const auto coding = request[http::field::transfer_encoding];
        if (!beast::iequals(coding, "chunked")) return 501;
    }
    const auto expected = request[http::field::expect];
    if (!expected.empty() && !beast::iequals(expected, "100-continue")) return 417;
    return 0;
}

asio::awaitable<void> HttpServer::State::serve(std::shared_ptr<Client> client) {
    beast::flat_buffer buffer(kHeaderLimit + kMostHttpBody);
    bool open = true;
    while (open) {
        http::request_parser<http::string_body> parser;
        parser.header_limit(kHeaderLimit);
        parser.body_limit(kMostHttpBody);
        error_code error;
        co_await http::async_read_header(client->socket, buffer, parser,
                                         asio::redirect_error(asio::use_awaitable, error));
        int refused = 0;
        if (!error) {
            refused = refusal_of(parser.get());
            // RFC 9110, 10.1.1.
            static constexpr std::string_view kContinue = "HTTP/1.1 100 Continue\r\n\r\n";
            if (refused == 0 && !parser.is_done() && !parser.get()[http::field::expect].empty())
                co_await asio::async_write(client->socket, asio::buffer(kContinue),
                                           asio::redirect_error(asio::use_awaitable, error));
        }
        if (!error && refused == 0)
            co_await http::async_read(client->socket, buffer, parser, asio::redirect_error(asio::use_awaitable, error));
        if (error && error.category() == http::make_error_code(http::error::bad_version).category() &&
            error != http::error::end_of_stream && error != http::error::partial_message)
            refused = error == http::error::body_limit ? 413 : error == http::error::header_limit ? 431 : 400;
        if (refused != 0) {
            event(ServerEvent::Kind::refused, client->address,
                  fmt::format("invalid HTTP request ({})", error ? error.message() : std::to_string(refused)));
            const std::string bad =
                fmt::format("HTTP/1.1 {} {}\r\nContent-Length: 0\r\nConnection: close\r\n\r\n", refused,
                            std::string(http::obsolete_reason(static_cast<http::status>(refused))));
            co_await asio::async_write(client->socket, asio::buffer(bad),
                                       asio::redirect_error(asio::use_awaitable, error));
            break;
        }
        if (error) break;
        client->progress();
        ++requests;
        client->served = true;
        const http::request<http::string_body> request = parser.release();
        open = co_await answer(client, request);
        if (!client->counted.empty()) bodies.give_back(std::exchange(client->counted, Bytes{}));
        client->served = false;
    }
    client->hang_up();
    // Who only asked for controls leaves without a word, too.
    if (client->noted)
        event(client->dropped ? ServerEvent::Kind::dropped : ServerEvent::Kind::left, client->address,
              base::format_bytes(client->sent.load()) + " sent");
    const base::MutexLock lock(mutex);
    clients.remove(client);
    crowd = clients.size();
}

asio::awaitable<HttpReply> HttpServer::State::find_reply(const http::request<http::string_body>& request,
                                                         Client& client) {
    std::string_view target(request.target().data(), request.target().size());
    HttpRequest asked;
    for (const auto& one : request)
        asked.fields.emplace_back(std::string(one.name_string().data(), one.name_string().size()),
                                  std::string(one.value().data(), one.value().size()));
    // RFC 9112, 3.2.2: a whole address, whose host counts instead of the field's.
    for (const std::string_view scheme : {"http://", "https://"}) {
        if (!beast::iequals(request.target().substr(0, scheme.size()),
                            beast::string_view(scheme.data(), scheme.size())))
            continue;
        target.remove_prefix(scheme.size());
        const std::size_t end = std::min(target.find_first_of("/?"), target.size());
        asked.fields.insert(asked.fields.begin(), {"Host", std::string(target.substr(0, end))});
        target.remove_prefix(end);
        if (target.empty()) target = "/";
    }
    asked.method = std::string(request.method_string().data(), request.method_string().size());
    if (asked.method == "HEAD") asked.method = "GET";
    asked.path = decode_path(target);
    if (const std::size_t mark = target.find('?'); mark != std::string_view::npos)
        asked.query = std::string(target.substr(mark + 1));
    asked.body = request.body();
    asked.address = client.address;
    asked.port = client.port;
    asked.secure = client.secure;
    HttpReply reply = settings.answer(asked);
    if (reply.wait_until) {
        const auto end = std::chrono::steady_clock::now() + reply.wait_most;
        asio::steady_timer pause(client.socket.get_executor());
        while (!reply.wait_until() && std::chrono::steady_clock::now() < end) {
            error_code ignored;
            pause.expires_after(kAskAgain);
            co_await pause.async_wait(asio::redirect_error(asio::use_awaitable, ignored));
        }
        asked.waited = true;
        reply = settings.answer(asked);
    }
    if (!reply.later) co_return reply;
    const auto made = std::make_shared<HttpReply>();
    const std::string file = reply.later_from.text();
    host::DiskQueue queue{reply.later_from, "made of " + file, 1, client.address};
    auto work = [made, later = std::move(reply.later)] { *made = later(); };
    const auto outcome = co_await on_disk(client, std::move(queue), std::move(work));
    if (outcome != host::DiskWork::Outcome::done) co_return unavailable(outcome);
    co_return std::move(*made);
}

asio::awaitable<bool> HttpServer::State::answer(std::shared_ptr<Client> held,
                                                const http::request<http::string_body>& request) {
    Client& client = *held;
    const bool head = request.method() == http::verb::head;
    http::response<http::string_body> response{http::status::ok, request.version()};
    response.set(http::field::server, "Wavecrest");
    response.keep_alive(request.keep_alive());
    const std::string method(request.method_string().data(), request.method_string().size());

    HttpReply reply;
    if (request.method() == http::verb::options) {
        reply.status = 204;
        response.set(http::field::allow, "GET, HEAD, OPTIONS");
        response.set(http::field::access_control_allow_methods, "GET, HEAD");
        response.set(http::field::access_control_allow_headers, "Range");
    } else {
        reply = co_await find_reply(request, client);
    }
    std::shared_ptr<File> file;
    base::Address path;
    if (reply.file && reply.status == 200) {
        path = *reply.file;
        const auto opened = std::make_shared<std::shared_ptr<File>>();
        auto work = [opened, path, open_remote = reply.open_remote] {
            if (!open_remote) {
                *opened = std::make_shared<File>(path.path());
            } else if (auto remote = open_remote()) {
                *opened = std::make_shared<File>(std::move(*remote));
            }
        };
        host::DiskQueue queue{path, "open", 4, client.address};
        const auto outcome = co_await on_disk(client, std::move(queue), std::move(work));
        if (outcome != host::DiskWork::Outcome::done) {
            reply = unavailable(outcome);
        } else if (!*opened || !(*opened)->ok()) {
            reply = HttpReply::text(503, "The stream's file can't be read at the moment.\n");
        } else {
            file = *opened;
        }
    }
    const Bytes held_bytes = !file ? reply.body : reply.file_part ? reply.file_part->head : Bytes{};
    const bool in_memory = held_bytes.size() > kSmallBody;
    if (in_memory && !make_room_for(client, held_bytes)) reply = unavailable(host::DiskWork::Outcome::busy);
    if (reply.any_origin)
        response.set(http::field::access_control_allow_origin, "*");  // players in web pages of other origins
    for (const auto& [name, value] : reply.fields) response.set(name, value);
    response.result(static_cast<unsigned>(reply.status));
    if (reply.status == 405) response.set(http::field::allow, "GET, HEAD, OPTIONS");
    if (!reply.cache_control.empty()) response.set(http::field::cache_control, reply.cache_control);
    if (reply.status != 204) response.set(http::field::content_type, reply.media_type);

    const std::uint64_t size = file ? file->size() : reply.body.size();
    std::uint64_t first = 0, count = size;
    ByteSpan in_front;
    std::string part;
    if (reply.broadcast && reply.status == 200) {
        response.set(http::field::accept_ranges, "none");
        response.keep_alive(false);
    } else if (reply.status == 200) {
        const auto value = [&](http::field field) {
            return std::string_view(request[field].data(), request[field].size());
        };
        // RFC 9110, 13.2.2: If-None-Match takes precedence over If-Modified-Since.
        bool unchanged = false;
        std::string tag;
        // A part of a file behind a head of its own has neither ranges nor the file's tag.
        response.set(http::field::accept_ranges, reply.file_part ? "none" : "bytes");
        if (reply.any_origin)
            response.set(http::field::access_control_expose_headers, "Content-Length, Content-Range, Accept-Ranges");
        if (file && !reply.file_part) {
            tag = file->tag();
            response.set(http::field::etag, tag);
            response.set(http::field::last_modified, http_date(file->modified()));
            if (const auto wanted = value(http::field::if_none_match); !wanted.empty()) {
                unchanged = lists_tag(wanted, tag);
            } else if (const auto since = parse_http_date(value(http::field::if_modified_since))) {
                unchanged = file->modified() <= *since;
            }
        }
        ByteRange range;
        if (const auto asked = value(http::field::range); !asked.empty()) range = parse_range(asked, size);
        if (const auto condition = value(http::field::if_range); !condition.empty()) {
            const auto date = parse_http_date(condition);
            const bool same = file && (date ? *date == file->modified() : condition == tag);
            if (!same) range = {};
        }
        if (file && reply.file_part) {
            first = std::min(reply.file_part->first, size);
            count = std::clamp(reply.file_part->end, first, size) - first;
            in_front = held_bytes.view();
            response.content_length(in_front.size() + count);
            part = fmt::format(", from byte {}", first);
        } else if (unchanged) {
            response.result(http::status::not_modified);
            count = 0;
        } else if (range.kind == ByteRange::Kind::unsatisfiable) {
            response.result(http::status::range_not_satisfiable);
            response.set(http::field::content_range, fmt::format("bytes */{}", size));
            count = 0;
            response.content_length(0);
        } else {
            if (range.kind == ByteRange::Kind::part) {
                first = range.first;
                count = range.last - range.first + 1;
                response.result(http::status::partial_content);
                response.set(http::field::content_range, fmt::format("bytes {}-{}/{}", range.first, range.last, size));
                part = fmt::format(", bytes {}-{}", range.first, range.last);
            }
            response.content_length(count);
        }
    } else if (reply.status != 204) {
        response.content_length(count);
    }
    if (reply.status >= 400 || !reply.name.empty()) client.noted = true;
    if (reply.status >= 400) {
        event(
            ServerEvent::Kind::refused, client.address,
            fmt::format("{} {}: {}", method,
                        decode_path(std::string_view(request.target().data(), request.target().size())), reply.status));
    } else if (!reply.name.empty()) {
        event(ServerEvent::Kind::request, client.address, fmt::format("{} {}{}", method, reply.name, part));
    }

    std::string header;
    {
        // The header alone; the body follows by other means.
        std::ostringstream text;
        text << response.base();
        header = text.str();
    }
    if (const auto agent = request.find(http::field::user_agent); agent != request.end() && !reply.name.empty())
        client.calls_itself(agent->value());
    if (reply.broadcast && reply.status == 200 && !head) {
        co_await send_broadcast(client, reply, std::move(header));
        co_return false;
    }
    error_code error;
    co_await asio::async_write(client.socket, asio::buffer(header), asio::redirect_error(asio::use_awaitable, error));
    if (error) co_return false;
    client.progress();
    if (in_front.size() + count > 0 && !head && reply.status != 204) {
        client.size = size;
        client.of_file = static_cast<bool>(file);
        client.offset = client.first = first;
        if (!reply.name.empty()) client.begin(reply.name);
        bool sent_all = true;
        if (!in_front.empty()) {
            client.holds_body = !client.counted.empty();
            sent_all = co_await send_bytes(client, in_front);
            client.holds_body = false;
            client.offset = first;
        }
        if (!sent_all) {
            // it left
        } else if (file && file->bytes() != nullptr) {
            sent_all = co_await send_remote(held, file, path, first, count);
        } else if (file) {
            sent_all = co_await send_file(held, file, path, first, count);
        } else {
            const ByteSpan bytes =
                reply.body.view().subspan(static_cast<std::size_t>(first), static_cast<std::size_t>(count));
            client.holds_body = !client.counted.empty();
            sent_all = co_await send_bytes(client, bytes);
            client.holds_body = false;
        }
        client.end();
        if (!sent_all) co_return false;
    }
    co_return response.keep_alive();
}

asio::awaitable<bool> HttpServer::State::send_bytes(Client& client, ByteSpan bytes) {
    constexpr std::size_t kStep = 256 * 1024;
    while (!bytes.empty()) {
        error_code error;
        const std::size_t n =
            co_await client.socket.async_write_some(asio::buffer(bytes.data(), std::min(bytes.size(), kStep)),
                                                    asio::redirect_error(asio::use_awaitable, error));
        if (error) co_return false;
        client.progress();
        client.offset += n;
        client.sent += n;
        sent += n;
        bytes = bytes.subspan(n);
    }
    co_return true;
}

// The fan-out writes; here the client is only listened to, to notice that it leaves.
asio::awaitable<void> HttpServer::State::send_broadcast(Client& client, const HttpReply& reply, std::string header) {
    const int socket = ::dup(client.socket.native_handle());
    if (socket < 0 || settings.fan_out == nullptr) co_return;
    client.live = true;
    client.begin(reply.name);
    const ByteSpan bytes = base::as_bytes(header);
    const std::string agent = client.own_name();
    const std::uint64_t id = settings.fan_out->add(reply.broadcast, socket, client.address,
                                                   Bytes(ByteVector(bytes.begin(), bytes.end())), 0, {}, agent);
    std::array<char, 1024> ignored{};
    error_code error;
    while (!error) {
        co_await client.socket.async_read_some(asio::buffer(ignored), asio::redirect_error(asio::use_awaitable, error));
    }
    for (const FanOutClient& one : settings.fan_out->clients()) {
        if (one.id == id) client.sent += one.sent;
    }
    settings.fan_out->remove(id);
    client.end();
    client.live = false;
}

// What lies on a file server is read by a thread for that server, and sent from memory.
asio::awaitable<bool> HttpServer::State::send_remote(std::shared_ptr<Client> client, std::shared_ptr<File> file,
                                                     base::Address path, std::uint64_t first, std::uint64_t count) {
    struct Piece {
        ByteVector bytes;
        bool good = false;
    };
    while (count > 0) {
        const auto step = static_cast<std::size_t>(std::min<std::uint64_t>(kSendStep, count));
        const auto piece = std::make_shared<Piece>();
        auto work = [piece, file, first, step] {
            auto read = base::read_exactly(*file->bytes(), first, step);
            piece->good = read.has_value();
            if (read) piece->bytes = std::move(*read);
        };
        host::DiskQueue queue{path, "send", 1000, client->address};
        const auto outcome = co_await on_disk(*client, std::move(queue), std::move(work));
        // (What was promised can't be kept where it can't be read any more.)
        if (outcome != host::DiskWork::Outcome::done || !piece->good) co_return false;
        if (!co_await send_bytes(*client, piece->bytes)) co_return false;
        first += step;
        count -= step;
    }
    co_return true;
}

// What isn't in memory is sent by a thread of the file's own file system: reading it may take for ever.
asio::awaitable<bool> HttpServer::State::send_file(std::shared_ptr<Client> client, std::shared_ptr<File> file,
                                                   base::Address path, std::uint64_t first, std::uint64_t count) {
    struct Sent {
        off_t offset = 0;
        ssize_t n = 0;
        int error = 0;
        void send(Client& to, const File& from, std::size_t step) {
            do {
                n = ::sendfile(to.socket.native_handle(), from.handle(), &offset, step);
                error = errno;
            } while (n < 0 && error == EINTR);
        }
    };
    const auto end = static_cast<off_t>(first + count);
    auto offset = static_cast<off_t>(first);
    while (offset < end) {
        const auto step = std::min<std::size_t>(kSendStep, static_cast<std::size_t>(end - offset));
        const auto result = std::make_shared<Sent>();
        result->offset = offset;
        if (file->is_at_hand(static_cast<std::uint64_t>(offset), step)) {
            result->send(*client, *file, step);
        } else {
            auto work = [result, client, file, step] { result->send(*client, *file, step); };
            host::DiskQueue queue{path, "send", 1000, client->address};
            const auto outcome = co_await on_disk(*client, std::move(queue), std::move(work));
            if (outcome == host::DiskWork::Outcome::busy) {
                asio::steady_timer pause(client->socket.get_executor(), std::chrono::milliseconds(50));
                error_code ignored;
                co_await pause.async_wait(asio::redirect_error(asio::use_awaitable, ignored));
                continue;
            }
            if (outcome != host::DiskWork::Outcome::done) co_return false;
        }
        if (result->n > 0) {
            offset = result->offset;
            client->progress();
            client->offset = static_cast<std::uint64_t>(offset);
            client->sent += static_cast<std::uint64_t>(result->n);
            sent += static_cast<std::uint64_t>(result->n);
            if (static_cast<std::size_t>(result->n) == step) continue;
        } else if (result->n == 0 || (result->error != EAGAIN && result->error != EWOULDBLOCK)) {
            // The client left; or the file became shorter, and the promised length can't be kept.
            co_return false;
        }
        fit_buffer(*client);
        error_code error;
        co_await client->socket.async_wait(Socket::wait_write, asio::redirect_error(asio::use_awaitable, error));
        if (error) co_return false;
    }
    co_return true;
}

void HttpServer::State::keep_house() {
    housekeeping->expires_after(std::chrono::seconds(1));
    housekeeping->async_wait([this](error_code error) {
        if (error) return;
        const auto now = Steady::now();
        const base::MutexLock lock(mutex);
        const Time idle = idle_limit(clients.size(), limits);
        crowded = crowded && clients.size() > limits.most / 2;
        for (const auto& client : clients) {
            if (client->quiet(now) < (client->served ? settings.idle_limit : idle)) continue;
            if (client->live) continue;  // the fan-out decides
            client->dropped = client->sending.load();
            client->hang_up();
        }
        keep_house();
    });
}

HttpServer::HttpServer(std::unique_ptr<State> state) : state_(std::move(state)) {}

Result<std::unique_ptr<HttpServer>> HttpServer::start(HttpServerSettings settings) {
    auto state = std::make_unique<State>();
    state->settings = std::move(settings);
    rlimit handles{};
    ::getrlimit(RLIMIT_NOFILE, &handles);
    state->limits = crowd_limits(static_cast<std::size_t>(handles.rlim_cur));
    if (state->settings.most_connections > 0) {
        state->limits.most = state->settings.most_connections;
        state->limits.most_of_address = state->limits.most / 4 * 3;
    }
    state->limits.idle = state->settings.idle_limit;
    state->settings.disks.on_change = [s = state.get()](const std::string& at, bool hangs) {
        s->event(ServerEvent::Kind::disk, at, hangs ? "does not respond: its streams wait" : "responds again");
    };
    state->disks = std::make_unique<host::DiskWork>(state->settings.disks);
    for (int i = 0; i < std::max(1, state->settings.threads); ++i)
        state->contexts.push_back(std::make_unique<asio::io_context>(1));
    state->housekeeping.emplace(*state->contexts.front());
    WAVECREST_TRY(open_acceptors(state->acceptors, *state->contexts.front(), state->settings.address,
                                 state->settings.port, state->settings.further));
    for (tcp::acceptor& one : state->acceptors)
        asio::co_spawn(*state->contexts.front(), state->accept_loop(one), asio::detached);
    state->keep_house();
    for (const auto& one : state->contexts) {
        state->threads.emplace_back([context = one.get()] {
            // sendfile to a client that left raises SIGPIPE in the thread that calls it: blocked here, it does nothing.
            sigset_t pipe;
            sigemptyset(&pipe);
            sigaddset(&pipe, SIGPIPE);
            ::pthread_sigmask(SIG_BLOCK, &pipe, nullptr);
            const auto work = asio::make_work_guard(*context);
            context->run();
        });
    }
    return std::unique_ptr<HttpServer>(new HttpServer(std::move(state)));
}

HttpServer::~HttpServer() {
    for (const auto& context : state_->contexts) context->stop();
    for (std::thread& thread : state_->threads) thread.join();
    error_code ignored;
    for (tcp::acceptor& one : state_->acceptors) one.close(ignored);
    for (const auto& client : state_->clients) client->hang_up();
    // What a thread that hangs holds can't be taken from it: connections, and what they belong to.
    if (!state_->disks->stop(std::chrono::milliseconds(500))) static_cast<void>(state_.release());
}

std::vector<host::HungDisk> HttpServer::hung_disks() const {
    return state_->disks->hung();
}

std::uint16_t HttpServer::port() const {
    return port_of(state_->acceptors.front());
}

ServerStatus HttpServer::status() const {
    ServerStatus status;
    const auto now = Steady::now();
    status.uptime = to_time(now - state_->started);
    status.sent = state_->sent;
    status.requests = state_->requests;
    const base::MutexLock lock(state_->mutex);
    for (const auto& client : state_->clients) {
        const base::MutexLock name_lock(client->mutex);
        status.clients.push_back({client->id, client->address, client->name, client->offset, client->size,
                                  client->of_file, client->sent, client->live, to_time(now - client->connected),
                                  client->agent, client->latest, client->first, 0, false});
        const int socket = client->socket.native_handle();
        int waiting = 0;
        if (client->size > 0 && ::ioctl(socket, SIOCOUTQ, &waiting) == 0 && waiting > 0) {
            ClientStatus& told = status.clients.back();
            told.waiting = static_cast<std::uint64_t>(waiting);
            tcp_info info{};
            socklen_t size = sizeof info;
            // (Connections that come decrypted from elsewhere tell no more.)
            told.takes = ::getsockopt(socket, IPPROTO_TCP, TCP_INFO, &info, &size) != 0 || info.tcpi_unacked > 0;
        }
    }
    return status;
}

void HttpServer::adopt(int socket, std::string address, std::uint16_t port) {
    asio::post(*state_->contexts.front(), [s = state_.get(), socket, address = std::move(address), port] {
        Socket adopted(s->next_context());
        error_code error;
        adopted.assign(asio::generic::stream_protocol(AF_UNIX, 0), socket, error);
        if (error) {
            ::close(socket);
            return;
        }
        if (s->make_room(address)) s->begin(std::move(adopted), address, port, true);
    });
}

std::string_view HttpRequest::field(std::string_view name) const {
    for (const auto& [key, value] : fields) {
        if (beast::iequals(beast::string_view(key.data(), key.size()), beast::string_view(name.data(), name.size())))
            return value;
    }
    return {};
}

HttpReply HttpReply::text(int status, std::string text) {
    HttpReply reply;
    reply.status = status;
    const ByteSpan bytes = base::as_bytes(text);
    reply.body = Bytes(ByteVector(bytes.begin(), bytes.end()));
    return reply;
}

HttpAnswer serve_files(std::vector<ServedFile> files) {
    return [files = std::move(files)](const HttpRequest& request) {
        if (request.method != "GET") return HttpReply::text(405, "Only GET and HEAD are supported.\n");
        std::string list = "No stream at this address. Streams of this site:\n";
        for (const ServedFile& file : files) {
            if (file.path == request.path) {
                HttpReply reply;
                reply.file = file.file;
                reply.media_type = file.media_type;
                reply.name = file.name;
                return reply;
            }
            list += "  " + encode_path(file.path) + "\n";
        }
        return HttpReply::text(404, list);
    };
}

ByteRange parse_range(std::string_view value, std::uint64_t size) {
    constexpr std::string_view kUnit = "bytes=";
    if (!value.starts_with(kUnit)) return {};
    value.remove_prefix(kUnit.size());
    while (!value.empty() && value.front() == ' ') value.remove_prefix(1);
    while (!value.empty() && value.back() == ' ') value.remove_suffix(1);
    const std::size_t dash = value.find('-');
    if (dash == std::string_view::npos || value.find(',') != std::string_view::npos) return {};
    const auto number = [](std::string_view text) -> std::optional<std::uint64_t> {
        std::uint64_t n = 0;
        const auto [rest, error] = std::from_chars(text.data(), text.data() + text.size(), n);
        if (error != std::errc{} || rest != text.data() + text.size()) return std::nullopt;
        return n;
    };
    const std::string_view before = value.substr(0, dash), after = value.substr(dash + 1);
    if (before.empty()) {
        const auto suffix = number(after);
        if (!suffix) return {};
        if (*suffix == 0 || size == 0) return {ByteRange::Kind::unsatisfiable, 0, 0};
        return {ByteRange::Kind::part, size - std::min(*suffix, size), size - 1};
    }
    const auto first = number(before);
    const auto last = after.empty() ? std::optional<std::uint64_t>(~0ull) : number(after);
    if (!first || !last || *last < *first) return {};
    if (*first >= size) return {ByteRange::Kind::unsatisfiable, 0, 0};
    return {ByteRange::Kind::part, *first, std::min(*last, size - 1)};
}

}  // namespace wavecrest::net
