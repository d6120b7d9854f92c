// Configuration files (TOML 1.0) with errors an installer can act on: file, line, and the nearest known key.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/result.hpp"
#include "base/time.hpp"
#include "base/units.hpp"

namespace wavecrest::base {

// One table of a configuration file. Reading a key makes it known; finish() refuses keys that were never asked for.
// Errors have kind usage and name file and line. A missing optional key gives the fallback.
class ConfigTable {
  public:
    // Parses a whole file's text; `name` is used in messages.
    static Result<ConfigTable> parse(std::string_view text, const std::string& name);

    int line() const;
    const std::string& file() const;
    // "house.toml, line 12" for messages about this table, or about one of its keys.
    std::string where(std::string_view key = {}) const;

    bool has(std::string_view key);
    Result<std::string> text(std::string_view key);
    Result<std::string> text(std::string_view key, std::string fallback);
    Result<std::int64_t> number(std::string_view key, std::int64_t low, std::int64_t high, std::int64_t fallback);
    Result<double> decimal(std::string_view key, double low, double high, double fallback);
    Result<bool> flag(std::string_view key, bool fallback);
    Result<std::int64_t> bitrate(std::string_view key, std::int64_t fallback);
    Result<Time> span(std::string_view key, Time fallback);
    Result<Size> size(std::string_view key, Size fallback);
    Result<std::vector<std::string>> texts(std::string_view key);  // an array of strings; empty when absent
    // One of a few words.
    Result<std::string> choice(std::string_view key, const std::vector<std::string>& words, std::string fallback);

    // A sub-table; an empty one when absent.
    Result<ConfigTable> table(std::string_view key);
    Result<std::vector<ConfigTable>> tables(std::string_view key);  // an array of tables

    // Fails on the first key nobody asked for.
    Status finish() const;

    // An error about a key of this table.
    tl::unexpected<Error> refuse(std::string_view key, std::string what, std::string remedy) const;

  private:
    struct Node;
    explicit ConfigTable(std::shared_ptr<Node> node) : node_(std::move(node)) {}
    std::shared_ptr<Node> node_;
};

// The candidate nearest to `word` by edit distance, when it is near enough to be meant; else empty.
std::string nearest(std::string_view word, const std::vector<std::string>& candidates);

}  // namespace wavecrest::base
