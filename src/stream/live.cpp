#include "stream/live.hpp"

#include <fmt/format.h>
#include <pthread.h>

#include <algorithm>
#include <chrono>
#include <mutex>
#include <random>
#include <thread>

#include "base/log.hpp"
#include "base/units.hpp"
#include "container/flv_tags.hpp"
#include "container/interleave.hpp"
#include "container/ts_mux.hpp"
#include "container/writer.hpp"
#include "net/rtmp_chunks.hpp"
#include "net/rtp.hpp"
#include "stream/rtmp_wire.hpp"
#include "stream/text_subtitles.hpp"

namespace wavecrest::stream {
namespace {

using Steady = std::chrono::steady_clock;
using namespace std::chrono_literals;

// Seven packets fit into the 1500 bytes of an Ethernet frame; fewer go where seven would take longer than this.
constexpr std::size_t kDatagram = 7 * 188, kRtpHeader = net::kRtpHeaderBytes;
constexpr std::chrono::milliseconds kLongestFill{20};
// Messages leave so long before they are decoded, as transport packets do (container/ts_mux.hpp).
constexpr std::chrono::milliseconds kLead{700};
// What connected clients are given at a time, of one stream.
constexpr std::chrono::milliseconds kBlockTime{20}, kPublishEvery{10};
constexpr std::size_t kBlockBytes = 64 << 10;
// Multiplexed ahead of sending. A reader that has got that far rests until half of it is gone: it works in few long
// pieces, not whenever a datagram leaves.
constexpr std::chrono::milliseconds kAhead{1500}, kLowAhead{750};
constexpr std::chrono::milliseconds kHandOver{50};
// Datagrams due within this time go out by one call.
constexpr std::chrono::microseconds kBatch{300};
// A source that is later than this moves the stream's clock: receivers see a gap, not a rush.
constexpr std::chrono::milliseconds kStall{250};
// While a stream is paused, something goes out that often, so that no client takes the connection for dead.
constexpr std::chrono::seconds kStillThere{1};
// HLS gets what is due within this time.
constexpr std::chrono::milliseconds kSegmentLead{700};
// Longest distance of keyframes where a live stream is encoded for HLS.
constexpr std::chrono::seconds kLiveKeyframes{1};
// Whether what a stream waits for has come is seen so often.
constexpr std::chrono::milliseconds kLookAgain{250};
// A picture sought while paused is shown so long before the stream stands again: decoders show one when others follow.
constexpr std::chrono::milliseconds kShown{700};

struct Datagram {
    Time due{};  // on the timeline of the stream
    Time position{};
    ByteVector bytes;  // room for an RTP header, then transport packets
};

// A datagram's worth of packets that carry nothing (ISO/IEC 13818-1, 2.4.3.3).
Bytes null_packets() {
    ByteVector out(kDatagram, 0xFF);
    for (std::size_t at = 0; at < out.size(); at += 188) {
        out[at] = 0x47;
        out[at + 1] = 0x1F;
        out[at + 2] = 0xFF;
        out[at + 3] = 0x10;
    }
    return Bytes(std::move(out));
}

// What goes to connected clients.
struct Pending {
    enum class Delivery { transport, rtmp } delivery = Delivery::transport;
    Time due{};
    Time group{};  // of a start: the keyframe's decoding time
    net::Block block;
    bool in_segment = false;  // HLS has it
};

// A queue whose places keep their buffers: what is taken out is exchanged for something spent. The sender neither
// allocates nor frees, which could make it wait for a thread that is pushed aside inside the allocator.
class Ring {
  public:
    bool empty() const { return count_ == 0; }
    Datagram& front() { return places_[first_]; }
    const Datagram& front() const { return places_[first_]; }
    const Datagram& back() const { return places_[(first_ + count_ - 1) % places_.size()]; }
    // `datagram` gets a spent buffer.
    void push(Datagram& datagram) {
        if (count_ == places_.size()) grow();
        Datagram& place = places_[(first_ + count_++) % places_.size()];
        place.due = datagram.due;
        place.position = datagram.position;
        place.bytes.swap(datagram.bytes);
    }
    void pop(Datagram& into) {
        Datagram& place = front();
        into.due = place.due;
        into.position = place.position;
        into.bytes.swap(place.bytes);
        first_ = (first_ + 1) % places_.size();
        --count_;
    }

