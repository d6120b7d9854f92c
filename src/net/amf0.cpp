#include "net/amf0.hpp"

#include <bit>

namespace wavecrest::net::amf0 {
namespace {

constexpr int kDeepest = 8, kMost = 4096;

// Clause 2.1: type markers.
enum Marker : std::uint8_t {
    kNumber = 0,
    kBoolean = 1,
    kString = 2,
    kObject = 3,
    kNull = 5,
    kUndefined = 6,
    kReference = 7,
    kNamedArray = 8,
    kObjectEnd = 9,
    kArray = 10,
    kDate = 11,
    kLongString = 12,
    kUnsupported = 13,
    kXml = 15,
    kTypedObject = 16,
};

class Parser {
  public:
    explicit Parser(ByteSpan bytes) : reader_(bytes) {}
    std::optional<std::vector<Value>> all() {
        std::vector<Value> values;
        while (reader_.remaining() > 0) {
            auto value = one(0);
            if (!value) return std::nullopt;
            values.push_back(std::move(*value));
        }
        return values;
    }

  private:
    std::optional<Value> one(int depth) {
        if (depth > kDeepest || ++count_ > kMost || reader_.remaining() == 0) return std::nullopt;
        Value value;
        switch (reader_.u8()) {
            case kNumber:
                value = Value(std::bit_cast<double>(reader_.u64()));
                break;
            case kBoolean:
                value = Value(reader_.u8() != 0);
                break;
            case kString:
                value = Value(reader_.text(reader_.u16()));
                break;
            case kTypedObject:
                reader_.skip(reader_.u16());
                return members(depth);
            case kNamedArray:
                reader_.skip(4);
                return members(depth);
            case kObject:
                return members(depth);
            case kArray: {
                const std::uint32_t size = reader_.u32();
                Members list;
                for (std::uint32_t i = 0; i < size; ++i) {
                    auto member = one(depth + 1);
                    if (!member) return std::nullopt;
                    list.emplace_back(std::to_string(i), std::move(*member));
                }
                value = Value(std::move(list));
                break;
            }
            case kDate:
                value = Value(std::bit_cast<double>(reader_.u64()));
                reader_.skip(2);
                break;
            case kLongString:
            case kXml:
                value = Value(reader_.text(reader_.u32()));
                break;
            case kReference:
                reader_.skip(2);
                break;
            case kNull:
            case kUndefined:
            case kUnsupported:
                break;
            default:
                return std::nullopt;
        }
        if (!reader_.ok()) return std::nullopt;
        return value;
    }
    std::optional<Value> members(int depth) {
        Members list;
        while (true) {
            std::string name = reader_.text(reader_.u16());
            if (!reader_.ok() || reader_.remaining() == 0) return std::nullopt;
            if (name.empty()) {
                if (reader_.u8() != kObjectEnd) return std::nullopt;
                return Value(std::move(list));
            }
            auto value = one(depth + 1);
            if (!value) return std::nullopt;
            list.emplace_back(std::move(name), std::move(*value));
        }
    }

    base::ByteReader reader_;
    int count_ = 0;
};

void put(base::ByteWriter& out, const Value& value) {
    if (const auto* number = std::get_if<double>(&value.held)) {
        out.u8(kNumber);
        out.u64(std::bit_cast<std::uint64_t>(*number));
    } else if (const auto* flag = std::get_if<bool>(&value.held)) {
        out.u8(kBoolean);
        out.u8(*flag ? 1 : 0);
    } else if (const auto* text = std::get_if<std::string>(&value.held)) {
        const bool is_long = text->size() > 0xFFFF;
        out.u8(is_long ? kLongString : kString);
        if (is_long) {
            out.u32(text->size());
        } else {
            out.u16(text->size());
        }
        out.text(*text);
    } else if (const auto* members = std::get_if<Members>(&value.held)) {
        out.u8(kObject);
        for (const auto& [name, member] : *members) {
            out.u16(name.size());
            out.text(name);
            put(out, member);
        }
        out.u16(0);
        out.u8(kObjectEnd);
    } else {
        out.u8(kNull);
    }
}

}  // namespace

std::optional<double> Value::number() const {
    const auto* value = std::get_if<double>(&held);
    return value != nullptr ? std::optional(*value) : std::nullopt;
}
std::optional<bool> Value::flag() const {
    const auto* value = std::get_if<bool>(&held);
    return value != nullptr ? std::optional(*value) : std::nullopt;
}
std::string Value::text() const {
    const auto* value = std::get_if<std::string>(&held);
    return value != nullptr ? *value : "";
}
const Value* Value::member(std::string_view name) const {
    if (const auto* members = std::get_if<Members>(&held)) {
        for (const auto& [key, value] : *members) {
            if (key == name) return &value;
        }
    }
    return nullptr;
}

std::optional<std::vector<Value>> parse(ByteSpan bytes) {
    return Parser(bytes).all();
}

void append(ByteVector& out, const Value& value) {
    base::ByteWriter writer;
    put(writer, value);
    out.insert(out.end(), writer.bytes().begin(), writer.bytes().end());
}

ByteVector write(const std::vector<Value>& values) {
    base::ByteWriter writer;
    for (const Value& value : values) put(writer, value);
    return writer.release();
}

}  // namespace wavecrest::net::amf0
