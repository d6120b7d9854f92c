#include "container/mp4_boxes.hpp"

namespace wavecrest::container::mp4 {

using base::ByteReader;

std::vector<BoxView> children(ByteSpan bytes) {
    std::vector<BoxView> boxes;
    std::size_t at = 0;
    while (bytes.size() - at >= 8) {
        ByteReader reader(bytes.subspan(at));
        std::uint64_t size = reader.u32();
        BoxView box;
        box.type = reader.u32();
        std::size_t header = 8;
        if (size == 1) {
            size = reader.u64();
            header = 16;
        } else if (size == 0) {
            size = bytes.size() - at;
        }
        if (!reader.ok() || size < header || size > bytes.size() - at) break;
        box.body = bytes.subspan(at + header, static_cast<std::size_t>(size) - header);
        boxes.push_back(box);
        at += static_cast<std::size_t>(size);
    }
    return boxes;
}

ByteSpan child(ByteSpan bytes, const char (&type)[5]) {
    for (const BoxView& box : children(bytes)) {
        if (box.type == fourcc(type)) return box.body;
    }
    return {};
}

}  // namespace wavecrest::container::mp4