  private:
    void grow() {
        std::vector<Datagram> larger(std::max<std::size_t>(64, places_.size() * 2));
        for (std::size_t i = 0; i < count_; ++i) larger[i] = std::move(places_[(first_ + i) % places_.size()]);
        places_ = std::move(larger);
        first_ = 0;
    }
    std::vector<Datagram> places_;
    std::size_t first_ = 0, count_ = 0;
};

// Lateness in steps of 50 us up to 100 ms.
class Histogram {
  public:
    void add(Steady::duration late) {
        const auto step = std::chrono::duration_cast<std::chrono::microseconds>(late).count() / 50;
        ++steps_[static_cast<std::size_t>(
            std::clamp<std::int64_t>(step, 0, static_cast<std::int64_t>(steps_.size()) - 1))];
        ++count_;
        worst_ = std::max(worst_, late);
    }
    Time percentile(double part) const {
        std::uint64_t wanted = static_cast<std::uint64_t>(static_cast<double>(count_) * part), seen = 0;
        for (std::size_t i = 0; i < steps_.size(); ++i) {
            seen += steps_[i];
            if (seen > wanted) return base::from_ticks(static_cast<std::int64_t>(50 * (i + 1)), 1'000'000);
        }
        return {};
    }
    Time worst() const { return std::chrono::duration_cast<Time>(worst_); }

  private:
    std::vector<std::uint64_t> steps_ = std::vector<std::uint64_t>(2000);
    std::uint64_t count_ = 0;
    Steady::duration worst_{};
};

// A mutex that lends its holder the priority of who waits for it: else a reader that other programs push aside while it
// holds the mutex would hold up the sender, real-time scheduling or not.
class LendingMutex {
  public:
    LendingMutex() {
        pthread_mutexattr_t attributes;
        ::pthread_mutexattr_init(&attributes);
        ::pthread_mutexattr_setprotocol(&attributes, PTHREAD_PRIO_INHERIT);
        ::pthread_mutex_init(&mutex_, &attributes);
        ::pthread_mutexattr_destroy(&attributes);
    }
    LendingMutex(const LendingMutex&) = delete;
    LendingMutex& operator=(const LendingMutex&) = delete;
    ~LendingMutex() { ::pthread_mutex_destroy(&mutex_); }
    void lock() { ::pthread_mutex_lock(&mutex_); }
    void unlock() { ::pthread_mutex_unlock(&mutex_); }

    pthread_mutex_t* handle() { return &mutex_; }

  private:
    pthread_mutex_t mutex_;
};

// Waiting under a lending mutex (std::condition_variable_any has a mutex inside that lends nothing).
class Condition {
  public:
    Condition() { ::pthread_cond_init(&condition_, nullptr); }
    Condition(const Condition&) = delete;
    Condition& operator=(const Condition&) = delete;
    ~Condition() { ::pthread_cond_destroy(&condition_); }
    void wait(LendingMutex& locked) { ::pthread_cond_wait(&condition_, locked.handle()); }
    void wait_for(LendingMutex& locked, std::chrono::nanoseconds most) {
        timespec until{};
        ::clock_gettime(CLOCK_REALTIME, &until);
        const std::int64_t end = until.tv_nsec + most.count();
        until.tv_sec += end / 1'000'000'000;
        until.tv_nsec = end % 1'000'000'000;
        ::pthread_cond_timedwait(&condition_, locked.handle(), &until);
    }
    void notify() { ::pthread_cond_signal(&condition_); }

  private:
    pthread_cond_t condition_;
};

struct LiveChannel {
    ReadyLive ready;
    std::unique_ptr<Playout> playout;
    std::thread producer;
    Cancel cancel;
    std::shared_ptr<net::Broadcast> http, rtmp;
    std::shared_ptr<LiveHls> hls;
    // Under the service's mutex:
    Ring queue;                      // for datagrams
    std::deque<Pending> pending[2];  // for the others, by delivery
    bool waiting = false;            // the producer, for its turn
    bool done = false;               // nothing more comes
    bool paused = false, stopped = false;
    std::string error;
    std::optional<Time> first_due;
    Time last_due{};
    bool begun = false;
    Steady::time_point zero;  // when time 0 of the stream's timeline is sent
    Steady::time_point paused_at, still_there, nulls_at;
    std::optional<std::uint64_t> pause_behind;  // paused again when the seek behind this many is shown
    LiveStatus status;
    Steady::time_point busy_from;  // an encode's: to tell its speed
    Condition may_go_on;
    // The sender's:
    std::uint16_t sequence = 0;
    std::uint32_t source = 0;

