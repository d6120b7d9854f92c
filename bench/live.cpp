// Live streams by UDP: how many one machine paces, how late their datagrams leave, and what it costs.
//
//   bench_live [STREAMS] [SECONDS]      (100 streams of 8 Mbit/s, 10 s)
//
// Prints: datagrams and their lateness (99th percentile, worst; the figure to reach is 1 ms on a machine that is the
// program's own), beside that of a bare timer with a higher priority in the same seconds: what the machine itself adds,
// as where others share its processors. And processor time as a part of one core, beside that of sending as many
// datagrams of this size as fast as the system takes them.
#include <fmt/format.h>
#include <unistd.h>

#include <pthread.h>

#include <algorithm>
#include <atomic>
#include <chrono>
#include <cstdlib>
#include <filesystem>
#include <thread>

#include "base/atomic_file.hpp"
#include "codec/video_encoder.hpp"
#include "container/writer.hpp"
#include "host/machine.hpp"
#include "sample/test_card.hpp"
#include "stream/live.hpp"

using namespace wavecrest;

namespace {

template <typename T>
T must(Result<T> result) {
    if (!result) {
        fmt::print(stderr, "{}: {}\n", result.error().where, result.error().what);
        std::abort();
    }
    return std::move(*result);
}

// Ten seconds of the test card.
void make_film(const base::Path& path) {
    codec::VideoEncoderSettings settings;
    settings.width = 640;
    settings.height = 360;
    settings.frame_rate = {25, 1};
    settings.effort = 1;
    settings.keyframe_distance = base::from_seconds(1);
    auto encoder = must(codec::make_video_encoder(settings));
    sample::CardSettings look;
    look.width = 640;
    look.height = 360;
    look.frame_rate = {25, 1};
    const sample::TestCard card(look);
    std::vector<Packet> packets;
    for (int i = 0; i < 250; ++i) {
        Picture picture = card.draw(i);
        picture.pts = base::frames_to_time(i, {25, 1});
        picture.duration = base::frames_to_time(1, {25, 1});
        if (!encoder->encode(picture, packets)) std::abort();
    }
    if (!encoder->flush(packets)) std::abort();
    auto file = must(base::AtomicFile::create(path, base::AtomicFile::IfExists::replace));
    Track track = encoder->track();
    track.id = 1;
    auto writer = must(container::create_media("matroska", std::move(file), {track}, {}));
    for (Packet& packet : packets) {
        packet.track = 1;
        if (!writer->write(packet)) std::abort();
    }
    if (!writer->finish()) std::abort();
}

// Wakes every millisecond and notes how late.
class BareTimer {
  public:
    BareTimer()
        : thread_([this] {
              sched_param priority{};
              priority.sched_priority = 20;
              ::pthread_setschedparam(::pthread_self(), SCHED_FIFO, &priority);
              auto due = std::chrono::steady_clock::now();
              while (!stopping_) {
                  due += std::chrono::milliseconds(1);
                  std::this_thread::sleep_until(due);
                  late_.push_back(
                      std::chrono::duration<double, std::milli>(std::chrono::steady_clock::now() - due).count());
              }
          }) {}
    // Ends it. The 99th percentile and the worst, in milliseconds.
    std::pair<double, double> finish() {
        stopping_ = true;
        thread_.join();
        std::sort(late_.begin(), late_.end());
        return late_.empty() ? std::pair(0.0, 0.0) : std::pair(late_[late_.size() * 99 / 100], late_.back());
    }

  private:
    std::atomic<bool> stopping_{false};
    std::vector<double> late_;
    std::thread thread_;
};

}  // namespace

int main(int argc, char** argv) {
    const int count = argc > 1 ? std::atoi(argv[1]) : 100;
    const double seconds = argc > 2 ? std::atof(argv[2]) : 10;
    const base::Path folder = std::filesystem::temp_directory_path() / fmt::format("wavecrest-bench-{}", ::getpid());
    std::filesystem::create_directories(folder);
    const base::Path film = folder / "film.mkv";
    make_film(film);

    // Somebody has the ports, or the system answers every datagram with an error.
    std::vector<std::unique_ptr<net::UdpReceiver>> ends;
    std::vector<stream::LiveItem> items;
    for (int i = 0; i < count; ++i) {
        const auto address = must(net::parse_udp_address(fmt::format("127.0.0.1:{}", 21000 + i)));
        ends.push_back(must(net::UdpReceiver::open(address)));
        stream::LiveItem item;
        item.name = fmt::format("stream {}", i);
        item.parts = {{film}};
        item.targets = {{address, i % 2 == 1}};
        item.loop = true;
        item.rate_bps = 8'000'000;
        items.push_back(std::move(item));
    }
    auto ready = must(stream::prepare_live(items));
    double sent_bytes = 0, took = 0, used = 0;
    std::uint64_t datagrams = 0;
    {
        const auto service = must(stream::LiveService::start(std::move(ready), {}));
        // What fills the buffers at the start is not the running cost.
        std::this_thread::sleep_for(std::chrono::seconds(3));
        service->restart_lateness();
        const auto before = service->figures();
        const double begun = host::processor_seconds();
        BareTimer timer;
        const auto start = std::chrono::steady_clock::now();
        std::this_thread::sleep_for(std::chrono::duration<double>(seconds));
        took = std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
        used = host::processor_seconds() - begun;
        const auto [bare_99, bare_worst] = timer.finish();
        const auto after = service->figures();
        for (std::size_t i = 0; i < after.streams.size(); ++i) {
            sent_bytes += static_cast<double>(after.streams[i].bytes - before.streams[i].bytes);
            datagrams += after.streams[i].datagrams - before.streams[i].datagrams;
        }
        std::uint64_t stalls = 0;
        for (const auto& s : after.streams) stalls += s.stalls;
        fmt::print("{} streams of 8 Mbit/s: {:.1f} Mbit/s, {:.0f} datagrams a second\n", count,
                   sent_bytes * 8 / took / 1e6, static_cast<double>(datagrams) / took);
        fmt::print(
            "lateness: 99 of 100 within {:.2f} ms (limit 1), worst {:.1f} ms; of a bare timer beside it: {:.2f} ms, "
            "worst "
            "{:.1f} ms\n{} stalls; real-time scheduling {}\n",
            base::to_seconds(after.late_99) * 1000, base::to_seconds(after.latest) * 1000, bare_99, bare_worst, stalls,
            after.real_time ? "granted" : "refused");
    }
    // The bare calls, as fast as they go.
    auto sender = must(net::UdpSender::open({}));
    const ByteVector bytes(1316, 0x47);
    const auto to = must(net::parse_udp_address("127.0.0.1:21000"));
    const std::vector<net::UdpSender::Datagram> batch(38, {&to, bytes});
    const double begun = host::processor_seconds();
    std::uint64_t sent = 0;
    while (sent < datagrams) {
        sender->send(batch);
        sent += batch.size();
    }
    const double bare = host::processor_seconds() - begun;
    fmt::print("processor: {:.1f} % of one core, {:.2f} times what the bare calls to send as much take\n",
               100 * used / took, used / bare);
    std::filesystem::remove_all(folder);
    return 0;
}
