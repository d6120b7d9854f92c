#include "cli/command_line.hpp"

#include <CLI/CLI.hpp>

#include <fmt/format.h>

#include <algorithm>
#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "base/config.hpp"
#include "base/log.hpp"
#include "base/units.hpp"
#include "cli/command_help.hpp"
#include "cli/commands.hpp"
#include "cli/terminal.hpp"
#include "cli/worker.hpp"

namespace wavecrest::cli {
namespace {

constexpr const char* kExitHelp =
    "Exit status: 0 done, or verdict pass or warn; 1 checks failed; 2 wrong usage; 3 input can't be used;\n4 refused "
    "by the system (port, disk space, permission, address); 5 done, but some of the input was lost;\n130 interrupted.";

// For who starts the program without a command.
constexpr const char* kStart =
    R"(Wavecrest: convert discs, stream them, and test that every screen plays them.

First time here? This runs the whole job on sample data:
  wavecrest demo

A usual day:
  wavecrest inspect RIP                          what does the disc contain?
  wavecrest convert RIP --into LIBRARY --plan    dry run; without --plan it converts
  wavecrest site new; wavecrest site check       write down devices and streams, and check them
  wavecrest stream run --site site.toml          run the streams
  wavecrest verify --site site.toml              test every stream on every device

All commands: wavecrest --help       One command: wavecrest COMMAND --help
)";

// A range of numbers; help shows only what kind of value it is.
template <typename T>
CLI::Validator within(T least, T most) {
    return CLI::Range(least, most).description("");
}

void add_output(CLI::App* app, Output& output, bool with_out = false) {
    app->add_flag("--json", output.json, "the result as one JSON object on standard output");
    app->add_flag("-q,--quiet", output.quiet, "no progress");
    if (with_out)
        app->add_option("--out", output.out, "folder for result files: JSON, CSV and charts")->type_name("DIR");
}

void add_nice(CLI::App* app, std::string& nice) {
    app->add_option("--nice", nice,
                    "work only at these hours, or with this share of the processor: 22:00-07:00, \"50 %\"")
        ->type_name("WHEN");
}

void add_retries(CLI::App* app, int& retries) {
    app->add_option("--retries", retries, "read attempts before a sector counts as lost")
        ->capture_default_str()
        ->check(within(0, 100))
        ->type_name("N");
}

// What is wrong with a network.
void add_faults(CLI::App* app, LinkFaultOptions& faults) {
    app->add_option("--delay", faults.delay, "one-way delay: \"40 ms\"")->type_name("TIME");
    app->add_option("--jitter", faults.jitter, "jitter: up to this much more delay")->type_name("TIME");
    app->add_option("--loss", faults.loss, "packet loss in %; TCP sends lost packets again")
        ->check(within(0.0, 100.0))
        ->type_name("PERCENT");
    app->add_option("--reorder", faults.reorder, "packets out of order in %")
        ->check(within(0.0, 100.0))
        ->type_name("PERCENT");
    app->add_option("--outage", faults.outage, "outage length: nothing passes for this long ...")->type_name("TIME");
    app->add_option("--every", faults.outage_every, "... and its interval: once per this time")->type_name("TIME");
    app->add_option("--squeeze", faults.squeeze,
                    "bit rate of the link over time: \"8 Mbit/s 20 s, 1 Mbit/s 20 s, 8 Mbit/s\"; the last one stays")
        ->type_name("RATES");
    app->add_option("--seed", faults.seed, "random seed of the schedule")->capture_default_str()->type_name("N");
}

// The end of a command's help.
void add_examples(CLI::App* app, std::initializer_list<const char*> examples, const std::string& note = "") {
    std::string text = "Examples:\n";
    for (const char* example : examples) text += fmt::format("  {}\n", example);
    app->footer(text + (note.empty() ? "" : "\n" + note));
}

// A command or an option that isn't there, with the one that was meant: the parser tells of what is missing first.
std::optional<Error> find_mistyped(const CLI::App& app, const std::vector<std::string>& words) {
    const CLI::App* at = &app;
    std::string name = "wavecrest";
    const auto refuse = [&](std::string what, const std::string& word, const std::vector<std::string>& known) {
        const std::string meant = base::nearest(word, known);
        return Error{ErrorKind::usage, std::move(what), "the command line",
                     meant.empty() ? name + " --help shows what there is" : fmt::format("did you mean {}?", meant)};
    };
    for (const std::string& word : words) {
        if (word == "--") break;
        if (word.starts_with("--")) {
            const std::string option = word.substr(0, word.find('='));
            if (at->get_option_no_throw(option) != nullptr) continue;
            std::vector<std::string> known;
            for (const CLI::Option* one : at->get_options()) {
                for (const std::string& long_name : one->get_lnames()) {
                    if (!one->get_group().empty()) known.push_back("--" + long_name);
                }
            }
            return refuse(fmt::format("{} has no option {}", name, option), option, known);
        }
        if (word.starts_with("-") || at->get_subcommands({}).empty()) continue;
        const CLI::App* next = nullptr;
        std::vector<std::string> known;
        for (const CLI::App* one : at->get_subcommands({})) {
            known.push_back(one->get_name());
            if (one->get_name() == word) next = one;
        }
        if (next == nullptr) {
            return refuse(fmt::format("{} has no command \"{}\"", name, word), word, known);
        }
        at = next;
        name += " " + word;
    }
    return std::nullopt;
}

// What the command line says, for each command.
struct AllOptions {
    std::string drive_timeout = "2 min";
    SiteNewOptions site_new;
    SiteOptions site_options;
    SiteMeasureOptions site_measure;
    InspectOptions inspect;
    ProfileOptions profile_options;
    ConvertOptions convert;
    WeighOptions weigh;
    JobOptions job;
    StreamRunOptions stream_run;
    StreamControlOptions control;
    DeviceOptions device_options;
    DeviceTestOptions device_test;
    DeviceFindOptions device_find;
    ShareFindOptions share_find;
    ShareOptions share;
    ShareAttachOptions share_attach;
    RendererOptions renderer;
    LibraryOptions library;
    bool device_live = false;
    StandinRendererOptions standin_renderer;
    VerifyOptions verify;
    ReportOptions report;
    StandinDiscOptions disc;
    StandinLinkOptions link;
    StandinDeviceOptions screen;
    LogOptions log;
    std::string demo_folder = "demo-house";
};
// What the command that was given does; set while the command line is parsed.
using Command = std::function<int()>;

void add_site(CLI::App& app, AllOptions& all, Command& command) {
    auto* site = app.add_subcommand("site", "the site file: devices, streams, addresses");
    site->require_subcommand(1);
    add_examples(site, {"wavecrest site new", "wavecrest site check", "wavecrest site show"});
    auto* new_site = site->add_subcommand("new", "start a site file");
    new_site->add_option("file", all.site_new.file, "the file to make")->capture_default_str()->type_name("FILE");
    new_site->add_option("--name", all.site_new.house, "the site's name")->capture_default_str()->type_name("NAME");
    new_site->add_option("--port", all.site_new.port, "TCP port of the streams (8080)")
        ->check(within(1, 65535))
        ->type_name("PORT");
    new_site
        ->add_option(
            "--device", all.site_new.devices,
            "a device: name, class (see device list), link: gigabit, fast-ethernet or a bit rate such as 12 Mbit/s")
        ->type_name("NAME,CLASS,LINK")
        ->allow_extra_args(false);
    new_site->add_option("--stream", all.site_new.streams, "a stream: name and file")
        ->type_name("NAME,FILE")
        ->allow_extra_args(false);
    new_site->add_option("--collection", all.site_new.collections, "a folder of the library that devices browse")
        ->type_name("NAME,FOLDER")
        ->allow_extra_args(false);
    add_examples(
        new_site,
        {"wavecrest site new",
         "wavecrest site new site.toml --name \"Cedar Landing\" --device \"Lounge TV,tv-hd,gigabit\"",
         "wavecrest site new --device \"Tablet,tablet-basic,12 Mbit/s\" --stream \"Lanterns,library/Lanterns.mp4\""});
    new_site->callback([&] { command = [&] { return run_site_new(all.site_new); }; });
    auto* check_site = site->add_subcommand("check", "check the site file against this machine before anything runs");
    check_site->add_option("file", all.site_options.file, "the site file")->capture_default_str()->type_name("FILE");
    add_output(check_site, all.site_options.output);
    add_examples(check_site, {"wavecrest site check", "wavecrest site check site.toml --json"});
    check_site->callback([&] { command = [&] { return run_site_check(all.site_options); }; });
    auto* show_site = site->add_subcommand("show", "print the address to enter on each device");
    show_site->add_option("file", all.site_options.file, "the site file")->capture_default_str()->type_name("FILE");
    add_output(show_site, all.site_options.output);
    show_site->add_flag("--plain", all.site_options.plain, "addresses only, no QR codes");
    add_examples(show_site, {"wavecrest site show", "wavecrest site show site.toml --plain"});
    show_site->callback([&] { command = [&] { return run_site_show(all.site_options); }; });
    auto* measure_site =
        site->add_subcommand("measure", "measure what this machine can do, and keep it (a minute or two)");
    measure_site->add_option("file", all.site_measure.file, "the site file, for the drives of its films (site.toml)")
        ->type_name("FILE");
    measure_site
        ->add_option("--folder", all.site_measure.folders,
                     "a folder whose drive or share is tried by writing to it; several (that of the site file)")
        ->delimiter(',')
        ->type_name("DIR");
    measure_site->add_flag("--show", all.site_measure.show, "show what was measured before");
    add_output(measure_site, all.site_measure.output, true);
    add_examples(measure_site, {"wavecrest site measure", "wavecrest site measure --folder /media/films",
                                "wavecrest site measure --show --json"});
    measure_site->callback([&] { command = [&] { return run_site_measure(all.site_measure); }; });
    auto* service_site = site->add_subcommand("service", "print the systemd unit that starts the streams at boot");
    service_site->add_option("file", all.site_options.file, "the site file")->capture_default_str()->type_name("FILE");
    add_examples(service_site, {"wavecrest site service site.toml",
                                "wavecrest site service | sudo tee /etc/systemd/system/wavecrest.service"});
    service_site->callback([&] { command = [&] { return run_site_service(all.site_options); }; });
}

void add_inspect(CLI::App& app, AllOptions& all, Command& command) {
    auto* inspect_app = app.add_subcommand("inspect", "show what a disc or file contains");
    inspect_app
        ->add_option("input", all.inspect.input,
                     "a ripped disc (folder or image), a media file, an http:// address, or - for standard input")
        ->required()
        ->type_name("INPUT");
    inspect_app
        ->add_option("--pick", all.inspect.pick, "titles to show in full: main, episodes, all, or numbers, e.g. 1,3-5")
        ->type_name("TITLES");
    inspect_app->add_flag("--deep", all.inspect.deep,
                          "read all of it: bit rates, keyframes, decoder buffer, cadence, loudness, damage");
    add_retries(inspect_app, all.inspect.retries);
    add_output(inspect_app, all.inspect.output, true);
    add_examples(inspect_app,
                 {"wavecrest inspect \"rips/Lanterns (2019)\"", "wavecrest inspect film.mkv --deep --out results",
                  "wavecrest inspect http://192.168.1.20:8080/lanterns.mp4"});
    inspect_app->callback([&] { command = [&] { return run_inspect(all.inspect); }; });
}

void add_profile(CLI::App& app, AllOptions& all, Command& command) {
    auto* profile = app.add_subcommand("profile", "transcoding profiles");
    profile->require_subcommand(1);
    add_examples(profile, {"wavecrest profile list", "wavecrest profile show small-screen > mine.toml"});
    auto* list_profiles = profile->add_subcommand("list", "the built-in profiles");
    add_output(list_profiles, all.profile_options.output);
    add_examples(list_profiles, {"wavecrest profile list", "wavecrest profile list --json"});
    list_profiles->callback([&] { command = [&] { return run_profile_list(all.profile_options); }; });
    auto* show_profile = profile->add_subcommand("show", "print a profile's TOML");
    show_profile->add_option("name", all.profile_options.name, "built-in name, or a file ending in .toml")
        ->required()
        ->type_name("PROFILE");
    add_output(show_profile, all.profile_options.output);
    add_examples(show_profile,
                 {"wavecrest profile show full-picture", "wavecrest profile show small-screen > mine.toml"});
    show_profile->callback([&] { command = [&] { return run_profile_show(all.profile_options); }; });
    auto* check_profile = profile->add_subcommand("check", "check a profile file for errors");
    check_profile->add_option("name", all.profile_options.name, "a file ending in .toml, or a built-in name")
        ->required()
        ->type_name("PROFILE");
    add_output(check_profile, all.profile_options.output);
    check_profile
        ->add_option("--device", all.profile_options.device,
                     "say what this device class, or description ending in .toml, could not play")
        ->type_name("CLASS");
    add_examples(check_profile,
                 {"wavecrest profile check mine.toml", "wavecrest profile check newer-tv --device tv-hd"});
    check_profile->callback([&] { command = [&] { return run_profile_check(all.profile_options); }; });
    auto* new_profile = profile->add_subcommand("new", "write a profile of your own, made like another");
    new_profile->add_option("name", all.profile_options.name, "its name")->required()->type_name("NAME");
    new_profile
        ->add_option("--like", all.profile_options.like, "built-in profile, or a file ending in .toml, to start from")
        ->capture_default_str()
        ->type_name("PROFILE");
    new_profile
        ->add_option("--set", all.profile_options.changes,
                     "KEY=VALUE to change, of the video, or of another table as audio.bitrate; several")
        ->type_name("KEY=VALUE");
    new_profile->add_option("-o,--output", all.profile_options.file, "file to write (NAME.toml)")->type_name("FILE");
    add_output(new_profile, all.profile_options.output);
    add_examples(new_profile, {"wavecrest profile new guest-room --like phone --set effort=7",
                               "wavecrest profile new den --like newer-tv --set \"audio.bitrate=256 kbit/s\""});
    new_profile->callback([&] { command = [&] { return run_profile_new(all.profile_options); }; });
}

void add_weigh(CLI::App& app, AllOptions& all, Command& command) {
    WeighOptions& weigh = all.weigh;
    auto* weigh_app = app.add_subcommand("weigh", "compare profiles on samples of a film: size, time, quality");
    weigh_app->add_option("input", weigh.input, "a ripped disc (folder or image), or a media file")
        ->required()
        ->type_name("INPUT");
    weigh_app
        ->add_option("--profile", weigh.profiles, "built-in profile, or a file ending in .toml; several are compared")
        ->delimiter(',')
        ->type_name("PROFILE");
    weigh_app
        ->add_option("--device", weigh.devices,
                     "say which of these devices play it; without --profile, what they decide is weighed: see convert")
        ->delimiter(',')
        ->type_name("DEVICE");
    weigh_app->add_option("--site", weigh.site, "a site file, for its devices: all, or those named by --device")
        ->type_name("FILE");
    weigh_app
        ->add_option("--target-size", weigh.target_size,
                     "find the profile's visual_quality for a file of this size, e.g. \"4 GB\"")
        ->type_name("SIZE");
    weigh_app
        ->add_option("--quality", weigh.quality,
                     "find the profile's visual_quality for this mean SSIM, e.g. 0.98 (visually lossless)")
        ->check(CLI::Range(0.5, 0.9999))
        ->type_name("SSIM");
    weigh_app->add_option("--pick", weigh.pick, "the title: main, or its number")
        ->capture_default_str()
        ->type_name("TITLE");
    weigh_app->add_option("--video", weigh.video, "number of the video track, where there are several")
        ->check(within(1, 99))
        ->type_name("N");
    weigh_app->add_option("--audio", weigh.audio, "audio tracks: first, all, none, languages or numbers")
        ->capture_default_str()
        ->type_name("WHICH");
    weigh_app->add_option("--subtitles", weigh.subtitles, "burned in: forced, none, or a language")
        ->capture_default_str()
        ->type_name("WHICH");
    weigh_app->add_option("--angle", weigh.angle, "the angle, where a title has several")
        ->capture_default_str()
        ->check(within(1, 9))
        ->type_name("N");
    add_retries(weigh_app, weigh.retries);
    add_output(weigh_app, weigh.output, true);
    add_examples(weigh_app, {"wavecrest weigh rips/Lanterns --profile full-picture,newer-tv,small-screen --out weighed",
                             "wavecrest weigh rips/Lanterns --site site.toml",
                             "wavecrest weigh rips/Lanterns --profile full-picture --target-size \"1.5 GB\""});
    weigh_app->callback([&] { command = [&] { return run_weigh(all.weigh); }; });
}

// What of a disc or file.
void add_convert_input(CLI::App* app, ConvertOptions& convert) {
    app->add_option("input", convert.inputs,
                    "a ripped disc (folder or image), a media file, an http:// address, or -; several, or a folder of "
                    "rips: each becomes a job")
        ->required()
        ->type_name("INPUT");
    app->add_option("--pick", convert.pick, "titles: main, episodes, all, or numbers, e.g. 1,3-5")
        ->capture_default_str()
        ->type_name("TITLES");
    app->add_option("--video", convert.video, "number of the video track, where there are several")
        ->check(within(1, 99))
        ->type_name("N");
    app->add_option(
           "--audio", convert.audio,
           "audio tracks: first (default), all (default with --remux), none, languages, e.g. en,fr, or track numbers")
        ->type_name("WHICH");
    app->add_option("--subtitles", convert.subtitles,
                    "burned in: forced (default), none, or a language, e.g. en; with --remux kept as tracks: all "
                    "(default), none, forced, or languages")
        ->type_name("WHICH");
    app->add_option("--subtitle-file", convert.subtitle_file,
                    "a file of text subtitles (SRT, WebVTT) that becomes a track; NAME.en.srt tells its language")
        ->type_name("FILE");
    app->add_flag("--captions", convert.captions,
                  "closed captions inside the video become a track of text; reads it once beforehand");
    app->add_option("--remux", convert.remux,
                    "remux, no re-encoding, to: mp4, matroska, webm, mpeg-ts, flv, wav, flac, mp3, adts, ogg; or "
                    "webvtt for text subtitles")
        ->type_name("CONTAINER");
    app->add_option("--cut", convert.cut, "with --remux: only this range, cut on keyframes, e.g. 0:10:00-0:20:00")
        ->type_name("FROM-TO");
    app->add_option("--angle", convert.angle, "the angle, where a title has several")
        ->capture_default_str()
        ->check(within(1, 9))
        ->type_name("N");
    app->add_option("--season", convert.season, "season number of the episodes; else that of the name, else 1")
        ->check(within(0, 999))
        ->type_name("N");
    app->add_option("--first-episode", convert.first_episode, "number of the first episode on this disc")
        ->capture_default_str()
        ->check(within(1, 9999))
        ->type_name("N");
}

// Into what.
void add_convert_outcome(CLI::App* app, ConvertOptions& convert) {
    add_retries(app, convert.retries);
    app->add_option("--profile", convert.profiles,
                    "built-in profile, or a file ending in .toml (full-picture); several: a file for each, from one "
                    "decoding")
        ->delimiter(',')
        ->type_name("PROFILE");
    app->add_option("--device", convert.devices,
                    "decide by what devices play: a class, CLASS+RECEIVER, a description ending in .toml, or with "
                    "--site a device of it; several. --profile then gives quality and effort")
        ->delimiter(',')
        ->type_name("DEVICE");
    app->add_option("--site", convert.site, "a site file, for its devices: all, or those named by --device")
        ->type_name("FILE");
    app->add_flag("--one-file", convert.one_file,
                  "with --device: one file that all of them play, at the size of the smallest");
    app->add_flag("--ladder", convert.ladder,
                  "a ladder: several bit rates in one folder, for HLS and DASH, with a page that plays it; a "
                  "profile with rungs makes one, too (any-room)");
}

// Where it goes, and under what name.
void add_convert_library(CLI::App* app, ConvertOptions& convert) {
    app->add_option("--into", convert.into, "library folder; the film gets its own folder there")
        ->required()
        ->type_name("DIR");
    app->add_option("--name", convert.name,
                    "the film's name, with its year: \"Name (Year)\"; else from the rip's folder")
        ->type_name("NAME");
    app->add_option("--film-names", convert.film_names,
                    "where films go below the library, without extension: {title}, {year}, {part} "
                    "(\"{title} ({year})/{title} ({year})\")")
        ->type_name("TEMPLATE");
    app->add_option("--episode-names", convert.episode_names,
                    "where episodes go: {title}, {year}, {season:02}, {episode:02}")
        ->type_name("TEMPLATE");
    app->add_option("--list", convert.list, "CSV with the columns disc, title, name: what is what on a shelf")
        ->type_name("FILE");
    app->add_flag("--extras", convert.extras, "bonus titles, too, into a folder \"extras\" beside the film");
    app->add_flag("!--no-record", convert.record,
                  "don't write NAME.record.json (source, profile, tracks, figures) beside the film");
}

// Now or later, tried or done.
void add_convert_manner(CLI::App* app, ConvertOptions& convert) {
    app->add_flag("--accept-losses", convert.accept_losses,
                  "write the result though more than 1 % or 10 s of the input can't be read");
    app->add_flag("--queue", convert.queue, "put it into the list of jobs instead of converting it now: see job run");
    app->add_flag("--watch", convert.watch,
                  "stay, and take what arrives in the folders, each when its copy is complete");
    app->add_option("--rest", convert.rest, "with --watch: a copy is complete when nothing changed for so long (1 min)")
        ->type_name("TIME");
    add_nice(app, convert.nice);
    auto* plan = app->add_flag("--plan", convert.plan, "dry run: actions, size, time");
    auto* quality = app->add_flag("--measure-quality", convert.quality,
                                  "decode the result and compare it with the source; with --plan on samples");
    app->add_flag("!--no-samples", convert.samples, "with --plan: try nothing; time by site measure, the size at most")
        ->needs(plan)
        ->excludes(quality);
}

void add_convert(CLI::App& app, AllOptions& all, Command& command) {
    auto* convert_app = app.add_subcommand("convert", "make a file that the site's devices can play");
    add_convert_input(convert_app, all.convert);
    add_convert_outcome(convert_app, all.convert);
    add_convert_library(convert_app, all.convert);
    add_convert_manner(convert_app, all.convert);
    add_output(convert_app, all.convert.output, true);
    add_examples(convert_app,
                 {"wavecrest convert rips/Lanterns --into /srv/library --plan",
                  "wavecrest convert rips/Lanterns --into /srv/library --device tv-uhd-hdr,tablet-basic",
                  "wavecrest convert rips --into /srv/library --plan",
                  "wavecrest convert rips/Series --into /srv/library --pick episodes --season 2",
                  "wavecrest convert recording.ts --remux mp4 --audio en --into /srv/library"},
                 "It stops when its terminal closes. To keep it running: nohup wavecrest convert ... &");
    convert_app->callback([&] { command = [&] { return run_convert(all.convert); }; });
}

// What is streamed, and how.
void add_stream_source(CLI::App* run, StreamRunOptions& options) {
    run->add_option("files", options.files, "a file or disc to stream, without a site file; or several in a row")
        ->type_name("FILE");
    run->add_option(
           "--delivery", options.deliveries,
           "deliveries: file, hls (on demand), live, live-hls, rtmp (shared), ladder (several bit rates); default file")
        ->delimiter(',')
        ->type_name("DELIVERIES");
    run->add_option("--title", options.title, "title number of a disc (main)")->type_name("TITLE");
    run->add_option("--chapter", options.chapter, "live: chapter to start with")->check(within(1, 999))->type_name("N");
    run->add_option("--name", options.name, "name of the stream; default: from the file")->type_name("NAME");
    run->add_option("--audio", options.choice.audio,
                    "live and hls: audio tracks: languages, e.g. en,fr, track numbers, or none; default: all supported")
        ->delimiter(',')
        ->type_name("WHICH");
    run->add_option("--video", options.choice.video, "live and hls: number of the video track, where there are several")
        ->check(within(1, 99))
        ->type_name("N");
    run->add_option("--burn-in", options.choice.burn_in,
                    "with --profile: subtitles burned in: forced, none, or a language, e.g. en")
        ->capture_default_str()
        ->type_name("WHICH");
    run->add_option("--subtitles", options.subtitles, "with file and hls: a subtitle file (SRT, WebVTT)")
        ->type_name("FILE");
    run->add_option("--profile", options.profile, "live: transcode with this profile")->type_name("PROFILE");
}

// To and from other RTMP programs.
void add_publishing(CLI::App* run, StreamRunOptions& options) {
    run->add_option("--push", options.push, "publish it to this RTMP server: rtmp://HOST/APPLICATION/KEY")
        ->type_name("ADDRESS");
    run->add_option("--push-key-file", options.push_key_file,
                    "file with the key for --push, whose address then ends with the application; "
                    "or $WAVECREST_PUSH_KEY")
        ->type_name("FILE");
    // Of the environment alone: what stands on the command line, everybody on this machine can read.
    run->add_option("--push-key", options.push_key)->envname("WAVECREST_PUSH_KEY")->group("");
    run->add_option("--publish-key", options.publish_key,
                    "accept RTMP publishing with this stream key (visible to other users of this machine)")
        ->type_name("KEY")
        ->envname("WAVECREST_PUBLISH_KEY");
    run->add_option("--publish-key-file", options.publish_key_file, "file with the stream key")->type_name("FILE");
    run->add_option("--rtmp-port", options.rtmp_port, "TCP port for RTMP, instead of the site's (1935)")
        ->check(within(1, 65535))
        ->type_name("PORT");
}

// Where it is served, and sent to.
void add_stream_server(CLI::App* run, StreamRunOptions& options) {
    run->add_option("--site", options.site, "the site file")->type_name("FILE");
    run->add_option("--port", options.port, "TCP port, instead of the site's")
        ->check(within(1, 65535))
        ->type_name("PORT");
    run->add_option("--certificate", options.certificate, "certificate (PEM) to serve HTTPS besides HTTP")
        ->type_name("FILE");
    run->add_option("--certificate-key", options.certificate_key, "its private key (PEM)")->type_name("FILE");
    run->add_option("--tls-port", options.tls_port, "TCP port for HTTPS, instead of the site's (8443)")
        ->check(within(1, 65535))
        ->type_name("PORT");
    run->add_option("--address", options.bind, "listen on this address only")->type_name("ADDRESS");
    run->add_option("--udp", options.udp, "also send by UDP to this address and port: 239.20.0.1:5004 (repeatable)")
        ->type_name("TO");
    run->add_option("--rtp", options.rtp, "also send by RTP to this address and port (repeatable)")->type_name("TO");
    run->add_flag("--loop", options.loop, "live: loop");
    run->add_option("--bitrate", options.rate, "transport streams: constant bit rate, such as \"8 Mbit/s\"")
        ->type_name("BITRATE");
    run->add_option("--interface", options.interface, "network interface for multicast, by name or address")
        ->type_name("NAME");
    run->add_option("--ttl", options.ttl, "multicast TTL (4)")->check(within(1, 255))->type_name("COUNT");
    run->add_option("--for", options.bound, "stop after this time, such as \"10 s\"")->type_name("TIME");
}

void add_stream_control(CLI::App* stream, AllOptions& all, Command& command) {
    const auto add_control = [&](const char* name, const char* what) {
        auto* sub = stream->add_subcommand(name, what);
        sub->add_option("--site", all.control.site, "the site file of the running streams")->type_name("FILE");
        sub->add_option("--port", all.control.port, "their HTTP port on this machine")
            ->check(within(1, 65535))
            ->type_name("PORT");
        add_output(sub, all.control.output);
        return sub;
    };
    auto* status = add_control("status", "running streams and their viewers: of this user on this machine");
    status->add_flag("--watch", all.control.watch, "refresh every second, until Ctrl-C");
    add_examples(status, {"wavecrest stream status", "wavecrest stream status --watch",
                          "wavecrest stream status --site site.toml --json"});
    status->callback([&] { command = [&] { return run_stream_status(all.control); }; });
    static constexpr std::pair<const char*, const char*> kOrders[] = {{"pause", "pause a live stream for all viewers"},
                                                                      {"resume", "resume a paused stream"},
                                                                      {"seek", "seek in a live stream for all viewers"},
                                                                      {"stop", "stop a live stream"}};
    for (const auto& [order, what] : kOrders) {
        auto* sub = add_control(order, what);
        sub->add_option("stream", all.control.stream, "its name or the start of it; optional if only one runs")
            ->type_name("STREAM");
        if (std::string_view(order) == "seek") {
            sub->add_option("--by", all.control.by, "forward or back by this time: \"30 s\", \"-10 s\"")
                ->type_name("TIME");
            sub->add_option("--to", all.control.to, "to this position: 1:02:00")->type_name("TIME");
            sub->add_flag("--next", all.control.next, "to the next part");
            sub->add_flag("--previous", all.control.back, "to the start of this part, or to the previous part");
        }
        if (std::string_view(order) == "seek") {
            add_examples(sub, {"wavecrest stream seek Lanterns --to 0:30:00", "wavecrest stream seek --by \"-10 s\"",
                               "wavecrest stream seek --next"});
        } else {
            sub->footer(fmt::format("Examples:\n  wavecrest stream {0}\n  wavecrest stream {0} Lanterns\n", order));
        }
        sub->callback([&command, &all, order = std::string(order)] {
            command = [&all, order] { return run_stream_order(order, all.control); };
        });
    }
}

void add_stream(CLI::App& app, AllOptions& all, Command& command) {
    auto* stream = app.add_subcommand("stream", "run and control streams");
    stream->require_subcommand(1);
    add_examples(stream, {"wavecrest stream run --site site.toml", "wavecrest stream status"});
    auto* run = stream->add_subcommand("run", "serve a site's streams, or one file, until Ctrl-C");
    add_examples(run,
                 {"wavecrest stream run --site site.toml", "wavecrest stream run film.mp4 --delivery file,hls",
                  "wavecrest stream run evening/*.mp4 --delivery live,live-hls --loop",
                  "wavecrest stream run film.mp4 --udp 239.20.0.1:5004"},
                 "It stops when its terminal closes. To keep it running: nohup wavecrest stream run ... &\n"
                 "For streams at every boot: wavecrest site service prints the systemd unit.");
    add_stream_source(run, all.stream_run);
    add_publishing(run, all.stream_run);
    add_stream_server(run, all.stream_run);
    add_output(run, all.stream_run.output);
    run->callback([&] { command = [&] { return run_stream(all.stream_run); }; });
    add_stream_control(stream, all, command);
}

void add_interface(CLI::App* app, std::string& interface) {
    app->add_option("--interface", interface, "search by this network interface only (name or address)")
        ->type_name("INTERFACE");
}

void add_device_test(CLI::App* device, DeviceTestOptions& test, Command& command) {
    auto* app = device->add_subcommand("test", "a web page on which real devices show what they play");
    app->add_option("--site", test.site, "a site file: the page asks which of its devices it is on")->type_name("FILE");
    app->add_option("--device", test.device, "name of the one device to test; ends when it is finished")
        ->type_name("NAME");
    app->add_option("--like", test.like,
                    "class to compare with, and whose buffering is taken over (the site's, or by the browser)")
        ->type_name("CLASS");
    app->add_option("--port", test.port, "TCP port (8080, or the next free one)")
        ->check(within(1, 65535))
        ->type_name("PORT");
    app->add_option("--bind", test.bind, "listen on this address only")->type_name("ADDRESS");
    app->add_option("--for", test.bound, "stop after TIME")->type_name("TIME");
    app->add_option("--only", test.only,
                    "test only these: link, video, containers, audio, bitrate, motion, seeking, sync")
        ->delimiter(',')
        ->type_name("SECTION");
    app->add_option("--max-size", test.largest, "try no larger video, e.g. 1080p (2160p)")->type_name("SIZE");
    app->add_option("--into", test.into, "folder for the descriptions (devices/ beside the site file)")
        ->type_name("DIR");
    app->add_flag("--replace", test.replace, "replace descriptions of the same name");
    app->add_flag("--adopt", test.adopt, "with --site: enter the description as the device's class in the site file");
    app->add_option(
           "--on", test.on,
           "test a browser of this machine (chromium, firefox), or play the clips on a renderer of the network "
           "(UPnP), by its name")
        ->type_name("WHAT");
    add_interface(app, test.interface);
    add_output(app, test.output, true);
    add_examples(app,
                 {"wavecrest device test --site site.toml --out results",
                  "wavecrest device test --device \"Bedroom Tablet\" --like tablet-hd",
                  "wavecrest device test --on \"Lounge TV\"", "wavecrest device test --on chromium --max-size 1080p"});
    app->callback([&] { command = [&] { return run_device_test(test); }; });
}

CLI::App* add_renderer_command(CLI::App* device, RendererOptions& renderer, const char* name, const char* help) {
    auto* app = device->add_subcommand(name, help);
    app->add_option("name", renderer.name, "its name as device find shows it, a device of the site, or all")
        ->required()
        ->type_name("NAME");
    return app;
}

void add_account(CLI::App* app, ShareOptions& share) {
    app->add_option("--user", share.user,
                    "log on as this user (DOMAIN\\USER); the password is asked for. Without it: the account that was "
                    "kept for the server, else as a guest")
        ->type_name("NAME");
    app->add_option("--password-file", share.password_file, "read the password from the first line of this file")
        ->type_name("FILE");
}

void add_attach(CLI::App* share, ShareAttachOptions& attach, Command& command) {
    const auto add_root = [&](CLI::App* app) {
        app->add_option("--root", attach.root, "set up the system below this folder (a card) instead of this machine's")
            ->type_name("DIR");
        add_output(app, attach.share.output);
    };
    const auto add_dry_run = [&](CLI::App* app) {
        app->add_flag("--dry-run", attach.dry_run, "only show every file that would be written, and every command");
    };
    auto* attached = share->add_subcommand("attach", "mount a share or disk at every start of this machine");
    attached
        ->add_option("address", attach.share.address,
                     "smb://HOST/SHARE, nfs://HOST/EXPORT, a disk's partition (/dev/sdb1) or UUID=...")
        ->required()
        ->type_name("ADDRESS");
    attached->add_option("folder", attach.folder, "the folder to mount it at")->required()->type_name("FOLDER");
    add_account(attached, attach.share);
    attached->add_flag("--fstab", attach.fstab, "by a line in /etc/fstab instead of systemd units");
    attached->add_flag("--read-only", attach.read_only, "nothing can be written to it");
    attached->add_option("--owner", attach.owner, "whose its files appear to be (the user who calls sudo)")
        ->type_name("USER");
    attached->add_flag("--untested", attach.untested, "attach it even if it can't be reached now");
    add_dry_run(attached);
    add_root(attached);
    add_examples(attached, {"sudo wavecrest share attach smb://attic/films /media/films --user cedar",
                            "wavecrest share attach nfs://192.168.1.20/export/films /media/films --dry-run",
                            "sudo wavecrest share attach /dev/sdb1 /media/disk"});
    attached->callback([&] { command = [&] { return run_share_attach(attach); }; });
    auto* detach = share->add_subcommand("detach", "no longer mount what share attach has set up");
    detach->add_option("folder", attach.folder, "the folder it is mounted at")->required()->type_name("FOLDER");
    add_dry_run(detach);
    add_root(detach);
    add_examples(detach, {"sudo wavecrest share detach /media/films"});
    detach->callback([&] { command = [&] { return run_share_detach(attach); }; });
    auto* check =
        share->add_subcommand("check", "test everything attached: mounted, same content, account valid, fast enough");
    add_root(check);
    add_examples(check, {"sudo wavecrest share check"});
    check->callback([&] { command = [&] { return run_share_check(attach); }; });
}

void add_share(CLI::App& app, AllOptions& all, Command& command) {
    auto* share = app.add_subcommand("share", "file servers and disks: found, proved, and attached for good");
    share->require_subcommand(1);
    ShareFindOptions& found = all.share_find;
    auto* find = share->add_subcommand("find", "find the file servers of the local networks, and what they share");
    find->add_option("host", found.hosts, "ask only these, by name or address")->type_name("HOST");
    find->add_option("--for", found.length, "search for so long (4 s)")->type_name("TIME");
    add_interface(find, found.interface);
    add_output(find, found.output);
    add_examples(find, {"wavecrest share find", "wavecrest share find attic 192.168.1.20"});
    find->callback([&] { command = [&] { return run_share_find(all.share_find); }; });
    ShareOptions& options = all.share;
    auto* prove = share->add_subcommand(
        "prove", "test a share step by step: reachable, account, share, folder, listing, reading, speed");
    prove->add_option("address", options.address, "smb://HOST/SHARE/FOLDER or nfs://HOST/EXPORT/FOLDER")
        ->required()
        ->type_name("ADDRESS");
    add_account(prove, options);
    prove->add_flag("--keep", options.keep,
                    "keep the account for later commands that read from this server (in a file of this user alone)");
    prove->add_flag("--write", options.write, "also test writing: a small file is written and removed");
    prove->add_option("--for", options.length, "read for so long (10 s); \"1 min\" shows whether the speed lasts")
        ->type_name("TIME");
    prove->add_option("--readers", options.readers, "so many at once, after that")
        ->capture_default_str()
        ->check(CLI::Range(1, 16))
        ->type_name("N");
    prove
        ->add_option("--device", options.device,
                     "compare for this device (class or description): straight from the share, or through Wavecrest")
        ->type_name("NAME");
    prove->add_option("--link", options.link, "its link: gigabit, fast-ethernet, or a bit rate (gigabit)")
        ->type_name("LINK");
    add_output(prove, options.output);
    add_examples(prove, {"wavecrest share prove smb://192.168.1.20/films",
                         "wavecrest share prove smb://attic/films/Lanterns --user cedar --keep",
                         "wavecrest share prove nfs://192.168.1.20/export/recordings --write --for \"1 min\"",
                         "wavecrest share prove smb://attic/films --device player.toml --link \"40 Mbit/s\""});
    prove->callback([&] { command = [&] { return run_share_prove(all.share); }; });
    add_attach(share, all.share_attach, command);
}

void add_renderers(CLI::App* device, AllOptions& all, Command& command) {
    auto* find = device->add_subcommand("find", "find televisions and other devices in the network (UPnP)");
    find->add_option("--for", all.device_find.bound, "search for so long (4 s)")->type_name("TIME");
    add_interface(find, all.device_find.interface);
    find->add_option("--add", all.device_find.add,
                     "enter the renderers found in this site file, as they describe themselves")
        ->type_name("FILE");
    add_output(find, all.device_find.output);
    add_examples(find, {"wavecrest device find", "wavecrest device find --for \"10 s\" --add site.toml"});
    find->callback([&] { command = [&] { return run_device_find(all.device_find); }; });

    RendererOptions& renderer = all.renderer;
    const auto finish = [&renderer](CLI::App* app, std::initializer_list<const char*> examples) {
        app->add_option("--site", renderer.site, "a site file: its devices and streams by their names")
            ->type_name("FILE");
        add_interface(app, renderer.interface);
        add_output(app, renderer.output);
        add_examples(app, examples);
    };
    auto* play = add_renderer_command(device, renderer, "play", "play something on a device (UPnP)");
    play->add_option("media", renderer.media, "a stream of the site, a file, or an http:// address")
        ->required()
        ->type_name("MEDIA");
    finish(play, {"wavecrest device play \"Lounge TV\" Lanterns --site site.toml",
                  "wavecrest device play \"Lounge TV\" library/Lanterns.mp4"});
    play->callback([&] { command = [&] { return run_device_play(all.renderer); }; });
    const std::tuple<const char*, const char*, const char*> orders[] = {
        {"pause", "pause a device", "wavecrest device pause \"Lounge TV\""},
        {"resume", "resume a paused device", "wavecrest device resume \"Lounge TV\""},
        {"stop", "stop a device", "wavecrest device stop all"},
        {"seek", "seek on a device", "wavecrest device seek \"Lounge TV\" 1:02:00"},
        {"volume", "show or set the volume of a device", "wavecrest device volume \"Lounge TV\" 30"},
        {"mute", "mute a device, or end that", "wavecrest device mute \"Lounge TV\" on"},
    };
    for (const auto& [order, help, example] : orders) {
        auto* app = add_renderer_command(device, renderer, order, help);
        const std::string name = order;
        if (name == "seek")
            app->add_option("to", renderer.value, "position: 1:02:00, \"90 s\"")->required()->type_name("TIME");
        if (name == "volume")
            app->add_option("percent", renderer.value, "0 to 100; none: show it")->type_name("PERCENT");
        if (name == "mute") app->add_option("how", renderer.value, "on or off")->required()->type_name("HOW");
        finish(app, {example});
        app->callback(
            [&command, &all, name] { command = [&all, name] { return run_device_order(name, all.renderer); }; });
    }
}

void add_device(CLI::App& app, AllOptions& all, Command& command) {
    auto* device = app.add_subcommand("device", "devices and what they can play");
    device->require_subcommand(1);
    add_examples(device, {"wavecrest device list", "wavecrest device show tv-hd"});
    auto* list_devices = device->add_subcommand("list", "the built-in device classes");
    add_output(list_devices, all.device_options.output);
    add_examples(list_devices, {"wavecrest device list", "wavecrest device list --json"});
    list_devices->callback([&] { command = [&] { return run_device_list(all.device_options); }; });
    auto* show_device = device->add_subcommand("show", "what a device can play");
    show_device->add_option("name", all.device_options.name, "class, or a description ending in .toml")
        ->required()
        ->type_name("CLASS");
    show_device->add_flag("--live", all.device_live,
                          "of a device in the network: what it is doing, every second (UPnP)");
    show_device->add_option("--for", all.renderer.bound, "with --live: for so long")->type_name("TIME");
    show_device->add_option("--site", all.renderer.site, "with --live: a site file, for its devices' names")
        ->type_name("FILE");
    add_interface(show_device, all.renderer.interface);
    add_output(show_device, all.device_options.output);
    add_examples(show_device, {"wavecrest device show tv-hd", "wavecrest device show lounge.toml --json",
                               "wavecrest device show \"Lounge TV\" --live"});
    show_device->callback([&] {
        command = [&] {
            if (!all.device_live) return run_device_show(all.device_options);
            all.renderer.name = all.device_options.name;
            all.renderer.output = all.device_options.output;
            return run_device_live(all.renderer);
        };
    });
    auto* new_device = device->add_subcommand("new", "write a description of your own, made like another");
    new_device->add_option("name", all.device_options.name, "its name")->required()->type_name("NAME");
    new_device->add_option("--like", all.device_options.like, "class, or a description ending in .toml, to start from")
        ->capture_default_str()
        ->type_name("CLASS");
    new_device->add_option("-o,--output", all.device_options.file, "file to write (NAME.toml)")->type_name("FILE");
    add_output(new_device, all.device_options.output);
    add_examples(new_device, {"wavecrest device new bedroom-tv --like tv-720",
                              "wavecrest device new \"Lounge TV\" --like tv-uhd-hdr -o lounge.toml"});
    new_device->callback([&] { command = [&] { return run_device_new(all.device_options); }; });
    auto* check_device = device->add_subcommand("check", "check a description for errors and gaps");
    check_device->add_option("name", all.device_options.name, "a description ending in .toml, or a class")
        ->required()
        ->type_name("CLASS");
    add_output(check_device, all.device_options.output);
    add_examples(check_device, {"wavecrest device check bedroom-tv.toml"});
    check_device->callback([&] { command = [&] { return run_device_check(all.device_options); }; });
    add_device_test(device, all.device_test, command);
    add_renderers(device, all, command);
    auto* compare = device->add_subcommand("compare", "what two devices differ in");
    compare->add_option("name", all.device_options.name, "class, or a description ending in .toml")
        ->required()
        ->type_name("CLASS");
    compare->add_option("other", all.device_options.other, "the other")->required()->type_name("CLASS");
    add_output(compare, all.device_options.output);
    add_examples(compare,
                 {"wavecrest device compare tv-hd tv-uhd-hdr", "wavecrest device compare bedroom-tv.toml tv-720"});
    compare->callback([&] { command = [&] { return run_device_compare(all.device_options); }; });
}

void add_job(CLI::App& app, AllOptions& all, Command& command) {
    auto* job = app.add_subcommand("job", "conversions waiting, running, done, failed and why");
    job->require_subcommand(1);
    add_examples(job, {"wavecrest job list", "wavecrest job show 3", "wavecrest job run"});
    const auto add = [&](const char* name, const char* does, int (*run)(const JobOptions&)) {
        auto* sub = job->add_subcommand(name, does);
        sub->callback([&all, &command, run] { command = [&all, run] { return run(all.job); }; });
        return sub;
    };
    auto* list = add("list", "all jobs of this user on this machine", run_job_list);
    list->add_option("--state", all.job.state, "only those: waiting, running, done, failed or stopped")
        ->type_name("STATE");
    add_output(list, all.job.output);
    add_examples(list, {"wavecrest job list", "wavecrest job list --state failed"});
    auto* show = add("show", "one job: source, files, figures, why it failed", run_job_show);
    show->add_option("number", all.job.id, "its number in job list")->required()->type_name("NUMBER");
    add_output(show, all.job.output);
    add_examples(show, {"wavecrest job show 3"});
    auto* retry = add("retry", "let a failed or stopped job wait again", run_job_retry);
    retry->add_option("number", all.job.id, "its number in job list")->type_name("NUMBER");
    retry->add_flag("--failed", all.job.all_failed, "all that failed");
    add_output(retry, all.job.output);
    add_examples(retry, {"wavecrest job retry 3", "wavecrest job retry --failed"});
    auto* stop = add("stop", "stop a job that waits or runs", run_job_stop);
    stop->add_option("number", all.job.id, "its number in job list")->required()->type_name("NUMBER");
    add_output(stop, all.job.output);
    add_examples(stop, {"wavecrest job stop 3"});
    auto* run = add("run", "work through the jobs that wait", run_job_run);
    run->add_flag("--wait", all.job.wait, "then wait for more, until Ctrl-C");
    add_nice(run, all.job.nice);
    add_output(run, all.job.output);
    add_examples(run, {"wavecrest job run", "wavecrest job run --wait"});
    auto* service = add("service", "print the systemd unit that works through them at every boot", run_job_service);
    add_nice(service, all.job.nice);
    add_examples(service, {"wavecrest job service --nice 22:00-07:00",
                           "wavecrest job service | sudo tee /etc/systemd/system/wavecrest-jobs.service"});
}

void add_library(CLI::App& app, AllOptions& all, Command& command) {
    LibraryOptions& options = all.library;
    auto* library = app.add_subcommand("library", "what the house has to play");
    library->require_subcommand(1);
    add_examples(library, {"wavecrest library list", "wavecrest library find lanterns"},
                 "Devices browse it while streams run: wavecrest stream run --site site.toml\n");
    const auto finish = [&](CLI::App* app_of, std::initializer_list<const char*> examples) {
        app_of->add_option("--site", options.site, "the site file, whose collections it is made of")
            ->capture_default_str()
            ->type_name("FILE");
        add_output(app_of, options.output);
        add_examples(app_of, examples);
    };
    auto* list = library->add_subcommand("list", "all of it");
    list->add_option("--kind", options.kind, "only film, episode or music")
        ->check(CLI::IsMember({"film", "episode", "music"}).description(""))
        ->type_name("KIND");
    list->add_option("--collection", options.collection, "only this collection")->type_name("NAME");
    list->add_flag("--all", options.all, "however many there are (else 200)");
    finish(list, {"wavecrest library list", "wavecrest library list --kind music --json"});
    list->callback([&] { command = [&] { return run_library_list(all.library); }; });
    auto* find = library->add_subcommand("find", "by words of titles, series, performers, albums, genres and dates");
    find->add_option("words", options.words, "all of these")->required()->type_name("WORDS");
    find->add_flag("--all", options.all, "however many there are (else 50)");
    finish(find, {"wavecrest library find lanterns", "wavecrest library find shore 2019"});
    find->callback([&] { command = [&] { return run_library_find(all.library); }; });
    auto* show = library->add_subcommand("show", "one item, with its file and forms");
    show->add_option("id", options.id, "its number, as list and find show it")->required()->type_name("ID");
    finish(show, {"wavecrest library show 12"});
    show->callback([&] { command = [&] { return run_library_show(all.library); }; });
}

void add_verify(CLI::App& app, AllOptions& all, Command& command) {
    auto* verify_app = app.add_subcommand("verify", "play streams as devices would, and test them");
    verify_app->add_option("url", all.verify.url, "an address to verify, without a site file")->type_name("URL");
    verify_app->add_option("--site", all.verify.site, "the site file: every stream on every device")->type_name("FILE");
    verify_app
        ->add_option("--device", all.verify.device,
                     "with an address: a device class or description; with a site file: only this device")
        ->type_name("DEVICE");
    verify_app->add_option("--stream", all.verify.stream, "with a site file: only this stream")->type_name("STREAM");
    verify_app->add_option("--link", all.verify.link, "with an address: the device's link (gigabit)")
        ->type_name("LINK");
    verify_app
        ->add_option("--wait", all.verify.wait,
                     "wait up to TIME for the stream to appear (10 s for udp:// and rtp://, else 0 s)")
        ->type_name("TIME");
    verify_app->add_option("--for", all.verify.listen, "duration for live streams (10 s)")->type_name("TIME");
    verify_app->add_flag("--again", all.verify.again,
                         "wait for the stream again and again, as an unattended screen does, until Ctrl-C");
    verify_app->add_option("--stills", all.verify.stills, "save frames of what was received in this folder (PNG)")
        ->type_name("DIR");
    verify_app->add_option("--trust", all.verify.trusted, "accept this certificate (PEM) of an https:// address")
        ->type_name("FILE");
    add_faults(verify_app, all.verify.faults);
    verify_app
        ->add_option(
            "--on", all.verify.on,
            "really play it: in a browser of this machine (chromium, firefox), over the device's link; or on a "
            "renderer of the network (UPnP), by its name, or all")
        ->type_name("BROWSER");
    verify_app
        ->add_option("--interface", all.verify.interface,
                     "search for the renderer of --on by this network interface only")
        ->type_name("INTERFACE");
    verify_app->add_flag("--watch", all.verify.watch,
                         "the device itself plays: watch from the running server (files and HLS on demand)");
    verify_app->add_flag("--real-time", all.verify.real_time,
                         "take as long as the device would; else waiting for the link is left out");
    add_output(verify_app, all.verify.output, true);
    add_examples(verify_app, {"wavecrest verify --site site.toml --out results",
                              "wavecrest verify http://192.168.1.10:8080/lanterns.mp4 --device tv-hd --on chromium",
                              "wavecrest verify --site site.toml --on \"Lounge TV\"",
                              "wavecrest verify --watch --site site.toml --device \"Lounge TV\"",
                              "wavecrest verify http://192.168.1.10:8080/lanterns.mp4 --device tv-hd",
                              "wavecrest verify udp://239.20.0.1:5004 --device tv-hd --for \"30 s\""});
    verify_app->callback([&] { command = [&] { return run_verify(all.verify); }; });
}

void add_report(CLI::App& app, AllOptions& all, Command& command) {
    auto* report_app = app.add_subcommand("report", "the handover report of the site");
    report_app->add_option("--site", all.report.site, "the site file")->capture_default_str()->type_name("FILE");
    report_app->add_option("--results", all.report.results, "folder of results (results/ beside the site file)")
        ->type_name("DIR");
    report_app->add_option("--into", all.report.into, "folder for the report (report/ beside the site file)")
        ->type_name("DIR");
    add_examples(report_app,
                 {"wavecrest report", "wavecrest report --site site.toml --results results --into handover"});
    report_app->callback([&] { command = [&] { return run_report(all.report); }; });
}

void add_standin(CLI::App& app, AllOptions& all, Command& command) {
    auto* standin = app.add_subcommand("standin", "test material and simulated networks");
    standin->require_subcommand(1);
    add_examples(standin, {"wavecrest standin disc sample", "wavecrest standin link 9000 192.168.1.10:8080 --loss 1"});
    auto* screen = standin->add_subcommand("device", "take a device test as a device of a class would");
    screen->add_option("page", all.screen.page, "the address that wavecrest device test prints")
        ->required()
        ->type_name("URL");
    screen->add_option("--class", all.screen.device_class, "class or description of the device")
        ->required()
        ->type_name("CLASS");
    screen->add_option("--name", all.screen.name, "answered where the page asks which device it is")->type_name("NAME");
    screen->add_option("--link", all.screen.link, "the device's link: gigabit, fast-ethernet or a bit rate")
        ->type_name("LINK");
    add_output(screen, all.screen.output);
    add_examples(screen, {"wavecrest standin device http://127.0.0.1:8080/test --class tablet-basic",
                          "wavecrest standin device http://127.0.0.1:8080/test --class tv-720 --link fast-ethernet"});
    screen->callback([&] { command = [&] { return run_standin_device(all.screen); }; });
    StandinRendererOptions& renderer = all.standin_renderer;
    auto* renderer_app =
        standin->add_subcommand("renderer", "be a UPnP renderer that plays as a device of a class would");
    renderer_app->add_option("name", renderer.name, "its name, as it is found")->required()->type_name("NAME");
    renderer_app->add_option("--class", renderer.device_class, "class, or a description ending in .toml")
        ->capture_default_str()
        ->type_name("CLASS");
    renderer_app
        ->add_option("--link", renderer.link, "its link: gigabit, fast-ethernet or a bit rate (as fast as it goes)")
        ->type_name("LINK");
    renderer_app->add_option("--fault", renderer.fault, "misbehave: slow, wrong-state, stops-at-seek, false-claims")
        ->type_name("FAULT");
    add_interface(renderer_app, renderer.interface);
    renderer_app->add_option("--port", renderer.port, "of its own server (any free one)")->type_name("PORT");
    renderer_app->add_option("--for", renderer.bound, "for so long (until Ctrl-C)")->type_name("TIME");
    add_output(renderer_app, renderer.output);
    add_examples(renderer_app, {"wavecrest standin renderer \"Lounge TV\"",
                                "wavecrest standin renderer \"Lounge TV\" --class tv-720 --link \"12 Mbit/s\""});
    renderer_app->callback([&] { command = [&] { return run_standin_renderer(all.standin_renderer); }; });
    auto* disc_app = standin->add_subcommand("disc", "make a sample disc with a test card");
    disc_app->add_option("folder", all.disc.folder, "the folder to make, or an image when it ends in .iso")
        ->required()
        ->type_name("FOLDER");
    disc_app->add_option("--from", all.disc.from, "description of the disc in TOML (see the manual)")
        ->type_name("FILE");
    disc_app->add_option("--title", all.disc.title, "text on the card; else the folder's name")->type_name("TEXT");
    disc_app->add_option("--length", all.disc.length, "length of the main title")
        ->capture_default_str()
        ->type_name("TIME");
    disc_app->add_option("--extra", all.disc.extra, "length of the bonus title; \"0 s\" leaves it out")
        ->capture_default_str()
        ->type_name("TIME");
    disc_app->add_option("--chapters", all.disc.chapters, "chapters of the main title")
        ->capture_default_str()
        ->check(within(1, 99))
        ->type_name("N");
    disc_app->add_option("--seed", all.disc.seed, "random seed of the picture's texture")
        ->capture_default_str()
        ->type_name("N");
    disc_app->add_flag("-q,--quiet", all.disc.quiet, "no progress");
    add_examples(disc_app, {"wavecrest standin disc sample", "wavecrest standin disc sample.iso --from disc.toml",
                            "wavecrest standin disc sample --length \"30 s\" --extra \"0 s\""});
    disc_app->callback([&] { command = [&] { return run_standin_disc(all.disc); }; });
    auto* link_app = standin->add_subcommand("link", "pass a stream on over a simulated network");
    link_app->add_option("from", all.link.from, "where to listen: a TCP port, ADDRESS:PORT, or udp://ADDRESS:PORT")
        ->required()
        ->type_name("FROM");
    link_app->add_option("to", all.link.to, "where to send: HOST:PORT, or udp://ADDRESS:PORT")
        ->required()
        ->type_name("TO");
    link_app->add_option("--bitrate", all.link.rate, "usable bit rate: \"6 Mbit/s\"")->type_name("BITRATE");
    add_faults(link_app, all.link.faults);
    link_app->add_option("--interface", all.link.interface, "network interface for multicast, by name or address")
        ->type_name("NAME");
    link_app->add_option("--for", all.link.bound, "stop after this time")->type_name("TIME");
    add_output(link_app, all.link.output);
    add_examples(link_app, {"wavecrest standin link 9000 192.168.1.10:8080 --bitrate \"6 Mbit/s\" --delay \"40 ms\"",
                            "wavecrest standin link udp://127.0.0.1:5004 udp://127.0.0.1:6004 --loss 1 --seed 7"});
    link_app->callback([&] { command = [&] { return run_standin_link(all.link); }; });
}

void add_demo(CLI::App& app, AllOptions& all, Command& command) {
    auto* demo = app.add_subcommand("demo", "the whole job on sample data, step by step");
    demo->add_option("folder", all.demo_folder, "the folder to make")->capture_default_str()->type_name("DIR");
    add_examples(demo, {"wavecrest demo", "wavecrest demo my-demo"});
    demo->callback([&] { command = [&] { return run_demo(all.demo_folder); }; });
}

// Every command can write down what it does, and meets drives that hang.
void add_common(CLI::App& app, AllOptions& all) {
    for (CLI::App* one : app.get_subcommands({})) add_common(*one, all);
    if (!app.get_subcommands({}).empty()) return;
    LogOptions& log = all.log;
    app.add_option("--drive-timeout", all.drive_timeout,
                   "give up when a mounted drive or share has not responded for this long; 0: never")
        ->capture_default_str()
        ->type_name("TIME");
    app.add_flag("-v,--verbose", log.verbose, "show what is done as it goes; -vv: with details");
    app.add_option("--log", log.file, "append it to this file (10 MB, two older ones are kept)")->type_name("FILE");
}

// The whole command line.
struct CommandLine {
    CLI::App app{"Wavecrest: convert discs, stream them, and test that every screen plays them.", "wavecrest"};
    AllOptions all;
    Command command;

