#include "share/prove.hpp"

#include <fmt/format.h>
#include <netdb.h>
#include <sys/socket.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <cstring>
#include <random>
#include <thread>

#include "base/config.hpp"
#include "base/units.hpp"
#include "net/wire.hpp"
#include "share/onc_rpc.hpp"
#include "share/share.hpp"
#include "share/smb_probe.hpp"

namespace wavecrest::share {
namespace {

using State = ProofStep::State;
using Steady = std::chrono::steady_clock;
using namespace std::chrono_literals;

constexpr std::size_t kMostLooked = 20'000;  // names, on the way to a large file
constexpr int kDeepest = 5;
constexpr std::size_t kRated = 12;  // media files whose bit rate is looked at
constexpr std::size_t kRead = 1 << 20, kSeekRead = 64 << 10;
constexpr int kSeeks = 24;
constexpr auto kTogether = 3s;
// Peaks of a film and what else goes on want more than the average.
constexpr double kHeadroom = 1.25;

// A file below the folder, with where it is.
struct Found {
    std::string path;
    std::uint64_t size = 0;
};

std::string listed(std::vector<std::string> names) {
    constexpr std::size_t kMost = 8;
    const std::size_t left = names.size() > kMost ? names.size() - kMost : 0;
    names.resize(names.size() - left);
    return fmt::format("{}{}", fmt::join(names, ", "), left > 0 ? fmt::format(" and {} more", left) : "");
}

// "did you mean ...", and what there is.
std::string instead(const std::string& name, const std::vector<std::string>& there, const char* what) {
    if (there.empty()) return fmt::format("there are no {} at all", what);
    // (Names differ by case and blanks, too.)
    const auto plain = [](const std::string& text) {
        std::string out;
        for (const char c : text) {
            if (std::isalnum(static_cast<unsigned char>(c)) != 0 || static_cast<unsigned char>(c) >= 0x80)
                out += static_cast<char>(std::tolower(static_cast<unsigned char>(c)));
        }
        return out;
    };
    std::string near = base::nearest(name, there);
    for (const std::string& one : there) {
        if (near.empty() && !plain(name).empty() &&
            (plain(one).find(plain(name)) != std::string::npos || plain(name).find(plain(one)) != std::string::npos))
            near = one;
    }
    return near.empty() ? fmt::format("{}: {}", what, listed(there))
                        : fmt::format("did you mean \"{}\"? {}: {}", near, what, listed(there));
}

class Prover {
  public:
    Prover(const Location& at, Account account, const ProofSettings& settings, const Progress& progress,
           const Cancel& cancel)
        : at_(at), account_(std::move(account)), settings_(settings), progress_(progress), cancel_(cancel) {
        proof_.location = at;
        proof_.user = account_.user;
    }

    Result<Proof> run() {
        // Each says whether what follows makes sense.
        constexpr std::array<bool (Prover::*)(), 9> kSteps = {
            &Prover::find_host, &Prover::reach_port, &Prover::greet,     &Prover::enter_share, &Prover::find_folder,
            &Prover::list,      &Prover::read_one,   &Prover::write_one, &Prover::measure};
        for (const auto step : kSteps) {
            const bool goes_on = (this->*step)();
            if (cancel_.requested()) return base::interrupted();
            if (!goes_on) break;
        }
        return std::move(proof_);
    }

  private:
    bool passed(const char* name, std::string found) {
        proof_.steps.push_back({name, State::passed, std::move(found), ""});
        return true;
    }
    bool failed(const char* name, std::string found, std::string remedy) {
        proof_.steps.push_back({name, State::failed, std::move(found), std::move(remedy)});
        return false;
    }
    bool warned(const char* name, std::string found, std::string remedy) {
        proof_.steps.push_back({name, State::warning, std::move(found), std::move(remedy)});
        return true;
    }
    bool smb() const { return at_.scheme == base::Scheme::smb; }

