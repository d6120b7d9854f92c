// Inside net/: listening sockets for servers built on Asio. Heavy: include it in .cpp files only.
#pragma once

#include <fmt/format.h>

#include <boost/asio/io_context.hpp>
#include <boost/asio/ip/tcp.hpp>

#include <string>
#include <vector>

#include "net/listen.hpp"

namespace wavecrest::net {

using Acceptors = std::vector<boost::asio::ip::tcp::acceptor>;

// Adds one that listens at an address (empty: all of them, IPv4 and IPv6) and a port (0: any free one). Kind usage for
// what is no address; else errors of listen_error().
inline Status open_acceptor(Acceptors& acceptors, boost::asio::io_context& context, const std::string& at,
                            std::uint16_t port) {
    using boost::asio::ip::tcp;
    boost::system::error_code error;
    tcp::endpoint endpoint(tcp::v6(), port);
    if (!at.empty()) {
        const auto address = boost::asio::ip::make_address(at, error);
        if (error)
            return fail(ErrorKind::usage, fmt::format("\"{}\" isn't an IP address", at), "address to listen on",
                        "write for example 192.168.1.10");
        endpoint = tcp::endpoint(address, port);
    }
    tcp::acceptor acceptor(context);
    acceptor.open(endpoint.protocol(), error);
    if (error && at.empty()) {
        // A machine without IPv6.
        endpoint = tcp::endpoint(tcp::v4(), port);
        acceptor.open(endpoint.protocol(), error);
    }
    if (!error) acceptor.set_option(tcp::acceptor::reuse_address(true), error);
    if (!error && endpoint.protocol() == tcp::v6() && at.empty())
        acceptor.set_option(boost::asio::ip::v6_only(false), error);
    if (!error) acceptor.bind(endpoint, error);
    if (!error) acceptor.listen(1024, error);
    if (error) return fail(listen_error(error.value(), error.message(), at, port));
    acceptors.push_back(std::move(acceptor));
    return {};
}
// At `port` and at `further` ones, which come behind it.
inline Status open_acceptors(Acceptors& acceptors, boost::asio::io_context& context, const std::string& at,
                             std::uint16_t port, const std::vector<std::uint16_t>& further) {
    acceptors.reserve(1 + further.size());  // loops hold on to them
    WAVECREST_TRY(open_acceptor(acceptors, context, at, port));
    for (const std::uint16_t one : further) WAVECREST_TRY(open_acceptor(acceptors, context, at, one));
    return {};
}
inline std::uint16_t port_of(const boost::asio::ip::tcp::acceptor& acceptor) {
    boost::system::error_code ignored;
    return acceptor.local_endpoint(ignored).port();
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
