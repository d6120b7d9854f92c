#include "support/h264_judge.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <nlohmann/json.hpp>

#include "base/time.hpp"
#include "support/browser.hpp"

namespace wavecrest::test {
namespace {

constexpr const char* kPage = R"(<!doctype html><script>
const bytes = text => Uint8Array.from(atob(text), c => c.charCodeAt(0));
async function hash(frame) {
    const rect = frame.visibleRect, buffer = new Uint8Array(frame.allocationSize());
    const layout = await frame.copyTo(buffer);
    const w = rect.width / 2, rows = rect.height / 2, planes = [];
    const plane = (at, stride, step, w, rows) => planes.push({at, stride, step, w, rows});
    plane(layout[0].offset, layout[0].stride, 1, rect.width, rect.height);
    if (frame.format == 'NV12') {
        plane(layout[1].offset, layout[1].stride, 2, w, rows);
        plane(layout[1].offset + 1, layout[1].stride, 2, w, rows);
    } else if (frame.format == 'I420') {
        plane(layout[1].offset, layout[1].stride, 1, w, rows);
        plane(layout[2].offset, layout[2].stride, 1, w, rows);
    } else throw 'format ' + frame.format;
    let h = 2166136261;
    const add = (p, x0, y0, w, rows) => {
        const x1 = Math.min(x0 + w, p.w), y1 = Math.min(y0 + rows, p.rows);
        for (let y = y0; y < y1; ++y)
            for (let x = x0; x < x1; ++x) h = Math.imul(h ^ buffer[p.at + y * p.stride + x * p.step], 16777619);
    };
    for (const p of planes) add(p, 0, 0, p.w, p.rows);
    const whole = h >>> 0, parts = [];
    if (PARTS) {
        for (let y = 0; y * 16 < rect.height; ++y)
            for (let x = 0; x * 16 < rect.width; ++x)
                planes.forEach((p, c) => {
                    const size = c == 0 ? 16 : 8;
                    h = 2166136261;
                    add(p, x * size, y * size, size, size);
                    parts.push(h >>> 0);
                });
    }
    return [whole, parts];
}
async function decode(stream) {
    const pictures = [], waiting = [];
    let trouble = '';
    const decoder = new VideoDecoder({
        output: frame => waiting.push(hash(frame).then(h => pictures.push([frame.timestamp, ...h])).finally(() => frame.close())),
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

namespace {

// Of a part of a plane, as far as that goes; goes on from `hash`.
std::uint32_t add(std::uint32_t hash, const Picture& picture, int plane, int left, int top, int width, int height) {
    const int half = plane == 0 ? 0 : 1;
    const int right = std::min(left + width, picture.width >> half),
              bottom = std::min(top + height, picture.height >> half);
    for (int y = top; y < bottom; ++y) {
        for (int x = left; x < right; ++x)
            hash = (hash ^ picture.planes[plane][y * picture.strides[plane] + x]) * 16777619u;
    }
    return hash;
}
constexpr std::uint32_t kBegin = 2166136261u;

}  // namespace

std::uint32_t hash_of(const Picture& picture) {
    std::uint32_t hash = kBegin;
    for (int c = 0; c < 3; ++c) hash = add(hash, picture, c, 0, 0, picture.width, picture.height);
    return hash;
}

std::string first_difference(const Picture& picture, const std::vector<std::uint32_t>& parts) {
    std::size_t next = 0;
    for (int y = 0; y * 16 < picture.height; ++y) {
        for (int x = 0; x * 16 < picture.width; ++x) {
            for (int c = 0; c < 3; ++c) {
                const int size = c == 0 ? 16 : 8;
                if (next == parts.size()) return "the browser's picture is smaller";
                if (add(kBegin, picture, c, x * size, y * size, size, size) != parts[next++])
                    return fmt::format("plane {} of macroblock {},{}", c, x, y);
            }
        }
    }
    return "";
}

std::optional<std::vector<std::vector<JudgedPicture>>> judge_h264(const std::vector<JudgedStream>& streams,
                                                                  std::string& why, bool parts) {
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
    page.replace(page.find("PARTS"), 5, parts ? "true" : "false");
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
            pictures.push_back({picture[0].get<std::int64_t>(), picture[1].get<std::uint32_t>(),
                                picture[2].get<std::vector<std::uint32_t>>()});
    }
    return all;
}

}  // namespace wavecrest::test
