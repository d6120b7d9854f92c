// RTMP: the chunk stream against the specification's own examples, commands against their bytes, and what a server
// does with nonsense.
#include <sys/socket.h>

#include <catch2/catch.hpp>
#include <cmath>
#include <thread>

#include "net/amf0.hpp"
#include "net/rtmp_chunks.hpp"
#include "net/rtmp_client.hpp"
#include "net/rtmp_server.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
using net::amf0::Members;
using net::amf0::Value;
using net::rtmp::ChunkReader;
using net::rtmp::Message;
using namespace std::chrono_literals;

namespace {

ByteVector bytes_of(std::initializer_list<int> list) {
    ByteVector out;
    for (const int b : list) out.push_back(static_cast<std::uint8_t>(b));
    return out;
}
void put(ByteVector& out, std::initializer_list<int> head, std::size_t payload) {
    const ByteVector front = bytes_of(head);
    out.insert(out.end(), front.begin(), front.end());
    for (std::size_t i = 0; i < payload; ++i) out.push_back(static_cast<std::uint8_t>(i));
}

net::RtmpServerSettings on_loopback(net::FanOut& fan_out) {
    net::RtmpServerSettings settings;
    settings.address = "127.0.0.1";
    settings.port = 0;
    settings.fan_out = &fan_out;
    return settings;
}

struct Server {
    net::FanOut fan_out;
    std::shared_ptr<net::Broadcast> broadcast = fan_out.open("lake");
    std::unique_ptr<net::RtmpServer> server;
    struct Taken : net::RtmpPublication {
        std::vector<Message>* to;
        explicit Taken(std::vector<Message>* list) : to(list) {}
        void take(const Message& message) override { to->push_back(message); }
    };
    std::vector<Message> taken;

    Server() {
        net::RtmpServerSettings settings = on_loopback(fan_out);
        settings.idle_limit = base::from_seconds(3);
        settings.play = [this](const net::RtmpRequest& request) {
            return request.application == "house" && request.name == "lake" ? broadcast : nullptr;
        };
        settings.publish = [this](const net::RtmpRequest& request,
                                  std::string& why) -> std::unique_ptr<net::RtmpPublication> {
            why = "unknown key";
            if (request.name != "secret-key") return nullptr;
            return std::make_unique<Taken>(&taken);
        };
        auto started = net::RtmpServer::start(std::move(settings));
        REQUIRE(started);
        server = std::move(*started);
    }
    net::RtmpAddress address(const std::string& name) const { return {"127.0.0.1", server->port(), "house", name}; }
    // A message as broadcasts have them: video of message stream 1.
    static net::Block block(std::uint32_t time, std::size_t size, bool start) {
        ByteVector out;
        ByteVector payload(size, static_cast<std::uint8_t>(time));
        net::rtmp::append_message(out, 6, {net::rtmp::kVideo, time, 1, {}}, payload, net::kRtmpBroadcastChunk);
        return {Bytes(std::move(out)), base::from_ticks(time, 1000), start};
    }
};

std::vector<Message> receive(net::RtmpClient& client, std::size_t count) {
    std::vector<Message> all;
    for (int i = 0; i < 100 && all.size() < count; ++i) {
        auto some = client.receive(50ms);
        if (!some) break;
        for (Message& message : *some) {
            if (message.type == net::rtmp::kVideo) all.push_back(std::move(message));
        }
    }
    return all;
}

}  // namespace

