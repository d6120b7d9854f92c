#include "convert/convert.hpp"

#include <catch2/catch.hpp>

#include "base/byte_source.hpp"
#include "bitstream/h264.hpp"
#include "bitstream/headers.hpp"
#include "bitstream/nal.hpp"
#include "container/mp4_reader.hpp"
#include "container/reader.hpp"
#include "media/language.hpp"
#include "support/clips.hpp"
#include "support/discs.hpp"
#include "support/h264_writer.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
using convert::film_name;

namespace {

profile::Profile quick() {
    auto parsed = profile::parse(
        "name = \"quick\"\n[video]\neffort = 1\nvisual_quality = 52.5\nmax_size = \"320x180\"\npeak_bitrate = \"1 "
        "Mbit/s\"\n",
        "quick");
    REQUIRE(parsed);
    return *parsed;
}

std::unique_ptr<source::Input> open_sample() {
    auto input = source::open_input(sample_disc());
    REQUIRE(input);
    return std::move(*input);
}

convert::Request main_title(profile::Profile profile, const base::Path& into, const std::string& name) {
    convert::Request request;
    request.profiles = {std::move(profile)};
    request.into = into;
    request.name = name;
    return request;
}

}  // namespace

namespace {

profile::Profile parsed(const std::string& text) {
    auto made = profile::parse(text, "p.toml");
    REQUIRE(made);
    return *made;
}

// All packets of a track, by their times.
std::map<Time, ByteVector> packets_of(PacketSource& source, TrackId track) {
    std::map<Time, ByteVector> all;
    while (auto packet = *source.read()) {
        if (packet->track != track) continue;
        const ByteSpan bytes = packet->data.view();
        all[packet->pts] = ByteVector(bytes.begin(), bytes.end());
    }
    return all;
}

}  // namespace

TEST_CASE("one decoding makes several files, each to the byte as alone", "[convert]") {
    const TempDir dir;
    const auto input = open_sample();
    const Cancel cancel;
    const profile::Profile large = parsed(
        "name = \"large\"\n[video]\neffort = 1\nmax_size = \"720p\"\npixels = \"as-source\"\n[audio]\nbitrate = "
        "\"96 kbit/s\"\n");
    const profile::Profile small = parsed(
        "name = \"small\"\ncontainer = \"matroska\"\n[video]\neffort = 1\nmax_size = \"160x120\"\n[[audio]]\n"
        "codec = \"flac\"\n[[audio]]\nbitrate = \"96 kbit/s\"\n");
    convert::Request request = main_title(large, dir / "both", "Lake (2021)");
    request.profiles.push_back(small);
    const auto plan = convert::make_plan(*input, request);
    REQUIRE(plan);
    // The stereo AAC of both is one encode, and nothing that filters differs.
    CHECK(plan->graph.chains.size() == 1);
    CHECK(plan->graph.video_encodes.size() == 2);
    CHECK(plan->graph.audio_encodes.size() == 2);
    const auto both = convert::run(*input, *plan, {}, cancel);
    REQUIRE(both);
    REQUIRE(both->files.size() == 2);
    CHECK(both->files[0].path == dir / "both/Lake (2021)/Lake (2021).mp4");
    CHECK(both->files[1].path == dir / "both/Lake (2021)/Lake (2021) - small.mkv");
    for (std::size_t i = 0; i < 2; ++i) {
        const auto alone_plan =
            convert::make_plan(*input, main_title(i == 0 ? large : small, dir / (i == 0 ? "a" : "b"), "Lake (2021)"));
        REQUIRE(alone_plan);
        const auto alone = convert::run(*input, *alone_plan, {}, cancel);
        REQUIRE(alone);
        CHECK(read_all(alone->path()) == read_all(both->files[i].path));
    }
    request.profiles[1].name = "large";
    request.profiles.push_back(request.profiles[1]);
    request.into = dir / "c";
    CHECK(convert::make_plan(*input, request).error().what == "two profiles have the same name");
}

