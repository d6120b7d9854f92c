// Work on drives that hang holds nothing but itself. A hanging drive here is work that waits until it is let go.
#include <catch2/catch.hpp>

#include <atomic>
#include <condition_variable>
#include <mutex>
#include <thread>

#include "host/disk_work.hpp"

using namespace wavecrest;
using namespace std::chrono_literals;
using host::DiskWork;
using Outcome = DiskWork::Outcome;

namespace {

class Gate {
  public:
    void wait() {
        std::unique_lock lock(mutex_);
        opened_.wait(lock, [&] { return open_; });
    }
    void open() {
        const std::lock_guard lock(mutex_);
        open_ = true;
        opened_.notify_all();
    }

  private:
    std::mutex mutex_;
    std::condition_variable opened_;
    bool open_ = false;
};

// Counts what came of the work.
struct Tally {
    std::mutex mutex;
    std::condition_variable changed;
    std::vector<Outcome> outcomes;
    std::function<void(Outcome)> taker() {
        return [this](Outcome outcome) {
            const std::lock_guard lock(mutex);
            outcomes.push_back(outcome);
            changed.notify_all();
        };
    }
    bool reaches(std::size_t count) {
        std::unique_lock lock(mutex);
        return changed.wait_for(lock, 10s, [&] { return outcomes.size() >= count; });
    }
};

host::DiskWorkSettings quick() {
    host::DiskWorkSettings settings;
    settings.threads = 2;
    settings.hung_after = 50ms;
    settings.give_up_after = 150ms;
    settings.most_waiting = 4;
    return settings;
}

}  // namespace

TEST_CASE("what waits for a drive that hangs is given up, another drive's work is done", "[disk-work]") {
    // (Declared first: work that hangs uses it longest.)
    const auto gate = std::make_shared<Gate>();
    std::atomic<int> news{0};
    auto settings = quick();
    settings.on_change = [&](const std::string&, bool) { ++news; };
    Tally hanging, other;
    DiskWork work(settings);
    // /proc is mounted apart from the root everywhere.
    const host::DiskQueue bad{"/film.mp4", "send", 1000, "10.0.0.1"}, good{"/proc/version", "send", 1000, "10.0.0.1"};
    for (int i = 0; i < 4; ++i)
        work.run(
            bad, [gate] { gate->wait(); }, hanging.taker());
    for (int i = 0; i < 4; ++i)
        work.run(
            good, [] {}, other.taker());
    REQUIRE(other.reaches(4));
    for (const Outcome outcome : other.outcomes) CHECK(outcome == Outcome::done);
    REQUIRE(hanging.reaches(4));
    for (const Outcome outcome : hanging.outcomes) CHECK(outcome == Outcome::hangs);
    REQUIRE(work.hung().size() == 1);
    CHECK(work.hung()[0].at == "/");
    // Whoever comes now isn't kept waiting.
    work.run(
        bad, [] {}, hanging.taker());
    REQUIRE(hanging.reaches(5));
    CHECK(hanging.outcomes.back() == Outcome::hangs);
    // It answers again.
    gate->open();
    for (int i = 0; i < 500 && !work.hung().empty(); ++i) std::this_thread::sleep_for(10ms);
    CHECK(work.hung().empty());
    Tally again;
    work.run(
        bad, [] {}, again.taker());
    REQUIRE(again.reaches(1));
    CHECK(again.outcomes[0] == Outcome::done);
    for (int i = 0; i < 500 && news < 2; ++i) std::this_thread::sleep_for(10ms);
    CHECK(news == 2);
}

TEST_CASE("an end doesn't wait for what hangs", "[disk-work]") {
    const auto gate = std::make_shared<Gate>();
    auto settings = quick();
    settings.give_up_after = 100s;
    auto tally = std::make_shared<Tally>();
    DiskWork work(settings);
    const auto begun_work = std::make_shared<std::atomic<int>>(0);
    const auto hang = [gate, tally, begun_work] {
        ++*begun_work;
        gate->wait();
    };
    for (int i = 0; i < 3; ++i) work.run({"/a", "x", 9, "n"}, hang, tally->taker());
    for (int i = 0; i < 500 && *begun_work < 2; ++i) std::this_thread::sleep_for(10ms);
    const auto begun = std::chrono::steady_clock::now();
    CHECK_FALSE(work.stop(20ms));
    CHECK(std::chrono::steady_clock::now() - begun < 5s);
    REQUIRE(tally->reaches(3));
    for (const Outcome outcome : tally->outcomes) CHECK(outcome == Outcome::hangs);
    work.run(
        {"/a", "x", 9, "n"}, [] {}, tally->taker());
    REQUIRE(tally->reaches(4));
    gate->open();  // its threads end by themselves
}

TEST_CASE("who asks for much waits for itself, a queue does so much at a time", "[disk-work]") {
    const auto gate = std::make_shared<Gate>();
    auto settings = quick();
    settings.hung_after = settings.give_up_after = 100s;
    Tally first;
    std::mutex mutex;
    std::vector<std::string> order;
    std::atomic<int> at_once{0}, most{0};
    DiskWork work(settings);
    const auto job = [&](const std::string& who) {
        return [&, who] {
            most = std::max(most.load(), ++at_once);
            const std::lock_guard lock(mutex);
            order.push_back(who);
            --at_once;
        };
    };
    work.run(
        {"/a", "film", 1, "gate"}, [gate] { gate->wait(); }, first.taker());
    for (int i = 0; i < 4; ++i) work.run({"/a", "film", 1, "greedy"}, job("greedy"), first.taker());
    work.run({"/a", "film", 1, "greedy"}, job("greedy"), first.taker());  // beyond most_waiting
    REQUIRE(first.reaches(1));
    CHECK(first.outcomes[0] == Outcome::busy);
    work.run({"/a", "film", 1, "modest"}, job("modest"), first.taker());
    gate->open();
    REQUIRE(first.reaches(7));
    CHECK(most == 1);
    // Turns: the modest one comes first or second, not last.
    CHECK((order[0] == "modest" || order[1] == "modest"));
    CHECK(order.size() == 5);
}
