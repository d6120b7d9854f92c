#include "disc/choose.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>
#include <optional>

#include "base/units.hpp"

namespace wavecrest::disc {
namespace {

// Episodes of a series differ by this much from the middle one at most.
constexpr double kEpisodeSpread = 0.15;
// Titles that differ by less than this last equally long (menus loop, logos and warnings differ).
constexpr double kDecoySpread = 0.01;
constexpr std::size_t kFewestPieces = 3;  // fewer can't be told from a title with a logo before it
constexpr int kMostEpisodes = 50;

bool near(Time a, Time b, double spread) {
    const double x = base::to_seconds(a), y = base::to_seconds(b);
    return std::abs(x - y) <= spread * std::max(x, y);
}

std::vector<std::string> ids(const TitleShape& title) {
    std::vector<std::string> list;
    for (const auto& segment : title.segments) list.push_back(segment.id);
    return list;
}

// Joins at which the next piece does not begin where the one before ends.
int broken_joins(const TitleShape& title) {
    int broken = 0;
    for (std::size_t i = 1; i < title.segments.size(); ++i)
        broken += title.segments[i].begins < title.segments[i - 1].ends ? 1 : 0;
    return broken;
}
int loose_joins(const TitleShape& title) {
    int loose = 0;
    for (std::size_t i = 1; i < title.segments.size(); ++i)
        loose += title.segments[i].begins != title.segments[i - 1].ends ? 1 : 0;
    return loose;
}

class Chooser {
  public:
    explicit Chooser(const std::vector<TitleShape>& titles) : titles_(titles) { choices_.titles.resize(titles.size()); }

    Choices run() {
        find_duplicates();
        find_decoys();
        if (!find_play_all() && !find_series() && !find_chapter_groups()) choose_film();
        return std::move(choices_);
    }

  private:
    Choice& choice(std::size_t i) { return choices_.titles[i]; }
    bool open(std::size_t i) const { return choices_.titles[i].why.empty(); }
    std::vector<std::size_t> open_titles() const {
        std::vector<std::size_t> list;
        for (std::size_t i = 0; i < titles_.size(); ++i) {
            if (open(i)) list.push_back(i);
        }
        return list;
    }
    void settle(std::size_t i, Role role, std::string why, int same_as = 0) {
        choices_.titles[i] = {role, std::move(why), same_as};
    }

    void find_duplicates() {
        std::map<std::vector<std::string>, std::size_t> seen;
        for (std::size_t i = 0; i < titles_.size(); ++i) {
            if (titles_[i].segments.empty()) continue;
            const auto [it, fresh] = seen.try_emplace(ids(titles_[i]), i);
            if (fresh) continue;
            // The one that deliveries more tracks stays.
            std::size_t keep = it->second, drop = i;
            const auto tracks = [&](std::size_t t) { return titles_[t].audio_tracks + titles_[t].subtitle_tracks; };
            if (tracks(drop) > tracks(keep)) std::swap(keep, drop);
            it->second = keep;
            settle(drop, Role::duplicate, fmt::format("the same data as title {}", titles_[keep].number),
                   titles_[keep].number);
        }
        // A chain of replacements ends at the one that was kept.
        for (std::size_t i = 0; i < titles_.size(); ++i) {
            if (choice(i).role != Role::duplicate) continue;
            const std::size_t keep = seen[ids(titles_[i])];
            settle(i, Role::duplicate, fmt::format("the same data as title {}", titles_[keep].number),
                   titles_[keep].number);
        }
    }

