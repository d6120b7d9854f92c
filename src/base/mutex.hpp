// Mutexes whose rules are written in types: a member says by GUARDED_BY(mutex_) what it is under, a function by
// REQUIRES(mutex_) what its caller holds. Clang checks them (scripts/check-threads); for other compilers they are
// nothing. https://clang.llvm.org/docs/ThreadSafetyAnalysis.html
#pragma once

#include <pthread.h>

#include <chrono>
#include <condition_variable>
#include <ctime>
#include <mutex>

#if defined(__clang__)
#define WAVECREST_THREAD_ATTRIBUTE(x) __attribute__((x))
#else
#define WAVECREST_THREAD_ATTRIBUTE(x)
#endif
#define CAPABILITY(x) WAVECREST_THREAD_ATTRIBUTE(capability(x))
#define SCOPED_CAPABILITY WAVECREST_THREAD_ATTRIBUTE(scoped_lockable)
#define GUARDED_BY(x) WAVECREST_THREAD_ATTRIBUTE(guarded_by(x))
#define PT_GUARDED_BY(x) WAVECREST_THREAD_ATTRIBUTE(pt_guarded_by(x))
#define REQUIRES(...) WAVECREST_THREAD_ATTRIBUTE(requires_capability(__VA_ARGS__))
#define EXCLUDES(...) WAVECREST_THREAD_ATTRIBUTE(locks_excluded(__VA_ARGS__))
#define ACQUIRE(...) WAVECREST_THREAD_ATTRIBUTE(acquire_capability(__VA_ARGS__))
#define RELEASE(...) WAVECREST_THREAD_ATTRIBUTE(release_capability(__VA_ARGS__))
#define NO_THREAD_SAFETY_ANALYSIS WAVECREST_THREAD_ATTRIBUTE(no_thread_safety_analysis)

namespace wavecrest::base {

class CAPABILITY("mutex") Mutex {
  public:
    Mutex() = default;
    Mutex(const Mutex&) = delete;
    Mutex& operator=(const Mutex&) = delete;
    void lock() ACQUIRE() { mutex_.lock(); }
    void unlock() RELEASE() { mutex_.unlock(); }

  private:
    friend class Condition;
    std::mutex mutex_;
};

// A mutex that lends its holder the priority of who waits for it: else a thread that other programs push aside while it
// holds the mutex would hold up one with real-time scheduling.
class CAPABILITY("mutex") LendingMutex {
  public:
    LendingMutex() {
        pthread_mutexattr_t attributes;
        ::pthread_mutexattr_init(&attributes);
        ::pthread_mutexattr_setprotocol(&attributes, PTHREAD_PRIO_INHERIT);
        ::pthread_mutex_init(&mutex_, &attributes);
        ::pthread_mutexattr_destroy(&attributes);
    }
    LendingMutex(const LendingMutex&) = delete;
    LendingMutex& operator=(const LendingMutex&) = delete;
    ~LendingMutex() { ::pthread_mutex_destroy(&mutex_); }
    void lock() ACQUIRE() { ::pthread_mutex_lock(&mutex_); }
    void unlock() RELEASE() { ::pthread_mutex_unlock(&mutex_); }

  private:
    friend class LendingCondition;
    pthread_mutex_t mutex_;
};

// Holds a mutex while it lives; may let it go in between.
template <typename M>
class SCOPED_CAPABILITY Locked {
  public:
    explicit Locked(M& mutex) ACQUIRE(mutex) : mutex_(mutex) { mutex_.lock(); }
    ~Locked() RELEASE() {
        if (held_) mutex_.unlock();
    }
    Locked(const Locked&) = delete;
    Locked& operator=(const Locked&) = delete;
    void lock() ACQUIRE() {
        mutex_.lock();
        held_ = true;
    }
    void unlock() RELEASE() {
        held_ = false;
        mutex_.unlock();
    }

  private:
    M& mutex_;
    bool held_ = true;
};
using MutexLock = Locked<Mutex>;
using LendingLock = Locked<LendingMutex>;

// Waiting for what changes under a mutex. Conditions are looked at by the caller, in a loop: so they are checked, too.
class Condition {
  public:
    void wait(Mutex& mutex) REQUIRES(mutex) {
        std::unique_lock lock(mutex.mutex_, std::adopt_lock);
        condition_.wait(lock);
        lock.release();
    }
    // False when the time was over first.
    template <typename Clock, typename Duration>
    bool wait_until(Mutex& mutex, std::chrono::time_point<Clock, Duration> until) REQUIRES(mutex) {
        std::unique_lock lock(mutex.mutex_, std::adopt_lock);
        const bool notified = condition_.wait_until(lock, until) == std::cv_status::no_timeout;
        lock.release();
        return notified;
    }
    template <typename Rep, typename Period>
    bool wait_for(Mutex& mutex, std::chrono::duration<Rep, Period> most) REQUIRES(mutex) {
        return wait_until(mutex, std::chrono::steady_clock::now() + most);
    }
    void notify_one() { condition_.notify_one(); }
    void notify_all() { condition_.notify_all(); }

  private:
    std::condition_variable condition_;
};

// The same under a lending mutex (std::condition_variable_any has a mutex inside that lends nothing).
class LendingCondition {
  public:
    LendingCondition() { ::pthread_cond_init(&condition_, nullptr); }
    LendingCondition(const LendingCondition&) = delete;
    LendingCondition& operator=(const LendingCondition&) = delete;
    ~LendingCondition() { ::pthread_cond_destroy(&condition_); }
    void wait(LendingMutex& mutex) REQUIRES(mutex) { ::pthread_cond_wait(&condition_, &mutex.mutex_); }
    void wait_for(LendingMutex& mutex, std::chrono::nanoseconds most) REQUIRES(mutex) {
        timespec until{};
        ::clock_gettime(CLOCK_REALTIME, &until);
        const std::int64_t end = until.tv_nsec + most.count();
        until.tv_sec += end / 1'000'000'000;
        until.tv_nsec = end % 1'000'000'000;
        ::pthread_cond_timedwait(&condition_, &mutex.mutex_, &until);
    }
    void notify_one() { ::pthread_cond_signal(&condition_); }
    void notify_all() { ::pthread_cond_broadcast(&condition_); }

  private:
    pthread_cond_t condition_;
};

}  // namespace wavecrest::base
