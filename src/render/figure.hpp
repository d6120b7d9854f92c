// Figures, drawn by gnuplot into PNG files.
#pragma once

#include <string>
#include <utility>
#include <vector>

#include "base/file.hpp"
#include "base/result.hpp"

namespace wavecrest::render {

struct Series {
    // steps: each value lasts to the next point, filled below; marks: points with the series' name beside each
    enum class Style { line, steps, dashed, marks };
    std::string name;
    Style style = Style::line;
    int colour = 0;            // index into the palette
    bool second_axis = false;  // right-hand scale
    std::vector<std::pair<double, double>> points;
};

struct Band {  // a shaded interval of the x axis: a stall
    double from = 0;
    double to = 0;
};

struct Figure {
    std::string title;
    std::string x_label;
    std::string y_label;
    std::string y2_label;  // empty: no right-hand scale
    bool clock_x = true;   // x is seconds, shown as minutes:seconds
    bool from_zero = true;  // y begins at 0, else where the values do
    double y_most = 0;      // y ends there; 0: where the values do
    std::vector<Series> series;
    std::vector<Band> bands;
    std::string band_name;
};

// Draws at 1280x640 and writes atomically, replacing an earlier figure. Fails (kind machine) when gnuplot is missing.
Status write_png(const Figure& figure, const base::Path& target);

}  // namespace wavecrest::render
