#include "job/name_list.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <charconv>

namespace wavecrest::job {
namespace {

std::string trimmed(std::string_view text) {
    const auto blank = [](char c) { return std::isspace(static_cast<unsigned char>(c)) != 0; };
    while (!text.empty() && blank(text.front())) text.remove_prefix(1);
    while (!text.empty() && blank(text.back())) text.remove_suffix(1);
    return std::string(text);
}

struct Record {
    std::vector<std::string> fields;
    int line = 0;
};

// RFC 4180, 2: fields in quotes may hold separators, line ends and, doubled, quotes.
Result<std::vector<Record>> records_of(const std::string& text, char separator, const std::string& file) {
    std::vector<Record> records;
    Record record{{}, 1};
    std::string field;
    int line = 1;
    bool quoted = false, was_quoted = false;
    const auto end_field = [&] {
        record.fields.push_back(was_quoted ? field : trimmed(field));
        field.clear();
        was_quoted = false;
    };
    const auto end_record = [&] {
        end_field();
        if (record.fields.size() > 1 || !record.fields.front().empty()) records.push_back(record);
        record = {{}, line};
    };
    for (std::size_t i = 0; i < text.size(); ++i) {
        const char c = text[i];
        if (c == '\n') ++line;
        if (quoted) {
            if (c == '"' && i + 1 < text.size() && text[i + 1] == '"') {
                field += c;
                ++i;
            } else if (c == '"') {
                quoted = false;
            } else {
                field += c;
            }
        } else if (c == '"' && trimmed(field).empty() && !was_quoted) {
            field.clear();
            quoted = was_quoted = true;
        } else if (c == separator) {
            end_field();
        } else if (c == '\n') {
            end_record();
        } else if (c != '\r' && !(was_quoted && c == ' ')) {
            field += c;
        }
    }
    if (quoted)
        return fail(ErrorKind::usage, "a quoted field has no end", fmt::format("{}, line {}", file, record.line),
                    "close it with a quotation mark; inside it write two for one");
    end_record();
    return records;
}

}  // namespace

Result<std::vector<NameRow>> parse_name_list(const std::string& given, const std::string& file) {
    const std::string text = given.starts_with("\xEF\xBB\xBF") ? given.substr(3) : given;  // spreadsheets' mark
    const std::string_view first = std::string_view(text).substr(0, text.find('\n'));
    const char separator =
        first.find(',') == std::string_view::npos && first.find(';') != std::string_view::npos ? ';' : ',';
    WAVECREST_TRY_ASSIGN(records, records_of(text, separator, file));
    std::vector<NameRow> rows;
    for (const Record& record : records) {
        const std::string where = fmt::format("{}, line {}", file, record.line);
        std::string head = record.fields.front();
        std::transform(head.begin(), head.end(), head.begin(), [](unsigned char c) { return std::tolower(c); });
        if (&record == &records.front() && head == "disc") continue;
        if (record.fields.size() != 3)
            return fail(
                ErrorKind::usage,
                fmt::format("{} instead of 3",
                            record.fields.size() == 1 ? "1 column" : fmt::format("{} columns", record.fields.size())),
                where, "write disc,title,name; a name with a comma in quotation marks");
        NameRow row{record.fields[0], 0, record.fields[2], record.line};
        const std::string& title = record.fields[1];
        const auto [end, error] = std::from_chars(title.data(), title.data() + title.size(), row.title);
        if (!title.empty() && (error != std::errc() || end != title.data() + title.size() || row.title < 1))
            return fail(ErrorKind::usage, fmt::format("\"{}\" is no title number", title), where,
                        "write the number that inspect shows, or nothing for the main title");
        if (row.disc.empty() || row.name.empty())
            return fail(ErrorKind::usage, row.disc.empty() ? "no disc" : "no name", where,
                        "fill in both, or remove the line");
        rows.push_back(std::move(row));
    }
    return rows;
}

Result<std::vector<NameRow>> read_name_list(const base::Path& file) {
    WAVECREST_TRY_ASSIGN(text, base::read_text_file(file));
    return parse_name_list(text, file.string());
}

bool names(const NameRow& row, const std::string& source) {
    const base::Path given = base::Path(source).has_filename() ? base::Path(source) : base::Path(source).parent_path();
    const base::Path wanted =
        base::Path(row.disc).has_filename() ? base::Path(row.disc) : base::Path(row.disc).parent_path();
    if (given.filename() == wanted || given.stem() == wanted) return true;
    // The end of its path, from a folder's name on.
    const std::string path = given.generic_string(), end = "/" + wanted.generic_string();
    return path == wanted.generic_string() || path.ends_with(end);
}

}  // namespace wavecrest::job
