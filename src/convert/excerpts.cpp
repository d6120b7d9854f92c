#include "convert/excerpts.hpp"

#include <algorithm>
#include <cmath>
#include <map>

namespace wavecrest::convert {
namespace {

const Time kExcerptLength = base::from_seconds(2);

}  // namespace

std::vector<Excerpt> excerpts_of(Time duration, int count) {
    if (duration <= count * kExcerptLength * 3 / 2) return {{}};
    std::vector<Excerpt> excerpts;
    for (int i = 0; i < count; ++i) {
        constexpr double kGoldenRatio = 0.6180339887;
        const double place = std::fmod(0.5 + i * kGoldenRatio, 1.0);
        const Time at = base::from_seconds(place * base::to_seconds(duration - kExcerptLength));
        excerpts.push_back({std::max(at, Time{}), kExcerptLength});
    }
    return excerpts;
}

CountingSink::CountingSink(const std::vector<Track>& tracks, Counted& counted) : counted_(counted) {
    for (const Track& track : tracks) {
        if (track.kind == TrackKind::video) video_ = track.id;
    }
}

Status CountingSink::write(const Packet& packet) {
    counted_.bytes += packet.data.size();
    ++counted_.packets;
    if (packet.track != video_) {
        counted_.other_bytes += packet.data.size();
    } else if (!begun_) {
        counted_.first_bytes += packet.data.size();
        begun_ = true;
    }
    return {};
}

Result<std::optional<transcode::GraphResult>> run_excerpt(const source::Input& input, const Plan& plan,
                                                          const transcode::GraphSettings& graph, const Excerpt& excerpt,
                                                          std::vector<Counted>& counted, std::optional<Error>& refused,
                                                          const Cancel& cancel) {
    WAVECREST_TRY_ASSIGN(source, input.open(plan.pick, plan.angle));
    transcode::GraphSettings settings = graph;
    if (excerpt.length.count() > 0) settings.until = excerpt.at + excerpt.length;
    if (excerpt.at.count() > 0 && !source->seek(excerpt.at)) return std::optional<transcode::GraphResult>{};
    const auto sink = [&](std::size_t output, const std::vector<Track>& tracks) -> Result<std::unique_ptr<PacketSink>> {
        return std::make_unique<CountingSink>(tracks, counted.at(output));
    };
    auto result = transcode::run(*source, settings, sink, {}, cancel);
    // Where the data is missing there is nothing to try; the other places still tell.
    if (!result && result.error().kind == ErrorKind::input) {
        refused = std::move(result).error();
        return std::optional<transcode::GraphResult>{};
    }
    if (!result) return fail(std::move(result).error());
    return std::optional(std::move(*result));
}

double overhead(std::string_view container, double bytes, double packets, double seconds) {
    // Of transport streams tables, packets' headers, and what fills the last packet of each access unit.
    if (container == "mpeg-ts") return seconds * 6150 + bytes * 4 / 184 + packets * 100;
    return 4000 + packets * (container == "mp4" ? 10 : 9);
}

double whole_rate(const Plan& plan, std::size_t output, const Counted& counted, Time sampled) {
    const double seconds = base::to_seconds(sampled);
    const auto first = static_cast<double>(counted.first_bytes);
    double bytes = static_cast<double>(counted.bytes);
    for (const transcode::OutputTrack& track : plan.graph.outputs[output]) {
        if (track.kind != transcode::OutputTrack::Kind::video) continue;
        const codec::VideoEncoderSettings& encode = plan.graph.video_encodes[track.index].encode;
        const double distance = base::to_seconds(codec::keyframe_distance(encode));
        if (encode.mean_bps == 0) bytes += first * (std::min(1.0, seconds / distance) - 1);
    }
    // (What comes once in a file counts for little.)
    const auto packets = static_cast<double>(counted.packets);
    const std::string& container = plan.outputs[output].container;
    bytes += overhead(container, bytes, packets, seconds) - overhead(container, 0, 0, 0);
    return bytes / seconds;
}

namespace {

// The elements that are used, each once, at new places.
template <typename T>
class Moved {
  public:
    explicit Moved(const std::vector<T>& from) : from_(from) {}
    std::size_t operator()(std::size_t index) {
        const auto [place, added] = places_.try_emplace(index, taken.size());
        if (added) taken.push_back(from_.at(index));
        return place->second;
    }
    std::vector<T> taken;

  private:
    const std::vector<T>& from_;
    std::map<std::size_t, std::size_t> places_;
};

}  // namespace

transcode::GraphSettings only_output(const transcode::GraphSettings& whole, std::size_t output) {
    using Kind = transcode::OutputTrack::Kind;
    transcode::GraphSettings graph = whole;
    Moved<transcode::VideoChain> chains(whole.chains);
    Moved<transcode::VideoEncode> video(whole.video_encodes);
    Moved<transcode::AudioEncode> audio(whole.audio_encodes);
    Moved<Track> kept(whole.kept);
    graph.outputs = {whole.outputs.at(output)};
    for (transcode::OutputTrack& track : graph.outputs.front())
        track.index = track.kind == Kind::video   ? video(track.index)
                      : track.kind == Kind::audio ? audio(track.index)
                                                  : kept(track.index);
    for (transcode::VideoEncode& one : video.taken) one.chain = chains(one.chain);
    graph.chains = std::move(chains.taken);
    graph.video_encodes = std::move(video.taken);
    graph.audio_encodes = std::move(audio.taken);
    graph.kept = std::move(kept.taken);
    if (graph.video_encodes.empty()) graph.video.reset();
    return graph;
}

}  // namespace wavecrest::convert
