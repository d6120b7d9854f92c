#include "standin/renderer.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <set>
#include <thread>

#include "base/cancel.hpp"
#include "base/clock.hpp"
#include "base/mutex.hpp"
#include "base/units.hpp"
#include "container/mp4_reader.hpp"
#include "container/reader.hpp"
#include "measure/playback.hpp"
#include "net/http_client.hpp"
#include "net/http_source.hpp"
#include "net/shaped_link.hpp"
#include "upnp/device_host.hpp"
#include "upnp/didl.hpp"
#include "upnp/protocol_info.hpp"
#include "upnp/renderer.hpp"
#include "upnp/ssdp.hpp"
#include "verify/checks.hpp"
#include "verify/film.hpp"

namespace wavecrest::standin {
namespace {

using namespace std::chrono_literals;
using upnp::Arguments;
using upnp::Fault;
using Acted = tl::expected<Arguments, Fault>;

constexpr std::pair<const char*, RendererFault> kFaults[] = {{"slow", RendererFault::slow},
                                                             {"wrong-state", RendererFault::wrong_state},
                                                             {"stops-at-seek", RendererFault::stops_at_seek},
                                                             {"false-claims", RendererFault::false_claims}};

tl::unexpected<Fault> refuse(int code, std::string description) {
    return tl::unexpected(Fault{code, std::move(description)});
}

std::string clock_text(Time time) {
    const std::string text = upnp::format_duration(time);
    return text.substr(0, text.find('.'));
}

// What it says it takes: media types, as devices do; nothing of levels or rates.
std::string sink_of(const device::Device& device, bool everything) {
    std::set<std::string> types;
    for (const std::string& one : device.containers) {
        types.insert(container::media_type(one));
        if (one == "mp4" && !device.audio.empty()) types.insert("audio/mp4");
    }
    if (everything)
        types = {"video/mp4", "video/matroska", "video/webm", "video/mp2t", "video/mpeg", "audio/mpeg", "audio/flac"};
    std::string list;
    for (const std::string& one : types) list += fmt::format("{}http-get:*:{}:*", list.empty() ? "" : ",", one);
    return list;
}

Result<verify::Film> film_at(const net::Url& url, const Cancel& cancel) {
    WAVECREST_TRY_ASSIGN(supply, verify::supply_of(url.text(), {}, cancel));
    WAVECREST_TRY_ASSIGN(bytes, supply.file());
    // An index tells all, without reading the rest.
    if (const auto movie = container::read_mp4(*bytes)) return verify::film_of(*movie);
    return verify::learn_film(supply, cancel);
}

// Why a device can't play a film; empty: it can.
std::string obstacle(const device::Device& device, const verify::Film& film) {
    for (const device::Check& check : device::judge(device, film.container, film.tracks, 0)) {
        if (check.verdict == device::Verdict::fail) return fmt::format("{} {}", check.name, check.measured);
    }
    return "";
}

class RunningRenderer : public Renderer {
  public:
    explicit RunningRenderer(RendererSettings settings) : settings_(std::move(settings)) {}