    // Titles made of the same pieces in different orders: one of them is the film.
    void find_decoys() {
        std::map<std::vector<std::string>, std::vector<std::size_t>> groups;
        for (const std::size_t i : open_titles()) {
            if (titles_[i].segments.size() < kFewestPieces) continue;
            auto pieces = ids(titles_[i]);
            std::sort(pieces.begin(), pieces.end());
            groups[pieces].push_back(i);
        }
        for (const auto& [pieces, members] : groups) {
            if (members.size() < 2) continue;
            const auto rank = [&](std::size_t i) {
                return std::pair(broken_joins(titles_[i]), loose_joins(titles_[i]));
            };
            const std::size_t best =
                *std::min_element(members.begin(), members.end(), [&](std::size_t a, std::size_t b) {
                    return std::pair(rank(a), titles_[a].number) < std::pair(rank(b), titles_[b].number);
                });
            for (const std::size_t i : members) {
                if (i == best || !near(titles_[i].duration, titles_[best].duration, kDecoySpread)) continue;
                const int joins = static_cast<int>(titles_[i].segments.size()) - 1;
                const std::string proof =
                    rank(i) > rank(best)
                        ? fmt::format("segments out of disc order: {} of its {} joins, {} of the other's",
                                      broken_joins(titles_[i]), joins, broken_joins(titles_[best]))
                        : std::string("the right order is unknown: the first was taken");
                settle(i, Role::fake,
                       fmt::format("the segments of title {} in another order; {}", titles_[best].number, proof));
            }
            decoys_of_ = titles_[best].number;
        }
    }

    // A title whose pieces are those of others in a row.
    bool find_play_all() {
        for (const std::size_t i : open_titles()) {
            const auto whole = ids(titles_[i]);
            std::vector<std::size_t> parts;
            std::size_t at = 0;
            while (at < whole.size()) {
                std::optional<std::size_t> found;
                for (const std::size_t k : open_titles()) {
                    if (k == i) continue;
                    const auto part = ids(titles_[k]);
                    if (part.empty() || part.size() >= whole.size() || at + part.size() > whole.size()) continue;
                    if (std::equal(part.begin(), part.end(), whole.begin() + static_cast<std::ptrdiff_t>(at)) &&
                        (!found || part.size() > titles_[*found].segments.size()))
                        found = k;
                }
                if (!found) break;
                parts.push_back(*found);
                at += titles_[*found].segments.size();
            }
            if (at < whole.size() || parts.size() < 2) continue;
            // A logo and the film, or a film and its trailer, are no series.
            std::vector<Time> lengths;
            for (const std::size_t k : parts) lengths.push_back(titles_[k].duration);
            std::sort(lengths.begin(), lengths.end());
            if (!near(lengths.front(), lengths.back(), 2 * kEpisodeSpread)) continue;
            for (const std::size_t k : parts) {
                if (!open(k)) continue;
                choices_.episodes.push_back({titles_[k].number, 0, 0, {}, titles_[k].duration});
                settle(k, Role::episode, fmt::format("title {} plays it together with others", titles_[i].number));
            }
            settle(i, Role::all, fmt::format("plays {} episodes in a row", choices_.episodes.size()));
            choices_.main = titles_[i].number;
            rest_are_extras(fmt::format("not among the episodes of title {}", titles_[i].number));
            return true;
        }
        return false;
    }

    // Several titles of nearly the same length, none much longer.
    bool find_series() {
        auto list = open_titles();
        if (list.size() < 3) return false;
        std::sort(list.begin(), list.end(),
                  [&](std::size_t a, std::size_t b) { return titles_[a].duration > titles_[b].duration; });
        std::vector<std::size_t> members;
        for (const std::size_t i : list) {
            // Compared with the middle of those taken so far, so that one long episode does not set the measure.
            if (members.empty() ||
                near(titles_[i].duration, titles_[members[members.size() / 2]].duration, 2 * kEpisodeSpread))
                members.push_back(i);
        }
        if (members.size() < 3 || members.front() != list.front()) return false;
        const Time middle = titles_[members[members.size() / 2]].duration;
        for (const std::size_t i : members) {
            if (!near(titles_[i].duration, middle, kEpisodeSpread)) return false;
        }
        std::sort(members.begin(), members.end());
        for (const std::size_t i : members) {
            choices_.episodes.push_back({titles_[i].number, 0, 0, {}, titles_[i].duration});
            settle(i, Role::episode, fmt::format("one of {} titles of nearly equal length", members.size()));
        }
        choices_.main = choices_.episodes.front().title;
        rest_are_extras("not as long as the episodes");
        return true;
    }

