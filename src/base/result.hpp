// Errors are values: what went wrong, where, and what to do about it. Exceptions never leave a module.
#pragma once

#include <string>
#include <tl/expected.hpp>
#include <utility>
#include <vector>

namespace wavecrest {
namespace base {

// What kind of failure this is; the program's exit status follows from it (see docs/manual.md).
enum class ErrorKind {
    usage,        // the command or a configuration file is wrong: 2
    input,        // the input is missing, damaged beyond use, protected or unsupported: 3
    machine,      // the machine won't let it: port, space, permission, address: 4
    wanting,      // checked and found wanting: 1
    interrupted,  // Ctrl-C: 130
};

struct Error {
    ErrorKind kind = ErrorKind::input;
    std::string what;              // one sentence without full stop: "the file is empty"
    std::string where;             // file, line, byte offset, track or time: "film.mp4, byte 1024"
    std::string remedy;            // what the installer does next: "copy the disc again"
    std::vector<Error> further{};  // told together with this one: of one configuration file
};

template <typename T>
using Result = tl::expected<T, Error>;
using Status = Result<void>;

inline tl::unexpected<Error> fail(ErrorKind kind, std::string what, std::string where, std::string remedy) {
    return tl::unexpected<Error>(Error{kind, std::move(what), std::move(where), std::move(remedy), {}});
}
inline tl::unexpected<Error> fail(Error error) {
    return tl::unexpected<Error>(std::move(error));
}

inline tl::unexpected<Error> interrupted() {
    return fail(ErrorKind::interrupted, "interrupted", "", "partial files were removed; run it again when ready");
}

}  // namespace base

using base::Error;
using base::ErrorKind;
using base::fail;
using base::Result;
using base::Status;

}  // namespace wavecrest

// Returns the error of a Result or Status expression from the current function.
#define WAVECREST_TRY(expression)                                          \
    do {                                                                   \
        if (auto try_result = (expression); !try_result)                   \
            return ::wavecrest::base::fail(std::move(try_result).error()); \
    } while (false)

// Declares `name` with the value of a Result expression, or returns its error.
#define WAVECREST_TRY_ASSIGN(name, expression)                                            \
    auto name##_result = (expression);                                                    \
    if (!name##_result) return ::wavecrest::base::fail(std::move(name##_result).error()); \
    auto name = std::move(*name##_result)
