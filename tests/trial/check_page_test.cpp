#include <catch2/catch.hpp>

#include <nlohmann/json.hpp>
#include <thread>

#include "base/atomic_file.hpp"
#include "base/clock.hpp"
#include "device/device.hpp"
#include "host/browser.hpp"
#include "net/http_server.hpp"
#include "standin/screen.hpp"
#include "support/support.hpp"
#include "trial/check_page.hpp"

using namespace wavecrest;
using Json = nlohmann::json;

namespace {

class HandClock : public base::Clock {
  public:
    Time now() const override { return now_; }
    void wait_until(Time time) override { now_ = std::max(now_, time); }
    void pass(double seconds) { now_ += base::from_seconds(seconds); }

  private:
    Time now_{};
};

// A check page whose clips are small files of the right container, made in no time.
struct House {
    test::TempDir folder;
    HandClock clock;
    std::unique_ptr<trial::ClipStore> clips;
    std::unique_ptr<trial::CheckPage> page;

    explicit House(trial::CheckPageSettings settings = {}) {
        const auto small = [](const sample::Clip& clip, std::unique_ptr<base::ByteSink> file, const Cancel& cancel) {
            sample::Clip one = clip;
            if (one.video) one.video->size = {64, 48}, one.video->bitrate_bps = 0;
            one.length = base::from_seconds(0.2);
            return sample::make_clip(one, std::move(file), cancel);
        };
        auto opened = trial::ClipStore::open(folder.path() / "clips", {}, small);
        REQUIRE(opened);
        clips = std::move(*opened);
        open(std::move(settings));
    }
    void open(trial::CheckPageSettings settings) {
        settings.date = [] { return std::string("2026-11-30 19:05"); };
        settings.folder = folder.path() / "state";
        page = std::make_unique<trial::CheckPage>(std::move(settings), *clips, clock);
    }
    net::HttpReply ask(const std::string& method, const std::string& path, const std::string& body = "",
                       const std::string& address = "192.168.1.31", const std::string& host = "192.168.1.10:8080") {
        net::HttpRequest request;
        request.method = method;
        request.path = path;
        request.body = body;
        request.address = address;
        request.fields = {{"Host", host}, {"User-Agent", "Screen/1.0"}};
        return page->answer(request);
    }
    Json post(const Json& body, const std::string& address = "192.168.1.31") {
        const net::HttpReply reply = ask("POST", "/test/next", body.dump(), address);
        const ByteSpan bytes = reply.body.view();
        return Json::parse(std::string(bytes.begin(), bytes.end()));
    }
    // Until the clip is made.
    Json post_and_wait(const Json& body, const std::string& address = "192.168.1.31") {
        Json step = post(body, address);
        for (int i = 0; i < 500 && step.at("kind") == "wait"; ++i) {
            std::this_thread::sleep_for(std::chrono::milliseconds(10));
            step = post({{"session", step.at("session")}, {"step", ""}}, address);
        }
        return step;
    }
};

trial::CheckPageSettings settings_for(const std::string& name, std::vector<std::string> only = {"audio"}) {
    trial::CheckPageSettings settings;
    settings.name = name;
    settings.course.only = std::move(only);
    return settings;
}

Json answer_to(const Json& step, Json seen) {
    return {{"session", step.at("session")}, {"step", step.at("step")}, {"seen", std::move(seen)}};
}

}  // namespace

