#include "stream/live.hpp"

#include <fmt/format.h>
#include <pthread.h>

#include <algorithm>
#include <chrono>
#include <random>
#include <thread>

#include "base/log.hpp"
#include "base/mutex.hpp"
#include "container/interleave.hpp"
#include "net/rtp.hpp"
#include "stream/ladder_outlet.hpp"
#include "stream/live_channel.hpp"
#include "stream/live_plan.hpp"
#include "stream/outlets.hpp"
#include "stream/rtmp_wire.hpp"
#include "stream/text_subtitles.hpp"

namespace wavecrest::stream {

namespace {

using Steady = std::chrono::steady_clock;
using namespace std::chrono_literals;

// What connected clients are given at a time, of one stream.
constexpr std::chrono::milliseconds kPublishEvery{10};
// Datagrams due within this time go out by one call.
constexpr std::chrono::microseconds kBatch{300};
// While a stream is paused, something goes out that often, so that no client takes the connection for dead.
constexpr std::chrono::seconds kStillThere{1};
// Whether what a stream waits for has come is seen so often.
constexpr std::chrono::milliseconds kLookAgain{250};
// A picture sought while paused is shown so long before the stream stands again: decoders show one when others follow.
constexpr std::chrono::milliseconds kShown{700};

// A datagram's worth of packets that carry nothing (ISO/IEC 13818-1, 2.4.3.3).
Bytes null_packets() {
    ByteVector out(kDatagramPackets, 0xFF);
    for (std::size_t at = 0; at < out.size(); at += 188) {
        out[at] = 0x47;
        out[at + 1] = 0x1F;
        out[at + 2] = 0xFF;
        out[at + 3] = 0x10;
    }
    return Bytes(std::move(out));
}

// A playout without its subtitles of text, which go beside it to those deliveries that have them as segments.
class WithoutTextSubtitles : public PacketSource {
  public:
    WithoutTextSubtitles(PacketSource& from, LiveHls* hls, LiveLadder* ladder)
        : from_(from), hls_(hls), ladder_(ladder), tracks_(from.tracks()) {
        std::erase_if(tracks_, is_text_subtitle);
    }
    const std::vector<Track>& tracks() const override { return tracks_; }
    const std::vector<Chapter>& chapters() const override { return from_.chapters(); }
    Time duration() const override { return from_.duration(); }
    Result<std::optional<Packet>> read() override {
        while (true) {
            auto next = from_.read();
            if (!next || !*next) return next;
            const TrackId id = (*next)->track;
            if (std::any_of(tracks_.begin(), tracks_.end(), [&](const Track& t) { return t.id == id; })) return next;
            if (hls_ != nullptr) hls_->add_cue(**next);
            if (ladder_ != nullptr) ladder_->add_cue(**next);
        }
    }
    Status seek(Time time) override { return from_.seek(time); }
    const std::vector<Problem>& problems() const override { return from_.problems(); }