    bool find_host() {
        addrinfo hints{};
        hints.ai_socktype = SOCK_STREAM;
        addrinfo* found = nullptr;
        if (::getaddrinfo(at_.host.c_str(), nullptr, &hints, &found) != 0 || found == nullptr)
            return failed("name", fmt::format("host name \"{}\" not found (DNS, mDNS)", at_.host),
                          "use its IP address: wavecrest share find lists file servers");
        std::array<char, 64> text{};
        ::getnameinfo(found->ai_addr, found->ai_addrlen, text.data(), text.size(), nullptr, 0, NI_NUMERICHOST);
        ::freeaddrinfo(found);
        address_ = text.data();
        if (address_ == at_.host) return true;  // it was none
        return passed("name", address_);
    }

    bool reach_port() {
        const auto socket = net::connect_tcp(at_.host, at_.port_used(), settings_.answer);
        if (socket) {
            ::close(*socket);
            return passed("port", fmt::format("{} open", at_.port_used()));
        }
        const char* const service = smb() ? "SMB" : "NFS";
        using Kind = net::WireError::Kind;
        if (socket.error().kind == Kind::refused)
            return failed("port", fmt::format("the host answers, but port {} is closed", at_.port_used()),
                          fmt::format("switch the {} service on at the server, or correct the port", service));
        if (socket.error().kind != Kind::timeout)
            return failed("host", fmt::format("can't be reached: {}", socket.error().text),
                          "check that it is switched on and in the same network, and its address");
        // Does anything of it answer? An open or a closed port says that the host is there.
        constexpr std::array<std::uint16_t, 8> kUsual = {445, 139, 2049, 111, 80, 443, 22, 53};
        for (const std::uint16_t port : kUsual) {
            if (port == at_.port_used() || cancel_.requested()) continue;
            const auto other = net::connect_tcp(at_.host, port, base::from_seconds(0.4));
            if (other) ::close(*other);
            if (other || other.error().kind == Kind::refused)
                return failed(
                    "port",
                    fmt::format("the host is there, but port {} doesn't answer: a firewall blocks it", at_.port_used()),
                    fmt::format("let {} (port {}) through the firewall of the server", service, at_.port_used()));
        }
        return failed("host", fmt::format("no answer within {}", base::format_span(settings_.answer)),
                      "check that it is switched on and in the same network, and its address");
    }

    bool greet() {
        if (!smb()) {
            const auto versions = nfs_versions(at_.host, at_.port_used(), settings_.answer);
            if (!versions) return failed("protocol", versions.error().what, versions.error().remedy);
            if (versions->empty())
                return failed("protocol", "the server speaks neither NFS 3 nor NFS 4", "switch NFS 4 on at the server");
            proof_.nfs_version = versions->front();
            has_three_ = versions->back() == 3;
            std::string text;
            for (const int version : *versions) text += fmt::format("{}NFS {}", text.empty() ? "" : ", ", version);
            return passed("protocol", text);
        }
        const auto probe = probe_smb(at_.host, at_.port_used(), account_, settings_.answer);
        if (!probe) return failed("protocol", probe.error().what, probe.error().remedy);
        const SmbLogon& logon = *probe->logon;
        passed("protocol", probe->greeting.version() + (logon.encrypted                    ? ", encrypted"
                                                        : probe->greeting.signing_required ? ", signed"
                                                                                           : ""));
        if (!logon.let_in()) {
            if (account_.is_guest())
                return failed("account", "the server lets no guests in", "name a user with --user");
            return failed("account", fmt::format("user \"{}\": {}", account_.user, logon.reason()),
                          "check the user and the password at the server");
        }
        if (logon.as_guest && !account_.is_guest())
            return failed("account",
                          fmt::format("the server doesn't know user \"{}\", and takes it for a guest", account_.user),
                          "correct the user name, or leave --user out to come as a guest");
        return passed("account", account_.is_guest() ? "guest" : account_.user);
    }

