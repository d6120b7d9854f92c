#include "upnp/search_criteria.hpp"

#include <algorithm>
#include <array>
#include <cctype>

namespace wavecrest::upnp {
namespace {

constexpr std::size_t kMostBytes = 4096;
constexpr int kMostComparisons = 64, kMostNested = 32;
constexpr std::array<std::string_view, 11> kOperations = {
    "=", "!=", "<", "<=", ">", ">=", "contains", "doesNotContain", "derivedfrom", "startsWith", "exists"};

class Parser {
  public:
    explicit Parser(std::string_view text) : text_(text) {}

    Result<Criteria> read() {
        if (text_.size() > kMostBytes) return refuse("are too long");
        skip_blanks();
        if (rest() == "*" || rest().empty()) return Criteria{};
        WAVECREST_TRY_ASSIGN(criteria, either(0));
        skip_blanks();
        if (!rest().empty()) return refuse("have something behind their end");
        return criteria;
    }

  private:
    static tl::unexpected<Error> refuse(const char* why) {
        return fail(ErrorKind::usage, std::string("the search criteria ") + why, "search criteria",
                    "write for example: dc:title contains \"lake\"");
    }
    std::string_view rest() const { return text_.substr(at_); }
    void skip_blanks() {
        while (at_ < text_.size() && std::isspace(static_cast<unsigned char>(text_[at_])) != 0) ++at_;
    }
    // A word as far as the next blank, quote or parenthesis.
    std::string word() {
        skip_blanks();
        const std::size_t begin = at_;
        while (at_ < text_.size() && std::isspace(static_cast<unsigned char>(text_[at_])) == 0 && text_[at_] != '(' &&
               text_[at_] != ')' && text_[at_] != '"')
            ++at_;
        return std::string(text_.substr(begin, at_ - begin));
    }
    bool take_word(std::string_view wanted) {
        const std::size_t before = at_;
        if (word() == wanted) return true;
        at_ = before;
        return false;
    }

    // "and" binds more strongly than "or" (2.3.11.1).
    Result<Criteria> either(int depth) {
        WAVECREST_TRY_ASSIGN(left, both(depth));
        while (take_word("or")) {
            WAVECREST_TRY_ASSIGN(right, both(depth));
            Criteria joined;
            joined.kind = Criteria::Kind::either;
            joined.parts = {std::move(left), std::move(right)};
            left = std::move(joined);
        }
        return left;
    }
    Result<Criteria> both(int depth) {
        WAVECREST_TRY_ASSIGN(left, one(depth));
        while (take_word("and")) {
            WAVECREST_TRY_ASSIGN(right, one(depth));
            Criteria joined;
            joined.kind = Criteria::Kind::both;
            joined.parts = {std::move(left), std::move(right)};
            left = std::move(joined);
        }
        return left;
    }
    Result<Criteria> one(int depth) {
        skip_blanks();
        if (rest().starts_with("(")) {
            if (depth >= kMostNested) return refuse("are nested too deeply");
            ++at_;
            WAVECREST_TRY_ASSIGN(inside, either(depth + 1));
            skip_blanks();
            if (!rest().starts_with(")")) return refuse("lack a closing parenthesis");
            ++at_;
            return inside;
        }
        if (++comparisons_ > kMostComparisons) return refuse("have too many comparisons");
        Criteria c;
        c.kind = Criteria::Kind::compare;
        c.property = word();
        c.operation = word();
        if (c.property.empty()) return refuse("end too early");
        if (std::find(kOperations.begin(), kOperations.end(), c.operation) == kOperations.end())
            return refuse("have an unknown operator");
        if (c.operation == "exists") {
            c.value = word();
            if (c.value != "true" && c.value != "false") return refuse("need true or false behind exists");
            return c;
        }
        skip_blanks();
        if (!rest().starts_with("\"")) return refuse("need a value in quotes");
        for (++at_; at_ < text_.size() && text_[at_] != '"'; ++at_) {
            if (text_[at_] == '\\' && at_ + 1 < text_.size()) ++at_;
            c.value += text_[at_];
        }
        if (at_ >= text_.size()) return refuse("lack a closing quote");
        ++at_;
        return c;
    }

    std::string_view text_;
    std::size_t at_ = 0;
    int comparisons_ = 0;
};

}  // namespace

Result<Criteria> parse_criteria(std::string_view text) {
    return Parser(text).read();
}

Result<std::vector<SortKey>> parse_sort(std::string_view text) {
    std::vector<SortKey> keys;
    while (!text.empty()) {
        std::string_view one = text.substr(0, text.find(','));
        text.remove_prefix(std::min(text.size(), one.size() + 1));
        while (!one.empty() && one.front() == ' ') one.remove_prefix(1);
        while (!one.empty() && one.back() == ' ') one.remove_suffix(1);
        if (one.empty()) continue;
        if ((one.front() != '+' && one.front() != '-') || keys.size() >= 16)
            return fail(ErrorKind::usage, "the sort criteria need + or - before each property", "sort criteria",
                        "write for example: +dc:title");
        keys.push_back({std::string(one.substr(1)), one.front() == '-'});
    }
    return keys;
}

}  // namespace wavecrest::upnp
