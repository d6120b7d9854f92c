#include "codec/pgs.hpp"

#include <algorithm>
#include <array>
#include <map>

#include "base/bytes.hpp"

namespace wavecrest::codec {
namespace {

using namespace pgs;
using base::ByteReader;
using base::ByteWriter;

constexpr std::uint8_t kEpochStart = 0x80;
constexpr std::uint8_t kCropped = 0x80, kForced = 0x40;
constexpr std::uint8_t kFirstPart = 0x80, kLastPart = 0x40;
constexpr int kLargestSide = 4096;
constexpr std::size_t kLargestObject = 16 << 20;
constexpr std::size_t kMostObjects = 64;  // an epoch holds that many
constexpr std::size_t kLargestPart = 65000;

struct Object {
    int width = 0, height = 0;
    ByteVector coded;
    bool whole = false;
};

std::vector<std::uint8_t> decode_pixels(const Object& object) {
    const auto width = static_cast<std::size_t>(object.width), height = static_cast<std::size_t>(object.height);
    std::vector<std::uint8_t> pixels(width * height, 255);
    std::size_t x = 0, y = 0;
    ByteReader in{ByteSpan(object.coded)};
    while (in.ok() && in.remaining() > 0 && y < height) {
        std::size_t count = 1;
        std::uint8_t colour = in.u8();
        if (colour == 0) {
            const std::uint8_t code = in.u8();
            if (code == 0) {  // end of line
                x = 0;
                ++y;
                continue;
            }
            count = code & 0x3F;
            if ((code & 0x40) != 0) count = count << 8 | in.u8();
            if ((code & 0x80) != 0) colour = in.u8();
        }
        count = std::min(count, width - std::min(x, width));
        std::fill_n(pixels.begin() + static_cast<std::ptrdiff_t>(y * width + x), count, colour);
        x += count;
    }
    return pixels;
}

class PgsDecoder : public media::SubtitleDecoder {
  public:
    void decode(const Packet& packet, std::vector<Overlay>& out) override {
        ByteReader reader(packet.data.view());
        ByteSpan composition;
        while (reader.remaining() >= 3) {
            const std::uint8_t type = reader.u8();
            const std::size_t size = reader.u16();
            const ByteSpan body = reader.take(size);
            if (!reader.ok()) break;
            switch (type) {
                case kPalette:
                    take_palette(body);
                    break;
                case kObject:
                    take_object(body);
                    break;
                case kComposition:
                    composition = body;
                    if (body.size() > 7 && body[7] == kEpochStart) {
                        objects_.clear();
                        palettes_.clear();
                    }
                    break;
                default:
                    break;
            }
        }
        if (!composition.empty()) compose(composition, packet.pts, out);
    }

  private:
    void take_palette(ByteSpan body) {
        ByteReader reader(body);
        auto& palette = palettes_[reader.u8()];
        if (palette.empty()) palette.resize(256);
        reader.skip(1);
        while (reader.remaining() >= 5) {
            Overlay::Colour& colour = palette[reader.u8()];
            colour.y = reader.u8();
            colour.cr = reader.u8();
            colour.cb = reader.u8();
            colour.opacity = reader.u8();
        }
    }

    void take_object(ByteSpan body) {
        ByteReader reader(body);
        const int id = reader.u16();
        reader.skip(1);
        const std::uint8_t part = reader.u8();
        if (!reader.ok() || (objects_.size() >= kMostObjects && !objects_.contains(id))) return;
        Object& object = objects_[id];
        if ((part & kFirstPart) != 0) {
            object = {};
            reader.skip(3);
            object.width = reader.u16();
            object.height = reader.u16();
        }
        const ByteSpan data = reader.take(reader.remaining());
        if (object.coded.size() + data.size() > kLargestObject) return;
        object.coded.insert(object.coded.end(), data.begin(), data.end());
        object.whole = (part & kLastPart) != 0;
    }

    void compose(ByteSpan body, Time pts, std::vector<Overlay>& out) {
        ByteReader reader(body);
        Overlay overlay;
        overlay.pts = pts;
        overlay.canvas_width = reader.u16();
        overlay.canvas_height = reader.u16();
        reader.skip(1 + 2 + 1 + 1);
        const auto palette = palettes_.find(reader.u8());
        const int count = reader.u8();
        for (int i = 0; i < count && reader.ok(); ++i) {
            const int id = reader.u16();
            reader.skip(1);
            const std::uint8_t flags = reader.u8();
            Overlay::Region region;
            region.x = reader.u16();
            region.y = reader.u16();
            int crop[4] = {0, 0, kLargestSide, kLargestSide};
            if ((flags & kCropped) != 0) {
                for (int& value : crop) value = reader.u16();
            }
            const auto object = objects_.find(id);
            if (!reader.ok() || object == objects_.end() || !object->second.whole || palette == palettes_.end())
                continue;
            const Object& from = object->second;
            if (from.width < 1 || from.height < 1 || from.width > kLargestSide || from.height > kLargestSide) continue;
            overlay.forced = overlay.forced || (flags & kForced) != 0;
            const auto pixels = decode_pixels(from);
            const int left = std::min(crop[0], from.width), top = std::min(crop[1], from.height);
            region.width = std::min(crop[2], from.width - left);
            region.height = std::min(crop[3], from.height - top);
            for (int y = top; y < top + region.height; ++y) {
                const auto begin = pixels.begin() + static_cast<std::ptrdiff_t>(y) * from.width + left;
                region.pixels.insert(region.pixels.end(), begin, begin + region.width);
            }
            region.colours = palette->second;
            overlay.regions.push_back(std::move(region));
        }
        out.push_back(std::move(overlay));
    }

