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
        announce();
    }
    for (std::thread& helper : helpers_) helper.join();
}

std::shared_ptr<Job> Pipeline::make() {
    const std::lock_guard lock(mutex_);
    if (spare_.empty()) return std::make_shared<Job>();
    auto job = std::move(spare_.back());
    spare_.pop_back();
    return job;
}

void Pipeline::submit(const std::shared_ptr<Job>& job, std::size_t under_way) {
    std::unique_lock lock(mutex_);
    Work& work = job->work;
    if (work.rows > job->capacity) {
        job->capacity = work.rows;
        job->progress = std::make_unique<RowProgress[]>(static_cast<std::size_t>(work.rows));
    }
    for (int row = 0; row < work.rows; ++row) job->progress[static_cast<std::size_t>(row)].store(0);
    job->parsed = job->pieces = job->next = job->next_deblock = job->busy = 0;
    job->deblocking = job->parsing = job->all_parsed = false;
    work.pieces = &pieces_;
    work.vector_pieces = &vector_pieces_;
    link(*job);
    // Each slice may have a gap in front of it, and the last one behind it.
    work.first_slice = next_slice_;
    next_slice_ += static_cast<std::uint32_t>(2 * job->slices.size() + 1);
    work.slices.clear();
    work.field_macroblocks = work.misses_references = false;
    work.lost = 0;
    jobs_.push_back(job);
    give_front_samples();
    announce();
    while (jobs_.size() > under_way) {
        if (!take(lock)) wait(lock);
    }
}

void Pipeline::give_front_samples() {
    if (!jobs_.empty() && !has_samples(*jobs_.front())) jobs_.front()->give_samples();
}

// Which of those under way it depends on.
void Pipeline::link(Job& job) const {
    job.needed.clear();
    job.moving.clear();
    for (const auto& other : jobs_) {
        // The other field of its frame.
        bool needed = other->frame == job.frame, moving = needed;
        for (const Coded& coded : job.slices) {
            for (const auto& list : coded.slice.lists) {
                // Frames that stand in for ones that never came have another's samples.
                needed = needed || std::any_of(list.begin(), list.end(), [&](const Reference& r) {
                             return r.frame->picture.planes[0] == other->frame->picture.planes[0];
                         });
            }
            const auto& list = coded.slice.lists[1];
            moving = moving || (!list.empty() && list.front().frame == other->frame.get());
        }
        if (needed) job.needed.push_back(other.get());
        if (moving) job.moving.push_back(other.get());
    }
    job.reach.assign(static_cast<std::size_t>(job.work.rows), 0);
}

template <typename Done>
void Pipeline::help_until(std::unique_lock<std::mutex>& lock, const Done& done) {
    while (!done()) {
        if (!take_row(lock)) wait(lock);
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
        if (!take(lock)) wait(lock);
    }
}

void Pipeline::help() {
    std::unique_lock lock(mutex_);
    while (!stop_) {
        if (!take(lock)) wait(lock);
    }
}

// Until something changes: that is soon, mostly, and going to sleep takes longer than most rows do.
void Pipeline::wait(std::unique_lock<std::mutex>& lock) {
    constexpr int kTries = 1000;
    ++idle_;
    const unsigned seen = changes_.load(std::memory_order_relaxed);
    const auto changed = [&] { return changes_.load(std::memory_order_relaxed) != seen; };
    lock.unlock();
    for (int i = 0; i < kTries && !changed(); ++i) pause();
    lock.lock();
    if (!changed()) {
        ++asleep_;
        changed_.wait(lock, changed);
        --asleep_;
    }
    --idle_;
}

void Pipeline::announce() {
    changes_.fetch_add(1, std::memory_order_relaxed);
    if (asleep_ > 0) changed_.notify_all();
}

bool Pipeline::reconstructed(const Job& job, int row) {
    return job.progress[static_cast<std::size_t>(row)].load(std::memory_order_acquire) == job.work.columns;
}

// Does a piece of work, with the lock given back meanwhile; false: nothing can be done now.
bool Pipeline::take(std::unique_lock<std::mutex>& lock) {
    return take_row(lock) || take_slices(lock);
}

