#include "codec/text_renderer.hpp"

#include <ass/ass.h>
#include <fmt/format.h>

#include <algorithm>
#include <string>
#include <vector>

namespace wavecrest::codec {
namespace {

constexpr int kLetterShare = 18;  // the picture's height over that of a line
constexpr std::size_t kMostAtOnce = 8;
constexpr std::size_t kLongestText = 4000;

class TextRenderer : public media::SubtitleDecoder {
  public:
    ~TextRenderer() override {
        if (track_ != nullptr) ass_free_track(track_);
        if (renderer_ != nullptr) ass_renderer_done(renderer_);
        if (library_ != nullptr) ass_library_done(library_);
    }
    TextRenderer(const TextRenderer&) = delete;
    TextRenderer& operator=(const TextRenderer&) = delete;

    static Result<std::unique_ptr<media::SubtitleDecoder>> create(int width, int height, Ratio pixel_aspect) {
        std::unique_ptr<TextRenderer> self(new TextRenderer(width, height));
        self->library_ = ass_library_init();
        if (self->library_ == nullptr) return no_fonts();
        ass_set_message_cb(
            self->library_, [](int, const char*, va_list, void*) {}, nullptr);
        self->renderer_ = ass_renderer_init(self->library_);
        if (self->renderer_ == nullptr) return no_fonts();
        ass_set_frame_size(self->renderer_, width, height);
        ass_set_storage_size(self->renderer_, width, height);
        // Letters keep their shape on pixels that are not square. (The library wants what to draw them out by.)
        ass_set_pixel_aspect(self->renderer_, 1 / pixel_aspect.value());
        ass_set_fonts(self->renderer_, nullptr, "sans-serif", ASS_FONTPROVIDER_AUTODETECT, nullptr, 1);
        // Whether there is any font is known when something was drawn.
        if (self->drawn({{Time{}, base::from_seconds(1), "Ag"}}).empty()) return no_fonts();
        return std::unique_ptr<media::SubtitleDecoder>(std::move(self));
    }

    void decode(const Packet& packet, std::vector<Overlay>& out) override {
        const ByteSpan bytes = packet.data.view();
        if (bytes.empty() || packet.duration.count() <= 0) return;
        std::erase_if(shown_, [&](const Cue& cue) { return cue.to <= packet.pts; });
        std::string text(bytes.begin(), bytes.end());
        text.resize(std::min(text.size(), kLongestText));
        shown_.push_back({packet.pts, packet.pts + packet.duration, std::move(text)});
        if (shown_.size() > kMostAtOnce) shown_.erase(shown_.begin());
        show(packet.pts, shown_, out);
        // What is left when one after the other ends.
        std::vector<Cue> left = shown_;
        std::sort(left.begin(), left.end(), [](const Cue& a, const Cue& b) { return a.to < b.to; });
        while (!left.empty()) {
            const Time end = left.front().to;
            std::vector<Cue> still;
            for (const Cue& cue : shown_) {
                if (cue.to > end) still.push_back(cue);
            }
            show(end, still, out);
            std::erase_if(left, [&](const Cue& cue) { return cue.to <= end; });
        }
    }

  private:
    struct Cue {
        Time from{}, to{};
        std::string text;
    };

    TextRenderer(int width, int height) : width_(width), height_(height) {}

    static tl::unexpected<Error> no_fonts() {
        return fail(ErrorKind::machine, "there is no font to draw subtitles with", "",
                    "install one, for example with: apt install fonts-dejavu-core");
    }

