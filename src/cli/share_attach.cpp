// share attach, detach, check: shares and disks that come back at every start of the machine.
#include <pwd.h>
#include <sys/statvfs.h>
#include <unistd.h>

#include <algorithm>
#include <cstdlib>
#include <nlohmann/json.hpp>

#include "base/units.hpp"
#include "cli/share.hpp"
#include "host/file_system.hpp"
#include "host/mounts.hpp"
#include "render/table.hpp"
#include "share/attach.hpp"
#include "share/prove.hpp"
#include "source/share_input.hpp"

namespace wavecrest::cli {
namespace {

using Json = nlohmann::ordered_json;

// Whose files are, of what keeps no owners.
Status find_owner(const std::string& name, share::AttachSettings& settings) {
    if (!name.empty()) {
        const passwd* const user = ::getpwnam(name.c_str());
        if (user == nullptr)
            return fail(ErrorKind::usage, fmt::format("there is no user \"{}\" on this machine", name), "--owner",
                        "name a user of this machine");
        settings.owner = user->pw_uid;
        settings.group = user->pw_gid;
        return {};
    }
    const auto number = [](const char* variable, unsigned fallback) {
        const char* const text = std::getenv(variable);
        return text != nullptr ? static_cast<unsigned>(std::strtoul(text, nullptr, 10)) : fallback;
    };
    settings.owner = number("SUDO_UID", ::getuid());
    settings.group = number("SUDO_GID", ::getgid());
    return {};
}

// "/media/films/", as a shell completes it, is "/media/films".
base::Path folder_of(const std::string& text) {
    const base::Path path = base::absolute_path(text).lexically_normal();
    return path.has_filename() ? path : path.parent_path();
}

bool is_disk(const std::string& what) {
    return what.starts_with("UUID=") || what.starts_with("/");
}
bool is_own_system(const std::string& root) {
    return base::Path(root).lexically_normal() == "/";
}
bool has_systemd() {
    std::error_code error;
    return std::filesystem::exists("/run/systemd/system", error);
}

// What is mounted is looked at first: the settings get what was found.
Status examine(const ShareAttachOptions& options, share::AttachSettings& settings) {
    const std::string& what = options.share.address;
    if (is_disk(what)) {
        const base::Path device = what.starts_with("UUID=") ? host::device_of(what) : base::Path(what);
        if (device.empty())
            return fail(ErrorKind::machine, "no disk with this identity is plugged in", what,
                        "plug it in; lsblk -f lists disks");
        WAVECREST_TRY_ASSIGN(system, host::file_system_of(device));
        if (system.clean == false)
            note(
                fmt::format("{} was not unmounted the last time: it may be mounted read-only until it was checked "
                            "(fsck, or on the computer that wrote it)",
                            what));
        settings.what = share::Disk{std::move(system)};
        return {};
    }
    WAVECREST_TRY_ASSIGN(location, share::parse_location(what));
    settings.what = location;
    WAVECREST_TRY_ASSIGN(account, account_of(options.share, location));
    settings.account = account;
    if (options.untested) return {};
    share::ProofSettings proof_settings;
    proof_settings.length = {};
    WAVECREST_TRY_ASSIGN(proof, share::prove(location, account, proof_settings, {}, cancel()));
    if (const share::ProofStep* const failed = proof.failure())
        return fail(ErrorKind::wanting, fmt::format("{}: {}", failed->name, failed->found), location.text(),
                    failed->remedy + "; or attach it as it is: --untested");
    if (proof.nfs_version > 0) settings.nfs_version = proof.nfs_version;
    settings.content = proof.content;
    return {};
}

// Without passwords.
std::string shown_text(const share::PlannedFile& file) {
    std::string text = file.text;
    if (!file.secret) return text;
    const std::size_t at = text.find("password=") + std::string_view("password=").size();
    return text.replace(at, text.find('\n', at) - at, "********");
}

void print_plan(const share::AttachPlan& plan) {
    for (const share::PlannedFile& file : plan.files) {
        print("{}{}\n", file.path.string(), file.secret ? "  (for root alone)" : "");
        const std::string text = shown_text(file);
        for (std::size_t at = 0; at < text.size();) {
            const std::size_t end = std::min(text.find('\n', at), text.size());
            print("    {}\n", text.substr(at, end - at));
            at = end + 1;
        }
        print("\n");
    }
    for (const share::PlannedLink& link : plan.links) print("{} -> {}\n", link.path.string(), link.to);
    for (const base::Path& file : plan.removed) print("{}  removed\n", file.string());
    for (const std::string& command : plan.commands) print("$ {}\n", command);
}

Json to_json(const share::AttachPlan& plan) {
    Json files = Json::array(), links = Json::array(), removed = Json::array();
    for (const share::PlannedFile& file : plan.files) {
        files.push_back({{"path", file.path.string()}, {"secret", file.secret}});
        if (!file.secret) files.back()["text"] = file.text;
    }
    for (const share::PlannedLink& link : plan.links) links.push_back({{"path", link.path.string()}, {"to", link.to}});
    for (const base::Path& file : plan.removed) removed.push_back(file.string());
    return {{"files", std::move(files)},
            {"links", std::move(links)},
            {"removed", std::move(removed)},
            {"commands", plan.commands}};
}

// The command that failed; empty: none. What ends something may find it ended.
std::string run_commands(const share::AttachPlan& plan) {
    for (const std::string& command : plan.commands) {
        const int status = std::system((command + " >/dev/null 2>&1").c_str());
        const bool ends = command.find(" stop ") != std::string::npos;
        if (status != 0 && !ends) return command;
    }
    return {};
}

// Longer than the units give a mount.
constexpr std::chrono::seconds kMountPatience{40};

// Nothing where it is mounted; else why not.
std::optional<Error> not_mounted(const base::Path& folder) {
    const auto mounted = host::mounted_at(folder, kMountPatience);
    if (mounted && *mounted) return {};
    const bool systemd = has_systemd();
    return Error{ErrorKind::machine,
                 mounted ? "nothing is mounted there" : fmt::format("it can't be mounted: {}", mounted.error().what),
                 folder.string(),
                 systemd ? fmt::format("see why: journalctl -b -u '{}'", share::unit_name(folder, "mount"))
                         : fmt::format("see why: mount '{}'", folder.string()),
                 {}};
}

int carry_out(const ShareAttachOptions& options, const share::AttachPlan& plan, const base::Path& made, bool attach) {
    const bool json = options.share.output.json;
    Json result = to_json(plan);
    result["folder"] = options.folder;
    result["dry_run"] = options.dry_run;
    if (options.dry_run) {
        if (json) {
            print_json(result);
            return 0;
        }
        print_plan(plan);
        print("\nDry run: nothing was written. Run without --dry-run (as root) to {} it.\n",
              attach ? "attach" : "detach");
        return 0;
    }
    if (const Status done = share::carry_out(plan, made); !done) return report_error(done.error(), json);
    const bool now = is_own_system(options.root) && has_systemd();
    const std::string failed = now ? run_commands(plan) : std::string();
    const bool looked = now && attach && !options.untested;
    std::optional<Error> wrong;
    if (!failed.empty())
        wrong = Error{
            ErrorKind::machine, "the files are written, but a command failed", failed, "run it by hand to see why", {}};
    else if (looked)
        wrong = not_mounted(folder_of(options.folder));
    result["started"] = now && failed.empty();
    if (looked) result["mounted"] = !wrong;
    if (json) {
        print_json(result);
    } else {
        for (const share::PlannedFile& file : plan.files) print("  written  {}\n", file.path.string());
        for (const base::Path& file : plan.removed) print("  removed  {}\n", file.string());
    }
    if (wrong) return report_error(*wrong);
    if (json) return 0;
    if (attach && plan.files.empty() && plan.removed.empty()) {
        print("{} was attached at {} already: nothing was changed{}.\n", options.share.address, options.folder,
              looked ? ", and it is mounted" : "");
    } else if (attach) {
        print("\n{} is mounted at {}{}.\nNext: wavecrest share check\n", options.share.address, options.folder,
              looked ? " now, and after each start as soon as it is looked into"
              : now  ? " as soon as it is looked into"
                     : " from the next start on");
    } else {
        print("\n{} is detached{}.\n", options.folder, now ? "" : " from the next start on");
    }
    return 0;
}

// One of what is attached, judged.
struct Checked {
    const char* verdict = "pass";
    std::string found, remedy;
    bool mounted = false;
};

Checked check_disk(const share::Attached& one) {
    const base::Path device = host::device_of(one.what);
    if (device.empty()) return {"fail", "the disk isn't plugged in", "plug it in"};
    const auto system = host::file_system_of(device);
    if (system && system->clean == false)
        return {"warn", "not unmounted the last time", "check it: fsck, or on the computer that wrote it"};
    return {"pass", "plugged in", ""};
}

Result<Checked> check_share(const share::Attached& one, const std::string& root) {
    const auto location = share::parse_location(one.what);
    if (!location) return Checked{"fail", location.error().what, "attach it again"};
    const auto account = share::account_of(one, root);
    if (!account) return Checked{"fail", account.error().what, account.error().remedy};
    share::ProofSettings settings;
    settings.length = base::from_seconds(1);
    settings.rate_of = [&](const std::string& address) {
        return source::bit_rate_on_share(address, *account, cancel());
    };
    WAVECREST_TRY_ASSIGN(proof, share::prove(*location, *account, settings, {}, cancel()));
    if (const share::ProofStep* const failed = proof.failure())
        return Checked{"fail", fmt::format("{}: {}", failed->name, failed->found), failed->remedy};
    if (!share::is_same_content(one, proof.content))
        return Checked{"fail", "nothing of what was in it when it was attached", "attach it again if that is meant"};
    return Checked{
        "pass",
        fmt::format("{}, {}{}", base::format_count(proof.files, "file"), base::format_count(proof.folders, "folder"),
                    proof.read_bps > 0 ? ", " + base::format_bitrate(proof.read_bps) : ""),
        ""};
}

// What can be reached is looked into: whether the machine mounts it, too.
void check_mount(const share::Attached& one, Checked& checked) {
    const auto mounted = host::mounted_at(one.folder, kMountPatience);
    checked.mounted = mounted && *mounted;
    if (!checked.mounted) {
        checked.verdict = "fail";
        checked.found += mounted ? ", but isn't mounted" : fmt::format(", but not mounted: {}", mounted.error().what);
        checked.remedy = has_systemd()
                             ? fmt::format("systemctl restart '{}'", share::unit_name(one.folder, "automount"))
                             : fmt::format("mount '{}'", one.folder.string());
        return;
    }
    struct statvfs info {};
    if (is_disk(one.what) && one.writable && ::statvfs(one.folder.c_str(), &info) == 0 &&
        (info.f_flag & ST_RDONLY) != 0) {
        checked.verdict = "warn";
        checked.found += ", but mounted read-only";
        checked.remedy = "check its file system: fsck, or on the computer that wrote it";
    }
}

}  // namespace

int run_share_attach(const ShareAttachOptions& options) {
    const bool json = options.share.output.json;
    share::AttachSettings settings;
    settings.folder = folder_of(options.folder);
    settings.fstab = options.fstab;
    settings.writable = !options.read_only;
    settings.root = options.root;
    if (const Status owner = find_owner(options.owner, settings); !owner) return report_error(owner.error(), json);
    if (const Status seen = examine(options, settings); !seen) return report_error(seen.error(), json);
    const auto plan = share::plan_attach(settings);
    if (!plan) return report_error(plan.error(), json);
    if (!is_disk(options.share.address) && is_own_system(options.root)) {
        if (const auto missing = share::missing_support(base::Address(options.share.address).scheme())) {
            if (!options.dry_run) return report_error(*missing, json);
            note(fmt::format("{}: {}", missing->what, missing->remedy));
        }
    }
    return carry_out(options, *plan, settings.root / settings.folder.relative_path(), true);
}

int run_share_detach(const ShareAttachOptions& options) {
    const auto plan = share::plan_detach(folder_of(options.folder), options.root);
    if (!plan) return report_error(plan.error(), options.share.output.json);
    return carry_out(options, *plan, {}, false);
}

int run_share_check(const ShareAttachOptions& options) {
    const bool json = options.share.output.json;
    const std::vector<share::Attached> all = share::attached(options.root);
    Json rows = Json::array();
    render::Table table({"folder", "attached", "verdict", "found"});
    std::vector<std::string> remedies;
    bool good = true;
    for (const share::Attached& one : all) {
        auto checked = is_disk(one.what) ? Result<Checked>(check_disk(one)) : check_share(one, options.root);
        if (!checked) return report_error(checked.error(), json);
        if (checked->verdict == std::string_view("pass") && is_own_system(options.root)) check_mount(one, *checked);
        good = good && checked->verdict != std::string_view("fail");
        rows.push_back({{"folder", one.folder.string()},
                        {"attached", one.what},
                        {"mounted", checked->mounted},
                        {"verdict", checked->verdict},
                        {"found", checked->found}});
        if (!checked->remedy.empty()) {
            rows.back()["remedy"] = checked->remedy;
            remedies.push_back(fmt::format("{}: {}", one.folder.string(), checked->remedy));
        }
        table.add({one.folder.string(), one.what, checked->verdict, checked->found});
    }
    if (json) {
        print_json({{"attached", std::move(rows)}});
    } else if (all.empty()) {
        print("Nothing is attached. Next: wavecrest share attach ADDRESS FOLDER\n");
    } else {
        print("{}", Raw{table.text()});
        for (const std::string& one : remedies) print("  to do: {}\n", one);
    }
    return good ? 0 : 1;
}

}  // namespace wavecrest::cli
