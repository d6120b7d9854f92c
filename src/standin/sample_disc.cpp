#include "standin/sample_disc.hpp"

#include <future>

#include "codec/mpeg2_encoder.hpp"
#include "disc/dvd_writer.hpp"
#include "standin/test_card.hpp"

namespace wavecrest::standin {
namespace {

constexpr Ratio kFilm{24000, 1001};

std::int64_t frame_count(Time length) {
    return base::rescale(length.count(), kFilm.num, base::kFlicksPerSecond * kFilm.den);
}

// Samples up to the start of a picture. Film pictures last 2002 samples at 48 kHz.
std::int64_t samples_before(std::int64_t frame) {
    return frame * 2002;
}

}  // namespace

Status make_sample_disc(const base::Path& folder, const SampleDiscSettings& settings, const Progress& progress,
                        const Cancel& cancel) {
    WAVECREST_TRY_ASSIGN(writer, disc::DvdWriter::create(folder));
    const std::int64_t total = frame_count(settings.main_length) + frame_count(settings.extra_length);
    std::int64_t done = 0;
    for (int number = 1; number <= 2; ++number) {
        const bool is_main = number == 1;
        const std::int64_t frames = frame_count(is_main ? settings.main_length : settings.extra_length);
        if (frames == 0 && !is_main) continue;

        CardSettings card_settings;
        card_settings.title = is_main ? settings.title : settings.title + " - EXTRA";
        card_settings.title_number = number;
        card_settings.seed = settings.seed + static_cast<std::uint32_t>(number);
        const TestCard card(card_settings);

        codec::Mpeg2Settings video;
        video.mean_bps = settings.video_bps;
        codec::Mpeg2Encoder encoder(video);

        disc::DvdTitleSettings title;
        const int chapters = is_main ? std::max(1, settings.chapters) : 1;
        title.chapters.clear();
        for (int i = 0; i < chapters; ++i) title.chapters.push_back(base::frames_to_time(frames * i / chapters, kFilm));
        WAVECREST_TRY(writer.begin_title(title));

        std::vector<disc::DvdPicture> group;
        std::int64_t group_start = 0;
        // The next picture is drawn while this one is coded.
        std::future<Picture> next = std::async(std::launch::async, [&] { return card.draw(0); });
        for (std::int64_t frame = 0; frame < frames; ++frame) {
            if (cancel.requested()) return base::interrupted();
            const Picture picture = next.get();
            if (frame + 1 < frames)
                next = std::async(std::launch::async, [&card, frame] { return card.draw(frame + 1); });
            codec::Mpeg2Picture coded = encoder.encode(picture, frame + 1 == frames);
            group.push_back({std::move(coded.data), coded.fields});
            const bool group_ends = frame + 1 == frames || (frame + 1) % video.group_length == 0;
            if (group_ends) {
                const std::int64_t from = samples_before(group_start), to = samples_before(frame + 1);
                WAVECREST_TRY(writer.add_group(group, card.sound(from, to - from)));
                group.clear();
                group_start = frame + 1;
            }
            if (progress) progress({base::frames_to_time(++done, kFilm), base::frames_to_time(total, kFilm)});
        }
        WAVECREST_TRY(writer.end_title());
    }
    return writer.finish();
}

}  // namespace wavecrest::standin