    std::shared_ptr<Connection> connect(const Location& at) const {
        Limits limits;
        limits.answer = settings_.answer;
        limits.cancel = &cancel_;
        return std::make_shared<Connection>(
            [at, who = account_, limit = limits.answer] {
                return at.scheme == base::Scheme::smb ? make_smb_client(at, who, limit) : make_nfs_client(at, limit);
            },
            limits);
    }
    Answer<std::vector<Entry>> entries_of(const std::string& folder) const {
        return connection_->ask<std::vector<Entry>>([folder](Client& client) { return client.list(folder); });
    }
    std::string reason(int error) const {
        switch (error) {
            case EACCES:
            case EPERM:
                return smb() ? fmt::format("{} may not", account_.is_guest() ? "a guest" : "this user")
                             : "this machine or user may not";
            case ETIMEDOUT:
                return fmt::format("no answer within {}", base::format_span(settings_.answer));
            case EIO:
                return "the connection failed";
            case kInGrace:
                return "the server has just been started and opens no files yet";
            default:
                return base::system_reason(error);
        }
    }

    bool enter_share() {
        connection_ = connect(at_);
        if (!smb()) return enter_export();
        const auto shares = [&] {
            Location server = at_;
            server.share.clear();
            const auto found = connect(server)->ask<std::vector<Entry>>([](Client& client) { return client.list(""); });
            std::vector<std::string> names;
            for (const Entry& one : found.value_or(std::vector<Entry>())) names.push_back(one.name);
            return names;
        };
        if (at_.share.empty())
            return failed("share", "the address names no share", "write one behind it: " + listed(shares()));
        const auto top = connection_->ask<Entry>([](Client& client) { return client.look(""); });
        if (top) return passed("share", at_.share);
        if (top.error() == EACCES || top.error() == EPERM) {
            const std::vector<std::string> there = shares();
            const bool known = std::find(there.begin(), there.end(), at_.share) != there.end();
            return failed("share",
                          fmt::format("{} may not use share \"{}\"{}",
                                      account_.is_guest() ? "a guest" : fmt::format("user \"{}\"", account_.user),
                                      at_.share, known ? "" : " (or it isn't there)"),
                          account_.is_guest()
                              ? "name a user with --user, or permit guests to use the share and its folder"
                              : "permit this user to use the share and its folder, or name another "
                                "with --user");
        }
        if (top.error() == ENOENT || top.error() == ENODEV)
            return failed("share",
                          fmt::format("there is no share \"{}\" (the name of a share need not be that of its "
                                      "folder)",
                                      at_.share),
                          instead(at_.share, shares(), "shares"));
        return failed("share", fmt::format("share \"{}\": {}", at_.share, reason(top.error())),
                      "look into the server's log");
    }

    bool enter_export() {
        Location server = at_;
        server.path.clear();
        const auto root = connect(server);
        const auto top = root->ask<std::vector<Entry>>([](Client& client) { return client.list(""); });
        if (top) {
            // By NFS 4 the path may be another than by NFS 3.
            const auto there = root->ask<Entry>([path = at_.path](Client& client) { return client.look(path); });
            if (!there && proof_.nfs_version == 4 && has_three_) proof_.nfs_version = 3;
            return passed("exports", base::format_count(top->size(), "folder"));
        }
        if (top.error() == EACCES || top.error() == EPERM)
            return failed("exports", "the server lets this machine mount nothing",
                          fmt::format("add the address of this machine to the server's exports"));
        return failed("exports", fmt::format("nothing can be mounted: {}", reason(top.error())),
                      "check the server's exports");
    }

    bool find_folder() {
        std::string so_far;
        for (const std::string& name : at_.names()) {
            const std::string next = joined(so_far, name);
            const auto entry = connection_->ask<Entry>([next](Client& client) { return client.look(next); });
            if (!entry) {
                if (entry.error() == EACCES || entry.error() == EPERM)
                    return failed("folder", fmt::format("{} look into \"{}\"", reason(EACCES), next),
                                  smb() ? "permit this user to read the folder at the server"
                                        : "export it to this machine, or permit this user to read it");
                if (entry.error() != ENOENT && entry.error() != ENOTDIR)
                    return failed("folder", fmt::format("\"{}\": {}", next, reason(entry.error())),
                                  "look into the server's log");
                std::vector<std::string> there;
                for (const Entry& one : entries_of(so_far).value_or(std::vector<Entry>())) there.push_back(one.name);
                return failed(
                    "folder",
                    fmt::format("there is no \"{}\"{}", name, so_far.empty() ? "" : fmt::format(" in \"{}\"", so_far)),
                    instead(name, there, "folders and files"));
            }
            is_file_ = !entry->folder;
            if (is_file_) file_ = {next, entry->size};
            so_far = next;
        }
        return so_far.empty() || passed("folder", so_far);
    }

