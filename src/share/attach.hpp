// Shares and disks attached for good: the files by which they come back at every start of the machine. What would be
// written is a plan, which can be shown; nothing that wasn't written by this program is changed.
#pragma once

#include <optional>
#include <string>
#include <variant>
#include <vector>

#include "base/file.hpp"
#include "base/result.hpp"
#include "host/file_system.hpp"
#include "share/account.hpp"
#include "share/location.hpp"

namespace wavecrest::share {

// A disk, by the identity of its file system.
struct Disk {
    host::FileSystem system;
};

struct AttachSettings {
    std::variant<Location, Disk> what;
    base::Path folder;   // absolute
    Account account;     // of SMB
    bool fstab = false;  // a line in /etc/fstab instead of units of systemd
    bool writable = true;
    unsigned owner = 0, group = 0;     // whose the files appear to be, where the file system has no owners
    int nfs_version = 4;               // 3 or 4
    std::vector<std::string> content;  // names in it now: to know it again
    base::Path root = "/";             // of the system that is set up: another than this one's for a disk of it
};

struct PlannedFile {
    base::Path path;
    std::string text;
    bool secret = false;  // for root alone, and not to be shown
};
struct PlannedLink {
    base::Path path;
    std::string to;
};
struct AttachPlan {
    std::vector<PlannedFile> files;     // that differ from what is there: each replaces what this program wrote before
    std::vector<PlannedLink> links;     // what starts with the machine (systemd.unit(5), .wants/)
    std::vector<std::string> commands;  // that make it so now: "systemctl daemon-reload"
    std::vector<base::Path> removed;    // of detaching
};

// "media-films.mount" for /media/films, as systemd-escape --path --suffix=mount has it (systemd.unit(5)).
std::string unit_name(const base::Path& folder, const std::string& suffix);

// Errors (kind usage): the folder isn't absolute, or the location can't be mounted; kind machine: files that are there
// already and weren't written by this program; the folder has files in it that would be hidden. What is attached so
// already gives a plan without files, whose commands leave the mount alone.
Result<AttachPlan> plan_attach(const AttachSettings& settings);
// What was attached at a folder. Kind usage: nothing was, by this program.
Result<AttachPlan> plan_detach(const base::Path& folder, const base::Path& root = "/");
// Writes and removes the files: each whole or not at all. Kind machine.
Status carry_out(const AttachPlan& plan, const base::Path& folder_to_make = {});

// What is attached, read back from its files.
struct Attached {
    std::string what;  // an address, or "UUID=..."
    base::Path folder;
    bool fstab = false;
    bool writable = true;
    std::vector<std::string> content;
};
std::vector<Attached> attached(const base::Path& root = "/");
// The account it is mounted with; a guest where there is none. Kind machine: only root may read it.
Result<Account> account_of(const Attached& one, const base::Path& root = "/");
// Whether any of what was in it then is in it now; true where nothing is known.
bool is_same_content(const Attached& one, const std::vector<std::string>& now);

// What the machine lacks to mount this; empty: nothing. "the kernel has no SMB (cifs)", with what to do.
std::optional<Error> missing_support(base::Scheme scheme);

}  // namespace wavecrest::share
