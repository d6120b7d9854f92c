#include "base/config.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <toml++/toml.h>
#include <algorithm>
#include <set>

namespace wavecrest::base {

struct ConfigTable::Node {
    struct Noted {
        int line = 0;
        Error error;
    };
    std::shared_ptr<toml::table> root;  // keeps the tree alive
    const toml::table* table = nullptr;
    std::string file;
    int line = 0;
    bool of_options = false;
    std::set<std::string, std::less<>> known;
    std::shared_ptr<std::vector<Noted>> errors;  // of the whole file

    // For a table of this one; an empty one where there is none.
    std::shared_ptr<Node> below(const toml::table* inner) const;
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

std::shared_ptr<ConfigTable::Node> ConfigTable::Node::below(const toml::table* inner) const {
    auto node = std::make_shared<Node>();
    node->root = root;
    node->errors = errors;
    node->file = file;
    node->of_options = of_options;
    node->table = inner != nullptr ? inner : &kEmpty;
    node->line = inner != nullptr ? static_cast<int>(inner->source().begin.line) : line;
    return node;
}

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
        node->errors = std::make_shared<std::vector<Node::Noted>>();
        return ConfigTable(std::move(node));
    } catch (const toml::parse_error& error) {
        return fail(ErrorKind::usage, fmt::format("this is not valid TOML: {}", error.description()),
                    fmt::format("{}, line {}", name, error.source().begin.line), "correct that line");
    }
}

ConfigTable ConfigTable::of_options(const std::vector<ConfigOption>& options, std::string_view in_arrays) {
    auto node = std::make_shared<Node>();
    node->root = std::make_shared<toml::table>();
    for (const ConfigOption& option : options) {
        toml::table* table = nullptr;
        if (option.table == in_arrays) {
            auto& array = *node->root->insert(option.table, toml::array{}).first->second.as_array();
            if (array.empty()) array.push_back(toml::table{});
            table = array.front().as_table();
        } else {
            table = node->root->insert(option.table, toml::table{}).first->second.as_table();
        }
        std::visit(
            [&](const auto& value) {
                if constexpr (std::is_same_v<std::decay_t<decltype(value)>, std::vector<std::string>>) {
                    toml::array list;
                    for (const std::string& one : value) list.push_back(one);
                    table->insert_or_assign(option.key, std::move(list));
                } else {
                    table->insert_or_assign(option.key, value);
                }
            },
            option.value);
    }
    node->table = node->root.get();
    node->file = "the command line";
    node->of_options = true;
    node->errors = std::make_shared<std::vector<Node::Noted>>();
    return ConfigTable(std::move(node));
}

int ConfigTable::line() const {
    return node_->line;
}
const std::string& ConfigTable::file() const {
    return node_->file;
}

int ConfigTable::line_of(std::string_view key) const {
    const toml::node* value = key.empty() ? nullptr : node_->table->get(key);
    return value != nullptr ? static_cast<int>(value->source().begin.line) : node_->line;
}

namespace {

std::string option_of(std::string_view key) {
    std::string option = "--" + std::string(key);
    std::replace(option.begin(), option.end(), '_', '-');
    return option;
}

}  // namespace

std::string ConfigTable::called(std::string_view key) const {
    return node_->of_options ? option_of(key) : fmt::format("\"{}\"", key);
}

std::string ConfigTable::where(std::string_view key) const {
    if (node_->of_options) return key.empty() ? node_->file : option_of(key);
    const int line = line_of(key);
    return line > 0 ? fmt::format("{}, line {}", node_->file, line) : node_->file;
}

void ConfigTable::wrong(std::string_view key, std::string what, std::string remedy) const {
    node_->errors->push_back({line_of(key), {ErrorKind::usage, std::move(what), where(key), std::move(remedy), {}}});
}

std::optional<Error> ConfigTable::all_errors(const Error* last) const {
    auto& noted = *node_->errors;
    std::stable_sort(noted.begin(), noted.end(), [](const auto& a, const auto& b) { return a.line < b.line; });
    std::vector<Error> all;
    for (const Node::Noted& one : noted) all.push_back(one.error);
    if (last != nullptr) all.push_back(*last);
    if (all.empty()) return std::nullopt;
    Error first = all.front();
    first.further.assign(all.begin() + 1, all.end());
    return first;
}

bool ConfigTable::has(std::string_view key) {
    node_->known.emplace(key);
    return node_->table->contains(key);
}

bool ConfigTable::has_former(std::string_view key) {
    return node_->table->contains(key) && has(key);
}

std::string ConfigTable::text(std::string_view key) {
    if (!has(key)) wrong({}, fmt::format("\"{}\" is missing here", key), fmt::format("add a line: {} = \"...\"", key));
    return text(key, "");
}

std::string ConfigTable::text(std::string_view key, std::string fallback) {
    if (!has(key)) return fallback;
    if (auto value = (*node_->table)[key].value_exact<std::string>()) return *value;
    wrong(key, fmt::format("\"{}\" must be a quoted string", key), "put the value in quotation marks");
    return fallback;
}