  private:
    PacketSource& from_;
    LiveHls* hls_;
    LiveLadder* ladder_;
    std::vector<Track> tracks_;
};

// For the first segment of this run: larger than any of an earlier one. Seconds since 2020, so that names stay short.
std::uint64_t run_number() {
    constexpr std::int64_t kYear2020 = 1'577'836'800;
    const auto now =
        std::chrono::duration_cast<std::chrono::seconds>(std::chrono::system_clock::now().time_since_epoch());
    return static_cast<std::uint64_t>(std::max<std::int64_t>(now.count() - kYear2020, 1));
}

std::shared_ptr<LiveLadder> make_ladder(const LadderTracks& tracks, std::vector<Track> subtitles) {
    LiveLadderSettings settings;
    settings.segment = tracks.segment;
    settings.first_number = run_number();
    settings.wall_ms = [] {
        return std::chrono::duration_cast<std::chrono::milliseconds>(
                   std::chrono::system_clock::now().time_since_epoch())
            .count();
    };
    std::vector<LiveLadder::Entry> entries;
    for (const LadderTracks::Entry& one : tracks.entries) entries.push_back({one.name, one.peak_bps});
    return std::make_shared<LiveLadder>(std::move(settings), std::move(entries), std::move(subtitles));
}

// A datagram that is sent now.
struct Going {
    LiveChannel* channel = nullptr;
    Datagram datagram;
    Steady::time_point due;
};

// What a channel's clients are given now.
struct Due {
    std::vector<Pending> blocks;
    std::vector<Pending> segment_parts;  // for segments, ahead of their time
    bool ends = false;                   // nothing comes any more
    Time end{};                          // of what has come
};

}  // namespace

struct LiveService::State {
    std::vector<std::unique_ptr<LiveChannel>> channels;
    std::unique_ptr<net::UdpSender> sender;
    std::thread sending, publishing;
    mutable base::LendingMutex mutex;
    bool stopping GUARDED_BY(mutex) = false;
    bool real_time GUARDED_BY(mutex) = false;
    Lateness late GUARDED_BY(mutex);

