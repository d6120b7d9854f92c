#include "base/byte_sink.hpp"

#include <algorithm>

namespace wavecrest::base {
namespace {

tl::unexpected<Error> no_way_back() {
    return fail(ErrorKind::usage, "what was written can't be changed here", "", "write to a file");
}

}  // namespace

Status MemorySink::write_at(std::uint64_t offset, ByteSpan with) {
    if (!seeks_ || offset > bytes_.size() || with.size() > bytes_.size() - offset) return no_way_back();
    std::copy(with.begin(), with.end(), bytes_.begin() + static_cast<std::ptrdiff_t>(offset));
    return {};
}

Status MemorySink::insert_front(ByteSpan before) {
    if (!seeks_) return no_way_back();
    bytes_.insert(bytes_.begin(), before.begin(), before.end());
    return {};
}

}  // namespace wavecrest::base
