// From a name to packets: the one place that opens inputs. A disc has titles; a file is one title, number 1.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "base/file.hpp"
#include "media/flow.hpp"

namespace wavecrest::source {

struct Title {
    int number = 1;
    bool main = false;
    std::string why;  // why it is, or is not, the main one
    Time duration{};
    std::uint64_t size_bytes = 0;
    std::vector<Chapter> chapters;
    std::vector<Track> tracks;
    std::vector<Problem> problems;
};

class Input {
  public:
    virtual ~Input() = default;

    virtual std::string path() const = 0;
    virtual std::string container() const = 0;
    virtual bool is_disc() const = 0;
    // A name for the film taken from the folder or the file: not checked, without extension.
    virtual std::string name_hint() const = 0;
    virtual const std::vector<Title>& titles() const = 0;
    virtual const std::vector<std::string>& notes() const = 0;
    // Fails with the final status "protected" where the title is scrambled.
    virtual Status check_protection(int title) const = 0;
    virtual Result<std::vector<RatePiece>> rate(int title) const = 0;
    virtual Result<std::unique_ptr<PacketSource>> open(int title) const = 0;

    // "main" or a title number.
    Result<const Title*> pick(const std::string& choice) const;
};

// Opens a DVD-Video folder or an MP4 file. Anything else is refused by the name of what it is, if that can be told.
Result<std::unique_ptr<Input>> open_input(const base::Path& path);

}  // namespace wavecrest::source
