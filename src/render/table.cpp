#include "render/table.hpp"

#include <algorithm>

#include "base/printable.hpp"

namespace wavecrest::render {
namespace {

std::size_t width(const std::string& text) {
    return static_cast<std::size_t>(
        std::count_if(text.begin(), text.end(), [](char c) { return (static_cast<unsigned char>(c) & 0xC0) != 0x80; }));
}

}  // namespace

Table::Table(std::vector<std::string> headings, std::vector<Align> aligns)
    : headings_(std::move(headings)), aligns_(std::move(aligns)) {
    for (std::string& heading : headings_) heading = base::printable(heading);
    aligns_.resize(headings_.size(), Align::left);
}

void Table::add(std::vector<std::string> row) {
    row.resize(headings_.size());
    for (std::string& cell : row) cell = base::printable(cell);  // names come from outside
    rows_.push_back(std::move(row));
}

std::string Table::text(int indent) const {
    std::vector<std::size_t> widths;
    for (std::size_t c = 0; c < headings_.size(); ++c) {
        std::size_t most = width(headings_[c]);
        for (const auto& row : rows_) most = std::max(most, width(row[c]));
        widths.push_back(most);
    }
    std::string out;
    const auto write = [&](const std::vector<std::string>& row) {
        std::string line(static_cast<std::size_t>(indent), ' ');
        for (std::size_t c = 0; c < row.size(); ++c) {
            const std::string fill(widths[c] - width(row[c]), ' ');
            if (c > 0) line += "  ";
            line += aligns_[c] == Align::right ? fill + row[c] : row[c] + fill;
        }
        line.erase(line.find_last_not_of(' ') + 1);
        out += line + '\n';
    };
    write(headings_);
    for (const auto& row : rows_) write(row);
    return out;
}

}  // namespace wavecrest::render