    CommandLine() {
        app.footer(
            std::string("wavecrest COMMAND --help shows its options. Commands are listed in the order of the work.\n") +
            kExitHelp);
        app.require_subcommand(1);
        app.set_version_flag("--version", "wavecrest " WAVECREST_VERSION);
        app.get_formatter()->column_width(34);
        add_site(app, all, command);
        add_share(app, all, command);
        add_inspect(app, all, command);
        add_profile(app, all, command);
        add_weigh(app, all, command);
        add_convert(app, all, command);
        add_stream(app, all, command);
        add_device(app, all, command);
        add_job(app, all, command);
        add_library(app, all, command);
        add_verify(app, all, command);
        add_report(app, all, command);
        add_standin(app, all, command);
        add_demo(app, all, command);
        add_common(app, all);
    }
};

OptionHelp describe(const CLI::Option& option) {
    OptionHelp help;
    for (const std::string& name : option.get_snames()) help.names.push_back("-" + name);
    for (const std::string& name : option.get_lnames()) help.names.push_back("--" + name);
    if (option.get_items_expected_max() != 0) help.value = option.get_type_name();
    help.what = option.get_description();
    help.fallback = option.get_default_str();
    help.required = option.get_required();
    help.several =
        option.get_items_expected_max() > 1 || option.get_multi_option_policy() == CLI::MultiOptionPolicy::TakeAll;
    return help;
}

CommandHelp describe(const CLI::App& app, const std::string& name) {
    CommandHelp help{name, app.get_description(), {}, {}, "", {}};
    for (const CLI::Option* option : app.get_options()) {
        if (!option->get_group().empty()) help.options.push_back(describe(*option));
    }
    // The footer is what add_examples wrote: indented lines, and a note after them.
    const std::string footer = app.get_footer();
    for (std::size_t at = 0; at < footer.size();) {
        const std::size_t end = std::min(footer.find('\n', at), footer.size());
        const std::string line = footer.substr(at, end - at);
        at = end + 1;
        if (line.starts_with("  ")) {
            help.examples.push_back(line.substr(2));
        } else if (!line.empty() && line != "Examples:") {
            help.note += (help.note.empty() ? "" : "\n") + line;
        }
    }
    for (const CLI::App* one : app.get_subcommands({}))
        help.commands.push_back(describe(*one, name + " " + one->get_name()));
    return help;
}

// What other programs ask of this one, a package's build and a shell: no commands for people.
std::optional<int> answer_programs(const std::vector<std::string>& words) {
    if (words.front() == "write-pages" && words.size() == 2) {
        const Status written = write_pages(describe_command_line(), WAVECREST_VERSION, words[1]);
        return written ? 0 : report_error(written.error());
    }
    if (words.front() == "complete-words" && words.size() >= 2 && words[1] == "--") {
        const Completion completion = complete(describe_command_line(), {words.begin() + 2, words.end()}, known_values);
        print("{}\n", completion.files ? "files" : "words");
        for (const std::string& word : completion.words) print("{}\n", word);
        return 0;
    }
    return std::nullopt;
}

}  // namespace

