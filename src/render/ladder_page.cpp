#include "render/ladder_page.hpp"

#include <kainjow/mustache.hpp>

#include "base/embedded.hpp"

namespace wavecrest::render {

Result<std::string> ladder_page(const std::string& title, const std::string& playlist, const std::string& manifest) {
    std::string_view text;
    for (const base::EmbeddedFile& file : base::embedded_files()) {
        if (file.name == "templates/ladder.mustache") text = file.text;
    }
    kainjow::mustache::mustache page{std::string(text)};
    if (!page.is_valid())
        return fail(ErrorKind::input, "the page template is damaged: " + page.error_message(), "ladder.mustache",
                    "install the program anew");
    kainjow::mustache::data data;
    data.set("title", title);
    data.set("playlist", playlist);
    data.set("manifest", manifest);
    return page.render(data);
}

}  // namespace wavecrest::render
