// What serving many clients costs the server's processor and memory, over loopback: files beside nginx, live HTTP,
// RTMP.
//
//   bench_serving files [GIGABYTES]     (4: read by 8 clients at once; beside nginx where it is installed)
//   bench_serving crowd [CLIENTS]       (1000 clients that take 4 Mbit/s each of one file)
//   bench_serving live [CLIENTS]        (500 clients of one live stream of 8 Mbit/s)
//   bench_serving rtmp [CLIENTS]        (300 players of one live stream of 5 Mbit/s)
//   bench_serving join                  (how long a joiner of a live stream waits for a whole picture)
//
// The server is a process of its own, whose processor time the system counts. Clients throw away what comes.
#include <fmt/format.h>
#include <netinet/in.h>
#include <poll.h>
#include <sys/epoll.h>
#include <sys/prctl.h>
#include <sys/resource.h>
#include <sys/socket.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <chrono>
#include <csignal>
#include <cstdlib>
#include <fstream>
#include <random>
#include <sstream>
#include <thread>

#include "base/atomic_file.hpp"
#include "codec/video_encoder.hpp"
#include "container/writer.hpp"
#include "net/rtmp_client.hpp"
#include "sample/test_card.hpp"

using namespace wavecrest;
using namespace std::chrono_literals;
using Steady = std::chrono::steady_clock;

namespace {

template <typename T>
T must(Result<T> result) {
    if (!result) {
        fmt::print(stderr, "{}: {}\n", result.error().where, result.error().what);
        std::_Exit(1);
    }
    return std::move(*result);
}

constexpr std::uint16_t kPort = 23080, kRtmpPort = 23935, kOther = 23081;
const base::Path kFolder = base::Path("/tmp") / fmt::format("wavecrest-bench-{}", ::getpid());

// Ten seconds: a real configuration and first picture, then bytes that no server looks into.
void make_film(const base::Path& path, std::int64_t rate_bps) {
    codec::VideoEncoderSettings settings;
    settings.width = 640;
    settings.height = 360;
    settings.frame_rate = {25, 1};
    auto encoder = must(codec::make_video_encoder(settings));
    sample::CardSettings look;
    look.width = 640;
    look.height = 360;
    look.frame_rate = {25, 1};
    std::vector<Packet> packets;
    Picture picture = sample::TestCard(look).draw(0);
    picture.duration = base::frames_to_time(1, {25, 1});
    if (!encoder->encode(picture, packets) || !encoder->flush(packets)) std::_Exit(1);
    const Packet first = packets.front();
    Track track = encoder->track();
    track.id = 1;
    auto file = must(base::AtomicFile::create(path, base::AtomicFile::IfExists::replace));
    auto writer = must(container::create_media("matroska", std::move(file), {track}, {}));
    std::minstd_rand random(1);
    for (int i = 0; i < 250; ++i) {
        Packet packet;
        packet.track = 1;
        packet.pts = packet.dts = base::frames_to_time(i, {25, 1});
        packet.duration = base::frames_to_time(1, {25, 1});
        packet.key = i % 25 == 0;
        ByteVector data(static_cast<std::size_t>(rate_bps / 8 / 25));
        for (auto& byte : data) byte = static_cast<std::uint8_t>(random() | 1);
        const auto length = static_cast<std::uint32_t>(data.size() - 4);
        for (std::size_t k = 0; k < 4; ++k) data[k] = static_cast<std::uint8_t>(length >> (24 - 8 * k));
        data[4] = packet.key ? 0x65 : 0x41;
        packet.data = i == 0 ? first.data : Bytes(std::move(data));
        if (!writer->write(packet)) std::_Exit(1);
    }
    if (!writer->finish()) std::_Exit(1);
}

// The program itself, until it is killed.
pid_t serve(const std::vector<std::string>& more) {
    std::vector<std::string> words = {
        (std::filesystem::read_symlink("/proc/self/exe").parent_path() / "wavecrest").string(),
        "stream",
        "run",
        (kFolder / "film.mkv").string(),
        "-q",
        "--port",
        fmt::format("{}", kPort),
        "--rtmp-port",
        fmt::format("{}", kRtmpPort)};
    words.insert(words.end(), more.begin(), more.end());
    const pid_t pid = ::fork();
    if (pid != 0) return pid;
    ::prctl(PR_SET_PDEATHSIG, SIGKILL);
    ::setenv("XDG_STATE_HOME", kFolder.c_str(), 1);
    if (std::freopen("/dev/null", "w", stdout) == nullptr) std::_Exit(1);
    std::vector<char*> pointers;
    for (std::string& word : words) pointers.push_back(word.data());
    pointers.push_back(nullptr);
    ::execv(pointers[0], pointers.data());
    std::_Exit(1);
}

struct Usage {
    double processor = 0;  // seconds
    double resident_mb = 0;
};
// Of a process and its children (nginx has workers; so has the program).
Usage usage_of(pid_t pid) {
    Usage usage;
    std::vector<pid_t> all = {pid};
    std::ifstream children(fmt::format("/proc/{}/task/{}/children", pid, pid));
    for (pid_t child = 0; children >> child;) all.push_back(child);
    for (const pid_t one : all) {
        std::ifstream stat(fmt::format("/proc/{}/stat", one));
        std::string text((std::istreambuf_iterator<char>(stat)), {});
        std::istringstream fields(text.substr(text.rfind(')') + 2));
        std::string word;
        for (int i = 3; i <= 15 && fields >> word; ++i) {
            if (i == 14 || i == 15) usage.processor += std::stod(word) / static_cast<double>(::sysconf(_SC_CLK_TCK));
        }
        // What processes share counts once.
        std::ifstream memory(fmt::format("/proc/{}/smaps_rollup", one));
        for (std::string line; std::getline(memory, line);) {
            if (line.starts_with("Pss:")) usage.resident_mb += std::stod(line.substr(4)) * 1024 / 1e6;
        }
    }
    return usage;
}
void end(pid_t pid) {
    ::kill(pid, SIGKILL);
    ::waitpid(pid, nullptr, 0);
}

int connect_to(std::uint16_t port, int receive_buffer = 0) {
    for (int attempt = 0; attempt < 100; ++attempt) {
        const int handle = ::socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0);
        if (receive_buffer > 0) ::setsockopt(handle, SOL_SOCKET, SO_RCVBUF, &receive_buffer, sizeof receive_buffer);
        sockaddr_in address{};
        address.sin_family = AF_INET;
        address.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
        address.sin_port = htons(port);
        if (::connect(handle, reinterpret_cast<sockaddr*>(&address), sizeof address) == 0) return handle;
        ::close(handle);
        std::this_thread::sleep_for(50ms);
    }
    fmt::print(stderr, "nothing answers at port {}\n", port);
    std::_Exit(1);
}
void ask(int handle, const std::string& path) {
    const std::string request = fmt::format("GET {} HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n", path);
    if (::send(handle, request.data(), request.size(), MSG_NOSIGNAL) < 0) std::_Exit(1);
}

