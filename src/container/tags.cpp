#include "container/tags.hpp"

#include <algorithm>
#include <cctype>
#include <charconv>
#include <string>

#include "base/bytes.hpp"

namespace wavecrest::container {
namespace {

using media::Tags;

constexpr std::size_t kLongest = 4096;  // of a text: tags are for people
constexpr int kMostFields = 1000;

int number_of(const std::string& text) {
    int number = 0;
    std::from_chars(text.data(), text.data() + text.size(), number);  // "3" of "3/12"
    return std::clamp(number, 0, 9999);
}

std::uint32_t little(ByteSpan bytes, std::size_t at) {
    return bytes[at] | bytes[at + 1] << 8 | bytes[at + 2] << 16 | static_cast<std::uint32_t>(bytes[at + 3]) << 24;
}
std::uint32_t big(ByteSpan bytes, std::size_t at) {
    return static_cast<std::uint32_t>(bytes[at]) << 24 | bytes[at + 1] << 16 | bytes[at + 2] << 8 | bytes[at + 3];
}
std::uint32_t syncsafe(ByteSpan bytes, std::size_t at) {
    return static_cast<std::uint32_t>(bytes[at] & 0x7F) << 21 | (bytes[at + 1] & 0x7Fu) << 14 |
           (bytes[at + 2] & 0x7Fu) << 7 | (bytes[at + 3] & 0x7Fu);
}
void put_syncsafe(base::ByteWriter& out, std::size_t size) {
    for (const int shift : {21, 14, 7, 0}) out.u8(size >> shift & 0x7F);
}

void put_utf8(std::string& out, std::uint32_t c) {
    const auto put = [&](std::uint32_t byte) { out += static_cast<char>(byte); };
    if (c < 0x80) {
        put(c);
    } else if (c < 0x800) {
        put(0xC0 | c >> 6);
        put(0x80 | (c & 0x3F));
    } else if (c < 0x10000) {
        put(0xE0 | c >> 12);
        put(0x80 | (c >> 6 & 0x3F));
        put(0x80 | (c & 0x3F));
    } else {
        put(0xF0 | c >> 18);
        put(0x80 | (c >> 12 & 0x3F));
        put(0x80 | (c >> 6 & 0x3F));
        put(0x80 | (c & 0x3F));
    }
}

// ID3v2.4, 4: a byte of encoding, then the text, which ends with the frame or with nothing.
std::string text_of(ByteSpan frame) {
    if (frame.empty()) return "";
    const int encoding = frame[0];
    const ByteSpan body = frame.subspan(1).first(std::min(frame.size() - 1, kLongest));
    std::string out;
    if (encoding == 0 || encoding == 3) {
        for (const std::uint8_t byte : body) {
            if (byte == 0) break;
            if (encoding == 3) {
                out += static_cast<char>(byte);
            } else {
                put_utf8(out, byte);
            }
        }
        return out;
    }
    bool low_first = false;
    std::size_t at = 0;
    if (encoding == 1 && body.size() >= 2) {
        low_first = body[0] == 0xFF;
        at = 2;
    }
    const auto unit = [&](std::size_t i) -> std::uint32_t {
        return low_first ? body[i] | body[i + 1] << 8 : body[i] << 8 | body[i + 1];
    };
    for (; at + 1 < body.size(); at += 2) {
        std::uint32_t c = unit(at);
        if (c == 0) break;
        if (c >= 0xD800 && c < 0xDC00 && at + 3 < body.size() && (unit(at + 2) & 0xFC00) == 0xDC00) {
            c = 0x10000 + ((c & 0x3FF) << 10) + (unit(at + 2) & 0x3FF);
            at += 2;
        }
        put_utf8(out, c >= 0xD800 && c < 0xE000 ? 0xFFFD : c);
    }
    return out;
}

}  // namespace

Tags parse_vorbis_comment(ByteSpan body) {
    Tags tags;
    if (body.size() < 8) return tags;
    std::size_t at = std::size_t{4} + little(body, 0);
    if (at + 4 > body.size()) return tags;
    const std::uint32_t count = little(body, at);
    at += 4;
    for (std::uint32_t i = 0; i < std::min<std::uint32_t>(count, kMostFields) && at + 4 <= body.size(); ++i) {
        const std::size_t size = little(body, at);
        at += 4;
        if (size > body.size() - at) break;
        const std::string field(body.begin() + static_cast<std::ptrdiff_t>(at),
                                body.begin() + static_cast<std::ptrdiff_t>(at + std::min(size, kLongest)));
        at += size;
        const std::size_t equals = field.find('=');
        if (equals == std::string::npos) continue;
        std::string name = field.substr(0, equals);
        std::transform(name.begin(), name.end(), name.begin(), [](unsigned char c) { return std::toupper(c); });
        const std::string value = field.substr(equals + 1);
        // The first of a name counts.
        const auto take = [&](const char* wanted, std::string& into) {
            if (name == wanted && into.empty()) into = value;
        };
        take("TITLE", tags.title);
        take("ARTIST", tags.performer);
        take("ALBUM", tags.album);
        take("GENRE", tags.genre);
        take("DATE", tags.date);
        if (name == "TRACKNUMBER" && tags.number == 0) tags.number = number_of(value);
    }
    return tags;
}

ByteVector make_vorbis_comment(const Tags& tags) {
    std::vector<std::string> fields;
    const auto add = [&](const char* name, const std::string& value) {
        if (!value.empty()) fields.push_back(std::string(name) + "=" + value);
    };
    add("TITLE", tags.title);
    add("ARTIST", tags.performer);
    add("ALBUM", tags.album);
    add("GENRE", tags.genre);
    add("DATE", tags.date);
    if (tags.number > 0) add("TRACKNUMBER", std::to_string(tags.number));
    ByteVector out;
    const auto put = [&](const std::string& text) {
        for (const int shift : {0, 8, 16, 24}) out.push_back(static_cast<std::uint8_t>(text.size() >> shift));
        out.insert(out.end(), text.begin(), text.end());
    };
    put("Wavecrest");
    for (const int shift : {0, 8, 16, 24}) out.push_back(static_cast<std::uint8_t>(fields.size() >> shift));
    for (const std::string& field : fields) put(field);
    return out;
}

Tags parse_id3(ByteSpan tag) {
    Tags tags;
    if (tag.size() < 10 || tag[0] != 'I' || tag[1] != 'D' || tag[2] != '3' || (tag[3] != 3 && tag[3] != 4)) return tags;
    const bool fourth = tag[3] == 4;
    // Where zeros were put in against false synchronization, text is seldom touched: such tags are left alone.
    if ((tag[5] & 0x80) != 0) return tags;
    const std::size_t end = std::min<std::size_t>(tag.size(), std::size_t{10} + syncsafe(tag, 6));
    std::size_t at = 10;
    if ((tag[5] & 0x40) != 0 && at + 4 <= end)  // an extended header, whose size 2.4 counts with itself
        at += fourth ? syncsafe(tag, at) : std::size_t{4} + big(tag, at);
    for (int i = 0; i < kMostFields && at + 10 <= end && tag[at] != 0; ++i) {
        const std::string name(tag.begin() + static_cast<std::ptrdiff_t>(at),
                               tag.begin() + static_cast<std::ptrdiff_t>(at + 4));
        const std::size_t size = fourth ? syncsafe(tag, at + 4) : big(tag, at + 4);
        at += 10;
        if (size > end - at) break;
        const ByteSpan frame = tag.subspan(at, size);
        at += size;
        if (name == "TIT2") tags.title = text_of(frame);
        if (name == "TPE1") tags.performer = text_of(frame);
        if (name == "TALB") tags.album = text_of(frame);
        if (name == "TCON") tags.genre = text_of(frame);
        if (name == "TDRC" || name == "TYER") tags.date = text_of(frame);
        if (name == "TRCK") tags.number = number_of(text_of(frame));
    }
    return tags;
}

ByteVector make_id3(const Tags& tags) {
    if (tags.empty()) return {};
    base::ByteWriter frames;
    const auto add = [&](const char* name, const std::string& value) {
        if (value.empty()) return;
        frames.text(name);
        put_syncsafe(frames, 1 + value.size());
        frames.u16(0);
        frames.u8(3);  // UTF-8
        frames.text(value);
    };
    add("TIT2", tags.title);
    add("TPE1", tags.performer);
    add("TALB", tags.album);
    add("TCON", tags.genre);
    add("TDRC", tags.date);
    if (tags.number > 0) add("TRCK", std::to_string(tags.number));
    base::ByteWriter out;
    out.text("ID3");
    out.u16(0x0400);
    out.u8(0);
    put_syncsafe(out, frames.size());
    out.raw(frames.bytes());
    return out.release();
}

}  // namespace wavecrest::container
