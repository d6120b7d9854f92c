// The library of a large house: 20 000 films, episodes and pieces of music in folders. First scan against reading the
// same files' first bytes; a later one against asking the file system for them; browsing, searching, and memory.
// With MINUTES, each is a film of such a length: its index is whole, its data a hole in the file.
//   bench_library [ITEMS [MINUTES]]
#include <fmt/format.h>
#include <sys/resource.h>

#include <chrono>
#include <cstdlib>
#include <ctime>
#include <fstream>

#include "base/atomic_file.hpp"
#include "base/byte_source.hpp"
#include "base/file.hpp"
#include "container/mp4_reader.hpp"
#include "container/reader.hpp"
#include "container/writer.hpp"
#include "library/content.hpp"
#include "sample/clip.hpp"
#include "upnp/didl.hpp"

using namespace wavecrest;
using Clock = std::chrono::steady_clock;

namespace {

double since(Clock::time_point start) {
    return std::chrono::duration<double>(Clock::now() - start).count();
}
double processor() {
    return static_cast<double>(std::clock()) / CLOCKS_PER_SEC;
}
double resident_mb() {
    std::ifstream status("/proc/self/status");
    for (std::string line; std::getline(status, line);) {
        if (line.starts_with("VmRSS:")) return std::atof(line.c_str() + 6) / 1024;
    }
    return 0;
}

// The clip again and again, and its beginning with the index beside it as "index".
void lengthen(const base::Path& film, int minutes) {
    auto bytes = base::FileSource::open(film);
    if (!bytes) return;
    const base::Path longer = film.parent_path() / "long.mp4";
    {
        const auto shared = std::make_shared<base::FileSource>(std::move(*bytes));
        std::vector<Packet> packets;
        auto media = container::open_media(shared);
        auto sink = base::AtomicFile::create(longer, base::AtomicFile::IfExists::replace);
        if (!media || !sink) return;
        auto writer = container::create_media("mp4", std::move(*sink), media->source->tracks(), {});
        if (!writer) return;
        while (auto packet = media->source->read()) {
            if (!*packet) break;
            packets.push_back(**packet);
        }
        const Time length = media->source->duration();
        for (Time at{}; at < base::from_seconds(60.0 * minutes); at += length) {
            for (Packet packet : packets) {
                packet.pts += at;
                packet.dts += at;
                if (!(*writer)->write(packet)) return;
            }
        }
        if (!(*writer)->finish()) return;
    }
    std::filesystem::rename(longer, film);
    auto source = base::FileSource::open(film);
    if (!source) return;
    const auto movie = container::read_mp4(*source);
    if (!movie) return;
    std::ifstream in(film, std::ios::binary);
    std::vector<char> head(static_cast<std::size_t>(movie->index_end));
    in.read(head.data(), static_cast<std::streamsize>(head.size()));
    std::ofstream(film.parent_path() / "index", std::ios::binary)
        .write(head.data(), static_cast<std::streamsize>(head.size()));
    fmt::print("films of {} minutes, each with {:.2f} MB of index\n", minutes, static_cast<double>(head.size()) / 1e6);
}

}  // namespace