    // One long title whose chapters repeat a pattern: opening, acts, credits, and again.
    bool find_chapter_groups() {
        const auto list = open_titles();
        const std::size_t longest = *std::max_element(list.begin(), list.end(), [&](std::size_t a, std::size_t b) {
            return titles_[a].duration < titles_[b].duration;
        });
        const TitleShape& title = titles_[longest];
        std::vector<double> lengths;
        for (std::size_t i = 0; i < title.chapters.size(); ++i) {
            const Time end = i + 1 < title.chapters.size() ? title.chapters[i + 1] : title.duration;
            lengths.push_back(base::to_seconds(end - title.chapters[i]));
        }
        // A last chapter of a second or two is a black tail.
        if (lengths.size() > 2 && lengths.back() < 3) lengths.pop_back();
        for (std::size_t size = 2; size <= lengths.size() / 2; ++size) {
            const std::size_t count = lengths.size() / size;
            if (lengths.size() % size != 0 || count > kMostEpisodes || !repeats(lengths, size)) continue;
            for (std::size_t k = 0; k < count; ++k) {
                const std::size_t first = k * size, last = first + size - 1;
                const Time end = k + 1 < count ? title.chapters[last + 1] : title.duration;
                choices_.episodes.push_back({title.number, static_cast<int>(first + 1), static_cast<int>(last + 1),
                                             title.chapters[first], end});
            }
            settle(longest, Role::all,
                   fmt::format("plays {} episodes in a row: its chapters repeat a pattern of {}", count, size));
            choices_.main = title.number;
            rest_are_extras(fmt::format("not part of title {}", title.number));
            return true;
        }
        return false;
    }
    // Each place of the pattern lasts alike in every group, and the places differ: even chapters are no episodes.
    static bool repeats(const std::vector<double>& lengths, std::size_t size) {
        double shortest = 1e18, longest = 0;
        for (std::size_t place = 0; place < size; ++place) {
            double low = 1e18, high = 0;
            for (std::size_t i = place; i < lengths.size(); i += size) {
                low = std::min(low, lengths[i]);
                high = std::max(high, lengths[i]);
            }
            // Short places (opening, credits) are cut from one piece; acts vary.
            const bool alike = high - low <= std::max(3.0, (place == 0 || place + 1 == size ? 0.1 : 0.3) * high);
            if (!alike) return false;
            shortest = std::min(shortest, high);
            longest = std::max(longest, low);
        }
        return longest > 2.5 * shortest && shortest > 3;
    }

    void choose_film() {
        const auto list = open_titles();
        const std::size_t film = *std::max_element(list.begin(), list.end(), [&](std::size_t a, std::size_t b) {
            const auto key = [&](std::size_t i) {
                return std::tuple(titles_[i].duration, titles_[i].audio_tracks + titles_[i].subtitle_tracks,
                                  -titles_[i].number);
            };
            return key(a) < key(b);
        });
        Time second{};
        for (const std::size_t i : list) {
            if (i != film) second = std::max(second, titles_[i].duration);
        }
        std::string why = titles_.size() == 1 ? "the only title"
                          : list.size() == 1
                              ? "the longest title; the others repeat it"
                              : fmt::format("the longest title; the next longest lasts {}", base::format_clock(second));
        if (decoys_of_ == titles_[film].number) why += "; its segments are in disc order";
        settle(film, Role::film, why);
        choices_.main = titles_[film].number;
        rest_are_extras(fmt::format("shorter than title {}", titles_[film].number));
    }

    void rest_are_extras(const std::string& why) {
        for (const std::size_t i : open_titles()) settle(i, Role::bonus, why);
    }

    const std::vector<TitleShape>& titles_;
    Choices choices_;
    int decoys_of_ = 0;
};

}  // namespace

std::string_view short_name(Role role) {
    switch (role) {
        case Role::film:
            return "film";
        case Role::episode:
            return "episode";
        case Role::all:
            return "play-all";
        case Role::duplicate:
            return "duplicate";
        case Role::fake:
            return "fake title";
        case Role::bonus:
            return "bonus";
    }
    return "bonus";
}

Choices choose_titles(const std::vector<TitleShape>& titles) {
    return Chooser(titles).run();
}

}  // namespace wavecrest::disc