    Status open() {
        upnp::DeviceDescription description;
        description.type = "urn:schemas-upnp-org:device:MediaRenderer:1";
        description.name = settings_.name;
        description.manufacturer = "Wavecrest";
        description.model = fmt::format("Stand-in renderer ({})", settings_.device.name);
        description.udn = upnp::udn_from("standin renderer " + settings_.name);
        std::vector<upnp::HostedService> services;
        const auto serve = [&](upnp::ServiceSpec spec, Acted (RunningRenderer::*act)(const upnp::Action&),
                               std::function<Arguments()> state) {
            const auto acting = [this, act](const upnp::Action& action, const net::HttpRequest&) -> Acted {
                if (settings_.fault == RendererFault::slow) std::this_thread::sleep_for(2s);
                return (this->*act)(action);
            };
            services.push_back({std::move(spec), acting, std::move(state)});
        };
        const auto last_change = [this](bool rendering) {
            const base::MutexLock lock(mutex_);
            return rendering ? rendering_change() : transport_change();
        };
        serve(upnp::av_transport(), &RunningRenderer::transport, [last_change] { return last_change(false); });
        serve(upnp::rendering_control(), &RunningRenderer::rendering, [last_change] { return last_change(true); });
        serve(upnp::connection_manager(), &RunningRenderer::connections, [this] {
            return Arguments{{"SourceProtocolInfo", ""}, {"SinkProtocolInfo", sink()}, {"CurrentConnectionIDs", "0"}};
        });
        host_ = std::make_unique<upnp::DeviceHost>(std::move(description), std::move(services), "/renderer");

        net::HttpServerSettings server;
        server.port = settings_.port;
        server.threads = 2;
        server.answer = [this](const net::HttpRequest& request) { return host_->answer(request); };
        WAVECREST_TRY_ASSIGN(started, net::HttpServer::start(std::move(server)));
        server_ = std::move(started);
        if (settings_.announced) {
            upnp::Advertiser::Settings advertising;
            advertising.udn = host_->description().udn;
            advertising.targets = host_->targets();
            advertising.path = host_->description_path();
            advertising.port = server_->port();
            advertising.interface = settings_.interface;
            WAVECREST_TRY_ASSIGN(advertiser, upnp::Advertiser::start(std::move(advertising)));
            advertiser_ = std::move(advertiser);
        }
        player_ = std::thread([this] { run_player(); });
        return {};
    }
    ~RunningRenderer() override {
        advertiser_.reset();
        {
            const base::MutexLock lock(mutex_);
            ending_ = true;
            ++order_;
        }
        cancel_.request();
        changed_.notify_all();
        if (player_.joinable()) player_.join();
        server_.reset();
    }
    std::string location() const override {
        return fmt::format("http://127.0.0.1:{}{}", server_->port(), host_->description_path());
    }
    RendererStatus status() const override {
        const base::MutexLock lock(mutex_);
        return {state_, address_, position_, volume_, mute_, received_, stalls_};
    }

  private:
    std::string sink() const { return sink_of(settings_.device, settings_.fault == RendererFault::false_claims); }

    void say(const std::string& line) const {
        const base::MutexLock lock(saying_);
        if (settings_.on_line) settings_.on_line(line);
    }

    Arguments transport_variables() const REQUIRES(mutex_) {
        return {{"TransportState", told_state()},
                {"TransportStatus", error_ ? "ERROR_OCCURRED" : "OK"},
                {"AVTransportURI", address_},
                {"CurrentTrackURI", address_},
                {"CurrentTrackDuration", clock_text(duration_)},
                {"CurrentMediaDuration", clock_text(duration_)},
                {"CurrentTrackMetaData", metadata_}};
    }
    Arguments transport_change() const REQUIRES(mutex_) {
        return {{"LastChange", upnp::write_last_change("AVTransport", transport_variables())}};
    }
    Arguments rendering_change() const REQUIRES(mutex_) {
        return {{"LastChange", upnp::write_last_change("RenderingControl", {{"Volume", fmt::format("{}", volume_)},
                                                                            {"Mute", mute_ ? "1" : "0"}})}};
    }
    std::string told_state() const REQUIRES(mutex_) {
        return settings_.fault == RendererFault::wrong_state ? "PLAYING" : state_;
    }
    void enter(const char* state) REQUIRES(mutex_) {
        if (state_ == state) return;
        state_ = state;
        host_->changed("AVTransport", transport_change());
        // (What it is given and how it ends is told elsewhere.)
        const auto known = upnp::transport_state(state_);
        if (known != upnp::TransportState::stopped)
            say(fmt::format("{} at {}", upnp::short_name(known), clock_text(position_)));
    }

