// Pictures at work, on the caller's thread alone or with others beside it. Whoever parses a picture makes its samples,
// too, row by row, where nobody has time for them; another thread is at the next picture meanwhile, as many rows behind
// as its motion reaches down in the pictures before.
#pragma once

#include <atomic>
#include <condition_variable>
#include <deque>
#include <functional>
#include <memory>
#include <mutex>
#include <thread>
#include <vector>

#include "codec/h264/slice.hpp"
#include "codec/h264/work.hpp"

namespace wavecrest::codec::h264 {

// A slice as it came, with what its header said.
struct Coded {
    Slice slice;
    std::shared_ptr<const Sps> sps;
    std::shared_ptr<const Pps> pps;
    std::shared_ptr<const QuantScales> scales;
    Bytes packet;          // that it came in
    ByteSpan bytes;        // of it, as SliceParser::parse wants them
    ByteVector unescaped;  // they are these where the packet's won't do
};

// A picture to be decoded. Filled by one thread, then given to the pipeline; complete when that says so.
struct Job {
    Work work;
    SliceParser parser;
    std::vector<Coded> slices;
    std::shared_ptr<Frame> frame;
    SliceHeader first;
    std::function<void()> give_samples;        // called where the frame has none
    std::shared_ptr<Frame> latest;             // to take from what is missing; null: there is nothing
    std::vector<std::shared_ptr<Frame>> held;  // what it refers to stays until then

    // What the pipeline keeps of it.
    std::vector<const Job*> needed;  // earlier ones under way whose samples it is predicted from
    std::vector<const Job*> moving;  // and whose motion
    std::vector<int> reach;          // of each row: the last row of samples that it is predicted from
    std::unique_ptr<RowProgress[]> progress;
    int capacity = 0;
    int parsed = 0;        // rows
    int pieces = 0;        // of coefficients of those that wait to be reconstructed
    int next = 0;          // row to be reconstructed
    int next_deblock = 0;  // row to be deblocked
    int busy = 0;          // threads at it
    bool deblocking = false, parsing = false, all_parsed = false;
};

class Pipeline {
  public:
    // With so many threads besides the caller's; 0: none.
    Pipeline(const Kernels& kernels, int helpers);
    ~Pipeline();
    Pipeline(const Pipeline&) = delete;
    Pipeline& operator=(const Pipeline&) = delete;

    // A job to be filled; one that is done serves again.
    std::shared_ptr<Job> make();
    // Begins it, and helps until at most so many pictures are under way. Where its frame has no samples yet, it is only
    // parsed until its job's give_samples() is called, on any thread before this returns: all before it are whole then.
    void submit(const std::shared_ptr<Job>& job, std::size_t under_way);
    // Helps until a frame, or (null) every one, is whole.
    void finish(const Frame* frame);
    bool alone() const { return helpers_.empty(); }

  private:
    void help();
    void wait(std::unique_lock<std::mutex>& lock);
    void announce();
    bool take(std::unique_lock<std::mutex>& lock);
    bool take_row(std::unique_lock<std::mutex>& lock, const Job* only = nullptr);
    bool take_slices(std::unique_lock<std::mutex>& lock);
    void retire();
    void give_front_samples();
    void link(Job& job) const;
    bool may_be_made(std::size_t index, int row) const;
    bool may_be_parsed(const Job& job, int row) const;
    void parse(Job& job);
    void begin_row(Job& job, int row, std::unique_lock<std::mutex>& lock);
    void row_parsed(Job& job, int row);
    template <typename Done>
    void help_until(std::unique_lock<std::mutex>& lock, const Done& done);
    // Macroblocks that are missing before this address (of pairs in adaptive frames) are taken from an earlier picture:
    // where that moved, from where it moved to there.
    void conceal(Job& job, int from, int until);
    static bool has_samples(const Job& job) { return job.frame->picture.planes[0] != nullptr; }
    static bool reconstructed(const Job& job, int row);
    static bool complete(const Job& job) { return job.all_parsed && job.next_deblock == job.work.rows; }
    // Both are of frame macroblocks, so that rows lie beside rows.
    static bool alike(const Job& a, const Job& b) {
        return a.work.structure == kFrame && b.work.structure == kFrame && !a.work.adaptive && !b.work.adaptive;
    }

    const Kernels& kernels_;
    CoefficientPieces pieces_;
    VectorPieces vector_pieces_;
    std::mutex mutex_;
    std::condition_variable changed_;
    std::deque<std::shared_ptr<Job>> jobs_;  // in decoding order
    std::vector<std::shared_ptr<Job>> spare_;
    std::uint32_t next_slice_ = 1;
    std::atomic<unsigned> changes_{0};
    int idle_ = 0, asleep_ = 0;  // threads that wait; and of these the ones that have to be woken
    bool stop_ = false;
    std::vector<std::thread> helpers_;
};

}  // namespace wavecrest::codec::h264
