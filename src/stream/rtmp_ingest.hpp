// A stream that somebody publishes here by RTMP. RTMP players are given its messages as they come; what is multiplexed
// for other protocols reads it as an FLV file that is being written. Players stay when the publisher goes, and go on
// when one is back.
#pragma once

#include <cstdint>
#include <deque>
#include <memory>
#include <string>
#include <vector>

#include "base/byte_source.hpp"
#include "base/mutex.hpp"
#include "base/result.hpp"
#include "net/fan_out.hpp"
#include "net/rtmp_chunks.hpp"

namespace wavecrest::stream {

// All of it may be called from any thread.
class RtmpIngest {
  public:
    // `to`: what RTMP players are given.
    RtmpIngest(std::string name, std::shared_ptr<net::Broadcast> to)
        : broadcast_(std::move(to)), name_(std::move(name)) {}

    // False when somebody publishes already.
    bool begin(const std::string& by);
    void end();
    void take(const net::rtmp::Message& message);

    // What is published from now on, behind its metadata and configuration. It ends with the publisher, or when it is
    // read so slowly that kMostWaiting bytes lie waiting. Fails (kind input) when nobody begins to publish within a
    // short wait.
    Result<std::unique_ptr<base::ByteSource>> open();
    static constexpr std::size_t kMostWaiting = 16 << 20;
    // Nothing is given any more: all readers come to their end.
    void close();

    const std::shared_ptr<net::Broadcast>& broadcast() const { return broadcast_; }
    std::string published_by() const;  // the address; empty: nobody publishes
    std::uint64_t bytes() const;       // that came so far

  private:
    // What one reader has still to take.
    struct Reader {
        base::Mutex mutex;
        base::Condition more;
        ByteVector tags GUARDED_BY(mutex);
        bool ended GUARDED_BY(mutex) = false;

        void give(ByteSpan bytes);
        void end();
        Result<ByteVector> take();
    };

    void set_preface() REQUIRES(mutex_);
    void give_readers(std::uint8_t type, std::uint32_t timestamp, ByteSpan body) REQUIRES(mutex_);

    const std::shared_ptr<net::Broadcast> broadcast_;
    const std::string name_;
    mutable base::Mutex mutex_;
    base::Condition begins_;
    bool busy_ GUARDED_BY(mutex_) = false, closed_ GUARDED_BY(mutex_) = false;
    bool first_ GUARDED_BY(mutex_) = true, any_ GUARDED_BY(mutex_) = false, has_video_ GUARDED_BY(mutex_) = false;
    std::string by_ GUARDED_BY(mutex_);
    std::uint64_t bytes_ GUARDED_BY(mutex_) = 0;
    std::uint32_t offset_ GUARDED_BY(mutex_) = 0, last_ GUARDED_BY(mutex_) = 0;
    ByteVector metadata_ GUARDED_BY(mutex_), video_config_ GUARDED_BY(mutex_), audio_config_ GUARDED_BY(mutex_);
    std::vector<std::shared_ptr<Reader>> readers_ GUARDED_BY(mutex_);
};

}  // namespace wavecrest::stream
