// A live stream from another address as a source of bytes that come once, in order: transport packets from UDP or RTP
// datagrams, the tags of an RTMP stream as an FLV file has them.
#pragma once

#include <memory>
#include <string>

#include "base/file.hpp"
#include "base/result.hpp"

namespace wavecrest::net {

// udp://, rtp:// or rtmp://
bool is_live_address(const std::string& address);

// Joins the stream; its bytes end when nothing has come for some seconds, or the other end closes. What comes while
// nobody reads is kept for about a second, then dropped. Fails (kind input) when it can't be joined at all, or kind
// usage for a malformed address.
Result<std::unique_ptr<base::ByteSource>> open_live(const std::string& address);

}  // namespace wavecrest::net
