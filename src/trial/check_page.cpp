#include "trial/check_page.hpp"

#include <fmt/format.h>
#include <sys/random.h>

#include <algorithm>
#include <array>
#include <ctime>
#include <nlohmann/json.hpp>
#include <random>

#include "base/atomic_file.hpp"
#include "base/embedded.hpp"
#include "base/printable.hpp"
#include "net/own_page.hpp"
#include "trial/messages.hpp"

namespace wavecrest::trial {
namespace {

using Json = nlohmann::json;

constexpr std::size_t kNoise = 8'000'000;  // bytes of a download
constexpr std::size_t kMostEvents = 1000;  // that nobody took
constexpr std::size_t kMostFinished = 100;
const Time kAway = base::from_seconds(60);        // longer than any step takes without a word
const Time kForgotten = base::from_seconds(120);  // a session that did nothing makes room after so long
constexpr std::string_view kOther = "Another device";
constexpr std::string_view kNameStep = "name";

std::string local_date() {
    const std::time_t now = std::time(nullptr);
    std::tm parts{};
    ::localtime_r(&now, &parts);
    char text[32];
    std::strftime(text, sizeof text, "%Y-%m-%d %H:%M", &parts);
    return text;
}

std::string random_id() {
    std::array<unsigned char, 16> bytes{};
    if (::getrandom(bytes.data(), bytes.size(), 0) != static_cast<ssize_t>(bytes.size())) return "";
    std::string id;
    for (const unsigned char byte : bytes) id += fmt::format("{:02x}", byte);
    return id;
}

std::string agent_of(const net::HttpRequest& request) {
    return base::printable(request.field("User-Agent").substr(0, 200));
}

net::HttpReply page_reply() {
    for (const base::EmbeddedFile& file : base::embedded_files()) {
        if (file.name != "templates/check_page.mustache") continue;
        net::HttpReply reply = net::HttpReply::text(200, std::string(file.text));
        reply.media_type = "text/html; charset=utf-8";
        reply.cache_control = "no-store";
        return reply;
    }
    return net::HttpReply::text(404, "The page is missing: build the program again.\n");
}

net::HttpReply json_reply(std::string text, int status = 200) {
    net::HttpReply reply = net::HttpReply::text(status, std::move(text));
    reply.media_type = "application/json";
    reply.cache_control = "no-store";
    return reply;
}

}  // namespace

CheckPage::CheckPage(CheckPageSettings settings, ClipStore& clips, base::Clock& clock)
    : settings_(std::move(settings)), clips_(clips), clock_(clock) {
    if (!settings_.date) settings_.date = local_date;
    ByteVector noise(kNoise);
    std::minstd_rand random(1);
    for (std::uint8_t& byte : noise) byte = static_cast<std::uint8_t>(random() >> 8);
    noise_ = Bytes(std::move(noise));
    if (!settings_.folder.empty()) load();
}

net::HttpReply CheckPage::answer(const net::HttpRequest& request) {
    if (!net::is_own_host(request, settings_.announced))
        return net::guarded(net::HttpReply::text(421, "Open this page by the machine's IP address.\n"));
    const std::string root(kTestPath);
    if (request.path == root + "/next") {
        if (request.method != "POST") return net::guarded(net::HttpReply::text(405, "POST\n"));
        return net::guarded(next(request));
    }
    if (request.method != "GET") return net::guarded(net::HttpReply::text(405, "GET and HEAD\n"));
    if (request.path == root || request.path == root + "/") return net::guarded(page_reply());
    if (request.path == root + "/data") {
        net::HttpReply reply;
        reply.media_type = "application/octet-stream";
        reply.body = noise_;
        reply.cache_control = "no-store";
        return net::guarded(std::move(reply));
    }
    if (request.path.starts_with(root + "/")) return net::guarded(clips_.answer(request.path.substr(root.size())));
    if (request.path == "/") {
        net::HttpReply reply = net::guarded(net::HttpReply::text(302, "The page is at /test.\n"));
        reply.fields.emplace_back("Location", root);
        return reply;
    }
    return net::guarded(net::HttpReply::text(404, "There is nothing here; the page is at /test.\n"));
}

net::HttpReply CheckPage::next(const net::HttpRequest& request) {
    Message message = parse_message(request.body);
    const base::MutexLock lock(mutex_);
    std::string id = message.session;
    if (sessions_.find(id) == sessions_.end()) {
        id = left_session(request);
        if (id.empty()) id = open_session(request);
        if (id.empty()) return json_reply(wait_text("", "Too many devices at once; please wait", 0), 503);
        message.step.clear();
    }
    Session& session = sessions_.at(id);
    if (session.away) note(TestEvent::Kind::returned, session);
    session.away = false;
    session.heard = clock_.now();
    session.address = request.address;
    if (session.name.empty()) {
        if (message.step == kNameStep) take_name(session, message.seen.answer);
    } else if (const auto step = session.course.next(); step && !message.step.empty() && message.step == step->id) {
        session.course.take(*step, std::move(message.seen), settings_.date());
        session.changed = true;
        const Judged& judged = session.course.taken().back().judged;
        note(TestEvent::Kind::tried, session, step->topic,
             fmt::format("{}: {}{}{}", step->what, short_name(judged.outcome), judged.seen.empty() ? "" : ", ",
                         judged.seen));
    }
    return json_reply(step_for(id, session));
}

// A browser that keeps nothing comes back as a stranger: one of the same address and kind that was left goes on.
std::string CheckPage::left_session(const net::HttpRequest& request) const {
    for (const auto& [id, session] : sessions_) {
        if (!session.finished && !session.name.empty() && session.address == request.address &&
            session.agent == agent_of(request) && clock_.now() - session.heard > kAway)
            return id;
    }
    return "";
}

std::string CheckPage::open_session(const net::HttpRequest& request) {
    if (sessions_.size() >= kMostSessions) {
        // One that did nothing for long, else the one that finished first.
        auto gone = std::find_if(sessions_.begin(), sessions_.end(), [&](const auto& one) {
            return one.second.course.taken().empty() && clock_.now() - one.second.heard > kForgotten;
        });
        if (gone == sessions_.end())
            gone = std::find_if(sessions_.begin(), sessions_.end(), [](const auto& one) { return one.second.told; });
        if (gone == sessions_.end()) return "";
        sessions_.erase(gone);
    }
    const std::string id = random_id();
    if (id.empty()) return "";
    Session session;
    session.course = Course(settings_.course);
    session.address = request.address;
    session.agent = agent_of(request);
    session.heard = clock_.now();
    session.number = ++opened_;
    const auto known = std::find_if(settings_.devices.begin(), settings_.devices.end(), [&](const auto& one) {
        return !one.address.empty() && one.address == request.address;
    });
    if (!settings_.name.empty()) {
        session.name = free_name(session, settings_.name);
    } else if (known != settings_.devices.end()) {
        session.name = free_name(session, known->name);
    } else if (settings_.devices.empty()) {
        session.name = free_name(session, "device " + request.address);
    }
    if (!session.name.empty()) note(TestEvent::Kind::arrived, session);
    sessions_.emplace(id, std::move(session));
    return id;
}

// Of two devices that say they are the same one, the second is told apart.
std::string CheckPage::free_name(const Session& session, const std::string& name) const {
    for (int number = 1;; ++number) {
        std::string one = number == 1 ? name : fmt::format("{} {}", name, number);
        const bool taken = std::any_of(sessions_.begin(), sessions_.end(), [&](const auto& other) {
            return &other.second != &session && other.second.name == one && !other.second.told;
        });
        if (!taken) return one;
    }
}

Step CheckPage::name_step() const {
    Step step;
    step.id = kNameStep;
    step.kind = Step::Kind::question;
    step.topic = "Device test";
    step.question = "Which device is this?";
    for (const auto& known : settings_.devices) step.answers.push_back(known.name);
    step.answers.emplace_back(kOther);
    return step;
}

void CheckPage::take_name(Session& session, const std::string& answer) {
    const Step step = name_step();
    if (std::find(step.answers.begin(), step.answers.end(), answer) == step.answers.end()) return;
    session.name = free_name(session, answer == kOther ? "device " + session.address : answer);
    session.changed = true;
    note(TestEvent::Kind::arrived, session);
}

std::string CheckPage::step_for(const std::string& id, Session& session) {
    Telling telling;
    telling.session = id;
    if (session.name.empty()) return step_text(name_step(), telling);
    telling.done = session.course.done();
    if (!session.course.taken().empty()) {
        const Course::Taken& last = session.course.taken().back();
        telling.last = fmt::format("{}: {}{}", last.step.what, short_name(last.judged.outcome),
                                   last.judged.seen.empty() ? "" : ", " + last.judged.seen);
        telling.last_failed = last.judged.outcome == Outcome::failed || last.judged.outcome == Outcome::stutters;
    }
    while (true) {
        const auto step = session.course.next();
        if (!step) {
            if (!session.finished) {
                session.finished = session.changed = true;
                note(TestEvent::Kind::finished, session);
                if (finished_.size() < kMostFinished)
                    finished_.push_back({session.name, session.address, session.agent, session.course});
            }
            session.told = true;
            session.now.clear();
            return finished_text(id, session.name, session.course.summary());
        }
        if (step->kind == Step::Kind::question && !settings_.attended) {
            session.course.take(*step, {}, settings_.date());
            continue;
        }
        session.now = step->what;
        std::vector<sample::Clip> clips;
        if (step->clip) clips.push_back(*step->clip);
        for (const Step& one : settings_.makes_ahead ? session.course.likely() : std::vector<Step>{}) {
            if (one.clip) clips.push_back(*one.clip);
        }
        clips_.want(clips);
        if (!step->clip) return step_text(*step, telling);
        const ClipStore::State state = clips_.state(*step->clip);
        if (state.ready) {
            telling.address = ClipStore::address(std::string(kTestPath), *step->clip, step->delivery);
            telling.type = step->delivery == Step::Delivery::file ? state.type : "application/vnd.apple.mpegurl";
            return step_text(*step, telling);
        }
        // What can't be made here says nothing of the device: the test stands still until it can
        // (ClipStore::trouble()).
        return wait_text(id,
                         state.error.empty() ? "Preparing the next test clip" : "The server can't make the next clip",
                         telling.done);
    }
}

void CheckPage::note(TestEvent::Kind kind, const Session& session, std::string topic, std::string text) {
    if (events_.size() < kMostEvents) events_.push_back({kind, session.name, std::move(topic), std::move(text)});
}

std::vector<DeviceState> CheckPage::devices() const {
    const base::MutexLock lock(mutex_);
    std::vector<std::pair<int, DeviceState>> numbered;
    for (const auto& [id, session] : sessions_) {
        DeviceState state;
        state.id = fmt::format("{}", session.number);
        state.name = session.name.empty() ? "device " + session.address : session.name;
        state.address = session.address;
        state.done = session.finished ? 1 : session.course.done();
        state.now = session.now;
        state.finished = session.finished;
        state.quiet = clock_.now() - session.heard;
        numbered.emplace_back(session.number, std::move(state));
    }
    std::sort(numbered.begin(), numbered.end(), [](const auto& a, const auto& b) { return a.first < b.first; });
    std::vector<DeviceState> states;
    for (auto& [number, state] : numbered) states.push_back(std::move(state));
    return states;
}

std::vector<TestEvent> CheckPage::take_events() {
    const base::MutexLock lock(mutex_);
    return std::exchange(events_, {});
}

std::vector<FinishedTest> CheckPage::take_finished() {
    const base::MutexLock lock(mutex_);
    return std::exchange(finished_, {});
}

Status CheckPage::save() {
    std::vector<std::pair<base::Path, std::string>> files;
    {
        const base::MutexLock lock(mutex_);
        for (auto& [id, session] : sessions_) {
            if (clock_.now() - session.heard > kAway && !session.finished) session.away = true;
            if (!std::exchange(session.changed, false) || settings_.folder.empty()) continue;
            Json json = {{"name", session.name},
                         {"address", session.address},
                         {"agent", session.agent},
                         {"largest", {settings_.course.largest.width, settings_.course.largest.height}},
                         {"only", settings_.course.only},
                         {"finished", session.finished}};
            auto taken = Json::array();
            for (const Course::Taken& one : session.course.taken())
                taken.push_back({{"step", one.step.id}, {"when", one.when}, {"seen", seen_text(one.seen)}});
            json["taken"] = std::move(taken);
            files.emplace_back(settings_.folder / (id + ".json"),
                               json.dump(-1, ' ', false, Json::error_handler_t::replace));
        }
    }
    for (const auto& [file, text] : files)
        WAVECREST_TRY(base::write_file(file, base::as_bytes(text), base::AtomicFile::IfExists::replace));
    return {};
}

void CheckPage::load() {
    std::error_code error;
    const auto old = std::filesystem::file_time_type::clock::now() - std::chrono::hours(7 * 24);
    std::vector<base::Path> files;
    for (const auto& entry : std::filesystem::directory_iterator(settings_.folder, error)) {
        const std::string stem = entry.path().stem().string();
        if (entry.path().extension() == ".json" && stem.size() == 32) files.push_back(entry.path());
    }
    const base::MutexLock lock(mutex_);
    for (const base::Path& file : files) {
        if (std::filesystem::last_write_time(file, error) < old) {
            std::filesystem::remove(file, error);
            continue;
        }
        const auto text = base::read_text_file(file, 16 << 20);
        const Json json = text ? Json::parse(*text, nullptr, false) : Json();
        if (!json.is_object() || sessions_.size() >= kMostSessions) continue;
        try {
            // What was tested otherwise, or as another device, begins anew; what is finished was told.
            const auto name = json.at("name").get<std::string>();
            const auto largest = json.at("largest").get<std::vector<int>>();
            if (largest != std::vector{settings_.course.largest.width, settings_.course.largest.height} ||
                json.at("only").get<std::vector<std::string>>() != settings_.course.only ||
                json.at("finished").get<bool>() || (!settings_.name.empty() && name != settings_.name))
                continue;
            Session session;
            session.name = name;
            session.address = json.at("address").get<std::string>();
            session.agent = json.at("agent").get<std::string>();
            session.course = Course(settings_.course);
            for (const Json& one : json.at("taken")) {
                const auto step = session.course.next();
                if (!step || step->id != one.at("step").get<std::string>()) break;
                session.course.take(*step, parse_seen(one.at("seen").get<std::string>()),
                                    base::printable(one.at("when").get<std::string>()));
            }
            session.number = ++opened_;
            session.away = true;
            session.heard = clock_.now();
            sessions_.emplace(file.stem().string(), std::move(session));
        } catch (const Json::exception&) {
            continue;  // damaged: the device begins anew
        }
    }
}

}  // namespace wavecrest::trial