TEST_CASE("the specification's chunk streams are read: 5.3.2.1 and 5.3.2.2", "[rtmp]") {
    // Four messages of audio: times 1000, 1020, 1040, 1060; forms 0, 2, 3, 3.
    ByteVector first;
    put(first, {0x03, 0, 0x03, 0xE8, 0, 0, 32, 8, 0x39, 0x30, 0, 0}, 32);
    put(first, {0x83, 0, 0, 20}, 32);
    put(first, {0xC3}, 32);
    put(first, {0xC3}, 32);
    CHECK(first.size() == 44 + 36 + 33 + 33);  // the table's "total no. of bytes in the chunk"
    std::vector<Message> messages;
    ChunkReader reader;
    // It may come cut anywhere.
    for (const std::uint8_t b : first) REQUIRE(reader.push(ByteSpan(&b, 1), messages));
    REQUIRE(messages.size() == 4);
    for (std::size_t i = 0; i < 4; ++i) {
        CHECK(messages[i].timestamp == 1000 + 20 * i);
        CHECK(messages[i].type == 8);
        CHECK(messages[i].stream == 12345);
        CHECK(messages[i].payload.size() == 32);
    }
    // One message of video, 307 bytes: three chunks of 140, 129 and 52 bytes.
    ByteVector payload(307);
    for (std::size_t i = 0; i < payload.size(); ++i) payload[i] = static_cast<std::uint8_t>(i * 7);
    ByteVector second;
    net::rtmp::append_message(second, 4, {9, 1000, 12346, payload}, 128);
    CHECK(second.size() == 140 + 129 + 52);
    CHECK(ByteVector(second.begin(), second.begin() + 12) ==
          bytes_of({0x04, 0, 0x03, 0xE8, 0, 1, 0x33, 9, 0x3A, 0x30, 0, 0}));
    CHECK(second[140] == 0xC4);
    messages.clear();
    ChunkReader other;
    REQUIRE(other.push(second, messages));
    REQUIRE(messages.size() == 1);
    CHECK(messages[0].payload == payload);
    CHECK(messages[0].timestamp == 1000);
}

TEST_CASE("extended times are repeated with every chunk, and messages of two streams interleave", "[rtmp]") {
    const std::uint32_t late = 0x01234567;
    const ByteVector payload(300, 7);
    ByteVector out;
    net::rtmp::append_message(out, 6, {9, late, 1, payload}, 128);
    CHECK(out.size() == 12 + 4 + 300 + 2 * 5);
    // AudioFrames between the chunks of a picture.
    ByteVector audio;
    net::rtmp::append_message(audio, 4, {8, 40, 1, ByteVector(10, 1)}, 128);
    ByteVector mixed(out.begin(), out.begin() + 144);
    mixed.insert(mixed.end(), audio.begin(), audio.end());
    mixed.insert(mixed.end(), out.begin() + 144, out.end());
    std::vector<Message> messages;
    ChunkReader reader;
    REQUIRE(reader.push(mixed, messages));
    REQUIRE(messages.size() == 2);
    CHECK(messages[0].type == 8);
    CHECK(messages[1].timestamp == late);
    CHECK(messages[1].payload == payload);
}

TEST_CASE("a chunk size is obeyed from the next chunk on, aborted messages are dropped", "[rtmp]") {
    ByteVector out;
    base::ByteWriter size;
    size.u32(4096);
    net::rtmp::append_message(out, 2, {net::rtmp::kSetChunkSize, 0, 0, size.release()}, 128);
    net::rtmp::append_message(out, 6, {9, 5, 1, ByteVector(4000, 3)}, 4096);
    // The beginning of a message that is given up, then another on its chunk stream.
    ByteVector begun;
    net::rtmp::append_message(begun, 6, {9, 6, 1, ByteVector(5000, 4)}, 4096);
    out.insert(out.end(), begun.begin(), begun.begin() + 12 + 4096);
    base::ByteWriter which;
    which.u32(6);
    net::rtmp::append_message(out, 2, {net::rtmp::kAbort, 0, 0, which.release()}, 4096);
    net::rtmp::append_message(out, 6, {9, 7, 1, ByteVector(10, 5)}, 4096);
    std::vector<Message> messages;
    ChunkReader reader;
    REQUIRE(reader.push(out, messages));
    REQUIRE(messages.size() == 3);
    CHECK(messages[1].payload.size() == 4000);
    CHECK(messages[2].timestamp == 7);
    CHECK(messages[2].payload.size() == 10);
}