    bool list() {
        if (is_file_) return true;
        const auto entries = entries_of(at_.path);
        if (!entries) {
            const bool permission = entries.error() == EACCES || entries.error() == EPERM;
            return failed(
                "list", permission ? reason(EACCES) + " list the folder" : reason(entries.error()),
                permission ? "permit this user to read the folder at the server" : "look into the server's log");
        }
        for (const Entry& one : *entries) {
            ++(one.folder ? proof_.folders : proof_.files);
            proof_.content.push_back(one.name);
        }
        std::sort(proof_.content.begin(), proof_.content.end());
        if (entries->empty())
            return failed("list", "the folder is empty",
                          smb() ? "if files are in it, they are hidden from this user: permit them to be read"
                                : "if files are in it, another disk is mounted there on the server: export that");
        passed("list", fmt::format("{}, {}", base::format_count(proof_.files, "file"),
                                   base::format_count(proof_.folders, "folder")));
        return true;
    }

    // Files below the folder, the largest first.
    std::vector<Found> look_around() const {
        std::vector<Found> found;
        std::vector<std::pair<std::string, int>> folders = {{at_.path, 0}};
        std::size_t looked = 0;
        const auto until = Steady::now() + 10s;
        for (std::size_t i = 0; i < folders.size() && looked < kMostLooked && Steady::now() < until; ++i) {
            const auto [folder, depth] = folders[i];
            const auto entries = entries_of(folder);
            if (!entries) continue;
            for (const Entry& one : *entries) {
                ++looked;
                const std::string path = joined(folder, one.name);
                if (one.folder && depth < kDeepest) folders.emplace_back(path, depth + 1);
                if (!one.folder && one.size > 0) found.push_back({path, one.size});
            }
        }
        std::sort(found.begin(), found.end(), [](const Found& a, const Found& b) { return a.size > b.size; });
        return found;
    }

    bool read_one() {
        files_ = is_file_ ? std::vector<Found>{file_} : look_around();
        if (files_.empty()) return warned("read", "there is no file to read", "put a film there, and prove it again");
        // Some may be somebody's alone.
        constexpr std::size_t kTried = 5;
        int error = 0;
        for (std::size_t i = 0; i < std::min(files_.size(), kTried); ++i) {
            const std::string path = files_[i].path;
            const auto got = connection_->ask<std::size_t>([path](Client& client) -> Answer<std::size_t> {
                const auto file = client.open(path, Client::Open::read);
                if (!file) return tl::make_unexpected(file.error());
                ByteVector bytes(kSeekRead);
                const auto read = client.read(*file, 0, bytes);
                (void)client.close(*file);
                return read;
            });
            if (got) {
                file_ = files_[i];
                proof_.file = at_.text_of(path);
                if (i > 0)
                    return warned(
                        "read",
                        fmt::format("\"{}\" can't be read: {}; \"{}\" can", files_[0].path, reason(error), path),
                        "permit this user to read all files in the folder");
                return passed("read", path);
            }
            error = got.error();
            if (i == 0 && error != EACCES && error != EPERM) break;
        }
        if (error == kInGrace) return failed("read", reason(error), "try again in two minutes");
        return failed("read",
                      fmt::format("\"{}\": {}", files_[0].path,
                                  error == EACCES || error == EPERM ? reason(EACCES) + " read files" : reason(error)),
                      "permit this user to read the files at the server");
    }

