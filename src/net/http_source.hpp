// A file behind an http:// address as a byte source: read in order over one connection, by range requests elsewhere.
#pragma once

#include <memory>

#include "base/byte_source.hpp"
#include "net/http_client.hpp"

namespace wavecrest::net {

// Asks for the first bytes. Fails (kind input) when the address can't be reached or answers with an error.
Result<std::unique_ptr<base::ByteSource>> open_http(const Url& url);

}  // namespace wavecrest::net
