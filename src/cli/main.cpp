// The command line: parsed here, once, into the options of commands.hpp.
#include <sys/resource.h>

#include <CLI/CLI.hpp>

#include <algorithm>
#include <csignal>
#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "base/config.hpp"
#include "cli/commands.hpp"

namespace {

using namespace wavecrest::cli;

constexpr const char* kExitHelp =
    "Exit status: 0 done, or verdict pass or warn; 1 checked and found wanting; 2 wrong usage; 3 input unusable;\n"
    "4 the machine won't let it (port, space, permission, address); 5 done, but some of the input was lost;\n"
    "130 interrupted.";

void add_output(CLI::App* app, Output& output, bool with_out = false) {
    app->add_flag("--json", output.json, "the result as one JSON object on standard output");
    app->add_flag("-q,--quiet", output.quiet, "no progress");
    if (with_out)
        app->add_option("--out", output.out, "folder for result files: JSON, CSV and figures")->type_name("DIR");
}

void add_retries(CLI::App* app, int& retries) {
    app->add_option("--retries", retries, "how often a failed read is tried again before the sector counts as lost")
        ->capture_default_str()
        ->check(CLI::Range(0, 100))
        ->type_name("N");
}

// What is wrong with a network.
void add_faults(CLI::App* app, LinkFaultOptions& faults) {
    app->add_option("--delay", faults.delay, "one way: \"40 ms\"")->type_name("TIME");
    app->add_option("--jitter", faults.jitter, "up to so much more")->type_name("TIME");
    app->add_option("--loss", faults.loss, "so many of a hundred are lost; connections send them again")
        ->check(CLI::Range(0.0, 100.0))
        ->type_name("PERCENT");
    app->add_option("--reorder", faults.reorder, "so many of a hundred come late")
        ->check(CLI::Range(0.0, 100.0))
        ->type_name("PERCENT");
    app->add_option("--outage", faults.outage, "nothing passes for so long ...")->type_name("TIME");
    app->add_option("--every", faults.outage_every, "... once in each such time")->type_name("TIME");
    app->add_option("--seed", faults.seed, "another seed gives another schedule")
        ->capture_default_str()
        ->type_name("N");
}

// A command or an option that isn't there, with the one that was meant: the parser tells of what is missing first.
std::optional<wavecrest::Error> find_mistyped(const CLI::App& app, const std::vector<std::string>& words) {
    const CLI::App* at = &app;
    std::string name = "wavecrest";
    const auto refuse = [&](std::string what, const std::string& word, const std::vector<std::string>& known) {
        const std::string meant = wavecrest::base::nearest(word, known);
        return wavecrest::Error{
            wavecrest::ErrorKind::usage, std::move(what), "the command line",
            meant.empty() ? name + " --help shows what there is" : fmt::format("do you mean {}?", meant)};
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

int run(int argc, char** argv) {
    CLI::App app("Wavecrest: streams, converted discs and proof that they play, for every screen of a house.",
                 "wavecrest");
    app.footer(std::string("wavecrest COMMAND --help tells more. The commands are listed in the order of the work.\n") +
               kExitHelp);
    app.require_subcommand(1);
    app.set_version_flag("--version", "wavecrest 0.1.0");
    app.get_formatter()->column_width(34);
    std::function<int()> command;

    auto* site = app.add_subcommand("site", "the house's installation file: devices, streams, addresses");
    site->require_subcommand(1);
    SiteNewOptions site_new;
    auto* new_site = site->add_subcommand("new", "start an installation file");
    new_site->add_option("file", site_new.file, "the file to make")->capture_default_str()->type_name("FILE");
    new_site->add_option("--house", site_new.house, "the house's name")->capture_default_str()->type_name("NAME");
    new_site->add_option("--port", site_new.port, "TCP port of the streams (8080)")
        ->check(CLI::Range(1, 65535))
        ->type_name("PORT");
    new_site
        ->add_option("--device", site_new.devices,
                     "a device: its name, its class (see device list), its link: gigabit, fast-ethernet or a rate such "
                     "as 12 Mbit/s")
        ->type_name("NAME,CLASS,LINK")
        ->allow_extra_args(false);
    new_site->add_option("--stream", site_new.streams, "a stream: its name and the file to serve")
        ->type_name("NAME,FILE")
        ->allow_extra_args(false);
    new_site->callback([&] { command = [&] { return run_site_new(site_new); }; });
    SiteOptions site_options;
    auto* check_site = site->add_subcommand("check", "check it against this machine before anything runs");
    check_site->add_option("file", site_options.file, "the installation file")
        ->capture_default_str()
        ->type_name("FILE");
    add_output(check_site, site_options.output);
    check_site->callback([&] { command = [&] { return run_site_check(site_options); }; });
    auto* show_site = site->add_subcommand("show", "print the address to enter on each device");
    show_site->add_option("file", site_options.file, "the installation file")->capture_default_str()->type_name("FILE");
    add_output(show_site, site_options.output);
    show_site->add_flag("--plain", site_options.plain, "addresses only, no codes for a phone's camera");
    show_site->callback([&] { command = [&] { return run_site_show(site_options); }; });
    auto* service_site = site->add_subcommand("service", "print the systemd unit that runs the streams at every boot");
    service_site->add_option("file", site_options.file, "the installation file")
        ->capture_default_str()
        ->type_name("FILE");
    service_site->callback([&] { command = [&] { return run_site_service(site_options); }; });

    InspectOptions inspect;
    auto* inspect_app = app.add_subcommand("inspect", "what is in a rip or a file");
    inspect_app
        ->add_option("input", inspect.input,
                     "a ripped disc (folder or image), a media file, an http:// address, or - for standard input")
        ->required()
        ->type_name("INPUT");
    inspect_app->add_option("--pick", inspect.pick, "show these in full: main, episodes, all, or numbers as 1,3-5")
        ->type_name("TITLES");
    inspect_app->add_flag("--deep", inspect.deep,
                          "read all of it: rates, keyframes, buffers, cadence, loudness, damage");
    add_retries(inspect_app, inspect.retries);
    add_output(inspect_app, inspect.output, true);
    inspect_app->callback([&] { command = [&] { return run_inspect(inspect); }; });

    auto* profile = app.add_subcommand("profile", "transcoding profiles");
    profile->require_subcommand(1);
    ProfileOptions profile_options;
    auto* list_profiles = profile->add_subcommand("list", "the built-in profiles");
    add_output(list_profiles, profile_options.output);
    list_profiles->callback([&] { command = [&] { return run_profile_list(profile_options); }; });
    auto* show_profile = profile->add_subcommand("show", "print a profile's TOML");
    show_profile->add_option("name", profile_options.name, "built-in name, or a file ending in .toml")
        ->required()
        ->type_name("PROFILE");
    add_output(show_profile, profile_options.output);
    show_profile->callback([&] { command = [&] { return run_profile_show(profile_options); }; });
    auto* check_profile = profile->add_subcommand("check", "look for errors in a profile file");
    check_profile->add_option("name", profile_options.name, "a file ending in .toml, or a built-in name")
        ->required()
        ->type_name("PROFILE");
    add_output(check_profile, profile_options.output);
    check_profile->callback([&] { command = [&] { return run_profile_check(profile_options); }; });

    ConvertOptions convert;
    auto* convert_app = app.add_subcommand("convert", "make a file the house's devices can play");
    convert_app
        ->add_option("input", convert.input, "a ripped disc (folder or image), a media file, an http:// address, or -")
        ->required()
        ->type_name("INPUT");
    convert_app->add_option("--pick", convert.pick, "main, episodes, all, or title numbers as 1,3-5")
        ->capture_default_str()
        ->type_name("TITLES");
    convert_app->add_option("--picture", convert.picture, "number of the picture track, where there are several")
        ->check(CLI::Range(1, 99))
        ->type_name("N");
    convert_app
        ->add_option(
            "--sound", convert.sound,
            "first (the default), all (the default with --rewrap), none, languages as en,fr, or numbers of tracks")
        ->type_name("WHICH");
    convert_app
        ->add_option("--subtitles", convert.subtitles,
                     "drawn into the picture: forced (needed to follow the story; the default), none, or a language as "
                     "en; with --rewrap kept as tracks: all (the default), none, forced, or languages")
        ->type_name("WHICH");
    convert_app
        ->add_option(
            "--rewrap", convert.rewrap,
            "put the tracks into another container untouched: mp4, matroska, webm, mpeg-ts, flv, wav, flac, mp3, "
            "adts, ogg; or webvtt for subtitles of text")
        ->type_name("CONTAINER");
    convert_app->add_option("--cut", convert.cut, "with --rewrap: only this stretch, on keyframes, as 0:10:00-0:20:00")
        ->type_name("FROM-TO");
    convert_app->add_option("--angle", convert.angle, "the angle, where a title has several")
        ->capture_default_str()
        ->check(CLI::Range(1, 9))
        ->type_name("N");
    convert_app->add_option("--season", convert.season, "season the episodes are filed under")
        ->capture_default_str()
        ->check(CLI::Range(0, 999))
        ->type_name("N");
    convert_app->add_option("--first-episode", convert.first_episode, "number of the first episode on this disc")
        ->capture_default_str()
        ->check(CLI::Range(1, 9999))
        ->type_name("N");
    add_retries(convert_app, convert.retries);
    convert_app
        ->add_option_function<std::string>(
            "--profile",
            [&](const std::string& name) {
                convert.profile = name;
                convert.profile_given = true;
            },
            "built-in profile, or a file ending in .toml")
        ->default_str(convert.profile)
        ->type_name("NAME");
    convert_app->add_option("--into", convert.into, "folder of the library; the film gets its own folder there")
        ->required()
        ->type_name("DIR");
    convert_app
        ->add_option("--name", convert.name,
                     "the film's name, with its year: \"Name (Year)\"; else from the rip's folder")
        ->type_name("NAME");
    convert_app->add_flag("--accept-losses", convert.accept_losses,
                          "write the result though more than 1 % or 10 s of the input can't be read");
    convert_app->add_flag("--plan", convert.plan, "only say what would be done, why, and what it would cost");
    convert_app->add_flag(
        "--measure-quality", convert.quality,
        "decode the result and compare it with the pictures it was made from; with --plan on samples");
    add_output(convert_app, convert.output, true);
    convert_app->footer(
        "It ends with the terminal it was started from. To go on without: nohup wavecrest convert ... &");
    convert_app->callback([&] { command = [&] { return run_convert(convert); }; });

    auto* stream = app.add_subcommand("stream", "run the house's streams");
    stream->require_subcommand(1);
    StreamRunOptions stream_run;
    auto* run = stream->add_subcommand("run", "serve a site's streams, or one file, until Ctrl-C");
    run->footer(
        "It ends with the terminal it was started from. To go on without: nohup wavecrest stream run ... &\n"
        "For streams at every boot: wavecrest site service prints the systemd unit.");
    run->add_option("files", stream_run.files, "a file or disc to stream, without a site; or several in a row")
        ->type_name("FILE");
    run->add_option("--offer", stream_run.offers,
                    "how: file, hls (each viewer's own), live, live-hls, rtmp (the same for all); file if not said")
        ->delimiter(',')
        ->type_name("WAYS");
    run->add_option("--title", stream_run.title, "of a disc: its number (main)")->type_name("TITLE");
    run->add_option("--chapter", stream_run.chapter, "live: begin with this one")
        ->check(CLI::Range(1, 999))
        ->type_name("N");
    run->add_option("--name", stream_run.name, "the stream's name, if not the file's")->type_name("NAME");
    run->add_option("--sound", stream_run.choice.sound,
                    "live and hls: which sound: languages as en,fr, numbers of tracks, or none (all that can be sent)")
        ->delimiter(',')
        ->type_name("WHICH");
    run->add_option("--picture", stream_run.choice.picture,
                    "live and hls: number of the picture track, where there are several")
        ->check(CLI::Range(1, 99))
        ->type_name("N");
    run->add_option("--draw-subtitles", stream_run.choice.drawn,
                    "with --profile: drawn into the picture: forced, none, or a language as en")
        ->capture_default_str()
        ->type_name("WHICH");
    run->add_option("--subtitles", stream_run.subtitles,
                    "with file and hls: a file of text that goes with it (SRT, WebVTT)")
        ->type_name("FILE");
    run->add_option("--profile", stream_run.profile, "live: encode anew on the way with this profile")
        ->type_name("NAME");
    run->add_option("--push", stream_run.push, "publish it to this RTMP server: rtmp://HOST/APPLICATION/KEY")
        ->type_name("ADDRESS");
    run->add_option("--push-key-file", stream_run.push_key_file,
                    "file with the key for --push, whose address then ends with the application; "
                    "or $WAVECREST_PUSH_KEY")
        ->type_name("FILE");
    // Of the environment alone: what stands on the command line, everybody on this machine can read.
    run->add_option("--push-key", stream_run.push_key)->envname("WAVECREST_PUSH_KEY")->group("");
    run->add_option("--publish-key", stream_run.publish_key,
                    "take what is published here by RTMP with this key (other users of this machine can read it here)")
        ->type_name("KEY")
        ->envname("WAVECREST_PUBLISH_KEY");
    run->add_option("--publish-key-file", stream_run.publish_key_file, "the same with the key in a file")
        ->type_name("FILE");
    run->add_option("--rtmp-port", stream_run.rtmp_port, "TCP port for RTMP, instead of the site's (1935)")
        ->check(CLI::Range(1, 65535))
        ->type_name("PORT");
    run->add_option("--site", stream_run.site, "the installation file")->type_name("FILE");
    run->add_option("--port", stream_run.port, "TCP port, instead of the site's")
        ->check(CLI::Range(1, 65535))
        ->type_name("PORT");
    run->add_option("--certificate", stream_run.certificate,
                    "offer what goes by HTTP by HTTPS, too, with this certificate (PEM)")
        ->type_name("FILE");
    run->add_option("--certificate-key", stream_run.certificate_key, "its private key (PEM)")->type_name("FILE");
    run->add_option("--tls-port", stream_run.tls_port, "TCP port for HTTPS, instead of the site's (8443)");
    run->add_option("--address", stream_run.bind, "listen on this address only")->type_name("ADDRESS");
    run->add_option("--udp", stream_run.udp, "send it to this address and port, too: 239.20.0.1:5004 (repeatable)")
        ->type_name("TO");
    run->add_option("--rtp", stream_run.rtp, "the same as RTP (repeatable)")->type_name("TO");
    run->add_flag("--loop", stream_run.loop, "live: begin anew at the end");
    run->add_option("--rate", stream_run.rate, "of transport streams: this constant rate, such as \"8 Mbit/s\"")
        ->type_name("RATE");
    run->add_option("--interface", stream_run.interface, "send multicast by this interface or address")
        ->type_name("NAME");
    run->add_option("--hops", stream_run.hops, "routers that multicast may pass (4)")
        ->check(CLI::Range(1, 255))
        ->type_name("COUNT");
    run->add_option("--for", stream_run.bound, "end after this time, such as \"10 s\"")->type_name("TIME");
    add_output(run, stream_run.output);
    run->callback([&] { command = [&] { return run_stream(stream_run); }; });
    StreamControlOptions control;
    const auto add_control = [&](const char* name, const char* what) {
        auto* sub = stream->add_subcommand(name, what);
        sub->add_option("--site", control.site, "the installation file whose streams run")->type_name("FILE");
        sub->add_option("--port", control.port, "their HTTP port on this machine")
            ->check(CLI::Range(1, 65535))
            ->type_name("PORT");
        add_output(sub, control.output);
        return sub;
    };
    auto* status = add_control("status", "what runs, who watches, how fast: streams run by this user on this machine");
    status->add_flag("--watch", control.watch, "again every second, until Ctrl-C");
    status->callback([&] { command = [&] { return run_stream_status(control); }; });
    static constexpr std::pair<const char*, const char*> kOrders[] = {
        {"pause", "a live stream stands still, for everybody"},
        {"resume", "a paused stream goes on"},
        {"skip", "a live stream goes on elsewhere, for everybody"},
        {"stop", "end a live stream"}};
    for (const auto& [order, what] : kOrders) {
        auto* sub = add_control(order, what);
        sub->add_option("stream", control.stream, "its name, or the beginning of it; not needed where one runs alone")
            ->type_name("NAME");
        if (std::string_view(order) == "skip") {
            sub->add_option("--by", control.by, "on by so long, or back: \"30 s\", \"-10 s\"")->type_name("TIME");
            sub->add_option("--to", control.to, "to this time: 1:02:00")->type_name("TIME");
            sub->add_flag("--next", control.next, "to the next part");
            sub->add_flag("--back", control.back, "to the part's beginning, or the one before");
        }
        sub->callback([&command, &control, order = std::string(order)] {
            command = [&control, order] { return run_stream_order(order, control); };
        });
    }

    auto* device = app.add_subcommand("device", "devices and what they can play");
    device->require_subcommand(1);
    DeviceOptions device_options;
    auto* list_devices = device->add_subcommand("list", "the built-in device classes");
    add_output(list_devices, device_options.output);
    list_devices->callback([&] { command = [&] { return run_device_list(device_options); }; });
    auto* show_device = device->add_subcommand("show", "what one class can play");
    show_device->add_option("name", device_options.name, "class, or a description ending in .toml")
        ->required()
        ->type_name("CLASS");
    add_output(show_device, device_options.output);
    show_device->callback([&] { command = [&] { return run_device_show(device_options); }; });

    VerifyOptions verify;
    auto* verify_app = app.add_subcommand("verify", "play streams as devices would, and judge");
    verify_app->add_option("url", verify.url, "an address to verify, without a site")->type_name("URL");
    verify_app->add_option("--site", verify.site, "the installation file: every stream as every device")
        ->type_name("FILE");
    verify_app
        ->add_option("--device", verify.device,
                     "with an address: a device class or description; with a site: only this device")
        ->type_name("NAME");
    verify_app->add_option("--stream", verify.stream, "with a site: only this stream")->type_name("NAME");
    verify_app->add_option("--link", verify.link, "with an address: the device's link (gigabit)")->type_name("LINK");
    verify_app
        ->add_option("--wait", verify.wait,
                     "wait so long for the stream to appear (10 s for udp:// and rtp://, else not at all)")
        ->type_name("TIME");
    verify_app->add_option("--for", verify.listen, "play live streams for so long (10 s)")->type_name("TIME");
    verify_app->add_flag("--again", verify.again,
                         "be a screen that waits: play the stream whenever it appears, to its end, until Ctrl-C");
    verify_app->add_option("--stills", verify.stills, "save pictures of what was received in this folder (PNG)")
        ->type_name("DIR");
    verify_app->add_option("--trust", verify.trusted, "accept this certificate (PEM) of an https:// address")
        ->type_name("FILE");
    add_faults(verify_app, verify.faults);
    verify_app->add_flag("--real-time", verify.real_time,
                         "take as long as the device would; else waiting for the link is skipped");
    add_output(verify_app, verify.output, true);
    verify_app->callback([&] { command = [&] { return run_verify(verify); }; });

    ReportOptions report;
    auto* report_app = app.add_subcommand("report", "the handover page of the house");
    report_app->add_option("--site", report.site, "the installation file")->capture_default_str()->type_name("FILE");
    report_app->add_option("--results", report.results, "folder of results (results/ beside the site file)")
        ->type_name("DIR");
    report_app->add_option("--into", report.into, "folder for the page (report/ beside the site file)")
        ->type_name("DIR");
    report_app->callback([&] { command = [&] { return run_report(report); }; });

    auto* standin = app.add_subcommand("standin", "made-up material to try things on");
    standin->require_subcommand(1);
    StandinDiscOptions disc;
    auto* disc_app = standin->add_subcommand("disc", "make a sample ripped disc with a test card");
    disc_app->add_option("folder", disc.folder, "the folder to make, or an image when it ends in .iso")
        ->required()
        ->type_name("FOLDER");
    disc_app->add_option("--from", disc.from, "what the disc holds: a description in TOML (see the manual)")
        ->type_name("FILE");
    disc_app->add_option("--title", disc.title, "text on the card; else the folder's name")->type_name("TEXT");
    disc_app->add_option("--length", disc.length, "length of the main title")->capture_default_str()->type_name("TIME");
    disc_app->add_option("--extra", disc.extra, "length of the extra; \"0 s\" leaves it out")
        ->capture_default_str()
        ->type_name("TIME");
    disc_app->add_option("--chapters", disc.chapters, "chapters of the main title")
        ->capture_default_str()
        ->check(CLI::Range(1, 99))
        ->type_name("N");
    disc_app->add_option("--seed", disc.seed, "another seed gives another picture texture")
        ->capture_default_str()
        ->type_name("N");
    disc_app->add_flag("-q,--quiet", disc.quiet, "no progress");
    disc_app->callback([&] { command = [&] { return run_standin_disc(disc); }; });
    StandinLinkOptions link;
    auto* link_app = standin->add_subcommand("link", "pass a stream on over a network worse than this one");
    link_app->add_option("from", link.from, "where it takes it: a TCP port, ADDRESS:PORT, or udp://ADDRESS:PORT")
        ->required()
        ->type_name("FROM");
    link_app->add_option("to", link.to, "where it passes it on: HOST:PORT, or udp://ADDRESS:PORT")
        ->required()
        ->type_name("TO");
    link_app->add_option("--rate", link.rate, "it carries so much payload: \"6 Mbit/s\"")->type_name("RATE");
    add_faults(link_app, link.faults);
    link_app->add_option("--interface", link.interface, "for multicast, by name or address")->type_name("NAME");
    link_app->add_option("--for", link.bound, "end after this time")->type_name("TIME");
    add_output(link_app, link.output);
    link_app->callback([&] { command = [&] { return run_standin_link(link); }; });

    std::string demo_folder = "demo-house";
    auto* demo = app.add_subcommand("demo", "the whole job on made-up data, step by step");
    demo->add_option("folder", demo_folder, "the folder to make")->capture_default_str()->type_name("DIR");
    demo->callback([&] { command = [&] { return run_demo(demo_folder); }; });

    const std::vector<std::string> words(argv + 1, argv + argc);
    const bool json = std::find(words.begin(), words.end(), "--json") != words.end();
    if (const auto mistyped = find_mistyped(app, words)) return report_error(*mistyped, json);
    try {
        app.parse(argc, argv);
    } catch (const CLI::ParseError& error) {
        if (error.get_exit_code() == 0) return app.exit(error);
        const CLI::App* used = &app;
        for (auto next = used->get_subcommands(); !next.empty(); next = used->get_subcommands()) used = next.front();
        std::string name = "wavecrest";
        for (const CLI::App* a = used; a->get_parent() != nullptr; a = a->get_parent())
            name.insert(9, " " + a->get_name());
        return report_error(
            {wavecrest::ErrorKind::usage, error.what(), "the command line", name + " --help shows what it takes"},
            json);
    }
    return command();
}

// Connections and films under way take open files: as many as the system lets this user have.
void allow_open_files() {
    rlimit limit{};
    if (::getrlimit(RLIMIT_NOFILE, &limit) != 0 || limit.rlim_cur >= limit.rlim_max) return;
    limit.rlim_cur = limit.rlim_max;
    ::setrlimit(RLIMIT_NOFILE, &limit);
}

}  // namespace

int main(int argc, char** argv) {
    install_signal_handlers();
    allow_open_files();
    try {
        return finish_output(run(argc, argv));
    } catch (const std::exception& error) {
        // Nothing throws on purpose this far up: memory has run out, most likely.
        return report_error({wavecrest::ErrorKind::machine, fmt::format("the program had to stop: {}", error.what()),
                             "", "close other programs and try again; if it happens again, report it"});
    }
}