TEST_CASE("surround audio goes along as it is, as AC-3 and as stereo AAC, from one track", "[convert]") {
    const TempDir dir;
    const auto input = source::open_input(rich_dvd());
    REQUIRE(input);
    const Cancel cancel;
    convert::Request request = main_title(
        parsed("name = \"tv\"\ncontainer = \"matroska\"\n[video]\neffort = 1\nmax_size = \"160x120\"\n[[audio]]\n"
               "codec = \"as-source\"\n[[audio]]\ncodec = \"ac3\"\nchannels = \"5.1\"\nbitrate = \"256 "
               "kbit/s\"\n[[audio]]\ncodec = \"aac\"\n"),
        dir.path(), "Lake");
    request.pick = "1";
    request.audio = "1,2";
    const auto plan = convert::make_plan(**input, request);
    REQUIRE(plan);
    // The second track is AC-3 of fewer channels and bits than the profile wants: kept, and once.
    CHECK(plan->graph.audio_encodes.size() == 3);
    CHECK(plan->graph.kept.size() == 2);
    const auto outcome = convert::run(**input, *plan, {}, cancel);
    REQUIRE(outcome);
    auto file = base::FileSource::open(outcome->path());
    REQUIRE(file);
    auto made = container::open_media(std::make_shared<base::FileSource>(std::move(*file)));
    REQUIRE(made);
    const auto& tracks = made->source->tracks();
    REQUIRE(tracks.size() == 6);
    const std::pair<Codec, int> expected[] = {
        {Codec::ac3, 6}, {Codec::ac3, 6}, {Codec::aac, 2}, {Codec::ac3, 2}, {Codec::aac, 2}};
    for (std::size_t i = 0; i < 5; ++i) {
        INFO(i);
        CHECK(tracks[i + 1].codec == expected[i].first);
        CHECK(tracks[i + 1].channels == expected[i].second);
        CHECK(media::same_language(tracks[i + 1].language, i < 3 ? "en" : "de"));
    }
    // What was kept is the disc's own, at its times.
    auto disc = (*input)->open(plan->pick);
    REQUIRE(disc);
    const auto own = packets_of(**disc, plan->graph.kept[0].id);
    const auto kept = packets_of(*made->source, tracks[1].id);
    REQUIRE(own.size() > 50);
    CHECK(kept.size() == own.size());
    auto k = kept.begin();
    for (const auto& [time, bytes] : own) {
        if (k == kept.end()) break;
        CHECK(std::chrono::abs(k->first - time) < base::from_seconds(0.0011));  // Matroska's times are milliseconds
        REQUIRE(k->second == bytes);
        ++k;
    }
    // What is AC-3 of that rate already is not encoded anew.
    convert::Request receiver = main_title(*profile::find("living-room"), dir / "other", "Lake");
    receiver.pick = "1";
    const auto as_it_is = convert::make_plan(**input, receiver);
    REQUIRE(as_it_is);
    CHECK(as_it_is->graph.kept.size() == 1);
    CHECK(as_it_is->graph.audio_encodes.size() == 1);
    // What the container can't hold is refused before anything is written.
    for (const char* wrong : {"container = \"mpeg-ts\"\n[audio]\ncodec = \"flac\"\n",
                              "container = \"webm\"\n[audio]\ncodec = \"opus\"\n"}) {
        request.profiles = {parsed(fmt::format("name = \"x\"\n{}", wrong))};
        const auto refused = convert::make_plan(**input, request);
        REQUIRE_FALSE(refused);
        CHECK(refused.error().kind == ErrorKind::usage);
        CHECK(refused.error().remedy.find("matroska") != std::string::npos);
    }
}