    bool datagrams() const { return !ready.item.targets.empty(); }
    bool transport() const { return datagrams() || http || hls; }
    Time now(Steady::time_point at) const { return std::chrono::duration_cast<Time>((paused ? paused_at : at) - zero); }
    Time ahead(Steady::time_point at) const {
        if (!first_due) return {};
        return begun ? last_due - now(at) : last_due - *first_due;
    }
    // Waits until enough lies ready, so that a slow start is no stall.
    bool begin(Steady::time_point at) {
        if (begun || !first_due || paused) return begun;
        if (last_due - *first_due < Time(kLowAhead) && !done) return false;
        begun = true;
        zero = at - std::chrono::duration_cast<Steady::duration>(*first_due);
        status.state = LiveStatus::State::playing;
        base::log(base::LogLevel::info, "stream {} plays", ready.item.name);
        return true;
    }
    void stand(bool still, Steady::time_point at) {
        if (still == paused) return;
        if (still) {
            paused_at = still_there = at;
        } else {
            zero += at - paused_at;
        }
        paused = still;
        if (hls) hls->pause(still);
    }
    // What is so late is taken as a pause of the source.
    void move_clock(Time due, Steady::time_point at) {
        const auto late = at - (zero + std::chrono::duration_cast<Steady::duration>(due));
        if (late <= kStall) return;
        ++status.stalls;
        zero += late;
        base::log(base::LogLevel::warning, "stream {}: the source is too slow: {} ms late", ready.item.name,
                  std::chrono::duration_cast<std::chrono::milliseconds>(late).count());
    }
};

// Where a stream's packets end: multiplexed, cut into messages, and queued until they are due.
class Outlets : public PacketSink {
  public:
    // Takes what is ready; false when the service ends.
    using Push = std::function<bool(std::vector<Datagram>& datagrams, std::size_t count, std::vector<Pending>& blocks,
                                    Time last_due)>;

    Outlets(LiveChannel& channel, std::vector<Track> tracks, Push push)
        : feed_(channel),
          tracks_(std::move(tracks)),
          push_(std::move(push)),
          mux_(tracks_, settings(channel), [this](const container::MuxedPacket& packet) { return take(packet); }) {
        for (const Track& track : tracks_) {
            if (const std::string why = why_not_rtmp(track); why.empty() && !(has(track.kind)))
                rtmp_tracks_.push_back(track);
        }
        if (channel.rtmp) channel.rtmp->set_preface(rtmp_preface(rtmp_tracks_));
    }

    Status write(const Packet& packet) override {
        if (feed_.rtmp) WAVECREST_TRY(take_message(packet));
        if (feed_.transport()) return mux_.write(packet);
        return {};
    }
    Status finish() override {
        if (feed_.transport()) WAVECREST_TRY(mux_.finish());
        if (!next_.bytes.empty() && !give_datagram()) return base::interrupted();
        give_transport();
        give_rtmp();
        return hand_over() ? Status{} : base::interrupted();
    }

  private:
    static container::MuxSettings settings(const LiveChannel& channel) {
        container::MuxSettings mux;
        mux.title = channel.ready.item.name;
        mux.rate_bps = channel.ready.item.rate_bps;
        return mux;
    }
    bool has(TrackKind kind) const {
        return std::any_of(rtmp_tracks_.begin(), rtmp_tracks_.end(), [&](const Track& t) { return t.kind == kind; });
    }

