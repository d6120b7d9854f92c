#include "upnp/protocol_info.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <cstdint>

namespace wavecrest::upnp {
namespace {

bool same_letters(std::string_view a, std::string_view b) {
    return std::equal(a.begin(), a.end(), b.begin(), b.end(),
                      [](unsigned char x, unsigned char y) { return std::tolower(x) == std::tolower(y); });
}
// One thing, though devices write it in several ways: the registered name, older ones, and with parameters.
std::string_view plain_type(std::string_view type) {
    static constexpr std::pair<std::string_view, std::string_view> kOthers[] = {
        {"video/x-matroska", "video/matroska"},
        {"video/x-mkv", "video/matroska"},
        {"video/mp2t", "video/mpeg-ts"},
        {"video/vnd.dlna.mpeg-tts", "video/mpeg-ts"},
        {"video/mpegts", "video/mpeg-ts"},
        {"video/x-msvideo", "video/avi"},
        {"audio/x-flac", "audio/flac"},
        {"audio/x-wav", "audio/wav"},
        {"audio/wave", "audio/wav"},
        {"audio/x-m4a", "audio/mp4"},
        {"audio/mp3", "audio/mpeg"},
        {"audio/x-mpeg", "audio/mpeg"},
        {"video/x-flv", "video/flv"},
        {"audio/vnd.dlna.adts", "audio/aac"},
        {"audio/x-aac", "audio/aac"},
        {"audio/x-ogg", "audio/ogg"},
        {"application/ogg", "audio/ogg"},
        {"application/x-mpegurl", "application/vnd.apple.mpegurl"},
        {"video/x-webm", "video/webm"},
        {"video/mp4v-es", "video/mp4"},
    };
    type = type.substr(0, type.find(';'));
    for (const auto& [other, usual] : kOthers) {
        if (same_letters(type, other)) return usual;
    }
    return type;
}

}  // namespace

std::string ProtocolInfo::text() const {
    return fmt::format("{}:{}:{}:{}", protocol, network, media_type, extra);
}

std::string ProtocolInfo::extra_field(std::string_view name) const {
    std::string_view rest = extra;
    while (!rest.empty()) {
        const std::string_view one = rest.substr(0, rest.find(';'));
        rest.remove_prefix(std::min(rest.size(), one.size() + 1));
        if (const std::size_t equals = one.find('='); equals != std::string_view::npos && one.substr(0, equals) == name)
            return std::string(one.substr(equals + 1));
    }
    return "";
}

std::vector<ProtocolInfo> parse_protocol_infos(std::string_view list) {
    constexpr std::size_t kMost = 2000;
    std::vector<ProtocolInfo> infos;
    while (!list.empty() && infos.size() < kMost) {
        std::string_view one = list.substr(0, list.find(','));
        list.remove_prefix(std::min(list.size(), one.size() + 1));
        while (!one.empty() && std::isspace(static_cast<unsigned char>(one.front()))) one.remove_prefix(1);
        while (!one.empty() && std::isspace(static_cast<unsigned char>(one.back()))) one.remove_suffix(1);
        std::string_view fields[4];
        bool whole = true;
        for (int i = 0; i < 3 && whole; ++i) {
            const std::size_t colon = one.find(':');
            whole = colon != std::string_view::npos;
            fields[i] = one.substr(0, colon);
            if (whole) one.remove_prefix(colon + 1);
        }
        fields[3] = one;
        if (whole && !fields[0].empty() && !fields[2].empty())
            infos.push_back(
                {std::string(fields[0]), std::string(fields[1]), std::string(fields[2]), std::string(fields[3])});
    }
    return infos;
}

bool takes(const std::vector<ProtocolInfo>& sink, const ProtocolInfo& source) {
    return std::any_of(sink.begin(), sink.end(), [&](const ProtocolInfo& one) {
        const bool protocol = one.protocol == "*" || one.protocol == source.protocol;
        const bool any_of_kind = one.media_type.ends_with("/*") &&
                                 source.media_type.starts_with(one.media_type.substr(0, one.media_type.size() - 1));
        return protocol && (one.media_type == "*" || any_of_kind ||
                            same_letters(plain_type(one.media_type), plain_type(source.media_type)));
    });
}

// Beyond ISO/IEC 29341, from the guidelines of IEC 62481-1 (7.4.1.3), because:
//   OP     many televisions offer no seeking where it is missing ("ab": a by time, b by bytes)
//   CI     0: not converted; some take a missing one for converted, and don't seek
//   FLAGS  32 hexadecimal digits, of which the first 8 count: streaming or interactive transfer, waiting connections
//          (some stop at once when they are paused without), the version 1.5
// No profile (PN) is told: those of these guidelines tell less than our own look at the file, and a wrong one keeps a
// file from being played that would be.
std::string extra_fields(const TransferTraits& traits) {
    constexpr std::uint32_t kStreaming = 1U << 24, kInteractive = 1U << 23, kBackground = 1U << 22,
                            kStalling = 1U << 21, kVersion15 = 1U << 20, kLive = 1U << 29;
    const std::uint32_t flags =
        (traits.image ? kInteractive : kStreaming) | kBackground | kStalling | kVersion15 | (traits.live ? kLive : 0);
    return fmt::format("DLNA.ORG_OP={}{};DLNA.ORG_CI=0;DLNA.ORG_FLAGS={:08X}{:024d}", traits.seeks_by_time ? 1 : 0,
                       traits.seeks_by_bytes ? 1 : 0, flags, 0);
}

}  // namespace wavecrest::upnp
