// Verification of a stream that is played from an RTMP server.
#include <chrono>
#include <optional>

#include "base/bytes.hpp"
#include "base/units.hpp"
#include "measure/playback.hpp"
#include "net/rtmp_client.hpp"
#include "verify/checks.hpp"
#include "verify/live.hpp"
#include "verify/receiving.hpp"

namespace wavecrest::verify {

using device::Verdict;
namespace rtmp = net::rtmp;
using namespace std::chrono_literals;

namespace {

// A player of an RTMP stream: what came, and when.
class RtmpPlay {
  public:
    RtmpPlay(Receiving& r, const Job& job, net::RtmpClient& client)
        : r_(r), job_(job), client_(client), player_(settings_of(job)), begun_(r.clock->now()), last_media_(begun_) {
        // The tags as a file has them (FLV, E.2): the reader of files tells what they are.
        base::ByteWriter file;
        file.text("FLV");
        file.u8(1);
        file.u8(5);
        file.u32(9);
        file.u32(0);
        r_.keep(file.bytes());
    }

    // For as long as is asked for, or to the end of the stream.
    Status play(const Progress& progress, const Cancel& cancel) {
        while (r_.clock->now() - begun_ < job_.listen && !ended_) {
            if (cancel.requested()) return base::interrupted();
            const Time before = r_.clock->now();
            const auto messages = client_.receive(100ms);
            r_.server_time += r_.clock->now() - before;
            if (!messages) {
                lost_ = messages.error();
                break;
            }
            for (const rtmp::Message& message : *messages) take(message);
            if (progress) progress({r_.clock->now() - begun_, job_.listen});
        }
        return {};
    }

    Result<Verification> judge(const Cancel& cancel) {
        r_.fill_seconds();
        r_.rates_by_arrival(until_);
        r_.v.duration = until_;
        const Time delay = until_ - player_.position();
        // A server that asks whether its clients are still there, and sends them nothing, has a stream that stands
        // still.
        r_.v.paused = !ended_ && !lost_ && client_.pings() > pings_before_ &&
                      r_.clock->now() - last_media_ > base::from_seconds(1.5);
        if (r_.total == 0) return nothing_came();
        if (!judge_content(r_, job_, "rtmp", cancel)) return std::move(r_.v);
        if (lost_) add(r_.v, "received", Verdict::fail, lost_->what, "to the end", lost_->remedy);
        add_seen(r_.v, job_, until_, ended_);
        const Cause cause = r_.filled() ? Cause::network : Cause::server;
        add(r_.v, "first keyframe", keyframe_ && *keyframe_ - begun_ < 2s ? Verdict::pass : Verdict::warn,
            keyframe_ ? base::format_span(*keyframe_ - begun_) : "none", "2 s",
            "players wait for a keyframe: use a shorter keyframe interval");
        add_playback(r_.v, player_, cause, r_.filled());
        if (r_.v.started) add_delay(r_, delay);
        conclude_live(r_.v, cause);
        return std::move(r_.v);
    }

  private:
    static measure::PlayerSettings settings_of(const Job& job) {
        measure::PlayerSettings playing = player_of(job.device, kForEver, false);
        playing.buffer = kForEver;
        return playing;
    }

    void take(const rtmp::Message& message) {
        if (const std::string code = net::RtmpClient::status_code(message);
            code == "NetStream.Play.Stop" || code == "NetStream.Play.UnpublishNotify")
            ended_ = true;
        const bool video = message.type == rtmp::kVideo;
        if (!video && message.type != rtmp::kAudio && message.type != rtmp::kData) return;
        const ByteSpan body(message.payload);
        last_media_ = r_.clock->now();
        pings_before_ = client_.pings();
        r_.link.pass(static_cast<std::int64_t>(body.size() + 12));
        r_.count(body.size());
        keep_tag(message);
        if (message.type == rtmp::kData || body.size() < 2) return;
        const bool config =
            video ? (body[0] & 0x80) != 0 ? (body[0] & 0x0F) == 0 : body[1] == 0 : body[0] >> 4 == 10 && body[1] == 0;
        if (config) return;
        if (video && (body[0] >> 4 & 7) == 1 && !keyframe_) keyframe_ = r_.clock->now();
        follow(video, message.timestamp);
    }

    // (FLV, E.4.1.)
    void keep_tag(const rtmp::Message& message) {
        base::ByteWriter tag;
        tag.u8(message.type);
        tag.u24(message.payload.size());
        tag.u24(message.timestamp & 0xFFFFFF);
        tag.u8(message.timestamp >> 24);
        tag.u24(0);
        tag.raw(message.payload);
        tag.u32(message.payload.size() + 11);
        r_.keep(tag.bytes());
    }

    // How far the media has come: by the times of the video, where there is any.
    void follow(bool video, std::uint32_t timestamp) {
        if (video && !has_video_) {
            has_video_ = true;
            last_time_.reset();
            until_ = {};
        }
        if (has_video_ && !video) return;
        const auto step = static_cast<std::int32_t>(timestamp - last_time_.value_or(timestamp));
        if (step > 0 && step < 10'000) until_ += base::from_ticks(step, 1000);
        last_time_ = timestamp;
        player_.arrived(r_.clock->now(), until_);
    }

    Result<Verification> nothing_came() {
        if (!r_.v.paused)
            return failed(std::move(r_.v), Cause::server,
                          {ErrorKind::wanting, lost_ ? lost_->what : "the server has the stream, but sends nothing",
                           job_.address, "check that the stream is being published and isn't paused"},
                          "received");
        conclude_live(r_.v, Cause::none);
        return std::move(r_.v);
    }

    Receiving& r_;
    const Job& job_;
    net::RtmpClient& client_;
    measure::PlaybackModel player_;
    const Time begun_;
    // When media came last, and how often the server had asked by then whether this client is there.
    Time last_media_;
    std::uint64_t pings_before_ = 0;
    std::optional<std::uint32_t> last_time_;
    Time until_{};
    bool has_video_ = false, ended_ = false;
    std::optional<Error> lost_;
    std::optional<Time> keyframe_;
};

}  // namespace

Result<Verification> run_rtmp(const Job& job, const Progress& progress, const Cancel& cancel) {
    WAVECREST_TRY_ASSIGN(address, net::parse_rtmp_address(job.address));
    Receiving r(job, true);
    const auto opened = wait_for(job, cancel, [&]() -> Result<std::unique_ptr<net::RtmpClient>> {
        WAVECREST_TRY_ASSIGN(client, net::RtmpClient::connect(address, base::from_seconds(5)));
        WAVECREST_TRY(client->play());
        return client;
    });
    if (!opened) {
        if (opened.error().kind == ErrorKind::interrupted) return fail(opened.error());
        return failed(std::move(r.v), Cause::server, opened.error(), "reachable");
    }
    add(r.v, "reachable", Verdict::pass, "an RTMP server has the stream", "");
    RtmpPlay play(r, job, **opened);
    WAVECREST_TRY(play.play(progress, cancel));
    return play.judge(cancel);
}

}  // namespace wavecrest::verify
