// Changes below folders as the kernel tells of them (inotify), so that nothing has to be looked at again and again.
#pragma once

#include <array>
#include <set>
#include <string>
#include <vector>

#include "base/file.hpp"
#include "base/time.hpp"

namespace wavecrest::host {

class FolderChanges {
  public:
    // The folders, and all that is below them; links aren't followed. Addresses of shares and folders that aren't there
    // are passed over. Nothing is watched before renew().
    explicit FolderChanges(std::vector<base::Path> folders);
    FolderChanges(const FolderChanges&) = delete;
    FolderChanges& operator=(const FolderChanges&) = delete;
    ~FolderChanges();

    // Watches the folders that are there now. To be called before they are looked at: what comes later is told.
    void renew();
    // Whether every change will be told: all folders lie on drives of this machine (a server doesn't tell what others
    // do) and are few enough to be watched.
    bool tells_all() const { return tells_all_; }
    // Waits until something changes, at most for `most`, or until another thread called wake(). Whether something did.
    bool wait(Time most);
    void wake();

  private:
    const std::vector<base::Path> folders_;
    int handle_ = -1;
    std::array<int, 2> wake_{-1, -1};
    std::set<std::string> watched_;
    bool tells_all_ = false;
};

}  // namespace wavecrest::host