TEST_CASE("a device goes through its test step by step, and its session is its own", "[trial]") {
    House house(settings_for("Kitchen Tablet"));
    Json step = house.post_and_wait({{"session", ""}, {"step", ""}});
    const std::string session = step.at("session");
    REQUIRE(session.size() == 32);
    CHECK(step.at("kind") == "display");
    // Another device can't answer for it: without the number, what it says begins a session of its own.
    const Json other = house.post_and_wait(
        {{"session", std::string(32, '0')}, {"step", step.at("step")}, {"seen", {{"display_hz", 60}}}}, "192.168.1.66");
    CHECK(other.at("session") != session);
    CHECK(other.at("kind") == "display");
    // The same message twice, and one about another step, change nothing.
    const Json next = house.post_and_wait(answer_to(step, {{"display_hz", 60}}));
    CHECK(next.at("kind") == "claims");
    CHECK(house.post_and_wait(answer_to(step, {{"display_hz", 50}})).at("kind") == "claims");
    CHECK(house.post_and_wait({{"session", session}, {"step", "audio/aac-mp4"}, {"seen", Json::object()}}).at("kind") ==
          "claims");
    step = house.post_and_wait(answer_to(next, Json::object()));
    int steps = 2;
    while (step.at("kind") != "finished") {
        REQUIRE(++steps < 100);
        if (step.at("kind") == "play") {
            // Its clip is there, and nothing else is.
            const net::HttpReply clip = house.ask("GET", step.at("url").get<std::string>());
            CHECK(clip.status == 200);
            CHECK(clip.file);
            CHECK(step.at("type").get<std::string>().find('/') != std::string::npos);
        }
        step = house.post_and_wait(answer_to(step, {{"started", true}, {"played_s", 2}, {"levels", {0.3, 0.3}}}));
    }
    const auto devices = house.page->devices();
    REQUIRE(devices.size() == 2);
    CHECK(devices[0].name == "Kitchen Tablet");
    CHECK(devices[0].finished);
    CHECK(devices[1].name == "Kitchen Tablet 2");
    const auto finished = house.page->take_finished();
    REQUIRE(finished.size() == 1);
    CHECK(finished[0].name == "Kitchen Tablet");
    CHECK(finished[0].agent == "Screen/1.0");
    CHECK(!finished[0].course.description("x", device::built_in().front()).audio.empty());
    CHECK(house.page->take_finished().empty());
}

TEST_CASE("the page serves its clips and nothing else, under its own address alone", "[trial]") {
    House house(settings_for("Kitchen Tablet"));
    CHECK(house.ask("GET", "/test").status == 200);
    CHECK(house.ask("GET", "/").status == 302);
    CHECK(house.ask("GET", "/test/data").status == 200);
    for (const char* path : {"/test/clip/../state", "/test/clip/..%2f..%2fetc%2fpasswd", "/test/clip//etc/passwd",
                             "/test/clip/x.mp4", "/test/hls/x/list.m3u8", "/test/hls/", "/test/parts/x/head.mp4",
                             "/test/", "/etc/passwd", "/testx", "/test/next/x", "/test/clip/"}) {
        INFO(path);
        const int status = house.ask("GET", path).status;
        CHECK((status == 404 || std::string(path) == "/test/"));
    }
    CHECK(house.ask("GET", "/test/next").status == 405);
    CHECK(house.ask("POST", "/test", "{}").status == 405);
    // By a name of somebody's own that points here, nobody is let in.
    CHECK(house.ask("GET", "/test", "", "192.168.1.31", "trap.example.com").status == 421);
    CHECK(house.ask("POST", "/test/next", "{}", "192.168.1.31", "trap.example.com").status == 421);
    CHECK(house.page->devices().empty());
    const net::HttpReply page = house.ask("GET", "/test");
    CHECK(!page.any_origin);
    CHECK(std::any_of(page.fields.begin(), page.fields.end(),
                      [](const auto& field) { return field.first == "X-Frame-Options"; }));
}

TEST_CASE("the page asks which device it is on, and takes no other name", "[trial]") {
    trial::CheckPageSettings settings;
    settings.course.only = {"audio"};
    settings.devices = {{"Lounge TV", "192.168.1.30"}, {"Tablet", ""}};
    House house(settings);
    // One whose address the site knows isn't asked.
    CHECK(house.post({{"session", ""}, {"step", ""}}, "192.168.1.30").at("kind") == "display");
    Json step = house.post({{"session", ""}, {"step", ""}});
    CHECK(step.at("kind") == "question");
    CHECK(step.at("answers") == Json({"Lounge TV", "Tablet", "Another device"}));
    step = house.post(answer_to(step, {{"answer", "../../evil"}}));
    CHECK(step.at("kind") == "question");
    step = house.post(answer_to(step, {{"answer", "Tablet"}}));
    CHECK(step.at("kind") == "display");
    step = house.post({{"session", ""}, {"step", ""}}, "192.168.1.40");
    house.post(answer_to(step, {{"answer", "Another device"}}), "192.168.1.40");
    std::vector<std::string> names;
    for (const auto& one : house.page->devices()) names.push_back(one.name);
    CHECK(names == std::vector<std::string>{"Lounge TV", "Tablet", "device 192.168.1.40"});
}