TEST_CASE("chunks that make no sense end the connection, not the program", "[rtmp]") {
    const auto refused = [](const ByteVector& bytes) {
        ChunkReader reader;
        std::vector<Message> messages;
        return !reader.push(bytes, messages);
    };
    CHECK(refused(bytes_of({0xC5, 1, 2, 3})));                                      // goes on with nothing
    CHECK(refused(bytes_of({0x03, 0, 0, 0, 0xFF, 0xFF, 0xFF, 8, 0, 0, 0, 0})));     // 16 MB
    CHECK(refused(bytes_of({0x02, 0, 0, 0, 0, 0, 4, 1, 0, 0, 0, 0, 0, 0, 0, 0})));  // a chunk size of 0
    ByteVector many;
    for (int id = 3; id < 40; ++id) put(many, {id, 0, 0, 0, 0, 1, 0, 8, 0, 0, 0, 0}, 128);
    CHECK(refused(many));
}

TEST_CASE("values of commands are written and read by the bytes of AMF 0", "[rtmp]") {
    const ByteVector call = net::amf0::write({"connect", 1.0, Members{{"app", "house"}, {"live", true}}, Value()});
    const ByteVector wanted =
        bytes_of({2,   0,   7, 'c', 'o', 'n', 'n', 'e', 'c', 't', 0, 0x3F, 0xF0, 0,   0,   0,   0, 0, 0, 3, 0, 3, 'a',
                  'p', 'p', 2, 0,   5,   'h', 'o', 'u', 's', 'e', 0, 4,    'l',  'i', 'v', 'e', 1, 1, 0, 0, 9, 5});
    CHECK(call == wanted);
    const auto back = net::amf0::parse(call);
    REQUIRE(back);
    REQUIRE(back->size() == 4);
    CHECK((*back)[0].text() == "connect");
    CHECK((*back)[1].number() == 1.0);
    REQUIRE((*back)[2].member("app") != nullptr);
    CHECK((*back)[2].member("app")->text() == "house");
    CHECK((*back)[2].member("live")->flag() == true);
    // Every way to cut it short is noticed.
    for (std::size_t n = 1; n < call.size(); ++n) {
        const auto part = net::amf0::parse(ByteSpan(call).first(n));
        if (part) CHECK(part->size() < 4);
    }
    ByteVector deep;
    for (int i = 0; i < 200; ++i) {
        const ByteVector level = bytes_of({3, 0, 1, 'x'});
        deep.insert(deep.end(), level.begin(), level.end());
    }
    CHECK_FALSE(net::amf0::parse(deep));
    CHECK_FALSE(net::amf0::parse(bytes_of({10, 0xFF, 0xFF, 0xFF, 0xFF, 5, 5})));
    CHECK_FALSE(net::amf0::parse(bytes_of({0x42})));
}