    Status take(const container::MuxedPacket& packet) {
        if (feed_.datagrams()) {
            if (!next_.bytes.empty() && packet.due - next_.due > Time(kLongestFill) && !give_datagram())
                return base::interrupted();
            if (next_.bytes.empty()) {
                next_.due = packet.due;
                next_.bytes.resize(kRtpHeader);
            }
            next_.bytes.insert(next_.bytes.end(), packet.bytes.begin(), packet.bytes.end());
            if (next_.bytes.size() >= kRtpHeader + kDatagram && !give_datagram()) return base::interrupted();
        }
        if (feed_.http || feed_.hls) {
            if (!block_.empty() && (packet.group_start || packet.due - block_due_ > Time(kBlockTime) ||
                                    block_.size() + packet.bytes.size() > kBlockBytes))
                give_transport();
            if (block_.empty()) {
                block_due_ = packet.due;
                block_start_ = packet.group_start;
                block_group_ = packet.group_time;
            }
            block_.insert(block_.end(), packet.bytes.begin(), packet.bytes.end());
        }
        return tick(packet.due);
    }
    Status take_message(const Packet& packet) {
        const auto track = std::find_if(rtmp_tracks_.begin(), rtmp_tracks_.end(),
                                        [&](const Track& t) { return t.id == packet.track; });
        if (track == rtmp_tracks_.end()) return {};
        const bool start = has(TrackKind::video) ? track->kind == TrackKind::video && packet.key : true;
        if (!messages_.empty() &&
            ((start && track->kind == TrackKind::video) || packet.dts - Time(kLead) - messages_due_ > Time(kBlockTime)))
            give_rtmp();
        if (messages_.empty()) {
            messages_due_ = packet.dts - Time(kLead);
            messages_start_ = start;
        }
        append_rtmp(messages_, *track, packet);
        return feed_.transport() ? Status{} : tick(packet.dts - Time(kLead));
    }
    // Handed over several at a time: the sender shouldn't meet a lock for each.
    Status tick(Time due) {
        last_due_ = std::max(last_due_, due);
        if (!handed_) handed_ = due;
        if (due - *handed_ < Time(kHandOver)) return {};
        return hand_over() ? Status{} : base::interrupted();
    }
    bool give_datagram() {
        if (ready_.size() == filled_) ready_.emplace_back();
        ready_[filled_].due = next_.due;
        ready_[filled_].bytes.swap(next_.bytes);
        next_.bytes.clear();
        ++filled_;
        return true;
    }
    void give_transport() {
        if (block_.empty()) return;
        blocks_.push_back({Pending::Delivery::transport,
                           block_due_,
                           block_group_,
                           {Bytes(std::move(block_)), block_due_, block_start_}});
        block_ = {};
    }
    void give_rtmp() {
        if (messages_.empty()) return;
        blocks_.push_back({Pending::Delivery::rtmp,
                           messages_due_,
                           messages_due_,
                           {Bytes(std::move(messages_)), messages_due_, messages_start_}});
        messages_ = {};
    }
    bool hand_over() {
        handed_ = last_due_;
        const bool goes_on = push_(ready_, filled_, blocks_, last_due_);
        for (std::size_t i = 0; i < filled_; ++i) ready_[i].bytes.clear();
        filled_ = 0;
        blocks_.clear();
        return goes_on;
    }

    LiveChannel& feed_;
    const std::vector<Track> tracks_;
    std::vector<Track> rtmp_tracks_;
    Push push_;
    container::TransportMux mux_;
    Datagram next_;
    std::vector<Datagram> ready_;  // its places keep their buffers
    std::size_t filled_ = 0;
    std::vector<Pending> blocks_;
    ByteVector block_, messages_;
    Time block_due_{}, block_group_{}, messages_due_{};
    bool block_start_ = false, messages_start_ = false;
    std::optional<Time> handed_;
    Time last_due_ = Time::min();
};

// A playout without its subtitles of text, which go to HLS beside it.
class WithoutTextSubtitles : public PacketSource {
  public:
    WithoutTextSubtitles(PacketSource& from, LiveHls* hls) : from_(from), hls_(hls), tracks_(from.tracks()) {
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
        }
    }
    Status seek(Time time) override { return from_.seek(time); }
    const std::vector<Problem>& problems() const override { return from_.problems(); }

