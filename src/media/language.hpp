// Language codes: ISO 639-1 (two letters, on discs) and ISO 639-2 (three letters, in files; /T unless said otherwise).
#pragma once

#include <string>
#include <string_view>

namespace wavecrest::media {

// The three-letter code for a two- or three-letter one of any kind; "und" for none or an unknown one.
std::string language_639_2(std::string_view code);
// Both known, and the same by any of their codes ("de", "deu", "ger").
bool same_language(const std::string& a, const std::string& b);
// The bibliographic code, which Matroska and transport streams use: "ger" for "deu".
std::string language_639_2_bibliographic(std::string_view code);
// The language tag (RFC 5646, 2.2.1: the shortest code there is); empty for none or an unknown one.
std::string language_tag(std::string_view code);
// The name in English: "English"; the code itself when it is not in the table; "no language" for none or "und".
std::string language_name(std::string_view code);

}  // namespace wavecrest::media
