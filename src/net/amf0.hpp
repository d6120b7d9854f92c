// Action Message Format 0 (Adobe AMF0 specification, 2007): the values that RTMP's commands are made of.
#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <variant>
#include <vector>

#include "base/bytes.hpp"

namespace wavecrest::net::amf0 {

struct Value;
using Members = std::vector<std::pair<std::string, Value>>;

struct Value {
    struct Null {};
    // Arrays with names are objects here; those without have their values under "0", "1" ...; dates are numbers;
    // undefined and what has no meaning here are null.
    std::variant<Null, double, bool, std::string, Members> held;

    Value() = default;
    Value(double number) : held(number) {}
    Value(bool flag) : held(flag) {}
    Value(std::string text) : held(std::move(text)) {}
    Value(const char* text) : held(std::string(text)) {}
    Value(Members members) : held(std::move(members)) {}

    std::optional<double> number() const;
    std::optional<bool> flag() const;
    std::string text() const;                          // empty when it is none
    const Value* member(std::string_view name) const;  // of an object; null when it isn't there
};

// All values of a message. Nothing where they are malformed, nested deeper than 8 or more than 4096 in all.
std::optional<std::vector<Value>> parse(ByteSpan bytes);
void append(ByteVector& out, const Value& value);
ByteVector write(const std::vector<Value>& values);

}  // namespace wavecrest::net::amf0