  private:
    PacketSource& from_;
    LiveHls* hls_;
    std::vector<Track> tracks_;
};

// What a stream plays, of the tracks that its ways out can carry.
Result<ReadyPlayout> find_playout(const LiveItem& item) {
    const bool transport = !item.targets.empty() || item.http || item.hls;
    const auto why_not = [&](const Track& track, bool disc) -> std::string {
        if (is_text_subtitle(track)) return item.hls ? "" : "text subtitles are delivered by HLS only";
        if (item.transcode) {
            const auto& graph = *item.transcode;
            const bool used = track.id == graph.video.from.id ||
                              std::any_of(graph.audio.begin(), graph.audio.end(),
                                          [&](const auto& path) { return path.from.id == track.id; }) ||
                              std::any_of(graph.video.subtitles.begin(), graph.video.subtitles.end(),
                                          [&](const auto& path) { return path.from.id == track.id; });
            return used ? "" : "not in the profile";
        }
        if (track.kind == TrackKind::subtitle)
            return "bitmap subtitles are not supported live; a profile burns them in";
        const std::string first = !transport ? ""
                                  : disc     ? container::why_not_codec("mpeg-ts", track)
                                             : container::why_not("mpeg-ts", track);
        // A track goes where it can; RTMP alone decides only where it is the only one.
        return !first.empty() || transport ? first : why_not_rtmp(track);
    };
    WAVECREST_TRY_ASSIGN(playout, prepare_playout(item.parts, why_not));
    if (item.rate_bps > 0 && item.transcode && item.transcode->video.encode.peak_bps > item.rate_bps)
        return fail(ErrorKind::usage,
                    fmt::format("{} is below the profile's peak of {}", base::format_bitrate(item.rate_bps),
                                base::format_bitrate(item.transcode->video.encode.peak_bps)),
                    fmt::format("rate of stream \"{}\"", item.name), "raise the rate, or use a smaller profile");
    for (const ReadyPart& part : playout.parts) {
        // Packets, tables and clocks take a twentieth more than what they carry.
        const std::int64_t least = part.mean_bps + part.mean_bps / 20;
        if (item.rate_bps == 0 || item.transcode || item.rate_bps >= least) continue;
        return fail(ErrorKind::usage,
                    fmt::format("{} is too low for {}: average {}", base::format_bitrate(item.rate_bps), part.name,
                                base::format_bitrate(least)),
                    fmt::format("rate of stream \"{}\"", item.name),
                    "set at least 1.5 times that, leave it out, or use a profile of lower bit rate");
    }
    if (item.rtmp && transport && !item.transcode) {
        for (const Track& track : playout.tracks) {
            if (is_text_subtitle(track)) continue;
            const std::string why = why_not_rtmp(track);
            if (why.empty()) continue;
            if (track.kind == TrackKind::video)
                return fail(ErrorKind::input, "its video can't be sent by RTMP: " + why,
                            item.parts.front().source.string(), "name a profile for the stream, or leave RTMP out");
            playout.notes.push_back("RTMP without audio: " + why);
        }
    }
    return playout;
}

}  // namespace

struct LiveService::State {
    std::vector<std::unique_ptr<LiveChannel>> channels;
    std::unique_ptr<net::UdpSender> sender;
    std::thread sending, publishing;
    mutable LendingMutex mutex;
    bool stopping = false;
    bool real_time = false;
    Histogram late;

    Status produce(LiveChannel& channel);
    Status wait_for_source(LiveChannel& channel);
    void send_all();
    void publish_all();
    LiveChannel* find(const std::string& name) const {
        const auto found = std::find_if(channels.begin(), channels.end(),
                                        [&](const auto& channel) { return channel->ready.item.name == name; });
        return found == channels.end() ? nullptr : found->get();
    }
    // False when the service or the stream ends.
    bool push(LiveChannel& channel, std::vector<Datagram>& datagrams, std::size_t count, std::vector<Pending>& blocks,
              Time last_due) {
        const std::lock_guard lock(mutex);
        for (Time most = kAhead; !stopping && !channel.stopped && channel.ahead(Steady::now()) >= most;
             most = kLowAhead) {
            channel.waiting = true;
            channel.may_go_on.wait(mutex);
        }
        channel.waiting = false;
        if (stopping || channel.stopped) return false;
        for (std::size_t i = 0; i < count; ++i) {
            if (!channel.first_due) channel.first_due = datagrams[i].due;
            // (Where blocks are made, too, they are counted.)
            if (!channel.http && !channel.hls) channel.status.made += datagrams[i].bytes.size() - kRtpHeader;
            channel.queue.push(datagrams[i]);
        }
        for (Pending& one : blocks) {
            if (!channel.first_due) channel.first_due = one.due;
            channel.status.made +=
                one.delivery == Pending::Delivery::transport || !channel.transport() ? one.block.bytes.size() : 0;
            channel.pending[static_cast<int>(one.delivery)].push_back(std::move(one));
        }
        channel.last_due = last_due;
        return true;
    }
};