int main(int argc, char** argv) {
    const int items = argc > 1 ? std::atoi(argv[1]) : 20'000;
    const base::Path folder =
        std::filesystem::temp_directory_path() / fmt::format("bench-library-{}", std::time(nullptr));
    std::filesystem::create_directories(folder);
    sample::ClipVideo video;
    video.size = {320, 180};
    sample::Clip clip;
    clip.video = video;
    clip.length = base::from_seconds(2);
    Cancel cancel;
    const base::Path film = folder / "film.mp4";
    {
        auto sink = base::AtomicFile::create(film, base::AtomicFile::IfExists::replace);
        if (!sink || !sample::make_clip(clip, std::make_unique<base::AtomicFile>(std::move(*sink)), cancel)) {
            fmt::print(stderr, "the sample film can't be made\n");
            return 1;
        }
    }
    const int minutes = argc > 2 ? std::atoi(argv[2]) : 0;
    if (minutes > 0) lengthen(film, minutes);
    const auto copy = [&](const base::Path& to) {
        std::error_code error;
        if (minutes == 0) {
            std::filesystem::copy_file(film, to, error);
            return;
        }
        std::filesystem::copy_file(folder / "index", to, error);
        std::filesystem::resize_file(to, std::filesystem::file_size(film), error);
    };
    // Each file is one of its own (links would be read from the cache alone, too, but share their inode).
    const base::Path root = folder / "library";
    std::vector<base::Path> files;
    for (int i = 0; i < items; ++i) {
        const int kind = i % 2;
        const base::Path file =
            kind == 0 ? root / fmt::format("Film {} ({})/Film {} ({}).mp4", i, 1950 + i % 70, i, 1950 + i % 70)
                      : root / fmt::format("Series {}/Season {:02}/Series {} - S{:02}E{:02}.mp4", i / 200, i / 20 % 10,
                                           i / 200, i / 20 % 10, i % 20);
        std::filesystem::create_directories(file.parent_path());
        copy(file);
        files.push_back(file);
    }
    auto start = Clock::now();
    std::size_t bytes = 0;
    for (const base::Path& file : files) {
        std::ifstream in(file, std::ios::binary);
        char block[4096];
        in.read(block, sizeof block);
        bytes += static_cast<std::size_t>(in.gcount());
    }
    const double reading = since(start);

    const double before_mb = resident_mb();
    auto catalogue = library::Catalogue::open(folder / "library.db");
    if (!catalogue) return 1;
    const std::vector<library::Collection> collections = {{"All", root}};
    start = Clock::now();
    double cpu = processor();
    const auto first = (*catalogue)->scan(collections, 1, cancel);
    const double first_s = since(start), first_cpu = processor() - cpu;
    if (!first) return 1;
    const double after_mb = resident_mb();
    start = Clock::now();
    for (const base::Path& file : files) {
        std::error_code error;
        bytes += std::filesystem::file_size(file, error);
    }
    const double asking = since(start);
    start = Clock::now();
    const auto second = (*catalogue)->scan(collections, 2, cancel);
    const double second_s = since(start);
    fmt::print("{} files ({} in the catalogue), {} read\n", items, first->added, bytes > 0 ? "all" : "none");
    fmt::print("first scan   {:6.2f} s, {:.2f} s of processor; {:.1f} x reading 4 kB of each ({:.2f} s)\n", first_s,
               first_cpu, first_s / reading, reading);
    fmt::print("later scan   {:6.2f} s; {:.1f} x asking for each file's size ({:.2f} s){}\n", second_s,
               second_s / asking, asking, second && !second->any() ? "" : "  CHANGED");

    const library::Content content(**catalogue);
    const auto timed = [&](const char* what, const auto& ask) {
        std::vector<double> times;
        std::size_t found = 0;
        for (int i = 0; i < 21; ++i) {
            start = Clock::now();
            const auto result = ask();
            if (!result) return;
            found = upnp::write_didl(result->objects).size();
            times.push_back(since(start) * 1000);
        }
        std::sort(times.begin(), times.end());
        fmt::print("{:<28} median {:6.2f} ms, most {:6.2f} ms ({} bytes)\n", what, times[10], times.back(), found);
    };
    library::ContentAsked asked;
    asked.collections = {"All"};
    timed("browse the root", [&] { return content.children(asked, library::object_of); });
    asked.object = "films";
    asked.most = 50;
    timed("browse films, first 50", [&] { return content.children(asked, library::object_of); });
    asked.first = static_cast<std::size_t>(items) / 2 - 50;
    timed("browse films, last 50", [&] { return content.children(asked, library::object_of); });
    asked.first = 0;
    asked.sort = "-dc:date,+dc:title";
    timed("browse films by date", [&] { return content.children(asked, library::object_of); });
    asked.sort.clear();
    asked.object = "episodes";
    timed("browse series", [&] { return content.children(asked, library::object_of); });
    asked.object = "years";
    timed("browse years", [&] { return content.children(asked, library::object_of); });
    asked.object = "0";
    timed("search a word", [&] {
        return content.search(asked, "upnp:class derivedfrom \"object.item.videoItem\" and dc:title contains \"777\"",
                              library::object_of);
    });
    fmt::print("memory: {:.1f} MB before, {:.1f} MB after the first scan, {:.1f} MB at the end\n", before_mb, after_mb,
               resident_mb());
    std::error_code error;
    std::filesystem::remove_all(folder, error);
}
