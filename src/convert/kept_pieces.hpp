// Pieces of a conversion that an earlier run finished, and the notes of its first passes: what of them can be used, and
// what stays when this run fails, too (transcode/pieces.hpp).
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "convert/convert.hpp"
#include "transcode/pieces.hpp"

namespace wavecrest::convert {

// What is converted, and how, as far as pictures hang on it.
std::string key_of(const Plan& plan, const std::string& digest);

// Where finished pieces are kept; nothing where that is no use.
class KeptPieces {
  public:
    bool refused = false;  // for its losses, which the next run may accept

    // Fails (kind machine) when another program converts to this file.
    static Result<KeptPieces> open(const source::Input& input, const Plan& plan);

    bool finished(const base::Path& file) const { return folder_ && folder_->finished(file); }
    Status begin_finishing(const std::vector<std::uint64_t>& inodes);
    bool any() const { return folder_ && (folder_->count(0) > 0 || folder_->passes()); }
    bool has_passes() const { return folder_ && folder_->passes(); }

    // Gives the encodes of two passes something to note in.
    Status take_notes(transcode::GraphSettings& graph);
    // Keeps them when the first passes are over, with the rates that were found.
    Status keep_notes(const transcode::GraphSettings& graph);
    // What an earlier run kept; false where that can't be used.
    bool restore_notes(transcode::GraphSettings& graph) const;

    void give_up() { folder_.reset(); }
    // Has encodes made in pieces. What an earlier run finished of all of them.
    Time use(transcode::GraphSettings& graph, Time length) const;
    void remove();
    // Of a run that failed: they stay where the next can use them, and the error's remedy says so.
    Error after(Error error, bool useful, Time length);

  private:
    std::shared_ptr<transcode::PieceFolder> folder_;
    std::vector<base::Path> missing_;  // folders, the innermost first
};

}  // namespace wavecrest::convert