TEST_CASE("a player begins at the newest keyframe, several streams on one connection stay apart", "[rtmp]") {
    Server s;
    s.broadcast->push({Server::block(1000, 400, true), Server::block(1040, 300, false),
                       Server::block(2000, 90'000, true), Server::block(2040, 500, false)});
    auto client = net::RtmpClient::connect(s.address("lake"));
    REQUIRE(client);
    REQUIRE((*client)->play());
    auto got = receive(**client, 2);
    REQUIRE(got.size() == 2);
    CHECK(got[0].timestamp == 0);  // each player's time begins with its first frame
    CHECK(got[0].payload.size() == 90'000);
    CHECK(got[1].timestamp == 40);
    s.broadcast->push({Server::block(2080, 70'000, false), Server::block(3000, 10, true)});
    got = receive(**client, 2);
    REQUIRE(got.size() == 2);
    CHECK(got[0].payload == ByteVector(70'000, static_cast<std::uint8_t>(2080)));
    CHECK(got[1].stream == 1);
    CHECK(s.fan_out.clients().size() == 1);
    client->reset();
    for (int i = 0; i < 100 && !s.fan_out.clients().empty(); ++i) std::this_thread::sleep_for(20ms);
    CHECK(s.fan_out.clients().empty());
    const auto wrong = net::RtmpClient::connect(s.address("pond"));
    REQUIRE(wrong);
    const auto refused = (*wrong)->play();
    REQUIRE_FALSE(refused);
    CHECK(refused.error().kind == ErrorKind::wanting);
    CHECK(refused.error().what.find("no such stream") != std::string::npos);
}

TEST_CASE("chunks are addressed to another message stream without being cut anew", "[rtmp]") {
    ByteVector out;
    net::rtmp::append_message(out, 6, {9, 0x1000000, 1, {}}, ByteVector(150'000, 6), net::kRtmpBroadcastChunk);
    net::rtmp::append_message(out, 4, {8, 5, 1, {}}, ByteVector(9, 7), net::kRtmpBroadcastChunk);
    const Bytes changed = net::for_message_stream(Bytes(ByteVector(out)), 3);
    ChunkReader reader;
    reader.expect_media(true);
    std::vector<Message> messages;
    ByteVector stream;
    base::ByteWriter size;
    size.u32(net::kRtmpBroadcastChunk);
    net::rtmp::append_message(stream, 2, {net::rtmp::kSetChunkSize, 0, 0, size.release()}, 128);
    stream.insert(stream.end(), changed.data(), changed.data() + changed.size());
    REQUIRE(reader.push(stream, messages));
    REQUIRE(messages.size() == 3);
    CHECK(messages[1].stream == 3);
    CHECK(messages[1].payload == ByteVector(150'000, 6));
    CHECK(messages[1].timestamp == 0x1000000);
    CHECK(messages[2].stream == 3);
}

TEST_CASE("a player's time begins with its first frame, however long the stream has run", "[rtmp]") {
    const auto change = net::for_player(2);
    const auto messages_of = [](const Bytes& chunks) {
        ChunkReader reader;
        reader.expect_media(true);
        base::ByteWriter size;
        size.u32(net::kRtmpBroadcastChunk);
        ByteVector all;
        net::rtmp::append_message(all, 2, {net::rtmp::kSetChunkSize, 0, 0, size.release()}, 128);
        all.insert(all.end(), chunks.view().begin(), chunks.view().end());
        std::vector<Message> messages;
        REQUIRE(reader.push(all, messages));
        messages.erase(messages.begin());
        return messages;
    };
    const auto one = [&](int type, std::uint32_t time, ByteVector body) {
        ByteVector out;
        net::rtmp::append_message(out, 6, {static_cast<std::uint8_t>(type), time, 1, {}}, body,
                                  net::kRtmpBroadcastChunk);
        return messages_of(change(Bytes(std::move(out)))).at(0);
    };
    // Six hours in, whose times take four bytes more in every chunk; configurations count for nothing.
    const std::uint32_t late = 21'600'000;
    CHECK(one(9, 0, {0x17, 0, 0, 0, 0, 1}).timestamp == 0);
    ByteVector picture(100'000, 7);
    picture[0] = 0x17;
    picture[1] = 1;
    const Message first = one(9, late, picture);
    CHECK(first.timestamp == 0);
    CHECK(first.payload == picture);
    CHECK(first.stream == 2);
    CHECK(one(8, late - 30, {0xAF, 1, 5}).timestamp == 0);
    CHECK(one(8, late + 20, {0xAF, 1, 5}).timestamp == 20);
    CHECK(one(9, late + 3'600'000, picture).timestamp == 3'600'000);
    ByteVector ping;
    net::rtmp::append_message(ping, 2, {net::rtmp::kUserControl, 0, 0, {}}, ByteVector(6, 1), net::kRtmpBroadcastChunk);
    CHECK(messages_of(change(Bytes(std::move(ping)))).at(0).stream == 0);
}

TEST_CASE("a publisher is taken with its key alone, and what it sends arrives", "[rtmp]") {
    Server s;
    auto wrong = net::RtmpClient::connect(s.address("guess"));
    REQUIRE(wrong);
    const auto refused = (*wrong)->publish();
    REQUIRE_FALSE(refused);
    CHECK(refused.error().what.find("unknown key") != std::string::npos);
    auto right = net::RtmpClient::connect(s.address("secret-key"));
    REQUIRE(right);
    REQUIRE((*right)->publish());
    ByteVector out;
    net::rtmp::append_message(out, 6, {9, 77, (*right)->stream(), ByteVector(200'000, 1)}, net::kRtmpBroadcastChunk);
    std::size_t at = 0;
    for (int i = 0; i < 500 && at < out.size(); ++i) {
        const ssize_t n = ::send((*right)->socket(), out.data() + at, out.size() - at, MSG_NOSIGNAL | MSG_DONTWAIT);
        if (n > 0) at += static_cast<std::size_t>(n);
        std::this_thread::sleep_for(2ms);
    }
    REQUIRE(at == out.size());
    std::this_thread::sleep_for(300ms);
    right->reset();
    std::this_thread::sleep_for(100ms);
    s.server.reset();
    REQUIRE(s.taken.size() == 1);
    CHECK(s.taken[0].timestamp == 77);
    CHECK(s.taken[0].payload.size() == 200'000);
}

TEST_CASE("connections that speak something else are let go, others are served meanwhile", "[rtmp]") {
    Server s;
    CHECK(raw_exchange(s.server->port(), "GET / HTTP/1.1\r\nHost: x\r\n\r\n" + std::string(2000, 'x')).empty());
    // A good handshake, then junk.
    std::string junk(1, '\x03');
    junk += std::string(1536, 'a') + std::string(1536, 'b') + "\xC9 this is no chunk";
    const std::string answered = raw_exchange(s.server->port(), junk);
    CHECK(answered.size() == 1 + 2 * 1536);
    CHECK(answered.substr(1 + 1536, 1536) == std::string(1536, 'a'));  // S2 is C1 again
    auto client = net::RtmpClient::connect(s.address("lake"));
    REQUIRE(client);
    CHECK((*client)->play());
}

TEST_CASE("messages that don't end, or are large before anything is proved, are refused", "[rtmp][hostile]") {
    const auto begin = [](std::uint8_t chunks, std::uint8_t type, std::size_t length, std::size_t part) {
        ByteVector out;
        put(out,
            {chunks, 0, 0, 0, static_cast<int>(length >> 16), static_cast<int>(length >> 8 & 255),
             static_cast<int>(length & 255), type, 1, 0, 0, 0},
            part);
        return out;
    };
    std::vector<Message> messages;
    ChunkReader small;
    CHECK_FALSE(small.push(begin(6, net::rtmp::kVideo, 1 << 20, 128), messages));
    ChunkReader proved;
    proved.expect_media(true);
    CHECK(proved.push(begin(6, net::rtmp::kVideo, 1 << 20, 128), messages));
    CHECK(proved.held() == 128);
    CHECK_FALSE(proved.push(begin(3, net::rtmp::kCommand, 1 << 20, 128), messages));  // commands stay small
    // Many that are begun and never go on.
    ChunkReader many;
    ByteVector all;
    for (std::uint8_t chunks = 2; chunks < 18; ++chunks) {
        const ByteVector one = begin(chunks, net::rtmp::kCommand, 16'000, 128);
        all.insert(all.end(), one.begin(), one.end());
        for (int i = 0; i < 100; ++i) put(all, {0xC0 | chunks}, 128);
    }
    CHECK_FALSE(many.push(all, messages));
    CHECK(many.held() < 3 * net::rtmp::kMostCommand + all.size());
    CHECK(messages.empty());
}

TEST_CASE("a player that sends commands without end is let go, and nothing piles up for it", "[rtmp][hostile]") {
    Server s;
    auto client = net::RtmpClient::connect(s.address("lake"));
    REQUIRE(client);
    REQUIRE((*client)->play());
    ByteVector call;
    net::rtmp::append_message(
        call, 3, {net::rtmp::kCommand, 0, 1, net::amf0::write({"noSuchCommand", 7.0, net::amf0::Value()})}, 128);
    ByteVector many;
    for (int i = 0; i < 200; ++i) many.insert(many.end(), call.begin(), call.end());
    bool open = true;
    for (int i = 0; i < 1000 && open; ++i) {
        open = ::send((*client)->socket(), many.data(), many.size(), MSG_NOSIGNAL) == static_cast<ssize_t>(many.size());
        std::this_thread::sleep_for(2ms);
    }
    CHECK_FALSE(open);
    // Others are served.
    auto other = net::RtmpClient::connect(s.address("lake"));
    REQUIRE(other);
    CHECK((*other)->play());
}

TEST_CASE("a publisher that sends nothing gives its key back", "[rtmp][hostile]") {
    net::FanOut fan_out;
    net::RtmpServerSettings settings = on_loopback(fan_out);
    settings.silence_limit = base::from_seconds(1);
    std::atomic<int> ended{0};
    struct Noted : net::RtmpPublication {
        std::atomic<int>* count;
        explicit Noted(std::atomic<int>* c) : count(c) {}
        ~Noted() override { ++*count; }
        void take(const Message&) override {}
    };
    settings.publish = [&](const net::RtmpRequest&, std::string&) { return std::make_unique<Noted>(&ended); };
    auto server = net::RtmpServer::start(std::move(settings));
    REQUIRE(server);
    auto client = net::RtmpClient::connect({"127.0.0.1", (*server)->port(), "house", "key"});
    REQUIRE(client);
    REQUIRE((*client)->publish());
    // Acknowledging is no publishing.
    ByteVector acknowledgement;
    net::rtmp::append_message(acknowledgement, 2, {net::rtmp::kAcknowledgement, 0, 0, {0, 0, 0, 1}}, 128);
    for (int i = 0; i < 200 && ended == 0; ++i) {
        ::send((*client)->socket(), acknowledgement.data(), acknowledgement.size(), MSG_NOSIGNAL);
        std::this_thread::sleep_for(25ms);
    }
    CHECK(ended == 1);
}

TEST_CASE("the oldest of those that neither play nor publish gives way", "[rtmp][hostile]") {
    net::FanOut fan_out;
    net::RtmpServerSettings settings = on_loopback(fan_out);
    settings.most_unproven_of_address = 3;
    auto server = net::RtmpServer::start(std::move(settings));
    REQUIRE(server);
    std::vector<std::unique_ptr<net::RtmpClient>> clients;
    for (int i = 0; i < 5; ++i) {
        auto client = net::RtmpClient::connect({"127.0.0.1", (*server)->port(), "house", "lake"});
        REQUIRE(client);
        clients.push_back(std::move(*client));
    }
    const auto open = [](net::RtmpClient& client) { return client.receive(200ms).has_value(); };
    CHECK_FALSE(open(*clients[0]));
    CHECK_FALSE(open(*clients[1]));
    CHECK(open(*clients[4]));
}

TEST_CASE("RTMP addresses are taken apart", "[rtmp]") {
    const auto plain = net::parse_rtmp_address("rtmp://192.0.2.7/house/lake");
    REQUIRE(plain);
    CHECK(plain->port == 1935);
    CHECK(plain->application == "house");
    CHECK(plain->name == "lake");
    const auto other = net::parse_rtmp_address("rtmp://[fd00::7]:1999/live/a/b?key=1");
    REQUIRE(other);
    CHECK(other->host == "fd00::7");
    CHECK(other->port == 1999);
    CHECK(other->name == "a/b?key=1");
    CHECK(other->text() == "rtmp://[fd00::7]:1999/live/a/b?key=1");
    for (const char* bad : {"http://x/a/b", "rtmp://", "rtmp://host", "rtmp://host/app", "rtmp://host/app/",
                            "rtmp://host:0/app/x", "rtmp://host:99999/a/b", "rtmp://[::1/a/b"}) {
        INFO(bad);
        const auto parsed = net::parse_rtmp_address(bad);
        REQUIRE_FALSE(parsed);
        CHECK(parsed.error().kind == ErrorKind::usage);
    }
}
