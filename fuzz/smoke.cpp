// Every fuzz target for a moment, without coverage: on inputs kept from findings, on beginnings of sample files, and on
// damaged ones.
//
//   fuzz_smoke FINDINGS SAMPLES COUNT
//
// FINDINGS holds files named TARGET-...; SAMPLES is searched for files by their extensions; each target gets COUNT
// damaged inputs, the same ones at every run. An input that crashes or takes 10 s is left in ./fuzz-finding-TARGET.
#include <fcntl.h>
#include <fmt/format.h>
#include <signal.h>
#include <unistd.h>

#include <algorithm>
#include <filesystem>
#include <map>
#include <random>
#include <string>

#include "base/byte_source.hpp"
#include "targets.hpp"

using namespace wavecrest;

namespace {

const char* running = "";
ByteVector input;

void on_crash(int signal) {
    char name[64] = "fuzz-finding-";
    std::size_t size = std::char_traits<char>::length(name);
    for (const char* at = running; *at != 0 && size + 1 < sizeof name; ++at) name[size++] = *at;
    name[size] = 0;
    const int file = ::open(name, O_WRONLY | O_CREAT | O_TRUNC, 0644);
    if (::write(file, input.data(), input.size()) < 0 || ::write(STDERR_FILENO, name, size) < 0) _exit(2);
    _exit(signal == SIGALRM ? 3 : 1);
}

// What each target is fed with: extensions, and how many bytes of each file.
struct Food {
    std::vector<std::string> extensions;
    std::size_t most = 40'000;
};
const std::map<std::string, Food> kFood = {{"ifo", {{".IFO"}}},
                                           {"streams", {{".VOB", ".m2ts"}}},
                                           {"program", {{".VOB"}}},
                                           {"mp4", {{".mp4"}, 150'000}},
                                           {"matroska", {{".mkv"}}},
                                           {"transport", {{".ts", ".m2ts"}}},
                                           {"datagrams", {{".ts"}}},
                                           {"flv", {{".flv"}}},
                                           {"audio", {{".wav", ".aac", ".mp3"}}},
                                           {"playlist", {{".mpls"}}},
                                           {"ladder", {{".mpd", ".m3u8"}}},
                                           {"clip_info", {{".clpi"}}}};

std::vector<ByteVector> seeds_for(const std::string& name, const std::filesystem::path& findings,
                                  const std::filesystem::path& samples) {
    std::vector<ByteVector> seeds{ByteVector(64, 0)};
    const auto add = [&](const std::filesystem::path& path, std::size_t most) {
        auto file = base::FileSource::open(path);
        if (!file) return;
        ByteVector bytes(std::min<std::uint64_t>(most, file->size()));
        if (file->read_at(0, bytes)) seeds.push_back(std::move(bytes));
    };
    if (std::filesystem::is_directory(findings)) {
        for (const auto& entry : std::filesystem::directory_iterator(findings)) {
            if (entry.path().filename().string().starts_with(name + "-")) add(entry.path(), 1 << 20);
        }
    }
    const auto food = kFood.find(name);
    if (food == kFood.end()) return seeds;
    for (const auto& entry : std::filesystem::recursive_directory_iterator(samples)) {
        const auto& kinds = food->second.extensions;
        if (entry.is_regular_file() && seeds.size() < 8 &&
            std::find(kinds.begin(), kinds.end(), entry.path().extension().string()) != kinds.end())
            add(entry.path(), food->second.most);
    }
    return seeds;
}

// Bits flipped, numbers at their edges, pieces cut, repeated and exchanged for those of another input.
ByteVector damaged(const std::vector<ByteVector>& seeds, std::minstd_rand& random) {
    const auto pick = [&](std::size_t below) {
        return static_cast<std::size_t>(random()) % std::max<std::size_t>(below, 1);
    };
    ByteVector bytes = seeds[pick(seeds.size())];
    constexpr std::uint32_t kEdges[] = {0, 1, 0x7F, 0x80, 0xFF, 0x7FFF, 0xFFFF, 0x7FFFFFFF, 0x80000000, 0xFFFFFFFF};
    for (std::size_t i = 0, n = 1 + pick(8); i < n && !bytes.empty(); ++i) {
        // Headers lie in front: half of the damage goes there.
        const std::size_t at = pick(pick(2) == 0 ? std::min<std::size_t>(bytes.size(), 300) : bytes.size());
        const auto where = bytes.begin() + static_cast<std::ptrdiff_t>(at);
        const auto rest = std::min<std::ptrdiff_t>(bytes.end() - where, static_cast<std::ptrdiff_t>(1 + pick(200)));
        switch (pick(6)) {
            case 0:
                bytes[at] ^= static_cast<std::uint8_t>(1u << pick(8));
                break;
            case 1:
                for (std::size_t k = 0; k < 4 && at + k < bytes.size(); ++k)
                    bytes[at + k] = static_cast<std::uint8_t>(kEdges[pick(std::size(kEdges))] >> (24 - 8 * k));
                break;
            case 2:
                bytes.erase(where, where + rest);
                break;
            case 3: {
                const ByteVector piece(where, where + rest);
                bytes.insert(where, piece.begin(), piece.end());
                break;
            }
            case 4: {
                const ByteVector& other = seeds[pick(seeds.size())];
                const std::size_t from = pick(other.size());
                for (std::size_t k = 0; k < 200 && at + k < bytes.size() && from + k < other.size(); ++k)
                    bytes[at + k] = other[from + k];
                break;
            }
            default:
                bytes.resize(at);
        }
    }
    return bytes;
}

}  // namespace

int main(int argc, char** argv) {
    if (argc != 4) {
        fmt::print(stderr, "fuzz_smoke FINDINGS SAMPLES COUNT\n");
        return 2;
    }
    for (const int signal : {SIGSEGV, SIGBUS, SIGFPE, SIGILL, SIGABRT, SIGALRM}) ::signal(signal, on_crash);
    const int count = std::atoi(argv[3]);
    for (const FuzzTarget& target : fuzz_targets()) {
        running = target.name;
        const auto seeds = seeds_for(target.name, argv[1], argv[2]);
        if (kFood.contains(target.name) && seeds.size() < 2) fmt::print("{}: no sample to begin with\n", target.name);
        std::minstd_rand random(1);
        const auto feed = [&](ByteVector bytes) {
            input = std::move(bytes);
            ::alarm(10);
            target.run(input);
            ::alarm(0);
        };
        for (const ByteVector& seed : seeds) feed(seed);
        for (int i = 0; i < count; ++i) feed(damaged(seeds, random));
        fmt::print("{}: {} inputs\n", target.name, static_cast<int>(seeds.size()) + count);
    }
    return 0;
}
