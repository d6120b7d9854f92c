#include "net/tls.hpp"

#include <fmt/format.h>
#include <openssl/err.h>
#include <openssl/pem.h>
#include <openssl/x509v3.h>
#include <sys/resource.h>
#include <sys/socket.h>

#include <boost/asio.hpp>
#include <boost/asio/ssl.hpp>

#include <array>
#include <atomic>
#include <chrono>
#include <csignal>
#include <list>
#include <mutex>
#include <optional>
#include <thread>

#include "host/machine.hpp"
#include "net/acceptor.hpp"
#include "net/crowd.hpp"

namespace wavecrest::net {
namespace {

namespace asio = boost::asio;
using asio::ip::tcp;
using boost::system::error_code;
using Steady = std::chrono::steady_clock;
using LocalSocket = asio::local::stream_protocol::socket;

// What is read at a time; a record of TLS carries 16 KB.
constexpr std::size_t kPiece = 64 << 10;
constexpr std::chrono::seconds kHandshakeLimit{10};

using Certificate = std::unique_ptr<X509, decltype(&X509_free)>;

tl::unexpected<Error> unfit(std::string what, const base::Path& file, std::string remedy) {
    ::ERR_clear_error();
    return fail(ErrorKind::input, std::move(what), file.string(), std::move(remedy));
}

Result<Certificate> read_certificate(const base::Path& path) {
    WAVECREST_TRY_ASSIGN(text, base::read_text_file(path));
    const std::unique_ptr<BIO, decltype(&BIO_free)> bytes(::BIO_new_mem_buf(text.data(), static_cast<int>(text.size())),
                                                          &BIO_free);
    Certificate certificate(::PEM_read_bio_X509(bytes.get(), nullptr, nullptr, nullptr), &X509_free);
    if (!certificate)
        return unfit("not a PEM certificate", path, "name the file that starts with -----BEGIN CERTIFICATE-----");
    return certificate;
}

std::int64_t seconds_of(const ASN1_TIME* time) {
    std::tm parts{};
    return ::ASN1_TIME_to_tm(time, &parts) == 1 ? static_cast<std::int64_t>(::timegm(&parts)) : 0;
}

std::string names_of(X509* certificate) {
    std::string names;
    auto* const list =
        static_cast<GENERAL_NAMES*>(::X509_get_ext_d2i(certificate, NID_subject_alt_name, nullptr, nullptr));
    for (int i = 0; list != nullptr && i < sk_GENERAL_NAME_num(list); ++i) {
        const GENERAL_NAME* name = sk_GENERAL_NAME_value(list, i);
        std::string text;
        if (name->type == GEN_DNS) {
            text.assign(reinterpret_cast<const char*>(::ASN1_STRING_get0_data(name->d.dNSName)),
                        static_cast<std::size_t>(::ASN1_STRING_length(name->d.dNSName)));
        } else if (name->type == GEN_IPADD) {
            const unsigned char* at = ::ASN1_STRING_get0_data(name->d.iPAddress);
            if (const int size = ::ASN1_STRING_length(name->d.iPAddress); size == 4) {
                text = fmt::format("{}.{}.{}.{}", at[0], at[1], at[2], at[3]);
            } else if (size == 16) {
                asio::ip::address_v6::bytes_type bytes;
                std::copy_n(at, 16, bytes.begin());
                text = asio::ip::address_v6(bytes).to_string();
            }
        }
        if (!text.empty()) names += (names.empty() ? "" : ", ") + text;
    }
    ::GENERAL_NAMES_free(list);
    return names;
}

Status load(asio::ssl::context& context, const CertificateFiles& files) {
    WAVECREST_TRY_ASSIGN(certificate, read_certificate(files.certificate));
    WAVECREST_TRY_ASSIGN(key_text, base::read_text_file(files.key));
    error_code error;
    context.use_certificate_chain_file(files.certificate.string(), error);
    if (error)
        return unfit(fmt::format("the certificate can't be used: {}", error.message()), files.certificate, "renew it");
    // A password would be asked for on the terminal: at a boot nobody is there to type it.
    context.set_password_callback([](std::size_t, asio::ssl::context::password_purpose) { return std::string(); },
                                  error);
    context.use_private_key(asio::buffer(key_text), asio::ssl::context::pem, error);
    if (error)
        return unfit("not a PEM private key, password-protected, or of another certificate", files.key,
                     "name the private key of this certificate, without a password");
    return {};
}

// Why a handshake failed, for people.
std::string reason(error_code error) {
    if (error.category() != asio::error::get_ssl_category()) return error.message();
    switch (ERR_GET_REASON(static_cast<unsigned long>(error.value()))) {
        case SSL_R_HTTP_REQUEST:
            return "it asks by http:// at the port of https://";
        case SSL_R_TLSV1_ALERT_UNKNOWN_CA:
        case SSL_R_SSLV3_ALERT_BAD_CERTIFICATE:
        case SSL_R_SSLV3_ALERT_CERTIFICATE_UNKNOWN:
            return "the player does not accept the certificate";
        case SSL_R_SSLV3_ALERT_CERTIFICATE_EXPIRED:
            return "certificate expired, by the player's clock";
        case SSL_R_UNSUPPORTED_PROTOCOL:
            return "the player is too old: no TLS 1.2";
        default:
            return error.message();
    }
}

}  // namespace

Result<CertificateFacts> check_certificate(const CertificateFiles& files) {
    asio::ssl::context context(asio::ssl::context::tls_server);
    WAVECREST_TRY(load(context, files));
    WAVECREST_TRY_ASSIGN(certificate, read_certificate(files.certificate));
    CertificateFacts facts;
    facts.names = names_of(certificate.get());
    facts.valid_from = seconds_of(::X509_get0_notBefore(certificate.get()));
    facts.valid_until = seconds_of(::X509_get0_notAfter(certificate.get()));
    return facts;
}

Result<bool> certificate_names(const base::Path& file, const std::string& host) {
    WAVECREST_TRY_ASSIGN(certificate, read_certificate(file));
    error_code error;
    asio::ip::make_address(host, error);
    return error ? ::X509_check_host(certificate.get(), host.data(), host.size(), 0, nullptr) == 1
                 : ::X509_check_ip_asc(certificate.get(), host.c_str(), 0) == 1;
}

struct TlsFront::State {
    TlsFrontSettings settings;
    asio::ssl::context tls{asio::ssl::context::tls_server};
    std::vector<std::unique_ptr<asio::io_context>> contexts;
    std::size_t turn = 0;
    Acceptors acceptors;
    std::vector<std::thread> threads;

