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
    ~PassNotes();
    PassNotes(const PassNotes&) = delete;
    PassNotes& operator=(const PassNotes&) = delete;

    std::string file() const { return (folder_ / "pass").string(); }
    ByteVector bytes;

  private:
    explicit PassNotes(base::Path folder) : folder_(std::move(folder)) {}
    base::Path folder_;
};

}  // namespace wavecrest::codec
