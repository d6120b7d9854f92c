#include "codec/pass_notes.hpp"

#include <cstdlib>
#include <filesystem>

namespace wavecrest::codec {

Result<std::shared_ptr<PassNotes>> PassNotes::create() {
    std::error_code error;
    std::string name = (std::filesystem::temp_directory_path(error) / "wavecrest-pass-XXXXXX").string();
    if (error || ::mkdtemp(name.data()) == nullptr)
        return fail(ErrorKind::machine, "there is no room for the notes of the first pass", name,
                    "make the folder for temporary files writable, or name another in the variable TMPDIR");
    return std::shared_ptr<PassNotes>(new PassNotes(name));
}

PassNotes::~PassNotes() {
    std::error_code error;
    std::filesystem::remove_all(folder_, error);
}

}  // namespace wavecrest::codec