    bool write_one() {
        if (!settings_.write) return true;
        std::random_device random;
        const std::string path =
            joined(is_file_ ? "" : at_.path, fmt::format(".wavecrest-{:08x}{:08x}.test", random(), random()));
        const auto done = connection_->ask<bool>([path](Client& client) -> Answer<bool> {
            const auto file = client.open(path, Client::Open::make);
            if (!file) return tl::make_unexpected(file.error());
            const ByteVector bytes(1024, 0x57);
            const auto put = client.write(*file, 0, bytes);
            const auto closed = client.close(*file);
            const auto removed = client.remove(path);
            if (!put) return tl::make_unexpected(put.error());
            if (!closed) return tl::make_unexpected(closed.error());
            if (!removed) return tl::make_unexpected(removed.error());
            return true;
        });
        if (done) return passed("write", "a file was written and removed");
        const int error = done.error();
        // (What can be read is proved all the same.)
        failed("write",
               error == EROFS || error == EACCES || error == EPERM ? reason(EACCES) + " write here"
               : error == ENOSPC || error == EDQUOT                ? "the drive or the quota is full"
                                                                   : reason(error),
               error == ENOSPC || error == EDQUOT ? "make room on the server"
                                                  : "permit writing of this share and folder at the server");
        return true;
    }

    // Reads one file until the time is over; bits of each whole second. `from`: begins there, and again at the start.
    struct Reading {
        std::uint64_t bytes = 0;
        double seconds = 0;
        std::vector<double> per_second;
        int error = 0;
    };
    Reading read_for(Steady::duration length, std::uint64_t from, bool shown) const {
        Reading reading;
        const auto connection = connect(at_);
        const auto file =
            connection->ask<int>([path = file_.path](Client& client) { return client.open(path, Client::Open::read); });
        if (!file) {
            reading.error = file.error();
            return reading;
        }
        const auto begun = Steady::now();
        std::uint64_t offset = from / kRead * kRead, second = 0;
        std::size_t seconds = 0;
        while (Steady::now() - begun < length && !cancel_.requested()) {
            const auto got = connection->ask<std::size_t>([number = *file, offset](Client& client) {
                static thread_local ByteVector bytes(kRead);
                return client.read(number, offset, bytes);
            });
            if (!got) {
                reading.error = got.error();
                break;
            }
            offset = *got == 0 || offset + *got >= file_.size ? 0 : offset + *got;
            reading.bytes += *got;
            second += *got;
            const auto gone = std::chrono::duration<double>(Steady::now() - begun).count();
            if (gone >= static_cast<double>(seconds + 1)) {
                const double lasted = gone - static_cast<double>(seconds);
                reading.per_second.push_back(static_cast<double>(second) * 8 / lasted);
                seconds = static_cast<std::size_t>(gone);
                second = 0;
                if (shown && progress_)
                    progress_(
                        {base::from_seconds(gone), base::from_seconds(std::chrono::duration<double>(length).count())});
            }
        }
        reading.seconds = std::chrono::duration<double>(Steady::now() - begun).count();
        return reading;
    }

    bool measure() {
        if (files_.empty() || settings_.length.count() <= 0) return true;
        constexpr std::uint64_t kLeast = 256 << 10;
        if (file_.size < kLeast)
            return warned("speed",
                          fmt::format("the largest file has only {}: it tells nothing", base::format_bytes(file_.size)),
                          "put a film there, and prove it again");
        const auto length = std::chrono::duration_cast<Steady::duration>(
            std::chrono::duration<double>(base::to_seconds(settings_.length)));
        const Reading alone = read_for(length, 0, true);
        if (cancel_.requested()) return false;
        if (alone.error != 0)
            return failed("speed", fmt::format("reading broke off: {}", reason(alone.error)),
                          "check the network and the server's drive");
        const auto rate = [](const Reading& one) {
            return one.seconds > 0 ? static_cast<std::int64_t>(static_cast<double>(one.bytes) * 8 / one.seconds) : 0;
        };
        proof_.read_bps = rate(alone);
        proof_.slowest_bps =
            alone.per_second.empty()
                ? proof_.read_bps
                : static_cast<std::int64_t>(*std::min_element(alone.per_second.begin(), alone.per_second.end()));
        measure_seeks();
        proof_.readers = settings_.readers;
        std::vector<Reading> together(static_cast<std::size_t>(settings_.readers));
        std::vector<std::thread> threads;
        for (std::size_t i = 0; i < together.size(); ++i)
            threads.emplace_back([&, i] {
                together[i] =
                    read_for(std::min<Steady::duration>(kTogether, length), file_.size * i / together.size(), false);
            });
        for (std::thread& thread : threads) thread.join();
        for (const Reading& one : together) proof_.together_bps += rate(one);
        if (cancel_.requested()) return false;
        find_highest();
        return judge_speed();
    }

