// Subtitle files of text: SRT, and WebVTT (W3C WebVTT, clause 4). Cues become packets of one text track.
#include <fmt/format.h>

#include <algorithm>
#include <cstdio>

#include "base/byte_source.hpp"
#include "container/reader.hpp"
#include "container/subtitle_text.hpp"
#include "container/ts_mux.hpp"

namespace wavecrest::container {
namespace {

constexpr std::size_t kLargest = 32 << 20;

// "1:02:03,456", "02:03.456"; nothing when it is no time.
std::optional<Time> parse_time(const std::string& text) {
    std::int64_t parts[4] = {};
    int count = 0;
    std::size_t at = 0;
    int digits = 0;
    while (at <= text.size()) {
        const char c = at < text.size() ? text[at] : '\0';
        if (c >= '0' && c <= '9') {
            if (++digits > 9) return std::nullopt;
            parts[count] = parts[count] * 10 + (c - '0');
        } else if (c == ':' || c == '.' || c == ',') {
            if (digits == 0 || ++count > 3) return std::nullopt;
            digits = 0;
        } else {
            break;
        }
        ++at;
    }
    if (count < 2 || digits != 3) return std::nullopt;
    const std::int64_t hours = count == 3 ? parts[0] : 0;
    const std::int64_t minutes = parts[count - 2], seconds = parts[count - 1], ms = parts[count];
    if (minutes > 59 || seconds > 59 || hours > 999) return std::nullopt;
    return base::from_ticks(((hours * 60 + minutes) * 60 + seconds) * 1000 + ms, 1000);
}

class CueSource : public PacketSource {
  public:
    CueSource(Track track, std::vector<Packet> cues, std::vector<Problem> problems)
        : tracks_{std::move(track)}, cues_(std::move(cues)), problems_(std::move(problems)) {}
    const std::vector<Track>& tracks() const override { return tracks_; }
    const std::vector<Chapter>& chapters() const override { return chapters_; }
    Time duration() const override { return tracks_.front().duration; }
    const std::vector<Problem>& problems() const override { return problems_; }
    Result<std::optional<Packet>> read() override {
        if (next_ >= cues_.size()) return std::optional<Packet>{};
        return std::optional(cues_[next_++]);
    }
    Status seek(Time time) override {
        next_ = 0;
        while (next_ < cues_.size() && cues_[next_].pts + cues_[next_].duration <= time) ++next_;
        return {};
    }

  private:
    std::vector<Track> tracks_;
    std::vector<Chapter> chapters_;
    std::vector<Packet> cues_;
    std::vector<Problem> problems_;
    std::size_t next_ = 0;
};

}  // namespace

Result<MediaFile> open_text_file(std::shared_ptr<base::ByteSource> bytes) {
    ByteVector content;
    while (content.size() < kLargest) {
        const std::size_t before = content.size();
        content.resize(before + (64 << 10));
        WAVECREST_TRY_ASSIGN(got, bytes->read_at(before, std::span(content).subspan(before)));
        content.resize(before + got);
        if (got == 0) break;
    }
    std::string text(content.begin(), content.end());
    if (text.rfind("\xEF\xBB\xBF", 0) == 0) text.erase(0, 3);
    const bool web = text.rfind("WEBVTT", 0) == 0;
    std::vector<std::string> lines;
    std::string line;
    for (const char c : text) {
        if (c == '\n') {
            lines.push_back(std::exchange(line, {}));
        } else if (c != '\r') {
            line += c;
        }
    }
    lines.push_back(line);
    Track track;
    track.id = 1;
    track.kind = TrackKind::subtitle;
    track.codec = Codec::text;
    std::vector<Packet> cues;
    std::vector<Problem> problems;
    for (std::size_t i = 0; i < lines.size(); ++i) {
        const std::size_t arrow = lines[i].find("-->");
        if (arrow == std::string::npos) continue;
        const auto trim = [](std::string s) {
            const std::size_t first = s.find_first_not_of(" \t");
            return first == std::string::npos ? std::string() : s.substr(first);
        };
        const auto from = parse_time(trim(lines[i].substr(0, arrow))),
                   to = parse_time(trim(lines[i].substr(arrow + 3)));
        if (!from || !to || *to < *from) {
            const Time at = cues.empty() ? Time{} : cues.back().pts;
            problems.push_back({fmt::format("line {} has no valid times", i + 1), at, at});
            continue;
        }
        std::string cue;
        while (i + 1 < lines.size() && !lines[i + 1].empty()) {
            if (!cue.empty()) cue += '\n';
            cue += lines[++i];
        }
        cue = without_markup(cue, web);
        if (cue.empty()) continue;
        Packet packet;
        packet.track = 1;
        packet.pts = packet.dts = *from;
        packet.duration = *to - *from;
        packet.key = true;
        packet.data = Bytes(ByteVector(cue.begin(), cue.end()));
        track.duration = std::max(track.duration, *to);
        cues.push_back(std::move(packet));
    }
    if (cues.empty())
        return fail(ErrorKind::input, "the file has no subtitles in it", bytes->name(), "name an SRT or WebVTT file");
    std::stable_sort(cues.begin(), cues.end(), [](const Packet& a, const Packet& b) { return a.pts < b.pts; });
    MediaFile file;
    file.container = web ? "webvtt" : "srt";
    file.source = std::make_unique<CueSource>(std::move(track), std::move(cues), std::move(problems));
    return file;
}

namespace {

// WebVTT, 4.1: hours, minutes, seconds and thousandths.
std::string clock_of(Time time) {
    const std::int64_t ms = std::max<std::int64_t>(base::to_ticks(time, 1000), 0);
    return fmt::format("{:02}:{:02}:{:02}.{:03}", ms / 3600000, ms / 60000 % 60, ms / 1000 % 60, ms % 1000);
}

std::string cues_of(const std::vector<Packet>& cues) {
    std::string out;
    for (const Packet& cue : cues) {
        out += fmt::format("\n{} --> {}\n", clock_of(cue.pts), clock_of(cue.pts + cue.duration));
        const ByteSpan text = cue.data.view();
        out += escaped_web_vtt({reinterpret_cast<const char*>(text.data()), text.size()});
        out += '\n';
    }
    return out;
}

}  // namespace

std::string escaped_web_vtt(std::string_view text) {
    std::string out;
    bool at_line_start = true;
    for (const char c : text) {
        if (c == '\n' && at_line_start) continue;
        at_line_start = c == '\n';
        if (c == '&') {
            out += "&amp;";
        } else if (c == '<') {
            out += "&lt;";
        } else if (c == '>') {
            out += "&gt;";
        } else {
            out += c;
        }
    }
    return out;
}

std::string write_web_vtt(const std::vector<Packet>& cues) {
    return "WEBVTT\n" + cues_of(cues);
}

std::string write_web_vtt_segment(const std::vector<Packet>& cues, Time at, SegmentClock clock) {
    const Time local = base::from_ticks(std::max<std::int64_t>(base::to_ticks(at, 1000), 0), 1000);
    const Time begin = clock == SegmentClock::transport ? Time(kTransportStart) : Time{};
    const std::int64_t ticks = base::to_ticks(begin + local, 90'000) & ((std::int64_t{1} << 33) - 1);
    return fmt::format("WEBVTT\nX-TIMESTAMP-MAP=MPEGTS:{},LOCAL:{}\n", ticks, clock_of(local)) + cues_of(cues);
}

}  // namespace wavecrest::container
