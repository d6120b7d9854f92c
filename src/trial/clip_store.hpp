// The clips that devices are shown: made on the spot by threads of its own, and kept for the next time.
#pragma once

#include <deque>
#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <thread>
#include <vector>

#include "base/cancel.hpp"
#include "base/file.hpp"
#include "base/mutex.hpp"
#include "net/http_server.hpp"
#include "sample/clip.hpp"
#include "trial/step.hpp"

namespace wavecrest::stream {
class FilmHls;
}

namespace wavecrest::trial {

// Makes a clip into a sink; sample::make_clip, but for tests that spoil some.
using MakeClip = std::function<Result<std::vector<Track>>(const sample::Clip& clip,
                                                          std::unique_ptr<base::ByteSink> file, const Cancel& cancel)>;

class ClipStore {
  public:
    // `folder` is made where it isn't there. `usual` are made one after the other from now on, as far as the machine
    // has nothing else to do. Fails (kind machine) where nothing can be written there.
    static Result<std::unique_ptr<ClipStore>> open(base::Path folder, std::vector<sample::Clip> usual,
                                                   MakeClip make = sample::make_clip);
    // Gives up the clip that is being made.
    ~ClipStore();

    struct State {
        bool ready = false;
        std::string error;  // it can't be made
        std::string type;   // of one that is ready: "video/mp4; codecs=\"avc1.640028\""
    };
    State state(const sample::Clip& clip) const;
    // To be made before all others, the first first.
    void want(const std::vector<sample::Clip>& clips);
    // Ready and in all, of the usual ones and those that were wanted.
    std::pair<std::size_t, std::size_t> counts() const;
    // What was said of the first one that couldn't be made; empty: none.
    std::string trouble() const;

    // Where it is served, below `root`: the file itself, or its playlist.
    static std::string address(const std::string& root, const sample::Clip& clip, Step::Delivery delivery);
    // Answers below root; status 404 for what isn't there.
    net::HttpReply answer(const std::string& path_below_root);

  private:
    struct Entry {
        sample::Clip clip;
        State state;
        std::shared_ptr<stream::FilmHls> film;  // once its playlist was asked for
    };

    ClipStore(base::Path folder, MakeClip make) : folder_(std::move(folder)), make_(std::move(make)) {}
    enum class Queue { urgent, rest };
    void run(Queue which);
    State made(const sample::Clip& clip);
    Entry& entry(const sample::Clip& clip) REQUIRES(mutex_);
    std::optional<base::Path> file_of(const std::string& name) const;
    net::HttpReply answer_hls(const base::Path& file, const std::string& name, const std::string& what);
    static net::HttpReply answer_parts(const base::Path& file, double seconds, const std::string& what);

    base::Path folder_;
    MakeClip make_;
    Cancel stop_;
    mutable base::Mutex mutex_;
    std::map<std::string, Entry> entries_ GUARDED_BY(mutex_);  // by file name
    std::deque<std::string> urgent_ GUARDED_BY(mutex_), rest_ GUARDED_BY(mutex_);
    std::string trouble_ GUARDED_BY(mutex_);
    base::Condition changed_;
    std::vector<std::thread> workers_;
};

}  // namespace wavecrest::trial