TEST_CASE("film names come from folders and labels", "[convert]") {
    CHECK(film_name("Lanterns over Cedar Lake (2019)").full() == "Lanterns over Cedar Lake (2019)");
    CHECK(film_name("Lanterns over Cedar Lake (2019)").year == 2019);
    CHECK(film_name("LANTERNS_OVER_CEDAR_LAKE").full() == "Lanterns Over Cedar Lake");
    CHECK(film_name("LANTERNS_OVER_CEDAR_LAKE").year == 0);
    CHECK(film_name("Up").full() == "Up");
    CHECK(film_name("Film (12345)").year == 0);
    CHECK(film_name("Film (201x)").year == 0);
    CHECK(film_name("a/b\\c:d").name == "a-b-c-d");
    CHECK(film_name("  ..  ").name == "Film");
    CHECK(film_name("(2019)").name == "(2019)");
    CHECK(film_name("../../etc/passwd").name.find('/') == std::string::npos);
    CHECK(convert::library_path(film_name("Film (2019)"), "mp4") == base::Path("Film (2019)/Film (2019).mp4"));
}

TEST_CASE("discs of one film, seasons and episodes are told by their names", "[convert]") {
    const auto disc = [](const char* text) {
        const convert::FilmName name = film_name(text);
        return std::tuple(name.name, name.year, name.part, name.season);
    };
    CHECK(disc("Lanterns (2019) Disc 2") == std::tuple("Lanterns", 2019, 2, -1));
    CHECK(disc("Lanterns - disc2 (2019)") == std::tuple("Lanterns", 2019, 2, -1));
    CHECK(disc("LANTERNS_DISC_1") == std::tuple("Lanterns", 0, 1, -1));
    CHECK(disc("Boathouse Stories Season 3 DVD 1") == std::tuple("Boathouse Stories", 0, 1, 3));
    CHECK(disc("Disc 2") == std::tuple("Disc 2", 0, 0, -1));  // nothing else is left
    CHECK(disc("Compact Disc") == std::tuple("Compact Disc", 0, 0, -1));
    CHECK(disc("Part 2") == std::tuple("Part 2", 0, 0, -1));
    const convert::FilmName episode = convert::given_name("Boathouse Stories (2018) S02E11");
    CHECK(episode.name == "Boathouse Stories");
    CHECK(episode.year == 2018);
    CHECK(episode.season == 2);
    CHECK(episode.episode == 11);
    CHECK(episode.full() == "Boathouse Stories (2018) S02E11");
}

TEST_CASE("a house's templates make the names", "[convert]") {
    using convert::FilmName;
    const FilmName film{"Lanterns", 2019}, unknown{"Up"}, second{"Lanterns", 2019, 2}, episode{"Stories", 0, 0, 1, 4},
        special{"Stories", 2018, 0, 0, 1};
    const auto path = [](const FilmName& name, const convert::NameTemplates& templates = {}) {
        REQUIRE(convert::check(templates));
        return convert::library_path(name, "mkv", templates).string();
    };
    CHECK(path(film) == "Lanterns (2019)/Lanterns (2019).mkv");
    CHECK(path(unknown) == "Up/Up.mkv");
    CHECK(path(second) == "Lanterns (2019)/Lanterns (2019) - part2.mkv");
    CHECK(path(episode) == "Stories/Season 01/Stories - S01E04.mkv");
    CHECK(path(special) == "Stories (2018)/Season 00/Stories (2018) - S00E01.mkv");
    const convert::NameTemplates house{"Films/{year}/{title} [{year:4}] cd{part}", "{series}/{season}x{episode:03}"};
    CHECK(path(second, house) == "Films/2019/Lanterns [2019] cd2.mkv");
    CHECK(path(episode, house) == "Stories/1x004.mkv");
    CHECK(path(unknown, {"{title} ({year}) x", "{title} {episode}"}) == "Up x.mkv");
    // Nothing that an SMB client or a file system would refuse.
    CHECK(path({"a/b: \"c\"?"}) == "a-b- -c--/a-b- -c--.mkv");
    CHECK(path({"NUL"}) == "NUL_/NUL_.mkv");
    CHECK(path({"Trailing. "}, {"{title}/x{title}", "{title}{episode}"}) == "Trailing/xTrailing.mkv");
    const std::string longest = path({std::string(300, 'x') + "\xC3\xA9"});
    CHECK(base::Path(longest).filename().string().size() == 204);
    CHECK(convert::safe_name(std::string(199, 'x') + "\xC3\xA9") == std::string(199, 'x'));
    for (const char* film_names : {"{titel}", "fixed", "{title", "/{title}", "../{title}", "a/../{title}", "{title}/",
                                   "{title:9999999}", "{title:x}", ""}) {
        CAPTURE(film_names);
        CHECK_FALSE(convert::check({film_names, convert::NameTemplates().episode}));
    }
    CHECK_FALSE(convert::check({convert::NameTemplates().film, "{title} {season}"}));
}

