// A file on a share read in order, against the same file read from this machine's own disk, in the same run; and
// written there, against a copy that is synced (a copy alone is in memory when it is done).
//
//   bench_shares ADDRESS LOCAL [RUNS]     smb://HOST/SHARE/FILE and the same file here; how often (3). Into the folder
//   of
//                                         ADDRESS a file "bench-shares" is written and removed, where that is
//                                         permitted.
//
// A fair reference for a mount of the kernel is the link: name a server behind one (tbf on a veth), not loopback.
#include <fmt/core.h>
#include <unistd.h>

#include <algorithm>
#include <cstdlib>
#include <filesystem>

#include "base/atomic_file.hpp"
#include "base/byte_source.hpp"
#include "base/clock.hpp"
#include "share/account.hpp"
#include "share/share.hpp"
#include "share/upload.hpp"
#include "value.hpp"

using namespace wavecrest;

namespace {

double seconds_to_read(base::ByteSource& file) {
    const base::RealClock clock;
    ByteVector piece(256 << 10);
    for (std::uint64_t at = 0; at < file.size();) at += value(file.read_at(at, piece));
    return base::to_seconds(clock.now());
}

}  // namespace

int main(int argc, char** argv) {
    if (argc < 3) {
        fmt::print(stderr, "usage: bench_shares ADDRESS LOCAL [RUNS]\n");
        return 2;
    }
    const int runs = argc > 3 ? std::atoi(argv[3]) : 3;
    const auto location = value(share::parse_location(base::Address(argv[1])));
    const auto account = value(share::Accounts::load(share::accounts_file())).find(location);
    const auto share = value(share::Share::open(location, account));
    auto here = value(base::FileSource::open(argv[2]));
    double local = 1e9, remote = 1e9;
    for (int i = 0; i < runs; ++i) {
        local = std::min(local, seconds_to_read(here));
        const auto there = value(share->read(location.path));
        remote = std::min(remote, seconds_to_read(*there));
    }
    const double megabytes = static_cast<double>(here.size()) / 1e6;
    fmt::print("read: {:.0f} MB/s from the share, {:.0f} MB/s from here: {:.2f} of it\n", megabytes / remote,
               megabytes / local, local / remote);
    const std::string name = share::joined(base::Path(location.path).parent_path().string(), "bench-shares");
    const base::Path copy = std::filesystem::temp_directory_path() / fmt::format("bench-shares-{}", ::getpid());
    double copied = 1e9, uploaded = 1e9;
    for (int i = 0; i < runs; ++i) {
        const base::RealClock clock;
        {
            auto file = value(base::AtomicFile::create(copy, base::AtomicFile::IfExists::replace));
            ByteVector piece(1 << 20);
            for (std::uint64_t at = 0; at < here.size();) {
                const auto got = value(here.read_at(at, piece));
                if (!file.write(ByteSpan(piece).first(got))) return 1;
                at += got;
            }
            if (!file.commit()) return 1;
        }
        copied = std::min(copied, base::to_seconds(clock.now()));
        const base::RealClock second;
        if (const auto done = share::upload(*share, here, name); !done) {
            fmt::print("not written: {} ({})\n", done.error().what, done.error().where);
            break;
        }
        uploaded = std::min(uploaded, base::to_seconds(second.now()));
        (void)share->connection().ask<void>([name](share::Client& client) { return client.remove(name); });
    }
    std::filesystem::remove(copy);
    if (uploaded < 1e9)
        fmt::print("written: {:.0f} MB/s to the share, {:.0f} MB/s here, synced: {:.2f} of it\n", megabytes / uploaded,
                   megabytes / copied, copied / uploaded);
}
