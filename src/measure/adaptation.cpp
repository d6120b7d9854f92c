#include "measure/adaptation.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/units.hpp"

namespace wavecrest::measure {
namespace {

// Of a segment that has only just begun nothing can be told.
constexpr double kLeastSeconds = 0.5;

}  // namespace

AdaptationSettings adaptation_of(const device::Playing& playing, Time behind) {
    const Time least = base::from_seconds(4), most = base::from_seconds(12);
    AdaptationSettings settings;
    settings.rule = playing.adapting;
    settings.secure = settings.rule.secure_buffer.count() > 0 ? settings.rule.secure_buffer
                                                              : std::clamp(playing.hls_buffer / 3, least, most);
    if (behind.count() > 0) settings.secure = std::min(settings.secure, behind / 2);
    settings.low = settings.rule.low_buffer.count() > 0 ? std::min(settings.rule.low_buffer, settings.secure)
                                                        : settings.secure * 2 / 5;
    return settings;
}

void Adaptation::measured(std::uint64_t bytes, Time took) {
    if (bytes == 0) return;
    if (last_.size() >= static_cast<std::size_t>(settings_.rule.measured_segments)) last_.erase(last_.begin());
    last_.push_back({static_cast<double>(bytes) * 8, std::max(base::to_seconds(took), 1e-3)});
}

double Adaptation::rate() const {
    if (last_.empty()) return 0;
    double bits = 0, seconds = 0;
    for (const Measured& one : last_) {
        bits += one.bits;
        seconds += one.seconds;
    }
    return std::min(bits / seconds, last_.back().bits / last_.back().seconds);
}

std::size_t Adaptation::fitting(double share) const {
    std::size_t best = 0;
    for (std::size_t i = 0; i < peaks_.size(); ++i) {
        if (static_cast<double>(peaks_[i]) <= rate() * share) best = i;
    }
    return best;
}

std::string Adaptation::told(Time buffer) const {
    return fmt::format("{} measured, {:.1f} s in the buffer", base::format_bitrate(static_cast<std::int64_t>(rate())),
                       base::to_seconds(buffer));
}

Adaptation::Choice Adaptation::next(Time buffer, bool playing) {
    if (last_.empty())
        return {rung_, settings_.rule.first_listed ? "listed first, nothing measured yet" : "nothing measured yet"};
    const device::Adapting& rule = settings_.rule;
    const std::size_t fits = fitting(rule.link_share);
    settled_ = settled_ || buffer >= settings_.secure;
    if (!settled_) {
        rung_ = fitting(rule.cautious_share);
    } else if (playing && buffer < settings_.low) {
        rung_ = std::min(rung_, fitting(rule.cautious_share));
    } else if (fits > rung_ && buffer >= settings_.secure) {
        rung_ = std::min(fits, rung_ + static_cast<std::size_t>(rule.rungs_up));
    } else if (fits < rung_ && (buffer < settings_.secure || !rule.holds_rung)) {
        rung_ = fits;
    }
    return {rung_, told(buffer)};
}

std::optional<Adaptation::Choice> Adaptation::give_up(std::uint64_t got, std::uint64_t whole, Time took, Time buffer) {
    const double seconds = base::to_seconds(took);
    if (!settings_.rule.abandons_segments || rung_ == 0 || got >= whole || seconds < kLeastSeconds) return std::nullopt;
    const double rate = static_cast<double>(got) / seconds;  // bytes a second
    const double rest = rate > 0 ? static_cast<double>(whole - got) / rate : 1e9;
    if (rest <= base::to_seconds(buffer)) return std::nullopt;
    std::vector<Measured> before = last_;
    last_.clear();
    measured(std::max<std::uint64_t>(got, 1), took);
    const std::size_t fits = std::min(fitting(settings_.rule.link_share), rung_ - 1);
    // The lower one comes from its beginning.
    const double instead =
        static_cast<double>(whole) * static_cast<double>(peaks_[fits]) / static_cast<double>(peaks_[rung_]);
    if (instead >= static_cast<double>(whole - got)) {
        last_ = std::move(before);
        return std::nullopt;
    }
    rung_ = fits;
    return Choice{rung_, told(buffer) + fmt::format(", {:.0f} % of the segment had come",
                                                    100.0 * static_cast<double>(got) / static_cast<double>(whole))};
}

}  // namespace wavecrest::measure