TEST_CASE("a plan says what happens to each track, and why", "[convert]") {
    const TempDir dir;
    const auto input = open_sample();
    const auto plan = convert::make_plan(*input, main_title(*profile::find("full-picture"), dir.path(), ""));
    REQUIRE(plan);
    CHECK(plan->target() == dir / "Sample Film (2020)/Sample Film (2020).mp4");
    CHECK(plan->title == 1);
    REQUIRE(plan->tracks.size() == 2);
    for (const auto& track : plan->tracks) {
        CHECK(track.action == convert::TrackPlan::Action::transcode);
        CHECK_FALSE(track.why.empty());
    }
    CHECK(plan->graph.chains[0].fields->marked_film);
    CHECK(plan->graph.video_encodes[0].encode.width == 854);
    CHECK(plan->graph.video_encodes[0].encode.height == 480);
    CHECK(plan->graph.video_encodes[0].encode.colour == ColourDescription{6, 6, 6, false});
    CHECK(plan->graph.video_encodes[0].encode.frame_rate == Ratio{24000, 1001});
    CHECK(plan->targets[0].most_bytes > 0);
    CHECK(dir.files().empty());
}

TEST_CASE("sizes fit the profile without being enlarged", "[convert]") {
    const TempDir dir;
    const auto input = open_sample();
    const auto size = [&](const std::string& video) {
        const auto profile = profile::parse("name = \"x\"\n[video]\n" + video, "x");
        REQUIRE(profile);
        const auto plan = convert::make_plan(*input, main_title(*profile, dir.path(), ""));
        REQUIRE(plan);
        const auto& encode = plan->graph.video_encodes[0].encode;
        CHECK(encode.width % 2 == 0);
        CHECK(encode.height % 2 == 0);
        // Shown as wide as before, to a pixel.
        const double aspect = encode.width * encode.pixel_aspect.value() / encode.height;
        CHECK(aspect == Approx(16.0 / 9).epsilon(0.006));
        return std::pair(encode.width, encode.height);
    };
    CHECK(size("max_size = \"2160p\"\n") == std::pair(854, 480));
    CHECK(size("max_size = \"480p\"\n") == std::pair(854, 480));
    CHECK(size("max_size = \"640x360\"\n") == std::pair(640, 360));
    CHECK(size("max_size = \"320x2000\"\n") == std::pair(320, 180));
    CHECK(size("pixels = \"as-source\"\n") == std::pair(720, 480));
}

