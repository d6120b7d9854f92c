#include "container/sample_index.hpp"

#include <algorithm>

namespace wavecrest::container {

void SampleIndex::begin_chunk(std::uint64_t offset, std::int64_t dts) {
    if (!chunks_.empty() && chunks_.back().first == packed_.size()) chunks_.pop_back();  // it stayed empty
    chunks_.push_back({offset, dts, packed_.size()});
}

void SampleIndex::add(std::uint32_t size, bool key, std::uint32_t duration, std::int32_t composition, bool hidden) {
    packed_.push_back({size | (key ? kKey : 0u) | (hidden ? kHidden : 0u), duration, composition});
}

std::size_t SampleIndex::chunk_start(std::int64_t dts) const {
    const auto after = std::upper_bound(chunks_.begin(), chunks_.end(), dts,
                                        [](std::int64_t time, const Chunk& chunk) { return time < chunk.dts; });
    return after == chunks_.begin() ? 0 : std::prev(after)->first;
}

SampleIndex::Cursor::Cursor(const SampleIndex& index, std::size_t sample) : index_(&index), at_(sample) {
    if (done()) return;
    const auto after = std::upper_bound(index.chunks_.begin(), index.chunks_.end(), sample,
                                        [](std::size_t s, const Chunk& chunk) { return s < chunk.first; });
    chunk_ = static_cast<std::size_t>(after - index.chunks_.begin()) - 1;
    const Chunk& chunk = index.chunks_[chunk_];
    sample_.offset = chunk.offset;
    sample_.dts = chunk.dts;
    for (std::size_t i = chunk.first; i < sample; ++i) {
        sample_.offset += index.packed_[i].size_and_flags & kLargestSample;
        sample_.dts += index.packed_[i].duration;
    }
    load();
}

void SampleIndex::Cursor::load() {
    const Packed& packed = index_->packed_[at_];
    sample_.size = packed.size_and_flags & kLargestSample;
    sample_.key = (packed.size_and_flags & kKey) != 0;
    sample_.hidden = (packed.size_and_flags & kHidden) != 0;
    sample_.duration = packed.duration;
    sample_.composition = packed.composition;
}

SampleIndex::Cursor& SampleIndex::Cursor::operator++() {
    sample_.offset += sample_.size;
    sample_.dts += sample_.duration;
    ++at_;
    if (done()) return *this;
    if (chunk_ + 1 < index_->chunks_.size() && index_->chunks_[chunk_ + 1].first == at_) {
        ++chunk_;
        sample_.offset = index_->chunks_[chunk_].offset;
        sample_.dts = index_->chunks_[chunk_].dts;
    }
    load();
    return *this;
}

}  // namespace wavecrest::container
