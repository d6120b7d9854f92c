#include "trial/clip_store.hpp"

#include <fmt/format.h>
#include <pthread.h>
#include <sched.h>

#include <algorithm>
#include <cmath>

#include "base/atomic_file.hpp"
#include "base/byte_source.hpp"
#include "bitstream/headers.hpp"
#include "container/media_playlist.hpp"
#include "container/reader.hpp"
#include "host/machine.hpp"
#include "stream/film_hls.hpp"

namespace wavecrest::trial {
namespace {

constexpr std::uint64_t kSpaceLeft = 500'000'000;  // bytes that clips leave on the disk

// With the codecs of its tracks; of audio alone a type of audio.
std::string type_of(const sample::Clip& clip, const std::vector<Track>& tracks) {
    std::string type = container::media_type(clip.container), codecs;
    if (!clip.video && type.starts_with("video/")) type = "audio/" + type.substr(6);
    if (clip.container == "ogg") type = "audio/ogg";
    for (const Track& track : tracks) {
        const std::string one = bitstream::codec_string(track);
        if (one.empty()) return type;
        codecs += (codecs.empty() ? "" : ", ") + one;
    }
    const bool told = clip.container == "mp4" || clip.container == "webm" || clip.container == "matroska" ||
                      clip.container == "mpeg-ts" || clip.container == "ogg";
    return told && !codecs.empty() ? fmt::format("{}; codecs=\"{}\"", type, codecs) : type;
}

net::HttpReply reply_of(Bytes bytes, std::string_view type) {
    net::HttpReply reply;
    reply.media_type = std::string(type);
    reply.body = std::move(bytes);
    reply.cache_control = "no-store";
    return reply;
}
net::HttpReply reply_of(const std::string& text, std::string_view type) {
    const ByteSpan bytes = base::as_bytes(text);
    return reply_of(Bytes(ByteVector(bytes.begin(), bytes.end())), type);
}

constexpr std::string_view kPlaylistType = "application/vnd.apple.mpegurl";

}  // namespace

Result<std::unique_ptr<ClipStore>> ClipStore::open(base::Path folder, std::vector<sample::Clip> usual, MakeClip make) {
    std::error_code error;
    std::filesystem::create_directories(folder, error);
    WAVECREST_TRY(host::check_writable(folder));
    if (!std::filesystem::is_directory(folder, error))
        return fail(ErrorKind::machine, "the folder for test clips can't be made", folder.string(),
                    "set XDG_CACHE_HOME to a folder with space");
    std::unique_ptr<ClipStore> self(new ClipStore(std::move(folder), std::move(make)));
    {
        const base::MutexLock lock(self->mutex_);
        for (const sample::Clip& clip : usual) self->entry(clip);
    }
    for (const Queue which : {Queue::urgent, Queue::rest})
        self->workers_.emplace_back([store = self.get(), which] { store->run(which); });
    return self;
}

ClipStore::~ClipStore() {
    stop_.request();
    {
        const base::MutexLock lock(mutex_);
        changed_.notify_all();
    }
    for (std::thread& worker : workers_) worker.join();
}

ClipStore::Entry& ClipStore::entry(const sample::Clip& clip) {
    const std::string name = sample::file_name(clip);
    const auto [found, is_new] = entries_.try_emplace(name, Entry{clip, {}, nullptr});
    if (is_new) rest_.push_back(name);
    return found->second;
}

ClipStore::State ClipStore::state(const sample::Clip& clip) const {
    const base::MutexLock lock(mutex_);
    const auto found = entries_.find(sample::file_name(clip));
    return found == entries_.end() ? State{} : found->second.state;
}

void ClipStore::want(const std::vector<sample::Clip>& clips) {
    const base::MutexLock lock(mutex_);
    for (const sample::Clip& clip : clips) {
        const Entry& one = entry(clip);
        if (one.state.ready || !one.state.error.empty()) continue;
        const std::string name = sample::file_name(clip);
        if (std::find(urgent_.begin(), urgent_.end(), name) == urgent_.end()) urgent_.push_back(name);
    }
    changed_.notify_all();
}

std::pair<std::size_t, std::size_t> ClipStore::counts() const {
    const base::MutexLock lock(mutex_);
    const auto ready = std::count_if(entries_.begin(), entries_.end(), [](const auto& one) {
        return one.second.state.ready || !one.second.state.error.empty();
    });
    return {static_cast<std::size_t>(ready), entries_.size()};
}

std::string ClipStore::trouble() const {
    const base::MutexLock lock(mutex_);
    return trouble_;
}

void ClipStore::run(Queue which) {
    if (which == Queue::rest) {
        // Whatever else this machine does comes first; the encoders' threads inherit it.
        const sched_param none{};
        ::pthread_setschedparam(::pthread_self(), SCHED_IDLE, &none);
    }
    base::MutexLock lock(mutex_);
    std::deque<std::string>& queue = which == Queue::rest ? rest_ : urgent_;
    while (!stop_.requested()) {
        // (One that is asked for while it is made for later is made twice: nobody waits for what has time.)
        if (queue.empty() || (which == Queue::rest && !urgent_.empty())) {
            changed_.wait(mutex_);
            continue;
        }
        const std::string name = queue.front();
        queue.pop_front();
        const Entry& one = entries_.at(name);
        if (!one.state.ready && one.state.error.empty()) {
            const sample::Clip clip = one.clip;
            lock.unlock();
            State state = made(clip);
            lock.lock();
            if (!state.error.empty() && trouble_.empty() && !stop_.requested()) trouble_ = state.error;
            if (State& kept = entries_.at(name).state; !kept.ready) kept = std::move(state);
        }
        changed_.notify_all();
    }
}

ClipStore::State ClipStore::made(const sample::Clip& clip) {
    State state;
    const base::Path file = folder_ / sample::file_name(clip);
    const auto failed = [&](const Error& error) {
        state.error = fmt::format("{}: {}", sample::in_words(clip), error.what);
        return state;
    };
    // What is there is looked at: half a file of another program is none.
    if (auto bytes = base::FileSource::open(file)) {
        if (auto media = container::open_media(std::make_shared<base::FileSource>(std::move(*bytes)));
            media && !media->source->tracks().empty()) {
            state.ready = true;
            state.type = type_of(clip, media->source->tracks());
            return state;
        }
    }
    const auto space = host::free_space(folder_);
    if (space && *space < kSpaceLeft)
        return failed({ErrorKind::machine, "too little space for test clips", folder_.string(), "", {}});
    auto sink = base::AtomicFile::create(file, base::AtomicFile::IfExists::replace);
    if (!sink) return failed(sink.error());
    auto tracks = make_(clip, std::make_unique<base::AtomicFile>(std::move(*sink)), stop_);
    if (!tracks) return failed(tracks.error());
    state.ready = true;
    state.type = type_of(clip, *tracks);
    return state;
}

std::string ClipStore::address(const std::string& root, const sample::Clip& clip, Step::Delivery delivery) {
    const std::string name = sample::file_name(clip);
    switch (delivery) {
        case Step::Delivery::hls_ts:
            return fmt::format("{}/hls/{}/list.m3u8", root, name);
        case Step::Delivery::hls_fmp4:
            return fmt::format("{}/parts/{}/list.m3u8", root, name);
        default:
            return fmt::format("{}/clip/{}", root, name);
    }
}

std::optional<base::Path> ClipStore::file_of(const std::string& name) const {
    const base::MutexLock lock(mutex_);
    const auto found = entries_.find(name);
    if (found == entries_.end() || !found->second.state.ready) return std::nullopt;
    return folder_ / name;
}

net::HttpReply ClipStore::answer(const std::string& path) {
    const auto nothing = [] { return net::HttpReply::text(404, "There is nothing here.\n"); };
    const std::size_t kind_end = path.find('/', 1);
    if (kind_end == std::string::npos) return nothing();
    const std::string kind = path.substr(1, kind_end - 1), rest = path.substr(kind_end + 1);
    const std::size_t name_end = rest.find('/');
    const std::string name = rest.substr(0, name_end);
    const auto file = file_of(name);
    if (!file) return nothing();
    if (kind == "clip" && name_end == std::string::npos) {
        net::HttpReply reply;
        reply.file = *file;
        {
            const base::MutexLock lock(mutex_);
            const std::string& type = entries_.at(name).state.type;
            reply.media_type = type.substr(0, type.find(';'));
        }
        reply.cache_control = "no-store";
        return reply;
    }
    if (name_end == std::string::npos || (kind != "hls" && kind != "parts")) return nothing();
    const std::string what = rest.substr(name_end + 1);
    net::HttpReply reply;
    reply.later_from = *file;
    if (kind == "hls") {
        reply.later = [this, file = *file, name, what] { return answer_hls(file, name, what); };
    } else {
        double seconds = 0;
        {
            const base::MutexLock lock(mutex_);
            seconds = base::to_seconds(entries_.at(name).clip.length);
        }
        reply.later = [file = *file, seconds, what] { return answer_parts(file, seconds, what); };
    }
    return reply;
}

net::HttpReply ClipStore::answer_hls(const base::Path& file, const std::string& name, const std::string& what) {
    std::shared_ptr<stream::FilmHls> film;
    {
        const base::MutexLock lock(mutex_);
        film = entries_.at(name).film;
    }
    if (!film) {
        auto opened = stream::FilmHls::open(file);
        if (!opened) return net::HttpReply::text(503, opened.error().what + "\n");
        film = std::move(*opened);
        const base::MutexLock lock(mutex_);
        entries_.at(name).film = film;
    }
    constexpr std::string_view kStem = "part", kEnd = ".ts";
    if (what == "list.m3u8") {
        auto list = film->playlist(std::string(kStem));
        return list ? reply_of(*list, kPlaylistType) : net::HttpReply::text(503, list.error().what + "\n");
    }
    const std::string digits = what.starts_with("part-") && what.ends_with(kEnd)
                                   ? what.substr(kStem.size() + 1, what.size() - kStem.size() - 1 - kEnd.size())
                                   : "";
    if (digits.empty() || digits.size() > 4 || digits.find_first_not_of("0123456789") != std::string::npos)
        return net::HttpReply::text(404, "There is nothing here.\n");
    auto segment = film->segment(std::stoul(digits));
    return segment ? reply_of(std::move(*segment), "video/mp2t")
                   : net::HttpReply::text(404, "There is no such part.\n");
}

// A fragmented file is what comes before its first fragment, and one segment (RFC 8216, 3.3).
net::HttpReply ClipStore::answer_parts(const base::Path& file, double seconds, const std::string& what) {
    if (what == "list.m3u8") {
        container::MediaPlaylist list;
        list.version = 6;
        list.on_demand = list.ended = true;
        list.target_s = static_cast<std::int64_t>(std::ceil(seconds));
        list.map_uri = "head.mp4";
        list.segments.push_back({"media.m4s", base::from_seconds(seconds), false});
        return reply_of(container::write_playlist(list), kPlaylistType);
    }
    auto bytes = base::FileSource::open(file);
    ByteVector all(bytes ? bytes->size() : 0);
    for (std::size_t at = 0; at < all.size();) {
        const auto count = bytes->read_at(at, std::span(all).subspan(at));
        if (!count || *count == 0) return net::HttpReply::text(503, "The clip can't be read.\n");
        at += *count;
    }
    // The boxes at the top (ISO/IEC 14496-12, 4.2).
    std::size_t at = 0;
    while (at + 8 <= all.size()) {
        const std::size_t size =
            std::size_t{all[at]} << 24 | std::size_t{all[at + 1]} << 16 | std::size_t{all[at + 2]} << 8 | all[at + 3];
        if (std::string_view(reinterpret_cast<const char*>(&all[at + 4]), 4) == "moof" || size < 8) break;
        at += size;
    }
    at = std::min(at, all.size());
    const auto middle = all.begin() + static_cast<std::ptrdiff_t>(at);
    if (what == "head.mp4") return reply_of(Bytes(ByteVector(all.begin(), middle)), "video/mp4");
    if (what == "media.m4s") return reply_of(Bytes(ByteVector(middle, all.end())), "video/mp4");
    return net::HttpReply::text(404, "There is nothing here.\n");
}

}  // namespace wavecrest::trial
