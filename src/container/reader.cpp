#include "container/reader.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>

#include "base/byte_source.hpp"
#include "container/sniff.hpp"

namespace wavecrest::container {

std::string media_type(std::string_view container) {
    static constexpr std::pair<std::string_view, std::string_view> kTypes[] = {
        {"mp4", "video/mp4"},      {"matroska", "video/x-matroska"}, {"webm", "video/webm"}, {"mpeg-ts", "video/mp2t"},
        {"mpeg-ps", "video/mpeg"}, {"avi", "video/x-msvideo"},       {"flv", "video/x-flv"}, {"ogg", "application/ogg"},
        {"mp3", "audio/mpeg"},     {"flac", "audio/flac"},           {"wav", "audio/wav"},   {"adts", "audio/aac"}};
    for (const auto& [name, type] : kTypes) {
        if (name == container) return std::string(type);
    }
    return "application/octet-stream";
}

Result<MediaFile> open_media(std::shared_ptr<base::ByteSource> bytes, int program) {
    ByteVector first(kSniffBytes);
    WAVECREST_TRY_ASSIGN(got, bytes->read_at(0, first));
    first.resize(got);
    if (first.empty()) return fail(ErrorKind::input, "the file is empty", bytes->name(), "copy or make it again");
    const std::string_view kind = sniff(first);
    if (kind == "mp4") return open_mp4(std::move(bytes));
    if (kind == "matroska") return open_matroska(std::move(bytes));
    if (kind == "mpeg-ts") return open_mpeg_ts(std::move(bytes), program);
    if (kind == "mpeg-ps") return open_mpeg_ps(std::move(bytes));
    if (kind == "avi") return open_avi(std::move(bytes));
    if (kind == "flv") return open_flv(std::move(bytes));
    if (kind == "ogg") return open_ogg(std::move(bytes));
    if (kind == "wav" || kind == "flac" || kind == "mp3" || kind == "adts") return open_audio_file(std::move(bytes));
    if (kind == "text") return open_text_file(std::move(bytes));
    return fail(ErrorKind::input, "not a supported media file", fmt::format("{}, byte 0", bytes->name()),
                "name the folder or image of a ripped disc, or a media file");
}

Error skips_refused(const base::ByteSource& bytes) {
    return {ErrorKind::input, "can't seek in piped input", bytes.name(), "save it to a file and name that"};
}

std::string plain_text_of_ass(const std::string& dialogue) {
    // ReadOrder, Layer, Style, Name, MarginL, MarginR, MarginV, Effect, Text
    std::size_t at = 0;
    for (int commas = 0; commas < 8; ++commas) {
        const std::size_t comma = dialogue.find(',', at);
        if (comma == std::string::npos) return "";
        at = comma + 1;
    }
    std::string text;
    bool drawing = false;
    while (at < dialogue.size()) {
        const char c = dialogue[at];
        if (c == '{') {
            const std::size_t end = dialogue.find('}', at);
            if (end == std::string::npos) break;
            const std::string tags = dialogue.substr(at, end - at);
            // \p1 begins a drawing in vectors, \p0 ends it.
            if (const auto p = tags.find("\\p");
                p != std::string::npos && p + 2 < tags.size() && tags[p + 2] >= '0' && tags[p + 2] <= '9')
                drawing = tags[p + 2] != '0';
            at = end + 1;
            continue;
        }
        if (c == '\\' && at + 1 < dialogue.size()) {
            const char next = dialogue[at + 1];
            if (next == 'N' || next == 'n' || next == 'h') {
                if (!drawing) text += next == 'h' ? ' ' : '\n';
                at += 2;
                continue;
            }
        }
        if (!drawing && c != '\r') text += c;
        ++at;
    }
    return text;
}

std::string without_markup(const std::string& text, bool entities) {
    // The tags in use; anything else between the signs is text.
    const auto is_tag = [&](std::size_t at, std::size_t end) {
        if (at < end && text[at] == '/') ++at;
        std::string name;
        while (at < end && std::isalpha(static_cast<unsigned char>(text[at])))
            name += static_cast<char>(std::tolower(static_cast<unsigned char>(text[at++])));
        if (name.empty()) return entities && at < end && text[at] >= '0' && text[at] <= '9';  // a time within a cue
        const bool ends = at == end || text[at] == ' ' || text[at] == '.' || text[at] == '/';
        constexpr std::string_view kTags[] = {"b", "i", "u", "s", "c", "v", "font", "lang", "ruby", "rt", "br"};
        return ends && std::find(std::begin(kTags), std::end(kTags), name) != std::end(kTags);
    };
    std::string plain;
    for (std::size_t at = 0; at < text.size(); ++at) {
        const char c = text[at];
        if (c == '<') {
            const std::size_t end = text.find('>', at);
            if (end != std::string::npos && is_tag(at + 1, end)) {
                at = end;
                continue;
            }
        }
        if (c == '&' && entities) {
            constexpr std::pair<std::string_view, std::string_view> kEntities[] = {
                {"&amp;", "&"}, {"&lt;", "<"}, {"&gt;", ">"}, {"&nbsp;", " "}, {"&lrm;", ""}, {"&rlm;", ""}};
            const auto* entity = std::find_if(std::begin(kEntities), std::end(kEntities), [&](const auto& e) {
                return text.compare(at, e.first.size(), e.first) == 0;
            });
            if (entity != std::end(kEntities)) {
                plain += entity->second;
                at += entity->first.size() - 1;
                continue;
            }
        }
        if (c != '\r') plain += c;
    }
    while (!plain.empty() && (plain.back() == '\n' || plain.back() == ' ')) plain.pop_back();
    return plain;
}

}  // namespace wavecrest::container
