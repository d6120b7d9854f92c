// A film for players of HTTP Live Streaming (RFC 8216), on demand: the playlist lists all of it, and each segment is
// made of the file when it is asked for. Nothing is stored, and every viewer pauses and skips for themselves. Subtitles
// of text in the file are given in segments beside it (stream/text_subtitles.hpp). A file that has changed since
// (copied on, cut short, replaced) is looked at anew; segments asked for last are kept in memory, at most 64 MB of all
// films.
#pragma once

#include <deque>
#include <list>
#include <memory>
#include <string>
#include <vector>

#include "base/address.hpp"
#include "base/mutex.hpp"
#include "base/result.hpp"
#include "media/flow.hpp"
#include "media/track_choice.hpp"
#include "stream/file_version.hpp"

namespace wavecrest::stream {

class FilmHls {
  public:
    // Looks at the headers. Fails (kind input) where nothing in it can be sent in transport packets, and (kind usage)
    // where there is nothing of what `choice` asks for.
    static Result<std::unique_ptr<FilmHls>> open(const base::Address& file, const TrackChoice& choice = {});
    ~FilmHls();

    // Of the file as it was looked at last; never waits for it.
    std::vector<Track> tracks() const;
    std::vector<Track> text_subtitles() const;
    const std::vector<std::string>& notes() const { return notes_; }  // as it was opened

    // From any thread; each may take as long as reading a few seconds of the file, the first playlist as long as
    // finding all keyframes near its segments' ends (an index tells them, or places are tried).
    // Segments' addresses are `stem`-NUMBER.ts, from 0, with
    // `query` ("?key=...") behind them.
    Result<std::string> playlist(const std::string& stem, const std::string& query = "");
    // The same of subtitles: of text_subtitles()[track], segments at `stem`-NUMBER.vtt.
    Result<std::string> subtitles_playlist(const std::string& stem, const std::string& query = "");
    // Both fail with kind usage where there is none of this number.
    Result<Bytes> segment(std::size_t number);
    Result<Bytes> subtitles_segment(std::size_t track, std::size_t number);

    // Where in the film the end of a segment lies; 0 while that isn't known.
    Time end_of(std::uint64_t number) const;

  private:
    // A reading that has got to the beginning of a segment: players ask for one after the other.
    struct Cursor;
    struct Start {
        Time shown{};  // its keyframe
        Time clock{};  // when sending it begins
    };
    struct Made {
        Bytes bytes;
        std::vector<Bytes> subtitles;
    };
    class Cache;

    FilmHls() = default;
    Status look() REQUIRES(mutex_);
    Status look_again() REQUIRES(mutex_);
    Status find_segments() REQUIRES(mutex_);
    Result<std::unique_ptr<PacketSource>> reopen() const;
    Result<std::unique_ptr<Cursor>> cursor_at(std::size_t number) REQUIRES(mutex_);
    Result<Made> make(Cursor& cursor, std::size_t number) REQUIRES(mutex_);
    Result<Made> made(std::size_t number) REQUIRES(mutex_);
    Result<std::string> list_of(const std::string& stem, const char* extension, const std::string& query);

    base::Address file_;
    TrackChoice choice_;
    std::vector<std::string> notes_;
    mutable base::Mutex shape_mutex_;                  // for whoever asks while the file is read
    std::vector<Time> ends_ GUARDED_BY(shape_mutex_);  // of the segments
    std::vector<Track> tracks_;                        // that are sent
    std::vector<Track> subtitles_;

    base::Mutex mutex_;  // of reading; its holder alone changes the tracks
    FileVersion version_ GUARDED_BY(mutex_);
    std::uint64_t state_ GUARDED_BY(mutex_) = 0;  // of the file, for the cache: no two have the same
    Time duration_ GUARDED_BY(mutex_){};
    std::vector<Start> starts_ GUARDED_BY(mutex_);                   // of the segments
    Time end_ GUARDED_BY(mutex_){};                                  // of the last
    std::list<std::unique_ptr<Cursor>> cursors_ GUARDED_BY(mutex_);  // the latest used in front
};

}  // namespace wavecrest::stream
