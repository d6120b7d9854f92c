// A stream that somebody publishes here by RTMP. RTMP players are given its messages as they come; what is multiplexed
// for other protocols reads it as an FLV file that is being written. Players stay when the publisher goes, and go on
// when one is back.
#pragma once

#include <condition_variable>
#include <cstdint>
#include <deque>
#include <memory>
#include <mutex>
#include <string>
#include <vector>

#include "base/file.hpp"
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
        std::mutex mutex;
        std::condition_variable more;
        ByteVector tags;
        bool ended = false;

        void give(ByteSpan bytes);
        void end();
        Result<ByteVector> take();
    };

    void set_preface();
    void give_readers(std::uint8_t type, std::uint32_t timestamp, ByteSpan body);

    const std::shared_ptr<net::Broadcast> broadcast_;
    const std::string name_;
    mutable std::mutex mutex_;
    std::condition_variable begins_;
    bool busy_ = false, closed_ = false, first_ = true, any_ = false, has_video_ = false;
    std::string by_;
    std::uint64_t bytes_ = 0;
    std::uint32_t offset_ = 0, last_ = 0;
    ByteVector metadata_, video_config_, audio_config_;
    std::vector<std::shared_ptr<Reader>> readers_;
};

}  // namespace wavecrest::stream
