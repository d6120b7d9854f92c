#include "base/config.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <toml++/toml.h>
#include <algorithm>
#include <set>

namespace wavecrest::base {

struct ConfigTable::Node {
    std::shared_ptr<toml::table> root;  // keeps the tree alive
    const toml::table* table = nullptr;
    std::string file;
    int line = 0;
    std::set<std::string, std::less<>> known;
};

namespace {

const toml::table kEmpty;

int edit_distance(std::string_view a, std::string_view b) {
    std::vector<int> row(b.size() + 1);
    for (std::size_t j = 0; j <= b.size(); ++j) row[j] = static_cast<int>(j);
    for (std::size_t i = 1; i <= a.size(); ++i) {
        int diagonal = row[0];
        row[0] = static_cast<int>(i);
        for (std::size_t j = 1; j <= b.size(); ++j) {
            const int above = row[j];
            row[j] = std::min({above + 1, row[j - 1] + 1, diagonal + (a[i - 1] == b[j - 1] ? 0 : 1)});
            diagonal = above;
        }
    }
    return row[b.size()];
}

}  // namespace

std::string nearest(std::string_view word, const std::vector<std::string>& candidates) {
    std::string best;
    int best_distance = std::max(2, static_cast<int>(word.size()) / 3) + 1;
    for (const std::string& candidate : candidates) {
        const int distance = edit_distance(word, candidate);
        if (distance < best_distance) {
            best_distance = distance;
            best = candidate;
        }
    }
    return best;
}

Result<ConfigTable> ConfigTable::parse(std::string_view text, const std::string& name) {
    try {
        auto node = std::make_shared<Node>();
        node->root = std::make_shared<toml::table>(toml::parse(text));
        node->table = node->root.get();
        node->file = name;
        node->line = 1;
        return ConfigTable(std::move(node));
    } catch (const toml::parse_error& error) {
        return fail(ErrorKind::usage, fmt::format("this is not valid TOML: {}", error.description()),
                    fmt::format("{}, line {}", name, error.source().begin.line), "correct that line");
    }
}

int ConfigTable::line() const {
    return node_->line;
}
const std::string& ConfigTable::file() const {
    return node_->file;
}

std::string ConfigTable::where(std::string_view key) const {
    int line = node_->line;
    if (const toml::node* value = key.empty() ? nullptr : node_->table->get(key))
        line = static_cast<int>(value->source().begin.line);
    return line > 0 ? fmt::format("{}, line {}", node_->file, line) : node_->file;
}

tl::unexpected<Error> ConfigTable::refuse(std::string_view key, std::string what, std::string remedy) const {
    return fail(ErrorKind::usage, std::move(what), where(key), std::move(remedy));
}

bool ConfigTable::has(std::string_view key) {
    node_->known.emplace(key);
    return node_->table->contains(key);
}

Result<std::string> ConfigTable::text(std::string_view key) {
    if (!has(key))
        return refuse({}, fmt::format("\"{}\" is missing here", key), fmt::format("add a line: {} = \"...\"", key));
    return text(key, "");
}

Result<std::string> ConfigTable::text(std::string_view key, std::string fallback) {
    if (!has(key)) return fallback;
    const auto value = (*node_->table)[key].value_exact<std::string>();
    if (!value) return refuse(key, fmt::format("\"{}\" must be a text", key), "put the value in quotation marks");
    return *value;
}

Result<std::int64_t> ConfigTable::number(std::string_view key, std::int64_t low, std::int64_t high,
                                         std::int64_t fallback) {
    if (!has(key)) return fallback;
    const auto value = (*node_->table)[key].value_exact<std::int64_t>();
    if (!value || *value < low || *value > high) {
        return refuse(key, fmt::format("\"{}\" must be a whole number from {} to {}", key, low, high),
                      "correct the value");
    }
    return *value;
}

Result<double> ConfigTable::decimal(std::string_view key, double low, double high, double fallback) {
    if (!has(key)) return fallback;
    const auto value = (*node_->table)[key].value<double>();
    if (!value || !(*value >= low && *value <= high))
        return refuse(key, fmt::format("\"{}\" must be a number from {} to {}", key, low, high), "correct the value");
    return *value;
}

Result<bool> ConfigTable::flag(std::string_view key, bool fallback) {
    if (!has(key)) return fallback;
    const auto value = (*node_->table)[key].value_exact<bool>();
    if (!value) return refuse(key, fmt::format("\"{}\" must be true or false", key), "correct the value");
    return *value;
}

Result<std::int64_t> ConfigTable::bitrate(std::string_view key, std::int64_t fallback) {
    if (!has(key)) return fallback;
    WAVECREST_TRY_ASSIGN(written, text(key, ""));
    const auto value = parse_bitrate(written);
    if (!value || *value == 0)
        return refuse(key, fmt::format("\"{}\" is no bit rate", written),
                      "write a number and bit/s, kbit/s, Mbit/s or Gbit/s: \"8 Mbit/s\"");
    return *value;
}

Result<Time> ConfigTable::span(std::string_view key, Time fallback) {
    if (!has(key)) return fallback;
    WAVECREST_TRY_ASSIGN(written, text(key, ""));
    const auto value = parse_span(written);
    if (!value)
        return refuse(key, fmt::format("\"{}\" is no length of time", written),
                      "write a number and ms, s, min or h: \"250 ms\"");
    return *value;
}

Result<Size> ConfigTable::size(std::string_view key, Size fallback) {
    if (!has(key)) return fallback;
    WAVECREST_TRY_ASSIGN(written, text(key, ""));
    const auto value = parse_size(written);
    if (!value)
        return refuse(key, fmt::format("\"{}\" is no picture size", written),
                      "write width x height or the height: \"1280x720\", \"720p\"");
    return *value;
}

Result<std::vector<std::string>> ConfigTable::texts(std::string_view key) {
    std::vector<std::string> result;
    if (!has(key)) return result;
    const toml::array* array = (*node_->table)[key].as_array();
    const auto wrong = [&] {
        return refuse(key, fmt::format("\"{}\" must be a list of texts", key), "write it as [\"one\", \"two\"]");
    };
    if (array == nullptr) return wrong();
    for (const toml::node& element : *array) {
        const auto value = element.value_exact<std::string>();
        if (!value) return wrong();
        result.push_back(*value);
    }
    return result;
}

Result<std::string> ConfigTable::choice(std::string_view key, const std::vector<std::string>& words,
                                        std::string fallback) {
    WAVECREST_TRY_ASSIGN(value, text(key, std::move(fallback)));
    if (std::find(words.begin(), words.end(), value) == words.end()) {
        return refuse(key, fmt::format("\"{}\" is not known as {}", value, key),
                      fmt::format("use one of: {}", fmt::join(words, ", ")));
    }
    return value;
}

Result<ConfigTable> ConfigTable::table(std::string_view key) {
    auto node = std::make_shared<Node>();
    node->root = node_->root;
    node->file = node_->file;
    node->line = node_->line;
    node->table = &kEmpty;
    if (has(key)) {
        node->table = (*node_->table)[key].as_table();
        if (node->table == nullptr)
            return refuse(key, fmt::format("\"{}\" must be a table", key), fmt::format("write it as [{}]", key));
        node->line = static_cast<int>(node->table->source().begin.line);
    }
    return ConfigTable(std::move(node));
}

Result<std::vector<ConfigTable>> ConfigTable::tables(std::string_view key) {
    std::vector<ConfigTable> result;
    if (!has(key)) return result;
    const toml::array* array = (*node_->table)[key].as_array();
    const auto wrong = [&] {
        return refuse(key, fmt::format("\"{}\" must be a list of tables", key),
                      fmt::format("write each as [[{}]]", key));
    };
    if (array == nullptr) return wrong();
    for (const toml::node& element : *array) {
        if (!element.is_table()) return wrong();
        auto node = std::make_shared<Node>();
        node->root = node_->root;
        node->file = node_->file;
        node->table = element.as_table();
        node->line = static_cast<int>(element.source().begin.line);
        result.push_back(ConfigTable(std::move(node)));
    }
    return result;
}

Status ConfigTable::finish() const {
    for (const auto& [key, value] : *node_->table) {
        const std::string_view name = key.str();
        if (node_->known.contains(name)) continue;
        const std::vector<std::string> known(node_->known.begin(), node_->known.end());
        const std::string meant = nearest(name, known);
        return refuse(name, fmt::format("\"{}\" is not known here", name),
                      meant.empty() ? fmt::format("remove it; known here: {}", fmt::join(known, ", "))
                                    : fmt::format("did you mean \"{}\"?", meant));
    }
    return {};
}

}  // namespace wavecrest::base
