// Long encodes in pieces: each begins at a closed keyframe with an encoder of its own, and is kept on disk as soon as
// it is whole. A run that was killed goes on behind the last of them: what was finished is decoded again, not encoded,
// and the packets are those of a run without interruption.
#pragma once

#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "base/file.hpp"
#include "base/mutex.hpp"
#include "codec/video_encoder.hpp"

namespace wavecrest::transcode {

// Finished pieces of one conversion, in a hidden folder beside its file: ".NAME.pieces". One program at a time works
// with it. It is made with the first piece.
class PieceFolder {
  public:
    // What is there of another `key` (what is converted, and how) is removed. Fails (kind machine) when another program
    // works with it.
    static Result<std::shared_ptr<PieceFolder>> open(const base::Path& target, const std::string& key);
    PieceFolder(const PieceFolder&) = delete;
    PieceFolder& operator=(const PieceFolder&) = delete;
    ~PieceFolder();

    const base::Path& path() const { return path_; }
    // How many pieces of an encode are there, from its first on.
    int count(std::size_t encode) const;
    base::Path piece(std::size_t encode, int number) const;
    // Makes the folder where there is none yet. Encodes may call it at the same time, each on its own thread.
    Status make();
    // All pieces go.
    void remove();
    // Where the notes of an encode's first pass are kept, and what is to be known of finished first passes (any text).
    base::Path notes(std::size_t encode) const;
    Status keep_passes(const std::string& text);
    std::optional<std::string> passes() const;
    // From now on the conversion's files, known by their inodes, get their names, one after the other.
    Status begin_finishing(const std::vector<std::uint64_t>& inodes);
    // Whether this file is one of those that got their names before the program was killed.
    bool finished(const base::Path& file) const { return finished_in(path_, file); }
    // The same for the folder of a target that nobody has opened.
    static bool finished(const base::Path& target, const base::Path& file) { return finished_in(place(target), file); }

  private:
    static base::Path place(const base::Path& target);
    static bool finished_in(const base::Path& folder, const base::Path& file);
    PieceFolder(base::Path path, std::string key) : path_(std::move(path)), key_(std::move(key)) {}
    Status lock();

    base::Path path_;
    std::string key_;
    base::Mutex making_;
    int handle_ = -1;  // of the folder, locked; -1 until it is there. Made under making_, while encodes run
};

// Which pieces an encode is made in.
struct Pieces {
    Time length = base::from_seconds(60);  // about; pictures of a piece are counted, by the frame rate
    std::shared_ptr<PieceFolder> folder;   // shared by the encodes of a conversion; empty: nothing is kept
    std::size_t encode = 0;
};

// Pictures of a piece: whole distances between keyframes where these are fixed.
std::int64_t pictures_of_piece(const codec::VideoEncoderSettings& settings, Time length);

// An encoder that works in pieces. The decoder's buffer goes on from piece to piece, so that a peak holds across them.
// Fails as codec::make_video_encoder; later (kind machine) where a piece can't be written, and where the pictures are
// others than those of a piece that was kept, which is then removed: the next run begins anew.
Result<std::unique_ptr<media::VideoEncoder>> make_piecewise_encoder(const codec::VideoEncoderSettings& settings,
                                                                    const Pieces& pieces);

// What settings say, as text, for keys.
std::string key_of(const codec::VideoEncoderSettings& settings);

}  // namespace wavecrest::transcode