    void measure_seeks() {
        const auto file = connection_->ask<int>(
            [path = file_.path](Client& client) { return client.open(path, Client::Open::read); });
        if (!file) return;
        std::mt19937_64 random(1);
        std::vector<Time> times;
        for (int i = 0; i < kSeeks && !cancel_.requested(); ++i) {
            const std::uint64_t offset = file_.size > kSeekRead ? random() % (file_.size - kSeekRead) : 0;
            const auto before = Steady::now();
            const auto got = connection_->ask<std::size_t>([number = *file, offset](Client& client) {
                ByteVector bytes(kSeekRead);
                return client.read(number, offset, bytes);
            });
            if (!got) break;
            times.push_back(base::from_seconds(std::chrono::duration<double>(Steady::now() - before).count()));
        }
        (void)connection_->ask<void*>([number = *file](Client& client) -> Answer<void*> {
            (void)client.close(number);
            return nullptr;
        });
        if (times.empty()) return;
        std::sort(times.begin(), times.end());
        proof_.seek = times[times.size() / 2];
        proof_.slowest_seek = times.back();
    }

    void find_highest() {
        if (!settings_.rate_of) return;
        for (std::size_t i = 0; i < std::min(files_.size(), kRated) && !cancel_.requested(); ++i) {
            const auto rate = settings_.rate_of(at_.text_of(files_[i].path));
            if (!rate || *rate <= proof_.highest_bps) continue;
            proof_.highest_bps = *rate;
            proof_.highest = base::Path(files_[i].path).filename().string();
            proof_.file = at_.text_of(files_[i].path);
        }
    }

    bool judge_speed() {
        const std::string speed = base::format_bitrate(proof_.read_bps);
        if (proof_.highest_bps == 0)
            return warned("speed", speed + ", and no film to compare it with", "put a film there, and prove it again");
        const double need = static_cast<double>(proof_.highest_bps) * kHeadroom;
        const auto carried = std::max(proof_.read_bps, proof_.together_bps);
        proof_.at_once = static_cast<int>(static_cast<double>(carried) / need);
        const std::string films = fmt::format(", {} needed", base::format_bitrate(proof_.highest_bps));
        const char* const remedy = "connect server and this machine by gigabit Ethernet; check the server's drive";
        if (proof_.at_once == 0 || static_cast<double>(proof_.read_bps) < need)
            return failed("speed", speed + films + ": too slow", remedy);
        if (proof_.slowest_bps < proof_.highest_bps)
            return warned(
                "speed",
                fmt::format("{}{}, but {} for a second", speed, films, base::format_bitrate(proof_.slowest_bps)),
                remedy);
        return passed("speed", speed + films);
    }

    const Location at_;
    const Account account_;
    const ProofSettings& settings_;
    const Progress& progress_;
    const Cancel& cancel_;
    Proof proof_;
    std::string address_;
    std::shared_ptr<Connection> connection_;
    bool is_file_ = false, has_three_ = false;
    Found file_;
    std::vector<Found> files_;
};

}  // namespace

bool Proof::passed() const {
    return failure() == nullptr;
}
const ProofStep* Proof::failure() const {
    const auto found =
        std::find_if(steps.begin(), steps.end(), [](const ProofStep& step) { return step.state == State::failed; });
    return found != steps.end() ? &*found : nullptr;
}

Result<Proof> prove(const Location& location, const Account& account, const ProofSettings& settings,
                    const Progress& progress, const Cancel& cancel) {
    return Prover(location, account, settings, progress, cancel).run();
}

}  // namespace wavecrest::share
