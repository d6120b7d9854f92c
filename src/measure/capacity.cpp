#include "measure/capacity.hpp"

#include <sys/utsname.h>
#include <unistd.h>

#include <algorithm>
#include <chrono>
#include <cmath>
#include <fstream>
#include <map>
#include <nlohmann/json.hpp>
#include <thread>

#include "base/atomic_file.hpp"
#include "host/machine.hpp"

namespace wavecrest::measure {
namespace {

// A curve through what was measured, straight in logarithms: times of a codec grow by factors from effort to effort,
// and about as the number of pixels does. Beyond its ends it goes on with `slope`.
class Curve {
  public:
    void add(double x, double y) {
        if (y > 0) points_[x] = std::log(y);
    }
    bool empty() const { return points_.empty(); }
    double at(double x, double slope) const {
        const auto above = points_.lower_bound(x);
        if (above == points_.end()) return std::exp(points_.rbegin()->second + slope * (x - points_.rbegin()->first));
        if (above == points_.begin()) return std::exp(above->second - slope * (above->first - x));
        const auto below = std::prev(above);
        const double part = (x - below->first) / (above->first - below->first);
        return std::exp(below->second + part * (above->second - below->second));
    }

  private:
    std::map<double, double> points_;
};

double pixels_of(int width, int height) {
    return std::max(1.0, static_cast<double>(width) * height);
}

double value_of(const PictureTime& time, bool alone) {
    return alone ? time.alone : time.processor;
}

// One of the two times of a picture. Efforts were measured at the smallest size, sizes at one effort, the greater depth
// at one of both: each tells a factor.
std::optional<double> time_of(const std::vector<CodecSpeed>& speeds, Codec codec, int bit_depth, double pixels,
                              int effort, bool alone) {
    std::vector<const CodecSpeed*> of_codec;
    for (const CodecSpeed& one : speeds) {
        if (one.codec == codec && value_of(one.time, alone) > 0) of_codec.push_back(&one);
    }
    const auto basic = [&](const CodecSpeed& one) { return one.bit_depth == 8; };
    const CodecSpeed* smallest = nullptr;
    for (const CodecSpeed* one : of_codec) {
        if (basic(*one) &&
            (smallest == nullptr || pixels_of(one->width, one->height) < pixels_of(smallest->width, smallest->height)))
            smallest = one;
    }
    if (smallest == nullptr) return std::nullopt;
    const double least = pixels_of(smallest->width, smallest->height);
    Curve efforts;
    std::map<int, Curve> sizes;  // of each effort
    for (const CodecSpeed* one : of_codec) {
        if (!basic(*one)) continue;
        const double of_one = pixels_of(one->width, one->height);
        if (of_one == least) efforts.add(one->effort, value_of(one->time, alone));
        sizes[one->effort].add(std::log(of_one), value_of(one->time, alone));
    }
    const Curve* by_size = nullptr;
    const CodecSpeed* largest = *std::max_element(of_codec.begin(), of_codec.end(), [&](const auto* a, const auto* b) {
        return (basic(*a) ? pixels_of(a->width, a->height) : 0) < (basic(*b) ? pixels_of(b->width, b->height) : 0);
    });
    by_size = &sizes.at(largest->effort);
    double time = efforts.at(effort, 0.4) * by_size->at(std::log(pixels), 1) / by_size->at(std::log(least), 1);
    if (bit_depth <= 8) return time;
    for (const CodecSpeed* one : of_codec) {
        if (basic(*one) || one->bit_depth != bit_depth) continue;
        const double same = efforts.at(one->effort, 0.4) *
                            by_size->at(std::log(pixels_of(one->width, one->height)), 1) /
                            by_size->at(std::log(least), 1);
        return time * value_of(one->time, alone) / same;
    }
    return std::nullopt;
}

std::optional<PictureTime> time_of(const std::vector<CodecSpeed>& speeds, Codec codec, int bit_depth, int width,
                                   int height, int effort) {
    const double pixels = pixels_of(width, height);
    const auto processor = time_of(speeds, codec, bit_depth, pixels, effort, false);
    const auto alone = time_of(speeds, codec, bit_depth, pixels, effort, true);
    if (!processor || !alone) return std::nullopt;
    return PictureTime{*processor, *alone};
}

}  // namespace

int LiveSpeed::carries() const {
    return static_cast<int>(std::floor(at_once * kReserve));
}

std::optional<PictureTime> encoding_time(const Capacity& capacity, Codec codec, int bit_depth, int width, int height,
                                         int effort) {
    return time_of(capacity.encoding, codec, bit_depth, width, height, effort);
}

std::optional<PictureTime> decoding_time(const Capacity& capacity, Codec codec, int bit_depth, int width, int height) {
    // Both versions of MPEG have one decoder.
    return time_of(capacity.decoding, codec == Codec::mpeg1 ? Codec::mpeg2 : codec, bit_depth, width, height, 0);
}

std::optional<TranscodeLoad> load_of(const Capacity& capacity, const transcode::GraphSettings& graph) {
    TranscodeLoad load;
    double slowest = 0;  // of stages that are one after the other
    const auto add = [&](const PictureTime& time, double rate) {
        load.processor += time.processor * rate;
        slowest = std::max(slowest, time.alone * rate);
    };
    constexpr double kFullHd = 1920.0 * 1080;
    const auto scaled = [](PictureTime time, double pixels) {
        return PictureTime{time.processor * pixels / kFullHd, time.alone * pixels / kFullHd};
    };
    if (graph.video && !graph.video_encodes.empty()) {
        const Track& track = *graph.video;
        const double rate = track.frame_rate.num > 0 ? track.frame_rate.value() : 25;
        const auto decoding =
            decoding_time(capacity, track.codec, std::max(track.bit_depth, 8), track.width, track.height);
        if (!decoding) return std::nullopt;
        add(*decoding, rate);
        const double source_pixels = pixels_of(track.width, track.height);
        for (const transcode::VideoChain& chain : graph.chains) {
            // (Film in fields is put together, which costs next to nothing.)
            if (chain.fields && chain.fields->first == filter::WholeFrames::TimeRange::video)
                add(scaled(capacity.filters.deinterlace, source_pixels), rate);
        }
        for (const transcode::VideoEncode& one : graph.video_encodes) {
            const codec::VideoEncoderSettings& encode = one.encode;
            const double made = encode.frame_rate.num > 0 ? encode.frame_rate.value() : rate;
            const auto encoding =
                encoding_time(capacity, encode.codec, encode.bit_depth, encode.width, encode.height, encode.effort);
            if (!encoding) return std::nullopt;
            add(*encoding, made);
            if (encode.width != track.width || encode.height != track.height)
                add(scaled(capacity.filters.scale, std::max(source_pixels, pixels_of(encode.width, encode.height))),
                    made);
            if (one.to_sdr) add(scaled(capacity.filters.tone_map, source_pixels), made);
        }
    }
    for (const transcode::AudioEncode& one : graph.audio_encodes)
        load.processor += capacity.audio * std::max(1.0, media::speaker_count(one.encode.speakers) / 2.0);
    load.alone = std::max(slowest, load.processor / std::max(1, capacity.processors));
    return load;
}

Viewers viewers_at_once(const Capacity& capacity, double bps) {
    double least = capacity.server_bps;
    Viewers viewers;
    viewers.limit = "server";
    const auto bound = [&](double by, const std::string& limit) {
        if (by >= least) return;
        least = by;
        viewers.limit = limit;
    };
    // TCP payload of Ethernet's wire rate: 1460 of 1538 bytes, less 12 of options.
    constexpr double kPayload = 1448.0 / 1538, kGigabit = 1e9;
    for (const Port& port : capacity.ports)
        bound((port.bps > 0 ? static_cast<double>(port.bps) : kGigabit) * kPayload, "port " + port.interface);
    for (const DriveSpeed& drive : capacity.drives) {
        if (drive.read > 0) bound(drive.read * 8, "drive of " + drive.folder);
    }
    viewers.count = static_cast<int>(std::min(1e6, least * kReserve / std::max(bps, 1.0)));
    return viewers;
}

bool was_disturbed(const Capacity& capacity) {
    constexpr double kClearly = 1.3;
    for (const auto* list : {&capacity.encoding, &capacity.decoding}) {
        for (const CodecSpeed& a : *list) {
            for (const CodecSpeed& b : *list) {
                if (a.codec != b.codec || a.bit_depth != b.bit_depth) continue;
                const double pixels = pixels_of(a.width, a.height), others = pixels_of(b.width, b.height);
                const bool less =
                    (pixels == others && a.effort < b.effort) || (a.effort == b.effort && pixels < others);
                if (less && a.time.alone > b.time.alone * kClearly) return true;
            }
        }
    }
    return false;
}

double busy_processors() {
    // /proc/stat, first line (proc(5)): user nice system idle iowait irq softirq steal, in ticks.
    const auto busy_ticks = [] {
        std::ifstream stat("/proc/stat");
        std::string word;
        double ticks[8] = {};
        stat >> word;
        for (double& tick : ticks) stat >> tick;
        return ticks[0] + ticks[1] + ticks[2] + ticks[5] + ticks[6];
    };
    const double before = busy_ticks();
    constexpr auto kMoment = std::chrono::milliseconds(500);
    std::this_thread::sleep_for(kMoment);
    const double ticks = busy_ticks() - before;
    return ticks / static_cast<double>(::sysconf(_SC_CLK_TCK)) / std::chrono::duration<double>(kMoment).count();
}

namespace {

using Json = nlohmann::ordered_json;

Json json_of(const PictureTime& time) {
    return {{"processor_s", time.processor}, {"alone_s", time.alone}};
}
// What no picture takes counts as not measured.
PictureTime picture_time(const Json& json) {
    const auto seconds = [&](const char* key) {
        constexpr double kMost = 1000;
        const double value = json.at(key).get<double>();
        return value > 0 && value < kMost ? value : 0.0;
    };
    return {seconds("processor_s"), seconds("alone_s")};
}

Json json_of(const std::vector<CodecSpeed>& speeds) {
    Json all = Json::array();
    for (const CodecSpeed& one : speeds) {
        Json json = {{"codec", media::short_name(one.codec)},
                     {"width", one.width},
                     {"height", one.height},
                     {"bit_depth", one.bit_depth}};
        if (one.effort > 0) json["effort"] = one.effort;
        json.update(json_of(one.time));
        json["fps"] = one.time.alone > 0 ? 1 / one.time.alone : 0.0;
        all.push_back(std::move(json));
    }
    return all;
}
std::vector<CodecSpeed> codec_speeds(const Json& json) {
    std::vector<CodecSpeed> all;
    for (const Json& one : json) {
        CodecSpeed speed;
        speed.codec = media::codec_from_name(one.at("codec").get<std::string>()).value_or(Codec::unknown);
        speed.width = one.at("width").get<int>();
        speed.height = one.at("height").get<int>();
        speed.bit_depth = one.at("bit_depth").get<int>();
        speed.effort = one.value("effort", 0);
        speed.time = picture_time(one);
        all.push_back(speed);
    }
    return all;
}

Json to_json(const Capacity& capacity) {
    Json json = {{"host", capacity.host},
                 {"processor", capacity.processor},
                 {"processors", capacity.processors},
                 {"measured", capacity.at},
                 {"encoding", json_of(capacity.encoding)},
                 {"decoding", json_of(capacity.decoding)},
                 {"filters_1080p",
                  {{"deinterlace", json_of(capacity.filters.deinterlace)},
                   {"scale", json_of(capacity.filters.scale)},
                   {"tone_map", json_of(capacity.filters.tone_map)}}},
                 {"audio_encoding_s", capacity.audio},
                 {"live", Json::array()},
                 {"server_bps", capacity.server_bps},
                 {"drives", Json::array()},
                 {"ports", Json::array()},
                 {"hardware", Json::array()}};
    for (const LiveSpeed& one : capacity.live)
        json["live"].push_back({{"source", one.source},
                                {"profile", one.profile},
                                {"at_once", one.at_once},
                                {"predicted", one.predicted},
                                {"carries", one.carries()}});
    for (const DriveSpeed& one : capacity.drives)
        json["drives"].push_back({{"folder", one.folder},
                                  {"mounted", one.mounted},
                                  {"read_bytes_per_s", one.read},
                                  {"write_bytes_per_s", one.write}});
    for (const Port& one : capacity.ports) json["ports"].push_back({{"interface", one.interface}, {"bps", one.bps}});
    for (const host::VideoHardware& one : capacity.hardware)
        json["hardware"].push_back({{"device", one.device},
                                    {"name", one.name},
                                    {"decodes", one.decodes},
                                    {"encodes", one.encodes},
                                    {"problem", one.problem},
                                    {"used", false}});
    return json;
}

Capacity capacity_from(const Json& json) {
    Capacity capacity;
    capacity.host = json.at("host").get<std::string>();
    capacity.processor = json.at("processor").get<std::string>();
    capacity.processors = json.at("processors").get<int>();
    capacity.at = json.at("measured").get<std::string>();
    capacity.encoding = codec_speeds(json.at("encoding"));
    capacity.decoding = codec_speeds(json.at("decoding"));
    const Json& filters = json.at("filters_1080p");
    capacity.filters = {picture_time(filters.at("deinterlace")), picture_time(filters.at("scale")),
                        picture_time(filters.at("tone_map"))};
    capacity.audio = json.at("audio_encoding_s").get<double>();
    for (const Json& one : json.at("live"))
        capacity.live.push_back({one.at("source").get<std::string>(), one.at("profile").get<std::string>(),
                                 one.at("at_once").get<double>(), one.at("predicted").get<double>()});
    capacity.server_bps = json.at("server_bps").get<double>();
    for (const Json& one : json.at("drives"))
        capacity.drives.push_back({one.at("folder").get<std::string>(), one.at("mounted").get<std::string>(),
                                   one.at("read_bytes_per_s").get<double>(),
                                   one.at("write_bytes_per_s").get<double>()});
    for (const Json& one : json.at("ports"))
        capacity.ports.push_back({one.at("interface").get<std::string>(), one.at("bps").get<std::int64_t>()});
    for (const Json& one : json.at("hardware"))
        capacity.hardware.push_back({one.at("device").get<std::string>(), one.at("name").get<std::string>(),
                                     one.at("decodes").get<std::vector<std::string>>(),
                                     one.at("encodes").get<std::vector<std::string>>(),
                                     one.at("problem").get<std::string>()});
    return capacity;
}

}  // namespace

base::Path capacity_file() {
    return base::state_folder() / "machine.json";
}

std::string to_json_text(const Capacity& capacity) {
    return to_json(capacity).dump(2) + "\n";
}

Status save(const Capacity& capacity, const base::Path& file) {
    const std::string text = to_json_text(capacity);
    return base::write_file(file, base::as_bytes(text), base::AtomicFile::IfExists::replace);
}

Result<std::optional<Capacity>> load_capacity(const base::Path& file) {
    std::error_code error;
    if (!std::filesystem::exists(file, error)) return std::optional<Capacity>{};
    WAVECREST_TRY_ASSIGN(text, base::read_text_file(file));
    const Capacity now = this_machine();
    try {
        Capacity kept = capacity_from(Json::parse(text));
        // (A name may change; what computes doesn't by it.)
        if (kept.processor != now.processor || kept.processors != now.processors) return std::optional<Capacity>{};
        return std::optional(std::move(kept));
    } catch (const nlohmann::json::exception&) {
        return fail(ErrorKind::input, "the speeds of this machine can't be read", file.string(),
                    "measure them again: wavecrest site measure");
    }
}

Capacity this_machine() {
    Capacity capacity;
    utsname system{};
    if (::uname(&system) == 0) {
        capacity.host = system.nodename;
        capacity.processor = system.machine;
    }
    // (Of 64-bit ARM the kernel tells no model there.)
    std::ifstream info("/proc/cpuinfo");
    for (std::string line; std::getline(info, line);) {
        const std::size_t colon = line.find(": ");
        if (!line.starts_with("model name") || colon == std::string::npos) continue;
        capacity.processor = line.substr(colon + 2);
        break;
    }
    capacity.processors = host::processors();
    return capacity;
}

}  // namespace wavecrest::measure
