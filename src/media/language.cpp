#include "media/language.hpp"

namespace wavecrest::media {
namespace {

struct Language {
    std::string_view two, three, name;
};
constexpr Language kLanguages[] = {
    {"ar", "ara", "Arabic"},     {"bg", "bul", "Bulgarian"}, {"ca", "cat", "Catalan"},    {"cs", "ces", "Czech"},
    {"da", "dan", "Danish"},     {"de", "deu", "German"},    {"el", "ell", "Greek"},      {"en", "eng", "English"},
    {"es", "spa", "Spanish"},    {"et", "est", "Estonian"},  {"fa", "fas", "Persian"},    {"fi", "fin", "Finnish"},
    {"fr", "fra", "French"},     {"ga", "gle", "Irish"},     {"he", "heb", "Hebrew"},     {"hi", "hin", "Hindi"},
    {"hr", "hrv", "Croatian"},   {"hu", "hun", "Hungarian"}, {"id", "ind", "Indonesian"}, {"is", "isl", "Icelandic"},
    {"it", "ita", "Italian"},    {"ja", "jpn", "Japanese"},  {"ko", "kor", "Korean"},     {"lt", "lit", "Lithuanian"},
    {"lv", "lav", "Latvian"},    {"nl", "nld", "Dutch"},     {"no", "nor", "Norwegian"},  {"pl", "pol", "Polish"},
    {"pt", "por", "Portuguese"}, {"ro", "ron", "Romanian"},  {"ru", "rus", "Russian"},    {"sk", "slk", "Slovak"},
    {"sl", "slv", "Slovenian"},  {"sr", "srp", "Serbian"},   {"sv", "swe", "Swedish"},    {"th", "tha", "Thai"},
    {"tr", "tur", "Turkish"},    {"uk", "ukr", "Ukrainian"}, {"vi", "vie", "Vietnamese"}, {"zh", "zho", "Chinese"},
};

// Bibliographic codes beside the terminological ones, where they differ (ISO 639-2).
constexpr std::string_view kBibliographic[][2] = {
    {"bod", "tib"}, {"ces", "cze"}, {"cym", "wel"}, {"deu", "ger"}, {"ell", "gre"}, {"eus", "baq"}, {"fas", "per"},
    {"fra", "fre"}, {"hye", "arm"}, {"isl", "ice"}, {"kat", "geo"}, {"mkd", "mac"}, {"mri", "mao"}, {"msa", "may"},
    {"mya", "bur"}, {"nld", "dut"}, {"ron", "rum"}, {"slk", "slo"}, {"sqi", "alb"}, {"zho", "chi"},
};

const Language* find(std::string_view code) {
    for (const auto& [terminological, bibliographic] : kBibliographic) {
        if (bibliographic == code) code = terminological;
    }
    for (const Language& language : kLanguages) {
        if (language.two == code || language.three == code) return &language;
    }
    return nullptr;
}

}  // namespace

std::string language_639_2(std::string_view code) {
    if (const Language* language = find(code)) return std::string(language->three);
    for (const auto& [terminological, bibliographic] : kBibliographic) {
        if (bibliographic == code) return std::string(terminological);
    }
    return code.size() == 3 ? std::string(code) : "und";
}

std::string language_639_2_bibliographic(std::string_view code) {
    const std::string known = language_639_2(code);
    for (const auto& [terminological, bibliographic] : kBibliographic) {
        if (terminological == known) return std::string(bibliographic);
    }
    return known;
}

std::string language_tag(std::string_view code) {
    if (const Language* language = find(code)) return std::string(language->two);
    const std::string known = language_639_2(code);
    return known == "und" ? "" : known;
}

std::string language_name(std::string_view code) {
    if (const Language* language = find(code)) return std::string(language->name);
    return code.empty() || code == "und" ? "no language" : std::string(code);
}

bool same_language(const std::string& a, const std::string& b) {
    return language_639_2(a) == language_639_2(b) && language_639_2(a) != "und";
}

}  // namespace wavecrest::media