// Of the first picture that has a row to do, or of one alone.
bool Pipeline::take_row(std::unique_lock<std::mutex>& lock, const Job* only) {
    for (std::size_t i = 0; i < jobs_.size(); ++i) {
        if (only != nullptr && jobs_[i].get() != only) continue;
        const std::shared_ptr<Job> job = jobs_[i];
        Work& work = job->work;
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
        } else if (job->next < job->parsed && may_be_made(i, job->next)) {
            const int mine = job->next++;
            job->pieces -= work.coefficients_of(mine).pieces();
            ++job->busy;
            RowProgress* const progress = job->progress.get() + mine;
            lock.unlock();
            reconstruct_row(work, kernels_, mine, mine > 0 ? progress - 1 : nullptr, *progress);
            lock.lock();
        } else {
            continue;
        }
        --job->busy;
        retire();
        announce();
        return true;
    }
    return false;
}

// Whether the samples that a row is predicted from are there.
bool Pipeline::may_be_made(std::size_t index, int row) const {
    const Job& job = *jobs_[index];
    if (!has_samples(job)) return false;
    // Deblocking an edge changes up to three rows of samples above it.
    constexpr int kChanged = 3;
    for (std::size_t before = 0; before < index; ++before) {
        const Job& other = *jobs_[before];
        if (complete(other) || std::find(job.needed.begin(), job.needed.end(), &other) == job.needed.end()) continue;
        if (other.next_deblock == other.work.rows) continue;
        if (!alike(job, other) || job.reach[static_cast<std::size_t>(row)] >= 16 * other.next_deblock - kChanged)
            return false;
    }
    return true;
}

// Pictures go, in their order, when they are whole and nobody looks at them any more.
void Pipeline::retire() {
    while (!jobs_.empty() && complete(*jobs_.front()) && jobs_.front()->busy == 0) {
        const std::shared_ptr<Job> job = jobs_.front();
        jobs_.pop_front();
        job->frame->field_macroblocks |= job->work.field_macroblocks;
        job->frame->misses_references |= job->work.misses_references;
        job->frame->lost += job->work.lost;
        job->frame.reset();
        job->latest.reset();
        job->held.clear();
        job->slices.clear();
        for (RowVectors& vectors : job->work.vectors) vectors.clear(vector_pieces_);
        spare_.push_back(job);
    }
    give_front_samples();
}

// Whether there is a place for a row, and the motion that it may be predicted from.
bool Pipeline::may_be_parsed(const Job& job, int row) const {
    // The row before the one whose place it takes lies above one that is still to be deblocked.
    const Work& work = job.work;
    if (job.next_deblock < row + 2 - work.kept) return false;
    // Coefficients of noise would take as much memory as a picture does; those of a few rows are enough for others to
    // have something to do. A macroblock has as many samples, of a byte each, as it has coefficients at most.
    constexpr int kPart = 16, kPieces = 4;  // of the samples' memory; or so many
    constexpr int kPiece = static_cast<int>(CoefficientPieces::kSize * sizeof(std::int16_t));
    const int samples = work.columns * work.rows * work.rows_in_raster() * static_cast<int>(RowCoefficients::kMost);
    const int most = samples / kPart / kPiece;
    const int limit = std::max(kPieces, most);
    if (job.pieces >= limit) return false;
    // Those behind the first one have to have room for the row, too, which has as many as the latest; and together with
    // the first one, whose rows may be larger than it should have.
    if (jobs_.front().get() != &job && job.pieces > 0) {
        int all = work.coefficients_of(row - 1).pieces();
        for (const auto& one : jobs_) all += one->pieces;
        if (all > limit) return false;
    }
    for (const auto& other : jobs_) {
        if (other.get() == &job) break;
        if (other->all_parsed || std::find(job.moving.begin(), job.moving.end(), other.get()) == job.moving.end())
            continue;
        if (!alike(job, *other) || other->parsed <= row) return false;
    }
    return true;
}

