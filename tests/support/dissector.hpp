// tshark as an independent reader of what we put on wires: bytes become a capture file (libpcap's format), which it
// takes apart.
#pragma once

#include <string>
#include <vector>

#include "base/bytes.hpp"

namespace wavecrest::test {

bool has_dissector();

class Capture {
  public:
    // Between 10.0.0.1 (the client) and 10.0.0.2 (the server, at `port`); a thousandth of a second apart.
    explicit Capture(std::uint16_t port) : port_(port) {}
    void add_datagram(ByteSpan payload);
    // Bytes of one connection, in the order they passed.
    void add_stream(ByteSpan bytes, bool from_client);

    // One line for each packet that has the first field; fields by tabs, several values of one field by commas.
    // `decode_as`: for the port, such as "udp.port==5004,rtp"; empty: by the port's number.
    std::vector<std::string> fields(const std::vector<std::string>& names, const std::string& decode_as = "") const;

  private:
    void add_segment(ByteSpan payload, bool from_client, std::uint8_t flags);
    void add(std::uint8_t protocol, ByteSpan head, ByteSpan payload, bool from_client);

    std::uint16_t port_;
    ByteVector records_;
    std::uint32_t count_ = 0;
    bool connected_ = false;
    std::uint32_t sent_[2] = {1000, 2000};  // sequence numbers of the connection: by the server, by the client
};

}  // namespace wavecrest::test