    // A script of all cues that are shown at once (Advanced SubStation Alpha, which the library reads).
    std::string script_of(const std::vector<Cue>& cues) const {
        const int size = std::max(height_ / kLetterShare, 8), margin = height_ / 20;
        std::string script = fmt::format(
            "[Script Info]\nScriptType: v4.00+\nPlayResX: {0}\nPlayResY: {1}\nWrapStyle: 0\nScaledBorderAndShadow: "
            "yes\n"
            "[V4+ Styles]\nFormat: Name, Fontname, Fontsize, PrimaryColour, SecondaryColour, OutlineColour, "
            "BackColour, "
            "Bold, Italic, Underline, StrikeOut, ScaleX, ScaleY, Spacing, Angle, BorderStyle, Outline, Shadow, "
            "Alignment, "
            "MarginL, MarginR, MarginV, Encoding\n"
            "Style: "
            "Default,sans-serif,{2},&H00FFFFFF,&H00FFFFFF,&H00000000,&H00000000,0,0,0,0,100,100,0,0,1,{3:.1f},0,2,"
            "{4},{4},{4},1\n[Events]\nFormat: Layer, Start, End, Style, Name, MarginL, MarginR, MarginV, Effect, "
            "Text\n",
            width_, height_, size, std::max(size / 14.0, 1.0), margin);
        for (const Cue& cue : cues) {
            std::string text;
            for (const char c : cue.text) {
                // What would be commands there is text here.
                if (c == '{' || c == '\\') {
                    text += c == '{' ? "\\{" : "\\\xE2\x81\xA0";  // (a word joiner keeps a backslash to itself)
                } else if (c == '\n') {
                    text += "\\N";
                } else if (static_cast<unsigned char>(c) >= 32) {
                    text += c;
                }
            }
            script += "Dialogue: 0,0:00:00.00,1:00:00.00,Default,,0,0,0,," + text + "\n";
        }
        return script;
    }

    std::vector<Overlay::Region> drawn(const std::vector<Cue>& cues) {
        std::vector<Overlay::Region> regions;
        if (cues.empty()) return regions;
        std::string script = script_of(cues);
        if (track_ != nullptr) ass_free_track(track_);
        track_ = ass_read_memory(library_, script.data(), script.size(), nullptr);
        if (track_ == nullptr) return regions;
        for (const ASS_Image* image = ass_render_frame(renderer_, track_, 1000, nullptr); image != nullptr;
             image = image->next) {
            if (image->w <= 0 || image->h <= 0) continue;
            regions.push_back(region_of(*image));
        }
        return regions;
    }

    // An image of one colour whose points are more or less opaque.
    static Overlay::Region region_of(const ASS_Image& image) {
        Overlay::Region region;
        region.x = image.dst_x;
        region.y = image.dst_y;
        region.width = image.w;
        region.height = image.h;
        // Of grey: red alone tells its level.
        const auto level = static_cast<int>(image.color >> 24);
        const int opaque = 255 - static_cast<int>(image.color & 0xFF);
        for (int alpha = 0; alpha < 256; ++alpha) {
            Overlay::Colour colour;
            colour.y = static_cast<std::uint16_t>(16 + 219 * level / 255);
            colour.opacity = static_cast<std::uint8_t>(alpha * opaque / 255);
            region.colours.push_back(colour);
        }
        region.pixels.reserve(static_cast<std::size_t>(image.w) * static_cast<std::size_t>(image.h));
        for (int y = 0; y < image.h; ++y) {
            const unsigned char* const row = image.bitmap + std::ptrdiff_t{y} * image.stride;
            region.pixels.insert(region.pixels.end(), row, row + image.w);
        }
        return region;
    }

    void show(Time at, const std::vector<Cue>& cues, std::vector<Overlay>& out) {
        Overlay overlay;
        overlay.pts = at;
        overlay.canvas_width = width_;
        overlay.canvas_height = height_;
        overlay.regions = drawn(cues);
        out.push_back(std::move(overlay));
    }

    int width_, height_;
    ASS_Library* library_ = nullptr;
    ASS_Renderer* renderer_ = nullptr;
    ASS_Track* track_ = nullptr;
    std::vector<Cue> shown_;  // and those that came before and still are
};

}  // namespace

Result<std::unique_ptr<media::SubtitleDecoder>> make_text_renderer(int width, int height, Ratio pixel_aspect) {
    return TextRenderer::create(width, height, pixel_aspect);
}

}  // namespace wavecrest::codec
