// What is in a rip, a file or a stream: found, and as JSON.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "base/cancel.hpp"
#include "base/progress.hpp"
#include "base/result.hpp"
#include "measure/deep.hpp"
#include "measure/rate.hpp"
#include "measure/transport.hpp"
#include "report/media_json.hpp"
#include "source/input.hpp"

namespace wavecrest::report {

struct InspectedTitle {
    source::Title title;
    measure::RateCurve rate;  // of those in full, where it can be told
    bool is_protected = false;
    bool in_full = false;  // it was asked for, or is the main one
    std::vector<Problem> problems;

    // Over the whole title: from its rate curve, or from size and length.
    std::int64_t mean_bps() const;
};

struct Inspection {
    std::vector<InspectedTitle> titles;  // not empty
    std::uint64_t size_bytes = 0;        // what is there twice counts once; 0: not known
    std::optional<measure::DeepReport> deep;
    std::optional<measure::TransportReport> transport;

    const InspectedTitle& main() const;
    bool is_protected() const;  // any of its titles
};

// `pick`: the titles to look at in full (source::Input::picks), and no others; empty: all, the main one in full. Fails
// where it picks none.
Result<Inspection> inspect(const source::Input& input, const std::string& pick);

// Reads the main title to its end, and the packets of `address` where it is a transport stream's file. Fails on
// protected titles, and where reading does.
Status inspect_deep(Inspection& inspection, const source::Input& input, const std::string& address,
                    const Progress& reading, const Progress& packets, const Cancel& cancel);

// `address`: as it was named.
Json to_json(const Inspection& inspection, const source::Input& input, const std::string& address);

}  // namespace wavecrest::report