    struct Connection {
        Connection(asio::io_context& context, asio::ssl::context& tls)
            : secure(context, tls), plain(context), limit(context), watch(context) {}
        asio::ssl::stream<tcp::socket> secure;
        LocalSocket plain;  // our end of the pair
        asio::steady_timer limit, watch;
        std::string address;
        std::uint16_t port = 0;                // it came to
        std::atomic<bool> handed_over{false};  // the handshake is done
        bool open = true;
        std::optional<Steady::time_point> writing_since;  // the client hasn't taken what is there
        void close() {
            error_code ignored;
            open = false;
            limit.cancel();
            watch.cancel();
            secure.lowest_layer().close(ignored);
            plain.close(ignored);
        }
    };
    using Held = std::shared_ptr<Connection>;
    std::list<std::weak_ptr<Connection>> connections;  // in the order they came; the accepting thread's
    std::size_t most = 64;

    bool make_room();
    asio::awaitable<void> watch(Held connection);

    asio::awaitable<void> accept_loop(tcp::acceptor& acceptor);
    asio::awaitable<void> serve(Held connection);
    static asio::awaitable<void> outward(Held connection);
};

asio::awaitable<void> TlsFront::State::accept_loop(tcp::acceptor& acceptor) {
    const std::uint16_t port = port_of(acceptor);
    while (true) {
        error_code error;
        asio::io_context& context = *contexts[turn++ % contexts.size()];
        const auto connection = std::make_shared<Connection>(context, tls);
        co_await acceptor.async_accept(connection->secure.next_layer(),
                                       asio::redirect_error(asio::use_awaitable, error));
        if (error == asio::error::operation_aborted || !acceptor.is_open()) co_return;
        if (error) {
            asio::steady_timer pause(*contexts.front(), std::chrono::milliseconds(100));
            co_await pause.async_wait(asio::redirect_error(asio::use_awaitable, error));
            continue;
        }
        if (!make_room()) continue;
        connections.push_back(connection);
        connection->address = peer_address(connection->secure.next_layer());
        connection->port = port;
        connection->secure.next_layer().set_option(tcp::no_delay(true), error);
        // A slow client must be seen behind both sockets.
        connection->secure.next_layer().set_option(asio::socket_base::send_buffer_size(256 << 10), error);
        asio::co_spawn(context, serve(connection), asio::detached);
    }
}

// False when there is none. The oldest whose handshake isn't done gives way; the server behind looks after the others.
bool TlsFront::State::make_room() {
    std::shared_ptr<Connection> oldest;
    std::erase_if(connections, [](const auto& one) { return one.expired(); });
    if (connections.size() < most) return true;
    for (const auto& weak : connections) {
        oldest = weak.lock();
        if (oldest && !oldest->handed_over) break;
        oldest.reset();
    }
    if (!oldest) return false;
    asio::post(oldest->secure.get_executor(), [oldest] { oldest->close(); });
    return true;
}

// Drops a client that takes nothing any more.
asio::awaitable<void> TlsFront::State::watch(Held connection) {
    const auto most_quiet = std::chrono::duration_cast<Steady::duration>(settings.idle_limit);
    while (connection->open) {
        error_code error;
        connection->watch.expires_after(std::min<Steady::duration>(most_quiet / 4, std::chrono::seconds(5)));
        co_await connection->watch.async_wait(asio::redirect_error(asio::use_awaitable, error));
        if (error) co_return;
        if (connection->writing_since && Steady::now() - *connection->writing_since > most_quiet) connection->close();
    }
}

// The handshake, then what the client says to the server.
asio::awaitable<void> TlsFront::State::serve(Held connection) {
    error_code error;
    connection->limit.expires_after(kHandshakeLimit);
    connection->limit.async_wait([connection](error_code stopped) {
        if (!stopped) connection->close();
    });
    co_await connection->secure.async_handshake(asio::ssl::stream_base::server,
                                                asio::redirect_error(asio::use_awaitable, error));
    connection->limit.cancel();
    int ends[2] = {-1, -1};
    if (error || ::socketpair(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC, 0, ends) != 0) {
        if (settings.on_refused) settings.on_refused(connection->address, reason(error));
        connection->close();
        co_return;
    }
    connection->plain.assign(asio::local::stream_protocol(), ends[0], error);
    connection->handed_over = true;
    settings.hand_over(ends[1], connection->address, connection->port);
    asio::co_spawn(co_await asio::this_coro::executor, watch(connection), asio::detached);
    asio::co_spawn(co_await asio::this_coro::executor, outward(connection), asio::detached);
    std::array<char, 4096> piece{};
    while (!error) {
        const std::size_t got = co_await connection->secure.async_read_some(
            asio::buffer(piece), asio::redirect_error(asio::use_awaitable, error));
        if (error) break;
        co_await asio::async_write(connection->plain, asio::buffer(piece.data(), got),
                                   asio::redirect_error(asio::use_awaitable, error));
    }
    connection->plain.shutdown(LocalSocket::shutdown_send, error);
    connection->close();
}

// What the server says.
asio::awaitable<void> TlsFront::State::outward(Held connection) {
    std::vector<char> piece(kPiece);
    error_code error;
    while (true) {
        const std::size_t got = co_await connection->plain.async_read_some(
            asio::buffer(piece), asio::redirect_error(asio::use_awaitable, error));
        if (error) break;
        connection->writing_since = Steady::now();
        co_await asio::async_write(connection->secure, asio::buffer(piece.data(), got),
                                   asio::redirect_error(asio::use_awaitable, error));
        connection->writing_since.reset();
        if (error) break;
    }
    // A client that is told of the end knows that nothing was cut off (RFC 8446, 6.1).
    if (error == asio::error::eof) {
        connection->limit.expires_after(kHandshakeLimit);
        connection->limit.async_wait([connection](error_code stopped) {
            if (!stopped) connection->close();
        });
        co_await connection->secure.async_shutdown(asio::redirect_error(asio::use_awaitable, error));
    }
    connection->close();
}

TlsFront::TlsFront(std::unique_ptr<State> state) : state_(std::move(state)) {}

Result<std::unique_ptr<TlsFront>> TlsFront::start(TlsFrontSettings settings) {
    auto state = std::make_unique<State>();
    State& s = *state;
    s.settings = std::move(settings);
    s.tls.set_options(asio::ssl::context::default_workarounds | asio::ssl::context::no_sslv2 |
                      asio::ssl::context::no_sslv3 | asio::ssl::context::no_tlsv1 | asio::ssl::context::no_tlsv1_1);
    // Of TLS 1.2 what has forward secrecy and authenticates what it encrypts (RFC 9325, 4.2); 1.3 has nothing else.
    ::SSL_CTX_set_cipher_list(s.tls.native_handle(), "ECDHE+AESGCM:ECDHE+CHACHA20");
    WAVECREST_TRY(load(s.tls, s.settings.files));
    rlimit handles{};
    ::getrlimit(RLIMIT_NOFILE, &handles);
    s.most = s.settings.most_connections > 0 ? s.settings.most_connections
                                             : std::max<std::size_t>(crowd_limits(handles.rlim_cur).most / 2, 16);
    for (int i = 0; i < std::max(2, host::processors()); ++i)
        s.contexts.push_back(std::make_unique<asio::io_context>(1));
    WAVECREST_TRY(
        open_acceptors(s.acceptors, *s.contexts.front(), s.settings.address, s.settings.port, s.settings.further));
    for (tcp::acceptor& one : s.acceptors) asio::co_spawn(*s.contexts.front(), s.accept_loop(one), asio::detached);
    for (const auto& one : s.contexts) {
        s.threads.emplace_back([context = one.get()] {
            sigset_t pipe;
            sigemptyset(&pipe);
            sigaddset(&pipe, SIGPIPE);
            ::pthread_sigmask(SIG_BLOCK, &pipe, nullptr);
            const auto work = asio::make_work_guard(*context);
            context->run();
        });
    }
    return std::unique_ptr<TlsFront>(new TlsFront(std::move(state)));
}

TlsFront::~TlsFront() {
    for (const auto& context : state_->contexts) context->stop();
    for (std::thread& thread : state_->threads) thread.join();
    error_code ignored;
    for (tcp::acceptor& one : state_->acceptors) one.close(ignored);
    // Coroutines that wait are destroyed with their contexts, and close what they hold.
    state_->acceptors.clear();
    state_->contexts.clear();
}

std::uint16_t TlsFront::port() const {
    return port_of(state_->acceptors.front());
}

}  // namespace wavecrest::net