bool Pipeline::take_slices(std::unique_lock<std::mutex>& lock) {
    for (std::size_t i = 0; i < jobs_.size(); ++i) {
        if (jobs_[i]->parsing || jobs_[i]->all_parsed) continue;
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
        announce();
        return true;
    }
    return false;
}

void Pipeline::begin_row(Job& job, int row, std::unique_lock<std::mutex>& lock) {
    help_until(lock, [&] { return may_be_parsed(job, row); });
    job.work.vectors_of(row).clear(vector_pieces_);
}

void Pipeline::row_parsed(Job& job, int row) {
    const Work& work = job.work;
    if (!job.needed.empty()) {
        // As far down as its motion leads, and three rows for the samples between.
        int down = 0;
        const int raster = work.raster_row(row);
        for (int x = 0; x < work.columns; ++x) {
            const Macroblock& mb = work.at(raster, x);
            if (mb.kind != Kind::inter) continue;
            for (const Vector mv : mb.all_vectors()) down = std::max<int>(down, mv.y);
        }
        // Beyond the last row of samples that one is repeated.
        const int reach = 16 * row + 15 + (down >> 2) + 1 + 3;
        job.reach[static_cast<std::size_t>(row)] = std::min(reach, 16 * work.rows - 1);
    }
    std::unique_lock lock(mutex_);
    job.parsed = row + 1;
    job.pieces += job.work.coefficients_of(row).pieces();
    announce();
    // While it is near, where nobody else has time for it: all are at pictures of their own. Of the first of several,
    // only when places are running out: the others wait for it to be parsed, and make its rows meanwhile.
    const auto at_pictures = static_cast<std::size_t>(
        std::count_if(jobs_.begin(), jobs_.end(), [](const auto& one) { return one->parsing; }));
    const bool leads = jobs_.size() > 1 && jobs_.front().get() == &job;
    const auto has_time = [&] { return !leads || job.parsed - job.next_deblock > work.kept - 3; };
    while (at_pictures > helpers_.size() && has_time() && take_row(lock, &job)) {
    }
    if (row + 1 < work.rows) begin_row(job, row + 1, lock);
}

void Pipeline::parse(Job& job) {
    Work& work = job.work;
    {
        std::unique_lock lock(mutex_);
        begin_row(job, 0, lock);
    }
    int expected = 0;
    const int units = work.columns * work.rows;
    const std::function<void(int)> done = [&](int row) { row_parsed(job, row); };
    for (Coded& coded : job.slices) {
        const int first = coded.slice.header.first_mb;
        // One that was overtaken is a double.
        if (first < expected || first >= units) continue;
        conceal(job, expected, first);
        work.slices.push_back(std::move(coded.slice));
        const int count = job.parser.parse(work, *coded.sps, *coded.pps, *coded.scales, coded.bytes, done);
        coded = {};
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
        std::unique_lock lock(mutex_);
        help_until(lock, [&] {
            return std::none_of(jobs_.begin(), jobs_.end(), [&](const std::shared_ptr<Job>& other) {
                return other.get() != &job && other->frame.get() == from && !complete(*other);
            });
        });
    }
    prepare_samples(slice, frame, work.adaptive);
    const bool moves =
        from != nullptr && from->motion && !work.adaptive && !from->adaptive && from->field_pair == job.first.field;
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
            for (std::size_t list = 0; list < 2; ++list) {
                mb.ref[list].fill(-1);
                mb.ref_picture[list].fill(-1);
            }
            if (from == nullptr) {
                // Grey.
                mb.kind = Kind::intra16;
                mb.intra16_mode = 2;
            } else {
                mb.kind = Kind::inter;
                mb.ref[0].fill(0);
                mb.ref_picture[0].fill(slice.lists[0].front().key());
                if (moves && !from->motion->block(at, 0).intra()) {
                    Vector* const vectors = work.vectors_of(row).add(vector_pieces_, 2);
                    vectors[0] = from->motion->vector(at, 0, 0);
                    vectors[1] = {};
                    mb.vectors = vectors;
                }
            }
            if (frame.motion) frame.motion->set(at, {});
            ++work.lost;
        }
        if (x + 1 == work.columns) row_parsed(job, row);
    }
}

}  // namespace wavecrest::codec::h264
