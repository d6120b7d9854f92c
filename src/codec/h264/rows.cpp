#include "codec/h264/rows.hpp"

namespace wavecrest::codec::h264 {

Rows::Rows(const Kernels& kernels, int helpers) : kernels_(kernels) {
    for (int i = 0; i < helpers; ++i) helpers_.emplace_back([this] { help(); });
}

Rows::~Rows() {
    {
        const std::lock_guard lock(mutex_);
        stop_ = true;
    }
    changed_.notify_all();
    for (std::thread& helper : helpers_) helper.join();
}

void Rows::begin(const Work& work) {
    const std::lock_guard lock(mutex_);
    if (work.rows > capacity_) {
        capacity_ = work.rows;
        progress_ = std::make_unique<RowProgress[]>(static_cast<std::size_t>(capacity_));
    }
    for (int row = 0; row < work.rows; ++row) progress_[static_cast<std::size_t>(row)].store(0);
    work_ = &work;
    parsed_ = next_ = next_deblock_ = 0;
}

void Rows::parsed(int count) {
    std::unique_lock lock(mutex_);
    parsed_ = count;
    if (helpers_.empty()) {
        while (take(lock)) {
        }
    } else {
        lock.unlock();
        changed_.notify_one();
    }
}

void Rows::finish() {
    std::unique_lock lock(mutex_);
    if (work_ == nullptr) return;
    parsed_ = work_->rows;
    if (!helpers_.empty()) changed_.notify_all();
    while (next_deblock_ < work_->rows || busy_ > 0) {
        if (!take(lock)) changed_.wait(lock);
    }
    work_ = nullptr;
}

void Rows::help() {
    std::unique_lock lock(mutex_);
    while (!stop_) {
        if (!take(lock)) changed_.wait(lock);
    }
}

bool Rows::reconstructed(int row) const {
    return progress_[static_cast<std::size_t>(row)].load(std::memory_order_acquire) == work_->columns;
}

// Does one row's work, with the lock given back meanwhile; false: nothing can be done now.
bool Rows::take(std::unique_lock<std::mutex>& lock) {
    if (work_ == nullptr) return false;
    const Work& work = *work_;
    const int row = next_deblock_;
    // Neighbours to the left, right and below are predicted from samples that aren't deblocked.
    if (!deblocking_ && row < work.rows && next_ > row && reconstructed(row) &&
        (row + 1 == work.rows || (next_ > row + 1 && reconstructed(row + 1)))) {
        deblocking_ = true;
        ++busy_;
        lock.unlock();
        deblock_row(work, kernels_, row);
        lock.lock();
        deblocking_ = false;
        --busy_;
        ++next_deblock_;
        if (!helpers_.empty()) changed_.notify_all();
        return true;
    }
    if (next_ < parsed_) {
        const int mine = next_++;
        ++busy_;
        RowProgress* const progress = progress_.get() + mine;
        lock.unlock();
        reconstruct_row(work, kernels_, mine, mine > 0 ? progress - 1 : nullptr, *progress);
        lock.lock();
        --busy_;
        if (!helpers_.empty()) changed_.notify_all();
        return true;
    }
    return false;
}

}  // namespace wavecrest::codec::h264
