#include "container/from_time.hpp"

#include <algorithm>
#include <functional>
#include <optional>
#include <vector>

#include "container/mpeg_ps.hpp"
#include "container/mpeg_ts.hpp"

namespace wavecrest::container {
namespace {

constexpr std::int64_t kTicks = 27'000'000;
constexpr std::int64_t kWrap = (std::int64_t{1} << 33) * 300;  // of both clocks (ISO/IEC 13818-1, 2.4.3.5 and 2.5.3.4)
constexpr std::size_t kWindow = 256 << 10;                     // read at once; a clock comes ten times a second
constexpr std::uint64_t kBack = 6 << 20;                       // bytes in front in which to look for random access

struct Clock {
    std::uint64_t offset = 0;
    std::int64_t ticks = 0;
    bool random_access = false;
};
// The clocks told from an offset on, within some bytes.
using Look = std::function<Result<std::vector<Clock>>(std::uint64_t from, std::size_t size)>;

Result<ByteVector> bytes_at(base::ByteSource& source, std::uint64_t from, std::size_t size) {
    const std::uint64_t left = source.size() - std::min(from, source.size());
    ByteVector bytes(static_cast<std::size_t>(std::min<std::uint64_t>(size, left)));
    WAVECREST_TRY_ASSIGN(got, source.read_at(from, bytes));
    bytes.resize(got);
    return bytes;
}

// `pid`: whose clock; below 0: the first one's.
Result<std::vector<Clock>> transport_clocks(base::ByteSource& source, const ts::Layout& layout, int& pid,
                                            std::uint64_t from, std::size_t size) {
    const std::uint64_t in = from > layout.first ? (from - layout.first) / layout.size : 0;
    const std::uint64_t start = layout.first + in * layout.size;
    WAVECREST_TRY_ASSIGN(bytes, bytes_at(source, start, size));
    std::vector<Clock> clocks;
    bool random_access = false;
    std::uint64_t marked = 0;
    for (std::size_t at = 0; at + layout.lead + ts::kPacket <= bytes.size(); at += layout.size) {
        const auto packet = ts::parse_packet(ByteSpan(bytes).subspan(at + layout.lead, ts::kPacket));
        if (!packet) continue;
        if (pid < 0 && packet->pcr_27mhz) pid = packet->pid;
        if (packet->pid != pid) continue;
        if (packet->random_access) {
            random_access = true;
            marked = start + at;
        }
        if (!packet->pcr_27mhz) continue;
        // A mark just in front belongs to this clock.
        clocks.push_back({random_access ? marked : start + at, *packet->pcr_27mhz, random_access});
        random_access = false;
    }
    return clocks;
}

Result<std::vector<Clock>> program_clocks(base::ByteSource& source, std::uint64_t from, std::size_t size) {
    WAVECREST_TRY_ASSIGN(bytes, bytes_at(source, from, size));
    std::vector<Clock> clocks;
    const std::uint8_t code[] = {0, 0, 1, ps::kPackHeader};
    for (auto at = bytes.begin(); (at = std::search(at, bytes.end(), std::begin(code), std::end(code))) != bytes.end();
         ++at) {
        const auto place = static_cast<std::size_t>(at - bytes.begin());
        ps::PackContents contents;
        ps::parse_packs(ByteSpan(bytes).subspan(place, std::min(ps::kPackHeaderSize, bytes.size() - place)), contents);
        if (contents.scr_27mhz) clocks.push_back({from + place, *contents.scr_27mhz, false});
    }
    return clocks;
}

Result<FileFromTime> find(base::ByteSource& source, const Look& look, Time time) {
    WAVECREST_TRY_ASSIGN(beginning, look(0, 4 * kWindow));
    if (beginning.empty()) return fail(ErrorKind::input, "the stream tells no clock", "", "seek by bytes, or with HLS");
    const std::int64_t first = beginning.front().ticks;
    const auto since = [&](const Clock& clock) { return ((clock.ticks - first) % kWrap + kWrap) % kWrap; };
    const std::int64_t wanted = base::to_ticks(std::max(time, Time{}), kTicks);
    std::uint64_t low = 0, high = source.size();
    while (high - low > kWindow) {
        const std::uint64_t middle = low + (high - low) / 2;
        WAVECREST_TRY_ASSIGN(clocks, look(middle, kWindow));
        // A clock that jumps back reads as far ahead: the first half is taken.
        if (!clocks.empty() && since(clocks.front()) <= wanted)
            low = middle;
        else
            high = middle;
    }
    const std::uint64_t from = low > kBack ? low - kBack : 0;
    WAVECREST_TRY_ASSIGN(near, look(from, static_cast<std::size_t>(high - from + kWindow)));
    const Clock* last = nullptr;
    const Clock* marked = nullptr;
    for (const Clock& clock : near) {
        if (since(clock) > wanted) continue;
        last = &clock;
        if (clock.random_access) marked = &clock;
    }
    const Clock* chosen = marked != nullptr ? marked : last;
    FileFromTime found;
    found.end = source.size();
    if (chosen == nullptr) return found;
    found.offset = chosen->offset;
    found.time = base::from_ticks(since(*chosen), kTicks);
    return found;
}

}  // namespace

bool seeks_by_time(std::string_view container) {
    return container == "mpeg-ts" || container == "mpeg-ps" || container == "mp4" || container == "matroska" ||
           container == "webm";
}

Result<FileFromTime> file_from_time(std::shared_ptr<base::ByteSource> source, std::string_view container, Time time) {
    if (container == "mp4") return mp4_from_time(*source, time);
    if (container == "matroska" || container == "webm") return matroska_from_time(std::move(source), time);
    base::ByteSource& bytes = *source;
    if (container == "mpeg-ps")
        return find(
            bytes, [&](std::uint64_t from, std::size_t size) { return program_clocks(bytes, from, size); }, time);
    if (container != "mpeg-ts")
        return fail(ErrorKind::usage, "files in this container can't be given from a time on", std::string(container),
                    "seek by bytes, or with HLS");
    WAVECREST_TRY_ASSIGN(head, bytes_at(bytes, 0, kWindow));
    const auto layout = ts::find_layout(head);
    if (!layout) return fail(ErrorKind::input, "no transport packets at the beginning", "", "check the file: inspect");
    int pid = -1;
    return find(
        bytes, [&](std::uint64_t from, std::size_t size) { return transport_clocks(bytes, *layout, pid, from, size); },
        time);
}

}  // namespace wavecrest::container
