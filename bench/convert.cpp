// How much a whole conversion costs over encoding alone: the time of `wavecrest convert`'s work (reading the disc,
// decoding, undoing pulldown, scaling, audio, interleaving, writing and syncing the file) over the time of encoding the
// very same pictures from memory with the same settings, in one run.
//
//   bench_convert [SECONDS [ROW]]     length of the sample disc (30); one row alone, as "resumable"
//
// Also: what keeping finished pieces costs (pieces are a minute long; of a sample of three minutes this is what it
// shows), and two copies of one decoding against one after the other.
#include <fmt/core.h>

#include <unistd.h>

#include <algorithm>
#include <cstdlib>
#include <filesystem>
#include <string>

#include "base/clock.hpp"
#include "codec/mpeg2_decoder.hpp"
#include "convert/convert.hpp"
#include "filter/film.hpp"
#include "filter/scale.hpp"
#include "standin/sample_disc.hpp"

using namespace wavecrest;

namespace {

[[noreturn]] void stop(const Error& error) {
    fmt::print(stderr, "{} ({})\n", error.what, error.where);
    std::exit(1);
}

template <typename T>
T value(Result<T> result) {
    if (!result) stop(result.error());
    return std::move(*result);
}

// The pictures as the encoder gets them.
std::vector<Picture> prepare(const source::Input& input, const convert::Plan& plan) {
    const Track& from = *plan.graph.video;
    const codec::VideoEncoderSettings& encode = plan.graph.video_encodes.front().encode;
    auto source = value(input.open(plan.title));
    const auto decoder = codec::make_mpeg2_decoder(from);
    filter::FilmTiming film(encode.frame_rate);
    auto scaler =
        value(filter::Scaler::create(from.width, from.height, encode.width, encode.height, encode.pixel_aspect));
    std::vector<Picture> decoded, pictures;
    while (auto packet = value(source->read())) {
        if (packet->track == from.id && !decoder->decode(*packet, decoded)) std::exit(1);
    }
    if (!decoder->flush(decoded)) std::exit(1);
    for (Picture& picture : decoded) {
        film.apply(picture);
        pictures.push_back(value(scaler->apply(picture)));
        picture = {};
    }
    return pictures;
}

double encode_seconds(const std::vector<Picture>& pictures, const codec::VideoEncoderSettings& settings) {
    const base::RealClock clock;
    auto encoder = value(codec::make_video_encoder(settings));
    std::vector<Packet> packets;
    for (const Picture& picture : pictures) {
        if (!encoder->encode(picture, packets)) std::exit(1);
        packets.clear();
    }
    if (!encoder->flush(packets)) std::exit(1);
    return base::to_seconds(clock.now());
}

}  // namespace