TEST_CASE("a conversion keeps every picture, the chapters and the length", "[convert]") {
    const TempDir dir;
    const auto input = open_sample();
    const auto plan = convert::make_plan(*input, main_title(quick(), dir.path(), "Quick (2021)"));
    REQUIRE(plan);
    const Cancel cancel;
    Time furthest{};
    const auto outcome = convert::run(
        *input, *plan, [&](const base::ProgressState& state) { furthest = std::max(furthest, state.done); }, cancel);
    REQUIRE(outcome);
    CHECK(outcome->pictures == kSampleFrames);
    CHECK(outcome->duration == base::frames_to_time(kSampleFrames, {24000, 1001}));
    CHECK(furthest == outcome->duration);
    CHECK(outcome->problems.empty());
    CHECK(outcome->size_bytes == std::filesystem::file_size(dir / "Quick (2021)/Quick (2021).mp4"));
    CHECK(dir.files() == std::vector<std::string>{"Quick (2021)/Quick (2021).mp4",
                                                  "Quick (2021)/Quick (2021).mp4.record.json"});
    auto file = base::FileSource::open(outcome->path());
    REQUIRE(file);
    const auto movie = container::read_mp4(*file);
    REQUIRE(movie);
    CHECK(movie->index_in_front);
    CHECK(movie->chapters.size() == 5);
    CHECK(movie->tags.title == "Quick");
    REQUIRE(movie->tracks.size() == 2);
    CHECK(movie->tracks[0].samples.size() == kSampleFrames);
    CHECK(movie->tracks[0].info.width == 320);
    CHECK(movie->tracks[0].info.frame_rate == Ratio{24000, 1001});
    CHECK(movie->tracks[1].info.language == "eng");
    CHECK(movie->duration == outcome->duration);
    // The first audio packets lie before 0: the encoder's priming.
    CHECK(movie->tracks[1].samples[0].pts == base::from_ticks(-1600, 48000));
    // Interleaved: no packet far from its time in the file.
    std::uint64_t last = 0;
    for (const auto& sample : movie->tracks[0].samples) {
        CHECK(sample.offset >= last);
        last = sample.offset;
    }
    // A second time: refused, and the first stays as it is.
    const auto again = convert::make_plan(*input, main_title(quick(), dir.path(), "Quick (2021)"));
    REQUIRE_FALSE(again);
    CHECK(again.error().kind == ErrorKind::machine);
}

TEST_CASE("audio that is missing, in part or wholly, does not shift or stop the picture, and is told", "[convert]") {
    const TempDir dir;
    for (const bool all : {false, true}) {
        INFO((all ? "all audio" : "an interval of audio") << " is missing");
        const base::Path rip = dir / (all ? "all" : "part");
        copy_disc(rip);
        ByteVector vob = read_all(rip / "VIDEO_TS/VTS_01_1.VOB");
        for (std::size_t at = 0; at < vob.size(); at += 2048) {
            const bool within = all || (at > vob.size() / 4 && at < vob.size() / 2);
            if (within && vob[at + 17] == 0xBD) vob[at + 17] = 0xBE;  // a padding packet instead
        }
        write_all(rip / "VIDEO_TS/VTS_01_1.VOB", vob);
        auto input = source::open_input(rip);
        REQUIRE(input);
        auto plan = convert::make_plan(**input, main_title(quick(), dir / "library", all ? "All" : "Part"));
        REQUIRE(plan);
        plan->accept_losses = true;
        const Cancel cancel;
        const auto outcome = convert::run(**input, *plan, {}, cancel);
        REQUIRE(outcome);
        CHECK(outcome->pictures == kSampleFrames);
        REQUIRE_FALSE(outcome->problems.empty());
        CHECK(outcome->problems.back().what.find("audio") != std::string::npos);
        auto file = base::FileSource::open(outcome->path());
        REQUIRE(file);
        const auto movie = container::read_mp4(*file);
        REQUIRE(movie);
        CHECK(movie->duration == outcome->duration);
        // With silence in the gap, the audio is as long as ever.
        if (!all) CHECK(std::abs(base::to_seconds(movie->tracks[1].end - movie->duration)) < 0.03);
    }
}

