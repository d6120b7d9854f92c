#include "render/png.hpp"

#include <zlib.h>

#include "base/atomic_file.hpp"
#include "base/bytes.hpp"

namespace wavecrest::render {
namespace {

void chunk(base::ByteWriter& out, const char* type, ByteSpan data) {
    base::ByteWriter body;
    body.text(type);
    body.raw(data);
    const ByteVector& bytes = body.bytes();
    out.u32(data.size());
    out.raw(bytes);
    out.u32(::crc32(0, bytes.data(), static_cast<uInt>(bytes.size())));
}

}  // namespace

Status write_rgb_png(const base::Path& path, int width, int height, ByteSpan rgb) {
    const auto row = static_cast<std::size_t>(width) * 3;
    // Each row as the difference to its left neighbour (filter type 1), which makes pictures half as large.
    ByteVector lines;
    lines.reserve((row + 1) * static_cast<std::size_t>(height));
    for (std::size_t y = 0; y < static_cast<std::size_t>(height); ++y) {
        const ByteSpan line = rgb.subspan(y * row, row);
        lines.push_back(1);
        for (std::size_t i = 0; i < row; ++i)
            lines.push_back(static_cast<std::uint8_t>(line[i] - (i >= 3 ? line[i - 3] : 0)));
    }
    uLongf size = ::compressBound(static_cast<uLong>(lines.size()));
    ByteVector packed(size);
    if (::compress2(packed.data(), &size, lines.data(), static_cast<uLong>(lines.size()), 6) != Z_OK)
        return fail(ErrorKind::machine, "the PNG can't be compressed", path.string(), "free some memory");
    base::ByteWriter out;
    constexpr std::uint8_t kSignature[] = {0x89, 'P', 'N', 'G', '\r', '\n', 0x1A, '\n'};
    out.raw(kSignature);
    base::ByteWriter head;
    head.u32(static_cast<std::uint64_t>(width));
    head.u32(static_cast<std::uint64_t>(height));
    head.u8(8);  // bits a sample
    head.u8(2);  // colours without a palette
    head.u8(0);
    head.u8(0);
    head.u8(0);
    chunk(out, "IHDR", head.bytes());
    chunk(out, "IDAT", ByteSpan(packed).first(size));
    chunk(out, "IEND", {});
    return base::write_file(path, out.bytes(), base::AtomicFile::IfExists::replace);
}

}  // namespace wavecrest::render