    std::map<int, Object> objects_;
    std::map<int, std::vector<Overlay::Colour>> palettes_;
};

void segment(ByteWriter& out, std::uint8_t type, const ByteWriter& body) {
    out.u8(type);
    out.u16(body.size());
    out.raw(body.bytes());
}

void composition(ByteWriter& out, const PgsImage& image, int number, bool show) {
    ByteWriter body;
    body.u16(static_cast<unsigned>(image.canvas_width));
    body.u16(static_cast<unsigned>(image.canvas_height));
    body.u8(0x10);
    body.u16(static_cast<unsigned>(number) & 0xFFFF);
    body.u8(show ? kEpochStart : 0);
    body.u8(0);
    body.u8(0);  // palette
    body.u8(show ? 1 : 0);
    if (show) {
        body.u16(0);  // object
        body.u8(0);   // window
        body.u8(image.forced ? kForced : 0);
        body.u16(static_cast<unsigned>(image.x));
        body.u16(static_cast<unsigned>(image.y));
    }
    segment(out, kComposition, body);
    ByteWriter window;
    window.u8(1);
    window.u8(0);
    window.u16(static_cast<unsigned>(image.x));
    window.u16(static_cast<unsigned>(image.y));
    window.u16(static_cast<unsigned>(image.width));
    window.u16(static_cast<unsigned>(image.height));
    segment(out, kWindow, window);
}

}  // namespace

std::unique_ptr<media::SubtitleDecoder> make_pgs_decoder(const Track&) {
    return std::make_unique<PgsDecoder>();
}

bool pgs_is_forced(ByteSpan display_set) {
    ByteReader reader(display_set);
    if (reader.u8() != kComposition) return false;
    reader.skip(2 + 10);
    const int count = reader.u8();
    for (int i = 0; i < count && reader.ok(); ++i) {
        reader.skip(3);
        const std::uint8_t flags = reader.u8();
        if (reader.ok() && (flags & kForced) != 0) return true;
        reader.skip(4u + ((flags & kCropped) != 0 ? 8u : 0u));
    }
    return false;
}

ByteVector write_pgs_show(const PgsImage& image) {
    ByteWriter out;
    composition(out, image, image.number, true);
    ByteWriter palette;
    palette.u16(0);
    for (std::size_t i = 0; i < std::min<std::size_t>(image.colours.size(), 255); ++i) {
        const auto& colour = image.colours[i];
        palette.u8(i);
        palette.u8(colour.y);
        palette.u8(colour.cr);
        palette.u8(colour.cb);
        palette.u8(colour.opacity);
    }
    segment(out, kPalette, palette);

    ByteVector coded;
    for (int y = 0; y < image.height; ++y) {
        const std::uint8_t* row =
            image.pixels.data() + static_cast<std::size_t>(y) * static_cast<std::size_t>(image.width);
        for (int x = 0; x < image.width;) {
            int count = 1;
            while (x + count < image.width && count < 0x3FFF && row[x + count] == row[x]) ++count;
            const std::uint8_t colour = row[x];
            if (colour != 0 && count < 3) {
                coded.insert(coded.end(), static_cast<std::size_t>(count), colour);
            } else {
                const std::uint8_t kind = colour != 0 ? 0x80 : 0;
                coded.push_back(0);
                if (count < 64) {
                    coded.push_back(static_cast<std::uint8_t>(kind | count));
                } else {
                    coded.push_back(static_cast<std::uint8_t>(kind | 0x40 | count >> 8));
                    coded.push_back(static_cast<std::uint8_t>(count));
                }
                if (colour != 0) coded.push_back(colour);
            }
            x += count;
        }
        coded.push_back(0);
        coded.push_back(0);
    }
    for (std::size_t at = 0; at < coded.size() || at == 0;) {
        const std::size_t part = std::min(kLargestPart, coded.size() - at);
        ByteWriter object;
        object.u16(0);
        object.u8(0);
        object.u8((at == 0 ? kFirstPart : 0) | (at + part == coded.size() ? kLastPart : 0));
        if (at == 0) {
            object.u24(coded.size() + 4);
            object.u16(static_cast<unsigned>(image.width));
            object.u16(static_cast<unsigned>(image.height));
        }
        object.raw(ByteSpan(coded).subspan(at, part));
        segment(out, kObject, object);
        at += part;
        if (part == 0) break;
    }
    segment(out, kEnd, {});
    return out.release();
}

ByteVector write_pgs_clear(const PgsImage& image) {
    ByteWriter out;
    composition(out, image, image.number + 1, false);
    segment(out, kEnd, {});
    return out.release();
}

}  // namespace wavecrest::codec
