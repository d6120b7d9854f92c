#include "site/capacity.hpp"

#include <arpa/inet.h>
#include <fmt/format.h>
#include <netinet/in.h>
#include <sys/socket.h>
#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <chrono>
#include <ctime>
#include <set>
#include <thread>

#include "base/atomic_file.hpp"
#include "container/writer.hpp"
#include "host/machine.hpp"
#include "host/mounts.hpp"
#include "host/network.hpp"
#include "profile/profile.hpp"
#include "stream/service.hpp"
#include "transcode/plan.hpp"

namespace wavecrest::site {
namespace {

using Steady = std::chrono::steady_clock;

double seconds_since(Steady::time_point start) {
    return std::chrono::duration<double>(Steady::now() - start).count();
}

// A clip over and over, until a time comes.
class LoopedClip : public PacketSource {
  public:
    LoopedClip(const measure::Clip& clip, Steady::time_point until) : clip_(clip), until_(until) {
        tracks_.push_back(clip.track);
        tracks_.front().id = 1;
        for (const Packet& packet : clip.packets) length_ = std::max(length_, packet.pts + packet.duration);
    }
    const std::vector<Track>& tracks() const override { return tracks_; }
    const std::vector<Chapter>& chapters() const override { return chapters_; }
    Time duration() const override { return {}; }
    Result<std::optional<Packet>> read() override {
        if (next_ == clip_.packets.size()) next_ = 0, begin_ += length_;
        if (next_ == 0 && begin_.count() > 0 && Steady::now() >= until_) return std::optional<Packet>{};
        Packet packet = clip_.packets[next_++];
        packet.track = 1;
        packet.pts += begin_;
        packet.dts += begin_;
        return std::optional(std::move(packet));
    }
    Status seek(Time /*time*/) override {
        next_ = 0;
        return {};
    }
    const std::vector<Problem>& problems() const override { return problems_; }

  private:
    const measure::Clip& clip_;
    Steady::time_point until_;
    std::vector<Track> tracks_;
    std::vector<Chapter> chapters_;
    std::vector<Problem> problems_;
    Time length_{}, begin_{};
    std::size_t next_ = 0;
};

class Nowhere : public PacketSink {
  public:
    Status write(const Packet& /*packet*/) override { return {}; }
    Status finish() override { return {}; }
};

// Several of one kind at the same time, as fast as they go.
Result<measure::LiveSpeed> try_live(const measure::Clip& clip, const std::string& profile_name,
                                    const measure::Capacity& capacity, double seconds, const Cancel& cancel) {
    WAVECREST_TRY_ASSIGN(profile, profile::find(profile_name));
    transcode::PlanSource from;
    from.tracks = {clip.track};
    from.tracks.front().id = 1;
    from.open = [&]() -> Result<std::unique_ptr<PacketSource>> {
        return std::make_unique<LoopedClip>(clip, Steady::now());
    };
    transcode::PlanRequest request;
    request.profiles = {std::move(profile)};
    request.audio = "none";
    WAVECREST_TRY_ASSIGN(plan, transcode::plan_encode(from, request));
    const transcode::GraphSettings& graph = plan.graph;

    const int count = std::max(2, capacity.processors);
    const auto start = Steady::now();
    const auto until = start + std::chrono::duration_cast<Steady::duration>(std::chrono::duration<double>(seconds));
    std::vector<Result<transcode::GraphResult>> results(static_cast<std::size_t>(count),
                                                        Result<transcode::GraphResult>(transcode::GraphResult{}));
    std::vector<std::jthread> threads;
    for (auto& result : results) {
        threads.emplace_back([&] {
            LoopedClip source(clip, until);
            const auto sink = [](std::size_t, const std::vector<Track>&) -> Result<std::unique_ptr<PacketSink>> {
                return std::make_unique<Nowhere>();
            };
            result = transcode::run(source, graph, sink, {}, cancel);
        });
    }
    threads.clear();
    const double passed = seconds_since(start);
    std::int64_t pictures = 0;
    for (auto& result : results) {
        if (!result) return fail(std::move(result).error());
        pictures += result->pictures;
    }
    const double rate = graph.video_encodes.front().encode.frame_rate.value();
    measure::LiveSpeed speed;
    speed.source = fmt::format("{}x{} {}, {:.4g} fps", clip.track.width, clip.track.height,
                               media::display_name(clip.track.codec), clip.track.frame_rate.value());
    speed.profile = profile_name;
    speed.at_once = static_cast<double>(pictures) / passed / rate;
    if (const auto load = measure::load_of(capacity, graph); load && load->processor > 0)
        speed.predicted = capacity.processors / load->processor;
    return speed;
}

// A folder of one's own that goes with the object.
class ScratchFolder {
  public:
    static Result<std::unique_ptr<ScratchFolder>> create() {
        std::error_code error;
        std::string name = (std::filesystem::temp_directory_path(error) / "wavecrest-speed-XXXXXX").string();
        if (error || ::mkdtemp(name.data()) == nullptr)
            return fail(ErrorKind::machine, "no temporary folder can be made", name,
                        "set TMPDIR to a folder with space");
        return std::unique_ptr<ScratchFolder>(new ScratchFolder(name));
    }
    ~ScratchFolder() {
        std::error_code error;
        std::filesystem::remove_all(path_, error);
    }
    ScratchFolder(const ScratchFolder&) = delete;
    ScratchFolder& operator=(const ScratchFolder&) = delete;
    const base::Path& path() const { return path_; }

