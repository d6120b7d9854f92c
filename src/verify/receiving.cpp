#include "verify/receiving.hpp"

#include <fmt/format.h>

#include <map>

#include "base/address.hpp"
#include "base/byte_source.hpp"
#include "container/reader.hpp"
#include "verify/checks.hpp"

namespace wavecrest::verify {

using device::Verdict;
using namespace std::chrono_literals;

net::RateSteps link_rates(const Job& job) {
    net::RateSteps rates = job.squeeze.empty() ? net::RateSteps(job.link.payload_bps) : net::RateSteps(job.squeeze);
    rates.limit(job.link.payload_bps);
    rates.interrupt(job.outages);
    return rates;
}

namespace {

// Passes packets on, and finds where a track has a hole: what was to be heard or seen then is not in the stream,
// whatever the transport's own counters say.
class GapWatch : public PacketSource {
  public:
    explicit GapWatch(PacketSource& from) : from_(from) {}
    const std::vector<Track>& tracks() const override { return from_.tracks(); }
    const std::vector<Chapter>& chapters() const override { return from_.chapters(); }
    Time duration() const override { return from_.duration(); }
    const std::vector<Problem>& problems() const override { return from_.problems(); }
    Status seek(Time time) override { return from_.seek(time); }
    Result<std::optional<Packet>> read() override {
        auto next = from_.read();
        if (next && *next) times_[(*next)->track].emplace_back((*next)->pts, (*next)->duration);
        return next;
    }
    void conclude(Verification& v) {
        std::string where;
        for (const Track& track : from_.tracks()) {
            auto& times = times_[track.id];
            if (track.kind == TrackKind::subtitle || times.size() < 8) continue;
            std::sort(times.begin(), times.end());
            // (The last pictures may lack some that would have come.)
            for (std::size_t i = 1; i + 4 < times.size(); ++i) {
                const Time usual = std::max(times[i - 1].second, times[i].second);
                const Time gap = times[i].first - times[i - 1].first - std::max(usual, Time(40ms));
                if (gap < 70ms) continue;
                where += fmt::format("{}{} of {} at {:.1f} s", where.empty() ? "" : ", ", base::format_span(gap),
                                     media::short_name(track.kind), base::to_seconds(times[i - 1].first));
                break;
            }
        }
        add(v, "gaps in tracks", where.empty() ? Verdict::pass : Verdict::warn, where.empty() ? "none" : where, "none",
            "audio or video is missing there: in its source, or at a seek");
    }

  private:
    PacketSource& from_;
    std::map<TrackId, std::vector<std::pair<Time, Time>>> times_;
};

}  // namespace

void judge_tracks(Verification& v, const Job& job, std::string_view container, const std::vector<Track>& tracks) {
    for (device::Check& check : device::judge(job.device, container, tracks, v.peak_1s_bps)) {
        // What is being sent can't be remuxed, but it can be had in another way.
        if (check.name == "container" && check.verdict == Verdict::fail)
            check.why = device::takes(job.device, "hls") ? "container not supported: use live HLS (--delivery live-hls)"
                        : device::takes(job.device, "rtmp") ? "container not supported: use RTMP (--delivery rtmp)"
                                                            : "container not supported: use another delivery";
        v.checks.push_back(std::move(check));
    }
}

bool judge_content(Receiving& r, const Job& job, const char* protocol, const Cancel& cancel) {
    r.v.checks.push_back(device::judge_protocol(job.device, protocol));
    if (base::Address(job.address).scheme() == base::Scheme::https)
        r.v.checks.push_back(device::judge_protocol(job.device, "https"));
    auto media = container::open_media(std::make_shared<base::MemorySource>(std::move(r.kept), job.address));
    if (!media && r.v.paused) {
        add(r.v, "content", Verdict::fail, "null packets only", "video and audio");
        conclude_live(r.v, Cause::none);
        return false;
    }
    if (!media) {
        r.v = failed(std::move(r.v), Cause::server,
                     {ErrorKind::input, "the stream can't be played: " + media.error().what, job.address,
                      "check what is being sent"},
                     "content");
        return false;
    }
    const std::string_view container = std::string_view(protocol) == "http" ? "mpeg-ts" : "";
    judge_tracks(r.v, job, container, media->source->tracks());
    GapWatch watched(*media->source);
    add_pictures(r.v, job, watched, 0, cancel);
    watched.conclude(r.v);
    return true;
}

void add_delay(Receiving& r, Time delay) {
    add(r.v, "latency", delay > base::from_seconds(30) ? Verdict::warn : Verdict::pass,
        fmt::format("{:.1f} s behind the live edge", base::to_seconds(delay)), "30 s",
        "latency too high: use shorter segments, or another protocol");
}

}  // namespace wavecrest::verify
