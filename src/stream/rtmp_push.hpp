// Publishes a stream to an RTMP server for as long as it lives, and again when the connection is lost.
#pragma once

#include <functional>
#include <memory>
#include <string>
#include <thread>

#include "base/mutex.hpp"
#include "net/fan_out.hpp"
#include "net/rtmp_client.hpp"

namespace wavecrest::stream {

class RtmpPush {
  public:
    // Called from a thread of its own, with each change of state: "publishing", "ended; trying again in 2 s".
    using OnChange = std::function<void(const std::string& state)>;

    // `broadcast`: blocks of chunks for kRtmpStream. `fan_out` must outlive this.
    RtmpPush(net::RtmpAddress to, std::shared_ptr<net::Broadcast> broadcast, net::FanOut& fan_out, OnChange on_change);
    // Ends it within a tenth of a second, or when a connection that is being made fails.
    ~RtmpPush();
    RtmpPush(const RtmpPush&) = delete;
    RtmpPush& operator=(const RtmpPush&) = delete;

    const net::RtmpAddress& to() const { return to_; }
    std::string state() const;

  private:
    void run();
    Status publish(net::RtmpClient& client);
    void set(std::string state, bool tell);
    bool is_stopping() const;

    const net::RtmpAddress to_;
    const std::shared_ptr<net::Broadcast> broadcast_;
    net::FanOut& fan_out_;
    const OnChange on_change_;
    mutable base::Mutex mutex_;
    base::Condition stop_;
    bool stopping_ GUARDED_BY(mutex_) = false;
    std::string state_ GUARDED_BY(mutex_) = "connecting";
    std::thread thread_;
};

}  // namespace wavecrest::stream
