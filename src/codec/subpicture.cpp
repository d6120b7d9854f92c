#include "codec/subpicture.hpp"

#include <algorithm>

#include "base/bytes.hpp"

namespace wavecrest::codec {
namespace {

using base::ByteReader;
using base::ByteWriter;

constexpr std::size_t kLargestUnit = 53220;
constexpr int kDelayUnit = 1024;  // ticks of 90 kHz
constexpr int kMostSequences = 256;

enum Command : std::uint8_t {
    kForcedStart = 0,
    kStart = 1,
    kStop = 2,
    kSetColours = 3,
    kSetOpacity = 4,
    kSetArea = 5,
    kSetAddresses = 6,
    kChangeColours = 7,
    kEnd = 0xFF,
};

// The state a display program builds up.
struct Display {
    std::array<std::uint8_t, 4> colours{};
    std::array<std::uint8_t, 4> opacity{};
    int left = 0, right = -1, top = 0, bottom = -1;
    std::size_t field[2] = {0, 0};
};

// Four-bit pieces, most significant first.
class Nibbles {
  public:
    Nibbles(ByteSpan bytes, std::size_t from) : bytes_(bytes), at_(from * 2) {}
    unsigned next() {
        if (at_ / 2 >= bytes_.size()) {
            ended_ = true;
            return 0;
        }
        const std::uint8_t byte = bytes_[at_ / 2];
        return at_++ % 2 == 0 ? byte >> 4 : byte & 15u;
    }
    void align() { at_ = (at_ + 1) / 2 * 2; }
    bool ended() const { return ended_; }

  private:
    ByteSpan bytes_;
    std::size_t at_;
    bool ended_ = false;
};

Overlay::Region draw(ByteSpan unit, const Display& display, ByteSpan palette) {
    Overlay::Region region;
    region.x = display.left;
    region.y = display.top;
    region.width = display.right - display.left + 1;
    region.height = display.bottom - display.top + 1;
    region.pixels.assign(static_cast<std::size_t>(region.width) * static_cast<std::size_t>(region.height), 0);
    for (std::size_t i = 0; i < 4; ++i) {
        const std::size_t entry = display.colours[i] * std::size_t{4};
        Overlay::Colour colour;
        if (entry + 4 <= palette.size()) {
            colour.y = palette[entry + 1];
            colour.cr = palette[entry + 2];
            colour.cb = palette[entry + 3];
        }
        colour.opacity = static_cast<std::uint8_t>(display.opacity[i] * 17);
        region.colours.push_back(colour);
    }
    for (int field = 0; field < 2; ++field) {
        Nibbles in(unit, display.field[field]);
        for (int y = field; y < region.height && !in.ended(); y += 2) {
            std::uint8_t* row =
                region.pixels.data() + static_cast<std::size_t>(y) * static_cast<std::size_t>(region.width);
            for (int x = 0; x < region.width && !in.ended();) {
                // One to four nibbles: the count grows with the leading zeros.
                unsigned code = in.next();
                for (unsigned least = 0x4; code < least && least <= 0x40; least <<= 2) code = code << 4 | in.next();
                int count = static_cast<int>(code >> 2);
                if (count == 0) count = region.width - x;  // to the end of the line
                count = std::min(count, region.width - x);
                std::fill_n(row + x, count, static_cast<std::uint8_t>(code & 3));
                x += count;
            }
            in.align();
        }
    }
    return region;
}

class SubpictureDecoder : public media::SubtitleDecoder {
  public:
    explicit SubpictureDecoder(const Track& track) : track_(track) {}

    void decode(const Packet& packet, std::vector<Overlay>& out) override {
        const ByteSpan unit = packet.data.view();
        ByteReader reader(unit);
        reader.skip(2);
        std::size_t at = reader.u16();
        Display display;
        for (int i = 0; i < kMostSequences && reader.ok(); ++i) {
            reader.seek(at);
            const std::uint16_t delay = reader.u16();
            const std::size_t next = reader.u16();
            if (!reader.ok()) return;
            bool starts = false, forced = false, stops = false;
            if (!run(reader, display, starts, forced, stops)) return;
            Overlay overlay;
            overlay.pts = packet.pts + base::from_ticks(std::int64_t{delay} * kDelayUnit, 90000);
            overlay.canvas_width = track_.width;
            overlay.canvas_height = track_.height;
            overlay.forced = forced;
            if (starts && display.right >= display.left && display.bottom >= display.top && display.right < 1920 &&
                display.bottom < 1200) {
                overlay.regions.push_back(draw(unit, display, track_.codec_config.view()));
            }
            if (starts || stops) out.push_back(std::move(overlay));
            if (next <= at) return;  // the last sequence names itself
            at = next;
        }
    }

