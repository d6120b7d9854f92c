// How fast discs are inspected and read, against `cat` of the same image in the same run:
//
//   build/bench_disc [SECONDS]        seconds of sample disc for the reading part (60)
//
// Prints: inspect of a two-hour DVD and Blu-ray image (seconds, by the built program); reading a title's sectors, and
// its access units, as a fraction of the speed of cat (both cached); the memory that reading takes.
#include <fmt/format.h>
#include <sys/resource.h>
#include <unistd.h>

#include <algorithm>
#include <chrono>
#include <cstdlib>
#include <fstream>
#include <functional>

#include "disc/blu_ray_writer.hpp"
#include "disc/disc_files.hpp"
#include "disc/dvd_reader.hpp"
#include "disc/dvd_writer.hpp"
#include "disc/udf_writer.hpp"
#include "source/input.hpp"
#include "standin/sample_disc.hpp"

using namespace wavecrest;

namespace {

[[noreturn]] void stop(const Error& error) {
    fmt::print(stderr, "{}: {}\n", error.what, error.where);
    std::exit(1);
}
template <typename T>
T must(Result<T> result) {
    if (!result) stop(result.error());
    return std::move(*result);
}
void must(const Status& status) {
    if (!status) stop(status.error());
}

double seconds_of(const std::function<void()>& work) {
    const auto begin = std::chrono::steady_clock::now();
    work();
    return std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count();
}
double median(std::vector<double> values) {
    std::sort(values.begin(), values.end());
    return values[values.size() / 2];
}
double median_of(int runs, const std::function<void()>& work) {
    std::vector<double> times;
    for (int i = 0; i < runs; ++i) times.push_back(seconds_of(work));
    return median(times);
}
std::string quoted(const base::Path& path) {
    return "'" + path.string() + "'";
}

constexpr int kVobus = 14388;  // of 0.5005 s: two hours

void make_long_dvd(const base::Path& folder) {
    // Pictures small enough that the disc is written quickly: headers and a few bytes each; readers of tables don't
    // care.
    const ByteVector header = {0, 0,    1,    0xB3, 0x2D, 0x01, 0xE0, 0x34, 0x13, 0x88, 0x23, 0x80,
                               0, 0,    1,    0xB8, 0,    8,    0,    0x40, 0,    0,    1,    0x00,
                               0, 0x0F, 0xFF, 0xF8, 0,    0,    1,    0x01, 0x43, 0xF8};
    auto writer = must(disc::DvdWriter::create(folder));
    disc::DvdSetSettings settings;
    settings.audio = {{Codec::ac3, 2, 16, "en", Purpose::main}};
    must(writer.begin_set(settings));
    const int vob = writer.begin_vob();
    disc::DvdTitleSettings title;
    title.chapters.clear();
    for (int i = 0; i < kVobus; ++i) {
        if (i % (kVobus / 24) == 0 && title.cells.size() < 24) {
            title.chapters.push_back(title.cells.size());
            title.cells.push_back({{vob, writer.begin_cell()}});
        }
        disc::DvdGroup group;
        group.audio.resize(1);
        for (int n = 0; n < 15; ++n) group.pictures.push_back({header, 2});
        must(writer.add_group(group));
    }
    must(writer.end_vob());
    writer.add_title(title);
    must(writer.end_set());
    must(writer.finish());
}

void make_long_blu_ray(const base::Path& folder) {
    auto writer = must(disc::BluRayWriter::create(folder));
    disc::BluRayClipSettings clip;
    clip.video = {0x1011, 0x02, 6, 1, ""};
    clip.audio = {{0x1100, 0x81, 6, 1, "eng"}};
    must(writer.begin_clip(clip));
    const Ratio rate{24000, 1001};
    for (int i = 0; i < kVobus; ++i) {
        disc::BluRayGroup group;
        for (int n = 0; n < 12; ++n) {
            const Time at = base::frames_to_time(i * 12 + n, rate);
            group.pictures.push_back({ByteVector(100, 0x55), at, at, n == 0});
        }
        must(writer.add_group(group));
    }
    const auto times = must(writer.end_clip(base::frames_to_time(kVobus * 12, rate)));
    disc::blu_ray::Playlist playlist;
    disc::blu_ray::Playlist::Item item;
    item.clips = {"00001"};
    item.in_time = times.in_time;
    item.out_time = times.out_time;
    item.video = {clip.video};
    item.audio = clip.audio;
    playlist.items = {item};
    for (std::uint32_t i = 0; i < 24; ++i) playlist.chapters.push_back({0, times.in_time + i * 300 * 45000});
    must(writer.add_playlist("00800", playlist));
    must(writer.finish());
}

void measure_inspect(const base::Path& folder, const char* name, disc::UdfRevision revision, std::uint64_t full_size,
                     const std::function<void(const base::Path&)>& make) {
    const base::Path rip = folder / name, image = folder / fmt::format("{}.iso", name);
    make(rip);
    must(disc::write_udf_image(rip, image, name, revision));
    std::filesystem::remove_all(rip);
    std::filesystem::resize_file(image, std::max<std::uint64_t>(full_size, std::filesystem::file_size(image)));
    const std::string command = "build/wavecrest inspect " + quoted(image) + " >/dev/null 2>&1";
    if (std::system(command.c_str()) != 0) fmt::print(stderr, "inspect of {} failed\n", name);
    const double time = median_of(7, [&] { (void)std::system(command.c_str()); });
    fmt::print("inspect of a two-hour {} image of {:.1f} GB: {:.3f} s (limit 0.5)\n", name,
               static_cast<double>(std::filesystem::file_size(image)) / 1e9, time);
    std::filesystem::remove(image);
}

void measure_reading(const base::Path& folder, bool dvd, double seconds) {
    standin::DiscDescription description;
    description.kind = dvd ? standin::DiscDescription::Kind::dvd : standin::DiscDescription::Kind::blu_ray;
    description.definition =
        dvd ? standin::DiscDescription::Definition::high : standin::DiscDescription::Definition::standard;
    description.video_bps = 6'000'000;
    description.audio = {{Codec::ac3, 2, 16, "en", Purpose::main, 0}};
    standin::DiscDescription::Part part;
    part.name = "film";
    part.length = base::from_seconds(seconds);
    description.parts = {part};
    const base::Path image = folder / (dvd ? "dvd.iso" : "blu-ray.iso");
    const Cancel cancel;
    must(standin::make_disc(image, description, {}, cancel));
    const auto image_bytes = static_cast<double>(std::filesystem::file_size(image));
    // Many times over, so that the time cat takes to start does not count.
    constexpr int kCopies = 20;
    std::string cat = "cat";
    for (int i = 0; i < kCopies; ++i) cat += " " + quoted(image);
    cat += " >/dev/null";
    (void)std::system(cat.c_str());
    // In turns, so that what else the machine does hits all alike; times are for a byte.
    std::vector<double> reference, sectors, units;
    double title_bytes = 0;
    for (int run = 0; run < 9; ++run) {
        reference.push_back(seconds_of([&] { (void)std::system(cat.c_str()); }) / image_bytes / kCopies);
        const auto files = must(disc::open_image(image));
        const std::string name = dvd ? "VIDEO_TS/VTS_01_1.VOB" : "BDMV/STREAM/00001.m2ts";
        auto file = must(files->open(name));
        title_bytes = static_cast<double>(file->size());
        ByteVector buffer(128 << 10);
        sectors.push_back(seconds_of([&] {
                              for (std::uint64_t at = 0; at < file->size(); at += buffer.size())
                                  must(file->read_at(at, buffer));
                          }) /
                          title_bytes);
        const auto input = must(source::open_input(image));
        auto source = must(input->open(1));
        units.push_back(seconds_of([&] {
                            while (must(source->read())) {
                            }
                        }) /
                        title_bytes);
    }
    fmt::print(
        "{}: cat {:.2f} GB/s; a title's sectors at {:.2f} of it (goal 0.5), its access units at {:.3f} (goal 0.125)\n",
        dvd ? "DVD" : "Blu-ray", 1e-9 / median(reference), median(reference) / median(sectors),
        median(reference) / median(units));
    std::fflush(stdout);
    const base::Path self = std::filesystem::read_symlink("/proc/self/exe");
    (void)std::system(fmt::format("{} read {}", quoted(self), quoted(image)).c_str());
    std::filesystem::remove(image);
}

// Reads a title to its end, in a process of its own, and tells the memory that took.
int read_alone(const base::Path& image) {
    const auto input = must(source::open_input(image));
    auto source = must(input->open(1));
    while (must(source->read())) {
    }
    rusage usage{};
    getrusage(RUSAGE_SELF, &usage);
    fmt::print("  memory for reading alone: {:.1f} MB at most (limit 50)\n",
               static_cast<double>(usage.ru_maxrss) / 1000);
    return 0;
}

}  // namespace

int main(int argc, char** argv) {
    if (argc > 2 && std::string(argv[1]) == "read") return read_alone(argv[2]);
    const double seconds = argc > 1 ? std::atof(argv[1]) : 60;
    const base::Path folder =
        std::filesystem::temp_directory_path() / fmt::format("wavecrest-bench-disc.{}", ::getpid());
    std::filesystem::create_directories(folder);
    measure_inspect(folder, "dvd", disc::UdfRevision::dvd_video, 8'500'000'000, make_long_dvd);
    measure_inspect(folder, "blu-ray", disc::UdfRevision::blu_ray, 40'000'000'000, make_long_blu_ray);
    measure_reading(folder, true, seconds);
    measure_reading(folder, false, seconds);
    std::filesystem::remove_all(folder);
    return 0;
}
