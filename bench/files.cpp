// How fast files are opened, inspected to their ends and remuxed, against cat and cp of the same file in the same
// run:
//
//   build/bench_files [MEGABYTES]     size of the files that are read (1000); below 100 the long files are left out
//
// Prints: inspect of 50 GB files (sparse; seconds, by the built program); the structural pass of deep inspection as a
// fraction of the speed of cat; decoding as a multiple of the decoder alone; remuxing to MP4 as a fraction of the
// speed of cp and sync; and the memory of each.
#include <fcntl.h>
#include <fmt/format.h>
#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <chrono>
#include <cstdlib>
#include <functional>
#include <random>

#include "base/atomic_file.hpp"
#include "base/byte_source.hpp"
#include "bitstream/headers.hpp"
#include "codec/aac_encoder.hpp"
#include "codec/audio_decoder.hpp"
#include "codec/video_encoder.hpp"
#include "container/reader.hpp"
#include "container/writer.hpp"
#include "convert/remux.hpp"
#include "measure/deep.hpp"
#include "source/input.hpp"
#include "sample/test_card.hpp"

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
double median_of(int runs, const std::function<void()>& work) {
    std::vector<double> times;
    for (int i = 0; i < runs; ++i) times.push_back(seconds_of(work));
    std::sort(times.begin(), times.end());
    return times[times.size() / 2];
}
std::string quoted(const base::Path& path) {
    return "'" + path.string() + "'";
}
// Runs commands in a child that was split off while this process was small: what a child takes at most counts what its
// parent had when it was made.
class Runner {
  public:
    Runner() {
        if (::pipe(to_) != 0 || ::pipe(from_) != 0) std::abort();
        if (::fork() == 0) {
            ::close(to_[1]);
            std::string command;
            for (char c = 0; ::read(to_[0], &c, 1) == 1;) {
                if (c != '\n') {
                    command += c;
                    continue;
                }
                const pid_t child = ::fork();
                if (child == 0) {
                    ::execl("/bin/sh", "sh", "-c", ("exec " + command + " >/dev/null 2>&1").c_str(), nullptr);
                    ::_exit(127);
                }
                rusage usage{};
                int status = 0;
                ::wait4(child, &status, 0, &usage);
                const long kilobytes = status == 0 ? usage.ru_maxrss : -1;
                if (::write(from_[1], &kilobytes, sizeof(kilobytes)) < 0) break;
                command.clear();
            }
            ::_exit(0);
        }
        ::close(to_[0]);
    }
    ~Runner() { ::close(to_[1]); }
    // Megabytes that the command takes at most.
    double memory_of(const std::string& command) {
        const std::string line = command + "\n";
        long kilobytes = -1;
        if (::write(to_[1], line.data(), line.size()) < 0 || ::read(from_[0], &kilobytes, sizeof(kilobytes)) < 0 ||
            kilobytes < 0)
            stop({ErrorKind::machine, "the program failed", command, ""});
        return static_cast<double>(kilobytes) / 1024;
    }

  private:
    int to_[2] = {}, from_[2] = {};
};

struct Material {
    std::vector<Track> tracks;
    std::vector<Packet> packets;  // an interval, to be repeated
    Time length{};
};

