// Which step comes next at a device, and what it all says of the device. Of each codec the largest size and rate that
// plays is found by bisection; what can't matter any more isn't tried.
#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "device/device.hpp"
#include "trial/step.hpp"

namespace wavecrest::trial {

struct CourseSettings {
    base::Size largest{3840, 2160};  // nothing larger is tried
    std::vector<std::string> only;   // sections (section_names()); empty: all

    bool operator==(const CourseSettings&) const = default;
};
// "link", "video", "containers", "audio", "bitrate", "motion", "seeking", "sync"
const std::vector<std::string>& section_names();

class Course {
  public:
    struct Taken {
        Step step;
        Seen seen;
        Judged judged;
        std::string when;  // "2026-11-30 19:05"
    };

    explicit Course(CourseSettings settings = {}) : settings_(std::move(settings)) {}

    // Nothing: it is finished. The same until take() is called.
    std::optional<Step> next() const;
    // What was seen of the step that next() gave.
    void take(const Step& step, Seen seen, std::string when);
    // Steps that may come within the next two: their clips are best made beforehand.
    std::vector<Step> likely() const;
    // 0 to 1, of the steps that a device usually goes through.
    double done() const;

    const CourseSettings& settings() const { return settings_; }
    const std::vector<Taken>& taken() const { return taken_; }
    const Taken* find(std::string_view id) const;
    double display_hz() const;

    // What was found, a line each: "H.264: High, level 4.2, 1920x1080, 60 fps".
    std::vector<std::string> summary() const;
    // The device as it was found; how its player buffers, subtitles and protocols that a page can't try, and sections
    // that were left out, as in `like`.
    device::Device description(const std::string& name, const device::Device& like) const;

  private:
    struct Section;
    static const std::vector<Section>& sections();

    std::optional<Step> link() const;
    std::optional<Step> video() const;
    std::optional<Step> containers() const;
    std::optional<Step> audio() const;
    std::optional<Step> bitrate() const;
    std::optional<Step> motion() const;
    std::optional<Step> seeking() const;
    std::optional<Step> sync() const;
    std::int64_t highest_rate(const device::Device& like) const;
    std::string tested_at() const;
    void add_tried_video(device::Device& device, const device::Device& like) const;
    void add_claimed_video(device::Device& device, const device::Device& like) const;
    void add_tried_audio(device::Device& device) const;
    void add_claimed_audio(device::Device& device, const device::Device& like) const;
    void add_untried_sizes(device::Device& device, const device::Device& like, Codec codec, bool is_deep) const;
    void take_over_untested(device::Device& device, const device::Device& like) const;

    CourseSettings settings_;
    std::vector<Taken> taken_;
};

// Clips that most devices are asked for, in the order in which they are: to be made beforehand.
std::vector<sample::Clip> usual_clips(const CourseSettings& settings);

}  // namespace wavecrest::trial