  private:
    explicit ScratchFolder(base::Path path) : path_(std::move(path)) {}
    base::Path path_;
};

// A file of a clip over and over, of some tens of megabytes.
Status write_film(const measure::Clip& clip, const base::Path& path) {
    WAVECREST_TRY_ASSIGN(file, base::AtomicFile::create(path, base::AtomicFile::IfExists::replace));
    LoopedClip source(clip, Steady::time_point::max());
    WAVECREST_TRY_ASSIGN(writer, container::create_media("matroska", std::move(file), source.tracks(), {}));
    for (std::size_t bytes = 0; bytes < (32 << 20);) {
        WAVECREST_TRY_ASSIGN(packet, source.read());
        bytes += packet->data.size();
        WAVECREST_TRY(writer->write(*packet));
    }
    return writer->finish();
}

// Bytes that come of one address until a time, over connections one after the other.
std::uint64_t fetch(std::uint16_t port, const std::string& path, Steady::time_point until) {
    const std::string request = fmt::format("GET {} HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\n\r\n", path);
    std::uint64_t bytes = 0;
    std::vector<char> buffer(256 << 10);
    while (Steady::now() < until) {
        const int handle = ::socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0);
        if (handle < 0) break;
        sockaddr_in to{};
        to.sin_family = AF_INET;
        to.sin_port = htons(port);
        to.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
        const timeval patience{1, 0};
        ::setsockopt(handle, SOL_SOCKET, SO_RCVTIMEO, &patience, sizeof(patience));
        bool any = false;
        if (::connect(handle, reinterpret_cast<const sockaddr*>(&to), sizeof(to)) == 0 &&
            ::send(handle, request.data(), request.size(), MSG_NOSIGNAL) > 0) {
            while (Steady::now() < until) {
                const ssize_t n = ::recv(handle, buffer.data(), buffer.size(), 0);
                if (n <= 0) break;
                bytes += static_cast<std::uint64_t>(n);
                any = true;
            }
        }
        ::close(handle);
        if (!any) break;
    }
    return bytes;
}

// What the server sends of a file in memory to several clients.
Result<double> try_server(const measure::Clip& clip, double seconds) {
    WAVECREST_TRY_ASSIGN(folder, ScratchFolder::create());
    stream::StreamItem item;
    item.name = "speed";
    item.file = folder->path() / "speed.mkv";
    WAVECREST_TRY(write_film(clip, item.file.path()));
    WAVECREST_TRY_ASSIGN(ready, stream::prepare({item}));
    stream::ServiceSettings settings;
    settings.address = "127.0.0.1";
    settings.port = 0;
    const std::string path = ready.front().path;
    WAVECREST_TRY_ASSIGN(service, stream::Service::start(std::move(ready), settings));
    const auto start = Steady::now();
    const auto until = start + std::chrono::duration_cast<Steady::duration>(std::chrono::duration<double>(seconds));
    std::atomic<std::uint64_t> bytes = 0;
    {
        std::vector<std::jthread> clients;
        for (int i = 0; i < 8; ++i) clients.emplace_back([&] { bytes += fetch(service->port(), path, until); });
    }
    return static_cast<double>(bytes.load()) * 8 / seconds_since(start);
}

const measure::Clip* find_clip(const std::vector<measure::Clip>& clips, Codec codec, int height) {
    for (const measure::Clip& clip : clips) {
        if (clip.track.codec == codec && clip.track.height == height && clip.track.bit_depth <= 8) return &clip;
    }
    return nullptr;
}

void try_drives(const MeasureSettings& settings, measure::Capacity& capacity) {
    std::set<std::string> seen;
    const auto mounted = [](const base::Path& path) {
        const auto mount = host::mount_of(path);
        return mount ? mount->device + " at " + mount->at : std::string();
    };
    for (const base::Path& folder : settings.folders) {
        measure::DriveSpeed speed;
        speed.folder = base::absolute_path(folder).lexically_normal().string();
        speed.mounted = mounted(folder);
        if (const auto trial = host::try_drive(folder)) speed.read = trial->read, speed.write = trial->write;
        seen.insert(speed.mounted);
        capacity.drives.push_back(std::move(speed));
    }
    for (const base::Path& film : settings.films) {
        measure::DriveSpeed speed;
        speed.folder = base::absolute_path(film).parent_path().string();
        speed.mounted = mounted(film);
        if (!seen.insert(speed.mounted).second) continue;
        speed.read = host::read_speed(film).value_or(0);
        capacity.drives.push_back(std::move(speed));
    }
}

std::vector<measure::Port> ports() {
    std::vector<measure::Port> all;
    for (const host::Address& address : host::addresses()) {
        const bool known =
            std::any_of(all.begin(), all.end(), [&](const auto& one) { return one.interface == address.interface; });
        if (!address.loopback && !known)
            all.push_back({address.interface, host::wire_speed(address.interface).value_or(0)});
    }
    return all;
}

std::string local_minute() {
    const std::time_t now = std::time(nullptr);
    std::tm local{};
    ::localtime_r(&now, &local);
    char text[32];
    std::strftime(text, sizeof(text), "%Y-%m-%d %H:%M", &local);
    return text;
}

}  // namespace

