#include "support/h264_judge.hpp"

#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include "base/time.hpp"
#include "support/browser.hpp"

namespace wavecrest::test {
namespace {

std::string base64(ByteSpan bytes) {
    static constexpr char kLetters[] = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
    std::string text;
    text.reserve(bytes.size() * 4 / 3 + 4);
    for (std::size_t i = 0; i < bytes.size(); i += 3) {
        const std::size_t left = bytes.size() - i;
        const std::uint32_t three = bytes[i] << 16 | (left > 1 ? bytes[i + 1] << 8 : 0) | (left > 2 ? bytes[i + 2] : 0);
        text += kLetters[three >> 18];
        text += kLetters[three >> 12 & 63];
        text += left > 1 ? kLetters[three >> 6 & 63] : '=';
        text += left > 2 ? kLetters[three & 63] : '=';
    }
    return text;
}

constexpr const char* kPage = R"(<!doctype html><script>
const bytes = text => Uint8Array.from(atob(text), c => c.charCodeAt(0));
async function hash(frame) {
    const rect = frame.visibleRect, buffer = new Uint8Array(frame.allocationSize());
    const layout = await frame.copyTo(buffer);
    let h = 2166136261;
    const add = v => { h = Math.imul(h ^ v, 16777619); };
    const plane = (at, stride, step, w, rows) => {
        for (let y = 0; y < rows; ++y) for (let x = 0; x < w; ++x) add(buffer[at + y * stride + x * step]);
    };
    plane(layout[0].offset, layout[0].stride, 1, rect.width, rect.height);
    const w = rect.width / 2, rows = rect.height / 2;
    if (frame.format == 'NV12') {
        plane(layout[1].offset, layout[1].stride, 2, w, rows);
        plane(layout[1].offset + 1, layout[1].stride, 2, w, rows);
    } else if (frame.format == 'I420') {
        plane(layout[1].offset, layout[1].stride, 1, w, rows);
        plane(layout[2].offset, layout[2].stride, 1, w, rows);
    } else throw 'format ' + frame.format;
    return h >>> 0;
}
async function decode(stream) {
    const pictures = [], waiting = [];
    let trouble = '';
    const decoder = new VideoDecoder({
        output: frame => waiting.push(hash(frame).then(h => pictures.push([frame.timestamp, h])).finally(() => frame.close())),
        error: e => trouble = String(e)});
    const config = bytes(stream.config);
    const hex = n => n.toString(16).padStart(2, '0');
    decoder.configure({codec: 'avc1.' + hex(config[1]) + hex(config[2]) + hex(config[3]), description: config,
                       hardwareAcceleration: 'prefer-software'});
    for (const p of stream.packets) {
        if (trouble) break;
        decoder.decode(new EncodedVideoChunk({type: p[1] ? 'key' : 'delta', timestamp: p[0], data: bytes(p[2])}));
        while (decoder.decodeQueueSize > 8 && !trouble) await new Promise(r => setTimeout(r, 1));
    }
    try { await decoder.flush(); } catch (e) { trouble = trouble || String(e); }
    await Promise.all(waiting);
    return {pictures, trouble};
}
(async () => {
    const results = [];
    try {
        for (const stream of STREAMS) results.push(await decode(stream));
        await fetch('/result', {method: 'POST', body: JSON.stringify({results})});
    } catch (e) {
        await fetch('/result', {method: 'POST', body: JSON.stringify({results, trouble: String(e)})});
    }
})();
</script>)";

}  // namespace

std::uint32_t hash_of(const Picture& picture) {
    std::uint32_t hash = 2166136261u;
    for (int c = 0; c < 3; ++c) {
        const int w = c == 0 ? picture.width : picture.width / 2, h = c == 0 ? picture.height : picture.height / 2;
        for (int y = 0; y < h; ++y) {
            for (int x = 0; x < w; ++x) hash = (hash ^ picture.planes[c][y * picture.strides[c] + x]) * 16777619u;
        }
    }
    return hash;
}

std::optional<std::vector<std::vector<JudgedPicture>>> judge_h264(const std::vector<JudgedStream>& streams,
                                                                  std::string& why) {
    std::string list = "[";
    for (const JudgedStream& stream : streams) {
        list += "{\"config\":\"" + base64(stream.config.view()) + "\",\"packets\":[";
        for (const Packet& packet : stream.packets)
            list += fmt::format("[{},{},\"{}\"],", base::to_ticks(packet.pts, 1'000'000), packet.key ? 1 : 0,
                                base64(packet.data.view()));
        if (list.back() == ',') list.pop_back();
        list += "]},";
    }
    if (list.back() == ',') list.pop_back();
    list += "]";
    std::string page = kPage;
    page.replace(page.find("STREAMS"), 7, list);
    const std::string answer = run_page(page, 120);
    const auto json = nlohmann::json::parse(answer, nullptr, false);
    if (json.is_discarded() || json.contains("trouble")) {
        why = answer.empty() ? "the browser said nothing" : answer;
        return std::nullopt;
    }
    std::vector<std::vector<JudgedPicture>> all;
    for (const auto& one : json["results"]) {
        if (one["trouble"] != "") why += fmt::format("stream {}: {}; ", all.size(), one["trouble"].get<std::string>());
        auto& pictures = all.emplace_back();
        for (const auto& picture : one["pictures"])
            pictures.push_back({picture[0].get<std::int64_t>(), picture[1].get<std::uint32_t>()});
    }
    return all;
}

}  // namespace wavecrest::test
