#include "codec/h264/pipeline.hpp"

#include <algorithm>

namespace wavecrest::codec::h264 {

Pipeline::Pipeline(const Kernels& kernels, int helpers) : kernels_(kernels) {
    for (int i = 0; i < helpers; ++i) helpers_.emplace_back([this] { help(); });
}

Pipeline::~Pipeline() {
    finish(nullptr);
    {
        const std::lock_guard lock(mutex_);
        stop_ = true;
    }
    changed_.notify_all();
    for (std::thread& helper : helpers_) helper.join();
}

std::shared_ptr<Job> Pipeline::make() {
    const std::lock_guard lock(mutex_);
    if (spare_.empty()) return std::make_shared<Job>();
    auto job = std::move(spare_.back());
    spare_.pop_back();
    return job;
}

void Pipeline::submit(std::shared_ptr<Job> job, std::size_t under_way) {
    std::unique_lock lock(mutex_);
    Work& work = job->work;
    if (work.rows > job->capacity) {
        job->capacity = work.rows;
        job->progress = std::make_unique<RowProgress[]>(static_cast<std::size_t>(work.rows));
    }
    for (int row = 0; row < work.rows; ++row) job->progress[static_cast<std::size_t>(row)].store(0);
    job->parsed = job->next = job->next_deblock = job->busy = 0;
    job->deblocking = job->parsing = job->all_parsed = false;
    // Each slice may have a gap in front of it, and the last one behind it.
    work.first_slice = next_slice_;
    next_slice_ += static_cast<std::uint32_t>(2 * job->slices.size() + 1);
    work.slices.clear();
    work.field_macroblocks = work.misses_references = false;
    work.lost = 0;
    jobs_.push_back(std::move(job));
    changed_.notify_all();
    while (jobs_.size() > under_way) {
        if (!take(lock)) changed_.wait(lock);
    }
}

void Pipeline::finish(const Frame* frame) {
    std::unique_lock lock(mutex_);
    const auto waits = [&] {
        return std::any_of(jobs_.begin(), jobs_.end(), [&](const std::shared_ptr<Job>& job) {
            return frame == nullptr || job->frame.get() == frame;
        });
    };
    while (waits()) {
        if (!take(lock)) changed_.wait(lock);
    }
}

void Pipeline::help() {
    std::unique_lock lock(mutex_);
    while (!stop_) {
        if (!take(lock)) changed_.wait(lock);
    }
}

bool Pipeline::reconstructed(const Job& job, int row) {
    return job.progress[static_cast<std::size_t>(row)].load(std::memory_order_acquire) == job.work.columns;
}

// Does a piece of work, with the lock given back meanwhile; false: nothing can be done now.
bool Pipeline::take(std::unique_lock<std::mutex>& lock) {
    return take_row(lock) || take_slices(lock);
}

bool Pipeline::take_row(std::unique_lock<std::mutex>& lock) {
    if (jobs_.empty()) return false;
    const std::shared_ptr<Job> job = jobs_.front();
    const Work& work = job->work;
    const int row = job->next_deblock;
    // Neighbours to the left, right and below are predicted from samples that aren't deblocked.
    if (!job->deblocking && row < work.rows && job->next > row && reconstructed(*job, row) &&
        (row + 1 == work.rows || (job->next > row + 1 && reconstructed(*job, row + 1)))) {
        job->deblocking = true;
        ++job->busy;
        lock.unlock();
        deblock_row(work, kernels_, row);
        lock.lock();
        job->deblocking = false;
        ++job->next_deblock;
    } else if (job->next < job->parsed) {
        const int mine = job->next++;
        ++job->busy;
        RowProgress* const progress = job->progress.get() + mine;
        lock.unlock();
        reconstruct_row(work, kernels_, mine, mine > 0 ? progress - 1 : nullptr, *progress);
        lock.lock();
    } else {
        return false;
    }
    --job->busy;
    retire();
    changed_.notify_all();
    return true;
}

// The first picture goes when it is whole and nobody looks at it any more.
void Pipeline::retire() {
    if (jobs_.empty()) return;
    const std::shared_ptr<Job> job = jobs_.front();
    if (!job->all_parsed || job->next_deblock < job->work.rows || job->busy > 0) return;
    jobs_.pop_front();
    job->frame->field_macroblocks |= job->work.field_macroblocks;
    job->frame->misses_references |= job->work.misses_references;
    job->frame->lost += job->work.lost;
    job->frame.reset();
    job->latest.reset();
    job->held.clear();
    job->slices.clear();
    spare_.push_back(job);
}

// Its slices may be predicted from the motion of a picture that is still being parsed, or look there for what is lost.
bool Pipeline::may_be_parsed(std::size_t index) const {
    const Job& job = *jobs_[index];
    for (std::size_t before = 0; before < index; ++before) {
        const Job& other = *jobs_[before];
        if (other.all_parsed) continue;
        if (!other.parsing) return false;
        for (const Coded& coded : job.slices) {
            const auto& list = coded.slice.lists[1];
            if (!list.empty() && list.front().frame == other.frame.get()) return false;
        }
    }
    return true;
}

bool Pipeline::take_slices(std::unique_lock<std::mutex>& lock) {
    for (std::size_t i = 0; i < jobs_.size(); ++i) {
        if (jobs_[i]->parsing || jobs_[i]->all_parsed) continue;
        if (!may_be_parsed(i)) return false;
        const std::shared_ptr<Job> job = jobs_[i];
        job->parsing = true;
        ++job->busy;
        lock.unlock();
        parse(*job);
        lock.lock();
        --job->busy;
        job->parsing = false;
        job->all_parsed = true;
        job->parsed = job->work.rows;
        retire();
        changed_.notify_all();
        return true;
    }
    return false;
}

void Pipeline::row_parsed(Job& job, int row) {
    std::unique_lock lock(mutex_);
    job.parsed = row + 1;
    if (helpers_.empty()) {
        // While it is near.
        while (take_row(lock)) {
        }
    } else {
        changed_.notify_one();
    }
}

void Pipeline::parse(Job& job) {
    Work& work = job.work;
    int expected = 0;
    const int units = work.columns * work.rows;
    const std::function<void(int)> done = [&](int row) { row_parsed(job, row); };
    for (Coded& coded : job.slices) {
        const int first = coded.slice.header.first_mb;
        // One that was overtaken is a double.
        if (first < expected || first >= units) continue;
        conceal(job, expected, first);
        work.slices.push_back(std::move(coded.slice));
        const int count = job.parser.parse(work, *coded.sps, *coded.pps, *coded.scales, coded.rbsp, done);
        // Of a pair both are there, or none.
        expected = first + (work.adaptive ? count / 2 : count);
    }
    conceal(job, expected, units);
}

void Pipeline::conceal(Job& job, int address, int until) {
    if (address >= until) return;
    Work& work = job.work;
    Frame& frame = *job.frame;
    Slice& slice = work.slices.emplace_back();
    const std::uint32_t number = work.first_slice + static_cast<std::uint32_t>(work.slices.size()) - 1;
    slice.header.type = SliceType::p;
    slice.header.field = job.first.field;
    slice.header.bottom = job.first.bottom;
    slice.header.deblocking = 1;
    Frame* const from = job.latest.get() != &frame ? job.latest.get() : nullptr;
    if (from != nullptr) {
        slice.lists[0].push_back({from, work.structure, true, false});
        // Its motion is there when its slices are parsed.
        std::unique_lock lock(mutex_);
        changed_.wait(lock, [&] {
            return std::none_of(jobs_.begin(), jobs_.end(), [&](const std::shared_ptr<Job>& other) {
                return other.get() != &job && other->frame.get() == from && !other->all_parsed;
            });
        });
    }
    prepare_samples(slice, frame, work.adaptive);
    const bool moves = from != nullptr && !from->motion.blocks.empty() && !work.adaptive && !from->adaptive &&
                       from->field_pair == job.first.field;
    for (; address < until; ++address) {
        const int x = address % work.columns, row = address / work.columns;
        for (int k = 0; k < work.rows_in_raster(); ++k) {
            const int raster = work.raster_row(row) + k;
            const auto at = static_cast<std::size_t>(raster * work.columns + x);
            Macroblock& mb = work.at(raster, x);
            mb = {};
            mb.slice = number;
            mb.of = &slice;
            mb.field = job.first.field;
            mb.qp = static_cast<std::uint8_t>(job.first.qp);
            mb.chroma_qp[0] = mb.chroma_qp[1] = mb.qp;
            mb.modes.fill(2);
            for (std::size_t list = 0; list < 2; ++list) {
                mb.ref[list].fill(-1);
                mb.ref_picture[list].fill(-1);
            }
            if (from == nullptr) {
                // Grey.
                mb.kind = Kind::intra16;
                mb.intra16_mode = 2;
                mb.coefficients = static_cast<std::uint32_t>(work.coefficients[static_cast<std::size_t>(row)].size());
            } else {
                mb.kind = Kind::inter;
                mb.ref[0].fill(0);
                mb.ref_picture[0].fill(slice.lists[0].front().id());
                if (moves && from->motion.blocks[4 * at].ref >= 0)
                    mb.mv[0].fill(from->motion.vectors[at * from->motion.each()]);
            }
            if (!frame.motion.blocks.empty()) {
                for (std::size_t b = 0; b < 4; ++b) frame.motion.blocks[4 * at + b] = {};
            }
            ++work.lost;
        }
        if (x + 1 == work.columns) row_parsed(job, row);
    }
}

}  // namespace wavecrest::codec::h264
