#include "stream/rtmp_ingest.hpp"

#include <chrono>

#include "base/byte_source.hpp"
#include "net/amf0.hpp"
#include "net/live_source.hpp"
#include "net/rtmp_server.hpp"
#include "stream/rtmp_wire.hpp"

namespace wavecrest::stream {
namespace {

using namespace std::chrono_literals;

constexpr auto kWaitForPublisher = 500ms, kWaitForBytes = 50ms;

// FLV, E.4.3.1 and E.4.2.1: the configuration is packet type 0 of H.264 and AAC (and of the extended form).
bool is_configuration(bool video, ByteSpan body) {
    if (body.size() < 2) return false;
    if (!video) return body[0] >> 4 == 10 && body[1] == 0;
    const bool extended = (body[0] & 0x80) != 0;
    return extended ? (body[0] & 0x0F) == 0 : (body[0] & 0x0F) == 7 && body[1] == 0;
}

}  // namespace

void RtmpIngest::Reader::give(ByteSpan bytes) {
    const base::MutexLock lock(mutex);
    if (ended) return;
    if (tags.size() + bytes.size() > kMostWaiting) {
        ended = true;
    } else {
        tags.insert(tags.end(), bytes.begin(), bytes.end());
    }
    more.notify_one();
}

void RtmpIngest::Reader::end() {
    const base::MutexLock lock(mutex);
    ended = true;
    more.notify_one();
}

Result<ByteVector> RtmpIngest::Reader::take() {
    const base::MutexLock lock(mutex);
    const auto until = std::chrono::steady_clock::now() + kWaitForBytes;
    while (!ended && tags.empty() && more.wait_until(mutex, until)) {
    }
    if (tags.empty() && ended) return fail(ErrorKind::input, "the publisher disconnected", "RTMP", "");
    return std::exchange(tags, {});
}

bool RtmpIngest::begin(const std::string& by) {
    const base::MutexLock lock(mutex_);
    if (busy_ || closed_) return false;
    busy_ = true;
    by_ = by;
    first_ = true;
    // The configuration of the publisher before says nothing of this one's.
    metadata_.clear();
    video_config_.clear();
    audio_config_.clear();
    begins_.notify_all();
    return true;
}

void RtmpIngest::end() {
    const base::MutexLock lock(mutex_);
    busy_ = false;
    by_.clear();
    for (const auto& reader : readers_) reader->end();
    readers_.clear();
}

void RtmpIngest::close() {
    {
        const base::MutexLock lock(mutex_);
        closed_ = true;
        begins_.notify_all();
    }
    end();
}

void RtmpIngest::take(const net::rtmp::Message& message) {
    const ByteSpan body(message.payload);
    if (body.empty()) return;
    const base::MutexLock lock(mutex_);
    bytes_ += body.size();
    if (message.type == net::rtmp::kData) {
        // Publishers wrap the metadata in a command to the server (7.1.2 leaves the name to them).
        const auto values = net::amf0::parse(body);
        if (!values || values->empty()) return;
        const bool wrapped = (*values)[0].text() == "@setDataFrame";
        std::vector<net::amf0::Value> rest(values->begin() + (wrapped ? 1 : 0), values->end());
        if (rest.empty() || rest[0].text() != "onMetaData") return;
        metadata_ = net::amf0::write(rest);
        set_preface();
        give_readers(net::rtmp::kData, message.timestamp, metadata_);
        return;
    }
    const bool video = message.type == net::rtmp::kVideo;
    const bool config = is_configuration(video, body);
    if (config) {
        (video ? video_config_ : audio_config_).assign(body.begin(), body.end());
        set_preface();
    }
    give_readers(message.type, message.timestamp, body);
    has_video_ = has_video_ || video;
    if (first_) {
        // Times go on where the publisher before ended.
        offset_ = any_ ? last_ + 40 - message.timestamp : 0 - message.timestamp + 1000;
        first_ = false;
        any_ = true;
    }
    const std::uint32_t time = message.timestamp + offset_;
    last_ = time;
    ByteVector out;
    net::rtmp::append_message(out, video ? 6 : 4, {message.type, time, kRtmpStream, {}}, body,
                              net::kRtmpBroadcastChunk);
    const bool key = video ? (body[0] >> 4 & 7) == 1 && !config : !has_video_ && !config;
    broadcast_->push({{Bytes(std::move(out)), base::from_ticks(time, 1000), key}});
}

std::string RtmpIngest::published_by() const {
    const base::MutexLock lock(mutex_);
    return by_;
}

std::uint64_t RtmpIngest::bytes() const {
    const base::MutexLock lock(mutex_);
    return bytes_;
}

void RtmpIngest::set_preface() {
    ByteVector out;
    const auto put = [&](int chunks, std::uint8_t type, const ByteVector& body) {
        if (!body.empty())
            net::rtmp::append_message(out, chunks, {type, 0, kRtmpStream, {}}, body, net::kRtmpBroadcastChunk);
    };
    put(5, net::rtmp::kData, metadata_);
    put(6, net::rtmp::kVideo, video_config_);
    put(4, net::rtmp::kAudio, audio_config_);
    broadcast_->set_preface(Bytes(std::move(out)));
}

void RtmpIngest::give_readers(std::uint8_t type, std::uint32_t timestamp, ByteSpan body) {
    if (readers_.empty()) return;
    base::ByteWriter tag;
    net::append_flv_tag(tag, type, timestamp, body);
    for (const auto& reader : readers_) reader->give(tag.bytes());
    std::erase_if(readers_, [](const auto& reader) { return reader.use_count() == 1; });
}

Result<std::unique_ptr<base::ByteSource>> RtmpIngest::open() {
    auto reader = std::make_shared<Reader>();
    const base::MutexLock lock(mutex_);
    const auto until = std::chrono::steady_clock::now() + kWaitForPublisher;
    while (!busy_ && !closed_ && begins_.wait_until(mutex_, until)) {
    }
    if (!busy_ || closed_)
        return fail(ErrorKind::input, "nobody is publishing it", name_, "start the publisher with this stream's key");
    base::ByteWriter begin;
    net::append_flv_header(begin);
    const auto put = [&](std::uint8_t type, const ByteVector& body) {
        if (!body.empty()) net::append_flv_tag(begin, type, 0, body);
    };
    put(net::rtmp::kData, metadata_);
    put(net::rtmp::kVideo, video_config_);
    put(net::rtmp::kAudio, audio_config_);
    reader->give(begin.bytes());
    readers_.push_back(reader);
    return net::open_fed(name_, [reader] { return reader->take(); });
}

}  // namespace wavecrest::stream