// What a stream plays may begin to come, or become what can be sent, at any time.
Status LiveService::State::wait_for_source(LiveChannel& channel) {
    while (true) {
        auto found = find_playout(channel.ready.item);
        const std::lock_guard lock(mutex);
        if (stopping || channel.stopped) return base::interrupted();
        if (found) {
            channel.error.clear();
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
    const auto give = [this, &channel](std::vector<Datagram>& datagrams, std::size_t count,
                                       std::vector<Pending>& blocks,
                                       Time last_due) { return push(channel, datagrams, count, blocks, last_due); };
    if (!channel.playout) WAVECREST_TRY(wait_for_source(channel));
    WithoutTextSubtitles source(*channel.playout, channel.hls.get());
    if (channel.ready.item.transcode) {
        const transcode::SinkMaker make = [&](const std::vector<Track>& tracks) -> Result<std::unique_ptr<PacketSink>> {
            return std::unique_ptr<PacketSink>(std::make_unique<Outlets>(channel, tracks, give));
        };
        WAVECREST_TRY(transcode::run(source, *channel.ready.item.transcode, make, {}, channel.cancel));
        return {};
    }
    Outlets outlets(channel, source.tracks(), give);
    container::Interleaver interleaver(outlets, source.tracks(), Time{});
    while (true) {
        WAVECREST_TRY_ASSIGN(packet, source.read());
        if (!packet) break;
        WAVECREST_TRY(interleaver.write(std::move(*packet)));
    }
    WAVECREST_TRY(interleaver.drain());
    return outlets.finish();
}

void LiveService::State::send_all() {
    sched_param priority{};
    priority.sched_priority = 10;
    {
        const bool granted = ::pthread_setschedparam(::pthread_self(), SCHED_FIFO, &priority) == 0;
        const std::lock_guard lock(mutex);
        real_time = granted;
    }
    struct Going {
        LiveChannel* channel;
        Datagram datagram;
        Steady::time_point due;
    };
    std::vector<Going> going(1);  // its places keep their buffers, too
    std::vector<net::UdpSender::Datagram> out;
    std::vector<LiveChannel*> owners;
    std::unique_lock lock(mutex);
    while (!stopping) {
        const auto now = Steady::now();
        Steady::time_point wake = now + 50ms;
        std::size_t due_now = 0;
        for (const auto& channel : channels) {
            if (!channel->datagrams()) continue;
            if (!channel->begin(now)) {
                wake = std::min(wake, now + 5ms);
                continue;
            }
            if (channel->paused) {
                if (now - channel->nulls_at >= kStillThere) {
                    channel->nulls_at = now;
                    if (due_now == going.size()) going.emplace_back();
                    going[due_now].channel = channel.get();
                    going[due_now].due = now;
                    Datagram& nulls = going[due_now++].datagram;
                    nulls.due = channel->now(now);
                    nulls.bytes.assign(kRtpHeader, 0);
                    const Bytes packets = null_packets();
                    nulls.bytes.insert(nulls.bytes.end(), packets.view().begin(), packets.view().end());
                }
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
                channel->status.bytes += next.bytes.size() - kRtpHeader;
                if (due_now == going.size()) going.emplace_back();
                going[due_now].channel = channel.get();
                going[due_now].due = due;
                channel->queue.pop(going[due_now++].datagram);
            }
        }
        if (due_now > 0) {
            lock.unlock();
            const auto end = going.begin() + static_cast<std::ptrdiff_t>(due_now);
            std::sort(going.begin(), end, [](const Going& a, const Going& b) { return a.due < b.due; });
            out.clear();
            owners.clear();
            for (auto one = going.begin(); one != end; ++one) {
                LiveChannel& channel = *one->channel;
                const ByteSpan bytes(one->datagram.bytes);
                net::write_rtp(std::span(one->datagram.bytes).first<kRtpHeader>(),
                               {net::kRtpTransportStream, false, channel.sequence++,
                                static_cast<std::uint32_t>(base::to_ticks(one->datagram.due, 90'000)), channel.source});
                for (const LiveTarget& target : channel.ready.item.targets) {
                    out.push_back({&target.to, target.rtp ? bytes : bytes.subspan(kRtpHeader)});
                    owners.push_back(&channel);
                }
            }
            const std::size_t failed = sender->send(out);
            const auto sent = Steady::now();
            lock.lock();
            for (auto one = going.begin(); one != end; ++one) late.add(sent - one->due);
            // Which of them it was isn't told by the call that sends many.
            if (failed > 0) owners.front()->status.refused += failed;
            continue;
        }
        lock.unlock();
        if (wake > now) std::this_thread::sleep_until(wake);
        lock.lock();
    }
}

// Gives connected clients what is due, lets producers go on, and notices ends.
void LiveService::State::publish_all() {
    std::vector<Pending> due, segment_parts;
    std::unique_lock lock(mutex);
    while (!stopping) {
        for (const auto& channel : channels) {
            const auto now = Steady::now();
            channel->begin(now);
            due.clear();
            if (channel->begun && !channel->paused) {
                for (auto& pending : channel->pending) {
                    while (!pending.empty()) {
                        if (!channel->datagrams()) channel->move_clock(pending.front().due, now);
                        if (pending.front().due > channel->now(now)) break;
                        due.push_back(std::move(pending.front()));
                        pending.pop_front();
                    }
                }
                // Segments are made of what lies ready: their viewers lag by several of them anyhow.
                for (Pending& one : channel->pending[static_cast<int>(Pending::Delivery::transport)]) {
                    if (!channel->hls || one.due > channel->now(now) + Time(kSegmentLead)) break;
                    if (std::exchange(one.in_segment, true)) continue;
                    segment_parts.push_back(one);
                }
            }
            if (channel->begun && channel->pause_behind) {
                // It goes on until what was sought has been seen.
                const auto shown = channel->playout->latest_seek();
                if (shown.number > *channel->pause_behind && channel->now(now) > shown.at + Time(kShown)) {
                    channel->pause_behind.reset();
                    channel->stand(true, now);
                }
            }
            if (channel->begun && channel->paused && now - channel->still_there >= kStillThere && due.empty()) {
                channel->still_there = now;
                const Time at = channel->now(now);
                if (channel->http) channel->http->push({{null_packets(), at, false}});
                if (channel->rtmp) channel->rtmp->push({{rtmp_ping(at), at, false}});
            }
            if (channel->waiting && channel->ahead(now) < Time(kLowAhead)) channel->may_go_on.notify();
            const bool ends = channel->done && channel->queue.empty() && channel->pending[0].empty() &&
                              channel->pending[1].empty() && !channel->status.ended;
            if (ends) {
                channel->status.ended = true;
                base::log(base::LogLevel::info, "stream {} ended", channel->ready.item.name);
                channel->status.state = LiveStatus::State::ended;
            }
            const Time end = channel->last_due;
            if (due.empty() && segment_parts.empty() && !ends) continue;
            lock.unlock();
            std::vector<net::Block> transport, rtmp;
            for (Pending& one : due) {
                if (one.delivery == Pending::Delivery::rtmp) {
                    rtmp.push_back(std::move(one.block));
                    continue;
                }
                if (channel->hls && !one.in_segment)
                    channel->hls->push(one.block.bytes.view(), one.block.start, one.group);
                if (channel->http) transport.push_back(std::move(one.block));
            }
            for (const Pending& one : segment_parts)
                channel->hls->push(one.block.bytes.view(), one.block.start, one.group);
            segment_parts.clear();
            if (channel->http && !transport.empty()) channel->http->push(std::move(transport));
            if (channel->rtmp && !rtmp.empty()) channel->rtmp->push(std::move(rtmp));
            if (ends) {
                if (channel->hls) channel->hls->finish(end);
                if (channel->http) channel->http->finish();
                if (channel->rtmp) {
                    channel->rtmp->push({{rtmp_ending(), end, false}});
                    channel->rtmp->finish();
                }
            }
            lock.lock();
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

Result<std::vector<ReadyLive>> prepare_live(const std::vector<LiveItem>& items) {
    std::vector<ReadyLive> all;
    std::vector<std::pair<std::string, std::string>> taken;  // address, stream
    for (const LiveItem& item : items) {
        ReadyLive ready;
        ready.item = item;
        // Segments of HLS end at keyframes: the closer these are, the sooner a player has enough of them to begin, and
        // the less it lags.
        if (item.hls && ready.item.transcode) {
            Time& distance = ready.item.transcode->video.encode.keyframe_distance;
            distance = distance.count() > 0 ? std::min(distance, Time(kLiveKeyframes)) : Time(kLiveKeyframes);
        }
        for (const LiveTarget& target : item.targets) {
            const auto other = std::find_if(taken.begin(), taken.end(),
                                            [&](const auto& entry) { return entry.first == target.to.text; });
            if (other != taken.end()) {
                return fail(ErrorKind::usage,
                            fmt::format("the streams \"{}\" and \"{}\" both go to {}", other->second, item.name,
                                        target.to.text),
                            "streams", "give one of them another address or port");
            }
            taken.emplace_back(target.to.text, item.name);
        }
        if (!item.parts.empty()) {
            WAVECREST_TRY_ASSIGN(playout, find_playout(ready.item));
            ready.playout = std::move(playout);
        }
        all.push_back(std::move(ready));
    }
    return all;
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
        if (item.hls) {
            std::vector<Track> words;
            std::copy_if(channel->ready.playout.tracks.begin(), channel->ready.playout.tracks.end(),
                         std::back_inserter(words), is_text_subtitle);
            LiveHlsSettings hls;
            // (Seconds since 2020, so that names stay short.)
            constexpr std::int64_t kYear2020 = 1'577'836'800;
            hls.first_number = static_cast<std::uint64_t>(std::max<std::int64_t>(
                std::chrono::duration_cast<std::chrono::seconds>(std::chrono::system_clock::now().time_since_epoch())
                        .count() -
                    kYear2020,
                1));
            channel->hls = std::make_shared<LiveHls>(hls, std::move(words));
        }
        // Unforeseeable beginnings, as RFC 3550 asks for (5.1).
        channel->sequence = static_cast<std::uint16_t>(random());
        channel->source = random();
        state->channels.push_back(std::move(channel));
    }
    State* s = state.get();
    for (const auto& channel : state->channels) {
        channel->busy_from = Steady::now();
        channel->producer = std::thread([s, f = channel.get()] {
            const Status status = s->produce(*f);
            const std::lock_guard lock(s->mutex);
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
        const std::lock_guard lock(state_->mutex);
        state_->stopping = true;
    }
    for (const auto& channel : state_->channels) {
        channel->cancel.request();
        channel->may_go_on.notify();
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
    const std::lock_guard lock(state_->mutex);
    const auto now = Steady::now();
    for (const auto& channel : state_->channels) {
        LiveStatus status = channel->status;
        status.error = channel->error;
        if (!channel->playout) {
            figures.streams.push_back(std::move(status));
            continue;
        }
        const Playout::Place place = channel->playout->place(channel->begun ? channel->now(now) : Time{});
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
    Histogram fresh;
    const std::lock_guard lock(state_->mutex);
    std::swap(state_->late, fresh);
}

bool LiveService::ended() const {
    const std::lock_guard lock(state_->mutex);
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

bool LiveService::pause(const std::string& name, bool paused) {
    LiveChannel* channel = state_->find(name);
    if (channel == nullptr) return false;
    const std::lock_guard lock(state_->mutex);
    if (channel->status.ended) return false;
    channel->pause_behind.reset();
    channel->stand(paused, Steady::now());
    return true;
}

bool LiveService::order_seek(const std::string& name, const Playout::SeekOrder& seek) {
    LiveChannel* channel = state_->find(name);
    if (channel == nullptr) return false;
    {
        const std::lock_guard lock(state_->mutex);
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
    const std::lock_guard lock(state_->mutex);
    if (channel->status.ended) return false;
    channel->stopped = true;
    for (auto& pending : channel->pending) pending.clear();
    channel->queue = {};
    channel->may_go_on.notify();
    return true;
}

}  // namespace wavecrest::stream
