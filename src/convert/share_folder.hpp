// A library on a file server that conversions go to (--into smb://...). A title is made in a folder of this machine,
// the outbox, and copied to the share when it is whole: work of hours doesn't hang on a connection, and what could not
// be copied is copied by the next run, which doesn't make it again.
#pragma once

#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "base/cancel.hpp"
#include "base/file.hpp"
#include "share/share.hpp"

namespace wavecrest::convert {

class ShareFolder {
  public:
    // Connects, with the account that is kept for the share. Fails as share::Share does, and where a file is in the
    // folder's place. A folder that isn't there yet is made with the first file.
    static Result<std::shared_ptr<const ShareFolder>> open(const std::string& address, const Cancel* cancel);

    // Below this, titles are made as they are to lie in the folder. One for each address, in the state folder.
    const base::Path& outbox() const { return outbox_; }
    // The address of what is made at a path below the outbox.
    std::string address_of(const base::Path& made) const;
    // Whether something is there already, and how large it is.
    Result<std::optional<std::uint64_t>> size_of(const base::Path& made) const;
    // A small file (less than 1 MB) that is there.
    Result<std::string> text_of(const base::Path& made) const;
    // Whether files can be written there, tried.
    Status check_writable() const;
    // Bytes that may still be written there; nothing where the server doesn't tell.
    std::optional<std::uint64_t> free_space() const;

    // Copies files, one after the other, as share::upload() does, then removes them here with those of `own`, and
    // folders that are empty then. `progress`: bytes of all of them. On failure (the error says where they wait) those
    // that are there already stay there, and all stay here; they aren't copied again.
    Status deliver(const std::vector<base::Path>& files, const std::vector<base::Path>& own,
                   const std::function<void(std::uint64_t)>& progress) const;

  private:
    ShareFolder(std::shared_ptr<share::Share> share, std::string path);
    std::string path_of(const base::Path& made) const;

    std::shared_ptr<share::Share> share_;
    std::string path_;  // on the share
    base::Path outbox_;
};

struct Selection;
// Where `into` is an address of a share: connects, and lets `into` be its outbox.
Status connect(Selection& selection, const Cancel* cancel);

}  // namespace wavecrest::convert
