// What a live stream has ready to be sent: UDP datagrams in a queue, blocks for connected clients, and how late they
// were.
#pragma once

#include <algorithm>
#include <chrono>
#include <cstdint>
#include <vector>

#include "base/bytes.hpp"
#include "base/time.hpp"
#include "net/fan_out.hpp"
#include "net/rtp.hpp"

namespace wavecrest::stream {

// Seven packets fit into the 1500 bytes of an Ethernet frame.
inline constexpr std::size_t kDatagramPackets = 7 * 188;

struct Datagram {
    Time due{};  // on the timeline of the stream
    Time position{};
    ByteVector bytes;  // room for an RTP header (net::kRtpHeaderBytes), then transport packets
};

// What goes to connected clients.
struct Pending {
    enum class Delivery { transport, rtmp, ladder } delivery = Delivery::transport;
    Time due{};
    Time group{};  // of a start: the keyframe's decoding time
    net::Block block;
    bool in_segment = false;  // HLS has it
    // Of a ladder: a whole segment, of one of its tracks, and how long it lasts.
    std::size_t track = 0;
    Time length{};
};
inline constexpr std::size_t kPendingDeliveries = 3;

// A queue whose places keep their buffers: what is taken out is exchanged for something spent. The sender neither
// allocates nor frees, which could make it wait for a thread that is pushed aside inside the allocator.
class DatagramQueue {
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
class Lateness {
  public:
    void add(std::chrono::steady_clock::duration late) {
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
    std::chrono::steady_clock::duration worst_{};
};

}  // namespace wavecrest::stream
