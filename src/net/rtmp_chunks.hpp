// RTMP's chunk stream (Adobe RTMP Specification 1.0, clause 5): messages cut into chunks, and put together again.
#pragma once

#include <cstdint>
#include <map>
#include <optional>
#include <vector>

#include "base/bytes.hpp"
#include "base/result.hpp"

namespace wavecrest::net::rtmp {

// Message types (clauses 5.4, 6.2, 7.1).
enum MessageType : std::uint8_t {
    kSetChunkSize = 1,
    kAbort = 2,
    kAcknowledgement = 3,
    kUserControl = 4,
    kWindowSize = 5,
    kPeerBandwidth = 6,
    kAudio = 8,
    kVideo = 9,
    kData = 18,  // AMF0
    kCommand = 20,
    kAggregate = 22,
};

struct Message {
    std::uint8_t type = 0;
    std::uint32_t timestamp = 0;  // ms, wraps
    std::uint32_t stream = 0;     // message stream id
    ByteVector payload;
};

inline constexpr std::uint32_t kFirstChunkSize = 128;  // 5.4.1
inline constexpr std::uint32_t kMostMessage = 8 << 20;
// Commands and what steers the connection: `connect` with all its members takes less than two thousand bytes.
inline constexpr std::uint32_t kMostCommand = 16 << 10;

// Appends a message in chunks of the size given, each with a full header (type 0), so that it depends on nothing sent
// before. `chunk_stream` is 2 to 63.
void append_message(ByteVector& out, int chunk_stream, const Message& message, ByteSpan payload,
                    std::uint32_t chunk_size);
inline void append_message(ByteVector& out, int chunk_stream, const Message& message, std::uint32_t chunk_size) {
    append_message(out, chunk_stream, message, message.payload, chunk_size);
}

// Puts messages together from bytes as they come. Carries out Set Chunk Size and Abort itself (and passes the former
// on).
class ChunkReader {
  public:
    // Appends what is complete. Fails (kind input) on what the specification doesn't allow: a chunk that goes on with
    // nothing, a chunk size of 0, a message beyond kMostMessage, more than 16 chunk streams; and on more than the limit
    // of bytes in messages that aren't complete.
    Status push(ByteSpan bytes, std::vector<Message>& out);
    // The same step by step: bytes are added, then messages taken until there is none.
    void add(ByteSpan bytes);
    Result<std::optional<Message>> next();
    // Whether it may send audio, video and data: messages of up to kMostMessage, and twice that in unfinished ones.
    // Otherwise (the beginning) kMostCommand, and twice that.
    void expect_media(bool expected) { most_ = expected ? kMostMessage : kMostCommand; }
    // Bytes kept of messages that aren't complete.
    std::size_t held() const { return unfinished_ + held_.size() - taken_; }

  private:
    struct Stream {
        std::uint32_t timestamp = 0, delta = 0, length = 0;
        bool extended = false, any = false;
        Message message;  // being put together
        std::size_t filled = 0;
    };
    // How many bytes of a whole chunk are at the front; 0: more are needed.
    Result<std::size_t> take_chunk(ByteSpan bytes, std::optional<Message>& out);

    ByteVector held_;
    std::size_t taken_ = 0;  // bytes of it that are done with
    std::map<std::uint32_t, Stream> streams_;
    std::uint32_t chunk_size_ = kFirstChunkSize;
    std::uint32_t most_ = kMostCommand;  // bytes of a message of media
    std::size_t unfinished_ = 0;         // bytes in streams_
};

}  // namespace wavecrest::net::rtmp
