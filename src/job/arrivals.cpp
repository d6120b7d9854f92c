#include "job/arrivals.hpp"

#include <sys/stat.h>

#include <set>

#include "source/input.hpp"
#include "source/share_input.hpp"
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

Result<Arrivals::State> Arrivals::state_of(const base::Path& source) {
    State state;
    constexpr std::size_t kMost = 100'000;
    if (const base::Address address(source); address.is_share()) {
        WAVECREST_TRY_ASSIGN(opened, source::open_share(address, nullptr));
        const auto add = [&](const share::Entry& file) {
            ++state.files;
            state.bytes += file.size;
            state.newest_ns = std::max(state.newest_ns, file.modified_ns);
        };
        if (!opened.entry.folder) add(opened.entry);
        std::vector<std::string> folders;
        if (opened.entry.folder) folders.push_back(opened.path);
        while (!folders.empty() && state.files < kMost) {
            const std::string folder = std::move(folders.back());
            folders.pop_back();
            WAVECREST_TRY_ASSIGN(entries, opened.share->list(folder));
            for (const share::Entry& one : entries) {
                if (one.folder) folders.push_back(share::joined(folder, one.name));
                if (!one.folder) add(one);
            }
        }
        return state;
    }
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
            const auto state = state_of(entry.path);
            if (!state) continue;  // (Its server is gone again, or it is.)
            const auto [found, added] = sources_.try_emplace(entry.path, Source{*state, now, false});
            Source& source = found->second;
            if (!(source.state == *state)) source = {*state, now, false};
            if (source.told) continue;
            if (now - source.since < rest_) {
                const Time due = source.since + rest_;
                looked.due = looked.waiting == 0 ? due : std::min(looked.due, due);
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
