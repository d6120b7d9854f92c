// A live stream from another address as a source of bytes that come once, in order: transport packets from UDP or RTP
// datagrams, the tags of an RTMP stream as an FLV file has them.
#pragma once

#include <functional>
#include <memory>
#include <string>

#include "base/address.hpp"
#include "base/byte_source.hpp"
#include "base/bytes.hpp"
#include "base/result.hpp"

namespace wavecrest::net {

// Joins the stream of a live address; its bytes end when nothing has come for some seconds, or the other end closes.
// What comes while nobody reads is kept for about a second, then dropped. Fails (kind input) when it can't be joined at
// all, or kind usage for a malformed address.
Result<std::unique_ptr<base::ByteSource>> open_live(const base::Address& address);

// Bytes that `take` gives by and by, from a thread of its own: within a short wait what has come, empty where nothing
// has; an error is the end. The source ends when nothing has come for some seconds, too.
Result<std::unique_ptr<base::ByteSource>> open_fed(const std::string& name, std::function<Result<ByteVector>()> take);

// The head of an FLV file, and a message of an RTMP stream as a tag behind it (Adobe Flash Video File Format
// Specification 10.1, E.2 to E.4.1).
void append_flv_header(base::ByteWriter& out);
void append_flv_tag(base::ByteWriter& out, std::uint8_t type, std::uint32_t timestamp, ByteSpan body);

}  // namespace wavecrest::net
