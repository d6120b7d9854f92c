#include "net/rtmp_chunks.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <utility>

namespace wavecrest::net::rtmp {
namespace {

constexpr std::uint32_t kExtended = 0xFFFFFF;
constexpr std::size_t kMostStreams = 16;

tl::unexpected<Error> malformed(std::string what) {
    return fail(ErrorKind::input, "invalid RTMP data: " + std::move(what), "RTMP chunk stream",
                "check the program at its other end");
}

std::uint32_t little32(ByteSpan b) {
    return static_cast<std::uint32_t>(base::little_endian(b, 0, 4));
}

}  // namespace

void append_message(ByteVector& out, int chunk_stream, const Message& message, ByteSpan payload,
                    std::uint32_t chunk_size) {
    base::ByteWriter head;
    const bool extended = message.timestamp >= kExtended;
    head.u8(static_cast<unsigned>(chunk_stream));
    head.u24(extended ? kExtended : message.timestamp);
    head.u24(payload.size());
    head.u8(message.type);
    head.little(message.stream, 4);
    if (extended) head.u32(message.timestamp);
    out.insert(out.end(), head.bytes().begin(), head.bytes().end());
    for (std::size_t at = 0; at < payload.size() || at == 0;) {
        if (at > 0) {
            // Type 3 repeats the extended timestamp (5.3.1.3).
            base::ByteWriter next;
            next.u8(0xC0u | static_cast<unsigned>(chunk_stream));
            if (extended) next.u32(message.timestamp);
            out.insert(out.end(), next.bytes().begin(), next.bytes().end());
        }
        const std::size_t part = std::min<std::size_t>(chunk_size, payload.size() - at);
        const ByteSpan bytes = payload.subspan(at, part);
        out.insert(out.end(), bytes.begin(), bytes.end());
        at += part;
        if (part == 0) break;
    }
}

Result<std::size_t> ChunkReader::take_chunk(ByteSpan bytes, std::optional<Message>& out) {
    // 5.3.1: basic header, message header, extended timestamp.
    base::ByteReader reader(bytes);
    const std::uint8_t first = reader.u8();
    const int form = first >> 6;
    std::uint32_t id = first & 0x3F;
    if (id == 0) {
        id = 64u + reader.u8();
    } else if (id == 1) {
        id = 64u + reader.u8();
        id += 256u * reader.u8();
    }
    static constexpr std::size_t kHeader[] = {11, 7, 3, 0};
    const ByteSpan head = reader.take(kHeader[form]);
    if (!reader.ok()) return 0;
    const auto known = streams_.find(id);
    if (form != 0 && (known == streams_.end() || !known->second.any))
        return malformed(fmt::format("chunk stream {} continues without a start", id));
    if (known == streams_.end() && streams_.size() >= kMostStreams) return malformed("too many chunk streams");
    // Nothing is changed before the whole chunk is there.
    Stream next;
    if (known != streams_.end()) {
        next.timestamp = known->second.timestamp;
        next.delta = known->second.delta;
        next.length = known->second.length;
        next.extended = known->second.extended;
        next.message.type = known->second.message.type;
        next.message.stream = known->second.message.stream;
    }
    base::ByteReader fields(head);
    std::uint32_t timestamp = 0;
    if (form < 3) {
        timestamp = fields.u24();
        next.extended = timestamp == kExtended;
    }
    if (form < 2) {
        next.length = fields.u24();
        next.message.type = fields.u8();
    }
    if (form == 0) next.message.stream = little32(head.subspan(7));
    if (next.extended) {
        const std::uint32_t full = reader.u32();
        if (form < 3) timestamp = full;
    }
    if (!reader.ok()) return 0;
    const std::uint8_t type = next.message.type;
    const bool media = type == kAudio || type == kVideo || type == kData || type == kAggregate;
    if (next.length > (media ? most_ : kMostCommand))
        return malformed(fmt::format("a message of type {} with {} bytes", type, next.length));
    std::size_t filled = known != streams_.end() ? known->second.filled : 0;
    if (filled > 0 && form != 3) {
        // A new message in the middle of another: the other is given up.
        filled = 0;
    }
    const bool begins = filled == 0;
    const std::size_t part = std::min<std::size_t>(chunk_size_, next.length - filled);
    const ByteSpan data = reader.take(part);
    if (!reader.ok()) return 0;

    Stream& stream = streams_[id];
    if (begins) {
        if (form == 0) {
            stream.timestamp = timestamp;
            stream.delta = 0;
        } else if (form < 3) {
            stream.delta = timestamp;
            stream.timestamp += timestamp;
        } else {
            // A new message of the same form: the last difference again, or the same time after a full header.
            stream.timestamp += stream.delta;
        }
        unfinished_ -= stream.message.payload.size();
        stream.message.payload.clear();
    }
    stream.any = true;
    stream.extended = next.extended;
    stream.length = next.length;
    stream.message.type = next.message.type;
    stream.message.stream = next.message.stream;
    stream.message.payload.insert(stream.message.payload.end(), data.begin(), data.end());
    stream.filled = filled + part;
    unfinished_ += data.size();
    if (unfinished_ > std::size_t{2} * most_) return malformed("unfinished messages too large");
    if (stream.filled < stream.length) return reader.position();
    stream.filled = 0;
    unfinished_ -= stream.message.payload.size();
    Message message = std::move(stream.message);
    stream.message = {message.type, 0, message.stream, {}};
    message.timestamp = stream.timestamp;
    const std::size_t taken = reader.position();
    if (message.type == kSetChunkSize && message.payload.size() >= 4) {
        const std::uint32_t size = base::ByteReader(message.payload).u32() & 0x7FFFFFFF;
        if (size == 0) return malformed("a chunk size of 0");
        chunk_size_ = std::min<std::uint32_t>(size, 0xFFFFFF);
    } else if (message.type == kAbort && message.payload.size() >= 4) {
        const auto given_up = streams_.find(base::ByteReader(message.payload).u32());
        if (given_up != streams_.end()) {
            unfinished_ -= given_up->second.message.payload.size();
            given_up->second.filled = 0;
            given_up->second.message.payload.clear();
        }
        return taken;
    }
    out = std::move(message);
    return taken;
}

void ChunkReader::add(ByteSpan bytes) {
    held_.erase(held_.begin(), held_.begin() + static_cast<std::ptrdiff_t>(std::exchange(taken_, 0)));
    held_.insert(held_.end(), bytes.begin(), bytes.end());
}

Result<std::optional<Message>> ChunkReader::next() {
    std::optional<Message> message;
    while (!message && taken_ < held_.size()) {
        WAVECREST_TRY_ASSIGN(taken, take_chunk(ByteSpan(held_).subspan(taken_), message));
        if (taken == 0) break;
        taken_ += taken;
    }
    return message;
}

Status ChunkReader::push(ByteSpan bytes, std::vector<Message>& out) {
    add(bytes);
    while (true) {
        WAVECREST_TRY_ASSIGN(message, next());
        if (!message) return {};
        out.push_back(std::move(*message));
    }
}

}  // namespace wavecrest::net::rtmp
