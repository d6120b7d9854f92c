// What tests share: temporary folders, the built program, sample material.
#pragma once

#include <sys/types.h>

#include <nlohmann/json_fwd.hpp>
#include <string>
#include <vector>

#include "base/bytes.hpp"
#include "base/file.hpp"
#include "media/types.hpp"
#include "net/http_client.hpp"

namespace wavecrest::test {

// A folder that goes with its object.
class TempDir {
  public:
    TempDir();
    ~TempDir();
    TempDir(const TempDir&) = delete;
    TempDir& operator=(const TempDir&) = delete;
    const base::Path& path() const { return path_; }
    base::Path operator/(const std::string& name) const { return path_ / name; }
    // Everything below it, as sorted relative names of files.
    std::vector<std::string> files() const;

  private:
    base::Path path_;
};

// A state folder of the test's own, for itself and the programs that it runs.
class OwnState {
  public:
    OwnState();
    ~OwnState();
    OwnState(const OwnState&) = delete;
    OwnState& operator=(const OwnState&) = delete;
    void enter() const;  // again, after somewhere else
    base::Path folder() const { return dir_ / "state"; }

  private:
    const TempDir dir_;
    std::string before_;
};

struct Ran {
    int status = -1;  // exit status; 128 + signal when killed
    std::string out;
    std::string err;
};
// Runs the built program in a folder; killed after the limit.
Ran run_program(const std::vector<std::string>& arguments, const base::Path& folder, int limit_seconds = 120);

// The JSON object a command printed; the test fails when it printed none.
nlohmann::json json_of(const Ran& ran);

// The program in the background; ended with SIGINT when the object goes.
class Background {
  public:
    // `open_files`: as from a shell with this `ulimit -n`; 0: with this process's.
    Background(const std::vector<std::string>& arguments, const base::Path& folder, int open_files = 0);
    ~Background();
    Background(const Background&) = delete;
    Background& operator=(const Background&) = delete;
    pid_t pid() const { return pid_; }
    // Of the process below it in which streams run.
    pid_t worker() const;
    // Sends a signal and waits for the end; the exit status.
    int end(int signal);
    // What it wrote on standard output and standard error so far.
    std::string output() const;
    // Waits until it has written this; false when it has not within ten seconds.
    bool has_written(const std::string& text) const;

  private:
    pid_t pid_ = -1;
    base::Path log_;
};
bool wait_for_port(std::uint16_t port, int limit_ms = 10000);
// http://127.0.0.1:PORT...
net::Url local_url(std::uint16_t port, const std::string& target);
// A TCP port nobody listens on right now.
std::uint16_t free_port();

// Makes a certificate for an address or a name, with its key, as PEM files: valid from now, or ended a day ago.
void make_certificate(const base::Path& certificate, const base::Path& key, const std::string& host,
                      bool ended = false);

// A connection to a port on this machine, on which this has been sent; to be closed by the caller.
int connect_to(std::uint16_t port, const std::string& text = "");

// Sends a raw request to a port on this machine and gives all that comes back until the connection ends or is idle.
std::string raw_exchange(std::uint16_t port, const std::string& request);

ByteVector read_all(const base::Path& path);
std::string read_text(const base::Path& path);
void write_all(const base::Path& path, ByteSpan bytes);
void write_all(const base::Path& path, const std::string& text);
// Writes a profile that encodes fast there, where the coding itself is not what is tested; its file name.
std::string quick_profile(const base::Path& folder);

// Decibels of PSNR of luma alone; both have the same size.
double luma_psnr(const Picture& a, const Picture& b);

// Where what tests share lies: the samples, and what tests make once for all. Fails the test where the samples are
// missing, which the fixture "samples" makes.
base::Path samples();
// Tests run as processes of their own, several at a time: the one that has its turn makes what lies at `path`, others
// wait for it.
class Turn {
  public:
    explicit Turn(const base::Path& path);
    ~Turn();
    Turn(const Turn&) = delete;
    Turn& operator=(const Turn&) = delete;

  private:
    int handle_;
};

// The sample disc's folder and the film converted from it (12 s main title, 3 s extra).
base::Path sample_disc();
base::Path sample_film();
// Remuxed into another container, as bytes.
ByteVector sample_film_in(const std::string& container);
// The main title as a ladder: 480p, 360p and 180p with keyframes every second, audio, and English text.
base::Path sample_ladder();
// Frames of the main title: 12 s at 24000/1001.
inline constexpr int kSampleFrames = 288;

// A copy of the sample disc that may be damaged.
void copy_disc(const base::Path& to);

}  // namespace wavecrest::test