TEST_CASE("a device goes on where it was: after a new start, and without its number", "[trial]") {
    const auto settings = settings_for("Bedroom TV");
    House house(settings);
    Json step = house.post_and_wait({{"session", ""}, {"step", ""}});
    for (int i = 0; i < 5; ++i) step = house.post_and_wait(answer_to(step, {{"error", "not supported"}}));
    const std::string session = step.at("session"), at = step.at("step");
    REQUIRE(house.page->save());
    house.open(settings);
    REQUIRE(house.page->devices().size() == 1);
    step = house.post_and_wait({{"session", session}, {"step", ""}});
    CHECK(step.at("session") == session);
    CHECK(step.at("step") == at);
    // A browser that keeps nothing: once the first was left for a while, it is the same one.
    CHECK(house.post_and_wait({{"session", ""}, {"step", ""}}).at("session") != session);
    house.clock.pass(90);
    house.open(settings);
    house.clock.pass(90);
    CHECK(house.post_and_wait({{"session", ""}, {"step", ""}}).at("session") == session);
    // Another test than before begins anew, and so does one whose file is damaged.
    house.open(settings_for("Bedroom TV", {"video"}));
    CHECK(house.page->devices().empty());
    for (const auto& entry : std::filesystem::directory_iterator(house.folder.path() / "state"))
        REQUIRE(base::write_file(entry.path(), base::as_bytes(std::string("{\"name\":5")),
                                 base::AtomicFile::IfExists::replace));
    house.open(settings);
    CHECK(house.page->devices().empty());
}

TEST_CASE("more devices than there is room for are told to wait, and junk harms nobody", "[trial]") {
    House house(settings_for("TV"));
    const Json first = house.post({{"session", ""}, {"step", ""}});
    house.post(answer_to(first, {{"display_hz", 60}}));
    for (std::size_t i = 1; i < trial::CheckPage::kMostSessions; ++i) house.post({{"session", ""}, {"step", ""}});
    CHECK(house.ask("POST", "/test/next", "{}").status == 503);
    for (const char* junk : {"", "{", "[[[[", "null", "{\"session\":{}}", "\xff\xfe", "{\"seen\":1e999}"})
        CHECK(house.ask("POST", "/test/next", junk).status == 503);
    // Those that did nothing make room after a while; who has done something stays.
    house.clock.pass(200);
    CHECK(house.ask("POST", "/test/next", "{}", "192.168.1.99").status == 200);
    CHECK(house.post({{"session", first.at("session")}, {"step", ""}}).at("kind") == "claims");
    CHECK(house.page->devices().size() == trial::CheckPage::kMostSessions);
}

TEST_CASE("a clip that can't be made says nothing of the device: the test stands still", "[trial]") {
    test::TempDir folder;
    HandClock clock;
    const auto never = [](const sample::Clip&, std::unique_ptr<base::ByteSink>,
                          const Cancel&) -> Result<std::vector<Track>> {
        return fail(ErrorKind::machine, "no encoder", "", "");
    };
    auto clips = trial::ClipStore::open(folder.path(), {}, never);
    REQUIRE(clips);
    trial::CheckPage page(settings_for("TV"), **clips, clock);
    net::HttpRequest request;
    request.method = "POST";
    request.path = "/test/next";
    request.fields = {{"Host", "localhost"}};
    Json step = {{"session", ""}, {"step", ""}, {"kind", ""}, {"topic", ""}};
    for (int i = 0; i < 300 && step.at("topic") != "The server can't make the next clip"; ++i) {
        request.body = answer_to(step, Json::object()).dump();
        const net::HttpReply reply = page.answer(request);
        step = Json::parse(std::string(reply.body.view().begin(), reply.body.view().end()));
        if (step.at("kind") == "wait") std::this_thread::sleep_for(std::chrono::milliseconds(2));
    }
    CHECK(step.at("kind") == "wait");
    CHECK(step.at("topic") == "The server can't make the next clip");
    CHECK(page.take_finished().empty());
    CHECK((*clips)->trouble().find("no encoder") != std::string::npos);
}