    Acted transport(const upnp::Action& action) {
        base::MutexLock lock(mutex_);
        const std::string& name = action.name;
        if (upnp::value_of(action.arguments, "InstanceID") != "0") return refuse(718, "Invalid InstanceID");
        if (name == "SetAVTransportURI") {
            const std::string address = upnp::value_of(action.arguments, "CurrentURI");
            const std::string metadata = upnp::value_of(action.arguments, "CurrentURIMetaData");
            if (!net::parse_url(address)) return refuse(716, "Resource Not Found");
            if (const auto items = upnp::parse_didl(metadata); items && !items->empty()) {
                const auto sink = upnp::parse_protocol_infos(this->sink());
                for (const upnp::Resource& one : items->front().resources) {
                    const auto info = upnp::parse_protocol_infos(one.protocol_info);
                    if (one.address == address && !info.empty() && !upnp::takes(sink, info.front()))
                        return refuse(714, "Illegal MIME-Type");
                }
            }
            address_ = address;
            metadata_ = metadata;
            position_ = duration_ = Time{};
            error_ = false;
            ++order_;
            wanted_ = Wanted::stop;
            lock.unlock();
            say(fmt::format("given {}", address));
            lock.lock();
            enter("STOPPED");
        } else if (name == "Play") {
            if (address_.empty()) return refuse(701, "Transition not available");
            if (state_ == "PLAYING" || state_ == "TRANSITIONING") return Arguments{};
            wanted_ = Wanted::play;
            ++order_;
            enter("TRANSITIONING");
        } else if (name == "Pause") {
            if (state_ != "PLAYING" && state_ != "PAUSED_PLAYBACK") return refuse(701, "Transition not available");
            wanted_ = Wanted::pause;
            ++order_;
            enter("PAUSED_PLAYBACK");
        } else if (name == "Stop") {
            if (address_.empty()) return refuse(701, "Transition not available");
            wanted_ = Wanted::stop;
            position_ = Time{};
            ++order_;
            enter("STOPPED");
        } else if (name == "Seek") {
            if (upnp::value_of(action.arguments, "Unit") == "TRACK_NR") return refuse(710, "Seek mode not supported");
            const auto to = upnp::parse_duration(upnp::value_of(action.arguments, "Target"));
            if (!to || duration_.count() == 0 || *to > duration_) return refuse(711, "Illegal seek target");
            if (state_ != "PLAYING" && state_ != "PAUSED_PLAYBACK") return refuse(701, "Transition not available");
            position_ = *to;
            ++order_;
            if (settings_.fault == RendererFault::stops_at_seek) wanted_ = Wanted::nothing;
            enter(wanted_ == Wanted::pause ? "PAUSED_PLAYBACK" : "TRANSITIONING");
        } else if (name == "GetTransportInfo") {
            return Arguments{{"CurrentTransportState", told_state()},
                             {"CurrentTransportStatus", error_ ? "ERROR_OCCURRED" : "OK"},
                             {"CurrentSpeed", "1"}};
        } else if (name == "GetPositionInfo") {
            return Arguments{{"Track", address_.empty() ? "0" : "1"},
                             {"TrackDuration", clock_text(duration_)},
                             {"TrackMetaData", metadata_},
                             {"TrackURI", address_},
                             {"RelTime", clock_text(position_)},
                             {"AbsTime", clock_text(position_)},
                             {"RelCount", "2147483647"},
                             {"AbsCount", "2147483647"}};
        } else if (name == "GetMediaInfo") {
            return Arguments{{"NrTracks", address_.empty() ? "0" : "1"},
                             {"MediaDuration", clock_text(duration_)},
                             {"CurrentURI", address_},
                             {"CurrentURIMetaData", metadata_},
                             {"NextURI", ""},
                             {"NextURIMetaData", ""},
                             {"PlayMedium", "NETWORK"},
                             {"RecordMedium", "NOT_IMPLEMENTED"},
                             {"WriteStatus", "NOT_IMPLEMENTED"}};
        } else if (name == "GetDeviceCapabilities") {
            return Arguments{
                {"PlayMedia", "NETWORK"}, {"RecMedia", "NOT_IMPLEMENTED"}, {"RecQualityModes", "NOT_IMPLEMENTED"}};
        } else if (name == "GetTransportSettings") {
            return Arguments{{"PlayMode", "NORMAL"}, {"RecQualityMode", "NOT_IMPLEMENTED"}};
        } else if (name == "GetCurrentTransportActions") {
            return Arguments{{"Actions", state_ == "PLAYING" ? "Pause,Stop,Seek" : "Play,Stop"}};
        } else {
            return refuse(701, "Transition not available");
        }
        changed_.notify_all();
        return Arguments{};
    }

