// Makes a picture's samples while its rows are still being parsed: on the thread that parses alone, or with others
// beside it. Nothing comes out later for that: finish() waits until the picture is whole.
#pragma once

#include <condition_variable>
#include <memory>
#include <mutex>
#include <thread>
#include <vector>

#include "codec/h264/work.hpp"

namespace wavecrest::codec::h264 {

class Rows {
  public:
    // With so many threads besides the caller's; 0: none.
    explicit Rows(const Kernels& kernels, int helpers);
    ~Rows();
    Rows(const Rows&) = delete;
    Rows& operator=(const Rows&) = delete;

    // A picture begins; `work` stays as it is until finish(), but for rows that aren't parsed yet.
    void begin(const Work& work);
    // All rows before `count` are parsed.
    void parsed(int count);
    // Helps until every row is reconstructed and deblocked.
    void finish();

  private:
    void help();
    bool take(std::unique_lock<std::mutex>& lock);
    bool reconstructed(int row) const;

    const Kernels& kernels_;
    const Work* work_ = nullptr;
    std::unique_ptr<RowProgress[]> progress_;
    int capacity_ = 0;

    std::mutex mutex_;
    std::condition_variable changed_;
    int parsed_ = 0;        // rows
    int next_ = 0;          // row to be reconstructed
    int next_deblock_ = 0;  // row to be deblocked
    bool deblocking_ = false;
    int busy_ = 0;  // threads at a row: even when it is done, they still look at the picture
    bool stop_ = false;
    std::vector<std::thread> helpers_;
};

}  // namespace wavecrest::codec::h264
