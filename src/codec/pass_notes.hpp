// What the first of two passes finds out about a video, for the second to spread its bits by.
#pragma once

#include <memory>
#include <string>

#include "base/bytes.hpp"
#include "base/file.hpp"
#include "base/result.hpp"

namespace wavecrest::codec {

// Some libraries give it as bytes, others write files, for which there is a folder that goes with the object.
class PassNotes {
  public:
    static Result<std::shared_ptr<PassNotes>> create();
    // In a folder of the caller's, where they stay; made where there is none.
    static Result<std::shared_ptr<PassNotes>> create_in(const base::Path& folder);
    // What keep() wrote there.
    static Result<std::shared_ptr<PassNotes>> load(const base::Path& folder);
    // Writes all through to the disk. Of notes in the caller's folder.
    Status keep() const;
    ~PassNotes();
    PassNotes(const PassNotes&) = delete;
    PassNotes& operator=(const PassNotes&) = delete;

    std::string file() const { return (folder_ / "pass").string(); }
    ByteVector bytes;

  private:
    PassNotes(base::Path folder, bool stays) : folder_(std::move(folder)), stays_(stays) {}
    base::Path folder_;
    bool stays_;
};

}  // namespace wavecrest::codec
