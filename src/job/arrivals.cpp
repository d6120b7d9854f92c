#include "job/arrivals.hpp"

#include <sys/stat.h>

#include <set>

#include "source/input.hpp"
#include "source/shelf.hpp"

namespace wavecrest::job {
namespace {

// Why a source isn't whole; empty: it is.
std::string why_not_whole(const base::Path& source) {
    const auto input = source::open_input(source);
    if (!input) return input.error().what;
    for (const source::Title& title : (*input)->titles()) {
        if (title.main && !title.problems.empty()) return title.problems.front().what;
    }
    return {};
}

}  // namespace

Arrivals::State Arrivals::state_of(const base::Path& source) {
    State state;
    const auto add = [&](const base::Path& file) {
        struct stat info {};
        if (::lstat(file.c_str(), &info) != 0 || !S_ISREG(info.st_mode)) return;
        ++state.files;
        state.bytes += static_cast<std::uint64_t>(info.st_size);
        state.newest_ns =
            std::max(state.newest_ns, std::int64_t{info.st_mtim.tv_sec} * 1'000'000'000 + info.st_mtim.tv_nsec);
    };
    add(source);
    std::error_code error;
    constexpr std::size_t kMost = 100'000;
    for (std::filesystem::recursive_directory_iterator
             entry(source, std::filesystem::directory_options::skip_permission_denied, error),
         end;
         !error && entry != end && state.files < kMost; entry.increment(error))
        add(entry->path());
    return state;
}

Arrivals::Looked Arrivals::look(Time now) {
    Looked looked;
    std::set<base::Path> there;
    bool complete = true;
    for (const base::Path& folder : folders_) {
        const auto shelf = source::read_shelf(folder);
        if (!shelf) {
            complete = false;
            if (!std::exchange(unreadable_[folder], true)) looked.unreadable.push_back(shelf.error());
            continue;
        }
        unreadable_[folder] = false;
        for (const source::ShelfEntry& entry : *shelf) {
            there.insert(entry.path);
            const State state = state_of(entry.path);
            const auto [found, added] = sources_.try_emplace(entry.path, Source{state, now, false});
            Source& source = found->second;
            if (!(source.state == state)) source = {state, now, false};
            if (source.told) continue;
            if (now - source.since < rest_) {
                ++looked.waiting;
                continue;
            }
            source.told = true;
            const std::string why = entry.kind == source::ShelfEntry::Kind::unknown ? "not a disc and not a media file"
                                                                                    : why_not_whole(entry.path);
            if (why.empty()) {
                looked.whole.push_back(entry.path);
            } else {
                looked.broken.emplace_back(entry.path, why);
            }
        }
    }
    // (A share that is away for a moment isn't emptied.)
    if (complete) std::erase_if(sources_, [&](const auto& one) { return !there.contains(one.first); });
    return looked;
}

}  // namespace wavecrest::job