// Bytes that all of them got within a time; data is dropped by the system, uncopied.
std::uint64_t drain(const std::vector<int>& handles, std::chrono::milliseconds time) {
    const int poll_handle = ::epoll_create1(EPOLL_CLOEXEC);
    for (const int handle : handles) {
        epoll_event event{};
        event.events = EPOLLIN;
        event.data.fd = handle;
        ::epoll_ctl(poll_handle, EPOLL_CTL_ADD, handle, &event);
    }
    std::uint64_t all = 0;
    std::size_t open = handles.size();
    const auto until = Steady::now() + time;
    std::vector<epoll_event> events(256);
    while (Steady::now() < until && open > 0) {
        const int n = ::epoll_wait(poll_handle, events.data(), 256, 20);
        for (int i = 0; i < n; ++i) {
            const int handle = events[static_cast<std::size_t>(i)].data.fd;
            const ssize_t got = ::recv(handle, nullptr, 1 << 20, MSG_DONTWAIT | MSG_TRUNC);
            if (got > 0) {
                all += static_cast<std::uint64_t>(got);
            } else if (got == 0) {
                ::epoll_ctl(poll_handle, EPOLL_CTL_DEL, handle, nullptr);
                --open;
            }
        }
    }
    ::close(poll_handle);
    return all;
}

