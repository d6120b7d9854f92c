// A statement of SQLite (https://www.sqlite.org/c3ref/intro.html), for the modules that keep a database. Each includes
// this in its .cpp files only, and says in its own words what went wrong.
#pragma once

#include <sqlite3.h>

#include <cstdint>
#include <string>
#include <string_view>

namespace wavecrest::base {

class Statement {
  public:
    Statement(sqlite3* database, const std::string& text) {
        failed_ = sqlite3_prepare_v2(database, text.c_str(), static_cast<int>(text.size()), &statement_, nullptr) !=
                  SQLITE_OK;
    }
    ~Statement() { sqlite3_finalize(statement_); }
    Statement(const Statement&) = delete;
    Statement& operator=(const Statement&) = delete;

    // The next parameter.
    Statement& bind(std::int64_t value) {
        sqlite3_bind_int64(statement_, ++bound_, value);
        return *this;
    }
    Statement& bind(double value) {
        sqlite3_bind_double(statement_, ++bound_, value);
        return *this;
    }
    Statement& bind(const std::string& value) {
        sqlite3_bind_text(statement_, ++bound_, value.data(), static_cast<int>(value.size()), SQLITE_TRANSIENT);
        return *this;
    }
    // SQLITE_ROW, SQLITE_DONE, or an error.
    int step() { return failed_ ? SQLITE_ERROR : sqlite3_step(statement_); }
    // To be bound and stepped through again.
    void reset() {
        sqlite3_reset(statement_);
        bound_ = 0;
    }
    std::int64_t number(int column) { return sqlite3_column_int64(statement_, column); }
    double decimal(int column) { return sqlite3_column_double(statement_, column); }
    std::string text(int column) {
        const auto* bytes = sqlite3_column_text(statement_, column);
        return bytes == nullptr ? "" : std::string(reinterpret_cast<const char*>(bytes));
    }

  private:
    sqlite3_stmt* statement_ = nullptr;
    int bound_ = 0;
    bool failed_ = false;
};

}  // namespace wavecrest::base
