#include <fmt/ranges.h>
#include <unistd.h>

#include <algorithm>
#include <chrono>
#include <cstdio>
#include <future>
#include <nlohmann/json.hpp>
#include <thread>

#include "base/atomic_file.hpp"
#include "base/units.hpp"
#include "cli/commands.hpp"
#include "cli/renderers.hpp"
#include "convert/name.hpp"
#include "device/claims.hpp"
#include "device/device.hpp"
#include "host/browser.hpp"
#include "host/machine.hpp"
#include "host/network.hpp"
#include "net/http_server.hpp"
#include "render/code.hpp"
#include "render/table.hpp"
#include "report/results.hpp"
#include "site/new_site.hpp"
#include "site/site.hpp"
#include "trial/check_page.hpp"
#include "trial/on_renderer.hpp"
#include "upnp/eventing.hpp"

namespace wavecrest::cli {
namespace {

// What is asked for, read.
struct Test {
    std::optional<site::Site> site;
    trial::CheckPageSettings page;
    std::optional<device::Device> like;
    std::optional<Time> bound;
    std::optional<host::Engine> engine;
    std::optional<FoundRenderer> renderer;  // of the network, that is told what to play
    base::Path into;
    std::string host;
};

// The one renderer that --on names, and what it can be asked: it has no page, so that its display, its frames and what
// it says of formats aren't known.
Status find_renderer(const DeviceTestOptions& options, Test& test) {
    WAVECREST_TRY(check_no_browser_is_meant(options.on));
    std::optional<site::Site> site;
    if (!options.site.empty()) {
        WAVECREST_TRY_ASSIGN(loaded, site::load(options.site));
        site = std::move(loaded);
    }
    auto found = find_renderers(options.on, options.interface, site ? &*site : nullptr, cancel());
    if (!found) {
        Error error = found.error();
        error.remedy += ". (Browsers of this machine: chromium, firefox)";
        return fail(std::move(error));
    }
    if (found->size() > 1) return fail(ErrorKind::usage, "one renderer is tested at a time", "--on", "name one");
    test.renderer = std::move(found->front());
    static const std::vector<std::string> kPossible = {"video", "containers", "audio", "bitrate", "seeking"};
    for (const std::string& section : options.only) {
        if (std::find(kPossible.begin(), kPossible.end(), section) == kPossible.end())
            return fail(ErrorKind::usage, fmt::format("\"{}\" needs the device's browser", section), "--only",
                        fmt::format("on a renderer there is: {}", fmt::join(kPossible, ", ")));
    }
    if (options.only.empty()) test.page.course.only = kPossible;
    return {};
}

Result<Test> set_up(const DeviceTestOptions& options) {
    Test test;
    if (!options.bound.empty()) {
        test.bound = base::parse_span(options.bound);
        if (!test.bound || test.bound->count() <= 0)
            return fail(ErrorKind::usage, fmt::format("\"{}\" isn't a valid time", options.bound), "--for",
                        "write for example \"10 min\"");
    }
    if (!options.largest.empty()) {
        const auto size = base::parse_size(options.largest);
        if (!size || size->height < 480)
            return fail(ErrorKind::usage, fmt::format("\"{}\" isn't a valid size", options.largest), "--max-size",
                        "write 480p or more, for example 1080p");
        test.page.course.largest = *size;
    }
    for (const std::string& section : options.only) {
        const auto& known = trial::section_names();
        if (std::find(known.begin(), known.end(), section) != known.end()) continue;
        const std::string meant = base::nearest(section, known);
        return fail(ErrorKind::usage, fmt::format("there is no section \"{}\"", section), "--only",
                    meant.empty() ? fmt::format("use some of: {}", fmt::join(known, ", "))
                                  : fmt::format("did you mean \"{}\"?", meant));
    }
    test.page.course.only = options.only;
    if (!options.on.empty()) {
        test.engine = host::engine_from_name(options.on);
        if (!test.engine) WAVECREST_TRY(find_renderer(options, test));
    }
    if (!options.like.empty()) {
        WAVECREST_TRY_ASSIGN(like, device::find(options.like));
        test.like = std::move(like);
    }
    if (test.renderer && !test.like && options.site.empty())
        test.like = device::from_claims(test.renderer->found.description.name, test.renderer->found.takes);
    test.page.name = !options.device.empty() ? options.device
                     : test.renderer         ? test.renderer->found.description.name
                     : test.engine           ? std::string(host::short_name(*test.engine)) + " on this machine"
                                             : "";
    test.into = "devices";
    if (options.adopt && options.site.empty())
        return fail(ErrorKind::usage, "--adopt changes a site file, and none is named", "--adopt",
                    "add --site site.toml");
    if (!options.site.empty()) {
        WAVECREST_TRY_ASSIGN(site, site::load(options.site));
        std::vector<std::string> names;
        for (const site::SiteDevice& one : site.devices) {
            test.page.devices.push_back({one.device.name, one.address});
            names.push_back(one.device.name);
        }
        if (!options.device.empty() && std::find(names.begin(), names.end(), options.device) == names.end()) {
            const std::string meant = base::nearest(options.device, names);
            return fail(ErrorKind::usage, fmt::format("the site has no device \"{}\"", options.device), options.site,
                        meant.empty() ? fmt::format("it has: {}", fmt::join(names, ", "))
                                      : fmt::format("did you mean \"{}\"?", meant));
        }
        test.into = site.file.parent_path() / "devices";
        test.host = site.host();
        test.site = std::move(site);
    }
    if (!options.into.empty()) test.into = options.into;
    if (test.host.empty()) test.host = !options.bind.empty() ? options.bind : host::best_address();
    if (test.engine) test.host = options.bind.empty() ? "127.0.0.1" : options.bind;
    if (test.renderer && options.bind.empty()) {
        WAVECREST_TRY_ASSIGN(own, upnp::own_address_towards(test.renderer->found.address));
        test.host = own;
    }
    test.page.announced = test.host;
    test.page.makes_ahead = test.page.attended = !test.engine;
    if (test.renderer) test.page.attended = ::isatty(STDIN_FILENO) != 0 && !options.output.json;
    if (!test.engine && !test.renderer) test.page.folder = base::state_folder() / "device-tests";
    WAVECREST_TRY(host::check_writable(test.into));
    return test;
}

Result<std::unique_ptr<net::HttpServer>> start_server(const DeviceTestOptions& options, trial::CheckPage& page) {
    // Streams may run at the usual port.
    constexpr int kTries = 10;
    Result<std::unique_ptr<net::HttpServer>> server = fail(ErrorKind::machine, "", "", "");
    for (int i = 0; i < (options.port != 0 ? 1 : kTries); ++i) {
        net::HttpServerSettings settings;
        settings.address = options.bind;
        settings.port = options.port != 0 ? options.port : static_cast<std::uint16_t>(net::kDefaultHttpPort + i);
        settings.answer = [&page](const net::HttpRequest& request) { return page.answer(request); };
        server = net::HttpServer::start(std::move(settings));
        if (server) break;
    }
    return server;
}

// The class of its engine, by how a browser calls itself.
std::string class_of(const std::string& agent) {
    if (agent.find("Firefox/") != std::string::npos) return "browser-gecko";
    if (agent.find("Chrome/") != std::string::npos || agent.find("Chromium/") != std::string::npos)
        return "browser-chromium";
    return "browser-webkit";
}

// What the device was taken for until now.
Result<device::Device> taken_for(const Test& test, const trial::FinishedTest& done) {
    if (test.like) return *test.like;
    if (test.site) {
        for (const site::SiteDevice& one : test.site->devices) {
            if (one.device.name != done.name) continue;
            device::Device device = one.device;
            device.name = one.device_class;
            return device;
        }
    }
    if (test.renderer) return device::from_claims(done.name, test.renderer->found.takes);
    return device::find(class_of(done.agent));
}

struct Written {
    base::Path file;
    device::Device device, before;
    std::vector<device::Difference> differences;
};

// A description under a name that is free, unless it is to be replaced.
Result<Written> write_description(const Test& test, const trial::FinishedTest& done, bool replace) {
    Written written;
    WAVECREST_TRY_ASSIGN(before, taken_for(test, done));
    written.before = std::move(before);
    device::Device& device = written.device = done.course.description(done.name, written.before);
    device.description = "measured by the check page";
    const std::string when = done.course.taken().empty() ? "" : done.course.taken().back().when;
    device.basis = test.renderer
                       ? fmt::format("device test {} over UPnP; what its own state and position tell; all else as {}",
                                     when, written.before.name)
                       : fmt::format("check page {}; what its browser plays ({}); buffering as {}", when, done.agent,
                                     written.before.name);
    if (test.renderer) {
        device.description = "measured by playing on it (UPnP)";
        device.protocols = written.before.protocols;  // by others than HTTP nothing was tried
    }
    const std::string text = device::write(device);
    const std::string name = convert::safe_name(done.name);
    for (int number = 1;; ++number) {
        written.file = test.into / (number == 1 ? name + ".toml" : fmt::format("{}-{}.toml", name, number));
        std::error_code error;
        if (!replace && std::filesystem::exists(std::filesystem::symlink_status(written.file, error))) continue;
        WAVECREST_TRY(
            base::write_file(written.file, base::as_bytes(text),
                             replace ? base::AtomicFile::IfExists::replace : base::AtomicFile::IfExists::refuse));
        break;
    }
    for (device::Difference& row : device::compare(written.before, device))
        written.differences.push_back(std::move(row));
    return written;
}

// The class line of the site file, as it is to be: relative where the description lies below it.
std::string class_line(const Test& test, const Written& written) {
    const base::Path file = base::absolute_path(written.file),
                     folder = base::absolute_path(test.site->file).parent_path();
    const base::Path beside = file.lexically_normal().lexically_relative(folder.lexically_normal());
    return beside.empty() || beside.native().starts_with("..") ? file.string() : beside.string();
}

bool is_of_site(const Test& test, const std::string& name) {
    return test.site && std::any_of(test.site->devices.begin(), test.site->devices.end(),
                                    [&](const site::SiteDevice& one) { return one.device.name == name; });
}

Status adopt(const Test& test, const trial::FinishedTest& done, const Written& written) {
    WAVECREST_TRY_ASSIGN(text, base::read_text_file(test.site->file));
    WAVECREST_TRY_ASSIGN(changed, site::with_class(text, test.site->file, done.name, class_line(test, written)));
    return base::write_file(test.site->file, base::as_bytes(changed), base::AtomicFile::IfExists::replace);
}

void print_written(const Test& test, const trial::FinishedTest& done, const Written& written, bool is_adopted) {
    print("\n{} ({}): finished\n", done.name, done.address);
    for (const std::string& line : done.course.summary()) print("  {}\n", line);
    if (written.device.video.empty() && written.device.audio.empty())
        print("  warning: nothing was seen to play; test it again\n");
    if (written.differences.empty()) {
        print("  As its class {} says.\n", written.before.name);
    } else {
        render::Table table({"", written.before.name, "measured"});
        for (const device::Difference& row : written.differences) table.add({row.what, row.first, row.second});
        print("\n{}", Raw{table.text(2)});
    }
    print("\nDescription: {}\n", written.file.string());
    if (is_adopted) {
        print("{} has it as the class of \"{}\" now.\nNext: wavecrest verify --site {}\n", test.site->file.string(),
              done.name, test.site->file.string());
    } else if (test.site) {
        print("Next: in {}, give \"{}\" the line class = \"{}\" (--adopt does it); then wavecrest verify --site {}\n",
              test.site->file.string(), done.name, class_line(test, written), test.site->file.string());
    } else {
        print("Next: wavecrest convert FILE --device '{}' --plan\n", written.file.string());
    }
    std::fflush(stdout);
}

// The state of all devices, drawn over itself on a terminal, a line now and then elsewhere.
class StateLine {
  public:
    explicit StateLine(bool quiet) : quiet_(quiet), terminal_(::isatty(STDERR_FILENO) != 0) {}
    ~StateLine() { clear(); }
    StateLine(const StateLine&) = delete;
    StateLine& operator=(const StateLine&) = delete;