Status start_log(const LogOptions& options) {
    base::LogSettings settings;
    settings.least = options.verbose > 1 ? base::LogLevel::debug : base::LogLevel::info;
    settings.file = options.file;
    settings.on_stderr = options.verbose > 0;
    settings.for_journal = base::is_stderr_journal();
    log_messages(!settings.on_stderr && !settings.for_journal);
    return base::start_log(settings);
}

CommandHelp describe_command_line() {
    CommandLine line;
    CommandHelp help = describe(line.app, "wavecrest");
    help.what = "convert discs, stream them, and test that every screen plays them";
    help.note.clear();
    for (const char* example :
         {"wavecrest demo", "wavecrest inspect RIP", "wavecrest convert RIP --into LIBRARY --plan",
          "wavecrest stream run --site site.toml", "wavecrest verify --site site.toml"})
        help.examples.emplace_back(example);
    return help;
}

int run_command_line(int argc, char** argv) {
    const std::vector<std::string> words(argv + 1, argv + argc);
    if (words.empty()) {
        print("{}", Raw{kStart});
        return 0;
    }
    if (const auto answered = answer_programs(words)) return *answered;
    CommandLine line;
    const bool json = std::find(words.begin(), words.end(), "--json") != words.end();
    if (const auto mistyped = find_mistyped(line.app, words)) return report_error(*mistyped, json);
    try {
        line.app.parse(argc, argv);
    } catch (const CLI::ParseError& error) {
        if (error.get_exit_code() == 0) return line.app.exit(error);
        const CLI::App* used = &line.app;
        for (auto next = used->get_subcommands(); !next.empty(); next = used->get_subcommands()) used = next.front();
        std::string name = "wavecrest";
        for (const CLI::App* a = used; a->get_parent() != nullptr; a = a->get_parent())
            name.insert(9, " " + a->get_name());
        return report_error({ErrorKind::usage, error.what(), "the command line", name + " --help shows what it takes"},
                            json);
    }
    if (const Status started = start_log(line.all.log); !started) return report_error(started.error(), json);
    const std::string& patience = line.all.drive_timeout;
    const auto timeout = patience == "0" ? Time{} : base::parse_span(patience);
    if (!timeout)
        return report_error({ErrorKind::usage, fmt::format("\"{}\" isn't a valid time", patience), "--drive-timeout",
                             "write for example \"30 s\" or \"5 min\"; 0 waits for ever"},
                            json);
    give_up_on_drives(std::chrono::duration_cast<std::chrono::milliseconds>(*timeout), json);
    // Whoever waits for this program isn't held with it where a drive hangs. `stream run` sees to that itself; a
    // password is asked for by the program that the terminal knows.
    const bool in_worker = words.front() != "stream" && words.front() != "share" && names_holding_mount(words);
    return in_worker ? run_in_worker(line.command) : line.command();
}

}  // namespace wavecrest::cli
