// Aligned text tables.
#pragma once

#include <string>
#include <vector>

namespace wavecrest::render {

// Widths count characters of UTF-8 text. Trailing blanks are left out.
class Table {
  public:
    enum class Align { left, right };
    explicit Table(std::vector<std::string> headings, std::vector<Align> aligns = {});
    void add(std::vector<std::string> row);
    bool empty() const { return rows_.empty(); }
    // Every line starts with `indent` blanks and ends with a line feed.
    std::string text(int indent = 0) const;

  private:
    std::vector<std::string> headings_;
    std::vector<Align> aligns_;
    std::vector<std::vector<std::string>> rows_;
};

}  // namespace wavecrest::render