    void clear() {
        if (shown_ && terminal_) print(stderr, "\r\033[K");
        shown_ = false;
    }
    void show(const trial::CheckPage& page, const trial::ClipStore& clips) {
        using namespace std::chrono_literals;
        const auto now = std::chrono::steady_clock::now();
        if (quiet_ || (!terminal_ && now - last_ < 20s)) return;
        const std::string text = text_of(page, clips);
        if (text == text_ && shown_) return;
        print(stderr, "{}{}{}", Raw{terminal_ ? "\r\033[K" : ""}, text, Raw{terminal_ ? "" : "\n"});
        std::fflush(stderr);
        text_ = text;
        shown_ = true;
        last_ = now;
    }

  private:
    static std::string text_of(const trial::CheckPage& page, const trial::ClipStore& clips) {
        std::string text;
        for (const trial::DeviceState& one : page.devices()) {
            if (one.finished) continue;
            constexpr double kLeft = 60;  // s
            text += fmt::format("{}{}: {:.0f} %{}", text.empty() ? "" : "; ", one.name, one.done * 100,
                                base::to_seconds(one.quiet) > kLeft ? ", gone: open the page again to go on"
                                                                    : (one.now.empty() ? "" : ", " + one.now));
        }
        const auto [ready, all] = clips.counts();
        if (text.empty()) text = "waiting for a device";
        if (ready < all) text += fmt::format(" (test clips made: {} of {})", ready, all);
        constexpr std::size_t kWidest = 110;
        return text.size() > kWidest ? text.substr(0, kWidest) + "..." : text;
    }

