// What becomes of a title so that certain devices play it: for each track whether it goes along as it is, in another
// container, or is encoded anew, with the reason; and how many files that takes. What already suits is never encoded.
//
// One file serves several devices where each of them gets from it what it would get from a file of its own: the same
// picture size and dynamic range, and surround where it has it. Of all ways to share, one with the fewest files is
// taken; `one_file` makes it one in any case, for what all of them play.
#pragma once

#include <string>
#include <vector>

#include "convert/convert.hpp"
#include "device/device.hpp"

namespace wavecrest::convert {

// What a device has against a track as it is, or a container: a check that it fails.
struct Objection {
    std::string device;
    device::Check check;
};

struct TrackDecision {
    Track track;
    int number = 1;  // among those of its kind
    TrackPlan::Action action = TrackPlan::Action::drop;
    std::vector<Objection> objections;
    std::string other_reason;  // where it isn't a device's: subtitles that are drawn into the picture
};
// "Bedroom TV takes no DTS (AAC, MP3)"; empty where nothing is against it.
std::string reason_of(const TrackDecision& decision);

struct FileDecision {
    enum class Kind { as_it_is, remux, transcode } kind = Kind::transcode;
    std::vector<std::string> devices;
    std::vector<TrackDecision> tracks;
    std::vector<Objection> container;  // what is against the source's own container
    std::vector<std::string> warnings;
    profile::Profile profile;  // what makes it, named by the devices; nothing is made of what is fine as it is
};
std::string_view short_name(FileDecision::Kind kind);

// What is known of a title before any of it is read.
struct DecideSource {
    std::string name;
    std::string container;  // its file's; a disc's own structure is none that a device reads
    bool is_file = false;
    const std::vector<Track>* tracks = nullptr;
    std::int64_t peak_bps = 0;  // its highest second; 0: not known
};

struct DecideRequest {
    std::vector<device::Device> devices;  // at least one
    profile::Profile profile;             // quality and effort of what is encoded
    int video = 0;                        // as in Selection
    std::string audio = "first", subtitles = "forced";
    bool one_file = false;
};

// Quality and effort where nobody asks for others: those of the built-in full-picture, whose peak would limit devices
// that take more.
profile::Profile usual_for_devices();

// The file with the largest picture first. Fails (kind usage) where nothing that can be made here plays on one of the
// devices, or with `one_file` on all; (kind input) for titles without video.
Result<std::vector<FileDecision>> decide(const DecideSource& source, const DecideRequest& request);

// The same for each title that is picked, with the plan for the files that are to be made.
struct DevicePlan {
    source::Pick pick;
    std::vector<FileDecision> files;
    std::optional<Plan> plan;  // of those of `files` that are not fine as they are, in their order; none: all are
};
Result<std::vector<DevicePlan>> plan_for_devices(const source::Input& input, const Request& request,
                                                 const std::vector<device::Device>& devices, bool one_file);

}  // namespace wavecrest::convert