TEST_CASE("a cancelled conversion leaves nothing behind", "[convert]") {
    const TempDir dir;
    const auto input = open_sample();
    const auto plan = convert::make_plan(*input, main_title(quick(), dir / "library", ""));
    REQUIRE(plan);
    Cancel cancel;
    const auto outcome = convert::run(
        *input, *plan,
        [&](const base::ProgressState& state) {
            if (state.done > base::from_seconds(2)) cancel.request();
        },
        cancel);
    REQUIRE_FALSE(outcome);
    CHECK(outcome.error().kind == ErrorKind::interrupted);
    CHECK(std::filesystem::is_empty(dir.path()));
}

TEST_CASE("an estimate comes near the real size", "[convert]") {
    const TempDir dir;
    const auto input = open_sample();
    const auto plan = convert::make_plan(*input, main_title(quick(), dir.path(), ""));
    REQUIRE(plan);
    const Cancel cancel;
    const auto expected = convert::estimate(*input, *plan, cancel);
    REQUIRE(expected);
    CHECK(dir.files().empty());
    // Never more than there is: a short title is tried once, as a whole.
    CHECK(expected->sampled > base::from_seconds(5));
    CHECK(expected->sampled <= plan->duration + base::from_seconds(0.1));
    const auto outcome = convert::run(*input, *plan, {}, cancel);
    REQUIRE(outcome);
    CHECK(static_cast<double>(expected->size_bytes) == Approx(static_cast<double>(outcome->size_bytes)).epsilon(0.5));
}

TEST_CASE("what can't be decoded is named before anything is converted", "[convert][h264]") {
    const TempDir dir;
    H264WriterSettings settings;
    settings.pictures = 50;
    const H264Written written = write_h264(settings);
    TestTrack test_track;
    test_track.track.id = 1;
    test_track.track.kind = TrackKind::video;
    test_track.track.codec = Codec::h264;
    test_track.track.codec_config = written.config;
    test_track.packets = written.packets;
    for (Packet& packet : test_track.packets) packet.track = 1;
    bitstream::describe_headers(test_track.track, {});
    const auto said = [&](const TestTrack& film) {
        std::filesystem::remove(dir / "film.mp4");
        write_media(dir / "film.mp4", "mp4", {film});
        const auto input = source::open_input(dir / "film.mp4");
        REQUIRE(input);
        const auto plan = convert::make_plan(**input, main_title(quick(), dir / "library", ""));
        if (!plan) return "plan: " + plan.error().what;
        const auto cost = convert::estimate(**input, *plan, Cancel());
        return cost ? std::string() : "estimate: " + cost.error().what;
    };
    CHECK(said(test_track).empty());
    // By the parameter sets, or by what the first picture brings along.
    const auto sets = bitstream::h264::parameter_sets(written.config.view());
    REQUIRE(sets);
    TestTrack groups = test_track;
    groups.track.codec_config = Bytes(bitstream::h264::make_config(sets->units[0], ByteVector{0x68, 0xC5}));
    CHECK_THAT(said(groups), Catch::StartsWith("plan: ") && Catch::Contains("slice groups"));
    const auto with = [&](std::size_t picture, const ByteVector& unit) {
        TestTrack film = test_track;
        ByteVector data;
        bitstream::nal::append(data, unit);
        const ByteSpan rest = film.packets[picture].data.view();
        data.insert(data.end(), rest.begin(), rest.end());
        film.packets[picture].data = Bytes(std::move(data));
        return film;
    };
    CHECK_THAT(said(with(0, {0x6F, 83, 0x00, 0x28, 0xFF})),
               Catch::StartsWith("plan: ") && Catch::Contains("scalable H.264"));
    // What only later pictures tell: by trying.
    CHECK_THAT(said(with(1, {0x62, 0x88, 0x80})),
               Catch::StartsWith("estimate: ") && Catch::Contains("uses data partitioning"));
    CHECK_FALSE(std::filesystem::exists(dir / "library"));
}