void report_live(const char* what, int clients, pid_t server, const std::vector<int>& handles, double rate_bps,
                 double limit) {
    drain(handles, 3000ms);  // what was cached comes at once
    const Usage before = usage_of(server);
    const auto start = Steady::now();
    const std::uint64_t bytes = drain(handles, 10'000ms);
    const double took = std::chrono::duration<double>(Steady::now() - start).count();
    const Usage after = usage_of(server);
    fmt::print(
        "{} {} of {:.1f} Mbit/s: {:.0f} Mbit/s in all ({:.1f} % of wanted), server {:.1f} % of one core (limit "
        "{:.0f}), "
        "{:.0f} MB\n",
        clients, what, rate_bps / 1e6, static_cast<double>(bytes) * 8 / took / 1e6,
        100 * static_cast<double>(bytes) * 8 / took / (rate_bps * clients),
        100 * (after.processor - before.processor) / took, limit, after.resident_mb);
}

struct FileRun {
    double gigabytes_a_second = 0, processor_a_gigabyte = 0;
};
FileRun fetch_files(pid_t server, std::uint16_t port, const std::string& path, double gigabytes) {
    const Usage before = usage_of(server);
    const auto start = Steady::now();
    double fetched = 0;
    while (fetched < gigabytes * 1e9) {
        std::vector<int> handles;
        for (int i = 0; i < 8; ++i) {
            handles.push_back(connect_to(port));
            ask(handles.back(), path);
        }
        fetched += static_cast<double>(drain(handles, 60'000ms));
        for (const int handle : handles) ::close(handle);
    }
    const double took = std::chrono::duration<double>(Steady::now() - start).count();
    return {fetched / 1e9 / took, (usage_of(server).processor - before.processor) / (fetched / 1e9)};
}

pid_t start_nginx() {
    if (::access("/usr/sbin/nginx", X_OK) != 0) return 0;
    std::ofstream conf(kFolder / "nginx.conf");
    conf << "daemon off; worker_processes 2; error_log " << (kFolder / "error.log").string() << "; pid "
         << (kFolder / "nginx.pid").string()
         << ";\nevents { worker_connections 2048; }\nhttp { access_log off; sendfile on; "
         << "sendfile_max_chunk 512k; client_body_temp_path " << kFolder.string() << "; proxy_temp_path "
         << kFolder.string() << "; fastcgi_temp_path " << kFolder.string() << "; uwsgi_temp_path " << kFolder.string()
         << "; scgi_temp_path " << kFolder.string() << "; server { listen 127.0.0.1:" << kOther << "; root "
         << kFolder.string() << "; } }\n";
    conf.close();
    const pid_t pid = ::fork();
    if (pid != 0) return pid;
    ::prctl(PR_SET_PDEATHSIG, SIGKILL);
    ::execl("/usr/sbin/nginx", "nginx", "-c", (kFolder / "nginx.conf").c_str(), nullptr);
    std::_Exit(1);
}

}  // namespace

int main(int argc, char** argv) {
    const std::string what = argc > 1 ? argv[1] : "live";
    const double number = argc > 2 ? std::atof(argv[2]) : 0;
    rlimit files{8192, 8192};
    ::setrlimit(RLIMIT_NOFILE, &files);
    ::signal(SIGPIPE, SIG_IGN);
    std::filesystem::create_directories(kFolder);
    const base::Path film = kFolder / "film.mkv";
    const auto count = [&](int usual) { return number > 0 ? static_cast<int>(number) : usual; };
    std::vector<int> handles;
    if (what == "live" || what == "join") {
        make_film(film, 7'000'000);
        const pid_t server = serve({"--delivery", "live", "--loop", "--bitrate", "8 Mbit/s"});
        for (int i = 0; i < 100; ++i) {
            const int one = connect_to(kPort);
            ::close(one);
            if (i > 20) break;
            std::this_thread::sleep_for(100ms);
        }
        if (what == "live") {
            for (int i = 0; i < count(500); ++i) {
                handles.push_back(connect_to(kPort));
                ask(handles.back(), "/film-live.ts");
            }
            report_live("live clients", count(500), server, handles, 8e6, 40);
        } else {
            // A keyframe a second, 35 kB a picture: its bytes are there when so many have come.
            std::vector<double> waits;
            for (int i = 0; i < 20; ++i) {
                std::this_thread::sleep_for(137ms);
                const int one = connect_to(kPort);
                const auto start = Steady::now();
                ask(one, "/film-live.ts");
                std::size_t got = 0;
                while (got < 45'000) {
                    pollfd ready{one, POLLIN, 0};
                    ::poll(&ready, 1, 5000);
                    const ssize_t n = ::recv(one, nullptr, 1 << 20, MSG_DONTWAIT | MSG_TRUNC);
                    if (n <= 0) break;
                    got += static_cast<std::size_t>(n);
                }
                waits.push_back(std::chrono::duration<double>(Steady::now() - start).count());
                ::close(one);
            }
            std::sort(waits.begin(), waits.end());
            fmt::print(
                "first picture on joining: {:.0f} ms in the middle, {:.0f} ms at worst (keyframes 1 s apart; limit "
                "1200)\n",
                waits[10] * 1000, waits.back() * 1000);
        }
        end(server);
    } else if (what == "rtmp") {
        make_film(film, 5'000'000);
        const pid_t server = serve({"--delivery", "rtmp", "--loop"});
        ::close(connect_to(kRtmpPort));
        std::vector<std::unique_ptr<net::RtmpClient>> clients;
        for (int i = 0; i < count(300); ++i) {
            auto client = must(net::RtmpClient::connect({"127.0.0.1", kRtmpPort, "house", "film"}));
            if (!client->play()) std::_Exit(1);
            handles.push_back(client->socket());
            clients.push_back(std::move(client));
            // Players read from the beginning: who doesn't falls behind and is moved on, again and again.
            drain(handles, 1ms);
        }
        report_live("RTMP players", count(300), server, handles, 5e6, 20);
        handles.clear();
        end(server);
    } else if (what == "files") {
        make_film(film, 800'000'000);  // a gigabyte
        const pid_t server = serve({"--delivery", "file"});
        const double gigabytes = number > 0 ? number : 4;
        fetch_files(server, kPort, "/film.mkv", 1);
        const pid_t nginx = start_nginx();
        if (nginx > 0) fetch_files(nginx, kOther, "/film.mkv", 1);
        FileRun ours, theirs;
        // In turns: what else the machine does meets both.
        for (int round = 0; round < 4; ++round) {
            const FileRun a = fetch_files(server, kPort, "/film.mkv", gigabytes);
            ours.gigabytes_a_second += a.gigabytes_a_second / 4;
            ours.processor_a_gigabyte += a.processor_a_gigabyte / 4;
            if (nginx == 0) continue;
            const FileRun b = fetch_files(nginx, kOther, "/film.mkv", gigabytes);
            theirs.gigabytes_a_second += b.gigabytes_a_second / 4;
            theirs.processor_a_gigabyte += b.processor_a_gigabyte / 4;
        }
        fmt::print("files: {:.2f} GB/s, {:.3f} processor seconds a GB\n", ours.gigabytes_a_second,
                   ours.processor_a_gigabyte);
        if (nginx > 0) {
            fmt::print(
                "nginx: {:.2f} GB/s, {:.3f}: {:.2f} times its processor time (limit 1.05), {:.2f} times its throughput "
                "(limit 0.95)\n",
                theirs.gigabytes_a_second, theirs.processor_a_gigabyte,
                ours.processor_a_gigabyte / theirs.processor_a_gigabyte,
                ours.gigabytes_a_second / theirs.gigabytes_a_second);
            ::kill(nginx, SIGTERM);
            ::waitpid(nginx, nullptr, 0);
        } else {
            fmt::print("nginx isn't here to compare with: apt-get install nginx-light\n");
        }
        end(server);
    } else if (what == "crowd") {
        make_film(film, 400'000'000);
        const pid_t server = serve({"--delivery", "file"});
        for (int i = 0; i < count(1000); ++i) {
            handles.push_back(connect_to(kPort, 64 << 10));
            ask(handles.back(), "/film.mkv");
        }
        // Each takes 50 kB every tenth of a second.
        const Usage before = usage_of(server);
        const auto start = Steady::now();
        std::uint64_t bytes = 0;
        for (int turn = 0; turn < 100; ++turn) {
            for (const int handle : handles) {
                const ssize_t got = ::recv(handle, nullptr, 50'000, MSG_DONTWAIT | MSG_TRUNC);
                if (got > 0) bytes += static_cast<std::uint64_t>(got);
            }
            std::this_thread::sleep_until(start + (turn + 1) * 100ms);
        }
        const double took = std::chrono::duration<double>(Steady::now() - start).count();
        const Usage after = usage_of(server);
        std::ifstream sockets("/proc/net/sockstat");
        double pages = 0;
        for (std::string line; std::getline(sockets, line);) {
            if (const std::size_t at = line.find(" mem "); line.starts_with("TCP:") && at != std::string::npos)
                pages = std::atof(line.c_str() + at + 5);
        }
        fmt::print(
            "{} clients of a file at 4 Mbit/s: {:.0f} Mbit/s in all, server {:.1f} % of one core, {:.1f} MB resident "
            "(limit 24), {:.0f} MB of TCP buffers on the whole machine\n",
            handles.size(), static_cast<double>(bytes) * 8 / took / 1e6,
            100 * (after.processor - before.processor) / took, after.resident_mb, pages * 4096 / 1e6);
        end(server);
    } else {
        fmt::print(stderr, "files, crowd, live, rtmp or join\n");
    }
    for (const int handle : handles) ::close(handle);
    std::filesystem::remove_all(kFolder);
    return 0;
}
