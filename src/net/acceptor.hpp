// Inside net/: listening sockets for servers built on Asio. Heavy: include it in .cpp files only.
#pragma once

#include <fmt/format.h>

#include <boost/asio/io_context.hpp>
#include <boost/asio/ip/tcp.hpp>

#include <optional>
#include <string>

#include "net/listen.hpp"

namespace wavecrest::net {

// Opens `acceptor` at an address (empty: all of them, IPv4 and IPv6) and a port (0: any free one). Kind usage for what
// is no address; else errors of listen_error().
inline Status open_acceptor(std::optional<boost::asio::ip::tcp::acceptor>& acceptor, boost::asio::io_context& context,
                            const std::string& at, std::uint16_t port) {
    using boost::asio::ip::tcp;
    boost::system::error_code error;
    tcp::endpoint endpoint(tcp::v6(), port);
    if (!at.empty()) {
        const auto address = boost::asio::ip::make_address(at, error);
        if (error)
            return fail(ErrorKind::usage, fmt::format("\"{}\" is no IP address", at), "address to listen on",
                        "write it in digits, such as 192.168.1.10");
        endpoint = tcp::endpoint(address, port);
    }
    acceptor.emplace(context);
    acceptor->open(endpoint.protocol(), error);
    if (error && at.empty()) {
        // A machine without IPv6.
        endpoint = tcp::endpoint(tcp::v4(), port);
        acceptor->open(endpoint.protocol(), error);
    }
    if (!error) acceptor->set_option(tcp::acceptor::reuse_address(true), error);
    if (!error && endpoint.protocol() == tcp::v6() && at.empty())
        acceptor->set_option(boost::asio::ip::v6_only(false), error);
    if (!error) acceptor->bind(endpoint, error);
    if (!error) acceptor->listen(1024, error);
    if (error) return fail(listen_error(error.value(), error.message(), at, port));
    return {};
}

// The address at a connection's other end, as people write it.
inline std::string peer_address(const boost::asio::ip::tcp::socket& socket) {
    boost::system::error_code error;
    auto address = socket.remote_endpoint(error).address();
    if (address.is_v6() && address.to_v6().is_v4_mapped())
        address = boost::asio::ip::make_address_v4(boost::asio::ip::v4_mapped, address.to_v6());
    return address.to_string();
}

}  // namespace wavecrest::net
