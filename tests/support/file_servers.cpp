#include "support/file_servers.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <signal.h>
#include <sys/prctl.h>
#include <sys/wait.h>
#include <unistd.h>

#include <catch2/catch.hpp>

namespace wavecrest::test {

void ServerProcess::begin(const std::vector<std::string>& command, const base::Path& log) {
    end();
    pid_ = ::fork();
    REQUIRE(pid_ >= 0);
    if (pid_ == 0) {
        ::prctl(PR_SET_PDEATHSIG, SIGKILL);
        ::setsid();
        const int out = ::open(log.c_str(), O_WRONLY | O_CREAT | O_APPEND, 0600);
        ::dup2(out, 1);
        ::dup2(out, 2);
        std::vector<char*> arguments;
        for (const std::string& one : command) arguments.push_back(const_cast<char*>(one.c_str()));
        arguments.push_back(nullptr);
        ::execv(arguments[0], arguments.data());
        ::_exit(127);
    }
}

void ServerProcess::end() {
    if (pid_ <= 0) return;
    ::kill(-pid_, SIGKILL);
    ::kill(pid_, SIGKILL);
    ::waitpid(pid_, nullptr, 0);
    pid_ = -1;
}

void ServerProcess::hang() const {
    ::kill(-pid_, SIGSTOP);
}

SmbServer::SmbServer(std::vector<SharedFolder> shares, std::string global)
    : global_(std::move(global)), port_(free_port()) {
    for (const char* folder : {"private", "state", "cache", "lock", "pid", "ncalrpc", "log"})
        std::filesystem::create_directory(dir_ / folder);
    share(std::move(shares));
    set_password("lantern");
    start();
}

void SmbServer::share(std::vector<SharedFolder> shares) {
    const std::string dir = dir_.path().string();
    // (Guests look into them as another user.)
    for (const SharedFolder& one : shares)
        std::filesystem::permissions(
            one.folder.parent_path() == std::filesystem::temp_directory_path() ? one.folder : one.folder.parent_path(),
            std::filesystem::perms(0755));
    std::string text = fmt::format(
        "[global]\nworkgroup = CEDAR\nserver role = standalone server\ninterfaces = lo\nbind interfaces only = yes\n"
        "smb ports = {0}\nprivate dir = {1}/private\nstate directory = {1}/state\ncache directory = {1}/cache\n"
        "lock directory = {1}/lock\npid directory = {1}/pid\nncalrpc dir = {1}/ncalrpc\nlog file = {1}/log/log\n"
        "passdb backend = tdbsam:{1}/private/passdb.tdb\nmap to guest = bad user\ndisable spoolss = yes\n"
        "load printers = no\nserver min protocol = SMB2\ndisable netbios = yes\n{2}\n",
        port_, dir, global_);
    for (const SharedFolder& one : shares)
        text += fmt::format("[{}]\npath = {}\n{}\n", one.name, one.folder.string(), one.settings);
    write_all(conf(), text);
}

void SmbServer::set_password(const std::string& password) const {
    const std::string command =
        fmt::format("printf '{0}\\n{0}\\n' | smbpasswd -c '{1}' -a -s root >/dev/null 2>&1", password, conf().string());
    REQUIRE(std::system(command.c_str()) == 0);
}

void SmbServer::start() {
    process_.begin(
        {"/usr/sbin/smbd", "-s", conf().string(), "--foreground", "--no-process-group", "-l", (dir_ / "log").string()},
        dir_ / "out");
    REQUIRE(wait_for_port(port_, 20'000));
}

std::string SmbServer::address(const std::string& behind) const {
    return fmt::format("smb://127.0.0.1:{}/{}", port_, behind);
}

NfsServer::NfsServer(std::vector<SharedFolder> exports, int grace) : port_(free_port()) {
    std::filesystem::create_directory(dir_ / "recovery");
    std::string text = fmt::format(
        "NFS_CORE_PARAM {{ NFS_Port = {}; Protocols = 4; Bind_addr = 127.0.0.1; Enable_NLM = false; Enable_RQUOTA = "
        "false; }}\nNFSv4 {{ RecoveryRoot = {}; RecoveryBackend = fs; Graceless = {}; Grace_Period = {}; "
        "Lease_Lifetime = {}; }}\n",
        port_, (dir_ / "recovery").string(), grace == 0, std::max(grace, 5), grace == 0 ? 5 : grace - 1);
    int number = 0;
    for (const SharedFolder& one : exports)
        text += fmt::format(
            "EXPORT {{ Export_Id = {}; Path = {}; Pseudo = /{}; SecType = sys; Protocols = 4; Transports = TCP; "
            "Squash = No_Root_Squash; {} FSAL {{ Name = VFS; }} }}\n",
            ++number, one.folder.string(), one.name, one.settings);
    write_all(dir_ / "ganesha.conf", text);
    start();
}

void NfsServer::start() {
    process_.begin({"/usr/bin/ganesha.nfsd", "-F", "-f", (dir_ / "ganesha.conf").string(), "-L",
                    (dir_ / "log").string(), "-p", (dir_ / "pid").string()},
                   dir_ / "out");
    REQUIRE(wait_for_port(port_, 20'000));
}

std::string NfsServer::address(const std::string& behind) const {
    return fmt::format("nfs://127.0.0.1:{}/{}", port_, behind);
}

}  // namespace wavecrest::test