TEST_CASE("both eyes' views go along, or aren't mixed", "[convert][frame-packing]") {
    const TempDir dir;
    TestTrack test_track = video_track(Codec::h264, 24);
    using Arrangement = FramePacking::Arrangement;
    const auto plan = [&](Arrangement arrangement, const char* largest) {
        test_track.track.frame_packing = FramePacking{arrangement, FramePacking::View::right};
        std::filesystem::remove(dir / "film.mkv");
        write_media(dir / "film.mkv", "matroska", {test_track});
        const auto input = source::open_input(dir / "film.mkv");
        REQUIRE(input);
        profile::Profile profile = quick();
        profile.video.largest = largest == std::string("small") ? decltype(profile.video.largest){160, 90}
                                                                : decltype(profile.video.largest){320, 180};
        return convert::make_plan(**input, main_title(profile, dir / "library", ""));
    };
    for (const Arrangement arrangement : {Arrangement::side_by_side, Arrangement::rows}) {
        const auto kept = plan(arrangement, "as it is");
        REQUIRE(kept);
        CHECK(std::any_of(kept->outputs[0].steps.begin(), kept->outputs[0].steps.end(), [](const std::string& step) {
            return step.find("3D ") == 0 && step.find("right view first: kept") != std::string::npos;
        }));
    }
    CHECK(plan(Arrangement::side_by_side, "small"));
    const auto mixed = plan(Arrangement::rows, "small");
    REQUIRE_FALSE(mixed);
    CHECK(mixed.error().kind == ErrorKind::input);
    CHECK(mixed.error().what.find("would mix the two views") != std::string::npos);
}

TEST_CASE("titles that can't be picked, and inputs that are none", "[convert]") {
    const auto input = open_sample();
    CHECK(input->pick("main").value().title->number == 1);
    CHECK(input->pick("2").value().title->number == 2);
    for (const char* wrong : {"3", "0", "film", "", "1x"}) {
        const auto picked = input->pick(wrong);
        REQUIRE_FALSE(picked);
        CHECK(picked.error().kind == ErrorKind::usage);
        CHECK(picked.error().remedy.find("from 1 to 2") != std::string::npos);
    }
    const TempDir dir;
    CHECK_FALSE(source::open_input(dir / "missing"));
    CHECK_FALSE(source::open_input(dir.path()));
    write_all(dir / "empty", std::string());
    CHECK(source::open_input(dir / "empty").error().what == "the file is empty");
    write_all(dir / "noise", ByteVector(10'000, 0x9D));
    CHECK(source::open_input(dir / "noise").error().kind == ErrorKind::input);
    write_all(dir / "other.mkv", std::string("\x1A\x45\xDF\xA3 and so on"));
    CHECK(source::open_input(dir / "other.mkv").error().what.find("Matroska") != std::string::npos);
}

TEST_CASE("losses add up once, and what is much of a film is not lost unasked", "[convert]") {
    const auto at = [](double from, double to) {
        return Problem{"unreadable", base::from_seconds(from), base::from_seconds(to)};
    };
    const auto loss = convert::add_up({at(10, 11), at(3, 3), at(10.5, 12), at(100, 100.5)});
    REQUIRE(loss.intervals.size() == 3);
    CHECK(base::to_seconds(loss.total) == Approx(0.04 + 2 + 0.5));
    CHECK(convert::times_of(loss) == "0:03.0 to 0:03.0, 0:10.0 to 0:12.0, 1:40.0 to 1:40.5");
    CHECK(convert::check_loss(loss, base::from_seconds(3600), "film"));
    const auto refused = convert::check_loss(loss, base::from_seconds(200), "film");
    REQUIRE_FALSE(refused);
    CHECK(refused.error().kind == ErrorKind::input);
    CHECK(refused.error().remedy.find("--accept-losses") != std::string::npos);
    CHECK_FALSE(convert::check_loss(convert::add_up({at(0, 10.5)}), base::from_seconds(7200), "film"));
    CHECK_FALSE(convert::add_up({}).any());
    CHECK(convert::check_loss(convert::add_up({}), {}, "film"));
}