TEST_CASE("twenty devices take the test at once over real connections, one leaves midway", "[trial]") {
    trial::CheckPageSettings settings;
    settings.course.only = {"audio"};
    House house(settings);
    net::HttpServerSettings server_settings;
    server_settings.address = "127.0.0.1";
    server_settings.port = 0;
    server_settings.answer = [&](const net::HttpRequest& request) { return house.page->answer(request); };
    auto server = net::HttpServer::start(std::move(server_settings));
    REQUIRE(server);
    standin::ScreenSettings screen;
    screen.page = *net::parse_url(fmt::format("http://127.0.0.1:{}/test", (*server)->port()));
    screen.device = *device::find("tablet-hd");
    std::vector<std::thread> threads;
    std::atomic<int> finished = 0, gone = 0;
    for (int i = 0; i < 20; ++i) {
        threads.emplace_back([&, i] {
            Cancel cancel;
            standin::ScreenSettings mine = screen;
            int steps = 0;
            mine.on_step = [&](const std::string&) {
                if (i == 7 && ++steps == 4) cancel.request();
            };
            const auto told = standin::take_test(mine, cancel);
            ++(told ? finished : gone);
        });
    }
    for (std::thread& thread : threads) thread.join();
    CHECK(finished == 19);
    CHECK(gone == 1);
    CHECK(house.page->take_finished().size() == 19);
    CHECK(house.page->devices().size() == 20);
}

// Takes a minute of real time and a machine that does nothing else: run by hand, as
// `core_tests "[by-hand]"`.
TEST_CASE("a browser that is shown spoilt clips says so", "[.][by-hand]") {
    if (!host::browser_program(host::Engine::chromium)) return;
    for (const bool spoilt : {false, true}) {
        test::TempDir folder;
        const base::RealClock clock;
        const auto make = [&](const sample::Clip& clip, std::unique_ptr<base::ByteSink> file, const Cancel& cancel) {
            sample::Clip one = clip;
            if (spoilt && one.video && !one.audio) one.drop_one_in = 10;
            if (spoilt && one.video && one.audio) one.audio_late = base::from_seconds(0.3);
            return sample::make_clip(one, std::move(file), cancel);
        };
        auto clips = trial::ClipStore::open(folder.path(), {}, make);
        REQUIRE(clips);
        trial::CheckPageSettings settings = settings_for("chromium", {"motion", "sync"});
        settings.makes_ahead = settings.attended = false;
        base::RealClock page_clock;
        trial::CheckPage page(settings, **clips, page_clock);
        net::HttpServerSettings server_settings;
        server_settings.address = "127.0.0.1";
        server_settings.port = 0;
        server_settings.answer = [&](const net::HttpRequest& request) { return page.answer(request); };
        auto server = net::HttpServer::start(std::move(server_settings));
        REQUIRE(server);
        auto browser = host::Browser::start(host::Engine::chromium,
                                            fmt::format("http://127.0.0.1:{}/test#start", (*server)->port()));
        REQUIRE(browser);
        std::vector<trial::FinishedTest> finished;
        while (finished.empty() && base::to_seconds(clock.now()) < 180) {
            std::this_thread::sleep_for(std::chrono::milliseconds(100));
            finished = page.take_finished();
        }
        REQUIRE(finished.size() == 1);
        using trial::Outcome;
        for (const auto& [id, seen] : {std::pair{"motion/24", "24"}, {"motion/25", "25"}, {"sync/file", ""}}) {
            const auto* taken = finished[0].course.find(id);
            REQUIRE(taken);
            INFO(id << ": " << taken->judged.seen);
            CHECK(taken->judged.outcome == (spoilt ? Outcome::stutters : Outcome::played));
            WARN(id << (spoilt ? ", spoilt: " : ": ") << taken->judged.seen);
        }
    }
}
