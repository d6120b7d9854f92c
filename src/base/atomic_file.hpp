// Output that appears under its final name only when it is whole.
#pragma once

#include <string>
#include <vector>

#include "base/byte_sink.hpp"
#include "base/bytes.hpp"
#include "base/file.hpp"
#include "base/result.hpp"

namespace wavecrest::base {

// Writes beside the target under a hidden temporary name that nobody can foresee (.NAME.16-HEX-DIGITS.part, opened
// anew or not at all, never through a link); commit() makes it durable and renames it. Destroyed without commit (error,
// Ctrl-C) it leaves nothing behind. What a killed process left is removed by the next that writes in the same folder:
// the living hold a lock on theirs (see removed_leftovers()).
class AtomicFile : public ByteSink {
  public:
    enum class IfExists { refuse, replace };

    // Makes missing parent folders (removed again if the file is not committed). With `refuse`, fails when the
    // target exists already.
    static Result<AtomicFile> create(const Path& target, IfExists if_exists);
    AtomicFile(AtomicFile&& other) noexcept;
    AtomicFile& operator=(AtomicFile&&) = delete;
    ~AtomicFile() override;

    Status write(ByteSpan bytes) override;
    bool seeks_back() const override { return true; }
    Status write_at(std::uint64_t offset, ByteSpan bytes) override;
    std::uint64_t size() const override { return size_; }
    // Puts `count` bytes in front of what has been written, without copying it where the file system can
    // (then `count` must be a multiple of its block size), else by moving it. Call block_size() for the multiple.
    Status insert_front(ByteSpan bytes) override;
    std::size_t block_size() const override;
    Status commit() override;
    // The number the file system knows it by, now and under its final name (stat(2), st_ino).
    std::uint64_t inode() const;

  private:
    AtomicFile(Path target, Path temporary, int handle, IfExists if_exists, std::vector<Path> made_folders)
        : target_(std::move(target)),
          temporary_(std::move(temporary)),
          made_folders_(std::move(made_folders)),
          handle_(handle),
          if_exists_(if_exists) {}
    Status failed(const char* doing) const;

    Path target_;
    Path temporary_;
    std::vector<Path> made_folders_;
    int handle_ = -1;
    IfExists if_exists_;
    std::uint64_t size_ = 0;
};

// A folder filled under a hidden temporary name beside the target; commit() gives it its own. Destroyed without commit
// (error, Ctrl-C) it leaves nothing behind; killed, as AtomicFile.
class AtomicFolder {
  public:
    // Fails (kind machine) when the target exists already or can't be made.
    static Result<AtomicFolder> create(const Path& target);
    AtomicFolder(AtomicFolder&& other) noexcept;
    AtomicFolder& operator=(AtomicFolder&&) = delete;
    ~AtomicFolder();

    const Path& target() const { return target_; }
    // Where to put files until then.
    const Path& path() const { return temporary_; }
    Status commit();

  private:
    AtomicFolder(Path target, Path temporary, int lock)
        : target_(std::move(target)), temporary_(std::move(temporary)), lock_(lock) {}

    Path target_, temporary_;
    int lock_ = -1;  // on the temporary folder
};

// The hidden name of a file that isn't whole yet, as above, for other places that files are written to; whether a name
// is of this form.
std::string temporary_name(const std::string& name);
bool is_temporary_name(const std::string& name);

// Writes a whole small file atomically.
Status write_file(const Path& target, ByteSpan bytes, AtomicFile::IfExists if_exists);

// Unfinished files and folders of killed processes that were removed since the last call, for people to know of.
std::vector<Path> removed_leftovers();

// Removes temporary files that AtomicFile has open right now; for the second Ctrl-C, when the program must go at once.
void remove_unfinished_files() noexcept;

}  // namespace wavecrest::base