    bool quiet_, terminal_, shown_ = false;
    std::string text_;
    std::chrono::steady_clock::time_point last_{};
};

void print_events(trial::CheckPage& page, StateLine& line, bool quiet) {
    for (const trial::TestEvent& event : page.take_events()) {
        if (quiet) continue;
        line.clear();
        using Kind = trial::TestEvent::Kind;
        switch (event.kind) {
            case Kind::arrived:
                print(stderr, "{}: connected\n", event.device);
                break;
            case Kind::returned:
                print(stderr, "{}: goes on\n", event.device);
                break;
            case Kind::tried:
                print(stderr, "{}: {}\n", event.device, event.text);
                break;
            case Kind::finished:
                break;
        }
    }
}

// A question to whoever stands before the device, at the terminal.
std::string ask_people(const trial::Step& step) {
    print("\n{}\n  {} [y/n] ", step.what, step.question);
    std::fflush(stdout);
    char line[64] = {};
    if (std::fgets(line, sizeof line, stdin) == nullptr || step.answers.size() < 2) return "";
    if (line[0] == 'y' || line[0] == 'Y') return step.answers[0];
    return line[0] == 'n' || line[0] == 'N' ? step.answers[1] : "";
}

void print_address(const std::string& address, const std::string& device, const Test& test) {
    if (test.renderer) {
        print("Playing test clips on {}, about four minutes{}. Ctrl-C stops it.\n", device,
              test.page.attended ? "; look at its screen: you are asked what it shows" : "");
    } else if (test.engine) {
        print("Testing a browser of this machine. Ctrl-C stops it.\n");
    } else {
        print("Open this address in the browser of {}, then press Start: {}\n",
              device.empty() ? "each device" : "\"" + device + "\"", address);
        if (::isatty(STDOUT_FILENO) != 0) print("{}", Raw{render::qr_code(address)});
        const std::string host = address.substr(7, address.find_last_of(':') - 7);
        if (const auto lease = host::lease_seconds(host)) print("({} comes from DHCP and may change.)\n", host);
        print("A test takes about four minutes. Ctrl-C stops; devices go on where they were when it runs again.\n");
    }
    std::fflush(stdout);
}

}  // namespace

namespace {

// Runs at the end of a scope, before what was made ahead of it goes.
struct ScopeEnd {
    std::function<void()> run;
    ~ScopeEnd() { run(); }
};

// A test that goes on until its devices are done: what comes of it.
class TestRun {
  public:
    TestRun(const DeviceTestOptions& options, const Test& test, trial::CheckPage& page, trial::ClipStore& clips)
        : options_(options),
          test_(test),
          page_(page),
          clips_(clips),
          json_(options.output.json),
          quiet_(options.output.quiet || json_),
          line_(quiet_) {}

