// Conversions as jobs: what convert and the job commands share.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "cli/commands.hpp"
#include "device/device.hpp"
#include "job/job.hpp"
#include "job/nice.hpp"

namespace wavecrest::cli {

inline constexpr const char *kUsualProfile = "full-picture", *kLadderProfile = "any-room";
// Exit statuses beside those of errors (docs/manual.md).
inline constexpr int kDoneWithLosses = 5, kSomeFailed = 6;

// How fast this machine is, where nothing is to be sampled; else nothing. Fails where that wasn't measured.
Result<std::optional<measure::Capacity>> speeds_for(const ConvertOptions& options);

// What the options of convert ask for, of one source.
Result<job::Job> job_of(const ConvertOptions& options, const std::string& source);

// The devices of --site that are meant, with what their links carry.
struct SiteChoice {
    device::Device device;
    std::string device_class;
};
Result<std::vector<SiteChoice>> site_devices(const ConvertOptions& options);
// The devices that are named, or those of the site.
Result<std::vector<device::Device>> chosen_devices(const std::vector<std::string>& names, const std::string& site);

// A conversion that is running in this program, in the list of jobs. Where the list can't be used that is noted, and
// the conversion goes on without.
class JobEntry {
  public:
    explicit JobEntry(const ConvertOptions& options);
    ~JobEntry();
    JobEntry(const JobEntry&) = delete;
    JobEntry& operator=(const JobEntry&) = delete;
    void add(const convert::Plan& plan, const convert::Outcome& outcome);
    void add(const convert::RemuxPlan& plan, const convert::Outcome& outcome);
    void finish(const std::optional<Error>& failure);

  private:
    struct State;
    std::unique_ptr<State> state_;  // nothing where there is no list
};

// When work may go on: by --nice, and not while a stream of this machine suffers.
Result<std::shared_ptr<job::Pacer>> pacer_for(const std::string& nice);
// Progress that holds the work up as the pacer says, and notes why.
Progress paced(std::shared_ptr<job::Pacer> pacer, Progress inner, const Cancel& cancel);

// Several sources, or a folder of them.
bool are_many(const std::vector<std::string>& inputs);
int run_convert_many(const ConvertOptions& options, const std::vector<std::string>& inputs);
// Stays, and takes what arrives in the folders.
int run_convert_watch(const ConvertOptions& options);

}  // namespace wavecrest::cli
