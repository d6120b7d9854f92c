#include "stream/playout.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <chrono>
#include <thread>

#include "base/byte_source.hpp"
#include "base/log.hpp"
#include "bitstream/h264.hpp"
#include "bitstream/h265.hpp"
#include "bitstream/nal.hpp"
#include "media/language.hpp"
#include "media/track_choice.hpp"
#include "net/live_source.hpp"
#include "source/input.hpp"

namespace wavecrest::stream {
namespace {

using namespace std::chrono_literals;

// A keyframe is looked for in so many packets; what has none begins with whatever comes.
constexpr std::size_t kMostHeld = 4000;
// Audio that goes on for longer behind the last picture belongs to the part; less is cut off.
constexpr Time kLongerAudio = std::chrono::seconds(1);
// Pictures may lie so far behind their audio in a file.
constexpr Time kPicturesBehind = std::chrono::seconds(1);
// AudioFrames may lie so far before its pictures.
constexpr Time kAudioBefore = std::chrono::seconds(2);
constexpr int kMostLooked = 2000;  // packets
constexpr std::size_t kMostSpans = 4096;

// The tracks of a part that go on with those of the first, in their order; null where there is none left. The same
// language and purpose come first, then whatever is of the same codec.
std::vector<const Track*> continuing(const std::vector<Track>& first, const std::vector<Track>& tracks) {
    std::vector<const Track*> chosen(first.size());
    for (const bool alike : {true, false}) {
        for (std::size_t i = 0; i < first.size(); ++i) {
            const Track& track = first[i];
            const Track*& mine = chosen[i];
            if (mine != nullptr) continue;
            for (const Track& t : tracks) {
                if (t.kind != track.kind || t.codec != track.codec) continue;
                if (alike && (t.language != track.language || t.purpose != track.purpose)) continue;
                if (std::find(chosen.begin(), chosen.end(), &t) != chosen.end()) continue;
                if (mine == nullptr || t.id == track.id) mine = &t;
            }
        }
    }
    return chosen;
}

std::string audio_form(const Track& t) {
    return fmt::format("{} {} {} Hz", media::display_name(t.codec), media::channel_layout(t), t.sample_rate);
}

// Why a part can't go on where another ended; empty when it can.
std::string why_not_after(const std::vector<Track>& first, const std::vector<Track>& tracks) {
    const std::vector<const Track*> all = continuing(first, tracks);
    for (std::size_t i = 0; i < first.size(); ++i) {
        const Track& track = first[i];
        const Track* other = all[i];
        // Subtitles, and audio that goes beside other audio, may pause for a part.
        if (other == nullptr && track.kind == TrackKind::subtitle) continue;
        if (other == nullptr && track.kind == TrackKind::audio &&
            std::any_of(all.begin(), all.end(),
                        [](const Track* t) { return t != nullptr && t->kind == TrackKind::audio; }))
            continue;
        if (other == nullptr)
            return fmt::format("it has no {} {}", media::display_name(track.codec), media::short_name(track.kind));
        if (track.kind == TrackKind::audio &&
            (other->sample_rate != track.sample_rate || other->channels != track.channels))
            return fmt::format("its audio is {}, that of the first part {}", audio_form(*other), audio_form(track));
    }
    return "";
}

ByteVector parameter_sets(const Track& track) {
    ByteVector out;
    if (track.codec == Codec::h264) {
        if (const auto sets = bitstream::h264::parameter_sets(track.codec_config.view()))
            for (const ByteSpan unit : sets->units) bitstream::nal::append(out, unit);
    } else if (track.codec == Codec::h265) {
        if (const auto sets = bitstream::h265::parameter_sets(track.codec_config.view()))
            for (const ByteSpan unit : sets->units) bitstream::nal::append(out, unit);
    } else if (track.codec == Codec::mpeg4 || track.codec == Codec::vc1) {
        const ByteSpan config = track.codec_config.view();
        out.assign(config.begin(), config.end());
    }
    return out;
}

bool same_bytes(ByteSpan a, ByteSpan b) {
    return std::equal(a.begin(), a.end(), b.begin(), b.end());
}

}  // namespace

Result<std::unique_ptr<source::Input>> open_source(const Part& part, const Cancel* cancel) {
    if (!part.open) return source::open_input(part.source, {.cancel = cancel});
    WAVECREST_TRY_ASSIGN(bytes, part.open());
    return source::open_input(std::shared_ptr<base::ByteSource>(std::move(bytes)), part.source.text());
}

Result<ReadyPlayout> prepare_playout(const std::vector<Part>& parts,
                                     const std::function<std::string(const Track& track, bool disc)>& why_not) {
    ReadyPlayout ready;
    for (const Part& part : parts) {
        WAVECREST_TRY_ASSIGN(input, open_source(part, nullptr));
        WAVECREST_TRY_ASSIGN(pick, input->pick(part.title));
        WAVECREST_TRY(input->check_protection(pick.title->number));
        ReadyPart one{part, part.source.name(), {}, pick.title->duration};
        one.live = part.open || part.source.is_live() || (part.source.is_web() && one.duration.count() == 0);
        if (one.live) one.duration = {};
        if (part.chapter > 1) {
            const auto& chapters = pick.title->chapters;
            if (static_cast<std::size_t>(part.chapter) > chapters.size())
                return fail(ErrorKind::usage, fmt::format("there is no chapter {}", part.chapter), part.source.text(),
                            chapters.empty() ? "it has no chapters"
                                             : fmt::format("name a chapter from 1 to {}", chapters.size()));
            one.begin = chapters[static_cast<std::size_t>(part.chapter) - 1].start;
        }
        if (ready.parts.empty()) {
            media::TrackPicker picker(part.choice);
            for (const Track& track : pick.title->tracks) {
                std::string why = picker.why_not(track);
                const bool other_picture = track.kind == TrackKind::video && !why.empty();
                if (why.empty()) why = why_not(track, input->is_disc());
                if (why.empty()) {
                    ready.tracks.push_back(track);
                } else if (track.kind == TrackKind::video && !other_picture) {
                    return fail(ErrorKind::input, fmt::format("its video can't be sent: {}", why), part.source.text(),
                                "convert it first (wavecrest convert), or name a profile for the stream");
                } else {
                    ready.notes.push_back(fmt::format("{} {} {} skipped: {}", media::display_name(track.codec),
                                                      media::short_name(track.kind),
                                                      media::language_name(track.language), why));
                }
            }
            WAVECREST_TRY(media::check_chosen(part.choice, ready.tracks, part.source.text()));
            if (std::all_of(ready.tracks.begin(), ready.tracks.end(),
                            [](const Track& t) { return t.kind == TrackKind::subtitle; }))
                return fail(ErrorKind::input, "it has no video and no audio that can be sent", part.source.text(),
                            "convert it first (wavecrest convert)");
        } else if (const std::string why = why_not_after(ready.tracks, pick.title->tracks); !why.empty()) {
            return fail(ErrorKind::input,
                        fmt::format("it can't be played after \"{}\": {}", ready.parts.front().name, why),
                        part.source.text(),
                        "convert all parts with one profile (wavecrest convert), or make two streams of them");
        }
        // Where nothing is left out, the title's mean is what goes out.
        if (one.duration.count() > 0 && ready.tracks.size() == pick.title->tracks.size())
            one.mean_bps = static_cast<std::int64_t>(static_cast<double>(pick.title->size_bytes) * 8 /
                                                     base::to_seconds(one.duration));
        ready.parts.push_back(std::move(one));
    }
    if (ready.parts.empty()) return fail(ErrorKind::usage, "there is nothing to play", "the stream", "name a file");
    return ready;
}

Playout::Playout(ReadyPlayout ready, bool loop, const Cancel& cancel)
    : ready_(std::move(ready)), loop_(loop), cancel_(cancel), track_states_(ready_.tracks.size()) {}
Playout::~Playout() = default;

Status Playout::seek(Time) {
    return fail(ErrorKind::usage, "seek in a running stream with its controls", ready_.parts.front().name,
                "wavecrest stream seek");
}

void Playout::order_seek(const SeekOrder& seek) {
    const base::MutexLock lock(mutex_);
    // Several in a row add up.
    if (order_ && order_->what == SeekOrder::What::by && seek.what == SeekOrder::What::by) {
        order_->time += seek.time;
    } else {
        order_ = seek;
    }
}

Playout::Position Playout::position_at(Time timeline) const {
    const base::MutexLock lock(mutex_);
    Position place;
    for (const Span& span : spans_) {
        if (span.from > timeline && &span != &spans_.front()) break;
        place = span.place;
        place.position += std::max(timeline - span.from, Time{});
    }
    return place;
}

std::string Playout::lost() const {
    const base::MutexLock lock(mutex_);
    return lost_;
}

Time Playout::timeline_end() const {
    Time picture{}, audio{};
    bool has_picture = false;
    for (std::size_t i = 0; i < track_states_.size(); ++i) {
        const TrackKind kind = ready_.tracks[i].kind;
        if (kind == TrackKind::video) {
            picture = track_states_[i].end;
            has_picture = true;
        } else if (kind == TrackKind::audio) {
            audio = std::max(audio, track_states_[i].end);
        }
    }
    return !has_picture || audio > picture + kLongerAudio ? audio : picture;
}

Status Playout::open_part(std::size_t part) {
    source_.reset();
    const ReadyPart& ready = ready_.parts[part];
    WAVECREST_TRY_ASSIGN(input, open_source(ready.part, &cancel_));
    WAVECREST_TRY_ASSIGN(pick, input->pick(ready.part.title));
    WAVECREST_TRY_ASSIGN(source, input->open(pick));
    // It may have been exchanged for another since it was looked at.
    if (const std::string why = why_not_after(ready_.tracks, source->tracks()); !why.empty())
        return fail(ErrorKind::input, fmt::format("the file has been replaced: {}", why), ready.part.source.text(),
                    "restore it, or restart the stream");
    const std::vector<const Track*> all = continuing(ready_.tracks, source->tracks());
    for (std::size_t i = 0; i < track_states_.size(); ++i) {
        const Track& track = ready_.tracks[i];
        const Track* from = all[i];
        track_states_[i].from = from != nullptr ? from->id : -1;
        track_states_[i].in_front.clear();
        if (from == nullptr) continue;
        if (!same_bytes(track.codec_config.view(), from->codec_config.view()))
            track_states_[i].in_front = parameter_sets(*from);
    }
    source_ = std::move(source);
    return {};
}

// Begins with the part at the last keyframe up to `position`.
Status Playout::enter(std::size_t part, Time position) {
    WAVECREST_TRY(open_part(part));
    held_.clear();
    unfollowed_.clear();
    const bool live = ready_.parts[part].live;
    if (position.count() > 0 && !live) WAVECREST_TRY(source_->seek(position));
    const bool has_picture = std::any_of(ready_.tracks.begin(), ready_.tracks.end(),
                                         [](const Track& t) { return t.kind == TrackKind::video; });
    std::optional<Time> start;
    while (!start && held_.size() < kMostHeld) {
        WAVECREST_TRY_ASSIGN(packet, source_->read());
        if (!packet) break;
        for (std::size_t i = 0; i < track_states_.size(); ++i) {
            if (track_states_[i].from != packet->track || packet->hidden) continue;
            const TrackKind kind = ready_.tracks[i].kind;
            if (has_picture ? kind == TrackKind::video && packet->key : kind == TrackKind::audio) start = packet->pts;
        }
        held_.push_back(std::move(*packet));
    }
    if (start && has_picture && position.count() > 0 && !live) {
        WAVECREST_TRY_ASSIGN(whole, has_audio_from(*start));
        if (!whole) {
            // It lies before the picture in the file; the picture is met again on the way.
            held_.clear();
            WAVECREST_TRY(source_->seek(std::max(*start - kAudioBefore, Time{})));
        }
    }
    if (!start) start = held_.empty() ? position : std::max(held_.front().pts, Time{});
    start_ = *start;
    part_ = part;
    position_ = std::max(start_, Time{});
    any_in_part_ = false;
    offset_ = timeline_end() - start_;
    if (!entered_) offset_ = live || position.count() > 0 || start_ < Time{} ? -start_ : Time{};
    entered_ = true;
    const base::MutexLock lock(mutex_);
    spans_.push_back({start_ + offset_, {part_, std::max(start_, Time{}), rounds_}});
    if (spans_.size() > kMostSpans) spans_.pop_front();
    return {};
}

// Whether each audio track goes on from this time in what is read from here on. Where it can't be told, it does.
Result<bool> Playout::has_audio_from(Time start) {
    std::vector<bool> met(track_states_.size());
    bool whole = true;
    int looked = 0;
    const auto look = [&](const Packet& packet) {
        for (std::size_t i = 0; i < track_states_.size(); ++i) {
            if (track_states_[i].from != packet.track || ready_.tracks[i].kind != TrackKind::audio || met[i]) continue;
            if (packet.pts + packet.duration <= start) continue;
            met[i] = true;
            whole = whole && packet.pts - start < packet.duration + base::from_seconds(0.001);
        }
    };
    const auto all_met = [&] {
        for (std::size_t i = 0; i < track_states_.size(); ++i) {
            if (track_states_[i].from >= 0 && ready_.tracks[i].kind == TrackKind::audio && !met[i]) return false;
        }
        return true;
    };
    for (const Packet& packet : held_) look(packet);
    while (!all_met() && ++looked < kMostLooked && held_.size() < kMostHeld) {
        WAVECREST_TRY_ASSIGN(packet, source_->read());
        if (!packet) break;
        look(*packet);
        held_.push_back(std::move(*packet));
    }
    return whole;
}

// Tracks lie apart in a file: what is played ends at one time for all of them.
void Playout::leave(const SeekOrder& seek) {
    leaving_ = Leaving{seek, timeline_end() - offset_, std::vector<bool>(track_states_.size()), 0};
    for (std::size_t i = 0; i < track_states_.size(); ++i)
        leaving_->there[i] = track_states_[i].from < 0 || ready_.tracks[i].kind == TrackKind::subtitle;
}

// Whether a packet of a track_state, with the part's times, still comes before the end.
bool Playout::comes_before_leaving(std::size_t track_state, const Packet& packet) {
    ++leaving_->packets;
    const bool audio = ready_.tracks[track_state].kind == TrackKind::audio;
    const Time at = audio ? packet.pts + packet.duration / 2 : packet.pts;
    if (at < leaving_->until) return true;
    if (audio || packet.dts >= leaving_->until) leaving_->there[track_state] = true;
    return false;
}

// Audio that was read beyond the last picture does not go out.
void Playout::drop_tail() {
    for (auto packet = tail_.rbegin(); packet != tail_.rend(); ++packet) {
        for (std::size_t i = 0; i < track_states_.size(); ++i) {
            if (ready_.tracks[i].id != packet->track) continue;
            track_states_[i].end = std::min(track_states_[i].end, packet->pts);
            track_states_[i].last_dts = std::min(track_states_[i].last_dts, packet->dts - base::from_ticks(1, 90'000));
        }
    }
    tail_.clear();
}

// The next of the tail that pictures have come to, or that waits for too long.
std::optional<Packet> Playout::next_of_tail() {
    if (tail_.empty()) return std::nullopt;
    const Packet& first = tail_.front();
    const bool waits_long = tail_.back().pts - first.pts > kLongerAudio + kPicturesBehind;
    if (!waits_long && first.pts + first.duration / 2 >= picture_end()) return std::nullopt;
    Packet packet = std::move(tail_.front());
    tail_.pop_front();
    return packet;
}

Time Playout::picture_end() const {
    Time end = Time::min();
    for (std::size_t i = 0; i < track_states_.size(); ++i) {
        if (ready_.tracks[i].kind == TrackKind::video && track_states_[i].from >= 0 && track_states_[i].any)
            end = std::max(end, track_states_[i].end);
    }
    return end;
}

Status Playout::carry_out(const SeekOrder& order) {
    drop_tail();
    std::size_t part = part_;
    Time to = order.time;
    if (ready_.parts[part_].live && order.what != SeekOrder::What::part) return {};  // there is nothing but now
    if (order.what == SeekOrder::What::part) {
        const auto count = static_cast<std::int64_t>(ready_.parts.size());
        std::int64_t wanted = static_cast<std::int64_t>(part_) + order.parts;
        // Back from well inside a part is to its beginning.
        if (order.parts < 0 && position_ - ready_.parts[part_].begin > base::from_seconds(5)) ++wanted;
        if (wanted >= count && !loop_) return {};  // there is none: it goes on
        part = static_cast<std::size_t>(((wanted % count) + count) % count);
        to = ready_.parts[part].begin;
    } else if (order.what == SeekOrder::What::by) {
        to = position_ + order.time;
    }
    const Time length = ready_.parts[part].duration;
    if (length.count() > 0 && to >= length) {
        if (part + 1 == ready_.parts.size() && !loop_) {
            to = std::max(length - base::from_seconds(5), Time{});
        } else {
            if (part + 1 == ready_.parts.size()) ++rounds_;
            part = (part + 1) % ready_.parts.size();
            to = ready_.parts[part].begin;
        }
    }
    const Status entered = enter(part, std::max(to, Time{}));
    const base::MutexLock lock(mutex_);
    ++landed_.number;
    landed_.at = entered ? start_ + offset_ : timeline_end();
    return entered;
}

Playout::Landed Playout::latest_seek() const {
    const base::MutexLock lock(mutex_);
    return landed_;
}

void Playout::wait_and_try_again(const Error& error) {
    if (position_ != failed_at_) failures_ = 0;
    failed_at_ = position_;
    {
        const base::MutexLock lock(mutex_);
        if (lost_.empty()) base::log(base::LogLevel::warning, "source lost: {} ({})", error.what, error.where);
        lost_ = fmt::format("{} ({})", error.what, error.where);
    }
    source_.reset();
    // (What is opened by a function waits there until something comes.)
    const auto pause = ready_.parts[part_].part.open ? 250ms : 250ms * (1 << std::min(failures_, 6));
    const auto until = std::chrono::steady_clock::now() + std::min<std::chrono::milliseconds>(pause, 15s);
    ++failures_;
    while (!cancel_.requested() && std::chrono::steady_clock::now() < until) std::this_thread::sleep_for(20ms);
}

Result<std::optional<Packet>> Playout::next_of_part() {
    if (!held_.empty()) {
        Packet packet = std::move(held_.front());
        held_.pop_front();
        return std::optional<Packet>(std::move(packet));
    }
    if (!ready_.parts[part_].live) return source_->read();
    // Where a live source breaks off, what came last of each track is cut anywhere: a packet goes on when another one
    // has followed it.
    while (true) {
        auto next = source_->read();
        if (!next || !*next) {
            unfollowed_.clear();
            return next;
        }
        const TrackId track = (*next)->track;
        if (const auto before = unfollowed_.find(track); before != unfollowed_.end()) {
            std::swap(before->second, **next);
            return next;
        }
        unfollowed_.emplace(track, std::move(**next));
    }
}

Result<std::optional<Packet>> Playout::read() {
    while (true) {
        if (cancel_.requested()) return base::interrupted();
        if (const Status steered = steer(); !steered) {
            if (steered.error().kind == ErrorKind::interrupted) return fail(steered.error());
            wait_and_try_again(steered.error());
            continue;
        }
        if (auto packet = next_of_tail()) return packet;
        auto next = next_of_part();
        if (leaving_ && (!next || !*next)) {
            leaving_->packets = kMostLooked + 1;
            continue;
        }
        if (!next && next.error().kind == ErrorKind::interrupted) return next;
        const ReadyPart& part = ready_.parts[part_];
        // It can be opened, but not be read on from here: the rest of this part is given up.
        const bool given_up = !next && failures_ > 2 && failed_at_ == position_ && !part.live;
        if (!next && !given_up) {
            wait_and_try_again(next.error());
            continue;
        }
        if (!given_up && *next) {
            if (auto packet = on_timeline(std::move(**next))) return packet;
            continue;
        }
        if (part.live) {
            wait_and_try_again({ErrorKind::input, "the source has stopped sending", part.name, ""});
            continue;
        }
        failures_ = 0;
        if (auto packet = last_audio_of_part()) return packet;
        drop_tail();
        if (is_last_part() && !loop_) return std::optional<Packet>{};
        WAVECREST_TRY(enter_next_part());
    }
}

// Carries out what was ordered, and opens what isn't open.
Status Playout::steer() {
    std::optional<SeekOrder> order;
    {
        const base::MutexLock lock(mutex_);
        order.swap(order_);
    }
    if (order && leaving_) {
        // It comes while the one before is being carried out.
        if (leaving_->seek.what == SeekOrder::What::by && order->what == SeekOrder::What::by) {
            leaving_->seek.time += order->time;
        } else {
            leaving_->seek = *order;
        }
    } else if (order && entered_ && source_ && any_in_part_ && !ready_.parts[part_].live) {
        leave(*order);
    }
    if (!entered_) return enter(0, ready_.parts[0].begin);
    if (leaving_) {
        const bool left = leaving_->packets > kMostLooked ||
                          std::all_of(leaving_->there.begin(), leaving_->there.end(), [](bool b) { return b; });
        if (left) {
            const SeekOrder seek = leaving_->seek;
            leaving_.reset();
            return carry_out(seek);
        }
    } else if (order) {
        return carry_out(*order);
    }
    return source_ ? Status{} : enter(part_, position_);
}

// At a part's end, as much of the audio that lies behind its pictures as belongs to it.
std::optional<Packet> Playout::last_audio_of_part() {
    const bool ends = is_last_part() && !loop_;
    if (tail_.empty() || !(ends || timeline_end() > picture_end())) return std::nullopt;
    Packet packet = std::move(tail_.front());
    tail_.pop_front();
    return packet;
}

Status Playout::enter_next_part() {
    if (is_last_part()) {
        if (!any_in_part_)
            return fail(ErrorKind::input, "it has no packets to send", ready_.parts[part_].name,
                        "check it with wavecrest inspect");
        ++rounds_;
    }
    const std::size_t following = (part_ + 1) % ready_.parts.size();
    if (const Status entered = enter(following, ready_.parts[following].begin); !entered) {
        part_ = following;
        position_ = ready_.parts[following].begin;
        wait_and_try_again(entered.error());
    }
    return {};
}

// A packet of the part with its times on the timeline; nothing for one that isn't to be sent, or not yet (tail_).
std::optional<Packet> Playout::on_timeline(Packet packet) {
    const auto track_state = std::find_if(track_states_.begin(), track_states_.end(),
                                          [&](const TrackState& l) { return l.from == packet.track; });
    if (track_state == track_states_.end() || packet.hidden) return std::nullopt;
    const auto number = static_cast<std::size_t>(track_state - track_states_.begin());
    const Track& track = ready_.tracks[number];
    if (leaving_ && !comes_before_leaving(number, packet)) return std::nullopt;
    if (track.kind == TrackKind::subtitle && packet.pts < start_ && packet.pts + packet.duration > start_) {
        // Still shown where the part is entered.
        packet.duration -= start_ - packet.pts;
        packet.pts = packet.dts = start_;
    }
    const bool audio = track.kind == TrackKind::audio;
    const Time shown = audio ? packet.pts + packet.duration / 2 : packet.pts;
    if (shown < start_ && (offset_ != Time{} || track.kind == TrackKind::video)) return std::nullopt;
    const Time position = packet.dts;
    packet.track = track.id;
    packet.pts += offset_;
    packet.dts += offset_;
    // Audio of the part before that goes on into this one.
    if (audio && track_state->any && packet.pts + packet.duration / 2 < track_state->end) return std::nullopt;
    if (track_state->any && packet.dts <= track_state->last_dts)
        packet.dts = track_state->last_dts + base::from_ticks(1, 90'000);
    if (packet.pts < packet.dts) packet.pts = packet.dts;
    track_state->last_dts = packet.dts;
    track_state->end =
        track_state->any ? std::max(track_state->end, packet.pts + packet.duration) : packet.pts + packet.duration;
    track_state->any = true;
    if (packet.key && !track_state->in_front.empty()) {
        ByteVector data = track_state->in_front;
        const ByteSpan own = packet.data.view();
        data.insert(data.end(), own.begin(), own.end());
        packet.data = Bytes(std::move(data));
    }
    position_ = std::max(position_, position);
    any_in_part_ = true;
    if (const base::MutexLock lock(mutex_); !lost_.empty()) {
        base::log(base::LogLevel::info, "source is back: {}", ready_.parts[part_].name);
        lost_.clear();
    }
    const Time pictures = picture_end();
    if (audio && pictures != Time::min() && packet.pts + packet.duration / 2 >= pictures) {
        tail_.push_back(std::move(packet));
        return std::nullopt;
    }
    return packet;
}

}  // namespace wavecrest::stream