    // Making clips would take the processor from a browser of this machine.
    void wait_for_clips() {
        while (!cancel().requested()) {
            const auto [ready, all] = clips_.counts();
            if (ready == all) break;
            line_.show(page_, clips_);
            std::this_thread::sleep_for(std::chrono::milliseconds(100));
        }
        line_.clear();
    }

    // `trouble`: what has become of who plays, where this program knows that.
    void watch(const std::function<std::optional<Error>()>& trouble) {
        const auto start = std::chrono::steady_clock::now();
        while (!cancel().requested() && !failure_) {
            std::this_thread::sleep_for(std::chrono::milliseconds(100));
            print_events(page_, line_, quiet_);
            look_after_state();
            const auto finished = page_.take_finished();
            for (const trial::FinishedTest& done : finished) {
                if (!failure_) finish(done);
            }
            if (!finished.empty() && !test_.page.name.empty()) break;
            if (!failure_) failure_ = trouble();
            const std::chrono::duration<double> gone = std::chrono::steady_clock::now() - start;
            if (test_.bound && gone.count() > base::to_seconds(*test_.bound)) break;
            line_.show(page_, clips_);
        }
        line_.clear();
    }

    // Returns the exit status.
    int tell_end() {
        const Status saved = page_.save();
        nlohmann::ordered_json result = {{"devices", results_}};
        const int ended = failure_ ? report_beside(*failure_, result) : 0;
        if (json_ && (failure_ || !results_.empty() || !cancel().requested())) print_json(result);
        if (failure_) return ended;
        if (!results_.empty()) return 0;
        for (const trial::DeviceState& one : page_.devices())
            note(fmt::format("{} is at {:.0f} %: {}", one.name, one.done * 100,
                             saved ? "it goes on from there when this runs again" : "it begins anew next time"));
        if (!quiet_ && page_.devices().empty())
            note(
                "no device opened the page: is it on the same network, and does a firewall stand in the way? See "
                "wavecrest site check");
        if (!cancel().requested()) return 1;  // nothing was tested
        Error interrupted = base::interrupted().value();
        interrupted.remedy = "run it again: devices go on where they were";
        return report_error(interrupted, json_);
    }

