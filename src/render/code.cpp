#include "render/code.hpp"

#include <qrencode.h>

#include <memory>

namespace wavecrest::render {

std::string qr_code(const std::string& text) {
    const std::unique_ptr<QRcode, decltype(&::QRcode_free)> code(
        ::QRcode_encodeString8bit(text.c_str(), 0, QR_ECLEVEL_L), ::QRcode_free);
    if (!code) return "";
    constexpr int kMargin = 2;  // cameras manage with less than the standard's four on a screen
    const auto dark = [&](int x, int y) {
        return x >= 0 && y >= 0 && x < code->width && y < code->width && (code->data[y * code->width + x] & 1) != 0;
    };
    // Two rows a line; white is the ground, drawn too.
    std::string out;
    for (int y = -kMargin; y < code->width + kMargin; y += 2) {
        out += "\033[30;107m";
        for (int x = -kMargin; x < code->width + kMargin; ++x) {
            const bool upper = dark(x, y), lower = y + 1 < code->width + kMargin && dark(x, y + 1);
            out += upper && lower ? "\u2588" : upper ? "\u2580" : lower ? "\u2584" : " ";
        }
        out += "\033[0m\n";
    }
    return out;
}

}  // namespace wavecrest::render
