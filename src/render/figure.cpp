#include "render/figure.hpp"
#include "base/atomic_file.hpp"
#include "base/byte_source.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <spawn.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cmath>
#include <cstdlib>

extern char** environ;

namespace wavecrest::render {
namespace {

// Deep lake, amber, pine, brick: told apart in print and by the colour-blind.
constexpr const char* kPalette[] = {"#1f4e79", "#d98e04", "#2f7d5b", "#a8322a"};

std::string quoted(const std::string& text) {
    std::string out = "\"";
    for (const char c : text) {
        if (c == '"' || c == '\\') out += '\\';
        if (c == '_' || c == '^' || c == '@' || c == '{' || c == '}' || c == '&') out += "\\\\";  // enhanced text marks
        if (static_cast<unsigned char>(c) >= 32) out += c;
    }
    return out + "\"";
}

std::string script(const Figure& figure, const base::Path& target) {
    double x_max = figure.clock_x ? 1 : 0, y_min = 0;
    for (const Series& series : figure.series) {
        for (const auto& point : series.points) {
            x_max = std::max(x_max, point.first);
            y_min = std::min(y_min, point.second);
        }
    }
    std::string out = "set terminal pngcairo size 1280,640 font 'DejaVu Sans,13' background '#ffffff'\n";
    out += fmt::format("set output {}\n", quoted(target.string()));
    out += fmt::format("set title {} font ',15' offset 0,-0.3\nset xlabel {}\nset ylabel {}\n", quoted(figure.title),
                       quoted(figure.x_label), quoted(figure.y_label));
    out +=
        "set border 3 lc rgb '#555555'\nset tics nomirror textcolor rgb '#333333'\nset grid y lc rgb '#dddddd' lt 1 lw "
        "1\n"
        "set key tmargin center horizontal samplen 2\nset style fill solid 0.25 noborder\nset yrange [0:*]\nset "
        "offsets 0,0,graph 0.08,0\n";
    out += fmt::format("set xrange [0:{}]\n", figure.clock_x ? x_max : x_max * 1.08);
    // Between what lies closest to the edges some room, for names beside marks, too.
    if (!figure.from_zero)
        out += fmt::format("set yrange [*:{}]\nset offsets 0,0,graph {},graph 0.12\nset grid x\n",
                           figure.y_most > 0 ? fmt::format("{}", figure.y_most) : "*", figure.y_most > 0 ? 0.0 : 0.12);
    // Levels in decibels hang below 0.
    if (y_min < 0) out += fmt::format("set yrange [{}:0]\n", std::floor(y_min / 10) * 10);
    if (figure.clock_x) out += "set xdata time\nset timefmt '%s'\nset format x '%tM:%tS'\n";
    if (!figure.y2_label.empty())
        out += fmt::format("set y2label {}\nset y2tics\nset y2range [0:*]\nset border 11\n", quoted(figure.y2_label));
    int object = 1;
    for (const Band& band : figure.bands) {
        // A stall of a moment must still be seen.
        const double to = std::max(band.to, band.from + x_max / 400);
        out += fmt::format(
            "set object {} rectangle from first {},graph 0 to first {},graph 1 behind fc rgb '#a8322a' fs solid 0.18 "
            "noborder\n",
            object++, band.from, to);
    }
    std::string plots;
    bool below = false;  // every other, as neighbours lie close
    for (const Series& series : figure.series) {
        if (series.style != Series::Style::marks) continue;
        for (const auto& [x, y] : series.points) {
            const bool right = x > 0.7 * x_max;
            out += fmt::format(
                "set label {} at first {:.4f},{:.6f} {} offset character {},{} textcolor rgb '#333333'\n",
                quoted(series.name), x, y, right ? "right" : "left", right ? 0.6 : -0.6, below ? -0.9 : 0.8);
            below = !below;
        }
    }
    for (const Series& series : figure.series) {
        if (!plots.empty()) plots += ", ";
        const char* colour = kPalette[static_cast<std::size_t>(series.colour) % std::size(kPalette)];
        const char* axes = series.second_axis ? "x1y2" : "x1y1";
        const auto plot = [&](const char* with, const std::string& name) {
            return fmt::format("'-' using 1:2 axes {} with {} lc rgb '{}' {}", axes, with, colour, name);
        };
        const std::string name = "title " + quoted(series.name);
        switch (series.style) {
            case Series::Style::line:
                plots += plot("lines lw 2", name);
                break;
            case Series::Style::dashed:
                plots += plot("lines dt 2 lw 2", name);
                break;
            case Series::Style::marks:
                plots += plot("points pt 7 ps 1.6", "notitle");
                break;
            case Series::Style::steps:
                plots += plot("filledcurves y1=0", name) + ", " + plot("lines lw 2", "notitle");
                break;
        }
    }
    if (!figure.bands.empty())
        plots +=
            fmt::format(", NaN with filledcurves lc rgb '#a8322a' fs solid 0.18 title {}", quoted(figure.band_name));
    out += "plot " + plots + "\n";
    for (const Series& series : figure.series) {
        const bool steps = series.style == Series::Style::steps;
        std::string points;
        for (std::size_t i = 0; i < series.points.size(); ++i) {
            const auto& [x, y] = series.points[i];
            if (steps && i > 0)
                points += fmt::format("{:.4f} {:.6f}\n", x, series.points[i - 1].second);  // a step's corner
            points += fmt::format("{:.4f} {:.6f}\n", x, y);
        }
        for (int copies = steps ? 2 : 1; copies > 0; --copies) out += points + "e\n";
    }
    return out;
}

}  // namespace

Status write_png(const Figure& figure, const base::Path& target) {
    // gnuplot writes beside the target; the finished picture is then taken over atomically.
    const base::Path drawn =
        target.parent_path() / fmt::format(".{}.{}.drawing", target.filename().string(), ::getpid());
    int pipe_ends[2];
    if (::pipe2(pipe_ends, O_CLOEXEC) != 0)
        return fail(ErrorKind::machine, "can't create a pipe", target.string(), "close some programs");
    posix_spawn_file_actions_t actions;
    posix_spawn_file_actions_init(&actions);
    posix_spawn_file_actions_adddup2(&actions, pipe_ends[0], STDIN_FILENO);
    posix_spawn_file_actions_addopen(&actions, STDOUT_FILENO, "/dev/null", O_WRONLY, 0);
    posix_spawn_file_actions_addopen(&actions, STDERR_FILENO, "/dev/null", O_WRONLY, 0);
    char name[] = "gnuplot";
    char* arguments[] = {name, nullptr};
    pid_t child = 0;
    const int spawned = ::posix_spawnp(&child, name, &actions, nullptr, arguments, environ);
    posix_spawn_file_actions_destroy(&actions);
    ::close(pipe_ends[0]);
    if (spawned != 0) {
        ::close(pipe_ends[1]);
        return fail(ErrorKind::machine, "gnuplot, which draws the figures, is not installed", target.string(),
                    "install the package gnuplot-nox");
    }
    const std::string text = script(figure, drawn);
    std::size_t sent = 0;
    while (sent < text.size()) {
        const ssize_t n = ::write(pipe_ends[1], text.data() + sent, text.size() - sent);
        if (n < 0 && errno == EINTR) continue;
        if (n <= 0) break;
        sent += static_cast<std::size_t>(n);
    }
    ::close(pipe_ends[1]);
    int status = 0;
    while (::waitpid(child, &status, 0) < 0 && errno == EINTR) {
    }
    auto file = base::FileSource::open(drawn);
    Status result = fail(ErrorKind::machine, "gnuplot could not draw the figure", target.string(),
                         "check that the folder can be written to and the disk is not full");
    if (file && file->size() > 0 && WIFEXITED(status) && WEXITSTATUS(status) == 0) {
        auto bytes = base::read_exactly(*file, 0, file->size());
        result =
            bytes ? base::write_file(target, *bytes, base::AtomicFile::IfExists::replace) : Status(fail(bytes.error()));
    }
    ::unlink(drawn.c_str());
    return result;
}

}  // namespace wavecrest::render