    Acted rendering(const upnp::Action& action) {
        const base::MutexLock lock(mutex_);
        if (action.name == "GetVolume") return Arguments{{"CurrentVolume", fmt::format("{}", volume_)}};
        if (action.name == "GetMute") return Arguments{{"CurrentMute", mute_ ? "1" : "0"}};
        if (action.name == "ListPresets") return Arguments{{"CurrentPresetNameList", "FactoryDefaults"}};
        if (action.name == "SetVolume") {
            const std::string value = upnp::value_of(action.arguments, "DesiredVolume");
            std::from_chars(value.data(), value.data() + value.size(), volume_);
        }
        if (action.name == "SetMute") {
            const std::string value = upnp::value_of(action.arguments, "DesiredMute");
            mute_ = value == "1" || value == "true" || value == "yes";
        }
        host_->changed("RenderingControl", rendering_change());
        return Arguments{};
    }

    Acted connections(const upnp::Action& action) {
        if (action.name == "GetProtocolInfo") return Arguments{{"Source", ""}, {"Sink", sink()}};
        if (action.name == "GetCurrentConnectionIDs") return Arguments{{"ConnectionIDs", "0"}};
        if (upnp::value_of(action.arguments, "ConnectionID") != "0") return refuse(706, "Invalid connection reference");
        return Arguments{{"RcsID", "0"},
                         {"AVTransportID", "0"},
                         {"ProtocolInfo", ""},
                         {"PeerConnectionManager", ""},
                         {"PeerConnectionID", "-1"},
                         {"Direction", "Input"},
                         {"Status", "OK"}};
    }

    // Its player: does what is wanted, until that changes.
    void run_player() {
        while (true) {
            std::string address;
            std::uint64_t order = 0;
            Time from{};
            {
                base::MutexLock lock(mutex_);
                while (!ending_ && (wanted_ != Wanted::play || address_.empty())) changed_.wait_for(mutex_, 1s);
                if (ending_) return;
                address = address_;
                order = order_;
                from = position_;
            }
            const std::string trouble = play(address, from, order);
            base::MutexLock lock(mutex_);
            if (order != order_) continue;
            wanted_ = Wanted::nothing;
            error_ = !trouble.empty();
            position_ = Time{};
            enter("STOPPED");
            const std::size_t stalls = stalls_;
            lock.unlock();
            say(!trouble.empty() ? "can't play it: " + trouble
                : stalls > 0     ? fmt::format("ended, {}", base::format_count(stalls, "stall"))
                                 : "ended");
        }
    }

    bool is_current(std::uint64_t order) const {
        const base::MutexLock lock(mutex_);
        return order_ == order;
    }