std::int64_t ConfigTable::number(std::string_view key, std::int64_t low, std::int64_t high, std::int64_t fallback) {
    if (!has(key)) return fallback;
    const auto value = (*node_->table)[key].value_exact<std::int64_t>();
    if (value && *value >= low && *value <= high) return *value;
    wrong(key, fmt::format("\"{}\" must be a whole number from {} to {}", key, low, high), "correct the value");
    return fallback;
}

double ConfigTable::decimal(std::string_view key, double low, double high, double fallback) {
    if (!has(key)) return fallback;
    const auto value = (*node_->table)[key].value<double>();
    if (value && *value >= low && *value <= high) return *value;
    wrong(key, fmt::format("\"{}\" must be a number from {} to {}", key, low, high), "correct the value");
    return fallback;
}

bool ConfigTable::flag(std::string_view key, bool fallback) {
    if (!has(key)) return fallback;
    if (const auto value = (*node_->table)[key].value_exact<bool>()) return *value;
    wrong(key, fmt::format("\"{}\" must be true or false", key), "correct the value");
    return fallback;
}

// A value that is written as text; `read` gives nothing for what is no such value.
template <typename Parse, typename Value>
Value ConfigTable::written(std::string_view key, Parse read, Value fallback, const char* kind, const char* remedy) {
    if (!has(key)) return fallback;
    const auto text = (*node_->table)[key].value_exact<std::string>();
    if (!text) {
        wrong(key, fmt::format("\"{}\" must be a quoted string", key), remedy);
        return fallback;
    }
    if (const auto value = read(*text)) return *value;
    wrong(key, fmt::format("\"{}\" isn't a valid {}", *text, kind), remedy);
    return fallback;
}

std::int64_t ConfigTable::bitrate(std::string_view key, std::int64_t fallback) {
    const auto to_bitrate = [](const std::string& text) {
        auto value = parse_bitrate(text);
        if (value && *value == 0) value.reset();
        return value;
    };
    return written(key, to_bitrate, fallback, "bit rate", "write for example \"8 Mbit/s\"");
}

Time ConfigTable::span(std::string_view key, Time fallback) {
    return written(key, parse_span, fallback, "time", "write for example \"250 ms\" or \"2 s\"");
}

Size ConfigTable::size(std::string_view key, Size fallback) {
    return written(key, parse_size, fallback, "video size", "write for example \"1280x720\", \"720p\" or \"4k\"");
}

std::vector<std::string> ConfigTable::texts(std::string_view key) {
    std::vector<std::string> result;
    if (!has(key)) return result;
    const toml::array* array = (*node_->table)[key].as_array();
    bool whole = array != nullptr;
    for (std::size_t i = 0; whole && i < array->size(); ++i) {
        const auto value = (*array)[i].value_exact<std::string>();
        whole = value.has_value();
        if (whole) result.push_back(*value);
    }
    if (!whole) wrong(key, fmt::format("\"{}\" must be a list of strings", key), "write it as [\"one\", \"two\"]");
    return result;
}

std::string ConfigTable::choice(std::string_view key, const std::vector<std::string>& words, std::string fallback) {
    std::string value = text(key, fallback);
    if (std::find(words.begin(), words.end(), value) != words.end()) return value;
    wrong(key, fmt::format("\"{}\" isn't valid for {}", value, key),
          fmt::format("use one of: {}", fmt::join(words, ", ")));
    return fallback;
}

ConfigTable ConfigTable::table(std::string_view key) {
    const toml::table* table = has(key) ? (*node_->table)[key].as_table() : nullptr;
    if (table == nullptr && has(key))
        wrong(key, fmt::format("\"{}\" must be a table", key), fmt::format("write it as [{}]", key));
    return ConfigTable(node_->below(table));
}

std::vector<ConfigTable> ConfigTable::table_or_tables(std::string_view key) {
    if (has(key) && (*node_->table)[key].is_table()) return {table(key)};
    return tables(key);
}

std::vector<ConfigTable> ConfigTable::tables(std::string_view key) {
    std::vector<ConfigTable> result;
    if (!has(key)) return result;
    const toml::array* array = (*node_->table)[key].as_array();
    bool whole = array != nullptr;
    for (std::size_t i = 0; whole && i < array->size(); ++i) {
        whole = (*array)[i].is_table();
        if (whole) result.push_back(ConfigTable(node_->below((*array)[i].as_table())));
    }
    if (!whole)
        wrong(key, fmt::format("\"{}\" must be a list of tables", key), fmt::format("write each as [[{}]]", key));
    return result;
}

void ConfigTable::finish() const {
    for (const auto& [key, value] : *node_->table) {
        const std::string_view name = key.str();
        if (node_->known.contains(name)) continue;
        const std::vector<std::string> known(node_->known.begin(), node_->known.end());
        const std::string meant = nearest(name, known);
        wrong(name, fmt::format("unknown key \"{}\"", name),
              meant.empty() ? fmt::format("remove it; valid keys: {}", fmt::join(known, ", "))
                            : fmt::format("did you mean \"{}\"?", meant));
    }
}

}  // namespace wavecrest::base
