// A plain list that names the films and episodes of a whole shelf: CSV (RFC 4180) with the columns disc, title, name.
//
//   disc,title,name
//   LANTERNS_2019,,Lanterns over Cedar Lake (2019)
//   BOATHOUSE_D1,2,Boathouse Stories S01E01
//   BOATHOUSE_D1,3,Boathouse Stories S01E02
//
// A disc is a folder's or file's name, or the end of its path; no title is the main one.
#pragma once

#include <string>
#include <vector>

#include "base/file.hpp"
#include "base/result.hpp"

namespace wavecrest::job {

struct NameRow {
    std::string disc;
    int title = 0;  // 0: the main one
    std::string name;
    int line = 0;
};

// Fails (kind usage) with the line of what is wrong in it; the first line may be the columns' names. Separated by
// commas or, where the first line has none, semicolons.
Result<std::vector<NameRow>> parse_name_list(const std::string& text, const std::string& file);
Result<std::vector<NameRow>> read_name_list(const base::Path& file);

// Whether a row means this source.
bool names(const NameRow& row, const std::string& source);

}  // namespace wavecrest::job
