// From a name to packets: the one place that opens inputs. A disc has titles; a file is one title, number 1.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "base/address.hpp"
#include "base/byte_source.hpp"
#include "base/file.hpp"
#include "base/units.hpp"
#include "disc/choose.hpp"
#include "disc/disc_files.hpp"
#include "media/flow.hpp"
#include "media/tags.hpp"

namespace wavecrest::source {

struct Title {
    int number = 1;
    bool main = false;
    disc::Role role = disc::Role::film;
    int same_as = 0;  // of a duplicate
    std::string why;  // why it is, or is not, the one to take
    Time duration{};
    std::uint64_t size_bytes = 0;
    int angles = 1;
    std::vector<Chapter> chapters;
    std::vector<disc::TitleShape::Segment> segments;  // cells, clips; empty for files
    std::vector<Track> tracks;
    std::vector<Problem> problems;
    media::Tags tags;                      // of music
    std::vector<std::string> differences;  // what the data says otherwise than the tables
    // Of a ladder: the encodes of its video, the best first; `tracks` are those of the best.
    struct Rung {
        std::string name, codecs;
        base::Size size;
        double fps = 0;
        std::int64_t peak_bps = 0, average_bps = 0;  // with audio, as promised; 0: not told
    };
    std::vector<Rung> rungs;
};

// What to convert: a title, or the part of one that is an episode.
struct Pick {
    std::shared_ptr<const Title> title;  // always there; outlives the input
    int episode = 0;                     // from 1; 0: none
    Time start{};
    Time end{};  // 0: to the title's end

    Time duration() const { return (end.count() > 0 ? end : title->duration) - start; }
    bool whole() const { return start.count() == 0 && end.count() == 0; }
};

class Input {
  public:
    virtual ~Input() = default;

    virtual std::string path() const = 0;
    virtual std::string container() const = 0;
    virtual bool is_disc() const = 0;
    // Whether it can be opened again and again; what comes over a pipe or a live address is there once.
    virtual bool reopens() const { return true; }
    // A name for the film taken from the folder, the volume or the file: not checked, without extension.
    virtual std::string name_hint() const = 0;
    virtual const std::vector<Title>& titles() const = 0;
    virtual const std::vector<disc::Episode>& episodes() const = 0;
    virtual const std::vector<std::string>& notes() const = 0;
    // Fails with the final status "protected" where the title is scrambled.
    virtual Status check_protection(int title) const = 0;
    virtual Result<std::vector<RatePiece>> rate(int title) const = 0;
    virtual Result<std::unique_ptr<PacketSource>> open(int title, int angle = 1) const = 0;

    // "main", "episodes", "all" (leaving out duplicates and decoys), or numbers: "3", "1,4-6". Each title once; fails
    // (kind usage) for what is not there.
    Result<std::vector<Pick>> picks(const std::string& choice) const;
    // The same where one title is wanted.
    Result<Pick> pick(const std::string& choice) const;
    Result<std::unique_ptr<PacketSource>> open(const Pick& pick, int angle = 1) const;
};

// Opens a ripped disc (its folder or an image: DVD-Video, Blu-ray), a media file of any format container/reader.hpp
// lists, both also on a file server (smb://, nfs://: share_input.hpp), a ladder (ladder_input.hpp), standard input
// ("-": can be read once, in order), an http:// address, or a live stream (udp://, rtp://, rtmp://: from where it is
// joined on). Anything else is refused by the name of what it is, if that can be told.
Result<std::unique_ptr<Input>> open_input(const base::Address& from, const disc::ReadSettings& settings = {});

// The first title of an input for a list, with its length, tracks and tags, from as few bytes as that takes. Errors as
// of open_input(), and kind input where it has none.
struct Summary {
    std::string container;
    Title title;
};
Result<Summary> summarize(const base::Address& from);

// Bytes that were opened elsewhere and are there once: a media file that `name` stands for.
Result<std::unique_ptr<Input>> open_input(std::shared_ptr<base::ByteSource> bytes, const std::string& name);

}  // namespace wavecrest::source
