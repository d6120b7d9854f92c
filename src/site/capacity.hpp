// What this machine can do, tried from end to end: codecs, live transcodes at the same time, the server, drives and
// ports (measure/capacity.hpp); and what a site asks of it.
#pragma once

#include <vector>

#include "base/cancel.hpp"
#include "measure/codec_speed.hpp"
#include "site/site.hpp"

namespace wavecrest::site {

struct MeasureSettings {
    measure::SpeedSettings speeds;
    double live_seconds = 2;  // of each kind of live transcode
    double server_seconds = 1.5;
    std::vector<base::Path> folders;  // where something is written and read back
    std::vector<base::Path> films;    // whose drives are read; those on one file system count once
};
// Takes a minute or two on a usual machine, and all of it: what else runs makes it look slower. Kind interrupted on
// cancellation; folders that can't be written to have no speeds.
Result<measure::Capacity> measure_machine(const MeasureSettings& settings, const measure::TellProgress& tell,
                                          const Cancel& cancel);

// What a site's live transcodes take, all of them at once.
struct TranscodeDemand {
    struct Stream {
        std::string name, profile;
        measure::TranscodeLoad load;
    };
    std::vector<Stream> streams;
    std::vector<std::string> unknown;  // streams whose codecs were not measured
    double processors = 0;             // that they keep busy
    // Whether each keeps up alone, and the machine with all.
    bool carried(const measure::Capacity& capacity) const;
};
struct NamedGraph {
    std::string name, profile;
    transcode::GraphSettings graph;
};
TranscodeDemand demand_of(const measure::Capacity& capacity, const std::vector<NamedGraph>& graphs);

}  // namespace wavecrest::site
