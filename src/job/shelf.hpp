// A shelf of rips as jobs: what each source is, what is against converting it, and what all of it would cost.
#pragma once

#include <functional>
#include <string>
#include <vector>

#include "job/name_list.hpp"
#include "job/store.hpp"
#include "measure/capacity.hpp"

namespace wavecrest::job {

// One source of several.
struct Item {
    Job job;
    std::string digest;
    std::string against;  // why it isn't converted, in words; empty: it is
    bool failed = false;  // before; or nobody knows what it is
};

// The inputs one by one, and what lies on those that are shelves (source/shelf.hpp). What is there twice is converted
// once. Of a source that rows of `list` name, each of them is an item of its own; (kind usage) for rows that name none.
// Fails where there is nothing at all (kind input), and as `make` does.
using MakeJob = std::function<Result<Job>(const std::string& source)>;
Result<std::vector<Item>> items_of(const std::vector<std::string>& inputs, const MakeJob& make,
                                   const std::vector<NameRow>& list = {});

// What was converted before in the same way, and is still there, needn't be again; what failed for good, or was
// stopped, is not tried again unasked.
void mark_known(const std::vector<Record>& records, std::vector<Item>& items);

// What becomes of an item, and what it costs.
struct Priced {
    enum class Action { convert, leave_out, fails } action = Action::convert;
    std::string source, name;
    std::string reason;  // why it isn't converted
    std::size_t titles = 0;
    Time duration{};
    std::uint64_t source_bytes = 0;
    double bytes = 0;  // of the result
    bool unbounded = false;
    Time time{};  // of work
};
std::string_view short_name(Priced::Action action);

struct Price {
    std::vector<Priced> items;
    std::size_t converted = 0, sampled = 0;  // items; titles of which a sample was converted
    std::uint64_t source_bytes = 0;
    double bytes = 0;
    Time time{};
    bool most = false;          // bytes are the most that it can be
    std::size_t unbounded = 0;  // items of which nothing bounds the size: they aren't in bytes
};

// A sample is converted of each of the first few titles; for the others size and time are the mean of those of their
// kind (codec, size, scan, depth), so that hundreds take little longer. With `capacity` nothing is sampled: time is by
// what was measured of this machine, and sizes are the most that can come out. Kind interrupted on cancellation.
Result<Price> price_of(const std::vector<Item>& items, const measure::Capacity* capacity, const Cancel& cancel);

// What a job is called: its name, else its source's.
std::string name_of(const Job& job);
// The names of its devices, else of its profiles, else "remux to mp4": "Lounge TV, Tablet".
std::string made_by(const Job& job);

}  // namespace wavecrest::job