  private:
    static bool run(ByteReader& reader, Display& display, bool& starts, bool& forced, bool& stops) {
        const auto four = [&](std::array<std::uint8_t, 4>& values) {
            const std::uint16_t word = reader.u16();
            for (std::size_t i = 0; i < 4; ++i) values[i] = word >> (4 * i) & 15;
        };
        while (reader.ok()) {
            switch (reader.u8()) {
                case kForcedStart:
                    forced = true;
                    [[fallthrough]];
                case kStart:
                    starts = true;
                    break;
                case kStop:
                    stops = true;
                    break;
                case kSetColours:
                    four(display.colours);
                    break;
                case kSetOpacity:
                    four(display.opacity);
                    break;
                case kSetArea: {
                    const std::uint32_t x = reader.u24(), y = reader.u24();
                    display.left = static_cast<int>(x >> 12);
                    display.right = static_cast<int>(x & 0xFFF);
                    display.top = static_cast<int>(y >> 12);
                    display.bottom = static_cast<int>(y & 0xFFF);
                    break;
                }
                case kSetAddresses:
                    display.field[0] = reader.u16();
                    display.field[1] = reader.u16();
                    break;
                case kChangeColours: {
                    const std::uint16_t size = reader.u16();
                    if (size < 2) return false;
                    reader.skip(size - 2u);
                    break;
                }
                case kEnd:
                    return reader.ok();
                default:
                    return false;
            }
        }
        return false;
    }

    Track track_;
};

class NibbleWriter {
  public:
    void put(unsigned value, int nibbles) {
        for (int i = nibbles - 1; i >= 0; --i) {
            const auto nibble = static_cast<std::uint8_t>(value >> (4 * i) & 15);
            if (half_) {
                bytes.back() |= nibble;
            } else {
                bytes.push_back(static_cast<std::uint8_t>(nibble << 4));
            }
            half_ = !half_;
        }
    }
    void align() { half_ = false; }
    ByteVector bytes;

  private:
    bool half_ = false;
};

ByteVector code_field(const SubpictureImage& image, int field) {
    NibbleWriter out;
    for (int y = field; y < image.height; y += 2) {
        const std::uint8_t* row =
            image.pixels.data() + static_cast<std::size_t>(y) * static_cast<std::size_t>(image.width);
        for (int x = 0; x < image.width;) {
            int count = 1;
            while (x + count < image.width && row[x + count] == row[x]) ++count;
            if (x + count == image.width && count > 63) {
                out.put(row[x], 4);  // a count of 0: to the end of the line
                break;
            }
            count = std::min(count, 255);
            const unsigned code = static_cast<unsigned>(count) << 2 | row[x];
            out.put(code, count < 4 ? 1 : count < 16 ? 2 : count < 64 ? 3 : 4);
            x += count;
        }
        out.align();
    }
    return out.bytes;
}

}  // namespace

std::unique_ptr<media::SubtitleDecoder> make_subpicture_decoder(const Track& track) {
    return std::make_unique<SubpictureDecoder>(track);
}

bool subpicture_is_forced(ByteSpan unit) {
    ByteReader reader(unit);
    reader.skip(2);
    reader.seek(reader.u16());
    reader.skip(4);
    return reader.u8() == kForcedStart && reader.ok();
}

Result<ByteVector> write_subpicture(const SubpictureImage& image) {
    const ByteVector top = code_field(image, 0), bottom = code_field(image, 1);
    ByteWriter out;
    out.u16(0);
    out.u16(0);
    out.raw(top);
    out.raw(bottom);
    if (out.size() % 2 != 0) out.u8(0xFF);
    const std::size_t control = out.size();
    const auto four = [](const std::array<std::uint8_t, 4>& values) {
        return static_cast<unsigned>(values[3] << 12 | values[2] << 8 | values[1] << 4 | values[0]);
    };
    out.u16(0);
    const std::size_t next_at = out.size();
    out.u16(0);
    out.u8(image.forced ? kForcedStart : kStart);
    out.u8(kSetColours);
    out.u16(four(image.colours));
    out.u8(kSetOpacity);
    out.u16(four(image.opacity));
    out.u8(kSetArea);
    out.u24(static_cast<unsigned>(image.x << 12 | (image.x + image.width - 1)));
    out.u24(static_cast<unsigned>(image.y << 12 | (image.y + image.height - 1)));
    out.u8(kSetAddresses);
    out.u16(4);
    out.u16(4 + top.size());
    out.u8(kEnd);
    const std::size_t stop = out.size();
    out.put_u16(next_at, stop);
    out.u16(static_cast<std::uint64_t>(
        std::clamp<std::int64_t>(base::to_ticks(image.duration, 90000) / kDelayUnit, 1, 65535)));
    out.u16(stop);
    out.u8(kStop);
    out.u8(kEnd);
    if (out.size() % 2 != 0) out.u8(0xFF);
    if (out.size() > kLargestUnit) {
        return fail(ErrorKind::input, "a subtitle's bitmap is larger than a subpicture unit can hold", "subtitles",
                    "make it smaller or simpler");
    }
    out.put_u16(0, out.size());
    out.put_u16(2, control);
    return out.release();
}

}  // namespace wavecrest::codec
