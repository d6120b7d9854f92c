#include "share/attach.hpp"

#include <fmt/format.h>
#include <sys/stat.h>
#include <sys/utsname.h>
#include <unistd.h>

#include <algorithm>

#include "base/atomic_file.hpp"

namespace wavecrest::share {
namespace {

constexpr std::string_view kMark = "# Written by wavecrest share attach";
constexpr std::string_view kWhat = "# attached: ", kContent = "# content: ";
constexpr std::size_t kMostContent = 20;

base::Path below(const base::Path& root, const char* path) {
    return root / base::Path(path).relative_path();
}
base::Path units(const base::Path& root) {
    return below(root, "/etc/systemd/system");
}
base::Path fstab(const base::Path& root) {
    return below(root, "/etc/fstab");
}
// As the system that is set up names it.
// (Without backslashes, which options of a mount would need written otherwise.)
std::string account_path(const base::Path& folder) {
    std::string name = unit_name(folder, "account");
    std::replace(name.begin(), name.end(), '\\', '_');
    return "/etc/wavecrest/" + name;
}
base::Path wanted(const base::Path& root, const base::Path& folder) {
    return units(root) / "multi-user.target.wants" / unit_name(folder, "automount");
}

std::string read_if_there(const base::Path& file) {
    auto text = base::read_text_file(file);
    return text ? std::move(*text) : std::string();
}

std::vector<std::string> lines_of(const std::string& text) {
    std::vector<std::string> lines;
    for (std::size_t at = 0; at < text.size();) {
        const std::size_t end = std::min(text.find('\n', at), text.size());
        lines.push_back(text.substr(at, end - at));
        at = end + 1;
    }
    return lines;
}

// systemd.unit(5): specifiers begin with "%".
std::string in_unit(const std::string& text) {
    std::string out;
    for (const char c : text) out += c == '%' ? "%%" : std::string(1, c);
    return out;
}
// fstab(5), getmntent(3): blanks and what would be one are written in octal digits.
std::string in_fstab(const std::string& text) {
    std::string out;
    for (const char c : text)
        out += c == ' ' || c == '\t' || c == '\\' || c == '#' || c == '\n'
                   ? fmt::format("\\{:03o}", static_cast<unsigned char>(c))
                   : std::string(1, c);
    return out;
}
std::string from_fstab(const std::string& text) {
    std::string out;
    for (std::size_t i = 0; i < text.size(); ++i) {
        const auto octal = [&](std::size_t at) { return at < text.size() && text[at] >= '0' && text[at] <= '7'; };
        if (text[i] == '\\' && octal(i + 1) && octal(i + 2) && octal(i + 3)) {
            out += static_cast<char>((text[i + 1] - '0') * 64 + (text[i + 2] - '0') * 8 + (text[i + 3] - '0'));
            i += 3;
        } else {
            out += text[i];
        }
    }
    return out;
}

// The fields of a line.
std::vector<std::string> fields_of(const std::string& line) {
    std::vector<std::string> fields;
    std::size_t at = 0;
    while ((at = line.find_first_not_of(" \t", at)) != std::string::npos) {
        const std::size_t end = std::min(line.find_first_of(" \t", at), line.size());
        fields.push_back(line.substr(at, end - at));
        at = end;
    }
    return fields;
}

// A mount as mount(8) takes it.
struct MountLine {
    std::string what, type, options;
    std::string address;  // for people
    bool network = true;
};

MountLine mount_of(const AttachSettings& settings) {
    MountLine line;
    const std::string owners = fmt::format(",uid={},gid={}", settings.owner, settings.group);
    // What is read from a server or a stranger's disk is media, never a program.
    line.options = settings.writable ? "rw" : "ro";
    line.options += ",nosuid,nodev,noexec";
    if (const auto* const disk = std::get_if<Disk>(&settings.what)) {
        line.what = "/dev/disk/by-uuid/" + disk->system.id;
        line.address = "UUID=" + disk->system.id;
        line.type = disk->system.type;
        line.options += ",noatime";
        if (!disk->system.has_owners()) line.options += owners + ",umask=0022";
        if (line.type == "vfat") line.options += ",iocharset=utf8";
        line.network = false;
        return line;
    }
    const auto& at = std::get<Location>(settings.what);
    line.address = at.text();
    const std::string host = at.host.find(':') != std::string::npos ? "[" + at.host + "]" : at.host;
    if (at.scheme == base::Scheme::smb) {
        line.what = fmt::format("//{}/{}", at.host, joined(at.share, at.path));
        line.type = "cifs";
        line.options += settings.account.is_guest() ? ",guest" : ",credentials=" + account_path(settings.folder);
        // A server that is gone gives errors after a while, instead of hanging for ever.
        line.options += owners + ",file_mode=0644,dir_mode=0755,iocharset=utf8,soft,echo_interval=10";
    } else {
        line.what = fmt::format("{}:/{}", host, at.path);
        line.type = "nfs";
        line.options += fmt::format(",vers={},soft,timeo=100,retrans=2,noatime", settings.nfs_version);
    }
    if (at.port != 0) line.options += fmt::format(",port={}", at.port);
    return line;
}

std::string marks(const MountLine& line, const std::vector<std::string>& content) {
    std::string text = fmt::format("{}\n{}{}\n", kMark, kWhat, line.address);
    for (std::size_t i = 0; i < std::min(content.size(), kMostContent); ++i) {
        if (content[i].find('\n') == std::string::npos) text += fmt::format("{}{}\n", kContent, content[i]);
    }
    return text;
}

Status refuse_foreign(const base::Path& file, const std::string& before) {
    if (before.empty() || before.starts_with(kMark)) return {};
    return fail(ErrorKind::machine, "there is a file of this name, and another wrote it", file.string(),
                "move it away, or attach to another folder");
}

// fstab's lines without those this program wrote for a folder; nothing where somebody else wrote one for it.
Result<std::string> fstab_without(const std::string& text, const base::Path& folder, const base::Path& file) {
    std::string kept, pending;
    bool ours = false;
    int number = 0;
    for (const std::string& line : lines_of(text)) {
        ++number;
        if (line.starts_with(kMark)) {
            kept += pending;
            pending = line + "\n";
            ours = true;
            continue;
        }
        if (ours && line.starts_with("#")) {
            pending += line + "\n";
            continue;
        }
        const std::vector<std::string> fields = fields_of(line);
        const bool there = fields.size() >= 2 && fields[0][0] != '#' && from_fstab(fields[1]) == folder.string();
        if (there && !ours)
            return fail(ErrorKind::machine, "another line mounts something at this folder",
                        fmt::format("{}, line {}", file.string(), number),
                        "remove that line, or attach to another folder");
        if (!there) kept += pending + line + "\n";
        pending.clear();
        ours = false;
    }
    return kept + pending;
}

// What a mount is made of: a text without the names that were in the share.
std::string without_content(const std::string& text) {
    std::string out;
    for (const std::string& line : lines_of(text)) {
        if (!line.starts_with(kContent)) out += line + '\n';
    }
    return out;
}

bool is_for_root_alone(const base::Path& file) {
    struct stat info {};
    return ::stat(file.c_str(), &info) == 0 && (info.st_mode & 077) == 0;
}

// Leaves out what is there already, and has the mount made anew only where it differs: what is playing from it goes on.
AttachPlan only_changes(AttachPlan plan, const std::string& automount) {
    bool differs = !plan.removed.empty();
    std::erase_if(plan.files, [&](const PlannedFile& file) {
        const std::string there = read_if_there(file.path);
        differs = differs || without_content(there) != without_content(file.text);
        return there == file.text && (!file.secret || is_for_root_alone(file.path));
    });
    std::erase_if(plan.links, [](const PlannedLink& link) {
        std::error_code error;
        return std::filesystem::read_symlink(link.path, error) == link.to;
    });
    if (!plan.files.empty() || !plan.links.empty() || differs) plan.commands.push_back("systemctl daemon-reload");
    plan.commands.push_back(fmt::format("systemctl {} '{}'", differs ? "restart" : "start", automount));
    return plan;
}

}  // namespace

std::string unit_name(const base::Path& folder, const std::string& suffix) {
    std::string path = folder.lexically_normal().string();
    while (path.size() > 1 && path.back() == '/') path.pop_back();
    if (path == "/") return "-." + suffix;
    std::string name;
    for (std::size_t i = 1; i < path.size(); ++i) {
        const char c = path[i];
        const bool plain = (c >= '0' && c <= '9') || (c >= 'A' && c <= 'Z') || (c >= 'a' && c <= 'z') || c == ':' ||
                           c == '_' || (c == '.' && i > 1);
        name += c == '/' ? "-" : plain ? std::string(1, c) : fmt::format("\\x{:02x}", static_cast<unsigned char>(c));
    }
    return name + "." + suffix;
}

Result<AttachPlan> plan_attach(const AttachSettings& settings) {
    const std::string where = settings.folder.string();
    if (!settings.folder.is_absolute() || settings.folder.lexically_normal() == "/" ||
        where.find_first_of("\n\r") != std::string::npos)
        return fail(ErrorKind::usage, "this can't be a folder to attach to", where,
                    "name a folder of its own, e.g. /media/films");
    if (const auto* const at = std::get_if<Location>(&settings.what)) {
        if (at->scheme == base::Scheme::smb && at->share.empty())
            return fail(ErrorKind::usage, "the address names no share", at->text(),
                        "write its name behind the server's; wavecrest share prove lists them");
        if (at->scheme == base::Scheme::nfs && at->path.empty())
            return fail(ErrorKind::usage, "the address names no export", at->text(),
                        "write the folder's path behind the server's name");
        if (settings.account.password.find_first_of("\n\r") != std::string::npos)
            return fail(ErrorKind::usage, "a password with a line end can't be kept for mounting", at->text(),
                        "change the password at the server");
    }
    const base::Path folder_there = settings.root / settings.folder.relative_path();
    std::error_code error;
    struct stat inside {
    }, above{};
    const bool mounted = ::stat(folder_there.c_str(), &inside) == 0 &&
                         ::stat((folder_there / "..").c_str(), &above) == 0 && inside.st_dev != above.st_dev;
    if (std::filesystem::exists(folder_there, error) && !mounted) {
        if (!std::filesystem::is_directory(folder_there, error))
            return fail(ErrorKind::usage, "this is a file", where, "name a folder");
        if (!std::filesystem::is_empty(folder_there, error) && !error)
            return fail(ErrorKind::machine, "the folder has files in it, which would be hidden", where,
                        "move them, or attach to an empty folder");
    }
    const MountLine line = mount_of(settings);
    AttachPlan plan;
    const base::Path account_file = below(settings.root, account_path(settings.folder).c_str());
    if (!settings.account.is_guest()) {
        WAVECREST_TRY(refuse_foreign(account_file, read_if_there(account_file)));
        std::string text =
            fmt::format("{}\nusername={}\npassword={}\n", kMark, settings.account.user, settings.account.password);
        if (!settings.account.domain.empty()) text += fmt::format("domain={}\n", settings.account.domain);
        plan.files.push_back({account_file, std::move(text), true});
    } else if (std::filesystem::exists(account_file, error)) {
        plan.removed.push_back(account_file);
    }
    const std::string net_options = line.network ? ",_netdev" : "";
    const base::Path mount = units(settings.root) / unit_name(settings.folder, "mount");
    const base::Path automount = units(settings.root) / unit_name(settings.folder, "automount");
    const std::string table = read_if_there(fstab(settings.root));
    WAVECREST_TRY_ASSIGN(rest, fstab_without(table, settings.folder, fstab(settings.root)));
    WAVECREST_TRY(refuse_foreign(mount, read_if_there(mount)));
    WAVECREST_TRY(refuse_foreign(automount, read_if_there(automount)));
    if (settings.fstab) {
        // (nofail: the machine starts without it; automount: it is tried again with every look into the folder.)
        const std::string text =
            rest + marks(line, settings.content) +
            fmt::format("{} {} {} {}{}{},nofail,x-systemd.automount,x-systemd.mount-timeout=30s 0 0\n",
                        in_fstab(line.what), in_fstab(where), line.type, in_fstab(line.options), net_options,
                        line.network ? "" : ",x-systemd.device-timeout=15s");
        plan.files.push_back({fstab(settings.root), text, false});
        for (const base::Path& unit : {mount, automount}) {
            if (std::filesystem::exists(unit, error)) plan.removed.push_back(unit);
        }
        if (const base::Path link = wanted(settings.root, settings.folder); std::filesystem::is_symlink(link, error))
            plan.removed.push_back(link);
        return only_changes(std::move(plan), unit_name(settings.folder, "automount"));
    }
    if (rest != table) plan.files.push_back({fstab(settings.root), rest, false});
    const char* const after_network = line.network ? "Wants=network-online.target\nAfter=network-online.target\n" : "";
    plan.files.push_back(
        {mount,
         marks(line, settings.content) +
             fmt::format("[Unit]\nDescription={} at {}\n{}\n[Mount]\nWhat={}\nWhere={}\nType={}\nOptions={}{}\n"
                         "TimeoutSec=30\n",
                         in_unit(line.address), in_unit(where), after_network, in_unit(line.what), in_unit(where),
                         line.type, in_unit(line.options), net_options),
         false});
    plan.files.push_back({automount,
                          fmt::format("{}\n[Unit]\nDescription={} at {}, when it is looked into\n\n[Automount]\n"
                                      "Where={}\n\n[Install]\nWantedBy=multi-user.target\n",
                                      kMark, in_unit(line.address), in_unit(where), in_unit(where)),
                          false});
    plan.links.push_back(
        {wanted(settings.root, settings.folder), "/etc/systemd/system/" + unit_name(settings.folder, "automount")});
    return only_changes(std::move(plan), unit_name(settings.folder, "automount"));
}

Result<AttachPlan> plan_detach(const base::Path& folder, const base::Path& root) {
    AttachPlan plan;
    const std::string table = read_if_there(fstab(root));
    const auto rest = fstab_without(table, folder, fstab(root));
    if (rest && *rest != table) plan.files.push_back({fstab(root), *rest, false});
    for (const char* suffix : {"mount", "automount"}) {
        const base::Path unit = units(root) / unit_name(folder, suffix);
        if (read_if_there(unit).starts_with(kMark)) plan.removed.push_back(unit);
    }
    if (plan.files.empty() && plan.removed.empty())
        return fail(ErrorKind::usage, "nothing was attached there by wavecrest", folder.string(),
                    "wavecrest share check lists what is attached");
    std::error_code error;
    if (const base::Path link = wanted(root, folder); std::filesystem::is_symlink(link, error))
        plan.removed.push_back(link);
    const base::Path account = below(root, account_path(folder).c_str());
    if (read_if_there(account).starts_with(kMark)) plan.removed.push_back(account);
    plan.commands = {fmt::format("systemctl stop '{}'", unit_name(folder, "automount")),
                     fmt::format("systemctl stop '{}'", unit_name(folder, "mount")), "systemctl daemon-reload"};
    return plan;
}

Status carry_out(const AttachPlan& plan, const base::Path& folder_to_make) {
    std::error_code error;
    if (!folder_to_make.empty() && !std::filesystem::exists(folder_to_make, error)) {
        std::filesystem::create_directories(folder_to_make, error);
        if (error)
            return fail(ErrorKind::machine, fmt::format("the folder can't be made: {}", error.message()),
                        folder_to_make.string(), "run it as root (sudo)");
    }
    for (const PlannedFile& file : plan.files) {
        // Secrets are nobody else's from their first byte on.
        const mode_t before = ::umask(file.secret ? 077 : 022);
        const Status written =
            base::write_file(file.path, base::as_bytes(file.text), base::AtomicFile::IfExists::replace);
        ::umask(before);
        WAVECREST_TRY(written);
        ::chmod(file.path.c_str(), file.secret ? 0600 : 0644);
    }
    for (const PlannedLink& link : plan.links) {
        std::filesystem::create_directories(link.path.parent_path(), error);
        if (std::filesystem::is_symlink(link.path, error)) std::filesystem::remove(link.path, error);
        std::filesystem::create_symlink(link.to, link.path, error);
        if (error)
            return fail(ErrorKind::machine, fmt::format("the link can't be made: {}", error.message()),
                        link.path.string(), "run it as root (sudo)");
    }
    for (const base::Path& file : plan.removed) {
        if (!std::filesystem::remove(file, error) && error)
            return fail(ErrorKind::machine, fmt::format("the file can't be removed: {}", error.message()),
                        file.string(), "run it as root (sudo)");
    }
    return {};
}

std::vector<Attached> attached(const base::Path& root) {
    std::vector<Attached> all;
    const auto take_mark = [](const std::string& line, Attached& one) {
        if (line.starts_with(kWhat)) one.what = line.substr(kWhat.size());
        if (line.starts_with(kContent)) one.content.push_back(line.substr(kContent.size()));
    };
    std::error_code error;
    for (const auto& entry : std::filesystem::directory_iterator(units(root), error)) {
        if (entry.path().extension() != ".mount") continue;
        const std::string text = read_if_there(entry.path());
        if (!text.starts_with(kMark)) continue;
        Attached one;
        for (const std::string& line : lines_of(text)) {
            take_mark(line, one);
            if (line.starts_with("Options=ro,")) one.writable = false;
            if (!line.starts_with("Where=")) continue;
            std::string where;
            for (std::size_t i = 6; i < line.size(); ++i) {
                where += line[i];
                if (line[i] == '%') ++i;
            }
            one.folder = where;
        }
        if (!one.folder.empty()) all.push_back(std::move(one));
    }
    Attached one;
    bool ours = false;
    for (const std::string& line : lines_of(read_if_there(fstab(root)))) {
        if (line.starts_with(kMark)) {
            one = {};
            ours = true;
        } else if (ours && line.starts_with("#")) {
            take_mark(line, one);
        } else if (std::exchange(ours, false)) {
            const std::vector<std::string> fields = fields_of(line);
            if (fields.size() < 2) continue;
            one.folder = from_fstab(fields[1]);
            one.fstab = true;
            one.writable = fields.size() < 4 || !fields[3].starts_with("ro,");
            all.push_back(std::move(one));
        }
    }
    std::sort(all.begin(), all.end(), [](const Attached& a, const Attached& b) { return a.folder < b.folder; });
    return all;
}

Result<Account> account_of(const Attached& one, const base::Path& root) {
    const base::Path file = below(root, account_path(one.folder).c_str());
    std::error_code error;
    if (!std::filesystem::exists(file, error)) {
        if (error) return fail(ErrorKind::machine, "the account can't be read", file.string(), "run it as root (sudo)");
        return Account{};
    }
    WAVECREST_TRY_ASSIGN(text, base::read_text_file(file, 65536));
    Account account;
    for (const std::string& line : lines_of(text)) {
        if (line.starts_with("username=")) account.user = line.substr(9);
        if (line.starts_with("password=")) account.password = line.substr(9);
        if (line.starts_with("domain=")) account.domain = line.substr(7);
    }
    return account;
}

bool is_same_content(const Attached& one, const std::vector<std::string>& now) {
    return one.content.empty() || std::any_of(one.content.begin(), one.content.end(), [&](const std::string& name) {
               return std::find(now.begin(), now.end(), name) != now.end();
           });
}

std::optional<Error> missing_support(base::Scheme scheme) {
    const bool smb = scheme == base::Scheme::smb;
    const char* const name = smb ? "cifs" : "nfs";
    utsname system{};
    ::uname(&system);
    const base::Path modules = base::Path("/lib/modules") / static_cast<const char*>(system.release);
    const auto holds = [&](const base::Path& file, const std::string& what) {
        auto text = base::read_text_file(file, 64 << 20);
        return text && text->find(what) != std::string::npos;
    };
    const bool kernel = holds("/proc/filesystems", fmt::format("\t{}\n", name)) ||
                        holds(modules / "modules.dep", fmt::format("/{}.ko", name)) ||
                        holds(modules / "modules.builtin", fmt::format("/{}.ko", name));
    if (!kernel)
        return Error{ErrorKind::machine,
                     fmt::format("this machine's kernel can't mount {}", smb ? "SMB" : "NFS"),
                     static_cast<const char*>(system.release),
                     "give the address itself wherever a file is named: it is read without mounting",
                     {}};
    std::error_code error;
    const std::string helper = fmt::format("mount.{}", name);
    const bool helps =
        std::filesystem::exists("/sbin/" + helper, error) || std::filesystem::exists("/usr/sbin/" + helper, error);
    if (!helps)
        return Error{ErrorKind::machine,
                     fmt::format("{} is missing", helper),
                     "/sbin",
                     fmt::format("install it: apt install {}", smb ? "cifs-utils" : "nfs-common"),
                     {}};
    return std::nullopt;
}

}  // namespace wavecrest::share