Result<measure::Capacity> measure_machine(const MeasureSettings& settings, const measure::TellProgress& tell,
                                          const Cancel& cancel) {
    measure::Capacity capacity = measure::this_machine();
    capacity.at = local_minute();
    const auto within = [&](double from, double to) -> measure::TellProgress {
        if (!tell) return {};
        return [&tell, from, to](double done, const std::string& next) { tell(from + done * (to - from), next); };
    };
    WAVECREST_TRY_ASSIGN(clips, measure::measure_codecs(settings.speeds, capacity, within(0, 0.85), cancel));
    const auto next = [&](double done, const char* what) -> Status {
        if (tell) tell(done, what);
        return cancel.requested() ? Status(base::interrupted()) : Status{};
    };
    struct Kind {
        Codec codec;
        int height;
        const char* profile;
    };
    constexpr Kind kKinds[] = {{Codec::mpeg2, 480, "small-screen"},
                               {Codec::mpeg2, 480, "full-picture"},
                               {Codec::h264, 1080, "small-screen"},
                               {Codec::h264, 1080, "full-picture"}};
    double done = 0.85;
    for (const Kind& kind : kKinds) {
        WAVECREST_TRY(next(done, "live transcodes at the same time"));
        done += 0.03;
        const measure::Clip* clip = find_clip(clips, kind.codec, kind.height);
        if (clip == nullptr) continue;
        WAVECREST_TRY_ASSIGN(speed, try_live(*clip, kind.profile, capacity, settings.live_seconds, cancel));
        capacity.live.push_back(std::move(speed));
    }
    WAVECREST_TRY(next(0.97, "server"));
    if (const measure::Clip* clip = find_clip(clips, Codec::h264, settings.speeds.sizes.back().height)) {
        WAVECREST_TRY_ASSIGN(bps, try_server(*clip, settings.server_seconds));
        capacity.server_bps = bps;
    }
    WAVECREST_TRY(next(0.98, "drives"));
    try_drives(settings, capacity);
    capacity.ports = ports();
    capacity.hardware = host::video_hardware();
    return capacity;
}

bool TranscodeDemand::carried(const measure::Capacity& capacity) const {
    return processors <= capacity.processors * measure::kReserve &&
           std::all_of(streams.begin(), streams.end(),
                       [](const Stream& one) { return one.load.alone <= measure::kReserve; });
}

TranscodeDemand demand_of(const measure::Capacity& capacity, const std::vector<NamedGraph>& graphs) {
    TranscodeDemand demand;
    for (const NamedGraph& one : graphs) {
        const auto load = measure::load_of(capacity, one.graph);
        if (!load) {
            demand.unknown.push_back(one.name);
            continue;
        }
        demand.processors += load->processor;
        demand.streams.push_back({one.name, one.profile, *load});
    }
    return demand;
}

}  // namespace wavecrest::site
