// Every command: its options as plain data, and the function that runs it and gives the exit status.
// command_line.cpp parses the command line into these; one file per command does the work.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "cli/terminal.hpp"
#include "media/track_choice.hpp"
#include "net/worse_link.hpp"

namespace wavecrest::verify {
struct Verification;
}

namespace wavecrest::cli {

// What is written down as a command goes: base/log.hpp.
struct LogOptions {
    int verbose = 0;   // -v: on standard error; -vv: with details
    std::string file;  // --log
};
Status start_log(const LogOptions& options);

struct InspectOptions {
    std::string input;
    std::string pick;  // empty: all titles; else those to show in full
    int retries = 2;
    bool deep = false;
    Output output;
};
int run_inspect(const InspectOptions& options);

struct ShareOptions {
    std::string address;
    std::string user;           // empty: the account that is kept, else a guest
    std::string password_file;  // empty: asked for
    bool keep = false;          // the account, for later commands
    bool write = false;
    std::string length;
    int readers = 3;
    std::string device, link;  // of one that could play from the share: the paths to it are compared
    Output output;
};
int run_share_prove(const ShareOptions& options);

struct ShareFindOptions {
    std::vector<std::string> hosts;  // empty: search
    std::string interface;
    std::string length;
    Output output;
};
int run_share_find(const ShareFindOptions& options);

struct ShareAttachOptions {
    ShareOptions share;  // address (or a disk) and account
    std::string folder;
    std::string owner;  // user whose the files appear to be; empty: who called sudo, else who runs this
    std::string root = "/";
    bool fstab = false;
    bool read_only = false;
    bool untested = false;
    bool dry_run = false;
};
int run_share_attach(const ShareAttachOptions& options);
int run_share_detach(const ShareAttachOptions& options);
int run_share_check(const ShareAttachOptions& options);

struct ConvertOptions {
    std::vector<std::string> inputs;
    std::string input;   // the one that is worked on
    bool queue = false;  // put into the list of jobs, not converted now
    bool watch = false;  // stay, and take what arrives in the folders
    std::string rest;    // of `watch`: so long nothing of a source may have changed; empty: a minute
    std::string pick = "main";
    std::vector<std::string> profiles;  // empty: kUsualProfile
    std::vector<std::string> devices;   // decided by them instead: classes, descriptions, or devices of the site
    std::string site;                   // whose devices those are; all of them where none is named
    bool one_file = false;              // for all of them
    bool ladder = false;                // several bit rates in a folder; also said by a profile
    std::string into;
    std::string name;
    int video = 0;          // track, from 1; 0: the first
    std::string audio;      // empty: the first to convert, all to remux
    std::string subtitles;  // empty: forced ones to convert, all to remux
    std::string subtitle_file;
    bool captions = false;
    std::string remux;  // a container's short name; empty: convert
    std::string cut;    // FROM-TO
    int angle = 1;
    int season = -1;  // that of the name, else 1
    int first_episode = 1;
    bool extras = false;
    std::string film_names, episode_names;  // templates; empty: the usual ones
    std::string list;                       // a file that names what is on the shelf
    bool record = true;
    std::string nice;  // hours, a share of the processor; empty: at any time
    int retries = 2;
    bool plan = false;
    bool samples = true;  // of a plan's estimates
    bool quality = false;
    bool accept_losses = false;
    Output output;
};
int run_convert(ConvertOptions options);

struct WeighOptions {
    std::string input;
    std::string pick = "main";
    std::vector<std::string> profiles;
    std::vector<std::string> devices;  // classes, descriptions, or devices of the site
    std::string site;
    int video = 0;
    std::string audio = "first", subtitles = "forced";
    int angle = 1;
    int retries = 2;
    std::string target_size;  // of the whole file; empty: none
    double quality = 0;       // mean SSIM wanted; 0: none
    Output output;
};
int run_weigh(const WeighOptions& options);

struct JobOptions {
    std::int64_t id = 0;
    std::string state;        // only those, in a list
    bool all_failed = false;  // to try again
    bool wait = false;        // for jobs to come
    std::string nice;         // as in ConvertOptions
    Output output;
};
int run_job_list(const JobOptions& options);
int run_job_show(const JobOptions& options);
int run_job_retry(const JobOptions& options);
int run_job_stop(const JobOptions& options);
int run_job_run(const JobOptions& options);
int run_job_service(const JobOptions& options);

struct ProfileOptions {
    std::string name;
    std::string device;                 // to check it for
    std::string like = "full-picture";  // of a new one
    std::vector<std::string> changes;   // likewise: KEY=VALUE
    std::string file;                   // likewise: where it goes
    Output output;
};
int run_profile_list(const ProfileOptions& options);
int run_profile_show(const ProfileOptions& options);
int run_profile_check(const ProfileOptions& options);
int run_profile_new(const ProfileOptions& options);

struct DeviceOptions {
    std::string name;
    std::string other;           // to compare with
    std::string like = "tv-hd";  // of a new one
    std::string file;            // likewise: where it goes
    Output output;
};
int run_device_list(const DeviceOptions& options);
int run_device_show(const DeviceOptions& options);
int run_device_new(const DeviceOptions& options);
int run_device_check(const DeviceOptions& options);
int run_device_compare(const DeviceOptions& options);

struct DeviceTestOptions {
    std::string site;
    std::string device;  // the one that is expected; empty: the page asks
    std::string like;    // class it was taken for; empty: the site's, or by its browser
    std::uint16_t port = 0;
    std::string bind;
    std::string bound;  // for so long; empty: until Ctrl-C, or until the named device is finished
    std::vector<std::string> only;
    std::string largest;
    std::string into;       // empty: devices/ beside the site file
    bool replace = false;   // descriptions that are there
    bool adopt = false;     // the site file names the description from now on
    std::string on;         // a browser of this machine, or a renderer of the network
    std::string interface;  // by which that is searched for; empty: all
    Output output;
};
int run_device_test(const DeviceTestOptions& options);

struct DeviceFindOptions {
    std::string bound;      // --for; empty: 4 s
    std::string interface;  // by name or address; empty: all
    std::string add;        // a site file that gets what is found
    Output output;
};
int run_device_find(const DeviceFindOptions& options);

// A renderer of the network, and what it is to do.
struct RendererOptions {
    std::string name;   // as it is found, its UDN, or a device of the site; "all"
    std::string media;  // play: a stream of the site, a file, or an address
    std::string site;
    std::string interface;  // by name or address; empty: all
    std::string value;      // seek: time; volume: percent; mute: on, off
    std::string bound;      // of looking on
    Output output;
};
int run_device_play(const RendererOptions& options);
// "pause", "resume", "stop", "seek", "volume" or "mute".
int run_device_order(const std::string& order, const RendererOptions& options);
int run_device_live(const RendererOptions& options);

struct LibraryOptions {
    std::string site = "site.toml";
    std::string kind;        // list: film, episode, music; empty: all
    std::string collection;  // list: its name; empty: all
    std::vector<std::string> words;
    std::int64_t id = 0;  // show
    bool all = false;     // however many there are
    Output output;
};
int run_library_list(const LibraryOptions& options);
int run_library_find(const LibraryOptions& options);
int run_library_show(const LibraryOptions& options);

struct SiteNewOptions {
    std::string file = "site.toml";
    std::string house = "My site";
    std::uint16_t port = 0;                // 0: the default
    std::vector<std::string> devices;      // "NAME,CLASS,LINK"
    std::vector<std::string> streams;      // "NAME,FILE"
    std::vector<std::string> collections;  // "NAME,FOLDER"
};
int run_site_new(const SiteNewOptions& options);

struct SiteOptions {
    std::string file = "site.toml";
    bool plain = false;  // show: no codes for cameras
    Output output;
};
int run_site_check(const SiteOptions& options);
int run_site_show(const SiteOptions& options);
int run_site_service(const SiteOptions& options);

struct SiteMeasureOptions {
    std::string file;                  // empty: site.toml, where there is one
    std::vector<std::string> folders;  // whose drives are tried; empty: that of the file
    bool show = false;                 // what was measured before
    Output output;
};
int run_site_measure(const SiteMeasureOptions& options);

struct StreamRunOptions {
    std::string site;
    std::vector<std::string> files;  // one-off form
    std::string title = "main";
    int chapter = 1;
    std::string name;                     // of the stream; empty: the first file's
    std::vector<std::string> deliveries;  // empty: the file itself
    std::uint16_t port = 0;               // 0: the site's, or the default
    std::uint16_t rtmp_port = 0;          // likewise
    std::uint16_t tls_port = 0;           // likewise
    std::string certificate, certificate_key;
    std::string bind;
    std::string bound;                  // --for; empty: until Ctrl-C
    std::vector<std::string> udp, rtp;  // addresses to send to
    std::vector<std::string> push;      // RTMP servers to publish to
    std::string publish_key;            // take what is published with it
    std::string publish_key_file, push_key, push_key_file;
    std::string profile;
    std::string subtitles;  // a file of text
    TrackChoice choice;
    bool loop = false;
    std::string rate;  // constant
    std::string interface;
    int ttl = 4;
    Output output;
};
int run_stream(const StreamRunOptions& options);
// What a way a stream goes out ("live-hls") is to people.
std::string delivery_text(const std::string& way);

// Which running streams are meant: those of a site's file, at a port of this machine, or the only ones that run.
struct StreamControlOptions {
    std::string site;
    std::uint16_t port = 0;
    std::string stream;  // for orders
    std::string by, to;  // skip: "30 s", "-10 s"; "1:02:00"
    bool next = false, back = false;
    bool watch = false;  // status: again every second
    Output output;
};
int run_stream_status(const StreamControlOptions& options);
// "pause", "resume", "seek" or "stop".
int run_stream_order(const std::string& order, const StreamControlOptions& options);

// What is wrong with a network, on the command line.
struct LinkFaultOptions {
    std::string delay, jitter, outage, outage_every;
    double loss = 0, reorder = 0;  // percent
    std::string squeeze;           // rates with lengths
    std::uint32_t seed = 1;
};
Result<net::LinkFaults> parse_faults(const LinkFaultOptions& options);

struct VerifyOptions {
    std::string site;
    std::string url;
    std::string device;   // with a URL: class or description file; with a site: one of its devices
    std::string stream;   // with a site: one of its streams
    std::string link;     // with a URL
    std::string wait;     // for a stream to appear; empty: 10 s for datagrams, else not at all
    std::string listen;   // to live streams; empty: 10 s, or to their end with again
    bool again = false;   // wait for the stream, play it, and wait for it again
    std::string stills;   // folder for pictures of what was received
    std::string trusted;  // a certificate accepted besides the system's
    bool real_time = false;
    std::string on;         // a browser of this machine, or a renderer, that really plays it; empty: computed
    bool watch = false;     // the device plays, this looks on from the server
    std::string interface;  // of the network, by which a renderer is searched for; empty: all
    LinkFaultOptions faults;
    Output output;
};
int run_verify(const VerifyOptions& options);
int run_verify_watch(const VerifyOptions& options);        // with `watch`
int run_verify_on_renderer(const VerifyOptions& options);  // with the name of one in `on`
void print_verification(const verify::Verification& verification);

struct ReportOptions {
    std::string site = "site.toml";
    std::string results;  // empty: results/ beside the site file
    std::string into;     // empty: report/ beside the site file
};
int run_report(const ReportOptions& options);

struct StandinDeviceOptions {
    std::string page;          // the check page's address
    std::string device_class;  // as which it plays
    std::string name;          // answered where the page asks
    std::string link;          // empty: as fast as it goes
    Output output;
};
int run_standin_device(const StandinDeviceOptions& options);

struct StandinRendererOptions {
    std::string name;
    std::string device_class = "tv-hd";
    std::string link;       // empty: as fast as it goes
    std::string fault;      // empty: none
    std::string interface;  // by name or address; empty: all
    std::string bound;      // empty: until Ctrl-C
    std::uint16_t port = 0;
    Output output;
};
int run_standin_renderer(const StandinRendererOptions& options);

struct StandinDiscOptions {
    std::string folder;
    std::string from;  // a description; empty: a film and an extra
    std::string title;
    std::string length = "90 s";
    std::string extra = "15 s";
    int chapters = 5;
    std::uint32_t seed = 1;
    bool quiet = false;
};
int run_standin_disc(const StandinDiscOptions& options);

struct StandinLinkOptions {
    std::string from, to;  // "9000" and "192.168.1.10:8080", or "udp://..." both
    std::string rate, bound;
    LinkFaultOptions faults;
    std::string interface;
    Output output;
};
int run_standin_link(const StandinLinkOptions& options);

int run_demo(const std::string& folder);

}  // namespace wavecrest::cli
