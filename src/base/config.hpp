// Configuration files (TOML 1.0) with errors an installer can act on: file, line, and the nearest known key.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <variant>
#include <vector>

#include "base/result.hpp"
#include "base/time.hpp"
#include "base/units.hpp"

namespace wavecrest::base {

// A value that the command line has for a key of a configuration file.
struct ConfigOption {
    std::string table;  // "server", "stream"
    std::string key;    // "burn_in", of the option --burn-in
    std::variant<std::string, std::vector<std::string>, std::int64_t, bool> value;
};

// One table of a configuration file. Reading a key makes it known; finish() tells keys that were never asked for.
//
// Parsing goes on behind an error, so that all errors of a file are told at once: a value that can't be read is noted
// and gives the fallback, and complete() fails at the end with all that were noted. Errors have kind usage and name
// file and line.
class ConfigTable {
  public:
    // Parses a whole file's text; `name` is used in messages.
    static Result<ConfigTable> parse(std::string_view text, const std::string& name);
    // The same of options: each table that they name is there once, in an array of tables where that is `in_arrays`.
    // Messages name the options instead of file and line.
    static ConfigTable of_options(const std::vector<ConfigOption>& options, std::string_view in_arrays);

    int line() const;
    const std::string& file() const;
    // "house.toml, line 12" for messages about this table, or about one of its keys; "--burn-in".
    std::string where(std::string_view key = {}) const;
    // A key in a message's text: "burn_in" in quotes, or --burn-in.
    std::string called(std::string_view key) const;

    bool has(std::string_view key);
    // The same of a key that files no longer have: it is no nearest known one to others.
    bool has_former(std::string_view key);
    std::string text(std::string_view key);
    std::string text(std::string_view key, std::string fallback);
    std::int64_t number(std::string_view key, std::int64_t low, std::int64_t high, std::int64_t fallback);
    double decimal(std::string_view key, double low, double high, double fallback);
    bool flag(std::string_view key, bool fallback);
    std::int64_t bitrate(std::string_view key, std::int64_t fallback);
    Time span(std::string_view key, Time fallback);
    Size size(std::string_view key, Size fallback);
    std::vector<std::string> texts(std::string_view key);  // an array of strings; empty when absent
    // One of a few words.
    std::string choice(std::string_view key, const std::vector<std::string>& words, std::string fallback);

    // A sub-table; an empty one when absent.
    ConfigTable table(std::string_view key);
    std::vector<ConfigTable> tables(std::string_view key);           // an array of tables
    std::vector<ConfigTable> table_or_tables(std::string_view key);  // the same, or one table; empty when absent

    // Notes every key nobody asked for.
    void finish() const;

    // Notes an error about a key of this table.
    void wrong(std::string_view key, std::string what, std::string remedy) const;
    // What was parsed of the file; or, where errors were noted or parsing failed, all of them: the first in the file,
    // with the others behind it (Error::further).
    template <typename T>
    Result<T> complete(Result<T> parsed) const {
        if (auto errors = all_errors(parsed ? nullptr : &parsed.error())) return fail(std::move(*errors));
        return parsed;
    }

  private:
    struct Node;
    explicit ConfigTable(std::shared_ptr<Node> node) : node_(std::move(node)) {}
    template <typename Parse, typename Value>
    Value written(std::string_view key, Parse read, Value fallback, const char* kind, const char* remedy);
    int line_of(std::string_view key) const;
    std::optional<Error> all_errors(const Error* last) const;
    std::shared_ptr<Node> node_;
};

// The candidate nearest to `word` by edit distance, when it is near enough to be meant; else empty.
std::string nearest(std::string_view word, const std::vector<std::string>& candidates);

}  // namespace wavecrest::base