    Status produce(LiveChannel& channel);
    Status wait_for_source(LiveChannel& channel);
    std::size_t take_datagrams(Steady::time_point now, std::vector<Going>& going, Steady::time_point& wake)
        REQUIRES(mutex);
    void send_all();
    void take_due(LiveChannel& channel, Steady::time_point now, Due& due) REQUIRES(mutex);
    static std::optional<Time> give(LiveChannel& channel, Due& due);
    void publish_all();
    LiveChannel* find(const std::string& name) const {
        const auto found = std::find_if(channels.begin(), channels.end(),
                                        [&](const auto& channel) { return channel->ready.item.name == name; });
        return found == channels.end() ? nullptr : found->get();
    }
    // False when the service or the stream ends.
    // `output`: of the graph, where it has several.
    bool push(LiveChannel& channel, std::size_t output, std::vector<Datagram>& datagrams, std::size_t count,
              std::vector<Pending>& blocks, Time last_due) {
        const base::LendingLock lock(mutex);
        const Ahead& limits = channel.limits();
        // Of several outputs, which come from threads of their own, each waits for itself: encoders differ in how far
        // they look ahead.
        const auto ahead = [&] {
            return channel.ladder ? channel.ahead(Steady::now(), last_due) : channel.ahead(Steady::now());
        };
        ++channel.waiting;
        for (Time most = limits.most;
             !stopping && !channel.stopped && ahead() >= most && (!channel.begun || !channel.is_reaching());
             most = limits.least)
            channel.may_go_on.wait(mutex);
        --channel.waiting;
        if (stopping || channel.stopped) return false;
        for (std::size_t i = 0; i < count; ++i) {
            channel.note_first(datagrams[i].due);
            // (Where blocks are made, too, they are counted.)
            if (!channel.http && !channel.hls) channel.status.made += datagrams[i].bytes.size() - net::kRtpHeaderBytes;
            channel.queue.push(datagrams[i]);
        }
        for (Pending& one : blocks) {
            if (one.delivery != Pending::Delivery::ladder) channel.note_first(one.due);
            const bool counts = one.delivery == Pending::Delivery::transport || !channel.transport() ||
                                one.delivery == Pending::Delivery::ladder;
            channel.status.made += counts ? one.block.bytes.size() : 0;
            channel.note_read(one);
            channel.pending[static_cast<int>(one.delivery)].push_back(std::move(one));
        }
        if (channel.ladder) {
            channel.note_first(last_due);
            channel.outputs_due[output] = last_due;
        }
        channel.last_due = std::max(channel.last_due, last_due);
        return true;
    }
};

// What a stream plays may begin to come, or become what can be sent, at any time.
Status LiveService::State::wait_for_source(LiveChannel& channel) {
    while (true) {
        LiveItem item = channel.ready.item;
        Status planned;
        if (item.plan) {
            auto encode = item.plan(item.parts.front());
            if (!encode) planned = fail(encode.error());
            if (encode) {
                item.transcode = std::move(encode->graph);
                item.ladder = std::move(encode->ladder);
                place_keyframes(item);
            }
        }
        auto found = planned ? find_playout(item) : Result<ReadyPlayout>(fail(planned.error()));
        const base::LendingLock lock(mutex);
        if (stopping || channel.stopped) return base::interrupted();
        if (found) {
            channel.error.clear();
            // (The rest of it is as it was, and read by others.)
            channel.ready.item.transcode = std::move(item.transcode);
            channel.ready.item.ladder = std::move(item.ladder);
            if (const auto& ladder = channel.ready.item.ladder) {
                channel.ladder = make_ladder(*ladder, {});
                base::log(base::LogLevel::info, "stream {}: {}", channel.ready.item.name, ladder->told);
            }
            channel.ready.playout = std::move(*found);
            channel.status.parts = channel.ready.playout.parts.size();
            channel.playout = std::make_unique<Playout>(channel.ready.playout, channel.ready.item.loop, channel.cancel);
            return {};
        }
        channel.error = found.error().what;
        channel.status.state = LiveStatus::State::waiting;
        channel.may_go_on.wait_for(mutex, kLookAgain);
    }
}

Status LiveService::State::produce(LiveChannel& channel) {
    const auto give_from = [this, &channel](std::size_t output) -> Outlets::Push {
        return [this, &channel, output](std::vector<Datagram>& datagrams, std::size_t count,
                                        std::vector<Pending>& blocks, Time last_due) {
            return push(channel, output, datagrams, count, blocks, last_due);
        };
    };
    if (!channel.playout) WAVECREST_TRY(wait_for_source(channel));
    WithoutTextSubtitles source(*channel.playout, channel.hls.get(), channel.ladder.get());
    if (channel.ready.item.transcode) {
        const std::optional<LadderTracks>& ladder = channel.ready.item.ladder;
        const transcode::SinkMaker make = [&](std::size_t output,
                                              const std::vector<Track>& tracks) -> Result<std::unique_ptr<PacketSink>> {
            for (std::size_t i = 0; ladder && i < ladder->entries.size(); ++i) {
                if (ladder->entries[i].output == output)
                    return LadderOutlet::create(channel, i, tracks.front(), ladder->segment, give_from(output));
            }
            return std::unique_ptr<PacketSink>(std::make_unique<Outlets>(channel, tracks, give_from(output)));
        };
        WAVECREST_TRY(transcode::run(source, *channel.ready.item.transcode, make, {}, channel.cancel));
        return {};
    }
    Outlets outlets(channel, source.tracks(), give_from(0));
    container::Interleaver interleaver(outlets, source.tracks(), Time{});
    while (true) {
        WAVECREST_TRY_ASSIGN(packet, source.read());
        if (!packet) break;
        WAVECREST_TRY(interleaver.write(std::move(*packet)));
    }
    WAVECREST_TRY(interleaver.drain());
    return outlets.finish();
}

// Moves what is due now to the first places of `going`, whose buffers are kept; how many, and `wake`: when more is.
std::size_t LiveService::State::take_datagrams(Steady::time_point now, std::vector<Going>& going,
                                               Steady::time_point& wake) {
    std::size_t count = 0;
    const auto next_place = [&](LiveChannel& channel, Steady::time_point due) -> Datagram& {
        if (count == going.size()) going.emplace_back();
        going[count].channel = &channel;
        going[count].due = due;
        return going[count++].datagram;
    };
    for (const auto& channel : channels) {
        if (!channel->datagrams()) continue;
        if (!channel->begin(now)) {
            wake = std::min(wake, now + 5ms);
            continue;
        }
        if (channel->paused) {
            if (now - channel->nulls_at < kStillThere) continue;
            channel->nulls_at = now;
            Datagram& nulls = next_place(*channel, now);
            nulls.due = channel->now(now);
            nulls.bytes.assign(net::kRtpHeaderBytes, 0);
            const Bytes packets = null_packets();
            nulls.bytes.insert(nulls.bytes.end(), packets.view().begin(), packets.view().end());
            continue;
        }
        while (!channel->queue.empty()) {
            Datagram& next = channel->queue.front();
            channel->move_clock(next.due, now);
            const auto due = channel->zero + std::chrono::duration_cast<Steady::duration>(next.due);
            if (due > now + kBatch / 2) {
                wake = std::min(wake, due);
                break;
            }
            channel->status.datagrams += 1;
            channel->status.bytes += next.bytes.size() - net::kRtpHeaderBytes;
            channel->queue.pop(next_place(*channel, due));
        }
    }
    return count;
}

void LiveService::State::send_all() {
    sched_param priority{};
    priority.sched_priority = 10;
    {
        const bool granted = ::pthread_setschedparam(::pthread_self(), SCHED_FIFO, &priority) == 0;
        const base::LendingLock lock(mutex);
        real_time = granted;
    }
    std::vector<Going> going(1);
    std::vector<net::UdpSender::Datagram> out;
    std::vector<LiveChannel*> owners;
    base::LendingLock lock(mutex);
    while (!stopping) {
        const auto now = Steady::now();
        Steady::time_point wake = now + 50ms;
        const std::size_t count = take_datagrams(now, going, wake);
        lock.unlock();
        if (count == 0) {
            if (wake > now) std::this_thread::sleep_until(wake);
            lock.lock();
            continue;
        }
        const auto end = going.begin() + static_cast<std::ptrdiff_t>(count);
        std::sort(going.begin(), end, [](const Going& a, const Going& b) { return a.due < b.due; });
        out.clear();
        owners.clear();
        for (auto one = going.begin(); one != end; ++one) {
            LiveChannel& channel = *one->channel;
            const ByteSpan bytes(one->datagram.bytes);
            net::write_rtp(std::span(one->datagram.bytes).first<net::kRtpHeaderBytes>(),
                           {net::kRtpTransportStream, false, channel.sequence++,
                            static_cast<std::uint32_t>(base::to_ticks(one->datagram.due, 90'000)), channel.source});
            for (const LiveTarget& target : channel.ready.item.targets) {
                out.push_back({&target.to, target.rtp ? bytes : bytes.subspan(net::kRtpHeaderBytes)});
                owners.push_back(&channel);
            }
        }
        const std::size_t failed = sender->send(out);
        const auto sent = Steady::now();
        lock.lock();
        for (auto one = going.begin(); one != end; ++one) late.add(sent - one->due);
        // Which of them it was isn't told by the call that sends many.
        if (failed > 0) owners.front()->status.refused += failed;
    }
}

// Moves what a channel's clients are to be given now out of it, and notices when it stands still or has ended.
void LiveService::State::take_due(LiveChannel& channel, Steady::time_point now, Due& due) {
    due.blocks.clear();
    due.segment_parts.clear();
    channel.begin(now);
    if (channel.begun && !channel.paused) {
        // Segments of a ladder are listed when they are whole.
        auto& whole = channel.pending[static_cast<int>(Pending::Delivery::ladder)];
        std::move(whole.begin(), whole.end(), std::back_inserter(due.blocks));
        whole.clear();
        for (auto& pending : channel.pending) {
            while (!pending.empty()) {
                if (!channel.datagrams()) channel.move_clock(pending.front().due, now);
                if (pending.front().due > channel.now(now)) break;
                due.blocks.push_back(std::move(pending.front()));
                pending.pop_front();
            }
        }
        // Segments are made of what lies ready: their viewers lag by several of them anyhow.
        const std::optional<Time> segments = channel.segments_now(now);
        for (Pending& one : channel.pending[static_cast<int>(Pending::Delivery::transport)]) {
            if (!segments || channel.listed_by(one) > *segments) break;
            if (std::exchange(one.in_segment, true)) continue;
            due.segment_parts.push_back(one);
        }
    }
    if (channel.begun && channel.pause_behind) {
        // It goes on until what was sought has been seen.
        const auto shown = channel.playout->latest_seek();
        if (shown.number > *channel.pause_behind && channel.now(now) > shown.at + Time(kShown)) {
            channel.pause_behind.reset();
            channel.stand(true, now);
        }
    }
    if (channel.begun && channel.paused && now - channel.still_there >= kStillThere && due.blocks.empty()) {
        channel.still_there = now;
        const Time at = channel.now(now);
        if (channel.http) channel.http->push({{null_packets(), at, false}});
        if (channel.rtmp) channel.rtmp->push({{rtmp_ping(at), at, false}});
    }
    if (channel.waiting > 0 &&
        (channel.ladder || channel.ahead(now) < Time(channel.limits().least) || channel.is_reaching()))
        channel.may_go_on.notify_all();
    due.ends = channel.done && channel.queue.empty() && !channel.status.ended &&
               std::all_of(std::begin(channel.pending), std::end(channel.pending),
                           [](const auto& pending) { return pending.empty(); });
    due.end = channel.last_due;
    if (due.ends) {
        channel.status.ended = true;
        base::log(base::LogLevel::info, "stream {} ended", channel.ready.item.name);
        channel.status.state = LiveStatus::State::ended;
    }
}

// Gives it to them; up to where segments are listed then, where that is further than before.
std::optional<Time> LiveService::State::give(LiveChannel& channel, Due& due) {
    std::vector<net::Block> transport, rtmp;
    std::optional<Time> listed;
    const auto give_segments = [&](const Pending& one) {
        if (channel.hls->push(one.block.bytes.view(), one.block.start, one.group)) listed = channel.listed_by(one);
    };
    for (Pending& one : due.blocks) {
        if (one.delivery == Pending::Delivery::ladder) {
            channel.ladder->add(one.track, std::move(one.block.bytes), one.due, one.length);
            continue;
        }
        if (one.delivery == Pending::Delivery::rtmp) {
            rtmp.push_back(std::move(one.block));
            continue;
        }
        if (channel.hls && !one.in_segment) give_segments(one);
        if (channel.http) transport.push_back(std::move(one.block));
    }
    std::for_each(due.segment_parts.begin(), due.segment_parts.end(), give_segments);
    if (channel.http && !transport.empty()) channel.http->push(std::move(transport));
    if (channel.rtmp && !rtmp.empty()) channel.rtmp->push(std::move(rtmp));
    if (!due.ends) return listed;
    if (channel.hls) channel.hls->finish(due.end);
    if (channel.ladder) channel.ladder->finish();
    if (channel.http) channel.http->finish();
    if (channel.rtmp) {
        channel.rtmp->push({{rtmp_ending(), due.end, false}});
        channel.rtmp->finish();
    }
    return listed;
}

// Gives connected clients what is due, lets producers go on, and notices ends.
void LiveService::State::publish_all() {
    Due due;
    base::LendingLock lock(mutex);
    while (!stopping) {
        for (const auto& channel : channels) {
            const auto now = Steady::now();
            take_due(*channel, now, due);
            if (due.blocks.empty() && due.segment_parts.empty() && !due.ends) continue;
            lock.unlock();
            const std::optional<Time> listed = give(*channel, due);
            lock.lock();
            if (listed) {
                channel->listed_until = *listed;
                channel->listed_at = now;
            }
        }
        lock.unlock();
        std::this_thread::sleep_for(kPublishEvery);
        lock.lock();
    }
}

LiveService::LiveService(std::unique_ptr<State> state) : state_(std::move(state)) {}

std::string address_for(const LiveTarget& target) {
    return (target.rtp ? "rtp://" : "udp://") + target.to.text;
}

std::string_view short_name(LiveStatus::State state) {
    constexpr std::string_view kNames[] = {"starting", "playing", "paused", "source lost", "waiting for publisher",
                                           "ended"};
    return kNames[static_cast<int>(state)];
}

Result<std::unique_ptr<LiveService>> LiveService::start(std::vector<ReadyLive> streams, const net::UdpSettings& udp,
                                                        net::FanOut* fan_out) {
    auto state = std::make_unique<State>();
    WAVECREST_TRY_ASSIGN(sender, net::UdpSender::open(udp));
    state->sender = std::move(sender);
    std::random_device random;
    for (ReadyLive& ready : streams) {
        auto channel = std::make_unique<LiveChannel>();
        channel->status.name = ready.item.name;
        channel->status.parts = ready.playout.parts.size();
        channel->ready = std::move(ready);
        const LiveItem& item = channel->ready.item;
        if (!channel->ready.playout.parts.empty())
            channel->playout = std::make_unique<Playout>(channel->ready.playout, item.loop, channel->cancel);
        if (item.http) channel->http = fan_out->open(item.name);
        if (item.rtmp) channel->rtmp = fan_out->open(item.name);
        std::vector<Track> subtitles;
        std::copy_if(channel->ready.playout.tracks.begin(), channel->ready.playout.tracks.end(),
                     std::back_inserter(subtitles), is_text_subtitle);
        if (item.hls) {
            LiveHlsSettings hls;
            hls.first_number = run_number();
            hls.reaches_ahead = channel->reaches_ahead();
            channel->hls = std::make_shared<LiveHls>(hls, subtitles);
        }
        if (item.ladder) channel->ladder = make_ladder(*item.ladder, std::move(subtitles));
        // Unforeseeable beginnings, as RFC 3550 asks for (5.1).
        channel->sequence = static_cast<std::uint16_t>(random());
        channel->source = random();
        state->channels.push_back(std::move(channel));
    }
    State* s = state.get();
    for (const auto& channel : state->channels) {
        channel->producer = std::thread([s, f = channel.get()] {
            const Status status = s->produce(*f);
            const base::LendingLock lock(s->mutex);
            f->done = true;
            if (!status && !s->stopping && !f->stopped) {
                f->error = status.error().what;
                base::log(base::LogLevel::error, "stream {} stopped: {} ({})", f->ready.item.name, status.error().what,
                          status.error().where);
            }
            if (f->stopped) {
                for (auto& pending : f->pending) pending.clear();
                f->queue = {};
            }
        });
    }
    state->sending = std::thread([s] { s->send_all(); });
    state->publishing = std::thread([s] { s->publish_all(); });
    return std::unique_ptr<LiveService>(new LiveService(std::move(state)));
}

LiveService::~LiveService() {
    {
        const base::LendingLock lock(state_->mutex);
        state_->stopping = true;
    }
    for (const auto& channel : state_->channels) {
        channel->cancel.request();
        channel->may_go_on.notify_all();
    }
    state_->sending.join();
    state_->publishing.join();
    for (const auto& channel : state_->channels) channel->producer.join();
    for (const auto& channel : state_->channels) {
        if (channel->http) channel->http->finish();
        if (channel->rtmp) channel->rtmp->finish();
    }
}

LiveFigures LiveService::figures() const {
    LiveFigures figures;
    const base::LendingLock lock(state_->mutex);
    const auto now = Steady::now();
    for (const auto& channel : state_->channels) {
        LiveStatus status = channel->status;
        status.error = channel->error;
        if (const auto& ladder = channel->ready.item.ladder) status.rungs = ladder->told;
        if (!channel->playout) {
            figures.streams.push_back(std::move(status));
            continue;
        }
        const Playout::Position place = channel->playout->position_at(channel->begun ? channel->now(now) : Time{});
        const ReadyPart& part = channel->ready.playout.parts[place.part];
        status.part = part.name;
        status.part_number = place.part + 1;
        status.duration = part.duration;
        status.position = status.duration.count() > 0 ? std::min(place.position, status.duration) : place.position;
        status.rounds = place.rounds;
        if (const std::string lost = channel->playout->lost(); !lost.empty() && !status.ended) {
            status.error = lost;
            // What lies ready is still played.
            if (channel->ahead(now) <= Time{}) status.state = LiveStatus::State::lost;
        }
        if ((channel->paused || channel->pause_behind) && !status.ended) status.state = LiveStatus::State::paused;
        figures.streams.push_back(std::move(status));
    }
    figures.late_99 = state_->late.percentile(0.99);
    figures.latest = state_->late.worst();
    figures.real_time = state_->real_time;
    return figures;
}

void LiveService::restart_lateness() {
    Lateness fresh;
    const base::LendingLock lock(state_->mutex);
    std::swap(state_->late, fresh);
}

bool LiveService::ended() const {
    const base::LendingLock lock(state_->mutex);
    return std::all_of(state_->channels.begin(), state_->channels.end(), [](const auto& f) { return f->status.ended; });
}

std::shared_ptr<net::Broadcast> LiveService::http_broadcast(const std::string& name) const {
    const LiveChannel* channel = state_->find(name);
    return channel != nullptr ? channel->http : nullptr;
}
std::shared_ptr<net::Broadcast> LiveService::rtmp_broadcast(const std::string& name) const {
    const LiveChannel* channel = state_->find(name);
    return channel != nullptr ? channel->rtmp : nullptr;
}
std::shared_ptr<LiveHls> LiveService::hls(const std::string& name) const {
    const LiveChannel* channel = state_->find(name);
    return channel != nullptr ? channel->hls : nullptr;
}

bool LiveService::listed_for_join(const std::string& name) const {
    LiveChannel* channel = state_->find(name);
    if (channel == nullptr || !channel->hls) return true;
    const base::LendingLock lock(state_->mutex);
    return channel->listed_for_join(Steady::now());
}

bool LiveService::listed_for_poll(const std::string& name) const {
    LiveChannel* channel = state_->find(name);
    if (channel == nullptr || !channel->hls) return true;
    const base::LendingLock lock(state_->mutex);
    return channel->listed_for_poll(Steady::now());
}

std::shared_ptr<LiveLadder> LiveService::ladder(const std::string& name) const {
    const LiveChannel* channel = state_->find(name);
    if (channel == nullptr) return nullptr;
    const base::LendingLock lock(state_->mutex);
    return channel->ladder;
}

bool LiveService::pause(const std::string& name, bool paused) {
    LiveChannel* channel = state_->find(name);
    if (channel == nullptr) return false;
    const base::LendingLock lock(state_->mutex);
    if (channel->status.ended) return false;
    channel->pause_behind.reset();
    channel->stand(paused, Steady::now());
    return true;
}

bool LiveService::order_seek(const std::string& name, const Playout::SeekOrder& seek) {
    LiveChannel* channel = state_->find(name);
    if (channel == nullptr) return false;
    {
        const base::LendingLock lock(state_->mutex);
        if (channel->status.ended || channel->done || !channel->playout) return false;
        // What stands still goes on until the new place is seen.
        if (channel->paused || channel->pause_behind) channel->pause_behind = channel->playout->latest_seek().number;
        channel->stand(false, Steady::now());
    }
    channel->playout->order_seek(seek);
    return true;
}

bool LiveService::stop(const std::string& name) {
    LiveChannel* channel = state_->find(name);
    if (channel == nullptr) return false;
    channel->cancel.request();
    const base::LendingLock lock(state_->mutex);
    if (channel->status.ended) return false;
    channel->stopped = true;
    for (auto& pending : channel->pending) pending.clear();
    channel->queue = {};
    channel->may_go_on.notify_all();
    return true;
}

}  // namespace wavecrest::stream