int main(int argc, char** argv) {
    const double seconds = argc > 1 ? std::atof(argv[1]) : 30;
    const std::string only = argc > 2 ? argv[2] : "";
    const auto wanted = [&](const std::string& row) { return only.empty() || row == only; };
    const int runs = seconds < 5 ? 1 : 3;  // a short one only shows that it runs
    const base::Path folder =
        std::filesystem::temp_directory_path() / fmt::format("wavecrest-bench-{}", static_cast<long>(::getpid()));
    standin::SampleDiscSettings disc;
    disc.main_length = base::from_seconds(seconds);
    disc.extra_length = {};
    const Cancel cancel;
    if (const auto made = standin::make_sample_disc(folder / "rip", disc, {}, cancel); !made) stop(made.error());
    const auto input = value(source::open_input(folder / "rip"));

    fmt::print("{:<14} {:>7} {:>12} {:>12} {:>7}   goal\n", "codec, effort", "run", "whole", "reference", "ratio");
    for (const auto& [name, codec, effort, goal] : {std::tuple{"H.264, 5", Codec::h264, 5, 1.10},
                                                    {"H.264, 2", Codec::h264, 2, 1.20},
                                                    {"H.265, 5", Codec::h265, 5, 1.05},
                                                    {"VP9, 5", Codec::vp9, 5, 1.05},
                                                    {"AV1, 5", Codec::av1, 5, 1.05}}) {
        if (!wanted(name)) continue;
        profile::Profile profile = value(profile::find("full-picture"));
        profile.video.effort = effort;
        profile.video.codec = codec;
        if (codec != Codec::h264) profile.video.profile.clear();
        std::vector<double> ratios;
        for (int run = 1; run <= runs; ++run) {
            convert::Request request;
            request.profiles = {profile};
            request.into = folder / "library";
            request.name = fmt::format("{} run {}", name, run);
            const auto plan = value(convert::make_plan(*input, request));
            const auto pictures = prepare(*input, plan);
            // Alternating order evens out what a warm cache or a busy neighbour does to either.
            double whole = 0, alone = 0;
            if (run % 2 == 0) alone = encode_seconds(pictures, plan.graph.video_encodes.front().encode);
            whole = base::to_seconds(value(convert::run(*input, plan, {}, cancel)).elapsed);
            if (run % 2 != 0) alone = encode_seconds(pictures, plan.graph.video_encodes.front().encode);
            ratios.push_back(whole / alone);
            fmt::print("{:<14} {:>7} {:>10.2f} s {:>10.2f} s {:>7.3f}\n", name, run, whole, alone, whole / alone);
        }
        std::sort(ratios.begin(), ratios.end());
        fmt::print("{:<14} {:>7} {:>12} {:>12} {:>7.3f}   {}\n", name, "median", "", "", ratios[ratios.size() / 2],
                   goal);
    }
    // In pieces that outlive a killed program (three of them), against in one piece.
    std::vector<double> kept_ratios;
    for (int run = 1; run <= runs && wanted("resumable"); ++run) {
        const auto timed = [&](const char* how, Time piece) {
            convert::Request request;
            request.profiles = {value(profile::find("full-picture"))};
            request.into = folder / "library";
            request.name = fmt::format("{} run {}", how, run);
            auto plan = value(convert::make_plan(*input, request));
            plan.piece_length = piece;
            return base::to_seconds(value(convert::run(*input, plan, {}, cancel)).elapsed);
        };
        const double pieces = timed("pieces", base::from_seconds(seconds / 3));
        const double whole = timed("whole", base::from_seconds(seconds * 2));
        kept_ratios.push_back(pieces / whole);
        fmt::print("{:<14} {:>7} {:>10.2f} s {:>10.2f} s {:>7.3f}\n", "resumable", run, pieces, whole, pieces / whole);
    }
    std::sort(kept_ratios.begin(), kept_ratios.end());
    if (!kept_ratios.empty())
        fmt::print("{:<14} {:>7} {:>12} {:>12} {:>7.3f}   {}\n", "resumable", "median", "", "",
                   kept_ratios[kept_ratios.size() / 2], 1.03);
    // A full copy of a 1080p film and a small one: from one decoding, against one after the other.
    standin::DiscDescription large;
    large.kind = standin::DiscDescription::Kind::blu_ray;
    large.codec = Codec::h264;
    large.video_bps = 16'000'000;
    large.parts.resize(1);
    large.parts.front().name = "film";
    large.parts.front().length = base::from_seconds(seconds / 2);
    if (const auto made = standin::make_disc(folder / "large", large, {}, cancel); !made) stop(made.error());
    const auto film = value(source::open_input(folder / "large"));
    std::vector<double> ratios;
    for (int run = 1; run <= runs && wanted("two copies"); ++run) {
        const auto timed = [&](const std::vector<const char*>& names) {
            convert::Request request;
            for (const char* name : names) request.profiles.push_back(value(profile::find(name)));
            request.into = folder / "library";
            request.name = fmt::format("{} of {} run {}", names.front(), names.size(), run);
            const auto plan = value(convert::make_plan(*film, request));
            return base::to_seconds(value(convert::run(*film, plan, {}, cancel)).elapsed);
        };
        const double both = timed({"full-picture", "small-screen"});
        const double apart = timed({"full-picture"}) + timed({"small-screen"});
        ratios.push_back(both / apart);
        fmt::print("{:<14} {:>7} {:>10.2f} s {:>10.2f} s {:>7.3f}\n", "two copies", run, both, apart, both / apart);
    }
    std::sort(ratios.begin(), ratios.end());
    if (!ratios.empty())
        fmt::print("{:<14} {:>7} {:>12} {:>12} {:>7.3f}   {}\n", "two copies", "median", "", "",
                   ratios[ratios.size() / 2], 0.75);

    std::error_code ignored;
    std::filesystem::remove_all(folder, ignored);
}
