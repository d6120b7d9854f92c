// Writing boxes of an ISO base media file (ISO/IEC 14496-12) into memory, and the tables that tell of a track's
// samples.
#pragma once

#include <cstdint>

#include "base/bits.hpp"
#include "container/mp4_format.hpp"
#include "container/sample_index.hpp"

namespace wavecrest::container::mp4 {

// A box is opened, filled and closed; closing writes its size.
class Box {
  public:
    Box(base::ByteWriter& out, const char (&type)[5]) : out_(out), start_(out.size()) {
        out.u32(0);
        out.u32(fourcc(type));
    }
    // A full box: version and flags.
    Box(base::ByteWriter& out, const char (&type)[5], unsigned version, std::uint32_t flags) : Box(out, type) {
        out.u8(version);
        out.u24(flags);
    }
    Box(const Box&) = delete;
    Box& operator=(const Box&) = delete;
    ~Box() { out_.put_u32(start_, out_.size() - start_); }

  private:
    base::ByteWriter& out_;
    std::size_t start_;
};

// Decoding and composition times, sync samples, sizes and chunks (8.6.1, 8.6.2, 8.7.3 to 8.7.5). The index's offsets
// count from byte `offset` of the file; `wide`: some of them need 64 bits.
void write_sample_tables(base::ByteWriter& out, const SampleIndex& samples, std::uint64_t offset, bool wide);

}  // namespace wavecrest::container::mp4
