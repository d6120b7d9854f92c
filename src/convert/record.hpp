// What a file came from and how it was made, as JSON beside it ("Film (2020).mp4.record.json"): for people, for other
// programs, and for the next run, which need not make it again.
#pragma once

#include <string>

#include "convert/convert.hpp"

namespace wavecrest::convert {

base::Path record_path(const base::Path& file);

// `digest` of the source (source/digest.hpp) and `key` of what was done to it: any text that differs when the result
// would. Replaces an earlier record.
Status write_record(const Plan& plan, const Outcome& outcome, std::size_t file, const std::string& digest,
                    const std::string& key);

// Whether this file is there, as large as its record says, made of this source in this way.
bool is_recorded(const base::Path& file, const std::string& digest, const std::string& key);
// The same by the text of the record, of a file of this size.
bool matches_record(const std::string& record, std::uint64_t size, const std::string& digest, const std::string& key);

}  // namespace wavecrest::convert