// Two seconds of real H.264 and AAC, the pictures filled up to the rate of a Blu-ray disc with filler units (type 12).
Material make_material(std::int64_t bps) {
    Material m;
    codec::VideoEncoderSettings settings;
    settings.width = 1280;
    settings.height = 720;
    settings.frame_rate = {24, 1};
    settings.keyframe_distance = std::chrono::seconds(1);
    auto encoder = must(codec::make_video_encoder(settings));
    sample::CardSettings look;
    look.width = 1280;
    look.height = 720;
    const sample::TestCard card(look);
    std::vector<Packet> pictures, audio;
    for (int i = 0; i < 48; ++i) {
        Picture picture = card.draw(i);
        picture.pts = base::frames_to_time(i, {24, 1});
        picture.duration = base::frames_to_time(1, {24, 1});
        must(encoder->encode(picture, pictures));
    }
    must(encoder->flush(pictures));
    const auto wanted = static_cast<std::size_t>(bps / 8 / 24);
    std::mt19937 random(7);
    for (Packet& p : pictures) {
        ByteVector data(p.data.view().begin(), p.data.view().end());
        if (data.size() + 16 < wanted) {
            const std::size_t fill = wanted - data.size() - 4;
            for (const int shift : {24, 16, 8, 0}) data.push_back(static_cast<std::uint8_t>(fill >> shift));
            data.push_back(12);
            // (Bytes like those of coded pictures: no start code among them.)
            for (std::size_t i = 1; i < fill; ++i) data.push_back(static_cast<std::uint8_t>(random() % 255 + 1));
        }
        p.data = Bytes(std::move(data));
        p.track = 1;
    }
    auto aac = must(codec::make_aac_encoder(48000, 2, 160'000));
    AudioFrames tone;
    tone.sample_rate = 48000;
    tone.channels = 2;
    for (int i = 0; i < 96000; ++i)
        tone.samples.insert(tone.samples.end(), {0.2f * static_cast<float>(std::sin(i * 0.05)),
                                                 0.2f * static_cast<float>(std::sin(i * 0.06))});
    must(aac->encode(tone, audio));
    m.tracks = {encoder->track(), aac->track()};
    m.tracks[0].id = 1;
    m.tracks[1].id = 2;
    bitstream::describe_headers(m.tracks[0], pictures.front().data.view());
    for (Packet& p : audio) p.track = 2;
    while (audio.size() > 93) audio.pop_back();
    m.packets = std::move(pictures);
    m.packets.insert(m.packets.end(), audio.begin(), audio.end());
    std::stable_sort(m.packets.begin(), m.packets.end(),
                     [](const Packet& a, const Packet& b) { return a.dts < b.dts; });
    m.length = std::chrono::seconds(2);
    return m;
}

void write_long(const Material& m, const base::Path& path, std::string_view format, std::uint64_t bytes) {
    auto file = must(base::AtomicFile::create(path, base::AtomicFile::IfExists::replace));
    auto writer = must(container::create_media(format, std::move(file), m.tracks, {}));
    std::uint64_t written = 0;
    for (Time at{}; written < bytes; at += m.length) {
        for (Packet p : m.packets) {
            p.pts += at;
            p.dts += at;
            written += p.data.size();
            must(writer->write(p));
        }
    }
    must(writer->finish());
}

std::unique_ptr<PacketSource> open(const base::Path& path) {
    auto file = must(base::FileSource::open(path));
    return std::move(must(container::open_media(std::make_shared<base::FileSource>(std::move(file)))).source);
}

// A file of 50 GB that takes little room: its beginning and end are real, between lies a hole of whole pieces of it.
void inspect_large(const base::Path& folder, const std::string& program) {
    const Material m = make_material(40'000'000);
    for (const char* format : {"mpeg-ts", "matroska"}) {
        const base::Path path = folder / ("large" + std::string(container::extension_of(format)));
        write_long(m, path, format, 200 << 20);
        const int handle = ::open(path.c_str(), O_RDWR);
        const std::uint64_t size = std::filesystem::file_size(path);
        // The tail is copied to 50 GB.
        ByteVector tail(16 << 20);
        if (::pread(handle, tail.data(), tail.size(), static_cast<off_t>(size - tail.size())) < 0) std::abort();
        const std::uint64_t target = 50ull << 30;
        const std::uint64_t place = (target - tail.size()) / 188 * 188 + (size - tail.size()) % 188;
        if (::pwrite(handle, tail.data(), tail.size(), static_cast<off_t>(place)) < 0) std::abort();
        ::close(handle);
        const double took = median_of(5, [&] {
            if (std::system((program + " inspect --json " + quoted(path) + " > /dev/null 2>&1").c_str()) != 0)
                std::abort();
        });
        fmt::print("inspect of a 50 GB {} file: {:.3f} s (limit 0.3)\n", format, took);
        std::filesystem::remove(path);
    }
    // An MP4 file whose index is as long as that of 50 GB: ten hours of pictures and audio.
    Material small = make_material(0);
    const base::Path path = folder / "large.mp4";
    {
        auto file = must(base::AtomicFile::create(path, base::AtomicFile::IfExists::replace));
        auto writer = must(container::create_media("mp4", std::move(file), small.tracks, {}));
        for (Packet& p : small.packets)
            p.data = Bytes(ByteVector(
                p.data.view().begin(),
                p.data.view().begin() + static_cast<std::ptrdiff_t>(std::min<std::size_t>(p.data.size(), 64))));
        for (Time at{}; at < base::from_seconds(36000); at += small.length) {
            for (Packet p : small.packets) {
                p.pts += at;
                p.dts += at;
                must(writer->write(p));
            }
        }
        must(writer->finish());
    }
    const double took = median_of(5, [&] {
        if (std::system((program + " inspect --json " + quoted(path) + " > /dev/null 2>&1").c_str()) != 0) std::abort();
    });
    fmt::print("inspect of an mp4 file of ten hours ({} samples): {:.3f} s (limit 0.3)\n",
               36000 / 2 * small.packets.size(), took);
    std::filesystem::remove(path);
}

}  // namespace

int main(int argc, char** argv) {
    Runner runner;
    const std::uint64_t bytes = static_cast<std::uint64_t>(argc > 1 ? std::atoi(argv[1]) : 1000) << 20;
    const base::Path program = std::filesystem::read_symlink("/proc/self/exe").parent_path() / "wavecrest";
    const base::Path folder = std::filesystem::temp_directory_path() / fmt::format("wavecrest-bench-{}", ::getpid());
    std::filesystem::create_directories(folder);
    const bool with_long = bytes >= std::uint64_t{100} << 20;
    if (with_long) inspect_large(folder, quoted(program));

    const base::Cancel cancel;
    if (with_long) {
        // Half an hour of audio alone: more than is measured from beginning to end.
        Material audio = make_material(0);
        audio.tracks.erase(audio.tracks.begin());
        std::erase_if(audio.packets, [](const Packet& p) { return p.track == 1; });
        const base::Path path = folder / "audio.mp4";
        write_long(audio, path, "mp4", 36 << 20);
        auto source = open(path);
        const Time length = source->duration();
        const auto report = must(measure::measure_deep(*source, {}, {}, {}, cancel));
        source = open(path);
        auto decoder = must(codec::make_audio_decoder(source->tracks()[0]));
        std::vector<Packet> packets;
        while (auto packet = must(source->read())) packets.push_back(std::move(*packet));
        std::vector<AudioFrames> audio_frames;
        const double alone = median_of(3, [&] {
            for (const Packet& packet : packets) {
                audio_frames.clear();
                must(decoder->decode(packet, audio_frames));
            }
        });
        fmt::print(
            "loudness of {:.0f} minutes of AAC: {:.2f} s, {:.2f} of the decoder alone over all of it (limit 1.3)\n",
            base::to_seconds(length) / 60, report.decoding_seconds, report.decoding_seconds / alone);
    }
    const Material m = make_material(30'000'000);
    for (const char* format : {"mpeg-ts", "matroska", "mp4"}) {
        const base::Path path = folder / ("a" + std::string(container::extension_of(format)));
        write_long(m, path, format, bytes);
        const auto size = static_cast<double>(std::filesystem::file_size(path));
        const auto cat = [&] {
            if (std::system(("cat " + quoted(path) + " > /dev/null").c_str()) != 0) std::abort();
        };
        cat();
        const double reference = median_of(5, cat);
        const double structure = median_of(3, [&] {
            auto source = open(path);
            measure::DeepSettings settings;
            settings.decode = false;
            must(measure::measure_deep(*source, {}, settings, {}, cancel));
        });
        fmt::print(
            "{}: cat {:.2f} GB/s; deep inspection, structure: {:.2f} GB/s, {:.3f} of cat (limit 0.12, goal 0.2), "
            "{:.0f} MB of memory\n",
            format, size / reference / 1e9, size / structure / 1e9, reference / structure,
            runner.memory_of(quoted(program) + " inspect --deep --json " + quoted(path)));
        if (std::string_view(format) == "mp4") continue;
        const base::Path copy = folder / "copy", library = folder / "library";
        const double copied = median_of(3, [&] {
            std::filesystem::remove(copy);
            if (std::system(("cp " + quoted(path) + " " + quoted(copy) + " && sync " + quoted(copy)).c_str()) != 0)
                std::abort();
        });
        const auto remux = [&] {
            std::filesystem::remove_all(library);
            const auto input = must(source::open_input(path));
            convert::RemuxRequest request;
            request.format = "mp4";
            request.into = library;
            const auto plans = must(convert::plan_remux(*input, request));
            must(convert::run_remux(*input, plans.front(), {}, cancel));
        };
        const double remuxed = median_of(3, remux);
        fmt::print(
            "  remuxing to MP4: {:.2f} s, cp and sync {:.2f} s: {:.2f} of its speed (limit 0.5), {:.0f} MB of "
            "memory\n",
            remuxed, copied, copied / remuxed,
            runner.memory_of(quoted(program) + " convert " + quoted(path) + " --remux mp4 -q --name Memory --into " +
                             quoted(library)));
        std::filesystem::remove(copy);
        std::filesystem::remove_all(library);
        std::filesystem::remove(path);
    }
    std::filesystem::remove_all(folder);
    return 0;
}
