// The check page: a web page that any device with a browser opens, which plays test clips there and tells what it saw.
// Devices come and go as they like, several at once; each goes on where it was. Answers requests; whoever has the
// server (net/http_server.hpp) hands them over.
//
// A page posts what it saw of its last step to /test/next and is given the next. Its session is a random number that
// nobody else knows, so that no device speaks for another; what it says is bounded and never taken for more than that.
#pragma once

#include <functional>
#include <map>
#include <memory>
#include <string>
#include <vector>

#include "base/clock.hpp"
#include "base/file.hpp"
#include "base/mutex.hpp"
#include "net/http_server.hpp"
#include "trial/clip_store.hpp"
#include "trial/course.hpp"

namespace wavecrest::trial {

inline constexpr std::string_view kTestPath = "/test";

struct CheckPageSettings {
    std::string name;  // of the one device that is expected; empty: the page asks which it is
    struct Known {
        std::string name, address;  // in digits, empty: not known
    };
    std::vector<Known> devices;  // to choose from
    CourseSettings course;
    // Whether clips of the next steps are made while one is shown: not where it is this machine that shows it.
    bool makes_ahead = true;
    bool attended = true;               // somebody is there to answer questions; else they are passed over
    base::Path folder;                  // where what devices have done is kept; empty: nowhere
    std::string announced;              // the host in the address that devices are told
    std::function<std::string()> date;  // "2026-11-30 19:05"; empty: this machine's local time
};

struct DeviceState {
    std::string id;  // the same while it is tested; no secret
    std::string name, address;
    double done = 0;  // 0 to 1
    std::string now;  // what it is at
    bool finished = false;
    Time quiet{};  // since it was last heard of
};

struct TestEvent {
    enum class Kind { arrived, tried, finished, returned } kind = Kind::arrived;
    std::string device;
    std::string topic, text;  // of tried: "H.264", "H.264 High, 1920x1080 ...: played, ..."
};

struct FinishedTest {
    std::string name, address;
    std::string agent;  // how its browser calls itself
    Course course;
};

class CheckPage {
  public:
    // `clips` and `clock` must outlive it. Sessions that are kept in the folder go on; those older than a week are
    // removed.
    CheckPage(CheckPageSettings settings, ClipStore& clips, base::Clock& clock);

    // From any thread, several at a time.
    net::HttpReply answer(const net::HttpRequest& request);

    std::vector<DeviceState> devices() const;
    // Since the last call.
    std::vector<TestEvent> take_events();
    std::vector<FinishedTest> take_finished();
    // Writes down what is new; to be called now and then. Fails (kind machine) where that can't be.
    Status save();

    static constexpr std::size_t kMostSessions = 64;

  private:
    struct Session {
        std::string name, address, agent;
        Course course;
        Time heard{};
        std::string now;
        int number = 0;
        bool finished = false, told = false, changed = false, away = false;
    };

    void load();
    net::HttpReply next(const net::HttpRequest& request);
    std::string left_session(const net::HttpRequest& request) const REQUIRES(mutex_);
    std::string open_session(const net::HttpRequest& request) REQUIRES(mutex_);
    std::string step_for(const std::string& id, Session& session) REQUIRES(mutex_);
    Step name_step() const;
    void take_name(Session& session, const std::string& answer) REQUIRES(mutex_);
    std::string free_name(const Session& session, const std::string& name) const REQUIRES(mutex_);
    void note(TestEvent::Kind kind, const Session& session, std::string topic = {}, std::string text = {})
        REQUIRES(mutex_);

    CheckPageSettings settings_;
    ClipStore& clips_;
    base::Clock& clock_;
    mutable base::Mutex mutex_;
    std::map<std::string, Session> sessions_ GUARDED_BY(mutex_);  // by its secret
    std::vector<TestEvent> events_ GUARDED_BY(mutex_);
    std::vector<FinishedTest> finished_ GUARDED_BY(mutex_);
    int opened_ GUARDED_BY(mutex_) = 0;
    Bytes noise_;  // for downloads
};

}  // namespace wavecrest::trial