  private:
    void look_after_state() {
        if (const Status saved = page_.save(); !saved && !std::exchange(told_unsaved_, true))
            note(fmt::format("{} ({}): an interrupted test begins anew", saved.error().what, saved.error().where));
        if (const std::string trouble = clips_.trouble(); !trouble.empty())
            failure_ = Error{ErrorKind::machine,
                             "a test clip can't be made: " + trouble,
                             base::cache_folder().string(),
                             "free space there, then run it again: devices go on where they were",
                             {}};
    }

    void finish(const trial::FinishedTest& done) {
        line_.clear();
        auto written = write_description(test_, done, options_.replace);
        if (!written) {
            failure_ = written.error();
            return;
        }
        nlohmann::ordered_json result = report::to_json(done, written->device, written->before, written->file.string());
        if (!options_.output.out.empty()) {
            if (const Status kept =
                    write_result(options_.output.out, fmt::format("device-{}.json", slug(done.name)), result);
                !kept)
                failure_ = kept.error();
        }
        results_.push_back(std::move(result));
        // (Another one that opened the page, too, isn't in the site file.)
        const bool is_adopted = options_.adopt && !failure_ && is_of_site(test_, done.name);
        if (is_adopted) {
            if (const Status kept = adopt(test_, done, *written); !kept) failure_ = kept.error();
        }
        if (!json_) print_written(test_, done, *written, is_adopted && !failure_);
    }

    const DeviceTestOptions& options_;
    const Test& test_;
    trial::CheckPage& page_;
    trial::ClipStore& clips_;
    const bool json_, quiet_;
    StateLine line_;
    nlohmann::ordered_json results_ = nlohmann::ordered_json::array();
    std::optional<Error> failure_;
    bool told_unsaved_ = false;
};

}  // namespace

int run_device_test(const DeviceTestOptions& options) {
    const bool json = options.output.json;
    auto test = set_up(options);
    if (!test) return report_error(test.error(), json);
    auto clips = trial::ClipStore::open(base::cache_folder() / "test-clips-2", trial::usual_clips(test->page.course));
    if (!clips) return report_error(clips.error(), json);
    base::RealClock clock;
    trial::CheckPage page(test->page, **clips, clock);
    auto server = start_server(options, page);
    if (!server) return report_error(server.error(), json);
    const std::string address =
        fmt::format("http://{}:{}{}", test->host.find(':') != std::string::npos ? "[" + test->host + "]" : test->host,
                    (*server)->port(), trial::kTestPath);
    if (!options.output.quiet && !json) print_address(address, test->page.name, *test);
    if (const auto wall = host::firewall(host::Transport::tcp, (*server)->port());
        wall.kind == host::FirewallAnswer::Kind::closed && !test->engine)
        note(fmt::format("the firewall blocks TCP port {} ({}): devices can't open the page; open it, or use --port",
                         (*server)->port(), wall.why));
    TestRun run(options, *test, page, **clips);
    std::unique_ptr<host::Browser> browser;
    if (test->engine) {
        run.wait_for_clips();
        auto started = host::Browser::start(*test->engine, address + "#start");
        if (!started) return report_error(started.error(), json);
        browser = std::move(*started);
    }

    // In place of its page.
    Cancel enough;
    std::future<Result<std::vector<std::string>>> played;
    const ScopeEnd end_playing{[&] { enough.request(); }};
    if (test->renderer) {
        auto url = net::parse_url(address);
        if (!url) return report_error(url.error(), json);
        std::function<std::string(const trial::Step&)> ask;
        if (test->page.attended) ask = ask_people;
        played = std::async(std::launch::async, [&, url = *url, ask] {
            return trial::PageClient(url, enough)
                .go_through(trial::show_on(test->renderer->renderer, test->renderer->found.takes, url, ask, enough),
                            {});
        });
    }
    run.watch([&]() -> std::optional<Error> {
        if (browser && !browser->runs())
            return Error{ErrorKind::machine,
                         "the browser stopped",
                         options.on,
                         "start it by hand to see whether it works on this machine",
                         {}};
        if (played.valid() && played.wait_for(std::chrono::seconds(0)) == std::future_status::ready) {
            if (const auto ended = played.get(); !ended) return ended.error();
        }
        return std::nullopt;
    });
    return run.tell_end();
}

}  // namespace wavecrest::cli
