#include "container/mp4_sample_tables.hpp"

#include <algorithm>

#include "container/mp4_boxes.hpp"

namespace wavecrest::container::mp4 {
namespace {

using base::ByteReader;

ByteReader behind_version(ByteSpan body) {
    ByteReader table(body);
    table.skip(4);
    return table;
}

}  // namespace

std::optional<SampleSizes> SampleSizes::find(ByteSpan stbl) {
    ByteReader table = behind_version(child(stbl, "stsz"));
    if (table.ok() && table.remaining() >= 8) {
        const std::uint32_t common = table.u32();
        return SampleSizes(table, 32, common);
    }
    const ByteSpan compact = child(stbl, "stz2");
    if (compact.empty()) return std::nullopt;
    table = behind_version(compact);
    table.skip(3);
    const int bits = table.u8();
    return SampleSizes(table, bits, 0);
}

SampleSizes::SampleSizes(ByteReader table, int bits, std::uint32_t common)
    : table_(table), bits_(bits), common_(common), count_(table_.u32()) {}

bool SampleSizes::ok() const {
    if (!table_.ok() || (bits_ != 4 && bits_ != 8 && bits_ != 16 && bits_ != 32)) return false;
    const std::uint64_t needed = (std::uint64_t{count_} * static_cast<std::uint64_t>(bits_) + 7) / 8;
    return common_ != 0 || needed <= table_.remaining();
}

std::uint32_t SampleSizes::next() {
    if (common_ != 0) return common_;
    if (bits_ == 32) return table_.u32();
    if (bits_ == 16) return table_.u16();
    if (bits_ == 8) return table_.u8();
    has_half_ = !has_half_;
    if (!has_half_) return halves_ & 15;
    halves_ = table_.u8();
    return halves_ >> 4;
}

RunTable::RunTable(ByteSpan body)
    : version_(body.empty() ? 0 : body[0]), table_(behind_version(body)), entries_(table_.u32()) {}

std::uint64_t RunTable::samples() const {
    ByteReader table = table_;
    std::uint64_t total = 0;
    for (std::uint32_t i = 0; i < entries_ && table.remaining() >= 8; ++i) {
        total += table.u32();
        table.skip(4);
    }
    return total;
}

std::uint32_t RunTable::run() {
    while (run_ == 0 && entries_ > 0 && table_.remaining() >= 8) {
        run_ = table_.u32();
        value_ = table_.u32();
        --entries_;
    }
    return run_;
}

SyncSamples::SyncSamples(ByteSpan body, std::uint32_t samples)
    : all_(body.empty()), samples_(samples), table_(behind_version(body)) {
    if (all_) return;
    entries_ = table_.u32();
    advance();
    ok_ = next_ <= samples_;
}

void SyncSamples::advance() {
    next_ = 0;
    if (entries_ == 0 || table_.remaining() < 4) return;
    next_ = table_.u32();
    --entries_;
}

bool SyncSamples::is_key(std::uint32_t number) {
    if (all_) return true;
    if (number != next_) return false;
    advance();
    ok_ = ok_ && (next_ == 0 || (next_ > number && next_ <= samples_));
    return true;
}

Chunks::Chunks(ByteSpan stbl)
    : wide_(!child(stbl, "co64").empty()),
      offsets_(behind_version(wide_ ? child(stbl, "co64") : child(stbl, "stco"))),
      runs_(behind_version(child(stbl, "stsc"))),
      chunks_(offsets_.u32()),
      runs_left_(runs_.u32()) {
    if (runs_left_ > 0) next_run_ = runs_.u32();
}

bool Chunks::has_offsets() const {
    return offsets_.ok() && chunks_ <= offsets_.remaining() / (wide_ ? 8 : 4);
}

bool Chunks::next() {
    if (number_ == chunks_) return false;
    ++number_;
    while (runs_left_ > 0 && number_ == next_run_) {
        samples_ = runs_.u32();
        runs_.skip(4);
        --runs_left_;
        const std::uint32_t previous = next_run_;
        next_run_ = runs_left_ > 0 ? runs_.u32() : 0;
        if (runs_left_ > 0 && next_run_ <= previous) rising_ = false;
    }
    offset_ = wide_ ? offsets_.u64() : offsets_.u32();
    return true;
}

}  // namespace wavecrest::container::mp4