    // Why it can't be played; empty when it ended or something else is wanted.
    std::string play(const std::string& address, Time from, std::uint64_t order) {
        const auto url = net::parse_url(address);
        if (!url) return url.error().what;
        if (address != known_address_) {
            const auto film = film_at(*url, cancel_);
            if (!film) return is_live(*url) ? play_live(*url, order) : film.error().what;
            known_address_ = address;
            film_ = *film;
        }
        if (const std::string trouble = obstacle(settings_.device, film_); !trouble.empty()) return trouble;
        const auto entry = film_.entry_at(from);
        const Time start = entry && from.count() > 0 ? std::max(entry->keyframe, Time{}) : Time{};
        const std::uint64_t offset = start.count() > 0 ? entry->offset : 0;
        {
            const base::MutexLock lock(mutex_);
            if (order_ != order) return "";
            duration_ = film_.duration;
            received_ = 0;
            stalls_ = 0;
        }
        base::RealClock clock;
        net::ShapedLink link(settings_.link_bps > 0 ? settings_.link_bps : std::int64_t{10'000'000'000}, clock);
        measure::PlaybackModel player(verify::player_of(settings_.device, film_.duration - start, false));
        net::HttpClient client(*url, base::from_seconds(10));
        const auto head = client.get(offset);
        if (!head) return head.error().what;
        verify::FilmArrivals arrivals(film_, std::max(head->full_size, offset), 0, offset);
        ByteVector buffer(link.piece());
        std::uint64_t position = offset;
        bool all = false;
        std::string trouble;
        while (is_current(order)) {
            const Time now = clock.now();
            if (!all && player.room_at(now) <= now) {
                const auto got = client.read(buffer);
                if (!got) {
                    trouble = got.error().what;
                    all = true;
                } else {
                    link.pass(static_cast<std::int64_t>(*got));
                    position += *got;
                    all = *got == 0;
                }
            } else {
                clock.wait_until(now + base::from_seconds(0.01));
            }
            const Time playable = all && trouble.empty() ? film_.duration : arrivals.playable(position);
            player.arrived(clock.now(), std::max(playable - start, Time{}));
            const Time at = start + player.position();
            const base::MutexLock lock(mutex_);
            if (order_ != order) break;
            received_ = position - offset;
            position_ = at;
            stalls_ = player.stalls().size();
            if (all && (at >= film_.duration || !player.playing())) break;
            enter(player.playing() ? "PLAYING" : "TRANSITIONING");
        }
        return trouble;
    }

    static bool is_live(const net::Url& url) {
        net::HttpClient client(url, base::from_seconds(5));
        const auto head = client.get(0);
        return head && head->endless;
    }
    // Of a live stream the time goes on while something comes.
    std::string play_live(const net::Url& url, std::uint64_t order) {
        net::HttpClient client(url, base::from_seconds(10));
        const auto head = client.get(0);
        if (!head) return head.error().what;
        base::RealClock clock;
        net::ShapedLink link(settings_.link_bps > 0 ? settings_.link_bps : std::int64_t{10'000'000'000}, clock);
        ByteVector buffer(link.piece());
        std::uint64_t received = 0;
        while (is_current(order)) {
            const auto got = client.read(buffer);
            if (!got) return got.error().what;
            if (*got == 0) break;
            link.pass(static_cast<std::int64_t>(*got));
            received += *got;
            const base::MutexLock lock(mutex_);
            if (order_ != order) break;
            received_ = received;
            position_ = std::max(clock.now() - settings_.device.playing.start_buffer, Time{});
            enter(position_.count() > 0 ? "PLAYING" : "TRANSITIONING");
        }
        return "";
    }

    enum class Wanted { nothing, play, pause, stop };

    RendererSettings settings_;
    std::unique_ptr<upnp::DeviceHost> host_;
    std::unique_ptr<net::HttpServer> server_;
    std::unique_ptr<upnp::Advertiser> advertiser_;
    mutable base::Mutex mutex_, saying_;
    base::Condition changed_;
    bool ending_ GUARDED_BY(mutex_) = false;
    std::uint64_t order_ GUARDED_BY(mutex_) = 0;  // counts what was asked for
    Wanted wanted_ GUARDED_BY(mutex_) = Wanted::nothing;
    std::string state_ GUARDED_BY(mutex_) = "NO_MEDIA_PRESENT", address_ GUARDED_BY(mutex_),
                       metadata_ GUARDED_BY(mutex_);
    bool error_ GUARDED_BY(mutex_) = false, mute_ GUARDED_BY(mutex_) = false;
    int volume_ GUARDED_BY(mutex_) = 30;
    Time position_ GUARDED_BY(mutex_){}, duration_ GUARDED_BY(mutex_){};
    std::uint64_t received_ GUARDED_BY(mutex_) = 0;
    std::size_t stalls_ GUARDED_BY(mutex_) = 0;
    std::string known_address_;  // of the player's thread, with film_
    verify::Film film_;
    Cancel cancel_;
    std::thread player_;
};

}  // namespace

std::optional<RendererFault> fault_from_name(std::string_view name) {
    for (const auto& [one, fault] : kFaults) {
        if (name == one) return fault;
    }
    return std::nullopt;
}

const std::vector<std::string>& fault_names() {
    static const std::vector<std::string> names = [] {
        std::vector<std::string> all;
        for (const auto& [one, fault] : kFaults) all.emplace_back(one);
        return all;
    }();
    return names;
}

Result<std::unique_ptr<Renderer>> Renderer::start(RendererSettings settings) {
    auto made = std::make_unique<RunningRenderer>(std::move(settings));
    WAVECREST_TRY(made->open());
    return std::unique_ptr<Renderer>(std::move(made));
}

}  // namespace wavecrest::standin
