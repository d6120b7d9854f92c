// Files of data/ compiled into the program: built-in profiles, devices, page templates.
#pragma once

#include <string_view>
#include <vector>

namespace wavecrest::base {

struct EmbeddedFile {
    std::string_view name;  // path below data/, such as "devices/tv-hd.toml"
    std::string_view text;
};

const std::vector<EmbeddedFile>& embedded_files();

}  // namespace wavecrest::base
