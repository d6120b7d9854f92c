#include "container/mp4_tables.hpp"

namespace wavecrest::container::mp4 {
namespace {

using base::ByteWriter;

// Equal values in a row are written as one entry (stts, ctts).
template <typename Value>
void write_runs(ByteWriter& out, const SampleIndex& samples, Value value) {
    const std::size_t count_at = out.size();
    out.u32(0);
    std::uint32_t entries = 0, run = 0, last = 0;
    const auto flush = [&] {
        if (run == 0) return;
        out.u32(run);
        out.u32(last);
        ++entries;
        run = 0;
    };
    for (const SampleIndex::Sample& s : samples) {
        const auto v = static_cast<std::uint32_t>(value(s));
        if (run > 0 && v != last) flush();
        last = v;
        ++run;
    }
    flush();
    out.put_u32(count_at, entries);
}

}  // namespace

void write_sample_tables(ByteWriter& out, const SampleIndex& samples, std::uint64_t offset, bool wide) {
    {
        const Box box(out, "stts", 0, 0);
        write_runs(out, samples, [](const SampleIndex::Sample& s) { return s.duration; });
    }
    bool composed = false, negative = false, all_keys = true;
    std::size_t keys = 0;
    for (const SampleIndex::Sample& sample : samples) {
        composed = composed || sample.composition != 0;
        negative = negative || sample.composition < 0;
        all_keys = all_keys && sample.key;
        keys += sample.key ? 1 : 0;
    }
    if (composed) {
        const Box box(out, "ctts", negative ? 1 : 0, 0);
        write_runs(out, samples, [](const SampleIndex::Sample& s) { return s.composition; });
    }
    if (!all_keys) {
        const Box box(out, "stss", 0, 0);
        out.u32(keys);
        std::uint32_t number = 0;
        for (const SampleIndex::Sample& sample : samples) {
            ++number;
            if (sample.key) out.u32(number);
        }
    }
    {
        const Box box(out, "stsz", 0, 0);
        out.u32(0);
        out.u32(samples.size());
        for (const SampleIndex::Sample& s : samples) out.u32(s.size);
    }
    const std::size_t chunks = samples.chunks();
    {
        const Box box(out, "stsc", 0, 0);
        const std::size_t count_at = out.size();
        out.u32(0);
        std::uint32_t entries = 0;
        for (std::size_t i = 0; i < chunks; ++i) {
            if (i > 0 && samples.chunk_samples(i) == samples.chunk_samples(i - 1)) continue;
            out.u32(i + 1);
            out.u32(samples.chunk_samples(i));
            out.u32(1);
            ++entries;
        }
        out.put_u32(count_at, entries);
    }
    if (!wide) {
        const Box box(out, "stco", 0, 0);
        out.u32(chunks);
        for (std::size_t i = 0; i < chunks; ++i) out.u32(offset + samples.chunk_offset(i));
    } else {
        const Box box(out, "co64", 0, 0);
        out.u32(chunks);
        for (std::size_t i = 0; i < chunks; ++i) out.u64(offset + samples.chunk_offset(i));
    }
}

}  // namespace wavecrest::container::mp4
