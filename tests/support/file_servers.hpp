// Real file servers for tests, from their packages, at a port of their own on this machine: Samba (SMB) and NFS-Ganesha
// (NFS 4). They need root's rights, as the packages have it.
#pragma once

#include <sys/types.h>

#include <string>
#include <vector>

#include "support/support.hpp"

namespace wavecrest::test {

// Ended with its object, with all that it began.
class ServerProcess {
  public:
    ~ServerProcess() { end(); }
    void begin(const std::vector<std::string>& command, const base::Path& log);
    void end();         // at once (SIGKILL)
    void hang() const;  // until it ends (SIGSTOP)

  private:
    pid_t pid_ = -1;
};

struct SharedFolder {
    std::string name;
    base::Path folder;
    std::string settings;  // lines of smb.conf; of NFS what stands in the EXPORT block
};

class SmbServer {
  public:
    // `global`: further lines of [global]. User "root" has the password "lantern".
    explicit SmbServer(std::vector<SharedFolder> shares, std::string global = "");
    void start();
    void stop() { process_.end(); }
    void hang() const { process_.hang(); }
    void set_password(const std::string& password) const;
    void share(std::vector<SharedFolder> shares);  // instead; after the next start
    std::uint16_t port() const { return port_; }
    // "smb://127.0.0.1:4450/films/lake.mp4"
    std::string address(const std::string& behind) const;

  private:
    base::Path conf() const { return dir_ / "smb.conf"; }
    const TempDir dir_;
    const std::string global_;
    std::uint16_t port_;
    ServerProcess process_;
};

class NfsServer {
  public:
    // `grace`: seconds in which a server that is started anew opens no files (RFC 7530, 9.6.2).
    explicit NfsServer(std::vector<SharedFolder> exports, int grace = 0);
    void start();
    void stop() { process_.end(); }
    void hang() const { process_.hang(); }
    std::uint16_t port() const { return port_; }
    std::string address(const std::string& behind) const;

  private:
    const TempDir dir_;
    std::uint16_t port_;
    ServerProcess process_;
};

}  // namespace wavecrest::test
