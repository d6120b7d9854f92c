#include "convert/kept_pieces.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <optional>
#include <sstream>

#include "base/units.hpp"
#include "source/digest.hpp"

namespace wavecrest::convert {

std::string key_of(const Plan& plan, const std::string& digest) {
    std::string key =
        fmt::format("source {}\ntitle {} angle {} from {} to {}\npieces {}\n", digest, plan.title, plan.angle,
                    plan.pick.start.count(), plan.pick.end.count(), plan.piece_length.count());
    for (const transcode::VideoEncode& one : plan.graph.video_encodes) {
        const transcode::VideoChain& chain = plan.graph.chains.at(one.chain);
        key +=
            fmt::format("track {} crop {} {} {} {} fields {} rate {} half {} sdr {} subtitles", plan.graph.video->id,
                        chain.crop.left, chain.crop.top, chain.crop.right, chain.crop.bottom, chain.fields.has_value(),
                        chain.constant_rate ? chain.constant_rate->value() : 0.0, chain.half_rate, one.to_sdr);
        for (const auto& subtitles : chain.subtitles)
            key += fmt::format(" {}{}", subtitles.from.id, subtitles.forced_only ? " forced" : "");
        key += "\n" + transcode::key_of(one.encode) + "\n";
    }
    return key;
}

Result<KeptPieces> KeptPieces::open(const source::Input& input, const Plan& plan) {
    KeptPieces self;
    const bool long_enough = plan.duration > plan.piece_length;
    if (!long_enough || !input.reopens() || plan.graph.video_encodes.empty()) return self;
    const auto digest = source::digest_of(input.path());
    if (!digest || digest->empty()) return self;
    WAVECREST_TRY_ASSIGN(folder, transcode::PieceFolder::open(plan.target(), key_of(plan, *digest)));
    self.folder_ = std::move(folder);
    for (base::Path path = plan.target().parent_path(); !path.empty(); path = path.parent_path()) {
        std::error_code error;
        if (std::filesystem::exists(path, error)) break;
        self.missing_.push_back(path);
    }
    return self;
}

Status KeptPieces::begin_finishing(const std::vector<std::uint64_t>& inodes) {
    return folder_ ? folder_->begin_finishing(inodes) : Status{};
}

Status KeptPieces::take_notes(transcode::GraphSettings& graph) {
    if (folder_) WAVECREST_TRY(folder_->make());
    for (std::size_t i = 0; i < graph.video_encodes.size(); ++i) {
        codec::VideoEncoderSettings& encode = graph.video_encodes[i].encode;
        if (encode.mean_bps == 0) continue;
        WAVECREST_TRY_ASSIGN(notes,
                             folder_ ? codec::PassNotes::create_in(folder_->notes(i)) : codec::PassNotes::create());
        encode.notes = std::move(notes);
    }
    return {};
}

Status KeptPieces::keep_notes(const transcode::GraphSettings& graph) {
    if (!folder_) return {};
    std::string rates;
    for (const transcode::VideoEncode& one : graph.video_encodes) {
        if (one.encode.notes) WAVECREST_TRY(one.encode.notes->keep());
        rates += fmt::format("{}\n", one.encode.mean_bps);
    }
    return folder_->keep_passes(rates);
}

bool KeptPieces::restore_notes(transcode::GraphSettings& graph) const {
    const auto passes = folder_ ? folder_->passes() : std::nullopt;
    if (!passes) return false;
    std::istringstream rates(*passes);
    std::vector<std::pair<std::int64_t, std::shared_ptr<codec::PassNotes>>> found;
    for (std::size_t i = 0; i < graph.video_encodes.size(); ++i) {
        std::int64_t rate = 0;
        if (!(rates >> rate) || (rate > 0) != (graph.video_encodes[i].encode.mean_bps > 0)) return false;
        if (rate == 0) {
            found.emplace_back();
            continue;
        }
        auto notes = codec::PassNotes::load(folder_->notes(i));
        if (!notes) return false;
        found.emplace_back(rate, std::move(*notes));
    }
    for (std::size_t i = 0; i < found.size(); ++i) {
        codec::VideoEncoderSettings& encode = graph.video_encodes[i].encode;
        encode.mean_bps = found[i].first;
        encode.notes = std::move(found[i].second);
    }
    return true;
}

Time KeptPieces::use(transcode::GraphSettings& graph, Time length) const {
    std::optional<Time> kept;
    for (std::size_t i = 0; i < graph.video_encodes.size(); ++i) {
        transcode::VideoEncode& one = graph.video_encodes[i];
        if (one.encode.mean_bps > 0) {
            kept = Time{};
            continue;
        }
        one.pieces = {length, folder_, i};
        const Time there =
            folder_ ? base::frames_to_time(folder_->count(i) * transcode::pictures_of_piece(one.encode, length),
                                           one.encode.frame_rate)
                    : Time{};
        kept = std::min(kept.value_or(there), there);
    }
    return kept.value_or(Time{});
}

void KeptPieces::remove() {
    if (!folder_) return;
    folder_->remove();
    std::error_code error;
    for (const base::Path& path : missing_) std::filesystem::remove(path, error);  // only empty ones go
}

Error KeptPieces::after(Error error, bool useful, Time length) {
    if (!any() || !useful) {
        remove();
        return error;
    }
    const std::string at = base::format_clock(folder_->count(0) * length);
    if (refused) {
        error.remedy += fmt::format("; what was encoded is kept for that (in {})", folder_->path().string());
        return error;
    }
    if (folder_->count(0) == 0) {
        const std::string first =
            fmt::format("run the same command again: its first pass is kept (in {})", folder_->path().string());
        error.remedy = error.kind == ErrorKind::interrupted ? first : fmt::format("{}; then {}", error.remedy, first);
        return error;
    }
    const std::string kept =
        fmt::format("run the same command again: it goes on from about {} (kept in {})", at, folder_->path().string());
    error.remedy = error.kind == ErrorKind::interrupted ? kept : fmt::format("{}; then {}", error.remedy, kept);
    return error;
}

}  // namespace wavecrest::convert
