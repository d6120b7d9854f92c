#include "codec/pass_notes.hpp"

#include <fcntl.h>
#include <unistd.h>

#include <cerrno>
#include <cstdlib>
#include <filesystem>

#include "base/atomic_file.hpp"
#include "base/byte_source.hpp"

namespace wavecrest::codec {
namespace {

constexpr const char* kBytes = "bytes";

}  // namespace

Result<std::shared_ptr<PassNotes>> PassNotes::create() {
    std::error_code error;
    std::string name = (std::filesystem::temp_directory_path(error) / "wavecrest-pass-XXXXXX").string();
    if (error || ::mkdtemp(name.data()) == nullptr)
        return fail(ErrorKind::machine, "there is no room for the notes of the first pass", name,
                    "make the folder for temporary files writable, or name another in the variable TMPDIR");
    return std::shared_ptr<PassNotes>(new PassNotes(name, false));
}

Result<std::shared_ptr<PassNotes>> PassNotes::create_in(const base::Path& folder) {
    std::error_code error;
    std::filesystem::create_directories(folder, error);
    if (error)
        return fail(ErrorKind::machine, "the folder can't be made: " + error.message(), folder.string(),
                    "choose a folder you may write to");
    return std::shared_ptr<PassNotes>(new PassNotes(folder, true));
}

Result<std::shared_ptr<PassNotes>> PassNotes::load(const base::Path& folder) {
    std::shared_ptr<PassNotes> notes(new PassNotes(folder, true));
    WAVECREST_TRY_ASSIGN(file, base::FileSource::open(folder / kBytes));
    WAVECREST_TRY_ASSIGN(bytes, base::read_exactly(file, 0, static_cast<std::size_t>(file.size())));
    notes->bytes = std::move(bytes);
    return notes;
}

Status PassNotes::keep() const {
    WAVECREST_TRY(base::write_file(folder_ / kBytes, bytes, base::AtomicFile::IfExists::replace));
    // What libraries wrote, too.
    std::error_code error;
    for (auto entry = std::filesystem::directory_iterator(folder_, error);
         !error && entry != std::filesystem::directory_iterator(); entry.increment(error)) {
        const int handle = ::open(entry->path().c_str(), O_RDONLY | O_CLOEXEC);
        const bool synced = handle >= 0 && ::fsync(handle) == 0;
        const int reason = errno;
        if (handle >= 0) ::close(handle);
        if (!synced)
            return fail(ErrorKind::machine, "writing to the disk failed: " + base::system_reason(reason),
                        entry->path().string(), "check the drive or share");
    }
    return {};
}

PassNotes::~PassNotes() {
    if (stays_) return;
    std::error_code error;
    std::filesystem::remove_all(folder_, error);
}

}  // namespace wavecrest::codec
